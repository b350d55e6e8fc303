package notice

import (
	"cmp"
	"slices"
	"strings"

	"koinos/core/intent"
	"koinos/core/order"
)

// numbered finds the lines of an order by their numbers.
type numbered struct {
	*order.Finder
	of *order.Order
}

func linesOf(o *order.Order) numbered { return numbered{order.NewFinder(o), o} }

// line is the first line with a number, or nil. One that is written in the same way comes before another (1 and 01).
func (n numbered) line(number string) *order.Line {
	at := n.Numbered(number)
	if len(at) == 0 {
		return nil
	}
	if last := &n.of.Lines[at[len(at)-1]]; last.Number == number && n.of.Lines[at[0]].Number != number {
		return last
	}
	return &n.of.Lines[at[0]]
}

// due is the quantity of a line that is still wanted: what was ordered less what was cancelled.
func due(l *order.Line) order.Number {
	left, err := l.Quantity.Sub(l.Cancelled)
	if err != nil {
		return l.Quantity
	}
	return left
}

// bare removes those terms of the whole order that a notice does not repeat.
func bare(o *order.Order) order.Order {
	v := order.Order{Kind: o.Kind, Number: o.Number, SenderNumber: o.SenderNumber, Partner: o.Partner,
		OrderedOn: o.OrderedOn, Currency: o.Currency}
	for _, r := range o.References {
		if r.Qualifier == "release" { // of a blanket order: its number is half of the order's
			v.References = append(v.References, r)
		}
	}
	return v
}

// named returns the fields by which every notice identifies a line.
func named(l *order.Line) order.Line {
	return order.Line{Number: l.Number, Item: l.Item, BuyerItem: l.BuyerItem, GTIN: l.GTIN, Description: l.Description,
		Unit: l.Unit}
}

// Confirm is what a seller answers: what became (is) of what was asked, line by line, both as the seller sees them. If
// somebody has answered a line explicitly (answers), that answer is used instead.
func Confirm(asked, is *order.Order, answers []order.Answered, today order.Date) order.Order {
	v := bare(is)
	v.Statement = &order.Statement{Kind: string(intent.Answer), On: today}
	changed, rejected := false, 0
	now, last := linesOf(is), lastSaid(answers)
	for i := range asked.Lines {
		a := &asked.Lines[i]
		l := now.line(a.Number)
		out := named(a)
		out.Quantity, out.UnitPrice = a.Quantity, a.UnitPrice
		if said := last.about(a, l); len(said) > 0 {
			refused := 0
			for _, one := range said {
				v.Lines = append(v.Lines, worded(out, &one, a, l, promised(asked, a), len(said) > 1))
				if v.Lines[len(v.Lines)-1].Statement.Code == "IR" {
					refused++
				}
			}
			if refused == len(said) {
				rejected++
			}
			changed = changed || len(said) > 1 || v.Lines[len(v.Lines)-1].Statement.Code != "IA"
			continue
		}
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

// saying is what was answered about lines, by their ids.
type saying map[int][]order.AnsweredLine

// lastSaid is what the last answer about each line says.
func lastSaid(answers []order.Answered) saying {
	last := saying{}
	for i := len(answers) - 1; i >= 0; i-- {
		here := saying{}
		for _, one := range answers[i].Lines {
			here[one.Line] = append(here[one.Line], one)
		}
		for id, said := range here {
			if id != 0 && last[id] == nil {
				last[id] = said
			}
		}
		if answers[i].Replaces {
			break
		}
	}
	return last
}

// about is what was said about a line, as it was asked for (a) and as it became (l, which can be nil).
func (s saying) about(a, l *order.Line) []order.AnsweredLine {
	if l != nil {
		return s[l.ID]
	}
	return s[a.ID]
}

// codes are those of X12 element 668 for the words of an answer.
var codes = map[string]string{"": "IA", "accepted": "IA", "back-ordered": "IB", "pending": "IH", "refused": "IR"}

// worded is a line with one statement of an answer. If there are several, each is about a part of what was asked.
func worded(out order.Line, one *order.AnsweredLine, asked, is *order.Line, wanted order.Date,
	several bool) order.Line {
	word := strings.ToLower(strings.TrimSpace(one.Code))
	code, known := codes[word]
	accepted := one.Quantity
	if accepted.IsZero() && is != nil {
		accepted = due(is)
	}
	var differs []string
	if !several && accepted.Cmp(asked.Quantity) != 0 {
		differs = append(differs, "IQ")
	}
	if !one.UnitPrice.IsZero() {
		if out.UnitPrice = one.UnitPrice; one.UnitPrice.Cmp(asked.UnitPrice) != 0 {
			differs = append(differs, "IP")
		}
	}
	if one.DueOn != "" && one.DueOn != wanted {
		differs = append(differs, "DR")
	}
	switch {
	case !known && word != "changed": // a code of its own
		code = strings.ToUpper(word)
	case known && code != "IA":
	case len(differs) == 1:
		code = differs[0]
	case len(differs) > 1:
		code = "IC"
	default:
		code = "IA"
	}
	if verdict, _ := order.VerdictOf(code); verdict == order.Rejected {
		accepted = order.NumberOf(0)
	}
	out.Statement = &order.LineStatement{Code: code, Accepted: accepted, AcceptedUnit: cmp.Or(one.Unit, asked.Unit),
		DueOn:  one.DueOn,
		Reason: one.Reason}
	return out
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

// Changes is what a buyer asks to be changed: the lines that differ between what was said last and what the order is
// now. If it has no lines, there is nothing to say.
func Changes(was, is *order.Order, number string, today order.Date) order.Order {
	v := bare(is)
	v.RequestedShipOn, v.RequestedDeliveryOn, v.CancelAfter = is.RequestedShipOn, is.RequestedDeliveryOn, is.CancelAfter
	then, now := linesOf(was), linesOf(is)
	for i := range is.Lines {
		l := is.Lines[i]
		before := then.line(l.Number)
		code := ""
		if before == nil {
			code = "AI"
		} else {
			code = changeOf(before, &l, promised(is, &l) != promised(was, before))
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
		if before := &was.Lines[i]; now.line(before.Number) == nil {
			out := named(before)
			out.Quantity, out.UnitPrice = order.NumberOf(0), before.UnitPrice
			out.Statement = &order.LineStatement{Code: "DI"}
			v.Lines = append(v.Lines, out)
		}
	}
	v.Statement = &order.Statement{Kind: string(intent.Change), Number: number, On: today}
	if !slices.ContainsFunc(is.Lines, func(l order.Line) bool { return due(&l).Sign() > 0 }) {
		v.Statement.Code = Cancelled
	}
	return v
}

// changeOf is the code (X12 element 670) of the change from one state of a line to another; moved says that its day is
// another one. "" is that nothing has changed.
func changeOf(was, is *order.Line, moved bool) string {
	quantity, price := due(is).Cmp(due(was)), is.UnitPrice.Cmp(was.UnitPrice)
	switch {
	case due(is).Sign() == 0 && due(was).Sign() > 0:
		return "DI"
	case quantity == 0 && price == 0 && !moved:
		return ""
	case quantity != 0 && price != 0 && !moved:
		return "PQ"
	case quantity > 0 && price == 0 && !moved:
		return "QI"
	case quantity < 0 && price == 0 && !moved:
		return "QD"
	case quantity == 0 && price != 0 && !moved:
		return "PC"
	case quantity == 0 && price == 0:
		return "CT"
	}
	return "MU"
}

// Ship is the notice of a shipment: what it moved of the order, less what was taken back of it (back, by ids of lines),
// and with the quantity of each line that had been shipped once it left (sofar).
func Ship(is *order.Order, m *order.Movement, back, sofar map[int]order.Number, today order.Date,
	clock string) (order.Order,
	error) {
	v := bare(is)
	if p := is.Party("ship_to"); p != nil {
		v.Parties = []order.Party{{Role: "ship_to", Code: p.Code, Name: p.Name}}
	}
	v.Currency = ""
	for _, l := range m.Lines {
		at := is.Position(l.Line)
		if at == 0 {
			continue
		}
		out := named(&is.Lines[at-1])
		var err error
		if out.Quantity, err = l.Quantity.Sub(back[l.Line]); err != nil {
			return v, err
		}
		if out.Quantity.Sign() < 0 { // the line moved in several pieces
			back[l.Line] = out.Quantity.Abs()
			continue
		}
		if delete(back, l.Line); out.Quantity.Sign() == 0 {
			continue
		}
		out.Statement = &order.LineStatement{ToDate: sofar[l.Line], Lot: l.Lot, Package: l.Package, PackageIn: l.PackageIn}
		v.Lines = append(v.Lines, out)
	}
	packed(v.Lines)
	v.Statement = &order.Statement{Kind: string(intent.Shipment), Number: m.Number, On: cmp.Or(m.On, today), ToldOn: today,
		At: cmp.Or(m.At, clock), DueOn: m.DueOn, Carrier: m.Carrier, Tracking: m.Tracking, Lading: m.Lading,
		Packages: m.Packages, Weight: m.Weight,
		WeightIn: m.WeightIn}
	v.Notes = m.Notes
	return v, nil
}

// packed sorts the lines so that those in one package follow each other, in the order in which the packages first
// occur.
func packed(lines []order.Line) {
	rank := map[[2]string]int{}
	key := func(l *order.Line) int { return rank[[2]string{l.Statement.PackageIn, l.Statement.Package}] }
	outer := map[string]int{}
	for i := range lines {
		s := lines[i].Statement
		if _, known := outer[s.PackageIn]; !known {
			outer[s.PackageIn] = i
		}
		if _, known := rank[[2]string{s.PackageIn, s.Package}]; !known {
			rank[[2]string{s.PackageIn, s.Package}] = i
		}
	}
	slices.SortStableFunc(lines, func(a, b order.Line) int {
		return cmp.Or(outer[a.Statement.PackageIn]-outer[b.Statement.PackageIn], key(&a)-key(&b))
	})
}

// Purposes of notices that do not do what their kind usually does, with the codes of X12 elements 353 and 640.
const (
	Cancelled = "01" // the shipment is taken back, or nothing of the order is wanted any more
	Replaced  = "05" // the shipment is another one than was said
	Credit    = "CR" // the invoice gives money back
)

// Bill is an invoice, or a credit note, of an order, exact to the cent. It states a price for one unit in place of
// price basis and discount. Quantities and money of a credit note are positive, and its purpose says what it is. A
// charge of a line is told with its line if ofLine is true for its field, and otherwise as one of the whole invoice.
func Bill(is *order.Order, bill *order.Invoice, today order.Date, ofLine func(field string) bool) (order.Order, error) {
	v := bare(is)
	v.Currency, v.PaymentTerms = cmp.Or(bill.Currency, v.Currency), is.PaymentTerms
	for _, role := range []string{"bill_to", "ship_to"} {
		if p := is.Party(role); p != nil {
			v.Parties = append(v.Parties, order.Party{Role: role, Code: p.Code, Name: p.Name})
		}
	}
	lines := map[int]int{} // positions in v, by id: the first of several parts
	for i := range bill.Lines {
		l := &bill.Lines[i]
		at := is.Position(l.Line)
		if at == 0 {
			continue
		}
		if _, known := lines[l.Line]; !known {
			lines[l.Line] = len(v.Lines)
		}
		out := named(&is.Lines[at-1])
		out.Quantity, out.UnitPrice = l.Quantity.Abs(), l.UnitPrice
		if amount := l.Amount.Abs(); !amount.IsZero() && out.Quantity.Sign() > 0 {
			var err error
			if out.UnitPrice, err = unitPrice(v.Currency, out.Quantity, amount, l.UnitPrice); err != nil {
				return v, err
			}
		}
		v.Lines = append(v.Lines, out)
	}
	for _, c := range bill.Charges {
		c.Amount, c.Percent = c.Amount.Abs(), order.Number{}
		in := &v.Charges
		if at, known := lines[c.Line]; known && ofLine(c.Field()) {
			in = &v.Lines[at].Charges
		}
		*in = append(*in, c.Charge)
	}
	if err := v.FoldCharges(); err != nil {
		return v, err
	}
	if bill.Tax.Sign() != 0 && is.TaxTreatment != order.TaxInclusive && is.TaxTreatment != order.TaxExempt {
		v.TaxAmount = bill.Tax.Abs()
	}
	v.StatedTotal = bill.Total.Abs()
	v.Statement = &order.Statement{Kind: string(intent.Invoice), Number: bill.Number, On: cmp.Or(bill.On, today),
		Shipment: bill.Shipment, Reverses: bill.Reverses}
	if bill.Reverses != "" {
		v.Statement.Code = Credit
	}
	return v, nil
}

// mostPlaces is how many decimal places a unit price can have.
const mostPlaces = 10

// unitPrice is a price of one unit with which a quantity comes to an amount. It is the stated price if that fits,
// otherwise the one with the fewest decimal places, and at least those of the currency.
func unitPrice(currency string, quantity, amount, said order.Number) (order.Number, error) {
	comes := func(price order.Number) (bool, error) {
		p := order.Priced{Quantity: quantity, UnitPrice: price}
		got, err := p.Amount(order.HalfUp, currency)
		return got.Cmp(amount) == 0, err
	}
	if !said.IsZero() {
		if ok, err := comes(said); ok || err != nil {
			return said, err
		}
	}
	exact, err := amount.Quo(quantity)
	if err != nil {
		return said, err
	}
	for places := order.CurrencyDigits(currency); ; places++ {
		one := exact.Round(order.HalfUp, places)
		if ok, err := comes(one); ok || err != nil || places == mostPlaces {
			return one, err
		}
	}
}

// Answered turns an answer (made by Confirm) into one to a requested change: each line states what was asked of it,
// with the codes for that. A deletion that was carried out is a deleted line (ID). What was asked and left as it was
// before (was) is rejected (IR), with the quantity that stays. An explicit answer (answers) is not changed.
func Answered(v, asked, is, was *order.Order, answers []order.Answered) {
	rejected, done := 0, 0
	wanted, present, then, last := linesOf(asked), linesOf(is), linesOf(was), lastSaid(answers)
	for i := range v.Lines {
		out := &v.Lines[i]
		s := out.Statement
		left := order.NumberOf(0)
		now := present.line(out.Number)
		if now != nil {
			left = due(now)
		}
		l := wanted.line(out.Number)
		if s.Asked = "CA"; l.Statement != nil && l.Statement.Code != "" {
			s.Asked = l.Statement.Code
		}
		switch own := len(last.about(l, now)) > 0; {
		case own && s.Code == "IR" && s.Asked != "AI":
			s.Accepted = left
		case own:
		case s.Asked == "DI" && left.Sign() == 0 && (now != nil || then.line(out.Number) != nil):
			s.Code, s.Accepted = "ID", left
		case s.Asked == "DI":
			s.Code, s.Accepted = "IR", left
		case left.Sign() == 0: // it is gone
		case undone(asked, l, is, now) && stays(was, then.line(now.Number), is, now):
			s.Code, s.Accepted = "IR", left
		case !undone(asked, l, is, now) && s.Code != "IB" && s.Code != "BP":
			s.Code = "IA" // what differs besides nobody asked for
		}
		switch s.Code {
		case "IR":
			rejected++
		case "IA", "ID":
			done++
		}
	}
	switch {
	case len(asked.Lines) == 0:
		v.Statement.Code = "RJ"
		if headerDone(asked, is) {
			v.Statement.Code = "AT"
		}
	case rejected == len(v.Lines):
		v.Statement.Code = "RD"
	case done == len(v.Lines):
		v.Statement.Code = "AD"
	default:
		v.Statement.Code = "AC"
	}
}

// headerDone reports whether an order is as a change of its header asks, or is cancelled if that was asked.
func headerDone(asked, is *order.Order) bool {
	if asked.Statement != nil && asked.Statement.Kind == string(intent.Withdrawal) {
		return !slices.ContainsFunc(is.Lines, func(l order.Line) bool { return due(&l).Sign() > 0 })
	}
	has := map[string]string{}
	is.EachChange(func(field, value string) { has[field] = value })
	done := true
	asked.EachChange(func(field, value string) { done = done && strings.EqualFold(has[field], value) })
	return done
}

// undone reports whether something that was asked of a line was not done. Blank fields were not asked.
func undone(asked *order.Order, l *order.Line, is *order.Order, now *order.Line) bool {
	day := promised(asked, l)
	return !l.Quantity.IsZero() && l.Quantity.Cmp(due(now)) != 0 || !l.UnitPrice.IsZero() &&
		l.UnitPrice.Cmp(now.UnitPrice) != 0 ||
		l.Item != "" && l.Item != now.Item || len(l.Deliveries) > 0 && l.Deliveries.String() != now.Deliveries.String() ||
		day != "" && day != promised(is, now)
}

// stays reports whether a line is as it was before.
func stays(was *order.Order, before *order.Line, is *order.Order, now *order.Line) bool {
	return before != nil && due(before).Cmp(due(now)) == 0 && before.UnitPrice.Cmp(now.UnitPrice) == 0 &&
		before.Item == now.Item &&
		before.Deliveries.String() == now.Deliveries.String() &&
		before.Backordered.Cmp(now.Backordered) == 0 && promised(was, before) == promised(is, now)
}
