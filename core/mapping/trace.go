package mapping

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"koinos/core/finding"
	"koinos/core/source"
)

// Trace says where in the document each value of an order stands. What is the
// same for all lines is said once: a column, or a pointer within the line's
// record.
type Trace struct {
	Sheet    string            `json:"sheet,omitempty"`
	Header   []TraceCell       `json:"header,omitempty"`
	Columns  map[string]int    `json:"columns,omitempty" doc:"Column of each field of the lines, counted from 1"`
	Rows     []int             `json:"rows,omitempty" doc:"Row of each line"`
	Lines    []int             `json:"lines,omitempty" doc:"NDJSON: the document's line of each line's record"`
	Pointers []string          `json:"pointers,omitempty" doc:"JSON: pointer of each line's record"`
	Paths    map[string]string `json:"paths,omitempty" doc:"JSON: pointer of each field within its line's record"`
	Cells    []TraceCell       `json:"cells,omitempty" doc:"Values of lines that stand elsewhere"`
}

// TraceCell is where one value stands.
type TraceCell struct {
	Line    int    `json:"line,omitempty"`
	Field   string `json:"field"`
	Sheet   string `json:"sheet,omitempty" doc:"Where it is another sheet than the order's"`
	Row     int    `json:"row"`
	Column  int    `json:"column"`
	Pointer string `json:"pointer,omitempty" doc:"JSON: where the value stands in the document, or in its line"`
	In      int    `json:"in,omitempty" doc:"NDJSON: the document's line"`
}

func traceCell(line int, field string, p finding.Place, usual string) TraceCell {
	c := TraceCell{Line: line, Field: field, Row: p.Row, Column: p.Column, Pointer: p.Pointer, In: p.Line}
	if p.Sheet != usual {
		c.Sheet = p.Sheet
	}
	return c
}

func (c *TraceCell) place(sheet string) finding.Place {
	if c.Sheet != "" {
		sheet = c.Sheet
	}
	return finding.Place{Sheet: sheet, Row: c.Row, Column: c.Column, Pointer: c.Pointer, Line: c.In}
}

// Place is where a field of the header (line 0) or of a line stands; the zero
// Place where the document does not hold it.
func (t *Trace) Place(line int, field string) finding.Place {
	if line == 0 {
		for i := range t.Header {
			if t.Header[i].Field == field {
				return t.Header[i].place(t.Sheet)
			}
		}
		return finding.Place{}
	}
	for i := range t.Cells {
		if t.Cells[i].Line == line && t.Cells[i].Field == field {
			p := t.Cells[i].place(t.Sheet)
			if p.Pointer == "" && line <= len(t.Pointers) {
				p.Pointer = fmt.Sprintf("%s / %02d", t.Pointers[line-1], p.Column-1)
			}
			return p
		}
	}
	if line > len(t.Rows) {
		return finding.Place{}
	}
	if path, ok := t.Paths[field]; ok && line <= len(t.Pointers) {
		p := t.Line(line)
		p.Pointer += path
		if element, ok := strings.CutPrefix(path, " / "); ok {
			n, _ := strconv.Atoi(element)
			p.Column = n + 1
		}
		return p
	}
	if c := t.Columns[field]; c > 0 {
		return finding.Place{Sheet: t.Sheet, Row: t.Rows[line-1], Column: c}
	}
	return finding.Place{}
}

// Line is where a line's record stands; line 0 and unknown lines have none.
func (t *Trace) Line(line int) finding.Place {
	switch {
	case line < 1 || line > len(t.Rows):
		return finding.Place{}
	case line <= len(t.Lines):
		return finding.Place{Row: t.Rows[line-1], Column: 3, Line: t.Lines[line-1], Pointer: t.Pointers[line-1]}
	case line <= len(t.Pointers) && strings.HasPrefix(t.Pointers[line-1], "ST "):
		return finding.Place{Row: t.Rows[line-1], Pointer: t.Pointers[line-1]}
	case line <= len(t.Pointers):
		return finding.Place{Row: t.Rows[line-1], Column: 2, Pointer: t.Pointers[line-1]}
	}
	return finding.Place{Sheet: t.Sheet, Row: t.Rows[line-1]}
}

func (t *Trace) addLine(r *Row) {
	if r.Node == nil {
		t.Rows = append(t.Rows, r.Row)
		return
	}
	t.Rows = append(t.Rows, r.Node.Leaf)
	t.Pointers = append(t.Pointers, r.Node.Pointer())
	if r.Line > 0 {
		t.Lines = append(t.Lines, r.Line)
	}
}

// traceLine notes where a line's value stands, where it is not where the
// others of its field stand.
func (w *worker) traceLine(b *bound, at where, v view) {
	t := &w.d.Trace
	if at.rec == nil {
		return
	}
	usual := &v.row.Record == at.rec && v.row.Sheet == t.Sheet && t.Rows[w.now-1] == at.rec.Row
	if b.column > 0 && usual && t.Columns[b.Field.Name] == at.column {
		return
	}
	if at.node != nil && b.Of == "" {
		if path, ok := t.Paths[b.Field.Name]; ok && len(b.spots) == 1 && b.spots[0].pointer == path {
			return
		}
	}
	if at.node != nil && at.node.Parent == v.row.Node && at.node.InSegment() {
		// Its pointer goes on from the line's, by the element that its column says.
		t.Cells = append(t.Cells, traceCell(w.now, b.Field.Name, source.SpotOf(at.node), t.Sheet))
		return
	}
	p := at.place()
	if p.Column == 0 && p.Pointer == "" {
		return
	}
	t.Cells = append(t.Cells, traceCell(w.now, b.Field.Name, p, t.Sheet))
}

// AppendJSON appends the trace as JSON, as encoding/json would write it; a
// load writes one for each order.
func (t *Trace) AppendJSON(b []byte) []byte {
	b = append(b, '{')
	first := true
	key := func(name string, filled bool) bool {
		if !filled {
			return false
		}
		if !first {
			b = append(b, ',')
		}
		first = false
		b = append(append(append(b, '"'), name...), '"', ':')
		return true
	}
	if key("sheet", t.Sheet != "") {
		b = appendString(b, t.Sheet)
	}
	cells := func(all []TraceCell) {
		b = append(b, '[')
		for i := range all {
			if i > 0 {
				b = append(b, ',')
			}
			b = all[i].appendJSON(b)
		}
		b = append(b, ']')
	}
	if key("header", len(t.Header) > 0) {
		cells(t.Header)
	}
	if key("columns", len(t.Columns) > 0) {
		b = append(b, '{')
		for i, name := range slices.Sorted(maps.Keys(t.Columns)) {
			if i > 0 {
				b = append(b, ',')
			}
			b = append(appendString(b, name), ':')
			b = strconv.AppendInt(b, int64(t.Columns[name]), 10)
		}
		b = append(b, '}')
	}
	numbers := func(all []int) {
		b = append(b, '[')
		for i, n := range all {
			if i > 0 {
				b = append(b, ',')
			}
			b = strconv.AppendInt(b, int64(n), 10)
		}
		b = append(b, ']')
	}
	if key("rows", len(t.Rows) > 0) {
		numbers(t.Rows)
	}
	if key("lines", len(t.Lines) > 0) {
		numbers(t.Lines)
	}
	if key("pointers", len(t.Pointers) > 0) {
		b = append(b, '[')
		for i, p := range t.Pointers {
			if i > 0 {
				b = append(b, ',')
			}
			b = appendString(b, p)
		}
		b = append(b, ']')
	}
	if key("paths", len(t.Paths) > 0) {
		b = append(b, '{')
		for i, name := range slices.Sorted(maps.Keys(t.Paths)) {
			if i > 0 {
				b = append(b, ',')
			}
			b = append(appendString(b, name), ':')
			b = appendString(b, t.Paths[name])
		}
		b = append(b, '}')
	}
	if key("cells", len(t.Cells) > 0) {
		cells(t.Cells)
	}
	return append(b, '}')
}

func (c *TraceCell) appendJSON(b []byte) []byte {
	b = append(b, '{')
	if c.Line > 0 {
		b = append(strconv.AppendInt(append(b, `"line":`...), int64(c.Line), 10), ',')
	}
	b = appendString(append(b, `"field":`...), c.Field)
	if c.Sheet != "" {
		b = appendString(append(b, `,"sheet":`...), c.Sheet)
	}
	b = strconv.AppendInt(append(b, `,"row":`...), int64(c.Row), 10)
	b = strconv.AppendInt(append(b, `,"column":`...), int64(c.Column), 10)
	if c.Pointer != "" {
		b = appendString(append(b, `,"pointer":`...), c.Pointer)
	}
	if c.In > 0 {
		b = strconv.AppendInt(append(b, `,"in":`...), int64(c.In), 10)
	}
	return append(b, '}')
}

func appendString(b []byte, s string) []byte {
	plain := true
	for i := 0; i < len(s); i++ {
		if c := s[i]; c < ' ' || c >= 0x7f || c == '"' || c == '\\' || c == '<' || c == '>' || c == '&' {
			plain = false
			break
		}
	}
	if plain {
		return append(append(append(b, '"'), s...), '"')
	}
	q, err := json.Marshal(s) // a string never fails
	if err != nil {
		return append(b, '"', '"')
	}
	return append(b, q...)
}
