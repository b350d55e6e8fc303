package list

import (
	"slices"
	"strings"
	"testing"
)

// TestUnitWords looks words up as people write them, and those that nobody may guess.
func TestUnitWords(t *testing.T) {
	demo := []string{"MTR", "LTR", "BX", "EA", "SET", "PR", "KGM"}
	for _, c := range []struct{ word, usual, demo, pieces string }{
		{"pcs", "EA", "EA", "H87"},
		{"PCS.", "EA", "EA", "H87"},
		{"Stück", "EA", "EA", "H87"},
		{"boîtes", "BX", "BX", ""},
		{"Boxes", "BX", "BX", ""},
		{"bag", "BG", "", ""},
		{"Rolle", "RO", "", ""},
		{"m", "MTR", "MTR", ""},
		{"L", "LTR", "LTR", ""},
		{"dozen", "DZN", "", ""},
		{"st", "EA", "EA", "H87"},
		{"ml", "", "", ""}, // millilitre, or mètre linéaire
		{"gr", "", "", ""},
		{"barrow", "", "", ""},
	} {
		if ours, spelled, _ := shipped()[UnitWords].Ours(c.word); ours != c.usual || spelled {
			t.Errorf("the crosswalk has %q as %q, wanted %q", c.word, ours, c.usual)
		}
		for _, of := range []struct {
			known []string
			want  string
		}{{demo, c.demo}, {[]string{"H87"}, c.pieces}} {
			if code, _, _ := UnitOf(c.word, func(s string) bool { return slices.Contains(of.known, s) }); code != of.want {
				t.Errorf("%q among %v is %q, wanted %q", c.word, of.known, code, of.want)
			}
		}
	}
	for word, usual := range map[string]string{"M": "MTR", "ST": ""} {
		if ours, spelled, ok := shipped()[UnitWords].Ours(word); ours != usual || spelled != ok {
			t.Errorf("%s, which is something else to some, is %q without a word", word, ours)
		}
	}
	said := map[string]string{}
	for _, u := range unitWords {
		for _, w := range strings.Fields(u.words) {
			if was := said[w]; was != "" {
				t.Errorf("%q means both %s and %s", w, was, u.codes)
			}
			said[w] = u.codes
		}
	}
}
