package load

import (
	"context"
	"slices"
	"strings"

	"koinos/core/check"
	"koinos/core/finding"
	"koinos/core/mapping"
	"koinos/core/order"
	"koinos/core/report"
	"koinos/store"
)

// Posted is what became of an order that came by itself.
type Posted struct {
	Outcome  report.Outcome    `json:"outcome" enum:"loaded,changed,unchanged,refused"`
	OrderID  int64             `json:"order_id,omitempty"`
	Number   string            `json:"number,omitempty"`
	Revision int               `json:"revision,omitempty"`
	Changes  []order.Change    `json:"changes,omitempty"`
	Findings []finding.Finding `json:"findings"`
}

// posted is an order that is checked without a document.
type posted struct {
	mapped
}

// Post stores one order that a program sends in Koinos's own form. The rules
// for loads hold for it; again is what it means where it is stored already,
// Skip where blank. Several at once share a durable commit. Findings of
// severity error say why it was not stored.
func (e *Engine) Post(ctx context.Context, o *order.Order, again report.Again, by string) (Posted, error) {
	p := posted{mapped{Draft: &mapping.Draft{Order: *o}}}
	m := &p.mapped
	m.Order.ID, m.Order.Revision = 0, 0
	for i := range m.Order.Lines {
		if l := &m.Order.Lines[i]; l.Number == "" {
			l.Number = order.NumberOf(int64(i + 1)).String()
		}
	}
	p.required()
	check.Order(&m.Order, m.Draft, check.Terms{Tolerance: order.MustNumber("0.01"), Rounding: order.HalfUp})
	if m.Order.SenderNumber == "" {
		m.Add(finding.MustMissing, 0, "sender_number", "", "sender_number is missing; without it the order could not be known again.")
	}
	if m.Order.Currency != "" && !order.KnownCurrency(m.Order.Currency) {
		m.Add(finding.UnknownCurrency, 0, "currency", m.Order.Currency, "%q is not a currency of ISO 4217.", m.Order.Currency)
	}
	out := Posted{Outcome: report.Refused, Findings: []finding.Finding{}}
	if m.Refused() {
		out.Findings = m.Findings
		return out, nil
	}
	m.identity, m.fingerprint, m.trace = m.Order.Identity(), m.Order.Fingerprint(), []byte("{}")
	if again == "" {
		again = report.Skip
	}
	t := &target{e: e, rules: rules{again: again, arrival: wholeArrival(&m.Order), newer: orderedOn, rounding: order.HalfUp}, real: true,
		seen: map[[16]byte]int32{}, numbers: map[string]int{}}
	m.Spans = []mapping.Span{{}}
	err := e.store.Share(ctx, func(tx *store.Tx) error {
		known, err := tx.KnownOrders([]string{m.identity})
		if err != nil {
			return err
		}
		taken := map[string]store.Known{}
		if m.Order.Number != "" {
			if taken, err = tx.KnownNumbers(m.Order.Kind, []string{m.Order.Number}); err != nil {
				return err
			}
		}
		var res store.OrderResult
		changed, err := t.judge(tx, m, known, taken, &res)
		if err != nil {
			return err
		}
		out.Outcome, out.OrderID, out.Number, out.Changes = res.Outcome, res.OrderID, res.Number, res.Changes
		switch res.Outcome {
		case report.Loaded:
			fresh := []store.NewOrder{{Order: &m.Order, Identity: m.identity, Fingerprint: m.fingerprint, Trace: m.trace}}
			if err := tx.InsertOrders(0, fresh, by, e.now()); err != nil {
				return err
			}
			out.OrderID, out.Number, out.Revision = m.Order.ID, m.Order.Number, 1
		case report.Changed:
			changed.Action, changed.Fingerprint = "changed", m.fingerprint[:]
			if err := tx.ChangeOrder(*changed, by, e.now()); err != nil {
				return err
			}
			out.Revision = changed.Is.Revision
		}
		return nil
	})
	out.Findings = append(out.Findings, m.Findings...)
	return out, err
}

var orderedOn, _ = order.Lookup(order.Header, "ordered_on")

// required finds what no order can do without.
func (p *posted) required() {
	o := &p.Order
	if o.Kind != order.Sales && o.Kind != order.Purchase {
		p.Add(finding.MustMissing, 0, "kind", string(o.Kind), "kind must be sales or purchase.")
	}
	for i := range needed {
		f := &needed[i]
		if f.Level == order.Header {
			if f.Value(o, nil) == "" {
				p.Add(finding.MustMissing, 0, f.Name, "", "%s is missing.", f.Name)
			}
			continue
		}
		for i := range o.Lines {
			if f.Value(o, &o.Lines[i]) == "" {
				p.Add(finding.MustMissing, i+1, f.Name, "", "%s is missing.", f.Name)
			}
		}
	}
}

// needed are the fields that no order can do without.
var needed = slices.DeleteFunc(append(order.AllFields(order.Header), order.AllFields(order.Lines)...), func(f order.Field) bool { return !f.Must })

// wholeArrival speaks of every field that the order has.
func wholeArrival(o *order.Order) order.Arrival {
	a := order.Arrival{Match: order.ByNumber, Missing: order.KeepMissing}
	var names [2][]string
	o.Each(func(line int, field, _ string) {
		level := min(line, 1)
		if !slices.Contains(names[level], field) {
			names[level] = append(names[level], field)
		}
	})
	for i, level := range []order.Level{order.Header, order.Lines} {
		for _, name := range names[i] {
			if f, ok := order.Lookup(level, strings.TrimSpace(name)); ok {
				if level == order.Header {
					a.Header = append(a.Header, f)
				} else {
					a.Lines = append(a.Lines, f)
				}
			}
		}
	}
	return a
}
