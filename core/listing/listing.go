package listing

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"koinos/core/intent"
	"koinos/core/order"
	"koinos/core/source"
)

// Layout says what a row is.
type Layout string

const (
	EveryLine Layout = "every" // a line, with the facts of its order's header on each
	FirstLine Layout = "first" // a line; the facts of the header stand on the order's first line only
	Orders    Layout = "order" // an order
	Apart     Layout = "apart" // two tables: orders, and lines with the number of their order
)

// Layouts are all of them.
var Layouts = []string{string(EveryLine), string(FirstLine), string(Orders), string(Apart)}

// Choice is what somebody chooses.
type Choice struct {
	Columns []string    // fields by name, those of lines behind "lines."; none is the usual ones of the layout
	Layout  Layout      // "" is EveryLine
	Open    bool        // only lines of which something is to move still, and orders that have such
	For     intent.Kind // what the table is filled in for; "" is to be read only
	Sums    bool        // counts and sums under the table
}

// Kinds are what a table can be filled in for.
var Kinds = []string{string(intent.Change), string(intent.Shipment), string(intent.Receipt), string(intent.Return),
	string(intent.Invoice)}

// filledIn are the columns to be filled in, by what the table is for: the number of the notice, and the blank column
// for quantities. The number is the order's with its next revision, and a T for table: what somebody posts without a
// number in the meantime is called the same without it.
var filledIn = map[intent.Kind]struct{ number, quantity string }{
	intent.Shipment: {"shipment", "ship now"}, intent.Receipt: {"receipt", "receive now"},
	intent.Return: {"return", "returned now"}, intent.Invoice: {"invoice", "bill now"},
}

// keys are the columns by which the lines of a table find their order lines. The revision says what the order was when
// the table was written, so that only what somebody changes in it is a change.
var keys = []string{"number", "revision", "partner", "lines.number", "lines.item"}

// Of says which orders a table to be filled in is about; "" if the caller says it.
func (c *Choice) Of() order.Kind {
	switch c.For {
	case intent.Shipment:
		return order.Sales
	case intent.Receipt:
		return order.Purchase
	}
	return ""
}

// Listing makes rows of orders.
type Listing struct {
	Choice
	tables []table
}

// table is one of the tables of a listing.
type table struct {
	source.Sheet
	columns []column
	ofLines bool // a row is a line
	across  int  // how many lines stand side by side
	sums    sums
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
		if err := c.canBeFilledIn(); err != nil {
			return nil, err
		}
		for i := len(keys) - 1; i >= 0; i-- {
			if !slices.Contains(names, keys[i]) && (keys[i] != "revision" || c.For == intent.Change) {
				names = append([]string{keys[i]}, names...)
			}
		}
	}
	var columns []column
	for _, name := range names {
		col, err := columnOf(name, c.Layout)
		if err != nil {
			return nil, err
		}
		if col.money != nil && c.For != intent.Change {
			col.value = col.money
		}
		columns = append(columns, col)
	}
	l := &Listing{Choice: c, tables: c.lay(columns)}
	for i := range l.tables {
		t := &l.tables[i]
		for _, col := range t.columns {
			t.Headings, t.Numeric = append(t.Headings, col.name), append(t.Numeric, col.number)
		}
		if c.Sums {
			if t.sums.label = slices.IndexFunc(t.columns, func(c column) bool { return !c.number }); t.sums.label < 0 {
				return nil, errors.New("sums need a column of text to say what they are of, such as number")
			}
		}
	}
	return l, nil
}

func (c *Choice) canBeFilledIn() error {
	switch {
	case !slices.Contains(Kinds, string(c.For)):
		return fmt.Errorf("a table cannot be filled in for %q; it is one of %s", c.For, strings.Join(Kinds, ", "))
	case c.Layout != EveryLine:
		return fmt.Errorf("a table that is filled in has the layout %s", EveryLine)
	case c.Sums:
		return errors.New("a table that is filled in has no sums: they would be loaded with it")
	}
	return nil
}

// lay puts columns into the tables of a layout, with those that it needs besides.
func (c *Choice) lay(columns []column) []table {
	if c.Layout == Apart {
		key, _ := columnOf("number", c.Layout)
		head, lines := []column{}, []column{key}
		for _, col := range columns {
			if col.level == order.Lines {
				lines = append(lines, col)
			} else {
				head = append(head, col)
			}
		}
		if !slices.ContainsFunc(head, func(c column) bool { return c.name == key.name }) {
			head = append([]column{key}, head...)
		}
		return []table{{Sheet: source.Sheet{Name: "orders"}, columns: head},
			{Sheet: source.Sheet{Name: "lines", Keys: 1}, columns: lines, ofLines: true}}
	}
	if f, ok := filledIn[c.For]; ok {
		columns = append(append([]column{{name: f.number, value: func(o *order.Order, _ *order.Line) (string, error) {
			return fmt.Sprintf("%s/%dT", o.Number, o.Revision+1), nil
		}}}, columns...), column{name: f.quantity, level: order.Lines, number: true,
			value: func(*order.Order, *order.Line) (string, error) { return "", nil }})
	}
	t := table{columns: columns, ofLines: c.Layout != Orders}
	for _, col := range columns {
		t.across = max(t.across, col.nth)
	}
	if t.across > 0 { // an order with more lines than there are columns says so
		t.columns = append(t.columns, column{name: "further lines", number: true, further: true})
	}
	return []table{t}
}

// Sheets are the tables of the listing, with the names of their columns.
func (l *Listing) Sheets() (all []source.Sheet) {
	for _, t := range l.tables {
		all = append(all, t.Sheet)
	}
	return all
}

// Rows passes the rows of an order to add, with the number of each row's sheet.
func (l *Listing) Rows(o *order.Order, add func(sheet int, row []string) error) error {
	lines, err := l.lines(o)
	if err != nil {
		return fmt.Errorf("order %s: %w", o.Number, err)
	}
	if l.Open && len(lines) == 0 {
		return nil
	}
	for sheet := range l.tables {
		t := &l.tables[sheet]
		of := []*order.Line{nil}
		if t.ofLines && (len(lines) > 0 || l.Layout == Apart) {
			of = lines
		}
		if l.Sums {
			shown := lines
			if t.across > 0 {
				shown = lines[:min(t.across, len(lines))]
			}
			t.sums.count(o, shown)
		}
		for i, line := range of {
			row, err := l.row(t, o, line, lines, i == 0)
			if err != nil {
				return fmt.Errorf("order %s: %w", o.Number, err)
			}
			if err := add(sheet, row); err != nil {
				return err
			}
		}
	}
	return nil
}

// lines are the lines of an order that the listing shows.
func (l *Listing) lines(o *order.Order) (shown []*order.Line, err error) {
	for i := range o.Lines {
		if l.Open {
			left, err := o.Lines[i].Open(o.Kind.Moves())
			if err != nil {
				return nil, err
			}
			if left.Sign() == 0 {
				continue
			}
		}
		shown = append(shown, &o.Lines[i])
	}
	return shown, nil
}

// row is a row of a table: for a line, or for the order if line is nil.
func (l *Listing) row(t *table, o *order.Order, line *order.Line, lines []*order.Line, first bool) ([]string, error) {
	cells := make([]string, len(t.columns))
	for i, c := range t.columns {
		// A fact of the header that is to be changed stands once, so that one cell changes it.
		once := l.Layout == FirstLine || l.For == intent.Change && !slices.Contains(keys, c.name)
		of := line
		switch {
		case c.level == order.Header: // charges and own fields of an order are not those of its lines
			of = nil
		case c.nth > 0 && c.nth <= len(lines):
			of = lines[c.nth-1]
		}
		switch {
		case c.further:
			cells[i] = strconv.Itoa(max(0, len(lines)-t.across))
			continue
		case c.level == order.Header && !first && once, c.level == order.Lines && of == nil:
			continue
		}
		var err error
		if cells[i], err = c.value(o, of); err != nil {
			return nil, err
		}
		if l.Sums && (c.level == order.Lines || first) {
			t.sums.add(i, c.sum, o, of, cells[i])
		}
	}
	return cells, nil
}

// Under passes the rows below the tables to add: a blank one, then the sums of the rows above, amounts by currency and
// quantities by unit.
func (l *Listing) Under(add func(sheet int, row []string) error) error {
	if !l.Sums {
		return nil
	}
	for sheet := range l.tables {
		t := &l.tables[sheet]
		rows := t.sums.rows(t.columns, !t.ofLines || l.Layout != Apart, t.ofLines)
		for _, row := range append([][]string{make([]string, len(t.columns))}, rows...) {
			if err := add(sheet, row); err != nil {
				return err
			}
		}
	}
	return nil
}
