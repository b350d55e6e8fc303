package load

import (
	"context"
	"reflect"
	"strings"
	"testing"

	"koinos/api"
	"koinos/core/list"
	"koinos/core/mapping"
	"koinos/core/source"
)

// What a preview shows of JSON is its leaves, as the document does without a mapping, whatever the mapping says of its
// encoding.
func TestPreviewLeaves(t *testing.T) {
	const doc = `[{"no":"A-1","lines":[{"sku":"00417","qty":12}]}]`
	m, err := mapping.Parse([]byte("koinos: mapping/1\nname: m\ndocument: {format: json, encoding: utf-8}\n" +
		"orders: {kind: sales, group: {by: path, path: '$[*]'}, parts: {lines: {each: '$.lines[*]'}}}\n" +
		"header: {sender_number: {from: no}, partner: {value: X}}\nlines: {item: {from: sku}, quantity: {from: qty}}\n"))
	if err != nil {
		t.Fatal(err)
	}
	p, err := Look(context.Background(), strings.NewReader(doc), int64(len(doc)), m, &list.Set{}, source.DefaultLimits,
		View{From: 1, To: 2})
	if err != nil {
		t.Fatal(err)
	}
	src, err := source.Open(strings.NewReader(doc), int64(len(doc)), source.Options{Leaves: true, Limits: source.DefaultLimits})
	if err != nil {
		t.Fatal(err)
	}
	if want, err := Rows(context.Background(), src, "", 1, 2); err != nil || len(want.Rows) != 2 || !reflect.DeepEqual(p.Cut, want.Rows) {
		t.Errorf("%+v, %v; want %+v", p.Cut, err, want.Rows)
	}
}

// A preview shows the rows as the mapping cuts them where it says how: the document alone does not show that.
func TestPreviewCut(t *testing.T) {
	const doc = "A-1 00417   12\nA-1 00533    4\nA-2 00417    6\n"
	const rest = "\norders: {kind: sales, group: {by: key, columns: %}}\nheader: {sender_number: {from: %}, partner: {value: X}}\n" +
		"lines: {item: {from: &}, quantity: {from: #}}\n"
	for _, c := range []struct {
		document, order, item, qty string
		cut                        []api.Row
		names                      []string
	}{
		{"{positions: {Order: 1-3, Item: 5-9, Qty: 10-14}}", "Order", "Item", "Qty",
			[]api.Row{{Row: 2, Cells: []string{"A-1", "00533", "    4"}}, {Row: 3, Cells: []string{"A-2", "00417", "    6"}}},
			[]string{"Order", "Item", "Qty"}},
		{`{delimiter: " ", heading: {none: true}}`, `"@A"`, `"@B"`, `"@E"`, []api.Row{{Row: 2, Cells: []string{"A-1", "00533", "", "", "", "4"}},
			{Row: 3, Cells: []string{"A-2", "00417", "", "", "", "6"}}}, nil},
		{"{heading: {none: true}}", `"@A"`, `"@A"`, `"@A"`, nil, nil},
	} {
		text := "koinos: mapping/1\nname: m\ndocument: " + c.document +
			strings.NewReplacer("%", c.order, "&", c.item, "#", c.qty).Replace(rest)
		m, err := mapping.Parse([]byte(text))
		if err != nil {
			t.Fatal(err)
		}
		p, err := Look(context.Background(), strings.NewReader(doc), int64(len(doc)), m, &list.Set{}, source.DefaultLimits,
			View{From: 2, To: 3})
		if err != nil {
			t.Fatal(err)
		}
		if !reflect.DeepEqual(p.Cut, c.cut) || !reflect.DeepEqual(p.Names, c.names) {
			t.Errorf("%s:\n got %+v, %q\nwant %+v, %q", c.document, p.Cut, p.Names, c.cut, c.names)
		}
	}
}
