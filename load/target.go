package load

import (
	"context"
	"errors"
	"time"

	"koinos/book"
	"koinos/core/finding"
	"koinos/core/list"
	"koinos/core/origin"
	"koinos/core/outcome"
	"koinos/store"
)

// target takes mapped orders and writes them and their outcomes in batches.
type target struct {
	e     *Engine
	run   *run
	ctx   context.Context
	rules rules
	set   *list.Set
	book  *book.Session
	tx    *store.Tx // set while everything goes into one transaction

	pending []mapped
	lines   int
	part    int // of what a transaction may hold: 1 is all, 2 half of it
	from    int // orders up to this one were written before: the load goes on behind them
	next    int // number of the load's last finding
	notes   []finding.Finding
	// finished is set if the load's end was stored together with its orders. In a load of all or none, the orders are
	// never stored without the end.
	finished *outcome.Load
}

// A transaction contains this many orders: more would gain nothing, and readers see orders sooner. If it occupies the
// one writer for longer than longTurn, it contains fewer, down to a share of leastPart, until it takes shortTurn.
const (
	txOrders  = 1_000
	txLines   = 10_000
	leastPart = 16
	longTurn  = 100 * time.Millisecond
	shortTurn = 40 * time.Millisecond
)

// begin starts a pass over the document, behind what an earlier service has written.
func (t *target) begin(real bool) (err error) {
	t.pending, t.lines, t.part, t.next, t.from = nil, 0, 1, 0, 0
	t.book = book.Begin(t.rules.book(t, real))
	if t.tx == nil {
		if t.from, t.next, err = t.e.store.Progress(t.ctx, t.run.load.ID); err != nil {
			return err
		}
	}
	t.run.update(func(l *outcome.Load) {
		if t.from == 0 {
			l.Counts, l.Share = outcome.Counts{}, 0
		}
	})
	t.run.mu.Lock()
	t.run.began = time.Time{}
	t.run.mu.Unlock()
	return nil
}

// put takes in the next orders. In a load that was begun before, it skips those that are written, and notes what later
// ones are compared with.
func (t *target) put(orders []mapped) error {
	for i := range orders {
		m := &orders[i]
		if !t.rules.takes(&m.Order) {
			continue
		}
		if m.Seq <= t.from {
			t.book.Passed(&m.Entry)
			continue
		}
		if t.run.began.IsZero() { // from here on it can be said how fast it is
			t.run.mu.Lock()
			t.run.began, t.run.rows, t.run.share = t.e.now(), t.run.load.Rows, m.share
			t.run.mu.Unlock()
		}
		t.rules.stage(&m.Order)
		t.pending = append(t.pending, *m)
		t.lines += len(m.Order.Lines)
	}
	if len(t.pending) >= txOrders/t.part || t.lines >= txLines/t.part {
		return t.flush()
	}
	return nil
}

// ahead works out, outside the writer's transaction, what notices will do. It is used as long as most of its results
// are still valid when they are taken; if each notice depends on the one before, it would be in vain.
func (t *target) ahead(ctx context.Context, orders []mapped) error {
	if t.rules.Stage != "" || t.rules.Opening || t.book.Vain() {
		return nil
	}
	var entries []*book.Entry
	for i := range orders {
		if m := &orders[i]; m.Seq > t.from && t.rules.takes(&m.Order) {
			entries = append(entries, &m.Entry)
		}
	}
	err := t.book.Ahead(ctx, t.e.store, entries)
	if err != nil && ctx.Err() == nil { // the writer does it all, or finds what is wrong
		t.e.log.Warn("nothing was worked out beforehand", "load", t.run.load.ID, "error", err)
		return nil
	}
	return err
}

// flush writes what is pending in one transaction: orders, outcomes, figures.
func (t *target) flush() error {
	if len(t.pending) == 0 {
		return nil
	}
	before := t.run.counts()
	counts, next, enough := before, t.next, false
	last := &t.pending[len(t.pending)-1]
	err := t.write(func(tx *store.Tx) error {
		next, counts = t.next, before
		entries := make([]book.Entry, len(t.pending))
		for i := range t.pending {
			entries[i] = t.pending[i].Entry
		}
		results, err := t.book.Take(tx, entries)
		for i := range entries { // with what was noted to take them anew
			t.pending[i].Entry = entries[i]
		}
		if err != nil {
			return err
		}
		for i := range results {
			if enough = t.rules.StopAfter > 0 && counts.Failing() >= t.rules.StopAfter; enough {
				return errEnough // in the middle of the batch: once more with what comes before
			}
			r := &results[i]
			counts.Orders++
			counts.Lines += r.Lines
			counts.Errors += r.Errors
			counts.Warnings += r.Warnings
			counts.Count(r.Outcome)
			if r.Outcome == outcome.Loaded || r.Outcome == outcome.Changed || r.Outcome == outcome.Ready ||
				r.Outcome == outcome.Differs {
				counts.Saved += t.rules.saved(r.Lines)
			}
		}
		counts.Rows = last.at
		if err := tx.AddResults(t.run.load.ID, results, &next); err != nil {
			return err
		}
		l := t.run.snapshot(t.e.now())
		l.Counts, l.Share = counts, last.share
		return tx.SaveLoad(&l)
	})
	if enough {
		return t.flushSome(counts.Orders - before.Orders)
	}
	if err != nil {
		return err
	}
	share := last.share
	t.next = next
	t.run.update(func(l *outcome.Load) { l.Counts, l.Share = counts, share })
	t.pending, t.lines = t.pending[:0], 0
	if t.rules.StopAfter > 0 && counts.Failing() >= t.rules.StopAfter {
		return errEnough
	}
	return nil
}

// flushSome writes the first n pending orders, the last of which exceeds the allowed failures, and leaves the others.
func (t *target) flushSome(n int) error {
	t.pending = t.pending[:n]
	for i := range t.pending { // they are decided anew
		t.book.Forget(&t.pending[i].Entry)
	}
	return t.flush()
}

func (t *target) write(f func(*store.Tx) error) error {
	if t.tx != nil {
		return f(t.tx)
	}
	var began time.Time
	err := t.e.store.Write(t.ctx, func(tx *store.Tx) error {
		began = time.Now()
		return f(tx)
	})
	switch took := time.Since(began); {
	case took > longTurn:
		t.part = min(2*t.part, leastPart)
	case took < shortTurn:
		t.part = max(t.part/2, 1)
	}
	return err
}

// allOrNone reads the document twice: first as a dry run and then, if nothing fails, for real in one transaction. If
// the load was begun before, it begins again.
func (t *target) allOrNone(pass func(real bool) error) error {
	if err := t.e.store.Write(t.ctx, func(tx *store.Tx) error { return tx.Forget(t.run.load.ID) }); err != nil {
		return err
	}
	err := pass(false)
	dry, notes, next := t.run.counts(), t.notes, t.next
	if err == nil && dry.Failing() == 0 {
		err = t.e.store.Write(t.ctx, func(tx *store.Tx) error {
			if err := tx.Forget(t.run.load.ID); err != nil {
				return err
			}
			t.tx = tx
			defer func() { t.tx = nil }()
			if err := pass(true); err != nil {
				return err
			}
			c := t.run.counts()
			if n := c.Failing(); n > 0 {
				return finding.Fatal(finding.IdentityStored, origin.Place{},
					"While this load ran, another one stored %d of its orders; nothing of this one was kept.", n)
			}
			final := t.end(outcome.Done, "", t.notes)
			if err := t.keepEnd(tx, final, t.notes); err != nil {
				return err
			}
			t.finished = final
			return nil
		})
		if err == nil {
			return nil
		}
		t.finished = nil
	}
	if err != nil && t.ctx.Err() != nil {
		return err // it begins anew
	}
	// Nothing was stored: the findings of the dry pass remain, and valid orders are withheld.
	dry.Withheld, dry.Ready, dry.Differs, dry.Saved = dry.Ready+dry.Differs, 0, 0, 0
	t.notes, t.next = notes, next
	t.run.update(func(l *outcome.Load) { l.Counts = dry })
	return errors.Join(err, t.e.store.Write(context.WithoutCancel(t.ctx), func(tx *store.Tx) error {
		return errors.Join(tx.SetOutcomes(t.run.load.ID, outcome.Ready, outcome.Withheld),
			tx.SetOutcomes(t.run.load.ID, outcome.Differs, outcome.Withheld))
	}))
}
