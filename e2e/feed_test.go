package e2e

import (
	"context"
	"fmt"
	"net/url"
	"testing"

	"koinos/api"
	"koinos/core/outcome"
)

// Whoever follows the change feed needs the last number only: everything that
// happens to any order comes once, in its order, also after a restart and an undo.
func TestChangeFeed(t *testing.T) {
	data := t.TempDir()
	s := start(t, data, "serve")
	var seen []string
	last := int64(0)
	follow := func() {
		t.Helper()
		for {
			page, err := s.api().Events(context.Background(), last)
			if err != nil {
				t.Fatal(err)
			}
			for _, e := range page.Items {
				if e.N <= last {
					t.Errorf("event %d comes behind %d", e.N, last)
				}
				last = e.N
				seen = append(seen, fmt.Sprintf("%s %d by load %d", e.Action, e.OrderID, e.Origin.Load))
			}
			if len(page.Items) == 0 {
				return
			}
		}
	}
	var want []string
	s.load(t, string(manyOrders(300)))
	for i := range 300 {
		want = append(want, fmt.Sprintf("created %d by load 1", i+1))
	}
	follow()
	s.kill()
	s = start(t, data, "serve")
	o, err := s.api().Order(context.Background(), 7)
	if err != nil {
		t.Fatal(err)
	}
	o.Order.Notes = "call first"
	if _, err := s.api().PostOrder(context.Background(), &o.Order, outcome.Update); err != nil {
		t.Fatal(err)
	}
	if _, err := s.api().UndoLoad(context.Background(), 1, false); err != nil {
		t.Fatal(err)
	}
	want = append(want, "changed 7 by load 0")
	for id := 300; id > 0; id-- { // what was done last goes first
		if id != 7 { // somebody has changed it since: it stays
			want = append(want, fmt.Sprintf("removed %d by load 1", id))
		}
	}
	follow()
	if fmt.Sprint(seen) != fmt.Sprint(want) {
		t.Errorf("%d events, want %d", len(seen), len(want))
		for i := range min(len(seen), len(want)) {
			if seen[i] != want[i] {
				t.Fatalf("event %d: %s, want %s", i+1, seen[i], want[i])
			}
		}
	}
}

// What waits for somebody stands in one list, wherever it came from, and leaves
// it when it goes in.
func TestHeldList(t *testing.T) {
	s := startDemo(t)
	ctx := context.Background()
	held := func() (all []string, last api.HeldWork) {
		page, err := s.api().Held(ctx, url.Values{})
		if err != nil {
			t.Fatal(err)
		}
		for _, h := range page.Items {
			if h.System == "" && h.Kind != api.HeldAnswer { // these have tests of their own
				all, last = append(all, h.Kind+" "+h.Partner+" "+h.Number), h
			}
		}
		return all, last
	}
	all, notice := held()
	if fmt.Sprint(all) != "[order OSTRAND DS-2046 set PELLOW PM-4712 notice VARNHOLT PO-000044]" {
		t.Fatal(all)
	}
	if notice.Code != "x12_rule" || notice.OrderID == 0 {
		t.Errorf("%+v", notice)
	}
	if _, err := s.api().RetryHeld(ctx, notice.ID); err != nil {
		t.Fatal(err)
	}
	if all, notice = held(); len(all) != 3 {
		t.Errorf("tried again without a fix: %v", all)
	}
	o, err := s.api().Order(ctx, notice.OrderID)
	if err != nil {
		t.Fatal(err)
	}
	for i := range o.Order.Lines {
		if o.Order.Lines[i].SupplierItem == "" {
			o.Order.Lines[i].SupplierItem = "BR-99"
		}
	}
	if p, err := s.api().PostOrder(ctx, &o.Order, outcome.Update); err != nil || p.Outcome != outcome.Changed {
		t.Fatal(p, err)
	}
	r, err := s.api().RetryHeld(ctx, notice.ID)
	if err != nil {
		t.Fatal(err)
	}
	if all, _ := held(); fmt.Sprint(all) != "[order OSTRAND DS-2046 set PELLOW PM-4712]" {
		t.Errorf("fixed and tried again: %v", all)
	}
	var sent api.Interchange
	waitFor(t, "the notice", func() bool {
		sent, err = s.api().Interchange(ctx, r.Interchange)
		return err == nil && sent.Control != 0 && sent.State != api.StateReady
	})
}
