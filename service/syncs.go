package service

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"slices"
	"strconv"

	"github.com/danielgtaylor/huma/v2"

	"koinos/api"
	"koinos/core/finding"
	"koinos/core/report"
	"koinos/store"
)

// mistaken turns the mistakes of a text into a problem; it returns other errors.
func mistaken(code string, err error) error {
	found := finding.Of(err)
	if found == nil {
		return err
	}
	wrong := problem(code, "")
	for _, f := range found {
		f.At = fmt.Sprintf("line %d column %d", f.Place.Row, f.Place.Column)
		wrong.Findings = append(wrong.Findings, f)
	}
	return wrong
}

// yamlBody is the body of an operation that takes a text.
func yamlBody(o huma.Operation) huma.Operation {
	o.RequestBody = &huma.RequestBody{Required: true, Content: map[string]*huma.MediaType{"application/yaml": {
		Schema: &huma.Schema{Type: "string"}}}}
	o.Errors = append(o.Errors, http.StatusUnprocessableEntity)
	return o
}

// BySync chooses a sync.
type BySync struct {
	Name string `path:"name" doc:"The sync's name"`
}

// standing are the operations on standing instructions that keep orders equal between systems.
func (s *Service) standing(h huma.API) {
	const tag = "Syncs"
	type body struct{ RawBody []byte }
	keep := yamlBody(op(http.MethodPost, "/syncs", "keep-sync", tag, "admin", "Keep a sync"))
	keep.Description = "The body is the YAML. A changed text makes a new version, which holds for all that is done " +
		"from then on."
	handle(s, h, keep, func(ctx context.Context, in *body) (*answer[api.Sync], error) {
		kept, err := s.syncs.KeepSync(ctx, string(in.RawBody), callerOf(ctx).name)
		return &answer[api.Sync]{kept}, mistaken("sync_invalid", ofSystems(err))
	})
	handle(s, h, op(http.MethodGet, "/syncs", "list-syncs", tag, "read", "List syncs"),
		func(ctx context.Context, _ *none) (*answer[api.Page[api.Sync]], error) {
			versions, err := s.store.SyncVersions(ctx)
			if err != nil {
				return nil, err
			}
			all := []api.Sync{}
			for _, name := range slices.Sorted(maps.Keys(versions)) {
				kept, err := s.store.Sync(ctx, name, 0)
				if err == nil {
					kept, err = s.syncs.DescribeSync(ctx, kept)
				}
				if err != nil {
					return nil, err
				}
				kept.Text = ""
				all = append(all, kept)
			}
			return &answer[api.Page[api.Sync]]{api.Page[api.Sync]{Items: all}}, nil
		})
	type version struct {
		BySync
		Version int  `query:"version" minimum:"0" doc:"By default the newest"`
		Wait    bool `query:"wait" doc:"Answer when everything that came is done or held, or after half a minute"`
	}
	handle(s, h, op(http.MethodGet, "/syncs/{name}", "get-sync", tag, "read", "A sync, and how it does"),
		func(ctx context.Context, in *version) (*answer[api.Sync], error) {
			if in.Wait {
				short, stop := context.WithTimeout(ctx, waitFor)
				defer stop()
				y, err := s.syncs.WaitSync(short, in.Name)
				return &answer[api.Sync]{y}, err
			}
			kept, err := s.store.Sync(ctx, in.Name, in.Version)
			if err == nil {
				kept, err = s.syncs.DescribeSync(ctx, kept)
			}
			return &answer[api.Sync]{kept}, err
		})
	for name, pause := range map[string]bool{"pause": true, "resume": false} {
		about := map[bool]string{true: "Pause a sync: what happens meanwhile waits", false: "Let a sync go on"}[pause]
		set := op(http.MethodPost, "/syncs/{name}/"+name, name+"-sync", tag, "load", about)
		set.DefaultStatus = http.StatusOK
		handle(s, h, set, func(ctx context.Context, in *BySync) (*answer[api.Sync], error) {
			y, err := s.syncs.PauseSync(ctx, in.Name, pause, callerOf(ctx).name)
			return &answer[api.Sync]{y}, err
		})
	}
	s.syncRuns(h)
	s.syncChecks(h)
	s.syncWork(h)
}

// syncRuns are the operations on runs.
func (s *Service) syncRuns(h huma.API) {
	const tag = "Syncs"
	type running struct {
		BySync
		Body api.NewSyncRun
	}
	run := op(http.MethodPost, "/syncs/{name}/runs", "run-sync", tag, "load", "Run a sync")
	run.Description = "Its pulls read now, what waits is due, and systems that are away are tried at once. The run " +
		"goes on when " +
		"the caller leaves, until everything that came of it is done or held."
	run.DefaultStatus = http.StatusAccepted
	handle(s, h, run, func(ctx context.Context, in *running) (*answer[api.SyncRun], error) {
		r, err := s.syncs.RunSync(ctx, in.Name, in.Body, callerOf(ctx).name)
		return &answer[api.SyncRun]{r}, ofSystems(err)
	})
	type list struct {
		BySync
		Paging
	}
	handle(s, h, op(http.MethodGet, "/syncs/{name}/runs", "list-sync-runs", tag, "read",
		"The runs of a sync, newest first"),
		func(ctx context.Context, in *list) (*paged[api.SyncRun], error) {
			before, err := in.number()
			if err != nil {
				return nil, err
			}
			all, err := s.store.SyncRuns(ctx, in.Name, before, in.Limit+1)
			for i := range all {
				if err == nil {
					all[i], err = s.syncs.DescribeRun(ctx, all[i])
				}
			}
			if err != nil {
				return nil, err
			}
			return pageOf(ctx, all, in.Limit, func(r api.SyncRun) string { return strconv.FormatInt(r.ID, 10) }), nil
		})
	type one struct {
		ID   int64 `path:"id"`
		Wait bool  `query:"wait" doc:"Answer when it has ended, or after half a minute"`
	}
	handle(s, h, op(http.MethodGet, "/sync-runs/{id}", "get-sync-run", tag, "read",
		"A run, with what became of orders"),
		func(ctx context.Context, in *one) (*answer[api.SyncRun], error) {
			short, stop := context.WithTimeout(ctx, waitFor)
			if !in.Wait {
				stop()
			}
			defer stop()
			r, err := s.syncs.WaitRun(short, in.ID)
			return &answer[api.SyncRun]{r}, err
		})
}

// syncChecks are dry runs, reconciles and first links.
func (s *Service) syncChecks(h huma.API) {
	const tag = "Syncs"
	type asking struct {
		BySync
		Body api.NewCheck
	}
	start := op(http.MethodPost, "/syncs/{name}/checks", "start-check", tag, "load", "Compare both sides of a sync")
	start.Description = "dry-run: what a run would do. reconcile: everything on both sides, and what sources have " +
		"lost and targets " +
		"have besides. link: which records are orders that are not linked yet. Without repair nothing is written, " +
		"neither here " +
		"nor there."
	start.DefaultStatus = http.StatusAccepted
	handle(s, h, start, func(ctx context.Context, in *asking) (*answer[api.SyncCheck], error) {
		c, err := s.syncs.StartCheck(ctx, in.Name, in.Body, callerOf(ctx).name)
		return &answer[api.SyncCheck]{c}, ofSystems(err)
	})
	type list struct {
		BySync
		Paging
	}
	handle(s, h, op(http.MethodGet, "/syncs/{name}/checks", "list-checks", tag, "read",
		"The comparisons of a sync, newest first"),
		func(ctx context.Context, in *list) (*paged[api.SyncCheck], error) {
			before, err := in.number()
			if err != nil {
				return nil, err
			}
			all, err := s.store.Checks(ctx, in.Name, before, in.Limit+1)
			if err != nil {
				return nil, err
			}
			return pageOf(ctx, all, in.Limit, func(c api.SyncCheck) string { return strconv.FormatInt(c.ID, 10) }), nil
		})
	type one struct {
		ID   int64 `path:"id"`
		Wait bool  `query:"wait" doc:"Answer when it has ended, or after half a minute"`
	}
	handle(s, h, op(http.MethodGet, "/checks/{id}", "get-check", tag, "read", "A comparison"),
		func(ctx context.Context, in *one) (*answer[api.SyncCheck], error) {
			short, stop := context.WithTimeout(ctx, waitFor)
			if !in.Wait {
				stop()
			}
			defer stop()
			c, err := s.syncs.WaitCheck(short, in.ID)
			return &answer[api.SyncCheck]{c}, err
		})
	type rows struct {
		ID int64 `path:"id"`
		Paging
		Outcome string `query:"outcome" enum:"load,update,refuse,create,change,cannot,lost,besides,link,ambiguous,not there,not tried"`
	}
	handle(s, h, op(http.MethodGet, "/checks/{id}/rows", "list-check-rows", tag, "read", "What a comparison found"),
		func(ctx context.Context, in *rows) (*paged[api.CheckRow], error) {
			after, err := in.number()
			if err != nil {
				return nil, err
			}
			if _, err := s.store.Check(ctx, in.ID); err != nil {
				return nil, err
			}
			all, err := s.store.CheckRows(ctx, in.ID, in.Outcome, int(after), in.Limit+1)
			if err != nil {
				return nil, err
			}
			return pageOf(ctx, all, in.Limit, func(r api.CheckRow) string { return strconv.Itoa(r.N) }), nil
		})
	type reporting struct {
		ID     int64  `path:"id"`
		Format string `query:"format" enum:"csv,xlsx,json" default:"csv"`
	}
	out := op(http.MethodGet, "/checks/{id}/report", "get-check-report", tag, "read",
		"What a comparison found, as a file: each difference is a row")
	out.Responses = file("The report", "text/csv", "application/json",
		"application/vnd.openxmlformats-officedocument.spreadsheetml.sheet")
	handle(s, h, out, func(ctx context.Context, in *reporting) (*huma.StreamResponse, error) {
		c, err := s.store.Check(ctx, in.ID)
		if err != nil {
			return nil, err
		}
		form := report.Tables[in.Format]
		name := fmt.Sprintf("%s-%s-%d.%s", c.Sync, c.Kind, c.ID, in.Format)
		return stream(form.Type, name, func(w io.Writer) error {
			t, err := form.Begin(w, report.Sheet{Headings: checkHeadings})
			if err != nil {
				return err
			}
			for after := 0; ; {
				rows, err := s.store.CheckRows(ctx, in.ID, "", after, 500)
				if err != nil || len(rows) == 0 {
					return t.Close(err)
				}
				after = rows[len(rows)-1].N
				for i := range rows {
					for _, cells := range checkCells(&rows[i]) {
						if err := t.Add(0, cells); err != nil {
							return t.Close(err)
						}
					}
				}
			}
		}, s), nil
	})
}

// syncWork is what waits, and what was written.
func (s *Service) syncWork(h huma.API) {
	const tag = "Syncs"
	type waiting struct {
		BySync
		Paging
		State string `query:"state" enum:"waiting,after,held,aside,unanswered"`
	}
	handle(s, h, op(http.MethodGet, "/syncs/{name}/tasks", "list-tasks", tag, "read",
		"The orders that wait to be written, or are held; with state=unanswered those whose file nobody has answered"),
		func(ctx context.Context, in *waiting) (*paged[api.Task], error) {
			after, err := in.number()
			if err != nil {
				return nil, err
			}
			var all []api.Task
			if in.State == api.TaskUnanswered {
				all, err = s.syncs.Unanswered(ctx, in.Name, after, in.Limit+1)
			} else {
				all, err = s.store.Tasks(ctx, store.TaskFilter{Sync: in.Name, State: in.State, After: after,
					Limit: in.Limit + 1})
			}
			if err != nil {
				return nil, err
			}
			return pageOf(ctx, all, in.Limit, func(k api.Task) string { return strconv.FormatInt(k.ID, 10) }), nil
		})
	type written struct {
		Paging
		Sync  string `query:"sync"`
		Order string `query:"order" doc:"An order here: its number, the sender's, or its id"`
		All   bool   `query:"all" doc:"With what was right already"`
	}
	handle(s, h, op(http.MethodGet, "/pushed", "list-pushed", tag, "read",
		"What was written into systems, with what stood there before, newest first"),
		func(ctx context.Context, in *written) (*paged[api.Pushed], error) {
			before, err := in.number()
			var order int64
			if err == nil && in.Order != "" {
				order, err = s.store.FindOrder(ctx, in.Order)
				if id, number := strconv.ParseInt(in.Order, 10, 64); number == nil &&
					errors.Is(err, store.ErrNotFound) {
					order, err = id, nil // of an order that was removed the history stays
				}
			}
			if err != nil {
				return nil, err
			}
			all, err := s.store.PushedList(ctx, store.PushedFilter{Sync: in.Sync, OrderID: order, Before: before,
				Limit: in.Limit + 1, Written: !in.All})
			if err != nil {
				return nil, err
			}
			return pageOf(ctx, all, in.Limit, func(p api.Pushed) string { return strconv.FormatInt(p.ID, 10) }), nil
		})
}

// tryAgain retries held work, each kind in its way.
func (s *Service) tryAgain(ctx context.Context, all []api.HeldWork) (api.Retried, error) {
	out := api.Retried{Count: len(all)}
	by := callerOf(ctx).name
	loads, interchanges := map[int64]bool{}, map[int64]bool{}
	var pushes []api.HeldWork
	for _, w := range all {
		var err error
		switch w.Kind {
		case api.HeldPush:
			pushes = append(pushes, w)
		case api.HeldOrder:
			if loads[w.Load] { // one load takes all of its orders up
				continue
			}
			loads[w.Load] = true
			l, failed := s.engine.Retry(ctx, w.Load, nil, by, requestName(ctx))
			err = failed
			out.Load = l.ID
			out.Loads = append(out.Loads, l.ID)
		case api.HeldSet:
			if interchanges[w.Interchange] {
				continue
			}
			interchanges[w.Interchange] = true
			_, failed := s.exchange.Replay(ctx, w.Interchange, nil, by)
			err = notNow(failed)
			out.Interchange = w.Interchange
		case api.HeldAnswer: // it goes when the order, or another answer, says the same
			out.Count--
		case api.HeldInterchange: // a person says, of each, whether it is let in
			if len(all) == 1 {
				_, err = s.exchange.Replay(ctx, w.Interchange, nil, by)
				err = notNow(err)
			}
			out.Count--
		default:
			err = s.sendAgain(ctx, &w, &out)
		}
		if err != nil {
			return out, ofSystems(err)
		}
	}
	runs, err := s.syncs.RetryHeld(ctx, pushes, by)
	out.Runs = runs
	return out, ofSystems(err)
}

// sendAgain writes a notice again.
func (s *Service) sendAgain(ctx context.Context, w *api.HeldWork, out *api.Retried) error {
	set, err := s.store.SetOf(ctx, w.Interchange, w.Set)
	if err != nil {
		return err
	}
	sent, err := s.exchange.Send(ctx, w.Partner, api.Wanted{Set: set.Kind, Orders: []string{w.Number}},
		callerOf(ctx).name)
	if len(sent.Interchanges) > 0 {
		out.Interchange = sent.Interchanges[0].ID
	}
	return err
}
