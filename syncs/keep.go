package syncs

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"koinos/api"
	"koinos/core/finding"
	"koinos/core/intent"
	"koinos/core/outcome"
	"koinos/core/source"
	"koinos/load"
	"koinos/store"
)

// keep loads a batch and stores its arrivals with how far the pull has come.
func (s *Syncs) keep(ctx context.Context, p *api.Pull, b *batch) error {
	if len(b.arrivals) == 0 && p.ID == 0 {
		return nil
	}
	if err := s.noted(ctx, p); err != nil {
		return err
	}
	if err := s.toldOf(ctx, p, b.told); err != nil {
		return err
	}
	return s.takeIn(ctx, p, b, true)
}

// toldOf reads the records again that others point to, and loads them.
func (s *Syncs) toldOf(ctx context.Context, p *api.Pull, keys []string) error {
	if len(keys) == 0 {
		return nil
	}
	o, err := s.system(ctx, p.System, p.Version)
	if err != nil {
		return err
	}
	r, err := o.record(p.Record)
	if err != nil || r.Tells == nil {
		return err
	}
	to := o.Records[r.Tells.Record]
	of := *p
	of.Record, of.Anew = to.Name, true
	b := newBatch()
	for i, key := range keys {
		of.Key = key
		if err := s.gather(ctx, o, to, &of, b, key); err != nil {
			return err
		}
		if !b.full() && i < len(keys)-1 {
			continue
		}
		if err := s.takeIn(ctx, &of, b, false); err != nil {
			return err
		}
		b = newBatch()
	}
	p.Gone, p.Short, p.Loaded, p.Changed, p.Failed, p.Reason = of.Gone, of.Short, of.Loaded, of.Changed, of.Failed,
		of.Reason
	return nil
}

// takeIn loads a batch and stores its arrivals; with far set, also how far the pull has come.
func (s *Syncs) takeIn(ctx context.Context, p *api.Pull, b *batch, far bool) error {
	if err := s.passOver(ctx, p, b); err != nil {
		return err
	}
	for i := range b.arrivals {
		b.arrivals[i].Pull = p.ID
	}
	if slices.ContainsFunc(b.says, func(one *meaning) bool { return one.both != nil }) {
		done, err := s.holdFor(ctx, "keep "+p.System+"."+p.Record)
		if err != nil {
			return err
		}
		defer done()
	}
	for _, state := range []string{api.ArrivalMapped, api.ArrivalGone} {
		doc, lines, err := b.document(state)
		if err != nil {
			return err
		}
		if lines == 0 {
			continue
		}
		if m, _, err := s.mapping(ctx, p.Mapping); err != nil {
			return err
		} else if state == api.ArrivalGone && m.Kind != intent.Order {
			p.Reason = fmt.Sprintf("Records were withdrawn of which a %s is stored here. Koinos takes none back by itself: "+
				"look into the arrivals that are withdrawn.", m.Kind)
			continue
		}
		l, sha, err := s.load(ctx, p, p.Mapping, doc.Bytes(), state == api.ArrivalGone)
		if err != nil {
			return err
		}
		if state == api.ArrivalMapped {
			for _, name := range p.Also { // behind the orders that they speak of
				more, _, err := s.load(ctx, p, name, doc.Bytes(), false)
				if err != nil {
					return err
				}
				p.Changed, p.Failed = p.Changed+more.Changed, p.Failed+more.Failing()
			}
		}
		p.Loaded, p.Changed, p.Failed = p.Loaded+l.Loaded, p.Changed+l.Changed, p.Failed+l.Failing()
		for i := range b.arrivals {
			if a := &b.arrivals[i]; a.State == state && a.Line > 0 {
				a.Document, a.Load = sha, l.ID
			}
		}
	}
	links, tasks, err := s.agreed(ctx, b)
	if err != nil {
		return err
	}
	if b.writes {
		parts, err := s.partLinks(ctx, p, b)
		if err != nil {
			return err
		}
		links = append(links, parts...)
	}
	err = s.store.Write(ctx, func(t *store.Tx) error {
		for _, name := range sorted(tasks) {
			if err := t.AddTasks(name, tasks[name], s.now()); err != nil {
				return err
			}
		}
		err := errors.Join(t.ReleaseArrivals(b.arrivals), t.AddArrivals(b.arrivals), t.ReleaseOvertaken(b.arrivals),
			t.SaveLinks(links, s.now()))
		if far {
			err = errors.Join(err, t.ReleaseUnkept(byPull(p)), t.SavePull(p))
		}
		return err
	})
	if err == nil {
		s.arrived(b.arrivals)
	}
	return err
}

// readerOf is the sync that reads a kind of record; "" if there is none.
func (s *Syncs) readerOf(ctx context.Context, p *api.Pull) string {
	all, err := s.standings(ctx)
	if err != nil {
		return "" // it is only for the list of what is held
	}
	for _, name := range sorted(all) {
		for _, q := range all[name].Pulls {
			if q.System == p.System && q.Record == p.Record {
				return name
			}
		}
	}
	return ""
}

// load loads a document of a batch through the mapping; with withdraw set, its orders are cancelled.
func (s *Syncs) load(ctx context.Context, p *api.Pull, mapping string, doc []byte, withdraw bool) (outcome.Load, string,
	error) {
	sha, size, err := s.store.KeepFile(bytes.NewReader(doc), func(io.ReaderAt, int64) error { return nil })
	if err != nil {
		return outcome.Load{}, "", err
	}
	if _, err := s.store.PutDocument(ctx, api.Document{SHA: sha,
		Name: fmt.Sprintf("%s-%s%s-pull-%d.ndjson", p.System, p.Record, map[bool]string{true: "-withdrawn"}[withdraw],
			p.ID),
		Size: size, Shape: source.Shape{Format: source.NDJSON}, ReceivedAt: s.now().UTC(),
		ReceivedBy: byPull(p)}); err != nil {
		return outcome.Load{}, "", err
	}
	l, err := s.loadDocument(ctx, p, mapping, sha, withdraw)
	return l, sha, err
}

func byPull(p *api.Pull) string { return fmt.Sprintf("%s, pull %d", p.System, p.ID) }

// loadDocument loads a stored document.
func (s *Syncs) loadDocument(ctx context.Context, p *api.Pull, mapping, sha string, withdraw bool) (outcome.Load,
	error) {
	m, _, err := s.mapping(ctx, mapping)
	if err != nil {
		return outcome.Load{}, err
	}
	by := byPull(p)
	l, err := s.engine.Start(ctx, load.Request{Document: sha, Mapping: mapping, By: by,
		Name: by + " " + mapping + " " + sha,
		Options: outcome.Options{Withdraw: withdraw, HoldSystem: p.System, HoldRecord: p.Record,
			HoldSync: s.readerOf(ctx, p), MayBeEmpty: mapping != p.Mapping || m.Kind != intent.Order}})
	if err == nil {
		l, err = s.engine.UntilDone(ctx, l.ID)
	}
	if err != nil || l.Status == outcome.Done {
		return l, err
	}
	why, err := s.whyEnded(ctx, &l)
	if err != nil {
		return l, err
	}
	return l, &errFailed{why: fmt.Sprintf("Load %d of its records ended as %s: %s", l.ID, l.Status, why)}
}

// mostWhy is how many findings say why a load ended before its document did.
const mostWhy = 3

// whyEnded says in sentences why a load ended before its document did.
func (s *Syncs) whyEnded(ctx context.Context, l *outcome.Load) (string, error) {
	if l.Reason != "" {
		return l.Reason, nil
	}
	found, err := s.store.Findings(ctx, l.ID, store.FindingFilter{Severity: string(finding.Error), Limit: mostWhy})
	if err != nil || len(found) == 0 {
		return fmt.Sprintf("koinos load show %d says more.", l.ID), err
	}
	var all []string
	for _, f := range found {
		all = append(all, finding.Capital(f.Message))
	}
	return strings.Join(all, " "), nil
}
