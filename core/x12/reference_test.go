package x12

import (
	"flag"
	"fmt"
	"os"
	"strings"
	"testing"
)

var update = flag.Bool("update", false, "write the reference in docs/x12.md anew")

const referenceBegins = "<!-- What follows is made from the dictionary: make generate -->\n"

// The reference in docs/x12.md is what the dictionary says.
func TestReference(t *testing.T) {
	var b strings.Builder
	b.WriteString(referenceBegins +
		"\n## Transaction sets\n\nSegments in their order: M mandatory, O optional, and how often (a plus: any " +
		"number of times). Loops are set in; their first segment opens them.\n")
	for _, id := range Sets() {
		def := sets[id]
		fmt.Fprintf(&b, "\n### %s %s\n\nFunctional group %s.\n\n```\n", id, def.name, def.group)
		var walk func(nodes []node, depth int)
		walk = func(nodes []node, depth int) {
			for i := range nodes {
				n := &nodes[i]
				need, most := "O", fmt.Sprint(n.most)
				if n.needed() {
					need = "M"
				}
				if n.most >= 99999 {
					most = "+"
				}
				loop := ""
				if n.inner != nil {
					loop = " loop"
				}
				fmt.Fprintf(&b, "%s%-4s %s %-6s %s%s\n", strings.Repeat("    ", depth), n.id, need, most, nameOf(n.id),
					loop)
				if n.inner != nil {
					walk(n.inner[1:], depth+1)
				}
			}
		}
		walk(def.nodes, 0)
		b.WriteString("```\n")
	}
	b.WriteString("\n## Segments\n\nElements with their number in the dictionary, type, least and most characters, " +
		"and need (C: a syntax note is about it); then the syntax notes.\n\n| segment | elements | notes " +
		"|\n|---|---|---|\n")
	seen := map[string]bool{}
	for _, id := range Sets() {
		var each func(nodes []node)
		each = func(nodes []node) {
			for i := range nodes {
				def := segments[nodes[i].id]
				each(nodes[i].inner)
				if seen[def.id] {
					continue
				}
				seen[def.id] = true
				var list, notes []string
				for k, u := range def.elements {
					if k >= 9 && len(def.elements) > 12 && k < len(def.elements)-1 && u.ref == def.elements[k-2].ref {
						if k == 9 {
							list = append(list, "… in pairs …")
						}
						continue
					}
					what := u.ref
					if u.element != nil {
						what = fmt.Sprintf("%s %s %d/%d", u.ref, u.element.kind, u.element.min, u.element.max)
					}
					list = append(list, fmt.Sprintf("%02d %s (%s) %c", k+1, u.name(), what, u.need))
				}
				for _, n := range def.notes {
					text := string(n.kind)
					for _, at := range n.at {
						text += fmt.Sprintf("%02d", at)
					}
					notes = append(notes, text)
				}
				if len(notes) > 8 {
					notes = append(notes[:7], "…", notes[len(notes)-1])
				}
				fmt.Fprintf(&b, "| **%s** %s | %s | %s |\n", def.id, def.name, strings.Join(list, "; "),
					strings.Join(notes, " "))
			}
		}
		each(sets[id].nodes)
	}
	const file = "../../docs/x12.md"
	have, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	guide, _, ok := strings.Cut(string(have), referenceBegins)
	if !ok {
		t.Fatalf("%s has no line %q", file, referenceBegins)
	}
	if *update {
		if err := os.WriteFile(file, []byte(guide+b.String()), 0o644); err != nil {
			t.Fatal(err)
		}
	} else if string(have) != guide+b.String() {
		t.Errorf("%s is not what the dictionary says; write it with make generate", file)
	}
}
