package drafting

import (
	"slices"
	"strings"

	"koinos/core/order"
)

// partsOf are what lists beside the lines of an order in JSON can add up to, by words in their names.
var partsOf = []struct {
	field string
	words []string
}{
	{"charge.freight", []string{"shipping", "ship", "shipment", "freight", "delivery", "postage", "carriage", "versand",
		"fracht", "livraison"}},
	{"allowance.discount", []string{"discount", "discounts", "coupon", "coupons", "voucher", "vouchers", "promotion",
		"promotions", "rabatt"}},
	{"charge.other", []string{"fee", "fees", "surcharge", "surcharges", "charge", "charges", "handling", "gebuhr",
		"gebuhren"}},
	{"tax_amount", []string{"tax", "taxes", "vat", "mwst", "steuern", "tva"}},
}

// treeParts binds lists beside the lines of an order, such as shipping charges, to their sums. It lists everything that
// it does not bind as not used.
func (d *drafter) treeParts(orders, lines *repeated, found map[string]*repeated, paths []string) {
	for _, path := range paths {
		if path == lines.path || !within(path, orders.path) || within(lines.path, path) {
			continue
		}
		list := "$" + strings.TrimPrefix(path, orders.path)
		columns := d.leafProfiles(found[path])
		money := d.moneyOf(columns)
		field := ""
		if money != nil && d.hints.Says == "" && !within(path, lines.path) && strings.Count(list, "[*]") == 1 {
			field = partField(list)
		}
		if field != "" && !d.bound(order.Header, field) {
			b := binding{level: order.Header, field: field, from: list + "." + strings.TrimPrefix(money.from, "$."),
				words: []string{"repeat: sum"}, sure: "likely", why: "it is what the list " + list + " adds up to"}
			if field == "tax_amount" || field == "allowance.discount" {
				b.sure = "unsure" // the prices, or the amounts, may have it already
			}
			d.add(b)
		} else {
			money = nil
		}
		for _, p := range columns {
			if p != money && p.filled > 0 {
				d.out.Unbound = append(d.out.Unbound, list+"."+strings.TrimPrefix(p.from, "$."))
			}
		}
	}
}

// within reports whether a path leads into the value of another one.
func within(path, outer string) bool {
	return strings.HasPrefix(path, outer+".") || strings.HasPrefix(path, outer+"[")
}

// partField is the field that a list can add up to; "" if there is none.
func partField(list string) string {
	words := plainWords(strings.NewReplacer("[*]", " ", "$.", "", ".", " ").Replace(list))
	for _, p := range partsOf {
		if slices.ContainsFunc(words, func(w string) bool { return slices.Contains(p.words, w) }) {
			return p.field
		}
	}
	return ""
}

// moneyOf is the column of a list's amounts: the only one whose name means a price or an amount.
func (d *drafter) moneyOf(columns []*profile) (money *profile) {
	for _, p := range columns {
		if p.share(p.numbers) < 1 || p.filled == 0 {
			continue
		}
		words := plainWords(p.heading)
		if !slices.ContainsFunc(words, func(w string) bool { return conceptOf[w] == "price" || conceptOf[w] == "amount" }) {
			continue
		}
		if money != nil {
			return nil
		}
		money = p
	}
	return money
}
