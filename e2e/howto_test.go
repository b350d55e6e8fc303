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
	played(t, "../docs/how-to/*.md", func(r *session, text string) string {
		return fence.ReplaceAllStringFunc(text, func(all string) string {
			m := fence.FindStringSubmatch(all)
			if m[2] != "" {
				if err := os.WriteFile(filepath.Join(r.dir, m[2]), []byte(m[3]), 0o600); err != nil {
					r.t.Fatal(err)
				}
			}
			if m[1] != "console" {
				return all
			}
			return "```console\n" + shown.Replace(r.play(m[3])) + "```\n"
		})
	})
}
