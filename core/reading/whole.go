package reading

import (
	"koinos/core/finding"
	"koinos/core/intent"
	"koinos/core/order"
)

// ofWhole reports of each part of a set that was divided among several orders whether the set's totals are the sum of
// all its lines, charges and tax.
func (w *worker) ofWhole() {
	whole := w.g.Rows[0].Whole
	if whole == nil || w.m.Kind != intent.Invoice {
		return
	}
	for _, f := range whole.Found(func() []finding.Finding {
		row := w.g.Rows[0]
		row.Node, row.Whole, row.Findings = whole.Node, nil, nil
		return totals(explain(w.m, &Group{Rows: []Row{row}}, w.set, nil), w.m.Rounding)
	}) {
		f.Order = w.g.Seq
		w.d.Findings = append(w.d.Findings, f)
	}
}

// totals compares the totals that an invoice states with the sum of its parts.
func totals(all *intent.Intent, rounding order.Rounding) []finding.Finding {
	o := &all.Order
	if o.TaxAmount.Sign() != 0 { // what the invoice says of its tax counts
		for i := range o.Lines {
			o.Lines[i].TaxPercent = order.Number{}
		}
	}
	sums := summed(o)
	if sums {
		_, err := o.Compute(rounding)
		sums = err == nil
	}
	all.Findings = nil
	for _, is := range []struct {
		field            string
		stated, computed order.Number
	}{{"total", o.StatedTotal, o.Total}, {"total_before_tax", o.StatedNet, o.BeforeTax()}} {
		switch {
		case is.stated.IsZero():
		case !sums:
			all.Add(finding.ValueUnread, 0, is.field, is.stated.String(), "The set is of several orders; the total that it states "+
				"of all of them is not compared, because not every line says its money.").Hint = "Compare it by hand, or ask the " +
				"sender for a set for each order."
		case !order.Within(is.stated.Abs(), is.computed.Abs(), order.MustNumber("0.01")):
			all.Add(finding.InvoiceDiffers, 0, is.field, is.stated.String(), "For all of its orders the invoice states a total "+
				"of %s; its lines, charges and tax make %s.", is.stated, is.computed)
		}
	}
	return all.Findings
}

// summed reports whether every line says how much money it is.
func summed(o *order.Order) bool {
	for i := range o.Lines {
		if l := &o.Lines[i]; l.StatedAmount.IsZero() && (l.UnitPrice.IsZero() || l.Quantity.IsZero()) {
			return false
		}
	}
	return len(o.Lines) > 0
}
