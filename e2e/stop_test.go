package e2e

import (
	"context"
	"net/url"
	"testing"
	"time"

	"koinos/core/outcome"
)

// A service that is told to stop while a long undo, a load and an open stream go on has ended within
// five seconds, and what was asked goes on from where it was.
func TestStopsSoon(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	s := start(t, data, "serve")
	ctx := context.Background()
	const n = 4_000
	l := s.begin(manyOrders(n))
	if last, err := s.api().WatchLoad(ctx, l.ID, func(outcome.Load) {}); err != nil || last.Loaded != n {
		t.Fatal(last, err)
	}
	another := s.begin(append(manyOrders(6_000), "Z-1,0012,2,9.50\n"...))
	undone := make(chan error, 1)
	watched := make(chan error, 1)
	calls := s.api()
	go func() {
		_, err := calls.UndoLoad(ctx, l.ID, false)
		undone <- err
	}()
	watching, leave := context.WithCancel(ctx)
	defer leave()
	go func() {
		_, err := calls.WatchLoad(watching, another.ID, func(outcome.Load) {})
		watched <- err
	}()
	time.Sleep(400 * time.Millisecond)
	began := time.Now()
	s.stop()
	if took := time.Since(began); took > 5*time.Second {
		t.Errorf("it took %s to stop", took)
	}
	if code := s.cmd.ProcessState.ExitCode(); code != 0 {
		t.Errorf("it ended with %d\n%s", code, loud(s))
	}
	leave()
	<-watched
	if err := <-undone; err == nil {
		t.Log("the undo came to its end in time")
	}
	s = start(t, data, "serve")
	if last, err := s.api().WatchLoad(ctx, another.ID, func(outcome.Load) {}); err != nil || last.Status != outcome.Done {
		t.Errorf("the other load: %+v %v", last, err)
	}
	if _, err := s.api().UndoLoad(ctx, l.ID, false); err != nil {
		t.Fatal(err)
	}
	rep, err := s.api().Load(ctx, l.ID)
	if err != nil || rep.Load.Undone != n {
		t.Errorf("undone %d of %d, %v", rep.Load.Undone, n, err)
	}
	page, err := s.api().Orders(ctx, url.Values{"load": {"1"}, "limit": {"1"}})
	if err != nil || len(page.Items) != 0 {
		t.Errorf("orders are left: %+v %v", page.Items, err)
	}
}
