package x12

import (
	"fmt"
	"koinos/core/tree"
	"math/big"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"
)

// AtRule is the level of findings about a partner's rules; their codes are the
// words of the rule that is broken.
const AtRule Level = "rule"

// AtTotals is the level of findings about totals that do not agree with what
// they total; their codes are count and hash.
const AtTotals Level = "totals"

// Rule is one thing that a partner requires, forbids or limits in a transaction
// set. It holds in both directions.
type Rule struct {
	At   string `yaml:"at" json:"at"`                         // address of an element or a segment
	When string `yaml:"when,omitempty" json:"when,omitempty"` // PO1/03 = BX: the rule holds only there
	Need string `yaml:"need,omitempty" json:"need,omitempty"` // must, should, or never
	// the only value; on the way out it is written where nothing stands
	Is string `yaml:"is,omitempty" json:"is,omitempty"`
	// the address of another element whose value it has; on the way out that is written where nothing stands
	Same  string   `yaml:"same,omitempty" json:"same,omitempty"`
	Codes []string `yaml:"codes,omitempty" json:"codes,omitempty"` // the only values
	Least int      `yaml:"least,omitempty" json:"least,omitempty"` // characters
	Most  int      `yaml:"most,omitempty" json:"most,omitempty"`
	Times int      `yaml:"times,omitempty" json:"times,omitempty"` // how often it may stand, in each loop
	Say   string   `yaml:"say,omitempty" json:"say,omitempty"`     // what to tell the person who reads it

	at   *Address
	when *condition
	in   *Address // the loops in which At is looked for
	last *Address // At within one of them
	own  *Address // At within one of its segments: the element, or one of its pairs
	each bool     // every segment is asked, not whether there is one
	same *Address // Same within the innermost loop around both
	// how many segments of At's path lead to that loop
	shared int
}

// Compile reads the rule's addresses.
func (r *Rule) Compile() error {
	at, err := ParseAddress(r.At)
	if err != nil {
		return err
	}
	r.at = at
	n := len(at.path)
	r.own = &Address{element: at.element, component: at.component}
	r.in, r.last = &Address{path: at.path[:n-1]}, &Address{path: at.path[n-1:], element: at.element,
		component: at.component}
	for _, c := range at.where {
		if c.depth < n {
			r.in.where = append(r.in.where, c)
			continue
		}
		if c.stride > 0 { // which of the pairs, not which of the segments
			c.depth = 0
			r.own.where = append(r.own.where, c)
			continue
		}
		c.depth = 1
		r.last.where = append(r.last.where, c)
	}
	switch {
	case !slices.Contains([]string{"", "must", "should", "never"}, r.Need):
		return fmt.Errorf("need is must, should or never, not %q", r.Need)
	case r.Need == "" && r.Is == "" && r.Same == "" && len(r.Codes) == 0 && r.Least+r.Most+r.Times == 0:
		return fmt.Errorf("the rule at %s asks nothing: say need, is, same, codes, least, most or times", r.At)
	case r.Is != "" && r.Same != "":
		return fmt.Errorf("the rule at %s has both is and same; it takes one of them", r.At)
	case at.element == 0 && (r.Is+r.Same != "" || len(r.Codes) > 0 || r.Least+r.Most > 0):
		return fmt.Errorf("%s is a segment; is, same, codes, least and most go with an element", r.At)
	}
	if r.When != "" {
		probe := &Address{path: at.path}
		if err := probe.condition(r.When); err != nil {
			return err
		}
		r.when = &probe.where[0]
		r.when.stride = 0
	}
	// A condition on the segment itself says which of them are asked; what is asked of each is all of At then.
	r.each = at.element > 0 && (len(r.last.where) == 0 || r.when != nil && r.when.depth == n)
	if r.each {
		for _, c := range r.last.where {
			c.depth = 0
			r.own.where = append(r.own.where, c)
		}
		r.last.where = nil
	}
	return r.compileSame()
}

func (r *Rule) compileSame() error {
	if r.Same == "" {
		return nil
	}
	other, err := ParseAddress(r.Same)
	if err != nil {
		return err
	}
	r.shared = 0
	for r.shared < min(len(r.at.path), len(other.path)) && r.at.path[r.shared] == other.path[r.shared] {
		r.shared++
	}
	outside := func(c condition) bool { return c.depth < r.shared }
	if !other.IsElement() || slices.ContainsFunc(other.where, outside) {
		return fmt.Errorf("same names an element of the same loop, and its conditions speak of what is in that loop; %q does not", r.Same)
	}
	r.same = other.Within(&Address{path: other.path[:r.shared]})
	return nil
}

// fixed is the value that At must have, asked from a node at a depth of its path; "" is any.
func (r *Rule) fixed(n *tree.Node, depth int) string {
	if r.same == nil {
		return r.Is
	}
	for ; depth > r.shared && n.Parent != nil; depth-- {
		n = n.Parent
	}
	if v := r.same.First(n); v != nil {
		return v.Text
	}
	return ""
}

// holds reports whether the rule's condition is true of a node that stands at a
// depth of its path.
func (r *Rule) holds(n *tree.Node, depth int) bool {
	if r.when == nil {
		return true
	}
	for ; depth > r.when.depth && n.Parent != nil; depth-- {
		n = n.Parent
	}
	return r.when.holds(n)
}

// CheckRules compares a set, as Tree gives it, with a partner's rules.
func CheckRules(root *tree.Node, rules []Rule) []Finding {
	var found []Finding
	for i := range rules {
		r := &rules[i]
		say := func(n *tree.Node, code, value, format string, args ...any) {
			f := Finding{Level: AtRule, Code: code, Place: n.Pointer(), Row: n.Leaf,
				Segment: r.at.path[len(r.at.path)-1], Element: r.at.element, Value: clip(value),
				Message: fmt.Sprintf(format, args...)}
			if r.Say != "" {
				f.Message += " " + r.Say
			}
			found = append(found, f)
		}
		r.ask(root, func(n *tree.Node, _ bool) {
			if r.Need == "must" || r.Need == "should" {
				say(n, r.Need, "", "%s (%s) %s be there.", r.At, r.name(), r.Need)
			}
		}, func(n *tree.Node, k int) { r.value(n, k, say) })
	}
	return found
}

// ask goes to all places that the rule speaks of: absent is told of a segment that lacks the element, or of a loop that
// lacks the segment; present of each value, or segment, and how many of the same loop are before it.
func (r *Rule) ask(root *tree.Node, absent func(n *tree.Node, segment bool), present func(n *tree.Node, k int)) {
	depth := len(r.at.path) - 1
	own := r.when != nil && r.when.depth > depth // the condition is on the segment itself
	for _, in := range r.in.All(root) {
		if !own && !r.holds(in, depth) {
			continue
		}
		if !r.each {
			nodes := r.last.All(in)
			if len(nodes) == 0 {
				absent(in, false)
			}
			for k, n := range nodes {
				present(n, k)
			}
			continue
		}
		there := (&Address{path: r.last.path}).All(in)
		if len(there) == 0 && !own {
			absent(in, false)
		}
		k := 0
		for _, s := range there {
			if own && !r.holds(s, depth+1) {
				continue
			}
			if v := r.own.First(s); v != nil {
				present(v, k)
				k++
			} else {
				absent(s, true)
			}
		}
	}
}

func (r *Rule) value(n *tree.Node, k int, say func(n *tree.Node, code, value, format string, args ...any)) {
	v := n.Text
	length := utf8.RuneCountInString(v)
	fixed := r.fixed(n.Parent, len(r.at.path))
	switch {
	case r.Need == "never":
		say(n, "never", v, "%s (%s) must not be there.", r.At, r.name())
	case r.Times > 0 && k == r.Times:
		say(n, "times", v, "%s stands more than %d times.", r.At, r.Times)
	case fixed != "" && v != fixed && r.same != nil:
		say(n, "same", v, "%s (%s) is %q; it must be %q, as %s is.", r.At, r.name(), clip(v), clip(fixed), r.Same)
	case fixed != "" && v != fixed:
		say(n, "is", v, "%s (%s) is %q; it must be %q.", r.At, r.name(), clip(v), fixed)
	case len(r.Codes) > 0 && !slices.Contains(r.Codes, v):
		say(n, "codes", v, "%s (%s) is %q; it may be %s.", r.At, r.name(), clip(v), strings.Join(r.Codes, ", "))
	case r.Least > 0 && length < r.Least:
		say(n, "least", v, "%s (%s) is %q; it needs %d characters.", r.At, r.name(), clip(v), r.Least)
	case r.Most > 0 && length > r.Most:
		say(n, "most", v, "%s (%s) is %q; it may have %d characters.", r.At, r.name(), clip(v), r.Most)
	}
}

// name is what the element or segment is called.
func (r *Rule) name() string {
	id := r.at.path[len(r.at.path)-1]
	if r.at.element > 0 {
		if name, _ := Meaning(id, r.at.element, ""); name != "" {
			return name
		}
	}
	return nameOf(id)
}

// Fill writes what the rules fix (is, same) where a must says that it is needed and nothing stands.
func (w *Writing) Fill(rules []Rule) {
	for i := range rules {
		r := &rules[i]
		if r.Is+r.Same == "" || r.Need != "must" || r.at.component > 0 {
			continue
		}
		loops := map[*tree.Node]*Loop{}
		r.ask(w.root.tree(loops), func(n *tree.Node, segment bool) {
			at, depth := r.own, len(r.at.path)
			if !segment {
				at, depth = r.last, depth-1
				if opensLines(at.path[0]) {
					return
				}
			}
			if v := r.fixed(n, depth); v != "" {
				w.Put(loops[n], at, v)
			}
		}, func(*tree.Node, int) {})
	}
}

// tree is a loop as Tree gives it; loops tells which loop a node is of.
func (l *Loop) tree(loops map[*tree.Node]*Loop) *tree.Node {
	var b builder
	n := &tree.Node{Kind: tree.Segment, Name: l.id}
	loops[n] = l
	def := segments[l.id]
	for i, v := range l.elements {
		if def == nil || i >= len(def.elements) {
			break
		}
		use, name := &def.elements[i], elementName(i+1)
		if use.composite == nil && v != "" {
			b.value(n, use, i+1, name, v)
			continue
		}
		for k, part := range strings.Split(v, "\x00") {
			if part != "" {
				b.value(n, nil, i+1, name+"-"+strconv.Itoa(k+1), part)
			}
		}
	}
	for _, c := range l.inner {
		n.Add(c.tree(loops))
	}
	return n
}

// opensLines reports whether a segment opens a loop of lines, which nobody adds for a fixed value's sake.
func opensLines(id string) bool {
	return id == "PO1" || id == "POC" || id == "IT1" || id == "HL"
}

// lineLoops are the loops of lines by set, with the segment and element of their
// quantity.
var lineLoops = map[string]struct {
	loop, quantity string
	element        int
}{
	"850": {"PO1", "PO1", 2}, "855": {"PO1", "PO1", 2}, "860": {"POC", "POC", 3}, "865": {"POC", "POC", 3},
	"810": {"IT1", "IT1", 2}, "856": {"HL", "SN1", 2},
}

// CheckCount compares what CTT states, the number of lines (01) and the hash
// total of their quantities (02), with the lines.
func CheckCount(set *Set, placed []Placed) (found []Finding) {
	lines, ok := lineLoops[set.ID]
	if !ok {
		return nil
	}
	// HL loops stand within each other.
	in := func(p *Placed) bool { return p.Parent < 0 || placed[p.Parent].Segment.ID == "HL" }
	n, ctt := 0, -1
	for i := range placed {
		switch id := placed[i].Segment.ID; {
		case id == lines.loop && in(&placed[i]):
			n++
		case id == "CTT" && ctt < 0 && in(&placed[i]):
			ctt = i
		}
	}
	if ctt < 0 {
		return nil
	}
	s := placed[ctt].Segment
	say := func(element int, code, is, format string) {
		stated := clip(s.Element(element))
		found = append(found, Finding{Level: AtTotals, Code: code,
			Place: PlaceIn(set.Control, placed, ctt) + " / " + elementName(element), Row: s.Row, Segment: "CTT",
			Element: element, Value: stated,
			Message: fmt.Sprintf(format, stated, is)})
	}
	if stated := s.Element(1); stated != "" {
		if k, err := strconv.Atoi(stated); err != nil || k != n {
			say(1, "count", strconv.Itoa(n), "CTT01 counts %s lines; there are %s.")
		}
	}
	stated := s.Element(2)
	if stated == "" {
		return found
	}
	sum := new(big.Rat)
	for i := range placed {
		if placed[i].Segment.ID == lines.quantity {
			if v, ok := decimal(placed[i].Segment.Element(lines.element)); ok {
				sum.Add(sum, v)
			}
		}
	}
	if v, ok := decimal(stated); !ok || v.Cmp(sum) != 0 {
		say(2, "hash", strings.TrimSuffix(strings.TrimRight(sum.FloatString(6), "0"), "."),
			"CTT02 states a hash total of %s; the lines' quantities add up to %s.")
	}
	return found
}

// decimal is a number of type R; its characters alone, for a big.Rat reads more.
func decimal(s string) (*big.Rat, bool) {
	if s == "" || len(s) > 40 || strings.Trim(s, "-.0123456789") != "" {
		return nil, false
	}
	return new(big.Rat).SetString(s)
}
