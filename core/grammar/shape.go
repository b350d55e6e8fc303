package grammar

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"koinos/core/finding"
	"koinos/core/list"
)

// Kind is what may stand somewhere.
type Kind int

const (
	Object  Kind = iota // a group of the words of Keys
	Text                // any single value, taken as it is written
	Choice              // one of Choices
	Integer             // a whole number of at least Least
	Boolean             // true or false
	ListOf              // of Items; a single one may stand without brackets
	Table               // a group of words of the user's own, each with Items; Known says which may stand
)

// Shape is what may stand at one point of a text.
type Shape struct {
	Kind    Kind
	About   string
	Keys    []Key
	Choices []string
	Items   *Shape
	Least   int
	One     bool // exactly one of the keys
	// Known reports whether a word is allowed in a Table. Names are suggested for a word that is not; nil allows every
	// word.
	Known func(word string) bool
	Names func() []string
	// Words describes the words of a Table for a JSON Schema: names and patterns; nil means every word.
	Words func() (properties, patterns map[string]any)
	// Ref is the name under which a schema defines the shape once; "" means in place.
	Ref string
}

// Key is one word of a group.
type Key struct {
	Name     string
	Required bool
	Shape    *Shape
}

// Must is a word that must be in its group, May one that can be.
func Must(name string, s *Shape) Key { return Key{Name: name, Required: true, Shape: s} }

// May is described at Must.
func May(name string, s *Shape) Key { return Key{Name: name, Shape: s} }

// OneOf, Some, Many, Whole and Group make shapes: a choice, any value, a list of values,
// a number from 1 on, a group of words.
func OneOf(about string, choices ...string) *Shape {
	return &Shape{Kind: Choice, About: about, Choices: choices}
}

// Some is described at OneOf.
func Some(about string) *Shape { return &Shape{Kind: Text, About: about} }

// Many is described at OneOf.
func Many(about string) *Shape {
	return &Shape{Kind: ListOf, About: about, Items: &Shape{Kind: Text}}
}

// Whole is described at OneOf.
func Whole(about string) *Shape { return &Shape{Kind: Integer, About: about, Least: 1} }

// Group is described at OneOf.
func Group(about string, keys ...Key) *Shape { return &Shape{Kind: Object, About: about, Keys: keys} }

// Under returns the shape of a word within words of the shape, which must exist.
func (s *Shape) Under(words ...string) *Shape {
	for _, w := range words {
		i := slices.IndexFunc(s.Keys, func(k Key) bool { return k.Name == w })
		s = s.Keys[i].Shape
	}
	return s
}

// Fit compares a node with the shape and adds what does not fit; where names it in messages.
func (s *Shape) Fit(n *Node, where string, m *Mistakes) {
	switch s.Kind {
	case Object, Table:
		if n.Scalar || n.IsList {
			m.Add(finding.MappingWrongValue, n.At, n.Text, "%s must be a group of words, each with a colon behind it.",
				where)
			return
		}
		s.fitKeys(n, where, m)
	case ListOf:
		if n.Scalar && n.Text == "" {
			m.Add(finding.MappingWrongValue, n.At, "", "%s needs a value or a list of values.", where)
			return
		}
		if n.Scalar || !n.IsList && s.Items.Kind == Object { // a single one
			s.Items.Fit(n, where, m)
			return
		}
		if !n.IsList || len(n.Items) == 0 {
			m.Add(finding.MappingWrongValue, n.At, "", "%s must be a list, for example [one, two].", where)
			return
		}
		for _, item := range n.Items {
			s.Items.Fit(item, "each value of "+where, m)
		}
	default:
		if !n.Scalar {
			m.Add(finding.MappingWrongValue, n.At, "", "%s must be a single value.", where)
			return
		}
		s.fitScalar(n, where, m)
	}
}

func (s *Shape) fitKeys(n *Node, where string, m *Mistakes) {
	var known []string
	for _, k := range s.Keys {
		known = append(known, k.Name)
	}
	if s.Names != nil {
		known = s.Names()
	}
	for _, e := range n.Entries {
		under := s.Items
		switch {
		case s.Kind == Table && s.Known != nil && !s.Known(e.Key):
			under = nil
		case s.Kind == Object:
			under = nil
			for _, k := range s.Keys {
				if k.Name == e.Key {
					under = k.Shape
				}
			}
		}
		if under == nil {
			f := m.Add(finding.MappingUnknownKey, e.At, e.Key, "%q is not a word of %s.", e.Key, where)
			if near, ok := list.Nearest(e.Key, known); ok {
				f.Hint = fmt.Sprintf("Did you mean %q?", near)
			} else if len(known) <= 12 {
				f.Hint = "These may stand here: " + strings.Join(known, ", ") + "."
			}
			continue
		}
		under.Fit(e.Node, e.Key, m)
	}
	for _, k := range s.Keys {
		if k.Required && n.Get(k.Name) == nil {
			m.Add(finding.MappingMissingKey, n.At, "", "%s needs %q: %s.", where, k.Name, k.Shape.About)
		}
	}
	if s.One && len(n.Entries) != 1 {
		m.Add(finding.MappingWrongValue, n.At, "", "%s takes exactly one of: %s.", where, strings.Join(known, ", "))
	}
}

func (s *Shape) fitScalar(n *Node, where string, m *Mistakes) {
	switch s.Kind {
	case Choice:
		for _, c := range s.Choices {
			if c == n.Text {
				return
			}
		}
		f := m.Add(finding.MappingWrongValue, n.At, n.Text, "%s cannot be %q.", where, n.Text)
		f.Hint = "It may be: " + strings.Join(s.Choices, ", ") + "."
		if near, ok := list.Nearest(n.Text, s.Choices); ok {
			f.Hint += fmt.Sprintf(" Did you mean %q?", near)
		}
	case Integer:
		if v, err := strconv.Atoi(n.Text); err != nil || v < s.Least {
			m.Add(finding.MappingWrongValue, n.At, n.Text, "%s must be a whole number from %d on.", where, s.Least)
		}
	case Boolean:
		if n.Text != "true" && n.Text != "false" {
			m.Add(finding.MappingWrongValue, n.At, n.Text, "%s must be true or false.", where)
		}
	case Text:
		if n.Text == "" && !n.Quoted {
			m.Add(finding.MappingWrongValue, n.At, "", "%s needs a value behind the colon.", where)
		}
	}
}
