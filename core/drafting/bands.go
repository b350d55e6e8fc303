package drafting

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"koinos/core/finding"
	"koinos/core/order"
)

// bands leaves out rows that have nothing but words in the column of the items, where the items are codes: headings of
// some of the lines. A code that stands alone in its row is a line that lacks its quantity.
func (d *drafter) bands(t *table, chosen []candidate) {
	at := slices.IndexFunc(chosen, func(c candidate) bool { return c.level == order.Lines && c.name() == "item" })
	if at < 0 || d.hints.Says != "" || !slices.ContainsFunc(chosen, func(c candidate) bool {
		return c.level == order.Lines && c.name() == "quantity"
	}) {
		return
	}
	item := chosen[at].column
	n, first := 0, ""
	for i := range t.rows {
		rec := &t.rows[i]
		is := text(rec, item.letter-1)
		switch {
		case item.letter < 1 || is == "":
		case filledCells(rec) == 1 && !strings.ContainsAny(is, "0123456789"):
			n, first = n+1, cmp.Or(first, is)
		case !strings.ContainsAny(is, "0123456789"):
			return // items are words here
		}
	}
	if n == 0 || n*2 > len(t.rows) {
		return
	}
	is := fmt.Sprintf(`filled() == 1 and not (col(%s) matches "[0-9]")`, strconv.Quote(item.from))
	if d.y.leaveOut != "" {
		is = "(" + d.y.leaveOut + ") or " + is
	}
	d.y.leaveOut = is
	d.guess("rows.leave_out", is, fmt.Sprintf("%d rows have nothing but words there, such as %q: headings between the lines", n,
		finding.Clip(first, 40)), "likely", "")
}
