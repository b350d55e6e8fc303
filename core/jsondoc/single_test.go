package jsondoc

import "testing"

func TestSingle(t *testing.T) {
	for text, want := range map[string]bool{
		"$": true, "$.a.b": true, "$['a'][0]": true, "$.a[-1]": true,
		"$.a[*]": false, "$.*": false, "$..a": false, "$.a[0:1]": false, "$['a','b']": false, "$.a[?@.b == 1].c": false,
	} {
		p, err := ParsePath(text)
		if err != nil {
			t.Fatal(text, err)
		}
		if got := p.Single(); got != want {
			t.Errorf("%s: %t", text, got)
		}
	}
}
