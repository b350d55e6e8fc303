package service

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"koinos/api"
	"koinos/core/mapping"
)

type ByMapping struct {
	Name    string `path:"name"`
	Version int    `query:"version" minimum:"0" doc:"By default the newest"`
}

func (s *Service) mappings(h huma.API) {
	const tag = "Mappings"
	type body struct{ RawBody []byte }
	put := op(http.MethodPost, "/mappings", "keep-mapping", tag, "admin", "Keep a mapping")
	put.Description = "The body is the mapping's YAML. Changed text of a known name makes a new version; the same " +
		"text makes none. A mapping with mistakes is not kept: the problem names each with its line and column."
	put.RequestBody = &huma.RequestBody{Required: true,
		Content: map[string]*huma.MediaType{"application/yaml": {Schema: &huma.Schema{Type: "string"}}}}
	put.Errors = append(put.Errors, http.StatusUnprocessableEntity)
	handle(s, h, put, func(ctx context.Context, in *body) (*answer[api.MappingDetail], error) {
		kept, err := s.keepMapping(ctx, string(in.RawBody))
		return &answer[api.MappingDetail]{kept}, err
	})

	handle(s, h, op(http.MethodGet, "/mappings", "list-mappings", tag, "read",
		"List mappings, each in its newest version"),
		func(ctx context.Context, _ *none) (*answer[api.Page[api.MappingDetail]], error) {
			kept, err := s.store.Mappings(ctx)
			page := api.Page[api.MappingDetail]{Items: make([]api.MappingDetail, len(kept))}
			for i, k := range kept {
				page.Items[i] = detail(k)
				page.Items[i].Text = ""
			}
			return &answer[api.Page[api.MappingDetail]]{page}, err
		})

	handle(s, h, op(http.MethodGet, "/mappings/{name}", "get-mapping", tag, "read", "A mapping's text"),
		func(ctx context.Context, in *ByMapping) (*answer[api.MappingDetail], error) {
			kept, err := s.store.Mapping(ctx, in.Name, in.Version)
			if err != nil {
				return nil, err
			}
			return &answer[api.MappingDetail]{detail(kept)}, nil
		})

	handle(s, h, op(http.MethodGet, "/mapping.schema.json", "get-mapping-schema", tag, "read",
		"JSON Schema of mappings, for editors"),
		func(context.Context, *none) (*answer[map[string]any], error) {
			return &answer[map[string]any]{mapping.Schema()}, nil
		})
}

func (s *Service) keepMapping(ctx context.Context, text string) (api.MappingDetail, error) {
	m, err := mapping.Parse([]byte(text))
	if err != nil {
		return api.MappingDetail{}, err
	}
	kept, err := s.store.PutMapping(ctx, api.Mapping{Name: m.Name, Text: m.Text, StoredAt: s.now().UTC(),
		StoredBy: callerOf(ctx).name})
	return api.MappingDetail{Mapping: kept, About: m.About, Describe: m.Describe()}, err
}

// tryMapping makes a mapping available to dry runs without storing it.
func (s *Service) tryMapping(ctx context.Context, text string) (api.Mapping, error) {
	m, err := mapping.Parse([]byte(text))
	if err != nil {
		return api.Mapping{}, err
	}
	return s.store.TryMapping(ctx, api.Mapping{Name: m.Name, Text: m.Text, StoredAt: s.now().UTC(),
		StoredBy: callerOf(ctx).name})
}

func detail(kept api.Mapping) api.MappingDetail {
	d := api.MappingDetail{Mapping: kept}
	if m, err := mapping.ParseKept(kept.Text); err == nil {
		d.About, d.Describe = m.About, m.Describe()
	} else {
		d.Describe = "not understood by this version of Koinos: " + err.Error()
	}
	return d
}
