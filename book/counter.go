package book

import (
	"context"
	"slices"
	"sync"

	"koinos/core/intent"
	"koinos/core/outcome"
	"koinos/store"
)

// Counter takes orders that arrive one at a time. Those that wait for the writer at the same time are taken together,
// with few statements, and share one durable commit. Each succeeds or fails on its own.
type Counter struct {
	store   *store.Store
	mu      sync.Mutex
	waiting []*arrival
}

// NewCounter makes a counter for a store.
func NewCounter(s *store.Store) *Counter { return &Counter{store: s} }

// arrival is an entry that waits. Whoever has the writer fills in what became of it.
type arrival struct {
	Arrived
	ctx  context.Context
	body store.Body
	res  store.OrderResult
	tx   *store.Tx // that took it
	kept bool      // that transaction is committed
}

// together is how many arrivals are taken in one commit.
const together = 64

// Take is Session.Take for one entry, whose document is stored with it.
func (c *Counter) Take(ctx context.Context, s *Session, e *Entry, body store.Body) (store.OrderResult, error) {
	a := &arrival{Arrived: Arrived{s, e}, ctx: ctx, body: body}
	c.mu.Lock()
	c.waiting = append(c.waiting, a)
	c.mu.Unlock()
	defer c.leave(a)
	err := c.store.Share(ctx, func(tx *store.Tx) error {
		if a.kept || a.tx == tx {
			return nil
		}
		if all := c.beside(a); len(all) > 1 && tx.Try(func() error { return take(tx, all) }) == nil {
			return nil
		}
		return take(tx, []*arrival{a}) // one of them was wrong: each by itself
	})
	return a.res, err
}

func (c *Counter) leave(a *arrival) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.waiting = slices.DeleteFunc(c.waiting, func(b *arrival) bool { return a == b })
}

// beside returns a, followed by waiting arrivals that can be taken together with it. Each is for another order, and
// none is an order that brings its own number.
func (c *Counter) beside(a *arrival) []*arrival {
	all := []*arrival{a}
	if a.numbered() {
		return all
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	seen := map[string]bool{a.Identity: true}
	for _, b := range c.waiting {
		if b == a || b.tx != nil || seen[b.Identity] || b.numbered() || b.ctx.Err() != nil {
			continue
		}
		seen[b.Identity] = true
		if all = append(all, b); len(all) == together {
			break
		}
	}
	return all
}

// numbered reports whether an order brings its own number, which another order could have too. A notice uses that field
// to name its order.
func (a *arrival) numbered() bool { return a.Kind == intent.Order && a.Order.Number != "" }

// take takes arrivals together with what is to be done first: all of it or nothing.
func take(tx *store.Tx, all []*arrival) error {
	entries, bodies := make([]Arrived, len(all)), make([]store.Body, len(all))
	for i, a := range all {
		if a.tx != nil { // that transaction came to nothing
			a.Forget(a.Entry)
			a.tx = nil
		}
		entries[i], bodies[i] = a.Arrived, a.body
	}
	if err := tx.PutBodies(bodies...); err != nil {
		return err
	}
	results, err := Take(tx, entries)
	if err != nil {
		for _, a := range all {
			a.Forget(a.Entry)
		}
		return err
	}
	for i, a := range all {
		if made := results[i].Outcome; made == outcome.Loaded || made == outcome.Changed {
			if err := tx.Made(a.ctx, results[i].OrderID, results[i].Revision); err != nil {
				return err
			}
		}
	}
	for i, a := range all {
		a.res, a.tx = results[i], tx
		tx.After(func() { a.kept = true })
	}
	return nil
}
