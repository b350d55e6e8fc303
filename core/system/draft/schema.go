package draft

import (
	"slices"
	"strings"

	"github.com/getkin/kin-openapi/openapi3"
)

// schema is what an API's document says of a value, with what allOf adds to it.
type schema struct{ all []*openapi3.Schema }

// prop is one member of an object.
type prop struct {
	name   string
	schema *schema
}

// mostDeep limits how deep schemas are followed: they may hold themselves.
const mostDeep = 6

func of(ref *openapi3.SchemaRef) *schema {
	s := &schema{}
	s.take(ref, 0)
	if len(s.all) == 0 {
		return nil
	}
	return s
}

func (s *schema) take(ref *openapi3.SchemaRef, deep int) {
	if ref == nil || ref.Value == nil || deep > mostDeep || slices.Contains(s.all, ref.Value) {
		return
	}
	s.all = append(s.all, ref.Value)
	for _, part := range ref.Value.AllOf {
		s.take(part, deep+1)
	}
	for _, some := range []openapi3.SchemaRefs{ref.Value.OneOf, ref.Value.AnyOf} {
		for _, part := range some { // of several, the first that is something
			if part.Value != nil && !part.Value.Type.Is("null") {
				s.take(part, deep+1)
				break
			}
		}
	}
}

// is reports whether the value can be of a type.
func (s *schema) is(kind string) bool {
	return s != nil && slices.ContainsFunc(s.all, func(v *openapi3.Schema) bool {
		return v.Type.Includes(kind) || kind == "object" && v.Type == nil && len(v.Properties) > 0
	})
}

// one returns the first text that a schema says.
func (s *schema) one(get func(*openapi3.Schema) string) string {
	if s != nil {
		for _, v := range s.all {
			if text := get(v); text != "" {
				return text
			}
		}
	}
	return ""
}

func (s *schema) format() string {
	return s.one(func(v *openapi3.Schema) string { return v.Format })
}

// props are the members of an object, by name.
func (s *schema) props() (out []prop) {
	if s == nil {
		return nil
	}
	seen := map[string]bool{}
	for _, v := range s.all {
		for name, ref := range v.Properties {
			if p := of(ref); p != nil && !seen[name] {
				seen[name] = true
				out = append(out, prop{name, p})
			}
		}
	}
	slices.SortFunc(out, func(a, b prop) int { return strings.Compare(a.name, b.name) })
	return out
}

func (s *schema) member(name string) *schema {
	for _, p := range s.props() {
		if p.name == name {
			return p.schema
		}
	}
	return nil
}

// items are the elements of an array; nil if there is none.
func (s *schema) items() *schema {
	if s == nil {
		return nil
	}
	for _, v := range s.all {
		if v.Items != nil {
			return of(v.Items)
		}
	}
	return nil
}

// objects reports whether the value is a list of objects.
func (s *schema) objects() bool { return s.is("array") && len(s.items().props()) > 0 }

// enum are the values that it can have.
func (s *schema) enum() (out []string) {
	for _, v := range s.all {
		for _, e := range v.Enum {
			if text, ok := e.(string); ok {
				out = append(out, text)
			}
		}
	}
	return out
}

// named returns the first of the members that is called as a table says, whose schema fits.
func named(props []prop, table []string, fits func(*schema) bool) (prop, bool) {
	for _, name := range table {
		for _, p := range props {
			if norm(p.name) == strings.Trim(name, "_") && (fits == nil || fits(p.schema)) {
				return p, true
			}
		}
	}
	return prop{}, false
}

func plain(s *schema) bool {
	return !s.is("object") && !s.is("array")
}

// deepProps are the plain members of an object and of the objects in it, each with its path.
func deepProps(s *schema, path string, deep int) (out []prop) {
	if deep > 3 {
		return nil
	}
	for _, p := range s.props() {
		at := step(path, p.name)
		switch {
		case p.schema.is("array"):
		case p.schema.is("object"):
			out = append(out, deepProps(p.schema, at, deep+1)...)
		default:
			out = append(out, prop{at, p.schema})
		}
	}
	return out
}

// answerOf returns what an operation answers when it is done, in JSON.
func answerOf(op *openapi3.Operation) (*schema, openapi3.Headers) {
	if op == nil || op.Responses == nil {
		return nil, nil
	}
	for _, status := range []string{"200", "201", "2XX", "default"} {
		if ref := op.Responses.Value(status); ref != nil && ref.Value != nil {
			if s := inJSON(ref.Value.Content); s != nil {
				return s, ref.Value.Headers
			}
		}
	}
	return nil, nil
}

func inJSON(c openapi3.Content) *schema {
	for _, kind := range sorted(c) {
		if media := c[kind]; media != nil && strings.HasSuffix(strings.TrimSpace(strings.Split(kind, ";")[0]),
			"json") ||
			kind == "*/*" {
			return of(c[kind].Schema)
		}
	}
	return nil
}

// sent returns what an operation takes, in JSON.
func sent(op *openapi3.Operation) *schema {
	if op == nil || op.RequestBody == nil || op.RequestBody.Value == nil {
		return nil
	}
	return inJSON(op.RequestBody.Value.Content)
}

// merged is an operation with the parameters that its path has.
func merged(op *openapi3.Operation, item *openapi3.PathItem) *openapi3.Operation {
	if op == nil {
		return nil
	}
	c := *op
	c.Parameters = append(slices.Clone(op.Parameters), item.Parameters...)
	return &c
}

// params are the parameters of an operation in a place: query or header.
func params(op *openapi3.Operation, in string) (out []prop) {
	if op == nil {
		return nil
	}
	for _, ref := range op.Parameters {
		if p := ref.Value; p != nil && p.In == in {
			s := of(p.Schema)
			if s == nil {
				s = &schema{}
			}
			if p.Description != "" { // it tells the units
				s = &schema{append(slices.Clone(s.all), &openapi3.Schema{Description: p.Description})}
			}
			out = append(out, prop{p.Name, s})
		}
	}
	return out
}
