package drafting

import (
	"strings"

	"koinos/core/order"
)

// preferCodes decides what a column is that is only called the item. Where it counts the lines, and another column
// looks like the item, it is their number; where it has words, and another column codes, it is the description.
func preferCodes(all []candidate) {
	for i := range all {
		is := &all[i]
		words := plainWords(is.column.heading)
		if is.level != order.Lines || is.name() != "item" || len(words) != 1 || conceptOf[words[0]] != "item" {
			continue
		}
		counted, spoken := is.column.counts(), is.column.digits() == 0
		if !counted && !spoken {
			continue
		}
		for k := range all {
			other := &all[k]
			if other.column == is.column || other.level != order.Lines || other.name() != "item" {
				continue
			}
			code := spoken && other.column.digits() == other.column.filled && other.column.filled > 0 && !other.column.counts() &&
				strings.Join(plainWords(other.column.heading), " ") == "code"
			if counted && other.score < 0.7 || spoken && !code {
				continue
			}
			field := "number"
			if spoken {
				field, other.score = "description", max(other.score, 1)
				other.why = append(other.why, "its values are codes, and "+is.column.from+" has words")
			}
			is.score -= 0.5
			for n := range all {
				if c := &all[n]; c.column == is.column && c.level == order.Lines && c.name() == field {
					c.score = max(c.score, 1)
				}
			}
			break
		}
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
