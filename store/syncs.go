package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"math"
	"time"

	"koinos/api"
	"koinos/core/uses"
)

// PutSync stores a sync. If its text is new, it becomes a new version. A sync with a new name is active, and all orders
// are waiting for it.
func (s *Store) PutSync(ctx context.Context, y api.Sync) (kept api.Sync, err error) {
	var version int
	err = s.Write(ctx, func(t *Tx) (err error) {
		version, err = t.keepText(uses.Sync, y.Name, y.Text, y.StoredBy, y.StoredAt)
		if err != nil {
			return err
		}
		return t.run(`INSERT INTO sync_states SELECT ?, 'active', '', ?, coalesce(max(n), 0), 0 FROM events WHERE true
		  ON CONFLICT DO NOTHING`, y.Name, at(y.StoredAt))
	})
	if err != nil {
		return kept, err
	}
	return s.Sync(ctx, y.Name, version)
}

func (r *systemRow) sync() api.Sync {
	return api.Sync{Name: r.Name, Version: r.Version, Text: r.Text, StoredAt: parseTime(r.StoredAt),
		StoredBy: r.StoredBy}
}

// Sync returns a version of a sync; 0 is the newest.
func (s *Store) Sync(ctx context.Context, name string, version int) (api.Sync, error) {
	var row systemRow
	err := s.r.GetContext(ctx, &row, `SELECT * FROM syncs WHERE name = ? AND (? = 0 OR version = ?)
	  ORDER BY version DESC LIMIT 1`, name, version, version)
	return row.sync(), named(err, "sync %s", name)
}

// SyncVersions returns the newest version of every sync, by name, which is cheap.
func (s *Store) SyncVersions(ctx context.Context) (map[string]int, error) {
	var rows []struct {
		Name    string `db:"name"`
		Version int    `db:"version"`
	}
	err := s.r.SelectContext(ctx, &rows, `SELECT name, max(version) version FROM syncs GROUP BY name`)
	all := make(map[string]int, len(rows))
	for _, r := range rows {
		all[r.Name] = r.Version
	}
	return all, err
}

// Progress is how far a sync has read the change feed.
type Progress struct {
	Name     string        `db:"name"`
	State    string        `db:"state"`
	Reason   string        `db:"reason"`
	SinceAt  string        `db:"since"`
	Since    time.Time     `db:"-"`
	Position int64         `db:"position"` // number of the last event
	Filled   sql.NullInt64 `db:"filled"`   // id of the last order that was looked at for the first time; null: all were
}

// Progresses returns how far each sync has come, by name.
func (s *Store) Progresses(ctx context.Context) (map[string]Progress, error) {
	var rows []Progress
	err := s.r.SelectContext(ctx, &rows, `SELECT * FROM sync_states`)
	all := make(map[string]Progress, len(rows))
	for _, r := range rows {
		r.Since = parseTime(r.SinceAt)
		all[r.Name] = r
	}
	return all, err
}

// SetSync pauses or resumes a sync.
func (s *Store) SetSync(ctx context.Context, name, state, reason string, now time.Time) error {
	return s.Write(ctx, func(t *Tx) error {
		res, err := t.exec(`UPDATE sync_states SET state = ?, reason = ?, since = ? WHERE name = ?`, state, reason,
			at(now),
			name)
		if err != nil {
			return err
		}
		if n, err := res.RowsAffected(); err != nil || n == 0 {
			return named(sql.ErrNoRows, "sync %s", name)
		}
		if state == api.SyncPaused {
			return t.run(`UPDATE sync_runs SET state = 'stopped', reason = ?, ended_at = ? WHERE sync = ?
			  AND state = 'running'`, reason, at(now), name)
		}
		return t.run(`UPDATE tasks SET due_at = ? WHERE sync = ? AND state = 'waiting'`, at(now), name)
	})
}

// Touched is an order to which something happened.
type Touched struct {
	N       int64 `db:"n"`
	OrderID int64 `db:"order_id"`
}

// TouchedOrders returns the orders that the events behind a number are about.
func (s *Store) TouchedOrders(ctx context.Context, after int64, limit int) ([]Touched, error) {
	var rows []Touched
	err := s.r.SelectContext(ctx, &rows, `SELECT n, order_id FROM events WHERE n > ? ORDER BY n LIMIT ?`, after, limit)
	return rows, err
}

// OrderIDs returns ids of orders behind one, in their order.
func (s *Store) OrderIDs(ctx context.Context, after int64, limit int) ([]int64, error) {
	var ids []int64
	err := s.r.SelectContext(ctx, &ids, `SELECT id FROM orders WHERE id > ? ORDER BY id LIMIT ?`, after, limit)
	return ids, err
}

type syncRunRow struct {
	ID      int64          `db:"id"`
	Sync    string         `db:"sync"`
	Only    string         `db:"only"`
	State   string         `db:"state"`
	Reason  string         `db:"reason"`
	Pulls   string         `db:"pulls"`
	Pushed  int64          `db:"pushed"`
	Started string         `db:"started_at"`
	Ended   sql.NullString `db:"ended_at"`
	By      string         `db:"by"`
}

func (r *syncRunRow) run() (api.SyncRun, error) {
	out := api.SyncRun{ID: r.ID, Sync: r.Sync, State: r.State, Reason: r.Reason, Pushed: r.Pushed,
		StartedAt: parseTime(r.Started), EndedAt: parseTime(r.Ended.String), By: r.By}
	if err := json.Unmarshal([]byte(r.Only), &out.Only); err != nil {
		return out, err
	}
	return out, json.Unmarshal([]byte(r.Pulls), &out.Pulls)
}

// AddSyncRun records a run that begins; it sets the run's ID. Everything of the sync that waits becomes due.
func (s *Store) AddSyncRun(ctx context.Context, r *api.SyncRun) error {
	only, err := json.Marshal(append([]string{}, r.Only...))
	if err != nil {
		return err
	}
	return s.Write(ctx, func(t *Tx) error {
		if err := t.GetContext(t.ctx, &r.Pushed, `SELECT coalesce(max(id), 0) FROM pushed`); err != nil {
			return err
		}
		res, err := t.exec(`INSERT INTO sync_runs (sync, only, state, reason, pulls, pushed, started_at, by)
		  VALUES (?, ?, 'running', '', '[]', ?, ?, ?)`, r.Sync, string(only), r.Pushed, at(r.StartedAt), r.By)
		if err != nil {
			return err
		}
		if r.ID, err = res.LastInsertId(); err != nil {
			return err
		}
		return t.run(`UPDATE tasks SET state = 'waiting', due_at = ?1 WHERE sync = ?2 AND (state = 'waiting' AND due_at > ?1
		  OR state = 'after')`, at(r.StartedAt), r.Sync)
	})
}

// SaveSyncRun stores how far a run has come.
func (s *Store) SaveSyncRun(ctx context.Context, r *api.SyncRun) error {
	pulls, err := json.Marshal(append([]api.Pull{}, r.Pulls...))
	if err != nil {
		return err
	}
	var ended any
	if !r.EndedAt.IsZero() {
		ended = at(r.EndedAt)
	}
	return s.Write(ctx, func(t *Tx) error {
		return t.run(`UPDATE sync_runs SET state = ?, reason = ?, pulls = ?, ended_at = ? WHERE id = ?
			AND state = 'running'`,
			r.State, r.Reason, string(pulls), ended, r.ID)
	})
}

// SyncRuns lists the runs of a sync, newest first; of every sync if the name is blank.
func (s *Store) SyncRuns(ctx context.Context, sync string, before int64, limit int) ([]api.SyncRun, error) {
	if before == 0 {
		before = math.MaxInt64
	}
	return s.syncRuns(ctx, `WHERE (? = '' OR sync = ?) AND id < ? ORDER BY id DESC LIMIT ?`, sync, sync, before, limit)
}

// OpenSyncRuns lists the runs that have not ended.
func (s *Store) OpenSyncRuns(ctx context.Context) ([]api.SyncRun, error) {
	return s.syncRuns(ctx, `WHERE state = 'running' ORDER BY id`)
}

// SyncRun returns a run.
func (s *Store) SyncRun(ctx context.Context, id int64) (api.SyncRun, error) {
	list, err := s.syncRuns(ctx, `WHERE id = ?`, id)
	if err == nil && len(list) == 0 {
		err = fmt.Errorf("run %d: %w", id, ErrNotFound)
	}
	if err != nil {
		return api.SyncRun{}, err
	}
	return list[0], nil
}

func (s *Store) syncRuns(ctx context.Context, where string, args ...any) ([]api.SyncRun, error) {
	var rows []syncRunRow
	if err := s.r.SelectContext(ctx, &rows, `SELECT * FROM sync_runs `+where, args...); err != nil {
		return nil, err
	}
	list := make([]api.SyncRun, len(rows))
	for i := range rows {
		var err error
		if list[i], err = rows[i].run(); err != nil {
			return nil, err
		}
	}
	return list, nil
}
