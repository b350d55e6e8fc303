package syncs

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"koinos/api"
	"koinos/demo"
	"koinos/standin"
)

const viaYard = `koinos: sync/1
name: yard
pull:
  - {record: east-yard.despatch}
push:
  - record: east-yard.pick
    after: {record: ledgerline.sales_order, path: $.state, is: [confirmed]}
  - {record: ledgerline.delivery, of: shipment}
  - {record: slipway.parcel, of: shipment}
`

// besideYard is an office beside shop, books and yard.
func besideYard(t *testing.T, orders int) (*keeping, *standin.Yard, string) {
	t.Helper()
	folder := t.TempDir()
	yard, err := standin.NewYard(folder, time.Now)
	if err != nil {
		t.Fatal(err)
	}
	t.Setenv("YARD_FOLDER", folder)
	k := keepingOf(t, orders, shopToBooks)
	ctx := context.Background()
	for _, name := range []string{"east-yard-despatches", "east-yard-picks", "ledgerline-deliveries", "slipway-sent",
		"slipway-parcels"} {
		text, err := demo.Files.ReadFile("mappings/" + name + ".yaml")
		if err == nil {
			_, err = k.store.PutMapping(ctx, api.Mapping{Name: name, Text: string(text)})
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	text, err := demo.Files.ReadFile("systems/east-yard.yaml")
	if err == nil {
		_, err = k.Keep(ctx, string(text), "test")
	}
	if err != nil {
		t.Fatal(err)
	}
	k.keep(viaYard)
	return k, yard, folder
}

// moved is what the books and the shop say has left, by order and line, with how many
// deliveries and parcels.
func (k *keeping) moved() string {
	k.t.Helper()
	var books struct {
		Orders []struct {
			ID     int64  `json:"id"`
			OurRef string `json:"our_ref"`
		} `json:"orders"`
		Deliveries []struct {
			Order int64  `json:"order_id"`
			Ref   string `json:"ref"`
			Lines []struct {
				OurLine string      `json:"our_line"`
				Qty     json.Number `json:"qty"`
			} `json:"lines"`
		} `json:"deliveries"`
	}
	if err := json.Unmarshal([]byte(k.ask("GET", "/admin/orders", "")), &books); err != nil {
		k.t.Fatal(err)
	}
	ref := map[int64]string{}
	for _, o := range books.Orders {
		ref[o.ID] = o.OurRef
	}
	var all []string
	for _, d := range books.Deliveries {
		line := "books " + ref[d.Order]
		for _, l := range d.Lines {
			line += fmt.Sprintf(" %s:%s", l.OurLine, l.Qty)
		}
		all = append(all, line)
	}
	req, err := http.NewRequest("GET", k.shop.URL+"/slipway/v1/parcels", nil)
	if err != nil {
		k.t.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer slipway-demo")
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		k.t.Fatal(err)
	}
	defer res.Body.Close()
	b, err := io.ReadAll(res.Body)
	var shop struct {
		Parcels []struct {
			Number   string `json:"number"`
			Order    string `json:"order"`
			Contents []struct {
				Line  int         `json:"line"`
				Count json.Number `json:"count"`
			} `json:"contents"`
		} `json:"parcels"`
	}
	if err := json.Unmarshal(b, &shop); err != nil {
		k.t.Fatal(string(b), err)
	}
	for _, p := range shop.Parcels {
		if p.Number == "" {
			continue // the shop's own
		}
		line := "shop " + p.Order
		for _, c := range p.Contents {
			line += fmt.Sprintf(" %d:%s", c.Line, c.Count)
		}
		all = append(all, line)
	}
	if err != nil {
		k.t.Fatal(err)
	}
	slices.Sort(all)
	return strings.Join(all, "\n")
}

// What the books confirmed is picked, what the yard sends goes into the books and to the
// shop, in parts, each once, whatever comes twice.
func TestThreeHops(t *testing.T) {
	k, yard, folder := besideYard(t, 2)
	k.run("shop-books")
	r := k.run("yard")
	if got := counts(&r); got != "created 2 changed 0 right 0 waiting 0 held 0" {
		t.Fatal(got, k.held())
	}
	files, err := os.ReadDir(filepath.Join(folder, "to-yard"))
	if err != nil || len(files) != 2 {
		t.Fatal(files, err)
	}
	b, err := os.ReadFile(filepath.Join(folder, "to-yard", files[0].Name()))
	if err != nil || !strings.HasPrefix(string(b), "PHD+"+strings.TrimSuffix(strings.TrimPrefix(files[0].Name(),
		"PCK-"), ".txt")+"+") ||
		!strings.Contains(string(b), "\nPCK+SL-100") || !strings.HasSuffix(string(b), "'\n") {
		t.Errorf("%q %v", b, err)
	}
	for range 3 { // despatches come, and follow on
		if err := yard.Work(); err != nil {
			t.Fatal(err)
		}
		k.run("yard")
	}
	want := strings.TrimSpace(`
books SL-1001 1:3 2:3
books SL-1001 1:3 2:3
books SL-1002 1:4 2:2 3:3 4:1
shop SL-1001 1:3 2:3
shop SL-1001 1:3 2:3
shop SL-1002 1:4 2:2 3:3 4:1`)
	if got := k.moved(); got != want {
		t.Errorf("got\n%s\nwant\n%s\n%v", got, want, k.held())
	}
	if left := yard.Waiting(); len(left) != 0 {
		t.Error("the yard waits for answers to", left)
	}
	for id, status := range map[int64]string{1: "complete", 2: "complete"} {
		if is, err := k.store.Order(context.Background(), id); err != nil || string(is.Status) != status {
			t.Errorf("order %d is %s %v", id, is.Status, err)
		}
	}
	// What comes back from the shop is what went there: nothing goes round.
	k.keep(strings.Replace(viaYard, "push:", "  - {record: slipway.parcel, mapping: slipway-parcels}\npush:", 1))
	k.writes.Store(0)
	for range 2 {
		k.run("yard")
	}
	// But for its own parcel, of which the books can take no more: somebody has to look.
	held := "[push yard SO-000001 push_refused: ledgerline refuses this (422): Of line 1 no more than 6 can leave.]"
	if got := k.moved(); got != want || k.writes.Load() != 1 || fmt.Sprint(k.held()) != held {
		t.Errorf("%d writes\n%s\n%v", k.writes.Load(), got, k.held())
	}
	if is, err := k.store.Order(context.Background(), 1); err != nil || len(is.Movements) != 3 {
		t.Errorf("%+v %v", is.Movements, err)
	}
}

// A file that the yard refuses holds its order with the yard's words, and goes again when
// it says something else.
func TestRefusedFile(t *testing.T) {
	k, yard, folder := besideYard(t, 1)
	k.run("shop-books")
	k.run("yard")
	// Somebody else's program breaks the file.
	files, err := filepath.Glob(filepath.Join(folder, "to-yard", "PCK-*.txt"))
	if err != nil || len(files) != 1 {
		t.Fatal(files, err)
	}
	b, err := os.ReadFile(files[0])
	if err == nil {
		err = os.WriteFile(files[0], []byte(strings.Replace(string(b), "PKL+1+", "PKX+1+", 1)), 0o644)
	}
	if err == nil {
		err = yard.Work()
	}
	if err != nil {
		t.Fatal(err)
	}
	want := "[push yard SO-000001 push_refused: East-yard refuses the file " + filepath.Base(files[0]) +
		": ER head and tail do not fit.]"
	for range 100 {
		if _, err := k.RunSync(context.Background(), "yard", api.NewSyncRun{}, "test"); err != nil {
			t.Fatal(err)
		}
		if fmt.Sprint(k.held()) == want {
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	if got := fmt.Sprint(k.held()); got != want {
		t.Fatalf("got %s\nwant %s", got, want)
	}
	list, err := k.heldList()
	if err != nil {
		t.Fatal(err)
	}
	if r := k.retry(list); counts(&r) != "created 1 changed 0 right 0 waiting 0 held 0" {
		t.Error(counts(&r), k.held())
	}
	if err := yard.Work(); err != nil {
		t.Fatal(err)
	}
	k.run("yard")
	if left := len(k.held()); left != 0 {
		t.Error(k.held())
	}
}

// What was read is not written back where it came from, also where its pull came to no end: it
// is in the book then, and not yet kept which record it is.
func TestNoEchoUnlinked(t *testing.T) {
	k, _, _ := besideYard(t, 1)
	ctx := context.Background()
	k.run("shop-books")
	if _, err := k.store.PutMapping(ctx, api.Mapping{Name: "fails",
		Text: strings.NewReplacer("name: sent", "name: fails",
			"{from: $.number, need: must}", "{from: $.number, list: numbers}").Replace(sentWithin)}); err != nil {
		t.Fatal(err)
	}
	before := k.moved()
	k.keep("koinos: sync/1\nname: parcels\npull:\n  - {record: slipway.parcel, mapping: slipway-parcels, also: " +
		"fails}\npush:\n  - {record: slipway.parcel, of: shipment}\n")
	if r := k.run("parcels"); r.Pulls[0].State != api.PullFailed {
		t.Fatalf("%+v", r.Pulls)
	}
	is, err := k.store.Order(ctx, 1)
	if err != nil || len(is.Movements) != 1 {
		t.Fatal(is.Movements, err)
	}
	if got := k.moved(); got != before {
		t.Errorf("the shop's own parcel went back to it: %s", got)
	}
}
