package reading

import (
	"bytes"
	"fmt"
	"io"
	"koinos/core/check"
	"koinos/core/finding"
	"koinos/core/intent"
	"koinos/core/list"
	"koinos/core/mapping"
	"koinos/core/source"
	"os"
	"strings"
	"testing"
)

// base is the mapping that tests change a word of.
var base = func() string {
	b, err := os.ReadFile("../mapping/testdata/base.yaml")
	if err != nil {
		panic(err)
	}
	return string(b)
}()

func parse(t testing.TB, text string) *mapping.Mapping {
	t.Helper()
	m, err := mapping.Parse([]byte(text))
	if err != nil {
		t.Fatal(err)
	}
	return m
}

// firstOf reads the first order of a document.
func firstOf(t testing.TB, m *mapping.Mapping, doc []byte) *intent.Intent {
	t.Helper()
	src, err := source.Open(bytes.NewReader(doc), int64(len(doc)), m.Options(source.DefaultLimits))
	if err != nil {
		t.Fatal(err)
	}
	g, err := NewTable(m, src, nil).Next()
	if err != nil {
		t.Fatal(err)
	}
	return Read(m, &g, &list.Set{})
}

// draft runs a CSV through a mapping; an order reads "number: item×quantity …".
func draft(t testing.TB, m *mapping.Mapping, doc string) (orders []string, found []finding.Finding) {
	t.Helper()
	src, err := source.Open(strings.NewReader(doc), int64(len(doc)), m.Options(source.DefaultLimits))
	if err != nil {
		return nil, finding.Of(err)
	}
	table := NewTable(m, src, nil)
	for {
		g, err := table.Next()
		if err == io.EOF {
			return orders, append(found, table.Notes...)
		}
		if err != nil {
			return orders, append(found, finding.Of(err)...)
		}
		d := Read(m, &g, &list.Set{})
		s := d.Order.SenderNumber + ":"
		if d.Orphan {
			s = "orphan:"
		}
		for i, l := range d.Order.Lines {
			s += fmt.Sprintf(" %s×%s@%d", l.Item, l.Quantity, d.Trace.Rows[i])
		}
		for _, sp := range d.Spans {
			s += fmt.Sprintf(" [%d-%d]", sp.First, sp.Last)
		}
		orders = append(orders, s)
		found = append(found, d.Findings...)
	}
}

func TestGrouping(t *testing.T) {
	const heading = "No,Item,Qty\n"
	for _, c := range []struct{ name, group, extra, doc, want string }{
		{"a change of the key begins an order", "{by: key, columns: [No]}", "", heading + "1,a,1\n1,b,2\n2,c,3\n",
			"1: a×1@2 b×2@3 [2-3] / 2: c×3@4 [4-4]"},
		{"a blank key continues", "{by: key, columns: [No]}", "", heading + "1,a,1\n,b,2\n2,c,3\n,d,4\n",
			"1: a×1@2 b×2@3 [2-3] / 2: c×3@4 d×4@5 [4-5]"},
		{"a blank key breaks", "{by: key, columns: [No], blanks: break}", "", heading + "1,a,1\n,b,2\n1,c,3\n",
			"1: a×1@2 [2-2] / orphan: [3-3] / 1: c×3@4 [4-4]"},
		{"space does not change a key, letter case does", "{by: key, columns: [No]}", "",
			heading + "a1,a,1\n a1 ,b,2\nA1,c,3\n",
			"a1: a×1@2 b×2@3 [2-3] / A1: c×3@4 [4-4]"},
		{"letter case does not count where it is said", "{by: key, columns: [No], fold: case}", "",
			heading + "a1,a,1\n A1 ,b,2\n",
			"a1: a×1@2 b×2@3 [2-3]"},
		{"adjacent rows only: the key again is another order", "{by: key, columns: [No]}", "",
			heading + "1,a,1\n2,b,2\n1,c,3\n",
			"1: a×1@2 [2-2] / 2: b×2@3 [3-3] / 1: c×3@4 [4-4]"},
		{"rows anywhere", "{by: key, columns: [No], rows: anywhere}", "", heading + "1,a,1\n2,b,2\n1,c,3\n,d,4\n",
			"1: a×1@2 c×3@4 d×4@5 [2-2] [4-5] / 2: b×2@3 [3-3]"},
		{"several columns", "{by: key, columns: [No, Item]}", "", heading + "1,a,1\n1,a,2\n1,b,3\n",
			"1: a×1@2 a×2@3 [2-3] / 1: b×3@4 [4-4]"},
		{"a filled cell opens an order, the same one too", "{by: opener, columns: [No]}", "",
			heading + "1,a,1\n,b,2\n1,c,3\n",
			"1: a×1@2 b×2@3 [2-3] / 1: c×3@4 [4-4]"},
		{"lines begin on the row below", "{by: opener, columns: [No]}", "", heading + "1,,\n,a,1\n,b,2\n2,,\n,c,3\n",
			"1: a×1@3 b×2@4 [2-4] / 2: c×3@6 [5-6]"},
		{"blank rows belong to nothing", "{by: opener, columns: [No]}", "", heading + "\n1,a,1\n,,\n,b,2\n",
			"1: a×1@3 b×2@5 [3-3] [5-5]"},
		{"lines before any order", "{by: opener, columns: [No]}", "", heading + ",x,1\n,y,1\n1,a,1\n",
			"orphan: [2-3] / 1: a×1@4 [4-4]"},
		{"titles above, a heading on every page, a totals row", "{by: key, columns: [No]}",
			`document: {until: {text: "total*"}}`,
			"Orders of March\n,,\nNo,Item,Qty\n1,a,1\nNo,Item,Qty\n2,b,2\n,Total 2,3\n3,c,3\n",
			"1: a×1@4 [4-4] / 2: b×2@6 [6-6]"},
		{"a blank stretch ends the table", "{by: key, columns: [No]}", "document: {until: {blank_rows: 2}}",
			heading + "1,a,1\n,,\n2,b,2\n,,\n,,\n3,c,3\n",
			"1: a×1@2 [2-2] / 2: b×2@4 [4-4]"},
		{"the heading's row is stated", "{by: key, columns: [No]}", "document: {heading: {row: 3}}",
			"No,Item,Qty\n0,z,9\nNo,Item,Qty\n1,a,1\n",
			"1: a×1@4 [4-4]"},
		{"columns by letter, no heading", `{by: key, columns: ["@A"]}`, "letters", "1,a,1\n1,b,2\n",
			"1: a×1@1 b×2@2 [1-2]"},
	} {
		text := strings.Replace(strings.Replace(base, "{by: key, columns: [No]}", c.group, 1),
			"  ordered_on: {from: Date}\n", "", 1)
		text = strings.NewReplacer("  unit_price: {from: Price}\n", "", "  discount_percent: {from: Less}\n",
			"").Replace(text)
		if c.extra == "letters" {
			text = strings.NewReplacer("from: No", `from: "@A"`, "from: Item", `from: "@B"`, "from: Qty",
				`from: "@C"`).Replace(text)
		} else if c.extra != "" {
			text = strings.Replace(text, text[strings.Index(text, "document:"):strings.Index(text, "orders:")],
				c.extra+"\n", 1)
		}
		orders, _ := draft(t, parse(t, text), c.doc)
		if got := strings.Join(orders, " / "); got != c.want {
			t.Errorf("%s:\n got %s\nwant %s", c.name, got, c.want)
		}
	}
}

// Values as people write them, in the locale of base: decimal comma, three forms of date.
func TestValues(t *testing.T) {
	m := parse(t, base)
	for _, c := range []struct{ field, in, want string }{
		{"ordered_on", "2.3.2026", "2026-03-02"}, {"ordered_on", "02.03.2026", "2026-03-02"},
		{"ordered_on", "2/3/26", "2026-03-02"}, {"ordered_on", "2/3/70", "1970-03-02"},
		{"ordered_on", "2026-03-02", "2026-03-02"}, {"ordered_on", "2026-03-02T10:15:00Z", "2026-03-02"},
		{"ordered_on", "2.3.2026 10:15", "2026-03-02"}, {"ordered_on", "5 Mar 2026", "2026-03-05"},
		{"ordered_on", "29.2.2028", "2028-02-29"}, {"ordered_on", "29.2.2026", "!"}, {"ordered_on", "3.13.2026", "!"},
		{"ordered_on", "2.3.26", "!"}, {"ordered_on", "soon", "!"}, {"ordered_on", "2.3.2026 or so", "!"},
		{"quantity", "12", "12"}, {"quantity", "1.234,50", "1234.50"}, {"quantity", "1 234,5", "1234.5"},
		{"quantity", "1\u00a0234", "1234"}, {"quantity", "-5", "-5"}, {"quantity", ",5", "0.5"},
		{"quantity", "1.2", "!"}, {"quantity", "1,2,3", "!"}, {"quantity", "12 kg", "!"}, {"quantity", "1.23.456", "!"},
		{"quantity", "12345678901234567890", "!"}, {"quantity", "5%", "!"},
		{"discount_percent", "5 %", "5"}, {"discount_percent", "12,5%", "12.5"}, {"discount_percent", "%", "!"},
	} {
		cells := map[string]string{"No": "1", "Item": "a", "Qty": "1", "Price": "1", "Less": "0", "Date": "2.3.2026"}
		column := map[string]string{"ordered_on": "Date", "quantity": "Qty", "discount_percent": "Less"}[c.field]
		cells[column] = c.in
		doc := "No;Date;Item;Qty;Price;Less\n1;" + cells["Date"] + ";a;" + cells["Qty"] + ";1;" + cells["Less"] + "\n"
		d := firstOf(t, m, []byte(doc))
		got := map[string]string{"ordered_on": string(d.Order.OrderedOn),
			"quantity":         d.Order.Lines[0].Quantity.String(),
			"discount_percent": d.Order.Lines[0].DiscountPercent.String()}[c.field]
		if c.want == "!" {
			if got != "" || len(d.Findings) != 1 || d.Findings[0].Field != c.field || d.Findings[0].Value != c.in {
				t.Errorf("%s %q gives %q and %v; want one finding", c.field, c.in, got, d.Findings)
			}
		} else if got != c.want || len(d.Findings) != 0 {
			t.Errorf("%s %q gives %q %v, want %q", c.field, c.in, got, d.Findings, c.want)
		}
	}
}

// What stands whole before a document breaks off is read.
func TestBrokenOff(t *testing.T) {
	m := parse(t, "koinos: mapping/1\nname: x\norders: {kind: sales, group: {by: path}, parts: {lines: {each: "+
		"\"$.lines[*]\"}}}\nheader: {sender_number: {from: no}, partner: {value: P}}\nlines: {item: {from: sku}, "+
		"quantity: {from: qty}}\n")
	for doc, want := range map[string]string{
		`[{"no": 1, "lines": [{"sku": "a", "qty": 2}]}, {"no": 2, "lines": [{"sku"`:       "1: a×2@2 [1-3] document_broken",
		`[{"no": 1, "lines": [{"sku": "a", "qty": 2}]}, {"no": 2, "lines": []}] trailing`: "1: a×2@2 [1-3] 2: [4-5] text_behind",
		"{\"no\": 1, \"lines\": []}\n{\"no\": \n{\"no\": 3, \"lines\": []}\n": "1: [1-2] orphan: [3-3] " +
			"3: [4-5] record_broken",
	} {
		orders, found := draft(t, m, doc)
		for _, f := range found {
			orders = append(orders, string(f.Code))
		}
		if got := strings.Join(orders, " "); got != want {
			t.Errorf("%s:\n got %s\nwant %s", doc, got, want)
		}
	}
}

// A document that the mapping was not made for says what is missing, all at once.
func TestWrongDocument(t *testing.T) {
	m := parse(t, base)
	for _, c := range []struct{ doc, want string }{
		{"Artikel;Menge\n1;2\n", "heading_missing"},
		{"No;Item;Qty;Price;Less\n1;a;2;3;0\n", "column_missing ordered_on warning"},
		{"No;Date;Qty\n1;2.3.2026;2\n",
			"column_missing item warning,column_missing unit_price warning,column_missing discount_percent warning"},
		{"No;Date;Item;Price;Less\n1;2.3.2026;a;3;0\n", "column_missing quantity error"},
	} {
		_, found := draft(t, m, c.doc)
		var got []string
		for _, f := range found {
			if f.Code == finding.HeadingMissing {
				got = append(got, string(f.Code))
			} else if f.Code == finding.ColumnMissing {
				got = append(got, fmt.Sprintf("%s %s %s", f.Code, f.Field, f.Severity))
			}
		}
		if strings.Join(got, ",") != c.want {
			t.Errorf("%q: %v, want %s", c.doc, got, c.want)
		}
	}
}

// thirty is a mapping of thirty fields, for the document of benchDoc.
func thirty(t testing.TB) *mapping.Mapping {
	text := "koinos: mapping/1\nname: thirty\norders: {kind: sales, group: {by: key, columns: [c1]}}\nheader:\n  " +
		"sender_number: {from: c1}\n  partner: {value: P}\n  ordered_on: {from: c2}\n"
	for i, f := range []string{"currency: {value: EUR}", "payment_terms: {from: c5}", "price_level: {value: B}",
		"delivery_terms: {value: X}", "notes: {from: c14}", "requested_ship_on: {from: c13}",
		"cancel_after: {from: c13}",
		"ship_to.code: {from: c4}", "ship_to.name: {from: c4}", "ship_to.city: {from: c4}", "bill_to.code: {from: c4}",
		"custom.a: {from: c14}", "reference.x: {from: c3}"} {
		_ = i
		text += "  " + f + "\n"
	}
	text += "lines:\n  item: {from: c6, list: items}\n  description: {from: c7}\n  quantity: {from: c8, need: " +
		"must}\n  unit: {from: c9}\n  unit_price: {from: c10}\n  discount_percent: {from: c11}\n  amount: {from: c12}\n" +
		"  requested_delivery_on: {from: c13}\n  location: {value: \"0010\"}\n  notes: {from: c14}\n  buyer_item: " +
		"{from: c6}\n  tax_percent: {value: 20}\n  custom.b: {from: c14}\n  supplier_item: {from: c6}\n"
	return parse(t, text)
}

func benchDoc(n int) (string, *list.Set) {
	var b strings.Builder
	b.WriteString("c1,c2,c3,c4,c5,c6,c7,c8,c9,c10,c11,c12,c13,c14\n")
	for i := range n {
		fmt.Fprintf(&b, "A-%07d,2026-03-02,OSTRAND,East yard,N30,%05d,\"Braided rope 10 mm, "+
			"white\",%d,MTR,1.45,0,%d.%02d,2026-03-30,on pallets\n", i/10, i%977, i%50+1, (i%50+1)*145/100,
			(i%50+1)*145%100)
	}
	var items []list.Entry
	for i := range 977 {
		items = append(items, list.Entry{Code: fmt.Sprintf("%05d", i)})
	}
	return b.String(), &list.Set{Lists: map[string]*list.List{"items": list.New(items)}}
}

// BenchmarkMapping maps and checks 10,000 line rows on one core; reading is
// measured apart, as the floor.
func BenchmarkMapping(b *testing.B) {
	doc, set := benchDoc(10_000)
	m := thirty(b)
	run := func(b *testing.B, work func(*Group)) {
		for b.Loop() {
			src, err := source.Open(strings.NewReader(doc), int64(len(doc)), m.Options(source.DefaultLimits))
			if err != nil {
				b.Fatal(err)
			}
			table := NewTable(m, src, nil)
			for {
				g, err := table.Next()
				if err == io.EOF {
					break
				}
				if err != nil {
					b.Fatal(err)
				}
				work(&g)
			}
		}
	}
	b.Run("read", func(b *testing.B) { run(b, func(*Group) {}) })
	b.Run("read+map", func(b *testing.B) { run(b, func(g *Group) { Read(m, g, set) }) })
	b.Run("read+map+check", func(b *testing.B) {
		run(b, func(g *Group) {
			d := Read(m, g, set)
			check.Order(&d.Order, d, check.Terms{Tolerance: m.Tolerance, Rounding: m.Rounding})
			if d.Refused() {
				b.Fatal(d.Findings)
			}
		})
	})
}
