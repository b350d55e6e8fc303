package load

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"koinos/api"
	"koinos/core/list"
	"koinos/core/order"
	"koinos/core/outcome"
	"koinos/core/source"
	"koinos/store"
	"koinos/store/storetest"
)

// The mappings of a story: orders, and what is said of them later.
var storyMappings = map[string]string{
	"orders": `orders: {kind: sales, group: {by: key, columns: [Order]}, again: {do: update}}
header: {sender_number: {from: Order, need: must}, partner: {value: P}, currency: {value: EUR}, notes: {from: Text}}
lines: {item: {from: Item, need: must}, quantity: {from: Qty, need: must}, unit_price: {from: Price}}
`,
	"changes": `orders: {kind: change, of: sales, group: {by: key, columns: [Order, Text]}}
header: {sender_number: {from: Order, need: must}, partner: {value: P}, change_number: {from: Text}}
lines: {change: {from: Price}, item: {from: Item, need: must}, quantity: {from: Qty}}
`,
	"shipments": `orders: {kind: shipment, of: sales, group: {by: key, columns: [Text, Order]}}
header: {shipment: {from: Text, need: must}, sender_number: {from: Order, need: must}, partner: {value: P}}
lines: {item: {from: Item}, quantity: {from: Qty, need: must}}
`,
	"invoices": `orders: {kind: invoice, of: sales, group: {by: key, columns: [Text]}}
header: {invoice: {from: Text, need: must}, sender_number: {from: Order, need: must}, partner: {value: P}, currency: {value: EUR}}
lines: {item: {from: Item}, quantity: {from: Qty, need: must}, unit_price: {from: Price}}
`,
}

// someStep writes a document of one of the kinds, about a few orders, some of them
// named twice.
func someStep(r *rand.Rand, n int) (kind, doc string) {
	kind = []string{"orders", "orders", "changes", "shipments", "shipments", "invoices"}[r.IntN(6)]
	var b strings.Builder
	b.WriteString("Order,Text,Item,Qty,Price\n")
	for k := range 1 + r.IntN(4) {
		no := fmt.Sprintf("A-%d", r.IntN(3))
		if kind == "orders" {
			no = fmt.Sprintf("A-%d", k%3)
		}
		items := r.Perm(3)[:1+r.IntN(2)]
		for _, item := range items {
			price := "9.50"
			if kind == "changes" {
				price = []string{"change", "add", "delete"}[r.IntN(3)]
			}
			fmt.Fprintf(&b, "%s,T-%d-%d,item %d,%d,%s\n", no, n, k, item, 1+r.IntN(9), price)
		}
	}
	return kind, b.String()
}

// tell loads a document of a story.
func tell(t *testing.T, e *Engine, kind, doc string) outcome.Load {
	t.Helper()
	ctx := context.Background()
	sha, size, err := keep(e.store, []byte(doc))
	if err == nil {
		_, err = e.store.PutDocument(ctx, api.Document{SHA: sha, Name: kind + ".csv", Size: size})
	}
	if err != nil {
		t.Fatal(err)
	}
	l, err := e.Start(ctx, Request{Document: sha, Mapping: kind, By: "test"})
	if err == nil {
		l, err = e.Wait(ctx, l.ID)
	}
	if err != nil || l.Status != outcome.Done {
		t.Fatalf("%+v %v\n%s", l, err, doc)
	}
	return l
}

// state is everything that is stored of orders but their story: content, what moved,
// what was said and billed.
func state(t *testing.T, e *Engine) []string {
	t.Helper()
	all, _, err := e.store.Orders(context.Background(), store.OrderFilter{Limit: 100})
	if err != nil {
		t.Fatal(err)
	}
	var out []string
	for _, s := range all {
		o, err := e.store.Order(context.Background(), s.ID)
		if err != nil {
			t.Fatal(err)
		}
		o.Revision, o.Events, o.LastLine = 0, nil, 0
		for i := range o.Movements { // a movement that comes back has another id
			o.Movements[i].ID = 0
		}
		b, err := json.Marshal(o)
		if err != nil {
			t.Fatal(err)
		}
		out = append(out, string(b))
	}
	slices.Sort(out)
	return out
}

// revisions notes every order as it is, by its id and revision, and compares what is kept of earlier revisions with
// what was noted of them then.
func revisions(t *testing.T, e *Engine, was map[[2]int64]string) {
	t.Helper()
	all, _, err := e.store.Orders(context.Background(), store.OrderFilter{Limit: 100})
	if err != nil {
		t.Fatal(err)
	}
	present := map[int64]int{}
	content := func(o *order.Order) string {
		b, err := json.Marshal(o)
		if err != nil {
			t.Fatal(err)
		}
		return string(b)
	}
	for _, s := range all {
		o, err := e.store.Order(context.Background(), s.ID)
		if err != nil {
			t.Fatal(err)
		}
		present[o.ID] = o.Revision
		was[[2]int64{o.ID, int64(o.Revision)}] = content(&o.Order)
	}
	for at, want := range was {
		if present[at[0]] == int(at[1]) {
			continue
		}
		o, err := e.store.AsOf(context.Background(), at[0], int(at[1]))
		if err != nil || o == nil {
			t.Fatalf("order %d at revision %d: %+v, %v", at[0], at[1], o, err)
		}
		if got := content(o); got != want {
			t.Fatalf("order %d at revision %d is kept as\n%s\nand was\n%s", at[0], at[1], got, want)
		}
	}
}

// Whatever loads have done, taking them back one after another, the last first, goes
// through every state that there was, to an empty book; a dry run says the same and
// changes nothing. What is kept of every revision is what the order was at it.
func TestTakenBackStepByStep(t *testing.T) {
	if testing.Short() {
		t.Skip("nothing in it goes on side by side")
	}
	ctx := context.Background()
	for seed := range uint64(12) {
		r := rand.New(rand.NewPCG(seed, 11))
		s := storetest.Open(t, t.TempDir())
		t.Cleanup(func() { s.Close() })
		if err := s.PutList(ctx, "customers", []list.Entry{{Code: "P"}}, time.Now()); err != nil {
			t.Fatal(err)
		}
		for name, text := range storyMappings {
			if _, err := s.PutMapping(ctx, api.Mapping{Name: name,
				Text: "koinos: mapping/1\nname: " + name + "\n" + text}); err != nil {
				t.Fatal(err)
			}
		}
		e := testEngine(t, s, source.DefaultLimits)
		var loads []outcome.Load
		states := [][]string{state(t, e)}
		var story bytes.Buffer
		was := map[[2]int64]string{}
		for n := range 8 {
			kind, doc := someStep(r, n)
			l := tell(t, e, kind, doc)
			fmt.Fprintf(&story, "load %d, %s: %+v\n%s", l.ID, kind, l.Counts, doc)
			loads, states = append(loads, l), append(states, state(t, e))
			revisions(t, e, was)
		}
		for n := len(loads) - 1; n >= 0; n-- {
			did := loads[n].Loaded + loads[n].Changed
			dry, err := e.Undo(ctx, loads[n].ID, true, "test")
			if err != nil || dry.Kept > 0 || dry.Removed+dry.Changed != did {
				t.Fatalf("seed %d, load %d, dry: %+v %v, of %d\n%s", seed, loads[n].ID, dry, err, did, &story)
			}
			if now := state(t, e); !slices.Equal(now, states[n+1]) {
				t.Fatalf("seed %d, load %d: a dry run changed something", seed, loads[n].ID)
			}
			u, err := e.Undo(ctx, loads[n].ID, false, "test")
			if err != nil || u.Kept > 0 || u.Removed != dry.Removed || u.Changed != dry.Changed {
				t.Fatalf("seed %d, load %d: %+v %v\n%s", seed, loads[n].ID, u, err, &story)
			}
			if now := state(t, e); !slices.Equal(now, states[n]) {
				t.Fatalf("seed %d, load %d taken back:\n%s\nit was\n%s\n%s", seed, loads[n].ID,
					strings.Join(now, "\n"), strings.Join(states[n], "\n"), &story)
			}
			revisions(t, e, was)
		}
	}
}
