package load

import (
	"context"
	"fmt"
	"io"

	"koinos/api"
	"koinos/core/finding"
	"koinos/core/intent"
	"koinos/core/list"
	"koinos/core/mapping"
	"koinos/core/order"
	"koinos/core/origin"
	"koinos/core/outcome"
	"koinos/core/reading"
	"koinos/core/source"
)

// each maps a document group by group, and passes each with its draft, or nil if the group is not wanted, to do. It
// ends early if do says so.
func (in *input) each(ctx context.Context, watch func(reading.Step),
	do func(*reading.Group, *intent.Intent) bool) ([]finding.Finding, error) {
	table := reading.NewTable(in.mapping, in.src, in.decided)
	for g, err := range table.Groups(ctx) {
		if found := finding.Of(err); len(found) > 0 {
			return append(table.Notes, found...), nil
		}
		if err != nil {
			return table.Notes, err
		}
		var d *intent.Intent
		if in.wanted == nil || in.wanted(g) {
			d = reading.Explain(in.mapping, g, in.set, watch)
			in.check(d)
		}
		if !do(g, d) {
			break
		}
	}
	return table.Notes, nil
}

// Coverage says what of a document a mapping does not use, and which values lists and crosswalks did not know.
func Coverage(ctx context.Context, r io.ReaderAt, size int64, m *mapping.Mapping, set *list.Set,
	limits source.Limits) (*reading.Coverage, []finding.Finding, error) {
	in := &input{mapping: m, set: set, around: true}
	if err := in.openAt(r, size, limits); err != nil {
		return nil, nil, err
	}
	c := reading.NewCoverage(m)
	notes, err := in.each(ctx, c.Watch, func(g *reading.Group, d *intent.Intent) bool {
		c.Add(g, d)
		return true
	})
	c.Done()
	return c, notes, err
}

// mostEffects is how many differing orders a comparison lists.
const mostEffects = 1000

type result struct {
	order   *order.Order
	spans   []origin.Span
	refused bool
}

func (o *result) word() string {
	switch {
	case o == nil:
		return ""
	case o.refused:
		return string(outcome.Refused)
	}
	return string(outcome.Ready)
}

// Compare runs a document through two mappings and reports which orders differ, and in what. It keeps the orders of the
// first in memory.
func Compare(ctx context.Context, r io.ReaderAt, size int64, was, is *mapping.Mapping, set *list.Set,
	limits source.Limits) (*api.Comparison, error) {
	run := func(m *mapping.Mapping, each func(string, *result)) error {
		in := &input{mapping: m, set: set}
		if err := in.openAt(r, size, limits); err != nil {
			return err
		}
		seen := map[string]int{}
		notes, err := in.each(ctx, nil, func(_ *reading.Group, d *intent.Intent) bool {
			key := d.Order.Identity()
			if key == "" && len(d.Spans) > 0 {
				key = fmt.Sprintf("%s!%d", d.Spans[0].Sheet, d.Spans[0].First)
			}
			if seen[key]++; seen[key] > 1 {
				key += fmt.Sprintf(" #%d", seen[key])
			}
			o := d.Order
			each(key, &result{&o, d.Spans, d.Refused()})
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
	before := map[string]*result{}
	var keys []string
	if err := run(was, func(key string, o *result) { before[key] = o; keys = append(keys, key) }); err != nil {
		return nil, fmt.Errorf("the first mapping: %w", err)
	}
	c := &api.Comparison{Orders: len(keys), Effects: []api.Effect{}}
	add := func(key string, a, b *result) {
		e := api.Effect{Was: a.word(), Is: b.word()}
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
	err := run(is, func(key string, o *result) {
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
