package load

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"

	"koinos/book"
	"koinos/core/finding"
	"koinos/core/intent"
	"koinos/core/list"
	"koinos/core/mapping"
	"koinos/core/outcome"
	"koinos/core/reading"
	"koinos/core/report"
	"koinos/core/source"
	"koinos/store"
)

// Draft maps one order of a load's document again, with the mapping and lists of that time. It shows what a refused
// order, or one of a dry run, looks like.
func (e *Engine) Draft(ctx context.Context, l outcome.Load, seq int) (*intent.Intent, error) {
	return e.draft(ctx, l, seq, nil)
}

func (e *Engine) draft(ctx context.Context, l outcome.Load, seq int, watch func(reading.Step)) (*intent.Intent, error) {
	m, err := e.mappingOf(ctx, &l)
	if err != nil {
		return nil, err
	}
	versions, err := e.store.ListsOf(ctx, l.ID)
	if err != nil {
		return nil, err
	}
	set, err := e.store.SetAt(ctx, versions)
	if err != nil {
		return nil, err
	}
	f, err := e.store.OpenFile(l.Document)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	in := input{document: l.Document, mapping: m, set: set}
	if err := in.open(f, e.limits); err != nil {
		return nil, err
	}
	for g, err := range reading.NewTable(m, in.src, in.decided).Groups(ctx) {
		if err != nil {
			return nil, err
		}
		if g.Seq == seq {
			if g.Outcomes, err = e.outcomesFor(ctx, &l, m); err != nil {
				return nil, err
			}
			d := reading.Explain(m, g, set, watch)
			in.check(d)
			return d, nil
		}
	}
	return nil, fmt.Errorf("order %d of load %d: %w", seq, l.ID, store.ErrNotFound)
}

// Try runs a document through a mapping without a store. It finds what a dry run finds, except what depends on stored
// orders. It passes each draft to order and each finding to each as they come; either may be nil.
func Try(ctx context.Context, r io.ReaderAt, size int64, m *mapping.Mapping, set *list.Set, limits source.Limits,
	order func(*intent.Intent), each func(finding.Finding)) (outcome.Load, error) {
	l, notes, err := try(ctx, r, size, m, set, limits, order, each)
	if each != nil {
		for _, f := range notes {
			each(f)
		}
	}
	return l, err
}

// Expected is Try for people and for comparison: it writes the orders and findings in the form of report.Expected.
func Expected(ctx context.Context, w io.Writer, r io.ReaderAt, size int64, m *mapping.Mapping, set *list.Set,
	limits source.Limits) (outcome.Load, error) {
	e := report.NewExpected(w)
	l, notes, err := try(ctx, r, size, m, set, limits, e.Add, nil)
	return l, errors.Join(err, e.Close(notes))
}

// Orders is Try, and writes the orders for people.
func Orders(ctx context.Context, w io.Writer, r io.ReaderAt, size int64, m *mapping.Mapping, set *list.Set,
	limits source.Limits) (outcome.Load, error) {
	e := report.NewOrders(w, Holds(m))
	l, notes, err := try(ctx, r, size, m, set, limits, e.Add, nil)
	return l, errors.Join(err, e.Close(notes))
}

func try(ctx context.Context, r io.ReaderAt, size int64, m *mapping.Mapping, set *list.Set, limits source.Limits,
	order func(*intent.Intent), each func(finding.Finding)) (outcome.Load, []finding.Finding, error) {
	l := outcome.Load{Mapping: m.Name, Options: outcome.Options{DryRun: true}, Status: outcome.Done}
	count := func(f finding.Finding) { l.Found(f.Severity) }
	if missing := m.Missing(set); len(missing) > 0 {
		l.Status = outcome.Failed
		for _, f := range missing {
			count(f)
		}
		return l, missing, nil
	}
	in := &input{mapping: m, set: set}
	if err := in.openAt(r, size, limits); err != nil {
		return l, nil, err
	}
	session, holds := book.Begin(book.Rules{}), Holds(m)
	table, err := in.run(ctx, func(orders []mapped) error {
		for i := range orders {
			o := &orders[i]
			session.Passed(&o.Entry)
			o.Name()
			l.Orders++
			l.Lines += len(o.Order.Lines)
			if o.Refused() {
				l.Count(outcome.Refused)
			} else if holds != nil && slices.ContainsFunc(o.Findings,
				func(f finding.Finding) bool { return holds(&f) }) {
				l.Count(outcome.Held)
			} else {
				l.Count(outcome.Ready)
			}
			for _, f := range o.Findings {
				count(f)
				if each != nil {
					each(f)
				}
			}
			if order != nil {
				order(o.Intent)
			}
		}
		return nil
	})
	l.Rows = table.Counts.Rows
	notes := table.Notes
	if found := finding.Of(err); len(found) > 0 {
		l.Status, err = outcome.Failed, nil
		notes = append(notes, found...)
	}
	for _, f := range notes {
		count(f)
	}
	return l, notes, err
}
