package reading

import (
	"slices"

	"koinos/core/finding"
	"koinos/core/intent"
	"koinos/core/order"
	"koinos/core/source"
	"koinos/core/tree"
	"koinos/core/x12"
)

// act does to an intent what a purpose asks for; root is the transaction set.
type act func(d *intent.Intent, root *tree.Node, at *tree.Node, line int)

// asIs is for codes that change nothing about the meaning of the set: an original, one more copy, a confirmation, a
// change.
func asIs(*intent.Intent, *tree.Node, *tree.Node, int) {}

// purposes are the elements with which a transaction set states its purpose (elements 353 and 640 of X12), with what is
// done for each code. A set with any other code is refused, because its purpose is not supported.
var purposes = map[string][]struct {
	segment string
	element int
	acts    map[string]act
	others  act // what is done for every other code; nil is that it is refused
}{
	"810": {{"BIG", 7, map[string]act{"": bill, "DI": bill, "DR": bill, "PR": bill, "CR": credit, "CN": credit}, nil},
		{"BIG", 8, map[string]act{"00": asIs, "07": asIs, "01": takeBack}, nil}},
	"850": {{"BEG", 1, map[string]act{"00": asIs, "06": asIs, "07": asIs, "01": withdraw, "03": withdraw, "05": replace},
		nil},
		{"BEG", 2, map[string]act{"BK": blanket, "BE": blanket, "IN": copied}, asIs}},
	"855": {{"BAK", 1, map[string]act{"00": asIs, "04": asIs, "06": asIs, "07": asIs, "05": replace}, nil}},
	"856": {{"BSN", 1, map[string]act{"00": asIs, "06": asIs, "07": asIs, "01": takeBack, "03": takeBack, "05": replace},
		nil}},
	"860": {{"BCH", 1, map[string]act{"00": asIs, "04": asIs, "07": asIs, "01": withdraw, "03": withdraw}, nil}},
	"865": {{"BCA", 1, map[string]act{"00": asIs, "04": asIs, "06": asIs, "07": asIs, "05": replace}, nil}},
}

// purpose applies the stated purpose of the set to an intent, so that a cancellation is not taken for an original.
func purpose(kind string, g *Group, d *intent.Intent) {
	rec := &g.Rows[0].Record
	if rec.Node == nil {
		return
	}
	root := rec.Node.Root()
	for _, p := range purposes[kind] {
		for n := root.First(); n != nil; n = n.Next() {
			if n.Kind != tree.Segment || n.Name != p.segment {
				continue
			}
			e := elementOf(n, p.segment, p.element)
			if e == nil {
				if do := p.acts[""]; do != nil {
					do(d, root, nil, rec.Line)
				}
				continue
			}
			do, known := p.acts[e.Text]
			if !known {
				do = p.others
			}
			if do != nil {
				do(d, root, e, rec.Line)
				continue
			}
			name, means := x12.Meaning(p.segment, p.element, e.Text)
			if means == "" {
				means = "another purpose"
			}
			f := d.Find(finding.UnknownChoice, source.PlaceOf(e, rec.Line), e.Text, 0,
				"%s is %s (%s), which is not done with a set %s.", name, e.Text, means, kind)
			f.Hint = "Do what the partner wants by hand, then settle it with them."
		}
	}
}

// usage is ISA15, which says whether an interchange counts or is a test.
var usage = func() *x12.Address {
	a, err := x12.ParseAddress("ISA/15")
	if err != nil {
		panic(err) // it is written as addresses are
	}
	return a
}()

// Tested adds a finding if a group stands in an interchange that its sender marks as a test, which must not change any
// order.
func Tested(g *Group, d *intent.Intent) {
	rec := &g.Rows[0].Record
	if rec.Node == nil || d.Orphan {
		return
	}
	if n := usage.First(rec.Node.Root()); n != nil && n.Text == "T" {
		d.Find(finding.X12Test, source.PlaceOf(n, rec.Line), n.Text, 0,
			"Its sender marks the interchange as a test (ISA15 is T), which is to touch no order.")
	}
}

// elementOf returns an element of a segment, or nil if it is blank or the segment is another one.
func elementOf(n *tree.Node, segment string, element int) *tree.Node {
	if n.Kind != tree.Segment || n.Name != segment {
		return nil
	}
	for e := n.First(); e != nil && e.Kind != tree.Segment && e.Index <= element; e = e.Next() {
		if e.Index == element && len(e.Name) == 2 && e.Text != "" { // none of its components
			return e
		}
	}
	return nil
}

// ofHeader removes the lines of an intent that is only about the header.
func ofHeader(d *intent.Intent) {
	d.Order.Lines = nil
	d.Findings = slices.DeleteFunc(d.Findings, func(f finding.Finding) bool {
		return f.Line > 0 || f.Code == finding.OrderWithoutLines
	})
}

// withdraw cancels what is open of the order.
func withdraw(d *intent.Intent, _, _ *tree.Node, _ int) {
	ofHeader(d)
	d.Kind = intent.Withdrawal
	is := &order.Statement{Kind: string(intent.Withdrawal)}
	if said := d.Order.Statement; said != nil { // the change has a number of its own
		is.Number, is.On, is.Reason = said.Number, said.On, said.Reason
	}
	d.Order.Statement = is
}

// replace lets the order replace the stored one, or a notice the earlier notice.
func replace(d *intent.Intent, _, _ *tree.Node, _ int) { d.Replaces = true }

// takeBack takes back the whole shipment or invoice that has the set's own number. The number is enough to identify the
// goods.
func takeBack(d *intent.Intent, _, at *tree.Node, _ int) {
	ofHeader(d)
	said := d.Order.Statement
	if d.Kind == intent.Shipment && said.Number != "" {
		d.Findings = slices.DeleteFunc(d.Findings, func(f finding.Finding) bool {
			return f.Code == finding.MustMissing && f.Field == "sender_number"
		})
	}
	said.Reverses = said.Number
	said.Number += "/" + at.Text
	// as the one that is taken back has them
	d.Order.StatedTotal, d.Order.TaxAmount, d.Order.Charges = order.Number{}, order.Number{}, nil
}

// blanket reports a blanket order without a release number: goods are delivered only against its releases.
func blanket(d *intent.Intent, root, at *tree.Node, line int) {
	for n := root.First(); n != nil; n = n.Next() {
		if elementOf(n, "BEG", 4) != nil {
			return
		}
	}
	d.Find(finding.OrderNotFirm, source.PlaceOf(at, line), at.Text, 0,
		"It is a blanket order (BEG02 is %s): only its releases are to be delivered.", at.Text)
}

// copied reports a copy for information, which orders nothing.
func copied(d *intent.Intent, _, at *tree.Node, line int) {
	d.Find(finding.OrderNotFirm, source.PlaceOf(at, line), at.Text, 0,
		"It is a copy for information (BEG02 is %s): it orders nothing.", at.Text)
}

// bill is the purpose of an invoice, which takes nothing back even if it names another invoice.
func bill(d *intent.Intent, _, _ *tree.Node, _ int) { d.Order.Statement.Reverses = "" }

// credit makes a credit note of an invoice: it names the invoice that it takes back.
func credit(d *intent.Intent, root, at *tree.Node, line int) {
	for n := root.First(); n != nil; n = n.Next() {
		if q := elementOf(n, "REF", 1); q != nil && q.Text == "IV" {
			if of := elementOf(n, "REF", 2); of != nil {
				d.Order.Statement.Reverses = of.Text
			}
		}
	}
	if d.Order.Statement.Reverses == "" {
		f := d.Find(finding.MustMissing, source.PlaceOf(at, line), at.Text, 0,
			"The credit memo does not say which invoice it takes back.")
		f.Hint = "A REF segment with the qualifier IV names the invoice. Ask the partner for it, or post the credit note by hand."
	}
	d.Findings = slices.DeleteFunc(d.Findings, func(f finding.Finding) bool { return f.Code == finding.QuantityNegative })
	for i := range d.Order.Lines { // some write them below zero
		l := &d.Order.Lines[i]
		l.Quantity = l.Quantity.Abs()
	}
	for i := range d.Order.Charges {
		d.Order.Charges[i].Amount = d.Order.Charges[i].Amount.Abs()
	}
}
