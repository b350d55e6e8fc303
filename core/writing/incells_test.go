package writing

import (
	"bytes"
	"fmt"
	"strings"
	"testing"

	"koinos/core/list"
	"koinos/core/mapping"
	"koinos/core/order"
)

// The lines of an order go into one row, each value of theirs into the cell that holds all of them; what does not fit
// is said.
func TestInCells(t *testing.T) {
	line := func(item, quantity, day string) order.Line {
		return order.Line{Item: item, Quantity: order.MustNumber(quantity), RequestedDeliveryOn: order.Date(day)}
	}
	for _, c := range []struct {
		by    string
		lines []order.Line
		want  string
		says  string
	}{
		{`","`, []order.Line{line("a", "2", "2026-03-30"), line("b", "3", "2026-03-30")},
			"No,SKU,Qty,Wanted\nA-1,\"a,b\",\"2,3\",2026-03-30\n", "[]"},
		{`"; "`, []order.Line{line("a", "2", "")}, "No,SKU,Qty,Wanted\nA-1,a,2,\n", "[]"},
		{"json", []order.Line{line("a", "2", ""), line("b", "3", "")},
			"No,SKU,Qty,Wanted\nA-1,\"[\"\"a\"\",\"\"b\"\"]\",\"[\"\"2\"\",\"\"3\"\"]\",\n", "[]"},
		{`","`, []order.Line{line("a,b", "2", ""), line("c", "3", "")}, "No,SKU,Qty,Wanted\nA-1,\"a,b,c\",\"2,3\",\n",
			`[{A-1 1  "a,b" holds ",", which stands between the lines}]`},
		{`","`, []order.Line{line("a", "2", "2026-03-30"), line("b", "3", "2026-03-31")},
			"No,SKU,Qty,Wanted\nA-1,\"a,b\",\"2,3\",2026-03-30\n",
			`[{A-1 2  "2026-03-30" and "2026-03-31" stand in one row, and lines share the cell}]`},
	} {
		m, err := mapping.Parse([]byte("koinos: mapping/1\nname: c\norders:\n  kind: sales\n  group: {by: key, columns: No}\n" +
			"  parts: {lines: {across: cells, columns: [SKU, Qty], by: " + c.by + "}}\n" +
			"header: {sender_number: {from: No}, partner: {value: P}}\n" +
			"lines: {item: {from: SKU}, quantity: {from: Qty}, requested_delivery_on: {from: Wanted}}\n"))
		if err != nil {
			t.Fatal(err)
		}
		var out bytes.Buffer
		problems, err := Write(&out, m, []order.Order{{Kind: order.Sales, Partner: "P", SenderNumber: "A-1", Lines: c.lines}}, &list.Set{})
		if said := fmt.Sprint(problems); err != nil || strings.ReplaceAll(out.String(), "\r\n", "\n") != c.want || said != c.says {
			t.Errorf("%s: %q, want %q; %s, want %s; %v", c.by, out.String(), c.want, said, c.says, err)
		}
	}
}
