package reading

import (
	"slices"

	"koinos/core/finding"
	"koinos/core/mapping"
	"koinos/core/source"
)

// A whole grouping makes one order of all rows of a sheet, a file or a form. The rows are kept until it ends, and only
// then divided into the table of its lines and what stands around it.

// collect takes in one row of a whole grouping.
func (t *Table) collect(rec source.Record) error {
	if rec.Blank() {
		return nil
	}
	t.Counts.Rows++
	if t.m.Group.By == "form" && slices.ContainsFunc(rec.Cells,
		func(c source.Cell) bool { return !c.Blank() && mapping.Match(t.m.Group.Opener, source.Trim(c.Text)) }) {
		if err := t.settle(); err != nil {
			return err
		}
	}
	if len(t.form) > MostRows {
		return nil
	}
	t.form = append(t.form, rec)
	return nil
}

// settle makes a group of the collected rows.
func (t *Table) settle() error {
	rows := t.form
	t.form = nil
	if len(rows) == 0 {
		return nil
	}
	if t.m.Group.By == "form" && t.m.Group.Opener != "" && !slices.ContainsFunc(rows[0].Cells,
		func(c source.Cell) bool { return mapping.Match(t.m.Group.Opener, source.Trim(c.Text)) }) {
		return nil // what stands above the first form
	}
	f := finderOf(t.m, rows[0].Sheet)
	for i := range rows {
		if f.none() || i >= headWithin || f.add(rows[i]) {
			break
		}
	}
	at, head, err := f.choose()
	if err == nil {
		err = t.settleAt(rows, at, head)
	}
	if found := finding.Of(err); len(found) > 0 && t.m.Group.By != "file" {
		// The others may be correct: only this sheet, or form, makes no order.
		t.seq++
		t.ready = append(t.ready, Group{Seq: t.seq, Broken: true, bad: found,
			Rows: []Row{{Record: rows[0], plan: &plan{m: t.m}}}})
		return nil
	}
	return err
}

func (t *Table) settleAt(rows []source.Record, at int, head source.Record) error {
	outside := &around{}
	p, all := bind(t.m, &head, outside, t.decided)
	if len(all) > 0 {
		return all
	}
	t.note(p)
	g := t.open
	if g == nil {
		t.seq++
		g = &Group{Seq: t.seq}
	}
	blank := t.m.Document.BlankRows
	if blank == 0 && t.m.Beside && len(t.m.Document.UntilText) == 0 {
		blank = 1
	}
	t.above = nil
	last, ended := head.Row, false
	outside.rows = append(outside.rows, rows[:max(at, 0)]...)
	for _, rec := range rows[max(at, 0):] {
		if rec.Row <= head.Row && at >= 0 {
			continue
		}
		if !ended && (blank > 0 && rec.Row-last > blank || p.ends(&rec)) {
			ended = true
		}
		if ended {
			outside.rows = append(outside.rows, rec)
			continue
		}
		last = rec.Row
		if t.aboveFixed(&rec) {
			outside.rows = append(outside.rows, rec)
			continue
		}
		r := Row{Record: rec, plan: p}
		if p.repeatsHeading(&rec) || !t.counts(&r) {
			continue
		}
		if len(g.Rows) >= MostRows {
			g.Long = true
			continue
		}
		g.Rows = append(g.Rows, r)
	}
	if len(g.Rows) == 0 {
		// A form without a line is an order without lines, which is reported; it is not skipped.
		g.Rows = append(g.Rows, Row{Record: source.Record{Sheet: head.Sheet, Row: max(head.Row, 1)}, plan: p})
	}
	if t.m.Group.By == "file" {
		t.open = g
		return nil
	}
	t.ready = append(t.ready, *g)
	return nil
}
