package reading

import (
	"koinos/core/origin"
	"koinos/core/source"
)

// traceRow notes where a line's record stands.
func traceRow(t *origin.Trace, r *Row) {
	if r.Node == nil {
		t.Rows = append(t.Rows, r.Row)
		return
	}
	t.Rows = append(t.Rows, r.Node.Leaf)
	t.Records = append(t.Records, r.Node.Pointer())
	t.Segments = r.Node.InSegment()
	if r.Line > 0 {
		t.Lines = append(t.Lines, r.Line)
	}
}

// traceLine notes where a line's value stands, if it does not stand where the others of its field do.
func (w *worker) traceLine(b *bound, at where, v view) {
	t := &w.d.Trace
	if at.rec == nil {
		return
	}
	usual := &v.row.Record == at.rec && v.row.Sheet == t.Sheet && t.Rows[w.now-1] == at.rec.Row
	if b.column > 0 && usual && t.Columns[b.Field.Name] == at.column {
		return
	}
	if at.node != nil && b.Of == "" && len(b.spots) == 1 && b.spots[0].static {
		if path, ok := t.Paths[b.Field.Name]; ok && b.spots[0].pointer == path {
			return
		}
	}
	if at.node != nil && at.node.Parent == v.row.Node && at.node.InSegment() {
		t.AddCell(w.now, b.Field.Name, source.ElementOf(at.node)) // the segment is the line's
		return
	}
	p := at.place()
	if p.Column == 0 && p.Pointer == "" && p.Segment == "" {
		return
	}
	t.AddCell(w.now, b.Field.Name, p)
}
