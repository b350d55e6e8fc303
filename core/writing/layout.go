package writing

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"koinos/core/list"
	"koinos/core/mapping"
	"koinos/core/order"
	"koinos/core/source"
)

// Page is one sheet of rows of text.
type Page struct {
	Name    string
	Rows    [][]string
	Heading int      // row of the headings, counted from 1; 0 is none
	Columns []Column // of the table
}

// Column is one column of a page with the binding that it belongs to.
type Column struct {
	Number  int // counted from 1
	Heading string
	Level   order.Level
	Binding *mapping.Binding // nil is a column of the grouping alone
}

// Problem is a part of an order that the mapping's document cannot express.
type Problem struct {
	Order string `json:"order"`
	Line  int    `json:"line,omitempty"`
	Field string `json:"field"`
	Why   string `json:"why"`
}

// writer lays orders out.
type writer struct {
	m        *mapping.Mapping
	set      *list.Set
	problems []Problem
	said     map[Problem]bool
	columns  []Column
	at       map[string]int // column of a source by its folded text
	next     int
}

// values are an order's values: line 0 is the header.
type values struct {
	o      *order.Order
	fields []map[string]string
}

func valuesOf(o *order.Order) values {
	v := values{o, make([]map[string]string, len(o.Lines)+1)}
	for i := range v.fields {
		v.fields[i] = map[string]string{}
	}
	v.fields[0]["number"] = o.Number
	o.Each(func(line int, field, value string) { v.fields[line][field] = value })
	return v
}

// Layout lays orders out in the rows that the mapping reads, for all formats except JSON.
func Layout(m *mapping.Mapping, orders []order.Order, set *list.Set) ([]Page, []Problem, error) {
	if set == nil {
		set = &list.Set{}
	}
	w := &writer{m: m, set: set, at: map[string]int{}}
	if len(m.Bindings[order.Lines]) == 0 { // records of whole orders have a row each
		orders = slices.Clone(orders)
		for i := range orders {
			orders[i].Lines = orders[i].Lines[:min(1, len(orders[i].Lines))]
		}
	}
	pages, err := w.pages(orders)
	return pages, w.problems, err
}

func (w *writer) pages(orders []order.Order) ([]Page, error) {
	switch w.m.Group.By {
	case "join":
		return w.joined(orders), nil
	case "sheet":
		var pages []Page
		for i := range orders {
			p := w.form(&orders[i])
			p.Name = w.sheetName(i, &orders[i])
			pages = append(pages, p)
		}
		if pages == nil {
			p := w.form(&order.Order{})
			p.Name = w.sheetName(0, &order.Order{})
			pages = []Page{p}
		}
		return pages, nil
	case "file":
		if len(orders) > 1 {
			return nil, fmt.Errorf("the mapping %s makes one order of a file: write orders one at a time", w.m.Name)
		}
		if len(orders) == 0 {
			orders = []order.Order{{}}
		}
		p := w.form(&orders[0])
		p.Name = w.sheetName(0, &orders[0])
		return []Page{p}, nil
	case "form":
		page := Page{Name: w.sheetName(0, &order.Order{})}
		if len(orders) == 0 {
			orders = []order.Order{{}}
		}
		for i := range orders {
			p := w.form(&orders[i])
			if i == 0 {
				page.Heading, page.Columns = p.Heading, p.Columns
			}
			page.Rows = append(append(page.Rows, p.Rows...), []string{""})
		}
		return []Page{page}, nil
	case "path":
		return nil, fmt.Errorf("the mapping %s reads JSON", w.m.Name)
	}
	return []Page{w.table(orders)}, nil
}

// sheetName returns a name that matches the mapping's document.sheet.
func (w *writer) sheetName(i int, o *order.Order) string {
	for _, b := range w.m.Bindings[order.Header] {
		if len(b.From) > 0 && b.From[0].Kind == mapping.BySheet {
			if v := valuesOf(o).fields[0][b.Field.Name]; v != "" {
				return v
			}
		}
	}
	name := "Orders"
	if w.m.Group.By == "sheet" {
		name = "Order *"
	}
	if s := w.m.Document.Sheets; len(s) > 0 {
		if name = s[0]; name == "*" {
			name = "Order *"
		}
		if _, err := strconv.Atoi(name); err == nil {
			name = "Orders"
		}
	}
	return strings.ReplaceAll(name, "*", strconv.Itoa(i+1))
}

// column returns the column of a source; it makes a new one if there is none yet.
func (w *writer) column(s *mapping.Source, level order.Level, b *mapping.Binding) int {
	key := list.Fold(s.Text)
	if c := w.at[key]; c > 0 {
		for i := range w.columns {
			if w.columns[i].Number == c && w.columns[i].Binding == nil {
				w.columns[i].Binding, w.columns[i].Level = b, level
			}
		}
		return c
	}
	c := s.Column
	if s.Kind != mapping.ByColumn {
		for w.next++; w.taken(w.next); w.next++ {
		}
		c = w.next
	}
	w.at[key] = c
	heading := s.Text
	if s.Kind == mapping.ByColumn {
		heading = ""
	}
	w.columns = append(w.columns, Column{c, heading, level, b})
	return c
}

// taken reports whether a binding names the column by its letter.
func (w *writer) taken(c int) bool {
	letter := func(all []mapping.Source) bool {
		return slices.ContainsFunc(all, func(s mapping.Source) bool {
			return s.Kind == mapping.ByColumn && s.Column == c
		})
	}
	if letter(w.m.Group.Columns) || w.m.Group.Kind != nil && letter([]mapping.Source{*w.m.Group.Kind}) {
		return true
	}
	if p := w.m.Part(order.Lines); p != nil && p.Range[0] > 0 && c >= p.Range[0] && c <= p.Range[1] {
		return true
	}
	for _, level := range order.Levels {
		for i := range w.m.Bindings[level] {
			if letter(w.m.Bindings[level][i].From) {
				return true
			}
		}
	}
	return false
}

// inTable reports whether a binding takes its value from a column of the table.
func inTable(b *mapping.Binding) bool {
	return len(b.From) > 0 && (b.From[0].Kind == mapping.ByHeading || b.From[0].Kind == mapping.ByColumn)
}

// put writes text into a row.
func put(row []string, column int, text string) []string {
	for len(row) < column {
		row = append(row, "")
	}
	if text != "" {
		row[column-1] = text
	}
	return row
}

// text returns what is written of an order at a binding's place, or notes why it cannot be written.
func (w *writer) text(b *mapping.Binding, v values, line int, value string) string {
	text, err := b.Written(value, w.set)
	if err != nil {
		w.problem(v, line, b.Field.Name, err.Error())
		return ""
	}
	if Format(w.m) == source.CSV && w.m.Document.Quote == source.NoQuote &&
		strings.ContainsAny(text, shapeOf(w.m).Delimiter+"\r\n") {
		w.problem(v, line, b.Field.Name, fmt.Sprintf("%q cannot be written without quotation marks (quote: none)", text))
		return ""
	}
	if r := w.m.Document.Encoding.Lacks(text); r != 0 && Format(w.m) == source.CSV {
		w.problem(v, line, b.Field.Name, fmt.Sprintf("%q cannot be written in %s, which has no %c", text,
			w.m.Document.Encoding, r))
		return ""
	}
	if b.Suffix == "unit" && line > 0 && text != "" {
		unit, err := w.m.UnitBehind(b).Written(v.fields[line]["unit"], w.set)
		if err != nil {
			w.problem(v, line, "unit", err.Error())
		} else if unit != "" {
			text += " " + unit
		}
	}
	return text
}

func (w *writer) problem(v values, line int, field, why string) {
	p := Problem{v.o.SenderNumber, line, field, why}
	if w.said == nil {
		w.said = map[Problem]bool{}
	}
	if !w.said[p] { // a header fact is asked for on each row that it stands on
		w.said[p] = true
		w.problems = append(w.problems, p)
	}
}

// cells writes the bindings of a level into a row. If two bindings share a column, the first that has a text is
// written.
func (w *writer) cells(row []string, level order.Level, v values, line int, value func(field string) string,
	only func(*mapping.Binding) bool) []string {
	all := w.m.Bindings[level]
	for i := range all {
		b := &all[i]
		if !inTable(b) || only != nil && !only(b) {
			continue
		}
		c := w.column(&b.From[0], level, b)
		text := w.text(b, v, line, value(b.Field.Name))
		row = put(row, c, "")
		if row[c-1] == "" {
			row[c-1] = text
		} else if text != "" && text != row[c-1] && level == order.Lines && b.Of == "" {
			row[c-1] = text // the line's own fact stands on its row
		}
	}
	return row
}

func (v values) header(field string) string { return v.fields[0][field] }

func (v values) line(n int) func(string) string {
	return func(field string) string {
		if field == "number" && v.fields[n]["number"] == strconv.Itoa(n) {
			return strconv.Itoa(n)
		}
		return v.fields[n][field]
	}
}

func party(p *order.Party) func(string) string {
	return func(field string) string {
		o := order.Order{Parties: []order.Party{*p}}
		f, ok := order.Lookup(order.Parties, field)
		if !ok {
			return ""
		}
		return f.Value(&o, nil)
	}
}

// delivery returns the fields of one of a line's deliveries, with the line's unit if it has none of its own.
func delivery(line *order.Line, k int) func(string) string {
	said := map[string]string{"unit": line.Unit}
	line.EachOf(k, func(field, value string) { said[field] = value })
	return func(field string) string { return said[field] }
}

// charge returns the fields of a charge. One that is a share has its amount only where the mapping has no place for
// shares.
func charge(c *order.Charge, m *mapping.Mapping) func(string) string {
	share := c.Percent.Plain()
	if !slices.ContainsFunc(m.Levels[mapping.InCharges], func(b mapping.Binding) bool { return b.Field.Name == "percent" }) {
		share = ""
	}
	return func(field string) string {
		switch field {
		case "code":
			return c.Code
		case "percent":
			return share
		case "amount":
			if share != "" {
				return ""
			}
			return c.Amount.Plain()
		case "kind":
			if c.Allowance {
				return "allowance"
			}
			return "charge"
		}
		return ""
	}
}

// claim assigns a place to every column of the mapping before rows are written.
func (w *writer) claim(levels ...order.Level) {
	w.columns, w.at, w.next = nil, map[string]int{}, 0
	if k := w.m.Group.Kind; k != nil {
		w.column(k, order.Header, nil)
	}
	for i := range w.m.Group.Columns {
		w.column(&w.m.Group.Columns[i], order.Header, nil)
	}
	for _, level := range levels {
		for i := range w.m.Bindings[level] {
			b := &w.m.Bindings[level][i]
			if inTable(b) && !b.From[0].Numbered() && !w.across(level) {
				w.column(&b.From[0], level, b)
			}
		}
	}
}

func (w *writer) across(level order.Level) bool {
	p := w.m.Part(level)
	return p != nil && p.Across == "numbered"
}

// headings is the row of headings, or nil if columns are named by letter only.
func (w *writer) headings() []string {
	var row []string
	for _, c := range w.columns {
		if c.Heading != "" {
			row = put(row, c.Number, c.Heading)
		}
	}
	return row
}

// stacked spreads headings over as many rows as the mapping's heading takes: the first word above, the rest below.
func (w *writer) stacked(head []string) [][]string {
	n := w.m.Document.HeadRows
	if n < 2 {
		return [][]string{head}
	}
	rows := make([][]string, n)
	for i := range rows {
		rows[i] = make([]string, len(head))
	}
	for c, h := range head {
		rows[0][c], rows[1][c], _ = strings.Cut(h, " ")
	}
	return rows
}

// table lays orders out under one heading: by key, opener, gap, rowkind, count.
func (w *writer) table(orders []order.Order) Page {
	w.claim(order.Levels...)
	page := Page{Name: w.sheetName(0, &order.Order{})}
	page.Rows = w.around(nil, values{&order.Order{}, []map[string]string{{}}}, orders)
	part := w.m.Part(order.Lines)
	var body [][]string
	switch {
	case part != nil && part.Across == "numbered":
		body = w.numbered(orders)
	case part != nil && part.Across == "matrix":
		body = w.matrix(orders, part)
	case part != nil && part.Across == "cells":
		for i := range orders {
			v := valuesOf(&orders[i])
			body = append(body, w.inCells(v, w.order(v), part))
		}
	default:
		for i := range orders {
			body = append(body, w.order(valuesOf(&orders[i]))...)
		}
	}
	if head := w.headings(); head != nil {
		for len(page.Rows)+1 < w.m.Document.HeadRow {
			page.Rows = append(page.Rows, []string{""})
		}
		page.Rows = append(page.Rows, w.stacked(head)...)
		page.Heading = len(page.Rows)
	}
	page.Columns = w.columns
	page.Rows = append(page.Rows, body...)
	return page
}

// around writes what stands in fixed cells and beside labels: the facts of one order, or those in which all orders
// agree.
func (w *writer) around(rows [][]string, v values, all []order.Order) [][]string {
	if len(all) > 0 {
		v = valuesOf(&all[0])
	}
	for i := range w.m.Bindings[order.Header] {
		b := &w.m.Bindings[order.Header][i]
		if len(b.From) == 0 {
			continue
		}
		s := &b.From[0]
		text := w.text(b, v, 0, v.header(b.Field.Name))
		switch s.Kind {
		case mapping.ByCell:
			for len(rows) < s.Row {
				rows = append(rows, []string{""})
			}
			rows[s.Row-1] = put(rows[s.Row-1], s.Column, text)
		case mapping.ByLabel:
			label := strings.ReplaceAll(s.Text, "*", "")
			if b.Beside == "below" {
				rows = append(rows, []string{label}, []string{text})
			} else {
				rows = append(rows, []string{label, text})
			}
		}
		for k := range all {
			if o := valuesOf(&all[k]); (s.Kind == mapping.ByCell || s.Kind == mapping.ByLabel) &&
				o.header(b.Field.Name) != v.header(b.Field.Name) {
				w.problem(o, 0, b.Field.Name, "the document says it once for all orders, and they differ")
			}
		}
	}
	if len(rows) > 0 {
		rows = append(rows, []string{""})
	}
	return rows
}

// order lays one order out in rows of a table.
func (w *writer) order(v values) [][]string {
	if w.m.Group.By == "rowkind" {
		return w.kinds(v)
	}
	once := w.m.Group.By == "opener" || w.m.Group.By == "gap" && len(w.m.Group.Columns) == 0
	next := w.m.Part(order.Lines) != nil && w.m.Part(order.Lines).Next
	n := max(len(v.o.Lines), w.count(order.Parties, v), w.count(order.Charges, v))
	var rows [][]string
	if next {
		rows = append(rows, w.cells(nil, order.Header, v, 0, v.header, nil))
	}
	for k := range max(n, 1) {
		var row []string
		if !next && (k == 0 || !once) {
			row = w.cells(row, order.Header, v, 0, v.header, nil)
		}
		if k < len(v.o.Lines) {
			row = w.cells(row, order.Lines, v, k+1, v.line(k+1), nil)
		}
		if len(w.m.Bindings[order.Parties]) > 0 && k < len(v.o.Parties) {
			row = w.cells(row, order.Parties, v, 0, party(&v.o.Parties[k]), nil)
		}
		if len(w.m.Bindings[order.Charges]) > 0 && k < len(v.o.Charges) {
			row = w.cells(row, order.Charges, v, 0, charge(&v.o.Charges[k], w.m), nil)
		}
		rows = append(rows, row)
	}
	if w.m.Group.By == "gap" {
		rows = append(rows, []string{""})
	}
	if c := w.m.Group.Count; c > 0 && len(rows) != c {
		w.problem(v, 0, "", fmt.Sprintf("the order has %d rows, and the document has %d for each", len(rows), c))
	}
	return rows
}

func (w *writer) count(level order.Level, v values) int {
	switch {
	case len(w.m.Bindings[level]) == 0:
		return 0
	case level == order.Parties:
		return len(v.o.Parties)
	}
	return len(v.o.Charges)
}
