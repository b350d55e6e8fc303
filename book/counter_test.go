package book

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"testing"
	"time"

	"koinos/api"
	"koinos/core/list"
	"koinos/core/outcome"
	"koinos/store"
)

// Orders that arrive together stand or fall each for itself: one whose lines
// cannot be kept, one whose sender has gone, two of the same number.
func TestCounter(t *testing.T) {
	s := open(t)
	c := NewCounter(s.store)
	wrong := errors.New("its lines cannot be kept")
	const n = 120
	gone, leave := context.WithCancel(ctx)
	leave()
	type answer struct {
		res store.OrderResult
		err error
	}
	answers := make([]answer, n)
	var all sync.WaitGroup
	for i := range n {
		all.Go(func() {
			in := sale(fmt.Sprintf("P-%d", i/2*2), "2026-03-02", line("00417", "5")) // two of each
			in.Order.Number = map[bool]string{true: fmt.Sprintf("OWN-%d", i)}[i%20 == 2]
			e := NewEntry(in, "", true)
			caller := ctx
			switch i % 20 {
			case 4, 5:
				e.Err = wrong
			case 6, 7:
				caller = gone
			}
			session := Begin(Rules{Again: outcome.Skip, Lists: &list.Set{},
				Source: store.Source{Document: fmt.Sprintf("%064d", i), By: "test"}, Real: true,
				Now: func() time.Time { return now }})
			body := store.Body{Document: api.Document{SHA: fmt.Sprintf("%064d", i), Name: "posted.json",
				ReceivedAt: now}, Bytes: []byte("{}"), Posted: true}
			answers[i].res, answers[i].err = c.Take(caller, session, &e, body)
		})
	}
	all.Wait()
	stored := map[string]int{}
	list, _, err := s.store.Orders(ctx, store.OrderFilter{Limit: 1000})
	if err != nil {
		t.Fatal(err)
	}
	for _, o := range list {
		stored[o.SenderNumber]++
	}
	for i := 0; i < n; i += 2 {
		a, b := answers[i], answers[i+1]
		sender, want := fmt.Sprintf("P-%d", i), 1
		switch i % 20 {
		case 4:
			want = 0
			if !errors.Is(a.err, wrong) || !errors.Is(b.err, wrong) {
				t.Errorf("%s: %v, %v", sender, a.err, b.err)
			}
		case 6:
			want = 0
			if !errors.Is(a.err, context.Canceled) || !errors.Is(b.err, context.Canceled) {
				t.Errorf("%s: %v, %v", sender, a.err, b.err)
			}
		default:
			one := map[outcome.Outcome]int{}
			one[a.res.Outcome]++
			one[b.res.Outcome]++
			second := outcome.Unchanged
			if i%20 == 2 { // the first of the two has a number of its own: it is another order
				second = outcome.Refused
			}
			if a.err != nil || b.err != nil || one[outcome.Loaded] != 1 || one[outcome.Unchanged]+one[second] < 1 {
				t.Errorf("%s: %s %v, %s %v", sender, a.res.Outcome, a.err, b.res.Outcome, b.err)
			}
		}
		if stored[sender] != want {
			t.Errorf("%s is stored %d times, want %d", sender, stored[sender], want)
		}
	}
	if len(c.waiting) != 0 {
		t.Errorf("%d still wait", len(c.waiting))
	}
}
