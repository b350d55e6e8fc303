package reading

import (
	"slices"

	"koinos/core/intent"
	"koinos/core/mapping"
	"koinos/core/order"
)

// blanks notes what is blank in a change that names the revision which it was made from: it may have been made blank.
// Columns that the document does not have say nothing, nor do members that a JSON value does not have.
func (w *worker) blanks() {
	o := &w.d.Order
	if w.m.Kind != intent.Change || o.Statement == nil || o.Statement.Base.IsZero() {
		return
	}
	note := func(level, n int, l *order.Line, plan *plan) {
		if plan == nil {
			return
		}
		for i := range plan.bound[level] {
			b := &plan.bound[level][i]
			if b.Field.Kinds == nil && b.hasColumn() && !w.d.Has(n, b.Field.Name) && b.Field.Value(o, l) == "" {
				w.d.Clears = append(w.d.Clears, intent.Cleared{Line: n, Field: b.Field})
			}
		}
	}
	first := &w.g.Rows[0]
	note(mapping.InHeader, 0, nil, first.plan)
	for _, c := range w.d.Clears {
		w.d.Trace.Add(c.Field.Name, first.Place(first.plan.columnOf(c.Field.Name)))
	}
	for i := range o.Lines {
		note(mapping.InLines, i+1, &o.Lines[i], w.linePlan())
	}
}

// columnOf is the first column that a header's field is read from; 0 if there is none.
func (p *plan) columnOf(field string) int {
	for i := range p.bound[mapping.InHeader] {
		if b := &p.bound[mapping.InHeader][i]; b.Field.Name == field && len(b.spots) > 0 {
			return b.spots[0].column
		}
	}
	return 0
}

// hasColumn reports whether the document has a column that a binding reads.
func (b *bound) hasColumn() bool {
	return slices.ContainsFunc(b.spots, func(s spot) bool { return s.column > 0 || len(s.columns) > 0 })
}
