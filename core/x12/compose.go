package x12

import (
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Style is how a partner wants interchanges to be written.
type Style struct {
	Delimiters Delimiters
	Version    string // 004010
	LineEnds   bool   // a line end behind each segment's terminator
	Characters string // basic, extended, latin-1 or utf-8
	Others     string // what becomes of other characters: replace (by their nearest) or refuse
	Delimiter  string // what becomes of a delimiter within a value: replace (by a space) or refuse
	Long       string // what becomes of a text that is too long: refuse or cut
}

// Writing is a transaction set that is being written. Its segments are in the loops that they belong to, in any order;
// the dictionary determines their order in the set.
type Writing struct {
	ID    string
	Notes []Finding // what was changed in values on the way, and what could not be written
	style *Style
	def   *setDef
	root  Loop
}

// Loop is a segment of a set that is being written, with the segments of its loop.
type Loop struct {
	id       string
	elements []string
	inner    []*Loop
	rows     int // where it stands in the set, counted from 1, when it has been written
}

// NewWriting begins a transaction set.
func NewWriting(id string, style *Style) (*Writing, error) {
	def := sets[id]
	if def == nil {
		return nil, fmt.Errorf("the dictionary has no transaction set %q", id)
	}
	return &Writing{ID: id, style: style, def: def}, nil
}

// Replace replaces an element, counted from 1, of a segment of the set's header.
func (w *Writing) Replace(segment string, element int, value string) {
	for _, l := range w.root.inner {
		if l.id == segment {
			l.set(element, value)
			return
		}
	}
}

// Root is the set itself, the loop around all others.
func (w *Writing) Root() *Loop { return &w.root }

// Open adds a further repetition of the loop that an address names.
func (w *Writing) Open(in *Loop, at *Address) *Loop {
	for _, id := range at.path[:len(at.path)-1] {
		in = in.child(id, nil)
	}
	if at.path[len(at.path)-1] == "HL" && in == &w.root && at.code("HL", 3) != "S" { // within a shipment
		in = in.child("HL", []condition{{element: 3, codes: []string{"S"}}})
	}
	l := &Loop{id: at.path[len(at.path)-1]}
	in.inner = append(in.inner, l)
	l.meet(at.at(len(at.path)))
	return l
}

// code is the code that a condition of the address requires in an element of its last segment.
func (a *Address) code(id string, element int) string {
	for _, c := range a.where {
		if c.element == element && len(c.codes) > 0 && !c.not {
			return c.codes[0]
		}
	}
	return ""
}

// at returns the conditions about the segment at a depth of the path.
func (a *Address) at(depth int) []condition {
	var list []condition
	for _, c := range a.where {
		if c.depth == depth && len(c.inner) == 0 && c.stride == 0 && !c.not {
			list = append(list, c)
		}
	}
	return list
}

func (l *Loop) get(n int) string {
	if n > len(l.elements) {
		return ""
	}
	return l.elements[n-1]
}

func (l *Loop) set(n int, v string) {
	for len(l.elements) < n {
		l.elements = append(l.elements, "")
	}
	l.elements[n-1] = v
}

// fits reports whether a segment meets conditions, or could if blank elements were filled.
func (l *Loop) fits(where []condition) bool {
	return !slices.ContainsFunc(where, func(c condition) bool {
		have := l.get(c.element)
		return have != "" && len(c.codes) > 0 && !slices.Contains(c.codes, have)
	})
}

// meet fills a segment so that it meets conditions.
func (l *Loop) meet(where []condition) {
	for _, c := range where {
		if l.get(c.element) == "" && len(c.codes) > 0 && c.codes[0] != "" {
			l.set(c.element, c.codes[0])
		}
	}
}

// child finds the segment of an id that meets conditions, or adds it.
func (l *Loop) child(id string, where []condition) *Loop {
	for _, c := range l.inner {
		if c.id == id && c.fits(where) {
			c.meet(where)
			return c
		}
	}
	c := &Loop{id: id}
	l.inner = append(l.inner, c)
	c.meet(where)
	return c
}

// find is child without adding a segment.
func (l *Loop) find(id string, where []condition) *Loop {
	for _, c := range l.inner {
		if c.id == id && c.fits(where) && !slices.ContainsFunc(where,
			func(w condition) bool { return c.get(w.element) == "" && !slices.Contains(w.codes, "") }) {
			return c
		}
	}
	return nil
}

// Put writes a value to an address, starting from a loop. It notes what had to be changed in the value, or why it
// cannot be written.
func (w *Writing) Put(in *Loop, at *Address, value string) {
	if len(at.path) > 0 && segments[at.path[0]] == nil {
		return // of an envelope, which is written around the set
	}
	l := in
	l.meet(at.at(0))
	for i, id := range at.path {
		if id == "HL" && l == &w.root && at.code("HL", 3) != "S" && i == 0 {
			l = l.child("HL", []condition{{element: 3, codes: []string{"S"}}})
		}
		l = l.child(id, at.at(i+1))
	}
	id := l.id
	n := at.element
	for i := range at.where {
		c := &at.where[i]
		if c.stride == 0 || c.depth != len(at.path) {
			continue
		}
		k, most, code := 0, len(segments[id].elements), c.codeOf(value)
		for ; c.element+k <= most; k += c.stride {
			if have := l.get(c.element + k); have == code || have == "" && l.get(n+k) == "" {
				break
			}
		}
		if c.element+k > most {
			w.note(id, n, "", value, "%s has no room for another pair of %s.", id, code)
			return
		}
		l.set(c.element+k, code)
		n += k
	}
	use := &segments[id].elements[n-1]
	if at.component > 0 || use.composite != nil {
		k := max(at.component, 1)
		parts := strings.Split(l.get(n), "\x00")
		for len(parts) < k {
			parts = append(parts, "")
		}
		parts[k-1] = w.text(id, n, use.composite.elements[min(k, len(use.composite.elements))-1].element, value)
		l.set(n, strings.Join(parts, "\x00"))
		return
	}
	l.set(n, w.text(id, n, use.element, value))
}

// gtinDigits are how many digits a GTIN has, by its qualifier (element 235).
var gtinDigits = map[string]int{"UP": 12, "EN": 13, "UK": 14}

// codeOf is the code of a condition with which a value is written: that of a GTIN of so many digits, or else the first.
func (c *condition) codeOf(value string) string {
	for _, code := range c.codes {
		if gtinDigits[code] == len(value) && digits(value) {
			return code
		}
	}
	return c.codes[0]
}

// Get returns the value at an address; "" if there is none.
func (w *Writing) Get(at *Address) string {
	l := &w.root
	for i, id := range at.path {
		if l = l.find(id, at.at(i+1)); l == nil {
			return ""
		}
	}
	return l.get(at.element)
}

// Count is how many repetitions of a loop there are in the whole set.
func (w *Writing) Count(id string) int { return w.root.count(id) }

func (l *Loop) count(id string) int {
	n := 0
	for _, c := range l.inner {
		if c.id == id {
			n++
		}
		n += c.count(id)
	}
	return n
}

// note records what was changed in a value or, with a code of the standard, what prevents the set from being sent.
func (w *Writing) note(segment string, element int, code, value, format string, args ...any) {
	w.Notes = append(w.Notes, Finding{Level: AtElement, Code: code, Segment: segment, Element: element,
		Value: clip(value), Place: fmt.Sprintf("%s / %02d", segment, element), Message: fmt.Sprintf(format, args...)})
}

// text is a value as its element is written.
func (w *Writing) text(segment string, n int, e *elementDef, value string) string {
	switch {
	case e.kind == "DT":
		v := strings.ReplaceAll(value, "-", "")
		if low, _ := e.lengths(w.style.Version); low == 6 && len(v) == 8 {
			v = v[2:]
		}
		return v
	case e.kind == "TM":
		return strings.ReplaceAll(value, ":", "")
	case e.places() >= 0:
		whole, fraction, _ := strings.Cut(value, ".")
		fraction = strings.TrimRight(fraction, "0")
		if len(fraction) > e.places() {
			w.note(segment, n, "6", value, "%q has more than the %d decimals that %s can have.", value, e.places(),
				e.name)
		}
		for len(fraction) < e.places() {
			fraction += "0"
		}
		sign := ""
		if strings.HasPrefix(whole, "-") {
			sign, whole = "-", whole[1:]
		}
		if v := strings.TrimLeft(whole+fraction, "0"); v != "" {
			return sign + v
		}
		return "0"
	case e.kind == "R":
		if strings.Contains(value, ".") {
			value = strings.TrimRight(strings.TrimRight(value, "0"), ".")
		}
		return value
	}
	plain, changed, refused := w.style.plain(value)
	switch {
	case refused != "":
		w.note(segment, n, "6", value, "%s holds %q, which the partner's characters do not have.", e.name, refused)
	case changed:
		w.note(segment, n, "", value, "%s was written %q.", e.name, plain)
	}
	if _, high := e.lengths(w.style.Version); len([]rune(plain)) > high && w.style.Long == "cut" {
		cut := strings.TrimSpace(string([]rune(plain)[:high]))
		w.note(segment, n, "", value, "%s was cut to %q.", e.name, cut)
		plain = cut
	}
	return plain
}

// lay puts the segments in the order of the dictionary.
func (w *Writing) lay() ([]*Loop, error) {
	var out []*Loop
	var bad []string
	var emit func(nodes []node, l *Loop, from int)
	levels := 0
	emit = func(nodes []node, l *Loop, from int) {
		used := make([]bool, len(l.inner))
		for i := from; i < len(nodes); i++ {
			for k, c := range l.inner {
				if used[k] || c.id != nodes[i].id {
					continue
				}
				used[k] = true
				out = append(out, c)
				if nodes[i].inner == nil {
					continue
				}
				if c.id == "HL" {
					w.level(c, nodes[i].inner, emit, &out, &levels, "")
				} else {
					emit(nodes[i].inner, c, 1)
				}
			}
		}
		for k, c := range l.inner {
			if !used[k] && c.id != "HL" {
				bad = append(bad, c.id)
			}
		}
	}
	emit(w.def.nodes, &w.root, 0)
	if len(bad) > 0 {
		return nil, fmt.Errorf("%s has no place for %s", w.ID, strings.Join(bad, ", "))
	}
	return out, nil
}

// level writes an HL loop and those within it, and numbers them.
func (w *Writing) level(l *Loop, nodes []node, emit func([]node, *Loop, int), out *[]*Loop, levels *int, up string) {
	*levels++
	number := strconv.Itoa(*levels)
	l.set(1, number)
	l.set(2, up)
	child := "0"
	if slices.ContainsFunc(l.inner, func(c *Loop) bool { return c.id == "HL" }) {
		child = "1"
	}
	l.set(4, child)
	emit(nodes, l, 1)
	for _, c := range l.inner {
		if c.id == "HL" {
			*out = append(*out, c)
			w.level(c, nodes, emit, out, levels, number)
		}
	}
}

// Envelope is the envelope around transaction sets.
type Envelope struct {
	SenderQualifier, Sender     string
	ReceiverQualifier, Receiver string
	GroupSender, GroupReceiver  string
	Usage                       string // P, T or I
	Acknowledge                 bool   // ask for a TA1
	Control, Group              int    // control numbers, each used once only
	At                          time.Time
}

// Write writes an interchange with one functional group. The sets' control numbers are counted from 0001.
func (e *Envelope) Write(out io.Writer, style *Style, writings []*Writing) error {
	if len(writings) == 0 {
		return errors.New("an interchange needs a transaction set")
	}
	d := style.Delimiters
	for _, c := range []byte{d.Element, d.Component, d.Segment} {
		if c == 0 || alphanumeric(c) {
			return fmt.Errorf("%q cannot be a delimiter", c)
		}
	}
	if d.Element == d.Component || d.Element == d.Segment || d.Component == d.Segment || d.Repetition != 0 &&
		(d.Repetition == d.Element || d.Repetition == d.Component || d.Repetition == d.Segment) {
		return errors.New("the delimiters are not all different")
	}
	if len(style.Version) < 6 || !digits(style.Version[:6]) {
		return fmt.Errorf("%q is no version such as 004010", style.Version)
	}
	if e.Control < 1 || e.Control > 999_999_999 || e.Group < 1 || e.Group > 999_999_999 {
		return fmt.Errorf("control numbers are from 1 to 999999999, not %d and %d", e.Control, e.Group)
	}
	var b strings.Builder
	segment := func(elements ...string) {
		for len(elements) > 1 && elements[len(elements)-1] == "" {
			elements = elements[:len(elements)-1]
		}
		b.WriteString(strings.ReplaceAll(strings.Join(elements, one(d.Element)), "\x00", one(d.Component)))
		b.WriteByte(d.Segment)
		if style.LineEnds && d.Segment != '\n' {
			b.WriteByte('\n')
		}
	}
	pad := func(s string, n int) string { return fmt.Sprintf("%-*.*s", n, n, s) }
	version, repetition := style.Version[:5], "U" // 00401 of 004010
	if version >= "00402" {
		if d.Repetition == 0 {
			return fmt.Errorf("version %s needs a repetition separator", style.Version)
		}
		repetition = one(d.Repetition)
	}
	asked := "0"
	if e.Acknowledge {
		asked = "1"
	}
	control, group := fmt.Sprintf("%09d", e.Control), strconv.Itoa(e.Group)
	segment("ISA", "00", pad("", 10), "00", pad("", 10), pad(e.SenderQualifier, 2), pad(e.Sender, 15),
		pad(e.ReceiverQualifier, 2), pad(e.Receiver, 15),
		e.At.Format("060102"), e.At.Format("1504"), repetition, version, control, asked, pad(e.Usage, 1),
		one(d.Component))
	day := e.At.Format("20060102")
	if style.Version < "004010" {
		day = e.At.Format("060102")
	}
	segment("GS", GroupOf(writings[0].ID), e.GroupSender, e.GroupReceiver, day, e.At.Format("1504"), group, "X",
		style.Version)
	for n, w := range writings {
		if GroupOf(w.ID) != GroupOf(writings[0].ID) {
			return fmt.Errorf("%s and %s do not travel in one group", writings[0].ID, w.ID)
		}
		loops, err := w.lay()
		if err != nil {
			return err
		}
		st := fmt.Sprintf("%04d", n+1)
		segment("ST", w.ID, st)
		for i, l := range loops {
			l.rows = i + 2
			segment(append([]string{l.id}, l.elements...)...)
		}
		segment("SE", strconv.Itoa(len(loops)+2), st)
	}
	segment("GE", strconv.Itoa(len(writings)), group)
	segment("IEA", "1", control)
	text := b.String()
	if style.Characters == "latin-1" { // whose characters are the first 256 of Unicode, a byte each
		bytes := make([]byte, 0, len(text))
		for _, r := range text {
			bytes = append(bytes, byte(r))
		}
		text = string(bytes)
	}
	_, err := io.WriteString(out, text)
	return err
}
