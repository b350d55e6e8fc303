package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"koinos/core/mapping"
	"koinos/core/report"
)

// Sequence is a kept version of a sequence.
type Sequence struct {
	Name     string    `json:"name" db:"name"`
	Version  int       `json:"version" db:"version"`
	Text     string    `json:"text" db:"text" doc:"The sequence's YAML"`
	StoredAt time.Time `json:"stored_at" db:"-"`
	StoredBy string    `json:"stored_by" db:"stored_by"`
}

// PutSequence keeps a sequence's text as its next version; the same text as
// the newest one makes none.
func (s *Store) PutSequence(ctx context.Context, name, text, by string, now time.Time) (version int, err error) {
	err = s.Write(ctx, func(t *Tx) error {
		var last struct {
			Version int    `db:"version"`
			Text    string `db:"text"`
		}
		err := t.tx.GetContext(t.ctx, &last, `SELECT version, text FROM sequences WHERE name = ? ORDER BY version DESC LIMIT 1`, name)
		if err != nil && !errors.Is(err, sql.ErrNoRows) {
			return err
		}
		if version = last.Version; version > 0 && last.Text == text {
			return nil
		}
		version++
		_, err = t.exec(`INSERT INTO sequences (name, version, text, stored_at, stored_by) VALUES (?, ?, ?, ?, ?)`, name, version, text, at(now), by)
		return err
	})
	return version, err
}

const selectSequence = `SELECT name, version, text, stored_at, stored_by FROM sequences s `

type sequenceRow struct {
	Sequence
	Stored string `db:"stored_at"`
}

func (s *Store) sequences(ctx context.Context, where string, args ...any) ([]Sequence, error) {
	var rows []sequenceRow
	err := s.r.SelectContext(ctx, &rows, selectSequence+where, args...)
	list := make([]Sequence, len(rows))
	for i := range rows {
		list[i] = rows[i].Sequence
		list[i].StoredAt = parseTime(rows[i].Stored)
	}
	return list, err
}

// Sequences lists the newest version of each sequence, by name.
func (s *Store) Sequences(ctx context.Context) ([]Sequence, error) {
	return s.sequences(ctx, `WHERE version = (SELECT max(version) FROM sequences WHERE name = s.name) ORDER BY name`)
}

// Sequence gives a version of a sequence; 0 is the newest.
func (s *Store) Sequence(ctx context.Context, name string, version int) (Sequence, error) {
	list, err := s.sequences(ctx, `WHERE name = ? AND (? = 0 OR version = ?) ORDER BY version DESC LIMIT 1`, name, version, version)
	if err == nil && len(list) == 0 {
		err = fmt.Errorf("sequence %s: %w", name, ErrNotFound)
	}
	if err != nil {
		return Sequence{}, err
	}
	return list[0], nil
}

type runRow struct {
	report.Run
	Started string         `db:"started_at"`
	Ended   sql.NullString `db:"ended_at"`
	Asked   string         `db:"asked"`
}

const selectRun = `SELECT r.id, r.sequence, r.version, r.document, d.name AS documentname, r.options AS asked, r.status, r.again_of AS againof, r.started_at, r.ended_at, r.by
  FROM runs r JOIN documents d ON d.sha = r.document `

func (s *Store) runs(ctx context.Context, where string, args ...any) ([]report.Run, error) {
	var rows []runRow
	if err := s.r.SelectContext(ctx, &rows, selectRun+where, args...); err != nil {
		return nil, err
	}
	list := make([]report.Run, len(rows))
	for i, r := range rows {
		list[i] = r.Run
		list[i].StartedAt = parseTime(r.Started)
		if r.Ended.Valid {
			end := parseTime(r.Ended.String)
			list[i].EndedAt = &end
		}
		if err := json.Unmarshal([]byte(r.Asked), &list[i].Options); err != nil {
			return nil, fmt.Errorf("run %d: %w", r.ID, err)
		}
	}
	return list, nil
}

// Runs lists runs of sequences, newest first; before 0 is from the newest on.
func (s *Store) Runs(ctx context.Context, before int64, limit int) ([]report.Run, error) {
	return s.runs(ctx, `WHERE ? = 0 OR r.id < ? ORDER BY r.id DESC LIMIT ?`, before, before, limit)
}

// UnfinishedRuns lists the runs that an earlier service did not bring to an end.
func (s *Store) UnfinishedRuns(ctx context.Context) ([]report.Run, error) {
	return s.runs(ctx, `WHERE r.status = ? ORDER BY r.id`, report.Running)
}

// Run gives a run of a sequence.
func (s *Store) Run(ctx context.Context, id int64) (report.Run, error) {
	list, err := s.runs(ctx, `WHERE r.id = ?`, id)
	if err == nil && len(list) == 0 {
		err = fmt.Errorf("run %d: %w", id, ErrNotFound)
	}
	if err != nil {
		return report.Run{}, err
	}
	return list[0], nil
}

// StartRun records a run that begins and gives its id. A request that named
// itself starts one run only.
func (s *Store) StartRun(ctx context.Context, r report.Run, request string) (id int64, known bool, err error) {
	asked, err := json.Marshal(r.Options)
	if err != nil {
		return 0, false, err
	}
	err = s.Write(ctx, func(t *Tx) error {
		if request != "" {
			err := t.tx.GetContext(t.ctx, &id, `SELECT id FROM runs WHERE request = ?`, request)
			if known = err == nil; known || !errors.Is(err, sql.ErrNoRows) {
				return err
			}
		}
		res, err := t.exec(`INSERT INTO runs (sequence, version, document, options, status, again_of, started_at, by, request) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)`,
			r.Sequence, r.Version, r.Document, string(asked), r.Status, r.AgainOf, at(r.StartedAt), r.By, null(request))
		if err != nil {
			return err
		}
		id, err = res.LastInsertId()
		return err
	})
	return id, known, err
}

// EndRun records how a run ended.
func (s *Store) EndRun(ctx context.Context, id int64, status report.Status, now time.Time) error {
	return s.Write(ctx, func(t *Tx) error {
		_, err := t.exec(`UPDATE runs SET status = ?, ended_at = ? WHERE id = ?`, status, at(now), id)
		return err
	})
}

// StepLoad is the load of a step of a run; ErrNotFound where it has not begun.
func (s *Store) StepLoad(ctx context.Context, run int64, step string) (report.Load, error) {
	list, err := s.loads(ctx, `WHERE l.run = ? AND l.step = ? AND json_extract(l.options, '$.retry') IS NULL ORDER BY l.id LIMIT 1`, run, step)
	if err == nil && len(list) == 0 {
		err = fmt.Errorf("step %s of run %d: %w", step, run, ErrNotFound)
	}
	if err != nil {
		return report.Load{}, err
	}
	return list[0], nil
}

// Trace gives where the values of an order stand in the document of the load
// that stored it.
func (s *Store) Trace(ctx context.Context, order int64) (t mapping.Trace, load int64, err error) {
	var row struct {
		Trace string        `db:"trace"`
		Load  sql.NullInt64 `db:"load_id"`
	}
	if err := s.r.GetContext(ctx, &row, `SELECT trace, load_id FROM orders WHERE id = ?`, order); err != nil {
		return t, 0, named(err, "order %d", order)
	}
	return t, row.Load.Int64, json.Unmarshal([]byte(row.Trace), &t)
}
