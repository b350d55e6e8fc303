package service

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"strconv"

	"github.com/danielgtaylor/huma/v2"

	"koinos/api"
	"koinos/core/jsondoc"
	"koinos/core/order"
	"koinos/core/outcome"
	"koinos/core/report"
	"koinos/core/source"
	"koinos/store"
)

// acts are the operations on a load: pause it, fix what failed, load that again, undo it.
func (s *Service) acts(h huma.API) {
	const tag = "Loads"
	after := func(o huma.Operation, about string) huma.Operation {
		o.Description, o.DefaultStatus = about, http.StatusAccepted
		o.Errors = append(o.Errors, http.StatusConflict)
		return o
	}
	handle(s, h, after(op(http.MethodPost, "/loads/{id}/pause", "pause-load", tag, "load", "Pause a load"),
		"It goes on from there with resume-load, also after the service has ended and started again."),
		func(ctx context.Context, in *ByLoad) (*answer[outcome.Load], error) {
			if _, err := s.store.Load(ctx, in.ID); err != nil {
				return nil, err
			}
			if err := s.engine.Pause(ctx, in.ID); err != nil {
				return nil, err
			}
			l, err := s.engine.Wait(ctx, in.ID)
			return &answer[outcome.Load]{l}, err
		})
	handle(s, h, after(op(http.MethodPost, "/loads/{id}/resume", "resume-load", tag, "load",
		"Go on with a paused load"), ""),
		func(ctx context.Context, in *ByLoad) (*answer[outcome.Load], error) {
			l, err := s.engine.Continue(ctx, in.ID)
			return &answer[outcome.Load]{l}, err
		})
	handle(s, h, after(op(http.MethodPost, "/loads/{id}/retry", "retry-load", tag, "load",
		"Load the orders that failed once more"),
		"With the newest mapping and the lists of now. It is a load of its own, of only those orders."),
		func(ctx context.Context, in *ByLoad) (*answer[outcome.Load], error) {
			l, err := s.engine.Retry(ctx, in.ID, nil, callerOf(ctx).name, requestName(ctx))
			return &answer[outcome.Load]{l}, err
		})
	type accept struct {
		ByLoad
		Body api.Acceptance
	}
	handle(s, h, after(op(http.MethodPost, "/loads/{id}/accept", "accept-warnings", tag, "load",
		"Accept warnings that hold orders, for this load"),
		"The orders that failed are loaded once more; the new load says who accepted what."),
		func(ctx context.Context, in *accept) (*answer[outcome.Load], error) {
			l, err := s.engine.Retry(ctx, in.ID, in.Body.Codes, callerOf(ctx).name, requestName(ctx))
			return &answer[outcome.Load]{l}, err
		})
	handle(s, h, op(http.MethodGet, "/loads/{id}/acts", "list-acts", tag, "read",
		"What would fix many findings of a load at once"),
		func(ctx context.Context, in *ByLoad) (*answer[api.Page[api.Act]], error) {
			acts, err := s.engine.Acts(ctx, in.ID)
			return &answer[api.Page[api.Act]]{api.Page[api.Act]{Items: acts}}, err
		})
	type fix struct {
		ByLoad
		Body api.Fix
	}
	handle(s, h, after(op(http.MethodPost, "/loads/{id}/fix", "fix-load", tag, "admin",
		"Fix what failed, and load that once more"),
		"Adds to crosswalks and lists, teaches the mapping forms of dates, accepts warnings; then only the orders "+
			"that failed are loaded again, as a load of its own."),
		func(ctx context.Context, in *fix) (*answer[outcome.Load], error) {
			l, err := s.engine.Fix(ctx, in.ID, in.Body, callerOf(ctx).name, requestName(ctx))
			return &answer[outcome.Load]{l}, err
		})
	type undo struct {
		ByLoad
		DryRun bool `query:"dry_run" doc:"Only say what would happen"`
	}
	back := op(http.MethodPost, "/loads/{id}/undo", "undo-load", tag, "load", "Take back what a load did")
	back.Description = "Orders that it stored go, orders that it changed are as before, where nothing has happened " +
		"to them since; the answer names those that stay."
	back.DefaultStatus = http.StatusOK
	back.Errors = append(back.Errors, http.StatusConflict)
	handle(s, h, back, func(ctx context.Context, in *undo) (*answer[api.Undone], error) {
		u, err := s.engine.Undo(ctx, in.ID, in.DryRun, callerOf(ctx).name)
		return &answer[api.Undone]{u}, err
	})

	refresh := op(http.MethodPost, "/reports/refresh", "refresh-report", tag, "read",
		"Bring a marked copy up to date with what its orders are today")
	refresh.Description = "The body is a marked workbook or CSV; the answer is the same with today's status and " +
		"fields. The header Koinos-Cells says how many cells changed, Koinos-Absent how many rows name an order that " +
		"is not there any more."
	refresh.RequestBody = &huma.RequestBody{Required: true,
		Content: map[string]*huma.MediaType{"application/octet-stream": {Schema: &huma.Schema{Type: "string",
			Format: "binary"}}}}
	refresh.Responses = file("The copy", xlsxType, "text/csv")
	refresh.BodyReadTimeout, refresh.DefaultStatus = -1, http.StatusOK
	handle(s, h, refresh, s.refresh)
}

// marked sends the document of a load with the answers beside its rows; if the load is part of a sequence, with those
// of every step.
func (s *Service) marked(ctx context.Context, l outcome.Load, base string) (*huma.StreamResponse, error) {
	if l.Orders == 0 {
		return nil, noOrders(l.ID)
	}
	sets, opt, err := s.engine.Sets(ctx, l, true)
	if err != nil {
		return nil, err
	}
	d, f, err := s.openDocument(ctx, l.Document)
	if err != nil {
		return nil, err
	}
	write, kind, ext := report.MarkedCSV, "text/csv; charset=utf-8", ".csv"
	if d.Shape.Format == source.XLSX {
		write, kind, ext = report.MarkedWorkbook, xlsxType, ".xlsx"
	}
	return stream(kind, base+ext, func(w io.Writer) error {
		defer f.Close()
		return write(w, f, d.Size, opt, sets)
	}, s), nil
}

// noOrders says that a load has no row beside which an answer could be written.
func noOrders(load int64) error {
	return problem("no_orders", fmt.Sprintf("Load %d came to no order, so there is nothing to mark or to take out; "+
		"its findings say why.", load))
}

// failed sends only the orders of a load's document that were not stored, in the document's own layout.
func (s *Service) failed(ctx context.Context, l outcome.Load, base string) (*huma.StreamResponse, error) {
	if l.Orders == 0 {
		return nil, noOrders(l.ID)
	}
	sets, opt, err := s.engine.Sets(ctx, l, false)
	if err != nil {
		return nil, err
	}
	d, f, err := s.openDocument(ctx, l.Document)
	if err != nil {
		return nil, err
	}
	var write func(io.Writer) error
	kind, ext := "text/csv; charset=utf-8", ".csv"
	switch d.Shape.Format {
	case source.XLSX:
		kind, ext = xlsxType, ".xlsx"
		write = func(w io.Writer) error { return report.FailedWorkbook(w, f, d.Size, opt, sets[0]) }
	case source.ODS:
		kind, ext = odsType, ".ods"
		write = func(w io.Writer) error { return report.FailedODS(w, f, d.Size, opt, sets[0]) }
	case source.JSON, source.NDJSON:
		kind, ext = "application/json", ".json"
		if d.Shape.Format == source.NDJSON {
			kind, ext = "application/x-ndjson", ".ndjson"
		}
		drop, lines, err := s.engine.Succeeded(ctx, l)
		if err != nil {
			f.Close()
			return nil, err
		}
		write = func(w io.Writer) error {
			r := io.NewSectionReader(f, 0, d.Size)
			if d.Shape.Format == source.NDJSON {
				return jsondoc.WithoutLines(w, r, lines)
			}
			return jsondoc.Without(w, r, drop)
		}
	default:
		write = func(w io.Writer) error { return report.FailedCSV(w, f, d.Size, opt, sets[0]) }
	}
	return stream(kind, base+ext, func(w io.Writer) error {
		defer f.Close()
		return write(w)
	}, s), nil
}

func (s *Service) refresh(ctx context.Context, in *upload) (*huma.StreamResponse, error) {
	tmp, err := os.CreateTemp("", "koinos-refresh-*")
	if err != nil {
		return nil, err
	}
	defer os.Remove(tmp.Name())
	defer tmp.Close()
	size, err := io.Copy(tmp, in.body)
	if err != nil {
		return nil, err
	}
	opt := source.Options{Limits: s.cfg.Limits}
	shape, err := source.Sniff(tmp, size, opt)
	if err != nil {
		return nil, err
	}
	out, err := os.CreateTemp("", "koinos-refreshed-*")
	if err != nil {
		return nil, err
	}
	os.Remove(out.Name()) // it lives as long as it is open
	find := func(number string) (*order.Order, error) {
		list, _, err := s.store.Orders(ctx, store.OrderFilter{Number: number, Limit: 2})
		if err != nil || len(list) == 0 {
			return nil, err
		}
		o, err := s.store.Order(ctx, list[0].ID)
		if errors.Is(err, store.ErrNotFound) {
			return nil, nil
		}
		if err != nil {
			return nil, err
		}
		return &o.Order, nil
	}
	var count report.Refreshed
	kind := "text/csv; charset=utf-8"
	if shape.Format == source.XLSX {
		kind = xlsxType
		count, err = report.RefreshWorkbook(out, tmp, size, opt, find)
	} else {
		count, err = report.RefreshCSV(out, tmp, size, opt, find)
	}
	if err != nil {
		out.Close()
		return nil, err
	}
	sent := stream(kind, in.Name, func(w io.Writer) error {
		defer out.Close()
		if _, err := out.Seek(0, io.SeekStart); err != nil {
			return err
		}
		_, err := io.Copy(w, out)
		return err
	}, s)
	body := sent.Body
	sent.Body = func(ctx huma.Context) {
		ctx.SetHeader("Koinos-Rows", strconv.Itoa(count.Rows))
		ctx.SetHeader("Koinos-Cells", strconv.Itoa(count.Cells))
		ctx.SetHeader("Koinos-Absent", strconv.Itoa(count.Absent))
		body(ctx)
	}
	return sent, nil
}
