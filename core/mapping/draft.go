package mapping

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"koinos/core/finding"
	"koinos/core/list"
	"koinos/core/order"
	"koinos/core/source"
)

// Draft is what a mapping made of a group: an order that has yet to be
// checked, what was found on the way, and where its values came from.
type Draft struct {
	Seq      int
	Orphan   bool
	Order    order.Order
	Findings []finding.Finding
	Trace    Trace
	Spans    []Span
	stated   []int // lines whose stated amount is to be compared; 0 is the order's total
}

// Span is a run of rows that belong to one order.
type Span struct {
	Sheet string `json:"sheet,omitempty"`
	First int    `json:"first"`
	Last  int    `json:"last"`
}

// Trace says where in the document each value of an order stands.
type Trace struct {
	Sheet   string         `json:"sheet,omitempty"`
	Header  []TraceCell    `json:"header,omitempty"`
	Columns map[string]int `json:"columns,omitempty" doc:"Column of each field of the lines, counted from 1"`
	Rows    []int          `json:"rows,omitempty" doc:"Row of each line"`
}

// TraceCell is where one header field stands.
type TraceCell struct {
	Field  string `json:"field"`
	Row    int    `json:"row"`
	Column int    `json:"column"`
}

// Place is where a field of the header (line 0) or of a line stands; the zero
// Place where the document does not hold it.
func (t *Trace) Place(line int, field string) finding.Place {
	if line > 0 {
		if c := t.Columns[field]; c > 0 && line <= len(t.Rows) {
			return finding.Place{Sheet: t.Sheet, Row: t.Rows[line-1], Column: c}
		}
		return finding.Place{}
	}
	for _, h := range t.Header {
		if h.Field == field {
			return finding.Place{Sheet: t.Sheet, Row: h.Row, Column: h.Column}
		}
	}
	return finding.Place{}
}

// columnsOf gives the columns of the lines' fields, the same for every order.
func (p *plan) columnsOf() map[string]int {
	m := make(map[string]int, len(p.lines))
	for _, b := range p.lines {
		if b.column > 0 {
			m[b.Field.Name] = b.column
		}
	}
	return m
}

// Draft maps a group onto an order. Set holds the lists and crosswalks that
// the mapping names. It may be called for several groups at once.
func (m *Mapping) Draft(g *Group, set *list.Set) *Draft {
	d := &Draft{Seq: g.Seq, Orphan: g.Orphan, Spans: spans(g.Rows)}
	d.Order.Kind = m.Kind
	d.Trace.Sheet = g.Rows[0].Sheet
	for i := range g.Rows {
		for _, f := range g.Rows[i].Findings { // what the reader found knows no order yet
			f.Order = g.Seq
			d.Findings = append(d.Findings, f)
		}
	}
	if g.Orphan {
		for i := range g.Rows {
			d.find(finding.LineBeforeHeader, g.Rows[i].Place(g.plan.group[0]), "", 0,
				"Row %d has a line, but nothing above it says which order it belongs to.", g.Rows[i].Row)
		}
		return d
	}
	if g.Long {
		d.find(finding.OrderTooLong, g.Rows[0].Place(g.plan.group[0]), cell(&g.Rows[0], g.plan.group[0]).Text, 0,
			"The order has more than %d rows.", MostRows)
	}
	w := worker{m: m, d: d, set: set}
	for i := range g.plan.header {
		w.header(&g.plan.header[i], g.Rows)
	}
	d.Trace.Columns = g.plan.columns
	lines := 0
	for i := range g.Rows {
		if g.plan.hasLine(&g.Rows[i]) {
			lines++
		}
	}
	d.Order.Lines = make([]order.Line, 0, lines)
	d.Trace.Rows = make([]int, 0, lines)
	for i := range g.Rows {
		rec := &g.Rows[i]
		if !g.plan.hasLine(rec) {
			continue
		}
		d.Order.Lines = append(d.Order.Lines, order.Line{})
		d.Trace.Rows = append(d.Trace.Rows, rec.Row)
		n := len(d.Order.Lines)
		for j := range g.plan.lines {
			w.line(&g.plan.lines[j], rec, n)
		}
		if l := &d.Order.Lines[n-1]; l.Number == "" {
			l.Number = strconv.Itoa(n)
		}
	}
	return d
}

// spans gives the runs of adjacent rows; all are of one sheet.
func spans(rows []source.Record) []Span {
	all := make([]Span, 0, 1)
	for i := range rows {
		r := &rows[i]
		if n := len(all); n > 0 && r.Row == all[n-1].Last+1 {
			all[n-1].Last = r.Row
			continue
		}
		all = append(all, Span{r.Sheet, r.Row, r.Row})
	}
	return all
}

func (d *Draft) find(code finding.Code, at finding.Place, value string, line int, format string, args ...any) *finding.Finding {
	f := finding.New(code, at, value, format, args...)
	f.Order, f.Line = d.Seq, line
	d.Findings = append(d.Findings, f)
	return &d.Findings[len(d.Findings)-1]
}

// Add adds a finding about a field of the order, at the place it came from.
func (d *Draft) Add(code finding.Code, line int, field, value, format string, args ...any) *finding.Finding {
	at := d.Trace.Place(line, field)
	if at.Row == 0 && len(d.Spans) > 0 {
		at = finding.Place{Sheet: d.Spans[0].Sheet, Row: d.Spans[0].First}
		if line > 0 {
			at.Row = d.Trace.Rows[line-1]
		}
	}
	f := d.find(code, at, value, line, format, args...)
	f.Field = field
	return f
}

// Refused reports whether a finding keeps the order out.
func (d *Draft) Refused() bool {
	for i := range d.Findings {
		if d.Findings[i].Severity == finding.Error {
			return true
		}
	}
	return false
}

// Has reports whether a finding about the field is already there.
func (d *Draft) Has(line int, field string) bool {
	for i := range d.Findings {
		if d.Findings[i].Line == line && d.Findings[i].Field == field {
			return true
		}
	}
	return false
}

// worker maps one group.
type worker struct {
	m   *Mapping
	d   *Draft
	set *list.Set
	now int // line being mapped, counted from 1; 0 is the header
}

// header takes a header fact from the first row that has it; other rows must agree.
func (w *worker) header(b *boundColumn, rows []source.Record) {
	if b.column == 0 {
		w.stated(b, nil, &rows[0])
		return
	}
	var first source.Cell
	var from *source.Record
	for i := range rows {
		c := cell(&rows[i], b.column)
		if c.Text == "" && c.Kind != source.Unkept {
			continue
		}
		if from == nil {
			first, from = c, &rows[i]
			continue
		}
		if c.Text != first.Text && !w.sameValue(b, first, c) {
			f := w.d.find(finding.HeaderDisagrees, rows[i].Place(b.column), c.Text, 0,
				"%s is %q here but %q in row %d of the same order.", b.Field.Name, c.Text, first.Text, from.Row)
			f.Field = b.Field.Name
		}
	}
	if from == nil {
		w.stated(b, nil, &rows[0])
		return
	}
	w.d.Trace.Header = append(w.d.Trace.Header, TraceCell{b.Field.Name, from.Row, b.column})
	w.take(b, first, from, nil)
}

// sameValue reports whether two cells of different text mean the same.
func (w *worker) sameValue(b *boundColumn, a, c source.Cell) bool {
	switch b.Field.Type {
	case order.Day:
		x, errX := b.locale.date(a)
		y, errY := b.locale.date(c)
		return errX == nil && errY == nil && x == y
	case order.Decimal, order.Percent:
		x, errX := b.locale.number(a, true)
		y, errY := b.locale.number(c, true)
		return errX == nil && errY == nil && x.Cmp(y) == 0
	}
	return list.Fold(a.Text) == list.Fold(c.Text)
}

func (w *worker) line(b *boundColumn, rec *source.Record, n int) {
	w.now = n
	l := &w.d.Order.Lines[n-1]
	if c := cell(rec, b.column); b.column > 0 && (c.Text != "" || c.Kind == source.Unkept) {
		w.take(b, c, rec, l)
	} else {
		w.stated(b, l, rec)
	}
	w.now = 0
}

// stated takes the mapping's own value or default, or notes that there is none.
func (w *worker) stated(b *boundColumn, l *order.Line, rec *source.Record) {
	text := b.Value
	if text == "" {
		text = b.Default
	}
	if text != "" {
		// What the mapping itself says is written plainly: 1.5, 2026-03-14.
		plain := *b
		bind := *b.Binding
		bind.locale = locale{decimal: '.'}
		if b.Value != "" {
			bind.Crosswalk = ""
		}
		plain.Binding = &bind
		w.take(&plain, source.Cell{Text: text}, rec, l)
		return
	}
	code, word := finding.MustMissing, "must"
	switch b.Need {
	case May:
		return
	case Should:
		code, word = finding.ShouldMissing, "should"
	}
	where := ""
	if b.From != "" {
		where = fmt.Sprintf(" (column %q)", b.From)
	}
	f := w.d.find(code, rec.Place(b.column), "", w.now, "%s %s be there, but the cell is blank%s.", b.Field.Name, word, where)
	f.Field = b.Field.Name
}

// take brings one cell into its field: cell kinds, crosswalk, type, list.
func (w *worker) take(b *boundColumn, c source.Cell, rec *source.Record, l *order.Line) {
	o, f := &w.d.Order, &b.Field
	bad := func(code finding.Code, format string, args ...any) *finding.Finding {
		found := w.d.find(code, rec.Place(b.column), c.Text, w.now, format, args...)
		found.Field = f.Name
		return found
	}
	switch {
	case c.Kind == source.ErrorValue:
		bad(finding.CellError, "The cell for %s holds the spreadsheet error %s.", f.Name, c.Text)
		return
	case c.Kind == source.Unkept:
		bad(finding.FormulaUnkept, "The cell for %s holds a formula whose result was not saved.", f.Name)
		return
	}
	text := c.Text
	if b.Crosswalk != "" {
		walk := w.set.Crosswalks[b.Crosswalk]
		if walk == nil {
			return // Missing has said so before the load began
		}
		ours, ok := walk.Ours(text)
		if !ok {
			found := bad(finding.CrosswalkMissing, "%q is not in the crosswalk %s.", text, b.Crosswalk)
			if near, ok := walk.Nearest(text); ok {
				found.Hint = fmt.Sprintf("Did the partner mean %q? %s", near, found.Hint)
			}
			return
		}
		text = ours
	}
	switch f.Type {
	case order.Decimal, order.Percent:
		n, err := b.locale.number(c, f.Type == order.Percent)
		if err != nil {
			bad(finding.NotANumber, "%q is not a number for %s: %v.", c.Text, f.Name, err)
			return
		}
		f.SetNumber(o, l, n)
		if f.IsStated() && b.Compare {
			w.d.stated = append(w.d.stated, w.now)
		}
		return
	case order.Day:
		day, err := b.locale.date(c)
		if err != nil {
			bad(finding.NotADate, "%q is not a date for %s: %v.", c.Text, f.Name, err)
			return
		}
		f.SetDate(o, l, day)
		return
	case order.Currency:
		text = strings.ToUpper(text)
		if !order.KnownCurrency(text) {
			bad(finding.UnknownCurrency, "%q is not a currency.", c.Text)
			return
		}
	case order.Choice:
		near, ok := list.Nearest(text, f.Choices)
		if !ok || list.Fold(near) != list.Fold(text) {
			bad(finding.UnknownChoice, "%s cannot be %q.", f.Name, text).Hint = "It may be: " + strings.Join(f.Choices, ", ") + "."
			return
		}
		text = near
	case order.Code:
		if mangled(c) {
			bad(finding.NumberMangled, "%q was a longer code; a spreadsheet has rounded it.", c.Text)
			return
		}
	}
	listName, code := b.List, finding.UnknownCode
	if f.Type == order.Unit && listName == "" {
		listName = "units"
	}
	if f.Type == order.Unit {
		code = finding.UnknownUnit
	}
	if known := w.set.Lists[listName]; listName != "" && known != nil {
		found, ok := known.Find(text)
		if !ok {
			bad(code, "%q is not in the list %s.", text, listName).Hint = unknownHint(known, text, listName)
			return
		}
		text = found
	} else if f.Type == order.Unit {
		upper := strings.ToUpper(text)
		if !order.KnownUnit(upper) {
			bad(code, "%q is not a unit of measure.", text)
			return
		}
		text = upper
	}
	f.SetText(o, l, text)
}

func unknownHint(known *list.List, text, name string) string {
	near, ok := known.Nearest(text)
	switch {
	case !ok:
		return "Nothing in the list is near it. Add it to the list " + name + ", or correct the cell."
	case near.Name != "":
		return fmt.Sprintf("Nearest in the list: %s (%s).", near.Code, near.Name)
	}
	return fmt.Sprintf("Nearest in the list: %s.", near.Code)
}

// Stated lists the figures of the document that are to be compared with
// Koinos's own: the amounts of lines counted from 1, and 0 for the total.
func (d *Draft) Stated() []int { return d.stated }

// AppendJSON appends the trace as JSON, as encoding/json would write it; a
// load writes one for each order.
func (t *Trace) AppendJSON(b []byte) []byte {
	b = append(b, '{')
	if t.Sheet != "" {
		b = append(b, `"sheet":`...)
		b = appendString(b, t.Sheet)
		b = append(b, ',')
	}
	b = append(b, `"header":[`...)
	for i, h := range t.Header {
		if i > 0 {
			b = append(b, ',')
		}
		b = append(b, `{"field":`...)
		b = appendString(b, h.Field)
		b = strconv.AppendInt(append(b, `,"row":`...), int64(h.Row), 10)
		b = strconv.AppendInt(append(b, `,"column":`...), int64(h.Column), 10)
		b = append(b, '}')
	}
	b = append(b, `],"columns":{`...)
	for i, name := range slices.Sorted(maps.Keys(t.Columns)) {
		if i > 0 {
			b = append(b, ',')
		}
		b = append(appendString(b, name), ':')
		b = strconv.AppendInt(b, int64(t.Columns[name]), 10)
	}
	b = append(b, `},"rows":[`...)
	for i, row := range t.Rows {
		if i > 0 {
			b = append(b, ',')
		}
		b = strconv.AppendInt(b, int64(row), 10)
	}
	return append(b, ']', '}')
}

func appendString(b []byte, s string) []byte {
	q, err := json.Marshal(s) // a string never fails
	if err != nil {
		return append(b, '"', '"')
	}
	return append(b, q...)
}
