package writing

import (
	"slices"
	"strconv"
	"strings"

	"koinos/core/list"
	"koinos/core/mapping"
	"koinos/core/order"
)

// word returns the partner's first word for a kind of row.
func (w *writer) word(kind string) string {
	for _, word := range w.m.Group.Words {
		if w.m.Group.Kinds[list.Fold(word)] == kind {
			return word
		}
	}
	return ""
}

// kinds lays one order out in rows each of which says what kind it is.
func (w *writer) kinds(v values) [][]string {
	var rows [][]string
	plain := func(b *mapping.Binding) bool { return len(b.Rows) == 0 }
	add := func(word string, row []string) {
		if word != "" && row != nil {
			rows = append(rows, put(row, w.column(w.m.Group.Kind, order.Header, nil), word))
		}
	}
	add(w.word("header"), w.cells([]string{""}, order.Header, v, 0, v.header, plain))
	// Values on rows of other kinds: one row for each line of text.
	extra := func(level order.Level, line int, value func(string) string) {
		all := w.m.Bindings[level]
		for i := range all {
			b := &all[i]
			if len(b.Rows) == 0 || !inTable(b) {
				continue
			}
			for _, part := range strings.Split(w.text(b, v, line, value(b.Field.Name)), "\n") {
				if part != "" {
					word := b.Rows[0]
					for _, as := range w.m.Group.Words {
						if list.Fold(as) == word {
							word = as
						}
					}
					add(word, put(nil, w.column(&b.From[0], level, b), part))
				}
			}
		}
	}
	extra(order.Header, 0, v.header)
	for k := range v.o.Parties {
		if len(w.m.Bindings[order.Parties]) > 0 {
			add(w.word("party"), w.cells(nil, order.Parties, v, 0, party(&v.o.Parties[k]), nil))
		}
	}
	for n := range v.o.Lines {
		add(w.word("line"), w.cells([]string{""}, order.Lines, v, n+1, v.line(n+1), plain))
		extra(order.Lines, n+1, v.line(n+1))
		for k := range v.o.Lines[n].Deliveries {
			if len(w.m.Bindings[order.Deliveries]) > 0 {
				add(w.word("delivery"), w.cells(nil, order.Deliveries, v, n+1, delivery(&v.o.Lines[n], k), nil))
			}
		}
	}
	for k := range v.o.Charges {
		if len(w.m.Bindings[order.Charges]) > 0 {
			add(w.word("charge"), w.cells(nil, order.Charges, v, 0, charge(&v.o.Charges[k], w.m), nil))
		}
	}
	return rows
}

// joined lays orders out on a sheet of headers and one of lines.
func (w *writer) joined(orders []order.Order) []Page {
	name := func(pattern string) string { return strings.ReplaceAll(pattern, "*", "1") }
	page := func(sheet string, key []mapping.Source, level order.Level, rows func(v values) [][]string) Page {
		w.columns, w.at, w.next = nil, map[string]int{}, 0
		for i := range key {
			w.column(&key[i], level, nil)
		}
		for i := range w.m.Bindings[level] {
			if b := &w.m.Bindings[level][i]; inTable(b) {
				w.column(&b.From[0], level, b)
			}
		}
		p := Page{Name: name(sheet), Rows: [][]string{w.headings()}, Heading: 1}
		for i := range orders {
			p.Rows = append(p.Rows, rows(valuesOf(&orders[i]))...)
		}
		p.Columns = w.columns
		return p
	}
	g := &w.m.Group
	heads := page(g.Headers.Sheet, g.Headers.Columns, order.Header, func(v values) [][]string {
		return [][]string{w.cells(nil, order.Header, v, 0, v.header, nil)}
	})
	lines := page(g.Lines.Sheet, g.Lines.Columns, order.Lines, func(v values) [][]string {
		var rows [][]string
		for n := range v.o.Lines {
			var row []string
			for i := range g.Lines.Columns {
				row = put(row, w.column(&g.Lines.Columns[i], order.Lines, nil), w.keyOf(v, i))
			}
			rows = append(rows, w.cells(row, order.Lines, v, n+1, v.line(n+1), nil))
		}
		return rows
	})
	return []Page{heads, lines}
}

// keyOf returns what the header's field for a key column of a join says.
func (w *writer) keyOf(v values, i int) string {
	column := &w.m.Group.Headers.Columns[i]
	for k := range w.m.Bindings[order.Header] {
		b := &w.m.Bindings[order.Header][k]
		if len(b.From) > 0 && (list.Fold(b.From[0].Text) == list.Fold(column.Text) ||
			column.Pointer() != "" && b.From[0].Pointer() == column.Pointer()) {
			return w.text(b, v, 0, v.header(b.Field.Name))
		}
	}
	w.problem(v, 0, "", "no field stands in the key column "+column.Text)
	return ""
}

// form lays one order out as a form: facts in cells and beside labels, with the table of lines below.
func (w *writer) form(o *order.Order) Page {
	v := valuesOf(o)
	w.claim(order.Lines, order.Header)
	var rows [][]string
	if opener := w.m.Group.Opener; opener != "" {
		// A label at the beginning of the form stands in its first row.
		labelled := false
		for _, b := range w.m.Bindings[order.Header] {
			for _, s := range b.From {
				if s.Kind == mapping.ByLabel && matches(opener, strings.ReplaceAll(s.Text, "*", "")) {
					labelled = true
				}
			}
			if labelled {
				break
			}
		}
		first := firstLabel(w.m)
		if !labelled || first == "" || !matches(opener, first) {
			rows = append(rows, []string{strings.ReplaceAll(opener, "*", "")})
		}
	}
	rows = w.around(rows, v, nil)
	for len(rows)+1 < w.m.Document.HeadRow {
		rows = append(rows, []string{""})
	}
	head := w.headings()
	if head != nil {
		rows = append(rows, w.stacked(head)...)
	}
	p := Page{Heading: len(rows), Columns: w.columns}
	for n := range o.Lines {
		row := w.cells(nil, order.Header, v, 0, v.header, nil)
		rows = append(rows, w.cells(row, order.Lines, v, n+1, v.line(n+1), nil))
	}
	p.Rows = rows
	return p
}

func firstLabel(m *mapping.Mapping) string {
	for _, b := range m.Bindings[order.Header] {
		for _, s := range b.From {
			if s.Kind == mapping.ByLabel {
				return strings.ReplaceAll(s.Text, "*", "")
			}
		}
	}
	return ""
}

func matches(pattern, text string) bool {
	before, behind, star := strings.Cut(list.Fold(pattern), "*")
	text = list.Fold(text)
	if !star {
		return text == before
	}
	return strings.HasPrefix(text, before) && strings.HasSuffix(text, behind)
}

// numbered lays orders out with their lines across a row.
func (w *writer) numbered(orders []order.Order) [][]string {
	most := 0
	for i := range orders {
		most = max(most, len(orders[i].Lines))
	}
	columns := map[string]map[int]int{}
	all := w.m.Bindings[order.Lines]
	for n := 1; n <= most; n++ {
		for i := range all {
			b := &all[i]
			if !inTable(b) || w.at[list.Fold(b.From[0].Text)] > 0 {
				continue
			}
			s := b.From[0]
			if !s.Numbered() && !w.repeats(b) {
				continue
			}
			if columns[s.Text] == nil {
				columns[s.Text] = map[int]int{}
			}
			if columns[s.Text][n] == 0 {
				for w.next++; w.taken(w.next); w.next++ {
				}
				columns[s.Text][n] = w.next
				w.columns = append(w.columns, Column{w.next, strings.ReplaceAll(s.Text, "{n}", strconv.Itoa(n)),
					order.Lines, b})
			}
		}
	}
	for i := range all { // what all lines of a row share
		if b := &all[i]; inTable(b) && columns[b.From[0].Text] == nil {
			w.column(&b.From[0], order.Lines, b)
		}
	}
	var rows [][]string
	for i := range orders {
		v := valuesOf(&orders[i])
		row := w.cells(nil, order.Header, v, 0, v.header, nil)
		for n := range v.o.Lines {
			for k := range all {
				b := &all[k]
				if !inTable(b) {
					continue
				}
				text := w.text(b, v, n+1, v.line(n+1)(b.Field.Name))
				c := columns[b.From[0].Text][n+1]
				if c == 0 {
					c = w.at[list.Fold(b.From[0].Text)]
					if row = put(row, c, ""); row[c-1] != "" && row[c-1] != text {
						w.problem(v, n+1, b.Field.Name,
							"the document says it once for all lines of the order, and they differ")
						continue
					}
				}
				row = put(row, c, text)
			}
		}
		rows = append(rows, row)
	}
	return rows
}

// repeats reports whether a binding's heading occurs once for each line.
func (w *writer) repeats(b *mapping.Binding) bool {
	numbers := slices.ContainsFunc(w.m.Bindings[order.Lines], func(o mapping.Binding) bool {
		return len(o.From) > 0 && o.From[0].Numbered()
	})
	return !numbers
}

// matrix lays orders out with a column for each value of the matrix's heading.
func (w *writer) matrix(orders []order.Order, part *mapping.Part) [][]string {
	all := w.m.Bindings[order.Lines]
	var heading, cell *mapping.Binding
	for i := range all {
		if len(all[i].From) == 0 {
			continue
		}
		switch all[i].From[0].Kind {
		case mapping.ByMatrixHeading:
			heading = &all[i]
		case mapping.ByMatrixCell:
			cell = &all[i]
		}
	}
	if heading == nil || cell == nil {
		return nil
	}
	columns := map[string]int{}
	column := func(text string) int {
		if columns[text] > 0 {
			return columns[text]
		}
		c := 0
		if part.Range[0] > 0 {
			if c = part.Range[0] + len(columns); c > part.Range[1] {
				return 0
			}
		} else {
			i := slices.IndexFunc(part.Matrix,
				func(s mapping.Source) bool { return list.Fold(s.Text) == list.Fold(text) })
			if i < 0 {
				return 0
			}
			for w.next++; w.taken(w.next); w.next++ {
			}
			c = w.next
		}
		columns[text] = c
		w.columns = append(w.columns, Column{c, text, order.Lines, cell})
		return c
	}
	if part.Range[0] == 0 {
		for i := range part.Matrix {
			column(part.Matrix[i].Text)
		}
	}
	var rows [][]string
	for i := range orders {
		v := valuesOf(&orders[i])
		last := ""
		for n := range v.o.Lines {
			row := w.cells(nil, order.Header, v, 0, v.header, nil)
			row = w.cells(row, order.Lines, v, n+1, v.line(n+1), nil)
			key := strings.Join(row, "\x00")
			c := column(w.text(heading, v, n+1, v.line(n+1)(heading.Field.Name)))
			if c == 0 {
				w.problem(v, n+1, heading.Field.Name, "the matrix has no column for it")
				continue
			}
			text := w.text(cell, v, n+1, v.line(n+1)(cell.Field.Name))
			// Another cell of the same row, unless the order of the lines has changed.
			if k := len(rows) - 1; k >= 0 && key == last && c > len(rows[k]) {
				rows[k] = put(rows[k], c, text)
				continue
			}
			last = key
			rows = append(rows, put(row, c, text))
		}
	}
	return rows
}
