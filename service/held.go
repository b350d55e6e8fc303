package service

import (
	"context"
	"net/http"
	"strconv"

	"github.com/danielgtaylor/huma/v2"

	"koinos/api"
	"koinos/store"
)

// held is one list of everything that waits for a person.
func (s *Service) held(h huma.API) {
	const tag = "Held"
	type list struct {
		Paging
		Kind    string `query:"kind" enum:"order,set,notice"`
		Partner string `query:"partner"`
	}
	handle(s, h, op(http.MethodGet, "/held", "list-held", tag, "read", "List what is held, oldest first"),
		func(ctx context.Context, in *list) (*paged[api.HeldWork], error) {
			after, err := in.number()
			if err != nil {
				return nil, err
			}
			all, err := s.store.HeldList(ctx, store.HeldFilter{Kind: in.Kind, Partner: in.Partner, After: after,
				Limit: in.Limit + 1})
			if err != nil {
				return nil, err
			}
			return pageOf(ctx, all, in.Limit, func(w api.HeldWork) string { return strconv.FormatInt(w.ID, 10) }), nil
		})
	type one struct {
		ID int64 `path:"id" doc:"Number of what is held"`
	}
	retry := op(http.MethodPost, "/held/{id}/retry", "retry-held", tag, "load", "Try what is held once more")
	retry.Description = "An order: the orders of its load that failed are loaded again with the newest mapping and " +
		"lists. A set that came: what it asks for is done again. A notice: it is written anew from the order as it " +
		"is now. What succeeds is not held any more."
	retry.DefaultStatus = http.StatusAccepted
	handle(s, h, retry, func(ctx context.Context, in *one) (*answer[api.Retried], error) {
		w, err := s.store.HeldOne(ctx, in.ID)
		if err != nil {
			return nil, err
		}
		by, out := callerOf(ctx).name, api.Retried{}
		switch w.Kind {
		case api.HeldOrder:
			l, err := s.engine.Retry(ctx, w.Load, nil, by, requestName(ctx))
			out.Load = l.ID
			return &answer[api.Retried]{out}, err
		case api.HeldSet:
			_, err := s.exchange.Replay(ctx, w.Interchange, by)
			out.Interchange = w.Interchange
			return &answer[api.Retried]{out}, notNow(err)
		}
		set, err := s.store.SetOf(ctx, w.Interchange, w.Set)
		if err != nil {
			return nil, err
		}
		sent, err := s.exchange.Send(ctx, w.Partner, api.Wanted{Set: set.Kind, Orders: []string{w.Number}}, by)
		if len(sent.Interchanges) > 0 {
			out.Interchange = sent.Interchanges[0].ID
		}
		return &answer[api.Retried]{out}, err
	})
}
