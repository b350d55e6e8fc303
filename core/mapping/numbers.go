package mapping

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"koinos/core/order"
	"koinos/core/source"
)

// spaces makes one sign of those that look the same.
var spaces = strings.NewReplacer("\u00a0", " ", "\u202f", " ", "\u2009", " ", "\t", " ", "\u2212", "-", "\u2019", "'")

// Number reads a cell as an exact number. word is what stands before or behind the digits: a currency, a unit.
func (l *Locale) Number(c source.Cell, percent bool) (n order.Number, word string, err error) {
	s := c.Text
	switch c.Kind {
	case source.Number, source.Exact:
		if percent {
			s = strings.TrimSuffix(s, "%")
		}
		if plain, ok := withoutExponent(s); ok {
			if n, err = parsed(order.ParseNumber(plain)); err == nil {
				return n, "", nil
			}
			return n, "", err
		}
		return n, "", errors.New("a plain number was expected")
	case source.Day:
		return n, "", errors.New("the cell holds a date: a spreadsheet may have turned the number into one")
	}
	if l.DecimalSign == '.' && (len(s) < 18 || plainNumber(s)) && s != "" &&
		(s[len(s)-1] >= '0' && s[len(s)-1] <= '9' || s[len(s)-1] == '.') {
		if n, err = order.ParseNumber(s); err == nil || errors.Is(err, order.ErrTooLong) {
			n, err = parsed(n, err)
			return n, "", err
		}
	}
	s, word, minus := undress(source.Trim(spaces.Replace(s)), percent)
	n, err = l.dressed(s)
	if err == nil && minus {
		n, err = order.Number{}.Sub(n)
	}
	return n, word, err
}

// undress removes what stands around the digits: brackets or a minus sign at the end, both of which mean a negative
// number, a percent sign, and a word.
func undress(s string, percent bool) (digits, word string, minus bool) {
	if len(s) > 2 && s[0] == '(' && s[len(s)-1] == ')' {
		s, minus = s[1:len(s)-1], true
	}
	isDigit := func(r rune) bool { return r >= '0' && r <= '9' }
	first, last := strings.IndexFunc(s, isDigit), strings.LastIndexFunc(s, isDigit)
	if first < 0 {
		return s, "", minus
	}
	if at := strings.TrimRight(s[:first], ".,'"); len(at) < first && !endsInLetter(at) {
		first = len(at)
	}
	without := func(part string) string { return strings.ReplaceAll(part, " ", "") }
	before, behind := without(s[:first]), without(s[last+1:])
	if behind == "." || behind == "," {
		behind = ""
	}
	digits = s[first : last+1]
	sign := func(part string) string {
		if i := strings.IndexAny(part, "+-"); i == 0 || i >= 0 && i == len(part)-1 {
			if part[i] == '-' {
				minus = !minus
			}
			return part[:i] + part[i+1:]
		}
		return part
	}
	before, behind = sign(before), sign(behind)
	if percent {
		behind = strings.TrimSuffix(behind, "%")
	}
	// 12,50- EUR and the like: a sign between digits and word was taken above.
	return digits, strings.TrimSuffix(before+behind, "."), minus
}

func endsInLetter(s string) bool {
	r, _ := utf8.DecodeLastRuneInString(s)
	return unicode.IsLetter(r)
}

// exponent matches the end of a number such as 1.2E+3.
var exponent = regexp.MustCompile(`^(.*[0-9.,])[eE]([+-]?[0-9]{1,2})$`)

// dressed reads digits with the locale's own signs. Groups have three digits, have the same sign between them, and the
// first does not begin with 0.
func (l *Locale) dressed(s string) (order.Number, error) {
	if part := exponent.FindStringSubmatch(s); part != nil {
		mantissa := strings.Replace(part[1], string(l.DecimalSign), ".", 1)
		plain, ok := withoutExponent(mantissa + "e" + part[2])
		if !ok || l.DecimalSign != '.' && strings.Contains(part[1], ".") {
			return order.Number{}, l.expected()
		}
		return parsed(order.ParseNumber(plain))
	}
	whole, fraction, cut := strings.Cut(s, string(l.DecimalSign))
	for _, group := range []byte{l.grouping, ' ', '\''} {
		if group == 0 || strings.IndexByte(whole, group) < 0 {
			continue
		}
		groups := strings.Split(whole, string(group))
		if groups[0] == "" || len(groups[0]) > 3 || groups[0][0] == '0' ||
			slices.ContainsFunc(groups[1:], func(g string) bool { return len(g) != 3 }) {
			if !plainNumber(strings.Join(groups, "")) || group == '\'' {
				return order.Number{}, l.expected() // words, or feet
			}
			if group == ' ' {
				return order.Number{}, errors.New("a space stands between digits that are no thousands")
			}
			return order.Number{}, fmt.Errorf("%w; here %q seems to be it", l.expected(), group)
		}
		whole = strings.Join(groups, "")
		break
	}
	if fraction != "" || cut && whole == "" {
		whole += "." + fraction
	}
	if !plainNumber(whole) {
		other := byte('.')
		if l.DecimalSign == '.' {
			other = ','
		}
		if strings.Count(s, string(other)) == 1 && plainNumber(strings.Replace(s, string(other), ".", 1)) {
			return order.Number{}, fmt.Errorf("%w; here %q seems to be it", l.expected(), other)
		}
		return order.Number{}, l.expected()
	}
	return parsed(order.ParseNumber(whole))
}

func (l *Locale) expected() error {
	return fmt.Errorf("a number with the decimal sign %q was expected", l.DecimalSign)
}

// withoutExponent writes 1.5e3 as 1500.
func withoutExponent(s string) (string, bool) {
	i := strings.IndexAny(s, "eE")
	if i < 0 {
		return s, plainNumber(s)
	}
	exp, err := strconv.Atoi(s[i+1:])
	if err != nil || exp > 40 || exp < -40 || !plainNumber(s[:i]) {
		return "", false
	}
	sign, rest := "", s[:i]
	if rest[0] == '-' || rest[0] == '+' {
		sign, rest = rest[:1], rest[1:]
	}
	whole, fraction, _ := strings.Cut(rest, ".")
	for ; exp > 0; exp-- {
		if fraction == "" {
			fraction = "0"
		}
		whole, fraction = whole+fraction[:1], fraction[1:]
	}
	for ; exp < 0; exp++ {
		if whole == "" {
			whole = "0"
		}
		whole, fraction = whole[:len(whole)-1], whole[len(whole)-1:]+fraction
	}
	if whole = strings.TrimLeft(whole, "0"); whole == "" {
		whole = "0"
	}
	if fraction = strings.TrimRight(fraction, "0"); fraction != "" {
		whole += "." + fraction
	}
	return sign + whole, true
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

// Mangled reports whether a code can only be the rounded rest of a longer one.
func Mangled(c source.Cell) bool {
	if c.Kind == source.Number {
		return len(c.Text) > 15 && !strings.Contains(c.Text, ".")
	}
	return c.Kind == source.Text && len(c.Text) > 3 && strings.IndexByte(c.Text, '+') > 0 &&
		(strings.Contains(c.Text, "E+") || strings.Contains(c.Text, "e+")) && isRounded(c.Text)
}

// isRounded recognises 4.00638E+12.
func isRounded(s string) bool {
	mantissa, exponent, _ := strings.Cut(strings.ToLower(strings.Replace(s, ",", ".", 1)), "e+")
	_, err := strconv.ParseUint(exponent, 10, 16)
	return err == nil && plainNumber(mantissa) && mantissa[0] >= '0' && mantissa[0] <= '9' &&
		(len(mantissa) == 1 || mantissa[1] == '.')
}

// currencies are the signs and words that stand beside figures, each with the currencies that use it (ISO 4217).
var currencies = map[string]string{
	"€": "EUR", "£": "GBP", "$": "USD CAD AUD NZD SGD HKD MXN", "us$": "USD", "¥": "JPY CNY", "kr": "SEK NOK DKK ISK",
	"fr": "CHF", "sfr": "CHF",
	"zł": "PLN", "kč": "CZK", "ft": "HUF", "₺": "TRY", "₹": "INR", "r$": "BRL", "₩": "KRW", "lei": "RON", "лв": "BGN",
	"euro": "EUR", "euros": "EUR",
}

// CurrencyOf returns the currencies that a word beside a figure can mean; none if it is not a currency.
func CurrencyOf(word string) string {
	folded := strings.ToLower(word)
	if all, ok := currencies[folded]; ok {
		return all
	}
	if len(word) == 3 && order.KnownCurrency(strings.ToUpper(word)) && word == strings.ToUpper(word) {
		return word
	}
	return ""
}

// NumberIn reads text as a number with a decimal sign, with what stands beside its digits; false if it is not a number.
func NumberIn(decimal byte, text string) (n order.Number, word string, ok bool) {
	l := Locale{DecimalSign: decimal, grouping: '.'}
	if decimal == '.' {
		l.grouping = ','
	}
	n, word, err := l.Number(source.Cell{Text: text}, true)
	return n, word, err == nil
}
