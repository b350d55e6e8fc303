package syncs

import (
	"bytes"
	"context"
	"crypto/sha256"
	"fmt"
	"slices"
	"time"

	"koinos/api"
	"koinos/core/jsondoc"
	"koinos/core/syncing"
	"koinos/core/system"
	"koinos/core/tree"
	"koinos/store"

	"golang.org/x/sync/errgroup"
)

// read is a record as it was read, with what its list does not show.
type read struct {
	system.Found
	digest  [sha256.Size]byte // of what the list shows: it is what is compared next time
	request string
	asked   time.Time
	rest    bool // the parts that its list does not show are in it
	whole   bool // it was completed
	single  bool // it came by itself, not in a list
}

// asRead is a record as it stands in an answer to a request for this record alone.
func asRead(f system.Found, request string, asked time.Time) *read {
	return &read{Found: f, digest: sha256.Sum256(f.Raw), request: request, asked: asked}
}

// unchanged reports whether a record brings nothing new: it is known already, or is older than what is known.
func unchanged(r *system.Record, p *api.Pull, was *store.KnownArrival, f *read) bool {
	return was.Here && r.GetWhole || // a feed names a record as often as it changes; it was read after this page
		// it is older
		!p.Anew && was.Stamp != f.Stamp && f.Stamp != "" && system.Newer(was.Stamp, f.Stamp) == was.Stamp ||
		!p.Anew && was.Key != "" && was.State != api.ArrivalShort &&
			(was.State != api.ArrivalPassed || p.Since != "") &&
			(f.Version != "" && f.Version == was.Version || bytes.Equal(f.digest[:], was.Digest))
}

// complete reads what the list does not show of a record.
func (s *Syncs) complete(ctx context.Context, o *opened, r *system.Record, p *api.Pull, was *store.KnownArrival,
	f *read) error {
	f.whole = true
	if (r.GetWhole || f.Short() && r.Get != "") && !f.Gone && !f.single {
		if err := s.alone(ctx, o, r.Whole(), f); err != nil {
			return err
		}
		if r.Of != nil { // a feed says that something happened; whether it is another one, the record says
			f.digest = sha256.Sum256(f.Raw)
		}
	}
	if !was.Mapped && !chosen(p.Only, f.Node) {
		return nil
	}
	return s.restOf(ctx, o, r.Whole(), f)
}

// alone reads a record by itself, because a list may show less of it.
func (s *Syncs) alone(ctx context.Context, o *opened, r *system.Record, f *read) (err error) {
	f.asked, f.request, f.rest = s.now(), r.One(o.client.Base(), f.Key), false
	f.Found, err = s.wholeOf(ctx, o, r, &f.Found)
	return err
}

func (s *Syncs) restOf(ctx context.Context, o *opened, r *system.Record, f *read) error {
	if f.Gone || f.rest {
		return nil
	}
	f.rest = true
	return o.rest(ctx, r, &f.Found, false)
}

// ahead completes the new records of a page, several at once.
func (s *Syncs) ahead(ctx context.Context, o *opened, r *system.Record, p *api.Pull,
	known map[string]store.KnownArrival,
	all []read) error {
	if !r.GetWhole && len(r.Whole().Rest) == 0 {
		return nil
	}
	work, ctx := errgroup.WithContext(ctx)
	work.SetLimit(o.Limits.AtOnce)
	begun := map[string]bool{}
	for i := range all {
		f := &all[i]
		was := known[f.Key]
		if unchanged(r, p, &was, f) || begun[f.Key] {
			continue
		}
		begun[f.Key] = true
		work.Go(func() (err error) {
			defer func() {
				if c := recover(); c != nil {
					err = fmt.Errorf("a mistake of Koinos: %v", c)
				}
			}()
			return s.complete(ctx, o, r, p, &was, f)
		})
	}
	return work.Wait()
}

// arrive takes a record into the batch if it is new or has changed.
func (s *Syncs) arrive(ctx context.Context, o *opened, r *system.Record, p *api.Pull, b *batch,
	known map[string]store.KnownArrival, f *read) error {
	if !f.single { // one record says nothing of what else has changed
		p.Newest = system.Newer(p.Newest, f.Stamp)
	}
	was := known[f.Key]
	if unchanged(r, p, &was, f) {
		p.Unchanged++
		return nil
	}
	if !f.whole {
		if err := s.complete(ctx, o, r, p, &was, f); err != nil {
			return err
		}
	}
	if r.Of != nil && !p.Anew && was.State == api.ArrivalMapped && bytes.Equal(f.digest[:], was.Digest) {
		p.Unchanged++
		return nil
	}
	r = r.Whole()
	link, shares, err := s.linkedTo(ctx, o, r, f.Key)
	if err != nil {
		return err
	}
	if shares != nil && link != nil && link.Base != "" && !f.Gone &&
		!link.At.Before(f.asked.Truncate(time.Millisecond)) {
		// It was agreed on meanwhile. What was read before that would look like a change of theirs.
		if err := s.alone(ctx, o, r, f); err != nil {
			return err
		}
	}
	passed := !was.Mapped && link == nil && !chosen(p.Only, f.Node)
	if passed && stillPassed(&was, f.digest[:]) {
		p.Unchanged++
		return nil
	}
	if !passed {
		if err := s.restOf(ctx, o, r, f); err != nil {
			return err
		}
	}
	zipped, err := store.Zip(f.Raw)
	if err != nil {
		return err
	}
	a := api.Arrival{System: p.System, Record: p.Record, Key: f.Key, Number: f.Number, Version: f.Version,
		Stamp: f.Stamp,
		State: api.ArrivalMapped, Digest: f.digest[:], Body: zipped, At: s.now().UTC(), Pull: p.ID, Request: f.request,
		Place: f.Place}
	says := &meaning{raw: f.Raw}
	switch {
	case r.Tells != nil:
		a.State = api.ArrivalTold
		if key := r.Tells.Of(f.Node); key != "" && !slices.Contains(b.told, key) {
			b.told = append(b.told, key)
		}
	case f.Gone:
		a.State = api.ArrivalGone
		p.Gone++
		if was.Mapped { // what it says now may be less than what its order was made of
			_, body, err := s.store.LastArrival(ctx, o.Name, r.Name, f.Key)
			if err != nil {
				return err
			}
			if body != nil {
				says.raw = body
			}
		}
	case passed:
		a.State = api.ArrivalPassed
		p.Passed++
	case f.Short():
		p.Short++
		if was.State == api.ArrivalShort && bytes.Equal(was.Digest, a.Digest) {
			return nil
		}
		a.State = api.ArrivalShort
	default:
		if says, err = s.meant(ctx, o, r, p, &f.Found, link, shares); err != nil {
			return err
		}
		if says == nil {
			p.Unchanged++
			return s.echoed(ctx, link)
		}
	}
	b.writes = b.writes || r.Write != nil
	b.add(a, says, was)
	// on this page it may stand twice
	known[f.Key] = store.KnownArrival{Key: f.Key, Version: f.Version, Stamp: f.Stamp, State: a.State, Digest: a.Digest,
		Mapped: was.Mapped, Here: true}
	return nil
}

// echoed releases what is held of a record that came while we created it: now it says what its order says.
func (s *Syncs) echoed(ctx context.Context, l *api.Link) error {
	if l == nil || l.Revision == 0 {
		return nil
	}
	return s.store.ReleaseRecord(ctx, l)
}

// chosen reports whether a record meets the condition of a pull.
func chosen(c *api.Condition, n *tree.Node) bool {
	if c == nil {
		return true
	}
	path, err := jsondoc.ParsePath(c.Path)
	return err == nil && (&system.While{Path: path, Is: c.Is, Not: c.Not}).Holds(n)
}

// stillPassed reports whether a record was skipped in its present state.
func stillPassed(was *store.KnownArrival, digest []byte) bool {
	return was.State == api.ArrivalPassed && bytes.Equal(was.Digest, digest)
}

// passOver removes the records from a batch that are not orders here, if the pull skips those.
func (s *Syncs) passOver(ctx context.Context, p *api.Pull, b *batch) error {
	if !p.Pass {
		return nil
	}
	m, _, err := s.mapping(ctx, p.Mapping)
	if err != nil {
		return err
	}
	set, err := s.store.Set(ctx)
	if err != nil {
		return err
	}
	kept := newBatch()
	kept.writes, kept.told, kept.asked = b.writes, b.told, b.asked
	for i := range b.arrivals {
		a, was := b.arrivals[i], b.was[i]
		if a.State == api.ArrivalMapped && !was.Mapped {
			is, err := s.engine.Known(ctx, m, set, b.says[i].raw)
			switch {
			case err != nil:
				return err
			case is:
			case stillPassed(&was, a.Digest):
				p.Unchanged++
				continue
			default:
				a.State = api.ArrivalPassed
				p.Passed++
			}
		}
		kept.add(a, b.says[i], was)
	}
	*b = *kept
	return nil
}

// linkedTo is what a record that may also be written is linked with here, and how it is shared if it is both read and
// written.
func (s *Syncs) linkedTo(ctx context.Context, o *opened, r *system.Record, key string) (*api.Link, *sharing, error) {
	if r.Write == nil {
		return nil, nil, nil
	}
	link, err := s.store.LinkOf(ctx, o.Name, r.Name, key)
	if err != nil {
		return nil, nil, err
	}
	shares, err := s.sharing(ctx, syncing.Target{System: o.Name, Record: r.Name})
	return link, shares, err
}

// meaning is what a mapping reads of a record.
type meaning struct {
	raw  []byte
	read []byte // the record as it came, where both sides may change it
	both *both  // nil: only they change it
}

// meant returns what is to be read of a record; nil if it says nothing new.
func (s *Syncs) meant(ctx context.Context, o *opened, r *system.Record, p *api.Pull, f *system.Found, link *api.Link,
	shares *sharing) (*meaning, error) {
	if link != nil && link.Part != 0 { // what we wrote of a shipment comes back as what it is, under whatever name
		return nil, nil
	}
	out := &meaning{raw: f.Raw}
	theirs := f.Node
	if shares != nil {
		out.read = f.Raw
	}
	if len(r.Refers) > 0 {
		if shares != nil {
			theirs, out.read = f.Node.Clone(), f.Node.AppendJSON(nil)
		}
		var err error
		if out.raw, err = s.resolved(ctx, o, r, f); err != nil {
			return nil, err
		}
	}
	reads, _, err := s.mapping(ctx, p.Mapping)
	if err != nil {
		return nil, err
	}
	if shares != nil {
		if link != nil && link.Revision > 0 && link.Base != "" && string(theirs.AppendJSON(nil)) == link.Base {
			return nil, nil // the echo of what we wrote
		}
		if making, err := s.making(ctx, shares, link); err != nil || making { // it is not whole yet, and comes again
			return nil, err
		}
		if out.both, err = s.compared(ctx, r, shares, link, theirs, f.Node, reads); err != nil {
			return nil, err
		}
		out.raw = out.both.raw
	}
	if link != nil {
		out.raw, err = s.knownAs(ctx, reads, link, out.raw)
	}
	return out, err
}

// wholeOf asks for a record by itself; one that does not exist is gone. Among what is new, it keeps the place of the
// row that named it.
func (s *Syncs) wholeOf(ctx context.Context, o *opened, r *system.Record, f *system.Found) (system.Found, error) {
	a, err := o.client.One(ctx, r, f.Key)
	if missing(err) {
		gone := *f
		gone.Gone = true
		return gone, nil
	}
	if err != nil {
		return system.Found{}, err
	}
	one, err := r.Alone(a)
	if f.Stamp != "" && one.Stamp == "" {
		one.Stamp = f.Stamp
	}
	return one, err
}

// rest reads the parts of a record that its list does not show, and puts them into it; with lines set, it reads lines
// only.
func (o *opened) rest(ctx context.Context, r *system.Record, f *system.Found, lines bool) error {
	added := false
	for i := range r.Rest {
		t := &r.Rest[i]
		if lines && !t.Line {
			continue
		}
		address, err := t.First(o.client.Base(), f)
		if err != nil {
			return err
		}
		for first := true; address != ""; first = false {
			a, err := o.page(ctx, &t.List, address)
			if err != nil {
				return err
			}
			if address, err = t.Add(a, f.Node, first); err != nil {
				return err
			}
			added = true
		}
	}
	if !added {
		return nil
	}
	whole, err := r.Find(f.Node)
	if err == nil {
		whole.Place, whole.Raw = f.Place, f.Node.AppendJSON(nil)
		*f = whole
	}
	return err
}
