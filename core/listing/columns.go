package listing

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"koinos/core/order"
)

// The usual columns of an order, and of a line, in every layout that has it.
var (
	ofOrder = []string{"number", "kind", "partner", "sender_number", "ordered_on", "requested_delivery_on", "currency",
		"status"}
	ofLine = []string{"lines.number", "lines.item", "lines.description", "lines.quantity", "lines.unit",
		"lines.unit_price", "lines.amount", "lines.moved", "lines.cancelled", "lines.open", "lines.invoiced"}
)

// Usual are the columns that are written if nobody names any.
var Usual = map[Layout][]string{
	EveryLine: slices.Concat(ofOrder, ofLine),
	Orders:    slices.Concat(ofOrder, []string{"revision", "lines", "goods", "tax", "total"}),
	Apart:     slices.Concat(ofOrder, []string{"goods", "tax", "total"}, ofLine),
}

// figure is a value of an order or of a line that is no field: it is computed, or the order's own.
type figure struct {
	about  string
	number bool
	value  func(o *order.Order, l *order.Line) (string, error)
}

// text makes a figure of a value that never fails.
func text(about string, number bool, value func(o *order.Order, l *order.Line) string) figure {
	return figure{about, number, func(o *order.Order, l *order.Line) (string, error) { return value(o, l), nil }}
}

// figures are these values, by their names.
var figures = map[order.Level]map[string]figure{
	order.Header: {
		"id":   text("Koinos's own id of the order", false, func(o *order.Order, _ *order.Line) string { return strconv.FormatInt(o.ID, 10) }),
		"kind": text("sales or purchase", false, func(o *order.Order, _ *order.Line) string { return string(o.Kind) }),
		"status": text("draft, open, confirmed, partial, complete or cancelled", false,
			func(o *order.Order, _ *order.Line) string { return string(o.Status) }),
		"revision": text("How often the order has changed, and once more", true,
			func(o *order.Order, _ *order.Line) string { return strconv.Itoa(o.Revision) }),
		"lines": text("How many lines it has", true, func(o *order.Order, _ *order.Line) string { return strconv.Itoa(len(o.Lines)) }),
		"goods": text("Sum of the lines' amounts", true, func(o *order.Order, _ *order.Line) string { return orZero(o.Goods.String()) }),
		"tax":   text("Tax on the order", true, func(o *order.Order, _ *order.Line) string { return orZero(o.Tax.String()) }),
		"total": text("Goods, charges, allowances and tax", true, func(o *order.Order, _ *order.Line) string { return orZero(o.Total.String()) }),
	},
	order.Lines: {
		"id": text("Koinos's own id of the line", false, func(_ *order.Order, l *order.Line) string { return strconv.Itoa(l.ID) }),
		"amount": text("Quantity × price, less discount and what is cancelled", true,
			func(_ *order.Order, l *order.Line) string { return orZero(l.Amount.String()) }),
		"returned": text("Quantity that came back", true, func(_ *order.Order, l *order.Line) string { return orZero(l.Returned.Plain()) }),
		"invoiced": text("Quantity that is invoiced", true, func(_ *order.Order, l *order.Line) string { return orZero(l.Invoiced.Plain()) }),
		"moved": text("Quantity that was shipped, or received of a purchase order", true,
			func(o *order.Order, l *order.Line) string { return orZero(l.Moved(o.Kind.Moves()).Plain()) }),
		"status": text("open, partial, complete or cancelled", false,
			func(o *order.Order, l *order.Line) string { return string(l.DeriveStatus(o.Kind)) }),
		"open": {"Quantity that is to move still", true, func(o *order.Order, l *order.Line) (string, error) {
			left, err := l.Open(o.Kind.Moves())
			return orZero(left.Plain()), err
		}},
	},
}

// Described is a column that can be chosen.
type Described struct {
	Name, About string
	Family      bool // the name ends in an asterisk, which stands for a word that the user chooses
}

// Columns lists the columns that can be chosen, those of orders first, in the order of their fields.
func Columns() (all []Described) {
	for _, level := range []order.Level{order.Header, order.Lines} {
		prefix := ""
		if level == order.Lines {
			prefix = "lines."
		}
		for _, name := range slices.Sorted(maps.Keys(figures[level])) {
			all = append(all, Described{Name: prefix + name, About: figures[level][name].about})
		}
		for _, f := range order.AllFields(level) {
			if _, other := figures[level][f.Name]; !other {
				all = append(all, Described{prefix + f.Name, f.About, strings.HasSuffix(f.Name, "*")})
			}
		}
	}
	return all
}

// orZero is a number as text; an absent one is 0.
func orZero(text string) string {
	if text == "" {
		return "0"
	}
	return text
}

// added says what the numbers in a column are added up by: amounts by currency, or quantities by unit. Other numbers,
// such as prices, are not added up.
var added = map[order.Level]map[string]measure{
	order.Header: {"goods": amounts, "tax": amounts, "total": amounts, "tax_amount": amounts, "total_before_tax": amounts},
	order.Lines: {"amount": amounts, "quantity": quantities, "shipped": quantities, "received": quantities,
		"cancelled":   quantities,
		"backordered": quantities, "returned": quantities, "invoiced": quantities, "moved": quantities, "open": quantities},
}

type measure int

const (
	amounts measure = 1 + iota
	quantities
)

// column is a column of a table. nth is the line of the order that it shows, counted from 1, if a row is an order;
// further says how many lines have no columns.
type column struct {
	name    string
	level   order.Level
	nth     int
	further bool
	number  bool
	sum     measure
	value   func(o *order.Order, l *order.Line) (string, error)
	money   func(o *order.Order, l *order.Line) (string, error) // of a charge, where nobody will change the table
}

// columnOf finds a column by its name.
func columnOf(name string, layout Layout) (column, error) {
	c := column{name: name, level: order.Header}
	field, ofLines := strings.CutPrefix(name, "lines.")
	if ofLines {
		c.level = order.Lines
		if nth, rest, ok := strings.Cut(field, "."); ok {
			if n, err := strconv.Atoi(nth); err == nil && n > 0 && nth[0] != '+' {
				c.nth, field = n, rest
			}
		}
	}
	switch {
	case name == "lines" && layout == Apart:
		return c, errors.New("lines says how many lines an order has; with the layout apart the lines stand in a table of their own")
	case ofLines && layout == Orders && c.nth == 0:
		return c, fmt.Errorf("%s is of lines, and a row is an order: name lines.1.%s for the first line, or choose the layout %s or %s",
			name, field, EveryLine, FirstLine)
	case c.nth > 0 && layout != Orders:
		return c, fmt.Errorf("%s is of one line of an order, which goes with the layout %s", name, Orders)
	case c.nth > mostAcross:
		return c, fmt.Errorf("%s: at most %d lines stand side by side", name, mostAcross)
	}
	c.sum = added[c.level][field]
	if f, ok := figures[c.level][field]; ok {
		c.value, c.number = f.value, f.number
		return c, nil
	}
	f, ok := order.Lookup(c.level, field)
	if !ok {
		return c, fmt.Errorf("there is no column %q; docs/mapping.md lists the fields, those of lines go behind \"lines.\"",
			name)
	}
	c.number = f.Type == order.Decimal || f.Type == order.Percent
	c.value = func(o *order.Order, l *order.Line) (string, error) { return f.Value(o, l), nil }
	if kind, code, _ := strings.Cut(field, "."); kind == "charge" || kind == "allowance" {
		c.sum, c.money = amounts, moneyOf(order.Charge{Allowance: kind == "allowance", Code: code})
	}
	return c, nil
}

// moneyOf returns what an allowance or charge comes to: its amount, and that of a share of the lines' amounts.
func moneyOf(c order.Charge) func(*order.Order, *order.Line) (string, error) {
	return func(o *order.Order, l *order.Line) (string, error) {
		all := o.Charges
		if l != nil {
			all = l.Charges
		}
		all, err := order.Billable(all)
		for _, one := range all {
			if one.Is(c) {
				return one.Amount.String(), err
			}
		}
		return "", err
	}
}

// mostAcross is how many lines of an order can stand side by side.
const mostAcross = 500
