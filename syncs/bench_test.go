package syncs

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"
	"testing"
	"time"

	"koinos/api"
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
