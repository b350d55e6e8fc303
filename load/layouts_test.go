package load

import (
	"bytes"
	"context"
	"fmt"
	"math/big"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/xuri/excelize/v2"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"

	"koinos/core/order"
	"koinos/core/source"
	"koinos/store"
)

// anOrder is an order as a partner means it, before it is written down.
type anOrder struct {
	number, city, ordered string
	lines                 []aLine
}

type aLine struct {
	item, description     string
	quantity, price, less string // plain decimals; less may be blank
}

// layout is one of the many ways in which people write orders down.
type layout struct {
	workbook                bool
	delimiter, lineEnd, enc string
	decimal, thousands, day string
	// header facts on the first row only; an opener instead of a key; a blank row behind each order
	once, opener, blankBetween  bool
	titles, total, shuffled     bool
	quoteAll, letters, realDays bool
}

func someLayout(r *rand.Rand) layout {
	coin := func() bool { return r.IntN(2) == 0 }
	pick := func(words ...string) string { return words[r.IntN(len(words))] }
	l := layout{
		workbook: r.IntN(3) == 0, delimiter: pick(",", ";", "\t", "|"), lineEnd: pick("\n", "\r\n"),
		enc:     pick("utf-8", "bom", "utf-16", "windows-1252"),
		decimal: pick(".", ","), day: pick("2006-01-02", "2.1.2006", "02/01/2006", "2 Jan 06"), once: coin(),
		opener: coin(), blankBetween: coin(),
		titles: coin(), total: coin(), shuffled: coin(), quoteAll: coin(), letters: coin(), realDays: coin(),
	}
	l.thousands = map[string]string{".": pick(",", "", " "), ",": pick(".", "", "\u00a0")}[l.decimal]
	return l
}

var forms = map[string]string{"2006-01-02": "yyyy-mm-dd", "2.1.2006": "d.m.yyyy", "02/01/2006": "dd/mm/yyyy",
	"2 Jan 06": "d mmm yy"}

func (l *layout) number(plain string) string {
	whole, fraction, _ := strings.Cut(plain, ".")
	for i := len(whole) - 3; i > 0 && l.thousands != ""; i -= 3 {
		whole = whole[:i] + l.thousands + whole[i:]
	}
	if fraction != "" {
		whole += l.decimal + fraction
	}
	return whole
}

var columns = []string{"Order", "City", "Ordered", "Item", "What", "Qty", "Price", "Less", "Sum"}

// table lays the orders out as rows of text, and returns the mapping for them.
func (l *layout) table(r *rand.Rand, orders []anOrder) (rows [][]string, mapping string) {
	at := r.Perm(len(columns)) // where each column goes
	if !l.shuffled {
		at = []int{0, 1, 2, 3, 4, 5, 6, 7, 8}
	}
	put := func(values ...string) {
		row := make([]string, len(columns))
		for i, v := range values {
			row[at[i]] = v
		}
		rows = append(rows, row)
	}
	if l.titles {
		rows = append(rows, []string{"Orders, as agreed"}, []string{"Week 12", "2026"}, nil)
	}
	put("Order", "CITY ", "Ordered\n on", "Item", "What", "Qty", "Price", "Less", "Sum")
	for _, o := range orders {
		for i, line := range o.lines {
			head := []string{o.number, o.city, day(o.ordered, l.day)}
			if i > 0 && (l.once || l.opener) {
				head = []string{"", "", ""}
			}
			put(append(head, line.item, line.description, l.number(line.quantity), l.number(line.price),
				l.number(line.less), l.number(amount(line)))...)
		}
		if l.blankBetween {
			rows = append(rows, nil)
		}
	}
	if l.total {
		total := make([]string, len(columns))
		total[0], total[len(total)-1] = "Total:", "1"
		rows = append(rows, nil, total, []string{"Thank you"})
	}
	from := func(i int, heading string) string {
		if l.letters {
			return fmt.Sprintf(`"@%c"`, 'A'+at[i])
		}
		return fmt.Sprintf("%q", heading)
	}
	by := "key"
	if l.opener {
		by = "opener"
	}
	heading := map[bool]int{true: 4, false: 1}[l.titles]
	m := fmt.Sprintf("koinos: mapping/1\nname: example\ndocument:\n  heading: {row: %d}\n  until: {text: "+
		"\"total*\"}\n  locale: {decimal: %q, dates: [%s]}\n", heading, l.decimal, forms[l.day])
	if l.thousands == "" {
		m = strings.Replace(m, "dates", "grouping: none, dates", 1)
	}
	m += fmt.Sprintf("orders: {kind: purchase, group: {by: %s, columns: [%s]}}\nheader:\n  sender_number: {from: %s, "+
		"need: must}\n  partner: {value: P}\n  ship_to.city: {from: %s}\n  ordered_on: {from: %s, need: must}\nlines:\n",
		by, from(0, "order"), from(0, " ORDER"), from(1, "City"), from(2, "ordered on"))
	for i, f := range []string{"item: {from: %s, need: must}", "description: {from: %s}", "quantity: {from: %s}",
		"unit_price: {from: %s}", "discount_percent: {from: %s}", "amount: {from: %s}"} {
		m += "  " + fmt.Sprintf(f, from(i+3, columns[i+3])) + "\n"
	}
	return rows, m
}

func day(iso, form string) string { return must1(parseDay(iso)).Format(form) }

// csv writes rows in the layout's way.
func (l *layout) csv(rows [][]string) []byte {
	var b strings.Builder
	for _, row := range rows {
		for i, cell := range row {
			if i > 0 {
				b.WriteString(l.delimiter)
			}
			if l.quoteAll && cell != "" || strings.ContainsAny(cell, l.delimiter+"\"\n") {
				cell = `"` + strings.ReplaceAll(cell, `"`, `""`) + `"`
			}
			b.WriteString(cell)
		}
		b.WriteString(l.lineEnd)
	}
	switch text := b.String(); l.enc {
	case "bom":
		return []byte("\ufeff" + text)
	case "utf-16":
		return []byte(must1(unicode.UTF16(unicode.LittleEndian, unicode.UseBOM).NewEncoder().String(text)))
	case "windows-1252":
		return []byte(must1(charmap.Windows1252.NewEncoder().String(text)))
	default:
		return []byte(text)
	}
}

// xlsx writes rows as a workbook: text as text, and dates as dates where the layout says so.
func (l *layout) xlsx(rows [][]string) []byte {
	f := excelize.NewFile()
	form := "dd.mm.yyyy"
	style := must1(f.NewStyle(&excelize.Style{CustomNumFmt: &form}))
	for r, row := range rows {
		for c, cell := range row {
			name := must1(excelize.CoordinatesToCellName(c+1, r+1))
			must(f.SetCellStr("Sheet1", name, cell))
			if d, err := parseForm(cell, l.day); l.realDays && err == nil {
				must(f.SetCellValue("Sheet1", name, d))
				must(f.SetCellStyle("Sheet1", name, name, style))
			}
		}
	}
	var b bytes.Buffer
	must(f.Write(&b))
	return b.Bytes()
}

func must1[T any](v T, err error) T {
	must(err)
	return v
}

// amount is quantity × price less discount to the cent, half up, worked out
// with fractions and so without anything that Koinos uses.
func amount(l aLine) string {
	x := new(big.Rat).Mul(rat(l.quantity), rat(l.price))
	x.Mul(x, new(big.Rat).Sub(big.NewRat(1, 1), new(big.Rat).Quo(rat(l.less), big.NewRat(100, 1))))
	x.Mul(x, big.NewRat(100, 1)).Add(x, big.NewRat(1, 2))
	cents := new(big.Int).Quo(x.Num(), x.Denom())
	return new(big.Rat).SetFrac(cents, big.NewInt(100)).FloatString(2)
}

func rat(s string) *big.Rat {
	if s == "" {
		return new(big.Rat)
	}
	r, _ := new(big.Rat).SetString(s)
	return r
}

// Orders written down in a hundred layouts come out of the store as they were
// meant, with the amounts that arithmetic gives.
func TestLayouts(t *testing.T) {
	if testing.Short() {
		t.Skip("other tests run the same goroutines under the race detector")
	}
	for seed := range uint64(100) {
		r := rand.New(rand.NewPCG(7, seed))
		l := someLayout(r)
		var orders []anOrder
		for n := range 1 + r.IntN(12) {
			o := anOrder{number: fmt.Sprintf("%04d/%d", n, r.IntN(90)),
				city:    []string{"Zürich", "Ostrand", "Saint-Malô", `"Q" mere`}[r.IntN(4)],
				ordered: fmt.Sprintf("2026-%02d-%02d", 1+r.IntN(12), 1+r.IntN(28))}
			for range 1 + r.IntN(5) {
				o.lines = append(o.lines, aLine{
					item: fmt.Sprintf("%05d", r.IntN(99999)), description: []string{"Rope, 10 mm", "Shackle; 8 mm",
						"Lantern | brass", "Tab\tbed", "", "½ litre “teak” oil"}[r.IntN(6)],
					quantity: []string{"1", "12", "2500", "0.5", "17.25"}[r.IntN(5)],
					price:    fmt.Sprintf("%d.%02d", r.IntN(3000), r.IntN(100)),
					less:     []string{"", "", "5", "12.5", "33.333"}[r.IntN(5)],
				})
			}
			orders = append(orders, o)
		}
		rows, mappingText := l.table(r, orders)
		doc := l.csv(rows)
		if l.workbook {
			doc = l.xlsx(rows)
		}
		s := testStore(t)
		e := testEngine(t, s, source.DefaultLimits)
		load := send(t, e, mappingText, doc, Request{})
		if load.Loaded != len(orders) || load.Errors+load.Warnings > 0 {
			found, _ := s.Findings(context.Background(), load.ID, store.FindingFilter{Limit: 3})
			t.Errorf("layout %d %+v: %d of %d orders are in; %+v\n%.600s\n%s", seed, l, load.Loaded, len(orders), found,
				doc, mappingText)
			continue
		}
		for i, o := range orders {
			stored, err := s.Order(context.Background(), int64(i+1))
			if err != nil {
				t.Fatal(err)
			}
			compare(t, fmt.Sprintf("layout %d %+v order %s", seed, l, o.number), o, &stored.Order)
		}
	}
}

func compare(t *testing.T, name string, o anOrder, stored *order.Order) {
	t.Helper()
	same := func(what, got, want string) {
		if got != want {
			t.Errorf("%s: %s is %q, want %q", name, what, got, want)
		}
	}
	same("number", stored.SenderNumber, o.number)
	same("city", stored.Party("ship_to").City, o.city)
	same("ordered", string(stored.OrderedOn), o.ordered)
	if len(stored.Lines) != len(o.lines) {
		t.Errorf("%s: %d lines, want %d", name, len(stored.Lines), len(o.lines))
		return
	}
	total := new(big.Rat)
	for i, want := range o.lines {
		l := &stored.Lines[i]
		same("item", l.Item, want.item)
		same("description", l.Description, want.description)
		same("quantity", rat(l.Quantity.String()).FloatString(4), rat(want.quantity).FloatString(4))
		same("price", rat(l.UnitPrice.String()).FloatString(4), rat(want.price).FloatString(4))
		same("discount", rat(l.DiscountPercent.String()).FloatString(4), rat(want.less).FloatString(4))
		same("amount", l.Amount.String(), amount(want))
		total.Add(total, rat(amount(want)))
	}
	same("total", stored.Total.String(), total.FloatString(2))
}

func parseDay(iso string) (time.Time, error)      { return time.Parse("2006-01-02", iso) }
func parseForm(s, form string) (time.Time, error) { return time.Parse(form, s) }
