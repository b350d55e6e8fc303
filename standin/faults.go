package standin

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"sync"
	"time"
)

// faults makes the next answers of a system go wrong, as its admin port asks.
type faults struct {
	mu   sync.Mutex
	next fault
}

type fault struct {
	Times  int    `json:"times"`  // how many answers
	Only   string `json:"only"`   // of requests of this method; "" is any
	Status int    `json:"status"` // is answered instead
	Cut    bool   `json:"cut"`    // the answer breaks off
	Reset  bool   `json:"reset"`  // no answer, and nothing done
	Lost   bool   `json:"lost"`   // it is done, but no answer comes
	Delay  string `json:"delay"`
	Body   string `json:"body"` // a page of something that stands in between

	JSON json.RawMessage `json:"json"` // is answered instead
}

func (f *faults) set(w http.ResponseWriter, r *http.Request) {
	var asked fault
	if err := json.NewDecoder(r.Body).Decode(&asked); err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	f.mu.Lock()
	f.next = asked
	f.mu.Unlock()
	answer(w, http.StatusOK, "application/json", asked)
}

// due takes the fault that a request meets.
func (f *faults) due(r *http.Request) (now fault, is bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.next.Times == 0 || f.next.Only != "" && f.next.Only != r.Method {
		return fault{}, false
	}
	f.next.Times--
	return f.next, true
}

// pass answers a request by h, or wrongly where a fault is due.
func (f *faults) pass(w http.ResponseWriter, r *http.Request, h http.HandlerFunc,
	fail func(w http.ResponseWriter, status int, code, message string)) {
	now, is := f.due(r)
	if !is {
		h(w, r)
		return
	}
	if d, err := time.ParseDuration(now.Delay); err == nil {
		select {
		case <-time.After(d):
		case <-r.Context().Done():
			return
		}
	}
	switch {
	case now.Reset:
		panic(http.ErrAbortHandler)
	case now.Lost:
		h(httptest.NewRecorder(), r)
		panic(http.ErrAbortHandler)
	case now.Status != 0:
		fail(w, now.Status, "fault", "A fault was asked for.")
	case now.JSON != nil:
		answer(w, http.StatusOK, "application/json", now.JSON)
	case now.Body != "":
		w.Header().Set("Content-Type", "text/html")
		_, _ = w.Write([]byte(now.Body)) // whoever is gone does not miss it
	case now.Cut:
		w.Header().Set("Content-Length", "100000")
		h(w, r)
		panic(http.ErrAbortHandler)
	default:
		h(w, r)
	}
}

// answer writes a value as JSON.
func answer(w http.ResponseWriter, status int, kind string, v any) {
	b, err := json.Marshal(v)
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	w.Header().Set("Content-Type", kind)
	w.WriteHeader(status)
	_, _ = w.Write(append(b, '\n')) // whoever is gone does not miss it
}
