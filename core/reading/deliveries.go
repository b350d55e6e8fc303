package reading

import (
	"slices"

	"koinos/core/finding"
	"koinos/core/mapping"
	"koinos/core/order"
	"koinos/core/origin"
	"koinos/core/source"
	"koinos/core/tree"
	"koinos/core/x12"
)

// deliveries maps the deliveries of a line of a tree.
func (w *worker) deliveries(v view, l *order.Line) {
	part, line := w.m.Parts[mapping.InDeliveries], v.row.Node
	if part == nil || len(v.row.plan.apart) > 0 && !w.hasOneOf(v.row.plan.under) {
		return
	}
	cells := len(w.d.Trace.Cells)
	defer func() {
		at := slices.IndexFunc(w.d.Trace.Cells[cells:],
			func(c origin.Cell) bool { return c.Field == string(order.Deliveries) })
		for _, field := range l.SettleDeliveries(w.bindsLine) {
			if at >= 0 {
				where := w.d.Trace.Cells[cells+at]
				where.Field = field
				w.d.Trace.Cells = append(w.d.Trace.Cells, where)
			}
		}
	}()
	one := func(n *tree.Node) {
		w.delivery(view{row: &Row{Record: source.Record{Row: v.row.Row, Line: v.row.Line, Node: n}, plan: v.row.plan}}, l)
	}
	if all := v.row.plan.apart; len(all) > 0 {
		for n := range x12.Apart(line, all) {
			if w.tooMany(len(l.Deliveries), mostDeliveries, n, v.row.Line, w.now, "deliveries") {
				break
			}
			one(n)
		}
		return
	}
	for _, each := range append([]mapping.Query{part.Each}, part.Others...) {
		for _, n := range each.All(line) {
			one(n)
		}
	}
}

// deliveries notes where deliveries stand within a line of X12.
func (p *plan) deliveries(part *mapping.Part) {
	if part == nil {
		return
	}
	for _, each := range append([]mapping.Query{part.Each}, part.Others...) {
		if a, ok := each.(*x12.Address); ok {
			p.apart, p.under = append(p.apart, a), append(p.under, a.Way()[0])
		}
	}
}

// bindsLine reports whether a field of the lines is bound; a bound field is also written.
func (w *worker) bindsLine(field string) bool {
	return slices.ContainsFunc(w.m.Levels[mapping.InLines], func(b mapping.Binding) bool { return b.Field.Name == field })
}

// lastLine is the line that rows of another kind below it belong to, or nil.
func (w *worker) lastLine() *order.Line {
	if n := len(w.d.Order.Lines); n > 0 {
		w.now = n
		return &w.d.Order.Lines[n-1]
	}
	return nil
}

// delivery maps one delivery of a line. Without a line there is nothing that it could belong to.
func (w *worker) delivery(v view, l *order.Line) {
	d := w.d
	if l == nil {
		d.Find(finding.LineBeforeHeader, v.row.Place(0), "", 0, "The delivery stands above the order's first line.").Hint =
			"Let each delivery follow the line that it is one of."
		return
	}
	line, found := w.now, len(d.Findings)
	w.part = mapping.InDeliveries
	l.Deliveries = append(l.Deliveries, order.ScheduledDelivery{})
	noted := false
	for j := range v.row.plan.bound[mapping.InDeliveries] {
		b := &v.row.plan.bound[mapping.InDeliveries][j]
		if !w.feeds(b.Binding, v.row) {
			continue
		}
		w.now = line
		if t, ok := w.fetch(b, v); ok {
			if !noted && len(l.Deliveries) == 1 {
				d.Trace.AddCell(line, string(order.Deliveries), t.at.place())
				noted = true
			}
			w.take(b, t, l)
		} else {
			w.stated(b, l, v)
		}
	}
	l.SettleDelivery()
	for i := found; i < len(d.Findings); i++ { // "quantity" would be that of the line
		d.Findings[i].Field = string(order.Deliveries)
	}
	w.part = mapping.InLines
	if v.row.Node == nil {
		w.now = 0
	}
}
