package book

import (
	"crypto/sha256"
	"errors"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"koinos/api"
	"koinos/core/finding"
	"koinos/core/intent"
	"koinos/core/list"
	"koinos/core/order"
	"koinos/core/outcome"
	"koinos/store"
)

// Rules apply to all intents of one document or request.
type Rules struct {
	Again     outcome.Again // what a second arrival of an order means
	Arrival   order.Arrival // how it changes the stored one
	Newer     order.Field   // revise: the date that says which is newer
	Rounding  order.Rounding
	Lists     *list.Set                   // what changes of orders must agree with
	Holds     func(*finding.Finding) bool // which warnings hold; nil is none
	Weighs    map[finding.Code]finding.Severity
	Over      order.Number // how many per cent more than is wanted may move
	Source    store.Source
	System    string   // what is refused came from it, and waits for a person too; "" is no system
	Sync      string   // that reads it
	Asks      bool     // what changes a stored order is asked for only: a finding says so of each change
	Taken     []int    // which lines of a change are taken, counted from 1; 0 is its header. None is all of it
	Elsewhere bool     // what is held is put on the list of that by somebody else
	Partners  []string // whose orders may be touched; none is everybody's
	Real      bool     // false decides without storing anything
	Now       func() time.Time
}

// Entry is an intent with what the book needs to know about it, worked out in advance so that nothing slow happens in
// the writer's transaction.
type Entry struct {
	*intent.Intent
	Identity    string
	Fingerprint [sha256.Size]byte
	Trace       []byte            // JSON
	Lines       store.PackedLines // store.PackLines
	Err         error             // of that

	ahead *ahead // what Ahead has worked out; nil is nothing
	found int    // findings before it was compared with what is stored
	given string // number that the document gave it
}

// NewEntry works out what the book needs. An order without a number of the sender is recognised by its place in the
// document. If with is false, only the identity is worked out.
func NewEntry(i *intent.Intent, document string, keeps bool) Entry {
	e := Entry{Intent: i, given: i.Order.Number}
	if i.Kind != intent.Order {
		return e
	}
	if e.Identity = i.Order.Identity(); e.Identity == "" && len(i.Spans) > 0 {
		e.Identity = string(i.Order.Kind) + "@" + document + "#" + i.Spans[0].Sheet + "!" +
			strconv.Itoa(i.Spans[0].First)
	}
	if keeps && !i.Refused() {
		e.Fingerprint = i.Order.Fingerprint()
		e.Trace = i.Trace.AppendJSON(nil)
		e.Lines, e.Err = store.PackLines(&i.Order)
	}
	return e
}

// Session takes the intents of one document in their order. It remembers which orders and numbers the document has had.
type Session struct {
	Rules
	seen    map[[16]byte]int32 // identities: their first row, 20 bytes an order
	numbers map[string]int     // numbers given by the document, where it gives any

	tried, held atomic.Int64 // notices that were worked out beforehand, and those of which it held
}

// Begin begins a session.
func Begin(r Rules) *Session {
	return &Session{Rules: r, seen: map[[16]byte]int32{}, numbers: map[string]int{}}
}

// Passed notes an entry that was taken before the session began.
func (s *Session) Passed(e *Entry) {
	if e.Kind != intent.Order {
		return
	}
	if !e.Orphan {
		s.firstOf(e)
	}
	if n := e.Order.Number; n != "" && !e.Refused() {
		s.numbers[n] = e.row()
	}
}

// Forget undoes what Take noted and found for an entry, so that the entry can be taken again.
func (s *Session) Forget(e *Entry) {
	e.Findings = e.Findings[:e.found:e.found]
	if key := e.key(); s.seen[key] == int32(e.row()) {
		delete(s.seen, key)
	}
	e.Order.Number = e.given
	if s.numbers[e.given] == e.row() {
		delete(s.numbers, e.given)
	}
}

// Take decides what becomes of each entry, and carries it out unless the session is a dry run. It adds its findings to
// the entries.
func (s *Session) Take(tx *store.Tx, entries []Entry) ([]store.OrderResult, error) {
	all := make([]Arrived, len(entries))
	for i := range entries {
		all[i] = Arrived{s, &entries[i]}
	}
	return Take(tx, all)
}

// Arrived is an entry with its session.
type Arrived struct {
	*Session
	*Entry
}

// Take is Session.Take for entries of several sessions. Entries do not see what earlier ones did, so no two entries of
// different sessions may be for the same order or number.
func Take(tx *store.Tx, all []Arrived) ([]store.OrderResult, error) {
	if len(all) == 0 {
		return nil, nil
	}
	known, taken, err := known(tx, all)
	if err != nil {
		return nil, err
	}
	spoken, err := speak(tx, all)
	if err != nil {
		return nil, err
	}
	results := make([]store.OrderResult, len(all))
	var fresh []store.NewOrder
	var freshAt []int
	insert := func() error {
		err := spoken.changes.Done()
		if err == nil {
			err = tx.InsertOrders(fresh, all[0].Now())
		}
		for i, at := range freshAt {
			results[at].OrderID, results[at].Number, results[at].Revision = fresh[i].Order.ID, fresh[i].Order.Number, 1
		}
		fresh, freshAt = nil, nil
		return err
	}
	for i := range all {
		s, e, res := all[i].Session, all[i].Entry, &results[i]
		if len(fresh) > 0 && spoken.unknown(e) { // it may be of one of them
			if err := errors.Join(insert(), spoken.look(e)); err != nil {
				return nil, err
			}
		}
		e.found, e.given = len(e.Findings), e.Order.Number
		var changed *store.Changed
		if p := e.Order.Partner; len(s.Partners) > 0 && !e.Refused() &&
			!slices.ContainsFunc(s.Partners, func(n string) bool { return strings.EqualFold(n, p) }) {
			e.Add(finding.PartnerNotAllowed, 0, "partner", p, "This load may only touch orders of %s.",
				strings.Join(s.Partners, ", "))
		}
		if e.Kind == intent.Order {
			changed, err = s.judge(spoken, e, known, taken, res)
		} else {
			changed, err = s.notice(spoken, e, res)
		}
		if err = errors.Join(err, e.Err); err != nil {
			return nil, err
		}
		s.finish(e, res)
		switch res.Outcome {
		case outcome.Loaded:
			fresh = append(fresh, store.NewOrder{Order: &e.Order, Identity: e.Identity, Fingerprint: e.Fingerprint,
				Trace: e.Trace, Lines: e.Lines, Seq: e.Seq, Source: &s.Source})
			freshAt = append(freshAt, i)
		case outcome.Changed:
			changed.Source, changed.Seq = s.Source, e.Seq
			if v := changed.Invoice; v != nil && v.Number == "" {
				if v.Number, err = tx.NextInvoice(); err != nil {
					return nil, err
				}
				changed.Changes = append(changed.Changes, order.Change{Field: "invoice", Is: v.Number})
				res.Changes = changed.Changes
			}
			err := spoken.change(changed)
			if err == nil && s.Real {
				err = buyers(spoken, changed.Is, changed.Answer != nil, s.Now())
			}
			if err != nil {
				return nil, err
			}
			res.Revision = changed.Is.Revision
		}
	}
	err = insert()
	for i := range all {
		waits := results[i].Outcome == outcome.Held || results[i].Outcome == outcome.Refused && all[i].System != ""
		if waits && err == nil {
			err = all[i].hold(tx, all[i].Entry, &results[i])
		}
	}
	return results, err
}

// hold puts an entry on the list of held work.
func (s *Session) hold(tx *store.Tx, e *Entry, res *store.OrderResult) error {
	if !s.Real || s.Source.Load == 0 || s.Elsewhere {
		return nil
	}
	h := api.HeldWork{Kind: api.HeldOrder, Load: s.Source.Load, Seq: res.Seq, OrderID: res.OrderID,
		Partner: e.Order.Partner, Number: e.Order.SenderNumber, Since: s.Now(), System: s.System, Sync: s.Sync}
	for k := range e.Findings {
		if f := &e.Findings[k]; h.Code == "" || f.Severity == finding.Error {
			h.Code, h.Reason = string(f.Code), f.Message
		}
	}
	return tx.Hold(h)
}

// known returns the stored orders that have the entries' identities and numbers.
func known(tx *store.Tx, all []Arrived) (known, taken map[string]store.Known, err error) {
	var identities, numbers []string
	var kind order.Kind
	for i := range all {
		e := all[i].Entry
		if e.Kind != intent.Order || e.Refused() {
			continue
		}
		kind = e.Order.Kind
		identities = append(identities, e.Identity)
		if e.Order.Number != "" {
			numbers = append(numbers, e.Order.Number)
		}
	}
	if known, err = tx.KnownOrders(identities); err != nil || len(numbers) == 0 {
		return known, nil, err
	}
	taken, err = tx.KnownNumbers(kind, numbers)
	return known, taken, err
}

// finish completes the result of an entry whose outcome is decided, except for what its findings do to it.
func (s *Session) finish(e *Entry, res *store.OrderResult) {
	e.Findings = append(e.Findings[:e.found:e.found], finding.Weigh(e.Findings[e.found:], s.Weighs)...)
	switch {
	case e.Waits:
		res.Outcome = outcome.Held
	case e.Refused():
		res.Outcome = outcome.Refused
	case res.Outcome != outcome.Unchanged && s.Holds != nil:
		for i := range e.Findings {
			if s.Holds(&e.Findings[i]) {
				res.Outcome = outcome.Held
			}
		}
	}
	if res.Outcome.Failed() {
		res.Changes = nil
	}
	if e.Kind == intent.Order {
		res.SenderNumber = e.Order.SenderNumber
	}
	res.Seq, res.Lines = e.Seq, len(e.Order.Lines)
	res.Findings = e.Findings
	for _, f := range e.Findings {
		switch f.Severity {
		case finding.Error:
			res.Errors++
		case finding.Warning:
			res.Warnings++
		}
	}
	for _, span := range e.Spans {
		res.Spans = append(res.Spans, outcome.SpanOutcome{Sheet: span.Sheet, First: span.First, Last: span.Last})
	}
}

// judge decides on one order. changed is what a stored order becomes if the outcome is a change.
func (s *Session) judge(spoken *spokenOf, e *Entry, known, taken map[string]store.Known,
	res *store.OrderResult) (changed *store.Changed, err error) {
	stored, isKnown := known[e.Identity]
	res.Outcome = outcome.Ready
	if s.Real {
		res.Outcome = outcome.Loaded
	}
	switch {
	case !e.Orphan && !s.firstOf(e):
		res.Outcome = outcome.Refused
	case e.Refused():
	case isKnown:
		res.OrderID, res.Number = stored.ID, stored.Number
		if changed, err = s.again(spoken, e, stored); err != nil {
			return nil, err
		}
		s.asks(e, changed, nil)
		s.changes(changed, res)
	case e.Replaces:
		e.Add(finding.OrderUnknown, 0, "sender_number", e.Order.SenderNumber,
			"It is to take the place of the %s order %s of %s, which is not stored.", e.Order.Kind, e.Order.SenderNumber,
			e.Order.Partner)
	case e.Order.Number != "":
		n := e.Order.Number
		other, isTaken := taken[n]
		if row, twice := s.numbers[n]; twice {
			e.Add(finding.NumberTaken, 0, "number", n,
				"The number %s is given to another order in row %d of this document.", n, row)
		} else if isTaken {
			e.Add(finding.NumberTaken, 0, "number", n, "The number %s belongs to the stored order of %s.", n,
				strings.ReplaceAll(other.Identity, "|", " "))
		} else {
			s.numbers[n] = e.row()
		}
	}
	return changed, nil
}

// changes notes whether a stored order changes, or would change.
func (s *Session) changes(changed *store.Changed, res *store.OrderResult) {
	switch {
	case changed == nil:
		res.Outcome = outcome.Unchanged
	case s.Real:
		res.Outcome, res.Changes = outcome.Changed, changed.Changes
	default:
		res.Outcome, res.Changes = outcome.Differs, changed.Changes
	}
}

// key is a digest of the order's identity, short enough to keep a very large number of them.
func (e *Entry) key() [16]byte {
	sum := sha256.Sum256([]byte(e.Identity))
	return [16]byte(sum[:16])
}

// row is the first row of the entry, or 0 if it did not come from a document.
func (e *Entry) row() int {
	if len(e.Spans) == 0 {
		return 0
	}
	return e.Spans[0].First
}

// firstOf notes the order's identity, or reports that the document has had it already.
func (s *Session) firstOf(e *Entry) bool {
	key := e.key()
	if row, twice := s.seen[key]; twice {
		if !e.Has(0, "sender_number") {
			e.Add(finding.IdentityRepeated, 0, "sender_number", e.Order.SenderNumber,
				"The order %s of %s began in row %d already.",
				e.Order.SenderNumber, e.Order.Partner, row)
		}
		return false
	}
	s.seen[key] = int32(e.row())
	return true
}
