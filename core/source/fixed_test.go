package source

import (
	"fmt"
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

// Columns of printed tables, as programs of several habits print them, and text that is none.
func TestFixedWidth(t *testing.T) {
	for _, c := range []struct{ name, doc, want string }{
		{"a blank between headings, commas in words", `PO NO      DATE        CUSTOMER   ARTICLE   DESCRIPTION               QTY UNIT      PRICE
4711       02.03.2026  OSTRAND    00417     Rope 12 mm, white         120 MTR        1.95
4711       02.03.2026  OSTRAND    00533     Shackle A4 8 mm            24 PCE        3.40
4712       03.03.2026  PELLOW     00417     Rope 12 mm, white          60 MTR        1.95
4712       03.03.2026  PELLOW     00801     Lantern, brass              2 PCE       89.00
4712       03.03.2026  PELLOW     00812     Paint, blue                10 LTR       12.50
`, "heading 1, first 2|PO NO 1-10|DATE 12-22|" +
			"CUSTOMER 24-33|ARTICLE 35-43|DESCRIPTION 45-65|QTY 67-73|UNIT 75-80|PRICE 82-129"},
		{"a report with rules and a title", `QUILLMERE CHANDLERY                                        PAGE 1
PURCHASE ORDERS OF WEEK 12

ORDER   ITEM   DESCRIPTION            QTY  UM     PRICE     AMOUNT
------  -----  --------------------  ----  ---  -------  ---------
A-1001  00417  Rope 12 mm white       120  MTR     1.95     234.00
A-1001  00533  Shackle A4 8 mm         24  PCE     3.40      81.60
A-1002  00417  Rope 12 mm white        60  MTR     1.95     117.00
A-1002  00801  Lantern brass            2  PCE    89.00     178.00
                                                         ---------
                                                 TOTAL      610.60
`, "heading 4, first 6|ORDER 1-6|ITEM 9-13|DESCRIPTION 16-35|" +
			"QTY 38-41|UM 44-46|PRICE 49-55|AMOUNT 58-66"},
		{"numbers to the right, letters beyond ASCII", `Bestellung vom 02.03.2026, Bootswerft Größwiek

Best.-Nr  Artikel  Bezeichnung            Menge  ME   Einzelpreis  Liefertermin
    8801  00417    Tauwerk, weiß, 12 mm     120  M           1,95  09.03.2026
    8801  00533    Schäkel A4                24  ST          3,40  09.03.2026
    8802  00801    Laterne, Messing           2  ST         89,00  12.03.2026
    8802  00812    Farbe, blau               10  L          12,50  12.03.2026
    8802  00417    Tauwerk, weiß, 12 mm    1200  M           1,95  12.03.2026
`, "heading 3, first 4|Best.-Nr 1-9|Artikel 11-18|" +
			"Bezeichnung 20-40|Menge 42-48|ME 50-52|Einzelpreis 54-66|Liefertermin 68-119"},
		{"order numbers on first lines only, sums below", `                                      ORDER LIST                              RUN 02MAR26
 VENDOR 70012  VARNHOLT ROPEWORKS

 PO#      LN ITEM#    ITEM DESC                  ORD QTY UOM  UNIT COST   DUE DATE
 0045110   1 00417    ROPE 12MM WHITE             120.00 MTR     1.9500   03/20/26
           2 00533    SHACKLE A4 8MM               24.00 EA      3.4000   03/20/26
 0045111   1 00417    ROPE 12MM WHITE              60.00 MTR     1.9500   03/24/26
           2 00801    LANTERN BRASS                 2.00 EA     89.0000   03/24/26
           3 00812    PAINT BLUE                   10.00 LTR    12.5000   03/24/26
                                                 ---------
                                                   216.00
                                                                                        PAGE   1
`, "heading 4, first 5|PO# 1-9|LN 11-12|" +
			"ITEM# 14-21|ITEM DESC 23-42|ORD QTY 44-56|UOM 58-60|UNIT COST 62-73|DUE DATE 75-122"},
		{"no headings", `A-1001   00417   Rope 12 mm white        120   MTR      1.95
A-1001   00533   Shackle A4 8 mm          24   PCE      3.40
A-1002   00417   Rope 12 mm white         60   MTR      1.95
A-1002   00801   Lantern brass             2   PCE     89.00
`, "heading 0, first 1|A 1-8|B 10-16|C 18-36|D 38-46|E 48-52|F 54-100"},
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
