package load

import (
	"context"
	"math"
	"slices"
	"strings"

	"koinos/book"
	"koinos/core/finding"
	"koinos/core/intent"
	"koinos/core/mapping"
	"koinos/core/order"
	"koinos/core/outcome"
	"koinos/core/reading"
	"koinos/store"
)

// rules are what a load does with orders beyond mapping and checking them: what its mapping says, and the options of
// this load.
type rules struct {
	outcome.Options
	again    outcome.Again
	arrival  order.Arrival
	newer    order.Field
	rounding order.Rounding
	holds    func(*finding.Finding) bool
	weighs   map[finding.Code]finding.Severity
	over     order.Number
	byHand   [2]float64 // minutes an order and a line
	chosen   map[string]bool
}

// invoiceHolds are the warnings that hold an invoice unless its mapping says otherwise. Money is paid only for what was
// ordered and received; and where an invoice is made of what the document says has moved, it is asked only for that.
func invoiceHolds(m *mapping.Mapping) []string {
	switch {
	case m.Of == order.Purchase || m.FromSeller:
		return []string{string(finding.OverInvoiced), string(finding.PriceDiffers), string(finding.InvoiceDiffers)}
	case !m.OfLine("unit_price") && !m.OfLine("amount"):
		return []string{string(finding.OverInvoiced)}
	}
	return nil // it records an invoice that was made elsewhere
}

// Holds returns the warnings that hold an order of a mapping, without those that were accepted; nil if there is none.
func Holds(m *mapping.Mapping, accepted ...finding.Code) func(*finding.Finding) bool {
	codes := m.Holds
	if m.Kind == intent.Invoice && codes == nil {
		codes = invoiceHolds(m)
	}
	if len(codes) == 0 {
		return nil
	}
	all := slices.Contains(codes, "all")
	return func(f *finding.Finding) bool {
		return f.Severity == finding.Warning && (all || slices.Contains(codes, string(f.Code))) &&
			!slices.Contains(accepted, f.Code)
	}
}

func rulesOf(m *mapping.Mapping, l *outcome.Load) rules {
	r := rules{Options: l.Options, again: l.Again, arrival: m.Again.Arrival, newer: m.Again.Newer, rounding: m.Rounding,
		byHand: m.ByHand, weighs: m.Weighs, over: m.Over}
	if r.again == "" {
		r.again = outcome.Again(m.Again.Do)
	}
	r.holds = Holds(m, l.Accept...)
	if r.Asks = l.Asks && !slices.Contains(l.Accept, finding.ChangeAsked); r.Asks {
		others := r.holds
		r.holds = func(f *finding.Finding) bool { return f.Code == finding.ChangeAsked || others != nil && others(f) }
	}
	if len(l.OnlyOrders) > 0 {
		r.chosen = map[string]bool{}
		for _, n := range l.OnlyOrders {
			r.chosen[strings.ToUpper(strings.TrimSpace(n))] = true
		}
	}
	return r
}

// book are the rules of the order book for a load.
func (r *rules) book(t *target, real bool) book.Rules {
	l := &t.run.load
	return book.Rules{Again: r.again, Arrival: r.arrival, Newer: r.newer, Rounding: r.rounding, Lists: t.set,
		Holds: r.holds, Weighs: r.weighs, Over: r.over,
		Source: store.Source{Load: l.ID, By: l.By}, Partners: r.Partners, System: r.HoldSystem, Sync: r.HoldSync,
		Elsewhere: r.InSets, Asks: r.Asks, Taken: r.Taken, Real: real, Now: t.e.now}
}

// takes reports whether the order belongs to the load.
func (r *rules) takes(o *order.Order) bool {
	return r.chosen == nil || r.chosen[strings.ToUpper(strings.TrimSpace(o.SenderNumber))]
}

// stage gives a new order the stage that the load asks for.
func (r *rules) stage(o *order.Order) {
	if r.Stage != "" && r.Stage != order.Open {
		o.Stage = r.Stage
	}
	if r.Opening {
		o.Opening = true
		if o.Number == "" {
			o.Number = o.SenderNumber
		}
	}
	if r.Stage != "" || r.Opening {
		o.Status = o.DeriveStatus()
	}
}

// saved is how many seconds of manual work an order stands for.
func (r *rules) saved(lines int) int {
	return int(math.Round(60 * (r.byHand[0] + r.byHand[1]*float64(lines))))
}

// only limits a retry to the orders that failed in the earlier load: those that contain one of their rows and, if that
// load did not reach the document's end, those that it never reached.
func (e *Engine) only(ctx context.Context, l *outcome.Load) (func(*reading.Group) bool, error) {
	if l.Retry == 0 {
		return nil, nil
	}
	earlier, err := e.store.Load(ctx, l.Retry)
	if err != nil {
		return nil, err
	}
	reached := math.MaxInt
	if earlier.Status != outcome.Done {
		if reached, _, err = e.store.Progress(ctx, l.Retry); err != nil {
			return nil, err
		}
	}
	failed, err := e.store.FailedSpans(ctx, l.Retry)
	if err != nil {
		return nil, err
	}
	bySheet := map[string][]outcome.SpanOutcome{}
	for _, s := range failed {
		bySheet[s.Sheet] = append(bySheet[s.Sheet], s)
	}
	return func(g *reading.Group) bool {
		if g.Seq > reached {
			return true
		}
		for _, s := range g.Spans() {
			list := bySheet[s.Sheet]
			i, _ := slices.BinarySearchFunc(list, s.First, func(f outcome.SpanOutcome,
				row int) int {
				return f.Last - row
			})
			if i < len(list) && list[i].First <= s.Last {
				return true
			}
		}
		return false
	}, nil
}
