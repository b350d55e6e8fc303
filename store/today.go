package store

import (
	"context"
	"time"

	"koinos/api"
	"koinos/core/outcome"
)

// Today is what is running, what failed, and what the last days brought.
type Today struct {
	Running []outcome.Load
	Failing []outcome.Load
	Days    []api.Day
	Saved   int
	Orders  int
}

// Today reads the loads of a number of days, including the present one. A load with failed orders counts as failing
// until a retry of them, or a later load of the same document, has been made.
func (s *Store) Today(ctx context.Context, now time.Time, days int) (t Today, err error) {
	since := now.UTC().AddDate(0, 0, 1-days)
	if t.Running, err = s.loads(ctx, `WHERE l.status IN (?, ?, ?) ORDER BY l.id DESC LIMIT 50`, outcome.Waiting,
		outcome.Running, outcome.Paused); err != nil {
		return t, err
	}
	day := since.Format("2006-01-02")
	t.Failing, err = s.loads(ctx,
		`WHERE l.started_at >= ? AND NOT l.dry_run AND l.ended_at IS NOT NULL AND (l.refused + l.held + l.withheld > 0 OR l.status = ?)
	  AND NOT EXISTS (SELECT 1 FROM loads n WHERE n.id > l.id AND NOT n.dry_run AND n.status <> ? AND n.step = l.step
	    AND (n.document = l.document AND n.mapping = l.mapping OR json_extract(n.options, '$.retry') = l.id))
	  ORDER BY l.id DESC LIMIT 50`, day, outcome.Failed, outcome.Cancelled)
	if err != nil {
		return t, err
	}
	var busy []api.Day
	err = s.r.SelectContext(ctx, &busy,
		`SELECT substr(started_at, 1, 10) AS day, count(*) AS loads, sum(loaded) AS loaded, sum(changed) AS changed,
	  sum(refused + held + withheld) AS failed, sum(saved) AS saved FROM loads WHERE NOT dry_run AND started_at >= ? GROUP BY 1`, day)
	if err != nil {
		return t, err
	}
	byDay := map[string]api.Day{}
	for _, d := range busy {
		byDay[d.Day] = d
	}
	for i := range days { // days without loads too
		name := since.AddDate(0, 0, i).Format("2006-01-02")
		d := byDay[name]
		d.Day = name
		t.Days = append(t.Days, d)
	}
	err = s.r.QueryRowxContext(ctx,
		`SELECT (SELECT coalesce(sum(saved), 0) FROM loads WHERE NOT dry_run), (SELECT n FROM totals WHERE of = 'orders')`).Scan(&t.Saved, &t.Orders)
	return t, err
}
