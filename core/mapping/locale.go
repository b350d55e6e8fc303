package mapping

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
	_ "time/tzdata" // zones are named in mappings, wherever Koinos runs
	"unicode"
	"unicode/utf8"

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
}

// DateForm is a form such as d.m.yyyy, cut into parts.
type DateForm struct {
	Text   string
	parts  []datePart
	serial int // a spreadsheet's day number: the first year of its count, 1900 or 1904
}

type datePart struct {
	what    byte // 'd', 'm', 'y', or 0 for the literal
	width   int
	literal string
}

func parseDateForm(s string) (DateForm, error) {
	switch s {
	case "serial":
		return DateForm{Text: s, serial: 1900}, nil
	case "serial-1904":
		return DateForm{Text: s, serial: 1904}, nil
	}
	form := DateForm{Text: s}
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
		if seen[c] || c == 'd' && n > 2 || c == 'm' && n > 4 || c == 'y' && n != 2 && n != 4 {
			return form, fmt.Errorf("write d or dd, m, mm, mmm or mmmm, and yy or yyyy, each once")
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

// swapped reports whether two forms differ only in that day and month change
// places, so that a value such as 4/5/2026 fits both.
func (f DateForm) swapped(g DateForm) bool {
	if len(f.parts) != len(g.parts) {
		return false
	}
	changed := false
	for i, p := range f.parts {
		q := g.parts[i]
		switch {
		case p.what == 'd' && q.what == 'm' && q.width < 3, p.what == 'm' && q.what == 'd' && p.width < 3:
			changed = true
		case p.what != q.what || p.literal != q.literal:
			return false
		}
	}
	return changed
}

// monthNames are the names of the months in the languages of order documents;
// a value may be cut short to its first three letters or more.
var monthNames = [12][]string{
	{"january", "januar", "janvier", "enero", "gennaio", "januari", "janeiro"},
	{"february", "februar", "février", "fevrier", "febrero", "febbraio", "februari", "fevereiro"},
	{"march", "märz", "maerz", "mrz", "mars", "marzo", "maart", "mrt", "março", "marts"},
	{"april", "avril", "abril", "aprile"},
	{"may", "mai", "mayo", "maggio", "mei", "maj", "maio"},
	{"june", "juni", "juin", "junio", "giugno", "junho"},
	{"july", "juli", "juillet", "julio", "luglio", "julho"},
	{"august", "août", "aout", "agosto", "augustus", "augusti"},
	{"september", "septembre", "septiembre", "settembre", "setembro"},
	{"october", "oktober", "octobre", "octubre", "ottobre", "outubro"},
	{"november", "novembre", "noviembre", "novembro"},
	{"december", "dezember", "décembre", "decembre", "diciembre", "dicembre", "desember", "dezembro"},
}

// monthName reads a month's name at the beginning of s and gives what follows.
func monthName(s string) (month int, rest string, ok bool) {
	end := strings.IndexFunc(s, func(r rune) bool { return !unicode.IsLetter(r) })
	if end < 0 {
		end = len(s)
	}
	word := strings.ToLower(s[:end])
	if utf8.RuneCountInString(word) < 3 {
		return 0, "", false
	}
	// The names of two months never begin alike for as long as they are unequal:
	// jun and jul, mar and mai differ in their third letter. French juin and
	// juillet differ in the fourth.
	for i, names := range monthNames {
		for _, name := range names {
			if strings.HasPrefix(name, word) {
				if month != 0 && month != i+1 {
					return 0, "", false
				}
				month = i + 1
			}
		}
	}
	return month, strings.TrimPrefix(s[end:], "."), month > 0
}

// Parse reads a date of the form; text behind it must be a time of day.
func (f DateForm) Parse(s string) (order.Date, bool) {
	if f.serial > 0 {
		return f.day(s)
	}
	var d, m, y int
	for _, p := range f.parts {
		if p.what == 0 {
			if !strings.HasPrefix(s, p.literal) {
				return "", false
			}
			s = s[len(p.literal):]
			continue
		}
		if p.what == 'm' && p.width >= 3 {
			var ok bool
			if m, s, ok = monthName(s); !ok {
				return "", false
			}
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
		v := 0
		for _, c := range []byte(s[:n]) {
			v = v*10 + int(c-'0')
		}
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

// day reads a spreadsheet's day number. Numbers before March 1900 are refused:
// programs disagree about them.
func (f DateForm) day(s string) (order.Date, bool) {
	whole, _, _ := strings.Cut(s, ".")
	n, err := strconv.Atoi(whole)
	if err != nil || n < 61 || n > 2_958_465 {
		return "", false
	}
	first := time.Date(1899, 12, 30, 0, 0, 0, 0, time.UTC)
	if f.serial == 1904 {
		first = time.Date(1904, 1, 1, 0, 0, 0, 0, time.UTC)
	}
	return order.Date(first.AddDate(0, 0, n).Format(time.DateOnly)), true
}

// clock fits a time of day, with an offset or without.
var clock = regexp.MustCompile(`^[ T](\d\d?):(\d\d)(?::(\d\d)(?:[.,]\d+)?)?(?: ?([AaPp])\.?[Mm]\.?)?` +
	`(?: ?(?:Z|[+-](\d\d):?(\d\d)?))?$`)

// timeOfDay reports whether text is a time that exists. A minute may have a leap second.
func timeOfDay(s string) bool {
	part := clock.FindStringSubmatch(s)
	if part == nil {
		return false
	}
	most := []int{0, 23, 59, 60, 0, 23, 59}
	if part[4] != "" {
		most[1] = 12
	}
	for i, text := range part[1:] {
		if n, err := strconv.Atoi(text); err == nil && n > most[i+1] {
			return false
		}
	}
	return part[4] == "" || part[1] != "0" && part[1] != "00"
}

func day(y, m, d int) (order.Date, bool) {
	if y < 1900 || y > 9999 || m < 1 || m > 12 || d < 1 || d > 31 || d > 28 &&
		time.Date(y, time.Month(m), d, 0, 0, 0, 0, time.UTC).Day() != d {
		return "", false
	}
	b := [10]byte{byte('0' + y/1000), byte('0' + y/100%10), byte('0' + y/10%10), byte('0' + y%10), '-',
		byte('0' + m/10), byte('0' + m%10), '-', byte('0' + d/10), byte('0' + d%10)}
	return order.Date(b[:]), true
}

// ISOForm is the form of ISO 8601.
var ISOForm, _ = parseDateForm("yyyy-mm-dd")

// Date reads a cell as a day. The error says what to do, without the value.
func (l *Locale) Date(c source.Cell) (order.Date, error) {
	if s := c.Text; len(s) == 10 && s[4] == '-' && s[7] == '-' {
		if _, ok := ISOForm.Parse(s); ok {
			return order.Date(s), nil
		}
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
		if number && form.serial == 0 && len(c.Text) < 6 {
			continue
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

// None reports whether a value means that there is none.
func (l *Locale) None(text string) bool {
	return len(l.none) > 0 && slices.Contains(l.none, list.Fold(text))
}

// Nones reports whether any value means that there is none.
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

// DayIn reads text as a day of a form such as d.m.yyyy; false where it is none.
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

// formsSeen keeps the forms that DayIn was asked for: a few dozen, asked often.
var formsSeen sync.Map
