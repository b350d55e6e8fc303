package drafting

import (
	"slices"
	"strconv"
	"strings"
	"unicode"

	"koinos/core/list"
	"koinos/core/mapping"
	"koinos/core/order"
	"koinos/core/source"
)

// profile describes the values of a column, or of a path.
type profile struct {
	heading string
	from    string // as a binding names it
	expr    string // what takes it out of the cell, where several values stand there
	letter  int    // counted from 1; 0 in JSON
	values  []value
	filled  int
	numbers int
	whole   int
	dates   map[string]int // how many values fit each form
	days    int            // values that are dates whatever the form
	gtins   int
	percent int
	longest int
	spaces  int
	words   map[string]bool // distinct values, folded, up to a bound
	suffix  map[string]int  // words beside numbers
	inList  map[string]int  // how many values stand in a list, by list and key
	across  map[string]int  // how many values a crosswalk knows
	first   byte            // d or m: what comes first in the dates of other columns; 0 is not known
}

// agree lets columns in whose dates day and month cannot be told apart follow those in which they can.
func agree(columns []*profile) {
	votes := map[byte]int{}
	for _, p := range columns {
		if forms, ok := p.mostlyDates(mostly); ok && len(forms) == 1 &&
			slices.ContainsFunc(dateForms, func(f string) bool { return swapped(f, forms[0]) }) {
			votes[forms[0][0]]++
		}
	}
	for _, first := range []byte("dm") {
		if votes[first] > 0 && len(votes) == 1 {
			for _, p := range columns {
				p.first = first
			}
		}
	}
}

// mostly is the share of dates, or of numbers, that is enough in a column whose heading says that it contains them: the
// rest may be mistakes.
const mostly = 0.6

// value is one filled cell with its row.
type value struct {
	row  int // index of the sample's row
	cell source.Cell
}

var dateForms = []string{"d.m.yyyy", "d/m/yyyy", "m/d/yyyy", "d-m-yyyy", "m-d-yyyy", "yyyy/m/d", "yyyy.m.d", "yyyymmdd",
	"d.m.yy", "d/m/yy", "m/d/yy", "d-m-yy", "d mmm yyyy", "d-mmm-yyyy", "d mmm yy", "d-mmm-yy", "mmm d, yyyy",
	"mmm d yyyy", "d. mmm yyyy", "d. m. yyyy", "mmm-d-yyyy", "yyyy-m-d", "d/mmm/yyyy", "'KW' ww/yyyy", "'KW' ww yyyy",
	"yyyy-'W'ww", shortDay}

// shortDay is the form of days that other numbers have, too: only a heading tells them apart.
const shortDay = "yymmdd"

const distinctKept = 4000

func (d *drafter) profile(heading, from string, letter int, values []value) *profile {
	p := &profile{heading: heading, from: from, letter: letter, values: values, dates: map[string]int{},
		words: map[string]bool{}, suffix: map[string]int{}, inList: map[string]int{}, across: map[string]int{}}
	for _, v := range values {
		p.add(v.cell, d)
	}
	if hints := d.hintsOf(heading); len(hints) > 0 {
		if f, ok := d.lookup(hints[0].level, hints[0].field); ok && f.Type == order.Day { // else it is a number, or a code
			p.shortDays()
		}
	}
	return p
}

// shortDays counts days that are written as six digits.
func (p *profile) shortDays() {
	for _, v := range p.values {
		s := strings.TrimSpace(v.cell.Text)
		if _, ok := mapping.DayIn(shortDay, s); ok && len(s) == len(shortDay) {
			p.dates[shortDay]++
		}
	}
}

func (p *profile) add(c source.Cell, d *drafter) {
	s := strings.TrimSpace(c.Text)
	if s == "" {
		return
	}
	p.filled++
	p.longest = max(p.longest, len(s))
	if strings.Contains(s, " ") {
		p.spaces++
	}
	folded := list.Fold(s)
	known := p.words[folded]
	if len(p.words) < distinctKept {
		p.words[folded] = true
	}
	switch c.Kind {
	case source.Day:
		p.days++
	case source.Number, source.Exact:
		p.numbers++
		if !strings.ContainsAny(s, ".eE%") {
			p.whole++
		}
	default:
		if n, word, ok := mapping.NumberIn(d.decimal, s); ok && len(word) <= 8 && !(word != "" && coded(s)) {
			p.numbers++
			if n.Plain() == "" || !strings.Contains(n.Plain(), ".") {
				p.whole++
			}
			if word != "" {
				p.suffix[word]++
			}
		}
		if _, ok := mapping.DayIn("yyyy-mm-dd", s); ok {
			p.days++
		} else if strings.ContainsAny(s, "0123456789") && len(s) >= 6 {
			for _, form := range dateForms {
				if _, ok := mapping.DayIn(form, s); ok && form != shortDay {
					p.dates[form]++
				}
			}
		}
	}
	if strings.HasSuffix(s, "%") {
		p.percent++
	}
	if isGTIN(s) {
		p.gtins++
	}
	if !known || p.filled < 500 {
		p.ask(s, d)
	}
}

// ask looks a value up in every list and crosswalk.
func (p *profile) ask(s string, d *drafter) {
	for name, l := range d.hints.Lists.Lists {
		for _, key := range []string{"code", "gtin", "name"} {
			if l.Look(s, []string{key}, 0).Entry != nil {
				p.inList[name+"/"+key]++
			}
		}
	}
	for name, w := range d.hints.Lists.Crosswalks {
		if _, _, ok := w.Ours(s); ok {
			p.across[name]++
		}
	}
}

// begin counts the values that begin with a prefix followed by a digit.
func (p *profile) begin(with string) (n int) {
	for _, v := range p.values {
		if rest, has := strings.CutPrefix(strings.TrimSpace(v.cell.Text), with); has && rest != "" && rest[0] >= '0' &&
			rest[0] <= '9' {
			n++
		}
	}
	return n
}

// ofTen reports whether all values are 1, 10, 100 or 1000, and not all 1.
func (p *profile) ofTen() bool {
	for _, v := range p.values {
		if !slices.Contains([]string{"1", "10", "100", "1000"}, strings.TrimSpace(v.cell.Text)) {
			return false
		}
	}
	return len(p.words) > 1 || !p.words["1"]
}

// perLetters reports whether the values are letters for how many units a price is for, not all of them for one.
func (p *profile) perLetters() bool {
	several := false
	if p.numbers > 0 {
		return false
	}
	letters := new(list.Set).Crosswalk(list.PricePer)
	for _, v := range p.values {
		is, _, ok := letters.Ours(strings.TrimSpace(v.cell.Text))
		if !ok {
			return false
		}
		several = several || is != "1"
	}
	return several
}

// isShare reports whether all values are shares of 1, written without a sign, and some of them less than all.
func (p *profile) isShare() bool {
	some := false
	if p.percent > 0 || p.numbers < p.filled {
		return false
	}
	for _, v := range p.values {
		n, err := order.ParseNumber(strings.Replace(strings.TrimSpace(v.cell.Text), ",", ".", 1))
		if err != nil || n.Sign() < 0 || n.Cmp(order.NumberOf(1)) > 0 {
			return false
		}
		some = some || n.Sign() > 0 && n.Cmp(order.NumberOf(1)) < 0
	}
	return some
}

// unixTimes is the form of dates in which all values are whole numbers that count seconds or milliseconds; "" if they
// are not.
func (p *profile) unixTimes() string {
	form := ""
	for _, v := range p.values {
		is := ""
		for _, f := range []string{"unix", "unix-ms"} {
			if _, ok := mapping.DayIn(f, strings.TrimSpace(v.cell.Text)); ok {
				is = f
			}
		}
		if is == "" || form != "" && is != form {
			return ""
		}
		form = is
	}
	return form
}

// allNegative reports whether all values that are not 0 have a minus, and there are some.
func (p *profile) allNegative() bool {
	some := false
	for _, v := range p.values {
		s := strings.TrimSpace(v.cell.Text)
		if strings.Trim(s, "0., ") == "" {
			continue
		}
		if !strings.HasPrefix(s, "-") && !strings.HasPrefix(s, "−") && !strings.HasSuffix(s, "-") {
			return false
		}
		some = true
	}
	return some
}

// padded reports whether the values are codes: numbers with leading zeros, or words of letters and digits.
func (p *profile) padded() bool {
	n := 0
	for _, v := range p.values {
		s := strings.TrimSpace(v.cell.Text)
		if len(s) > 1 && s[0] == '0' && s[1] >= '0' && s[1] <= '9' || coded(s) && strings.ContainsAny(s, "0123456789") {
			n++
		}
	}
	return p.share(n) >= 0.5 && p.share(p.spaces) == 0
}

// coded reports whether a text with digits begins with letters that are not a currency: P1 is a code, USD 5 is money.
func coded(s string) bool {
	begins := strings.IndexFunc(s, func(r rune) bool { return !unicode.IsLetter(r) })
	return begins > 0 && !isCurrency(s[:begins])
}

// share is n divided by the number of filled values.
func (p *profile) share(n int) float64 {
	if p.filled == 0 {
		return 0
	}
	return float64(n) / float64(p.filled)
}

// isDates reports whether the values are dates, and in which forms besides yyyy-mm-dd: the fewest that fit all of them.
func (p *profile) isDates() (forms []string, ok bool) { return p.mostlyDates(0.9) }

// mostlyDates is isDates with a share of the values that is enough.
func (p *profile) mostlyDates(least float64) (forms []string, ok bool) {
	if p.share(p.days) >= least {
		return nil, true
	}
	left := float64(p.filled - p.days)
	var fits []string
	best := 0
	for _, form := range dateForms {
		if n := p.dates[form]; float64(n) >= least*left && n > 0 {
			fits = append(fits, form)
			best = max(best, n)
		}
	}
	if len(fits) > 0 {
		// Of several that fit equally, only those that differ in day and month have different meanings.
		for _, f := range fits {
			if p.dates[f] == best && (len(forms) == 0 || swapped(forms[0], f)) {
				forms = append(forms, f)
			}
		}
		if len(forms) == 2 && p.first != 0 { // another column of the document says which it is
			forms = slices.DeleteFunc(forms, func(f string) bool { return f[0] != p.first })
		}
		return forms, true
	}
	// No single form: two that fit all together.
	for i, f := range dateForms {
		for _, g := range dateForms[i+1:] {
			if p.dates[f] > 0 && p.dates[g] > 0 && !swapped(f, g) && float64(p.dates[f]+p.dates[g]) >= 0.95*left {
				return []string{f, g}, true
			}
		}
	}
	return nil, false
}

func swapped(a, b string) bool {
	return len(a) == len(b) && strings.NewReplacer("d", "m", "m", "d").Replace(a) == b
}

// isGTIN checks the check digit of a GTIN (GS1).
func isGTIN(s string) bool {
	switch len(s) {
	case 8, 12, 13, 14:
	default:
		return false
	}
	return order.CheckDigit(s)
}

// counts reports whether the values count: 1, 2, 3, or 10, 20, 30, starting again with each order.
func (p *profile) counts() bool {
	last, step, begin := 0, 0, 0
	for i, v := range p.values {
		n, err := strconv.Atoi(strings.TrimSpace(v.cell.Text))
		switch {
		case err != nil || n < 0:
			return false
		case i == 0:
			begin = n
			step = max(n, 1)
		case n == last+step || n == begin && last > begin || n == begin && len(p.values) < 3:
		default:
			return false
		}
		last = n
	}
	return begin <= 10 && len(p.words) > 1
}

// fits says whether a field of a type can have the values: 0 means no, 1 means yes, and values between them perhaps.
// units is how many values are common words for units of measure.
func (p *profile) units() (n int) {
	for _, v := range p.values {
		if _, _, ok := list.UnitOf(strings.TrimSpace(v.cell.Text), order.KnownUnit); ok {
			n++
		}
	}
	return n
}

// isMoney reports whether a column has numbers that are written with decimals.
func (p *profile) isMoney() bool {
	decimals := 0
	for _, v := range p.values {
		if strings.ContainsAny(v.cell.Text, ".,") {
			decimals++
		}
	}
	return p.share(p.numbers) > 0.9 && p.share(decimals) > 0.5
}

func (p *profile) fits(f order.Field) float64 {
	_, dates := p.isDates()
	switch f.Type {
	case order.Day:
		if dates {
			return 1
		}
		if _, some := p.mostlyDates(mostly); some || p.unixTimes() != "" {
			return 0.9
		}
		return 0
	case order.Decimal, order.Percent:
		if f.Name == "price_basis" && p.perLetters() {
			return 1
		}
		if dates && p.share(p.numbers) < 0.9 || p.share(p.gtins) > 0.8 && p.filled > 2 {
			return 0
		}
		return cutAt(p.share(p.numbers), mostly)
	case order.Currency:
		n := 0
		for _, v := range p.values {
			w := strings.TrimSpace(v.cell.Text)
			if order.KnownCurrency(strings.ToUpper(w)) || len(w) <= 4 && strings.ContainsAny(w, "€£$¥") {
				n++
			}
		}
		return cutAt(p.share(n), 0.7)
	case order.Unit:
		if p.longest > 12 || p.share(p.numbers) > 0.3 || dates {
			return 0
		}
		return 1
	case order.Code:
		if dates && p.share(p.numbers) < 0.9 || p.longest > 60 {
			return 0
		}
		if p.share(p.spaces) > 0.7 && p.longest > 20 {
			return 0.4
		}
		return 1
	case order.Text:
		if dates {
			return 0.1
		}
		if (strings.HasSuffix(f.Name, ".region") || strings.HasSuffix(f.Name, ".city")) && p.share(p.numbers) > 0.5 {
			return 0
		}
		if f.Name == "description" && p.share(p.numbers) > 0.8 {
			return 0.1
		}
		return 1
	}
	return 0.9
}

func cutAt(share, least float64) float64 {
	if share < least {
		return 0
	}
	return share
}
