package load

import (
	"context"
	"errors"
	"fmt"
	"io"

	"koinos/core/finding"
	"koinos/core/list"
	"koinos/core/mapping"
	"koinos/core/report"
	"koinos/core/source"
	"koinos/store"
)

// Draft maps one order of a load's document again, as it was mapped then but
// with today's lists: what a refused order, or one of a dry run, looks like.
func (e *Engine) Draft(ctx context.Context, l report.Load, seq int) (*mapping.Draft, error) {
	kept, err := e.store.Mapping(ctx, l.Mapping, l.Version)
	if err != nil {
		return nil, err
	}
	m, err := mapping.Parse([]byte(kept.Text))
	if err != nil {
		return nil, err
	}
	set, err := e.store.Set(ctx)
	if err != nil {
		return nil, err
	}
	f, err := e.store.OpenFile(l.Document)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	src, err := openFile(f, m, e.limits)
	if err != nil {
		return nil, err
	}
	table := mapping.NewTable(m, src)
	for {
		g, err := table.Next()
		if errors.Is(err, io.EOF) {
			return nil, fmt.Errorf("order %d of load %d: %w", seq, l.ID, store.ErrNotFound)
		}
		if err != nil {
			return nil, err
		}
		if g.Seq == seq {
			in := input{document: l.Document, mapping: m, set: set}
			return in.mapOne(&g).Draft, nil
		}
		if err := ctx.Err(); err != nil {
			return nil, err
		}
	}
}

// Try runs a document through a mapping without a store: what a dry run finds
// but for orders that are stored already. Findings go to each as they come.
func Try(ctx context.Context, src source.Reader, m *mapping.Mapping, set *list.Set, each func(finding.Finding)) (report.Load, error) {
	l := report.Load{Mapping: m.Name, DryRun: true, Status: report.Done}
	note := func(f finding.Finding) {
		l.Errors += btoi(f.Severity == finding.Error)
		l.Warnings += btoi(f.Severity == finding.Warning)
		each(f)
	}
	in := &input{mapping: m, set: set, src: src}
	t := &target{seen: map[[16]byte]int32{}}
	table, err := in.run(ctx, func(orders []mapped) error {
		for i := range orders {
			o := &orders[i]
			if !o.Orphan {
				t.firstOf(o)
			}
			l.Orders++
			l.Lines += len(o.Order.Lines)
			if o.Refused() {
				l.Count(report.Refused)
			} else {
				l.Count(report.Ready)
			}
			for _, f := range o.Findings {
				note(f)
			}
		}
		return nil
	})
	l.Rows = table.Read
	for _, f := range table.Notes {
		note(f)
	}
	if found := finding.Of(err); len(found) > 0 {
		l.Status, err = report.Failed, nil
		for _, f := range found {
			note(f)
		}
	}
	return l, err
}
