package syncs

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"koinos/api"
	"koinos/core/order"
	"koinos/core/outcome"
	"koinos/demo"
)

const bothWays = `koinos: sync/1
name: shop-books
pull:
  - {record: slipway.order}
  - {record: ledgerline.sales_order, mapping: ledgerline-both}
push:
  - record: ledgerline.sales_order
    which: partner == "SLIPWAY"
`

// bothOf is an office whose orders are in the books, and come back from there.
func bothOf(t *testing.T, orders int, shared string) *keeping {
	k := keepingOf(t, orders, shopToBooks)
	text, err := demo.Files.ReadFile("mappings/ledgerline-orders.yaml")
	if err == nil {
		m := strings.Replace(string(text), "name: ledgerline-orders", "name: ledgerline-both", 1)
		_, err = k.store.PutMapping(context.Background(), api.Mapping{Name: "ledgerline-both", Text: m})
	}
	if err != nil {
		t.Fatal(err)
	}
	k.keep(bothWays + shared)
	k.run("shop-books")
	k.run("shop-books")
	return k
}

// change changes an order here, as a person would.
func (k *keeping) change(id int64, f func(*order.Order)) {
	k.t.Helper()
	is, err := k.store.Order(context.Background(), id)
	if err != nil {
		k.t.Fatal(err)
	}
	o := is.Order
	o.StatedTotal = order.Number{}
	f(&o)
	got, err := k.engine.Post(context.Background(), &o,
		[]byte(fmt.Sprintf(`{"id": %d, "at": %d}`, id, time.Now().UnixNano())),
		outcome.Update, "ann")
	if err != nil || got.Outcome != outcome.Changed {
		k.t.Fatalf("%+v %v", got, err)
	}
}

// says returns the note and the lines of an order here.
func (k *keeping) says(id int64) string {
	k.t.Helper()
	is, err := k.store.Order(context.Background(), id)
	if err != nil {
		k.t.Fatal(err)
	}
	out := fmt.Sprintf("%s %q", is.Status, is.Notes)
	for _, l := range is.Lines {
		left, err := l.Quantity.Sub(l.Cancelled)
		if err != nil {
			k.t.Fatal(err)
		}
		if left.Sign() > 0 {
			out += fmt.Sprintf(" %s:%s", l.SenderLine, left)
		}
	}
	return out
}

// there returns the line of an order in the books.
func (k *keeping) there(ref string) string {
	k.t.Helper()
	for _, line := range strings.Split(k.state(), "\n") {
		if strings.HasPrefix(line, ref+" ") {
			return line
		}
	}
	k.t.Fatal(ref, "is not in the books")
	return ""
}

// What one side changes the other one gets, and nothing goes round.
func TestBothWays(t *testing.T) {
	k := bothOf(t, 2, "")
	calm := func(what string) {
		t.Helper()
		k.writes.Store(0)
		k.hits.Store(0)
		before, was := k.state(), k.says(1)
		for range 2 {
			r := k.run("shop-books")
			if got := counts(&r); got != "created 0 changed 0 right 0 waiting 0 held 0" || k.writes.Load() != 0 ||
				k.hits.Load() > 2 {
				t.Errorf("%s goes round: %s, %d writes %v", what, got, k.writes.Load(), k.held())
			}
		}
		if k.state() != before || k.says(1) != was {
			t.Errorf("%s goes round:\n%s%s", what, k.state(), k.says(1))
		}
	}
	calm("nothing")
	key := k.keysInBooks()["SL-1001"]
	lines := k.linesInBooks("SL-1001")
	// There: a note, and a quantity.
	k.ask("POST", "/admin/orders/"+key, fmt.Sprintf(`{"note": "by the books", "qty": {%q: 9}}`, lines["1"]))
	k.run("shop-books")
	if got := k.says(1); got != `open "by the books" 1:9 2:6` && got != `confirmed "by the books" 1:9 2:6` {
		t.Errorf("here: %s", got)
	}
	calm("a change there")
	// Here: a quantity; there: another note.
	k.change(1, func(o *order.Order) { o.Lines[1].Quantity = order.NumberOf(2) })
	k.ask("POST", "/admin/orders/"+key, `{"note": "by the books again"}`)
	k.run("shop-books")
	k.run("shop-books")
	if got, there := k.says(1), k.there("SL-1001"); !strings.HasSuffix(got, `"by the books again" 1:9 2:2`) ||
		!strings.Contains(there, `"by the books again"`) || !strings.Contains(there, "2:7066×2@") {
		t.Errorf("here %s, there %s", got, there)
	}
	calm("a change on each side")
	// There a line is taken away, here another one.
	k.ask("POST", "/admin/orders/"+key, fmt.Sprintf(`{"drop_line": %s}`, k.linesInBooks("SL-1001")["2"]))
	k.run("shop-books")
	if got := k.says(1); !strings.HasSuffix(got, `"by the books again" 1:9`) {
		t.Error(got)
	}
	calm("a line taken away there")
}

func TestConflict(t *testing.T) {
	for _, c := range []struct{ shared, here, there, held string }{
		{"", "", "", `Both sides changed note: it was blank, is "ours" here and "theirs" in ledgerline.`},
		{"shared: {notes: {owner: ledgerline}}\n", "theirs", "theirs", ""},
		{"shared: {notes: {owner: here}}\n", "ours", "ours", ""},
		{"shared: {all: {owner: slipway}}\n", "ours", "ours", ""},
	} {
		k := bothOf(t, 1, c.shared)
		key := k.keysInBooks()["SL-1001"]
		k.change(1, func(o *order.Order) { o.Notes = "ours" })
		k.ask("POST", "/admin/orders/"+key, `{"note": "theirs"}`)
		k.run("shop-books")
		k.run("shop-books")
		held := k.held()
		if c.held != "" {
			if len(held) != 1 || !strings.HasSuffix(held[0], c.held) {
				t.Errorf("%q: %v", c.shared, held)
			}
			if !strings.Contains(k.says(1), `"ours"`) || !strings.Contains(k.there("SL-1001"), `"theirs"`) {
				t.Errorf("%q: something was overwritten: %s, %s", c.shared, k.says(1), k.there("SL-1001"))
			}
			continue
		}
		if len(held) > 0 || !strings.Contains(k.says(1), fmt.Sprintf("%q", c.here)) ||
			!strings.Contains(k.there("SL-1001"), fmt.Sprintf("%q", c.there)) {
			t.Errorf("%q: here %s, there %s, held %v", c.shared, k.says(1), k.there("SL-1001"), held)
		}
	}
}

// A person decides a conflict, either way.
func TestDecide(t *testing.T) {
	for take, want := range map[string]string{"here": `"ours"`, "there": `"theirs"`} {
		k := bothOf(t, 1, "")
		key := k.keysInBooks()["SL-1001"]
		k.change(1, func(o *order.Order) { o.Notes = "ours" })
		k.ask("POST", "/admin/orders/"+key, `{"note": "theirs"}`)
		k.run("shop-books")
		list, err := k.heldList()
		if err != nil || len(list) != 1 {
			t.Fatal(list, err)
		}
		ctx := context.Background()
		if _, err := k.Decide(ctx, list[0].ID, api.Decision{Fields: map[string]string{"notes": "here"}}, "ann"); err == nil ||
			err.Error() != "Say here or there of note." {
			t.Error(err)
		}
		clashes, err := k.Clashes(ctx, &list[0])
		if err != nil || fmt.Sprint(clashes) != "[{ note  ours theirs}]" {
			t.Error(clashes, err)
		}
		runs, err := k.Decide(ctx, list[0].ID, api.Decision{Take: take}, "ann")
		if err != nil {
			t.Fatal(err)
		}
		short, stop := context.WithTimeout(ctx, time.Minute)
		defer stop()
		if _, err := k.WaitRun(short, runs[0]); err != nil {
			t.Fatal(err)
		}
		k.run("shop-books")
		if !strings.Contains(k.says(1), want) || !strings.Contains(k.there("SL-1001"), want) || len(k.held()) != 0 {
			t.Errorf("%s: here %s, there %s, held %v", take, k.says(1), k.there("SL-1001"), k.held())
		}
	}
}

// A note that is longer than theirs can be is shortened there, and never comes back
// shortened.
func TestShortened(t *testing.T) {
	k := bothOf(t, 1, "")
	long := strings.TrimSpace(strings.Repeat("long note ", 30))
	k.change(1, func(o *order.Order) { o.Notes = long })
	k.run("shop-books")
	key := k.keysInBooks()["SL-1001"]
	k.ask("POST", "/admin/orders/"+key, fmt.Sprintf(`{"qty": {%q: 3}}`, k.linesInBooks("SL-1001")["1"]))
	k.run("shop-books")
	k.run("shop-books")
	if got := k.says(1); !strings.Contains(got, fmt.Sprintf("%q 1:3", long)) {
		t.Error(got)
	}
	if there := k.there("SL-1001"); !strings.Contains(there, long[:199]) || strings.Contains(there, long) {
		t.Error(there)
	}
}

// What was changed here before a record was read for the first time is not lost: when it was written
// only, it was agreed what it says.
func TestBothWaysAfterOne(t *testing.T) {
	k := keepingOf(t, 1, shopToBooks)
	ctx := context.Background()
	text, err := demo.Files.ReadFile("mappings/ledgerline-orders.yaml")
	if err == nil {
		_, err = k.store.PutMapping(ctx, api.Mapping{Name: "ledgerline-both",
			Text: strings.Replace(string(text), "name: ledgerline-orders", "name: ledgerline-both", 1)})
	}
	if err != nil {
		t.Fatal(err)
	}
	k.run("shop-books")
	k.keep(bothWays)
	if _, err := k.PauseSync(ctx, "shop-books", true, "test"); err != nil {
		t.Fatal(err)
	}
	k.change(1, func(o *order.Order) { o.Lines[0].Quantity = order.NumberOf(9) })
	k.ask("POST", "/admin/orders/"+k.keysInBooks()["SL-1001"], `{"note": "theirs"}`)
	p, err := k.Start(ctx, "ledgerline", api.NewPull{Record: "sales_order", Mapping: "ledgerline-both"}, "test")
	if err == nil {
		p, err = k.Wait(ctx, p.ID)
	}
	if err != nil || p.State != api.PullDone {
		t.Fatal(p, err)
	}
	if got := k.says(1); !strings.Contains(got, `"theirs" 1:9 `) {
		t.Errorf("what was changed here is gone: %s", got)
	}
	if _, err := k.PauseSync(ctx, "shop-books", false, "test"); err != nil {
		t.Fatal(err)
	}
	k.run("shop-books")
	k.run("shop-books")
	if got, there := k.says(1), k.there("SL-1001"); !strings.Contains(got, `"theirs" 1:9 `) ||
		!strings.Contains(there, `"theirs"`) || !strings.Contains(there, "1:7100×9@") || len(k.held()) != 0 {
		t.Errorf("here %s, there %s, held %v", got, there, k.held())
	}
}
