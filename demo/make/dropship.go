package main

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"time"

	"github.com/xuri/excelize/v2"
)

// dropship: the sheet of Quillmere's drop-ship desk. Each row is a line of a
// sale and of the purchase that serves it; a sale may be served by two
// suppliers. One row has an item code that nobody knows.
func dropship(name string) {
	f := excelize.NewFile()
	const sheet = "Drop-ship desk"
	must(f.SetSheetName("Sheet1", sheet))
	head := style(f, &excelize.Style{Font: &excelize.Font{Bold: true},
		Fill: excelize.Fill{Type: "pattern", Pattern: 1, Color: []string{"E4E0D4"}}})
	format, price := "yyyy-mm-dd", "#,##0.00"
	date, money := style(f, &excelize.Style{CustomNumFmt: &format}), style(f, &excelize.Style{CustomNumFmt: &price})
	cell(f, sheet, 1, 1, "Drop-ship desk, week 13: goods go from the supplier to the customer")
	headings := []string{"Sale", "Customer", "Ordered", "Deliver by", "Ship to", "Supplier", "Item", "What", "Qty",
		"Unit", "Cost each", "Price each", "Margin"}
	for i, h := range headings {
		cell(f, sheet, i+1, 3, h)
	}
	must(f.SetCellStyle(sheet, "A3", "M3", head))
	r := rand.New(rand.NewPCG(2026, 13))
	rope, brass := items[:16], items[69:74]
	customers := []struct{ code, to string }{{"PELLOW", "Pellow Marina, berth office, Pellow Haven"},
		{"OSTRAND", "Ostrand Boatyard, east yard, Ostrand"}, {"SALTRY", "Saltry Sailing School, boathouse, Saltry"}}
	row := 4
	for n := range 14 {
		c := customers[r.IntN(len(customers))]
		for l := range 2 + r.IntN(3) {
			supplier, it := "VARNHOLT", rope[r.IntN(len(rope))]
			if (n+l)%3 == 2 {
				supplier, it = "KESTLE", brass[r.IntN(len(brass))]
			}
			code := it.code
			if n == 5 && l == 0 {
				code = "0O143"
			}
			q := 5 * (1 + r.IntN(12))
			cost, asked := it.cents*7/10, it.cents
			for i, v := range []any{fmt.Sprintf("DS-%d", 2041+n), c.code, day(76 + n/3), day(90 + n/3), c.to, supplier,
				code, it.name, q, it.unit, float64(cost) / 100, float64(asked) / 100} {
				at := cell(f, sheet, i+1, row, v)
				if _, ok := v.(time.Time); ok {
					must(f.SetCellStyle(sheet, at, at, date))
				} else if i >= 10 {
					must(f.SetCellStyle(sheet, at, at, money))
				}
			}
			at := cell(f, sheet, 13, row, nil)
			must(f.SetCellFormula(sheet, at, fmt.Sprintf("I%d*(L%d-K%d)", row, row, row)))
			must(f.SetCellStyle(sheet, at, at, money))
			row++
		}
	}
	for column, wide := range map[string]float64{"A": 10, "B": 11, "C": 12, "D": 12, "E": 40, "F": 12, "G": 9, "H": 26,
		"I": 7, "J": 7, "K": 10, "L": 10, "M": 10} {
		must(f.SetColWidth(sheet, column, column, wide))
	}
	must(f.SetPanes(sheet, &excelize.Panes{Freeze: true, YSplit: 3, TopLeftCell: "A4", ActivePane: "bottomLeft"}))
	must(f.SaveAs(name))
}

// saltryChanges: the school writes again with other quantities and one line more.
func saltryChanges() []byte {
	rows := [][]string{{"Order", "Item", "Qty", "Needed by"}}
	for _, line := range saltryLines[:24] {
		if q := line[6]; len(rows)%3 == 1 {
			line[6] = "1" + q
		}
		rows = append(rows, []string{line[0], line[4], line[6], line[2]})
	}
	rows = append(rows, []string{rows[len(rows)-1][0], "00590", "1", rows[len(rows)-1][3]})
	return table(',', rows)
}

// saltrySeason: the school's whole season, typed by somebody new: codes that
// are not ours, a unit in words, dates in another form. Two orders of three
// fail, for few reasons.
func saltrySeason() []byte {
	r := rand.New(rand.NewPCG(2026, 26))
	rows := [][]string{{"Order", "Order date", "Needed by", "Course", "Item", "What", "Qty", "Unit", "Each",
		"Line total", "Order total"}}
	odd := []string{"ROPE-WH-10", "ROPE-NV-8", "0O113", "LANT-ANCHOR", "FENDER-F3"}
	for n := range 600 {
		number, ordered := fmt.Sprintf("SSN/%04d", 1+n), day(60+n%28)
		written := ordered.Format("02/01/2006")
		if n%5 == 0 {
			written = ordered.Format("2006.01.02")
		}
		for l := range 3 {
			it, q := items[r.IntN(16)], 1+r.IntN(9)
			code, unit := it.code, it.unit
			if n%3 != 0 && l == 1 {
				code = odd[r.IntN(len(odd))]
			}
			if n%7 == 0 {
				unit = "metres"
			}
			rows = append(rows, []string{number, written, ordered.AddDate(0, 0, 14).Format("02/01/2006"), "Season 2026",
				code, it.name, fmt.Sprint(q), unit, money(it.cents, "."), money(it.cents*q, "."), ""})
		}
	}
	return table(',', rows)
}

// pellow: two orders of Pellow Marina in X12, the second with a day that is
// none and a number that is not one.
func pellow() []byte {
	set := func(n int, segments ...string) string {
		all := append([]string{fmt.Sprintf("ST*850*%04d", n)}, segments...)
		return strings.Join(append(all, fmt.Sprintf("SE*%d*%04d", len(all)+1, n)), "~\n") + "~\n"
	}
	line := func(n int, it item, q int) []string {
		unit := map[string]string{"MTR": "MR", "LTR": "LT"}[it.unit]
		if unit == "" {
			unit = it.unit
		}
		return []string{fmt.Sprintf("PO1*%d*%d*%s*%s*PE*VP*%s*EN*%s", n, q, unit, money(it.cents, "."), it.code,
			it.gtin), "PID*F****" + it.name}
	}
	first := []string{"BEG*00*SA*PM-4711**20260314", "CUR*BY*EUR", "REF*CT*C-2026-18", "SAC*C*D240***1850",
		"ITD*01*3*****30", "DTM*002*20260330", "N1*ST*Pellow Marina*92*0040", "N3*Berth office",
		"N4*Pellow Haven**44210*NO"}
	first = append(first, line(1, items[4], 20)...)
	first = append(first, line(2, items[69], 3)...)
	first = append(first, "CTT*2")
	second := append([]string{"BEG*00*SA*PM-4712**20260231", "DTM*002*20260402"}, line(1, items[20], 4)...)
	second = append(second, strings.Replace(line(2, items[21], 5)[0], "*5*", "*five*", 1), "CTT*2")
	return []byte("ISA*00*          *00*          *ZZ*PELLOW         *ZZ*QUILLMERE      " +
		"*260314*0930*U*00401*000000905*1*P*>~\nGS*PO*PELLOW*QUILLMERE*20260314*0930*77*X*004010~\n" +
		set(1, first...) + set(2, second...) + "GE*2*77~\nIEA*1*000000905~\n")
}
