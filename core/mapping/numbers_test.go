package mapping

import (
	"strings"
	"testing"

	"koinos/core/order"
	"koinos/core/source"
)

func TestNumbers(t *testing.T) {
	point, comma := &Locale{DecimalSign: '.', grouping: ','}, &Locale{DecimalSign: ',', grouping: '.'}
	for _, c := range []struct {
		locale     *Locale
		text, want string // with the word beside it; ! begins what the error says
	}{
		{point, "1,234.50", "1234.50"}, {point, "12", "12"}, {point, "-3.5", "-3.5"}, {point, ".5", "0.5"}, {point, "5.", "5"},
		{point, "1 234 567.8", "1234567.8"}, {point, "1\u202f234", "1234"}, {point, "(1,200.00)", "-1200.00"}, {point, "12.50- EUR", "-12.50 EUR"},
		{point, "€ 1,200", "1200 €"}, {point, "4 boxes", "4 boxes"}, {point, "Nr.5", "5 Nr"}, {point, "No. 5", "5 No"},
		{point, "1.2E+3", "1200"}, {point, "1.2e-3", "0.0012"}, {comma, "1,2E+3", "1200"}, {comma, "1.234,5", "1234.5"}, {comma, "1 234,5", "1234.5"},
		{comma, "0,375", "0.375"}, {comma, "-0,5 kg", "-0.5 kg"}, {point, "007", "7"},
		// neither thousands nor decimals
		{point, "0,375", "!','"}, {point, "00,375", "!','"}, {point, "1 20", "!space"}, {point, "12 3456", "!space"}, {point, "1,23,456", "!','"},
		{point, "1,2", "!','"}, {point, "1,234 567", "!decimal sign"}, {point, "1.5 500", "!decimal sign"}, {comma, "1.2E+3", "!decimal sign"},
		{comma, "1.5", "!'.'"}, {point, "4..20", "!decimal sign"}, {point, "n/a", "!decimal sign"}, {point, "3x4", "!decimal sign"},
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
	for _, good := range []string{"", "T00:00", " 23:59", "T23:59:60Z", "T10:00:00.123+02:00", "T10:00+0200", "T10:00-05", " 10:00 PM", " 12:30pm", "T10:00:00,5Z",
		" 10:00 a.m."} {
		if d, err := l.Date(source.Cell{Text: "2025-07-14" + good}); err != nil || d != order.Date("2025-07-14") {
			t.Errorf("%q: %s %v", good, d, err)
		}
	}
	for _, bad := range []string{"T25:00:00Z", "T10:00+25:00", "T99:99:99", " 12:61", " 10:00:61", "T10:00:00+02:60", " 13:00 PM", " 0:30 am", "T10", " :", "x",
		" 10:00 10:00", "T24:00"} {
		if d, err := l.Date(source.Cell{Text: "2025-07-14" + bad}); err == nil {
			t.Errorf("%q is %s", bad, d)
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
