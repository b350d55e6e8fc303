package check

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"koinos/core/finding"
	"koinos/core/intent"
	"koinos/core/order"
	"koinos/core/origin"
)

// subject is an order whose findings are kept; reported is the field that the
// mapping has spoken about already, "line field".
type subject struct {
	last     *finding.Finding
	stated   []intent.Stated
	reported string
	found    []string
}

func (s *subject) Add(code finding.Code, line int, field, value, format string, args ...any) *finding.Finding {
	f := finding.New(code, origin.Place{}, value, format, args...)
	s.found = append(s.found, fmt.Sprintf("%s %d %s", code, line, field))
	s.last = &f
	return &f
}
func (s *subject) Has(line int, field string) bool {
	return s.reported != "" &&
		s.reported == fmt.Sprint(line, " ", field)
}
func (s *subject) Stated() []intent.Stated { return s.stated }

// statedOf are the amounts of lines, and with 0 the total, -1 the tax, -2 the total before tax.
func statedOf(all []int) (stated []intent.Stated) {
	fields := map[int]string{0: "total", -1: "tax_amount", -2: "total_before_tax"}
	for _, n := range all {
		if n > 0 {
			stated = append(stated, intent.Stated{Line: n, Field: "amount"})
		} else {
			stated = append(stated, intent.Stated{Field: fields[n]})
		}
	}
	return stated
}

func TestRules(t *testing.T) {
	n := order.MustNumber
	line := func(change func(*order.Line)) []order.Line {
		l := order.Line{Item: "00417", Quantity: n("2"), UnitPrice: n("9.50")}
		change(&l)
		return []order.Line{l}
	}
	same := func(*order.Line) {}
	many := func(price, tax string, lines int, change func(*order.Line)) (all []order.Line) {
		for range lines {
			l := order.Line{Item: "00417", Quantity: n("1"), UnitPrice: n(price), TaxPercent: n(tax)}
			change(&l)
			all = append(all, l)
		}
		return all
	}
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
		{"a stated tax that is not the lines'", order.Order{TaxAmount: n("3.81"), StatedNet: n("19"),
			StatedTotal: n("22.80"),
			Lines:       line(func(l *order.Line) { l.TaxPercent = n("20") })}, []int{0, -1, -2}, "", ""},
		{"a stated tax beyond the tolerance", order.Order{TaxAmount: n("3.82"),
			Lines: line(func(l *order.Line) { l.TaxPercent = n("20") })},
			[]int{-1}, "", "tax_differs 0 tax_amount"},
		{"a stated tax where no line says its rate", order.Order{TaxAmount: n("7"), StatedTotal: n("26"),
			StatedNet: n("19"), Lines: line(same)},
			[]int{0, -1, -2}, "", ""},
		{"a total before tax", order.Order{TaxAmount: n("7"), StatedNet: n("26"), Lines: line(same)}, []int{-2}, "",
			"total_differs 0 total_before_tax"},
		{"prices that hold the tax", order.Order{TaxTreatment: order.TaxInclusive, TaxAmount: n("3.17"),
			StatedNet: n("15.83"), StatedTotal: n("19"),
			Lines: line(func(l *order.Line) { l.TaxPercent = n("20") })}, []int{0, -1, -2}, "", ""},
		{"tax that is rounded once for each rate", order.Order{TaxRounding: order.TaxByOrder, TaxAmount: n("0.22"),
			StatedTotal: n("2.42"),
			Lines:       many("0.22", "10", 10, same)}, []int{0, -1}, "", ""},
		{"tax that is rounded on each line", order.Order{TaxAmount: n("0.20"), StatedTotal: n("2.40"),
			Lines: many("0.22", "10", 10, same)},
			[]int{0, -1}, "", ""},
		{"tax that is rounded elsewhere", order.Order{TaxAmount: n("0.22"), StatedTotal: n("2.42"),
			Lines: many("0.22", "10", 10, same)},
			[]int{0, -1}, "", "total_differs 0 total, tax_differs 0 tax_amount"},
		{"a line number twice", order.Order{Lines: many("1", "0", 2, func(l *order.Line) { l.Number = "10" })}, nil, "",
			"line_twice 2 number"},
		{"a price below zero", order.Order{Lines: line(func(l *order.Line) {
			l.UnitPrice, l.StatedAmount = n("-9.50"), n("-19")
		})}, []int{1}, "",
			"price_negative 1 unit_price"},
		{"an amount beside a price below zero", order.Order{Lines: line(func(l *order.Line) {
			l.UnitPrice, l.StatedAmount = n("-9.50"), n("19")
		})}, []int{1}, "",
			"price_negative 1 unit_price, amount_differs 1 amount"},
		{"too large", order.Order{Lines: line(func(l *order.Line) {
			l.Quantity, l.UnitPrice = n("9999999999999"), n("9999999999999")
		})}, nil, "", "amount_too_large 1 amount"},
	} {
		o := c.order
		o.SenderNumber = "A-1"
		s := &subject{stated: statedOf(c.stated), reported: c.reported}
		Order(&o, s, Terms{Tolerance: n("0.01"), Rounding: order.HalfUp})
		if got := strings.Join(s.found, ", "); got != c.want {
			t.Errorf("%s: %q, want %q", c.name, got, c.want)
		}
	}
}

// Where another way of taxing makes the document's figure, the finding says which; nothing else is proposed.
func TestOtherTax(t *testing.T) {
	n := order.MustNumber
	less, freight := order.Charge{Allowance: true, Code: "discount", Percent: n("5")}, order.Charge{Code: "freight", Amount: n("10")}
	usual := finding.New(finding.TotalDiffers, origin.Place{}, "", "").Hint
	usualOfTax := finding.New(finding.TaxDiffers, origin.Place{}, "", "").Hint
	for _, c := range []struct {
		name  string
		order order.Order
		lines []string // amounts
		field string
		want  string
	}{
		{"tax on what the discount leaves", order.Order{StatedTotal: n("113.05"), Charges: []order.Charge{less}}, []string{"100"}, "total",
			"It is as the document says if the mapping has tax_base: {value: less_allowances} in its header."},
		{"freight is taxed, too", order.Order{TaxAmount: n("19.95"), Charges: []order.Charge{less, freight}}, []string{"100"}, "tax_amount",
			"It is as the document says if the mapping has tax_base: {value: with_charges} in its header."},
		{"the mapping says another base", order.Order{TaxBase: order.TaxWithCharges, TaxAmount: n("19.00"),
			Charges: []order.Charge{less, freight}}, []string{"100"}, "tax_amount",
			"It is as the document says if the mapping has tax_base: {value: lines} in its header."},
		{"rounded once", order.Order{StatedTotal: n("0.79")}, []string{"0.22", "0.22", "0.22"}, "total",
			"It is as the document says if the mapping has tax_rounding: {value: order} in its header."},
		{"both", order.Order{TaxAmount: n("0.45"), Charges: []order.Charge{less}}, slices.Repeat([]string{"0.25"}, 10), "tax_amount",
			"It is as the document says if the mapping has tax_base: {value: less_allowances} and tax_rounding: {value: order} in its header."},
		{"no way", order.Order{StatedTotal: n("99"), Charges: []order.Charge{less, freight}}, []string{"100"}, "total", usual},
		{"no way to the tax", order.Order{TaxAmount: n("99"), Charges: []order.Charge{less, freight}}, []string{"100"}, "tax_amount", usualOfTax},
	} {
		o := c.order
		o.SenderNumber = "A-1"
		for _, amount := range c.lines {
			o.Lines = append(o.Lines, order.Line{Item: "00417", Quantity: n("1"), UnitPrice: n(amount), TaxPercent: n("19")})
		}
		s := &subject{stated: []intent.Stated{{Field: c.field}}}
		Order(&o, s, Terms{Rounding: order.HalfUp})
		if s.last == nil || s.last.Hint != c.want || len(s.found) != 1 {
			t.Errorf("%s: %q, %+v", c.name, s.found, s.last)
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
		s.stated = append(s.stated, intent.Stated{Line: i + 1, Field: "amount"})
	}
	for b.Loop() {
		Order(&o, s, Terms{Tolerance: n("0.01"), Rounding: order.HalfUp})
	}
	if len(s.found) > 0 {
		b.Fatal(s.found)
	}
}
