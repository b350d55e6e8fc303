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

func parsed(t testing.TB, text string) *tree.Node {
	t.Helper()
	n, _, err := jsondoc.Parse([]byte(text), 1)
	if err != nil {
		t.Fatalf("%s: %v", text, err)
	}
	return n
}

const mergedSystem = `koinos: system/1
name: books
address: http://127.0.0.1
records:
  order:
    list: {path: /o, records: "$[*]"}
    get: {path: "/o/{key}"}
    key: $.id
    lines: $.lines[*]
    find: {ref: {parameter: ref, path: $.ref}}
    write:
      mapping: m
      find: ref
      create: {path: /o}
      change: {path: "/o/{key}"}
      lines:
        match: $.no
        key: $.id
        add: {path: "/o/{key}/l"}
        change: {path: "/o/{key}/l/{line}"}
        remove: {path: "/o/{key}/l/{line}"}
`

func mergePlanner(t testing.TB) *Planner {
	t.Helper()
	y, err := system.Parse([]byte(mergedSystem))
	if err != nil {
		t.Fatal(err)
	}
	return New(y.Records["order"])
}

// Both sides agreed on note "a" and the lines 1 (5 pieces) and 2 (7).
const agreedOn = `{"note":"a","day":"1","lines":[{"no":"1","qty":5},{"no":"2","qty":7}]}`

func TestMerge(t *testing.T) {
	theirsThen := strings.ReplaceAll(strings.ReplaceAll(agreedOn, `{"no":"1"`, `{"id":11,"no":"1"`), `{"no":"2"`,
		`{"id":12,"no":"2"`)
	for _, c := range []struct {
		name, ours, theirs string
		owner              Side
		record, order      string // as they become
		clashes            string
	}{
		{"nothing changed", agreedOn, theirsThen, Both,
			`{"note":"a","day":"1","lines":[{"no":"1","qty":5},{"no":"2","qty":7}]}`,
			`{"lines":[{"id":11,"no":"1","qty":5},{"id":12,"no":"2","qty":7}]}`, "[]"},
		{"the note changed here", strings.Replace(agreedOn, `"a"`, `"b"`, 1), theirsThen, Both,
			`{"note":"b","day":"1","lines":[{"no":"1","qty":5},{"no":"2","qty":7}]}`,
			`{"lines":[{"id":11,"no":"1","qty":5},{"id":12,"no":"2","qty":7}]}`, "[]"},
		{"the note changed there, the day here", strings.Replace(agreedOn, `"day":"1"`, `"day":"2"`, 1),
			strings.Replace(theirsThen, `"a"`, `"c"`, 1), Both,
			`{"note":"c","day":"2","lines":[{"no":"1","qty":5},{"no":"2","qty":7}]}`,
			`{"note":"c","lines":[{"id":11,"no":"1","qty":5},{"id":12,"no":"2","qty":7}]}`, "[]"},
		{"the note changed on both sides, and a person decides", strings.Replace(agreedOn, `"a"`, `"b"`, 1),
			strings.Replace(theirsThen, `"a"`, `"c"`, 1), Both, "", "", "[{ note a b c}]"},
		{"the same, and it is theirs", strings.Replace(agreedOn, `"a"`, `"b"`, 1),
			strings.Replace(theirsThen, `"a"`, `"c"`, 1), There,
			`{"note":"c","day":"1","lines":[{"no":"1","qty":5},{"no":"2","qty":7}]}`,
			`{"note":"c","lines":[{"id":11,"no":"1","qty":5},{"id":12,"no":"2","qty":7}]}`, "[]"},
		{"the same, and it is ours", strings.Replace(agreedOn, `"a"`, `"b"`, 1),
			strings.Replace(theirsThen, `"a"`, `"c"`, 1), Here,
			`{"note":"b","day":"1","lines":[{"no":"1","qty":5},{"no":"2","qty":7}]}`,
			`{"lines":[{"id":11,"no":"1","qty":5},{"id":12,"no":"2","qty":7}]}`, "[]"},
		{"both to the same", strings.Replace(agreedOn, `"a"`, `"b"`, 1), strings.Replace(theirsThen, `"a"`, `"b"`, 1), Both,
			`{"note":"b","day":"1","lines":[{"no":"1","qty":5},{"no":"2","qty":7}]}`,
			`{"lines":[{"id":11,"no":"1","qty":5},{"id":12,"no":"2","qty":7}]}`, "[]"},
		{"a quantity here, another one there", strings.Replace(agreedOn, `"qty":5`, `"qty":6`, 1),
			strings.Replace(theirsThen, `"qty":7`, `"qty":8`, 1), Both,
			`{"note":"a","day":"1","lines":[{"no":"1","qty":6},{"no":"2","qty":8}]}`,
			`{"lines":[{"id":11,"no":"1","qty":6},{"id":12,"no":"2","qty":8}]}`, "[]"},
		{"the same quantity on both sides", strings.Replace(agreedOn, `"qty":5`, `"qty":6`, 1),
			strings.Replace(theirsThen, `"qty":5`, `"qty":4`, 1), Both, "", "", "[{1 qty 5 6 4}]"},
		{"a line added on each side", strings.Replace(agreedOn, `{"no":"2"`, `{"no":"3","qty":1},{"no":"2"`, 1),
			strings.Replace(theirsThen, `]}`, `,{"id":13,"no":"4","qty":9}]}`, 1), Both,
			`{"note":"a","day":"1","lines":[{"no":"1","qty":5},{"no":"3","qty":1},{"no":"2","qty":7},{"id":13,"no":"4","qty":9}]}`,
			`{"lines":[{"id":11,"no":"1","qty":5},{"id":12,"no":"2","qty":7},{"id":13,"no":"4","qty":9},{"no":"3","qty":1}]}`,
			"[]"},
		{"a line removed here, the other one there", strings.Replace(agreedOn, `{"no":"1","qty":5},`, ``, 1),
			strings.Replace(theirsThen, `,{"id":12,"no":"2","qty":7}`, ``, 1), Both,
			`{"note":"a","day":"1","lines":[]}`, `{"lines":[]}`, "[]"},
		{"a line removed there and changed here", strings.Replace(agreedOn, `"qty":7`, `"qty":8`, 1),
			strings.Replace(theirsThen, `,{"id":12,"no":"2","qty":7}`, ``, 1), Both, "", "", "[{2 line there changed removed}]"},
		{"the same, and it is ours", strings.Replace(agreedOn, `"qty":7`, `"qty":8`, 1),
			strings.Replace(theirsThen, `,{"id":12,"no":"2","qty":7}`, ``, 1), Here,
			`{"note":"a","day":"1","lines":[{"no":"1","qty":5},{"no":"2","qty":8}]}`,
			`{"lines":[{"id":11,"no":"1","qty":5},{"no":"2","qty":8}]}`, "[]"},
		{"a line removed here and changed there", strings.Replace(agreedOn, `,{"no":"2","qty":7}`, ``, 1),
			strings.Replace(theirsThen, `"qty":7`, `"qty":8`, 1), There,
			`{"note":"a","day":"1","lines":[{"no":"1","qty":5},{"id":12,"no":"2","qty":8}]}`,
			`{"lines":[{"id":11,"no":"1","qty":5},{"id":12,"no":"2","qty":8}]}`, "[]"},
	} {
		ours, theirs := parsed(t, c.ours), parsed(t, c.theirs)
		m, err := mergePlanner(t).Merge(Sides{Ours: ours, OursThen: parsed(t, agreedOn), Theirs: theirs,
			TheirsThen: parsed(t, theirsThen)}, func(string, string) Side { return c.owner })
		if err != nil {
			t.Fatal(c.name, err)
		}
		if got := fmt.Sprint(m.Clashes); got != c.clashes {
			t.Errorf("%s: clashes %s, want %s", c.name, got, c.clashes)
		}
		if len(m.Clashes) > 0 {
			continue
		}
		needs := func(line bool, pointer string) bool { return line }
		if got := string(m.ToRecord(ours, theirs).AppendJSON(nil)); got != c.record {
			t.Errorf("%s: the record\n got %s\nwant %s", c.name, got, c.record)
		}
		if got := string(m.ToOrder(theirs, ours, needs).AppendJSON(nil)); got != c.order {
			t.Errorf("%s: for the order\n got %s\nwant %s", c.name, got, c.order)
		}
	}
}

// Whatever changes on both sides: once each has what the other changed, they say the same,
// and nothing that only one side changed is lost.
func TestMergeConverges(t *testing.T) {
	p := mergePlanner(t)
	type side struct {
		Note, Day string
		Qty       map[string]int
	}
	text := func(s side) string {
		var lines []string
		for _, no := range sorted(s.Qty) {
			lines = append(lines, fmt.Sprintf(`{"no":%q,"qty":%d}`, no, s.Qty[no]))
		}
		return fmt.Sprintf(`{"note":%q,"day":%q,"lines":[%s]}`, s.Note, s.Day, strings.Join(lines, ","))
	}
	for seed := range uint64(2000) {
		r := rand.New(rand.NewPCG(seed, 1))
		vary := func(s side) side {
			out := side{s.Note, s.Day, map[string]int{}}
			for no, n := range s.Qty {
				out.Qty[no] = n
			}
			for range r.IntN(4) {
				no := fmt.Sprint(r.IntN(5))
				switch r.IntN(4) {
				case 0:
					out.Note = fmt.Sprint("note", r.IntN(3))
				case 1:
					out.Day = fmt.Sprint("day", r.IntN(3))
				case 2:
					out.Qty[no] = r.IntN(4)
				case 3:
					delete(out.Qty, no)
				}
			}
			return out
		}
		then := vary(side{"a", "1", map[string]int{"0": 1, "1": 2, "2": 3}})
		ours, theirs := vary(then), vary(then)
		owner := []Side{Here, There}[r.IntN(2)]
		s := Sides{Ours: parsed(t, text(ours)), OursThen: parsed(t, text(then)), Theirs: parsed(t, text(theirs)),
			TheirsThen: parsed(t, text(then))}
		m, err := p.Merge(s, func(string, string) Side { return owner })
		if err != nil {
			t.Fatal(err)
		}
		record := m.ToRecord(s.Ours, s.Theirs)
		order := m.ToOrder(s.Theirs, s.Ours, func(bool, string) bool { return true })
		if a, b := canonical(record), canonical(order); a != b {
			t.Fatalf("seed %d: then %s\nours %s\ntheirs %s\nrecord %s\norder  %s", seed, text(then), text(ours), text(theirs), a,
				b)
		}
		if ours.Note != then.Note && theirs.Note == then.Note && text2(record, "/note") != ours.Note ||
			theirs.Day != then.Day && ours.Day == then.Day && text2(record, "/day") != theirs.Day {
			t.Fatalf("seed %d: a change is lost: then %s\nours %s\ntheirs %s\nrecord %s", seed, text(then), text(ours),
				text(theirs),
				canonical(record))
		}
	}
}

func text2(n *tree.Node, pointer string) string { return text(n.Get(pointer)) }

// canonical is a record with its lines by their numbers.
func canonical(n *tree.Node) string {
	lines := map[string]string{}
	if list := n.Get("/lines"); list != nil {
		for l := list.First(); l != nil; l = l.Next() {
			lines[text(l.Member("no"))] = text(l.Member("qty"))
		}
	}
	out := text(n.Member("note")) + " " + text(n.Member("day"))
	for _, no := range sorted(lines) {
		out += " " + no + ":" + lines[no]
	}
	return out
}

// Lines that cannot be told apart are not compared, on either side.
func TestMergeAlike(t *testing.T) {
	twice := strings.Replace(agreedOn, `"no":"2"`, `"no":"1"`, 1)
	for _, c := range []struct{ ours, theirs, want string }{
		{twice, agreedOn, `Line 2 of the order cannot be told apart: its $.no is "1".`},
		{agreedOn, twice, `The record has several lines with the $.no "1": they cannot be told apart.`},
	} {
		_, err := mergePlanner(t).Merge(Sides{Ours: parsed(t, c.ours), OursThen: parsed(t, agreedOn), Theirs: parsed(t,
			c.theirs),
			TheirsThen: parsed(t, agreedOn)}, func(string, string) Side { return Both })
		var cannot *Blocked
		if !errors.As(err, &cannot) || cannot.Why != c.want {
			t.Errorf("%v, want %s", err, c.want)
		}
	}
}
