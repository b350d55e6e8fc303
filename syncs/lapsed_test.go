package syncs

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"slices"
	"testing"

	"koinos/api"
)

// A list that its system forgets on the way is begun again: behind what came, if it comes
// in the order of its stamps, else from its beginning. Nothing is lost or taken twice.
func TestPullLapsed(t *testing.T) {
	if testing.Short() {
		t.Skip("it mostly waits")
	}
	calm := begin(t, shopOf(t, 200))
	calm.pull(api.NewPull{})
	want := calm.state()
	for _, c := range []struct {
		name     string
		shuffled bool  // pages come the other way round
		lapses   []int // calls whose cursor has ended
		status   int
		ends     string
	}{
		{"in order", false, []int{3}, http.StatusGone, api.PullDone},
		{"in no order", true, []int{3}, http.StatusUnprocessableEntity, api.PullDone},
		{"several times", false, []int{2, 4, 6}, http.StatusBadRequest, api.PullDone},
		{"without end", true, []int{2, 4, 6, 8, 10, 12, 14, 16}, http.StatusGone, api.PullFailed},
	} {
		t.Run(c.name, func(t *testing.T) {
			shop, calls := shopOf(t, 200), 0
			var asked []string
			o := begin(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				q := r.URL.Query()
				if calls++; slices.Contains(c.lapses, calls) && q.Get("after") != "" {
					http.Error(w, "the cursor has ended", c.status)
					return
				}
				if q.Get("after") == "" {
					asked = append(asked, q.Get("changed_since"))
				}
				if !c.shuffled {
					shop.ServeHTTP(w, r)
					return
				}
				rec := httptest.NewRecorder()
				shop.ServeHTTP(rec, r)
				var page struct {
					Orders []json.RawMessage `json:"orders"`
				}
				if err := json.Unmarshal(rec.Body.Bytes(), &page); err != nil {
					t.Error(err)
				}
				slices.Reverse(page.Orders)
				for name, v := range rec.Header() {
					w.Header()[name] = v
				}
				json.NewEncoder(w).Encode(page)
			}))
			p := o.pull(api.NewPull{})
			if p.State != c.ends {
				t.Fatalf("%s %s", figures(&p), p.Reason)
			}
			if c.ends == api.PullFailed {
				if p.Reason != "slipway has no such thing (410)." || calls != 12 {
					t.Errorf("%d calls: %s", calls, p.Reason)
				}
				return
			}
			if !slices.Equal(o.state(), want) {
				t.Errorf("the orders are others: %s", figures(&p))
			}
			if len(asked) != 1+len(c.lapses) {
				t.Errorf("it began %d times, by %q", len(asked), asked)
			}
			for _, since := range asked[1:] {
				if (since == "") != c.shuffled {
					t.Errorf("it began again at %q", since)
				}
			}
		})
	}
}
