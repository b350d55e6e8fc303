package store

import (
	"errors"
	"fmt"
	"math"
	"slices"
	"time"

	"koinos/api"
	"koinos/core/order"
)

// Changed is a change of a stored order.
type Changed struct {
	Was         *order.Order
	Is          *order.Order // with the ID of Was; gets its Revision
	Fingerprint []byte       // of what arrived; nil leaves the one that is stored
	Identity    string       // blank leaves the one that is stored
	Action      string       // of the event
	Changes     []order.Change
	Trace       []byte // JSON of an origin.Trace, by ids of lines; nil is none
	Seq         int
	Source

	Movement *order.Movement // goods that moved; nil posts what Is has moved more than Was
	Answer   *order.Answered
	Invoice  *order.Invoice
	restored bool // Is was there before: nothing has moved

	was       []byte // JSON of Was; nil until Snapshot has made it
	sameLines bool   // was is without its lines, because the rows of lines stay
}

// ChangeOrder stores an order's new content with the event of its change. The event contains the old content.
func (t *Tx) ChangeOrder(c Changed, now time.Time) error {
	all := t.Changes(now)
	if err := all.Add(&c); err != nil {
		return err
	}
	return all.Done()
}

// Changes stores changes of orders, many at a time. All that was added is stored when Done returns.
type Changes struct {
	t         *Tx
	when      time.Time
	movements map[MovementKey]Posted // those that were asked for; one without an id is not there
	pending   map[int64]bool         // orders of which a change is not stored yet
	orders    *bulk
	heads     *bulk // of orders of which little changes
	moved     *bulk
	parts     *bulk
	events    *bulk
}

// Changes begins a batch of changes that are made now.
func (t *Tx) Changes(now time.Time) *Changes {
	c := &Changes{t: t, when: now, movements: map[MovementKey]Posted{}, pending: map[int64]bool{},
		orders: t.bulk(changedOrder), heads: t.bulk(changedHead), moved: t.bulk(movementColumns),
		parts: t.bulk(movementPartColumns), events: t.bulk(changeColumns)}
	c.parts.first = c.moved
	return c
}

// Done stores what was added since it was last called.
func (s *Changes) Done() error {
	clear(s.pending)
	return errors.Join(s.orders.done(), s.heads.done(), s.parts.done(), s.moved.done(), s.events.done())
}

// Settle makes sure that an order can be read as it is after what was added.
func (s *Changes) Settle(id int64) error {
	if !s.pending[id] {
		return nil
	}
	return s.Done()
}

// changedOrder are the columns of an order that a change fills. Its identity, and the fingerprint of what arrived, may
// stay as they are.
var changedOrder = &columns{16, `UPDATE orders SET number = c2, status = c3, revision = c4, sender_number = c5,
  partner = c6, ordered_on = c7, requested_ship_on = c8, requested_delivery_on = c9, currency = c10, total = c11,
  line_count = c12, last_line = c13, more = c14, fingerprint = coalesce(c15, fingerprint),
  identity = coalesce(c16, identity) FROM unpack(?) WHERE orders.id = c1`}

// changedHead are the columns of an order that most movements, answers and invoices change. Naming others would write
// their indexes anew.
var changedHead = &columns{4, `UPDATE orders SET status = c2, revision = c3, more = c4 FROM unpack(?)
  WHERE orders.id = c1`}

// Add adds the change of an order. The order in Is gets its revision.
func (s *Changes) Add(c *Changed) error {
	t, o := s.t, c.Is
	o.Revision = c.Was.Revision + 1
	o.NameLines()
	err := errors.Join(s.Settle(o.ID), c.Snapshot()) // one statement changes an order once
	if err != nil {
		return err
	}
	s.pending[o.ID] = true
	s.head(c)
	if !c.sameLines {
		if err := t.run(`DELETE FROM lines WHERE order_id = ?`, o.ID); err != nil {
			return err
		}
		lines := lineRows{t.bulk(lineColumns)}
		if err := errors.Join(lines.add(o, PackedLines{}), lines.done()); err != nil {
			return err
		}
	}
	switch {
	case c.restored:
	case c.Movement != nil:
		err = s.move(o, c.Movement)
	default:
		err = s.moveStated(c.Was, o)
	}
	if err == nil && c.Answer != nil {
		err = t.addAnswer(o, c.Answer)
	}
	if err == nil && c.Invoice != nil {
		err = t.addInvoice(o, c.Invoice)
	}
	return errors.Join(err, s.orders.err, s.heads.err, s.note(c))
}

// head changes the row of an order.
func (s *Changes) head(c *Changed) {
	o, more := c.Is, func(b []byte) ([]byte, error) { return appendHeader(b, c.Is) }
	if c.sameLines && sameColumns(c.Was, o) && c.Fingerprint == nil && c.Identity == "" {
		s.heads.row().Int64(o.ID).Text(string(o.Status)).Int(o.Revision).TextBy(more)
		return
	}
	s.orders.row().Int64(o.ID).Text(o.Number).Text(string(o.Status)).Int(o.Revision).TextOrNull(o.SenderNumber).
		Text(o.Partner).TextOrNull(string(o.OrderedOn)).TextOrNull(string(o.RequestedShipOn)).
		TextOrNull(string(o.RequestedDeliveryOn)).TextOrNull(o.Currency).Text(o.Total.String()).Int(len(o.Lines)).
		Int(o.LastLine).TextBy(more).Bytes(c.Fingerprint).TextOrNull(c.Identity)
}

// sameColumns reports whether two states of an order have the same values in the columns that changedHead leaves.
func sameColumns(a, b *order.Order) bool {
	return a.Number == b.Number && a.SenderNumber == b.SenderNumber && a.Partner == b.Partner &&
		a.OrderedOn == b.OrderedOn && a.RequestedShipOn == b.RequestedShipOn &&
		a.RequestedDeliveryOn == b.RequestedDeliveryOn && a.Currency == b.Currency && a.Total == b.Total &&
		a.LastLine == b.LastLine
}

// keepsLines reports whether the rows of the order's lines stay as they are. A movement, answer or invoice changes at
// most the cancelled quantity and the amount.
func (c *Changed) keepsLines() bool {
	if c.Movement == nil && c.Answer == nil && c.Invoice == nil {
		return false
	}
	return slices.EqualFunc(c.Was.Lines, c.Is.Lines, func(x, y order.Line) bool {
		return x.ID == y.ID && x.Cancelled == y.Cancelled && x.Amount == y.Amount &&
			slices.EqualFunc(x.Earlier, y.Earlier, func(p, q order.Priced) bool { return p == q })
	})
}

// ToTakeBack lists orders that a load stored or changed before a seq, the last first: what was done last must be undone
// first.
func (t *Tx) ToTakeBack(load int64, before, limit int) (list []api.Taken, err error) {
	err = t.SelectContext(t.ctx, &list, `SELECT seq, order_id, coalesce(number, '') AS number, outcome FROM load_orders
	  WHERE load_id = ? AND seq < ? AND outcome IN ('loaded', 'changed') ORDER BY seq DESC LIMIT ?`, load, before, limit)
	return list, err
}

// LastEvent returns the newest event of an order that stands, and the order as it was before it; nil if that is not
// kept. Events that were taken back do not stand; nor, for this purpose, do those that a load caused behind its own
// order seq. ErrNotFound says that the order does not exist any more.
func (t *Tx) LastEvent(id, load int64, seq int) (e api.Event, was *order.Order, err error) {
	gone := fmt.Errorf("order %d: %w", id, ErrNotFound)
	type deed struct {
		load int64
		seq  int
	}
	undone := map[deed]bool{}
	for before := int64(math.MaxInt64); ; {
		list, err := readEvents(t.ctx, t, 0, `e.order_id = ? AND e.n < ? ORDER BY e.n DESC LIMIT 20`, id, before)
		if err != nil {
			return e, nil, err
		}
		if len(list) == 0 {
			return e, nil, gone
		}
		for _, e := range list {
			before = e.N
			at := deed{e.Origin.Load, e.Origin.Seq}
			switch {
			case e.Action == "removed":
				return e, nil, gone
			case e.Action == "taken back":
				undone[at] = true
			case undone[at]:
				delete(undone, at)
			case at.load != load || at.seq <= seq || load == 0:
				was, err = orderBefore(t.ctx, t, id, e.Revision)
				return e, was, err
			}
		}
	}
}

// Told returns the interchange in which a partner was told about an order at a revision or a later one; 0 if there is
// none.
func (t *Tx) Told(id int64, revision int) (interchange int64, err error) {
	err = t.row(`SELECT coalesce(max(s.interchange), 0) FROM set_orders s JOIN interchanges i ON i.id = s.interchange
	  WHERE s.order_id = ? AND s.order_revision >= ? AND i.direction = 'out' AND i.control > 0`, []any{id, revision}, &interchange)
	return interchange, err
}

// Undone notes that what a load did to an order was taken back.
func (t *Tx) Undone(load int64, seq int) error {
	return t.run(`UPDATE load_orders SET outcome = 'undone' WHERE load_id = ? AND seq = ?`, load, seq)
}

// Remove removes an order from the book. Its events stay, and one more records the removal.
func (t *Tx) Remove(o *StoredOrder, from Source, seq int, now time.Time) error {
	if err := t.unpost(o.ID, 0); err != nil {
		return err
	}
	var held []string // what was to be told of it and was held
	if err := t.SelectContext(t.ctx, &held,
		`SELECT DISTINCT s.kind FROM set_orders so JOIN sets s ON s.interchange = so.interchange AND s.seq = so.set_seq
			JOIN interchanges i ON i.id = so.interchange WHERE so.order_id = ?
			AND i.direction = 'out' AND i.control = 0`, o.ID); err != nil {
		return err
	}
	for _, kind := range held {
		if err := t.DropHeld(kind, o.ID); err != nil {
			return err
		}
	}
	for _, query := range []string{
		`DELETE FROM lines WHERE order_id = ?`, `DELETE FROM orders WHERE id = ?`,
	} {
		if _, err := t.exec(query, o.ID); err != nil {
			return err
		}
	}
	if err := t.count(-1); err != nil {
		return err
	}
	gone := o.Order
	gone.Revision++
	all := t.Changes(now)
	if err := all.note(&Changed{Was: &o.Order, Is: &gone, Action: "removed", Seq: seq, Source: from}); err != nil {
		return err
	}
	return all.Done()
}

// Restore restores an order to what it was before a revision.
func (t *Tx) Restore(now1 *StoredOrder, revision int, was *order.Order, from Source, seq int, now time.Time) error {
	if err := t.unpost(now1.ID, revision); err != nil {
		return err
	}
	was.LastLine = now1.LastLine
	print := was.Fingerprint()
	return t.ChangeOrder(Changed{Was: &now1.Order, Is: was, Fingerprint: print[:], Action: "taken back",
		Changes: order.Diff(&now1.Order, was), Seq: seq, Source: from, restored: true}, now)
}

// unpost takes back the movements, answers and invoices that came with a revision of an order; 0 means all.
func (t *Tx) unpost(id int64, revision int) error {
	const its = ` WHERE order_id = ? AND (? = 0 OR revision = ?)`
	if err := t.run(`DELETE FROM answers`+its, id, revision, revision); err != nil {
		return err
	}
	for _, what := range []string{"movement", "invoice"} {
		parts := what + "_parts"
		var ids []int64
		if err := t.SelectContext(t.ctx, &ids, `SELECT DISTINCT `+what+`_id FROM `+parts+its, id, revision,
			revision); err != nil {
			return err
		}
		if err := t.run(`DELETE FROM `+parts+its, id, revision, revision); err != nil {
			return err
		}
		for _, one := range ids {
			if err := t.run(`DELETE FROM `+what+`s WHERE id = ? AND NOT EXISTS (SELECT 1 FROM `+parts+` WHERE `+what+
				`_id = ?)`, one, one); err != nil {
				return err
			}
		}
	}
	return nil
}
