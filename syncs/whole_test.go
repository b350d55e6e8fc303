package syncs

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"koinos/api"
	"koinos/store"
)

const listsDescription = `koinos: system/1
name: lists
folder: "{env: LISTS_FOLDER}"
records:
  list:
    files:
      path: in
      names: "*.csv"
      patience: 1ms
      whole: true
      answer: {path: out, name: "{id}.txt", text: "{word} {records} {why}", words: {taken: OK, repeated: OK, refused: NO}}
    key: $.file.name
    mapping: lists
`

const listsMapping = `koinos: mapping/1
name: lists
document: {format: csv}
orders:
  kind: sales
  group: {by: key, columns: [Order]}
  again: {do: update, lines: item, missing: close}
header:
  sender_number: {from: Order, need: must}
  partner: {value: SLIPWAY}
lines:
  item: {from: Item, list: items, need: must}
  quantity: {from: Qty, need: must}
`

// A file that is one document goes through its mapping as it is: a table with a heading, of
// which single orders are held, and one that cannot be read is refused.
func TestWholeFiles(t *testing.T) {
	y := withYard(t, func(s string) string { return s })
	dir := t.TempDir()
	t.Setenv("LISTS_FOLDER", dir)
	ctx := context.Background()
	_, err := y.store.PutMapping(ctx, api.Mapping{Name: "lists", Text: listsMapping})
	if err == nil {
		_, err = y.Keep(ctx, listsDescription, "test")
	}
	for _, name := range []string{"in", "out"} {
		if err == nil {
			err = os.Mkdir(filepath.Join(dir, name), 0o755)
		}
	}
	if err != nil {
		t.Fatal(err)
	}
	put := func(name, text string) {
		if err := os.WriteFile(filepath.Join(dir, "in", name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	take := func() api.Pull {
		t.Helper()
		time.Sleep(5 * time.Millisecond)
		p, err := y.Start(ctx, "lists", api.NewPull{Record: "list"}, "test")
		if err == nil {
			p, err = y.Wait(ctx, p.ID)
		}
		if err != nil || p.State != api.PullDone {
			t.Fatalf("%+v %v", p, err)
		}
		return p
	}
	answers := func() string {
		var all []string
		files, err := filepath.Glob(filepath.Join(dir, "out", "*"))
		for _, name := range files {
			b, failed := os.ReadFile(name)
			if failed != nil {
				t.Fatal(failed)
			}
			all = append(all, string(b))
			os.Remove(name)
		}
		if err != nil {
			t.Fatal(err)
		}
		return strings.Join(all, "; ")
	}
	put("a.csv", "Order,Item,Qty\nL-1,00101,2\nL-1,00104,1\nL-2,99999,1\n")
	if tried, err := y.DryRun(ctx, "lists", api.NewPull{Record: "list"}, "test"); err != nil || tried.Load.Ready != 1 ||
		tried.Load.Refused != 1 {
		t.Errorf("%+v %v", tried.Load.Counts, err)
	}
	if p := take(); p.Loaded != 1 || p.Failed != 1 || p.Records != 2 {
		t.Errorf("%+v", p)
	}
	if got := answers(); got != "OK 2 " {
		t.Errorf("answered %q", got)
	}
	put("b.csv", "Order,Item,Qty\nL-1,00101,2\nL-1,00104,1\nL-2,99999,1\n") // the same under another name
	put("c.csv", "Order,Item,Qty\nL-1,00101,5\n")
	if p := take(); p.Loaded != 0 || p.Changed != 1 || p.Failed != 0 {
		t.Errorf("%+v", p)
	}
	if got := answers(); got != "OK 2 ; OK 1 " && got != "OK 1 ; OK 2 " {
		t.Errorf("answered %q", got)
	}
	put("d.csv", "Number,What\nL-9,rope\n") // the mapping's columns are not there
	if p := take(); p.Refused != 1 || !strings.Contains(p.Reason,
		"d.csv is refused: The mapping lists cannot read it. Load 4 of its records ended as failed: ") {
		t.Errorf("%+v", p)
	}
	if got := answers(); !strings.HasPrefix(got,
		"NO 1 The mapping lists cannot read it. Load 4 of its records ended as failed: ") {
		t.Errorf("answered %q", got)
	}
	for _, name := range []string{"taken/a.csv", "taken/b.csv", "taken/c.csv", "refused/d.csv"} {
		if _, err := os.Stat(filepath.Join(dir, "in", name)); err != nil {
			t.Error(err)
		}
	}
	list, err := y.store.Arrivals(ctx, store.ArrivalFilter{System: "lists", Limit: 10})
	if err != nil || len(list) != 2 || list[0].Load == 0 {
		t.Errorf("%s %v", fmt.Sprint(list), err)
	}
}
