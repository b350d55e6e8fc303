package x12

import (
	"iter"

	"koinos/core/tree"
)

// Segment reports whether the address names a segment directly within its loop, or an element of one.
func (a *Address) Segment() bool { return len(a.path) == 1 }

// Apart returns a loop once for each segment that the addresses name, as if it had none of the others; each address is
// of a segment directly within the loop. For an address of an element, such as 03 of SDQ, it returns the loop once for
// each such element, with the elements up to the next one, as if the segment had only these, in the first place.
func Apart(loop *tree.Node, all []*Address) iter.Seq[*tree.Node] {
	return func(yield func(*tree.Node) bool) {
		named := map[string]bool{}
		for _, a := range all {
			named[a.path[0]] = true
		}
		alone := loop.Alone(func(c *tree.Node) bool { return c.Kind == tree.Segment && named[c.Name] })
		for _, a := range all {
			whole := Address{path: a.path, where: a.where}
			for _, segment := range whole.All(loop) {
				if a.element == 0 {
					if !yield(alone(segment)) {
						return
					}
					continue
				}
				for one := range a.likes(segment) {
					if !yield(alone(one)) {
						return
					}
				}
			}
		}
	}
}

// Like returns, for an address of an element such as 03 of SDQ, how many elements separate it from the next one like
// it, and how many of them the segment has. For a segment it returns 0 and 1.
func (a *Address) Like() (step, most int) {
	def := segments[a.path[len(a.path)-1]]
	if a.element == 0 || def == nil {
		return 0, 1
	}
	ref := func(n int) string { return def.elements[n-1].ref }
	step = 1
	for a.element+step <= len(def.elements) && ref(a.element+step) != ref(a.element) {
		step++
	}
	for n := a.element; n+step-1 <= len(def.elements) && ref(n) == ref(a.element); n += step {
		most++
	}
	return step, max(most, 1)
}

// Further is the address a number of elements on, if it is one of those that repeat from an element of its segment on.
func (a *Address) Further(from *Address, elements int) *Address {
	if a.element < from.element || elements == 0 {
		return a
	}
	b := *a
	b.element += elements
	return &b
}

// likes returns a segment once for each element that is like one of its elements and has a value.
func (a *Address) likes(segment *tree.Node) iter.Seq[*tree.Node] {
	return func(yield func(*tree.Node) bool) {
		step, most := a.Like()
		first, end := a.element, a.element+most*step
		for at := first; at < end; at += step {
			if element(segment, at, 0) == nil {
				continue
			}
			if !yield(segment.Pick(func(c *tree.Node) *tree.Node {
				switch {
				case c.Kind == tree.Segment || c.Index < first || c.Index >= end:
					return c
				case c.Index < at || c.Index >= at+step:
					return nil
				}
				moved := *c
				moved.Index -= at - first
				return &moved
			})) {
				return
			}
		}
	}
}
