package notice

import (
	"strings"
	"testing"

	"koinos/core/order"
)

func num(s string) order.Number { return order.MustNumber(s) }

// orderOf is a sales order of lines written item:quantity@price.
func orderOf(lines ...string) order.Order {
	o := order.Order{Kind: order.Sales, Number: "SO-1", SenderNumber: "PM-1", Currency: "EUR",
		RequestedDeliveryOn: "2026-03-30"}
	for i, l := range lines {
		item, rest, _ := strings.Cut(l, ":")
		quantity, price, _ := strings.Cut(rest, "@")
		o.Lines = append(o.Lines, order.Line{Number: string(rune('1' + i)), Item: item, Quantity: num(quantity),
			Unit: "EA", UnitPrice: num(price)})
	}
	return o
}

// What became of what was asked, in the codes of the trade.
func TestConfirm(t *testing.T) {
	for _, c := range []struct {
		name   string
		change func(*order.Order)
		order  string
		line   string
	}{
		{"as asked", func(*order.Order) {}, "AD", "IA 10"},
		{"fewer", func(o *order.Order) { o.Lines[0].Cancelled = num("4") }, "AC", "IQ 6"},
		{"another price", func(o *order.Order) { o.Lines[0].UnitPrice = num("2.5") }, "AC", "IP 10"},
		{"later", func(o *order.Order) { o.Lines[0].RequestedDeliveryOn = "2026-04-06" }, "AC", "DR 10"},
		{"another item", func(o *order.Order) { o.Lines[0].Item = "B" }, "AC", "IS 10"},
		{"fewer and later", func(o *order.Order) {
			o.Lines[0].Quantity, o.Lines[0].RequestedDeliveryOn = num("8"), "2026-04-06"
		}, "AC", "IC 8"},
		{"part of it later", func(o *order.Order) { o.Lines[0].Backordered = num("3") }, "AC", "BP 10"},
		{"all of it later", func(o *order.Order) { o.Lines[0].Backordered = num("10") }, "AC", "IB 10"},
		{"cancelled", func(o *order.Order) { o.Lines[0].Cancelled = num("10") }, "AC", "IR 0"},
		{"gone", func(o *order.Order) { o.Lines = o.Lines[1:] }, "AC", "IR 0"},
		{"all cancelled", func(o *order.Order) { o.Lines[0].Cancelled, o.Lines[1].Cancelled = num("10"), num("5") },
			"RD", "IR 0"},
	} {
		asked, is := orderOf("A:10@2", "C:5@1"), orderOf("A:10@2", "C:5@1")
		c.change(&is)
		v := Confirm(&asked, &is, "2026-03-16")
		if got := v.Lines[0].Statement.Code + " " +
			v.Lines[0].Statement.Accepted.String(); v.Statement.Code != c.order || got != c.line || len(v.Lines) != 2 {
			t.Errorf("%s: %s, %s; want %s, %s", c.name, v.Statement.Code, got, c.order, c.line)
		}
	}
}

func TestChanges(t *testing.T) {
	for _, c := range []struct {
		name   string
		change func(*order.Order)
		want   string
	}{
		{"nothing", func(*order.Order) {}, ""},
		{"more", func(o *order.Order) { o.Lines[0].Quantity = num("12") }, "1 QI 12"},
		{"fewer", func(o *order.Order) { o.Lines[0].Cancelled = num("4") }, "1 QD 6"},
		{"price", func(o *order.Order) { o.Lines[1].UnitPrice = num("1.10") }, "2 PC 5"},
		{"both", func(o *order.Order) { o.Lines[1].UnitPrice, o.Lines[1].Quantity = num("1.10"), num("6") }, "2 PQ 6"},
		{"date of all", func(o *order.Order) { o.RequestedDeliveryOn = "2026-04-06" }, "1 CT 10; 2 CT 5"},
		{"all three", func(o *order.Order) {
			o.Lines[0].UnitPrice, o.Lines[0].Quantity, o.Lines[0].RequestedDeliveryOn = num("1.10"), num("6"),
				"2026-04-06"
		}, "1 MU 6"},
		{"cancelled", func(o *order.Order) { o.Lines[0].Cancelled = num("10") }, "1 DI 0"},
		{"gone", func(o *order.Order) { o.Lines = o.Lines[:1] }, "2 DI 0"},
		{"one more", func(o *order.Order) {
			o.Lines = append(o.Lines, order.Line{Number: "3", Item: "D", Quantity: num("1"), UnitPrice: num("1")})
		}, "3 AI 1"},
	} {
		was, is := orderOf("A:10@2", "C:5@1"), orderOf("A:10@2", "C:5@1")
		c.change(&is)
		v := Changes(&was, &is, "1", "2026-03-16")
		var got []string
		for _, l := range v.Lines {
			got = append(got, l.Number+" "+l.Statement.Code+" "+l.Quantity.String())
		}
		if strings.Join(got, "; ") != c.want {
			t.Errorf("%s: %q, want %q", c.name, got, c.want)
		}
	}
}

// Parts are shipped and invoiced once, and the sums are those of the parts.
func TestShipAndBill(t *testing.T) {
	o := orderOf("A:10@2.50", "C:5@1")
	o.Charges = []order.Charge{{Code: "freight", Amount: num("4")}}
	o.Lines[0].Shipped, o.Lines[0].DiscountPercent, o.Lines[1].TaxPercent, o.Lines[1].Shipped = num("6"), num("10"),
		num("20"), num("5")
	first, err := Bill(&o, nil, "1", "2026-03-16", true)
	if err != nil || first.StatedTotal.Plain() != "23.5" || first.TaxAmount.Plain() != "1" { // 6 × 2.25 + 5 × 1 + 4 + 1
		t.Errorf("%s of which tax %s, %v", first.StatedTotal, first.TaxAmount, err)
	}
	o.Lines[0].Shipped = num("10")
	second, err := Bill(&o, Quantities(&first), "2", "2026-03-17", false)
	if err != nil || len(second.Lines) != 1 || second.StatedTotal.Plain() != "9" {
		t.Errorf("%s %+v %v", second.StatedTotal, second.Lines, err)
	}
	ship := Ship(&o, map[string]order.Number{"1": num("6"), "2": num("5")}, "1", "2026-03-17", "1405")
	if len(ship.Lines) != 1 || ship.Lines[0].Quantity.String() != "4" ||
		ship.Lines[0].Statement.ToDate.String() != "10" {
		t.Errorf("%+v", ship.Lines)
	}
	if none := Ship(&o, Quantities(&o), "1", "", ""); len(none.Lines) != 0 {
		t.Errorf("what was said is said again: %+v", none.Lines)
	}
}

// A price for many units, and a discount, become the price of one with which
// the invoice comes to the same amount.
func TestUnitPrices(t *testing.T) {
	for _, c := range []struct{ quantity, price, basis, less, want, total string }{
		{"5000", "12.40", "1000", "", "0.0124", "62.00"},
		{"25", "147.00", "10", "", "14.70", "367.50"},
		{"1", "10", "3", "", "3.33", "3.33"},
		{"300", "10", "3", "", "3.33333", "1000.00"},
		{"7", "19.99", "", "12.5", "17.491", "122.44"},
		{"1000000", "1", "7", "", "0.14285714", "142857.14"},
	} {
		o := order.Order{Kind: order.Sales, Currency: "EUR", Lines: []order.Line{{Number: "1",
			Quantity: num(c.quantity), Shipped: num(c.quantity), UnitPrice: num(c.price), PriceBasis: num(c.basis),
			DiscountPercent: num(c.less)}}}
		v, err := Bill(&o, nil, "1", "2026-03-16", true)
		if err != nil || v.Lines[0].UnitPrice.String() != c.want || v.StatedTotal.String() != c.total {
			t.Errorf("%s at %s per %s less %s: %s a unit, total %s, %v; want %s, %s", c.quantity, c.price, c.basis,
				c.less, v.Lines[0].UnitPrice, v.StatedTotal, err, c.want, c.total)
		}
	}
}
