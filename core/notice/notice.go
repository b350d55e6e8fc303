package notice

import (
	"slices"
	"strings"

	"koinos/core/intent"
	"koinos/core/order"
)

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
	return order.Order{Kind: o.Kind, Number: o.Number, SenderNumber: o.SenderNumber, Partner: o.Partner,
		OrderedOn: o.OrderedOn, Currency: o.Currency}
}

// named are what a line is known by in every notice.
func named(l *order.Line) order.Line {
	return order.Line{Number: l.Number, Item: l.Item, BuyerItem: l.BuyerItem, GTIN: l.GTIN, Description: l.Description,
		Unit: l.Unit}
}

// Confirm is what a seller answers: what became (is) of what was asked, line by
// line. Both as the seller sees them.
func Confirm(asked, is *order.Order, today order.Date) order.Order {
	v := bare(is)
	v.Statement = &order.Statement{Kind: string(intent.Answer), On: today}
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
			case l.Backordered.Sign() > 0:
				code = "BP"
				if l.Backordered.Cmp(accepted) >= 0 {
					code = "IB"
				}
			case len(codes) == 1:
				code = codes[0]
			case len(codes) > 1:
				code = "IC"
			}
		}
		changed = changed || code != "IA"
		out.Statement = &order.LineStatement{Code: code, Accepted: accepted, AcceptedUnit: a.Unit, DueOn: day}
		v.Lines = append(v.Lines, out)
	}
	code := "AD"
	switch {
	case rejected == len(asked.Lines) && rejected > 0:
		code = "RD"
	case changed:
		code = "AC"
	}
	v.Statement.Code = code
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
		out.Quantity, out.UnitPrice, out.RequestedDeliveryOn, out.RequestedShipOn = due(&l), l.UnitPrice,
			l.RequestedDeliveryOn, l.RequestedShipOn
		if code == "DI" {
			out.Quantity = order.NumberOf(0)
		}
		out.Statement = &order.LineStatement{Code: code}
		v.Lines = append(v.Lines, out)
	}
	for i := range was.Lines {
		if before := &was.Lines[i]; lineOf(is, before.Number) == nil {
			out := named(before)
			out.Quantity, out.UnitPrice = order.NumberOf(0), before.UnitPrice
			out.Statement = &order.LineStatement{Code: "DI"}
			v.Lines = append(v.Lines, out)
		}
	}
	v.Statement = &order.Statement{Kind: string(intent.Change), Number: number, On: today}
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
		out.Statement = &order.LineStatement{ToDate: l.Shipped}
		v.Lines = append(v.Lines, out)
	}
	v.Statement = &order.Statement{Kind: string(intent.Shipment), Number: number, On: today, ToldOn: today, At: clock}
	return v
}

// Bill is what is invoiced: for each line what was shipped less what earlier
// invoices had. Charges of the whole order go with the first one.
func Bill(is *order.Order, said map[string]order.Number, number string, today order.Date, first bool) (order.Order,
	error) {
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
			if out.UnitPrice, err = unitPrice(is.Currency, l, now); err != nil {
				return v, err
			}
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
	v.Statement = &order.Statement{Kind: string(intent.Invoice), Number: number, On: today}
	return v, nil
}

// mostPlaces is how many decimal places a unit price is written with.
const mostPlaces = 10

// unitPrice is the price of one unit of a line with a price basis or a discount:
// the one of fewest decimal places, the currency's at least, with which the
// quantity comes to the same amount as with the line's own terms.
func unitPrice(currency string, l *order.Line, quantity order.Number) (order.Number, error) {
	amount := func(one order.Line) (order.Number, error) {
		probe := order.Order{Currency: currency, Lines: []order.Line{one}}
		_, err := probe.Compute(order.HalfUp)
		return probe.Lines[0].Amount, err
	}
	want, err := amount(order.Line{Quantity: quantity, UnitPrice: l.UnitPrice, PriceBasis: l.PriceBasis,
		DiscountPercent: l.DiscountPercent})
	if err != nil {
		return order.Number{}, err
	}
	price := l.UnitPrice
	if l.PriceBasis.Sign() > 0 {
		if price, err = price.Quo(l.PriceBasis); err != nil {
			return price, err
		}
	}
	if l.DiscountPercent.Sign() > 0 {
		rate, err := order.NumberOf(100).Sub(l.DiscountPercent)
		if err == nil {
			rate, err = rate.Quo(order.NumberOf(100))
		}
		if err == nil {
			price, err = price.Mul(rate)
		}
		if err != nil {
			return price, err
		}
	}
	for places := order.CurrencyDigits(currency); ; places++ {
		one := price.Round(order.HalfUp, places)
		got, err := amount(order.Line{Quantity: quantity, UnitPrice: one})
		if err != nil || got.Cmp(want) == 0 || places == mostPlaces {
			return one, err
		}
	}
}

// Answered gives the lines of an answer to a change what was asked of each.
func Answered(v, asked *order.Order) {
	for i := range v.Lines {
		if l := lineOf(asked, v.Lines[i].Number); l != nil {
			v.Lines[i].Statement.Asked = "CA"
			if l.Statement != nil && l.Statement.Code != "" {
				v.Lines[i].Statement.Asked = l.Statement.Code
			}
		}
	}
}

// Quantities are what a notice says of each line, by line number: what later
// notices of the kind must not say again.
func Quantities(v *order.Order) map[string]order.Number {
	q := map[string]order.Number{}
	for i := range v.Lines {
		q[v.Lines[i].Number] = v.Lines[i].Quantity
	}
	return q
}
