package service

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"

	"github.com/danielgtaylor/huma/v2"

	"koinos/api"
	"koinos/core/finding"
	"koinos/core/intent"
	"koinos/core/listing"
	"koinos/core/order"
	"koinos/core/report"
	"koinos/store"
)

// export sends stored orders as a table of columns that the caller chooses, without a mapping.
func (s *Service) export(h huma.API) {
	type asked struct {
		OfOrders
		Order  []int64        `query:"order" maxItems:"10000" doc:"Ids of orders, instead of what narrows them"`
		Column []string       `query:"column" maxItems:"200" doc:"Columns by the names of fields, those of lines behind lines.; also id, kind, status, revision, lines, goods, tax, total, lines.id, lines.amount, lines.moved, lines.open, lines.invoiced. By default the usual ones"`
		Layout listing.Layout `query:"layout" enum:"every,first,order,apart" default:"every" doc:"every: a line a row, with the facts of its order; first: these on the order's first line only; order: an order a row; apart: orders and lines apart, which are two sheets of a workbook, or objects of JSON with a list of lines"`
		Open   bool           `query:"open" doc:"Only lines of which something is to move still"`
		For    intent.Kind    `query:"for" enum:"change,shipment,receipt,return,invoice" doc:"What the table is to be filled in for: it gets the columns that are needed for that, and export-mapping gives the mapping that takes it in"`
		Sums   bool           `query:"sums" doc:"Counts and sums under the table: of amounts by currency, of quantities by unit"`
		Since  int64          `query:"since" default:"-1" minimum:"-1" doc:"Only orders to which something happened behind this position of the change feed; the header Koinos-Position of the answer is the one for the next time"`
		Format string         `query:"format" enum:"csv,tsv,xlsx,ods,json,ndjson" default:"csv"`
	}
	o := op(http.MethodGet, "/orders/export", "export-orders", "Orders", "read",
		"Orders as a table of chosen columns, newest first")
	o.Description = "It is sent as it is read, however many there are."
	var kinds []string
	for _, form := range report.Tables {
		kinds = append(kinds, form.Type)
	}
	o.Responses = file("The table", kinds...)
	o.Errors = append(o.Errors, http.StatusUnprocessableEntity)
	handle(s, h, o, func(ctx context.Context, in *asked) (*huma.StreamResponse, error) {
		choice := listing.Choice{Columns: in.Column, Layout: in.Layout, Open: in.Open, For: in.For, Sums: in.Sums}
		form := report.Tables[in.Format]
		l, err := listing.New(choice)
		if err == nil {
			err = canHold(form, in.Format, l)
		}
		if err != nil {
			return nil, problem("invalid_request", finding.Capital(err.Error())+".")
		}
		if of := string(choice.Of()); of != "" {
			if in.Kind != "" && in.Kind != of {
				return nil, problem("invalid_request", "A table for a "+string(in.For)+" is of "+of+" orders.")
			}
			in.Kind = of
		}
		ids, position := in.Order, int64(0)
		if in.Since >= 0 {
			if in.Load != 0 || len(in.Order) > 0 || !in.Changed.IsZero() {
				return nil, problem("invalid_request", "since goes with none of load, order and changed_since.")
			}
			if ids, position, err = s.store.ChangedOrders(ctx, in.Since); err != nil {
				return nil, err
			}
		}
		f, err := s.filter(ctx, &in.OfOrders)
		if err == nil {
			err = s.exported(ctx, in.Order, &f)
		}
		if err != nil {
			return nil, err
		}
		sent := stream(form.Type, "orders."+in.Format, func(w io.Writer) error {
			table, err := form.Begin(w, l.Sheets()...)
			if err != nil {
				return err
			}
			one := func(o *order.Order) error {
				if !f.Fits(o) {
					return nil
				}
				return l.Rows(o, table.Add)
			}
			if in.Since >= 0 || len(ids) > 0 {
				err = s.store.EachOrderOf(ctx, ids, one)
			} else {
				err = s.store.EachOrder(ctx, f, one)
			}
			if err == nil {
				err = l.Under(table.Add)
			}
			return table.Close(err)
		}, s)
		if in.Since < 0 {
			return sent, nil
		}
		body := sent.Body
		sent.Body = func(c huma.Context) {
			c.SetHeader("Koinos-Position", strconv.FormatInt(position, 10))
			body(c)
		}
		return sent, nil
	})
	s.exportColumns(h)
	s.exportMapping(h)
	s.keptExports(h)
}

// canHold refuses a listing that the format cannot express.
func canHold(form report.TableFormat, name string, l *listing.Listing) error {
	if len(l.Sheets()) > form.Sheets {
		return fmt.Errorf("the layout %s makes two tables, and %s holds one: choose xlsx, ods, json or ndjson", l.Layout,
			name)
	}
	if l.Sums && form.Values {
		return fmt.Errorf("there are no sums in %s, because programs would read them as orders: choose csv, tsv, xlsx or ods",
			name)
	}
	return nil
}

// exported refuses named orders that would be left out silently.
func (s *Service) exported(ctx context.Context, ids []int64, f *store.OrderFilter) error {
	if len(ids) == 0 {
		return nil
	}
	of := *f
	of.Kind, of.Partners = "", nil
	if !of.All() {
		return problem("invalid_request", "order names orders: leave out what narrows them, but for kind.")
	}
	only := callerOf(ctx).only
	heads, err := s.store.HeadsOf(ctx, ids)
	if err != nil {
		return err
	}
	for i, o := range heads {
		if o.ID == 0 || !only.Partner(o.Partner) {
			return fmt.Errorf("order %d: %w", ids[i], store.ErrNotFound)
		}
		if f.Kind != "" && string(o.Kind) != f.Kind {
			return problem("invalid_request", fmt.Sprintf("%s is a %s order, and the table is of %s orders.", o.Number, o.Kind,
				f.Kind))
		}
	}
	return nil
}

// exportColumns lists the columns of a table.
func (s *Service) exportColumns(h huma.API) {
	o := op(http.MethodGet, "/orders/export-columns", "export-columns", "Orders", "read", "The columns that a table of orders can have")
	handle(s, h, o, func(context.Context, *none) (*answer[api.ExportColumns], error) {
		out := api.ExportColumns{Usual: map[string][]string{}}
		for _, c := range listing.Columns() {
			out.Items = append(out.Items, api.ExportColumn(c))
		}
		for layout, columns := range listing.Usual {
			out.Usual[string(layout)] = columns
		}
		return &answer[api.ExportColumns]{out}, nil
	})
}

// exportMapping returns the mapping with which a table can be loaded that was exported to be filled in.
func (s *Service) exportMapping(h huma.API) {
	type asked struct {
		Name   string      `query:"name" required:"true" pattern:"^[a-z0-9][a-z0-9-]{0,79}$" doc:"Name of the mapping"`
		Kind   order.Kind  `query:"kind" enum:"sales,purchase" doc:"Which orders the table is of, where what it is for does not say"`
		Column []string    `query:"column" maxItems:"200" doc:"The columns that were exported; by default the usual ones"`
		For    intent.Kind `query:"for" required:"true" enum:"change,shipment,receipt,return,invoice"`
	}
	o := op(http.MethodGet, "/orders/export-mapping", "export-mapping", "Orders", "read",
		"The mapping that takes in a table of orders that was exported to be filled in")
	o.Description = "It is not kept: import it with put-mapping."
	o.Errors = append(o.Errors, http.StatusUnprocessableEntity)
	handle(s, h, o, func(_ context.Context, in *asked) (*answer[api.ExportMapping], error) {
		choice := listing.Choice{Columns: in.Column, For: in.For}
		l, err := listing.New(choice)
		text := ""
		if err == nil {
			text, err = l.Mapping(in.Name, cmp.Or(choice.Of(), in.Kind))
		}
		if err != nil {
			return nil, problem("invalid_request", finding.Capital(err.Error())+".")
		}
		return &answer[api.ExportMapping]{api.ExportMapping{Name: in.Name, Text: text}}, nil
	})
}

// keptExports are the operations on stored exports.
func (s *Service) keptExports(h huma.API) {
	const tag = "Orders"
	handle(s, h, op(http.MethodGet, "/exports", "list-exports", tag, "read", "List the exports that are kept under names"),
		func(ctx context.Context, _ *none) (*answer[api.Page[api.Export]], error) {
			all, err := s.store.Exports(ctx, "")
			return &answer[api.Page[api.Export]]{api.Page[api.Export]{Items: all}}, err
		})
	type byName struct {
		Name string `path:"name" pattern:"^[a-z0-9][a-z0-9-]{0,79}$"`
	}
	handle(s, h, op(http.MethodGet, "/exports/{name}", "get-export", tag, "read", "An export that is kept under a name"),
		func(ctx context.Context, in *byName) (*answer[api.Export], error) {
			all, err := s.store.Exports(ctx, in.Name)
			if err == nil && len(all) == 0 {
				err = fmt.Errorf("export %s: %w", in.Name, store.ErrNotFound)
			}
			if err != nil {
				return nil, err
			}
			return &answer[api.Export]{all[0]}, nil
		})
	type keeping struct {
		Name string `path:"name" pattern:"^[a-z0-9][a-z0-9-]{0,79}$"`
		Body api.KeepExport
	}
	put := op(http.MethodPut, "/exports/{name}", "put-export", tag, "load", "Keep an export under a name")
	put.Description = "The choice is the query of export-orders. The position is the one that its answer had: " +
		"send it when the file is written, " +
		"and ask for what is new since then the next time."
	put.DefaultStatus = http.StatusOK
	handle(s, h, put, func(ctx context.Context, in *keeping) (*answer[api.Export], error) {
		if _, err := url.ParseQuery(in.Body.Choice); err != nil {
			return nil, problem("invalid_request", "The choice is the query of export-orders, such as partner=PELLOW&open=true.")
		}
		e := api.Export{Name: in.Name, Choice: in.Body.Choice, Position: in.Body.Position, By: callerOf(ctx).name}
		if err := s.store.PutExport(ctx, e, s.now()); err != nil {
			return nil, err
		}
		all, err := s.store.Exports(ctx, in.Name)
		if err != nil || len(all) == 0 {
			return nil, err
		}
		return &answer[api.Export]{all[0]}, nil
	})
	drop := op(http.MethodDelete, "/exports/{name}", "delete-export", tag, "load", "Forget an export")
	handle(s, h, drop, func(ctx context.Context, in *byName) (*none, error) {
		return nil, s.store.DropExport(ctx, in.Name)
	})
}
