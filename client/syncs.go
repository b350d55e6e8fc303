package client

import (
	"bytes"
	"context"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"koinos/api"
)

func syncPath(name, rest string) string { return "/syncs/" + url.PathEscape(name) + rest }

// KeepSync stores a sync.
func (c *Client) KeepSync(ctx context.Context, text []byte) (out api.Sync, err error) {
	res, err := c.send(ctx, http.MethodPost, "/syncs", nil, "application/yaml", bytes.NewReader(text))
	if err != nil {
		return out, err
	}
	return out, decode(res, &out)
}

// Syncs lists syncs.
func (c *Client) Syncs(ctx context.Context) ([]api.Sync, error) {
	var out api.Page[api.Sync]
	err := c.call(ctx, http.MethodGet, "/syncs", nil, nil, &out)
	return out.Items, err
}

// Sync returns a sync, and how it does.
func (c *Client) Sync(ctx context.Context, name string) (out api.Sync, err error) {
	err = c.call(ctx, http.MethodGet, syncPath(name, ""), nil, nil, &out)
	return out, err
}

// PauseSync pauses or resumes a sync.
func (c *Client) PauseSync(ctx context.Context, name string, pause bool) (out api.Sync, err error) {
	verb := map[bool]string{true: "/pause", false: "/resume"}[pause]
	err = c.call(ctx, http.MethodPost, syncPath(name, verb), nil, nil, &out)
	return out, err
}

// RunSync begins a run of a sync.
func (c *Client) RunSync(ctx context.Context, name string, n api.NewSyncRun) (out api.SyncRun, err error) {
	err = c.once(ctx, syncPath(name, "/runs"), nil, n, &out)
	return out, err
}

// SyncRuns lists the runs of a sync, newest first.
func (c *Client) SyncRuns(ctx context.Context, name string, query url.Values) (out api.Page[api.SyncRun], err error) {
	err = c.call(ctx, http.MethodGet, syncPath(name, "/runs"), query, nil, &out)
	return out, err
}

// lookAt is how often a run or sync is fetched while somebody waits for it.
const lookAt = 100 * time.Millisecond

// UntilRun waits for the end of a run. It calls each with the run as it is meanwhile, and stops waiting if each returns
// false.
func (c *Client) UntilRun(ctx context.Context, id int64, each func(api.SyncRun) bool) (out api.SyncRun, err error) {
	path := "/sync-runs/" + strconv.FormatInt(id, 10)
	for {
		out = api.SyncRun{}
		if err = c.call(ctx, http.MethodGet, path, nil, nil, &out); err != nil || out.State != api.SyncRunning || !each(out) {
			return out, err
		}
		if err := pause(ctx); err != nil {
			return out, err
		}
	}
}

// UntilSettled waits in the same way until everything that came to a sync is done or held.
func (c *Client) UntilSettled(ctx context.Context, name string, each func(api.Sync) bool) (out api.Sync, err error) {
	for {
		if out, err = c.Sync(ctx, name); err != nil || out.State.Settled || !each(out) {
			return out, err
		}
		if err := pause(ctx); err != nil {
			return out, err
		}
	}
}

func pause(ctx context.Context) error {
	select {
	case <-ctx.Done():
		return context.Cause(ctx)
	case <-time.After(lookAt):
		return nil
	}
}

// StartCheck begins a comparison of a sync.
func (c *Client) StartCheck(ctx context.Context, name string, n api.NewCheck) (out api.SyncCheck, err error) {
	err = c.once(ctx, syncPath(name, "/checks"), nil, n, &out)
	return out, err
}

// UntilChecked waits for the end of a comparison. It calls each with the comparison as it is meanwhile.
func (c *Client) UntilChecked(ctx context.Context, id int64, each func(api.SyncCheck)) (out api.SyncCheck, err error) {
	for {
		out = api.SyncCheck{}
		if err = c.call(ctx, http.MethodGet, checkPath(id, ""), nil, nil, &out); err != nil || out.State != api.SyncRunning {
			return out, err
		}
		each(out)
		if err := pause(ctx); err != nil {
			return out, err
		}
	}
}

func checkPath(id int64, rest string) string { return "/checks/" + strconv.FormatInt(id, 10) + rest }

// Checks lists the comparisons of a sync, newest first.
func (c *Client) Checks(ctx context.Context, name string, query url.Values) (out api.Page[api.SyncCheck], err error) {
	err = c.call(ctx, http.MethodGet, syncPath(name, "/checks"), query, nil, &out)
	return out, err
}

// CheckRows lists what a comparison found.
func (c *Client) CheckRows(ctx context.Context, id int64, query url.Values) (out api.Page[api.CheckRow], err error) {
	err = c.call(ctx, http.MethodGet, checkPath(id, "/rows"), query, nil, &out)
	return out, err
}

// CheckReport writes what a comparison found, as csv, xlsx or json.
func (c *Client) CheckReport(ctx context.Context, id int64, format string, w io.Writer) error {
	res, err := c.send(ctx, http.MethodGet, checkPath(id, "/report"), url.Values{"format": {format}}, "", nil)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	_, err = io.Copy(w, res.Body)
	return err
}

// Tasks lists the orders of a sync that wait to be written, or are held.
func (c *Client) Tasks(ctx context.Context, name string, query url.Values) (out api.Page[api.Task], err error) {
	err = c.call(ctx, http.MethodGet, syncPath(name, "/tasks"), query, nil, &out)
	return out, err
}

// Pushed lists what was written into systems, newest first.
func (c *Client) Pushed(ctx context.Context, query url.Values) (out api.Page[api.Pushed], err error) {
	err = c.call(ctx, http.MethodGet, "/pushed", query, nil, &out)
	return out, err
}

// HeldOne returns one thing that is held.
func (c *Client) HeldOne(ctx context.Context, id int64) (out api.HeldDetail, err error) {
	err = c.call(ctx, http.MethodGet, "/held/"+strconv.FormatInt(id, 10), nil, nil, &out)
	return out, err
}

// RetryHeldMany retries the held work that a filter chooses.
func (c *Client) RetryHeldMany(ctx context.Context, f api.HeldFor) (out api.Retried, err error) {
	err = c.once(ctx, "/held/retry", nil, f, &out)
	return out, err
}

// PutAside puts held work aside, or lets it wait again.
func (c *Client) PutAside(ctx context.Context, n api.PutAside) (out api.Retried, err error) {
	err = c.once(ctx, "/held/put-aside", nil, n, &out)
	return out, err
}

// DecideHeld says whose values count if both sides changed them.
func (c *Client) DecideHeld(ctx context.Context, id int64, d api.Decision) (out api.Retried, err error) {
	err = c.once(ctx, "/held/"+strconv.FormatInt(id, 10)+"/decide", nil, d, &out)
	return out, err
}

// HeldReasons returns what is held by reason.
func (c *Client) HeldReasons(ctx context.Context) ([]api.HeldReason, error) {
	var out api.Page[api.HeldReason]
	err := c.call(ctx, http.MethodGet, "/held-reasons", nil, nil, &out)
	return out.Items, err
}
