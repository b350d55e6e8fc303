package service

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gin-gonic/gin"

	"koinos/api"
	"koinos/core/finding"
	"koinos/core/system"
	"koinos/core/system/draft"
	"koinos/remote"
	"koinos/store"
	"koinos/syncs"
)

// systems are the operations on other applications: their descriptions, trying them, and what was pulled.
func (s *Service) systems(h huma.API) {
	const tag = "Systems"
	type byName struct {
		Name string `path:"name" doc:"The system's name"`
	}
	type body struct{ RawBody []byte }
	keep := yamlBody(op(http.MethodPost, "/systems", "keep-system", tag, "admin", "Keep a system's description"))
	keep.Description = "The body is the YAML. A changed text makes a new version, which holds from the next pull on."
	handle(s, h, keep, func(ctx context.Context, in *body) (*answer[api.System], error) {
		kept, err := s.syncs.Keep(ctx, string(in.RawBody), callerOf(ctx).name)
		return &answer[api.System]{kept}, mistaken("system_invalid", err)
	})
	handle(s, h, op(http.MethodGet, "/systems", "list-systems", tag, "read", "List systems"),
		func(ctx context.Context, _ *none) (*answer[api.Page[api.System]], error) {
			all, err := s.store.Systems(ctx)
			for i := range all {
				all[i] = s.syncs.Described(all[i])
				all[i].Text = ""
			}
			return &answer[api.Page[api.System]]{api.Page[api.System]{Items: all}}, err
		})
	type version struct {
		Name    string `path:"name" doc:"The system's name"`
		Version int    `query:"version" minimum:"0" doc:"By default the newest"`
	}
	handle(s, h, op(http.MethodGet, "/systems/{name}", "get-system", tag, "read", "A system's description"),
		func(ctx context.Context, in *version) (*answer[api.System], error) {
			kept, err := s.store.System(ctx, in.Name, in.Version)
			return &answer[api.System]{s.syncs.Described(kept)}, err
		})
	handle(s, h, op(http.MethodGet, "/systems/{name}/calls", "list-system-calls", tag, "read",
		"The last calls of a system, newest first"),
		func(ctx context.Context, in *byName) (*answer[api.Page[api.SystemCall]], error) {
			if _, err := s.store.System(ctx, in.Name, 0); err != nil {
				return nil, err
			}
			return &answer[api.Page[api.SystemCall]]{api.Page[api.SystemCall]{Items: s.syncs.Calls(in.Name)}}, nil
		})
	type hooks struct {
		Name string `path:"name" doc:"The system's name"`
		Paging
	}
	handle(s, h, op(http.MethodGet, "/systems/{name}/hooks", "list-system-hooks", tag, "read",
		"The webhooks of a system, newest first"),
		func(ctx context.Context, in *hooks) (*paged[api.Hook], error) {
			before, err := in.number()
			if err != nil {
				return nil, err
			}
			all, err := s.store.Hooks(ctx, in.Name, before, in.Limit+1)
			if err != nil {
				return nil, err
			}
			return pageOf(ctx, all, in.Limit, func(h api.Hook) string { return strconv.FormatInt(h.ID, 10) }), nil
		})
	handle(s, h, op(http.MethodGet, "/systems/{name}/files", "list-system-files", tag, "read",
		"The files that came into a system's folders, newest first"),
		func(ctx context.Context, in *hooks) (*paged[api.SystemFile], error) {
			before, err := in.number()
			if err != nil {
				return nil, err
			}
			if _, err := s.store.System(ctx, in.Name, 0); err != nil {
				return nil, err
			}
			all, err := s.store.Files(ctx, in.Name, before, in.Limit+1)
			if err != nil {
				return nil, err
			}
			return pageOf(ctx, all, in.Limit, func(f api.SystemFile) string { return strconv.FormatInt(f.ID, 10) }), nil
		})
	type trying struct{ Body api.NewTry }
	try := op(http.MethodPost, "/systems/try", "try-system", tag, "admin", "Try a description: sign in, read a page")
	try.Description = "A description may be tried before it is kept. Nothing is stored, and nothing secret is shown."
	try.DefaultStatus = http.StatusOK
	handle(s, h, try, func(ctx context.Context, in *trying) (*answer[api.Tried], error) {
		t, err := s.syncs.Try(ctx, in.Body)
		return &answer[api.Tried]{t}, err
	})
	register := op(http.MethodPost, "/systems/{name}/register", "register-hooks", tag, "admin",
		"Register our address for a system's webhooks")
	register.Description = "One that is registered already is not registered again."
	register.DefaultStatus = http.StatusOK
	handle(s, h, register, func(ctx context.Context, in *byName) (*answer[api.Registered], error) {
		r, err := s.syncs.Register(ctx, in.Name)
		return &answer[api.Registered]{r}, ofSystems(err)
	})
	type drafting struct {
		Records []string `query:"record" doc:"Kinds of record to take, as the draft names them; by default those that have to do with orders"`
		RawBody []byte
	}
	propose := op(http.MethodPost, "/systems/draft", "draft-system", tag, "read",
		"Propose a description from an API's own")
	propose.Description = "The body is an OpenAPI document (2 or 3, JSON or YAML), a GraphQL schema, or the answer to its " +
		"introspection. Nothing is stored, and nothing is called."
	propose.RequestBody = &huma.RequestBody{Required: true,
		Content: map[string]*huma.MediaType{"application/octet-stream": {
			Schema: &huma.Schema{Type: "string", Format: "binary"}}}}
	propose.DefaultStatus = http.StatusOK
	handle(s, h, propose, func(_ context.Context, in *drafting) (*answer[draft.Draft], error) {
		d, err := draft.From(in.RawBody, in.Records)
		if err != nil {
			return nil, problem("document_unreadable", strings.ToUpper(err.Error()[:1])+err.Error()[1:]+".")
		}
		return &answer[draft.Draft]{*d}, nil
	})
	s.pulls(h)
	s.pushes(h)
}

// pushes bring records of systems to what orders say.
func (s *Service) pushes(h huma.API) {
	const tag = "Systems"
	type pushing struct {
		Name string `path:"name" doc:"The system's name"`
		Body api.NewPush
	}
	push := op(http.MethodPost, "/systems/{name}/pushes", "push-order", tag, "load",
		"Make a record of a system what an order says")
	push.Description = "The record is read, and only the calls are made that bring it to what it should be: none where it " +
		"is right. What keeps it from that is in the answer, a sentence each."
	push.DefaultStatus = http.StatusOK
	handle(s, h, push, func(ctx context.Context, in *pushing) (*answer[api.Push], error) {
		p, err := s.syncs.Push(ctx, in.Name, in.Body, callerOf(ctx).name)
		return &answer[api.Push]{p}, ofSystems(err)
	})
}

// pulls are runs of reading, and what came.
func (s *Service) pulls(h huma.API) {
	const tag = "Systems"
	type pulling struct {
		Name string `path:"name" doc:"The system's name"`
		Body api.NewPull
	}
	start := op(http.MethodPost, "/systems/{name}/pulls", "start-pull", tag, "load",
		"Read a kind of record out of a system")
	start.Description = "It goes on when the caller leaves; ask for it until it has ended. Records that are known as they " +
		"are bring nothing; the others go through the mapping into orders."
	start.DefaultStatus = http.StatusAccepted
	handle(s, h, start, func(ctx context.Context, in *pulling) (*answer[api.Pull], error) {
		p, err := s.syncs.Start(ctx, in.Name, in.Body, callerOf(ctx).name)
		return &answer[api.Pull]{p}, ofSystems(err)
	})
	dry := op(http.MethodPost, "/systems/{name}/pulls/dry-run", "try-pull", tag, "load", "What a pull would bring")
	dry.Description = "Records are read and mapped, the first thousand at most. Nothing is kept."
	dry.DefaultStatus = http.StatusOK
	handle(s, h, dry, func(ctx context.Context, in *pulling) (*answer[api.PullTried], error) {
		t, err := s.syncs.DryRun(ctx, in.Name, in.Body, callerOf(ctx).name)
		return &answer[api.PullTried]{t}, ofSystems(err)
	})
	type one struct {
		ID   int64 `path:"id"`
		Wait bool  `query:"wait" doc:"Answer when it has ended or the system is away, or after half a minute"`
	}
	handle(s, h, op(http.MethodGet, "/pulls/{id}", "get-pull", tag, "read", "A pull"),
		func(ctx context.Context, in *one) (*answer[api.Pull], error) {
			if in.Wait {
				short, stop := context.WithTimeout(ctx, waitFor)
				defer stop()
				p, err := s.syncs.Wait(short, in.ID)
				if err != nil && ctx.Err() == nil && errors.Is(err, context.DeadlineExceeded) {
					err = nil
				}
				return &answer[api.Pull]{p}, err
			}
			p, err := s.store.Pull(ctx, in.ID)
			return &answer[api.Pull]{p}, err
		})
	type list struct {
		Paging
		System string `query:"system"`
	}
	handle(s, h, op(http.MethodGet, "/pulls", "list-pulls", tag, "read", "List pulls, newest first"),
		func(ctx context.Context, in *list) (*paged[api.Pull], error) {
			before, err := in.number()
			if err != nil {
				return nil, err
			}
			all, err := s.store.Pulls(ctx, in.System, before, in.Limit+1)
			if err != nil {
				return nil, err
			}
			return pageOf(ctx, all, in.Limit, func(p api.Pull) string { return strconv.FormatInt(p.ID, 10) }), nil
		})
	s.arrivals(h)
}

func (s *Service) arrivals(h huma.API) {
	const tag = "Systems"
	handle(s, h, op(http.MethodGet, "/arrivals", "list-arrivals", tag, "read",
		"List what came from systems, newest first"),
		func(ctx context.Context, in *arrivalsOf) (*paged[api.Arrival], error) {
			before, err := in.number()
			if err != nil {
				return nil, err
			}
			all, err := s.store.Arrivals(ctx, in.filter(before))
			if err != nil {
				return nil, err
			}
			return pageOf(ctx, all, in.Limit, func(a api.Arrival) string { return strconv.FormatInt(a.ID, 10) }), nil
		})
	type one struct {
		ID int64 `path:"id"`
	}
	content := op(http.MethodGet, "/arrivals/{id}/content", "get-arrival-content", tag, "read",
		"An arrival, byte for byte")
	content.Responses = file("The bytes as they came", "application/json")
	handle(s, h, content, func(ctx context.Context, in *one) (*huma.StreamResponse, error) {
		b, err := s.store.ArrivalBody(ctx, in.ID)
		if err != nil {
			return nil, err
		}
		return stream("application/json", "arrival-"+strconv.FormatInt(in.ID, 10)+".json", bytesTo(b), s), nil
	})
}

// mostOfHook is how large a webhook may be.
const mostOfHook = 1 << 20

// hook processes a message of a system. Its sender has no token: the signature identifies it.
func (s *Service) hook(c *gin.Context) {
	name := c.Param("name")
	body, err := io.ReadAll(http.MaxBytesReader(c.Writer, c.Request.Body, mostOfHook))
	if err != nil {
		s.syncs.RefusedHook(name)
		abort(c, problem("too_large", fmt.Sprintf("A webhook may have %d MiB.", mostOfHook>>20)))
		return
	}
	status, err := s.syncs.Hook(c, name, c.Request.Header, body)
	var answer *system.AnswerError
	var p *remote.Problem
	var wrong *syncs.AskedError
	switch {
	case status == http.StatusUnauthorized:
		abort(c, problem("hook_refused", finding.Capital(err.Error())+"."))
	case errors.As(err, &answer):
		abort(c, problem("invalid_request", "The message "+strings.TrimPrefix(answer.Error(), "the answer ")+"."))
	case errors.As(err, &wrong), errors.Is(err, store.ErrNotFound):
		abort(c, problem("not_found", "Nothing takes webhooks of that name here."))
	case errors.As(err, &p):
		s.log.ErrorContext(c, "webhook", "system", name, "error", err)
		abort(c, problem("system_trouble", p.Why))
	case err != nil:
		s.log.ErrorContext(c, "webhook", "system", name, "error", err)
		abort(c, problem("internal", ""))
	default:
		c.Status(status)
	}
}

// ofSystems turns errors of a system, or about a request to one, into problems.
func ofSystems(err error) error {
	var p *remote.Problem
	var wrong *syncs.AskedError
	var several *store.SeveralError
	switch {
	case errors.As(err, &p):
		return problem("system_trouble", p.Why)
	case errors.As(err, &wrong):
		return problem("invalid_request", wrong.Why)
	case errors.As(err, &several):
		return problem("invalid_request", several.Error()+".")
	}
	return err
}

// waitFor is how long the answer to a pull waits.
const waitFor = 30 * time.Second

// arrivalsOf chooses arrivals.
type arrivalsOf struct {
	Paging
	System string `query:"system"`
	Record string `query:"record"`
	Key    string `query:"key" doc:"The record's key or number"`
	Pull   int64  `query:"pull" minimum:"0" doc:"Only those of one pull"`
}

func (in *arrivalsOf) filter(before int64) store.ArrivalFilter {
	return store.ArrivalFilter{System: in.System, Record: in.Record, Key: in.Key, Pull: in.Pull, Before: before,
		Limit: in.Limit + 1}
}

func bytesTo(b []byte) func(io.Writer) error {
	return func(w io.Writer) error {
		_, err := w.Write(b)
		return err
	}
}
