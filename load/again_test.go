package load

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"koinos/api"
	"koinos/core/finding"
	"koinos/core/list"
	"koinos/core/order"
	"koinos/core/outcome"
	"koinos/core/report"
	"koinos/core/source"
	"koinos/store"
)

// What a second arrival of a stored order means: by the mapping's word, and by
// that of the load, which counts more.
func TestAgain(t *testing.T) {
	const first = head + "A-1,2026-03-02,00417,2,9.50\nA-1,,00501,1,64.50\n"
	for _, c := range []struct {
		name, again string // of the mapping
		of          outcome.Again
		doc         string
		outcome     outcome.Outcome
		says        string // of the changes, or of the finding
		lines       string // item × quantity of the stored order afterwards
	}{
		{"the same is left alone", "", "", first, outcome.Unchanged, "", "00417×2 00501×1"},
		{"the same is refused", "{do: refuse}", "", first, outcome.Refused, "must not arrive again", "00417×2 00501×1"},
		{"a different one is refused", "", "", strings.Replace(first, ",2,", ",3,", 1), outcome.Refused,
			`line 1 quantity was "2", is "3"`, "00417×2 00501×1"},
		{"bound fields are changed", "{do: update}", "", strings.Replace(first, ",2,", ",3,", 1), outcome.Changed,
			`line 1 quantity was "2", is "3"`, "00417×3 00501×1"},
		{"the load's word counts more", "{do: refuse}", outcome.Update, strings.Replace(first, ",2,", ",3,", 1),
			outcome.Changed, `quantity was "2"`, "00417×3 00501×1"},
		{"a missing line is kept, a new one added", "{do: update}", "",
			head + "A-1,2026-03-02,00417,5,9.50\nA-1,,00518,4,1.00\n", outcome.Changed,
			`line 3 item was blank, is "00518"`, "00417×5 00501×1 00518×4"},
		{"a missing line is closed", "{do: update, missing: close}", "", head + "A-1,2026-03-02,00417,2,9.50\n",
			outcome.Changed, `line 2 cancelled was blank, is "1"`, "00417×2 00501×1"},
		{"a missing line refuses", "{do: update, missing: refuse}", "", head + "A-1,2026-03-02,00417,3,9.50\n",
			outcome.Refused, "stored line 2 (00501) is missing", "00417×2 00501×1"},
		{"lines are told apart", "{do: update}", "", head + "A-1,2026-03-02,00417,3,9.50\nA-1,,00417,4,9.50\n",
			outcome.Refused, "not clear which one counts", "00417×2 00501×1"},
		{"a blank keeps", "{do: update}", "", strings.Replace(first, ",9.50", ",", 1), outcome.Unchanged, "",
			"00417×2 00501×1"},
		{"a blank clears", "{do: update, blanks: clear}", "", strings.Replace(first, ",9.50", ",", 1), outcome.Changed,
			`unit_price was "9.5", is blank`, "00417×2 00501×1"},
		{"a newer one takes its place", "{do: revise}", "", head + "A-1,2026-03-09,00501,7,60.00\n", outcome.Changed,
			`ordered_on was "2026-03-02"`, "00501×7"},
		{"an older one does not", "{do: revise}", "", head + "A-1,2026-03-01,00501,7,60.00\n", outcome.Refused,
			"is not after 2026-03-02", "00417×2 00501×1"},
	} {
		t.Run(c.name, func(t *testing.T) {
			ctx := context.Background()
			s := testStore(t)
			if err := s.AddEntries(ctx, map[string][]list.Entry{"items": {{Code: "00518"}}}, nil,
				time.Now()); err != nil {
				t.Fatal(err)
			}
			e := testEngine(t, s, source.DefaultLimits)
			text := plainMapping
			if c.again != "" {
				text = strings.Replace(text, "  kind: sales\n", "  kind: sales\n  again: "+c.again+"\n", 1)
			}
			if l := send(t, e, text, []byte(first), Request{}); l.Loaded != 1 {
				t.Fatalf("%+v", l)
			}
			before, err := s.Order(ctx, 1)
			if err != nil {
				t.Fatal(err)
			}
			dry := send(t, e, text, []byte(c.doc), Request{Options: outcome.Options{Again: c.of, DryRun: true}})
			l := send(t, e, text, []byte(c.doc), Request{Options: outcome.Options{Again: c.of}})
			o, err := s.Outcome(ctx, l.ID, 1)
			if err != nil {
				t.Fatal(err)
			}
			would, err := s.Outcome(ctx, dry.ID, 1)
			if err != nil {
				t.Fatal(err)
			}
			wouldBe := map[outcome.Outcome]outcome.Outcome{outcome.Changed: outcome.Differs}[c.outcome]
			if wouldBe == "" {
				wouldBe = c.outcome
			}
			if o.Outcome != c.outcome || would.Outcome != wouldBe ||
				fmt.Sprint(o.Changes) != fmt.Sprint(would.Changes) {
				t.Errorf("%s %v, dry %s %v; want %s", o.Outcome, o.Changes, would.Outcome, would.Changes, c.outcome)
			}
			said := ""
			for _, ch := range o.Changes {
				said += ch.String() + "; "
			}
			found, err := s.Findings(ctx, l.ID, store.FindingFilter{})
			if err != nil {
				t.Fatal(err)
			}
			for _, f := range found {
				said += f.Message
			}
			if !strings.Contains(said, c.says) {
				t.Errorf("it says %q, want %q", said, c.says)
			}
			after, err := s.Order(ctx, 1)
			if err != nil {
				t.Fatal(err)
			}
			var lines []string
			for _, line := range after.Order.Lines {
				lines = append(lines, line.Item+"×"+line.Quantity.String())
			}
			if got := strings.Join(lines, " "); got != c.lines {
				t.Errorf("lines %s, want %s", got, c.lines)
			}
			if changed := c.outcome == outcome.Changed; changed != (after.Revision == 2) ||
				changed != (len(after.Events) == 2) {
				t.Errorf("revision %d, %d events", after.Revision, len(after.Events))
			}
			// Undoing the second load brings the order back as it was.
			u, err := e.Undo(ctx, l.ID, false, "test")
			if err != nil {
				t.Fatal(err)
			}
			if again, err := s.Order(ctx, 1); err != nil || len(order.Diff(&before.Order, &again.Order)) > 0 ||
				again.Total.Cmp(before.Total) != 0 || u.Kept != 0 {
				t.Errorf("undone: %+v %v %+v", u, err, again.Order)
			}
		})
	}
}

// Undoing a load takes back what nothing has happened to since, names the
// rest, and leaves the document ready to be loaded again.
func TestUndo(t *testing.T) {
	if testing.Short() {
		t.Skip("nothing in it goes on side by side")
	}
	ctx := context.Background()
	e := testEngine(t, testStore(t), source.DefaultLimits)
	text := strings.Replace(plainMapping, "  kind: sales\n", "  kind: sales\n  again: {do: update}\n", 1)
	doc, bad := manyOrders(1_200)
	l := send(t, e, text, doc, Request{})
	change := send(t, e, text, []byte(head+"A-7,2026-03-02,00417,70,9.50\n"), Request{})
	if change.Changed != 1 {
		t.Fatalf("%+v", change.Counts)
	}
	for _, dry := range []bool{true, false} {
		u, err := e.Undo(ctx, l.ID, dry, "test")
		if err != nil || u.Removed != 1_199 || u.Kept != 1 || len(u.Why) != 1 ||
			!strings.Contains(u.Why[0].Why, "changed since (by test, revision 2") {
			t.Fatalf("dry %v: %+v %v", dry, u, err)
		}
	}
	left := orders(t, e)
	if len(left) != 1 || left[0].SenderNumber != "A-7" {
		t.Errorf("%d orders left: %+v", len(left), left)
	}
	if now, err := e.Get(ctx, l.ID); err != nil || now.Undone != 1_199 || now.Loaded != 1 || now.Refused != bad {
		t.Errorf("the load says %+v %v", now.Counts, err)
	}
	again := send(t, e, text, doc, Request{})
	if again.Loaded != 1_199 || again.Changed+again.Unchanged != 1 {
		t.Errorf("loaded again: %+v", again.Counts)
	}
}

// A load can be paused and resumed, and ends as if nothing had been; a service
// that ends in its middle leaves it to the next.
func TestPauseAndResume(t *testing.T) {
	ctx := context.Background()
	s := testStore(t)
	doc, bad := manyOrders(20_000)
	sha, _ := received(t, s, doc, plainMapping)
	e, stop := testService(t, s, source.DefaultLimits)
	l, err := e.Start(ctx, Request{Document: sha, Mapping: "example", By: "test", Name: "once"})
	if err != nil {
		t.Fatal(err)
	}
	if same, err := e.Start(ctx, Request{Document: sha, Mapping: "example", By: "test", Name: "once"}); err != nil ||
		same.ID != l.ID {
		t.Errorf("the same request made load %d besides %d (%v)", same.ID, l.ID, err)
	}
	begun := func() {
		for was := l.Loaded; l.Loaded == was && !l.Status.Ended(); {
			if l, err = e.Get(ctx, l.ID); err != nil {
				t.Fatal(err)
			}
		}
	}
	begun()
	if err := e.Pause(ctx, l.ID); err != nil {
		t.Fatal(err)
	}
	if l, err = e.Wait(ctx, l.ID); err != nil || l.Status != outcome.Paused || l.Loaded == 0 || l.Loaded == 20_000 ||
		l.Reason == "" || l.Share <= 0 || l.Share >= 1 {
		t.Fatalf("paused: %+v %v", l, err)
	}
	if _, err := e.Undo(ctx, l.ID, false, "test"); !errors.Is(err, ErrRunning) {
		t.Errorf("a paused load was taken back: %v", err)
	}
	if l, err = e.Continue(ctx, l.ID); err != nil {
		t.Fatal(err)
	}
	begun()
	stop() // the service ends
	e = testEngine(t, s, source.DefaultLimits)
	if l, err = e.Wait(ctx, l.ID); err != nil || l.Status != outcome.Done || l.Loaded != 20_000 || l.Refused != bad ||
		l.Errors != bad || l.Unchanged != 0 {
		t.Errorf("in the end: %+v %v", l, err)
	}
	for i, o := range orders(t, e) {
		if want := fmt.Sprintf("SO-%06d", 20_000-i); o.Number != want {
			t.Fatalf("order %d has the number %s, want %s", o.ID, o.Number, want)
		}
	}
	if _, err := e.Continue(ctx, l.ID); !errors.Is(err, ErrNotPaused) {
		t.Errorf("a load that has ended was resumed: %v", err)
	}
}

// What may be asked of a load.
func TestOptions(t *testing.T) {
	const doc = head + "A-1,2026-03-02,00417,2,9.50\nA-2,2026-03-02,00501,1,64.50\nA-3,2026-03-02,99999,1,1.00\n" +
		"A-4,2026-03-02,99999,1,1.00\nA-5,2026-03-02,00417,1,1.00\n"
	noCurrency := strings.Replace(plainMapping, "{value: EUR}", "{from: Price, when: \"false\"}", 1)
	held := strings.Replace(plainMapping, "  kind: sales\n", "  kind: sales\n  hold: [should_missing]\n", 1)
	held = strings.Replace(held, "{from: Date}", "{from: Date, need: should}", 1)
	blank := strings.Replace(doc, "A-2,2026-03-02", "A-2,", 1)
	for _, c := range []struct {
		name, mapping, doc string
		opt                outcome.Options
		want               outcome.Counts
		status             outcome.Status
		check              func(*testing.T, *store.StoredOrder)
	}{
		{"chosen rows", plainMapping, doc, outcome.Options{OnlyRows: []string{"2", "5-"}},
			outcome.Counts{Orders: 3, Loaded: 2, Refused: 1}, outcome.Done, nil},
		{"chosen orders", plainMapping, doc, outcome.Options{OnlyOrders: []string{"a-2", "A-3"}},
			outcome.Counts{Orders: 2, Loaded: 1, Refused: 1}, outcome.Done, nil},
		{"stop after two", plainMapping, doc, outcome.Options{StopAfter: 2},
			outcome.Counts{Orders: 4, Loaded: 2, Refused: 2}, outcome.Stopped, nil},
		{"a stage", plainMapping, doc, outcome.Options{Stage: order.Draft},
			outcome.Counts{Orders: 5, Loaded: 3, Refused: 2}, outcome.Done, func(t *testing.T, o *store.StoredOrder) {
				if o.Status != order.Draft {
					t.Errorf("status %s", o.Status)
				}
			}},
		{"opening orders", plainMapping, doc, outcome.Options{Opening: true},
			outcome.Counts{Orders: 5, Loaded: 3, Refused: 2}, outcome.Done, func(t *testing.T, o *store.StoredOrder) {
				if o.Number != "A-1" || !o.Opening {
					t.Errorf("number %s, opening %v", o.Number, o.Opening)
				}
			}},
		{"defaults", noCurrency, doc, outcome.Options{Defaults: map[string]string{"currency": "SEK",
			"lines.location": "0040"}}, outcome.Counts{Orders: 5, Loaded: 3, Refused: 2}, outcome.Done,
			func(t *testing.T, o *store.StoredOrder) {
				if o.Currency != "SEK" || o.Order.Lines[0].Location != "0040" {
					t.Errorf("%s %s", o.Currency, o.Order.Lines[0].Location)
				}
			}},
		{"a warning holds", held, blank, outcome.Options{}, outcome.Counts{Orders: 5, Loaded: 2, Held: 1, Refused: 2},
			outcome.Done, nil},
		{"it is accepted", held, blank, outcome.Options{Accept: []finding.Code{finding.ShouldMissing}},
			outcome.Counts{Orders: 5, Loaded: 3, Refused: 2}, outcome.Done, nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			e := testEngine(t, testStore(t), source.DefaultLimits)
			l := send(t, e, c.mapping, []byte(c.doc), Request{Options: c.opt})
			if l.Status != c.status || l.Orders != c.want.Orders || l.Loaded != c.want.Loaded ||
				l.Refused != c.want.Refused || l.Held != c.want.Held {
				t.Errorf("%s %+v, want %+v", l.Status, l.Counts, c.want)
			}
			if list := orders(t, e); len(list) != c.want.Loaded {
				t.Errorf("%d orders stored", len(list))
			}
			if c.check != nil {
				o, err := e.store.Order(context.Background(), 1)
				if err != nil {
					t.Fatal(err)
				}
				c.check(t, o)
			}
		})
	}
	e := testEngine(t, testStore(t), source.DefaultLimits)
	send(t, e, plainMapping, []byte(doc), Request{})
	for _, opt := range []outcome.Options{{OnlyRows: []string{"x"}}, {Defaults: map[string]string{"colour": "red"}},
		{Retry: 99}} {
		if l, err := e.Start(context.Background(), Request{Document: mustSHA(t, e, doc), Mapping: "example",
			Options: opt}); err == nil {
			t.Errorf("%+v was taken: load %d", opt, l.ID)
		}
	}
}

// mustMapping is the newest text of the example's mapping.
func mustMapping(t *testing.T, e *Engine) string {
	t.Helper()
	kept, err := e.store.Mapping(context.Background(), "example", 0)
	if err != nil {
		t.Fatal(err)
	}
	return kept.Text
}

func mustSHA(t *testing.T, e *Engine, doc string) string {
	t.Helper()
	sha, _, err := keep(e.store, []byte(doc))
	if err != nil {
		t.Fatal(err)
	}
	return sha
}

// One act fixes many findings, and only the orders that failed are loaded again.
func TestFix(t *testing.T) {
	ctx := context.Background()
	e := testEngine(t, testStore(t), source.DefaultLimits)
	text := strings.Replace(plainMapping, "{value: OSTRAND}",
		"{value: OSTRAND}\n  ship_to.code:  {from: Yard, crosswalk: yards, need: must}", 1)
	text = strings.Replace(text, "koinos: mapping/1\n", "# reviewed\nkoinos: mapping/1\n", 1)
	var doc strings.Builder
	doc.WriteString("Order,Date,Item,Qty,Price,Yard\n")
	for i := range 40 {
		yard, date := "East yard", "2026-03-02"
		if i%2 == 0 {
			yard = "Eest yard"
		}
		if i%4 == 3 {
			date = "23.03.2026"
		}
		fmt.Fprintf(&doc, "A-%d,%s,00417,2,9.50,%s\n", i, date, yard)
	}
	l := send(t, e, text, []byte(doc.String()), Request{})
	if l.Loaded != 10 || l.Refused != 30 {
		t.Fatalf("%+v", l.Counts)
	}
	acts, err := e.Acts(ctx, l.ID)
	if err != nil || len(acts) != 2 {
		t.Fatalf("%+v %v", acts, err)
	}
	if a := acts[0]; a.Kind != "crosswalk" || a.Name != "yards" || a.Orders != 20 || len(a.Values) != 1 ||
		a.Values[0] != (api.ActValue{Value: "Eest yard", Count: 20, Nearest: "0040"}) {
		t.Errorf("%+v", a)
	}
	if a := acts[1]; a.Kind != "dates" || a.Name != "ordered_on" || a.Form != "d.m.yyyy" || a.Orders != 10 {
		t.Errorf("%+v", a)
	}
	fixed, err := e.Fix(ctx, l.ID, api.Fix{Crosswalks: map[string][]list.Pair{"yards": {{Theirs: "Eest yard",
		Ours: "0040"}}}, Dates: map[string]string{"ordered_on": "d.m.yyyy"}}, "Ada", "")
	if err != nil {
		t.Fatal(err)
	}
	if fixed, err = e.Wait(ctx, fixed.ID); err != nil || fixed.Orders != 30 || fixed.Loaded != 30 ||
		fixed.Retry != l.ID || fixed.Version != 2 {
		t.Fatalf("%+v %v", fixed, err)
	}
	kept, err := e.store.Mapping(ctx, "example", 2)
	if err != nil || !strings.Contains(kept.Text, `ordered_on:    {dates: ["d.m.yyyy"], from: Date}`) ||
		!strings.HasPrefix(kept.Text, "# reviewed\n") {
		t.Errorf("%v\n%s", err, kept.Text)
	}
	// A value that a list does not have gets a crosswalk of its own.
	units := strings.Replace(text, "  quantity:", "  unit:       {from: Unit}\n  quantity:", 1)
	odd := send(t, e, units,
		[]byte("Order,Date,Item,Qty,Price,Yard,Unit\nU-1,2026-03-02,00417,2,9.50,East "+
			"yard,EA\nU-2,2026-03-02,00417,2,9.50,East yard,pce\n"), Request{})
	if acts, err = e.Acts(ctx, odd.ID); err != nil || len(acts) != 1 || acts[0].Kind != "list" ||
		acts[0].Field != "lines.unit" {
		t.Fatalf("%+v %v", acts, err)
	}
	meant, err := e.Fix(ctx, odd.ID, api.Fix{Means: map[string][]list.Pair{"lines.unit": {{Theirs: "pce",
		Ours: "EA"}}}}, "Ada", "")
	if err != nil {
		t.Fatal(err)
	}
	if meant, err = e.Wait(ctx, meant.ID); err != nil || meant.Loaded != 1 || meant.Orders != 1 {
		t.Errorf("%+v %v", meant, err)
	}
	if all := send(t, e, mustMapping(t, e),
		[]byte("Order,Date,Item,Qty,Price,Yard,Unit\nU-3,2026-03-02,00417,2,9.50,East "+
			"yard,EA\nU-4,2026-03-02,00417,2,9.50,East yard,pce\n"), Request{}); all.Loaded != 2 {
		t.Errorf("what the crosswalk does not have is not kept: %+v", all.Counts)
	}
	if acts, err = e.Acts(ctx, fixed.ID); err != nil || len(acts) != 0 {
		t.Errorf("still to do: %+v %v", acts, err)
	}
}

// The answers beside the rows: those asked for, in their columns, never over
// what stands there, and of the stored order as it is today.
func TestResults(t *testing.T) {
	ctx := context.Background()
	e := testEngine(t, testStore(t), source.DefaultLimits)
	text := strings.Replace(plainMapping, "  kind: sales\n", "  kind: sales\n  again: {do: update}\n", 1) +
		"results: {outcome: A, number: G, line: H, line_id: I, warnings: J, fields: {status: K, total: L, " +
		"lines.amount: M}}\n"
	l := send(t, e, text, []byte(head+"A-1,2026-03-02,00417,2,9.50\nA-1,,00501,1,64.50\nA-2,2026-03-02,99999,2,9.50\n"),
		Request{})
	send(t, e, text, []byte(head+"A-1,2026-03-02,00501,3,\n"), Request{})
	sets, opt, err := e.Sets(ctx, l, true)
	if err != nil {
		t.Fatal(err)
	}
	f, err := e.store.OpenFile(l.Document)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	var b strings.Builder
	if err := report.MarkedCSV(&b, f, f.Size(), opt, sets); err != nil {
		t.Fatal(err)
	}
	const want = "Order,Date,Item,Qty,Price,Koinos outcome,Koinos order,Koinos line,Koinos line id,Koinos " +
		"warnings,Koinos status,Koinos total,Koinos lines.amount,Koinos message\r\n" +
		"A-1,2026-03-02,00417,2,9.50,loaded,SO-000001,1,1-1,,open,212.50,19.00,\r\n" +
		"A-1,,00501,1,64.50,loaded,SO-000001,2,1-2,,open,212.50,193.50,\r\n" +
		"A-2,2026-03-02,99999,2,9.50,refused,,,,,,,,"
	if got := strings.TrimPrefix(b.String(), "\ufeff"); !strings.HasPrefix(got, want) {
		t.Errorf("%s\nwant %s", got, want)
	}
	b.Reset()
	if err := report.FailedCSV(&b, f, f.Size(), opt, sets[0]); err != nil || strings.Count(b.String(), "\r\n") != 2 ||
		!strings.Contains(b.String(), "A-2,2026-03-02,99999") {
		t.Errorf("%v %s", err, b.String())
	}
}

// Later steps of a sequence carry what earlier ones got; what depends on a
// failure is held, and goes on when the cause is fixed.
func TestSequence(t *testing.T) {
	ctx := context.Background()
	e := testEngine(t, testStore(t), source.DefaultLimits)
	sha := dropShip(t, e.store,
		head+"A-1,2026-03-02,00417,2,9.50\nA-1,,00501,1,64.50\nA-2,2026-03-02,0O417,2,9.50\nA-3,2026-03-02,00501,3,1.00\n")
	r := finish(t, e, RunRequest{Document: sha, Sequence: "drop-ship", By: "test"})
	if r.Status != outcome.Done || len(r.Loads) != 2 || r.Loads[0].Loaded != 2 || r.Loads[0].Refused != 1 ||
		r.Loads[1].Loaded != 2 || r.Loads[1].Held != 1 {
		t.Fatalf("%+v", r)
	}
	custom := func(o *store.StoredOrder, line int) string { return o.ResultValue("lines.custom.cost", line) }
	sale, err := e.store.Order(ctx, 3)
	if err != nil || sale.ResultValue("reference.purchase", 0) != "PO-000001" || custom(sale, 1) != "19.00" ||
		custom(sale, 2) != "64.50" {
		t.Errorf("%+v %v", sale.Order, err)
	}
	if err := e.store.AddEntries(ctx, map[string][]list.Entry{"items": {{Code: "0O417"}}}, nil,
		time.Now()); err != nil {
		t.Fatal(err)
	}
	again := finish(t, e, RunRequest{AgainOf: r.ID})
	if a, b := again.Loads[0].Counts, again.Loads[1].Counts; a.Loaded != 1 || a.Unchanged != 2 || b.Loaded != 1 ||
		b.Unchanged != 2 || b.Held != 0 {
		t.Errorf("the second run: %+v and %+v", a, b)
	}
	if late, err := e.store.Order(ctx, 6); err != nil || late.ResultValue("reference.purchase", 0) != "PO-000003" ||
		late.SenderNumber != "A-2" {
		t.Errorf("%+v %v", late.Order, err)
	}
	if _, err := e.StartRun(ctx, RunRequest{Document: sha, Sequence: "nothing"}); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("a sequence that is not there: %v", err)
	}
}

// Orders that are posted at the same time are each stored once.
func TestPost(t *testing.T) {
	ctx := context.Background()
	e := testEngine(t, testStore(t), source.DefaultLimits)
	type answer struct {
		p   api.Posted
		err error
	}
	answers := make(chan answer)
	const n, times = 40, 3
	for i := range n * times {
		go func() {
			o := order.Order{Kind: order.Sales, SenderNumber: fmt.Sprintf("P-%d", i%n), Partner: "OSTRAND",
				Lines: []order.Line{{Item: "00417", Quantity: order.MustNumber("2"),
					UnitPrice: order.MustNumber("9.50")}}}
			p, err := e.Post(ctx, &o, fmt.Appendf(nil, `{"sender_number": "P-%d"}`, i%n), "", "test")
			answers <- answer{p, err}
		}()
	}
	count, numbers := map[outcome.Outcome]int{}, map[string]int{}
	for range n * times {
		a := <-answers
		if a.err != nil {
			t.Fatal(a.err)
		}
		count[a.p.Outcome]++
		numbers[a.p.Number]++
	}
	if count[outcome.Loaded] != n || count[outcome.Unchanged] != n*(times-1) || len(numbers) != n {
		t.Errorf("%v, %d numbers", count, len(numbers))
	}
	bad := order.Order{Kind: order.Sales, Partner: "OSTRAND", Lines: []order.Line{{Item: "00417"}}}
	if p, err := e.Post(ctx, &bad, []byte("{}"), "", "test"); err != nil || p.Outcome != outcome.Refused ||
		len(p.Findings) < 2 {
		t.Errorf("%+v %v", p, err)
	}
}
