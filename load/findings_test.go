package load

import (
	"archive/zip"
	"bytes"
	"context"
	"flag"
	"fmt"
	"io"
	"log/slog"
	"os"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/xuri/excelize/v2"

	"koinos/api"
	"koinos/core/finding"
	"koinos/core/list"
	"koinos/core/mapping"
	"koinos/core/origin"
	"koinos/core/outcome"
	"koinos/core/source"
	"koinos/jobs"
	"koinos/store"
)

var update = flag.Bool("update", false, "write docs/findings.md anew")

// plainMapping is what the examples are read with unless they say otherwise.
const plainMapping = `koinos: mapping/1
name: example
orders:
  kind: sales
  group: {by: key, columns: [Order]}
header:
  sender_number: {from: Order, need: must}
  partner:       {value: OSTRAND}
  ordered_on:    {from: Date}
  currency:      {value: EUR}
lines:
  item:       {from: Item, list: items}
  quantity:   {from: Qty, need: must}
  unit_price: {from: Price}
`

// example shows a code at work: the last of docs is loaded and must give
// exactly this finding at this place.
type example struct {
	code   finding.Code
	change string        // of plainMapping: old → new, lines by ;
	doc    string        // a CSV; what a reader of the docs sees
	bytes  func() []byte // the document where it is no CSV
	shown  string        // what the docs say about such a document
	before string        // a CSV loaded first
	at     string        // place of the finding
	says   string        // part of its message or hint
	whole  string        // a mapping of its own; what is loaded before goes through plainMapping
	apart  bool          // the exchange finds it; its own test sees that it does
}

// orders850 is a mapping that reads X12, and order850 an interchange of one order.
const orders850 = `koinos: mapping/1
name: example
extends: x12-850
header:
  partner: {value: OSTRAND}
`

func order850(segments string) string {
	n := strings.Count(segments, "~") + 2
	return fmt.Sprintf("ISA*00*          *00*          *ZZ*OSTRAND        *ZZ*QUILLMERE      "+
		"*260302*0930*U*00401*000000041*0*T*>~\nGS*PO*OSTRAND*QUILLMERE*20260302*0930*7*X*004010~\nST*850*0001~\n%sSE*%d*0001~\nGE*1*7~\nIEA*1*000000041~\n", segments, n)
}

// aBook is a workbook with one good order.
func aBook() []byte {
	f := excelize.NewFile()
	must(f.SetSheetRow("Sheet1", "A1", &[]any{"Order", "Date", "Item", "Qty", "Price"}))
	must(f.SetSheetRow("Sheet1", "A2", &[]any{"A-1", "2026-03-02", "00417", 2, 9.5}))
	var b bytes.Buffer
	must(f.Write(&b))
	return b.Bytes()
}

// cellD2 is the same workbook with the quantity's cell as other programs write it.
func cellD2(xml string) func() []byte {
	return func() []byte {
		old := aBook()
		r, err := zip.NewReader(bytes.NewReader(old), int64(len(old)))
		must(err)
		var b bytes.Buffer
		w := zip.NewWriter(&b)
		for _, f := range r.File {
			in, err := f.Open()
			must(err)
			part, err := io.ReadAll(in)
			must(err)
			if f.Name == "xl/worksheets/sheet1.xml" {
				part = regexp.MustCompile(`<c r="D2".*?</c>`).ReplaceAll(part, []byte(xml))
			}
			out, err := w.Create(f.Name)
			must(err)
			_, err = out.Write(part)
			must(err)
		}
		must(w.Close())
		return b.Bytes()
	}
}

// changes is a mapping of a sheet that changes lines of orders.
const changes = `koinos: mapping/1
name: changes
orders: {kind: change, of: sales, group: {by: key, columns: [Order]}}
header:
  sender_number: {from: Order, need: must}
  partner:       {value: OSTRAND}
lines:
  number:   {from: Line}
  item:     {from: Item}
  change:   {from: What}
  quantity: {from: Qty}
`

const changeHead = "Order,Line,Item,What,Qty\n"

func ndjson() []byte {
	return []byte(`{"Order": "A-1", "Item": "00417", "Qty": 1}
{"Order": "A-1", "Item": "00
{"Order": "A-2", "Item": "00501", "Qty": 2}
`)
}

func must(err error) {
	if err != nil {
		panic(err)
	}
}

const head = "Order,Date,Item,Qty,Price\n"

var examples = []example{
	{code: finding.FormatUnknown, bytes: func() []byte { return []byte("%PDF-1.7\n%âãÏÓ\n1 0 obj\n") }, shown: "a PDF",
		says: "This is a PDF"},
	{code: finding.DocumentBroken, bytes: func() []byte { b := aBook(); return b[:len(b)*2/3] },
		shown: "a workbook of which a third is missing", says: "cut short"},
	{code: finding.DocumentEmpty, doc: head, says: "No row below the heading"},
	{code: finding.DocumentTooLarge, doc: head + strings.Repeat("A-1,2026-03-02,00417,1,9.50\n", 12),
		shown: "13 rows where the service takes 12", at: "row 13", says: "more than 12 rows"},
	{code: finding.SheetMissing, change: "orders: → document: {sheet: Orders}; orders:", bytes: aBook,
		shown: "a workbook whose only sheet is Sheet1", says: "Sheet1"},
	{code: finding.HeadingMissing, change: "orders: → document: {heading: {find: [Article]}}; orders:",
		doc: head + "A-1,2026-03-02,00417,2,9.50\n", says: "Article"},
	{code: finding.RecordBroken, bytes: ndjson, shown: "three lines of NDJSON, of which the second is cut short",
		at: "line 2", says: "is not JSON"},
	{code: finding.NameTwice, bytes: func() []byte {
		return []byte(`[{"Order": "A-1", "Item": "00417", "Qty": 1, "Qty": 2}]`)
	}, shown: "an order whose Qty stands twice", at: "/0/Qty", says: `"Qty" stands twice`},
	{code: finding.TextBehind,
		bytes: func() []byte { return []byte(`[{"Order": "A-1", "Item": "00417", "Qty": 1}] and more`) },
		shown: "a JSON document with words behind its end", says: "behind the end"},
	{code: finding.DatesDecided,
		change: `ordered_on:    {from: Date} → ordered_on:    {from: Date, dates: [d/m/yyyy, m/d/yyyy]}`,
		doc:    head + "A-1,3/4/2026,00417,2,9.50\nA-2,3/17/2026,00417,2,9.50\n", at: "row 1 column 2",
		says: "1 values can only be m/d/yyyy"},
	{code: finding.DateAmbiguous,
		change: `ordered_on:    {from: Date} → ordered_on:    {from: Date, dates: [d/m/yyyy, m/d/yyyy]}`,
		doc:    head + "A-1,3/4/2026,00417,2,9.50\n", at: "row 1 column 2", says: "each of the 1 values"},
	{code: finding.NotABoolean,
		change: "currency:      {value: EUR} → custom.urgent: {from: Date, type: boolean, yes: ja}",
		doc:    head + "A-1,vielleicht,00417,2,9.50\n", at: "row 2 column 2", says: "neither true nor false"},
	{code: finding.ExpressionFailed,
		change: "quantity:   {from: Qty, need: must} → quantity:   {from: Qty, expr: 'num(value) / " +
			"num(col(\"Price\"))'}", doc: head + "A-1,2026-03-02,00417,2,0\n", at: "row 2 column 4",
		says: "division by zero"},
	{code: finding.NearMatch,
		change: "item:       {from: Item, list: items} → item:       {from: Item, list: items, by: name, near: 2}",
		doc:    head + "A-1,2026-03-02,Shackel,2,9.50\n", at: "row 2 column 3", says: "taken for Shackle (00417)"},
	{code: finding.ListAmbiguous,
		change: "item:       {from: Item, list: items} → item:       {from: Item, list: items, by: shelf}",
		doc:    head + "A-1,2026-03-02,S1,2,9.50\n", at: "row 2 column 3", says: "several entries"},
	{code: finding.CurrencyDiffers, doc: head + "A-1,2026-03-02,00417,2,USD 9.50\n", at: "row 2 column 5",
		says: `"USD", but the order is in EUR`},
	{code: finding.RowKindUnknown,
		change: "group: {by: key, columns: [Order]} → group: {by: rowkind, kind: Date, kinds: {H: header, L: line}}",
		doc:    head + "A-1,H,,,\n,L,00417,2,9.50\n,Z,00501,1,9.50\n", at: "row 4 column 2", says: `kind "Z"`},
	{code: finding.ColumnMissing, doc: "Order,Date,Item,Quantity,Price\nA-1,2026-03-02,00417,2,9.50\n", at: "row 1",
		says: `no column "Qty"`},
	{code: finding.ColumnAmbiguous, doc: "Order,Date,Item,Qty,Price,Qty\nA-1,2026-03-02,00417,2,9.50,2\n",
		at: "row 1 column 6", says: "columns D and F"},
	{code: finding.ListMissing, change: "list: items → list: articles", doc: head + "A-1,2026-03-02,00417,2,9.50\n",
		at: "mapping line 12 column 3", says: "articles"},
	{code: finding.StorageFailed, shown: "any document, on a full disk"},
	{code: finding.KoinosFailed, shown: "one that Koinos has a mistake with"},

	{code: finding.EncodingInvalid, change: "orders: → document: {encoding: utf-8}; orders:",
		bytes: func() []byte { return []byte(head + "A-1,2026-03-02,00417,2,9.50\nA-2\xe9,2026-03-02,00417,2,9.50\n") },
		shown: "a Windows-1252 é where the mapping says utf-8", at: "row 3 column 1",
		says: "not text in the document's encoding"},
	{code: finding.ControlCharacter, bytes: func() []byte {
		return []byte(head + "A-1,2026-03-02,00417,2,9.50\nA-2,2026-03-02,\x0000417,2,9.50\n")
	}, shown: "a NUL byte in front of an item code", at: "row 3 column 3", says: "NUL"},
	{code: finding.QuoteUnclosed, doc: head + "A-1,2026-03-02,\"00417,2,9.50\nA-2,2026-03-02,00417,2,9.50\n",
		at: "row 2 column 3", says: "never closed"},
	{code: finding.QuoteStray, doc: head + "A-1,2026-03-02,\"00\"417,2,9.50\n", at: "row 2 column 3",
		says: "behind the closing"},
	{code: finding.CellTooLong, doc: head + "A-1,2026-03-02,00417,2,9.50," + strings.Repeat("x", 40_000) + "\n",
		shown: "a cell of 40,000 letters", at: "row 2 column 6", says: "40000 bytes"},
	{code: finding.RowTooWide, doc: head + "A-1,2026-03-02,00417,2,9.50\nA-2,2026-03-02,00417,2,9,50\n",
		at: "row 3 column 6", says: "6 cells, the heading 5"},
	{code: finding.CellError, bytes: cellD2(`<c r="D2" t="e"><f>1/0</f><v>#DIV/0!</v></c>`),
		shown: "a cell that shows #DIV/0!", at: "Sheet1!D2", says: "#DIV/0!"},
	{code: finding.FormulaUnkept, bytes: cellD2(`<c r="D2"><f>1+1</f></c>`),
		shown: "a formula written by a program that did not calculate it", at: "Sheet1!D2",
		says: "result was not saved"},

	{code: finding.MustMissing, doc: head + "A-1,2026-03-02,00417,,9.50\n", at: "row 2 column 4",
		says: "quantity must be there"},
	{code: finding.ShouldMissing, change: "{from: Date} → {from: Date, need: should}",
		doc: head + "A-1,,00417,2,9.50\n", at: "row 2 column 2", says: "ordered_on should be there"},
	{code: finding.NotADate, doc: head + "A-1,31.02.2026,00417,2,9.50\n", at: "row 2 column 2", says: "yyyy-mm-dd"},
	{code: finding.NotANumber, doc: head + "A-1,2026-03-02,00417,two,9.50\n", at: "row 2 column 4",
		says: "not a number for quantity"},
	{code: finding.NumberMangled, change: "{from: Item, list: items} → {from: Item}",
		doc: head + "A-1,2026-03-02,4.00638E+12,2,9.50\n", at: "row 2 column 3", says: "a spreadsheet has rounded it"},
	{code: finding.UnknownCurrency, change: "{value: EUR} → {from: Price}", doc: head + "A-1,2026-03-02,00417,2,9.50\n",
		at: "row 2 column 5", says: "not a currency"},
	{code: finding.UnknownUnit, change: "lines: → lines:;   unit: {from: Price}",
		doc: head + "A-1,2026-03-02,00417,2,dozzen\n", at: "row 2 column 5", says: "not in the list units"},
	{code: finding.UnknownChoice, change: "currency:      {value: EUR} → tax_treatment: {from: Price}",
		doc: head + "A-1,2026-03-02,00417,2,net\n", at: "row 2 column 5", says: "inclusive"},
	{code: finding.UnknownCode, doc: head + "A-1,2026-03-02,0O417,2,9.50\n", at: "row 2 column 3",
		says: "Nearest in the list: 00417 (Shackle)"},
	{code: finding.CrosswalkMissing, change: "lines: → lines:;   location: {from: Price, crosswalk: yards}",
		doc: head + "A-1,2026-03-02,00417,2,Eats yard\n", at: "row 2 column 5", says: `"East yard"`},
	{code: finding.QuantityNegative, doc: head + "A-1,2026-03-02,00417,-2,9.50\n", at: "row 2 column 4", says: "-2"},
	{code: finding.OutOfRange, change: "lines: → lines:;   discount_percent: {from: Price}",
		doc: head + "A-1,2026-03-02,00417,2,150\n", at: "row 2 column 5", says: "discount_percent is 150"},
	{code: finding.LineUnknown, whole: changes, before: head + "A-1,2026-03-02,00417,2,9.50\n",
		doc: changeHead + "A-1,7,00417,change,3\n", at: "row 2 column 2", says: "has no line 7 (00417)"},
	{code: finding.LineDiffers, whole: changes, before: head + "A-1,2026-03-02,00417,2,9.50\n",
		doc: changeHead + "A-1,1,00501,change,3\n", at: "row 2 column 3", says: "is of another item: 00417"},
	{code: finding.QuantityZero, doc: head + "A-1,2026-03-02,00417,0,9.50\n", at: "row 2 column 4", says: "zero"},
	{code: finding.LineWithoutItem, doc: head + "A-1,2026-03-02,,2,9.50\n", at: "row 2 column 3",
		says: "names no item"},
	{code: finding.DatesOutOfOrder, change: "lines: → lines:;   requested_delivery_on: {from: Price}",
		doc: head + "A-1,2026-03-02,00417,2,2026-02-28\n", at: "row 2 column 5", says: "before the order was made"},
	{code: finding.AmountDiffers, change: "lines: → lines:;   amount: {from: Sum}",
		doc: "Order,Date,Item,Qty,Price,Sum\nA-1,2026-03-02,00417,2,9.50,20.00\n", at: "row 2 column 6",
		says: "says 20.00, but 2 × 9.50 is 19.00"},
	{code: finding.TotalDiffers, change: "header: → header:;   total: {from: Sum}",
		doc: "Order,Date,Item,Qty,Price,Sum\nA-1,2026-03-02,00417,2,9.50,28.50\n", at: "row 2 column 6",
		says: "says 28.50, but its lines make 19.00"},
	{code: finding.AmountTooLarge, doc: head + "A-1,2026-03-02,00417,9999999999999,9999999999.99\n", at: "row 2",
		says: "more digits"},
	{code: finding.HeaderDisagrees, doc: head + "A-1,2026-03-02,00417,2,9.50\nA-1,2026-03-03,00417,2,9.50\n",
		at: "row 3 column 2", says: "in row 2 of the same order"},
	{code: finding.LineBeforeHeader, doc: head + ",,00417,2,9.50\nA-1,2026-03-02,00417,2,9.50\n", at: "row 2 column 1",
		says: "which order it belongs to"},
	{code: finding.OrderWithoutLines, doc: head + "A-1,2026-03-02,,,\n", at: "row 2", says: "no line"},
	{code: finding.OrderTooLong, shown: "an order of more than 50,000 rows", says: "50000 rows"},
	{code: finding.IdentityMissing, change: "  sender_number: {from: Order, need: must} → ",
		doc: head + "A-1,2026-03-02,00417,2,9.50\n", at: "row 2", says: "not known"},
	{code: finding.IdentityRepeated,
		doc: head + "A-1,2026-03-02,00417,2,9.50\nA-2,2026-03-02,00417,2,9.50\nA-1,2026-03-02,00417,2,9.50\n",
		at:  "row 4 column 1", says: "began in row 2"},
	{code: finding.UpdateConflict, change: "  kind: sales →   kind: sales;   again: {do: update, missing: refuse}",
		before: head + "A-1,2026-03-02,00417,2,9.50\nA-1,,00501,1,64.50\n", doc: head + "A-1,2026-03-02,00417,3,9.50\n",
		at: "row 2", says: "The stored line 2 (00501) is missing"},
	{code: finding.NotNewer, change: "  kind: sales →   kind: sales;   again: {do: revise}",
		before: head + "A-1,2026-03-02,00417,2,9.50\n", doc: head + "A-1,2026-03-01,00417,3,9.50\n",
		at: "row 2 column 2", says: "is not after 2026-03-02"},
	{code: finding.ResultMissing,
		change: "{value: EUR} → {value: EUR};   reference.purchase: {result: purchase.number, need: must}",
		doc:    head + "A-1,2026-03-02,00417,2,9.50\n", at: "row 2", says: "only a run of a sequence has"},
	{code: finding.StepFailed,
		shown: "a sequence whose first step refused the order of row 2, and whose second step needs its number",
		at:    "row 2", says: "was refused in the step purchase"},
	{code: finding.IdentityStored, before: head + "A-1,2026-03-02,00417,2,9.50\n",
		doc: head + "A-1,2026-03-02,00417,3,9.50\n", at: "row 2 column 1", says: `line 1 quantity was "2", is "3"`},
	{code: finding.NumberTaken, change: "header: → header:;   number: {from: Price}",
		before: head + "A-1,2026-03-02,00417,2,9\n", doc: head + "A-2,2026-03-02,00417,3,9\n", at: "row 2 column 5",
		says: "OSTRAND A-1"},

	{code: finding.X12Envelope, whole: orders850,
		doc: strings.Replace(order850("BEG*00*SA*A-1**20260302~\nPO1*1*2*EA*9.50**VP*00417~\n"), "IEA*1", "IEA*2", 1),
		at:  "ISA 000000041", says: "IEA01 counts 2 functional groups; there are 1"},
	{code: finding.X12Rejected, whole: orders850, doc: order850("BEG*00**A-1**20260302~\nPO1*1*2*EA*9.50**VP*00417~\n"),
		at: "ST 0001 / BEG / 02", says: "BEG02 (Purchase Order Type Code) must be there"},
	{code: finding.X12Noted, whole: orders850,
		doc: order850("BEG*00*SA*A-1**20260302~\nPO1*1*2*EA*9.50**VP*00417~\nDTM*002*20260330*2561~\n"),
		at:  "ST 0001 / PO1 / DTM / 03", says: "is not a time written HHMM"},
	{code: finding.X12Rule, apart: true,
		shown: "a purchase order to a supplier whose rules ask for the supplier's item code on each line, and a line without one", at: "ST 0001 / PO1 #2", says: "A rule of VARNHOLT for 850: PO1/07 where PO1/06 = VP (Product/Service ID) must be there."},
	{code: finding.FieldUnwritten, apart: true,
		shown: "a purchase order with a carrier, and a partner's 850 that has no place for one",
		says:  "The mapping varnholt-850 has no place in 850 for carrier.name."},
	{code: finding.CharacterChanged, apart: true,
		shown: "an order to 12 Café Quay, for a partner with the basic characters", at: "N3 / 01",
		says: "Address Information was written \"12 CAFE QUAY\"."},
	{code: finding.NoticeDiffers, apart: true, shown: "an 855 that promises 80 of 100", at: "ST 0001 / PO1 / ACK / 01",
		says: "Line 1 is accepted with changes (IQ): quantity 80 of 100, price 0.71 for 0.71."},
	{code: finding.OrderUnknown, apart: true, shown: "an 860 that changes an order which never came",
		at: "ST 0001 / BCH / 03", says: "No sales order of PELLOW has the number \"PM-1\"."},
	{code: finding.PartnerUnknown, apart: true, shown: "an interchange from ids that no partner has",
		at: "ISA 000000001", says: "No partner has the ids ZZ:STRANGER (theirs) and ZZ:QUILLMERE (ours)."},
	{code: finding.PartnerInvalid, apart: true, shown: "a partner that names no kind", at: "kind",
		says: "kind is one of customer, supplier, not \"\"."},
	{code: finding.X12Duplicate, apart: true, shown: "an interchange whose control number has come before", at: "row 1",
		says: "The control number 000000905 came from PELLOW before, in interchange 1; nothing is done a second time."},
	{code: finding.NotSent, apart: true, shown: "a 997 for a group that was never sent", at: "row 3",
		says: "It acknowledges a group 4711, which was never sent to PELLOW."},

	{code: finding.MappingInvalid, change: "header: → header: [", says: "not readable YAML"},
	{code: finding.MappingUnknownKey, change: "quantity: → quantty:", at: "mapping line 13 column 3",
		says: `Did you mean "quantity"?`},
	{code: finding.MappingMissingKey, change: "  kind: sales → ", at: "mapping line 5 column 3", says: `needs "kind"`},
	{code: finding.MappingWrongValue, change: "kind: sales → kind: sale", at: "mapping line 4 column 9",
		says: `Did you mean "sales"?`},
}

func (e *example) mapping() string {
	text := plainMapping
	if e.whole != "" {
		return e.whole
	}
	if old, new, ok := strings.Cut(e.change, " → "); ok {
		text = strings.Replace(text, old, strings.ReplaceAll(new, "; ", "\n"), 1)
	}
	return text
}

// testStore is a store with the lists that the examples ask.
func testStore(t testing.TB) *store.Store {
	t.Helper()
	s, err := store.Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	ctx, now := context.Background(), time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC)
	for _, err := range []error{
		s.PutList(ctx, "items", []list.Entry{{Code: "00417", Name: "Shackle",
			Attributes: map[string]string{"shelf": "S1"}}, {Code: "00501", Name: "Lantern", Attributes: map[string]string{"shelf": "S1"}}}, now),
		s.PutList(ctx, "units", []list.Entry{{Code: "EA", Name: "piece"}}, now),
		s.PutCrosswalk(ctx, "yards", []list.Pair{{Theirs: "East yard", Ours: "0040"}}, now),
	} {
		if err != nil {
			t.Fatal(err)
		}
	}
	return s
}

var testLog = slog.New(slog.NewTextHandler(io.Discard, nil))

func testEngine(t testing.TB, s *store.Store, limits source.Limits) *Engine {
	t.Helper()
	e, _ := testService(t, s, limits)
	return e
}

// testService is an engine with the queue that does its jobs; stop ends it where
// it is, as a service that stops does.
func testService(t testing.TB, s *store.Store, limits source.Limits) (e *Engine, stop func()) {
	t.Helper()
	e = New(s, limits, time.Now, testLog)
	q := jobs.New(s, e.Kinds(), time.Now, testLog)
	e.Use(q)
	if err := q.Resume(context.Background(), false); err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() {
		defer close(done)
		q.Run(ctx)
	}()
	stop = func() {
		cancel()
		<-done
	}
	t.Cleanup(stop)
	return e, stop
}

func keep(s *store.Store, doc []byte) (string, int64, error) {
	return s.KeepFile(bytes.NewReader(doc), func(io.ReaderAt, int64) error { return nil })
}

// send keeps a document and mapping as the service does, and loads it.
func send(t testing.TB, e *Engine, mappingText string, doc []byte, req Request) outcome.Load {
	t.Helper()
	ctx := context.Background()
	sha, size, err := keep(e.store, doc)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := e.store.PutDocument(ctx, api.Document{SHA: sha, Name: "example", Size: size}); err != nil {
		t.Fatal(err)
	}
	kept, err := e.store.PutMapping(ctx, api.Mapping{Name: "example", Text: mappingText})
	if err != nil {
		t.Fatal(err)
	}
	req.Document, req.Mapping, req.Version, req.By = sha, kept.Name, kept.Version, "test"
	l, err := e.Start(ctx, req)
	if err != nil {
		t.Fatal(err)
	}
	if l, err = e.Wait(ctx, l.ID); err != nil {
		t.Fatal(err)
	}
	return l
}

func (e *example) run(t *testing.T) []finding.Finding {
	if e.apart {
		return []finding.Finding{{Code: e.code, Severity: finding.Catalogue[e.code].Severity, At: e.at, Message: e.says, Hint: finding.Catalogue[e.code].Advice}}
	}
	if e.code == finding.StorageFailed {
		// A full disk is made in e2e; here the finding itself is shown.
		return []finding.Finding{finding.New(e.code, origin.Place{}, "", "The load stopped: database or disk is full.")}
	}
	if e.code == finding.KoinosFailed {
		return crash(t)
	}
	if e.code == finding.StepFailed {
		return stepFailed(t)
	}
	if strings.HasPrefix(string(e.code), "mapping_") {
		return parseFindings(e.mapping())
	}
	doc := []byte(e.doc)
	if e.bytes != nil {
		doc = e.bytes()
	}
	if e.code == finding.OrderTooLong {
		doc = []byte(head + strings.Repeat("A-1,2026-03-02,00417,1,9.50\n", 50_001))
	}
	limits := source.DefaultLimits
	if e.code == finding.DocumentTooLarge {
		limits.Rows = 12
	}
	engine := testEngine(t, testStore(t), limits)
	if e.before != "" {
		first := e.mapping()
		if e.whole != "" {
			first = plainMapping
		}
		if l := send(t, engine, first, []byte(e.before), Request{}); l.Loaded != 1 {
			t.Fatalf("the document before was not loaded: %+v", l.Counts)
		}
	}
	l := send(t, engine, e.mapping(), doc, Request{})
	found, err := engine.store.Findings(context.Background(), l.ID, store.FindingFilter{})
	if err != nil {
		t.Fatal(err)
	}
	var all []finding.Finding
	for _, f := range found {
		all = append(all, f.Finding)
	}
	if l.Errors+l.Warnings != len(all) {
		t.Errorf("the load counts %d errors and %d warnings, but has %d findings", l.Errors, l.Warnings, len(all))
	}
	return all
}

// crash loads through a mapping that no parser would give: the load fails with
// a finding, and the engine goes on with the next.
func crash(t *testing.T) []finding.Finding {
	e := testEngine(t, testStore(t), source.DefaultLimits)
	good := []byte(head + "A-1,2026-03-02,00417,2,9.50\n")
	read := e.read
	e.read = func(context.Context, *outcome.Load) (*mapping.Mapping, error) {
		return &mapping.Mapping{Group: mapping.Grouping{By: "key", Columns: []mapping.Source{{Text: "Order"}}}}, nil
	}
	l := send(t, e, plainMapping, []byte(`[{"Order": "A-1", "Date": "2026-03-02", "Item": "00417", "Qty": 2, "Price": 9.50}]`), Request{Options: outcome.Options{DryRun: true}})
	if l.Status != outcome.Failed {
		t.Errorf("a crash leaves the load %s", l.Status)
	}
	e.read = read
	if again := send(t, e, plainMapping, good, Request{}); again.Loaded != 1 {
		t.Errorf("after a crash: %+v", again.Counts)
	}
	found, err := e.store.Findings(context.Background(), l.ID, store.FindingFilter{})
	if err != nil || len(found) == 0 {
		t.Fatal(found, err)
	}
	return []finding.Finding{found[len(found)-1].Finding}
}

// dropShip is a sequence of two steps over one document: purchase orders first,
// then the sales orders that carry their numbers.
func dropShip(t testing.TB, s *store.Store, doc string) (sha string) {
	t.Helper()
	ctx := context.Background()
	purchase := strings.NewReplacer("name: example", "name: purchases", "kind: sales", "kind: purchase", "partner:       {value: OSTRAND}", "partner:       {value: VARNHOLT}", "currency: ", "currency: ").Replace(plainMapping)
	sales := strings.Replace(strings.Replace(plainMapping, "name: example", "name: sales", 1), "{value: EUR}\n", "{value: EUR}\n  reference.purchase: {result: purchase.number, need: must}\n", 1)
	sales = strings.Replace(sales, ", list: items", "", 1) + "  custom.cost: {result: purchase.lines.amount}\n"
	for _, text := range []string{purchase, sales} {
		m, err := mapping.Parse([]byte(text))
		if err != nil {
			t.Fatal(err)
		}
		if _, err := s.PutMapping(ctx, api.Mapping{Name: m.Name, Text: text}); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := s.PutSequence(ctx, "drop-ship", "koinos: sequence/1\nname: drop-ship\nsteps:\n  - {step: purchase, mapping: purchases}\n  - {step: sales, mapping: sales}\n", "test", time.Now()); err != nil {
		t.Fatal(err)
	}
	sha, size, err := keep(s, []byte(doc))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.PutDocument(ctx, api.Document{SHA: sha, Name: "drop-ship.csv", Size: size}); err != nil {
		t.Fatal(err)
	}
	return sha
}

// finish waits for a run's end.
func finish(t testing.TB, e *Engine, req RunRequest) outcome.Run {
	t.Helper()
	r, err := e.StartRun(context.Background(), req)
	for err == nil && r.Status == outcome.Running {
		time.Sleep(2 * time.Millisecond)
		r, err = e.Run(context.Background(), r.ID)
	}
	if err != nil {
		t.Fatal(err)
	}
	return r
}

func stepFailed(t *testing.T) []finding.Finding {
	e := testEngine(t, testStore(t), source.DefaultLimits)
	r := finish(t, e, RunRequest{Document: dropShip(t, e.store, head+"A-1,2026-03-02,0O417,2,9.50\n"), Sequence: "drop-ship"})
	found, err := e.store.Findings(context.Background(), r.Loads[1].ID, store.FindingFilter{})
	if err != nil || len(found) == 0 {
		t.Fatal(found, err)
	}
	return []finding.Finding{found[0].Finding}
}

// Every code of the catalogue has an example that really gives it, at the
// place and with the words that docs/findings.md shows.
func TestEveryFindingHasAnExample(t *testing.T) {
	seen := map[finding.Code]bool{}
	var doc strings.Builder
	doc.WriteString(findingsIntro)
	for i := range examples {
		e := &examples[i]
		seen[e.code] = true
		t.Run(string(e.code), func(t *testing.T) {
			found := e.run(t)
			for _, f := range found {
				if f.Code != e.code {
					continue
				}
				if f.At != e.at && e.at != "" || !strings.Contains(f.Message+" "+f.Hint, e.says) {
					t.Errorf("at %q it says %q (%s); want %q at %q", f.At, f.Message, f.Hint, e.says, e.at)
				}
				if f.Severity != finding.Catalogue[e.code].Severity && e.code != finding.ColumnMissing {
					t.Errorf("severity %s", f.Severity)
				}
				e.document(&doc, f)
				return
			}
			t.Errorf("not found; there were %+v", found)
		})
	}
	for code := range finding.Catalogue {
		if !seen[code] {
			t.Errorf("%s has no example", code)
		}
	}
	const file = "../docs/findings.md"
	if *update {
		if err := os.WriteFile(file, []byte(doc.String()), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if have, err := os.ReadFile(file); err != nil || string(have) != doc.String() {
		t.Errorf("%s is not what the code says (%v); write it with make generate", file, err)
	}
}

const findingsIntro = `# Findings

Everything that Koinos says about a document, a mapping or an order has one of these codes. An **error** keeps its order out (or,
where it is about the document as a whole, ends the load); a **warning** lets it in. Codes are stable: programs may switch on them.

The examples are run by a test, and this page is written by it (` + "`make generate`" + `). They are read with this mapping, changed where the
example says so; the list ` + "`items`" + ` holds 00417 Shackle and 00501 Lantern, both of shelf S1.

` + "```yaml\n" + plainMapping + "```\n"

func (e *example) document(b *strings.Builder, f finding.Finding) {
	about := finding.Catalogue[e.code]
	fmt.Fprintf(b, "\n## %s\n\n**%s**: %s. %s\n\n", e.code, about.Severity, about.Title, about.Advice)
	if e.whole != "" {
		fmt.Fprintf(b, "The mapping:\n\n```yaml\n%s```\n\n", e.whole)
	}
	if e.change != "" {
		old, new, _ := strings.Cut(e.change, " → ")
		what := "without it"
		if new != "" {
			what = "changed to `" + strings.Join(strings.Fields(strings.ReplaceAll(new, ";", " ⏎")), " ") + "`"
		}
		fmt.Fprintf(b, "In the mapping, `%s` %s.\n\n", strings.TrimSpace(old), what)
	}
	switch {
	case e.shown != "":
		fmt.Fprintf(b, "The document: %s.\n\n", e.shown)
	case e.doc != "":
		if e.before != "" {
			fmt.Fprintf(b, "```\n%s```\n\nwas loaded before, then comes\n\n", e.before)
		}
		fmt.Fprintf(b, "```\n%s```\n\n", e.doc)
	}
	at := ""
	if f.At != "" {
		at = f.At + ": "
	}
	fmt.Fprintf(b, "> %s%s %s\n", at, f.Message, f.Hint)
}
