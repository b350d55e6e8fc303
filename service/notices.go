package service

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"koinos/api"
	"koinos/core/finding"
	"koinos/core/intent"
	"koinos/core/outcome"
	"koinos/load"
)

// said are the kinds of notices about one order, with the last part of their paths. The order itself can be changed,
// too.
var said = []struct {
	method, path string
	kind         intent.Kind
	about        string
}{
	{http.MethodPost, "/changes", intent.Change, "Change an order: fields of its header, lines, its stage"},
	{http.MethodPatch, "", intent.Change, "Change an order, as post-change does"},
	{http.MethodPost, "/answers", intent.Answer, "Answer an order, or confirm it"},
	{http.MethodPost, "/shipments", intent.Shipment, "Say what was shipped of an order"},
	{http.MethodPost, "/receipts", intent.Receipt, "Say what was received of an order"},
	{http.MethodPost, "/returns", intent.Return, "Say what came back of an order, or went back to its supplier"},
	{http.MethodPost, "/invoices", intent.Invoice, "Invoice what has moved of an order, or give an invoice back"},
	{http.MethodPost, "/withdrawals", intent.Withdrawal, "Cancel what is open of an order"},
}

func (s *Service) notices(h huma.API) {
	type notice struct {
		ID      int64    `path:"id" doc:"The order's id"`
		IfMatch string   `header:"If-Match" doc:"The ETag of the order as the caller has seen it; by default any"`
		Accept  []string `query:"accept" doc:"Codes of warnings that do not hold it"`
		Body    api.Notice
		RawBody []byte
	}
	for _, n := range said {
		o := op(n.method, "/orders/{id}"+n.path, strings.ToLower(n.method)+"-"+string(n.kind), "Orders", "load", n.about)
		o.Description = "It is on the disk when the answer comes. What a document would only be warned of holds it: " +
			"nothing is done, and the findings say what to accept. The same shipment, receipt, return or invoice again changes nothing."
		o.DefaultStatus = http.StatusOK
		o.Errors = append(o.Errors, http.StatusPreconditionFailed, http.StatusUnprocessableEntity)
		handle(s, h, o, func(ctx context.Context, in *notice) (*answer[api.Posted], error) {
			seen, err := revisionOf(in.IfMatch, in.ID)
			if err != nil {
				return nil, err
			}
			made, err := s.madeBefore(ctx, in.RawBody)
			if err != nil {
				return nil, err
			}
			if made != nil {
				return &answer[api.Posted]{*made}, nil
			}
			t := load.Telling{Kind: n.kind, Order: in.ID, Seen: seen, Body: in.RawBody, By: callerOf(ctx).name}
			for _, code := range in.Accept {
				t.Accept = append(t.Accept, finding.Code(code))
			}
			p, err := s.engine.Tell(ctx, t, &in.Body)
			if err != nil {
				return nil, err
			}
			return &answer[api.Posted]{p}, s.refusal(ctx, &p, seen)
		})
	}
}

// refusal is the problem of a notice that was not carried out.
func (s *Service) refusal(ctx context.Context, p *api.Posted, seen int) error {
	var no *api.Problem
	switch {
	case slices.ContainsFunc(p.Findings, func(f finding.Finding) bool { return f.Code == finding.RevisionDiffers }):
		o, err := s.store.Order(ctx, p.OrderID)
		if err != nil {
			return err
		}
		var since []string
		for _, e := range o.Events {
			if e.Revision > seen {
				one := fmt.Sprintf("revision %d: %s by %s", e.Revision, e.Action, e.Origin.By)
				if named := e.Named(); named != "" {
					one += " (" + named + ")"
				}
				since = append(since, one)
			}
		}
		no = problem("changed_meanwhile", "Since you looked at it: "+strings.Join(since, "; ")+".")
	case p.Outcome == outcome.Held:
		var codes []string
		for i := range p.Findings {
			if f := &p.Findings[i]; f.Severity == finding.Warning && !slices.Contains(codes, string(f.Code)) {
				codes = append(codes, string(f.Code))
			}
		}
		no = problem("order_held", "Nothing was done. To do it anyway, accept "+strings.Join(codes, ", ")+".")
	case p.Outcome == outcome.Refused:
		no = problem("order_refused", "The findings say why.")
	default:
		return nil
	}
	return because(no, p.Findings)
}

// revisionOf reads the revision out of an ETag of an order; 0 means that none was sent.
func revisionOf(etag string, id int64) (int, error) {
	if etag == "" || etag == "*" {
		return 0, nil
	}
	of, revision, ok := strings.Cut(strings.Trim(strings.TrimPrefix(etag, "W/"), `"`), "-")
	n, err := strconv.Atoi(revision)
	if !ok || err != nil || of != strconv.FormatInt(id, 10) || n < 1 {
		p := problem("invalid_request", "If-Match is the ETag that get-order answers with.")
		p.Invalid = []api.Invalid{{Where: "header.If-Match", Message: etag}}
		return 0, p
	}
	return n, nil
}
