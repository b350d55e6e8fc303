package order

import (
	"encoding/json"
	"errors"
	"reflect"
	"slices"
	"strings"
	"testing"
)

func TestParseNumber(t *testing.T) {
	for _, c := range []struct{ in, want string }{
		{"", ""}, {"0", "0"}, {"12.50", "12.50"}, {"-0.05", "-0.05"}, {"+7", "7"}, {"0012", "12"},
		{"9999999999999999999", "9999999999999999999"},
		{"0.0000000000000000001", "0.0000000000000000001"},
		{"1e3", "!"}, {".", "!"}, {"-", "!"}, {"1 000", "!"}, {"1,5", "!"}, {"12345678901234567890", "!"},
		{"1.2345678901234567890", "!"},
	} {
		n, err := ParseNumber(c.in)
		if got := n.String(); err == nil && got != c.want || (err != nil) != (c.want == "!") {
			t.Errorf("%q gives %q, %v; want %q", c.in, got, err, c.want)
		}
	}
	if _, err := ParseNumber("12345678901234567890"); !errors.Is(err, ErrTooLong) {
		t.Errorf("twenty digits: %v", err)
	}
}

func TestAmounts(t *testing.T) {
	for _, c := range []struct {
		name, currency, rounding           string
		quantity, price, basis, less, want string
	}{
		{"plain", "EUR", "half-up", "3", "1.10", "", "", "3.30"},
		{"a tie goes up", "EUR", "half-up", "1", "2.345", "", "", "2.35"},
		{"a tie below zero goes away from zero", "EUR", "half-up", "-1", "2.345", "", "", "-2.35"},
		{"a tie goes to even", "EUR", "half-even", "1", "2.345", "", "", "2.34"},
		{"cut off", "EUR", "down", "1", "2.349", "", "", "2.34"},
		{"no digits in yen", "JPY", "half-up", "3", "33.5", "", "", "101"},
		{"three digits in dinar", "KWD", "half-up", "3", "1.2345", "", "", "3.704"},
		{"price for ten", "EUR", "half-up", "25", "147.00", "10", "", "367.50"},
		{"price for three", "EUR", "half-up", "1", "10", "3", "", "3.33"},
		{"discount", "EUR", "half-up", "7", "19.99", "", "12.5", "122.44"},
		{"floats would say 0.29", "EUR", "down", "1", "0.30", "", "0", "0.30"},
	} {
		o := Order{Currency: c.currency, Lines: []Line{{Quantity: MustNumber(c.quantity),
			UnitPrice: MustNumber(c.price), PriceBasis: MustNumber(c.basis), DiscountPercent: MustNumber(c.less)}}}
		if _, err := o.Compute(Rounding(c.rounding)); err != nil || o.Lines[0].Amount.String() != c.want {
			t.Errorf("%s: %s, %v; want %s", c.name, o.Lines[0].Amount, err, c.want)
		}
	}
}

func TestTotal(t *testing.T) {
	o := Order{Currency: "EUR", Charges: []Charge{{Code: "freight", Amount: MustNumber("12.00")},
		{Allowance: true, Code: "bonus", Amount: MustNumber("2.50")}},
		Lines: []Line{
			{Quantity: MustNumber("2"), UnitPrice: MustNumber("10"), TaxPercent: MustNumber("20"),
				Charges: []Charge{{Code: "box", Amount: MustNumber("1")}}},
			{StatedAmount: MustNumber("5.55"), TaxPercent: MustNumber("7")},
		}}
	for treatment, want := range map[string]string{TaxExclusive: "40.44", TaxInclusive: "36.05", TaxExempt: "36.05"} {
		o.TaxTreatment = treatment
		if _, err := o.Compute(HalfUp); err != nil || o.Total.String() != want {
			t.Errorf("%s: total %s, %v; want %s", treatment, o.Total, err, want)
		}
	}
}

// What rates of tax are of: the lines' amounts alone, less allowances, or with charges. Those of the order are divided
// by the lines' amounts, also over lines that bear no tax.
func TestTaxBase(t *testing.T) {
	n := MustNumber
	lines := func(lines ...Line) []Line { return lines }
	less, more := Charge{Allowance: true, Code: "discount", Percent: n("5")}, Charge{Code: "freight", Amount: n("10")}
	for _, c := range []struct {
		name                           string
		lines                          []Line
		charges                        []Charge
		treatment, rounding            string
		ofLines, lessAllow, withCharge string // tax
	}{
		{"one rate, five per cent off the order, freight", lines(Line{StatedAmount: n("100"), TaxPercent: n("19")}), []Charge{less, more}, "", "",
			"19.00", "18.05", "19.95"},
		{"no allowance and no charge", lines(Line{StatedAmount: n("100"), TaxPercent: n("19")}), nil, "", "", "19.00", "19.00", "19.00"},
		{"two rates and a line without tax", lines(Line{StatedAmount: n("50"), TaxPercent: n("20")}, Line{StatedAmount: n("30"),
			TaxPercent: n("10")}, Line{StatedAmount: n("20")}), []Charge{less, more}, "", "", "13.00", "12.35", "13.65"},
		{"a line's own allowance and charge", lines(Line{StatedAmount: n("100"), TaxPercent: n("20"), Charges: []Charge{less, more}}, Line{
			StatedAmount: n("100"), TaxPercent: n("20")}), nil, "", "", "40.00", "39.00", "41.00"},
		{"rounded on each line", lines(Line{StatedAmount: n("0.33"), TaxPercent: n("19")}, Line{StatedAmount: n("0.33"), TaxPercent: n("19")},
			Line{StatedAmount: n("0.34"), TaxPercent: n("19")}), []Charge{less}, "", TaxByLine, "0.18", "0.18", "0.18"},
		{"rounded once", lines(Line{StatedAmount: n("1.11"), TaxPercent: n("19")}, Line{StatedAmount: n("1.11"), TaxPercent: n("19")},
			Line{StatedAmount: n("1.11"), TaxPercent: n("19")}), []Charge{less}, "", TaxByOrder, "0.63", "0.60", "0.60"},
		{"prices with the tax in them", lines(Line{StatedAmount: n("119"), TaxPercent: n("19")}), []Charge{{Allowance: true, Code: "d",
			Amount: n("11.90")}}, TaxInclusive, "", "19.00", "17.10", "17.10"},
		{"a tie that dividing first would miss", lines(Line{StatedAmount: n("1"), TaxPercent: n("10")}, Line{StatedAmount: n("2")}), []Charge{
			{Code: "freight", Amount: n("0.15")}}, "", "", "0.10", "0.10", "0.11"},
		{"more digits than a product can have", lines(Line{StatedAmount: n("40000000000"), TaxPercent: n("10")}, Line{
			StatedAmount: n("40000000000"), TaxPercent: n("10")}), []Charge{less}, "", "", "8000000000.00", "7600000000.00", "7600000000.00"},
		{"nothing to divide by", lines(Line{StatedAmount: n("0"), TaxPercent: n("10")}), []Charge{more}, "", "", "0.00", "0.00", "0.00"},
	} {
		for base, want := range map[string]string{"": c.ofLines, TaxOfLines: c.ofLines, TaxLessAllowances: c.lessAllow,
			TaxWithCharges: c.withCharge} {
			o := Order{Currency: "EUR", Lines: slices.Clone(c.lines), Charges: slices.Clone(c.charges), TaxTreatment: c.treatment,
				TaxRounding: c.rounding, TaxBase: base}
			if _, err := o.Compute(HalfUp); err != nil || o.Tax.String() != want {
				t.Errorf("%s, %s: tax %s, %v; want %s", c.name, base, o.Tax, err, want)
			}
		}
	}
}

// A line whose price is taken away costs nothing, and bears no tax of what it cost.
func TestAmountWithoutPrice(t *testing.T) {
	o := Order{Currency: "EUR", Lines: []Line{{Quantity: MustNumber("2"), UnitPrice: MustNumber("10"), TaxPercent: MustNumber("20")}}}
	for _, want := range []string{"20.00 4.00 24.00", " 0.00 0.00"} {
		if _, err := o.Compute(HalfUp); err != nil {
			t.Fatal(err)
		}
		if got := o.Lines[0].Amount.String() + " " + o.Tax.String() + " " + o.Total.String(); got != want {
			t.Errorf("amount, tax and total are %s, not %s", got, want)
		}
		o.Lines[0].UnitPrice = Number{}
	}
}

func TestStatus(t *testing.T) {
	n := MustNumber
	for _, c := range []struct {
		kind Kind
		want Status
		line []Line
	}{
		{Sales, Open, []Line{{Quantity: n("2")}}},
		{Sales, Partial, []Line{{Quantity: n("2"), Shipped: n("1")}}},
		{Sales, Partial, []Line{{Quantity: n("2"), Shipped: n("2")}, {Quantity: n("1")}}},
		{Sales, Complete, []Line{{Quantity: n("2"), Shipped: n("1"), Cancelled: n("1")}}},
		{Sales, Cancelled, []Line{{Quantity: n("2"), Cancelled: n("2")}}},
		{Purchase, Open, []Line{{Quantity: n("2"), Shipped: n("2")}}},
		{Purchase, Complete, []Line{{Quantity: n("2"), Received: n("2")}}},
	} {
		o := Order{Kind: c.kind, Lines: c.line}
		if got := o.DeriveStatus(); got != c.want {
			t.Errorf("%s %+v is %s, want %s", c.kind, c.line, got, c.want)
		}
	}
}

// Every field that can be bound is read back by Each, survives JSON, and counts
// in the fingerprint and the difference.
func TestEveryField(t *testing.T) {
	set := func(o *Order, f *Field, value string) {
		var l *Line
		if f.Level == Lines {
			l = &o.Lines[0]
		}
		switch {
		case f.text != nil || f.list != nil:
			f.SetText(o, l, value)
		case f.num != nil:
			n, err := ParseNumber(value)
			if err != nil {
				t.Fatal(err)
			}
			f.SetNumber(o, l, n)
		default:
			f.SetDate(o, l, Date(value))
		}
	}
	for _, level := range []Level{Header, Lines} {
		for _, f := range AllFields(level) {
			name := strings.Replace(f.Name, "*", "own_word", 1)
			field, ok := Lookup(level, name)
			if !ok {
				t.Errorf("%s %s is listed but not found", level, name)
				continue
			}
			o := Order{Kind: Sales, Lines: []Line{{}}}
			before := o.Fingerprint()
			set(&o, &field, "7")
			b, err := json.Marshal(&o)
			if err != nil {
				t.Fatal(err)
			}
			var back Order
			if err := json.Unmarshal(b, &back); err != nil {
				t.Fatalf("%s: %v", name, err)
			}
			if level == Header && name == "number" {
				continue // ours, not the sender's: it is no content
			}
			line := 0
			if level == Lines {
				line = 1
			}
			found := false
			back.Each(func(n int, field, value string) { found = found || n == line && field == name && value == "7" })
			if !found || o.Fingerprint() == before {
				t.Errorf("%s %s does not survive", level, name)
			}
			other := Order{Kind: Sales, Lines: []Line{{}}}
			set(&other, &field, "8")
			if d := Diff(&o, &other); len(d) != 1 || d[0] != (Change{Line: line, Field: name, Was: "7", Is: "8"}) {
				t.Errorf("difference of %s %s: %v", level, name, d)
			}
		}
	}
	for _, wrong := range []string{"ship_to.", "ship_to.colour", "custom", "reference.", "charge", "nonsense.x"} {
		if _, ok := Lookup(Header, wrong); ok {
			t.Errorf("%q is taken for a field", wrong)
		}
	}
}

func TestSameContent(t *testing.T) {
	a := Order{Kind: Sales, SenderNumber: "1", Number: "SO-1", Lines: []Line{{Quantity: MustNumber("2.00")}},
		References: []Reference{{"a", "1"}, {"b", "2"}}}
	b := Order{Kind: Sales, SenderNumber: "1", Number: "SO-2", Lines: []Line{{Quantity: MustNumber("2")}},
		References: []Reference{{"b", "2"}, {"a", "1"}}}
	if a.Fingerprint() != b.Fingerprint() || len(Diff(&a, &b)) != 0 {
		t.Error("the same content has two fingerprints")
	}
	for _, pair := range [][2]Order{
		{{Kind: Sales, Partner: "P", SenderNumber: " a1"}, {Kind: Sales, Partner: "p", SenderNumber: "A1"}},
	} {
		if pair[0].Identity() != pair[1].Identity() || pair[0].Identity() == "" {
			t.Errorf("%q is not %q", pair[0].Identity(), pair[1].Identity())
		}
	}
}

func BenchmarkCompute(b *testing.B) {
	o := Order{Currency: "EUR"}
	for range 10 {
		o.Lines = append(o.Lines, Line{Quantity: MustNumber("12"), UnitPrice: MustNumber("3.45"),
			DiscountPercent: MustNumber("5")})
	}
	for b.Loop() {
		if _, err := o.Compute(HalfUp); err != nil {
			b.Fatal(err)
		}
	}
}

func BenchmarkFingerprint(b *testing.B) {
	o := Order{Kind: Sales, SenderNumber: "A-1", Partner: "OSTRAND", Currency: "EUR"}
	for range 10 {
		o.Lines = append(o.Lines, Line{Number: "1", Item: "00417", Description: "Shackle", Unit: "BX",
			Quantity: MustNumber("12"), UnitPrice: MustNumber("3.45")})
	}
	for b.Loop() {
		o.Fingerprint()
	}
}

func TestSchedule(t *testing.T) {
	d := func(quantity, unit, location string, days ...Date) ScheduledDelivery {
		days = append(days, "", "")
		return ScheduledDelivery{MustNumber(quantity), unit, location, days[0], days[1]}
	}
	for _, c := range []struct {
		text  string
		is    Schedule
		wrong string
	}{
		{"", nil, ""},
		{"12 to 0040; 8 to 0041", Schedule{d("12", "", "0040"), d("8", "", "0041")}, ""},
		{"7", Schedule{d("7", "", "")}, ""},
		{"12.5 CA, arrives 2026-03-16", Schedule{d("12.5", "CA", "", "", "2026-03-16")}, ""},
		{"12 to Quay to sea, leaves 2026-03-12, arrives 2026-03-16",
			Schedule{d("12", "", "Quay to sea", "2026-03-12", "2026-03-16")}, ""},
		{`3 to "A; B, \"C\""; 4 to D`, Schedule{d("3", "", `A; B, "C"`), d("4", "", "D")}, ""},
		{"twelve to 0040", nil, `delivery 1: "twelve" is not a quantity`},
		{"12 to 0040; to 0041", nil, `delivery 2: "to" is not a quantity`},
		{"12 to ", nil, `delivery 1: "to" is not a unit`},
		{"12 to ; 8", nil, `delivery 1: no location stands behind "to"`},
		{"12, arrives 16.3.2026", nil, `delivery 1: "16.3.2026" is not a day; write it as yyyy-mm-dd`},
		{"12 to 0040, on 2026-03-16", nil, `delivery 1: ", on 2026-03-16" cannot be understood`},
	} {
		got, err := ParseSchedule(c.text)
		switch {
		case err == nil && c.wrong != "" || err != nil && err.Error() != c.wrong:
			t.Errorf("%q: %v, want %q", c.text, err, c.wrong)
		case !reflect.DeepEqual(got, c.is) && c.wrong == "":
			t.Errorf("%q is %+v", c.text, got)
		case err == nil && got.String() != c.text:
			t.Errorf("%q is written %q", c.text, got)
		}
	}
}

// FuzzSchedule reads texts as deliveries: what can be read is written so that it is read alike.
func FuzzSchedule(f *testing.F) {
	f.Add("12 to 0040; 8 CA to \"a;b\", leaves 2026-03-12, arrives 2026-03-16")
	f.Fuzz(func(t *testing.T, text string) {
		s, err := ParseSchedule(text)
		if err != nil {
			return
		}
		again, err := ParseSchedule(s.String())
		if err != nil || again.String() != s.String() {
			t.Fatalf("%q is written %q, which is read %q: %v", text, s, again, err)
		}
	})
}
