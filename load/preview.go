package load

import (
	"context"
	"io"
	"slices"

	"koinos/api"
	"koinos/core/finding"
	"koinos/core/intent"
	"koinos/core/list"
	"koinos/core/mapping"
	"koinos/core/origin"
	"koinos/core/outcome"
	"koinos/core/reading"
	"koinos/core/report"
	"koinos/core/source"
)

// View says which part of a document a preview shows.
type View struct {
	Sheet string
	From  int // first and last row that are seen
	To    int
	Row   int // the row under the cursor; 0 asks for the first order seen
	Seq   int // or the number of an order
}

// previewRows is how many rows a preview reads beyond those shown, to say what the mapping does as a whole.
const previewRows = 3_000

// Look makes a preview.
func Look(ctx context.Context, r io.ReaderAt, size int64, m *mapping.Mapping, set *list.Set, limits source.Limits,
	v View) (*api.Preview, error) {
	p := &api.Preview{Columns: []reading.ColumnRole{}, Spans: []outcome.SpanOutcome{}, Complete: true}
	in := &input{mapping: m, set: set, around: true}
	if err := in.openAt(r, size, limits); err != nil {
		return nil, err
	}
	var tally report.Tally
	c := reading.NewCoverage(m)
	read := 0
	among := func(spans []origin.Span, first, last int) bool {
		return slices.ContainsFunc(spans, func(s origin.Span) bool {
			return (v.Sheet == "" || s.Sheet == v.Sheet) && s.First <= last && s.Last >= first
		})
	}
	// Rows between the document's beginning and the shown part are only grouped.
	in.wanted = func(g *reading.Group) bool {
		spans := g.Spans()
		read = max(read, spans[len(spans)-1].Last)
		return p.Rows <= previewRows || among(spans, v.From, v.To) || v.Row > 0 && among(spans, v.Row, v.Row) ||
			g.Seq == v.Seq
	}
	notes, err := in.each(ctx, c.Watch, func(g *reading.Group, d *intent.Intent) bool {
		if d == nil {
			return read <= max(v.To, v.Row, previewRows) || v.Seq > g.Seq
		}
		here := among(d.Spans, v.From, v.To)
		if here {
			became := outcome.Ready
			if d.Refused() {
				became = outcome.Refused
			}
			for _, s := range d.Spans {
				if v.Sheet == "" || s.Sheet == v.Sheet {
					p.Spans = append(p.Spans, outcome.SpanOutcome{Sheet: s.Sheet, First: s.First, Last: s.Last,
						OrderOutcome: outcome.OrderOutcome{Seq: d.Seq, Outcome: became,
							SenderNumber: d.Order.SenderNumber, Lines: len(d.Order.Lines)}})
				}
			}
			if len(p.Columns) == 0 {
				p.Heading, p.Columns = g.Roles()
			}
		}
		under := v.Row > 0 && among(d.Spans, v.Row, v.Row)
		if under || v.Seq > 0 && d.Seq == v.Seq || v.Row == 0 && v.Seq == 0 && here && p.Paper == nil {
			p.Paper = &api.PreviewPaper{Seq: d.Seq, Refused: d.Refused(), Order: d.Order,
				Places: d.Trace.All(len(d.Order.Lines)), Findings: d.Findings, Spans: d.Spans, Base: g.Pointer()}
			if p.Paper.Findings == nil {
				p.Paper.Findings = []finding.Finding{}
			}
		}
		if p.Rows > previewRows {
			return true // seen, but not part of what the figures are about
		}
		p.Orders++
		p.Lines += len(d.Order.Lines)
		if d.Refused() {
			p.Refused++
		}
		for _, f := range d.Findings {
			tally.Add(f)
		}
		c.Add(g, d)
		for _, s := range d.Spans {
			p.Rows = max(p.Rows, s.Last)
		}
		p.Complete = p.Rows <= previewRows
		return true
	})
	for _, f := range notes {
		tally.Add(f)
	}
	c.Done()
	p.Coverage, p.Reasons = c, tally.Reasons()
	if err == nil && m.Document.CutsText() {
		err = cut(ctx, p, r, size, m, limits, v)
	}
	return p, err
}

// mostCut is how many rows a preview shows as its mapping cuts them.
const mostCut = 1_000

// cut adds the rows that are seen, as the mapping cuts the document's text.
func cut(ctx context.Context, p *api.Preview, r io.ReaderAt, size int64, m *mapping.Mapping, limits source.Limits,
	v View) error {
	opt := m.Options(limits)
	opt.Leaves = true // as the grid shows a document without its mapping
	src, err := source.Open(r, size, opt)
	if err != nil {
		return err
	}
	rows, err := Rows(ctx, src, v.Sheet, v.From, min(max(v.To-v.From+1, 0), mostCut))
	if found := finding.Of(err); len(found) > 0 { // the preview has said it
		err = nil
	}
	p.Cut = rows.Rows
	for _, c := range m.Document.Positions {
		p.Names = append(p.Names, c.Name)
	}
	return err
}
