package client

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"koinos/api"
)

// refuse answers with a problem.
func refuse(w http.ResponseWriter, status int, code string) {
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(status)
	fmt.Fprintf(w, `{"code": %q, "status": %d}`, code, status)
}

// What must be done once has a key, and comes again under it while its answer may be lost; what was answered does not
// come again, and each call has a key of its own.
func TestOnce(t *testing.T) {
	drop := func(w http.ResponseWriter) {
		conn, _, err := w.(http.Hijacker).Hijack()
		if err != nil {
			t.Error(err)
			return
		}
		conn.Close()
	}
	problem := func(status int, code string) func(http.ResponseWriter) {
		return func(w http.ResponseWriter) { refuse(w, status, code) }
	}
	for _, c := range []struct {
		name  string
		first func(http.ResponseWriter)
		calls int
		code  string
	}{
		{"the answer is lost", drop, 2, ""},
		{"it is still being answered", problem(409, "key_in_use"), 2, ""},
		{"the service stops", problem(503, "stopping"), 2, ""},
		{"it is refused", problem(422, "order_refused"), 1, "order_refused"},
	} {
		var keys []string
		calls := serve(t, func(w http.ResponseWriter, r *http.Request) {
			if keys = append(keys, r.Header.Get("Idempotency-Key")); len(keys) == 1 {
				c.first(w)
				return
			}
			fmt.Fprint(w, `{"outcome": "changed", "revision": 7}`)
		})
		p, err := calls.Tell(context.Background(), 3, "shipments", api.Notice{}, Told{})
		code := ""
		if is := (*api.Problem)(nil); errors.As(err, &is) {
			code = is.Code
		} else if err != nil || p.Revision != 7 {
			t.Errorf("%s: %+v %v", c.name, p, err)
		}
		if code != c.code || len(keys) != c.calls || len(keys[0]) < 20 || strings.Count(strings.Join(keys, " "), keys[0]) != c.calls {
			t.Errorf("%s: %q after %d calls under %q", c.name, code, len(keys), keys)
		}
		before := keys[0]
		keys = []string{""}
		if _, err := calls.Tell(context.Background(), 3, "shipments", api.Notice{}, Told{}); err != nil || len(keys) != 2 || keys[1] == before {
			t.Errorf("%s: the next has the key %q: %v", c.name, keys, err)
		}
	}
}

// A file whose sending breaks off is sent once more from its beginning; one that is refused is not, and a service that
// was never there is not waited for.
func TestUpload(t *testing.T) {
	whole := strings.Repeat("SO-1,0012,2,9.50\n", 100_000)
	drop := func(w http.ResponseWriter, r *http.Request) {
		if _, err := io.CopyN(io.Discard, r.Body, 1000); err != nil {
			t.Error(err)
		}
		panic(http.ErrAbortHandler)
	}
	for _, c := range []struct {
		name  string
		first http.HandlerFunc
		calls int
		code  string
	}{
		{"it breaks off", drop, 2, ""},
		{"the service stops", func(w http.ResponseWriter, r *http.Request) { refuse(w, 503, "stopping") }, 2, ""},
		{"it is refused", func(w http.ResponseWriter, r *http.Request) { refuse(w, 413, "too_large") }, 1, "too_large"},
	} {
		var names []string
		got := ""
		calls := serve(t, func(w http.ResponseWriter, r *http.Request) {
			if names = append(names, r.URL.Query().Get("name")); len(names) == 1 {
				c.first(w, r)
				return
			}
			b, err := io.ReadAll(r.Body)
			if err != nil {
				t.Error(err)
			}
			got = string(b)
			fmt.Fprint(w, `{"sha": "5d", "items": [{"id": 7}]}`)
		})
		for _, send := range []func(io.ReadSeeker) error{
			func(f io.ReadSeeker) error {
				d, err := calls.SendDocument(context.Background(), "week 12.csv", f)
				if err == nil && d.SHA != "5d" {
					t.Errorf("%s: %+v", c.name, d)
				}
				return err
			},
			func(f io.ReadSeeker) error {
				came, err := calls.ReceiveInterchange(context.Background(), "week 12.csv", f)
				if err == nil && (len(came) != 1 || came[0].ID != 7) {
					t.Errorf("%s: %+v", c.name, came)
				}
				return err
			},
		} {
			names, got = nil, ""
			err, code := send(strings.NewReader(whole)), ""
			if is := (*api.Problem)(nil); errors.As(err, &is) {
				code = is.Code
			} else if err != nil || got != whole {
				t.Errorf("%s: %d bytes came of %d: %v", c.name, len(got), len(whole), err)
			}
			if code != c.code || len(names) != c.calls || names[len(names)-1] != "week 12.csv" {
				t.Errorf("%s: %q after %q", c.name, code, names)
			}
		}
	}
	gone := New("127.0.0.1:1", "")
	gone.patience = time.Hour
	if _, err := gone.SendDocument(context.Background(), "a.csv", strings.NewReader(whole)); !errors.Is(err, ErrAway) {
		t.Errorf("a service that was never there: %v", err)
	}
}
