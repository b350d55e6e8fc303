package tree

import (
	"strconv"
	"strings"

	"github.com/go-json-experiment/json/jsontext"
)

// Kind is what a value is.
type Kind uint8

const (
	Null Kind = iota
	Bool
	Number
	String
	Object
	Array
	// Segment is not a value of JSON. It is a transaction set of X12, or a segment with its elements and the segments
	// of the loop that it opens. Its Index counts the segments with the same id in its loop, its Leaf those of the
	// document.
	Segment
)

// Node is one value: of JSON, or a segment or element of X12.
type Node struct {
	Kind  Kind
	Text  string // a string's text, a number as it is written, true or false
	Name  string // its name where the parent is an object; of a root that is part of a larger document its pointer
	Index int    // its position in the parent, counted from 0
	// number of its first leaf in the document, counted from 1; a leaf is a scalar or an empty object or array
	Leaf   int
	Parent *Node
	first  *Node
	last   *Node
	next   *Node
	count  int
}

// First returns the first member or element, or nil. Next returns the one after n.
func (n *Node) First() *Node {
	if n == nil {
		return nil
	}
	return n.first
}

// Next returns the member or element behind n in the same parent, or nil.
func (n *Node) Next() *Node { return n.next }

// Len is how many members or elements there are.
func (n *Node) Len() int { return n.count }

// Scalar reports whether the value is neither an object nor an array.
func (n *Node) Scalar() bool { return n.Kind < Object }

// Member returns an object's member of a name, or nil. If the name occurs twice it is the last one, as in most readers.
func (n *Node) Member(name string) *Node {
	var found *Node
	if n == nil {
		return nil
	}
	if n.Kind == Object || n.Kind == Segment {
		for c := n.first; c != nil; c = c.next {
			if c.Name == name {
				found = c
			}
		}
	}
	return found
}

// Element returns an array's element; a negative index counts from the end.
func (n *Node) Element(i int) *Node {
	if n.Kind != Array {
		return nil
	}
	if i < 0 {
		i += n.count
	}
	for c := n.first; c != nil && i >= 0; c = c.next {
		if i == 0 {
			return c
		}
		i--
	}
	return nil
}

// Enclosing returns the nearest object around n, or nil.
func (n *Node) Enclosing() *Node {
	for p := n.Parent; p != nil; p = p.Parent {
		if p.Kind == Object {
			return p
		}
	}
	return nil
}

// Pick returns a copy of a node with what pick returns for each of its members; a member for which that is nil is left
// out. The copies have the places of the originals; n is not changed.
func (n *Node) Pick(pick func(*Node) *Node) *Node {
	only := *n
	only.first, only.last, only.count = nil, nil, 0
	for c := n.first; c != nil; c = c.next {
		picked := pick(c)
		if picked == nil {
			continue
		}
		member := *picked
		member.next = nil
		if only.first == nil {
			only.first = &member
		} else {
			only.last.next = &member
		}
		only.last = &member
		only.count++
	}
	return &only
}

// Alone returns a function that gives a segment with only one of some of its members, or with another node in its
// place, in front of the other segments in it. The copies share these, and must not be changed.
func (n *Node) Alone(some func(*Node) bool) func(as *Node) *Node {
	var rest *Node // without them, when it is first asked for
	return func(as *Node) *Node {
		if rest == nil {
			rest = n.Pick(func(c *Node) *Node {
				if some(c) {
					return nil
				}
				return c
			})
		}
		one, last := *rest, *as
		one.first, one.last, last.next = nil, nil, nil
		add := func(c *Node) {
			if one.last == nil {
				one.first = c
			} else {
				one.last.next = c
			}
			one.last = c
		}
		c := rest.first
		for ; c != nil && c.Kind != Segment; c = c.next { // elements stay in front
			element := *c
			element.next = nil
			add(&element)
		}
		if add(&last); c != nil {
			last.next, one.last = c, rest.last
		}
		one.count++
		return &one
	}
}

// With returns a segment with its own members, followed by the segments in the loops of others. Each member keeps its
// place; the nodes are not changed.
func (n *Node) With(others ...*Node) *Node {
	all := n.Pick(func(c *Node) *Node { return c })
	for _, other := range others {
		for c := other.first; c != nil; c = c.next {
			if c.Kind != Segment {
				continue // an element
			}
			member := *c
			member.next = nil
			all.last.next, all.last = &member, &member
			all.count++
		}
	}
	return all
}

// Root is the outermost value in memory that contains n.
func (n *Node) Root() *Node {
	for n.Parent != nil {
		n = n.Parent
	}
	return n
}

// Pointer is the JSON Pointer of the value in its document (RFC 6901).
func (n *Node) Pointer() string {
	if n.Parent == nil {
		return n.Name
	}
	if n.Parent.Kind == Segment { // ST 0004 / PO1 #3 / 02, as X12 says a place
		if n.Kind == Segment && n.Index > 1 {
			return n.Parent.Pointer() + " / " + n.Name + " #" + strconv.Itoa(n.Index)
		}
		return n.Parent.Pointer() + " / " + n.Name
	}
	return n.Parent.Pointer() + "/" + n.token()
}

// PointerFrom is the pointer of n within an outer value. ok is false if outer does not contain n.
func (n *Node) PointerFrom(outer *Node) (pointer string, ok bool) {
	if n == outer {
		return "", true
	}
	if n.Parent == nil {
		return "", false
	}
	up, ok := n.Parent.PointerFrom(outer)
	return up + "/" + n.token(), ok
}

func (n *Node) token() string {
	if n.Parent.Kind == Array {
		return strconv.Itoa(n.Index)
	}
	return Token(n.Name)
}

// Token is a name in the form that JSON Pointers use (RFC 6901).
func Token(s string) string {
	if strings.ContainsAny(s, "~/") {
		return strings.ReplaceAll(strings.ReplaceAll(s, "~", "~0"), "/", "~1")
	}
	return s
}

var unescaped = strings.NewReplacer("~1", "/", "~0", "~")

// Name is the name that a token of a JSON Pointer stands for.
func Name(token string) string {
	if strings.Contains(token, "~") {
		return unescaped.Replace(token)
	}
	return token
}

// Get returns the value at a JSON Pointer of names (RFC 6901) below n, or nil, also if n is nil.
func (n *Node) Get(pointer string) *Node {
	for pointer != "" {
		if n == nil || n.Kind != Object {
			return nil
		}
		var token string
		token, pointer, _ = strings.Cut(pointer[1:], "/")
		if pointer != "" {
			pointer = "/" + pointer
		}
		n = n.Member(Name(token))
	}
	return n
}

// ListAt returns the list at a JSON Pointer through objects. It makes one if there is nothing, or null; it returns nil
// if something else is in the way.
func (n *Node) ListAt(pointer string) *Node {
	for pointer != "" {
		var token string
		token, pointer, _ = strings.Cut(pointer[1:], "/")
		kind := Array
		if pointer != "" {
			kind, pointer = Object, "/"+pointer
		}
		if n.Kind != Object {
			return nil
		}
		next := n.Member(Name(token))
		if next == nil {
			next = &Node{Kind: kind, Name: Name(token)}
			n.Add(next)
		}
		if next.Kind == Null {
			next.Kind, next.Text = kind, ""
		}
		n = next
	}
	if n.Kind != Array {
		return nil
	}
	return n
}

// LastLeaf is the number of the last leaf within n.
func (n *Node) LastLeaf() int {
	for n.last != nil {
		n = n.last
	}
	return n.Leaf
}

// InSegment reports whether the node belongs to X12.
func (n *Node) InSegment() bool {
	return n.Kind == Segment || n.Parent != nil && n.Parent.Kind == Segment
}

// Leaves calls yield for every scalar, and every empty object and array, within n, in document order.
func (n *Node) Leaves(yield func(*Node)) {
	if n.first == nil {
		yield(n)
		return
	}
	for c := n.first; c != nil; c = c.next {
		c.Leaves(yield)
	}
}

// Pass counts a member or element that is not kept in memory.
func (n *Node) Pass() { n.count++ }

// Clear removes all members or elements of n.
func (n *Node) Clear() { n.first, n.last, n.count = nil, nil, 0 }

// Add appends a member or element. In the tree that it comes from, whatever follows it must have been read before.
func (n *Node) Add(c *Node) {
	c.Parent, c.Index, c.next = n, n.count, nil
	if n.first == nil {
		n.first = c
	} else {
		n.last.next = c
	}
	n.last = c
	n.count++
}

// At makes n the root of a tree at a pointer of its document.
func (n *Node) At(pointer string) *Node {
	n.Parent, n.Name = nil, pointer
	return n
}

// AppendJSON appends the value as JSON, with numbers as they were written.
func (n *Node) AppendJSON(b []byte) []byte {
	switch n.Kind {
	case Null:
		return append(b, "null"...)
	case String:
		return appendString(b, n.Text)
	case Object, Array, Segment:
		open, end := byte('{'), byte('}')
		if n.Kind == Array {
			open, end = '[', ']'
		}
		b = append(b, open)
		for c := n.first; c != nil; c = c.next {
			if c != n.first {
				b = append(b, ',')
			}
			if n.Kind != Array {
				b = append(appendString(b, c.Name), ':')
			}
			b = c.AppendJSON(b)
		}
		return append(b, end)
	}
	return append(b, n.Text...)
}

func appendString(b []byte, s string) []byte {
	q, err := jsontext.AppendQuote(b, s)
	if err != nil { // text that is not UTF-8 was replaced, and quoted all the same
		return q
	}
	return q
}
