package load

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"

	"koinos/core/finding"
	"koinos/core/mapping"
	"koinos/core/origin"
	"koinos/core/outcome"
	"koinos/core/reading"
	"koinos/jobs"
	"koinos/store"
)

// RunRequest says what to run through a sequence.
type RunRequest struct {
	Document string
	Sequence string
	Version  int   // 0 is the newest
	AgainOf  int64 // an earlier run whose orders are known: only what failed there is done
	outcome.Options
	By   string
	Name string // of the request
}

// StartRun begins a run of a document through a sequence and returns it. Like a load, it continues after a restart of
// the service.
func (e *Engine) StartRun(ctx context.Context, req RunRequest) (outcome.Run, error) {
	if req.AgainOf != 0 {
		was, err := e.store.Run(ctx, req.AgainOf)
		if err != nil {
			return was, err
		}
		if was.Status == outcome.Running {
			return was, ErrRunning
		}
		req.Document, req.Sequence = was.Document, was.Sequence
	}
	doc, err := e.store.Document(ctx, req.Document)
	if err != nil {
		return outcome.Run{}, err
	}
	kept, err := e.store.Sequence(ctx, req.Sequence, req.Version)
	if err != nil {
		return outcome.Run{}, err
	}
	if err := e.CheckSequence(ctx, []byte(kept.Text)); err != nil {
		return outcome.Run{}, err
	}
	r := outcome.Run{Sequence: kept.Name, Version: kept.Version, Document: doc.SHA, DocumentName: doc.Name,
		Options: req.Options,
		Status:  outcome.Running, AgainOf: req.AgainOf, StartedAt: e.now().UTC(), By: req.By}
	known := false
	if r.ID, known, err = e.store.StartRun(ctx, r, req.Name); err != nil {
		return r, err
	}
	if known {
		return e.store.Run(ctx, r.ID)
	}
	return r, nil
}

// CheckSequence reports what is wrong with a sequence: its mappings must exist, and may take results only from earlier
// steps.
func (e *Engine) CheckSequence(ctx context.Context, text []byte) error {
	s, err := mapping.ParseSequence(text)
	if err != nil {
		return err
	}
	var all finding.All
	var before []string
	for _, step := range s.Steps {
		kept, err := e.store.Mapping(ctx, step.Mapping, 0)
		if errors.Is(err, store.ErrNotFound) {
			all = append(all, finding.New(finding.MappingWrongValue, origin.Place{}, step.Mapping,
				"The step %s goes through the mapping %q, which is not here.", step.Name, step.Mapping))
			continue
		}
		if err != nil {
			return err
		}
		m, err := mapping.ParseKept(kept.Text)
		if err != nil {
			return err
		}
		for _, need := range m.Needs {
			if !slices.Contains(before, need) {
				all = append(all, finding.New(finding.MappingWrongValue, origin.Place{}, need,
					"The mapping %s of the step %s takes results of %q, which is not a step before it.", m.Name,
					step.Name, need))
			}
		}
		before = append(before, step.Name)
	}
	if len(all) > 0 {
		return all
	}
	return nil
}

// performRun runs the steps of a run one after another: it is the work of a job.
func (e *Engine) performRun(ctx context.Context, id int64) error {
	r, err := e.store.Run(ctx, id)
	if err != nil || r.Status.Ended() {
		return err
	}
	status, err := e.steps(ctx, &r)
	switch {
	case errors.Is(context.Cause(ctx), jobs.ErrStopping):
		return jobs.ErrStopping // the next service goes on with it
	case store.Blocked(err) != "":
		return &jobs.Later{Err: err}
	case err != nil:
		e.log.Error("run failed", "run", r.ID, "error", err)
	}
	return e.store.Write(context.WithoutCancel(ctx), func(tx *store.Tx) error {
		return tx.EndRun(r.ID, status, e.now())
	})
}

func (e *Engine) steps(ctx context.Context, r *outcome.Run) (outcome.Status, error) {
	kept, err := e.store.Sequence(ctx, r.Sequence, r.Version)
	if err != nil {
		return outcome.Failed, err
	}
	s, err := mapping.ParseSequence([]byte(kept.Text))
	if err != nil {
		return outcome.Failed, err
	}
	for _, step := range s.Steps {
		l, err := e.store.StepLoad(ctx, r.ID, step.Name)
		if errors.Is(err, store.ErrNotFound) {
			l, err = e.Start(ctx, Request{Document: r.Document, Mapping: step.Mapping, Options: r.Options, By: r.By,
				Name: fmt.Sprintf("run %d %s", r.ID, step.Name), Run: r.ID, Step: step.Name})
		}
		if err != nil {
			return outcome.Failed, err
		}
		if l, err = e.UntilDone(ctx, l.ID); err != nil {
			return outcome.Failed, err
		}
		if l.Status == outcome.Cancelled || l.Status == outcome.Failed || l.Status == outcome.Stopped {
			return map[bool]outcome.Status{true: outcome.Cancelled,
					false: outcome.Failed}[l.Status == outcome.Cancelled],
				nil
		}
	}
	return outcome.Done, nil
}

// UntilDone waits until a load has ended. A paused load has not ended: whoever resumes it also resumes the run.
func (e *Engine) UntilDone(ctx context.Context, id int64) (outcome.Load, error) {
	for {
		woken := e.store.Woken()
		l, err := e.Wait(ctx, id)
		if err != nil || l.Status != outcome.Paused {
			return l, err
		}
		select {
		case <-woken:
		case <-ctx.Done():
			return l, ctx.Err()
		}
	}
}

// WaitRun returns a run when it has ended, or when ctx has.
func (e *Engine) WaitRun(ctx context.Context, id int64) (outcome.Run, error) {
	for {
		woken := e.store.Woken()
		r, err := e.Run(ctx, id)
		if err != nil || r.Status.Ended() {
			return r, err
		}
		select {
		case <-woken:
		case <-ctx.Done():
			return r, ctx.Err()
		}
	}
}

// Run returns a run with the loads of its steps.
func (e *Engine) Run(ctx context.Context, id int64) (outcome.Run, error) {
	r, err := e.store.Run(ctx, id)
	if err != nil {
		return r, err
	}
	loads, err := e.store.Loads(ctx, store.LoadFilter{Run: id, Limit: 1000})
	if err != nil {
		return r, err
	}
	slices.Reverse(loads)
	for _, l := range loads {
		if live, err := e.Get(ctx, l.ID); err == nil {
			l = live
		}
		r.Loads = append(r.Loads, l)
	}
	return r, nil
}

// outcomesFor returns what earlier steps made of the document, for a load that is a step of a run; nil if the load
// takes no results.
func (e *Engine) outcomesFor(ctx context.Context, l *outcome.Load, m *mapping.Mapping) (reading.Outcomes, error) {
	if l.Run == 0 || len(m.Needs) == 0 {
		return nil, nil
	}
	s := &stepOutcomes{ctx: ctx, e: e, loads: map[string]outcome.Load{}, spans: map[spanKey]*stepSpan{}}
	for _, step := range m.Needs {
		load, err := e.store.StepLoad(ctx, l.Run, step)
		if err != nil {
			return nil, err
		}
		s.loads[step] = load
	}
	return s, nil
}

// stepOutcomes asks the loads of earlier steps.
type stepOutcomes struct {
	ctx   context.Context
	e     *Engine
	loads map[string]outcome.Load
	mu    sync.Mutex // rows are mapped on all cores
	spans map[spanKey]*stepSpan
}

type spanKey struct {
	step, sheet string
	row         int
}

type stepSpan struct {
	outcome.SpanOutcome
	stored *store.StoredOrder
	trace  origin.Trace // where the lines stand in the document
}

// mostHeld is how many orders of earlier steps are in memory at a time.
const mostHeld = 2_000

func (s *stepOutcomes) Result(r mapping.Result, sheet string, row int) (value, why string, wait bool) {
	load := s.loads[r.Step]
	span, err := s.span(r.Step, load.ID, sheet, row)
	switch {
	case err != nil:
		return "", fmt.Sprintf("The step %s could not be asked: %v.", r.Step, err), true
	case span == nil:
		return "", fmt.Sprintf("The step %s made no order of row %d.", r.Step, row), false
	case span.Outcome.Failed():
		return "", fmt.Sprintf("The order of row %d was %s in the step %s (load %d); this order waits for it.", row,
			span.Outcome, r.Step, load.ID), true
	case span.stored == nil && load.DryRun:
		return "(" + r.Field + " of " + r.Step + ")", "", false // a dry run gives no numbers
	case span.stored == nil:
		return "", fmt.Sprintf("The order of row %d of the step %s is not stored any more.", row, r.Step), true
	}
	line := 0
	for n := range span.stored.Order.Lines {
		at := span.trace.Line(n + 1)
		if at.Row == row && at.Sheet == sheet {
			line = n + 1
		}
	}
	value = span.stored.ResultValue(r.Field, line)
	return value, fmt.Sprintf("The order %s of the step %s has no %s.", span.stored.Number, r.Step, r.Field), false
}

// span finds the order that a step made of a row. A nil span means that there is none.
func (s *stepOutcomes) span(step string, load int64, sheet string, row int) (*stepSpan, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	key := spanKey{step, sheet, row}
	if known, ok := s.spans[key]; ok {
		return known, nil
	}
	if len(s.spans) > mostHeld {
		s.spans = map[spanKey]*stepSpan{}
	}
	list, err := s.e.store.Spans(s.ctx, load, sheet, row, row, 1)
	if err != nil {
		return nil, err
	}
	if len(list) == 0 {
		s.spans[key] = nil
		return nil, nil
	}
	found := &stepSpan{SpanOutcome: list[0]}
	if found.OrderID != 0 {
		if found.stored, err = s.e.store.Order(s.ctx, found.OrderID); errors.Is(err, store.ErrNotFound) {
			found.stored, err = nil, nil
		}
		if err != nil {
			return nil, err
		}
		if found.stored != nil {
			_, found.trace = found.stored.Base()
		}
	}
	for r := found.First; r <= min(found.Last, found.First+mostHeld); r++ {
		s.spans[spanKey{step, sheet, r}] = found
	}
	return found, nil
}
