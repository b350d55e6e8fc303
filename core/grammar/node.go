package grammar

import (
	"cmp"
	"errors"
	"slices"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
	"github.com/goccy/go-yaml/token"

	"koinos/core/finding"
	"koinos/core/origin"
)

// Node is one value of a YAML document with its place. Scalars keep their text as it is written, so that value: 0040 is
// the code 0040.
type Node struct {
	At      origin.Place
	Scalar  bool
	Quoted  bool
	Text    string
	Entries []Entry // of a group of words
	Items   []*Node // of a list
	IsList  bool
}

// Entry is one word of a group with what stands behind its colon.
type Entry struct {
	Key  string
	At   origin.Place
	Node *Node
}

// Get returns the value of a word, or nil.
func (n *Node) Get(key string) *Node {
	for _, e := range n.Entries {
		if e.Key == key {
			return e.Node
		}
	}
	return nil
}

// MoveTo gives the node and everything within it one place.
func (n *Node) MoveTo(at origin.Place) {
	n.At = at
	for i := range n.Entries {
		n.Entries[i].At = at
		n.Entries[i].Node.MoveTo(at)
	}
	for _, item := range n.Items {
		item.MoveTo(at)
	}
}

// Str is the text of a word; "" if there is none.
func (n *Node) Str(key string) string {
	if v := n.Get(key); v != nil {
		return v.Text
	}
	return ""
}

// List returns the values of a list, or the single value that is written without brackets.
func (n *Node) List(key string) []*Node {
	v := n.Get(key)
	switch {
	case v == nil:
		return nil
	case !v.IsList:
		return []*Node{v}
	}
	return v.Items
}

// Strs is List as texts.
func (n *Node) Strs(key string) []string {
	var list []string
	for _, item := range n.List(key) {
		list = append(list, item.Text)
	}
	return list
}

// Number is the whole number of a word that Fit has checked; 0 if there is none.
func (n *Node) Number(key string) int {
	v, _ := strconv.Atoi(n.Str(key))
	return v
}

// Mistakes gathers everything that is wrong with a text.
type Mistakes struct{ All finding.All }

// Add adds a mistake and returns it, so that its hint can be changed.
func (m *Mistakes) Add(code finding.Code, at origin.Place, value, format string, args ...any) *finding.Finding {
	m.All = append(m.All, finding.New(code, at, value, format, args...))
	return &m.All[len(m.All)-1]
}

// Err returns the mistakes in the order of their places, as a finding.All; nil if there are none.
func (m *Mistakes) Err() error {
	if len(m.All) == 0 {
		return nil
	}
	slices.SortStableFunc(m.All, func(a, b finding.Finding) int {
		return cmp.Or(cmp.Compare(a.Place.Row, b.Place.Row), cmp.Compare(a.Place.Column, b.Place.Column))
	})
	return m.All
}

func place(t *token.Token) origin.Place {
	if t == nil || t.Position == nil {
		return origin.Place{Mapping: true, Row: 1, Column: 1}
	}
	return origin.Place{Mapping: true, Row: t.Position.Line, Column: t.Position.Column}
}

// Offset is the position in a line, in bytes, of the letter at a place's column.
func Offset(line string, column int) int {
	for i := range line {
		if column--; column < 1 {
			return i
		}
	}
	return len(line)
}

const (
	mostText  = 1 << 20 // bytes
	mostDepth = 20
)

// Read parses a text into nodes. what names it in messages, as in "mapping"; begins is the first word that it must
// have, as in "mapping/1".
func Read(src []byte, what, begins string) (root *Node, bad *finding.Finding) {
	start := origin.Place{Mapping: true, Row: 1, Column: 1}
	if len(src) > mostText {
		return nil, finding.Fatal(finding.MappingInvalid, start, "The %s is longer than %d bytes.", what, mostText)
	}
	if line := TooDeep(src); line > 0 {
		return nil, finding.Fatal(finding.MappingInvalid, origin.Place{Mapping: true, Row: line, Column: 1},
			"The %s is nested more than %d levels deep.", what, MostLevels)
	}
	// The parser is given whatever a person typed. If it panics, that is reported as a mistake in the text.
	defer func() {
		if r := recover(); r != nil {
			root, bad = nil, finding.Fatal(finding.MappingInvalid, start, "The %s is not readable YAML (%v).", what, r)
		}
	}()
	file, err := parser.ParseBytes(src, 0)
	if err != nil {
		at, message := start, err.Error()
		var syntax interface {
			GetToken() *token.Token
			GetMessage() string
		}
		if errors.As(err, &syntax) {
			at, message = place(syntax.GetToken()), syntax.GetMessage()
		}
		return nil, finding.Fatal(finding.MappingInvalid, at, "The %s is not readable YAML: %s.", what, message)
	}
	if len(file.Docs) == 0 || file.Docs[0].Body == nil {
		return nil, finding.Fatal(finding.MappingInvalid, start, "The %s is empty; it begins with koinos: %s.",
			what, begins)
	}
	if len(file.Docs) > 1 {
		return nil, finding.Fatal(finding.MappingInvalid, place(file.Docs[1].GetToken()),
			"A file holds one %s; a second YAML document begins here.", what)
	}
	c := converter{anchors: map[string]*Node{}}
	root = c.node(file.Docs[0].Body, 0)
	if c.bad != nil {
		return nil, c.bad
	}
	return root, nil
}

type converter struct {
	anchors map[string]*Node
	bad     *finding.Finding
}

func (c *converter) fail(t *token.Token, format string, args ...any) *Node {
	if c.bad == nil {
		c.bad = finding.Fatal(finding.MappingInvalid, place(t), format, args...)
	}
	return &Node{At: place(t), Scalar: true}
}

func (c *converter) node(n ast.Node, depth int) *Node {
	if n == nil {
		return &Node{Scalar: true, At: origin.Place{Mapping: true, Row: 1, Column: 1}}
	}
	t := n.GetToken()
	if depth > mostDepth {
		return c.fail(t, "It is nested too deeply.")
	}
	switch n := n.(type) {
	case *ast.MappingNode:
		m := &Node{At: place(t)}
		if len(n.Values) > 0 {
			m.At = place(n.Values[0].Key.GetToken())
		}
		for _, v := range n.Values {
			c.entry(m, v, depth)
		}
		return m
	case *ast.MappingValueNode:
		m := &Node{At: place(n.Key.GetToken())}
		c.entry(m, n, depth)
		return m
	case *ast.SequenceNode:
		s := &Node{At: place(t), IsList: true}
		for _, v := range n.Values {
			s.Items = append(s.Items, c.node(v, depth+1))
		}
		return s
	case *ast.AnchorNode:
		v := c.node(n.Value, depth+1)
		c.anchors[n.Name.GetToken().Value] = v
		return v
	case *ast.AliasNode:
		if v := c.anchors[n.Value.GetToken().Value]; v != nil {
			return v
		}
		return c.fail(t, "The alias *%s names no anchor above it.", n.Value.GetToken().Value)
	case *ast.TagNode:
		return c.node(n.Value, depth+1)
	case *ast.NullNode:
		return &Node{At: place(t), Scalar: true}
	case *ast.LiteralNode:
		return &Node{At: place(t), Scalar: true, Quoted: true, Text: strings.TrimRight(n.Value.Value, "\n")}
	case *ast.StringNode:
		return &Node{At: place(t), Scalar: true, Quoted: t.Type != token.StringType, Text: n.Value}
	default: // numbers, booleans and the rest as they are written
		return &Node{At: place(t), Scalar: true, Text: strings.TrimSpace(t.Value)}
	}
}

func (c *converter) entry(m *Node, v *ast.MappingValueNode, depth int) {
	t := v.Key.GetToken()
	name := t.Value
	if s, ok := v.Key.(*ast.StringNode); ok {
		name = s.Value
	}
	if m.Get(name) != nil {
		c.fail(t, "The word %q stands twice here.", name)
		return
	}
	value := c.node(v.Value, depth+1)
	if value.Scalar && value.At.Row == 0 {
		value.At = place(t)
	}
	m.Entries = append(m.Entries, Entry{name, place(t), value})
}
