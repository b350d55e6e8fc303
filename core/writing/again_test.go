package writing

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"koinos/core/list"
	"koinos/core/mapping"
	"koinos/core/order"
	"koinos/core/reading"
	"koinos/core/source"
)

// shapes are ways in which a mapping lays orders out; each binds the same fields.
var shapes = []struct{ name, orders, header, lines, document string }{
	{"header facts on every row", "{by: key, columns: PO}", "PO|Yard|Ref|Date|Text", "Item|Qty|Price|What|Due", ""},
	{"orders anywhere", "{by: key, columns: [PO, Yard], rows: anywhere}", "PO|Yard|Ref|Date|Text",
		"Item|Qty|Price|What|Due", ""},
	{"an opener", "{by: opener, columns: PO}", "PO|Yard|Ref|Date|Text", "Item|Qty|Price|What|Due", ""},
	{"a workbook", "{by: key, columns: PO}", "PO|Yard|Ref|Date|Text", "Item|Qty|Price|What|Due", "format: xlsx"},
	{"semicolons and commas", "{by: key, columns: PO}", "PO|Yard|Ref|Date|Text", "Item|Qty|Price|What|Due",
		`delimiter: ";", locale: {decimal: ",", dates: [d.m.yyyy]}`},
	{"tabs", "{by: key, columns: PO}", "PO|Yard|Ref|Date|Text", "Item|Qty|Price|What|Due", `delimiter: "\t"`},
	{"Windows' letters", "{by: key, columns: PO}", "PO|Yard|Ref|Date|Text", "Item|Qty|Price|What|Due",
		"encoding: windows-1252"},
	{"two bytes a letter", "{by: key, columns: PO}", "PO|Yard|Ref|Date|Text", "Item|Qty|Price|What|Due",
		"encoding: utf-16le"},
	{"another quotation mark", "{by: key, columns: PO}", "PO|Yard|Ref|Date|Text", "Item|Qty|Price|What|Due",
		`quote: "'"`},
	{"a heading further down", "{by: opener, columns: PO}", "PO|Yard|Ref|Date|Text", "Item|Qty|Price|What|Due",
		"heading: {row: 4}"},
	{"JSON", "{by: path, path: \"$[*]\"}, parts: {lines: {each: \"$.lines[*]\"}}",
		"$.po|$.to.yard|$.ref|$.dates.ordered|$.text", "$.item|$.qty|$.price|$.what|$.due", "format: json"},
	{"lines of JSON", "{by: path, path: \"$\"}, parts: {lines: {each: \"$.lines[*]\"}}",
		"$.po|$.to.yard|$.ref|$.dates.ordered|$.text", "$.item|$.qty|$.price|$.what|$.due", "format: ndjson"},
	{"members of an object", "{by: path, path: \"$.all.*\"}, parts: {lines: {each: \"$.lines[*]\"}}",
		"{name}|$.to.yard|$.ref|$.dates.ordered|$.text", "$.item|$.qty|$.price|$.what|$.due", "format: json"},
	{"two lists of JSON", "{by: join, headers: {path: \"$.of.orders[*]\", columns: po}, lines: {path: \"$.lines[*]\", columns: no}}",
		"$.po|$.to.yard|$.ref|$.dates.ordered|$.text", "$.item|$.qty|$.price|$.what|$.due", "format: json"},
	{"two sheets", "{by: join, headers: {sheet: Orders, columns: PO}, lines: {sheet: Lines, columns: PO}}",
		"PO|Yard|Ref|Date|Text", "Item|Qty|Price|What|Due", "format: xlsx"},
}

// shaped is the mapping of a shape.
func shaped(t *testing.T, orders, header, lines, document string) *mapping.Mapping {
	t.Helper()
	h, l := strings.Split(header, "|"), strings.Split(lines, "|")
	if document != "" {
		document = "document: {" + document + "}\n"
	}
	group := "group: " + orders
	return parse(t, fmt.Sprintf(`%sorders: {kind: sales, %s}
header:
  sender_number: {from: %q, need: must}
  partner: {value: P}
  ship_to.code: {from: %q}
  reference.contract: {from: %q}
  ordered_on: {from: %q}
  notes: {from: %q}
lines:
  item: {from: %q, need: must}
  quantity: {from: %q, need: must}
  unit_price: {from: %q}
  description: {from: %q}
  requested_delivery_on: {from: %q}
`, document, group, h[0], h[1], h[2], h[3], h[4], l[0], l[1], l[2], l[3], l[4]))
}

// awkward are texts that programs get wrong: what looks like a number, a formula, a
// date or nothing, what quotes, separates and breaks lines.
var awkward = []string{"00417", "1E5", "4006381333931", "1/2", "03-04", "TRUE", "null", "=1+1", "+49 30", "-5", "@home",
	"'tis",
	`say "aye"`, "a,b;c", "two\nlines", "tab\there", "Ærø – Åland", "#REF!", "1,234.5", "0.10", "1 000"}

func someText(r *rand.Rand, blank bool) string {
	if blank && r.IntN(4) == 0 {
		return ""
	}
	if r.IntN(3) == 0 {
		return fmt.Sprintf("rope %d", r.IntN(1000))
	}
	return awkward[r.IntN(len(awkward))]
}

func someOrders(r *rand.Rand) []order.Order {
	orders := make([]order.Order, 1+r.IntN(4))
	for i := range orders {
		o := &orders[i]
		o.Kind, o.Partner, o.SenderNumber = order.Sales, "P", fmt.Sprintf("%s-%d", someText(r, false), i)
		o.Notes = someText(r, true)
		if code := someText(r, true); code != "" {
			o.Parties = []order.Party{{Role: "ship_to", Code: code}}
		}
		if ref := someText(r, true); ref != "" {
			o.References = []order.Reference{{Qualifier: "contract", Value: ref}}
		}
		if r.IntN(2) == 0 {
			o.OrderedOn = order.Date(fmt.Sprintf("2026-%02d-%02d", 1+r.IntN(12), 1+r.IntN(28)))
		}
		o.Lines = make([]order.Line, 1+r.IntN(4))
		for k := range o.Lines {
			l := &o.Lines[k]
			l.Number, l.Item, l.Description = fmt.Sprint(k+1), someText(r, false), someText(r, true)
			l.Quantity = order.MustNumber(fmt.Sprintf("%d.%d", r.IntN(9000), r.IntN(100)))
			if r.IntN(3) > 0 {
				l.UnitPrice = order.MustNumber(fmt.Sprintf("%d.%02d", r.IntN(5000), r.IntN(100)))
			}
			if r.IntN(3) == 0 {
				l.RequestedDeliveryOn = "2026-04-05"
			}
		}
	}
	return orders
}

// A letter that the partner's encoding does not have is said, not changed.
func TestUnwritable(t *testing.T) {
	m := shaped(t, shapes[0].orders, shapes[0].header, shapes[0].lines, "encoding: windows-1252")
	o := order.Order{Kind: order.Sales, Partner: "P", SenderNumber: "A-1", Notes: "Łódź",
		Lines: []order.Line{{Item: "00417", Quantity: order.MustNumber("1"), Description: "5 € – fine"}}}
	var b bytes.Buffer
	problems, err := Write(&b, m, []order.Order{o}, &list.Set{})
	want := []Problem{{Order: "A-1", Field: "notes", Why: `"Łódź" cannot be written in windows-1252, which has no Ł`}}
	if err != nil || !slices.Equal(problems, want) {
		t.Errorf("%+v, %v", problems, err)
	}
	if want := "A-1,,,,,00417,1,,5 \x80 \x96 fine,\r\n"; !strings.HasSuffix(b.String(), want) {
		t.Errorf("%q, want %q", b.String(), want)
	}
}

// Where there are no quotation marks, a value with the sign that ends values has no way.
func TestUnquotable(t *testing.T) {
	m := shaped(t, shapes[0].orders, shapes[0].header, shapes[0].lines, "quote: none")
	o := order.Order{Kind: order.Sales, Partner: "P", SenderNumber: "A-1", Notes: "red, blue",
		Lines: []order.Line{{Item: "00417", Quantity: order.MustNumber("1"), Description: `6" cleat`}}}
	var b bytes.Buffer
	problems, err := Write(&b, m, []order.Order{o}, &list.Set{})
	want := []Problem{{Order: "A-1", Field: "notes",
		Why: `"red, blue" cannot be written without quotation marks (quote: none)`}}
	if err != nil || !slices.Equal(problems, want) {
		t.Errorf("%+v, %v", problems, err)
	}
	if want := "A-1,,,,,00417,1,,6\" cleat,\r\n"; !strings.HasSuffix(b.String(), want) {
		t.Errorf("%q, want %q", b.String(), want)
	}
}

// readBack reads a document's orders; what is found wrong with it fails the test.
func readBack(t *testing.T, m *mapping.Mapping, doc []byte) (orders []order.Order) {
	t.Helper()
	src, err := source.Open(bytes.NewReader(doc), int64(len(doc)), m.Options(source.DefaultLimits))
	if err != nil {
		t.Fatalf("%v\n%q", err, doc)
	}
	for g, err := range reading.NewTable(m, src, nil).Groups(context.Background()) {
		if err != nil {
			t.Fatalf("%v\n%q", err, doc)
		}
		i := reading.Read(m, g, &list.Set{})
		for _, f := range i.Findings {
			t.Errorf("%s: %s", f.At, f.Message)
		}
		orders = append(orders, i.Order)
	}
	return orders
}

// What a mapping writes it reads again as it was, whatever the texts in it look like,
// or it says which value has no way.
func TestWrittenAndRead(t *testing.T) {
	for _, s := range shapes {
		t.Run(s.name, func(t *testing.T) {
			m := shaped(t, s.orders, s.header, s.lines, s.document)
			for seed := range uint64(60) {
				orders := someOrders(rand.New(rand.NewPCG(seed, 7)))
				var b bytes.Buffer
				problems, err := Write(&b, m, orders, &list.Set{})
				if err != nil || len(problems) > 0 {
					t.Fatalf("seed %d: %v %+v", seed, err, problems)
				}
				again := readBack(t, m, b.Bytes())
				if len(again) != len(orders) {
					t.Fatalf("seed %d: %d orders, were %d\n%q", seed, len(again), len(orders), b.Bytes())
				}
				for i := range orders {
					if d := order.Diff(&orders[i], &again[i]); len(d) > 0 {
						t.Errorf("seed %d, order %d: %s\n%q", seed, i+1, order.Named(d), b.Bytes()[:min(b.Len(), 600)])
					}
				}
				if t.Failed() {
					return
				}
			}
		})
	}
}

// Two lines that would have the same name among the members of an object are not written over each other.
func TestNamedTwice(t *testing.T) {
	m := parse(t, `orders: {kind: sales, group: {by: path, path: $.orders.*}, parts: {lines: {each: $.items.*}}}
header: {sender_number: {from: "{name}"}, partner: {from: $.client}}
lines: {item: {from: "{name}"}, quantity: {from: $.qty}}
`)
	one := order.Line{Item: "00417", Quantity: order.NumberOf(2)}
	o := order.Order{Kind: order.Sales, Partner: "P", SenderNumber: "A-1", Lines: []order.Line{one, one}}
	_, err := Write(io.Discard, m, []order.Order{o}, &list.Set{})
	if want := `two members of $.items.* would be called "00417"`; err == nil || err.Error() != want {
		t.Errorf("%v, want %s", err, want)
	}
}

// Records of whole orders have a row each, however many lines the orders have.
func TestWholeOrders(t *testing.T) {
	m := parse(t, "orders: {kind: shipment, of: sales, group: {by: key, columns: Order}}\nheader:\n  sender_number: {from: Order, need: must}\n"+
		"  shipment: {from: Tracking, need: must}\n  quantities: {value: open}\n")
	orders := []order.Order{{SenderNumber: "A-1", Lines: make([]order.Line, 3)}, {SenderNumber: "A-2"}}
	var buf bytes.Buffer
	if problems, err := Write(&buf, m, orders, nil); err != nil || len(problems) > 0 ||
		buf.String() != "Order,Tracking\r\nA-1,\r\nA-2,\r\n" {
		t.Errorf("%q, %+v, %v", buf.String(), problems, err)
	}
	if len(orders[0].Lines) != 3 {
		t.Errorf("%d lines are left", len(orders[0].Lines))
	}
}
