package tree

import "strings"

// Clone returns a copy of n and everything within it. The copy is the root of its own tree.
func (n *Node) Clone() *Node {
	c := &Node{Kind: n.Kind, Text: n.Text, Name: n.Name, Leaf: n.Leaf}
	for m := n.first; m != nil; m = m.next {
		c.Add(m.Clone())
	}
	return c
}

// Keep removes from n those of its members or elements for which keep is false.
func (n *Node) Keep(keep func(*Node) bool) {
	var all []*Node
	for c := n.first; c != nil; c = c.next {
		if keep(c) {
			all = append(all, c)
		}
	}
	n.Clear()
	for _, c := range all {
		n.Add(c)
	}
}

// Drop removes the value at a JSON Pointer of names (RFC 6901), if it is there.
func (n *Node) Drop(pointer string) {
	i := strings.LastIndexByte(pointer, '/')
	if i < 0 {
		return
	}
	if in := n.Get(pointer[:i]); in != nil && in.Kind == Object {
		name := Name(pointer[i+1:])
		in.Keep(func(c *Node) bool { return c.Name != name })
	}
}

// Put puts a copy of a value at a JSON Pointer of names (RFC 6901) below n, an object, and replaces what is there. With
// a nil value it is Drop.
func (n *Node) Put(pointer string, v *Node) {
	if v == nil {
		n.Drop(pointer)
		return
	}
	in := n
	names := strings.Split(strings.TrimPrefix(pointer, "/"), "/")
	for _, token := range names[:len(names)-1] {
		name := Name(token)
		next := in.Member(name)
		if next == nil || next.Kind != Object {
			in.Keep(func(c *Node) bool { return c.Name != name })
			next = &Node{Kind: Object, Name: name}
			in.Add(next)
		}
		in = next
	}
	name := Name(names[len(names)-1])
	c := v.Clone()
	c.Name = name
	if is := in.Member(name); is != nil { // it keeps its place
		is.Kind, is.Text, is.first, is.last, is.count = c.Kind, c.Text, nil, nil, 0
		for m := c.first; m != nil; {
			next := m.next
			is.Add(m)
			m = next
		}
		return
	}
	in.Add(c)
}
