package service

import (
	"context"
	"strconv"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"koinos/api"
	"koinos/core/finding"
	"koinos/core/origin"
	"koinos/core/outcome"
)

// narrow are the operations that a token may use which is limited to partners or mappings, with what is checked of the
// order or load in the path; the handlers of lists and of new things check the rest. No other operation is allowed to
// such a token.
var narrow = map[string]func(s *Service, ctx context.Context, only *api.Narrowed, id int64) (bool, error){
	"get-session": nil, "receive-document": nil, "list-orders": partnersOnly, "export-orders": partnersOnly,
	"post-order": partnersOnly,
	"get-order":  theirOrder, "explain-value": theirOrder,
	"post-change": theirOrder, "post-answer": theirOrder, "post-shipment": theirOrder, "post-receipt": theirOrder,
	"post-invoice": theirOrder, "post-withdrawal": theirOrder,
	"start-load": nil, "get-load": theirLoad, "watch-load": theirLoad, "list-findings": theirLoad,
	"list-outcomes": theirLoad, "get-paper": theirLoad, "get-load-rows": theirLoad, "get-report": theirLoad,
	"cancel-load": theirLoad, "pause-load": theirLoad, "resume-load": theirLoad, "retry-load": theirLoad,
}

// partnersOnly: what a mapping brings can be told apart from other orders only by its load.
func partnersOnly(_ *Service, _ context.Context, only *api.Narrowed, _ int64) (bool, error) {
	return len(only.Mappings) == 0, nil
}

func theirOrder(s *Service, ctx context.Context, only *api.Narrowed, id int64) (bool, error) {
	h, err := s.store.Head(ctx, id)
	return len(only.Mappings) == 0 && only.Partner(h.Partner), err
}

func theirLoad(s *Service, ctx context.Context, only *api.Narrowed, id int64) (bool, error) {
	l, err := s.engine.Get(ctx, id)
	if err != nil || !only.Mapping(l.Mapping) {
		return false, err
	}
	for _, p := range l.Partners {
		if !only.Partner(p) {
			return false, nil
		}
	}
	return len(only.Partners) == 0 || len(l.Partners) > 0, nil
}

// narrowed says why a limited token may not use an operation; nil means that it may.
func (s *Service) narrowed(ctx huma.Context, only *api.Narrowed) error {
	if !only.Is() {
		return nil
	}
	holds, is := narrow[ctx.Operation().OperationID]
	may := is
	if is && holds != nil {
		id, err := strconv.ParseInt(ctx.Param("id"), 10, 64)
		if err != nil && ctx.Param("id") != "" {
			return nil // the operation itself says what is wrong with it
		}
		if may, err = holds(s, ctx.Context(), only, id); err != nil {
			return s.fail(ctx.Context(), err)
		}
	}
	if may {
		return nil
	}
	return notFor(only)
}

func notFor(only *api.Narrowed) *api.Problem {
	var of []string
	if len(only.Partners) > 0 {
		of = append(of, "orders of "+strings.Join(only.Partners, ", "))
	}
	if len(only.Mappings) > 0 {
		of = append(of, "loads through "+strings.Join(only.Mappings, ", "))
	}
	return problem("not_allowed", "This token is only for "+strings.Join(of, ", and for ")+".")
}

// narrowLoad has a load refuse the orders that its caller may not touch.
func narrowLoad(ctx context.Context, mapping string, opt *outcome.Options) error {
	only := callerOf(ctx).only
	if !only.Mapping(mapping) || opt.Retry != 0 && only.Is() {
		return notFor(&only)
	}
	if len(only.Partners) == 0 {
		return nil
	}
	for _, p := range opt.Partners {
		if !only.Partner(p) {
			return notFor(&only)
		}
	}
	if len(opt.Partners) == 0 {
		opt.Partners = only.Partners
	}
	return nil
}

// narrowPost refuses an order of a partner that its caller may not touch.
func narrowPost(ctx context.Context, partner string) error {
	only := callerOf(ctx).only
	if only.Partner(partner) {
		return nil
	}
	p := problem("order_refused", notFor(&only).Detail)
	f := finding.New(finding.PartnerNotAllowed, origin.Place{Pointer: "/partner"}, partner, "This order is of %q.",
		partner)
	p.Findings = []finding.Finding{f}
	return p
}
