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
	said := n.statement()
	m := &order.Movement{Kind: kind, Partner: n.stored.Partner, Number: said.Number, On: said.On, At: said.At,
		DueOn: said.DueOn, Carrier: said.Carrier, Tracking: said.Tracking, Packages: said.Packages, Reverses: said.Reverses}
	n.names = map[string]string{verbs[kind]: "quantity"}
	if m.Number == "" {
		m.Number = n.ownNumber()
	}
	if ok, err := n.asBefore(kind, m); err != nil || !ok {
		return err
	}
	known, err := n.tx.Movement(kind, m.Partner, m.Number, n.stored.ID)
	if err != nil {
		return err
	}
	moving := n.said
	if said.Reverses != "" {
		moving = n.reversed
	}
	lines, err := moving(kind, known)
	if err != nil {
		return err
	}
	for _, l := range lines {
		if l.Quantity.Sign() != 0 {
			m.Lines = append(m.Lines, l.MovementLine)
		}
	}
	if known != nil {
		return n.again(kind, m, known)
	}
	for i := range lines {
		if err := n.moved(kind, &lines[i]); err != nil {
			return err
		}
	}
	switch {
	case n.e.Refused():
	case len(m.Lines) == 0:
		return nil // nothing is open any more, or only what is left is said of
	case said.Reverses == "" && (n.stored.Status == order.Draft || n.stored.Status == order.Cancelled):
		n.e.Add(finding.NoticeDiffers, 0, "", string(n.stored.Status), "The order %s is %s, and goods of it are %s.",
			n.stored.Order.Number, n.stored.Status, verbs[kind])
	}
	n.c.Movement = m
	return nil
}

// statement is what a notice says besides what an order says.
func (n *noticed) statement() *order.Statement {
	if said := n.e.Order.Statement; said != nil {
		return said
	}
	return &order.Statement{}
}

// ownNumber is the number of a movement or invoice to which nobody gave one.
func (n *noticed) ownNumber() string {
	return fmt.Sprintf("%s/%d", n.stored.Order.Number, n.stored.Revision+1)
}

// asBefore reports whether a movement is of the same sort as the one of its number, if there is one, which may have moved
// goods of other orders: a finding says what is not.
func (n *noticed) asBefore(kind order.MovementKind, m *order.Movement) (ok bool, err error) {
	was, there, err := n.tx.Reverses(kind, m.Partner, m.Number)
	if err != nil || !there || was == m.Reverses {
		return err == nil, err
	}
	field, why := "reverses", fmt.Sprintf("takes back %s, and not %s", was, m.Reverses)
	switch {
	case was == "":
		why = "moves goods, and takes nothing back"
	case m.Reverses == "":
		field, why = string(kind), fmt.Sprintf("takes back %s, and does not move goods", was)
	}
	n.e.Add(finding.IdentityStored, 0, field, m.Number, "The %s %s %s.", kind, m.Number, why).Hint =
		"Nothing was changed. Give this one a number of its own."
	return false, nil
}

// moving is goods of a line that are to move, with the line of the notice that says so; 0 is its header.
type moving struct {
	order.MovementLine
	at   int
	rest string // what becomes of the rest
}

// budget is how much of each line, by its id, can still be spoken of.
type budget map[int]order.Number

func (b budget) add(lines []order.MovementLine) error {
	for _, l := range lines {
		sum, err := b[l.Line].Add(l.Quantity)
		if err != nil {
			return err
		}
		b[l.Line] = sum
	}
	return nil
}

func (b budget) take(line int, q order.Number) (err error) {
	b[line], err = b[line].Sub(q)
	return err
}

// opens reports whether a notice speaks of all that is open; ok is false where it says a word that is none.
func (n *noticed) opens() (open, ok bool) {
	word := strings.TrimSpace(n.statement().Quantities)
	if word == "" || strings.EqualFold(word, "open") {
		return word != "", true
	}
	n.e.Add(finding.UnknownChoice, 0, "quantities", word, "%q says of no quantities.", word).Hint =
		"It may be open: all that is open."
	return false, false
}

// said lists what a notice says has moved: quantities, or all that is open. Of a movement that is known already, what
// was open is what that one moved.
func (n *noticed) said(kind order.MovementKind, known *order.Movement) (all []moving, err error) {
	open, ok := n.opens()
	if !ok {
		return nil, nil
	}
	left := budget{}
	if known != nil {
		err = left.add(known.Lines)
	} else {
		for i := range n.is.Lines {
			var wrong error
			left[n.is.Lines[i].ID], wrong = n.is.Lines[i].Open(kind)
			err = errors.Join(err, wrong)
		}
	}
	if err != nil {
		return nil, err
	}
	in := &n.e.Order
	if open && len(in.Lines) == 0 {
		for i := range n.is.Lines {
			if q := left[n.is.Lines[i].ID]; q.Sign() > 0 {
				all = append(all, moving{order.MovementLine{Line: n.is.Lines[i].ID, Quantity: q}, 0, ""})
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
		if unit := in.Lines[i].Unit; known == nil && unit != "" && line.Unit != "" && unit != line.Unit {
			n.e.Add(finding.LineDiffers, i+1, "unit", unit, "Line %s is ordered in %s, but %s are %s.", line.Number,
				line.Unit, unit, verbs[kind])
			continue
		}
		if open && q.IsZero() && left[line.ID].Sign() > 0 {
			q = left[line.ID]
		}
		l := moving{order.MovementLine{Line: line.ID, Quantity: q}, i + 1, ""}
		if said := in.Lines[i].Statement; said != nil {
			l.Lot, l.rest = said.Lot, strings.TrimSpace(said.Rest)
		}
		all = append(all, l)
		err = errors.Join(err, left.take(line.ID, q))
	}
	return all, err
}

// reversed lists what a notice takes back of an earlier movement: below zero.
func (n *noticed) reversed(kind order.MovementKind, known *order.Movement) (all []moving, err error) {
	in, number := &n.e.Order, n.statement().Reverses
	if known != nil && len(in.Lines) == 0 { // whatever was left then
		for _, l := range known.Lines {
			all = append(all, moving{l, 0, ""})
		}
		return all, nil
	}
	was, err := n.tx.Movement(kind, n.stored.Partner, number, n.stored.ID)
	switch {
	case err != nil:
		return nil, err
	case was == nil:
		n.e.Add(finding.MovementUnknown, 0, "reverses", number, "No %s %s has moved anything of the order %s.", kind, number,
			n.stored.Order.Number)
		return nil, nil
	case was.Reverses != "":
		n.e.Add(finding.UpdateConflict, 0, "reverses", number,
			"The %s %s itself takes back %s; post what moves once more as a %s of its own.", kind, number, was.Reverses, kind)
		return nil, nil
	}
	left := budget{} // what is not taken back yet
	err = left.add(was.Lines)
	for i := range n.stored.Movements {
		if m := &n.stored.Movements[i]; m.Kind == kind && m.Reverses == number && (known == nil || m.ID != known.ID) {
			err = errors.Join(err, left.add(m.Lines))
		}
	}
	if err != nil {
		return nil, err
	}
	back := func(line int, q order.Number, at int) error {
		less, err := order.NumberOf(0).Sub(q)
		all = append(all, moving{order.MovementLine{Line: line, Quantity: less}, at, ""})
		return errors.Join(err, left.take(line, q))
	}
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
		if q.Sign() <= 0 || q.Cmp(left[line.ID]) > 0 {
			n.e.Add(finding.UpdateConflict, i+1, "quantity", q.String(), "Of line %s, %s can be taken back of the %s %s, not %s.",
				line.Number, orZero(left[line.ID]), kind, number, orZero(q))
			continue
		}
		err = errors.Join(err, back(line.ID, q, i+1))
	}
	return all, err
}

// moved counts what has moved of a line, and says where that is more than was ordered, or less than was billed.
func (n *noticed) moved(kind order.MovementKind, l *moving) (err error) {
	line := &n.is.Lines[n.is.Position(l.Line)-1]
	to := line.Moved(kind)
	if l.Quantity.Sign() != 0 {
		if *to, err = to.Add(l.Quantity); err != nil {
			return err
		}
	}
	wanted, err := line.Wanted()
	if err != nil {
		return err
	}
	switch {
	case l.Quantity.Sign() > 0 && to.Cmp(wanted) > 0:
		n.e.Add(finding.NoticeDiffers, l.at, "quantity", to.String(),
			"Of line %s, %s are %s now, more than the %s that were ordered.", line.Number, *to, verbs[kind], orZero(wanted))
	case l.Quantity.Sign() < 0 && line.Invoiced.Cmp(gone(line)) > 0:
		n.e.Add(finding.NoticeDiffers, l.at, "quantity", to.String(),
			"Of line %s, %s are %s now, less than the %s that are invoiced.", line.Number, orZero(*to), verbs[kind], line.Invoiced)
	}
	switch {
	case l.rest == "":
	case strings.EqualFold(l.rest, "cancel"):
		var left order.Number
		if left, err = line.Open(kind); err == nil {
			line.Cancelled, err = line.Cancelled.Add(left)
		}
	default:
		n.e.Add(finding.UnknownChoice, l.at, "rest", l.rest, "%q does not say what becomes of the rest of the line.",
			l.rest).Hint = "It may be cancel, where the rest is not wanted any more."
	}
	return err
}

// gone is what of a line has moved, on whichever way most of it.
func gone(l *order.Line) order.Number {
	if l.Received.Cmp(l.Shipped) > 0 {
		return l.Received
	}
	return l.Shipped
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

// invoice keeps what the seller wants money for, and compares it with the order.
func (n *noticed) invoice() error {
	in, said := &n.e.Order, n.statement()
	v := &order.Invoice{Partner: n.stored.Partner, Number: said.Number, On: said.On,
		Currency: cmp.Or(in.Currency, n.stored.Currency), Total: in.StatedTotal}
	if v.Number == "" {
		v.Number = n.ownNumber()
	}
	known, err := n.tx.Invoice(v.Partner, v.Number, n.stored.ID)
	if err != nil {
		return err
	}
	open, ok := n.opens()
	switch {
	case !ok:
		return nil
	case open && known != nil: // what was not billed then is what it bills
		n.same = true
		return nil
	case open:
		if err := n.unbilled(); err != nil || len(in.Lines) == 0 {
			n.same = len(in.Lines) == 0 // everything that has moved is billed
			return err
		}
	}
	if open || n.e.Target != 0 { // what is not said of the price is as ordered
		n.priced()
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
		moved := gone(line)
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

// unbilled fills in what has moved and is not billed yet: of the lines that the notice names without a quantity, or of
// all lines where it names none.
func (n *noticed) unbilled() error {
	in := &n.e.Order
	left := budget{}
	named := len(in.Lines) > 0
	for i := range n.is.Lines {
		l := &n.is.Lines[i]
		q, err := gone(l).Sub(l.Invoiced)
		if err != nil {
			return err
		}
		if left[l.ID] = q; !named && q.Sign() > 0 {
			in.Lines = append(in.Lines, order.Line{ID: l.ID, Quantity: q})
		}
	}
	for i := range in.Lines {
		l := &in.Lines[i]
		at := n.find(l)
		if at < 0 {
			continue // invoice says so
		}
		id := n.is.Lines[at].ID
		if l.Quantity.IsZero() && left[id].Sign() > 0 {
			l.Quantity = left[id]
		}
		if err := left.take(id, l.Quantity); err != nil {
			return err
		}
	}
	return nil
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
