package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"math"
	"time"

	"koinos/api"
)

type checkRow struct {
	ID      int64          `db:"id"`
	Sync    string         `db:"sync"`
	Kind    string         `db:"kind"`
	Asked   string         `db:"asked"`
	State   string         `db:"state"`
	Reason  string         `db:"reason"`
	Counts  string         `db:"counts"`
	Started string         `db:"started_at"`
	Ended   sql.NullString `db:"ended_at"`
	By      string         `db:"by"`
}

func (r *checkRow) check() (api.SyncCheck, error) {
	c := api.SyncCheck{ID: r.ID, Sync: r.Sync, State: r.State, Reason: r.Reason, StartedAt: parseTime(r.Started),
		EndedAt: parseTime(r.Ended.String), By: r.By}
	if err := json.Unmarshal([]byte(r.Asked), &c.NewCheck); err != nil {
		return c, err
	}
	return c, json.Unmarshal([]byte(r.Counts), &c.Counts)
}

// AddCheck records a comparison that begins, with its job; it sets the comparison's ID.
func (s *Store) AddCheck(ctx context.Context, c *api.SyncCheck) error {
	asked, err := json.Marshal(c.NewCheck)
	if err != nil {
		return err
	}
	return s.Write(ctx, func(t *Tx) error {
		res, err := t.exec(`INSERT INTO checks (sync, kind, asked, state, reason, counts, started_at, by)
		  VALUES (?, ?, ?, ?, '', '{}', ?, ?)`, c.Sync, c.Kind, string(asked), c.State, at(c.StartedAt), c.By)
		if err != nil {
			return err
		}
		if c.ID, err = res.LastInsertId(); err != nil {
			return err
		}
		return t.AddJob(api.Job{Kind: api.CheckJob, Subject: c.ID, DueAt: c.StartedAt, Key: c.Sync})
	})
}

// SaveCheck stores how far a comparison has come, with the rows that it found since. With anew set, it deletes the rows
// of an earlier attempt.
func (s *Store) SaveCheck(ctx context.Context, c *api.SyncCheck, rows []api.CheckRow, anew bool) error {
	counts, err := json.Marshal(c.Counts)
	if err != nil {
		return err
	}
	texts := make([]string, len(rows))
	for i := range rows {
		b, err := json.Marshal(&rows[i])
		if err != nil {
			return err
		}
		texts[i] = string(b)
	}
	var ended any
	if !c.EndedAt.IsZero() {
		ended = at(c.EndedAt)
	}
	return s.Write(ctx, func(t *Tx) error {
		if anew {
			if err := t.run(`DELETE FROM check_rows WHERE check_id = ?`, c.ID); err != nil {
				return err
			}
		}
		for i := range rows {
			if err := t.run(`INSERT INTO check_rows VALUES (?, ?, ?, ?, ?, ?) ON CONFLICT DO UPDATE
				SET content = excluded.content`,
				c.ID, rows[i].N, rows[i].Outcome, rows[i].Part, rows[i].OrderID, texts[i]); err != nil {
				return err
			}
		}
		return t.run(`UPDATE checks SET state = ?, reason = ?, counts = ?, ended_at = ? WHERE id = ?`, c.State,
			c.Reason,
			string(counts), ended, c.ID)
	})
}

// Check returns a comparison.
func (s *Store) Check(ctx context.Context, id int64) (api.SyncCheck, error) {
	var rows []checkRow
	err := s.r.SelectContext(ctx, &rows, `SELECT * FROM checks WHERE id = ?`, id)
	if err == nil && len(rows) == 0 {
		err = fmt.Errorf("check %d: %w", id, ErrNotFound)
	}
	if err != nil {
		return api.SyncCheck{}, err
	}
	return rows[0].check()
}

// Checks lists the comparisons of a sync, newest first.
func (s *Store) Checks(ctx context.Context, sync string, before int64, limit int) ([]api.SyncCheck, error) {
	if before == 0 {
		before = math.MaxInt64
	}
	var rows []checkRow
	if err := s.r.SelectContext(ctx, &rows, `SELECT * FROM checks WHERE sync = ? AND id < ? ORDER BY id DESC LIMIT ?`,
		sync,
		before, limit); err != nil {
		return nil, err
	}
	list := make([]api.SyncCheck, len(rows))
	for i := range rows {
		var err error
		if list[i], err = rows[i].check(); err != nil {
			return nil, err
		}
	}
	return list, nil
}

// LastReconcile says when the last reconcile of a sync began, and whether it still runs.
func (s *Store) LastReconcile(ctx context.Context, sync string) (began time.Time, running bool, err error) {
	var rows []checkRow
	err = s.r.SelectContext(ctx, &rows,
		`SELECT * FROM checks WHERE sync = ? AND kind = 'reconcile' ORDER BY id DESC LIMIT 1`,
		sync)
	if err != nil || len(rows) == 0 {
		return began, false, err
	}
	return parseTime(rows[0].Started), rows[0].State == api.SyncRunning, nil
}

// CheckRows lists what a comparison found behind a row, with an outcome if one is given.
func (s *Store) CheckRows(ctx context.Context, id int64, outcome string, after, limit int) ([]api.CheckRow, error) {
	var texts []string
	if err := s.r.SelectContext(ctx, &texts, `SELECT content FROM check_rows WHERE check_id = ? AND n > ?
	  AND (? = '' OR outcome = ?) ORDER BY n LIMIT ?`, id, after, outcome, outcome, limit); err != nil {
		return nil, err
	}
	list := make([]api.CheckRow, len(texts))
	for i, text := range texts {
		if err := json.Unmarshal([]byte(text), &list[i]); err != nil {
			return nil, err
		}
	}
	return list, nil
}
