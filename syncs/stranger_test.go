package syncs

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"

	"koinos/api"
)

// yard is a system with other habits than the stand-ins: it is searched by POST, its pages
// may hold five, its bodies are wrapped, versions stand in what is sent, a stale one is
// answered 409, and everything that is written is refused once because it is busy.
type yard struct {
	mu    sync.Mutex
	jobs  []*yardJob
	next  int64
	busy  map[string]bool // by what was asked: it was refused once
	stale int             // so many changes find another version than they name
	calls []string
}

type yardJob struct {
	ID    int64      `json:"id"`
	Rev   int        `json:"rev"`
	Ref   string     `json:"ref"`
	Day   string     `json:"day"`
	Owner string     `json:"owner"`
	State string     `json:"state"`
	Rows  []*yardRow `json:"rows"`
}

type yardRow struct {
	Row int64       `json:"row"`
	Rev int         `json:"rev"`
	Pos string      `json:"pos"`
	SKU string      `json:"sku"`
	Qty json.Number `json:"qty"`
}

const yardDescription = `koinos: system/1
name: yard
address: "{env: YARD_URL}"
auth: {header: {name: Authorization, value: {env: YARD_KEY}, prefix: Token}}
limits: {rate: 1000, burst: 50}
errors:
  means:
    - {status: 409, path: "$.errors[*].code", is: STALE, means: changed}
    - {status: 409, path: "$.errors[*].code", is: BUSY, means: later}
    - {path: "$.errors[*].code", is: PAGE_TOO_BIG, means: smaller}
records:
  job:
    list:
      path: /search
      method: POST
      query: {page.size: "50"}
      size: page.size
      may_lack: true
      records: $.data[*]
      paging: {cursor: {parameter: page.after, from: $.meta.after}}
    get: {path: "/jobs/{key}", record: $.data}
    key: $.id
    number: $.ref
    version: $.rev
    lines: $.rows[*]
    mapping: yard-jobs
    find: {ref: {parameter: filter.ref, path: $.ref}}
    write:
      mapping: yard-jobs
      find: ref
      create: {path: /jobs, as: data, lines: 0, record: $.data, with: {$.data.type: job, $.quiet: true}}
      change: {path: /jobs/change, method: POST, as: data, with: {$.data.id: "{key}", $.rev: "{version}"}}
      taken: {path: "$.errors[*].code", is: TAKEN, key: "$.errors[0].id"}
      lines:
        match: $.pos
        key: $.row
        version: $.rev
        add: {path: /rows, with: {$.job: "{key}"}}
        change: {path: "/rows/{line}", method: POST, with: {$.rev: "{version}"}}
        remove: {path: /rows/drop, method: POST, with: {$.row: "{line}"}}
      acts:
        - {act: scrap, path: "/jobs/{key}/scrap", with: {$.why: 7}, when: cancelled, while: {path: $.state, is: [open]}}
`

const yardMapping = `koinos: mapping/1
name: yard-jobs
document: {format: ndjson}
orders:
  kind: sales
  group: {by: path, path: "$"}
  parts:
    lines: {each: "$.rows[*]"}
  again: {do: update, lines: sender_line, missing: close}
header:
  sender_number: {from: $.ref, need: must}
  partner:       {value: SLIPWAY}
  ordered_on:    {from: $.day}
  buyer.name:    {from: $.owner}
lines:
  sender_line: {from: $.pos, need: must}
  item:        {from: $.sku, need: must}
  quantity:    {from: $.qty, need: must}
`

func (y *yard) refuse(w http.ResponseWriter, status int, code string, id int64) {
	w.WriteHeader(status)
	fmt.Fprintf(w, `{"errors": [{"code": %q, "detail": "%s.", "id": %d}]}`, code, strings.ToLower(code), id)
}

func (y *yard) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	y.mu.Lock()
	defer y.mu.Unlock()
	w.Header().Set("Content-Type", "application/vnd.yard+json; charset=utf-8")
	if r.Header.Get("Authorization") != "Token drydock" {
		y.refuse(w, http.StatusUnauthorized, "WHO", 0)
		return
	}
	var in struct {
		Filter struct{ Ref string }
		Page   struct {
			Size  int
			After string
		}
		Data struct {
			ID              int64
			Type            string
			Ref, Day, Owner *string
		}
		Rev, Why, Row, Job int64
		Pos, SKU           string
		Qty                json.Number
		Quiet              bool
	}
	if r.Method == http.MethodPost {
		if err := json.NewDecoder(r.Body).Decode(&in); err != nil {
			y.refuse(w, http.StatusBadRequest, "JSON", 0)
			return
		}
	}
	asked := r.Method + " " + r.URL.Path
	if y.calls = append(y.calls, asked); r.Method == http.MethodPost && asked != "POST /search" && !y.busy[asked] {
		y.busy[asked] = true
		y.refuse(w, http.StatusConflict, "BUSY", 0)
		return
	}
	parts := strings.Split(strings.Trim(r.URL.Path, "/"), "/")
	id := int64(0)
	if len(parts) > 1 {
		id, _ = strconv.ParseInt(parts[1], 10, 64)
	}
	job := func(id int64) *yardJob {
		if i := slices.IndexFunc(y.jobs, func(j *yardJob) bool { return j.ID == id }); i >= 0 {
			return y.jobs[i]
		}
		return nil
	}
	row := func(id int64) (*yardJob, int) {
		for _, j := range y.jobs {
			if i := slices.IndexFunc(j.Rows, func(r *yardRow) bool { return r.Row == id }); i >= 0 {
				return j, i
			}
		}
		return nil, 0
	}
	data := any(nil)
	switch j := job(max(id, in.Data.ID, in.Job)); {
	case asked == "POST /search":
		if in.Page.Size > 5 {
			y.refuse(w, http.StatusUnprocessableEntity, "PAGE_TOO_BIG", 0)
			return
		}
		from, _ := strconv.Atoi(in.Page.After)
		all := slices.DeleteFunc(slices.Clone(y.jobs), func(j *yardJob) bool {
			return in.Filter.Ref != "" && !strings.HasPrefix(j.Ref, in.Filter.Ref)
		})
		to, after := min(from+in.Page.Size, len(all)), ""
		if to < len(all) {
			after = strconv.Itoa(to)
		}
		json.NewEncoder(w).Encode(map[string]any{"data": all[from:to], "meta": map[string]string{"after": after}})
		return
	case asked == "POST /jobs":
		if in.Data.Type != "job" || !in.Quiet {
			y.refuse(w, http.StatusUnprocessableEntity, "TYPE", 0)
			return
		}
		if i := slices.IndexFunc(y.jobs, func(j *yardJob) bool { return j.Ref == *in.Data.Ref }); i >= 0 {
			y.refuse(w, http.StatusConflict, "TAKEN", y.jobs[i].ID)
			return
		}
		y.next++
		j = &yardJob{ID: 9007199254740000 + y.next, Rev: 1, State: "open", Rows: []*yardRow{}}
		y.jobs = append(y.jobs, j)
		j.Ref, j.Day, j.Owner, data = *in.Data.Ref, *in.Data.Day, *in.Data.Owner, j
	case asked == "POST /jobs/change" && j != nil:
		if y.stale > 0 {
			y.stale--
			j.Rev++
		}
		if in.Rev != int64(j.Rev) {
			y.refuse(w, http.StatusConflict, "STALE", 0)
			return
		}
		for to, v := range map[*string]*string{&j.Ref: in.Data.Ref, &j.Day: in.Data.Day, &j.Owner: in.Data.Owner} {
			if v != nil {
				*to = *v
			}
		}
		j.Rev++
	case asked == "POST /rows" && j != nil:
		y.next++
		j.Rows = append(j.Rows, &yardRow{Row: y.next, Rev: 1, Pos: in.Pos, SKU: in.SKU, Qty: in.Qty})
	case asked == "POST /rows/drop":
		if j, i := row(in.Row); j != nil {
			j.Rows = slices.Delete(j.Rows, i, i+1)
		}
	case parts[0] == "rows":
		j, i := row(id)
		if j == nil || in.Rev != int64(j.Rows[i].Rev) {
			y.refuse(w, http.StatusConflict, "STALE", 0)
			return
		}
		if in.Qty != "" {
			j.Rows[i].Qty = in.Qty
		}
		j.Rows[i].Rev++
	case len(parts) == 3 && parts[2] == "scrap" && j != nil && in.Why == 7:
		j.State = "scrapped"
	case r.Method == http.MethodGet && j != nil:
		data = j
	default:
		y.refuse(w, http.StatusNotFound, "NONE", 0)
		return
	}
	json.NewEncoder(w).Encode(map[string]any{"data": data})
}

// state is what the yard has, a line each.
func (y *yard) state() (all []string) {
	for _, j := range y.jobs {
		text := fmt.Sprintf("%s %s %s %s", j.Ref, j.Day, j.Owner, j.State)
		for _, r := range j.Rows {
			text += fmt.Sprintf(" %s:%s×%s", r.Pos, r.Qty, r.SKU)
		}
		all = append(all, text)
	}
	return all
}

// A system of a stranger is written and read by its description alone.
func TestStranger(t *testing.T) {
	b := withBooks(t, 12)
	y := &yard{busy: map[string]bool{}}
	server := httptest.NewServer(y)
	t.Cleanup(server.Close)
	t.Setenv("YARD_URL", server.URL)
	t.Setenv("YARD_KEY", "drydock")
	ctx := context.Background()
	if _, err := b.store.PutMapping(ctx, api.Mapping{Name: "yard-jobs", Text: yardMapping}); err != nil {
		t.Fatal(err)
	}
	if _, err := b.Keep(ctx, yardDescription, "test"); err != nil {
		t.Fatal(err)
	}
	push := func(order string) api.Push {
		t.Helper()
		p, err := b.Push(ctx, "yard", api.NewPush{Record: "job", Order: order}, "test")
		if err != nil || p.State != api.PushDone {
			t.Fatalf("%+v, %v", p, err)
		}
		return p
	}
	does := func(p api.Push) (all []string) {
		for _, s := range p.Steps {
			all = append(all, s.Does)
		}
		return all
	}
	first := push("SO-000001")
	if want := []string{"create it", "add line 1"}; !reflect.DeepEqual(does(first)[:2], want) {
		t.Errorf("the first push does %q", does(first))
	}
	for i := range 11 {
		push(fmt.Sprintf("SO-%06d", i+2))
	}
	was := y.state()
	if again := push("SO-000001"); len(again.Steps) != 0 {
		t.Errorf("pushed again it does %q", does(again))
	}

	// Somebody changes what is there, and while we change it back.
	y.jobs[0].Owner, y.jobs[0].Rows[0].Qty, y.stale = "Nobody", "77", 1
	y.jobs[0].Rows = append(y.jobs[0].Rows, &yardRow{Row: 900, Rev: 1, Pos: "99", SKU: "x", Qty: "1"})
	fixed := push("SO-000001")
	if want := []string{"change owner", "remove line 99", "change line 1: qty"}; !reflect.DeepEqual(does(fixed),
		want) {
		t.Errorf("it fixes by %q", does(fixed))
	}
	if got := y.state(); !reflect.DeepEqual(got, was) {
		t.Errorf("the yard has\n%q\nwant\n%q", got, was)
	}

	// What the yard has comes back as it is there, in pages of which none is too big.
	y.jobs = append(y.jobs, &yardJob{ID: 7, Rev: 1, Ref: "OWN-1", Day: "2026-03-04", Owner: "Ida", State: "open",
		Rows: []*yardRow{{Row: 901, Rev: 1, Pos: "1", SKU: "00101", Qty: "2.5"}}})
	y.calls = nil
	p, err := b.Start(ctx, "yard", api.NewPull{Record: "job"}, "test")
	if err == nil {
		p, err = b.Wait(ctx, p.ID)
	}
	if err != nil || p.State != api.PullDone || p.Records != 13 || p.Failed != 0 {
		t.Fatalf("%+v, %v", p, err)
	}
	// 50, 25, 12 and 6 are too many; then they come by threes.
	if want := slices.Repeat([]string{"POST /search"}, 4+5); !reflect.DeepEqual(y.calls, want) {
		t.Errorf("it asked %q", y.calls)
	}
	if own, err := b.store.FindOrder(ctx, "SO-000013"); err != nil || own == 0 {
		t.Errorf("the yard's own job is not an order: %v", err)
	}
}
