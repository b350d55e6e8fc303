package load

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"koinos/core/finding"
	"koinos/core/order"
	"koinos/core/outcome"
	"koinos/core/source"
	"koinos/store"
)

// A list of a warehouse names orders of all customers and none of the customers: each row finds its order by our
// number, or by the sender's where only one partner has it, and what is posted is the order's partner's.
func TestNoticesOfAnybody(t *testing.T) {
	e := testEngine(t, testStore(t), source.DefaultLimits)
	orders := strings.Replace(strings.Replace(plainMapping, "{value: OSTRAND}", "{from: Customer}", 1), "lines:",
		"  reference.job: {from: Job}\nlines:", 1)
	const heads = "Order,Date,Item,Qty,Price,Customer,Job\n"
	send(t, e, orders, []byte(heads+"A-1,2026-03-02,00417,9,9.50,OSTRAND,J-1\nA-2,2026-03-02,00417,9,9.50,PELLOW,J-2\n"+
		"B-1,2026-03-02,00417,9,9.50,OSTRAND,J-3\n"), Request{})
	send(t, e, orders, []byte(heads+"B-1,2026-03-02,00417,9,9.50,PELLOW,J-3\n"), Request{})
	step := 0
	ship := func(only []string, shipment, number, job, reverses string) string {
		step++
		l := send(t, e, `koinos: mapping/1
name: example
orders: {kind: shipment, of: sales, group: {by: key, columns: [Step]}}
header: {shipment: {from: Note}, number: {from: Order}, sender_number: {from: Order}, reference.job: {from: Job},
  reverses: {from: Reverses}}
lines: {number: {value: "1"}, quantity: {from: Qty}}
`, fmt.Appendf(nil, "Step,Note,Order,Job,Reverses,Qty\n%d,%s,%s,%s,%s,1\n", step, shipment, number, job, reverses),
			Request{Options: outcome.Options{Partners: only}})
		found, err := e.store.Findings(context.Background(), l.ID, store.FindingFilter{Limit: 10})
		outcomes, _, outcomesErr := e.store.Outcomes(context.Background(), l.ID, store.OutcomeFilter{Limit: 10})
		if err != nil || outcomesErr != nil || len(outcomes) != 1 || len(found) > 1 {
			t.Fatal(found, outcomes, err, outcomesErr)
		}
		if len(found) == 1 {
			return strings.TrimSpace(found[0].Message + " " + found[0].Hint)
		}
		return fmt.Sprint(outcomes[0].Number, " ", outcomes[0].Outcome)
	}
	pellow := []string{"PELLOW"}
	const narrowed = "This load may only touch orders of PELLOW. Correct the partner, or load the document with a token that is " +
		"not narrowed to other partners."
	for _, c := range []struct {
		only                            []string
		shipment, number, job, reverses string
		want                            string
	}{
		{nil, "S-1", "SO-000001", "", "", "SO-000001 changed"},
		{nil, "S-1", "so-000001", "", "", "SO-000001 unchanged"},
		{nil, "S-2", "a-2", "", "", "SO-000002 changed"},
		{nil, "S-1", "SO-000002", "", "", "SO-000002 changed"}, // of another partner: another shipment
		{nil, "S-3", "B-1", "", "", `More than one sales order has the number "B-1"; it is not clear which one is meant. ` +
			`OSTRAND and PELLOW have one. Bind partner to what says whose it is.`},
		{nil, "S-3", "SO-000004", "", "", "SO-000004 changed"},
		{nil, "S-4", "A-3", "", "", `No sales order has the number "A-3". Check whether the partner names the right order; ` +
			`when it is stored, try this again.`},
		{nil, "S-4", "", "J-2", "", "SO-000002 changed"},
		{nil, "S-5", "", "J-3", "", `More than one sales order has the reference job "J-3"; it is not clear which one is meant. ` +
			`OSTRAND and PELLOW have one. Bind partner to what says whose it is.`},
		{pellow, "S-6", "SO-000001", "", "", narrowed},
		{pellow, "S-6", "SO-000009", "", "", narrowed},
		{pellow, "S-6", "SO-000002", "", "", "SO-000002 changed"},
		{nil, "S-7", "", "", "S-3", "SO-000004 changed"},
		{nil, "S-8", "", "", "S-1", "The shipment S-1 is of several orders (SO-000001, SO-000002), and the notice names none. " +
			"Take it back in each of these orders."},
		{pellow, "S-8", "", "", "S-9", narrowed},
		{nil, "S-8", "", "", "S-9", "No shipment S-9 is known. Compare the number with the order's shipments and receipts: " +
			"koinos order show."},
	} {
		if got := ship(c.only, c.shipment, c.number, c.job, c.reverses); got != c.want {
			t.Errorf("%v %s %s%s%s: %s\nnot %s", c.only, c.shipment, c.number, c.job, c.reverses, got, c.want)
		}
	}
	o, err := e.store.Order(context.Background(), 2)
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, m := range o.Movements {
		got = append(got, fmt.Sprint(m.Kind, " ", m.Number, " ", m.Partner))
	}
	want := fmt.Sprint(order.Shipment, " S-2 PELLOW ", order.Shipment, " S-1 PELLOW ", order.Shipment, " S-4 PELLOW ",
		order.Shipment, " S-6 PELLOW")
	if s := strings.Join(got, " "); s != want {
		t.Errorf("%s\nnot %s", s, want)
	}
}

// A partner that the mapping binds and a row leaves blank is missing: the number is not looked for among everybody's.
func TestNoticeWithABlankPartner(t *testing.T) {
	e := testEngine(t, testStore(t), source.DefaultLimits)
	send(t, e, plainMapping, []byte("Order,Date,Item,Qty,Price\nA-1,2026-03-02,00417,9,9.50\n"), Request{})
	l := send(t, e, `koinos: mapping/1
name: example
orders: {kind: shipment, of: sales, group: {by: key, columns: [Note]}}
header: {shipment: {from: Note}, number: {from: Order}, partner: {from: Customer}}
lines: {number: {value: "1"}, quantity: {from: Qty}}
`, []byte("Note,Order,Customer,Qty\nS-1,SO-000001,,1\n"), Request{})
	found, err := e.store.Findings(context.Background(), l.ID, store.FindingFilter{Limit: 10})
	if err != nil || len(found) != 1 || found[0].Code != finding.MustMissing || found[0].Field != "partner" || l.Refused != 1 {
		t.Errorf("%+v %+v %v", l, found, err)
	}
}
