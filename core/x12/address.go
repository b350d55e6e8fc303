package x12

import (
	"fmt"
	"koinos/core/tree"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// Address names an element, or a segment, of a transaction set:
//
//	BEG/03                          element 3 of BEG
//	N1/N3/01 where N1/01 = ST       of the N3 in the loop that such an N1 opens
//	PO1/07 where PO1/06 = VP or VN  of several codes any
//	SAC/07 where SAC/05 = ""        if another element is blank
//	SAC where SAC/05 or SAC/07      if one of two elements is filled
//	MEA/04-1                        a component
//	REF where REF/01 = DP           a segment
//
// Where element and code stand in a row of like pairs, as the product ids of
// PO1, any of the pairs is meant: PO1/07 where PO1/06 = UP finds it in 08/09 too.
type Address struct {
	text      string
	path      []string // segments, outermost first
	element   int      // 0 is the segment itself
	component int      // 0 is the whole element
	where     []condition
}

// condition is one "PO1/06 = VP or VN"; the code "" is that of a blank element. Without codes, as in "SAC/05 or
// SAC/07", it asks whether one of the elements is filled.
type condition struct {
	depth     int // how many segments of the path it speaks of the last of
	inner     []string
	element   int
	component int
	others    []int // further elements of the segment, any of which may be filled instead
	codes     []string
	not       bool
	stride    int // between like pairs; 0 is none
}

var addressPattern = regexp.MustCompile(`^[A-Z][A-Z0-9]{1,2}(/[A-Z][A-Z0-9]{1,2})*(/[0-9]{1,2}(-[0-9]{1,2})?)?$`)

// ParseAddress reads an address.
func ParseAddress(text string) (*Address, error) {
	head, rest, _ := strings.Cut(text, " where ")
	a := &Address{text: text}
	var err error
	if a.path, a.element, a.component, err = parsePlace(strings.TrimSpace(head)); err != nil {
		return nil, err
	}
	for _, part := range strings.Split(rest, " and ") {
		if strings.TrimSpace(part) == "" {
			continue
		}
		if err := a.condition(part); err != nil {
			return nil, err
		}
	}
	return a, nil
}

func parsePlace(text string) (path []string, element, component int, err error) {
	if !addressPattern.MatchString(text) {
		return nil, 0, 0, fmt.Errorf("%q is not written as BEG/03, N1/N3/01 or MEA/04-1", text)
	}
	path = strings.Split(text, "/")
	if last := path[len(path)-1]; last[0] >= '0' && last[0] <= '9' {
		path = path[:len(path)-1]
		number, part, _ := strings.Cut(last, "-")
		element, _ = strconv.Atoi(number)
		component, _ = strconv.Atoi(part)
		if element == 0 {
			return nil, 0, 0, fmt.Errorf("%q: elements are counted from 1", text)
		}
	}
	for _, id := range path {
		if segments[id] == nil && id != "ISA" && id != "GS" {
			return nil, 0, 0, fmt.Errorf("the dictionary has no segment %s", id)
		}
		if segments[id] == nil && len(path) > 1 {
			return nil, 0, 0, fmt.Errorf("%s stands around the sets, and not within another segment's loop", id)
		}
	}
	if def := segments[path[len(path)-1]]; def != nil && element > len(def.elements) {
		return nil, 0, 0, fmt.Errorf("%s has %d elements", def.id, len(def.elements))
	}
	if component > 0 {
		parts := 0
		if def := segments[path[len(path)-1]]; def != nil && def.elements[element-1].composite != nil {
			parts = len(def.elements[element-1].composite.elements)
		}
		if component > parts {
			return nil, 0, 0, fmt.Errorf("%s has %d components", text, parts)
		}
	}
	return path, element, component, nil
}

func (a *Address) condition(text string) error {
	var c condition
	place, codes, compared := strings.Cut(text, " != ")
	if c.not = compared; !compared {
		place, codes, compared = strings.Cut(text, " = ")
	}
	var others []string
	if !compared {
		all := strings.Split(place, " or ")
		place, others = all[0], all[1:]
	}
	path, element, component, err := parsePlace(strings.TrimSpace(place))
	switch {
	case err != nil:
		return err
	case element == 0:
		return fmt.Errorf("%q names no element", strings.TrimSpace(place))
	}
	for c.depth < len(path) && c.depth < len(a.path) && path[c.depth] == a.path[c.depth] {
		c.depth++
	}
	if c.depth == 0 {
		return fmt.Errorf("the condition on %s says nothing of %s", strings.TrimSpace(place), strings.Join(a.path, "/"))
	}
	c.inner, c.element, c.component = path[c.depth:], element, component
	for _, other := range others {
		at, further, _, err := parsePlace(strings.TrimSpace(other))
		if err != nil {
			return err
		}
		if further == 0 || !slices.Equal(at, path) {
			return fmt.Errorf("%q is no element of %s", strings.TrimSpace(other), strings.Join(path, "/"))
		}
		c.others = append(c.others, further)
	}
	if compared {
		for _, code := range strings.Split(codes, " or ") {
			c.codes = append(c.codes, strings.Trim(strings.TrimSpace(code), `"'`))
		}
	}
	if c.depth == len(a.path) && len(c.inner) == 0 && a.element > 0 && len(c.codes) > 0 && !c.not {
		c.stride = stride(a.path[len(a.path)-1], c.element, a.element)
	}
	a.where = append(a.where, c)
	return nil
}

// stride is how many elements separate a pair of a segment from the next one like it; 0 if the pair occurs once.
func stride(segment string, code, value int) int {
	def := segments[segment]
	step := value - code
	if def == nil || step < 0 || step > 4 {
		return 0
	}
	step++
	if value+step > len(def.elements) {
		return 0
	}
	if def.elements[code-1+step].ref == def.elements[code-1].ref &&
		def.elements[value-1+step].ref == def.elements[value-1].ref {
		return step
	}
	return 0
}

// Single reports whether the address leads to one value at the most: it names an element of the very segment from which
// it starts.
func (a *Address) Single() bool { return a.element > 0 && len(a.path) == 0 }

// IsElement reports whether the address names an element, not a segment.
func (a *Address) IsElement() bool { return a.element > 0 }

// Asks returns the elements that the address compares with codes, such as PO1/06.
func (a *Address) Asks(yield func(place string)) {
	for _, c := range a.where {
		path := append(slices.Clone(a.path[:c.depth]), c.inner...)
		def := segments[path[len(path)-1]]
		for k := c.element; ; k += c.stride {
			yield(strings.Join(path, "/") + "/" + elementName(k))
			if c.stride == 0 || def == nil || k+c.stride > len(def.elements) {
				break
			}
		}
	}
}

// Finds reports whether the address leads into a segment, given by the path to it from the set, whose element has a
// code: none of its conditions asks for another code.
func (a *Address) Finds(way []string, element int, code string) bool {
	if len(a.path) < len(way) || !slices.Equal(a.path[:len(way)], way) {
		return false
	}
	for i := range a.where {
		c := &a.where[i]
		if c.depth == len(way) && len(c.inner) == 0 && c.element == element && len(c.codes) > 0 && slices.Contains(c.codes,
			code) == c.not {
			return false
		}
	}
	return true
}

// Narrows reports whether the address names the same element as another one, with more conditions.
func (a *Address) Narrows(other *Address) bool {
	return slices.Equal(a.path, other.path) && a.element == other.element && a.component == other.component &&
		len(a.where) > len(other.where)
}

// OfElement reports whether the address names an element of a kind of segment.
func (a *Address) OfElement(segment string, element int) bool {
	return len(a.path) > 0 && a.path[len(a.path)-1] == segment && a.element == element
}

// Way is the segments that lead to what the address names, the outermost first.
func (a *Address) Way() []string { return a.path }

// Kind is the address without its conditions.
func (a *Address) Kind() *Address { return &Address{text: strings.Join(a.path, "/"), path: a.path} }

// String is the address as it was written.
func (a *Address) String() string { return a.text }

// Pointer is the element in which the value always stands within the record whose segment begins the address's path,
// such as 02; "" if it varies.
func (a *Address) Pointer() string {
	if len(a.path) > 0 || len(a.where) > 0 || a.element == 0 || a.component > 0 {
		return ""
	}
	return elementName(a.element)
}

// Within returns the address as it is within the loop of an outer one: PO1/02 within PO1 is 02 of the loop's own
// segment.
func (a *Address) Within(outer *Address) *Address {
	if outer == nil || len(outer.path) > len(a.path) || !slices.Equal(outer.path, a.path[:len(outer.path)]) {
		return a
	}
	b := *a
	cut := len(outer.path)
	b.path = a.path[cut:]
	b.where = slices.Clone(a.where)
	for i := range b.where {
		b.where[i].depth -= cut
		if b.where[i].depth < 0 {
			return a
		}
	}
	return &b
}

// Loop is the address of the outermost loop on the path to what the address names, with its own conditions. For
// HL/MAN/02 where HL/03 = P and HL/MAN/01 = GM it is HL where HL/03 = P.
func (a *Address) Loop() *Address {
	b := &Address{path: a.path[:1]}
	for _, c := range a.where {
		if c.depth == 1 && len(c.inner) == 0 {
			b.where = append(b.where, c)
		}
	}
	return b
}

// Inside reports whether the address names a segment or loop within the loop of an outer one.
func (a *Address) Inside(outer *Address) bool {
	return a.element == 0 && len(a.path) > len(outer.path) && slices.Equal(outer.path, a.path[:len(outer.path)])
}

// Under reports whether the address names an element within a segment or loop.
func (a *Address) Under(outer *Address) bool {
	return len(a.path) >= len(outer.path) && slices.Equal(outer.path, a.path[:len(outer.path)])
}

// All returns the values of an address in their order, starting at the node of a set, a loop or a segment. If the
// address names a segment, they are the segment's nodes.
func (a *Address) All(root *tree.Node) []*tree.Node { return a.Append(nil, root) }

// Append adds All to found.
func (a *Address) Append(found []*tree.Node, root *tree.Node) []*tree.Node {
	return a.walk(root, 0, found, math.MaxInt)
}

// First returns the first of them, or nil.
func (a *Address) First(root *tree.Node) *tree.Node {
	var one [1]*tree.Node
	if found := a.walk(root, 0, one[:0], 1); len(found) > 0 {
		return found[0]
	}
	return nil
}

// walk follows the path from n, after depth segments of it, and adds values until there are most.
func (a *Address) walk(n *tree.Node, depth int, found []*tree.Node, most int) []*tree.Node {
	shift := 0
	for i := range a.where {
		c := &a.where[i]
		if c.depth != depth {
			continue
		}
		if c.stride > 0 {
			k := c.pair(n)
			if k < 0 {
				return found
			}
			shift = k
		} else if !c.holds(n) {
			return found
		}
	}
	if depth == len(a.path) {
		if a.element == 0 {
			return append(found, n)
		}
		if v := element(n, a.element+shift, a.component); v != nil {
			return append(found, v)
		}
		return found
	}
	id := a.path[depth]
	hl := id == "HL"
	for c := n.First(); c != nil && len(found) < most; c = c.Next() {
		if c.Kind != tree.Segment || c.Name != id {
			continue
		}
		found = a.walk(c, depth+1, found, most)
		if hl && len(found) < most { // HL loops stand within each other
			found = a.walk(c, depth, found, most)
		}
	}
	return found
}

// pair returns how many pairs behind the first the one is whose code fits; -1 is none.
func (c *condition) pair(n *tree.Node) int {
	for v := n.First(); v != nil; v = v.Next() {
		if v.Kind == tree.Segment {
			break
		}
		if k := v.Index - c.element; k >= 0 && k%c.stride == 0 && slices.Contains(c.codes, v.Text) {
			return k
		}
	}
	return -1
}

func (c *condition) holds(n *tree.Node) bool {
	if len(c.inner) > 0 {
		for v := n.First(); v != nil; v = v.Next() {
			if v.Kind == tree.Segment && v.Name == c.inner[0] {
				rest := *c
				rest.inner = c.inner[1:]
				if rest.holds(v) != c.not {
					return !c.not
				}
			}
		}
		return c.not
	}
	v := element(n, c.element, c.component)
	if len(c.codes) == 0 {
		return v != nil || slices.ContainsFunc(c.others, func(k int) bool { return element(n, k, 0) != nil })
	}
	text := ""
	if v != nil {
		text = v.Text
	}
	return slices.Contains(c.codes, text) != c.not
}

func element(n *tree.Node, number, component int) *tree.Node {
	for v := n.First(); v != nil && v.Kind != tree.Segment && v.Index <= number; v = v.Next() {
		if v.Index != number {
			continue
		}
		_, part, _ := strings.Cut(v.Name, "-")
		if component == 0 && (part == "" || part == "1") || component > 0 && part == strconv.Itoa(component) {
			return v
		}
	}
	return nil
}
