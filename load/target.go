package load

import (
	"context"
	"crypto/sha256"
	"errors"
	"strings"
	"time"

	"koinos/core/finding"
	"koinos/core/order"
	"koinos/core/report"
	"koinos/store"
)

// target takes mapped orders and writes them and their outcomes in batches.
type target struct {
	e     *Engine
	run   *run
	ctx   context.Context
	rules rules
	real  bool      // false is a dry run
	tx    *store.Tx // set while everything goes into one transaction

	pending []mapped
	lines   int
	from    int // orders up to this one were written before: the load goes on behind them
	next    int // number of the load's last finding
	notes   []finding.Finding
	// finished is set where the load's end was kept with its orders: of all or
	// none there is no moment in which the orders are in and the end is not.
	finished *report.Load
	seen     map[[16]byte]int32 // identities of the document's orders: their first row, 20 bytes an order
	numbers  map[string]int     // numbers given by the document, where it gives any
}

// A transaction holds so much: more gains nothing, and readers see orders arrive.
const (
	txOrders = 1_000
	txLines  = 10_000
)

// begin starts a pass over the document, behind what an earlier service has
// written of it.
func (t *target) begin(real bool) (err error) {
	t.real, t.pending, t.lines, t.next, t.from = real, nil, 0, 0, 0
	t.seen, t.numbers = map[[16]byte]int32{}, map[string]int{}
	if t.tx == nil {
		if t.from, t.next, err = t.e.store.Progress(t.ctx, t.run.load.ID); err != nil {
			return err
		}
	}
	t.run.update(func(l *report.Load) {
		if t.from == 0 {
			l.Counts, l.Share = report.Counts{}, 0
		}
	})
	t.run.mu.Lock()
	t.run.began = time.Time{}
	t.run.mu.Unlock()
	return nil
}

// put takes the next orders in. A load that was begun before passes over those
// that are written, noting what later ones are compared with.
func (t *target) put(orders []mapped) error {
	for i := range orders {
		m := &orders[i]
		if !t.rules.takes(&m.Order) {
			continue
		}
		if m.Seq <= t.from {
			if !m.Orphan {
				t.firstOf(m)
			}
			if n := m.Order.Number; n != "" && !m.Refused() {
				t.numbers[n] = m.Spans[0].First
			}
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
	if len(t.pending) >= txOrders || t.lines >= txLines {
		return t.flush()
	}
	return nil
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
		results, err := t.decide(tx)
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
			if r.Outcome == report.Loaded || r.Outcome == report.Changed || r.Outcome == report.Ready || r.Outcome == report.Differs {
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
	t.run.update(func(l *report.Load) { l.Counts, l.Share = counts, share })
	t.pending, t.lines = t.pending[:0], 0
	if t.rules.StopAfter > 0 && counts.Failing() >= t.rules.StopAfter {
		return errEnough
	}
	return nil
}

// flushSome writes the first n pending orders, the last of which is one
// failure too many, and leaves the others.
func (t *target) flushSome(n int) error {
	t.pending = t.pending[:n]
	for i := range t.pending { // they are decided anew
		m := &t.pending[i]
		m.Findings = m.Findings[:m.found:m.found]
		if key := m.key(); t.seen[key] == int32(m.Spans[0].First) {
			delete(t.seen, key)
		}
		m.Order.Number = m.given
		if t.numbers[m.given] == m.Spans[0].First {
			delete(t.numbers, m.given)
		}
	}
	return t.flush()
}

func (t *target) write(f func(*store.Tx) error) error {
	if t.tx != nil {
		return f(t.tx)
	}
	return t.e.store.Write(t.ctx, f)
}

// decide finds out what becomes of each pending order, and stores those that go in.
func (t *target) decide(tx *store.Tx) ([]store.OrderResult, error) {
	var identities, numbers []string
	for i := range t.pending {
		m := &t.pending[i]
		if m.Refused() {
			continue
		}
		identities = append(identities, m.identity)
		if m.Order.Number != "" {
			numbers = append(numbers, m.Order.Number)
		}
	}
	known, err := tx.KnownOrders(identities)
	if err != nil {
		return nil, err
	}
	taken := map[string]store.Known{}
	if len(numbers) > 0 {
		if taken, err = tx.KnownNumbers(t.pending[0].Order.Kind, numbers); err != nil {
			return nil, err
		}
	}
	results := make([]store.OrderResult, len(t.pending))
	var fresh []store.NewOrder
	var freshAt []int
	for i := range t.pending {
		m, res := &t.pending[i], &results[i]
		m.found, m.given = len(m.Findings), m.Order.Number
		changed, err := t.judge(tx, m, known, taken, res)
		if err = errors.Join(err, m.err); err != nil {
			return nil, err
		}
		switch res.Outcome {
		case report.Loaded:
			fresh = append(fresh, store.NewOrder{Order: &m.Order, Identity: m.identity, Fingerprint: m.fingerprint, Trace: m.trace, Lines: m.lines, Seq: m.Seq})
			freshAt = append(freshAt, i)
		case report.Changed:
			changed.Action, changed.Load, changed.Seq, changed.Fingerprint = "changed", t.run.load.ID, m.Seq, m.fingerprint[:]
			if err := tx.ChangeOrder(*changed, t.run.load.By, t.e.now()); err != nil {
				return nil, err
			}
		}
	}
	if err := tx.InsertOrders(t.run.load.ID, fresh, t.run.load.By, t.e.now()); err != nil {
		return nil, err
	}
	for i, at := range freshAt {
		results[at].OrderID, results[at].Number = fresh[i].Order.ID, fresh[i].Order.Number
	}
	return results, nil
}

// judge decides on one order and fills in its result; changed is what a stored
// order becomes where the outcome is that it changes.
func (t *target) judge(tx *store.Tx, m *mapped, known, taken map[string]store.Known, res *store.OrderResult) (changed *store.Changed, err error) {
	stored, isKnown := known[m.identity]
	outcome := report.Ready
	if t.real {
		outcome = report.Loaded
	}
	if !m.Orphan && !t.firstOf(m) {
		outcome = report.Refused
	} else if !m.Refused() && isKnown {
		res.OrderID, res.Number = stored.ID, stored.Number
		if changed, err = t.again(tx, m, stored); err != nil {
			return nil, err
		}
		switch {
		case changed == nil:
			outcome = report.Unchanged
		case t.real:
			outcome, res.Changes = report.Changed, changed.Changes
		default:
			outcome, res.Changes = report.Differs, changed.Changes
		}
	} else if n := m.Order.Number; !m.Refused() && n != "" {
		other, isTaken := taken[n]
		if row, twice := t.numbers[n]; twice {
			m.Add(finding.NumberTaken, 0, "number", n, "The number %s is given to another order in row %d of this document.", n, row)
		} else if isTaken {
			m.Add(finding.NumberTaken, 0, "number", n, "The number %s belongs to the stored order of %s.", n, strings.ReplaceAll(other.Identity, "|", " "))
		} else {
			t.numbers[n] = m.Spans[0].First
		}
	}
	switch {
	case m.Waits:
		outcome = report.Held
	case m.Refused():
		outcome = report.Refused
	case outcome != report.Unchanged && t.rules.holds != nil:
		for i := range m.Findings {
			if t.rules.holds(&m.Findings[i]) {
				outcome = report.Held
			}
		}
	}
	if outcome.Failed() {
		res.Changes = nil
	}
	res.Seq, res.Outcome, res.SenderNumber, res.Lines = m.Seq, outcome, m.Order.SenderNumber, len(m.Order.Lines)
	res.Findings = m.Findings
	for _, f := range m.Findings {
		res.Errors += btoi(f.Severity == finding.Error)
		res.Warnings += btoi(f.Severity == finding.Warning)
	}
	for _, s := range m.Spans {
		res.Spans = append(res.Spans, report.SpanOutcome{Sheet: s.Sheet, First: s.First, Last: s.Last})
	}
	return changed, nil
}

// again decides what the arrival of a stored order means. It gives what the
// order becomes, or nil where nothing changes or a finding says why it cannot.
func (t *target) again(tx *store.Tx, m *mapped, known store.Known) (*store.Changed, error) {
	var was *store.StoredOrder
	var differs []order.Change
	if string(known.Fingerprint) != string(m.fingerprint[:]) {
		var err error
		if was, err = tx.Order(known.ID); err != nil {
			return nil, err
		}
		differs = order.Diff(&was.Order, &m.Order) // none: another version of Koinos took the fingerprint
	}
	if len(differs) == 0 {
		if t.rules.again == report.Refuse {
			m.Add(finding.IdentityStored, 0, "sender_number", m.Order.SenderNumber, "It is stored as %s, the same as here, and must not arrive again.", known.Number).Hint = ""
		}
		return nil, nil
	}
	var err error
	var is *order.Order
	var from []int // line of the arriving order of each line
	switch t.rules.again {
	case report.Update:
		is, from, err = was.Update(&m.Order, t.rules.arrival)
	case report.Revise:
		before, now := t.rules.newer.Value(&was.Order, nil), t.rules.newer.Value(&m.Order, nil)
		if now <= before {
			f := m.Add(finding.NotNewer, 0, t.rules.newer.Name, now, "It differs from the stored %s, but its %s %s is not after %s.", known.Number, t.rules.newer.Name, said(now), said(before))
			f.Message += " " + order.Named(differs) + "."
			return nil, nil
		}
		is, from, err = was.Replace(&m.Order)
	default:
		f := m.Add(finding.IdentityStored, 0, "sender_number", m.Order.SenderNumber, "It is stored as %s and differs: %s", known.Number, order.Named(differs)+".")
		f.Line = differs[0].Line
		return nil, nil
	}
	if err == nil {
		_, err = is.Compute(t.rules.rounding)
	}
	if conflict := (*order.Conflict)(nil); errors.As(err, &conflict) {
		m.Add(finding.UpdateConflict, conflict.Line, "", "", "%s", conflict.Message)
		return nil, nil
	} else if errors.Is(err, order.ErrTooLong) {
		m.Add(finding.AmountTooLarge, 0, "total", "", "With these changes the order's figures have more digits than can be computed with.")
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	is.Status = is.DeriveStatus()
	changes := order.Diff(&was.Order, is)
	if len(changes) == 0 {
		return nil, nil
	}
	for i := range changes {
		c := &changes[i]
		line := c.Line
		if line > 0 && line <= len(from) {
			line = from[line-1]
		}
		if c.Line == 0 || line > 0 {
			at := m.Trace.Place(line, c.Field)
			if at == (finding.Place{}) {
				at = m.Trace.Line(line)
			}
			c.At, c.Row = at.String(), at.Row
		}
	}
	return &store.Changed{Was: &was.Order, Is: is, Changes: changes}, nil
}

// key is the order's identity, short enough to hold very many.
func (m *mapped) key() [16]byte {
	sum := sha256.Sum256([]byte(m.identity))
	return [16]byte(sum[:16])
}

// firstOf notes the order's identity, or finds that the document has it already.
func (t *target) firstOf(m *mapped) bool {
	key := m.key()
	if row, twice := t.seen[key]; twice {
		if !m.Has(0, "sender_number") {
			m.Add(finding.IdentityRepeated, 0, "sender_number", m.Order.SenderNumber, "The order %s of %s began in row %d already.",
				m.Order.SenderNumber, m.Order.Partner, row)
		}
		return false
	}
	t.seen[key] = int32(m.Spans[0].First)
	return true
}

func said(s string) string {
	if s == "" {
		return "(blank)"
	}
	return s
}

// allOrNone reads the document twice: dry, and where nothing fails once more
// for real, in one transaction. A load that was begun before begins anew.
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
				return finding.Fatal(finding.IdentityStored, finding.Place{}, "While this load ran, another one stored %d of its orders; nothing of this one was kept.", n)
			}
			final := t.end(report.Done, "", t.notes)
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
	// Nothing was kept: what the dry pass found stands, and good orders are withheld.
	dry.Withheld, dry.Ready, dry.Differs, dry.Saved = dry.Ready+dry.Differs, 0, 0, 0
	t.notes, t.next = notes, next
	t.run.update(func(l *report.Load) { l.Counts = dry })
	return errors.Join(err, t.e.store.Write(context.WithoutCancel(t.ctx), func(tx *store.Tx) error {
		return errors.Join(tx.SetOutcomes(t.run.load.ID, report.Ready, report.Withheld), tx.SetOutcomes(t.run.load.ID, report.Differs, report.Withheld))
	}))
}
