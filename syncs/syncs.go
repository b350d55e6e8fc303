package syncs

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"koinos/api"
	"koinos/core/finding"
	"koinos/core/jsondoc"
	"koinos/core/system"
	"koinos/folder"
	"koinos/jobs"
	"koinos/load"
	"koinos/remote"
	"koinos/store"
)

// Syncs does the work for all systems. Its methods may be called by several goroutines.
type Syncs struct {
	store     *store.Store
	engine    *load.Engine
	now       func() time.Time
	log       *slog.Logger
	filesMode folder.Mode // of files that others take up

	mu     sync.Mutex
	open   map[string]*opened       // by name: the newest version that was asked for
	calls  map[string]*callLog      // by name
	busy   map[string]chan struct{} // what somebody is at work on
	looked map[string]lookup        // by system, kind, way and value

	mappings map[string]parsed // by name
	outside  string            // our address, as others reach it; "" is not known
	calling  gatherer[madeTogether]
	filling  gatherer[filedTogether]
	keeper
}

// opened is a system with its client. All who use it share its limits.
type opened struct {
	*system.System
	version int
	client  *remote.Client
	fields  map[string]toldFields // by kind of record; Syncs.mu guards it
}

// New makes a Syncs for a store.
func New(s *store.Store, engine *load.Engine, files folder.Mode, now func() time.Time, log *slog.Logger) *Syncs {
	return &Syncs{store: s, engine: engine, filesMode: files, now: now, log: log, open: map[string]*opened{},
		calls: map[string]*callLog{}, busy: map[string]chan struct{}{}, looked: map[string]lookup{},
		mappings: map[string]parsed{}, keeper: newKeeper()}
}

// pullsAtOnce is how many pulls of different systems run at the same time.
const pullsAtOnce = 4

// checksAtOnce is how many comparisons of different syncs run at the same time.
const checksAtOnce = 2

// Kinds are the jobs: pulls, those of a system one after another, and comparisons.
func (s *Syncs) Kinds() map[string]jobs.Kind {
	return map[string]jobs.Kind{api.PullJob: {Work: s.work, AtOnce: pullsAtOnce}, api.CheckJob: {Work: s.compare,
		AtOnce: checksAtOnce}}
}

// Keep stores a description.
func (s *Syncs) Keep(ctx context.Context, text, by string) (api.System, error) {
	y, err := system.Parse([]byte(text))
	if err != nil {
		return api.System{}, err
	}
	kept, err := s.store.PutSystem(ctx, api.System{Name: y.Name, Text: text, StoredAt: s.now().UTC(), StoredBy: by})
	return s.Described(kept), err
}

// Shown is a stored description with what it says about itself.
func Shown(kept api.System) api.System {
	if y, err := system.Parse([]byte(kept.Text)); err == nil {
		kept.About, kept.Address, kept.Records = y.About, y.Address+y.Folder, y.RecordNames()
		kept.Folder = y.Folder != ""
		for _, name := range kept.Records {
			if w := y.Records[name].Write; w != nil && w.Mapping != "" {
				kept.Writes = append(kept.Writes, name)
			}
		}
	}
	return kept
}

// system returns a stored system with its client; version 0 is the newest.
func (s *Syncs) system(ctx context.Context, name string, version int) (*opened, error) {
	kept, err := s.store.System(ctx, name, version)
	if err != nil {
		return nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if o := s.open[name]; o != nil && o.version == kept.Version {
		return o, nil
	}
	y, err := system.Parse([]byte(kept.Text))
	if err != nil {
		return nil, err
	}
	o := &opened{System: y, version: kept.Version, fields: map[string]toldFields{}}
	if y.Folder == "" {
		if o.client, err = remote.Open(y, func(c remote.Call) { s.called(name, &c) }); err != nil {
			return nil, err
		}
	}
	s.open[name] = o
	return o, nil
}

// AskedError says what is wrong with a request, in a sentence.
type AskedError struct{ Why string }

func (e *AskedError) Error() string { return e.Why }

func asked(format string, args ...any) error { return &AskedError{fmt.Sprintf(format, args...)} }

func (o *opened) record(name string) (*system.Record, error) {
	r := o.Records[name]
	if r == nil {
		return nil, asked("The description of %s has no record %q; it has %s.", o.Name, name,
			strings.Join(o.RecordNames(), ", "))
	}
	return r, nil
}

// reads returns the mappings for the records of a pull that names none: those of the description. Records that only
// point to others use the mappings of these, as syncs read them.
func (s *Syncs) reads(ctx context.Context, o *opened, r *system.Record, p *api.Pull) error {
	if r.Tells != nil {
		of, err := s.readsBy(ctx, o.Name, r.Tells.Record)
		if err != nil {
			return err
		}
		query := p.Query
		r = o.Records[r.Tells.Record]
		p.Mapping, p.Also, p.Reading = of.Mapping, of.Also, of.Reading
		p.Query = query
	}
	p.Mapping = cmp.Or(p.Mapping, r.Mapping)
	return nil
}

// prepare completes the options of a pull.
func (s *Syncs) prepare(ctx context.Context, name string, n api.NewPull, by string) (p api.Pull, o *opened,
	r *system.Record, err error) {
	if o, err = s.system(ctx, name, 0); err != nil {
		return p, nil, nil, err
	}
	if r, err = o.record(n.Record); err != nil {
		return p, nil, nil, err
	}
	p = api.Pull{System: name, Version: o.version, Record: n.Record, Mapping: n.Mapping, Since: n.Since,
		State: api.PullRunning, Key: n.Key, All: n.All, Also: n.Also, Reading: n.Reading,
		StartedAt: s.now().UTC(), By: by, Folder: r.Files != nil}
	if r.Tells != nil && n.Mapping != "" {
		return p, nil, nil, asked("%s of %s only tells of %s, which is read through its own mapping: leave the "+
			"mapping out.", n.Record,
			name, r.Tells.Record)
	}
	if err := s.reads(ctx, o, r, &p); err != nil {
		return p, nil, nil, err
	}
	if p.Mapping == "" {
		return p, nil, nil, asked("Say which mapping makes orders of %s's %s, here or in the description.", name,
			n.Record)
	}
	if _, err := s.store.Mapping(ctx, p.Mapping, 0); err != nil {
		return p, nil, nil, err
	}
	for _, name := range n.Also {
		if _, err := s.store.Mapping(ctx, name, 0); err != nil {
			return p, nil, nil, err
		}
	}
	if n.Only != nil {
		if _, err := jsondoc.ParsePath(n.Only.Path); err != nil || (len(n.Only.Is) == 0) == (len(n.Only.Not) == 0) {
			return p, nil, nil, asked("only needs a path within the record and the values that it may have, or may not: %v.",
				err)
		}
	}
	r = lister(r, &p)
	if r.Since.Parameter != "" {
		if p.Newest, err = s.store.Watermark(ctx, name, n.Record, p.Reading); err != nil { // it never goes back
			return p, nil, nil, err
		}
	}
	if p.Since == "" && !n.All {
		p.Since = p.Newest
		if err = s.fromShort(ctx, r, &p); err != nil {
			return p, nil, nil, err
		}
	}
	if err == nil && r.Files == nil {
		if _, wrong := r.First(o.client.Base(), p.Since); wrong != nil { // a stamp that is none is said now
			err = asked("%q is no time such as 2026-03-01 or 2026-03-01T08:00:00Z.", p.Since)
		}
	}
	return p, o, r, err
}

// Start begins a pull. It is in the store when Start returns, and continues when ctx ends.
func (s *Syncs) Start(ctx context.Context, name string, n api.NewPull, by string) (api.Pull, error) {
	p, _, _, err := s.prepare(ctx, name, n, by)
	if err != nil {
		return p, err
	}
	return p, s.store.AddPull(ctx, &p)
}

// Wait returns a pull when it has ended, or when the system is away.
func (s *Syncs) Wait(ctx context.Context, id int64) (api.Pull, error) {
	for {
		woken := s.store.Woken()
		p, err := s.store.Pull(ctx, id)
		if err != nil || p.State != api.PullRunning {
			return p, err
		}
		select {
		case <-woken:
		case <-ctx.Done():
			return p, ctx.Err()
		}
	}
}

// Try signs in at a system and, if a record is named, reads a page of it and says what the description finds there.
// Nothing is stored.
func (s *Syncs) Try(ctx context.Context, n api.NewTry) (api.Tried, error) {
	out := api.Tried{Record: n.Record, Calls: []api.SystemCall{}}
	text := n.Text
	if text == "" {
		kept, err := s.store.System(ctx, n.Name, 0)
		if err != nil {
			return out, err
		}
		text = kept.Text
	}
	n.Text = text
	return Try(ctx, n)
}

// answerShown is how much of an answer is shown by a try.
const answerShown = 4 << 10

// Try is Syncs.Try for a text, which needs no service.
func Try(ctx context.Context, n api.NewTry) (api.Tried, error) {
	record := n.Record
	out := api.Tried{Record: record, Calls: []api.SystemCall{}}
	y, err := system.Parse([]byte(n.Text))
	if err != nil {
		out.Findings, out.Kind, out.Why = finding.Of(err), "setup", "The description has mistakes."
		return out, nil
	}
	out.System, out.Address = y.Name, y.Address+y.Folder
	if out.Folder = y.Folder != ""; out.Folder {
		return tryFolder(&opened{System: y}, out, &n)
	}
	var mu sync.Mutex
	client, err := remote.Open(y, func(c remote.Call) {
		mu.Lock()
		defer mu.Unlock()
		out.Calls = append(out.Calls, shown(&c, answerShown))
	})
	if err != nil {
		return trouble(out, err)
	}
	out.Address = client.Base()
	if record == "" {
		if err := client.SignIn(ctx); err != nil {
			return trouble(out, err)
		}
		out.SignedUntil = client.Signed()
		return out, nil
	}
	o := &opened{System: y, client: client}
	r, err := o.record(record)
	if err != nil {
		return trouble(out, err)
	}
	out.Tells = r.Fields != nil
	switch {
	case n.Fields:
		if out.Fields, err = o.fieldsOf(ctx, r); err != nil {
			return trouble(out, err)
		}
		return out, nil
	case n.Write != nil:
		if out.Step, err = o.tryWrite(ctx, r, n.Write); err != nil {
			return trouble(out, err)
		}
		return out, nil
	}
	found, more, err := o.some(ctx, r, &n)
	if err != nil {
		return trouble(out, err)
	}
	out.SignedUntil = client.Signed()
	out.Found, out.More, out.Mapping = found, more, r.Mapping
	for i := range found {
		var b bytes.Buffer
		if err := json.Indent(&b, found[i].Raw, "", "  "); err != nil {
			return out, err
		}
		out.Shown = append(out.Shown, b.String())
	}
	return out, nil
}

// some reads what a try asks for: the first page of a list, the records that a way of finding returns, or one by its
// key.
func (o *opened) some(ctx context.Context, r *system.Record, n *api.NewTry) (found []system.Found, more bool,
	err error) {
	switch {
	case n.Key != "" && r.Get == "":
		return nil, false, asked("The description does not say how one %s is got (get).", r.Name)
	case n.Key != "":
		a, err := o.client.One(ctx, r, n.Key)
		if err != nil {
			return nil, false, err
		}
		f, err := r.Alone(a)
		return []system.Found{f}, false, err
	case n.Find != "":
		way, value, ok := strings.Cut(n.Find, "=")
		if f := r.Finds[way]; ok && f != nil {
			found, err = o.like(ctx, r, f, value)
			return found, false, err
		}
		return nil, false, asked("%q is no WAY=VALUE of %s; its ways are %s.", n.Find, r.Name,
			cmp.Or(strings.Join(slices.Sorted(maps.Keys(r.Finds)), ", "), "none"))
	}
	address, err := r.First(o.client.Base(), "")
	if err != nil {
		return nil, false, err
	}
	a, err := o.page(ctx, &r.List, address)
	if err != nil {
		return nil, false, err
	}
	page, err := r.Read(a)
	if err != nil {
		return nil, false, err
	}
	return page.Records, page.Next != "", nil
}

// trouble says what kind of trouble a try met; it returns errors of the caller.
func trouble(out api.Tried, err error) (api.Tried, error) {
	var p *remote.Problem
	var a *system.AnswerError
	var wrong *AskedError
	var no *blockedError
	switch {
	case errors.As(err, &p):
		out.Kind, out.Why = string(p.Kind), p.Why
	case errors.As(err, &a):
		out.Kind, out.Why = "answer", strings.ToUpper(a.Error()[:1])+a.Error()[1:]+"."
	case errors.As(err, &wrong):
		out.Kind, out.Why = "setup", wrong.Why
	case errors.As(err, &no):
		out.Kind, out.Why = "setup", no.Error()
	case errors.Is(err, system.ErrElsewhere):
		out.Kind, out.Why = "setup", err.Error()+"."
	default:
		return out, err
	}
	return out, nil
}
