package check

import (
	"cmp"
	"slices"
	"strings"

	"koinos/core/finding"
	"koinos/core/intent"
	"koinos/core/order"
)

// Subject is an order that is being checked and that can note findings at the place where a field came from. A
// mapping's Draft is one.
type Subject interface {
	Add(code finding.Code, line int, field, value, format string, args ...any) *finding.Finding
	// Has reports whether there is a finding about the field already. A rule then adds none, so that one mistake is
	// reported once.
	Has(line int, field string) bool
	// Stated lists the figures that the document states and that are compared.
	Stated() []intent.Stated
}

// Terms are what the mapping says about figures.
type Terms struct {
	Tolerance order.Number
	Rounding  order.Rounding
}

// Order computes the order's sums and applies every rule. An order that is too wide is not looked at further.
func Order(o *order.Order, s Subject, terms Terms) {
	if Wide(o, s) {
		return
	}
	for _, rule := range rules {
		rule(o, s)
	}
	figures(o, s, terms)
}

var hundred = order.NumberOf(100)

// rules are the rules that need nothing but the order. They skip what a mapping's need has reported already.
var rules = []func(*order.Order, Subject){
	func(o *order.Order, s Subject) {
		if len(o.Lines) == 0 {
			s.Add(finding.OrderWithoutLines, 0, "", o.SenderNumber, "The order has a header but no line.")
		}
	},
	func(o *order.Order, s Subject) {
		if o.SenderNumber == "" && !s.Has(0, "sender_number") {
			s.Add(finding.IdentityMissing, 0, "sender_number", "", "The sender's order number is not known.")
		}
	},
	func(o *order.Order, s Subject) {
		for i := range o.Lines {
			l := &o.Lines[i]
			if l.Item == "" && l.BuyerItem == "" && l.SupplierItem == "" && l.GTIN == "" && l.Description == "" &&
				!anyItem(s, i+1) {
				s.Add(finding.LineWithoutItem, i+1, "item", "", "The line names no item and has no description.")
			}
			switch l.Quantity.Sign() {
			case -1:
				s.Add(finding.QuantityNegative, i+1, "quantity", l.Quantity.String(), "The quantity is %s.", l.Quantity)
			case 0:
				if !l.Quantity.IsZero() {
					s.Add(finding.QuantityZero, i+1, "quantity", l.Quantity.String(), "The quantity is zero.")
				}
			}
		}
	},
	func(o *order.Order, s Subject) {
		if len(o.Lines) < 2 {
			return
		}
		rise := func(a, b string) bool { return len(a) < len(b) || len(a) == len(b) && a < b }
		i := 1
		for i < len(o.Lines) && rise(o.Lines[i-1].Number, o.Lines[i].Number) {
			i++
		}
		if i == len(o.Lines) {
			return // as in nearly every document
		}
		first := make(map[string]int, len(o.Lines))
		for i := range o.Lines {
			n := o.Lines[i].Number
			if before, twice := first[n]; twice && n != "" {
				s.Add(finding.LineTwice, i+1, "number", n,
					"The order has a line %s already: its line %d in the order of the document.", n, before)
			} else {
				first[n] = i + 1
			}
		}
	},
	func(o *order.Order, s Subject) {
		below := func(line int, field string, n order.Number) {
			if n.Sign() < 0 {
				s.Add(finding.PriceNegative, line, field, n.String(), "%s is %s.", field, n)
			}
		}
		for i := range o.Lines {
			below(i+1, "unit_price", o.Lines[i].UnitPrice)
			for _, c := range o.Lines[i].Charges {
				if c.Percent.IsZero() {
					below(i+1, c.Field(), c.Amount)
				}
			}
		}
		for _, c := range o.Charges {
			if c.Percent.IsZero() {
				below(0, c.Field(), c.Amount)
			}
		}
	},
	func(o *order.Order, s Subject) {
		within := func(line int, field string, n order.Number, share bool) {
			if n.Sign() < 0 || share && n.Cmp(hundred) > 0 {
				s.Add(finding.OutOfRange, line, field, n.String(), "%s is %s.", field, n)
			}
		}
		for i := range o.Lines {
			l := &o.Lines[i]
			within(i+1, "discount_percent", l.DiscountPercent, true)
			within(i+1, "tax_percent", l.TaxPercent, true)
			within(i+1, "price_basis", l.PriceBasis, false)
			within(i+1, "shipped", l.Shipped, false)
			within(i+1, "received", l.Received, false)
			within(i+1, "cancelled", l.Cancelled, false)
			within(i+1, "backordered", l.Backordered, false)
			for _, c := range l.Charges {
				within(i+1, c.Field(), c.Percent, c.Allowance)
			}
		}
		for _, c := range o.Charges {
			within(0, c.Field(), c.Percent, c.Allowance)
		}
	},
	func(o *order.Order, s Subject) {
		for i := range o.Lines {
			if len(o.Lines[i].Deliveries) > 0 {
				deliveries(&o.Lines[i], i+1, s)
			}
		}
	},
	func(o *order.Order, s Subject) {
		for i := range o.Lines {
			code := o.Lines[i].GTIN
			switch len(code) { // GTIN-8, UPC-A, EAN-13 and GTIN-14 (GS1)
			case 8, 12, 13, 14:
				if order.IsDigits(code) && !order.CheckDigit(code) {
					s.Add(finding.CheckDigitWrong, i+1, "gtin", code, "The check digit of the GTIN %s is wrong.", code)
				}
			}
		}
	},
	func(o *order.Order, s Subject) {
		before := func(line int, field string, day order.Date) {
			if day != "" && o.OrderedOn != "" && day < o.OrderedOn {
				s.Add(finding.DatesOutOfOrder, line, field, string(day), "%s is %s, before the order was made on %s.",
					field, day, o.OrderedOn)
			}
		}
		before(0, "requested_ship_on", o.RequestedShipOn)
		before(0, "requested_delivery_on", o.RequestedDeliveryOn)
		before(0, "cancel_after", o.CancelAfter)
		for i := range o.Lines {
			before(i+1, "requested_ship_on", o.Lines[i].RequestedShipOn)
			before(i+1, "requested_delivery_on", o.Lines[i].RequestedDeliveryOn)
		}
	},
}

// deliveries compares what goes to several places, or on several days, with what is wanted of the line.
func deliveries(l *order.Line, line int, s Subject) {
	if s.Has(line, "deliveries") || s.Has(line, "quantity") {
		return
	}
	sum, ok := l.Deliveries.Quantity()
	if !ok {
		s.Add(finding.DeliveriesDiffer, line, "deliveries", l.Deliveries.String(),
			"The deliveries are in another unit than the line, which is in %s: %s.", orNone(l.Unit), l.Deliveries)
		return
	}
	if left, err := l.Quantity.Sub(l.Cancelled); sum.Cmp(l.Quantity) != 0 && (err != nil || sum.Cmp(left) != 0) {
		s.Add(finding.DeliveriesDiffer, line, "deliveries", l.Deliveries.String(), "The deliveries are %s of %s: %s.", sum,
			l.Quantity, l.Deliveries)
	}
}

func orNone(unit string) string {
	if unit == "" {
		return "no unit"
	}
	return unit
}

func anyItem(s Subject, line int) bool {
	for _, field := range []string{"item", "buyer_item", "supplier_item", "gtin", "description"} {
		if s.Has(line, field) {
			return true
		}
	}
	return false
}

// figures works the sums out and compares them with what the document states.
func figures(o *order.Order, s Subject, terms Terms) {
	line, err := o.Compute(terms.Rounding)
	if err != nil {
		field := "amount"
		if line < 0 {
			field = "total"
		}
		s.Add(finding.AmountTooLarge, line+1, field, "", "The %s has more digits than can be computed with.", field)
		return
	}
	whole := o // a document's figures may be those of what was ordered, or of what is wanted still
	if len(s.Stated()) > 0 {
		whole = o.AsOrdered(terms.Rounding)
	}
	sound := true // a wrong line would only be reported once more by the sums
	for _, stated := range s.Stated() {
		if stated.Line > 0 {
			sound = amount(o, whole, s, stated.Line, terms.Tolerance) && sound
		}
	}
	if !sound || anyFigure(o, s) {
		return
	}
	for _, stated := range s.Stated() {
		if stated.Line == 0 && (whole == o || !agrees(whole, stated.Field, terms.Tolerance)) {
			ofOrder(o, s, stated.Field, terms)
		}
	}
}

// agrees reports whether a figure of the order as a whole is as the document states it.
func agrees(o *order.Order, field string, tolerance order.Number) bool {
	switch field {
	case "total":
		return order.Within(o.Total, o.StatedTotal, tolerance)
	case "total_before_tax":
		return order.Within(o.BeforeTax(), o.StatedNet, tolerance)
	}
	return order.Within(o.Tax, o.TaxAmount, tolerance)
}

// amount compares a line's amount. It is false if the amounts differ or cannot be compared.
func amount(o, whole *order.Order, s Subject, n int, tolerance order.Number) bool {
	l := &o.Lines[n-1]
	if s.Has(n, "quantity") && l.Quantity.IsZero() || s.Has(n, "unit_price") && l.UnitPrice.IsZero() ||
		s.Has(n, "discount_percent") ||
		s.Has(n, "price_basis") {
		return false
	}
	if l.UnitPrice.IsZero() || order.Within(l.Amount, l.StatedAmount, tolerance) ||
		whole != o && order.Within(whole.Lines[n-1].Amount, l.StatedAmount, tolerance) {
		return true
	}
	less := ""
	if l.DiscountPercent.Sign() != 0 {
		less = " less " + l.DiscountPercent.String() + " %"
	}
	per := ""
	if l.PriceBasis.Sign() > 0 {
		per = " per " + l.PriceBasis.String()
	}
	s.Add(finding.AmountDiffers, n, "amount", l.StatedAmount.String(), "The document says %s, but %s × %s%s%s is %s.",
		l.StatedAmount, l.Quantity, l.UnitPrice, per, less, l.Amount)
	return false
}

// ofOrder compares a figure of the order as a whole. If another way of taxing makes it as the document states it, the
// finding says so.
func ofOrder(o *order.Order, s Subject, field string, terms Terms) {
	tolerance := terms.Tolerance
	var f *finding.Finding
	defer func() {
		if f != nil && taxed(o) {
			f.Hint = cmp.Or(otherTax(o, field, terms), f.Hint)
		}
	}()
	switch field {
	case "total":
		if !order.Within(o.Total, o.StatedTotal, tolerance) {
			f = s.Add(finding.TotalDiffers, 0, field, o.StatedTotal.String(),
				"The document says %s, but its lines%s make %s.",
				o.StatedTotal, extras(o), o.Total)
		}
	case "total_before_tax":
		if net := o.BeforeTax(); !order.Within(net, o.StatedNet, tolerance) {
			charges := ""
			if len(o.Charges) > 0 {
				charges = " with charges and allowances"
			}
			f = s.Add(finding.TotalDiffers, 0, field, o.StatedNet.String(),
				"The document says %s before tax, but its lines%s make %s.",
				o.StatedNet, charges, net)
		}
	case "tax_amount":
		if taxed(o) && !order.Within(o.Tax, o.TaxAmount, tolerance) {
			f = s.Add(finding.TaxDiffers, 0, field, o.TaxAmount.String(),
				"The document says %s, but the tax on its lines, rounded by %s, is %s.",
				o.TaxAmount, cmp.Or(o.TaxRounding, order.TaxByLine), o.Tax)
		}
	}
}

// otherTax says how the mapping can tax the order so that a figure is as the document states it; "" if there is no way.
func otherTax(o *order.Order, field string, terms Terms) string {
	for _, base := range order.TaxBases {
		for _, rounding := range order.TaxRoundings {
			other := o.Clone()
			other.TaxBase, other.TaxRounding = base, rounding
			if _, err := other.Compute(terms.Rounding); err != nil || !agrees(other, field, terms.Tolerance) {
				continue
			}
			var says []string
			if base != cmp.Or(o.TaxBase, order.TaxOfLines) {
				says = append(says, "tax_base: {value: "+base+"}")
			}
			if rounding != cmp.Or(o.TaxRounding, order.TaxByLine) {
				says = append(says, "tax_rounding: {value: "+rounding+"}")
			}
			return "It is as the document says if the mapping has " + strings.Join(says, " and ") + " in its header."
		}
	}
	return ""
}

// taxed reports whether the lines state their tax.
func taxed(o *order.Order) bool {
	return slices.ContainsFunc(o.Lines, func(l order.Line) bool { return !l.TaxPercent.IsZero() })
}

// The fields that the sums are made of.
var (
	figuresOfLine = fieldsOf(order.Lines, "quantity", "unit_price", "amount", "discount_percent", "tax_percent",
		"price_basis")
	figuresOfOrder = fieldsOf(order.Header, "total", "total_before_tax", "tax_amount")
)

func fieldsOf(level order.Level, names ...string) []*order.Field {
	fields := make([]*order.Field, len(names))
	for i, name := range names {
		f, _ := order.Lookup(level, name)
		fields[i] = &f
	}
	return fields
}

// anyFigure reports whether a figure that the sums are made of could not be read.
func anyFigure(o *order.Order, s Subject) bool {
	unread := func(line int, l *order.Line, fields []*order.Field) bool {
		return slices.ContainsFunc(fields, func(f *order.Field) bool {
			return s.Has(line, f.Name) && f.Value(o, l) == ""
		})
	}
	for n := range o.Lines {
		if unread(n+1, &o.Lines[n], figuresOfLine) {
			return true
		}
	}
	return unread(0, nil, figuresOfOrder)
}

func extras(o *order.Order) string {
	s := ""
	if len(o.Charges) > 0 {
		s += " with charges and allowances"
	}
	if o.Tax.Sign() != 0 && o.TaxTreatment != order.TaxInclusive && o.TaxTreatment != order.TaxExempt {
		s += " and " + o.Tax.String() + " tax"
	}
	return s
}
