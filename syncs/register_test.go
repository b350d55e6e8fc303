package syncs

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"

	"koinos/api"
)

// Our address is registered once, whatever happens; a secret that the system gives goes
// into its file, and nowhere else.
func TestRegister(t *testing.T) {
	dir := t.TempDir()
	for _, c := range []struct {
		name, register, secret string
		lost                   bool // the first answer
		want                   []string
		keeps                  string // what the secret's file has then
	}{
		{"listed", `{path: /hooks, with: {$.to: "{url}", $.key: "{secret}"}, list: {path: /hooks, records: "$.hooks[*]"}, url: $.to}`,
			"env: DESK_SECRET", false, []string{`POST {"to":"URL","key":"s3cret"}`}, ""},
		{"listed, and the answer is lost",
			`{path: /hooks, with: {$.to: "{url}", $.key: "{secret}"}, list: {path: /hooks, records: "$.hooks[*]"}, url: $.to}`,
			"env: DESK_SECRET", true, []string{`POST {"to":"URL","key":"s3cret"}`}, ""},
		{"remembered, with a secret of theirs",
			`{path: /hooks, as: hook, with: {$.hook.to: "{url}", $.all: true}, secret: $.key}`,
			"file: " + filepath.Join(dir, "desk"), false, []string{`POST {"hook":{"to":"URL"},"all":true}`},
			"theirs\n"},
	} {
		t.Run(c.name, func(t *testing.T) {
			var mu sync.Mutex
			var asked, hooks []string
			server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				mu.Lock()
				defer mu.Unlock()
				w.Header().Set("Content-Type", "application/json")
				if r.Method == http.MethodGet {
					fmt.Fprintf(w, `{"hooks": [%s]}`, strings.Join(hooks, ","))
					return
				}
				var body json.RawMessage
				if err := json.NewDecoder(r.Body).Decode(&body); err != nil {
					t.Error(err)
				}
				asked, hooks = append(asked, "POST "+string(body)), append(hooks, string(body))
				if c.lost && len(asked) == 1 {
					panic(http.ErrAbortHandler)
				}
				fmt.Fprint(w, `{"key": "theirs"}`)
			}))
			defer server.Close()
			t.Setenv("DESK_URL", server.URL)
			t.Setenv("DESK_SECRET", "s3cret")
			o := begin(t, shopOf(t, 1))
			description := `koinos: system/1
name: desk
address: "{env: DESK_URL}"
limits: {rate: 1000, burst: 50}
hooks:
  signature: {token: {header: X-Key, secret: {` + c.secret + `}}}
  register: ` + c.register + `
  events: {"*": {record: order, key: $.id}}
records:
  order: {list: {path: /o, records: "$[*]"}, get: {path: "/o/{key}"}, key: $.id, mapping: slipway-orders}
`
			keep := func() {
				t.Helper()
				if _, err := o.Keep(t.Context(), description, "test"); err != nil {
					t.Fatal(err)
				}
			}
			keep()
			if _, err := o.Register(t.Context(), "desk"); err == nil || err.Error() !=
				"desk cannot reach this service: say its address with koinos serve --outside https://…." {
				t.Errorf("without an address of ours: %v", err)
			}
			o.Outside("http://127.0.0.1:8740")
			for i := range 3 {
				got, err := o.Register(t.Context(), "desk")
				if want := (api.Registered{URL: "http://127.0.0.1:8740/hooks/desk", There: i > 0}); err != nil ||
					got != want {
					t.Errorf("attempt %d: %+v, %v", i+1, got, err)
				}
				description += "# another version\n"
				keep()
			}
			for i := range asked {
				asked[i] = strings.Replace(asked[i], "http://127.0.0.1:8740/hooks/desk", "URL", 1)
			}
			if !slices.Equal(asked, c.want) {
				t.Errorf("asked %q, want %q", asked, c.want)
			}
			if c.keeps != "" {
				b, err := os.ReadFile(filepath.Join(dir, "desk"))
				info, _ := os.Stat(filepath.Join(dir, "desk"))
				if err != nil || string(b) != c.keeps || info.Mode().Perm() != 0o600 {
					t.Errorf("the secret's file has %q, %v", b, err)
				}
			}
		})
	}
}
