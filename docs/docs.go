package docs

import (
	_ "embed"
	"strings"
)

//go:embed findings.md
var findings string

// Finding returns what the documentation says about a code of a finding, as Markdown without the heading: how severe it
// is, what to do about it, and an example. It returns "" if there is no such code.
func Finding(code string) string {
	_, behind, found := strings.Cut(findings, "\n## "+code+"\n")
	if !found {
		return ""
	}
	text, _, _ := strings.Cut(behind, "\n## ")
	return strings.TrimSpace(text)
}
