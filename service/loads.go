package service

import (
	"context"
	"encoding/json"
	"io"
	"net/http"
	"path"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/sse"

	"koinos/api"
	"koinos/core/finding"
	"koinos/core/outcome"
	"koinos/core/report"
	"koinos/load"
	"koinos/store"
)

type ByLoad struct {
	ID int64 `path:"id" doc:"The load's id"`
}

func (s *Service) loads(h huma.API) {
	const tag = "Loads"
	type start struct{ Body api.NewLoad }
	begin := op(http.MethodPost, "/loads", "start-load", tag, "load", "Start a load")
	begin.Description = "The answer comes at once; watch the load with get-load or watch-load."
	begin.DefaultStatus = http.StatusAccepted
	handle(s, h, begin, func(ctx context.Context, in *start) (*answer[outcome.Load], error) {
		name, version := in.Body.Mapping, in.Body.Version
		switch text := in.Body.Text; {
		case text != "" && (name != "" || !in.Body.DryRun):
			return nil, problem("invalid_request",
				"mapping_text goes with dry_run, and without mapping; keep the mapping to load through it.")
		case text != "":
			tried, err := s.tryMapping(ctx, text)
			if err != nil {
				return nil, err
			}
			name, version = tried.Name, tried.Version
		case name == "":
			return nil, problem("invalid_request", "Say which mapping.")
		}
		if err := narrowLoad(ctx, name, &in.Body.Options); err != nil {
			return nil, err
		}
		l, err := s.engine.Start(ctx, load.Request{
			Document: in.Body.Document, Mapping: name, Version: version,
			Options: in.Body.Options, By: callerOf(ctx).name, Name: requestName(ctx),
		})
		return &answer[outcome.Load]{l}, err
	})

	type list struct {
		Paging
		Document string `query:"document" doc:"Only loads of this document (whole SHA-256)"`
		Of       string `query:"of" enum:"documents,records" doc:"Only loads of documents that were sent or came in, or only those of records that were pulled from systems"`
	}
	handle(s, h, op(http.MethodGet, "/loads", "list-loads", tag, "read", "List loads, newest first"),
		func(ctx context.Context, in *list) (*paged[outcome.Load], error) {
			before, err := in.number()
			if err != nil {
				return nil, err
			}
			loads, err := s.store.Loads(ctx, store.LoadFilter{Document: in.Document, Before: before,
				Limit: in.Limit + 1, Sent: in.Of == "documents", Pulled: in.Of == "records"})
			if err != nil {
				return nil, err
			}
			for i := range loads { // those that run are further than the store knows
				if !loads[i].Status.Ended() {
					if live, err := s.engine.Get(ctx, loads[i].ID); err == nil {
						loads[i] = live
					}
				}
			}
			return pageOf(ctx, loads, in.Limit, func(l outcome.Load) string { return strconv.FormatInt(l.ID, 10) }), nil
		})

	handle(s, h, op(http.MethodGet, "/loads/{id}", "get-load", tag, "read",
		"A load as it stands, with its findings by reason"),
		func(ctx context.Context, in *ByLoad) (*answer[api.LoadReport], error) {
			rep, err := s.loadReport(ctx, in.ID)
			return &answer[api.LoadReport]{rep}, err
		})

	sse.Register(h, op(http.MethodGet, "/loads/{id}/progress", "watch-load", tag, "read",
		"Watch a load: server-sent events until it has ended"),
		map[string]any{"load": outcome.Load{}, "problem": api.Problem{}}, s.watch)

	cancel := op(http.MethodPost, "/loads/{id}/cancel", "cancel-load", tag, "load", "Stop a load")
	cancel.Description = "Orders that are stored already stay; loading the document again recognises them."
	cancel.DefaultStatus = http.StatusAccepted
	handle(s, h, cancel, func(ctx context.Context, in *ByLoad) (*answer[outcome.Load], error) {
		if _, err := s.store.Load(ctx, in.ID); err != nil {
			return nil, err
		}
		if err := s.engine.Cancel(ctx, in.ID); err != nil {
			return nil, err
		}
		l, err := s.engine.Wait(ctx, in.ID)
		return &answer[outcome.Load]{l}, err
	})

	type findings struct {
		ByLoad
		Paging
		Code     string `query:"code" doc:"Only findings of this code"`
		Severity string `query:"severity" enum:"error,warning"`
		Field    string `query:"field" doc:"Only findings about this field"`
		Order    int    `query:"order" minimum:"0" doc:"Only findings about this order of the document"`
	}
	handle(s, h, op(http.MethodGet, "/loads/{id}/findings", "list-findings", tag, "read", "Findings of a load"),
		func(ctx context.Context, in *findings) (*paged[finding.Finding], error) {
			after, err := in.number()
			if err != nil {
				return nil, err
			}
			if _, err := s.engine.Kept(ctx, in.ID); err != nil {
				return nil, err
			}
			found, err := s.store.Findings(ctx, in.ID, store.FindingFilter{After: int(after), Limit: in.Limit + 1,
				Code: in.Code, Severity: in.Severity, Field: in.Field, Order: in.Order})
			if err != nil {
				return nil, err
			}
			page := pageOf(ctx, found, in.Limit, func(n store.Numbered) string { return strconv.Itoa(n.N) })
			return &paged[finding.Finding]{Link: page.Link,
				Body: api.Page[finding.Finding]{Items: plain(page.Body.Items), Next: page.Body.Next}}, nil
		})

	type outcomes struct {
		ByLoad
		Paging
		Outcome string `query:"outcome" enum:"loaded,changed,ready,differs,unchanged,refused,held,withheld,undone"`
	}
	handle(s, h, op(http.MethodGet, "/loads/{id}/orders", "list-outcomes", tag, "read",
		"What became of each order of a load's document"),
		func(ctx context.Context, in *outcomes) (*paged[outcome.OrderOutcome], error) {
			after, err := in.number()
			if err != nil {
				return nil, err
			}
			if _, err := s.engine.Kept(ctx, in.ID); err != nil {
				return nil, err
			}
			items, more, err := s.store.Outcomes(ctx, in.ID, store.OutcomeFilter{After: int(after), Limit: in.Limit,
				Outcome: in.Outcome})
			if err != nil {
				return nil, err
			}
			next := ""
			if more {
				next = strconv.Itoa(items[len(items)-1].Seq)
			}
			return page(ctx, items, next), nil
		})

	type one struct {
		ByLoad
		Seq int `path:"seq" minimum:"1" doc:"Which order of the document, counted from 1"`
	}
	handle(s, h, op(http.MethodGet, "/loads/{id}/orders/{seq}", "get-paper", tag, "read",
		"One order of a load's document as the mapping understands it, stored or not"),
		func(ctx context.Context, in *one) (*answer[api.Paper], error) {
			p, err := s.paper(ctx, in.ID, in.Seq)
			return &answer[api.Paper]{p}, err
		})

	type rows struct {
		ByLoad
		Sheet string `query:"sheet" doc:"Sheet of a workbook; by default the first that has orders"`
		From  int    `query:"from" minimum:"1" default:"1" doc:"First row"`
		Limit int    `query:"limit" minimum:"1" maximum:"1000" default:"200" doc:"Rows"`
	}
	handle(s, h, op(http.MethodGet, "/loads/{id}/rows", "get-load-rows", tag, "read",
		"Rows of a load's document with what became of them"),
		func(ctx context.Context, in *rows) (*answer[api.RowsOutcome], error) {
			r, err := s.rowsOutcome(ctx, in.ID, rowsInput{Sheet: in.Sheet, From: in.From, Limit: in.Limit})
			return &answer[api.RowsOutcome]{r}, err
		})

	type reportInput struct {
		ByLoad
		Format string `query:"format" enum:"json,csv,marked,failed" default:"json" doc:"json: everything; csv: the findings; marked: the document itself with cells coloured and outcomes beside the rows; failed: the same of only those orders that did not go in"`
	}
	rep := op(http.MethodGet, "/loads/{id}/report", "get-report", tag, "read", "A load's report as a file")
	rep.Responses = file("The report", "application/json", "text/csv", xlsxType, odsType)
	handle(s, h, rep, func(ctx context.Context, in *reportInput) (*huma.StreamResponse, error) {
		return s.report(ctx, in.ID, in.Format)
	})
}

const (
	xlsxType = "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet"
	odsType  = "application/vnd.oasis.opendocument.spreadsheet"
)

func plain(list []store.Numbered) []finding.Finding {
	out := make([]finding.Finding, len(list))
	for i := range list {
		out[i] = list[i].Finding
	}
	return out
}

// watch sends a load as it changes, until it has ended.
func (s *Service) watch(ctx context.Context, in *ByLoad, send sse.Sender) {
	tick := time.NewTicker(progressEvery)
	defer tick.Stop()
	for {
		l, err := s.engine.Get(ctx, in.ID)
		if err != nil {
			if p, ok := s.fail(ctx, err).(*api.Problem); ok {
				_ = send.Data(*p) // the watcher has gone
			}
			return
		}
		if err := send.Data(l); err != nil || l.Status.Ended() {
			return
		}
		select {
		case <-tick.C:
		case <-ctx.Done():
			return
		case <-s.stopped.Done():
			return
		}
	}
}

func (s *Service) paper(ctx context.Context, id int64, seq int) (api.Paper, error) {
	l, err := s.engine.Kept(ctx, id)
	if err != nil {
		return api.Paper{}, err
	}
	p := api.Paper{Findings: []finding.Finding{}}
	if p.Outcome, err = s.store.Outcome(ctx, id, seq); err != nil {
		return p, err
	}
	d, err := s.engine.Draft(ctx, l, seq)
	if err != nil {
		return p, err
	}
	p.Order, p.Places, p.Spans = d.Order, d.Trace.All(len(d.Order.Lines)), d.Spans
	p.Order.Number = p.Outcome.Number
	// What the load found counts, not what today's lists would say.
	found, err := s.store.Findings(ctx, id, store.FindingFilter{Order: seq})
	p.Findings = plain(found)
	return p, err
}

func (s *Service) rowsOutcome(ctx context.Context, id int64, in rowsInput) (api.RowsOutcome, error) {
	l, err := s.engine.Kept(ctx, id)
	if err != nil {
		return api.RowsOutcome{}, err
	}
	in.Document, in.Mapping, in.Version = l.Document, l.Mapping, l.Version
	if in.Sheet == "" {
		sheets, err := s.store.Sheets(ctx, id)
		if err != nil {
			return api.RowsOutcome{}, err
		}
		if len(sheets) > 0 {
			in.Sheet = sheets[0]
		}
	}
	out := api.RowsOutcome{Spans: []outcome.SpanOutcome{}, Findings: []finding.Finding{}}
	if out.Rows, err = s.rows(ctx, &in); err != nil || len(out.Rows.Rows) == 0 {
		return out, err
	}
	last := out.Rows.Rows[len(out.Rows.Rows)-1].Row
	if out.Spans, err = s.store.Spans(ctx, id, out.Sheet, in.From, last, 0); err != nil {
		return out, err
	}
	found, err := s.store.Findings(ctx, id, store.FindingFilter{Sheet: &out.Sheet, FromRow: in.From, ToRow: last})
	out.Findings = plain(found)
	return out, err
}

// findingsPage is how many findings a report reads at a time.
const findingsPage = 2_000

func (s *Service) eachFindings(ctx context.Context, id int64, f func([]finding.Finding) error) error {
	for after := 0; ; {
		found, err := s.store.Findings(ctx, id, store.FindingFilter{After: after, Limit: findingsPage})
		if err != nil || len(found) == 0 {
			return err
		}
		if err := f(plain(found)); err != nil {
			return err
		}
		after = found[len(found)-1].N
	}
}

func (s *Service) report(ctx context.Context, id int64, format string) (*huma.StreamResponse, error) {
	l, err := s.engine.Kept(ctx, id)
	if err != nil {
		return nil, err
	}
	ext := path.Ext(l.DocumentName)
	base := strings.TrimSuffix(l.DocumentName, ext) + "-load-" + strconv.FormatInt(id, 10)
	switch format {
	case "csv":
		return stream("text/csv; charset=utf-8", base+"-findings.csv", func(w io.Writer) error {
			out, err := report.NewFindingsCSV(w)
			if err != nil {
				return err
			}
			if err := s.eachFindings(ctx, id,
				func(list []finding.Finding) error { return out.Add(list...) }); err != nil {
				return err
			}
			return out.Close()
		}, s), nil
	case "marked":
		return s.marked(ctx, l, base)
	case "failed":
		return s.failed(ctx, l, base+"-failed")
	}
	rep, err := s.loadReport(ctx, id)
	if err != nil {
		return nil, err
	}
	return stream("application/json", base+".json", func(w io.Writer) error { return s.writeJSON(ctx, w, rep) }, s), nil
}

func (s *Service) loadReport(ctx context.Context, id int64) (rep api.LoadReport, err error) {
	if rep.Load, err = s.engine.Get(ctx, id); err != nil {
		return rep, err
	}
	if rep.Reasons, err = s.store.Reasons(ctx, id); err != nil {
		return rep, err
	}
	rep.Sheets, err = s.store.Sheets(ctx, id)
	return rep, err
}

// writeJSON writes an api.FullReport without keeping its lists in memory.
func (s *Service) writeJSON(ctx context.Context, w io.Writer, head api.LoadReport) error {
	first, err := json.Marshal(head)
	if err != nil {
		return err
	}
	if _, err := w.Write(append(first[:len(first)-1], `,"orders":[`...)); err != nil {
		return err
	}
	sep := ""
	item := func(v any) error {
		b, err := json.Marshal(v)
		if err == nil {
			_, err = io.WriteString(w, sep+string(b))
		}
		sep = ",\n"
		return err
	}
	for after := 0; ; {
		list, _, err := s.store.Outcomes(ctx, head.Load.ID, store.OutcomeFilter{After: after, Limit: findingsPage})
		if err != nil {
			return err
		}
		if len(list) == 0 {
			break
		}
		for _, o := range list {
			if err := item(o); err != nil {
				return err
			}
		}
		after = list[len(list)-1].Seq
	}
	if _, err := io.WriteString(w, `],"findings":[`); err != nil {
		return err
	}
	sep = ""
	err = s.eachFindings(ctx, head.Load.ID, func(list []finding.Finding) error {
		for _, f := range list {
			if err := item(f); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	_, err = io.WriteString(w, "]}\n")
	return err
}
