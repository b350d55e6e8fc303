package writing

import (
	"bytes"
	"strings"
	"testing"

	"github.com/xuri/excelize/v2"

	"koinos/core/list"
	"koinos/core/mapping"
	"koinos/core/order"
)

var set = &list.Set{
	Lists: map[string]*list.List{"items": list.New([]list.Entry{{Code: "00417", Name: "Shackle"},
		{Code: "00501", Name: "Lantern"}})},
	Crosswalks: map[string]*list.Crosswalk{"yards": list.NewCrosswalk([]list.Pair{{Theirs: "East yard",
		Ours: "0040"}})},
}

func parse(t *testing.T, rest string) *mapping.Mapping {
	t.Helper()
	m, err := mapping.Parse([]byte("koinos: mapping/1\nname: m\n" + rest))
	if err != nil {
		t.Fatal(err)
	}
	return m
}

const plain = `orders: {kind: sales, group: {by: key, columns: PO}}
header: {sender_number: {from: PO, need: must}, partner: {value: P}, ship_to.code: {from: Yard, crosswalk: yards}, ordered_on: {from: Date, dates: d.m.yyyy}}
lines: {item: {from: Article, list: items, by: name, need: must}, quantity: {from: Qty, decimal: ","}, notes: {from: "@C", expr: upper(value)}}
`

// Orders in a partner's own shape and codes; what has no way there is said.
func TestWrite(t *testing.T) {
	m := parse(t, plain)
	o := order.Order{SenderNumber: "A-1", Partner: "P", OrderedOn: "2026-03-02",
		Parties: []order.Party{{Role: "ship_to", Code: "0040"}},
		Lines: []order.Line{{Item: "00417", Quantity: order.MustNumber("2.5"), Notes: "LOUD"},
			{Item: "00999", Quantity: order.MustNumber("1")}}}
	var buf bytes.Buffer
	problems, err := Write(&buf, m, []order.Order{o}, set)
	if err != nil {
		t.Fatal(err)
	}
	want := "PO,Yard,,Date,Article,Qty\r\nA-1,East yard,,2.3.2026,Shackle,\"2,5\"\r\nA-1,East yard,,2.3.2026,,1\r\n"
	if buf.String() != want {
		t.Errorf("got %q\nwant %q", buf.String(), want)
	}
	said := ""
	for _, p := range problems {
		said += p.Field + ": " + p.Why + "\n"
	}
	if !strings.Contains(said, `item: "00999" is not in the list items`) ||
		!strings.Contains(said, "notes: its expression has no write") {
		t.Errorf("said: %s", said)
	}
	if _, err := Write(&buf, parse(t, strings.Replace(plain, "by: key, columns: PO", "by: file", 1)),
		[]order.Order{o, o}, set); err == nil {
		t.Error("two orders go into a file that holds one")
	}
}

// A blank sheet says what is required and offers what lists have.
func TestBlank(t *testing.T) {
	var buf bytes.Buffer
	if err := Blank(&buf, parse(t, plain), set); err != nil {
		t.Fatal(err)
	}
	f, err := excelize.OpenReader(&buf)
	if err != nil {
		t.Fatal(err)
	}
	name := f.GetSheetName(0)
	rows, err := f.GetRows(name)
	if err != nil || strings.Join(rows[0], "|") != "PO|Yard||Date|Article|Qty" {
		t.Errorf("%v %v", rows, err)
	}
	validations, err := f.GetDataValidations(name)
	if err != nil || len(validations) != 2 {
		t.Errorf("%d columns offer choices, %v", len(validations), err)
	}
	comments, err := f.GetComments(name)
	said := ""
	for _, c := range comments {
		said += c.Cell + " " + c.Text + "\n"
		for _, p := range c.Paragraph {
			said += p.Text
		}
	}
	if err != nil || !strings.Contains(said, "Required. The number the sender gave") {
		t.Errorf("%s %v", said, err)
	}
	if about, err := f.GetRows(explainSheet); err != nil || len(about) != 7 {
		t.Errorf("%v %v", about, err)
	}
	if err := Blank(&buf, parse(t, strings.Replace(plain, "by: key, columns: PO", "by: path", 1)), set); err == nil {
		t.Error("JSON has a sheet to fill in")
	}
}
