package system

import (
	"strings"
	"testing"
	"time"

	"koinos/core/jsondoc"
	"koinos/core/tree"
)

const outward = `koinos: system/1
name: yard
folder: /yard
records:
  pick:
    key: $.order
    lines: $.lines[*]
    write:
      mapping: m
      file:
        path: out
        name: P-{id}.txt
        SEGMENTS
        record: "R+{$.order}+{$.to}'"
        line: "L+{$.qty}'"
        tail: "T+{lines}+{parts}+{sum $.qty}'"
`

// What a value says is in the file, whatever is in it, or there is no file.
func TestFileOut(t *testing.T) {
	const release = `segments: {end: "'", element: "+", release: "?"}`
	const quoted = `segments: {end: "'", element: "+", quoted: '"'}`
	const neither = `segments: {end: "'", element: "+"}`
	for _, c := range []struct{ segments, record, want string }{
		{release, `{"order": "A1", "to": "Otis", "lines": [{"qty": 2}, {"qty": 0.50}]}`, "R+A1+Otis'L+2'L+0.50'T+2+4+2.50'"},
		{release, `{"order": "A1", "to": "O'Hara + sons?", "lines": []}`, "R+A1+O?'Hara ?+ sons??'T+0+2+0'"},
		{quoted, `{"order": "A1", "to": "the \"Anchor\" + inn", "lines": []}`, `R+A1+"the ""Anchor"" + inn"'T+0+2+0'`},
		{release, `{"order": "A1", "lines": []}`, "R+A1+'T+0+2+0'"},
		{neither, `{"order": "A1", "to": "O'Hara", "lines": []}`,
			`! $.to is "O'Hara", and "'" cannot stand in the file: say release or quoted in segments.`},
		{"", `{"order": "A1", "to": "first\nsecond", "lines": []}`,
			`! $.to is "first\nsecond", and "\n" cannot stand in the file: say release or quoted in segments.`},
		{release, `{"order": "A1", "to": "", "lines": [{"qty": 2}, {"qty": "few"}]}`,
			`! The sum of $.qty cannot be worked out: on line 2 it is "few".`},
	} {
		text := strings.Replace(outward, "SEGMENTS", c.segments, 1)
		if c.segments == "" {
			text = strings.Replace(text, "+{parts}", "", 1)
		}
		y, err := Parse([]byte(text))
		if err != nil {
			t.Fatal(err)
		}
		record, lines := recordOf(t, y, c.record)
		_, got, err := y.Records["pick"].Write.File.Text([]FileRecord{{record, lines, ""}}, time.Now())
		if err != nil {
			got = "! " + err.Error()
		}
		if got != c.want {
			t.Errorf("%s %s:\n got %s\nwant %s", c.segments, c.record, got, c.want)
		}
	}
}

func recordOf(t *testing.T, y *System, text string) (*tree.Node, []*tree.Node) {
	t.Helper()
	n, _, err := jsondoc.Parse([]byte(text), 1)
	if err != nil {
		t.Fatal(err)
	}
	return n, y.Records["pick"].Lines.All(n)
}

// The id of a file is the same for the same thing, and another one for whatever differs.
func TestFileOutID(t *testing.T) {
	text := strings.Replace(outward, "SEGMENTS", "", 1)
	if _, err := Parse([]byte(text)); err == nil ||
		!strings.Contains(err.Error(), "{parts} counts segments: say segments.") {
		t.Error(err)
	}
	y, err := Parse([]byte(strings.Replace(text, "+{parts}", "", 1)))
	if err != nil {
		t.Fatal(err)
	}
	ids := map[string]string{}
	for _, c := range []struct{ record, occasion string }{
		{`{"order": "A1", "lines": [{"qty": 2}]}`, "7"}, {`{"order": "A1", "lines": [{"qty": 3}]}`, "7"},
		{`{"order": "A1", "lines": [{"qty": 2}]}`, "7 part 2"},
	} {
		record, lines := recordOf(t, y, c.record)
		file := y.Records["pick"].Write.File
		id, _, err := file.Text([]FileRecord{{record, lines, c.occasion}}, time.Now())
		again, _, _ := file.Text([]FileRecord{{record, lines, c.occasion}}, time.Now().Add(48*time.Hour))
		if err != nil || id != again || len(id) != 12 || ids[id] != "" {
			t.Errorf("%s %s: %s and %s, as %q %v", c.record, c.occasion, id, again, ids[id], err)
		}
		ids[id] = c.record + c.occasion
	}
}
