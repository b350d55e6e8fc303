package load

import (
	"context"
	"crypto/sha256"
	"errors"
	"strconv"
	"strings"

	"koinos/core/finding"
	"koinos/core/order"
	"koinos/core/report"
	"koinos/store"
)

// target takes mapped orders and writes them and their outcomes in batches.
type target struct {
	e    *Engine
	run  *run
	ctx  context.Context
	real bool      // false is a dry run
	tx   *store.Tx // set while everything goes into one transaction

	pending []mapped
	lines   int
	next    int // number of the load's last finding
	notes   []finding.Finding
	seen    map[[16]byte]int32 // identities of the document's orders: their first row, 20 bytes an order
	numbers map[string]int     // numbers given by the document, where it gives any
}

// A transaction holds so much: more gains nothing, and readers see orders arrive.
const (
	txOrders = 1_000
	txLines  = 10_000
)

// begin starts a pass over the document.
func (t *target) begin(real bool) {
	t.real, t.pending, t.lines, t.next = real, nil, 0, 0
	t.seen, t.numbers = map[[16]byte]int32{}, map[string]int{}
	t.run.update(func(l *report.Load) { l.Counts = report.Counts{} })
}

func (t *target) put(orders []mapped) error {
	for i := range orders {
		t.pending = append(t.pending, orders[i])
		t.lines += len(orders[i].Order.Lines)
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
	counts := t.run.snapshot().Counts
	next := t.next
	err := t.write(func(tx *store.Tx) error {
		next, counts = t.next, t.run.snapshot().Counts
		results, err := t.decide(tx)
		if err != nil {
			return err
		}
		for i := range results {
			counts.Orders++
			counts.Lines += results[i].Lines
			counts.Errors += results[i].Errors
			counts.Warnings += results[i].Warnings
			counts.Count(results[i].Outcome)
		}
		last := &t.pending[len(t.pending)-1]
		counts.Rows = last.at
		if err := tx.AddResults(t.run.load.ID, results, &next); err != nil {
			return err
		}
		l := t.run.snapshot()
		l.Counts = counts
		return tx.SaveCounts(&l)
	})
	if err != nil {
		return err
	}
	share := t.pending[len(t.pending)-1].share
	t.next = next
	t.run.update(func(l *report.Load) { l.Counts, l.Share = counts, share })
	t.pending, t.lines = t.pending[:0], 0
	return nil
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
		if err := t.judge(m, known, taken, res); err != nil {
			return nil, err
		}
		if res.Outcome == report.Loaded {
			fresh = append(fresh, store.NewOrder{Order: &m.Order, Identity: m.identity, Fingerprint: m.fingerprint, Trace: m.trace, Seq: m.Seq})
			freshAt = append(freshAt, i)
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

// judge decides on one order and fills in its result.
func (t *target) judge(m *mapped, known, taken map[string]store.Known, res *store.OrderResult) error {
	stored, isKnown := known[m.identity]
	outcome := report.Ready
	if t.real {
		outcome = report.Loaded
	}
	if !m.Orphan && !t.firstOf(m) {
		outcome = report.Refused
	} else if !m.Refused() && isKnown {
		outcome = report.Unchanged
		res.OrderID, res.Number = stored.ID, stored.Number
		if string(stored.Fingerprint) != string(m.fingerprint[:]) {
			if err := t.clash(m, stored); err != nil {
				return err
			}
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
	if m.Refused() {
		outcome = report.Refused
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
	return nil
}

// firstOf notes the order's identity, or finds that the document has it already.
func (t *target) firstOf(m *mapped) bool {
	sum := sha256.Sum256([]byte(m.identity))
	key := [16]byte(sum[:16])
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

// mostNamed is how many differing fields a finding names.
const mostNamed = 4

// clash says in which fields the arriving order differs from the stored one.
func (t *target) clash(m *mapped, stored store.Known) error {
	// The stored order is read beside the writer: it was there before this
	// document, or firstOf had found it.
	was, err := t.e.store.Order(t.ctx, stored.ID)
	if err != nil {
		return err
	}
	changes := order.Diff(&was.Order, &m.Order)
	var named []string
	for i, c := range changes {
		if i == mostNamed {
			named = append(named, strconv.Itoa(len(changes)-mostNamed)+" more")
			break
		}
		where := c.Field
		if c.Line > 0 {
			where = "line " + strconv.Itoa(c.Line) + " " + c.Field
		}
		named = append(named, where+" was "+quote(c.Was)+", is "+quote(c.Is))
	}
	f := m.Add(finding.IdentityStored, 0, "sender_number", m.Order.SenderNumber, "It is stored as %s and differs: %s.", stored.Number, strings.Join(named, "; "))
	if len(changes) > 0 && changes[0].Line > 0 {
		f.Line = changes[0].Line
	}
	return nil
}

func quote(s string) string {
	if s == "" {
		return "blank"
	}
	return strconv.Quote(finding.Clip(s, 40))
}

// allOrNone reads the document twice: dry, and where nothing is refused once
// more for real, in one transaction.
func (t *target) allOrNone(pass func(real bool) error) error {
	err := pass(false)
	dry, notes, next := t.run.snapshot().Counts, t.notes, t.next
	if err == nil && dry.Refused == 0 {
		err = t.e.store.Write(t.ctx, func(tx *store.Tx) error {
			if err := tx.Forget(t.run.load.ID); err != nil {
				return err
			}
			t.tx = tx
			defer func() { t.tx = nil }()
			if err := pass(true); err != nil {
				return err
			}
			if n := t.run.snapshot().Refused; n > 0 {
				return finding.Fatal(finding.IdentityStored, finding.Place{}, "While this load ran, another one stored %d of its orders; nothing of this one was kept.", n)
			}
			return nil
		})
		if err == nil {
			return nil
		}
	}
	// Nothing was kept: what the dry pass found stands, and good orders are withheld.
	dry.Withheld, dry.Ready = dry.Ready, 0
	t.notes, t.next = notes, next
	t.run.update(func(l *report.Load) { l.Counts = dry })
	return errors.Join(err, t.e.store.Write(context.WithoutCancel(t.ctx), func(tx *store.Tx) error {
		return tx.SetOutcomes(t.run.load.ID, report.Ready, report.Withheld)
	}))
}
