package store

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"koinos/api"
)

// AddHook stores a message of a system with the pull of what it is about, which may be nil. It returns false if a
// message with its id was stored before.
func (s *Store) AddHook(ctx context.Context, h *api.Hook, body []byte, p *api.Pull) (fresh bool, err error) {
	zipped, err := Zip(body)
	if err != nil {
		return false, err
	}
	err = s.Write(ctx, func(t *Tx) error {
		fresh = false
		res, err := t.exec(`INSERT INTO hooks (system, hook_id, event, state, body, at) VALUES (?, ?, ?, ?, ?, ?)
		  ON CONFLICT (system, hook_id) DO NOTHING`, h.System, h.HookID, h.Event, h.State, zipped, at(h.At))
		if err != nil {
			return err
		}
		n, err := res.RowsAffected()
		if err != nil || n == 0 {
			return err
		}
		fresh = true
		if h.ID, err = res.LastInsertId(); err != nil || p == nil {
			return err
		}
		p.Hook = h.ID
		return t.addPull(p)
	})
	return fresh, err
}

// HookBody returns a message as it came.
func (s *Store) HookBody(ctx context.Context, id int64) ([]byte, error) {
	var zipped []byte
	err := s.r.GetContext(ctx, &zipped, `SELECT body FROM hooks WHERE id = ? AND body IS NOT NULL`, id)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, named(err, "webhook %d", id)
	}
	if err != nil {
		return nil, err
	}
	return unzip(zipped)
}

type hookRow struct {
	api.Hook
	Came string        `db:"at"`
	Pull sql.NullInt64 `db:"pull"`
}

// Hooks lists messages of a system, newest first.
func (s *Store) Hooks(ctx context.Context, system string, before int64, limit int) ([]api.Hook, error) {
	var rows []hookRow
	err := s.r.SelectContext(ctx, &rows,
		`SELECT h.id, h.system, h.hook_id hookid, h.event, h.state, h.at, p.id pull FROM hooks h
	  LEFT JOIN pulls p ON p.hook = h.id WHERE h.system = ? AND (? = 0 OR h.id < ?) ORDER BY h.id DESC LIMIT ?`, system, before,
		before, limit)
	list := make([]api.Hook, len(rows))
	for i := range rows {
		list[i] = rows[i].Hook
		list[i].At, list[i].Pull = parseTime(rows[i].Came), rows[i].Pull.Int64
	}
	return list, err
}

// Remember records that our address is registered for the webhooks of a system.
func (s *Store) Remember(ctx context.Context, system, url string, now time.Time) error {
	return s.Write(ctx, func(t *Tx) error {
		return t.run(`INSERT INTO registrations VALUES (?, ?, ?) ON CONFLICT DO UPDATE SET at = excluded.at`, system,
			url, at(now))
	})
}

// Remembered reports whether our address was registered for the webhooks of a system.
func (s *Store) Remembered(ctx context.Context, system, url string) (is bool, err error) {
	err = s.r.GetContext(ctx, &is, `SELECT EXISTS (SELECT 1 FROM registrations WHERE system = ? AND url = ?)`, system,
		url)
	return is, err
}
