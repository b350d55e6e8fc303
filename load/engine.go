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
	began  time.Time // of reading, with what was read then
	rows   int
	share  float64
	cancel context.CancelCauseFunc
	done   chan struct{}
}

// snapshot is the load as it stands, with how fast it is.
func (r *run) snapshot(now time.Time) report.Load {
	r.mu.Lock()
	defer r.mu.Unlock()
	l := r.load
	if took := now.Sub(r.began).Seconds(); l.Status == report.Running && !r.began.IsZero() && took > 0.2 && l.Share > r.share {
		l.RowsASecond = int(float64(l.Rows-r.rows) / took)
		l.SecondsLeft = int(took/(l.Share-r.share)*(1-l.Share) + 0.999)
	}
	return l
}

func (r *run) update(f func(*report.Load)) {
	r.mu.Lock()
	defer r.mu.Unlock()
	f(&r.load)
}

func (r *run) counts() report.Counts {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.load.Counts
}

var (
	errCancelled = errors.New("cancelled")
	errStopping  = errors.New("the service is stopping")
	errPaused    = errors.New("paused")
	errEnough    = errors.New("as many orders were refused as the load was allowed")
	// ErrNotRunning says that a load is not running any more.
	ErrNotRunning = errors.New("the load is not running")
	// ErrNotPaused says that a load cannot be resumed.
	ErrNotPaused = errors.New("the load is not paused")
	// ErrRunning says that a load has not ended yet.
	ErrRunning = errors.New("the load has not ended yet")
	// ErrStopping says that no load can be started because the service is stopping.
	ErrStopping = errStopping
)

// atOnce is how many loads run side by side: there is one writer, and a
// second load hardly waits for the first one's reading.
const atOnce = 2

// New makes an engine. Loads that an earlier service did not bring to an end,
// whatever ended it, go on from where they were when Resume is called.
func New(s *store.Store, limits source.Limits, now func() time.Time, log *slog.Logger) *Engine {
	return &Engine{store: s, limits: limits, now: now, log: log, runs: map[int64]*run{}, slots: make(chan struct{}, atOnce)}
}

// Resume takes up the loads that an earlier service left unfinished.
func (e *Engine) Resume(ctx context.Context) error {
	left, err := e.store.Unfinished(ctx)
	if err != nil {
		return err
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	for _, l := range left {
		e.log.Warn("a load is taken up again", "load", l.ID, "orders", l.Orders)
		e.launch(ctx, l)
	}
	runs, err := e.store.UnfinishedRuns(ctx)
	for _, r := range runs {
		e.launchRun(ctx, r)
	}
	return err
}

// Request says what to load.
type Request struct {
	Document string // SHA-256 or the beginning of it
	Mapping  string
	Version  int // 0 is the newest
	report.Options
	By   string
	Name string // of the request: the same name starts one load only; blank is none
	Run  int64  // of a sequence, with the step's name
	Step string
}

// Start begins a load and gives it as it stands. It is in the store when Start
// returns, and goes on when ctx ends, or the service does and starts again;
// Cancel and Pause stop it.
func (e *Engine) Start(ctx context.Context, req Request) (report.Load, error) {
	doc, err := e.store.Document(ctx, req.Document)
	if err != nil {
		return report.Load{}, err
	}
	kept, err := e.store.Mapping(ctx, req.Mapping, req.Version)
	if err != nil {
		return report.Load{}, err
	}
	l := report.Load{
		Document: doc.SHA, DocumentName: doc.Name, Mapping: kept.Name, Version: kept.Version, Options: req.Options,
		Status: report.Waiting, StartedAt: e.now().UTC(), By: req.By, Run: req.Run, Step: req.Step,
	}
	if _, err := e.mappingOf(ctx, &l); err != nil {
		return report.Load{}, err
	}
	if l.Retry != 0 {
		if _, err := e.ended(ctx, l.Retry); err != nil {
			return report.Load{}, err
		}
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.stopped {
		return report.Load{}, errStopping
	}
	known := false
	if l.ID, known, err = e.store.StartLoad(ctx, l, req.Name); err != nil {
		return report.Load{}, err
	}
	if known {
		if r := e.runs[l.ID]; r != nil {
			return r.snapshot(e.now()), nil
		}
		return e.store.Load(ctx, l.ID)
	}
	e.launch(ctx, l)
	return l, nil
}

// mappingOf gives the mapping of a load, with what was asked of it.
func (e *Engine) mappingOf(ctx context.Context, l *report.Load) (*mapping.Mapping, error) {
	kept, err := e.store.Mapping(ctx, l.Mapping, l.Version)
	if err != nil {
		return nil, err
	}
	m, err := mapping.Parse([]byte(kept.Text))
	if err != nil {
		return nil, err
	}
	return m.With(mapping.Asked{Rows: l.OnlyRows, Sheets: l.OnlySheets, Defaults: l.Defaults})
}

// Mapping is the mapping that a load goes through, with what was asked of it.
func (e *Engine) Mapping(ctx context.Context, l report.Load) (*mapping.Mapping, error) {
	return e.mappingOf(ctx, &l)
}

// launch runs a load that the store has; e.mu is held.
func (e *Engine) launch(ctx context.Context, l report.Load) {
	runCtx, cancel := context.WithCancelCause(context.WithoutCancel(ctx))
	l.Reason, l.EndedAt = "", nil
	r := &run{load: l, cancel: cancel, done: make(chan struct{})}
	e.runs[l.ID] = r
	e.wait.Add(1)
	go func() {
		defer e.wait.Done()
		defer close(r.done)
		defer cancel(nil)
		e.perform(runCtx, r, e.mappingOf)
	}()
}

// ended gives a load that nothing more comes of by itself.
func (e *Engine) ended(ctx context.Context, id int64) (report.Load, error) {
	l, err := e.Get(ctx, id)
	if err == nil && (!l.Status.Ended() || l.Status == report.Paused) {
		err = ErrRunning
	}
	return l, err
}

// Get gives a load as it stands at this moment.
func (e *Engine) Get(ctx context.Context, id int64) (report.Load, error) {
	e.mu.Lock()
	r := e.runs[id]
	e.mu.Unlock()
	if r != nil {
		return r.snapshot(e.now()), nil
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

// Cancel stops a load for good. Orders that are stored stay; loading the
// document again recognises them.
func (e *Engine) Cancel(ctx context.Context, id int64) error {
	if e.signal(id, errCancelled) {
		return nil
	}
	l, err := e.store.Load(ctx, id)
	if err != nil {
		return err
	}
	if l.Status != report.Paused {
		return ErrNotRunning
	}
	end := e.now().UTC()
	l.Status, l.Reason, l.EndedAt = report.Cancelled, "", &end
	return e.store.Write(ctx, func(tx *store.Tx) error { return tx.SaveLoad(&l) })
}

// Pause stops a load so that it can go on from there.
func (e *Engine) Pause(id int64) error {
	if !e.signal(id, errPaused) {
		return ErrNotRunning
	}
	return nil
}

func (e *Engine) signal(id int64, cause error) bool {
	e.mu.Lock()
	defer e.mu.Unlock()
	r := e.runs[id]
	if r == nil {
		return false
	}
	r.cancel(cause)
	return true
}

// Continue goes on with a load that is paused.
func (e *Engine) Continue(ctx context.Context, id int64) (report.Load, error) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.stopped {
		return report.Load{}, errStopping
	}
	l, err := e.store.Load(ctx, id)
	if err != nil {
		return l, err
	}
	if e.runs[id] != nil || l.Status != report.Paused {
		return l, ErrNotPaused
	}
	l.Status, l.Reason, l.EndedAt = report.Waiting, "", nil
	if err := e.store.Write(ctx, func(tx *store.Tx) error { return tx.SaveLoad(&l) }); err != nil {
		return l, err
	}
	e.launch(ctx, l)
	return l, nil
}

// Close stops every load where it is; the next service goes on with them.
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
func (e *Engine) perform(ctx context.Context, r *run, mappingOf func(context.Context, *report.Load) (*mapping.Mapping, error)) {
	id := r.load.ID
	log := e.log.With("load", id, "document", short(r.load.Document), "mapping", r.load.Mapping)
	log.Info("load started", "dry_run", r.load.DryRun)
	t := &target{e: e, run: r, ctx: ctx}
	err := e.runWith(ctx, t, mappingOf)
	status, reason, notes := report.Done, "", t.notes
	switch cause := context.Cause(ctx); {
	case err == nil:
	case errors.Is(err, errEnough):
		status, reason = report.Stopped, failingText(r.counts())
		notes = nil
	case errors.Is(cause, errCancelled):
		status, notes = report.Cancelled, nil
	case errors.Is(cause, errPaused):
		status, reason, notes = report.Paused, "somebody paused it", nil
	case errors.Is(cause, errStopping):
		log.Info("load left for the next service", "orders", r.counts().Orders)
		return // the store has it as running
	case store.IsFull(err):
		log.Error("load paused", "error", err)
		status, reason, notes = report.Paused, "the disk is full or cannot be written", nil
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
	final := t.finished
	if final == nil {
		final = t.end(status, reason, notes)
		err = e.store.Write(context.WithoutCancel(ctx), func(tx *store.Tx) error { return t.keepEnd(tx, final, notes) })
	}
	// Whoever watches sees the end when its findings can be asked for, not before.
	r.update(func(l *report.Load) { *l = *final })
	if err != nil {
		// The load stays in memory with its end; the next service takes it up again.
		log.Error("the load's end could not be kept", "error", err)
		if status != report.Paused {
			return
		}
	}
	e.mu.Lock()
	delete(e.runs, final.ID)
	e.total.Loaded += final.Loaded
	e.total.Refused += final.Refused
	e.mu.Unlock()
	log.Info("load ended", "status", status, "orders", final.Orders, "loaded", final.Loaded, "refused", final.Refused,
		"seconds", e.now().Sub(final.StartedAt).Seconds())
}

// end is the load as it ends, with what was found about the document as a whole.
func (t *target) end(status report.Status, reason string, notes []finding.Finding) *report.Load {
	final := t.run.snapshot(t.e.now())
	final.Status, final.Reason, final.RowsASecond, final.SecondsLeft = status, reason, 0, 0
	if status != report.Paused {
		end := t.e.now().UTC()
		final.EndedAt, final.Share = &end, 1
	}
	for _, f := range notes {
		final.Errors += btoi(f.Severity == finding.Error)
		final.Warnings += btoi(f.Severity == finding.Warning)
	}
	return &final
}

func (t *target) keepEnd(tx *store.Tx, final *report.Load, notes []finding.Finding) error {
	if err := tx.AddFindings(final.ID, notes, &t.next); err != nil {
		return err
	}
	return tx.SaveLoad(final)
}

func failingText(c report.Counts) string {
	return report.Plural(c.Failing(), "order") + " failed, as many as were allowed"
}

func btoi(b bool) int {
	if b {
		return 1
	}
	return 0
}

// runWith reads, maps, checks and writes; its error is what stopped it.
func (e *Engine) runWith(ctx context.Context, t *target, mappingOf func(context.Context, *report.Load) (*mapping.Mapping, error)) error {
	select {
	case e.slots <- struct{}{}:
		defer func() { <-e.slots }()
	case <-ctx.Done():
		return ctx.Err()
	}
	l := &t.run.load // document and options do not change
	m, err := mappingOf(ctx, l)
	if err != nil {
		return err
	}
	set, err := e.store.Set(ctx)
	if err != nil {
		return err
	}
	if missing := m.Missing(set); len(missing) > 0 {
		return missing
	}
	in := &input{document: l.Document, mapping: m, set: set, keeps: true}
	if in.only, err = e.only(ctx, l, m); err != nil {
		return err
	}
	if in.outcomes, err = e.outcomesFor(ctx, l, m); err != nil {
		return err
	}
	t.rules = rulesOf(m, l)
	t.run.update(func(l *report.Load) { l.Status = report.Running })
	pass := func(real bool) error {
		f, err := e.store.OpenFile(in.document)
		if err != nil {
			return err
		}
		defer f.Close()
		if err = in.open(f, e.limits); err != nil {
			return err
		}
		if err := t.begin(real); err != nil {
			return err
		}
		table, err := in.run(ctx, t.put)
		t.notes = table.Notes
		t.run.update(func(l *report.Load) { l.Rows = table.Read })
		if err != nil && len(finding.Of(err)) == 0 {
			return err // not the document's fault: writing on would fail again
		}
		return errors.Join(err, t.flush())
	}
	if !l.AllOrNone || l.DryRun {
		return pass(!l.DryRun)
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
