package source

import (
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"
)

func fixedIn(t testing.TB, doc string) (string, *Fixed) {
	t.Helper()
	shape, err := Sniff(strings.NewReader(doc), int64(len(doc)), Options{})
	if err != nil {
		return err.Error(), nil
	}
	f, err := FixedWidth(strings.NewReader(doc), int64(len(doc)), shape)
	if err != nil {
		t.Fatal(err)
	}
	if f == nil {
		return "", nil
	}
	said := fmt.Sprintf("heading %d, first %d", f.Heading, f.First)
	for _, p := range f.Columns {
		said += fmt.Sprintf("|%s %d-%d", p.Name, p.First, p.Last)
	}
	return said, f
}

// sample is a printed table. The drafter's tests read them, too.
func sample(t *testing.T, name string) string {
	t.Helper()
	text, err := os.ReadFile("testdata/fixed/" + name + ".txt")
	if err != nil {
		t.Fatal(err)
	}
	return string(text)
}

// Columns of printed tables, as programs of several habits print them, and text that is none.
func TestFixedWidth(t *testing.T) {
	for _, c := range []struct{ name, doc, want string }{
		{"a blank between headings, commas in words", sample(t, "spaces"), "heading 1, first 2|PO NO 1-10|DATE 12-22|" +
			"CUSTOMER 24-33|ARTICLE 35-43|DESCRIPTION 45-65|QTY 67-73|UNIT 75-80|PRICE 82-129"},
		{"a report with rules and a title", sample(t, "report"), "heading 4, first 6|ORDER 1-6|ITEM 9-13|DESCRIPTION 16-35|" +
			"QTY 38-41|UM 44-46|PRICE 49-55|AMOUNT 58-66"},
		{"numbers to the right, letters beyond ASCII", sample(t, "german"), "heading 3, first 4|Best.-Nr 1-9|Artikel 11-18|" +
			"Bezeichnung 20-40|Menge 42-48|ME 50-52|Einzelpreis 54-66|Liefertermin 68-119"},
		{"order numbers on first lines only, sums below", sample(t, "list"), "heading 4, first 5|PO# 1-9|LN 11-12|" +
			"ITEM# 14-21|ITEM DESC 23-42|ORD QTY 44-56|UOM 58-60|UNIT COST 62-73|DUE DATE 75-122"},
		{"no headings", sample(t, "headless"), "heading 0, first 1|A 1-8|B 10-16|C 18-36|D 38-46|E 48-52|F 54-100"},
		{"two columns of one name", "Order  Item   Qty  Qty\nA-1    00417   12    3\nA-1    00533    4    4\n" +
			"A-2    00417    6    1\n", "heading 1, first 2|Order 1-6|Item 8-12|Qty 14-18|Qty D 20-62"},
		{"a letter", "Dear Quillmere,\n\nplease send us 12 metres of rope (00417), and two lanterns. We need them\non " +
			"Monday, 2 March. The yard is open from eight to five. If you cannot\ndeliver all of it, tell us what comes " +
			"later.\n\nKind regards,\nOstrand Boatyard\n", ""},
		{"a CSV whose cells are padded", "Order  ; Item  ; Description  ; Qty\nA-1    ; 00417 ; Rope 12 mm   ;  12\n" +
			"A-1    ; 00533 ; Shackle      ;   4\nA-2    ; 00417 ; Rope 12 mm   ;   6\n", ""},
		{"a table drawn with bars", "| Order | Item  | Qty |\n|-------|-------|-----|\n| A-1   | 00417 |  12 |\n" +
			"| A-1   | 00533 |   4 |\n| A-2   | 00417 |   6 |\n", ""},
		{"tabs", "Order\tItem\tQty\nA-1\t00417\t12\nA-1\t00533\t4\nA-2\t00417\t6\n", ""},
		{"without blanks between the columns", "H000000471120260302OSTRAND\nD000100417   000120000MTR00000019500\n" +
			"D000200533   000024000PCE00000034000\n", ""},
		{"two rows are too few", "Order  Item   Qty\nA-1    00417   12\n", ""},
	} {
		if got, _ := fixedIn(t, c.doc); got != c.want {
			t.Errorf("%s:\n got %s\nwant %s", c.name, got, c.want)
		}
	}
}

// A value that is longer than its column is said, wherever it goes on; what is drawn is not a value.
func TestFixedWidthCut(t *testing.T) {
	doc := "A-1    00417    12\nA-1000000417    12\nA-1    00417 11112\n-----------------\n"
	opt := Options{Positions: []Position{{"Order", 1, 6}, {"Item", 8, 12}, {"Qty", 14, 18}}}
	src, err := Open(strings.NewReader(doc), int64(len(doc)), opt)
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for {
		rec, err := src.Next()
		if err != nil {
			break
		}
		for _, f := range rec.Findings {
			got = append(got, fmt.Sprintf("%d/%d %s %q", f.Place.Row, f.Place.Column, f.Code, f.Value))
		}
	}
	if want := []string{`2/1 row_too_wide "0"`, `2/2 row_too_wide "0"`}; !slices.Equal(got, want) {
		t.Errorf("%q; want %q", got, want)
	}
}

func FuzzFixedWidth(f *testing.F) {
	f.Add("Order  Item   Qty\nA-1    00417   12\nA-1    00533    4\nA-2    00417    6\n")
	f.Add("A  B  C\n-- -- --\n1  2  3\n")
	f.Fuzz(func(t *testing.T, doc string) {
		_, fixed := fixedIn(t, doc)
		if fixed == nil {
			return
		}
		last, names := 0, map[string]bool{}
		for _, p := range fixed.Columns {
			if p.First <= last || p.Last < p.First || p.Name == "" || names[strings.ToLower(p.Name)] {
				t.Fatalf("%+v", fixed.Columns)
			}
			last, names[strings.ToLower(p.Name)] = p.Last, true
		}
		if len(fixed.Columns) < 3 || fixed.First < 1 || fixed.Heading >= fixed.First {
			t.Fatalf("%+v", fixed)
		}
		in, err := Inspect(strings.NewReader(doc), int64(len(doc)), Options{})
		if err != nil || !in.Fixed || len(in.Tables) == 0 {
			t.Fatalf("%+v, %v", in, err)
		}
	})
}
