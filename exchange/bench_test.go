package exchange

import (
	"bytes"
	"context"
	"flag"
	"fmt"
	"io"
	"runtime"
	"syscall"
	"testing"
	"time"

	"koinos/api"
	"koinos/core/cputime"
	"koinos/load"
)

var benchSets = flag.Int("sets", 2_000, "transaction sets, of four lines each, of the benchmark's interchange")

// benchDocuments are n orders of four lines as an interchange of 850s, and the
// same orders, with every fact that those have, as CSV.
func benchDocuments(n int) (edi, csv []byte) {
	var e, c bytes.Buffer
	e.WriteString("ISA*00*          *00*          *ZZ*PELLOW         *ZZ*QUILLMERE      " +
		"*260316*0930*U*00401*000007777*0*P*>~GS*PO*PELLOW*QUILLMERE*20260316*0930*7777*X*004010~")
	c.WriteString("order,date,currency,contract,wanted,name,code,street,city,postal,country,line,qty,unit,price," +
		"item,gtin,text,line_wanted\n")
	for i := range n {
		fmt.Fprintf(&e, "ST*850*%04d~BEG*00*SA*BIG-%d**20260316~CUR*BY*EUR~REF*CT*C-2026-18~DTM*002*20260330~"+
			"N1*ST*Pellow Marina*92*0040~N3*Berth office 7~N4*Pellow Haven**44210*NO~", i+1, i)
		for l := range 4 {
			fmt.Fprintf(&e, "PO1*%d*%d*MR*1.33**VP*00113*EN*2004417001597~PID*F****Braided rope 10 mm, white, "+
				"quality %d~DTM*002*20260330~", l+1, l+2, l)
			fmt.Fprintf(&c, "CSV-%d,2026-03-16,EUR,C-2026-18,2026-03-30,Pellow Marina,0040,Berth office 7,Pellow "+
				"Haven,44210,NO,%d,%d,MTR,1.33,00113,2004417001597,\"Braided rope 10 mm, white, quality "+
				"%d\",2026-03-30\n", i, l+1, l+2, l)
		}
		fmt.Fprintf(&e, "CTT*4~SE*22*%04d~", i+1)
	}
	fmt.Fprintf(&e, "GE*%d*7777~IEA*1*000007777~", n)
	return e.Bytes(), c.Bytes()
}

const benchMapping = `koinos: mapping/1
name: as-csv
orders: {kind: sales, group: {by: key, columns: [order]}}
header:
  sender_number: {from: order, need: must}
  ordered_on: {from: date}
  partner: {value: PELLOW, list: customers}
  currency: {from: currency}
  reference.contract: {from: contract}
  requested_delivery_on: {from: wanted}
  ship_to.name: {from: name}
  ship_to.code: {from: code}
  ship_to.street: {from: street}
  ship_to.city: {from: city}
  ship_to.postal_code: {from: postal}
  ship_to.country: {from: country}
lines:
  number: {from: line}
  quantity: {from: qty, need: must}
  unit: {from: unit}
  unit_price: {from: price}
  item: {from: item}
  gtin: {from: gtin}
  description: {from: text}
  requested_delivery_on: {from: line_wanted}
`

// BenchmarkReceive takes an interchange in, to the acknowledgement and its orders
// in the store, and in turn loads the same orders from CSV: it reports the ratio
// of the two, by the clock and in processor time, and the most heap that the
// interchange had in use above what the benchmark itself holds.
func BenchmarkReceive(b *testing.B) {
	edi, csv := benchDocuments(*benchSets)
	var clock, used [2]time.Duration
	var peak [2]uint64
	for b.Loop() {
		for k, f := range []func(d *desk){
			func(d *desk) {
				ctx := context.Background()
				sha, size, err := d.store.KeepFile(bytes.NewReader(csv), func(io.ReaderAt, int64) error { return nil })
				if err == nil {
					_, err = d.store.PutDocument(ctx, api.Document{SHA: sha, Name: "bench.csv", Size: size})
				}
				if err != nil {
					b.Fatal(err)
				}
				l, err := d.engine.Start(ctx, load.Request{Document: sha, Mapping: "as-csv", By: "bench"})
				if err == nil {
					l, err = d.engine.Wait(ctx, l.ID)
				}
				if err != nil || l.Loaded != *benchSets {
					b.Fatal(l.Counts, err)
				}
			},
			func(d *desk) {
				if i := d.receive(string(edi)); i.State != api.StateDone || i.SetCount != *benchSets {
					b.Fatal(i.State, i.SetCount, foundIn(i))
				}
			},
		} {
			d := open(b)
			if _, err := d.store.PutMapping(context.Background(), api.Mapping{Name: "as-csv",
				Text: benchMapping}); err != nil {
				b.Fatal(err)
			}
			syscall.Sync() // what the one before wrote is not this one's work
			runtime.GC()
			var before, now runtime.MemStats
			runtime.ReadMemStats(&before)
			stop, stopped := make(chan struct{}), make(chan struct{})
			go func() {
				defer close(stopped)
				for t := time.NewTicker(20 * time.Millisecond); ; {
					select {
					case <-stop:
						t.Stop()
						return
					case <-t.C:
						if runtime.ReadMemStats(&now); now.HeapInuse > before.HeapInuse {
							peak[k] = max(peak[k], now.HeapInuse-before.HeapInuse)
						}
					}
				}
			}()
			start, at := cputime.Used(b), time.Now()
			f(d)
			used[k] += cputime.Used(b) - start
			clock[k] += time.Since(at)
			close(stop)
			<-stopped
		}
	}
	b.ReportMetric(clock[1].Seconds()/clock[0].Seconds(), "×csv-clock")
	b.ReportMetric(used[1].Seconds()/used[0].Seconds(), "×csv-cpu")
	b.ReportMetric(float64(b.N**benchSets)/clock[1].Seconds(), "sets/s")
	b.ReportMetric(float64(peak[0])/(1<<20), "csv-heap-MiB")
	b.ReportMetric(float64(peak[1])/(1<<20), "heap-MiB")
}
