package jobs

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"koinos/api"
	"koinos/store"
	"koinos/store/storetest"
)

var ctx = context.Background()

// bench is a store with a queue of one kind of job.
type bench struct {
	t     *testing.T
	store *store.Store
	queue *Queue
	stop  func()
}

// begin opens a queue and runs it; stop ends it where it is.
func begin(t *testing.T, s *store.Store, kind Kind) *bench {
	t.Helper()
	b := &bench{t: t, store: s, queue: New(s, map[string]Kind{"work": kind}, time.Now,
		slog.New(slog.NewTextHandler(io.Discard, nil)))}
	run, end := context.WithCancel(ctx)
	done := make(chan struct{})
	go func() {
		defer close(done)
		b.queue.Run(run)
	}()
	b.stop = sync.OnceFunc(func() {
		end()
		<-done
	})
	t.Cleanup(b.stop)
	return b
}

func open(t *testing.T) *store.Store {
	t.Helper()
	s := storetest.Open(t, t.TempDir())
	t.Cleanup(func() { s.Close() })
	return s
}

func add(t *testing.T, s *store.Store, subjects ...int64) {
	t.Helper()
	err := s.Write(ctx, func(tx *store.Tx) error {
		for _, n := range subjects {
			if err := tx.AddJob(api.Job{Kind: "work", Subject: n, DueAt: time.Now()}); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
}

func (b *bench) until(what string, ok func() bool) {
	b.t.Helper()
	for end := time.Now().Add(30 * time.Second); !ok(); time.Sleep(2 * time.Millisecond) {
		if time.Now().After(end) {
			b.t.Fatalf("waited in vain until %s", what)
		}
	}
}

// in counts the jobs of a state.
func (b *bench) in(state string) int {
	b.t.Helper()
	list, err := b.store.Jobs(ctx, state)
	if err != nil {
		b.t.Fatal(err)
	}
	return len(list)
}

func (b *bench) empty() bool {
	return b.in(api.JobReady)+b.in(api.JobWorking)+b.in(api.JobPaused) == 0
}

// What a job's work says decides what becomes of it.
func TestEnds(t *testing.T) {
	for _, c := range []struct {
		name  string
		first error // of the first try; nil panics
		tries int
		state string
		why   string
	}{
		{"done", fmt.Errorf("none"), 2, "", ""},
		{"later", &Later{errors.New("the partner does not answer")}, 2, "", ""},
		{"paused", &Paused{"a person must look at it"}, 1, api.JobPaused, "a person must look at it"},
		{"a panic", nil, 1, api.JobPaused, "Koinos itself failed at it: a mistake of ours"},
	} {
		t.Run(c.name, func(t *testing.T) {
			var mu sync.Mutex
			tries, told := 0, 0
			b := begin(t, open(t), Kind{AtOnce: 1, Crashed: func(int64, *store.Panicked) { told++ },
				Work: func(context.Context, int64) error {
					mu.Lock()
					defer mu.Unlock()
					if tries++; tries > 1 {
						return nil
					}
					if c.first == nil {
						panic("a mistake of ours")
					}
					return c.first
				}})
			add(t, b.store, 7)
			b.until("it ends", func() bool {
				mu.Lock()
				tried := tries == c.tries // before that it may be between two states that are looked at
				mu.Unlock()
				return tried && (c.state == "" && b.empty() || c.state != "" && b.in(c.state) == 1)
			})
			b.stop()
			if tries != c.tries || (told == 1) != (c.first == nil) {
				t.Errorf("%d tries, told %d times", tries, told)
			}
			if c.state != "" {
				list, err := b.store.Jobs(ctx, c.state)
				if err != nil || list[0].Reason != c.why {
					t.Errorf("%q, %v", list[0].Reason, err)
				}
			}
		})
	}
}

// Jobs of one key are done one after another in the order of their subjects,
// those of others beside them, no more at once than their kind allows.
func TestKeys(t *testing.T) {
	var mu sync.Mutex
	done := map[string][]int64{}
	at, most := map[string]int{}, 0
	var three sync.WaitGroup // the first three wait for each other, so that three are at once however slow the machine
	three.Add(3)
	var begun atomic.Int32
	b := begin(t, open(t), Kind{AtOnce: 3, Work: func(_ context.Context, n int64) error {
		name := fmt.Sprint(n % 5)
		mu.Lock()
		at[name]++
		all := 0
		for _, k := range at {
			all += k
		}
		most = max(most, all)
		if at[name] > 1 {
			t.Errorf("two of key %s at once", name)
		}
		mu.Unlock()
		if begun.Add(1) <= 3 {
			three.Done()
			three.Wait()
		}
		time.Sleep(time.Millisecond)
		mu.Lock()
		defer mu.Unlock()
		at[name]--
		done[name] = append(done[name], n)
		return nil
	}})
	if err := b.store.Write(ctx, func(tx *store.Tx) (err error) {
		for n := range int64(50) {
			err = errors.Join(err, tx.AddJob(api.Job{Kind: "work", Subject: n + 1, DueAt: time.Now(),
				Key: fmt.Sprint((n + 1) % 5)}))
		}
		return err
	}); err != nil {
		t.Fatal(err)
	}
	b.until("all are done", b.empty)
	b.stop()
	for name, list := range done {
		if len(list) != 10 || !slices.IsSorted(list) {
			t.Errorf("key %s: %v", name, list)
		}
	}
	if most != 3 {
		t.Errorf("%d at once", most)
	}
}

// However many jobs of a kind and key wait, those of other kinds and keys are done: the first kind's work waits for a
// job of the other one, as an interchange waits for its load.
func TestManyWait(t *testing.T) {
	s := open(t)
	var done atomic.Int32
	const many = 2*lookAt + 10
	asked := make(chan int64, many)
	q := New(s, map[string]Kind{
		"asks": {AtOnce: 2, Work: func(ctx context.Context, n int64) error {
			if err := s.Write(ctx, func(tx *store.Tx) error {
				return tx.AddJob(api.Job{Kind: "answers", Subject: n, DueAt: time.Now()})
			}); err != nil {
				return err
			}
			select {
			case <-asked:
			case <-ctx.Done():
				return ctx.Err()
			}
			done.Add(1)
			return nil
		}},
		"answers": {AtOnce: 2, Work: func(_ context.Context, n int64) error { asked <- n; return nil }},
	}, time.Now, slog.New(slog.NewTextHandler(io.Discard, nil)))
	if err := s.Write(ctx, func(tx *store.Tx) (err error) {
		for n := range int64(many) {
			key := "busy"
			if n == many-1 {
				key = "other" // it does not wait for all of those before it
			} else if n >= lookAt {
				key = ""
			}
			err = errors.Join(err, tx.AddJob(api.Job{Kind: "asks", Subject: n + 1, DueAt: time.Now(), Key: key}))
		}
		return err
	}); err != nil {
		t.Fatal(err)
	}
	// the first of either key, and three without
	if ready, err := s.ReadyJobs(ctx, "asks", 3); err != nil || len(ready) != 5 {
		t.Errorf("%d are looked at, %v", len(ready), err)
	}
	run, end := context.WithCancel(ctx)
	stopped := make(chan struct{})
	go func() { defer close(stopped); q.Run(run) }()
	for until := time.Now().Add(60 * time.Second); done.Load() < many; time.Sleep(5 * time.Millisecond) {
		if time.Now().After(until) {
			t.Errorf("%d of %d are done", done.Load(), many)
			break
		}
	}
	end()
	<-stopped
}

// A service that stops leaves its jobs ready. One that crashed leaves them
// working: the next takes them up; where the second crashes too the job pauses.
func TestCrashes(t *testing.T) {
	s := open(t)
	add(t, s, 1)
	started := make(chan struct{}, 10)
	wait := Kind{AtOnce: 1, Work: func(ctx context.Context, _ int64) error {
		started <- struct{}{}
		<-ctx.Done()
		return context.Cause(ctx)
	}}
	for range 3 { // stops count for nothing
		b := begin(t, s, wait)
		<-started
		b.stop()
		if b.in(api.JobReady) != 1 {
			t.Fatal("a stopped job is not ready")
		}
	}
	crash := func() {
		err := s.Write(ctx, func(tx *store.Tx) error {
			j, err := s.ReadyJobs(ctx, "work", 1)
			if err == nil {
				_, err = tx.ClaimJob(j[0])
			}
			return err
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	for n, want := range []string{api.JobReady, api.JobPaused} {
		crash()
		b := &bench{t: t, store: s, queue: New(s, nil, time.Now, slog.New(slog.NewTextHandler(io.Discard, nil)))}
		if err := b.queue.Resume(ctx, true); err != nil {
			t.Fatal(err)
		}
		list, err := s.Jobs(ctx, want)
		if err != nil || len(list) != 1 || list[0].Deaths != n+1 {
			t.Fatalf("after crash %d: %+v %v", n+1, list, err)
		}
	}
	list, err := s.Jobs(ctx, api.JobPaused)
	if err != nil || list[0].Reason != "the service crashed 2 times while it worked at this" {
		t.Errorf("%+v %v", list, err)
	}
}

// A job that somebody asks for anew while it ends is done once more, however it ended.
func TestAskedAnew(t *testing.T) {
	for name, first := range map[string]error{"done": nil, "paused": &Paused{"stopped by hand"},
		"later": &Later{errors.New("away")}} {
		t.Run(name, func(t *testing.T) {
			s := open(t)
			var tries atomic.Int32
			b := begin(t, s, Kind{AtOnce: 1, Work: func(context.Context, int64) error {
				if tries.Add(1) > 1 {
					return nil
				}
				add(t, s, 5)
				return first
			}})
			add(t, s, 5)
			b.until("it is done twice", func() bool { return tries.Load() == 2 && b.empty() })
		})
	}
}

// A job that somebody stops ends with the cause that they give.
func TestStop(t *testing.T) {
	cause, seen := &Paused{"stopped by hand"}, make(chan error, 1)
	started := make(chan struct{})
	b := begin(t, open(t), Kind{AtOnce: 1, Work: func(ctx context.Context, _ int64) error {
		close(started)
		<-ctx.Done()
		seen <- context.Cause(ctx)
		return context.Cause(ctx)
	}})
	add(t, b.store, 3)
	<-started
	if b.queue.Stop("work", 4, cause) || !b.queue.Stop("work", 3, cause) {
		t.Error("it says of the wrong job that it is at work")
	}
	if got := <-seen; !errors.Is(got, cause) {
		t.Errorf("%v", got)
	}
	b.until("it pauses", func() bool { return b.in(api.JobPaused) == 1 })
}
