package e2e

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// fence is a block of code of a page: its language, the name of the file that it is, if it is one, and its text.
var fence = regexp.MustCompile("(?s)```([a-z]+)(?: ([\\w.-]+))?\n(.*?)```\n")

// shown is what a reader sees of what differs from day to day.
var shown = strings.NewReplacer("ADDRESS", "http://127.0.0.1:8740", "TODAY", "2026-03-06", "TIME", "2026-03-06 09:30")

// Each how-to is a session, see TestSessions: its files are written, and what stands below its commands is what they
// print.
func TestHowTo(t *testing.T) {
	files, err := filepath.Glob("../docs/how-to/*.md")
	if err != nil || len(files) < 19 {
		t.Fatal(len(files), err)
	}
	for _, name := range files {
		t.Run(strings.TrimSuffix(filepath.Base(name), ".md"), func(t *testing.T) {
			t.Parallel()
			text, err := os.ReadFile(name)
			if err != nil {
				t.Fatal(err)
			}
			r := newSession(t)
			got := fence.ReplaceAllStringFunc(string(text), func(all string) string {
				m := fence.FindStringSubmatch(all)
				if m[2] != "" {
					if err := os.WriteFile(filepath.Join(r.dir, m[2]), []byte(m[3]), 0o600); err != nil {
						t.Fatal(err)
					}
				}
				if m[1] != "console" {
					return all
				}
				return "```console\n" + shown.Replace(r.play(m[3])) + "```\n"
			})
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
