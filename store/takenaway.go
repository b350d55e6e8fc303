package store

import (
	"context"
	"encoding/json"
	"slices"
	"time"
)

// TakenAway is that something was kept for a time only, which is over.
type TakenAway struct {
	What string // a whole clause's subject and verb, such as "the bytes of document x were"
	At   time.Time
}

func (t *TakenAway) Error() string {
	return t.What + " taken away" + t.On()
}

// On is the day of it in words, where it is known.
func (t *TakenAway) On() string {
	if t.At.IsZero() {
		return ""
	}
	return " on " + t.At.Format(time.DateOnly)
}

// settled are the orders of which nothing more is to come, and those that are gone: what explains the others is kept.
const settled = `(o.id IS NULL OR o.status IN ('complete', 'cancelled'))`

// key is where a sweep stands: a row's place in the order of its query.
type key struct {
	A string `db:"a"`
	B any    `db:"b"`
}

// sweep looks, as a reader, through what a query finds, and hands it on some rows at a time. The query gives its
// rows as a and b, those behind (?, ?) in their order, at most ?; take gets their b.
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

// changing is what a sweep has one statement do to each of its turns; the statement takes the rows' b as a JSON
// array, behind args.
func (s *Store) changing(ctx context.Context, query string, args ...any) func(keys []any) error {
	return func(keys []any) error {
		text, err := json.Marshal(keys)
		if err != nil {
			return err
		}
		return s.Write(ctx, func(t *Tx) error { return t.run(query, append(slices.Clone(args), string(text))...) })
	}
}

// takeSnapshots takes away what orders were before their changes, where nothing more comes of the order.
func (s *Store) takeSnapshots(ctx context.Context, before string, _ time.Time) error {
	return s.sweep(ctx, `SELECT e.at AS a, e.n AS b FROM events e LEFT JOIN orders o ON o.id = e.order_id
	  WHERE length(e.was) > 4 AND e.at < ? AND `+settled+` AND (e.at, e.n) > (?, ?) ORDER BY e.at, e.n LIMIT ?`,
		[]any{before}, s.changing(ctx, `UPDATE events SET was = '' WHERE n IN (SELECT value FROM json_each(?))`))
}

// oldLoads are loads that ended before a time, wait for nobody, and of which something is there still.
const oldLoads = `SELECT l.id FROM loads l WHERE l.dry_run = ? AND l.ended_at < ? AND l.status NOT IN ('waiting', 'running', 'paused')
  AND (l.taken_away_at IS NULL OR EXISTS (SELECT 1 FROM load_orders lo WHERE lo.load_id = l.id))
  AND NOT EXISTS (SELECT 1 FROM held h WHERE h.load_id = l.id)
  AND NOT EXISTS (SELECT 1 FROM runs r WHERE r.id = l.run AND (r.ended_at IS NULL OR r.ended_at >= ?2))`

// takeLoads takes away what loads found and what became of their rows. That orders which are still open came of
// them is kept, since later steps of a sequence, and the reasons of values, are read from it.
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

// takeLoad takes the rows of a load away, and of what became of its orders those of which holds is true.
func (s *Store) takeLoad(ctx context.Context, id int64, holds string, now time.Time) error {
	// First it is said, so that nobody takes some of it for all.
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

// takeDryRuns takes dry runs away whole, with the texts of mappings that only they had.
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

// takeDocuments takes away the bytes of documents: of those that nothing has been done with since, and out of
// which no order came that is still open. That they came is known for good.
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

// removeAgain is for how long files are looked for that a crash, or a full disk, has left behind.
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
