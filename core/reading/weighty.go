package reading

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"koinos/core/finding"
	"koinos/core/intent"
	"koinos/core/mapping"
	"koinos/core/order"
	"koinos/core/source"
	"koinos/core/tree"
	"koinos/core/x12"
)

// weighty are the segments, by transaction set, that change what an order or its answer means, each with the function
// that reports it if the mapping does not read it.
var weighty = map[string]map[string]func(*asked) (at *tree.Node, says string){
	"850": ofOrders, "860": ofOrders, "855": ofAnswers, "865": ofAnswers, "810": ofInvoices,
	"856": {"SN1": sent},
}

var ofOrders = map[string]func(*asked) (at *tree.Node, says string){
	"SDQ": whole("the quantities for several places"), "SLN": whole("what the line is made of"),
	"IT8": whole("conditions of the sale"),
	"TAX": whole("what tax is due, or that none is"), "TD5": routed,
	"CSH": whole("a condition of the delivery"), "DTM": day(wanted), "SAC": allowance, "TXI": tax, "N1": place,
	"CTP": price,
	"ITD": terms, "PO1": either(free, items(6)), "POC": either(free, items(8)),
}

var ofAnswers = map[string]func(*asked) (at *tree.Node, says string){
	"SCH": schedule, "SAC": allowance, "DTM": day(promised), "CTP": price,
	"MSG": text,
	"MTX": text, "PO1": free, "POC": free,
}

var ofInvoices = map[string]func(*asked) (at *tree.Node, says string){"IT1": billed, "REF": ofOrder, "TXI": tax}

// weighed finds segments that change what an order means and that its mapping does not read.
func weighed(m *mapping.Mapping, g *Group, d *intent.Intent) {
	rec := &g.Rows[0].Record
	segments := weighty[m.Document.Set]
	if rec.Node == nil || segments == nil {
		return
	}
	p := g.Rows[0].plan
	a, _ := p.asked.Get().(*asked)
	if a == nil {
		a = &asked{m: m, known: map[question]bool{}, segments: map[string]bool{}}
	}
	defer func() {
		a.node, a.loop = nil, nil
		p.asked.Put(a)
	}()
	var walk func(n *tree.Node)
	walk = func(n *tree.Node) {
		for c := n.First(); c != nil; c = c.Next() {
			if c.Kind != tree.Segment {
				continue
			}
			if says := segments[c.Name]; says != nil {
				a.node, a.code = c, finding.ValueUnread
				if at, text := says(a); at != nil {
					value := at.Text
					if at.Kind == tree.Segment {
						value = at.Name
					}
					f := d.Find(a.code, source.PlaceOf(at, rec.Line), value, 0, "%s", text)
					if a.code == finding.ValueUnread {
						f.Hint = "Put it into the order by hand, or bind it in the partner's mapping; list in document.unused what can be ignored."
					}
				}
			}
			walk(c)
		}
	}
	walk(rec.Node.Root())
}

// asked is a segment, and what its mapping reads of segments like it. It is used again for the orders of a document.
type asked struct {
	m        *mapping.Mapping
	node     *tree.Node
	code     finding.Code // of what is found of it
	known    map[question]bool
	segments map[string]bool // of which anything is read

	loop    *tree.Node // whose answers were counted last
	answers int
}

// question is whether a mapping reads an element of a segment, given the code in another. The segment is named with the
// two around it; what is further up is in above, too.
type question struct {
	name, in, above, code string
	by, element           int
}

// mostKnown is how many answers are kept: a document can have very many codes.
const mostKnown = 4_000

// element returns an element of the segment, or nil if it is blank.
func (a *asked) element(n int) *tree.Node { return elementOf(a.node, a.node.Name, n) }

// means is the meaning of the code in the segment's first element.
func (a *asked) means(n int, code *tree.Node) string {
	_, means := x12.Meaning(a.node.Name, n, code.Text)
	return strings.TrimSpace(code.Text + " " + means)
}

// reads is readsBy for the first element, which tells what most segments are about.
func (a *asked) reads(element int) bool { return a.readsBy(1, element) }

// readsBy reports whether the mapping reads an element of the segment here, with the code that it has in another
// element, or skips the segment on purpose.
func (a *asked) readsBy(by, element int) bool {
	code := ""
	if has := a.element(by); has != nil {
		code = has.Text
	}
	return a.readsCode(by, element, code)
}

// readsCode is readsBy for a code of the other element.
func (a *asked) readsCode(by, element int, code string) bool {
	key := question{name: a.node.Name, code: code, by: by, element: element}
	if in := a.node.Parent; in != nil && in.Parent != nil {
		key.in = in.Name
		if up := in.Parent; up.Parent != nil {
			if key.above = up.Name; up.Parent.Parent != nil {
				key.above = strings.Join(a.way(), "/")
			}
		}
	}
	is, known := a.known[key]
	if !known {
		if len(a.known) >= mostKnown {
			clear(a.known)
		}
		way := a.way()
		for address := range a.m.Addresses {
			is = is || (address.OfElement(a.node.Name, element) || address.OfElement(a.node.Name, 0)) && address.Finds(way, by,
				code)
		}
		a.known[key] = is
	}
	return is
}

// counts reports whether the mapping takes an element of an allowance or a charge, given another element and its code.
func (a *asked) counts(element, by int, code string) bool {
	way, is := a.way(), a.element(1).Text
	takes := func(address *x12.Address) bool { return address.Finds(way, 1, is) && address.Finds(way, by, code) }
	if part := a.m.Parts[mapping.InCharges]; part != nil {
		if each, ok := part.Each.(*x12.Address); ok && slices.Equal(each.Way(), way) && !takes(each) {
			return false
		}
	}
	for address := range a.m.Addresses {
		if address.OfElement(a.node.Name, element) && takes(address) {
			return true
		}
	}
	return false
}

// way is from the set to the segment, itself the last.
func (a *asked) way() (way []string) {
	for c := a.node; c.Parent != nil; c = c.Parent {
		way = append(way, c.Name)
	}
	slices.Reverse(way)
	return way
}

// any reports whether the mapping reads anything of segments like it, wherever they stand.
func (a *asked) any() bool {
	is, known := a.segments[a.node.Name]
	if !known {
		is = a.m.ReadsSegment(a.node.Name)
		a.segments[a.node.Name] = is
	}
	return is
}

// whole reports a segment of which nothing is read.
func whole(about string) func(*asked) (*tree.Node, string) {
	return func(a *asked) (*tree.Node, string) {
		if a.any() {
			return nil, ""
		}
		return a.node, fmt.Sprintf("%s (%s) says %s, and the mapping does not read it.", a.node.Name,
			x12.SegmentName(a.node.Name), about)
	}
}

// schedule reports days for parts of a line beside several answers to it, and where the parts go.
func schedule(a *asked) (*tree.Node, string) {
	answers := a.answersBeside()
	party, of := a.element(3), a.element(4)
	switch {
	case !a.reads(1):
		return a.node, "SCH says days or places for parts of the line, and the mapping does not read it here."
	case answers > 1:
		return a.node, "SCH says days for parts of the line, and the line has several answers (ACK) of its own, which are read instead."
	case party != nil && of != nil && !a.reads(4):
		return of, fmt.Sprintf("SCH says where a part of the line goes, %s (%s), and the mapping does not read it.", of.Text,
			a.means(3, party))
	}
	return nil, ""
}

// answersBeside counts the answers (ACK) in the loop of the segment.
func (a *asked) answersBeside() (n int) {
	if a.loop == a.node.Parent {
		return a.answers
	}
	for c := a.node.Parent.First(); c != nil; c = c.Next() {
		if c.Name == "ACK" {
			n++
		}
	}
	a.loop, a.answers = a.node.Parent, n
	return n
}

// wanted are the qualifiers (element 374) of the days between which goods are wanted, promised those of a seller's
// promise.
var (
	wanted = []string{"001", "002", "010", "037", "038", "061", "063", "064", "069", "071", "074", "077", "106", "118",
		"175", "177"}
	promised = []string{"017", "067", "068", "069", "079"}
)

// day reports a day with one of some qualifiers, or its time.
func day(of []string) func(*asked) (*tree.Node, string) {
	return func(a *asked) (*tree.Node, string) {
		code, on, at := a.element(1), a.element(2), a.element(3)
		switch {
		case code == nil || on == nil || !slices.Contains(of, code.Text):
		case !a.reads(2):
			return on, fmt.Sprintf("DTM says the day %s (%s), and the mapping does not read it.", on.Text, a.means(1, code))
		case at != nil && !a.reads(3) && strings.Trim(at.Text, "0") != "" && !strings.HasPrefix(at.Text, "2359"):
			return at, fmt.Sprintf("DTM says the time %s of the day %s (%s), and the mapping reads only the day.", at.Text,
				on.Text, a.means(1, code))
		}
		return nil, ""
	}
}

// apart are the codes of element 331 (method of handling) of allowances and charges that no invoice of the order shows.
var apart = map[string]string{"01": "it is billed back", "03": "the seller sends a check", "04": "the buyer's account is credited",
	"05": "the seller pays it"}

// allowance reports an allowance or charge that is not read, or is settled apart, or that has no amount and is a share
// (element 332) or a rate (118) that is not read. A mapping that reads the quantity of a rate (380) needs it.
func allowance(a *asked) (*tree.Node, string) {
	is := a.element(1)
	if is == nil || is.Text != "A" && is.Text != "C" {
		return nil, ""
	}
	if !a.any() {
		return a.node, "SAC says an allowance or a charge, and the mapping does not read it."
	}
	if how := a.element(12); how != nil && apart[how.Text] != "" && !a.counts(5, 12, how.Text) && !a.reads(12) {
		return how, fmt.Sprintf("SAC says an allowance or a charge that is settled apart from the order (%s), and its total is without it.",
			apart[how.Text])
	}
	share, rate, of := a.element(7), a.element(8), ""
	if n := a.element(6); n != nil {
		of = n.Text
	}
	switch {
	case a.element(5) != nil:
	case share != nil && !a.counts(7, 6, of):
		return share, fmt.Sprintf("SAC says an allowance or a charge as a share, %s %%, and the mapping does not read it.", share.Text)
	case share == nil && rate != nil && (!a.reads(8) || a.reads(10) && a.element(10) == nil):
		return rate, fmt.Sprintf("SAC says an allowance or a charge as a rate, %s, and the mapping does not read it.", rate.Text)
	}
	return nil, ""
}

// tax reports an amount (02) or a share (03) of a tax, of which one is enough, or that no tax is due (06; in its list,
// element 441, 2 says that tax is due).
func tax(a *asked) (*tree.Node, string) {
	about := ""
	amount, share, exempt := a.element(2), a.element(3), a.element(6)
	switch {
	case amount != nil && a.reads(2) || share != nil && a.reads(3):
	case amount != nil:
		about = "a tax of " + amount.Text
	case share != nil:
		about = "a tax at the rate " + share.Text
	}
	if about == "" && exempt != nil && exempt.Text != "2" && !a.reads(6) {
		about = fmt.Sprintf("with the code %s that no tax is due", exempt.Text)
	}
	if about == "" {
		return nil, ""
	}
	return a.node, fmt.Sprintf("TXI (%s) says %s, and the mapping does not read it.", x12.SegmentName("TXI"), about)
}

// text reports what people wrote, if it is not read.
func text(a *asked) (*tree.Node, string) {
	said := cmp.Or(a.element(1), a.element(2))
	if a.node.Name == "MTX" {
		said = cmp.Or(a.element(2), a.element(1))
	}
	if said == nil || a.any() && (a.reads(1) || a.reads(2)) {
		return nil, ""
	}
	return said, fmt.Sprintf("%s says %q, and the mapping does not read it.", a.node.Name, said.Text)
}

// terms reports terms of payment behind others of the same loop, because an order has one text of them.
func terms(a *asked) (*tree.Node, string) {
	first := a.node.Parent.First()
	for first != nil && first.Name != a.node.Name {
		first = first.Next()
	}
	said := func(n *tree.Node) (elements []string) {
		for e := n.First(); e != nil && e.Kind != tree.Segment; e = e.Next() {
			elements = append(elements, e.Name+" "+e.Text)
		}
		return elements
	}
	if !a.reads(12) && !a.reads(7) && !a.reads(6) {
		return a.node, "ITD says terms of payment, and the mapping does not read them here."
	}
	if first == a.node || slices.Equal(said(first), said(a.node)) {
		return nil, ""
	}
	return a.node, "A second ITD says other terms of payment, and the mapping reads those of the first."
}

// unlike are the statuses (element 668) of a line of a notice by which more is meant than that it has left.
var unlike = []string{"CP", "IB", "IC", "ID", "IH", "IR", "IS"}

// sent reports the status of a line of a notice, such as that no more of it will come.
func sent(a *asked) (*tree.Node, string) {
	is := a.element(8)
	if is == nil || !slices.Contains(unlike, is.Text) || a.reads(8) {
		return nil, ""
	}
	return is, fmt.Sprintf("SN1 says of the line %s, and the mapping does not read it.", a.means(8, is))
}

// routed reports a carrier, or how fast it is to be, that is not read.
func routed(a *asked) (*tree.Node, string) {
	code, name, level := a.element(3), a.element(5), a.element(12)
	switch {
	case code != nil && !a.readsBy(2, 3) && (name == nil || !a.reads(5)):
		return code, fmt.Sprintf("TD5 says the carrier %s, and the mapping does not read it here.", code.Text)
	case code == nil && name != nil && !a.reads(5):
		return name, fmt.Sprintf("TD5 says the carrier %s, and the mapping does not read it here.", name.Text)
	case level != nil && !a.reads(12):
		return level, fmt.Sprintf("TD5 asks for the service %s, and the mapping does not read it.", a.means(12, level))
	}
	return nil, ""
}

// revised are the ids (element 235) that say which revision of an item is wanted.
var revised = []string{"EC", "DR"}

// items reports an item that is named only by ids that are not read, the first of them, and a revision of an item that
// is not read. The ids are pairs of a code and a value, the first code in the given element.
func items(from int) func(*asked) (*tree.Node, string) {
	return func(a *asked) (at *tree.Node, says string) {
		known := a.beside("LIN") // more ids
		for n := from; n < from+20; n += 2 {
			code, id := a.element(n), a.element(n+1)
			switch {
			case code == nil || id == nil:
			case a.readsCode(from, from+1, code.Text):
				known = true
			case slices.Contains(revised, code.Text):
				return id, fmt.Sprintf("%s asks for the revision %s of the item (%s), and the mapping does not read it.",
					a.node.Name, id.Text, a.means(n, code))
			case at == nil:
				at = id
				says = fmt.Sprintf("%s names the item only as %s (%s), and the mapping does not read it.", a.node.Name, id.Text,
					a.means(n, code))
			}
		}
		if known {
			return nil, ""
		}
		return at, says
	}
}

// beside reports whether a segment stands directly within the loop of the segment.
func (a *asked) beside(name string) bool {
	for c := a.node.First(); c != nil; c = c.Next() {
		if c.Kind == tree.Segment && c.Name == name {
			return true
		}
	}
	return false
}

// either is the first report of several.
func either(all ...func(*asked) (*tree.Node, string)) func(*asked) (*tree.Node, string) {
	return func(a *asked) (at *tree.Node, says string) {
		for _, one := range all {
			if at, says = one(a); at != nil {
				break
			}
		}
		return at, says
	}
}

// places are the parties (element 98) that say where goods go.
var places = map[string]string{"ST": "where the goods go", "MA": "for whom the goods are marked"}

// place reports where goods go, if neither the code nor the name of the place is read.
func place(a *asked) (*tree.Node, string) {
	is := a.element(1)
	if is == nil || places[is.Text] == "" {
		return nil, ""
	}
	code, name := a.element(4), a.element(2)
	if code == nil && name == nil || code != nil && a.reads(4) || name != nil && a.reads(2) {
		return nil, ""
	}
	at := cmp.Or(name, code)
	return at, fmt.Sprintf("N1 says %s, %s (%s), and the mapping does not read it here.", places[is.Text], at.Text,
		a.means(1, is))
}

// retail are the prices (element 236) at which others resell the goods.
var retail = []string{"RES", "RTL", "MSR", "MAP"}

// price reports a price besides the one of the line.
func price(a *asked) (*tree.Node, string) {
	kind, is := a.element(2), a.element(3)
	if is == nil || a.node.Parent == nil || kind != nil && slices.Contains(retail, kind.Text) {
		return nil, ""
	}
	of := a.node.Parent
	line := map[string]int{"PO1": 4, "POC": 6}[of.Name]
	if line == 0 {
		return nil, ""
	}
	stated := elementOf(of, of.Name, line)
	if stated == nil && a.readsBy(2, 3) || stated != nil && sameDecimal(stated.Text, is.Text) {
		return nil, ""
	}
	about := ""
	if kind != nil {
		about = " (" + a.means(2, kind) + ")"
	}
	if stated == nil {
		return is, fmt.Sprintf("CTP says the price %s%s, and the mapping does not read it.", is.Text, about)
	}
	return is, fmt.Sprintf("CTP says the price %s%s, and the line says %s; the mapping reads the line's.", is.Text, about,
		stated.Text)
}

// free reports the price of a line that is without charge.
func free(a *asked) (*tree.Node, string) {
	at := map[string]int{"PO1": 5, "IT1": 5, "POC": 7}[a.node.Name]
	basis, price := a.element(at), a.element(at-1)
	if basis == nil || basis.Text != "NC" || price == nil || sameDecimal(price.Text, "0") {
		return nil, ""
	}
	return price, fmt.Sprintf("%s says the price %s, and %s.", a.node.Name, price.Text,
		"in the element behind it that there is no charge (NC); the mapping reads the price")
}

// billed reports another order than the one of the invoice for a line, or the price of a line that is without charge.
func billed(a *asked) (*tree.Node, string) {
	for n := 6; n < 26; n += 2 {
		if code := a.element(n); code != nil && code.Text == "PO" {
			if of := a.element(n + 1); of != nil {
				return a.another(of)
			}
		}
	}
	return free(a)
}

// ofOrder reports another order than the one of the invoice in a reference.
func ofOrder(a *asked) (*tree.Node, string) {
	if code, of := a.element(1), a.element(2); code != nil && code.Text == "PO" && of != nil {
		return a.another(of)
	}
	return nil, ""
}

// another reports that the order of a line, or of a reference in the header, is not the one of the invoice.
func (a *asked) another(of *tree.Node) (*tree.Node, string) {
	for n := a.node.Root().First(); n != nil; n = n.Next() {
		if n.Name != "BIG" {
			continue
		}
		is := elementOf(n, "BIG", 4)
		if is != nil && !strings.EqualFold(is.Text, of.Text) {
			what := "The line is of"
			if a.node.Name == "REF" && a.node.Parent.Parent == nil {
				what = "A reference (REF PO) names"
			}
			a.code = finding.HeaderDisagrees
			return of, fmt.Sprintf("%s the order %s, and the invoice is of the order %s.", what, of.Text, is.Text)
		}
		break // it stands once, in front
	}
	return nil, ""
}

// sameDecimal reports whether two numbers have the same value.
func sameDecimal(a, b string) bool {
	x, err := order.ParseNumber(a)
	y, wrong := order.ParseNumber(b)
	return err == nil && wrong == nil && x.Cmp(y) == 0
}
