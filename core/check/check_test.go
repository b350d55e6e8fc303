package check

import (
	"fmt"
	"strings"
	"testing"

	"koinos/core/finding"
	"koinos/core/order"
	"koinos/core/origin"
)

// subject is an order whose findings are kept; reported are fields that the
// mapping has spoken about already, "line field".
type subject struct {
	stated   []int
	reported map[string]bool
	found    []string
}

func (s *subject) Add(code finding.Code, line int, field, value, format string, args ...any) *finding.Finding {
	f := finding.New(code, origin.Place{}, value, format, args...)
	s.found = append(s.found, fmt.Sprintf("%s %d %s", code, line, field))
	return &f
}
func (s *subject) Has(line int, field string) bool { return s.reported[fmt.Sprint(line, " ", field)] }
func (s *subject) Stated() []int                   { return s.stated }

func TestRules(t *testing.T) {
	n := order.MustNumber
	line := func(change func(*order.Line)) []order.Line {
		l := order.Line{Item: "00417", Quantity: n("2"), UnitPrice: n("9.50")}
		change(&l)
		return []order.Line{l}
	}
	same := func(*order.Line) {}
	for _, c := range []struct {
		name     string
		order    order.Order
		stated   []int
		reported string
		want     string
	}{
		{"nothing to say", order.Order{Lines: line(same)}, nil, "", ""},
		{"no lines", order.Order{}, nil, "", "order_without_lines 0 "},
		{"a description is enough of an item", order.Order{Lines: line(func(l *order.Line) {
			l.Item, l.Description = "", "Rope"
		})}, nil, "", ""},
		{"no item, no description", order.Order{Lines: line(func(l *order.Line) { l.Item = "" })}, nil, "",
			"line_without_item 1 item"},
		{"no item because its code is unknown", order.Order{Lines: line(func(l *order.Line) { l.Item = "" })}, nil,
			"1 item", ""},
		{"below zero", order.Order{Lines: line(func(l *order.Line) { l.Quantity = n("-1") })}, nil, "",
			"quantity_negative 1 quantity"},
		{"zero", order.Order{Lines: line(func(l *order.Line) { l.Quantity = n("0.00") })}, nil, "",
			"quantity_zero 1 quantity"},
		{"no quantity is the mapping's to say",
			order.Order{Lines: line(func(l *order.Line) { l.Quantity = order.Number{} })}, nil, "1 quantity", ""},
		{"dates", order.Order{OrderedOn: "2026-03-02", RequestedDeliveryOn: "2026-03-02", CancelAfter: "2026-03-01",
			Lines: line(func(l *order.Line) { l.RequestedShipOn = "2026-02-01" })}, nil, "",
			"dates_out_of_order 0 cancel_after, dates_out_of_order 1 requested_ship_on"},
		{"an amount within the tolerance",
			order.Order{Lines: line(func(l *order.Line) { l.StatedAmount = n("19.01") })}, []int{1}, "", ""},
		{"an amount beyond it", order.Order{Lines: line(func(l *order.Line) { l.StatedAmount = n("19.02") })}, []int{1},
			"", "amount_differs 1 amount"},
		{"not to be compared", order.Order{Lines: line(func(l *order.Line) { l.StatedAmount = n("99") })}, nil, "", ""},
		{"an amount without a price stands", order.Order{StatedTotal: n("7"),
			Lines: line(func(l *order.Line) { l.UnitPrice, l.StatedAmount = order.Number{}, n("7") })}, []int{1, 0}, "",
			""},
		{"a price that cannot be read spoils the comparison", order.Order{StatedTotal: n("19"),
			Lines: line(func(l *order.Line) { l.UnitPrice, l.StatedAmount = order.Number{}, n("19") })}, []int{1, 0},
			"1 unit_price", ""},
		{"a total", order.Order{StatedTotal: n("20"), Lines: line(same)}, []int{0}, "", "total_differs 0 total"},
		{"a total with freight and tax", order.Order{StatedTotal: n("27.80"), TaxAmount: n("3.80"),
			Charges: []order.Charge{{Code: "freight", Amount: n("5")}}, Lines: line(same)}, []int{0}, "", ""},
		{"a wrong amount is not reported again by the total", order.Order{StatedTotal: n("99"),
			Lines: line(func(l *order.Line) { l.StatedAmount = n("99") })}, []int{1, 0}, "", "amount_differs 1 amount"},
		{"too large", order.Order{Lines: line(func(l *order.Line) {
			l.Quantity, l.UnitPrice = n("9999999999999"), n("9999999999999")
		})}, nil, "", "amount_too_large 1 amount"},
	} {
		o := c.order
		o.SenderNumber = "A-1"
		s := &subject{stated: c.stated, reported: map[string]bool{c.reported: true}}
		Order(&o, s, Terms{Tolerance: n("0.01"), Rounding: order.HalfUp})
		if got := strings.Join(s.found, ", "); got != c.want {
			t.Errorf("%s: %q, want %q", c.name, got, c.want)
		}
	}
}

// BenchmarkOrder computes and checks an order of ten lines.
func BenchmarkOrder(b *testing.B) {
	n := order.MustNumber
	o := order.Order{SenderNumber: "A-1", Currency: "EUR", OrderedOn: "2026-03-02"}
	s := &subject{}
	for i := range 10 {
		o.Lines = append(o.Lines, order.Line{Item: "00417", Quantity: n("12"), UnitPrice: n("1.45"),
			StatedAmount: n("17.40")})
		s.stated = append(s.stated, i+1)
	}
	for b.Loop() {
		Order(&o, s, Terms{Tolerance: n("0.01"), Rounding: order.HalfUp})
	}
	if len(s.found) > 0 {
		b.Fatal(s.found)
	}
}
