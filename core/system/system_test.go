package system

import (
	"bytes"
	"encoding/json"
	"flag"
	"fmt"
	"maps"
	"net/http"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"koinos/core/finding"
)

const shop = `koinos: system/1
name: slipway
address: http://127.0.0.1:8750/api
auth: {bearer: {env: SLIPWAY_TOKEN}}
records:
  order:
    list:
      path: /orders
      query: {limit: "2"}
      records: $.orders[*]
      paging: {link: next}
      since: {parameter: updated_since, overlap: 5m}
    get: {path: "/orders/{key}"}
    key: $.id
    number: $.name
    stamp: $.updated_at
    lines: $.items[*]
    lines_count: $.items_total
    gone: {path: $.status, is: [deleted]}
`

func parse(t testing.TB, text string) *System {
	t.Helper()
	s, err := Parse([]byte(text))
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// Each mistake has its place and, where one is near, the word that was meant.
func TestMistakes(t *testing.T) {
	for _, c := range []struct{ old, new, at, says, hint string }{
		{"koinos: system/1", "koinos: system/2", "1:9", `koinos cannot be "system/2".`,
			`It may be: system/1. Did you mean "system/1"?`},
		{"paging: {link: next}", "pagging: {link: next}", "11:7", `"pagging" is not a word of list.`,
			`Did you mean "paging"?`},
		{"{link: next}", "{link: next, page: {parameter: p}}", "11:16",
			"paging takes exactly one of: link, next, cursor, page, offset.", ""},
		{"{env: SLIPWAY_TOKEN}", "s3cret", "4:16", "bearer must be a group of words, each with a colon behind it.", ""},
		{"http://127.0.0.1:8750/api", "http://shop.example/api", "3:10",
			`"http://shop.example/api" would send everything in the clear: say https (http is for this machine only)`,
			""},
		{"http://127.0.0.1:8750/api", "https://me:pw@shop.example", "3:10",
			"a name and password do not stand in the address: say auth: {basic: …}", ""},
		{"path: /orders\n", "path: /orders?limit=2\n", "8:13",
			`"/orders?limit=2" is no path below the address, such as /orders; parameters stand under query.`, ""},
		{"/orders/{key}", "/orders/ID", "13:17",
			"the path of one record needs {key}, such as /orders/{key}, or a parameter under query does.", ""},
		{"    key: $.id\n", "", "7:5",
			`order needs "key": What names a record for good: path (RFC 9535) within the record.`, ""},
		{"    stamp: $.updated_at\n", "", "12:26",
			"since goes on from the newest stamp that was seen; say stamp: where a record has it.", ""},
		{"overlap: 5m", "overlap: soon", "12:50", `"soon" is no time such as 30s, 5m or 2h.`, ""},
		{"key: $.id", "key: $.[", "14:10", "", ""},
		{"name: slipway", "name: The Shop", "2:7", "name must be of small letters, digits and hyphens, at most 64.",
			""},
	} {
		_, err := Parse([]byte(strings.Replace(shop, c.old, c.new, 1)))
		found := finding.Of(err)
		if len(found) == 0 {
			t.Errorf("%s: no mistake", c.new)
			continue
		}
		f := found[0]
		if at := fmt.Sprintf("%d:%d", f.Place.Row, f.Place.Column); at != c.at || c.says != "" && f.Message != c.says ||
			c.hint != "" && f.Hint != c.hint {
			t.Errorf("%s\n%s %s (%s)\nwant %s %s (%s)", c.new, at, f.Message, f.Hint, c.at, c.says, c.hint)
		}
	}
}

// A page gives its records with what the description finds in them, and their bytes.
func TestRead(t *testing.T) {
	r := parse(t, shop).Records["order"]
	const body = ` {"orders": [
 {"id": 90071992547409931, "name": "S-1",  "updated_at": "2026-03-02T10:00:00Z", "status": "open", "items": [{"a": 1}, {"a": 2}], "items_total": 2},
 {"id": 7, "name": null, "updated_at": "2026-03-02T10:00:01Z", "status": "deleted", "items": [], "items_total": 3}
]}`
	p, err := r.Read(Answer{URL: "http://127.0.0.1:8750/api/orders?limit=2", Body: []byte(body),
		Link: []string{`</api/orders?limit=2&page=2>; rel="next"`}})
	if err != nil {
		t.Fatal(err)
	}
	want := []Found{
		{Key: "90071992547409931", Number: "S-1", Stamp: "2026-03-02T10:00:00Z", Lines: 2, Expected: 2,
			Place: "/orders/0"},
		{Key: "7", Stamp: "2026-03-02T10:00:01Z", Expected: 3, Gone: true, Place: "/orders/1"},
	}
	raw := strings.Split(strings.TrimSuffix(strings.TrimPrefix(body, " {\"orders\": [\n "), "\n]}"), ",\n ")
	for i, f := range p.Records {
		if string(f.Raw) != raw[i] {
			t.Errorf("the bytes of record %d are %q, want %q", i, f.Raw, raw[i])
		}
		f.Raw, f.Node = nil, nil
		if fmt.Sprint(f) != fmt.Sprint(want[i]) || f.Short() != (i == 1) {
			t.Errorf("%+v\nwant %+v", f, want[i])
		}
	}
	if p.Next != "http://127.0.0.1:8750/api/orders?limit=2&page=2" {
		t.Errorf("it goes on at %s", p.Next)
	}
	for body, says := range map[string]string{
		`{"orders": null}`: "the answer has no list but null; if that means that there " +
			"are none, say may_lack: true of the list at $.orders",
		`{"data": []}`: "the answer has no list; if that means that there are " +
			"none, say may_lack: true of the list at $.orders",
		`{"orders": {"id": 1}}`: "the answer has no list but an object (if it is the one record, say records: $.orders; " +
			"if it has a record by each name, $.orders.*) at $.orders",
		`{"orders": [{"name": "S-1"}]}`: "the answer has a record without a key ($.id; it has name) " +
			"at /orders/0",
		`{"orders": [{"id": 1, "items_total": "many"}]}`: `the answer says that a record has "many" lines at /orders/0`,
		"": "the answer is empty; if that means that there are no records, say may_lack: true of the list",
	} {
		if _, err := r.Read(Answer{URL: "http://127.0.0.1/orders", Body: []byte(body)}); err == nil ||
			err.Error() != says {
			t.Errorf("%s: %v, want %s", body, err, says)
		}
	}
}

// Every way in which lists go on, to its end.
func TestPaging(t *testing.T) {
	type page struct {
		url, body, link string
		next            string // "" is the end, "!" an error
	}
	two, none := `"orders": [{"id": 1}, {"id": 2}]`, `"orders": []`
	for _, c := range []struct {
		paging string
		pages  []page
	}{
		{"{link: next}", []page{
			{"?limit=2", `{` + two + `}`,
				`<https://x.example/>; rel=prev, <?limit=2&after=2>; title="a, b"; rel="last next"`,
				"?limit=2&after=2"},
			{"?limit=2&after=2", `{` + two + `}`, `<?limit=2>; rel=first`, ""},
			{"?limit=2&after=4", `{` + two + `}`, `<?limit=2&after=4>; rel=next`, "!"},
			{"?limit=2&after=4", `{` + two + `}`, `<https://evil.example/orders>; rel=next`, "!"},
		}},
		{"{next: $.next_url}", []page{
			{"?limit=2", `{` + two + `, "next_url": "/api/orders?p=2"}`, "", "?p=2"},
			{"?p=2", `{` + two + `, "next_url": null}`, "", ""}, {"?p=2", `{` + two + `}`, "", ""},
			{"?p=2", `{` + two + `, "next_url": "http://127.0.0.1:9999/api/orders"}`, "", "!"},
		}},
		{"{cursor: {parameter: after, from: $.cursor}}", []page{
			{"?limit=2", `{` + two + `, "cursor": "b+/="}`, "", "?after=b%2B%2F%3D&limit=2"},
			{"?after=b&limit=2", `{` + two + `, "cursor": ""}`, "", ""},
			{"?after=b&limit=2", `{` + two + `, "cursor": "b"}`, "", "!"},
		}},
		{"{cursor: {parameter: after, from: $.cursor, more: $.has_more}}", []page{
			{"?limit=2", `{` + none + `, "cursor": "c", "has_more": true}`, "", "?after=c&limit=2"},
			{"?after=c&limit=2", `{` + two + `, "cursor": "d", "has_more": false}`, "", ""},
		}},
		{"{cursor: {parameter: after, from: $.last}}", []page{ // a feed that gives its last number again
			{"?limit=2", `{` + two + `, "last": 7}`, "", "?after=7&limit=2"},
			{"?after=7&limit=2", `{` + none + `, "last": 7}`, "", ""},
		}},
		{"{page: {parameter: page}}", []page{
			{"?limit=2&page=1", `{` + two + `}`, "", "?limit=2&page=2"}, {"?limit=2&page=9", `{` + none + `}`, "", ""},
		}},
		{"{page: {parameter: page, first: 0, pages: $.pages}}", []page{
			{"?limit=2&page=0", `{` + two + `, "pages": 2}`, "", "?limit=2&page=1"},
			{"?limit=2&page=1", `{` + two + `, "pages": 2}`, "", ""},
			{"?limit=2&page=1", `{` + two + `, "pages": "some"}`, "", "!"},
		}},
		{"{offset: {parameter: skip, total: $.total}}", []page{
			{"?limit=2", `{` + two + `, "total": 3}`, "", "?limit=2&skip=2"},
			{"?limit=2&skip=2", `{"orders": [{"id": 3}], "total": 3}`, "", ""},
			{"?limit=2&skip=2", `{` + none + `, "total": 9}`, "", ""},
		}},
	} {
		r := parse(t, strings.Replace(shop, "{link: next}", c.paging, 1)).Records["order"]
		const base = "http://127.0.0.1:8750/api"
		if first, err := r.First(base, ""); err != nil || first != base+"/orders"+c.pages[0].url {
			t.Errorf("%s begins at %s, %v", c.paging, first, err)
		}
		for _, p := range c.pages {
			got, err := r.Read(Answer{URL: base + "/orders" + p.url, Body: []byte(p.body), Link: []string{p.link}})
			want := ""
			if p.next != "" && p.next != "!" {
				want = base + "/orders" + p.next
			}
			if (err != nil) != (p.next == "!") || err == nil && got.Next != want {
				t.Errorf("%s, %s %s goes on at %+v, %v, want %q", c.paging, p.url, p.body, got, err, p.next)
			}
		}
	}
}

// What is new is asked for from a little before the newest stamp, in the system's form.
func TestSince(t *testing.T) {
	for _, c := range []struct{ form, stamp, want string }{
		{"", "2026-03-02T10:04:59Z", "2026-03-02T09%3A59%3A59Z"},
		{"", "2026-03-02T12:05:00.25+02:00", "2026-03-02T10%3A00%3A00.25Z"},
		{"form: seconds, ", "1772445900", "1772445600"},
		{"form: milliseconds, ", "1772445900123", "1772445600123"},
		{"form: seconds, ", "2026-03-02T10:05:00Z", "1772445600"},
		{"form: date, ", "Mon, 02 Mar 2026 00:03:00 GMT", "2026-03-01"},
		{"form: plain, ", "2026-03-02T10:05:00Z", "2026-03-02+10%3A00%3A00"},
		{"form: number, ", "18446744073709551615", "18446744073709551615"},
		{"as: \"gt:{since}\", ", "2026-03-02T10:05:00Z", "gt%3A2026-03-02T10%3A00%3A00Z"},
	} {
		r := parse(t, strings.Replace(shop, "updated_since, ", "updated_since, "+c.form, 1)).Records["order"]
		if got, err := r.First("http://127.0.0.1", c.stamp); err != nil ||
			got != "http://127.0.0.1/orders?limit=2&updated_since="+c.want {
			t.Errorf("%s %s asks %s, %v", c.form, c.stamp, got, err)
		}
	}
	r := parse(t, shop).Records["order"]
	if _, err := r.First("http://127.0.0.1", "yesterday"); err == nil {
		t.Error("yesterday is a time")
	}
	for _, c := range [][3]string{{"", "a", "a"}, {"2026-03-02T10:00:00Z", "2026-03-02T11:30:00+02:00",
		"2026-03-02T10:00:00Z"},
		{"9", "10", "10"}, {"x9", "x10", "x9"}} {
		if got := Newer(c[0], c[1]); got != c[2] {
			t.Errorf("of %q and %q %q is newer, want %q", c[0], c[1], got, c[2])
		}
	}
}

// An address may come from the environment, and is looked at then.
func TestResolve(t *testing.T) {
	env := map[string]string{"SHOP": "https://shop.example/", "BAD": "http://shop.example"}
	get := func(name string) (string, bool) { v, ok := env[name]; return v, ok }
	for address, want := range map[string]string{"{env: SHOP}": "https://shop.example",
		"{env:SHOP}api": "https://shop.example/api",
		"{env: BAD}":    "", "{env: NONE}": ""} {
		if got, err := Resolve(address, get); (err == nil) != (want != "") || err == nil && got != want {
			t.Errorf("%s is %s, %v", address, got, err)
		}
	}
}

// Limits have their usual values.
func TestLimits(t *testing.T) {
	if l := parse(t, shop).Limits; l != (Limits{Rate: 10, Burst: 1, AtOnce: 4, Timeout: 30 * time.Second,
		Largest: 16 << 20}) {
		t.Errorf("%+v", l)
	}
	if names := parse(t, shop).RecordNames(); !slices.Equal(names, []string{"order"}) {
		t.Error(names)
	}
	if s := Schema(); !slices.Contains(slices.Collect(maps.Keys(s["properties"].(map[string]any))), "records") {
		t.Error("the schema does not know records")
	}
}

var update = flag.Bool("update", false, "write the published schema anew")

// The schema in the documents is the grammar's.
func TestPublishedSchema(t *testing.T) {
	const name = "../../docs/system.schema.json"
	want, err := json.MarshalIndent(Schema(), "", "  ")
	if err != nil {
		t.Fatal(err)
	}
	want = append(want, '\n')
	if *update {
		if err := os.WriteFile(name, want, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if got, err := os.ReadFile(name); err != nil || !bytes.Equal(got, want) {
		t.Errorf("%s is not the grammar's (%v); write it with make generate", name, err)
	}
}

// The descriptions in the documents and the demo are sound.
func TestDocumented(t *testing.T) {
	guide, err := os.ReadFile("../../docs/systems.md")
	if err != nil {
		t.Fatal(err)
	}
	_, rest, _ := strings.Cut(string(guide), "```yaml\n")
	example, _, ok := strings.Cut(rest, "```")
	if s := parse(t, example); !ok || s.Records["order"].Mapping != "slipway-orders" {
		t.Errorf("%+v", s)
	}
	for _, name := range []string{"demo/systems/ledgerline.yaml", "docs/standins/slipway-graphql.yaml"} {
		text, err := os.ReadFile("../../" + name)
		if err != nil {
			t.Fatal(err)
		}
		if parse(t, string(text)); strings.Count(string(text), "\n") >= 80 {
			t.Errorf("%s is longer than it should be", name)
		}
	}
	kept, err := os.ReadFile("../../demo/systems/slipway.yaml")
	if err != nil {
		t.Fatal(err)
	}
	if names := parse(t, string(kept)).RecordNames(); !slices.Equal(names, []string{"customer", "order", "parcel"}) {
		t.Error(names)
	}
}

// No description, header or answer crashes.
func FuzzParse(f *testing.F) {
	f.Add(shop)
	f.Fuzz(func(_ *testing.T, text string) { _, _ = Parse([]byte(text)) })
}

func FuzzLink(f *testing.F) {
	for _, s := range []string{`<a>; rel=next`, `<a>; rel="x next"; title="a\"b", <b>`, `<a>;;,<`, `<a>;rel=`, `;,"`} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, h string) {
		if target, ok := linked([]string{h}, "next"); ok && !strings.Contains(h, strings.TrimSpace(target)) {
			t.Errorf("%q is not in %q", target, h)
		}
	})
}

func FuzzRead(f *testing.F) {
	f.Add(`{"orders": [{"id": 1, "items": [1], "items_total": 1}]}`)
	r := parse(f, shop).Records["order"]
	f.Fuzz(func(t *testing.T, body string) {
		p, err := r.Read(Answer{URL: "http://127.0.0.1/orders", Body: []byte(body)})
		if err != nil {
			return
		}
		for _, found := range p.Records {
			if len(found.Raw) == 0 || !strings.Contains(body, string(found.Raw)) {
				t.Errorf("%q is not in %q", found.Raw, body)
			}
		}
	})
}

// What is wrong about finding and writing is said at its place.
func TestParseWriting(t *testing.T) {
	const head = "koinos: system/1\nname: s\naddress: https://s.example\nrecords:\n"
	const list = "    list: {path: /o, records: \"$[*]\"}\n    key: $.id\n"
	for _, c := range []struct{ text, want string }{
		{"  a:\n" + list + "    find: {r: {parameter: r, path: $.r}}\n    write: {create: {path: /o}, mapping: m, find: r}\n",
			"9:42 say get, too: how one record is read."},
		{"  a:\n" + list + "    write: {mapping: m}\n",
			"8:13 say either create, the call that makes a record, or file, in a folder."},
		{"  a:\n" + list + "    write: {file: {path: /out, name: a.txt, record: \"{$.x}{when}{sum $}\"}}\n",
			"5:3 a is a file, but the system is no folder.\n8:26 \"/out\" is no folder below the system's.\n" +
				"8:38 the name of a file needs {id}, and no folder.\n" +
				"8:53 {when} is nothing that can stand here: id, today, now, records, lines, parts, a path, or sum " +
				"and a path."},
		{"  a:\n" + list + "    write: {create: {path: /o}, of: b}\n  b:\n" + list,
			"8:37 of is another kind of record here that can be read (get); there are a, b."},
		{"  a:\n" + list + "    find: {r: {path: $.r}}\n",
			"8:12 say either parameter or in: where records with the value are found."},
		{"  a:\n" + list + "    write: {create: {path: /o}, find: ref}\n",
			`8:39 the record has no way "ref" to be found; say it under find.`},
		{"  a:\n" + list + "    write: {create: {path: /o}, change: {path: /o}}\n",
			"8:48 the path needs {key}, or a value under query or with does."},
		{"  a:\n" + list + "    write: {create: {path: \"https://x.example/o\"}}\n",
			`8:28 "https://x.example/o" is no path below the address, such as /orders; parameters stand under query.`},
		{"  a:\n" + list + "    write: {create: {path: /o, lines: 0}, lines: {match: $.n, key: $.id}}\n",
			"8:58 say lines: of the record too, where its lines stand.\n" +
				"8:58 say add: how the lines get there that do not go with the record."},
		{"  a:\n" + list + "    write: {create: {path: /o}, acts: [{act: go, path: \"/o/{key}/go\"}]}\n",
			`8:41 each value of acts needs "while": While it is due: a value of the record is one of these. Doing it ends that. Add it.`},
		{"  a:\n" + list + "    write: {create: {path: /o}, types: {$.x: int}}\n",
			`8:46 $.x cannot be "int". It may be: text, number, boolean, date, time.`},
		{"  a:\n" + list + "    refers: [{path: $.c, to: b, by: mail}]\n",
			`8:30 "b" is no kind of record here; there are a.`},
		{"  a:\n" + list + "    refers: [{path: $.c, to: b, by: mail, create: {m: $.m}}]\n  b:\n" + list,
			`8:37 b has no way "mail" to be found; say it under its find.`},
		{"  a:\n" + list + "    refers: [{path: $.c, to: b, by: mail, create: {m: $.m}}]\n  b:\n" + list +
			"    find: {mail: {parameter: mail, path: $.mail}}\n",
			"8:52 b says nothing of how one is made; say write: {create: …} there."},
	} {
		_, err := Parse([]byte(head + c.text))
		var got []string
		for _, f := range finding.Of(err) {
			got = append(got, strings.TrimSpace(fmt.Sprintf("%d:%d %s %s", f.Place.Row, f.Place.Column, f.Message,
				f.Hint)))
		}
		if strings.Join(got, "\n") != c.want {
			t.Errorf("%s\n got %s\nwant %s", c.text, strings.Join(got, "\n"), c.want)
		}
	}
}

// How long an answer asks to wait: what it says itself, or until enough points are back.
func TestPause(t *testing.T) {
	s := parse(t, strings.Replace(shop, "records:\n", "limits: {wait: {path: $.wait, unit: milliseconds}, "+
		"budget: {left: $.p.left, a_second: $.p.back, keep: 100}}\nrecords:\n", 1))
	for body, want := range map[string]time.Duration{`{"wait": 1500}`: 1500 * time.Millisecond, `{}`: 0,
		`{"wait": "soon"}`:                0,
		`{"p": {"left": 50, "back": 25}}`: 2 * time.Second, `{"p": {"left": 100, "back": 25}}`: 0,
		`{"p": {"left": -25, "back": 25}, "wait": 1}`: 5 * time.Second, `{"p": {"left": 5}}`: 0, `[`: 0} {
		if got := s.Limits.Pause([]byte(body)); got != want {
			t.Errorf("%s: %v, want %v", body, got, want)
		}
	}
}

// A list that is asked for by POST, and a cursor in a header.
func TestPosted(t *testing.T) {
	s := parse(t, `koinos: system/1
name: s
address: https://s.example
records:
  o:
    list:
      path: /search
      method: POST
      query: {size: "50", filter.kind: sale, filter.a~b: x}
      records: $.hits[*]
      paging: {cursor: {parameter: page.after, header: X-Next}}
      since: {parameter: filter.since}
    key: $.id
    stamp: $.at
`)
	l := s.Records["o"].List
	first, err := l.First("https://s.example", "2026-03-02T10:05:00Z")
	if err != nil {
		t.Fatal(err)
	}
	for i, want := range []string{
		`{"filter":{"a~b":"x","kind":"sale","since":"2026-03-02T10:05:00Z"},"size":50}`,
		`{"filter":{"a~b":"x","kind":"sale","since":"2026-03-02T10:05:00Z"},"page":{"after":"c 2"},"size":50}`,
	} {
		to, body, err := l.Request(first)
		if err != nil || to != "https://s.example/search" || string(body) != want {
			t.Errorf("page %d: %s %s %v, want %s", i+1, to, body, err, want)
		}
		p, err := s.Records["o"].Read(Answer{URL: first, Body: []byte(`{"hits": []}`),
			Header: http.Header{"X-Next": {map[int]string{0: "c 2"}[i]}}})
		if err != nil {
			t.Fatal(err)
		}
		first = p.Next
	}
	if first != "" {
		t.Errorf("it goes on at %s", first)
	}
}
