package reading

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"

	"koinos/core/list"
	"koinos/core/mapping"
	"koinos/core/order"
	"koinos/core/source"
)

// A condition of a binding sees the value that was found, and what stands at the
// matrix's column; the rows are such that each condition holds for some and not
// for others.
func TestWhenSeesItsValue(t *testing.T) {
	const sheet = `koinos: mapping/1
name: w
orders: {kind: sales, group: {by: key, columns: [Order]}}
header: {sender_number: {from: Order}, partner: {value: P}}
lines:
  item: {from: Item}
  quantity: {from: Qty}
`
	const matrix = `koinos: mapping/1
name: m
orders:
  kind: sales
  group: {by: key, columns: [Order]}
  parts: {lines: {across: matrix, columns: [S, M, L]}}
header: {sender_number: {from: Order}, partner: {value: P}}
lines:
  item: {from: Item}
  quantity: {from: "{cell}"}
`
	const rows, sizes = "Order,Item,Qty,Price\n1,a,2,0\n1,b,3,9.5\n1,c,4,\n", "Order,Item,S,M,L\n1,a,2,,5\n1,b,,3,\n"
	for _, c := range []struct{ name, mapping, doc, field, want string }{
		{"from", sheet + `  unit_price: {from: Price, when: 'value != "0"'}` + "\n", rows, "unit_price", " 9.5 "},
		{"from, where nothing stands", sheet + `  notes: {from: Price, when: 'value != ""', default: none}` + "\n",
			rows, "notes", "0 9.5 none"},
		{"from several", sheet + `  notes: {from: [Price, Item], when: 'value matches "^[a-z]$"'}` + "\n", rows,
			"notes", "  c"},
		{"expr sees it too", sheet + `  notes: {from: Item, expr: 'value + "!"', when: 'value == "b"'}` + "\n", rows,
			"notes", " b! "},
		{"a value of the mapping", sheet + `  notes: {value: cheap, when: 'value == "cheap" and col("Item") == "a"'}` +
			"\n", rows, "notes", "cheap  "},
		{"the heading of the matrix", matrix + `  notes: {from: "{heading}", when: 'value != "S"'}` + "\n", sizes,
			"notes", " L M"},
		{"col() of the heading", matrix + `  notes: {from: Item, when: 'col("{heading}") == "L"'}` + "\n", sizes,
			"notes", " a "},
		{"col() of the cell", matrix + `  notes: {value: few, when: 'num(col("{cell}")) < 3'}` + "\n", sizes, "notes",
			"few  "},
		{"an expression of both", matrix + `  notes: {expr: 'col("{heading}") + col("{cell}")'}` + "\n", sizes, "notes",
			"S2 L5 M3"},
	} {
		m := parse(t, c.mapping)
		src, err := source.Open(strings.NewReader(c.doc), int64(len(c.doc)), m.Options(source.DefaultLimits))
		if err != nil {
			t.Fatal(err)
		}
		table := NewTable(m, src, nil)
		g, err := table.Next()
		if err != nil {
			t.Fatalf("%s: %v", c.name, err)
		}
		d := Read(m, &g, &list.Set{})
		field, _ := order.Lookup(order.Lines, c.field)
		var got []string
		for i := range d.Order.Lines {
			got = append(got, field.Value(&d.Order, &d.Order.Lines[i]))
		}
		if strings.Join(got, " ") != c.want || d.Refused() {
			t.Errorf("%s: %q, want %q; %v", c.name, got, c.want, d.Findings)
		}
		if _, err := table.Next(); !errors.Is(err, io.EOF) {
			t.Errorf("%s: a second order (%v)", c.name, err)
		}
	}
}

// A sheet can say that lines change, were answered, shipped or invoiced, and a
// mapping of one kind knows no field of another.
func TestKinds(t *testing.T) {
	const text = "koinos: mapping/1\nname: k\norders: {kind: %s, group: {by: key, columns: [Order]}}\nheader: " +
		"{sender_number: {from: Order}, partner: {value: P}%s}\nlines: {number: {from: Line}, quantity: {from: Qty}%s}\n"
	for _, c := range []struct{ kind, header, lines, wrong string }{
		{"shipment, of: sales", ", shipment: {from: Number}", "", ""},
		{"receipt, of: purchase", ", receipt: {from: Number}", ", lot: {from: Lot}", ""},
		{"invoice, of: sales", ", invoice: {from: Number}", ", unit_price: {from: Price}", ""},
		{"answer, of: purchase", ", answer: {value: AC}", ", answer: {from: What}, accepted: {from: Yes}", ""},
		{"change, of: sales", "", ", change: {from: What}", ""},
		{"change", "", ", change: {from: What}", "needs \"of\""},
		{"sales, of: sales", "", ", item: {from: Item}", "of goes with notices"},
		{"shipment, of: sales", "", "", "header needs \"shipment\""},
		{"shipment, of: sales", ", shipment: {from: Number}, invoice: {from: X}", "",
			"invoice is no field of kind: shipment"},
		{"sales", ", shipment: {from: Number}", ", item: {from: Item}", "shipment is no field of kind: order"},
	} {
		_, err := mapping.Parse(fmt.Appendf(nil, text, c.kind, c.header, c.lines))
		switch {
		case c.wrong == "" && err != nil:
			t.Errorf("%s: %v", c.kind, err)
		case c.wrong != "" && (err == nil || !strings.Contains(err.Error(), c.wrong)):
			t.Errorf("%s: %v, want %q", c.kind, err, c.wrong)
		}
	}
	m, err := mapping.Parse(fmt.Appendf(nil, text, "shipment, of: sales",
		", shipment: {from: Number}, shipped_on: {from: Day}, packages: {from: Packages}", ", lot: {from: Lot}"))
	if err != nil {
		t.Fatal(err)
	}
	const doc = "Order,Line,Qty,Number,Day,Packages,Lot\nA-1,2,5,V-1,2026-03-16,3,L7\nA-1,,1,V-1,2026-03-16,3,\n"
	src, err := source.Open(bytes.NewReader([]byte(doc)), int64(len(doc)), m.Options(source.DefaultLimits))
	if err != nil {
		t.Fatal(err)
	}
	g, err := NewTable(m, src, nil).Next()
	if err != nil {
		t.Fatal(err)
	}
	o := Read(m, &g, &list.Set{}).Order
	if s := o.Statement; s.Kind != "shipment" || s.Number != "V-1" || s.On != "2026-03-16" ||
		s.Packages.String() != "3" || o.Lines[0].Statement.Lot != "L7" || o.Lines[0].Number != "2" ||
		o.Lines[1].Number != "" {
		t.Errorf("%+v %+v", s, o.Lines)
	}
}
