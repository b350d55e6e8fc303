package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"

	"koinos/api"
	"koinos/core/order"
	"koinos/core/origin"
)

const selectEvents = `SELECT e.n, e.order_id, e.revision, e.at, e.by, e.action, e.load_id, e.load_seq, e.changes, e.trace, coalesce(l.document, e.document) AS document,
  d.name AS document_name, l.mapping, l.mapping_version, l.lists, s.interchange, s.seq AS set_seq
  FROM events e LEFT JOIN loads l ON l.id = e.load_id LEFT JOIN documents d ON d.sha = coalesce(l.document, e.document)
  LEFT JOIN sets s ON (s.interchange, s.seq) = (SELECT x.interchange, x.seq FROM set_orders so JOIN sets x ON x.interchange = so.interchange AND x.seq = so.set_seq
    JOIN interchanges i ON i.id = so.interchange WHERE so.order_id = e.order_id AND i.direction = 'in'
    AND (x.load_id = e.load_id OR x.load_id IS NULL AND e.load_id IS NULL AND so.order_revision = e.revision) LIMIT 1) WHERE `

// Events lists what happened to all orders behind a number, at most limit events.
func (s *Store) Events(ctx context.Context, after int64, limit int) ([]api.Event, error) {
	return readEvents(ctx, s.r, `e.n > ? ORDER BY e.n LIMIT ?`, after, limit)
}

func readEvents(ctx context.Context, q querier, where string, args ...any) ([]api.Event, error) {
	var rows []struct {
		N            int64          `db:"n"`
		OrderID      int64          `db:"order_id"`
		Revision     int            `db:"revision"`
		At           string         `db:"at"`
		By           string         `db:"by"`
		Action       string         `db:"action"`
		Load         sql.NullInt64  `db:"load_id"`
		Seq          int            `db:"load_seq"`
		Changes      sql.NullString `db:"changes"`
		Trace        sql.NullString `db:"trace"`
		Document     sql.NullString `db:"document"`
		DocumentName sql.NullString `db:"document_name"`
		Mapping      sql.NullString `db:"mapping"`
		Version      sql.NullInt64  `db:"mapping_version"`
		Lists        sql.NullString `db:"lists"`
		Interchange  sql.NullInt64  `db:"interchange"`
		Set          sql.NullInt64  `db:"set_seq"`
	}
	if err := q.SelectContext(ctx, &rows, selectEvents+where, args...); err != nil {
		return nil, err
	}
	events := make([]api.Event, len(rows))
	for i := range rows {
		r, e := &rows[i], &events[i]
		*e = api.Event{N: r.N, OrderID: r.OrderID, Revision: r.Revision, Action: r.Action,
			Origin: origin.Origin{At: parseTime(r.At), By: r.By, Document: r.Document.String,
				DocumentName: r.DocumentName.String,
				Load:         r.Load.Int64, Seq: r.Seq, Mapping: r.Mapping.String, Version: int(r.Version.Int64),
				Interchange: r.Interchange.Int64, Set: int(r.Set.Int64)}}
		for _, part := range []struct {
			from sql.NullString
			to   any
		}{{r.Changes, &e.Changes}, {r.Trace, &e.Trace}, {r.Lists, &e.Origin.Lists}} {
			if part.from.Valid {
				if err := json.Unmarshal([]byte(part.from.String), part.to); err != nil {
					return nil, fmt.Errorf("event %d: %w", r.N, err)
				}
			}
		}
	}
	return events, nil
}

var (
	wholeOrder = order.EncoderOf[order.Order]()
	oneChange  = order.EncoderOf[order.Change]()
)

// Snapshot writes down what the order was, unless that has been done. A load does it outside the writer's transaction.
func (c *Changed) Snapshot() (err error) {
	if c.was == nil {
		c.was, err = wholeOrder.Append(make([]byte, 0, 512+256*len(c.Was.Lines)), c.Was)
	}
	return err
}

// Text is the JSON of the changes, once they are stored.
func (c *Changed) Text() string { return string(c.text) }

// note records that something happened to an order, and its content before.
func (s *Changes) note(c *Changed) (err error) {
	if err := c.Snapshot(); err != nil {
		return err
	}
	if c.text, err = oneChange.AppendAll(make([]byte, 0, 96*len(c.Changes)), c.Changes); err != nil {
		return err
	}
	s.events.row().Int64(c.Is.ID).Int(c.Is.Revision).Text(at(s.when)).Text(c.By).Text(c.Action).Int64OrNull(c.Load).
		Int(c.Seq).TextOrNull(c.Document).TextBytes(c.Trace).TextBytes(c.text).TextBytes(c.was)
	return s.events.err
}

// Base is the arrival that an order's values come from, except those that later events changed: the newest arrival of
// the order as a whole. The trace goes by positions of lines, without what was changed since.
func (o *StoredOrder) Base() (origin.Origin, origin.Trace) {
	base := 0
	for i := range o.Events {
		if a := o.Events[i].Action; a == "revised" || a == "created" {
			base = i
		}
	}
	if len(o.Events) == 0 || o.Events[base].Trace == nil {
		if len(o.Events) > 0 {
			return o.Events[base].Origin, origin.Trace{}
		}
		return origin.Origin{}, origin.Trace{}
	}
	trace := *o.Events[base].Trace
	for i := base + 1; i < len(o.Events); i++ {
		for _, c := range o.Events[i].Changes {
			trace.Drop(c.LineID, c.Field)
		}
	}
	to := make([]int, len(trace.Rows))
	for n := range o.Lines {
		if id := o.Lines[n].ID; id <= len(to) {
			to[id-1] = n + 1
		}
	}
	return o.Events[base].Origin, trace.Renumber(to)
}
