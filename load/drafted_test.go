package load

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"koinos/core/drafting"
	"koinos/core/list"
	"koinos/core/order"
	"koinos/core/source"
	"koinos/store"
)

// What a draft makes of documents about orders is loaded as it is, and does what the documents say.
func TestDraftedNotices(t *testing.T) {
	if testing.Short() {
		t.Skip("it looks for no races")
	}
	mapping := func(kind string) string {
		return `koinos: mapping/1
name: example
orders: {kind: ` + kind + `, group: {by: key, columns: [Number]}}
header:
  number:        {from: Number}
  sender_number: {from: Theirs}
  partner:       {value: PELLOW}
  currency:      {value: EUR}
  ordered_on:    {value: 2026-03-02}
lines:
  number:     {from: Line}
  item:       {from: Item, need: should}
  quantity:   {from: Qty}
  unit:       {from: Unit}
  unit_price: {from: Price}
`
	}
	const sales = "Number,Theirs,Line,Item,Qty,Unit,Price\nSO-000017,PM-4711,1,00417,40,EA,1.33\nSO-000017,PM-4711,2,00489,5,EA,31.42\n" +
		"SO-000018,PM-4712,1,00417,20,EA,1.33\n"
	const bought = "Number,Theirs,Line,Item,Qty,Unit,Price\nPO-000031,,1,BR-10-W,200,EA,0.71\nPO-000031,,2,BR-08-W,100,EA,0.55\n" +
		"PO-000032,,1,BR-10-W,50,EA,0.71\n"
	for _, c := range []struct{ file, want string }{
		{"shipment-despatch.csv", "changed 2: 30 shipped, 5 shipped; 20 shipped"},
		{"shipment-titled.csv", "changed 2: 4 shipped; 20 shipped"},
		{"receipt-grn.csv", "changed 2: 150 received, 100 received; 50 received"},
		{"receipt-fr.csv", "changed 2: 150 received, 100 received; 50 received"},
		{"receipt-flat.json", "changed 2: 150 received, 100 received; 50 received"},
		{"answer-confirm.csv", "changed 2: 200 accepted 2026-04-10, 60 changed 2026-04-10; 0 refused"},
		{"answer-de.csv", "changed 2: 200 2026-04-10, 60 2026-04-10; 50 2026-04-17"},
		{"answer-plain.csv", "changed 2: 200 accepted 2026-04-10, 60 changed 2026-04-10; 50 back-ordered 2026-04-17"},
		{"invoice-es.csv", "changed 2: 30 invoiced, 5 invoiced; 20 invoiced"},
		{"change-prices.csv", "changed 2: 40 at 1.40, 5 at 32.00; 20 at 1.40"},
		{"change-qty.csv", "changed 2: 35 due 2026-04-01, 5 cancelled; 25 due 2026-04-02"},
		{"return-rma.csv", "changed 2: 3 returned, 1 returned; 2 returned"},
	} {
		doc, err := os.ReadFile(filepath.Join("..", "core", "drafting", "testdata", "notices", c.file))
		if err != nil {
			t.Fatal(err)
		}
		word, _, _ := strings.Cut(c.file, "-")
		kind, says, err := drafting.KindOf(word, "")
		if err != nil {
			t.Fatal(err)
		}
		p, err := drafting.Draft(strings.NewReader(string(doc)), int64(len(doc)), drafting.Hints{Name: "example",
			Partner: "PELLOW", Kind: kind,
			Says: says, Lists: &list.Set{}, Limits: source.DefaultLimits})
		if err != nil {
			t.Fatal(err)
		}
		e := testEngine(t, testStore(t), source.DefaultLimits)
		if word == "receipt" || word == "answer" {
			send(t, e, mapping("purchase"), []byte(bought), Request{})
		} else {
			if l := send(t, e, mapping("sales"), []byte(sales), Request{}); l.Loaded != 2 {
				found, err := e.store.Findings(t.Context(), l.ID, store.FindingFilter{Limit: 10})
				t.Fatalf("%+v %+v %v", l.Counts, found, err)
			}
		}
		if word == "return" {
			send(t, e, strings.Replace(notices("shipment", "quantity: {from: Qty}"), "OSTRAND", "PELLOW", 1),
				[]byte("No,Order,Line,Qty\nS,PM-4711,1,40\nS,PM-4711,2,5\nS,PM-4712,1,20\n"), Request{})
		}
		l := send(t, e, p.Text, doc, Request{})
		var all []string
		for id := range int64(2) {
			o, err := e.store.Order(t.Context(), id+1)
			if err != nil {
				t.Fatal(err)
			}
			var lines []string
			for i := range o.Lines {
				if says := happened(word, &o.Order, o.Answers, &o.Lines[i]); says != "" {
					lines = append(lines, says)
				}
			}
			all = append(all, strings.Join(lines, ", "))
		}
		if got := fmt.Sprintf("changed %d: %s", l.Changed, strings.Join(all, "; ")); got != c.want {
			t.Errorf("%s:\n got %s\nwant %s\n%+v\n%s", c.file, got, c.want, l.Counts, p.Text)
		}
		if again := send(t, e, p.Text, doc, Request{}); again.Changed != 0 || again.Failing() != 0 {
			t.Errorf("%s: loaded again it does something: %+v", c.file, again.Counts)
		}
	}
}

// happened says what a notice of a kind did to a line; "" if there is nothing.
func happened(kind string, o *order.Order, answers []order.Answered, l *order.Line) string {
	switch {
	case kind == "shipment" && l.Shipped.Sign() > 0:
		return l.Shipped.Plain() + " shipped"
	case kind == "receipt":
		return l.Received.Plain() + " received"
	case kind == "return":
		return l.Returned.Plain() + " returned"
	case kind == "invoice":
		return l.Invoiced.Plain() + " invoiced"
	case kind == "change" && l.Cancelled.Sign() > 0:
		return l.Cancelled.Plain() + " cancelled"
	case kind == "change" && l.RequestedDeliveryOn != "":
		return l.Quantity.Plain() + " due " + string(l.RequestedDeliveryOn)
	case kind == "change":
		return l.Quantity.Plain() + " at " + l.UnitPrice.String()
	case kind == "answer" && len(answers) > 0:
		for _, a := range answers[len(answers)-1].Lines {
			if a.Line == l.ID {
				n := a.Quantity.Plain()
				if a.Quantity.Sign() == 0 {
					n = "0"
				}
				return strings.Join(strings.Fields(fmt.Sprint(n, " ", a.Code, " ", a.DueOn)), " ")
			}
		}
	}
	return ""
}
