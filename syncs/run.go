package syncs

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"koinos/api"
	"koinos/core/finding"
	"koinos/core/syncing"
	"koinos/remote"
	"koinos/store"
)

// poll is a kind of record that is read at intervals.
type poll struct {
	busy       bool
	last, next time.Time
	failures   int    // one after another
	why        string // the last one failed; "" is that it did not
}

// running is what is known about an open run.
type running struct {
	pulls map[syncing.Target]*runPull
}

// runPull is one pull of a run.
type runPull struct {
	busy, ended bool
	failures    int // in a row
	next        time.Time
	pull        api.Pull
}

// recheckFiles is how soon a folder is examined again that contains an incomplete file.
const recheckFiles = 500 * time.Millisecond

// pollDue begins the polls that are due, and returns for how long no other one will be.
func (s *Syncs) pollDue(ctx context.Context, work *sync.WaitGroup, active []*standing) time.Duration {
	next := lookLater
	for _, y := range active {
		for i := range y.Pulls {
			p := &y.Pulls[i]
			if p.Every == 0 {
				continue
			}
			wait, begin := s.beginPoll(p)
			next = min(next, wait)
			if begin {
				work.Go(func() { s.polled(ctx, y, p) })
			}
		}
	}
	return next
}

func (s *Syncs) beginPoll(p *syncing.Pull) (wait time.Duration, begin bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	q := s.polls[p.Target]
	if q == nil {
		q = &poll{}
		s.polls[p.Target] = q
	}
	if q.busy { // who is done wakes us
		return lookLater, false
	}
	if wait = q.next.Sub(s.now()); wait > 0 {
		return wait, false
	}
	q.busy = true
	return lookLater, true
}

func (s *Syncs) polled(ctx context.Context, y *standing, p *syncing.Pull) {
	begun := s.now()
	pull := s.read(ctx, y, p)
	s.mu.Lock()
	q := s.polls[p.Target]
	q.busy, q.last, q.next, q.why = false, begun.UTC(), begun.Add(p.Every).UTC(), ""
	if pull.State == api.PullFailed {
		q.why = pull.Reason
	}
	if pull.State == api.PullAway {
		q.failures++
		q.next = s.now().Add(doubled(firstGap, mostGap, q.failures-1)).UTC()
	} else {
		q.failures = 0
	}
	if pull.Waiting > 0 {
		q.next = s.now().Add(min(recheckFiles, p.Every)).UTC()
	}
	s.mu.Unlock()
	s.wake()
}

// read pulls once for a sync. What is wrong is in the pull.
func (s *Syncs) read(ctx context.Context, y *standing, p *syncing.Pull) (pull api.Pull) {
	defer func() {
		if r := recover(); r != nil {
			s.log.Error("a pull crashed", "sync", y.Name, "record", p.Target.String(), "panic", fmt.Sprint(r))
			pull.State, pull.Reason = api.PullFailed, "Koinos made a mistake: "+fmt.Sprint(r)
		}
	}()
	free, err := s.holdFor(ctx, "pull "+p.System)
	if err != nil {
		return pull
	}
	defer free()
	pull, _, _, err = s.prepare(ctx, p.System, pullBy(p), "sync "+y.Name)
	if err == nil {
		err = s.attempt(ctx, &pull)
	}
	switch {
	case err == nil && pull.State == api.PullDone:
	case err == nil:
		s.log.Warn("a pull failed", "sync", y.Name, "record", p.Target.String(), "why", pull.Reason)
	default:
		var problem *remote.Problem
		var asked *AskedError
		pull.System, pull.Record, pull.Reason = p.System, p.Record, err.Error()
		pull.State = api.PullAway
		if errors.As(err, &asked) || errors.Is(err, store.ErrNotFound) || finding.Of(err) != nil ||
			errors.As(err, &problem) && problem.Kind != remote.Away {
			pull.State = api.PullFailed
		} else if pull.ID != 0 && ctx.Err() == nil { // some of it is kept: a job goes on with it
			s.adopt(ctx, pull.ID)
		}
	}
	return pull
}

// adopt makes jobs of pulls that were interrupted. If that cannot be stored, because a disk is full, it tries until it
// can, because nobody else continues them.
func (s *Syncs) adopt(ctx context.Context, pull int64) {
	for gap := firstGap; ctx.Err() == nil; gap = min(2*gap, mostGap) {
		err := s.store.AdoptPulls(ctx, s.now().Add(firstGap))
		if err == nil {
			return
		}
		s.log.Error("a pull that was interrupted does not go on yet", "pull", pull, "error", err, "again_in", gap)
		select {
		case <-ctx.Done():
		case <-time.After(gap):
		}
	}
}

// pollRuns begins the pulls that open runs wait for.
func (s *Syncs) pollRuns(ctx context.Context, work *sync.WaitGroup, all map[string]*standing, open []api.SyncRun) {
	s.mu.Lock()
	defer s.mu.Unlock()
	now := s.now()
	for i := range open {
		y := all[open[i].Sync]
		if y == nil {
			continue
		}
		r := s.runs[open[i].ID]
		if r == nil {
			r = &running{pulls: map[syncing.Target]*runPull{}}
			for k := range y.Pulls {
				if p := &y.Pulls[k]; wanted(&open[i], p.Target.String()) {
					r.pulls[p.Target] = &runPull{pull: api.Pull{System: p.System, Record: p.Record, State: api.PullRunning}}
				}
			}
			s.runs[open[i].ID] = r
		}
		for k := range y.Pulls {
			p := &y.Pulls[k]
			q := r.pulls[p.Target]
			if q == nil || q.busy || q.ended || q.next.After(now) {
				continue
			}
			q.busy = true
			work.Go(func() { s.readFor(ctx, y, p, q) })
		}
	}
}

func wanted(r *api.SyncRun, name string) bool {
	return len(r.Only) == 0 || slices.Contains(r.Only, name)
}

// readFor pulls for a run.
func (s *Syncs) readFor(ctx context.Context, y *standing, p *syncing.Pull, q *runPull) {
	pull := s.read(ctx, y, p)
	if ctx.Err() != nil {
		return
	}
	s.mu.Lock()
	again := time.Duration(0)
	if pull.State == api.PullAway { // because of the system or the disk: it has not read
		again = doubled(firstBackoff, mostGap, q.failures)
		if a := s.outages[p.System]; a != nil {
			again = max(a.until.Sub(s.now()), firstBackoff)
		}
		q.failures++
	} else if q.failures = 0; pull.Waiting > 0 {
		again = recheckFiles
	}
	was := q.pull
	q.busy, q.pull = false, pull
	if was.State != api.PullRunning { // several readings are one pull of the run
		q.pull.Pages += was.Pages
		q.pull.Records, q.pull.Unchanged = q.pull.Records+was.Records, q.pull.Unchanged+was.Unchanged
		q.pull.Loaded, q.pull.Changed, q.pull.Failed = q.pull.Loaded+was.Loaded, q.pull.Changed+was.Changed,
			q.pull.Failed+was.Failed
	}
	q.ended = again == 0
	q.next = s.now().Add(again)
	s.mu.Unlock()
	s.wake()
}

// endRuns ends the runs of which everything is done or held.
func (s *Syncs) endRuns(ctx context.Context, all map[string]*standing, open []api.SyncRun) error {
	for i := range open {
		r := &open[i]
		y := all[r.Sync]
		if y == nil {
			continue
		}
		over, _, _, err := s.settled(ctx, y.Sync, r)
		if err != nil {
			return err
		}
		if !over {
			continue
		}
		r.Pulls = s.pullsOf(r)
		r.State, r.EndedAt = api.SyncDone, s.now().UTC()
		if err := s.store.SaveSyncRun(ctx, r); err != nil {
			return err
		}
		s.mu.Lock()
		delete(s.runs, r.ID)
		s.mu.Unlock()
		s.log.Info("a run of a sync ended", "sync", r.Sync, "run", r.ID)
	}
	return nil
}

// pullsOf is the result of the pulls of an open run.
func (s *Syncs) pullsOf(r *api.SyncRun) []api.Pull {
	s.mu.Lock()
	defer s.mu.Unlock()
	known := s.runs[r.ID]
	if known == nil {
		return append([]api.Pull{}, r.Pulls...)
	}
	list := []api.Pull{}
	for _, q := range known.pulls {
		list = append(list, q.pull)
	}
	slices.SortFunc(list, func(x, y api.Pull) int {
		return strings.Compare(x.System+"."+x.Record, y.System+"."+y.Record)
	})
	return list
}

// settled reports whether everything that came of a run, or otherwise of a sync, is done or held. If not, away are the
// systems that do not answer; since is the time since which only they prevent it.
func (s *Syncs) settled(ctx context.Context, y *syncing.Sync, r *api.SyncRun) (is bool, away []string, since time.Time,
	err error) {
	waits := map[string]bool{} // by system
	busy := false
	if r != nil {
		s.mu.Lock()
		known := s.runs[r.ID]
		if known == nil {
			busy = true
		} else {
			for t, q := range known.pulls {
				if !q.ended {
					waits[t.System] = true
				}
			}
		}
		s.mu.Unlock()
	}
	for _, p := range y.Pulls {
		open, err := s.store.OpenPulls(ctx, p.System, p.Record)
		if err != nil {
			return false, nil, since, err
		}
		if open > 0 && (r == nil || wanted(r, p.Target.String())) {
			waits[p.System] = true
		}
	}
	if r != nil || !y.Asked {
		last, err := s.store.LastEvent(ctx)
		if err != nil {
			return false, nil, since, err
		}
		progresses, err := s.store.Progresses(ctx)
		if err != nil {
			return false, nil, since, err
		}
		p := progresses[y.Name]
		busy = busy || p.State == api.SyncActive && (p.Position < last || p.Filled.Valid)
	}
	var pushes []string
	for i := range y.Pushes {
		p := &y.Pushes[i]
		if r == nil || wanted(r, p.Name) {
			pushes = append(pushes, p.Name)
		}
		if r != nil && wanted(r, p.Name) {
			busy = busy || !s.heard(ctx, p, r.StartedAt)
		}
	}
	systems, err := s.store.WaitingSystems(ctx, y.Name, pushes)
	if err != nil {
		return false, nil, since, err
	}
	for _, name := range systems {
		waits[name] = true
	}
	if len(waits) == 0 && !busy {
		return true, nil, since, nil
	}
	for _, name := range sorted(waits) {
		why, from := s.awayOf(name)
		if why == "" {
			busy = true
			continue
		}
		away = append(away, name)
		if from.After(since) {
			since = from
		}
	}
	if busy {
		since = time.Time{}
	}
	return false, away, since, nil
}

// RunSync begins a run of a sync: its pulls read now, everything that waits is due, and systems that are away are tried
// at once. only names single pulls and pushes.
func (s *Syncs) RunSync(ctx context.Context, name string, n api.NewSyncRun, by string) (api.SyncRun, error) {
	y, err := s.with(ctx, name, n.Only)
	if err != nil {
		return api.SyncRun{}, err
	}
	progresses, err := s.store.Progresses(ctx)
	if err != nil {
		return api.SyncRun{}, err
	}
	if err := notPaused(progresses[name], name); err != nil {
		return api.SyncRun{}, err
	}
	r := api.SyncRun{Sync: name, Only: n.Only, State: api.SyncRunning, StartedAt: s.now().UTC(), By: by}
	if err := s.store.AddSyncRun(ctx, &r); err != nil {
		return r, err
	}
	s.probe(y.Systems())
	s.listenNow(y.Sync)
	if err := s.store.HurryPulls(ctx, y.Systems(), s.now()); err != nil {
		return r, err
	}
	s.wake()
	return s.DescribeRun(ctx, r)
}

func notPaused(p store.Progress, name string) error {
	if p.State == api.SyncPaused {
		return asked("%s is paused: %s koinos sync resume %s lets it go on.", name, p.Reason, name)
	}
	return nil
}

// RetryHeld tries held pushes once more, by runs of their syncs.
func (s *Syncs) RetryHeld(ctx context.Context, all []api.HeldWork, by string) (runs []int64, err error) {
	pushes := map[string][]string{}
	var ids []int64
	for i := range all {
		k, err := s.store.Task(ctx, all[i].Task)
		if err != nil {
			return nil, err
		}
		ids = append(ids, k.ID)
		if !slices.Contains(pushes[k.Sync], k.Push) {
			pushes[k.Sync] = append(pushes[k.Sync], k.Push)
		}
	}
	progresses, err := s.store.Progresses(ctx)
	if err != nil {
		return nil, err
	}
	for _, name := range sorted(pushes) { // before anything is changed
		if err := notPaused(progresses[name], name); err != nil {
			return nil, err
		}
	}
	if err := s.store.RetryTasks(ctx, ids, s.now()); err != nil {
		return nil, err
	}
	known, err := s.standings(ctx)
	for _, name := range sorted(pushes) {
		if err != nil {
			break
		}
		if y := known[name]; y != nil {
			s.forgetAll(y.Systems())
		}
		var r api.SyncRun
		if r, err = s.RunSync(ctx, name, api.NewSyncRun{Only: pushes[name]}, by); err == nil {
			runs = append(runs, r.ID)
		}
	}
	return runs, err
}

// DescribeRun is a run with its results.
func (s *Syncs) DescribeRun(ctx context.Context, r api.SyncRun) (api.SyncRun, error) {
	r.Pulls = s.pullsOf(&r)
	kept, err := s.store.Sync(ctx, r.Sync, 0)
	if err != nil {
		return r, err
	}
	y, err := syncing.Parse([]byte(kept.Text))
	if err != nil {
		return r, err
	}
	written, err := s.store.CountPushed(ctx, r.Sync, r.StartedAt, r.Pushed)
	if err != nil {
		return r, err
	}
	tasks, _, err := s.store.CountTasks(ctx, r.Sync)
	if err != nil {
		return r, err
	}
	for _, p := range y.Pushes {
		if wanted(&r, p.Name) {
			r.Counts = together(r.Counts, together(written[p.Name], tasks[p.Name]))
		}
	}
	if len(r.Only) == 0 {
		waits, err := s.store.CountHeldOrders(ctx, r.Sync)
		if err != nil {
			return r, err
		}
		r.Counts.Held += waits
	}
	if r.State != api.SyncRunning {
		r.Settled = r.State == api.SyncDone
		return r, nil
	}
	var since time.Time
	r.Settled, r.Away, since, err = s.settled(ctx, y, &r)
	if !since.IsZero() {
		r.AwayFor = s.now().Sub(since).Seconds()
	}
	return r, err
}

// waitTick is how often a waiting caller checks again, in addition to commits, because the return of a system is not a
// commit.
const waitTick = 200 * time.Millisecond

// untilCommit waits until something is stored, or a tick has passed.
func untilCommit(ctx context.Context, woken <-chan struct{}) {
	timer := time.NewTimer(waitTick)
	defer timer.Stop()
	select {
	case <-ctx.Done():
	case <-woken:
		sleep(ctx, lookAgain) // commits come in crowds
	case <-timer.C:
	}
}

// WaitRun returns a run once it has ended, or as it is when ctx ends.
func (s *Syncs) WaitRun(ctx context.Context, id int64) (api.SyncRun, error) {
	anyway := context.WithoutCancel(ctx)
	for {
		woken := s.store.Woken()
		r, err := s.store.SyncRun(anyway, id)
		if err != nil {
			return r, err
		}
		if r.State != api.SyncRunning || ctx.Err() != nil {
			return s.DescribeRun(anyway, r)
		}
		untilCommit(ctx, woken)
	}
}

// WaitSync returns a sync once everything that came is done or held, or as it is when ctx ends.
func (s *Syncs) WaitSync(ctx context.Context, name string) (api.Sync, error) {
	anyway := context.WithoutCancel(ctx)
	for {
		woken := s.store.Woken()
		kept, err := s.store.Sync(anyway, name, 0)
		if err != nil {
			return kept, err
		}
		kept, err = s.DescribeSync(anyway, kept)
		if err != nil || kept.State.Settled || ctx.Err() != nil {
			return kept, err
		}
		untilCommit(ctx, woken)
	}
}

func sorted[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }
