package book

import (
	"cmp"
	"crypto/sha256"
	"slices"
	"strconv"
	"strings"

	"koinos/core/check"
	"koinos/core/finding"
	"koinos/core/intent"
	"koinos/core/order"
)

// changeActs maps what a change does with a line: our words, and the codes of X12 element 670.
var changeActs = map[string]string{
	"": "change", "CHANGE": "change", "CA": "change", "CB": "change", "CC": "change", "CE": "change", "CT": "change",
	"MU": "change", "PC": "change", "PQ": "change", "PR": "change",
	"QD": "change", "QI": "change", "RA": "change", "RQ": "change", "RS": "change",
	"REPLACE": "replace", "RE": "replace", "RZ": "replace",
	"ADD": "add", "AI": "add", "DELETE": "delete", "DI": "delete", "NC": "nothing",
}

// change applies a requested change to the order.
func (n *noticed) change() error {
	in := n.in
	n.exactly = n.e.Target != 0
	if err := n.since(); err != nil || n.e.Refused() {
		return err
	}
	if gone, err := n.cancels(); gone || err != nil {
		return err
	}
	for i := range in.Lines {
		if !n.s.takes(i + 1) {
			continue
		}
		l := &in.Lines[i]
		plain := actOf(l)
		act, known := changeActs[plain]
		switch {
		case !known:
			n.e.Add(finding.UnknownChoice, i+1, "change", l.Statement.Code, "%q does not say what is to become of the line.",
				l.Statement.Code).Hint = "It may be add, delete, change, replace, or a code of X12 element 670 that says one of these."
		case act == "add":
			n.add(i)
		case act == "delete":
			n.remove(i)
		default:
			n.alter(i, plain, act == "replace")
		}
	}
	if !n.s.takes(0) {
		return nil
	}
	but := []string{"number", "sender_number", "partner", "currency", "total", "tax_amount", "stage"}
	if n.e.Target == 0 && n.shown == nil { // a document says of which day the order is that it means
		but = append(but, "ordered_on")
	}
	n.is.Say(nil, in, 0, n.exactly, but...)
	n.clear(0, nil)
	n.stage()
	for _, p := range in.Parties {
		if n.exactly {
			n.is.SayParts(p)
		} else {
			n.is.SayParty(p)
		}
	}
	return nil
}

// cancels carries out what the change says about the order as a whole, and reports whether nothing is left to be done.
func (n *noticed) cancels() (done bool, err error) {
	said := n.in.Statement
	if said == nil || !n.s.takes(0) {
		return false, nil
	}
	switch changeActs[strings.ToUpper(strings.TrimSpace(said.Code))] {
	case "change", "nothing":
		return false, nil
	case "delete":
		if len(n.in.Lines) > 0 {
			n.e.Add(finding.UnknownChoice, 0, "change", said.Code,
				"The whole order is to be cancelled, and lines are named besides: it is not clear what is meant.").Hint =
				"To cancel only these lines, give them the change \"delete\"."
			return true, nil
		}
		n.c.Action = actions[intent.Withdrawal]
		return true, n.withdraw()
	}
	n.e.Add(finding.UnknownChoice, 0, "change", said.Code, "%q does not say what is to become of the order.",
		said.Code).Hint = "It may be delete, which cancels all that is open of it, or change."
	return true, nil
}

// takes reports whether what a line of a change asks for is taken; line 0 is its header.
func (r *Rules) takes(line int) bool { return r.Taken == nil || slices.Contains(r.Taken, line) }

// inTurn notes the number of a change that does something, and reports one that comes after a later one of the order.
func (n *noticed) inTurn() {
	said := n.e.Order.Statement
	if said == nil || said.Number == "" || len(order.Diff(n.c.Was, n.is)) == 0 {
		return
	}
	last := n.is.LastChange
	was, wasErr := strconv.Atoi(last)
	is, isErr := strconv.Atoi(said.Number)
	counted := wasErr == nil && isErr == nil
	switch {
	case counted && is < was:
		n.e.Add(finding.ChangeOutOfTurn, 0, "change_number", said.Number,
			"Change %s of the order %s comes after change %s, which was taken.", said.Number, n.stored.Order.Number, last)
		return
	case said.Number == last || counted && is == was:
		n.e.Add(finding.ChangeOutOfTurn, 0, "change_number", said.Number,
			"Change %s of the order %s was taken before, with other changes.", said.Number, n.stored.Order.Number)
	case counted && is > was+1 && n.e.Intent.Trace.Find(0, "change_number").Segment != "": // X12 counts the changes of each order
		n.e.Add(finding.ChangeSkipped, 0, "change_number", said.Number,
			"Change %s of the order %s follows change %s: what is between was not taken.", said.Number, n.stored.Order.Number, last)
	}
	n.is.LastChange = said.Number
}

// actOf is what a line of a change says is to become of the order's line.
func actOf(l *order.Line) string {
	if l.Statement == nil {
		return ""
	}
	return strings.ToUpper(strings.TrimSpace(l.Statement.Code))
}

// stage brings the order to another stage, as long as nothing has moved.
func (n *noticed) stage() {
	to := n.in.Stage
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

// clear makes the fields blank that the notice clears in one of its lines. Line 0 is its header.
func (n *noticed) clear(from int, l *order.Line) {
	for i := range n.clears[from] {
		n.is.Clear(&n.clears[from][i], l)
	}
}

// repriced reports whether the notice says that a line's new price counts for the whole line, including what has moved.
func (n *noticed) repriced(l *order.Line) bool {
	at := n.is.Position(l.ID) - 1
	if n.e.Kind != intent.Change || at < 0 || at >= len(n.from) || n.from[at] == 0 {
		return false
	}
	said := n.in.Lines[n.from[at]-1].Statement
	return said != nil && strings.EqualFold(strings.TrimSpace(said.PriceFor), "all")
}

// posted are fields of lines that no change can set: goods move by notices of their own.
var posted = []string{"shipped", "received", "cancelled", "backordered"}

func (n *noticed) add(i int) {
	l := n.in.Lines[i]
	l.ID, l.Statement = 0, nil
	var twice []int
	if l.Number != "" {
		twice = n.finderOf().Numbered(l.Number)
	}
	if len(twice) > 0 {
		was := &n.is.Lines[twice[0]]
		if other, _ := was.DifferentItem(&l); other == "" && was.Quantity.Cmp(l.Quantity) == 0 {
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

// remove takes a line out of the order: it cancels what has not moved.
func (n *noticed) remove(i int) {
	l := n.lineOf(i, false)
	if l == nil {
		return
	}
	n.close(l, i+1, "deleted")
}

// close cancels what is open of a line, and records this. from is the line of the notice that asks for it; 0 is its
// header.
func (n *noticed) close(l *order.Line, from int, to string) {
	moved := l.Gone()
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

// alter gives a line another quantity, price or date. It changes the item only if the notice says so (replaced),
// names the line by its id, or comes from a person or program that changes this very order. Otherwise the sender may
// mean another line.
func (n *noticed) alter(i int, code string, replaced bool) {
	in := &n.in.Lines[i]
	l := n.lineOf(i, replaced || in.ID != 0 || n.e.Target != 0)
	if l == nil {
		return
	}
	codes, sender := l.Codes(), l.SenderLine
	if order.GTIN14(in.GTIN) == order.GTIN14(l.GTIN) {
		in.GTIN = l.GTIN // the same with other zeros before it is no change
	}
	if other, is := l.DifferentItem(in); other != "" {
		if gone := l.Gone(); gone.Sign() > 0 || l.Invoiced.Sign() > 0 {
			n.e.Add(finding.UpdateConflict, i+1, other, is,
				"Line %s is to be of the item %s, but %s of it have moved and %s were invoiced.",
				l.Number, is, orZero(gone), orZero(l.Invoiced)).Hint = "Add a line of that item, and delete this one: what is open of it is cancelled."
			return
		}
		n.otherGoods(i, l)
	}
	if _, ok := n.inUnit(i, l); !ok {
		return
	}
	moved := l.Gone()
	switch {
	case n.contradicts(i, l, code):
		return
	case in.Quantity.IsZero():
	case in.Quantity.Sign() <= 0:
		n.e.Add(finding.QuantityNegative, i+1, "quantity", in.Quantity.String(),
			"The quantity is to be %s; a line is taken out with a deletion.", in.Quantity)
	case in.Quantity.Cmp(moved) < 0:
		n.e.Add(finding.UpdateConflict, i+1, "quantity", in.Quantity.String(),
			"Line %s is to be %s, but %s of it have moved.", l.Number, in.Quantity, moved)
	default:
		l.Quantity, l.Cancelled = in.Quantity, order.Number{}
	}
	for _, name := range posted {
		if f, _ := order.Lookup(order.Lines, name); f.Value(n.in, in) != "" {
			n.e.Add(finding.NoticeDiffers, i+1, name, f.Value(n.in, in),
				"A change does not set %s of a line; it stays as it is.", name)
		}
	}
	n.is.Say(l, n.in, i+1, n.exactly, append([]string{"number", "sender_line", "quantity", "amount"}, posted...)...)
	n.clear(i+1, l)
	if l.Codes() != codes || l.SenderLine != sender {
		n.finderOf().Changed(n.positionOf(l))
	}
}

// otherGoods makes blank what a line says of the goods that it was of. What an exported table shows of them, and nobody
// has changed in it, stays.
func (n *noticed) otherGoods(i int, l *order.Line) {
	seen := n.shown[i+1]
	for field, shown := range map[*string]string{&l.Item: seen.Item, &l.BuyerItem: seen.BuyerItem, &l.SupplierItem: seen.SupplierItem,
		&l.GTIN: seen.GTIN, &l.Description: seen.Description} {
		if shown == "" {
			*field = ""
		}
	}
}

// positionOf is the position of a line of the order, counted from 0; one that was just added has no id yet.
func (n *noticed) positionOf(l *order.Line) int {
	if l.ID != 0 {
		return n.is.Position(l.ID) - 1
	}
	at := len(n.is.Lines) - 1
	for at >= 0 && &n.is.Lines[at] != l {
		at--
	}
	return at
}

// contradicts reports whether the new values of a line contradict the code of its change, which says that the quantity
// becomes more (QI), less (QD), or stays the same (NC). A line that already has the quantity contradicts none of these:
// it may have been changed before.
func (n *noticed) contradicts(i int, l *order.Line, code string) bool {
	says, ok := map[string]string{"QI": "more", "QD": "less", "NC": "no change"}[code]
	in := n.in.Lines[i].Quantity
	wanted, err := l.Wanted()
	if !ok || err != nil || in.Sign() <= 0 || in.Cmp(wanted) == 0 ||
		code == "QI" && in.Cmp(wanted) > 0 || code == "QD" && in.Cmp(wanted) < 0 {
		return false
	}
	n.e.Add(finding.UpdateConflict, i+1, "quantity", in.String(),
		"Line %s is to be %s of %s, which is not what the code %s says (%s).", l.Number, in, wanted, code, says).
		Hint = "Ask the partner what is meant, and change the line by hand."
	return true
}

// check looks at the order as it would be. What the change touches must keep every rule that an arriving order must
// keep.
func (n *noticed) check() {
	c := &changed{n.e.Intent, n.from, map[fieldOf]bool{}}
	for _, ch := range order.Diff(&n.stored.Order, n.is) {
		c.fields[fieldOf{ch.Line, ch.Field}] = true
	}
	check.Order(n.is, c, check.Terms{Rounding: n.s.Rounding})
	check.Lists(n.is, c, n.s.Lists)
}

// changed adds the findings about an order to the lines of the notice that changed it. Lines that the notice did not
// touch were checked when they came.
type changed struct {
	*intent.Intent
	from   []int
	fields map[fieldOf]bool // that are not as they were
}

// fieldOf names a field of the header (line 0) or of a line.
type fieldOf struct {
	line int
	name string
}

func (c *changed) Add(code finding.Code, line int, field, value, format string, args ...any) *finding.Finding {
	if !c.fields[fieldOf{line, field}] && (code == finding.UnknownCode || code == finding.UnknownUnit) {
		return &finding.Finding{} // it came so, and its mapping did not ask the list
	}
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
