package client

import (
	"bytes"
	"context"
	"io"
	"net/http"
	"net/url"
	"strconv"

	"koinos/api"
	"koinos/core/system/draft"
)

// KeepSystem stores a system's description.
func (c *Client) KeepSystem(ctx context.Context, text []byte) (out api.System, err error) {
	res, err := c.send(ctx, http.MethodPost, "/systems", nil, "application/yaml", bytes.NewReader(text))
	if err != nil {
		return out, err
	}
	return out, decode(res, &out)
}

// Systems lists systems.
func (c *Client) Systems(ctx context.Context) ([]api.System, error) {
	var out api.Page[api.System]
	err := c.call(ctx, http.MethodGet, "/systems", nil, nil, &out)
	return out.Items, err
}

// System returns a system's newest description.
func (c *Client) System(ctx context.Context, name string) (out api.System, err error) {
	err = c.call(ctx, http.MethodGet, "/systems/"+url.PathEscape(name), nil, nil, &out)
	return out, err
}

// SystemCalls lists the last calls of a system, the newest first.
func (c *Client) SystemCalls(ctx context.Context, name string) ([]api.SystemCall, error) {
	var out api.Page[api.SystemCall]
	err := c.call(ctx, http.MethodGet, "/systems/"+url.PathEscape(name)+"/calls", nil, nil, &out)
	return out.Items, err
}

// SystemHooks lists the webhooks of a system.
func (c *Client) SystemHooks(ctx context.Context, name string, query url.Values) (out api.Page[api.Hook], err error) {
	err = c.call(ctx, http.MethodGet, "/systems/"+url.PathEscape(name)+"/hooks", query, nil, &out)
	return out, err
}

// SystemFiles lists the files that came into a system's folders.
func (c *Client) SystemFiles(ctx context.Context, name string, query url.Values) (out api.Page[api.SystemFile],
	err error) {
	err = c.call(ctx, http.MethodGet, "/systems/"+url.PathEscape(name)+"/files", query, nil, &out)
	return out, err
}

// RegisterHooks registers the service's address for a system's webhooks.
func (c *Client) RegisterHooks(ctx context.Context, name string) (out api.Registered, err error) {
	err = c.call(ctx, http.MethodPost, "/systems/"+url.PathEscape(name)+"/register", nil, nil, &out)
	return out, err
}

// DraftSystem proposes a description from an API's own document.
func (c *Client) DraftSystem(ctx context.Context, document []byte, records ...string) (out draft.Draft, err error) {
	res, err := c.send(ctx, http.MethodPost, "/systems/draft", url.Values{"record": records},
		"application/octet-stream",
		bytes.NewReader(document))
	if err != nil {
		return out, err
	}
	return out, decode(res, &out)
}

// TrySystem tries a description.
func (c *Client) TrySystem(ctx context.Context, n api.NewTry) (out api.Tried, err error) {
	err = c.call(ctx, http.MethodPost, "/systems/try", nil, n, &out)
	return out, err
}

// StartPull begins to read a kind of record out of a system.
func (c *Client) StartPull(ctx context.Context, name string, n api.NewPull) (out api.Pull, err error) {
	err = c.once(ctx, "/systems/"+url.PathEscape(name)+"/pulls", nil, n, &out)
	return out, err
}

// TryPull says what a pull would bring.
func (c *Client) TryPull(ctx context.Context, name string, n api.NewPull) (out api.PullTried, err error) {
	err = c.call(ctx, http.MethodPost, "/systems/"+url.PathEscape(name)+"/pulls/dry-run", nil, n, &out)
	return out, err
}

// UntilPulled returns a pull when it has ended or the system is away.
func (c *Client) UntilPulled(ctx context.Context, id int64) (out api.Pull, err error) {
	for err == nil && (out.State == "" || out.State == api.PullRunning) {
		err = c.call(ctx, http.MethodGet, "/pulls/"+strconv.FormatInt(id, 10), url.Values{"wait": {"true"}}, nil, &out)
	}
	return out, err
}

// Pulls returns a page of pulls, newest first.
func (c *Client) Pulls(ctx context.Context, query url.Values) (out api.Page[api.Pull], err error) {
	err = c.call(ctx, http.MethodGet, "/pulls", query, nil, &out)
	return out, err
}

// Arrivals returns a page of what came from systems, newest first.
func (c *Client) Arrivals(ctx context.Context, query url.Values) (out api.Page[api.Arrival], err error) {
	err = c.call(ctx, http.MethodGet, "/arrivals", query, nil, &out)
	return out, err
}

// ArrivalContent writes an arrival's bytes.
func (c *Client) ArrivalContent(ctx context.Context, id int64, w io.Writer) error {
	res, err := c.send(ctx, http.MethodGet, "/arrivals/"+strconv.FormatInt(id, 10)+"/content", nil, "", nil)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	_, err = io.Copy(w, res.Body)
	return err
}

// Push makes a record of a system say what an order says.
func (c *Client) Push(ctx context.Context, system string, n api.NewPush) (out api.Push, err error) {
	err = c.once(ctx, "/systems/"+url.PathEscape(system)+"/pushes", nil, n, &out)
	return out, err
}
