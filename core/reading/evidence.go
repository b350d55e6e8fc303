package reading

import (
	"io"
	"strconv"

	"koinos/core/finding"
	"koinos/core/intent"
	"koinos/core/mapping"
	"koinos/core/origin"
	"koinos/core/source"
)

// Evidence is what a whole document says about the order of day and month, column by column.
type Evidence struct {
	columns map[*mapping.Binding]*column
}

// column counts the values of one binding that fit only one of two forms.
type column struct {
	binding *mapping.Binding
	first   int // only the form that the mapping names first
	second  int // only the other
	either  int // both, with another meaning
	locale  mapping.Locale
}

// Weigh reads a document to its end and decides on the order of day and month in each column.
func Weigh(m *mapping.Mapping, src source.Reader) (*Evidence, error) {
	e := &Evidence{columns: map[*mapping.Binding]*column{}}
	table := NewTable(m, src, nil)
	for {
		g, err := table.Next()
		if err == io.EOF || len(finding.Of(err)) > 0 {
			break // what is wrong with the document is said when it is mapped
		}
		if err != nil {
			return nil, err
		}
		if g.Orphan || g.Broken {
			continue
		}
		w := worker{m: m, d: &intent.Intent{}, g: &g}
		if m.Computes {
			w.env = mapping.NewEnv(&w)
		}
		for i := range g.Rows {
			for level := range g.Rows[i].plan.bound {
				w.part = level
				for j := range g.Rows[i].plan.bound[level] {
					b := &g.Rows[i].plan.bound[level][j]
					if b.Swapped == 0 || !w.feeds(b.Binding, &g.Rows[i]) {
						continue
					}
					w.weigh(e, b, &g.Rows[i])
				}
			}
		}
	}
	for _, c := range e.columns {
		c.decide()
	}
	return e, nil
}

func (w *worker) weigh(e *Evidence, b *bound, r *Row) {
	c := e.columns[b.Binding]
	if c == nil {
		c = &column{binding: b.Binding}
		e.columns[b.Binding] = c
	}
	look := func(v view) {
		t, ok := w.fetch(b, v)
		if !ok || t.cell.Kind != source.Text {
			return
		}
		if _, plain := mapping.ISOForm.Parse(t.cell.Text); plain {
			return
		}
		forms := b.Locale.Dates
		x, isFirst := forms[b.Swapped-1].Parse(t.cell.Text)
		y, isSecond := forms[b.Swapped].Parse(t.cell.Text)
		switch {
		case isFirst && isSecond && x != y:
			c.either++
		case isFirst && !isSecond:
			c.first++
		case isSecond && !isFirst:
			c.second++
		}
	}
	part := w.m.Parts[w.part]
	if part != nil && part.Each != nil && r.Node != nil {
		for _, n := range part.Each.All(r.Node) {
			look(view{row: &Row{Record: source.Record{Row: r.Row, Line: r.Line, Node: n}, plan: r.plan}})
		}
		return
	}
	look(view{row: r})
}

// decide puts the form first for which the column gives evidence.
func (c *column) decide() {
	c.locale = c.binding.Locale
	c.locale.Mixed, c.locale.Undecided = c.first > 0 && c.second > 0, c.first+c.second == 0
	at := c.binding.Swapped
	if c.second > 0 && c.first == 0 {
		forms := append([]mapping.DateForm{}, c.locale.Dates...)
		forms[at-1], forms[at] = forms[at], forms[at-1]
		c.locale.Dates = forms
	}
}

func (e *Evidence) locale(b *mapping.Binding) *mapping.Locale {
	if c := e.columns[b]; c != nil {
		return &c.locale
	}
	return nil
}

// notes reports what was decided for the plan's columns.
func (e *Evidence) notes(p *plan) []finding.Finding {
	if e == nil {
		return nil
	}
	var all []finding.Finding
	for level := range p.bound {
		for _, b := range p.bound[level] {
			c := e.columns[b.Binding]
			if c == nil || c.either == 0 {
				continue // nothing was in doubt
			}
			at := origin.Place{}
			name := b.Field.Name
			if len(b.spots) > 0 {
				at, name = p.head.Place(b.spots[0].column), b.spots[0].src.Text
				if p.tree {
					at = origin.Place{}
				}
			}
			form, other := c.locale.Dates[b.Swapped-1].Text, c.locale.Dates[b.Swapped].Text
			var f finding.Finding
			switch {
			case c.first > 0 && c.second > 0:
				f = finding.New(finding.DateAmbiguous, at, "",
					"In %s, %s can only be %s, and %s only %s. What could be either (%s) is read as %s.",
					name, values(c.first), c.binding.Locale.Dates[b.Swapped-1].Text, values(c.second),
					c.binding.Locale.Dates[b.Swapped].Text, values(c.either), form)
			case c.first+c.second > 0:
				f = finding.New(finding.DatesDecided, at, "",
					"In %s, %s can only be %s, and none only %s. What could be either (%s) is read as %s.",
					name, values(c.first+c.second), form, other, values(c.either), form)
			default:
				f = finding.New(finding.DateAmbiguous, at, "",
					"In %s, every value (%d) could be %s or %s. Koinos reads them as %s.", name, c.either, form, other,
					form)
			}
			f.Field = b.Field.Name
			// A mapping that makes this an error refuses the orders with such dates, not the document.
			if as, weighed := p.m.Weighs[f.Code]; !weighed || as != "" {
				all = append(all, f)
			}
		}
	}
	return all
}

// unsure reports whether a date could be read either way, and its column does not show how: it has evidence for both
// orders of day and month, or for neither. Of a column without evidence one note speaks for all values, unless the
// mapping makes it an error, which has to be one of each order.
func (w *worker) unsure(b *bound, c source.Cell) bool {
	l, swapped := b.loc, b.Swapped
	if c.Kind != source.Text || !l.Mixed && !(l.Undecided && w.m.Weighs[finding.DateAmbiguous] == finding.Error) {
		return false
	}
	x, isFirst := l.Dates[swapped-1].Parse(c.Text)
	y, isSecond := l.Dates[swapped].Parse(c.Text)
	return isFirst && isSecond && x != y
}

func values(n int) string {
	if n == 1 {
		return "1 value"
	}
	return strconv.Itoa(n) + " values"
}
