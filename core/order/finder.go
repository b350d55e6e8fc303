package order

import (
	"slices"
	"strings"
	"unicode"
)

// Finder finds the line of an order that a document means. Its methods return the positions, counted from 0, of the
// lines that can be meant, and no more than two: where there are several, nobody knows which. It keeps up with lines
// that are added behind the others, and with those of which Changed is called; ids and numbers of lines stay.
type Finder struct {
	of      *Order
	known   int // lines in the index
	numbers map[string][]int
	senders map[string][]int
	items   map[string][]int
	changed []int
}

// fewLines are looked through one by one: an index would cost more.
const fewLines = 48

// NewFinder returns a Finder for the lines of an order.
func NewFinder(o *Order) *Finder { return &Finder{of: o} }

// Changed says that the sender's id, or an item code, of the line at a position may have changed.
func (f *Finder) Changed(position int) {
	if f.known > 0 && !slices.Contains(f.changed, position) {
		f.changed = append(f.changed, position)
	}
}

// Numbered finds lines by their number; the first comes first.
func (f *Finder) Numbered(number string) []int {
	return f.find(&f.numbers, numberKey(number), nil, func(l *Line) bool { return SameNumber(l.Number, number) })
}

// OfSender finds lines by the sender's own id, whatever its letter case.
func (f *Finder) OfSender(id string) []int {
	if id == "" {
		return nil
	}
	return f.find(&f.senders, foldKey(id), f.changed, func(l *Line) bool { return strings.EqualFold(l.SenderLine, id) })
}

// OfItem finds lines that can be of the same item as another line.
func (f *Finder) OfItem(like *Line) (all []int) {
	same := func(l *Line) bool {
		field, _ := l.DifferentItem(like)
		return field == "" && l.SharesItem(like)
	}
	for _, c := range like.Codes() {
		if c[1] == "" {
			continue
		}
		for _, i := range f.find(&f.items, itemKey(c), f.changed, same) {
			if len(all) < enough && !slices.Contains(all, i) {
				all = append(all, i)
			}
		}
	}
	return all
}

// enough lines show that there are several.
const enough = 2

// find returns lines for which same is true: those that have a key in the index, and others that are looked at besides.
func (f *Finder) find(index *map[string][]int, key string, others []int, same func(*Line) bool) (all []int) {
	lines := f.of.Lines
	take := func(i int) (more bool) {
		if same(&lines[i]) && !slices.Contains(all, i) {
			all = append(all, i)
		}
		return len(all) < enough
	}
	if len(lines) <= fewLines {
		for i := 0; i < len(lines) && take(i); i++ {
		}
		return all
	}
	f.grow()
	for _, list := range [][]int{(*index)[key], others} {
		for k := 0; k < len(list) && len(all) < enough; k++ {
			take(list[k])
		}
	}
	return all
}

// grow adds the lines that are not in the index.
func (f *Finder) grow() {
	if f.numbers == nil {
		f.numbers, f.senders, f.items = map[string][]int{}, map[string][]int{}, map[string][]int{}
	}
	for ; f.known < len(f.of.Lines); f.known++ {
		l := &f.of.Lines[f.known]
		add := func(index map[string][]int, key string) { index[key] = append(index[key], f.known) }
		add(f.numbers, numberKey(l.Number))
		if l.SenderLine != "" {
			add(f.senders, foldKey(l.SenderLine))
		}
		for _, c := range l.Codes() {
			if c[1] != "" {
				add(f.items, itemKey(c))
			}
		}
	}
}

// itemKey returns the same text for all codes in a field that sameCode takes for equal.
func itemKey(code [2]string) string {
	if code[0] == "gtin" {
		code[1] = GTIN14(code[1])
	}
	return code[0] + " " + foldKey(code[1])
}

// SameNumber compares numbers of lines: 001 is the same as 1.
func SameNumber(a, b string) bool {
	return strings.EqualFold(strings.TrimLeft(a, "0"), strings.TrimLeft(b, "0"))
}

func numberKey(number string) string { return foldKey(strings.TrimLeft(number, "0")) }

// foldKey returns the same text for all that strings.EqualFold takes for equal.
func foldKey(s string) string {
	return strings.Map(func(r rune) rune {
		least := r
		for f := unicode.SimpleFold(r); f != r; f = unicode.SimpleFold(f) {
			least = min(least, f)
		}
		return least
	}, s)
}
