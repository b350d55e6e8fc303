package mapping

import (
	"strings"
	"testing"
	"time"

	"koinos/core/order"
	"koinos/core/source"
)

func TestNumbers(t *testing.T) {
	point, comma := &Locale{DecimalSign: '.', grouping: ','}, &Locale{DecimalSign: ',', grouping: '.'}
	for _, c := range []struct {
		locale     *Locale
		text, want string // with the word beside it; ! begins what the error says
	}{
		{point, "1,234.50", "1234.50"}, {point, "12", "12"}, {point, "-3.5", "-3.5"}, {point, ".5", "0.5"},
		{point, "5.", "5"},
		{point, "1 234 567.8", "1234567.8"}, {point, "1\u202f234", "1234"}, {point, "1'234.50", "1234.50"}, {point,
			"1'234'567", "1234567"},
		{point, "12'34", "!decimal sign"}, {point, "5'10", "!decimal sign"}, {point, "(1,200.00)", "-1200.00"},
		{point, "12.50- EUR", "-12.50 EUR"},
		{point, "€ 1,200", "1200 €"}, {point, "4 boxes", "4 boxes"}, {point, "Nr.5", "5 Nr"}, {point, "No. 5", "5 No"},
		{point, "1.2E+3", "1200"}, {point, "1.2e-3", "0.0012"}, {comma, "1,2E+3", "1200"}, {comma, "1.234,5", "1234.5"},
		{comma, "1 234,5", "1234.5"}, {comma, "1\u2019234,5", "1234.5"},
		{comma, "0,375", "0.375"}, {comma, "-0,5 kg", "-0.5 kg"}, {point, "007", "7"},
		// neither thousands nor decimals
		{point, "0,375", "!','"}, {point, "00,375", "!','"}, {point, "1 20", "!space"}, {point, "12 3456", "!space"},
		{point, "1,23,456", "!','"},
		{point, "1,2", "!','"}, {point, "1,234 567", "!decimal sign"}, {point, "1.5 500", "!decimal sign"},
		{comma, "1.2E+3", "!decimal sign"},
		{comma, "1.5", "!'.'"}, {point, "4..20", "!decimal sign"}, {point, "n/a", "!decimal sign"},
		{point, "3x4", "!decimal sign"}, {comma, "a dozen", "!decimal sign"},
		{point, "1.2.3", "!decimal sign"}, {point, "12345678901234567890", "!19 digits"}, {point, "", "!decimal sign"},
	} {
		n, word, err := c.locale.Number(source.Cell{Text: c.text}, true)
		got := strings.TrimSpace(n.String() + " " + word)
		if why, wrong := strings.CutPrefix(c.want, "!"); wrong {
			if err == nil || !strings.Contains(err.Error(), why) {
				t.Errorf("%q is %s, %v; want %s", c.text, got, err, c.want)
			}
		} else if got != c.want || err != nil {
			t.Errorf("%q is %s, %v; want %s", c.text, got, err, c.want)
		}
	}
}

// A time that does not exist makes no date.
func TestTimes(t *testing.T) {
	l := &Locale{}
	for _, good := range []string{"", "T00:00", " 23:59", "T23:59:60Z", "T10:00:00.123+02:00", "T10:00+0200",
		"T10:00-05", " 10:00 PM", " 12:30pm", "T10:00:00,5Z",
		" 10:00 a.m."} {
		if d, err := l.Date(source.Cell{Text: "2025-07-14" + good}); err != nil || d != order.Date("2025-07-14") {
			t.Errorf("%q: %s %v", good, d, err)
		}
	}
	for _, bad := range []string{"T25:00:00Z", "T10:00+25:00", "T99:99:99", " 12:61", " 10:00:61", "T10:00:00+02:60",
		" 13:00 PM", " 0:30 am", "T10", " :", "x",
		" 10:00 10:00", "T24:00"} {
		if d, err := l.Date(source.Cell{Text: "2025-07-14" + bad}); err == nil {
			t.Errorf("%q is %s", bad, d)
		}
	}
}

// Behind a date of digits alone, a time of day may stand as digits, too; nothing else may. Unix times are those of our
// days.
func TestDigits(t *testing.T) {
	for _, c := range []struct{ form, text, day string }{
		{"yyyymmdd", "20260302103000", "2026-03-02"}, {"yyyymmdd", "202603021030", "2026-03-02"},
		{"yyyymmdd", "20260302 10:30", "2026-03-02"}, {"yyyymmdd", "20260302", "2026-03-02"},
		{"ddmmyyyy", "02032026235960", "2026-03-02"},
		{"yyyymmdd", "202603022400", ""}, {"yyyymmdd", "202603021060", ""}, {"yyyymmdd", "20260302103061", ""},
		{"yyyymmdd", "2026030210", ""}, {"yyyymmdd", "202603021", ""}, {"yyyymmdd", "20260302103000000", ""},
		{"unix", "1772445600", "2026-03-02"}, {"unix-ms", "1772445600000", "2026-03-02"}, {"unix", "1772445600000", ""},
		{"unix-ms", "1772445600", ""}, {"unix", "-5", ""}, {"unix", "417", ""}, {"unix", "1772445600.5", ""},
		{"unix-ms", "99999999999999999999", ""}, {"unix", "9223372036854775807", ""},
		{"yyyymmdd", "20260302ab30", ""}, {"yyyy-mm-dd", "2026-03-021030", ""}, {"d.m.yyyy", "2.3.20261030", ""},
	} {
		form, err := parseDateForm(c.form)
		if err != nil {
			t.Fatal(err)
		}
		if day, ok := form.Parse(c.text); string(day) != c.day || ok != (c.day != "") {
			t.Errorf("%s: %q is %q, %v; want %q", c.form, c.text, day, ok, c.day)
		}
	}
}

func FuzzNumber(f *testing.F) {
	f.Add("1.234,50- EUR", byte(','))
	f.Add("1.2E+3", byte('.'))
	f.Fuzz(func(t *testing.T, text string, sign byte) {
		l := &Locale{DecimalSign: '.', grouping: ','}
		if sign == ',' {
			l = &Locale{DecimalSign: ',', grouping: '.'}
		}
		if n, _, err := l.Number(source.Cell{Text: text}, true); err == nil && n.IsZero() && source.Trim(text) != "" {
			t.Errorf("%q is no number and no error", text)
		}
	})
}

// A form gives days that exist only, and reads what it writes as the same day.
func FuzzDateForm(f *testing.F) {
	for _, seed := range [][2]string{{"d.m.yyyy", "02.03.2026"}, {"'KW' ww yyyy", "KW 53 2026"}, {"d 'de' mmmm yyyy",
		"2 de março 2026"},
		{"ddd d/m/yy", "mar 3/3/26"}, {"yyyymmdd", "20260229"}, {"serial", "46083"}, {"m/d/yyyy", "13/1/2026"}} {
		f.Add(seed[0], seed[1])
	}
	f.Fuzz(func(t *testing.T, form, text string) {
		parsed, err := parseDateForm(form)
		if err != nil {
			return
		}
		day, ok := parsed.Parse(text)
		if !ok {
			return
		}
		if _, err := time.Parse(time.DateOnly, string(day)); err != nil {
			t.Fatalf("%q in the form %q is %q, which is no day", text, form, day)
		}
		written := (&Locale{Dates: []DateForm{parsed}}).writtenDay(string(day))
		if written == string(day) {
			return // it cannot be said in the form
		}
		if again, ok := parsed.Parse(written); !ok || again != day {
			t.Errorf("%q in the form %q is %s, written %q, which is %q", text, form, day, written, again)
		}
	})
}

func TestDateForms(t *testing.T) {
	for _, c := range []struct{ form, text, want string }{
		{"'KW' ww yyyy", "KW 12 2026", "2026-03-16"}, {"'KW' w/yyyy", "kw 1/2026", "2025-12-29"},
		{"yyyy-'W'ww", "2026-W53", "2026-12-28"},
		{"yyyy-'W'ww", "2025-W53", ""}, {"'KW' ww yyyy", "KW 0 2026", ""}, {"ww.yy", "12.26", "2026-03-16"},
		{"d 'de' mmmm 'de' yyyy", "2 de março de 2026", "2026-03-02"}, {"d 'de' mmmm 'de' yyyy", "2 de marzo 2026", ""},
		{"d 'de' mmm yyyy", "2 DE MAR 2026", "2026-03-02"},
		{"ddd d.m.yyyy", "Mo 2.3.2026", "2026-03-02"}, {"dddd, d mmmm yyyy", "Montag, 2 März 2026", "2026-03-02"},
		{"ddd. d/m/yyyy", "Di. 3/3/2026", ""},
		{"ddd d/m/yyyy", "mar 3/3/2026", "2026-03-03"}, {"ddd d/m/yyyy", "Mon 3/3/2026", ""},
		{"ddd d/m/yyyy", "xx 3/3/2026", ""}, {"d.m.yyyy", "2.3.2026 10:00", "2026-03-02"},
		{"d.m.yyyy 'Uhr'", "2.3.2026 Uhr", "2026-03-02"}, {"d de m yyyy", "", "!single quotation marks"},
		{"at d m yyyy", "", "!single quotation marks"}, {"ww", "", "!a week needs a year"},
		{"ww d yyyy", "", "!nothing else"},
		{"d.m", "", "!a day, a month and a year"}, {"d 'de m yyyy", "", "!does not end"},
		{"ddddd m yyyy", "", "!each once"},
	} {
		f, err := parseDateForm(c.form)
		if why, wrong := strings.CutPrefix(c.want, "!"); wrong {
			if err == nil || !strings.Contains(err.Error(), why) {
				t.Errorf("%s: %v, want %s", c.form, err, why)
			}
			continue
		}
		if err != nil {
			t.Fatal(c.form, err)
		}
		if got, _ := f.Parse(c.text); string(got) != c.want {
			t.Errorf("%q by %s is %q, want %q", c.text, c.form, got, c.want)
		}
	}
}

// What is written is read again as the same day, in every form.
func TestDatesWritten(t *testing.T) {
	for _, form := range []string{"d.m.yyyy", "dd/mm/yy", "ddd d mmm yyyy", "dddd, d 'of' mmmm yyyy", "'KW' ww yyyy",
		"yyyymmdd", "w/yy"} {
		f, err := parseDateForm(form)
		if err != nil {
			t.Fatal(err)
		}
		l := &Locale{Dates: []DateForm{f}}
		for _, day := range []string{"2026-03-02", "2026-03-03", "2025-12-29", "2026-12-28", "2024-02-29"} {
			text := l.writtenDay(day)
			if got, err := l.Date(source.Cell{Text: text}); err != nil || string(got) != day {
				t.Errorf("%s writes %s as %q, which reads %q %v", form, day, text, got, err)
			}
		}
	}
}
