package e2e

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"koinos/api"
	"koinos/core/outcome"
	"koinos/demo"
)

// manySets is an interchange of Pellow's with n purchase orders of three lines.
func manySets(n int) string {
	var b strings.Builder
	b.WriteString(`ISA*00*          *00*          *ZZ*PELLOW         *ZZ*QUILLMERE      *260316*0930*U*00401*000000001*0*P*>~` +
		`GS*PO*PELLOW*QUILLMERE*20260316*0930*1*X*004010~`)
	for i := range n {
		fmt.Fprintf(&b, `ST*850*%04[1]d~BEG*00*SA*PM-%[1]d**20260316~CUR*BY*EUR~N1*ST*Pellow Marina*92*0040~PO1*1*20*MR*1.33**VP*00113~`+
			`PO1*2*20*MR*1.33**VP*00113~PO1*3*20*MR*1.33**VP*00113~CTT*3~SE*9*%04[1]d~`, i+1)
	}
	fmt.Fprintf(&b, `GE*%d*1~IEA*1*000000001~`, n)
	return b.String()
}

// A load, a large interchange, an undo and an export at once end as each would alone, and nobody who
// posts an order meanwhile waits long: none of them keeps the one writer for more than a moment.
func TestTogether(t *testing.T) {
	t.Parallel()
	const old, fresh, sets, atATime = 2_000, 4_000, 800, 20 * time.Millisecond
	dir := t.TempDir()
	s := start(t, t.TempDir(), "serve", "--exchange", dir)
	ctx, calls := context.Background(), s.api()
	text, err := demo.Files.ReadFile("partners/pellow.yaml")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := calls.KeepPartner(ctx, text); err != nil {
		t.Fatal(err)
	}
	lettered := func(n int, letter string) outcome.Load {
		return s.begin(bytes.ReplaceAll(manyOrders(n), []byte("A-"), []byte(letter+"-")))
	}
	toUndo, toExport := lettered(old, "U"), lettered(old, "E")
	for _, l := range []outcome.Load{toUndo, toExport} {
		if last, err := calls.WatchLoad(ctx, l.ID, func(outcome.Load) {}); err != nil || last.Loaded != old {
			t.Fatal(last, err)
		}
	}
	s.longestTurn()

	in := filepath.Join(dir, "PELLOW", "in")
	if err := errors.Join(os.MkdirAll(in, 0o755), os.WriteFile(filepath.Join(in, "many.edi"), []byte(manySets(sets)),
		0o600)); err != nil {
		t.Fatal(err)
	}
	load := lettered(fresh, "B")
	var undone api.Undone
	var loaded outcome.Load
	var exported string
	began := time.Now()
	ended := make(chan error, 4)
	for _, work := range []func() error{
		func() (err error) { loaded, err = calls.WatchLoad(ctx, load.ID, func(outcome.Load) {}); return err },
		func() (err error) { undone, err = calls.UndoLoad(ctx, toUndo.ID, false); return err },
		func() error {
			for {
				page, err := calls.Interchanges(ctx, url.Values{"direction": {"in"}, "limit": {"1"}})
				if err != nil || len(page.Items) > 0 && page.Items[0].State != "arriving" && page.Items[0].State != "received" {
					return err
				}
				time.Sleep(atATime)
			}
		},
		func() error {
			file := filepath.Join(t.TempDir(), "out.csv")
			if _, said, code := s.koinos("order", "write", "--load", fmt.Sprint(toExport.ID), "--mapping", "plain", "--to",
				file); code != 0 {
				return fmt.Errorf("the export ended with %d: %s", code, said)
			}
			b, err := os.ReadFile(file)
			exported = string(b)
			return err
		},
	} {
		go func() { ended <- work() }()
	}
	var waits []time.Duration
	for left := 4; left > 0; {
		select {
		case err := <-ended:
			if left--; err != nil {
				t.Fatal(err)
			}
		case <-time.After(atATime):
		}
		asked := time.Now()
		res, said := s.do("POST", "/api/v1/orders", fmt.Sprintf(`{"kind": "sales", "sender_number": "P-%d", "partner": "OSTRAND",
		  "ordered_on": "2026-03-02", "currency": "EUR", "lines": [{"item": "00417", "quantity": "5", "unit_price": "9.50"}]}`,
			len(waits)), "Content-Type: application/json")
		if res.StatusCode != 201 {
			t.Fatal(res.Status, said)
		}
		waits = append(waits, time.Since(asked))
	}
	took, turn, slowest := time.Since(began), s.longestTurn(), slices.Max(waits)
	t.Logf("%d posts in %s, the slowest took %s; the longest turn of the writer %s", len(waits), took, slowest, turn)
	if undone.Removed != old || loaded.Loaded != fresh || strings.Count(exported, "\n") != 3*old+1 {
		t.Errorf("taken back %d, loaded %d, exported %d rows", undone.Removed, loaded.Loaded, strings.Count(exported, "\n"))
	}
	for kind, want := range map[string]int{"": sets + old + fresh + len(waits), "PELLOW": sets,
		"OSTRAND": old + fresh + len(waits)} {
		if got := s.orderCount(kind); got != want {
			t.Errorf("%d orders of partner %q, not %d", got, kind, want)
		}
	}
	// As parts of the whole the waits hold on a busy machine too, but for single ones: nine in ten posts are answered
	// within a thirtieth of it.
	slices.Sort(waits)
	if most := waits[len(waits)*9/10]; took < 30*most {
		t.Errorf("of %s, one post in ten waited for %s and longer", took, most)
	}
}

var longest = regexp.MustCompile(`(?m)^koinos_writer_longest_seconds ([0-9.e+-]+)$`)

// longestTurn is the longest time that the one writer was kept in one step since this was asked last.
func (s *service) longestTurn() time.Duration {
	s.t.Helper()
	_, text := s.do("GET", "/metrics", "")
	m := longest.FindStringSubmatch(text)
	if m == nil {
		s.t.Fatal("no figure of the writer's longest turn in\n", text)
	}
	seconds, err := strconv.ParseFloat(m[1], 64)
	if err != nil {
		s.t.Fatal(err)
	}
	return time.Duration(seconds * float64(time.Second))
}

// orderCount counts the orders of a partner; "" is all.
func (s *service) orderCount(partner string) (n int) {
	s.t.Helper()
	for cursor := ""; ; {
		page, err := s.api().Orders(context.Background(), url.Values{"partner": {partner}, "limit": {"1000"},
			"cursor": {cursor}})
		if err != nil {
			s.t.Fatal(err)
		}
		if n += len(page.Items); page.Next == "" {
			return n
		}
		cursor = page.Next
	}
}
