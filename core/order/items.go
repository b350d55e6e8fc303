package order

import (
	"slices"
	"strings"
)

// Codes are the codes of a line's item, with the names of their fields.
func (l *Line) Codes() [4][2]string {
	return [4][2]string{{"item", l.Item}, {"buyer_item", l.BuyerItem}, {"supplier_item", l.SupplierItem}, {"gtin", l.GTIN}}
}

// sameCode compares two codes of an item, which stand in a field. Letter case counts for nothing.
func sameCode(field, a, b string) bool {
	if field == "gtin" {
		a, b = GTIN14(a), GTIN14(b)
	}
	return strings.EqualFold(a, b)
}

// DifferentItem returns a code of other, with its field, that differs from the line's code; "" means that both can be
// of the same item.
func (l *Line) DifferentItem(other *Line) (field, code string) {
	have := l.Codes()
	for i, c := range other.Codes() {
		if c[1] != "" && have[i][1] != "" && !sameCode(c[0], c[1], have[i][1]) {
			return c[0], c[1]
		}
	}
	return "", ""
}

// otherItem reports whether a code is none of the codes of the line's item.
func (l *Line) otherItem(code string) bool {
	for _, c := range l.Codes() {
		if sameCode(c[0], c[1], code) {
			return false
		}
	}
	return true
}

// SharesItem reports whether both lines have the same item code in a field.
func (l *Line) SharesItem(other *Line) bool {
	have := l.Codes()
	for i, c := range other.Codes() {
		if c[1] != "" && sameCode(c[0], c[1], have[i][1]) {
			return true
		}
	}
	return false
}

// OfItem is the position, counted from 1, of the only line that has the same item as another line; 0 if there is none
// or several.
func (o *Order) OfItem(l *Line) (position int) {
	if all := NewFinder(o).OfItem(l); len(all) == 1 {
		return all[0] + 1
	}
	return 0
}

// naming are the fields of a change's header that identify the order and the change, and change nothing.
var naming = []string{"number", "sender_number", "partner", "ordered_on", "currency", "total", "tax_amount",
	"total_before_tax", "reference.release",
	"change_number", "changed_on", "revision", Reason}

// EachChange calls yield with what the header of a change says that the order should be.
func (o *Order) EachChange(yield func(field, value string)) {
	o.Each(func(line int, field, value string) {
		if line == 0 && !slices.Contains(naming, field) {
			yield(field, value)
		}
	})
}
