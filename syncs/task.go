package syncs

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"koinos/api"
	"koinos/core/finding"
	"koinos/core/order"
	"koinos/core/syncing"
	"koinos/store"
)

// attemptsToHold is how often a temporary failure is tried again before a person is asked.
const attemptsToHold = 4

// passes are reasons that may pass by themselves.
var passes = map[string]bool{api.NotSettled: true, api.CannotRead: true}

// doTask makes the record of a task's order say what its push wishes. What must be stored is in the Finished.
func (s *Syncs) doTask(ctx context.Context, y *standing, k *api.Task) (*store.Finished, error) {
	done := &store.Finished{Task: k, Done: true}
	p := y.Push(k.Push)
	if p == nil { // the sync does not have it any more
		return done, nil
	}
	w := wish{of: p.Of, part: k.Part, mapping: p.Mapping, linkedOnly: !p.Creates, lost: p.Lost, sync: y.Name,
		push: p.Name,
		by:   "sync " + y.Name, first: k.Attempts == 0}
	is, err := s.store.OrderNow(ctx, k.OrderID)
	switch {
	case errors.Is(err, store.ErrNotFound):
		w.cancelled = true
	case err != nil:
		return nil, err
	default:
		fits, err := s.fits(ctx, p, is)
		if err != nil {
			return s.holdTask(k, is, api.CannotWrite, finding.Capital(err.Error())+"."), nil
		}
		if !fits && p.Unfit == syncing.UnfitLeave {
			return done, nil
		}
		w.cancelled = !fits
		if p.Of != "" && partOf(is, p.Of, k.Part) == nil { // it was taken back before it was written
			return done, nil
		}
		if waits, err := s.waitsFor(ctx, p, is); err != nil {
			return s.came(k, is, err)
		} else if waits != "" {
			k.State, k.Why = api.TaskAfter, waits
			return &store.Finished{Task: k}, nil
		}
	}
	w.read = is
	o, r, err := s.target(ctx, p.Target)
	if err != nil {
		return s.came(k, is, err)
	}
	out, f, err := s.bring(ctx, o, r, k.OrderID, w)
	if err != nil {
		return s.came(k, is, err)
	}
	return s.concluded(k, is, &out, f), nil
}

// concluded says what becomes of a task after a push.
func (s *Syncs) concluded(k *api.Task, is *store.StoredOrder, out *api.Push, f *store.Finished) *store.Finished {
	why := strings.Join(out.Why, " ")
	f.Task = k
	switch {
	case out.State == api.PushAway || out.Code == api.SystemClosed:
		s.failed(k.System, why)
		k.Attempts, k.Why = k.Attempts+1, why
		k.DueAt = s.now().Add(backoff(k.Attempts))
		f.Link = nil
		if len(out.Steps) == 0 { // else what was done is remembered, though not all was
			f.Log = nil
		}
		return f
	case out.Code == api.OrderNotThere:
		k.State, k.Why = api.TaskAfter, why
		return &store.Finished{Task: k}
	case out.State == api.PushBlocked && passes[out.Code] && k.Attempts+1 < attemptsToHold:
		s.answered(k.System)
		k.Attempts, k.Why, k.DueAt = k.Attempts+1, why, s.now().Add(backoff(k.Attempts+1))
		return &store.Finished{Task: k}
	case out.State == api.PushBlocked:
		s.answered(k.System)
		held := s.holdTask(k, is, out.Code, why)
		held.Log = f.Log
		return held
	}
	s.answered(k.System)
	f.Done, f.Fetch = true, out.Fetches
	return f
}

// came says what becomes of a task that met an error before its push began.
func (s *Syncs) came(k *api.Task, is *store.StoredOrder, err error) (*store.Finished, error) {
	var asked *AskedError
	out := api.Push{System: k.System, Record: k.Record}
	switch {
	case errors.As(err, &asked), errors.Is(err, store.ErrNotFound):
		return s.holdTask(k, is, api.CannotWrite, finding.Capital(err.Error())), nil
	}
	if err := judge(&out, err); err != nil {
		return nil, err
	}
	return s.concluded(k, is, &out, &store.Finished{}), nil
}

// holdTask holds a task for a person.
func (s *Syncs) holdTask(k *api.Task, is *store.StoredOrder, code, why string) *store.Finished {
	k.State, k.Why = api.TaskHeld, why
	return &store.Finished{Task: k, Hold: s.heldWork(k, is, code)}
}

func (s *Syncs) heldWork(k *api.Task, is *store.StoredOrder, code string) *api.HeldWork {
	w := &api.HeldWork{Kind: api.HeldPush, Task: k.ID, Sync: k.Sync, System: k.System, Number: k.Order, Code: code,
		Reason: k.Why, Since: s.now().UTC()}
	if is != nil {
		w.OrderID, w.Partner, w.Number = is.ID, is.Partner, is.Order.Number
	}
	return w
}

// waitsFor says what a push waits for; "" if there is nothing.
func (s *Syncs) waitsFor(ctx context.Context, p *syncing.Push, is *store.StoredOrder) (string, error) {
	if p.After == nil || is.Status == order.Cancelled {
		return "", nil
	}
	links, err := s.store.Links(ctx, is.ID)
	if err != nil {
		return "", err
	}
	l := linked(links, p.After.Target, 0)
	if l == nil || l.Revision == 0 {
		return fmt.Sprintf("It waits until the order is in %s as its %s.", p.After.System, p.After.Record), nil
	}
	if p.After.Path == nil || p.After.Holds(l.Found) {
		return "", nil
	}
	o, r, err := s.target(ctx, p.After.Target)
	if err != nil {
		return "", err
	}
	a, err := o.client.One(ctx, r, l.Key) // it may be so far meanwhile
	if err != nil {
		return "", err
	}
	f, err := r.Alone(a)
	if err != nil {
		return "", err
	}
	found := string(f.Node.AppendJSON(nil))
	if p.After.Holds(found) {
		l.Found = found
		return "", s.store.PutLink(ctx, l, s.now())
	}
	return fmt.Sprintf("It waits until %s of the %s %s of %s is %s.", p.After.Path, p.After.Record, l.Key,
		p.After.System,
		strings.Join(p.After.Is, " or ")), nil
}
