package syncs

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"koinos/api"
	"koinos/demo"
)

// season is a shop with so many orders of ten lines, a hundred a page.
func season(orders int) http.Handler {
	const page = 100
	pages := make([]string, orders/page)
	for i := range pages {
		var b strings.Builder
		b.WriteString(`{"orders":[`)
		for k := range page {
			n := i*page + k
			if k > 0 {
				b.WriteByte(',')
			}
			fmt.Fprintf(&b, `{"id":%d,"reference":"S-%d","state":"placed","placed_at":"2026-03-02T09:14:03Z",`+
				`"changed_at":"2026-03-02T09:14:03Z","buyer":{"name":"Ines Marlow","mail":"ines@harbour.example"},`+
				`"deliver_to":{"name":"Ines Marlow","street":"2 Brygga","town":"Sundvik","zip":"3915","country":"NO"},`+
				`"currency":"EUR","remarks":null,"line_count":10,"lines":[`, n+1, n+1)
			for l := range 10 {
				if l > 0 {
					b.WriteByte(',')
				}
				fmt.Fprintf(&b, `{"line":%d,"sku":"00101","title":"Braided rope","count":%d,"each":"0.85"}`, l+1, l+1)
			}
			b.WriteString(`]}`)
		}
		b.WriteString(`]}`)
		pages[i] = b.String()
	}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		at, _ := strconv.Atoi(r.URL.Query().Get("p")) // none is 0
		if at+1 < len(pages) {
			w.Header().Set("Link", fmt.Sprintf(`<?p=%d>; rel="next"`, at+1))
		}
		w.Header().Set("Content-Type", "application/json")
		_, _ = io.WriteString(w, pages[at]) // a test's
	})
}

// A season's orders, from the first call to the last order in the books, beside a bare
// client that fetches the same pages and throws them away.
func BenchmarkPull(b *testing.B) {
	const orders = 5_000
	var pulled, bare time.Duration
	for b.Loop() {
		b.StopTimer()
		o := begin(b, season(orders))
		b.StartTimer()
		began := time.Now()
		p, err := o.Start(context.Background(), "slipway", api.NewPull{Record: "order"}, "test")
		if err == nil {
			p, err = o.Wait(context.Background(), p.ID)
		}
		if err != nil || p.Loaded != orders {
			b.Fatal(p, err)
		}
		pulled += time.Since(began)
		b.StopTimer()
		began = time.Now()
		for at := range orders / 100 {
			res, err := http.Get(fmt.Sprintf("%s/slipway/v1/orders?p=%d", o.shop.URL, at))
			if err != nil {
				b.Fatal(err)
			}
			if _, err := io.Copy(io.Discard, res.Body); err != nil {
				b.Fatal(err)
			}
			res.Body.Close()
		}
		bare += time.Since(began)
		o.stop()
		b.StartTimer()
	}
	b.ReportMetric(float64(orders*b.N)/pulled.Seconds(), "orders/s")
	b.ReportMetric(pulled.Seconds()/bare.Seconds(), "×bare")
}

// BenchmarkPush brings orders into the bookkeeping, eight at once: with Koinos, and by a
// bare client that makes the same calls without reading what comes.
func BenchmarkPush(b *testing.B) {
	const orders, atOnce = 400, 8
	for b.Loop() {
		b.StopTimer()
		books := withBooks(b, orders)
		if _, err := books.Keep(context.Background(), strings.Replace(books.described("ledgerline"), "at_once: 4",
			"at_once: 8", 1), "test"); err != nil {
			b.Fatal(err)
		}
		var mu sync.Mutex
		var made []*http.Request
		var bodies [][]byte
		handler := books.desk.Config.Handler
		books.desk.Config.Handler = http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			body, _ := io.ReadAll(r.Body)
			r.Body = io.NopCloser(bytes.NewReader(body))
			mu.Lock()
			made, bodies = append(made, r.Clone(context.Background())), append(bodies, body)
			mu.Unlock()
			handler.ServeHTTP(w, r)
		})
		each := func(n int, do func(i int)) time.Duration {
			var work sync.WaitGroup
			next := make(chan int)
			begun := time.Now()
			for range atOnce {
				work.Go(func() {
					for i := range next {
						do(i)
					}
				})
			}
			for i := range n {
				next <- i
			}
			close(next)
			work.Wait()
			return time.Since(begun)
		}
		b.StartTimer()
		var pushed atomic.Int64
		took := each(orders, func(i int) {
			p, err := books.Push(context.Background(), "ledgerline", api.NewPush{Record: "sales_order",
				Order: fmt.Sprintf("SL-%d", 1001+i)}, "test")
			if err == nil && p.State == api.PushDone {
				pushed.Add(1)
			}
		})
		b.StopTimer()
		fresh, err := demo.Ledgerline("secret", time.Now)
		if err != nil {
			b.Fatal(err)
		}
		bare := httptest.NewServer(fresh)
		token := ""
		client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: atOnce}}
		call := func(i int) {
			req, err := http.NewRequest(made[i].Method, bare.URL+made[i].URL.RequestURI(), bytes.NewReader(bodies[i]))
			if err != nil {
				b.Error(err)
				return
			}
			req.Header = made[i].Header.Clone()
			if token != "" {
				req.Header.Set("Authorization", "Bearer "+token)
			}
			res, err := client.Do(req)
			if err != nil {
				b.Error(err)
				return
			}
			text, _ := io.ReadAll(res.Body)
			res.Body.Close()
			if strings.HasSuffix(made[i].URL.Path, "/token") {
				var t struct {
					Token string `json:"access_token"`
				}
				_ = json.Unmarshal(text, &t)
				token = t.Token
			}
		}
		call(0)
		floor := each(len(made)-1, func(i int) { call(i + 1) })
		bare.Close()
		b.ReportMetric(float64(pushed.Load())/took.Seconds(), "orders/s")
		b.ReportMetric(float64(len(made))/float64(pushed.Load()), "calls/order")
		b.ReportMetric(floor.Seconds()/took.Seconds(), "of-bare")
		b.StartTimer()
	}
}

func (b *books) described(name string) string {
	b.t.Helper()
	kept, err := b.store.System(context.Background(), name, 0)
	if err != nil {
		b.t.Fatal(err)
	}
	return kept.Text
}

// BenchmarkSync runs a sync over orders that are in the shop: read, mapped, stored, written
// into the books and linked.
func BenchmarkSync(b *testing.B) {
	const orders = 500
	for b.Loop() {
		b.StopTimer()
		k := keepingOf(b, orders, shopToBooks)
		k.fast()
		b.StartTimer()
		begun := time.Now()
		r := k.run("shop-books")
		took := time.Since(begun)
		b.StopTimer()
		if r.Counts.Created+r.Counts.Held < orders-orders/10 {
			b.Fatal(counts(&r))
		}
		begun = time.Now()
		k.run("shop-books")
		b.ReportMetric(float64(r.Counts.Created)/took.Seconds(), "orders/s")
		b.ReportMetric(float64(time.Since(begun).Microseconds())/1000, "ms/cycle-without-news")
		k.stop()
		b.StartTimer()
	}
}

// fast lets the bookkeeping be asked eight things at once.
func (k *keeping) fast() {
	k.t.Helper()
	text, err := demo.Files.ReadFile("systems/ledgerline.yaml")
	if err == nil {
		_, err = k.Keep(context.Background(), strings.NewReplacer("rate: 200", "rate: 100000", "burst: 10", "burst: 1000",
			"at_once: 4", "at_once: 8").Replace(string(text)), "test")
	}
	if err != nil {
		k.t.Fatal(err)
	}
}

// BenchmarkHook is how long it takes from a webhook until the target is called, when nothing else
// is to be done: the message is kept, its record read, the order changed, the record written.
func BenchmarkHook(b *testing.B) {
	b.Setenv("SLIPWAY_HOOK_SECRET", "whsec_"+base64.StdEncoding.EncodeToString([]byte(hookKey)))
	k := keepingOf(b, 20, strings.Replace(shopToBooks, "slipway.order}", "slipway.order, hooks: true}", 1))
	k.fast()
	if _, err := k.RunSync(context.Background(), "shop-books", api.NewSyncRun{}, "test"); err != nil {
		b.Fatal(err)
	}
	k.run("shop-books")
	called := make(chan time.Time, 100)
	inner := k.desk.Config.Handler
	k.desk.Config.Handler = http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodPatch {
			called <- time.Now()
		}
		inner.ServeHTTP(w, r)
	})
	var took []time.Duration
	n := 0
	for b.Loop() {
		n++
		k.admin("orders", fmt.Sprintf(`{"id": 9007199254740993, "reference": "SL-1001", "state": "placed", "remarks": "note %d",
		  "placed_at": "2026-03-02T09:14:03.000201Z", "currency": "EUR", "buyer": {"name": "Ines", "mail": "ines@harbour.example"},
		  "lines": [{"line": 1, "sku": "00101", "count": 5, "each": "9.50"}]}`, n))
		time.Sleep(20 * time.Millisecond) // until all is quiet
		begun := time.Now()
		if status := k.message(fmt.Sprintf("m%d", n),
			`{"type": "order.changed", "data": {"id": 9007199254740993}}`); status != 204 {
			b.Fatal(status)
		}
		select {
		case at := <-called:
			took = append(took, at.Sub(begun))
		case <-time.After(10 * time.Second):
			b.Fatal("nobody called", k.held())
		}
	}
	slices.Sort(took)
	b.ReportMetric(float64(took[len(took)/2].Microseconds())/1000, "ms/median")
	b.ReportMetric(float64(took[len(took)*95/100].Microseconds())/1000, "ms/p95")
}

// BenchmarkCycle is a run of a sync in which nothing is new, with so many orders linked.
func BenchmarkCycle(b *testing.B) {
	for _, c := range []struct{ orders, copies int }{{500, 0}, {10_000, 0}, {20, 1_000_000}} {
		b.Run(fmt.Sprint(c.orders+c.copies), func(b *testing.B) {
			k := keepingOf(b, c.orders, shopToBooks)
			k.fast()
			for {
				if r := k.run("shop-books"); r.Counts.Created == 0 {
					break
				}
			}
			k.copies(c.copies)
			k.run("shop-books")
			k.hits.Store(0)
			k.reads.Store(0)
			n := 0
			for b.Loop() {
				n++
				k.run("shop-books")
			}
			var mem runtime.MemStats
			runtime.GC()
			runtime.ReadMemStats(&mem)
			b.ReportMetric(float64(k.hits.Load()+k.reads.Load())/float64(n), "calls")
			b.ReportMetric(float64(mem.HeapAlloc)/(1<<20), "MiB-heap")
		})
	}
}

// graphSeason is a shop of so many orders of ten lines by GraphQL: a list shows five lines of each.
func graphSeason(orders int) http.Handler {
	const page = 100
	lines := func(from, to int, more bool) string {
		var all []string
		for l := from; l < to; l++ {
			all = append(all, fmt.Sprintf(`{"line":%d,"sku":"00101","title":"Braided rope","count":%d,"each":"0.85"}`, l+1, l+1))
		}
		return fmt.Sprintf(`{"nodes":[%s],"pageInfo":{"hasNextPage":%t,"endCursor":"%d"}}`, strings.Join(all, ","), more, to)
	}
	first, rest := lines(0, 5, true), `{"data":{"order":{"lines":`+lines(5, 10, false)+`}}}`
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		var in struct {
			Query     string
			Variables struct{ After, Key string }
		}
		if err := json.NewDecoder(r.Body).Decode(&in); err != nil {
			http.Error(w, "{}", http.StatusBadRequest)
			return
		}
		if in.Variables.Key != "" {
			_, _ = io.WriteString(w, rest) // a test's
			return
		}
		at, _ := strconv.Atoi(in.Variables.After) // none is 0
		var all []string
		for n := at; n < min(at+page, orders); n++ {
			all = append(all, fmt.Sprintf(`{"id":"%d","reference":"S-%d","state":"placed","placedAt":"2026-03-02T09:14:03Z",`+
				`"changedAt":"2026-03-02T09:14:03Z","currency":"EUR","remarks":null,"lineCount":10,`+
				`"buyer":{"name":"Ines Marlow","mail":"ines@harbour.example"},"lines":%s}`, n+1, n+1, first))
		}
		fmt.Fprintf(w, `{"data":{"orders":{"nodes":[%s],"pageInfo":{"hasNextPage":%t,"endCursor":"%d"}}}}`, strings.Join(all,
			","),
			at+page < orders, at+page)
	})
}

// BenchmarkPullGraphQL is BenchmarkPull by GraphQL, where half of each order's lines are asked for
// by themselves.
func BenchmarkPullGraphQL(b *testing.B) {
	const orders = 2_000
	for b.Loop() {
		b.StopTimer()
		o := begin(b, graphSeason(orders))
		o.graph(func(s string) string {
			return strings.NewReplacer("burst: 5", "burst: 500\n  at_once: 8", `first: "25"`, `first: "100"`).Replace(s)
		})
		b.StartTimer()
		begun := time.Now()
		if p := o.pull(api.NewPull{}); p.Loaded != orders {
			b.Fatal(figures(&p), p.Reason)
		}
		b.ReportMetric(orders/time.Since(begun).Seconds(), "orders/s")
		b.StopTimer()
		o.stop()
		b.StartTimer()
	}
}

// copies puts so many orders into the store that are linked, each as the first one is.
func (k *keeping) copies(n int) {
	k.t.Helper()
	if n == 0 {
		return
	}
	db, err := sql.Open("sqlite3", filepath.Join(k.data, "koinos.db")+"?_busy_timeout=60000")
	if err != nil {
		k.t.Fatal(err)
	}
	defer db.Close()
	for _, insert := range []string{
		`INSERT INTO orders (id, kind, number, identity, fingerprint, status, revision, sender_number, partner, total, line_count, last_line)
		  SELECT 1000000 + i, kind, 'X-' || i, 'X|' || i, fingerprint, status, revision, 'X-' || i, partner, total, line_count, last_line
		  FROM n, orders WHERE orders.id = 1`,
		`INSERT INTO links (system, record, order_id, part, key, number, revision, agreed, at, found, base, decided)
		  SELECT system, record, 1000000 + i, 0, 'X-' || i, number, revision, agreed, at, found, base, decided
		  FROM n, links WHERE links.order_id = 1`,
	} {
		if _, err := db.Exec(`WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < ?) `+insert,
			n); err != nil {
			k.t.Fatal(err)
		}
	}
}
