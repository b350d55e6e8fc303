package corpus

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"strconv"
	"strings"

	"github.com/xuri/excelize/v2"
)

// Sample is a document with what a good mapping makes of it.
type Sample struct {
	Name   string
	Bytes  []byte
	Orders [][]string        // the places of each order's lines: Sheet!row, or a number of JSON lines
	Fields map[string]string // "header.ordered_on" and what must feed it: a heading, @C, a label, a path
}

// anOrder is an order before it is laid out; values are plain: 2026-03-04, 12.50.
type anOrder struct {
	head  map[string]string
	lines []map[string]string
}

var items = [][4]string{ // code, words, unit, price
	{"00101", "Braided rope 4 mm", "MTR", "0.85"}, {"00104", "Braided rope 5 mm", "MTR", "0.97"},
	{"00191", "Mooring line 32 mm", "MTR", "4.80"},
	{"00310", "Antifouling, white", "LTR", "35.00"}, {"00312", "Deck varnish", "LTR", "28.40"},
	{"00501", "Lantern, anchor, brass", "EA", "64.50"},
	{"00503", "Lantern, stern", "EA", "59.90"}, {"BR-220", "Shackle 8 mm", "BX", "12.25"},
	{"BR-224", "Shackle 10 mm", "BX", "14.75"}, {"BR-300", "Cleat 150 mm", "EA", "9.90"},
}

var towns = []string{"Ostrand", "Pellow Haven", "Saltry", "Varnholt", "Kestle", "Ebbing"}

// some makes n orders.
func some(seed uint64, n int) []anOrder {
	r := rand.New(rand.NewPCG(seed, 7))
	var all []anOrder
	for i := range n {
		day := fmt.Sprintf("2026-%02d-%02d", 1+r.IntN(9), 1+r.IntN(28))
		o := anOrder{head: map[string]string{
			"sender_number": fmt.Sprintf("%d", 45000+int(seed)*100+i*7), "ordered_on": day,
			"requested_delivery_on": fmt.Sprintf("2026-%02d-%02d", 10+r.IntN(3), 13+r.IntN(15)),
			"currency":              "EUR", "ship_to.city": towns[r.IntN(len(towns))],
			"payment_terms": []string{"N30", "N14"}[r.IntN(2)], "notes": []string{"", "call before",
				"leave at the gate"}[r.IntN(3)],
			"ship_to.name": "Yard " + strconv.Itoa(1+r.IntN(4)), "ship_to.postal_code": fmt.Sprintf("%05d",
				1000+r.IntN(9000)), "partner": []string{"OSTRAND", "PELLOW"}[r.IntN(2)],
			"location": []string{"0010", "0020"}[r.IntN(2)],
		}}
		total := 0
		for k := range 1 + r.IntN(5) {
			it := items[r.IntN(len(items))]
			qty := 1 + r.IntN(60)
			cents, _ := strconv.Atoi(strings.ReplaceAll(it[3], ".", ""))
			total += qty * cents
			o.lines = append(o.lines, map[string]string{
				"number": strconv.Itoa(k + 1), "item": it[0], "description": it[1], "unit": it[2], "unit_price": it[3],
				"quantity": strconv.Itoa(qty),
				"amount":   money(qty * cents), "tax_percent": "20", "discount_percent": "",
				"gtin": gtin(r.IntN(100000)),
			})
		}
		o.head["total"] = money(total)
		all = append(all, o)
	}
	return all
}

func money(cents int) string { return fmt.Sprintf("%d.%02d", cents/100, cents%100) }

func gtin(n int) string {
	s := fmt.Sprintf("2004417%05d", n)
	sum := 0
	for i, c := range s {
		d := int(c - '0')
		if i%2 == 1 {
			d *= 3
		}
		sum += d
	}
	return s + strconv.Itoa((10-sum%10)%10)
}

// layout says how orders are laid out as rows.
type layout struct {
	name      string
	seed      uint64
	orders    int
	columns   []string // "sender_number=Order no", in the order in which they stand
	once      bool     // header facts on the first row of an order only
	scattered bool     // lines of orders mixed
	gap       bool     // a blank row behind each order, and no number on it
	above     []string // rows above the heading, cells parted by bars
	below     []string // rows behind the table
	sums      string   // the word of a row of sums behind each order
	heads     []string // a second row above the headings, by column
	noHeading bool
	date      string // Go layout
	decimal   string
	delimiter string
	book      string // name of the sheet; "" is a CSV
	fields    map[string]string
}

func (l *layout) value(field, plain string) string {
	switch {
	case plain == "":
		return ""
	case strings.HasSuffix(field, "_on"):
		d := l.date
		if d == "" {
			d = "2006-01-02"
		}
		y, m, day := plain[:4], plain[5:7], plain[8:]
		return strings.NewReplacer("2006", y, "01", m, "02", day, "06", y[2:], "Jan",
			[]string{"Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov",
				"Dec"}[atoi(m)-1]).Replace(d)
	case field == "unit_price" || field == "amount" || field == "total":
		if l.decimal == "," {
			return strings.Replace(plain, ".", ",", 1)
		}
	case field == "tax_percent":
		return plain + "%"
	}
	return plain
}

func atoi(s string) int {
	n, _ := strconv.Atoi(s)
	return n
}

var lineFields = map[string]bool{"number": true, "item": true, "description": true, "unit": true, "unit_price": true,
	"quantity": true, "amount": true, "tax_percent": true, "gtin": true, "supplier_item": true,
	"discount_percent": true}

func level(field string) string {
	if lineFields[field] {
		return "lines." + field
	}
	return "header." + field
}

func (l *layout) sample() Sample {
	s := Sample{Name: l.name, Fields: map[string]string{}}
	orders := some(l.seed, max(l.orders, 8))
	var rows [][]string
	add := func(cells ...string) int { rows = append(rows, cells); return len(rows) }
	for _, a := range l.above {
		add(strings.Split(a, "|")...)
	}
	var fields, head []string
	for i, c := range l.columns {
		field, heading, _ := strings.Cut(c, "=")
		fields, head = append(fields, field), append(head, heading)
		if field == "" || field == "-" {
			continue
		}
		from := heading
		if l.noHeading {
			from = "@" + string(rune('A'+i))
		}
		if l.heads != nil {
			above := ""
			for k := 0; k <= i; k++ {
				if l.heads[k] != "" {
					above = l.heads[k]
				}
			}
			from = strings.TrimSpace(above + " " + heading)
		}
		s.Fields[level(field)] = from
	}
	for k, v := range l.fields {
		s.Fields[k] = v
	}
	if l.heads != nil {
		add(l.heads...)
	}
	if !l.noHeading {
		add(head...)
	}
	sheet := l.book
	place := func(row int) string {
		if sheet == "" {
			return strconv.Itoa(row)
		}
		return sheet + "!" + strconv.Itoa(row)
	}
	s.Orders = make([][]string, len(orders))
	row := func(o, k int) {
		cells := make([]string, len(fields))
		for i, f := range fields {
			switch {
			case lineFields[f]:
				cells[i] = l.value(f, orders[o].lines[k][f])
			case f == "-":
				cells[i] = "x" + strconv.Itoa((o*7+k*3)%11)
			case k == 0 || !l.once:
				cells[i] = l.value(f, orders[o].head[f])
			}
		}
		s.Orders[o] = append(s.Orders[o], place(add(cells...)))
	}
	if l.scattered {
		for k := range 5 {
			for o := range orders {
				if k < len(orders[o].lines) {
					row(o, k)
				}
			}
		}
	} else {
		for o := range orders {
			for k := range orders[o].lines {
				row(o, k)
			}
			if l.sums != "" {
				cells := make([]string, len(fields))
				cells[0], cells[len(cells)-1] = l.sums, l.value("amount", orders[o].head["total"])
				add(cells...)
			}
			if l.gap {
				add("")
			}
		}
	}
	for _, b := range l.below {
		add(strings.Split(b, "|")...)
	}
	if l.book != "" {
		s.Bytes = book(map[string][][]string{l.book: rows}, l.book)
		s.Name += ".xlsx"
		return s
	}
	s.Bytes = table(rows, l.delimiter)
	s.Name += ".csv"
	return s
}

func table(rows [][]string, delimiter string) []byte {
	if delimiter == "" {
		delimiter = ","
	}
	var b bytes.Buffer
	for _, r := range rows {
		for i, c := range r {
			if i > 0 {
				b.WriteString(delimiter)
			}
			if strings.ContainsAny(c, delimiter+"\"\n") {
				c = `"` + strings.ReplaceAll(c, `"`, `""`) + `"`
			}
			b.WriteString(c)
		}
		b.WriteString("\r\n")
	}
	return b.Bytes()
}

func book(sheets map[string][][]string, names ...string) []byte {
	f := excelize.NewFile()
	for i, name := range names {
		if i == 0 {
			f.SetSheetName("Sheet1", name)
		} else if _, err := f.NewSheet(name); err != nil {
			panic(err)
		}
		for r, row := range sheets[name] {
			for c, cell := range row {
				at, err := excelize.CoordinatesToCellName(c+1, r+1)
				if err == nil && cell != "" {
					err = f.SetCellStr(name, at, cell)
				}
				if err != nil {
					panic(err)
				}
			}
		}
	}
	var b bytes.Buffer
	if err := f.Write(&b); err != nil {
		panic(err)
	}
	return b.Bytes()
}
