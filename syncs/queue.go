package syncs

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"sync"
	"time"

	"koinos/api"
	"koinos/core/syncing"
	"koinos/store"
)

// keeper is the state of what keeps syncs going; Syncs.mu guards it.
type keeper struct {
	standing map[string]*standing // all that are kept; nil: they are to be read
	kept     int                  // how often one was kept
	polls    map[syncing.Target]*poll
	outages  map[string]*outage
	runs     map[int64]*running

	tasks  map[int64]bool // at work
	ended  map[int64]bool // since the list of those that are due was asked for: it may still have them
	orders map[int64]bool // of which one is at work
	slots  map[string]int // taken, by system
	nudge  chan struct{}

	listens     map[syncing.Target]*listening
	fixed       map[syncing.Target]bool // of files: what an earlier service left half done was looked for
	reconcileAt time.Time               // when it was looked last whether a reconcile is due
}

func newKeeper() keeper {
	return keeper{polls: map[syncing.Target]*poll{}, listens: map[syncing.Target]*listening{},
		fixed: map[syncing.Target]bool{}, outages: map[string]*outage{}, runs: map[int64]*running{},
		tasks: map[int64]bool{}, ended: map[int64]bool{}, orders: map[int64]bool{}, slots: map[string]int{},
		nudge: make(chan struct{}, 1)}
}

func (s *Syncs) wake() {
	select {
	case s.nudge <- struct{}{}:
	default:
	}
}

// How often everything is examined: at most this often after a commit, and at least this often in case the clock was
// set.
const (
	lookAgain = 2 * time.Millisecond
	lookLater = 5 * time.Second
)

// Run keeps syncs going until ctx ends.
func (s *Syncs) Run(ctx context.Context) {
	var work sync.WaitGroup
	defer work.Wait()
	if err := s.store.AdoptPulls(ctx, s.now()); err != nil && ctx.Err() == nil {
		s.log.Error("pulls that were interrupted do not go on", "error", err)
	}
	for {
		woken := s.store.Woken()
		next, err := s.round(ctx, &work)
		if err != nil && ctx.Err() == nil {
			s.log.Error("syncs do not go on", "error", err)
			next = time.Second
		}
		timer := time.NewTimer(min(max(next, lookAgain), lookLater))
		select {
		case <-ctx.Done():
			timer.Stop()
			return
		case <-woken:
			sleep(ctx, lookAgain)
		case <-s.nudge:
		case <-timer.C:
		}
		timer.Stop()
	}
}

func sleep(ctx context.Context, d time.Duration) {
	timer := time.NewTimer(d)
	defer timer.Stop()
	select {
	case <-ctx.Done():
	case <-timer.C:
	}
}

// round reads what happened, begins what is due, and returns for how long nothing more will be.
func (s *Syncs) round(ctx context.Context, work *sync.WaitGroup) (next time.Duration, err error) {
	open, err := s.store.OpenSyncRuns(ctx) // before the syncs, of which a run needs the version that it was begun with
	if err != nil {
		return 0, err
	}
	all, err := s.standings(ctx)
	if err != nil || len(all) == 0 {
		return lookLater, err
	}
	progresses, err := s.store.Progresses(ctx)
	if err != nil {
		return 0, err
	}
	asked := map[string]bool{}
	for i := range open {
		asked[open[i].Sync] = true
	}
	var active []*standing
	for _, name := range sorted(all) {
		y := all[name]
		p, ok := progresses[name]
		if !ok || p.State != api.SyncActive || y.Asked && !asked[name] {
			continue
		}
		active = append(active, y)
		if err := s.spread(ctx, y, p); err != nil {
			return 0, err
		}
	}
	next = min(s.answersDue(ctx, work, active), s.pollDue(ctx, work, active))
	s.pollRuns(ctx, work, all, open)
	if err := s.reconcileDue(ctx, active, progresses); err != nil {
		return 0, err
	}
	wait, err := s.dispatch(ctx, work, active, open)
	if err != nil {
		return 0, err
	}
	next = min(next, wait)
	return next, s.endRuns(ctx, all, open)
}

// spreadAtOnce is how many orders are examined at a time.
const spreadAtOnce = 500

// spread makes tasks of the orders to which something happened, and of all orders if a sync is new.
func (s *Syncs) spread(ctx context.Context, y *standing, p store.Progress) error {
	if len(y.Pushes) == 0 {
		return s.passBy(ctx, p)
	}
	if p.Filled.Valid && p.Filled.Int64 == 0 { // all orders are looked at as they are now
		last, err := s.store.LastEvent(ctx)
		if err != nil {
			return err
		}
		p.Position = last
	}
	for p.Filled.Valid {
		ids, err := s.store.OrderIDs(ctx, p.Filled.Int64, spreadAtOnce)
		if err != nil {
			return err
		}
		all, err := s.concern(ctx, y, ids)
		if err != nil {
			return err
		}
		if len(ids) > 0 {
			p.Filled.Int64 = ids[len(ids)-1]
		} else {
			p.Filled = sql.NullInt64{}
		}
		if err := s.store.SpreadTasks(ctx, &p, all, s.now()); err != nil {
			return err
		}
	}
	for ctx.Err() == nil {
		touched, err := s.store.TouchedOrders(ctx, p.Position, spreadAtOnce)
		if err != nil || len(touched) == 0 {
			return err
		}
		ids := make([]int64, 0, len(touched))
		for _, t := range touched {
			ids = append(ids, t.OrderID)
		}
		slices.Sort(ids)
		all, err := s.concern(ctx, y, slices.Compact(ids))
		if err != nil {
			return err
		}
		p.Position = touched[len(touched)-1].N
		if err := s.store.SpreadTasks(ctx, &p, all, s.now()); err != nil {
			return err
		}
	}
	return ctx.Err()
}

// passBy notes that nothing follows from events for a sync that only reads.
func (s *Syncs) passBy(ctx context.Context, p store.Progress) error {
	last, err := s.store.LastEvent(ctx)
	if err != nil || last == p.Position && !p.Filled.Valid {
		return err
	}
	p.Position, p.Filled = last, sql.NullInt64{}
	return s.store.SpreadTasks(ctx, &p, nil, s.now())
}

// concern returns the tasks that follow from orders: from those that a push writes, and from those that are linked with
// its record.
func (s *Syncs) concern(ctx context.Context, y *standing, ids []int64) (all []store.NewTask, err error) {
	for _, id := range ids {
		is, err := s.store.OrderNow(ctx, id)
		gone := errors.Is(err, store.ErrNotFound)
		if err != nil && !gone {
			return nil, err
		}
		var links []api.Link
		read := false
		for i := range y.Pushes {
			p := &y.Pushes[i]
			fits := false
			if !gone {
				fits, err = s.fits(ctx, p, is)
				fits = fits || err != nil // whoever works at it says what is wrong
			}
			if (!fits || p.Of != "") && !read {
				if links, err = s.store.Links(ctx, id); err != nil {
					return nil, err
				}
				read = true
			}
			all = append(all, tasksOf(p, is, id, fits, links)...)
		}
	}
	return all, nil
}

// tasksOf are the tasks of a push for an order. What moved, was answered or was billed is written once.
func tasksOf(p *syncing.Push, is *store.StoredOrder, id int64, fits bool, links []api.Link) (all []store.NewTask) {
	if p.Of == "" {
		if fits || linked(links, p.Target, 0) != nil {
			all = append(all, store.NewTask{Push: p.Name, System: p.System, Record: p.Record, OrderID: id})
		}
		return all
	}
	if is == nil || !fits {
		return nil
	}
	for _, part := range partsOf(is, p.Of) {
		if l := linked(links, p.Target, part); l == nil || l.Revision == 0 {
			all = append(all, store.NewTask{Push: p.Name, System: p.System, Record: p.Record, OrderID: id, Part: part})
		}
	}
	return all
}

// linked returns the link between an order, or a part of it, and a kind of record.
func linked(links []api.Link, t syncing.Target, part int64) *api.Link {
	for i := range links {
		if links[i].System == t.System && links[i].Record == t.Record && links[i].Part == part {
			return &links[i]
		}
	}
	return nil
}

// outage is a system that does not answer.
type outage struct {
	since    time.Time
	why      string
	failures int       // one after another
	until    time.Time // before that nothing is tried
}

// failuresToPause is after how many failures a system is left alone, except for an occasional trial.
const failuresToPause = 3

// Gaps between trials of a system that is away.
const (
	firstGap = time.Second
	mostGap  = time.Minute
)

// failed notes that a system did not answer.
func (s *Syncs) failed(system, why string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	a := s.outages[system]
	if a == nil {
		a = &outage{since: s.now().UTC()}
		s.outages[system] = a
	}
	a.failures++
	a.why = why
	a.until = s.now().Add(doubled(firstGap, mostGap, a.failures-failuresToPause))
	if a.failures == failuresToPause {
		s.log.Warn("a system is away: its syncs wait", "system", system, "since", a.since, "why", why)
	}
}

// answered notes that a system answered.
func (s *Syncs) answered(system string) {
	s.mu.Lock()
	a := s.outages[system]
	delete(s.outages, system)
	s.mu.Unlock()
	if a != nil && a.failures >= failuresToPause {
		s.log.Info("a system is back", "system", system, "away", s.now().Sub(a.since))
		s.wake()
	}
}

// awayOf says since when a system is away, and why; "" if it is not.
func (s *Syncs) awayOf(system string) (why string, since time.Time) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if a := s.outages[system]; a != nil {
		return a.why, a.since
	}
	return "", time.Time{}
}

// probe lets systems be tried at once.
func (s *Syncs) probe(systems []string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, name := range systems {
		if a := s.outages[name]; a != nil {
			a.until = time.Time{}
		}
	}
}

// dispatch begins the tasks that are due, as many as each system accepts at once, and returns for how long nothing more
// will be.
func (s *Syncs) dispatch(ctx context.Context, work *sync.WaitGroup, active []*standing,
	open []api.SyncRun) (time.Duration,
	error) {
	next := lookLater
	if len(active) == 0 {
		return next, nil
	}
	byName := map[string]*standing{}
	names := make([]string, len(active))
	for i, y := range active {
		names[i], byName[y.Name] = y.Name, y
	}
	due, err := s.store.TaskSystems(ctx)
	if err != nil {
		return 0, err
	}
	now := s.now()
	for system, first := range due {
		free, wait := s.room(ctx, system, now)
		if wait > 0 {
			next = min(next, wait)
			continue
		}
		if free == 0 { // who is done wakes us
			continue
		}
		if first.After(now) {
			next = min(next, first.Sub(now))
			continue
		}
		s.mu.Lock()
		taken := len(s.tasks)
		clear(s.ended)
		s.mu.Unlock()
		tasks, err := s.store.DueTasks(ctx, system, names, now, taken+4*free)
		if err != nil {
			return 0, err
		}
		for i := range tasks {
			y := byName[tasks[i].Sync]
			if free == 0 || !wantedBy(y, open, &tasks[i]) || !s.take(&tasks[i]) {
				continue
			}
			free--
			work.Go(func() { s.workAt(ctx, y, &tasks[i]) })
		}
	}
	return next, nil
}

// wantedBy reports whether a task is to be worked on. For a sync that runs only when asked, these are the tasks that an
// open run wants.
func wantedBy(y *standing, open []api.SyncRun, k *api.Task) bool {
	if !y.Asked {
		return true
	}
	for i := range open {
		if open[i].Sync == y.Name && (len(open[i].Only) == 0 || slices.Contains(open[i].Only, k.Push)) {
			return true
		}
	}
	return false
}

// room is how many tasks of a system can be begun, or for how long it is left alone.
func (s *Syncs) room(ctx context.Context, system string, now time.Time) (free int, wait time.Duration) {
	most := 1
	if o, err := s.system(ctx, system, 0); err == nil {
		most = o.atWork()
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if a := s.outages[system]; a != nil && a.failures >= failuresToPause {
		if now.Before(a.until) {
			return 0, a.until.Sub(now)
		}
		most = 1 // a trial
	}
	return max(0, most-s.slots[system]), 0
}

// take takes a task, unless somebody works on it or on another one of its order.
func (s *Syncs) take(k *api.Task) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.tasks[k.ID] || s.ended[k.ID] || s.orders[k.OrderID] {
		return false
	}
	s.tasks[k.ID], s.orders[k.OrderID] = true, true
	s.slots[k.System]++
	return true
}

func (s *Syncs) release(k *api.Task) {
	s.mu.Lock()
	delete(s.tasks, k.ID)
	s.ended[k.ID] = true
	delete(s.orders, k.OrderID)
	s.slots[k.System]--
	s.mu.Unlock()
	s.wake()
}

// workAt works on a task and stores the result.
func (s *Syncs) workAt(ctx context.Context, y *standing, k *api.Task) {
	defer s.release(k)
	f, err := s.guarded(ctx, y, k)
	if ctx.Err() != nil {
		return // it is taken up when the service starts again
	}
	if err != nil { // a mistake of ours, or the store's
		s.log.Error("a task failed", "sync", k.Sync, "push", k.Push, "order", k.OrderID, "error", err)
		k.Why, k.Attempts = err.Error(), k.Attempts+1
		k.DueAt = s.now().Add(backoff(k.Attempts))
		f = &store.Finished{Task: k}
	}
	if err := s.store.FinishPush(ctx, f, s.now()); err != nil && ctx.Err() == nil {
		s.log.Error("what came of a task is not kept: it is done again", "sync", k.Sync, "order", k.OrderID, "error",
			err)
		sleep(ctx, time.Second)
		return
	}
	if f.Fetch && f.Link != nil {
		if err := s.fetch(ctx, f.Link, "sync "+k.Sync); err != nil && ctx.Err() == nil {
			s.log.Error("a record that changed is not read", "system", k.System, "record", k.Record, "key", f.Link.Key,
				"error", err)
		}
	}
}

// guarded turns a panic into a task that is held.
func (s *Syncs) guarded(ctx context.Context, y *standing, k *api.Task) (f *store.Finished, err error) {
	defer func() {
		if p := recover(); p != nil {
			s.log.Error("a task crashed", "sync", k.Sync, "order", k.OrderID, "panic", fmt.Sprint(p))
			k.State, k.Why = api.TaskHeld, "Koinos made a mistake: "+fmt.Sprint(p)
			f, err = &store.Finished{Task: k, Hold: s.heldWork(k, nil, api.NotSettled)}, nil
		}
	}()
	return s.doTask(ctx, y, k)
}

// Gaps between attempts at a task.
const (
	firstBackoff = 300 * time.Millisecond
	mostBackoff  = 5 * time.Minute
)

// backoff is how long a task waits after a number of attempts.
func backoff(attempts int) time.Duration {
	d := doubled(firstBackoff, mostBackoff, attempts-1)
	return d/2 + rand.N(d)
}

// doubled is a time that was doubled a number of times, up to most.
func doubled(d, most time.Duration, often int) time.Duration {
	for range often {
		d = min(2*d, most)
	}
	return d
}
