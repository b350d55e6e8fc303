package load

import (
	"context"
	"errors"
	"io"
	"runtime"
	"runtime/debug"
	"slices"

	"golang.org/x/sync/errgroup"

	"koinos/book"
	"koinos/core/check"
	"koinos/core/finding"
	"koinos/core/intent"
	"koinos/core/list"
	"koinos/core/mapping"
	"koinos/core/reading"
	"koinos/core/source"
	"koinos/store"
)

const (
	batchOrders = 64
	batchRows   = 1_000
	batchesHeld = 16
)

// mapped is an intent as the middle stage hands it to the writer.
type mapped struct {
	book.Entry
	at    int // rows of the document read so far
	share float64
}

type batch struct {
	groups []reading.Group
	rows   int
	share  float64
	orders []mapped
	ready  chan struct{}
}

// input is a document with everything that is needed to understand it.
type input struct {
	document string // SHA-256
	mapping  *mapping.Mapping
	set      *list.Set
	src      source.Reader
	taken    []int                     // which lines of a change are taken; nil is all
	keeps    bool                      // orders are compared with stored ones, and stored
	around   bool                      // JSON: what stands around the records is looked at too
	wanted   func(*reading.Group) bool // which groups each maps; nil is all
	only     func(*reading.Group) bool // which groups belong to the load at all; nil is all
	outcomes reading.Outcomes          // what earlier steps of a sequence made; nil outside of one
	decided  *reading.Evidence         // what the whole document says of its dates; nil where nothing is in doubt
	// X12: what is marked as a test is refused; a preview, and the exchange, look at it all the same
	counts bool
	broken finding.All                           // what is wrong with the document itself, where that refuses it
	ahead  func(context.Context, []mapped) error // what can be worked out of intents beside the writer; nil is nothing
}

// safely turns a panic of f into an error that fails the load. A mistake of ours in reading one document must not end
// the service.
func safely(f func() error) func() error {
	return func() (err error) {
		defer func() {
			if r := recover(); r != nil {
				err = &store.Panicked{Value: r, Stack: debug.Stack()}
			}
		}()
		return f()
	}
}

// run reads the document to its end and passes its orders to put, in their order. The error for a document that cannot
// be read carries findings.
func (in *input) run(ctx context.Context, put func([]mapped) error) (table *reading.Table, err error) {
	in.broken = nil
	g, ctx := errgroup.WithContext(ctx)
	ahead := &readAhead{ctx: ctx, src: in.src, full: make(chan recordBatch, 4)}
	g.Go(safely(ahead.read))
	table = reading.NewTable(in.mapping, ahead, in.decided)
	ordered, work := make(chan *batch, batchesHeld), make(chan *batch, batchesHeld)
	var broken error // what stopped the reader; what it read before still counts
	g.Go(safely(func() error {
		defer close(ordered)
		defer close(work)
		for {
			b := &batch{ready: make(chan struct{})}
			rows := 0
			for len(b.groups) < batchOrders && rows < batchRows && broken == nil {
				var group reading.Group
				if group, broken = table.Next(); broken == nil {
					rows += group.Size()
					if in.only != nil && !in.only(&group) {
						continue
					}
					group.Outcomes = in.outcomes
					b.groups = append(b.groups, group)
				}
			}
			if errors.Is(broken, context.Canceled) {
				return broken
			}
			b.rows, b.share = table.Counts.Rows, table.Offset()
			for _, c := range []chan *batch{ordered, work} {
				select {
				case c <- b:
				case <-ctx.Done():
					return ctx.Err()
				}
			}
			if broken != nil {
				return nil
			}
		}
	}))
	for range runtime.GOMAXPROCS(0) {
		g.Go(safely(func() error {
			for b := range work {
				b.orders = make([]mapped, len(b.groups))
				for i := range b.groups {
					b.orders[i] = in.mapOne(&b.groups[i])
					b.orders[i].at, b.orders[i].share = b.rows, b.share
				}
				if in.ahead != nil {
					if err := in.ahead(ctx, b.orders); err != nil {
						return err
					}
				}
				b.groups = nil
				close(b.ready)
			}
			return nil
		}))
	}
	g.Go(safely(func() error {
		for b := range ordered {
			select {
			case <-b.ready:
			case <-ctx.Done():
				return ctx.Err()
			}
			for i := range b.orders {
				table.Counts.Add(b.orders[i].Intent)
			}
			in.judge(b.orders)
			if err := put(b.orders); err != nil {
				return err
			}
		}
		return nil
	}))
	if err := g.Wait(); err != nil {
		return table, err
	}
	if errors.Is(broken, io.EOF) {
		table.Compare()
		return table, in.refused(table, nil)
	}
	return table, in.refused(table, finding.Of(broken), broken)
}

// refused returns what refuses a document as a whole, if its mapping says so: its errors, and what stopped the reading.
func (in *input) refused(table *reading.Table, found []finding.Finding, stopped ...error) error {
	if in.mapping.Refuses() {
		all := in.broken
		table.Notes = slices.DeleteFunc(table.Notes, func(f finding.Finding) bool {
			if f.Severity == finding.Error {
				all = append(all, f)
			}
			return f.Severity == finding.Error
		})
		if len(all) > 0 {
			return append(all, found...)
		}
	}
	return errors.Join(stopped...)
}

// mostBroken is how many faults of a refused document are reported.
const mostBroken = 100

// judge gathers faults of the document itself at the rows of orders.
func (in *input) judge(orders []mapped) {
	if !in.mapping.Document.Refuse {
		return
	}
	for i := range orders {
		for _, f := range orders[i].Findings {
			if f.Severity == finding.Error && slices.Contains(finding.OfDocument, f.Code) &&
				len(in.broken) < mostBroken {
				in.broken = append(in.broken, f)
			}
		}
	}
}

// readAhead is a source that is read on a goroutine of its own, because unpacking and splitting a workbook takes as
// long as storing it.
type readAhead struct {
	ctx  context.Context
	src  source.Reader
	full chan recordBatch
	now  recordBatch
}

type recordBatch struct {
	records []source.Record
	share   float64
	err     error // behind the records
}

// rowsAhead is how many rows of the document are read at a time. A record of X12 counts as many rows as it has
// segments.
const rowsAhead = 256

func (a *readAhead) read() error {
	usual := rowsAhead
	for {
		b := recordBatch{records: make([]source.Record, 0, usual)}
		for rows := 0; rows < rowsAhead && b.err == nil; {
			var rec source.Record
			if rec, b.err = a.src.Next(); b.err == nil {
				b.records = append(b.records, rec)
				rows += rec.Rows()
			}
		}
		usual = len(b.records)
		b.share = a.src.Offset()
		select {
		case a.full <- b:
		case <-a.ctx.Done():
			return nil // whoever ended it says why
		}
		if b.err != nil {
			return nil
		}
	}
}

func (a *readAhead) Next() (source.Record, error) {
	for len(a.now.records) == 0 {
		if a.now.err != nil {
			return source.Record{}, a.now.err
		}
		select {
		case a.now = <-a.full:
		case <-a.ctx.Done():
			return source.Record{}, a.ctx.Err()
		}
	}
	rec := a.now.records[0]
	a.now.records = a.now.records[1:]
	return rec, nil
}

func (a *readAhead) Offset() float64 { return a.now.share }

func (in *input) mapOne(g *reading.Group) mapped {
	i := reading.Read(in.mapping, g, in.set)
	if in.mapping.Document.Format == source.X12 && in.counts {
		reading.Tested(g, i)
	}
	in.check(i)
	if in.taken != nil && i.Kind == intent.Change { // what is wrong with a line that is not taken keeps nothing out
		i.Findings = slices.DeleteFunc(i.Findings, func(f finding.Finding) bool { return f.Line > 0 && !slices.Contains(in.taken, f.Line) })
	}
	return mapped{Entry: book.NewEntry(i, in.document, in.keeps)}
}

// check applies the rules for every order. A notice is checked against the order that it is about.
func (in *input) check(i *intent.Intent) {
	if !i.Orphan && i.Kind == intent.Order {
		check.Order(&i.Order, i, check.Terms{Tolerance: in.mapping.Tolerance, Rounding: in.mapping.Rounding})
	}
	if !i.Orphan {
		in.mapping.Judge(i)
	}
	i.Weigh(in.mapping.Weighs)
}

// short is a document's SHA-256 as people see it.
func short(sha string) string { return sha[:min(12, len(sha))] }
