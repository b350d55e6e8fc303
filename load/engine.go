package load

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"sync"
	"time"

	"koinos/core/finding"
	"koinos/core/mapping"
	"koinos/core/report"
	"koinos/core/source"
	"koinos/store"
)

// Engine runs loads against a store.
type Engine struct {
	store  *store.Store
	limits source.Limits
	now    func() time.Time
	log    *slog.Logger

	mu      sync.Mutex
	runs    map[int64]*run
	total   report.Counts
	stopped bool
	wait    sync.WaitGroup
	slots   chan struct{} // how many loads run at once; others wait their turn
}

// run is a load in progress, or one that ended in a way the store could not keep.
type run struct {
	mu     sync.Mutex
	load   report.Load
	cancel context.CancelCauseFunc
	done   chan struct{}
}

func (r *run) snapshot() report.Load {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.load
}

func (r *run) update(f func(*report.Load)) {
	r.mu.Lock()
	defer r.mu.Unlock()
	f(&r.load)
}

var (
	errCancelled = errors.New("cancelled")
	errStopping  = errors.New("the service is stopping")
	// ErrNotRunning says that a load is not running any more.
	ErrNotRunning = errors.New("the load is not running")
	// ErrStopping says that no load can be started because the service is stopping.
	ErrStopping = errStopping
)

// atOnce is how many loads run side by side: there is one writer, and a
// second load hardly waits for the first one's reading.
const atOnce = 2

// New makes an engine. Loads that an earlier service left running are marked
// as interrupted: every order of theirs is either stored whole or not at all.
func New(ctx context.Context, s *store.Store, limits source.Limits, now func() time.Time, log *slog.Logger) (*Engine, error) {
	n, err := s.InterruptRunning(ctx, now())
	if err != nil {
		return nil, err
	}
	if n > 0 {
		log.Warn("loads were interrupted by the last end of the service", "loads", n)
	}
	return &Engine{store: s, limits: limits, now: now, log: log, runs: map[int64]*run{}, slots: make(chan struct{}, atOnce)}, nil
}

// Request says what to load.
type Request struct {
	Document  string // SHA-256 or the beginning of it
	Mapping   string
	Version   int // 0 is the newest
	DryRun    bool
	AllOrNone bool
	By        string
}

// Start begins a load and gives it as it stands. It goes on when ctx ends;
// Cancel and Close stop it.
func (e *Engine) Start(ctx context.Context, req Request) (report.Load, error) {
	doc, err := e.store.Document(ctx, req.Document)
	if err != nil {
		return report.Load{}, err
	}
	kept, err := e.store.Mapping(ctx, req.Mapping, req.Version)
	if err != nil {
		return report.Load{}, err
	}
	m, err := mapping.Parse([]byte(kept.Text))
	if err != nil {
		return report.Load{}, err
	}
	l := report.Load{
		Document: doc.SHA, DocumentName: doc.Name, Mapping: kept.Name, Version: kept.Version,
		DryRun: req.DryRun, AllOrNone: req.AllOrNone, Status: report.Running, StartedAt: e.now().UTC(), By: req.By,
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.stopped {
		return report.Load{}, errStopping
	}
	if l.ID, err = e.store.StartLoad(ctx, l); err != nil {
		return report.Load{}, err
	}
	runCtx, cancel := context.WithCancelCause(context.WithoutCancel(ctx))
	r := &run{load: l, cancel: cancel, done: make(chan struct{})}
	e.runs[l.ID] = r
	e.wait.Add(1)
	go func() {
		defer e.wait.Done()
		defer close(r.done)
		defer cancel(nil)
		e.perform(runCtx, r, m)
	}()
	return l, nil
}

// Get gives a load as it stands at this moment.
func (e *Engine) Get(ctx context.Context, id int64) (report.Load, error) {
	e.mu.Lock()
	r := e.runs[id]
	e.mu.Unlock()
	if r != nil {
		return r.snapshot(), nil
	}
	return e.store.Load(ctx, id)
}

// Wait gives a load when it has ended, or when ctx has.
func (e *Engine) Wait(ctx context.Context, id int64) (report.Load, error) {
	e.mu.Lock()
	r := e.runs[id]
	e.mu.Unlock()
	if r != nil {
		select {
		case <-r.done:
		case <-ctx.Done():
			return report.Load{}, ctx.Err()
		}
	}
	return e.Get(ctx, id)
}

// Cancel stops a running load. Orders that are stored stay; loading the
// document again recognises them.
func (e *Engine) Cancel(id int64) error {
	e.mu.Lock()
	defer e.mu.Unlock()
	r := e.runs[id]
	if r == nil {
		return ErrNotRunning
	}
	r.cancel(errCancelled)
	return nil
}

// Close stops every load and waits until what they wrote is kept.
func (e *Engine) Close() {
	e.mu.Lock()
	e.stopped = true
	for _, r := range e.runs {
		r.cancel(errStopping)
	}
	e.mu.Unlock()
	e.wait.Wait()
}

// Total is what the engine's ended loads add up to.
func (e *Engine) Total() report.Counts {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.total
}

// Running is how many loads run now.
func (e *Engine) Running() int {
	e.mu.Lock()
	defer e.mu.Unlock()
	return len(e.runs)
}

// perform runs a load to its end, whatever that is, and records it.
func (e *Engine) perform(ctx context.Context, r *run, m *mapping.Mapping) {
	log := e.log.With("load", r.load.ID, "document", short(r.load.Document), "mapping", r.load.Mapping)
	log.Info("load started", "dry_run", r.load.DryRun)
	t := &target{e: e, run: r, ctx: ctx}
	err := e.runWith(ctx, t, m)
	status, notes := report.Done, t.notes
	switch cause := context.Cause(ctx); {
	case err == nil:
	case errors.Is(cause, errCancelled):
		status = report.Cancelled
	case errors.Is(cause, errStopping):
		status = report.Interrupted
	default:
		status = report.Failed
		found := finding.Of(err)
		if found == nil {
			code := finding.StorageFailed
			if p := (*panicked)(nil); errors.As(err, &p) {
				code = finding.KoinosFailed
				log.Error("load crashed", "panic", fmt.Sprint(p.value), "stack", string(p.stack))
			}
			log.Error("load failed", "error", err)
			found = []finding.Finding{finding.New(code, finding.Place{}, "", "The load stopped: %v.", err)}
		}
		notes = append(notes, found...)
	}
	end := e.now().UTC()
	final := r.snapshot()
	final.Status, final.EndedAt, final.Share = status, &end, 1
	for _, f := range notes {
		final.Errors += btoi(f.Severity == finding.Error)
		final.Warnings += btoi(f.Severity == finding.Warning)
	}
	err = e.store.Write(context.WithoutCancel(ctx), func(tx *store.Tx) error {
		if err := tx.AddFindings(final.ID, notes, &t.next); err != nil {
			return err
		}
		return tx.SaveCounts(&final)
	})
	// Whoever watches sees the end when its findings can be asked for, not before.
	r.update(func(l *report.Load) { *l = final })
	if err != nil {
		// The load stays in memory with its end, and is "interrupted" after a restart.
		log.Error("the load's end could not be kept", "error", err)
		return
	}
	e.mu.Lock()
	delete(e.runs, final.ID)
	e.total.Loaded += final.Loaded
	e.total.Refused += final.Refused
	e.mu.Unlock()
	log.Info("load ended", "status", status, "orders", final.Orders, "loaded", final.Loaded, "refused", final.Refused,
		"seconds", end.Sub(final.StartedAt).Seconds())
}

func btoi(b bool) int {
	if b {
		return 1
	}
	return 0
}

// runWith reads, maps, checks and writes; its error is what stopped it.
func (e *Engine) runWith(ctx context.Context, t *target, m *mapping.Mapping) error {
	select {
	case e.slots <- struct{}{}:
		defer func() { <-e.slots }()
	case <-ctx.Done():
		return ctx.Err()
	}
	set, err := e.store.Set(ctx)
	if err != nil {
		return err
	}
	if missing := m.Missing(set); len(missing) > 0 {
		return missing
	}
	in := &input{document: t.run.load.Document, mapping: m, set: set, keeps: true}
	pass := func(real bool) error {
		f, err := e.store.OpenFile(in.document)
		if err != nil {
			return err
		}
		defer f.Close()
		if err = in.open(f, e.limits); err != nil {
			return err
		}
		t.begin(real)
		table, err := in.run(ctx, t.put)
		t.notes = table.Notes
		t.run.update(func(l *report.Load) { l.Rows = table.Read })
		if err != nil && len(finding.Of(err)) == 0 {
			return err // not the document's fault: writing on would fail again
		}
		return errors.Join(err, t.flush())
	}
	if !t.run.load.AllOrNone || t.run.load.DryRun {
		return pass(!t.run.load.DryRun)
	}
	return t.allOrNone(pass)
}

// open begins to read a document's file, after a first reading where only the
// whole document tells what its dates mean.
func (in *input) open(f *os.File, limits source.Limits) error {
	info, err := f.Stat()
	if err != nil {
		return err
	}
	return in.openAt(f, info.Size(), limits)
}

func (in *input) openAt(r io.ReaderAt, size int64, limits source.Limits) (err error) {
	opt := in.mapping.Options(limits)
	opt.Around = opt.Around || in.around
	if in.mapping.Undecided() && in.decided == nil {
		src, err := source.Open(r, size, opt)
		if err != nil {
			return err
		}
		if in.decided, err = in.mapping.Weigh(src); err != nil {
			return err
		}
	}
	in.src, err = source.Open(r, size, opt)
	return err
}
