package list

import "koinos/core/order"

// packPrefix begins the names of an item's attributes that say how many of its own unit another unit contains: "per BX"
// of 12 says that a box contains twelve.
const packPrefix = "per "

// measures are groups of units. In each group, every unit is a fixed quantity of the first one, by the codes of UN/ECE
// Recommendation 20.
var measures = []map[string]string{
	{"C62": "1", "EA": "1", "H87": "1", "PCE": "1", "DZN": "12", "GRO": "144"},
	{"GRM": "1", "KGM": "1000", "TNE": "1000000"},
	{"ONZ": "1", "LBR": "16"},
	{"MMT": "1", "CMT": "10", "MTR": "1000", "KMT": "1000000"},
	{"INH": "1", "FOT": "12", "YRD": "36"},
	{"MLT": "1", "LTR": "1000"},
}

// ratio is how many of one unit another contains, for every item.
func ratio(of, in string) (many, one order.Number, ok bool) {
	for _, group := range measures {
		if a, b := group[of], group[in]; a != "" && b != "" {
			return order.MustNumber(a), order.MustNumber(b), true
		}
	}
	return many, one, false
}

// InUnit converts a quantity of an item into another unit: by the item's pack sizes in the list items, or by what the
// units always contain. It returns false if this is not known, or if the result would not be exact.
func (s *Set) InUnit(item string, quantity order.Number, from, to string) (order.Number, bool) {
	if from == to {
		return quantity, true
	}
	var entry *Entry
	if s != nil && s.Lists["items"] != nil {
		entry = s.Lists["items"].Look(item, nil, 0).Entry
	}
	// Each unit is so many of the item's own.
	own := func(unit string) (many, one order.Number, ok bool) {
		if entry == nil {
			return many, one, false
		}
		if base := entry.Get("unit"); base == unit {
			return order.NumberOf(1), order.NumberOf(1), true
		} else if n, err := order.ParseNumber(entry.Get(packPrefix + unit)); err == nil && n.Sign() > 0 {
			return n, order.NumberOf(1), true
		} else if base != "" {
			return ratio(unit, base)
		}
		return many, one, false
	}
	many, one, ok := ratio(from, to)
	if a, b, known := own(from); known {
		if c, d, too := own(to); too {
			up, err := a.Mul(d)
			down, err2 := b.Mul(c)
			many, one, ok = up, down, err == nil && err2 == nil
		}
	}
	if !ok {
		return order.Number{}, false
	}
	product, err := quantity.Mul(many)
	if err != nil {
		return order.Number{}, false
	}
	in, err := product.Quo(one)
	if err != nil {
		return order.Number{}, false
	}
	back, err := in.Mul(one)
	return in.Trim(), err == nil && back.Cmp(product) == 0
}
