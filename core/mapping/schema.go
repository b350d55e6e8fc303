package mapping

import (
	"regexp"
	"strings"

	"koinos/core/order"
)

// Schema is the grammar as a JSON Schema (draft 2020-12), so that editors
// complete and check mappings as they are typed.
func Schema() map[string]any {
	s := grammar.schema()
	s["$schema"] = "https://json-schema.org/draft/2020-12/schema"
	s["title"] = "Koinos mapping, version 1"
	under := func(m map[string]any, name string) map[string]any {
		return m["properties"].(map[string]any)[name].(map[string]any)
	}
	for word, use := range groupKeys { // an annotation: editors ask which words a grouping has
		under(under(under(s, "orders"), "group"), word)["x-with"] = strings.Fields(use.with)
	}
	return s
}

func (s *shape) schema() map[string]any {
	m := map[string]any{}
	if s.about != "" {
		m["description"] = s.about
	}
	switch s.kind {
	case object:
		properties, required := map[string]any{}, []any{}
		for _, k := range s.keys {
			properties[k.name] = k.shape.schema()
			if k.required {
				required = append(required, k.name)
			}
		}
		m["type"], m["properties"], m["additionalProperties"] = "object", properties, false
		switch {
		case len(required) > 0 && s == grammar: // what it extends has the rest
			m["anyOf"] = []any{map[string]any{"required": required},
				map[string]any{"required": []any{"koinos", "name", "extends"}}}
		case len(required) > 0:
			m["required"] = required
		}
		if s.one {
			m["minProperties"], m["maxProperties"] = 1, 1
		}
	case fields:
		properties, patterns := map[string]any{}, map[string]any{}
		for _, f := range append(order.AllFields(s.level), order.Statements(s.level)...) {
			one := map[string]any{"description": f.About, "$ref": "#/$defs/binding"}
			if family, ok := strings.CutSuffix(f.Name, "*"); ok {
				patterns["^"+regexp.QuoteMeta(family)+".+$"] = one
			} else {
				properties[f.Name] = one
			}
		}
		m["type"], m["properties"], m["patternProperties"], m["additionalProperties"] = "object", properties, patterns,
			false
		m["minProperties"] = 1
	case table:
		m["type"], m["additionalProperties"], m["minProperties"] = "object", s.items.schema(), 1
	case choice:
		m["enum"] = s.choices
	case integer:
		m["type"], m["minimum"] = "integer", 1
	case boolean:
		m["type"] = "boolean"
	case listOf:
		m["type"] = []any{"array", "string", "number"}
		m["items"], m["minItems"] = map[string]any{"type": []any{"string", "number"}}, 1
	case text:
		m["type"] = []any{"string", "number", "boolean"}
	}
	if s == grammar {
		m["$defs"] = map[string]any{"binding": binding.schema()}
	}
	return m
}
