package list

import (
	"strings"
	"testing"
)

func TestFindAndNearest(t *testing.T) {
	l := New([]Entry{{Code: "00417", Name: "Shackle bow"}, {Code: "MTR", Name: "metre"}, {Code: "EA", Name: "piece"},
		{Code: "Straße 5", Name: ""}})
	for _, c := range []struct{ text, found, near string }{
		{"00417", "00417", ""}, {"mtr", "MTR", ""}, {" Mtr ", "MTR", ""}, {"straße\u00a05", "Straße 5", ""},
		{"0O417", "", "00417"}, {"00471", "", "00417"}, {"metres", "", "MTR"}, {"peice", "", "EA"}, {"417", "", ""},
		{"kilogram", "", ""}, {"", "", ""},
		{strings.Repeat("0", 500), "", ""},
	} {
		found, _ := l.Find(c.text)
		if found != c.found {
			t.Errorf("%q finds %q, want %q", c.text, found, c.found)
		}
		if found == "" {
			for range 2 { // the second answer comes from memory
				if near, _ := l.Nearest(c.text); near.Code != c.near {
					t.Errorf("nearest to %q is %q, want %q", c.text, near.Code, c.near)
				}
			}
		}
	}
}

func TestCrosswalk(t *testing.T) {
	c := NewCrosswalk([]Pair{{"East yard", "0040"}, {"West yard", "0030"}, {"kg", "KGM"}, {"KG", "keg"}})
	for theirs, want := range map[string]string{"East yard": "0040", "EAST  YARD": "0040 spelled", "kg": "KGM",
		"KG": "keg", "Kg": ""} {
		ours, spelled, ok := c.Ours(theirs)
		if spelled {
			ours += " spelled"
		}
		if ours != want || ok != (want != "") {
			t.Errorf("%q is %q %v, want %q", theirs, ours, ok, want)
		}
	}
	for ours, want := range map[string]string{"0040": "East yard", "kgm": "kg", "KEG": "KG"} {
		if theirs, _ := c.Theirs(ours); theirs != want {
			t.Errorf("%q is their %q, want %q", ours, theirs, want)
		}
	}
	if near, _ := c.Nearest("Eats yard"); near != "East yard" {
		t.Errorf("nearest is %q", near)
	}
}

func BenchmarkNearest(b *testing.B) {
	var entries []Entry
	for _, a := range "abcdefghij" {
		for _, c := range "klmnopqrst" {
			entries = append(entries, Entry{Code: string(a) + "00" + string(c),
				Name: "Braided rope " + string(a) + string(c)})
		}
	}
	for b.Loop() {
		New(entries).Nearest("x00y") // every entry is looked at
	}
}

// Look-ups by any key, folded and near; what is not one entry is none.
func TestLook(t *testing.T) {
	l := New([]Entry{{Code: "00417", Name: "Shackle bow", Attributes: map[string]string{"gtin": "2004417000118",
		"shelf": "S1"}}, {Code: "00501", Name: "Lantern", Attributes: map[string]string{"shelf": "S1"}},
		{Code: "00502", Name: "Lanterna", Attributes: map[string]string{
			"EAN": "012345678905", "shelf": "012345678905"}}, {Code: "C-1004"}, {Code: "R-1"}, {Code: "r-1"}})
	for _, c := range []struct {
		text, keys string
		near       int
		want       string
	}{
		{"00417", "", 0, "00417 by code"}, {"shackle  BOW", "", 0, ""},
		{"shackle  BOW", "code name", 0, "00417 by name spelled"}, {"Shackle bow", "code name", 0, "00417 by name"},
		{"c-1004", "", 0, "C-1004 by code spelled"}, {"R-1", "", 0, "R-1 by code"}, {"r-1", "", 0, "r-1 by code"},
		{"R -1", "", 0, ""},
		{" R-1", "", 0, "several by code"}, {"2004417000118", "gtin", 0, "00417 by gtin"},
		{"S1", "shelf", 0, "several by shelf"}, {"0012345678905", "shelf", 0, ""},
		{"0012345678905", "EAN", 0, "00502 by EAN"}, {"00012345678905", "code EAN", 0, "00502 by EAN"},
		{"12345678905", "EAN", 0, ""}, {"02004417000118", "gtin", 0, "00417 by gtin"}, {"0012345678906", "EAN", 0, ""},
		{"Shackel bow", "name", 0, ""}, {"Shackel bow", "name", 1, "00417 by name near"},
		{"Lanternb", "name", 1, "several by name"}, {"", "name", 2, ""}, {"00500", "", 1, "several by code"},
	} {
		m := l.Look(c.text, strings.Fields(c.keys), c.near)
		got := ""
		if m.Entry != nil {
			got = m.Entry.Code + " by " + m.Key
			if m.Near {
				got += " near"
			}
			if m.Spelled {
				got += " spelled"
			}
		} else if m.Several {
			got = "several by " + m.Key
		}
		if got != c.want {
			t.Errorf("%q by %q within %d: %q, want %q", c.text, c.keys, c.near, got, c.want)
		}
	}
}
