package service

import (
	"context"
	"net/http"
	"strconv"

	"github.com/danielgtaylor/huma/v2"

	"koinos/api"
	"koinos/store"
)

// ByHeld chooses one held entry.
type ByHeld struct {
	ID int64 `path:"id" doc:"Number of what is held"`
}

// mostReasons is how many reasons are listed.
const mostReasons = 100

// held is one list of everything that waits for a person.
func (s *Service) held(h huma.API) {
	const tag = "Held"
	type list struct {
		Paging
		Kind    string `query:"kind" enum:"order,set,notice,push,interchange,answer"`
		Partner string `query:"partner"`
		Sync    string `query:"sync"`
		System  string `query:"system"`
		Code    string `query:"code" doc:"Code of the reason"`
		Reason  string `query:"reason" doc:"A part of the reason's text"`
		Aside   bool   `query:"put_aside" doc:"What was put aside, instead of what waits"`
	}
	handle(s, h, op(http.MethodGet, "/held", "list-held", tag, "read", "List what is held, oldest first"),
		func(ctx context.Context, in *list) (*paged[api.HeldWork], error) {
			after, err := in.number()
			if err != nil {
				return nil, err
			}
			all, err := s.store.HeldList(ctx, store.HeldFilter{HeldFor: api.HeldFor{Kind: in.Kind, Partner: in.Partner,
				Sync: in.Sync, System: in.System, Code: in.Code, Reason: in.Reason, Aside: in.Aside}, After: after,
				Limit: in.Limit + 1})
			if err != nil {
				return nil, err
			}
			return pageOf(ctx, all, in.Limit, func(w api.HeldWork) string { return strconv.FormatInt(w.ID, 10) }), nil
		})
	handle(s, h, op(http.MethodGet, "/held-reasons", "list-held-reasons", tag, "read",
		"What is held by reason, what waits most often first: the first hundred reasons"),
		func(ctx context.Context, _ *none) (*answer[api.Page[api.HeldReason]], error) {
			all, err := s.store.HeldReasons(ctx, mostReasons)
			return &answer[api.Page[api.HeldReason]]{api.Page[api.HeldReason]{Items: all}}, err
		})
	handle(s, h, op(http.MethodGet, "/held/{id}", "get-held", tag, "read", "One thing that is held"),
		func(ctx context.Context, in *ByHeld) (*answer[api.HeldDetail], error) {
			w, err := s.store.HeldOne(ctx, in.ID)
			if err != nil {
				return nil, err
			}
			out := api.HeldDetail{HeldWork: w}
			if w.Task != 0 {
				k, err := s.store.Task(ctx, w.Task)
				if err != nil {
					return nil, err
				}
				out.TaskState = &k
				if out.Clashes, err = s.syncs.Clashes(ctx, &w); err != nil {
					return nil, ofSystems(err)
				}
				if out.Tried, err = s.store.PushedList(ctx, store.PushedFilter{OrderID: k.OrderID,
					Limit: 20}); err != nil {
					return nil, err
				}
			}
			return &answer[api.HeldDetail]{out}, nil
		})
	retry := op(http.MethodPost, "/held/{id}/retry", "retry-held", tag, "load", "Try what is held once more")
	retry.Description = "An order: the orders of its load that failed are loaded again with the newest mapping and " +
		"lists. A set that came: what it asks for is done again. A notice: it is written anew from the order as it " +
		"is now. A push: its sync is run for it, with everything looked up anew. Interchanges whose control number " +
		"came before are let " +
		"in or refused one by one. What succeeds is not held any more."
	retry.DefaultStatus = http.StatusAccepted
	handle(s, h, retry, func(ctx context.Context, in *ByHeld) (*answer[api.Retried], error) {
		w, err := s.store.HeldOne(ctx, in.ID)
		if err != nil {
			return nil, err
		}
		out, err := s.tryAgain(ctx, []api.HeldWork{w})
		return &answer[api.Retried]{out}, err
	})
	type deciding struct {
		ByHeld
		Body api.Decision
	}
	decide := op(http.MethodPost, "/held/{id}/decide", "decide-held", tag, "load",
		"Say whose values count where both sides changed them")
	decide.Description = "Here or there, for all values or by their names. What is theirs is read, and the push is " +
		"tried again."
	decide.DefaultStatus = http.StatusAccepted
	handle(s, h, decide, func(ctx context.Context, in *deciding) (*answer[api.Retried], error) {
		runs, err := s.syncs.Decide(ctx, in.ID, in.Body, callerOf(ctx).name)
		return &answer[api.Retried]{api.Retried{Count: 1, Runs: runs}}, ofSystems(err)
	})
	type choosing struct{ Body api.HeldFor }
	many := op(http.MethodPost, "/held/retry", "retry-held-many", tag, "load",
		"Try all that is held, or a part of it, once more")
	many.Description = "What each kind means stands at retry-held. An empty filter is everything."
	many.DefaultStatus = http.StatusAccepted
	handle(s, h, many, func(ctx context.Context, in *choosing) (*answer[api.Retried], error) {
		all, err := s.store.HeldList(ctx, store.HeldFilter{HeldFor: in.Body})
		if err != nil {
			return nil, err
		}
		out, err := s.tryAgain(ctx, all)
		return &answer[api.Retried]{out}, err
	})
	type putting struct{ Body api.PutAside }
	aside := op(http.MethodPost, "/held/put-aside", "put-aside", tag, "load", "Put what is held aside, with a reason")
	aside.Description = "It leaves the list of what waits. A push that was put aside is tried again only when its " +
		"order changes, or " +
		"when somebody says so. An empty reason lets it wait again."
	aside.DefaultStatus = http.StatusOK
	handle(s, h, aside, func(ctx context.Context, in *putting) (*answer[api.Retried], error) {
		f := in.Body.HeldFor
		f.Aside = in.Body.Why == ""
		all, err := s.store.HeldList(ctx, store.HeldFilter{HeldFor: f})
		if err == nil {
			err = s.store.PutAside(ctx, all, in.Body.Why)
		}
		return &answer[api.Retried]{api.Retried{Count: len(all)}}, err
	})
}
