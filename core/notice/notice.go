package notice

import (
	"slices"
	"strings"

	"koinos/core/order"
)

// Names of the fields of the user's own that notices carry.
const (
	Answer       = "answer"        // of the order: element 587; of a line: element 668
	AnsweredOn   = "answered_on"   // day
	Accepted     = "accepted"      // quantity of a line that is accepted
	AcceptedUnit = "accepted_unit" // and its unit
	DueOn        = "due_on"        // day for which a line is promised
	Backordered  = "backordered"   // quantity of a line that comes later: ours to set
	Change       = "change"        // of a line: element 670
	ChangeNumber = "change_number" // which change of the order it is
	ChangedOn    = "changed_on"
	Shipment     = "shipment"   // number
	ShippedOn    = "shipped_on" // day
	ShippedAt    = "shipped_at" // time of day, HHMM
	ToldOn       = "told_on"    // day of the notice
	ShippedSoFar = "shipped_to_date"
	Invoice      = "invoice" // number
	InvoicedOn   = "invoiced_on"
	Invoiced     = "invoiced" // quantity of a line
)

// Seller gives an order as its seller sees it, whichever side we are: our
// purchase order is their sales order, our item the buyer's, and our number the
// sender's.
func Seller(o *order.Order) order.Order {
	m := *o
	m.ID, m.Revision, m.Kind, m.Lines, m.Custom = 0, 0, order.Sales, slices.Clone(o.Lines), slices.Clone(o.Custom)
	if o.Kind == order.Purchase {
		m.Number, m.SenderNumber = o.SenderNumber, o.Number
	}
	for i := range m.Lines {
		l := &m.Lines[i]
		l.Custom = slices.Clone(l.Custom)
		if o.Kind == order.Purchase {
			l.Item, l.BuyerItem, l.SupplierItem = l.SupplierItem, l.Item, ""
		}
	}
	return m
}

// Buyer gives an order that is as its seller sees it as its buyer does.
func Buyer(o *order.Order) order.Order {
	m := *o
	m.Kind, m.Number, m.SenderNumber, m.Lines = order.Purchase, o.SenderNumber, o.Number, slices.Clone(o.Lines)
	for i := range m.Lines {
		l := &m.Lines[i]
		l.Item, l.BuyerItem, l.SupplierItem = l.BuyerItem, "", l.Item
	}
	return m
}

// get gives a custom field.
func get(list []order.Custom, name string) string {
	for _, c := range list {
		if c.Name == name {
			return c.Value
		}
	}
	return ""
}

// set sets a custom field; a blank value takes it away.
func set(list *[]order.Custom, name, value string) {
	i := slices.IndexFunc(*list, func(c order.Custom) bool { return c.Name == name })
	switch {
	case i >= 0 && value == "":
		*list = slices.Delete(*list, i, i+1)
	case i >= 0:
		(*list)[i].Value = value
	case value != "":
		*list = append(*list, order.Custom{Name: name, Value: value})
	}
}

// Get gives a custom field of an order; Set sets it.
func Get(o *order.Order, name string) string { return get(o.Custom, name) }

// Set sets a custom field of an order; a blank value takes it away.
func Set(o *order.Order, name, value string) { set(&o.Custom, name, value) }

// lineOf finds the line of a number.
func lineOf(o *order.Order, number string) *order.Line {
	for i := range o.Lines {
		if strings.EqualFold(o.Lines[i].Number, number) {
			return &o.Lines[i]
		}
	}
	return nil
}

// due is what of a line is still wanted: its quantity less what was cancelled.
func due(l *order.Line) order.Number {
	left, err := l.Quantity.Sub(l.Cancelled)
	if err != nil {
		return l.Quantity
	}
	return left
}

// bare takes the terms of a whole order away that a notice does not repeat.
func bare(o *order.Order) order.Order {
	return order.Order{Kind: o.Kind, Number: o.Number, SenderNumber: o.SenderNumber, Partner: o.Partner, OrderedOn: o.OrderedOn, Currency: o.Currency}
}

// named are what a line is known by in every notice.
func named(l *order.Line) order.Line {
	return order.Line{Number: l.Number, Item: l.Item, BuyerItem: l.BuyerItem, GTIN: l.GTIN, Description: l.Description, Unit: l.Unit}
}

// Confirm is what a seller answers: what became (is) of what was asked, line by
// line. Both as the seller sees them.
func Confirm(asked, is *order.Order, today order.Date) order.Order {
	v := bare(is)
	changed, rejected := false, 0
	for i := range asked.Lines {
		a := &asked.Lines[i]
		l := lineOf(is, a.Number)
		out := named(a)
		out.Quantity, out.UnitPrice = a.Quantity, a.UnitPrice
		code, accepted, day := "IA", order.NumberOf(0), order.Date("")
		if l == nil || due(l).Sign() == 0 {
			code = "IR"
			rejected++
		} else {
			accepted = due(l)
			out.UnitPrice = l.UnitPrice
			if l.Description != "" {
				out.Description = l.Description
			}
			var codes []string
			if l.Item != a.Item && a.Item != "" {
				codes = append(codes, "IS")
				out.Item = l.Item
			}
			if accepted.Cmp(a.Quantity) != 0 {
				codes = append(codes, "IQ")
			}
			if !a.UnitPrice.IsZero() && l.UnitPrice.Cmp(a.UnitPrice) != 0 {
				codes = append(codes, "IP")
			}
			if day = promised(is, l); day != "" && day != promised(asked, a) {
				codes = append(codes, "DR")
			}
			switch {
			case get(l.Custom, Backordered) != "":
				code = "BP"
				if later, err := order.ParseNumber(get(l.Custom, Backordered)); err == nil && later.Cmp(accepted) >= 0 {
					code = "IB"
				}
			case len(codes) == 1:
				code = codes[0]
			case len(codes) > 1:
				code = "IC"
			}
		}
		changed = changed || code != "IA"
		set(&out.Custom, Answer, code)
		set(&out.Custom, Accepted, accepted.String())
		set(&out.Custom, AcceptedUnit, a.Unit)
		set(&out.Custom, DueOn, string(day))
		v.Lines = append(v.Lines, out)
	}
	code := "AD"
	switch {
	case rejected == len(asked.Lines) && rejected > 0:
		code = "RD"
	case changed:
		code = "AC"
	}
	Set(&v, Answer, code)
	Set(&v, AnsweredOn, string(today))
	return v
}

// promised is the day for which a line is wanted or promised.
func promised(o *order.Order, l *order.Line) order.Date {
	for _, d := range []order.Date{l.RequestedDeliveryOn, l.RequestedShipOn, o.RequestedDeliveryOn, o.RequestedShipOn} {
		if d != "" {
			return d
		}
	}
	return ""
}

// Changes is what a buyer asks to be changed: the lines that differ between what
// was said last and what the order is now; none is nothing to say.
func Changes(was, is *order.Order, number string, today order.Date) order.Order {
	v := bare(is)
	v.RequestedShipOn, v.RequestedDeliveryOn, v.CancelAfter = is.RequestedShipOn, is.RequestedDeliveryOn, is.CancelAfter
	for i := range is.Lines {
		l := is.Lines[i]
		before := lineOf(was, l.Number)
		code := ""
		if before == nil {
			code = "AI"
		} else {
			quantity, price := due(&l).Cmp(due(before)), l.UnitPrice.Cmp(before.UnitPrice)
			moved := promised(is, &l) != promised(was, before)
			switch {
			case due(&l).Sign() == 0 && due(before).Sign() > 0:
				code = "DI"
			case quantity == 0 && price == 0 && !moved:
			case quantity != 0 && price != 0 && !moved:
				code = "PQ"
			case quantity > 0 && price == 0 && !moved:
				code = "QI"
			case quantity < 0 && price == 0 && !moved:
				code = "QD"
			case quantity == 0 && price != 0 && !moved:
				code = "PC"
			case quantity == 0 && price == 0:
				code = "CT"
			default:
				code = "MU"
			}
		}
		if code == "" {
			continue
		}
		out := named(&l)
		out.Quantity, out.UnitPrice, out.RequestedDeliveryOn, out.RequestedShipOn = due(&l), l.UnitPrice, l.RequestedDeliveryOn, l.RequestedShipOn
		if code == "DI" {
			out.Quantity = order.NumberOf(0)
		}
		set(&out.Custom, Change, code)
		v.Lines = append(v.Lines, out)
	}
	for i := range was.Lines {
		if before := &was.Lines[i]; lineOf(is, before.Number) == nil {
			out := named(before)
			out.Quantity, out.UnitPrice = order.NumberOf(0), before.UnitPrice
			set(&out.Custom, Change, "DI")
			v.Lines = append(v.Lines, out)
		}
	}
	Set(&v, ChangeNumber, number)
	Set(&v, ChangedOn, string(today))
	return v
}

// Ship is what has left since it was said last: for each line what was shipped
// less what earlier notices said (by line number). No lines is nothing to say.
func Ship(is *order.Order, said map[string]order.Number, number string, today order.Date, clock string) order.Order {
	v := bare(is)
	if p := is.Party("ship_to"); p != nil {
		v.Parties = []order.Party{{Role: "ship_to", Code: p.Code, Name: p.Name}}
	}
	v.Currency = ""
	for i := range is.Lines {
		l := &is.Lines[i]
		now, err := l.Shipped.Sub(said[l.Number])
		if err != nil || now.Sign() <= 0 {
			continue
		}
		out := named(l)
		out.Quantity = now
		set(&out.Custom, ShippedSoFar, l.Shipped.String())
		v.Lines = append(v.Lines, out)
	}
	Set(&v, Shipment, number)
	Set(&v, ShippedOn, string(today))
	Set(&v, ToldOn, string(today))
	Set(&v, ShippedAt, clock)
	return v
}

// Bill is what is invoiced: for each line what was shipped less what earlier
// invoices had. Charges of the whole order go with the first one.
func Bill(is *order.Order, said map[string]order.Number, number string, today order.Date, first bool) (order.Order, error) {
	v := bare(is)
	v.PaymentTerms = is.PaymentTerms
	for _, role := range []string{"bill_to", "ship_to"} {
		if p := is.Party(role); p != nil {
			v.Parties = append(v.Parties, order.Party{Role: role, Code: p.Code, Name: p.Name})
		}
	}
	for i := range is.Lines {
		l := &is.Lines[i]
		now, err := l.Shipped.Sub(said[l.Number])
		if err != nil || now.Sign() <= 0 {
			continue
		}
		out := named(l)
		out.Quantity, out.UnitPrice, out.TaxPercent = now, l.UnitPrice, l.TaxPercent
		if l.PriceBasis.Sign() > 0 || l.DiscountPercent.Sign() > 0 { // an invoice has one price for one unit
			probe := order.Order{Currency: is.Currency, Lines: []order.Line{{Quantity: order.NumberOf(1), UnitPrice: l.UnitPrice, PriceBasis: l.PriceBasis, DiscountPercent: l.DiscountPercent}}}
			if _, err := probe.Compute(order.HalfUp); err != nil {
				return v, err
			}
			out.UnitPrice = probe.Lines[0].Amount
		}
		v.Lines = append(v.Lines, out)
	}
	if first {
		v.Charges = slices.Clone(is.Charges)
	}
	if _, err := v.Compute(order.HalfUp); err != nil {
		return v, err
	}
	if v.Tax.Sign() > 0 {
		v.TaxAmount = v.Tax
	}
	for i := range v.Lines {
		v.Lines[i].TaxPercent = order.Number{}
	}
	v.StatedTotal = v.Total
	Set(&v, Invoice, number)
	Set(&v, InvoicedOn, string(today))
	return v, nil
}

// Answered gives the lines of an answer to a change what was asked of each.
func Answered(v, asked *order.Order) {
	for i := range v.Lines {
		if l := lineOf(asked, v.Lines[i].Number); l != nil {
			set(&v.Lines[i].Custom, Change, either(get(l.Custom, Change), "CA"))
		}
	}
}
