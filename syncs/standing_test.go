package syncs

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"koinos/api"
	"koinos/core/finding"
	"koinos/store"
)

const shopToBooks = `koinos: sync/1
name: shop-books
about: Web orders go into the books
pull:
  - {record: slipway.order}
push:
  - record: ledgerline.sales_order
    which: partner == "SLIPWAY" and status != "draft"
`

// keeping is an office beside the bookkeeping, with its syncs at work.
type keeping struct {
	*books
	writes, reads atomic.Int32 // of the bookkeeping, but for its other side and its tokens
	item          string       // of the orders that are put into the shop
}

// keepingOf has so many orders in the shop, none of which has been read.
func keepingOf(t testing.TB, orders int, sync string) *keeping {
	t.Helper()
	k := &keeping{books: besideBooks(t, orders), item: "00101"}
	inner := k.desk.Config.Handler
	k.desk.Config.Handler = http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch {
		case strings.HasPrefix(r.URL.Path, "/admin"), strings.HasSuffix(r.URL.Path, "/token"):
		case r.Method == http.MethodGet:
			k.reads.Add(1)
		default:
			k.writes.Add(1)
		}
		inner.ServeHTTP(w, r)
	})
	k.keep(sync)
	k.work()
	return k
}

// work keeps syncs going until the test ends.
func (k *keeping) work() {
	ctx, stop := context.WithCancel(context.Background())
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		k.Run(ctx)
	}()
	before := k.stop
	k.stop = func() {
		stop()
		<-ended
		before()
	}
	k.t.Cleanup(k.stop)
}

func (k *keeping) keep(text string) {
	k.t.Helper()
	if _, err := k.KeepSync(context.Background(), text, "test"); err != nil {
		k.t.Fatal(err)
	}
}

// run runs a sync to its end.
func (k *keeping) run(name string, only ...string) api.SyncRun {
	k.t.Helper()
	ctx, stop := context.WithTimeout(context.Background(), time.Minute)
	defer stop()
	r, err := k.RunSync(ctx, name, api.NewSyncRun{Only: only}, "test")
	if err == nil {
		r, err = k.WaitRun(ctx, r.ID)
	}
	if err != nil || r.State != api.SyncDone {
		k.t.Fatalf("%+v %v", r, err)
	}
	return r
}

func counts(r *api.SyncRun) string {
	c := r.Counts
	return fmt.Sprintf("created %d changed %d right %d waiting %d held %d", c.Created, c.Changed, c.Right, c.Waiting,
		c.Held)
}

func (k *keeping) held() (all []string) {
	k.t.Helper()
	list, err := k.store.HeldList(context.Background(), store.HeldFilter{})
	if err != nil {
		k.t.Fatal(err)
	}
	slices.SortFunc(list, func(x, y api.HeldWork) int { return strings.Compare(x.Number, y.Number) })
	for _, h := range list {
		all = append(all, fmt.Sprintf("%s %s %s %s: %s", h.Kind, h.Sync, h.Number, h.Code, h.Reason))
	}
	return all
}

func TestSyncRun(t *testing.T) {
	const orders = 6
	calm := withBooks(t, orders)
	for i := range orders {
		calm.push(fmt.Sprintf("SL-%d", 1001+i))
	}
	k := keepingOf(t, orders, shopToBooks)
	r := k.run("shop-books")
	if got := counts(&r); got != "created 6 changed 0 right 0 waiting 0 held 0" || len(r.Pulls) != 1 ||
		r.Pulls[0].Loaded != 6 {
		t.Errorf("%s, %+v", got, r.Pulls)
	}
	if got, want := sortedLines(k.state()), sortedLines(calm.state()); got != want {
		t.Errorf("got\n%s\nwant\n%s", got, want)
	}
	// Nothing is new: one call to the shop, none to the books.
	k.hits.Store(0)
	k.reads.Store(0)
	k.writes.Store(0)
	r = k.run("shop-books")
	if got := counts(&r); got != "created 0 changed 0 right 0 waiting 0 held 0" || k.hits.Load() != 1 ||
		k.reads.Load() != 0 ||
		k.writes.Load() != 0 {
		t.Errorf("%s, %d calls to the shop, %d reads and %d writes in the books", got, k.hits.Load(), k.reads.Load(),
			k.writes.Load())
	}
	if r.Pulls[0].ID != 0 {
		t.Errorf("a pull that found nothing is kept: %+v", r.Pulls[0])
	}
	// Two orders change there, one of them to nothing.
	k.put(1001, "changed", "5")
	k.put(1002, "withdrawn", "1")
	r = k.run("shop-books")
	if got := counts(&r); got != "created 0 changed 2 right 0 waiting 0 held 0" {
		t.Error(got, k.held())
	}
	if got := k.state(); !strings.Contains(got, " 1:7000×5@") || strings.Count(got, " void ") != 1 {
		t.Error(got)
	}
}

// put changes an order of the shop to one line of the first item.
func (k *keeping) put(number int, state, count string) {
	k.t.Helper()
	body := fmt.Sprintf(`{"id": %d, "reference": "SL-%d", "state": %q, "placed_at": "2026-03-02T08:00:00Z",
	  "currency": "EUR", "buyer": {"name": "Otis Varne", "mail": "otis@harbour.example"},
	  "lines": [{"line": 1, "sku": %q, "title": "Rope", "count": %s, "each": "1.00"}]}`, keyOfShop(number), number, state, k.item, count)
	req, err := http.NewRequest(http.MethodPost, k.shop.URL+"/admin/orders", strings.NewReader(body))
	if err != nil {
		k.t.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer slipway-demo")
	res, err := http.DefaultClient.Do(req)
	if err != nil || res.StatusCode != http.StatusOK {
		k.t.Fatal(res, err)
	}
	res.Body.Close()
}

func keyOfShop(number int) int64 { return 9007199254740993 + int64(number-1001) }

func sortedLines(text string) string {
	lines := strings.Split(strings.TrimSpace(text), "\n")
	m := map[string]bool{}
	for _, l := range lines {
		m[l] = true
	}
	return strings.Join(sorted(m), "\n")
}

// What cannot go on is held once, stays held however often it is tried, and goes on when
// its cause is fixed; the others do not wait.
func TestSyncHeld(t *testing.T) {
	k := keepingOf(t, 3, shopToBooks)
	k.run("shop-books")
	k.ask("POST", "/admin/articles", `{"sku": "00101", "gone": true}`)
	k.put(1001, "changed", "2")
	k.put(1004, "placed", "3")
	k.put(1002, "withdrawn", "1")
	r := k.run("shop-books")
	if got := counts(&r); got != "created 0 changed 1 right 0 waiting 0 held 2" {
		t.Error(got)
	}
	want := `[push shop-books SO-000001 push_reference_missing: ledgerline has no article with the sku "00101". ` +
		`push shop-books SO-000004 push_reference_missing: ledgerline has no article with the sku "00101".]`
	if got := fmt.Sprint(k.held()); got != want {
		t.Errorf("got %s\nwant %s", got, want)
	}
	if k.run("shop-books"); fmt.Sprint(k.held()) != want {
		t.Error(k.held())
	}
	list, err := k.store.HeldList(context.Background(), store.HeldFilter{})
	if err != nil {
		t.Fatal(err)
	}
	slices.SortFunc(list, func(x, y api.HeldWork) int { return strings.Compare(x.Number, y.Number) })
	// One is put aside, the other is tried again when its cause is fixed.
	if err := k.store.PutAside(context.Background(), list[1:], "A test order."); err != nil {
		t.Fatal(err)
	}
	k.ask("POST", "/admin/articles", `{"sku": "00101", "title": "Rope"}`)
	if r = k.retry(list[:1]); counts(&r) != "created 0 changed 1 right 0 waiting 0 held 0" || r.Counts.Aside != 1 {
		t.Error(counts(&r), r.Counts.Aside, k.held())
	}
	// Its order changes: what was put aside is looked at again.
	k.put(1004, "changed", "4")
	if r = k.run("shop-books"); counts(&r) != "created 1 changed 0 right 0 waiting 0 held 0" || r.Counts.Aside != 0 {
		t.Error(counts(&r), r.Counts.Aside, k.held())
	}
	got := sortedLines(k.state())
	for _, line := range []string{`SL-1001 otis@harbour.example 2026-03-02 "" confirmed 1:7114×2@1`,
		`SL-1004 otis@harbour.example 2026-03-02 "" confirmed 1:7114×4@1`} {
		if !slices.Contains(strings.Split(got, "\n"), line) {
			t.Errorf("%s is missing in\n%s", line, got)
		}
	}
}

// retry tries what is held again, to its end.
func (k *keeping) retry(all []api.HeldWork) api.SyncRun {
	k.t.Helper()
	ctx, stop := context.WithTimeout(context.Background(), time.Minute)
	defer stop()
	runs, err := k.RetryHeld(ctx, all, "test")
	if err != nil || len(runs) != 1 {
		k.t.Fatal(runs, err)
	}
	r, err := k.WaitRun(ctx, runs[0])
	if err != nil || r.State != api.SyncDone {
		k.t.Fatalf("%+v %v", r, err)
	}
	return r
}

// A record that the source has and that is no order here waits in the same list, and
// leaves it when it comes again and is good.
func TestSyncHeldRecord(t *testing.T) {
	k := keepingOf(t, 1, shopToBooks)
	k.item = "NO-SUCH"
	k.put(1002, "placed", "1")
	r := k.run("shop-books")
	if got := counts(&r); got != "created 1 changed 0 right 0 waiting 0 held 1" {
		t.Error(got)
	}
	if got := fmt.Sprint(k.held()); got != `[order shop-books SL-1002 unknown_code: "NO-SUCH" is not in the list items.]` {
		t.Error(got)
	}
	k.item = "00101"
	k.put(1002, "changed", "1")
	if r = k.run("shop-books"); counts(&r) != "created 1 changed 0 right 0 waiting 0 held 0" || len(k.held()) != 0 {
		t.Error(counts(&r), k.held())
	}
}

// A system that is away pauses the sync: nothing is held, few calls are made, and all goes
// on when it is back.
func TestSyncAway(t *testing.T) {
	if testing.Short() {
		t.Skip("it waits for a system that is away")
	}
	k := keepingOf(t, 8, shopToBooks)
	var away atomic.Bool
	inner := k.desk.Config.Handler
	var calls atomic.Int32
	k.desk.Config.Handler = http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if away.Load() && !strings.HasPrefix(r.URL.Path, "/admin") {
			calls.Add(1)
			http.Error(w, "down", http.StatusServiceUnavailable)
			return
		}
		inner.ServeHTTP(w, r)
	})
	away.Store(true)
	ctx := context.Background()
	r, err := k.RunSync(ctx, "shop-books", api.NewSyncRun{}, "test")
	if err != nil {
		t.Fatal(err)
	}
	for range 200 {
		if r, err = k.DescribeRun(ctx, r); err != nil || len(r.Away) > 0 && r.Counts.Waiting == 8 {
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	if err != nil || fmt.Sprint(r.Away) != "[ledgerline]" || r.Counts.Held != 0 || r.Settled {
		t.Errorf("%+v %v", r, err)
	}
	if y, err := k.store.Sync(ctx, "shop-books", 0); err != nil {
		t.Error(err)
	} else if y, err = k.DescribeSync(ctx, y); err != nil || y.Pushes[0].Away == "" || y.Pulls[0].Away != "" {
		t.Errorf("%+v %v", y, err)
	}
	away.Store(false)
	before := calls.Load()
	k.run("shop-books") // it tries at once
	if got := strings.Count(k.state(), " confirmed "); got != 8 || before > 60 {
		t.Errorf("%d orders are there, after %d calls in vain", got, before)
	}
	if held := k.held(); len(held) != 0 {
		t.Error(held)
	}
}

// What becomes of an order whose record is gone there is said by the sync.
func TestSyncLost(t *testing.T) {
	for _, c := range []struct{ says, counts, held, status string }{
		{"", "created 0 changed 0 right 0 waiting 0 held 1",
			"[push shop-books SO-000001 push_lost: The record 1 (LO-1001) that " +
				"the order is linked with is not in ledgerline any more.]", "open"},
		{"    lost: create\n", "created 1 changed 0 right 0 waiting 0 held 0", "[]", "open"},
		{"    lost: cancel\n", "created 0 changed 0 right 1 waiting 0 held 0", "[]", "cancelled"},
	} {
		k := keepingOf(t, 1, shopToBooks+c.says)
		k.run("shop-books")
		k.ask("POST", "/admin/orders/1", `{"gone": true}`)
		k.put(1001, "changed", "2")
		r := k.run("shop-books")
		got, held := counts(&r), fmt.Sprint(k.held())
		if c.status == "cancelled" { // whether the same run sees that it is right there when it is cancelled here
			got = strings.Replace(got, "right 2", "right 1", 1)
		}
		if got != c.counts || held != c.held {
			t.Errorf("%q: %s\n%s", c.says, got, held)
		}
		is, err := k.store.Order(context.Background(), 1)
		if err != nil || string(is.Status) != c.status {
			t.Errorf("%q: the order is %s %v", c.says, is.Status, err)
		}
	}
}

// An order that does not fit any more is left alone, or treated as cancelled.
func TestSyncUnfit(t *testing.T) {
	for says, void := range map[string]int{"": 0, "    unfit: cancel\n": 1} {
		k := keepingOf(t, 2, strings.Replace(shopToBooks, `status != "draft"`, `buyer.name != "Otis Varne"`, 1)+says)
		k.run("shop-books")
		k.put(1001, "changed", "2") // he buys it now
		k.put(1003, "placed", "2")  // and this was never there
		r := k.run("shop-books")
		if got := k.state(); strings.Count(got, " void ") != void || strings.Contains(got, "SL-1003") ||
			strings.Contains(got, ":7000×2@") || r.Counts.Waiting+r.Counts.Held != 0 {
			t.Errorf("%q: %s %s", says, counts(&r), got)
		}
	}
}

func TestKeepSync(t *testing.T) {
	k := besideBooks(t, 1)
	for text, want := range map[string]string{
		"pull: [{record: slipway.oder}]": `3:17 The description of slipway has no record "oder"; it has customer, order, ` +
			`parcel.`,
		"pull: [{record: shop.order}]": `3:17 System shop is not kept here.`,
		"pull: [{record: slipway.customer}]": `3:17 Say mapping: neither the sync nor the description says what makes ` +
			`orders of slipway.customer.`,
		"push: [{record: slipway.order}]": `3:17 The description says nothing of how slipway.order is written (write).`,
		"push: [{record: ledgerline.article}]": `3:17 The description says nothing of how ledgerline.article is written ` +
			`(write).`,
		"push: [{record: ledgerline.customer}]": `3:17 Say mapping: neither the sync nor the description says what writes ` +
			`an order as ledgerline.customer.`,
		"push: [{record: ledgerline.sales_order, of: shipment}]": `3:17 The mapping ledgerline-orders is one of orders, but ` +
			`ledgerline.sales_order is to be written of each shipment (of).`,
		"push: [{record: ledgerline.sales_order, mapping: none}]": `3:17 Mapping none is not kept here.`,
	} {
		_, err := k.KeepSync(context.Background(), "koinos: sync/1\nname: s\n"+text+"\n", "test")
		var got []string
		for _, f := range finding.Of(err) {
			got = append(got, fmt.Sprintf("%d:%d %s", f.Place.Row, f.Place.Column, f.Message))
		}
		if strings.Join(got, "; ") != want {
			t.Errorf("%s\n got %v %v\nwant %s", text, got, err, want)
		}
	}
}

// eventually waits until something is so.
func (k *keeping) eventually(what string, is func() bool) {
	k.t.Helper()
	for range 400 {
		if is() {
			return
		}
		time.Sleep(50 * time.Millisecond)
	}
	k.t.Fatal("never:", what)
}
