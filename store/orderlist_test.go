package store

import (
	"cmp"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"koinos/core/order"
)

// Whatever a list of orders is narrowed to, its pages together are the orders that the filter takes, newest first,
// each once; also where a text begins so many that they are looked for a few at a time.
func TestOrderLists(t *testing.T) {
	s := open(t, t.TempDir())
	const n = 600
	seed := uint64(time.Now().UnixNano())
	r := rand.New(rand.NewPCG(seed, 1))
	pick := func(all ...string) string { return all[r.IntN(len(all))] }
	otherCase := func(number string) string { return pick(number, strings.ToUpper(number), strings.ToLower(number)) }
	type kept struct {
		id                                    int64
		kind, status, partner, number, theirs string
		on                                    order.Date
		event                                 int64 // each has one, in the order in which they were stored
	}
	var all []kept
	if err := s.Write(ctx, func(tx *Tx) error {
		for i := range n {
			o := newOrders(from(0), order.Kind(pick("sales", "purchase")), 10_000+i, 1, blank)
			o[0].Order.Partner = pick("OSTRAND", "Pellow", "PELLOWS", "SALTRY")
			o[0].Order.Status = order.Status(pick(statuses...))
			if day := r.IntN(40); day > 0 {
				o[0].Order.OrderedOn = order.Date(fmt.Sprintf("2026-03-%02d", min(day, 31)))
			}
			o[0].Order.SenderNumber = fmt.Sprintf("%s-%d", pick("so", "Old", "x"), i)
			if err := tx.InsertOrders(o, now); err != nil {
				return err
			}
			w := o[0].Order
			all = append(all, kept{w.ID, string(w.Kind), string(w.Status), w.Partner, w.Number, w.SenderNumber, w.OrderedOn,
				int64(i + 1)})
		}
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	defer func(a int, b int64, c time.Duration) { mostSorted, sifted, siftFor = a, b, c }(mostSorted, sifted, siftFor)
	begins := func(text, with string) bool {
		return len(text) >= len(with) && strings.EqualFold(text[:len(with)], with)
	}
	for try := range 400 {
		if mostSorted, sifted, siftFor = 20_000, 20_000, time.Minute; try%2 == 1 {
			mostSorted, sifted, siftFor = 1+r.IntN(50), int64(1+r.IntN(200)), 0
		}
		f := OrderFilter{Limit: 1 + r.IntN(100)}
		for _, set := range []func(){
			func() { f.Kind = pick("sales", "purchase") },
			func() { f.Statuses = []string{pick(statuses...), pick(statuses...)} },
			func() { f.From = "2026-03-11" }, func() { f.To = "2026-03-20" }, func() { f.Changed = 1 + int64(r.IntN(n+10)) },
			func() { f.Partner = pick("ostrand", "Pellow", "nobody") },
			func() { f.Partners = []string{"SALTRY", "pellow", "nobody"} },
			func() { f.Text = pick("so", "SO-", "old", "pell", "x-1", "y", all[r.IntN(n)].number) },
			func() { f.Number = otherCase(all[r.IntN(n)].number) },
			func() { f.SenderNumber = otherCase(all[r.IntN(n)].theirs) },
		} {
			if r.IntN(3) == 0 {
				set()
			}
		}
		var want []int64
		for _, o := range all {
			if (f.Kind == "" || f.Kind == o.kind) && (len(f.Statuses) == 0 || slices.Contains(f.Statuses, o.status)) &&
				(f.From == "" || o.on >= f.From) && (f.To == "" || o.on != "" && o.on <= f.To) && o.event > f.Changed &&
				(f.Partner == "" || strings.EqualFold(f.Partner, o.partner)) && (f.Number == "" || strings.EqualFold(f.Number, o.number)) &&
				(f.SenderNumber == "" || strings.EqualFold(f.SenderNumber, o.theirs)) &&
				(len(f.Partners) == 0 || slices.ContainsFunc(f.Partners,
					func(p string) bool { return strings.EqualFold(p, o.partner) })) &&
				(begins(o.number, f.Text) || begins(o.theirs, f.Text) || begins(o.partner, f.Text)) {
				want = append(want, o.id)
			}
		}
		slices.SortFunc(want, func(a, b int64) int { return cmp.Compare(b, a) })
		var got []int64
		for pages := 0; ; pages++ {
			list, next, err := s.Orders(ctx, f)
			if err != nil || len(list) > f.Limit || pages > 2*n {
				t.Fatalf("seed %d, %+v: page %d of %d orders: %v", seed, f, pages, len(list), err)
			}
			for _, o := range list {
				got = append(got, o.ID)
			}
			if f.Before = next; next == 0 {
				break
			}
		}
		if !slices.Equal(got, want) {
			t.Fatalf("seed %d, try %d, %+v:\n got %d\nwant %d", seed, try, f, got, want)
		}
	}
	for _, c := range []struct {
		moment time.Time
		want   int64
	}{{now, 0}, {now.Add(-time.Hour), 0}, {now.Add(time.Second), n}} {
		if at, err := s.PositionAt(ctx, c.moment); at != c.want || err != nil {
			t.Errorf("the position at %s is %d, not %d: %v", c.moment, at, c.want, err)
		}
	}
	if today, err := s.Today(ctx, now, 1); err != nil || today.Orders != n {
		t.Errorf("Today counts %d orders of %d: %v", today.Orders, n, err)
	}
}
