package exchange

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"sync"
	"time"

	"koinos/core/finding"
	"koinos/core/mapping"
	"koinos/core/partner"
	"koinos/folder"
	"koinos/load"
	"koinos/store"
)

// Exchange deals with partners' interchanges. Its methods may be called by
// several goroutines.
type Exchange struct {
	store  *store.Store
	engine *load.Engine
	dir    string // a folder for each partner, with in and out; "" is none
	now    func() time.Time
	log    *slog.Logger

	mu      sync.Mutex // one change of the exchange's state at a time
	cacheMu sync.Mutex
	cache   map[string]*partner.Partner // by their text
}

// New makes an exchange over a store. Dir holds a folder for each partner.
func New(s *store.Store, engine *load.Engine, dir string, now func() time.Time, log *slog.Logger) *Exchange {
	return &Exchange{store: s, engine: engine, dir: dir, now: now, log: log, cache: map[string]*partner.Partner{}}
}

// Keep keeps a partner, and the mappings that it names where they are not there.
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
			f := finding.New(finding.PartnerInvalid, finding.Place{Mapping: true}, p.Them.Key(), "%s and %s have the same ids; an interchange could be of either.", other.Name, p.Name)
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
		if _, err := x.store.PutMapping(ctx, store.Mapping{Name: set.Mapping, Text: text, StoredAt: x.now().UTC(), StoredBy: by}); err != nil {
			return nil, err
		}
	}
	return p, x.store.PutPartner(ctx, store.Partner{Name: p.Name, Text: text, Them: p.Them.Key(), Us: p.Us.Key(), StoredAt: x.now().UTC(), StoredBy: by})
}

// partners are all that are kept.
func (x *Exchange) partners(ctx context.Context) ([]*partner.Partner, error) {
	kept, err := x.store.Partners(ctx)
	if err != nil {
		return nil, err
	}
	x.cacheMu.Lock()
	defer x.cacheMu.Unlock()
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

// Partner gives a partner by name.
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
		f := finding.New(finding.PartnerInvalid, finding.Place{}, set, "%s exchanges no %s with us: the partner's sets do not name it.", p.Name, set)
		return nil, &f
	}
	kept, err := x.store.Mapping(ctx, s.Mapping, 0)
	if err != nil {
		return nil, err
	}
	m, err := mapping.Parse([]byte(kept.Text))
	if err == nil && m.Document.Set != set {
		f := finding.New(finding.PartnerInvalid, finding.Place{}, s.Mapping, "The mapping %s reads and writes a %q, not a %s.", s.Mapping, m.Document.Set, set)
		return nil, &f
	}
	return m, err
}

// inTurn are the sets in the order in which they make sense to who reads them.
var inTurn = []string{"850", "860", "855", "865", "856", "810"}

// every is how often folders and what is due are looked at.
const every = 400 * time.Millisecond

// Run takes up what an earlier service left, then watches the partners' folders
// and sends what is due until ctx ends.
func (x *Exchange) Run(ctx context.Context) {
	x.resume(ctx)
	watched := map[string]bool{}
	var wait sync.WaitGroup
	defer wait.Wait()
	tick := time.NewTicker(every)
	defer tick.Stop()
	seen := ^uint64(0) // commits of the store when what is due was looked for last
	var rest time.Time // until then it is not looked for again: looking took that long
	for {
		began := time.Now()
		commits := x.store.Commits()
		look := commits != seen && began.After(rest)
		all, err := x.partners(ctx)
		if err != nil && ctx.Err() == nil {
			x.log.Error("partners cannot be read", "error", err)
		}
		for _, p := range all {
			if x.dir != "" && !watched[p.Name] {
				watched[p.Name] = true
				wait.Go(func() { x.watch(ctx, p.Name) })
			}
			for _, set := range inTurn {
				if look && p.Sets[set].Send == "due" && p.Outgoing(set) {
					if _, err := x.Send(ctx, p.Name, Wanted{Set: set, fresh: true}, "service"); err != nil && ctx.Err() == nil {
						x.log.Error("what is due cannot be sent", "partner", p.Name, "set", set, "error", err)
						commits = ^uint64(0) // to be tried again
					}
				}
			}
		}
		if look {
			seen, rest = commits, time.Now().Add(10*time.Since(began))
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

// resume delivers and takes in what was kept before the service ended.
func (x *Exchange) resume(ctx context.Context) {
	ready, err := x.store.InterchangesIn(ctx, "out", store.Ready)
	for _, id := range ready {
		err = errors.Join(err, x.deliver(ctx, id))
	}
	came, more := x.store.InterchangesIn(ctx, "in", store.Received)
	err = errors.Join(err, more)
	for _, id := range came {
		err = errors.Join(err, x.take(ctx, id))
	}
	if err != nil && ctx.Err() == nil {
		x.log.Error("interchanges that were left could not be taken up", "error", err)
	}
}

// watch takes in the files of a partner's folder.
func (x *Exchange) watch(ctx context.Context, name string) {
	if err := os.MkdirAll(filepath.Join(x.dir, name, "out"), 0o755); err != nil {
		x.log.Error("partner's folder cannot be made", "partner", name, "error", err)
	}
	w := folder.Watch{Dir: filepath.Join(x.dir, name, "in"), Load: func(ctx context.Context, f *os.File, file, _ string) (folder.Result, error) {
		info, err := f.Stat()
		if err != nil {
			return folder.Result{}, err
		}
		came, err := x.Receive(ctx, f, info.Size(), file, "folder "+name)
		if store.IsFull(err) || errors.Is(err, load.ErrStopping) {
			err = errors.Join(folder.ErrLater, err)
		}
		if err != nil {
			return folder.Result{}, err
		}
		clean := true
		for i := range came {
			clean = clean && came[i].State == store.Done
		}
		return folder.Result{Clean: clean}, nil
	}}
	if err := w.Run(ctx, every/2, x.log); err != nil {
		x.log.Error("partner's folder is not watched", "partner", name, "error", err)
	}
}
