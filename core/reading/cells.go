package reading

import (
	"fmt"
	"slices"
	"strings"

	"koinos/core/finding"
	"koinos/core/jsondoc"
	"koinos/core/mapping"
	"koinos/core/source"
	"koinos/core/tree"
)

// divide makes the bindings of lines read, of the cells with a value for each line, the one of their line.
func (p *plan) divide() {
	for i := range p.bound[mapping.InLines] {
		b := &p.bound[mapping.InLines][i]
		for _, spots := range [][]spot{b.spots, b.reads, b.cond} {
			for k := range spots {
				spots[k].piece = slices.Contains(p.cells, spots[k].column)
			}
		}
		if len(b.spots) > 0 && b.spots[0].piece {
			b.column = 0
		}
	}
}

// columnsOf returns the columns of a matrix, or those whose cells hold a value for each line.
func columnsOf(part *mapping.Part, p *plan, all *finding.All) []int {
	if part.Range[0] > 0 {
		var list []int
		for c := part.Range[0]; c <= part.Range[1] && (p.width == 0 || c <= p.width); c++ {
			list = append(list, c)
		}
		return list
	}
	var list []int
	for i := range part.Matrix {
		s, f := p.spot(&part.Matrix[i], p.m.Group.At)
		switch {
		case f == nil:
			list = append(list, s.column)
		case part.Across == "cells": // without one of them nobody knows what belongs together
			*all = append(*all, *f)
		default:
			f.Severity = finding.Warning
			p.notes = append(p.notes, *f)
		}
	}
	if len(list) == 0 && part.Across == "matrix" {
		*all = append(*all, finding.New(finding.ColumnMissing, p.head.Place(0), "",
			"The heading row has none of the matrix's columns."))
	}
	return list
}

// piece is the value of a cell that belongs to the line at work. Where no line is, as in a condition, it is all of it.
func (w *worker) piece(column int) source.Cell {
	if w.view.pieces == nil {
		return cell(&w.view.row.Record, column)
	}
	if all := w.view.pieces[column]; w.view.n <= len(all) {
		return all[w.view.n-1]
	}
	return source.Cell{}
}

// divide takes the cells of a row apart. It returns their values by columns, and how many lines they make. Cells that
// hold different numbers of values are reported, because nobody knows which of them belong together.
func (w *worker) divide(r *Row) (all map[int][]source.Cell, lines int) {
	by := w.m.Parts[mapping.InLines].By
	all = map[int][]source.Cell{}
	first := 0 // the first column that holds any
	for _, c := range r.plan.cells {
		pieces, err := valuesIn(cell(&r.Record, c), by)
		if err != nil {
			f := w.d.Find(finding.CellUnreadable, r.Place(c), cell(&r.Record, c).Text, 0, "The cell is no list in JSON: %v.", err)
			f.Field = "lines"
			continue
		}
		if len(pieces) == 0 {
			continue
		}
		all[c] = pieces
		if first == 0 {
			first = c
		} else if n := len(all[first]); n != len(pieces) {
			heading := func(c int) string { return cell(&r.plan.head, c).Text }
			f := w.d.Find(finding.CellsDiffer, r.Place(c), cell(&r.Record, c).Text, 0,
				"%s holds %s and %s %s; which of them belong together is not known.", heading(first), heldValues(n), heading(c),
				heldValues(len(pieces)))
			f.Field = "lines"
		}
		lines = max(lines, len(pieces))
	}
	return all, lines
}

func heldValues(n int) string {
	if n == 1 {
		return "1 value"
	}
	return fmt.Sprintf("%d values", n)
}

// valuesIn returns the values in a cell. Those behind the last one that is not blank are none.
func valuesIn(c source.Cell, by string) (all []source.Cell, err error) {
	switch {
	case c.Text == "":
		return nil, nil
	case by == mapping.ByJSON:
		return ofJSON(c.Text)
	case !strings.Contains(c.Text, by):
		return []source.Cell{c}, nil // a number stays one
	}
	for text := range strings.SplitSeq(c.Text, by) {
		all = append(all, source.Cell{Text: source.Trim(text)})
	}
	for len(all) > 0 && all[len(all)-1].Text == "" {
		all = all[:len(all)-1]
	}
	return all, nil
}

// ofJSON returns the values of a list in JSON; objects and lists among them stay as they are written.
func ofJSON(text string) (all []source.Cell, err error) {
	root, _, err := jsondoc.Parse([]byte(text), 0)
	if err != nil {
		return nil, err
	}
	one := func(n *tree.Node) {
		switch c := (source.Cell{Text: n.Text}); {
		case n.Kind == tree.Null:
			all = append(all, source.Cell{})
		case !n.Scalar():
			all = append(all, source.Cell{Text: string(n.AppendJSON(nil))})
		default:
			if n.Kind == tree.Number {
				c.Kind = source.Exact
			}
			all = append(all, c)
		}
	}
	if root.Kind != tree.Array {
		one(root)
		return all, nil
	}
	for n := root.First(); n != nil; n = n.Next() {
		one(n)
	}
	return all, nil
}
