package syncs

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"testing"

	"koinos/api"
)

// depot takes many jobs in one call; refs are unique there, and a ref that ends in 9 it refuses.
type depot struct {
	mu    sync.Mutex
	jobs  []map[string]any
	calls []string
	lose  bool // the next answer to many, after it was done
	mixed bool // the next answer to many leaves one result out
	none  bool // many are not taken at all
}

func (d *depot) make(in map[string]any) (status int, out map[string]any) {
	ref := in["ref"].(string)
	if i := slices.IndexFunc(d.jobs, func(j map[string]any) bool { return j["ref"] == ref }); i >= 0 {
		return http.StatusConflict, map[string]any{"code": "exists", "is": d.jobs[i]["id"], "message": "It is there."}
	}
	if strings.HasSuffix(ref, "9") {
		return http.StatusUnprocessableEntity, map[string]any{"code": "unlucky", "message": "No nines."}
	}
	in["id"] = 100 + len(d.jobs)
	d.jobs = append(d.jobs, in)
	return http.StatusCreated, in
}

func (d *depot) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	d.mu.Lock()
	defer d.mu.Unlock()
	w.Header().Set("Content-Type", "application/json")
	d.calls = append(d.calls, r.Method+" "+strings.TrimRight(r.URL.Path, "0123456789"))
	var in struct {
		Jobs []map[string]any
		By   string
		Job  map[string]any
	}
	if r.Method != http.MethodGet {
		if err := json.NewDecoder(r.Body).Decode(&in); err != nil {
			http.Error(w, "{}", http.StatusBadRequest)
			return
		}
	}
	switch {
	case r.Method+r.URL.Path == "POST/jobs":
		status, out := d.make(in.Job)
		w.WriteHeader(status)
		json.NewEncoder(w).Encode(out)
	case r.Method+r.URL.Path == "POST/jobs/many" && !d.none && in.By == "koinos":
		var results []map[string]any
		for _, one := range in.Jobs {
			status, out := d.make(one)
			results = append(results, map[string]any{"status": status, "job": out, "problem": out})
		}
		if d.lose {
			d.lose = false
			panic(http.ErrAbortHandler)
		}
		if d.mixed {
			d.mixed, results = false, results[1:]
		}
		w.WriteHeader(http.StatusMultiStatus)
		json.NewEncoder(w).Encode(map[string]any{"results": results})
	case r.URL.Path == "/jobs":
		json.NewEncoder(w).Encode(map[string]any{"jobs": slices.DeleteFunc(slices.Clone(d.jobs),
			func(j map[string]any) bool {
				return j["ref"] != r.URL.Query().Get("ref")
			})})
	default:
		for _, j := range d.jobs {
			if r.URL.Path == fmt.Sprintf("/jobs/%v", j["id"]) {
				maps.Copy(j, in.Job)
				json.NewEncoder(w).Encode(j)
				return
			}
		}
		http.Error(w, "{}", http.StatusNotFound)
	}
}

const depotDescription = `koinos: system/1
name: quay
address: "{env: QUAY_URL}"
limits: {rate: 1000, burst: 50, at_once: 2}
records:
  job:
    list: {path: /jobs, records: "$.jobs[*]", may_lack: true}
    get: {path: "/jobs/{key}"}
    key: $.id
    number: $.ref
    lines: $.rows[*]
    find: {ref: {parameter: ref, path: $.ref}}
    write:
      mapping: quay-jobs
      find: ref
      create: {path: /jobs, as: job}
      many: {path: /jobs/many, as: jobs, orders: 8, lines: 3, with: {$.by: koinos}, results: "$.results[*]", status: $.status, error: $.problem, record: $.job}
      change: {path: "/jobs/{key}", method: PUT, as: job}
      taken: {path: "$..code", is: exists, key: "$..is"}
`

// Many records are made in one call, each once, whatever comes of single ones and of the call.
func TestMany(t *testing.T) {
	const orders = 19 // one of the shop's twenty is withdrawn
	for _, c := range []struct {
		name  string
		set   func(*depot)
		alone bool // they go by themselves
	}{
		{"as described", func(*depot) {}, false},
		{"some are there", func(d *depot) {
			for _, ref := range []string{"SL-1001", "SL-1012"} {
				d.make(map[string]any{"ref": ref, "rows": []any{}})
			}
		}, false},
		{"an answer is lost", func(d *depot) { d.lose = true }, false},
		{"a result is missing", func(d *depot) { d.mixed = true }, false},
		{"they are not taken together", func(d *depot) { d.none = true }, true},
	} {
		t.Run(c.name, func(t *testing.T) {
			k := &keeping{books: &books{office: begin(t, shopOf(t, orders+1))}}
			d := &depot{}
			c.set(d)
			server := httptest.NewServer(d)
			t.Cleanup(server.Close)
			t.Setenv("QUAY_URL", server.URL)
			ctx := context.Background()
			_, err := k.store.PutMapping(ctx, api.Mapping{Name: "quay-jobs", Text: quayJobs})
			if err == nil {
				_, err = k.Keep(ctx, depotDescription, "test")
			}
			if err != nil {
				t.Fatal(err)
			}
			k.pull(api.NewPull{})
			k.work()
			k.keep("koinos: sync/1\nname: quay\npush: [{record: quay.job}]\n")
			r := k.run("quay")
			held := k.held()
			if len(held) != 2 || !strings.Contains(held[0], "No nines") ||
				r.Counts.Created+r.Counts.Right+r.Counts.Changed != orders-2 {
				t.Errorf("%s; held %v", counts(&r), held)
			}
			var refs []string
			for _, j := range d.jobs {
				refs = append(refs, fmt.Sprintf("%v", j["ref"]))
				if len(j["rows"].([]any)) == 0 {
					t.Errorf("%v has no rows", j["ref"])
				}
			}
			slices.Sort(refs)
			if len(slices.Compact(slices.Clone(refs))) != orders-2 || len(refs) != orders-2 {
				t.Errorf("there are %v", refs)
			}
			many, alone := 0, 0
			for _, call := range d.calls {
				many += map[bool]int{true: 1}[call == "POST /jobs/many"]
				alone += map[bool]int{true: 1}[call == "POST /jobs"]
			}
			long := 0
			for id := range int64(orders) {
				is, err := k.store.Order(ctx, id+1)
				if err != nil {
					t.Fatal(err)
				}
				long += map[bool]int{true: 1}[c.alone || len(is.Lines) > 3]
			}
			// Which go together depends on who is where; two calls are enough for all, some more may be made.
			if many < 2 || alone < long || long < 3 || many+alone > long+7 {
				t.Errorf("%d calls for many, %d alone; want some two and %d: %v", many, alone, long, d.calls)
			}
			k.run("quay")
			if again := k.held(); fmt.Sprint(again) != fmt.Sprint(held) {
				t.Errorf("again %v", again)
			}
		})
	}
}
