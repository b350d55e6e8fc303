package client

import (
	"context"
	"crypto/rand"
	"errors"
	"io"
	"net"
	"net/http"
	"net/url"
	"sync"
	"time"

	"koinos/api"
)

// breath is how long the client waits before it sends a request again.
const breath = 300 * time.Millisecond

// once is call for a POST that must be done once: it has an Idempotency-Key, and is sent again while its answer is
// lost.
func (c *Client) once(ctx context.Context, path string, query url.Values, in, out any) error {
	calls := c.with("Idempotency-Key", rand.Text())
	return c.patiently(ctx, func() (heard bool, err error) {
		return false, calls.call(ctx, http.MethodPost, path, query, in, out)
	})
}

// upload posts a file, from its beginning each time that the answer is lost. The service knows the same content again.
func (c *Client) upload(ctx context.Context, path, name string, file io.ReadSeeker, out any) error {
	return c.patiently(ctx, func() (heard bool, err error) {
		if _, err := file.Seek(0, io.SeekStart); err != nil {
			return false, err
		}
		body := &part{file: file}
		res, err := c.send(ctx, http.MethodPost, path, url.Values{"name": {name}}, "application/octet-stream", body)
		body.Close()
		if err != nil {
			return false, err
		}
		return false, decode(res, out)
	})
}

// part is a file as one request sends it. After Close nothing reads the file any more, which a request may still do when
// its answer is there; the file itself stays open, for it may be needed once more.
type part struct {
	mu     sync.Mutex
	file   io.Reader
	closed bool
}

func (p *part) Read(b []byte) (int, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.closed {
		return 0, io.ErrClosedPipe
	}
	return p.file.Read(b)
}

func (p *part) Close() error {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.closed = true
	return nil
}

// patiently makes a request again and again if the connection breaks before its answer comes, also while the service
// starts again, until nothing was heard of the service for the client's patience.
func (c *Client) patiently(ctx context.Context, request func() (heard bool, err error)) error {
	var end time.Time
	for first := true; ; first = false {
		heard, err := request()
		if err == nil || !lost(err, first && !heard) {
			return err
		}
		if now := time.Now(); heard || end.IsZero() {
			end = now.Add(c.patience)
		} else if now.After(end) {
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
