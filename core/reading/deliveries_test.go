package reading

import (
	"bytes"
	"fmt"
	"io"
	"strings"
	"testing"

	"koinos/core/list"
	"koinos/core/order"
	"koinos/core/source"
	"koinos/core/writing"
)

// The deliveries of a line stand in a cell, in a list within it, or in rows of their own below it. What JSON says of
// them is written as it was read.
func TestDeliveriesOfALine(t *testing.T) {
	const head = "koinos: mapping/1\nname: d\n"
	const rest = "header: {sender_number: {from: no}, partner: {value: P}}\nlines:\n  item: {from: item}\n  quantity: {from: qty}\n"
	const cell = head + "orders: {kind: sales, group: {by: key, columns: [no]}}\n" + rest + "  deliveries: {from: where}\n"
	const nested = head + "orders: {kind: sales, group: {by: path}, parts: {lines: {each: '$.lines[*]'}, " +
		"deliveries: {each: '$.parts[*]'}}}\n" +
		rest + "  unit: {from: u}\ndeliveries:\n  quantity: {from: qty}\n  unit: {from: u}\n  location: {from: store}\n" +
		"  requested_delivery_on: {from: day}\n"
	const rows = head + "orders: {kind: sales, group: {by: rowkind, kind: k, kinds: {H: header, L: line, D: delivery}}}\n" +
		rest + "deliveries: {quantity: {from: qty}, location: {from: store}}\n"
	for _, c := range []struct {
		name, mapping, doc, want string
		written                  []string // each order for itself
	}{
		{"in a cell", cell, "no,item,qty,where\n1,a,20,12 to 0040; 8 to 0041\n1,b,3,\n", "12 to 0040; 8 to 0041|", nil},
		{"a cell that says something else", cell, "no,item,qty,where\n1,a,20,the usual place\n",
			` not_a_schedule row 2 column 4: "the usual place" says no deliveries: delivery 1: "the" is not a quantity.`, nil},
		{"in a list", nested, `[{"no":"1","lines":[{"item":"a","qty":20,"u":"EA","parts":[{"qty":12,"u":"EA","store":"0040"},` +
			`{"qty":8,"u":"EA","store":"0041","day":"2026-04-01"}]},{"item":"b","qty":3,"u":"EA","parts":[]},` +
			`{"item":"d","qty":5,"u":"EA","parts":[{"qty":5,"u":"EA","store":"0040"}]},` +
			`{"item":"c","qty":4,"u":"EA","parts":[{"qty":1,"u":"BX","store":"0040"}]}]}]`,
			"12 to 0040; 8 to 0041, arrives 2026-04-01||5 to 0040|1 BX to 0040", nil},
		{"a list without a quantity", nested, `[{"no":"1","lines":[{"item":"a","qty":20,"u":"EA","parts":[{"store":"0040"}]}]}]`,
			` to 0040 must_missing /0/lines/0/parts/0: quantity must be there, but qty is not there.`, nil},
		{"in rows", rows, "k,no,item,qty,store\nH,1,,,\nL,,a,20,\nD,,,12,0040\nD,,,8,0041\nL,,b,3,\nH,2,,,\nL,,c,4,\n",
			"12 to 0040; 8 to 0041|/", []string{"k,no,item,qty,store\nH,1,,,\nL,,a,20,\nD,,,12,0040\nD,,,8,0041\nL,,b,3,\n",
				"k,no,item,qty,store\nH,2,,,\nL,,c,4,\n"}},
		{"in rows, above the first line", rows, "k,no,item,qty,store\nH,1,,,\nD,,,12,0040\nL,,a,20,\n",
			" line_before_header row 3: The delivery stands above the order's first line.", nil},
	} {
		m := parse(t, c.mapping)
		src, err := source.Open(strings.NewReader(c.doc), int64(len(c.doc)), m.Options(source.DefaultLimits))
		if err != nil {
			t.Fatal(c.name, err)
		}
		table := NewTable(m, src, nil)
		var got, says []string
		for {
			g, err := table.Next()
			if err == io.EOF {
				break
			}
			if err != nil {
				t.Fatal(c.name, err)
			}
			d := Read(m, &g, &list.Set{})
			var lines []string
			for i := range d.Order.Lines {
				lines = append(lines, d.Order.Lines[i].Deliveries.String())
			}
			got = append(got, strings.Join(lines, "|"))
			for _, f := range d.Findings {
				says = append(says, fmt.Sprintf(" %s %s: %s", f.Code, f.Place, f.Message))
			}
			if c.mapping != cell && len(says) == 0 {
				var out bytes.Buffer
				problems, err := writing.Write(&out, m, []order.Order{d.Order}, nil)
				if text := strings.ReplaceAll(out.String(), "\r\n", "\n"); err != nil || len(problems) > 0 ||
					strings.Join(strings.Fields(text), "") != c.doc && text != c.written[len(got)-1] {
					t.Errorf("%s: %v %v is written %s", c.name, problems, err, text)
				}
			}
		}
		if all := strings.Join(got, "/") + strings.Join(says, ""); all != c.want {
			t.Errorf("%s: %s\nwant %s", c.name, all, c.want)
		}
	}
}
