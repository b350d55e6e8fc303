package remote

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"sync/atomic"
	"testing"
)

// The description says what an answer means: what was surely not done is asked for again
// even where asking twice could do harm.
func TestMeanings(t *testing.T) {
	for _, c := range []struct {
		name, means  string
		status       int
		body         string
		calls        int
		kind         Kind
		says         string
		method, path string
	}{
		{"as the status says", "", 409, `{"code": "BUSY", "message": "At work."}`, 1, Never,
			"shop refuses this (409): At work.", "POST", "/o"},
		{"busy, and surely not done", "{status: 409, path: $.code, is: BUSY, means: later}", 409,
			`{"code": "BUSY", "message": "At work."}`, tries, Away, "shop refuses this (409): At work.", "POST", "/o"},
		{"another value", "{status: 409, path: $.code, is: BUSY, means: later}", 409, `{"code": "DONE"}`, 1, Never,
			"shop refuses this (409).", "POST", "/o"},
		{"stale without 412", "{status: 409, means: changed}", 409, `{}`, 1, Changed, "shop refuses this (409).",
			"PATCH", "/o"},
		{"missing with 400", "{path: $.errors.id, is: unknown, means: missing}", 400, `{"errors": {"id": "unknown"}}`,
			1,
			Missing, "shop refuses this (400): id: unknown.", "GET", "/o/9"},
		{"an outage that will not pass", "{status: 501, means: never}", 501, ``, 1, Never,
			"shop cannot answer now (501).", "GET", "/o"},
		{"another kind of body is wanted", "", 415, ``, 1, Never,
			"shop does not take application/merge-patch+json (415); " +
				"say headers: {Content-Type: …} if it wants another one.", "PATCH", "/o"},
		{"too dear", "{path: $.code, is: DEAR, means: smaller}", 422, `{"code": "DEAR", "detail": "Costs 4000."}`, 1,
			Large,
			"shop refuses this (422): Costs 4000.", "GET", "/o"},
	} {
		t.Run(c.name, func(t *testing.T) {
			var asked atomic.Int32
			errs := ""
			if c.means != "" {
				errs = "\nerrors: {means: [" + c.means + "]}"
			}
			x := begin(t, "", "largest: 1}"+errs+"\nheaders: {X: y", func(w http.ResponseWriter, _ *http.Request) {
				asked.Add(1)
				w.Header().Set("Content-Type", "application/json")
				w.WriteHeader(c.status)
				io.WriteString(w, c.body)
			})
			_, err := x.Do(context.Background(), Request{Method: c.method, Address: x.Base() + c.path,
				Body: []byte(`{}`)})
			var p *Problem
			if !errors.As(err, &p) || p.Kind != c.kind || p.Error() != c.says || int(asked.Load()) != c.calls {
				t.Errorf("%d calls, %+v", asked.Load(), err)
			}
		})
	}
}

// Answers of systems that are careless with types and marks are read, as far as it is sure
// what they mean.
func TestCareless(t *testing.T) {
	for _, c := range []struct {
		name, more, kind, body string
		status                 int
		want, err              string
	}{
		{"a byte order mark", "", "application/json", "\ufeff{}", 200, "{}", ""},
		{"nothing to say", "", "", "", 204, "", ""},
		{"JSON as text", "", "text/plain", "{}", 200, "",
			`shop's answer is not JSON but "text/plain". If it is JSON all the same, say answers: any.`},
		{"JSON as text, known", "\nanswers: any", "text/plain", "{}", 200, "{}", ""},
		{"a page all the same", "\nanswers: any", "text/html", "<html>", 200, "",
			"shop's answer is cut short or not JSON."},
	} {
		x := begin(t, "", "largest: 1}"+c.more+"\nheaders: {X: y", func(w http.ResponseWriter, _ *http.Request) {
			if c.kind != "" {
				w.Header().Set("Content-Type", c.kind)
			}
			w.WriteHeader(c.status)
			io.WriteString(w, c.body)
		})
		got, err := x.get()
		if said := fmt.Sprint(err); c.err == "" && err != nil || c.err != "" && said != c.err || got != c.want {
			t.Errorf("%s: %q, %v", c.name, got, err)
		}
	}
}

// What the description says of headers goes before what is usual, and each call has an id
// of its own.
func TestHeaders(t *testing.T) {
	var got []http.Header
	x := begin(t, "", "largest: 1}\nheaders: {Content-Type: application/vnd.api+json, accept: "+
		"application/vnd.api+json, X-Tenant: 7",
		func(w http.ResponseWriter, r *http.Request) {
			got = append(got, r.Header)
			answer(w, "{}")
		})
	for _, r := range []Request{{Method: "GET", Address: x.Base() + "/o"},
		{Method: "PATCH", Address: x.Base() + "/o", Body: []byte("{}"), Match: `"e1"`}} {
		if _, err := x.Do(context.Background(), r); err != nil {
			t.Fatal(err)
		}
	}
	for i, want := range []map[string]string{
		{"Accept": "application/vnd.api+json", "Content-Type": "", "X-Tenant": "7", "If-Match": ""},
		{"Accept": "application/vnd.api+json", "Content-Type": "application/vnd.api+json", "X-Tenant": "7",
			"If-Match": `"e1"`},
	} {
		for name, v := range want {
			if got[i].Get(name) != v {
				t.Errorf("call %d has %s: %s, want %s", i+1, name, got[i].Get(name), v)
			}
		}
		if id := got[i].Get("X-Request-Id"); len(id) != 16 || id != x.calls[i].ID {
			t.Errorf("call %d has the id %q and is seen as %q", i+1, id, x.calls[i].ID)
		}
	}
	if got[0].Get("X-Request-Id") == got[1].Get("X-Request-Id") {
		t.Error("two calls have one id")
	}
}
