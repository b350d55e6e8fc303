package e2e

import (
	"bytes"
	"context"
	"database/sql"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"koinos/api"
	"koinos/core/outcome"
)

var kills = flag.Int("kills", 30, "how many times TestKilledAtRandom kills the service")

// state is everything that a database says of orders and loads, but for times
// and for the addresses of the documents.
func state(t testing.TB, data string) string {
	t.Helper()
	db, err := sql.Open("sqlite3", "file:"+filepath.Join(data, "koinos.db")+"?mode=ro")
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	var out strings.Builder
	for _, query := range []string{
		`SELECT id, kind, number, identity, hex(fingerprint), status, revision, partner, currency, total, ` +
			`line_count, last_line, more, load_id FROM orders ORDER BY id`,
		`SELECT * FROM lines ORDER BY order_id, n`,
		`SELECT n, order_id, revision, by, action, load_id, load_seq, document, trace, changes, was FROM events ORDER BY n`,
		`SELECT * FROM series ORDER BY kind`,
		`SELECT * FROM jobs`,
		`SELECT kind, load_id, load_seq, partner, number, code, reason FROM held ORDER BY load_id, load_seq`,
		`SELECT * FROM load_orders ORDER BY load_id, seq`,
		`SELECT * FROM load_spans ORDER BY load_id, sheet, first`,
		`SELECT * FROM load_changes ORDER BY load_id, seq`,
		`SELECT m.*, p.order_id, p.revision, p.lines FROM movements m JOIN movement_parts p ON p.movement_id = m.id ` +
			`ORDER BY m.id, p.order_id`,
		`SELECT v.*, p.order_id, p.revision, p.content FROM invoices v JOIN invoice_parts p ON p.invoice_id = v.id ` +
			`ORDER BY v.id, p.order_id`,
		`SELECT * FROM answers ORDER BY order_id, revision`,
		`SELECT * FROM findings ORDER BY load_id, n`,
		`SELECT id, document, mapping, mapping_version, options, status, rows, orders, lines, loaded, changed, ` +
			`ready, differs, unchanged, refused, held, errors, warnings, saved FROM loads ORDER BY id`,
	} {
		fmt.Fprintln(&out, query)
		for _, line := range linesOf(t, db, query, func(string) bool { return false }) {
			fmt.Fprintln(&out, line)
		}
	}
	return out.String()
}

// linesOf returns what a query finds, a row a line, without some columns.
func linesOf(t testing.TB, db *sql.DB, query string, without func(column string) bool) (all []string) {
	t.Helper()
	rows, err := db.Query(query)
	if err != nil {
		t.Fatal(query, err)
	}
	defer rows.Close()
	columns, err := rows.Columns()
	if err != nil {
		t.Fatal(err)
	}
	values, into := make([]sql.NullString, len(columns)), make([]any, len(columns))
	for i := range values {
		into[i] = &values[i]
	}
	for rows.Next() {
		if err := rows.Scan(into...); err != nil {
			t.Fatal(err)
		}
		line := ""
		for i, v := range values {
			switch {
			case without(columns[i]):
			case v.Valid:
				line += v.String + "|"
			default:
				line += "NULL|"
			}
		}
		all = append(all, line)
	}
	if err := rows.Err(); err != nil {
		t.Fatal(query, err)
	}
	return all
}

// killMapping updates what is stored, and refuses some of it.
var killMapping = strings.Replace(csvMapping, "header:\n",
	"  again: {do: update}\n  by_hand: {order: 2, line: 0.5}\nheader:\n", 1)

// noticeMapping reads notices of a kind, which the number of their order names.
func noticeMapping(kind, number, more string) string {
	return fmt.Sprintf("koinos: mapping/1\nname: %[1]s\norders: {kind: %[1]s, of: sales, group: {by: key, columns: [Order]}}\n"+
		"header:\n  sender_number: {from: Order, need: must}\n  partner: {value: OSTRAND}\n"+
		"  %[2]s: {from: Order, expr: '\"N-\" + value'}\n"+
		"  %[3]s\nlines:\n  item: {from: Item}\n", kind, number, more)
}

var killMappings = []string{killMapping,
	noticeMapping("shipment", "shipment", "shipped_on: {value: 2026-03-16}") + "  quantity: {from: Qty, expr: '\"1\"'}\n",
	noticeMapping("invoice", "invoice", "invoiced_on: {value: 2026-03-17}") +
		"  quantity: {from: Qty, expr: '\"1\"'}\n  unit_price: {from: Price}\n",
	noticeMapping("answer", "answer", "answered_on: {value: 2026-03-15}") +
		"  quantity: {from: Qty}\n  answer: {value: accepted}\n"}

type killStep struct {
	mapping string
	doc     []byte
	opt     outcome.Options
}

// killSteps are the loads that every round must bring to its end: one that
// stores, one that changes half of what is stored, a dry run, one all or none, and answers, shipments and invoices.
func killSteps() []killStep {
	first := manyOrders(2_200)
	first = append(first, "A-000007,99999,0,1\nB-1,,2,9.50\n"...) // refused: it began before; no item
	second := bytes.ReplaceAll(first[:len(first)/2], []byte(",9.50\n"), []byte(",9.75\n"))
	second = second[:bytes.LastIndexByte(second, '\n')+1]
	third := append(bytes.ReplaceAll(manyOrders(1_200), []byte("A-"), []byte("C-")),
		second[len("Order,Item,Qty,Price\n"):]...)
	some := manyOrders(700)
	return []killStep{{"plain", first, outcome.Options{}}, {"plain", second, outcome.Options{}},
		{"plain", first, outcome.Options{DryRun: true, StopAfter: 50}},
		{"plain", third, outcome.Options{AllOrNone: true, Note: "all"}},
		{"answer", some, outcome.Options{}}, {"shipment", some, outcome.Options{}}, {"invoice", some, outcome.Options{}},
		{"shipment", some, outcome.Options{AllOrNone: true}}}
}

// A service that is killed at any moment, again and again, ends with exactly
// the database of one that was left alone.
func TestKilledAtRandom(t *testing.T) {
	t.Parallel()
	steps := killSteps()
	play := func(data string, seed uint64, most int) (kills int) {
		rnd := rand.New(rand.NewPCG(seed, 17))
		s := start(t, data, "serve")
		ctx := context.Background()
		for _, m := range killMappings {
			if _, err := s.api().KeepMapping(ctx, []byte(m)); err != nil {
				t.Fatal(err)
			}
		}
		for i, step := range steps {
			d, err := s.api().SendDocument(ctx, fmt.Sprintf("step-%d.csv", i), bytes.NewReader(step.doc))
			if err != nil {
				t.Fatal(err)
			}
			l, err := s.api().StartLoad(ctx, api.NewLoad{Document: d.SHA, Mapping: step.mapping, Options: step.opt})
			if err != nil {
				t.Fatal(err)
			}
			for {
				if kills < most {
					time.Sleep(time.Duration(rnd.IntN(80)) * time.Millisecond)
					s.kill()
					kills++
					s = start(t, data, "serve")
				}
				rep, err := s.api().Load(ctx, l.ID)
				if err != nil {
					t.Fatal(err)
				}
				if rep.Load.Status.Ended() {
					break
				}
				if kills >= most {
					if _, err := s.api().WatchLoad(ctx, l.ID, func(outcome.Load) {}); err != nil {
						t.Fatal(err)
					}
				}
			}
		}
		s.stop()
		return kills
	}
	calm := t.TempDir()
	play(calm, 0, 0)
	want := state(t, calm)
	if !strings.Contains(want, "changed") || !strings.Contains(want, "|created|") || !strings.Contains(want,
		"|shipment|OSTRAND|N-A-000699|") ||
		!strings.Contains(want, "|OSTRAND|N-A-000699|2026-03-17|") {
		t.Fatal("the undisturbed run did nothing worth comparing")
	}
	seed := uint64(time.Now().UnixNano())
	for done := 0; done < *kills; seed++ {
		data := filepath.Join(t.TempDir(), "data")
		n := play(data, seed, min(25, *kills-done))
		if n == 0 {
			t.Fatal("nothing was killed")
		}
		done += n
		if got := state(t, data); got != want {
			at := 0
			for at < min(len(got), len(want)) && got[at] == want[at] {
				at++
			}
			t.Fatalf("seed %d: after %d kills the database differs:\n…%.300s\nwant\n…%.300s", seed, n, got[max(0, at-100):],
				want[max(0, at-100):])
		}
		os.RemoveAll(data)
	}
}

// The same holds for a sequence, whose later loads take what earlier ones got,
// and for the undoing of a load, which is asked again until it is done.
func TestSequenceKilledAtRandom(t *testing.T) {
	t.Parallel()
	purchase := strings.NewReplacer("name: plain", "name: purchase", "kind: sales", "kind: purchase").Replace(csvMapping)
	sale := strings.NewReplacer("name: plain", "name: sale", "  currency: ",
		"  reference.purchase: {result: buy.number, need: must}\n  currency: ").Replace(csvMapping)
	doc := append(manyOrders(1_500), "Z-1,,1,1\n"...) // refused as a purchase, held as a sale
	ctx := context.Background()
	play := func(data string, seed uint64, most int) {
		rnd := rand.New(rand.NewPCG(seed, 29))
		s := start(t, data, "serve")
		kill := func() {
			if most > 0 {
				most--
				time.Sleep(time.Duration(rnd.IntN(60)) * time.Millisecond)
				s.kill()
				s = start(t, data, "serve")
			}
		}
		for _, text := range []string{purchase, sale} {
			if _, err := s.api().KeepMapping(ctx, []byte(text)); err != nil {
				t.Fatal(err)
			}
		}
		if _, err := s.api().KeepSequence(ctx, []byte("koinos: sequence/1\nname: both\nsteps:\n"+
			"  - {step: buy, mapping: purchase}\n  - {step: sell, mapping: sale}\n")); err != nil {
			t.Fatal(err)
		}
		d, err := s.api().SendDocument(ctx, "both.csv", bytes.NewReader(doc))
		if err != nil {
			t.Fatal(err)
		}
		r, err := s.api().StartRun(ctx, api.NewRun{Document: d.SHA, Sequence: "both"})
		for err == nil && r.Status == outcome.Running {
			kill()
			time.Sleep(5 * time.Millisecond)
			r, err = s.api().Run(ctx, r.ID)
		}
		if err != nil || len(r.Loads) != 2 || r.Loads[0].Loaded != 1_500 || r.Loads[1].Loaded != 1_500 ||
			r.Loads[1].Held != 1 {
			t.Fatalf("%+v %v", r, err)
		}
		most = max(most, 1)
		done := make(chan error, 1)
		for first := true; ; first = false {
			calls := s.api()
			go func() { _, err := calls.UndoLoad(ctx, r.Loads[1].ID, false); done <- err }()
			if first && seed != 0 {
				kill()
			}
			if err := <-done; err == nil {
				break
			} else if !first {
				t.Fatal(err)
			}
		}
		s.stop()
	}
	calm, wild := t.TempDir(), t.TempDir()
	play(calm, 0, 0)
	play(wild, uint64(time.Now().UnixNano()), 12)
	if want, got := state(t, calm), state(t, wild); want != got {
		at := 0
		for at < min(len(got), len(want)) && got[at] == want[at] {
			at++
		}
		t.Fatalf("the database differs:\n…%.300s\nwant\n…%.300s", got[max(0, at-100):], want[max(0, at-100):])
	}
}
