package e2e

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"flag"
	"fmt"
	"io"
	"maps"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"koinos/api"
	"koinos/cli"
	"koinos/client"
	"koinos/core/outcome"
)

var (
	update = flag.Bool("update", false, "write what the tests compare with anew")
	bin    string // the built program
	// The program is a part of the tests' own binary too, so that a change of it makes Go run them again.
	program any = cli.Main
)

func TestMain(m *testing.M) {
	flag.Parse()
	fmt.Fprint(io.Discard, program) // else the linker leaves it out
	dir, err := os.MkdirTemp("", "koinos-e2e-*")
	if err != nil {
		panic(err)
	}
	bin = filepath.Join(dir, "koinos")
	if out, err := exec.Command("go", "build", "-o", bin, "../cmd/koinos").CombinedOutput(); err != nil {
		fmt.Fprintf(os.Stderr, "%v\n%s", err, out)
		os.Exit(1)
	}
	code := m.Run()
	if testing.Verbose() {
		used.print()
	}
	os.RemoveAll(dir)
	os.Exit(code)
}

// service is a started program that listens.
type service struct {
	t       testing.TB
	cmd     *exec.Cmd
	address string
	data    string
	log     *bytes.Buffer // what it wrote to standard error; read it after the end
	said    string        // what it wrote to standard output before it listened
	ended   bool
}

var addressPattern = regexp.MustCompile(`https?://127\.0\.0\.1:\d+`)

// start runs a command that serves, in a data folder, and waits until it
// answers. A free port is asked for.
func start(t testing.TB, data string, args ...string) *service {
	t.Helper()
	return startWith(t, nil, data, args...)
}

// startWith is start with more in the environment.
func startWith(t testing.TB, env []string, data string, args ...string) *service {
	t.Helper()
	s := &service{t: t, data: data, log: &bytes.Buffer{}}
	s.cmd = exec.Command(bin, append(args, "--listen", "127.0.0.1:0", "--data", data)...)
	s.cmd.Env = append(os.Environ(), env...)
	r, w := io.Pipe()
	s.cmd.Stderr = io.MultiWriter(s.log, w)
	s.cmd.Stdout = w
	if err := s.cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.stop)
	found := make(chan string, 1)
	go func() {
		lines := bufio.NewScanner(r)
		said := ""
		for lines.Scan() {
			said += lines.Text() + "\n"
			ready := args[0] == "serve" && strings.Contains(said, "koinos listens") ||
				strings.Contains(said, "Ctrl-C ends")
			if a := addressPattern.FindString(said); a != "" && ready && s.address == "" {
				s.address, s.said = a, said
				found <- a
			}
		}
	}()
	select {
	case <-found:
	case <-time.After(2 * time.Minute):
		s.kill()
		t.Fatalf("the service did not start:\n%s", s.log)
	}
	return s
}

// used is how much processor time the services of each test took.
var used spent

type spent struct {
	mu sync.Mutex
	by map[string]time.Duration
}

func (u *spent) add(test string, d time.Duration) {
	u.mu.Lock()
	defer u.mu.Unlock()
	if u.by == nil {
		u.by = map[string]time.Duration{}
	}
	u.by[test] += d
}

func (u *spent) print() {
	for _, test := range slices.SortedFunc(maps.Keys(u.by),
		func(a, b string) int { return cmp.Compare(u.by[b], u.by[a]) }) {
		fmt.Printf("%8.1f s  %s\n", u.by[test].Seconds(), test)
	}
}

var demoed struct {
	once   sync.Once
	folder string
	err    error
}

// startDemo runs a service over a copy of what the demo left behind. The systems that the demo plays beside it are
// away.
func startDemo(t testing.TB) *service {
	t.Helper()
	demoed.once.Do(func() {
		if demoed.folder, demoed.err = os.MkdirTemp(filepath.Dir(bin), "demo-*"); demoed.err == nil {
			s := start(t, demoed.folder, "demo")
			s.stop()
		}
	})
	if demoed.err != nil {
		t.Fatal(demoed.err)
	}
	data := t.TempDir()
	if err := os.CopyFS(data, os.DirFS(demoed.folder)); err != nil {
		t.Fatal(err)
	}
	const nobody = "http://127.0.0.1:9"
	return startWith(t, []string{"YARD_FOLDER=" + filepath.Join(data, "yard"), "SLIPWAY_URL=" + nobody, "SLIPWAY_TOKEN=x",
		"SLIPWAY_HOOK_SECRET=x",
		"LEDGERLINE_URL=" + nobody, "LEDGERLINE_ID=x", "LEDGERLINE_SECRET=x"}, data, "serve", "--exchange",
		filepath.Join(data, "exchange"))
}

func (s *service) end(sig os.Signal) {
	if s.ended {
		return
	}
	s.ended = true
	_ = s.cmd.Process.Signal(sig) // it may have ended by itself
	_ = s.cmd.Wait()
	if p := s.cmd.ProcessState; p != nil {
		used.add(s.t.Name(), p.UserTime()+p.SystemTime())
	}
}

func (s *service) stop() { s.end(syscall.SIGTERM) }
func (s *service) kill() { s.end(syscall.SIGKILL) }

func (s *service) api() *client.Client { return client.New(s.address, "") }

// koinos runs a command against the service and returns what it said and its exit code.
func (s *service) koinos(args ...string) (out, errOut string, code int) {
	return koinos(s.t, []string{"KOINOS_ADDRESS=" + s.address}, args...)
}

func koinos(t testing.TB, env []string, args ...string) (out, errOut string, code int) {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, bin, args...)
	cmd.Env = append(os.Environ(), env...)
	var o, e bytes.Buffer
	cmd.Stdout, cmd.Stderr = &o, &e
	err := cmd.Run()
	if _, exited := err.(*exec.ExitError); err != nil && !exited {
		t.Fatal(err)
	}
	return o.String(), e.String(), cmd.ProcessState.ExitCode()
}

// do makes a plain request with headers "Name: value".
func (s *service) do(method, path, body string, headers ...string) (*http.Response, string) {
	s.t.Helper()
	res, said, err := s.try(method, path, body, headers...)
	if err != nil {
		s.t.Fatal(err)
	}
	return res, said
}

// try is do of a service that may end meanwhile, or not answer for a minute.
func (s *service) try(method, path, body string, headers ...string) (*http.Response, string, error) {
	if strings.HasPrefix(path, "/") {
		path = s.address + path
	}
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, method, path, strings.NewReader(body))
	if err != nil {
		return nil, "", err
	}
	for _, h := range headers {
		name, value, _ := strings.Cut(h, ": ")
		if name == "Host" {
			req.Host = value
		}
		req.Header.Set(name, value)
	}
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return nil, "", err
	}
	defer res.Body.Close()
	b, err := io.ReadAll(res.Body)
	return res, string(b), err
}

// file writes a file for a test and returns its name.
func file(t testing.TB, name string, content []byte) string {
	t.Helper()
	name = filepath.Join(t.TempDir(), name)
	if err := os.WriteFile(name, content, 0o600); err != nil {
		t.Fatal(err)
	}
	return name
}

const csvMapping = `koinos: mapping/1
name: plain
orders:
  kind: sales
  group: {by: key, columns: [Order]}
header:
  sender_number: {from: Order, need: must}
  partner:       {value: OSTRAND}
  currency:      {value: EUR}
lines:
  item:       {from: Item, need: must}
  quantity:   {from: Qty, need: must}
  unit_price: {from: Price}
`

// manyOrders is a CSV of n orders of three lines.
func manyOrders(n int) []byte {
	var b bytes.Buffer
	b.WriteString("Order,Item,Qty,Price\n")
	for i := range n {
		for l := range 3 {
			fmt.Fprintf(&b, "A-%06d,%05d,%d,9.50\n", i, 100+l, i%9+1)
		}
	}
	return b.Bytes()
}

func waitFor(t testing.TB, what string, ok func() bool) {
	t.Helper()
	for end := time.Now().Add(2 * time.Minute); time.Now().Before(end); time.Sleep(20 * time.Millisecond) {
		if ok() {
			return
		}
	}
	t.Fatalf("waited in vain for %s", what)
}

// begin sends csvMapping and a document in and starts a load.
func (s *service) begin(doc []byte) outcome.Load {
	s.t.Helper()
	ctx, calls := context.Background(), s.api()
	if _, err := calls.KeepMapping(ctx, []byte(csvMapping)); err != nil {
		s.t.Fatal(err)
	}
	d, err := calls.SendDocument(ctx, "many.csv", bytes.NewReader(doc))
	if err != nil {
		s.t.Fatal(err)
	}
	l, err := calls.StartLoad(ctx, api.NewLoad{Document: d.SHA, Mapping: "plain"})
	if err != nil {
		s.t.Fatal(err)
	}
	return l
}
