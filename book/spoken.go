package book

import (
	"koinos/core/intent"
	"koinos/core/order"
	"koinos/store"
)

// spokenOf holds the orders that the notices of one batch are about. They are read together, and their changes are
// written together.
type spokenOf struct {
	tx      *store.Tx
	ids     map[*Entry][]int64
	orders  map[int64]*store.StoredOrder
	changes *store.Changes
	at      map[int64]int // the revisions of orders for which something was worked out beforehand
}

// linesTogether is how many lines of orders are read together; longer orders are read one by one. linesAhead is the
// same limit for work that is done in advance, of which a lot can wait for the writer.
const linesTogether, linesAhead = 20_000, 2_000

// change stores a change of an order, at the latest when the order is read again.
func (s *spokenOf) change(c *store.Changed) error {
	delete(s.orders, c.Is.ID)
	delete(s.at, c.Is.ID)
	return s.changes.Add(c)
}

// speak reads the orders that notices are about.
func speak(tx *store.Tx, all []Arrived) (*spokenOf, error) {
	spoken := &spokenOf{tx: tx, ids: map[*Entry][]int64{}, changes: tx.Changes(all[0].Now())}
	var moves []store.MovementKey
	var entries []*Entry
	var names []store.Spoken
	var ids []int64
	var err error
	var foreseen []int64
	every := make([]*Entry, len(all))
	for i := range all {
		every[i] = all[i].Entry
	}
	if err := whose(every, tx.PartnersOf); err != nil {
		return nil, err
	}
	for i := range all {
		e := all[i].Entry
		switch o := &e.Order; {
		case e.Kind != intent.Order && !e.Refused() && e.Target == 0 && e.takesBackWhole():
			if spoken.ids[e], err = tx.OrdersMoved(order.MovementKind(e.Kind), o.Partner, o.Statement.Reverses); err != nil {
				return nil, err
			}
			if found := spoken.ids[e]; len(found) == 1 {
				ids = append(ids, found[0])
			}
			if o.Partner == "" {
				if o.Partner, err = tx.PartnerOf(spoken.ids[e]); err != nil {
					return nil, err
				}
			}
		case e.Kind == intent.Order || e.Refused() || e.Orphan:
		case e.Target != 0:
			spoken.ids[e] = []int64{e.Target}
			ids = append(ids, e.Target)
		default:
			moves = append(moves, e.moves()...)
			entries, names = append(entries, e), append(names, e.names())
		}
	}
	if len(names) > 0 {
		found, err := tx.OrdersOf(names)
		if err != nil {
			return nil, err
		}
		for i, e := range entries {
			spoken.ids[e] = found[i]
			switch {
			case len(found[i]) != 1:
			case e.ahead != nil && e.ahead.of.ID == found[i][0]:
				foreseen = append(foreseen, found[i][0])
			default:
				ids = append(ids, found[i][0])
			}
		}
	}
	if err := spoken.changes.Ask(moves...); err != nil {
		return nil, err
	}
	if spoken.at, err = tx.Revisions(foreseen); err != nil {
		return nil, err
	}
	for _, e := range entries {
		if e.ahead != nil && spoken.at[e.ahead.of.ID] != e.ahead.of.Revision {
			ids = append(ids, e.ahead.of.ID)
		}
	}
	spoken.orders, err = tx.OrdersNow(ids, linesTogether)
	return spoken, err
}

// unknown reports whether an entry is a notice whose order was not found.
func (s *spokenOf) unknown(e *Entry) bool {
	return e.Kind != intent.Order && !e.Refused() && !e.Orphan && e.Target == 0 && len(s.ids[e]) == 0
}

// look searches once more for the order that a notice names.
func (s *spokenOf) look(e *Entry) error {
	if err := whose([]*Entry{e}, s.tx.PartnersOf); err != nil {
		return err
	}
	found, err := s.tx.OrdersOf([]store.Spoken{e.names()})
	if err == nil {
		s.ids[e] = found[0]
	}
	return err
}

// whose notes the partner of notices that name none: it is the one whose order they are about.
func whose(entries []*Entry, partners func([]store.Spoken) ([]string, error)) error {
	var some []*Entry
	var names []store.Spoken
	for _, e := range entries {
		if e.Order.Partner == "" && e.Kind != intent.Order && !e.Refused() && !e.Orphan && e.Target == 0 && !e.takesBackWhole() {
			some, names = append(some, e), append(names, e.names())
		}
	}
	if len(some) == 0 {
		return nil
	}
	found, err := partners(names)
	for i := range found {
		some[i].Order.Partner = found[i]
	}
	return err
}

// names returns what a notice calls its order.
func (e *Entry) names() store.Spoken {
	o := &e.Order
	return store.Spoken{Kind: o.Kind, Partner: o.Partner, Number: o.Number, Sender: o.SenderNumber,
		References: o.References}
}

// moves returns the movements that a notice names as its own.
func (e *Entry) moves() []store.MovementKey {
	kind, said := order.MovementKind(e.Kind), e.Order.Statement
	if verbs[kind] == "" || said == nil || said.Number == "" {
		return nil
	}
	return []store.MovementKey{{Kind: kind, Partner: e.Order.Partner, Number: said.Number}}
}

// order returns an order as it is now. What was read together is valid only for the first notice about it.
func (s *spokenOf) order(id int64) (*store.StoredOrder, error) {
	if o := s.orders[id]; o != nil {
		delete(s.orders, id)
		return o, nil
	}
	if err := s.changes.Settle(id); err != nil {
		return nil, err
	}
	return s.tx.OrderNow(id)
}
