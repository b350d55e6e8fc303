package list

import (
	"slices"
	"strings"
	"testing"

	"koinos/core/order"
)

// TestUnitsOfX12 reads units as X12 has them, where a case is CA and a can CN, and writes each so that it is read as what
// it was. All that a shipped crosswalk makes of a unit is known without a list.
func TestUnitsOfX12(t *testing.T) {
	units := shipped()["x12-units"]
	for theirs, want := range map[string]string{"CA": "CS", "CN": "CA", "CS": "CS", "AS": "AS", "HU": "CEN", "TH": "MIL",
		"PL": "PF", "PA": "XPL", "SH": "XST", "TN": "STN", "ST": "SET", "RO": "RO"} {
		if ours, _, _ := units.Ours(theirs); ours != want {
			t.Errorf("%s is %q, want %s", theirs, ours, want)
		}
	}
	for _, name := range []string{UnitWords, "x12-units"} {
		for _, p := range shipped()[name].pairs {
			if !order.KnownUnit(p.Ours) {
				t.Errorf("%s: %s is %s, which is not a unit", name, p.Theirs, p.Ours)
			}
			if theirs, _ := units.Theirs(p.Ours); theirs != "" {
				if back, _, _ := units.Ours(theirs); back != p.Ours {
					t.Errorf("%s is written as %s, and read as %s", p.Ours, theirs, back)
				}
			} else if back, _, known := units.Ours(p.Ours); known && back != p.Ours {
				t.Errorf("%s is written as it is, and read as %s", p.Ours, back)
			}
		}
	}
	if order.KnownUnit("ST") {
		t.Error("ST is a set to some, a piece to others, and a sheet")
	}
}

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
