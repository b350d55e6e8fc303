package mapping

import (
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"
	_ "time/tzdata" // zones are named in mappings, wherever Koinos runs

	"koinos/core/finding"
	"koinos/core/grammar"
	"koinos/core/list"
	"koinos/core/order"
	"koinos/core/source"
)

// Locale is how a document writes numbers, dates and yes and no.
type Locale struct {
	DecimalSign byte
	grouping    byte // 0 is none; spaces of any kind are always allowed
	Dates       []DateForm
	zone        *time.Location
	yes, no     []string
	none        []string // folded: values that mean that there is none
	Mixed       bool     // a column was found to have days before months and months before days
	Undecided   bool     // no value of the column shows which of them comes first
}

// Date reads a cell as a day. The error says what to do, without the value.
func (l *Locale) Date(c source.Cell) (order.Date, error) {
	if isISO(c.Text) {
		return order.Date(c.Text), nil
	}
	if d, ok := ISOForm.Parse(c.Text); ok {
		if l.zone != nil && len(c.Text) > 10 {
			for _, form := range []string{time.RFC3339Nano, "2006-01-02 15:04:05Z07:00", "2006-01-02T15:04Z07:00"} {
				if t, err := time.Parse(form, c.Text); err == nil {
					return order.Date(t.In(l.zone).Format(time.DateOnly)), nil
				}
			}
		}
		return d, nil
	}
	number := c.Kind == source.Number || c.Kind == source.Exact
	for _, form := range l.Dates {
		if number && !form.counted() && len(c.Text) < 6 {
			continue
		}
		if form.since > 0 && l.zone != nil {
			if d, ok := form.count(c.Text, l.zone); ok {
				return d, nil
			}
		}
		if d, ok := form.Parse(c.Text); ok {
			return d, nil
		}
	}
	if number {
		return "", errors.New("the cell holds a number that is not formatted as a date (dates: serial reads a " +
			"spreadsheet's day number)")
	}
	forms := "yyyy-mm-dd"
	for _, f := range l.Dates {
		forms += " or " + f.Text
	}
	return "", fmt.Errorf("a day written %s was expected", forms)
}

// None reports whether a value stands for no value.
func (l *Locale) None(text string) bool {
	return len(l.none) > 0 && slices.Contains(l.none, list.Fold(text))
}

// Nones reports whether any value stands for no value.
func (l *Locale) Nones() bool { return len(l.none) > 0 }

// Boolean reads yes or no.
func (l *Locale) Boolean(text string) (value, ok bool) {
	word := list.Fold(text)
	for _, one := range []struct {
		words []string
		is    bool
	}{{l.yes, true}, {l.no, false}, {[]string{"true", "yes", "1", "x"}, true}, {[]string{"false", "no", "0"}, false}} {
		for _, w := range one.words {
			if list.Fold(w) == word {
				return one.is, true
			}
		}
	}
	return false, false
}

// DayIn reads text as a day of a form such as d.m.yyyy; false if it is none.
func DayIn(form, text string) (order.Date, bool) {
	f, known := formsSeen.Load(form)
	if !known {
		parsed, err := parseDateForm(form)
		if err != nil {
			return "", false
		}
		f = parsed
		formsSeen.Store(form, f)
	}
	return f.(DateForm).Parse(text)
}

// formsSeen remembers the forms that DayIn was called with: a few dozen, used often.
var formsSeen sync.Map

func (b *builder) locale(n *grammar.Node, l *Locale) {
	if s := n.Str("decimal"); s != "" {
		l.DecimalSign = s[0]
		l.grouping = map[byte]byte{'.': ',', ',': '.'}[s[0]]
	}
	if s := n.Str("grouping"); s == "none" {
		l.grouping = 0
	} else if s != "" {
		l.grouping = s[0]
	}
	if g := n.Get("grouping"); g != nil && l.grouping == l.DecimalSign {
		b.Add(finding.MappingWrongValue, g.At, g.Text, "grouping and decimal cannot be the same sign.")
	}
	if dates := n.List("dates"); dates != nil {
		l.Dates = nil
		for _, d := range dates {
			form, err := parseDateForm(d.Text)
			if err != nil {
				b.Add(finding.MappingWrongValue, d.At, d.Text, "%q is not a form of a date: %v.", d.Text, err)
				continue
			}
			l.Dates = append(l.Dates, form)
		}
	}
	if z := n.Get("zone"); z != nil {
		zone, err := time.LoadLocation(z.Text)
		if err != nil || z.Text == "Local" {
			b.Add(finding.MappingWrongValue, z.At, z.Text, "%q is not a time zone; write one such as Europe/Oslo.",
				z.Text)
		}
		l.zone = zone
	}
	if words := n.Strs("blank"); words != nil {
		l.none = nil
		for _, w := range words {
			l.none = append(l.none, list.Fold(w))
		}
	}
	if yes := n.Strs("yes"); yes != nil {
		l.yes = yes
	}
	if no := n.Strs("no"); no != nil {
		l.no = no
	}
}
