package load

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"

	"koinos/core/finding"
	"koinos/core/list"
	"koinos/core/mapping"
	"koinos/core/order"
	"koinos/core/report"
	"koinos/core/source"
	"koinos/store"
)

// each maps a document group by group, one after another, and gives each with
// its draft, or nil where the group is not wanted; it ends early where do says so.
func (in *input) each(ctx context.Context, watch func(mapping.Step), do func(*mapping.Group, *mapping.Draft) bool) ([]finding.Finding, error) {
	table := mapping.NewTable(in.mapping, in.src, in.decided)
	for {
		g, err := table.Next()
		if errors.Is(err, io.EOF) {
			return table.Notes, nil
		}
		if found := finding.Of(err); len(found) > 0 {
			return append(table.Notes, found...), nil
		}
		if err != nil {
			return table.Notes, err
		}
		var d *mapping.Draft
		if in.wanted == nil || in.wanted(&g) {
			d = in.mapping.Explain(&g, in.set, watch)
			in.check(d)
		}
		if !do(&g, d) {
			return table.Notes, nil
		}
		if err := ctx.Err(); err != nil {
			return table.Notes, err
		}
	}
}

// Coverage says what of a document a mapping does not use, and what lists and
// crosswalks do not know.
func Coverage(ctx context.Context, r io.ReaderAt, size int64, m *mapping.Mapping, set *list.Set, limits source.Limits) (*mapping.Coverage, []finding.Finding, error) {
	in := &input{mapping: m, set: set, around: true}
	if err := in.openAt(r, size, limits); err != nil {
		return nil, nil, err
	}
	c := mapping.NewCoverage(m)
	notes, err := in.each(ctx, c.Watch, func(g *mapping.Group, d *mapping.Draft) bool {
		c.Add(g, d)
		return true
	})
	c.Done()
	return c, notes, err
}

// Effect is how one order differs between two mappings of the same document.
type Effect struct {
	Order   string         `json:"order" doc:"The sender's number"`
	Rows    []mapping.Span `json:"rows"`
	Was     string         `json:"was,omitempty" doc:"What became of it: ready, refused; blank where the mapping made no such order"`
	Is      string         `json:"is,omitempty"`
	Changes []order.Change `json:"changes,omitempty"`
}

// Comparison is what another mapping makes of a document.
type Comparison struct {
	Orders  int      `json:"orders" doc:"Orders of the first mapping"`
	Same    int      `json:"same" doc:"Orders that are the same in both"`
	Effects []Effect `json:"effects"`
}

// mostEffects bounds the differing orders that a comparison lists.
const mostEffects = 1000

type outcome struct {
	order   *order.Order
	spans   []mapping.Span
	refused bool
}

func (o *outcome) word() string {
	switch {
	case o == nil:
		return ""
	case o.refused:
		return string(report.Refused)
	}
	return string(report.Ready)
}

// Compare runs a document through two mappings and says which orders differ,
// and in what. It holds the orders of the first.
func Compare(ctx context.Context, r io.ReaderAt, size int64, was, is *mapping.Mapping, set *list.Set, limits source.Limits) (*Comparison, error) {
	run := func(m *mapping.Mapping, each func(string, *outcome)) error {
		in := &input{mapping: m, set: set}
		if err := in.openAt(r, size, limits); err != nil {
			return err
		}
		seen := map[string]int{}
		notes, err := in.each(ctx, nil, func(_ *mapping.Group, d *mapping.Draft) bool {
			key := d.Order.Identity()
			if key == "" && len(d.Spans) > 0 {
				key = fmt.Sprintf("%s!%d", d.Spans[0].Sheet, d.Spans[0].First)
			}
			if seen[key]++; seen[key] > 1 {
				key += fmt.Sprintf(" #%d", seen[key])
			}
			o := d.Order
			each(key, &outcome{&o, d.Spans, d.Refused()})
			return true
		})
		if err == nil {
			for _, n := range notes {
				if n.Severity == finding.Error {
					return finding.All{n}
				}
			}
		}
		return err
	}
	before := map[string]*outcome{}
	var keys []string
	if err := run(was, func(key string, o *outcome) { before[key] = o; keys = append(keys, key) }); err != nil {
		return nil, fmt.Errorf("the first mapping: %w", err)
	}
	c := &Comparison{Orders: len(keys), Effects: []Effect{}}
	add := func(key string, a, b *outcome) {
		e := Effect{Was: a.word(), Is: b.word()}
		one := b
		if b == nil {
			one = a
		}
		e.Rows = one.spans
		if e.Order = one.order.SenderNumber; e.Order == "" {
			e.Order = key
		}
		if a != nil && b != nil {
			e.Changes = order.Diff(a.order, b.order)
			if len(e.Changes) == 0 && e.Was == e.Is {
				c.Same++
				return
			}
		}
		if len(c.Effects) < mostEffects {
			c.Effects = append(c.Effects, e)
		}
	}
	err := run(is, func(key string, o *outcome) {
		a := before[key]
		delete(before, key)
		add(key, a, o)
	})
	if err != nil {
		return nil, fmt.Errorf("the second mapping: %w", err)
	}
	for _, key := range keys {
		if a := before[key]; a != nil {
			add(key, a, nil)
		}
	}
	return c, nil
}

// Why is the answer to "why does this order say that?".
type Why struct {
	Order        int64          `json:"order"`
	Number       string         `json:"number"`
	Line         int            `json:"line,omitempty"`
	Field        string         `json:"field"`
	Value        string         `json:"value"`
	Document     string         `json:"document" doc:"SHA-256"`
	DocumentName string         `json:"document_name"`
	At           string         `json:"at,omitempty" doc:"Where in the document it stands"`
	Place        finding.Place  `json:"place,omitzero"`
	Steps        []mapping.Step `json:"steps" doc:"What was done to it on the way, in turn"`
	Mapping      string         `json:"mapping"`
	Version      int            `json:"version"`
	Load         int64          `json:"load"`
	Interchange  int64          `json:"interchange,omitempty" doc:"The interchange that brought the value, where no load did"`
	LoadedAt     string         `json:"loaded_at"`
	LoadedBy     string         `json:"loaded_by,omitempty"`
	Events       []store.Event  `json:"events" doc:"What happened to the field afterwards"`
}

// Why maps an order once more from the document it came from, with the mapping
// of then and the lists of now, and tells each step of one field. Line 0 is the
// header.
func (e *Engine) Why(ctx context.Context, id int64, line int, field string) (*Why, error) {
	o, err := e.store.Order(ctx, id)
	if err != nil {
		return nil, err
	}
	w := &Why{Order: id, Number: o.Number, Line: line, Field: field, Steps: []mapping.Step{}, Events: []store.Event{}}
	values := map[string]string{}
	o.Order.Each(func(n int, f, value string) {
		if n == line {
			values[f] = value
		}
	})
	w.Value = values[field]
	level := order.Header
	if line > 0 {
		level = order.Lines
		if line > len(o.Order.Lines) {
			return nil, fmt.Errorf("the order has %d lines: %w", len(o.Order.Lines), store.ErrNotFound)
		}
	}
	if _, ok := order.Lookup(level, field); !ok {
		return nil, fmt.Errorf("%q is no field of the %s: %w", field, level, store.ErrNotFound)
	}
	// The value comes from the load that changed it last, or else from the one
	// that stored the order.
	from, seq, arrived := o.Load, o.Seq, line
	var changed *order.Change
	revision := 1
	for i := range o.Events {
		for k := range o.Events[i].Changes {
			if c := &o.Events[i].Changes[k]; c.Line == line && c.Field == field {
				from, seq, changed, revision = o.Events[i].Load, o.Events[i].Seq, c, o.Events[i].Revision
			}
		}
	}
	if changed != nil {
		w.At = changed.At
	} else if at := o.Trace.Place(line, field); at != (finding.Place{}) {
		w.Place, w.At = at, at.String()
	}
	if from == 0 {
		i, err := e.store.InterchangeOf(ctx, id, revision)
		if err != nil {
			return nil, err
		}
		if w.Interchange = i.ID; i.ID != 0 {
			w.Document, w.DocumentName = i.Document, i.Name
		}
	}
	if from != 0 {
		l, err := e.store.Load(ctx, from)
		if err != nil {
			return nil, err
		}
		w.Document, w.DocumentName, w.Mapping, w.Version = l.Document, l.DocumentName, l.Mapping, l.Version
		w.Load, w.LoadedAt, w.LoadedBy = l.ID, l.StartedAt.Format("2006-01-02T15:04:05Z07:00"), l.By
		var steps []mapping.Step
		d, err := e.draft(ctx, l, seq, func(s mapping.Step) {
			if name := s.Field; name == field || strings.HasSuffix(field, "."+name) {
				steps = append(steps, s)
			}
		})
		if err != nil {
			return nil, err
		}
		if changed != nil && line > 0 { // the line may stand elsewhere in the document that changed it
			for n := range d.Trace.Rows {
				if d.Trace.Line(n+1).Row == changed.Row {
					arrived = n + 1
				}
			}
		}
		for _, s := range steps {
			if s.Line == arrived {
				w.Steps = append(w.Steps, s)
			}
		}
	}
	for _, ev := range o.Events {
		for _, c := range ev.Changes {
			if c.Line == line && c.Field == field {
				w.Events = append(w.Events, ev)
				break
			}
		}
	}
	return w, nil
}
