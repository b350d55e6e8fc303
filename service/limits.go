package service

import (
	"context"
	"io"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humagin"
	"golang.org/x/sync/semaphore"
)

// What all callers together may use of a service.
const (
	mostConnections = 2_000
	mostHeader      = 64 << 10         // bytes of a request's line and headers
	patience        = time.Minute      // in which a body, or the reader of an answer, must move on
	queued          = 30 * time.Second // that a costly request waits for its turn
	// Costly requests keep a document, or a part of it, in memory. A draft counts as much as three others.
	mostCostly  = 4
	mostForOne  = 3
	mostLogged  = 300 // characters of a path in logs and answers
	writtenOnce = 64 << 10
	// Orders of more lines than longOrder are costly to read, and those of more than longestOrder as costly as a draft.
	longOrder, longestOrder = 500, 5_000

	busy = "Others ask for as much as the service does at once; ask again in a minute."
)

// costly are the operations that take turns, by what each counts.
var costly = map[string]int64{
	"draft-mapping": 3, "draft-system": 1, "get-report": 1, "refresh-report": 1, "write-document": 1,
	"get-check-report": 1,
	"preview-mapping":  1, "cover-document": 1, "compare-mappings": 1, "get-document-rows": 1, "get-segments": 1,
	"get-set-orders": 1, "get-paper": 1,
}

// turns lets costly requests run one after another, and keeps one caller from delaying all others.
type turns struct {
	all    *semaphore.Weighted
	mu     sync.Mutex
	of     map[string]*callerTurns
	queued time.Duration
}

type callerTurns struct {
	*semaphore.Weighted
	users int
}

func newTurns() *turns {
	return &turns{all: semaphore.NewWeighted(mostCostly), of: map[string]*callerTurns{}, queued: queued}
}

// take waits for a turn of a caller, and returns how it ends; false means that it took too long.
func (t *turns) take(ctx context.Context, who string, n int64) (end func(), ok bool) {
	ctx, cancel := context.WithTimeout(ctx, t.queued)
	defer cancel()
	t.mu.Lock()
	own := t.of[who]
	if own == nil {
		own = &callerTurns{Weighted: semaphore.NewWeighted(mostForOne)}
		t.of[who] = own
	}
	own.users++
	t.mu.Unlock()
	leave := func() {
		t.mu.Lock()
		defer t.mu.Unlock()
		if own.users--; own.users == 0 {
			delete(t.of, who)
		}
	}
	if own.Acquire(ctx, n) != nil {
		leave()
		return nil, false
	}
	if t.all.Acquire(ctx, n) != nil {
		own.Release(n)
		leave()
		return nil, false
	}
	return func() { t.all.Release(n); own.Release(n); leave() }, true
}

// weight is what a request of an operation counts. One about an order, by its id, counts by the order's lines.
func (s *Service) weight(ctx context.Context, o *huma.Operation, order string) int64 {
	if !strings.HasPrefix(o.Path, "/api/v1/orders/{id}") {
		return costly[o.OperationID]
	}
	id, err := strconv.ParseInt(order, 10, 64)
	if err != nil {
		return 0 // it is refused
	}
	head, err := s.store.Head(ctx, id)
	switch {
	case err != nil || head.Lines <= longOrder: // the operation says what is wrong
		return 0
	case head.Lines <= longestOrder:
		return 1
	}
	return mostForOne
}

// limit makes costly requests take turns, and gives up on bodies that do not progress.
func (s *Service) limit(h huma.API) func(huma.Context, func(huma.Context)) {
	return func(ctx huma.Context, next func(huma.Context)) {
		o := ctx.Operation()
		if n := s.weight(ctx.Context(), o, ctx.Param("id")); n > 0 {
			end, ok := s.turns.take(ctx.Context(), callerOf(ctx.Context()).key(), n)
			if !ok {
				p := problem("busy", busy)
				p.Request = requestID(ctx.Context())
				ctx.SetHeader("Retry-After", "60")
				write(h, ctx, p)
				return
			}
			defer end()
		}
		if o.BodyReadTimeout < 0 {
			c := humagin.Unwrap(ctx)
			c.Request.Body = &movingBody{c.Request.Body, http.NewResponseController(c.Writer), patience}
		}
		next(ctx)
	}
}

// movingBody is a body that is given up when nothing more of it has come for a while.
type movingBody struct {
	io.ReadCloser
	connection *http.ResponseController
	patience   time.Duration
}

func (b *movingBody) Read(p []byte) (int, error) {
	// A connection without deadlines is one of a test.
	_ = b.connection.SetReadDeadline(time.Now().Add(b.patience))
	n, err := b.ReadCloser.Read(p)
	if err != nil { // what comes behind the body is waited for by other rules
		_ = b.connection.SetReadDeadline(time.Time{})
	}
	return n, err
}

// movingReader is a writer that gives up when its reader does not move on.
type movingReader struct {
	io.Writer
	connection *http.ResponseController
	patience   time.Duration
}

func (w *movingReader) Write(p []byte) (n int, err error) {
	for len(p) > 0 && err == nil {
		_ = w.connection.SetWriteDeadline(time.Now().Add(w.patience))
		var k int
		k, err = w.Writer.Write(p[:min(len(p), writtenOnce)])
		n += k
		p = p[k:]
	}
	return n, err
}

// shortened is a text of a caller in the form in which logs and answers contain it.
func shortened(s string) string {
	if len(s) > mostLogged {
		return s[:mostLogged] + "…"
	}
	return s
}
