package order

import (
	"errors"

	"github.com/govalues/decimal"
)

// ErrByZero says that a number was divided by zero.
var ErrByZero = errors.New("division by zero")

// NumberOf gives a whole number.
func NumberOf(n int64) Number { return Number{decimal.MustNew(n, 0), true} }

// Add, Sub and Mul compute exactly; Quo to 19 digits. An absent number counts
// as 0. A result that does not fit gives ErrTooLong.
func (n Number) Add(m Number) (Number, error) { return computed(n.d.Add(m.d)) }
func (n Number) Sub(m Number) (Number, error) { return computed(n.d.Sub(m.d)) }
func (n Number) Mul(m Number) (Number, error) { return computed(n.d.Mul(m.d)) }
func (n Number) Quo(m Number) (Number, error) {
	if m.Sign() == 0 {
		return Number{}, ErrByZero
	}
	return computed(n.d.Quo(m.d))
}

func computed(d decimal.Decimal, err error) (Number, error) {
	if err != nil {
		return Number{}, ErrTooLong
	}
	return Number{d, true}, nil
}

// Round brings the number to so many decimal places.
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

// Plain is the number without trailing zeros behind the point; "" where absent.
func (n Number) Plain() string { return n.plain() }
