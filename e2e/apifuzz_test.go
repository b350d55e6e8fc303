package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"io/fs"
	"math"
	"math/rand/v2"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/getkin/kin-openapi/openapi3"

	"koinos/demo"
)

var apiCalls = flag.Int("api-calls", 1_500, "how many calls TestAPIFuzz makes")

// mostResident is what a service may take whatever callers ask of it, in KiB.
const mostResident = 512 << 10

// caller makes calls that are as the API's description says, nearly so, or not at all.
type caller struct {
	*rand.Rand
	texts []string // documents, mappings, partners and the like: for bodies
	ids   []string // what is there, by name or number
}

// odd are texts of which programs make something else.
var odd = []string{"", " ", "0", "-1", "9223372036854775808", "1e309", "NaN", "null", "true", "../../etc/passwd", "%00",
	"\x00",
	"'; --", "<script>alert(1)</script>", "=1+1", "é\u0301", "\u202e", strings.Repeat("x", 300), "2026-02-30", "*", "[",
	"{{", "${HOME}"}

func (c *caller) one(list []string) string { return list[c.IntN(len(list))] }

func (c *caller) text() string {
	if c.IntN(3) > 0 {
		return c.one(c.ids)
	}
	return c.one(odd)
}

// value is one of a schema, which may be wrong.
func (c *caller) value(s *openapi3.Schema, depth int) any {
	if s == nil || depth > 6 || c.IntN(25) == 0 { // something else
		return []any{nil, c.text(), c.IntN(10), []any{}, map[string]any{}, true, math.MaxInt64, 1e300}[c.IntN(8)]
	}
	if len(s.Enum) > 0 && c.IntN(10) > 0 {
		return s.Enum[c.IntN(len(s.Enum))]
	}
	switch {
	case s.Type.Includes("integer"):
		return []any{c.IntN(20), c.IntN(20), c.IntN(5_000), -1, 0, math.MaxInt64, math.MinInt64, 1 << 31}[c.IntN(8)]
	case s.Type.Includes("number"):
		return []any{c.Float64(), -1e308, 0}[c.IntN(3)]
	case s.Type.Includes("boolean"):
		return c.IntN(2) == 0
	case s.Type.Includes("array"):
		list := []any{}
		for range c.IntN(4) {
			list = append(list, c.value(s.Items.Value, depth+1))
		}
		return list
	case s.Type.Includes("object"):
		o := map[string]any{}
		for name, p := range s.Properties {
			if c.IntN(3) > 0 || slices.Contains(s.Required, name) && c.IntN(20) > 0 {
				o[name] = c.value(p.Value, depth+1)
			}
		}
		if c.IntN(20) == 0 {
			o[c.text()] = c.text()
		}
		return o
	case s.Format == "date-time":
		return c.one([]string{"2026-03-02T08:00:00Z", "0000-00-00T00:00:00Z", "yesterday"})
	case s.Format == "uri":
		return "http://127.0.0.1:9/" + url.PathEscape(c.text())
	}
	return c.text()
}

// request makes a call of an operation.
func (c *caller) request(base, method, path string, o *openapi3.Operation) (*http.Request, string, error) {
	query := url.Values{}
	for _, p := range o.Parameters {
		v := fmt.Sprint(c.value(p.Value.Schema.Value, 0))
		switch p.Value.In {
		case "path":
			if c.IntN(3) > 0 {
				v = c.one(c.ids)
			}
			path = strings.ReplaceAll(path, "{"+p.Value.Name+"}", url.PathEscape(v))
		case "query":
			if c.IntN(3) == 0 || p.Value.Required {
				query.Set(p.Value.Name, v)
			}
		}
	}
	var body []byte
	kind := ""
	if o.RequestBody != nil && c.IntN(30) > 0 {
		content := o.RequestBody.Value.Content
		kinds := make([]string, 0, len(content))
		for k := range content {
			kinds = append(kinds, k)
		}
		slices.Sort(kinds)
		switch kind = c.one(kinds); {
		case strings.HasSuffix(kind, "json") && content[kind].Schema != nil && c.IntN(12) > 0:
			body, _ = json.Marshal(c.value(content[kind].Schema.Value, 0))
		case kind == "multipart/form-data":
			kind += "; boundary=b"
			body = fmt.Appendf(nil,
				"--b\r\nContent-Disposition: form-data; name=\"file\"; filename=%q\r\n\r\n%s\r\n--b\r\n"+
					"Content-Disposition: form-data; name=\"mapping\"\r\n\r\n%s\r\n--b--\r\n", c.text(), c.one(c.texts),
				c.text())
		default:
			body = []byte(c.one(c.texts))
		}
		if len(body) > 0 && c.IntN(12) == 0 {
			body = body[:c.IntN(len(body))]
		}
	}
	if c.IntN(200) == 0 {
		path += "/" + strings.Repeat("x", 20_000)
	}
	req, err := http.NewRequest(method, base+path, bytes.NewReader(body))
	if err != nil {
		return nil, "", err
	}
	req.URL.RawQuery = query.Encode()
	if kind != "" {
		req.Header.Set("Content-Type", kind)
	}
	if c.IntN(10) == 0 {
		req.Header.Set("Idempotency-Key", strconv.Itoa(c.IntN(5)))
	}
	return req, string(body), nil
}

// bombs are bodies that cost more than they look.
func bombs() []string {
	deep := func(open, end string, n int) string { return strings.Repeat(open, n) + strings.Repeat(end, n) }
	aliases := "koinos: mapping/1\na: &a [x,x,x,x,x,x,x,x,x]\n"
	for i := 'b'; i < 'k'; i++ {
		aliases += fmt.Sprintf("%c: &%c [%s]\n", i, i, strings.TrimSuffix(strings.Repeat(fmt.Sprintf("*%c,", i-1), 9),
			","))
	}
	wide := "a" + strings.Repeat(",b", 16_000) + "\n"
	return []string{deep("[", "]", 100_000), deep(`{"a":`, "}", 50_000),
		"koinos: mapping/1\nx: " + deep("[", "]", 20_000),
		"koinos: partner/1\nsets: " + deep("{a: ", "}", 20_000), "koinos: sync/1\n" + deep("- ", "", 20_000), aliases,
		wide + strings.Repeat(strings.Repeat("1,", 16_000)+"\n", 60), strings.Repeat("ISA*", 50_000),
		strings.Repeat("\n", 1<<20),
		"koinos: mapping/1\nlines: {item: {expr: '" + deep("(", ")", 20_000) + "'}}\n"}
}

// Whatever is asked of the API, with any token or none: it answers, never by mistake, never with more memory
// than it may take, and is there for others meanwhile.
func TestAPIFuzz(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	s := start(t, data, "demo")
	spec, err := openapi3.NewLoader().LoadFromFile("../docs/openapi.json")
	if err != nil {
		t.Fatal(err)
	}
	texts := bombs()
	if err := fs.WalkDir(demo.Files, ".", func(name string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		b, err := demo.Files.ReadFile(name)
		if len(b) < 200_000 {
			texts = append(texts, string(b))
		}
		return err
	}); err != nil {
		t.Fatal(err)
	}
	ids := []string{"1", "2", "3", "7", "99", "ostrand-weekly", "PELLOW", "VARNHOLT", "items", "customers", "x12-units",
		"unit-words",
		"slipway", "ledgerline", "slipway-ledgerline", "SO-000001", "PM-4801"}
	for _, path := range []string{"/documents", "/mappings", "/sequences"} {
		_, body := s.do("GET", "/api/v1"+path, "")
		var page struct{ Items []map[string]any }
		if err := json.Unmarshal([]byte(body), &page); err != nil {
			t.Fatal(err)
		}
		for _, i := range page.Items {
			for _, name := range []string{"sha", "name"} {
				if v, ok := i[name].(string); ok {
					ids = append(ids, v)
				}
			}
		}
	}
	type operation struct {
		method, path string
		*openapi3.Operation
	}
	var all []operation
	for path, item := range spec.Paths.Map() {
		for method, o := range item.Operations() {
			// These make or end what the test itself goes by.
			if o.OperationID != "revoke-token" && o.OperationID != "watch-load" {
				all = append(all, operation{method, path, o})
			}
		}
	}
	slices.SortFunc(all, func(a, b operation) int { return strings.Compare(a.method+a.path, b.method+b.path) })
	tokens := []string{"local", "none"}
	for _, scope := range []string{"read", "load", "admin"} {
		out, errOut, code := s.koinos("token", "create", "--name", "fuzz-"+scope, "--scope", scope, "--output", "json")
		var made struct{ Secret string }
		if err := json.Unmarshal([]byte(out), &made); err != nil || code != 0 {
			t.Fatal(code, out, errOut)
		}
		tokens = append(tokens, made.Secret)
	}
	seed := uint64(time.Now().UnixNano())
	statuses := make([]map[int]int, 4)
	var wait sync.WaitGroup
	var now [4]atomic.Value // what each worker asks for
	client := &http.Client{Timeout: 30 * time.Second}
	for worker := range statuses {
		statuses[worker] = map[int]int{}
		wait.Go(func() {
			c := &caller{rand.New(rand.NewPCG(seed, uint64(worker))), texts, ids}
			for range *apiCalls / len(statuses) {
				o := all[c.IntN(len(all))]
				req, sent, err := c.request(s.address, o.method, o.path, o.Operation)
				if err != nil {
					continue // no HTTP client can say it
				}
				token := c.one(tokens)
				if c.IntN(500) == 0 { // seldom: those are answered slowly
					token = "wrong"
				}
				if token != "local" {
					req.Header.Set("X-Forwarded-For", "203.0.113.9")
				}
				if token != "local" && token != "none" {
					req.Header.Set("Authorization", "Bearer "+token)
				}
				ctx, leave := context.WithTimeout(context.Background(), 20*time.Second)
				if strings.Contains(req.URL.RawQuery, "wait=") || c.IntN(50) == 0 { // a caller who leaves
					leave()
					ctx, leave = context.WithTimeout(context.Background(), time.Duration(c.IntN(50))*time.Millisecond)
				}
				now[worker].Store(req.Method + " " + clip(req.URL.String()) + " " + clip(sent))
				began := time.Now()
				res, err := client.Do(req.WithContext(ctx))
				if err == nil {
					body, _ := io.ReadAll(res.Body)
					res.Body.Close()
					statuses[worker][res.StatusCode]++
					if res.StatusCode >= 500 && res.StatusCode != http.StatusServiceUnavailable &&
						res.StatusCode != http.StatusBadGateway || len(body) > 0 && res.StatusCode >= 400 &&
						len(body) > 64<<10 {
						t.Errorf("seed %d: %s %s %s %v: %s %.400s", seed, req.Method, clip(req.URL.String()),
							clip(sent), req.Header, res.Status,
							body)
					}
					if (token == "none" || token == "wrong") && res.StatusCode != http.StatusUnauthorized &&
						res.StatusCode != http.StatusTooManyRequests && res.StatusCode != http.StatusNotFound &&
						res.StatusCode != http.StatusMovedPermanently &&
						res.StatusCode != http.StatusTemporaryRedirect &&
						res.StatusCode != http.StatusMethodNotAllowed &&
						res.StatusCode != http.StatusRequestHeaderFieldsTooLarge {
						t.Errorf("seed %d: %s %s without a token: %s", seed, req.Method, clip(req.URL.String()),
							res.Status)
					}
				} else if ctx.Err() == nil || time.Since(began) > 19*time.Second {
					t.Errorf("seed %d: %s %s after %s: %v", seed, req.Method, clip(req.URL.String()), time.Since(began),
						clip(err.Error()))
				}
				leave()
			}
		})
	}
	slowest, most := time.Duration(0), resident(t, s)
	done := make(chan struct{})
	go func() { wait.Wait(); close(done) }()
	for ended := false; !ended; {
		select {
		case <-done:
			ended = true
		case <-time.After(100 * time.Millisecond):
		}
		began := time.Now()
		if res, err := client.Get(s.address + "/healthz"); err != nil || res.StatusCode != http.StatusOK {
			t.Fatalf("seed %d: the service is not there any more: %v\n%s", seed, err, loud(s))
		} else {
			res.Body.Close()
		}
		slowest = max(slowest, time.Since(began))
		if is := resident(t, s); is > most+100<<10 {
			t.Logf("%d MiB, then %d MiB while it was asked for", most>>10, is>>10)
			for i := range now {
				t.Log(now[i].Load())
			}
			most = is
		}
	}
	if peak := resident(t, s); peak > mostResident {
		t.Errorf("seed %d: it took %d MiB", seed, peak>>10)
	} else {
		t.Logf("seed %d: %v, slowest sign of life %s, %d MiB", seed, statuses, slowest, peak>>10)
	}
	if t.Failed() {
		b, err := os.ReadFile(filepath.Join(data, "service.log"))
		for line := range strings.Lines(string(b)) {
			if strings.Contains(line, "level=ERROR") {
				t.Log(line, err)
			}
		}
	} else if out, errOut, code := s.koinos("check", "data"); code != 0 {
		t.Errorf("seed %d: check data: %d %s %s", seed, code, out, errOut)
	}
}

func clip(s string) string { return strconv.Quote(s[:min(len(s), 300)]) }

// resident is the most memory that a service has taken, in KiB.
func resident(t *testing.T, s *service) int {
	t.Helper()
	b, err := os.ReadFile(filepath.Join("/proc", strconv.Itoa(s.cmd.Process.Pid), "status"))
	if err != nil {
		t.Fatal(err)
	}
	_, rest, _ := strings.Cut(string(b), "VmHWM:")
	n, err := strconv.Atoi(strings.Fields(rest)[0])
	if err != nil {
		t.Fatal(err)
	}
	return n
}
