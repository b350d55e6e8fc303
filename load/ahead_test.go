package load

import (
	"context"
	"fmt"
	"testing"

	"koinos/api"
	"koinos/core/finding"
	"koinos/core/intent"
	"koinos/core/outcome"
	"koinos/core/source"
	"koinos/store"
)

// What notices do is worked out before they are taken: where an order became another meanwhile, by a shipment before in
// the document or by somebody else, they count from what it is then.
func TestShipmentsAfterShipments(t *testing.T) {
	if testing.Short() {
		t.Skip("the other test looks for races")
	}
	for _, options := range []outcome.Options{{}, {AllOrNone: true}} {
		t.Run(fmt.Sprint("all or none ", options.AllOrNone), func(t *testing.T) {
			e := testEngine(t, testStore(t), source.DefaultLimits)
			send(t, e, plainMapping, []byte(head+"A-1,2026-03-02,00417,200,9.50\nA-2,2026-03-02,00417,5,9.50\n"), Request{})
			const n = 400
			goods := []byte("No,Order,Line,Qty\n")
			for i := range n {
				goods = fmt.Appendf(goods, "LS-%d,A-1,1,1\n", i+1)
			}
			goods = fmt.Appendf(goods, "LS-1,A-2,1,5\n") // one more order in the first shipment
			l := send(t, e, notices("shipment", "quantity: {from: Qty}"), goods, Request{Options: options})
			if l.Changed != n+1 || l.Warnings != n-200 {
				t.Fatalf("%+v", l)
			}
			o, err := e.store.Order(t.Context(), 1)
			if err != nil || o.Lines[0].Shipped.Plain() != fmt.Sprint(n) || o.Revision != n+1 || len(o.Movements) != n {
				t.Fatalf("%s shipped at revision %d in %d movements, %v", o.Lines[0].Shipped, o.Revision, len(o.Movements), err)
			}
			found, err := e.store.Findings(t.Context(), l.ID, store.FindingFilter{Limit: 1_000})
			if err != nil || len(found) != n-200 {
				t.Fatal(len(found), err)
			}
			for i, f := range found {
				want := fmt.Sprintf("Of line 1, %d are shipped now, more than the 200 that were ordered.", 201+i)
				if f.Finding.Code != finding.OverDelivery || f.Finding.Message != want {
					t.Fatalf("%d: %s", i, f.Finding.Message)
				}
			}
			for i := range 2 { // what each event kept is the order before it
				was, err := e.store.AsOf(t.Context(), 1, 100*(i+1))
				if err != nil || was.Lines[0].Shipped.Plain() != fmt.Sprint(100*(i+1)-1) {
					t.Errorf("at revision %d %s were shipped, %v", 100*(i+1), was.Lines[0].Shipped, err)
				}
			}
			second, err := e.store.Order(t.Context(), 2)
			if err != nil || second.Movements[0].ID != o.Movements[0].ID {
				t.Errorf("a shipment of two orders is two: %+v %+v %v", second.Movements[0], o.Movements[0], err)
			}
		})
	}
}

// Shipments of a load and of people at the same time are all counted, and none counts twice.
func TestShipmentsBesideALoad(t *testing.T) {
	e := testEngine(t, testStore(t), source.DefaultLimits)
	const orders = 400
	doc, goods := []byte(head), []byte("No,Order,Line,Qty\n")
	for o := range orders {
		doc = fmt.Appendf(doc, "A-%d,2026-03-02,00417,1000,9.50\n", o)
		goods = fmt.Appendf(goods, "LS-%d,A-%d,1,10\n", o, o)
	}
	send(t, e, plainMapping, doc, Request{})
	done := make(chan error, 1)
	go func() {
		for o := range orders {
			n := api.Notice{Header: map[string]string{"shipment": fmt.Sprint("P-", o)},
				Lines: []map[string]string{{"number": "1", "quantity": "3"}}}
			if _, err := e.Tell(context.Background(), Telling{Kind: intent.Shipment, Order: int64(orders - o), By: "b",
				Body: fmt.Appendf(nil, "%d", o)}, &n); err != nil {
				done <- err
				return
			}
		}
		done <- nil
	}()
	l := send(t, e, notices("shipment", "quantity: {from: Qty}"), goods, Request{})
	if err := <-done; err != nil || l.Changed != orders {
		t.Fatalf("%v %+v", err, l)
	}
	for id := range int64(orders) {
		o, err := e.store.Order(t.Context(), id+1)
		if err != nil || o.Lines[0].Shipped.Plain() != "13" || o.Revision != 3 {
			t.Fatalf("order %d: %s shipped at revision %d, %v", id+1, o.Lines[0].Shipped, o.Revision, err)
		}
	}
}
