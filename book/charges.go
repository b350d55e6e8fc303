package book

import (
	"cmp"
	"errors"
	"koinos/core/finding"
	"koinos/core/order"
	"slices"
	"strings"
)

// Rules for billing the charges of an order once if it has several invoices.
const (
	chargesFirst = "first" // with the first invoice
	chargesShare = "share" // as much of them as is billed of the goods
	chargesLast  = "last"  // with the invoice with which everything is billed
	chargesNone  = "none"
)

// charges returns the charges that the notice states, or those that the rule takes from the order.
func (b *billing) charges() error {
	said := func(charges []order.Charge, line int) error {
		if len(charges) == 0 {
			return nil
		}
		goods, err := b.goods(line)
		for _, c := range charges {
			if err == nil && !c.Percent.IsZero() {
				c, err = c.Of(goods, b.s.Rounding, b.stored.Currency)
			}
			b.v.Charges = append(b.v.Charges, order.InvoiceCharge{Charge: c, Line: line})
		}
		return err
	}
	if err := said(b.in.Charges, 0); err != nil {
		return err
	}
	for i := range b.in.Lines {
		l := &b.in.Lines[i]
		if at := b.find(l); at >= 0 {
			if err := said(l.Charges, b.is.Lines[at].ID); err != nil {
				return err
			}
		}
	}
	rule := strings.ToLower(strings.TrimSpace(b.statement().Charges))
	switch {
	case rule == "" && (!b.ours || b.stored.Kind != order.Sales || len(b.v.Charges) > 0):
		return nil
	case rule != "" && !slices.Contains([]string{chargesFirst, chargesShare, chargesLast, chargesNone}, rule):
		b.e.Add(finding.UnknownChoice, 0, "charges", rule, "%q does not say when charges are billed.", rule).Hint =
			"It may be first, share, last or none."
		return nil
	}
	if rule == chargesNone {
		return nil
	}
	part, all, done, err := b.progress(0)
	if err != nil {
		return err
	}
	bill := func(charges []order.Charge, line int, part, all order.Number, done bool) error {
		due, err := order.Billable(charges)
		for _, c := range due {
			if err == nil {
				err = b.charge(cmp.Or(rule, usually(c, charges)), c, line, part, all, done)
			}
		}
		return err
	}
	if err := bill(b.is.Charges, 0, part, all, done); err != nil {
		return err
	}
	for i := range b.is.Lines {
		l := &b.is.Lines[i]
		if len(l.Charges) == 0 || len(b.account().own[l.ID]) == 0 {
			continue
		}
		part, all, done, err := b.progress(l.ID)
		if err != nil {
			return err
		}
		if err := bill(l.Charges, l.ID, part, all, done); err != nil {
			return err
		}
	}
	return nil
}

// usually is the rule for a charge if nobody states one: a share of the goods follows them, an amount is billed at
// once.
func usually(c order.Charge, charges []order.Charge) string {
	if slices.ContainsFunc(charges, func(d order.Charge) bool { return d.Is(c) && !d.Percent.IsZero() }) {
		return chargesShare
	}
	return chargesFirst
}

// charge bills what a rule takes of a charge of the order, or of one of its lines.
func (b *billing) charge(rule string, c order.Charge, line int, part, all order.Number, done bool) error {
	left, err := c.Amount.Sub(b.charged(c, line))
	if err != nil || left.Sign() == 0 {
		return err
	}
	switch {
	case done || rule == chargesFirst:
	case rule == chargesLast || all.Sign() == 0:
		return nil
	default:
		due, err := c.Amount.Mul(part)
		if err == nil {
			due, err = due.Quo(all)
		}
		if err == nil {
			left, err = due.Round(b.s.Rounding, order.CurrencyDigits(b.stored.Currency)).Sub(b.charged(c, line))
		}
		if err != nil || left.Sign() <= 0 {
			return err
		}
	}
	c.Amount = left
	b.v.Charges = append(b.v.Charges, order.InvoiceCharge{Charge: c, Line: line})
	return nil
}

// progress is the share that is billed once this invoice is counted: of the money for the goods, or of a line's
// quantity. done says that this is everything.
func (b *billing) progress(line int) (part, all order.Number, done bool, err error) {
	if line != 0 {
		l := &b.is.Lines[b.is.Position(line)-1]
		wanted, err := l.Wanted()
		return l.Invoiced, wanted, l.Invoiced.Cmp(wanted) >= 0, err
	}
	done = true
	for i := range b.is.Lines {
		wanted, wantedErr := b.is.Lines[i].Wanted()
		err = errors.Join(err, wantedErr)
		done = done && b.is.Lines[i].Invoiced.Cmp(wanted) >= 0
	}
	if err != nil {
		return part, all, done, err
	}
	add := func(lines []order.InvoiceLine) {
		for _, l := range lines {
			if err == nil {
				part, err = part.Add(l.Amount)
			}
		}
	}
	for i := range b.stored.Invoices {
		add(b.stored.Invoices[i].Lines)
	}
	add(b.v.Lines)
	return part, b.whole.Goods, done, err
}
