package system

import (
	"fmt"
	"net/http"
	"strconv"

	"koinos/core/grammar"
	"koinos/core/jsondoc"
	"koinos/core/tree"
)

// Many is how several records are created in one call, with an answer for each.
type Many struct {
	Request
	Most    int           // how many go in one call
	Lines   int           // how many lines each may have; what has more is made by itself. 0 is any number
	Results *jsondoc.Path // where the answers stand, in the order of what was sent
	Status  *jsondoc.Path // within one of them, what it would have had as a status of HTTP; may be nil
	Error   *jsondoc.Path // within one of them, what was wrong; nil is all of it
}

// Part is the answer to one of many.
type Part struct {
	Status int    // of HTTP, as it would be if it had been asked alone
	Body   []byte // the answer
}

// mostTogether is how many records go into one call by default.
const mostTogether = 50

// several are the words about it.
var several = request("Several records are made in one call; by default one by one", "POST",
	grammar.May("orders", grammar.Whole("How many at most; by default 50")),
	grammar.May("lines", grammar.Whole("How many lines each may have: what has more is made by itself; by default any number")),
	grammar.Must("results", grammar.Some("Where the answer to each stands, in the order of what was sent: "+path)),
	grammar.May("error", grammar.Some("Where such an answer says what was wrong: path within it; by default all of it is looked at")),
	grammar.May("status", grammar.Some("Where such an answer has a status of HTTP: path within it; by default it was made if "+
		"the answer has its key")))

func (b *builder) many(w *Write, n *grammar.Node) *Many {
	if n == nil {
		return nil
	}
	m := &Many{Request: *b.request(n, "POST"), Most: mostTogether, Lines: n.Number("lines"),
		Results: b.path(n.Get("results")),
		Status:  b.path(n.Get("status")), Error: b.path(n.Get("error"))}
	if n.Get("orders") != nil {
		m.Most = n.Number("orders")
	}
	if m.GraphQL != "" || m.Trial != "" || m.Method != "POST" {
		b.wrong(n.Get("path"), "many records are made by POST, without graphql and trial.")
	}
	if m.As == "" && len(m.With) > 0 {
		b.wrong(n.Get("path"), "what is sent is a list, in which nothing else has a place: say as, too.")
	}
	if w.Of != "" {
		b.wrong(n.Get("path"), "records that belong to others are made one by one.")
	}
	if w.File != nil {
		b.wrong(n.Get("path"), "files are written one by one.")
	}
	return m
}

// Parts splits an answer into the answers for each of a number of records.
func (m *Many) Parts(body []byte, records int) ([]Part, error) {
	root, _, err := jsondoc.Parse(body, 1)
	if err != nil || root == nil {
		return nil, &AnswerError{"", "is not JSON"}
	}
	all := m.Results.All(root)
	if len(all) != records {
		return nil, &AnswerError{m.Results.String(), fmt.Sprintf("has %d results for %d records", len(all), records)}
	}
	parts := make([]Part, len(all))
	for i, n := range all {
		parts[i] = Part{http.StatusOK, n.AppendJSON(nil)}
		if m.Status == nil {
			if at := first(m.Record, n); at == nil || at.Kind != tree.Object {
				parts[i].Status = http.StatusUnprocessableEntity
			}
		} else if parts[i].Status, err = strconv.Atoi(scalar(m.Status, n)); err != nil || parts[i].Status < 100 ||
			parts[i].Status > 599 {
			return nil, &AnswerError{n.Pointer(), fmt.Sprintf("has the status %q", scalar(m.Status, n))}
		}
		if wrong := m.Error.First(n); wrong != nil && parts[i].Status >= http.StatusBadRequest {
			parts[i].Body = wrong.AppendJSON(nil)
		}
	}
	return parts, nil
}

func first(p *jsondoc.Path, n *tree.Node) *tree.Node {
	if p == nil {
		return n
	}
	return p.First(n)
}
