package tree

import "testing"

func TestListAt(t *testing.T) {
	for _, c := range []struct {
		at, want string // "" is that there can be none
	}{
		{"/rows", `{"rows":[1,7],"none":null,"name":"x"}`},
		{"/none", `{"rows":[1],"none":[7],"name":"x"}`},
		{"/new", `{"rows":[1],"none":null,"name":"x","new":[7]}`},
		{"/none/of~1it", `{"rows":[1],"none":{"of/it":[7]},"name":"x"}`},
		{"/name", ""},
		{"/name/in", ""},
		{"/rows/in", ""},
	} {
		root := &Node{Kind: Object}
		rows := &Node{Kind: Array, Name: "rows"}
		rows.Add(&Node{Kind: Number, Text: "1"})
		for _, n := range []*Node{rows, {Kind: Null, Name: "none"}, {Kind: String, Name: "name", Text: "x"}} {
			root.Add(n)
		}
		list := root.ListAt(c.at)
		if (list == nil) != (c.want == "") {
			t.Errorf("%s: %v", c.at, list)
			continue
		}
		if list == nil {
			continue
		}
		list.Add(&Node{Kind: Number, Text: "7"})
		if got := string(root.AppendJSON(nil)); got != c.want {
			t.Errorf("%s: %s", c.at, got)
		}
	}
}
