package store

import (
	"cmp"
	"context"
	"database/sql"
	"encoding/json"
	"fmt"

	"koinos/core/order"
)

var (
	wholeOrder = order.EncoderOf[order.Order]()
	oneChange  = order.EncoderOf[order.Change]("at") // which follows from the place
)

// Snapshot writes down what the order was, unless that has been done. A load does it outside the writer's transaction.
// Where the rows of the lines stay, only what had moved and was invoiced of them is written down.
func (c *Changed) Snapshot() (err error) {
	if c.was != nil {
		return nil
	}
	was, size := c.Was, 512+256*len(c.Was.Lines)
	if c.sameLines = c.keepsLines(); c.sameLines {
		head := *was
		head.Lines, size = nil, 512
		for i := range was.Lines {
			if l := &was.Lines[i]; counted(l) {
				head.Lines = append(head.Lines, order.Line{ID: l.ID})
				count(&head.Lines[len(head.Lines)-1], l)
			}
		}
		was = &head
	}
	c.was, err = wholeOrder.Append(make([]byte, 0, size), was)
	return err
}

// counters are what movements, answers and invoices have counted of a line, besides what is stored with the line.
func counters(l *order.Line) [5]*order.Number {
	return [...]*order.Number{&l.Shipped, &l.Received, &l.Returned, &l.Backordered, &l.Invoiced}
}

// counted reports whether anything was counted of a line.
func counted(l *order.Line) bool {
	for _, n := range counters(l) {
		if !n.IsZero() {
			return true
		}
	}
	return false
}

// count gives a line the counters of another.
func count(l, from *order.Line) {
	to, of := counters(l), counters(from)
	for i := range to {
		*to[i] = *of[i]
	}
}

// orderBefore returns an order as it was before the event of a revision; nil if there is no such event. It returns a
// *TakenAway if that is not kept any more.
func orderBefore(ctx context.Context, q querier, id int64, revision int) (*order.Order, error) {
	was, sameLines, err := wasAt(ctx, q, `revision = ?`, id, revision)
	if err != nil || was == nil || !sameLines {
		return was, err
	}
	lines, err := linesAfter(ctx, q, id, revision)
	if err != nil {
		return nil, err
	}
	before := make(map[int]*order.Line, len(was.Lines))
	for i := range was.Lines {
		before[was.Lines[i].ID] = &was.Lines[i]
	}
	for i := range lines {
		count(&lines[i], cmp.Or(before[lines[i].ID], &order.Line{}))
	}
	was.Lines = lines
	return was, nil
}

// linesAfter returns the lines that an order had after an event, apart from what was counted of them: those before the
// next event that changed lines, or those of today.
func linesAfter(ctx context.Context, q querier, id int64, revision int) ([]order.Line, error) {
	next, _, err := wasAt(ctx, q, `revision > ? AND same_lines = 0`, id, revision)
	if err != nil {
		return nil, err
	}
	if next != nil {
		return next.Lines, nil
	}
	list, err := readHeads(ctx, q, id)
	if err == nil && len(list) == 0 {
		err = fmt.Errorf("order %d: %w", id, ErrNotFound)
	}
	if err != nil {
		return nil, err
	}
	err = readLines(ctx, q, list)
	return list[0].Lines, err
}

// wasAt returns what the first event of an order that meets a condition has kept of the order before it, and whether
// its lines are those of the order after it; nil if there is no such event.
func wasAt(ctx context.Context, q querier, where string, id int64, revision int) (was *order.Order, sameLines bool,
	err error) {
	var rows []struct {
		Revision  int    `db:"revision"`
		Was       string `db:"was"`
		SameLines bool   `db:"same_lines"`
	}
	if err := q.SelectContext(ctx, &rows, `SELECT revision, was, same_lines FROM events
	  WHERE order_id = ? AND was IS NOT NULL AND `+where+` ORDER BY revision LIMIT 1`, id, revision); err != nil ||
		len(rows) == 0 {
		return nil, false, err
	}
	r := &rows[0]
	if r.Was == "" {
		return nil, false, &TakenAway{What: fmt.Sprintf("what order %d was at revision %d was", id, r.Revision-1)}
	}
	was = &order.Order{}
	if err := json.Unmarshal([]byte(r.Was), was); err != nil {
		return nil, false, fmt.Errorf("order %d before revision %d: %w", id, r.Revision, err)
	}
	return was, r.SameLines, nil
}

// AsOf returns an order as it was at a revision; nil if that is the present one, or if it is not known.
func (s *Store) AsOf(ctx context.Context, id int64, revision int) (*order.Order, error) {
	tx, err := s.r.BeginTxx(ctx, &sql.TxOptions{ReadOnly: true}) // all of one moment
	if err != nil {
		return nil, err
	}
	defer func() { _ = tx.Rollback() }() // nothing was written
	return orderBefore(ctx, tx, id, revision+1)
}

// AsOf is Store.AsOf, including what the transaction has written.
func (t *Tx) AsOf(id int64, revision int) (*order.Order, error) {
	return orderBefore(t.ctx, t, id, revision+1)
}

// note records that something happened to an order, and its content before.
func (s *Changes) note(c *Changed) (err error) {
	if err := c.Snapshot(); err != nil {
		return err
	}
	changes, err := oneChange.AppendAll(make([]byte, 0, 96*len(c.Changes)), c.Changes)
	if err != nil {
		return err
	}
	s.events.row().Int64(c.Is.ID).Int(c.Is.Revision).Text(at(s.when)).Text(c.By).Text(c.Action).Int64OrNull(c.Load).
		Int(c.Seq).TextOrNull(c.Document).TextBytes(c.Trace).TextBytes(changes).TextBytes(c.was).Bool(c.sameLines)
	return s.events.err
}

// changesFrom reads changes as they are stored.
func changesFrom(text string) (all []order.Change, err error) {
	err = json.Unmarshal([]byte(text), &all)
	for i := range all {
		all[i].At = cmp.Or(all[i].At, all[i].Place.String()) // early versions wrote it down
	}
	return all, err
}
