package x12

import (
	"bytes"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Placed is a segment of a set with its place in the structure.
type Placed struct {
	Segment *Segment
	Depth   int    // how many loops it stands in
	Loop    string // "" or the segment that opens the loop it stands in
	Count   int    // which occurrence of the loop, or else of the segment, counted from 1
	Parent  int    // index of the segment that opens the loop around it, or -1; of an opener that of the outer loop
	Stray   bool   // it stands where it does not belong
}

// Check compares a transaction set with the dictionary. It returns the set's segments with their places, and what is
// wrong with them, in document order. If the dictionary does not have the set, it returns one finding and the segments
// without structure.
func Check(set *Set) ([]Placed, []Finding) {
	c := &checker{set: set, component: set.Interchange.Delimiters.Component,
		repetition: set.Interchange.Delimiters.Repetition, version: set.version()}
	c.found = append(c.found, set.Findings...)
	c.placed = make([]Placed, 0, len(set.Segments))
	c.def = sets[set.ID]
	if c.def == nil {
		for i := range set.Segments {
			c.placed = append(c.placed, Placed{Segment: &set.Segments[i], Count: 1, Parent: -1})
		}
		code := "1"
		if len(set.ID) != 3 || !digits(set.ID) {
			code = "6"
		}
		c.add(Finding{Level: AtSet, Code: code, Offset: set.Segments[0].Offset, Row: set.Segments[0].Row, Segment: "ST",
			Position: 1, Element: 1, Value: set.ID,
			Message: fmt.Sprintf("The transaction set %q is not one that Koinos knows.", set.ID)})
		return c.placed, c.found
	}
	if g := set.Group; g != nil && g.FunctionalID != c.def.group {
		c.add(Finding{Level: AtSet, Code: "6", Offset: set.Segments[0].Offset, Row: set.Segments[0].Row, Segment: "ST",
			Position: 1, Element: 1, Value: set.ID,
			Message: fmt.Sprintf("A %s travels in a functional group of %s, not of %q.", set.ID, c.def.group,
				g.FunctionalID)})
	}
	if n := len(set.Control); n < 4 || n > 9 {
		c.add(Finding{Level: AtSet, Code: "7", Offset: set.Segments[0].Offset, Row: set.Segments[0].Row, Segment: "ST",
			Position: 1, Element: 2, Value: set.Control,
			Message: "The control number of a transaction set has four to nine characters."})
	}
	c.frames = append(c.frames[:0], frame{nodes: c.def.nodes, parent: -1})
	for c.at = range set.Segments {
		c.place()
	}
	c.at = len(set.Segments) - 1
	for len(c.frames) > 0 {
		f := c.top()
		c.skip(f, len(f.nodes))
		c.frames = c.frames[:len(c.frames)-1]
	}
	slices.SortStableFunc(c.found[len(set.Findings):], func(a, b Finding) int { return a.Position - b.Position })
	return c.placed, c.found
}

// version is that of the set's group, or else the interchange's, such as 004010.
func (s *Set) version() string {
	if s.Group != nil && len(s.Group.Version) >= 6 {
		return s.Group.Version[:6]
	}
	return s.Interchange.Version + "0"
}

// frame is an open loop, or the set itself.
type frame struct {
	nodes  []node
	at     int // node that was met last
	count  int // how often
	parent int // index in placed of its opener; -1 is the set itself
}

type checker struct {
	set                   *Set
	def                   *setDef
	version               string
	at                    int // segment that is looked at
	frames                []frame
	placed                []Placed
	found                 []Finding
	levels                map[string]int // of the HL loops, by their numbers
	component, repetition byte
	counts                map[loopKey]int // of loops, and how many placed segments it knows
	counted               int
}

func (c *checker) top() *frame { return &c.frames[len(c.frames)-1] }

func (c *checker) add(f Finding) { c.found = append(c.found, f) }

// segment adds a finding about the present segment.
func (c *checker) segment(code, format string, args ...any) {
	s := &c.set.Segments[c.at]
	c.add(Finding{Level: AtSegment, Code: code, Offset: s.Offset, Row: s.Row, Segment: clip(s.ID), Position: c.at + 1,
		Message: fmt.Sprintf(format, args...), Place: c.where(len(c.placed) - 1)})
}

// where is the place of a segment: ST 0004 / PO1 #3 / N1 #2 / N3.
func (c *checker) where(i int) string { return PlaceIn(c.set.Control, c.placed, i) }

// PlaceIn is the place of a placed segment of the set with a control number.
func PlaceIn(control string, placed []Placed, i int) string {
	var parts []string
	for ; i >= 0; i = placed[i].Parent {
		part := clip(placed[i].Segment.ID)
		if placed[i].Count > 1 {
			part += " #" + strconv.Itoa(placed[i].Count)
		}
		parts = append(parts, part)
	}
	parts = append(parts, "ST "+control)
	slices.Reverse(parts)
	return strings.Join(parts, " / ")
}

// place finds where the present segment belongs: in the innermost open loop from the present position on, or in one of
// the loops around it.
func (c *checker) place() {
	s := &c.set.Segments[c.at]
	key := idKey([]byte(s.ID))
	for d := len(c.frames) - 1; d >= 0; d-- {
		f := &c.frames[d]
		for j := f.at; j < len(f.nodes); j++ {
			if f.nodes[j].key != key || d > 0 && j == 0 {
				continue // a loop's opener again is the loop's next round, which is the outer one's to say
			}
			c.close(d)
			f = &c.frames[d]
			c.skip(f, j)
			c.enter(d, j)
			return
		}
	}
	if !c.def.segments[s.ID] {
		c.put(len(c.frames)-1, 1, true)
		if segments[s.ID] != nil {
			c.segment("6", "%q does not belong to the transaction set %s.", clip(s.ID), c.def.id)
		} else {
			c.segment("1", "%q is not a segment of X12.", clip(s.ID))
		}
		return
	}
	// It stands behind where it belongs. If it opens a loop, it begins a repetition nevertheless, so that the segments
	// of that loop are not reported as well.
	for d := len(c.frames) - 1; d >= 0; d-- {
		f := &c.frames[d]
		for j := range f.at {
			if f.nodes[j].id == s.ID && f.nodes[j].inner != nil {
				c.close(d)
				f = &c.frames[d]
				c.put(d, c.rounds(f.parent, s.ID)+1, true)
				c.segment("7", "The segment %s stands where it does not belong.", s.ID)
				c.elements(s)
				c.frames = append(c.frames, frame{nodes: f.nodes[j].inner, count: 1, parent: len(c.placed) - 1})
				return
			}
		}
	}
	c.put(c.home(s.ID), 1, true)
	c.segment("7", "The segment %s stands where it does not belong.", s.ID)
	c.elements(s)
}

// home is the innermost frame that has such a segment at all, or the set's.
func (c *checker) home(id string) int {
	for d := len(c.frames) - 1; d > 0; d-- {
		if slices.ContainsFunc(c.frames[d].nodes, func(n node) bool { return n.id == id }) {
			return d
		}
	}
	return 0
}

// close ends the loops within the dth frame.
func (c *checker) close(d int) {
	for len(c.frames) > d+1 {
		f := c.top()
		c.skip(f, len(f.nodes))
		c.frames = c.frames[:len(c.frames)-1]
	}
}

// skip moves on to the jth node of a frame and reports which mandatory nodes before it are missing.
func (c *checker) skip(f *frame, j int) {
	from := f.at
	if f.count > 0 {
		from++
	}
	for i := from; i < j; i++ {
		n := &f.nodes[i]
		if !n.needed() || n.id == "SE" { // the envelope says that a set has no SE
			continue
		}
		s := &c.set.Segments[c.at]
		place := "ST " + c.set.Control + " / "
		if f.parent >= 0 {
			place = c.where(f.parent) + " / "
		}
		c.add(Finding{Level: AtSegment, Code: "3", Offset: s.Offset, Row: s.Row, Segment: n.id, Position: c.at + 1,
			Message: fmt.Sprintf("The segment %s (%s) must be there.", n.id, nameOf(n.id)), Place: place + n.id})
	}
	if j != f.at {
		f.at, f.count = min(j, len(f.nodes)), 0
	}
}

// enter accepts the segment as the jth node of the dth frame.
func (c *checker) enter(d, j int) {
	f := &c.frames[d]
	f.count++
	n := &f.nodes[j]
	s := &c.set.Segments[c.at]
	c.put(d, f.count, false)
	if n.inner != nil {
		last := &c.placed[len(c.placed)-1]
		last.Depth, last.Loop = last.Depth+1, n.id
	}
	if f.count == n.most+1 {
		if n.inner != nil {
			c.segment("4", "The loop %s stands more than %d times.", n.id, n.most)
		} else {
			c.segment("5", "The segment %s stands more than %d times.", n.id, n.most)
		}
	}
	c.elements(s)
	if n.inner != nil {
		c.frames = append(c.frames, frame{nodes: n.inner, count: 1, parent: len(c.placed) - 1})
	}
}

func (c *checker) put(d, count int, stray bool) {
	p := Placed{Segment: &c.set.Segments[c.at], Depth: d, Count: count, Parent: c.frames[d].parent, Stray: stray}
	if d > 0 {
		p.Loop = c.frames[d].nodes[0].id
	}
	c.placed = append(c.placed, p)
}

// needed reports whether a segment, or the segment that opens a loop, is mandatory.
func (n *node) needed() bool { return n.must || len(n.inner) > 0 && n.inner[0].must }

func nameOf(id string) string {
	if d := segments[id]; d != nil {
		return d.name
	}
	return ""
}

// elements checks the elements of the segment that was placed last against its definition.
func (c *checker) elements(s *Segment) {
	def := segments[s.ID]
	if def == nil {
		return
	}
	say := func(code string, n, component int, value, format string, args ...any) {
		place := fmt.Sprintf("%s / %02d", c.where(len(c.placed)-1), n)
		if component > 0 {
			place += "-" + strconv.Itoa(component)
		}
		c.add(Finding{Level: AtElement, Code: code, Offset: s.Offset, Row: s.Row, Segment: s.ID, Position: c.at + 1,
			Element: n, Component: component, Value: clip(value), Message: fmt.Sprintf(format, args...), Place: place})
	}
	if s.ID == "HL" {
		c.level(s, say)
	}
	filled := func(n int) bool { return len(s.Bytes(n)) > 0 }
	name := func(n int) string { return fmt.Sprintf("%s%02d", s.ID, n) }
	for i := range def.elements {
		use := &def.elements[i]
		value := s.Bytes(i + 1)
		switch {
		case len(value) == 0 && use.must():
			say("1", i+1, 0, "", "%s (%s) must be there.", name(i+1), use.name())
		case len(value) == 0:
		case use.composite != nil:
			c.composite(use.composite, value, func(component int, code, value,
				message string) {
				say(code, i+1, component, value, "%s", message)
			})
		case c.repetition != 0 && bytes.IndexByte(value, c.repetition) >= 0:
			for one := range bytes.SplitSeq(value, []byte{c.repetition}) {
				if code := use.element.check(one, c.version); code != "" {
					say(code, i+1, 0, string(one), "%s", use.element.explain(code, string(one), c.version))
				}
			}
		default:
			if code := use.element.check(value, c.version); code != "" {
				say(code, i+1, 0, string(value), "%s", use.element.explain(code, string(value), c.version))
			}
		}
	}
	for i := len(def.elements); i < s.Len(); i++ {
		if len(s.Bytes(i+1)) > 0 || i == s.Len()-1 {
			say("3", i+1, 0, string(s.Bytes(i+1)), "%s has %d elements at most.", s.ID, len(def.elements))
			break
		}
	}
	for i := range def.notes {
		n := &def.notes[i]
		if code, at := n.broken(filled); code != "" {
			list := make([]string, len(n.at))
			for i, at := range n.at {
				list[i] = name(at)
			}
			say(code, at, 0, "", "%s", n.explain(list, filled))
		}
	}
}

// composite checks the components of a composite, each repetition on its own.
func (c *checker) composite(def *segmentDef, value []byte, say func(component int, code, value, message string)) {
	for one := range bytes.SplitSeq(value, []byte{cmpByte(c.repetition)}) {
		k := 0
		for part := range bytes.SplitSeq(one, []byte{c.component}) {
			if k++; k > len(def.elements) {
				say(k, "3", string(part), fmt.Sprintf("%s has %d components at most.", def.name, len(def.elements)))
				break
			}
			use := &def.elements[k-1]
			if len(part) == 0 {
				if use.must() {
					say(k, "1", "", fmt.Sprintf("Component %d (%s) must be there.", k, use.name()))
				}
				continue
			}
			if code := use.element.check(part, c.version); code != "" {
				say(k, code, string(part), use.element.explain(code, string(part), c.version))
			}
		}
	}
}

// cmpByte is a byte that cannot occur, for interchanges without a repetition separator.
func cmpByte(b byte) byte {
	if b == 0 {
		return 0xff
	}
	return b
}

// broken returns the code and the element of a broken syntax note: 2 for an element that is missing, 10 for one that is
// not allowed.
func (n *note) broken(filled func(int) bool) (code string, at int) {
	have, missing := 0, 0
	for _, at := range n.at {
		if filled(at) {
			have++
		} else if missing == 0 {
			missing = at
		}
	}
	switch n.kind {
	case 'P':
		if have > 0 && have < len(n.at) {
			return "2", missing
		}
	case 'R':
		if have == 0 {
			return "2", n.at[0]
		}
	case 'E':
		if have > 1 {
			return "10", n.at[len(n.at)-1]
		}
	case 'C':
		if filled(n.at[0]) && have < len(n.at) {
			return "2", missing
		}
	case 'L':
		if filled(n.at[0]) && have == 1 {
			return "2", n.at[1]
		}
	}
	return "", 0
}

// explain says in words which syntax note is broken.
func (n *note) explain(names []string, filled func(int) bool) string {
	switch n.kind {
	case 'P':
		first := ""
		for i, at := range n.at {
			if filled(at) && first == "" {
				first = names[i]
			}
		}
		return fmt.Sprintf("%s stand together or not at all; %s is there.", strings.Join(names, " and "), first)
	case 'R':
		return fmt.Sprintf("At least one of %s must be there.", strings.Join(names, ", "))
	case 'E':
		return fmt.Sprintf("Only one of %s may be there.", strings.Join(names, ", "))
	case 'C':
		return fmt.Sprintf("%s is there, so %s must be.", names[0], strings.Join(names[1:], " and "))
	}
	return fmt.Sprintf("%s is there, so one of %s must be.", names[0], strings.Join(names[1:], ", "))
}

// check returns the standard's error code for a value that its element does not allow by type, lengths or codes; "" if
// there is none.
func (e *elementDef) check(v []byte, version string) string {
	length := len(v)
	switch e.kind[0] {
	case 'N', 'R':
		length = 0
		points := 0
		for i, c := range v {
			switch {
			case c >= '0' && c <= '9':
				length++
			case c == '-' && i == 0:
			case c == '.' && e.kind[0] == 'R' && points == 0:
				points++
			default:
				return "6"
			}
		}
		if length == 0 {
			return "6"
		}
	default:
		for _, c := range v {
			if c < ' ' || c == 0x7f {
				return "6"
			}
			if c >= 0x80 && c < 0xc0 {
				length-- // a byte within a character of UTF-8
			}
		}
	}
	low, high := e.lengths(version)
	switch {
	case length < low:
		return "4"
	case length > high:
		return "5"
	}
	switch e.kind {
	case "DT":
		if !isDay(v) {
			return "8"
		}
	case "TM":
		if !isTime(v) {
			return "9"
		}
	case "ID":
		if len(e.codes) > 0 && e.codes[string(v)] == "" && (!e.open || e.capitals(v) != "") {
			return "7"
		}
	}
	return ""
}

// capitals is the code that a value in small letters stands for; "" if there is none.
func (e *elementDef) capitals(v []byte) string {
	for _, c := range v {
		if c >= 'a' && c <= 'z' {
			if upper := strings.ToUpper(string(v)); e.codes[upper] != "" {
				return upper
			}
			break
		}
	}
	return ""
}

// explain says in words what check found.
func (e *elementDef) explain(code, v, version string) string {
	v = clip(v)
	low, high := e.lengths(version)
	switch code {
	case "4":
		return fmt.Sprintf("%q is too short for %s: %d to %d characters.", v, e.name, low, high)
	case "5":
		return fmt.Sprintf("%q is too long for %s: %d to %d characters.", v, e.name, low, high)
	case "7":
		if is := e.capitals([]byte(v)); is != "" {
			return fmt.Sprintf("%q is not a code of %s; codes are written in capitals: %s.", v, e.name, is)
		}
		return fmt.Sprintf("%q is not a code of %s.", v, e.name)
	case "8":
		return fmt.Sprintf("%q is not a day written CCYYMMDD (%s).", v, e.name)
	case "9":
		return fmt.Sprintf("%q is not a time written HHMM, HHMMSS or HHMMSSdd (%s).", v, e.name)
	}
	what := map[byte]string{'N': "a whole number: digits, with a minus in front at most",
		'R': "a number: digits, with a point and a minus in front at most"}[e.kind[0]]
	if what == "" {
		what = "text without control characters"
	}
	return fmt.Sprintf("%q is not %s (%s).", v, what, e.name)
}

// isDay reports whether v is a day written CCYYMMDD, or YYMMDD.
func isDay(v []byte) bool {
	n := 0
	for _, c := range v {
		if c < '0' || c > '9' {
			return false
		}
		n = n*10 + int(c-'0')
	}
	if len(v) != 8 && len(v) != 6 {
		return false
	}
	y, m, d := n/10000, n/100%100, n%100
	if len(v) == 6 {
		y += 2000
	}
	return m >= 1 && m <= 12 && d >= 1 && d <= time.Date(y, time.Month(m)+1, 0, 0, 0, 0, 0, time.UTC).Day()
}

func isTime(v []byte) bool {
	for _, c := range v {
		if c < '0' || c > '9' {
			return false
		}
	}
	if len(v) != 4 && len(v) != 6 && len(v) != 7 && len(v) != 8 {
		return false
	}
	return string(v[:2]) < "24" && string(v[2:4]) < "60" && (len(v) < 6 || string(v[4:6]) < "60")
}

func day(v string) (time.Time, error) {
	if len(v) == 6 {
		return time.Parse("060102", v)
	}
	return time.Parse("20060102", v)
}

// Meaning is the meaning of an element's code; "" if the dictionary has none.
func Meaning(segment string, n int, value string) (name, meaning string) {
	def := segments[segment]
	if def == nil || n < 1 || n > len(def.elements) {
		return "", ""
	}
	use := &def.elements[n-1]
	if use.element != nil {
		return use.element.name, use.element.plain(value)
	}
	return use.name(), ""
}

// plain is a value as people read it: a code's meaning, a date, an amount with its decimal point.
func (e *elementDef) plain(v string) string {
	switch {
	case e.codes[v] != "":
		return e.codes[v]
	case e.kind == "DT":
		if d, err := day(v); err == nil {
			return d.Format("2006-01-02")
		}
	case e.kind == "TM" && isTime([]byte(v)):
		return v[:2] + ":" + v[2:4]
	case e.places() > 0:
		return withPoint(v, e.places())
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
