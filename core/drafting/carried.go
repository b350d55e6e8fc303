package drafting

import (
	"fmt"
	"slices"

	"koinos/core/order"
)

// carried finds columns of the header that are written only where they change: those at the left of the column that
// identifies the orders, as in an outline, and the day of a notice. What stands in them counts for the orders below. The
// day of a notice that the first order has none of is only doubted.
func (d *drafter) carried(g *grouping, chosen []candidate) {
	first := map[int]int{} // rows with which the orders begin
	for row, order := range g.groups {
		if _, known := first[order]; !known {
			first[order] = row
		}
	}
	for i := range chosen {
		c := &chosen[i]
		if c.level != order.Header || c.column == g.ident || c.column.filled == 0 {
			continue
		}
		day := d.hints.Says != "" && c.name() == noticeOf[d.hints.Says].day
		outer := g.ident != nil && 0 < c.column.letter && c.column.letter < g.ident.letter
		has, begins := map[int]bool{}, true
		for _, v := range c.column.values {
			has[g.groups[v.row]] = true
			begins = begins && v.row == first[g.groups[v.row]]
		}
		none := len(first) - len(has)
		switch {
		case none == 0 || !day && !outer:
		case begins && has[g.groups[0]]:
			sure := "likely"
			if !outer {
				sure = "unsure"
			}
			if slices.Contains(d.y.carried, c.column.from) {
				continue
			}
			d.y.carried = append(d.y.carried, c.column.from)
			d.guess("carried", c.column.from, fmt.Sprintf("blank for %d of %d orders; it seems to be written only where it changes",
				none, len(first)), sure, "read no further down than it stands")
		case day:
			d.say(order.Header, c.name(), "need: should")
			d.unsure(order.Header, c.name(), fmt.Sprintf("blank for %d of %d; what stands further up is not read for them", none,
				len(first)))
		}
	}
}
