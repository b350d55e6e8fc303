package drafting

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"koinos/core/jsondoc"
	"koinos/core/order"
	"koinos/core/source"
	"koinos/core/tree"
)

// inCells is how cells hold the lines of an order.
type inCells struct {
	columns []int // counted from 0
	by      string
	why     string
}

// unfolded returns a table as it would be if each line that its cells hold had a row of its own, and how they hold them;
// nil if they do not.
func (d *drafter) unfolded(t *table) (*table, *inCells) {
	if t.headAt < 0 {
		return nil, nil
	}
	for _, look := range []func(*table) (*table, *inCells){d.listsOfJSON, d.dividedCells, d.countedItems} {
		if out, how := look(t); how != nil {
			return out, how
		}
	}
	return nil, nil
}

// say writes how cells hold lines, and doubts it where only the sample shows it.
func (how *inCells) say(d *drafter, t *table) {
	var names []string
	for _, c := range how.columns {
		names = append(names, t.columns[c].from)
	}
	d.y.parts = append(d.y.parts, fmt.Sprintf("lines: {across: cells, columns: %s, by: %s}", flow(names), quote(how.by)))
	d.guess("parts.lines", "cells of "+strings.Join(names, ", "), how.why, "likely", "")
}

// candidates keeps what the cells with lines say to the lines. An amount that stands beside them is the order's total.
func (how *inCells) candidates(d *drafter, all []candidate) []candidate {
	ofLines := func(c *candidate) bool { return c.column.expr != "" || slices.Contains(how.columns, c.column.letter-1) }
	total, ok := d.lookup(order.Header, "total")
	for i := range all {
		if c := &all[i]; ok && c.level == order.Lines && c.name() == "amount" && !ofLines(c) {
			c.level, c.field = order.Header, total
		}
	}
	return slices.DeleteFunc(all, func(c candidate) bool { return c.level == order.Header && ofLines(&c) })
}

// unfold makes a table with a row for each of the pieces of a row's cells. What further columns say of each row is put
// behind the others.
func (d *drafter) unfold(t *table, divided []int, pieces func(r *source.Record) [][]source.Cell, further []*profile) *table {
	out := *t
	out.rows = nil
	for i := range t.rows {
		r := t.rows[i]
		all := pieces(&r)
		if len(all) == 0 {
			continue
		}
		for k := range len(all[0]) {
			one := r
			one.Cells = slices.Clone(r.Cells)
			for n, c := range divided {
				if c < len(one.Cells) {
					one.Cells[c] = all[n][k]
				}
			}
			out.rows = append(out.rows, one)
		}
	}
	out.columns = nil
	for c, p := range t.columns {
		if len(further) > 0 && slices.Contains(divided, c) {
			continue // what its parts say stands in the further ones
		}
		var values []value
		for i := range out.rows {
			if c < len(out.rows[i].Cells) && strings.TrimSpace(out.rows[i].Cells[c].Text) != "" {
				values = append(values, value{i, out.rows[i].Cells[c]})
			}
		}
		heading := p.heading
		if slices.Contains(divided, c) {
			heading = d.oneOf(heading)
		}
		out.columns = append(out.columns, d.profile(heading, p.from, c+1, values))
	}
	for n, p := range further {
		p.letter = len(t.columns) + n + 1
		for _, v := range p.values {
			r := &out.rows[v.row]
			for len(r.Cells) < p.letter {
				r.Cells = append(r.Cells, source.Cell{})
			}
			r.Cells[p.letter-1] = v.cell
		}
	}
	out.columns = append(out.columns, further...)
	return &out
}

// oneOf is the heading of one of several values: Quantity for Quantities, if it means something then.
func (d *drafter) oneOf(heading string) string {
	if best(d.hintsOf(heading)) > 0 {
		return heading
	}
	for _, end := range [][2]string{{"ies", "y"}, {"s", ""}, {"n", ""}, {"en", ""}} {
		if stem, is := strings.CutSuffix(heading, end[0]); is && best(d.hintsOf(stem+end[1])) > 0 {
			return stem + end[1]
		}
	}
	return heading
}

// listsOfJSON finds a column whose cells are lists in JSON.
func (d *drafter) listsOfJSON(t *table) (*table, *inCells) {
	for c, p := range t.columns {
		var elements []*tree.Node
		lists := 0
		of := map[string][]*tree.Node{}
		for _, v := range p.values {
			text := strings.TrimSpace(v.cell.Text)
			if !strings.HasPrefix(text, "[") {
				continue
			}
			if root, _, err := jsondoc.Parse([]byte(text), 0); err == nil && root.First() != nil && root.First().Kind == tree.Object {
				lists++
				for n := root.First(); n != nil; n = n.Next() {
					of[v.cell.Text] = append(of[v.cell.Text], n)
				}
			}
		}
		if lists == 0 || lists*10 < len(p.values)*8 {
			continue
		}
		pieces := func(r *source.Record) [][]source.Cell {
			if c >= len(r.Cells) {
				return nil
			}
			return [][]source.Cell{make([]source.Cell, len(of[r.Cells[c].Text]))}
		}
		for i := range t.rows {
			if c < len(t.rows[i].Cells) {
				elements = append(elements, of[t.rows[i].Cells[c].Text]...)
			}
		}
		further := d.leafProfiles(&repeated{path: "$", nodes: elements})
		for _, f := range further {
			f.from, f.expr = p.from, fmt.Sprintf("json(value, %s)", strconv.Quote(f.from))
		}
		return d.unfold(t, []int{c}, pieces, further), &inCells{[]int{c}, "json", fmt.Sprintf("%d of its cells are lists in JSON", lists)}
	}
	return nil, nil
}

// dividers are what may stand between the values in a cell, the surest first.
var dividers = []string{"\n", "|", ";", ","}

// dividedCells finds columns whose cells hold as many values as those beside them in the same row, among them codes and
// whole numbers.
func (d *drafter) dividedCells(t *table) (*table, *inCells) {
	for _, by := range dividers {
		var columns []int
		codes, counts, rows := 0, 0, map[int]int{} // values in the cells of a row
		odd := map[int]bool{}                      // rows whose cells hold different numbers of them
		for c, p := range t.columns {
			most, code, count := 0, true, true
			for _, v := range p.values {
				n := 0
				for text := range strings.SplitSeq(v.cell.Text, by) {
					if text = strings.TrimSpace(text); text == "" {
						continue
					}
					n++
					whole, err := strconv.Atoi(text)
					count = count && err == nil && whole > 0 && text[0] != '0'
					code = code && !strings.ContainsAny(text, " \t") && strings.ContainsAny(text, "0123456789")
				}
				most = max(most, n)
			}
			if most < 2 {
				continue
			}
			columns = append(columns, c)
			for _, v := range p.values {
				n := len(strings.Split(strings.TrimRight(v.cell.Text, by+" "), by))
				odd[v.row] = odd[v.row] || rows[v.row] > 0 && rows[v.row] != n
				rows[v.row] = n
			}
			if count {
				counts++
			} else if code {
				codes++
			}
		}
		several := 0
		for _, n := range rows {
			if n > 1 {
				several++
			}
		}
		maps.DeleteFunc(odd, func(_ int, is bool) bool { return !is })
		if len(odd)*5 > several || len(columns) < 2 || counts == 0 || codes == 0 && (counts < 2 || by == ",") { // 1,95 is one figure
			continue
		}
		how := &inCells{columns, by, fmt.Sprintf("in %d rows these cells hold several values, as many in each", several)}
		if by == "," {
			d.decimal = '.' // it stands between values
		}
		return d.unfold(t, columns, func(r *source.Record) (all [][]source.Cell) {
			n := 0
			for _, c := range columns {
				var one []source.Cell
				if c < len(r.Cells) {
					for text := range strings.SplitSeq(strings.TrimRight(r.Cells[c].Text, by+" "), by) {
						one = append(one, source.Cell{Text: strings.TrimSpace(text)})
					}
				}
				all, n = append(all, one), max(n, len(one))
			}
			for i := range all {
				for len(all[i]) < n {
					all[i] = append(all[i], source.Cell{})
				}
			}
			return all
		}, nil), how
	}
	return nil, nil
}

// pairs are how a quantity and its item stand in one text.
var pairs = []struct {
	pattern        *regexp.Regexp
	item, quantity string // groups of the pattern, as expressions; %s is the sign between them
}{
	{regexp.MustCompile(`^(\S+)(\s+[x×*]\s+|[×*])(\d+)$`), "before(value, %s)", "after(value, %s)"},
	{regexp.MustCompile(`^(\d+)(\s*[x×*]\s+|[×*])(\S.*)$`), "after(value, %s)", "before(value, %s)"},
}

// countedItems finds a column whose cells are lists of items, each with its quantity beside it.
func (d *drafter) countedItems(t *table) (*table, *inCells) {
	if slices.ContainsFunc(t.columns, func(p *profile) bool { // which says how much
		return slices.ContainsFunc(d.hintsOf(p.heading), func(h hint) bool { return h.field == "quantity" })
	}) {
		return nil, nil
	}
	for c, p := range t.columns {
		for _, by := range dividers {
			for _, pair := range pairs {
				sign, several := "", 0
				fits := len(p.values) > 0
				var items, quantities []value
				row := 0
				for _, v := range p.values {
					n := 0
					for text := range strings.SplitSeq(strings.TrimRight(v.cell.Text, by+" "), by) {
						m := pair.pattern.FindStringSubmatch(strings.TrimSpace(text))
						if m == nil || sign != "" && strings.TrimSpace(m[2]) != strings.TrimSpace(sign) {
							fits = false
							break
						}
						if sign == "" || len(m[2]) < len(sign) {
							sign = m[2]
						}
						item, quantity := m[1], m[3]
						if strings.HasPrefix(pair.item, "after") {
							item, quantity = m[3], m[1]
						}
						items, quantities = append(items, value{row, source.Cell{Text: item}}), append(quantities, value{row, source.Cell{Text: quantity}})
						row++
						n++
					}
					if n > 1 {
						several++
					}
				}
				if !fits || several == 0 {
					continue
				}
				if strings.TrimSpace(sign) != "x" { // no letter of a code: it stands for itself
					sign = strings.TrimSpace(sign)
				}
				further := []*profile{d.profile("item", p.from, 0, items), d.profile("quantity", p.from, 0, quantities)}
				further[0].expr, further[1].expr = fmt.Sprintf(pair.item, strconv.Quote(sign)), fmt.Sprintf(pair.quantity, strconv.Quote(sign))
				pieces := func(r *source.Record) [][]source.Cell {
					if c >= len(r.Cells) || strings.TrimSpace(r.Cells[c].Text) == "" {
						return nil
					}
					n := len(strings.Split(strings.TrimRight(r.Cells[c].Text, by+" "), by))
					return [][]source.Cell{make([]source.Cell, n)}
				}
				return d.unfold(t, []int{c}, pieces, further), &inCells{[]int{c}, by, "its cells are items, each with a quantity beside it"}
			}
		}
	}
	return nil, nil
}
