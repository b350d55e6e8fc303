package x12

import (
	"bytes"
	"fmt"
	"strconv"
	"strings"
	"time"
)

// Placed is a segment of a set with where it belongs.
type Placed struct {
	Segment *Segment
	Depth   int    // how many loops it stands in
	Loop    string // "" or the segment that opens the loop it stands in
	Count   int    // which occurrence of the loop, or else of the segment, counted from 1
}

// Check compares a transaction set with the dictionary and gives its segments
// with their places, and what is wrong with them, in the set's order. A set that
// the dictionary does not have gives one finding and its segments flat.
func Check(set *Set) ([]Placed, []Finding) {
	c := &checker{set: set, element: set.Interchange.Delimiters.Element, component: set.Interchange.Delimiters.Component, repetition: set.Interchange.Delimiters.Repetition}
	c.found = append(c.found, set.Findings...)
	def := sets[set.ID]
	if def == nil {
		for i := range set.Segments {
			c.placed = append(c.placed, Placed{Segment: &set.Segments[i], Count: 1})
		}
		c.add(Finding{Level: AtSet, Code: "1", Offset: set.Segments[0].Offset, Segment: "ST", Position: 1, Element: 1, Value: set.ID, Message: fmt.Sprintf("The transaction set %q is not one that Koinos knows.", set.ID)})
		return c.placed, c.found
	}
	if n := len(set.Control); n < 4 || n > 9 {
		c.add(Finding{Level: AtSet, Code: "7", Offset: set.Segments[0].Offset, Segment: "ST", Position: 1, Element: 2, Value: set.Control, Message: "The control number of a transaction set has four to nine characters."})
	}
	c.def = def
	c.match(def.nodes, 0, "", 0)
	for c.at < len(set.Segments) { // behind the SE nothing can stand: the reader has cut it off
		c.misplaced()
	}
	return c.placed, c.found
}

type checker struct {
	set                            *Set
	def                            *setDef
	at                             int // segment that is looked at
	placed                         []Placed
	found                          []Finding
	element, component, repetition byte
}

func (c *checker) add(f Finding) { c.found = append(c.found, f) }

// next passes over segments that the set does not have and gives the id of the
// one that is looked at; "" is the end.
func (c *checker) next() string {
	for ; c.at < len(c.set.Segments); c.at++ {
		s := &c.set.Segments[c.at]
		if c.def.segments[s.ID] {
			return s.ID
		}
		code, what := "1", "is not a segment of X12"
		if segments[s.ID] != nil {
			code, what = "6", "does not belong to the transaction set "+c.set.ID
		}
		c.segment(s, code, fmt.Sprintf("%q %s.", clip(s.ID), what))
		c.placed = append(c.placed, Placed{Segment: s, Count: 1})
	}
	return ""
}

// segment adds a finding about the segment that is looked at.
func (c *checker) segment(s *Segment, code, message string) {
	c.add(Finding{Level: AtSegment, Code: code, Offset: s.Offset, Segment: clip(s.ID), Position: c.at + 1, Message: message, Place: c.place(s, 1)})
}

func (c *checker) place(s *Segment, count int) string {
	p := "ST " + c.set.Control + " / " + clip(s.ID)
	if count > 1 {
		p += " #" + strconv.Itoa(count)
	}
	return p
}

// match takes the segments of nodes, in their order. first is how many of the
// nodes' first segment were taken already.
func (c *checker) match(nodes []node, depth int, loop string, loopCount int) {
	for i := range nodes {
		n := &nodes[i]
		count := 0
		for id := c.next(); id == n.id; id = c.next() {
			if i == 0 && n.inner == nil && loop == n.id && count == 1 {
				break // the loop's opener again: the loop's next round
			}
			count++
			if count == n.most+1 {
				code, what := "5", "segment"
				if n.inner != nil {
					code, what = "4", "loop"
				}
				c.segment(&c.set.Segments[c.at], code, fmt.Sprintf("The %s %s stands more than %d times.", what, n.id, n.most))
			}
			if n.inner != nil {
				c.match(n.inner, depth+1, n.id, count)
				continue
			}
			k := count
			if loop == n.id && i == 0 {
				k = loopCount
			}
			c.take(depth, loop, k)
		}
		ended := n.id == "SE" && len(c.set.Segments) > 0 && c.set.Segments[len(c.set.Segments)-1].ID != "SE" // the envelope has said so
		if count == 0 && n.needed() && !ended {
			at := min(c.at, len(c.set.Segments)-1)
			s := &c.set.Segments[at]
			c.add(Finding{Level: AtSegment, Code: "3", Offset: s.Offset, Segment: n.id, Position: at + 1, Message: fmt.Sprintf("The segment %s (%s) must be there.", n.id, nameOf(n.id)), Place: "ST " + c.set.Control + " / " + n.id})
		}
		// Where the next segment belongs to nothing that may still come, it stands
		// in the wrong place: it is passed over, and matching goes on here.
		if depth == 0 {
			for id := c.next(); id != "" && !comes(nodes[i:], id) && id != "SE"; id = c.next() {
				c.misplaced()
				if id = c.next(); id == n.id && n.inner != nil {
					for ; c.next() == n.id; count++ {
						c.match(n.inner, depth+1, n.id, count+1)
					}
				}
			}
		}
	}
}

// needed reports whether a segment, or the segment that opens a loop, must be there.
func (n *node) needed() bool { return n.must || len(n.inner) > 0 && n.inner[0].must }

// comes reports whether a segment can still come among nodes.
func comes(nodes []node, id string) bool {
	for i := range nodes {
		if nodes[i].id == id {
			return true
		}
	}
	return false
}

func (c *checker) misplaced() {
	s := &c.set.Segments[c.at]
	c.segment(s, "7", fmt.Sprintf("The segment %s stands where it does not belong.", clip(s.ID)))
	c.placed = append(c.placed, Placed{Segment: s, Count: 1})
	c.at++
}

func (c *checker) take(depth int, loop string, count int) {
	s := &c.set.Segments[c.at]
	c.placed = append(c.placed, Placed{s, depth, loop, count})
	c.elements(s, count)
	c.at++
}

func nameOf(id string) string {
	if d := segments[id]; d != nil {
		return d.name
	}
	return ""
}

// elements checks a segment's elements against its definition.
func (c *checker) elements(s *Segment, count int) {
	def := segments[s.ID]
	if def == nil {
		return
	}
	say := func(code string, n, component int, value, format string, args ...any) {
		place := fmt.Sprintf("%s / %02d", c.place(s, count), n)
		if component > 0 {
			place += "-" + strconv.Itoa(component)
		}
		c.add(Finding{Level: AtElement, Code: code, Offset: s.Offset, Segment: s.ID, Position: c.at + 1, Element: n, Component: component, Value: clip(value), Message: fmt.Sprintf(format, args...), Place: place})
	}
	for i := range s.Len() {
		value := s.Bytes(i + 1)
		if i >= len(def.elements) {
			say("3", i+1, 0, string(value), "%s has %d elements at most.", s.ID, len(def.elements))
			break
		}
		use := def.elements[i]
		if len(value) == 0 {
			continue
		}
		if comp := composites[use.ref]; comp != nil {
			for k, part := range bytes.Split(value, []byte{c.component}) {
				if k >= len(comp.elements) {
					say("3", i+1, k+1, string(part), "%s has %d components at most.", comp.name, len(comp.elements))
					break
				}
				if len(part) > 0 {
					c.value(elements[comp.elements[k].ref], string(part), func(code, format string, args ...any) { say(code, i+1, k+1, string(part), format, args...) })
				}
			}
			continue
		}
		c.value(elements[use.ref], string(value), func(code, format string, args ...any) { say(code, i+1, 0, string(value), format, args...) })
	}
	filled := func(n int) bool { return len(s.Bytes(n)) > 0 }
	name := func(n int) string { return fmt.Sprintf("%s%02d", s.ID, n) }
	for i, use := range def.elements {
		if use.must && !filled(i+1) {
			say("1", i+1, 0, "", "%s (%s) must be there.", name(i+1), titleOf(use.ref))
		}
	}
	for _, n := range def.notes {
		have, first := 0, 0
		for _, at := range n.at {
			if filled(at) {
				have++
				if first == 0 {
					first = at
				}
			}
		}
		list := make([]string, len(n.at))
		for i, at := range n.at {
			list[i] = name(at)
		}
		missing := func() int {
			for _, at := range n.at {
				if !filled(at) {
					return at
				}
			}
			return n.at[0]
		}
		switch {
		case n.kind == 'P' && have > 0 && have < len(n.at):
			say("2", missing(), 0, "", "%s stand together or not at all; %s is there.", strings.Join(list, " and "), name(first))
		case n.kind == 'R' && have == 0:
			say("2", n.at[0], 0, "", "At least one of %s must be there.", strings.Join(list, ", "))
		case n.kind == 'E' && have > 1:
			say("10", n.at[len(n.at)-1], 0, "", "Only one of %s may be there.", strings.Join(list, ", "))
		case n.kind == 'C' && filled(n.at[0]) && have < len(n.at):
			say("2", missing(), 0, "", "%s is there, so %s must be.", name(n.at[0]), strings.Join(list[1:], " and "))
		case n.kind == 'L' && filled(n.at[0]) && have == 1:
			say("2", n.at[1], 0, "", "%s is there, so one of %s must be.", name(n.at[0]), strings.Join(list[1:], ", "))
		}
	}
}

func titleOf(ref string) string {
	if e := elements[ref]; e != nil {
		return e.name
	}
	if c := composites[ref]; c != nil {
		return c.name
	}
	return ref
}

// value checks one value by its element's type, lengths and codes.
func (c *checker) value(def *elementDef, v string, say func(code, format string, args ...any)) {
	if def == nil {
		return
	}
	if c.repetition != 0 && strings.IndexByte(v, c.repetition) >= 0 {
		for _, one := range strings.Split(v, string(c.repetition)) {
			c.value(def, one, say)
		}
		return
	}
	length, wrong := len([]rune(v)), ""
	switch def.kind[0] {
	case 'N':
		digits := strings.TrimPrefix(v, "-")
		length = len(digits)
		if strings.Trim(digits, "0123456789") != "" || digits == "" {
			wrong = "a whole number: digits, with a minus in front at most"
		}
	case 'R':
		digits := strings.TrimPrefix(v, "-")
		plain := strings.Replace(digits, ".", "", 1)
		length = len(plain)
		if strings.Trim(plain, "0123456789") != "" || plain == "" {
			wrong = "a number: digits, with a point and a minus in front at most"
		}
	default:
		for _, r := range v {
			if r < ' ' || r == 0x7f {
				wrong = "text without control characters"
			}
		}
	}
	switch {
	case wrong != "":
		say("6", "%q is not %s (%s).", clip(v), wrong, def.name)
		return
	case length < def.min:
		say("4", "%q is too short for %s: %d to %d characters.", clip(v), def.name, def.min, def.max)
		return
	case length > def.max:
		say("5", "%q is too long for %s: %d to %d characters.", clip(v), def.name, def.min, def.max)
		return
	}
	switch def.kind {
	case "DT":
		if _, err := day(v); err != nil {
			say("8", "%q is not a day written CCYYMMDD (%s).", v, def.name)
		}
	case "TM":
		if !timeOfDay(v) {
			say("9", "%q is not a time written HHMM, HHMMSS or HHMMSSdd (%s).", v, def.name)
		}
	case "ID":
		if _, known := def.codes[v]; !known && len(def.codes) > 0 && !def.open {
			say("7", "%q is not a code of %s.", v, def.name)
		}
	}
}

func day(v string) (time.Time, error) {
	if len(v) == 6 {
		return time.Parse("060102", v)
	}
	return time.Parse("20060102", v)
}

func timeOfDay(v string) bool {
	if len(v) != 4 && len(v) != 6 && len(v) != 7 && len(v) != 8 || strings.Trim(v, "0123456789") != "" {
		return false
	}
	return v[:2] < "24" && v[2:4] < "60" && (len(v) < 6 || v[4:6] < "60")
}

// Meaning spells an element's code out; "" is none that the dictionary has.
func Meaning(segment string, n int, value string) (name, meaning string) {
	def := segments[segment]
	if def == nil || n < 1 || n > len(def.elements) {
		return "", ""
	}
	ref := def.elements[n-1].ref
	if e := elements[ref]; e != nil {
		return e.name, e.plain(value)
	}
	return titleOf(ref), ""
}

// plain says a value as people read it: a code's meaning, a date, an amount
// with its decimal point.
func (e *elementDef) plain(v string) string {
	switch {
	case e.codes[v] != "":
		return e.codes[v]
	case e.kind == "DT":
		if d, err := day(v); err == nil {
			return d.Format("2006-01-02")
		}
	case e.kind == "TM" && timeOfDay(v):
		return v[:2] + ":" + v[2:4]
	case len(e.kind) == 2 && e.kind[0] == 'N' && e.kind[1] != '0':
		return withPoint(v, int(e.kind[1]-'0'))
	}
	return ""
}

// withPoint puts the implied decimal point into a number of type Nn.
func withPoint(v string, places int) string {
	minus := strings.HasPrefix(v, "-")
	v = strings.TrimPrefix(v, "-")
	if strings.Trim(v, "0123456789") != "" || v == "" {
		return ""
	}
	for len(v) <= places {
		v = "0" + v
	}
	v = v[:len(v)-places] + "." + v[len(v)-places:]
	if minus {
		v = "-" + v
	}
	return v
}
