package syncs

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"koinos/api"
	"koinos/store"
)

// check compares to the end, and returns the figures and what was found, a line each.
func (k *keeping) check(n api.NewCheck) (counts string, found []string) {
	k.t.Helper()
	ctx, stop := context.WithTimeout(context.Background(), time.Minute)
	defer stop()
	c, err := k.StartCheck(ctx, "shop-books", n, "test")
	if err == nil {
		c, err = k.WaitCheck(ctx, c.ID)
	}
	if err != nil || c.State != api.SyncDone {
		k.t.Fatalf("%+v %v", c, err)
	}
	rows, err := k.store.CheckRows(ctx, c.ID, "", 0, 1000)
	if err != nil {
		k.t.Fatal(err)
	}
	for _, r := range rows {
		line := fmt.Sprintf("%s %s %s", r.Part, r.Order, r.Outcome)
		for _, ch := range r.Changes {
			line += fmt.Sprintf(" [%s]", ch.String())
		}
		for _, s := range r.Steps {
			for _, d := range s.Changes {
				line += fmt.Sprintf(" [%s%s %q→%q]", d.Line, d.Field, d.Was, d.Is)
			}
		}
		if r.Why != "" {
			line += ": " + r.Why
		}
		if r.Repaired {
			line += " repaired"
		}
		found = append(found, line)
	}
	slices.Sort(found)
	return strings.Trim(fmt.Sprintf("%+v", c.Counts), "{}"), found
}

// some keeps the figures that are not 0.
func some(counts string) string {
	var out []string
	for _, c := range strings.Fields(counts) {
		if !strings.HasSuffix(c, ":0") {
			out = append(out, c)
		}
	}
	return strings.Join(out, " ")
}

// A dry run says what a run would do, and does nothing: neither there nor here.
func TestSyncDryRun(t *testing.T) {
	k := keepingOf(t, 4, shopToBooks)
	k.ask("POST", "/admin/articles", `{"sku": "00101", "gone": true}`)
	k.put(1004, "changed", "2")
	before := k.state()
	counts, found := k.check(api.NewCheck{Kind: api.CheckDryRun})
	if got := some(counts); got != "Records:4 Orders:4 Load:4 Create:3 Cannot:1" {
		t.Error(got)
	}
	if want := `ledgerline.sales_order SL-1004 cannot: ledgerline has no article with the sku "00101".`; !slices.Contains(found, want) {
		t.Error(strings.Join(found, "\n"))
	}
	ids, err := k.store.OrderIDs(context.Background(), 0, 10)
	if err != nil || len(ids) != 0 || k.state() != before || k.writes.Load() != 0 {
		t.Errorf("%v %v, %d writes\n%s", ids, err, k.writes.Load(), k.state())
	}
	k.ask("POST", "/admin/articles", `{"sku": "00101", "title": "Rope"}`)
	k.run("shop-books")
	k.put(1001, "changed", "3")
	counts, found = k.check(api.NewCheck{Kind: api.CheckDryRun})
	if got := some(counts); got != "Records:2 Orders:1 Update:1 Change:1" || len(found) != 2 ||
		!strings.HasPrefix(found[0], `ledgerline.sales_order SO-000001 change [`) ||
		!strings.Contains(found[0], `[1qty "6"→"3"]`) || !strings.Contains(found[1],
		"[line 1 quantity was \"6\", is \"3\"]") {
		t.Error(got, strings.Join(found, "\n"))
	}
	if counts, _ = k.check(api.NewCheck{Kind: api.CheckDryRun}); some(counts) != "Records:2 Orders:1 Update:1 Change:1" {
		t.Error("the second dry run finds something else:", some(counts))
	}
}

// A reconcile finds what differs on either side, what the source has lost and what the
// target has besides; it makes right what may be made right, and then finds nothing.
func TestReconcile(t *testing.T) {
	k := keepingOf(t, 5, shopToBooks)
	k.run("shop-books")
	if counts, found := k.check(api.NewCheck{Kind: api.CheckReconcile}); some(counts) != "Records:5 Orders:5 Right:5" {
		t.Error(some(counts), found)
	}
	keys := k.keysInBooks()
	k.ask("POST", "/admin/orders/"+keys["SL-1002"], `{"note": "by hand"}`)
	k.ask("POST", "/admin/orders", `{"our_ref": "THEIRS-1"}`)
	k.drop(1005)
	before := k.state()
	counts, found := k.check(api.NewCheck{Kind: api.CheckReconcile})
	want := []string{
		`ledgerline.sales_order LO-1006 besides: Ledgerline has it, and no order here is linked with it.`,
		`ledgerline.sales_order SO-000002 change [note "by hand"→""]`,
		`slipway.order  lost: Slipway does not have it any more.`,
	}
	if got := some(counts); got != "Records:4 Orders:5 Change:1 Right:4 Lost:1 Besides:1" ||
		strings.Join(found, "\n") != strings.Join(want, "\n") || k.state() != before {
		t.Errorf("%s\n%s", got, strings.Join(found, "\n"))
	}
	counts, found = k.check(api.NewCheck{Kind: api.CheckReconcile, Repair: true})
	if got := some(counts); !strings.HasSuffix(got, "Lost:1 Besides:1 Repaired:3") ||
		strings.Count(strings.Join(found, "\n"), " repaired") != 3 {
		t.Errorf("%s\n%s", got, strings.Join(found, "\n"))
	}
	if got := k.state(); strings.Contains(got, "by hand") || strings.Count(got, " void ") != 1 ||
		!strings.Contains(got, "THEIRS-1") {
		t.Error(got)
	}
	if counts, _ := k.check(api.NewCheck{Kind: api.CheckReconcile}); some(counts) != "Records:4 Orders:5 Right:5 Besides:1" {
		t.Error(some(counts))
	}
}

// Before the first run the records that are there already are linked, without a write.
func TestSyncLink(t *testing.T) {
	k := keepingOf(t, 3, shopToBooks)
	k.pull(api.NewPull{})
	k.push("SL-1001")
	k.push("SL-1002")
	for id := range int64(2) {
		links, err := k.store.Links(context.Background(), id+1)
		if err == nil {
			err = k.store.DropLink(context.Background(), &links[0])
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	writes := k.writes.Load()
	counts, _ := k.check(api.NewCheck{Kind: api.CheckLink})
	if got := some(counts); got != "Orders:3 Link:2 NotThere:1" {
		t.Error(got)
	}
	if counts, _ = k.check(api.NewCheck{Kind: api.CheckLink,
		Repair: true}); some(counts) != "Orders:3 Link:2 NotThere:1 Repaired:2" {
		t.Error(some(counts))
	}
	if counts, _ = k.check(api.NewCheck{Kind: api.CheckLink}); some(counts) != "Orders:1 NotThere:1" ||
		k.writes.Load() != writes {
		t.Error(some(counts), k.writes.Load()-writes, "writes")
	}
}

// keysInBooks are the ids of the orders there, by our reference.
func (k *keeping) keysInBooks() map[string]string {
	k.t.Helper()
	var all struct {
		Orders []struct {
			ID     json.Number `json:"id"`
			OurRef string      `json:"our_ref"`
		} `json:"orders"`
	}
	if err := json.Unmarshal([]byte(k.ask("GET", "/admin/orders", "")), &all); err != nil {
		k.t.Fatal(err)
	}
	keys := map[string]string{}
	for _, o := range all.Orders {
		keys[o.OurRef] = o.ID.String()
	}
	return keys
}

// drop takes an order out of the shop.
func (k *keeping) drop(number int) {
	k.t.Helper()
	req, err := http.NewRequest(http.MethodDelete, fmt.Sprintf("%s/admin/orders/%d", k.shop.URL, keyOfShop(number)),
		nil)
	if err != nil {
		k.t.Fatal(err)
	}
	res, err := http.DefaultClient.Do(req)
	if err != nil || res.StatusCode != http.StatusNoContent {
		k.t.Fatal(res, err)
	}
	res.Body.Close()
}

// linesInBooks are the ids of an order's lines there, by ours.
func (k *keeping) linesInBooks(ref string) map[string]string {
	k.t.Helper()
	var all struct {
		Orders []struct {
			OurRef string `json:"our_ref"`
			Lines  []struct {
				ID      json.Number `json:"id"`
				OurLine string      `json:"our_line"`
			} `json:"lines"`
		} `json:"orders"`
	}
	if err := json.Unmarshal([]byte(k.ask("GET", "/admin/orders", "")), &all); err != nil {
		k.t.Fatal(err)
	}
	lines := map[string]string{}
	for _, o := range all.Orders {
		for _, l := range o.Lines {
			if o.OurRef == ref {
				lines[l.OurLine] = l.ID.String()
			}
		}
	}
	return lines
}

func (k *keeping) heldList() ([]api.HeldWork, error) {
	return k.store.HeldList(context.Background(), store.HeldFilter{})
}
