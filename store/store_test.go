package store

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"koinos/api"
	"koinos/core/list"
	"koinos/core/order"
	"koinos/core/outcome"
)

var (
	ctx = context.Background()
	now = time.Date(2026, 3, 14, 9, 30, 0, 0, time.UTC)
)

func open(t testing.TB, dir string) *Store {
	t.Helper()
	s, err := Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	return s
}

func anything(io.ReaderAt, int64) error { return nil }

// aLoad is a store with a document, a mapping and a load to store orders under.
func aLoad(t testing.TB, s *Store) int64 {
	t.Helper()
	sha, size, err := s.KeepFile(strings.NewReader("a,b\n"), anything)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.PutDocument(ctx, api.Document{SHA: sha, Name: "a.csv", Size: size, ReceivedAt: now}); err != nil {
		t.Fatal(err)
	}
	if _, err := s.PutMapping(ctx, api.Mapping{Name: "m", Text: "x", StoredAt: now}); err != nil {
		t.Fatal(err)
	}
	id, _, err := s.StartLoad(ctx, outcome.Load{Document: sha, Mapping: "m", Version: 1, StartedAt: now}, "")
	if err != nil {
		t.Fatal(err)
	}
	return id
}

func newOrders(from *Source, kind order.Kind, first, n int, number func(i int) string) []NewOrder {
	list := make([]NewOrder, n)
	for i := range list {
		o := &order.Order{Kind: kind, SenderNumber: fmt.Sprint(first + i), Partner: "P", Number: number(i),
			Total: order.MustNumber("1.00"),
			Lines: []order.Line{{Number: "1", Item: "00417", Quantity: order.MustNumber("2"),
				Charges: []order.Charge{{Code: "box", Amount: order.MustNumber("1")}}}, {Number: "20", Item: "00501"}}}
		list[i] = NewOrder{Order: o, Identity: o.Identity(), Fingerprint: o.Fingerprint(), Trace: []byte("{}"),
			Seq: i + 1, Source: from}
	}
	return list
}

// from is what brings orders in these tests.
func from(load int64) *Source { return &Source{Load: load, By: "me"} }

func blank(int) string { return "" }

// Numbers come from the series of their kind and pass over those given by hand.
func TestNumbers(t *testing.T) {
	s := open(t, t.TempDir())
	load := aLoad(t, s)
	insert := func(orders []NewOrder) []string {
		t.Helper()
		if err := s.Write(ctx, func(tx *Tx) error { return tx.InsertOrders(orders, now) }); err != nil {
			t.Fatal(err)
		}
		var numbers []string
		for _, o := range orders {
			numbers = append(numbers, o.Order.Number)
		}
		return numbers
	}
	insert(newOrders(from(load), order.Sales, 1, 2, func(i int) string { return []string{"SO-000002", "X-9"}[i] }))
	if got := fmt.Sprint(insert(newOrders(from(load), order.Sales, 10, 3,
		blank))); got != "[SO-000001 SO-000003 SO-000004]" {
		t.Errorf("sales %s", got)
	}
	if got := fmt.Sprint(insert(newOrders(from(load), order.Purchase, 10, 1, blank))); got != "[PO-000001]" {
		t.Errorf("purchases %s", got)
	}
	many := insert(newOrders(from(load), order.Sales, 1000, 700, blank))
	if many[699] != "SO-000704" {
		t.Errorf("the last of many is %s", many[699])
	}
	err := s.Write(ctx, func(tx *Tx) error {
		var ids []string
		for i := range 700 {
			ids = append(ids, fmt.Sprintf("sales|P|%d", 1000+i))
		}
		known, err := tx.KnownOrders(append(ids, "sales|P|nobody"))
		if len(known) != 700 || known["sales|P|1699"].Number != "SO-000704" {
			t.Errorf("%d orders are known of 700", len(known))
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	o, err := s.Order(ctx, 1)
	if err != nil || len(o.Lines) != 2 || o.Lines[0].Charges[0].Code != "box" || o.Lines[1].Number != "20" ||
		o.Lines[0].Quantity.String() != "2" {
		t.Errorf("%+v %v", o, err)
	}
	if err := s.Write(ctx, func(tx *Tx) error {
		return tx.InsertOrders(newOrders(from(load), order.Sales, 1, 1, blank), now)
	}); err == nil {
		t.Error("one identity was stored twice")
	}
}

// What a transaction did is kept whole or not at all, and neither a failure nor
// a caller who has gone away spoils the writer for the next one.
func TestWrite(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	load := aLoad(t, s)
	wrong := errors.New("wrong")
	if err := s.Write(ctx, func(tx *Tx) error {
		if err := tx.InsertOrders(newOrders(from(load), order.Sales, 1, 120, blank), now); err != nil {
			t.Fatal(err)
		}
		return wrong
	}); !errors.Is(err, wrong) {
		t.Errorf("%v", err)
	}
	gone, cancel := context.WithCancel(ctx)
	err := s.Write(gone, func(tx *Tx) error {
		cancel()
		return tx.InsertOrders(newOrders(from(load), order.Sales, 1, 3, blank), now)
	})
	if err != nil {
		t.Errorf("a transaction that had begun: %v", err)
	}
	if err := s.Write(gone, func(*Tx) error { return nil }); !errors.Is(err, context.Canceled) {
		t.Errorf("one that had not: %v", err)
	}
	// Readers do not wait for the writer and see what was there before it.
	err = s.Write(ctx, func(tx *Tx) error {
		if err := tx.InsertOrders(newOrders(from(load), order.Sales, 50, 3, blank), now); err != nil {
			return err
		}
		seen, _, err := s.Orders(ctx, OrderFilter{Limit: 100})
		if len(seen) != 3 {
			t.Errorf("a reader sees %d orders, want 3", len(seen))
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	s = open(t, dir)
	if seen, _, err := s.Orders(ctx, OrderFilter{Limit: 100}); err != nil || len(seen) != 6 {
		t.Errorf("after opening again: %d orders, %v", len(seen), err)
	}
	if err := s.Claim(); err != nil {
		t.Fatal(err)
	}
	if err := open(t, dir).Claim(); err == nil {
		t.Error("two services claim one data folder")
	}
}

func TestFiles(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	content := bytes.Repeat([]byte("x"), 100_000)
	sha, size, err := s.KeepFile(bytes.NewReader(content), anything)
	if err != nil || size != 100_000 || len(sha) != 64 {
		t.Fatal(sha, size, err)
	}
	if again, _, err := s.KeepFile(bytes.NewReader(content), anything); err != nil || again != sha {
		t.Errorf("%s %v", again, err)
	}
	f, err := s.OpenFile(sha)
	if err != nil {
		t.Fatal(err)
	}
	back, err := io.ReadAll(f)
	f.Close()
	if err != nil || !bytes.Equal(back, content) {
		t.Errorf("%d bytes come back, %v", len(back), err)
	}
	wrong := errors.New("no")
	if _, _, err := s.KeepFile(strings.NewReader("refused"), func(io.ReaderAt,
		int64) error {
		return wrong
	}); !errors.Is(err, wrong) {
		t.Errorf("%v", err)
	}
	if _, _, err := s.KeepFile(io.MultiReader(strings.NewReader("half"), brokenReader{}), anything); err == nil {
		t.Error("half a document was kept")
	}
	left := 0
	_ = filepath.WalkDir(filepath.Join(dir, "documents"), func(_ string, d os.DirEntry, _ error) error {
		if !d.IsDir() {
			left++
		}
		return nil
	})
	if left != 1 {
		t.Errorf("%d files are left, want 1", left)
	}
	for _, name := range []string{"", "../../koinos.db", strings.Repeat("0", 64)} {
		if _, err := s.OpenFile(name); !errors.Is(err, ErrNotFound) {
			t.Errorf("%q: %v", name, err)
		}
	}
}

type brokenReader struct{}

func (brokenReader) Read([]byte) (int, error) { return 0, io.ErrUnexpectedEOF }

func TestListsAndVersions(t *testing.T) {
	s := open(t, t.TempDir())
	for _, entries := range [][]list.Entry{{{Code: "a", Name: "A"},
		{Code: "b", Attributes: map[string]string{"unit": "EA"}}}, {{Code: "c"}}} {
		if err := s.PutList(ctx, "items", entries, now); err != nil {
			t.Fatal(err)
		}
	}
	if err := s.PutCrosswalk(ctx, "items", []list.Pair{{Theirs: "x", Ours: "c"}}, now); err != nil {
		t.Fatal(err)
	}
	set, err := s.Set(ctx)
	if err != nil {
		t.Fatal(err)
	}
	// A list that changes in part has each entry once, and knows what it was.
	var many []list.Entry
	for i := range 200 {
		many = append(many, list.Entry{Code: fmt.Sprintf("%03d", i), Name: "first"})
	}
	for version := 1; version <= 2; version++ {
		for i := range many {
			if i%3 == 0 && version == 2 {
				many[i].Name = "second"
			}
		}
		if err := s.PutList(ctx, "many", many[version-1:], now); err != nil {
			t.Fatal(err)
		}
	}
	for _, c := range []struct {
		versions map[string]int
		code     string
		want     string
	}{{nil, "003", "second"}, {nil, "004", "first"}, {nil, "000", ""}, {map[string]int{"many": 1}, "003", "first"},
		{map[string]int{"many": 1}, "000", "first"}} {
		set, err := s.SetAt(ctx, c.versions)
		if err != nil {
			t.Fatal(err)
		}
		name := ""
		if e := set.Lists["many"].Look(c.code, nil, 0).Entry; e != nil {
			name = e.Name
		}
		if name != c.want {
			t.Errorf("%s in versions %v is %q, want %q", c.code, c.versions, name, c.want)
		}
	}
	if infos, err := s.Lists(ctx, false); err != nil || infos[1].Entries != 199 || infos[1].Version != 2 {
		t.Errorf("%+v %v", infos, err)
	}
	if _, old := set.Lists["items"].Find("a"); old {
		t.Error("an entry outlives its list's replacement")
	}
	if ours, _, ok := set.Crosswalks["items"].Ours("X"); !ok || ours != "c" {
		t.Errorf("crosswalk of the same name as a list: %q", ours)
	}
	if _, err := s.Entries(ctx, "nothing", false, "", 10); !errors.Is(err, ErrNotFound) {
		t.Errorf("%v", err)
	}
	for i, c := range []struct {
		text    string
		version int
	}{{"one", 1}, {"one", 1}, {"two", 2}, {"one", 3}} {
		kept, err := s.PutMapping(ctx, api.Mapping{Name: "m", Text: c.text, StoredAt: now})
		if err != nil || kept.Version != c.version {
			t.Errorf("step %d: version %d %v, want %d", i, kept.Version, err, c.version)
		}
	}
	if m, err := s.Mapping(ctx, "m", 2); err != nil || m.Text != "two" {
		t.Errorf("%+v %v", m, err)
	}
	token, secret, err := s.NewToken(ctx, api.NewToken{Name: "t", Scope: "read"}, now)
	if err != nil {
		t.Fatal(err)
	}
	if got, err := s.FindToken(ctx, secret); err != nil || got.ID != token.ID {
		t.Errorf("%+v %v", got, err)
	}
	busy := s.Write(ctx, func(*Tx) error { return s.UsedToken(ctx, token, now) }) // would wait for ever
	if err := errors.Join(busy, s.UsedToken(ctx, token, now)); err != nil {
		t.Fatal(err)
	}
	if all, err := s.Tokens(ctx); err != nil || all[0].UsedAt == nil || !all[0].UsedAt.Equal(now) {
		t.Errorf("%+v %v", all, err)
	}
	if err := s.RevokeToken(ctx, token.ID, now); err != nil {
		t.Fatal(err)
	}
	if _, err := s.FindToken(ctx, secret); !errors.Is(err, ErrNotFound) {
		t.Errorf("a revoked token: %v", err)
	}
}

// BenchmarkInsert stores orders of ten lines, a thousand a transaction, with
// their events. The floor inserts header and line rows of the same width one by
// one with prepared statements, and nothing else.
func BenchmarkInsert(b *testing.B) {
	report := func(b *testing.B, orders int) {
		b.ReportMetric(float64(b.Elapsed().Nanoseconds())/1000/float64(orders*10), "µs/line")
	}
	b.Run("floor=plain-inserts", func(b *testing.B) {
		db, err := sql.Open("sqlite3", "file:"+filepath.Join(b.TempDir(), "floor.db")+"?_journal_mode=WAL&_synchronous=FULL")
		if err != nil {
			b.Fatal(err)
		}
		defer db.Close()
		db.SetMaxOpenConns(1)
		for _, q := range []string{`CREATE TABLE o (id INTEGER PRIMARY KEY, number TEXT UNIQUE, partner TEXT, ordered TEXT, total TEXT)`,
			`CREATE TABLE l (o INTEGER, n INTEGER, item TEXT, description TEXT, quantity TEXT, unit TEXT, price TEXT, amount TEXT, PRIMARY KEY (o, n)) WITHOUT ROWID`} {
			if _, err := db.Exec(q); err != nil {
				b.Fatal(err)
			}
		}
		n := 0
		for b.Loop() {
			tx, err := db.Begin()
			if err != nil {
				b.Fatal(err)
			}
			head, err1 := tx.Prepare(`INSERT INTO o VALUES (?, ?, ?, ?, ?)`)
			line, err2 := tx.Prepare(`INSERT INTO l VALUES (?, ?, ?, ?, ?, ?, ?, ?)`)
			if err := errors.Join(err1, err2); err != nil {
				b.Fatal(err)
			}
			for range 1000 {
				n++
				if _, err := head.Exec(n, fmt.Sprint("SO-", n), "P", "2026-03-02", "29.00"); err != nil {
					b.Fatal(err)
				}
				for l := range 10 {
					if _, err := line.Exec(n, l, "00417", "Braided rope", "2", "MTR", "1.45", "2.90"); err != nil {
						b.Fatal(err)
					}
				}
			}
			if err := tx.Commit(); err != nil {
				b.Fatal(err)
			}
		}
		report(b, n)
	})
	b.Run("koinos", func(b *testing.B) {
		s := open(b, b.TempDir())
		load := aLoad(b, s)
		n := 0
		for b.Loop() {
			orders := newOrders(from(load), order.Sales, n, 1000, blank)
			for i := range orders {
				line := order.Line{Number: "1", Item: "00417", Description: "Braided rope", Quantity: order.MustNumber("2"),
					Unit: "MTR", UnitPrice: order.MustNumber("1.45"), Amount: order.MustNumber("2.90")}
				orders[i].Order.Lines = []order.Line{line, line, line, line, line, line, line, line, line, line}
				for j := range orders[i].Order.Lines {
					orders[i].Order.Lines[j].Number = strconv.Itoa(j + 1)
				}
			}
			n += 1000
			if err := s.Write(ctx, func(tx *Tx) error { return tx.InsertOrders(orders, now) }); err != nil {
				b.Fatal(err)
			}
		}
		report(b, n)
	})
}
