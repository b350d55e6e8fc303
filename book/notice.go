package book

import (
	"cmp"
	"crypto/sha256"
	"fmt"
	"slices"
	"strings"

	"koinos/core/check"
	"koinos/core/finding"
	"koinos/core/intent"
	"koinos/core/order"
	"koinos/store"
)

// notice carries out what somebody says of a stored order. It gives what the
// order becomes, or nil where nothing changes or a finding says why not.
func (s *Session) notice(tx *store.Tx, e *Entry, res *store.OrderResult) (*store.Changed, error) {
	s.changes(nil, res)
	if e.Refused() || e.Orphan {
		return nil, nil
	}
	o := &e.Order
	ids := []int64{e.Target}
	if e.Target == 0 {
		var err error
		if ids, err = tx.OrderOf(o.Kind, o.Partner, o.Number, o.SenderNumber); err != nil {
			return nil, err
		}
	}
	field, number := "sender_number", o.SenderNumber
	if o.Number != "" && (o.SenderNumber == "" || o.Kind == order.Purchase) {
		field, number = "number", o.Number
	}
	res.SenderNumber = number
	switch len(ids) {
	case 0:
		e.Add(finding.OrderUnknown, 0, field, number, "No %s order of %s has the number %q.", o.Kind, o.Partner, number)
		return nil, nil
	case 1:
	default:
		e.Add(finding.OrderUnknown, 0, field, number,
			"%d %s orders of %s have the number %q; it is not clear which one is meant.", len(ids), o.Kind, o.Partner,
			number)
		return nil, nil
	}
	stored, err := tx.OrderNow(ids[0])
	if err != nil {
		return nil, err
	}
	res.OrderID, res.Number, res.Revision = stored.ID, stored.Order.Number, stored.Revision
	if e.Seen != 0 && e.Seen != stored.Revision {
		e.Add(finding.RevisionDiffers, 0, "", "", "The order %s is at revision %d now, not at %d.", stored.Order.Number,
			stored.Revision, e.Seen)
		return nil, nil
	}
	if len(o.Lines) == 0 && !e.speaksOfNoLine() {
		e.Add(finding.OrderWithoutLines, 0, "", number, "The %s names no line.", e.Kind)
		return nil, nil
	}
	n := &noticed{s: s, tx: tx, e: e, stored: stored, is: clone(&stored.Order), from: make([]int, len(stored.Lines))}
	n.c = &store.Changed{Was: &stored.Order, Is: n.is, Action: actions[e.Kind]}
	if err := carry[e.Kind](n); err != nil || e.Refused() || n.same {
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
	s.changes(n.c, res)
	return n.c, nil
}

// speaksOfNoLine reports whether a notice means something that names no line.
func (e *Entry) speaksOfNoLine() bool {
	said := e.Order.Statement
	return e.Kind == intent.Answer || e.Kind == intent.Withdrawal || e.Kind == intent.Change && e.Target != 0 ||
		(e.Kind == intent.Shipment || e.Kind == intent.Receipt || e.Kind == intent.Invoice) && said != nil && (said.Quantities != "" || said.Reverses != "")
}

// actions are what events call what a notice did, carry does it.
var (
	actions = map[intent.Kind]string{intent.Change: "changed", intent.Answer: "answered", intent.Shipment: "moved",
		intent.Receipt: "moved", intent.Invoice: "invoiced", intent.Withdrawal: "withdrawn"}
	carry = map[intent.Kind]func(*noticed) error{
		intent.Change: (*noticed).change, intent.Answer: (*noticed).answer, intent.Invoice: (*noticed).invoice,
		intent.Withdrawal: (*noticed).withdraw,
		intent.Shipment:   func(n *noticed) error { return n.move(order.Shipment) },
		intent.Receipt:    func(n *noticed) error { return n.move(order.Receipt) },
	}
)

// noticed is a notice on its way into its order.
type noticed struct {
	s       *Session
	tx      *store.Tx
	e       *Entry
	stored  *store.StoredOrder
	is      *order.Order
	from    []int // for each line of is, the line of the notice that speaks of it; 0 is none
	c       *store.Changed
	names   map[string]string // what the notice calls the fields that it changes
	besides []order.Change    // changes of what an order does not have as a field
	same    bool              // it was carried out before
}

func clone(o *order.Order) *order.Order {
	c := *o
	c.Lines, c.Custom, c.Parties, c.References, c.Charges = slices.Clone(o.Lines), slices.Clone(o.Custom),
		slices.Clone(o.Parties), slices.Clone(o.References), slices.Clone(o.Charges)
	for i := range c.Lines {
		c.Lines[i].Custom, c.Lines[i].Charges = slices.Clone(c.Lines[i].Custom), slices.Clone(c.Lines[i].Charges)
	}
	return &c
}

// lineOf finds the line that the nth line of the notice means, by its number, by
// the sender's id of it, or by the goods where one line has them. Nil is none; a
// finding says so. With others the goods may be other ones than the order's.
func (n *noticed) lineOf(i int, others bool) *order.Line {
	l := &n.e.Order.Lines[i]
	at := n.find(l)
	if at < 0 {
		n.e.Add(finding.LineUnknown, i+1, keyOf(l), named(l), "The order %s has no line %s, or not only one.",
			n.stored.Order.Number, named(l))
		return nil
	}
	if other, is := differentItem(&n.is.Lines[at], l); other != "" && !others {
		n.e.Add(finding.LineDiffers, i+1, other, is, "Line %s of the order %s is of another item: %s.",
			n.is.Lines[at].Number, n.stored.Order.Number, itemOf(&n.is.Lines[at]))
		return nil
	}
	if at < len(n.from) {
		n.from[at] = i + 1
	}
	return &n.is.Lines[at]
}

func (n *noticed) find(l *order.Line) int {
	by := func(same func(*order.Line) bool) int {
		found := -1
		for i := range n.is.Lines {
			if same(&n.is.Lines[i]) {
				if found >= 0 {
					return -1
				}
				found = i
			}
		}
		return found
	}
	switch {
	case l.ID != 0:
		return by(func(o *order.Line) bool { return o.ID == l.ID && (l.Number == "" || sameNumber(o.Number, l.Number)) })
	case l.Number != "":
		if at := by(func(o *order.Line) bool { return sameNumber(o.Number, l.Number) }); at >= 0 {
			return at
		}
	case l.SenderLine != "":
		return by(func(o *order.Line) bool { return strings.EqualFold(o.SenderLine, l.SenderLine) })
	}
	if l.Number != "" && n.e.Kind == intent.Change {
		return -1 // what is changed is never guessed
	}
	return by(func(o *order.Line) bool {
		other, _ := differentItem(o, l)
		return other == "" && sharesItem(o, l)
	})
}

// sameNumber compares numbers of lines: 001 is 1.
func sameNumber(a, b string) bool {
	return strings.EqualFold(strings.TrimLeft(a, "0"), strings.TrimLeft(b, "0"))
}

// codes are the codes of an item, with their fields.
func codes(l *order.Line) [4][2]string {
	return [4][2]string{{"item", l.Item}, {"buyer_item", l.BuyerItem}, {"supplier_item", l.SupplierItem},
		{"gtin", l.GTIN}}
}

// differentItem gives a code of l, with its field, that the stored line has another of.
func differentItem(o, l *order.Line) (field, code string) {
	have := codes(o)
	for i, c := range codes(l) {
		if c[1] != "" && have[i][1] != "" && !strings.EqualFold(c[1], have[i][1]) {
			return c[0], c[1]
		}
	}
	return "", ""
}

func sharesItem(o, l *order.Line) bool {
	have := codes(o)
	for i, c := range codes(l) {
		if c[1] != "" && strings.EqualFold(c[1], have[i][1]) {
			return true
		}
	}
	return false
}

func itemOf(l *order.Line) string {
	for _, c := range codes(l) {
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
	for _, c := range codes(l) {
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

// changeActs says what becomes of a line: the words, and the codes of X12 element 670.
var changeActs = map[string]string{
	"": "change", "CHANGE": "change", "CA": "change", "CB": "change", "CC": "change", "CE": "change", "CT": "change",
	"MU": "change", "PC": "change", "PQ": "change", "PR": "change",
	"QD": "change", "QI": "change", "RA": "change", "RQ": "change", "RS": "change", "RZ": "change",
	"ADD": "add", "AI": "add", "DELETE": "delete", "DI": "delete", "NC": "nothing",
}

// change brings a change that was asked for into the order.
func (n *noticed) change() error {
	in := &n.e.Order
	for i := range in.Lines {
		l := &in.Lines[i]
		code := ""
		if l.Statement != nil {
			code = l.Statement.Code
		}
		act, known := changeActs[strings.ToUpper(strings.TrimSpace(code))]
		switch {
		case !known:
			n.e.Add(finding.UnknownChoice, i+1, "change", code, "%q does not say what is to become of the line.",
				code).Hint = "It may be add, delete, change, or a code of X12 element 670 that says one of these."
		case act == "add":
			n.add(i)
		case act == "delete":
			n.remove(i)
		case act == "change":
			n.alter(i)
		}
	}
	if in.Currency != "" && n.stored.Currency != "" && in.Currency != n.stored.Currency {
		n.e.Add(finding.CurrencyDiffers, 0, "currency", in.Currency, "The change is in %s, but the order is in %s.",
			in.Currency, n.stored.Currency)
	}
	but := []string{"number", "sender_number", "partner", "currency", "total", "tax_amount", "stage"}
	if n.e.Target == 0 { // a document says of which day the order is that it means
		but = append(but, "ordered_on")
	}
	n.is.Say(nil, in, 0, but...)
	n.clear(0, nil)
	n.stage()
	for _, p := range in.Parties {
		n.is.SayParty(p)
	}
	return nil
}

// stage brings the order to another stage, as long as nothing has moved.
func (n *noticed) stage() {
	to := n.e.Order.Stage
	if to == "" || to == n.is.Stage || to == order.Open && n.is.Stage == "" {
		return
	}
	if n.stored.Status == order.Cancelled {
		n.e.Add(finding.UpdateConflict, 0, "stage", string(to), "The order %s is to be %s, but it is cancelled.",
			n.stored.Order.Number, to)
		return
	}
	for i := range n.stored.Lines {
		if l := &n.stored.Lines[i]; l.Shipped.Sign() != 0 || l.Received.Sign() != 0 {
			n.e.Add(finding.UpdateConflict, 0, "stage", string(to), "The order %s is to be %s, but goods of it have moved.",
				n.stored.Order.Number, to)
			return
		}
	}
	was := n.is.Stage
	if n.is.Stage = to; to == order.Open {
		n.is.Stage = ""
	}
	n.besides = append(n.besides, order.Change{Field: "stage", Was: string(cmp.Or(was, order.Open)), Is: string(to)})
}

// clear makes blank what the notice makes so in a line of it; 0 is its header.
func (n *noticed) clear(from int, l *order.Line) {
	for i := range n.e.Clears {
		if c := &n.e.Clears[i]; c.Line == from {
			n.is.Clear(&c.Field, l)
		}
	}
}

// posted are fields of lines that no change sets: goods move by notices of their own.
var posted = []string{"shipped", "received", "cancelled", "backordered"}

func (n *noticed) add(i int) {
	l := n.e.Order.Lines[i]
	l.ID, l.Statement = 0, nil
	for k := range n.is.Lines {
		was := &n.is.Lines[k]
		if l.Number == "" || !sameNumber(was.Number, l.Number) {
			continue
		}
		if other, _ := differentItem(was, &l); other == "" && was.Quantity.Cmp(l.Quantity) == 0 {
			return // it was added before
		}
		n.e.Add(finding.LineDiffers, i+1, "number", l.Number, "The order %s has a line %s already: %s.",
			n.stored.Order.Number, l.Number, itemOf(was))
		return
	}
	if l.Quantity.Sign() <= 0 {
		n.e.Add(finding.QuantityNegative, i+1, "quantity", l.Quantity.String(),
			"A line that is added needs a quantity above zero.")
		return
	}
	n.is.Lines = append(n.is.Lines, l)
	n.from = append(n.from, i+1)
}

// remove takes a line out of the order: what has not moved of it is cancelled.
func (n *noticed) remove(i int) {
	l := n.lineOf(i, false)
	if l == nil {
		return
	}
	n.close(l, i+1, "deleted")
}

// close cancels what is open of a line, and says what is not; from is the line of the
// notice that asks for it, 0 is its header.
func (n *noticed) close(l *order.Line, from int, to string) {
	moved := gone(l)
	left, err := l.Quantity.Sub(moved)
	if err != nil || left.Sign() < 0 { // more has moved than was ordered
		left = order.Number{}
	}
	if moved.Sign() > 0 {
		n.e.Add(finding.NoticeDiffers, from, "quantity", l.Quantity.String(),
			"Line %s is to be %s, but %s of it have moved; the rest is cancelled.", l.Number, to, moved)
	}
	l.Cancelled = left
}

// withdraw cancels what is open of the whole order.
func (n *noticed) withdraw() error {
	for i := range n.is.Lines {
		n.close(&n.is.Lines[i], 0, "withdrawn")
	}
	n.c.Fingerprint = make([]byte, sha256.Size) // when it comes again as it was, it is another one than this
	return nil
}

// alter gives a line another quantity, price or date.
func (n *noticed) alter(i int) {
	l := n.lineOf(i, false)
	if l == nil {
		return
	}
	in := &n.e.Order.Lines[i]
	moved := gone(l)
	switch {
	case in.Quantity.IsZero():
	case in.Quantity.Sign() <= 0:
		n.e.Add(finding.QuantityNegative, i+1, "quantity", in.Quantity.String(),
			"The quantity is to be %s; a line is taken out with a deletion.", in.Quantity)
	case in.Quantity.Cmp(moved) < 0:
		n.e.Add(finding.UpdateConflict, i+1, "quantity", in.Quantity.String(),
			"Line %s is to be %s, but %s of it have moved.", l.Number, in.Quantity, moved)
	case in.Unit != "" && l.Unit != "" && in.Unit != l.Unit:
		n.e.Add(finding.LineDiffers, i+1, "unit", in.Unit, "Line %s is ordered in %s, but the change speaks of %s.",
			l.Number, l.Unit, in.Unit)
	default:
		l.Quantity, l.Cancelled = in.Quantity, order.Number{}
	}
	for _, name := range posted {
		if f, _ := order.Lookup(order.Lines, name); f.Value(&n.e.Order, in) != "" {
			n.e.Add(finding.NoticeDiffers, i+1, name, f.Value(&n.e.Order, in),
				"A change does not set %s of a line; it stays as it is.", name)
		}
	}
	n.is.Say(l, &n.e.Order, i+1, append([]string{"number", "sender_line", "quantity", "amount"}, posted...)...)
	n.clear(i+1, l)
}

// check looks at the order as it would be: what the change touches must keep
// every rule that an order keeps when it arrives.
func (n *noticed) check() {
	c := &changed{n.e.Intent, n.from}
	check.Order(n.is, c, check.Terms{Rounding: n.s.Rounding})
	check.Lists(n.is, c, n.s.Lists)
}

// changed notes what is found about an order at the lines of the notice that
// changed it; what the notice did not touch was judged when it came.
type changed struct {
	*intent.Intent
	from []int
}

func (c *changed) Add(code finding.Code, line int, field, value, format string, args ...any) *finding.Finding {
	if line > 0 {
		if line > len(c.from) || c.from[line-1] == 0 {
			return &finding.Finding{}
		}
		line = c.from[line-1]
	}
	return c.Intent.Add(code, line, field, value, format, args...)
}

func (c *changed) Has(line int, field string) bool {
	return line > 0 && (line > len(c.from) || c.from[line-1] == 0) || line > 0 && c.Intent.Has(c.from[line-1], field) ||
		line == 0 && c.Intent.Has(0, field)
}

func (c *changed) Stated() []intent.Stated { return nil }
