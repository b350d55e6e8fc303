package origin

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"reflect"
	"testing"
)

// Places are said as people say them, and as each format says them.
func TestPlace(t *testing.T) {
	for _, c := range []struct {
		place Place
		says  string
	}{
		{Place{}, ""}, {Place{Row: 17}, "row 17"}, {Place{Row: 17, Column: 3}, "row 17 column 3"},
		{Place{Sheet: "Orders", Row: 17, Column: 28}, "Orders!AB17"},
		{Place{Sheet: "Orders week 12", Row: 5, Column: 3}, "'Orders week 12'!C5"},
		{Place{Sheet: "Ostrand's", Row: 1, Column: 1}, "'Ostrand''s'!A1"},
		{Place{Sheet: "Orders", Row: 17}, "Orders!17:17"},
		{Place{Sheet: "Orders"}, "Orders"}, {Place{Mapping: true, Row: 4, Column: 9}, "mapping line 4 column 9"},
		{Place{Pointer: "/orders/3/qty", Row: 9}, "/orders/3/qty"},
		{Place{Line: 17, Pointer: "/qty"}, "line 17 /qty"}, {Place{Line: 17}, "line 17"},
		{Place{Segment: "ST 0004 / PO1 #3", Element: "02"}, "ST 0004 / PO1 #3 / 02"},
		{Place{Segment: "ISA 000000001"}, "ISA 000000001"},
	} {
		if got := c.place.String(); got != c.says {
			t.Errorf("%+v is %q, want %q", c.place, got, c.says)
		}
	}
	for n := 1; n <= 16_384; n++ {
		if ColumnNumber(ColumnName(n)) != n {
			t.Fatalf("column %d is %s", n, ColumnName(n))
		}
	}
}

// sheetTrace is of an order whose lines stand in rows 5 to 7 of a sheet.
func sheetTrace() Trace {
	t := Trace{Sheet: "Orders", Columns: map[string]int{"item": 4, "quantity": 6}, Rows: []int{5, 6, 7}}
	t.Add("sender_number", Place{Sheet: "Orders", Row: 5, Column: 1})
	t.Add("notes", Place{Sheet: "Notes", Row: 2, Column: 1})
	t.AddCell(2, "quantity", Place{Sheet: "Orders", Row: 9, Column: 9})
	return t
}

// Lines that change places take their places with them, however many there are.
func TestRenumberMany(t *testing.T) {
	const n = 100
	tr := Trace{Rows: make([]int, n)}
	to := make([]int, n)
	for i := range n {
		tr.Rows[i], to[i] = i+2, n-i
		tr.AddCell(i+1, "item", Place{Row: i + 2, Column: 4})
	}
	if p := tr.Place(7, "item"); p.Row != 8 {
		t.Error(p)
	}
	turned := tr.Renumber(to)
	for i := range n {
		if p := turned.Place(i+1, "item"); p.Row != n+1-i {
			t.Fatalf("line %d stands in row %d", i+1, p.Row)
		}
	}
}

func TestTrace(t *testing.T) {
	sheet := sheetTrace()
	tree := Trace{Rows: []int{3, 9}, Records: []string{"/0/lines/0", "/0/lines/1"},
		Paths: map[string]string{"item": "/sku"}}
	x12 := Trace{Rows: []int{12}, Records: []string{"ST 0001 / PO1"}, Paths: map[string]string{"quantity": "02"},
		Segments: true}
	lines := Trace{Rows: []int{1}, Records: []string{""}, Lines: []int{4}, Paths: map[string]string{"item": "/sku"}}
	dropped := sheetTrace()
	dropped.Drop(map[Value]bool{{1, "item"}: true, {0, "notes"}: true, {2, "quantity"}: true})
	renamed := sheetTrace()
	renamed.Rename(map[string]string{"sender_number": "number"},
		map[string]string{"item": "supplier_item", "quantity": "accepted"})
	for _, c := range []struct {
		trace Trace
		line  int
		field string
		at    string
	}{
		{sheet, 0, "sender_number", "Orders!A5"}, {sheet, 0, "notes", "Notes!A2"}, {sheet, 0, "item", ""},
		{sheet, 1, "item", "Orders!D5"}, {sheet, 2, "quantity", "Orders!I9"}, {sheet, 3, "quantity", "Orders!F7"},
		{sheet, 4, "item", ""}, {sheet, 1, "unit", ""},
		{tree, 2, "item", "/0/lines/1/sku"}, {x12, 1, "quantity", "ST 0001 / PO1 / 02"},
		{lines, 1, "item", "line 4 /sku"},
		{dropped, 1, "item", ""}, {dropped, 2, "item", "Orders!D6"}, {dropped, 0, "notes", ""},
		{dropped, 0, "sender_number", "Orders!A5"}, {dropped, 2, "quantity", ""},
		{renamed, 0, "number", "Orders!A5"}, {renamed, 0, "sender_number", ""},
		{renamed, 1, "supplier_item", "Orders!D5"}, {renamed, 2, "accepted", "Orders!I9"}, {renamed, 1, "item", ""},
	} {
		if got := c.trace.Place(c.line, c.field).String(); got != c.at {
			t.Errorf("line %d %s is at %q, want %q", c.line, c.field, got, c.at)
		}
	}
	if again := sheetTrace(); !reflect.DeepEqual(sheet, again) {
		t.Error("what was done with another trace has changed this one")
	}
}

// Every value keeps its place when its line gets another number, and the trace
// is the same after it was written and read; All says what Place says.
func TestTraceRandom(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 11))
	fields := []string{"item", "quantity", "unit", "notes"}
	for range 300 {
		var tr Trace
		n := 1 + r.IntN(6)
		switch r.IntN(3) {
		case 0:
			tr = Trace{Sheet: "S", Columns: map[string]int{"item": 1, "quantity": 2}}
		case 1:
			tr = Trace{Paths: map[string]string{"item": "/a", "quantity": "/b~1c"}}
		default:
			tr = Trace{Paths: map[string]string{"item": "02", "quantity": "07"}, Segments: true}
		}
		for i := range n {
			tr.Rows = append(tr.Rows, 10+i)
			if tr.Paths != nil {
				tr.Records = append(tr.Records, fmt.Sprint("/", i))
			}
		}
		for range r.IntN(4) {
			tr.AddCell(1+r.IntN(n), fields[r.IntN(4)], Place{Sheet: tr.Sheet, Row: 50 + r.IntN(9), Column: 7})
		}
		to := r.Perm(n + 2)[:n] // some leave a gap, one may be left out
		moved := tr.Renumber(to)
		b := moved.AppendJSON(nil)
		var read Trace
		if err := json.Unmarshal(b, &read); err != nil {
			t.Fatalf("%s: %v", b, err)
		}
		for line, is := range to {
			for _, field := range fields {
				want := tr.Place(line+1, field)
				if is == 0 {
					continue
				}
				if got := moved.Place(is, field); got != want {
					t.Fatalf("line %d became %d: %s is at %+v, was at %+v", line+1, is, field, got, want)
				}
				if got := read.Place(is, field); got != want {
					t.Fatalf("read again: %s of line %d is at %+v, was at %+v\n%s", field, is, got, want, b)
				}
			}
		}
		all := map[string]Place{}
		for _, l := range tr.All(n) {
			if l.Field != "" {
				all[fmt.Sprint(l.Line, l.Field)] = l.Place
			}
		}
		for line := 1; line <= n; line++ {
			for _, field := range fields {
				if all[fmt.Sprint(line, field)] != tr.Place(line, field) {
					t.Fatalf("All says %+v, Place %+v", all[fmt.Sprint(line, field)], tr.Place(line, field))
				}
			}
		}
	}
}
