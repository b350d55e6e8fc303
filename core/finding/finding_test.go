package finding

import "testing"

func TestClip(t *testing.T) {
	for _, c := range []struct {
		text string
		n    int
		want string
	}{
		{"", 3, ""}, {"abc", 3, "abc"}, {"abcd", 3, "abc…"}, {"aé", 2, "a…"}, {"é", 1, "…"},
	} {
		if got := Clip(c.text, c.n); got != c.want {
			t.Errorf("Clip(%q, %d) is %q, want %q", c.text, c.n, got, c.want)
		}
	}
}

func TestCapital(t *testing.T) {
	for text, want := range map[string]string{
		"": "", "a": "A", "row 4": "Row 4", "ölkontor": "Ölkontor", "4 rows": "4 rows", "\xffa": "\xffa",
	} {
		if got := Capital(text); got != want {
			t.Errorf("Capital(%q) is %q, want %q", text, got, want)
		}
	}
}
