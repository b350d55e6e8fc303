package reading

import (
	"slices"
	"strconv"
	"strings"

	"koinos/core/finding"
	"koinos/core/intent"
	"koinos/core/list"
	"koinos/core/mapping"
	"koinos/core/order"
	"koinos/core/origin"
	"koinos/core/source"
)

// Read makes an intent of a group: an order, or a notice about one. Set holds the lists and crosswalks that the mapping
// names. It may be called for several groups at once.
func Read(m *mapping.Mapping, g *Group, set *list.Set) *intent.Intent { return Explain(m, g, set, nil) }

// Explain is Read, and calls watch with every step that every value takes.
func Explain(m *mapping.Mapping, g *Group, set *list.Set, watch func(Step)) *intent.Intent {
	d := explain(m, g, set, watch)
	if m.Document.Set != "" && !d.Orphan {
		purpose(m.Document.Set, g, d)
		weighed(m, g, d)
	}
	if m.FromSeller && !d.Orphan {
		d.FromSeller()
	}
	return d
}

func explain(m *mapping.Mapping, g *Group, set *list.Set, watch func(Step)) *intent.Intent {
	d := &intent.Intent{Kind: m.Kind, Seq: g.Seq, Orphan: g.Orphan || g.Broken, Spans: spans(g.all())}
	d.Order.Kind = m.Of
	if m.Kind != intent.Order {
		d.Order.Statement = &order.Statement{Kind: string(m.Kind)}
	}
	d.Trace.Sheet = g.Rows[0].Sheet
	for i := range g.Rows {
		for _, f := range g.Rows[i].Findings { // what the reader found knows no order yet
			f.Order = g.Seq
			d.Findings = append(d.Findings, f)
		}
	}
	for _, f := range g.bad {
		f.Order = g.Seq
		d.Findings = append(d.Findings, f)
	}
	if g.Broken {
		return d
	}
	if g.Orphan {
		if d.Refused() {
			return d
		}
		for i := range g.Rows {
			orphaned(d, &g.Rows[i])
		}
		return d
	}
	if n := g.Rows[0].Node; n != nil && n.Scalar() {
		d.Orphan = true
		d.Find(finding.RecordBroken, g.Rows[0].Place(0), n.Text, 0,
			"%s is a single value, where an order, an object with members, should be.",
			finding.Capital(rowName(&g.Rows[0].Record))).Hint = "Correct document.records, or the path of " +
			"orders.group: it should lead to the orders."
		return d
	}
	w := worker{m: m, d: d, set: set, g: g, watch: watch}
	if m.Computes {
		w.env = mapping.NewEnv(&w)
	}
	w.kind()
	first := &g.Rows[0]
	if g.Long {
		column := 0
		if len(first.plan.group) > 0 {
			column = first.plan.group[0].column
		}
		d.Find(finding.OrderTooLong, first.Place(column), cell(&first.Record, column).Text, 0,
			"The order has more than %d rows.", MostRows)
	}
	w.headers()
	if w.usual = w.linePlan(); first.Sheet != w.usual.head.Sheet && len(w.usual.bound[mapping.InLines]) > 0 &&
		w.usual.head.Sheet != "" {
		// the lines are on another sheet than the order's first row
		d.Trace.Columns, d.Trace.Paths, w.usual = w.usual.columns, w.usual.paths, nil
	} else {
		d.Trace.Columns, d.Trace.Paths = w.usual.columns, w.usual.paths
	}
	w.lines()
	if m.Kind == intent.Order { // a notice names the line that it means, or does not
		order.NumberLines(d.Order.Lines)
	}
	for _, level := range []int{mapping.InParties, mapping.InCharges} {
		if m.Levels[level] != nil {
			w.others(level)
		}
	}
	w.compareCurrencies()
	w.ofWhole()
	w.blanks()
	return d
}

// kind reads the value that says whether an order is a sales or a purchase order.
func (w *worker) kind() {
	by := w.m.KindBy
	if by == nil {
		return
	}
	for i := range w.g.Rows {
		r := &w.g.Rows[i]
		w.view, w.of = view{row: r}, ""
		c, at, ok := w.find(&r.plan.kindBy)
		if !ok {
			continue
		}
		kind, known := by.Kinds[list.Fold(c.Text)]
		if !known {
			w.d.Find(finding.UnknownChoice, at.place(), c.Text, 0,
				"%q says neither that it is a sales order nor that it is a purchase order.",
				c.Text).Hint = "Name the value in orders.kinds of the mapping."
			return
		}
		w.d.Order.Kind = kind
		return
	}
}

// orphaned says of a line that it belongs to no order.
func orphaned(d *intent.Intent, r *Row) {
	column, key, at := 0, "", r.Place(0)
	if len(r.plan.group) > 0 {
		w := worker{m: r.plan.m, d: d, view: view{row: r}}
		c, found, _ := w.find(&r.plan.group[0])
		column, key = r.plan.group[0].column, source.Trim(c.Text)
		if at = r.Place(column); key != "" {
			at = found.place()
		}
	}
	name := rowName(&r.Record)
	if key == "" {
		d.Find(finding.LineBeforeHeader, at, "", 0, "%s has a line, but nothing says which order it belongs to.",
			finding.Capital(name))
		return
	}
	d.Find(finding.LineBeforeHeader, at, key, 0, "No order has the key %q, which %s names.", key, name).Hint =
		"Add its header, or correct the key."
}

func rowName(r *source.Record) string {
	switch {
	case r.Line > 0:
		return "line " + strconv.Itoa(r.Line)
	case r.Node != nil:
		return "the record " + r.Node.Pointer()
	}
	return "row " + strconv.Itoa(r.Row)
}

// all returns the group's rows, and for a whole grouping also the rows around them.
func (g *Group) all() []Row {
	if first := g.Rows[0].plan; first.m == nil || !first.m.Group.Whole() || first.around == nil {
		return g.Rows
	}
	var rows []Row
	var last *plan
	for i := range g.Rows {
		if p := g.Rows[i].plan; p != last {
			last = p
			for _, rec := range p.around.rows {
				rows = append(rows, Row{Record: rec})
			}
			if p.head.Row > 0 {
				rows = append(rows, Row{Record: source.Record{Sheet: g.Rows[i].Sheet, Row: p.head.Row}})
			}
		}
		rows = append(rows, g.Rows[i])
	}
	slices.SortStableFunc(rows, func(a, b Row) int {
		if a.Sheet != b.Sheet {
			return 0
		}
		return a.Row - b.Row
	})
	return rows
}

// spans returns the runs of adjacent rows, sheet by sheet.
func spans(rows []Row) []origin.Span {
	all := make([]origin.Span, 0, 1)
	for i := range rows {
		r := &rows[i]
		last := max(r.Row, r.Last)
		if n := len(all); n > 0 && r.Row <= all[n-1].Last+1 && r.Row >= all[n-1].First && r.Sheet == all[n-1].Sheet {
			all[n-1].Last = max(last, all[n-1].Last)
			continue
		}
		all = append(all, origin.Span{Sheet: r.Sheet, First: r.Row, Last: last})
	}
	return all
}

// linePlan is the plan of the first row that can be a line.
func (w *worker) linePlan() *plan {
	for i := range w.g.Rows {
		if p := w.g.Rows[i].plan; len(p.bound[mapping.InLines]) > 0 {
			return p
		}
	}
	return w.g.Rows[0].plan
}

// kindOf is the kind of row, by rowkind, that fills a level unless a binding names other kinds.
var kindOf = [5]string{"header", "line", "party", "charge", "delivery"}

// feeds reports whether a binding reads a row at all.
func (w *worker) feeds(b *mapping.Binding, r *Row) bool {
	if w.m.Group.By != "rowkind" {
		return true
	}
	if len(b.Rows) > 0 {
		return slices.Contains(b.Rows, r.word)
	}
	return r.kind == kindOf[w.part]
}

// headers takes the header's facts from the rows that have them.
func (w *worker) headers() {
	rows := w.g.Rows
	w.plain = w.m.Group.By != "rowkind" && w.watch == nil && len(rows[0].plan.bound[mapping.InHeader]) > 0
	for i := range rows {
		w.plain = w.plain && rows[i].plan == rows[0].plan
	}
	w.d.Trace.Header = make([]origin.Cell, 0, len(w.m.Levels[mapping.InHeader]))
	w.segmentsOf(&rows[0])
	for i := range w.m.Levels[mapping.InHeader] {
		w.header(i, rows)
	}
}

// absent reports whether a header fact stands in segments that a record of X12 does not have.
func (w *worker) absent(r *Row, i int) bool {
	all := r.plan.bound[mapping.InHeader]
	return i < len(all) && all[i].under != nil && !w.hasOneOf(all[i].under)
}

// header takes one header fact: from the first row that has it, in which case the other rows must agree, or as repeat
// says.
func (w *worker) header(i int, rows []Row) {
	binding := &w.m.Levels[mapping.InHeader][i]
	absent := len(rows) == 1 && rows[0].Node != nil && w.absent(&rows[0], i)
	if !absent && w.plain && (binding.Repeat == "" || binding.Repeat == "agree") && w.plainHeader(i, rows) {
		return
	}
	var first taken
	var b *bound
	agree := binding.Repeat == "" || binding.Repeat == "agree"
	var texts []string
	var sum order.Number
	for j := range rows {
		r := &rows[j]
		if len(r.plan.bound[mapping.InHeader]) == 0 || !w.feeds(binding, r) {
			continue
		}
		one := &r.plan.bound[mapping.InHeader][i]
		if j > 0 && w.above(one, r.plan) {
			break
		}
		if b == nil {
			b = one
		} else if c := one.column; first.ok && agree && c > 0 && c <= len(r.Cells) && r.Cells[c-1] == first.cell {
			continue // the same once more, as on every row of most documents
		}
		if absent {
			continue
		}
		t, ok := w.fetch(one, view{row: r})
		if !ok {
			continue
		}
		if first.ok && agree {
			if t.cell.Text != first.cell.Text && !w.sameValue(one, first.cell, t.cell) {
				f := w.d.Find(finding.HeaderDisagrees, t.at.place(), t.cell.Text, 0,
					"%s is %q here but %q in %s of the same order.", binding.Field.Name, t.cell.Text, first.cell.Text,
					rowName(first.at.rec))
				f.Field = binding.Field.Name
			}
			continue
		}
		switch binding.Repeat {
		case "join":
			if !slices.Contains(texts, t.cell.Text) {
				texts = append(texts, t.cell.Text)
			}
		case "sum":
			n, _, err := one.loc.Number(t.cell, true)
			if err == nil {
				sum, err = sum.Add(n)
			}
			if err != nil {
				w.bad(one, t, finding.NotANumber, "%q cannot be added to %s: %v.", t.cell.Text, binding.Field.Name, err)
				continue
			}
		}
		if !first.ok || binding.Repeat == "last" {
			first = t
		}
		if binding.Repeat == "first" || w.constant(one) {
			break
		}
	}
	if b == nil {
		for j := range rows { // no row of the right kind: the mapping's own value, or none
			if len(rows[j].plan.bound[mapping.InHeader]) > 0 {
				b = &rows[j].plan.bound[mapping.InHeader][i]
				break
			}
		}
		if b == nil {
			return
		}
	}
	if !first.ok {
		w.stated(b, nil, view{row: &rows[0]})
		return
	}
	if binding.Repeat == "join" {
		first.cell.Text = strings.Join(texts, binding.Separator)
	} else if binding.Repeat == "sum" {
		first.cell = source.Cell{Text: sum.String(), Kind: source.Exact}
	}
	if first.at.rec != nil && (first.at.column > 0 || first.at.node != nil) {
		w.d.Trace.Add(binding.Field.Name, first.at.place())
	}
	w.take(b, first, nil)
}

// plainHeader takes a fact from one column of rows that all state it in the same way, which is the usual case. If it
// returns false, header must take the fact.
func (w *worker) plainHeader(i int, rows []Row) bool {
	b := &rows[0].plan.bound[mapping.InHeader][i]
	if b.fixed {
		w.stated(b, nil, view{row: &rows[0]})
		return true
	}
	c := b.column - 1
	if c < 0 || b.spots[0].none != nil {
		return false
	}
	if w.above(b, rows[0].plan) {
		rows = rows[:1]
	}
	first := -1
	for j := range rows {
		cells := rows[j].Cells
		switch {
		case c >= len(cells) || first >= 0 && cells[c] == rows[first].Cells[c] || cells[c].Blank():
		case first >= 0:
			return false
		default:
			first = j
		}
	}
	if first < 0 {
		w.stated(b, nil, view{row: &rows[0]})
		return true
	}
	t, ok := w.fetch(b, view{row: &rows[first]})
	if !ok {
		return false
	}
	w.d.Trace.Add(b.Field.Name, t.at.place())
	w.take(b, t, nil)
	return true
}

// above reports whether a header fact stands on the order's first row only, because its lines begin on the next row and
// use its columns for something else, or because the mapping asks only for the first.
func (w *worker) above(b *bound, p *plan) bool {
	part := w.m.Parts[mapping.InLines]
	if part == nil || !part.Next {
		return false
	}
	if b.Repeat == "first" {
		return true
	}
	for i := range p.bound[mapping.InLines] {
		line := &p.bound[mapping.InLines][i]
		for j := range b.spots {
			if slices.ContainsFunc(line.spots, func(s spot) bool { return s.same(&b.spots[j]) }) {
				return true
			}
		}
	}
	return false
}

// constant reports whether a binding finds the same value whatever row it looks at.
func (w *worker) constant(b *bound) bool {
	return len(b.spots) > 0 && b.Expr == nil && b.When == nil &&
		!slices.ContainsFunc(b.spots, func(s spot) bool { return s.src.Kind < mapping.ByCell })
}

// sameValue reports whether two cells with different text mean the same.
func (w *worker) sameValue(b *bound, a, c source.Cell) bool {
	switch b.Field.Type {
	case order.Day:
		x, errX := b.loc.Date(a)
		y, errY := b.loc.Date(c)
		return errX == nil && errY == nil && x == y
	case order.Decimal, order.Percent:
		x, _, errX := b.loc.Number(a, true)
		y, _, errY := b.loc.Number(c, true)
		return errX == nil && errY == nil && x.Cmp(y) == 0
	}
	fold := b.Fold || w.m.Group.Fold && len(b.spots) == 1 && // where keys are folded, so is what feeds from them
		slices.ContainsFunc(w.g.Rows[0].plan.group, func(s spot) bool { return s.same(&b.spots[0]) })
	return fold && list.Fold(a.Text) == list.Fold(c.Text)
}
