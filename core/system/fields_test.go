package system

import (
	"reflect"
	"strings"
	"testing"

	"koinos/core/jsondoc"
	"koinos/core/tree"
)

func described(t *testing.T, fields string) *Record {
	t.Helper()
	s, err := Parse([]byte(`koinos: system/1
name: desk
address: https://desk.example
records:
  order:
    list: {path: /o, records: "$[*]"}
    key: $.id
    lines: $.parts.rows[*]
    fields: ` + fields + "\n"))
	if err != nil {
		t.Fatal(err)
	}
	return s.Records["order"]
}

const listed = `{path: /meta, records: "$.fields[*]", name: $.id, type: $.kind, types: {money: number, code: text}, longest: $.max,
  choices: "$.values[*].code", needed: {path: $.must, is: [true, "yes"]}, fixed: {path: $.write, is: [once]},
  never: {path: $.write, is: [no]}}`

// What systems say of their fields, in lists of their own and as JSON Schema.
func TestTold(t *testing.T) {
	for _, c := range []struct {
		name, fields, answer string
		want                 []TheirField
		err                  string
	}{
		{"a list", listed, `{"fields": [
			{"id": "ref", "kind": "CODE?", "max": "40", "must": true, "write": "once"},
			{"id": "ship_to.zip", "kind": "string", "max": 9, "must": "yes"},
			{"id": "total", "kind": "money", "must": false, "write": "no"},
			{"id": "state", "kind": "code", "values": [{"code": "open"}, {"code": "shut"}]},
			{"id": "parts.rows[].qty", "kind": "Decimal", "must": true},
			{"id": "/parts/rows/note", "kind": "blob"}]}`,
			[]TheirField{
				{Name: "ref", Pointer: "/ref", Needed: true, Fixed: true, Longest: 40},
				{Name: "ship_to.zip", Pointer: "/ship_to/zip", Type: "text", Needed: true, Longest: 9},
				{Name: "total", Pointer: "/total", Type: "number", Never: true},
				{Name: "state", Pointer: "/state", Type: "text", Choices: []string{"open", "shut"}},
				{Name: "parts.rows[].qty", Pointer: "/qty", OfLine: true, Type: "number", Needed: true},
				{Name: "/parts/rows/note", Pointer: "/note", OfLine: true}}, ""},
		{"a schema", `{path: /schema, schema: $.order}`, `{"order": {"required": ["ref", "parts"], "properties": {
			"id": {"type": "integer", "readOnly": true},
			"ref": {"type": "string", "maxLength": 40},
			"day": {"type": ["null", "string"], "format": "date"},
			"to": {"properties": {"zip": {"type": "string"}}, "required": ["zip"]},
			"open": {"type": "boolean"},
			"state": {"enum": ["open", null, "shut"]},
			"parts": {"properties": {"rows": {"type": "array", "items": {"required": ["qty"],
			  "properties": {"qty": {"type": "number"}, "tags": {"type": "array"}}}}}}}}}`,
			[]TheirField{
				{Name: "id", Pointer: "/id", Type: "number", Never: true},
				{Name: "ref", Pointer: "/ref", Type: "text", Needed: true, Longest: 40},
				{Name: "day", Pointer: "/day", Type: "date"},
				{Name: "to.zip", Pointer: "/to/zip", Type: "text"},
				{Name: "open", Pointer: "/open", Type: "boolean"},
				{Name: "state", Pointer: "/state", Choices: []string{"open", "shut"}},
				{Name: "parts.rows.qty", Pointer: "/qty", OfLine: true, Type: "number", Needed: true},
				{Name: "parts.rows.tags", Pointer: "/tags", OfLine: true}}, ""},
		{"an empty list", listed, `{"fields": []}`, nil, "the answer has no fields at $.fields[*]"},
		{"a field without a name", listed, `{"fields": [{"name": "x"}]}`, nil,
			"the answer has a field without a name at /fields/0"},
		{"no schema", `{path: /schema, schema: $}`, `{"type": "object"}`, nil,
			"the answer has no JSON Schema with properties at $"},
	} {
		got, err := described(t, c.fields).Told(Answer{Body: []byte(c.answer)})
		if c.err != "" && (err == nil || err.Error() != c.err) || c.err == "" && err != nil {
			t.Errorf("%s: %v", c.name, err)
		}
		if !reflect.DeepEqual(got, c.want) {
			t.Errorf("%s:\n got %+v\nwant %+v", c.name, got, c.want)
		}
	}
}

// A schema that holds itself is read to an end.
func TestToldDeep(t *testing.T) {
	deep := strings.Repeat(`{"properties": {"a": `, 40) + `{}` + strings.Repeat(`}}`, 40)
	got, err := described(t, "{path: /s, schema: $}").Told(Answer{Body: []byte(deep)})
	if err != nil || len(got) != 0 {
		t.Errorf("%v, %v", got, err)
	}
}

// What a system would not take of a value.
func TestFieldWrong(t *testing.T) {
	for _, c := range []struct {
		f      TheirField
		value  string // JSON; "" is absent
		making bool
		want   string
	}{
		{TheirField{Needed: true}, "", true, "is blank, but needed there"},
		{TheirField{Needed: true}, "", false, ""},
		{TheirField{Needed: true}, "null", false, "is blank, but needed there"},
		{TheirField{Needed: true, Never: true}, "", true, ""},
		{TheirField{Never: true}, `"x"`, true, `is "x", but cannot be written there`},
		{TheirField{Never: true}, `"x"`, false, ""},
		{TheirField{Longest: 3}, `"äöü"`, true, ""},
		{TheirField{Longest: 3}, `"äöüß"`, true, "has 4 letters, but may have 3 there"},
		{TheirField{Choices: []string{"a", "b"}}, `"c"`, false, `is "c", but can only be a, b there`},
		{TheirField{Type: "number"}, `"1.50"`, true, ""},
		{TheirField{Type: "number"}, `"1,50"`, true, `is "1,50", but must be a number there`},
		{TheirField{Type: "boolean"}, `"yes"`, true, `is "yes", but must be a boolean there`},
		{TheirField{Type: "date"}, `"2026-02-29"`, true, `is "2026-02-29", but must be a date there`},
		{TheirField{Type: "date"}, `"2026-02-28"`, true, ""},
		{TheirField{Type: "time"}, `"2026-02-28T10:00:00Z"`, true, ""},
		{TheirField{Type: "time"}, `"noon"`, true, `is "noon", but must be a time there`},
	} {
		var n *tree.Node
		if c.value != "" {
			var err error
			if n, _, err = jsondoc.Parse([]byte(c.value), 1); err != nil {
				t.Fatal(err)
			}
		}
		if got := c.f.Wrong(n, c.making); got != c.want {
			t.Errorf("%+v %s: %q, want %q", c.f, c.value, got, c.want)
		}
	}
}
