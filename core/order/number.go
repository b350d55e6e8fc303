package order

import (
	"errors"
	"fmt"

	"github.com/govalues/decimal"
)

// Number is an exact decimal that may be absent. It holds up to 19 digits. In JSON it is a string, so that no reader
// rounds it by using a float.
type Number struct {
	d   decimal.Decimal
	set bool
}

// Abs is the number without its sign.
func (n Number) Abs() Number { return Number{n.d.Abs(), n.set} }

// ErrTooLong says that a figure has more digits than a Number holds.
var ErrTooLong = errors.New("more than 19 digits")

// ParseNumber reads a plain decimal: digits, an optional leading sign, an
// optional point. Blank text is the absent number.
func ParseNumber(s string) (Number, error) {
	if s == "" {
		return Number{}, nil
	}
	if n, ok := shortNumber(s); ok {
		return n, nil
	}
	digits, points := 0, 0
	for i := 0; i < len(s); i++ {
		if s[i] >= '0' && s[i] <= '9' {
			digits++
		} else if s[i] == '.' && points == 0 {
			points++
		} else if !(i == 0 && (s[i] == '-' || s[i] == '+')) {
			return Number{}, fmt.Errorf("%q is not a number", s)
		}
	}
	if digits == 0 {
		return Number{}, fmt.Errorf("%q is not a number", s)
	}
	d, err := decimal.Parse(s)
	if err != nil {
		return Number{}, fmt.Errorf("%q: %w", s, ErrTooLong)
	}
	// Beyond 19 digits the parser would round, so such a number is refused.
	if digits > decimal.MaxPrec && significantDigits(s) > decimal.MaxPrec {
		return Number{}, fmt.Errorf("%q: %w", s, ErrTooLong)
	}
	return Number{d, true}, nil
}

// shortNumber reads the usual case: up to 18 digits.
func shortNumber(s string) (Number, bool) {
	i, negative := 0, false
	if s[0] == '-' || s[0] == '+' {
		negative = s[0] == '-'
		i++
	}
	if len(s)-i > 19 || len(s) == i {
		return Number{}, false
	}
	var coefficient int64
	digits, point := 0, -1
	for ; i < len(s); i++ {
		c := s[i]
		switch {
		case c >= '0' && c <= '9':
			coefficient = coefficient*10 + int64(c-'0')
			digits++
		case c == '.' && point < 0:
			point = digits
		default:
			return Number{}, false
		}
	}
	if digits == 0 || digits > 18 {
		return Number{}, false
	}
	scale := 0
	if point >= 0 {
		scale = digits - point
	}
	if negative {
		coefficient = -coefficient
	}
	d, err := decimal.New(coefficient, scale)
	return Number{d, true}, err == nil
}

func significantDigits(s string) int {
	n, seen := 0, false
	for i := 0; i < len(s); i++ {
		if s[i] > '0' && s[i] <= '9' {
			seen = true
		}
		if seen && s[i] >= '0' && s[i] <= '9' {
			n++
		}
	}
	return n
}

// MustNumber is ParseNumber for constants; it panics if the text is not a number.
func MustNumber(s string) Number {
	n, err := ParseNumber(s)
	if err != nil {
		panic(err)
	}
	return n
}

// IsZero reports whether the number is absent; a number 0 is not absent.
func (n Number) IsZero() bool { return !n.set }

// Sign is -1, 0 or 1; an absent number has sign 0.
func (n Number) Sign() int { return n.d.Sign() }

// Cmp compares two numbers; an absent one counts as 0.
func (n Number) Cmp(m Number) int { return n.d.Cmp(m.d) }

func (n Number) String() string {
	if !n.set {
		return ""
	}
	return n.d.String()
}

// plain is the number without trailing zeros, so that 12.50 and 12.5 are equal as text.
func (n Number) plain() string {
	if !n.set {
		return ""
	}
	return n.d.Trim(0).String()
}

// AppendText appends the number as String gives it.
func (n Number) AppendText(b []byte) ([]byte, error) {
	if !n.set {
		return b, nil
	}
	return n.d.AppendText(b)
}

func (n Number) MarshalText() ([]byte, error) { return []byte(n.String()), nil }

func (n *Number) UnmarshalText(b []byte) (err error) {
	*n, err = ParseNumber(string(b))
	return err
}

// Rounding is a named rule for bringing an amount to a currency's digits.
type Rounding string

const (
	HalfUp   Rounding = "half-up"   // a tie goes away from zero: 2.345 is 2.35, -2.345 is -2.35
	HalfEven Rounding = "half-even" // a tie goes to the even digit: 2.345 is 2.34
	Down     Rounding = "down"      // digits are cut off
)

// Roundings are the rules in the order they are offered.
var Roundings = []string{string(HalfUp), string(HalfEven), string(Down)}

// round rounds d to a number of decimal places, and pads it with zeros if it has fewer.
func (r Rounding) round(d decimal.Decimal, digits int) decimal.Decimal {
	switch r {
	case HalfEven:
		d = d.Round(digits)
	case Down:
		d = d.Trunc(digits)
	default:
		cut := d.Trunc(digits)
		if rest, err := d.Sub(cut); err == nil {
			half := decimal.MustNew(5, min(digits+1, decimal.MaxScale))
			if rest.Abs().Cmp(half) >= 0 {
				step := decimal.MustNew(int64(d.Sign()), digits)
				if up, err := cut.Add(step); err == nil {
					cut = up
				}
			}
		}
		d = cut
	}
	return d.Pad(digits)
}
