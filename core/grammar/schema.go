package grammar

// Draft is the JSON Schema dialect that schemas follow.
const Draft = "https://json-schema.org/draft/2020-12/schema"

// Schema returns the shape as a JSON Schema, so that editors complete and check texts while they are typed. Shapes with
// a Ref go into defs, once.
func (s *Shape) Schema(defs map[string]any) map[string]any {
	if s.Ref != "" {
		if defs[s.Ref] == nil {
			defs[s.Ref] = map[string]any{} // it may stand within itself
			defs[s.Ref] = s.inPlace(defs)
		}
		return map[string]any{"$ref": "#/$defs/" + s.Ref}
	}
	return s.inPlace(defs)
}

func (s *Shape) inPlace(defs map[string]any) map[string]any {
	m := map[string]any{}
	if s.About != "" {
		m["description"] = s.About
	}
	switch s.Kind {
	case Object:
		properties, required := map[string]any{}, []any{}
		for _, k := range s.Keys {
			properties[k.Name] = k.Shape.Schema(defs)
			if k.Required {
				required = append(required, k.Name)
			}
		}
		m["type"], m["properties"], m["additionalProperties"] = "object", properties, false
		if len(required) > 0 {
			m["required"] = required
		}
		if s.One {
			m["minProperties"], m["maxProperties"] = 1, 1
		}
	case Table:
		m["type"], m["minProperties"] = "object", 1
		if s.Words == nil {
			m["additionalProperties"] = s.Items.Schema(defs)
			break
		}
		s.Items.Schema(defs)
		m["properties"], m["patternProperties"] = s.Words()
		m["additionalProperties"] = false
	case Choice:
		m["enum"] = s.Choices
	case Integer:
		m["type"], m["minimum"] = "integer", s.Least
	case Boolean:
		m["type"] = "boolean"
	case ListOf:
		if s.Items.Kind == Text {
			m["type"] = []any{"array", "string", "number"}
			m["items"], m["minItems"] = map[string]any{"type": []any{"string", "number"}}, 1
			break
		}
		m["oneOf"] = []any{s.Items.Schema(defs), map[string]any{"type": "array", "items": s.Items.Schema(defs),
			"minItems": 1}}
	case Text:
		m["type"] = []any{"string", "number", "boolean"}
	}
	return m
}
