package system

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"koinos/core/jsondoc"
	"koinos/core/tree"
)

// Answer is what a system answered to a request.
type Answer struct {
	URL    string // that was asked
	Status int
	Link   []string // Link headers
	ETag   string
	Header http.Header
	Body   []byte
}

// Found is a record of an answer with what the description finds in it.
type Found struct {
	Key      string     `json:"key"`
	Number   string     `json:"number,omitempty"`
	Version  string     `json:"version,omitempty"`
	Stamp    string     `json:"stamp,omitempty"`
	Lines    int        `json:"lines" doc:"How many lines stand in it"`
	Expected int        `json:"expected,omitempty" doc:"How many it says that it has"`
	Gone     bool       `json:"gone,omitempty" doc:"It is not a record any more"`
	Nameless bool       `json:"nameless,omitempty" doc:"It has no number, by which a part of it is asked for"`
	Place    string     `json:"place" doc:"JSON Pointer (RFC 6901) within the answer"`
	Raw      []byte     `json:"-"` // its bytes as they came
	Node     *tree.Node `json:"-"`
}

// Short reports whether the record is incomplete: it has fewer lines than it says, or lacks the number by which a part
// of it is requested.
func (f *Found) Short() bool { return f.Expected > f.Lines || f.Nameless }

// AnswerError says what is wrong with an answer: it cannot be what the description says. What it lacks is unknown, not
// empty.
type AnswerError struct {
	At  string // path or JSON Pointer; "" is the answer as a whole
	Why string
}

func (e *AnswerError) Error() string {
	if e.At == "" {
		return "the answer " + e.Why
	}
	return "the answer " + e.Why + " at " + e.At
}

// Page is one page of a list.
type Page struct {
	Records []Found
	Next    string // address of the next page; "" is none
}

// First returns the address of a list's first page. since is the newest stamp that was seen, as the system wrote it; ""
// asks for everything. The address of a page of GraphQL has the variables as its parameters; Request turns it into what
// is sent.
func (r *List) First(base, since string) (string, error) {
	q := url.Values{}
	for name, value := range r.Query {
		q.Set(name, value)
	}
	if since != "" && r.Since.Parameter != "" {
		from, err := r.Since.from(since)
		if err != nil {
			return "", err
		}
		q.Set(r.Since.Parameter, from)
	}
	if r.Paging.Kind == "page" {
		q.Set(r.Paging.Parameter, strconv.Itoa(r.Paging.First))
	}
	u := join(base, r.Path)
	if len(q) > 0 {
		u += "?" + q.Encode()
	}
	return u, nil
}

// Asking is the record with further parameters of its list.
func (r *Record) Asking(query map[string]string) *Record {
	if len(query) == 0 {
		return r
	}
	out := *r
	out.Query = maps.Clone(r.Query)
	if out.Query == nil {
		out.Query = map[string]string{}
	}
	maps.Copy(out.Query, query)
	return &out
}

// Request is what is sent for a page: a body if it is requested by GraphQL, otherwise nil.
func (r *List) Request(address string) (to string, body []byte, err error) {
	number := map[string]bool{}
	for name, value := range r.Query {
		_, err := strconv.Atoi(value)
		number[name] = err == nil
	}
	if k := r.Paging.Kind; k == "page" || k == "offset" {
		number[r.Paging.Parameter] = true
	}
	if r.Posted && r.GraphQL == "" {
		return posted(address, number)
	}
	return ask(address, r.GraphQL, number)
}

// Smaller is the address of a page with half as many records; ok is false where the
// description does not say how, or there is one only.
func (r *List) Smaller(address string) (half string, ok bool) {
	u, err := url.Parse(address)
	if err != nil || r.Size == "" {
		return address, false
	}
	q := u.Query()
	n, err := strconv.Atoi(q.Get(r.Size))
	if err != nil || n < 2 {
		return address, false
	}
	q.Set(r.Size, strconv.Itoa(n/2))
	u.RawQuery = q.Encode()
	return u.String(), true
}

// posted makes a request of an address whose parameters are members of a JSON body.
func posted(address string, number map[string]bool) (to string, body []byte, err error) {
	u, err := url.Parse(address)
	if err != nil {
		return "", nil, err
	}
	m, q := &tree.Members{}, u.Query()
	for _, name := range slices.Sorted(maps.Keys(q)) {
		var v any = q.Get(name)
		if number[name] {
			v = json.Number(q.Get(name))
		}
		m.Put("/"+strings.ReplaceAll(tree.Token(name), ".", "/"), v)
	}
	u.RawQuery = ""
	body, err = json.Marshal(m)
	return u.String(), body, err
}

// ask makes a request of an address whose parameters are the variables of a GraphQL query.
func ask(address, query string, number map[string]bool) (to string, body []byte, err error) {
	if query == "" {
		return address, nil, nil
	}
	u, err := url.Parse(address)
	if err != nil {
		return "", nil, err
	}
	variables := map[string]any{}
	for name, values := range u.Query() {
		variables[name] = values[0]
		if number[name] {
			variables[name] = json.Number(values[0])
		}
	}
	u.RawQuery = ""
	body, err = json.Marshal(map[string]any{"query": query, "variables": variables})
	return u.String(), body, err
}

// One returns the address of one record.
func (r *Record) One(base, key string) string {
	u := join(base, strings.ReplaceAll(r.Get, "{key}", url.PathEscape(key)))
	q := url.Values{}
	for name, value := range r.GetParams {
		q.Set(name, strings.ReplaceAll(value, "{key}", key))
	}
	if r.GetQuery != "" {
		q.Set("key", key)
	}
	if len(q) > 0 {
		u += "?" + q.Encode()
	}
	return u
}

// RequestOne is what is sent for one record, as List.Request.
func (r *Record) RequestOne(address string) (to string, body []byte, err error) {
	return ask(address, r.GetQuery, nil)
}

func join(base, path string) string {
	return strings.TrimRight(base, "/") + "/" + strings.TrimLeft(path, "/")
}

// Read reads a page of the list and says where it goes on.
func (r *Record) Read(a Answer) (*Page, error) {
	if len(bytes.TrimSpace(a.Body)) == 0 {
		if r.MayLack {
			return &Page{}, nil
		}
		return nil, &AnswerError{"",
			"is empty; if that means that there are no records, say may_lack: true of the list"}
	}
	root, _, err := jsondoc.Parse(a.Body, 1)
	if err != nil {
		return nil, &AnswerError{"", "is not JSON: " + err.Error()}
	}
	if root == nil {
		return nil, &AnswerError{"", "holds no value"}
	}
	nodes, raw, err := r.nodes(root, a.Body)
	if err != nil {
		return nil, err
	}
	p := &Page{Records: make([]Found, len(nodes))}
	for i, n := range nodes {
		if p.Records[i], err = r.Find(n); err != nil {
			return nil, err
		}
		p.Records[i].Raw = raw[i]
	}
	p.Next, err = r.Paging.next(a, root, len(nodes))
	return p, err
}

// Alone reads an answer that is one record.
func (r *Record) Alone(a Answer) (Found, error) {
	root, _, err := jsondoc.Parse(a.Body, 1)
	if err != nil {
		return Found{}, &AnswerError{"", "is not JSON: " + err.Error()}
	}
	return r.alone(root, a.Body, r.Within)
}

// Written reads the record in the answer to a request that wrote it; at is where it
// stands there, nil is the answer itself.
func (r *Record) Written(a Answer, at *jsondoc.Path) (Found, error) {
	root, _, err := jsondoc.Parse(a.Body, 1)
	if err != nil {
		return Found{}, &AnswerError{"", "is not JSON: " + err.Error()}
	}
	return r.alone(root, a.Body, at)
}

func (r *Record) alone(root *tree.Node, body []byte, at *jsondoc.Path) (Found, error) {
	n := root
	if at != nil && root != nil {
		if n = at.First(root); n == nil {
			return Found{}, &AnswerError{at.String(), "has no record"}
		}
	}
	if n == nil {
		return Found{}, &AnswerError{"", "holds no value"}
	}
	f, err := r.Find(n)
	if err == nil {
		f.Raw, err = rawAt(body, n, newParts())
	}
	return f, err
}

// Like returns the address that lists the records with a value.
func (r *Record) Like(base string, f *Find, value string) (string, error) {
	u, err := r.First(base, "")
	if err != nil {
		return "", err
	}
	address, err := url.Parse(u)
	if err != nil {
		return "", err
	}
	q := address.Query()
	if f.As != "" {
		if strings.Contains(f.As, "'{value}'") { // a quote in a quoted text is doubled
			value = strings.ReplaceAll(value, "'", "''")
		}
		value = strings.ReplaceAll(f.As, "{value}", value)
	}
	q.Set(f.Parameter, value)
	address.RawQuery = q.Encode()
	return address.String(), nil
}

// Is reports whether a value is the one asked for.
func (f *Find) Is(n *tree.Node, value string) bool {
	v := f.Path.First(n)
	return v != nil && v.Scalar() && v.Kind != tree.Null && (v.Text == value || f.Fold &&
		strings.EqualFold(v.Text, value)) && (f.Only.Path == nil || f.Only.Holds(n))
}

// Holds reports whether a record fulfils the condition.
func (w *While) Holds(n *tree.Node) bool {
	switch {
	case w.Path == nil:
		return false
	case len(w.Not) > 0:
		return !w.has(n, w.Not)
	}
	return w.has(n, w.Is)
}

// has reports whether a record has one of some values.
func (w *While) has(n *tree.Node, values []string) bool {
	return slices.Contains(values, scalar(w.Path, n)) || slices.ContainsFunc(w.Path.All(n), func(v *tree.Node) bool {
		return v.Scalar() && v.Kind != tree.Null && slices.Contains(values, v.Text)
	})
}

// nodes returns the records of an answer with their bytes.
func (r *List) nodes(root *tree.Node, body []byte) ([]*tree.Node, [][]byte, error) {
	text := r.Records.String()
	prefix, whole := strings.CutSuffix(text, "[*]")
	if whole {
		list, err := jsondoc.ParsePath(prefix)
		if err != nil {
			return nil, nil, err
		}
		const none = "; if that means that there are none, say may_lack: true of the list"
		switch n := list.First(root); {
		case r.MayLack && (n == nil || n.Kind == tree.Null):
			return nil, nil, nil
		case n == nil:
			return nil, nil, &AnswerError{prefix, "has no list" + none}
		case n.Kind == tree.Null:
			return nil, nil, &AnswerError{prefix, "has no list but null" + none}
		case n.Kind != tree.Array:
			why := "has no list but " + kindName(n.Kind)
			if n.Kind == tree.Object {
				why += " (if it is the one record, say records: " + prefix + "; if it has a record by each name, " +
					prefix + ".*)"
			}
			return nil, nil, &AnswerError{prefix, why}
		}
	}
	nodes := r.Records.All(root)
	raw := make([][]byte, len(nodes))
	cache := newParts()
	for i, n := range nodes {
		var err error
		if raw[i], err = rawAt(body, n, cache); err != nil {
			return nil, nil, err
		}
	}
	return nodes, raw, nil
}

func kindName(k tree.Kind) string {
	return map[tree.Kind]string{tree.Null: "null", tree.Bool: "true or false", tree.Number: "a number",
		tree.String: "a text", tree.Object: "an object", tree.Array: "a list"}[k]
}

// parts are the bytes of what stands in lists and objects, by the pointers of those.
type parts struct {
	lists   map[string][]json.RawMessage
	objects map[string]map[string]json.RawMessage
}

func newParts() parts {
	return parts{map[string][]json.RawMessage{}, map[string]map[string]json.RawMessage{}}
}

// rawAt returns the bytes of a node; a list or object is cut once for all that is in it.
func rawAt(body []byte, n *tree.Node, cache parts) ([]byte, error) {
	if n.Parent == nil {
		return bytes.TrimSpace(body), nil
	}
	parent := n.Parent.Pointer()
	if n.Parent.Kind == tree.Array {
		list, ok := cache.lists[parent]
		if !ok {
			in, err := rawAt(body, n.Parent, cache)
			if err == nil {
				err = json.Unmarshal(in, &list)
			}
			if err != nil {
				return nil, &AnswerError{parent, "is not JSON: " + err.Error()}
			}
			cache.lists[parent] = list
		}
		return list[n.Index], nil
	}
	members, ok := cache.objects[parent]
	if !ok {
		in, err := rawAt(body, n.Parent, cache)
		if err == nil {
			err = json.Unmarshal(in, &members)
		}
		if err != nil {
			return nil, &AnswerError{parent, "is not JSON: " + err.Error()}
		}
		cache.objects[parent] = members
	}
	return members[n.Name], nil
}

// mostNamed is how many members of a record are named.
const mostNamed = 12

// has names the members of a record, for somebody whose path finds nothing there.
func has(n *tree.Node) string {
	var names []string
	for c := n.First(); c != nil && n.Kind == tree.Object; c = c.Next() {
		if len(names) == mostNamed {
			names = append(names, "…")
			break
		}
		names = append(names, c.Name)
	}
	if len(names) == 0 {
		return ""
	}
	return "; it has " + strings.Join(names, ", ")
}

// Find reads what the description says of a record.
func (r *Record) Find(n *tree.Node) (Found, error) {
	f := Found{Place: n.Pointer(), Node: n}
	text := func(p *jsondoc.Path) string {
		if p == nil {
			return ""
		}
		if v := p.First(n); v != nil && v.Scalar() && v.Kind != tree.Null {
			return v.Text
		}
		return ""
	}
	if f.Key = text(r.Key); f.Key == "" {
		return f, &AnswerError{f.Place, "has a record without a key (" + r.Key.String() + has(n) + ")"}
	}
	f.Number, f.Version, f.Stamp = text(r.Number), text(r.Version), text(r.Stamp)
	if r.Lines != nil {
		f.Lines = len(r.Lines.All(n))
	}
	if said := text(r.LinesCount); said != "" {
		count, err := strconv.Atoi(said)
		if err != nil || count < 0 {
			return f, &AnswerError{f.Place, fmt.Sprintf("says that a record has %q lines", said)}
		}
		f.Expected = count
	}
	f.Nameless = f.Number == "" && slices.ContainsFunc(r.Rest, func(t Rest) bool { return t.named("{number}") })
	if r.Gone != nil {
		f.Gone = slices.Contains(r.GoneIs, text(r.Gone))
	}
	return f, nil
}

// next returns the address of the page behind an answer of so many records.
func (p *Paging) next(a Answer, root *tree.Node, records int) (string, error) {
	if !p.goesOn(root, records) {
		return "", nil
	}
	at, err := url.Parse(a.URL)
	if err != nil {
		return "", err
	}
	q := at.Query()
	switch p.Kind {
	case "":
		return "", nil
	case "link":
		target, ok := linked(a.Link, p.Relation)
		if !ok {
			return "", nil
		}
		return p.follow(at, target)
	case "next":
		target := scalar(p.From, root)
		if target == "" {
			return "", nil
		}
		return p.follow(at, target)
	case "cursor":
		cursor := scalar(p.From, root)
		if p.Header != "" {
			cursor = a.Header.Get(p.Header)
		}
		if cursor == "" || records == 0 && cursor == q.Get(p.Parameter) { // a feed without anything new
			return "", nil
		}
		q.Set(p.Parameter, cursor)
	case "page":
		page, err := strconv.Atoi(q.Get(p.Parameter))
		if err != nil {
			page = p.First
		}
		if pages := scalar(p.Count, root); pages != "" {
			n, err := strconv.Atoi(pages)
			if err != nil {
				return "", &AnswerError{p.Count.String(), fmt.Sprintf("says that there are %q pages", pages)}
			}
			if page-p.First+1 >= n {
				return "", nil
			}
		}
		q.Set(p.Parameter, strconv.Itoa(page+1))
	case "offset":
		offset, _ := strconv.Atoi(q.Get(p.Parameter)) // none is 0
		offset += records
		if total := scalar(p.Count, root); total != "" {
			n, err := strconv.Atoi(total)
			if err != nil {
				return "", &AnswerError{p.Count.String(), fmt.Sprintf("says that there are %q records", total)}
			}
			if offset >= n {
				return "", nil
			}
		}
		q.Set(p.Parameter, strconv.Itoa(offset))
	}
	at.RawQuery = q.Encode()
	if at.String() == a.URL && records == 0 {
		return "", nil // a feed that gives its last number again
	}
	if at.String() == a.URL {
		return "", &AnswerError{"", "says that the list goes on where it is: " + at.Path}
	}
	return at.String(), nil
}

// goesOn reports whether there can be a next page at all.
func (p *Paging) goesOn(root *tree.Node, records int) bool {
	if p.More != nil {
		return scalar(p.More, root) == "true"
	}
	return records > 0 || p.Kind != "page" && p.Kind != "offset"
}

func scalar(p *jsondoc.Path, root *tree.Node) string {
	if p == nil {
		return ""
	}
	if n := p.First(root); n != nil && n.Scalar() && n.Kind != tree.Null {
		return n.Text
	}
	return ""
}

// ErrElsewhere says that a list goes on at another host: nobody's credentials go there.
var ErrElsewhere = errors.New("the list goes on at another host")

// follow resolves the address of a next page (RFC 3986) against that of this one.
func (p *Paging) follow(at *url.URL, target string) (string, error) {
	next, err := at.Parse(target)
	if err != nil {
		return "", &AnswerError{"", fmt.Sprintf("says that the list goes on at %q, which is no address", target)}
	}
	if next.Scheme != at.Scheme || next.Host != at.Host {
		return "", fmt.Errorf("%w: %s://%s", ErrElsewhere, next.Scheme, next.Host)
	}
	next.Fragment = ""
	if next.String() == at.String() {
		return "", &AnswerError{"", "says that the list goes on where it is: " + at.Path}
	}
	return next.String(), nil
}
