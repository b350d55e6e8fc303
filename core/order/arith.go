package order

import (
	"errors"

	"github.com/govalues/decimal"
)

// ErrByZero says that a number was divided by zero.
var ErrByZero = errors.New("division by zero")

// NumberOf returns a whole number.
func NumberOf(n int64) Number { return Number{decimal.MustNew(n, 0), true} }

// Add, Sub and Mul compute exactly; Quo computes to 19 digits. An absent number counts as 0. A result that does not fit
// gives ErrTooLong.
func (n Number) Add(m Number) (Number, error) { return computed(n.d.Add(m.d)) }
func (n Number) Sub(m Number) (Number, error) { return computed(n.d.Sub(m.d)) }
func (n Number) Mul(m Number) (Number, error) { return computed(n.d.Mul(m.d)) }
func (n Number) Quo(m Number) (Number, error) {
	if m.Sign() == 0 {
		return Number{}, ErrByZero
	}
	return computed(n.d.Quo(m.d))
}

// Rem is the remainder of the whole division of n by m; it has the sign of n.
func (n Number) Rem(m Number) (Number, error) {
	if m.Sign() == 0 {
		return Number{}, ErrByZero
	}
	_, r, err := n.d.QuoRem(m.d)
	return computed(r, err)
}

// Floor is the largest whole number that is not greater than n; an absent number stays absent.
func (n Number) Floor() Number {
	if !n.set {
		return n
	}
	return Number{n.d.Floor(0), true}
}

// Whole returns the number as an int. ok is false if it is not a whole number or is too large. An absent number is 0.
func (n Number) Whole() (whole int64, ok bool) {
	whole, fraction, ok := n.d.Int64(n.d.Scale())
	return whole, ok && fraction == 0
}

func computed(d decimal.Decimal, err error) (Number, error) {
	if err != nil {
		return Number{}, ErrTooLong
	}
	return Number{d, true}, nil
}

// Round rounds the number to a number of decimal places.
func (n Number) Round(r Rounding, digits int) Number {
	if !n.set {
		return n
	}
	digits = min(max(digits, 0), decimal.MaxScale)
	if n.d.Scale() <= digits {
		return n
	}
	return Number{r.round(n.d, digits), true}
}

// Trim returns the number without trailing zeros behind the point.
func (n Number) Trim() Number { return Number{n.d.Trim(0), n.set} }

// Plain is the number as text without trailing zeros behind the point; "" if absent.
func (n Number) Plain() string { return n.plain() }
