package corpus

import "testing"

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
