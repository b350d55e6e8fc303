package mapping

import (
	"embed"
	"koinos/core/origin"
	"path"
	"slices"
	"strings"
)

//go:embed standard/*.yaml
var standardFiles embed.FS

// StandardNames are the mappings that ship with Koinos, one for each
// transaction set that carries an order or speaks of one.
func StandardNames() []string {
	files, err := standardFiles.ReadDir("standard")
	if err != nil {
		return nil
	}
	var names []string
	for _, f := range files {
		names = append(names, strings.TrimSuffix(f.Name(), ".yaml"))
	}
	slices.Sort(names)
	return names
}

// Standard is the text of a mapping that ships with Koinos; "" is none.
func Standard(name string) string {
	b, err := standardFiles.ReadFile(path.Join("standard", path.Base(name)+".yaml"))
	if err != nil {
		return ""
	}
	return string(b)
}

// standardNode is a standard mapping as nodes, at the place of the word that
// asks for it.
func standardNode(name string, at origin.Place) *node {
	text := Standard(name)
	if text == "" {
		return nil
	}
	root, bad := readYAML([]byte(text))
	if bad != nil {
		return nil // a test parses them all
	}
	root.moveTo(at)
	return root
}

func (n *node) moveTo(at origin.Place) {
	n.at = at
	for i := range n.entries {
		n.entries[i].at = at
		n.entries[i].node.moveTo(at)
	}
	for _, item := range n.items {
		item.moveTo(at)
	}
}

// over gives base with what n says in its place: words of the outermost two
// levels one by one (header, header.partner), below them as a whole.
func (n *node) over(base *node, depth int) *node {
	out := &node{at: n.at}
	for _, e := range base.entries {
		if own := n.get(e.key); own != nil && depth < 1 && !own.scalar && !own.isList && !e.node.scalar {
			e.node = own.over(e.node, depth+1)
		} else if own != nil {
			for _, mine := range n.entries {
				if mine.key == e.key {
					e = mine
				}
			}
		}
		out.entries = append(out.entries, e)
	}
	for _, e := range n.entries {
		if base.get(e.key) == nil {
			out.entries = append(out.entries, e)
		}
	}
	return out
}
