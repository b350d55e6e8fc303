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

// verdicts say what an answer to a line means: the words, and the codes of X12
// element 668. Those that are not as asked are for a person to look at.
var verdicts = map[string]string{
	"": "accepted", "ACCEPTED": "accepted", "AC": "accepted", "AR": "accepted", "IA": "accepted",
	"CHANGED": "changed", "DR": "changed", "IC": "changed", "IP": "changed", "IQ": "changed", "IS": "changed",
	"IB": "changed", "BP": "changed", "BACK-ORDERED": "changed",
	"REFUSED": "refused", "ID": "refused", "IR": "refused", "R1": "refused", "R2": "refused", "R3": "refused",
	"R4": "refused", "R5": "refused", "R6": "refused",
}

// answer keeps what the seller says to the order.
func (n *noticed) answer() error {
	in := &n.e.Order
	said := in.Statement
	a := &order.Answered{Code: said.Code, On: said.On}
	if n.stored.Kind == order.Purchase {
		a.Number = in.SenderNumber
	}
	for i := range in.Lines {
		l := &in.Lines[i]
		code := order.LineStatement{}
		if l.Statement != nil {
			code = *l.Statement
		}
		line := n.lineOf(i, strings.EqualFold(code.Code, "IS"))
		if line == nil {
			continue
		}
		verdict, known := verdicts[strings.ToUpper(strings.TrimSpace(code.Code))]
		if !known {
			n.e.Add(finding.UnknownChoice, i+1, "answer", code.Code, "%q is no answer to a line.",
				code.Code).Hint = "It may be accepted, changed, back-ordered, refused, or a code of X12 element 668."
			continue
		}
		accepted := code.Accepted
		if accepted.IsZero() {
			accepted = l.Quantity
		}
		switch verdict {
		case "refused":
			n.e.Add(finding.NoticeDiffers, i+1, "answer", code.Code,
				"Line %s is rejected (%s); what is wanted of it must come from elsewhere.", line.Number, code.Code)
		case "changed":
			price := ""
			if !l.UnitPrice.IsZero() {
				price = ", price " + l.UnitPrice.String() + " for " + line.UnitPrice.String()
			}
			due := ""
			if code.DueOn != "" {
				due = ", due " + string(code.DueOn)
			}
			n.e.Add(finding.NoticeDiffers, i+1, "answer", code.Code,
				"Line %s is accepted with changes (%s): quantity %s of %s%s%s.", line.Number, code.Code, accepted,
				line.Quantity, price, due)
		}
		a.Lines = append(a.Lines, order.AnsweredLine{Line: line.ID, Code: code.Code, Quantity: accepted,
			Unit: code.AcceptedUnit, DueOn: code.DueOn, UnitPrice: l.UnitPrice, Reason: code.Reason})
		n.besides = append(n.besides, order.Change{Line: slices.IndexFunc(n.is.Lines,
			func(o order.Line) bool { return o.ID == line.ID }) + 1, LineID: line.ID, Field: "answer",
			Was: n.answered(line.ID), Is: code.Code})
	}
	if last := len(n.stored.Answers) - 1; last >= 0 && sameAnswer(&n.stored.Answers[last], a) {
		n.same = true
		return nil
	}
	if code := strings.ToUpper(said.Code); code != "RD" && code != "RJ" && code != "REFUSED" &&
		n.is.Stage != order.Draft {
		n.is.Stage = order.Confirmed
	}
	if n.stored.Kind == order.Purchase && in.SenderNumber != "" && n.is.SenderNumber == "" {
		n.is.SenderNumber = in.SenderNumber
		n.c.Identity = n.is.Identity()
	}
	n.besides = slices.DeleteFunc(n.besides, func(c order.Change) bool { return c.Was == c.Is })
	n.c.Answer = a
	return nil
}

// answered is what was answered to a line last.
func (n *noticed) answered(line int) string {
	for i := len(n.stored.Answers) - 1; i >= 0; i-- {
		for _, l := range n.stored.Answers[i].Lines {
			if l.Line == line {
				return l.Code
			}
		}
	}
	return ""
}

func sameAnswer(a, b *order.Answered) bool {
	return a.Code == b.Code && a.On == b.On && slices.EqualFunc(a.Lines, b.Lines, func(x, y order.AnsweredLine) bool {
		return x.Line == y.Line && x.Code == y.Code && x.Quantity.Cmp(y.Quantity) == 0 && x.DueOn == y.DueOn &&
			x.UnitPrice.Cmp(y.UnitPrice) == 0
	})
}

// verbs say what goods did that moved; it is the field of the line that counts it, too.
var verbs = map[order.MovementKind]string{order.Shipment: "shipped", order.Receipt: "received"}

// move posts a shipment or a receipt, or takes one back.
func (n *noticed) move(kind order.MovementKind) error {
	said := n.e.Order.Statement
	if said == nil {
		said = &order.Statement{}
	}
	m := &order.Movement{Kind: kind, Partner: n.stored.Partner, Number: said.Number, On: said.On, At: said.At,
		DueOn: said.DueOn, Carrier: said.Carrier, Tracking: said.Tracking, Packages: said.Packages, Reverses: said.Reverses}
	n.names = map[string]string{verbs[kind]: "quantity"}
	if m.Number == "" {
		m.Number = fmt.Sprintf("%s/%d", n.stored.Order.Number, n.stored.Revision+1)
	}
	known, err := n.tx.Movement(kind, m.Partner, m.Number, n.stored.ID)
	if err != nil {
		return err
	}
	moving := n.named
	if said.Reverses != "" {
		moving = n.reversed
	}
	lines, err := moving(kind, known == nil)
	if err != nil {
		return err
	}
	for _, l := range lines {
		if l.Quantity.Sign() != 0 {
			m.Lines = append(m.Lines, l.MovementLine)
		}
		if known == nil {
			if err := n.moved(kind, &l); err != nil {
				return err
			}
		}
	}
	switch {
	case known != nil:
		return n.again(kind, m, known)
	case n.e.Refused():
	case len(m.Lines) == 0 && said.Quantities == "open":
		n.same = true // nothing is open any more
	case said.Reverses == "" && (n.stored.Status == order.Draft || n.stored.Status == order.Cancelled):
		n.e.Add(finding.NoticeDiffers, 0, "", string(n.stored.Status), "The order %s is %s, and goods of it are %s.",
			n.stored.Order.Number, n.stored.Status, verbs[kind])
	}
	if len(m.Lines) > 0 {
		n.c.Movement = m
	}
	return nil
}

// moving is goods of a line that are to move, with the line of the notice that says so; 0 is its header.
type moving struct {
	order.MovementLine
	at   int
	rest string // what becomes of the rest
}

// named lists what a notice says has moved: quantities, or all that is open.
func (n *noticed) named(kind order.MovementKind, fresh bool) (all []moving, err error) {
	in := &n.e.Order
	open := false
	if said := in.Statement; said != nil && said.Quantities != "" {
		if open = said.Quantities == "open"; !open {
			n.e.Add(finding.UnknownChoice, 0, "quantities", said.Quantities, "%q says of no quantities.",
				said.Quantities).Hint = "It may be open: all that is open."
			return nil, nil
		}
	}
	if open && len(in.Lines) == 0 {
		for i := range n.is.Lines {
			if left := openOf(&n.is.Lines[i], kind); left.Sign() > 0 {
				all = append(all, moving{order.MovementLine{Line: n.is.Lines[i].ID, Quantity: left}, 0, ""})
			}
		}
		return all, nil
	}
	for i := range in.Lines {
		q := in.Lines[i].Quantity
		if q.Sign() < 0 {
			n.e.Add(finding.QuantityNegative, i+1, "quantity", q.String(), "The quantity is %s.", q)
			continue
		}
		line := n.lineOf(i, false)
		if line == nil {
			continue
		}
		if unit := in.Lines[i].Unit; fresh && unit != "" && line.Unit != "" && unit != line.Unit {
			n.e.Add(finding.LineDiffers, i+1, "unit", unit, "Line %s is ordered in %s, but %s are %s.", line.Number,
				line.Unit, unit, verbs[kind])
			continue
		}
		if open && q.IsZero() {
			q = openOf(line, kind)
		}
		l := moving{order.MovementLine{Line: line.ID, Quantity: q}, i + 1, ""}
		if said := in.Lines[i].Statement; said != nil {
			l.Lot, l.rest = said.Lot, said.Rest
		}
		if q.Sign() != 0 || l.rest != "" {
			all = append(all, l)
		}
	}
	return all, nil
}

// reversed lists what a notice takes back of an earlier movement: below zero.
func (n *noticed) reversed(kind order.MovementKind, fresh bool) (all []moving, err error) {
	number := n.e.Order.Statement.Reverses
	was, err := n.tx.Movement(kind, n.stored.Partner, number, n.stored.ID)
	if err != nil {
		return nil, err
	}
	if was == nil {
		n.e.Add(finding.MovementUnknown, 0, "reverses", number, "No %s %s has moved anything of the order %s.", kind, number,
			n.stored.Order.Number)
		return nil, nil
	}
	left := map[int]order.Number{} // of each line, what is not taken back yet
	add := func(lines []order.MovementLine) {
		for _, l := range lines {
			sum, wrong := left[l.Line].Add(l.Quantity)
			left[l.Line], err = sum, errors.Join(err, wrong)
		}
	}
	add(was.Lines)
	for i := range n.stored.Movements {
		if m := &n.stored.Movements[i]; fresh && m.Kind == kind && m.Reverses == number {
			add(m.Lines)
		}
	}
	if err != nil {
		return nil, err
	}
	back := func(line int, q order.Number, at int) error {
		less, err := order.NumberOf(0).Sub(q)
		all = append(all, moving{order.MovementLine{Line: line, Quantity: less}, at, ""})
		return err
	}
	in := &n.e.Order
	if len(in.Lines) == 0 {
		for i := range n.is.Lines {
			if q := left[n.is.Lines[i].ID]; q.Sign() > 0 {
				err = errors.Join(err, back(n.is.Lines[i].ID, q, 0))
			}
		}
		if len(all) == 0 {
			n.e.Add(finding.UpdateConflict, 0, "reverses", number, "The %s %s was taken back before.", kind, number)
		}
		return all, err
	}
	for i := range in.Lines {
		line := n.lineOf(i, false)
		if line == nil {
			continue
		}
		q := in.Lines[i].Quantity
		if q.Sign() <= 0 || fresh && q.Cmp(left[line.ID]) > 0 {
			n.e.Add(finding.UpdateConflict, i+1, "quantity", q.String(), "Of line %s, %s can be taken back of the %s %s, not %s.",
				line.Number, orZero(left[line.ID]), kind, number, orZero(q))
			continue
		}
		err = errors.Join(err, back(line.ID, q, i+1))
	}
	return all, err
}

// openOf is what of a line is still to move.
func openOf(l *order.Line, kind order.MovementKind) order.Number {
	left, err := due(l).Sub(*l.Moved(kind))
	if err != nil || left.Sign() < 0 {
		return order.Number{}
	}
	return left
}

// moved counts what has moved of a line, and says where that is more than was ordered.
func (n *noticed) moved(kind order.MovementKind, l *moving) (err error) {
	line := &n.is.Lines[n.is.Position(l.Line)-1]
	to := line.Moved(kind)
	if *to, err = to.Add(l.Quantity); err != nil {
		return err
	}
	if due := due(line); l.Quantity.Sign() > 0 && to.Cmp(due) > 0 {
		n.e.Add(finding.NoticeDiffers, l.at, "quantity", to.String(),
			"Of line %s, %s are %s now, more than the %s that were ordered.", line.Number, *to, verbs[kind], orZero(due))
	}
	switch {
	case l.rest == "cancel":
		if left := openOf(line, kind); left.Sign() > 0 {
			line.Cancelled, err = line.Cancelled.Add(left)
		}
	case l.rest != "":
		n.e.Add(finding.UnknownChoice, l.at, "rest", l.rest, "%q does not say what becomes of the rest of the line.",
			l.rest).Hint = "It may be cancel, where the rest is not wanted any more."
	}
	return err
}

// again finds out whether a movement that came before said the same.
func (n *noticed) again(kind order.MovementKind, m, known *order.Movement) error {
	n.same = true
	same, err := sameMoved(known.Lines, m.Lines)
	if err == nil && !same {
		n.e.Add(finding.IdentityStored, 0, string(kind), m.Number,
			"The %s %s of %s was posted before, with other quantities.", kind, m.Number,
			m.Partner).Hint = "Nothing was changed. A movement is posted once by its number; give the other one " +
			"a number of its own."
	}
	return err
}

// sameMoved reports whether two movements say that as much of each line has moved, in whatever
// order and in whatever pieces they say it.
func sameMoved(a, b []order.MovementLine) (bool, error) {
	left := map[int]order.Number{}
	for _, l := range a {
		n, err := left[l.Line].Add(l.Quantity)
		if err != nil {
			return false, err
		}
		left[l.Line] = n
	}
	for _, l := range b {
		n, err := left[l.Line].Sub(l.Quantity)
		if err != nil {
			return false, err
		}
		left[l.Line] = n
	}
	for _, n := range left {
		if n.Sign() != 0 {
			return false, nil
		}
	}
	return true, nil
}

// due is what of a line is still wanted: its quantity less what was cancelled.
func due(l *order.Line) order.Number {
	left, err := l.Quantity.Sub(l.Cancelled)
	if err != nil {
		return l.Quantity
	}
	return left
}

// invoice keeps what the seller wants money for, and compares it with the order.
func (n *noticed) invoice() error {
	in, said := &n.e.Order, n.e.Order.Statement
	v := &order.Invoice{Partner: n.stored.Partner, Number: said.Number, On: said.On,
		Currency: cmp.Or(in.Currency, n.stored.Currency), Total: in.StatedTotal}
	if v.Number == "" {
		v.Number = fmt.Sprintf("%s/%d", n.stored.Order.Number, n.stored.Revision+1)
	}
	if said.Quantities == "open" && len(in.Lines) == 0 {
		if in.Lines = n.unbilled(); len(in.Lines) == 0 {
			n.same = true // everything that has moved is billed
			return nil
		}
		n.priced()
	} else if n.e.Target != 0 { // said by hand: what is not said of the price is as ordered
		n.priced()
	}
	known, err := n.tx.Invoice(v.Partner, v.Number, n.stored.ID)
	if err != nil {
		return err
	}
	n.names = map[string]string{"invoiced": "quantity"}
	sums := *in
	sums.Lines = slices.Clone(in.Lines)
	if _, err := sums.Compute(n.s.Rounding); err != nil {
		n.e.Add(finding.AmountTooLarge, 0, "total", "", "The invoice's sums cannot be worked out: %v.", err)
		return nil
	}
	for i := range in.Lines {
		l := &in.Lines[i]
		if l.Quantity.Sign() < 0 {
			n.e.Add(finding.QuantityNegative, i+1, "quantity", l.Quantity.String(), "The quantity is %s.", l.Quantity)
			continue
		}
		line := n.lineOf(i, false)
		if line == nil {
			continue
		}
		v.Lines = append(v.Lines, order.InvoiceLine{Line: line.ID, Quantity: l.Quantity, UnitPrice: l.UnitPrice,
			Amount: sums.Lines[i].Amount})
		if known != nil {
			continue
		}
		was := line.Invoiced
		if line.Invoiced, err = was.Add(l.Quantity); err != nil {
			return err
		}
		n.besides = append(n.besides, order.Change{Line: slices.IndexFunc(n.is.Lines,
			func(o order.Line) bool { return o.ID == line.ID }) + 1, LineID: line.ID, Field: "invoiced",
			Was: was.Plain(), Is: line.Invoiced.Plain()})
		moved := line.Shipped
		if line.Received.Cmp(moved) > 0 {
			moved = line.Received
		}
		if line.Invoiced.Cmp(moved) > 0 {
			n.e.Add(finding.NoticeDiffers, i+1, "quantity", line.Invoiced.String(),
				"Of line %s, %s are invoiced, more than the %s that were shipped.", line.Number, line.Invoiced,
				orZero(moved))
		}
		n.price(i, line)
	}
	if known != nil {
		n.same = true
		if !slices.EqualFunc(known.Lines, v.Lines, func(a, b order.InvoiceLine) bool {
			return a.Line == b.Line && a.Quantity.Cmp(b.Quantity) == 0
		}) {
			n.e.Add(finding.IdentityStored, 0, "invoice", v.Number,
				"The invoice %s of %s came before, with other quantities.", v.Number,
				v.Partner).Hint = "Nothing was changed. An invoice counts once by its number; ask the partner which one holds."
		}
		return nil
	}
	if !in.StatedTotal.IsZero() && !order.Within(in.StatedTotal, sums.Total, order.MustNumber("0.01")) {
		n.e.Add(finding.NoticeDiffers, 0, "total", in.StatedTotal.String(),
			"The invoice states a total of %s; its lines, charges and tax make %s.", in.StatedTotal, sums.Total)
	}
	n.c.Invoice = v
	return nil
}

// unbilled are lines that bill what has moved and is not billed yet.
func (n *noticed) unbilled() (lines []order.Line) {
	for i := range n.is.Lines {
		l := &n.is.Lines[i]
		moved := l.Shipped
		if l.Received.Cmp(moved) > 0 {
			moved = l.Received
		}
		if left, err := moved.Sub(l.Invoiced); err == nil && left.Sign() > 0 {
			lines = append(lines, order.Line{ID: l.ID, Quantity: left})
		}
	}
	return lines
}

// priced gives the lines of the notice that say no price the order's.
func (n *noticed) priced() {
	for i := range n.e.Order.Lines {
		l := &n.e.Order.Lines[i]
		if at := n.find(l); at >= 0 && l.UnitPrice.IsZero() {
			o := &n.is.Lines[at]
			l.UnitPrice, l.PriceBasis, l.DiscountPercent, l.TaxPercent = o.UnitPrice, o.PriceBasis, o.DiscountPercent, o.TaxPercent
		}
	}
}

// price compares what a line is billed at with what the order says, for one unit.
func (n *noticed) price(i int, line *order.Line) {
	l := &n.e.Order.Lines[i]
	if l.UnitPrice.IsZero() || line.UnitPrice.IsZero() {
		return
	}
	amount := func(l order.Line) (order.Number, error) {
		l.Charges = nil
		o := order.Order{Currency: n.stored.Currency, Lines: []order.Line{l}}
		_, err := o.Compute(n.s.Rounding)
		return o.Lines[0].Amount, err
	}
	billed, err := amount(order.Line{Quantity: l.Quantity, UnitPrice: l.UnitPrice, PriceBasis: l.PriceBasis,
		DiscountPercent: l.DiscountPercent})
	ordered, err2 := amount(order.Line{Quantity: l.Quantity, UnitPrice: line.UnitPrice, PriceBasis: line.PriceBasis,
		DiscountPercent: line.DiscountPercent})
	if err == nil && err2 == nil && billed.Cmp(ordered) != 0 {
		n.e.Add(finding.NoticeDiffers, i+1, "unit_price", l.UnitPrice.String(),
			"Line %s is invoiced at %s; the order says %s.", line.Number, l.UnitPrice, line.UnitPrice)
	}
}

func orZero(n order.Number) order.Number {
	if n.IsZero() {
		return order.NumberOf(0)
	}
	return n
}
