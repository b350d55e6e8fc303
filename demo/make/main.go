// Command make writes the demo's lists and documents anew, always the same
// ones: go generate ./demo. All firms, people and codes are invented.
package main

import (
	"bytes"
	"encoding/csv"
	"fmt"
	"log"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/xuri/excelize/v2"
	"golang.org/x/text/encoding/charmap"
)

type item struct {
	code, name, unit, gtin string
	cents                  int // price of a unit in euro cents
}

var items = makeItems()

func makeItems() []item {
	var all []item
	add := func(first int, unit string, cents int, names ...string) {
		for i, name := range names {
			code := fmt.Sprintf("%05d", first+i*3)
			all = append(all, item{code, name, unit, gtin(len(all)), cents + i*cents/7})
		}
	}
	sized := func(format string, sizes ...string) (names []string) {
		for _, s := range sizes {
			names = append(names, fmt.Sprintf(format, s))
		}
		return names
	}
	add(101, "MTR", 85, sized("Braided rope %s mm, white", "4", "5", "6", "8", "10", "12", "14", "16", "18", "20")...)
	add(140, "MTR", 110, sized("Braided rope %s mm, navy", "6", "8", "10", "12", "14", "16")...)
	add(170, "MTR", 240, sized("Mooring line %s mm", "12", "14", "16", "18", "20", "24", "28", "32")...)
	add(203, "MTR", 310, sized("Galvanised chain %s mm", "6", "7", "8", "10", "12", "13")...)
	add(301, "LTR", 2450, sized("Antifouling, %s", "red", "navy", "black", "white", "green", "grey")...)
	add(330, "LTR", 2980, sized("Topside enamel, %s", "cloud white", "signal red", "harbour blue", "ivory", "black",
		"oyster")...)
	add(360, "LTR", 1890, "Epoxy primer", "Thinner no. 3", "Teak oil", "Spar varnish, gloss", "Spar varnish, satin",
		"Bilge paint, grey", "Deck paint, sand")
	add(401, "BX", 3900, sized("Shackle bow %s mm, box of 10", "6", "8", "10", "12", "14", "16")...)
	add(425, "BX", 3500, sized("Shackle D %s mm, box of 10", "5", "6", "8", "10", "12")...)
	add(450, "BX", 1250, sized("Screws A4 4 × %s mm, box of 200", "16", "20", "25", "30", "40", "50")...)
	add(480, "BX", 2200, sized("Split pins %s mm, box of 100", "2", "3", "4", "5")...)
	add(501, "EA", 6450, "Lantern, anchor, brass", "Lantern, stern, brass", "Lantern, port, brass",
		"Lantern, starboard, brass", "Lantern, cabin, brass", "Lantern, gimballed")
	add(530, "EA", 1490, sized("Brass cleat %s mm", "100", "125", "150", "200", "250")...)
	add(550, "EA", 2790, sized("Fender %s", "F1 white", "F2 white", "F3 navy", "F4 navy", "F5 navy")...)
	add(570, "EA", 4890, sized("Block %s mm, single", "40", "45", "57", "75")...)
	add(590, "EA", 990, "Boathook head", "Bell, ship's, 150 mm", "Compass, bulkhead", "Barometer, brass",
		"Clock, brass", "Flag staff, ash", "Porthole, brass, 200 mm")
	add(640, "SET", 8900, "Splicing kit", "Sail repair kit", "Varnish brush set", "Spanner set, A4",
		"First aid set, offshore", "Signal flag set")
	add(670, "PR", 3150, "Rowlocks, brass", "Gloves, deck, M", "Gloves, deck, L", "Oars, ash, 2.4 m",
		"Hinges, brass, 60 mm", "Hinges, brass, 90 mm")
	add(701, "KGM", 720, "Caulking cotton", "Oakum", "Beeswax", "Zinc anodes, loose")
	return all
}

// gtin makes a GTIN-13 with a right check digit from a prefix reserved for use inside a firm.
func gtin(n int) string {
	s := fmt.Sprintf("2004417%05d", n*37+11)
	sum := 0
	for i, c := range s {
		sum += int(c-'0') * (1 + 2*(i%2))
	}
	return s + fmt.Sprint((10-sum%10)%10)
}

func main() {
	log.SetFlags(0)
	dir := "."
	if len(os.Args) > 1 {
		dir = os.Args[1]
	}
	lists(dir)
	docs := filepath.Join(dir, "documents")
	write(filepath.Join(docs, "saltry-march.csv"), saltry())
	write(filepath.Join(docs, "slipway-2026-q1.csv"), slipway())
	write(filepath.Join(docs, "kestle-confirmations.csv"), kestle())
	ostrand(filepath.Join(docs, "ostrand-week-12.xlsx"))
	ebbing(filepath.Join(docs, "ebbing-paints-march.xlsx"))
	dropship(filepath.Join(docs, "drop-ship-week-13.xlsx"))
	write(filepath.Join(docs, "saltry-changes.csv"), saltryChanges())
	write(filepath.Join(docs, "saltry-season.csv"), saltrySeason())
	write(filepath.Join(docs, "pellow-orders.edi"), pellow())
}

func write(name string, b []byte) {
	must(os.MkdirAll(filepath.Dir(name), 0o755))
	must(os.WriteFile(name, b, 0o644))
}

func must(err error) {
	if err != nil {
		log.Fatal(err)
	}
}

func table(comma rune, rows [][]string) []byte {
	var b bytes.Buffer
	w := csv.NewWriter(&b)
	w.Comma = comma
	must(w.WriteAll(rows))
	return b.Bytes()
}

func lists(dir string) {
	put := func(name string, rows ...[]string) {
		write(filepath.Join(dir, "lists", name+".csv"), table(',', rows))
	}
	rows := [][]string{{"code", "name", "unit", "price", "gtin"}}
	for _, i := range items {
		rows = append(rows, []string{i.code, i.name, i.unit, money(i.cents, "."), i.gtin})
	}
	put("items", rows...)
	put("customers", []string{"code", "name", "city", "price level", "terms"},
		[]string{"OSTRAND", "Ostrand Boatyard", "Ostrand", "B", "N30"},
		[]string{"PELLOW", "Pellow Marina", "Pellow Haven", "B", "N30"},
		[]string{"SALTRY", "Saltry Sailing School", "Saltry", "C", "N14"},
		[]string{"SLIPWAY", "Slipway web shop, cash customers", "Quillmere", "R", "PREPAID"},
		[]string{"ALDERNOOK", "Aldernook Ferries", "Aldernook", "A", "N30"},
		[]string{"BREAKSPEAR", "Breakspear Yachts", "Tollerhaven", "A", "2T10N30"},
		[]string{"COBBLEQUAY", "Cobblequay Fishermen", "Cobblequay", "B", "N14"},
		[]string{"DUNMERE", "Dunmere Rowing Club", "Dunmere", "C", "N14"},
		[]string{"FENWHISTLE", "Fenwhistle Canal Boats", "Fenwhistle", "B", "N30"},
		[]string{"GULLHITHE", "Gullhithe Lifeboat Trust", "Gullhithe", "A", "N30"},
		[]string{"HALYARDCO", "Halyard & Co Riggers", "Tollerhaven", "A", "2T10N30"},
		[]string{"KELPSTONE", "Kelpstone Diving", "Kelpstone", "C", "PREPAID"},
		[]string{"LARKSOUND", "Larksound Charter", "Larksound", "B", "N30"},
		[]string{"MARROWBY", "Marrowby Museum of Boats", "Marrowby", "C", "N30"},
		[]string{"TIDEWELL", "Tidewell Harbour Board", "Tidewell", "A", "N30"})
	put("suppliers", []string{"code", "name", "city", "terms"},
		[]string{"VARNHOLT", "Varnholt Ropeworks", "Varnholt", "N30"},
		[]string{"EBBING", "Ebbing Paints", "Ebbing", "N30"},
		[]string{"KESTLE", "Kestle Brassworks", "Kestle", "2T10N30"},
		[]string{"ORREST", "Orrest Chain Forge", "Orrest", "N30"},
		[]string{"PALTRIDGE", "Paltridge Canvas", "Paltridge", "N14"},
		[]string{"WICKHURST", "Wickhurst Lanterns", "Wickhurst", "N30"})
	put("locations", []string{"code", "name"}, []string{"0010", "Main store, Quillmere"},
		[]string{"0020", "Paint store, Quillmere"}, []string{"0030", "West yard depot"},
		[]string{"0040", "East yard depot"})
	put("units", []string{"code", "name"}, []string{"MTR", "metre"}, []string{"LTR", "litre"}, []string{"BX", "box"},
		[]string{"EA", "piece"}, []string{"SET", "set"}, []string{"PR", "pair"}, []string{"KGM", "kilogram"})
	put("price-levels", []string{"code", "name"}, []string{"A", "Trade, large"}, []string{"B", "Trade"},
		[]string{"C", "Clubs and schools"}, []string{"R", "Retail"})
	put("terms", []string{"code", "name"}, []string{"N30", "30 days net"}, []string{"N14", "14 days net"},
		[]string{"2T10N30", "2 % within 10 days, 30 days net"}, []string{"PREPAID", "Paid in advance"})
	put("crosswalks/ostrand-yards", []string{"theirs", "ours"}, []string{"East yard", "0040"},
		[]string{"West yard", "0030"}, []string{"Workshop", "0010"}, []string{"Paint hall", "0020"})
	put("crosswalks/ostrand-units", []string{"theirs", "ours"}, []string{"m", "MTR"}, []string{"l", "LTR"},
		[]string{"carton", "BX"}, []string{"pc", "EA"}, []string{"set", "SET"}, []string{"pair", "PR"},
		[]string{"kg", "KGM"})
	put("crosswalks/kestle-units", []string{"theirs", "ours"}, []string{"pce", "EA"}, []string{"box", "BX"},
		[]string{"set", "SET"}, []string{"pair", "PR"})
	rows = [][]string{{"theirs", "ours"}}
	for i, p := range paints() {
		rows = append(rows, []string{fmt.Sprintf("EP-%d", 220+i*10), p.code})
	}
	put("crosswalks/ebbing-articles", rows...)
}

func money(cents int, point string) string {
	return fmt.Sprintf("%d%s%02d", cents/100, point, cents%100)
}

// paints are what Ebbing makes.
func paints() (list []item) {
	for _, i := range items {
		if i.unit == "LTR" {
			list = append(list, i)
		}
	}
	return list
}

func brass() (list []item) {
	for _, i := range items {
		if strings.Contains(strings.ToLower(i.name), "brass") {
			list = append(list, i)
		}
	}
	return list
}

func day(n int) time.Time { return time.Date(2026, 1, 5, 0, 0, 0, 0, time.UTC).AddDate(0, 0, n) }

// saltry: header facts on every line row, comma, day first.
func saltry() []byte {
	r := rand.New(rand.NewPCG(2026, 3))
	rows := [][]string{{"Order", "Order date", "Needed by", "Course", "Item", "What", "Qty", "Unit", "Each",
		"Line total", "Order total"}}
	courses := []string{"Beginners", "Coastal skipper", "Race training", "Youth week", "Boat care"}
	for n := range 25 {
		number, ordered := fmt.Sprintf("SSS/%04d", 310+n), day(55+n)
		total, first := 0, len(rows)
		course := courses[r.IntN(len(courses))]
		for range 2 + r.IntN(4) {
			i, q := items[r.IntN(len(items))], 1+r.IntN(12)
			total += i.cents * q
			rows = append(rows, []string{number, ordered.Format("02/01/2006"),
				ordered.AddDate(0, 0, 10).Format("02/01/2006"), course,
				i.code, i.name, fmt.Sprint(q), i.unit, money(i.cents, "."), money(i.cents*q, "."), ""})
		}
		for ; first < len(rows); first++ {
			rows[first][10] = money(total, ".")
		}
	}
	for _, row := range rows[1:] {
		saltryLines = append(saltryLines, append([]string{}, row...))
	}
	return table(',', rows)
}

var saltryLines [][]string // of saltry's document

// slipway: three hundred clean orders.
func slipway() []byte {
	r := rand.New(rand.NewPCG(2026, 4))
	rows := [][]string{{"order_id", "created", "ship_name", "ship_street", "ship_postcode", "ship_city", "ship_country",
		"email", "sku", "gtin", "title", "quantity", "unit", "unit_price", "discount", "line_amount", "shipping"}}
	first := []string{"Ada", "Bram", "Cilla", "Dov", "Edda", "Finn", "Greta", "Hale", "Ines", "Joss", "Kit", "Lene",
		"Milo", "Nell", "Oskar", "Pia"}
	last := []string{"Applegarth", "Birchmoor", "Crowhurst", "Dingwell", "Eastlake", "Fairwater", "Garnock", "Hollins",
		"Inskip", "Jolliffe", "Kettering", "Lomas"}
	streets := []string{"Quay Street", "Lantern Lane", "Mast Row", "Tar Barrel Yard", "Ebb Road", "Harbour View"}
	cities := [][2]string{{"QM1 4AB", "Quillmere"}, {"01067", "Ostrand"}, {"SA3 9QT", "Saltry"}, {"00210", "Tidewell"},
		{"LK7 2NN", "Larksound"}}
	for n := range 300 {
		name := first[r.IntN(len(first))] + " " + last[r.IntN(len(last))]
		city := cities[r.IntN(len(cities))]
		street := fmt.Sprintf("%s %d", streets[r.IntN(len(streets))], 1+r.IntN(90))
		for range 1 + r.IntN(6) {
			i, q := items[r.IntN(len(items))], 1+r.IntN(6)
			off := []int{0, 0, 0, 5, 10}[r.IntN(5)]
			amount := (i.cents*q*(100-off) + 50) / 100
			rows = append(rows, []string{fmt.Sprintf("SW-%06d", 104_200+n),
				day(n*88/300).Format("2006-01-02") + "T10:15:00", name, street, city[0], city[1], "GB",
				strings.ToLower(strings.ReplaceAll(name, " ", ".")) + "@example.com", i.code, i.gtin, i.name,
				fmt.Sprint(q), i.unit, money(i.cents, "."), fmt.Sprint(off), money(amount, "."), "6.90"})
		}
	}
	return table(',', rows)
}

// kestle: the supplier's list of our orders, with a mistake of every kind that
// people make. Windows-1252, semicolons, decimal commas.
func kestle() []byte {
	head := []string{"Order no", "Ordered", "Delivery", "Currency", "Article", "EAN", "Description", "Qty", "Unit",
		"Price", "Sum", "Order sum"}
	rows := [][]string{{"Kestle Brassworks – open orders Quillmere"}, {"as of 20.03.2026"}, {}, head}
	b := brass()
	line := func(no, ordered, delivery string, n, q int) []string {
		i := b[n%len(b)]
		return []string{no, ordered, delivery, "EUR", i.code, i.gtin, i.name + " – poli", fmt.Sprint(q), "pce",
			money(i.cents, ","), money(i.cents*q, ","), ""}
	}
	add := func(row []string) []string { rows = append(rows, row); return row }
	orphan := line("", "", "", 9, 2) // a line before any order
	add(orphan)
	for n := range 6 { // six good orders
		no := fmt.Sprintf("Q-26%03d", 101+n)
		add(line(no, fmt.Sprintf("%02d.03.2026", 2+n), "30.03.2026", n, 4+n))
		add(line("", "", "", n+3, 10))
	}
	add(line("Q-26110", "09.03.2026", "30.03.2026", 1, 5))[7] = ""             // quantity missing
	add(line("Q-26111", "31.02.2026", "30.03.2026", 2, 5))                     // no such day
	add(line("Q-26112", "09.03.2026", "30.03.2026", 3, 5))[7] = "a dozen"      // not a number
	r := add(line("Q-26113", "09.03.2026", "30.03.2026", 4, 5))                // unknown item, near a known one
	r[4] = strings.Replace(r[4], "00", "0O", 1)                                // a letter O for a zero
	add(line("Q-26114", "09.03.2026", "30.03.2026", 5, 5))[8] = "pcs"          // unit not in the crosswalk
	add(line("Q-26115", "09.03.2026", "30.03.2026", 6, 5))[10] = "999,99"      // sum is not quantity × price
	add(line("Q-26116", "09.03.2026", "30.03.2026", 7, 5))                     // header facts disagree
	add(line("Q-26116", "10.03.2026", "30.03.2026", 8, 5))                     //
	add([]string{"Q-26117", "09.03.2026", "30.03.2026", "EUR"})                // no lines
	add(line("Q-26101", "02.03.2026", "30.03.2026", 0, 4))                     // the same order twice
	add(line("Q-26118", "09.03.2026", "30.03.2026", 9, 5))[3] = "EUX"          // no such currency
	neg := add(line("Q-26119", "09.03.2026", "30.03.2026", 10, 5))             // quantity below zero
	neg[7], neg[10] = "-5", "-"+neg[10]                                        //
	add(line("Q-26120", "09.03.2026", "30.03.2026", 11, 5))[5] = "2,00442E+12" // a code turned into a number
	add(line("Q-26121", "09.03.2026", "", 12, 5))                              // delivery date missing: a warning
	// delivery before the order: a warning
	add(line("Q-26122", "09.03.2026", "02.03.2026", 13, 5))
	add(line("Q-26123", "09.03.2026", "30.03.2026", 14, 5))[11] = "1,00" // order sum is not the sum
	// decimal point where a comma is meant
	add(line("Q-26124", "09.03.2026", "30.03.2026", 15, 5))[9] = "14.90"
	add(line("Q-26125", "09.03.2026", "30.03.2026", 16, 5))[6] = `Hinge 60 mm, "½"` // good, with quotation marks
	add([]string{"", "", "", "", "", "", "", "", "", "", "", ""})
	add([]string{"Sum total", "", "", "", "", "", "", "", "", "", "12.345,67", ""})
	add([]string{"Please confirm by Friday. – R. Kestle"})
	text := strings.ReplaceAll(string(table(';', rows)), "\n", "\r\n")
	out, err := charmap.Windows1252.NewEncoder().String(text)
	must(err)
	return []byte(out)
}

func style(f *excelize.File, s *excelize.Style) int {
	id, err := f.NewStyle(s)
	must(err)
	return id
}

// cell sets a cell: text stays text, numbers are numbers.
func cell(f *excelize.File, sheet string, column, row int, v any) string {
	name, err := excelize.CoordinatesToCellName(column, row)
	must(err)
	must(f.SetCellValue(sheet, name, v))
	return name
}

// ostrand: a European workbook made by hand: titles, merged cells, one order
// under the other, a totals row, a signature.
func ostrand(name string) {
	f := excelize.NewFile()
	const sheet = "Orders week 12"
	must(f.SetSheetName("Sheet1", sheet))
	bold := style(f, &excelize.Style{Font: &excelize.Font{Bold: true, Size: 16, Color: "1F3A5F"}})
	head := style(f, &excelize.Style{Font: &excelize.Font{Bold: true, Color: "FFFFFF"},
		Fill:      excelize.Fill{Type: "pattern", Pattern: 1, Color: []string{"1F3A5F"}},
		Alignment: &excelize.Alignment{WrapText: true, Vertical: "center"}})
	mid := style(f, &excelize.Style{Alignment: &excelize.Alignment{Vertical: "top"}})
	dateFormat, codeFormat, priceFormat := "dd.mm.yyyy", "00000", "#,##0.00"
	date := style(f, &excelize.Style{CustomNumFmt: &dateFormat, Alignment: &excelize.Alignment{Vertical: "top"}})
	code := style(f, &excelize.Style{CustomNumFmt: &codeFormat})
	price := style(f, &excelize.Style{CustomNumFmt: &priceFormat})
	cell(f, sheet, 1, 1, "Ostrand Boatyard – weekly order")
	must(f.MergeCell(sheet, "A1", "J1"))
	must(f.SetCellStyle(sheet, "A1", "A1", bold))
	cell(f, sheet, 1, 2, "Week 12 / 2026, to Quillmere Chandlery, sent by M. Ostrand")
	must(f.MergeCell(sheet, "A2", "J2"))
	for i, h := range []string{"PO no", "Date", "Yard", "Article", "Description", "Qty", "Unit", "Price\n€", "Disc.",
		"Sum €"} {
		cell(f, sheet, i+1, 4, h)
	}
	must(f.SetCellStyle(sheet, "A4", "J4", head))
	must(f.SetRowHeight(sheet, 4, 32))
	for i, w := range []float64{12, 12, 12, 10, 34, 8, 8, 10, 8, 12} {
		col, err := excelize.ColumnNumberToName(i + 1)
		must(err)
		must(f.SetColWidth(sheet, col, col, w))
	}
	units := map[string]string{"MTR": "m", "LTR": "l", "BX": "carton", "EA": "pc", "SET": "set", "PR": "pair",
		"KGM": "kg"}
	yards := []string{"East yard", "West yard", "Workshop", "Paint hall"}
	r := rand.New(rand.NewPCG(2026, 12))
	row, grand := 5, 0
	for n := range 14 {
		first := row
		for l := range 2 + r.IntN(4) {
			i, q := items[r.IntN(len(items))], 1+r.IntN(20)
			off := []int{0, 0, 5, 10}[r.IntN(4)]
			sum := (i.cents*q*(100-off) + 50) / 100
			grand += sum
			article := any(i.code) // typed as text, or as a number shown with zeros
			if l%2 == 1 {
				var number int
				_, err := fmt.Sscan(strings.TrimLeft(i.code, "0"), &number)
				must(err)
				article = number
			}
			if n == 6 && l == 1 {
				article = "00" + "4O7" // a letter O for a zero
			}
			at := cell(f, sheet, 4, row, article)
			must(f.SetCellStyle(sheet, at, at, code))
			cell(f, sheet, 5, row, i.name)
			cell(f, sheet, 6, row, q)
			cell(f, sheet, 7, row, units[i.unit])
			if n%3 == 0 { // typed as text by a colleague
				cell(f, sheet, 8, row, money(i.cents, ","))
			} else {
				at = cell(f, sheet, 8, row, float64(i.cents)/100)
				must(f.SetCellStyle(sheet, at, at, price))
			}
			if off > 0 {
				cell(f, sheet, 9, row, fmt.Sprintf("%d %%", off))
			}
			if n == 10 && l == 0 {
				sum += 1000
			}
			at = cell(f, sheet, 10, row, float64(sum)/100)
			must(f.SetCellStyle(sheet, at, at, price))
			row++
		}
		cell(f, sheet, 1, first, fmt.Sprintf("OB-26-%03d", 120+n))
		if n%4 == 3 {
			cell(f, sheet, 2, first, day(70+n/2).Format("2.1.2006"))
		} else {
			at := cell(f, sheet, 2, first, day(70+n/2))
			must(f.SetCellStyle(sheet, at, at, date))
		}
		cell(f, sheet, 3, first, yards[r.IntN(len(yards))])
		for _, col := range []string{"A", "B", "C"} {
			must(f.MergeCell(sheet, fmt.Sprintf("%s%d", col, first), fmt.Sprintf("%s%d", col, row-1)))
			if col != "B" {
				must(f.SetCellStyle(sheet, fmt.Sprintf("%s%d", col, first), fmt.Sprintf("%s%d", col, first), mid))
			}
		}
	}
	cell(f, sheet, 1, row, "Total")
	must(f.MergeCell(sheet, fmt.Sprintf("A%d", row), fmt.Sprintf("I%d", row)))
	at := cell(f, sheet, 10, row, float64(grand)/100)
	must(f.SetCellFormula(sheet, at, fmt.Sprintf("SUM(J5:J%d)", row-1)))
	must(f.SetCellStyle(sheet, at, at, price))
	cell(f, sheet, 1, row+2, "Deliver to the yard named, 7 to 15 h. Thank you!")
	_, err := f.NewSheet("Phone list")
	must(err)
	cell(f, "Phone list", 1, 1, "East yard")
	cell(f, "Phone list", 2, 1, "0049 000 1234")
	must(f.SaveAs(name))
}

// ebbing: our purchases from a paint maker; header facts stand only on the
// first line of each order, and reading stops at a blank stretch.
func ebbing(name string) {
	f := excelize.NewFile()
	const sheet = "Purchases"
	must(f.SetSheetName("Sheet1", sheet))
	head := style(f, &excelize.Style{Font: &excelize.Font{Bold: true},
		Border: []excelize.Border{{Type: "bottom", Style: 2, Color: "000000"}}})
	format, percent := "yyyy-mm-dd", "0%"
	date, rate := style(f, &excelize.Style{CustomNumFmt: &format}), style(f, &excelize.Style{CustomNumFmt: &percent})
	cell(f, sheet, 1, 1, "Purchases from Ebbing Paints, March 2026")
	for i, h := range []string{"Order", "Ordered on", "Wanted on", "Terms", "Deliver to", "Their article", "Colour",
		"Litres", "Price per 10 l", "VAT", "Freight", "Note"} {
		cell(f, sheet, i+1, 2, h)
	}
	must(f.SetCellStyle(sheet, "A2", "L2", head))
	r := rand.New(rand.NewPCG(2026, 5))
	p := paints()
	row := 3
	for n := range 9 {
		cell(f, sheet, 1, row, fmt.Sprintf("EB-%d", 7701+n))
		for c, d := range map[int]time.Time{2: day(58 + n), 3: day(72 + n)} {
			at := cell(f, sheet, c, row, d)
			must(f.SetCellStyle(sheet, at, at, date))
		}
		cell(f, sheet, 4, row, "N30")
		cell(f, sheet, 5, row, "0020")
		cell(f, sheet, 11, row, 18.5)
		for range 2 + r.IntN(4) {
			k := r.IntN(len(p))
			cell(f, sheet, 6, row, fmt.Sprintf("EP-%d", 220+k*10))
			cell(f, sheet, 7, row, p[k].name)
			cell(f, sheet, 8, row, 20*(1+r.IntN(6)))
			cell(f, sheet, 9, row, float64(p[k].cents*6)/100)
			at := cell(f, sheet, 10, row, 0.2)
			must(f.SetCellStyle(sheet, at, at, rate))
			row++
		}
	}
	cell(f, sheet, 12, 5, "on pallets, please")
	cell(f, sheet, 1, row+5, "Old orders, delivered:")
	cell(f, sheet, 1, row+6, "EB-7688")
	cell(f, sheet, 6, row+6, "EP-220")
	cell(f, sheet, 8, row+6, 20)
	must(f.SetColWidth(sheet, "A", "L", 14))
	must(f.SaveAs(name))
}
