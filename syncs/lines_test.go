package syncs

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"

	"koinos/api"
)

// quay gives the lines of its jobs ids of its own, and its departures refer to those.
type quay struct {
	mu   sync.Mutex
	jobs []map[string]any
	outs []map[string]any
	gets int
}

func (q *quay) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	q.mu.Lock()
	defer q.mu.Unlock()
	w.Header().Set("Content-Type", "application/json")
	var in map[string]any
	if r.Method == http.MethodPost {
		d := json.NewDecoder(r.Body)
		d.UseNumber()
		if err := d.Decode(&in); err != nil {
			http.Error(w, "{}", http.StatusBadRequest)
			return
		}
	}
	list := func(all []map[string]any) {
		ref := r.URL.Query().Get("ref")
		json.NewEncoder(w).Encode(map[string]any{"all": slices.DeleteFunc(slices.Clone(all),
			func(one map[string]any) bool {
				return ref != "" && one["ref"] != ref
			})})
	}
	id, _ := strconv.Atoi(strings.TrimPrefix(r.URL.Path, "/jobs/"))
	switch {
	case r.Method+r.URL.Path == "POST/jobs":
		in["id"] = 500 + len(q.jobs)
		for i, row := range in["rows"].([]any) {
			row.(map[string]any)["row"] = fmt.Sprintf("R%d-%d", 500+len(q.jobs), 70+i)
		}
		q.jobs = append(q.jobs, in)
		json.NewEncoder(w).Encode(in)
	case r.Method+r.URL.Path == "POST/outs":
		in["id"] = 900 + len(q.outs)
		q.outs = append(q.outs, in)
		json.NewEncoder(w).Encode(in)
	case r.URL.Path == "/jobs":
		list(q.jobs)
	case r.URL.Path == "/outs":
		list(q.outs)
	case id >= 500 && id-500 < len(q.jobs):
		q.gets++
		json.NewEncoder(w).Encode(q.jobs[id-500])
	default:
		for _, one := range q.outs {
			if r.URL.Path == fmt.Sprintf("/outs/%v", one["id"]) {
				json.NewEncoder(w).Encode(one)
				return
			}
		}
		http.Error(w, "{}", http.StatusNotFound)
	}
}

const quayDescription = `koinos: system/1
name: quay
address: "{env: QUAY_URL}"
limits: {rate: 1000, burst: 50}
records:
  job:
    list: {path: /jobs, records: "$.all[*]"}
    get: {path: "/jobs/{key}"}
    key: $.id
    number: $.ref
    lines: $.rows[*]
    find: {ref: {parameter: ref, path: $.ref}}
    write: {mapping: quay-jobs, find: ref, create: {path: /jobs}}
  out:
    list: {path: /outs, records: "$.all[*]"}
    get: {path: "/outs/{key}"}
    key: $.id
    lines: $.rows[*]
    mapping: quay-outs
    find: {ref: {parameter: ref, path: $.ref}}
    refers:
      - {path: $.job, to: job, by: ref}
      - {path: "$.rows[*].row", to: job, line: {match: $.pos, KEY in: $.job}}
    write: {mapping: quay-outs, of: job, find: ref, create: {path: /outs, with: {$.job: "{order}"}}, aside: [$.job]}
`

const quayJobs = `koinos: mapping/1
name: quay-jobs
document: {format: ndjson}
orders:
  kind: sales
  group: {by: path, path: "$"}
  parts: {lines: {each: "$.rows[*]"}}
header:
  sender_number: {from: $.ref}
  partner: {value: SLIPWAY}
lines:
  sender_line: {from: $.pos}
  item: {from: $.sku}
  quantity: {from: $.qty}
`

const quayOuts = `koinos: mapping/1
name: quay-outs
document: {format: ndjson}
orders:
  kind: shipment
  of: sales
  group: {by: path, path: "$"}
  parts: {lines: {each: "$.rows[*]"}}
header:
  shipment: {from: $.ref, need: must}
  sender_number: {from: $.job}
  partner: {value: SLIPWAY}
lines:
  sender_line: {from: $.row}
  quantity: {from: $.qty}
`

// A shipment there refers to the lines of its order by the ids, or the places, that those got
// there, when it is written and when it is read.
func TestLinesOfTheirs(t *testing.T) {
	for _, c := range []struct{ key, first, second string }{
		{"key: $.row,", "R500-71", "R500-70"},
		{"", "2", "1"},
	} {
		shop := `{"orders": [{"id": 1, "reference": "A-1", "state": "placed", "placed_at": "2026-03-02T08:00:00Z",
		  "changed_at": "2026-03-02T08:00:00Z", "currency": "EUR", "line_count": 2, "buyer": {"name": "Otis", "mail": "o@harbour.example"},
		  "lines": [{"line": 11, "sku": "00101", "title": "Rope", "count": 5, "each": "1.00"}, {"line": 12, "sku": "00104", "title": "Cleat", "count": 2, "each": "1.00"}],
		  "sent": [{"number": "P-1", "lines": [{"line": 12, "count": 2}, {"line": 11, "count": 1}]}]}]}`
		k := &keeping{books: &books{office: begin(t, http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", "application/json")
			fmt.Fprint(w, shop)
		}))}}
		q := k.besideQuay(c.key)
		ctx := context.Background()
		out, err := json.Marshal(q.outs)
		want := fmt.Sprintf(`[{"id":900,"job":500,"ref":"P-1","rows":[{"qty":2,"row":%q},{"qty":1,"row":%q}]}]`,
			c.first, c.second)
		if got := strings.ReplaceAll(string(out), `"row":2}`, `"row":"2"}`); strings.ReplaceAll(got, `"row":1}`,
			`"row":"1"}`) != want || err != nil {
			t.Errorf("sent %s, want %s; held %v", out, want, k.held())
		}
		// One that departs there comes here, to the right line.
		row := any(c.second)
		if c.key == "" {
			row = 1
		}
		q.mu.Lock()
		q.outs = append(q.outs, map[string]any{"id": 950, "job": 500, "ref": "Q-9",
			"rows": []any{map[string]any{"row": row, "qty": 3}}})
		q.mu.Unlock()
		k.run("quay")
		is, err := k.store.Order(ctx, 1)
		if err != nil || len(is.Movements) != 2 || is.Movements[1].Number != "Q-9" ||
			is.Movements[1].Lines[0].Line != is.Lines[0].ID ||
			is.Movements[1].Lines[0].Quantity.String() != "3" {
			t.Errorf("%+v %v, held %v", is.Movements, err, k.held())
		}
		if len(q.outs) != 2 {
			t.Errorf("it came back: %v", q.outs)
		}
	}
}

// besideQuay is an office that has read the orders of its shop with their shipments, and writes both to a quay.
func (k *keeping) besideQuay(key string) *quay {
	k.t.Helper()
	q := &quay{jobs: []map[string]any{}, outs: []map[string]any{}}
	server := httptest.NewServer(q)
	k.t.Cleanup(server.Close)
	k.t.Setenv("QUAY_URL", server.URL)
	ctx := context.Background()
	for name, text := range map[string]string{"sent": sentWithin, "quay-jobs": quayJobs, "quay-outs": quayOuts} {
		if _, err := k.store.PutMapping(ctx, api.Mapping{Name: name, Text: text}); err != nil {
			k.t.Fatal(err)
		}
	}
	if _, err := k.Keep(ctx, strings.Replace(quayDescription, "KEY", key, 1), "test"); err != nil {
		k.t.Fatal(err)
	}
	k.work()
	k.pull(api.NewPull{Also: []string{"sent"}})
	k.keep("koinos: sync/1\nname: quay\npull: [{record: quay.out}]\npush: [{record: quay.job}, {record: " +
		"quay.out, of: shipment}]\n")
	for range 2 {
		k.run("quay")
	}
	return q
}

// An order of many lines is read once for all of its lines that a shipment refers to, here and there; and if all of
// them have the same trouble, it is said of some of them.
func TestManyLinesOfTheirs(t *testing.T) {
	const n = 300
	var lines, sent []string
	for i := range n {
		lines = append(lines, fmt.Sprintf(`{"line": %d, "sku": "00101", "title": "Rope", "count": 5, "each": "1.00"}`, i+11))
		sent = append(sent, fmt.Sprintf(`{"line": %d, "count": 2}`, i+11))
	}
	k := &keeping{books: &books{office: begin(t, http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		fmt.Fprintf(w, `{"orders": [{"id": 1, "reference": "A-1", "state": "placed", "placed_at": "2026-03-02T08:00:00Z",
		  "changed_at": "2026-03-02T08:00:00Z", "currency": "EUR", "line_count": %d, "buyer": {"name": "Otis", "mail": "o@harbour.example"},
		  "lines": [%s], "sent": [{"number": "P-1", "lines": [%s]}]}]}`, n, strings.Join(lines, ", "), strings.Join(sent, ", "))
	}))}}
	q := k.besideQuay("key: $.row,")
	gets := func() (n int) {
		q.mu.Lock()
		defer q.mu.Unlock()
		n, q.gets = q.gets, 0
		return n
	}
	if n := gets(); len(q.outs) != 1 || n > 4 {
		t.Fatalf("the order is read %d times to write a shipment; held %v", n, k.held())
	}
	depart := func(ref string, row func(i int) string) {
		var rows []any
		for i := range n {
			rows = append(rows, map[string]any{"row": row(i), "qty": 3})
		}
		q.mu.Lock()
		q.outs = append(q.outs, map[string]any{"id": 900 + len(q.outs), "job": 500, "ref": ref, "rows": rows})
		q.mu.Unlock()
		k.run("quay")
	}
	depart("Q-9", func(i int) string { return fmt.Sprintf("R500-%d", 70+i) })
	is, err := k.store.Order(context.Background(), 1)
	if err != nil || len(is.Movements) != 2 || len(is.Movements[1].Lines) != n || is.Movements[1].Lines[n-1].Line != is.Lines[n-1].ID {
		t.Fatalf("%d movements, %v, held %v", len(is.Movements), err, k.held())
	}
	if n := gets(); n > 4 {
		t.Errorf("the order is read %d times for the lines of a departure", n)
	}
}

// TestFew: however many reasons there are, some are said, and the others counted.
func TestFew(t *testing.T) {
	for _, c := range []struct {
		reasons, said int
		last          string
	}{{1, 1, "reason 0"}, {20, 20, "reason 19"}, {21, 21, "reason 20"}, {22, 21, "There are 2 further reasons like these."},
		{5000, 21, "There are 4980 further reasons like these."}} {
		var why []string
		for i := range c.reasons {
			why = append(why, fmt.Sprint("reason ", i))
		}
		if got := few(why); len(got) != c.said || got[c.said-1] != c.last {
			t.Errorf("%d reasons: %d are said, the last: %s", c.reasons, len(got), got[len(got)-1])
		}
	}
}
