package service

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"koinos/api"
	"koinos/core/outcome"
	"koinos/load"
)

// oneCall is the multipart call that does everything.
type oneCall struct {
	RawBody huma.MultipartFormFiles[struct {
		File    huma.FormFile `form:"file" required:"true" doc:"The document"`
		Mapping string        `form:"mapping" required:"true" doc:"Name of a mapping, or a mapping's YAML"`
		Options string        `form:"options" required:"false" doc:"What is asked of the load, as JSON: {\"dry_run\": true}"`
	}]
}

func (s *Service) loadAtOnce(h huma.API) {
	all := op(http.MethodPost, "/load", "load-document", "Loads", "load",
		"Upload a document, load it, and wait for the report")
	all.Description = "One multipart call for programs that want nothing in between. With an Idempotency-Key it can " +
		"be sent again when the answer was lost."
	all.DefaultStatus, all.BodyReadTimeout, all.MaxBodyBytes = http.StatusOK, -1, s.cfg.MaxBody
	handle(s, h, all, func(ctx context.Context, in *oneCall) (*answer[api.LoadReport], error) {
		form := in.RawBody.Data()
		defer form.File.Close()
		var opt outcome.Options
		if form.Options != "" {
			if err := strictJSON(form.Options, &opt); err != nil {
				p := problem("invalid_request", "options cannot be read.")
				p.Invalid = []api.Invalid{{Where: "body.options", Message: err.Error()}}
				return nil, p
			}
		}
		name, version := strings.TrimSpace(form.Mapping), 0
		if strings.Contains(name, "\n") {
			if !slices.Contains(callerOf(ctx).scopes, "admin") {
				return nil, problem("not_allowed",
					"Sending a mapping along needs a token of scope admin; name one that is here instead.")
			}
			if opt.DryRun {
				tried, err := s.tryMapping(ctx, form.Mapping)
				if err != nil {
					return nil, err
				}
				name, version = tried.Name, tried.Version
			} else {
				kept, err := s.keepMapping(ctx, form.Mapping)
				if err != nil {
					return nil, err
				}
				name = kept.Name
			}
		}
		got, err := s.receive(ctx, &upload{streamed{form.File}, form.File.Filename})
		if err != nil {
			return nil, err
		}
		l, err := s.engine.Start(ctx, load.Request{Document: got.Body.SHA, Mapping: name, Version: version,
			Options: opt, By: callerOf(ctx).name, Name: requestName(ctx)})
		if err != nil {
			return nil, err
		}
		if _, err := s.engine.Wait(ctx, l.ID); err != nil {
			return nil, fmt.Errorf("load %d goes on: %w", l.ID, err)
		}
		rep, err := s.loadReport(ctx, l.ID)
		return &answer[api.LoadReport]{rep}, err
	})
}

// strictJSON reads JSON that contains only what into has.
func strictJSON(text string, into any) error {
	d := json.NewDecoder(strings.NewReader(text))
	d.DisallowUnknownFields()
	return d.Decode(into)
}
