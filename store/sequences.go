package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"koinos/api"
	"koinos/core/origin"
	"koinos/core/outcome"
	"koinos/core/uses"
)

// PutSequence stores a sequence's text as its next version. If the text equals the newest version, no new one is made.
func (s *Store) PutSequence(ctx context.Context, name, text, by string, now time.Time) (version int, err error) {
	return s.putText(ctx, uses.Sequence, name, text, by, now)
}

const selectSequence = `SELECT name, version, text, stored_at, stored_by FROM sequences s `

type sequenceRow struct {
	api.Sequence
	Stored string `db:"stored_at"`
}

func (s *Store) sequences(ctx context.Context, where string, args ...any) ([]api.Sequence, error) {
	var rows []sequenceRow
	err := s.r.SelectContext(ctx, &rows, selectSequence+where, args...)
	list := make([]api.Sequence, len(rows))
	for i := range rows {
		list[i] = rows[i].Sequence
		list[i].StoredAt = parseTime(rows[i].Stored)
	}
	return list, err
}

// Sequences lists the newest version of each sequence, by name.
func (s *Store) Sequences(ctx context.Context) ([]api.Sequence, error) {
	return s.sequences(ctx, `WHERE version = (SELECT max(version) FROM sequences WHERE name = s.name) AND `+
		there(uses.Sequence, "s.name")+` ORDER BY name`)
}

// Sequence returns a version of a sequence, even of a removed one. Version 0 is the newest of one that was not removed.
func (s *Store) Sequence(ctx context.Context, name string, version int) (api.Sequence, error) {
	list, err := s.sequences(ctx, `WHERE name = ?1 AND (?2 = 0 AND `+there(uses.Sequence, "s.name")+` OR version = ?2)
		ORDER BY version DESC LIMIT 1`, name, version)
	if err == nil && len(list) == 0 {
		err = s.gone(ctx, Named{uses.Sequence, name}, fmt.Errorf("sequence %s: %w", name, ErrNotFound))
	}
	if err != nil {
		return api.Sequence{}, err
	}
	return list[0], nil
}

type runRow struct {
	outcome.Run
	Started string         `db:"started_at"`
	Ended   sql.NullString `db:"ended_at"`
	Asked   string         `db:"asked"`
}

const selectRun = `SELECT r.id, r.sequence, r.version, r.document, d.name AS documentname, r.options AS asked, r.status, r.again_of AS againof, r.started_at, r.ended_at, r.by
  FROM runs r JOIN documents d ON d.sha = r.document `

func (s *Store) runs(ctx context.Context, where string, args ...any) ([]outcome.Run, error) {
	var rows []runRow
	if err := s.r.SelectContext(ctx, &rows, selectRun+where, args...); err != nil {
		return nil, err
	}
	list := make([]outcome.Run, len(rows))
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

// Runs lists runs of sequences, newest first. With before 0 it begins with the newest.
func (s *Store) Runs(ctx context.Context, before int64, limit int) ([]outcome.Run, error) {
	return s.runs(ctx, `WHERE ? = 0 OR r.id < ? ORDER BY r.id DESC LIMIT ?`, before, before, limit)
}

// Run returns a run of a sequence.
func (s *Store) Run(ctx context.Context, id int64) (outcome.Run, error) {
	list, err := s.runs(ctx, `WHERE r.id = ?`, id)
	if err == nil && len(list) == 0 {
		err = fmt.Errorf("run %d: %w", id, ErrNotFound)
	}
	if err != nil {
		return outcome.Run{}, err
	}
	return list[0], nil
}

// StartRun records a run that begins and returns its id. A request with a name starts only one run as long as the run
// is stored. ErrOtherUse says that the name was used for another document.
func (s *Store) StartRun(ctx context.Context, r outcome.Run, request string) (id int64, known bool, err error) {
	asked, err := json.Marshal(r.Options)
	if err != nil {
		return 0, false, err
	}
	err = s.Write(ctx, func(t *Tx) error {
		if request != "" {
			var was struct {
				ID       int64  `db:"id"`
				Document string `db:"document"`
			}
			err := t.GetContext(t.ctx, &was, `SELECT id, document FROM runs WHERE request = ?`, request)
			if known = err == nil; known && was.Document != r.Document {
				return ErrOtherUse
			}
			if id = was.ID; known || !errors.Is(err, sql.ErrNoRows) {
				return err
			}
		}
		res, err := t.exec(`INSERT INTO runs (sequence, version, document, options, status, again_of, started_at, by, request) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)`,
			r.Sequence, r.Version, r.Document, string(asked), r.Status, r.AgainOf, at(r.StartedAt), r.By, null(request))
		if err != nil {
			return err
		}
		if id, err = res.LastInsertId(); err != nil {
			return err
		}
		return t.AddJob(api.Job{Kind: api.RunJob, Subject: id, DueAt: r.StartedAt})
	})
	return id, known, err
}

// EndRun records how a run ended.
func (t *Tx) EndRun(id int64, status outcome.Status, now time.Time) error {
	return t.run(`UPDATE runs SET status = ?, ended_at = ? WHERE id = ?`, string(status), at(now), id)
}

// StepLoad is the load of a step of a run; ErrNotFound if it has not begun.
func (s *Store) StepLoad(ctx context.Context, run int64, step string) (outcome.Load, error) {
	list, err := s.loads(ctx,
		`WHERE l.run = ? AND l.step = ? AND json_extract(l.options, '$.retry') IS NULL ORDER BY l.id LIMIT 1`, run,
		step)
	if err == nil && len(list) == 0 {
		err = fmt.Errorf("step %s of run %d: %w", step, run, ErrNotFound)
	}
	if err != nil {
		return outcome.Load{}, err
	}
	return list[0], nil
}

// TraceOf returns where the values of an order stand in the document of a load that stored or changed it, by ids of
// lines; ok is false if the load did neither.
func (s *Store) TraceOf(ctx context.Context, order, load int64) (t origin.Trace, ok bool, err error) {
	var text []string
	err = s.r.SelectContext(ctx, &text,
		`SELECT trace FROM events WHERE order_id = ? AND load_id = ? AND trace IS NOT NULL ORDER BY n DESC LIMIT 1`,
		order, load)
	if err != nil || len(text) == 0 {
		return t, false, err
	}
	return t, true, json.Unmarshal([]byte(text[0]), &t)
}
