package plan

import (
	"testing"

	"koinos/core/jsondoc"
	"koinos/core/system"
	"koinos/core/tree"
)

// Values are compared by what they mean: what another system writes otherwise is no difference.
func TestComparedByType(t *testing.T) {
	y, err := system.Parse([]byte(`koinos: system/1
name: s
address: http://127.0.0.1
records:
  o:
    list: {path: /o, records: "$[*]"}
    get: {path: "/o/{key}"}
    key: $.id
    lines: $.lines[*]
    find: {ref: {parameter: ref, path: $.ref}}
    write:
      mapping: m
      find: ref
      types: {$.day: date, $.at: time, $.rate: number, "$.lines[*].due": date}
      fold: [$.town, "$.lines[*].unit"]
      create: {path: /o}
      change: {path: "/o/{key}"}
      lines: {match: $.n, key: $.n, add: {path: "/o/{key}/l"}, change: {path: "/o/{key}/l/{line}"}}
`))
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		wanted, found string
		body          string // of the change; "" is none
	}{
		{`{"day": "2026-03-02"}`, `{"day": "2026-03-02T00:00:00Z"}`, ""},
		{`{"day": "2026-03-02"}`, `{"day": "2026-03-02T23:00:00-05:00"}`, ""}, // its day is the one that is written
		{`{"day": "2026-03-02"}`, `{"day": 1772409600}`, ""},
		{`{"day": "2026-03-02"}`, `{"day": "2026-03-03T00:00:00Z"}`, `{"day":"2026-03-02"}`},
		{`{"day": "2026-03-02"}`, `{"day": "soon"}`, `{"day":"2026-03-02"}`},
		{`{"day": ""}`, `{"day": null}`, ""},
		{`{"at": "2026-03-02T10:00:00+01:00"}`, `{"at": "2026-03-02T09:00:00.000Z"}`, ""},
		{`{"at": "2026-03-02T10:00:00Z"}`, `{"at": "2026-03-02T10:00:01Z"}`, `{"at":"2026-03-02T10:00:00Z"}`},
		{`{"rate": "5.0"}`, `{"rate": "5.00"}`, ""},
		{`{"rate": "5.0"}`, `{"rate": 5}`, ""},
		{`{"town": "Sundvik"}`, `{"town": "SUNDVIK"}`, ""},
		{`{"town": "Sundvik"}`, `{"town": "SUNDVIG"}`, `{"town":"Sundvik"}`},
		{`{"other": "Sundvik"}`, `{"other": "SUNDVIK"}`, `{"other":"Sundvik"}`},
		{`{"lines": [{"n": "1", "due": "2026-03-02", "unit": "pce"}]}`,
			`{"lines": [{"n": "1", "due": "2026-03-02T00:00:00", "unit": "PCE"}]}`, ""},
		{`{"lines": [{"n": "1", "due": "2026-03-02", "unit": "pce"}]}`,
			`{"lines": [{"n": "1", "due": "2026-03-04T00:00:00", "unit": "BOX"}]}`, `{"due":"2026-03-02","unit":"pce"}`},
	} {
		node := func(text string) *tree.Node {
			n, _, err := jsondoc.Parse([]byte(text), 1)
			if err != nil {
				t.Fatal(err)
			}
			return n
		}
		steps, err := New(y.Records["o"]).For(node(c.wanted), &Found{Key: "1", Root: node(c.found)}, false)
		got := ""
		if len(steps) > 0 {
			got = string(steps[0].Body)
		}
		if got != c.body || err != nil {
			t.Errorf("%s beside %s: %s %v", c.wanted, c.found, got, err)
		}
	}
}
