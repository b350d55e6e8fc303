package book

import (
	"errors"
	"slices"

	"koinos/core/finding"
	"koinos/core/order"
)

// owed is the share of a part of an invoice that has not been given back yet.
type owed struct {
	order.InvoiceLine
	was order.InvoiceLine
}

// credit works out a credit note. It takes back a whole invoice or some of its lines, and no more than is left of it.
// The last credit of a part takes exactly what is left of its money.
func (b *billing) credit(_ bool, known *order.Invoice) error {
	was, left, err := b.left(known)
	if err != nil || was == nil {
		return err
	}
	whole := len(b.in.Lines) == 0
	if whole {
		for i := range left {
			if left[i].Quantity.Sign() > 0 {
				if err := b.give(&left[i], left[i].Quantity); err != nil {
					return err
				}
			}
		}
		if len(b.v.Lines) == 0 {
			b.e.Add(finding.UpdateConflict, 0, "reverses", b.v.Reverses, "The invoice %s was taken back before.", b.v.Reverses)
			return nil
		}
	}
	of := map[int][]*owed{} // the parts of each line
	for i := range left {
		of[left[i].Line] = append(of[left[i].Line], &left[i])
	}
	for i := range b.in.Lines {
		if err := b.creditLine(i, of); err != nil {
			return err
		}
	}
	if b.e.Refused() {
		return nil
	}
	whole = !slices.ContainsFunc(left, func(p owed) bool { return p.Quantity.Sign() != 0 })
	if err := b.chargesBack(was, whole, known); err != nil {
		return err
	}
	if !b.in.TaxAmount.IsZero() { // said above zero, as all of a credit note
		if b.in.TaxAmount, err = order.NumberOf(0).Sub(b.in.TaxAmount.Abs()); err != nil {
			return err
		}
	}
	if err := b.sums(); err != nil {
		return err
	}
	if whole {
		if err := b.rest(was, known); err != nil {
			return err
		}
	}
	if known != nil {
		return nil
	}
	if stated := b.v.Stated.Abs(); !stated.IsZero() &&
		!order.Within(stated, b.v.Total.Abs(), order.Smallest(b.v.Currency)) {
		b.e.Add(finding.InvoiceDiffers, 0, "total", stated.String(),
			"The credit note states a total of %s; what it takes back of the invoice %s makes %s.", stated, was.Number,
			b.v.Total.Abs())
	}
	for i := range b.v.Lines { // what is invoiced of the lines is less now
		v := &b.v.Lines[i]
		line := &b.is.Lines[b.is.Position(v.Line)-1]
		before := line.Invoiced
		if line.Invoiced, err = before.Add(v.Quantity); err != nil {
			return err
		}
		b.beside(line, "invoiced", before.Plain(), line.Invoiced.Plain())
	}
	return nil
}

// left returns what earlier credit notes have left of the invoice that is taken back, or nil if there is no such
// invoice.
func (b *billing) left(known *order.Invoice) (was *order.Invoice, left []owed, err error) {
	was = b.invoiceOf(b.v.Reverses)
	switch {
	case was == nil:
		b.e.Add(finding.MovementUnknown, 0, "reverses", b.v.Reverses, "No invoice %s bills anything of the order %s.",
			b.v.Reverses, b.stored.Order.Number)
		return nil, nil, nil
	case was.Reverses != "":
		b.e.Add(finding.UpdateConflict, 0, "reverses", b.v.Reverses,
			"The invoice %s itself takes back %s; bill once more what is owed.", b.v.Reverses, was.Reverses)
		return nil, nil, nil
	}
	at := map[[2]int]int{} // by line and part
	for _, l := range was.Lines {
		if b.is.Position(l.Line) > 0 {
			at[[2]int{l.Line, l.Part}] = len(left)
			left = append(left, owed{l, l})
		}
	}
	for i := range b.stored.Invoices {
		v := &b.stored.Invoices[i]
		if v.Reverses != b.v.Reverses || known != nil && v.ID == known.ID {
			continue
		}
		for _, back := range v.Lines {
			k, there := at[[2]int{back.Line, back.Part}]
			if !there {
				continue
			}
			p := &left[k]
			var one, two error
			p.Quantity, one = p.Quantity.Add(back.Quantity)
			p.Amount, two = p.Amount.Add(back.Amount)
			err = errors.Join(err, one, two)
		}
	}
	return was, left, err
}

// creditLine gives a quantity of a line back, beginning with the last of its parts.
func (b *billing) creditLine(i int, of map[int][]*owed) error {
	line := b.lineOf(i, false)
	if line == nil {
		return nil
	}
	if _, ok := b.inUnit(i, line); !ok {
		return nil
	}
	q, all := b.in.Lines[i].Quantity, order.Number{}
	left := of[line.ID]
	for _, p := range left {
		var err error
		if all, err = all.Add(p.Quantity); err != nil {
			return err
		}
	}
	if q.Sign() <= 0 || q.Cmp(all) > 0 {
		b.e.Add(finding.UpdateConflict, i+1, "quantity", q.String(),
			"Of line %s, %s can be taken back of the invoice %s, not %s.",
			line.Number, orZero(all), b.v.Reverses, orZero(q))
		return nil
	}
	for k := len(left) - 1; k >= 0 && q.Sign() > 0; k-- {
		p := left[k]
		if p.Quantity.Sign() <= 0 {
			continue
		}
		take := q
		if take.Cmp(p.Quantity) > 0 {
			take = p.Quantity
		}
		if err := b.give(p, take); err != nil {
			return err
		}
		var err error
		if q, err = q.Sub(take); err != nil {
			return err
		}
	}
	return nil
}

// give takes a quantity from what is left of a part of the invoice.
func (b *billing) give(p *owed, q order.Number) error {
	back := p.was
	amount := p.Amount
	if q.Cmp(p.Quantity) < 0 {
		priced := order.Priced{Quantity: q, UnitPrice: back.UnitPrice, PriceBasis: back.PriceBasis,
			DiscountPercent: back.DiscountPercent}
		var err error
		if amount, err = priced.Amount(b.s.Rounding, b.stored.Currency); err != nil {
			return err
		}
		if back.UnitPrice.IsZero() { // only its amount is known
			if amount, err = p.was.Amount.Mul(q); err == nil {
				amount, err = amount.Quo(p.was.Quantity)
			}
			if err != nil {
				return err
			}
			amount = amount.Round(b.s.Rounding, order.CurrencyDigits(b.stored.Currency))
		}
	}
	var errs [4]error
	back.Quantity, errs[0] = order.NumberOf(0).Sub(q)
	back.Amount, errs[1] = order.NumberOf(0).Sub(amount)
	p.Quantity, errs[2] = p.Quantity.Sub(q)
	p.Amount, errs[3] = p.Amount.Sub(amount)
	b.bills(back)
	return errors.Join(errs[:]...)
}

// chargesBack gives back the charges that the credit note names. With the last of the goods it gives back all that
// are left.
func (b *billing) chargesBack(was *order.Invoice, whole bool, known *order.Invoice) error {
	for _, said := range b.in.Charges {
		if !slices.ContainsFunc(was.Charges, func(c order.InvoiceCharge) bool {
			return c.Is(said)
		}) {
			b.e.Add(finding.UpdateConflict, 0, said.Field(), said.Amount.String(), "The invoice %s bills no %s.", was.Number,
				said.Field())
		}
	}
	given := map[charging]order.Number{}
	for i := range b.stored.Invoices {
		if v := &b.stored.Invoices[i]; v.Reverses == was.Number && (known == nil || v.ID != known.ID) {
			add(given, v.Charges)
		}
	}
	for _, c := range was.Charges {
		left, err := c.Amount.Add(given[chargingOf(c.Charge, c.Line)])
		take := order.Number{}
		if whole {
			take = left
		}
		for _, said := range b.in.Charges {
			if c.Is(said) {
				take = said.Amount
			}
		}
		if err != nil || take.Sign() == 0 {
			if err != nil {
				return err
			}
			continue
		}
		if take.Cmp(left) > 0 {
			b.e.Add(finding.UpdateConflict, 0, c.Field(), take.String(),
				"Of %s, %s can be taken back of the invoice %s, not %s.",
				c.Field(), orZero(left), was.Number, take)
			continue
		}
		if c.Amount, err = order.NumberOf(0).Sub(take); err != nil {
			return err
		}
		b.v.Charges = append(b.v.Charges, c)
	}
	return nil
}

// rest lets the last credit note of an invoice take exactly what is left of its tax and total.
func (b *billing) rest(was, known *order.Invoice) (err error) {
	tax, total := was.Tax, was.Total
	for i := range b.stored.Invoices {
		if v := &b.stored.Invoices[i]; v.Reverses == was.Number && (known == nil || v.ID != known.ID) {
			var one, two error
			tax, one = tax.Add(v.Tax)
			total, two = total.Add(v.Total)
			err = errors.Join(err, one, two)
		}
	}
	if err == nil && !was.Tax.IsZero() {
		b.v.Tax, err = order.NumberOf(0).Sub(tax)
	}
	if err == nil && !was.Total.IsZero() {
		b.v.Total, err = order.NumberOf(0).Sub(total)
	}
	return err
}
