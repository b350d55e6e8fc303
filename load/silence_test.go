package load

import (
	"archive/zip"
	"bytes"
	"context"
	"fmt"
	"io"
	"slices"
	"strings"
	"testing"

	"koinos/core/finding"
	"koinos/core/intent"
	"koinos/core/list"
	"koinos/core/mapping"
	"koinos/core/order"
	"koinos/core/outcome"
	"koinos/core/source"
	"koinos/store"
)

// told is what becomes of a document: its orders, a line each, refused ones with a !, and what was
// found, by code and place. Of a line the item, the quantity and the unit price are told, and what
// else is asked.
func told(t *testing.T, text string, doc []byte, set *list.Set, besides ...string) string {
	t.Helper()
	m, err := mapping.Parse([]byte(text))
	if err != nil {
		return "mapping: " + finding.Of(err)[0].Message
	}
	if set == nil {
		set = &list.Set{}
	}
	var out []string
	value := func(level order.Level, name string, o *order.Order, l *order.Line) string {
		f, _ := order.Lookup(level, name)
		return f.Value(o, l)
	}
	keep := func(d *intent.Intent) {
		o := &d.Order
		row := strings.TrimPrefix(o.SenderNumber+":", ":")
		if d.Refused() {
			row = "!" + row
		}
		for i := range o.Lines {
			l := &o.Lines[i]
			row += fmt.Sprintf(" %s×%s@%s", l.Item, l.Quantity, l.UnitPrice)
			for _, name := range besides {
				if _, of := order.Lookup(order.Lines, name); of {
					row += " " + name + "=" + value(order.Lines, name, o, l)
				}
			}
		}
		for _, name := range besides {
			if _, of := order.Lookup(order.Lines, name); of {
				continue
			}
			if name == "kind" {
				row += " kind=" + string(o.Kind)
			}
			if _, of := order.Lookup(order.Header, name); of {
				row += " " + name + "=" + value(order.Header, name, o, nil)
			}
		}
		out = append(out, row)
	}
	var found []string
	each := func(f finding.Finding) {
		found = append(found, fmt.Sprintf("%s %s at %s", f.Severity, f.Code, f.Place))
	}
	if _, err := Try(context.Background(), bytes.NewReader(doc), int64(len(doc)), m, set, source.DefaultLimits, keep,
		each); err != nil {
		for _, f := range finding.Of(err) {
			found = append(found, fmt.Sprintf("%s %s at %s", f.Severity, f.Code, f.Place))
		}
		if len(finding.Of(err)) == 0 {
			t.Fatal(err)
		}
	}
	slices.Sort(found)
	return strings.Join(append(out, found...), "\n")
}

// shop is a mapping of Order, Item, Qty, Price, with the words for a group.
func shop(group, more string) string {
	return "koinos: mapping/1\nname: shop\n" + more + "orders:\n  kind: sales\n  group: " + group +
		"\nheader: {sender_number: {from: Order}, partner: {value: P}, currency: {value: EUR}}\n" +
		"lines: {item: {from: Item}, quantity: {from: Qty}, unit_price: {from: Price}}\n"
}

// numbered is a mapping whose lines have numbers.
func numbered(more, orders string) string {
	return "koinos: mapping/1\nname: shop\n" + more + "orders:\n  kind: sales\n  group: {by: key, columns: Order}\n  " +
		orders +
		"\nheader: {sender_number: {from: Order}, partner: {value: P}}\n" +
		"lines: {number: {from: No}, item: {from: Item}, quantity: {from: Qty}}\n"
}

// spelled is a mapping with a list of items, units and currencies.
func spelled(more string) string {
	return "koinos: mapping/1\nname: shop\norders: {kind: sales, group: {by: key, columns: [Order]}}\n" +
		"header: {sender_number: {from: Order}, partner: {value: P}, currency: {from: Cur" + more + "}}\n" +
		"lines: {item: {from: Item, list: items" + more + "}, quantity: {value: 1}, unit: {from: Unit" + more + "}}\n"
}

// counted is a mapping whose document ends in a row of totals.
func counted(more string) string {
	return shop("{by: key, columns: [Order]}", "document: {totals: {"+more+
		"when: 'text() == \"T\"', orders: {from: \"@B\"}, quantity: {from: \"@C\"}, "+
		"total: {from: \"@D\"}}}\n")
}

const byPath = "koinos: mapping/1\nname: shop\ndocument: {DOC}\norders: {kind: sales, group: {by: path}, parts: " +
	"{lines: {each: \"$.l[*]\"}}}\n" +
	"header: {sender_number: {from: no}, partner: {value: P}}\nlines: {item: {from: i}, quantity: {from: q}}\n"

// The smallest documents that were loaded wrong without a word.
func TestSilence(t *testing.T) {
	const nbsp = "\u00a0"
	for _, c := range []struct{ name, mapping, doc, want string }{
		{"a row of spaces is a gap", shop("{by: gap}", ""),
			"Order,Item,Qty,Price\nA,x,1,2\n" + nbsp + ", ,\u3000,\nB,y,1,2\n", "A: x×1@2\nB: y×1@2"},
		{"an empty row closes the order, as one of spaces does", shop("{by: gap, columns: [Item]}", ""),
			"Order,Item,Qty,Price\nA,x,1,2\n,,,\nB,y,1,2\n , ,,\nC,z,1,2\nTotal,,3,\n", "A: x×1@2\nB: y×1@2\nC: z×1@2"},
		{"cells of spaces do not make a row wider", shop("{by: key, columns: [Order]}", ""),
			"Order,Item,Qty,Price,\nA,x,1,2, ," + nbsp + "\n", "A: x×1@2"},
		{"a blank row is a row of its block", strings.Replace(shop("{by: count, count: 3}", ""), "{from: Item}",
			"{from: Item, need: must}", 1),
			"Order,Item,Qty,Price\nA,x,1,2\n,,,\n,z,1,2\nB,x,1,2\n,y,1,2\n,,,\nC,x,1,2\n,,,\n",
			"A: x×1@2 z×1@2\nB: x×1@2 y×1@2\nC: x×1@2"},
		{"a blank row between the blocks is none of theirs", shop("{by: count, count: 2}", ""),
			"Order,Item,Qty,Price\nA,x,1,2\n,z,1,2\n,,,\nB,x,1,2\n,y,1,2\n", "A: x×1@2 z×1@2\nB: x×1@2 y×1@2"},
		{"a line number twice", numbered("", ""), "Order,No,Item,Qty\nA,1,x,1\nA,1,y,2\nB,1,x,1\nB,01,y,2\n",
			"!A: x×1@ number=1 y×2@ number=1\nB: x×1@ number=1 y×2@ number=01\nerror line_twice at row 3 column 2"},
		{"a line number may stand twice", numbered("findings: {line_twice: warning}\n", ""),
			"Order,No,Item,Qty\nA,1,x,1\nA,1,y,2\n",
			"A: x×1@ number=1 y×2@ number=1\nwarning line_twice at row 3 column 2"},
		{"lines in the order of their numbers", numbered("", "parts: {lines: {sorted: number}}"),
			"Order,No,Item,Qty\nA,10,x,1\nA,,y,2\nA,9,z,nix\nA,1b,q,4\nA,1a,r,5\n",
			"!A: r×5@ number=1a q×4@ number=1b z×@ number=9 x×1@ number=10 y×2@ number=5\nerror not_a_number at " +
				"row 4 column 4"},
		{"a number that is counted is none that is there", numbered("", ""),
			"Order,No,Item,Qty\nA,2,x,1\nA,,y,2\nA,,z,3\nA,4,z,3\n",
			"A: x×1@ number=2 y×2@ number=5 z×3@ number=3 z×3@ number=4"},
		{"a quotation mark that is closed in the next row", shop("{by: key, columns: [Order]}", ""),
			"Order,Item,Qty,Price\nZ,w,1,2\nA,\"x,1,2\nB,\"y\",3,4\nC,z,1,2\n",
			"Z: w×1@2\n!A: \"x×1@2\n!B: y×3@4\nC: z×1@2\nerror quote_unclosed at row 3 column 2\nerror " +
				"quote_unclosed at row 4"},
		{"one that is closed at a cell's end", shop("{by: key, columns: [Order]}", ""),
			"Order,Item,Qty,Price\nA,x,1,\"2\nB,y,3,4\"\nC,z,1,2\n",
			"!A: x×1@\n!B: y×3@\nC: z×1@2\nerror not_a_number at row 2 column 4\nerror not_a_number at row 3 column 4\n" +
				"error quote_unclosed at row 2 column 4\nerror quote_unclosed at row 3"},
		{"a cell of several lines", shop("{by: key, columns: [Order]}", ""),
			"Order,Item,Qty,Price\nA,\"x\n1, 2\n3, 4\",1,2\nB,\"a \"\"b\"\"\n\",3,4\n",
			"A: x\n1, 2\n3, 4×1@2\nB: a \"b\"×3@4"},
		{"totals that agree", counted(""), "Order,Item,Qty,Price\nA,x,1,2\nB,y,3,4\nT,2,4,14.00\n",
			"A: x×1@2\nB: y×3@4"},
		{"totals that differ", counted(""), "Order,Item,Qty,Price\nA,x,1,2\nB,y,3,4\nT,3,4,14.01\n",
			"A: x×1@2\nB: y×3@4\nerror document_differs at row 4 column 2\nerror document_differs at row 4 column 4"},
		{"totals that may differ", counted("differ: warn, "), "Order,Item,Qty,Price\nA,x,1,2\n ,,,\nT,1,2,2\n",
			"A: x×1@2\nwarning document_differs at row 4 column 3"},
		{"totals that are not there", counted(""), "Order,Item,Qty,Price\nA,x,1,2\n",
			"A: x×1@2\nerror document_differs at \nerror document_differs at \nerror document_differs at "},
		{"totals around JSON",
			"koinos: mapping/1\nname: shop\ndocument: {records: \"$.orders[*]\", totals: {orders: {from: $.count}, " +
				"lines: {from: $.sum.lines}}}\n" +
				"orders: {kind: sales, group: {by: path}, parts: {lines: {each: \"$.l[*]\"}}}\nheader: " +
				"{sender_number: {from: no}, partner: {value: P}}\n" +
				"lines: {item: {from: i}, quantity: {from: q}}\n",
			`{"count": 2, "orders": [{"no": "A", "l": [{"i": "x", "q": 1}]}, {"no": "B", "l": [{"i": "x", "q": 1}]}], "sum": {"lines": 3}}`,
			"A: x×1@\nB: x×1@\nerror document_differs at /sum/lines"},
		{"JSON that is cut short", strings.Replace(byPath, "DOC", "broken: take", 1),
			`[{"no": "A", "l": [{"i": "x", "q": 1}]}, {"no": "B", "l": [{"i"`,
			"A: x×1@\nerror document_broken at /1/l/0/i"},
		{"words behind JSON", strings.Replace(byPath, "DOC", "broken: take", 1),
			`[{"no": "A", "l": [{"i": "x", "q": 1}]}] [1]`, "A: x×1@\nerror text_behind at row 4"},
		{"half a surrogate", strings.Replace(byPath, "DOC", "broken: take", 1),
			`[{"no": "A\ud83d", "l": [{"i": "x\u0000", "q": 1}]}, {"no": "B\ud83d\ude00", "l": [{"i": "x", "q": 1}]}]`,
			"!A\ufffd: x\ufffd×1@\nB😀: x×1@\nerror character_invalid at /0/l/0/i\nerror character_invalid at /0/no"},
		{"a name twice", strings.Replace(byPath, "DOC", "broken: take", 1),
			`[{"no": "A", "no": "B", "l": [{"i": "x", "q": 1}]}]`,
			"!B: x×1@\nerror name_twice at /0/no"},
		{"keys that differ in letter case", shop("{by: key, columns: [Order]}", ""),
			"Order,Item,Qty,Price\nL3,x,1,2\nl3,y,1,2\nM,z,1,2\n",
			"L3: x×1@2\n!l3: y×1@2\nM: z×1@2\nerror identity_repeated at row 3 column 1"},
		{"keys in which letter case does not count", shop("{by: key, columns: [Order], fold: case}", ""),
			"Order,Item,Qty,Price\nL3,x,1,2\nl3,y,1,2\nM,z,1,2\n", "L3: x×1@2 y×1@2\nM: z×1@2"},
		{"header facts that differ in letter case", strings.Replace(shop("{by: key, columns: [Order]}", ""), "partner:",
			"reference.r: {from: Price}, partner:", 1),
			"Order,Item,Qty,Price\nA,x,1,ref C\nA,y,1,ref c\n",
			"!A: x×1@ y×1@\nerror header_disagrees at row 3 column 4\nerror not_a_number at row 2 column 4\nerror " +
				"not_a_number at row 3 column 4"},
		{"codes, units and currencies that are spelled otherwise", spelled(""),
			"Order,Item,Unit,Cur\nA,c-1004,ea,eur\nB,C-1004,EA,€\nC,r-1,Ea,Euro\n",
			"A: C-1004×1@ unit=EA currency=EUR\nB: C-1004×1@ unit=EA currency=EUR\nC: r-1×1@ unit=EA currency=EUR\n" +
				"warning spelling_differs at row 2 column 2\nwarning spelling_differs at row 2 column 3\nwarning " +
				"spelling_differs at row 2 column 4\n" +
				"warning spelling_differs at row 3 column 4\nwarning spelling_differs at row 4 column 3\nwarning " +
				"spelling_differs at row 4 column 4"},
		{"spelling that does not count", spelled(", fold: case"), "Order,Item,Unit,Cur\nA,c-1004,ea,eur\nB,R -1,EA,€\n",
			"A: C-1004×1@ unit=EA currency=EUR\n!B: ×1@ unit=EA currency=EUR\nerror unknown_code at row 3 column 2"},
		{"a blank header cell above the lines",
			"koinos: mapping/1\nname: shop\norders: {kind: sales, group: {by: opener, when: 'text() startsWith \"No\"'}, " +
				"parts: {lines: {begin: next}}}\nheader: {sender_number: {from: \"@A\", expr: 'value | after(\" " +
				"\")'}, partner: {value: P}, " +
				"currency: {from: \"@C\"}, payment_terms: {from: \"@D\", repeat: join, separator: /}}\nlines: {item: " +
				"{from: \"@A\"}, quantity: {from: \"@B\"}, unit: {from: \"@C\"}}\n",
			"No 1,,,soon\nx,1,EA,\ny,2,EA,call\nNo 2,,EUR\nz,3,EA\n",
			"1: x×1@ unit=EA y×2@ unit=EA currency= payment_terms=soon/call\n2: z×3@ unit=EA currency=EUR " +
				"payment_terms="},
		{"rules of one's own", shop("{by: key, columns: [Order]}",
			"rules:\n- {when: 'total > 100', refuse: Too much., field: total}\n"+
				"- {of: line, when: 'quantity >= 10 and order.partner == \"P\"', warn: Many., field: quantity}\n- "+
				"{of: document, when: 'orders > 2', warn: Many orders.}\n"),
			"Order,Item,Qty,Price\nA,x,1,2\nA,y,10,2\nB,y,3,40\nC,y,3,4\n",
			"A: x×1@2 y×10@2\n!B: y×3@40\nC: y×3@4\nerror rule_broken at row 4\nwarning rule_broken at \nwarning " +
				"rule_broken at row 3 column 3"},
		{"ranges, scales, lengths and patterns",
			"koinos: mapping/1\nname: shop\norders: {kind: sales, group: {by: key, columns: [Order]}}\n" +
				"header: {sender_number: {from: Order, pattern: \"[A-Z]+\", length: 1-2}, partner: {value: P}, " +
				"ordered_on: {from: Day, least: 2026-01-01, most: 2026-12-31}}\n" +
				"lines: {item: {from: Item, length: 3}, quantity: {from: Qty, least: 1, most: 99.5, places: 1}}\n",
			"Order,Day,Item,Qty\nA,2026-01-01,abc,1\nB,2026-12-31,abc,99.50\nabc,2027-01-01,abcd,0.5\nÄ,2025-12-31,x,99.6\nCCC,2026-02-02,x,1.25\n",
			"A: abc×1@\nB: abc×99.50@\n!abc: abcd×0.5@\n!Ä: x×99.6@\n!CCC: x×1.25@\n" +
				"error rule_broken at row 4 column 1\nerror rule_broken at row 4 column 2\nerror rule_broken at row " +
				"4 column 3\nerror rule_broken at row 4 column 4\n" +
				"error rule_broken at row 5 column 1\nerror rule_broken at row 5 column 2\nerror rule_broken at row " +
				"5 column 4\n" +
				"error rule_broken at row 6 column 1\nerror rule_broken at row 6 column 4"},
		{"values that mean none", strings.NewReplacer("{from: Price}", "{from: Price, blank: [n/a]}", "name: shop\n",
			"name: shop\ndocument: {locale: {blank: [\"-\", \"0\"]}}\n").Replace(
			shop("{by: key, columns: [Order]}", "")), "Order,Item,Qty,Price\nA,x,-,N/A\nA,y,0,-\nB,-,1,1\n",
			"!A: x×@ y×@\n!B: ×1@1\nerror line_without_item at row 4 column 2\nerror must_missing at row 2 column " +
				"3\nerror must_missing at row 3 column 3\n" +
				"error not_a_number at row 3 column 4"},
		{"cells of a matrix that mean none",
			"koinos: mapping/1\nname: shop\norders: {kind: sales, group: {by: key, columns: Order}, parts: {lines: " +
				"{across: matrix, columns: \"@C-@E\"}}}\n" +
				"header: {sender_number: {from: Order}, partner: {value: P}}\nlines: {item: {from: Item}, quantity: " +
				"{from: \"{cell}\", blank: [\"-\", \"0\", none]}}\n",
			"Order,Item,S,M,L\nA,x,-,2,0\nA,y,None,,1\n", "A: x×2@ y×1@"},
		{"JSON in which a text stands where an order should", strings.Replace(byPath, "DOC", "broken: take", 1),
			`["A", {"no": "B", "l": [{"i": "x", "q": 1}]}, 7]`,
			"!\nB: x×1@\n!\nerror record_broken at /0\nerror record_broken at /2"},
		{"kinds by a column, and an order that is passed over", strings.Replace(shop("{by: key, columns: [Order]}", ""),
			"  kind: sales\n",
			"  kind: sales\n  kinds: {from: Type, sales: [S, SO], purchase: P}\n  leave_out: 'col(\"State\") == "+
				"\"draft\"'\n", 1),
			"Order,Type,State,Item,Qty,Price\nA,s,,x,1,2\nB,P,draft,nix,nix,nix\nB,,,nix,,\nC,P,,x,1,2\nD,X,,x,1,2\nE,,,x,1,2\n",
			"A: x×1@2 kind=sales\nC: x×1@2 kind=purchase\n!D: x×1@2 kind=sales\nE: x×1@2 kind=sales\nerror " +
				"unknown_choice at row 6 column 2"},
		{"page heads that repeat, and a second table with another heading",
			shop("{by: key, columns: [Order]}", "document: {heading: {repeats: true}}\n"),
			"Orders of week 12 page 1\n,printed 2026-03-02\nOrder,Item,Qty,Price\nA,x,1,2\nOrders of week 12 page " +
				"2\n,printed 2026-03-02\nOrder,Item,Qty,Price\nA,y,1,2\n\n" +
				"Qty,Price,Item,Order\n3,4,z,B\n", "A: x×1@2 y×1@2\nB: z×3@4"},
		{"no heading row", strings.NewReplacer("{from: Order}", "{from: \"@A\"}", "{from: Item}", "{from: \"@B\"}",
			"{from: Qty}", "{from: \"@C\"}", "{from: Price}", "{from: \"@D\"}", "[Order]", "\"@A\"").Replace(
			shop("{by: key, columns: [Order]}", "document: {heading: {none: true}}\n")), "A,x,1,2\nB,y,3,4\n",
			"A: x×1@2\nB: y×3@4"},
		{"a heading where there is none", shop("{by: key, columns: [Order]}", "document: {heading: {none: true}}\n"),
			"A,x,1,2\n",
			"mapping: header.sender_number names a column by its heading, but the document has no heading row: write " +
				"its letter, such as \"@C\"."},
		{"columns that nothing uses", shop("{by: key, columns: [Order]}", "document: {unknown: warn, unused: [Fax]}\n"),
			"Order,Item,Qty,Price,Colour,Fax,\nA,x,1,2,red,,\n", "A: x×1@2\nwarning column_unknown at row 1 column 5"},
		{"quotation marks that are text", shop("{by: key, columns: [Order]}", "document: {quote: none}\n"),
			"Order,Item,Qty,Price\nA,\"x\",1,2\nB,12\" pipe,3,4\n",
			"A: \"x\"×1@2\nB: 12\" pipe×3@4"},
		{"records that end in a sign, and a sign that releases",
			"koinos: mapping/1\nname: shop\ndocument: {record_end: \"~\", release: \"?\", delimiter: \"*\", heading: " +
				"{none: true}}\n" +
				"orders: {kind: sales, group: {by: rowkind, kind: \"@A\", kinds: {HDR: header, LIN: line, END: " +
				"leave-out}}}\n" +
				"header: {sender_number: {from: \"@B\"}, partner: {value: P}}\nlines: {item: {from: \"@B\"}, " +
				"quantity: {from: \"@C\"}}\n",
			"HDR*A?~1~LIN*x?*y*1~\r\nLIN*z??*2~HDR*B~LIN*q*3x~\nEND~\n",
			"A~1: x*y×1@ z?×2@\n!B: q×@\nerror not_a_number at row 5 column 3"},
		{"text of fixed width", shop("{by: key, columns: [Order]}",
			"document: {positions: {Order: 1-4, Item: 5-10, Qty: 11-14, Price: 16-20}}\n"),
			"A-1 Köln×    1 2.50\nA-1 y        x 3\nB-1 z        3 4     rest\n",
			"!A-1: Köln××1@2.50 y×@3\nB-1: z×3@4\nerror not_a_number at row 2 column 3\nwarning row_too_wide at row 3"},
	} {
		t.Run(c.name, func(t *testing.T) {
			var besides []string
			if strings.Contains(c.want, "number=") {
				besides = append(besides, "number")
			}
			if strings.Contains(c.want, "unit=") {
				besides = append(besides, "unit", "currency")
			}
			if strings.Contains(c.want, "kind=") {
				besides = append(besides, "kind")
			}
			if strings.Contains(c.want, "payment_terms=") {
				besides = append(besides, "payment_terms")
			}
			set := &list.Set{Lists: map[string]*list.List{"items": list.New([]list.Entry{{Code: "C-1004"},
				{Code: "R-1"}, {Code: "r-1"}})}}
			if got := told(t, c.mapping, []byte(c.doc), set, besides...); got != c.want {
				t.Errorf("got:\n%s\nwant:\n%s", got, c.want)
			}
		})
	}
}

// badSum returns a workbook in which the checksum of a sheet is not that of its bytes.
func badSum(t *testing.T, book []byte) []byte {
	t.Helper()
	in, err := zip.NewReader(bytes.NewReader(book), int64(len(book)))
	if err != nil {
		t.Fatal(err)
	}
	var out bytes.Buffer
	w := zip.NewWriter(&out)
	for _, f := range in.File {
		header := f.FileHeader
		header.CRC32 ^= uint32(strings.Count(f.Name, "sheet1.xml"))
		to, err := w.CreateRaw(&header)
		if err != nil {
			t.Fatal(err)
		}
		from, err := f.OpenRaw()
		if err != nil {
			t.Fatal(err)
		}
		if _, err := io.Copy(to, from); err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return out.Bytes()
}

// A mapping can refuse a document as a whole for what is wrong with the document itself, also where
// that is found at its end; and what was not read to its end is never done.
func TestRefusedWhole(t *testing.T) {
	if testing.Short() {
		t.Skip("nothing in it goes on side by side")
	}
	rows := "Order,Item,Qty,Price\n"
	for i := range 3_000 {
		rows += fmt.Sprintf("A-%d,00417,1,2\n", i)
	}
	trees := "["
	for i := range 3_000 {
		trees += fmt.Sprintf(`{"no": "A-%d", "l": [{"i": "00417", "q": 1}]},`, i)
	}
	plain := shop("{by: key, columns: [Order]}", "document: {DOC}\n")
	for _, c := range []struct {
		name, mapping string
		doc           []byte
		stored        int            // where the sound orders are taken
		status        outcome.Status // then
		code          finding.Code
	}{
		{"JSON cut short", byPath, []byte(trees + `{"no": "B", "l"`), 3_000, outcome.Failed, finding.DocumentBroken},
		{"words behind JSON", byPath, []byte(strings.TrimSuffix(trees, ",") + "] and more"), 3_000, outcome.Failed,
			finding.TextBehind},
		{"a line that is not JSON", byPath, []byte("{\"no\": \"A\", \"l\": [{\"i\": \"x\", \"q\": 1}]}\n{\"no\": \n"),
			1, outcome.Done, finding.RecordBroken},
		{"a quotation mark closed elsewhere", plain, []byte(rows + "B,\"x,1,2\nC,\"y\",3,4\n"), 3_000, outcome.Done,
			finding.QuoteUnclosed},
		{"a sheet with another checksum", plain, badSum(t, aBook()), 0, outcome.Failed, finding.DocumentBroken},
		{"other totals", counted(""), []byte(rows + "T,2999,3000,6000\n"), 0, outcome.Failed, finding.DocumentDiffers},
	} {
		for _, word := range []string{"take", "refuse"} {
			e := testEngine(t, testStore(t), source.DefaultLimits)
			l := send(t, e, strings.Replace(c.mapping, "DOC", "broken: "+word, 1), c.doc, Request{})
			found, err := e.store.Findings(context.Background(), l.ID, store.FindingFilter{Limit: 10})
			if err != nil {
				t.Fatal(err)
			}
			stored, status := c.stored, c.status
			if word == "refuse" {
				stored, status = 0, outcome.Failed
			}
			if n := len(orders(t, e)); n != stored || l.Status != status || l.Clean() ||
				!slices.ContainsFunc(found, func(f store.Numbered) bool { return f.Code == c.code && f.At != "" }) {
				t.Errorf("%s, %s: %d orders are stored, %s, %v", c.name, word, n, l.Status, found)
			}
		}
	}
}

// What a mapping leaves out is counted, in every way of loading, and said where the document's totals are compared.
func TestLeftOut(t *testing.T) {
	text := strings.Replace(shop("{by: key, columns: [Order]}",
		"document: {rows: {leave_out: 'col(\"Item\") == \"void\"', "+
			"keep: 'col(\"Qty\") != \"0\"'}, totals: {differ: warn, when: 'text() == \"T\"', orders: {from: \"@B\"}}}\n"),
		"  kind: sales\n",
		"  kind: sales\n  leave_out: 'lower(col(\"Price\")) == \"cancelled\"'\n", 1)
	doc := "Order,Item,Qty,Price\nA,x,1,2\nA,void,1,2\nA,y,0,2\nB,x,1,Cancelled\nB,y,1,2\nC,x,1,2\nC,void,9,9\nT,3,,\n"
	for _, c := range []struct {
		name string
		outcome.Options
		want outcome.Counts
	}{
		{"for itself", outcome.Options{}, outcome.Counts{Loaded: 2}},
		{"as a dry run", outcome.Options{DryRun: true}, outcome.Counts{Ready: 2}},
		{"all or none", outcome.Options{AllOrNone: true}, outcome.Counts{Loaded: 2}},
	} {
		e := testEngine(t, testStore(t), source.DefaultLimits)
		l := send(t, e, text, []byte(doc), Request{Options: c.Options})
		l, err := e.store.Load(context.Background(), l.ID)
		if err != nil {
			t.Fatal(err)
		}
		c.want.Rows, c.want.Orders, c.want.Lines, c.want.LeftOut, c.want.RowsOut = 7, 2, 2, 1, 3
		c.want.Warnings, c.want.Saved = 1, l.Saved
		if l.Counts != c.want {
			t.Errorf("%s: %+v, want %+v", c.name, l.Counts, c.want)
		}
		found, err := e.store.Findings(context.Background(), l.ID, store.FindingFilter{Limit: 10})
		if err != nil {
			t.Fatal(err)
		}
		const want = "The document says 3 orders, but 2 were read; the mapping left out 1 order and 3 rows."
		if len(found) != 1 || found[0].Message != want {
			t.Errorf("%s: %v, want %s", c.name, found, want)
		}
	}
}
