package order

import (
	"slices"

	"github.com/govalues/decimal"
	"golang.org/x/text/currency"
)

// KnownCurrency reports whether code is a currency of ISO 4217.
func KnownCurrency(code string) bool {
	_, err := currency.ParseISO(code)
	return err == nil && len(code) == 3
}

// CurrencyDigits is how many decimal places amounts of a currency have (ISO 4217); 2 if the currency is not known.
func CurrencyDigits(code string) int {
	if code == "EUR" || code == "" { // what nearly every order says
		return 2
	}
	unit, err := currency.ParseISO(code)
	if err != nil {
		return 2
	}
	digits, _ := currency.Standard.Rounding(unit)
	return digits
}

var hundred, hundredth = decimal.MustNew(100, 0), decimal.MustNew(1, 2)

// Smallest is the smallest amount of a currency: a cent, if it has two digits.
func Smallest(code string) Number { return Number{decimal.MustNew(1, CurrencyDigits(code)), true} }

// sum adds and multiplies decimals until the first overflow, which it keeps.
type sum struct{ err error }

func (s *sum) do(d decimal.Decimal, err error) decimal.Decimal {
	if err != nil && s.err == nil {
		s.err = err
	}
	return d
}

// Compute fills in the amounts, sums and status that follow from the order's own values. It rounds each amount to the
// currency's digits. The amount of a line without a unit price is the stated one. A figure beyond 19 digits gives
// ErrTooLong and leaves the order as it was; line is then the line's index, or -1 for the order's own sums.
func (o *Order) Compute(r Rounding) (line int, err error) {
	digits := CurrencyDigits(o.Currency)
	goods, total, taxed := decimal.Decimal{}, decimal.Decimal{}, false
	var s sum
	for i := range o.Lines {
		l := &o.Lines[i]
		amount := l.amount(&s, r, digits)
		if l.UnitPrice.set || l.StatedAmount.set || len(l.Earlier) > 0 {
			l.Amount = Number{amount, true}
		} else {
			l.Amount = Number{} // nothing says what it costs (any more)
		}
		goods = s.do(goods.Add(amount))
		total = s.charges(total, l.Charges, amount, r, digits)
		taxed = taxed || l.TaxPercent.set
		if s.err != nil {
			return i, ErrTooLong
		}
	}
	total = s.charges(total, o.Charges, goods, r, digits)
	tax := o.TaxAmount.d
	if taxed {
		tax = o.taxes(&s, goods).sum(&s, o.TaxTreatment == TaxInclusive, func(d decimal.Decimal) decimal.Decimal {
			return r.round(d, digits)
		})
	}
	total = s.do(total.Add(goods))
	if o.TaxTreatment != TaxInclusive && o.TaxTreatment != TaxExempt {
		total = s.do(total.Add(tax))
	}
	if s.err != nil {
		return -1, ErrTooLong
	}
	o.Goods = Number{goods.Pad(digits), true}
	o.Total = Number{r.round(total, digits), true}
	o.Tax = Number{}
	if taxed || o.TaxAmount.set {
		o.Tax = Number{tax, true}
	}
	o.Status = o.DeriveStatus()
	return 0, nil
}

// amount is the price of what is wanted of the line, each part at its own price. Without a price it is the amount that
// the document states, or the share of it for the quantity that is still wanted.
func (l *Line) amount(s *sum, r Rounding, digits int) (amount decimal.Decimal) {
	rest := l.terms(l.Quantity)
	if l.Cancelled.Sign() != 0 {
		rest.Quantity.d = s.do(l.Quantity.d.Sub(l.Cancelled.d))
		if l.Quantity.Sign() >= 0 && rest.Quantity.Sign() < 0 {
			rest.Quantity.d = decimal.Decimal{}
		}
	}
	for i := range l.Earlier {
		p := &l.Earlier[i]
		amount = s.do(amount.Add(p.amount(s, r, digits)))
		rest.Quantity.d = s.do(rest.Quantity.d.Sub(p.Quantity.d))
	}
	switch {
	case len(l.Earlier) > 0 && rest.Quantity.Sign() <= 0: // all of it keeps an earlier price
	case l.UnitPrice.set:
		amount = s.do(amount.Add(rest.amount(s, r, digits)))
	case l.StatedAmount.set && (l.Cancelled.Sign() > 0 || len(l.Earlier) > 0) && l.Quantity.Sign() > 0:
		share := s.do(s.do(l.StatedAmount.d.Mul(rest.Quantity.d)).Quo(l.Quantity.d))
		amount = s.do(amount.Add(r.round(share, digits)))
	default:
		amount = s.do(amount.Add(r.round(l.StatedAmount.d, digits)))
	}
	return amount
}

func (p *Priced) amount(s *sum, r Rounding, digits int) decimal.Decimal {
	amount := s.do(p.Quantity.d.Mul(p.UnitPrice.d))
	if p.PriceBasis.Sign() > 0 && p.PriceBasis.d.Cmp(decimal.One) != 0 {
		amount = s.do(amount.Quo(p.PriceBasis.d))
	}
	if p.DiscountPercent.Sign() != 0 {
		rate := s.do(hundred.Sub(p.DiscountPercent.d))
		amount = s.do(s.do(amount.Mul(rate)).Mul(hundredth))
	}
	return r.round(amount, digits)
}

// AsOrdered returns the order with the sums that it would have if nothing were cancelled. If nothing is, it returns the
// order itself.
func (o *Order) AsOrdered(r Rounding) *Order {
	if !slices.ContainsFunc(o.Lines, func(l Line) bool { return l.Cancelled.Sign() != 0 }) {
		return o
	}
	whole := o.Clone()
	for i := range whole.Lines {
		whole.Lines[i].Cancelled = Number{}
	}
	if _, err := whole.Compute(r); err != nil {
		return o
	}
	return whole
}

// taxes are the amounts that are taxed, each with its rate. Amounts that are rounded together are one entry.
type taxes []struct{ rate, amount decimal.Decimal }

// taxes returns what is taxed of the lines. The order's own allowances and charges, where they are taxed, are divided
// by the lines' amounts.
func (o *Order) taxes(s *sum, goods decimal.Decimal) (all taxes) {
	shared := s.taxed(o.Charges, o.TaxBase)
	for i := range o.Lines {
		l := &o.Lines[i]
		if !l.TaxPercent.set {
			continue
		}
		amount := l.Amount.d
		if !shared.IsZero() && !goods.IsZero() {
			amount = s.share(amount, s.do(goods.Add(shared)), goods)
		}
		amount = s.do(amount.Add(s.taxed(l.Charges, o.TaxBase)))
		all.add(s, l.TaxPercent.d, amount, o.TaxRounding != TaxByOrder)
	}
	return all
}

// share is amount × part ÷ whole. It multiplies first, which is exact, unless the product has too many digits.
func (s *sum) share(amount, part, whole decimal.Decimal) decimal.Decimal {
	if product, err := amount.Mul(part); err == nil {
		return s.do(product.Quo(whole))
	}
	return s.do(amount.Mul(s.do(part.Quo(whole))))
}

// taxed is how much charges add to what is taxed.
func (s *sum) taxed(charges []Charge, base string) (more decimal.Decimal) {
	for i := range charges {
		switch c := &charges[i]; {
		case c.Allowance && (base == TaxLessAllowances || base == TaxWithCharges):
			more = s.do(more.Sub(c.Amount.d))
		case !c.Allowance && base == TaxWithCharges:
			more = s.do(more.Add(c.Amount.d))
		}
	}
	return more
}

func (t *taxes) add(s *sum, rate, amount decimal.Decimal, apart bool) {
	for i := 0; i < len(*t) && !apart; i++ {
		if one := &(*t)[i]; one.rate.Cmp(rate) == 0 {
			one.amount = s.do(one.amount.Add(amount))
			return
		}
	}
	*t = append(*t, struct{ rate, amount decimal.Decimal }{rate, amount})
}

// sum is the tax on all amounts, each rounded. If prices include tax, it is the share of them that is tax.
func (t taxes) sum(s *sum, within bool, round func(decimal.Decimal) decimal.Decimal) (tax decimal.Decimal) {
	for _, one := range t {
		part := s.do(one.amount.Mul(one.rate))
		if within {
			part = s.do(part.Quo(s.do(hundred.Add(one.rate))))
		} else {
			part = s.do(part.Mul(hundredth))
		}
		tax = s.do(tax.Add(round(part)))
	}
	return tax
}

// BeforeTax is the order's total without its tax.
func (o *Order) BeforeTax() Number {
	if o.TaxTreatment == TaxExempt {
		return o.Total
	}
	n, err := o.Total.Sub(o.Tax)
	if err != nil {
		return Number{}
	}
	return n
}

// Within reports whether a and b differ by no more than tolerance.
func Within(a, b, tolerance Number) bool {
	diff, err := a.d.Sub(b.d)
	return err == nil && diff.Abs().Cmp(tolerance.d) <= 0
}

// Tax treatments: whether the lines' prices include the tax.
const (
	TaxExclusive = "exclusive"
	TaxInclusive = "inclusive"
	TaxExempt    = "exempt"
)

// Where tax is rounded: on each line, or once for all amounts of a rate.
const (
	TaxByLine  = "line"
	TaxByOrder = "order"
)

// What rates of tax are of: the lines' amounts, these less the allowances of the lines and of the order, or these with
// the charges, too.
const (
	TaxOfLines        = "lines"
	TaxLessAllowances = "less_allowances"
	TaxWithCharges    = "with_charges"
)

// TaxBases are all of them.
var TaxBases = []string{TaxOfLines, TaxLessAllowances, TaxWithCharges}

// TaxRoundings are the places where tax can be rounded.
var TaxRoundings = []string{TaxByLine, TaxByOrder}
