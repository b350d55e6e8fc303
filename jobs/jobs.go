package jobs

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"runtime/debug"
	"sync"
	"time"

	"koinos/api"
	"koinos/store"
)

// Work does a job. Its error says what becomes of the job: nil means that it is done, *Later that it is tried again,
// and *Paused that it waits. Any other error counts as Later. ctx ends when the service stops, or when somebody stops
// the job.
type Work func(ctx context.Context, subject int64) error

// Later says that what stopped a job may pass. The job is tried again, after a time that doubles with each attempt.
type Later struct{ Err error }

func (l *Later) Error() string { return l.Err.Error() }

// Unwrap returns what stopped it.
func (l *Later) Unwrap() error { return l.Err }

// Paused says that a job waits until somebody resumes it.
type Paused struct{ Reason string }

func (p *Paused) Error() string { return p.Reason }

// ErrStopping is the cause with which jobs end when the service stops.
var ErrStopping = errors.New("the service is stopping")

// Kind says how jobs of a kind are done.
type Kind struct {
	Work   Work
	AtOnce int // how many side by side
	// Crashed is told of a job that panicked, before it ends.
	Crashed func(subject int64, p *store.Panicked)
}

// Queue does the jobs of a store. Its methods may be called by several goroutines.
type Queue struct {
	store *store.Store
	now   func() time.Time
	log   *slog.Logger
	kinds map[string]Kind

	mu      sync.Mutex
	mine    map[key]*running // claimed by this service
	nudge   chan struct{}
	stopped bool
	wait    sync.WaitGroup
}

type key struct {
	kind    string
	subject int64
}

// lane is a queue of jobs of one kind with the same key, which are done one after another.
type lane struct{ kind, key string }

// running is a job that this service has claimed. It is being worked on or, if its result could not be stored, waits to
// be tried again.
type running struct {
	job    api.Job
	cancel context.CancelCauseFunc // nil while it waits
	done   chan struct{}
}

// New makes a queue for kinds of jobs.
func New(s *store.Store, kinds map[string]Kind, now func() time.Time, log *slog.Logger) *Queue {
	return &Queue{store: s, kinds: kinds, now: now, log: log, mine: map[key]*running{},
		nudge: make(chan struct{}, 1)}
}

// mostDeaths is how many services may end while they work at a job.
const mostDeaths = 2

// Resume makes the jobs that an earlier service was working at ready again. crashed says that it ended because of a
// mistake of ours: a job at which that happens again is paused.
func (q *Queue) Resume(ctx context.Context, crashed bool) error {
	left, err := q.store.Jobs(ctx, api.JobWorking)
	if err != nil || len(left) == 0 {
		return err
	}
	return q.store.Write(ctx, func(tx *store.Tx) error {
		for _, j := range left {
			j.State, j.DueAt = api.JobReady, q.now()
			if crashed {
				j.Deaths++
			}
			if j.Deaths >= mostDeaths {
				j.State, j.Reason = api.JobPaused, fmt.Sprintf("the service crashed %d times while it worked at this",
					j.Deaths)
			}
			q.log.Warn("a job is taken up again", "kind", j.Kind, "subject", j.Subject, "state", j.State)
			if err := tx.SaveJob(j); err != nil {
				return err
			}
		}
		return nil
	})
}

// lookAgain is how long the queue waits at most before it looks for jobs. It knows when waiting jobs are due, so this
// is only for a clock that was set.
const lookAgain = time.Minute

// Run does jobs until ctx ends, and returns when all have stopped.
func (q *Queue) Run(ctx context.Context) {
	defer q.stop()
	for {
		added := q.store.WorkAdded()
		next := q.look(ctx)
		timer := time.NewTimer(min(next, lookAgain))
		select {
		case <-ctx.Done():
			timer.Stop()
			return
		case <-added:
		case <-q.nudge:
		case <-timer.C:
		}
		timer.Stop()
	}
}

// stop stops every job where it is.
func (q *Queue) stop() {
	q.mu.Lock()
	q.stopped = true
	for _, r := range q.mine {
		if r.cancel != nil {
			r.cancel(ErrStopping)
		}
	}
	q.mu.Unlock()
	q.wait.Wait()
}

// Stop stops a job with a cause, and reports whether this service was working at it.
func (q *Queue) Stop(kind string, subject int64, cause error) bool {
	q.mu.Lock()
	defer q.mu.Unlock()
	r := q.mine[key{kind, subject}]
	if r == nil || r.cancel == nil {
		return false
	}
	r.cancel(cause)
	return true
}

// Forget removes a job that waits in memory.
func (q *Queue) Forget(kind string, subject int64) {
	q.mu.Lock()
	defer q.mu.Unlock()
	if r := q.mine[key{kind, subject}]; r != nil && r.cancel == nil {
		delete(q.mine, key{kind, subject})
	}
}

// lookAt is how many ready jobs of a kind are looked at, besides the first of each key.
const lookAt = 256

// look claims what is due and returns for how long nothing more will be.
func (q *Queue) look(ctx context.Context) time.Duration {
	var ready []api.Job
	for kind := range q.kinds {
		some, err := q.store.ReadyJobs(ctx, kind, lookAt)
		if err != nil && ctx.Err() == nil {
			q.log.Error("jobs cannot be read", "error", err)
			return time.Second
		}
		ready = append(ready, some...)
	}
	now, next := q.now(), lookAgain
	for _, j := range q.choose(ready, now, &next) {
		q.claim(ctx, j)
	}
	return max(next, 10*time.Millisecond)
}

// choose returns the jobs that can be begun now. If a job waits for a time, it shortens next.
func (q *Queue) choose(ready []api.Job, now time.Time, next *time.Duration) []api.Job {
	q.mu.Lock()
	defer q.mu.Unlock()
	busy, keys := map[string]int{}, map[lane]bool{}
	for k, r := range q.mine {
		if r.cancel != nil {
			busy[k.kind]++
		} else {
			ready = append(ready, r.job) // it waits in memory
		}
		at := lane{k.kind, r.job.Key}
		keys[at] = keys[at] || r.cancel != nil
	}
	var chosen []api.Job
	seen := map[key]bool{}
	for _, j := range ready {
		at := key{j.Kind, j.Subject}
		kind, known := q.kinds[j.Kind]
		if r := q.mine[at]; !known || seen[at] || r != nil && r.cancel != nil {
			continue
		}
		seen[at] = true
		name := lane{j.Kind, j.Key}
		if keys[name] && j.Key != "" {
			continue
		}
		if wait := j.DueAt.Sub(now); wait > 0 {
			*next = min(*next, wait)
			keys[name] = true // what comes behind it waits too
			continue
		}
		if busy[j.Kind] >= kind.AtOnce {
			continue
		}
		busy[j.Kind]++
		keys[name] = true
		chosen = append(chosen, j)
	}
	return chosen
}

// claim begins a job.
func (q *Queue) claim(ctx context.Context, j api.Job) {
	at := key{j.Kind, j.Subject}
	work, cancel := context.WithCancelCause(context.WithoutCancel(ctx))
	q.mu.Lock()
	if q.stopped {
		q.mu.Unlock()
		cancel(nil)
		return
	}
	r := &running{job: j, cancel: cancel, done: make(chan struct{})}
	q.mine[at] = r
	q.wait.Add(1)
	q.mu.Unlock()
	go func() {
		defer q.wait.Done()
		defer close(r.done)
		defer cancel(nil)
		there := true
		err := q.store.Write(work, func(tx *store.Tx) (err error) {
			there, err = tx.ClaimJob(j)
			return err
		})
		if err == nil && there { // else it was done, or paused, meanwhile
			err = q.safely(work, j)
		}
		q.ended(work, r, j, there, err)
	}()
}

// safely does a job; a panic is an error.
func (q *Queue) safely(ctx context.Context, j api.Job) (err error) {
	defer func() {
		if v := recover(); v != nil {
			p := &store.Panicked{Value: v, Stack: debug.Stack()}
			q.log.Error("a job panicked", "kind", j.Kind, "subject", j.Subject, "panic", fmt.Sprint(v), "stack",
				string(p.Stack))
			if crashed := q.kinds[j.Kind].Crashed; crashed != nil {
				crashed(j.Subject, p)
			}
			err = &Paused{"Koinos itself failed at it: " + fmt.Sprint(v)}
		}
	}()
	return q.kinds[j.Kind].Work(ctx, j.Subject)
}

// first and longest are how long a job waits after its first and after many attempts. While the disk or the database
// cannot be written, it waits blocked at most, so that it continues soon afterwards.
const (
	first   = 500 * time.Millisecond
	longest = time.Minute
	blocked = 2 * time.Second
)

// ended stores what became of a job. If that cannot be stored, the job stays in memory and is tried again from there.
func (q *Queue) ended(ctx context.Context, r *running, j api.Job, there bool, err error) {
	at := key{j.Kind, j.Subject}
	var paused *Paused
	done := false
	switch stopping := errors.Is(context.Cause(ctx), ErrStopping); {
	case err == nil:
		done = true
	case stopping:
		j.State, j.DueAt = api.JobReady, q.now()
	case errors.As(err, &paused):
		j.State, j.Reason = api.JobPaused, paused.Reason
	default:
		j.Tries++
		wait := min(first<<min(j.Tries-1, 16), longest)
		if store.Blocked(err) != "" {
			wait = min(wait, blocked)
		}
		j.State, j.Reason, j.DueAt = api.JobReady, err.Error(),
			q.now().Add(wait/2+time.Duration(rand.Int64N(int64(wait))))
		q.log.Warn("a job is tried again", "kind", j.Kind, "subject", j.Subject, "in", wait, "error", err)
	}
	if !there {
		q.mu.Lock()
		delete(q.mine, at)
		q.mu.Unlock()
		return
	}
	kept := q.store.Write(context.WithoutCancel(ctx), func(tx *store.Tx) error { return tx.LeaveJob(j, done) })
	q.mu.Lock()
	defer q.mu.Unlock()
	delete(q.mine, at)
	if kept != nil {
		q.log.Error("what became of a job could not be kept", "kind", j.Kind, "subject", j.Subject, "error", kept)
		if done || paused != nil {
			j.State, j.DueAt = api.JobReady, q.now().Add(first) // its work finds that it is done, or pauses again
		}
		if !q.stopped {
			r.job, r.cancel = j, nil
			q.mine[at] = r
		}
	}
	select {
	case q.nudge <- struct{}{}:
	default:
	}
}
