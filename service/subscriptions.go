package service

import (
	"context"
	"errors"
	"net/http"
	"strconv"

	"github.com/danielgtaylor/huma/v2"

	"koinos/api"
	"koinos/notify"
	"koinos/store"
)

// ofSubscriptions turns errors about a request into problems.
func ofSubscriptions(err error) error {
	var no *notify.RefusedError
	switch {
	case errors.As(err, &no):
		return problem("invalid_request", no.Why)
	case errors.Is(err, store.ErrNameTaken):
		return problem("name_taken", "There is a subscription of this name. Remove it, or choose another name.")
	}
	return err
}

// subscriptions are the operations on subscribers, who are told what happens to orders.
func (s *Service) subscriptions(h huma.API) {
	const tag = "Subscriptions"
	type byName struct {
		Name string `path:"name" doc:"The subscription's name"`
	}
	type adding struct{ Body api.NewSubscription }
	add := op(http.MethodPost, "/subscriptions", "add-subscription", tag, "admin",
		"Tell somebody what happens to orders")
	add.Description = "Each event from now on is posted to the address once, signed as Standard Webhooks has it, and tried " +
		"for a day with the same webhook-id. The secret is in the answer, and is not shown again."
	add.DefaultStatus = http.StatusCreated
	handle(s, h, add, func(ctx context.Context, in *adding) (*answer[api.CreatedSubscription], error) {
		made, err := s.notifier.Add(ctx, in.Body, callerOf(ctx).name)
		return &answer[api.CreatedSubscription]{made}, ofSubscriptions(err)
	})
	handle(s, h, op(http.MethodGet, "/subscriptions", "list-subscriptions", tag, "read", "List subscriptions"),
		func(ctx context.Context, _ *none) (*answer[api.Page[api.Subscription]], error) {
			all, err := s.store.Subscriptions(ctx)
			return &answer[api.Page[api.Subscription]]{api.Page[api.Subscription]{Items: all}}, err
		})
	handle(s, h, op(http.MethodGet, "/subscriptions/{name}", "get-subscription", tag, "read", "A subscription"),
		func(ctx context.Context, in *byName) (*answer[api.Subscription], error) {
			y, err := s.store.Subscription(ctx, in.Name)
			return &answer[api.Subscription]{y}, err
		})
	remove := op(http.MethodDelete, "/subscriptions/{name}", "remove-subscription", tag, "admin",
		"Remove a subscription with its deliveries")
	remove.DefaultStatus = http.StatusNoContent
	handle(s, h, remove, func(ctx context.Context, in *byName) (*none, error) {
		return nil, s.notifier.Remove(ctx, in.Name)
	})
	for name, active := range map[string]bool{"pause": false, "resume": true} {
		about := map[bool]string{false: "Tell somebody nothing until it is resumed; what happens meanwhile waits",
			true: "Send what waits, and go on"}[active]
		set := op(http.MethodPost, "/subscriptions/{name}/"+name, name+"-subscription", tag, "admin", about)
		set.DefaultStatus = http.StatusOK
		handle(s, h, set, func(ctx context.Context, in *byName) (*answer[api.Subscription], error) {
			y, err := s.notifier.Set(ctx, in.Name, active, callerOf(ctx).name)
			return &answer[api.Subscription]{y}, err
		})
	}
	type listing struct {
		Name string `path:"name" doc:"The subscription's name"`
		Paging
		State string `query:"state" enum:"waiting,delivered,failed"`
	}
	handle(s, h, op(http.MethodGet, "/subscriptions/{name}/deliveries", "list-deliveries", tag, "read",
		"The messages to a subscriber, newest first"),
		func(ctx context.Context, in *listing) (*paged[api.Delivery], error) {
			before, err := in.number()
			if err != nil {
				return nil, err
			}
			y, err := s.store.Subscription(ctx, in.Name)
			if err != nil {
				return nil, err
			}
			all, err := s.store.Deliveries(ctx, y.ID, in.State, before, in.Limit+1)
			if err != nil {
				return nil, err
			}
			return pageOf(ctx, all, in.Limit, func(d api.Delivery) string { return strconv.FormatInt(d.ID, 10) }), nil
		})
	type resending struct {
		Name string `path:"name" doc:"The subscription's name"`
		Body api.Resend
	}
	again := op(http.MethodPost, "/subscriptions/{name}/resend", "resend-deliveries", tag, "admin",
		"Send messages again, with the ids that they had")
	again.DefaultStatus = http.StatusOK
	handle(s, h, again, func(ctx context.Context, in *resending) (*answer[api.Resent], error) {
		n, err := s.notifier.Resend(ctx, in.Name, in.Body)
		return &answer[api.Resent]{api.Resent{Count: n}}, err
	})
}
