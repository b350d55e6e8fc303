package load

import (
	"bytes"
	"context"
	"fmt"
	"strings"
	"testing"

	"github.com/xuri/excelize/v2"

	"koinos/api"
	"koinos/core/finding"
	"koinos/core/mapping"
	"koinos/core/outcome"
	"koinos/core/source"
	"koinos/store"
)

func parseFindings(text string) []finding.Finding {
	_, err := mapping.Parse([]byte(text))
	return finding.Of(err)
}

func orders(t *testing.T, e *Engine) []api.OrderSummary {
	t.Helper()
	list, _, err := e.store.Orders(context.Background(), store.OrderFilter{Limit: 10_000})
	if err != nil {
		t.Fatal(err)
	}
	return list
}

// manyOrders is a CSV of n good orders of two lines, and one with a mistake
// behind every tenth.
func manyOrders(n int) (doc []byte, bad int) {
	var b strings.Builder
	b.WriteString(head)
	for i := range n {
		fmt.Fprintf(&b, "A-%d,2026-03-02,00417,%d,9.50\nA-%d,2026-03-02,00501,1,64.50\n", i, i%7+1, i)
		if i%10 == 9 {
			bad++
			fmt.Fprintf(&b, "B-%d,2026-03-02,99999,1,9.50\n", i)
		}
	}
	return []byte(b.String()), bad
}

func TestLoading(t *testing.T) {
	const n = 2_500 // several batches and transactions
	doc, bad := manyOrders(n)
	clean := []byte(head + "C-1,2026-03-02,00417,2,9.50\nC-2,2026-03-02,00501,1,64.50\n")
	steps := []struct {
		name   string
		doc    []byte
		req    Request
		want   outcome.Counts // the outcomes
		stored int            // orders in the store afterwards
	}{
		{"a dry run stores nothing", doc, Request{Options: outcome.Options{DryRun: true}},
			outcome.Counts{Ready: n, Refused: bad}, 0},
		{"all or none with a bad order stores nothing", doc, Request{Options: outcome.Options{AllOrNone: true}},
			outcome.Counts{Withheld: n, Refused: bad}, 0},
		{"valid orders are loaded even if others fail", doc, Request{}, outcome.Counts{Loaded: n, Refused: bad}, n},
		{"the same document again makes no second order", doc, Request{}, outcome.Counts{Unchanged: n, Refused: bad},
			n},
		{"a dry run sees what is stored", doc, Request{Options: outcome.Options{DryRun: true}},
			outcome.Counts{Unchanged: n, Refused: bad}, n},
		{"all or none of good orders stores all", clean, Request{Options: outcome.Options{AllOrNone: true}},
			outcome.Counts{Loaded: 2}, n + 2},
		{"all or none again changes nothing", clean, Request{Options: outcome.Options{AllOrNone: true}},
			outcome.Counts{Unchanged: 2}, n + 2},
	}
	e := testEngine(t, testStore(t), source.DefaultLimits)
	for _, s := range steps {
		l := send(t, e, plainMapping, s.doc, s.req)
		got := outcome.Counts{Loaded: l.Loaded, Ready: l.Ready, Unchanged: l.Unchanged, Refused: l.Refused,
			Withheld: l.Withheld}
		if l.Status != outcome.Done || got != s.want {
			t.Fatalf("%s: %s %+v, want %+v", s.name, l.Status, got, s.want)
		}
		if have := len(orders(t, e)); have != s.stored {
			t.Fatalf("%s: %d orders are stored, want %d", s.name, have, s.stored)
		}
		var outcomes int
		for after := 0; ; {
			page, _, err := e.store.Outcomes(context.Background(), l.ID, store.OutcomeFilter{After: after, Limit: 1000})
			if err != nil {
				t.Fatal(err)
			}
			if len(page) == 0 {
				break
			}
			outcomes += len(page)
			after = page[len(page)-1].Seq
		}
		if outcomes != l.Orders {
			t.Errorf("%s: %d outcomes for %d orders", s.name, outcomes, l.Orders)
		}
	}
	// Numbers follow the document, without gaps.
	list := orders(t, e)
	for i, o := range list {
		if want := fmt.Sprintf("SO-%06d", len(list)-i); o.Number != want {
			t.Fatalf("order %d has number %s, want %s", i, o.Number, want)
		}
	}
}

// A stored order says the same as the document, and where each value stands.
func TestStoredOrder(t *testing.T) {
	text := strings.Replace(plainMapping, "lines:", `  ship_to.city: {from: City}
  custom.hull: {from: Hull}
  charge.freight: {value: 5}
lines:
  gtin: {from: EAN}
  tax_percent: {value: 20}`, 1)
	e := testEngine(t, testStore(t), source.DefaultLimits)
	l := send(t, e, text,
		[]byte("Order,Date,Item,Qty,Price,City,Hull,EAN\nA-1,2026-03-02,00417,2,9.50,Ostrand,H7,0012345678905\n"+
			",,,,,,,\nA-1,,00501,1,64.50,,,\n"), Request{})
	if l.Loaded != 1 {
		t.Fatalf("%+v", l)
	}
	o, err := e.store.Order(context.Background(), 1)
	if err != nil {
		t.Fatal(err)
	}
	from, trace := o.Base()
	have := map[string]string{}
	o.Each(func(line int, field, value string) {
		have[fmt.Sprintf("%d %s", line, field)] = value + " @ " + trace.Place(line, field).String()
	})
	for key, want := range map[string]string{
		"0 sender_number": "A-1 @ row 2 column 1", "0 ordered_on": "2026-03-02 @ row 2 column 2",
		"0 partner": "OSTRAND @ ", "0 ship_to.city": "Ostrand @ row 2 column 6",
		"0 custom.hull": "H7 @ row 2 column 7", "0 charge.freight": "5 @ ", "1 gtin": "0012345678905 @ row 2 column 8",
		"1 item": "00417 @ row 2 column 3",
		"2 item": "00501 @ row 4 column 3", "2 quantity": "1 @ row 4 column 4", "2 number": "2 @ ",
		"1 tax_percent": "20 @ ",
	} {
		if have[key] != want {
			t.Errorf("%s is %q, want %q", key, have[key], want)
		}
	}
	// 2 × 9.50 + 64.50 = 83.50, 20 % tax is 3.80 + 12.90, freight 5.
	if o.Goods.String() != "83.50" || o.Tax.String() != "16.70" || o.Total.String() != "105.20" || o.Status != "open" {
		t.Errorf("goods %s tax %s total %s status %s", o.Goods, o.Tax, o.Total, o.Status)
	}
	if len(o.Events) != 1 || o.Events[0].Origin.By != "test" || o.Events[0].Origin.Load != l.ID ||
		from.Mapping != "example" {
		t.Errorf("events %+v", o.Events)
	}
}

// A load that is stopped leaves whole orders, and the next run of the document goes on.
func TestCancelAndRestart(t *testing.T) {
	doc, bad := manyOrders(30_000)
	s := testStore(t)
	e := testEngine(t, s, source.DefaultLimits)
	ctx := context.Background()
	sha, _ := received(t, s, doc, plainMapping)
	l, err := e.Start(ctx, Request{Document: sha, Mapping: "example", By: "test"})
	if err != nil {
		t.Fatal(err)
	}
	for l.Loaded == 0 && !l.Status.Ended() {
		if l, err = e.Get(ctx, l.ID); err != nil {
			t.Fatal(err)
		}
	}
	if err := e.Cancel(ctx, l.ID); err != nil {
		t.Fatal(err)
	}
	if l, err = e.Wait(ctx, l.ID); err != nil || l.Status != outcome.Cancelled || l.Loaded == 0 || l.Loaded == 30_000 {
		t.Fatalf("cancelled load: %v %+v", err, l)
	}
	if have := len(orders(t, e)); have != min(l.Loaded, 10_000) {
		t.Errorf("%d orders stored, the load says %d", have, l.Loaded)
	}
	again := send(t, e, plainMapping, doc, Request{})
	if again.Unchanged != l.Loaded || again.Loaded != 30_000-l.Loaded || again.Refused != bad {
		t.Errorf("the second run: %+v after %+v", again.Counts, l.Counts)
	}
}

// Two documents at once never give two orders of one identity, nor one number twice.
func TestTwoLoadsAtOnce(t *testing.T) {
	doc, _ := manyOrders(3_000)
	e := testEngine(t, testStore(t), source.DefaultLimits)
	other := append([]byte(nil), doc...)
	other = append(other, "Z-1,2026-03-02,00417,1,9.50\n"...)
	done := make(chan outcome.Load, 2)
	for _, d := range [][]byte{doc, other} {
		go func() { done <- send(t, e, plainMapping, d, Request{}) }()
	}
	a, b := <-done, <-done
	if a.Loaded+b.Loaded != 3_001 || a.Unchanged+b.Unchanged != 3_000 {
		t.Errorf("%+v and %+v", a.Counts, b.Counts)
	}
	numbers := map[string]bool{}
	for _, o := range orders(t, e) {
		if numbers[o.Number] {
			t.Fatalf("number %s twice", o.Number)
		}
		numbers[o.Number] = true
	}
}

// A pattern may fit several sheets: each has its own heading, and no order
// runs over two.
func TestSeveralSheets(t *testing.T) {
	f := excelize.NewFile()
	for i, name := range []string{"Orders north", "Notes", "Orders south"} {
		if _, err := f.NewSheet(name); err != nil {
			t.Fatal(err)
		}
		rows := [][]any{{"Order", "Date", "Item", "Qty", "Price"}, {"", "", "00417", 1, 9.5},
			{fmt.Sprintf("A-%d", i), "2026-03-02", "00417", 2, 9.5}}
		if i == 2 { // another order of columns, further down
			rows = [][]any{{"South"}, {}, {"Price", "Qty", "Item", "Date", "Order"},
				{64.5, 1, "00501", "2026-03-02", "A-2"}, {9.5, 3, "00417", "", ""}}
		}
		for r, row := range rows {
			must(f.SetSheetRow(name, fmt.Sprintf("A%d", r+1), &row))
		}
	}
	var doc bytes.Buffer
	must(f.Write(&doc))
	e := testEngine(t, testStore(t), source.DefaultLimits)
	l := send(t, e, strings.Replace(plainMapping, "orders:", "document: {sheet: \"orders *\"}\norders:", 1),
		doc.Bytes(), Request{})
	if l.Loaded != 2 || l.Refused != 1 || l.Lines != 3 {
		t.Fatalf("%+v", l.Counts)
	}
	sheets, err := e.store.Sheets(context.Background(), l.ID)
	if err != nil || fmt.Sprint(sheets) != "[Orders north Orders south]" {
		t.Errorf("sheets %v %v", sheets, err)
	}
	o, err := e.store.Order(context.Background(), 2)
	if err != nil {
		t.Fatal(err)
	}
	if _, trace := o.Base(); trace.Place(2, "quantity").String() != "'Orders south'!B5" ||
		trace.Place(0, "ordered_on").String() != "'Orders south'!D4" {
		t.Errorf("%+v", trace)
	}
}

// A corrected document brings in what was refused and leaves alone what is in;
// orders that nobody numbered are known by their document.
func TestCorrectedDocument(t *testing.T) {
	e := testEngine(t, testStore(t), source.DefaultLimits)
	wrong := head + "A-1,2026-03-02,00417,2,9.50\nA-2,2026-03-02,0O417,1,9.50\nA-3,2026-03-02,00501,1,64.50\n"
	if l := send(t, e, plainMapping, []byte(wrong), Request{}); l.Loaded != 2 || l.Refused != 1 {
		t.Fatalf("%+v", l.Counts)
	}
	right := head + "A-0,2026-03-01,00417,1,9.50\n" + strings.Replace(strings.TrimPrefix(wrong, head), "0O417", "00417",
		1)
	if l := send(t, e, plainMapping, []byte(right), Request{}); l.Loaded != 2 || l.Unchanged != 2 || l.Refused != 0 {
		t.Errorf("corrected: %+v", l.Counts)
	}
	nameless := strings.Replace(plainMapping, "  sender_number: {from: Order, need: must}\n", "", 1)
	for i, want := range []outcome.Counts{{Loaded: 4, Warnings: 4}, {Unchanged: 4, Warnings: 4}} {
		if l := send(t, e, nameless, []byte(right), Request{}); l.Loaded != want.Loaded ||
			l.Unchanged != want.Unchanged || l.Warnings != want.Warnings {
			t.Errorf("nameless, time %d: %+v", i+1, l.Counts)
		}
	}
}
