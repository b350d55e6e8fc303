package syncs

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"net/http"
	"strconv"
	"testing"
	"time"

	"koinos/api"
)

const hookKey = "a key of twenty-four bytes"

// message sends the office a signed message, as the shop would.
func (o *office) message(id, body string) int {
	o.t.Helper()
	stamp := strconv.FormatInt(time.Now().Unix(), 10)
	m := hmac.New(sha256.New, []byte(hookKey))
	fmt.Fprintf(m, "%s.%s.%s", id, stamp, body)
	header := http.Header{}
	header.Set("webhook-id", id)
	header.Set("webhook-timestamp", stamp)
	header.Set("webhook-signature", "v1,"+base64.StdEncoding.EncodeToString(m.Sum(nil)))
	status, err := o.Hook(context.Background(), "slipway", header, []byte(body))
	if err != nil && status == 0 {
		o.t.Fatal(err)
	}
	return status
}

// settled waits until the pulls of all webhooks have ended, and returns the last.
func (o *office) settled() api.Pull {
	o.t.Helper()
	ctx := context.Background()
	all, err := o.store.Pulls(ctx, "slipway", 0, 100)
	if err != nil {
		o.t.Fatal(err)
	}
	for i := len(all) - 1; i >= 0; i-- {
		if all[i], err = o.Wait(ctx, all[i].ID); err != nil {
			o.t.Fatal(err)
		}
	}
	if len(all) == 0 {
		return api.Pull{}
	}
	return all[0]
}

// What a message tells goes through the same door as what a list shows: once for each
// id, never an older state, and nothing for what nobody signed.
func TestHook(t *testing.T) {
	t.Setenv("SLIPWAY_HOOK_SECRET", "whsec_"+base64.StdEncoding.EncodeToString([]byte(hookKey)))
	o := begin(t, shopOf(t, 3))
	put := func(state string, count int) {
		o.admin("orders", fmt.Sprintf(`{"id": 9007199254740993, "reference": "SL-1001", "state": %q,
		  "placed_at": "2026-03-02T09:14:03.000201Z", "currency": "EUR",
		  "lines": [{"line": 1, "sku": "00407", "count": %d, "each": "9.50"}]}`, state, count))
	}
	quantity := func() string {
		t.Helper()
		s, err := o.store.Order(context.Background(), 1)
		if err != nil {
			t.Fatal(err)
		}
		return fmt.Sprintf("%s %s, revision %d", s.Status, s.Lines[0].Quantity, s.Revision)
	}
	const about = `{"type": "order.changed", "data": {"id": 9007199254740993}}`
	put("placed", 5)
	if status := o.message("m1", about); status != 204 {
		t.Fatal(status)
	}
	if p := o.settled(); p.State != api.PullDone || p.Records != 1 || p.Loaded != 1 || p.Newest != "" {
		t.Errorf("%s %s", figures(&p), p.Reason)
	}
	for range 3 {
		o.message("m1", about) // the same again
	}
	o.message("m2", about) // another message about what is known
	if p := o.settled(); p.ID != 2 || p.Unchanged != 1 || quantity() != "open 5, revision 1" {
		t.Errorf("%s, %s", figures(&p), quantity())
	}
	put("placed", 8)
	o.message("m3", about)
	if o.settled(); quantity() != "open 8, revision 2" {
		t.Error(quantity())
	}
	put("withdrawn", 8)
	o.message("m4", about)
	if p := o.settled(); quantity() != "cancelled 8, revision 3" {
		t.Errorf("%s %s %s", figures(&p), quantity(), p.Reason)
	}
	// What nobody there has any more, and events that bring nothing.
	o.message("m5", `{"type": "order.changed", "data": {"id": 12345}}`)
	if p := o.settled(); p.State != api.PullDone || p.Gone != 1 || p.Reason != "Order 12345 is not there any more." {
		t.Errorf("%s %s", figures(&p), p.Reason)
	}
	o.message("m6", `{"type": "order.changed", "data": {}}`)
	if p := o.settled(); p.State != api.PullFailed || p.Reason != "The answer has no key at $.data.id." {
		t.Errorf("%s %s", figures(&p), p.Reason)
	}
	if status := o.message("m7", `{"type": "stock.changed"}`); status != 204 {
		t.Error(status)
	}
	if status := o.message("m8", `{"type": `); status != 400 {
		t.Error(status)
	}
	if status, err := o.Hook(context.Background(), "slipway", http.Header{}, []byte(about)); status != 401 ||
		err == nil {
		t.Error(status, err)
	}
	kept, err := o.store.System(context.Background(), "slipway", 0)
	if err != nil {
		t.Fatal(err)
	}
	if got := o.Described(kept).State.Hooks; got != (api.HookCount{Taken: 6, Repeated: 3, Passed: 1, Refused: 1}) {
		t.Errorf("%+v", got)
	}
	list, err := o.store.Hooks(context.Background(), "slipway", 0, 10)
	if err != nil || len(list) != 7 || list[0].Event != "stock.changed" || list[0].Pull != 0 || list[6].Pull != 1 {
		t.Errorf("%+v %v", list, err)
	}
}

// A message that has the whole record; an older one that comes later changes nothing.
func TestHookWhole(t *testing.T) {
	t.Setenv("SLIPWAY_HOOK_SECRET", "whsec_"+base64.StdEncoding.EncodeToString([]byte(hookKey)))
	o := begin(t, shopOf(t, 1))
	o.furnish("demo/systems/slipway.yaml", func(s string) string {
		return replaced(t, s, "order.changed: {record: order, key: $.data.id}", "\"*\": {record: order, at: $.data}")
	})
	whole := func(count int, at string) string {
		return fmt.Sprintf(`{"type": "order.new", "data": {"id": 5, "reference": "SL-5", "state": "placed", "changed_at": %q,
		  "placed_at": "2026-03-02T09:14:03.000201Z", "currency": "EUR", "line_count": 1,
		  "lines": [{"line": 1, "sku": "00407", "count": %d, "each": "9.50"}]}}`, at, count)
	}
	o.hits.Store(0)
	o.message("w2", whole(2, "2026-03-02T10:00:02Z"))
	o.settled()
	o.message("w1", whole(1, "2026-03-02T10:00:01Z"))
	if p := o.settled(); p.Unchanged != 1 || o.hits.Load() != 0 {
		t.Errorf("%s, %d calls", figures(&p), o.hits.Load())
	}
	s, err := o.store.Order(context.Background(), 1)
	if err != nil || s.Lines[0].Quantity.String() != "2" || s.Revision != 1 {
		t.Errorf("%+v %v", s, err)
	}
}
