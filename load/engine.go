package load

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"strings"
	"sync"
	"time"

	"koinos/api"
	"koinos/book"
	"koinos/core/finding"
	"koinos/core/mapping"
	"koinos/core/origin"
	"koinos/core/outcome"
	"koinos/core/reading"
	"koinos/core/report"
	"koinos/core/source"
	"koinos/jobs"
	"koinos/store"
)

// Engine runs loads against a store. They are jobs of a queue, which does them; its methods may be called by several
// goroutines.
type Engine struct {
	counter *book.Counter
	store   *store.Store
	limits  source.Limits
	now     func() time.Time
	log     *slog.Logger
	queue   *jobs.Queue
	read    func(context.Context, *outcome.Load) (*mapping.Mapping, error) // the mapping of a load

	mu    sync.Mutex // never held while the store is asked
	runs  map[int64]*run
	total outcome.Counts
}

// run is a load in progress, or one whose end the store could not keep.
type run struct {
	mu    sync.Mutex
	load  outcome.Load
	began time.Time // of reading, with what was read then
	rows  int
	share float64
	done  chan struct{} // closed when it stops
}

// snapshot is the load as it is now, with its speed.
func (r *run) snapshot(now time.Time) outcome.Load {
	r.mu.Lock()
	defer r.mu.Unlock()
	l := r.load
	if took := now.Sub(r.began).Seconds(); l.Status == outcome.Running && !r.began.IsZero() && took > 0.2 &&
		l.Share > r.share {
		l.RowsASecond = int(float64(l.Rows-r.rows) / took)
		l.SecondsLeft = int(took/(l.Share-r.share)*(1-l.Share) + 0.999)
	}
	return l
}

func (r *run) update(f func(*outcome.Load)) {
	r.mu.Lock()
	defer r.mu.Unlock()
	f(&r.load)
}

func (r *run) counts() outcome.Counts {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.load.Counts
}

var (
	errCancelled = errors.New("cancelled")
	errPaused    = errors.New("paused")
	errEnough    = errors.New("as many orders were refused as the load was allowed")
	// ErrNotRunning says that a load is not running any more.
	ErrNotRunning = errors.New("the load is not running")
	// ErrNotPaused says that a load cannot be resumed.
	ErrNotPaused = errors.New("the load is not paused")
	// ErrRunning says that a load has not ended yet.
	ErrRunning = errors.New("the load has not ended yet")
)

// atOnce is how many loads run at the same time. There is one writer, but a second load need not wait while the first
// one is reading.
const atOnce = 2

// runsAtOnce is how many runs of sequences wait for their loads at the same time.
const runsAtOnce = 64

// New makes an engine. Its loads are done by a queue with the kinds of jobs that Kinds returns; Use says which queue
// that is.
func New(s *store.Store, limits source.Limits, now func() time.Time, log *slog.Logger) *Engine {
	e := &Engine{store: s, counter: book.NewCounter(s), limits: limits, now: now, log: log, runs: map[int64]*run{}}
	e.read = e.mappingOf
	return e
}

// Kinds are the jobs that the engine does.
func (e *Engine) Kinds() map[string]jobs.Kind {
	return map[string]jobs.Kind{
		api.LoadJob: {Work: e.perform, AtOnce: atOnce},
		api.RunJob:  {Work: e.performRun, AtOnce: runsAtOnce},
	}
}

// Use sets the queue that does the engine's jobs.
func (e *Engine) Use(q *jobs.Queue) { e.queue = q }

// Request says what to load.
type Request struct {
	Document string // SHA-256 or the beginning of it
	Mapping  string
	Version  int // 0 is the newest
	outcome.Options
	By   string
	Name string // of the request: the same name starts one load only; blank is none
	Run  int64  // of a sequence, with the step's name
	Step string
}

// Start begins a load and returns it. The load is in the store when Start returns. It continues when ctx ends, and
// after a restart of the service; Cancel and Pause stop it.
func (e *Engine) Start(ctx context.Context, req Request) (outcome.Load, error) {
	doc, err := e.store.Document(ctx, req.Document)
	if err != nil {
		return outcome.Load{}, err
	}
	if f := doc.Shape.Format; len(req.OnlySheets) > 0 && f != source.XLSX && f != source.ODS {
		return outcome.Load{}, finding.Fatal(finding.SheetMissing, origin.Place{},
			"The document is a %s, which has no sheets to choose from.", strings.ToUpper(string(f)))
	}
	kept, err := e.store.Mapping(ctx, req.Mapping, req.Version)
	if err != nil {
		return outcome.Load{}, err
	}
	l := outcome.Load{
		Document: doc.SHA, DocumentName: doc.Name, Mapping: kept.Name, Version: kept.Version, Options: req.Options,
		Status: outcome.Waiting, StartedAt: e.now().UTC(), By: req.By, Run: req.Run, Step: req.Step,
	}
	if _, err := e.mappingOf(ctx, &l); err != nil {
		return outcome.Load{}, err
	}
	if l.Retry != 0 {
		if _, err := e.ended(ctx, l.Retry); err != nil {
			return outcome.Load{}, err
		}
	}
	known := false
	if l.ID, known, err = e.store.StartLoad(ctx, l, req.Name); err != nil {
		return outcome.Load{}, err
	}
	if known {
		return e.Get(ctx, l.ID)
	}
	return l, nil
}

// mappingOf returns the mapping of a load, adjusted by the load's options.
func (e *Engine) mappingOf(ctx context.Context, l *outcome.Load) (*mapping.Mapping, error) {
	kept, err := e.store.Mapping(ctx, l.Mapping, l.Version)
	if err != nil {
		return nil, err
	}
	m, err := mapping.ParseKept(kept.Text)
	if err != nil {
		return nil, err
	}
	m, err = m.With(mapping.Asked{Rows: l.OnlyRows, Sheets: l.OnlySheets, Defaults: l.Defaults, Of: l.Of,
		Withdraw: l.Withdraw, Encoding: source.Encoding(l.Encoding)})
	if err == nil && m.Of == "" {
		f := finding.New(finding.MappingMissingKey, origin.Place{}, "of",
			"The mapping %s does not say which orders its records are about.", l.Mapping)
		f.Hint = "Say of: sales or of: purchase under orders in the mapping."
		return nil, &f
	}
	return m, err
}

// Mapping is the mapping that a load uses, adjusted by the load's options.
func (e *Engine) Mapping(ctx context.Context, l outcome.Load) (*mapping.Mapping, error) {
	return e.mappingOf(ctx, &l)
}

// ended returns a load that will not continue by itself.
func (e *Engine) ended(ctx context.Context, id int64) (outcome.Load, error) {
	l, err := e.Kept(ctx, id)
	if err == nil && (!l.Status.Ended() || l.Status == outcome.Paused) {
		err = ErrRunning
	}
	return l, err
}

// Kept is Get for a load whose findings and rows are still stored. If they are not, the error is a store.TakenAway.
func (e *Engine) Kept(ctx context.Context, id int64) (outcome.Load, error) {
	l, err := e.Get(ctx, id)
	if err == nil && l.TakenAwayAt != nil {
		err = &store.TakenAway{What: fmt.Sprintf("findings and rows of load %d were", l.ID), At: *l.TakenAwayAt}
	}
	return l, err
}

// Get returns a load as it is now.
func (e *Engine) Get(ctx context.Context, id int64) (outcome.Load, error) {
	e.mu.Lock()
	r := e.runs[id]
	e.mu.Unlock()
	if r != nil {
		return r.snapshot(e.now()), nil
	}
	return e.store.Load(ctx, id)
}

// Wait returns a load when it has ended or is paused, or when ctx has ended.
func (e *Engine) Wait(ctx context.Context, id int64) (outcome.Load, error) {
	for {
		woken := e.store.Woken()
		l, err := e.Get(ctx, id)
		if err != nil || l.Status.Ended() {
			return l, err
		}
		e.mu.Lock()
		r := e.runs[id]
		e.mu.Unlock()
		var done chan struct{}
		if r != nil {
			done, woken = r.done, nil
		}
		select {
		case <-done:
		case <-woken:
		case <-ctx.Done():
			return outcome.Load{}, ctx.Err()
		}
	}
}

// Cancel stops a load for good. Orders that are stored stay; loading the document again recognises them.
func (e *Engine) Cancel(ctx context.Context, id int64) error {
	return e.halt(ctx, id, errCancelled, outcome.Cancelled,
		func(l *outcome.Load) bool { return l.Status == outcome.Paused || l.Status == outcome.Waiting })
}

// Pause stops a load so that it can be continued.
func (e *Engine) Pause(ctx context.Context, id int64) error {
	return e.halt(ctx, id, errPaused, outcome.Paused, func(l *outcome.Load) bool { return l.Status == outcome.Waiting })
}

// halt stops a running load with a cause, or sets the status of one that waits.
func (e *Engine) halt(ctx context.Context, id int64, cause error, status outcome.Status,
	may func(*outcome.Load) bool) error {
	if e.queue.Stop(api.LoadJob, id, cause) {
		return nil
	}
	l, err := e.store.Load(ctx, id)
	if err != nil {
		return err
	}
	if !may(&l) {
		return ErrNotRunning
	}
	l.Status, l.Reason = status, ""
	if status == outcome.Cancelled {
		end := e.now().UTC()
		l.EndedAt = &end
	}
	e.queue.Forget(api.LoadJob, id)
	return e.store.Write(ctx, func(tx *store.Tx) error {
		if err := tx.SaveLoad(&l); err != nil || status == outcome.Paused {
			return errors.Join(err, tx.SaveJob(api.Job{Kind: api.LoadJob, Subject: id, State: api.JobPaused,
				DueAt: e.now(), Reason: "somebody paused it"}))
		}
		return tx.EndJob(api.LoadJob, id)
	})
}

// Continue continues a paused load.
func (e *Engine) Continue(ctx context.Context, id int64) (outcome.Load, error) {
	l, err := e.Get(ctx, id)
	if err != nil {
		return l, err
	}
	if l.Status != outcome.Paused {
		return l, ErrNotPaused
	}
	l.Status, l.Reason, l.EndedAt = outcome.Waiting, "", nil
	return l, e.store.Write(ctx, func(tx *store.Tx) error {
		return errors.Join(tx.SaveLoad(&l), tx.AddJob(api.Job{Kind: api.LoadJob, Subject: id, DueAt: e.now()}))
	})
}

// Total is what the engine's ended loads add up to.
func (e *Engine) Total() outcome.Counts {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.total
}

// perform runs a load to its end, whatever that is, and records it: it is the work of a job.
func (e *Engine) perform(ctx context.Context, id int64) error {
	l, err := e.store.Load(ctx, id)
	if err != nil {
		return err
	}
	if l.Status.Ended() && l.Status != outcome.Paused {
		return nil
	}
	l.Reason, l.EndedAt = "", nil
	r := &run{load: l, done: make(chan struct{})}
	e.mu.Lock()
	e.runs[id] = r
	e.mu.Unlock()
	gone := true
	defer func() {
		if gone {
			e.mu.Lock()
			delete(e.runs, id)
			e.mu.Unlock()
		}
		close(r.done)
	}()
	log := e.log.With("load", id, "document", short(l.Document), "mapping", l.Mapping)
	log.Info("load started", "dry_run", l.DryRun)
	t := &target{e: e, run: r, ctx: ctx}
	err = safely(func() error { return e.runWith(ctx, t) })()
	end := t.verdict(ctx, err, log)
	if end == nil {
		log.Info("load left for the next service", "orders", r.counts().Orders)
		return jobs.ErrStopping // the store has it as running
	}
	final := t.finished
	if final == nil {
		final = t.end(end.status, end.reason, end.notes)
		err = e.store.Write(context.WithoutCancel(ctx), func(tx *store.Tx) error {
			return t.keepEnd(tx, final, end.notes)
		})
	} else {
		err = nil
	}
	// Whoever watches sees the end when its findings can be asked for, not before.
	r.update(func(l *outcome.Load) { *l = *final })
	if err != nil {
		// It stays in memory with its end, and continues by itself when there is room.
		gone = false
		return &jobs.Later{Err: fmt.Errorf("the load's end could not be kept: %w", err)}
	}
	e.mu.Lock()
	e.total.Loaded += final.Loaded
	e.total.Refused += final.Refused
	e.mu.Unlock()
	log.Info("load ended", "status", final.Status, "orders", final.Orders, "loaded", final.Loaded, "refused",
		final.Refused,
		"seconds", e.now().Sub(final.StartedAt).Seconds())
	switch {
	case end.later != nil:
		return &jobs.Later{Err: end.later}
	case final.Status == outcome.Paused:
		return &jobs.Paused{Reason: final.Reason}
	}
	return nil
}

// verdict is how a load ends.
type verdict struct {
	status outcome.Status
	reason string
	notes  []finding.Finding
	later  error // it goes on by itself
}

// verdict says how the load ends because of the error that stopped it. It is nil if the service stops, because the next
// one continues the load.
func (t *target) verdict(ctx context.Context, err error, log *slog.Logger) *verdict {
	cause := context.Cause(ctx)
	switch {
	case err == nil:
		return &verdict{status: outcome.Done, notes: t.notes}
	case errors.Is(err, errEnough):
		return &verdict{status: outcome.Stopped, reason: failingText(t.run.counts())}
	case errors.Is(cause, errCancelled):
		return &verdict{status: outcome.Cancelled}
	case errors.Is(cause, errPaused):
		return &verdict{status: outcome.Paused, reason: "somebody paused it"}
	case errors.Is(cause, jobs.ErrStopping):
		return nil
	case store.Blocked(err) != "":
		log.Error("load paused", "error", err)
		return &verdict{status: outcome.Paused, reason: store.Blocked(err) + "; it goes on by itself when that has passed",
			later: err}
	}
	found := finding.Of(err)
	if len(found) == 1 && found[0].Code == finding.DocumentEmpty && t.run.load.MayBeEmpty {
		return &verdict{status: outcome.Done, notes: t.notes}
	}
	if found == nil {
		code := finding.StorageFailed
		if p := (*store.Panicked)(nil); errors.As(err, &p) {
			code = finding.KoinosFailed
			log.Error("load crashed", "panic", fmt.Sprint(p.Value), "stack", string(p.Stack))
		}
		log.Error("load failed", "error", err)
		found = []finding.Finding{finding.New(code, origin.Place{}, "", "The load stopped: %v.", err)}
	}
	return &verdict{status: outcome.Failed, notes: append(t.notes, found...)}
}

// end is the load as it ends, with what was found about the document as a whole.
func (t *target) end(status outcome.Status, reason string, notes []finding.Finding) *outcome.Load {
	final := t.run.snapshot(t.e.now())
	final.Status, final.Reason, final.RowsASecond, final.SecondsLeft = status, reason, 0, 0
	if status != outcome.Paused {
		end := t.e.now().UTC()
		final.EndedAt, final.Share = &end, 1
	}
	for _, f := range notes {
		final.Found(f.Severity)
	}
	return &final
}

func (t *target) keepEnd(tx *store.Tx, final *outcome.Load, notes []finding.Finding) error {
	if err := tx.AddFindings(final.ID, notes, &t.next); err != nil {
		return err
	}
	if final.Retry != 0 && !final.DryRun && final.Status.Ended() { // what it took up is its own now
		if err := tx.ReleaseLoad(final.Retry); err != nil {
			return err
		}
	}
	return tx.SaveLoad(final)
}

func failingText(c outcome.Counts) string {
	return report.Plural(c.Failing(), "order") + " failed, as many as were allowed"
}

// runWith reads, maps, checks and writes. Its error is what stopped it.
func (e *Engine) runWith(ctx context.Context, t *target) error {
	l := &t.run.load // document and options do not change
	m, err := e.read(ctx, l)
	if err != nil {
		return err
	}
	set, err := e.store.Set(ctx)
	if err != nil {
		return err
	}
	versions, err := e.store.LoadLists(ctx, l.ID, set.Versions)
	if err != nil {
		return err
	}
	if set, err = e.store.SetAt(ctx, versions); err != nil {
		return err
	}
	if missing := m.Missing(set); len(missing) > 0 {
		return missing
	}
	in := &input{document: l.Document, mapping: m, set: set, keeps: true, counts: !l.InSets, taken: l.Taken}
	if in.only, err = e.only(ctx, l); err != nil {
		return err
	}
	if in.outcomes, err = e.outcomesFor(ctx, l, m); err != nil {
		return err
	}
	if err := e.intact(in.document); err != nil {
		return err
	}
	t.rules, t.set = rulesOf(m, l), set
	t.run.update(func(l *outcome.Load) { l.Status = outcome.Running })
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
		in.ahead = t.ahead
		table, err := in.run(ctx, t.put)
		t.notes = table.Notes
		read := table.Counts
		t.run.update(func(l *outcome.Load) { l.Rows, l.LeftOut, l.RowsOut = read.Rows, read.LeftOut, read.RowsLeftOut })
		if err != nil && len(finding.Of(err)) == 0 {
			return err // not the document's fault: writing on would fail again
		}
		return errors.Join(err, t.flush())
	}
	if l.AllOrNone && !l.DryRun {
		return t.allOrNone(pass)
	}
	if m.Refuses() && !l.DryRun {
		if err := e.whole(ctx, *in, t); err != nil {
			return err
		}
	}
	return pass(!l.DryRun)
}

// intact checks whether a document is as it came. One that has changed on the disk is a finding.
func (e *Engine) intact(sha string) error {
	f, err := e.store.OpenWhole(sha)
	if err == nil {
		return f.Close()
	}
	var damaged *store.Damaged
	if errors.As(err, &damaged) {
		found := finding.Fatal(finding.DocumentBroken, origin.Place{}, "The document that was kept has changed on the disk, "+
			"where it has %d bytes now.", damaged.Size)
		found.Hint = "Send the same file once more: it takes the place of the damaged copy. Then load it again."
		return found
	}
	return err
}

// whole reads a document to its end before anything of it is stored, if its mapping refuses the whole document for
// faults of the document.
func (e *Engine) whole(ctx context.Context, in input, t *target) error {
	f, err := e.store.OpenFile(in.document)
	if err != nil {
		return err
	}
	defer f.Close()
	in.keeps = false
	if err = in.open(f, e.limits); err != nil {
		return err
	}
	table, err := in.run(ctx, func([]mapped) error { return nil })
	if err != nil {
		t.notes = table.Notes
	}
	return err
}

// open begins to read a document's file. It reads the file once before if only the whole document shows what its dates
// mean.
func (in *input) open(f store.File, limits source.Limits) error {
	return in.openAt(f, f.Size(), limits)
}

func (in *input) openAt(r io.ReaderAt, size int64, limits source.Limits) (err error) {
	opt := in.mapping.Options(limits)
	opt.Around = opt.Around || in.around
	if in.mapping.Undecided() && in.decided == nil {
		src, err := source.Open(r, size, opt)
		if err != nil {
			return err
		}
		if in.decided, err = reading.Weigh(in.mapping, src); err != nil {
			return err
		}
	}
	in.src, err = source.Open(r, size, opt)
	return err
}
