package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"koinos/api"
	"koinos/demo"
)

var syncKills = flag.Int("sync-kills", 30, "how many times TestSyncKilledAtRandom kills the service")

const killedSync = `koinos: sync/1
name: both
pull:
  - {record: slipway.order}
  - {record: ledgerline.sales_order}
push:
  - {record: ledgerline.sales_order, which: partner == "SLIPWAY"}
  - {record: depot.job, which: partner == "SLIPWAY"}
  - {record: east-yard.pick, after: {record: ledgerline.sales_order}}
shared:
  all: {owner: here}
`

// weather breaks calls of a system, so many in a hundred: before they are done, after, or
// in the middle of the answer.
type weather struct {
	inner http.Handler
	bad   atomic.Int32
	mu    sync.Mutex
	rnd   *rand.Rand
}

func (w *weather) ServeHTTP(out http.ResponseWriter, r *http.Request) {
	w.mu.Lock()
	n := w.rnd.IntN(400)
	w.mu.Unlock()
	if bad := int(w.bad.Load()); strings.HasPrefix(r.URL.Path, "/admin") || n >= 4*bad {
		w.inner.ServeHTTP(out, r)
		return
	}
	switch n % 4 {
	case 0:
		panic(http.ErrAbortHandler)
	case 1:
		w.inner.ServeHTTP(httptest.NewRecorder(), r) // done, but nobody says so
		panic(http.ErrAbortHandler)
	case 2:
		http.Error(out, "busy", http.StatusServiceUnavailable)
	default:
		out.Header().Set("Content-Length", "100000")
		w.inner.ServeHTTP(out, r)
		panic(http.ErrAbortHandler)
	}
}

// office is a service beside a shop and a bookkeeping in bad weather.
type office struct {
	t           *testing.T
	shop, books *httptest.Server
	depot       *depot
	yard        string // folder
	disk        *disk
	weather     []*weather
	env         []string
	data        string
	s           *service
}

const officeOrders = 14

func newOffice(t *testing.T, seed uint64) *office {
	t.Helper()
	o := &office{t: t, data: filepath.Join(t.TempDir(), "data"), depot: &depot{}, yard: t.TempDir(), disk: failingDisk(t)}
	slipway, err := demo.Slipway("slipway-demo", officeOrders, false, time.Now)
	if err != nil {
		t.Fatal(err)
	}
	ledgerline, err := demo.Ledgerline("ledgerline-demo", time.Now)
	if err != nil {
		t.Fatal(err)
	}
	for i, h := range []http.Handler{slipway, ledgerline, o.depot} {
		o.weather = append(o.weather, &weather{inner: h, rnd: rand.New(rand.NewPCG(seed, uint64(i)))})
	}
	o.shop, o.books = httptest.NewServer(o.weather[0]), httptest.NewServer(o.weather[1])
	t.Cleanup(o.shop.Close)
	t.Cleanup(o.books.Close)
	jobs := httptest.NewServer(o.weather[2])
	t.Cleanup(jobs.Close)
	o.env = append(o.disk.env, "SLIPWAY_URL="+o.shop.URL, "SLIPWAY_TOKEN=slipway-demo",
		"SLIPWAY_HOOK_SECRET=whsec_cXVpbGxtZXJlLWNoYW5kbGVyeS1kZW1v", "LEDGERLINE_URL="+o.books.URL,
		"LEDGERLINE_ID=koinos", "LEDGERLINE_SECRET=ledgerline-demo",
		"DEPOT_URL="+jobs.URL, "YARD_FOLDER="+o.yard)
	o.s = startWith(t, o.env, o.data, "serve")
	ctx := context.Background()
	for _, name := range []string{"items", "customers"} {
		if _, errOut, code := o.s.koinos("list", "import", name, "../demo/lists/"+name+".csv"); code != 0 {
			t.Fatal(errOut)
		}
	}
	if _, err := o.s.api().KeepSystem(ctx, []byte(depotDescription)); err != nil {
		t.Fatal(err)
	}
	if _, err := o.s.api().KeepMapping(ctx, []byte(depotMapping)); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"slipway", "ledgerline", "east-yard"} {
		text, err := os.ReadFile("../demo/systems/" + name + ".yaml")
		if err == nil {
			text = bytes.NewBufferString(strings.NewReplacer("rate: 200", "rate: 5000", "rate: 15", "rate: 5000",
				"once: true", "once: true\n        orders: 3").Replace(string(text))).Bytes()
			_, err = o.s.api().KeepSystem(ctx, text)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	for _, name := range []string{"slipway-orders", "ledgerline-orders", "east-yard-picks"} {
		text, err := os.ReadFile("../demo/mappings/" + name + ".yaml")
		if err == nil {
			_, err = o.s.api().KeepMapping(ctx, text)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	if _, err := o.s.api().KeepSync(ctx, []byte(killedSync)); err != nil {
		t.Fatal(err)
	}
	return o
}

// play runs the sync to its end, while the service is killed, or its disk fails for a while, so many times.
func (o *office) play(rnd *rand.Rand, kills int) {
	o.t.Helper()
	ctx := context.Background()
	r, err := o.s.api().RunSync(ctx, "both", api.NewSyncRun{})
	for range kills {
		if err != nil {
			o.t.Fatal(err)
		}
		time.Sleep(time.Duration(rnd.IntN(120)) * time.Millisecond)
		if rnd.IntN(3) == 0 {
			o.disk.fail(1+rnd.Int64N(30), 1+rnd.Int64N(3), 1+rnd.Int64N(8))
			time.Sleep(time.Duration(rnd.IntN(120)) * time.Millisecond)
			o.disk.well()
			continue
		}
		o.s.kill()
		o.s = startWith(o.t, o.env, o.data, "serve")
		if rnd.IntN(3) == 0 { // somebody asks again: two runs at once
			r, err = o.s.api().RunSync(ctx, "both", api.NewSyncRun{})
		}
	}
	short, stop := context.WithTimeout(ctx, time.Minute)
	defer stop()
	r, err = o.s.api().UntilRun(short, r.ID, func(api.SyncRun) bool { return true })
	if err != nil || r.State != api.SyncDone {
		o.t.Fatalf("%+v %v\n%s", r, err, o.s.log)
	}
}

// put changes an order of the shop.
func (o *office) put(number int, state string, count int) {
	o.t.Helper()
	body := fmt.Sprintf(`{"id": %d, "reference": "SL-%d", "state": %q, "placed_at": "2026-03-02T08:00:00Z", "currency": "EUR",
	  "buyer": {"name": "Otis Varne", "mail": "otis@harbour.example"},
	  "lines": [{"line": 1, "sku": "00101", "title": "Rope", "count": %d, "each": "1.00"},
	            {"line": 2, "sku": "00372", "title": "Rope", "count": %d, "each": "2.00"}]}`,
		9007199254740993+int64(number-1001), number, state, count, count+1)
	req, err := http.NewRequest(http.MethodPost, o.shop.URL+"/admin/orders", strings.NewReader(body))
	if err != nil {
		o.t.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer slipway-demo")
	res, err := http.DefaultClient.Do(req)
	if err != nil || res.StatusCode != http.StatusOK {
		o.t.Fatal(res, err)
	}
	res.Body.Close()
}

// state is what the bookkeeping has in the end, but for the ids that it gave.
func (o *office) state() string {
	o.t.Helper()
	res, err := http.Get(o.books.URL + "/admin/orders")
	if err != nil {
		o.t.Fatal(err)
	}
	defer res.Body.Close()
	var all struct {
		Orders []struct {
			OurRef   string `json:"our_ref"`
			Customer int64  `json:"customer_id"`
			BookDate string `json:"book_date"`
			Note     any    `json:"note"`
			State    string `json:"state"`
			Lines    []struct {
				OurLine string      `json:"our_line"`
				Article int64       `json:"article_id"`
				Qty     json.Number `json:"qty"`
				Price   json.Number `json:"unit_price"`
			} `json:"lines"`
		} `json:"orders"`
		Customers []struct {
			ID    int64  `json:"id"`
			Email string `json:"email"`
		} `json:"customers"`
	}
	if err := json.NewDecoder(res.Body).Decode(&all); err != nil {
		o.t.Fatal(err)
	}
	mail := map[int64]string{}
	var lines []string
	for _, c := range all.Customers {
		mail[c.ID] = c.Email
		lines = append(lines, "customer "+c.Email)
	}
	for _, b := range all.Orders {
		line := fmt.Sprintf("%s %s %s %v %s", b.OurRef, mail[b.Customer], b.BookDate, b.Note, b.State)
		for _, l := range b.Lines {
			line += fmt.Sprintf(" %s:%d×%s@%s", l.OurLine, l.Article, l.Qty, l.Price)
		}
		lines = append(lines, line)
	}
	lines = append(append(lines, o.depot.state()...), picked(o.t, o.yard)...)
	slices.Sort(lines)
	return strings.Join(lines, "\n")
}

// changes are what happens in the shop between the runs.
func (o *office) changes(round int) {
	o.put(1001+round, "changed", 2+round)
	o.put(1004+round, "withdrawn", 1)
	o.put(1001+officeOrders+round, "placed", 3)
}

// However often Koinos is killed or its disk fails, whatever the weather and however many runs there are at
// once: in the end the other side has exactly what it has after an undisturbed run.
func TestSyncKilledAtRandom(t *testing.T) {
	t.Parallel()
	const rounds = 3
	calm := newOffice(t, 0)
	for round := range rounds {
		calm.play(nil, 0)
		calm.changes(round)
	}
	calm.play(nil, 0)
	want := calm.state()
	calm.s.stop()
	if strings.Count(want, " confirmed ") < officeOrders-3 || strings.Count(want, " void ") < 2 || calm.depot.many < 1 ||
		strings.Count(want, " cancelled ") < 2 || strings.Count(want, "pick ") < officeOrders {
		t.Fatal(want)
	}
	seed := uint64(time.Now().UnixNano())
	for done := 0; done < *syncKills; seed++ {
		rnd := rand.New(rand.NewPCG(seed, 3))
		o := newOffice(t, seed)
		for _, w := range o.weather {
			w.bad.Store(8)
		}
		each := min(7, 1+(*syncKills-done)/(rounds+1))
		for round := range rounds {
			o.play(rnd, each)
			o.changes(round)
		}
		o.play(rnd, each)
		for _, w := range o.weather {
			w.bad.Store(0)
		}
		o.play(rnd, 0)
		done += each * (rounds + 1)
		if got := o.state(); got != want {
			t.Fatalf("seed %d: the bookkeeping has\n%s\nwant\n%s", seed, got, want)
		}
		if held, err := o.s.api().Held(context.Background(), nil); err != nil || len(held.Items) > 0 {
			t.Fatalf("seed %d: held %+v %v", seed, held.Items, err)
		}
		o.s.stop()
	}
}

// A run is not done before its pulls have read, even if the disk was full when they began.
func TestRunBesideAFullDisk(t *testing.T) {
	t.Parallel()
	o := newOffice(t, 0)
	o.play(nil, 0)
	struck := 0
	for n := range 24 {
		o.put(1001, "changed", 2+n)
		o.disk.fail(int64(9+n), 1, 6)
		r, err := o.s.api().RunSync(context.Background(), "both", api.NewSyncRun{})
		time.Sleep(30 * time.Millisecond)
		o.disk.well()
		if err != nil { // the run itself could not be stored
			continue
		}
		if o.disk.failed() > 0 {
			struck++
		}
		short, stop := context.WithTimeout(context.Background(), time.Minute)
		r, err = o.s.api().UntilRun(short, r.ID, func(api.SyncRun) bool { return true })
		stop()
		if err != nil || r.State != api.SyncDone {
			t.Fatalf("%d: %+v %v\n%s", n, r, err, o.s.log)
		}
		want := fmt.Sprintf("SL-1001 otis@harbour.example 2026-03-02 <nil> confirmed 1:7000×%d@1 2:7046×%d@2", 2+n, 3+n)
		if !slices.Contains(strings.Split(o.state(), "\n"), want) {
			t.Errorf("%d: run %d is done without %s\n%+v", n, r.ID, want, r.Pulls)
		}
	}
	if struck < 3 {
		t.Errorf("the disk failed in %d runs only", struck)
	}
}
