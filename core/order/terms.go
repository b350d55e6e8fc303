package order

import (
	"slices"
	"strconv"
)

// Term is one part of a value that Koinos computed.
type Term struct {
	What string `json:"what" doc:"amount of line 2, charge freight, quantity …"`
	Sign string `json:"sign,omitempty" enum:"+,-,×,÷" doc:"What is done with it"`
	Text string `json:"text"`
}

// Terms says what a computed value was made of: total, goods, tax and status of the order (line 0), or amount of a line
// counted from 1. ok is false if Koinos does not compute the field.
func (o *Order) Terms(line int, field string) (value string, terms []Term, ok bool) {
	add := func(sign, what, text string) {
		if text != "" {
			terms = append(terms, Term{what, sign, text})
		}
	}
	if line > 0 {
		l := &o.Lines[line-1]
		if field != "amount" || l.UnitPrice.IsZero() {
			return "", nil, false
		}
		add("", "quantity", l.Quantity.String())
		add("×", "unit price", l.UnitPrice.String())
		add("÷", "price basis", l.PriceBasis.String())
		add("-", "discount in per cent", l.DiscountPercent.String())
		add("", "decimal places of "+o.Currency, strconv.Itoa(CurrencyDigits(o.Currency)))
		return l.Amount.String(), terms, true
	}
	lines := func(of func(*Line) string) {
		for i := range o.Lines {
			add("+", "amount of line "+o.Lines[i].Number, of(&o.Lines[i]))
		}
	}
	charges := func(where string, all []Charge) {
		for _, c := range all {
			sign, kind := "+", "charge "
			if c.Allowance {
				sign, kind = "-", "allowance "
			}
			share := ""
			if c.Percent.set {
				share = ", " + c.Percent.String() + " %"
			}
			add(sign, kind+c.Code+where+share, c.Amount.String())
		}
	}
	switch field {
	case "goods":
		lines(func(l *Line) string { return l.Amount.String() })
		return o.Goods.String(), terms, true
	case "tax":
		words := " % of line "
		if o.TaxTreatment == TaxInclusive {
			words = " % within line "
		}
		for i := range o.Lines {
			if l := &o.Lines[i]; !l.TaxPercent.IsZero() {
				add("+", l.TaxPercent.String()+words+l.Number, l.Amount.String())
			}
		}
		if terms != nil && o.TaxBase != "" && o.TaxBase != TaxOfLines {
			for i := range o.Lines {
				if l := &o.Lines[i]; !l.TaxPercent.IsZero() {
					charges(" of line "+l.Number, o.taxedCharges(l.Charges))
				}
			}
			charges(", divided by the lines' amounts", o.taxedCharges(o.Charges))
		}
		if terms == nil {
			add("+", "tax as the document states it", o.TaxAmount.String())
		}
		return o.Tax.String(), terms, true
	case "total":
		lines(func(l *Line) string { return l.Amount.String() })
		for i := range o.Lines {
			charges(" of line "+o.Lines[i].Number, o.Lines[i].Charges)
		}
		charges("", o.Charges)
		if o.TaxTreatment != TaxInclusive && o.TaxTreatment != TaxExempt {
			add("+", "tax", o.Tax.String())
		}
		return o.Total.String(), terms, true
	case "status":
		add("", "stage", string(o.Stage))
		for i := range o.Lines {
			l := &o.Lines[i]
			add("", "ordered of line "+l.Number, l.Quantity.String())
			kind, word := Shipment, "shipped"
			if o.Kind == Purchase {
				kind, word = Receipt, "received"
			}
			add("", word+" of line "+l.Number, l.Moved(kind).String())
			add("", "cancelled of line "+l.Number, l.Cancelled.String())
		}
		return string(o.Status), terms, true
	}
	return "", nil, false
}

// taxedCharges are the charges that what is taxed is made of, besides amounts of lines.
func (o *Order) taxedCharges(all []Charge) []Charge {
	return slices.DeleteFunc(slices.Clone(all), func(c Charge) bool { return !c.Allowance && o.TaxBase != TaxWithCharges })
}
