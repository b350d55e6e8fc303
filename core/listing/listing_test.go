package listing

import (
	"slices"
	"strings"
	"testing"

	"koinos/core/intent"
	"koinos/core/order"
)

func orders() []order.Order {
	n := order.MustNumber
	return []order.Order{
		{ID: 7, Kind: order.Sales, Number: "SO-7", Partner: "PELLOW", SenderNumber: "PM-1", Status: order.Partial,
			Revision: 3,
			Currency: "SEK", Custom: []order.Custom{{Name: "hull", Value: "H-9"}},
			Charges: []order.Charge{{Allowance: true, Code: "discount", Percent: n("5"), Amount: n("0.98")},
				{Code: "freight", Amount: n("5.00")}, {Allowance: true, Code: "discount", Amount: n("1.00")}},
			Total: n("19.50"), Parties: []order.Party{{Role: "ship_to", City: "Sundvik"}}, Lines: []order.Line{
				{ID: 1, Number: "10", Item: "00417", Quantity: n("10"), Unit: "MR", Shipped: n("4"), Cancelled: n("1"),
					Invoiced: n("2"), Amount: n("9.50")},
				{ID: 3, Number: "20", Item: "00501", Quantity: n("2.50"), Unit: "PC", Shipped: n("2.5"), Amount: n("10"),
					Custom:  []order.Custom{{Name: "hull", Value: "L-2"}},
					Charges: []order.Charge{{Code: "cutting", Percent: n("12.5"), Amount: n("1.25")}}}}},
		{ID: 8, Kind: order.Purchase, Number: "PO-8", Partner: "KESTLE", Status: order.Complete, Total: n("0"),
			Currency: "EUR",
			Lines: []order.Line{{ID: 1, Number: "1", Item: "00113", Quantity: n("3"), Unit: "PC", Received: n("5"),
				Shipped: n("1")}}},
		{ID: 9, Kind: order.Sales, Number: "SO-9", Partner: "SALTRY", Status: order.Open},
	}
}

// Each layout, with the columns that are chosen: what is computed, what is a field, what is of a party.
func TestRows(t *testing.T) {
	for _, c := range []struct {
		name string
		Choice
		want string // rows, cells by |
	}{
		{"every line", Choice{Columns: []string{"number", "ship_to.city", "lines.number", "lines.quantity", "lines.moved",
			"lines.open"}},
			"SO-7|Sundvik|10|10|4|5\nSO-7|Sundvik|20|2.5|2.5|0\nPO-8||1|3|5|0\nSO-9|||||"},
		{"first line", Choice{Columns: []string{"number", "status", "lines.id", "lines.item", "lines.invoiced"},
			Layout: FirstLine},
			"SO-7|partial|1|00417|2\n||3|00501|0\nPO-8|complete|1|00113|0\nSO-9|open|||"},
		{"an order a row", Choice{Columns: []string{"id", "kind", "number", "revision", "lines", "total"}, Layout: Orders},
			"7|sales|SO-7|3|2|19.50\n8|purchase|PO-8|0|1|0\n9|sales|SO-9|0|0|0"},
		{"open lines", Choice{Columns: []string{"number", "lines.number", "lines.open"}, Open: true}, "SO-7|10|5"},
		{"orders with open lines", Choice{Columns: []string{"number"}, Layout: Orders, Open: true}, "SO-7"},
		{"lines side by side", Choice{Columns: []string{"number", "lines.1.item", "lines.1.open"}, Layout: Orders},
			"SO-7|00417|5|1\nPO-8|00113|0|0\nSO-9|||0"},
		{"open lines side by side", Choice{Columns: []string{"number", "lines.1.item", "lines.2.item"}, Layout: Orders,
			Open: true},
			"SO-7|00417||0"},
		{"orders and lines apart", Choice{Columns: []string{"lines.item", "status", "lines.quantity"}, Layout: Apart},
			"SO-7|partial\n1: SO-7|00417|10\n1: SO-7|00501|2.5\nPO-8|complete\n1: PO-8|00113|3\nSO-9|open"},
		{"open lines apart", Choice{Columns: []string{"number", "lines.item"}, Layout: Apart, Open: true},
			"SO-7\n1: SO-7|00417"},
		{"a field of the user's own, of the order and of its lines", Choice{Columns: []string{"number", "custom.hull", "lines.custom.hull"}},
			"SO-7|H-9|\nSO-7|H-9|L-2\nPO-8||\nSO-9||"},
		{"money of charges that are shares", Choice{Columns: []string{"number", "charge.freight", "allowance.discount",
			"allowance_percent.discount", "charge.pallet", "lines.charge.cutting"}},
			"SO-7|5.00|1.98|5||\nSO-7|5.00|1.98|5||1.25\nPO-8|||||\nSO-9|||||"},
		{"the same, to be changed", Choice{Columns: []string{"charge.freight", "allowance.discount", "allowance_percent.discount",
			"lines.charge.cutting"}, For: intent.Change},
			"SO-7|3|PELLOW|10|00417|5|1|5|\nSO-7|3|PELLOW|20|00501||||\nPO-8|0|KESTLE|1|00113||||\nSO-9|0|SALTRY||||||"},
		{"sums", Choice{Columns: []string{"number", "total", "lines.quantity", "lines.amount", "lines.unit_price"},
			Sums: true},
			"SO-7|19.50|10|9.50|\nSO-7|19.50|2.5|10|\nPO-8|0|3|0|\nSO-9|0|||\n||||\n" +
				"no currency: 1 order, 0 lines|0||0|\nEUR: 1 order, 1 line|0||0|\nSEK: 1 order, 2 lines|19.50||19.50|\n" +
				"MR: 1 line||10||\nPC: 2 lines||5.5||"},
		{"sums of orders", Choice{Columns: []string{"number", "total", "lines", "lines.1.quantity"}, Layout: Orders,
			Sums: true},
			"SO-7|19.50|2|10|1\nPO-8|0|1|3|0\nSO-9|0|0||0\n||||\n" +
				"no currency: 1 order|0|||\nEUR: 1 order|0|||\nSEK: 1 order|19.50|||\nMR: 1 line|||10|\nPC: 1 line|||3|"},
		{"sums apart", Choice{Columns: []string{"number", "total", "lines.quantity"}, Layout: Apart, Open: true, Sums: true},
			"SO-7|19.50\n1: SO-7|10\n|\nSEK: 1 order|19.50\n1: |\n1: SEK: 1 line|\n1: MR: 1 line|10"},
	} {
		l, err := New(c.Choice)
		if err != nil {
			t.Fatal(c.name, err)
		}
		var rows []string
		add := func(sheet int, row []string) error {
			text := strings.Join(row, "|")
			if sheet > 0 {
				text = "1: " + text
			}
			rows = append(rows, text)
			return nil
		}
		for _, o := range orders() {
			if err := l.Rows(&o, add); err != nil {
				t.Fatal(c.name, err)
			}
		}
		if err := l.Under(add); err != nil {
			t.Fatal(c.name, err)
		}
		if got := strings.Join(rows, "\n"); got != c.want {
			t.Errorf("%s:\n%s\nnot\n%s", c.name, got, c.want)
		}
	}
}

func TestChoices(t *testing.T) {
	for _, c := range []struct {
		Choice
		want string
	}{
		{Choice{Columns: []string{"colour"}}, `there is no column "colour"; docs/mapping.md lists the fields, those of lines go behind "lines."`},
		{Choice{Columns: []string{"lines.colour"}},
			`there is no column "lines.colour"; docs/mapping.md lists the fields, those of lines go behind "lines."`},
		{Choice{Layout: "sideways"}, `there is no layout "sideways"; it is one of every, first, order, apart`},
		{Choice{Layout: Orders, Columns: []string{"lines.item"}},
			"lines.item is of lines, and a row is an order: name lines.1.item for the first line, or choose the layout every or first"},
		{Choice{Columns: []string{"lines.1.item"}},
			"lines.1.item is of one line of an order, which goes with the layout order"},
		{Choice{Layout: Apart, Columns: []string{"lines"}},
			"lines says how many lines an order has; with the layout apart the lines stand in a table of their own"},
		{Choice{For: "shipment", Sums: true}, "a table that is filled in has no sums: they would be loaded with it"},
		{Choice{Columns: []string{"total"}, Sums: true},
			"sums need a column of text to say what they are of, such as number"},
	} {
		if _, err := New(c.Choice); err == nil || err.Error() != c.want {
			t.Errorf("%+v: %v", c.Choice, err)
		}
	}
	for _, layout := range []Layout{"", EveryLine, FirstLine, Orders, Apart} {
		l, err := New(Choice{Layout: layout})
		if err != nil {
			t.Fatal(err)
		}
		for _, s := range l.Sheets() {
			number := s.Numeric[slices.Index(s.Headings, "number")]
			if money := slices.Index(s.Headings, "total"); number || money >= 0 && !s.Numeric[money] ||
				len(s.Numeric) != len(s.Headings) {
				t.Errorf("layout %q: %+v", layout, s)
			}
		}
	}
}
