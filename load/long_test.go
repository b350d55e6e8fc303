package load

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"koinos/api"
	"koinos/core/cputime"
	"koinos/core/intent"
	"koinos/core/order"
	"koinos/core/outcome"
	"koinos/core/source"
)

// What is said of an order takes time in proportion to its lines: five times as many take about five times as long, and
// not twenty-five times, while everybody else waits for the writer. Each was quadratic once; an invoice of ten thousand
// lines took a minute.
func TestLongOrders(t *testing.T) {
	if testing.Short() {
		t.Skip("it looks for no races")
	}
	lines := func(n int, one string) string {
		var all []string
		for i := range n {
			all = append(all, fmt.Sprintf(one, i+1))
		}
		return `"lines": [` + strings.Join(all, ", ") + "]"
	}
	acts := []struct {
		name string
		kind intent.Kind // blank posts an order
		body func(n int) string
		want outcome.Outcome
	}{
		{"an order whose items nobody knows", "", func(n int) string {
			return `{"kind": "sales", "partner": "OSTRAND", "sender_number": "L-0", ` + lines(n, `{"item": "Z%d", "quantity": "4"}`) + "}"
		}, outcome.Refused},
		{"an order", "", func(n int) string {
			return `{"kind": "sales", "partner": "OSTRAND", "sender_number": "L-1", "currency": "EUR", ` + lines(n,
				`{"buyer_item": "B%d", "quantity": "4", "unit_price": "2", "charges": [{"code": "x", "amount": "1", "allowance": true}]}`) + "}"
		}, outcome.Loaded},
		{"a table of it with blank cells", intent.Change, func(n int) string {
			return `{"header": {"revision": "1"}, ` + lines(n, `{"number": "%[1]d", "buyer_item": "B%[1]d", "quantity": "6", "gtin": "", "notes": "", `+
				`"location": "", "description": "", "supplier_item": "", "unit": ""}`) + "}"
		}, outcome.Changed},
		{"the same table, changed further", intent.Change, func(n int) string {
			return `{"header": {"revision": "1"}, ` + lines(n, `{"number": "%[1]d", "buyer_item": "B%[1]d", "quantity": "6", "notes": "green", "gtin": ""}`) + "}"
		}, outcome.Changed},
		{"its lines found by their items", intent.Change, func(n int) string {
			return "{" + lines(n, `{"buyer_item": "B%d", "quantity": "5"}`) + "}"
		}, outcome.Changed},
		{"other items", intent.Change, func(n int) string {
			return "{" + lines(n, `{"number": "%[1]d", "buyer_item": "C%[1]d"}`) + "}"
		}, outcome.Changed},
		{"lines that are of one item", intent.Change, func(n int) string {
			return "{" + lines(n, `{"number": "%d", "item": "00417"}`) + "}"
		}, outcome.Changed},
		{"a shipment of that item", intent.Shipment, func(n int) string {
			return `{"header": {"shipment": "X"}, ` + lines(n, `{"item": "00417", "quantity": "%d"}`) + "}"
		}, outcome.Refused},
		{"an answer", intent.Answer, func(n int) string {
			return "{" + lines(n, `{"number": "%d", "answer": "accepted"}`) + "}"
		}, outcome.Changed},
		{"a shipment", intent.Shipment, func(n int) string {
			return `{"header": {"shipment": "S"}, ` + lines(n, `{"number": "%d", "quantity": "4"}`) + "}"
		}, outcome.Changed},
		{"a part of it taken back", intent.Shipment, func(n int) string {
			return `{"header": {"shipment": "S-1", "reverses": "S"}, ` + lines(n, `{"number": "%d", "quantity": "1"}`) + "}"
		}, outcome.Changed},
		{"an invoice", intent.Invoice, func(n int) string {
			return `{"header": {"invoice": "I", "charges_billed": "share"}, ` + lines(n, `{"number": "%d", "quantity": "2"}`) + "}"
		}, outcome.Changed},
		{"the next one", intent.Invoice, func(n int) string {
			return `{"header": {"invoice": "J", "charges_billed": "share"}, ` + lines(n, `{"number": "%d", "quantity": "1"}`) + "}"
		}, outcome.Changed},
		{"a credit note of lines", intent.Invoice, func(n int) string {
			return `{"header": {"invoice": "K", "reverses": "I"}, ` + lines(n, `{"number": "%d", "quantity": "1"}`) + "}"
		}, outcome.Changed},
		{"one of the rest", intent.Invoice, func(int) string { return `{"header": {"invoice": "L", "reverses": "I"}}` }, outcome.Changed},
	}
	took := map[string][]time.Duration{}
	const few, many = 1_000, 5_000
	for _, n := range []int{few, many} {
		e := testEngine(t, testStore(t), source.DefaultLimits)
		for _, a := range acts {
			body, p, err := []byte(a.body(n)), api.Posted{}, error(nil)
			var o order.Order
			var notice api.Notice
			if a.kind == "" {
				err = json.Unmarshal(body, &o)
			} else {
				err = json.Unmarshal(body, &notice)
			}
			if err != nil {
				t.Fatal(err)
			}
			began := cputime.Used(t)
			if a.kind == "" {
				p, err = e.Post(context.Background(), &o, body, outcome.Skip, "test")
			} else {
				p, err = e.Tell(context.Background(), Telling{Kind: a.kind, Order: 1, Body: body, By: "test"}, &notice)
			}
			took[a.name] = append(took[a.name], cputime.Used(t)-began)
			if err != nil || p.Outcome != a.want {
				t.Fatalf("%s, %d lines: %s, %v, %+v", a.name, n, p.Outcome, err, p.Findings[:min(3, len(p.Findings))])
			}
		}
	}
	for _, a := range acts {
		if d := took[a.name]; d[1] > 3*many/few*max(d[0], 5*time.Millisecond) {
			t.Errorf("%s: %s of processor time with %d lines, %s with %d", a.name, d[0], few, d[1], many)
		}
	}
}

// An order that changed often, thousands of lines each time, is shown with the newest of its changes; the older ones
// are counted. So is the feed: a page ends where it becomes long, and says that there is more.
func TestManyChanges(t *testing.T) {
	if testing.Short() {
		t.Skip("it looks for no races")
	}
	e := testEngine(t, testStore(t), source.DefaultLimits)
	ctx := context.Background()
	const lines, times = 4_000, 12
	document := func(quantity int) []byte {
		doc := []byte(head)
		for i := range lines {
			doc = fmt.Appendf(doc, "A-1,2026-03-02,00417,%d,%d.50\n", quantity, i)
		}
		return doc
	}
	mapping := strings.Replace(plainMapping, "kind: sales", "kind: sales\n  again: {do: update}", 1)
	for n := range times {
		send(t, e, strings.Replace(mapping, "quantity:", "number: {from: Price}\n  quantity:", 1), document(n+1), Request{})
	}
	o, err := e.store.Order(ctx, 1)
	if err != nil || len(o.Events) != times {
		t.Fatal(len(o.Events), err)
	}
	listed, left := 0, 0
	for _, ev := range o.Events[1:] {
		if len(ev.Changes)+ev.LeftOut != lines || ev.LeftOut > 0 && listed > 0 {
			t.Errorf("revision %d: %d changes, %d left out", ev.Revision, len(ev.Changes), ev.LeftOut)
		}
		listed, left = listed+len(ev.Changes), left+ev.LeftOut
	}
	if listed == 0 || left == 0 || o.Events[times-1].LeftOut > 0 {
		t.Errorf("%d changes are listed, and %d left out", listed, left)
	}
	if from, trace := o.Base(); from.Load != 1 || len(trace.All(lines)) != 0 {
		t.Errorf("load %d, %d places: what became another value stands nowhere in the first document", from.Load, len(trace.All(lines)))
	}
	var seen []int
	for after, more, pages := int64(0), true, 0; more; pages++ {
		var page []api.Event
		if page, more, err = e.store.Events(ctx, after, 100); err != nil || len(page) == 0 || len(page) == times || pages > times {
			t.Fatal(len(page), err)
		}
		for _, ev := range page {
			seen, after = append(seen, ev.Revision), ev.N
		}
	}
	if fmt.Sprint(seen) != "[1 2 3 4 5 6 7 8 9 10 11 12]" {
		t.Error(seen)
	}
}
