package draft

import (
	"fmt"
	"regexp"
	"strings"

	"koinos/core/system"
)

// Draft is a proposed description.
type Draft struct {
	Name string   `json:"name"`
	Text string   `json:"text" doc:"The description: YAML with a reason behind each guess"`
	Open []string `json:"open" doc:"What the document does not tell; it is marked with # ? in the text"`
	Left []string `json:"left" doc:"Kinds of record that the API lists and that are not in it"`
}

// From drafts a description from a document of either kind; only names the kinds of record
// to take.
func From(src []byte, only []string) (*Draft, error) {
	if graphQL.Match(src) {
		return FromGraphQL(src, only)
	}
	return FromOpenAPI(src, only)
}

// graphQL is what a schema has, and no OpenAPI document.
var graphQL = regexp.MustCompile(`(?m)"__schema"\s*:|^\s*(extend\s+)?type\s+\w+[^:]*\{|^\s*schema\s*\{`)

// entry is a line of the description with what stands below it.
type entry struct {
	key, value, why string
	raw             []string // lines below it, as they are
	open            bool     // why is a question
	under           []*entry
}

// add puts a line below, with a reason.
func (e *entry) add(key, value, why string) *entry {
	n := &entry{key: key, value: value, why: why}
	e.under = append(e.under, n)
	return n
}

// ask puts a question below, in place of a line.
func (e *entry) ask(format string, args ...any) {
	e.under = append(e.under, &entry{why: fmt.Sprintf(format, args...), open: true})
}

// column is where reasons begin, if the line is short enough.
const column = 64

func (e *entry) write(b *strings.Builder, depth int, open *[]string) {
	indent := strings.Repeat("  ", depth)
	switch {
	case e.key == "" && e.open:
		b.WriteString(indent + "# ? " + e.why + "\n")
		*open = append(*open, e.why)
		return
	case e.key == "":
		b.WriteString(indent + "# " + e.why + "\n")
		return
	}
	line := indent + e.key + ":"
	if e.value != "" {
		line += " " + e.value
	}
	if e.why != "" {
		mark := "# "
		if e.open {
			mark = "# ? "
			*open = append(*open, e.key+": "+e.why)
		}
		if len(line) < column && len(e.why) < 60 {
			line += strings.Repeat(" ", column-len(line)) + mark + e.why
		} else {
			b.WriteString(indent + mark + e.why + "\n")
		}
	}
	b.WriteString(line + "\n")
	for _, line := range e.raw {
		b.WriteString(indent + "  " + line + "\n")
	}
	for _, c := range e.under {
		c.write(b, depth+1, open)
	}
}

// finish writes a description and looks at it: a draft that is none is a mistake of ours.
func finish(name string, root *entry, left []string) (*Draft, error) {
	d := &Draft{Name: name, Open: []string{}, Left: append([]string{}, left...)}
	var b strings.Builder
	b.WriteString("# A draft. What stands behind # is why a line is there; # ? is what the API's document does not tell.\n")
	for _, e := range root.under {
		e.write(&b, 0, &d.Open)
	}
	d.Text = b.String()
	_, err := system.Parse([]byte(d.Text))
	return d, err
}
