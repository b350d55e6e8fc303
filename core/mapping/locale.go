package mapping

import (
	"errors"
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"

	"koinos/core/order"
	"koinos/core/source"
)

// locale is how a document writes numbers and dates.
type locale struct {
	decimal  byte
	grouping byte // 0 is none; spaces of any kind are always allowed
	dates    []dateForm
}

// dateForm is a form such as d.m.yyyy, cut into parts.
type dateForm struct {
	text  string
	parts []datePart
}

type datePart struct {
	what    byte // 'd', 'm', 'y', or 0 for the literal
	width   int
	literal string
}

func parseDateForm(s string) (dateForm, error) {
	form := dateForm{text: s}
	seen := map[byte]bool{}
	for i := 0; i < len(s); {
		c := s[i] | 0x20
		if c != 'd' && c != 'm' && c != 'y' {
			form.parts = append(form.parts, datePart{literal: s[i : i+1]})
			i++
			continue
		}
		n := 1
		for i+n < len(s) && s[i+n]|0x20 == c {
			n++
		}
		if seen[c] || c == 'd' && n > 2 || c == 'm' && n > 3 || c == 'y' && n != 2 && n != 4 {
			return form, fmt.Errorf("write d or dd, m, mm or mmm, and yy or yyyy, each once")
		}
		seen[c] = true
		form.parts = append(form.parts, datePart{what: c, width: n})
		i += n
	}
	if len(seen) != 3 {
		return form, errors.New("it needs a day, a month and a year")
	}
	return form, nil
}

var monthNames = []string{"jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec"}

// parse reads a date of the form; text behind it must be a time of day.
func (f dateForm) parse(s string) (order.Date, bool) {
	var d, m, y int
	for _, p := range f.parts {
		if p.what == 0 {
			if !strings.HasPrefix(s, p.literal) {
				return "", false
			}
			s = s[len(p.literal):]
			continue
		}
		if p.what == 'm' && p.width == 3 {
			if len(s) < 3 {
				return "", false
			}
			for i, name := range monthNames {
				if strings.EqualFold(s[:3], name) {
					m = i + 1
				}
			}
			s = s[3:]
			continue
		}
		least, most := p.width, p.width
		if p.what != 'y' {
			least, most = p.width, 2
		}
		n := 0
		for n < len(s) && n < most && s[n] >= '0' && s[n] <= '9' {
			n++
		}
		if n < least {
			return "", false
		}
		v, _ := strconv.Atoi(s[:n])
		switch s = s[n:]; p.what {
		case 'd':
			d = v
		case 'm':
			m = v
		case 'y':
			if y = v; p.width == 2 {
				y += 1900
				if v < 70 { // the usual pivot: 69 is 2069, 70 is 1970
					y += 100
				}
			}
		}
	}
	if s != "" && !timeOfDay(s) {
		return "", false
	}
	return day(y, m, d)
}

func timeOfDay(s string) bool {
	if s[0] != ' ' && s[0] != 'T' {
		return false
	}
	return strings.Trim(s[1:], "0123456789:.+-ZapmAPM ") == "" && strings.Contains(s, ":")
}

func day(y, m, d int) (order.Date, bool) {
	if y < 1900 || y > 9999 || m < 1 || m > 12 || d < 1 || d > 31 || d > 28 && time.Date(y, time.Month(m), d, 0, 0, 0, 0, time.UTC).Day() != d {
		return "", false
	}
	b := [10]byte{byte('0' + y/1000), byte('0' + y/100%10), byte('0' + y/10%10), byte('0' + y%10), '-', byte('0' + m/10), byte('0' + m%10), '-', byte('0' + d/10), byte('0' + d%10)}
	return order.Date(b[:]), true
}

var isoForm, _ = parseDateForm("yyyy-mm-dd")

// date reads a cell as a day. The error says what to do, without the value.
func (l *locale) date(c source.Cell) (order.Date, error) {
	if d, ok := isoForm.parse(c.Text); ok {
		return d, nil
	}
	if c.Kind == source.Number {
		return "", errors.New("the cell holds a number that is not formatted as a date")
	}
	for _, form := range l.dates {
		if d, ok := form.parse(c.Text); ok {
			return d, nil
		}
	}
	forms := "yyyy-mm-dd"
	for _, f := range l.dates {
		forms += " or " + f.text
	}
	return "", fmt.Errorf("a day written %s was expected", forms)
}

var spaces = strings.NewReplacer(" ", "", "\u00a0", "", "\u202f", "", "\u2009", "")

// number reads a cell as an exact number.
func (l *locale) number(c source.Cell, percent bool) (order.Number, error) {
	s := c.Text
	if percent {
		s = strings.TrimRight(strings.TrimSuffix(s, "%"), " \u00a0")
	}
	switch c.Kind {
	case source.Number:
		n, err := order.ParseNumber(s)
		if err != nil {
			return n, errors.New("a plain number was expected")
		}
		return n, nil
	case source.Day:
		return order.Number{}, errors.New("the cell holds a date: a spreadsheet may have turned the number into one")
	}
	if l.decimal == '.' && plainNumber(s) {
		return parsed(order.ParseNumber(s))
	}
	s = spaces.Replace(s)
	whole, fraction, _ := strings.Cut(s, string(l.decimal))
	if l.grouping != 0 && strings.IndexByte(whole, l.grouping) >= 0 {
		groups := strings.Split(strings.TrimLeft(whole, "+-"), string(l.grouping))
		for i, g := range groups {
			if i > 0 && len(g) != 3 || i == 0 && (len(g) == 0 || len(g) > 3) {
				return order.Number{}, fmt.Errorf("a number with the decimal sign %q was expected; here %q seems to be it", l.decimal, l.grouping)
			}
		}
		whole = strings.ReplaceAll(whole, string(l.grouping), "")
	}
	if fraction != "" {
		whole += "." + fraction
	}
	if !plainNumber(whole) {
		other := byte('.')
		if l.decimal == '.' {
			other = ','
		}
		if strings.Count(s, string(other)) == 1 && plainNumber(strings.Replace(s, string(other), ".", 1)) {
			return order.Number{}, fmt.Errorf("a number with the decimal sign %q was expected; here %q seems to be it", l.decimal, other)
		}
		return order.Number{}, fmt.Errorf("a number with the decimal sign %q was expected", l.decimal)
	}
	return parsed(order.ParseNumber(whole))
}

func parsed(n order.Number, err error) (order.Number, error) {
	if errors.Is(err, order.ErrTooLong) {
		return n, errors.New("it has more than 19 digits")
	}
	return n, err
}

func plainNumber(s string) bool {
	if s != "" && (s[0] == '-' || s[0] == '+') {
		s = s[1:]
	}
	digits, points := 0, 0
	for i := 0; i < len(s); i++ {
		switch {
		case s[i] >= '0' && s[i] <= '9':
			digits++
		case s[i] == '.':
			points++
		default:
			return false
		}
	}
	return digits > 0 && points <= 1
}

var mangledPattern = regexp.MustCompile(`^[0-9]([.,][0-9]+)?[eE]\+[0-9]+$`)

// mangled reports whether a code can only be the rounded rest of a longer one.
func mangled(c source.Cell) bool {
	if c.Kind == source.Number {
		return len(c.Text) > 15 && !strings.Contains(c.Text, ".")
	}
	return len(c.Text) > 3 && (strings.Contains(c.Text, "E+") || strings.Contains(c.Text, "e+")) && mangledPattern.MatchString(c.Text)
}
