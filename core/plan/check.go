package plan

import (
	"cmp"
	"strconv"
	"strings"

	"koinos/core/system"
	"koinos/core/tree"
)

// told is what the system says about its fields, by their pointers.
type told map[string]*system.TheirField

// know uses what the system says about its fields: types that the description does not state, and what cannot be
// changed.
func (p *Planner) know(fields []system.TheirField) {
	p.header, p.eachLine = told{}, told{}
	for i := range fields {
		f := &fields[i]
		to, types := p.header, p.types
		if f.OfLine {
			to, types = p.eachLine, p.inLine
		}
		to[f.Pointer] = f
		if types[f.Pointer] == "" {
			types[f.Pointer] = f.Type
		}
		if !f.OfLine && (f.Fixed || f.Never) {
			p.fixed[f.Pointer] = true
		}
	}
}

// Wrong says, one sentence each, what the system would not accept in a wanted record, as far as it tells about its
// fields. Values in skip are not known yet.
func (p *Planner) Wrong(wanted *tree.Node, making bool, skip map[*tree.Node]bool) (why []string) {
	if len(p.header)+len(p.eachLine) == 0 {
		return nil
	}
	header, lines, err := p.wanted(wanted)
	if err != nil {
		return []string{err.Error()}
	}
	given := map[string]bool{}
	for _, c := range p.w.Create.With {
		pointer := c.Pointer
		if as := p.w.Create.As; as != "" {
			pointer = strings.TrimPrefix(pointer, "/"+as)
		}
		given[pointer] = true
	}
	why = p.header.wrong(header, making, given, skip, "", nil)
	for i := range lines {
		// An existing line lacks nothing, but which lines exist is not known here.
		where := " of line " + cmp.Or(lines[i].match, strconv.Itoa(i+1))
		why = p.eachLine.wrong(lines[i].leaves, making, nil, skip, where, why)
	}
	return why
}

func (t told) wrong(leaves []leaf, making bool, given map[string]bool, skip map[*tree.Node]bool, where string,
	why []string) []string {
	seen := make(map[string]bool, len(leaves))
	for _, l := range leaves {
		seen[l.pointer] = true
		if f := t[l.pointer]; f != nil && !skip[l.node] {
			if w := f.Wrong(l.node, making); w != "" {
				why = append(why, f.Name+where+" "+w+".")
			}
		}
	}
	if !making {
		return why
	}
	for _, pointer := range sorted(t) {
		if !seen[pointer] && !given[pointer] {
			if w := t[pointer].Wrong(nil, true); w != "" {
				why = append(why, t[pointer].Name+where+" "+w+".")
			}
		}
	}
	return why
}
