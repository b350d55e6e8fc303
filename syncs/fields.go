package syncs

import (
	"context"
	"net/http"
	"time"

	"koinos/core/system"
	"koinos/remote"
)

// toldFields is what a system said about the fields of a kind of record, and until when this is used.
type toldFields struct {
	all   []system.TheirField
	until time.Time
}

// told returns what a system says about the fields of a kind of record; nothing if the description does not say how it
// tells.
func (s *Syncs) told(ctx context.Context, o *opened, r *system.Record) ([]system.TheirField, error) {
	if r.Fields == nil {
		return nil, nil
	}
	s.mu.Lock()
	known, is := o.fields[r.Name]
	s.mu.Unlock()
	if is && s.now().Before(known.until) {
		return known.all, nil
	}
	all, err := o.told(ctx, r)
	if err != nil {
		return nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	o.fields[r.Name] = toldFields{all, s.now().Add(lookedUp)}
	return all, nil
}

func (o *opened) told(ctx context.Context, r *system.Record) ([]system.TheirField, error) {
	a, err := o.client.Do(ctx, remote.Request{Method: http.MethodGet,
		Address: system.Address(o.client.Base(), r.Fields.Path)})
	if err != nil {
		return nil, err
	}
	return r.Told(a)
}

// fieldsOf is told for a caller that asks for it.
func (o *opened) fieldsOf(ctx context.Context, r *system.Record) ([]system.TheirField, error) {
	if r.Fields == nil {
		return nil, asked("The description does not say how %s tells of the fields of %s (fields).", o.Name, r.Name)
	}
	return o.told(ctx, r)
}
