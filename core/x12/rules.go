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
	Is    string   `yaml:"is,omitempty" json:"is,omitempty"`
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
	r.each = at.element > 0 && len(r.last.where) == 0
	switch {
	case !slices.Contains([]string{"", "must", "should", "never"}, r.Need):
		return fmt.Errorf("need is must, should or never, not %q", r.Need)
	case r.Need == "" && r.Is == "" && len(r.Codes) == 0 && r.Least+r.Most+r.Times == 0:
		return fmt.Errorf("the rule at %s asks nothing: say need, is, codes, least, most or times", r.At)
	case at.element == 0 && (r.Is != "" || len(r.Codes) > 0 || r.Least+r.Most > 0):
		return fmt.Errorf("%s is a segment; is, codes, least and most go with an element", r.At)
	}
	if r.When != "" {
		probe := &Address{path: at.path}
		if err := probe.condition(r.When); err != nil {
			return err
		}
		r.when = &probe.where[0]
		r.when.stride = 0
	}
	return nil
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
		depth := len(r.at.path) - 1
		for _, in := range r.in.All(root) {
			if r.when != nil && r.when.depth <= depth && !r.holds(in, depth) {
				continue
			}
			var nodes []*tree.Node
			segment := &Address{path: r.last.path}
			if r.each {
				there := segment.All(in)
				if len(there) == 0 && (r.when == nil || r.when.depth <= depth) &&
					(r.Need == "must" || r.Need == "should") {
					say(in, r.Need, "", "%s (%s) %s be there.", r.At, r.name(), r.Need)
				}
				for _, s := range there {
					if r.when != nil && r.when.depth > depth && !r.holds(s, depth+1) {
						continue
					}
					if v := r.own.First(s); v != nil {
						nodes = append(nodes, v)
					} else if r.Need == "must" || r.Need == "should" {
						say(s, r.Need, "", "%s (%s) %s be there.", r.At, r.name(), r.Need)
					}
				}
			} else {
				nodes = r.last.All(in)
				if len(nodes) == 0 && (r.Need == "must" || r.Need == "should") {
					say(in, r.Need, "", "%s (%s) %s be there.", r.At, r.name(), r.Need)
				}
			}
			for k, n := range nodes {
				r.value(n, k, say)
			}
		}
	}
	return found
}

func (r *Rule) value(n *tree.Node, k int, say func(n *tree.Node, code, value, format string, args ...any)) {
	v := n.Text
	length := utf8.RuneCountInString(v)
	switch {
	case r.Need == "never":
		say(n, "never", v, "%s (%s) must not be there.", r.At, r.name())
	case r.Times > 0 && k == r.Times:
		say(n, "times", v, "%s stands more than %d times.", r.At, r.Times)
	case r.Is != "" && v != r.Is:
		say(n, "is", v, "%s (%s) is %q; it must be %q.", r.At, r.name(), clip(v), r.Is)
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

// Fill writes what the rules fix (is) where a must says that it is needed and
// nothing stands.
func (w *Writing) Fill(rules []Rule) {
	for i := range rules {
		r := &rules[i]
		if r.Is == "" || r.Need != "must" || r.when != nil || r.at.element == 0 || r.at.component > 0 {
			continue
		}
		w.fill(&w.root, r.at, 0, r.Is)
	}
}

func (w *Writing) fill(in *Loop, at *Address, depth int, value string) {
	last := depth == len(at.path)-1
	for _, c := range in.inner {
		if c.id != at.path[depth] || !c.fits(at.at(depth+1)) {
			continue
		}
		if !last {
			w.fill(c, at, depth+1, value)
		} else if c.get(at.element) == "" {
			c.meet(at.at(depth + 1))
			c.set(at.element, value)
		}
	}
	if last && in.find(at.path[depth], nil) == nil && !w.opensLoop(at.path[depth]) {
		c := in.child(at.path[depth], at.at(depth+1))
		c.set(at.element, value)
	}
}

// opensLoop reports whether a segment opens a loop of lines, which nobody adds
// for a fixed value's sake.
func (w *Writing) opensLoop(id string) bool {
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
