package tree

import "testing"

// document is {"a/b": [1, {"c~": "x"}], "e": {}} as a tree.
func document() (root, list, member, text, empty *Node) {
	root = &Node{Kind: Object, Name: ""}
	list = &Node{Kind: Array, Name: "a/b"}
	root.Add(list)
	list.Add(&Node{Kind: Number, Text: "1", Leaf: 1})
	member = &Node{Kind: Object}
	list.Add(member)
	text = &Node{Kind: String, Name: "c~", Text: "x", Leaf: 2}
	member.Add(text)
	empty = &Node{Kind: Object, Name: "e", Leaf: 3}
	root.Add(empty)
	return root, list, member, text, empty
}

func TestTree(t *testing.T) {
	root, list, member, text, empty := document()
	for _, c := range []struct {
		node    *Node
		pointer string
	}{{root, ""}, {list, "/a~1b"}, {member, "/a~1b/1"}, {text, "/a~1b/1/c~0"}, {empty, "/e"}} {
		if got := c.node.Pointer(); got != c.pointer {
			t.Errorf("%q, want %q", got, c.pointer)
		}
	}
	if p, ok := text.PointerFrom(list); !ok || p != "/1/c~0" {
		t.Errorf("%q %v", p, ok)
	}
	if _, ok := list.PointerFrom(text); ok {
		t.Error("an inner value is around an outer one")
	}
	if list.Element(-1) != member || list.Element(2) != nil || list.Element(-3) != nil || root.Element(0) != nil {
		t.Error("elements")
	}
	if root.Member("e") != empty || root.Member("E") != nil || list.Member("0") != nil || text.Root() != root ||
		text.Enclosing() != member || root.Len() != 2 || root.LastLeaf() != 3 {
		t.Error("members")
	}
	var leaves []int
	root.Leaves(func(n *Node) { leaves = append(leaves, n.Leaf) })
	if len(leaves) != 3 || leaves[0] != 1 || leaves[2] != 3 {
		t.Errorf("leaves %v", leaves)
	}
	if got := string(root.AppendJSON(nil)); got != `{"a/b":[1,{"c~":"x"}],"e":{}}` {
		t.Error(got)
	}
	// Where a name stands twice the last counts, as most readers have it.
	last := &Node{Kind: Null, Name: "e"}
	root.Add(last)
	if root.Member("e") != last {
		t.Error("the first of two members of one name is found")
	}
	record := member.At("/orders/7")
	if record.Parent != nil || text.Pointer() != "/orders/7/c~0" {
		t.Errorf("%q", text.Pointer())
	}
}

// Places of X12 are said by segments and which one of its id it is in its loop.
func TestSegments(t *testing.T) {
	set := &Node{Kind: Segment, Name: "ST 0004"}
	var third, element *Node
	for i := range 3 {
		third = &Node{Kind: Segment, Name: "PO1"}
		set.Add(third)
		third.Index = i + 1
	}
	element = &Node{Kind: String, Name: "02", Text: "20"}
	third.Add(element)
	if got := element.Pointer(); got != "ST 0004 / PO1 #3 / 02" || !element.InSegment() || !set.InSegment() {
		t.Error(got)
	}
	if got := set.First().Pointer(); got != "ST 0004 / PO1" {
		t.Error(got)
	}
}
