package mapping

import (
	"iter"
	"slices"
	"strings"

	"koinos/core/finding"
	"koinos/core/grammar"
	"koinos/core/order"
	"koinos/core/origin"
	"koinos/core/tree"
	"koinos/core/x12"
)

// Part says how a repeating part of an order stands in its rows.
type Part struct {
	Each   Query
	Others []Query        // deliveries: where they stand besides
	Apart  []*x12.Address // within each: where one stands several times, there is a line for each; the first is written
	Across string         // "", numbered, matrix or cells
	Matrix []Source       // matrix, cells: the columns
	By     string         // cells: what stands between the values in a cell, or ByJSON
	Range  [2]int         // matrix: first and last column
	When   *Expr
	Next   bool // lines begin on the row below the order's first
	Sorted bool // lines stand in the order of their numbers
}

// ByJSON says that a cell with lines is a list in JSON.
const ByJSON = "json"

// Lines returns the nodes of the lines that a node of Each stands for: itself or, if several stand apart within it,
// itself with each of them alone. Other segments that stand apart are left out, because nobody knows which of them they
// belong to.
func (p *Part) Lines(n *tree.Node) iter.Seq[*tree.Node] {
	return func(yield func(*tree.Node) bool) {
		var lines, out []*tree.Node
		for _, a := range p.Apart {
			if all := a.All(n); len(lines) > 1 || len(all) > 1 {
				out = append(out, all...)
				if len(lines) < 2 {
					lines = all
				}
			}
		}
		if len(lines) < 2 {
			yield(n)
			return
		}
		parts := make(map[*tree.Node]bool, len(out))
		for _, c := range out {
			parts[c] = true
		}
		alone := n.Alone(func(c *tree.Node) bool { return parts[c] })
		for _, one := range lines {
			if !yield(alone(one)) {
				return
			}
		}
	}
}

// Part says how the repeating parts of a level stand in the rows; nil if the mapping does not say it.
func (m *Mapping) Part(level order.Level) *Part { return m.Parts[slices.Index(order.Levels, level)] }

// lines is the address of the lines; nil if there is none.
func (b *builder) lines(m *Mapping) (each *x12.Address) {
	if lines := m.Parts[InLines]; lines != nil {
		each, _ = lines.Each.(*x12.Address)
	}
	return each
}

// deliveries reads where the deliveries of a line stand.
func (b *builder) deliveries(n *grammar.Node, m *Mapping) *Part {
	var all []Query
	for _, each := range n.List("each") {
		q := b.path(each)
		if a, ok := q.(*x12.Address); ok {
			within := a.Within(b.lines(m))
			if within == a || !within.Segment() {
				b.Add(finding.MappingWrongValue, each.At, each.Text, "%q is no segment directly within one of the lines.",
					each.Text)
			}
			q = within
		}
		if q != nil {
			all = append(all, q)
		}
	}
	if len(all) == 0 {
		return nil // it is said already
	}
	return &Part{Each: all[0], Others: all[1:]}
}

func (b *builder) part(n *grammar.Node) *Part {
	p := &Part{Each: b.path(n.Get("each")), Across: n.Str("across"), By: n.Str("by"), When: b.compile(n.Get("when"), true),
		Next: n.Str("begin") == "next", Sorted: n.Str("sorted") == "number"}
	for _, k := range n.List("apart") {
		each, _ := p.Each.(*x12.Address)
		apart, _ := b.path(k).(*x12.Address)
		if each != nil && apart != nil && apart.Inside(each) {
			p.Apart = append(p.Apart, apart.Within(each))
		} else {
			b.Add(finding.MappingWrongValue, k.At, k.Text, "apart is an address of X12 within that of each, such as PO1/ACK.")
		}
	}
	columns := n.List("columns")
	if (p.Across == "matrix" || p.Across == "cells") != (columns != nil) {
		b.Add(finding.MappingWrongValue, n.At, "", "across: matrix or cells, and columns, go together.")
	}
	if (p.Across == "cells") != (p.By != "") {
		b.Add(finding.MappingWrongValue, n.At, "", "across: cells and by, what stands between the values of a cell, go together.")
	}
	if len(columns) == 1 && strings.HasPrefix(columns[0].Text, "@") && strings.Contains(columns[0].Text, "-") {
		first, last, _ := strings.Cut(columns[0].Text, "-")
		p.Range = [2]int{origin.ColumnNumber(strings.TrimPrefix(strings.TrimSpace(first), "@")),
			origin.ColumnNumber(strings.TrimPrefix(strings.TrimSpace(last), "@"))}
		if p.Range[0] == 0 || p.Range[1] < p.Range[0] {
			b.Add(finding.MappingWrongValue, columns[0].At, columns[0].Text, "%q are no columns; write @F-@M.",
				columns[0].Text)
		}
		return p
	}
	p.Matrix = b.sources(columns)
	return p
}
