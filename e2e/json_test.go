package e2e

import (
	"encoding/json"
	"os"
	"strings"
	"testing"
)

// checkJSON runs the commands of a list with --output json: what they print is JSON, one
// value or one a line, or they refuse with exit 2 and print none.
func checkJSON(t *testing.T, s *service) {
	list, err := os.ReadFile("testdata/json-commands.txt")
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	for line := range strings.Lines(string(list)) {
		args := strings.Fields(strings.ReplaceAll(line, "OUT/", dir+"/"))
		out, errOut, code := s.koinos(append(args, "--output", "json")...)
		if refused := code == 2 && out == ""; refused || code == 0 && out != "" && isJSON(out) {
			continue
		}
		if code != 0 && json.Valid([]byte(out+errOut)) { // what it found wrong is JSON too
			continue
		}
		t.Errorf("koinos %s: exit %d\n%.300s\n%.300s", strings.TrimSpace(line), code, out, errOut)
	}
}

func isJSON(out string) bool {
	if json.Valid([]byte(out)) {
		return true
	}
	for line := range strings.Lines(out) {
		if !json.Valid([]byte(line)) {
			return false
		}
	}
	return true
}
