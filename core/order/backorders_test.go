package order

import "testing"

// What comes later shows with its line, as the last answer about the line says it and as long as it is open.
func TestShowBackorders(t *testing.T) {
	n := MustNumber
	said := func(lines ...AnsweredLine) Answered { return Answered{Lines: lines} }
	later := func(code, quantity string) AnsweredLine {
		l := AnsweredLine{Line: 1, Code: code}
		l.Quantity, _ = ParseNumber(quantity)
		return l
	}
	for _, c := range []struct {
		name    string
		line    Line
		kind    Kind
		answers []Answered
		want    string
	}{
		{"nobody has answered", Line{}, Sales, nil, ""},
		{"a part of it", Line{}, Sales, []Answered{said(later("accepted", "14"), later("back-ordered", "6"))}, "6"},
		{"two parts of it, in codes", Line{}, Sales, []Answered{said(later("IB", "3"), later("BP", "4"))}, "7"},
		{"all of it, without a quantity", Line{}, Sales, []Answered{said(later("Back-Ordered", ""))}, "20"},
		{"more than is open", Line{Shipped: n("16")}, Sales, []Answered{said(later("IB", "6"))}, "4"},
		{"all has left", Line{Shipped: n("20")}, Sales, []Answered{said(later("IB", "6"))}, ""},
		{"of a purchase, what is received counts", Line{Shipped: n("20"), Received: n("15")}, Purchase, []Answered{said(later("IB", "6"))}, "5"},
		{"a part is cancelled", Line{Cancelled: n("17")}, Sales, []Answered{said(later("IB", "6"))}, "3"},
		{"a later answer takes it back", Line{}, Sales, []Answered{said(later("IB", "6")), said(later("IA", "20"))}, ""},
		{"a later answer is about another line", Line{}, Sales, []Answered{said(later("IB", "6")), said(AnsweredLine{Line: 2, Code: "IA"})}, "6"},
		{"a later answer is in place of all", Line{}, Sales, []Answered{said(later("IB", "6")), {Replaces: true, Lines: []AnsweredLine{{Line: 2, Code: "IA"}}}}, ""},
		{"refused", Line{}, Sales, []Answered{said(later("refused", "0"))}, ""},
		{"the line says it itself", Line{Backordered: n("2")}, Sales, []Answered{said(later("IB", "6"))}, "2"},
	} {
		l := c.line
		l.ID, l.Quantity = 1, n("20")
		o := Order{Kind: c.kind, Lines: []Line{l, {ID: 2, Quantity: n("1")}}}
		if err := o.Show(c.answers); err != nil || o.Lines[0].Backordered.Plain() != c.want || !o.Lines[1].Backordered.IsZero() {
			t.Errorf("%s: %s and %s, %v; want %s", c.name, o.Lines[0].Backordered, o.Lines[1].Backordered, err, c.want)
		}
	}
}

// The status of a line follows from what has moved of it and what is cancelled.
func TestLineStatus(t *testing.T) {
	for _, c := range []struct {
		kind                                  Kind
		ordered, cancelled, shipped, received string
		want                                  Status
	}{
		{Sales, "10", "", "", "", Open},
		{Sales, "10", "", "", "10", Open},
		{Sales, "10", "", "4", "", Partial},
		{Sales, "10", "", "10", "", Complete},
		{Sales, "10", "", "11", "", Complete},
		{Sales, "10", "6", "4", "", Complete},
		{Sales, "10", "5", "4", "", Partial},
		{Sales, "10", "6", "", "", Open},
		{Sales, "10", "10", "", "", Cancelled},
		{Purchase, "10", "", "10", "", Open},
		{Purchase, "10", "", "10", "3", Partial},
		{Purchase, "10", "", "", "10", Complete},
		{Sales, "", "", "", "", Open},
	} {
		number := func(s string) (n Number) { n, _ = ParseNumber(s); return n }
		o := Order{Kind: c.kind, Lines: []Line{{ID: 1, Quantity: number(c.ordered), Cancelled: number(c.cancelled),
			Shipped: number(c.shipped), Received: number(c.received)}}}
		if err := o.Show(nil); err != nil || o.Lines[0].Status != c.want {
			t.Errorf("%+v: %s %v", c, o.Lines[0].Status, err)
		}
	}
}
