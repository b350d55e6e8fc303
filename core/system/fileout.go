package system

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	names "path"
	"regexp"
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

// FileOut is how a record is written as a file of a folder: texts with values in braces, one after the other.
type FileOut struct {
	Path, Name string // folder below the system's; the name, with {id} in it
	Segments   *Segments
	Head       string
	Record     string
	Line       string
	Tail       string
	Answer     *FileReply // nil: nobody answers
	Once       bool       // a record is written once; else at each change
	Orders     int        // how many may stand in one file
}

// FileReply is how the file is read with which the system answers one of ours.
type FileReply struct {
	Path, Names   string
	ID, Word, Why *jsondoc.Path // within its first segment, a list, or its first line of JSON
	Taken         []string      // the words that say that ours was taken
	Within        time.Duration // after which it is shown that there is none
}

var fileOut = grammar.Group("The record is a file in a folder, in place of create",
	grammar.Must("path", grammar.Some("Folder below the system's")),
	grammar.Must("name", grammar.Some("Its name, with {id} in it: that follows from what the file says")),
	grammar.May("segments", segmenting),
	grammar.May("head", grammar.Some("How it begins, with {id}, {today}, {now}, and values of the record such as {$.ref}")),
	grammar.Must("record", grammar.Some("What stands in it of the record, likewise")),
	grammar.May("line", grammar.Some("What stands in it of each line, with values of the line such as {$.qty}")),
	grammar.May("tail", grammar.Some("How it ends: also {records}, {lines}, {parts} (segments in all) and {sum "+
		"$.qty} (over the lines)")),
	grammar.May("orders", grammar.Whole("How many records may stand in one file; by default each has its own")),
	grammar.May("once", &grammar.Shape{Kind: grammar.Boolean,
		About: "true: a record is written once, whatever changes later"}),
	grammar.May("answer", grammar.Group("The file with which the system answers",
		grammar.Must("path", grammar.Some("Folder below the system's")),
		grammar.Must("names", grammar.Some("Names that are read, such as PAK*.txt")),
		grammar.Must("id", grammar.Some("Where it has the id of ours: path within its first segment, a list, or its "+
			"first line of JSON")),
		grammar.Must("word", grammar.Some("Where it says what became of ours: path likewise")),
		grammar.Must("taken", grammar.Many("The words that say that it was taken; others refuse it")),
		grammar.May("why", grammar.Some("Where it says why not: path likewise")),
		grammar.May("within", grammar.Some("After which time it is shown that no answer has come; by default 1h")))))

func (b *builder) fileOut(n *grammar.Node) *FileOut {
	if n == nil {
		return nil
	}
	f := &FileOut{Path: n.Str("path"), Name: n.Str("name"), Segments: b.segments(n.Get("segments")),
		Head:   n.Str("head"),
		Record: n.Str("record"), Line: n.Str("line"), Tail: n.Str("tail"), Once: n.Str("once") == "true",
		Orders: max(1, n.Number("orders"))}
	b.folder(n.Get("path"))
	if f.Segments != nil && f.Segments.Told != nil {
		b.wrong(n.Get("segments"), "a file that is written has the separators that are said here: leave told out.")
	}
	if !strings.Contains(f.Name, "{id}") || strings.Contains(f.Name, "/") {
		b.wrong(n.Get("name"), "the name of a file needs {id}, and no folder.")
	}
	for _, word := range []string{"head", "record", "line", "tail"} {
		v := n.Get(word)
		if v == nil {
			continue
		}
		for _, m := range hole.FindAllStringSubmatch(v.Text, -1) {
			path := strings.TrimSpace(strings.TrimPrefix(m[1], "sum "))
			if strings.HasPrefix(path, "$") {
				if _, err := jsondoc.ParsePath(path); err != nil {
					b.wrong(v, "{%s} has no path in it: %v.", m[1], err)
				}
			} else if m[1] == "parts" && f.Segments == nil {
				b.wrong(v, "{parts} counts segments: say segments.")
			} else if !slices.Contains([]string{"id", "today", "now", "records", "lines", "parts"}, m[1]) {
				b.wrong(v, "{%s} is nothing that can stand here: id, today, now, records, lines, parts, a path, or "+
					"sum and a path.", m[1])
			}
		}
	}
	if a := n.Get("answer"); a != nil {
		f.Answer = &FileReply{Path: a.Str("path"), Names: a.Str("names"), ID: b.path(a.Get("id")),
			Word: b.path(a.Get("word")),
			Why:  b.path(a.Get("why")), Taken: a.Strs("taken"), Within: b.duration(a.Get("within"), time.Hour)}
		b.folder(a.Get("path"))
		if _, err := names.Match(f.Answer.Names, "x"); err != nil || strings.Contains(f.Answer.Names, "/") {
			b.wrong(a.Get("names"), "%q is no pattern of names such as PAK*.txt.", f.Answer.Names)
		}
	}
	return f
}

// hole is a place in a text where a value goes.
var hole = regexp.MustCompile(`\{([^{}]*)\}`)

// Named is the name of the file with an id.
func (f *FileOut) Named(id string) string { return strings.ReplaceAll(f.Name, "{id}", id) }

// ID is the id of the file with a name; ok is false if it is not one of ours.
func (f *FileOut) ID(name string) (id string, ok bool) {
	before, behind, _ := strings.Cut(f.Name, "{id}")
	id, ok = strings.CutPrefix(name, before)
	if !ok || len(id) < idDigits {
		return "", false
	}
	id = id[:idDigits]
	return id, f.Named(id) == name && before+id+strings.ReplaceAll(behind, "{id}", id) == name
}

// idDigits is how long ids of files are.
const idDigits = 12

// FileRecord is a record that is written into a file, with its lines. The occasion distinguishes records with the same
// content.
type FileRecord struct {
	Record   *tree.Node
	Lines    []*tree.Node
	Occasion string
}

// Text writes records as a file, with its id: twelve hexadecimal digits that depend on its content and on the
// occasions. What the head and the tail say about a record, they say about the first. The error says, in a sentence,
// which value cannot be in the file.
func (f *FileOut) Text(records []FileRecord, now time.Time) (id, text string, err error) {
	sum := sha256.New()
	w := &fileWriter{f: f}
	for i := range records {
		sum.Write(records[i].Record.AppendJSON(nil))
		for _, l := range records[i].Lines {
			sum.Write(l.AppendJSON(nil))
		}
		sum.Write([]byte(records[i].Occasion))
		w.lines = append(w.lines, records[i].Lines...)
	}
	id = strings.ToUpper(hex.EncodeToString(sum.Sum(nil)[:idDigits/2]))
	w.values = map[string]string{"id": id, "today": now.UTC().Format("20060102"), "now": now.UTC().Format(time.RFC3339),
		"lines": strconv.Itoa(len(w.lines)), "records": strconv.Itoa(len(records))}
	first := records[0].Record
	var body strings.Builder
	body.WriteString(w.fill(f.Head, first))
	for i := range records {
		body.WriteString(w.fill(f.Record, records[i].Record))
		for _, l := range records[i].Lines {
			body.WriteString(w.fill(f.Line, l))
		}
	}
	if f.Segments != nil {
		whole, _ := f.Segments.cut(body.String())
		tail, _ := f.Segments.cut(w.fill(f.Tail, first))
		w.values["parts"] = strconv.Itoa(len(whole) + len(tail))
	}
	body.WriteString(w.fill(f.Tail, first))
	return id, body.String(), w.err
}

// fileWriter fills in the texts of one file.
type fileWriter struct {
	f      *FileOut
	lines  []*tree.Node
	values map[string]string
	err    error // the first
}

func (w *fileWriter) wrong(format string, args ...any) string {
	if w.err == nil {
		w.err = fmt.Errorf(format, args...)
	}
	return ""
}

// fill puts values into a text.
func (w *fileWriter) fill(text string, at *tree.Node) string {
	text = strings.NewReplacer(`\n`, "\n", `\t`, "\t").Replace(text)
	return hole.ReplaceAllStringFunc(text, func(m string) string {
		name := m[1 : len(m)-1]
		if v, ok := w.values[name]; ok {
			return v
		}
		path, sum := strings.CutPrefix(name, "sum ")
		p, err := jsondoc.ParsePath(strings.TrimSpace(path))
		switch {
		case err != nil: // {parts}, before they are counted
			return ""
		case sum:
			return w.sum(p)
		}
		return w.escaped(p, scalar(p, at))
	})
}

// sum adds up a value of all lines, exactly.
func (w *fileWriter) sum(p *jsondoc.Path) string {
	total := order.NumberOf(0)
	for i, l := range w.lines {
		n, err := order.ParseNumber(scalar(p, l))
		if err == nil {
			total, err = total.Add(n)
		}
		if err != nil {
			return w.wrong("The sum of %s cannot be worked out: on line %d it is %q.", p, i+1, scalar(p, l))
		}
	}
	return total.String()
}

// escaped writes a value so that no separator in it counts as one.
func (w *fileWriter) escaped(p *jsondoc.Path, v string) string {
	text, ok := w.f.Segments.escape(v)
	if !ok {
		c, _ := utf8.DecodeRuneInString(text)
		return w.wrong("%s is %q, and %q cannot stand in the file: say release or quoted in segments.", p, v, string(c))
	}
	return text
}

// Reads reports whether a name is one of the answers.
func (a *FileReply) Reads(name string) bool {
	ok, _ := names.Match(a.Names, name)
	return ok && !strings.HasSuffix(name, ".part") && !strings.HasSuffix(name, ".tmp")
}

// Read reads an answer: which file it is about, whether that was accepted, and what it says. The error is an
// *AnswerError.
func (f *FileOut) Read(b []byte) (id string, taken bool, says string, err error) {
	var root *tree.Node
	if f.Segments != nil {
		all, _ := f.Segments.cut(string(b))
		if len(all) == 0 {
			return "", false, "", &AnswerError{"", "has no segment"}
		}
		var raw []byte
		if raw, err = json.Marshal(all[0]); err == nil {
			root, _, err = jsondoc.Parse(raw, 1)
		}
	} else {
		line, _, _ := strings.Cut(string(b), "\n")
		root, _, err = jsondoc.Parse([]byte(line), 1)
	}
	if err != nil || root == nil {
		return "", false, "", &AnswerError{"", "is no answer that can be read"}
	}
	word := scalar(f.Answer.Word, root)
	says = strings.TrimSpace(word + " " + scalar(f.Answer.Why, root))
	id = scalar(f.Answer.ID, root)
	if id == "" {
		return "", false, says, &AnswerError{f.Answer.ID.String(), "has no id"}
	}
	return id, slices.Contains(f.Answer.Taken, word), says, nil
}
