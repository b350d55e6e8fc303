package mapping

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
	"github.com/goccy/go-yaml/token"

	"koinos/core/finding"
	"koinos/core/intent"
	"koinos/core/list"
	"koinos/core/order"
	"koinos/core/origin"
)

// node is one value of a YAML document with its place. Scalars keep their text
// as it is written, so that value: 0040 is the code 0040.
type node struct {
	at      origin.Place
	scalar  bool
	quoted  bool
	text    string
	entries []entry // of a mapping
	items   []*node // of a sequence
	isList  bool
}

type entry struct {
	key  string
	at   origin.Place
	node *node
}

func (n *node) get(key string) *node {
	for _, e := range n.entries {
		if e.key == key {
			return e.node
		}
	}
	return nil
}

// mistakes gathers everything that is wrong with a mapping.
type mistakes struct{ all finding.All }

func (m *mistakes) add(code finding.Code, at origin.Place, value, format string, args ...any) *finding.Finding {
	m.all = append(m.all, finding.New(code, at, value, format, args...))
	return &m.all[len(m.all)-1]
}

func place(t *token.Token) origin.Place {
	if t == nil || t.Position == nil {
		return origin.Place{Mapping: true, Row: 1, Column: 1}
	}
	return origin.Place{Mapping: true, Row: t.Position.Line, Column: t.Position.Column}
}

const (
	mostText  = 1 << 20 // bytes of a mapping
	mostDepth = 20
)

// readYAML parses the text of a mapping into nodes.
func readYAML(src []byte) (root *node, bad *finding.Finding) {
	start := origin.Place{Mapping: true, Row: 1, Column: 1}
	if len(src) > mostText {
		return nil, finding.Fatal(finding.MappingInvalid, start, "The mapping is longer than %d bytes.", mostText)
	}
	// The parser is given whatever a person typed; a crash in it is a mistake in
	// the text as far as that person is concerned.
	defer func() {
		if r := recover(); r != nil {
			root, bad = nil, finding.Fatal(finding.MappingInvalid, start, "The mapping is not readable YAML (%v).", r)
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
		return nil, finding.Fatal(finding.MappingInvalid, at, "The mapping is not readable YAML: %s.", message)
	}
	if len(file.Docs) == 0 || file.Docs[0].Body == nil {
		return nil, finding.Fatal(finding.MappingInvalid, start, "The mapping is empty; it begins with koinos: %s.",
			Version)
	}
	if len(file.Docs) > 1 {
		return nil, finding.Fatal(finding.MappingInvalid, place(file.Docs[1].GetToken()),
			"A file holds one mapping; a second YAML document begins here.")
	}
	c := converter{anchors: map[string]*node{}}
	root = c.node(file.Docs[0].Body, 0)
	if c.bad != nil {
		return nil, c.bad
	}
	return root, nil
}

type converter struct {
	anchors map[string]*node
	bad     *finding.Finding
}

func (c *converter) fail(t *token.Token, format string, args ...any) *node {
	if c.bad == nil {
		c.bad = finding.Fatal(finding.MappingInvalid, place(t), format, args...)
	}
	return &node{at: place(t), scalar: true}
}

func (c *converter) node(n ast.Node, depth int) *node {
	if n == nil {
		return &node{scalar: true, at: origin.Place{Mapping: true, Row: 1, Column: 1}}
	}
	t := n.GetToken()
	if depth > mostDepth {
		return c.fail(t, "The mapping is nested too deeply.")
	}
	switch n := n.(type) {
	case *ast.MappingNode:
		m := &node{at: place(t)}
		if len(n.Values) > 0 {
			m.at = place(n.Values[0].Key.GetToken())
		}
		for _, v := range n.Values {
			c.entry(m, v, depth)
		}
		return m
	case *ast.MappingValueNode:
		m := &node{at: place(n.Key.GetToken())}
		c.entry(m, n, depth)
		return m
	case *ast.SequenceNode:
		s := &node{at: place(t), isList: true}
		for _, v := range n.Values {
			s.items = append(s.items, c.node(v, depth+1))
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
		return &node{at: place(t), scalar: true}
	case *ast.LiteralNode:
		return &node{at: place(t), scalar: true, quoted: true, text: strings.TrimRight(n.Value.Value, "\n")}
	case *ast.StringNode:
		return &node{at: place(t), scalar: true, quoted: t.Type != token.StringType, text: n.Value}
	default: // numbers, booleans and the rest as they are written
		return &node{at: place(t), scalar: true, text: strings.TrimSpace(t.Value)}
	}
}

func (c *converter) entry(m *node, v *ast.MappingValueNode, depth int) {
	t := v.Key.GetToken()
	name := t.Value
	if s, ok := v.Key.(*ast.StringNode); ok {
		name = s.Value
	}
	if m.get(name) != nil {
		c.fail(t, "The word %q stands twice here.", name)
		return
	}
	value := c.node(v.Value, depth+1)
	if value.scalar && value.at.Row == 0 {
		value.at = place(t)
	}
	m.entries = append(m.entries, entry{name, place(t), value})
}

// fit checks n against the shape, adding what does not fit.
func (s *shape) fit(n *node, where string, m *mistakes) {
	switch s.kind {
	case object, fields, table:
		if n.scalar || n.isList {
			m.add(finding.MappingWrongValue, n.at, n.text, "%s must be a group of words, each with a colon behind it.",
				where)
			return
		}
		s.fitKeys(n, where, m)
	case listOf:
		if n.scalar {
			if n.text == "" {
				m.add(finding.MappingWrongValue, n.at, "", "%s needs a value or a list of values.", where)
			}
			return
		}
		if !n.isList || len(n.items) == 0 {
			m.add(finding.MappingWrongValue, n.at, "", "%s must be a list, for example [one, two].", where)
			return
		}
		for _, item := range n.items {
			s.items.fit(item, "each value of "+where, m)
		}
	default:
		if !n.scalar {
			m.add(finding.MappingWrongValue, n.at, "", "%s must be a single value.", where)
			return
		}
		s.fitScalar(n, where, m)
	}
}

func (s *shape) fitKeys(n *node, where string, m *mistakes) {
	var known []string
	for _, k := range s.keys {
		known = append(known, k.name)
	}
	if s.kind == fields {
		known = order.FieldNames(s.level)
	}
	for _, e := range n.entries {
		under := s.items
		if s.kind == table {
		} else if s.kind == fields {
			if !slices.ContainsFunc(append([]string{""}, intent.Notices...), func(kind string) bool {
				_, ok := order.LookupOf(kind, s.level, e.key)
				return ok
			}) {
				under = nil
			}
		} else {
			for _, k := range s.keys {
				if k.name == e.key {
					under = k.shape
				}
			}
		}
		if under == nil {
			f := m.add(finding.MappingUnknownKey, e.at, e.key, "%q is not a word of %s.", e.key, where)
			if near, ok := list.Nearest(e.key, known); ok {
				f.Hint = fmt.Sprintf("Did you mean %q?", near)
			} else if len(known) <= 12 {
				f.Hint = "These may stand here: " + strings.Join(known, ", ") + "."
			}
			continue
		}
		under.fit(e.node, e.key, m)
	}
	for _, k := range s.keys {
		if k.required && n.get(k.name) == nil {
			m.add(finding.MappingMissingKey, n.at, "", "%s needs %q: %s.", where, k.name, k.shape.about)
		}
	}
	if s.one && len(n.entries) != 1 {
		m.add(finding.MappingWrongValue, n.at, "", "%s takes exactly one of: %s.", where, strings.Join(known, ", "))
	}
}

func (s *shape) fitScalar(n *node, where string, m *mistakes) {
	switch s.kind {
	case choice:
		for _, c := range s.choices {
			if c == n.text {
				return
			}
		}
		f := m.add(finding.MappingWrongValue, n.at, n.text, "%s cannot be %q.", where, n.text)
		f.Hint = "It may be: " + strings.Join(s.choices, ", ") + "."
		if near, ok := list.Nearest(n.text, s.choices); ok {
			f.Hint += fmt.Sprintf(" Did you mean %q?", near)
		}
	case integer:
		if v, err := strconv.Atoi(n.text); err != nil || v < 1 {
			m.add(finding.MappingWrongValue, n.at, n.text, "%s must be a whole number from 1 on.", where)
		}
	case boolean:
		if n.text != "true" && n.text != "false" {
			m.add(finding.MappingWrongValue, n.at, n.text, "%s must be true or false.", where)
		}
	case text:
		if n.text == "" && !n.quoted {
			m.add(finding.MappingWrongValue, n.at, "", "%s needs a value behind the colon.", where)
		}
	}
}
