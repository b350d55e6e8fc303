package load

import (
	"bytes"
	"context"
	"strings"
	"testing"

	"koinos/core/list"
	"koinos/core/mapping"
	"koinos/core/source"
)

// A stored value is followed back through every step.
func TestWhy(t *testing.T) {
	e := testEngine(t, testStore(t), source.DefaultLimits)
	m := strings.NewReplacer("{value: EUR}", "{value: EUR}\n  ship_to.code: {from: Yard, crosswalk: yards}",
		"{from: Item, list: items}", "{from: Item, expr: digits(value), list: items}").Replace(plainMapping)
	l := send(t, e, m, []byte("Order,Date,Item,Qty,Price,Yard\nA-1,2026-03-02,No 00417,2,9.50,East yard\n"), Request{})
	if l.Loaded != 1 {
		t.Fatalf("%+v", l.Counts)
	}
	for _, c := range []struct {
		line        int
		field, want string
	}{
		{0, "ship_to.code", "0040 row 2 column 6: found=East yard, crosswalk yards=0040, read as code=0040"},
		{1, "item", "00417 row 2 column 3: found=No 00417, expr digits(value)=00417, list items by code=00417, read " +
			"as code=00417"},
		{1, "unit_price", "9.5 row 2 column 5: found=9.50, read as decimal=9.50"},
		{0, "currency", "EUR : value of the mapping=EUR, read as currency=EUR"}, {0, "notes", " : "},
	} {
		w, err := e.Why(context.Background(), 1, c.line, c.field)
		if err != nil {
			t.Fatal(err)
		}
		var steps []string
		for _, s := range w.Steps {
			steps = append(steps, s.What+"="+s.Text)
		}
		if got := w.Value + " " + w.At + ": " + strings.Join(steps, ", "); got != c.want || w.Origin.Version != 1 ||
			w.Origin.Load != l.ID {
			t.Errorf("%s: %s\nwant %s", c.field, got, c.want)
		}
	}
	if _, err := e.Why(context.Background(), 1, 3, "item"); err == nil {
		t.Error("a line that is not there has a reason")
	}
}

// Two mappings are compared by what they make; a preview shows what is seen.
func TestEffectAndPreview(t *testing.T) {
	const doc = "Order,Item,Qty,Shelf\n1,a,2,s\n1,b,3,s\n2,c,4,s\n3,d,x,s\n"
	const text = "koinos: mapping/1\nname: m\norders: {kind: sales, group: {by: key, columns: Order}}\nheader: " +
		"{sender_number: {from: Order}, partner: {value: P}}\nlines: {item: {from: Item}, quantity: {from: Qty}}\n"
	parse := func(text string) *mapping.Mapping {
		m, err := mapping.Parse([]byte(text))
		if err != nil {
			t.Fatal(err)
		}
		return m
	}
	set := &list.Set{}
	was, is := parse(text), parse(strings.NewReplacer("{from: Item}",
		`{from: Item, expr: 'value == "c" ? "C" : value'}`, "Qty}}", "Qty, default: 1}}", "header:",
		"document: {rows: {leave_out: 'col(\"Qty\") == \"x\"'}}\nheader:").Replace(text))
	c, err := Compare(context.Background(), strings.NewReader(doc), int64(len(doc)), was, is, set, source.DefaultLimits)
	if err != nil || c.Orders != 3 || c.Same != 1 || len(c.Effects) != 2 || c.Effects[0].Order != "2" ||
		c.Effects[0].Changes[0].Is != "C" || c.Effects[1].Was != "refused" || c.Effects[1].Is != "" {
		t.Errorf("%+v %v", c, err)
	}
	p, err := Look(context.Background(), bytes.NewReader([]byte(doc)), int64(len(doc)), was, set, source.DefaultLimits,
		View{From: 2, To: 4, Row: 4})
	if err != nil || p.Orders != 3 || p.Refused != 1 || len(p.Spans) != 2 || p.Paper.Order.SenderNumber != "2" ||
		p.Heading != 1 || len(p.Columns) != 3 || len(p.Coverage.Unbound) != 1 ||
		p.Coverage.Unbound[0].Heading != "Shelf" || !p.Complete {
		t.Errorf("%+v %v", p, err)
	}
}
