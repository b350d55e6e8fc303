package load

import (
	"context"
	"encoding/json"
	"fmt"
	"testing"

	"koinos/api"
	"koinos/core/order"
	"koinos/core/outcome"
	"koinos/core/source"
)

// An order that is posted as it was read is unchanged, with its charges in whatever form; what was worked out of it is
// worked out anew. Charges for the same add up.
func TestPostedCharges(t *testing.T) {
	e := testEngine(t, testStore(t), source.DefaultLimits)
	ctx := context.Background()
	post := func(body string) api.Posted {
		t.Helper()
		var o order.Order
		if err := json.Unmarshal([]byte(body), &o); err != nil {
			t.Fatal(err)
		}
		p, err := e.Post(ctx, &o, []byte(body), outcome.Update, "test")
		if err != nil {
			t.Fatal(err)
		}
		return p
	}
	const first = `{"kind": "sales", "partner": "OSTRAND", "sender_number": "P-1", "currency": "EUR", "charges": [` +
		`{"code": "freight", "amount": "10"}, {"code": "freight", "amount": "5"}, ` +
		`{"code": "discount", "allowance": true, "percent": "5"}, {"code": "discount", "allowance": true, "amount": "1"}], ` +
		`"lines": [{"item": "00417", "quantity": "4", "unit_price": "2.50", ` +
		`"charges": [{"code": "cutting", "percent": "10"}, {"code": "cutting", "percent": "2.5"}]}]}`
	if p := post(first); p.Outcome != outcome.Loaded || len(p.Findings) > 0 {
		t.Fatalf("%+v", p)
	}
	if p := post(first); p.Outcome != outcome.Unchanged {
		t.Errorf("the same again: %+v", p)
	}
	read := func() *order.Order {
		o, err := e.store.Order(ctx, 1)
		if err != nil {
			t.Fatal(err)
		}
		return &o.Order
	}
	o := read()
	if got := fmt.Sprint(o.Total, o.Charges, o.Lines[0].Charges); got !=
		"24.75 [{false freight 15  } {true discount 0.50 5 } {true discount 1  }] [{false cutting 1.25 12.5 }]" {
		t.Error(got)
	}
	for _, c := range []struct {
		what   string
		change func(*order.Order)
		want   string
	}{
		{"as it was read", func(*order.Order) {}, "unchanged [] 24.75"},
		{"more of it", func(o *order.Order) { o.Lines[0].Quantity = order.NumberOf(8) }, // 20 + 2.50 + 15 − 1 − 1
			`changed [{1 1 quantity 4 8}] 35.50`},
		{"another share", func(o *order.Order) { o.Charges[1].Percent = order.NumberOf(10) },
			`changed [{0 0 allowance_percent.discount 5 10}] 34.50`},
	} {
		o := read()
		c.change(o)
		body, err := json.Marshal(o)
		if err != nil {
			t.Fatal(err)
		}
		p := post(string(body))
		type change struct {
			line, id       int
			field, was, is string
		}
		changes := []change{}
		for _, ch := range p.Changes {
			changes = append(changes, change{ch.Line, ch.LineID, ch.Field, ch.Was, ch.Is})
		}
		if got := fmt.Sprint(p.Outcome, " ", changes, " ", read().Total); got != c.want {
			t.Errorf("%s: %s, not %s; %+v", c.what, got, c.want, p.Findings)
		}
	}
	p := post(`{"kind": "sales", "partner": "OSTRAND", "sender_number": "P-2", "charges": [{"code": "freight"}], ` +
		`"lines": [{"item": "00417", "quantity": "4", "charges": [{"code": "cutting"}]}]}`)
	var found []string
	for _, f := range p.Findings {
		found = append(found, fmt.Sprint(f.Code, " ", f.Line, " ", f.Field))
	}
	if got := fmt.Sprint(p.Outcome, found); got != "refused[must_missing 0 charge.freight must_missing 1 charge.cutting]" {
		t.Error(got)
	}
}
