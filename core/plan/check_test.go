package plan

import (
	"reflect"
	"testing"

	"koinos/core/system"
	"koinos/core/tree"
)

// What the system says of its fields is held against what is wanted, gives types that the
// description does not, and says what cannot be changed.
func TestWrong(t *testing.T) {
	fields := []system.TheirField{
		{Name: "ref", Pointer: "/ref", Type: "text", Needed: true, Fixed: true},
		{Name: "no", Pointer: "/no", Type: "text"},
		{Name: "type", Pointer: "/type", Needed: true},
		{Name: "weight", Pointer: "/weight", Type: "number", Needed: true},
		{Name: "state", Pointer: "/state", Never: true},
		{Name: "rows.q", Pointer: "/q", OfLine: true, Type: "number", Needed: true},
		{Name: "rows.sku", Pointer: "/sku", OfLine: true, Needed: true, Longest: 3},
	}
	p := New(kinds(t)["office"], fields...) // its create goes along with data.type
	wanted := node(t, `{"ref":"A","no":7,"state":"open","rows":[{"n":"1","q":"two","sku":"abc"},{"n":"2","q":2,`+
		`"sku":"abcd"},{"n":"3","q":1}]}`)
	for _, c := range []struct {
		name   string
		making bool
		skip   map[*tree.Node]bool
		want   []string
	}{
		{"a new record", true, nil, []string{`state is "open", but cannot be written there.`,
			"weight is blank, but needed there.",
			`rows.q of line 1 is "two", but must be a number there.`,
			"rows.sku of line 2 has 4 letters, but may have 3 there.",
			"rows.sku of line 3 is blank, but needed there."}},
		{"one that is there", false, nil, []string{`rows.q of line 1 is "two", but must be a number there.`,
			"rows.sku of line 2 has 4 letters, but may have 3 there."}},
		{"a value that is not known yet", false, map[*tree.Node]bool{wanted.Get("/rows").First().Get("/q"): true},
			[]string{"rows.sku of line 2 has 4 letters, but may have 3 there."}},
	} {
		if got := p.Wrong(wanted, c.making, c.skip); !reflect.DeepEqual(got, c.want) {
			t.Errorf("%s:\n got %q\nwant %q", c.name, got, c.want)
		}
	}
	steps, err := p.For(node(t, `{"ref":"A","no":7,"weight":"2.50","rows":[]}`), nil, false)
	if err != nil || string(steps[0].Body) != `{"data":{"ref":"A","no":"7","weight":2.50,"type":"orders"},"quiet":true,"level":"1"}` {
		t.Errorf("%s, %v", steps[0].Body, err)
	}
	_, err = p.For(node(t, `{"ref":"B","rows":[]}`), &Found{Key: "1", Root: node(t, `{"id":1,"ref":"A"}`)}, false)
	if err == nil || err.Error() != `ref is "A" there and should be "B", but it cannot be changed once the record is made.` {
		t.Error(err)
	}
	// What goes along is given, whether the body is wrapped or not.
	r := kinds(t)["counter"]
	r.Write.Create.With = []system.Constant{{Pointer: "/type", Text: "job"}}
	needs := system.TheirField{Name: "type", Pointer: "/type", Needed: true}
	if got := New(r, needs).Wrong(node(t, `{"ref":"A"}`), true, nil); got != nil {
		t.Errorf("%q", got)
	}
}
