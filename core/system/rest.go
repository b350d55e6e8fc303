package system

import (
	"koinos/core/grammar"
	"koinos/core/jsondoc"
	"koinos/core/tree"
	"net/url"
	"strings"
)

// Rest is where a part of a record is that its list does not show, such as further lines.
type Rest struct {
	List
	More *jsondoc.Path // a record has more where this is true; nil is always
	From *jsondoc.Path // where the record says from which cursor on; may be nil
	Into string        // pointer of the list, within the record, to which they are added; it may not be there
	Anew bool          // they take the place of those that the list shows
	Line bool          // they are lines of the record
}

func (b *builder) rest(r *Record, n *grammar.Node) Rest {
	t := Rest{List: b.list(n), More: b.path(n.Get("more")), From: b.path(n.Get("from")), Anew: n.Str("anew") == "true"}
	if into := b.path(n.Get("into")); into != nil {
		t.Into = into.Pointer()
		t.Line = r.Lines != nil && strings.HasPrefix(r.Lines.String(), into.String())
	}
	if t.Into == "" {
		b.wrong(n.Get("into"), "into is one list of the record, such as $.lines.")
	}
	if !t.named("{key}") && !t.named("{number}") && t.GraphQL == "" {
		b.wrong(n.Get("path"),
			"the path of a part of a record needs {key} or {number}, such as /orders/{key}/lines, or a "+
				"parameter under query does.")
	}
	if t.named("{number}") && r.Number == nil {
		b.wrong(n.Get("path"), "say number: of the record too, where {number} is found.")
	}
	if t.From != nil && t.Paging.Kind != "cursor" {
		b.wrong(n.Get("from"), "from is a cursor: say paging: {cursor: …} of the lines too.")
	}
	return t
}

// named reports whether a word stands in what is asked.
func (t *Rest) named(word string) bool {
	return strings.Contains(t.Path, word) || within(t.Query, word)
}

// First returns the address of the first page of a part of a record that its list does not show; "" means that there is
// none.
func (t *Rest) First(base string, f *Found) (string, error) {
	n := f.Node
	if f.Number == "" && t.named("{number}") { // it would ask for those of everybody
		return "", nil
	}
	if t.More != nil && scalar(t.More, n) != "true" {
		return "", nil
	}
	l := t.List
	l.Path = strings.NewReplacer("{key}", url.PathEscape(f.Key), "{number}", url.PathEscape(f.Number)).Replace(l.Path)
	l.Query = map[string]string{}
	for name, value := range t.Query {
		l.Query[name] = strings.NewReplacer("{key}", f.Key, "{number}", f.Number).Replace(value)
	}
	address, err := l.First(base, "")
	if err != nil {
		return "", err
	}
	u, err := url.Parse(address)
	if err != nil {
		return "", err
	}
	q := u.Query()
	if t.GraphQL != "" {
		q.Set("key", f.Key)
	}
	if cursor := scalar(t.From, n); cursor != "" {
		q.Set(t.Paging.Parameter, cursor)
	}
	u.RawQuery = q.Encode()
	return u.String(), nil
}

// Add reads a page of a part into the record n, and says where it goes on.
func (t *Rest) Add(a Answer, n *tree.Node, first bool) (next string, err error) {
	root, _, err := jsondoc.Parse(a.Body, 1)
	if err != nil || root == nil {
		return "", &AnswerError{"", "is not JSON"}
	}
	lines, _, err := t.nodes(root, a.Body)
	if err != nil {
		return "", err
	}
	into := n.ListAt(t.Into)
	if into == nil {
		return "", &AnswerError{n.Pointer() + t.Into, "has something else than a list"}
	}
	if first && t.Anew {
		into.Clear()
	}
	for _, l := range lines {
		into.Add(l)
	}
	return t.Paging.next(a, root, len(lines))
}
