package service

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"koinos/api"
	"koinos/core/order"
	"koinos/core/origin"
	"koinos/core/outcome"
	"koinos/store"
)

// day is the present day, in UTC.
func (s *Service) day() order.Date { return order.Date(s.now().UTC().Format(time.DateOnly)) }

// OfOrders says which orders a call is about.
type OfOrders struct {
	Kind    string     `query:"kind" enum:"sales,purchase"`
	Status  []string   `query:"status" enum:"draft,open,confirmed,partial,complete,cancelled" maxItems:"6" doc:"One of these"`
	Partner string     `query:"partner" doc:"Our code of the customer or supplier"`
	Text    string     `query:"text" doc:"Beginning of the number, the sender's number or the partner"`
	Load    int64      `query:"load" doc:"Only orders that this load stored"`
	From    order.Date `query:"from" format:"date" doc:"Ordered on this day or later"`
	To      order.Date `query:"to" format:"date" doc:"Ordered on this day or earlier"`
	Changed time.Time  `query:"changed_since" doc:"Only orders that are new or to which something happened at this moment or later"`
	Overdue bool       `query:"overdue" doc:"Only orders whose day of delivery is past and of which nothing has moved"`
}

// filter is the store's filter for the request, limited to what the caller may see.
func (s *Service) filter(ctx context.Context, in *OfOrders) (f store.OrderFilter, err error) {
	f = store.OrderFilter{Kind: in.Kind, Statuses: in.Status, Partner: in.Partner, Partners: callerOf(ctx).only.Partners,
		Text: in.Text,
		Load: in.Load, From: in.From, To: in.To}
	if in.Overdue {
		f.Due = s.day()
	}
	if !in.Changed.IsZero() {
		f.Changed, err = s.store.PositionAt(ctx, in.Changed) // 0 is any order: something happened to each
	}
	return f, err
}

func (s *Service) orders(h huma.API) {
	const tag = "Orders"
	type list struct {
		Paging
		OfOrders
		Number string `query:"number" doc:"Exactly this number, apart from letter case"`
		Theirs string `query:"sender_number" doc:"Exactly this number of the sender, apart from letter case"`
	}
	all := op(http.MethodGet, "/orders", "list-orders", tag, "read", "List orders, newest first")
	all.Description = "A page may have fewer orders than asked for, or none, while next says that there are more: what no index " +
		"answers, such as days or a text that begins very many orders, is looked for in the orders for a moment at a time."
	handle(s, h, all,
		func(ctx context.Context, in *list) (*paged[api.OrderSummary], error) {
			before, err := in.Paging.number()
			if err != nil {
				return nil, err
			}
			f, err := s.filter(ctx, &in.OfOrders)
			if err != nil {
				return nil, err
			}
			f.Number, f.SenderNumber, f.Before, f.Limit = in.Number, in.Theirs, before, in.Limit
			orders, next, err := s.store.Orders(ctx, f)
			if err != nil {
				return nil, err
			}
			cursor := ""
			if next != 0 {
				cursor = strconv.FormatInt(next, 10)
			}
			return page(ctx, orders, cursor), nil
		})

	type one struct {
		ID int64 `path:"id" doc:"The order's id"`
	}
	type tagged struct {
		ETag string `header:"ETag" doc:"The order's revision"`
		Body api.StoredOrder
	}
	handle(s, h, op(http.MethodGet, "/orders/{id}", "get-order", tag, "read",
		"An order with its lines, events and where its values came from"),
		func(ctx context.Context, in *one) (*tagged, error) {
			o, err := s.store.Order(ctx, in.ID)
			if err != nil {
				return nil, err
			}
			if err := o.Show(o.Answers); err != nil {
				return nil, err
			}
			out := &tagged{ETag: fmt.Sprintf(`"%d-%d"`, o.ID, o.Revision), Body: shown(o)}
			if o.Kind == order.Purchase {
				if out.Body.Offers, err = order.Offers(&o.Order, o.Answers); err != nil {
					return nil, err
				}
			}
			out.Body.Links, err = s.store.Links(ctx, o.ID)
			return out, err
		})

	type post struct {
		Again   outcome.Again `query:"again" enum:"refuse,skip,update,revise" doc:"What it means where the order is stored already; by default skip"`
		Body    order.Order
		RawBody []byte
	}
	type created struct {
		Status   int
		Location string `header:"Location"`
		Body     api.Posted
	}
	single := op(http.MethodPost, "/orders", "post-order", tag, "load", "Store one order")
	single.Description = "In Koinos's own form. It is on the disk when the answer comes (orders that arrive together " +
		"share a commit), 201 where it is new, 200 where it was stored already. One that was refused is answered " +
		"with its findings. Send an Idempotency-Key, or rely on the sender's number: the same order is never stored twice."
	single.Errors = append(single.Errors, http.StatusUnprocessableEntity)
	handle(s, h, single, func(ctx context.Context, in *post) (*created, error) {
		if err := narrowPost(ctx, in.Body.Partner); err != nil {
			return nil, err
		}
		made, err := s.madeBefore(ctx, in.RawBody)
		if err != nil {
			return nil, err
		}
		if made == nil {
			p, err := s.engine.Post(ctx, &in.Body, in.RawBody, in.Again, callerOf(ctx).name)
			if err != nil {
				return nil, err
			}
			made = &p
		}
		p := *made
		if p.Outcome == outcome.Refused {
			return nil, because(problem("order_refused", "The findings say why."), p.Findings)
		}
		status := http.StatusOK
		if p.Outcome == outcome.Loaded {
			status = http.StatusCreated
		}
		return &created{status, fmt.Sprintf("/api/v1/orders/%d", p.OrderID), p}, nil
	})
}

// shown is a stored order as the API shows it.
func shown(o *store.StoredOrder) api.StoredOrder {
	from, trace := o.Base()
	return api.StoredOrder{Order: o.Order, Load: from.Load, Seq: from.Seq, Document: from.Document,
		DocumentName: from.DocumentName, Mapping: from.Mapping, Version: from.Version,
		Places: placesOf(&o.Order, &trace), Movements: o.Movements, Answers: o.Answers, Invoices: o.Invoices,
		Events: listed(o.Events)}
}

// mostListed is how many changes of an event are listed with an order.
const mostListed = 2_000

func listed(events []api.Event) []api.Event {
	for i := range events {
		if e := &events[i]; len(e.Changes) > mostListed {
			e.LeftOut += len(e.Changes) - mostListed
			e.Changes = slices.Clone(e.Changes[:mostListed])
		}
	}
	return events
}

// placesOf is where the values of an order stand: for its lines those fields that are filled, for sums those that the
// document states.
func placesOf(o *order.Order, trace *origin.Trace) []origin.Located {
	type at struct {
		line  int
		field string
	}
	filled := map[at]bool{}
	o.Each(func(line int, field, _ string) { filled[at{line, field}] = true })
	for n := range o.Lines {
		filled[at{n + 1, ""}] = true
		filled[at{n + 1, "amount"}] = !o.Lines[n].StatedAmount.IsZero()
	}
	return slices.DeleteFunc(trace.All(len(o.Lines)), func(l origin.Located) bool {
		return l.Line > 0 && !filled[at{l.Line, l.Field}]
	})
}

// events is the change feed.
func (s *Service) events(h huma.API) {
	type after struct {
		After int64 `query:"after" minimum:"0" doc:"Number of the last event seen; by default from the first on"`
		Limit int   `query:"limit" minimum:"1" maximum:"1000" default:"100"`
	}
	feed := op(http.MethodGet, "/events", "list-events", "Orders", "read",
		"What happened to orders since an event, oldest first")
	feed.Description = "Events of all orders have one rising number. Ask again with the number of the last one seen; " +
		"an order that was removed leaves its events."
	handle(s, h, feed, func(ctx context.Context, in *after) (*answer[api.Page[api.Event]], error) {
		list, more, err := s.store.Events(ctx, in.After, in.Limit)
		page := api.Page[api.Event]{Items: list}
		if more {
			page.Next = strconv.FormatInt(list[len(list)-1].N, 10)
		}
		return &answer[api.Page[api.Event]]{page}, err
	})
}
