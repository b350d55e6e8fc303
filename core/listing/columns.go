package listing

import (
	"errors"
	"fmt"
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

// computed are the values of orders and lines in addition to the fields that can be bound.
var computed = map[order.Level]map[string]func(o *order.Order, l *order.Line) (string, error){
	order.Header: {
		"id":       func(o *order.Order, _ *order.Line) (string, error) { return strconv.FormatInt(o.ID, 10), nil },
		"kind":     func(o *order.Order, _ *order.Line) (string, error) { return string(o.Kind), nil },
		"status":   func(o *order.Order, _ *order.Line) (string, error) { return string(o.Status), nil },
		"revision": func(o *order.Order, _ *order.Line) (string, error) { return strconv.Itoa(o.Revision), nil },
		"lines":    func(o *order.Order, _ *order.Line) (string, error) { return strconv.Itoa(len(o.Lines)), nil },
		"goods":    func(o *order.Order, _ *order.Line) (string, error) { return orZero(o.Goods.String()), nil },
		"tax":      func(o *order.Order, _ *order.Line) (string, error) { return orZero(o.Tax.String()), nil },
		"total":    func(o *order.Order, _ *order.Line) (string, error) { return orZero(o.Total.String()), nil },
	},
	order.Lines: {
		"id":       func(_ *order.Order, l *order.Line) (string, error) { return strconv.Itoa(l.ID), nil },
		"amount":   func(_ *order.Order, l *order.Line) (string, error) { return orZero(l.Amount.String()), nil },
		"returned": func(_ *order.Order, l *order.Line) (string, error) { return orZero(l.Returned.Plain()), nil },
		"invoiced": func(_ *order.Order, l *order.Line) (string, error) { return orZero(l.Invoiced.Plain()), nil },
		"moved": func(o *order.Order, l *order.Line) (string, error) {
			return orZero(l.Moved(o.Kind.Moves()).Plain()), nil
		},
		"open": func(o *order.Order, l *order.Line) (string, error) {
			left, err := l.Open(o.Kind.Moves())
			return orZero(left.Plain()), err
		},
	},
}

// orZero is a number as text; an absent one is 0.
func orZero(text string) string {
	if text == "" {
		return "0"
	}
	return text
}

// numeric are those of them that are numbers.
var numeric = []string{"revision", "lines", "goods", "tax", "total", "amount", "returned", "invoiced", "moved", "open"}

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
	if c.value = computed[c.level][field]; c.value != nil {
		c.number = slices.Contains(numeric, field)
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
