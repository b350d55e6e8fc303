package e2e

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"koinos/demo"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"
)

// Whole sessions at the command line, each in a folder of its own with the demo's
// files and a service of its own. A session is a text: "$ " begins a command, "% " a
// request ("% POST /api/v1/orders < order.json; Idempotency-Key: k"), "> NAME" a file,
// "# " a remark. Below a command stands all that it prints, and its exit code where
// that is not 0; below a request the status, the headers that mean something, and the
// answer. All of it is compared.
func TestSessions(t *testing.T) {
	played(t, "testdata/sessions/*.txt", (*session).play)
}

// played plays each of some files in a session of its own, and compares it with what play makes of it.
func played(t *testing.T, files string, play func(r *session, text string) string) {
	names, err := filepath.Glob(files)
	if err != nil || len(names) < 20 {
		t.Fatal(len(names), err)
	}
	for _, name := range names {
		base := filepath.Base(name)
		t.Run(strings.TrimSuffix(base, filepath.Ext(base)), func(t *testing.T) {
			t.Parallel()
			text, err := os.ReadFile(name)
			if err != nil {
				t.Fatal(err)
			}
			got := play(newSession(t), string(text))
			if *update {
				if err := os.WriteFile(name, []byte(got), 0o644); err != nil {
					t.Fatal(err)
				}
				return
			}
			if got != string(text) {
				t.Errorf("%s", firstDifference(string(text), got))
			}
		})
	}
}

// firstDifference shows two texts from where they part.
func firstDifference(want, got string) string {
	w, g := strings.Split(want, "\n"), strings.Split(got, "\n")
	at, command := 0, ""
	for at < len(w) && at < len(g) && w[at] == g[at] {
		if strings.HasPrefix(w[at], "$ ") {
			command = w[at]
		}
		at++
	}
	some := func(list []string) string { return strings.Join(list[min(at, len(list)):min(at+12, len(list))], "\n") }
	return fmt.Sprintf("line %d, after %q\nwant:\n%s\ngot:\n%s", at+1, command, some(w), some(g))
}

type session struct {
	t   *testing.T
	dir string
	s   *service
	// Slipway and Ledgerline, which the service and the commands find in their environment
	shop, books *httptest.Server
	env         []string
}

func newSession(t *testing.T) *session {
	r := &session{t: t, dir: t.TempDir()}
	if err := errors.Join(os.CopyFS(filepath.Join(r.dir, "demo"), os.DirFS("../demo")),
		os.CopyFS(filepath.Join(r.dir, "docs", "standins"), os.DirFS("../docs/standins"))); err != nil {
		t.Fatal(err)
	}
	slipway, err := demo.Slipway("slipway-demo", 20, false, time.Now)
	if err != nil {
		t.Fatal(err)
	}
	ledgerline, err := demo.Ledgerline("ledgerline-demo", time.Now)
	if err != nil {
		t.Fatal(err)
	}
	r.shop, r.books = httptest.NewServer(slipway), httptest.NewServer(ledgerline)
	t.Cleanup(r.shop.Close)
	t.Cleanup(r.books.Close)
	r.env = []string{"SLIPWAY_URL=" + r.shop.URL, "SLIPWAY_TOKEN=slipway-demo",
		"SLIPWAY_HOOK_SECRET=whsec_cXVpbGxtZXJlLWNoYW5kbGVyeS1kZW1v", "LEDGERLINE_URL=" + r.books.URL,
		"LEDGERLINE_ID=koinos", "LEDGERLINE_SECRET=ledgerline-demo", "YARD_FOLDER=" + filepath.Join(r.dir, "yard")}
	r.s = startWith(t, r.env, t.TempDir(), "serve")
	return r
}

// begins reports whether a line of a session begins something.
func begins(line string) bool {
	return len(line) > 1 && strings.ContainsRune("$%>#", rune(line[0])) && line[1] == ' '
}

// play returns the session's text anew, with what its commands say now.
func (r *session) play(text string) string {
	var out strings.Builder
	lines := strings.Split(strings.TrimSuffix(text, "\n"), "\n")
	for i := 0; i < len(lines); i++ {
		line := lines[i]
		switch {
		case strings.HasPrefix(line, "$ "):
			fmt.Fprintf(&out, "%s\n%s", line, r.equal(r.run(strings.TrimPrefix(line, "$ "))))
			for i+1 < len(lines) && !begins(lines[i+1]) {
				i++
			}
		case strings.HasPrefix(line, "% "):
			fmt.Fprintf(&out, "%s\n%s", line, r.equal(r.request(strings.TrimPrefix(line, "% "))))
			for i+1 < len(lines) && !begins(lines[i+1]) {
				i++
			}
		case strings.HasPrefix(line, "> "):
			name, body := strings.TrimPrefix(line, "> "), ""
			out.WriteString(line + "\n")
			for i+1 < len(lines) && !begins(lines[i+1]) {
				i++
				body += lines[i] + "\n"
			}
			out.WriteString(body)
			if err := os.WriteFile(filepath.Join(r.dir, name), []byte(body), 0o600); err != nil {
				r.t.Fatal(err)
			}
		default:
			out.WriteString(line + "\n")
		}
	}
	return out.String()
}

var (
	stamps   = regexp.MustCompile(`20\d\d-\d\d-\d\d[T ]\d\d:\d\d(:\d\d(\.\d+)?)?(Z|[+-]\d\d:\d\d)?`)
	seconds  = regexp.MustCompile(`\b\d+(\.\d+)? ?(ms|µs|s)\b`)
	clock    = regexp.MustCompile(`\b\d\d:\d\d:\d\d\b`)
	rates    = regexp.MustCompile(`"(rows_a_second|seconds_left)": \d+`)
	day      = regexp.MustCompile(`\b` + today("2006-01-02") + `\b`)
	compact  = regexp.MustCompile(`\b` + today("20060102") + `\b`)
	short    = regexp.MustCompile(`\b\d\d-\d\d \d\d:\d\d\b`)
	stampX12 = regexp.MustCompile(`\*(20)?` + today("060102") + `\*\d{4}\b`)
	requests = regexp.MustCompile(`"(request|id)": "[A-Z0-9]+"`)
	secrets  = regexp.MustCompile(`koinos_[A-Z0-9]{20,}`)
)

// today is an expression for the day on which the tests began, and for the next: they may run over midnight.
func today(layout string) string {
	now := time.Now().UTC()
	return `(?:` + now.Format(layout) + `|` + now.AddDate(0, 0, 1).Format(layout) + `)`
}

// equal makes equal what differs from day to day: the time, the service's address,
// the folder.
func (r *session) equal(text string) string {
	text = strings.NewReplacer(r.s.address, "ADDRESS", r.shop.URL, "SHOP", r.books.URL, "BOOKS", r.dir, "DIR", r.s.data,
		"DATA").Replace(text)
	for _, c := range []struct {
		what *regexp.Regexp
		by   string
	}{{stamps, "TIME"}, {stampX12, "*TODAY*TIME"}, {compact, "TODAY"}, {short, "TIME"}, {day, "TODAY"},
		{clock, "TIME"}, {seconds, "N s"}, {secrets, "SECRET"}, {rates, `"$1": N`}, {requests, `"$1": "ID"`}} {
		text = c.what.ReplaceAllString(text, c.by)
	}
	var out strings.Builder
	for line := range strings.Lines(text) {
		if begins(line) {
			line = `\` + line // what is printed begins nothing
		}
		out.WriteString(strings.TrimRight(line, " \r\n") + "\n")
	}
	return out.String()
}

// run returns what a command line prints, and its exit code where that is not 0.
func (r *session) run(command string) string {
	cmd := exec.Command("/bin/sh", "-c", command)
	cmd.Dir = r.dir
	cmd.Env = append(append(os.Environ(), r.env...), "PATH="+filepath.Dir(bin)+":"+os.Getenv("PATH"),
		"KOINOS_ADDRESS="+r.s.address, "TZ=UTC", "DATA="+r.s.data)
	var b bytes.Buffer
	cmd.Stdout, cmd.Stderr = &b, &b
	stop := time.AfterFunc(time.Minute, func() { _ = cmd.Process.Kill() })
	defer stop.Stop()
	err := cmd.Run()
	if _, ended := err.(*exec.ExitError); err != nil && !ended {
		r.t.Fatal(err)
	}
	if code := cmd.ProcessState.ExitCode(); code != 0 {
		fmt.Fprintf(&b, "exit %d\n", code)
	}
	return b.String()
}

// telling are the headers that a program acts on.
var telling = []string{"Content-Type", "Content-Disposition", "ETag", "Link", "Location", "Idempotency-Replayed",
	"Koinos-Cells", "Koinos-Absent", "WWW-Authenticate", "Retry-After"}

// request makes a request, "METHOD PATH < FILE; Header: value", and returns its answer.
func (r *session) request(line string) string {
	parts := strings.Split(line, "; ")
	what, name, _ := strings.Cut(parts[0], " < ")
	method, path, _ := strings.Cut(what, " ")
	body := ""
	if name != "" {
		b, err := os.ReadFile(filepath.Join(r.dir, name))
		if err != nil {
			r.t.Fatal(err)
		}
		body = string(b)
	}
	path = strings.NewReplacer("SHOP", r.shop.URL, "BOOKS", r.books.URL).Replace(path)
	res, text := r.s.do(method, path, body, parts[1:]...)
	var out strings.Builder
	fmt.Fprintln(&out, res.Status)
	for _, h := range telling {
		for _, v := range res.Header.Values(h) {
			fmt.Fprintf(&out, "%s: %s\n", h, v)
		}
	}
	var pretty bytes.Buffer
	if json.Indent(&pretty, []byte(text), "", "  ") == nil {
		text = pretty.String()
	}
	if text != "" {
		out.WriteString("\n" + strings.TrimSuffix(text, "\n") + "\n")
	}
	return out.String()
}
