package store

import (
	"database/sql"
	"fmt"
	"path/filepath"
	"slices"
	"strconv"
	"testing"
)

// filled opens a data folder with so many old and young rows of each kind that is kept for a time only: the
// old ones are a hundred days old, the young ones ten.
func filled(t *testing.T, old, young int) (*Store, func(query string) string) {
	t.Helper()
	dir := t.TempDir()
	s := open(t, dir)
	db, err := sql.Open("sqlite3", "file:"+filepath.Join(dir, DatabaseFile)+"?_foreign_keys=off&_busy_timeout=10000")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	const counted = `WITH n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < %d), rows (i, at) AS
		(SELECT i, CASE WHEN i <= %d THEN '%s' ELSE '%s' END FROM n) INSERT INTO %s`
	for _, into := range []string{
		`requests (caller, key, what, at) SELECT 'c', i, '', at FROM rows`,
		`arrivals (system, record, key, number, version, stamp, state, digest, body, at, pull_id, request, place)
			SELECT 's', 'r', i, '', '', '', 'gone', x'00', zeroblob(2000), at, 1, '', '' FROM rows`,
		`hooks (system, hook_id, event, state, body, at) SELECT 's', i, '', 'taken', x'01', at FROM rows`,
		`deliveries (subscription, event, type, hook_id, body, state, attempts, made_at, due_at, status, why)
			SELECT 1, i, '', '', '', iif(i = 1, 'waiting', 'delivered'), 1, at, at, 200, '' FROM rows`,
		`pushed (sync, push, system, record, order_id, part, number, key, outcome, steps, why, at, by)
			SELECT '', '', '', '', 1, 0, '', '', 'created', '[]', zeroblob(20000), at, '' FROM rows`,
		`checks (sync, kind, asked, state, reason, counts, started_at, ended_at, by) SELECT '', '', '', 'done', '', '{}', at, at, ''
			FROM rows`,
		`check_rows (check_id, n, outcome, part, order_id, content) SELECT 1 + i % 2, i, '', '', 1, '' FROM rows`,
		`audit (at, by, from_ip, did, path, status, request) SELECT at, '', '', '', '', 200, '' FROM rows`,
	} {
		if _, err := db.Exec(fmt.Sprintf(counted, old+young, old, at(now.AddDate(0, 0, -100)),
			at(now.AddDate(0, 0, -10)),
			into)); err != nil {
			t.Fatal(into, err)
		}
	}
	return s, func(query string) (n string) {
		if err := db.QueryRow(query).Scan(&n); err != nil {
			t.Fatal(query, err)
		}
		return n
	}
}

// What is kept for a time only goes when that is over, more than one turn of it, and nothing else does.
func TestForget(t *testing.T) {
	s, ask := filled(t, 1_203, 7)
	counts := func() (all []string) {
		for _, query := range []string{`SELECT count(*) FROM requests`,
			`SELECT count(*) || ' ' || count(body) FROM arrivals`,
			`SELECT count(*) || ' ' || count(body) FROM hooks`, `SELECT count(*) FROM deliveries`,
			`SELECT count(*) FROM pushed`,
			`SELECT count(*) FROM checks`, `SELECT count(*) FROM check_rows`, `SELECT count(*) FROM audit`} {
			all = append(all, ask(query))
		}
		return all
	}
	for _, c := range []struct {
		name string
		keep Retention
		want []string
	}{
		{"for good", Retention{}, []string{"1210", "1210 1210", "1210 1210", "1210", "1210", "1210", "1210", "1210"}},
		{"longer than any is old", Retention{"answers": 101, "audit": 101, "checks": 200},
			[]string{"1210", "1210 1210", "1210 1210", "1210",
				"1210", "1210", "1210", "1210"}},
		{"the usual", Usual(), []string{"7", "1210 7", "1210 7", "8", "1210", "7", "0", "1210"}},
		{"each a week", func() Retention {
			r := Usual()
			for k := range r {
				r[k] = 7
			}
			return r
		}(), []string{"0", "1210 0", "1210 0", "1", "0", "0", "0", "0"}},
	} {
		if err := s.Forget(ctx, c.keep, now); err != nil {
			t.Fatal(c.name, err)
		}
		if got := counts(); !slices.Equal(got, c.want) {
			t.Errorf("kept %s: %q, not %q", c.name, got, c.want)
		}
	}
}

// The room of what was forgotten is given back to the disk, but for some that comes next.
func TestForgetGivesBack(t *testing.T) {
	s, ask := filled(t, 3_000, 1)
	pages := func(what string) int {
		n, err := strconv.Atoi(ask("PRAGMA " + what))
		if err != nil {
			t.Fatal(err)
		}
		return n
	}
	before := pages("page_count")
	if err := s.Forget(ctx, Retention{"pushes": 50}, now); err != nil {
		t.Fatal(err)
	}
	free := pages("freelist_count")
	if gone := before - pages("page_count"); free > freePages+pagesATurn || free < freePages || gone < 10_000 {
		t.Errorf("of %d pages %d are given back, and %d are free", before, gone, free)
	}
}

func TestRetained(t *testing.T) {
	r, err := Retained([]string{"arrivals=10", "audit=365"})
	if want := []string{"documents=3650", "loads=400", "dry_runs=90", "snapshots=400", "answers=30", "arrivals=10",
		"webhooks=90", "messages=30", "pushes=400", "checks=90",
		"audit=365"}; err != nil ||
		!slices.Equal(r.Texts(), want) {
		t.Errorf("%q, %v", r.Texts(), err)
	}
	for _, wrong := range []string{"", "arrivals", "arrivals=", "arrivals=-1", "arrivals=many", "orders=10",
		"arrivals=99999"} {
		if _, err := Retained([]string{wrong}); err == nil {
			t.Errorf("%q is taken", wrong)
		}
	}
}
