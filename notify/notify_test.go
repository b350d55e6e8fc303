package notify

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"koinos/api"
	"koinos/core/list"
	"koinos/core/order"
	"koinos/core/outcome"
	"koinos/core/source"
	"koinos/core/system"
	"koinos/jobs"
	"koinos/load"
	"koinos/remote"
	"koinos/store"
	"koinos/store/storetest"
)

// desk is Koinos with its notifier, a clock that is set by hand, and somebody who is told.
type desk struct {
	*Notifier
	t      testing.TB
	engine *load.Engine
	data   string
	url    string

	mu     sync.Mutex
	at     time.Time
	got    []http.Header
	bodies []string
	answer func(n int) int // the status of the n-th message, from 1
}

func open(t testing.TB) *desk {
	t.Helper()
	d := &desk{t: t, data: t.TempDir(), at: time.Date(2026, 3, 16, 8, 0, 0, 0, time.UTC)}
	s := storetest.Open(t, d.data)
	t.Cleanup(func() { s.Close() })
	log := slog.New(slog.NewTextHandler(io.Discard, nil))
	d.engine = load.New(s, source.DefaultLimits, time.Now, log)
	d.engine.Use(jobs.New(s, d.engine.Kinds(), time.Now, log))
	for _, name := range []string{"items", "customers"} {
		if err := s.PutList(t.Context(), name, []list.Entry{{Code: "SALTRY"}, {Code: "OTHER"}},
			time.Now()); err != nil {
			t.Fatal(err)
		}
	}
	d.Notifier = New(s, filepath.Join(d.data, "secrets"), d.clock, log)
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		d.mu.Lock()
		defer d.mu.Unlock()
		d.got, d.bodies = append(d.got, r.Header), append(d.bodies, string(body))
		status := http.StatusNoContent
		if d.answer != nil {
			status = d.answer(len(d.got))
		}
		if status == http.StatusFound {
			w.Header().Set("Location", "/elsewhere")
		}
		w.WriteHeader(status)
	}))
	t.Cleanup(server.Close)
	d.url = server.URL
	return d
}

func (d *desk) clock() time.Time {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.at
}

// rounds lets the notifier work, a step of time after each round.
func (d *desk) rounds(n int, step time.Duration) {
	d.t.Helper()
	for range n {
		var work sync.WaitGroup
		if err := d.round(context.Background(), &work); err != nil {
			d.t.Fatal(err)
		}
		work.Wait()
		d.mu.Lock()
		d.at = d.at.Add(step)
		d.mu.Unlock()
	}
}

func (d *desk) post(number, partner, note string) {
	d.t.Helper()
	o := order.Order{Kind: order.Sales, SenderNumber: number, Partner: partner, Notes: note,
		Lines: []order.Line{{Number: "1", Description: "Rope", Quantity: order.MustNumber("2"),
			UnitPrice: order.MustNumber("3")}}}
	p, err := d.engine.Post(context.Background(), &o, fmt.Appendf(nil, "%q %q", number, note), outcome.Update, "test")
	if err != nil || p.Number == "" {
		d.t.Fatalf("%+v, %v", p, err)
	}
}

func (d *desk) add(n api.NewSubscription) api.CreatedSubscription {
	d.t.Helper()
	n.URL = d.url
	made, err := d.Add(context.Background(), n, "test")
	if err != nil {
		d.t.Fatal(err)
	}
	return made
}

// told is what the messages say, each with how often it came; every one must be signed.
func (d *desk) told(secret string) map[string]int {
	d.t.Helper()
	d.t.Setenv("TOLD", secret)
	y, err := system.Parse([]byte("koinos: system/1\nname: us\naddress: https://us.example\nhooks: {signature: {standard: " +
		"{secret: {env: TOLD}}}, events: {\"*\": {record: order, key: $.id}}}\nrecords: {order: {list: {path: /o, records: " +
		"\"$[*]\"}, get: {path: \"/o/{key}\"}, key: $.id, mapping: m}}\n"))
	if err != nil {
		d.t.Fatal(err)
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	out, ids := map[string]int{}, map[string]string{}
	for i, h := range d.got {
		id, err := remote.Verify(y.Hooks, h, []byte(d.bodies[i]), d.at)
		if errors.Is(err, remote.ErrStale) { // the clock went on since
			id, err = h.Get("Webhook-Id"), nil
		}
		if err != nil {
			d.t.Errorf("message %d: %v", i+1, err)
		}
		var m struct {
			Type string
			Data struct {
				Number  string
				Partner string
				Changes []struct{ Field string }
			}
		}
		if err := json.Unmarshal([]byte(d.bodies[i]), &m); err != nil {
			d.t.Error(err)
		}
		text := m.Type + " " + m.Data.Number + " " + m.Data.Partner
		for _, c := range m.Data.Changes {
			text += " " + c.Field
		}
		if was, is := ids[id]; is && was != d.bodies[i] {
			d.t.Errorf("the id %s says %s and %s", id, was, d.bodies[i])
		}
		ids[id] = d.bodies[i]
		out[text]++
	}
	return out
}

func (d *desk) states(name string) (all []string) {
	d.t.Helper()
	y, err := d.store.Subscription(context.Background(), name)
	if err != nil {
		d.t.Fatal(err)
	}
	list, err := d.store.Deliveries(context.Background(), y.ID, "", 0, 100)
	if err != nil {
		d.t.Fatal(err)
	}
	for _, v := range list {
		all = append(all, fmt.Sprintf("%s %d %s", v.State, v.Attempts, v.Why))
	}
	slices.Reverse(all)
	return append(all, y.State+" "+y.Reason)
}

// Subscribers are told of what they asked for, from then on, once and signed.
func TestTold(t *testing.T) {
	d := open(t)
	d.post("A-0", "SALTRY", "before")
	all := d.add(api.NewSubscription{Name: "all"})
	d.post("A-1", "SALTRY", "")
	d.post("A-1", "SALTRY", "two more, please")
	d.post("B-1", "OTHER", "")
	d.rounds(3, time.Second)
	if got, want := d.told(all.Secret), map[string]int{"order.created SO-000002 SALTRY": 1,
		"order.changed SO-000002 SALTRY notes": 1, "order.created SO-000003 OTHER": 1}; !reflect.DeepEqual(got, want) {
		t.Errorf("told %v, want %v", got, want)
	}
	if err := d.Remove(t.Context(), "all"); err != nil {
		t.Fatal(err)
	}
	if _, err := os.Stat(filepath.Join(d.data, "secrets", "all")); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("the secret is still there: %v", err)
	}
	d.got, d.bodies = nil, nil
	some := d.add(api.NewSubscription{Name: "some", Events: []string{"order.created"}, Partner: "OTHER"})
	d.post("B-1", "OTHER", "changed")
	d.post("B-2", "OTHER", "")
	d.post("A-2", "SALTRY", "")
	d.rounds(3, time.Second)
	if got, want := d.told(some.Secret), map[string]int{"order.created SO-000004 OTHER": 1}; !reflect.DeepEqual(got,
		want) {
		t.Errorf("told %v, want %v", got, want)
	}
}

// A message that fails is sent again with the same id; who does not answer is asked now
// and then by one message, and gets everything once they are back.
func TestToldAgain(t *testing.T) {
	d := open(t)
	made := d.add(api.NewSubscription{Name: "shed"})
	d.answer = func(n int) int { return []int{503, 302, 204}[min(n, 3)-1] }
	d.post("A-1", "SALTRY", "")
	d.rounds(2, 0) // it is not due again yet
	if got := d.states("shed"); !reflect.DeepEqual(got, []string{"waiting 1 They answered 503.", "active "}) {
		t.Errorf("%q", got)
	}
	d.rounds(8, 10*time.Second)
	if got := d.states("shed"); !reflect.DeepEqual(got, []string{"delivered 3 ", "active "}) {
		t.Errorf("%q", got)
	}
	if got := d.told(made.Secret); !reflect.DeepEqual(got, map[string]int{"order.created SO-000001 SALTRY": 3}) {
		t.Errorf("told %v", got)
	}

	d.got, d.bodies = nil, nil
	back := 9
	d.answer = func(n int) int { return map[bool]int{true: 500, false: 200}[n < back] }
	for i := range 7 {
		d.post(fmt.Sprintf("B-%d", i), "SALTRY", "")
	}
	d.rounds(1, 0)
	if got := d.states("shed"); got[len(got)-1] != "away They answered 500." || len(d.got) != 7 {
		t.Errorf("%d messages, %q", len(d.got), got)
	}
	d.rounds(20, time.Second) // they are not asked before half a minute is over
	if len(d.got) != 7 {
		t.Errorf("%d messages to somebody who is away", len(d.got))
	}
	d.rounds(1, 20*time.Second)
	d.rounds(1, time.Minute) // one message
	if len(d.got) != 8 {
		t.Errorf("%d messages, of which one is an attempt", len(d.got))
	}
	d.rounds(3, 2*time.Minute)
	got := d.states("shed")
	if got[len(got)-1] != "active " || slices.ContainsFunc(got[:8],
		func(s string) bool { return !strings.HasPrefix(s, "delivered") }) {
		t.Errorf("after they are back: %q", got)
	}
	if got := d.told(made.Secret); len(got) != 7 {
		t.Errorf("told %v", got)
	}
}

// What cannot be delivered within a day has failed; it can be sent again.
func TestToldTooLate(t *testing.T) {
	d := open(t)
	d.add(api.NewSubscription{Name: "shed"})
	d.answer = func(int) int { return 500 }
	d.post("A-1", "SALTRY", "")
	d.rounds(60, time.Hour)
	got := d.states("shed")
	if !strings.HasPrefix(got[0], "failed ") || got[1] != "away They answered 500." {
		t.Errorf("%q", got)
	}
	ids := map[string]bool{}
	for _, h := range d.got {
		ids[h.Get("Webhook-Id")] = true
	}
	d.answer, d.got, d.bodies = nil, nil, nil
	if n, err := d.Resend(t.Context(), "shed", api.Resend{Failed: true}); n != 1 || err != nil {
		t.Fatal(n, err)
	}
	if _, err := d.Set(t.Context(), "shed", true, "test"); err != nil {
		t.Fatal(err)
	}
	d.rounds(1, 0)
	if got := d.states("shed"); !reflect.DeepEqual(got, []string{"delivered 1 ", "active "}) {
		t.Errorf("%q", got)
	}
	if len(d.got) != 1 || len(ids) != 1 || !ids[d.got[0].Get("Webhook-Id")] {
		t.Errorf("sent again under other ids: %v, %v", ids, d.got)
	}
}

// Who answers 410 wants no more; who is paused gets what happened meanwhile.
func TestPaused(t *testing.T) {
	d := open(t)
	d.add(api.NewSubscription{Name: "shed"})
	d.answer = func(int) int { return http.StatusGone }
	d.post("A-1", "SALTRY", "")
	d.post("A-2", "SALTRY", "")
	d.rounds(2, time.Second)
	if got := d.states("shed"); got[2] != "paused They answered 410: they want no more." {
		t.Errorf("%q", got)
	}
	n := len(d.got)
	d.post("A-3", "SALTRY", "")
	d.rounds(3, time.Hour)
	if len(d.got) != n {
		t.Errorf("%d messages to somebody who wants none", len(d.got)-n)
	}
	d.answer = nil
	if _, err := d.Set(t.Context(), "shed", true, "test"); err != nil {
		t.Fatal(err)
	}
	d.rounds(1, 0)
	got := d.states("shed")
	if got[3] != "active " || !strings.HasPrefix(got[0], "delivered") || !strings.HasPrefix(got[2], "delivered 1") {
		t.Errorf("%q", got)
	}
}

// Who is paused while much is on its way gets what is under way, and no more.
func TestPausedOnTheWay(t *testing.T) {
	d := open(t)
	d.add(api.NewSubscription{Name: "shed"})
	y, err := d.store.Subscription(t.Context(), "shed")
	if err != nil {
		t.Fatal(err)
	}
	for i := range dueAtOnce + 10 {
		d.post(fmt.Sprintf("A-%d", i), "SALTRY", "")
	}
	d.answer = func(n int) int {
		if n == 1 {
			if err := d.store.SetSubscription(t.Context(), y.ID, api.SubscriptionPaused, "", time.Now(), false); err != nil {
				t.Error(err)
			}
		}
		return 204
	}
	d.rounds(3, time.Minute)
	if len(d.got) != dueAtOnce {
		t.Errorf("%d messages, of which %d were under way", len(d.got), dueAtOnce)
	}
}

// Somebody else who takes over after a crash makes no message twice, and no second id.
func TestTakenOver(t *testing.T) {
	d := open(t)
	made := d.add(api.NewSubscription{Name: "shed"})
	for i := range 30 {
		d.post(fmt.Sprintf("A-%d", i), "SALTRY", "")
	}
	ended, end := context.WithCancel(context.Background())
	d.answer = func(n int) int {
		if n == 10 {
			end()
		}
		return 204
	}
	var work sync.WaitGroup
	if err := d.round(ended, &work); err != nil {
		t.Fatal(err)
	}
	work.Wait()
	d.Notifier = New(d.store, d.secrets, d.clock, d.log)
	d.rounds(3, time.Minute)
	got := d.told(made.Secret) // those under way at the end came twice, with one id
	if len(got) != 30 || len(d.got) > 50 {
		t.Errorf("%d orders were told of by %d messages", len(got), len(d.got))
	}
	if got := d.states("shed"); slices.ContainsFunc(got[:30], func(s string) bool {
		return !strings.HasPrefix(s, "delivered")
	}) {
		t.Errorf("%q", got)
	}
}

// Subscriptions that cannot be are refused, and no secret stands in the store.
func TestRefused(t *testing.T) {
	d := open(t)
	made := d.add(api.NewSubscription{Name: "shed"})
	for _, c := range []struct {
		n    api.NewSubscription
		want string
	}{
		{api.NewSubscription{Name: "a", URL: "http://shed.example/hooks"},
			`"http://shed.example/hooks" would send everything in the clear: say https (http is for this machine only).`},
		{api.NewSubscription{Name: "a", URL: "https://x:y@shed.example"},
			"A name and password do not stand in the address: say auth: {basic: …}."},
		{api.NewSubscription{Name: "a", URL: "https://shed.example", Events: []string{"order.sold"}},
			`"order.sold" is no type of ` +
				"event; there are order.created, order.changed, order.revised, order.answered, order.moved, " +
				"order.invoiced, " +
				"order.taken_back, order.removed."},
		{api.NewSubscription{Name: "a", URL: "https://shed.example", SecretEnv: "NOTHING_SET"},
			"The environment variable NOTHING_SET, which should hold the secret, is not set."},
		{api.NewSubscription{Name: "shed", URL: "https://shed.example"}, store.ErrNameTaken.Error()},
	} {
		if _, err := d.Add(t.Context(), c.n, "test"); err == nil || err.Error() != c.want {
			t.Errorf("%+v: %v", c.n, err)
		}
	}
	info, err := os.Stat(filepath.Join(d.data, "secrets", "shed"))
	if err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the secret's file: %v, %v", info, err)
	}
	err = filepath.WalkDir(d.data, func(path string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() || strings.Contains(path, "secrets") {
			return err
		}
		b, err := os.ReadFile(path)
		if bytes.Contains(b, []byte(made.Secret)) {
			t.Errorf("the secret stands in %s", path)
		}
		return err
	})
	if err != nil {
		t.Error(err)
	}
}
