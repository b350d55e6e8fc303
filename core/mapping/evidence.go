package mapping

import (
	"io"

	"koinos/core/finding"
	"koinos/core/intent"
	"koinos/core/origin"
	"koinos/core/source"
)

// Evidence is what a whole document says about the order of day and month,
// column by column.
type Evidence struct {
	columns map[*Binding]*column
}

// column counts the values of one binding that only one of two forms fits.
type column struct {
	binding *Binding
	first   int // only the form that the mapping names first
	second  int // only the other
	either  int // both, with another meaning
	locale  locale
}

// Undecided reports whether a document must be read once before it can be
// mapped: the mapping names two forms of a date that differ only in the order
// of day and month.
func (m *Mapping) Undecided() bool { return m.swaps }

// Weigh reads a document to its end and decides what day and month are in
// each column.
func (m *Mapping) Weigh(src source.Reader) (*Evidence, error) {
	e := &Evidence{columns: map[*Binding]*column{}}
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
		if m.computes {
			w.newEnv()
		}
		for i := range g.Rows {
			for level := range g.Rows[i].plan.bound {
				w.part = level
				for j := range g.Rows[i].plan.bound[level] {
					b := &g.Rows[i].plan.bound[level][j]
					if b.swapped == 0 || !w.feeds(b.Binding, &g.Rows[i]) {
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
		if _, plain := isoForm.parse(t.cell.Text); plain {
			return
		}
		forms := b.locale.dates
		x, isFirst := forms[b.swapped-1].parse(t.cell.Text)
		y, isSecond := forms[b.swapped].parse(t.cell.Text)
		switch {
		case isFirst && isSecond && x != y:
			c.either++
		case isFirst && !isSecond:
			c.first++
		case isSecond && !isFirst:
			c.second++
		}
	}
	part := w.m.parts[w.part]
	if part != nil && part.Each != nil && r.Node != nil {
		for _, n := range part.Each.All(r.Node) {
			look(view{row: &Row{Record: source.Record{Row: r.Row, Line: r.Line, Node: n}, plan: r.plan}})
		}
		return
	}
	look(view{row: r})
}

// decide brings the form that the column speaks for to the front.
func (c *column) decide() {
	c.locale = c.binding.locale
	c.locale.mixed = c.first > 0 && c.second > 0
	at := c.binding.swapped
	if c.second > 0 && c.first == 0 {
		forms := append([]dateForm{}, c.locale.dates...)
		forms[at-1], forms[at] = forms[at], forms[at-1]
		c.locale.dates = forms
	}
}

func (e *Evidence) locale(b *Binding) *locale {
	if c := e.columns[b]; c != nil {
		return &c.locale
	}
	return nil
}

// notes says what was decided for the plan's columns.
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
			form, other := c.locale.dates[b.swapped-1].text, c.locale.dates[b.swapped].text
			var f finding.Finding
			switch {
			case c.first > 0 && c.second > 0:
				f = finding.New(finding.DateAmbiguous, at, "", "In %s %d values can only be %s and %d only %s; the %d that could be either are read as %s.",
					name, c.first, c.binding.locale.dates[b.swapped-1].text, c.second, c.binding.locale.dates[b.swapped].text, c.either, form)
			case c.first+c.second > 0:
				f = finding.New(finding.DatesDecided, at, "", "In %s %d values can only be %s and none only %s: the %d that could be either are read as %s.",
					name, c.first+c.second, form, other, c.either, form)
			default:
				f = finding.New(finding.DateAmbiguous, at, "", "In %s each of the %d values could be %s or %s; they are read as %s.", name, c.either, form, other, form)
			}
			f.Field = b.Field.Name
			all = append(all, f)
		}
	}
	return all
}

// unsure reports whether a date, in a column that speaks for both orders of
// day and month, could be read either way.
func (l *locale) unsure(c source.Cell, swapped int) bool {
	if !l.mixed || c.Kind != source.Text {
		return false
	}
	x, isFirst := l.dates[swapped-1].parse(c.Text)
	y, isSecond := l.dates[swapped].parse(c.Text)
	return isFirst && isSecond && x != y
}
