package report

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"testing"

	"github.com/xuri/excelize/v2"

	"koinos/core/finding"
	"koinos/core/mapping"
	"koinos/core/order"
	"koinos/core/origin"
	"koinos/core/outcome"
	"koinos/core/source"
)

// book makes a workbook of two sheets: orders below a title and a heading row, with a
// comment and a coloured cell of the partner's own, and a sheet of notes.
func book(t *testing.T) []byte {
	t.Helper()
	f := excelize.NewFile()
	defer f.Close()
	bold, err := f.NewStyle(&excelize.Style{Font: &excelize.Font{Bold: true}})
	if err != nil {
		t.Fatal(err)
	}
	_, err = f.NewSheet("Notes")
	for _, err := range []error{err, f.SetSheetName("Sheet1", "Orders"),
		f.SetSheetRow("Orders", "A1", &[]any{"Orders of March"}),
		f.SetSheetRow("Orders", "A2", &[]any{"No", "Item", "Qty"}),
		f.SetSheetRow("Orders", "A3", &[]any{"A-1", "00417", 2}),
		f.SetSheetRow("Orders", "A4", &[]any{"A-1", "=HYPERLINK(1)", 3}),
		f.SetSheetRow("Orders", "A5", &[]any{"A-2", "00501", "two"}),
		f.SetSheetRow("Orders", "A6", &[]any{"A-3", "00113", 4}),
		f.SetCellStyle("Orders", "C5", "C5", bold),
		f.AddComment("Orders", excelize.Comment{Cell: "C5", Author: "Ostrand", Text: "Please hurry."}),
		f.AddComment("Orders", excelize.Comment{Cell: "A6", Author: "Ostrand", Text: "Call first."}),
		f.SetCellStr("Notes", "B2", "Deliver to the back gate"),
	} {
		if err != nil {
			t.Fatal(err)
		}
	}
	var b bytes.Buffer
	if err := f.Write(&b); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

// ofBook are the answers to the book's rows: A-1 is loaded, A-2 refused, A-3 held.
func ofBook() answerList {
	in := func(f finding.Finding) finding.Finding { f.Place.Sheet = "Orders"; return f }
	a := answerList{
		spans: []outcome.SpanOutcome{
			{Sheet: "Orders", First: 3, Last: 4, OrderOutcome: outcome.OrderOutcome{Seq: 1, Outcome: outcome.Loaded,
				OrderID: 7,
				Number:  "SO-000007"}},
			{Sheet: "Orders", First: 5, Last: 5, OrderOutcome: outcome.OrderOutcome{Seq: 2, Outcome: outcome.Refused}},
			{Sheet: "Orders", First: 6, Last: 6, OrderOutcome: outcome.OrderOutcome{Seq: 3, Outcome: outcome.Held}},
		},
		found: []finding.Finding{in(found(finding.NotANumber, 2, 5, 3, "quantity", "two")),
			in(found(finding.ShouldMissing, 3, 6, 2, "item", ""))},
	}
	for i := range a.found {
		a.found[i].Hint = ""
	}
	return a
}

// open reads a workbook back.
func opened(t *testing.T, b []byte) *excelize.File {
	t.Helper()
	f, err := excelize.OpenReader(bytes.NewReader(b))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { f.Close() })
	return f
}

// grid is a sheet's texts, a row a line.
func grid(t *testing.T, f *excelize.File, sheet string) []string {
	t.Helper()
	rows, err := f.GetRows(sheet)
	if err != nil {
		t.Fatal(err)
	}
	lines := make([]string, len(rows))
	for i, r := range rows {
		lines[i] = strings.Join(r, "|")
	}
	return lines
}

// looks are the fill of a cell and what its comment says.
func looks(t *testing.T, f *excelize.File, cell string) string {
	t.Helper()
	id, err := f.GetCellStyle("Orders", cell)
	if err != nil {
		t.Fatal(err)
	}
	style, err := f.GetStyle(id)
	if err != nil {
		t.Fatal(err)
	}
	said := strings.Join(style.Fill.Color, " ")
	if style.Font != nil && style.Font.Bold {
		said += " bold"
	}
	comments, err := f.GetComments("Orders")
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range comments {
		if c.Cell == cell {
			text := c.Text
			for _, p := range c.Paragraph {
				text += p.Text
			}
			said += " “" + text + "”"
		}
	}
	return strings.TrimSpace(said)
}

var bookOptions = source.Options{Limits: source.DefaultLimits}

// A marked workbook has every cell that it had; beside the rows stand the answers,
// and what was found is coloured and commented upon, below the partner's own comment.
func TestMarkedWorkbook(t *testing.T) {
	doc := book(t)
	var b bytes.Buffer
	sets := []Set{{Mapping: &mapping.Mapping{}, Answers: ofBook()}}
	if err := MarkedWorkbook(&b, bytes.NewReader(doc), int64(len(doc)), bookOptions, sets); err != nil {
		t.Fatal(err)
	}
	f := opened(t, b.Bytes())
	if got, want := grid(t, f, "Orders"), []string{
		"Orders of March",
		"No|Item|Qty|Koinos outcome|Koinos order|Koinos message",
		"A-1|00417|2|loaded|SO-000007",
		"A-1|=HYPERLINK(1)|3|loaded|SO-000007",
		"A-2|00501|two|refused||quantity says two.",
		"A-3|00113|4|held||Warning: item says .",
	}; !slices.Equal(got, want) {
		t.Errorf("%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
	if got := grid(t, f, "Notes"); !slices.Equal(got, []string{"", "|Deliver to the back gate"}) {
		t.Errorf("the other sheet is %q", got)
	}
	for cell, want := range map[string]string{
		"A3": "", "C3": "",
		"C5": "F6C9C2 bold “Please hurry.\nquantity says two.”",
		"B6": "FBE7B2 “Warning: item says .”",
		"A6": "“Call first.”",
	} {
		if got := looks(t, f, cell); got != want {
			t.Errorf("%s looks %q, want %q", cell, got, want)
		}
	}
}

// What failed comes in a workbook of its own: title, heading, the failed rows moved
// up with their comments; the rest of the workbook as it was.
func TestFailedWorkbook(t *testing.T) {
	doc := book(t)
	var b bytes.Buffer
	if err := FailedWorkbook(&b, bytes.NewReader(doc), int64(len(doc)), bookOptions,
		Set{Mapping: &mapping.Mapping{}, Answers: ofBook()}); err != nil {
		t.Fatal(err)
	}
	f := opened(t, b.Bytes())
	if got, want := grid(t, f, "Orders"), []string{
		"Orders of March",
		"No|Item|Qty|Koinos outcome|Koinos order|Koinos message",
		"A-2|00501|two|refused||quantity says two.",
		"A-3|00113|4|held||Warning: item says .",
	}; !slices.Equal(got, want) {
		t.Errorf("%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
	for cell, want := range map[string]string{"C3": "F6C9C2 bold “Please hurry.\nquantity says two.”",
		"A4": "“Call first.”", "B4": "FBE7B2 “Warning: item says .”"} {
		if got := looks(t, f, cell); got != want {
			t.Errorf("%s looks %q, want %q", cell, got, want)
		}
	}
	if got := grid(t, f, "Notes"); !slices.Equal(got, []string{"", "|Deliver to the back gate"}) {
		t.Errorf("the other sheet is %q", got)
	}
}

// stored is an order of which the document's first row is the line with id 2: the line
// with id 1 has been taken out since.
func stored() *order.Order {
	o := &order.Order{ID: 7, Number: "SO-000007", Kind: order.Sales, LastLine: 3, Lines: []order.Line{
		{ID: 2, Number: "20", Item: "00417", Quantity: order.MustNumber("2"), Shipped: order.MustNumber("2")},
		{ID: 3, Number: "30", Item: "00113", Quantity: order.MustNumber("3"), UnitPrice: order.MustNumber("9.5")},
	}}
	if _, err := o.Compute(order.HalfUp); err != nil {
		panic(err)
	}
	o.Status = o.DeriveStatus()
	return o
}

// storedAnswers are answers with a stored order behind them.
type storedAnswers struct{ answerList }

func (a storedAnswers) Stored(o *outcome.OrderOutcome) (*order.Order, func(string, int) int, error) {
	if o.OrderID == 0 {
		return nil, func(string, int) int { return 0 }, nil
	}
	return stored(), func(_ string, row int) int { return row - 2 }, nil
}

// Columns of lines name them for good, and a copy that comes back is brought up to
// date by those names: a line that has gone leaves no other in its place.
func TestRefresh(t *testing.T) {
	doc := book(t)
	var marked bytes.Buffer
	columns := []mapping.ResultColumn{{What: "outcome"}, {What: "number"}, {What: "line"}, {What: "line_id"},
		{What: "status"}, {What: "lines.quantity"}}
	sets := []Set{{Mapping: &mapping.Mapping{Results: mapping.Results{Columns: columns}}, Answers: storedAnswers{ofBook()}}}
	if err := MarkedWorkbook(&marked, bytes.NewReader(doc), int64(len(doc)), bookOptions, sets); err != nil {
		t.Fatal(err)
	}
	if got, want := grid(t, opened(t, marked.Bytes()), "Orders")[1:4], []string{
		"No|Item|Qty|Koinos outcome|Koinos order|Koinos line|Koinos line id|Koinos status|Koinos lines.quantity",
		"A-1|00417|2|loaded|SO-000007|20|7-2|" + string(stored().Status) + "|2",
		"A-1|=HYPERLINK(1)|3|loaded|SO-000007|30|7-3|" + string(stored().Status) + "|3",
	}; !slices.Equal(got, want) {
		t.Fatalf("%q\nwant %q", got, want)
	}
	later := stored() // the line with id 2 goes; the other is the first one now
	later.Lines = later.Lines[1:]
	later.Lines[0].Number, later.Lines[0].Quantity = "10", order.MustNumber("5")
	later.Status = order.Cancelled
	for _, c := range []struct {
		name  string
		now   *order.Order
		count Refreshed
		rows  []string
	}{
		{"nothing has happened", stored(), Refreshed{Rows: 2}, []string{
			"A-1|00417|2|loaded|SO-000007|20|7-2|" + string(stored().Status) + "|2",
			"A-1|=HYPERLINK(1)|3|loaded|SO-000007|30|7-3|" + string(stored().Status) + "|3"}},
		{"a line has gone, the other says something else", later, Refreshed{Rows: 2, Cells: 4}, []string{
			"A-1|00417|2|loaded|SO-000007|20|7-2|cancelled",
			"A-1|=HYPERLINK(1)|3|loaded|SO-000007|30|7-3|cancelled|5"}},
		{"the order has gone", nil, Refreshed{Rows: 2, Cells: 4, Absent: 2}, []string{
			"A-1|00417|2|loaded|SO-000007|20|7-2|gone", "A-1|=HYPERLINK(1)|3|loaded|SO-000007|30|7-3|gone"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			var b bytes.Buffer
			count, err := RefreshWorkbook(&b, bytes.NewReader(marked.Bytes()), int64(marked.Len()), bookOptions,
				func(number string) (*order.Order, error) {
					if number != "SO-000007" {
						return nil, fmt.Errorf("asked for %q", number)
					}
					return c.now, nil
				})
			if err != nil || count != c.count {
				t.Fatalf("%+v, %v, want %+v", count, err, c.count)
			}
			got := grid(t, opened(t, b.Bytes()), "Orders")[2:4]
			for i := range got {
				got[i] = strings.TrimRight(got[i], "|")
			}
			if !slices.Equal(got, c.rows) {
				t.Errorf("%q\nwant %q", got, c.rows)
			}
		})
	}
}

// A marked CSV is brought up to date like a workbook; what is none is refused.
func TestRefreshCSV(t *testing.T) {
	const marked = "No;Koinos outcome;Koinos order;Koinos " +
		"line\nA-1;loaded;SO-000007;20\nA-2;refused;;\nA-3;loaded;SO-000009;10\n"
	find := func(number string) (*order.Order, error) {
		if number == "SO-000007" {
			return stored(), nil
		}
		return nil, nil
	}
	var b bytes.Buffer
	count, err := RefreshCSV(&b, strings.NewReader(marked), int64(len(marked)), source.Options{}, find)
	if want := (Refreshed{Rows: 2, Cells: 2, Absent: 1}); err != nil || count != want {
		t.Fatalf("%+v, %v", count, err)
	}
	want := "\ufeffNo;Koinos outcome;Koinos order;Koinos line;Koinos status\r\nA-1;loaded;SO-000007;20;" +
		string(stored().Status) + "\r\nA-2;refused;;\r\nA-3;loaded;SO-000009;10;gone\r\n"
	if b.String() != want {
		t.Errorf("%q\nwant %q", b.String(), want)
	}
	for _, other := range []string{"No;Item\nA-1;00417\n", "No;Koinos outcome\nA-1;loaded\n"} {
		if _, err := RefreshCSV(io.Discard, strings.NewReader(other), int64(len(other)), source.Options{},
			find); !errors.Is(err, ErrNotMarked) {
			t.Errorf("%q: %v", other, err)
		}
	}
	wrong := errors.New("the store is away")
	if _, err := RefreshCSV(io.Discard, strings.NewReader(marked), int64(len(marked)), source.Options{},
		func(string) (*order.Order, error) { return nil, wrong }); !errors.Is(err, wrong) {
		t.Errorf("an error of who looks orders up: %v", err)
	}
}

// Findings go out one row each, with nothing that a spreadsheet would run.
func TestFindingsCSV(t *testing.T) {
	var b bytes.Buffer
	c, err := NewFindingsCSV(&b)
	if err != nil {
		t.Fatal(err)
	}
	f := finding.New(finding.UnknownCode, origin.Place{Sheet: "Week 12", Row: 7, Column: 2}, "=2+3", "item is %q.",
		"=2+3")
	f.Order, f.Line, f.Field = 3, 2, "item"
	if err := c.Add(f, finding.New(finding.MappingMissingKey, origin.Place{Mapping: true, Row: 4, Column: 9}, "",
		"It needs lines.")); err != nil {
		t.Fatal(err)
	}
	if err := c.Close(); err != nil {
		t.Fatal(err)
	}
	want := "code,severity,place,sheet,row,column,order,number,line,field,value,message,hint\n" +
		`unknown_code,error,'Week 12'!B7,Week 12,7,2,3,,2,item,'=2+3,"item is ""=2+3"".","` + f.Hint + "\"\n" +
		`mapping_missing_key,error,mapping line 4 column 9,,4,9,,,,,,It needs lines.,Add it.` + "\n"
	if got := strings.ReplaceAll(strings.TrimPrefix(b.String(), "\ufeff"), "\r\n", "\n"); got != want {
		t.Errorf("%s\nwant\n%s", got, want)
	}
}

// How much and how long, as people say it.
func TestWords(t *testing.T) {
	for seconds, want := range map[int]string{0: "0 min", 29: "0 min", 60: "1 min", 1_500: "25 min", 3_600: "1 h",
		7_140: "1 h 59 min", 11_400: "3 h 10 min", 90_000: "25 h"} {
		if got := Minutes(seconds); got != want {
			t.Errorf("%d seconds are %q, want %q", seconds, got, want)
		}
	}
	for n, want := range map[int]string{0: "0 orders", 1: "1 order", 2: "2 orders"} {
		if got := Plural(n, "order"); got != want {
			t.Errorf("%d: %q, want %q", n, got, want)
		}
	}
	var b bytes.Buffer
	Table(&b, []string{"field", ">value"}, [][]string{{"item", "00417"}, {"note\x1b[31m", "9"}})
	if want := "field      value\nitem       00417\nnote·[31m      9\n"; b.String() != want {
		t.Errorf("%q, want %q", b.String(), want)
	}
	b.Reset()
	if Table(&b, []string{"field"}, nil); b.String() != "None.\n" {
		t.Errorf("an empty table is %q", b.String())
	}
}
