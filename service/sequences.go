package service

import (
	"context"
	"net/http"
	"strconv"

	"github.com/danielgtaylor/huma/v2"

	"koinos/api"
	"koinos/core/mapping"
	"koinos/core/outcome"
	"koinos/load"
)

func (s *Service) sequences(h huma.API) {
	const tag = "Sequences"
	type body struct{ RawBody []byte }
	put := op(http.MethodPost, "/sequences", "keep-sequence", tag, "admin", "Keep a sequence")
	put.Description = "The body is the sequence's YAML. Its mappings must be here already."
	put.RequestBody = &huma.RequestBody{Required: true,
		Content: map[string]*huma.MediaType{"application/yaml": {Schema: &huma.Schema{Type: "string"}}}}
	put.Errors = append(put.Errors, http.StatusUnprocessableEntity)
	handle(s, h, put, func(ctx context.Context, in *body) (*answer[api.SequenceDetail], error) {
		if err := s.engine.CheckSequence(ctx, in.RawBody); err != nil {
			return nil, err
		}
		q, err := mapping.ParseSequence(in.RawBody)
		if err != nil {
			return nil, err
		}
		version, err := s.store.PutSequence(ctx, q.Name, q.Text, callerOf(ctx).name, s.now())
		if err != nil {
			return nil, err
		}
		kept, err := s.store.Sequence(ctx, q.Name, version)
		return &answer[api.SequenceDetail]{sequenceDetail(kept)}, err
	})
	handle(s, h, op(http.MethodGet, "/sequences", "list-sequences", tag, "read",
		"List sequences, each in its newest version"),
		func(ctx context.Context, _ *none) (*answer[api.Page[api.SequenceDetail]], error) {
			kept, err := s.store.Sequences(ctx)
			page := api.Page[api.SequenceDetail]{Items: make([]api.SequenceDetail, len(kept))}
			for i, k := range kept {
				page.Items[i] = sequenceDetail(k)
			}
			return &answer[api.Page[api.SequenceDetail]]{page}, err
		})

	type newRun struct{ Body api.NewRun }
	begin := op(http.MethodPost, "/runs", "start-run", tag, "load", "Run a document through a sequence")
	begin.Description = "The answer comes at once; watch the run with get-run. A run again recognises what is stored " +
		"and does what failed."
	begin.DefaultStatus = http.StatusAccepted
	handle(s, h, begin, func(ctx context.Context, in *newRun) (*answer[outcome.Run], error) {
		r, err := s.engine.StartRun(ctx, load.RunRequest{Document: in.Body.Document, Sequence: in.Body.Sequence,
			Version: in.Body.Version, AgainOf: in.Body.AgainOf,
			Options: in.Body.Options, By: callerOf(ctx).name, Name: requestName(ctx)})
		return &answer[outcome.Run]{r}, err
	})
	handle(s, h, op(http.MethodGet, "/runs", "list-runs", tag, "read", "List runs of sequences, newest first"),
		func(ctx context.Context, in *Paging) (*paged[outcome.Run], error) {
			before, err := in.number()
			if err != nil {
				return nil, err
			}
			runs, err := s.store.Runs(ctx, before, in.Limit+1)
			if err != nil {
				return nil, err
			}
			return pageOf(ctx, runs, in.Limit, func(r outcome.Run) string { return strconv.FormatInt(r.ID, 10) }), nil
		})
	type byRun struct {
		ID int64 `path:"id" doc:"The run's id"`
	}
	handle(s, h, op(http.MethodGet, "/runs/{id}", "get-run", tag, "read", "A run with the loads of its steps"),
		func(ctx context.Context, in *byRun) (*answer[outcome.Run], error) {
			r, err := s.engine.Run(ctx, in.ID)
			return &answer[outcome.Run]{r}, err
		})
}

func sequenceDetail(kept api.Sequence) api.SequenceDetail {
	d := api.SequenceDetail{Sequence: kept, Steps: []mapping.SequenceStep{}}
	if q, err := mapping.ParseSequence([]byte(kept.Text)); err == nil {
		d.About, d.Steps = q.About, q.Steps
	}
	return d
}

// todayDays is how far back the page of today looks.
const todayDays = 14

func (s *Service) today(h huma.API) {
	handle(s, h, op(http.MethodGet, "/today", "get-today", "Loads", "read",
		"What runs, what needs attention, and what the last days brought"),
		func(ctx context.Context, _ *none) (*answer[api.Today], error) {
			t, err := s.store.Today(ctx, s.now(), todayDays)
			if err != nil {
				return nil, err
			}
			out := api.Today{Running: t.Running, Failing: t.Failing, Days: t.Days, Saved: t.Saved, Orders: t.Orders}
			if out.Overdue, err = s.store.Overdue(ctx, s.day(), 10_000); err != nil {
				return nil, err
			}
			if out.Held, err = s.store.HeldCodes(ctx); err != nil {
				return nil, err
			}
			if out.Interchanges, err = s.store.Waiting(ctx, s.now()); err != nil {
				return nil, err
			}
			for i, l := range out.Running {
				if live, err := s.engine.Get(ctx, l.ID); err == nil {
					out.Running[i] = live
				}
			}
			return &answer[api.Today]{out}, nil
		})
}
