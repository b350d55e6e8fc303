package system

import (
	"strings"
	"testing"

	"koinos/core/jsondoc"
)

// What systems say of a problem, in whatever form they say it.
func TestWords(t *testing.T) {
	for body, want := range map[string]string{
		`{"title": "Bad Request", "detail": "limit is 100", "status": 400}`: "limit is 100",
		`{"error": "no such sku"}`:                                                                                    "no such sku",
		`{"error": {"code": "E7", "message": "no such  sku"}}`:                                                        "no such sku",
		`{"error": "invalid_client", "error_description": "The secret is wrong."}`:                                    "The secret is wrong.; invalid_client",
		`{"message": "Validation failed", "errors": [{"field": "qty", "message": "is 0"}, {"message": "is closed"}]}`: "Validation failed; qty: is 0; is closed",
		`{"errors": {"qty": ["must be a number", "is missing"], "sku": "unknown"}}`:                                   "qty: must be a number; is missing; sku: unknown",
		`{"errors": ["first", "second", "first"]}`:                                                                    "first; second",
		`{"errors": [{"detail": "too long", "source": {"pointer": "/data/attributes/note"}}]}`:                        "/data/attributes/note: too long",
		`[{"message": "one"}, {"message": "two"}]`:                                                                    "one; two",
		`{"violations": [{"path": "lines[0].qty", "text": "negative"}]}`:                                              "lines[0].qty: negative",
		`{"code": 17}`: "",
		`"closed"`:     "closed",
		`not json`:     "",
		`{"message": "` + strings.Repeat("ä", 500) + `"}`: strings.Repeat("ä", 400) + " …",
	} {
		if got := Words([]byte(body)); got != want {
			t.Errorf("%s says %q, want %q", body, got, want)
		}
	}
}

const meaning = `koinos: system/1
name: desk
address: https://desk.example
errors:
  means:
    - {status: 409, path: $.code, is: [STALE, MOVED], means: changed}
    - {status: [409, 423], means: later}
    - {path: "$.errors[*].code", is: TOO_DEAR, means: smaller}
records:
  order: {list: {path: /o, records: "$[*]"}, key: $.id}
`

// What an answer means follows from its status, a value, or both; the first that fits counts.
func TestMeaning(t *testing.T) {
	s, err := Parse([]byte(meaning))
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		status int
		body   string
		want   string
	}{
		{409, `{"code": "MOVED"}`, "changed"},
		{409, `{"code": "TAKEN"}`, "later"},
		{409, ``, "later"},
		{423, `<html>`, "later"},
		{412, `{"code": "STALE"}`, ""},
		{400, `{"errors": [{"code": "A"}, {"code": "TOO_DEAR"}]}`, "smaller"},
		{200, `{"errors": [{"code": "TOO_DEAR"}]}`, "smaller"},
		{302, `{"errors": [{"code": "TOO_DEAR"}]}`, ""},
	} {
		if got := s.Meaning(c.status, []byte(c.body)); got != c.want {
			t.Errorf("%d %s means %q, want %q", c.status, c.body, got, c.want)
		}
	}
}

// A page becomes smaller by its parameter, whatever else its address has.
func TestSmaller(t *testing.T) {
	l := &List{Size: "limit"}
	for address, want := range map[string]string{
		"https://a.example/o?after=x%3D&limit=50": "https://a.example/o?after=x%3D&limit=25",
		"https://a.example/o?limit=3":             "https://a.example/o?limit=1",
		"https://a.example/o?limit=1":             "",
		"https://a.example/o?limit=all":           "",
		"https://a.example/o":                     "",
	} {
		if got, ok := l.Smaller(address); ok != (want != "") || ok && got != want {
			t.Errorf("%s becomes %s, %t", address, got, ok)
		}
	}
}

// Of what a list gives only those count that have the very value, and fulfil the condition.
func TestFindIs(t *testing.T) {
	s, err := Parse([]byte(`koinos: system/1
name: desk
address: https://desk.example
records:
  buyer:
    list: {path: /b, records: "$[*]"}
    key: $.id
    find:
      mail: {parameter: q, path: $.mail, fold: true}
      live: {parameter: q, path: $.mail, only: {path: "$.flags[*]", is: [live, new]}}
`))
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		way, record string
		want        bool
	}{
		{"mail", `{"mail": "ida@x.example"}`, true}, {"mail", `{"mail": "IDA@x.example"}`, true},
		{"mail", `{"mail": "ida@x.example.org"}`, false}, {"mail", `{"mail": null}`, false},
		{"live", `{"mail": "ida@x.example"}`, false}, {"live", `{"mail": "ida@x.example", "flags": ["old", "new"]}`,
			true},
		{"live", `{"mail": "IDA@x.example", "flags": ["new"]}`, false},
	} {
		n, _, err := jsondoc.Parse([]byte(c.record), 1)
		if err != nil {
			t.Fatal(err)
		}
		if got := s.Records["buyer"].Finds[c.way].Is(n, "ida@x.example"); got != c.want {
			t.Errorf("%s %s: %t", c.way, c.record, got)
		}
	}
}

// Keys and values go into parameters, escaped, where that is how a system is asked.
func TestParameters(t *testing.T) {
	s, err := Parse([]byte(`koinos: system/1
name: desk
address: https://desk.example/api
records:
  order:
    list: {path: /o, records: "$.d[*]", query: {$top: "9"}}
    get: {path: /o, query: {id: "{key}", expand: rows}}
    rest: {path: /rows, query: {$filter: "order eq '{key}'"}, records: "$.d[*]", into: $.rows}
    key: $.id
    lines: $.rows[*]
    find: {ref: {parameter: $filter, as: "ref eq '{value}'", path: $.ref}, no: {parameter: q, as: "no:{value}", path: $.no}}
`))
	if err != nil {
		t.Fatal(err)
	}
	r := s.Records["order"]
	const base = "https://desk.example/api"
	rest, err := r.Rest[0].First(base, &Found{Key: "a&b"})
	if want := base + "/rows?%24filter=order+eq+%27a%26b%27"; err != nil || rest != want {
		t.Errorf("lines at %s, %v; want %s", rest, err, want)
	}
	if got, want := r.One(base, "a&b"), base+"/o?expand=rows&id=a%26b"; got != want {
		t.Errorf("one at %s, want %s", got, want)
	}
	for way, want := range map[string]string{"ref": base + "/o?%24filter=ref+eq+%27O%27%27Neil%27&%24top=9",
		"no": base + "/o?%24top=9&q=no%3AO%27Neil"} {
		if got, err := r.Like(base, r.Finds[way], "O'Neil"); err != nil || got != want {
			t.Errorf("found by %s at %s, %v; want %s", way, got, err, want)
		}
	}
}

// FuzzErrors looks for bytes that the readers of problems do not stand.
func FuzzErrors(f *testing.F) {
	s, err := Parse([]byte(meaning))
	if err != nil {
		f.Fatal(err)
	}
	f.Add([]byte(`{"errors": {"qty": ["must be a number", {"message": "x"}]}, "error": {"error": {"message": "y"}}}`))
	f.Add([]byte(`{"errors": [[[{"source": {"source": {"pointer": "/a"}}, "detail": "z"}]]], "data": null}`))
	f.Fuzz(func(t *testing.T, body []byte) {
		if words := Words(body); len([]rune(words)) > mostWords+2 {
			t.Errorf("%d letters", len([]rune(words)))
		}
		s.Meaning(409, body)
		s.Refused(body)
		Partial(body)
	})
}

// A part that is asked for by the number is not asked for where there is none: that would be
// everybody's.
func TestRestByNumber(t *testing.T) {
	s := parse(t, `koinos: system/1
name: s
address: https://s.example
records:
  o:
    list: {path: /o, records: "$[*]"}
    key: $.id
    number: $.no
    rest: {path: /paid, query: {order: "{number}"}, records: "$[*]", into: $.paid}
`)
	rest := &s.Records["o"].Rest[0]
	if got, err := rest.First("https://s.example", &Found{Key: "1", Number: "A 1"}); err != nil ||
		got != "https://s.example/paid?order=A+1" {
		t.Error(got, err)
	}
	page, err := s.Records["o"].Read(Answer{URL: "https://s.example/o", Status: 200,
		Body: []byte(`[{"id": 1, "no": ""}, {"id": 2, "no": "A 2"}]`)})
	if err != nil || len(page.Records) != 2 || !page.Records[0].Short() || page.Records[1].Short() {
		t.Fatal(page, err)
	}
	if got, err := rest.First("https://s.example", &page.Records[0]); got != "" || err != nil {
		t.Error(got, err)
	}
}
