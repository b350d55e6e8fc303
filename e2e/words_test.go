package e2e

import (
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

var oldPhrase = regexp.MustCompile(`(?m)^\| ([^|]+) \| [^|]+ \|$`)

// What docs/style.md tells to write otherwise stands nowhere that people read.
func TestPlainWords(t *testing.T) {
	style, err := os.ReadFile("../docs/style.md")
	if err != nil {
		t.Fatal(err)
	}
	var phrases []string
	for _, m := range oldPhrase.FindAllStringSubmatch(string(style), -1) {
		if m[1] != "instead of" {
			phrases = append(phrases, strings.ToLower(m[1]))
		}
	}
	if len(phrases) < 10 {
		t.Fatalf("only %d phrases in docs/style.md", len(phrases))
	}
	looked := 0
	for _, root := range []string{"../README.md", "../docs", "../web/src", "../cli", "../core/finding", "../service",
		"../api", "testdata/sessions"} {
		if err := filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() || strings.HasSuffix(path, "style.md") || strings.HasSuffix(path, ".png") ||
				strings.HasSuffix(path, "schema.d.ts") {
				return err
			}
			b, err := os.ReadFile(path)
			if err != nil {
				return err
			}
			looked++
			text := strings.Join(strings.Fields(strings.ToLower(string(b))), " ")
			for _, p := range phrases {
				if strings.Contains(text, p) {
					t.Errorf("%s still says %q", path, p)
				}
			}
			return nil
		}); err != nil {
			t.Fatal(err)
		}
	}
	if looked < 100 {
		t.Errorf("only %d files were looked at", looked)
	}
}
