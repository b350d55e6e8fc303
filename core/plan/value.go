package plan

import (
	"encoding/json"
	"maps"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"koinos/core/order"
	"koinos/core/system"
	"koinos/core/tree"
)

// blank reports whether a value is absent, null or an empty text.
func blank(n *tree.Node) bool {
	return n == nil || n.Kind == tree.Null || n.Kind == tree.String && n.Text == ""
}

// folded is the kind of values whose letter case does not matter.
const folded = "folded"

// same compares values by their meaning: blanks are equal, numbers are compared by their value if either of the two is
// one, dates and times (if known as such) by the day or the moment, everything else as it is written.
func same(a, b *tree.Node, kind string) bool {
	switch {
	case blank(a) || blank(b):
		return blank(a) && blank(b)
	case !a.Scalar() || !b.Scalar():
	case kind == "date":
		return system.SameDay(a.Text, b.Text)
	case kind == "time":
		return system.SameTime(a.Text, b.Text)
	case kind == folded:
		return strings.EqualFold(a.Text, b.Text)
	case kind == "number", a.Kind == tree.Number || b.Kind == tree.Number:
		x, errX := order.ParseNumber(a.Text)
		y, errY := order.ParseNumber(b.Text)
		if errX == nil && errY == nil {
			return x.Cmp(y) == 0
		}
		return a.Text == b.Text
	case a.Scalar() && b.Scalar():
		return a.Text == b.Text
	}
	return string(a.AppendJSON(nil)) == string(b.AppendJSON(nil))
}

// typed is a value in the type that is asked for.
func typed(n *tree.Node, kind string) any {
	switch {
	case kind == "text":
		return n.Text
	case kind == "number":
		if number, err := order.ParseNumber(n.Text); err == nil {
			return json.Number(number.String())
		}
	case kind == "boolean":
		if v, err := strconv.ParseBool(n.Text); err == nil {
			return v
		}
	}
	return json.RawMessage(n.AppendJSON(nil))
}

func text(n *tree.Node) string {
	switch {
	case n == nil || n.Kind == tree.Null:
		return ""
	case n.Scalar():
		return n.Text
	}
	return string(n.AppendJSON(nil))
}

// shown is a value as people see it in a sentence.
func shown(n *tree.Node) string {
	if blank(n) {
		return "blank"
	}
	return strconv.Quote(text(n))
}

// open is a parameter's value, escaped except for {key} and {line}.
func open(v string) string {
	return strings.NewReplacer("%7Bkey%7D", "{key}", "%7Bline%7D", "{line}").Replace(url.QueryEscape(v))
}

// Fill puts a key into a path with parameters in place of a word such as {key}.
func Fill(path, word, key string) string {
	before, after, parameters := strings.Cut(path, "?")
	before = strings.ReplaceAll(before, word, url.PathEscape(key))
	if !parameters {
		return before
	}
	return before + "?" + strings.ReplaceAll(after, word, url.QueryEscape(key))
}

func count(n int, word string) string {
	if n != 1 {
		word += "s"
	}
	return strconv.Itoa(n) + " " + word
}

// fields names what changes.
func fields(changes []Difference) string {
	var names []string
	for _, c := range changes {
		name := c.Field
		if c.Line != "" && c.Field == "line" {
			name = "line " + c.Line
		}
		if len(names) == 0 || names[len(names)-1] != name {
			names = append(names, name)
		}
	}
	const most = 6
	if len(names) > most {
		return strings.Join(names[:most], ", ") + " and " + strconv.Itoa(len(names)-most) + " more"
	}
	return strings.Join(names, ", ")
}

func sorted[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }
