package order

import (
	"crypto/sha256"
	"slices"
	"strconv"
	"strings"
)

// Change is one field that differs between two orders.
type Change struct {
	Line  int    `json:"line,omitempty" doc:"Position of the line, counted from 1; 0 is the header"`
	Field string `json:"field"`
	Was   string `json:"was"`
	Is    string `json:"is"`
	At    string `json:"at,omitempty" doc:"Where in the document the new value stands"`
	Row   int    `json:"row,omitempty" doc:"The row of that place"`
}

// String says what changed in a line of text.
func (c *Change) String() string {
	where := c.Field
	if c.Line > 0 {
		where = "line " + strconv.Itoa(c.Line) + " " + c.Field
	}
	return where + " was " + said(c.Was) + ", is " + said(c.Is)
}

// mostNamed is how many changes are named in a line.
const mostNamed = 4

// Named says what changed in a line of text, the first few fields by name; ""
// where nothing did.
func Named(changes []Change) string {
	var list []string
	for i := range changes {
		if i == mostNamed {
			list = append(list, strconv.Itoa(len(changes)-mostNamed)+" more")
			break
		}
		list = append(list, changes[i].String())
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

// Each calls yield with every value that the sender gave: line 0 is the header,
// lines count from 1. Absent values are passed over. What Koinos itself adds
// (its number, sums, status, revision) is left out. Numbers come in their
// shortest form, so that 2 and 2.00 are the same content.
func (o *Order) Each(yield func(line int, field, value string)) {
	o.each(func(line, _ int, field, value string) { yield(line, field, value) })
}

// headerFields and lineFields are the fields of the two levels, each with its
// place in the table of fields.
var headerFields, lineFields = atLevel(Header), atLevel(Lines)

type placed struct {
	*Field
	at int // counted from 1
}

func atLevel(level Level) (list []placed) {
	for i := range fields {
		if f := &fields[i]; f.Level == level && (level != Header || f.Name != "number") {
			list = append(list, placed{f, i + 1})
		}
	}
	return list
}

// each is Each, and tells the field's place in the table; 0 is a field that is
// not in it.
func (o *Order) each(yield func(line, at int, field, value string)) {
	give := func(line int, field, value string) {
		if value != "" {
			yield(line, 0, field, value)
		}
	}
	for i := range headerFields {
		if v := headerFields[i].Value(o, nil); v != "" {
			yield(0, headerFields[i].at, headerFields[i].Name, v)
		}
	}
	for _, r := range byKey(o.References, func(r Reference) string { return r.Qualifier }) {
		give(0, "reference."+r.Qualifier, r.Value)
	}
	for _, p := range byKey(o.Parties, func(p Party) string { return p.Role }) {
		for _, part := range partyParts {
			if v := *part.of(&p); v != "" {
				yield(0, 0, p.Role+"."+part.name, v)
			}
		}
	}
	eachExtra(0, o.Charges, o.Custom, give)
	for n := range o.Lines {
		l := &o.Lines[n]
		for i := range lineFields {
			if v := lineFields[i].Value(o, l); v != "" {
				yield(n+1, lineFields[i].at, lineFields[i].Name, v)
			}
		}
		eachExtra(n+1, l.Charges, l.Custom, give)
	}
}

func eachExtra(line int, charges []Charge, custom []Custom, give func(int, string, string)) {
	for _, c := range byKey(charges, Charge.Field) {
		give(line, c.Field(), c.Amount.plain())
	}
	for _, c := range byKey(custom, func(c Custom) string { return c.Name }) {
		give(line, "custom."+c.Name, c.Value)
	}
}

// Field is the name under which Each gives the charge, e.g. charge.freight.
func (c Charge) Field() string {
	if c.Allowance {
		return "allowance." + c.Code
	}
	return "charge." + c.Code
}

// byKey gives list sorted by key, leaving list itself alone.
func byKey[T any](list []T, key func(T) string) []T {
	if len(list) < 2 {
		return list
	}
	list = slices.Clone(list)
	slices.SortStableFunc(list, func(a, b T) int { return strings.Compare(key(a), key(b)) })
	return list
}

// Fingerprint is a SHA-256 over the order's content: two orders of equal
// fingerprint ask for the same goods on the same terms. Another version of
// Koinos may take another one of the same content.
func (o *Order) Fingerprint() [sha256.Size]byte {
	b := make([]byte, 0, 512+192*len(o.Lines))
	b = append(b, o.Kind...)
	last := 0
	o.each(func(line, at int, field, value string) {
		if line != last { // lines come in turn
			b = append(b, 0)
			last = line
		}
		if at > 0 {
			b = append(b, byte(at))
		} else {
			b = append(append(b, 0xff), field...)
		}
		b = append(append(b, 1), value...)
		b = append(b, 2)
	})
	return sha256.Sum256(b)
}

// Diff lists what is different in b, in the order of Each; lines are compared
// by position.
func Diff(a, b *Order) []Change {
	type key struct {
		line  int
		field string
	}
	was := map[key]string{}
	a.Each(func(line int, field, value string) { was[key{line, field}] = value })
	var list []Change
	b.Each(func(line int, field, value string) {
		k := key{line, field}
		if was[k] != value {
			list = append(list, Change{Line: line, Field: field, Was: was[k], Is: value})
		}
		delete(was, k)
	})
	a.Each(func(line int, field, value string) {
		if _, gone := was[key{line, field}]; gone {
			list = append(list, Change{Line: line, Field: field, Was: value})
		}
	})
	return list
}
