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
	"koinos/store/storetest"
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
	code    finding.Code
	change  string          // of plainMapping: old → new, lines by ;
	doc     string          // a CSV; what a reader of the docs sees
	bytes   func() []byte   // the document where it is no CSV
	shown   string          // what the docs say about such a document
	before  string          // a CSV loaded first
	at      string          // place of the finding
	says    string          // part of its message or hint
	whole   string          // a mapping of its own; what is loaded before goes through plainMapping
	options outcome.Options // asked of the load
	weighs  string          // what the mapping says about findings
	apart   bool            // the exchange finds it; its own test sees that it does
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
		"*260302*0930*U*00401*000000041*0*P*>~\nGS*PO*OSTRAND*QUILLMERE*20260302*0930*7*X*004010~\nST*850*0001~\n"+
		"%sSE*%d*0001~\nGE*1*7~\nIEA*1*000000041~\n", segments, n)
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

// returns is a mapping of a sheet that takes shipments back.
const returns = `koinos: mapping/1
name: returns
orders: {kind: shipment, of: sales, group: {by: key, columns: [Shipment, Order]}}
header:
  shipment:      {from: Shipment, need: must}
  sender_number: {from: Order, need: must}
  partner:       {value: OSTRAND}
  reverses:      {from: Back, need: must}
lines:
  number:   {from: Line, need: must}
  quantity: {from: Qty, need: must}
`

// notices is a mapping of a sheet of records about stored orders.
func notices(kind, fields string) string {
	number := map[string]string{"change": "change_number"}[kind]
	if number == "" {
		number = kind
	}
	return `koinos: mapping/1
name: notices
orders: {kind: ` + kind + `, of: sales, group: {by: key, columns: [No, Order]}}
header:
  ` + number + `: {from: No, need: must}
  sender_number: {from: Order, need: must}
  partner:       {value: OSTRAND}
lines:
  number:   {from: Line, need: must}
  ` + fields + "\n"
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
	return testStoreIn(t, t.TempDir())
}

func testStoreIn(t testing.TB, dir string) *store.Store {
	t.Helper()
	s := storetest.Open(t, dir)
	t.Cleanup(func() { s.Close() })
	ctx, now := context.Background(), time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC)
	for _, err := range []error{
		s.PutList(ctx, "items", []list.Entry{{Code: "00417", Name: "Shackle",
			Attributes: map[string]string{"shelf": "S1"}},
			{Code: "00501", Name: "Lantern", Attributes: map[string]string{"shelf": "S1"}}}, now),
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

// received is a document of a store, with the mapping example.
func received(t testing.TB, s *store.Store, doc []byte, mappingText string) (sha string, version int) {
	t.Helper()
	ctx := context.Background()
	sha, size, err := keep(s, doc)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.PutDocument(ctx, api.Document{SHA: sha, Name: "example", Size: size}); err != nil {
		t.Fatal(err)
	}
	kept, err := s.PutMapping(ctx, api.Mapping{Name: "example", Text: mappingText})
	if err != nil {
		t.Fatal(err)
	}
	return sha, kept.Version
}

// send keeps a document and mapping as the service does, and loads it.
func send(t testing.TB, e *Engine, mappingText string, doc []byte, req Request) outcome.Load {
	t.Helper()
	ctx := context.Background()
	sha, version := received(t, e.store, doc, mappingText)
	req.Document, req.Mapping, req.Version, req.By = sha, "example", version, "test"
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
		return []finding.Finding{{Code: e.code, Severity: finding.Catalogue[e.code].Severity, At: e.at, Message: e.says,
			Hint: finding.Catalogue[e.code].Advice}}
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
		doc = []byte(head + strings.Repeat("A-1,2026-03-02,00417,1,9.50\n", 20_001))
	}
	if e.code == finding.OrderTooWide {
		doc = []byte(head)
		for i := range 501 {
			doc = fmt.Appendf(doc, "A-1,2026-03-02,%05d,1,9.50\n", i)
		}
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
	l := send(t, engine, e.mapping()+e.weighs, doc, Request{Options: e.options})
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
	l := send(t, e, plainMapping, []byte(`[{"Order": "A-1", "Date": "2026-03-02", "Item": "00417", "Qty": 2, `+
		`"Price": 9.50}]`), Request{Options: outcome.Options{DryRun: true}})
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
	purchase := strings.NewReplacer("name: example", "name: purchases", "kind: sales", "kind: purchase",
		"partner:       {value: OSTRAND}", "partner:       {value: VARNHOLT}", "currency: ",
		"currency: ").Replace(plainMapping)
	sales := strings.Replace(strings.Replace(plainMapping, "name: example", "name: sales", 1), "{value: EUR}\n",
		"{value: EUR}\n  reference.purchase: {result: purchase.number, need: must}\n", 1)
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
	if _, err := s.PutSequence(ctx, "drop-ship",
		"koinos: sequence/1\nname: drop-ship\nsteps:\n  - {step: purchase, mapping: purchases}\n"+
			"  - {step: sales, mapping: sales}\n", "test", time.Now()); err != nil {
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
	r := finish(t, e, RunRequest{Document: dropShip(t, e.store, head+"A-1,2026-03-02,0O417,2,9.50\n"),
		Sequence: "drop-ship"})
	found, err := e.store.Findings(context.Background(), r.Loads[1].ID, store.FindingFilter{})
	if err != nil || len(found) == 0 {
		t.Fatal(found, err)
	}
	return []finding.Finding{found[0].Finding}
}

// A mapping can make every warning an error, which keeps the order out, or ignore it; and it can ignore some errors.
func TestSeverities(t *testing.T) {
	tried := 0
	for i := range examples {
		e := &examples[i]
		if _, weighed := finding.Weighed[e.code]; !weighed || e.apart {
			continue
		}
		tried++
		t.Run(string(e.code), func(t *testing.T) {
			t.Parallel()
			for _, c := range []struct {
				word string
				want finding.Severity
			}{{"error", finding.Error}, {"ignore", ""}} {
				one := *e
				one.weighs = fmt.Sprintf("findings: {%s: %s}\n", e.code, c.word)
				refused := finding.Severity("")
				all := one.run(t)
				for _, f := range all {
					if f.Code == e.code && (f.Severity == c.want || c.want == "") {
						refused = f.Severity
					}
				}
				if refused != c.want {
					t.Errorf("%s: there were %+v", c.word, all)
				}
			}
		})
	}
	if tried < 25 {
		t.Errorf("only %d codes were tried", tried)
	}
}

// Every code of the catalogue has an example that really gives it, at the
// place and with the words that docs/findings.md shows.
func TestEveryFindingHasAnExample(t *testing.T) {
	if testing.Short() {
		t.Skip("other tests run the same goroutines under the race detector")
	}
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
