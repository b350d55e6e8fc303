package service

import (
	"context"
	"io"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"koinos/core/finding"
	"koinos/core/listing"
	"koinos/core/order"
	"koinos/core/report"
	"koinos/store"
)

// export sends stored orders as a table of columns that the caller chooses, without a mapping.
func (s *Service) export(h huma.API) {
	type asked struct {
		Kind    string         `query:"kind" enum:"sales,purchase"`
		Status  string         `query:"status" enum:"draft,open,confirmed,partial,complete,cancelled"`
		Partner string         `query:"partner" doc:"Our code of the customer or supplier"`
		Text    string         `query:"text" doc:"Beginning of the number, the sender's number or the partner"`
		Load    int64          `query:"load" doc:"Only orders that this load stored"`
		Order   []int64        `query:"order" maxItems:"10000" doc:"Ids of orders, instead of what narrows them"`
		From    order.Date     `query:"from" format:"date" doc:"Ordered on this day or later"`
		To      order.Date     `query:"to" format:"date" doc:"Ordered on this day or earlier"`
		Column  []string       `query:"column" maxItems:"200" doc:"Columns by the names of fields, those of lines behind lines.; also id, kind, status, revision, lines, goods, tax, total, lines.id, lines.amount, lines.moved, lines.open, lines.invoiced. Left out, the usual ones"`
		Layout  listing.Layout `query:"layout" enum:"every,first,order" default:"every" doc:"every: a line a row, with the facts of its order; first: these on the order's first line only; order: an order a row"`
		Open    bool           `query:"open" doc:"Only lines of which something is to move still"`
		Format  string         `query:"format" enum:"csv,tsv,xlsx,json,ndjson" default:"csv"`
	}
	o := op(http.MethodGet, "/orders/export", "export-orders", "Orders", "read", "Orders as a table of chosen columns, newest first")
	o.Description = "It is sent as it is read, however many there are."
	var kinds []string
	for _, form := range report.Tables {
		kinds = append(kinds, form.Type)
	}
	o.Responses = file("The table", kinds...)
	o.Errors = append(o.Errors, http.StatusUnprocessableEntity)
	handle(s, h, o, func(ctx context.Context, in *asked) (*huma.StreamResponse, error) {
		l, err := listing.New(listing.Choice{Columns: in.Column, Layout: in.Layout, Open: in.Open})
		if err != nil {
			return nil, problem("invalid_request", finding.Capital(err.Error())+".")
		}
		if err := s.store.AllThere(ctx, in.Order); err != nil {
			return nil, err
		}
		form, only := report.Tables[in.Format], callerOf(ctx).only
		return stream(form.Type, "orders."+in.Format, func(w io.Writer) error {
			table, err := form.Begin(w, l.Headings())
			if err != nil {
				return err
			}
			report.Numeric(table, l.Numeric())
			one := func(o *order.Order) error {
				if !only.Partner(o.Partner) || in.From != "" && o.OrderedOn < in.From || in.To != "" && (o.OrderedOn > in.To || o.OrderedOn == "") {
					return nil
				}
				return l.Rows(o, table.Add)
			}
			if len(in.Order) > 0 {
				err = s.store.EachOrderOf(ctx, in.Order, one)
			} else {
				err = s.store.EachOrder(ctx, store.OrderFilter{Kind: in.Kind, Status: in.Status, Partner: in.Partner, Text: in.Text,
					Load: in.Load, Partners: only.Partners}, one)
			}
			if err != nil {
				return err
			}
			return table.Close()
		}, s), nil
	})
}
