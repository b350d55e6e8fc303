package syncs

import (
	"bytes"
	"context"
	"fmt"

	"koinos/api"
	"koinos/core/finding"
	"koinos/core/intent"
	"koinos/core/outcome"
	"koinos/core/source"
	"koinos/core/syncing"
	"koinos/core/system"
	"koinos/load"
	"koinos/store"
)

// pull compares what a source has with what is stored here. A reconcile that repairs loads all of it first.
func (k *checking) pull(ctx context.Context, p *syncing.Pull) error {
	s := k.s
	free, err := s.holdFor(ctx, "pull "+p.System)
	if err != nil {
		return err
	}
	defer free()
	everything := k.c.Kind == api.CheckReconcile
	n := pullBy(p)
	n.All = everything
	pull, o, r, err := s.prepare(ctx, p.System, n, fmt.Sprintf("check %d", k.c.ID))
	if err != nil {
		return err
	}
	pull.Anew = everything
	listed := map[string]bool{}
	b := newBatch()
	if r.Files != nil {
		if err := s.dryFiles(ctx, o, r, &pull, b); err != nil {
			return err
		}
		k.c.Counts.Records += pull.Records
		return k.imagine(ctx, p, &pull, b)
	}
	address, err := r.First(o.client.Base(), pull.Since)
	seen := stamps{each: func(f *system.Found) { listed[f.Key] = true }}
	for address != "" && err == nil {
		var next string
		next, err = s.page(ctx, o, r, &pull, b, address, &seen)
		if seen.lapsed(err) {
			next, err = s.anew(o, r, &pull, &seen)
		}
		if err != nil {
			return err
		}
		address = next
		if b.full() || address == "" {
			if err := k.imagine(ctx, p, &pull, b); err != nil {
				return err
			}
			b = newBatch()
		}
		k.mu.Lock()
		k.c.Counts.Records += pull.Records
		k.mu.Unlock()
		pull.Records = 0
	}
	if err != nil || !everything {
		return err
	}
	if err := k.lost(ctx, p, o, r, listed); err != nil || !k.c.Repair {
		return err
	}
	return k.readAnew(ctx, p)
}

// readAnew loads all records of a source, whether they are known or not.
func (k *checking) readAnew(ctx context.Context, p *syncing.Pull) error {
	n := pullBy(p)
	n.All = true
	pull, _, _, err := k.s.prepare(ctx, p.System, n, fmt.Sprintf("reconcile of %s", k.y.Name))
	if err != nil {
		return err
	}
	pull.Anew = true
	if err := k.s.attempt(ctx, &pull); err != nil {
		return err
	}
	k.mu.Lock()
	k.c.Counts.Repaired += pull.Loaded + pull.Changed
	k.mu.Unlock()
	return nil
}

// imagine says what records would become here, and what would follow at the targets.
func (k *checking) imagine(ctx context.Context, p *syncing.Pull, pull *api.Pull, b *batch) error {
	s := k.s
	if err := s.passOver(ctx, pull, b); err != nil {
		return err
	}
	docs, err := b.documents()
	if err != nil {
		return err
	}
	for i := range b.arrivals { // withdrawn there, and an order here
		if a := &b.arrivals[i]; a.State == api.ArrivalGone && b.was[i].Mapped && k.c.Kind == api.CheckDryRun {
			if err := k.add(ctx, api.CheckRow{Outcome: api.WouldUpdate, Part: p.Target.String(), Order: a.Number,
				Key: a.Key,
				Why: "It is withdrawn there: what is open of its order here would be cancelled."}); err != nil {
				return err
			}
		}
	}
	if len(docs) == 0 {
		return nil
	}
	m, _, err := s.mapping(ctx, pull.Mapping)
	if err != nil {
		return err
	}
	set, err := s.store.Set(ctx)
	if err != nil {
		return err
	}
	var made []*intent.Intent
	for _, doc := range docs {
		text := bytes.NewReader(doc)
		if _, err := load.Try(ctx, text, text.Size(), m, set, source.DefaultLimits,
			func(i *intent.Intent) { made = append(made, i) }, nil); err != nil {
			return err
		}
	}
	would, err := s.engine.Imagine(ctx, m, made)
	if err != nil {
		return err
	}
	for i := range would {
		w := &would[i]
		row := api.CheckRow{Part: p.Target.String(), Order: w.Number, Changes: w.Changes}
		if row.Order == "" {
			row.Order = w.SenderNumber
		}
		switch w.Outcome {
		case outcome.Unchanged:
			continue
		case outcome.Loaded:
			row.Outcome, row.Order = api.WouldLoad, w.SenderNumber
		case outcome.Changed:
			row.Outcome, row.OrderID = api.WouldUpdate, w.OrderID
			row.ChangedBy = lastBy(w.Order)
		default:
			row.Outcome = api.WouldRefuse
			row.Code, row.Why = firstOf(w)
		}
		if err := k.add(ctx, row); err != nil {
			return err
		}
		if w.Order == nil || k.c.Kind != api.CheckDryRun {
			continue
		}
		if w.Outcome == outcome.Changed {
			k.imagined[w.OrderID] = true
		}
		if err := k.follow(ctx, w.Order, w.Outcome == outcome.Loaded); err != nil {
			return err
		}
	}
	return nil
}

// lastBy is who changed an order last, before it was imagined.
func lastBy(o *store.StoredOrder) string {
	if o == nil || len(o.Events) < 2 {
		return ""
	}
	return o.Events[len(o.Events)-2].Origin.By
}

// firstOf is the reason why a record is refused or held.
func firstOf(w *load.Imagined) (code, why string) {
	for i := range w.Findings {
		f := &w.Findings[i]
		if code == "" || f.Severity == "error" {
			code, why = string(f.Code), f.Message
			if f.Severity == "error" {
				break
			}
		}
	}
	return code, why
}

// lost finds the records that became orders here and that the source did not list. Each is asked for by its key before
// it counts as lost.
func (k *checking) lost(ctx context.Context, p *syncing.Pull, o *opened, r *system.Record,
	listed map[string]bool) error {
	if r.Get == "" {
		return nil
	}
	for after := ""; ; {
		keys, err := k.s.store.MappedKeys(ctx, p.System, p.Record, after, spreadAtOnce)
		if err != nil || len(keys) == 0 {
			return err
		}
		after = keys[len(keys)-1]
		for _, key := range keys {
			if listed[key] {
				continue
			}
			gone, err := k.s.isGone(ctx, o, r, key)
			if err != nil {
				return err
			}
			if !gone {
				continue
			}
			row := api.CheckRow{Outcome: api.IsLost, Part: p.Target.String(), Key: key,
				Why: fmt.Sprintf("%s does not have it any more.", finding.Capital(p.System))}
			if k.c.Repair {
				if err := k.s.vanished(ctx, o, r, p.Mapping, key, fmt.Sprintf("reconcile of %s",
					k.y.Name)); err != nil {
					return err
				}
				row.Repaired = true
				k.c.Counts.Repaired++
			}
			if err := k.add(ctx, row); err != nil {
				return err
			}
		}
	}
}

// besides finds records of a target that are not orders here. They are reported, and never touched.
func (k *checking) besides(ctx context.Context, p *syncing.Push) error {
	o, r, err := k.s.target(ctx, p.Target)
	if err != nil || r.List.Records == nil {
		return err
	}
	address, err := r.First(o.client.Base(), "")
	for address != "" && err == nil {
		var a system.Answer
		if a, err = o.page(ctx, &r.List, address); err != nil {
			return err
		}
		page, err := r.Read(a)
		if err != nil {
			return err
		}
		for i := range page.Records {
			f := &page.Records[i]
			if f.Gone {
				continue
			}
			l, err := k.s.store.LinkOf(ctx, p.System, p.Record, f.Key)
			if err != nil {
				return err
			}
			if l != nil {
				continue
			}
			if err := k.add(ctx, api.CheckRow{Outcome: api.IsBesides, Part: p.Name, Key: f.Key, Order: f.Number,
				Why: fmt.Sprintf("%s has it, and no order here is linked with it.",
					finding.Capital(p.System))}); err != nil {
				return err
			}
		}
		address = page.Next
	}
	return err
}
