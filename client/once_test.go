package client

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"testing"

	"koinos/api"
)

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
		return func(w http.ResponseWriter) {
			w.Header().Set("Content-Type", "application/problem+json")
			w.WriteHeader(status)
			fmt.Fprintf(w, `{"code": %q, "status": %d}`, code, status)
		}
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
