package mapping

import (
	"fmt"
	"strings"

	"koinos/core/jsondoc"
	"koinos/core/tree"
)

// member is the value in a JSON text to which a path (RFC 9535), or the name of a member, leads; blank if there is
// none. Objects and lists are JSON texts again.
func member(text, path string) (string, error) {
	if strings.TrimSpace(text) == "" {
		return "", nil
	}
	root, _, err := jsondoc.Parse([]byte(text), 0)
	if err != nil {
		return "", fmt.Errorf("it is no JSON: %w", err)
	}
	found := root.Member(path)
	if strings.HasPrefix(path, "$") {
		p, err := jsondoc.ParsePath(path)
		if err != nil {
			return "", err
		}
		found = p.First(root)
	}
	switch {
	case found == nil || found.Kind == tree.Null:
		return "", nil
	case !found.Scalar():
		return string(found.AppendJSON(nil)), nil
	}
	return found.Text, nil
}
