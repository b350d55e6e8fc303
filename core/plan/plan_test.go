package plan

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"koinos/core/jsondoc"
	"koinos/core/system"
	"koinos/core/tree"
)

// books writes line by line, desk whole records, hall whole ones and nothing else.
const described = `koinos: system/1
name: s
address: http://127.0.0.1
records:
  books:
    list: {path: /o, records: "$[*]"}
    get: {path: "/o/{key}"}
    key: $.id
    lines: $.lines[*]
    find: {ref: {parameter: ref, path: $.ref}}
    write:
      mapping: m
      find: ref
      aside: [$.who]
      fixed: [$.ref]
      if_match: true
      types: {"$.open": boolean, "$.lines[*].code": text, "$.weight": number}
      create: {path: /o, lines: 2, as: order}
      change: {path: "/o/{key}"}
      lines:
        match: $.n
        key: $.lid
        version: $.tag
        add: {path: "/o/{key}/l", as: lines, at_once: 2}
        change: {path: "/o/{key}/l/{line}"}
        remove: {path: "/o/{key}/l/{line}"}
      acts:
        - {act: confirm, path: "/o/{key}/confirm", while: {path: $.state, is: [draft]}}
        - {act: void, path: "/o/{key}/void", when: cancelled, while: {path: $.state, is: [draft, open]}}
  desk:
    list: {path: /o, records: "$[*]"}
    get: {path: "/o/{key}"}
    key: $.id
    lines: $.parts.rows[*]
    find: {ref: {parameter: ref, path: $.ref}}
    write:
      mapping: m
      find: ref
      create: {path: /o}
      change: {path: "/o/{key}", method: PUT}
  graph:
    list: {path: /g, records: "$[*]"}
    get: {path: /g, graphql: "query ($key: ID!) { o(id: $key) { id } }"}
    key: $.id
    lines: $.lines[*]
    find: {ref: {parameter: ref, path: $.ref}}
    write:
      mapping: m
      find: ref
      create: {path: /g, graphql: "mutation ($input: In!) { make(in: $input) { id } }", lines: 0}
      change: {path: /g, graphql: "mutation ($key: ID!, $of: In!) { change(id: $key, in: $of) { id } }", as: of}
      lines:
        match: $.n
        key: $.lid
        add: {path: /g, graphql: "mutation ($key: ID!, $input: [L!]!) { add }", at_once: 9}
        remove: {path: /g, graphql: "mutation ($line: ID!) { drop }"}
  hall:
    list: {path: /o, records: "$[*]"}
    get: {path: "/o/{key}"}
    key: $.id
    lines: $.lines[*]
    find: {ref: {parameter: ref, path: $.ref}}
    write:
      mapping: m
      find: ref
      create: {path: /o, lines: 0}
      lines: {match: $.n, key: $.lid, add: {path: "/o/{key}/l"}}
  office:
    list: {path: /o, records: "$.data[*]"}
    get: {path: "/o/{key}"}
    key: $.id
    version: $.rev
    lines: $.rows[*]
    find: {ref: {parameter: ref, path: $.ref}}
    write:
      mapping: m
      find: ref
      create: {path: /o, as: data, lines: 0, with: {$.data.type: orders, $.quiet: true, $.level: "1"}}
      change: {path: /o/change, method: POST, as: data, with: {$.data.id: "{key}", $.rev: "{version}"}}
      lines:
        match: $.n
        key: $.row
        version: $.rev
        add: {path: /rows, with: {$.order: "{key}"}}
        change: {path: "/rows/{line}", method: POST, with: {$.rev: "{version}", $.of: "{key}"}}
        remove: {path: /rows/drop, method: POST, with: {$.row: "{line}"}}
      acts:
        - {act: void, path: "/o/{key}/void", with: {$.why.code: 7}, when: cancelled, while: {path: $.state, is: [open]}}
  counter:
    list: {path: /o, records: "$[*]"}
    get: {path: /o, query: {id: "{key}"}}
    key: $.id
    lines: $.rows[*]
    find: {ref: {parameter: ref, path: $.ref}}
    write:
      mapping: m
      find: ref
      create: {path: /o, lines: 0, query: {mode: a b}}
      change: {path: /o, query: {id: "{key}", v: "1"}}
      lines:
        match: $.n
        key: $.row
        add: {path: /rows, query: {of: "o-{key}"}}
        remove: {path: "/rows/{line}", query: {of: "{key}", row: "{line}"}}
`

func node(t testing.TB, text string) *tree.Node {
	t.Helper()
	n, _, err := jsondoc.Parse([]byte(text), 1)
	if err != nil {
		t.Fatal(err)
	}
	return n
}

func kinds(t testing.TB) map[string]*system.Record {
	t.Helper()
	s, err := system.Parse([]byte(described))
	if err != nil {
		t.Fatal(err)
	}
	return s.Records
}

// Each step as one line: method, path, If-Match, body.
func lines(steps []Step) string {
	var b strings.Builder
	for _, s := range steps {
		fmt.Fprintf(&b, "%s: %s %s", s.Does, s.Method, s.Path)
		if s.Match != "" {
			b.WriteString(" if " + s.Match)
		}
		if s.Later {
			b.WriteString(" later")
		}
		if s.Body != nil {
			b.WriteString(" " + string(s.Body))
		}
		b.WriteString("\n")
	}
	return b.String()
}

// What is wanted beside what is found, and the calls that are due.
func TestFor(t *testing.T) {
	all := kinds(t)
	for _, c := range []struct {
		name, kind, wanted, found string
		cancelled                 bool
		want                      string
	}{
		{"made line by line", "books",
			`{"ref":"A","open":"true","weight":"2.50","note":null,"to":{"town":"Saltry"},"who":{"name":"x"},
			  "lines":[{"n":"1","code":7,"q":2},{"n":"2","q":1},{"n":"3","q":1},{"n":"4","q":1},{"n":"5","q":1}]}`, "", false,
			`create it with 2 lines: POST /o {"order":{"ref":"A","open":true,"weight":2.50,"to":{"town":"Saltry"},` +
				`"lines":[{"n":"1","code":"7","q":2},{"n":"2","q":1}]}}
add 2 lines: POST /o/{key}/l {"lines":[{"n":"3","q":1},{"n":"4","q":1}]}
add line 5: POST /o/{key}/l {"lines":[{"n":"5","q":1}]}
confirm it, if $.state is draft then: POST /o/{key}/confirm later
`},
		{"right already", "books", `{"ref":"A","open":"true","note":null,"lines":[{"n":"1","q":"2.0","x":""}]}`,
			`{"id":9,"ref":"A","open":true,"state":"open","more":1,"lines":[{"lid":5,"n":"1","q":2}]}`, false, ""},
		{"a number by its value, a text by its letters", "books", `{"ref":"A","a":"007","b":"7.0","lines":[]}`,
			`{"id":9,"ref":"A","a":"7","b":7}`, false, `change a: PATCH /o/9 if "e1" {"a":"007"}
`},
		{"changed on every level", "books",
			`{"ref":"A","note":null,"to":{"town":"Saltry","zip":"1"},"lines":[{"n":"3","q":3},{"n":"1","q":4}]}`,
			`{"id":"a/b","ref":"A","note":"x","state":"draft","to":{"town":"Ensel","zip":1},
			  "lines":[{"lid":5,"tag":"t5","n":"1","q":2},{"lid":6,"tag":"t6","n":"2","q":1},{"lid":7,"tag":"t7","n":"1","q":2}]}`,
			false, `change note, to/town: PATCH /o/a%2Fb if "e1" {"note":null,"to":{"town":"Saltry"}}
remove line 2: DELETE /o/a%2Fb/l/6 if t6
remove line 1: DELETE /o/a%2Fb/l/7 if t7
change line 1: q: PATCH /o/a%2Fb/l/5 if t5 {"q":4}
add line 3: POST /o/a%2Fb/l {"lines":[{"n":"3","q":3}]}
confirm it: POST /o/a%2Fb/confirm
`},
		{"cancelled here", "books", `{"ref":"A","lines":[]}`,
			`{"id":9,"ref":"B","state":"open","lines":[{"lid":5,"n":"1"}]}`,
			true, "void it: POST /o/9/void\n"},
		{"cancelled on both sides", "books", `{"ref":"A","lines":[]}`, `{"id":9,"state":"void"}`, true, ""},
		{"cancelled before it was there", "books", `{"ref":"A","lines":[]}`, "", true, ""},
		{"fixed", "books", `{"ref":"A","lines":[]}`, `{"id":9,"ref":"B"}`, false,
			`! ref is "B" there and should be "A", but it cannot be changed once the record is made.`},
		{"a line without its mark", "books", `{"ref":"A","lines":[{"n":"1"},{"n":null}]}`, "", false,
			`! Line 2 of the order cannot be told apart: its $.n is "".`},
		{"two lines of a mark", "books", `{"ref":"A","lines":[{"n":"1"},{"n":1}]}`, "", false,
			`! Line 2 of the order cannot be told apart: its $.n is "1".`},
		{"made whole", "desk", `{"ref":"A","parts":{"rows":[{"q":1},{"q":2}]}}`, "", false,
			`create it with 2 lines: POST /o {"ref":"A","parts":{"rows":[{"q":1},{"q":2}]}}
`},
		{"replaced whole", "desk", `{"ref":"A","gone":null,"parts":{"rows":[{"q":1},{"q":2}]}}`,
			`{"id":1,"ref":"A","parts":{"rows":[{"q":1},{"q":3},{"q":3}]}}`, false,
			`change q, line 3: PUT /o/1 {"ref":"A","parts":{"rows":[{"q":1},{"q":2}]}}
`},
		{"the same as a whole", "desk", `{"ref":"A","parts":{"rows":[{"q":1}]}}`,
			`{"id":1,"ref":"A","parts":{"rows":[{"q":1.0,"id":4}]}}`,
			false, ""},
		{"lines one by one", "hall", `{"ref":"A","lines":[{"n":"1"},{"n":"2"}]}`, "", false,
			`create it: POST /o {"ref":"A"}
add line 1: POST /o/{key}/l {"n":"1"}
add line 2: POST /o/{key}/l {"n":"2"}
`},
		{"made by a mutation", "graph", `{"ref":"A","lines":[{"n":"1"}]}`, "", false,
			`create it: POST /g {"query":"mutation ($input: In!) { make(in: $input) { id } }","variables":{"input":{"ref":"A"}}}
add line 1: POST /g {"query":"mutation ($key: ID!, $input: [L!]!) { add }","variables":{"key":"{key}","input":[{"n":"1"}]}}
`},
		{"changed by mutations", "graph", `{"ref":"B","lines":[]}`,
			`{"id":"g/1","ref":"A","lines":[{"lid":"l5","n":"1"}]}`, false,
			`change ref: POST /g {"query":"mutation ($key: ID!, $of: In!) { change(id: $key, in: $of) { id } }",` +
				`"variables":{"key":"g/1","of":{"ref":"B"}}}
remove line 1: POST /g {"query":"mutation ($line: ID!) { drop }","variables":{"line":"l5"}}
`},
		{"no way to change", "hall", `{"ref":"A","note":"x","lines":[]}`, `{"id":1,"ref":"A"}`, false,
			`! note is "" there and should be "x", but the description says nothing of how a record is changed.`},
		{"no way to remove", "hall", `{"ref":"A","lines":[]}`, `{"id":1,"ref":"A","lines":[{"n":"8"}]}`, false,
			`! Line 8 is there and should not be, but the description says nothing of how a line is removed.`},
		{"what goes along with a new record", "office", `{"ref":"A","rows":[{"n":"8","q":1}]}`, "", false,
			`create it: POST /o {"data":{"ref":"A","type":"orders"},"quiet":true,"level":"1"}
add line 8: POST /rows {"n":"8","q":1,"order":"{key}"}
`},
		{"keys and versions in what is sent", "office",
			`{"ref":"B","rows":[{"n":"1","q":1},{"n":"3","q":1}]}`,
			`{"id":9007199254740993,"rev":4,"ref":"A","rows":[{"row":1,"rev":7,"n":"1","q":2},{"row":"2","n":"2","q":1}]}`,
			false, `change ref: POST /o/change {"data":{"ref":"B","id":9007199254740993},"rev":4}
remove line 2: POST /rows/drop {"row":"2"}
change line 1: q: POST /rows/1 {"q":1,"rev":7,"of":9007199254740993}
add line 3: POST /rows {"n":"3","q":1,"order":9007199254740993}
`},
		{"keys in parameters", "counter", `{"ref":"B","rows":[{"n":"3","q":1}]}`,
			`{"id":"a&b/c","ref":"A","rows":[{"row":"x/y z","n":"1","q":2}]}`, false,
			`change ref: PATCH /o?id=a%26b%2Fc&v=1 {"ref":"B"}
remove line 1: DELETE /rows/x%2Fy%20z?of=a%26b%2Fc&row=x%2Fy+z
add line 3: POST /rows?of=o-a%26b%2Fc {"n":"3","q":1}
`},
		{"parameters before there is a key", "counter", `{"ref":"B","rows":[{"n":"3","q":1}]}`, "", false,
			`create it: POST /o?mode=a+b {"ref":"B"}
add line 3: POST /rows?of=o-{key} {"n":"3","q":1}
`},
		{"an act with a reason", "office", `{"ref":"A"}`, `{"id":5,"ref":"A","state":"open"}`, true,
			`void it: POST /o/5/void {"why":{"code":7}}
`},
		{"no way to change a line", "hall", `{"ref":"A","lines":[{"n":"8","q":1}]}`,
			`{"id":1,"ref":"A","lines":[{"n":"8","q":2}]}`,
			false, `! q of line 8 is "2" there and should be "1", but the description says nothing of how a line is changed.`},
	} {
		t.Run(c.name, func(t *testing.T) {
			var found *Found
			if c.found != "" {
				n := node(t, c.found)
				found = &Found{Key: n.Member("id").Text, ETag: `"e1"`, Root: n}
			}
			steps, err := New(all[c.kind]).For(node(t, c.wanted), found, c.cancelled)
			got := lines(steps)
			var no *Blocked
			if errors.As(err, &no) {
				got = "! " + no.Why
			} else if err != nil {
				t.Fatal(err)
			}
			if got != c.want {
				t.Errorf("got\n%s\nwant\n%s", got, c.want)
			}
		})
	}
}

// Whatever is there, the calls bring it to what is wanted: a world that does them finds
// nothing due afterwards, and lines stand once each.
func TestForConverges(t *testing.T) {
	r := New(kinds(t)["books"])
	for seed := range uint64(400) {
		rnd := rand.New(rand.NewPCG(seed, 1))
		some := func(form string) string {
			var rows []string
			for _, n := range rnd.Perm(6)[:rnd.IntN(6)] {
				rows = append(rows, fmt.Sprintf(form, n, n, rnd.IntN(3)))
			}
			return "[" + strings.Join(rows, ",") + "]"
		}
		wanted := node(t, fmt.Sprintf(`{"ref":"A","note":"%d","lines":%s}`, rnd.IntN(2),
			some(`{"n":"%[2]d","q":%[3]d}`)))
		w := &world{rows: map[string]string{}}
		found := &Found{Key: "1", Root: node(t, fmt.Sprintf(`{"id":1,"ref":"A","note":"%d","lines":%s}`, rnd.IntN(2),
			some(`{"lid":1%d,"n":"%d","q":%d}`)))}
		w.take(found.Root)
		steps, err := r.For(wanted, found, false)
		if err != nil {
			t.Fatal(err)
		}
		w.do(t, steps)
		again, err := r.For(wanted, &Found{Key: "1", Root: node(t, w.json())}, false)
		if err != nil || len(again) > 0 {
			t.Fatalf("seed %d: %s is still due, %v", seed, lines(again), err)
		}
	}
}

// world is a record that calls change.
type world struct {
	note string
	rows map[string]string // by id: n and q
	next int
}

func (w *world) take(n *tree.Node) {
	w.note, w.next = n.Member("note").Text, 100
	for l := n.Member("lines").First(); l != nil; l = l.Next() {
		w.rows[l.Member("lid").Text] = l.Member("n").Text + " " + l.Member("q").Text
	}
}

func (w *world) json() string {
	var rows []string
	for id, r := range w.rows {
		n, q, _ := strings.Cut(r, " ")
		rows = append(rows, fmt.Sprintf(`{"lid":%s,"n":"%s","q":%s}`, id, n, q))
	}
	return fmt.Sprintf(`{"id":1,"ref":"A","note":%q,"lines":[%s]}`, w.note, strings.Join(rows, ","))
}

func (w *world) do(t *testing.T, steps []Step) {
	for _, s := range steps {
		at := s.Path[strings.LastIndex(s.Path, "/")+1:]
		switch {
		case s.Method == "DELETE":
			delete(w.rows, at)
		case s.Kind == Modify:
			w.note = node(t, string(s.Body)).Member("note").Text
		case s.Method == "PATCH":
			n, _, _ := strings.Cut(w.rows[at], " ")
			w.rows[at] = n + " " + node(t, string(s.Body)).Member("q").Text
		default:
			for l := node(t, string(s.Body)).Member("lines").First(); l != nil; l = l.Next() {
				w.next++
				w.rows[fmt.Sprint(w.next)] = l.Member("n").Text + " " + l.Member("q").Text
			}
		}
	}
}

func BenchmarkFor(b *testing.B) {
	r := New(kinds(b)["books"])
	var rows []string
	for n := range 10 {
		rows = append(rows, fmt.Sprintf(`{"lid":%d,"n":"%d","code":"00%d","q":%d,"price":"9.50"}`, n, n, n, n))
	}
	text := `{"id":1,"ref":"A","note":"x","lines":[` + strings.Join(rows, ",") + `]}`
	wanted, found := node(b, strings.ReplaceAll(text, `"id":1,`, "")), &Found{Key: "1", Root: node(b, text)}
	for b.Loop() {
		if steps, err := r.For(wanted, found, false); err != nil || len(steps) > 0 {
			b.Fatal(steps, err)
		}
	}
}
