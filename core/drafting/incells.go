package drafting

import (
	"fmt"
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

// unfolded returns a table as it would be if each line that its cells hold had a row of its own, and how they hold
// them; nil if they do not.
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
func (d *drafter) unfold(t *table, divided []int, pieces func(r *source.Record) [][]source.Cell,
	further []*profile) *table {
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
			root, _, err := jsondoc.Parse([]byte(text), 0)
			if err == nil && root.First() != nil && root.First().Kind == tree.Object {
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
		return d.unfold(t, []int{c}, pieces, further),
			&inCells{[]int{c}, "json", fmt.Sprintf("%d of its cells are lists in JSON", lists)}
	}
	return nil, nil
}

// dividers are what may stand between the values in a cell, the surest first.
var dividers = []string{"\n", "|", ";", ","}

// piecesOf returns the texts that a cell holds with a divider between them. What is blank behind the last one is none.
func piecesOf(c source.Cell, by string) []string {
	all := strings.Split(strings.TrimRight(c.Text, by+" "), by)
	for i := range all {
		all[i] = strings.TrimSpace(all[i])
	}
	return all
}

// dividedCells finds columns whose cells hold as many values as those beside them in the same row, among them codes and
// whole numbers.
func (d *drafter) dividedCells(t *table) (*table, *inCells) {
	for _, by := range dividers {
		var columns []int
		counts, codes := 0, 0
		for c, p := range t.columns {
			most, count, code := kindOfPieces(p, by)
			switch {
			case most < 2:
				continue
			case count:
				counts++
			case code:
				codes++
			}
			columns = append(columns, c)
		}
		several, odd := t.heldTogether(columns, by)
		if odd*5 > several || len(columns) < 2 || counts == 0 || codes == 0 && (counts < 2 || by == ",") ||
			by == "," && t.onlyFigures(columns) { // 1,95 is one figure
			continue
		}
		if by == "," {
			d.decimal = '.' // it stands between values
		}
		apart := func(r *source.Record) [][]source.Cell { return cellsApart(r, columns, by) }
		return d.unfold(t, columns, apart, nil),
			&inCells{columns, by, fmt.Sprintf("in %d rows these cells hold several values, as many in each", several)}
	}
	return nil, nil
}

// kindOfPieces tells how many pieces a cell of a column has at most, and whether all of them are whole numbers or
// codes.
func kindOfPieces(p *profile, by string) (most int, count, code bool) {
	count, code = true, true
	for _, v := range p.values {
		n := 0
		for _, text := range piecesOf(v.cell, by) {
			if text == "" {
				continue
			}
			n++
			whole, err := strconv.Atoi(text)
			count = count && err == nil && whole > 0 && text[0] != '0'
			code = code && !strings.ContainsAny(text, " \t") && strings.ContainsAny(text, "0123456789")
		}
		most = max(most, n)
	}
	return most, count, code
}

// figure is a number with a decimal comma.
var figure = regexp.MustCompile(`^-?(0|[1-9][0-9]*),[0-9]{1,4}$`)

// onlyFigures reports whether columns have nothing but figures, some with a decimal comma.
func (t *table) onlyFigures(columns []int) bool {
	return !slices.ContainsFunc(columns, func(c int) bool {
		return slices.ContainsFunc(t.columns[c].values, func(v value) bool {
			text := strings.TrimSpace(v.cell.Text)
			return strings.Contains(text, ",") && !figure.MatchString(text)
		})
	})
}

// heldTogether counts the rows whose cells in some columns hold several values, and those whose cells hold different
// numbers of them.
func (t *table) heldTogether(columns []int, by string) (several, odd int) {
	held, differ := map[int]int{}, map[int]bool{} // by rows
	for _, c := range columns {
		for _, v := range t.columns[c].values {
			n := len(piecesOf(v.cell, by))
			if was := held[v.row]; was > 0 && was != n {
				differ[v.row] = true
			}
			held[v.row] = n
		}
	}
	for _, n := range held {
		if n > 1 {
			several++
		}
	}
	return several, len(differ)
}

// cellsApart returns the values in some cells of a row, as many of each: blank ones stand where a cell holds fewer.
func cellsApart(r *source.Record, columns []int, by string) [][]source.Cell {
	texts, most := make([][]string, len(columns)), 1
	for i, c := range columns {
		if c < len(r.Cells) {
			texts[i] = piecesOf(r.Cells[c], by)
			most = max(most, len(texts[i]))
		}
	}
	all := make([][]source.Cell, len(columns))
	for i := range all {
		all[i] = make([]source.Cell, most)
		for k, text := range texts[i] {
			all[i][k].Text = text
		}
	}
	return all
}

// pair is how an item and its quantity stand in one text, on both sides of a sign.
type pair struct {
	pattern        *regexp.Regexp // its groups are what stands before the sign, the sign, and what stands after it
	item, quantity int            // their groups
}

var pairs = []pair{
	{regexp.MustCompile(`^(\S+)(\s+[x×*]\s+|[×*])(\d+)$`), 1, 3},
	{regexp.MustCompile(`^(\d+)(\s*[x×*]\s+|[×*])(\S.*)$`), 3, 1},
}

// beforeOrAfter are the expressions for the groups of a pair.
var beforeOrAfter = map[int]string{1: "before(value, %q)", 3: "after(value, %q)"}

// counted is what the cells of a column hold: items, each with its quantity, and the shortest sign between them.
type counted struct {
	items, quantities []value
	sign              string
	several           int // cells with more than one item
}

// read takes the cells of a column apart; false if any of them holds something else, or none of them several.
func (w *pair) read(p *profile, by string) (all counted, ok bool) {
	for _, v := range p.values {
		texts := piecesOf(v.cell, by)
		for _, text := range texts {
			m := w.pattern.FindStringSubmatch(text)
			if m == nil || all.sign != "" && strings.TrimSpace(m[2]) != strings.TrimSpace(all.sign) {
				return counted{}, false
			}
			if all.sign == "" || len(m[2]) < len(all.sign) {
				all.sign = m[2]
			}
			row := len(all.items)
			all.items = append(all.items, value{row, source.Cell{Text: m[w.item]}})
			all.quantities = append(all.quantities, value{row, source.Cell{Text: m[w.quantity]}})
		}
		if len(texts) > 1 {
			all.several++
		}
	}
	if strings.TrimSpace(all.sign) != "x" { // no letter of a code: it stands for itself
		all.sign = strings.TrimSpace(all.sign)
	}
	return all, all.several > 0
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
			for i := range pairs {
				w := &pairs[i]
				all, ok := w.read(p, by)
				if !ok {
					continue
				}
				item, quantity := d.profile("item", p.from, 0, all.items), d.profile("quantity", p.from, 0, all.quantities)
				item.expr = fmt.Sprintf(beforeOrAfter[w.item], all.sign)
				quantity.expr = fmt.Sprintf(beforeOrAfter[w.quantity], all.sign)
				apart := func(r *source.Record) [][]source.Cell {
					if c >= len(r.Cells) || strings.TrimSpace(r.Cells[c].Text) == "" {
						return nil
					}
					return [][]source.Cell{make([]source.Cell, len(piecesOf(r.Cells[c], by)))}
				}
				return d.unfold(t, []int{c}, apart, []*profile{item, quantity}),
					&inCells{[]int{c}, by, "its cells are items, each with a quantity beside it"}
			}
		}
	}
	return nil, nil
}
