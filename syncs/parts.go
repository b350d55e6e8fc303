package syncs

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"slices"
	"strings"

	"koinos/api"
	"koinos/core/intent"
	"koinos/core/mapping"
	"koinos/core/order"
	"koinos/core/syncing"
	"koinos/store"
)

// kindOf is the kind of mapping that writes what a push writes.
func kindOf(of string) intent.Kind {
	if of == "" {
		return intent.Order
	}
	return intent.Kind(of)
}

// partsOf lists what of an order a push writes; 0 is the order itself.
func partsOf(o *store.StoredOrder, of string) (parts []int64) {
	switch of {
	case "":
		return []int64{0}
	case syncing.OfShipment, syncing.OfReceipt:
		for i := range o.Movements {
			if string(o.Movements[i].Kind) == of {
				parts = append(parts, o.Movements[i].ID)
			}
		}
	case syncing.OfAnswer:
		for i := range o.Answers {
			parts = append(parts, int64(o.Answers[i].Revision))
		}
	case syncing.OfInvoice:
		for i := range o.Invoices {
			parts = append(parts, o.Invoices[i].ID)
		}
	}
	return parts
}

// partOf returns a part of an order in the form in which mappings read and write such records: the order with a
// statement about it. nil means that the part does not exist any more.
func partOf(o *store.StoredOrder, of string, part int64) *order.Order {
	out := o.Order
	out.Lines = nil
	byID := map[int]*order.Line{}
	for i := range o.Lines {
		byID[o.Lines[i].ID] = &o.Lines[i]
	}
	add := func(id int, set func(*order.Line)) {
		if l := byID[id]; l != nil {
			is := *l
			is.Statement = &order.LineStatement{}
			set(&is)
			out.Lines = append(out.Lines, is)
		}
	}
	switch of {
	case syncing.OfShipment, syncing.OfReceipt:
		for i := range o.Movements {
			m := &o.Movements[i]
			if m.ID != part || string(m.Kind) != of {
				continue
			}
			out.Statement = &order.Statement{Kind: of, Number: m.Number, On: m.On, At: m.At, DueOn: m.DueOn, Carrier: m.Carrier,
				Tracking: m.Tracking, Packages: m.Packages, Reverses: m.Reverses}
			for _, ml := range m.Lines {
				add(ml.Line, func(l *order.Line) { l.Quantity, l.Statement.Lot = ml.Quantity.Abs(), ml.Lot })
			}
			return &out
		}
	case syncing.OfAnswer:
		for i := range o.Answers {
			a := &o.Answers[i]
			if int64(a.Revision) != part {
				continue
			}
			out.Statement = &order.Statement{Kind: of, Number: a.Number, On: a.On, Code: a.Code}
			for _, al := range a.Lines {
				add(al.Line, func(l *order.Line) {
					l.Statement.Code, l.Statement.Accepted, l.Statement.AcceptedUnit = al.Code, al.Quantity, al.Unit
					l.Statement.DueOn, l.Statement.Reason = al.DueOn, al.Reason
				})
			}
			return &out
		}
	case syncing.OfInvoice:
		for i := range o.Invoices {
			v := &o.Invoices[i]
			if v.ID != part {
				continue
			}
			out.Statement = &order.Statement{Kind: of, Number: v.Number, On: v.On}
			out.StatedTotal = v.Total
			for _, vl := range v.Lines {
				add(vl.Line, func(l *order.Line) {
					l.Quantity, l.UnitPrice, l.StatedAmount, l.Amount = vl.Quantity, vl.UnitPrice, vl.Amount, vl.Amount
				})
			}
			return &out
		}
	}
	return nil
}

// revisionOf is the revision with which an order got a part.
func revisionOf(o *store.StoredOrder, of string, part int64) int {
	switch of {
	case syncing.OfShipment, syncing.OfReceipt:
		for i := range o.Movements {
			if m := &o.Movements[i]; m.ID == part && len(m.Lines) > 0 {
				return m.Lines[0].Revision
			}
		}
	case syncing.OfAnswer:
		return int(part)
	case syncing.OfInvoice:
		for i := range o.Invoices {
			if v := &o.Invoices[i]; v.ID == part && len(v.Lines) > 0 {
				return v.Lines[0].Revision
			}
		}
	}
	return 0
}

// withLinks returns an order with what other systems gave it: the number of its record as reference.SYSTEM.RECORD (or
// its key if it has no number), and the key as reference.SYSTEM.RECORD.key.
func withLinks(o *order.Order, links []api.Link) *order.Order {
	out := *o
	out.References = slices.Clone(o.References)
	for i := range links {
		l := &links[i]
		if l.Part != 0 || l.Revision == 0 && l.Base == "" {
			continue
		}
		name := l.System + "." + l.Record
		out.References = append(out.References, order.Reference{Qualifier: name, Value: cmp.Or(l.Number, l.Key)},
			order.Reference{Qualifier: name + ".key", Value: l.Key})
	}
	return &out
}

// fits reports whether a push writes an order.
func (s *Syncs) fits(ctx context.Context, p *syncing.Push, o *store.StoredOrder) (bool, error) {
	if p.Which == nil {
		return true, nil
	}
	is := &o.Order
	if strings.Contains(p.Which.Text, "reference") {
		links, err := s.store.Links(ctx, o.ID)
		if err != nil {
			return false, err
		}
		is = withLinks(is, links)
	}
	return p.Which.Holds(is)
}

// knownAs adds to a linked record what its order is here, as $.koinos, so that mappings can find the order by it. A
// record that is not linked does not change.
func (s *Syncs) knownAs(ctx context.Context, m *mapping.Mapping, l *api.Link, raw []byte) ([]byte, error) {
	if l == nil || l.Part != 0 || !strings.Contains(m.Text, "$.koinos.") {
		return raw, nil
	}
	is, err := s.store.OrderNow(ctx, l.OrderID)
	if errors.Is(err, store.ErrNotFound) {
		return raw, nil
	}
	if err != nil {
		return nil, err
	}
	as, err := json.Marshal(map[string]string{"number": is.Order.Number, "sender_number": is.SenderNumber,
		"partner": is.Partner, "kind": string(is.Kind)})
	if err != nil {
		return nil, err
	}
	at := bytes.LastIndexByte(raw, '}')
	if at < 0 {
		return raw, nil
	}
	between := ","
	if bytes.TrimSpace(raw[:at])[len(bytes.TrimSpace(raw[:at]))-1] == '{' {
		between = ""
	}
	return slices.Concat(raw[:at], []byte(between+`"koinos":`), as, raw[at:]), nil
}

// partLinks links the shipments and the like that a batch brought with the records that they came from, so that they
// are not written back there.
func (s *Syncs) partLinks(ctx context.Context, p *api.Pull, b *batch) (links []api.Link, err error) {
	m, _, err := s.mapping(ctx, p.Mapping)
	if err != nil || m.Kind == intent.Order {
		return nil, err
	}
	made, err := s.made(ctx, b)
	if err != nil {
		return nil, err
	}
	for i := range b.arrivals {
		if made[i] == 0 {
			continue
		}
		a := &b.arrivals[i]
		is, err := s.store.Order(ctx, made[i])
		if errors.Is(err, store.ErrNotFound) {
			continue
		}
		if err != nil {
			return nil, err
		}
		if part := broughtBy(is, string(m.Kind), a.Load, a.Line); part != 0 {
			links = append(links, api.Link{System: a.System, Record: a.Record, OrderID: is.ID, Part: part, Key: a.Key,
				Number: a.Number, Revision: is.Revision})
		}
	}
	return links, nil
}

// broughtBy returns the part of an order that a record of a load brought; 0 if there is none.
func broughtBy(o *store.StoredOrder, of string, load int64, seq int) int64 {
	revision := 0
	for i := range o.Events {
		if e := &o.Events[i]; e.Origin.Load == load && e.Origin.Seq == seq {
			revision = e.Revision
		}
	}
	if revision == 0 {
		return 0
	}
	for i := range o.Movements {
		for _, l := range o.Movements[i].Lines {
			if l.Revision == revision && string(o.Movements[i].Kind) == of {
				return o.Movements[i].ID
			}
		}
	}
	for i := range o.Invoices {
		for _, l := range o.Invoices[i].Lines {
			if l.Revision == revision && of == syncing.OfInvoice {
				return o.Invoices[i].ID
			}
		}
	}
	for i := range o.Answers {
		if o.Answers[i].Revision == revision && of == syncing.OfAnswer {
			return int64(revision)
		}
	}
	return 0
}
