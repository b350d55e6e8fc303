package drafting

import (
	"slices"
	"strings"

	"koinos/core/order"
)

// preferCodes decides what a column is that is only called the item. Where it counts the lines, and another column
// looks like the item, it is their number; where it has words, and another column codes, it is the description.
func preferCodes(all []candidate) {
	var sure, codes, called []*candidate // of the item
	for i := range all {
		c := &all[i]
		if c.level != order.Lines || c.name() != "item" {
			continue
		}
		words := plainWords(c.column.heading)
		switch {
		case len(words) == 1 && conceptOf[words[0]] == "item":
			called = append(called, c)
		case len(words) == 1 && words[0] == "code" && c.column.filled > 0 && c.column.digits() == c.column.filled && !c.column.counts():
			codes = append(codes, c)
		}
		if c.score >= 0.7 {
			sure = append(sure, c)
		}
	}
	for _, is := range called {
		field := ""
		switch {
		case is.column.counts() && slices.ContainsFunc(sure, func(c *candidate) bool { return c.column != is.column }):
			field = "number"
		case len(codes) > 0 && is.column.digits() == 0:
			field = "description"
			codes[0].score = max(codes[0].score, 1)
			codes[0].why = append(codes[0].why, "its values are codes, and "+is.column.from+" has words")
		default:
			continue
		}
		is.score -= 0.5
		for n := range all {
			if c := &all[n]; c.column == is.column && c.level == order.Lines && c.name() == field {
				c.score = max(c.score, 1)
			}
		}
		return
	}
}

// digits is how many values have a digit.
func (p *profile) digits() (n int) {
	for _, v := range p.values {
		if strings.ContainsAny(v.cell.Text, "0123456789") {
			n++
		}
	}
	return n
}
