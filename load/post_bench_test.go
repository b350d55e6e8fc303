package load

import (
	"database/sql"
	"fmt"
	"path/filepath"
	"slices"
	"sync"
	"testing"
	"time"

	"koinos/core/order"
	"koinos/core/outcome"
	"koinos/core/source"
)

// BenchmarkPost stores single orders of two lines, each durable when the call
// returns, from 64 goroutines at once. In turn it does the least that any
// store must: a transaction for each order with synchronous=FULL.
func BenchmarkPost(b *testing.B) {
	const clients, each = 64, 60
	const body = `{"kind": "sales", "partner": "OSTRAND", "sender_number": "%d", "lines": [{"item": "00417", ` +
		`"quantity": "2", "unit_price": "9.50"}, {"item": "00417", "quantity": "2", "unit_price": "9.50"}]}`
	storm := func(post func(i int) error) (rate float64, p99 time.Duration) {
		var mu sync.Mutex
		var took []time.Duration
		var wait sync.WaitGroup
		begin := time.Now()
		for c := range clients {
			wait.Go(func() {
				for i := range each {
					at := time.Now()
					if err := post(c*each + i); err != nil {
						b.Error(err)
						return
					}
					mu.Lock()
					took = append(took, time.Since(at))
					mu.Unlock()
				}
			})
		}
		wait.Wait()
		slices.Sort(took)
		return float64(len(took)) / time.Since(begin).Seconds(), took[len(took)*99/100]
	}
	var floorRate, rate float64 // sums over the rounds
	var floorP99, p99 time.Duration
	var commits uint64
	took := func(rate *float64, worst *time.Duration, post func(i int) error) {
		r, p := storm(post)
		*rate += r
		*worst = max(*worst, p)
	}
	for b.Loop() {
		db, err := sql.Open("sqlite3", "file:"+filepath.Join(b.TempDir(), "floor.db")+
			"?_journal_mode=WAL&_synchronous=FULL&_txlock=immediate")
		if err != nil {
			b.Fatal(err)
		}
		db.SetMaxOpenConns(1)
		for _, q := range []string{`CREATE TABLE o (id INTEGER PRIMARY KEY, number TEXT UNIQUE, partner TEXT)`,
			`CREATE TABLE l (order_id INTEGER, n INTEGER, item TEXT, qty TEXT, price TEXT, PRIMARY KEY (order_id, n))`} {
			if _, err := db.Exec(q); err != nil {
				b.Fatal(err)
			}
		}
		took(&floorRate, &floorP99, func(i int) error {
			tx, err := db.Begin()
			if err != nil {
				return err
			}
			defer func() { _ = tx.Rollback() }() // after the commit it does nothing
			if _, err := tx.Exec(`INSERT INTO o VALUES (?, ?, ?)`, i+1, fmt.Sprint(i), "OSTRAND"); err != nil {
				return err
			}
			for n := range 2 {
				if _, err := tx.Exec(`INSERT INTO l VALUES (?, ?, ?, ?, ?)`, i+1, n+1, "00417", "2",
					"9.50"); err != nil {
					return err
				}
			}
			return tx.Commit()
		})
		db.Close()
		e := testEngine(b, testStore(b), source.DefaultLimits)
		before := e.store.Commits()
		took(&rate, &p99, func(i int) error {
			line := order.Line{Item: "00417", Quantity: order.MustNumber("2"), UnitPrice: order.MustNumber("9.50")}
			p, err := e.Post(b.Context(), &order.Order{Kind: order.Sales, Partner: "OSTRAND",
				SenderNumber: fmt.Sprint(i), Lines: []order.Line{line, line}}, fmt.Appendf(nil, body, i), "", "bench")
			if err == nil && p.Outcome != outcome.Loaded {
				err = fmt.Errorf("%+v", p)
			}
			return err
		})
		commits += e.store.Commits() - before
	}
	b.ReportMetric(rate/floorRate, "×floor-rate")
	b.ReportMetric(rate/float64(b.N), "orders/s")
	b.ReportMetric(floorRate/float64(b.N), "floor-orders/s")
	b.ReportMetric(float64(b.N*clients*each)/float64(commits), "orders/commit")
	b.ReportMetric(float64(p99.Microseconds())/1000, "p99-ms")
	b.ReportMetric(float64(floorP99.Microseconds())/1000, "floor-p99-ms")
}
