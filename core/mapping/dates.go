package mapping

import (
	"errors"
	"fmt"
	"koinos/core/order"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"
)

// DateForm is a form such as d.m.yyyy, split into parts.
type DateForm struct {
	Text   string
	parts  []datePart
	serial int           // a spreadsheet's day number: the first year of its count, 1900 or 1904
	since  time.Duration // the unit of a Unix time: a second or a millisecond
}

// counted reports whether the form is a number that counts days or seconds, which no other form can be taken for.
func (f DateForm) counted() bool { return f.serial > 0 || f.since > 0 }

type datePart struct {
	what    byte // 'd', 'm', 'y', 'w' for a week, 'n' for the name of a weekday, or 0 for the literal
	width   int
	literal string
}

func parseDateForm(s string) (DateForm, error) {
	switch s {
	case "serial":
		return DateForm{Text: s, serial: 1900}, nil
	case "serial-1904":
		return DateForm{Text: s, serial: 1904}, nil
	case "unix":
		return DateForm{Text: s, since: time.Second}, nil
	case "unix-ms":
		return DateForm{Text: s, since: time.Millisecond}, nil
	}
	form := DateForm{Text: s}
	seen := map[byte]bool{}
	for i := 0; i < len(s); {
		c := s[i] | 0x20
		if s[i] == '\'' || s[i] == '"' {
			end := strings.IndexByte(s[i+1:], s[i])
			if end < 0 {
				return form, fmt.Errorf("a word in it begins with %c and does not end", s[i])
			}
			form.parts = append(form.parts, datePart{literal: s[i+1 : i+1+end]})
			i += end + 2
			continue
		}
		if c != 'd' && c != 'm' && c != 'y' && c != 'w' {
			if c >= 'a' && c <= 'z' {
				return form, fmt.Errorf("words in it stand in single quotation marks: 'de'")
			}
			form.parts = append(form.parts, datePart{literal: s[i : i+1]})
			i++
			continue
		}
		n := 1
		for i+n < len(s) && s[i+n]|0x20 == c {
			n++
		}
		if c == 'd' && (n == 3 || n == 4) {
			c = 'n'
		}
		if seen[c] || c == 'd' && n > 2 || c == 'm' && n > 4 || c == 'y' && n != 2 && n != 4 || c == 'w' && n > 2 ||
			c == 'n' && n > 4 {
			return form, fmt.Errorf("write d or dd, ddd for the name of a weekday, m, mm, mmm or mmmm, w or ww for a " +
				"week, and yy or yyyy, each once; words in it stand in single quotation marks")
		}
		seen[c] = true
		form.parts = append(form.parts, datePart{what: c, width: n})
		i += n
	}
	if seen['w'] && (seen['d'] || seen['m'] || seen['n'] || !seen['y']) {
		return form, errors.New("a week needs a year, and nothing else")
	}
	if !seen['w'] && !(seen['d'] && seen['m'] && seen['y']) {
		return form, errors.New("it needs a day, a month and a year, or a week and a year")
	}
	return form, nil
}

// swapped reports whether two forms differ only in the order of day and month, so that a value such as 4/5/2026 fits
// both.
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

// monthNames are the names of the months in the languages of order documents. A value may be shortened to its first
// three letters or more.
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

// weekdayNames are the names of the days of the week, from Sunday on. A value may be shortened to its first two letters
// or more.
var weekdayNames = [7][]string{
	{"sunday", "sonntag", "dimanche", "domingo", "domenica", "zondag", "söndag", "søndag"},
	{"monday", "montag", "lundi", "lunes", "lunedì", "lunedi", "maandag", "måndag", "mandag", "segunda"},
	{"tuesday", "dienstag", "mardi", "martes", "martedì", "martedi", "dinsdag", "tisdag", "tirsdag", "terça"},
	{"wednesday", "mittwoch", "mercredi", "miércoles", "miercoles", "mercoledì", "mercoledi", "woensdag", "onsdag",
		"quarta"},
	{"thursday", "donnerstag", "jeudi", "jueves", "giovedì", "giovedi", "donderdag", "torsdag", "quinta"},
	{"friday", "freitag", "vendredi", "viernes", "venerdì", "venerdi", "vrijdag", "fredag", "sexta"},
	{"saturday", "samstag", "sonnabend", "samedi", "sábado", "sabado", "sabato", "zaterdag", "lördag", "lørdag"},
}

// weekdayName reads a weekday's name at the beginning of s, which may mean several days if it is shortened, and returns
// what follows.
func weekdayName(s string) (days [7]bool, rest string, ok bool) {
	end := strings.IndexFunc(s, func(r rune) bool { return !unicode.IsLetter(r) })
	if end < 0 {
		end = len(s)
	}
	word := strings.ToLower(s[:end])
	if utf8.RuneCountInString(word) < 2 {
		return days, "", false
	}
	for i, names := range weekdayNames {
		for _, name := range names {
			days[i] = days[i] || strings.HasPrefix(name, word)
			ok = ok || days[i]
		}
	}
	return days, strings.TrimPrefix(s[end:], "."), ok
}

// monday returns the Monday of a week of ISO 8601.
func monday(year, week int) (order.Date, bool) {
	if year < 1900 || year > 9999 || week < 1 || week > 53 {
		return "", false
	}
	fourth := time.Date(year, 1, 4, 0, 0, 0, 0, time.UTC) // always in the first week
	t := fourth.AddDate(0, 0, 7*(week-1)-(int(fourth.Weekday())+6)%7)
	if y, w := t.ISOWeek(); y != year || w != week {
		return "", false // the year has no week 53
	}
	return order.Date(t.Format(time.DateOnly)), true
}

// monthName reads a month's name at the beginning of s and returns what follows.
func monthName(s string) (month int, rest string, ok bool) {
	end := strings.IndexFunc(s, func(r rune) bool { return !unicode.IsLetter(r) })
	if end < 0 {
		end = len(s)
	}
	word := strings.ToLower(s[:end])
	if utf8.RuneCountInString(word) < 3 {
		return 0, "", false
	}
	// The names of two months differ at the latest in their third letter (jun and jul, mar and mai), except French juin
	// and juillet, which differ in the fourth.
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
	if f.counted() {
		return f.count(s, time.UTC)
	}
	var d, m, y, w int
	var weekday *[7]bool
	for _, p := range f.parts {
		if p.what == 0 {
			if len(s) < len(p.literal) || !strings.EqualFold(s[:len(p.literal)], p.literal) {
				return "", false
			}
			s = s[len(p.literal):]
			continue
		}
		if p.what == 'n' {
			days, rest, ok := weekdayName(s)
			if !ok {
				return "", false
			}
			weekday, s = &days, rest
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
		case 'w':
			w = v
		case 'y':
			if y = v; p.width == 2 {
				y += 1900
				if v < 70 { // the usual pivot: 69 is 2069, 70 is 1970
					y += 100
				}
			}
		}
	}
	if s != "" && !timeOfDay(s) && !(f.compact() && clockDigits(s)) {
		return "", false
	}
	if w > 0 || f.week() {
		return monday(y, w)
	}
	date, ok := day(y, m, d)
	if ok && weekday != nil && !weekday[time.Date(y, time.Month(m), d, 0, 0, 0, 0, time.UTC).Weekday()] {
		return "", false // the name says another day
	}
	return date, ok
}

// compact reports whether the form is of digits without signs between them, behind which a time may follow without a
// sign.
func (f DateForm) compact() bool {
	return !slices.ContainsFunc(f.parts, func(p datePart) bool {
		return p.what == 0 || p.what == 'n' || p.width < 2 || p.what == 'm' && p.width > 2
	})
}

// clockDigits reports whether text is a time of day as HHMM or HHMMSS.
func clockDigits(s string) bool {
	return (len(s) == 4 || len(s) == 6) && strings.Trim(s, "0123456789") == "" && s[:2] < "24" && s[2:4] < "60" &&
		(len(s) == 4 || s[4:] <= "60")
}

// week reports whether the form is of weeks.
func (f DateForm) week() bool {
	return slices.ContainsFunc(f.parts, func(p datePart) bool { return p.what == 'w' })
}

// count reads a number that counts days or seconds. Those of before 1990, and of after 2100, are other numbers.
func (f DateForm) count(s string, zone *time.Location) (order.Date, bool) {
	if f.since == 0 {
		return f.day(s)
	}
	n, err := strconv.ParseInt(s, 10, 64)
	if err != nil || n < 0 || n > math.MaxInt64/int64(f.since) {
		return "", false
	}
	at := time.Unix(0, n*int64(f.since)).In(zone)
	if at.Year() < 1990 || at.Year() > 2100 {
		return "", false
	}
	return order.Date(at.Format(time.DateOnly)), true
}

// day reads a spreadsheet's day number. Numbers before March 1900 are refused, because programs disagree about them.
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

// clock matches a time of day, with or without an offset.
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

// isISO reports whether text is a day in the form that orders keep it in.
func isISO(s string) bool {
	if len(s) != 10 || s[4] != '-' || s[7] != '-' {
		return false
	}
	var part [3]int
	n := 0
	for i := range len(s) {
		switch c := s[i]; {
		case i == 4 || i == 7:
			n++
		case c < '0' || c > '9':
			return false
		default:
			part[n] = part[n]*10 + int(c-'0')
		}
	}
	return exists(part[0], part[1], part[2])
}

func exists(y, m, d int) bool {
	return y >= 1900 && y <= 9999 && m >= 1 && m <= 12 && d >= 1 && (d <= 28 || d <= 31 &&
		time.Date(y, time.Month(m), d, 0, 0, 0, 0, time.UTC).Day() == d)
}

func day(y, m, d int) (order.Date, bool) {
	if !exists(y, m, d) {
		return "", false
	}
	b := [10]byte{byte('0' + y/1000), byte('0' + y/100%10), byte('0' + y/10%10), byte('0' + y%10), '-',
		byte('0' + m/10), byte('0' + m%10), '-', byte('0' + d/10), byte('0' + d%10)}
	return order.Date(b[:]), true
}

// ISOForm is the form of ISO 8601.
var ISOForm, _ = parseDateForm("yyyy-mm-dd")

// writtenDay writes a day in the first form that can express it and is not a number that counts; a form of weeks can
// express Mondays only.
func (l *Locale) writtenDay(value string) string {
	t, err := time.Parse(time.DateOnly, value)
	if err != nil {
		return value
	}
	for _, form := range l.Dates {
		if !form.counted() && (!form.week() || t.Weekday() == time.Monday) {
			return form.written(t)
		}
	}
	return value
}

func (f DateForm) written(t time.Time) string {
	year, week := t.ISOWeek()
	if !f.week() {
		year = t.Year()
	}
	var b strings.Builder
	digits := func(i int) bool { // whether a part of the form is written in digits
		return i >= 0 && i < len(f.parts) && strings.IndexByte("ydw", f.parts[i].what) >= 0 ||
			i >= 0 && i < len(f.parts) && f.parts[i].what == 'm' && f.parts[i].width < 3
	}
	for i, p := range f.parts {
		if p.width == 1 && (digits(i-1) || digits(i+1)) {
			p.width = 2 // without a sign between them nobody could tell them apart
		}
		switch {
		case p.what == 0:
			b.WriteString(p.literal)
		case p.what == 'y' && p.width == 2:
			fmt.Fprintf(&b, "%02d", year%100)
		case p.what == 'y':
			b.WriteString(strconv.Itoa(year))
		case p.what == 'm' && p.width == 4:
			b.WriteString(t.Month().String())
		case p.what == 'm' && p.width == 3:
			b.WriteString(t.Format("Jan"))
		case p.what == 'm':
			fmt.Fprintf(&b, "%0*d", p.width, int(t.Month()))
		case p.what == 'w':
			fmt.Fprintf(&b, "%0*d", p.width, week)
		case p.what == 'n' && p.width == 3:
			b.WriteString(t.Format("Mon"))
		case p.what == 'n':
			b.WriteString(t.Weekday().String())
		default:
			fmt.Fprintf(&b, "%0*d", p.width, t.Day())
		}
	}
	return b.String()
}
