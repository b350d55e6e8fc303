package listing

import (
	"slices"
	"strings"
	"testing"

	"koinos/core/order"
)

func orders() []order.Order {
	n := order.MustNumber
	return []order.Order{
		{ID: 7, Kind: order.Sales, Number: "SO-7", Partner: "PELLOW", SenderNumber: "PM-1", Status: order.Partial, Revision: 3,
			Total: n("19.50"), Parties: []order.Party{{Role: "ship_to", City: "Sundvik"}}, Lines: []order.Line{
				{ID: 1, Number: "10", Item: "00417", Quantity: n("10"), Shipped: n("4"), Cancelled: n("1"), Invoiced: n("2"), Amount: n("9.50")},
				{ID: 3, Number: "20", Item: "00501", Quantity: n("2.50"), Shipped: n("2.5"), Amount: n("10")}}},
		{ID: 8, Kind: order.Purchase, Number: "PO-8", Partner: "KESTLE", Status: order.Complete, Total: n("0"),
			Lines: []order.Line{{ID: 1, Number: "1", Item: "00113", Quantity: n("3"), Received: n("5"), Shipped: n("1")}}},
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
		{"every line", Choice{Columns: []string{"number", "ship_to.city", "lines.number", "lines.quantity", "lines.moved", "lines.open"}},
			"SO-7|Sundvik|10|10|4|5\nSO-7|Sundvik|20|2.5|2.5|0\nPO-8||1|3|5|0\nSO-9|||||"},
		{"first line", Choice{Columns: []string{"number", "status", "lines.id", "lines.item", "lines.invoiced"}, Layout: FirstLine},
			"SO-7|partial|1|00417|2\n||3|00501|0\nPO-8|complete|1|00113|0\nSO-9|open|||"},
		{"an order a row", Choice{Columns: []string{"id", "kind", "number", "revision", "lines", "total"}, Layout: Orders},
			"7|sales|SO-7|3|2|19.50\n8|purchase|PO-8|0|1|0\n9|sales|SO-9|0|0|0"},
		{"open lines", Choice{Columns: []string{"number", "lines.number", "lines.open"}, Open: true}, "SO-7|10|5"},
		{"orders with open lines", Choice{Columns: []string{"number"}, Layout: Orders, Open: true}, "SO-7"},
	} {
		l, err := New(c.Choice)
		if err != nil {
			t.Fatal(c.name, err)
		}
		var rows []string
		for _, o := range orders() {
			if err := l.Rows(&o, func(row []string) error {
				rows = append(rows, strings.Join(row, "|"))
				return nil
			}); err != nil {
				t.Fatal(c.name, err)
			}
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
		{Choice{Layout: "sideways"}, `there is no layout "sideways"; it is one of every, first, order`},
		{Choice{Layout: Orders, Columns: []string{"lines.item"}},
			"lines.item is of lines, and a row is an order; choose the layout every or first"},
	} {
		if _, err := New(c.Choice); err == nil || err.Error() != c.want {
			t.Errorf("%+v: %v", c.Choice, err)
		}
	}
	for layout := range map[Layout]bool{"": true, EveryLine: true, FirstLine: true, Orders: true} {
		l, err := New(Choice{Layout: layout})
		if err != nil {
			t.Fatal(err)
		}
		head := l.Headings()
		number := l.Numeric()[slices.Index(head, "number")]
		if money := slices.Index(head, "total"); number || money >= 0 && !l.Numeric()[money] || len(l.Numeric()) != len(head) {
			t.Errorf("layout %q: %q, %v", layout, head, l.Numeric())
		}
	}
}
