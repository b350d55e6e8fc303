package order

import (
	"slices"

	"github.com/govalues/decimal"
)

// Charge is an allowance or a charge on an order, or on one of its lines: an amount, or a share of the lines' amounts.
// An order has one amount and one share at the most for each kind and code.
type Charge struct {
	Allowance bool   `json:"allowance,omitempty" doc:"True takes the amount off, false adds it"`
	Code      string `json:"code" doc:"What it is for, e.g. freight"`
	Amount    Number `json:"amount,omitzero" doc:"How much; where percent is given, it is worked out"`
	Percent   Number `json:"percent,omitzero" doc:"The share of the lines' amounts that the amount is worked out from: 5 is five per cent"`
	kind      string // while it is being mapped
}

// Field is the name that Each uses for the charge, e.g. charge.freight or allowance_percent.discount.
func (c Charge) Field() string {
	word := "charge"
	if c.Allowance {
		word = "allowance"
	}
	if c.Percent.set {
		word += "_percent"
	}
	return word + "." + c.Code
}

// Stated is the figure that the charge was given as: its share in per cent, or else its amount.
func (c Charge) Stated() Number {
	if c.Percent.set {
		return c.Percent
	}
	return c.Amount
}

// Is reports whether two charges are for the same: an amount for the one can be billed for the share of the other.
func (c Charge) Is(d Charge) bool { return c.Code == d.Code && c.Allowance == d.Allowance }

// Of returns the charge with the amount that its share makes of some money, and without the share.
func (c Charge) Of(goods Number, r Rounding, currency string) (Charge, error) {
	var s sum
	one := []Charge{c}
	s.charges(decimal.Decimal{}, one, goods.d, r, CurrencyDigits(currency))
	one[0].Percent = Number{}
	return one[0], s.err
}

// Billable returns the money of charges, one for each kind and code, in their order.
func Billable(charges []Charge) ([]Charge, error) {
	charges = slices.Clone(charges)
	for i := range charges {
		charges[i].Percent = Number{}
	}
	return folded(charges)
}

// FoldCharges adds up the charges of the order, and of each line, that are amounts or shares for the same.
func (o *Order) FoldCharges() (err error) {
	if o.Charges, err = folded(o.Charges); err != nil {
		return err
	}
	for i := range o.Lines {
		if o.Lines[i].Charges, err = folded(o.Lines[i].Charges); err != nil {
			return err
		}
	}
	return nil
}

func folded(charges []Charge) ([]Charge, error) {
	if len(charges) == 0 {
		return charges, nil
	}
	at := make(map[string]int, len(charges))
	all := charges[:0]
	for _, c := range charges {
		i, twice := at[c.Field()]
		if !twice {
			at[c.Field()] = len(all)
			all = append(all, c)
			continue
		}
		sum, more := &all[i].Amount, c.Amount
		if c.Percent.set {
			sum, more = &all[i].Percent, c.Percent
		}
		var err error
		if *sum, err = sum.Add(more); err != nil {
			return all, ErrTooLong
		}
	}
	return all, nil
}

// SettleCharge gives the charge that was added last the sign that its kind calls for, and returns it. An amount that a
// document states counts, and not the share beside it.
func (o *Order) SettleCharge() Charge {
	c := lastCharge(o)
	c.Allowance, c.kind = c.kind == "allowance", ""
	if c.Amount.set {
		c.Percent = Number{}
	}
	return *c
}

// charges works out the charges that are shares of an amount, and adds all of them to a total.
func (s *sum) charges(total decimal.Decimal, charges []Charge, of decimal.Decimal, r Rounding,
	digits int) decimal.Decimal {
	for i := range charges {
		c := &charges[i]
		if c.Percent.set {
			c.Amount = Number{r.round(s.do(s.do(of.Mul(c.Percent.d)).Mul(hundredth)), digits), true}
		}
		if c.Allowance {
			total = s.do(total.Sub(c.Amount.d))
		} else {
			total = s.do(total.Add(c.Amount.d))
		}
	}
	return total
}

// ChargeKinds are the kinds of a repeating charge.
var ChargeKinds = []string{"charge", "allowance"}

func lastCharge(o *Order) *Charge { return &o.Charges[len(o.Charges)-1] }

var chargeFields = []Field{
	{Name: "kind", Level: Charges, Type: Choice, Choices: ChargeKinds,
		About: "charge adds the amount (the default), allowance takes it off",
		text:  func(o *Order, _ *Line) *string { return &lastCharge(o).kind }},
	{Name: "code", Level: Charges, Type: Text, Must: true, About: "What it is for, e.g. freight",
		text: func(o *Order, _ *Line) *string { return &lastCharge(o).Code }},
	{Name: "amount", Level: Charges, Type: Decimal, About: "How much; this or percent is needed",
		num: func(o *Order, _ *Line) *Number { return &lastCharge(o).Amount }},
	{Name: "percent", Level: Charges, Type: Percent,
		About: "How much in per cent of the lines' amounts; read where no amount is stated",
		num:   func(o *Order, _ *Line) *Number { return &lastCharge(o).Percent }},
}

// chargeFamilies are the fields of charges in the header or in a line, whose last word is the code.
var chargeFamilies = []family{
	{"charge.", "Money added; the last word says what for, e.g. charge.freight", Decimal, []Level{Header, Lines},
		func(key string) Field { return chargeField(key, false, false) }},
	{"allowance.", "Money taken off; the last word says what for", Decimal, []Level{Header, Lines},
		func(key string) Field { return chargeField(key, true, false) }},
	{"charge_percent.", "Money added, in per cent of the lines' amounts, or of the line's; the last word says what for", Percent,
		[]Level{Header, Lines}, func(key string) Field { return chargeField(key, false, true) }},
	{"allowance_percent.", "Money taken off, in per cent of the lines' amounts, or of the line's; the last word says what for",
		Percent, []Level{Header, Lines}, func(key string) Field { return chargeField(key, true, true) }},
}

// chargeField is the field of a charge: its amount, or its share.
func chargeField(key string, allowance, share bool) Field {
	list := func(o *Order, l *Line) *[]Charge {
		if l != nil {
			return &l.Charges
		}
		return &o.Charges
	}
	f := Field{num: func(o *Order, l *Line) *Number {
		all := list(o, l)
		i := slices.IndexFunc(*all, func(c Charge) bool {
			return c.Code == key && c.Allowance == allowance && (c.Percent.set == share || !c.Percent.set && !c.Amount.set)
		})
		if i < 0 {
			*all = append(*all, Charge{Allowance: allowance, Code: key})
			i = len(*all) - 1
		}
		if share {
			return &(*all)[i].Percent
		}
		return &(*all)[i].Amount
	}}
	if share { // without its share, a charge has no amount
		f.blank = func(o *Order, l *Line) {
			all := list(o, l)
			*all = slices.DeleteFunc(*all, func(c Charge) bool { return c.Code == key && c.Allowance == allowance && c.Percent.set })
		}
	}
	return f
}
