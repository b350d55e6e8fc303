package origin

import (
	"cmp"
	"encoding/json"
	"maps"
	"slices"
	"strconv"
	"strings"
)

// Trace says where in a document each value of an order stands. What is the same for all lines is stored once: a
// column, or the path from the line's record to the value. Lines are counted from 1; line 0 is the header.
type Trace struct {
	Sheet    string            `json:"sheet,omitempty"`
	Header   []Cell            `json:"header,omitempty"`
	Columns  map[string]int    `json:"columns,omitempty" doc:"Column of each field of the lines, counted from 1"`
	Rows     []int             `json:"rows,omitempty" doc:"Row of each line; 0 where the document does not have it"`
	Lines    []int             `json:"lines,omitempty" doc:"NDJSON: the document's line of each line's record"`
	Records  []string          `json:"records,omitempty" doc:"JSON: pointer of each line's record. X12: its segment"`
	Paths    map[string]string `json:"paths,omitempty" doc:"JSON: pointer of each field within its line's record. X12: its element"`
	Cells    []Cell            `json:"cells,omitempty" doc:"Values of lines that stand elsewhere"`
	Segments bool              `json:"segments,omitempty" doc:"The document is X12"`

	sorted int  // how many cells were looked at
	rising bool // and whether their lines rise
}

// Cell is where one value stands. What is the same for the whole trace (the sheet, the segment of the line) may be left
// out.
type Cell struct {
	Line    int    `json:"line,omitempty"`
	Field   string `json:"field"`
	Sheet   string `json:"sheet,omitempty"`
	Row     int    `json:"row,omitempty"`
	Column  int    `json:"column,omitempty"`
	Pointer string `json:"pointer,omitempty"`
	Segment string `json:"segment,omitempty"`
	Element string `json:"element,omitempty"`
	In      int    `json:"in,omitempty" doc:"NDJSON: the document's line"`
}

func (t *Trace) cell(line int, field string, p Place) Cell {
	if p.Sheet == t.Sheet {
		p.Sheet = ""
	}
	return Cell{line, field, p.Sheet, p.Row, p.Column, p.Pointer, p.Segment, p.Element, p.Line}
}

// Add notes where a value of the header stands.
func (t *Trace) Add(field string, p Place) { t.Header = append(t.Header, t.cell(0, field, p)) }

// AddCell notes where one value of a line stands that does not stand where the others of its field do.
func (t *Trace) AddCell(line int, field string, p Place) {
	t.Cells = append(t.Cells, t.cell(line, field, p))
}

// Place is where a field of the header (line 0) or of a line stands; the zero Place if the document does not contain
// it.
func (t *Trace) Place(line int, field string) Place {
	cells := t.Header
	if line > 0 {
		cells = t.cellsOf(line)
	}
	for i := range cells {
		if cells[i].Line == line && cells[i].Field == field {
			return t.whole(&cells[i])
		}
	}
	if line == 0 || line > len(t.Rows) || t.Rows[line-1] == 0 {
		return Place{}
	}
	if path, ok := t.Paths[field]; ok && line <= len(t.Records) {
		p := t.Line(line)
		if t.Segments {
			p.Element = path
			p.Column = columnOf(path)
		} else {
			p.Pointer += path
		}
		return p
	}
	if c := t.Columns[field]; c > 0 {
		return Place{Sheet: t.Sheet, Row: t.Rows[line-1], Column: c}
	}
	return Place{}
}

// cellsOf returns the cells among which those of a line are: nearly always they stand in the order of the lines.
func (t *Trace) cellsOf(line int) []Cell {
	if len(t.Cells) < 64 {
		return t.Cells
	}
	if t.sorted != len(t.Cells) {
		t.sorted, t.rising = len(t.Cells), slices.IsSortedFunc(t.Cells, func(a, b Cell) int { return a.Line - b.Line })
	}
	if !t.rising {
		return t.Cells
	}
	from, _ := slices.BinarySearchFunc(t.Cells, line, func(c Cell, line int) int { return c.Line - line })
	to := from
	for to < len(t.Cells) && t.Cells[to].Line == line {
		to++
	}
	return t.Cells[from:to]
}

// whole completes a cell's place with what is the same for the whole trace.
func (t *Trace) whole(c *Cell) Place {
	if c.Row == 0 {
		return Place{} // it was dropped
	}
	p := Place{Sheet: c.Sheet, Row: c.Row, Column: c.Column, Pointer: c.Pointer, Segment: c.Segment, Element: c.Element,
		Line: c.In}
	if p.Sheet == "" {
		p.Sheet = t.Sheet
	}
	if p.Element != "" && p.Segment == "" && c.Line > 0 && c.Line <= len(t.Records) {
		p.Segment = t.Records[c.Line-1]
	}
	return p
}

// columnOf is the column of an element in the table of an interchange's segments. The segment's id stands in the first
// column.
func columnOf(element string) int {
	n := 0
	for i := 0; i < len(element) && element[i] >= '0' && element[i] <= '9'; i++ {
		n = n*10 + int(element[i]-'0')
	}
	return n + 1
}

// Line is where a line's record stands; the zero Place for line 0 and unknown lines.
func (t *Trace) Line(line int) Place {
	switch {
	case line < 1 || line > len(t.Rows) || t.Rows[line-1] == 0:
		return Place{}
	case line > len(t.Records):
		return Place{Sheet: t.Sheet, Row: t.Rows[line-1]}
	case t.Segments:
		return Place{Row: t.Rows[line-1], Segment: t.Records[line-1]}
	case line <= len(t.Lines):
		return Place{Row: t.Rows[line-1], Column: 3, Line: t.Lines[line-1], Pointer: t.Records[line-1]}
	}
	return Place{Row: t.Rows[line-1], Column: 2, Pointer: t.Records[line-1]}
}

// Find is the place of a value, or else of its line; the zero Place if the document contains neither.
func (t *Trace) Find(line int, field string) Place {
	if p := t.Place(line, field); p != (Place{}) {
		return p
	}
	return t.Line(line)
}

// Renumber returns the trace with new line numbers: line n becomes to[n-1]; 0 leaves the line out.
func (t *Trace) Renumber(to []int) Trace {
	out := *t
	most, same := 0, len(to) == len(t.Rows)
	for i, n := range to {
		most, same = max(most, n), same && n == i+1
	}
	if same {
		return out
	}
	at := func(line int) int {
		if line < 1 || line > len(to) {
			return 0
		}
		return to[line-1]
	}
	out.Rows, out.Cells, out.sorted = make([]int, most), nil, 0
	if t.Lines != nil {
		out.Lines = make([]int, most)
	}
	if t.Records != nil {
		out.Records = make([]string, most)
	}
	for i := range t.Rows {
		n := at(i + 1)
		if n == 0 {
			continue
		}
		out.Rows[n-1] = t.Rows[i]
		if i < len(t.Lines) {
			out.Lines[n-1] = t.Lines[i]
		}
		if i < len(t.Records) {
			out.Records[n-1] = t.Records[i]
		}
	}
	for _, c := range t.Cells {
		if n := at(c.Line); n > 0 {
			c.Line = n
			out.Cells = append(out.Cells, c)
		}
	}
	return out
}

// Value names a value of the header (line 0) or of a line.
type Value struct {
	Line  int
	Field string
}

// Drop forgets where values stand.
func (t *Trace) Drop(values map[Value]bool) {
	if len(values) == 0 {
		return
	}
	gone := func(c Cell) bool { return values[Value{c.Line, c.Field}] }
	t.Header = slices.DeleteFunc(slices.Clone(t.Header), gone)
	t.Cells = slices.DeleteFunc(slices.Clone(t.Cells), gone)
	for v := range values {
		if v.Line > 0 && (t.Columns[v.Field] > 0 || t.Paths[v.Field] != "") {
			t.Cells = append(t.Cells, Cell{Line: v.Line, Field: v.Field}) // a place of its own: none
		}
	}
	slices.SortStableFunc(t.Cells, func(a, b Cell) int { return cmp.Or(a.Line-b.Line, strings.Compare(a.Field, b.Field)) })
}

// Rename gives fields other names. Fields that are not in header or lines keep theirs; both maps go by the field's
// present name.
func (t *Trace) Rename(header, lines map[string]string) {
	cells := func(all []Cell, names map[string]string) []Cell {
		all = slices.Clone(all)
		for i := range all {
			if to := names[all[i].Field]; to != "" {
				all[i].Field = to
			}
		}
		return all
	}
	t.Header, t.Cells = cells(t.Header, header), cells(t.Cells, lines)
	t.Columns, t.Paths = renamed(t.Columns, lines), renamed(t.Paths, lines)
}

func renamed[V any](was map[string]V, names map[string]string) map[string]V {
	if was == nil {
		return nil
	}
	is := make(map[string]V, len(was))
	for field, v := range was {
		if to := names[field]; to != "" {
			field = to
		}
		is[field] = v
	}
	return is
}

// Located is where a value of an order stands, with the complete place.
type Located struct {
	Line  int    `json:"line,omitempty" doc:"Position of the line, counted from 1; absent is the header"`
	Field string `json:"field,omitempty" doc:"Absent is the line as a whole"`
	Place Place  `json:"place"`
	At    string `json:"at" doc:"The place as a person says it"`
}

// All lists where every value of an order with the given number of lines stands: the header's values first, then line
// by line.
func (t *Trace) All(lines int) []Located {
	all := make([]Located, 0, len(t.Header)+lines*(len(t.Columns)+len(t.Paths)))
	add := func(line int, field string, p Place) {
		if p != (Place{}) {
			all = append(all, Located{line, field, p, p.String()})
		}
	}
	for i := range t.Header {
		add(0, t.Header[i].Field, t.whole(&t.Header[i]))
	}
	own := map[int][]string{}
	for i := range t.Cells {
		own[t.Cells[i].Line] = append(own[t.Cells[i].Line], t.Cells[i].Field)
	}
	usual := append(slices.Sorted(maps.Keys(t.Columns)), slices.Sorted(maps.Keys(t.Paths))...)
	for n := 1; n <= lines; n++ {
		add(n, "", t.Line(n))
		for _, field := range usual {
			if !slices.Contains(own[n], field) {
				add(n, field, t.Place(n, field))
			}
		}
		for _, field := range own[n] {
			add(n, field, t.Place(n, field))
		}
	}
	return all
}

// AppendJSON appends the trace as JSON, exactly as encoding/json would write it. It exists because a load writes one
// trace for each order.
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
	cells := func(all []Cell) {
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
	if key("records", len(t.Records) > 0) {
		b = append(b, '[')
		for i, p := range t.Records {
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
	if key("segments", t.Segments) {
		b = append(b, "true"...)
	}
	return append(b, '}')
}

func (c *Cell) appendJSON(b []byte) []byte {
	b = append(b, '{')
	if c.Line > 0 {
		b = append(strconv.AppendInt(append(b, `"line":`...), int64(c.Line), 10), ',')
	}
	b = appendString(append(b, `"field":`...), c.Field)
	text := func(name, value string) {
		if value != "" {
			b = appendString(append(append(append(b, ',', '"'), name...), '"', ':'), value)
		}
	}
	number := func(name string, value int) {
		if value > 0 {
			b = strconv.AppendInt(append(append(append(b, ',', '"'), name...), '"', ':'), int64(value), 10)
		}
	}
	text("sheet", c.Sheet)
	number("row", c.Row)
	number("column", c.Column)
	text("pointer", c.Pointer)
	text("segment", c.Segment)
	text("element", c.Element)
	number("in", c.In)
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
