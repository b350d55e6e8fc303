package service

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"koinos/client"
	"koinos/store"
)

func (s *Service) access(api huma.API) {
	const tag = "Access"
	handle(s, api, op(http.MethodGet, "/session", "get-session", tag, "read", "Who the caller is and what it may do"),
		func(ctx context.Context, _ *none) (*answer[client.Session], error) {
			who := callerOf(ctx)
			return &answer[client.Session]{client.Session{Name: who.name, Scopes: who.scopes, Tokens: s.cfg.RequireToken}}, nil
		})

	type create struct{ Body client.NewToken }
	handle(s, api, op(http.MethodPost, "/tokens", "create-token", tag, "admin", "Make an access token; its secret is shown this once"),
		func(ctx context.Context, in *create) (*answer[client.CreatedToken], error) {
			t, secret, err := s.store.NewToken(ctx, in.Body.Name, in.Body.Scope, s.now())
			return &answer[client.CreatedToken]{client.CreatedToken{Token: t, Secret: secret}}, err
		})

	handle(s, api, op(http.MethodGet, "/tokens", "list-tokens", tag, "admin", "List access tokens"),
		func(ctx context.Context, _ *none) (*answer[client.Page[store.Token]], error) {
			tokens, err := s.store.Tokens(ctx)
			return &answer[client.Page[store.Token]]{client.Page[store.Token]{Items: tokens}}, err
		})

	type one struct {
		ID int64 `path:"id"`
	}
	revoke := op(http.MethodDelete, "/tokens/{id}", "revoke-token", tag, "admin", "End an access token")
	revoke.DefaultStatus = http.StatusNoContent
	handle(s, api, revoke, func(ctx context.Context, in *one) (*struct{}, error) {
		return nil, s.store.RevokeToken(ctx, in.ID, s.now())
	})
}
