package mapping

import (
	"strings"

	"koinos/core/grammar"
)

// Schema is the grammar as a JSON Schema (draft 2020-12), so that editors complete and check mappings while they are
// typed.
func Schema() map[string]any {
	defs := map[string]any{}
	s := words.Schema(defs)
	s["$defs"], s["$schema"], s["title"] = defs, grammar.Draft, "Koinos mapping, version 1"
	s["anyOf"] = []any{map[string]any{"required": s["required"]}, // what it extends has the rest
		map[string]any{"required": []any{"koinos", "name", "extends"}}}
	delete(s, "required")
	under := func(m map[string]any, name string) map[string]any {
		return m["properties"].(map[string]any)[name].(map[string]any)
	}
	for word, use := range groupKeys { // an annotation: editors ask which words a grouping has
		under(under(under(s, "orders"), "group"), word)["x-with"] = strings.Fields(use.with)
	}
	return s
}
