package load

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"koinos/core/outcome"
	"koinos/core/source"
	"koinos/store"
)

// stored is what stands in the tables that a load writes, without times.
func stored(t *testing.T, s *store.Store) string {
	t.Helper()
	var all strings.Builder
	for _, query := range []string{
		`SELECT kind || ' ' || number || ' ' || identity || ' ' || status || ' ' || revision || ' ' || line_count FROM orders ORDER BY id`,
		`SELECT o.identity || ' ' || n || ' ' || l.id || ' ' || coalesce(item, '') || ' ' || coalesce(quantity, '') FROM lines l
			JOIN orders o ON o.id = l.order_id ORDER BY o.id, n`,
		`SELECT o.identity || ' ' || e.revision || ' ' || action || ' ' ||` +
			` load_seq FROM events e JOIN orders o ON o.id = e.order_id ORDER BY o.id, e.n`,
		`SELECT seq || ' ' || outcome FROM load_orders ORDER BY load_id, seq`,
		`SELECT seq || ' ' || code || ' ' || coalesce(value, '') FROM findings ORDER BY load_id, seq, code, value`,
	} {
		err := s.Write(context.Background(), func(tx *store.Tx) error {
			var rows []string
			if err := tx.SelectContext(context.Background(), &rows, query); err != nil {
				return err
			}
			fmt.Fprintf(&all, "%d rows\n%s\n", len(rows), strings.Join(rows, "\n"))
			return nil
		})
		if err != nil {
			t.Fatal(query, err)
		}
	}
	return all.String()
}

// room lets the database grow by so many pages, and no further.
func room(t *testing.T, s *store.Store, pages int) {
	t.Helper()
	err := s.Write(context.Background(), func(tx *store.Tx) error {
		var is, most int
		if err := tx.GetContext(context.Background(), &is, `PRAGMA page_count`); err != nil {
			return err
		}
		return tx.GetContext(context.Background(), &most, fmt.Sprintf(`PRAGMA max_page_count = %d`, is+pages))
	})
	if err != nil {
		t.Fatal(err)
	}
}

// TestEveryWriteFails lets the disk be full at each page of a load in turn, and compares what stands
// in the tables in the end, when there was room again, with a load that nothing disturbed.
func TestEveryWriteFails(t *testing.T) {
	doc, _ := manyOrders(300)
	ctx := context.Background()
	undisturbed := testStore(t)
	send(t, testEngine(t, undisturbed, source.DefaultLimits), plainMapping, doc, Request{})
	want := stored(t, undisturbed)
	full, step := 0, 1
	if testing.Short() {
		step = 25
	}
	for pages := 0; ; pages += step {
		s := testStore(t)
		e, stop := testService(t, s, source.DefaultLimits)
		sha, _ := received(t, s, doc, plainMapping)
		room(t, s, pages)
		start := func() (outcome.Load, error) {
			return e.Start(ctx, Request{Document: sha, Mapping: "example", By: "test"})
		}
		l, err := start()
		disturbed := err != nil
		if err != nil {
			if store.Blocked(err) == "" {
				t.Fatalf("%d pages: %v", pages, err)
			}
		} else {
			soon, cancel := context.WithTimeout(ctx, 2*time.Second) // one that cannot even note that it pauses goes on
			l, err = e.Wait(soon, l.ID)
			cancel()
			disturbed = err != nil || l.Status != outcome.Done
			if l.Status == outcome.Paused && !strings.Contains(l.Reason, "the disk is full") {
				t.Errorf("%d pages: it pauses for %q", pages, l.Reason)
			}
		}
		room(t, s, 100_000)
		if disturbed {
			full++
			if l.ID == 0 {
				if l, err = start(); err != nil {
					t.Fatal(err)
				}
			} else if _, err := e.Continue(ctx, l.ID); err != nil && !errors.Is(err, ErrNotPaused) {
				t.Fatal(err)
			}
			deadline, cancel := context.WithTimeout(ctx, time.Minute)
			l, err = e.Wait(deadline, l.ID)
			cancel()
		}
		if err != nil || l.Status != outcome.Done {
			t.Fatalf("%d pages: it ends as %s: %s (%v)", pages, l.Status, l.Reason, err)
		}
		if got := stored(t, s); got != want {
			t.Fatalf("%d pages: the tables are not those of a load that nothing disturbed", pages)
		}
		stop()
		if !disturbed {
			break
		}
	}
	if full < 20/step {
		t.Errorf("the disk was full only %d times", full)
	}
}
