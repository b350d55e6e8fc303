package system

import (
	"maps"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"koinos/core/finding"
	"koinos/core/grammar"
	"koinos/core/jsondoc"
	"koinos/core/tree"
)

// Find is a way to find a record without its key: the list is asked with a parameter, and of what it returns those
// count whose value at Path is the one asked for.
type Find struct {
	Name, Parameter string
	Path            *jsondoc.Path
	Fold            bool   // letter case does not matter
	Only            While  // records that count; a nil path is all
	As              string // what the parameter takes, with {value} in it; "" is the value
	// where they stand in the record of the order that they belong to (Write.Of); nil is the list
	In *jsondoc.Path
}

// Refer says that a value of a record is the key of another one, and by what that is
// found. What we write there is the value that it is found by.
type Refer struct {
	Path   *jsondoc.Path // within the record
	To, By string        // kind of record, and its Find; By is "" where Line is said
	Line   *LineOf       // it is the key of a line of that record, to which this one belongs; nil: of the record
	// Create is what one that is not there is made from: values of the record that is
	// written, by the members of the one that is made. None is made where it is empty.
	Create map[string]*jsondoc.Path
}

// LineOf says which line of a record is meant.
type LineOf struct {
	Match *jsondoc.Path // what it is known by on both sides: what we write there; within the line
	Key   *jsondoc.Path // its key, within the line; nil is its place, counted from 1
	// where the record that refers to the line has the key of the line's record; nil: it is not read
	In *jsondoc.Path
}

// LineIndex has the lines of a record, by what each is known by, and by their keys.
type LineIndex struct {
	known map[string]tree.Node // keys
	keyed map[string]*tree.Node
}

// Of indexes the lines of a record.
func (l *LineOf) Of(r *Record, root *tree.Node) *LineIndex {
	all := &LineIndex{map[string]tree.Node{}, map[string]*tree.Node{}}
	for i, n := range r.Lines.All(root) {
		key := tree.Node{Kind: tree.Number, Text: strconv.Itoa(i + 1)}
		if l.Key != nil {
			k := l.Key.First(n)
			if k == nil || !k.Scalar() {
				continue
			}
			key = tree.Node{Kind: k.Kind, Text: k.Text}
		}
		if match := scalar(l.Match, n); match != "" {
			if _, is := all.known[match]; !is { // the first counts
				all.known[match] = key
			}
		}
		if all.keyed[key.Text] == nil {
			all.keyed[key.Text] = n
		}
	}
	return all
}

// Key returns the key of the line that is known by a value; false if there is none.
func (l *LineIndex) Key(match string) (tree.Node, bool) {
	key, is := l.known[match]
	return key, is
}

// Line returns the line with a key, or nil.
func (l *LineIndex) Line(key string) *tree.Node { return l.keyed[key] }

// Request is one way to write: method, path, and how the body stands in what is sent.
type Request struct {
	Method, Path string
	As           string        // member that holds the body; "" is the body itself
	GraphQL      string        // a mutation that is sent there, with the body as variable As; "" is a plain path
	Record       *jsondoc.Path // where the record stands in the answer; nil is the answer itself
	With         []Constant
	Query        map[string]string // parameters, with {key} and {line} in them
	Trial        string            // parameter with which the system only checks the call, escaped; "" is none
}

// Constant is what goes along with a request besides, by its place in what is sent. A text
// of {key}, {line} or {version} stands for those of the record or line.
type Constant struct {
	Pointer, Text string
	Plain         bool // a number, true or false is one, not a text
}

// While is a condition on a record that was read: a value is one of some, or is none of some.
type While struct {
	Path    *jsondoc.Path
	Is, Not []string // one of them is empty
}

// Act is something that is done to a record when it is due.
type Act struct {
	Request
	Name      string
	Cancelled bool  // due when the order is cancelled here; else when it is not
	While     While // and only then
}

// Write is how records of a kind are made what they should be.
type Write struct {
	Mapping     string // that writes an order as such a record
	Find        string // Find by which a record is found that is not linked yet
	Aside       []*jsondoc.Path
	Fixed       []*jsondoc.Path // what cannot be changed once the record is made
	Create      *Request
	WithLines   int   // how many lines may go with it; -1 is any number
	Many        *Many // several in one call; nil: one by one
	Change      *Request
	IfMatch     bool   // changes name the ETag that was read
	Idempotency string // header that makes a repeated request one; "" is none
	Taken       While  // an answer that says that somebody was quicker
	TakenKey    *jsondoc.Path
	Lines       *Lines // nil: lines go with the record
	Acts        []Act
	Types       map[string]string // by path: number, text, boolean, date, time
	Fold        []*jsondoc.Path   // of whose values the letter case does not matter
	File        *FileOut          // the record is a file; Create is nil then
	Warnings    *jsondoc.Path     // what an answer says beside success; may be nil
	Of          string            // kind of record of the order that it belongs to; {order} is its key. "" is none
}

// Lines is how the lines of a record are written one by one.
type Lines struct {
	Match, Key          *jsondoc.Path // within a line
	Version             *jsondoc.Path // what a change of it names with If-Match; may be nil
	Add, Change, Remove *Request
	AtOnce              int // lines of one Add, in a list; 0 is one line, by itself
}

func request(about, method string, more ...grammar.Key) *grammar.Shape {
	return grammar.Group(about, append([]grammar.Key{
		grammar.Must("path", grammar.Some("Path below the system's address; {key} is the record's key, {line} the line's")),
		grammar.May("query", named("Parameters", "Value; {key} and {line} as in the path")),
		grammar.May("method", grammar.OneOf("By default "+method, "POST", "PUT", "PATCH", "DELETE")),
		grammar.May("as", grammar.Some("Member of what is sent that holds the body; by default the body is all")),
		grammar.May("graphql",
			grammar.Some("A GraphQL mutation that is sent there: the body is its variable $input, or as `as` "+
				"names it; the keys are $key and $line")),
		grammar.May("with", named("What goes along besides, and is never compared, by its path in what is sent",
			"Value; {key}, {line} and {version} are those of the record or line")),
		grammar.May("trial", grammar.Some("Parameter, such as check=true, with which the system checks this very call and "+
			"stores nothing: a dry run sends it")),
		grammar.May("record",
			grammar.Some("Where the record stands in the answer; by default the answer is the record"))},
		more...)...)
}

func while(about string, more ...grammar.Key) *grammar.Shape {
	return grammar.Group(about, append([]grammar.Key{
		grammar.Must("path", grammar.Some("What says so: path")),
		grammar.May("is", grammar.Many("The values that say so")),
		grammar.May("not", grammar.Many("In place of is: the values that say that it is not so; no value does not"))},
		more...)...)
}

// finding, referring and writing are the words of a record about them.
var (
	found = &grammar.Shape{Kind: grammar.Table, About: "Ways to find a record without its key, by names of your own",
		Items: grammar.Group("One way",
			grammar.May("parameter", grammar.Some("Parameter of the list that takes the value")),
			grammar.May("in", grammar.Some("In place of a parameter, where the record belongs to an order's (write: "+
				"{of: …}): where "+
				"such records stand in that: path")),
			grammar.Must("path", grammar.Some("Where a record has the value: only those count that have exactly it, "+
				"whatever else the list gives")),
			grammar.May("as", grammar.Some("What the parameter takes, with {value} in it, such as ref eq '{value}'")),
			grammar.May("fold", &grammar.Shape{Kind: grammar.Boolean, About: "Letter case does not matter"}),
			grammar.May("only", while("Of several that have it, only these count")))}
	referring = &grammar.Shape{Kind: grammar.ListOf, About: "Values that are keys of other records",
		Items: grammar.Group("One value",
			grammar.Must("path", grammar.Some("Where it stands: path within the record")),
			grammar.Must("to", grammar.Some("The kind of record that it is the key of")),
			grammar.May("by", grammar.Some("The way in which that is found; the mapping writes this value")),
			grammar.May("line", grammar.Group("In place of by: it is the key of a line of that record, to which this one belongs",
				grammar.Must("match",
					grammar.Some("What the line is known by on both sides; the mapping writes this value: path within "+
						"the line")),
				grammar.May("key", grammar.Some("The line's key: path within the line; by default its place, counted from 1")),
				grammar.May("in", grammar.Some("Where such a record has the key of the record whose line it is: "+
					"needed where it is read, "+
					"too")))),
			grammar.May("create", named("Where there is none, one is made: its members", "Path within the record that "+
				"is written, of the value")))}
	writing = grammar.Group("How a record is made what an order here says",
		grammar.May("mapping",
			grammar.Some("The mapping that writes an order as such a record; its document is ndjson")),
		grammar.May("find", grammar.Some("The way in which a record is found that is not linked yet")),
		grammar.May("warnings",
			grammar.Some("Where an answer has warnings beside success: path; they are kept and shown")),
		grammar.May("of", grammar.Some("Where a record belongs to the record of an order, such as a delivery: that kind of "+
			"record. {order} in paths and values is its key")),
		grammar.May("aside", grammar.Many("What the mapping writes for create of refers only: paths that are never sent")),
		grammar.May("fixed", grammar.Many("What cannot be changed once the record is made: paths")),
		grammar.May("types", &grammar.Shape{Kind: grammar.Table,
			About: "Types of values, by their paths: as what they are written (text, number, boolean), and how they " +
				"are compared " +
				"(numbers by value, a date by its day, a time by its moment). By default decimals are numbers and the " +
				"others texts",
			Items: grammar.OneOf("Type", "text", "number", "boolean", "date", "time")}),
		grammar.May("fold", grammar.Many("Paths of values of which the letter case does not matter when they are compared")),
		grammar.May("file", fileOut),
		grammar.May("create", request("Makes a record", "POST",
			grammar.May("lines", &grammar.Shape{Kind: grammar.Integer,
				About: "How many lines may go with it; by default all"}))),
		grammar.May("many", several),
		grammar.May("change", request("Changes a record: PATCH with what differs, PUT with the whole", "PATCH")),
		grammar.May("if_match", &grammar.Shape{Kind: grammar.Boolean, About: "A change names the ETag that was read"}),
		grammar.May("idempotency", grammar.Some("Header that makes a repeated request one, usually Idempotency-Key")),
		grammar.May("taken", while("What an answer says where somebody was quicker",
			grammar.Must("key", grammar.Some("Where the answer has the key of the record that is there: path")))),
		grammar.May("lines", grammar.Group("Lines that are written one by one; by default they go with the record",
			grammar.Must("match", grammar.Some("What a line is known by on both sides: path within the line")),
			grammar.Must("key", grammar.Some("What names a line there: path within the line")),
			grammar.May("version", grammar.Some("What a change of a line names with If-Match: path within the line")),
			grammar.May("add", request("Adds lines", "POST",
				grammar.May("at_once", grammar.Whole("How many lines go in a list; by default one by itself")))),
			grammar.May("change", request("Changes a line", "PATCH")),
			grammar.May("remove", request("Removes a line", "DELETE")))),
		grammar.May("acts", &grammar.Shape{Kind: grammar.ListOf, About: "What else is done to a record, in this order",
			Items: request("One act", "POST",
				grammar.Must("act", grammar.Some("What it does, in a word: confirm, void")),
				grammar.May("when", grammar.OneOf("When it is due: while the order is wanted (the default), or when it is "+
					"cancelled here", "wanted", "cancelled")),
				grammar.Must("while",
					while("While it is due: a value of the record is one of these. Doing it ends that")))}))
)

func (b *builder) request(n *grammar.Node, method string, needs ...string) *Request {
	if n == nil {
		return nil
	}
	r := &Request{Method: method, Path: n.Str("path"), As: n.Str("as"), GraphQL: n.Str("graphql"),
		Record: b.path(n.Get("record"))}
	if m := n.Str("method"); m != "" {
		r.Method = m
	}
	r.Query = texts(n.Get("query"))
	b.below(n.Get("path"))
	if r.GraphQL != "" {
		r.Method, needs = "POST", nil
	}
	for _, need := range needs {
		if !strings.Contains(r.Path, need) && !within(r.Query, need) &&
			!slices.Contains(slices.Collect(maps.Values(texts(n.Get("with")))),
				need) {
			b.wrong(n.Get("path"), "the path needs %s, or a value under query or with does.", need)
		}
	}
	if t := n.Get("trial"); t != nil {
		name, value, ok := strings.Cut(t.Text, "=")
		if !ok || name == "" {
			b.wrong(t, "a trial is a parameter with its value, such as check=true.")
		}
		r.Trial = url.QueryEscape(name) + "=" + url.QueryEscape(value)
		if r.GraphQL != "" {
			b.wrong(t, "a mutation has no parameter with which it is only checked.")
		}
	}
	if with := n.Get("with"); with != nil {
		if n.Number("at_once") > 0 && r.As == "" && r.GraphQL == "" {
			b.wrong(n.Get("path"), "what is sent is a list, in which nothing else has a place: say as, too.")
		}
		for _, e := range with.Entries {
			p, err := jsondoc.ParsePath(e.Key)
			if err != nil || p.Pointer() == "" {
				b.Add(finding.MappingWrongValue, e.At, e.Key, "%q is not one place, such as $.source.", e.Key).Hint = ""
				continue
			}
			r.With = append(r.With, Constant{p.Pointer(), e.Node.Text, !e.Node.Quoted})
		}
	}
	return r
}

func (b *builder) paths(n *grammar.Node, key string) (all []*jsondoc.Path) {
	for _, item := range n.List(key) {
		all = append(all, b.path(item))
	}
	return all
}

func (b *builder) while(n *grammar.Node) While {
	if n == nil {
		return While{}
	}
	if (n.Get("is") == nil) == (n.Get("not") == nil) {
		b.wrong(n.Get("path"), "say either is, the values that say so, or not, those that say that it is not so.")
	}
	return While{b.path(n.Get("path")), n.Strs("is"), n.Strs("not")}
}

func (b *builder) finds(n *grammar.Node) map[string]*Find {
	all := map[string]*Find{}
	if n == nil {
		return all
	}
	for _, e := range n.Entries {
		all[e.Key] = &Find{Name: e.Key, Parameter: e.Node.Str("parameter"), Path: b.path(e.Node.Get("path")),
			Fold: e.Node.Str("fold") == "true", Only: b.while(e.Node.Get("only")), As: e.Node.Str("as"),
			In: b.path(e.Node.Get("in"))}
		if (all[e.Key].Parameter == "") == (all[e.Key].In == nil) {
			b.Add(finding.MappingWrongValue, e.At, e.Key,
				"say either parameter or in: where records with the value are found.").Hint = ""
		}
		if as := e.Node.Get("as"); as != nil && !strings.Contains(as.Text, "{value}") {
			b.wrong(as, "as needs {value}, such as ref eq '{value}'.")
		}
	}
	return all
}

func (b *builder) refers(n *grammar.Node) (all []Refer) {
	for _, item := range n.List("refers") {
		r := Refer{Path: b.path(item.Get("path")), To: item.Str("to"), By: item.Str("by"),
			Create: map[string]*jsondoc.Path{}}
		if l := item.Get("line"); l != nil {
			r.Line = &LineOf{b.path(l.Get("match")), b.path(l.Get("key")), b.path(l.Get("in"))}
		}
		if c := item.Get("create"); c != nil {
			for _, e := range c.Entries {
				r.Create[e.Key] = b.path(e.Node)
			}
		}
		all = append(all, r)
	}
	return all
}

func (b *builder) write(r *Record, n *grammar.Node) *Write {
	if n == nil {
		return nil
	}
	create := n.Get("create")
	if (create == nil) == (n.Get("file") == nil) {
		b.wrong(n, "say either create, the call that makes a record, or file, in a folder.")
	}
	if create == nil {
		create = &grammar.Node{}
	}
	w := &Write{Mapping: n.Str("mapping"), Find: n.Str("find"), Aside: b.paths(n, "aside"), Fixed: b.paths(n, "fixed"),
		Fold:   b.paths(n, "fold"),
		Create: b.request(n.Get("create"), "POST"), File: b.fileOut(n.Get("file")), WithLines: -1,
		Change:  b.request(n.Get("change"), "PATCH", "{key}"),
		IfMatch: n.Str("if_match") == "true", Idempotency: n.Str("idempotency"), Types: texts(n.Get("types")),
		Taken: b.while(n.Get("taken")), Of: n.Str("of"),
		Warnings: b.path(n.Get("warnings"))}
	if create.Get("lines") != nil {
		w.WithLines = create.Number("lines")
	}
	w.Many = b.many(w, n.Get("many"))
	if t := n.Get("taken"); t != nil {
		w.TakenKey = b.path(t.Get("key"))
	}
	for _, path := range slices.Sorted(maps.Keys(w.Types)) {
		if _, err := jsondoc.ParsePath(path); err != nil {
			b.wrong(n.Get("types"), "%q is no path: %v.", path, err)
		}
	}
	if w.Find != "" && r.Finds[w.Find] == nil {
		b.wrong(n.Get("find"), "the record has no way %q to be found; say it under find.", w.Find)
	}
	in := w.Find != "" && r.Finds[w.Find] != nil && r.Finds[w.Find].In != nil
	if w.Mapping != "" && w.Find != "" && r.Get == "" && !in {
		b.wrong(n.Get("mapping"), "say get, too: how one record is read.")
	}
	if in && w.Of == "" {
		b.wrong(n.Get("find"), "records that are found in another one belong to that: say of.")
	}
	if l := n.Get("lines"); l != nil {
		w.Lines = &Lines{Match: b.path(l.Get("match")), Key: b.path(l.Get("key")), Version: b.path(l.Get("version")),
			Add: b.request(l.Get("add"), "POST", "{key}"), Change: b.request(l.Get("change"), "PATCH", "{line}"),
			Remove: b.request(l.Get("remove"), "DELETE", "{line}")}
		if a := l.Get("add"); a != nil {
			w.Lines.AtOnce = a.Number("at_once")
		}
		if r.Lines == nil {
			b.wrong(l.Get("match"), "say lines: of the record too, where its lines stand.")
		}
		if w.WithLines >= 0 && w.Lines.Add == nil {
			b.wrong(l.Get("match"), "say add: how the lines get there that do not go with the record.")
		}
	}
	for _, item := range n.List("acts") {
		w.Acts = append(w.Acts, Act{Request: *b.request(item, "POST", "{key}"), Name: item.Str("act"),
			Cancelled: item.Str("when") == "cancelled", While: b.while(item.Get("while"))})
	}
	return w
}

// refer checks whether the records that others refer to are there.
func (b *builder) refer(s *System, records *grammar.Node) {
	for _, e := range records.Entries {
		if t := s.Records[e.Key].Tells; t != nil {
			if to := s.Records[t.Record]; to == nil || to == s.Records[e.Key] || to.Get == "" || to.Tells != nil {
				b.wrong(e.Node.Get("tells").Get("record"),
					"a record tells of another kind of record here that can be read (get); "+
						"there are %s.", strings.Join(s.RecordNames(), ", "))
			}
		}
		if w := s.Records[e.Key].Write; w != nil && w.Of != "" {
			of := e.Node.Get("write").Get("of")
			if to := s.Records[w.Of]; to == nil || to == s.Records[e.Key] || to.Get == "" {
				b.wrong(of, "of is another kind of record here that can be read (get); there are %s.",
					strings.Join(s.RecordNames(), ", "))
			}
		}
		for i, item := range e.Node.List("refers") {
			r := &s.Records[e.Key].Refers[i]
			to := s.Records[r.To]
			switch {
			case to == nil:
				b.wrong(item.Get("to"), "%q is no kind of record here; there are %s.", r.To,
					strings.Join(s.RecordNames(), ", "))
			case (r.By == "") == (r.Line == nil):
				b.wrong(item.Get("to"),
					"say either by, the way in which the record is found, or line, which line of it is meant.")
			case r.Line != nil && (to.Lines == nil || to.Get == ""):
				b.wrong(item.Get("to"), "%s does not say where its lines are (lines) and how one is read (get).", r.To)
			case r.Line != nil && r.Line.In == nil && (s.Records[e.Key].Write == nil ||
				s.Records[e.Key].Write.Of != r.To):
				b.wrong(item.Get("to"),
					"a line is one of the record to which this one belongs: say write: {of: %s}, or in.", r.To)
			case r.Line == nil && to.Finds[r.By] == nil:
				b.wrong(item.Get("by"), "%s has no way %q to be found; say it under its find.", r.To, r.By)
			case len(r.Create) > 0 && (to.Write == nil || to.Write.Create == nil):
				b.wrong(item.Get("create"), "%s says nothing of how one is made; say write: {create: …} there.", r.To)
			}
		}
	}
}

// TakenBy reports whether an answer says that somebody was quicker, with the key of the
// record that is there.
func (w *Write) TakenBy(body []byte) (key string, is bool) {
	root, _, err := jsondoc.Parse(body, 1)
	if w.TakenKey == nil || err != nil || root == nil || !w.Taken.Holds(root) {
		return "", false
	}
	key = scalar(w.TakenKey, root)
	return key, key != ""
}

// Warned returns what an answer warns of, beside having done what it was asked.
func (w *Write) Warned(body []byte) (all []string) {
	if w.Warnings == nil || len(body) == 0 {
		return nil
	}
	root, _, err := jsondoc.Parse(body, 1)
	if err != nil || root == nil {
		return nil
	}
	for _, n := range w.Warnings.All(root) {
		if n.Scalar() && n.Text != "" {
			all = append(all, n.Text)
		} else if !n.Scalar() {
			all = append(all, string(n.AppendJSON(nil)))
		}
	}
	return all
}

// Address is where a path of the system is.
func Address(base, path string) string { return join(base, path) }
