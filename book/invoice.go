package book

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"

	"koinos/core/finding"
	"koinos/core/order"
)

// billing is an invoice or a credit note that is being worked out for its order.
type billing struct {
	*noticed
	v       *order.Invoice
	whole   *order.Order // the order with its sums as it was before
	ours    bool         // we make it: what it does not say of money follows from the order
	billed  *account
	speaks  map[int]int  // which line of the notice is about a line of the order
	over    order.Number // by how much it differs from what the order says, in money
	differs bool
}

// invoice stores what the seller bills or gives back, and compares it with the order.
func (n *noticed) invoice() error {
	in, said := n.in, n.statement()
	b := &billing{noticed: n, v: &order.Invoice{Partner: n.stored.Partner, Number: said.Number, On: n.on(said.On),
		Currency: cmp.Or(in.Currency, n.stored.Currency), InvoicePart: order.InvoicePart{Reverses: said.Reverses,
			Reason: said.Reason, Shipment: said.Shipment, Stated: in.StatedTotal}}}
	open, ok := n.opens()
	if !ok {
		return nil
	}
	b.ours = open || n.e.Target != 0 || !statesMoney(in)
	b.whole = n.is.Clone()
	if _, err := b.whole.Compute(n.s.Rounding); err != nil {
		return err
	}
	known, err := b.known(open)
	if err != nil || n.same || n.e.Refused() {
		return err
	}
	n.names = map[string]string{"invoiced": "quantity"}
	work := b.bill
	if b.v.Reverses != "" {
		work = b.credit
	}
	if err := work(open, known); errors.Is(err, order.ErrTooLong) {
		n.e.Add(finding.AmountTooLarge, 0, "total", "", "The invoice's sums cannot be worked out: %v.", err)
		return nil
	} else if err != nil || n.same || n.e.Refused() {
		return err
	}
	if known != nil {
		return b.again(known)
	}
	n.c.Invoice = b.v
	return nil
}

// statesMoney reports whether an invoice says itself how much anything of it is.
func statesMoney(in *order.Order) bool {
	return len(in.Charges) > 0 || !in.StatedTotal.IsZero() || !in.StatedNet.IsZero() || !in.TaxAmount.IsZero() ||
		slices.ContainsFunc(in.Lines, func(l order.Line) bool {
			return !l.UnitPrice.IsZero() || !l.StatedAmount.IsZero() || len(l.Charges) > 0
		})
}

// known returns the stored invoice of the same number. An invoice that says the same counts as the same, whatever it
// names.
func (b *billing) known(open bool) (*order.Invoice, error) {
	if b.v.Number == "" {
		if b.stored.Kind == order.Purchase { // the supplier gives numbers; ours come from the series
			b.v.Number = b.ownNumber()
		}
		return nil, nil
	}
	known := b.invoiceOf(b.v.Number)
	if known == nil {
		return nil, nil
	}
	if known.Reverses != b.v.Reverses {
		why := "takes back " + known.Reverses + ", and does not bill anything"
		switch {
		case known.Reverses == "":
			why = "bills goods, and takes nothing back"
		case b.v.Reverses != "":
			why = "takes back " + known.Reverses + ", and not " + b.v.Reverses
		}
		b.e.Add(finding.IdentityStored, 0, "invoice", b.v.Number, "The invoice %s %s.", b.v.Number, why).Hint =
			"Nothing was changed. Give this one a number of its own."
		return known, nil
	}
	b.same = open || b.v.Reverses != "" && len(b.in.Lines) == 0 // what was left then is what it is of
	return known, nil
}

// invoiceOf returns the part of a numbered invoice that is for the order, or nil.
func (n *noticed) invoiceOf(number string) *order.Invoice {
	for i := range n.stored.Invoices {
		if v := &n.stored.Invoices[i]; v.Number == number && v.Partner == n.stored.Partner {
			return v
		}
	}
	return nil
}

// again finds out whether a stored invoice of the same number says the same.
func (b *billing) again(known *order.Invoice) error {
	b.same = true
	asMoved := func(lines []order.InvoiceLine) (moved []order.MovementLine) {
		for _, l := range lines {
			moved = append(moved, order.MovementLine{Line: l.Line, Quantity: l.Quantity})
		}
		return moved
	}
	same, err := sameMoved(asMoved(known.Lines), asMoved(b.v.Lines))
	what := "quantities"
	priced := !slices.ContainsFunc(b.in.Lines,
		func(l order.Line) bool { return l.UnitPrice.IsZero() && l.StatedAmount.IsZero() })
	if same && err == nil && priced {
		what = "amounts"
		same = known.Goods.IsZero() || order.Within(known.Goods, b.v.Goods, order.Number{})
	}
	if err == nil && !same {
		b.e.Add(finding.IdentityStored, 0, "invoice", b.v.Number, "The invoice %s of %s came before, with other %s.",
			b.v.Number, b.v.Partner,
			what).Hint = "Nothing was changed. An invoice counts once by its number; ask the partner which one holds."
	}
	return err
}

// bill works out an invoice of lines.
func (b *billing) bill(open bool, known *order.Invoice) error {
	if open {
		if err := b.unbilled(); err != nil || len(b.in.Lines) == 0 {
			b.same = len(b.in.Lines) == 0 // everything that has moved is billed
			return err
		}
	}
	for i := range b.in.Lines {
		l := &b.in.Lines[i]
		if l.Quantity.Sign() < 0 {
			b.e.Add(finding.QuantityNegative, i+1, "quantity", l.Quantity.String(), "The quantity is %s.",
				l.Quantity).Hint = "What is given back is a credit note: reverses names the invoice, and quantities are above zero."
			continue
		}
		line := b.lineOf(i, false)
		if line == nil || !b.quantified(i, line) {
			continue
		}
		if _, ok := b.inUnit(i, line); !ok {
			continue
		}
		if err := b.line(i, line, known != nil); err != nil {
			return err
		}
	}
	if b.e.Refused() {
		return nil
	}
	if err := b.charges(); err != nil {
		return err
	}
	if err := b.sums(); err != nil {
		return err
	}
	if known == nil {
		if err := b.compare(); err != nil {
			return err
		}
	}
	return nil
}

// line bills a quantity of a line, at the price that the notice states or otherwise at the order's prices.
func (b *billing) line(i int, line *order.Line, known bool) error {
	l := &b.in.Lines[i]
	was := line.Invoiced
	expected, err := b.next(line, l.Quantity)
	if err != nil {
		return err
	}
	first, tax := len(b.v.Lines), l.TaxPercent
	if b.ours && tax.IsZero() {
		tax = line.TaxPercent
	}
	add := func(p order.Priced, amount order.Number) {
		b.bills(order.InvoiceLine{Line: line.ID, Quantity: p.Quantity, UnitPrice: p.UnitPrice,
			Amount: amount, InvoiceTerms: order.InvoiceTerms{Part: len(b.account().own[line.ID]), PriceBasis: p.PriceBasis,
				DiscountPercent: p.DiscountPercent, TaxPercent: tax}})
	}
	should := order.Number{}
	for _, p := range expected {
		amount, err := b.amount(line, p)
		if err == nil && !amount.IsZero() {
			should, err = should.Add(amount)
		}
		if err != nil {
			return err
		}
		if b.follows(l) {
			add(p, amount)
		}
	}
	if len(b.v.Lines) == first {
		p := order.Priced{Quantity: l.Quantity, UnitPrice: l.UnitPrice, PriceBasis: l.PriceBasis,
			DiscountPercent: l.DiscountPercent}.Beside(order.Priced{UnitPrice: line.UnitPrice, PriceBasis: line.PriceBasis})
		amount := l.StatedAmount
		if !l.UnitPrice.IsZero() {
			if amount, err = p.Amount(b.s.Rounding, b.stored.Currency); err != nil {
				return err
			}
		}
		add(p, amount)
	}
	if known {
		return nil
	}
	if line.Invoiced, err = was.Add(l.Quantity); err != nil {
		return err
	}
	b.beside(line, "invoiced", was.Plain(), line.Invoiced.Plain())
	moved, err := line.Gone().Sub(line.Returned)
	if err != nil {
		return err
	}
	if line.Invoiced.Cmp(moved) > 0 {
		b.e.Add(finding.OverInvoiced, i+1, "quantity", line.Invoiced.String(),
			"Of line %s, %s are invoiced, more than the %s that were %s.", line.Number, line.Invoiced, orZero(moved),
			b.went(line))
	}
	if b.follows(l) {
		return b.residue(line, first)
	}
	return b.price(i, line, first, should, len(expected) > 1)
}

// follows reports whether the money of a line of the invoice follows from the order.
func (b *billing) follows(l *order.Line) bool {
	return b.ours && l.UnitPrice.IsZero() && l.StatedAmount.IsZero()
}

// amount is what a part of a line costs. If only the line's amount is known, it is a share of that.
func (b *billing) amount(line *order.Line, p order.Priced) (order.Number, error) {
	whole := &b.whole.Lines[b.whole.Position(line.ID)-1]
	wanted, err := whole.Wanted()
	if err != nil || !p.UnitPrice.IsZero() || whole.Amount.IsZero() || wanted.Sign() <= 0 {
		amount, priceErr := p.Amount(b.s.Rounding, b.stored.Currency)
		return amount, errors.Join(err, priceErr)
	}
	amount, err := whole.Amount.Mul(p.Quantity)
	if err == nil {
		amount, err = amount.Quo(wanted)
	}
	return amount.Round(b.s.Rounding, order.CurrencyDigits(b.stored.Currency)), err
}

// next returns the parts of a line that are billed next, each at its price.
func (b *billing) next(line *order.Line, quantity order.Number) ([]order.Priced, error) {
	var billed []order.Priced
	var err error
	b.eachOf(line.ID, func(l *order.InvoiceLine) {
		p := order.Priced{Quantity: l.Quantity, UnitPrice: l.UnitPrice, PriceBasis: l.PriceBasis,
			DiscountPercent: l.DiscountPercent}
		at := slices.IndexFunc(billed, func(o order.Priced) bool { return o.SameTerms(p) })
		switch {
		case err != nil:
		case at < 0:
			billed = append(billed, p)
		default:
			billed[at].Quantity, err = billed[at].Quantity.Add(p.Quantity)
		}
	})
	if err != nil {
		return nil, err
	}
	return line.Unbilled(billed, quantity)
}

// went names the direction in which the goods of a line have moved, as far as it is known.
func (n *noticed) went(l *order.Line) string {
	if l.Shipped.Cmp(l.Received) > 0 {
		return verbs[order.Shipment]
	}
	return verbs[n.stored.Kind.Moves()]
}

// residue lets the last invoice of a line take exactly what is left of the line's money.
func (b *billing) residue(line *order.Line, first int) error {
	wanted, err := line.Wanted()
	if err != nil || wanted.Sign() <= 0 || line.Invoiced.Cmp(wanted) != 0 || len(b.v.Lines) == first {
		return err
	}
	left, pieces := b.whole.Lines[b.whole.Position(line.ID)-1].Amount, 0
	b.eachOf(line.ID, func(l *order.InvoiceLine) {
		if err == nil {
			left, err = left.Sub(l.Amount)
			pieces++
		}
	})
	if err != nil || left.Sign() == 0 {
		return err
	}
	// A difference that rounding cannot explain means that something was billed at another price.
	most, err := order.Smallest(b.stored.Currency).Mul(order.NumberOf(int64(pieces)))
	if err == nil && left.Abs().Cmp(most) <= 0 {
		last := &b.v.Lines[len(b.v.Lines)-1]
		last.Amount, err = last.Amount.Add(left)
	}
	return err
}

// price compares the price at which a line is billed with the order's.
func (b *billing) price(i int, line *order.Line, at int, should order.Number, several bool) error {
	billed := b.v.Lines[at].Amount
	if line.UnitPrice.IsZero() && len(line.Earlier) == 0 || billed.IsZero() || billed.Cmp(should) == 0 {
		return nil
	}
	more, err := billed.Sub(should)
	if err != nil {
		return err
	}
	l := &b.in.Lines[i]
	ordered := order.Priced{UnitPrice: line.UnitPrice, PriceBasis: line.PriceBasis}
	invoiced := order.Priced{UnitPrice: l.UnitPrice, PriceBasis: b.v.Lines[at].PriceBasis}
	field, value, what, prices := "unit_price", l.UnitPrice, invoiced.Words(ordered), ordered.Words(invoiced)
	if l.UnitPrice.IsZero() {
		field, value, what, prices = "amount", l.StatedAmount, l.StatedAmount.String(), ordered.Words(ordered)
	}
	if several {
		prices = fmt.Sprintf("%s, and other prices before", prices)
	}
	b.e.Add(finding.PriceDiffers, i+1, field, value.String(), "Line %s is invoiced at %s; the order says %s: %s.",
		line.Number, what, prices, b.more(more))
	b.differs = true
	b.over, err = b.over.Add(more)
	return err
}

// more describes a difference in money.
func (b *billing) more(n order.Number) string {
	money := strings.TrimSpace(n.Abs().Round(b.s.Rounding, order.CurrencyDigits(b.stored.Currency)).String() + " " +
		b.stored.Currency)
	if n.Sign() < 0 {
		return money + " less"
	}
	return money + " more"
}

// unbilled fills in what has moved and is not billed yet: for the lines that the notice names without a quantity, or
// for all lines if it names none.
func (b *billing) unbilled() error {
	left := budget{}
	named := len(b.in.Lines) > 0
	for i := range b.is.Lines {
		l := &b.is.Lines[i]
		q, err := l.Gone().Sub(l.Returned)
		if err == nil {
			q, err = q.Sub(l.Invoiced)
		}
		if err != nil {
			return err
		}
		if left[l.ID] = q; !named && q.Sign() > 0 {
			b.in.Lines = append(b.in.Lines, order.Line{ID: l.ID, Quantity: q})
		}
	}
	for i := range b.in.Lines {
		l := &b.in.Lines[i]
		at := b.find(l)
		if at < 0 {
			continue // bill says so
		}
		id := b.is.Lines[at].ID
		if l.Quantity.IsZero() && left[id].Sign() > 0 {
			l.Quantity = left[id]
		}
		if err := left.take(id, l.Quantity); err != nil {
			return err
		}
	}
	return nil
}

// sums works out goods, tax and total of the invoice.
func (b *billing) sums() error {
	o := order.Order{Currency: b.v.Currency, TaxAmount: b.in.TaxAmount,
		TaxTreatment: cmp.Or(b.in.TaxTreatment, b.stored.TaxTreatment), TaxRounding: b.stored.TaxRounding,
		TaxBase: b.stored.TaxBase}
	for _, l := range b.v.Lines {
		o.Lines = append(o.Lines, order.Line{Quantity: l.Quantity, StatedAmount: orZero(l.Amount), TaxPercent: l.TaxPercent})
	}
	for _, c := range b.v.Charges {
		to := &o.Charges
		if own := b.account().own[c.Line]; len(own) > 0 {
			to = &o.Lines[own[0]].Charges
		}
		*to = append(*to, c.Charge)
	}
	if b.in.TaxAmount.Sign() != 0 { // what the invoice says counts
		for i := range o.Lines {
			o.Lines[i].TaxPercent = order.Number{}
		}
	} else if tax, err := b.taxShare(); err != nil {
		return err
	} else if !tax.IsZero() {
		o.TaxAmount = tax
	}
	if _, err := o.Compute(b.s.Rounding); err != nil {
		return err
	}
	b.v.Goods, b.v.Tax, b.v.Total = o.Goods, o.Tax, o.Total
	return nil
}

// taxShare is the share of a tax that the order states as a whole. It is used for our own invoices if no line has a
// rate.
func (b *billing) taxShare() (tax order.Number, err error) {
	if !b.ours || b.whole.TaxAmount.Sign() == 0 ||
		slices.ContainsFunc(b.whole.Lines, func(l order.Line) bool { return !l.TaxPercent.IsZero() }) {
		return tax, nil
	}
	part, all, done, err := b.progress(0)
	if err != nil {
		return tax, err
	}
	tax = b.whole.TaxAmount
	if !done && all.Sign() > 0 {
		if tax, err = tax.Mul(part); err == nil {
			tax, err = tax.Quo(all)
		}
		tax = tax.Round(b.s.Rounding, order.CurrencyDigits(b.stored.Currency))
	}
	for i := range b.stored.Invoices {
		if err == nil {
			tax, err = tax.Sub(b.stored.Invoices[i].Tax)
		}
	}
	return tax, err
}

// compare reports where the invoice's charges and total differ from the order's, with the difference in money.
func (b *billing) compare() error {
	if !b.ours {
		for _, c := range b.v.Charges {
			ordered := b.agreed(c.Charge, c.Line)
			sofar, err := b.charged(c.Charge, c.Line).Add(c.Amount)
			if err != nil || sofar.Cmp(ordered) <= 0 {
				continue
			}
			more, err := sofar.Sub(ordered)
			if c.Allowance {
				more, err = ordered.Sub(sofar)
			}
			if err == nil {
				b.e.Add(finding.InvoiceDiffers, b.saying(c.Line), c.Field(), c.Amount.String(),
					"With this invoice, %s of %s are invoiced; the order says %s: %s.", sofar, c.Field(), orZero(ordered),
					b.more(more))
				b.differs = true
				b.over, _ = b.over.Add(more)
			}
		}
		if err := b.forgotten(); err != nil {
			return err
		}
	}
	if !b.v.Stated.IsZero() && !order.Within(b.v.Stated, b.v.Total, order.MustNumber("0.01")) {
		b.e.Add(finding.InvoiceDiffers, 0, "total", b.v.Stated.String(),
			"The invoice states a total of %s; its lines, charges and tax make %s.", b.v.Stated, b.v.Total)
	}
	if b.differs && b.over.Sign() != 0 {
		b.e.Add(finding.InvoiceDiffers, 0, "invoice", b.v.Number, "The invoice differs from the order by %s.", b.more(b.over))
	}
	return nil
}

// agreed is the amount of a charge in the order's header or in one of its lines.
func (b *billing) agreed(c order.Charge, line int) order.Number {
	charges := b.is.Charges
	if line != 0 {
		charges = b.is.Lines[b.is.Position(line)-1].Charges
	}
	due, err := order.Billable(charges)
	for _, o := range due {
		if err == nil && o.Is(c) {
			return o.Amount
		}
	}
	return order.Number{}
}

// saying returns the line of the notice that is about a line of the order; 0 is the header, or no line.
func (b *billing) saying(line int) int {
	if line == 0 {
		return 0
	}
	if b.speaks == nil {
		b.speaks = map[int]int{}
		for i := len(b.in.Lines) - 1; i >= 0; i-- { // the first of a line counts
			if at := b.find(&b.in.Lines[i]); at >= 0 {
				b.speaks[b.is.Lines[at].ID] = i + 1
			}
		}
	}
	return b.speaks[line]
}

// forgotten reports the allowances of the order that no invoice has taken off although everything they apply to is
// invoiced.
func (b *billing) forgotten() error {
	own := map[charging]order.Number{}
	add(own, b.v.Charges)
	each := func(line int, charges []order.Charge) error {
		if len(charges) == 0 {
			return nil
		}
		_, _, done, err := b.progress(line)
		if err != nil || !done {
			return err
		}
		due, err := order.Billable(charges)
		if err != nil {
			return err
		}
		for _, c := range due {
			sofar, err := b.charged(c, line).Add(own[chargingOf(c, line)])
			if err != nil {
				return err
			}
			left, err := c.Amount.Sub(sofar)
			if err != nil || !c.Allowance || left.Sign() <= 0 {
				continue
			}
			b.e.Add(finding.InvoiceDiffers, b.saying(line), c.Field(), sofar.String(),
				"With this, all is invoiced, but only %s of the %s of %s were taken off: %s.", orZero(sofar), c.Amount, c.Field(),
				b.more(left))
			b.differs = true
			b.over, _ = b.over.Add(left)
		}
		return nil
	}
	if err := each(0, b.is.Charges); err != nil {
		return err
	}
	for i := range b.is.Lines {
		if err := each(b.is.Lines[i].ID, b.is.Lines[i].Charges); err != nil {
			return err
		}
	}
	return nil
}
