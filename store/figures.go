package store

import (
	"context"
	"time"
)

// Figures are the figures with which the service is monitored.
type Figures struct {
	Loads   map[string]int // by status: those that have not ended, and those that failed within the last day
	Held    map[string]int // by kind: what waits for a person
	Jobs    []JobFigure
	Overdue int // interchanges of ours that were not acknowledged in time
	Orders  int // that are stored: the newest id, as none is given twice
	Writer  WriterFigures
}

// JobFigure is how many jobs of a kind are in a state, and since when the longest overdue one is due.
type JobFigure struct {
	Kind  string        `db:"kind"`
	State string        `db:"state"`
	N     int           `db:"n"`
	Due   string        `db:"due"`
	Late  time.Duration `db:"-"` // 0 is that none is late
}

// WriterFigures are how long work has waited for the one writer and has used it since the store was opened.
type WriterFigures struct {
	Writes       uint64
	Waited, Held time.Duration
	Longest      time.Duration // that it was held in one go since this was asked last
}

// Figures counts what waits, failed, or is late.
func (s *Store) Figures(ctx context.Context, now time.Time) (f Figures, err error) {
	f = Figures{Loads: map[string]int{}, Held: map[string]int{}, Writer: s.turns.counted()}
	for _, count := range []struct {
		into  map[string]int
		query string
		args  []any
	}{
		{f.Loads, `SELECT status AS name, count(*) AS n FROM loads WHERE status IN ('waiting', 'running', 'paused')
			GROUP BY status`, nil},
		{f.Loads, `SELECT 'failed' AS name, count(*) AS n FROM loads WHERE status = 'failed' AND started_at >= ?`,
			[]any{at(now.Add(-24 * time.Hour))}},
		{f.Held, `SELECT kind AS name, count(*) AS n FROM held WHERE aside = '' GROUP BY kind`, nil},
	} {
		var rows []struct {
			Name string `db:"name"`
			N    int    `db:"n"`
		}
		if err := s.r.SelectContext(ctx, &rows, count.query, count.args...); err != nil {
			return f, err
		}
		for _, r := range rows {
			count.into[r.Name] = r.N
		}
	}
	if err := s.r.SelectContext(ctx, &f.Jobs,
		`SELECT kind, state, count(*) AS n, min(due_at) AS due FROM jobs GROUP BY kind, state`); err != nil {
		return f, err
	}
	for i := range f.Jobs {
		f.Jobs[i].Late = max(0, now.Sub(parseTime(f.Jobs[i].Due)))
	}
	return f, s.r.QueryRowxContext(ctx,
		`SELECT (SELECT count(*) FROM interchanges WHERE state = 'sent' AND direction = 'out' AND due_at < ?),
		(SELECT coalesce(max(id), 0) FROM orders)`, at(now)).Scan(&f.Overdue, &f.Orders)
}
