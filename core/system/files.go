package system

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	names "path"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"koinos/core/finding"
	"koinos/core/grammar"
	"koinos/core/jsondoc"
	"koinos/core/order"
	"koinos/core/tree"
)

// Files is how records of one kind come as files of a folder. A file is a sequence of parts, each of a kind: segments,
// or lines of JSON. What stands between its head and its tail is split into records.
type Files struct {
	Path       string   // below the system's folder
	Names      string   // pattern, as path.Match has it
	Unfinished []string // endings of names that are never read
	Patience   time.Duration
	After      string          // what becomes of a file that was answered: move, leave or remove
	Segments   *Segments       // nil: lines of JSON
	Kind       []*jsondoc.Path // what tells the kind of a part, within it; none is a segment's first element
	Whole      bool            // a file is one document, which the mapping reads as it is
	Head, Tail *End            // may be nil
	Begins     []string
	Groups     []string
	Answer     *FileAnswer // nil: nobody waits for one
}

// End is the head or tail of a file, with what it says about the file.
type End struct {
	Kind   string
	ID     *jsondoc.Path // within it; may be nil
	Counts []Check
	Sums   []Check
}

// Check is a number that the end of a file states: how many parts of a kind, or records, or parts at all there are, or
// the sum of a value over all records.
type Check struct {
	Of   string        // records, parts or a kind
	Over *jsondoc.Path // within a record
	At   *jsondoc.Path // within the end
}

// FileAnswer is the file with which a file is answered.
type FileAnswer struct {
	Path, Name, Text string
	segments         *Segments
	Words            map[string]string // for taken, repeated and refused
}

// File is the content of a file.
type File struct {
	ID       string // "" is that it has none
	Records  []Found
	Parts    int
	Complete bool   // its end is there
	Wrong    string // why a complete file is refused, a sentence; "" is that all of it fits
}

var ending = func(about string) *grammar.Shape {
	count := func(about, of string) *grammar.Shape {
		return &grammar.Shape{Kind: grammar.ListOf, About: about, Items: grammar.Group("One number",
			grammar.Must("of", grammar.Some(of)), grammar.Must("at",
				grammar.Some("Where the file says it: path within this part")))}
	}
	return grammar.Group(about,
		grammar.Must("kind", grammar.Some("Its kind")),
		grammar.May("id", grammar.Some("What names the file: path within this part")),
		grammar.May("counts", count("How many there should be", "records, parts (all of the file), or a kind of part")),
		grammar.May("sums", count("What values should add up to", "Values: path within a record")))
}

var filing = grammar.Group("How they come as files, in place of a list",
	grammar.Must("path", grammar.Some("Folder below the system's, such as outbound")),
	grammar.May("names", grammar.Some("Names that are read, such as DSP*.txt; by default every name")),
	grammar.May("unfinished", grammar.Many("Endings of names that are never read, such as .part")),
	grammar.May("patience",
		grammar.Some("How long a file may stay without its end before it is refused, since it grew last; "+
			"left out, 30s")),
	grammar.May("after", grammar.OneOf("What becomes of a file: move (the default) puts it into taken or refused "+
		"below; leave; "+
		"remove", "move", "leave", "remove")),
	grammar.May("segments", segmenting),
	grammar.May("kind", grammar.Many("Where a part has its kind: paths within it. Of several, as many count as "+
		"make a kind that is named, with spaces between. Left "+
		"out, a segment's kind is its first element")),
	grammar.May("whole", &grammar.Shape{Kind: grammar.Boolean,
		About: "true: a file is one document, such as a table or X12, which the " +
			"mapping reads as it is"}),
	grammar.May("head", ending("The part at the beginning of a file")),
	grammar.May("tail", ending("The part at the end of a file: one without it is not complete")),
	grammar.May("begins", grammar.Many("The kinds of part with which a record begins")),
	grammar.May("groups",
		grammar.Many("The kinds of part that begin a group within a record, such as a line with what belongs "+
			"to it")),
	grammar.May("answer", grammar.Group("The file that answers one, once at each appearance",
		grammar.Must("path", grammar.Some("Folder below the system's")),
		grammar.Must("name", grammar.Some("Its name, with {id} in it")),
		grammar.Must("text", grammar.Some("What stands in it, with {id}, {word}, {records} and {why}")),
		grammar.May("words", named("What {word} is, by what became of the file: taken, repeated, refused", "Word")))))

// files reads the words about files; separators that are not a single character are mistakes.
func (b *builder) files(n *grammar.Node) *Files {
	if n == nil {
		return nil
	}
	f := &Files{Path: n.Str("path"), Names: n.Str("names"), Unfinished: n.Strs("unfinished"), After: n.Str("after"),
		Patience: b.duration(n.Get("patience"), 30*time.Second), Kind: b.paths(n, "kind"), Begins: n.Strs("begins"),
		Groups: n.Strs("groups"), Head: b.end(n.Get("head")), Tail: b.end(n.Get("tail"))}
	if f.Names == "" {
		f.Names = "*"
	}
	if f.After == "" {
		f.After = "move"
	}
	if _, err := names.Match(f.Names, "x"); err != nil || strings.Contains(f.Names, "/") {
		b.wrong(n.Get("names"), "%q is no pattern of names such as DSP*.txt.", f.Names)
	}
	b.folder(n.Get("path"))
	if f.Segments = b.segments(n.Get("segments")); f.Segments != nil {
		if len(f.Kind) == 0 {
			f.Kind = []*jsondoc.Path{firstElement}
		}
	}
	switch f.Whole = n.Str("whole") == "true"; {
	case f.Whole:
		for _, word := range []string{"segments", "kind", "head", "tail", "begins", "groups"} {
			if v := n.Get(word); v != nil {
				b.Add(finding.MappingWrongValue, v.At, word,
					"a file that is one document (whole) is not cut: leave %s out.",
					word).Hint = ""
			}
		}
	case len(f.Kind) == 0:
		b.wrong(n.Get("path"),
			"say segments: with its separators, or kind: where a line of JSON has its kind, or whole: true, "+
				"if the mapping reads the file as it is.")
	case len(f.Begins) == 0:
		b.wrong(n.Get("path"), "say begins: the kinds of part with which a record begins.")
	}
	if a := n.Get("answer"); a != nil {
		f.Answer = &FileAnswer{a.Str("path"), a.Str("name"), a.Str("text"), f.Segments, texts(a.Get("words"))}
		b.folder(a.Get("path"))
		if !strings.Contains(f.Answer.Name, "{id}") || strings.Contains(f.Answer.Name, "/") {
			b.wrong(a.Get("name"), "the name of an answer needs {id}, and no folder.")
		}
		for word := range f.Answer.Words {
			if !slices.Contains([]string{"taken", "repeated", "refused"}, word) {
				b.wrong(a.Get("words"), "%q is nothing that becomes of a file: taken, repeated, refused.", word)
			}
		}
	}
	return f
}

// folder looks at a folder below the system's.
func (b *builder) folder(n *grammar.Node) {
	if p := n.Text; strings.HasPrefix(p, "/") || slices.Contains(strings.Split(p, "/"), "..") ||
		strings.Contains(p, `\`) {
		b.wrong(n, "%q is no folder below the system's.", p)
	}
}

func (b *builder) end(n *grammar.Node) *End {
	if n == nil {
		return nil
	}
	e := &End{Kind: n.Str("kind"), ID: b.path(n.Get("id"))}
	for _, c := range n.List("counts") {
		e.Counts = append(e.Counts, Check{Of: c.Str("of"), At: b.path(c.Get("at"))})
	}
	for _, c := range n.List("sums") {
		e.Sums = append(e.Sums, Check{Over: b.path(c.Get("of")), At: b.path(c.Get("at"))})
	}
	return e
}

// Reads reports whether a name is that of one of these files, and complete.
func (f *Files) Reads(name string) bool {
	for _, end := range f.Unfinished {
		if strings.HasSuffix(name, end) {
			return false
		}
	}
	ok, _ := names.Match(f.Names, name)
	return ok
}

// part is a part of a file.
type part struct {
	kind string
	json json.RawMessage
	node *tree.Node
}

// File reads a file. The error is an *AnswerError: its bytes cannot be read at all.
func (r *Record) File(name string, b []byte) (*File, error) {
	f, out := r.Files, &File{}
	if f.Whole {
		return r.whole(name, b)
	}
	parts, whole, err := f.parts(b)
	if err != nil {
		return nil, err
	}
	out.Parts, out.Complete = len(parts), whole && len(parts) > 0
	body := parts
	var head, tail *part
	if f.Head != nil && len(parts) > 0 {
		if parts[0].kind == f.Head.Kind {
			head, body = &parts[0], body[1:]
			out.ID = scalar(f.Head.ID, head.node)
		} else {
			out.Wrong = fmt.Sprintf("It begins with %s, not with %s.", parts[0].kind, f.Head.Kind)
		}
	}
	if f.Tail != nil {
		if n := len(body); n > 0 && body[n-1].kind == f.Tail.Kind {
			tail, body = &body[n-1], body[:n-1]
		}
		out.Complete = out.Complete && tail != nil
	}
	if out.ID == "" && tail != nil {
		out.ID = scalar(f.Tail.ID, tail.node)
	}
	if !out.Complete {
		return out, nil
	}
	if out.Wrong == "" {
		out.Wrong = r.cut(out, name, head, body)
	}
	for _, e := range []struct {
		end *End
		is  *part
	}{{f.Head, head}, {f.Tail, tail}} {
		if out.Wrong == "" && e.is != nil {
			out.Wrong = e.end.wrong(out, parts, e.is)
		}
	}
	return out, nil
}

// whole takes a file as one record, which says what it is; the mapping reads the file.
func (r *Record) whole(name string, b []byte) (*File, error) {
	sum := sha256.Sum256(b)
	about := &tree.Members{}
	about.Put("/file/name", name)
	about.Put("/file/digest", hex.EncodeToString(sum[:]))
	raw, err := json.Marshal(about)
	if err != nil {
		return nil, err
	}
	node, _, err := jsondoc.Parse(raw, 1)
	if err != nil {
		return nil, err
	}
	found, err := r.Find(node)
	if err != nil {
		return nil, err
	}
	found.Raw = raw
	return &File{Records: []Found{found}, Parts: 1, Complete: true}, nil
}

// cut splits what stands between the ends of a file into records; wrong says why it cannot.
func (r *Record) cut(out *File, name string, head *part, body []part) (wrong string) {
	f := r.Files
	var record, group *tree.Members
	var all []*tree.Members
	lists := map[*tree.Members]map[string][]any{}
	put := func(to *tree.Members, kind string, v any) {
		if lists[to] == nil {
			lists[to] = map[string][]any{}
		}
		lists[to][kind] = append(lists[to][kind], v)
		to.Put("/"+tree.Token(kind), lists[to][kind])
	}
	for i, p := range body {
		switch {
		case slices.Contains(f.Begins, p.kind):
			record, group = &tree.Members{}, nil
			all = append(all, record)
			record.Put("/"+tree.Token(p.kind), p.json)
			about := &tree.Members{}
			about.Put("/name", name)
			if head != nil {
				about.Put("/head", head.json)
			}
			record.Put("/file", about)
		case record == nil:
			return fmt.Sprintf("Part %d is %s, with which no record begins.", i+1+len(out.Records), p.kind)
		case slices.Contains(f.Groups, p.kind):
			group = &tree.Members{}
			group.Put("/"+tree.Token(p.kind), p.json)
			put(record, p.kind, group)
		case group != nil:
			put(group, p.kind, p.json)
		default:
			put(record, p.kind, p.json)
		}
	}
	keys := map[string]bool{}
	for i, m := range all {
		raw, err := json.Marshal(m)
		if err != nil {
			return "It cannot be written as JSON: " + err.Error() + "."
		}
		root, _, err := jsondoc.Parse(raw, 1)
		if err != nil {
			return "It cannot be written as JSON: " + err.Error() + "."
		}
		if scalar(r.Key, root) == "" {
			return fmt.Sprintf("Record %d has no key at %s.", i+1, r.Key)
		}
		found, err := r.Find(root)
		if err != nil {
			return fmt.Sprintf("Record %d: %s.", i+1, strings.TrimPrefix(err.Error(), "the answer "))
		}
		if keys[found.Key] { // one of them would be passed over
			return fmt.Sprintf("Record %d has the key %s, like one before it.", i+1, found.Key)
		}
		keys[found.Key] = true
		found.Raw, found.Place = raw, "/"+strconv.Itoa(i)
		out.Records = append(out.Records, found)
	}
	return ""
}

// wrong says which number of an end does not match the file; "" if all do.
func (e *End) wrong(f *File, parts []part, is *part) string {
	if id := scalar(e.ID, is.node); e.ID != nil && id != f.ID {
		return fmt.Sprintf("Its %s names it %q, not %q.", e.Kind, id, f.ID)
	}
	for _, c := range e.Counts {
		n := 0
		switch c.Of {
		case "records":
			n = len(f.Records)
		case "parts":
			n = len(parts)
		default:
			for _, p := range parts {
				if p.kind == c.Of {
					n++
				}
			}
		}
		said := scalar(c.At, is.node)
		if v, err := order.ParseNumber(said); err != nil || v.Cmp(order.NumberOf(int64(n))) != 0 {
			return fmt.Sprintf("Its %s says that there are %q %s; there are %d.", e.Kind, said, c.Of, n)
		}
	}
	for _, c := range e.Sums {
		sum := order.NumberOf(0)
		for _, r := range f.Records {
			for _, n := range c.Over.All(r.Node) {
				v, err := order.ParseNumber(n.Text)
				if err == nil {
					sum, err = sum.Add(v)
				}
				if err != nil {
					return fmt.Sprintf("%q at %s is no number.", n.Text, c.Over)
				}
			}
		}
		said := scalar(c.At, is.node)
		if v, err := order.ParseNumber(said); err != nil || v.Cmp(sum) != 0 {
			return fmt.Sprintf("Its %s says that %s adds up to %q; it adds up to %s.", e.Kind, c.Over, said, sum)
		}
	}
	return ""
}

// parts splits a file; whole says that its last part is complete.
func (f *Files) parts(b []byte) (all []part, whole bool, err error) {
	b = []byte(strings.TrimPrefix(string(b), "\ufeff"))
	if !utf8.Valid(b) {
		return nil, false, &AnswerError{"", "is not text in UTF-8"}
	}
	if f.Segments == nil {
		return f.lines(b)
	}
	segments, whole := f.Segments.cut(string(b))
	for _, s := range segments {
		raw, err := json.Marshal(s)
		if err != nil {
			return nil, false, &AnswerError{"", err.Error()}
		}
		node, _, err := jsondoc.Parse(raw, 1)
		if err != nil {
			return nil, false, &AnswerError{"", err.Error()}
		}
		all = append(all, part{f.kind(node), raw, node})
	}
	return all, whole, nil
}

var firstElement = jsondoc.MustPath("$[0]")

// kind is the kind of a part: as many of the values that tell it as make one that is named,
// or the first.
func (f *Files) kind(n *tree.Node) string {
	all := make([]string, len(f.Kind))
	for i, p := range f.Kind {
		all[i] = strings.TrimSpace(scalar(p, n))
	}
	for ; len(all) > 1; all = all[:len(all)-1] {
		if name := strings.Join(all, " "); f.names(name) {
			return name
		}
	}
	return all[0]
}

// names reports whether a kind is one of those that are named.
func (f *Files) names(kind string) bool {
	if slices.Contains(f.Begins, kind) || slices.Contains(f.Groups, kind) {
		return true
	}
	return slices.ContainsFunc([]*End{f.Head, f.Tail}, func(e *End) bool {
		return e != nil && (e.Kind == kind || slices.ContainsFunc(e.Counts, func(c Check) bool { return c.Of == kind }))
	})
}

// lines splits a file into lines of JSON; the last may still be growing.
func (f *Files) lines(b []byte) (all []part, whole bool, err error) {
	lines := strings.Split(string(b), "\n")
	for i, line := range lines {
		if strings.TrimSpace(line) == "" {
			continue
		}
		node, _, err := jsondoc.Parse([]byte(line), i+1)
		if err != nil || node == nil {
			if i == len(lines)-1 {
				return all, false, nil
			}
			return nil, false, &AnswerError{fmt.Sprintf("line %d", i+1), "is not JSON"}
		}
		all = append(all, part{f.kind(node), json.RawMessage(strings.TrimSpace(line)), node})
	}
	return all, true, nil
}

// Fill writes the answer to a file: its name and its text.
func (a *FileAnswer) Fill(id, state string, records int, why string) (name, text string) {
	word := a.Words[state]
	if word == "" {
		word = state
	}
	plain := func(s string) string { // an id may not lead out of the folder
		return strings.Map(func(c rune) rune {
			if c == '/' || c == '\\' || c == 0 {
				return '_'
			}
			return c
		}, s)
	}
	value := func(s string) string { // a separator in it is none
		if text, ok := a.segments.escape(s); ok {
			return text
		}
		return strings.Map(func(c rune) rune {
			if _, ok := a.segments.escape(string(c)); !ok {
				return ' '
			}
			return c
		}, s)
	}
	fill := strings.NewReplacer("{id}", value(id), "{word}", word, "{records}", strconv.Itoa(records), "{why}",
		value(why), `\n`,
		"\n")
	return strings.ReplaceAll(a.Name, "{id}", plain(id)), fill.Replace(a.Text)
}
