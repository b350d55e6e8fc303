package book

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"koinos/core/finding"
	"koinos/core/intent"
	"koinos/core/order"
	"koinos/store"
)

// notice carries out what somebody says about a stored order. It returns what the order becomes, or nil if nothing
// changes or a finding says why it cannot change.
func (s *Session) notice(spoken *spokenOf, e *Entry, res *store.OrderResult) (*store.Changed, error) {
	s.changes(nil, res)
	if e.Refused() || e.Orphan {
		return nil, nil
	}
	ids := spoken.ids[e]
	_, res.SenderNumber, _ = e.called()
	switch {
	case len(ids) == 1:
	case e.takesBackWhole():
		return nil, e.takenBackOf(spoken.tx, ids)
	case len(ids) == 0:
		return nil, e.unknown(spoken.tx)
	default:
		return nil, e.ambiguous(spoken.tx, ids)
	}
	changed, at, ok, err := spoken.foreseen(e, ids[0])
	if !ok && err == nil {
		var stored *store.StoredOrder
		if stored, err = spoken.order(ids[0]); err == nil {
			at = headOf(stored)
			changed, err = s.decide(&noticed{s: s, spoken: spoken, e: e, stored: stored, known: spoken.changes.Reverses,
				asOf: func(revision int) (*order.Order, error) { return spoken.tx.AsOf(ids[0], revision) }})
		}
	}
	if err != nil {
		return nil, err
	}
	res.OrderID, res.Number, res.Revision = at.ID, at.Number, at.Revision
	if changed != nil {
		s.changes(changed, res)
	}
	return changed, nil
}

// ambiguous says that several orders are called so.
func (e *Entry) ambiguous(tx *store.Tx, ids []int64) error {
	field, number, words := e.called()
	f := e.Add(finding.OrderUnknown, 0, field, number, "More than one %s has %s; it is not clear which one is meant.",
		e.orderOf(), words)
	if e.Order.Partner != "" {
		return nil
	}
	orders, err := tx.OrdersNow(ids[:min(len(ids), 2)], linesTogether)
	var of []string
	for _, o := range orders {
		of = append(of, o.Partner)
	}
	if slices.Sort(of); len(of) == 2 {
		f.Hint = fmt.Sprintf("%s and %s have one. Bind partner to what says whose it is.", of[0], of[1])
	}
	return err
}

// orderOf is what kind of order a notice is about, and whose.
func (e *Entry) orderOf() string {
	o := &e.Order
	if o.Partner == "" {
		return string(o.Kind) + " order"
	}
	return fmt.Sprintf("%s order of %s", o.Kind, o.Partner)
}

// unknown says that no order is called so, and which order it is the number of if it was looked for in the wrong place.
func (e *Entry) unknown(tx *store.Tx) error {
	o := &e.Order
	field, number, words := e.called()
	f := e.Add(finding.OrderUnknown, 0, field, number, "No %s has %s.", e.orderOf(), words)
	if o.Number+o.SenderNumber == "" {
		return nil
	}
	meant, err := tx.Namesake(o.Partner, number)
	if err != nil || meant == nil {
		return err
	}
	whose, bound := "is the sender's number of the", "sender_number"
	if strings.EqualFold(meant.Number, number) {
		whose, bound = "is our number of the", "number"
	}
	f.Hint = fmt.Sprintf("It %s %s order %s. If that is meant, bind it to %s", whose, meant.Kind, meant.Number, bound)
	if meant.Kind != o.Kind {
		f.Hint += fmt.Sprintf(", and say of: %s", meant.Kind)
	}
	f.Hint += "."
	return nil
}

// called returns the field by which a notice names its order, what it has there, and the same in words.
func (e *Entry) called() (field, value, words string) {
	o := &e.Order
	field, value = "sender_number", o.SenderNumber
	switch {
	case o.Number != "" && (o.SenderNumber == "" || o.Kind == order.Purchase):
		field, value = "number", o.Number
	case o.SenderNumber == "" && len(o.References) > 0:
		var all []string
		for _, r := range o.References {
			all = append(all, fmt.Sprintf("the reference %s %q", r.Qualifier, r.Value))
		}
		return "reference." + o.References[0].Qualifier, o.References[0].Value, strings.Join(all, " and ")
	}
	return field, value, fmt.Sprintf("the number %q", value)
}

// decide finds out what an order becomes because of a notice; nil means that the order stays as it is.
func (s *Session) decide(n *noticed) (*store.Changed, error) {
	e, stored, o := n.e, n.stored, &n.e.Order
	if e.Seen != 0 && e.Seen != stored.Revision {
		e.Add(finding.RevisionDiffers, 0, "", "", "The order %s is at revision %d now, not at %d.", stored.Order.Number,
			stored.Revision, e.Seen)
		return nil, nil
	}
	if o.Currency != "" && stored.Currency != "" && !strings.EqualFold(o.Currency, stored.Currency) {
		e.Add(finding.CurrencyDiffers, 0, "currency", o.Currency, "The %s is in %s, but the order is in %s.", e.Kind,
			o.Currency, stored.Currency)
		return nil, nil
	}
	if len(o.Lines) == 0 && !e.speaksOfNoLine() {
		_, number, _ := e.called()
		says := "names no line"
		if e.Kind == intent.Change {
			says = "names no line, and nothing else that is to be changed"
		}
		e.Add(finding.OrderWithoutLines, 0, "", number, "The %s %s.", e.Kind, says)
		return nil, nil
	}
	n.in, n.is, n.from = o.Clone(), stored.Order.Clone(), make([]int, len(stored.Lines))
	n.c = &store.Changed{Was: &stored.Order, Is: n.is, Action: actions[e.Kind]}
	if err := carry[e.Kind](n); err != nil || e.Refused() || n.same {
		if err == nil && e.Kind == intent.Change && (s.Asks || s.Elsewhere) { // a person can take the others
			n.plainBasis()
			n.is.NameLines()
			n.c.Changes = order.Diff(n.c.Was, n.is)
			e.locate(n.c, n.from, n.names)
			s.asks(e, n.c, n.from)
		}
		return nil, err
	}
	if said := n.in.Statement; n.is.OnHold != "" && (n.c.Movement != nil || n.c.Invoice != nil) && (said == nil ||
		said.Reverses == "") {
		e.Add(finding.OnHold, 0, "", stored.Order.Number, "The order %s is on hold: %s.", stored.Order.Number,
			strings.TrimSuffix(n.is.OnHold, "."))
	}
	n.plainBasis()
	if err := order.KeepPrices(&stored.Order, n.is, n.repriced); err != nil {
		return nil, err
	}
	if _, err := n.is.Compute(s.Rounding); err != nil {
		e.Add(finding.AmountTooLarge, 0, "total", "",
			"With this the order's figures have more digits than can be computed with.")
		return nil, nil
	}
	if e.Kind == intent.Change {
		n.check()
	}
	if e.Kind == intent.Change || e.Kind == intent.Withdrawal {
		n.inTurn()
	}
	n.is.NameLines()
	n.c.Changes = append(order.Diff(n.c.Was, n.is), n.besides...)
	if e.Refused() || len(n.c.Changes) == 0 && n.c.Movement == nil && n.c.Answer == nil && n.c.Invoice == nil &&
		n.is.Stage == stored.Stage {
		return nil, nil
	}
	if said := o.Statement; said != nil && said.Reason != "" {
		n.c.Changes = append(n.c.Changes, order.Change{Field: order.Reason, Is: said.Reason})
	}
	e.locate(n.c, n.from, n.names)
	s.asks(e, n.c, n.from)
	if n.is.LastChange != stored.LastChange {
		at := e.Intent.Trace.Find(0, "change_number")
		n.c.Changes = slices.Insert(n.c.Changes, 0, order.Change{Field: "change_number", Was: stored.LastChange,
			Is: n.is.LastChange, Place: at, At: at.String()})
	}
	return n.c, nil
}

// takesBackWhole reports whether a notice takes a movement back by its number alone, without naming an order.
func (e *Entry) takesBackWhole() bool {
	said := e.Order.Statement
	return e.Order.Number == "" && e.Order.SenderNumber == "" && said != nil && said.Reverses != "" &&
		verbs[order.MovementKind(e.Kind)] != ""
}

// takenBackOf says why it is not clear which order such a notice is about: there is no such movement, or it is of
// several orders.
func (e *Entry) takenBackOf(tx *store.Tx, ids []int64) error {
	number := e.Order.Statement.Reverses
	if len(ids) == 0 {
		of := ""
		if e.Order.Partner != "" {
			of = " of " + e.Order.Partner
		}
		e.Add(finding.MovementUnknown, 0, "reverses", number, "No %s %s%s is known.", e.Kind, number, of)
		return nil
	}
	orders, err := tx.OrdersNow(ids, linesTogether)
	if err != nil {
		return err
	}
	var names []string
	for _, o := range orders {
		names = append(names, o.Order.Number)
	}
	slices.Sort(names)
	e.Add(finding.OrderUnknown, 0, "reverses", number, "The %s %s is of several orders (%s), and the notice names none.",
		e.Kind, number, strings.Join(names, ", ")).Hint = "Take it back in each of these orders."
	return nil
}

// plainBasis removes a price basis of 1 if none was stated before, because both mean the same.
func (n *noticed) plainBasis() {
	for i := range n.is.Lines {
		l := &n.is.Lines[i]
		if l.PriceBasis.IsZero() || l.PriceBasis.Cmp(order.NumberOf(1)) != 0 {
			continue
		}
		if at := n.stored.Position(l.ID); at == 0 || n.stored.Lines[at-1].PriceBasis.IsZero() {
			l.PriceBasis = order.Number{}
		}
	}
}

// on is the day of a notice. If a person or program gives none for one order, it is today.
func (n *noticed) on(said order.Date) order.Date {
	if said != "" || n.e.Target == 0 {
		return said
	}
	return order.Date(n.s.Now().UTC().Format(time.DateOnly))
}

// asks reports each change that the other side requests without making it: all of them where a person decides about
// changes, and otherwise those of a set that stand beside what is wrong in it. from says which line of the notice each
// line of the order comes from; what is asked as a whole has none.
func (s *Session) asks(e *Entry, c *store.Changed, from []int) {
	if c == nil || !s.Asks && !(s.Elsewhere && e.Refused()) ||
		e.Kind != intent.Change && e.Kind != intent.Withdrawal && e.Kind != intent.Order {
		return
	}
	for i := range c.Changes {
		ch := &c.Changes[i]
		line := 0
		if at := c.Is.Position(ch.LineID); e.Kind == intent.Change && ch.Line > 0 && at > 0 && at <= len(from) {
			line = from[at-1]
		}
		f := e.Find(finding.ChangeAsked, ch.Place, ch.Is, line, "Asked for: %s.", ch.String())
		f.Field = ch.Field
		if i == mostAsked && len(c.Changes) > mostAsked+1 {
			f.Message = fmt.Sprintf("Asked for: %d further changes.", len(c.Changes)-mostAsked)
			f.Field, f.Line = "", 0
			return
		}
	}
}

// mostAsked is how many requested changes are reported one by one.
const mostAsked = 400

// changesHeader reports whether the header says anything besides which order it is about.
func (e *Entry) changesHeader() (changes bool) {
	e.Order.EachChange(func(string, string) { changes = true })
	return changes
}

// speaksOfNoLine reports whether a notice contains an instruction that names no line.
func (e *Entry) speaksOfNoLine() bool {
	said := e.Order.Statement
	return e.Kind == intent.Answer || e.Kind == intent.Withdrawal || e.Kind == intent.Change && (e.Target != 0 ||
		e.changesHeader() || said != nil && said.Code != "") ||
		slices.Contains([]intent.Kind{intent.Shipment, intent.Receipt, intent.Return, intent.Invoice}, e.Kind) &&
			said != nil && (said.Quantities != "" || said.Reverses != "")
}

// actions are the names that events use for what a notice did; carry does it.
var (
	actions = map[intent.Kind]string{intent.Change: "changed", intent.Answer: "answered", intent.Shipment: "moved",
		intent.Receipt: "moved", intent.Return: "returned", intent.Invoice: "invoiced", intent.Withdrawal: "withdrawn"}
	carry = map[intent.Kind]func(*noticed) error{
		intent.Change: (*noticed).change, intent.Answer: (*noticed).answer, intent.Invoice: (*noticed).invoice,
		intent.Withdrawal: (*noticed).withdraw,
		intent.Shipment:   func(n *noticed) error { return n.move(order.Shipment) },
		intent.Receipt:    func(n *noticed) error { return n.move(order.Receipt) },
		intent.Return:     func(n *noticed) error { return n.move(order.Return) },
	}
)

// noticed is a notice that is being applied to its order.
type noticed struct {
	s       *Session
	spoken  *spokenOf // nil where it is worked out beforehand
	known   func(order.MovementKind, string, string) (reverses string, there bool, err error)
	e       *Entry
	in      *order.Order // what it says; it may be filled in, which the entry's own order is not
	stored  *store.StoredOrder
	is      *order.Order
	finder  *order.Finder // of the lines of is
	from    []int         // for each line of is, the line of the notice that speaks of it; 0 is none
	c       *store.Changed
	names   map[string]string // what the notice calls the fields that it changes
	besides []order.Change    // changes of what an order does not have as a field
	same    bool              // it was carried out before
	asOf    func(revision int) (*order.Order, error)
	clears  map[int][]order.Field // fields that it makes blank, by its lines; 0 is its header
	shown   map[int]order.Line    // the lines of the notice as they came, where it names the revision that it was made from
	exactly bool                  // what differs in letter case only is a change, too, and a party changes by its parts
}

// lineOf finds the line that the nth line of the notice means: by its number, by the sender's id, or by its item if
// only one line has that item. If it finds none, it adds a finding and returns nil. With others, the item may differ
// from the order's.
func (n *noticed) lineOf(i int, others bool) *order.Line {
	l := &n.in.Lines[i]
	at := n.find(l)
	if at < 0 {
		n.e.Add(finding.LineUnknown, i+1, keyOf(l), named(l), "The order %s has no line %s, or not only one.",
			n.stored.Order.Number, named(l))
		return nil
	}
	if other, is := n.is.Lines[at].DifferentItem(l); other != "" && !others {
		f := n.e.Add(finding.LineDiffers, i+1, other, is, "Line %s of the order %s is of another item: %s.",
			n.is.Lines[at].Number, n.stored.Order.Number, itemOf(&n.is.Lines[at]))
		if n.e.Kind == intent.Change {
			f.Hint = "Check whether number and item belong together. A line that is to be of another item has the change \"replace\" " +
				"(X12: RE or RZ). Nothing was changed."
		}
		return nil
	}
	if at < len(n.from) {
		n.from[at] = i + 1
	}
	return &n.is.Lines[at]
}

// beside notes a change of a line that is not one of its fields.
func (n *noticed) beside(line *order.Line, field, was, is string) {
	if was != is {
		n.besides = append(n.besides, order.Change{Line: n.is.Position(line.ID), LineID: line.ID, Field: field, Was: was,
			Is: is})
	}
}

// inUnit converts the quantity of a line of the notice, and the price stated for it, into the unit of the order's line.
// It uses the item's pack sizes and converts exactly or not at all. The detail keeps the quantity as it was stated. If
// the pack size is unknown, it adds a finding and returns false.
func (n *noticed) inUnit(i int, line *order.Line) (d order.LineDetail, ok bool) {
	l := &n.in.Lines[i]
	if l.Unit == "" || line.Unit == "" || l.Unit == line.Unit {
		return d, true
	}
	item := cmp.Or(line.Item, l.Item)
	q, ok := n.s.Lists.InUnit(item, orZero(l.Quantity), l.Unit, line.Unit)
	one, exact := n.s.Lists.InUnit(item, order.NumberOf(1), l.Unit, line.Unit)
	if !ok || !l.UnitPrice.IsZero() && !exact {
		n.e.Add(finding.LineDiffers, i+1, "unit", l.Unit,
			"Line %s is ordered in %s; how many of these %s %s are is not known.",
			line.Number, line.Unit, orZero(l.Quantity), l.Unit).Hint = fmt.Sprintf("A column \"per %s\" of the list items says "+
			"how many of an item's own unit one %s holds. Nothing was changed.", l.Unit, l.Unit)
		return d, false
	}
	if !l.UnitPrice.IsZero() { // a price for one of theirs is one for so many of ours
		basis, err := one.Mul(cmp.Or(l.PriceBasis, order.NumberOf(1)))
		if err != nil {
			return d, false
		}
		l.PriceBasis = basis
	}
	if !l.Quantity.IsZero() {
		d.Told, d.ToldUnit, l.Quantity = l.Quantity, l.Unit, q
	}
	l.Unit = line.Unit
	return d, true
}

// finderOf returns the finder of the order's lines, which follow the notice.
func (n *noticed) finderOf() *order.Finder {
	if n.finder == nil {
		n.finder = order.NewFinder(n.is)
	}
	return n.finder
}

// find returns the position, counted from 0, of the only line that a line of the notice can mean; -1 if there is none,
// or several.
func (n *noticed) find(l *order.Line) int {
	lines := n.finderOf()
	only := func(all []int) int {
		if len(all) == 1 {
			return all[0]
		}
		return -1
	}
	switch {
	case l.ID != 0:
		at := n.is.Position(l.ID) - 1
		if at >= 0 && l.Number != "" && !order.SameNumber(n.is.Lines[at].Number, l.Number) {
			return -1
		}
		return at
	case l.Number != "":
		if at := only(lines.Numbered(l.Number)); at >= 0 {
			return at
		}
	case l.SenderLine != "":
		return only(lines.OfSender(l.SenderLine))
	}
	if l.Number != "" && n.e.Kind == intent.Change {
		return -1 // what is changed is never guessed
	}
	return only(lines.OfItem(l))
}

func itemOf(l *order.Line) string {
	for _, c := range l.Codes() {
		if c[1] != "" {
			return c[1]
		}
	}
	return l.Description
}

func keyOf(l *order.Line) string {
	switch {
	case l.Number != "":
		return "number"
	case l.SenderLine != "":
		return "sender_line"
	}
	for _, c := range l.Codes() {
		if c[1] != "" {
			return c[0]
		}
	}
	return "number"
}

func named(l *order.Line) string {
	for _, s := range []string{l.Number, l.SenderLine} {
		if s != "" {
			if item := itemOf(l); item != "" {
				return fmt.Sprintf("%s (%s)", s, item)
			}
			return s
		}
	}
	return itemOf(l)
}
