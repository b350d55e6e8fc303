package store

import (
	"context"
	"database/sql"
	"fmt"
	"time"

	"koinos/api"
)

type linkRow struct {
	System   string `db:"system"`
	Record   string `db:"record"`
	OrderID  int64  `db:"order_id"`
	Part     int64  `db:"part"`
	Key      string `db:"key"`
	Number   string `db:"number"`
	Revision int    `db:"revision"`
	Agreed   string `db:"agreed"`
	At       string `db:"at"`
	Found    string `db:"found"`
	Base     string `db:"base"`
	Decided  string `db:"decided"`
}

func (r *linkRow) link() api.Link {
	return api.Link{System: r.System, Record: r.Record, OrderID: r.OrderID, Part: r.Part, Key: r.Key, Number: r.Number,
		Revision: r.Revision, Agreed: r.Agreed, Found: r.Found, Base: r.Base, Decided: r.Decided, At: parseTime(r.At)}
}

// Links returns the records of other systems that are linked to an order.
func (s *Store) Links(ctx context.Context, order int64) ([]api.Link, error) {
	var rows []linkRow
	err := s.r.SelectContext(ctx, &rows, `SELECT * FROM links WHERE order_id = ? ORDER BY system, record, part`, order)
	list := make([]api.Link, len(rows))
	for i := range rows {
		list[i] = rows[i].link()
	}
	return list, err
}

// LinkOf returns the link of a record; nil if no order is linked to it.
func (s *Store) LinkOf(ctx context.Context, system, record, key string) (*api.Link, error) {
	var rows []linkRow
	err := s.r.SelectContext(ctx, &rows, `SELECT * FROM links WHERE system = ? AND record = ? AND key = ?`, system,
		record,
		key)
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	l := rows[0].link()
	return &l, nil
}

// PutLink links an order to a record. A *TakenError says that another order is linked to that record.
func (s *Store) PutLink(ctx context.Context, l *api.Link, now time.Time) error {
	return s.Share(ctx, func(t *Tx) error { return t.putLink(l, now) })
}

func (t *Tx) putLink(l *api.Link, now time.Time) error {
	var other []int64
	if err := t.SelectContext(t.ctx, &other, `SELECT order_id FROM links
	  WHERE system = ? AND record = ? AND key = ? AND (order_id <> ? OR part <> ?)`, l.System, l.Record, l.Key, l.OrderID,
		l.Part); err != nil {
		return err
	}
	if len(other) > 0 {
		return &TakenError{Order: other[0]}
	}
	return t.run(`INSERT INTO links (system, record, order_id, part, key, number, revision, agreed, at, found, base, decided)
	  VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?) ON CONFLICT (system, record, order_id, part) DO UPDATE
	  SET key = excluded.key, number = excluded.number, revision = excluded.revision, agreed = excluded.agreed,
	      at = excluded.at, found = excluded.found, base = excluded.base, decided = excluded.decided`, l.System, l.Record, l.OrderID, l.Part, l.Key, l.Number, l.Revision, l.Agreed,
		at(now), l.Found, l.Base, l.Decided)
}

// DropLink removes the link of an order.
func (s *Store) DropLink(ctx context.Context, l *api.Link) error {
	return s.Share(ctx, func(t *Tx) error {
		return t.run(`DELETE FROM links WHERE system = ? AND record = ? AND order_id = ? AND part = ? AND key = ?`,
			l.System, l.Record,
			l.OrderID, l.Part, l.Key)
	})
}

// TakenError says that a record is linked to another order already.
type TakenError struct{ Order int64 }

func (e *TakenError) Error() string { return "the record is another order's" }

// FindOrder returns the id of the order that a text names: its number, the sender's number, or its id. If several have
// the sender's number, the error is a *SeveralError.
func (s *Store) FindOrder(ctx context.Context, text string) (int64, error) {
	for _, where := range []string{`number = ?`, `sender_number = ?`, `CAST(id AS TEXT) = ?`} {
		var ids []int64
		if err := s.r.SelectContext(ctx, &ids, `SELECT id FROM orders WHERE `+where+` LIMIT 2`, text); err != nil {
			return 0, err
		}
		switch len(ids) {
		case 1:
			return ids[0], nil
		case 2:
			return 0, &SeveralError{text}
		}
	}
	return 0, fmt.Errorf("order %s: %w", text, ErrNotFound)
}

// SeveralError says that several orders have a number.
type SeveralError struct{ Number string }

func (e *SeveralError) Error() string {
	return fmt.Sprintf("several orders have the number %q; name one by ours or by its id", e.Number)
}

// Unanswered counts the records of a kind that were written before a time and not answered, and returns the time of the
// oldest; it is zero if there are none.
func (s *Store) Unanswered(ctx context.Context, system, record string, before time.Time) (n int, oldest time.Time,
	err error) {
	var row struct {
		N  int            `db:"n"`
		At sql.NullString `db:"at"`
	}
	err = s.r.GetContext(ctx, &row, `SELECT count(*) n, min(at) at FROM links WHERE system = ? AND record = ? AND at < ?
	  AND found = '' AND revision > 0`, system, record, at(before))
	return row.N, parseTime(row.At.String), err
}

// UnansweredLinks lists them, the oldest first, after skipping a number of them.
func (s *Store) UnansweredLinks(ctx context.Context, system, record string, before time.Time, behind int64,
	limit int) ([]api.Link,
	error) {
	var rows []linkRow
	err := s.r.SelectContext(ctx, &rows, `SELECT * FROM links WHERE system = ? AND record = ? AND at < ? AND found = ''
	  AND revision > 0 ORDER BY at, order_id, part LIMIT ? OFFSET ?`, system, record, at(before), limit, behind)
	list := make([]api.Link, len(rows))
	for i := range rows {
		list[i] = rows[i].link()
	}
	return list, err
}

// LinksOfFile returns the links of the records in a file.
func (s *Store) LinksOfFile(ctx context.Context, system, record, id string) ([]api.Link, error) {
	var rows []linkRow
	err := s.r.SelectContext(ctx, &rows,
		`SELECT * FROM links WHERE system = ? AND record = ? AND (key = ? OR key > ? || '/' AND
	  key < ? || '0') ORDER BY length(key), key`, system, record, id, id, id)
	list := make([]api.Link, len(rows))
	for i := range rows {
		list[i] = rows[i].link()
	}
	return list, err
}

// BroughtBy returns the system and the kind of record that an order got a revision from; blank if it came otherwise.
func (s *Store) BroughtBy(ctx context.Context, order int64, revision int) (system, record string, err error) {
	var rows []struct {
		System string `db:"system"`
		Record string `db:"record"`
	}
	err = s.r.SelectContext(ctx, &rows, `SELECT coalesce(l.options ->> 'hold_system', '') system,
	  coalesce(l.options ->> 'hold_record', '') record FROM events e JOIN loads l ON l.id = e.load_id
	  WHERE e.order_id = ? AND e.revision = ?`, order, revision)
	for _, r := range rows {
		system, record = r.System, r.Record
	}
	return system, record, err
}
