package exchange

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"time"

	"koinos/api"
	"koinos/core/intent"
	"koinos/core/notice"
	"koinos/core/order"
	"koinos/load"
	"koinos/store"
)

// telling is what sets of a kind would say of an order.
func (x *Exchange) telling(ctx context.Context, o *store.StoredOrder, want api.Wanted, by string) ([]telling,
	error) {
	before, err := x.store.Said(ctx, "out", want.Set, o.ID)
	if err != nil {
		return nil, err
	}
	is := order.Seller(&o.Order)
	now := x.now()
	today := order.Date(now.Format(time.DateOnly))
	t := telling{order: o}
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
		t.view = is
		t.view.StatedTotal = o.Total
	case "860":
		first, err := x.store.Said(ctx, "out", "850", o.ID)
		if err != nil || len(first) == 0 {
			return nil, err
		}
		was, err := x.store.AsOf(ctx, o.ID, lastOf(append(first, before...)).Revision)
		if err != nil || was == nil {
			return nil, err
		}
		last := order.Seller(was)
		t.view = notice.Changes(&last, &is, strconv.Itoa(len(before)+1), today)
		if len(t.view.Lines) == 0 {
			return nil, nil
		}
		t.view.StatedTotal = o.Total
	case "855", "865":
		came, err := x.store.Said(ctx, "in", map[string]string{"855": "850", "865": "860"}[want.Set], o.ID)
		if err != nil || len(before) >= len(came) {
			return nil, err
		}
		asked, err := x.asked(ctx, &came[len(before)], o)
		if err != nil {
			return nil, err
		}
		var answers []order.Answered // since then
		for _, a := range o.Answers {
			if a.Revision > came[len(before)].Revision {
				answers = append(answers, a)
			}
		}
		t.view = notice.Confirm(asked, &is, answers, today)
		if want.Set == "865" {
			notice.Answered(&t.view, asked)
		}
	case "856":
		return x.shipments(o, &is, before)
	case "810":
		return x.invoices(ctx, o, before, want.Try, by)
	}
	if len(t.view.Lines) == 0 {
		return nil, nil
	}
	return []telling{t}, nil
}

// toldOf are the notices of a kind that were said of an order, by the numbers of what they speak of: the last of each.
func toldOf(before []api.SetRecord) (map[string]order.Order, error) {
	told := map[string]order.Order{}
	for _, s := range before {
		var v order.Order
		if err := json.Unmarshal(s.Said, &v); err != nil {
			return nil, fmt.Errorf("set %d of interchange %d: %w", s.Seq, s.Interchange, err)
		}
		if v.Statement != nil {
			told[v.Statement.Number] = v
		}
	}
	return told, nil
}

// shipments are the notices of those shipments of an order that were not said yet, or not as they are now: of one that
// was taken back since, in part or whole, the partner is told that it is replaced or cancelled.
func (x *Exchange) shipments(o *store.StoredOrder, is *order.Order, before []api.SetRecord) (all []telling, err error) {
	told, err := toldOf(before)
	if err != nil {
		return nil, err
	}
	now := x.now()
	sofar := map[int]order.Number{}
	for i := range o.Movements {
		m := &o.Movements[i]
		if m.Kind != order.Shipment || m.Reverses != "" {
			continue
		}
		back := map[int]order.Number{}
		for k := range o.Movements {
			if r := &o.Movements[k]; r.Kind == order.Shipment && r.Reverses == m.Number {
				for _, l := range r.Lines {
					if back[l.Line], err = back[l.Line].Sub(l.Quantity); err != nil {
						return nil, err
					}
				}
			}
		}
		for _, l := range m.Lines {
			if sofar[l.Line], err = sofar[l.Line].Add(l.Quantity); err != nil {
				return nil, err
			}
		}
		for line, q := range back {
			if sofar[line], err = sofar[line].Sub(q); err != nil {
				return nil, err
			}
		}
		view, err := notice.Ship(is, m, back, sofar, order.Date(now.Format(time.DateOnly)), now.Format("1504"))
		if err != nil {
			return nil, err
		}
		was, known := told[m.Number]
		switch {
		case !known && len(view.Lines) == 0, known && was.Statement.Code == notice.Cancelled, known && sameGoods(&was, &view):
			continue
		case known && len(view.Lines) == 0:
			view = was
			said := *was.Statement
			said.Code = notice.Cancelled
			view.Statement = &said
		case known:
			view.Statement.Code = notice.Replaced
		}
		all = append(all, telling{order: o, view: view})
	}
	return all, nil
}

// sameGoods reports whether two notices say that as much of each line has left.
func sameGoods(a, b *order.Order) bool {
	return slices.EqualFunc(a.Lines, b.Lines, func(x, y order.Line) bool {
		return x.Number == y.Number && x.Quantity.Cmp(y.Quantity) == 0
	})
}

// invoices are the invoices and credit notes of an order that were not said yet. What was shipped and nobody has billed
// is billed first, unless it is only tried.
func (x *Exchange) invoices(ctx context.Context, o *store.StoredOrder, before []api.SetRecord, try bool,
	by string) (all []telling, err error) {
	told, err := toldOf(before)
	if err != nil {
		return nil, err
	}
	if o, err = x.billed(ctx, o, try, by); err != nil {
		return nil, err
	}
	is := order.Seller(&o.Order)
	for i := range o.Invoices {
		v := &o.Invoices[i]
		if _, known := told[v.Number]; known {
			continue
		}
		view, err := notice.Bill(&is, v, order.Date(x.now().Format(time.DateOnly)))
		if err != nil {
			return nil, err
		}
		if len(view.Lines) > 0 {
			all = append(all, telling{order: o, view: view})
		}
	}
	return all, nil
}

// billed bills what was shipped of an order and never was billed, and gives the order with its invoices. What was given
// back by a credit note, for goods that did not come back, is not billed again by itself.
func (x *Exchange) billed(ctx context.Context, o *store.StoredOrder, try bool, by string) (*store.StoredOrder, error) {
	n := api.Notice{Header: map[string]string{"invoiced_on": x.now().Format(time.DateOnly)}}
	for i := range o.Lines {
		l := &o.Lines[i]
		var credited order.Number
		var errs [4]error
		for k := range o.Invoices {
			for _, v := range o.Invoices[k].Lines {
				if v.Line == l.ID && v.Quantity.Sign() < 0 && errs[0] == nil {
					credited, errs[0] = credited.Sub(v.Quantity)
				}
			}
		}
		settled := l.Returned
		if credited.Cmp(settled) > 0 {
			settled = credited
		}
		due, err := l.Shipped.Sub(l.Invoiced)
		errs[1] = err
		due, errs[2] = due.Sub(settled)
		if errs[3] = errors.Join(errs[:3]...); errs[3] != nil {
			return nil, errs[3]
		}
		if due.Sign() > 0 {
			n.Lines = append(n.Lines, map[string]string{"id": strconv.Itoa(l.ID), "quantity": due.Plain()})
		}
	}
	if len(n.Lines) == 0 || o.OnHold != "" {
		return o, nil
	}
	body, err := json.Marshal(n)
	if err != nil {
		return nil, err
	}
	t := load.Telling{Kind: intent.Invoice, Order: o.ID, Body: body, By: by}
	if try {
		return x.engine.ImagineTold(ctx, t, &n)
	}
	p, err := x.engine.Tell(ctx, t, &n)
	if err != nil {
		return nil, err
	}
	if p.Outcome.Failed() {
		x.log.Warn("what was shipped is not billed", "order", o.Number, "outcome", p.Outcome)
		return o, nil
	}
	return x.store.Order(ctx, o.ID)
}
