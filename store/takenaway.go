package store

import (
	"context"
	"encoding/json"
	"slices"
	"time"
)

// TakenAway says that something was kept for a limited time, which is over.
type TakenAway struct {
	What string // a whole clause's subject and verb, such as "the bytes of document x were"
	At   time.Time
}

func (t *TakenAway) Error() string {
	return t.What + " taken away" + t.On()
}

// On is the day of the removal in words, if it is known.
func (t *TakenAway) On() string {
	if t.At.IsZero() {
		return ""
	}
	return " on " + t.At.Format(time.DateOnly)
}

// settled are the orders that are complete or removed. What explains other orders is kept.
const settled = `(o.id IS NULL OR o.status IN ('complete', 'cancelled'))`

// key is the position of a sweep: a row's place in the order of its query.
type key struct {
	A string `db:"a"`
	B any    `db:"b"`
}

// sweep reads the result of a query outside the writer's transaction, and passes it on a number of rows at a time. The
// query returns its rows as a and b, those behind (?, ?) in their order, at most ?; take receives their b.
func (s *Store) sweep(ctx context.Context, query string, args []any, take func(keys []any) error) error {
	for last := (key{"", -1}); ctx.Err() == nil; {
		var rows []key
		if err := s.r.SelectContext(ctx, &rows, query,
			append(append([]any{}, args...), last.A, last.B, rowsATurn)...); err != nil {
			return err
		}
		keys := make([]any, len(rows))
		for i := range rows {
			if b, ok := rows[i].B.([]byte); ok {
				rows[i].B = string(b)
			}
			keys[i] = rows[i].B
		}
		if len(rows) > 0 {
			last = rows[len(rows)-1]
			if err := take(keys); err != nil {
				return err
			}
		}
		if len(rows) < rowsATurn {
			return nil
		}
	}
	return ctx.Err()
}

// changing makes a function for sweep that runs one statement for each batch. The statement receives the rows' b as a
// JSON array, behind args.
func (s *Store) changing(ctx context.Context, query string, args ...any) func(keys []any) error {
	return func(keys []any) error {
		text, err := json.Marshal(keys)
		if err != nil {
			return err
		}
		return s.Write(ctx, func(t *Tx) error { return t.run(query, append(slices.Clone(args), string(text))...) })
	}
}

// takeSnapshots deletes the contents of orders before their changes, if the order is complete or removed.
func (s *Store) takeSnapshots(ctx context.Context, before string, _ time.Time) error {
	return s.sweep(ctx, `SELECT e.at AS a, e.n AS b FROM events e LEFT JOIN orders o ON o.id = e.order_id
	  WHERE length(e.was) > 4 AND e.at < ? AND `+settled+` AND (e.at, e.n) > (?, ?) ORDER BY e.at, e.n LIMIT ?`,
		[]any{before}, s.changing(ctx, `UPDATE events SET was = '' WHERE n IN (SELECT value FROM json_each(?))`))
}

// oldLoads are loads that ended before a time, wait for nobody, and still have rows.
const oldLoads = `SELECT l.id FROM loads l WHERE l.dry_run = ? AND l.ended_at < ? AND l.status NOT IN ('waiting', 'running', 'paused')
  AND (l.taken_away_at IS NULL OR EXISTS (SELECT 1 FROM load_orders lo WHERE lo.load_id = l.id))
  AND NOT EXISTS (SELECT 1 FROM held h WHERE h.load_id = l.id)
  AND NOT EXISTS (SELECT 1 FROM runs r WHERE r.id = l.run AND (r.ended_at IS NULL OR r.ended_at >= ?2))`

// takeLoads deletes the findings and rows of loads. What became of orders that are still open is kept, because later
// steps of a sequence, and the reasons of values, are read from it.
func (s *Store) takeLoads(ctx context.Context, before string, now time.Time) error {
	var ids []int64
	if err := s.r.SelectContext(ctx, &ids, oldLoads, false, before); err != nil {
		return err
	}
	for _, id := range ids {
		if err := s.takeLoad(ctx, id, settled, now); err != nil {
			return err
		}
	}
	return nil
}

// takeLoad deletes the rows of a load, and the outcomes of those of its orders for which holds is true.
func (s *Store) takeLoad(ctx context.Context, id int64, holds string, now time.Time) error {
	// The removal is recorded first, so that nobody takes a part for the whole.
	if err := s.Write(ctx, func(t *Tx) error {
		return t.run(`UPDATE loads SET taken_away_at = ? WHERE id = ? AND taken_away_at IS NULL`, at(now), id)
	}); err != nil {
		return err
	}
	for _, query := range []string{
		`DELETE FROM findings WHERE load_id = ?1 AND n IN (SELECT n FROM findings WHERE load_id = ?1 LIMIT ?)`,
		`DELETE FROM load_changes WHERE load_id = ?1 AND seq IN (SELECT seq FROM load_changes WHERE load_id = ?1 LIMIT ?)`,
		`DELETE FROM load_spans WHERE load_id = ?1 AND (sheet, first) IN
		  (SELECT sheet, first FROM load_spans WHERE load_id = ?1 LIMIT ?)`,
	} {
		if err := s.inTurns(ctx, query, id); err != nil {
			return err
		}
	}
	return s.sweep(ctx, `SELECT '' AS a, lo.seq AS b FROM load_orders lo LEFT JOIN orders o ON o.id = lo.order_id
	  WHERE lo.load_id = ? AND `+holds+` AND ('', lo.seq) > (?, ?) ORDER BY lo.seq LIMIT ?`, []any{id},
		s.changing(ctx, `DELETE FROM load_orders WHERE load_id = ? AND seq IN (SELECT value FROM json_each(?))`, id))
}

// takeDryRuns deletes dry runs completely, with the texts of mappings that only they used.
func (s *Store) takeDryRuns(ctx context.Context, before string, now time.Time) error {
	var ids []int64
	if err := s.r.SelectContext(ctx, &ids, oldLoads, true, before); err != nil {
		return err
	}
	for _, id := range ids {
		if err := s.takeLoad(ctx, id, "true", now); err != nil {
			return err
		}
		if err := s.Write(ctx, func(t *Tx) error { return t.run(`DELETE FROM loads WHERE id = ?`, id) }); err != nil {
			return err
		}
	}
	return s.inTurns(ctx, `DELETE FROM mappings WHERE (name, version) IN (SELECT name, version FROM mappings m
	  WHERE version < 0 AND stored_at < ? AND NOT EXISTS
	    (SELECT 1 FROM loads l WHERE l.mapping = m.name AND l.mapping_version = m.version) LIMIT ?)`, before)
}

// takeDocuments deletes the bytes of documents that have not been used since and that no open order came from. That
// they came stays recorded.
func (s *Store) takeDocuments(ctx context.Context, before string, now time.Time) error {
	const unused = `NOT EXISTS (SELECT 1 FROM loads l WHERE l.document = d.sha
	    AND (l.started_at >= ?1 OR l.status IN ('waiting', 'running', 'paused')))
	  AND NOT EXISTS (SELECT 1 FROM interchanges i WHERE i.document = d.sha
	    AND (i.at >= ?1 OR i.state IN ('arriving', 'received', 'held', 'doubtful', 'unknown', 'ready')))
	  AND NOT EXISTS (SELECT 1 FROM files f WHERE f.document = d.sha AND f.at >= ?1)
	  AND NOT EXISTS (SELECT 1 FROM arrivals a WHERE a.document = d.sha AND a.at >= ?1)
	  AND NOT EXISTS (SELECT 1 FROM runs r WHERE r.document = d.sha AND (r.ended_at IS NULL OR r.ended_at >= ?1))`
	err := s.sweep(ctx, `SELECT d.received_at AS a, d.sha AS b FROM documents d
	  WHERE d.taken_away_at IS NULL AND d.received_at < ?1 AND `+unused+`
	  AND NOT EXISTS (SELECT 1 FROM loads l JOIN load_orders lo ON lo.load_id = l.id JOIN orders o ON o.id = lo.order_id
	    WHERE l.document = d.sha AND NOT `+settled+`)
	  AND NOT EXISTS (SELECT 1 FROM interchanges i JOIN set_orders t ON t.interchange = i.id JOIN orders o ON o.id = t.order_id
	    WHERE i.document = d.sha AND NOT `+settled+`)
	  AND (d.received_at, d.sha) > (?, ?) ORDER BY d.received_at, d.sha LIMIT ?`, []any{before},
		s.changing(ctx, `UPDATE documents AS d SET taken_away_at = ?2, body = NULL
		  WHERE sha IN (SELECT value FROM json_each(?3)) AND `+unused, before, at(now)))
	if err != nil {
		return err
	}
	return s.removeFiles(ctx, now)
}

// removeAgain is for how long files are searched that a crash, or a full disk, has left behind.
const removeAgain = 3

// removeFiles removes the files of documents whose bytes were taken away.
func (s *Store) removeFiles(ctx context.Context, now time.Time) error {
	return s.sweep(ctx, `SELECT taken_away_at AS a, sha AS b FROM documents
	  WHERE taken_away_at IS NOT NULL AND taken_away_at >= ? AND (taken_away_at, sha) > (?, ?)
	  ORDER BY taken_away_at, sha LIMIT ?`, []any{at(now.AddDate(0, 0, -removeAgain))},
		func(keys []any) error {
			for _, sha := range keys {
				if err := s.removeFile(sha.(string), now); err != nil {
					return err
				}
			}
			return nil
		})
}
