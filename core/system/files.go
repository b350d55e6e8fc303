package system

import (
	"encoding/json"
	"fmt"
	names "path"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"koinos/core/grammar"
	"koinos/core/jsondoc"
	"koinos/core/order"
	"koinos/core/tree"
)

// Files is how records of one kind come as files of a folder. A file is a row of parts,
// each of a kind: segments, or lines of JSON. What stands between its head and its tail
// is cut into records.
type Files struct {
	Path       string   // below the system's folder
	Names      string   // pattern, as path.Match has it
	Unfinished []string // endings of names that are never read
	Patience   time.Duration
	After      string    // what becomes of a file that was answered: move, leave or remove
	Segments   *Segments // nil: lines of JSON
	Kind       *jsondoc.Path
	Head, Tail *End // may be nil
	Begins     []string
	Groups     []string
	Answer     *FileAnswer // nil: nobody waits for one
}

// Segments are texts between separators.
type Segments struct {
	End, Element               string
	Component, Release, Quoted string // "" is none
}

// End is the head or tail of a file, with what it says of the file.
type End struct {
	Kind   string
	ID     *jsondoc.Path // within it; may be nil
	Counts []Check
	Sums   []Check
}

// Check is a number that the end of a file says: how many parts of a kind, or records, or
// parts at all there are, or the sum of a value over all records.
type Check struct {
	Of   string        // records, parts or a kind
	Over *jsondoc.Path // within a record
	At   *jsondoc.Path // within the end
}

// FileAnswer is the file with which a file is answered.
type FileAnswer struct {
	Path, Name, Text string
	Words            map[string]string // for taken, repeated and refused
}

// File is what is found in a file.
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
	grammar.May("names", grammar.Some("Names that are read, such as DSP*.txt; left out, every name")),
	grammar.May("unfinished", grammar.Many("Endings of names that are never read, such as .part")),
	grammar.May("patience",
		grammar.Some("How long a file may stay without its end before it is refused, since it grew last; "+
			"left out, 30s")),
	grammar.May("after", grammar.OneOf("What becomes of a file: move (the usual) puts it into taken or refused "+
		"below; leave; "+
		"remove", "move", "leave", "remove")),
	grammar.May("segments", segmenting),
	grammar.May("kind", grammar.Some("Where a line of JSON has its kind: path. A segment's kind is its first element")),
	grammar.May("head", ending("The part at the beginning of a file")),
	grammar.May("tail", ending("The part at the end of a file: one without it is not complete")),
	grammar.Must("begins", grammar.Many("The kinds of part with which a record begins")),
	grammar.May("groups",
		grammar.Many("The kinds of part that begin a group within a record, such as a line with what belongs "+
			"to it")),
	grammar.May("answer", grammar.Group("The file that answers one, once at each appearance",
		grammar.Must("path", grammar.Some("Folder below the system's")),
		grammar.Must("name", grammar.Some("Its name, with {id} in it")),
		grammar.Must("text", grammar.Some("What stands in it, with {id}, {word}, {records} and {why}")),
		grammar.May("words", named("What {word} is, by what became of the file: taken, repeated, refused", "Word")))))

// files reads the words about files; separators that are no single character are mistakes.
func (b *builder) files(n *grammar.Node) *Files {
	if n == nil {
		return nil
	}
	f := &Files{Path: n.Str("path"), Names: n.Str("names"), Unfinished: n.Strs("unfinished"), After: n.Str("after"),
		Patience: b.duration(n.Get("patience"), 30*time.Second), Kind: b.path(n.Get("kind")), Begins: n.Strs("begins"),
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
		if f.Kind != nil {
			b.wrong(n.Get("kind"), "a segment's kind is its first element; kind is for lines of JSON.")
		}
	} else if f.Kind == nil {
		b.wrong(n.Get("path"), "say segments: with its separators, or kind: where a line of JSON has its kind.")
	}
	if a := n.Get("answer"); a != nil {
		f.Answer = &FileAnswer{a.Str("path"), a.Str("name"), a.Str("text"), texts(a.Get("words"))}
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

// Reads reports whether a name is one of these files, and finished.
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

// cut cuts what stands between the ends of a file into records; wrong is why it cannot.
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

// wrong says which number of an end does not fit the file; "" is that all do.
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

// parts cuts a file; whole says that its last part is.
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
		kind, _ := s[0].(string)
		all = append(all, part{strings.TrimSpace(kind), raw, node})
	}
	return all, whole, nil
}

// lines cuts a file of lines of JSON; the last may still be growing.
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
		all = append(all, part{scalar(f.Kind, node), json.RawMessage(strings.TrimSpace(line)), node})
	}
	return all, true, nil
}

// cut cuts a text into segments: each a list of elements, one with components is a list.
func (s *Segments) cut(text string) (all [][]any, whole bool) {
	end, element := one(s.End), one(s.Element)
	component, release, quoted := one(s.Component), one(s.Release), one(s.Quoted)
	var segment, parts []any
	var b strings.Builder
	begun, inQuotes := false, false
	finish := func() {
		v := b.String()
		b.Reset()
		if parts != nil {
			segment = append(segment, append(parts, v))
			parts = nil
			return
		}
		segment = append(segment, v)
	}
	runes := []rune(text)
	for i := 0; i < len(runes); i++ {
		c := runes[i]
		switch {
		case inQuotes && c == quoted && i+1 < len(runes) && runes[i+1] == quoted:
			b.WriteRune(c)
			i++
		case inQuotes && c == quoted:
			inQuotes = false
		case inQuotes:
			b.WriteRune(c)
		case release != 0 && c == release && i+1 < len(runes):
			i++
			b.WriteRune(runes[i])
			begun = true
		case quoted != 0 && c == quoted && b.Len() == 0:
			inQuotes, begun = true, true
		case c == '\r' && end == '\n' && i+1 < len(runes) && runes[i+1] == end:
		case c == end:
			if finish(); begun {
				all = append(all, segment)
			}
			segment, begun = nil, false
		case c == element:
			finish()
			begun = true
		case component != 0 && c == component:
			if parts == nil {
				parts = []any{}
			}
			parts = append(parts, b.String())
			b.Reset()
			begun = true
		case !begun && (c == '\n' || c == '\r' || c == ' ' || c == '\t'): // between segments
		default:
			b.WriteRune(c)
			begun = true
		}
	}
	return all, !begun && !inQuotes
}

func one(s string) rune {
	for _, c := range s {
		return c
	}
	return 0
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
	fill := strings.NewReplacer("{id}", id, "{word}", word, "{records}", strconv.Itoa(records), "{why}", why, `\n`,
		"\n")
	return strings.ReplaceAll(a.Name, "{id}", plain(id)), fill.Replace(a.Text)
}
