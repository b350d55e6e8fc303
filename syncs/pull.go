package syncs

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"koinos/api"
	"koinos/core/finding"
	"koinos/core/intent"
	"koinos/core/mapping"
	"koinos/core/outcome"
	"koinos/core/report"
	"koinos/core/source"
	"koinos/core/system"
	"koinos/jobs"
	"koinos/load"
	"koinos/remote"
	"koinos/store"
)

// A batch of arrivals is mapped as one document, which is at most this large.
const (
	batchRecords = 1_000
	batchBytes   = 8 << 20
)

// errFailed ends a pull that would fail again.
type errFailed struct{ why string }

func (e *errFailed) Error() string { return e.why }

// work pulls: it is the work of a job, and continues where it was interrupted.
func (s *Syncs) work(ctx context.Context, id int64) error {
	p, err := s.store.Pull(ctx, id)
	if err != nil || p.Ended() {
		return err
	}
	free, err := s.holdFor(ctx, "pull "+p.System)
	if err != nil {
		return err
	}
	defer free()
	if err = s.attempt(ctx, &p); err != nil && ctx.Err() == nil {
		return &jobs.Later{Err: err}
	}
	return err
}

// attempt pulls, and stores the result if there is one. An error is one that may pass: the pull is away then, or its
// end could not be stored.
func (s *Syncs) attempt(ctx context.Context, p *api.Pull) error {
	err := s.pull(ctx, p)
	if err != nil && ctx.Err() != nil {
		return context.Cause(ctx)
	}
	var problem *remote.Problem
	var answer *system.AnswerError
	var failed *errFailed
	later := false
	switch {
	case err == nil:
		p.State = api.PullDone
	case store.Blocked(err) != "":
		return err
	case errors.As(err, &problem):
		later = problem.Kind == remote.Away
	case errors.As(err, &answer):
		later = p.Pages > 0 // of the first page it is the description that is wrong
	case errors.As(err, &failed), errors.Is(err, system.ErrElsewhere), finding.Of(err) != nil,
		errors.Is(err, store.ErrNotFound):
	default:
		return err
	}
	switch {
	case later:
		p.State, p.Reason = api.PullAway, err.Error()
	case err != nil:
		p.State, p.Reason = api.PullFailed, err.Error()
	}
	if later {
		s.failed(p.System, p.Reason)
	} else if err == nil {
		s.answered(p.System)
	}
	if p.Ended() {
		p.EndedAt = s.now().UTC()
	}
	if p.ID != 0 {
		if kept := s.store.Write(ctx, func(t *store.Tx) error { return t.SavePull(p) }); kept != nil {
			return kept
		}
		s.log.Info("pull", "system", p.System, "record", p.Record, "pull", p.ID, "state", p.State, "records", p.Records,
			"loaded", p.Loaded, "changed", p.Changed, "failed", p.Failed, "reason", p.Reason)
	}
	if later {
		return err
	}
	return nil
}

// noted stores a pull. A pull that finds nothing is not stored: it costs its calls and writes nothing.
func (s *Syncs) noted(ctx context.Context, p *api.Pull) error {
	if p.ID != 0 {
		return nil
	}
	return s.store.NotePull(ctx, p)
}

// batch is what is mapped and stored together.
type batch struct {
	arrivals []api.Arrival
	says     []*meaning           // of each arrival
	was      []store.KnownArrival // of each: what was known of the record before
	writes   bool                 // records of the kind are written, too
	told     []string             // keys of the records that the arrivals tell of
	asked    time.Time            // when the page, or the record, was asked for
	last     map[string]int       // by key, its last arrival: one that came before it in the batch is passed over
	bytes    int
	files    [][]byte // that the mapping reads as they are
}

func newBatch() *batch { return &batch{last: map[string]int{}} }

func (b *batch) add(a api.Arrival, says *meaning, was store.KnownArrival) {
	b.last[a.Key] = len(b.arrivals)
	b.arrivals, b.says, b.was = append(b.arrivals, a), append(b.says, says), append(b.was, was)
	b.bytes += len(says.raw)
}

// full reports whether the batch has enough.
func (b *batch) full() bool { return len(b.arrivals) >= batchRecords || b.bytes >= batchBytes }

// document returns the records of a state, one on each line, and notes the lines. Of withdrawn records, it contains
// those that an order was made of.
func (b *batch) document(state string) (doc bytes.Buffer, lines int, err error) {
	for i := range b.arrivals {
		a := &b.arrivals[i]
		if a.State != state || a.Document != "" || b.last[a.Key] != i || state == api.ArrivalGone && !b.was[i].Mapped ||
			b.says[i].both != nil && b.says[i].both.aside {
			continue
		}
		if err := json.Compact(&doc, b.says[i].raw); err != nil {
			return doc, 0, &system.AnswerError{At: a.Place, Why: "is not JSON: " + err.Error()}
		}
		doc.WriteByte('\n')
		lines++
		a.Line = lines
	}
	return doc, lines, nil
}

// documents are what a mapping would read of a batch: its files, or the records, one on each line.
func (b *batch) documents() ([][]byte, error) {
	doc, lines, err := b.document(api.ArrivalMapped)
	if err != nil || lines == 0 {
		return b.files, err
	}
	return append(b.files, doc.Bytes()), nil
}

// pull reads page after page, and loads what is new in batches.
func (s *Syncs) pull(ctx context.Context, p *api.Pull) error {
	o, err := s.system(ctx, p.System, p.Version)
	if err != nil {
		return err
	}
	r, err := o.record(p.Record)
	if err != nil {
		return &errFailed{err.Error()}
	}
	kept := *p // a page that fails is counted when it is read again
	defer func() {
		if err != nil {
			state, id := p.State, p.ID
			*p = kept
			p.State, p.ID = state, id
		}
	}()
	p.State, p.Reason = api.PullRunning, ""
	switch {
	case p.Hook != 0:
		return s.hooked(ctx, o, r, p)
	case p.Key != "":
		return s.pullOne(ctx, o, r, p)
	case r.Files != nil: // what was taken is kept file by file
		err = s.pullFiles(ctx, o, r, p)
		kept = *p
		return err
	}
	whole := r.Whole()
	r = lister(r, p)
	address := ""
	if p.Next != "" {
		address = o.client.Host() + p.Next
	} else {
		if address, err = r.First(o.client.Base(), p.Since); err != nil {
			return err
		}
	}
	b := newBatch()
	seen := stamps{rising: p.Next == "", begun: p.Next != ""}
	if p.Next == "" {
		if err = s.shortAgain(ctx, o, whole, p, b); err != nil {
			return err
		}
	}
	for address != "" {
		next, err := s.page(ctx, o, r, p, b, address, &seen)
		lapsed := seen.lapsed(err)
		if lapsed {
			next, err = s.anew(o, r, p, &seen)
		}
		if err != nil {
			return err
		}
		address = next
		if address != "" && !b.full() && !lapsed {
			continue
		}
		p.Next = strings.TrimPrefix(address, o.client.Host()) // the system may have moved when it goes on
		if err = s.keep(ctx, p, b); err != nil {
			return err
		}
		kept = *p
		b = newBatch()
	}
	return nil
}

// fromShort begins a pull no later than at the oldest incomplete record, if such records cannot be read alone.
func (s *Syncs) fromShort(ctx context.Context, r *system.Record, p *api.Pull) error {
	if r.Whole().Get != "" || p.Since == "" {
		return nil
	}
	short, err := s.store.ShortArrivals(ctx, p.System, p.Record)
	for i := range short {
		if at := short[i].Stamp; at != "" && system.Newer(at, p.Since) == p.Since {
			p.Since = at
		}
	}
	return err
}

// shortAgain reads the incomplete records again, if they can be read alone, because the list is past them.
func (s *Syncs) shortAgain(ctx context.Context, o *opened, r *system.Record, p *api.Pull, b *batch) error {
	if r.Get == "" || p.Since == "" {
		return nil
	}
	short, err := s.store.ShortArrivals(ctx, p.System, p.Record)
	if err != nil {
		return err
	}
	for i := range short {
		if err := s.gather(ctx, o, r, p, b, short[i].Key); err != nil {
			return err
		}
	}
	return nil
}

// lister is what lists the records of a pull: a feed of them if there is one, with the pull's own parameters.
func lister(r *system.Record, p *api.Pull) *system.Record {
	if r.Feed != nil && !p.All && p.Key == "" {
		r = r.Feed
	}
	return r.Asking(p.Query)
}

// pullOne reads one record, whether it is known in its present state or not.
func (s *Syncs) pullOne(ctx context.Context, o *opened, r *system.Record, p *api.Pull) error {
	if r.Get == "" {
		return &errFailed{fmt.Sprintf("The description does not say how one %s is read (get).", r.Name)}
	}
	p.Anew = true
	return s.takeByKey(ctx, o, r, p, p.Key)
}

// takeByKey asks for a record by its key and loads it. One that does not exist is withdrawn.
func (s *Syncs) takeByKey(ctx context.Context, o *opened, r *system.Record, p *api.Pull, key string) error {
	b := newBatch()
	if err := s.gather(ctx, o, r, p, b, key); err != nil {
		return err
	}
	if p.Gone > 0 {
		p.Reason = fmt.Sprintf("%s %s is not there any more.", finding.Capital(r.Name), key)
	}
	return s.keep(ctx, p, b)
}

// gather asks for a record by its key and adds it to the batch.
func (s *Syncs) gather(ctx context.Context, o *opened, r *system.Record, p *api.Pull, b *batch, key string) error {
	b.asked = s.now()
	p.Records++
	a, err := o.client.One(ctx, r, key)
	if missing(err) {
		p.Gone++
		return s.withdraw(ctx, o, r, b, key)
	}
	if err != nil {
		return err
	}
	f, err := r.Alone(a)
	if err != nil {
		return err
	}
	return s.arriveAlone(ctx, o, r, p, b, &f, r.One(o.client.Base(), key))
}

// arriveAlone adds one record to the batch that came by a request of its own.
func (s *Syncs) arriveAlone(ctx context.Context, o *opened, r *system.Record, p *api.Pull, b *batch, f *system.Found,
	request string) error {
	known, err := s.store.KnownArrivals(ctx, p.System, p.Record, []string{f.Key})
	if err != nil {
		return err
	}
	one := asRead(*f, request, b.asked)
	one.single = true
	return s.arrive(ctx, o, r, p, b, known, one)
}

// page asks for a page of a list. If it is too large, smaller ones are asked for.
func (o *opened) page(ctx context.Context, l *system.List, address string) (a system.Answer, err error) {
	for {
		a, err = o.client.Page(ctx, l, address)
		var problem *remote.Problem
		half, ok := l.Smaller(address)
		if !ok || !errors.As(err, &problem) || problem.Kind != remote.Large {
			return a, err
		}
		address = half
	}
}

// stamps is what is known about the order in which a list comes.
type stamps struct {
	begun  bool // a page of it was read since it began, or began again
	anew   int  // how often it began again
	last   string
	rising bool                // none was older than the one before
	each   func(*system.Found) // is told of each; nil is nobody
}

func (t *stamps) page(all []system.Found) {
	t.begun = true
	for i := range all {
		if t.each != nil {
			t.each(&all[i])
		}
		stamp := all[i].Stamp
		t.rising = t.rising && stamp != "" && system.Newer(t.last, stamp) == stamp
		t.last = stamp
	}
}

// mostAnew is how often a list is begun again within one pull because its system forgot the position.
const mostAnew = 5

// lapsed reports whether a page behind the first is refused because the cursor has expired.
func (t *stamps) lapsed(err error) bool {
	var problem *remote.Problem
	return t.begun && t.anew < mostAnew && errors.As(err, &problem) &&
		(problem.Kind == remote.Never || problem.Kind == remote.Missing)
}

// anew begins a list again: behind what came, if the list is sorted by stamps, otherwise from where the pull began.
// Known records cost nothing but their page.
func (s *Syncs) anew(o *opened, r *system.Record, p *api.Pull, seen *stamps) (string, error) {
	since := p.Since
	if seen.rising && r.Since.Parameter != "" && seen.last != "" {
		since = seen.last
	}
	*seen = stamps{anew: seen.anew + 1, rising: seen.rising, last: seen.last, each: seen.each}
	s.log.Info("the list is begun again: what it went on by has ended", "system", o.Name, "record", r.Name, "since",
		since)
	return r.First(o.client.Base(), since)
}

// page reads a page and returns the address of the next.
func (s *Syncs) page(ctx context.Context, o *opened, r *system.Record, p *api.Pull, b *batch, address string,
	seen *stamps) (string, error) {
	b.asked = s.now()
	a, err := o.page(ctx, &r.List, address)
	if err != nil {
		return "", err
	}
	page, err := r.Read(a)
	if err != nil {
		return "", err
	}
	keys := make([]string, len(page.Records))
	for i := range page.Records {
		keys[i] = page.Records[i].Key
	}
	known, err := s.store.KnownArrivals(ctx, p.System, p.Record, keys)
	if err != nil {
		return "", err
	}
	p.Pages++
	p.Records += len(page.Records)
	seen.page(page.Records)
	all := make([]read, len(page.Records))
	for i := range page.Records {
		all[i] = *asRead(page.Records[i], address, b.asked)
	}
	if err := s.ahead(ctx, o, r, p, known, all); err != nil {
		return "", err
	}
	for i := range all {
		if err := s.arrive(ctx, o, r, p, b, known, &all[i]); err != nil {
			return "", err
		}
	}
	return page.Next, nil
}

func (s *Syncs) mapping(ctx context.Context, name string) (m *mapping.Mapping, version int, err error) {
	kept, err := s.store.Mapping(ctx, name, 0)
	if err != nil {
		return nil, 0, err
	}
	s.mu.Lock()
	known, is := s.mappings[name]
	s.mu.Unlock()
	if is && known.version == kept.Version {
		return known.m, kept.Version, nil
	}
	if m, err = mapping.ParseKept(kept.Text); err != nil {
		return nil, kept.Version, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.mappings[name] = parsed{m, kept.Version}
	return m, kept.Version, nil
}

// parsed is a mapping that was parsed. It must not be changed.
type parsed struct {
	m       *mapping.Mapping
	version int
}

// mostTried is how many records a dry run reads.
const mostTried = 1_000

// DryRun reads what a pull would read, at most mostTried records, and says what the mapping would make of it. Nothing
// is stored.
func (s *Syncs) DryRun(ctx context.Context, name string, n api.NewPull, by string) (api.PullTried, error) {
	p, o, r, err := s.prepare(ctx, name, n, by)
	out := api.PullTried{Pull: p, Load: outcome.Load{Status: outcome.Done, Mapping: p.Mapping},
		Reasons: []report.Reason{}}
	if err != nil {
		return out, err
	}
	m, version, err := s.mapping(ctx, p.Mapping)
	if err != nil {
		return out, err
	}
	b := newBatch()
	address := ""
	if r.Files != nil {
		err = s.dryFiles(ctx, o, r, &out.Pull, b)
	} else {
		address, err = r.First(o.client.Base(), p.Since)
	}
	for address != "" && err == nil && out.Pull.Records < mostTried {
		address, err = s.page(ctx, o, r, &out.Pull, b, address, &stamps{})
	}
	if err != nil {
		return out, err
	}
	out.More, out.Pull.State = address != "", api.PullDone
	if len(b.told) > 0 {
		out.Pull.Reason = fmt.Sprintf("They tell of %s, which would be read anew.",
			report.Plural(len(b.told), r.Tells.Record))
	}
	if err := s.passOver(ctx, &out.Pull, b); err != nil {
		return out, err
	}
	docs, err := b.documents()
	if err != nil || len(docs) == 0 { // nothing is new
		return out, err
	}
	set, err := s.store.Set(ctx)
	if err != nil {
		return out, err
	}
	var tally report.Tally
	for i, text := range docs {
		doc := bytes.NewReader(text)
		l, err := load.Try(ctx, doc, doc.Size(), m, set, source.DefaultLimits, nil, func(f finding.Finding) {
			if f.Code != finding.DocumentEmpty || m.Kind == intent.Order { // records need not have shipments
				tally.Add(f)
			}
		})
		if err != nil {
			return out, err
		}
		if i == 0 {
			out.Load = l
		} else {
			out.Load.Add(&l.Counts)
		}
	}
	out.Load.DocumentName, out.Load.Version = p.System+" "+p.Record, version
	out.Reasons = tally.Reasons()
	return out, nil
}
