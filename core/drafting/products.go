package drafting

import (
	"fmt"
	"regexp"
	"slices"

	"koinos/core/mapping"
	"koinos/core/order"
)

// product is three columns of which one is the product of the others.
type product struct {
	qty, price, amount *profile
	good, rows         int
}

// byProducts finds the columns of which one is the product of the others, and raises them to quantity, price and
// amount. Where several are, such as the packs of a case and the cases, those count that are called so.
func (d *drafter) byProducts(columns []*profile, all *[]candidate) {
	var best *product
	most := -1.0
	for _, x := range d.products(columns) {
		called := d.looksLike(x.price, "unit_price") + d.looksLike(x.amount, "amount") + d.looksLike(x.qty, "quantity")
		if called == 0 && x.price.share(x.price.whole) > 0.95 && x.amount.share(x.amount.whole) > 0.95 {
			continue // counts of pieces and packs, not money
		}
		if called > most {
			best, most = &x, called
		}
	}
	if best == nil {
		return
	}
	why := fmt.Sprintf("%s × %s is %s in %d of %d rows", best.qty.from, best.price.from, best.amount.from, best.good,
		best.rows)
	d.raise(all, best.qty, "quantity", why)
	d.raise(all, best.price, "unit_price", why)
	d.raise(all, best.amount, "amount", why)
	d.counted(all, best)
	*all = slices.DeleteFunc(*all, func(c candidate) bool {
		return c.name() == "discount_percent" && d.inPrice(best, c.column)
	})
}

// openWords are of quantities that are still to come, which an order's own quantity is not.
var openWords = regexp.MustCompile(`(?i)rest|open|offen|remain|outstanding|balance|back|b/?o\b|due`)

// counted prefers the quantity that makes the amount to others, as that in the units of the price where the document
// has another one in cases, and the unit that is called like it.
func (d *drafter) counted(all *[]candidate, best *product) {
	if best.good < best.rows || openWords.MatchString(best.qty.heading) {
		return
	}
	own := slices.DeleteFunc(plainWords(best.qty.heading), func(w string) bool { return d.looksLike(&profile{heading: w}, "quantity") > 0.5 })
	for i := range *all {
		c := &(*all)[i]
		switch {
		case c.level != order.Lines:
		case c.name() == "quantity" && c.column != best.qty && d.looksLike(best.qty, "quantity") > 0.3:
			c.score -= 0.3
		case c.name() == "unit" && slices.ContainsFunc(plainWords(c.column.heading), func(w string) bool { return slices.Contains(own, w) }):
			c.score += 0.5
		}
	}
}

// inPrice reports whether the price has a discount taken off already: quantity × price is the amount where there is
// one.
func (d *drafter) inPrice(x *product, discount *profile) bool {
	off := d.numbersOf(discount)
	amounts := map[int]order.Number{}
	for row, n := range d.numbersOf(x.amount) {
		if o, ok := off[row]; ok && !o.IsZero() {
			amounts[row] = n
		}
	}
	good, _ := multiplied(d.numbersOf(x.qty), d.numbersOf(x.price), amounts)
	return len(amounts) > 0 && good*10 >= len(amounts)*8
}

// numbersOf are the numbers in the first rows of a column, enough to see a rule.
func (d *drafter) numbersOf(p *profile) map[int]order.Number {
	n := map[int]order.Number{}
	for _, v := range p.values[:min(len(p.values), 200)] {
		if x, _, ok := mapping.NumberIn(d.decimalOf(v.cell), v.cell.Text); ok {
			n[v.row] = x
		}
	}
	return n
}

// mostFigures is how many columns of numbers are compared, each with all others.
const mostFigures = 12

// figures returns the columns of numbers, with these; none where they are too many to be compared with one another.
func (d *drafter) figures(columns []*profile) (cols []*profile, values []map[int]order.Number) {
	for _, p := range columns {
		if p.filled < 2 || p.share(p.numbers) < 0.9 {
			continue
		}
		if len(cols) == mostFigures {
			return nil, nil
		}
		cols, values = append(cols, p), append(values, d.numbersOf(p))
	}
	return cols, values
}

// products returns all such columns.
func (d *drafter) products(columns []*profile) (found []product) {
	cols, values := d.figures(columns)
	for a := range cols { // the amount
		for q := range cols {
			for u := q + 1; u < len(cols); u++ {
				if a == q || a == u {
					continue
				}
				good, rows := multiply(values[q], values[u], values[a])
				if good == 0 {
					continue
				}
				// The quantity is the whole number, or the column with such a name.
				qty, price := cols[q], cols[u]
				if d.looksLike(price, "quantity") > d.looksLike(qty, "quantity") ||
					d.looksLike(price, "quantity") == d.looksLike(qty, "quantity") && price.share(price.whole) > qty.share(qty.whole) {
					qty, price = price, qty
				}
				found = append(found, product{qty, price, cols[a], good, rows})
			}
		}
	}
	return found
}

// multiply returns in how many of the rows that have all three numbers the last is the product of the others; 0 if that
// may be chance.
func multiply(a, b, product map[int]order.Number) (good, rows int) {
	one := order.NumberOf(1)
	ones := 0
	for row, x := range product {
		y, okY := a[row]
		z, okZ := b[row]
		if okY && okZ && x.Sign() != 0 && (y.Cmp(one) == 0 || z.Cmp(one) == 0) {
			ones++
		}
	}
	good, rows = multiplied(a, b, product)
	if rows < 2 || rows == 2 && (good < 2 || ones > 0) || good*10 < rows*7 || ones*2 > rows {
		return 0, rows
	}
	return good, rows
}

// multiplied counts the rows that have all three numbers, and those in which the last is the product of the others.
func multiplied(a, b, product map[int]order.Number) (good, rows int) {
	tolerance := order.MustNumber("0.011")
	for row, x := range product {
		y, okY := a[row]
		z, okZ := b[row]
		if !okY || !okZ || x.Sign() == 0 {
			continue
		}
		rows++
		if is, err := y.Mul(z); err == nil && order.Within(is.Round(order.HalfUp, 2), x, tolerance) {
			good++
		}
	}
	return good, rows
}

// lessTax leaves a column out that holds the tax in money: what another one has besides that in a third. Lines say a
// tax as its rate.
func lessTax(d *drafter, columns []*profile, all *[]candidate) {
	cols, values := d.figures(columns)
	for t, tax := range cols {
		if d.looksLike(tax, "tax_percent") < 0.5 || tax.percent > 0 {
			continue
		}
		for w, with := range cols {
			for o := range cols {
				if w == t || o == t || w == o || !sums(values[o], values[t], values[w]) {
					continue
				}
				*all = slices.DeleteFunc(*all, func(c candidate) bool {
					return c.column == tax && c.name() == "tax_percent" ||
						c.column == with && (c.name() == "unit_price" || c.name() == "amount") && d.looksLike(with, c.name()) < 0.5
				})
			}
		}
	}
}

// sums reports whether two columns add up to a third in nearly all rows, of which there are two at least, and more is
// added than nothing.
func sums(a, b, sum map[int]order.Number) bool {
	good, rows, some := 0, 0, 0
	for row, x := range sum {
		y, okY := a[row]
		z, okZ := b[row]
		if !okY || !okZ {
			continue
		}
		rows++
		if is, err := y.Add(z); err == nil && order.Within(is, x, order.MustNumber("0.011")) {
			good++
		}
		if z.Sign() != 0 && y.Sign() != 0 {
			some++
		}
	}
	return rows >= 2 && some >= 2 && good*10 >= rows*9
}

// lessMoney leaves the amounts of lines out where a column holds the money that was taken off them: quantity × price,
// less that, is the amount. An order's amounts are those before its allowances, and would differ.
func lessMoney(d *drafter, columns []*profile, all *[]candidate) {
	best := func(field string) *profile {
		var found *candidate
		for i := range *all {
			if c := &(*all)[i]; c.level == order.Lines && c.name() == field && (found == nil || c.score > found.score) {
				found = c
			}
		}
		if found == nil || found.score < 0.6 {
			return nil
		}
		return found.column
	}
	off, qty, price := best("allowance.discount"), best("quantity"), best("unit_price")
	if off == nil || qty == nil || price == nil {
		return
	}
	quantities, prices, less := d.numbersOf(qty), d.numbersOf(price), d.numbersOf(off)
	for _, p := range columns {
		if p == off || p == qty || p == price || p.share(p.numbers) < 0.9 {
			continue
		}
		before := map[int]order.Number{}
		taken := 0
		for row, n := range d.numbersOf(p) {
			sum, err := n.Add(less[row])
			if err != nil {
				continue
			}
			if before[row] = sum; less[row].Sign() != 0 {
				taken++
			}
		}
		if good, rows := multiplied(quantities, prices, before); taken > 0 && good > 1 && good*10 >= rows*8 {
			*all = slices.DeleteFunc(*all, func(c candidate) bool { return c.column == p })
		}
	}
}
