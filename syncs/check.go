package syncs

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"koinos/api"
	"koinos/core/finding"
	"koinos/core/syncing"
	"koinos/core/system"
	"koinos/jobs"
	"koinos/remote"
	"koinos/store"
)

// checking is one comparison in progress.
type checking struct {
	s *Syncs
	c *api.SyncCheck
	y *standing

	mu       sync.Mutex
	rows     []api.CheckRow // that are not kept yet
	n        int
	imagined map[int64]bool // orders that were looked at as they would be
	differ   []store.NewTask
	anew     bool // rows of an attempt before are there still
}

// StartCheck begins a comparison. It is in the store when StartCheck returns.
func (s *Syncs) StartCheck(ctx context.Context, name string, n api.NewCheck, by string) (api.SyncCheck, error) {
	if _, err := s.with(ctx, name, n.Only); err != nil {
		return api.SyncCheck{}, err
	}
	if n.Repair && n.Kind == api.CheckDryRun {
		return api.SyncCheck{}, asked("A dry run makes nothing right: ask for a run, or for a reconcile with repair.")
	}
	c := api.SyncCheck{Sync: name, NewCheck: n, State: api.SyncRunning, StartedAt: s.now().UTC(), By: by}
	return c, s.store.AddCheck(ctx, &c)
}

// reconcileLook is how often the service checks whether a reconcile is due.
const reconcileLook = time.Second

// reconcileDue begins the reconciles that syncs ask for automatically. The first is due one interval after the sync was
// stored.
func (s *Syncs) reconcileDue(ctx context.Context, active []*standing, progresses map[string]store.Progress) error {
	s.mu.Lock()
	early := s.now().Sub(s.reconcileAt) < reconcileLook
	if !early {
		s.reconcileAt = s.now()
	}
	s.mu.Unlock()
	if early {
		return nil
	}
	for _, y := range active {
		if y.Reconcile == 0 {
			continue
		}
		last := progresses[y.Name].Since
		began, running, err := s.store.LastReconcile(ctx, y.Name)
		if err != nil {
			return err
		}
		if began.After(last) {
			last = began
		}
		if running || s.now().Before(last.Add(y.Reconcile)) {
			continue
		}
		if _, err := s.StartCheck(ctx, y.Name, api.NewCheck{Kind: api.CheckReconcile, Repair: y.Repair},
			"sync "+y.Name); err != nil {
			return err
		}
	}
	return nil
}

// WaitCheck returns a comparison when it has ended, or as it is when ctx ends.
func (s *Syncs) WaitCheck(ctx context.Context, id int64) (api.SyncCheck, error) {
	for {
		woken := s.store.Woken()
		c, err := s.store.Check(context.WithoutCancel(ctx), id)
		if err != nil || c.State != api.SyncRunning || ctx.Err() != nil {
			return c, err
		}
		untilCommit(ctx, woken)
	}
}

// compare does a comparison: it is the work of a job, and begins again if it was interrupted.
func (s *Syncs) compare(ctx context.Context, id int64) error {
	c, err := s.store.Check(ctx, id)
	if err != nil || c.State != api.SyncRunning {
		return err
	}
	all, err := s.standings(ctx)
	if err != nil {
		return err
	}
	k := &checking{s: s, c: &c, y: all[c.Sync], imagined: map[int64]bool{}, anew: true}
	c.Counts, c.Reason = api.CheckCounts{}, ""
	err = k.all(ctx)
	if err != nil && ctx.Err() != nil {
		return context.Cause(ctx)
	}
	var problem *remote.Problem
	var answer *system.AnswerError
	var wrong *AskedError
	c.State, c.EndedAt = api.SyncDone, s.now().UTC()
	switch {
	case err == nil:
	case store.Blocked(err) != "", errors.As(err, &problem) && problem.Kind == remote.Away:
		c.State, c.EndedAt, c.Reason = api.SyncRunning, time.Time{}, err.Error()
	case errors.As(err, &problem), errors.As(err, &answer), errors.As(err, &wrong), errors.Is(err, store.ErrNotFound):
		c.State, c.Reason = api.CheckFailed, finding.Capital(err.Error())
	default:
		return err
	}
	if kept := k.flush(ctx); kept != nil {
		return &jobs.Later{Err: kept}
	}
	if c.State == api.SyncRunning {
		return &jobs.Later{Err: err}
	}
	return nil
}

func (k *checking) all(ctx context.Context) error {
	for i := range k.y.Pulls {
		if p := &k.y.Pulls[i]; k.wants(p.Target.String()) && k.c.Kind != api.CheckLink {
			if err := k.pull(ctx, p); err != nil {
				return err
			}
		}
	}
	var err error
	if k.c.Kind == api.CheckDryRun {
		err = k.pending(ctx)
	} else {
		err = k.every(ctx, k.compareOrder)
	}
	if err != nil || k.c.Kind != api.CheckReconcile {
		return err
	}
	for i := range k.y.Pushes {
		if p := &k.y.Pushes[i]; k.wants(p.Name) {
			if err := k.besides(ctx, p); err != nil {
				return err
			}
		}
	}
	if k.c.Repair && len(k.differ) > 0 {
		return k.repair(ctx)
	}
	return nil
}

func (k *checking) wants(name string) bool {
	return len(k.c.Only) == 0 || slices.Contains(k.c.Only, name)
}

// rowsAtOnce is how many rows are stored at once.
const rowsAtOnce = 200

// add notes what was found.
func (k *checking) add(ctx context.Context, r api.CheckRow) error {
	k.mu.Lock()
	k.n++
	r.N = k.n
	k.rows = append(k.rows, r)
	c := &k.c.Counts
	*map[string]*int{api.WouldLoad: &c.Load, api.WouldUpdate: &c.Update, api.WouldRefuse: &c.Refuse,
		api.WouldCreate: &c.Create, api.WouldChange: &c.Change, api.CannotGo: &c.Cannot, api.IsLost: &c.Lost,
		api.IsBesides: &c.Besides, api.WouldLink: &c.Link, api.IsAmbiguous: &c.Ambiguous, api.NotThere: &c.NotThere,
		api.IsUnclear: &c.NotTried}[r.Outcome]++
	full := len(k.rows) >= rowsAtOnce
	k.mu.Unlock()
	if full {
		return k.flush(ctx)
	}
	return nil
}

// flush stores what was found so far.
func (k *checking) flush(ctx context.Context) error {
	k.mu.Lock()
	rows, anew := k.rows, k.anew
	k.rows, k.anew = nil, false
	c := *k.c
	k.mu.Unlock()
	return k.s.store.SaveCheck(ctx, &c, rows, anew)
}

// follow says what would follow from an order that is imagined.
func (k *checking) follow(ctx context.Context, o *store.StoredOrder, fresh bool) error {
	for i := range k.y.Pushes {
		p := &k.y.Pushes[i]
		if !k.wants(p.Name) {
			continue
		}
		if err := k.push(ctx, p, o, fresh); err != nil {
			return err
		}
	}
	return nil
}

// pending compares the orders that a run would look at.
func (k *checking) pending(ctx context.Context) error {
	s := k.s
	progresses, err := s.store.Progresses(ctx)
	if err != nil {
		return err
	}
	p := progresses[k.y.Name]
	if p.Filled.Valid { // it has looked at none before
		return k.every(ctx, k.compareOrder)
	}
	seen := map[int64]bool{}
	one := func(id int64) error {
		if seen[id] || k.imagined[id] {
			return nil
		}
		seen[id] = true
		return k.compareOrder(ctx, id)
	}
	for at := p.Position; ; {
		touched, err := s.store.TouchedOrders(ctx, at, spreadAtOnce)
		if err != nil || len(touched) == 0 {
			if err != nil {
				return err
			}
			break
		}
		for _, t := range touched {
			if err := one(t.OrderID); err != nil {
				return err
			}
		}
		at = touched[len(touched)-1].N
	}
	for after := int64(0); ; {
		tasks, err := s.store.Tasks(ctx, store.TaskFilter{Sync: k.y.Name, After: after, Limit: spreadAtOnce})
		if err != nil || len(tasks) == 0 {
			return err
		}
		for i := range tasks {
			if t := &tasks[i]; t.State == api.TaskWaiting || t.State == api.TaskAfter {
				if err := one(t.OrderID); err != nil {
					return err
				}
			}
		}
		after = tasks[len(tasks)-1].ID
	}
}

// every examines all orders, several at the same time.
func (k *checking) every(ctx context.Context, f func(context.Context, int64) error) error {
	for after := int64(0); ; {
		ids, err := k.s.store.OrderIDs(ctx, after, spreadAtOnce)
		if err != nil || len(ids) == 0 {
			return err
		}
		after = ids[len(ids)-1]
		if err := sideBySide(ctx, ids, func(id int64) error {
			if k.imagined[id] {
				return nil
			}
			return f(ctx, id)
		}); err != nil {
			return err
		}
		if err := k.flush(ctx); err != nil { // people see how far it is
			return err
		}
	}
}

// comparedAtOnce is how many orders are compared at the same time, within the systems' own limits.
const comparedAtOnce = 8

func sideBySide(ctx context.Context, ids []int64, f func(int64) error) error {
	var work sync.WaitGroup
	var mu sync.Mutex
	var first error
	next := make(chan int64)
	for range min(comparedAtOnce, len(ids)) {
		work.Go(func() {
			for id := range next {
				if err := caught(func() error { return f(id) }); err != nil {
					mu.Lock()
					if first == nil {
						first = err
					}
					mu.Unlock()
				}
			}
		})
	}
	for _, id := range ids {
		mu.Lock()
		stop := first != nil || ctx.Err() != nil
		mu.Unlock()
		if stop {
			break
		}
		next <- id
	}
	close(next)
	work.Wait()
	if first == nil {
		first = ctx.Err()
	}
	return first
}

func caught(f func() error) (err error) {
	defer func() {
		if p := recover(); p != nil {
			err = fmt.Errorf("a comparison crashed: %v", p)
		}
	}()
	return f()
}

// compareOrder compares an order with its records at the targets.
func (k *checking) compareOrder(ctx context.Context, id int64) error {
	is, err := k.s.store.Order(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	return k.follow(ctx, is, false)
}

// push compares an order, or parts of it, with its record at one target. A fresh order is not stored yet.
func (k *checking) push(ctx context.Context, p *syncing.Push, is *store.StoredOrder, fresh bool) error {
	row := api.CheckRow{Part: p.Name, OrderID: is.ID, Order: is.Order.Number, ChangedBy: by(is)}
	if fresh {
		row.OrderID, row.Order = 0, is.SenderNumber
	}
	fits, err := k.s.fits(ctx, p, is)
	if err != nil {
		row.Outcome, row.Code, row.Why = api.CannotGo, api.CannotWrite, finding.Capital(err.Error())+"."
		return k.add(ctx, row)
	}
	var links []api.Link
	if !fresh {
		if links, err = k.s.store.Links(ctx, is.ID); err != nil {
			return err
		}
	}
	for _, part := range partsOf(is, p.Of) {
		link := linked(links, p.Target, part)
		switch {
		case !fits && (link == nil || p.Unfit == syncing.UnfitLeave || p.Of != ""),
			k.c.Kind == api.CheckLink && link != nil:
			continue
		}
		row.Of = part
		if err := k.pushPart(ctx, p, is, fresh, fits, row); err != nil {
			return err
		}
	}
	return nil
}

func (k *checking) pushPart(ctx context.Context, p *syncing.Push, is *store.StoredOrder, fresh, fits bool,
	row api.CheckRow) error {
	s := k.s
	o, r, err := s.target(ctx, p.Target)
	if err != nil {
		return err
	}
	k.mu.Lock()
	k.c.Counts.Orders++
	k.mu.Unlock()
	w := wish{of: p.Of, part: row.Of, mapping: p.Mapping, dry: true, cancelled: !fits,
		linkedOnly: !p.Creates || k.c.Kind == api.CheckLink, lost: p.Lost, sync: k.y.Name, push: p.Name, by: k.c.By,
		order: is, fresh: fresh}
	out, _, err := s.bring(ctx, o, r, is.ID, w)
	if err != nil {
		return err
	}
	if out.State == api.PushAway {
		return &remote.Problem{Kind: remote.Away, Why: strings.Join(out.Why, " ")}
	}
	row.Key, row.Steps, row.Code, row.Why = out.Key, out.Steps, out.Code, strings.Join(out.Why, " ")
	if row.Outcome = verdict(k.c.Kind, &out); row.Outcome == "" {
		k.mu.Lock()
		k.c.Counts.Right++
		k.mu.Unlock()
		return nil
	}
	if k.c.Kind == api.CheckLink {
		return k.linkUp(ctx, p, is, &out, row)
	}
	if row.Outcome != api.CannotGo && row.Outcome != api.IsUnclear {
		k.mu.Lock()
		k.differ = append(k.differ, store.NewTask{Push: p.Name, System: p.System, Record: p.Record, OrderID: is.ID,
			Part: row.Of})
		k.mu.Unlock()
	}
	return k.add(ctx, row)
}

// verdict is the result of a comparison with a target; "" means that the record is right.
func verdict(kind string, out *api.Push) string {
	link := kind == api.CheckLink
	switch {
	case out.Code == api.TargetAmbiguous && link:
		return api.IsAmbiguous
	case out.Code == api.OrderNotThere:
		return api.IsUnclear
	case out.State == api.PushBlocked && (!link || out.Key == ""):
		return api.CannotGo
	case link && out.Key != "":
		return api.WouldLink
	case link:
		return api.NotThere
	case len(out.Steps) == 0:
		return ""
	case out.Key == "":
		return api.WouldCreate
	}
	return api.WouldChange
}

func by(is *store.StoredOrder) string {
	if len(is.Events) == 0 {
		return ""
	}
	return is.Events[len(is.Events)-1].Origin.By
}

// linkUp links an order with the record that was found, if that is asked for.
func (k *checking) linkUp(ctx context.Context, p *syncing.Push, is *store.StoredOrder, out *api.Push,
	row api.CheckRow) error {
	if k.c.Repair && row.Outcome == api.WouldLink {
		l := &api.Link{System: p.System, Record: p.Record, OrderID: is.ID, Part: row.Of, Key: out.Key,
			Number: out.Number}
		err := k.s.store.PutLink(ctx, l, k.s.now())
		var taken *store.TakenError
		switch {
		case errors.As(err, &taken):
			row.Outcome, row.Code = api.IsAmbiguous, api.TargetTaken
			row.Why = fmt.Sprintf("The record is the order with the id %d already.", taken.Order)
		case err != nil:
			return err
		default:
			row.Repaired = true
			k.mu.Lock()
			k.c.Counts.Repaired++
			k.mu.Unlock()
		}
	}
	return k.add(ctx, row)
}

// repair corrects the orders that differ, and records which of them were corrected.
func (k *checking) repair(ctx context.Context) error {
	s := k.s
	if err := k.flush(ctx); err != nil {
		return err
	}
	if err := errors.Join(s.store.Disagree(ctx, k.differ), s.store.AddTasks(ctx, k.y.Name, k.differ,
		s.now())); err != nil {
		return err
	}
	var pushes []string
	for _, t := range k.differ {
		if !slices.Contains(pushes, t.Push) {
			pushes = append(pushes, t.Push)
		}
	}
	r := api.SyncRun{Sync: k.y.Name, Only: pushes, State: api.SyncRunning, StartedAt: s.now().UTC(),
		By: fmt.Sprintf("reconcile of %s", k.y.Name)}
	if err := s.store.AddSyncRun(ctx, &r); err != nil {
		return err
	}
	s.wake()
	if r, err := s.WaitRun(ctx, r.ID); err != nil || ctx.Err() != nil || r.State != api.SyncDone {
		if err == nil {
			err = context.Cause(ctx)
		}
		if err == nil {
			err = asked("The sync was paused before everything was repaired.")
		}
		return err
	}
	for after := 0; ; {
		rows, err := s.store.CheckRows(ctx, k.c.ID, "", after, spreadAtOnce)
		if err != nil || len(rows) == 0 {
			return err
		}
		after = rows[len(rows)-1].N
		var now []api.CheckRow
		for _, row := range rows {
			if row.Outcome != api.WouldCreate && row.Outcome != api.WouldChange {
				continue
			}
			left, err := s.store.TaskOf(ctx, k.y.Name, row.Part, row.OrderID, row.Of)
			if err != nil {
				return err
			}
			if left == nil {
				row.Repaired = true
				k.c.Counts.Repaired++
			} else {
				row.Why = left.Why
			}
			now = append(now, row)
		}
		if err := s.store.SaveCheck(ctx, k.c, now, false); err != nil {
			return err
		}
	}
}
