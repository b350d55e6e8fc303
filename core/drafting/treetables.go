package drafting

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"koinos/core/source"
	"koinos/core/tree"
)

// linesWords are what lists of lines are called in JSON.
var linesWords = []string{"item", "items", "line", "lines", "position", "positions", "product", "products", "article",
	"articles", "cart", "basket", "sku", "skus", "quantity", "quantities", "positionen", "artikel", "warenkorb", "lignes",
	"articulos", "lineas"}

// calledLines reports whether a name is that of a list of lines.
func calledLines(name string) bool {
	return slices.ContainsFunc(plainWords(strings.TrimRight(name, "[*]")),
		func(w string) bool { return slices.Contains(linesWords, w) })
}

// byCode reports whether an object's members are quantities, each by the code of its item.
func (d *drafter) byCode(n *tree.Node) bool {
	if n.Kind != tree.Object || n.Len() == 0 || !calledLines(n.Name) {
		return false
	}
	for c := n.First(); c != nil; c = c.Next() {
		if q, err := strconv.Atoi(c.Text); c.Kind != tree.Number || err != nil || q <= 0 {
			return false
		}
		if !strings.ContainsAny(c.Name, "0123456789") && best(d.hintsOf(c.Name)) > 0 {
			return false
		}
	}
	return true
}

// rowsOf is a list of lists of values, such as the cells of a sheet. Its first one may have their headings, or a list
// of texts beside it.
type rowsOf struct {
	headings []string
	behind   int // rows of headings
}

// rows reads a list as a table; false if it is none.
func (d *drafter) rows(n *tree.Node) (t rowsOf, ok bool) {
	width := 0
	for row := n.First(); row != nil; row = row.Next() {
		if row.Kind != tree.Array {
			return t, false
		}
		width = max(width, row.Len())
		for c := row.First(); c != nil; c = c.Next() {
			if !c.Scalar() {
				return t, false
			}
		}
	}
	if width < 2 {
		return t, false
	}
	t.headings = make([]string, width)
	if first := d.headings(n.First()); first != nil && n.Len() > 1 {
		copy(t.headings, first)
		t.behind = 1
	} else if n.Parent != nil && n.Parent.Kind == tree.Object {
		for beside := n.Parent.First(); beside != nil; beside = beside.Next() {
			if names := d.headings(beside); beside != n && len(names) == width {
				copy(t.headings, names)
			}
		}
	}
	return t, true
}

// headings are the texts of a list that can be those of columns: all differ, and two of them mean something. Otherwise
// it returns nil.
func (d *drafter) headings(n *tree.Node) (all []string) {
	if n.Kind != tree.Array {
		return nil
	}
	known := 0
	for c := n.First(); c != nil; c = c.Next() {
		if c.Kind != tree.String || c.Text == "" || slices.Contains(all, c.Text) {
			return nil
		}
		if all = append(all, c.Text); best(d.hintsOf(c.Text)) > 0 {
			known++
		}
	}
	if known < 2 {
		return nil
	}
	return all
}

// path is where the rows stand, given the path of the list.
func (t *rowsOf) path(list string) string {
	if t.behind > 0 {
		return fmt.Sprintf("%s[%d:]", list, t.behind)
	}
	return list + "[*]"
}

// cellProfiles returns the values of rows by their place in the row.
func (d *drafter) cellProfiles(r *repeated) (all []*profile) {
	values := make([][]value, len(r.headings))
	for i, row := range r.nodes {
		column := 0
		for c := row.First(); c != nil; c = c.Next() {
			if c.Kind != tree.Null {
				values[column] = append(values[column], value{i, scalarCell(c)})
			}
			column++
		}
	}
	for i, heading := range r.headings {
		p := d.profile(heading, fmt.Sprintf("$[%d]", i), 0, values[i])
		p.letter = i + 1
		all = append(all, p)
	}
	return all
}

// scalarCell is a value of JSON as a cell.
func scalarCell(n *tree.Node) source.Cell {
	if n.Kind == tree.Number {
		return source.Cell{Text: n.Text, Kind: source.Exact}
	}
	return source.Cell{Text: n.Text}
}

// counting reports whether names count what they belong to, as 1, 2, 3 or 10, 20, 30 do.
func counting(nodes []*tree.Node) bool {
	var before *tree.Node
	for _, n := range nodes {
		is, err := strconv.Atoi(n.Name)
		if err != nil || n.Name != strconv.Itoa(is) {
			return false
		}
		if before == nil || before.Parent != n.Parent {
			if is != 0 && is != 1 && is != 10 && is != 100 {
				return false
			}
		} else if last, _ := strconv.Atoi(before.Name); is <= last {
			return false
		}
		before = n
	}
	return true
}
