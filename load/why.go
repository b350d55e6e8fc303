package load

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"koinos/api"
	"koinos/core/finding"
	"koinos/core/intent"
	"koinos/core/order"
	"koinos/core/origin"
	"koinos/core/reading"
	"koinos/store"
)

// ErrWhichLine says that a field belongs to lines, and that no line was named.
type ErrWhichLine struct {
	Field string
	Lines int
}

func (e *ErrWhichLine) Error() string {
	return fmt.Sprintf("%s is a field of lines: say which of the order's %d lines is meant", e.Field, e.Lines)
}

// movedBy is what notices call the fields of lines that they add up to.
var movedBy = map[string]string{"shipped": "quantity", "received": "quantity", "invoiced": "quantity"}

// Why tells where a value of an order came from. It maps the record that brought it once more, with the mapping and the
// lists of that time, and reports each step. Line 0 is the header.
func (e *Engine) Why(ctx context.Context, id int64, line int, field string) (*api.Why, error) {
	o, err := e.store.Order(ctx, id)
	if err != nil {
		return nil, err
	}
	w := &api.Why{Order: id, Number: o.Number, Line: line, Field: field, Steps: []reading.Step{}, Events: []api.Event{}}
	if err := valueOf(w, &o.Order); err != nil {
		return nil, err
	}
	var trace origin.Trace
	w.Origin, trace = o.Base()
	w.Place = trace.Place(line, field)
	lineID := 0
	if line > 0 {
		lineID = o.Lines[line-1].ID
	}
	asked := field
	for i := range o.Events {
		for _, c := range o.Events[i].Changes {
			if c.LineID != lineID || c.Field != field {
				continue
			}
			ev := o.Events[i]
			ev.Changes = []order.Change{c}
			w.Events = append(w.Events, ev)
			if w.Origin.At.After(ev.Origin.At) {
				continue // the order was revised as a whole since
			}
			w.Origin, w.Place = ev.Origin, c.Place
			if name := movedBy[field]; name != "" && (ev.Action == "moved" || ev.Action == "invoiced") {
				asked = name
			}
		}
	}
	w.At = w.Place.String()
	if w.Origin.Load == 0 {
		if w.Origin.Document != "" && w.Place != (origin.Place{}) {
			w.Steps = append(w.Steps, reading.Step{Line: line, Field: field, What: "found", Text: w.Value,
				Place: w.Place, At: w.At})
		}
		return w, nil
	}
	if w.Place.Line > 0 { // a line of what was pulled out of a system
		came, err := e.store.ArrivalAt(ctx, w.Origin.Document, w.Place.Line)
		if err != nil {
			return nil, err
		}
		if came.ID != 0 {
			w.Came = &came
		}
	}
	err = e.retrace(ctx, w, asked)
	var gone *store.TakenAway
	if errors.As(err, &gone) {
		w.Gone, err = finding.Capital(gone.Error())+".", nil
	}
	return w, err
}

// valueOf finds the value that is asked for.
func valueOf(w *api.Why, o *order.Order) error {
	level := order.Header
	if w.Line > 0 {
		level = order.Lines
		if w.Line > len(o.Lines) {
			return fmt.Errorf("line %d of an order with %d lines: %w", w.Line, len(o.Lines), store.ErrNotFound)
		}
	}
	var computed bool
	if w.Value, w.Terms, computed = o.Terms(w.Line, w.Field); computed {
		return nil
	}
	if w.Field == "number" && w.Line == 0 {
		w.Value = o.Number
		return nil
	}
	if w.Field == "invoiced" && w.Line > 0 {
		w.Value = o.Lines[w.Line-1].Invoiced.Plain()
		return nil
	}
	if _, ok := order.Lookup(level, w.Field); !ok {
		if _, ofLines := order.Lookup(order.Lines, w.Field); ofLines && w.Line == 0 {
			return &ErrWhichLine{w.Field, len(o.Lines)}
		}
		return fmt.Errorf("field %q of the %s: %w", w.Field, level, store.ErrNotFound)
	}
	o.Each(func(n int, f, value string) {
		if n == w.Line && f == w.Field {
			w.Value = value
		}
	})
	return nil
}

// arrivedAs is the line of the document that a line of the order was: one that stands where its value stands. Of
// several in one cell it is the one at the same position, or else the one with that value.
func arrivedAs(w *api.Why, d *intent.Intent, field string) int {
	if w.Line == 0 || w.Place == (origin.Place{}) {
		return w.Line
	}
	var there []int
	for n := range d.Trace.Rows {
		if d.Trace.Find(n+1, field) == w.Place || d.Trace.Line(n+1) == w.Place {
			there = append(there, n+1)
		}
	}
	if len(there) == 0 || slices.Contains(there, w.Line) {
		return w.Line
	}
	f, ok := order.Lookup(order.Lines, field)
	for _, n := range there {
		if ok && n <= len(d.Order.Lines) && f.Value(&d.Order, &d.Order.Lines[n-1]) == w.Value {
			return n
		}
	}
	return there[0]
}

// retrace maps the record once more and keeps the steps of the value.
func (e *Engine) retrace(ctx context.Context, w *api.Why, field string) error {
	l, err := e.store.Load(ctx, w.Origin.Load)
	if err != nil {
		return err
	}
	var steps []reading.Step
	d, err := e.draft(ctx, l, w.Origin.Seq, func(s reading.Step) {
		if s.Field == field || strings.HasSuffix(field, "."+s.Field) {
			steps = append(steps, s)
		}
	})
	if err != nil {
		return err
	}
	arrived := arrivedAs(w, d, field)
	for _, s := range steps {
		if s.Line == arrived {
			w.Steps = append(w.Steps, s)
		}
	}
	return nil
}
