package listing

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"koinos/core/intent"
	"koinos/core/order"
)

// Layout says what a row is.
type Layout string

const (
	EveryLine Layout = "every" // a line, with the facts of its order's header on each
	FirstLine Layout = "first" // a line; the facts of the header stand on the order's first line only
	Orders    Layout = "order" // an order
)

// Layouts are all of them.
var Layouts = []string{string(EveryLine), string(FirstLine), string(Orders)}

// Choice is what somebody chooses.
type Choice struct {
	Columns []string    // fields by name, those of lines behind "lines."; none is the usual ones of the layout
	Layout  Layout      // "" is EveryLine
	Open    bool        // only lines of which something is to move still, and orders that have such
	For     intent.Kind // what the table is filled in for; "" is to be read only
}

// Kinds are what a table can be filled in for.
var Kinds = []string{string(intent.Change), string(intent.Shipment), string(intent.Receipt), string(intent.Return), string(intent.Invoice)}

// Usual are the columns that are written where nobody says which.
var Usual = map[Layout][]string{
	EveryLine: {"number", "kind", "partner", "sender_number", "ordered_on", "requested_delivery_on", "currency", "status",
		"lines.number", "lines.item", "lines.description", "lines.quantity", "lines.unit", "lines.unit_price", "lines.amount",
		"lines.moved", "lines.cancelled", "lines.open", "lines.invoiced"},
	Orders: {"number", "kind", "partner", "sender_number", "ordered_on", "requested_delivery_on", "currency", "status",
		"revision", "lines", "goods", "tax", "total"},
}

// filledIn are the columns that a table has for what it is filled in for: the number that it will have, which is that of
// the order with its next revision, and the blank one for quantities.
var filledIn = map[intent.Kind]struct{ number, quantity string }{
	intent.Shipment: {"shipment", "ship now"}, intent.Receipt: {"receipt", "receive now"},
	intent.Return: {"return", "returned now"}, intent.Invoice: {"invoice", "bill now"},
}

// keys are the columns by which the lines of a table find theirs.
var keys = []string{"number", "partner", "lines.number", "lines.item"}

// Of is which orders a table that is filled in is of; "" is those of which the caller says.
func (c *Choice) Of() order.Kind {
	switch c.For {
	case intent.Shipment:
		return order.Sales
	case intent.Receipt:
		return order.Purchase
	}
	return ""
}

// computed are what orders and lines have besides the fields that can be bound.
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

// orZero is a number as text: nothing is 0.
func orZero(text string) string {
	if text == "" {
		return "0"
	}
	return text
}

// numeric are those of them that are numbers.
var numeric = []string{"revision", "lines", "goods", "tax", "total", "amount", "returned", "invoiced", "moved", "open"}

type column struct {
	name   string
	level  order.Level
	number bool
	value  func(o *order.Order, l *order.Line) (string, error)
}

// Listing makes rows of orders.
type Listing struct {
	Choice
	columns []column
}

// New makes a listing of a choice; the error says which column or layout there is not.
func New(c Choice) (*Listing, error) {
	if c.Layout == "" {
		c.Layout = EveryLine
	}
	if !slices.Contains(Layouts, string(c.Layout)) {
		return nil, fmt.Errorf("there is no layout %q; it is one of %s", c.Layout, strings.Join(Layouts, ", "))
	}
	names := c.Columns
	if len(names) == 0 {
		if names = Usual[c.Layout]; names == nil {
			names = Usual[EveryLine]
		}
	}
	if c.For != "" {
		if !slices.Contains(Kinds, string(c.For)) {
			return nil, fmt.Errorf("a table cannot be filled in for %q; it is one of %s", c.For, strings.Join(Kinds, ", "))
		}
		if c.Layout != EveryLine {
			return nil, fmt.Errorf("a table that is filled in has the layout %s", EveryLine)
		}
		for i := len(keys) - 1; i >= 0; i-- {
			if !slices.Contains(names, keys[i]) {
				names = append([]string{keys[i]}, names...)
			}
		}
	}
	l := &Listing{Choice: c}
	if f, ok := filledIn[c.For]; ok {
		l.columns = append(l.columns, column{name: f.number, level: order.Header, value: func(o *order.Order, _ *order.Line) (string, error) {
			return fmt.Sprintf("%s/%d", o.Number, o.Revision+1), nil
		}})
		defer func() {
			l.columns = append(l.columns, column{name: f.quantity, level: order.Lines, number: true,
				value: func(*order.Order, *order.Line) (string, error) { return "", nil }})
		}()
	}
	for _, name := range names {
		col := column{name: name, level: order.Header}
		field, ofLines := strings.CutPrefix(name, "lines.")
		if ofLines {
			col.level = order.Lines
		}
		if ofLines && c.Layout == Orders {
			return nil, fmt.Errorf("%s is of lines, and a row is an order; choose the layout %s or %s", name, EveryLine, FirstLine)
		}
		if col.value = computed[col.level][field]; col.value != nil {
			col.number = slices.Contains(numeric, field)
			l.columns = append(l.columns, col)
			continue
		}
		f, ok := order.Lookup(col.level, field)
		if !ok {
			return nil, fmt.Errorf("there is no column %q; docs/mapping.md lists the fields, those of lines go behind \"lines.\"", name)
		}
		col.number = f.Type == order.Decimal || f.Type == order.Percent
		col.value = func(o *order.Order, l *order.Line) (string, error) { return f.Value(o, l), nil }
		l.columns = append(l.columns, col)
	}
	return l, nil
}

// Headings are the columns' names.
func (l *Listing) Headings() (names []string) {
	for _, c := range l.columns {
		names = append(names, c.name)
	}
	return names
}

// Numeric says of each column whether its values are numbers.
func (l *Listing) Numeric() (are []bool) {
	for _, c := range l.columns {
		are = append(are, c.number)
	}
	return are
}

// Rows gives the rows of an order to add.
func (l *Listing) Rows(o *order.Order, add func(row []string) error) error {
	first := true
	row := func(line *order.Line) error {
		cells := make([]string, len(l.columns))
		for i, c := range l.columns {
			// A fact of the header that is to be changed stands once, so that one cell changes it.
			once := l.Layout == FirstLine || l.For == intent.Change && !slices.Contains(keys, c.name)
			if c.level == order.Header && !first && once || c.level == order.Lines && line == nil {
				continue
			}
			var err error
			if cells[i], err = c.value(o, line); err != nil {
				return fmt.Errorf("order %s: %w", o.Number, err)
			}
		}
		first = false
		return add(cells)
	}
	some := false
	for i := range o.Lines {
		if l.Open {
			left, err := o.Lines[i].Open(o.Kind.Moves())
			if err != nil {
				return fmt.Errorf("order %s: %w", o.Number, err)
			}
			if left.Sign() == 0 {
				continue
			}
		}
		some = true
		if l.Layout == Orders {
			break
		}
		if err := row(&o.Lines[i]); err != nil {
			return err
		}
	}
	if l.Layout == Orders && (some || !l.Open) || !some && !l.Open && l.Layout != Orders {
		return row(nil)
	}
	return nil
}
