package e2e

import (
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"
)

// depot takes many jobs in one call, knows each by its reference, and forgets nothing.
type depot struct {
	mu   sync.Mutex
	jobs []*job
	many int // calls that brought several
}

type job struct {
	ID    int    `json:"id"`
	Ref   string `json:"ref"`
	State string `json:"state"`
	Rows  []struct {
		Pos string      `json:"pos"`
		SKU string      `json:"sku"`
		Qty json.Number `json:"qty"`
	} `json:"rows"`
}

func (d *depot) add(in job) map[string]any {
	if i := slices.IndexFunc(d.jobs, func(j *job) bool { return j.Ref == in.Ref }); i >= 0 {
		return map[string]any{"status": 409, "code": "exists", "is": d.jobs[i].ID}
	}
	in.ID, in.State = 100+len(d.jobs), "open"
	d.jobs = append(d.jobs, &in)
	return map[string]any{"status": 201, "job": in}
}

func (d *depot) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	d.mu.Lock()
	defer d.mu.Unlock()
	w.Header().Set("Content-Type", "application/json")
	var in struct {
		Jobs []job
		job
	}
	if r.Method != http.MethodGet && r.ContentLength != 0 {
		if err := json.NewDecoder(r.Body).Decode(&in); err != nil {
			http.Error(w, "{}", http.StatusBadRequest)
			return
		}
	}
	key, act, _ := strings.Cut(strings.TrimPrefix(r.URL.Path, "/jobs/"), "/")
	i := slices.IndexFunc(d.jobs, func(j *job) bool { return fmt.Sprint(j.ID) == key })
	switch {
	case r.Method+r.URL.Path == "POST/jobs/many":
		results := []any{}
		for _, one := range in.Jobs {
			results = append(results, d.add(one))
		}
		d.many += min(1, len(in.Jobs)-1)
		json.NewEncoder(w).Encode(map[string]any{"results": results})
	case r.Method+r.URL.Path == "POST/jobs":
		out := d.add(in.job)
		w.WriteHeader(out["status"].(int))
		json.NewEncoder(w).Encode(out)
	case r.URL.Path == "/jobs":
		all := []*job{}
		for _, j := range d.jobs {
			if j.Ref == r.URL.Query().Get("ref") {
				all = append(all, j)
			}
		}
		json.NewEncoder(w).Encode(map[string]any{"jobs": all})
	case i < 0:
		http.Error(w, "{}", http.StatusNotFound)
	case act == "cancel":
		d.jobs[i].State = "cancelled"
		json.NewEncoder(w).Encode(d.jobs[i])
	default:
		if r.Method == http.MethodPut {
			d.jobs[i].Rows = in.Rows
		}
		json.NewEncoder(w).Encode(d.jobs[i])
	}
}

// state is what the depot has, a line each.
func (d *depot) state() (lines []string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, j := range d.jobs {
		line := "job " + j.Ref + " " + j.State
		for _, r := range j.Rows {
			line += fmt.Sprintf(" %s:%s×%s", r.Pos, r.SKU, r.Qty)
		}
		lines = append(lines, line)
	}
	return lines
}

const depotDescription = `koinos: system/1
name: depot
address: "{env: DEPOT_URL}"
limits: {rate: 5000, burst: 50}
records:
  job:
    list: {path: /jobs, records: "$.jobs[*]"}
    get: {path: "/jobs/{key}"}
    key: $.id
    number: $.ref
    lines: $.rows[*]
    find: {ref: {parameter: ref, path: $.ref}}
    write:
      mapping: depot-jobs
      find: ref
      create: {path: /jobs, record: $.job}
      many: {path: /jobs/many, as: jobs, orders: 5, results: "$.results[*]", status: $.status, record: $.job}
      change: {path: "/jobs/{key}", method: PUT}
      taken: {path: $.code, is: exists, key: $.is}
      acts: [{act: cancel, path: "/jobs/{key}/cancel", when: cancelled, while: {path: $.state, is: open}}]
`

const depotMapping = `koinos: mapping/1
name: depot-jobs
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

// picked are the orders that stand in files for a yard, each as often as it does.
func picked(t *testing.T, folder string) (lines []string) {
	t.Helper()
	files, err := filepath.Glob(filepath.Join(folder, "to-yard", "*"))
	hidden, failed := filepath.Glob(filepath.Join(folder, "to-yard", ".*"))
	if err != nil || failed != nil {
		t.Fatal(err, failed)
	}
	for _, name := range append(files, hidden...) {
		text, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		if !strings.HasPrefix(filepath.Base(name), "PCK-") { // what a writer left that was killed
			continue
		}
		for _, m := range regexp.MustCompile(`PCK\+(SL-\d+)\+`).FindAllStringSubmatch(string(text), -1) {
			lines = append(lines, "pick "+m[1])
		}
	}
	return lines
}
