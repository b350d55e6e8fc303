package load

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"slices"

	"koinos/api"
	"koinos/book"
	"koinos/core/check"
	"koinos/core/finding"
	"koinos/core/intent"
	"koinos/core/jsondoc"
	"koinos/core/order"
	"koinos/core/origin"
	"koinos/core/outcome"
	"koinos/core/source"
	"koinos/core/tree"
	"koinos/store"
)

// Post stores one order that a program sends in Koinos's own form. The order passes every check that a row of a sheet
// passes, and the same book takes it. Its body is stored as a document. Again says what is done if the order is stored
// already; blank means Skip. Several orders at the same time share a durable commit. Findings of severity error say why
// it was not stored; their places point into the body.
func (e *Engine) Post(ctx context.Context, o *order.Order, body []byte, again outcome.Again, by string) (api.Posted,
	error) {
	out := api.Posted{Outcome: outcome.Refused, Findings: []finding.Finding{}}
	set, err := e.store.Set(ctx)
	if err != nil {
		return out, err
	}
	sum := sha256.Sum256(body)
	sha := hex.EncodeToString(sum[:])
	i, err := posted(o, body)
	if err != nil {
		return out, err
	}
	if !check.Wide(&i.Order, i) {
		fold(i)
		check.Values(&i.Order, i, set)
		check.Order(&i.Order, i, check.Terms{Tolerance: order.MustNumber("0.01"), Rounding: order.HalfUp})
	}
	if i.Order.SenderNumber == "" {
		i.Findings = slices.DeleteFunc(i.Findings,
			func(f finding.Finding) bool { return f.Code == finding.IdentityMissing })
		i.Add(finding.MustMissing, 0, "sender_number", "",
			"sender_number is missing; without it the order could not be known again.")
	}
	if i.Refused() {
		out.Findings = forBody(i.Findings)
		return out, nil
	}
	if again == "" {
		again = outcome.Skip
	}
	entry := book.NewEntry(i, sha, true)
	session := book.Begin(book.Rules{Again: again, Arrival: wholeArrival(&i.Order), Newer: orderedOn,
		Rounding: order.HalfUp, Lists: set,
		Source: store.Source{Document: sha, By: by}, Real: true, Now: e.now})
	d := api.Document{SHA: sha, Name: "posted.json", Shape: source.Shape{Format: source.JSON}, ReceivedAt: e.now(),
		ReceivedBy: by}
	r, err := e.counter.Take(ctx, session, &entry, store.Body{Document: d, Bytes: body, Posted: true})
	if err == nil {
		out.Outcome, out.OrderID, out.Number, out.Revision, out.Changes = r.Outcome, r.OrderID, r.Number, r.Revision,
			r.Changes
	}
	if out.Outcome != outcome.Refused {
		out.Document = sha
	}
	out.Findings = append(out.Findings, forBody(i.Findings)...)
	return out, err
}

var orderedOn, _ = order.Lookup(order.Header, "ordered_on")

// posted makes an intent of an order in Koinos's own form.
func posted(o *order.Order, body []byte) (*intent.Intent, error) {
	i := &intent.Intent{Kind: intent.Order, Order: *o}
	i.Order.ID, i.Order.Revision, i.Order.Statement = 0, 0, nil
	for n := range i.Order.Lines {
		l := &i.Order.Lines[n]
		if l.Statement, l.Invoiced, l.Status = nil, (order.Number{}), ""; !l.StatedAmount.IsZero() {
			i.State(n+1, "amount")
		}
	}
	order.NumberLines(i.Order.Lines)
	for _, stated := range []struct {
		field string
		order.Number
	}{{"total", o.StatedTotal}, {"total_before_tax", o.StatedNet}, {"tax_amount", o.TaxAmount}} {
		if !stated.IsZero() {
			i.State(0, stated.field)
		}
	}
	root, _, err := jsondoc.Parse(body, 1)
	if err != nil || root == nil {
		return i, nil // whoever decoded it has read another form of JSON; there are no places then
	}
	traceBody(&i.Trace, &i.Order, root)
	return i, nil
}

// fold adds up the charges of a posted order that are for the same.
func fold(i *intent.Intent) {
	whole := func(line int, charges []order.Charge) {
		for _, c := range charges {
			if c.Stated().IsZero() {
				i.Add(finding.MustMissing, line, c.Field(), "", "%s has neither an amount nor a share in per cent.", c.Field())
			}
		}
	}
	whole(0, i.Order.Charges)
	for n := range i.Order.Lines {
		whole(n+1, i.Order.Lines[n].Charges)
	}
	if err := i.Order.FoldCharges(); err != nil {
		i.Add(finding.AmountTooLarge, 0, "charges", "",
			"The amounts of charges for the same have more digits together than can be computed with.")
	}
}

// inBody maps fields to the names that they have in a body, if these differ.
var inBody = map[string]string{"total": "total_stated", "amount": "amount_stated",
	"total_before_tax": "total_before_tax_stated"}

func nameInBody(field string) string {
	if name := inBody[field]; name != "" {
		return name
	}
	return field
}

// traceBody notes where the values of an order stand in its body.
func traceBody(t *origin.Trace, o *order.Order, root *tree.Node) {
	add := func(field string, n *tree.Node) {
		if n != nil {
			t.Add(field, source.PlaceOf(n, 0))
		}
	}
	for _, f := range order.PlainFields(order.Header) {
		add(f.Name, root.Member(nameInBody(f.Name)))
	}
	each := func(list string, f func(i int, n *tree.Node)) {
		at := root.Member(list)
		if at == nil {
			return
		}
		i := 0
		for n := at.First(); n != nil; n = n.Next() {
			f(i, n)
			i++
		}
	}
	each("parties", func(i int, n *tree.Node) {
		if i < len(o.Parties) {
			for m := n.First(); m != nil; m = m.Next() {
				add(o.Parties[i].Role+"."+m.Name, m)
			}
		}
	})
	each("references", func(i int, n *tree.Node) {
		if i < len(o.References) {
			add("reference."+o.References[i].Qualifier, n.Member("value"))
		}
	})
	each("charges", func(i int, n *tree.Node) {
		if i < len(o.Charges) {
			add(o.Charges[i].Field(), cmp.Or(n.Member("percent"), n.Member("amount")))
		}
	})
	each("custom", func(i int, n *tree.Node) {
		if i < len(o.Custom) {
			add("custom."+o.Custom[i].Name, n.Member("value"))
		}
	})
	t.Paths = linePaths
	each("lines", func(i int, n *tree.Node) {
		t.Rows, t.Records = append(t.Rows, n.Leaf), append(t.Records, n.Pointer())
	})
}

// linePaths is where a line's fields stand within it.
var linePaths = func() map[string]string {
	paths := map[string]string{}
	for _, f := range order.PlainFields(order.Lines) {
		paths[f.Name] = "/" + nameInBody(f.Name)
	}
	return paths
}()

// bodyAdvice says how to fix a finding in a body, if the usual advice is about cells and mappings.
var bodyAdvice = map[finding.Code]string{
	finding.MustMissing:       "Send the value.",
	finding.ShouldMissing:     "Send the value if it is known.",
	finding.NotADate:          "Write the day as yyyy-mm-dd.",
	finding.AmountDiffers:     "Correct the figure that is wrong, or leave amount_stated out.",
	finding.TotalDiffers:      "Look for a missing line or charge, or leave total_stated out.",
	finding.LineWithoutItem:   "Send an item code or a description.",
	finding.OrderWithoutLines: "Send its lines.",
	finding.UnknownUnit:       "Send a code of the list units.",
	finding.UnknownCurrency:   "Send the three-letter code of ISO 4217, for example EUR.",
	finding.HeaderDisagrees:   "Send one party for each role.",
	finding.UpdateConflict:    "Correct the line.",
	finding.AmountTooLarge:    "Nineteen digits is the most.",
	finding.DatesOutOfOrder:   "Compare the dates.",
	finding.NotNewer:          "Nothing needs to be done where an old order came late; else correct the date.",
}

func forBody(all []finding.Finding) []finding.Finding {
	for i := range all {
		f := &all[i]
		if advice := bodyAdvice[f.Code]; advice != "" && f.Hint == finding.Catalogue[f.Code].Advice {
			f.Hint = advice
		}
	}
	return all
}

// wholeArrival makes an arrival that states every field of the order. Lines that all have ids are matched by their ids,
// others by their numbers.
func wholeArrival(o *order.Order) order.Arrival {
	a := order.Arrival{Match: order.ByID, Missing: order.KeepMissing}
	if slices.ContainsFunc(o.Lines, func(l order.Line) bool { return l.ID == 0 }) {
		a.Match = order.ByNumber
	}
	var names [2][]string
	o.Each(func(line int, field, _ string) {
		level := min(line, 1)
		if !slices.Contains(names[level], field) {
			names[level] = append(names[level], field)
		}
	})
	for _, name := range names[0] {
		if f, ok := order.Lookup(order.Header, name); ok {
			a.Header = append(a.Header, f)
		}
	}
	for _, name := range names[1] {
		if f, ok := order.Lookup(order.Lines, name); ok {
			a.Lines = append(a.Lines, f)
		}
	}
	return a
}
