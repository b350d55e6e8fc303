package load

import (
	"context"
	"io"
	"slices"

	"koinos/core/finding"
	"koinos/core/list"
	"koinos/core/mapping"
	"koinos/core/order"
	"koinos/core/report"
	"koinos/core/source"
)

// View says which part of a document a preview is about.
type View struct {
	Sheet string
	From  int // first and last row that are seen
	To    int
	Row   int // the row under the cursor; 0 asks for the first order seen
	Seq   int // or the number of an order
}

// Preview is what a mapping that is being made does to the part of a document
// that somebody looks at.
type Preview struct {
	Heading  int                  `json:"heading" doc:"Row of the headings; 0 is none"`
	Columns  []mapping.ColumnRole `json:"columns"`
	Spans    []report.SpanOutcome `json:"spans" doc:"Which of the rows seen make which order"`
	Orders   int                  `json:"orders" doc:"Orders among the rows read"`
	Lines    int                  `json:"lines"`
	Refused  int                  `json:"refused"`
	Rows     int                  `json:"rows" doc:"Rows read"`
	Complete bool                 `json:"complete" doc:"The document was read to its end"`
	Paper    *PreviewPaper        `json:"paper,omitempty" doc:"The order under the cursor"`
	Reasons  []report.Reason      `json:"reasons"`
	Coverage *mapping.Coverage    `json:"coverage"`
}

// PreviewPaper is one order as the mapping makes it.
type PreviewPaper struct {
	Seq      int               `json:"seq"`
	Refused  bool              `json:"refused"`
	Order    order.Order       `json:"order"`
	Trace    mapping.Trace     `json:"trace"`
	Findings []finding.Finding `json:"findings"`
	Spans    []mapping.Span    `json:"spans"`
	Base     string            `json:"base,omitempty" doc:"JSON: pointer of the order's record"`
}

// previewRows is how many rows a preview reads beyond those seen, to say what
// the mapping does as a whole.
const previewRows = 3_000

// Look makes a preview.
func Look(ctx context.Context, r io.ReaderAt, size int64, m *mapping.Mapping, set *list.Set, limits source.Limits, v View) (*Preview, error) {
	p := &Preview{Columns: []mapping.ColumnRole{}, Spans: []report.SpanOutcome{}, Complete: true}
	in := &input{mapping: m, set: set, around: true}
	if err := in.openAt(r, size, limits); err != nil {
		return nil, err
	}
	var tally report.Tally
	c := mapping.NewCoverage(m)
	read := 0
	among := func(spans []mapping.Span, first, last int) bool {
		return slices.ContainsFunc(spans, func(s mapping.Span) bool {
			return (v.Sheet == "" || s.Sheet == v.Sheet) && s.First <= last && s.Last >= first
		})
	}
	// Between the document's beginning and what is seen rows are only grouped.
	in.wanted = func(g *mapping.Group) bool {
		spans := g.Spans()
		read = max(read, spans[len(spans)-1].Last)
		return p.Rows <= previewRows || among(spans, v.From, v.To) || v.Row > 0 && among(spans, v.Row, v.Row) || g.Seq == v.Seq
	}
	notes, err := in.each(ctx, c.Watch, func(g *mapping.Group, d *mapping.Draft) bool {
		if d == nil {
			return read <= max(v.To, v.Row, previewRows) || v.Seq > g.Seq
		}
		here := among(d.Spans, v.From, v.To)
		if here {
			outcome := report.Ready
			if d.Refused() {
				outcome = report.Refused
			}
			for _, s := range d.Spans {
				if v.Sheet == "" || s.Sheet == v.Sheet {
					p.Spans = append(p.Spans, report.SpanOutcome{Sheet: s.Sheet, First: s.First, Last: s.Last, OrderOutcome: report.OrderOutcome{Seq: d.Seq, Outcome: outcome, SenderNumber: d.Order.SenderNumber, Lines: len(d.Order.Lines)}})
				}
			}
			if len(p.Columns) == 0 {
				p.Heading, p.Columns = g.Roles()
			}
		}
		under := v.Row > 0 && among(d.Spans, v.Row, v.Row)
		if under || v.Seq > 0 && d.Seq == v.Seq || v.Row == 0 && v.Seq == 0 && here && p.Paper == nil {
			p.Paper = &PreviewPaper{d.Seq, d.Refused(), d.Order, d.Trace, d.Findings, d.Spans, g.Pointer()}
			if p.Paper.Findings == nil {
				p.Paper.Findings = []finding.Finding{}
			}
		}
		if p.Rows > previewRows {
			return true // seen, but not part of what the figures are about
		}
		p.Orders++
		p.Lines += len(d.Order.Lines)
		p.Refused += btoi(d.Refused())
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
	return p, err
}
