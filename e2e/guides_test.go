package e2e

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"
)

// The first example of a guide works as it is typed: all of its commands, one after the other,
// in a shell, with the stand-ins and the service that it starts. Only the ports are others.
func TestGuidesAsTyped(t *testing.T) {
	for _, c := range []struct{ guide, begins, shows, want string }{
		{"sync.md", "koinos standin --slipway", "koinos sync list | sed -n 2p | tr -s ' '",
			"slipway-ledgerline 1 idle 32 0 0 2 Web orders go into the books; what the books change comes back\n"},
		{"getting-started.md", "koinos serve &", "koinos order list | tr -s ' ' | cut -d' ' -f4", "their\nK-3\nK-2\nK-1\n"},
		{"systems.md", "koinos standin --slipway",
			"koinos order list --partner SLIPWAY --limit 500 --output json | grep -c sender_number", "55\n"},
	} {
		t.Run(c.guide, func(t *testing.T) {
			t.Parallel()
			text, err := os.ReadFile("../docs/" + c.guide)
			if err != nil {
				t.Fatal(err)
			}
			block := ""
			for _, m := range regexp.MustCompile("(?s)```sh\n(.*?)```").FindAllStringSubmatch(string(text), -1) {
				if block == "" && strings.HasPrefix(m[1], c.begins) {
					block = m[1]
				}
			}
			if block == "" {
				t.Fatal("the guide has no such example")
			}
			dir := t.TempDir()
			if err := os.CopyFS(filepath.Join(dir, "demo"), os.DirFS("../demo")); err != nil {
				t.Fatal(err)
			}
			service := port(t)
			for _, known := range []string{"8750", "8760"} {
				block = strings.ReplaceAll(block, "127.0.0.1:"+known, fmt.Sprintf("127.0.0.1:%d", port(t)))
			}
			// A person types more slowly than a service begins.
			block = strings.Replace(block, "koinos serve &", fmt.Sprintf("koinos serve --listen 127.0.0.1:%d &",
				service)+
				"\nuntil koinos today >/dev/null 2>&1; do sleep 0.1; done #", 1)
			ctx, stop := context.WithTimeout(t.Context(), 2*time.Minute)
			defer stop()
			shell := exec.CommandContext(ctx, "bash", "-c", block+"\necho ==== && "+c.shows+"\nkill %1 %2; wait")
			shell.Dir = dir
			shell.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
			shell.Cancel = func() error { return syscall.Kill(-shell.Process.Pid, syscall.SIGKILL) }
			bin, err := filepath.Abs("../bin")
			if err != nil {
				t.Fatal(err)
			}
			shell.Env = append(os.Environ(), "PATH="+bin+":"+os.Getenv("PATH"),
				"KOINOS_DATA="+filepath.Join(dir, "data"),
				fmt.Sprintf("KOINOS_ADDRESS=http://127.0.0.1:%d", service))
			var log strings.Builder
			shell.Stderr = &log
			out, err := shell.Output()
			_ = syscall.Kill(-shell.Process.Pid, syscall.SIGKILL) // what it left, if anything
			_, got, _ := strings.Cut(string(out), "====\n")
			if got != c.want || err != nil {
				t.Errorf("%v\n%s\n%s", err, out, log.String())
			}
		})
	}
}

// Every link within the documentation leads to a page and a section that are there.
func TestDocumentationLinks(t *testing.T) {
	pages, err := filepath.Glob("../docs/*.md")
	further, failed := filepath.Glob("../docs/*/*.md")
	if pages = append(pages, further...); err != nil || failed != nil || len(pages) < 40 {
		t.Fatal(len(pages), err, failed)
	}
	sections := map[string]map[string]bool{}
	texts := map[string]string{}
	unlike := regexp.MustCompile(`[^\p{L}\p{N}_ -]`)
	for _, page := range append(pages, "../README.md") {
		text, err := os.ReadFile(page)
		if err != nil {
			t.Fatal(err)
		}
		name := filepath.Clean(page)
		texts[name], sections[name] = string(text), map[string]bool{"": true}
		for _, m := range regexp.MustCompile(`(?m)^#+ (.*)$`).FindAllStringSubmatch(string(text), -1) {
			sections[name][strings.ReplaceAll(unlike.ReplaceAllString(strings.ToLower(m[1]), ""), " ", "-")] = true
		}
	}
	links := 0
	for name, text := range texts {
		for _, m := range regexp.MustCompile(`\]\(([A-Za-z0-9/.-]*\.md)?(?:#([^)]*))?\)`).FindAllStringSubmatch(text, -1) {
			page := name
			if m[1] != "" {
				page = filepath.Join(filepath.Dir(name), m[1])
			}
			if _, err := os.Stat(page); err != nil || sections[page] != nil && !sections[page][m[2]] {
				t.Errorf("%s leads to %s", name, m[0])
			}
			links++
		}
		for _, m := range regexp.MustCompile(`!\[[^]]+\]\(([^):]+)\)`).FindAllStringSubmatch(text, -1) {
			if _, err := os.Stat(filepath.Join(filepath.Dir(name), m[1])); err != nil {
				t.Errorf("%s shows %s", name, m[1])
			}
		}
	}
	if links < 150 {
		t.Errorf("only %d links are seen", links)
	}
}

// The tour of the README works as it is typed, in the folder of the repository, while the demo runs.
func TestReadmeAsTyped(t *testing.T) {
	t.Parallel()
	text, err := os.ReadFile("../README.md")
	if err != nil {
		t.Fatal(err)
	}
	_, tour, _ := strings.Cut(string(text), "## A tour")
	tour, _, _ = strings.Cut(tour, "## Running it for real")
	var commands []string
	for _, m := range regexp.MustCompile("(?m)^    (koinos .*)$|`(koinos [^`]*)`").FindAllStringSubmatch(tour, -1) {
		command := m[1] + m[2]
		if m[2] == "" || len(strings.Fields(command)) > 3 && !regexp.MustCompile(`[A-Z]{3}`).MatchString(command) {
			commands = append(commands, command)
		}
	}
	if len(commands) < 18 {
		t.Fatalf("the tour has only %q", commands)
	}
	life, err := os.ReadFile("../docs/orders.md")
	if err != nil {
		t.Fatal(err)
	}
	done := map[string]bool{} // what does what it says, all of it
	for _, m := range regexp.MustCompile(`(?m)^\$ (koinos .*)$`).FindAllStringSubmatch(string(life), -1) {
		commands, done[m[1]] = append(commands, m[1]), true
	}
	s := start(t, t.TempDir(), "demo")
	dir := t.TempDir()
	if err := errors.Join(os.CopyFS(filepath.Join(dir, "demo"), os.DirFS("../demo")),
		os.CopyFS(filepath.Join(dir, "docs", "standins"), os.DirFS("../docs/standins"))); err != nil {
		t.Fatal(err)
	}
	bin, err := filepath.Abs("../bin")
	if err != nil {
		t.Fatal(err)
	}
	for _, command := range commands {
		shell := exec.CommandContext(t.Context(), "bash", "-c", command)
		shell.Dir = dir
		shell.Env = append(os.Environ(), "PATH="+bin+":"+os.Getenv("PATH"), "KOINOS_ADDRESS="+s.address)
		out, err := shell.CombinedOutput()
		// 3 says that something is refused or held
		if code := shell.ProcessState.ExitCode(); code != 0 && (code != 3 || done[command]) {
			t.Errorf("%s: %v\n%s", command, err, out)
		}
	}
}

// port is one that nobody listens on.
func port(t *testing.T) int {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port
}
