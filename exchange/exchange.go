package exchange

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"runtime/debug"
	"slices"
	"sync"
	"time"

	"koinos/api"
	"koinos/core/finding"
	"koinos/core/mapping"
	"koinos/core/origin"
	"koinos/core/partner"
	"koinos/folder"
	"koinos/jobs"
	"koinos/load"
	"koinos/store"
)

// Exchange handles partners' interchanges. Its methods may be called by several goroutines.
type Exchange struct {
	store  *store.Store
	engine *load.Engine
	mode   folder.Mode // of the files there
	dir    string      // a folder for each partner, with in and out; "" is none
	now    func() time.Time
	log    *slog.Logger

	mu    sync.Mutex
	cache map[string]*partner.Partner // by their text
	locks map[string]*sync.Mutex      // by partner: what is told to one is worked out once at a time
}

// New makes an exchange for a store. dir contains a folder for each partner; files in it get the given mode.
func New(s *store.Store, engine *load.Engine, dir string, mode folder.Mode, now func() time.Time,
	log *slog.Logger) *Exchange {
	return &Exchange{store: s, engine: engine, dir: dir, mode: mode, now: now, log: log,
		cache: map[string]*partner.Partner{},
		locks: map[string]*sync.Mutex{}}
}

// Keep stores a partner, and the mappings that it names if they do not exist.
func (x *Exchange) Keep(ctx context.Context, text, by string) (*partner.Partner, error) {
	p, err := partner.Parse([]byte(text))
	if err != nil {
		return nil, err
	}
	all, err := x.partners(ctx)
	if err != nil {
		return nil, err
	}
	for _, other := range all {
		if other.Name != p.Name && other.Them.Key() == p.Them.Key() && other.Us.Key() == p.Us.Key() {
			f := finding.New(finding.PartnerInvalid, origin.Place{Mapping: true}, p.Them.Key(),
				"%s and %s have the same ids; an interchange could be of either.", other.Name, p.Name)
			return nil, finding.All{f}
		}
	}
	for id, set := range p.Sets {
		_, err := x.store.Mapping(ctx, set.Mapping, 0)
		if err == nil {
			continue
		}
		if !errors.Is(err, store.ErrNotFound) {
			return nil, err
		}
		text := p.OwnMapping(id)
		if standard := mapping.Standard(set.Mapping); standard != "" {
			text = standard
		}
		if _, err := mapping.Parse([]byte(text)); err != nil {
			return nil, err
		}
		if _, err := x.store.PutMapping(ctx, api.Mapping{Name: set.Mapping, Text: text, StoredAt: x.now().UTC(),
			StoredBy: by}); err != nil {
			return nil, err
		}
	}
	return p, x.store.PutPartner(ctx, api.Partner{Name: p.Name, Text: text, Them: p.Them.Key(), Us: p.Us.Key(),
		StoredAt: x.now().UTC(), StoredBy: by})
}

// partners are all stored partners.
func (x *Exchange) partners(ctx context.Context) ([]*partner.Partner, error) {
	kept, err := x.store.Partners(ctx)
	if err != nil {
		return nil, err
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	var list []*partner.Partner
	for _, k := range kept {
		p := x.cache[k.Text]
		if p == nil {
			if p, err = partner.Parse([]byte(k.Text)); err != nil {
				return nil, fmt.Errorf("partner %s: %w", k.Name, err)
			}
			x.cache[k.Text] = p
		}
		list = append(list, p)
	}
	return list, nil
}

// Partner returns a partner by name.
func (x *Exchange) Partner(ctx context.Context, name string) (*partner.Partner, error) {
	all, err := x.partners(ctx)
	if err != nil {
		return nil, err
	}
	for _, p := range all {
		if p.Name == name {
			return p, nil
		}
	}
	return nil, fmt.Errorf("partner %s: %w", name, store.ErrNotFound)
}

func (x *Exchange) mappingOf(ctx context.Context, p *partner.Partner, set string) (*mapping.Mapping, error) {
	s, ok := p.Sets[set]
	if !ok {
		f := finding.New(finding.PartnerInvalid, origin.Place{}, set,
			"%s exchanges no %s with us: the partner's sets do not name it.", p.Name, set)
		return nil, &f
	}
	kept, err := x.store.Mapping(ctx, s.Mapping, 0)
	if err != nil {
		return nil, err
	}
	m, err := mapping.ParseKept(kept.Text)
	if err == nil {
		m, err = m.With(mapping.Asked{Of: p.Orders(), Encoding: p.Encoding()})
	}
	if err == nil && m.Document.Set != set {
		f := finding.New(finding.PartnerInvalid, origin.Place{}, s.Mapping,
			"The mapping %s reads and writes a %q, not a %s.", s.Mapping, m.Document.Set, set)
		return nil, &f
	}
	return m, err
}

// inTurn are the sets in the order in which they make sense to a reader.
var inTurn = []string{"850", "860", "855", "865", "856", "810"}

// lock makes sure that one partner is told about things by one goroutine at a time.
func (x *Exchange) lock(name string) (unlock func()) {
	x.mu.Lock()
	l := x.locks[name]
	if l == nil {
		l = &sync.Mutex{}
		x.locks[name] = l
	}
	x.mu.Unlock()
	l.Lock()
	return l.Unlock
}

// every is how often folders are looked into.
const every = 200 * time.Millisecond

// atOnce is how many interchanges of different partners are handled at the same time.
const atOnce = 4

// Kinds are the jobs of the exchange: interchanges that came and interchanges that leave, those of one partner one
// after another.
func (x *Exchange) Kinds() map[string]jobs.Kind {
	return map[string]jobs.Kind{api.InterchangeJob: {Work: x.work, AtOnce: atOnce}}
}

// work processes an interchange: it is the work of a job.
func (x *Exchange) work(ctx context.Context, id int64) error {
	i, err := x.store.Interchange(ctx, id, x.now())
	if errors.Is(err, store.ErrNotFound) {
		return nil // it was held, and written anew
	}
	switch {
	case err != nil:
		return err
	case i.Direction == "in" && i.State == api.StateArriving:
		if err := x.read(ctx, &i); err != nil || i.State != api.StateReceived {
			return err
		}
		return x.take(ctx, &i)
	case i.Direction == "in" && i.State == api.StateReceived:
		return x.take(ctx, &i)
	case i.Direction == "out" && i.State == api.StateReady:
		return x.deliver(ctx, &i, i.By)
	}
	return nil
}

// underWay are the states in which the queue has more to do.
var underWay = []string{api.StateArriving, api.StateReceived, api.StateReady}

// settled waits until the queue has processed an interchange, and returns it.
func (x *Exchange) settled(ctx context.Context, id int64) (api.Interchange, error) {
	for {
		woken := x.store.Woken()
		state, err := x.store.InterchangeState(ctx, id)
		if err != nil {
			return api.Interchange{}, err
		}
		if !slices.Contains(underWay, state) {
			return x.store.Interchange(ctx, id, x.now())
		}
		select {
		case <-woken:
		case <-ctx.Done():
			return api.Interchange{}, ctx.Err()
		}
	}
}

// Run watches the partners' folders and sends what is due until ctx ends. It looks for what is due when something has
// changed, and spends no more than a tenth of the time on it.
func (x *Exchange) Run(ctx context.Context) {
	watched := map[string]bool{}
	var wait sync.WaitGroup
	defer wait.Wait()
	for ctx.Err() == nil {
		woken := x.store.Woken()
		began := time.Now()
		again := x.lookDue(ctx, func(name string) {
			if x.dir != "" && !watched[name] {
				watched[name] = true
				wait.Go(func() { x.watch(ctx, name) })
			}
		})
		pause(ctx, nil, max(10*time.Since(began), 20*time.Millisecond))
		if again {
			pause(ctx, woken, time.Second)
		} else {
			pause(ctx, woken, time.Hour)
		}
	}
}

// pause waits for a channel, but no longer than a time or until ctx ends.
func pause(ctx context.Context, c <-chan struct{}, most time.Duration) {
	t := time.NewTimer(most)
	defer t.Stop()
	select {
	case <-ctx.Done():
	case <-c:
	case <-t.C:
	}
}

// lookDue sends every partner what is due. again reports that something could not be sent now and should be tried
// later.
func (x *Exchange) lookDue(ctx context.Context, see func(name string)) (again bool) {
	all, err := x.partners(ctx)
	if err != nil && ctx.Err() == nil {
		x.log.Error("partners cannot be read", "error", err)
		again = true
	}
	if err := x.tryHeld(ctx); err != nil && ctx.Err() == nil {
		x.log.Error("what is held cannot be tried again", "error", err)
		again = true
	}
	for _, p := range all {
		see(p.Name)
		for _, set := range inTurn {
			if p.Sets[set].Send != "due" || !p.Outgoing(set) {
				continue
			}
			if err := x.sendDue(ctx, p.Name, set); err != nil && ctx.Err() == nil {
				x.log.Error("what is due cannot be sent", "partner", p.Name, "set", set, "error", err)
				again = true
			}
		}
	}
	return again
}

// tryHeld retries what is held once its cause may be gone: invoices that differ from their orders, if something has
// happened to the order since (the goods have come, or a price was corrected), and sets whose order has come after
// them.
func (x *Exchange) tryHeld(ctx context.Context) error {
	ids, err := x.store.HeldBehind(ctx, string(finding.OverInvoiced), string(finding.PriceDiffers),
		string(finding.InvoiceDiffers))
	if err != nil {
		return err
	}
	early, err := x.store.HeldBefore(ctx, string(finding.OrderUnknown))
	if err != nil {
		return err
	}
	ids = append(ids, early...)
	slices.Sort(ids)
	ids = slices.Compact(ids)
	for _, id := range ids {
		if err := x.store.Write(ctx, func(t *store.Tx) error { return x.takeAgain(t, id) }); err != nil {
			return err
		}
	}
	return nil
}

// takeAgain makes a job of what is held of an interchange that came.
func (x *Exchange) takeAgain(t *store.Tx, id int64) error {
	return errors.Join(t.SetInterchange(id, api.StateReceived, time.Time{}, time.Time{}),
		t.AddInterchangeJob(id, x.now()))
}

// sendDue sends a partner what is due. It turns a panic into an error, so that a mistake with one order does not end
// the service.
func (x *Exchange) sendDue(ctx context.Context, name, set string) (err error) {
	defer func() {
		if r := recover(); r != nil {
			err = fmt.Errorf("panic: %v\n%s", r, debug.Stack())
		}
	}()
	_, err = x.send(ctx, name, api.Wanted{Set: set}, true, "service")
	return err
}

// partnerQuiet is how long a partner's file must be unchanged before it is taken, unless it ends with an interchange's
// trailer. Half of an interchange would be answered with a rejection.
const partnerQuiet = 5 * time.Second

// ended reports whether a file ends with an interchange's trailer.
func ended(tail []byte) bool {
	tail = bytes.TrimSpace(tail)
	at := bytes.LastIndex(tail, []byte("IEA"))
	if at < 1 || len(tail) < at+7 {
		return false
	}
	element, segment := tail[at+3], tail[len(tail)-1]
	before := bytes.TrimRight(tail[:at], "\r\n")
	return element != segment && len(before) > 0 && before[len(before)-1] == segment &&
		bytes.Count(tail[at:], []byte{element}) == 2 && bytes.Count(tail[at:], []byte{segment}) == 1
}

// watch takes in the files of a partner's folder.
func (x *Exchange) watch(ctx context.Context, name string) {
	out := filepath.Join(x.dir, name, "out")
	if err := errors.Join(x.mode.Folder(out), folder.Sweep(out), x.reveal(ctx, out)); err != nil {
		x.log.Error("partner's folder cannot be made", "partner", name, "error", err)
	}
	w := folder.Watch{Dir: filepath.Join(x.dir, name, "in"), Mode: x.mode, Quiet: partnerQuiet, Ended: ended,
		Load: func(ctx context.Context, f *os.File, file, once string) (folder.Result, error) {
			came, err := x.Receive(ctx, f, Arrival{Name: file, By: "folder " + name,
				Once: "folder " + name + " " + once})
			if store.Blocked(err) != "" || ctx.Err() != nil {
				err = errors.Join(folder.ErrLater, err)
			}
			if err != nil {
				return folder.Result{}, err
			}
			clean := true
			for i := range came {
				clean = clean && came[i].State == api.StateDone
			}
			return folder.Result{Clean: clean}, nil
		}}
	if err := w.Run(ctx, every, x.log); err != nil {
		x.log.Error("partner's folder is not watched", "partner", name, "error", err)
	}
}
