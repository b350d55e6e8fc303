package client

import (
	"context"
	"net/http"
	"net/url"

	"koinos/api"
)

// AddSubscription adds a subscriber, who is told what happens to orders.
func (c *Client) AddSubscription(ctx context.Context, n api.NewSubscription) (out api.CreatedSubscription, err error) {
	err = c.call(ctx, http.MethodPost, "/subscriptions", nil, n, &out)
	return out, err
}

// Subscriptions lists the subscribers.
func (c *Client) Subscriptions(ctx context.Context) ([]api.Subscription, error) {
	var out api.Page[api.Subscription]
	err := c.call(ctx, http.MethodGet, "/subscriptions", nil, nil, &out)
	return out.Items, err
}

// RemoveSubscription removes a subscription with its deliveries.
func (c *Client) RemoveSubscription(ctx context.Context, name string) error {
	return c.call(ctx, http.MethodDelete, "/subscriptions/"+url.PathEscape(name), nil, nil, nil)
}

// SetSubscription pauses or resumes a subscription.
func (c *Client) SetSubscription(ctx context.Context, name string, active bool) (out api.Subscription, err error) {
	verb := map[bool]string{false: "pause", true: "resume"}[active]
	err = c.call(ctx, http.MethodPost, "/subscriptions/"+url.PathEscape(name)+"/"+verb, nil, nil, &out)
	return out, err
}

// Deliveries lists the messages to a subscriber, newest first.
func (c *Client) Deliveries(ctx context.Context, name string, query url.Values) (out api.Page[api.Delivery],
	err error) {
	err = c.call(ctx, http.MethodGet, "/subscriptions/"+url.PathEscape(name)+"/deliveries", query, nil, &out)
	return out, err
}

// ResendDeliveries sends messages to a subscriber again.
func (c *Client) ResendDeliveries(ctx context.Context, name string, r api.Resend) (out api.Resent, err error) {
	err = c.once(ctx, "/subscriptions/"+url.PathEscape(name)+"/resend", nil, r, &out)
	return out, err
}
