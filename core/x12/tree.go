package x12

import (
	"fmt"
	"koinos/core/tree"
	"strconv"
	"strings"
)

// Tree returns a set as a tree of values: a member for each segment, named by its
// id, in the loop that it belongs to; within it a member for each filled
// element, named by its number (02), or number and component (02-1). Numbers
// with implied decimals get their point. The segments of the interchange and
// group around it (ISA, GS) stand in front. HL loops stand within the loop that
// their HL02 names.
func Tree(set *Set, placed []Placed) *tree.Node {
	b := builder{set: set, placed: placed, nodes: make([]*tree.Node, len(placed))}
	size := 40 // the root and the segments around the set
	for i := range placed {
		size += 1 + placed[i].Segment.filled()
	}
	b.slab = make([]tree.Node, size)
	root := b.node(tree.Segment, "")
	root.At("ST " + set.Control)
	root.Leaf = placed[0].Segment.Row
	b.segment(root, &set.Interchange.Segment, 1)
	if set.Group != nil {
		b.segment(root, &set.Group.Segment, 1)
	}
	var levels map[string]*tree.Node // HL loops by their number
	for i := range placed {
		p := &placed[i]
		in := root
		if p.Parent >= 0 {
			in = b.nodes[p.Parent]
		}
		if p.Segment.ID == "HL" {
			if up := levels[p.Segment.Element(2)]; up != nil {
				for in = up; depth(in) >= mostLevels; in = in.Parent {
				}
			}
		}
		n := b.segment(in, p.Segment, p.Count)
		b.nodes[i] = n
		if p.Segment.ID == "HL" {
			if levels == nil {
				levels = map[string]*tree.Node{}
			}
			levels[p.Segment.Element(1)] = n
		}
	}
	return root
}

// builder makes trees. Nodes come from slabs: a set has very many.
type builder struct {
	set    *Set
	placed []Placed
	nodes  []*tree.Node
	slab   []tree.Node
}

func (b *builder) node(kind tree.Kind, name string) *tree.Node {
	if len(b.slab) == 0 {
		b.slab = make([]tree.Node, 64)
	}
	n := &b.slab[0]
	b.slab = b.slab[1:]
	n.Kind, n.Name = kind, name
	return n
}

func (b *builder) segment(in *tree.Node, s *Segment, count int) *tree.Node {
	n := b.node(tree.Segment, s.ID)
	n.Leaf = s.Row
	in.Add(n)
	n.Index = count
	def := segments[s.ID]
	text := string(s.raw) // one copy for all of its elements
	for i := 1; i < len(s.ends); i++ {
		from, to := s.ends[i-1]+1, s.ends[i]
		if from == to {
			continue
		}
		v := text[from:to]
		var use *elementUse
		if def != nil && i <= len(def.elements) {
			use = &def.elements[i-1]
		}
		if use != nil && use.composite != nil {
			b.composite(n, use.composite, i, v)
			continue
		}
		b.value(n, use, i, elementName(i), v)
	}
	return n
}

func (b *builder) composite(in *tree.Node, def *segmentDef, number int, v string) {
	d := b.set.Interchange.Delimiters
	if d.Repetition != 0 {
		v, _, _ = strings.Cut(v, one(d.Repetition))
	}
	for k, part := range strings.Split(v, one(d.Component)) {
		if part == "" {
			continue
		}
		var use *elementUse
		if k < len(def.elements) {
			use = &def.elements[k]
		}
		b.value(in, use, number, elementName(number)+"-"+strconv.Itoa(k+1), part)
	}
}

func (b *builder) value(in *tree.Node, use *elementUse, number int, name, v string) {
	n := b.node(tree.String, name)
	n.Text, n.Leaf = v, in.Leaf
	if use != nil && use.element != nil {
		if places := use.element.places(); places > 0 {
			if plain := withPoint(v, places); plain != "" {
				n.Text = plain
			}
		}
		if k := use.element.kind[0]; k == 'R' || k == 'N' {
			n.Kind = tree.Number
		}
	}
	in.Add(n)
	n.Index = number // quick to compare; among elements no position is asked
}

var elementNames = func() (names [100]string) {
	for i := range names {
		names[i] = fmt.Sprintf("%02d", i)
	}
	return names
}()

func elementName(n int) string {
	if n < len(elementNames) {
		return elementNames[n]
	}
	return strconv.Itoa(n)
}
