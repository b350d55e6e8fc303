package source

import (
	"bufio"
	"bytes"
	"errors"
	"io"
	"strconv"

	"github.com/go-json-experiment/json/jsontext"

	"koinos/core/finding"
	"koinos/core/jsondoc"
	"koinos/core/origin"
	"koinos/core/tree"
)

// mostRecord is how many bytes one value of a JSON document, or one line of NDJSON, may have, because it is kept in
// memory.
const mostRecord = 64 << 20

var wholeValue, eachElement = mustPath("$"), mustPath("$[*]")

func mustPath(s string) *jsondoc.Path {
	p, err := jsondoc.ParsePath(s)
	if err != nil {
		panic(err)
	}
	return p
}

// sniffJSON distinguishes JSON, NDJSON and other text.
func sniffJSON(text []byte, complete bool) Format {
	text = bytes.TrimLeft(text, " \t\r\n")
	if len(text) < 2 || text[0] != '{' && text[0] != '[' {
		return ""
	}
	if next := bytes.TrimLeft(text[1:], " \t\r\n"); len(next) > 0 {
		if text[0] == '{' && next[0] != '"' && next[0] != '}' || text[0] == '[' &&
			bytes.IndexByte([]byte("{[\"]-0123456789tfn"), next[0]) < 0 {
			return ""
		}
	}
	first, rest, more := bytes.Cut(text, []byte("\n"))
	if _, _, err := jsondoc.Parse(first, 0); err == nil && more && len(bytes.TrimSpace(rest)) > 0 {
		return NDJSON
	}
	if text[0] == '[' && !complete {
		// A CSV can begin with a bracket, but does not continue as JSON does.
		d := jsontext.NewDecoder(bytes.NewReader(text), jsontext.AllowDuplicateNames(true))
		for range 50 {
			if _, err := d.ReadToken(); err != nil && err != io.EOF && !errors.Is(err, io.ErrUnexpectedEOF) {
				return ""
			}
		}
	}
	return JSON
}

// jsonReader returns the values of a JSON document that a path chooses.
type jsonReader struct {
	stream *jsondoc.Stream
	read   int64
	size   int64
	rows   int
	limits Limits
	ended  bool
	leaf   int // the last value that was read
}

func openJSON(r io.ReaderAt, size int64, shape Shape, opt Options) (Reader, error) {
	path := wholeValue
	if len(opt.Records) > 0 {
		path = opt.Records[0]
	} else {
		first, _ := bufio.NewReader(shape.decode(io.NewSectionReader(r, 0, size))).Peek(64)
		if bytes.HasPrefix(bytes.TrimLeft(first, " \t\r\n"), []byte("[")) {
			path = eachElement
		}
	}
	stream := func(n *int64) *jsondoc.Stream {
		return jsondoc.NewStream(shape.decode(&counter{io.NewSectionReader(r, 0, size), n}), path, mostRecord,
			opt.Around)
	}
	j := &jsonReader{size: size, limits: opt.Limits}
	j.stream = stream(&j.read)
	if opt.Around {
		// What stands behind the records is needed together with the first of them.
		var n int64
		around, err := stream(&n).Skeleton(mostAround)
		switch {
		case errors.Is(err, jsondoc.ErrTooLarge):
			return nil, tooLarge(origin.Place{}, "The document holds too much around its records to be kept.")
		case err == nil:
			j.stream.Outside(around)
		}
	}
	return j, nil
}

// mostAround is how many values a document may have around its records.
const mostAround = 1_000_000

func (j *jsonReader) Offset() float64 { return share(j.read, j.size) }

func share(read, size int64) float64 {
	if size == 0 {
		return 1
	}
	return min(1, float64(read)/float64(size))
}

func (j *jsonReader) Next() (Record, error) {
	if j.ended {
		return Record{}, io.EOF
	}
	v, err := j.stream.Next()
	var syntax *jsondoc.SyntaxError
	switch {
	case err == io.EOF:
		return Record{}, io.EOF
	case errors.Is(err, jsondoc.ErrTooLarge):
		return Record{}, tooLarge(origin.Place{},
			"One value of the document is longer than %d MiB and cannot be held; name the path of the orders within it.",
			mostRecord>>20)
	case errors.Is(err, jsondoc.ErrBehind):
		j.ended = true
		return Record{}, finding.Fatal(finding.TextBehind, origin.Place{Row: j.leaf + 1},
			"Something stands behind the end of the JSON value, from byte %d on; it was not read.", j.stream.Offset())
	case errors.As(err, &syntax):
		return Record{}, finding.Fatal(finding.DocumentBroken, origin.Place{Row: j.leaf + 1, Pointer: syntax.Pointer},
			"The document stops being JSON: %v. What stands behind was not read.", err)
	case err != nil:
		return Record{}, finding.Fatal(finding.DocumentBroken, origin.Place{}, "The document cannot be read: %v.", err)
	}
	if j.rows++; j.limits.Rows > 0 && j.rows > j.limits.Rows {
		return Record{}, tooLarge(origin.Place{}, "The document has more than %d records.", j.limits.Rows)
	}
	rec := Record{Row: v.Leaf, Last: v.LastLeaf(), Node: v.Node}
	j.leaf = rec.Last
	rec.odd(v.Odd)
	return rec, nil
}

// odd notes what cannot be used as it is.
func (r *Record) odd(all []jsondoc.Odd) {
	for _, o := range all {
		at := PlaceOf(o.Node, r.Line)
		if o.Twice {
			r.Findings = append(r.Findings, finding.New(finding.NameTwice, at, o.Node.Text,
				"The name %q stands twice in this object.", o.Node.Name))
			continue
		}
		r.Findings = append(r.Findings, finding.New(finding.CharacterInvalid, at, o.Node.Text,
			"%s is no character: what stood there is lost.", o.Lost))
	}
}

// ndjsonReader returns what a path chooses in each line.
type ndjsonReader struct {
	r      *bufio.Reader
	path   *jsondoc.Path
	line   int
	leaf   int
	raw    []byte
	parser jsondoc.Parser
	ready  []Record
	read   int64
	size   int64
	limits Limits
}

func openNDJSON(r io.ReaderAt, size int64, shape Shape, opt Options) Reader {
	n := &ndjsonReader{path: wholeValue, size: size, limits: opt.Limits}
	if len(opt.Records) > 0 {
		n.path = opt.Records[0]
	}
	n.r = bufio.NewReaderSize(shape.decode(&counter{io.NewSectionReader(r, 0, size), &n.read}), 128<<10)
	return n
}

func (n *ndjsonReader) Offset() float64 { return share(n.read, n.size) }

// next reads a line that is not blank into raw.
func (n *ndjsonReader) next() error {
	for {
		n.raw = n.raw[:0]
		var err error
		for {
			var part []byte
			part, err = n.r.ReadSlice('\n')
			n.raw = append(n.raw, part...)
			if len(n.raw) > mostRecord {
				return tooLarge(origin.Place{Line: n.line + 1}, "Line %d is longer than %d MiB.", n.line+1,
					mostRecord>>20)
			}
			if err != bufio.ErrBufferFull {
				break
			}
		}
		if err != nil && err != io.EOF {
			return finding.Fatal(finding.DocumentBroken, origin.Place{Line: n.line + 1},
				"Reading stopped at line %d: %v.", n.line+1, err)
		}
		if len(n.raw) > 0 {
			n.line++
		}
		if len(bytes.TrimSpace(n.raw)) > 0 {
			return nil
		}
		if err == io.EOF {
			return io.EOF
		}
	}
}

func (n *ndjsonReader) Next() (Record, error) {
	for len(n.ready) == 0 {
		if err := n.next(); err != nil {
			return Record{}, err
		}
		if n.limits.Rows > 0 && n.line > n.limits.Rows {
			return Record{}, tooLarge(origin.Place{Line: n.line}, "The document has more than %d lines.", n.limits.Rows)
		}
		root, odd, err := n.parser.Parse(n.raw, n.leaf)
		if err != nil {
			n.leaf++
			at := origin.Place{Row: n.leaf, Line: n.line}
			return Record{Row: n.leaf, Last: n.leaf, Line: n.line, Broken: true, Findings: []finding.Finding{
				finding.New(finding.RecordBroken, at, string(bytes.TrimSpace(n.raw)),
					"Line %d is not JSON: %v, at byte %d.", n.line, err, offset(err))}}, nil
		}
		n.leaf = root.LastLeaf()
		for _, v := range n.path.All(root) {
			n.ready = append(n.ready, Record{Row: v.Leaf, Last: v.LastLeaf(), Line: n.line, Node: v})
		}
		if len(n.ready) > 0 {
			n.ready[0].odd(odd)
		}
	}
	rec := n.ready[0]
	n.ready = n.ready[1:]
	return rec, nil
}

// partsReader returns the values of several paths, for each of which it reads the document once.
type partsReader struct {
	open []func() (Reader, error)
	part int
	now  Reader // of the part, counted from 1
	name Format
}

func openParts(r io.ReaderAt, size int64, shape Shape, opt Options) Reader {
	p := &partsReader{name: shape.Format}
	for _, path := range opt.Records {
		one := opt
		one.Records = []*jsondoc.Path{path}
		p.open = append(p.open, func() (Reader, error) {
			if shape.Format == NDJSON {
				return openNDJSON(r, size, shape, one), nil
			}
			return openJSON(r, size, shape, one)
		})
	}
	return p
}

func (p *partsReader) Offset() float64 {
	if p.now == nil {
		return 0
	}
	return (float64(p.part-1) + p.now.Offset()) / float64(len(p.open))
}

func (p *partsReader) Next() (Record, error) {
	for {
		if p.now == nil {
			var err error
			if p.now, err = p.open[p.part](); err != nil {
				return Record{}, err
			}
			p.part++
		}
		rec, err := p.now.Next()
		switch {
		case err == io.EOF && p.part < len(p.open):
			p.now = nil
			continue
		case err != nil:
			return rec, err
		case p.name == NDJSON && p.part > 1: // what is wrong with a line was said when it was read first
			if rec.Broken {
				continue
			}
			rec.Findings = nil
		}
		rec.Part = p.part
		return rec, nil
	}
}

// PlaceOf is the place of a JSON value, for NDJSON within a line. Row and column are those of the table that
// Options.Leaves produces.
func PlaceOf(n *tree.Node, line int) origin.Place {
	if n.Kind == tree.Segment {
		return origin.Place{Row: n.Leaf, Segment: n.Pointer()}
	}
	if n.InSegment() {
		p := ElementOf(n)
		p.Segment = n.Parent.Pointer()
		return p
	}
	p := origin.Place{Row: n.Leaf, Column: 2, Line: line, Pointer: n.Pointer()}
	if line > 0 {
		p.Column = 3
	}
	return p
}

// ElementOf is the place of an element of X12 within its segment. Row and column are those of the table that
// Options.Leaves produces: a row for each segment, with its id and then its elements.
func ElementOf(n *tree.Node) origin.Place {
	return origin.Place{Row: n.Leaf, Column: n.Index + 1, Element: n.Name}
}

func offset(err error) int {
	var syntax *jsondoc.SyntaxError
	if errors.As(err, &syntax) {
		return syntax.Offset
	}
	return 0
}

// leafReader returns a JSON document as a table for people: a row for each value, with its pointer and its text; for
// NDJSON the line before them.
type leafReader struct {
	dec   *jsontext.Decoder
	lines *ndjsonReader
	ready []Record
	row   int
	read  int64
	size  int64
}

func openLeaves(r io.ReaderAt, size int64, shape Shape, opt Options) Reader {
	l := &leafReader{size: size}
	if shape.Format == NDJSON {
		opt.Records = nil
		l.lines = openNDJSON(r, size, shape, opt).(*ndjsonReader)
		return l
	}
	l.dec = jsontext.NewDecoder(shape.decode(&counter{io.NewSectionReader(r, 0, size), &l.read}),
		jsontext.AllowDuplicateNames(true), jsontext.AllowInvalidUTF8(true))
	return l
}

func (l *leafReader) Offset() float64 {
	if l.lines != nil {
		return l.lines.Offset()
	}
	return share(l.read, l.size)
}

func (l *leafReader) Next() (Record, error) {
	if l.lines != nil {
		return l.nextOfLine()
	}
	for {
		t, err := l.dec.ReadToken()
		if err == io.EOF {
			return Record{}, io.EOF
		}
		if err != nil {
			return Record{}, finding.Fatal(finding.DocumentBroken, origin.Place{}, "The document stops being JSON: %v.",
				err)
		}
		if kind, length := l.dec.StackIndex(l.dec.StackDepth()); kind == '{' && length%2 == 1 && t.Kind() == '"' {
			continue // a name
		}
		text := ""
		switch t.Kind() {
		case '}', ']':
			continue
		case '{', '[':
			if k := l.dec.PeekKind(); k != '}' && k != ']' {
				continue
			}
		case '"':
			text = t.String()
		case 'n':
		default:
			text = t.String()
		}
		l.row++
		return Record{Row: l.row, Cells: []Cell{{Text: string(l.dec.StackPointer())}, {Text: text}}}, nil
	}
}

func (l *leafReader) nextOfLine() (Record, error) {
	for len(l.ready) == 0 {
		rec, err := l.lines.Next()
		if err != nil {
			return Record{}, err
		}
		line := Cell{Text: strconv.Itoa(rec.Line)}
		if rec.Broken {
			return Record{Row: rec.Row, Cells: []Cell{line, {}, {Text: rec.Findings[0].Value}}}, nil
		}
		rec.Node.Leaves(func(n *tree.Node) {
			l.ready = append(l.ready, Record{Row: n.Leaf, Cells: []Cell{line, {Text: n.Pointer()}, {Text: n.Text}}})
		})
	}
	rec := l.ready[0]
	l.ready = l.ready[1:]
	return rec, nil
}
