package remote

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"koinos/core/system"
)

// far is a system at a test's server, called by a client for whom time passes at once.
type far struct {
	*Client
	t     *testing.T
	mu    sync.Mutex
	waits []time.Duration // that the client waited
	calls []Call
}

func begin(t *testing.T, auth, limits string, f http.HandlerFunc) *far {
	t.Helper()
	server := httptest.NewServer(f)
	t.Cleanup(server.Close)
	text := "koinos: system/1\nname: shop\naddress: " + server.URL + "/api\n"
	if auth != "" {
		text += "auth: " + auth + "\n"
	}
	text += "limits: {rate: 1000, burst: 100, " + limits + "}\n" +
		"records: {order: {list: {path: /orders, records: \"$.orders[*]\"}, key: $.id}}\n"
	s, err := system.Parse([]byte(text))
	if err != nil {
		t.Fatal(err)
	}
	x := &far{t: t}
	if x.Client, err = Open(s, func(c Call) {
		x.mu.Lock()
		defer x.mu.Unlock()
		x.calls = append(x.calls, c)
	}); err != nil {
		t.Fatal(err)
	}
	var passed atomic.Int64
	x.clock = clock{
		now: func() time.Time {
			return time.Date(2026, 3, 16, 8, 0, 0, 0, time.UTC).Add(time.Duration(passed.Load()))
		},
		sleep: func(_ context.Context, d time.Duration) error {
			x.mu.Lock()
			x.waits = append(x.waits, d)
			x.mu.Unlock()
			passed.Add(int64(d))
			return nil
		},
	}
	return x
}

func (x *far) get() (string, error) {
	a, err := x.Get(context.Background(), x.Base()+"/orders")
	return string(a.Body), err
}

func answer(w http.ResponseWriter, body string) {
	w.Header().Set("Content-Type", "application/json")
	io.WriteString(w, body)
}

// What may pass is asked for again, and comes; what does not pass is said, with its
// kind and the system's own words, after as many calls as are due.
func TestFaults(t *testing.T) {
	good := func(w http.ResponseWriter) { answer(w, `{"orders":[]}`) }
	status := func(code int, kind, body string) func(http.ResponseWriter) {
		return func(w http.ResponseWriter) {
			w.Header().Set("Content-Type", kind)
			w.WriteHeader(code)
			io.WriteString(w, body)
		}
	}
	cut := func(w http.ResponseWriter) {
		w.Header().Set("Content-Length", "1000")
		answer(w, `{"orders":[`)
	}
	large := func(w http.ResponseWriter) { answer(w, `"`+strings.Repeat("x", 1<<20)+`"`) }
	reset := func(http.ResponseWriter) { panic(http.ErrAbortHandler) }
	for _, c := range []struct {
		name  string
		first func(http.ResponseWriter)
		times int // how often it happens before a good answer
		calls int
		kind  Kind
		says  string
	}{
		{"all is well", nil, 0, 1, "", ""},
		{"a reset", reset, 2, 3, "", ""},
		{"a body that breaks off", cut, 1, 2, "", ""},
		{"JSON that breaks off", func(w http.ResponseWriter) { answer(w, `{"orders":[`) }, 1, 2, "", ""},
		{"a page of a gateway", status(200, "text/html", "<html>"), 1, 2, "", ""},
		{"a server's error", status(503, "text/plain", "busy"), 4, 5, "", ""},
		{"a server's error without end", status(500, "application/json", `{"message": "out of  memory"}`), 99, 5, Away,
			"shop cannot answer now (500): out of memory."},
		{"a reset without end", reset, 99, 5, Away, "shop does not answer: EOF."},
		{"nobody knows us", status(401, "application/problem+json",
			`{"title": "Who are you?", "detail": "Token expired."}`), 99, 1,
			Login, "shop does not know who calls (401): Token expired."},
		{"not allowed", status(403, "application/json", `{"error": {"message": "scope orders:read"}}`), 99, 1, Login,
			"shop does not allow this (403): scope orders:read."},
		{"nothing there", status(404, "text/html", "<html>"), 99, 1, Missing, "shop has no such thing (404)."},
		{"a request that is wrong", status(422, "application/json", `{"error": "limit is 100"}`), 99, 1, Never,
			"shop refuses this (422): limit is 100."},
		{"too large once", large, 1, 2, "", ""},
		{"too large", large, 99, 5, Large,
			"shop's answer is larger than 1 MiB; ask for smaller pages, or raise limits.largest."},
	} {
		t.Run(c.name, func(t *testing.T) {
			var asked atomic.Int32
			x := begin(t, "", "largest: 1", func(w http.ResponseWriter, _ *http.Request) {
				if int(asked.Add(1)) <= c.times {
					c.first(w)
					return
				}
				good(w)
			})
			body, err := x.get()
			var p *Problem
			errors.As(err, &p)
			n := int(asked.Load())
			if n != c.calls || len(x.calls) != n {
				t.Errorf("%d calls of which %d were seen, want %d", n, len(x.calls), c.calls)
			}
			if c.kind == "" && (err != nil || body != `{"orders":[]}`) ||
				c.kind != "" && (p == nil || p.Kind != c.kind || p.Error() != c.says) {
				t.Errorf("%q, %v", body, err)
			}
			if len(x.waits) != c.calls-1 {
				t.Errorf("it waited %v", x.waits)
			}
			for i, w := range x.waits { // a fifth of a second, then twice that, each with jitter
				if usual := firstWait << i; w < usual/2 || w > usual*3/2 {
					t.Errorf("wait %d is %v", i+1, w)
				}
			}
		})
	}
}

// A system that says how long to wait is left alone for as long, by everybody who asks
// it: in seconds, or until a date of its own clock.
func TestRetryAfter(t *testing.T) {
	for _, c := range []struct {
		after, date string
		wait        time.Duration
		calls       int
	}{
		{"7", "", 7 * time.Second, 2},
		// its clock is an hour ahead
		{"Mon, 16 Mar 2026 09:00:30 GMT", "Mon, 16 Mar 2026 09:00:00 GMT", 30 * time.Second, 2},
		{"Mon, 16 Mar 2026 07:59:00 GMT", "Mon, 16 Mar 2026 08:00:00 GMT", 0, 2},
		{"86400", "", 0, 1}, // a day is not waited for
	} {
		var n atomic.Int32
		x := begin(t, "", "", func(w http.ResponseWriter, _ *http.Request) {
			if n.Add(1) > 1 {
				answer(w, "{}")
				return
			}
			w.Header().Set("Retry-After", c.after)
			if c.date != "" {
				w.Header().Set("Date", c.date)
			}
			w.WriteHeader(http.StatusTooManyRequests)
		})
		began := x.clock.now()
		_, err := x.get()
		if passed := x.clock.now().Sub(began); int(n.Load()) != c.calls || (err == nil) != (c.calls == 2) ||
			c.wait > 0 && (passed < c.wait || passed > c.wait+time.Second) {
			t.Errorf("Retry-After %s: %d calls, %v passed, %v", c.after, n.Load(), passed, err)
		}
		if c.calls == 1 { // whoever asks next waits as well
			if _, err := x.get(); err != nil || x.clock.now().Sub(began) < mostHold {
				t.Errorf("the next one waited %v, %v", x.clock.now().Sub(began), err)
			}
		}
	}
}

// Nobody's credentials go to another host, and nothing secret is shown.
func TestSecrets(t *testing.T) {
	var elsewhere atomic.Int32
	other := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		elsewhere.Add(1)
		answer(w, "{}")
	}))
	defer other.Close()
	file := filepath.Join(t.TempDir(), "secret")
	if err := os.WriteFile(file, []byte("s3cret\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	t.Setenv("SHOP_SECRET", "s3cret")
	for auth, want := range map[string]string{
		"{bearer: {env: SHOP_SECRET}}":                                      "Bearer s3cret",
		"{bearer: {file: " + file + "}}":                                    "Bearer s3cret",
		"{basic: {user: me, password: {env: SHOP_SECRET}}}":                 "Basic bWU6czNjcmV0",
		"{header: {name: X-Key, value: {env: SHOP_SECRET}}}":                "X-Key s3cret",
		"{query: {name: key, value: {file: " + file + "}}}":                 "key=s3cret",
		"{basic: {key: {env: SHOP_SECRET}}}":                                "Basic czNjcmV0Og==",
		"{header: {name: X-Key, value: {env: SHOP_SECRET}, prefix: Token}}": "X-Key Token s3cret",
	} {
		got := ""
		x := begin(t, auth, "", func(w http.ResponseWriter, r *http.Request) {
			got = r.Header.Get("Authorization")
			if v := r.Header.Get("X-Key"); v != "" {
				got = "X-Key " + v
			}
			if r.URL.RawQuery != "" {
				got = r.URL.RawQuery
			}
			answer(w, "{}")
		})
		if _, err := x.get(); err != nil || got != want {
			t.Errorf("%s sends %q, %v", auth, got, err)
		}
		if shown := fmt.Sprintf("%+v", x.calls); strings.Contains(shown, "s3cret") {
			t.Errorf("%s is shown: %s", auth, shown)
		}
	}
	x := begin(t, "{bearer: {env: SHOP_SECRET}}", "", func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, other.URL, http.StatusTemporaryRedirect)
	})
	if _, err := x.get(); err == nil || elsewhere.Load() != 0 ||
		!strings.Contains(err.Error(), "sends us elsewhere (307)") {
		t.Errorf("a redirect: %d calls elsewhere, %v", elsewhere.Load(), err)
	}
	if _, err := x.Get(context.Background(), other.URL+"/orders"); err == nil || elsewhere.Load() != 0 {
		t.Errorf("another host's address was called: %v", err)
	}
	os.Unsetenv("SHOP_SECRET")
	x = begin(t, "{bearer: {env: SHOP_SECRET}}", "", func(w http.ResponseWriter, _ *http.Request) { answer(w, "{}") })
	var p *Problem
	if _, err := x.get(); !errors.As(err, &p) || p.Kind != Setup ||
		p.Error() != "The environment variable SHOP_SECRET, which holds shop's token, is not set." {
		t.Errorf("no secret: %v", err)
	}
	for address, refused := range map[string]bool{"169.254.169.254:80": true, "[fe80::1]:443": true, "0.0.0.0:80": true,
		"127.0.0.1:80": false, "192.0.2.7:443": false} {
		if err := refuseLocal("tcp", address, nil); (err != nil) != refused {
			t.Errorf("%s: %v", address, err)
		}
	}
}

// Tokens are got once for all who wait, renewed before their end, and once anew where
// the system refuses one.
func TestClientCredentials(t *testing.T) {
	t.Setenv("SHOP_ID", "id")
	t.Setenv("SHOP_SECRET", "s3cret")
	var signed, asked atomic.Int32
	var revoked atomic.Value
	revoked.Store("")
	x := begin(t, "{client_credentials: {token: /token, id: {env: SHOP_ID}, secret: {env: SHOP_SECRET}, scope: orders}}",
		"at_once: 8",
		func(w http.ResponseWriter, r *http.Request) {
			if r.URL.Path == "/api/token" {
				user, password, _ := r.BasicAuth()
				if r.PostFormValue("grant_type") != "client_credentials" || r.PostFormValue("scope") != "orders" ||
					user != "id" || password != "s3cret" {
					t.Errorf("signed in with %v, %s %s", r.PostForm, user, password)
				}
				answer(w, fmt.Sprintf(`{"access_token": "t%d", "expires_in": 10}`, signed.Add(1)))
				return
			}
			asked.Add(1)
			if given := r.Header.Get("Authorization"); given == "Bearer "+revoked.Load().(string) {
				w.WriteHeader(http.StatusUnauthorized)
				return
			}
			answer(w, "{}")
		})
	all := func() {
		var wait sync.WaitGroup
		for range 16 {
			wait.Go(func() {
				if _, err := x.get(); err != nil {
					t.Error(err)
				}
			})
		}
		wait.Wait()
	}
	if all(); signed.Load() != 1 || asked.Load() != 16 {
		t.Errorf("%d sign-ins for %d requests", signed.Load(), asked.Load())
	}
	if err := x.clock.sleep(context.Background(), 8*time.Second); err != nil { // four fifths of its life
		t.Fatal(err)
	}
	if all(); signed.Load() != 2 {
		t.Errorf("%d sign-ins after its time", signed.Load())
	}
	revoked.Store("t2")
	if all(); signed.Load() != 3 {
		t.Errorf("%d sign-ins after a token was refused", signed.Load())
	}
	revoked.Store("t3")
	revoked.Store("t4")
	if shown := fmt.Sprintf("%+v", x.calls); strings.Contains(shown, "s3cret") || strings.Contains(shown, "t3") {
		t.Errorf("a secret is shown: %s", shown)
	}
}

// No more than the description says goes on at the same time, and no faster.
func TestLimits(t *testing.T) {
	var now, most atomic.Int32
	x := begin(t, "", "at_once: 3", func(w http.ResponseWriter, _ *http.Request) {
		n := now.Add(1)
		for was := most.Load(); n > was && !most.CompareAndSwap(was, n); was = most.Load() {
		}
		time.Sleep(2 * time.Millisecond)
		now.Add(-1)
		answer(w, "{}")
	})
	var wait sync.WaitGroup
	for range 30 {
		wait.Go(func() {
			if _, err := x.get(); err != nil {
				t.Error(err)
			}
		})
	}
	if wait.Wait(); most.Load() > 3 {
		t.Errorf("%d at once", most.Load())
	}
	ctx, leave := context.WithCancel(context.Background())
	leave()
	if _, err := x.Get(ctx, x.Base()+"/orders"); !errors.Is(err, context.Canceled) {
		t.Errorf("a caller who leaves: %v", err)
	}
}

// An answer that drips, or never comes, is given up in time.
func TestSlow(t *testing.T) {
	for _, drip := range []bool{true, false} {
		x := begin(t, "", "timeout: 60ms", func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Content-Type", "application/json")
			for drip && r.Context().Err() == nil {
				io.WriteString(w, " ")
				w.(http.Flusher).Flush()
				time.Sleep(5 * time.Millisecond)
			}
			<-r.Context().Done()
		})
		_, err := x.get()
		var p *Problem
		if !errors.As(err, &p) || p.Kind != Away || !strings.HasSuffix(p.Error(),
			"it took longer than it may (limits.timeout).") {
			t.Errorf("drip %v: %v", drip, err)
		}
	}
}
