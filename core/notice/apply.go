package notice

import (
	"fmt"

	"koinos/core/order"
)

// Trouble is something about a notice that a person should look at.
type Trouble struct {
	Line    int // of the notice, counted from 1; 0 is its header
	Field   string
	Value   string
	Message string
}

// Take brings what a notice says into the order that it speaks of and gives the
// order as it is then. Of the notice nothing is taken that the order cannot
// hold; troubles say what a person should look at. The notice is as the seller
// sees it (view), the order is ours.
func Take(set string, stored *order.Order, view *order.Order) (*order.Order, []Trouble) {
	is := *stored
	is.Lines = append([]order.Line(nil), stored.Lines...)
	is.Custom = append([]order.Custom(nil), stored.Custom...)
	var all []Trouble
	trouble := func(line int, field, value, format string, args ...any) {
		all = append(all, Trouble{line, field, value, fmt.Sprintf(format, args...)})
	}
	for i := range view.Lines {
		n := &view.Lines[i]
		l := find(&is, stored, n)
		if l == nil && set == "860" {
			added := *n
			added.Custom = nil
			is.Lines = append(is.Lines, added)
			continue
		}
		if l == nil {
			trouble(i+1, "number", n.Number, "The order %s has no line %s (%s).", stored.Number, n.Number, either(n.BuyerItem, n.Item, n.Description))
			continue
		}
		l.Custom = append([]order.Custom(nil), l.Custom...)
		takeLine(set, l, n, func(field, value, format string, args ...any) { trouble(i+1, field, value, format, args...) })
	}
	switch set {
	case "860":
		for _, d := range []struct{ to, from *order.Date }{{&is.RequestedShipOn, &view.RequestedShipOn}, {&is.RequestedDeliveryOn, &view.RequestedDeliveryOn}, {&is.CancelAfter, &view.CancelAfter}} {
			if *d.from != "" {
				*d.to = *d.from
			}
		}
		Set(&is, ChangeNumber, Get(view, ChangeNumber))
	case "855", "865":
		for _, name := range []string{Answer, AnsweredOn} {
			Set(&is, name, Get(view, name))
		}
		if code := Get(view, Answer); code != "RD" && code != "RJ" && is.Stage != order.Draft {
			is.Stage = order.Confirmed
		}
		if view.Number != "" && stored.Kind == order.Purchase && is.SenderNumber == "" {
			is.SenderNumber = view.Number
		}
	case "856":
		Set(&is, Shipment, Get(view, Shipment))
		Set(&is, ShippedOn, Get(view, ShippedOn))
	case "810":
		Set(&is, Invoice, Get(view, Invoice))
		Set(&is, InvoicedOn, Get(view, InvoicedOn))
		check := *view
		if line, err := check.Compute(order.HalfUp); err != nil {
			trouble(line+1, "total", "", "The invoice's sums cannot be worked out: %v.", err)
		} else if !view.StatedTotal.IsZero() && !order.Within(view.StatedTotal, check.Total, order.MustNumber("0.01")) {
			trouble(0, "total", view.StatedTotal.String(), "The invoice states a total of %s; its lines, charges and tax make %s.", view.StatedTotal, check.Total)
		}
	}
	return &is, all
}

// find gives the line of the order that a notice's line speaks of: by number,
// or else by the goods where one line has them.
func find(is, stored *order.Order, n *order.Line) *order.Line {
	if l := lineOf(is, n.Number); l != nil {
		return l
	}
	var found *order.Line
	seen := Seller(stored)
	for i := range seen.Lines {
		l := &seen.Lines[i]
		if n.Item != "" && n.Item == l.Item || n.BuyerItem != "" && n.BuyerItem == l.BuyerItem || n.GTIN != "" && n.GTIN == l.GTIN {
			if found != nil {
				return nil
			}
			found = &is.Lines[i]
		}
	}
	return found
}

func takeLine(kind string, l, n *order.Line, trouble func(field, value, format string, args ...any)) {
	switch kind {
	case "860":
		change(l, n, trouble)
	case "855", "865":
		for _, name := range []string{Answer, Accepted, DueOn} {
			set(&l.Custom, name, get(n.Custom, name))
		}
		switch code := get(n.Custom, Answer); code {
		case "IR", "ID", "R1", "R2", "R3", "R4", "R5", "R6":
			trouble("custom."+Answer, code, "Line %s is rejected (%s); what is wanted of it must come from elsewhere.", l.Number, code)
		case "IQ", "IB", "BP", "IC", "IP", "DR", "IS":
			trouble("custom."+Answer, code, "Line %s is accepted with changes (%s): quantity %s of %s, price %s for %s%s.", l.Number, code, either(get(n.Custom, Accepted), n.Quantity.String()), l.Quantity, n.UnitPrice, l.UnitPrice, behind(", due ", get(n.Custom, DueOn)))
		}
	case "856":
		if shipped, err := l.Shipped.Add(n.Quantity); err == nil {
			l.Shipped = shipped
		}
		if l.Shipped.Cmp(due(l)) > 0 {
			trouble("shipped", l.Shipped.String(), "Of line %s %s are shipped now, more than the %s that were ordered.", l.Number, l.Shipped, due(l))
		}
	case "810":
		sofar, _ := order.ParseNumber(either(get(l.Custom, Invoiced), "0"))
		if sum, err := sofar.Add(n.Quantity); err == nil {
			sofar = sum
		}
		set(&l.Custom, Invoiced, sofar.String())
		if sofar.Cmp(l.Shipped) > 0 {
			trouble("custom."+Invoiced, sofar.String(), "Of line %s %s are invoiced, more than the %s that were shipped.", l.Number, sofar, either(l.Shipped.String(), "0"))
		}
		if !n.UnitPrice.IsZero() && !l.UnitPrice.IsZero() && n.UnitPrice.Cmp(l.UnitPrice) != 0 {
			trouble("unit_price", n.UnitPrice.String(), "Line %s is invoiced at %s; the order says %s.", l.Number, n.UnitPrice, l.UnitPrice)
		}
	}
}

// change brings a line of a change request into the order's line. What has been
// shipped already cannot be taken back.
func change(l, n *order.Line, trouble func(field, value, format string, args ...any)) {
	if get(n.Custom, Change) == "DI" {
		left, err := l.Quantity.Sub(l.Shipped)
		if err != nil || l.Shipped.Sign() > 0 {
			trouble("quantity", n.Quantity.String(), "Line %s is to be deleted, but %s of it have been shipped; the rest is cancelled.", l.Number, l.Shipped)
		}
		l.Cancelled = left
		return
	}
	if n.Quantity.Cmp(l.Shipped) < 0 {
		trouble("quantity", n.Quantity.String(), "Line %s is to be %s, but %s of it have been shipped; its quantity stays %s.", l.Number, n.Quantity, l.Shipped, l.Quantity)
	} else if n.Quantity.Sign() > 0 {
		l.Quantity = n.Quantity
	}
	if !n.UnitPrice.IsZero() {
		l.UnitPrice = n.UnitPrice
	}
	if n.RequestedShipOn != "" {
		l.RequestedShipOn = n.RequestedShipOn
	}
	if n.RequestedDeliveryOn != "" {
		l.RequestedDeliveryOn = n.RequestedDeliveryOn
	}
}

func either(all ...string) string {
	for _, s := range all {
		if s != "" {
			return s
		}
	}
	return ""
}

func behind(lead, s string) string {
	if s == "" {
		return ""
	}
	return lead + s
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
