package load

import (
	"context"
	"errors"

	"koinos/core/finding"
	"koinos/core/mapping"
	"koinos/core/order"
	"koinos/core/origin"
	"koinos/core/outcome"
	"koinos/core/reading"
	"koinos/core/report"
	"koinos/core/source"
	"koinos/store"
)

// answers returns a load's answers for a marked-up copy.
type answers struct {
	ctx  context.Context
	e    *Engine
	load outcome.Load
	m    *mapping.Mapping

	last   int // seq of the order asked last, with what is stored of it
	stored *order.Order
	line   func(string, int) int
	traces map[int]*drafted // of orders that this load did not store, once they are asked for
}

// drafted is where the lines of an order of the document stand, and their keys.
type drafted struct {
	trace origin.Trace
	order order.Order
}

// Sets returns the answers of a load, or of every step of its run, for a marked-up copy of the document, with how the
// document is read.
func (e *Engine) Sets(ctx context.Context, l outcome.Load, whole bool) ([]report.Set, source.Options, error) {
	loads := []outcome.Load{l}
	if whole && l.Run != 0 {
		r, err := e.Run(ctx, l.Run)
		if err != nil {
			return nil, source.Options{}, err
		}
		loads = r.Loads
	}
	var sets []report.Set
	var opt source.Options
	for _, l := range loads {
		m, err := e.mappingOf(ctx, &l)
		if err != nil {
			return nil, opt, err
		}
		opt = m.Options(e.limits)
		name := ""
		if len(loads) > 1 {
			name = l.Step
		}
		sets = append(sets, report.Set{Name: name, Mapping: m,
			Answers: &answers{ctx: ctx, e: e, load: l, m: m}})
	}
	return sets, opt, nil
}

func (a *answers) Spans(sheet string, first, last int) ([]outcome.SpanOutcome, error) {
	spans, err := a.e.store.Spans(a.ctx, a.load.ID, sheet, first, last, 0)
	if err != nil {
		return nil, err
	}
	for i := range spans {
		if o := spans[i].Outcome; o != outcome.Changed && o != outcome.Differs {
			continue
		}
		o, err := a.e.store.Outcome(a.ctx, a.load.ID, spans[i].Seq)
		if err != nil {
			return nil, err
		}
		spans[i].Changes = o.Changes
	}
	return spans, nil
}

func (a *answers) FirstRow(sheet string) (int, error) {
	return a.e.store.FirstRow(a.ctx, a.load.ID, sheet)
}

func (a *answers) Findings(sheet string, first, last int) ([]finding.Finding, error) {
	found, err := a.e.store.Findings(a.ctx, a.load.ID, store.FindingFilter{Sheet: &sheet, FromRow: first, ToRow: last})
	out := make([]finding.Finding, len(found))
	for i := range found {
		out[i] = found[i].Finding
	}
	return out, err
}

func (a *answers) Stored(o *outcome.OrderOutcome) (*order.Order, func(string, int) int, error) {
	none := func(string, int) int { return 0 }
	if o.OrderID == 0 {
		return nil, none, nil
	}
	if o.Seq == a.last {
		return a.stored, a.line, nil
	}
	s, err := a.e.store.Order(a.ctx, o.OrderID)
	if errors.Is(err, store.ErrNotFound) {
		return nil, none, nil // taken back
	}
	if err != nil {
		return nil, nil, err
	}
	a.last, a.stored = o.Seq, &s.Order
	trace, ours, err := a.e.store.TraceOf(a.ctx, o.OrderID, a.load.ID)
	if err != nil {
		return nil, nil, err
	}
	if ours {
		a.line = lineAt(&trace, func(id int) int { return s.Order.Position(id) })
		return a.stored, a.line, nil
	}
	if a.traces == nil {
		if err := a.draftAll(); err != nil {
			return nil, nil, err
		}
	}
	a.line = none
	if d := a.traces[o.Seq]; d != nil {
		match := a.m.Again.Arrival.Match
		a.line = lineAt(&d.trace, func(n int) int { return s.Order.LineLike(&d.order.Lines[n-1], n, match) })
	}
	return a.stored, a.line, nil
}

// lineAt finds the line that stands in a row; of says which stored line it is.
func lineAt(t *origin.Trace, of func(int) int) func(string, int) int {
	return func(sheet string, row int) int {
		for n := range t.Rows {
			if at := t.Line(n + 1); at.Row == row && at.Sheet == sheet {
				return of(n + 1)
			}
		}
		return 0
	}
}

// draftAll maps the document once more, for the lines of orders that were stored before this load.
func (a *answers) draftAll() error {
	a.traces = map[int]*drafted{}
	set, err := a.e.store.Set(a.ctx)
	if err != nil {
		return err
	}
	f, err := a.e.store.OpenFile(a.load.Document)
	if err != nil {
		return err
	}
	defer f.Close()
	in := input{document: a.load.Document, mapping: a.m, set: set}
	if err := in.open(f, a.e.limits); err != nil {
		return err
	}
	for g, err := range reading.NewTable(a.m, in.src, in.decided).Groups(a.ctx) {
		if len(finding.Of(err)) > 0 {
			return nil
		}
		if err != nil {
			return err
		}
		d := reading.Read(a.m, g, set)
		a.traces[g.Seq] = &drafted{d.Trace, d.Order}
	}
	return nil
}

// Succeeded returns which parts of a JSON document were loaded, so that the rest can be written again: the pointers of
// the orders, and for NDJSON their lines.
func (e *Engine) Succeeded(ctx context.Context, l outcome.Load) (pointers map[string]bool, lines map[int]bool,
	err error) {
	m, err := e.mappingOf(ctx, &l)
	if err != nil {
		return nil, nil, err
	}
	f, err := e.store.OpenFile(l.Document)
	if err != nil {
		return nil, nil, err
	}
	defer f.Close()
	in := input{document: l.Document, mapping: m}
	if err := in.open(f, e.limits); err != nil {
		return nil, nil, err
	}
	pointers, lines = map[string]bool{}, map[int]bool{}
	var page []outcome.OrderOutcome
	for g, err := range reading.NewTable(m, in.src, in.decided).Groups(ctx) {
		if len(finding.Of(err)) > 0 {
			return pointers, lines, nil
		}
		if err != nil {
			return nil, nil, err
		}
		for len(page) > 0 && page[0].Seq < g.Seq {
			page = page[1:]
		}
		if len(page) == 0 {
			if page, _, err = e.store.Outcomes(ctx, l.ID, store.OutcomeFilter{After: g.Seq - 1,
				Limit: 2_000}); err != nil {
				return nil, nil, err
			}
		}
		if len(page) == 0 || page[0].Seq != g.Seq || page[0].Outcome.Failed() {
			continue
		}
		for i := range g.Rows {
			r := &g.Rows[i]
			if r.Line > 0 {
				lines[r.Line] = true
			} else if r.Node != nil {
				pointers[r.Node.Pointer()] = true
			}
		}
	}
	return pointers, lines, nil
}
