package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"slices"
	"sync"
	"testing"
	"time"

	"koinos/core/list"
	"koinos/core/order"
)

// A panic within a transaction is an error of whoever caused it: what it did is
// undone, what shared the transaction with it is kept, and writing goes on.
func TestPanicInTransaction(t *testing.T) {
	s := open(t, t.TempDir())
	load := aLoad(t, s)
	insert := func(n int) func(*Tx) error {
		return func(tx *Tx) error {
			if err := tx.InsertOrders(newOrders(from(load), order.Sales, n, 1, blank), now); err != nil {
				return err
			}
			if n%5 == 0 {
				panic("a mistake of ours")
			}
			return nil
		}
	}
	for _, c := range []struct {
		name  string
		write func(context.Context, func(*Tx) error) error
	}{{"alone", s.Write}, {"shared", s.Share}} {
		var all sync.WaitGroup
		for n := range 40 {
			all.Go(func() {
				err := c.write(ctx, insert(len(c.name)*1000+n))
				var p *Panicked
				if n%5 == 0 != errors.As(err, &p) || p != nil && len(p.Stack) == 0 {
					t.Errorf("%s, order %d: %v", c.name, n, err)
				}
			})
		}
		all.Wait()
	}
	seen, _, err := s.Orders(ctx, OrderFilter{Limit: 100})
	if err != nil || len(seen) != 64 {
		t.Errorf("%d orders, %v", len(seen), err)
	}
	if err := s.Ready(ctx); err != nil {
		t.Errorf("it does not say that it is well: %v", err)
	}
	closed := make(chan error)
	go func() { closed <- s.Close() }()
	select {
	case err := <-closed:
		if err != nil {
			t.Error(err)
		}
	case <-time.After(time.Minute):
		t.Fatal("it does not close")
	}
}

// limit limits the database to a number of pages more than it has.
func limit(t *testing.T, s *Store, more int) {
	t.Helper()
	var pages int
	err := s.r.GetContext(ctx, &pages, `PRAGMA page_count`)
	if err == nil {
		_, err = s.conn.ExecContext(ctx, fmt.Sprintf(`PRAGMA max_page_count = %d`, pages+more))
	}
	if err != nil {
		t.Fatal(err)
	}
}

// On a full disk SQLite undoes a transaction by itself: nothing of the batch is
// kept, also where its writer ignores the error, and the store says it is unwell
// until there is room.
func TestFullDisk(t *testing.T) {
	s := open(t, t.TempDir())
	load := aLoad(t, s)
	limit(t, s, 40)
	kept, full := 0, false
	for batch := 0; batch < 400 && !full; batch++ {
		err := s.Write(ctx, func(tx *Tx) error {
			for i := range 20 {
				// as a careless writer would
				_ = tx.InsertOrders(newOrders(from(load), order.Sales, batch*100+i, 1, blank), now)
			}
			return nil
		})
		if full = err != nil; !full {
			kept += 20
		} else if Blocked(err) == "" {
			t.Fatal(err)
		}
	}
	var orders, lines int
	if err := s.r.GetContext(ctx, &orders, `SELECT count(*) FROM orders`); err != nil {
		t.Fatal(err)
	}
	if err := s.r.GetContext(ctx, &lines, `SELECT count(*) FROM lines`); err != nil {
		t.Fatal(err)
	}
	if !full || orders != kept || lines != 2*kept || kept == 0 {
		t.Fatalf("full: %v; %d orders and %d lines of %d kept", full, orders, lines, kept)
	}
	limit(t, s, 0)
	if err := s.Ready(ctx); err == nil {
		t.Error("it says that it is well, although it cannot write")
	}
	limit(t, s, 4000)
	if err := s.Ready(ctx); err != nil {
		t.Errorf("there is room: %v", err)
	}
	if err := s.Write(ctx, func(tx *Tx) error {
		return tx.InsertOrders(newOrders(from(load), order.Sales, 100000, 20, blank), now)
	}); err != nil {
		t.Error(err)
	}
}

// Whoever reads a list behind a change sees the change, however many read and
// change at the same time.
func TestListsUnderWay(t *testing.T) {
	s := open(t, t.TempDir())
	stop := make(chan struct{})
	var readers sync.WaitGroup
	for range 4 {
		readers.Go(func() {
			for {
				select {
				case <-stop:
					return
				default:
					if _, err := s.Set(ctx); err != nil {
						t.Error(err)
						return
					}
				}
			}
		})
	}
	for n := 1; n <= 150 && !t.Failed(); n++ {
		if err := s.PutList(ctx, "items", []list.Entry{{Code: fmt.Sprint(n)}}, now); err != nil {
			t.Fatal(err)
		}
		set, err := s.Set(ctx)
		if err != nil {
			t.Fatal(err)
		}
		if _, ok := set.Lists["items"].Find(fmt.Sprint(n)); !ok || set.Versions["items"] != n {
			t.Errorf("after change %d the list has version %d", n, set.Versions["items"])
		}
	}
	close(stop)
	readers.Wait()
	old, err := s.SetAt(ctx, map[string]int{"items": 7})
	if err != nil {
		t.Fatal(err)
	}
	if _, ok := old.Lists["items"].Find("7"); !ok {
		t.Error("version 7 of the list is not what it was")
	}
}

// Ids of orders and numbers of events only rise, whatever is removed between.
func TestIDsAreNotUsedAgain(t *testing.T) {
	s := open(t, t.TempDir())
	load := aLoad(t, s)
	r := rand.New(rand.NewPCG(11, 27))
	var alive []int64
	last := int64(0)
	for n := range 120 {
		err := s.Write(ctx, func(tx *Tx) error {
			if len(alive) > 0 && r.IntN(2) == 0 {
				at := len(alive) - 1 - r.IntN(min(2, len(alive))) // most often the newest
				o, err := tx.Order(alive[at])
				if err != nil {
					return err
				}
				alive = slices.Delete(alive, at, at+1)
				return tx.Remove(o, *from(load), n, now)
			}
			list := newOrders(from(load), order.Sales, n, 1, blank)
			if err := tx.InsertOrders(list, now); err != nil {
				return err
			}
			id := list[0].Order.ID
			if id <= last {
				t.Errorf("order %d comes after order %d", id, last)
			}
			last = id
			alive = append(alive, id)
			return nil
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	var events []int64
	after := int64(0)
	for {
		page, _, err := s.Events(ctx, after, 7)
		if err != nil {
			t.Fatal(err)
		}
		if len(page) == 0 {
			break
		}
		for _, e := range page {
			if e.N <= after {
				t.Errorf("event %d comes behind %d", e.N, after)
			}
			after = e.N
			events = append(events, e.N)
		}
	}
	if len(events) != 120 {
		t.Errorf("%d events of 120", len(events))
	}
}

// Another program that holds the database is waited for, and then said: nothing is lost, and
// writing goes on when it lets go.
func TestHeldByAnother(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	load := aLoad(t, s)
	if _, err := s.conn.ExecContext(ctx, `PRAGMA busy_timeout = 100`); err != nil { // 10 s are too long for a test
		t.Fatal(err)
	}
	other, err := sql.Open("sqlite3", "file:"+filepath.Join(dir, DatabaseFile))
	if err != nil {
		t.Fatal(err)
	}
	defer other.Close()
	other.SetMaxOpenConns(1)
	hold := func(statement string) {
		t.Helper()
		if _, err := other.ExecContext(ctx, statement); err != nil {
			t.Fatal(err)
		}
	}
	write := func(first int) error {
		return s.Write(ctx, func(tx *Tx) error {
			return tx.InsertOrders(newOrders(from(load), order.Sales, first, 10, blank), now)
		})
	}
	hold(`BEGIN IMMEDIATE`)
	if why := Blocked(write(0)); why != "another program holds the database" {
		t.Errorf("while it is held: %q", why)
	}
	if err := s.Ready(ctx); err == nil {
		t.Error("it says that it is well, although it cannot write")
	}
	hold(`COMMIT`)
	if err := errors.Join(s.Ready(ctx), write(100)); err != nil {
		t.Errorf("when it is let go: %v", err)
	}
	var orders int
	if err := s.r.GetContext(ctx, &orders, `SELECT count(*) FROM orders`); err != nil || orders != 10 {
		t.Errorf("%d orders, %v", orders, err)
	}
}

// Whoever panics when a shared transaction is committed keeps nobody waiting, and not the writer.
func TestPanicAfterSharing(t *testing.T) {
	s := open(t, t.TempDir())
	nothing := func(*Tx) error { return nil }
	func() {
		defer func() {
			if recover() == nil {
				t.Error("the panic is swallowed")
			}
		}()
		_ = s.Share(ctx, func(tx *Tx) error {
			tx.After(func() { panic("too late") })
			return nil
		})
	}()
	done := make(chan error, 2)
	go func() { done <- s.Share(ctx, nothing) }()
	go func() { done <- s.Write(ctx, nothing) }()
	for range 2 {
		select {
		case err := <-done:
			if err != nil {
				t.Error(err)
			}
		case <-time.After(20 * time.Second):
			t.Fatal("somebody waits for ever")
		}
	}
}
