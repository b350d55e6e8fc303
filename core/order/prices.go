package order

import "errors"

// Priced is a quantity of a line with the terms under which it was shipped or invoiced.
type Priced struct {
	Quantity        Number `json:"quantity"`
	UnitPrice       Number `json:"unit_price,omitzero"`
	PriceBasis      Number `json:"price_basis,omitzero"`
	DiscountPercent Number `json:"discount_percent,omitzero"`
}

// terms returns the line's own terms, for a quantity.
func (l *Line) terms(quantity Number) Priced {
	return Priced{quantity, l.UnitPrice, l.PriceBasis, l.DiscountPercent}
}

// SameTerms reports whether two quantities have the same price, on whatever basis it is stated: 1.33 each is 133 for a
// hundred.
func (p *Priced) SameTerms(q Priced) bool {
	if p.UnitPrice.set != q.UnitPrice.set || p.DiscountPercent.Cmp(q.DiscountPercent) != 0 {
		return false
	}
	high, low, err := p.beside(q)
	if err != nil { // more digits than can be computed with
		return p.UnitPrice.Cmp(q.UnitPrice) == 0 && p.basis().Cmp(q.basis()) == 0
	}
	return high.Cmp(low) == 0
}

// Beside returns a price as it is meant beside the terms of the order's line. A price whose basis is not stated may be
// for as many units as the order's, or for one: it is for whichever makes it nearer to the order's price.
func (p Priced) Beside(line Priced) Priced {
	one, same := p, p
	one.PriceBasis, same.PriceBasis = NumberOf(1), line.basis()
	if !p.PriceBasis.IsZero() || same.PriceBasis.Cmp(one.PriceBasis) == 0 ||
		p.UnitPrice.Sign() <= 0 || line.UnitPrice.Sign() <= 0 {
		return p
	}
	if same.farFrom(line, one) {
		return one
	}
	return same
}

// farFrom reports whether a price is further from that of a line, by the factor between them, than another is.
func (p *Priced) farFrom(line, other Priced) bool {
	high, low, err := p.beside(line)
	otherHigh, otherLow, otherErr := other.beside(line)
	if err != nil || otherErr != nil {
		return false
	}
	mine, err := high.Mul(otherLow)
	theirs, otherErr := otherHigh.Mul(low)
	return err == nil && otherErr == nil && mine.Cmp(theirs) > 0
}

// beside returns two prices on one basis, the higher one first.
func (p *Priced) beside(q Priced) (high, low Number, err error) {
	mine, err := p.UnitPrice.Mul(q.basis())
	theirs, theirErr := q.UnitPrice.Mul(p.basis())
	if mine.Cmp(theirs) < 0 {
		mine, theirs = theirs, mine
	}
	return mine, theirs, errors.Join(err, theirErr)
}

// Words is a price in words, with its basis where it or the one that it is compared with has one.
func (p *Priced) Words(beside Priced) string {
	if one := NumberOf(1); p.basis().Cmp(one) == 0 && beside.basis().Cmp(one) == 0 {
		return p.UnitPrice.String()
	}
	return p.UnitPrice.String() + " per " + p.basis().Plain()
}

// basis is how many units the price is for.
func (p *Priced) basis() Number {
	if p.PriceBasis.Sign() <= 0 {
		return NumberOf(1)
	}
	return p.PriceBasis
}

// Amount is what the quantity costs, rounded to the digits of a currency; absent if it has no price.
func (p *Priced) Amount(r Rounding, currency string) (Number, error) {
	if !p.UnitPrice.set {
		return Number{}, nil
	}
	var s sum
	amount := p.amount(&s, r, CurrencyDigits(currency))
	return Number{amount, true}, s.err
}

// Parts are the quantities of the line with their terms, in the order in which they are billed: first those that kept
// an earlier price, last those at the line's own price.
func (l *Line) Parts() ([]Priced, error) {
	rest, err := l.Wanted()
	if err != nil {
		return nil, err
	}
	parts := make([]Priced, 0, len(l.Earlier)+1)
	for _, p := range l.Earlier {
		if rest, err = rest.Sub(p.Quantity); err != nil {
			return nil, err
		}
		parts = append(parts, p)
	}
	if rest.Sign() > 0 || len(parts) == 0 {
		parts = append(parts, l.terms(rest))
	}
	return parts, nil
}

// Unbilled returns the parts of the line that are billed next, up to a quantity: those that have not been billed
// completely, in their order. A quantity beyond the line's costs what the line's own terms say.
func (l *Line) Unbilled(billed []Priced, quantity Number) (parts []Priced, err error) {
	all, err := l.Parts()
	if err != nil {
		return nil, err
	}
	// A quantity that was billed on the terms of a part belongs to that part. A quantity that was billed at any other
	// price belongs to whichever part is left.
	for _, own := range []bool{true, false} {
		for k := range billed {
			for i := range all {
				if own && !all[i].SameTerms(billed[k]) {
					continue
				}
				take := billed[k].Quantity
				if take.Cmp(all[i].Quantity) > 0 {
					take = all[i].Quantity
				}
				if take.Sign() <= 0 {
					continue
				}
				if all[i].Quantity, err = all[i].Quantity.Sub(take); err != nil {
					return nil, err
				}
				if billed[k].Quantity, err = billed[k].Quantity.Sub(take); err != nil {
					return nil, err
				}
			}
		}
	}
	for _, p := range append(all, l.terms(quantity)) {
		if p.Quantity.Cmp(quantity) > 0 {
			p.Quantity = quantity
		}
		if p.Quantity.Sign() <= 0 {
			continue
		}
		if quantity, err = quantity.Sub(p.Quantity); err != nil {
			return nil, err
		}
		if last := len(parts) - 1; last >= 0 && parts[last].SameTerms(p) {
			if parts[last].Quantity, err = parts[last].Quantity.Add(p.Quantity); err != nil {
				return nil, err
			}
			continue
		}
		parts = append(parts, p)
	}
	return parts, nil
}

// done is how much of the line has moved or is invoiced, whichever is more.
func (l *Line) done() Number {
	if gone := l.Gone(); gone.Cmp(l.Invoiced) > 0 {
		return gone
	}
	return l.Invoiced
}

// KeepPrices lets what has moved or is invoiced of a line keep the price that it had, if the line of is has another
// price than that of was: a new price counts for what is open. Lines for which all says true change as a whole.
func KeepPrices(was, is *Order, all func(*Line) bool) error {
	for i := range is.Lines {
		l := &is.Lines[i]
		at := 0
		if l.ID != 0 {
			at = was.Position(l.ID)
		}
		if at == 0 {
			continue
		}
		before := &was.Lines[at-1]
		l.Earlier = append([]Priced(nil), before.Earlier...)
		if all != nil && all(l) {
			l.Earlier = nil
			continue
		}
		done := l.done()
		kept := Number{}
		var err error
		for k := range l.Earlier { // goods that were taken back do not keep their price
			p := &l.Earlier[k]
			left, subErr := done.Sub(kept)
			if subErr != nil {
				return subErr
			}
			if p.Quantity.Cmp(left) > 0 {
				p.Quantity = left
			}
			if p.Quantity.Sign() <= 0 {
				l.Earlier = l.Earlier[:k]
				break
			}
			if kept, err = kept.Add(p.Quantity); err != nil {
				return err
			}
		}
		old := before.terms(Number{})
		if now := l.terms(Number{}); old.SameTerms(now) || !old.UnitPrice.set { // a first price is that of the whole line
			continue
		}
		if old.Quantity, err = before.done().Sub(kept); err != nil {
			return err
		}
		if old.Quantity.Sign() <= 0 {
			continue
		}
		if last := len(l.Earlier) - 1; last >= 0 && l.Earlier[last].SameTerms(old) {
			if l.Earlier[last].Quantity, err = l.Earlier[last].Quantity.Add(old.Quantity); err != nil {
				return err
			}
			continue
		}
		l.Earlier = append(l.Earlier, old)
	}
	return nil
}
