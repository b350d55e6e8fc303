package notice

import (
	"fmt"
	"strconv"
	"strings"
	"testing"
	"time"

	"koinos/core/cputime"
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
		v := Confirm(&asked, &is, nil, "2026-03-16")
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
		{"all cancelled", func(o *order.Order) { o.Lines[0].Cancelled, o.Lines[1].Cancelled = num("10"), num("5") },
			"1 DI 0; 2 DI 0; purpose 01"},
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
		if v.Statement.Code != "" {
			got = append(got, "purpose "+v.Statement.Code)
		}
		if strings.Join(got, "; ") != c.want {
			t.Errorf("%s: %q, want %q", c.name, got, c.want)
		}
	}
}

// A shipment is said as it was, less what was taken back of it since.
func TestShip(t *testing.T) {
	o := orderOf("A:10@2.50", "C:5@1")
	o.Lines[0].ID, o.Lines[1].ID = 1, 2
	m := order.Movement{Kind: order.Shipment, Number: "LS-7", On: "2026-03-15", Carrier: "Tern",
		Lines: []order.MovementLine{
			{Line: 1, Quantity: num("4"), Lot: "X"}, {Line: 2, Quantity: num("5")}, {Line: 1, Quantity: num("2")}}}
	for _, c := range []struct {
		back map[int]order.Number
		want string
	}{
		{nil, "1:4 of 6 X; 2:5 of 5 ; 1:2 of 6 ; "},
		{map[int]order.Number{1: num("1")}, "1:3 of 6 X; 2:5 of 5 ; 1:2 of 6 ; "},
		{map[int]order.Number{1: num("5"), 2: num("5")}, "1:1 of 6 ; "},
		{map[int]order.Number{1: num("6"), 2: num("5")}, ""},
	} {
		v, err := Ship(&o, &m, c.back, map[int]order.Number{1: num("6"), 2: num("5")}, "2026-03-16", "1405")
		got := ""
		for _, l := range v.Lines {
			got += fmt.Sprintf("%s:%s of %s %s; ", l.Number, l.Quantity, l.Statement.ToDate, l.Statement.Lot)
		}
		if s := v.Statement; err != nil || got != c.want || s.Number != "LS-7" || s.On != "2026-03-15" ||
			s.ToldOn != "2026-03-16" || s.Carrier != "Tern" {
			t.Errorf("%q, not %q; %+v, %v", got, c.want, s, err)
		}
	}
}

// An invoice has a price for one unit with which each line comes to its amount, whatever basis, discount or last cent
// it was made of.
func TestUnitPrices(t *testing.T) {
	for _, c := range []struct{ quantity, price, amount, want string }{
		{"5000", "12.40", "62.00", "0.0124"},
		{"25", "147.00", "367.50", "14.70"},
		{"1", "10", "3.34", "3.34"},
		{"300", "10", "1000.00", "3.33333"},
		{"7", "19.99", "122.44", "17.491"},
		{"1000000", "1", "142857.14", "0.14285714"},
		{"3", "1.005", "3.02", "1.005"},
		{"4", "", "10", "2.5"},
		{"-4", "2.50", "-10", "2.50"},
	} {
		o := order.Order{Kind: order.Sales, Currency: "EUR", Lines: []order.Line{{ID: 1, Number: "1"}}}
		bill := order.Invoice{Number: "1", Lines: []order.InvoiceLine{{Line: 1, Quantity: num(c.quantity),
			UnitPrice: num(c.price),
			Amount:    num(c.amount)}}}
		v, err := Bill(&o, &bill, "2026-03-16", nil)
		if err != nil || v.Lines[0].UnitPrice.String() != c.want {
			t.Errorf("%s for %s: %s a unit, %v; want %s", c.quantity, c.amount, v.Lines[0].UnitPrice, err, c.want)
		}
	}
}

// The work that an order takes grows with its lines, and not with their square: ten times the lines may take thirty
// times the processor time.
func TestLongNotices(t *testing.T) {
	took := func(n int) time.Duration {
		var was, is order.Order
		answer := order.Answered{}
		for i := range n {
			l := order.Line{ID: i + 1, Number: strconv.Itoa(i + 1), Item: "A", Quantity: num("5"), UnitPrice: num("2")}
			was.Lines = append(was.Lines, l)
			l.Quantity = num("6")
			is.Lines = append(is.Lines, l)
			answer.Lines = append(answer.Lines, order.AnsweredLine{Line: i + 1, Code: "accepted"})
		}
		answers := []order.Answered{answer}
		began := cputime.Used(t)
		confirmed := Confirm(&was, &is, answers, "2026-03-16")
		Answered(&confirmed, &was, &is, &was, answers)
		changes := Changes(&was, &is, "1", "2026-03-16")
		told := Unasked([]Told{{Answer: confirmed, Was: was}}, &is, nil, "2026-03-17")
		if len(confirmed.Lines) != n || len(changes.Lines) != n || len(told.Lines) != n {
			t.Errorf("%d, %d and %d of %d lines", len(confirmed.Lines), len(changes.Lines), len(told.Lines), n)
		}
		return cputime.Used(t) - began
	}
	if few, many := took(1_000), took(10_000); many > 30*max(few, 5*time.Millisecond) {
		t.Errorf("%s with 1,000 lines, %s with 10,000", few, many)
	}
}
