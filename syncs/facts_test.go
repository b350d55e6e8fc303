package syncs

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"koinos/api"
	"koinos/core/order"
	"koinos/core/outcome"
)

// stall is a market stall: its orders do not say what was paid, their stamps do not change
// when somebody pays, and it counts what it is asked.
type stall struct {
	mu      sync.Mutex
	orders  map[string]*stallOrder
	paid    []stallPayment
	parcels []stallParcel
	asked   []string
}

type stallParcel struct {
	ID    int         `json:"id"`
	Order string      `json:"order"`
	Lines []stallGood `json:"lines"`
}

type stallOrder struct {
	Code    string         `json:"code"`
	Channel string         `json:"channel"`
	Money   string         `json:"money"`
	Changed string         `json:"changed"`
	Goods   []stallGood    `json:"goods"`
	Remarks map[string]any `json:"remarks,omitempty"`
}

type stallGood struct {
	Pos string `json:"pos"`
	SKU string `json:"sku"`
	Qty int    `json:"qty"`
}

type stallPayment struct {
	ID    int    `json:"id"`
	Order string `json:"order,omitempty"`
	Cents int    `json:"cents"`
	At    string `json:"at"`
}

func (s *stall) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.asked = append(s.asked, r.URL.Path)
	w.Header().Set("Content-Type", "application/json")
	since := r.URL.Query().Get("since")
	switch {
	case r.URL.Path == "/orders":
		var all []*stallOrder
		for _, o := range s.orders {
			if o.Changed >= since && (r.URL.Query().Get("channel") == "" || o.Channel == r.URL.Query().Get("channel")) {
				all = append(all, o)
			}
		}
		slices.SortFunc(all, func(x, y *stallOrder) int { return strings.Compare(x.Changed+x.Code, y.Changed+y.Code) })
		json.NewEncoder(w).Encode(map[string]any{"orders": all})
	case r.URL.Path == "/payments":
		all := []stallPayment{}
		for _, p := range s.paid {
			if p.At >= since && (r.URL.Query().Get("order") == "" || p.Order == r.URL.Query().Get("order")) {
				all = append(all, p)
			}
		}
		json.NewEncoder(w).Encode(map[string]any{"payments": all})
	case r.URL.Path == "/parcels":
		json.NewEncoder(w).Encode(map[string]any{"parcels": append([]stallParcel{}, s.parcels...)})
	case s.orders[strings.TrimPrefix(r.URL.Path, "/orders/")] != nil:
		json.NewEncoder(w).Encode(s.orders[strings.TrimPrefix(r.URL.Path, "/orders/")])
	default:
		http.Error(w, `{"message": "none"}`, http.StatusNotFound)
	}
}

const stallDescription = `koinos: system/1
name: stall
address: "{env: STALL_URL}"
limits: {rate: 1000, burst: 50}
records:
  order:
    list: {path: /orders, records: "$.orders[*]", may_lack: true, since: {parameter: since}}
    get: {path: "/orders/{key}"}
    rest:
      - {path: /payments, query: {order: "{number}"}, records: "$.payments[*]", into: $.paid.by}
    key: $.code
    number: $.code
    stamp: $.changed
    lines: $.goods[*]
    mapping: stall-orders
  payment:
    list: {path: /payments, records: "$.payments[*]", since: {parameter: since}}
    key: $.id
    stamp: $.at
    tells: {record: order, key: $.order}
  parcel:
    list: {path: /parcels, records: "$.parcels[*]"}
    key: $.id
    lines: $.lines[*]
    mapping: stall-parcels
hooks:
  signature: {token: {header: X-Stall, secret: {env: STALL_SECRET}}}
  event: $.event
  events:
    paid: {record: payment, at: $.payment}
`

const stallParcels = `koinos: mapping/1
name: stall-parcels
document: {format: ndjson}
orders:
  kind: shipment
  of: sales
  group: {by: path, path: "$"}
  parts: {lines: {each: "$.lines[*]"}}
header:
  shipment: {from: $.id, need: must}
  sender_number: {from: $.order}
  partner: {value: SLIPWAY}
lines:
  sender_line: {from: $.pos}
  quantity: {from: $.qty}
`

const stallMapping = `koinos: mapping/1
name: stall-orders
document: {format: ndjson}
orders:
  kind: sales
  group: {by: path, path: "$"}
  parts: {lines: {each: "$.goods[*]"}}
  again: {do: update, lines: sender_line, missing: close}
header:
  sender_number: {from: $.code, need: must}
  partner:       {value: SLIPWAY}
  currency:      {from: $.money}
  notes:         {from: "$.paid.by[*].id", repeat: join, separator: "+"}
  custom.paid:   {from: "$.paid.by[*].cents", repeat: sum, expr: 'minor(num(value), col("$.money"))', type: decimal, default: "0"}
lines:
  sender_line: {from: $.pos}
  item:        {from: $.sku}
  quantity:    {from: $.qty}
`

// atStall is an office that reads a stall's orders, as a sync says.
func atStall(t *testing.T, s *stall, sync string) *keeping {
	t.Helper()
	k := besideStall(t, s)
	k.work()
	k.keep("koinos: sync/1\nname: s\n" + sync)
	return k
}

// besideStall is an office that knows a stall and has no sync at work.
func besideStall(t *testing.T, s *stall) *keeping {
	t.Helper()
	server := httptest.NewServer(s)
	t.Cleanup(server.Close)
	t.Setenv("STALL_URL", server.URL)
	k := &keeping{books: &books{office: begin(t, http.NotFoundHandler())}}
	t.Setenv("STALL_SECRET", "a stall's secret")
	_, err := k.store.PutMapping(context.Background(), api.Mapping{Name: "stall-orders", Text: stallMapping})
	if err == nil {
		_, err = k.store.PutMapping(context.Background(), api.Mapping{Name: "stall-parcels", Text: stallParcels})
	}
	if err == nil {
		_, err = k.Keep(context.Background(), stallDescription, "test")
	}
	if err != nil {
		t.Fatal(err)
	}
	return k
}

// read runs the sync, and returns what the stall was asked.
func (k *keeping) read(s *stall) string {
	k.t.Helper()
	k.run("s")
	s.mu.Lock()
	defer s.mu.Unlock()
	slices.Sort(s.asked)
	asked := strings.Join(s.asked, " ")
	s.asked = nil
	return asked
}

// orders are what is stored, a line each.
func (k *keeping) orders() string {
	k.t.Helper()
	var all []string
	ids, err := k.store.OrderIDs(context.Background(), 0, 100)
	for _, id := range ids {
		is, failed := k.store.Order(context.Background(), id)
		if failed != nil {
			k.t.Fatal(failed)
		}
		line := fmt.Sprintf("%s %s %q", is.SenderNumber, is.Status, is.Notes)
		for _, c := range is.Custom {
			line += " " + c.Value
		}
		all = append(all, line)
	}
	if err != nil {
		k.t.Fatal(err)
	}
	slices.Sort(all)
	return strings.Join(all, "\n")
}

func newStall() *stall {
	good := []stallGood{{"1", "00101", 2}, {"2", "00104", 1}}
	return &stall{orders: map[string]*stallOrder{
		"A-1": {Code: "A-1", Channel: "web", Money: "EUR", Changed: "2026-03-02T08:00:00Z", Goods: good},
		"A-2": {Code: "A-2", Channel: "till", Money: "JPY", Changed: "2026-03-02T09:00:00Z", Goods: good},
	}, paid: []stallPayment{{1, "A-1", 1050, "2026-03-02T08:00:00Z"}, {2, "A-1", 1050, "2026-03-02T08:00:05Z"}}}
}

// What was paid stands in a list of its own: it is read with each order, and again when
// somebody pays, although the order itself does not change.
func TestFactsFromElsewhere(t *testing.T) {
	s := newStall()
	k := atStall(t, s, "pull: [{record: stall.order}, {record: stall.payment}]\n")
	k.read(s)
	if got, want := k.orders(), "A-1 open \"1+2\" 21\nA-2 open \"\" 0"; got != want {
		t.Fatalf("%s, want %s", got, want)
	}
	if got := k.read(s); got != "/orders /payments" {
		t.Errorf("nothing new asks for %s", got)
	}
	s.mu.Lock()
	s.paid = append(s.paid, stallPayment{3, "A-2", 990, "2026-03-04T08:00:00Z"},
		stallPayment{4, "", 5, "2026-03-04T08:00:00Z"},
		stallPayment{5, "A-2", 10, "2026-03-04T08:00:00Z"})
	s.mu.Unlock()
	if got := k.read(s); got != "/orders /orders/A-2 /payments /payments" {
		t.Errorf("two payments of one order ask for %s", got)
	}
	if got, want := k.orders(), "A-1 open \"1+2\" 21\nA-2 open \"3+5\" 1000"; got != want {
		t.Errorf("%s, want %s", got, want)
	}
	if got := k.read(s); got != "/orders /payments" {
		t.Errorf("nothing new asks for %s", got)
	}
	// A payment of an order that is gone tells that it is gone.
	s.mu.Lock()
	delete(s.orders, "A-1")
	s.paid = append(s.paid, stallPayment{6, "A-1", -2100, "2026-03-05T08:00:00Z"}, stallPayment{7, "B-9", 1,
		"2026-03-05T08:00:00Z"})
	s.mu.Unlock()
	k.read(s)
	if got, want := k.orders(), "A-1 cancelled \"1+2\" 21\nA-2 open \"3+5\" 1000"; got != want || len(k.held()) != 0 {
		t.Errorf("%s, want %s; held %v", got, want, k.held())
	}
}

// A pull takes in some records only: by the system's own parameter, by a condition, or where
// they are orders here.
func TestSomeRecords(t *testing.T) {
	for _, c := range []struct{ name, pull, want, asked string }{
		{"by a parameter", "query: {channel: web}", "A-1", "/orders /payments"},
		{"by a condition", "only: {path: $.channel, is: [till, phone]}", "A-2", "/orders /payments"},
		{"by another", "only: {path: $.channel, not: [web, phone]}", "A-2", "/orders /payments"},
		{"those that are orders", "without_order: pass", "", "/orders /payments /payments"},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := newStall()
			k := atStall(t, s, "pull: [{record: stall.order, "+c.pull+"}]\n")
			if asked := k.read(s); asked != c.asked {
				t.Errorf("asked for %s", asked)
			}
			names := func() string {
				var all []string
				for _, line := range strings.Split(k.orders(), "\n") {
					all = append(all, strings.SplitN(line, " ", 2)[0])
				}
				return strings.Join(all, " ")
			}
			if got := names(); got != c.want || len(k.held()) != 0 {
				t.Errorf("%q, want %q; held %v", got, c.want, k.held())
			}
			if asked := k.read(s); asked != "/orders" {
				t.Errorf("nothing new asks for %s", asked)
			}
			// One that is an order here stays one, whatever becomes of its channel.
			if c.pull == "only: {path: $.channel, is: [till, phone]}" {
				s.mu.Lock()
				s.orders["A-2"].Channel, s.orders["A-2"].Goods[0].Qty = "web", 9
				s.orders["A-2"].Changed = "2026-03-06T09:00:00Z"
				s.mu.Unlock()
				k.read(s)
				if is, err := k.store.Order(context.Background(), 1); err != nil || is.Lines[0].Quantity.String() != "9" {
					t.Errorf("%+v %v", is, err)
				}
			}
			// With other words everything is looked at anew.
			k.keep("koinos: sync/1\nname: s\npull: [{record: stall.order}]\n")
			k.read(s)
			if got := names(); got != "A-1 A-2" {
				t.Errorf("without words %q", got)
			}
		})
	}
}

// A run reads by the sync as it was when the run began, even if it began while the syncs were being looked up.
func TestRunOfASyncJustChanged(t *testing.T) {
	k := besideStall(t, newStall())
	if _, err := k.store.PutSync(context.Background(), api.Sync{Name: "torn", Text: "koinos: sync/0\n"}); err != nil {
		t.Fatal(err)
	}
	k.keep("koinos: sync/1\nname: s\npull: [{record: stall.order, query: {channel: web}}]\n")
	k.anewStandings()
	began := make(chan api.SyncRun, 1)
	once := make(chan bool, 1)
	once <- true
	k.log = slog.New(whenLogged(func(message string) {
		if message != "a sync cannot be read" {
			return
		}
		select {
		case <-once: // by now the syncs' versions are known
			k.keep("koinos: sync/1\nname: s\npull: [{record: stall.order}]\n")
			r, err := k.RunSync(context.Background(), "s", api.NewSyncRun{}, "test")
			if err != nil {
				t.Error(err)
			}
			began <- r
		default:
		}
	}))
	k.work()
	if r, err := k.WaitRun(context.Background(), (<-began).ID); err != nil || r.State != api.SyncDone {
		t.Fatalf("%+v %v", r, err)
	}
	if got, want := k.orders(), "A-1 open \"1+2\" 21\nA-2 open \"\" 0"; got != want {
		t.Errorf("%s, want %s", got, want)
	}
}

// whenLogged is called with each message that is logged.
type whenLogged func(message string)

func (f whenLogged) Enabled(context.Context, slog.Level) bool { return true }
func (f whenLogged) WithAttrs([]slog.Attr) slog.Handler       { return f }
func (f whenLogged) WithGroup(string) slog.Handler            { return f }
func (f whenLogged) Handle(_ context.Context, r slog.Record) error {
	f(r.Message)
	return nil
}

// What is passed over because it is no order here is taken once it is one.
func TestPassedAndTaken(t *testing.T) {
	s := newStall()
	k := atStall(t, s, "pull: [{record: stall.order, without_order: pass}]\n")
	k.read(s)
	typed := order.Order{Kind: order.Sales, SenderNumber: "A-2", Partner: "SLIPWAY", Currency: "JPY",
		Lines: []order.Line{{SenderLine: "1", Item: "00101", Quantity: order.NumberOf(5)}}}
	if got, err := k.engine.Post(context.Background(), &typed, []byte("typed"), outcome.Refuse, "ann"); err != nil ||
		got.Outcome != outcome.Loaded {
		t.Fatalf("%+v %v", got, err)
	}
	s.mu.Lock()
	s.orders["A-1"].Changed, s.orders["A-2"].Changed = "2026-03-07T09:00:00Z", "2026-03-07T09:00:00Z"
	s.mu.Unlock()
	k.read(s)
	if got, want := k.orders(), `A-2 open "" 0`; got != want {
		t.Errorf("%s, want %s", got, want)
	}
	is, err := k.store.Order(context.Background(), 1)
	if err != nil || len(is.Lines) != 2 || is.Lines[0].Quantity.String() != "2" {
		t.Errorf("%+v %v", is.Lines, err)
	}
}

// One record is read in one way by all syncs.
func TestOneReading(t *testing.T) {
	k := atStall(t, newStall(), "pull: [{record: stall.order, query: {channel: web}}]\n")
	for text, want := range map[string]string{
		"pull: [{record: stall.order}]\n": "The sync s reads stall.order already, and takes in other ones of them (query, only, without_order, " +
			"also); say the same in both, or describe the record twice under two names.",
		"pull: [{record: stall.payment, only: {path: $.order, is: x}}]\n": "Stall.payment only tells of order: say mapping, also, only and " +
			"without_order where that is read.",
		"pull: [{record: stall.order, query: {channel: web}, only: {path: channel, is: x}}]\n": "",
	} {
		_, err := k.KeepSync(context.Background(), "koinos: sync/1\nname: other\n"+text, "test")
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", text, err)
		}
	}
	if _, err := k.KeepSync(context.Background(),
		"koinos: sync/1\nname: other\npull: [{record: stall.order, query: {channel: web}}]\n",
		"test"); err != nil {
		t.Error(err)
	}
}

// A webhook about a payment has its order read anew, as a list of payments does.
func TestToldByHook(t *testing.T) {
	s := newStall()
	k := atStall(t, s, "pull: [{record: stall.order}, {record: stall.payment}]\n")
	k.read(s)
	s.mu.Lock()
	s.paid = append(s.paid, stallPayment{3, "A-2", 990, "2026-03-04T08:00:00Z"})
	s.mu.Unlock()
	header := http.Header{"X-Stall": {"a stall's secret"}}
	status, err := k.Hook(context.Background(), "stall", header,
		[]byte(`{"event": "paid", "payment": {"id": 3, "order": "A-2", "cents": 990, "at": "2026-03-04T08:00:00Z"}}`))
	if err != nil || status != http.StatusNoContent {
		t.Fatal(status, err)
	}
	k.eventually("the order is read anew", func() bool { return strings.Contains(k.orders(), "A-2 open \"3\" 990") })
}

// What is held of one kind of record stays held when another one of the same order comes or is
// fixed: a parcel that is refused waits for somebody, whatever its order says.
func TestHeldApart(t *testing.T) {
	s := newStall()
	s.parcels = []stallParcel{{71, "A-1", []stallGood{{"9", "", 1}}}} // the order has no line 9
	k := atStall(t, s, "pull: [{record: stall.order}, {record: stall.parcel}]\n")
	k.read(s)
	k.run("s") // whichever was read first
	want := k.held()
	if len(want) != 1 || !strings.Contains(want[0], "A-1") {
		t.Fatal(want)
	}
	s.mu.Lock()
	s.orders["A-1"].Goods[0].Qty, s.orders["A-1"].Changed = 7, "2026-03-08T08:00:00Z"
	s.mu.Unlock()
	k.read(s)
	if got := k.held(); fmt.Sprint(got) != fmt.Sprint(want) {
		t.Errorf("held %v, want %v", got, want)
	}
	s.mu.Lock()
	s.parcels[0].Lines[0].Pos = "1"
	s.mu.Unlock()
	k.read(s)
	if got := k.held(); len(got) != 0 {
		t.Errorf("held %v", got)
	}
}

// A run whose pull cannot be stored reads less and less often, at least once a minute.
func TestRunBacksOff(t *testing.T) {
	s := newStall()
	k := besideStall(t, s)
	k.keep("koinos: sync/1\nname: s\npull: [{record: stall.order}]\n")
	all, err := k.standings(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	y := all["s"]
	now := time.Date(2026, 3, 16, 9, 0, 0, 0, time.UTC)
	k.now = func() time.Time { return now }
	q := &runPull{}
	wait := func() time.Duration {
		k.readFor(context.Background(), y, &y.Pulls[0], q)
		return q.next.Sub(now).Round(time.Millisecond)
	}
	k.stop() // nothing can be stored from here on
	var gaps []time.Duration
	for range 12 {
		gaps = append(gaps, wait())
	}
	want := []time.Duration{300 * time.Millisecond, 600 * time.Millisecond, 1200 * time.Millisecond,
		2400 * time.Millisecond,
		4800 * time.Millisecond, 9600 * time.Millisecond, 19200 * time.Millisecond, 38400 * time.Millisecond, time.Minute,
		time.Minute, time.Minute, time.Minute}
	if !slices.Equal(gaps, want) || q.ended {
		t.Errorf("%v, want %v", gaps, want)
	}
}
