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
		kind    Kind
		line    Line
		answers []Answered
		want    string
	}{
		{"nobody has answered", Sales, Line{}, nil, ""},
		{"a part of it", Sales, Line{}, []Answered{said(later("accepted", "14"), later("back-ordered", "6"))}, "6"},
		{"two parts of it, in codes", Sales, Line{}, []Answered{said(later("IB", "3"), later("BP", "4"))}, "7"},
		{"all of it, without a quantity", Sales, Line{}, []Answered{said(later("Back-Ordered", ""))}, "20"},
		{"more than is open", Sales, Line{Shipped: n("16")}, []Answered{said(later("IB", "6"))}, "4"},
		{"all has left", Sales, Line{Shipped: n("20")}, []Answered{said(later("IB", "6"))}, ""},
		{"of a purchase, what is received counts", Purchase, Line{Shipped: n("20"), Received: n("15")}, []Answered{said(later("IB", "6"))}, "5"},
		{"a part is cancelled", Sales, Line{Cancelled: n("17")}, []Answered{said(later("IB", "6"))}, "3"},
		{"a later answer takes it back", Sales, Line{}, []Answered{said(later("IB", "6")), said(later("IA", "20"))}, ""},
		{"a later answer is about another line", Sales, Line{}, []Answered{said(later("IB", "6")), said(AnsweredLine{Line: 2, Code: "IA"})}, "6"},
		{"a later answer is in place of all", Sales, Line{}, []Answered{said(later("IB", "6")), {Replaces: true, Lines: []AnsweredLine{{Line: 2, Code: "IA"}}}}, ""},
		{"refused", Sales, Line{}, []Answered{said(later("refused", "0"))}, ""},
		{"the line says it itself", Sales, Line{Backordered: n("2")}, []Answered{said(later("IB", "6"))}, "2"},
	} {
		l := c.line
		l.ID, l.Quantity = 1, n("20")
		o := Order{Kind: c.kind, Lines: []Line{l, {ID: 2, Quantity: n("1")}}}
		if err := o.ShowBackorders(c.answers); err != nil || o.Lines[0].Backordered.Plain() != c.want || !o.Lines[1].Backordered.IsZero() {
			t.Errorf("%s: %s and %s, %v; want %s", c.name, o.Lines[0].Backordered, o.Lines[1].Backordered, err, c.want)
		}
	}
}
