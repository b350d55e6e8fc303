package drafting

import (
	"fmt"
	"slices"
	"strings"

	"koinos/core/list"
)

// stateWords are headings of columns with the state of an order; gone are the words there for an order that is not
// wanted any more.
var (
	stateWords = words("status|state|order status|order state|orderstatus|stato|statut|estado|tila|auftragsstatus|bestellstatus|" +
		"stand|zustand|line status|item status|fulfilment status")
	gone = words("cancelled|canceled|cancel|void|voided|deleted|withdrawn|refused|rejected|refunded|storniert|storno|" +
		"geloscht|annule|annulee|annulled|annullato|anulado|cancelado|geannuleerd|annulleret|annulleret|kansellert|makulerad|anulowane")
)

func words(list string) map[string]bool {
	all := map[string]bool{}
	for w := range strings.SplitSeq(list, "|") {
		all[w] = true
	}
	return all
}

// cancelled leaves out what a column of the document marks as cancelled: orders, or rows if it varies within an order.
func (d *drafter) cancelled(columns []*profile, groups []int, chosen []candidate) {
	if d.hints.Says != "" {
		return
	}
	for _, p := range columns {
		if !stateWords[strings.Join(plainWords(p.heading), " ")] || p.from == "" ||
			slices.ContainsFunc(chosen, func(c candidate) bool { return c.column == p }) {
			continue
		}
		var found []string
		for _, v := range p.values {
			if w := list.Fold(v.cell.Text); gone[strings.Join(plainWords(w), " ")] && !slices.Contains(found, w) {
				found = append(found, w)
			}
		}
		if len(found) == 0 || strings.ContainsAny(p.from+strings.Join(found, ""), "\"'\\") {
			continue
		}
		slices.Sort(found)
		var is []string
		for _, w := range found {
			is = append(is, fmt.Sprintf("lower(col(%q)) == %q", p.from, w))
		}
		condition := strings.Join(is, " or ")
		why := fmt.Sprintf("%s says that some of them are cancelled", p.from)
		if groups == nil || constant(p, groups) == 1 {
			d.y.pass = condition
			d.guess("orders.leave_out", condition, why, "unsure", "")
		} else if d.y.leaveOut == "" {
			d.y.leaveOut = condition
			d.guess("rows.leave_out", condition, why, "unsure", "")
		}
		d.out.Unbound = slices.DeleteFunc(d.out.Unbound,
			func(name string) bool { return name == p.from || name == p.heading })
		return
	}
}
