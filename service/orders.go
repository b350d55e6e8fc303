package service

import (
	"context"
	"fmt"
	"net/http"
	"strconv"

	"github.com/danielgtaylor/huma/v2"

	"koinos/core/order"
	"koinos/core/report"
	"koinos/load"
	"koinos/store"
)

func (s *Service) orders(api huma.API) {
	const tag = "Orders"
	type list struct {
		Paging
		Kind    string `query:"kind" enum:"sales,purchase"`
		Status  string `query:"status" enum:"draft,open,confirmed,partial,complete,cancelled"`
		Partner string `query:"partner" doc:"Our code of the customer or supplier"`
		Number  string `query:"number" doc:"Exactly this number"`
		Text    string `query:"text" doc:"Beginning of the number, the sender's number or the partner"`
		Load    int64  `query:"load" doc:"Only orders that this load stored"`
	}
	handle(s, api, op(http.MethodGet, "/orders", "list-orders", tag, "read", "List orders, newest first"),
		func(ctx context.Context, in *list) (*paged[store.OrderSummary], error) {
			before, err := in.Paging.number()
			if err != nil {
				return nil, err
			}
			orders, err := s.store.Orders(ctx, store.OrderFilter{Kind: in.Kind, Status: in.Status, Partner: in.Partner, Number: in.Number,
				Text: in.Text, Load: in.Load, Before: before, Limit: in.Limit + 1})
			if err != nil {
				return nil, err
			}
			return pageOf(ctx, orders, in.Limit, func(o store.OrderSummary) string { return strconv.FormatInt(o.ID, 10) }), nil
		})

	type one struct {
		ID int64 `path:"id" doc:"The order's id"`
	}
	type tagged struct {
		ETag string `header:"ETag" doc:"The order's revision"`
		Body *store.StoredOrder
	}
	handle(s, api, op(http.MethodGet, "/orders/{id}", "get-order", tag, "read", "An order with its lines, events and where its values came from"),
		func(ctx context.Context, in *one) (*tagged, error) {
			o, err := s.store.Order(ctx, in.ID)
			if err != nil {
				return nil, err
			}
			return &tagged{ETag: fmt.Sprintf(`"%d-%d"`, o.ID, o.Revision), Body: o}, nil
		})

	type post struct {
		Again report.Again `query:"again" enum:"refuse,skip,update,revise" doc:"What it means where the order is stored already; left out, skip"`
		Body  order.Order
	}
	type created struct {
		Status   int
		Location string `header:"Location"`
		Body     load.Posted
	}
	single := op(http.MethodPost, "/orders", "post-order", tag, "load", "Store one order")
	single.Description = "In Koinos's own form. It is on the disk when the answer comes (orders that arrive together share a commit), 201 where it is new, 200 where it was stored already. One that was refused is answered with its findings. Send an Idempotency-Key, or rely on the sender's number: the same order is never stored twice."
	single.Errors = append(single.Errors, http.StatusUnprocessableEntity)
	handle(s, api, single, func(ctx context.Context, in *post) (*created, error) {
		p, err := s.engine.Post(ctx, &in.Body, in.Again, callerOf(ctx).name)
		if err != nil {
			return nil, err
		}
		if p.Outcome == report.Refused {
			refused := problem("order_refused", "The findings say why.")
			refused.Findings = p.Findings
			return nil, refused
		}
		status := http.StatusOK
		if p.Outcome == report.Loaded {
			status = http.StatusCreated
		}
		return &created{status, fmt.Sprintf("/api/v1/orders/%d", p.OrderID), p}, nil
	})
}
