package service

import (
	"context"
	"koinos/api"
	"net/http"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"
)

func (s *Service) access(h huma.API) {
	const tag = "Access"
	handle(s, h, op(http.MethodGet, "/session", "get-session", tag, "read", "Who the caller is and what it may do"),
		func(ctx context.Context, _ *none) (*answer[api.Session], error) {
			who := callerOf(ctx)
			return &answer[api.Session]{api.Session{Name: who.name, Scopes: who.scopes, Tokens: s.cfg.RequireToken,
					Narrowed: who.only}},
				nil
		})

	type create struct{ Body api.NewToken }
	handle(s, h, op(http.MethodPost, "/tokens", "create-token", tag, "admin",
		"Make an access token; its secret is shown this once"),
		func(ctx context.Context, in *create) (*answer[api.CreatedToken], error) {
			if ends := in.Body.ExpiresAt; ends != nil && !ends.After(s.now()) {
				p := problem("invalid_request", "The token would have ended already.")
				p.Invalid = []api.Invalid{{Where: "body.expires_at", Message: ends.Format(time.RFC3339)}}
				return nil, p
			}
			if in.Body.Scope == "admin" && in.Body.Narrowed.Is() {
				return nil, problem("invalid_request", "A token of scope admin cannot be narrowed.")
			}
			t, secret, err := s.store.NewToken(ctx, in.Body, s.now())
			return &answer[api.CreatedToken]{api.CreatedToken{Token: t, Secret: secret}}, err
		})

	handle(s, h, op(http.MethodGet, "/tokens", "list-tokens", tag, "admin", "List access tokens"),
		func(ctx context.Context, _ *none) (*answer[api.Page[api.Token]], error) {
			tokens, err := s.store.Tokens(ctx)
			return &answer[api.Page[api.Token]]{api.Page[api.Token]{Items: tokens}}, err
		})

	handle(s, h, op(http.MethodGet, "/audit", "list-audit", tag, "admin", "What administrators changed, newest first"),
		func(ctx context.Context, in *Paging) (*paged[api.Audit], error) {
			before, err := in.number()
			if err != nil {
				return nil, err
			}
			all, err := s.store.Audit(ctx, before, in.Limit+1)
			if err != nil {
				return nil, err
			}
			return pageOf(ctx, all, in.Limit, func(a api.Audit) string { return strconv.FormatInt(a.ID, 10) }), nil
		})

	type one struct {
		ID int64 `path:"id"`
	}
	revoke := op(http.MethodDelete, "/tokens/{id}", "revoke-token", tag, "admin", "End an access token")
	revoke.DefaultStatus = http.StatusNoContent
	handle(s, h, revoke, func(ctx context.Context, in *one) (*struct{}, error) {
		return nil, s.store.RevokeToken(ctx, in.ID, s.now())
	})
}
