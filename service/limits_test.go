package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"koinos/core/order"
	"koinos/core/outcome"
	"koinos/core/source"
	"koinos/load"
	"koinos/store/storetest"
)

// TestCostlyNames makes sure that what takes turns is what the API has.
func TestCostlyNames(t *testing.T) {
	b, err := os.ReadFile("../docs/openapi.json")
	if err != nil {
		t.Fatal(err)
	}
	var spec struct {
		Paths map[string]map[string]struct {
			OperationID string `json:"operationId"`
		} `json:"paths"`
	}
	if err := json.Unmarshal(b, &spec); err != nil {
		t.Fatal(err)
	}
	has := map[string]bool{}
	for _, methods := range spec.Paths {
		for _, o := range methods {
			has[o.OperationID] = true
		}
	}
	for name, n := range costly {
		if !has[name] || n < 1 || n > mostForOne {
			t.Errorf("%s counts %d, and the API knows it: %t", name, n, has[name])
		}
	}
}

// TestTurns lets one caller take no more than its share, whatever it asks for, and others go on.
func TestTurns(t *testing.T) {
	ctx := context.Background()
	turns := newTurns()
	turns.queued = 20 * time.Millisecond
	take := func(who string, n int64) func() {
		end, ok := turns.take(ctx, who, n)
		if !ok {
			return nil
		}
		return end
	}
	first, second := take("a", 1), take("a", 2)
	if first == nil || second == nil || take("a", 1) != nil {
		t.Fatal("a may have three, and has others")
	}
	other := take("b", 1)
	if other == nil {
		t.Fatal("b waits for a")
	}
	if take("c", 1) != nil {
		t.Fatal("there is a fifth")
	}
	second()
	third := take("c", 2)
	if third == nil {
		t.Fatal("what a gave back is not there for c")
	}
	for _, end := range []func(){first, other, third} {
		end()
	}
	if len(turns.of) != 0 || !turns.all.TryAcquire(mostCostly) {
		t.Errorf("something is left: %v", turns.of)
	}
}

// What is asked about a long order counts by its lines, whatever is asked of it; a short one need not wait.
func TestWeight(t *testing.T) {
	st := storetest.Open(t, t.TempDir())
	defer st.Close()
	e := load.New(st, source.DefaultLimits, time.Now, slog.New(slog.DiscardHandler))
	s := &Service{store: st}
	for _, lines := range []int{1, longOrder, longOrder + 1, longestOrder, longestOrder + 1} {
		o := order.Order{Kind: order.Sales, Partner: "P", SenderNumber: fmt.Sprint("A-", lines)}
		for range lines {
			o.Lines = append(o.Lines, order.Line{Item: "00417", Quantity: order.NumberOf(1)})
		}
		body, err := json.Marshal(o)
		if err != nil {
			t.Fatal(err)
		}
		if p, err := e.Post(t.Context(), &o, body, outcome.Skip, "test"); err != nil || p.OrderID == 0 {
			t.Fatal(p.Findings, err)
		}
	}
	for _, c := range []struct {
		path, operation, order string
		want                   int64
	}{
		{"/api/v1/orders/{id}", "get-order", "1", 0},
		{"/api/v1/orders/{id}", "get-order", "2", 0},
		{"/api/v1/orders/{id}", "get-order", "3", 1},
		{"/api/v1/orders/{id}/why", "get-why", "4", 1},
		{"/api/v1/orders/{id}/shipments", "ship-order", "5", mostForOne},
		{"/api/v1/orders/{id}", "get-order", "99", 0},
		{"/api/v1/orders/{id}", "get-order", "x", 0},
		{"/api/v1/orders", "list-orders", "", 0},
		{"/api/v1/mappings/draft", "draft-mapping", "", 3},
	} {
		if got := s.weight(t.Context(), &huma.Operation{Path: c.path, OperationID: c.operation}, c.order); got != c.want {
			t.Errorf("%s of order %s counts %d, want %d", c.operation, c.order, got, c.want)
		}
	}
}

func TestShortened(t *testing.T) {
	if got := shortened(strings.Repeat("x", 1<<20)); got != strings.Repeat("x", mostLogged)+"…" {
		t.Errorf("%d characters", len(got))
	}
	if got := shortened("/api/v1/orders"); got != "/api/v1/orders" {
		t.Error(got)
	}
}

// TestMoving gives up on who sends the half of a body and stops, and on who asks and does not read; who is slow and
// goes on is waited for. Its connections are pipes and its time is that of the test alone, whatever the machine does.
func TestMoving(t *testing.T) {
	const patience = time.Minute
	for _, c := range []struct {
		name string
		call func(net.Conn)
		late bool // it is given up
	}{
		{"half a body", func(c net.Conn) {
			fmt.Fprint(c, "POST / HTTP/1.1\r\nHost: x\r\nContent-Length: 100\r\n\r\nhalf")
		}, true},
		{"a slow body", func(c net.Conn) {
			fmt.Fprint(c, "POST / HTTP/1.1\r\nHost: x\r\nContent-Length: 6\r\n\r\n")
			for range 6 {
				time.Sleep(patience - time.Second)
				fmt.Fprint(c, "x")
			}
		}, false},
		{"nobody reads", func(c net.Conn) { fmt.Fprint(c, "GET / HTTP/1.1\r\nHost: x\r\n\r\n") }, true},
		{"somebody reads slowly", func(c net.Conn) {
			fmt.Fprint(c, "GET / HTTP/1.1\r\nHost: x\r\nConnection: close\r\n\r\n")
			for {
				if _, err := io.CopyN(io.Discard, c, writtenOnce); err != nil {
					return
				}
				time.Sleep(patience / 3)
			}
		}, false},
		{"somebody stops reading", func(c net.Conn) {
			fmt.Fprint(c, "GET / HTTP/1.1\r\nHost: x\r\n\r\n")
			_, _ = io.CopyN(io.Discard, c, 1<<20)
		}, true},
	} {
		t.Run(c.name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				ended := make(chan error, 1)
				server := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
					c := http.NewResponseController(w)
					var err error
					if r.Method == http.MethodPost {
						_, err = io.Copy(io.Discard, &movingBody{r.Body, c, patience})
					} else {
						_, err = (&movingReader{w, c, patience}).Write(make([]byte, 4<<20))
					}
					ended <- err
				})}
				near, far := net.Pipe()
				listener := make(pipes, 1)
				listener <- far
				go func() { _ = server.Serve(listener) }()
				go c.call(near)
				err := <-ended
				if late := errors.Is(err, os.ErrDeadlineExceeded); late != c.late || err != nil && !late {
					t.Error(err)
				}
				near.Close()
				server.Close()
			})
		})
	}
}

// pipes is a listener of connections that are in memory.
type pipes chan net.Conn

func (p pipes) Accept() (net.Conn, error) {
	if c, ok := <-p; ok {
		return c, nil
	}
	return nil, net.ErrClosed
}

func (p pipes) Close() error { close(p); return nil }

func (p pipes) Addr() net.Addr { return &net.TCPAddr{} }
