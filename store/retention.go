package store

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
)

// retained is a kind of data that is kept for a limited time. Its statements delete a number of rows (the second
// argument) that are older than a moment (the first).
type retained struct {
	name    string
	days    int
	forgets []string
	take    func(s *Store, ctx context.Context, before string, now time.Time) error // where no statement alone can do it
}

// Data that is kept for a limited time. Orders, their history, and what is needed to load nothing twice are not in this
// table.
var kinds = []retained{
	{name: "documents", days: 3_650, take: (*Store).takeDocuments},
	{name: "loads", days: 400, take: (*Store).takeLoads},
	{name: "dry_runs", days: 90, take: (*Store).takeDryRuns},
	{name: "snapshots", days: 400, take: (*Store).takeSnapshots},
	{name: "answers", days: 30, forgets: []string{
		`DELETE FROM requests WHERE (caller, key) IN (SELECT caller, key FROM requests
			WHERE (order_id IS NULL OR status IS NOT NULL) AND order_id IS NULL AND at < ? LIMIT ?)`,
		`UPDATE requests SET status = NULL, headers = NULL, answer = NULL, body = NULL WHERE (caller, key) IN (SELECT caller, key FROM requests
			WHERE (order_id IS NULL OR status IS NOT NULL) AND status IS NOT NULL AND order_id IS NOT NULL AND at < ? LIMIT ?)`}},
	{name: "arrivals", days: 90, forgets: []string{`UPDATE arrivals SET body = NULL WHERE id IN (SELECT id FROM arrivals
		WHERE body IS NOT NULL AND at < ? LIMIT ?)`}},
	{name: "webhooks", days: 90, forgets: []string{`UPDATE hooks SET body = NULL WHERE id IN (SELECT id FROM hooks WHERE body IS NOT NULL
		AND at < ? LIMIT ?)`}},
	{name: "messages", days: 30, forgets: []string{`DELETE FROM deliveries WHERE id IN (SELECT id FROM deliveries WHERE state <> 'waiting'
		AND made_at < ? LIMIT ?)`}},
	{name: "pushes", days: 400, forgets: []string{`DELETE FROM pushed WHERE id IN (SELECT id FROM pushed WHERE at < ? LIMIT ?)`}},
	{name: "checks", days: 90, forgets: []string{
		`DELETE FROM check_rows WHERE (check_id, n) IN (SELECT r.check_id, r.n FROM checks c JOIN check_rows r ON r.check_id = c.id
			WHERE c.ended_at < ? LIMIT ?)`,
		`DELETE FROM checks WHERE id IN (SELECT id FROM checks WHERE ended_at < ? LIMIT ?)`}},
	{name: "audit", days: 0, forgets: []string{`DELETE FROM audit WHERE id IN (SELECT id FROM audit WHERE at < ? LIMIT ?)`}},
}

// Retention is how many days each kind of such data is kept; 0 means for good.
type Retention map[string]int

// Usual is the default retention.
func Usual() Retention {
	r := Retention{}
	for _, k := range kinds {
		r[k.name] = k.days
	}
	return r
}

// Texts are the retention in the form that Retained reads.
func (r Retention) Texts() (all []string) {
	for _, k := range kinds {
		all = append(all, k.name+"="+strconv.Itoa(r[k.name]))
	}
	return all
}

// Retained reads a retention, such as arrivals=30. Kinds that are not named have the default.
func Retained(texts []string) (Retention, error) {
	r := Usual()
	for _, text := range texts {
		name, number, _ := strings.Cut(text, "=")
		days, err := strconv.Atoi(number)
		if !slices.ContainsFunc(kinds, func(k retained) bool { return k.name == name }) || err != nil || days < 0 ||
			days > 36_500 {
			return nil, fmt.Errorf("%q is no NAME=DAYS; names are %s, and 0 days is for good", text,
				strings.Join(names(), ", "))
		}
		r[name] = days
	}
	return r, nil
}

func names() (all []string) {
	for _, k := range kinds {
		all = append(all, k.name)
	}
	return all
}

// Forget deletes what is older than its retention, a part at a time, and returns the space to the disk.
func (s *Store) Forget(ctx context.Context, r Retention, now time.Time) error {
	for _, k := range kinds {
		if r[k.name] == 0 {
			continue
		}
		before := at(now.AddDate(0, 0, -r[k.name]))
		for _, query := range k.forgets {
			if err := s.inTurns(ctx, query, before); err != nil {
				return fmt.Errorf("%s: %w", k.name, err)
			}
		}
		if k.take != nil {
			if err := k.take(s, ctx, before, now); err != nil {
				return fmt.Errorf("%s: %w", k.name, err)
			}
		}
	}
	return s.giveBack(ctx)
}

// Pages that stay free for what comes next, and how many pages are returned at a time.
const (
	freePages  = 4_000
	pagesATurn = 1_000
)

// giveBack makes the database smaller if it has many free pages. Databases of early versions keep their size, because
// they would have to be rewritten completely.
func (s *Store) giveBack(ctx context.Context) error {
	for more := true; more; {
		if err := s.Write(ctx, func(t *Tx) error {
			var free, mode int
			if err := t.row(`PRAGMA freelist_count`, nil, &free); err != nil {
				return err
			}
			if err := t.row(`PRAGMA auto_vacuum`, nil, &mode); err != nil {
				return err
			}
			const incremental = 2
			if more = mode == incremental && free > freePages+pagesATurn; !more {
				return nil
			}
			rows, err := t.tx.QueryContext(t.ctx, fmt.Sprintf(`PRAGMA incremental_vacuum(%d)`, pagesATurn))
			if err != nil {
				return t.failed(err)
			}
			for rows.Next() { // each is a page: it is done when all have been asked for
			}
			return t.failed(errors.Join(rows.Err(), rows.Close()))
		}); err != nil {
			return err
		}
	}
	return nil
}

// rowsATurn is how many rows are changed before others may write.
const rowsATurn = 500

// inTurns runs a statement with a limit until it finds nothing more, and lets others write in between.
func (s *Store) inTurns(ctx context.Context, query string, args ...any) error {
	for {
		var n int64
		err := s.Write(ctx, func(t *Tx) error {
			res, err := t.exec(query, append(args, rowsATurn)...)
			if err == nil {
				n, err = res.RowsAffected()
			}
			return err
		})
		if err != nil || n < rowsATurn {
			return err
		}
	}
}
