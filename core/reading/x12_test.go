package reading

import (
	"bytes"
	"fmt"
	"io"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"koinos/core/finding"
	"koinos/core/intent"
	"koinos/core/list"
	"koinos/core/mapping"
	"koinos/core/order"
	"koinos/core/source"
	"koinos/core/writing"
	"koinos/core/x12"
)

// anyOrder is an order with a value for every field that a mapping binds, and
// now and then for none.
func anyOrder(r *rand.Rand, m *mapping.Mapping, lines int) order.Order {
	o := order.Order{Kind: order.Sales}
	if m.Kind != intent.Order {
		o.Statement = &order.Statement{Kind: string(m.Kind)}
	}
	words := []string{"Rope", "white 10 mm", "Pier 4", "A-17", "0040", "N30", "Berth office", "x1"}
	put := func(l *order.Line, b *mapping.Binding) {
		f := b.Field
		a := b.From[0].Text
		switch {
		case f.Name == "total" && b.Compare: // it would have to be that of the lines
			return
		case f.Name == "partner" || b.Need != mapping.Must && r.IntN(4) == 0 &&
			!strings.Contains(" unit unit_price item weight weight_unit ship_to.name bill_to.name buyer.name supplier.name "+
				"ship_to.contact ship_to.street bill_to.street answer change accepted accepted_unit ", " "+f.Name+" "):
			return
		case f.Type == order.Day:
			f.SetDate(&o, l, order.Date(fmt.Sprintf("2026-%02d-%02d", 1+r.IntN(12), 1+r.IntN(28))))
		case f.Type == order.Decimal && strings.Contains(f.Name, "packages"):
			f.SetNumber(&o, l, order.MustNumber(fmt.Sprint(1+r.IntN(99))))
		case f.Name == "price_basis":
			f.SetNumber(&o, l, order.MustNumber([]string{"10", "100", "1000"}[r.IntN(3)]))
		case f.Type == order.Decimal:
			f.SetNumber(&o, l, order.MustNumber(fmt.Sprintf("%d.%d5", 1+r.IntN(9999), r.IntN(10))))
		case f.Type == order.Percent:
			f.SetNumber(&o, l, order.MustNumber([]string{"7.5", "20", "0.5", "100"}[r.IntN(4)]))
		case f.Type == order.Unit || f.Name == "accepted_unit" || f.Name == "weight_unit":
			f.SetText(&o, l, []string{"EA", "MTR", "BX", "KGM", "LTR"}[r.IntN(5)])
		case f.Type == order.Currency:
			f.SetText(&o, l, "EUR")
		case f.Name == "change_number":
			f.SetText(&o, l, "2")
		case f.Name == "change":
			f.SetText(&o, l, "QI")
		case f.Name == "answer":
			f.SetText(&o, l, map[bool]string{true: "IA", false: "AC"}[l != nil])
		case f.Name == "shipped_at":
			f.SetText(&o, l, "1405")
		case strings.HasSuffix(f.Name, ".region"):
			f.SetText(&o, l, "NW")
		case strings.HasSuffix(f.Name, ".country"):
			f.SetText(&o, l, "NO")
		case strings.HasSuffix(f.Name, ".postal_code"):
			f.SetText(&o, l, "44210")
		case f.Name == "reference.freight_terms":
			f.SetText(&o, l, "CC")
		case f.Name == "reference.order_type":
			f.SetText(&o, l, "DS")
		case f.Name == "delivery_terms":
			f.SetText(&o, l, "DAP")
		case f.Name == "gtin":
			f.SetText(&o, l, "2004417001597")
		default:
			_ = a
			f.SetText(&o, l, words[r.IntN(len(words))])
		}
	}
	for i := range m.Levels[mapping.InHeader] {
		put(nil, &m.Levels[mapping.InHeader][i])
	}
	for i := range m.Levels[mapping.InHeader] { // a release of a blanket order has both numbers
		if b := &m.Levels[mapping.InHeader][i]; b.Field.Name == "reference.release" && b.Field.Value(&o, nil) != "" {
			o.SenderNumber += " / " + b.Field.Value(&o, nil)
		}
	}
	for n := range lines {
		o.Lines = append(o.Lines, order.Line{})
		l := &o.Lines[n]
		for i := range m.Levels[mapping.InLines] {
			put(l, &m.Levels[mapping.InLines][i])
		}
		// to so many places that several segments are needed, or on days
		if m.Parts[mapping.InDeliveries] != nil && r.IntN(3) == 0 {
			days := r.IntN(2) == 0
			for k := range 2 + r.IntN(24) {
				d := order.ScheduledDelivery{Quantity: order.MustNumber(fmt.Sprintf("%d.%d5", 1+r.IntN(999), r.IntN(10)))}
				if d.Location = fmt.Sprintf("%04d", 40+k); days {
					d.RequestedDeliveryOn = order.Date(fmt.Sprintf("2026-%02d-%02d", 1+r.IntN(12), 1+r.IntN(28)))
				}
				if r.IntN(5) == 0 {
					d.Unit = "PA"
				}
				l.Deliveries = append(l.Deliveries, d)
			}
		}
		if l.Number == "" || m.Parts[mapping.InLines].Apart != nil {
			l.Number = fmt.Sprint(n + 1)
		}
		// one more statement of the line
		if before := n - 1; m.Parts[mapping.InLines].Apart != nil && n > 0 && r.IntN(3) == 0 {
			said := l.Statement
			*l = o.Lines[before]
			if l.Statement = said; said != nil && o.Lines[before].Statement != nil {
				said.Reason, said.Asked = o.Lines[before].Statement.Reason, o.Lines[before].Statement.Asked
			}
		}
	}
	if m.Levels[mapping.InCharges] != nil {
		o.Charges = []order.Charge{{Code: "freight", Amount: order.MustNumber("18.5")},
			{Allowance: true, Code: "discount", Amount: order.MustNumber("7")}}
	}
	o.Number = ""
	return o
}

// What is written is read back the same, for every set, in several styles, and
// the dictionary has nothing to say against it.
func TestWriteAndReadX12(t *testing.T) {
	styles := []x12.Style{
		{Delimiters: x12.Delimiters{Element: '*', Component: '>', Segment: '~'}, Version: "004010",
			Characters: "extended", Delimiter: "replace"},
		{Delimiters: x12.Delimiters{Element: '|', Component: '\\', Segment: '\n', Repetition: '^'}, Version: "005010",
			Characters: "utf-8", Delimiter: "refuse"},
		{Delimiters: x12.Delimiters{Element: 0x1d, Component: 0x1f, Segment: 0x1c}, Version: "004010", LineEnds: true,
			Characters: "extended"},
	}
	for _, name := range mapping.StandardNames() {
		text := strings.Replace(mapping.Standard(name), "partner: {from: ISA/06, list: customers, need: must}",
			"partner: {from: ISA/06, need: must}", 1)
		m := parse(t, text)
		for seed := range uint64(60) {
			r := rand.New(rand.NewPCG(seed, 7))
			style := styles[seed%3]
			orders := []order.Order{anyOrder(r, m, 1+r.IntN(5))}
			for m.Document.Records != nil && len(orders) < 1+int(seed%3) {
				more := anyOrder(r, m, 1+r.IntN(3))
				said := *orders[0].Statement // what stands around the orders is the same for all
				more.Statement = &said
				for _, b := range m.Levels[mapping.InHeader] {
					if b.Of == "document" && b.Field.Name != "partner" && b.Field.Kinds == nil {
						b.Field.SetText(&more, nil, b.Field.Value(&orders[0], nil))
					}
				}
				if more.SenderNumber != orders[0].SenderNumber { // else it is the same order
					orders = append(orders, more)
				}
			}
			if s := orders[0].Statement; m.Document.Set == "810" && s != nil {
				s.Reverses = "" // an invoice, by its purpose, takes nothing back
			}
			w, err := x12.NewWriting(m.Document.Set, &style)
			if err != nil {
				t.Fatal(err)
			}
			for _, f := range writing.Compose(m, w, orders, &list.Set{}, seed%2 == 0) {
				t.Fatalf("%s %d: %v", name, seed, f.Error())
			}
			if m.Document.Set == "810" && w.Get(mustAddress(t, "TDS/01")) == "" {
				w.Put(w.Root(), mustAddress(t, "TDS/01"), "1.00")
				orders[0].StatedTotal = order.MustNumber("1")
			}
			for _, need := range map[string][][2]string{"850": {{"BEG/05", "2026-03-02"}},
				"855": {{"BAK/02", "AC"}, {"BAK/04", "2026-03-02"}}, "860": {{"BCH/06", "2026-03-02"}},
				"865": {{"BCA/02", "AC"}, {"BCA/06", "2026-03-02"}},
				"856": {{"BSN/03", "2026-03-02"}, {"BSN/04", "1200"}}}[m.Document.Set] {
				if w.Get(mustAddress(t, need[0])) == "" {
					w.Put(w.Root(), mustAddress(t, need[0]), need[1])
				}
			}
			var b bytes.Buffer
			e := x12.Envelope{SenderQualifier: "ZZ", Sender: "QUILLMERE", ReceiverQualifier: "ZZ", Receiver: "PELLOW",
				GroupSender: "QUILLMERE", GroupReceiver: "PELLOW", Usage: "T", Control: 31, Group: 12,
				At: time.Date(2026, 3, 16, 8, 5, 0, 0, time.UTC)}
			if err := e.Write(&b, &style, []*x12.Writing{w}); err != nil {
				t.Fatal(name, err)
			}
			doc := b.Bytes()
			if err := x12.Read(bytes.NewReader(doc), x12.Handler{Finding: func(f x12.Finding) error {
				t.Errorf("%s %d: %+v", name, seed, f)
				return nil
			}, Set: func(s *x12.Set) error {
				placed, found := x12.Check(s)
				for _, f := range append(found, x12.CheckCount(s, placed)...) {
					{
						t.Errorf("%s %d: %s %s %s\n%q", name, seed, f.Place, f.Code, f.Message, doc)
					}
				}
				return nil
			}}); err != nil {
				t.Fatal(err)
			}
			got := readX12(t, m, doc)
			if len(got) != len(orders) {
				t.Fatalf("%s %d: %d orders of %d\n%q", name, seed, len(got), len(orders), doc)
			}
			for i := range orders {
				for _, c := range order.Diff(&orders[i], &got[i]) {
					if c.Field == "partner" || (c.Field == "shipped_on" || c.Field == "told_on") && c.Was == "" ||
						c.Field == "ordered_on" && c.Was == "" || strings.HasPrefix(c.Field, "answer") && c.Was == "" ||
						c.Field == "shipped_at" && c.Was == "" {
						continue
					}
					t.Errorf("%s %d: order %d %s\n%s", name, seed, i+1, c.String(), doc)
				}
			}
			if t.Failed() {
				return
			}
		}
	}
}

func mustAddress(t testing.TB, text string) *x12.Address {
	a, err := x12.ParseAddress(text)
	if err != nil {
		t.Fatal(err)
	}
	return a
}

func readX12(t testing.TB, m *mapping.Mapping, doc []byte) (orders []order.Order) {
	t.Helper()
	src, err := source.Open(bytes.NewReader(doc), int64(len(doc)), m.Options(source.DefaultLimits))
	if err != nil {
		t.Fatal(err)
	}
	table := NewTable(m, src, nil)
	for {
		g, err := table.Next()
		if err == io.EOF {
			return orders
		}
		if err != nil {
			t.Fatal(err)
		}
		orders = append(orders, Read(m, &g, &list.Set{}).Order)
	}
}

// What rejects a functional group may stand behind its sets: none of them is an order, whichever way the document came,
// and the sets of other groups are.
func TestGroupRejectedAtItsTrailer(t *testing.T) {
	m := parse(t, strings.Replace(mapping.Standard("x12-850"), "partner: {from: ISA/06, list: customers, need: must}",
		"partner: {value: P}", 1))
	set := func(n int) string {
		return fmt.Sprintf("ST*850*%04[1]d~BEG*00*SA*PM-%[1]d**20260316~CUR*BY*EUR~PO1*1*20*MR*1.33*PE*VP*00113~CTT*1~SE*6*%04[1]d~", n)
	}
	for _, c := range []struct{ name, first, second, want string }{
		{"both sound", "GE*2*1~", "GE*1*2~", "[PM-1 PM-2 PM-3]"},
		{"the first counts another number of sets", "GE*3*1~", "GE*1*2~", "[PM-3]"},
		{"the second ends with another control number", "GE*2*1~", "GE*1*9~", "[PM-1 PM-2]"},
		{"the first has no trailer", "", "GE*1*2~", "[PM-3]"},
	} {
		doc := "ISA*00*          *00*          *ZZ*PELLOW         *ZZ*QUILLMERE      *260316*0930*U*00401*000000041*0*P*>~" +
			"GS*PO*PELLOW*QUILLMERE*20260316*0930*1*X*004010~" + set(1) + set(2) + c.first +
			"GS*PO*PELLOW*QUILLMERE*20260316*0930*2*X*004010~" + set(3) + c.second + "IEA*2*000000041~"
		src, err := source.Open(strings.NewReader(doc), int64(len(doc)), m.Options(source.DefaultLimits))
		if err != nil {
			t.Fatal(err)
		}
		got := []string{}
		for table := NewTable(m, src, nil); ; {
			g, err := table.Next()
			if err == io.EOF {
				break
			}
			if err != nil {
				t.Fatal(c.name, err)
			}
			if d := Read(m, &g, &list.Set{}); !d.Refused() && !d.Orphan {
				got = append(got, d.Order.SenderNumber)
			}
		}
		if fmt.Sprint(got) != c.want {
			t.Errorf("%s: %s, not %s", c.name, got, c.want)
		}
	}
}

// An address that leads out of the line's loop is read from the set around it, and is not written for one line.
func TestOutsideOfTheLoop(t *testing.T) {
	m := parse(t, strings.Replace(strings.Replace(mapping.Standard("x12-850"), "list: customers, ", "", 1),
		"  notes: {from: [PO1/N9", "  custom.order: {from: BEG/03}\n  notes: {from: [PO1/N9", 1))
	doc := ordersOfX12(1, 3)
	d := firstOf(t, m, doc)
	for i := range d.Order.Lines {
		if c := d.Order.Lines[i].Custom; len(c) != 1 || c[0].Value != "PM-0" {
			t.Errorf("line %d: %+v", i+1, c)
		}
	}
	if p := d.Trace.Place(2, "custom.order"); p.String() != "ST 000000001 / BEG / 03" {
		t.Error(p.String())
	}
	w, err := x12.NewWriting("850", &x12.Style{Delimiters: x12.Delimiters{Element: '*', Component: '>', Segment: '~'}, Version: "004010"})
	if err != nil {
		t.Fatal(err)
	}
	found := writing.Compose(m, w, []order.Order{d.Order}, &list.Set{}, false)
	if len(found) != 3 || found[0].Code != finding.FieldUnwritten || found[0].Field != "custom.order" || found[0].Value != "PM-0" {
		t.Errorf("%+v", found)
	}
}
