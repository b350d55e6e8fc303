package jsondoc

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"koinos/core/tree"
	"strings"
	"testing"
)

// The examples of RFC 9535, sections 1.5 and 2.
const store = `{"store": {"book": [
 {"category": "reference", "author": "Nigel Rees", "title": "Sayings of the Century", "price": 8.95},
 {"category": "fiction", "author": "Evelyn Waugh", "title": "Sword of Honour", "price": 12.99},
 {"category": "fiction", "author": "Herman Melville", "title": "Moby Dick", "isbn": "0-553-21311-3", "price": 8.99},
 {"category": "fiction", "author": "J. R. R. Tolkien", "title": "The Lord of the Rings", "isbn": "0-395-19395-8", "price": 22.99}],
 "bicycle": {"color": "red", "price": 399}}}`

func TestPaths(t *testing.T) {
	const letters, numbers = `["a","b","c","d","e","f","g"]`,
		`{"a": [3, 5, 1, 2, 4, 6, {"b": "j"}, {"b": "k"}, {"b": {}}, {"b": "kilo"}], "o": {"p": 1, "q": 2, "r": ` +
			`3, "s": 5, "t": {"u": 6}}, "e": "f"}`
	for _, c := range []struct{ doc, path, want string }{
		{store, "$.store.book[*].author", `"Nigel Rees" "Evelyn Waugh" "Herman Melville" "J. R. R. Tolkien"`},
		{store, "$..author", `"Nigel Rees" "Evelyn Waugh" "Herman Melville" "J. R. R. Tolkien"`},
		{store, "$.store..price", `8.95 12.99 8.99 22.99 399`}, {store, "$..book[2].title", `"Moby Dick"`},
		{store, "$..book[-1].title", `"The Lord of the Rings"`},
		{store, "$..book[0,1].price", `8.95 12.99`}, {store, "$..book[:2].price", `8.95 12.99`},
		{store, "$..book[?@.isbn].price", `8.99 22.99`},
		{store, "$..book[?@.price < 10].price", `8.95 8.99`}, {store,
			"$..book[?@.price<10 && @.category=='fiction'].title", `"Moby Dick"`},
		{store, "$.store.book[?match(@.author, 'J.*')].price", `22.99`},
		{store, "$.store.book[?search(@.title, 'of')].price", `8.95 12.99 22.99`},
		{store, "$.store.book[?length(@.title) > 20].price", `8.95 22.99`},
		{store, "$.store.book[?count(@.*) == 5].price", `8.99 22.99`},
		{store, "$.store[?value(@..color) == 'red'].price", `399`},
		{store, "$.store.book[?@.price == 8.950].price", "8.95"}, {store, "$.nothing[*]", ""},
		{letters, "$[1:3]", `"b" "c"`}, {letters, "$[5:]", `"f" "g"`}, {letters, "$[1:5:2]", `"b" "d"`},
		{letters, "$[5:1:-2]", `"f" "d"`}, {letters, "$[::-1]", `"g" "f" "e" "d" "c" "b" "a"`},
		{letters, "$[0, 3]", `"a" "d"`}, {letters, "$[0, 0]", `"a" "a"`},
		{numbers, "$.a[?@.b == 'kilo']", `{"b":"kilo"}`}, {numbers, "$.a[?(@.b == 'kilo')]", `{"b":"kilo"}`},
		{numbers, "$.a[?@>3.5]", `5 4 6`}, {numbers, "$.a[?@.b]", `{"b":"j"} {"b":"k"} {"b":{}} {"b":"kilo"}`},
		{numbers, "$.a[?@<2 || @.b == \"k\"]", `1 {"b":"k"}`}, {numbers, "$.a[?match(@.b, \"[jk]\")]",
			`{"b":"j"} {"b":"k"}`}, {numbers, "$.a[?search(@.b, \"[jk]\")]", `{"b":"j"} {"b":"k"} {"b":"kilo"}`},
		{numbers, "$.o[?@>1 && @<4]", `2 3`}, {numbers, "$.o[?@.u || @.x]", `{"u":6}`},
		{numbers, "$.a[?@.b == $.x]", `3 5 1 2 4 6`}, {numbers, "$.a[?!@.b]", `3 5 1 2 4 6`},
		{numbers, "$['e']", `"f"`}, {numbers, `$["\u0065"]`, `"f"`},
		{`{"j j": {"k.k": 3}, "'": {"@": 2}}`, "$.o['j j']['k.k']", ""},
		{`{"o": {"j j": {"k.k": 3}}}`, `$.o["j j"]["k.k"]`, "3"}, {`{"'": {"@": 2}}`, `$["'"]["@"]`, "2"},
		{`{"☺": "A"}`, `$.☺`, `"A"`},
	} {
		n, _, err := Parse([]byte(c.doc), 0)
		if err != nil {
			t.Fatal(err)
		}
		p, err := ParsePath(c.path)
		if err != nil {
			t.Errorf("%s: %v", c.path, err)
			continue
		}
		var got []string
		for _, f := range p.All(n) {
			got = append(got, string(f.AppendJSON(nil)))
		}
		if s := strings.Join(got, " "); s != c.want {
			t.Errorf("%s gives %s, want %s", c.path, s, c.want)
		}
	}
	for _, bad := range []string{"", "a", "$.", "$[", "$[01]", "$[-0]", "$['a]", "$[?@.a=1]", "$[?length(@)]",
		"$[?@.* == 1]", "$[?nosuch(@)]", "$[?match(@.a)]", "$ .a b", "$[9007199254740992]", "$['\\x']", "$[?1]", "$..",
		"$.a]"} {
		if _, err := ParsePath(bad); err == nil {
			t.Errorf("%q is taken for a path", bad)
		}
	}
}

// Values come one at a time, with their places, whatever stands around them.
func TestStream(t *testing.T) {
	for _, c := range []struct{ doc, path, want, err string }{
		{`[{"a":1},{"a":2}]`, "$[*].a", "/0/a=1@1 /1/a=2@2", ""},
		{`{"x":[1,2,{}],"orders":[{"n":1e2},{"n":9007199254740993}],"y":null}`, "$.orders[*]",
			`/orders/0={"n":1e2}@4 /orders/1={"n":9007199254740993}@5`, ""},
		{`{"a~b":{"c/d":[7]}}`, "$['a~b']['c/d'][*]", "/a~0b/c~1d/0=7@1", ""},
		{`{"k1":{"q":1},"k2":{"q":2}}`, "$.*", `/k1={"q":1}@1 /k2={"q":2}@2`, ""},
		{`{"d":{"e":[{"node":{"z":1}}]}}`, "$.d.e[*].node", `/d/e/0/node={"z":1}@1`, ""}, {`{"o":5}`, "$.o[*]", "", ""},
		{`"text"`, "$", `="text"@1`, ""},
		{`[{"a":1},{"a":`, "$[*]", `/0={"a":1}@1`, "syntax"}, {`[1] [2]`, "$[*]", "/0=1@1", "behind"},
		{`[1]]`, "$[*]", "/0=1@1", "behind"}, {`[1,]`, "$[*]", "/0=1@1", "syntax"},
	} {
		p, err := ParsePath(c.path)
		if err != nil {
			t.Fatal(err)
		}
		s := NewStream(strings.NewReader(c.doc), p, 1<<20, false)
		var got []string
		for {
			var v Value
			if v, err = s.Next(); err != nil {
				break
			}
			got = append(got, fmt.Sprintf("%s=%s@%d", v.Pointer(), v.AppendJSON(nil), v.Leaf))
		}
		var syntax *SyntaxError
		kind := map[bool]string{err == io.EOF: "", errors.As(err, &syntax): "syntax",
			errors.Is(err, ErrBehind): "behind"}[true]
		if g := strings.Join(got, " "); g != c.want || kind != c.err {
			t.Errorf("%s of %s: %s, %v", c.path, c.doc, g, err)
		}
	}
	// A value larger than the bound is refused, not held.
	p, _ := ParsePath("$[*]")
	if _, err := NewStream(strings.NewReader("["+strings.Repeat(`"xxxxxxxx",`, 9000)+"1]"), p, 1000,
		false).Next(); err != nil {
		t.Error(err)
	}
	if _, err := NewStream(strings.NewReader(`["`+strings.Repeat("x", 1<<20)+`"]`), p, 1000,
		false).Next(); !errors.Is(err, ErrTooLarge) {
		t.Errorf("a megabyte of text is held: %v", err)
	}
}

// Whatever encoding/json understands, so do we, and the same; names that
// stand twice are told.
func FuzzParse(f *testing.F) {
	for _, s := range []string{`{"a":[1,-0.5e3,true,null,"x\u00e9\ud83d\ude00\n"],"a":{}}`, `[]`, ` {} `, `"\ud800"`,
		`01`, `[1,]`, `{"a"}`, "\"\x80\"", store} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		n, _, err := Parse(b, 0)
		var v any
		d := json.NewDecoder(strings.NewReader(string(b)))
		d.UseNumber()
		good := json.Valid(b)
		if err == nil && !good {
			t.Fatalf("%q is taken for JSON", b)
		}
		if err != nil {
			return // bytes that are not UTF-8 are refused here, and replaced there
		}
		if err := d.Decode(&v); err != nil {
			t.Fatal(err)
		}
		again, _, err := Parse(n.AppendJSON(nil), 0)
		if err != nil || string(again.AppendJSON(nil)) != string(n.AppendJSON(nil)) {
			t.Fatalf("%q is written as %q: %v", b, n.AppendJSON(nil), err)
		}
		leaves := 0
		n.Leaves(func(l *tree.Node) {
			if leaves++; l.Leaf != leaves {
				t.Fatalf("leaf %d of %q has the number %d", leaves, b, l.Leaf)
			}
		})
		if c := countLeaves(b); c != leaves {
			t.Fatalf("%q has %d leaves, counted as %d", b, leaves, c)
		}
	})
}

func FuzzPath(f *testing.F) {
	for _, s := range []string{"$", "$.a[*].b", "$..[?@.a > 1 && !(@.b)]", "$['a\\'b',1:2:-1]", "$[?match(@.a,'[a-z')]",
		"$[?length(value(@..a))==1e2]"} {
		f.Add(s)
	}
	n, _, err := Parse([]byte(store), 0)
	if err != nil {
		f.Fatal(err)
	}
	f.Fuzz(func(t *testing.T, s string) {
		if p, err := ParsePath(s); err == nil && len(s) < 200 {
			p.All(n)
			p.First(n)
		}
	})
}

func BenchmarkStream(b *testing.B) {
	var doc strings.Builder
	doc.WriteString("[")
	for i := range 20_000 {
		if i > 0 {
			doc.WriteString(",")
		}
		fmt.Fprintf(&doc, `{"id":"A-%d","date":"2026-03-02","lines":[{"sku":"00417","qty":%d,"price":19.90,`+
			`"text":"Braided rope, white"},{"sku":"00501","qty":1,"price":64.50,"text":"Lantern"}]}`, i, i%90)
	}
	doc.WriteString("]")
	text := doc.String()
	p, _ := ParsePath("$[*]")
	type line struct {
		SKU        string
		Qty, Price json.Number
		Text       string
	}
	type anOrder struct {
		ID, Date string
		Lines    []line
	}
	b.Run("stream", func(b *testing.B) {
		b.SetBytes(int64(len(text)))
		for range b.N {
			s := NewStream(strings.NewReader(text), p, 1<<20, false)
			for {
				if _, err := s.Next(); err != nil {
					break
				}
			}
		}
	})
	b.Run("encoding-json", func(b *testing.B) {
		b.SetBytes(int64(len(text)))
		for range b.N {
			var all []anOrder
			if err := json.Unmarshal([]byte(text), &all); err != nil || len(all) != 20_000 {
				b.Fatal(err)
			}
		}
	})
}

// Elements are left out of arrays wherever they stand, and nothing else changes.
func TestWithout(t *testing.T) {
	for _, c := range []struct{ doc, drop, want string }{
		{`[1,{"a":[1]},"3"]`, "/0 /2", `[{"a":[1]}]`},
		{`[1]`, "/0", `[]`},
		{`{"orders":[{"n":1,"lines":[1,2]},{"n":2}],"more":[[1],[2,3]]}`, "/orders/0 /more/1/0",
			`{"orders":[{"n":2}],"more":[[1],[3]]}`},
		{`{"a/b":[1,2],"x":1.50}`, "/a~1b/1 /x", `{"a/b":[1],"x":1.50}`},
	} {
		drop := map[string]bool{}
		for _, p := range strings.Fields(c.drop) {
			drop[p] = true
		}
		var b strings.Builder
		if err := Without(&b, strings.NewReader(c.doc), drop); err != nil ||
			strings.Join(strings.Fields(b.String()), "") != c.want {
			t.Errorf("%s without %s is %s %v, want %s", c.doc, c.drop, b.String(), err, c.want)
		}
	}
}
