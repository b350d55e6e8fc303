package syncs

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"koinos/api"
	"koinos/core/order"
	"koinos/store"
	"net/http"
	"strings"
	"testing"
	"time"
)

// A dry run says what would come and keeps nothing; what came is kept byte for byte, and
// a value is followed back to it.
func TestArrivals(t *testing.T) {
	ctx := context.Background()
	o := begin(t, shopOf(t, 20))
	dry, err := o.DryRun(ctx, "slipway", api.NewPull{Record: "order"}, "test")
	if err != nil || dry.Pull.Records != 20 || dry.Load.Ready != 19 || dry.Load.Refused != 0 {
		t.Errorf("%s, %+v, %v", figures(&dry.Pull), dry.Load.Counts, err)
	}
	arrivals, err := o.store.Arrivals(ctx, store.ArrivalFilter{Limit: 10})
	documents, err2 := o.store.Documents(ctx, time.Time{}, "", 10)
	if len(arrivals)+len(documents)+len(o.state()) != 0 || err != nil || err2 != nil {
		t.Errorf("a dry run kept %d arrivals and %d documents, %v %v", len(arrivals), len(documents), err, err2)
	}
	p := o.pull(api.NewPull{})
	if arrivals, err = o.store.Arrivals(ctx, store.ArrivalFilter{Key: "SL-1003", Limit: 10}); err != nil ||
		len(arrivals) != 1 {
		t.Fatal(arrivals, err)
	}
	a := arrivals[0]
	if a.Key != "9007199254740995" || a.Stamp != "2026-03-02T10:28:03.000201Z" || a.State != api.ArrivalMapped ||
		a.Place != "/orders/2" ||
		a.Pull != p.ID || a.Line != 3 || a.Load == 0 || !strings.HasSuffix(a.Request, "/slipway/v1/orders?limit=50") {
		t.Errorf("%+v", a)
	}
	req, err := http.NewRequest(http.MethodGet, o.shop.URL+"/slipway/v1/orders/"+a.Key, nil)
	if err != nil {
		t.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer slipway-demo")
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	said, err := io.ReadAll(res.Body)
	body, err2 := o.store.ArrivalBody(ctx, a.ID)
	if err != nil || err2 != nil || !bytes.Equal(bytes.TrimSpace(said), body) {
		t.Errorf("the arrival is %s, %v %v", body, err, err2)
	}
	ids, err := o.store.OrdersOf(ctx, store.Spoken{Kind: order.Sales, Partner: "SLIPWAY", Sender: "SL-1003"})
	if err != nil || len(ids) != 1 {
		t.Fatal(ids, err)
	}
	why, err := o.engine.Why(ctx, ids[0], 1, "quantity")
	if err != nil || why.Came == nil || why.Came.ID != a.ID || why.Place.Pointer != "/lines/0/count" {
		t.Errorf("%+v, %v", why, err)
	}
	if err := o.store.Forget(ctx, store.Retention{"arrivals": 1},
		(time.Now().AddDate(0, 0, 1)).Add(time.Hour)); err != nil {
		t.Fatal(err)
	}
	if _, err := o.store.ArrivalBody(ctx, a.ID); err == nil {
		t.Error("its bytes are kept beyond their time")
	}
	if p := o.pull(api.NewPull{All: true}); p.Unchanged != 20 {
		t.Errorf("what is known without its bytes: %s", figures(&p))
	}
}

// What is withdrawn there is cancelled here, and open again when it is wanted again;
// what came and went between two pulls brings nothing.
func TestPullWithdrawn(t *testing.T) {
	o := begin(t, shopOf(t, 3))
	o.pull(api.NewPull{})
	say := func(state string, count int) api.Pull {
		t.Helper()
		o.admin("orders", fmt.Sprintf(`{"id": 9007199254740993, "reference": "SL-1001", "state": %q,
		  "placed_at": "2026-03-02T09:14:03.000201Z", "currency": "EUR",
		  "lines": [{"line": 1, "sku": "00407", "count": %d, "each": "9.50"}]}`, state, count))
		return o.pull(api.NewPull{})
	}
	status := func() string {
		t.Helper()
		s, err := o.store.Order(context.Background(), 1)
		if err != nil {
			t.Fatal(err)
		}
		open := 0
		for _, l := range s.Lines {
			if l.Quantity.Cmp(l.Cancelled) > 0 {
				open++
			}
		}
		return fmt.Sprintf("%s, %d lines open, revision %d", s.Status, open, s.Revision)
	}
	for i, c := range []struct {
		state, want string
		count       int
		changed     int
	}{
		{"withdrawn", "cancelled, 0 lines open, revision 2", 5, 1},
		{"withdrawn", "cancelled, 0 lines open, revision 2", 6, 0},
		{"placed", "open, 1 lines open, revision 3", 5, 1}, {"withdrawn", "cancelled, 0 lines open, revision 4", 5, 1},
		{"placed", "open, 1 lines open, revision 5", 5, 1},
	} {
		p := say(c.state, c.count)
		if got := status(); got != c.want || p.State != api.PullDone || p.Changed != c.changed || p.Failed != 0 {
			t.Errorf("step %d: %s; %s %s", i, got, figures(&p), p.Reason)
		}
	}
	o.admin("orders", `{"id": 77, "reference": "SL-77", "state": "withdrawn", "lines": []}`)
	if p := o.pull(api.NewPull{}); p.Gone != 1 || p.Failed+p.Changed+p.Loaded != 0 || len(p.Loads) != 0 {
		t.Errorf("nobody here knows it: %s", figures(&p))
	}
}
