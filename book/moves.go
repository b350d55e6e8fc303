package book

import (
	"errors"
	"fmt"
	"strings"

	"koinos/core/finding"
	"koinos/core/order"
)

// verbs say what happened to goods that moved. Each is also the name of the line's field that counts it.
var verbs = map[order.MovementKind]string{order.Shipment: "shipped", order.Receipt: "received",
	order.Return: "returned"}

// move posts a shipment, a receipt or a return, or takes one back.
func (n *noticed) move(kind order.MovementKind) error {
	said := n.statement()
	m := &order.Movement{Kind: kind, Partner: n.stored.Partner, Number: said.Number, On: n.on(said.On), At: said.At,
		DueOn: said.DueOn, Carrier: said.Carrier, Tracking: said.Tracking, Lading: said.Lading, Packages: said.Packages,
		Weight: said.Weight, WeightIn: said.WeightIn,
		Notes: n.in.Notes, Reverses: said.Reverses}
	n.names = map[string]string{verbs[kind]: "quantity"}
	if m.Number == "" {
		m.Number = n.ownNumber()
	}
	if n.e.Replaces {
		return n.replaced(kind, m)
	}
	if ok, err := n.asBefore(kind, m); err != nil || !ok {
		return err
	}
	known := n.movementOf(kind, m.Number)
	moving := n.said
	if said.Reverses != "" {
		moving = n.reversed
	}
	lines, err := moving(kind, known)
	if err != nil {
		return err
	}
	m.Lines = make([]order.MovementLine, 0, len(lines))
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
	n.marks()
	switch {
	case n.e.Refused():
	case len(m.Lines) == 0:
		return nil // nothing is open any more, or only what is left is said of
	case said.Reverses == "" && kind != order.Return &&
		(n.stored.Status == order.Draft || n.stored.Status == order.Cancelled):
		n.e.Add(finding.NoticeDiffers, 0, "", string(n.stored.Status), "The order %s is %s, and goods of it are %s.",
			n.stored.Order.Number, n.stored.Status, verbs[kind])
	}
	n.c.Movement = m
	return nil
}

// quantified reports whether the nth line of the notice says how much of a line it means. If it does not, it adds a
// finding.
func (n *noticed) quantified(i int, line *order.Line) bool {
	if n.in.Lines[i].Quantity.IsZero() && !n.e.Has(i+1, "quantity") {
		if open, _ := n.opens(); !open {
			n.e.Add(finding.MustMissing, i+1, "quantity", "", "How much of line %s is meant is not said.", line.Number)
			return false
		}
	}
	return true
}

// movementOf returns the part of a numbered movement that is for the order, or nil.
func (n *noticed) movementOf(kind order.MovementKind, number string) *order.Movement {
	for i := range n.stored.Movements {
		if m := &n.stored.Movements[i]; m.Kind == kind && m.Number == number && m.Partner == n.stored.Partner {
			return m
		}
	}
	return nil
}

// statement returns what a notice says in addition to the fields of an order.
func (n *noticed) statement() *order.Statement {
	if said := n.in.Statement; said != nil {
		return said
	}
	return &order.Statement{}
}

// ownNumber makes the number of a movement or invoice that was posted without one.
func (n *noticed) ownNumber() string {
	return fmt.Sprintf("%s/%d", n.stored.Order.Number, n.stored.Revision+1)
}

// asBefore reports whether a movement is of the same sort as the stored one of its number, which may have moved goods
// of other orders. If it is not, it adds a finding.
func (n *noticed) asBefore(kind order.MovementKind, m *order.Movement) (ok bool, err error) {
	was, there, err := n.known(kind, m.Partner, m.Number)
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

// moving is a quantity of a line that is to move, with the line of the notice that asks for it; 0 is its header.
type moving struct {
	order.MovementLine
	at   int
	rest string // what becomes of the rest
}

// budget is how much of each line, by its id, can still be used.
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

// opens reports whether a notice asks for everything that is open. ok is false if its word is unknown.
func (n *noticed) opens() (open, ok bool) {
	word := strings.TrimSpace(n.statement().Quantities)
	if word == "" || strings.EqualFold(word, "open") {
		return word != "", true
	}
	n.e.Add(finding.UnknownChoice, 0, "quantities", word, "%q says of no quantities.", word).Hint =
		"It may be open: all that is open."
	return false, false
}

// said lists what a notice says has moved: quantities, or everything that is open. For a movement that is stored
// already, what was open is what that movement moved.
func (n *noticed) said(kind order.MovementKind, known *order.Movement) (all []moving, err error) {
	open, ok := n.opens()
	if !ok {
		return nil, nil
	}
	left := make(budget, len(n.is.Lines))
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
	in := n.in
	all = make([]moving, 0, max(len(in.Lines), 1))
	if open && len(in.Lines) == 0 {
		for i := range n.is.Lines {
			if q := left[n.is.Lines[i].ID]; q.Sign() > 0 {
				all = append(all, moving{order.MovementLine{Line: n.is.Lines[i].ID, Quantity: q}, 0, ""})
			}
		}
		return all, nil
	}
	for i := range in.Lines {
		if q := in.Lines[i].Quantity; q.Sign() < 0 {
			n.e.Add(finding.QuantityNegative, i+1, "quantity", q.String(), "The quantity is %s.", q).Hint = fmt.Sprintf(
				"To correct a %s, post a counter-entry: reverses names it, and quantities are above zero. Goods that go back are a return.",
				n.e.Kind)
			continue
		}
		line := n.lineOf(i, false)
		if line == nil {
			continue
		}
		detail, ok := n.inUnit(i, line)
		if !ok {
			continue
		}
		q := in.Lines[i].Quantity
		if said := in.Lines[i].Statement; !open && (said == nil || said.Rest == "") && !n.quantified(i, line) {
			continue
		}
		if open && q.IsZero() && left[line.ID].Sign() > 0 {
			q = left[line.ID]
		}
		l := moving{order.MovementLine{Line: line.ID, Quantity: q, LineDetail: detail}, i + 1, ""}
		if said := in.Lines[i].Statement; said != nil {
			l.Lot, l.Package, l.PackageIn, l.rest = said.Lot, said.Package, said.PackageIn, strings.TrimSpace(said.Rest)
		}
		all = append(all, l)
		err = errors.Join(err, left.take(line.ID, q))
	}
	return all, err
}

// reversed lists what a notice takes back of an earlier movement, as negative quantities.
func (n *noticed) reversed(kind order.MovementKind, known *order.Movement) (all []moving, err error) {
	in, number := n.in, n.statement().Reverses
	if known != nil && len(in.Lines) == 0 { // whatever was left then
		for _, l := range known.Lines {
			all = append(all, moving{l, 0, ""})
		}
		return all, nil
	}
	was := n.movementOf(kind, number)
	switch {
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
		if _, ok := n.inUnit(i, line); !ok {
			continue
		}
		q := in.Lines[i].Quantity
		if q.Sign() <= 0 || q.Cmp(left[line.ID]) > 0 {
			n.e.Add(finding.UpdateConflict, i+1, "quantity", q.String(),
				"Of line %s, %s can be taken back of the %s %s, not %s.",
				line.Number, orZero(left[line.ID]), kind, number, orZero(q))
			continue
		}
		err = errors.Join(err, back(line.ID, q, i+1))
	}
	return all, err
}

// moved counts what has moved of a line, and reports where that is more than was ordered or less than was billed.
func (n *noticed) moved(kind order.MovementKind, l *moving) (err error) {
	line := &n.is.Lines[n.is.Position(l.Line)-1]
	to := line.Moved(kind)
	if l.Quantity.Sign() != 0 {
		if *to, err = to.Add(l.Quantity); err != nil {
			return err
		}
	}
	if l.Told.Sign() != 0 {
		n.beside(line, "stated_quantity", "", l.Told.Plain()+" "+l.ToldUnit)
	}
	if kind == order.Return && l.Quantity.Sign() != 0 {
		n.beside(line, "returned", n.stored.Lines[n.stored.Position(line.ID)-1].Returned.Plain(), to.Plain())
	}
	limit, err := line.Limit(kind)
	if err != nil {
		return err
	}
	most, err := n.tolerated(kind, limit)
	if err != nil {
		return err
	}
	switch {
	case l.Quantity.Sign() > 0 && to.Cmp(most) > 0 && kind == order.Return:
		n.e.Add(finding.OverReturned, l.at, "quantity", to.String(),
			"Of line %s, %s are returned now, more than the %s that have moved.", line.Number, *to, orZero(limit))
	case l.Quantity.Sign() > 0 && to.Cmp(most) > 0:
		n.e.Add(finding.OverDelivery, l.at, "quantity", to.String(),
			"Of line %s, %s are %s now, more than the %s that were ordered%s.", line.Number, *to, verbs[kind], orZero(limit),
			n.tolerance())
	case l.Quantity.Sign() < 0 && kind != order.Return && line.Returned.Cmp(line.Gone()) > 0:
		n.e.Add(finding.OverReturned, l.at, "quantity", to.String(),
			"Of line %s, %s are %s now, less than the %s that are returned.", line.Number, orZero(*to), verbs[kind],
			line.Returned)
	case l.Quantity.Sign() < 0 && kind != order.Return && line.Invoiced.Cmp(line.Gone()) > 0:
		n.e.Add(finding.OverInvoiced, l.at, "quantity", to.String(),
			"Of line %s, %s are %s now, less than the %s that are invoiced.", line.Number, orZero(*to), verbs[kind],
			line.Invoiced)
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

// tolerated is the largest quantity that may have moved of a line. The rules can allow a share more than is wanted.
func (n *noticed) tolerated(kind order.MovementKind, limit order.Number) (order.Number, error) {
	if kind == order.Return || n.s.Over.Sign() == 0 {
		return limit, nil
	}
	share, err := limit.Mul(n.s.Over)
	if err == nil {
		share, err = share.Quo(order.NumberOf(100))
	}
	if err != nil {
		return limit, err
	}
	return limit.Add(share)
}

// tolerance is the share by which the rules let more move than was ordered; "" if there is none.
func (n *noticed) tolerance() string {
	if n.s.Over.Sign() == 0 {
		return ""
	}
	return " with the " + n.s.Over.Plain() + " % that the mapping allows"
}

// marks checks the marks of packages: a serial shipping container code has a check digit. Each package is reported
// once, however many lines are in it.
func (n *noticed) marks() {
	seen := map[string]bool{"": true}
	for i := range n.in.Lines {
		said := n.in.Lines[i].Statement
		if said == nil {
			continue
		}
		for _, mark := range [][2]string{{"package", said.Package}, {"package_in", said.PackageIn}} {
			code := mark[1]
			if seen[code] {
				continue
			}
			seen[code] = true
			if len(code) == 20 { // with the application identifier of GS1 before it
				code = strings.TrimPrefix(code, "00")
			}
			if len(code) == 18 && order.IsDigits(code) && !order.CheckDigit(code) {
				n.e.Add(finding.CheckDigitWrong, i+1, mark[0], mark[1], "The check digit of the SSCC %s is wrong.", mark[1])
			}
		}
	}
}

// again finds out whether a stored movement of the same number says the same.
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

// sameMoved reports whether two movements move the same quantity of each line, in whatever order and pieces they state
// it.
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

func orZero(n order.Number) order.Number {
	if n.IsZero() {
		return order.NumberOf(0)
	}
	return n
}
