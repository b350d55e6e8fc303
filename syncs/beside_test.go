package syncs

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"koinos/api"
	"koinos/core/intent"
	"koinos/core/order"
	"koinos/core/outcome"
	"koinos/demo"
	"koinos/load"
)

// A run ends when its own work is done, whatever an earlier one of another sync waits for.
func TestRunsEndAlone(t *testing.T) {
	k := keepingOf(t, 1, shopToBooks)
	inner := k.desk.Config.Handler
	var away atomic.Bool
	away.Store(true)
	k.desk.Config.Handler = http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if away.Load() {
			http.Error(w, "down", http.StatusServiceUnavailable)
			return
		}
		inner.ServeHTTP(w, r)
	})
	waits, err := k.RunSync(context.Background(), "shop-books", api.NewSyncRun{}, "test")
	if err != nil {
		t.Fatal(err)
	}
	k.keep("koinos: sync/1\nname: reads\npull: [{record: slipway.order}]\n")
	k.run("reads")
	if r, err := k.store.SyncRun(context.Background(), waits.ID); err != nil || r.State != api.SyncRunning {
		t.Errorf("%+v %v", r, err)
	}
	away.Store(false)
}

// bell is a system that is told things, and takes what has the same id for the same.
type bell struct {
	mu    sync.Mutex
	texts []string
	ids   map[string]bool
}

// ring has a bell, whose mapping is written so, beside an office.
func ring(t *testing.T, k *keeping, mapping string) *bell {
	t.Helper()
	b := &bell{ids: map[string]bool{}}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, err := io.ReadAll(r.Body)
		if err != nil {
			t.Error(err)
		}
		b.mu.Lock()
		defer b.mu.Unlock()
		if id := r.Header.Get("webhook-id"); !b.ids[id] {
			b.ids[id] = true
			b.texts = append(b.texts, string(body))
		}
		w.Header().Set("Content-Type", "application/json")
		fmt.Fprint(w, `{}`)
	}))
	t.Cleanup(server.Close)
	t.Setenv("ALARM_URL", server.URL)
	t.Setenv("ALARM_SECRET", "whsec_"+base64.StdEncoding.EncodeToString([]byte("a secret of twenty-four.")))
	_, err := k.store.PutMapping(context.Background(), api.Mapping{Name: "alarm-notes", Text: mapping})
	if err == nil {
		_, err = k.Keep(context.Background(), alarm, "test")
	}
	if err != nil {
		t.Fatal(err)
	}
	return b
}

// What is said, said otherwise and said again was said three times.
func TestSaidAgain(t *testing.T) {
	k := keepingOf(t, 1, shopToBooks)
	b := ring(t, k, alarmNotes)
	k.keep("koinos: sync/1\nname: bell\npush: [{record: alarm.note}]\n")
	k.pull(api.NewPull{})
	k.run("bell")
	for _, note := range []string{"Hurry.", "Wait.", "Hurry."} {
		k.change(1, func(o *order.Order) { o.Notes = note })
		k.run("bell")
	}
	var said []string
	for _, text := range b.texts {
		var told struct{ Text string }
		if err := json.Unmarshal([]byte(text), &told); err != nil {
			t.Fatal(text, err)
		}
		said = append(said, told.Text)
	}
	if got := strings.Join(said[1:], " "); got != "Hurry. Wait. Hurry." {
		t.Errorf("told %s", got)
	}
}

// Two shipments that read the same are two.
func TestAlikeShipments(t *testing.T) {
	shop := `{"orders": [{"id": 1, "reference": "A-1", "state": "placed", "placed_at": "2026-03-02T08:00:00Z",
	  "changed_at": "2026-03-02T08:00:00Z", "currency": "EUR", "line_count": 1, "buyer": {"name": "Otis", "mail": "o@harbour.example"},
	  "lines": [{"line": 1, "sku": "00101", "title": "Rope", "count": 4, "each": "1.00"}],
	  "sent": [{"number": "P-1", "lines": [{"line": 1, "count": 2}]}, {"number": "P-2", "lines": [{"line": 1, "count": 2}]}]}]}`
	k := &keeping{books: &books{office: begin(t, http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		fmt.Fprint(w, shop)
	}))}}
	if _, err := k.store.PutMapping(context.Background(), api.Mapping{Name: "sent", Text: sentWithin}); err != nil {
		t.Fatal(err)
	}
	b := ring(t, k, strings.NewReplacer("kind: sales", "kind: shipment\n  of: sales", "  notes: {from: $.text}\n",
		"  shipment: {from: $.text, expr: value, write: \"cut(value, 1, 1)\"}\n",
		"  item: {from: $.item}\n", "  sender_line: {from: $.line}\n").Replace(alarmNotes))
	k.work()
	k.pull(api.NewPull{Also: []string{"sent"}})
	k.keep("koinos: sync/1\nname: bell\npush: [{record: alarm.note, of: shipment}]\n")
	for range 2 {
		k.run("bell")
	}
	if want := `{"order":"A-1","text":"P","lines":[{"line":"1","quantity":2}]}`; fmt.Sprint(b.texts) != "["+want+" "+
		want+"]" {
		t.Errorf("told %v, held %v", b.texts, k.held())
	}
	// One that takes a shipment back is no shipment of less than nothing: where the mapping cannot say it, it waits.
	p, err := k.engine.Tell(context.Background(), load.Telling{Kind: intent.Shipment, Order: 1, By: "test"},
		&api.Notice{Header: map[string]string{"shipment": "P-3", "reverses": "P-2"}})
	if err != nil || p.Outcome != outcome.Changed {
		t.Fatal(p, err)
	}
	k.run("bell")
	if held := fmt.Sprint(k.held()); len(b.texts) != 2 ||
		!strings.Contains(held, "The shipment P-3 takes back P-2, and the mapping ") {
		t.Errorf("told %v, held %s", b.texts, held)
	}
}

// An answer to none of our files is put away, and keeps no other one waiting.
func TestAnswersPutAway(t *testing.T) {
	k, yard, folder := besideYard(t, 1)
	k.run("shop-books")
	k.run("yard")
	from := filepath.Join(folder, "from-yard")
	if err := os.MkdirAll(from, 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(from, "PAK-0000.txt"), []byte("PAK+FFFFFFFFFFFF+ER+no'"), 0o644); err != nil {
		t.Fatal(err)
	}
	large := filepath.Join(from, "PAK-0001.txt")
	if err := os.WriteFile(large, nil, 0o644); err != nil {
		t.Fatal(err)
	}
	if err := os.Truncate(large, 1<<30); err != nil {
		t.Fatal(err)
	}
	if err := yard.Work(); err != nil {
		t.Fatal(err)
	}
	names := func(dir string) (all []string) {
		files, err := filepath.Glob(filepath.Join(from, dir, "PAK-*.txt"))
		if err != nil {
			t.Fatal(err)
		}
		for _, f := range files {
			all = append(all, filepath.Base(f))
		}
		return all
	}
	k.run("yard") // a run looks for answers, however lately somebody else did
	if left := names("."); len(left) != 0 {
		t.Errorf("%v are left", left)
	}
	if got, taken := names("refused"), names("taken"); fmt.Sprint(got) != "[PAK-0000.txt PAK-0001.txt]" ||
		len(taken) != 1 {
		t.Errorf("refused %v, taken %v", got, taken)
	}
	links, err := k.store.Links(context.Background(), 1)
	if err != nil || !slices.ContainsFunc(links, func(l api.Link) bool {
		return strings.Contains(l.Found, `"taken":true`)
	}) {
		t.Errorf("%+v %v", links, err)
	}
	if held := k.held(); len(held) != 0 {
		t.Error(held)
	}
}

// What cannot be compared overwrites nothing that somebody changed here: it waits for a
// person, and comes in when that has fixed it.
func TestUncompared(t *testing.T) {
	k := bothOf(t, 1, "")
	text, err := demo.Files.ReadFile("mappings/ledgerline-orders.yaml")
	if err == nil {
		_, err = k.store.PutMapping(context.Background(), api.Mapping{Name: "ledgerline-orders",
			Text: replaced(t, string(text),
				"quantity:    {from: $.qty, need: must}",
				`quantity: {from: $.qty, need: must, expr: value, write: "num(value) / (num(value) == 3 ? 0 : 1)"}`)})
	}
	if err != nil {
		t.Fatal(err)
	}
	k.change(1, func(o *order.Order) { o.Lines[0].Quantity = order.NumberOf(3) })
	k.ask("POST", "/admin/orders/"+k.keysInBooks()["SL-1001"], `{"note": "theirs"}`)
	k.run("shop-books")
	held := k.held()
	if len(held) != 1 || !strings.Contains(held[0], "Quantity of line 1 cannot be written through ledgerline-orders") {
		t.Errorf("%v", held)
	}
	if got := k.says(1); !strings.Contains(got, `"" 1:3 2:6`) {
		t.Errorf("something was overwritten: %s", got)
	}
	k.change(1, func(o *order.Order) { o.Lines[0].Quantity = order.NumberOf(4) })
	k.run("shop-books")
	k.run("shop-books")
	if got, there := k.says(1), k.there("SL-1001"); !strings.Contains(got, `"theirs" 1:4 2:6`) ||
		!strings.Contains(there, `"theirs"`) || !strings.Contains(there, "1:7100×4@") || len(k.held()) != 0 {
		t.Errorf("here %s, there %s, held %v", got, there, k.held())
	}
}

// What other systems gave an order is part of what is compared.
func TestBothWaysReferences(t *testing.T) {
	k, _, _ := besideYard(t, 1)
	ctx := context.Background()
	text, err := demo.Files.ReadFile("mappings/ledgerline-orders.yaml")
	if err != nil {
		t.Fatal(err)
	}
	for name, header := range map[string]string{"ledgerline-both": "  notes:  ",
		"ledgerline-orders": "  reference.east-yard.pick:  "} {
		m := strings.Replace(string(text), "name: ledgerline-orders", "name: "+name, 1)
		m = replaced(t, m, "  notes:         {from: $.note, expr: value, write: \"cut(value, 1, 200)\"}",
			header+"{from: $.note}")
		if _, err := k.store.PutMapping(ctx, api.Mapping{Name: name, Text: m}); err != nil {
			t.Fatal(err)
		}
	}
	k.run("shop-books")
	k.run("yard")
	k.change(1, func(o *order.Order) { o.Lines[0].Quantity = order.NumberOf(5) })
	k.keep(bothWays)
	k.run("shop-books")
	k.run("shop-books")
	if there := k.there("SL-1001"); !strings.Contains(there, `"PCK-`) {
		t.Fatal(there, k.held())
	}
	k.ask("POST", "/admin/orders/1", `{"note": "theirs"}`)
	k.run("shop-books")
	k.run("shop-books")
	if got := k.says(1); !strings.Contains(got, `"theirs"`) || len(k.held()) != 0 {
		t.Errorf("here %s, held %v", got, k.held())
	}
	k.writes.Store(0)
	k.reads.Store(0)
	k.run("shop-books")
	if k.writes.Load() != 0 || k.reads.Load() > 1 {
		t.Errorf("%d writes, %d reads", k.writes.Load(), k.reads.Load())
	}
}

// A record that was asked for before it was written is read once more: what it said before
// is no change of the other side, and what that changes meanwhile is not lost.
func TestReadBeforeWritten(t *testing.T) {
	k := bothOf(t, 1, "")
	key := k.keysInBooks()["SL-1001"]
	k.ask("POST", "/admin/orders/"+key, `{"note": "first"}`)
	inner := k.desk.Config.Handler
	var armed atomic.Bool
	armed.Store(true)
	k.desk.Config.Handler = http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method != http.MethodGet || !strings.HasSuffix(r.URL.Path, "/sales-orders/"+key) {
			inner.ServeHTTP(w, r)
			return
		}
		answer := httptest.NewRecorder()
		inner.ServeHTTP(answer, r)
		if armed.Swap(false) { // it is on its way while the order changes here, is written, and changes there
			k.change(1, func(o *order.Order) { o.Lines[0].Quantity = order.NumberOf(1) })
			k.push("SL-1001")
			k.ask("POST", "/admin/orders/"+key, `{"note": "second"}`)
		}
		for name, values := range answer.Header() {
			w.Header()[name] = values
		}
		w.WriteHeader(answer.Code)
		w.Write(answer.Body.Bytes())
	})
	k.run("shop-books")
	if got, there := k.says(1), k.there("SL-1001"); !strings.Contains(got, `"second" 1:1 2:6`) ||
		!strings.Contains(there, "1:7100×1@") || !strings.Contains(there, `"second"`) || len(k.held()) != 0 {
		t.Errorf("here %s, there %s, held %v", got, there, k.held())
	}
}

// Whoever asks after a sync was kept gets it, also when somebody else is reading all of them.
func TestStandingsAreNewest(t *testing.T) {
	k := besideBooks(t, 1)
	ctx, stop := context.WithTimeout(context.Background(), time.Minute)
	defer stop()
	var readers sync.WaitGroup
	for range 2 {
		readers.Go(func() {
			for ctx.Err() == nil {
				if _, err := k.standings(ctx); err != nil && ctx.Err() == nil {
					t.Error(err)
				}
			}
		})
	}
	for n := range 300 {
		text := fmt.Sprintf("koinos: sync/1\nname: s\nabout: version %d\npull: [{record: slipway.order}]\n", n)
		if _, err := k.KeepSync(ctx, text, "test"); err != nil {
			t.Fatal(err)
		}
		all, err := k.standings(ctx)
		if err != nil || all["s"].version != n+1 {
			t.Fatalf("version %d after %d was kept: %v", all["s"].version, n+1, err)
		}
	}
	stop()
	readers.Wait()
}

// A file that nobody answers in time is shown, one by one, until the answer comes.
func TestUnanswered(t *testing.T) {
	k, yard, _ := besideYard(t, 3)
	ctx := context.Background()
	text, err := demo.Files.ReadFile("systems/east-yard.yaml")
	if err == nil {
		_, err = k.Keep(ctx, replaced(t, string(text), "taken: [OK], why", "taken: [OK], within: 500ms, why"), "test")
	}
	if err != nil {
		t.Fatal(err)
	}
	k.run("shop-books")
	k.run("yard")
	shown := func() string {
		t.Helper()
		kept, err := k.store.Sync(ctx, "yard", 0)
		if err == nil {
			kept, err = k.DescribeSync(ctx, kept)
		}
		if err != nil {
			t.Fatal(err)
		}
		var names []string
		for behind := int64(0); ; behind++ {
			page, err := k.Unanswered(ctx, "yard", behind, 1)
			if err != nil {
				t.Fatal(err)
			}
			if len(page) == 0 {
				slices.Sort(names) // they were written side by side
				return fmt.Sprintf("%d: %s", kept.State.Unanswered, strings.Join(names, " "))
			}
			names = append(names, page[0].Order)
		}
	}
	k.eventually("all three are shown", func() bool { return shown() == "3: SO-000001 SO-000002 SO-000003" })
	if err := yard.Work(); err != nil {
		t.Fatal(err)
	}
	k.run("yard")
	if got := shown(); got != "0: " {
		t.Error(got)
	}
}

// An order of which a part has left and that nobody wants any more is cancelled there, too; if
// that is refused it is held once, and what the system says about it. Where the system has no call
// for that, its line is lowered to what has left, and no further.
func TestCancelledInPart(t *testing.T) {
	for _, c := range []struct{ refuses, lowers bool }{{}, {refuses: true}, {lowers: true}} {
		shop := `{"orders": [{"id": 1, "reference": "A-1", "state": "placed", "placed_at": "2026-03-02T08:00:00Z",
		  "changed_at": "2026-03-02T08:00:00Z", "currency": "EUR", "line_count": 1, "buyer": {"name": "Otis", "mail": "o@harbour.example"},
		  "lines": [{"line": 1, "sku": "00101", "title": "Rope", "count": 5, "each": "1.00"}],
		  "sent": [{"number": "P-1", "lines": [{"line": 1, "count": 2}]}]}]}`
		var mu sync.Mutex
		k := &keeping{books: booksBeside(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			mu.Lock()
			defer mu.Unlock()
			w.Header().Set("Content-Type", "application/json")
			fmt.Fprint(w, shop)
		}))}
		inner := k.desk.Config.Handler
		voids := 0
		k.desk.Config.Handler = http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if strings.HasSuffix(r.URL.Path, "/void") {
				if voids++; c.refuses {
					w.Header().Set("Content-Type", "application/problem+json")
					w.WriteHeader(http.StatusUnprocessableEntity)
					fmt.Fprint(w, `{"title": "2 of line 1 have left."}`)
					return
				}
			}
			inner.ServeHTTP(w, r)
		})
		if _, err := k.store.PutMapping(context.Background(), api.Mapping{Name: "sent", Text: sentWithin}); err != nil {
			t.Fatal(err)
		}
		if c.lowers {
			text, err := demo.Files.ReadFile("systems/ledgerline.yaml")
			if err == nil {
				_, err = k.Keep(context.Background(), strings.Replace(string(text), "        - {act: void,",
					"        #", 1), "test")
			}
			if err != nil {
				t.Fatal(err)
			}
		}
		k.work()
		k.keep(strings.Replace(shopToBooks, "slipway.order}", "slipway.order, also: sent}", 1))
		k.run("shop-books")
		if there := k.there("A-1"); !strings.Contains(there, "confirmed 1:7000×5@") {
			t.Fatal(there, k.held())
		}
		mu.Lock()
		shop = strings.NewReplacer(`"placed",`, `"withdrawn",`, `08:00:00Z", "currency"`,
			`10:00:00Z", "currency"`).Replace(shop)
		mu.Unlock()
		for range 2 {
			k.run("shop-books")
		}
		there, held := k.there("A-1"), k.held()
		switch {
		case c.lowers:
			if voids != 0 || len(held) > 0 || !strings.Contains(there, " confirmed 1:7000×2@") {
				t.Errorf("%s, held %v, %d times voided", there, held, voids)
			}
		case voids != 1:
			t.Errorf("%d times voided", voids)
		case !c.refuses && (len(held) > 0 || !strings.Contains(there, " void 1:7000×5@")):
			t.Errorf("%s, held %v", there, held)
		case c.refuses && (len(held) != 1 || !strings.HasSuffix(held[0],
			"ledgerline refuses this (422): 2 of line 1 have left.") ||
			!strings.Contains(there, " confirmed 1:7000×5@")):
			t.Errorf("%s, held %v", there, held)
		}
	}
}

// A record that is read while it is made, before its lines are there and before it is known whose
// it is, is held as it came, and no longer once it is what its order says.
func TestReadWhileMade(t *testing.T) {
	k := bothOf(t, 1, "")
	ctx := context.Background()
	key := k.keysInBooks()["SL-1001"]
	for _, line := range k.linesInBooks("SL-1001") {
		k.ask("POST", "/admin/orders/"+key, fmt.Sprintf(`{"drop_line": %s}`, line))
	}
	links, err := k.store.Links(ctx, 1)
	if err == nil {
		err = k.store.DropLink(ctx, &links[0])
	}
	if err != nil || len(links) != 1 {
		t.Fatal(links, err)
	}
	k.run("shop-books", "ledgerline.sales_order")
	if held := k.held(); len(held) != 1 || !strings.Contains(held[0], "order_without_lines") {
		t.Fatalf("%v", held)
	}
	k.change(1, func(o *order.Order) { o.Lines[0].Quantity = order.NumberOf(9) })
	for range 2 {
		k.run("shop-books")
	}
	if there := k.there("SL-1001"); len(k.held()) != 0 || !strings.Contains(there, "1:7100×9@") ||
		!strings.Contains(there, " 2:7066×6@") {
		t.Errorf("%s, held %v", there, k.held())
	}
}
