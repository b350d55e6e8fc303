package mapping

import (
	"embed"
	"koinos/core/grammar"
	"koinos/core/origin"
	"path"
	"slices"
	"strings"
)

//go:embed standard/*.yaml
var standardFiles embed.FS

// StandardNames are the mappings that ship with Koinos, one for each transaction set that contains an order or is about
// one.
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

// Standard is the text of a mapping that ships with Koinos; "" if there is none.
func Standard(name string) string {
	b, err := standardFiles.ReadFile(path.Join("standard", path.Base(name)+".yaml"))
	if err != nil {
		return ""
	}
	return string(b)
}

// standardNode is a standard mapping as nodes, at the place of the word that asks for it.
func standardNode(name string, at origin.Place) *grammar.Node {
	text := Standard(name)
	if text == "" {
		return nil
	}
	root, bad := grammar.Read([]byte(text), "mapping", Version)
	if bad != nil {
		return nil // a test parses them all
	}
	root.MoveTo(at)
	return root
}

// over returns base with parts replaced by those of n: words of the outermost two levels one by one (header,
// header.partner), below them as a whole.
func over(n, base *grammar.Node, depth int) *grammar.Node {
	out := &grammar.Node{At: n.At}
	for _, e := range base.Entries {
		if own := n.Get(e.Key); own != nil && depth < 1 && !own.Scalar && !own.IsList && !e.Node.Scalar {
			e.Node = over(own, e.Node, depth+1)
		} else if own != nil {
			for _, mine := range n.Entries {
				if mine.Key == e.Key {
					e = mine
				}
			}
		}
		out.Entries = append(out.Entries, e)
	}
	for _, e := range n.Entries {
		if base.Get(e.Key) == nil {
			out.Entries = append(out.Entries, e)
		}
	}
	return out
}
