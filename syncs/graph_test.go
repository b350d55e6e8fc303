package syncs

import (
	"context"
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"os"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"koinos/api"
	"koinos/demo"
)

// graphed is an office that reads the shop by GraphQL.
func graphed(t *testing.T, orders int, change func(string) string) *office {
	t.Helper()
	o := begin(t, shopOf(t, orders))
	o.graph(change)
	return o
}

// graph describes the shop by GraphQL.
func (o *office) graph(change func(string) string) {
	t := o.t
	t.Helper()
	read := func(name string) string {
		b, err := os.ReadFile("../docs/standins/" + name)
		if err != nil {
			t.Fatal(err)
		}
		return strings.Replace(string(b), "name: slipway-graphql", "name: slipway", 1)
	}
	ctx := context.Background()
	if _, err := o.store.PutMapping(ctx, api.Mapping{Name: "slipway-graph-orders",
		Text: read("slipway-graphql-orders.yaml")}); err != nil {
		t.Fatal(err)
	}
	text := strings.Replace(read("slipway-graphql.yaml"), "rate: 15", "rate: 5000", 1)
	if _, err := o.Keep(ctx, change(strings.Replace(text, "name: slipway-graph\n", "name: slipway\n", 1)),
		"test"); err != nil {
		t.Fatal(err)
	}
}

func same(s string) string { return s }

// By GraphQL, with lines of orders that go on over pages of their own, the same orders
// come as by REST.
func TestPullGraphQL(t *testing.T) {
	rest := begin(t, shopOf(t, 120))
	rest.pull(api.NewPull{})
	o := graphed(t, 120, same)
	p := o.pull(api.NewPull{})
	if got, want := figures(&p),
		"done: 5 pages, 120 records, 0 known, 7 gone, 0 short, 109 loaded, 0 changed, 4 failed"; got != want {
		t.Fatalf("%s %s\nwant %s", got, p.Reason, want)
	}
	if !slices.Equal(o.state(), rest.state()) {
		t.Errorf("the orders are others:\n%s\n%s", o.state()[0], rest.state()[0])
	}
	if hits := o.hits.Swap(0); hits < 20 { // a quarter of the orders has a fourth line
		t.Errorf("%d calls", hits)
	}
	if p = o.pull(api.NewPull{}); p.Unchanged != p.Records || o.hits.Load() != 1 {
		t.Errorf("nothing is new: %s, %d calls", figures(&p), o.hits.Load())
	}
	kept, err := o.store.System(context.Background(), "slipway", 0)
	if points := o.Described(kept).State.Points; err != nil || points == nil || *points <= 0 || *points > 1000 {
		t.Errorf("%v points are left, %v", points, err)
	}
	if points := rest.Described(kept).State.Points; points != nil {
		t.Errorf("by REST %v points are left", *points)
	}
}

// What is wrong with a query ends the pull with the system's words; errors beside data
// are asked again, and what they left null is not taken for empty.
func TestPullGraphQLErrors(t *testing.T) {
	o := graphed(t, 20, func(s string) string { return strings.Replace(s, "id reference", "id refrence", 1) })
	if p := o.pull(api.NewPull{}); p.State != api.PullFailed ||
		!strings.Contains(p.Reason, `Cannot query field "refrence" on type "Order"`) {
		t.Errorf("%s %s", figures(&p), p.Reason)
	}
	o = graphed(t, 20, same)
	o.admin("faults", `{"times": 2, "json": {"data": {"orders": null}, "errors": [{"message": "busy", "path": ["orders"]}]}}`)
	if p := o.pull(api.NewPull{}); p.State != api.PullDone || p.Records != 20 {
		t.Errorf("%s %s", figures(&p), p.Reason)
	}
}

// A shop that counts points and requests is asked so that it never has to say no.
func TestPullGraphQLLimited(t *testing.T) {
	if testing.Short() {
		t.Skip("it waits for a shop")
	}
	limited, err := demo.Slipway("slipway-demo", 240, true, time.Now)
	if err != nil {
		t.Fatal(err)
	}
	var refused, lowest atomic.Int64
	lowest.Store(1000)
	o := begin(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		rec := httptest.NewRecorder()
		limited.ServeHTTP(rec, r)
		var told struct {
			Extensions struct {
				Points struct{ Left *int64 }
			}
			Errors []any
		}
		if json.Unmarshal(rec.Body.Bytes(), &told) == nil && told.Extensions.Points.Left != nil {
			lowest.Store(min(lowest.Load(), *told.Extensions.Points.Left))
		}
		if rec.Code != http.StatusOK || len(told.Errors) > 0 {
			refused.Add(1)
		}
		for name, v := range rec.Header() {
			w.Header()[name] = v
		}
		w.WriteHeader(rec.Code)
		_, _ = w.Write(rec.Body.Bytes()) // whoever is gone does not miss it
	}))
	o.graph(func(s string) string { return strings.Replace(s, "rate: 5000", "rate: 15", 1) })
	p := o.pull(api.NewPull{})
	if p.State != api.PullDone || p.Records != 240 {
		t.Fatalf("%s %s", figures(&p), p.Reason)
	}
	if refused.Load() > 0 || lowest.Load() < 0 {
		t.Errorf("%d answers were refusals; at the lowest %d points were left", refused.Load(), lowest.Load())
	}
	if lowest.Load() > 300 {
		t.Skipf("%d points were left at the lowest: the machine is too slow for them to run out", lowest.Load())
	}
}
