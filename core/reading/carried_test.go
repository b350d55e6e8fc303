package reading

import (
	"fmt"
	"io"
	"strings"
	"testing"

	"koinos/core/list"
	"koinos/core/source"
)

// A blank cell of a column that is carried has what stands above it, with the place where that stands; a value below
// takes its turn, and rows that are left out say nothing.
func TestCarried(t *testing.T) {
	const outline = `koinos: mapping/1
name: c
document: {format: csv, carried: [Customer, Day]%s}
orders: {kind: sales, group: {by: %s}}
header: {sender_number: {from: Order}, partner: {from: Customer}, ordered_on: {from: Day}}
lines: {item: {from: Item}, quantity: {from: Qty}}
`
	const doc = "Customer,Day,Order,Item,Qty\n" +
		"PELLOW,2026-03-02,1,a,1\n,,,b,2\n,,2,a,3\n" +
		"all of PELLOW,,,,6\n" +
		",2026-03-04,3,a,4\n" +
		"BRACKEN,,4,b,5\n"
	all := func(mapping, doc string) (got []string) {
		m := parse(t, mapping)
		src, err := source.Open(strings.NewReader(doc), int64(len(doc)), m.Options(source.DefaultLimits))
		if err != nil {
			t.Fatal(err)
		}
		for table := NewTable(m, src, nil); ; {
			g, err := table.Next()
			if err == io.EOF {
				return got
			}
			if err != nil {
				t.Fatal(err)
			}
			d := Read(m, &g, &list.Set{})
			if d.Orphan {
				continue
			}
			o := &d.Order
			got = append(got, fmt.Sprintf("%s %s@%d %s@%d %d", o.SenderNumber, o.Partner, d.Trace.Find(0, "partner").Row,
				o.OrderedOn, d.Trace.Find(0, "ordered_on").Row, len(o.Lines)))
		}
	}
	for _, c := range []struct{ name, document, group, doc, want string }{
		{"what stands above", `, rows: {leave_out: 'col("Item") == ""'}`, "key, columns: Order", doc,
			"1 PELLOW@2 2026-03-02@2 2|2 PELLOW@2 2026-03-02@2 1|3 PELLOW@2 2026-03-04@6 1|4 BRACKEN@7 2026-03-04@6 1"},
		{"rows that are not asked for say it, too", `, rows: {first: 6, leave_out: 'col("Item") == ""'}`,
			"key, columns: Order", doc, "3 PELLOW@2 2026-03-04@6 1|4 BRACKEN@7 2026-03-04@6 1"},
		{"each order by its first row", `, rows: {leave_out: 'col("Item") == ""'}`, "opener, columns: Order", doc,
			"1 PELLOW@2 2026-03-02@2 2|2 PELLOW@2 2026-03-02@2 1|3 PELLOW@2 2026-03-04@6 1|4 BRACKEN@7 2026-03-04@6 1"},
		{"a row of its own above the orders", "", "key, columns: Order",
			"Customer,Day,Order,Item,Qty\nPELLOW\n,2026-03-02,1,a,1\n,2026-03-03,2,a,1\n\nBRACKEN\n, ,3,a,1\n",
			"1 PELLOW@2 2026-03-02@3 1|2 PELLOW@2 2026-03-03@4 1|3 BRACKEN@6 2026-03-03@4 1"},
		{"nothing above", "", "key, columns: Order", "Customer,Day,Order,Item,Qty\n,,1,a,1\nPELLOW,2026-03-02,2,a,1\n",
			"1 @0 @0 1|2 PELLOW@3 2026-03-02@3 1"},
		{"one order in all", "", "file", "Customer,Day,Order,Item,Qty\nPELLOW,2026-03-02,1,a,1\n,,1,b,1\n",
			"1 PELLOW@2 2026-03-02@2 2"},
	} {
		if got := strings.Join(all(fmt.Sprintf(outline, c.document, c.group), c.doc), "|"); got != c.want {
			t.Errorf("%s:\n got %s\nwant %s", c.name, got, c.want)
		}
	}
}
