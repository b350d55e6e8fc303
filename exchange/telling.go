package exchange

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"koinos/api"
	"koinos/core/finding"
	"koinos/core/intent"
	"koinos/core/mapping"
	"koinos/core/notice"
	"koinos/core/order"
	"koinos/core/origin"
	"koinos/core/partner"
	"koinos/load"
	"koinos/store"
)

// teller works out what a partner must be told about its orders.
type teller struct {
	x         *Exchange
	p         *partner.Partner
	m         *mapping.Mapping // of the set that is wanted
	want      api.Wanted
	fresh     bool // nothing is repeated that the partner has rejected
	by        string
	shipments map[string]bool // those that were looked at: one can be of several orders
}

// examinedAtOnce is how many orders are examined, of which nothing need be told, before this is stored.
const examinedAtOnce = 2000

// next works out what must be told about the next orders, as much as fits into one interchange. Nothing need be told
// about those in quiet; rest are those behind them.
func (t *teller) next(ctx context.Context, orders []store.Speech) (all []telling, quiet, rest []store.Speech,
	err error) {
	for len(orders) > 0 && len(all) < setsInOne && len(quiet) < examinedAtOnce {
		o, err := t.x.store.Order(ctx, orders[0].ID)
		if err != nil {
			return nil, nil, nil, err
		}
		at := orders[0]
		orders = orders[1:]
		if len(t.want.Orders) > 0 && !contains(t.want.Orders, o.Number) && !contains(t.want.Orders, o.SenderNumber) {
			continue
		}
		said, err := t.telling(ctx, o)
		if err != nil {
			return nil, nil, nil, err
		}
		if len(said) == 0 {
			quiet = append(quiet, at)
		}
		all = append(all, said...)
	}
	return all, quiet, orders, nil
}

// telling is what sets of a kind would say about an order.
func (t *teller) telling(ctx context.Context, o *store.StoredOrder) ([]telling, error) {
	x, want := t.x, t.want
	before, err := x.store.Said(ctx, "out", want.Set, o.ID)
	if err != nil {
		return nil, err
	}
	refused, err := t.refused(ctx, o.ID, want.Set, before)
	if err != nil {
		return nil, err
	}
	if len(refused) > 0 && !numbered[want.Set] {
		return nil, nil
	}
	is := order.Seller(&o.Order)
	now := x.now()
	today := order.Date(now.Format(time.DateOnly))
	var view order.Order
	switch want.Set {
	case "850":
		statuses := want.Status
		if len(statuses) == 0 {
			statuses = []string{string(order.Confirmed)}
		}
		if len(before) > 0 || o.OnHold != "" || !contains(statuses, string(o.Status)) || want.From != "" &&
			string(o.OrderedOn) < want.From || want.To != "" && string(o.OrderedOn) > want.To {
			return nil, nil
		}
		view = is
		view.StatedTotal = o.Total
	case "860":
		first, err := x.store.Said(ctx, "out", "850", o.ID)
		if err != nil || len(first) == 0 {
			return nil, err
		}
		was, err := x.store.AsOf(ctx, o.ID, lastOf(append(first, before...)))
		if err != nil || was == nil {
			return nil, err
		}
		last := order.Seller(was)
		view = notice.Changes(&last, &is, strconv.Itoa(len(before)+1), today)
		if len(view.Lines) == 0 {
			return nil, nil
		}
		view.StatedTotal = o.Total
	case "855", "865":
		came, err := x.store.Said(ctx, "in", answersTo[want.Set], o.ID)
		if err != nil {
			return nil, err
		}
		told, err := answersOf(before)
		if err != nil {
			return nil, err
		}
		if told >= len(came) {
			return t.unasked(ctx, o, &is, before, came)
		}
		asked, err := x.asked(ctx, &came[told], o)
		if err != nil {
			return nil, err
		}
		var answers []order.Answered // since then
		for _, a := range o.Answers {
			if a.Revision > came[told].First().Revision {
				answers = append(answers, a)
			}
		}
		view = notice.Confirm(asked, &is, answers, today)
		if want.Set == "865" {
			then, err := x.asOf(ctx, o, revisionBefore(o, &came[told]))
			if err != nil {
				return nil, err
			}
			notice.Answered(&view, asked, &is, &then, answers)
			if asked.Statement != nil {
				view.Statement.Number = asked.Statement.Number
			}
			return []telling{about(o, view)}, nil // also where only the header was to change
		}
	case "856":
		return t.shipped(ctx, o)
	case "810":
		return t.invoices(ctx, o, before, refused)
	}
	if len(view.Lines) == 0 {
		return nil, nil
	}
	return []telling{about(o, view)}, nil
}

// asOf is an order as it was at a revision, as the seller sees it.
func (x *Exchange) asOf(ctx context.Context, o *store.StoredOrder, revision int) (order.Order, error) {
	was, err := x.store.AsOf(ctx, o.ID, revision)
	if err != nil {
		return order.Order{}, err
	}
	return order.Seller(cmp.Or(was, &o.Order)), nil
}

// revisionBefore is the revision that an order had before what a set asks for was done, or put aside.
func revisionBefore(o *store.StoredOrder, s *api.SetRecord) int {
	at := s.First().Revision
	for i := range o.Events {
		if e := &o.Events[i]; e.Revision == at && s.LoadID != 0 && e.Origin.Load == s.LoadID {
			return at - 1
		}
	}
	return at
}

// answersTo says which set of the partner's each answer is to.
var answersTo = map[string]string{"855": "850", "865": "860"}

// numbered are the sets of which an order can have several, each under a number of its own.
var numbered = map[string]bool{"856": true, "810": true}

// refused are the numbers of what the partner rejected in sets of a kind about an order, if nothing was said about the
// same since. Only a person sends it again: the partner would reject it once more. Sets without a number have "".
func (t *teller) refused(ctx context.Context, id int64, set string, before []api.SetRecord) (map[string]bool, error) {
	if !t.fresh {
		return nil, nil
	}
	list, err := t.x.store.Refused(ctx, set, id)
	if err != nil || len(list) == 0 {
		return nil, err
	}
	last := map[string]int64{}
	for _, s := range before {
		number, err := numberOf(&s)
		if err != nil {
			return nil, err
		}
		last[number] = s.Interchange
	}
	refused := map[string]bool{}
	for _, s := range list {
		number, err := numberOf(&s)
		if err != nil {
			return nil, err
		}
		if s.Interchange > last[number] {
			refused[number] = true
		}
	}
	return refused, nil
}

// numberOf is the number of what a set is about; "" if sets of its kind have none of their own.
func numberOf(s *api.SetRecord) (string, error) {
	if !numbered[s.Kind] {
		return "", nil
	}
	v, err := viewOf(s)
	if err != nil || v.Statement == nil {
		return "", err
	}
	return v.Statement.Number, nil
}

// viewOf is what a set says about its order.
func viewOf(s *api.SetRecord) (v order.Order, err error) {
	if err := json.Unmarshal(s.First().Said, &v); err != nil {
		return v, fmt.Errorf("set %d of interchange %d: %w", s.Seq, s.Interchange, err)
	}
	return v, nil
}

// toldOf are the notices of a kind that were sent about an order, by the numbers of what they are about: the last of
// each.
func toldOf(before []api.SetRecord) (map[string]order.Order, error) {
	told := map[string]order.Order{}
	for _, s := range before {
		v, err := viewOf(&s)
		if err != nil {
			return nil, err
		}
		if v.Statement != nil {
			told[v.Statement.Number] = v
		}
	}
	return told, nil
}

// shipped are the notices of those shipments of an order that were not sent yet, or that have changed since.
func (t *teller) shipped(ctx context.Context, o *store.StoredOrder) (all []telling, err error) {
	known := map[int64]*goods{o.ID: {of: o}}
	for i := range o.Movements {
		m := &o.Movements[i]
		if m.Kind != order.Shipment || m.Reverses != "" || t.shipments[m.Number] {
			continue
		}
		t.shipments[m.Number] = true
		one, err := t.shipment(ctx, o, known, m.Number)
		if err != nil {
			return nil, err
		}
		if one != nil {
			all = append(all, *one)
		}
	}
	return all, nil
}

// goods are the shipments of an order, as they are and as its partner was told about them.
type goods struct {
	of      *store.StoredOrder
	is      map[string]order.Order // what is left of each, by number
	told    map[string]order.Order // the last notice of each
	refused map[string]bool
}

// goodsOf returns the shipments of an order. It is asked once for each order that shares shipments with another.
func (t *teller) goodsOf(ctx context.Context, known map[int64]*goods, id int64) (*goods, error) {
	if g := known[id]; g != nil && g.is != nil {
		return g, nil
	}
	g := cmp.Or(known[id], &goods{})
	var err error
	if g.of == nil {
		if g.of, err = t.x.store.Order(ctx, id); err != nil {
			return nil, err
		}
	}
	before, err := t.x.store.Said(ctx, "out", "856", id)
	if err != nil {
		return nil, err
	}
	if g.told, err = toldOf(before); err != nil {
		return nil, err
	}
	if g.refused, err = t.refused(ctx, id, "856", before); err != nil {
		return nil, err
	}
	if g.is, err = t.x.shipmentsOf(g.of); err != nil {
		return nil, err
	}
	known[id] = g
	return g, nil
}

// shipment is the notice of a shipment, with all the orders that it is of, or nil if the partner knows it as it is. If
// a part or all of it was taken back since, the partner is told that it is replaced or cancelled.
func (t *teller) shipment(ctx context.Context, o *store.StoredOrder, all map[int64]*goods, number string) (*telling,
	error) {
	ids, err := t.x.store.OrdersMoved(ctx, order.Shipment, o.Partner, number)
	if err != nil {
		return nil, err
	}
	var out telling
	known, same, cancelled := false, true, true // of what the partner was told
	var was []spoken
	for _, id := range ids {
		g, err := t.goodsOf(ctx, all, id)
		if err != nil || g.refused[number] {
			return nil, err
		}
		view, is := g.is[number]
		if !is {
			return nil, fmt.Errorf("order %s has no shipment %s", g.of.Number, number)
		}
		last, wasTold := g.told[number]
		switch {
		case wasTold:
			known = true
			was = append(was, spoken{g.of, last})
			same = same && sameGoods(&last, &view)
			cancelled = cancelled && last.Statement.Code == notice.Cancelled
		case len(view.Lines) > 0:
			same, cancelled = false, false
		default:
			continue // it was taken back before anybody heard of it
		}
		out.of = append(out.of, spoken{g.of, view})
	}
	left := len(out.views())
	switch {
	case !known && left == 0, known && (cancelled || same):
		return nil, nil
	case left == 0:
		out.of = was
		out.purpose(notice.Cancelled)
	case known:
		out.purpose(notice.Replaced)
	}
	return &out, nil
}

// purpose adds their purposes to the notices.
func (t *telling) purpose(code string) {
	for i := range t.of {
		said := *t.of[i].view.Statement
		said.Code = code
		t.of[i].view.Statement = &said
	}
}

// shipmentsOf is what is left of each shipment of an order, by its number.
func (x *Exchange) shipmentsOf(o *store.StoredOrder) (map[string]order.Order, error) {
	now := x.now()
	is := order.Seller(&o.Order)
	var err error
	back := map[string]map[int]order.Number{} // what was taken back, by shipments and ids of lines
	for i := range o.Movements {
		m := &o.Movements[i]
		if m.Kind != order.Shipment || m.Reverses == "" {
			continue
		}
		if back[m.Reverses] == nil {
			back[m.Reverses] = map[int]order.Number{}
		}
		for _, l := range m.Lines {
			if back[m.Reverses][l.Line], err = back[m.Reverses][l.Line].Sub(l.Quantity); err != nil {
				return nil, err
			}
		}
	}
	views := map[string]order.Order{}
	sofar := map[int]order.Number{}
	for i := range o.Movements {
		m := &o.Movements[i]
		if m.Kind != order.Shipment || m.Reverses != "" {
			continue
		}
		for _, l := range m.Lines {
			if sofar[l.Line], err = sofar[l.Line].Add(l.Quantity); err != nil {
				return nil, err
			}
		}
		for line, q := range back[m.Number] {
			if sofar[line], err = sofar[line].Sub(q); err != nil {
				return nil, err
			}
		}
		if _, known := views[m.Number]; known {
			continue
		}
		if views[m.Number], err = notice.Ship(&is, m, back[m.Number], sofar, order.Date(now.Format(time.DateOnly)),
			now.Format("1504")); err != nil {
			return nil, err
		}
	}
	return views, nil
}

// sameGoods reports whether two notices state the same shipped quantity for each line.
func sameGoods(a, b *order.Order) bool {
	return slices.EqualFunc(a.Lines, b.Lines, func(x, y order.Line) bool {
		return x.Number == y.Number && x.Quantity.Cmp(y.Quantity) == 0
	})
}

// invoices are the invoices and credit notes of an order that were not sent yet. What was shipped and not billed is
// billed first, unless this is a trial.
func (t *teller) invoices(ctx context.Context, o *store.StoredOrder, before []api.SetRecord,
	refused map[string]bool) (all []telling, err error) {
	x := t.x
	told, err := toldOf(before)
	if err != nil {
		return nil, err
	}
	o, wrong, err := x.billed(ctx, o, t.want.Try, t.by)
	if err != nil {
		return nil, err
	}
	is := order.Seller(&o.Order)
	for i := range o.Invoices {
		v := &o.Invoices[i]
		if _, known := told[v.Number]; known || refused[v.Number] {
			continue
		}
		view, err := notice.Bill(&is, v, order.Date(x.now().Format(time.DateOnly)), t.m.OfLine)
		if err != nil {
			return nil, err
		}
		if len(view.Lines) == 0 {
			continue
		}
		one := about(o, view)
		of, err := x.store.OrdersBilled(ctx, v.Partner, v.Number)
		if err != nil {
			return nil, err
		}
		if len(of) > 1 {
			f := finding.New(finding.NoticeDiffers, origin.Place{}, v.Number, "The invoice %s is of several orders (%s). "+
				"An 810 is of one order: each is told in a set of its own, under the same number.", v.Number,
				strings.Join(of, ", "))
			f.Hint = "If the partner takes the number only once, bill each order under a number of its own."
			one.noted = append(one.noted, f)
		}
		all = append(all, one)
	}
	if len(wrong) > 0 { // behind the invoices that can leave, it waits for a person, who sees why
		held := about(o, order.Order{Kind: o.Kind, Number: o.Number})
		held.wrong = wrong
		all = append(all, held)
	}
	return all, nil
}

// billed bills what was shipped of an order and never billed, and returns the order with its invoices. What a credit
// note gave back, for goods that did not come back, is not billed again automatically. Findings say why it cannot be
// billed.
func (x *Exchange) billed(ctx context.Context, o *store.StoredOrder, try bool, by string) (*store.StoredOrder,
	[]finding.Finding, error) {
	n := api.Notice{Header: map[string]string{"invoiced_on": x.now().Format(time.DateOnly)}}
	credited := map[int]order.Number{}
	for i := range o.Invoices {
		for _, v := range o.Invoices[i].Lines {
			if v.Quantity.Sign() >= 0 {
				continue
			}
			var err error
			if credited[v.Line], err = credited[v.Line].Sub(v.Quantity); err != nil {
				return nil, nil, err
			}
		}
	}
	for i := range o.Lines {
		l := &o.Lines[i]
		settled := l.Returned
		if c := credited[l.ID]; c.Cmp(settled) > 0 {
			settled = c
		}
		due, err := l.Shipped.Sub(l.Invoiced)
		if err == nil {
			due, err = due.Sub(settled)
		}
		if err != nil {
			return nil, nil, err
		}
		if due.Sign() > 0 {
			n.Lines = append(n.Lines, map[string]string{"id": strconv.Itoa(l.ID), "quantity": due.Plain()})
		}
	}
	if len(n.Lines) == 0 || o.OnHold != "" {
		return o, nil, nil
	}
	body, err := json.Marshal(n)
	if err != nil {
		return nil, nil, err
	}
	t := load.Telling{Kind: intent.Invoice, Order: o.ID, Body: body, By: by}
	if try {
		o, err = x.engine.ImagineTold(ctx, t, &n)
		return o, nil, err
	}
	p, err := x.engine.Tell(ctx, t, &n)
	if err != nil {
		return nil, nil, err
	}
	if p.Outcome.Failed() {
		return o, unbilled(p.Findings), nil
	}
	o, err = x.store.Order(ctx, o.ID)
	return o, nil, err
}

// unbilled are the findings that prevent billing what was shipped. They also prevent the invoice from being sent, even
// if they would be less severe where a person bills.
func unbilled(found []finding.Finding) (wrong []finding.Finding) {
	for _, f := range found {
		f.Severity, f.Message = finding.Error, "What was shipped cannot be billed. "+f.Message
		wrong = append(wrong, f)
	}
	if len(wrong) == 0 {
		wrong = append(wrong, finding.New(finding.X12Rule, origin.Place{}, "", "What was shipped cannot be billed."))
	}
	return wrong
}
