package store

import (
	"context"
	"time"

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

const selectJob = `SELECT j.kind, j.subject, j.state, j.due_at, j.tries, j.deaths, j.reason, j.key FROM jobs j `

// AddJob makes a job, or makes an existing one ready again.
func (t *Tx) AddJob(j api.Job) error {
	t.after = append(t.after, t.s.work.Broadcast)
	return t.run(`INSERT INTO jobs (kind, subject, state, due_at, key) VALUES (?, ?, 'ready', ?, ?)
	  ON CONFLICT DO UPDATE SET state = 'ready', due_at = excluded.due_at, tries = 0, deaths = 0, reason = ''`, j.Kind, j.Subject, at(j.DueAt), j.Key)
}

// AddInterchangeJob makes the job of an interchange. For each partner, incoming interchanges are processed one after
// another, and so are outgoing ones.
func (t *Tx) AddInterchangeJob(id int64, due time.Time) error {
	j := api.Job{Kind: api.InterchangeJob, Subject: id, DueAt: due}
	if err := t.GetContext(t.ctx, &j.Key, `SELECT direction || ' ' || partner FROM interchanges WHERE id = ?`,
		id); err != nil {
		return named(err, "interchange %d", id)
	}
	return t.AddJob(j)
}

// ClaimJob records that a service works on a job; ok is false if it is done already.
func (t *Tx) ClaimJob(j api.Job) (ok bool, err error) {
	res, err := t.exec(`UPDATE jobs SET state = 'working', tries = ?, deaths = ? WHERE kind = ? AND subject = ?
		AND state <> 'paused'`, j.Tries, j.Deaths, j.Kind, j.Subject)
	if err != nil {
		return false, err
	}
	n, err := res.RowsAffected()
	return n > 0, err
}

// SaveJob stores the state of a job.
func (t *Tx) SaveJob(j api.Job) error {
	t.after = append(t.after, t.s.work.Broadcast)
	return t.run(`UPDATE jobs SET state = ?, due_at = ?, tries = ?, deaths = ?, reason = ? WHERE kind = ?
		AND subject = ?`, j.State, at(j.DueAt), j.Tries, j.Deaths, j.Reason, j.Kind, j.Subject)
}

// LeaveJob stores the result of a job that a service worked on: its state, or that it is done. A job that was requested
// again meanwhile stays ready.
func (t *Tx) LeaveJob(j api.Job, done bool) error {
	if done {
		return t.run(`DELETE FROM jobs WHERE kind = ? AND subject = ? AND state = 'working'`, j.Kind, j.Subject)
	}
	return t.run(`UPDATE jobs SET state = ?, due_at = ?, tries = ?, deaths = ?, reason = ? WHERE kind = ?
		AND subject = ? AND state = 'working'`, j.State, at(j.DueAt), j.Tries, j.Deaths, j.Reason, j.Kind, j.Subject)
}

// EndJob deletes a job that is done.
func (t *Tx) EndJob(kind string, subject int64) error {
	return t.run(`DELETE FROM jobs WHERE kind = ? AND subject = ?`, kind, subject)
}

// The keys of a kind are found one by one in the index, not by reading all of its jobs.
const readyJobs = `WITH RECURSIVE keys (key) AS (SELECT min(key) FROM jobs WHERE kind = ?1 AND key > ''
	  UNION ALL SELECT (SELECT min(key) FROM jobs WHERE kind = ?1 AND key > keys.key) FROM keys WHERE keys.key IS NOT NULL)
	SELECT * FROM (` + selectJob + `WHERE j.kind = ?1 AND j.state = 'ready' AND j.key = '' ORDER BY j.due_at, j.subject LIMIT ?2)
	UNION ALL SELECT j.kind, j.subject, j.state, j.due_at, j.tries, j.deaths, j.reason, j.key FROM keys CROSS JOIN jobs j
	  ON j.kind = ?1 AND j.subject = (SELECT subject FROM jobs WHERE kind = ?1 AND key = keys.key AND state <> 'paused' ORDER BY subject LIMIT 1)
	  WHERE j.state = 'ready'
	ORDER BY due_at, subject`

// ReadyJobs lists jobs of a kind that are ready: the first for each key, unless a job with that key is running, and of
// those without a key the ones that are due first.
func (s *Store) ReadyJobs(ctx context.Context, kind string, limit int) ([]api.Job, error) {
	var rows []jobRow
	err := s.r.SelectContext(ctx, &rows, readyJobs, kind, limit)
	return jobsOf(rows), err
}

// Jobs lists the jobs of a state.
func (s *Store) Jobs(ctx context.Context, state string) ([]api.Job, error) {
	var rows []jobRow
	err := s.r.SelectContext(ctx, &rows, selectJob+`WHERE j.state = ? ORDER BY j.due_at, j.kind, j.subject`, state)
	return jobsOf(rows), err
}
