package mapping

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"koinos/core/grammar"
	"koinos/core/order"
)

// AddDateForm returns a mapping's text with one more form of a field's dates, behind those that it has: in the field's
// own binding if it names forms, otherwise in document.locale, otherwise in the binding. Comments and layout stay.
func AddDateForm(text string, level order.Level, field, form string) (string, error) {
	if _, err := parseDateForm(form); err != nil {
		return "", fmt.Errorf("%q is not a form of a date: %w", form, err)
	}
	root, bad := grammar.Read([]byte(text), "mapping", Version)
	if bad != nil {
		return "", bad
	}
	var bind *grammar.Node
	if l := root.Get(string(level)); l != nil {
		bind = l.Get(field)
	}
	if bind == nil || len(bind.Entries) == 0 {
		return "", fmt.Errorf("the mapping has no binding %s.%s", level, field)
	}
	quoted := strconv.Quote(form)
	forms := bind.Get("dates")
	if forms == nil {
		if d := root.Get("document"); d != nil && d.Get("locale") != nil {
			forms = d.Get("locale").Get("dates")
		}
	}
	lines := strings.SplitAfter(text, "\n")
	switch {
	case forms == nil:
		insert(bind, lines, "dates: ["+quoted+"]")
	case forms.Scalar: // one form becomes a list of two
		line := lines[forms.At.Row-1]
		from := grammar.Offset(line, forms.At.Column)
		end := scalarEnd(line, from)
		lines[forms.At.Row-1] = line[:from] + "[" + line[from:end] + ", " + quoted + "]" + line[end:]
	case len(forms.Items) > 0:
		last := forms.Items[len(forms.Items)-1]
		if slices.ContainsFunc(forms.Items, func(n *grammar.Node) bool { return n.Text == form }) {
			return text, nil
		}
		line := lines[last.At.Row-1]
		from := grammar.Offset(line, last.At.Column)
		before := line[:from]
		if indent, dash := strings.CutSuffix(strings.TrimRight(before, " "), "-"); dash &&
			strings.TrimSpace(indent) == "" {
			lines[last.At.Row-1] = strings.TrimRight(line, "\n") + "\n" + before + quoted + "\n"
		} else {
			end := scalarEnd(line, from)
			lines[last.At.Row-1] = line[:end] + ", " + quoted + line[end:]
		}
	}
	edited := strings.Join(lines, "")
	if _, err := Parse([]byte(edited)); err != nil {
		return "", fmt.Errorf("the mapping cannot be changed by itself; add %s to the dates of %s by hand: %w", quoted,
			field, err)
	}
	return edited, nil
}

// AddCrosswalk returns a mapping's text with a crosswalk in a field's binding; a value that the crosswalk does not have
// is kept as it is. If the binding has a crosswalk already, its name is returned and the text stays.
func AddCrosswalk(text string, level order.Level, field, name string) (edited, used string, err error) {
	root, bad := grammar.Read([]byte(text), "mapping", Version)
	if bad != nil {
		return "", "", bad
	}
	var bind *grammar.Node
	if l := root.Get(string(level)); l != nil {
		if bind = l.Get(field); bind == nil && field == "unit" { // it stands behind a number
			for _, e := range l.Entries {
				if e.Node.Str("suffix") == "unit" {
					bind = e.Node
				}
			}
		}
	}
	if bind == nil || len(bind.Entries) == 0 {
		return "", "", fmt.Errorf("the mapping has no binding %s.%s", level, field)
	}
	if has := bind.Get("crosswalk"); has != nil {
		return text, has.Text, nil
	}
	lines := strings.SplitAfter(text, "\n")
	if first := bind.Entries[0].At; strings.HasSuffix(before(lines[first.Row-1], first.Column), "{") {
		insert(bind, lines, "crosswalk: "+name+", others: keep")
	} else {
		insert(bind, lines, "others: keep")
		insert(bind, lines, "crosswalk: "+name)
	}
	edited = strings.Join(lines, "")
	if _, err := Parse([]byte(edited)); err != nil {
		return "", "", fmt.Errorf("the mapping cannot be changed by itself; add crosswalk: %s to %s by hand: %w", name,
			field, err)
	}
	return edited, name, nil
}

// insert puts words before the first word of a binding, on the same line or on a line of their own, as the binding is
// written.
func insert(n *grammar.Node, lines []string, words string) {
	at := n.Entries[0].At
	line := lines[at.Row-1]
	before := before(line, at.Column)
	if strings.TrimSpace(before) == "" {
		lines[at.Row-1] = before + words + "\n" + line
	} else {
		lines[at.Row-1] = before + words + ", " + line[len(before):]
	}
}

func before(line string, column int) string { return line[:grammar.Offset(line, column)] }

// scalarEnd is where the scalar ends that begins at a byte of a line.
func scalarEnd(line string, from int) int {
	if q := line[from]; q == '"' || q == '\'' {
		if end := strings.IndexByte(line[from+1:], q); end >= 0 {
			return from + end + 2
		}
	}
	end := strings.IndexAny(line[from:], ",]}\r\n")
	if comment := strings.Index(line[from:], " #"); comment >= 0 && (end < 0 || comment < end) {
		end = comment
	}
	if end < 0 {
		return len(line)
	}
	return from + len(strings.TrimRight(line[from:from+end], " "))
}
