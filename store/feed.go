package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"math"

	"koinos/api"
	"koinos/core/origin"
)

const selectEvents = `SELECT e.n, e.order_id, e.revision, e.at, e.by, e.action, e.load_id, e.load_seq,
  CASE WHEN e.n >= ? THEN e.changes END AS changes, CASE WHEN e.n < ? THEN json_array_length(e.changes) END AS left_out, e.trace, coalesce(l.document, e.document) AS document,
  d.name AS document_name, l.mapping, l.mapping_version, l.lists, s.interchange, s.seq AS set_seq
  FROM events e LEFT JOIN loads l ON l.id = e.load_id LEFT JOIN documents d ON d.sha = coalesce(l.document, e.document)
  LEFT JOIN sets s ON (s.interchange, s.seq) = (SELECT x.interchange, x.seq FROM set_orders so JOIN sets x ON x.interchange = so.interchange AND x.seq = so.set_seq
    JOIN interchanges i ON i.id = so.interchange WHERE so.order_id = e.order_id AND i.direction = 'in'
    AND (x.load_id = e.load_id OR x.load_id IS NULL AND e.load_id IS NULL AND so.order_revision = e.revision) LIMIT 1) WHERE `

// mostChanges is how many bytes of changes, as JSON, are read at once.
const mostChanges = 4 << 20

// Events lists what happened to all orders behind a number, at most limit events, and says whether there are more.
// There may be fewer, where they changed thousands of lines.
func (s *Store) Events(ctx context.Context, after int64, limit int) (list []api.Event, more bool, err error) {
	last, more, err := within(ctx, s.r, `SELECT n AS at, coalesce(length(changes), 0) + coalesce(length(trace), 0) AS size
	  FROM events WHERE n > ? ORDER BY n LIMIT ?`, limit, after)
	if err == nil {
		list, err = readEvents(ctx, s.r, 0, `e.n > ? AND e.n <= ? ORDER BY e.n`, after, last)
	}
	return list, more, err
}

// within finds the last row whose changes are read together with those of the rows before it. The query gives the
// number and size of one row more than limit. more says that there are further rows.
func within(ctx context.Context, q querier, query string, limit int, args ...any) (last int64, more bool, err error) {
	var rows []struct{ At, Size int64 }
	if err := q.SelectContext(ctx, &rows, query, append(args, limit+1)...); err != nil {
		return 0, false, err
	}
	size := int64(0)
	for i, r := range rows {
		if size += r.Size; i == limit || i > 0 && size > mostChanges {
			return last, true, nil
		}
		last = r.At
	}
	return last, false, nil
}

// eventsOf reads the events of an order. Of one that changed often, and thousands of lines each time, the older changes
// are only counted.
func eventsOf(ctx context.Context, q querier, id int64) ([]api.Event, error) {
	first, more, err := within(ctx, q, `SELECT n AS at, coalesce(length(changes), 0) AS size
	  FROM events WHERE order_id = ? ORDER BY n DESC LIMIT ?`, math.MaxInt32, id)
	if err != nil {
		return nil, err
	}
	if !more {
		first = 0
	}
	return readEvents(ctx, q, first, `e.order_id = ? ORDER BY e.n`, id)
}

// readEvents reads events; those before the number from are without their changes.
func readEvents(ctx context.Context, q querier, from int64, where string, args ...any) ([]api.Event, error) {
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
		LeftOut      sql.NullInt64  `db:"left_out"`
		Trace        sql.NullString `db:"trace"`
		Document     sql.NullString `db:"document"`
		DocumentName sql.NullString `db:"document_name"`
		Mapping      sql.NullString `db:"mapping"`
		Version      sql.NullInt64  `db:"mapping_version"`
		Lists        sql.NullString `db:"lists"`
		Interchange  sql.NullInt64  `db:"interchange"`
		Set          sql.NullInt64  `db:"set_seq"`
	}
	if err := q.SelectContext(ctx, &rows, selectEvents+where, append([]any{from, from}, args...)...); err != nil {
		return nil, err
	}
	events := make([]api.Event, len(rows))
	for i := range rows {
		r, e := &rows[i], &events[i]
		*e = api.Event{N: r.N, OrderID: r.OrderID, Revision: r.Revision, Action: r.Action, LeftOut: int(r.LeftOut.Int64),
			Origin: origin.Origin{At: parseTime(r.At), By: r.By, Document: r.Document.String,
				DocumentName: r.DocumentName.String,
				Load:         r.Load.Int64, Seq: r.Seq, Mapping: r.Mapping.String, Version: int(r.Version.Int64),
				Interchange: r.Interchange.Int64, Set: int(r.Set.Int64)}}
		var err error
		if r.Changes.Valid {
			e.Changes, err = changesFrom(r.Changes.String)
		}
		if r.Trace.Valid && err == nil {
			err = json.Unmarshal([]byte(r.Trace.String), &e.Trace)
		}
		if r.Lists.Valid && err == nil {
			err = json.Unmarshal([]byte(r.Lists.String), &e.Origin.Lists)
		}
		if err != nil {
			return nil, fmt.Errorf("event %d: %w", r.N, err)
		}
	}
	return events, nil
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
	trace, changed := *o.Events[base].Trace, map[origin.Value]bool{}
	for i := base + 1; i < len(o.Events); i++ {
		if o.Events[i].LeftOut > 0 { // any value may have become another since
			return o.Events[base].Origin, origin.Trace{}
		}
		for _, c := range o.Events[i].Changes {
			changed[origin.Value{Line: c.LineID, Field: c.Field}] = true
		}
	}
	trace.Drop(changed)
	to := make([]int, len(trace.Rows))
	for n := range o.Lines {
		if id := o.Lines[n].ID; id <= len(to) {
			to[id-1] = n + 1
		}
	}
	return o.Events[base].Origin, trace.Renumber(to)
}
