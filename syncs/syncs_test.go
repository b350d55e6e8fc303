package syncs

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"net/http"
	"net/http/httptest"
	"net/url"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"koinos/api"
	"koinos/core/list"
	"koinos/core/listfile"
	"koinos/core/source"
	"koinos/demo"
	"koinos/folder"
	"koinos/jobs"
	"koinos/load"
	"koinos/store"
	"koinos/store/storetest"
)

// office is Koinos with the demo's lists and mappings, beside a shop.
type office struct {
	data string // folder
	*Syncs
	t    testing.TB
	shop *httptest.Server
	hits atomic.Int32
	stop func() // ends the queue's work
}

// clerk opens an office over a data folder; the shop is a server of its own.
func clerk(t testing.TB, data string, shop http.Handler) *office {
	t.Helper()
	s := storetest.Open(t, data)
	o := &office{t: t, data: data}
	o.shop = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if !strings.HasPrefix(r.URL.Path, "/admin") {
			o.hits.Add(1)
		}
		shop.ServeHTTP(w, r)
	}))
	t.Cleanup(o.shop.Close)
	t.Setenv("SLIPWAY_URL", o.shop.URL)
	t.Setenv("SLIPWAY_TOKEN", "slipway-demo")
	log := slog.New(slog.NewTextHandler(io.Discard, nil))
	engine := load.New(s, source.DefaultLimits, time.Now, log)
	o.Syncs = New(s, engine, folder.Usual, time.Now, log)
	kinds := engine.Kinds()
	maps.Copy(kinds, o.Kinds())
	queue := jobs.New(s, kinds, time.Now, log)
	engine.Use(queue)
	if err := queue.Resume(context.Background(), false); err != nil {
		t.Fatal(err)
	}
	working, stop := context.WithCancel(context.Background())
	stopped := make(chan struct{})
	go func() {
		defer close(stopped)
		queue.Run(working)
	}()
	closed := false
	o.stop = func() {
		if !closed {
			closed = true
			stop()
			<-stopped
			s.Close()
		}
	}
	t.Cleanup(o.stop)
	return o
}

// begin opens a new office with what the demo has.
func begin(t testing.TB, shop http.Handler) *office {
	t.Helper()
	o := clerk(t, filepath.Join(t.TempDir(), "data"), shop)
	o.furnish("demo/systems/slipway.yaml", func(s string) string {
		return strings.Replace(s, "rate: 15", "rate: 5000", 1)
	})
	return o
}

func (o *office) furnish(description string, change func(string) string) {
	o.t.Helper()
	ctx := context.Background()
	read := func(name string) []byte {
		b, err := demo.Files.ReadFile(strings.TrimPrefix(name, "demo/"))
		if err != nil {
			o.t.Fatal(err)
		}
		return b
	}
	b := read("lists/items.csv")
	items, err := listfile.Read(bytes.NewReader(b), int64(len(b)), false)
	if err == nil {
		err = o.store.PutList(ctx, "items", items, time.Now())
	}
	if err == nil {
		err = o.store.PutList(ctx, "customers", []list.Entry{{Code: "SLIPWAY"}}, time.Now())
	}
	if err == nil {
		_, err = o.store.PutMapping(ctx, api.Mapping{Name: "slipway-orders",
			Text: string(read("mappings/slipway-orders.yaml"))})
	}
	if err == nil {
		_, err = o.Keep(ctx, change(string(read(description))), "test")
	}
	if err != nil {
		o.t.Fatal(err)
	}
}

// pull pulls orders to the end, or until the system is away.
func (o *office) pull(n api.NewPull) api.Pull {
	o.t.Helper()
	n.Record = "order"
	p, err := o.Start(context.Background(), "slipway", n, "test")
	if err == nil {
		p, err = o.Wait(context.Background(), p.ID)
	}
	if err != nil {
		o.t.Fatal(err)
	}
	return p
}

// admin asks the shop's other side.
func (o *office) admin(path, body string) {
	o.t.Helper()
	res, err := http.Post(o.shop.URL+"/admin/"+path, "application/json", strings.NewReader(body))
	if err != nil || res.StatusCode != http.StatusOK {
		o.t.Fatal(res, err)
	}
	res.Body.Close()
}

// state is what is stored of orders, without when and in which steps it came.
func (o *office) state() []string {
	o.t.Helper()
	all, _, err := o.store.Orders(context.Background(), store.OrderFilter{Limit: 1000})
	if err != nil {
		o.t.Fatal(err)
	}
	out := make([]string, len(all))
	for i, s := range all {
		full, err := o.store.Order(context.Background(), s.ID)
		if err != nil {
			o.t.Fatal(err)
		}
		order := full.Order
		order.ID, order.Number, order.Revision = 0, "", 0
		b, err := json.Marshal(&order)
		if err != nil {
			o.t.Fatal(err)
		}
		out[i] = string(b)
	}
	slices.Sort(out)
	return out
}

func shopOf(t testing.TB, orders int) http.Handler {
	t.Helper()
	s, err := demo.Slipway("slipway-demo", orders, false, time.Now)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// Figures of a pull, as the tests compare them.
func figures(p *api.Pull) string {
	return fmt.Sprintf("%s: %d pages, %d records, %d known, %d gone, %d short, %d loaded, %d changed, %d failed",
		p.State, p.Pages, p.Records,
		p.Unchanged, p.Gone, p.Short, p.Loaded, p.Changed, p.Failed)
}

// The shop's orders come once; after that what is new comes, at the cost of a call.
func TestPull(t *testing.T) {
	o := begin(t, shopOf(t, 120))
	p := o.pull(api.NewPull{})
	if got, want := figures(&p),
		"done: 3 pages, 120 records, 0 known, 7 gone, 0 short, 109 loaded, 0 changed, 4 failed"; got != want {
		t.Fatalf("%s %s\nwant %s", got, p.Reason, want)
	}
	if n := o.hits.Swap(0); n != 3 {
		t.Errorf("%d calls", n)
	}
	before := o.state()
	p = o.pull(api.NewPull{})
	if p.State != api.PullDone || p.Pages != 1 || p.Unchanged != p.Records || p.Loaded+p.Changed+p.Failed > 0 ||
		len(p.Loads) > 0 ||
		o.hits.Swap(0) != 1 {
		t.Errorf("nothing is new: %s", figures(&p))
	}
	// Everything again: known by its bytes, mapped by nobody.
	p = o.pull(api.NewPull{All: true})
	if got, want := figures(&p),
		"done: 3 pages, 120 records, 120 known, 0 gone, 0 short, 0 loaded, 0 changed, 0 failed"; got != want {
		t.Errorf("%s\nwant %s", got, want)
	}
	if !slices.Equal(o.state(), before) {
		t.Error("orders are others though nothing has happened")
	}
	// One changes, one is new, one loses a line, one is withdrawn.
	o.admin("orders", `{"id": 9007199254740993, "reference": "SL-1001", "state": "changed", "placed_at": "2026-03-02T09:14:03.000201Z", "currency": "EUR",
	  "lines": [{"line": 2, "sku": "00407", "count": 7, "each": "9.50"}]}`)
	o.admin("orders", `{"id": 42, "reference": "SL-9", "state": "placed", "placed_at": "2026-03-20T09:00:00Z", "currency": "EUR",
	  "lines": [{"line": 1, "sku": "00101", "count": 1, "each": "0.85"}]}`)
	o.admin("orders", `{"id": 43, "reference": "SL-10", "state": "withdrawn", "placed_at": "2026-03-20T09:00:00Z", "lines": []}`)
	o.hits.Store(0)
	p = o.pull(api.NewPull{})
	if p.State != api.PullDone || p.Loaded != 1 || p.Gone != 1 || p.Changed != 1 || p.Failed != 0 ||
		o.hits.Load() != 1 {
		t.Errorf("three are new: %s %s", figures(&p), p.Reason)
	}
}

// What happens on the way leaves the same orders as an undisturbed pull.
func TestPullDisturbed(t *testing.T) {
	undisturbed := begin(t, shopOf(t, 120))
	undisturbed.pull(api.NewPull{})
	want := undisturbed.state()
	for name, fault := range map[string]string{
		"busy": `{"times": 2, "status": 503}`, "cut": `{"times": 1, "cut": true}`,
		"reset":               `{"times": 2, "reset": true}`,
		"a page of a gateway": `{"times": 1, "body": "<html>"}`,
	} {
		t.Run(name, func(t *testing.T) {
			o := begin(t, shopOf(t, 120))
			o.admin("faults", fault)
			if p := o.pull(api.NewPull{}); p.State != api.PullDone || p.Loaded != 109 {
				t.Errorf("%s %s", figures(&p), p.Reason)
			}
			if !slices.Equal(o.state(), want) {
				t.Error("the orders are others")
			}
		})
	}
}

// A system that is away is said to be, and the pull goes on by itself when it is back;
// nothing is refused for it.
func TestPullAway(t *testing.T) {
	if testing.Short() {
		t.Skip("it mostly waits")
	}
	var away atomic.Bool
	away.Store(true)
	shop := shopOf(t, 20)
	o := begin(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if away.Load() {
			panic(http.ErrAbortHandler)
		}
		shop.ServeHTTP(w, r)
	}))
	p := o.pull(api.NewPull{})
	if p.State != api.PullAway || p.Reason != "slipway does not answer: EOF." {
		t.Fatalf("%s %s", figures(&p), p.Reason)
	}
	away.Store(false)
	for end := time.Now().Add(time.Minute); !p.Ended(); time.Sleep(10 * time.Millisecond) {
		var err error
		if p, err = o.store.Pull(context.Background(), p.ID); err != nil || time.Now().After(end) {
			t.Fatalf("it does not go on: %s %v", figures(&p), err)
		}
	}
	if got, want := figures(&p),
		"done: 1 pages, 20 records, 0 known, 1 gone, 0 short, 19 loaded, 0 changed, 0 failed"; got != want ||
		p.Reason != "" {
		t.Errorf("%s %s\nwant %s", got, p.Reason, want)
	}
}

// A service that ends in the middle of a pull leaves it to the next, which reads on.
func TestPullInterrupted(t *testing.T) {
	if testing.Short() {
		t.Skip("it mostly waits")
	}
	undisturbed := begin(t, shopOf(t, 1_200))
	undisturbed.pull(api.NewPull{})
	want := undisturbed.state()
	data := filepath.Join(t.TempDir(), "data")
	shop := shopOf(t, 1_200)
	reached := make(chan struct{})
	var calls atomic.Int32
	o := clerk(t, data, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if calls.Add(1) == 23 { // a batch is kept by then
			close(reached)
			<-r.Context().Done()
			return
		}
		shop.ServeHTTP(w, r)
	}))
	o.furnish("demo/systems/slipway.yaml", func(s string) string {
		return strings.Replace(s, "rate: 15", "rate: 5000", 1)
	})
	p, err := o.Start(context.Background(), "slipway", api.NewPull{Record: "order"}, "test")
	if err != nil {
		t.Fatal(err)
	}
	<-reached
	o.stop()
	next := clerk(t, data, shop)
	if p, err = next.Wait(context.Background(), p.ID); err != nil || p.State != api.PullDone || p.Records != 1_200 ||
		p.Pages != 24 {
		t.Errorf("%s %s %v", figures(&p), p.Reason, err)
	}
	if n := next.hits.Load(); n >= 24 {
		t.Errorf("it began anew: %d calls", n)
	}
	if !slices.Equal(next.state(), want) {
		t.Error("the orders are others")
	}
}

// What a system says wrong, or a description gets wrong, is said with its place; a null
// list is no end, and a record without all its lines is not taken.
func TestPullOfNonsense(t *testing.T) {
	one := func(id int, rest string) string {
		return fmt.Sprintf(`{"id": %d, "reference": "SL-%d", "state": "placed", "placed_at": `+
			`"2026-03-20T09:00:00Z", "changed_at": "2026-03-20T09:00:0%dZ", "currency": "EUR", %s}`,
			id, id, id, rest)
	}
	whole := `"lines": [{"line": 1, "sku": "00101", "count": 1, "each": "0.85"}], "line_count": 1`
	half := `"lines": [{"line": 1, "sku": "00101", "count": 1, "each": "0.85"}], "line_count": 2`
	for _, c := range []struct {
		name    string
		change  [2]string // of the description
		pages   []string
		single  string
		figures string
		reason  string
	}{
		{"a null list", [2]string{}, []string{`{"orders": null}`}, "",
			"failed: 0 pages, 0 records, 0 known, 0 gone, 0 short, 0 loaded, 0 changed, 0 failed",
			"the answer has no list but null; if that means that there are none, say may_lack: true of the list at $.orders"},
		{"another path", [2]string{"$.orders[*]", "$.data[*]"}, []string{`{"orders": []}`}, "",
			"failed: 0 pages, 0 records, 0 known, 0 gone, 0 short, 0 loaded, 0 changed, 0 failed",
			"the answer has no list; if that means that there are none, say may_lack: true of the list at $.data"},
		{"no key", [2]string{"key: $.id", "key: $.no"}, []string{`{"orders": [` + one(1, whole) + `]}`}, "",
			"failed: 0 pages, 0 records, 0 known, 0 gone, 0 short, 0 loaded, 0 changed, 0 failed",
			"the answer has a record without a key ($.no; it has id, reference, state, placed_at, changed_at, currency, " +
				"lines, line_count) at /orders/0"},
		{"nothing", [2]string{}, []string{`{"orders": []}`}, "",
			"done: 1 pages, 0 records, 0 known, 0 gone, 0 short, 0 loaded, 0 changed, 0 failed", ""},
		{"a short one that is whole alone", [2]string{}, []string{`{"orders": [` + one(1, half) + `]}`}, one(1, whole),
			"done: 1 pages, 1 records, 0 known, 0 gone, 0 short, 1 loaded, 0 changed, 0 failed", ""},
		{"a short one that stays short", [2]string{}, []string{`{"orders": [` + one(1, half) + `, ` + one(2, whole) +
			`]}`}, one(1, half),
			"done: 1 pages, 2 records, 0 known, 0 gone, 1 short, 1 loaded, 0 changed, 0 failed", ""},
		{"an item that nobody has", [2]string{}, []string{`{"orders": [` +
			one(1, strings.Replace(whole, "00101", "99999", 1)) + `]}`}, "",
			"done: 1 pages, 1 records, 0 known, 0 gone, 0 short, 0 loaded, 0 changed, 1 failed", ""},
		{"the same twice on a page", [2]string{}, []string{`{"orders": [` + one(1, whole) + `, ` + one(1, whole) +
			`]}`}, "",
			"done: 1 pages, 2 records, 1 known, 0 gone, 0 short, 1 loaded, 0 changed, 0 failed", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			o := clerk(t, filepath.Join(t.TempDir(), "data"), http.HandlerFunc(func(w http.ResponseWriter,
				r *http.Request) {
				w.Header().Set("Content-Type", "application/json")
				if strings.HasSuffix(r.URL.Path, "/orders") {
					io.WriteString(w, c.pages[0])
					return
				}
				io.WriteString(w, c.single)
			}))
			o.furnish("demo/systems/slipway.yaml", func(s string) string {
				return strings.Replace(s, c.change[0], c.change[1], 1)
			})
			p := o.pull(api.NewPull{})
			if got := figures(&p); got != c.figures || p.Reason != c.reason {
				t.Errorf("%s %q\nwant %s %q", got, p.Reason, c.figures, c.reason)
			}
		})
	}
}

// A record that is not complete is read again by each pull until it is, although the list is
// past it: alone where that can be, else by a list that begins at it.
func TestShortAgain(t *testing.T) {
	one := func(id, lines int) string {
		return fmt.Sprintf(`{"id": %d, "reference": "SL-%d", "state": "placed", "placed_at": "2026-03-20T09:00:00Z",
			"changed_at": "2026-03-20T%02d:00:00Z", "currency": "EUR",
			"lines": [{"line": 1, "sku": "00101", "count": 1, "each": "0.85"}], "line_count": %d}`, id, id, id, lines)
	}
	for _, c := range []struct {
		name  string
		get   bool
		calls []string // of the three pulls behind the first
	}{
		{"alone", true, []string{"/orders/9", "/orders?changed_since=2026-03-20T09:58:00Z&limit=50", "/orders/9",
			"/orders?changed_since=2026-03-20T09:58:00Z&limit=50",
			"/orders?changed_since=2026-03-20T09:58:00Z&limit=50"}},
		{"by the list", false,
			[]string{"/orders?changed_since=2026-03-20T08:58:00Z&limit=50",
				"/orders?changed_since=2026-03-20T08:58:00Z&limit=50",
				"/orders?changed_since=2026-03-20T09:58:00Z&limit=50"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			short := 2
			var mu sync.Mutex
			var calls []string
			o := clerk(t, filepath.Join(t.TempDir(), "data"), http.HandlerFunc(func(w http.ResponseWriter,
				r *http.Request) {
				mu.Lock()
				defer mu.Unlock()
				query, _ := url.QueryUnescape(r.URL.String())
				_, path, _ := strings.Cut(query, "/v1")
				calls = append(calls, path)
				w.Header().Set("Content-Type", "application/json")
				since := r.FormValue("changed_since")
				switch {
				case strings.HasSuffix(path, "/9"):
					io.WriteString(w, one(9, short))
				case since > "2026-03-20T09:00:00Z":
					io.WriteString(w, `{"orders": [`+one(10, 1)+`]}`)
				default:
					io.WriteString(w, `{"orders": [`+one(9, short)+`, `+one(10, 1)+`]}`)
				}
			}))
			o.furnish("demo/systems/slipway.yaml", func(s string) string {
				if !c.get {
					s = s[:strings.Index(s, "hooks:")] + s[strings.Index(s, "\nrecords:")+1:]
					s = strings.Replace(s, `    get: {path: "/orders/{key}"}`+"\n", "", 1)
				}
				return s
			})
			p := o.pull(api.NewPull{})
			if got := figures(&p); got != "done: 1 pages, 2 records, 0 known, 0 gone, 1 short, 1 loaded, 0 changed, 0 failed" {
				t.Fatal(got, p.Reason)
			}
			calls = nil
			for _, want := range []int{1, 0} {
				if p = o.pull(api.NewPull{}); p.Short != want || p.Loaded != 1-want {
					t.Error(figures(&p), p.Reason)
				}
				short = 1
			}
			p = o.pull(api.NewPull{})
			if p.Short+p.Loaded != 0 || !slices.Equal(calls, c.calls) {
				t.Errorf("%s\n%q\nwant %q", figures(&p), calls, c.calls)
			}
		})
	}
}

// What is asked wrongly is refused before anything is called.
func TestAskedWrongly(t *testing.T) {
	o := begin(t, shopOf(t, 1))
	for _, c := range []struct {
		system string
		n      api.NewPull
		says   string
	}{
		{"nobody", api.NewPull{Record: "order"}, "system nobody: not found"},
		{"slipway", api.NewPull{Record: "invoice"},
			`The description of slipway has no record "invoice"; it has customer, order, parcel.`},
		{"slipway", api.NewPull{Record: "customer"},
			"Say which mapping makes orders of slipway's customer, here or in the description."},
		{"slipway", api.NewPull{Record: "order", Mapping: "other"}, "mapping other: not found"},
		{"slipway", api.NewPull{Record: "order", Since: "yesterday"},
			`"yesterday" is no time such as 2026-03-01 or 2026-03-01T08:00:00Z.`},
	} {
		if _, err := o.Start(context.Background(), c.system, c.n, "test"); err == nil || err.Error() != c.says {
			t.Errorf("%+v: %v, want %s", c.n, err, c.says)
		}
	}
	if o.hits.Load() != 0 {
		t.Error("the shop was called")
	}
}

// Trying says what kind of trouble there is.
func TestTry(t *testing.T) {
	o := begin(t, shopOf(t, 60))
	text := func(old, new string) api.NewTry {
		b, err := demo.Files.ReadFile("systems/slipway.yaml")
		if err != nil {
			t.Fatal(err)
		}
		return api.NewTry{Text: strings.Replace(string(b), old, new, 1), Record: "order"}
	}
	for _, c := range []struct {
		n         api.NewTry
		kind, why string
		found     int
		more      bool
	}{
		{api.NewTry{Name: "slipway", Record: "order"}, "", "", 50, true},
		{api.NewTry{Name: "slipway"}, "", "", 0, false},
		{api.NewTry{Name: "slipway", Record: "parcel"}, "", "", 20, false},
		{text("path: /orders\n", "path: /order\n"), "missing",
			"slipway has no such thing (404): Nothing is at /slipway/v1/order.", 0, false},
		{text(`limit: "50"`, `limit: "500"`), "never", "slipway refuses this (422): limit is 1 to 50.", 0, false},
		{text("env: SLIPWAY_TOKEN", "env: NOBODY_HAS_THIS"), "setup",
			"The environment variable NOBODY_HAS_THIS, which holds slipway's token, is not set.", 0, false},
		{text("env: SLIPWAY_TOKEN", "env: PATH"), "login",
			"slipway does not know who calls (401): The token is unknown.", 0, false},
		{text("$.orders[*]", "$.items[*]"), "answer",
			"The answer has no list; if that means that there are none, say may_lack: true of the list at $.items.", 0,
			false},
		{text("rate: 15", "rate: fast"), "setup", "The description has mistakes.", 0, false},
	} {
		got, err := o.Try(context.Background(), c.n)
		if err != nil || got.Kind != c.kind || got.Why != c.why || len(got.Found) != c.found || got.More != c.more {
			t.Errorf("%s: %s %q, %d found, more %v, %v", c.n.Record, got.Kind, got.Why, len(got.Found), got.More, err)
		}
		if shown := fmt.Sprintf("%+v", got); strings.Contains(shown, "slipway-demo") {
			t.Errorf("a secret is shown: %s", shown)
		}
	}
}

func replaced(t *testing.T, s, was, is string) string {
	t.Helper()
	out := strings.Replace(s, was, is, 1)
	if out == s {
		t.Fatalf("%q is not in the text", was)
	}
	return out
}
