package client

import (
	"context"
	"crypto/rand"
	"errors"
	"net"
	"net/http"
	"net/url"
	"time"

	"koinos/api"
)

// patience is how long a request is sent again after its answer was lost, and breath how long the client waits before
// each time.
const patience, breath = 15 * time.Second, 300 * time.Millisecond

// once is call for a POST that must be done once: it has an Idempotency-Key, and is sent again if the connection breaks
// before its answer comes, also while the service starts again.
func (c *Client) once(ctx context.Context, path string, query url.Values, in, out any) error {
	calls := c.with("Idempotency-Key", rand.Text())
	for end, first := time.Now().Add(patience), true; ; first = false {
		err := calls.call(ctx, http.MethodPost, path, query, in, out)
		if err == nil || !lost(err, first) || time.Now().After(end) {
			return err
		}
		select {
		case <-ctx.Done():
			return err
		case <-time.After(breath):
		}
	}
}

// lost reports whether a request may have been received although its answer did not come. A service that has never
// answered has not received it.
func lost(err error, first bool) bool {
	if problem := (*api.Problem)(nil); errors.As(err, &problem) {
		return problem.Code == "key_in_use" || problem.Code == "stopping"
	}
	dial := (*net.OpError)(nil)
	return errors.Is(err, ErrAway) && !(first && errors.As(err, &dial) && dial.Op == "dial")
}
