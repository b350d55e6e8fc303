package grammar

import (
	"strings"
	"testing"
)

func TestTooDeep(t *testing.T) {
	deep := func(n int, s string) string { return strings.Repeat(s, n) }
	for name, c := range map[string]struct {
		text string
		line int
	}{
		"nothing":                    {"", 0},
		"brackets, as many as may":   {"a: " + deep(100, "[") + deep(100, "]"), 0},
		"one more":                   {"a: 1\nb: " + deep(101, "["), 2},
		"over lines":                 {deep(101, "{a:\n"), 101},
		"closed again":               {deep(500, "[]\n"), 0},
		"in quotes":                  {`a: "` + deep(500, "[") + `"`, 0},
		"in quotes with a quote":     {`a: "\"` + deep(500, "[") + `"`, 0},
		"in single quotes":           {`a: '` + deep(500, "[") + `'`, 0},
		"an apostrophe is no quote":  {"about: the buyer's list\nb: " + deep(101, "["), 2},
		"in a comment":               {"a: 1 # " + deep(500, "["), 0},
		"signs of lists":             {deep(101, "- "), 1},
		"a line of hyphens":          {deep(500, "-"), 0},
		"lists below each other":     {deep(500, "- a\n"), 0},
		"closing what was not open":  {deep(500, "]") + deep(100, "["), 0},
		"JSON of a hundred thousand": {deep(100_000, `{"a":`), 1},
	} {
		if got := TooDeep([]byte(c.text)); got != c.line {
			t.Errorf("%s: line %d, not %d", name, got, c.line)
		}
	}
}
