package syncs

import (
	"context"
	"errors"
	"fmt"
	"net/http"

	"koinos/api"
	"koinos/core/finding"
	"koinos/core/system"
	"koinos/remote"
)

// Hook processes a message of a system about what happened there. The signature over its bytes identifies the sender.
// The message is in the store when Hook returns, with the pull of what it is about; the same id is processed once. The
// status is for the answer.
func (s *Syncs) Hook(ctx context.Context, name string, header http.Header, body []byte) (status int, err error) {
	o, err := s.system(ctx, name, 0)
	if err != nil {
		return 0, err
	}
	if o.Hooks == nil {
		return 0, asked("The description of %s says nothing of webhooks.", name)
	}
	now := s.now().UTC()
	id, err := remote.Verify(o.Hooks, header, body, now)
	if errors.Is(err, remote.ErrUnsigned) || errors.Is(err, remote.ErrStale) {
		s.count(name, func(c *api.HookCount) { c.Refused++ })
		return http.StatusUnauthorized, err
	}
	if err != nil {
		return 0, err
	}
	event, e, err := o.Hooks.Of(body)
	if err != nil {
		return http.StatusBadRequest, err
	}
	h := api.Hook{System: name, HookID: id, Event: event, State: api.HookPassed, At: now}
	var p *api.Pull
	if e != nil {
		h.State = api.HookTaken
		n, err := s.readsBy(ctx, name, e.Record)
		if err != nil {
			return 0, err
		}
		p = &api.Pull{System: name, Version: o.version, Record: e.Record, Mapping: n.Mapping, Also: n.Also,
			Reading: n.Reading,
			State:   api.PullRunning, StartedAt: now, By: fmt.Sprintf("webhook %s", id)}
		if err := s.reads(ctx, o, o.Records[e.Record], p); err != nil {
			return 0, err
		}
	}
	fresh, err := s.store.AddHook(ctx, &h, body, p)
	if err != nil {
		return 0, err
	}
	s.count(name, func(c *api.HookCount) {
		switch {
		case !fresh:
			c.Repeated++
		case p == nil:
			c.Passed++
		default:
			c.Taken++
		}
	})
	return http.StatusNoContent, nil
}

// RefusedHook counts a message that was not read.
func (s *Syncs) RefusedHook(name string) { s.count(name, func(c *api.HookCount) { c.Refused++ }) }

func (s *Syncs) count(name string, add func(*api.HookCount)) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.calls[name] != nil || s.open[name] != nil { // names that nobody described are not remembered
		add(&s.logOf(name).hooks)
	}
}

// hooked reads the record that a webhook is about.
func (s *Syncs) hooked(ctx context.Context, o *opened, r *system.Record, p *api.Pull) error {
	body, err := s.store.HookBody(ctx, p.Hook)
	if err != nil {
		return err
	}
	if o.Hooks == nil {
		return &errFailed{"The description says nothing of webhooks any more."}
	}
	_, e, err := o.Hooks.Of(body)
	if err != nil {
		return &errFailed{err.Error()}
	}
	if e == nil || e.Record != r.Name {
		return &errFailed{"The description says something else of this event meanwhile."}
	}
	key, whole, err := e.Find(r, body)
	if err != nil {
		return &errFailed{finding.Capital(err.Error()) + "."}
	}
	request := fmt.Sprintf("webhook %d of %s", p.Hook, o.Name)
	if whole == nil {
		return s.takeByKey(ctx, o, r, p, key)
	}
	b := newBatch()
	b.asked = p.StartedAt
	p.Records = 1
	if err := s.arriveAlone(ctx, o, r, p, b, whole, request); err != nil {
		return err
	}
	return s.keep(ctx, p, b)
}
