package load

import (
	"context"
	"fmt"
	"io"
	"testing"
	"time"

	"koinos/core/cputime"
	"koinos/core/listing"
	"koinos/core/order"
	"koinos/core/report"
	"koinos/core/source"
	"koinos/store"
)

// BenchmarkMoves loads shipments of every line of stored orders, and writes the orders as CSV, beside the load of the
// orders themselves: as many lines each.
func BenchmarkMoves(b *testing.B) {
	const orders, lines = 10_000, 10
	doc, goods := []byte(head), []byte("No,Order,Line,Qty\n")
	for o := range orders {
		for l := range lines {
			doc = fmt.Appendf(doc, "A-%d,2026-03-02,00417,%d,9.50\n", o, l+1)
			goods = fmt.Appendf(goods, "LS-%d,A-%d,%d,%d\n", o, o, l+1, l+1)
		}
	}
	var loading, moving, writing, loadingCPU, movingCPU, writingCPU time.Duration
	for b.Loop() {
		e := testEngine(b, testStore(b), source.DefaultLimits)
		began, used := time.Now(), cputime.Used(b)
		send(b, e, plainMapping, doc, Request{})
		loading, loadingCPU = loading+time.Since(began), loadingCPU+cputime.Used(b)-used
		began, used = time.Now(), cputime.Used(b)
		if l := send(b, e, notices("shipment", "quantity: {from: Qty}"), goods, Request{}); l.Changed != orders {
			b.Fatalf("%+v", l)
		}
		moving, movingCPU = moving+time.Since(began), movingCPU+cputime.Used(b)-used
		began, used = time.Now(), cputime.Used(b)
		l, err := listing.New(listing.Choice{})
		if err != nil {
			b.Fatal(err)
		}
		table, err := report.Tables["csv"].Begin(io.Discard, l.Sheets()...)
		if err != nil {
			b.Fatal(err)
		}
		rows := 0
		err = e.store.EachOrder(context.Background(), store.OrderFilter{}, func(o *order.Order) error {
			return l.Rows(o, func(sheet int, row []string) error { rows++; return table.Add(sheet, row) })
		})
		if err != nil || rows != orders*lines {
			b.Fatal(rows, err)
		}
		writing, writingCPU = writing+time.Since(began), writingCPU+cputime.Used(b)-used
	}
	n := float64(orders * lines * b.N)
	b.ReportMetric(n/loading.Seconds(), "loaded-lines/s")
	b.ReportMetric(n/moving.Seconds(), "shipped-lines/s")
	b.ReportMetric(n/writing.Seconds(), "exported-lines/s")
	b.ReportMetric(loading.Seconds()/moving.Seconds(), "×-load-shipped")
	b.ReportMetric(loading.Seconds()/writing.Seconds(), "×-load-exported")
	b.ReportMetric(loadingCPU.Seconds()/movingCPU.Seconds(), "×-load-shipped-cpu")
	b.ReportMetric(loadingCPU.Seconds()/writingCPU.Seconds(), "×-load-exported-cpu")
}
