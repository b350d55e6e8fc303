package reading

import (
	"fmt"
	"strings"

	"koinos/core/finding"
	"koinos/core/intent"
	"koinos/core/order"
	"koinos/core/origin"
	"koinos/core/source"
)

// Counts are what was read of a document, for comparison with the totals that it states.
type Counts struct {
	Rows, Orders, Lines    int
	LeftOut, RowsLeftOut   int // by the conditions of the mapping: orders, and single rows of the others
	Quantity, Goods, Total order.Number
	off                    bool // a sum has more digits than can be computed with
}

// Total is a count or a sum that the document states about itself.
type Total struct {
	Name   string // one of mapping.TotalNames
	Number order.Number
	At     origin.Place
}

// Add counts an order. Refused orders count too, because the document contains them.
func (c *Counts) Add(d *intent.Intent) {
	if d.Orphan {
		return
	}
	sum := func(to *order.Number, n order.Number) {
		var err error
		if *to, err = to.Add(n); err != nil {
			c.off = true
		}
	}
	c.Orders++
	c.Lines += len(d.Order.Lines)
	for i := range d.Order.Lines {
		sum(&c.Quantity, d.Order.Lines[i].Quantity)
	}
	sum(&c.Goods, d.Order.Goods)
	sum(&c.Total, d.Order.Total)
}

func (c *Counts) of(name string) order.Number {
	switch name {
	case "orders":
		return order.NumberOf(int64(c.Orders))
	case "lines":
		return order.NumberOf(int64(c.Lines))
	case "rows":
		return order.NumberOf(int64(c.Rows))
	case "quantity":
		return c.Quantity
	case "goods":
		return c.Goods
	}
	return c.Total
}

// states takes a row with totals; false if it is not such a row.
func (t *Table) states(rec *source.Record) bool {
	totals := t.m.Document.Totals
	switch {
	case totals == nil || t.plan == nil:
		return false
	case totals.When == nil:
		t.stateOnce(rec)
		return false
	}
	r := Row{Record: *rec, plan: t.plan}
	if !t.holds(totals.When, &r) {
		t.Notes = append(t.Notes, r.Findings...)
		return false
	}
	t.state(&r)
	return true
}

// stateOnce takes totals that stand around the orders, with the first order of the document or of a sheet.
func (t *Table) stateOnce(rec *source.Record) {
	if t.stated == t.plan {
		return
	}
	t.stated = t.plan
	t.state(&Row{Record: *rec, plan: t.plan})
}

func (t *Table) state(r *Row) {
	for i := range t.plan.totals {
		b := &t.plan.totals[i]
		got, ok := t.cond.fetch(b, view{row: r})
		if !ok {
			t.Notes = append(t.Notes, finding.New(finding.MustMissing, r.Place(0), "",
				"The document does not state its %s where the mapping says.", b.Field.Name))
			continue
		}
		n, _, err := b.loc.Number(got.cell, false)
		if err != nil {
			t.Notes = append(t.Notes, finding.New(finding.NotANumber, got.at.place(), got.cell.Text,
				"%q is not a number for %s: %v.", got.cell.Text, b.Field.Name, err))
			continue
		}
		t.Stated = append(t.Stated, Total{b.Field.Name, n, got.at.place()})
	}
}

// Compare compares what the document states about itself with what was read, and notes the differences.
func (t *Table) Compare() {
	t.Notes = append(t.Notes, t.m.JudgeDocument(t.Counts.of)...)
	totals := t.m.Document.Totals
	if totals == nil {
		return
	}
	sums := map[string]order.Number{}
	last := map[string]Total{}
	for _, one := range t.Stated { // several sheets state each its own
		n, err := sums[one.Name].Add(one.Number)
		if err != nil {
			t.Counts.off = true
		}
		sums[one.Name], last[one.Name] = n, one
	}
	for i := range totals.Values {
		name := totals.Values[i].Field.Name
		one, stated := last[name]
		if !stated {
			t.noteTotals(origin.Place{}, "", "The document does not state its %s.", name)
			continue
		}
		if have := t.Counts.of(name); t.Counts.off || have.Cmp(sums[name]) != 0 {
			t.noteTotals(one.At, one.Number.String(), "The document says %s %s, but %s were read%s.", sums[name],
				words[name], have, t.Counts.without())
		}
	}
}

var words = map[string]string{"orders": "orders", "lines": "lines", "rows": "rows",
	"quantity": "as the sum of the quantities",
	"goods":    "as the sum of the lines' amounts", "total": "as the sum of the orders' totals"}

// without says what the sums lack because the mapping leaves it out.
func (c *Counts) without() string {
	var parts []string
	for _, p := range []struct {
		n   int
		one string
	}{{c.LeftOut, "order"}, {c.RowsLeftOut, "row"}} {
		switch {
		case p.n == 1:
			parts = append(parts, "1 "+p.one)
		case p.n > 1:
			parts = append(parts, fmt.Sprintf("%d %ss", p.n, p.one))
		}
	}
	if parts == nil {
		return ""
	}
	return "; the mapping left out " + strings.Join(parts, " and ")
}

func (t *Table) noteTotals(at origin.Place, value, format string, args ...any) {
	f := finding.New(finding.DocumentDiffers, at, value, format, args...)
	if t.m.Document.Totals.Warn {
		f.Severity = finding.Warning
	}
	t.Notes = append(t.Notes, f)
}
