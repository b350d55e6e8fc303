package e2e

import (
	"archive/tar"
	"compress/gzip"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"
)

type object = map[string]any

// unpack unpacks the data folder that the version before the one door left.
func unpack(t *testing.T, into string) {
	t.Helper()
	f, err := os.Open("testdata/upgrade.tgz")
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	z, err := gzip.NewReader(f)
	if err != nil {
		t.Fatal(err)
	}
	for r := tar.NewReader(z); ; {
		h, err := r.Next()
		if errors.Is(err, io.EOF) {
			return
		}
		if err != nil {
			t.Fatal(err)
		}
		name := filepath.Join(into, filepath.FromSlash(h.Name))
		if h.FileInfo().IsDir() {
			continue
		}
		b, err := io.ReadAll(r)
		if err == nil {
			err = os.MkdirAll(filepath.Dir(name), 0o700)
		}
		if err == nil {
			err = os.WriteFile(name, b, 0o600)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
}

// A data folder of the version before is carried over with all its history: the
// API says of it what it said then, in the words of today.
func TestUpgrade(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	unpack(t, dir)
	s := start(t, filepath.Join(dir, "olddata"), "serve")
	f, err := os.Open("testdata/upgrade-api.json.gz")
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	z, err := gzip.NewReader(f)
	if err != nil {
		t.Fatal(err)
	}
	was := map[string]any{}
	if err := json.NewDecoder(z).Decode(&was); err != nil {
		t.Fatal(err)
	}
	get := func(path string) (is any) {
		t.Helper()
		_, body := s.do("GET", "/api/v1"+path, "")
		if err := json.Unmarshal([]byte(body), &is); err != nil {
			t.Fatalf("%s: %v\n%.300s", path, err, body)
		}
		return is
	}
	all := func(path string) (items []any) {
		for cursor := ""; ; {
			page := get(path + "?limit=100" + cursor).(object)
			items = append(items, page["items"].([]any)...)
			if page["next"] == nil {
				return items
			}
			cursor = "&cursor=" + url.QueryEscape(page["next"].(string))
		}
	}
	compared := 0
	for path, old := range was {
		var now any
		if list, ok := old.([]any); ok {
			now = slices.DeleteFunc(all(path), func(item any) bool { // crosswalks that ship were not listed then
				fields, _ := item.(map[string]any)
				return fields["shipped"] == true
			})
			if len(now.([]any)) != len(list) && path != "/documents" {
				t.Errorf("%s: %d, were %d", path, len(now.([]any)), len(list))
				continue
			}
		} else {
			now = get(path)
		}
		if strings.HasPrefix(path, "/orders/") {
			sameOrder(t, path, old.(object), now.(object))
		} else {
			same(t, path, old, now)
		}
		compared++
	}
	if compared < 150 {
		t.Errorf("only %d answers were compared", compared)
	}
	// What was held is on the one list, and what was shipped is a movement.
	var held []string
	for _, h := range all("/held") {
		held = append(held, fmt.Sprint(h.(object)["kind"], " ", h.(object)["partner"], " ", h.(object)["number"]))
	}
	slices.Sort(held)
	if want := []string{"notice VARNHOLT PO-000044", "order  DS-2046", "set PELLOW PM-4712"}; !slices.Equal(held,
		want) {
		t.Errorf("held: %q, want %q", held, want)
	}
	if out, errOut, code := koinos(t, []string{"KOINOS_ADDRESS=" + s.address}, "why", "PO-000043", "shipped", "--line",
		"1"); code != 0 || !strings.Contains(out, `shipped of line 1 is "500"`) ||
		!strings.Contains(out, "interchange") {
		t.Errorf("why: %d %s %s", code, out, errOut)
	}
	// The feed begins with the first order and has every event once.
	events := get("/events?limit=1000").(object)["items"].([]any)
	if len(events) != 102 || events[0].(object)["action"] != "created" {
		t.Errorf("%d events of 102", len(events))
	}
	s.stop()
}

// leftOut are fields that have other names or a place of their own now; the title of a code is in today's words.
var leftOut = map[string]bool{"title": true, "trace": true, "said": true, "text": true, "place": true, "row": true,
	"column":  true,
	"pointer": true, "loads": true, "describe": true}

// ofSet are fields that a transaction set had itself before it could speak of several orders.
var ofSet = map[string]bool{"number": true, "order_id": true, "order_revision": true}

// same compares what was with what is, as far as it was.
func same(t *testing.T, path string, was, is any) {
	switch was := was.(type) {
	case object:
		now, ok := is.(object)
		if !ok {
			t.Errorf("%s was an object, is %v", path, is)
			return
		}
		for key, value := range was {
			of := now
			if orders, _ := now["orders"].([]any); ofSet[key] && now["control"] != nil && len(orders) > 0 {
				of = orders[0].(object)
			}
			if !leftOut[key] {
				same(t, path+"/"+key, value, of[key])
			}
		}
	case []any:
		now, _ := is.([]any)
		if len(now) < len(was) {
			t.Errorf("%s has %d, had %d", path, len(now), len(was))
			return
		}
		for i := range was {
			same(t, fmt.Sprintf("%s/%d", path, i), was[i], now[i])
		}
	default:
		if was != nil && !reflect.DeepEqual(was, is) {
			t.Errorf("%s was %v, is %v", path, was, is)
		}
	}
}

// own are words that Koinos kept among the user's fields.
var own = map[string]bool{"answer": true, "answered_on": true, "accepted": true, "due_on": true, "invoice": true,
	"invoiced_on": true, "invoiced": true, "shipment": true, "shipped_on": true, "change_number": true}

// users takes Koinos's own words out of the user's fields and returns them.
func users(o object) map[string]string {
	found := map[string]string{}
	list, _ := o["custom"].([]any)
	list = slices.DeleteFunc(list, func(c any) bool {
		name := c.(object)["name"].(string)
		if own[name] {
			found[name] = c.(object)["value"].(string)
		}
		return own[name]
	})
	if o["custom"] = list; len(list) == 0 {
		delete(o, "custom")
	}
	return found
}

var actions = map[string]string{"860 received": "changed", "855 received": "answered", "856 received": "moved",
	"810 received": "invoiced"}

// sameOrder compares an order: its content, where its values stand, what happened.
func sameOrder(t *testing.T, path string, was, is object) {
	head := users(was)
	for i, l := range was["lines"].([]any) {
		line, now := l.(object), is["lines"].([]any)[i].(object)
		said := users(line)
		same(t, fmt.Sprintf("%s line %d", path, i+1), line, now)
		if fmt.Sprint(now["id"]) != fmt.Sprint(i+1) {
			t.Errorf("%s line %d has the id %v", path, i+1, now["id"])
		}
		if said["invoiced"] != "" && now["invoiced"] != said["invoiced"] {
			t.Errorf("%s line %d: invoiced %v, was %s", path, i+1, now["invoiced"], said["invoiced"])
		}
	}
	events := was["events"].([]any)
	for i := range events {
		e, now := events[i].(object), is["events"].([]any)[i].(object)
		from := now["origin"].(object)
		action := e["action"].(string)
		if to := actions[action]; to != "" {
			action = to
		}
		if now["action"] != action || from["at"] != e["at"] || from["by"] != e["by"] ||
			fmt.Sprint(from["load"]) != fmt.Sprint(e["load"]) {
			t.Errorf("%s event %d: %v, was %v", path, i+1, now, e)
		}
	}
	if head["answer"] != "" && is["answers"].([]any)[0].(object)["code"] != head["answer"] || head["invoice"] != "" &&
		is["invoices"].([]any)[0].(object)["number"] != head["invoice"] ||
		head["shipment"] != "" && is["movements"].([]any)[0].(object)["number"] != head["shipment"] {
		t.Errorf("%s: answered, shipped and invoiced as %v, %v, %v; was %v", path, is["answers"], is["movements"],
			is["invoices"], head)
	}
	delete(was, "events")
	delete(was, "lines")
	same(t, path, was, is)
	// Where the header's values stand.
	trace, _ := was["trace"].(object)
	cells, _ := trace["header"].([]any)
	places, _ := is["places"].([]any)
	for _, c := range cells {
		cell := c.(object)
		if !slices.ContainsFunc(places, func(p any) bool {
			place := p.(object)["place"].(object)
			return p.(object)["line"] == nil && p.(object)["field"] == cell["field"] && place["row"] == cell["row"] &&
				place["column"] == cell["column"]
		}) {
			t.Errorf("%s: the place of %v is lost", path, cell)
		}
	}
	rows, _ := trace["rows"].([]any)
	for n, row := range rows {
		if !slices.ContainsFunc(places, func(p any) bool {
			return fmt.Sprint(p.(object)["line"]) == fmt.Sprint(n+1) && p.(object)["field"] == nil &&
				p.(object)["place"].(object)["row"] == row
		}) {
			t.Errorf("%s: the place of line %d is lost", path, n+1)
		}
	}
}

// A data folder of another version: an earlier one is backed up as it is, brought back, and brought
// up to date by the start; one of a later version is not touched.
func TestOtherVersions(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	unpack(t, dir)
	old, kept, back := filepath.Join(dir, "olddata"), filepath.Join(dir, "kept"), filepath.Join(dir, "back")
	if _, said, code := koinos(t, nil, "check", "data", "--data", old); code != 1 || said != "koinos: "+old+
		": an earlier version of Koinos left this data folder; start the service over it once, which brings it up to date\n" {
		t.Errorf("a check: %d %s", code, said)
	}
	if _, said, code := koinos(t, nil, "backup", kept, "--data", old); code != 0 {
		t.Fatal(code, said)
	}
	if _, said, code := koinos(t, nil, "restore", kept, "--data", back); code != 0 {
		t.Fatal(code, said)
	}
	if _, said, code := koinos(t, nil, "check", "data", "--data", back); code != 0 {
		t.Errorf("what was brought back: %d %s", code, said)
	}
	start(t, old, "serve").stop()
	if have, want := numbersIn(t, back), numbersIn(t, old); len(want) == 0 || !slices.Equal(have, want) {
		t.Errorf("orders %v, not %v", have, want)
	}
	db, err := sql.Open("sqlite3", "file:"+filepath.Join(back, "koinos.db"))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := db.Exec(`INSERT INTO goose_db_version (version_id, is_applied) VALUES (99, 1)`); err != nil {
		t.Fatal(err)
	}
	db.Close()
	for _, command := range [][]string{{"serve", "--listen", "127.0.0.1:0"}, {"check", "data"}} {
		if _, said, code := koinos(t, nil, append(command, "--data", back)...); code != 1 || !strings.Contains(said,
			"a later version of Koinos has worked on this data folder") {
			t.Errorf("%s over the data of a later version: %d %s", command, code, said)
		}
	}
}

func numbersIn(t *testing.T, data string) (all []string) {
	t.Helper()
	db, err := sql.Open("sqlite3", "file:"+filepath.Join(data, "koinos.db")+"?mode=ro")
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	rows, err := db.Query(`SELECT number FROM orders ORDER BY number`)
	if err != nil {
		t.Fatal(err)
	}
	defer rows.Close()
	for rows.Next() {
		var n string
		if err := rows.Scan(&n); err != nil {
			t.Fatal(err)
		}
		all = append(all, n)
	}
	return all
}
