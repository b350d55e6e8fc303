package client

import (
	"context"
	"net/http"
	"net/url"

	"koinos/api"
)

// Noun is what has a name that can be changed: mapping, sequence, list or crosswalk.
type Noun string

func (n Noun) path(name string) string { return "/" + string(n) + "s/" + url.PathEscape(name) }

// Uses returns what uses a mapping, sequence, list or crosswalk.
func (c *Client) Uses(ctx context.Context, noun Noun, name string) ([]api.Use, error) {
	var out api.Page[api.Use]
	err := c.call(ctx, http.MethodGet, noun.path(name)+"/uses", nil, nil, &out)
	return out.Items, err
}

// Remove removes a mapping, sequence, list or crosswalk that nothing uses.
func (c *Client) Remove(ctx context.Context, noun Noun, name string) error {
	return c.call(ctx, http.MethodDelete, noun.path(name), nil, nil, nil)
}

// Rename renames a mapping, sequence, list or crosswalk, here and in all that uses it.
func (c *Client) Rename(ctx context.Context, noun Noun, name, to string) (out api.Renamed, err error) {
	err = c.call(ctx, http.MethodPost, noun.path(name)+"/rename", nil, api.Rename{To: to}, &out)
	return out, err
}
