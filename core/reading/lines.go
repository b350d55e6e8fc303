package reading

import (
	"cmp"
	"koinos/core/finding"
	"koinos/core/mapping"
	"koinos/core/order"
	"koinos/core/origin"
	"koinos/core/source"
	"koinos/core/tree"
	"slices"
	"strings"
)

// lines maps the lines of the group's rows.
func (w *worker) lines() {
	w.part = mapping.InLines
	defer func() { w.part = mapping.InHeader }()
	rows, part := w.g.Rows, w.m.Parts[mapping.InLines]
	w.d.Order.Lines = make([]order.Line, 0, len(rows))
	w.d.Trace.Rows = make([]int, 0, len(rows))
	rowkind := w.m.Group.By == "rowkind"
	line, behind := w.line, w.continued
	var put sorted
	if part != nil && part.Sorted {
		line, behind = put.line, put.behind
		defer func() { put.all(w) }()
	}
	for i := range rows {
		r := &rows[i]
		switch {
		case len(r.plan.bound[mapping.InLines]) == 0 || part != nil && part.Next && i == 0:
		case rowkind && r.kind != "line":
			behind(r)
		case part != nil && part.When != nil && !w.partHolds(part.When, r):
		case part != nil && part.Each != nil && r.Node != nil:
			nodes := part.Each.All(r.Node)
			w.room(len(nodes))
			lines := make([]Row, 0, len(nodes)) // at once: an order has very many
			before := len(w.d.Trace.Cells)
			for i, n := range nodes {
				statements := 0
				for one := range part.Lines(n) {
					if w.tooMany(statements, mostStatements, one, r.Line, 0, "statements of its own") {
						break
					}
					statements++
					lines = append(lines, Row{Record: source.Record{Row: r.Row, Line: r.Line, Node: one}, plan: r.plan})
					line(view{row: &lines[len(lines)-1]})
				}
				if i == 0 { // lines are much alike
					w.d.Trace.Cells = slices.Grow(w.d.Trace.Cells, (len(w.d.Trace.Cells)-before)*(len(nodes)-1))
				}
			}
		case len(r.plan.cells) > 0:
			pieces, n := w.divide(r)
			for n := range n {
				line(view{row: r, n: n + 1, pieces: pieces})
			}
		case r.plan.reps > 0:
			for n := 1; n <= r.plan.reps; n++ {
				if v := (view{row: r, n: n}); w.hasPart(mapping.InLines, v) {
					line(v)
				}
			}
		case r.plan.matrix != nil:
			for _, c := range r.plan.matrix {
				if r.plan.filled(cell(&r.Record, c)) {
					line(view{row: r, column: c})
				}
			}
		case rowkind || part != nil && part.When != nil || w.hasPart(mapping.InLines, view{row: r}):
			line(view{row: r})
		}
	}
}

// mostStatements is how many statements a line of X12 can have, such as answers (ACK), and mostDeliveries how many
// deliveries. Each is read with everything else that the line says: mostBeside is how many segments can be looked at
// for all of them.
const mostStatements, mostDeliveries, mostBeside = 500, 10_000, 1_000_000

// tooMany says that a line has too many of what stands several times in it, if the next one, a node, is too many.
func (w *worker) tooMany(done, most int, next *tree.Node, row, line int, what string) bool {
	if done < most && done*next.Len() <= mostBeside {
		return false
	}
	w.d.Find(finding.OrderTooLong, source.PlaceOf(next, row), next.Name, line,
		"The line has more than %d %s, or too many of them beside all else that it says.", done, what)
	return true
}

// filled reports whether a cell of the matrix makes a line.
func (p *plan) filled(c source.Cell) bool {
	for i := range p.marks[mapping.InLines] {
		if s := &p.marks[mapping.InLines][i]; s.src.Kind == mapping.ByMatrixCell {
			return s.is(c)
		}
	}
	return !c.Blank()
}

// room makes room for a number of further lines.
func (w *worker) room(lines int) {
	d := w.d
	d.Order.Lines, d.Trace.Rows, d.Trace.Records = slices.Grow(d.Order.Lines, lines), slices.Grow(d.Trace.Rows, lines),
		slices.Grow(d.Trace.Records, lines)
}

func (w *worker) partHolds(x *mapping.Expr, r *Row) bool {
	w.loc = &w.m.Document.Locale
	return w.holds(x, r.plan.reads[x], view{row: r}, "", func(err error) {
		w.d.Find(finding.ExpressionFailed, r.Place(0), "", 0, "The condition at %s failed: %v.", x.At, err)
	})
}

// line maps one line.
func (w *worker) line(v view) {
	d := w.d
	if n := len(d.Order.Lines); n >= MostRows {
		if !w.full {
			w.full = true
			d.Find(finding.OrderTooLong, v.row.Place(0), "", 0, "The order has more than %d lines.", MostRows)
		}
		return
	}
	w.segmentsOf(v.row)
	d.Order.Lines = append(d.Order.Lines, order.Line{})
	w.now = len(d.Order.Lines)
	traceRow(&d.Trace, v.row)
	l := &d.Order.Lines[w.now-1]
	for j := range v.row.plan.bound[mapping.InLines] {
		b := &v.row.plan.bound[mapping.InLines][j]
		if !w.feeds(b.Binding, v.row) {
			continue
		}
		if b.fixed || b.under != nil && !w.hasOneOf(b.under) {
			w.stated(b, l, v)
		} else if t, ok := w.fetch(b, v); ok {
			if b.column == 0 || v.row.plan != w.usual {
				w.traceLine(b, t.at, v)
			}
			w.take(b, t, l)
		} else {
			w.stated(b, l, v)
		}
	}
	if len(v.row.plan.bound[mapping.InDeliveries]) > 0 && v.row.Node != nil {
		w.deliveries(v, l)
	}
	w.now = 0
}

// segmentsOf notes which segments stand directly within the node of a line or of a header.
func (w *worker) segmentsOf(r *Row) {
	w.under = w.under[:0]
	if r.Node == nil || r.Node.Kind != tree.Segment {
		return
	}
	last := ""
	for n := r.Node.First(); n != nil; n = n.Next() {
		if n.Kind == tree.Segment && n.Name != last {
			last = n.Name
			w.under = append(w.under, last)
		}
	}
}

// hasOneOf reports whether one of some segments stands directly within that node.
func (w *worker) hasOneOf(segments []string) bool {
	for _, s := range segments {
		if slices.Contains(w.under, s) {
			return true
		}
	}
	return false
}

// sorted gathers the lines of an order, each with the rows that continue it, to sort them by their numbers.
type sorted []sortedLine

type sortedLine struct {
	view
	behind []*Row
	number string
}

func (s *sorted) line(v view) { *s = append(*s, sortedLine{view: v}) }

func (s *sorted) behind(r *Row) {
	if n := len(*s); n > 0 {
		(*s)[n-1].behind = append((*s)[n-1].behind, r)
	}
}

// all maps the lines in the order of their numbers: 9 before 10, and lines without a number last.
func (s sorted) all(w *worker) {
	w.part = mapping.InLines
	for i := range s {
		plan := s[i].row.plan
		for j := range plan.bound[mapping.InLines] {
			if b := &plan.bound[mapping.InLines][j]; b.Field.Name == "number" && w.feeds(b.Binding, s[i].row) {
				t, _ := w.fetch(b, s[i].view)
				s[i].number = t.cell.Text
			}
		}
	}
	slices.SortStableFunc(s, func(a, b sortedLine) int { return compareNumbers(a.number, b.number) })
	for i := range s {
		w.line(s[i].view)
		for _, r := range s[i].behind {
			w.continued(r)
		}
	}
}

// compareNumbers compares texts in which runs of digits count as numbers; blank comes last.
func compareNumbers(a, b string) int {
	if a == "" || b == "" {
		return len(b) - len(a)
	}
	for a != "" && b != "" {
		x, y := leadingDigits(a), leadingDigits(b)
		if x == "" || y == "" {
			if a[0] != b[0] {
				return int(a[0]) - int(b[0])
			}
			a, b = a[1:], b[1:]
			continue
		}
		a, b = a[len(x):], b[len(y):]
		x, y = strings.TrimLeft(x, "0"), strings.TrimLeft(y, "0")
		if c := cmp.Or(len(x)-len(y), strings.Compare(x, y)); c != 0 {
			return c
		}
	}
	return len(a) - len(b)
}

func leadingDigits(s string) string {
	n := 0
	for n < len(s) && s[n] >= '0' && s[n] <= '9' {
		n++
	}
	return s[:n]
}

// continued adds what a row of another kind says about the line above it.
func (w *worker) continued(r *Row) {
	if r.kind == kindOf[mapping.InDeliveries] {
		w.delivery(view{row: r}, w.lastLine())
	}
	lines := w.d.Order.Lines
	for j := range r.plan.bound[mapping.InLines] {
		b := &r.plan.bound[mapping.InLines][j]
		if len(b.Rows) == 0 || !slices.Contains(b.Rows, r.word) || len(lines) == 0 {
			continue
		}
		t, ok := w.fetch(b, view{row: r})
		if !ok {
			continue
		}
		w.now = len(lines)
		if b.Repeat == "join" {
			if before := b.Field.Value(&w.d.Order, &lines[w.now-1]); before != "" {
				t.cell.Text = before + b.Separator + t.cell.Text
			}
		}
		w.traceLine(b, t.at, view{row: r})
		w.take(b, t, &lines[w.now-1])
		w.now = 0
	}
}

// others maps the repeating parties or charges.
func (w *worker) others(level int) {
	w.part = level
	defer func() { w.part = mapping.InHeader }()
	part := w.m.Parts[level]
	for i := range w.g.Rows {
		r := &w.g.Rows[i]
		switch {
		case len(r.plan.bound[level]) == 0:
		case w.m.Group.By == "rowkind" && r.kind != kindOf[level]:
		case part != nil && part.When != nil && !w.partHolds(part.When, r):
		case part != nil && part.Each != nil && r.Node != nil:
			for _, n := range part.Each.All(r.Node) {
				w.other(level, view{row: &Row{Record: source.Record{Row: r.Row, Line: r.Line, Node: n}, plan: r.plan}})
			}
		case w.m.Group.By == "rowkind" || w.hasPart(level, view{row: r}):
			w.other(level, view{row: r})
		}
	}
	if level != mapping.InCharges {
		return
	}
	if err := w.d.Order.FoldCharges(); err != nil {
		w.d.Find(finding.AmountTooLarge, w.g.Rows[0].Place(0), "", 0,
			"The amounts of charges for the same have more digits together than can be computed with.").Field = "charges"
	}
}

func (w *worker) other(level int, v view) {
	o, trace := &w.d.Order, &w.d.Trace
	before, found := len(trace.Header), len(w.d.Findings)
	if level == mapping.InParties {
		o.Parties = append(o.Parties, order.Party{})
	} else {
		o.Charges = append(o.Charges, order.Charge{})
	}
	for j := range v.row.plan.bound[level] {
		b := &v.row.plan.bound[level][j]
		if t, ok := w.fetch(b, v); ok {
			trace.Add(b.Field.Name, t.at.place())
			w.take(b, t, nil)
		} else {
			w.stated(b, nil, v)
		}
	}
	// Now that the role or kind is known, the values get the names that they have in the order.
	if level == mapping.InCharges {
		c := o.SettleCharge()
		name := c.Field()
		if c.Stated().IsZero() && len(w.d.Findings) == found {
			w.d.Find(finding.MustMissing, v.row.Place(0), "", 0, "%s has neither an amount nor a share in per cent.", name).Field = name
		}
		own := slices.DeleteFunc(trace.Header[before:], func(c origin.Cell) bool {
			return c.Field == "kind" || c.Field == "code"
		})
		for i := range own {
			own[i].Field = name
		}
		trace.Header = trace.Header[:before+len(own)]
		return
	}
	last := o.Parties[len(o.Parties)-1]
	for i := before; i < len(trace.Header); i++ {
		trace.Header[i].Field = last.Role + "." + trace.Header[i].Field
	}
	for _, p := range o.Parties[:len(o.Parties)-1] {
		if p.Role != last.Role || last.Role == "" {
			continue
		}
		if p != last {
			w.d.Find(finding.HeaderDisagrees, v.row.Place(0), last.Code+" "+last.Name, 0,
				"The order has a second, different party in the role %s.", last.Role).Field = last.Role
		}
		o.Parties = o.Parties[:len(o.Parties)-1]
		trace.Header = trace.Header[:before]
		break
	}
}
