package syncs

import (
	"context"
	"crypto/sha256"

	"koinos/api"
	"koinos/core/system"
	"koinos/store"
)

// isGone asks for a record by its key. It is gone if the system does not have it, or has it as a withdrawn one.
func (s *Syncs) isGone(ctx context.Context, o *opened, r *system.Record, key string) (bool, error) {
	a, err := o.client.One(ctx, r, key)
	if missing(err) {
		return true, nil
	}
	if err != nil {
		return false, err
	}
	f, err := r.Alone(a)
	return err == nil && f.Gone, err
}

// vanished withdraws what was made of a record that its system does not have any more: the last known state becomes an
// arrival again, as one that is gone.
func (s *Syncs) vanished(ctx context.Context, o *opened, r *system.Record, mapping, key, by string) error {
	p, _, _, err := s.prepare(ctx, o.Name, api.NewPull{Record: r.Name, Mapping: mapping}, by)
	if err != nil {
		return err
	}
	p.Records, p.Gone = 1, 1
	b := newBatch()
	if err := s.withdraw(ctx, o, r, b, key); err != nil {
		return err
	}
	if err := s.keep(ctx, &p, b); err != nil {
		return err
	}
	p.State, p.EndedAt = api.PullDone, s.now().UTC()
	return s.store.Write(ctx, func(t *store.Tx) error { return t.SavePull(&p) })
}

// withdraw adds a record that does not exist any more to the batch, as one that is gone, if anything is known about it.
func (s *Syncs) withdraw(ctx context.Context, o *opened, r *system.Record, b *batch, key string) error {
	last, body, err := s.store.LastArrival(ctx, o.Name, r.Name, key)
	if err != nil || last == nil || last.State == api.ArrivalGone {
		return err
	}
	if body == nil {
		return &errFailed{"The bytes of " + r.Name + " " + key + " are not kept any more: cancel its order by hand."}
	}
	zipped, err := store.Zip(body)
	if err != nil {
		return err
	}
	digest := sha256.Sum256(append([]byte("gone "), body...)) // when it comes back as it was, it is another one
	b.add(api.Arrival{System: o.Name, Record: r.Name, Key: key, Number: last.Number, Version: "", Stamp: last.Stamp,
		State: api.ArrivalGone, Digest: digest[:], Body: zipped, At: s.now().UTC(), Request: r.One(o.client.Base(), key)},
		&meaning{raw: body}, store.KnownArrival{Mapped: true})
	return nil
}
