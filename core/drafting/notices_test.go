package drafting

import (
	"flag"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"koinos/core/intent"
	"koinos/core/list"
	"koinos/core/source"
)

var update = flag.Bool("update", false, "write the drafts that the tests compare with anew")

// Documents that speak of orders, as other programs and people write them, are drafted as what their name begins with;
// beside each stands the draft that a person has read.
func TestNotices(t *testing.T) {
	goldens(t, "testdata/notices/*", 45, func(path string) Hints {
		says, _, _ := strings.Cut(filepath.Base(path), "-")
		kind, of, err := KindOf(says, "")
		if err != nil {
			t.Fatal(err)
		}
		return Hints{Partner: "PELLOW", Kind: kind, Says: of}
	})
}

// Orders as strangers write them are drafted as a person would read them.
func TestOrders(t *testing.T) {
	goldens(t, "testdata/orders/*", 10, func(string) Hints { return Hints{} })
}

// goldens compares the drafts of the documents at a path, at least so many, with those that are kept beside them.
func goldens(t *testing.T, pattern string, least int, hints func(path string) Hints) {
	t.Helper()
	files, err := filepath.Glob(pattern)
	if err != nil {
		t.Fatal(err)
	}
	count := 0
	for _, path := range files {
		if strings.HasSuffix(path, ".yaml") {
			continue
		}
		count++
		doc, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		h := hints(path)
		h.Lists, h.Limits = &list.Set{}, source.DefaultLimits
		p, err := Draft(strings.NewReader(string(doc)), int64(len(doc)), h)
		if err != nil {
			t.Errorf("%s: %v", path, err)
			continue
		}
		golden := path + ".yaml"
		if *update {
			if err := os.WriteFile(golden, []byte(p.Text), 0o644); err != nil {
				t.Fatal(err)
			}
			continue
		}
		want, err := os.ReadFile(golden)
		if err != nil || p.Text != string(want) {
			t.Errorf("%s: %v\n%s", path, err, p.Text)
		}
	}
	if count < least {
		t.Errorf("only %d documents", count)
	}
}

// Numbers that look like ours say whose orders a notice is about, but not if they are a customer's.
func TestWhoseOrders(t *testing.T) {
	for _, c := range []struct {
		doc, kind, of string
	}{
		{"ASN,PO,Item,Qty shipped\nA-1,PO-000012,R-1,5\n", "shipment", "purchase"},
		{"ASN,PO,Item,Qty shipped\nA-1,PO-5512,R-1,5\n", "shipment", "sales"},
		{"ASN,Customer PO,Item,Qty shipped\nA-1,PO-000012,R-1,5\n", "shipment", "sales"},
		{"ASN,SO,Their PO,Item,Qty shipped\nA-1,SO-000007,PO-000012,R-1,5\n", "shipment", "sales"},
		{"Order,Item,Confirmed qty\nSO-000007,R-1,5\n", "answer", "sales"},
		{"Cust PO,Item,Confirmed qty\n771,R-1,5\n", "answer", "sales"},
		{"Order,Item,Confirmed qty\n771,R-1,5\n", "answer", "purchase"},
	} {
		p, err := Draft(strings.NewReader(c.doc), int64(len(c.doc)), Hints{Says: intent.Kind(c.kind), Limits: source.DefaultLimits})
		if err != nil || !strings.Contains(p.Text, "\n  of: "+c.of) {
			t.Errorf("%s: %v\n%s", c.doc, err, p.Text)
		}
	}
}

// A document about orders is not taken for one of orders without a word.
func TestSpeaksOfOrders(t *testing.T) {
	for _, c := range []struct {
		heading, want string
		rows          []string
	}{
		{heading: "Despatch note,Customer PO,Item,Qty despatched",
			want: `The columns "Despatch note" and "Qty despatched" look like those ` +
				`of a shipment, which is about orders that are stored.`},
		{"Order No,Line,Old price,New price", `The columns "Old price" and "New price" look like those of a change, which is ` +
			`about orders that are stored.`, []string{"A-1,1,6.15,5.95", "A-1,2,0.97,0.99"}},
		{"Ordine,Riga,Prezzo nuovo,Prezzo vecchio", `The columns "Prezzo vecchio" and "Prezzo nuovo" look like those of a ` +
			`change, which is about orders that are stored.`, []string{"A-1,1,6.15,5.95", "A-1,2,0.97,0.99"}},
		{"Item,Valid from,Old price,New price", `No column looks like a quantity: this may be a price list, and no document of ` +
			`orders.`, []string{"00417,2026-01-01,6.15,5.95", "00418,2026-01-01,0.97,0.99"}},
		{"Dispatch,Date,Order,Article,Shipped", `The columns "Dispatch" and "Shipped" look like those of a shipment, which is ` +
			`about orders that are stored.`, []string{"D-1,30.11.2026,SO-000001,00417,10", "D-1,30.11.2026,SO-000001,00489,3"}},
		{"Dispatch,Shipped,Order,Article", `No column looks like a quantity: this may be a list of shipments, and no document of ` +
			`orders.`, []string{"D-1,30.11.2026,SO-000001,00417", "D-1,30.11.2026,SO-000001,00489"}},
		{"GRN,PO Number,Received,Item,Qty Rcvd", `The columns "GRN" and "Qty Rcvd" look like those of a receipt, which is ` +
			`about orders that are stored.`, []string{"G-1,PO-000001,2026-11-29,00101,100", "G-1,PO-000001,2026-11-29,00104,50"}},
		{heading: "GRN,PO,Item,Qty received", want: `The columns "GRN" and "Qty received" look like those of a receipt, ` +
			`which is about orders that are stored.`},
		{heading: "Invoice no,Order,Item,Qty invoiced", want: `The columns "Invoice no" and "Qty invoiced" look like those of an invoice, ` +
			`which is about orders that are stored.`},
		{heading: "PO,Item,Confirmed qty,Promised", want: `The columns "Confirmed qty" and "Promised" look like those of an answer, which ` +
			`is about orders that are stored.`, rows: []string{"A-1,00417,3,2026-03-04", "A-1,00489,2,2026-03-04"}},
		{heading: "Order no,Line,New price,Action", want: `The columns "Action" and "New price" look like those of a change, which is about ` +
			`orders that are stored.`},
		{heading: "Shipment,Shipped,Item,Qty", want: ""}, // a day, or a quantity
		{heading: "Delivery note,Order no,Item,Qty", want: ""},
		{heading: "Order no,Item,Qty,Qty shipped", want: ""},
	} {
		doc := c.heading + "\n"
		rows := c.rows
		if rows == nil {
			rows = []string{"A-1,B-1,00417,3", "A-1,B-1,00489,2", "A-2,B-2,00417,1"}
		}
		for _, row := range rows {
			doc += row + "\n"
		}
		p, err := Draft(strings.NewReader(doc), int64(len(doc)), Hints{Lists: &list.Set{}, Limits: source.DefaultLimits})
		if err != nil || p.NoOrders != c.want {
			t.Errorf("%s: %q, %v", c.heading, p.NoOrders, err)
		}
	}
}

// A draft of a notice takes nothing for a quantity that its heading calls something else, looks for numbers of both
// sides where both stand in a column, and needs no partner: the orders say whose they are.
func TestDraftOfAnybodysOrders(t *testing.T) {
	for _, c := range []struct {
		says      intent.Kind
		doc, want string
	}{
		{intent.Shipment, "Dispatch;Date;Order;Pos.;Article;Shipped\nD-1;30.11.2026;SO-000001;1;00417;10\n" +
			"D-1;30.11.2026;SO-000001;2;00104;3\nD-2;30.11.2026;4501190;1;00417;60\n", `header:
  sender_number: {from: Order, need: must}
  shipment: {from: Dispatch, need: must}
  shipped_on: {from: Date, dates: d.m.yyyy}   # ? likely: its heading is like "date"
  number: {from: Order, need: must}   # ? unsure: some of its values begin with SO-, as our numbers do
lines:
  item: {from: Article}
  number: {from: Pos.}
  quantity: {from: Shipped, need: must}
`},
		{intent.Shipment, "Dispatch;Date;Number;Pos.;Article;Shipped\nD-1;30.11.2026;SO-000001;1;00417;10\n" +
			"D-1;30.11.2026;SO-000001;2;00104;3\nD-2;30.11.2026;4501190;1;00417;60\n", `header:
  shipment: {from: Dispatch, need: must}
  sender_number: {from: Number, need: must}   # ? likely: some of its values begin with SO-, as our numbers do
  shipped_on: {from: Date, dates: d.m.yyyy}   # ? likely: its heading is like "date"
  number: {from: Number, need: must}   # ? unsure: some of its values begin with SO-, as our numbers do
lines:
  item: {from: Article}
  number: {from: Pos.}
  quantity: {from: Shipped, need: must}
`},
		{"", "Order No,Line,Old price,New price\nSO-000001,1,6.15,5.95\nSO-000001,2,0.97,0.99\n", `header:
  sender_number: {from: Order No, need: must}
  partner: {expr: '""', need: must}   # ? unsure: nothing says who the partner is: write value: and our code of it
lines:
  number: {from: Line}
  unit_price: {from: New price}
  quantity: {expr: '""', need: must}   # ? unsure: no column looks like a quantity: say from which one it comes
  description: {expr: '""', need: must}   # ? unsure: no column looks like an item: say from which one it comes
# Not used: Old price
`},
	} {
		p, err := Draft(strings.NewReader(c.doc), int64(len(c.doc)), Hints{Says: c.says, Lists: &list.Set{},
			Limits: source.DefaultLimits})
		if err != nil {
			t.Fatal(err)
		}
		if _, got, _ := strings.Cut(p.Text, "header:\n"); "header:\n"+got != c.want {
			t.Errorf("%s\nnot %s", got, c.want)
		}
		for _, g := range p.Guesses {
			if g.Second == "header.number" {
				t.Errorf("%s is bound to the number, and could be the number: %+v", g.What, g)
			}
		}
	}
}

// The words for what a document is drafted as are those of a mapping.
func TestKindOf(t *testing.T) {
	for _, c := range []struct{ kind, of, want, says, err string }{
		{"", "", "", "", ""},
		{"purchase", "", "purchase", "", ""},
		{"receipt", "", "", "receipt", ""},
		{"shipment", "purchase", "purchase", "shipment", ""},
		{"sales", "purchase", "", "", "of says which orders a document is about, such as shipment of sales"},
		{"shipment", "both", "", "", `orders are of the kind sales or purchase, not "both"`},
		{"withdrawal", "", "", "",
			`the kind is sales, purchase, change, answer, shipment, receipt, return, invoice, not "withdrawal"`},
	} {
		kind, says, err := KindOf(c.kind, c.of)
		got := ""
		if err != nil {
			got = err.Error()
		}
		if string(kind) != c.want || string(says) != c.says || got != c.err {
			t.Errorf("%s of %s: %s %s %s", c.kind, c.of, kind, says, got)
		}
	}
}
