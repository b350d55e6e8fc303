package corpus

import (
	"strings"
	"testing"
)

// What drafting must reach on the corpus.
func TestScore(t *testing.T) {
	groups, fields, right := 0, 0, 0
	samples := Samples()
	for _, s := range samples {
		score, err := Draft(s)
		if err != nil {
			t.Error(err)
		}
		if score.SureWrong > 0 {
			t.Errorf("%s: wrong bindings are marked sure: %q", s.Name, score.Wrong)
		}
		if score.Grouping {
			groups++
		}
		fields, right = fields+score.Fields, right+score.Right
	}
	if len(samples) < 40 || groups*100 < len(samples)*95 || right*100 < fields*95 {
		t.Errorf("of %d documents %d are grouped as they should be; %d of %d fields are bound as they should be",
			len(samples), groups, right, fields)
	}
}

// What drafting must reach on documents that it was not made for.
func TestStrangers(t *testing.T) {
	all, err := Strangers()
	if err != nil {
		t.Fatal(err)
	}
	groups, fields, right := 0, 0, 0
	for _, s := range all {
		if s.Grouping {
			groups++
		}
		fields, right = fields+s.Fields, right+s.Right
		for _, w := range s.Wrong {
			t.Logf("%s: %s", s.Name, w)
			if strings.HasPrefix(w, "SURE") {
				t.Errorf("%s: what is marked sure is wrong: %s", s.Name, w)
			}
		}
	}
	if len(all) < 74 || groups*100 < len(all)*95 || right*100 < fields*97 {
		t.Errorf("of %d documents %d are read as they should be; %d of %d fields are bound as they should be", len(all),
			groups, right, fields)
	}
}
