package book

import (
	"context"
	"errors"
	"slices"

	"koinos/core/finding"
	"koinos/core/intent"
	"koinos/core/order"
	"koinos/store"
)

// ahead is what a notice would do to its order. It is worked out outside the writer's transaction and is valid as long
// as the order has not changed.
type ahead struct {
	session *Session
	of      head
	changed *store.Changed // nil where nothing changes
	found   []finding.Finding
	asked   []movement // what it depends on besides
}

// head identifies the order and the revision that the work is based on.
type head struct {
	ID       int64
	Number   string
	Revision int
}

func headOf(o *store.StoredOrder) head { return head{o.ID, o.Order.Number, o.Revision} }

// movement is what was known of one movement.
type movement struct {
	kind                      order.MovementKind
	partner, number, reverses string
	there                     bool
}

// errOnlyThere says that only the writer's transaction can tell what becomes of a notice.
var errOnlyThere = errors.New("it depends on other orders")

// Ahead works out in advance what the notices among some entries do to the orders as they are now, so that little is
// left to do while others wait for the writer. Take checks whether the result is still valid, and otherwise works it
// out itself.
func (s *Session) Ahead(ctx context.Context, st *store.Store, entries []*Entry) error {
	if err := whose(entries, func(n []store.Spoken) ([]string, error) { return st.PartnersOf(ctx, n) }); err != nil {
		return err
	}
	var all []*Entry
	var names []store.Spoken
	var moves []store.MovementKey
	for _, e := range entries {
		if e.Kind == intent.Order || e.Refused() || e.Orphan || e.Target != 0 || e.takesBackWhole() {
			continue
		}
		all, names = append(all, e), append(names, e.names())
		moves = append(moves, e.moves()...)
	}
	if len(all) == 0 {
		return nil
	}
	orders, known, err := st.Spoken(ctx, names, moves, linesAhead)
	if err != nil {
		return err
	}
	for i, e := range all {
		if orders[i] != nil {
			asOf := func(revision int) (*order.Order, error) { return st.AsOf(ctx, orders[i].ID, revision) }
			if err := s.ahead(e, orders[i], known, asOf); err != nil {
				return err
			}
		}
	}
	return nil
}

// Vain reports whether most of the results that were worked out in advance were no longer valid.
func (s *Session) Vain() bool {
	tried := s.tried.Load()
	return tried > 500 && s.held.Load() < tried/2
}

// ahead works out what a notice does to an order.
func (s *Session) ahead(e *Entry, o *store.StoredOrder, known map[store.MovementKey]store.Posted,
	asOf func(revision int) (*order.Order, error)) error {
	before := len(e.Findings)
	a := &ahead{session: s, of: headOf(o)}
	n := &noticed{s: s, e: e, stored: o, asOf: asOf, known: func(kind order.MovementKind, partner,
		number string) (string, bool, error) {
		is, was := known[store.MovementKey{Kind: kind, Partner: partner, Number: number}]
		if !was {
			return "", false, errOnlyThere // nobody asked for it
		}
		a.asked = append(a.asked, movement{kind, partner, number, is.Reverses, is.ID > 0})
		return is.Reverses, is.ID > 0, nil
	}}
	var err error
	a.changed, err = s.decide(n)
	a.found = slices.Clone(e.Findings[before:])
	e.Findings = e.Findings[:before:before]
	if errors.Is(err, errOnlyThere) {
		return nil
	}
	if err == nil && a.changed != nil {
		err = a.changed.Snapshot()
	}
	if err == nil {
		e.ahead = a
	}
	return err
}

// foreseen returns what was worked out for a notice in advance, if it is still valid.
func (s *spokenOf) foreseen(e *Entry, id int64) (changed *store.Changed, of head, ok bool, err error) {
	a := e.ahead
	if e.ahead = nil; a == nil {
		return nil, of, false, nil
	}
	a.session.tried.Add(1)
	if a.of.ID != id || s.at[id] != a.of.Revision {
		return nil, of, false, nil
	}
	for _, m := range a.asked {
		reverses, there, err := s.changes.Reverses(m.kind, m.partner, m.number)
		if err != nil || there != m.there || reverses != m.reverses {
			return nil, of, false, err
		}
	}
	a.session.held.Add(1)
	e.Findings = append(e.Findings, a.found...)
	return a.changed, a.of, true, nil
}
