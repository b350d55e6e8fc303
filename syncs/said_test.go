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
	"strings"
	"sync"
	"testing"

	"koinos/api"
	"koinos/core/order"
	"koinos/demo"
	"koinos/remote"
	"koinos/store"
)

const alarm = `koinos: system/1
name: alarm
address: "{env: ALARM_URL}"
auth: {signed: {env: ALARM_SECRET}}
limits: {rate: 1000, burst: 10}
records:
  note:
    key: $.order
    write: {mapping: alarm-notes, idempotency: webhook-id, create: {path: /hooks}, warnings: "$.warnings[*]"}
`

const alarmNotes = `koinos: mapping/1
name: alarm-notes
document: {format: ndjson}
orders:
  kind: sales
  group: {by: path, path: "$"}
  parts:
    lines: {each: "$.lines[*]"}
header:
  sender_number: {from: $.order}
  partner: {value: SLIPWAY}
  notes: {from: $.text}
lines:
  item: {from: $.item}
  quantity: {from: $.quantity}
`

// A notice is told once for each thing that it says, signed, with the same id at every
// attempt; what the other side warns of is kept.
func TestNotices(t *testing.T) {
	var mu sync.Mutex
	told := map[string]int{} // by id
	var texts []string
	lose := 1
	secret := []byte("a secret of twenty-four.")
	bell := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		id, stamp := r.Header.Get("webhook-id"), r.Header.Get("webhook-timestamp")
		if r.Header.Get("webhook-signature") != "v1,"+remote.Sign(secret, id, stamp, body) {
			t.Errorf("the signature %q is wrong", r.Header.Get("webhook-signature"))
		}
		var m struct{ Order, Text string }
		if err := json.Unmarshal(body, &m); err != nil {
			t.Error(err)
		}
		mu.Lock()
		defer mu.Unlock()
		if told[id]++; told[id] == 1 {
			texts = append(texts, m.Order+" "+m.Text)
		}
		if lose > 0 {
			lose--
			panic(http.ErrAbortHandler)
		}
		w.Header().Set("Content-Type", "application/json")
		fmt.Fprint(w, `{"warnings": ["The bell is old."]}`)
	}))
	defer bell.Close()
	t.Setenv("ALARM_URL", bell.URL)
	t.Setenv("ALARM_SECRET", "whsec_"+base64.StdEncoding.EncodeToString(secret))
	k := keepingOf(t, 2, shopToBooks)
	ctx := context.Background()
	if _, err := k.store.PutMapping(ctx, api.Mapping{Name: "alarm-notes", Text: alarmNotes}); err != nil {
		t.Fatal(err)
	}
	if _, err := k.Keep(ctx, alarm, "test"); err != nil {
		t.Fatal(err)
	}
	k.keep("koinos: sync/1\nname: bell\npush: [{record: alarm.note, which: sender_number == \"SL-1001\"}]\n")
	k.pull(api.NewPull{})
	for range 2 {
		k.run("bell")
	}
	k.change(1, func(o *order.Order) { o.Notes = "Hurry." })
	for range 2 {
		k.run("bell")
	}
	if got := strings.Join(texts, ", "); got != "SL-1001 , SL-1001 Hurry." || len(told) != 2 {
		t.Errorf("told %q, %v", got, told)
	}
	all, err := k.store.PushedList(ctx, store.PushedFilter{Sync: "bell", Limit: 10})
	if err != nil || len(all) != 2 || fmt.Sprint(all[0].Steps[0].Warnings) != "[The bell is old.]" {
		t.Errorf("%+v %v", all, err)
	}
}

// A reconcile comes by itself, and makes right what differs where the sync says so.
func TestReconcileBySelf(t *testing.T) {
	if testing.Short() {
		t.Skip("it mostly waits")
	}
	k := keepingOf(t, 1, shopToBooks)
	k.run("shop-books")
	k.ask("POST", "/admin/orders/1", `{"note": "by hand"}`)
	k.keep(shopToBooks + "reconcile: {every: 1s, repair: true}\n")
	k.eventually("the note is made right", func() bool { return !strings.Contains(k.state(), "by hand") })
	if list, err := k.store.Checks(context.Background(), "shop-books", 0, 10); err != nil || len(list) == 0 ||
		list[0].Kind != api.CheckReconcile || list[0].By != "sync shop-books" {
		t.Errorf("%+v %v", list, err)
	}
}

// What two syncs read has to be read in one way.
func TestReadInOneWay(t *testing.T) {
	k := besideBooks(t, 1)
	text := strings.Replace(alarmNotes, "name: alarm-notes", "name: other", 1)
	if _, err := k.store.PutMapping(context.Background(), api.Mapping{Name: "other", Text: text}); err != nil {
		t.Fatal(err)
	}
	if _, err := k.KeepSync(context.Background(), "koinos: sync/1\nname: one\npull: [{record: slipway.order}]\n",
		"test"); err != nil {
		t.Fatal(err)
	}
	_, err := k.KeepSync(context.Background(),
		"koinos: sync/1\nname: two\npull: [{record: slipway.order, mapping: other}]\n", "test")
	if err == nil || !strings.Contains(err.Error(),
		"The sync one reads slipway.order already, through the mapping slipway-orders; a record is read in one way.") {
		t.Error(err)
	}
}

// Cost follows change: ten orders that change are ten writes, and the others cost nothing.
func TestCostFollowsChange(t *testing.T) {
	const orders = 15
	k := keepingOf(t, orders, shopToBooks)
	k.run("shop-books")
	k.writes.Store(0)
	k.reads.Store(0)
	for id := range int64(10) {
		k.change(id+1, func(o *order.Order) { o.Notes = "changed" })
	}
	if r := k.run("shop-books"); counts(&r) != "created 0 changed 10 right 0 waiting 0 held 0" ||
		k.writes.Load() != 10 ||
		k.reads.Load() > 10*4 {
		t.Errorf("%s, %d writes, %d reads", counts(&r), k.writes.Load(), k.reads.Load())
	}
}

// sentWithin reads the shipments within an order's record.
const sentWithin = `koinos: mapping/1
name: sent
document: {format: ndjson}
orders:
  kind: shipment
  of: sales
  group: {by: path, path: "$.sent[*]"}
  parts:
    lines: {each: "$.lines[*]"}
header:
  shipment: {from: $.number, need: must}
  sender_number: {from: $.reference, of: document}
  partner: {value: SLIPWAY}
lines:
  sender_line: {from: $.line}
  quantity: {from: $.count}
`

// A record that says more than an order goes through a further mapping: the shipments
// within it.
func TestAlso(t *testing.T) {
	shop := `{"orders": [{"id": 1, "reference": "A-1", "state": "placed", "placed_at": "2026-03-02T08:00:00Z",
	  "changed_at": "2026-03-02T08:00:00Z", "currency": "EUR", "line_count": 1, "buyer": {"name": "Otis", "mail": "o@harbour.example"},
	  "lines": [{"line": 1, "sku": "00101", "title": "Rope", "count": 5, "each": "1.00"}],
	  "sent": [{"number": "P-1", "lines": [{"line": 1, "count": 2}]}, {"number": "P-2", "lines": [{"line": 1, "count": 3}]}]},
	  {"id": 2, "reference": "A-2", "state": "placed", "placed_at": "2026-03-02T08:00:00Z", "changed_at": "2026-03-02T09:00:00Z",
	  "currency": "EUR", "line_count": 1, "buyer": {"name": "Otis", "mail": "o@harbour.example"},
	  "lines": [{"line": 1, "sku": "00101", "title": "Rope", "count": 1, "each": "1.00"}], "sent": []}]}`
	o := begin(t, http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		fmt.Fprint(w, shop)
	}))
	if _, err := o.store.PutMapping(context.Background(), api.Mapping{Name: "sent", Text: sentWithin}); err != nil {
		t.Fatal(err)
	}
	if p := o.pull(api.NewPull{Also: []string{"sent"}}); p.State != api.PullDone || p.Loaded != 2 || p.Changed != 2 ||
		p.Failed != 0 {
		t.Fatal(figures(&p), p.Reason)
	}
	is, err := o.store.Order(context.Background(), 1)
	if err != nil || is.Status != order.Complete || len(is.Movements) != 2 {
		t.Errorf("%s %+v %v", is.Status, is.Movements, err)
	}
	shop = strings.Replace(shop, `"title": "Rope", "count": 5`, `"title": "Braided rope", "count": 5`, 1)
	shop = strings.Replace(shop, "2026-03-02T08:00:00Z\", \"currency\"", "2026-03-02T10:00:00Z\", \"currency\"", 1)
	if p := o.pull(api.NewPull{Also: []string{"sent"}, All: true}); p.State != api.PullDone || p.Failed != 0 {
		t.Fatal(figures(&p), p.Reason)
	}
	if is, err := o.store.Order(context.Background(), 1); err != nil || len(is.Movements) != 2 ||
		is.Lines[0].Description != "Braided rope" {
		t.Errorf("%+v %v", is.Movements, err)
	}
}

// What a system gave an order can be written elsewhere and asked in conditions, and a record
// finds its order by the link alone.
func TestWhatSystemsGave(t *testing.T) {
	k, _, folder := besideYard(t, 2)
	ctx := context.Background()
	text, err := demo.Files.ReadFile("mappings/east-yard-picks.yaml")
	if err == nil {
		_, err = k.store.PutMapping(ctx, api.Mapping{Name: "east-yard-picks", Text: strings.Replace(string(text),
			"header:\n", "header:\n  reference.ledgerline.sales_order: {from: $.book}\n", 1)})
	}
	if err == nil {
		_, err = k.store.PutMapping(ctx, api.Mapping{Name: "book-notes", Text: `koinos: mapping/1
name: book-notes
document: {format: ndjson}
orders: {kind: change, of: sales, group: {by: path, path: "$"}, parts: {lines: {each: "$.lines[*]"}}}
header:
  number: {from: $.koinos.number, need: must}
  partner: {from: $.koinos.partner}
  notes: {from: $.note}
lines:
  sender_line: {from: $.our_line}
`})
	}
	if err != nil {
		t.Fatal(err)
	}
	system, err := demo.Files.ReadFile("systems/east-yard.yaml")
	if err == nil {
		_, err = k.Keep(ctx, strings.Replace(string(system), "{$.to}", "{$.book}", 1), "test")
	}
	if err != nil {
		t.Fatal(err)
	}
	k.run("shop-books")
	k.keep(`koinos: sync/1
name: picks
pull: [{record: ledgerline.sales_order, mapping: book-notes}]
push: [{record: east-yard.pick, which: 'reference["ledgerline.sales_order"] endsWith "1"'}]
`)
	k.run("picks")
	k.run("picks")
	files, err := filepath.Glob(filepath.Join(folder, "to-yard", "PCK-*.txt"))
	if err != nil || len(files) != 1 {
		t.Fatal(files, err, k.held())
	}
	if b, err := os.ReadFile(files[0]); err != nil || !strings.Contains(string(b), "+LO-1001'") {
		t.Errorf("%s %v", b, err)
	}
	k.ask("POST", "/admin/orders/1", `{"note": "from the books"}`)
	k.run("picks")
	found := false
	for id := range int64(2) {
		found = found || strings.Contains(k.says(id+1), `"from the books"`)
	}
	if !found {
		t.Error(k.says(1), k.says(2), k.held())
	}
}

// What is refused of the shipments within an order's record is held, and goes once the record
// comes again with what was fixed.
func TestAlsoHeld(t *testing.T) {
	shop := `{"orders": [{"id": 1, "reference": "A-1", "state": "placed", "placed_at": "2026-03-02T08:00:00Z",
	  "changed_at": "2026-03-02T08:00:00Z", "currency": "EUR", "line_count": 1, "buyer": {"name": "Otis", "mail": "o@harbour.example"},
	  "lines": [{"line": 1, "sku": "00101", "title": "Rope", "count": 5, "each": "1.00"}],
	  "sent": [{"number": "P-1", "lines": [{"line": 9, "count": 2}]}]}]}`
	o := begin(t, http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		fmt.Fprint(w, shop)
	}))
	if _, err := o.store.PutMapping(context.Background(), api.Mapping{Name: "sent", Text: sentWithin}); err != nil {
		t.Fatal(err)
	}
	held := func() int {
		t.Helper()
		list, err := o.store.HeldList(context.Background(), store.HeldFilter{})
		if err != nil {
			t.Fatal(err)
		}
		return len(list)
	}
	if p := o.pull(api.NewPull{Also: []string{"sent"}}); p.Failed != 1 || held() != 1 {
		t.Errorf("%s, %d held", figures(&p), held())
	}
	shop = strings.NewReplacer(`"line": 9`, `"line": 1`, `08:00:00Z", "currency"`,
		`10:00:00Z", "currency"`).Replace(shop)
	if p := o.pull(api.NewPull{Also: []string{"sent"}}); p.Failed != 0 || held() != 0 {
		t.Errorf("%s, %d held", figures(&p), held())
	}
}

// Records of which none has a shipment yet are read all the same, whether shipments are read
// besides or alone.
func TestNoneSent(t *testing.T) {
	for sent, n := range map[string]api.NewPull{"": {Also: []string{"sent"}}, `, "sent": []`: {Also: []string{"sent"}},
		`, "sent": null`: {Mapping: "sent"}} {
		o := begin(t, http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", "application/json")
			fmt.Fprintf(w, `{"orders": [{"id": 1, "reference": "A-1", "state": "placed", "placed_at": "2026-03-02T08:00:00Z",
			  "changed_at": "2026-03-02T08:00:00Z", "currency": "EUR", "line_count": 1, "buyer": {"name": "Otis", "mail": "o@harbour.example"},
			  "lines": [{"line": 1, "sku": "00101", "title": "Rope", "count": 5, "each": "1.00"}]%s}]}`, sent)
		}))
		if _, err := o.store.PutMapping(context.Background(), api.Mapping{Name: "sent", Text: sentWithin}); err != nil {
			t.Fatal(err)
		}
		n.Record = "order"
		if tried, err := o.DryRun(context.Background(), "slipway", n, "test"); err != nil || len(tried.Reasons) != 0 {
			t.Errorf("%s: %+v %v", sent, tried.Reasons, err)
		}
		if p := o.pull(n); p.State != api.PullDone || p.Failed != 0 || (p.Loaded == 1) != (n.Mapping == "") {
			t.Errorf("%s: %s %s", sent, figures(&p), p.Reason)
		}
	}
}
