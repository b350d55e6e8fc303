package store

import (
	"context"
	"koinos/api"
)

type jobRow struct {
	api.Job
	Due string `db:"due_at"`
}

func jobsOf(rows []jobRow) []api.Job {
	list := make([]api.Job, len(rows))
	for i := range rows {
		list[i] = rows[i].Job
		list[i].DueAt = parseTime(rows[i].Due)
	}
	return list
}

const selectJob = `SELECT kind, subject, state, due_at, tries, deaths, reason FROM jobs `

// AddJob makes a job, or makes one that is there ready again.
func (t *Tx) AddJob(j api.Job) error {
	return t.run(`INSERT INTO jobs (kind, subject, state, due_at) VALUES (?, ?, 'ready', ?)
	  ON CONFLICT DO UPDATE SET state = 'ready', due_at = excluded.due_at, tries = 0, deaths = 0, reason = ''`, j.Kind, j.Subject, at(j.DueAt))
}

// ClaimJob notes that a service is at a job; ok is false where it is done already.
func (t *Tx) ClaimJob(j api.Job) (ok bool, err error) {
	res, err := t.exec(`UPDATE jobs SET state = 'working', tries = ?, deaths = ? WHERE kind = ? AND subject = ?
		AND state <> 'paused'`, j.Tries, j.Deaths, j.Kind, j.Subject)
	if err != nil {
		return false, err
	}
	n, err := res.RowsAffected()
	return n > 0, err
}

// SaveJob keeps the state of a job.
func (t *Tx) SaveJob(j api.Job) error {
	return t.run(`UPDATE jobs SET state = ?, due_at = ?, tries = ?, deaths = ?, reason = ? WHERE kind = ?
		AND subject = ?`, j.State, at(j.DueAt), j.Tries, j.Deaths, j.Reason, j.Kind, j.Subject)
}

// LeaveJob keeps what became of a job that a service was at: its state, or that it is done.
// One that somebody asked for anew meanwhile stays ready.
func (t *Tx) LeaveJob(j api.Job, done bool) error {
	if done {
		return t.run(`DELETE FROM jobs WHERE kind = ? AND subject = ? AND state = 'working'`, j.Kind, j.Subject)
	}
	return t.run(`UPDATE jobs SET state = ?, due_at = ?, tries = ?, deaths = ?, reason = ? WHERE kind = ?
		AND subject = ? AND state = 'working'`, j.State, at(j.DueAt), j.Tries, j.Deaths, j.Reason, j.Kind, j.Subject)
}

// EndJob takes a job that is done away.
func (t *Tx) EndJob(kind string, subject int64) error {
	return t.run(`DELETE FROM jobs WHERE kind = ? AND subject = ?`, kind, subject)
}

// ReadyJobs lists jobs that are ready, the one that is due first in front.
func (s *Store) ReadyJobs(ctx context.Context, limit int) ([]api.Job, error) {
	var rows []jobRow
	err := s.r.SelectContext(ctx, &rows, selectJob+`WHERE state = 'ready' ORDER BY due_at, kind, subject LIMIT ?`,
		limit)
	return jobsOf(rows), err
}

// Jobs lists the jobs of a state.
func (s *Store) Jobs(ctx context.Context, state string) ([]api.Job, error) {
	var rows []jobRow
	err := s.r.SelectContext(ctx, &rows, selectJob+`WHERE state = ? ORDER BY due_at, kind, subject`, state)
	return jobsOf(rows), err
}
