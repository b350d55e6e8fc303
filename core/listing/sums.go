package listing

import (
	"cmp"
	"maps"
	"slices"
	"strings"

	"koinos/core/order"
	"koinos/core/report"
)

// sums add up the columns of a table: amounts by currency, quantities by unit.
type sums struct {
	label int // the column that says what a row of sums is of
	by    [quantities + 1]map[string]*sum
}

// sum is the total of the rows with one currency, or with one unit.
type sum struct {
	orders, lines int
	columns       map[int]order.Number
	beyond        map[int]bool // columns of which the sum has too many digits
}

// of is the sum for a currency, or for a unit.
func (s *sums) of(m measure, name string) *sum {
	if s.by[m] == nil {
		s.by[m] = map[string]*sum{}
	}
	one := s.by[m][name]
	if one == nil {
		one = &sum{columns: map[int]order.Number{}, beyond: map[int]bool{}}
		s.by[m][name] = one
	}
	return one
}

// count counts an order, and its lines that are shown.
func (s *sums) count(o *order.Order, lines []*order.Line) {
	one := s.of(amounts, o.Currency)
	one.orders++
	one.lines += len(lines)
	for _, l := range lines {
		s.of(quantities, l.Unit).lines++
	}
}

// add adds the value of a column.
func (s *sums) add(column int, m measure, o *order.Order, l *order.Line, text string) {
	if m == 0 || text == "" {
		return
	}
	name := o.Currency
	if m == quantities {
		name = l.Unit
	}
	one := s.of(m, name)
	n, err := order.ParseNumber(text)
	if err == nil {
		n, err = one.columns[column].Add(n)
	}
	if err != nil {
		one.beyond[column] = true
		return
	}
	one.columns[column] = n
}

// rows are the rows of sums: those of currencies, then those of units, if the table has such columns.
func (s *sums) rows(columns []column, orders, lines bool) (rows [][]string) {
	for m := amounts; m <= quantities; m++ {
		if m == quantities && !slices.ContainsFunc(columns, func(c column) bool { return c.sum == m }) {
			continue
		}
		for _, name := range slices.Sorted(maps.Keys(s.by[m])) {
			one, row := s.by[m][name], make([]string, len(columns))
			for i, c := range columns {
				switch {
				case one.beyond[i]:
					row[i] = "too many digits"
				case c.sum == m:
					row[i] = orZero(one.columns[i].String())
				}
			}
			var counts []string
			if orders && m == amounts {
				counts = append(counts, report.Plural(one.orders, "order"))
			}
			if lines || m == quantities {
				counts = append(counts, report.Plural(one.lines, "line"))
			}
			row[s.label] = cmp.Or(name, [...]string{"", "no currency", "no unit"}[m]) + ": " + strings.Join(counts, ", ")
			rows = append(rows, row)
		}
	}
	return rows
}
