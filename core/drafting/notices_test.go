package drafting

import (
	"flag"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"koinos/core/list"
	"koinos/core/source"
)

var update = flag.Bool("update", false, "write the drafts that the tests compare with anew")

// Documents that speak of orders, as other programs and people write them, are drafted as what their name begins with;
// beside each stands the draft that a person has read.
func TestNotices(t *testing.T) {
	files, err := filepath.Glob("testdata/notices/*")
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
		says, _, _ := strings.Cut(filepath.Base(path), "-")
		kind, of, err := KindOf(says, "")
		if err != nil {
			t.Fatal(err)
		}
		p, err := Draft(strings.NewReader(string(doc)), int64(len(doc)),
			Hints{Partner: "PELLOW", Kind: kind, Says: of, Lists: &list.Set{}, Limits: source.DefaultLimits})
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
	if count < 35 {
		t.Errorf("only %d documents", count)
	}
}

// A document about orders is not taken for one of orders without a word.
func TestSpeaksOfOrders(t *testing.T) {
	for _, c := range []struct{ heading, want string }{
		{"Despatch note,Customer PO,Item,Qty despatched",
			`The columns "Despatch note" and "Qty despatched" look like those ` +
				`of a shipment, which is about orders that are stored.`},
		{"GRN,PO,Item,Qty received", `The columns "GRN" and "Qty received" look like those of a receipt, ` +
			`which is about orders that are stored.`},
		{"Invoice no,Order,Item,Qty invoiced", `The columns "Invoice no" and "Qty invoiced" look like those of an invoice, ` +
			`which is about orders that are stored.`},
		{"PO,Item,Confirmed qty,Promised", `The columns "Confirmed qty" and "Promised" look like those of an answer, which ` +
			`is about orders that are stored.`},
		{"Order no,Line,New price,Action", `The columns "Action" and "New price" look like those of a change, which is about ` +
			`orders that are stored.`},
		{"Shipment,Shipped,Item,Qty", ""}, // a day, or a quantity
		{"Delivery note,Order no,Item,Qty", ""},
		{"Order no,Item,Qty,Qty shipped", ""},
	} {
		doc := c.heading + "\n"
		for _, row := range []string{"A-1,B-1,00417,3", "A-1,B-1,00489,2", "A-2,B-2,00417,1"} {
			doc += row + "\n"
		}
		p, err := Draft(strings.NewReader(doc), int64(len(doc)), Hints{Lists: &list.Set{}, Limits: source.DefaultLimits})
		if err != nil || p.NoOrders != c.want {
			t.Errorf("%s: %q, %v", c.heading, p.NoOrders, err)
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
