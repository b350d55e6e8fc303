package client

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"koinos/api"
	"koinos/core/list"
	"koinos/core/outcome"
)

// serve answers every request with f.
func serve(t *testing.T, f http.HandlerFunc) *Client {
	t.Helper()
	var one sync.Mutex // at a time
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		one.Lock()
		defer one.Unlock()
		f(w, r)
	}))
	t.Cleanup(s.Close)
	return New(s.URL+"/", "koinos_SECRET")
}

// What comes back for a request that did not succeed: a problem with its code where
// the service made it, the status where something on the way did.
func TestProblems(t *testing.T) {
	for _, c := range []struct {
		name, kind, body string
		status           int
		code, title      string
	}{
		{"a problem", "application/problem+json",
			`{"title": "There is no such thing here", "status": 404, "code": "not_found", "detail": "There is no load 7 here."}`,
			404, "not_found", "There is no such thing here"},
		{"a page of a gateway", "text/html", "<html>502", 502, "unknown", "502 Bad Gateway"},
		{"a problem that breaks off", "application/problem+json", `{"title": "There`, 500, "unknown",
			"500 Internal Server Error"},
		{"nothing at all", "", "", 503, "unknown", "503 Service Unavailable"},
	} {
		t.Run(c.name, func(t *testing.T) {
			calls := serve(t, func(w http.ResponseWriter, _ *http.Request) {
				w.Header().Set("Content-Type", c.kind)
				w.WriteHeader(c.status)
				io.WriteString(w, c.body)
			})
			_, err := calls.Load(context.Background(), 7)
			var p *api.Problem
			if !errors.As(err, &p) || p.Code != c.code || p.Title != c.title || p.Status != c.status {
				t.Errorf("%#v", err)
			}
		})
	}
}

// An answer that cannot be read is an error, whatever its status says.
func TestBrokenAnswers(t *testing.T) {
	for name, body := range map[string]string{"cut": `{"items": [{"id": 1`, "a page": "<html>", "empty": "",
		"another shape": `["a"]`} {
		calls := serve(t, func(w http.ResponseWriter, _ *http.Request) { io.WriteString(w, body) })
		if page, err := calls.Orders(context.Background(), nil); err == nil {
			t.Errorf("%s: %+v without an error", name, page)
		}
	}
}

// Nobody there is said as such; a caller who leaves gets his own error.
func TestAway(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	address := "http://" + l.Addr().String()
	l.Close()
	if _, err := New(address, "").Today(context.Background()); !errors.Is(err, ErrAway) {
		t.Errorf("nobody there: %v", err)
	}
	ctx, leave := context.WithCancel(context.Background())
	calls := serve(t, func(_ http.ResponseWriter, r *http.Request) {
		leave()
		<-r.Context().Done()
	})
	if _, err := calls.Today(ctx); !errors.Is(err, context.Canceled) || errors.Is(err, ErrAway) {
		t.Errorf("a caller who leaves: %v", err)
	}
}

// What is asked arrives as it was meant: path, query, token, kind and body.
func TestRequests(t *testing.T) {
	for _, c := range []struct {
		call       func(*Client) error
		line, kind string
		body       string
	}{
		{func(c *Client) error { _, err := c.Mapping(context.Background(), "a/b ü", 3); return err },
			"GET /api/v1/mappings/a%2Fb%20%C3%BC?version=3", "", ""},
		{func(c *Client) error { _, err := c.Mapping(context.Background(), "m", 0); return err },
			"GET /api/v1/mappings/m", "", ""},
		{func(c *Client) error {
			_, err := c.SendDocument(context.Background(), "week 12.csv", strings.NewReader("a,b\n"))
			return err
		}, "POST /api/v1/documents?name=week+12.csv", "application/octet-stream", "a,b\n"},
		{func(c *Client) error { _, err := c.KeepMapping(context.Background(), []byte("koinos: x")); return err },
			"POST /api/v1/mappings", "application/yaml", "koinos: x"},
		{func(c *Client) error { _, err := c.CancelLoad(context.Background(), 7); return err },
			"POST /api/v1/loads/7/cancel", "", ""},
		{func(c *Client) error {
			return c.PutCrosswalk(context.Background(), "yards", []list.Pair{{Theirs: "E", Ours: "1"}})
		},
			"PUT /api/v1/crosswalks/yards", "application/json", `{"pairs":[{"theirs":"E","ours":"1"}]}`},
		{func(c *Client) error { _, err := c.Events(context.Background(), 4711); return err },
			"GET /api/v1/events?after=4711", "", ""},
		{func(c *Client) error { _, err := c.Why(context.Background(), 3, 2, "unit_price"); return err },
			"GET /api/v1/orders/3/why?field=unit_price&line=2", "", ""},
		{func(c *Client) error { return c.RevokeToken(context.Background(), 5) }, "DELETE /api/v1/tokens/5", "", ""},
	} {
		var line, kind, body, token string
		calls := serve(t, func(w http.ResponseWriter, r *http.Request) {
			b, _ := io.ReadAll(r.Body)
			line, kind, body = r.Method+" "+r.RequestURI, r.Header.Get("Content-Type"), string(b)
			token = r.Header.Get("Authorization")
			io.WriteString(w, "{}")
		})
		if err := c.call(calls); err != nil || line != c.line || kind != c.kind || body != c.body ||
			token != "Bearer koinos_SECRET" {
			t.Errorf("%s\n%s %s %q %s %v", c.line, line, kind, body, token, err)
		}
	}
}

// A load is followed to its end. A service that goes before that is away, however its
// going looks: the load is not taken for one that has ended.
func TestWatchLoad(t *testing.T) {
	event := func(kind, data string) string { return "event: " + kind + "\ndata: " + data + "\n\n" }
	running, done := event("load", `{"id":7,"status":"running","orders":3}`),
		event("load", `{"id":7,"status":"done","orders":9}`)
	for _, c := range []struct {
		name, stream string
		cut          bool
		seen         []int
		status       outcome.Status
		away         bool
		code         string
	}{
		{"to its end", ": hello\n\n" + running + done, false, []int{3, 9}, outcome.Done, false, ""},
		{"data alone", "data: {\"status\":\"done\",\"orders\":1}\n\n", false, []int{1}, outcome.Done, false, ""},
		{"a problem", running + event("problem", `{"code":"storage_failed","title":"The store","status":507}`), false,
			[]int{3}, "", false, "storage_failed"},
		{"the service stops", running, false, []int{3}, outcome.Running, true, ""},
		{"before anything came", "", false, nil, "", true, ""},
		{"the line is cut", running, true, []int{3}, outcome.Running, true, ""},
		{"cut when all was said", done, true, []int{9}, outcome.Done, false, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			times := 0
			calls := serve(t, func(w http.ResponseWriter, _ *http.Request) {
				if times++; times > 1 { // it was there once, and stays away
					panic(http.ErrAbortHandler)
				}
				w.Header().Set("Content-Type", "text/event-stream")
				io.WriteString(w, c.stream)
				w.(http.Flusher).Flush()
				if c.cut {
					panic(http.ErrAbortHandler)
				}
			})
			calls.patience = breath
			var seen []int
			last, err := calls.WatchLoad(context.Background(), 7, func(l outcome.Load) {
				seen = append(seen,
					l.Orders)
			})
			var p *api.Problem
			errors.As(err, &p)
			code := ""
			if p != nil {
				code = p.Code
			}
			if errors.Is(err, ErrAway) != c.away || code != c.code || !slices.Equal(seen, c.seen) ||
				c.status != "" && last.Status != c.status || (err == nil) == (c.away || c.code != "") {
				t.Errorf("%v, %+v, seen %v", err, last, seen)
			}
		})
	}
	// It starts again twice, or something between cuts long streams.
	var parts = []string{running, "", running, event("load", `{"id":7,"status":"running","orders":5}`) + done}
	calls := serve(t, func(w http.ResponseWriter, _ *http.Request) {
		part := parts[0]
		parts = parts[1:]
		if part == "" {
			panic(http.ErrAbortHandler)
		}
		io.WriteString(w, part)
	})
	var seen []int
	last, err := calls.WatchLoad(context.Background(), 7, func(l outcome.Load) { seen = append(seen, l.Orders) })
	if err != nil || last.Status != outcome.Done || !slices.Equal(seen, []int{3, 3, 5, 9}) {
		t.Errorf("over two starts of the service: %+v, seen %v: %v", last, seen, err)
	}
	ctx, leave := context.WithTimeout(context.Background(), 50*time.Millisecond)
	defer leave()
	calls = serve(t, func(w http.ResponseWriter, r *http.Request) {
		io.WriteString(w, running)
		w.(http.Flusher).Flush()
		<-r.Context().Done()
	})
	if _, err := calls.WatchLoad(ctx, 7, func(outcome.Load) {}); !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("a caller who leaves: %v", err)
	}
}

// Whole lists come page by page, files with what they could not say, and a file that
// breaks off is an error.
func TestPagesAndFiles(t *testing.T) {
	calls := serve(t, func(w http.ResponseWriter, r *http.Request) {
		switch from := r.URL.Query().Get("cursor"); {
		case strings.HasSuffix(r.URL.Path, "/pairs"):
			io.WriteString(w, `{"items":[{"theirs":"East","ours":"0040"}]}`)
		case strings.HasSuffix(r.URL.Path, "/entries"):
			next := map[string]string{"": "b", "b": "c", "c": ""}[from]
			fmt.Fprintf(w, `{"items":[{"code":"after %s","name":""}],"next":%q}`, from, next)
		case strings.HasSuffix(r.URL.Path, "/document"):
			w.Header().Set("Koinos-Problems", "3")
			io.WriteString(w, "a,b\r\n")
		case strings.HasSuffix(r.URL.Path, "/report"):
			w.Header().Set("Content-Length", "100")
			io.WriteString(w, "a,b\r\n")
		}
	})
	ctx := context.Background()
	entries, err := calls.AllEntries(ctx, "items", false)
	if err != nil || fmt.Sprint(entries) != fmt.Sprint([]list.Entry{{Code: "after "}, {Code: "after b"},
		{Code: "after c"}}) {
		t.Errorf("%v %v", entries, err)
	}
	if entries, err = calls.AllEntries(ctx, "yards", true); err != nil || len(entries) != 1 ||
		entries[0].Code != "East" ||
		entries[0].Name != "0040" {
		t.Errorf("%v %v", entries, err)
	}
	var b bytes.Buffer
	if n, err := calls.MappingFile(ctx, "m", "document", nil, &b); n != 3 || err != nil || b.String() != "a,b\r\n" {
		t.Errorf("%d %v %q", n, err, &b)
	}
	if err := calls.Report(ctx, 7, "csv", io.Discard); err == nil ||
		err.Error() != "the report broke off: unexpected EOF" {
		t.Errorf("a report that breaks off: %v", err)
	}
}
