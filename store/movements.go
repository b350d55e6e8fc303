package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"koinos/core/order"
	"koinos/store/pack"
)

var (
	movementColumns     = columnsOf("movements", "id", "kind", "partner", "number", "moved_on", "more")
	movementPartColumns = columnsOf("movement_parts", "order_id", "movement_id", "revision", "lines")

	movedLine  = order.EncoderOf[order.MovementLine]("order_revision")
	billedLine = order.EncoderOf[order.InvoiceLine]("order_revision")
)

// moveStated posts what an order says has moved beyond its movements. Nobody gave this movement a number, so its number
// is the order's with its revision.
func (s *Changes) moveStated(was, is *order.Order) error {
	before := map[int]*order.Line{}
	if was != nil {
		for i := range was.Lines {
			before[was.Lines[i].ID] = &was.Lines[i]
		}
	}
	for _, kind := range []order.MovementKind{order.Shipment, order.Receipt} {
		var moves []order.MovementLine
		for i := range is.Lines {
			l := &is.Lines[i]
			moved, sofar := *l.Moved(kind), order.Number{}
			if was == nil && moved.IsZero() {
				continue
			}
			if b := before[l.ID]; b != nil {
				sofar = *b.Moved(kind)
			}
			more, err := moved.Sub(sofar)
			if err != nil {
				return err
			}
			if more.Sign() < 0 {
				return fmt.Errorf("line %s: what has moved is never taken back by a smaller figure", l.Number)
			}
			if more.Sign() > 0 {
				moves = append(moves, order.MovementLine{Line: l.ID, Quantity: more})
			}
		}
		if len(moves) == 0 {
			continue
		}
		m := order.Movement{Kind: kind, Partner: is.Partner, Number: fmt.Sprintf("%s/%d", is.Number, is.Revision),
			On: order.Date(s.when.UTC().Format(time.DateOnly)), Lines: moves}
		if err := s.move(is, &m); err != nil {
			return err
		}
	}
	return nil
}

// move posts a movement of lines of an order, or adds them to the existing one of its number, which may move goods of
// several orders.
func (s *Changes) move(o *order.Order, m *order.Movement) error {
	key := MovementKey{m.Kind, m.Partner, m.Number}
	if err := s.Ask(key); err != nil {
		return err
	}
	known := s.movements[key]
	if known.ID == 0 {
		more := *m
		more.ID, more.Kind, more.Partner, more.Number, more.On, more.Lines = 0, "", "", "", "", nil
		text, err := json.Marshal(more)
		if err != nil {
			return err
		}
		if known.ID, err = s.t.nextMovement(); err != nil {
			return err
		}
		known.Reverses = m.Reverses
		s.movements[key] = known
		s.moved.row().Int64(known.ID).Text(string(m.Kind)).Text(m.Partner).Text(m.Number).TextOrNull(string(m.On)).
			TextBytes(text)
	}
	m.ID = known.ID
	s.parts.row().Int64(o.ID).Int64(m.ID).Int(o.Revision).TextBy(func(b []byte) ([]byte, error) {
		return movedLine.AppendAll(b, m.Lines)
	})
	return errors.Join(s.moved.err, s.parts.err)
}

// MovementKey identifies a movement.
type MovementKey struct {
	Kind            order.MovementKind
	Partner, Number string
}

// Posted is what is known about a movement; without an id it does not exist.
type Posted struct {
	ID       int64
	Reverses string
}

// nextMovement returns the id of a new movement; none is used twice.
func (t *Tx) nextMovement() (int64, error) {
	if t.lastMovement == 0 {
		var last sql.NullInt64
		if err := t.row(`SELECT max(seq) FROM sqlite_sequence WHERE name = 'movements'`, nil, &last); err != nil {
			return 0, err
		}
		t.lastMovement = last.Int64
	}
	t.lastMovement++
	return t.lastMovement, nil
}

// Ask finds out which of some movements exist. Movements that are asked for together take one query.
func (s *Changes) Ask(all ...MovementKey) error {
	all = slices.DeleteFunc(slices.Clone(all), func(k MovementKey) bool { _, known := s.movements[k]; return known })
	return readPosted(s.t.ctx, s.t, all, s.movements)
}

// readPosted reads what is known about some movements.
func readPosted(ctx context.Context, q querier, all []MovementKey, into map[MovementKey]Posted) error {
	type side struct {
		kind    order.MovementKind
		partner string
	}
	by := map[side][]string{}
	for _, k := range all {
		into[k] = Posted{}
		by[side{k.Kind, k.Partner}] = append(by[side{k.Kind, k.Partner}], k.Number)
	}
	for of, numbers := range by {
		text, err := json.Marshal(numbers)
		if err != nil {
			return err
		}
		if err := each(ctx, q, func(r *pack.Reader) error {
			into[MovementKey{of.kind, of.partner, r.Text()}] = Posted{r.Int64(), r.Text()}
			return nil
		}, `SELECT pack(number, id, more ->> 'reverses') FROM movements
		  WHERE kind = ? AND partner = ? AND number IN (SELECT value FROM json_each(?))`, string(of.kind), of.partner,
			string(text)); err != nil {
			return err
		}
	}
	return nil
}

// Reverses returns the number of the movement that a movement takes back, whatever orders it is of; "" if there is
// none. It returns false if the movement does not exist.
func (s *Changes) Reverses(kind order.MovementKind, partner, number string) (reverses string, there bool, err error) {
	key := MovementKey{kind, partner, number}
	if _, known := s.movements[key]; !known {
		err = s.Ask(key)
	}
	is := s.movements[key]
	return is.Reverses, is.ID > 0, err
}

func (t *Tx) addAnswer(o *order.Order, a *order.Answered) error {
	a.Revision = o.Revision
	text, err := json.Marshal(a)
	if err != nil {
		return err
	}
	return t.run(`INSERT INTO answers (order_id, revision, content) VALUES (?, ?, ?)`, o.ID, o.Revision, string(text))
}

func (t *Tx) addInvoice(o *order.Order, v *order.Invoice) error {
	if err := t.run(`INSERT INTO invoices (partner, number, invoiced_on, currency) VALUES (?, ?, ?, ?)
		ON CONFLICT DO NOTHING`, v.Partner, v.Number, null(string(v.On)), null(v.Currency)); err != nil {
		return err
	}
	if err := t.row(`SELECT id FROM invoices WHERE partner = ? AND number = ?`, []any{v.Partner, v.Number},
		&v.ID); err != nil {
		return err
	}
	lines, err := billedLine.AppendAll(nil, v.Lines)
	if err != nil {
		return err
	}
	part, err := json.Marshal(billed{v.InvoicePart, lines})
	if err != nil {
		return err
	}
	return t.run(`INSERT INTO invoice_parts (order_id, invoice_id, revision, content) VALUES (?, ?, ?, ?)`, o.ID, v.ID,
		o.Revision, string(part))
}

// NextInvoice returns the next number of the series of invoices.
func (t *Tx) NextInvoice() (number string, err error) {
	err = t.row(`UPDATE series SET next = next + 1 WHERE kind = 'invoice' RETURNING prefix || printf('%06d', next - 1)`,
		nil, &number)
	return number, err
}

// Revisions returns the revisions of orders, by their ids.
func (t *Tx) Revisions(ids []int64) (map[int64]int, error) {
	at := make(map[int64]int, len(ids))
	if len(ids) == 0 {
		return at, nil
	}
	where, arg := among("id", ids...)
	return at, each(t.ctx, t, func(r *pack.Reader) error { at[r.Int64()] = r.Int(); return nil },
		`SELECT pack(id, revision) FROM orders WHERE `+where, arg)
}

// OrdersMoved returns the orders that a movement of a partner, or of anybody, is of, oldest first.
func (s *Store) OrdersMoved(ctx context.Context, kind order.MovementKind, partner, number string) ([]int64, error) {
	return ordersMoved(ctx, s.r, kind, partner, number)
}

// OrdersBilled returns the numbers of the orders that an invoice is of, oldest first.
func (s *Store) OrdersBilled(ctx context.Context, partner, number string) (numbers []string, err error) {
	err = s.r.SelectContext(ctx, &numbers, `SELECT DISTINCT o.number FROM invoices v JOIN invoice_parts p ON p.invoice_id = v.id
	  JOIN orders o ON o.id = p.order_id WHERE v.partner = ? AND v.number = ? ORDER BY o.id`, partner, number)
	return numbers, err
}

// OrdersMoved is Store.OrdersMoved, including what the transaction has written.
func (t *Tx) OrdersMoved(kind order.MovementKind, partner, number string) ([]int64, error) {
	return ordersMoved(t.ctx, t, kind, partner, number)
}

func ordersMoved(ctx context.Context, q querier, kind order.MovementKind, partner, number string) (ids []int64,
	err error) {
	of := `(?2)`
	if partner == "" { // one after another, by the index
		of = `(WITH RECURSIVE each(partner) AS (SELECT min(partner) FROM movements WHERE kind = ?1
		  UNION ALL SELECT (SELECT min(m.partner) FROM movements m WHERE m.kind = ?1 AND m.partner > each.partner)
		  FROM each WHERE partner IS NOT NULL) SELECT partner FROM each)`
	}
	err = q.SelectContext(ctx, &ids, `SELECT DISTINCT p.order_id FROM movements m JOIN movement_parts p ON p.movement_id = m.id
	  WHERE m.kind = ?1 AND m.partner IN `+of+` AND m.number = ?3 ORDER BY p.order_id`, string(kind), partner, number)
	return ids, err
}
