package order

import (
	"crypto/sha256"
	"slices"
	"strconv"
	"strings"
	"sync"

	"koinos/core/origin"
)

// Change is one field that differs between two orders.
type Change struct {
	Line   int          `json:"line,omitempty" doc:"Position of the line, counted from 1; 0 is the header"`
	LineID int          `json:"line_id,omitempty" doc:"Id of the line"`
	Field  string       `json:"field"`
	Was    string       `json:"was"`
	Is     string       `json:"is"`
	Place  origin.Place `json:"place,omitzero" doc:"Where in the document the new value stands"`
	At     string       `json:"at,omitempty" doc:"The place as a person says it"`
}

// Reason is the field of a change that gives the reason for the others.
const Reason = "reason"

// String describes the change in a line of text.
func (c *Change) String() string {
	where := c.Field
	if c.Field == Reason {
		return "because " + strconv.Quote(c.Is)
	}
	if c.Line > 0 {
		where = "line " + strconv.Itoa(c.Line) + " " + c.Field
	}
	return where + " was " + said(c.Was) + ", is " + said(c.Is)
}

// mostNamed is how many changes are named in a line.
const mostNamed = 4

// Named describes changes in a line of text, the first few fields by name; "" if there are none.
func Named(changes []Change) string { return NamedOf(changes, 0) }

// NamedOf is Named for changes of which some are not in the list.
func NamedOf(changes []Change, others int) string {
	var list []string
	for i := range changes[:min(len(changes), mostNamed)] {
		list = append(list, changes[i].String())
	}
	if more := len(changes) - len(list) + others; more > 0 {
		list = append(list, strconv.Itoa(more)+" more")
	}
	return strings.Join(list, "; ")
}

func said(s string) string {
	if s == "" {
		return "blank"
	}
	if r := []rune(s); len(r) > 40 {
		s = string(r[:39]) + "…"
	}
	return strconv.Quote(s)
}

// Each calls yield with every value that the sender gave: line 0 is the header, lines count from 1. Absent values are
// skipped, and so is what Koinos adds (its number, sums, status, revision). Numbers come in their shortest form, so
// that 2 and 2.00 are the same content.
func (o *Order) Each(yield func(line int, field, value string)) {
	for line := range len(o.Lines) + 1 {
		o.eachIn(line, func(_ int, family, name, value string) { yield(line, family+name, value) })
	}
}

// headerFields and lineFields are the fields of the two levels, each with its place in the table of fields.
var headerFields, lineFields = atLevel(fields, Header, 0), atLevel(fields, Lines, 0)

// saidHeader and saidLines are those that only a Statement has.
var saidHeader, saidLines = atLevel(statements, Header, len(fields)), atLevel(statements, Lines, len(fields))

type placed struct {
	*Field
	at int // counted from 1
}

func atLevel(table []Field, level Level, behind int) (list []placed) {
	for i := range table {
		f := &table[i]
		if f.Level != level || level == Header && f.Name == "number" {
			continue
		}
		list = append(list, placed{f, behind + i + 1})
	}
	return list
}

// eachSaid calls yield for the fields of a Statement that records of its kind have.
func eachSaid(o *Order, l *Line, list []placed, yield func(placed, string)) {
	for i := range list {
		if !list[i].Of(o.Statement.Kind) {
			continue
		}
		if v := list[i].Value(o, l); v != "" {
			yield(list[i], v)
		}
	}
}

// eachIn is Each for one level: the header (line 0) or one line. It also passes the field's place in the table; 0 is a
// field that is not in it. The field's name comes in two parts, which most callers do not need as one: its family, if
// it is of one, and its own name in it.
func (o *Order) eachIn(line int, yield func(at int, family, name, value string)) {
	list, l := o.level(line)
	for i := range list {
		if v := list[i].Value(o, l); v != "" {
			yield(list[i].at, "", list[i].Name, v)
		}
	}
	o.eachBeyond(line, yield)
}

// level returns the fields of a level, and its line.
func (o *Order) level(line int) ([]placed, *Line) {
	if line == 0 {
		return headerFields, nil
	}
	return lineFields, &o.Lines[line-1]
}

// eachBeyond is eachIn for what is not in the table of plain fields.
func (o *Order) eachBeyond(line int, yield func(at int, family, name, value string)) {
	give := func(family, name, value string) {
		if value != "" {
			yield(0, family, name, value)
		}
	}
	var l *Line
	said, charges, custom := saidHeader, o.Charges, o.Custom
	states := o.Statement != nil
	if line > 0 {
		l = &o.Lines[line-1]
		said, charges, custom = saidLines, l.Charges, l.Custom
		states = states && l.Statement != nil
	}
	if states {
		eachSaid(o, l, said, func(f placed, v string) { yield(f.at, "", f.Name, v) })
	}
	if line == 0 {
		for _, r := range byKey(o.References, func(r Reference) string { return r.Qualifier }) {
			give("reference.", r.Qualifier, r.Value)
		}
		for _, p := range byKey(o.Parties, func(p Party) string { return p.Role }) {
			for _, part := range partyParts {
				if v := *part.of(&p); v != "" {
					yield(0, p.Role, "."+part.name, v)
				}
			}
		}
	}
	eachExtra(charges, custom, give)
}

func eachExtra(charges []Charge, custom []Custom, give func(family, name, value string)) {
	for _, c := range byKey(charges, Charge.Field) {
		give("", c.Field(), c.Stated().plain())
	}
	for _, c := range byKey(custom, func(c Custom) string { return c.Name }) {
		give("custom.", c.Name, c.Value)
	}
}

// byKey returns a copy of list that is sorted by key.
func byKey[T any](list []T, key func(T) string) []T {
	if len(list) < 2 {
		return list
	}
	list = slices.Clone(list)
	slices.SortStableFunc(list, func(a, b T) int { return strings.Compare(key(a), key(b)) })
	return list
}

// Fingerprint is a SHA-256 over the order's content: two orders with the same fingerprint ask for the same goods on the
// same terms. Fingerprints of different versions of Koinos may differ for the same content.
func (o *Order) Fingerprint() [sha256.Size]byte {
	kept := fingerprinted.Get().(*[]byte)
	b := append((*kept)[:0], o.Kind...)
	for line := range len(o.Lines) + 1 {
		if line > 0 {
			b = append(b, 0)
		}
		o.eachIn(line, func(at int, family, name, value string) {
			if at > 0 {
				b = append(b, byte(at))
			} else {
				b = append(append(append(b, 0xff), family...), name...)
			}
			b = append(append(append(b, 1), value...), 2)
		})
	}
	*kept = b
	sum := sha256.Sum256(b)
	if cap(b) <= 64<<10 { // a huge order's is not kept
		fingerprinted.Put(kept)
	}
	return sum
}

// fingerprinted are buffers for what a fingerprint is of.
var fingerprinted = sync.Pool{New: func() any { return new([]byte) }}

// Diff lists what is different in b, in the order of Each. Lines are the same if they have the same id or, if neither
// order's lines have ids yet, the same position. A line that is gone is named by its position in a.
func Diff(a, b *Order) []Change {
	from := linesOf(a, b)
	to := make([]int, len(a.Lines)) // where each line of a is in b
	for n, at := range from {
		if at > 0 {
			to[at-1] = n + 1
		}
	}
	d := differ{a: a, b: b, list: make([]Change, 0, len(b.Lines)+4), gone: make([][]Change, len(a.Lines)+1)}
	d.level(0, 0)
	for n, at := range from {
		d.level(at, n+1)
	}
	list := append(d.list, d.gone[0]...)
	if len(list) == 0 {
		list = nil
	}
	for n := range a.Lines {
		if to[n] > 0 {
			list = append(list, d.gone[n+1]...)
			continue
		}
		a.eachIn(n+1, func(_ int, family, name, value string) {
			list = append(list, Change{Line: n + 1, LineID: a.Lines[n].ID, Field: family + name, Was: value})
		})
	}
	return list
}

// differ compares two orders level by level: the header, then each line.
type differ struct {
	a, b *Order
	was  []valued   // of the level that is compared
	list []Change   // what is new or different in b
	gone [][]Change // what b does not have any more, by the lines of a; 0 is the header
}

type valued struct {
	at           int
	field, value string
	seen         bool
}

// level compares line la of a with line lb of b; 0 is the header. For a new line, la has no meaning.
func (d *differ) level(la, lb int) {
	found := func(field, was, is string) {
		c := Change{Line: lb, Field: field, Was: was, Is: is}
		switch {
		case is == "" && lb > 0:
			c.LineID = d.a.Lines[la-1].ID
		case lb > 0:
			c.LineID = d.b.Lines[lb-1].ID
		}
		if is == "" {
			d.gone[la] = append(d.gone[la], c)
		} else {
			d.list = append(d.list, c)
		}
	}
	if lb > 0 && la == 0 {
		d.b.eachIn(lb, func(_ int, family, name, value string) { found(family+name, "", value) })
		return
	}
	list, a := d.a.level(la)
	_, b := d.b.level(lb)
	for i := range list {
		if f := &list[i]; !f.same(d.a, a, d.b, b) {
			found(f.Name, f.Value(d.a, a), f.Value(d.b, b))
		}
	}
	d.was = d.was[:0]
	d.a.eachBeyond(la, func(at int, family, name, value string) {
		d.was = append(d.was, valued{at, family + name, value, false})
	})
	next := 0 // both say their fields in the same order
	d.b.eachBeyond(lb, func(at int, family, name, value string) {
		field, was := family+name, ""
		for n := range d.was {
			w := &d.was[(next+n)%len(d.was)]
			if w.at == at && w.field == field && !w.seen {
				w.seen, was, next = true, w.value, next+n+1
				break
			}
		}
		if was != value {
			found(field, was, value)
		}
	})
	for _, w := range d.was {
		if !w.seen {
			found(w.field, w.value, "")
		}
	}
}

// linesOf returns, for each line of b, its position in a; 0 is a line that a does not have.
func linesOf(a, b *Order) []int {
	at := map[int]int{}
	for i := range a.Lines {
		if id := a.Lines[i].ID; id != 0 {
			at[id] = i + 1
		}
	}
	from := make([]int, len(b.Lines))
	for i := range b.Lines {
		switch id := b.Lines[i].ID; {
		case len(at) > 0 && (id != 0 || i >= len(a.Lines)):
			from[i] = at[id]
		case i < len(a.Lines):
			from[i] = i + 1
		}
	}
	return from
}

// NameLines gives each line without an id the next id. An id is never given twice.
func (o *Order) NameLines() {
	for i := range o.Lines {
		o.LastLine = max(o.LastLine, o.Lines[i].ID)
	}
	for i := range o.Lines {
		if l := &o.Lines[i]; l.ID == 0 {
			o.LastLine++
			l.ID = o.LastLine
		}
	}
}
