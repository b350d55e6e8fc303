package load

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"koinos/core/list"
	"koinos/core/order"
	"koinos/core/outcome"
	"koinos/core/source"
	"koinos/store"
)

// Why explains a value with what was in force when it was mapped: after a
// revise the values of the new document are the new document's, and a crosswalk
// that changed since does not change what was said.
func TestWhyAfterChanges(t *testing.T) {
	ctx := context.Background()
	s := testStore(t)
	e := testEngine(t, s, source.DefaultLimits)
	text := strings.Replace(plainMapping, "lines:", "lines:\n  location:   {from: Yard, crosswalk: yards}", 1)
	text = strings.Replace(text, "  kind: sales\n", "  kind: sales\n  again: {do: revise}\n", 1)
	const head = "Order,Date,Item,Qty,Price,Yard\n"
	first := send(t, e, text, []byte(head+"A-1,2026-03-02,00417,2,9.50,East yard\nA-1,,00501,1,64.50,East yard\n"),
		Request{})
	if err := s.PutCrosswalk(ctx, "yards", []list.Pair{{Theirs: "East yard", Ours: "0099"}}, time.Now()); err != nil {
		t.Fatal(err)
	}
	why := func(line int, field, want string) {
		t.Helper()
		w, err := e.Why(ctx, 1, line, field)
		if err != nil {
			t.Fatal(line, field, err)
		}
		var steps []string
		for _, st := range w.Steps {
			steps = append(steps, st.What+" "+st.Text)
		}
		if got := fmt.Sprintf("%s, load %d, %s: %s", w.Value, w.Origin.Load, w.At,
			strings.Join(steps, "; ")); got != want {
			t.Errorf("line %d %s:\n got %s\nwant %s", line, field, got, want)
		}
	}
	why(1, "location", fmt.Sprintf("0040, load %d, row 2 column 6: found East yard; crosswalk yards 0040; read as code 0040", first.ID))
	// The revision has its lines in another order, one row further down.
	second := send(t, e, text,
		[]byte(head+",,,,,\nA-1,2026-03-05,00501,3,64.50,East yard\nA-1,,00417,2,9.50,East yard\n"), Request{})
	if second.Changed != 1 {
		t.Fatalf("%+v", second.Counts)
	}
	o, err := s.Order(ctx, 1)
	if err != nil {
		t.Fatal(err)
	}
	for line := range o.Lines {
		row, quantity := 3, "3"
		if o.Lines[line].Item == "00417" {
			row, quantity = 4, "2"
		}
		why(line+1, "location",
			fmt.Sprintf("0099, load %d, row %d column 6: found East yard; crosswalk yards 0099; read as code 0099",
				second.ID, row))
		why(line+1, "quantity", fmt.Sprintf("%s, load %d, row %d column 4: found %s; read as decimal %s", quantity,
			second.ID, row, quantity, quantity))
	}
	why(0, "ordered_on", fmt.Sprintf("2026-03-05, load %d, row 3 column 2: found 2026-03-05; read as date 2026-03-05",
		second.ID))
	// A program changes one value: that value is of its body, the others stay.
	changed := o.Order
	changed.Lines = append([]order.Line(nil), o.Lines...)
	changed.Lines[0].Quantity = order.MustNumber("8")
	body, err := json.Marshal(&changed)
	if err != nil {
		t.Fatal(err)
	}
	if p, err := e.Post(ctx, &changed, body, outcome.Update, "a program"); err != nil || p.Outcome != outcome.Changed {
		t.Fatalf("%+v %v", p, err)
	}
	why(1, "quantity", "8, load 0, /lines/0/quantity: found 8")
	why(1, "location", fmt.Sprintf("0099, load %d, row 3 column 6: found East yard; crosswalk yards 0099; read as code 0099", second.ID))
}

// Why of a computed value is the sum that it came from; of a field of lines
// without a line it asks for the line.
func TestWhyComputed(t *testing.T) {
	ctx := context.Background()
	e := testEngine(t, testStore(t), source.DefaultLimits)
	text := strings.Replace(plainMapping, "lines:", "  charge.freight: {value: 5}\nlines:\n  tax_percent: {value: 20}",
		1)
	send(t, e, text, []byte(head+"A-1,2026-03-02,00417,2,9.50\nA-1,,00501,1,64.50\n"), Request{})
	for _, c := range []struct {
		line        int
		field, want string
	}{
		{0, "total", "105.20 = + amount of line 1 19.00 + amount of line 2 64.50 + charge freight 5 + tax 16.70"},
		{0, "goods", "83.50 = + amount of line 1 19.00 + amount of line 2 64.50"},
		{1, "amount", "19.00 = quantity 2 × unit price 9.50 decimal places of EUR 2"},
	} {
		w, err := e.Why(ctx, 1, c.line, c.field)
		if err != nil {
			t.Fatal(c.field, err)
		}
		got := w.Value + " ="
		for _, term := range w.Terms {
			got += strings.TrimRight(" "+term.Sign, " ") + " " + term.What + " " + term.Text
		}
		if got != c.want {
			t.Errorf("%s: %s, want %s", c.field, got, c.want)
		}
	}
	if _, err := e.Why(ctx, 1, 0, "quantity"); err == nil {
		t.Error("it explains the quantity of no line")
	}
}

// After an undo nothing of a new order is of the removed one: ids are not used
// again, nor is what was said about them.
func TestUndoLeavesNothing(t *testing.T) {
	ctx := context.Background()
	s := testStore(t)
	e := testEngine(t, s, source.DefaultLimits)
	l := send(t, e, plainMapping, []byte(head+"A-1,2026-03-02,00417,2,9.50\n"), Request{})
	if u, err := e.Undo(ctx, l.ID, false, "test"); err != nil || u.Removed != 1 {
		t.Fatalf("%+v %v", u, err)
	}
	send(t, e, plainMapping, []byte(head+"B-1,2026-03-02,00417,2,9.50\n"), Request{})
	list := orders(t, e)
	if len(list) != 1 || list[0].ID != 2 {
		t.Fatalf("%+v", list)
	}
	o, err := s.Order(ctx, 2)
	if err != nil || len(o.Events) != 1 || o.Events[0].Action != "created" {
		t.Errorf("%+v %v", o.Events, err)
	}
	all, _, err := s.Events(ctx, 0, 10)
	if err != nil || len(all) != 3 || all[0].OrderID != 1 || all[1].OrderID != 1 || all[1].Action != "removed" ||
		all[2].OrderID != 2 {
		t.Errorf("%+v %v", all, err)
	}
}

// While a write takes its time, what is asked about loads is answered.
func TestStartWhileWriting(t *testing.T) {
	ctx := context.Background()
	s := testStore(t)
	e := testEngine(t, s, source.DefaultLimits)
	l := send(t, e, plainMapping, []byte(head+"A-1,2026-03-02,00417,2,9.50\n"), Request{})
	holds, release := make(chan struct{}), make(chan struct{})
	go func() {
		_ = s.Write(ctx, func(*store.Tx) error {
			close(holds)
			<-release
			return nil
		})
	}()
	<-holds
	started := make(chan error)
	go func() {
		_, err := e.Start(ctx, Request{Document: l.Document, Mapping: "example", By: "test"})
		started <- err
	}()
	answered := make(chan error)
	go func() {
		time.Sleep(20 * time.Millisecond) // Start waits for the writer by now
		e.Total()
		_, err := e.Get(ctx, l.ID)
		answered <- err
	}()
	select {
	case err := <-answered:
		if err != nil {
			t.Error(err)
		}
	case <-started:
		t.Error("it started without a writer")
	case <-time.After(20 * time.Second):
		t.Error("what is asked about loads waits for the writer")
	}
	close(release)
	if err := <-started; err != nil {
		t.Error(err)
	}
}

// Of the lines that stand in one cell each has its own value, and its own way to it.
func TestWhyOfLinesInACell(t *testing.T) {
	e := testEngine(t, testStore(t), source.DefaultLimits)
	const carts = `koinos: mapping/1
name: example
orders:
  kind: sales
  group: {by: key, columns: No}
  parts: {lines: {across: cells, columns: [Items, Qty], by: ";"}}
header: {sender_number: {from: No}, partner: {value: P}}
lines: {item: {from: Items}, quantity: {from: Qty}}
`
	l := send(t, e, carts, []byte("No,Items,Qty\nA-1,a; b; c,12; 4; 7\n"), Request{})
	if l.Loaded != 1 {
		t.Fatalf("%+v", l)
	}
	for _, c := range []struct {
		line        int
		field, want string
	}{
		{1, "quantity", "12, found 12, read as decimal 12"}, {2, "quantity", "4, found 4, read as decimal 4"},
		{3, "quantity", "7, found 7, read as decimal 7"}, {3, "item", "c, found c, read as code c"},
	} {
		w, err := e.Why(context.Background(), 1, c.line, c.field)
		if err != nil {
			t.Fatal(err)
		}
		got := w.Value
		for _, s := range w.Steps {
			got += ", " + s.What + " " + s.Text
		}
		if got != c.want {
			t.Errorf("%s of line %d: %s, want %s", c.field, c.line, got, c.want)
		}
	}
}
