package load

import (
	"bytes"
	"database/sql"
	"encoding/csv"
	"flag"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"koinos/core/cputime"
	"koinos/core/list"
	"koinos/core/source"
)

var benchOrders = flag.Int("orders", 10_000, "orders of ten lines in the benchmark's document")

// benchDocument is a CSV of n orders of ten lines in 14 columns.
func benchDocument(n int) []byte {
	var b bytes.Buffer
	b.WriteString("order,date,partner,yard,terms,item,description,qty,unit,price,less,amount,wanted,note\n")
	for i := range n {
		for l := range 10 {
			q := (i+l)%50 + 1
			fmt.Fprintf(&b, "A-%07d,2026-03-02,OSTRAND,East yard,N30,%05d,\"Braided rope 10 mm, "+
				"white\",%d,MTR,1.45,0,%d.%02d,2026-03-30,on pallets\n", i, (i*7+l)%977, q, q*145/100, q*145%100)
		}
	}
	return b.Bytes()
}

// benchMapping binds thirty fields, of which the document's columns give some
// twice.
const benchMapping = `koinos: mapping/1
name: example
orders: {kind: sales, group: {by: key, columns: [order]}}
header:
  sender_number: {from: order, need: must}
  ordered_on: {from: date, need: must}
  requested_delivery_on: {from: wanted}
  partner: {from: partner, list: customers, need: must}
  ship_to.code: {from: yard, crosswalk: yards}
  bill_to.name: {from: partner}
  payment_terms: {from: terms}
  delivery_terms: {value: DAP}
  price_level: {value: B}
  tax_treatment: {value: exclusive}
  reference.contract: {value: C-2026}
  custom.channel: {value: sheet}
  currency: {value: EUR}
  notes: {from: note}
lines:
  item: {from: item, list: items, need: must}
  buyer_item: {from: item}
  description: {from: description}
  quantity: {from: qty, need: must}
  unit: {from: unit}
  unit_price: {from: price, need: must}
  price_basis: {value: 1}
  discount_percent: {from: less}
  tax_percent: {value: 20}
  amount: {from: amount}
  requested_ship_on: {from: wanted}
  requested_delivery_on: {from: wanted}
  location: {value: "0040"}
  notes: {from: note}
  custom.batch: {from: terms}
  custom.grade: {value: A}
`

// BenchmarkLoad loads a document and, in turn, does the least that any loader
// must: read it with encoding/csv and insert header and line rows with
// prepared statements in big transactions. It reports the ratio of the two in
// processor time and by the clock.
func BenchmarkLoad(b *testing.B) {
	doc := benchDocument(*benchOrders)
	var floorCPU, ourCPU, floorClock, ourClock time.Duration
	var peak uint64
	for b.Loop() {
		runtime.GC()
		start, at := cputime.Used(b), time.Now()
		floor(b, doc)
		floorCPU += cputime.Used(b) - start
		floorClock += time.Since(at)

		s := testStore(b)
		var items []list.Entry
		for i := range 977 {
			items = append(items, list.Entry{Code: fmt.Sprintf("%05d", i)})
		}
		for name, entries := range map[string][]list.Entry{"items": items, "customers": {{Code: "OSTRAND"}},
			"units": {{Code: "MTR"}}} {
			if err := s.PutList(b.Context(), name, entries, time.Now()); err != nil {
				b.Fatal(err)
			}
		}
		e := testEngine(b, s, source.DefaultLimits)
		runtime.GC()
		start, at = cputime.Used(b), time.Now()
		l := send(b, e, benchMapping, doc, Request{})
		ourCPU += cputime.Used(b) - start
		ourClock += time.Since(at)
		if l.Loaded != *benchOrders {
			b.Fatalf("%+v", l)
		}
		var m runtime.MemStats
		runtime.ReadMemStats(&m)
		peak = max(peak, m.HeapSys)
	}
	lines := float64(b.N * *benchOrders * 10)
	b.ReportMetric(ourCPU.Seconds()/floorCPU.Seconds(), "×floor-cpu")
	b.ReportMetric(ourClock.Seconds()/floorClock.Seconds(), "×floor-clock")
	b.ReportMetric(lines/ourClock.Seconds(), "lines/s")
	b.ReportMetric(float64(ourCPU.Microseconds())/lines, "cpu-µs/line")
	b.ReportMetric(float64(floorCPU.Microseconds())/lines, "floor-cpu-µs/line")
	b.ReportMetric(float64(peak)/(1<<20), "heap-MiB")
}

func floor(b *testing.B, doc []byte) {
	dir := b.TempDir()
	file := filepath.Join(dir, "doc.csv")
	if err := os.WriteFile(file, doc, 0o600); err != nil {
		b.Fatal(err)
	}
	db, err := sql.Open("sqlite3", "file:"+filepath.Join(dir, "floor.db")+
		"?_journal_mode=WAL&_foreign_keys=on&_synchronous=FULL")
	if err != nil {
		b.Fatal(err)
	}
	defer db.Close()
	db.SetMaxOpenConns(1)
	for _, q := range []string{
		`CREATE TABLE o (id INTEGER PRIMARY KEY, number TEXT, ordered TEXT, partner TEXT, yard TEXT, terms TEXT)`,
		`CREATE INDEX oi ON o (number)`,
		`CREATE TABLE l (order_id INTEGER REFERENCES o (id), n INTEGER, item TEXT, description TEXT, qty TEXT, ` +
			`unit TEXT, price TEXT, less TEXT, amount TEXT, wanted TEXT, note TEXT, PRIMARY KEY (order_id, n))`,
		`CREATE INDEX li ON l (item)`,
	} {
		if _, err := db.Exec(q); err != nil {
			b.Fatal(err)
		}
	}
	f, err := os.Open(file)
	if err != nil {
		b.Fatal(err)
	}
	defer f.Close()
	r := csv.NewReader(f)
	r.ReuseRecord = true
	if _, err := r.Read(); err != nil {
		b.Fatal(err)
	}
	var tx *sql.Tx
	var head, line *sql.Stmt
	last, id, n := "", 0, 0
	for {
		row, err := r.Read()
		if err == io.EOF {
			break
		}
		if err != nil {
			b.Fatal(err)
		}
		if row[0] != last {
			if id%1000 == 0 {
				if tx != nil {
					if err := tx.Commit(); err != nil {
						b.Fatal(err)
					}
				}
				if tx, err = db.Begin(); err != nil {
					b.Fatal(err)
				}
				if head, err = tx.Prepare(`INSERT INTO o VALUES (?, ?, ?, ?, ?, ?)`); err != nil {
					b.Fatal(err)
				}
				if line, err = tx.Prepare(`INSERT INTO l VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`); err != nil {
					b.Fatal(err)
				}
			}
			last = strings.Clone(row[0])
			id++
			n = 0
			if _, err := head.Exec(id, row[0], row[1], row[2], row[3], row[4]); err != nil {
				b.Fatal(err)
			}
		}
		n++
		if _, err := line.Exec(id, n, row[5], row[6], row[7], row[8], row[9], row[10], row[11], row[12],
			row[13]); err != nil {
			b.Fatal(err)
		}
	}
	if err := tx.Commit(); err != nil {
		b.Fatal(err)
	}
}
