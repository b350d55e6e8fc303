package e2e

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/cdproto/dom"
	"github.com/chromedp/cdproto/log"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

// browser opens a headless browser; whatever its pages complain about fails the test.
func browser(t *testing.T, width, height int64) context.Context {
	t.Helper()
	if _, err := exec.LookPath("chromium"); err != nil {
		t.Skip("Debian's chromium is not installed; make test installs it")
	}
	if _, err := os.Stat("../web/dist/index.html"); err != nil {
		t.Skip("the console has not been built; make test builds it")
	}
	dir, err := os.MkdirTemp("", "browser")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { // a browser that is told to end writes for a moment still
		for range 50 {
			if os.RemoveAll(dir) == nil {
				return
			}
			time.Sleep(100 * time.Millisecond)
		}
		t.Logf("%s could not be removed", dir)
	})
	ctx, cancel := chromedp.NewExecAllocator(context.Background(), append(chromedp.DefaultExecAllocatorOptions[:],
		chromedp.NoSandbox, chromedp.DisableGPU, chromedp.WindowSize(int(width), int(height)),
		chromedp.Flag("disable-quic", true), chromedp.Flag("force-prefers-reduced-motion", true),
		chromedp.UserDataDir(dir))...)
	t.Cleanup(cancel)
	ctx, cancel = chromedp.NewContext(ctx, chromedp.WithErrorf(func(format string, args ...any) {
		if text := fmt.Sprintf(format, args...); !strings.Contains(text, "unhandled node event") { // newer than the driver
			fmt.Fprintln(os.Stderr, text) // the test may have ended
		}
	}))
	t.Cleanup(cancel)
	ctx, cancel = context.WithTimeout(ctx, 10*time.Minute)
	t.Cleanup(cancel)
	var mu sync.Mutex
	var complaints []string
	chromedp.ListenTarget(ctx, func(ev any) {
		mu.Lock()
		defer mu.Unlock()
		switch e := ev.(type) {
		case *runtime.EventExceptionThrown:
			complaints = append(complaints, e.ExceptionDetails.Error())
		case *log.EventEntryAdded:
			if e.Entry.Level == log.LevelError && !strings.Contains(e.Entry.Text, "401") &&
				!strings.Contains(e.Entry.Text, "422") && !strings.HasSuffix(e.Entry.URL, "/9999") {
				complaints = append(complaints, e.Entry.Text+" "+e.Entry.URL)
			}
		}
	})
	t.Cleanup(func() {
		mu.Lock()
		defer mu.Unlock()
		for _, c := range complaints {
			t.Errorf("the browser complains: %s", c)
		}
	})
	if err := chromedp.Run(ctx, log.Enable(), chromedp.EmulateViewport(width, height)); err != nil {
		t.Fatal(err)
	}
	return ctx
}

// has waits until a part of the page contains some text.
func has(selector, text string) chromedp.Action {
	return chromedp.ActionFunc(func(ctx context.Context) error {
		var seen string
		for end := time.Now().Add(40 * time.Second); time.Now().Before(end); time.Sleep(120 * time.Millisecond) {
			script := fmt.Sprintf(`[...document.querySelectorAll(%q)].map(e => e.innerText).join(' ').replace(/\s+/g, ' ')`,
				selector)
			if err := chromedp.Evaluate(script, &seen).Do(ctx); err != nil {
				return err
			}
			if strings.Contains(seen, text) {
				return nil
			}
		}
		return fmt.Errorf("%s does not say %q but %.400q", selector, text, seen)
	})
}

// hasNot waits until what a selector chooses does not say a text any more.
func hasNot(selector, text string) chromedp.Action {
	return chromedp.ActionFunc(func(ctx context.Context) error {
		var seen string
		for end := time.Now().Add(20 * time.Second); time.Now().Before(end); time.Sleep(120 * time.Millisecond) {
			script := fmt.Sprintf(`[...document.querySelectorAll(%q)].map(e => e.innerText).join(' ').replace(/\s+/g, ' ')`,
				selector)
			if err := chromedp.Evaluate(script, &seen).Do(ctx); err != nil {
				return err
			}
			if !strings.Contains(seen, text) {
				return nil
			}
		}
		return fmt.Errorf("%s still says %q", selector, text)
	})
}

// click clicks what a selector chooses, once it stays where it is: what was just opened has its place a little later. If
// the page draws it anew between finding it and clicking it, it is found again.
func click(selector string, how ...chromedp.QueryOption) chromedp.Action {
	return chromedp.ActionFunc(func(ctx context.Context) (err error) {
		var was, is *dom.BoxModel
		for range 60 {
			err = chromedp.Dimensions(selector, &is, how...).Do(ctx)
			if err == nil && (was == nil || !slices.Equal(was.Content, is.Content)) {
				was = is
				time.Sleep(50 * time.Millisecond)
				continue
			}
			if err == nil {
				err = chromedp.Click(selector, how...).Do(ctx)
			}
			if err == nil || !strings.Contains(err.Error(), "(-32000)") {
				return err
			}
			time.Sleep(50 * time.Millisecond)
		}
		return err
	})
}

// press clicks the button or link with a label, once it can be pressed.
func press(label string) chromedp.Action {
	return click(fmt.Sprintf(`//*[self::button or self::a][contains(normalize-space(.), %q)][not(@disabled)]`,
		label),
		chromedp.BySearch, chromedp.NodeVisible)
}

const quantityOf1 = `.acts td input[aria-label="Quantity of line 1"]`

// fill writes a value into a field, as somebody does who types over what is there.
func fill(selector, value string) chromedp.Action {
	return chromedp.Tasks{chromedp.WaitVisible(selector, chromedp.ByQuery), chromedp.Evaluate(fmt.Sprintf(`{
	  const field = document.querySelector(%q); field.value = %q; field.dispatchEvent(new Event('input', { bubbles: true })) }`,
		selector, value), nil)}
}

// pick chooses one of a list that opens.
func pick(label, option string) chromedp.Action {
	return chromedp.Tasks{click(fmt.Sprintf(`[role=combobox][aria-label=%q]`, label), chromedp.ByQuery,
		chromedp.NodeVisible),
		click(fmt.Sprintf(`//li[@role='option'][normalize-space(.)=%q]`, option), chromedp.BySearch,
			chromedp.NodeVisible)}
}

// run does one step after the other. Each has a minute, because a click waits until there is something to click.
func run(t *testing.T, ctx context.Context, steps ...chromedp.Action) {
	t.Helper()
	for i, step := range steps {
		one, cancel := context.WithTimeout(ctx, time.Minute)
		err := chromedp.Run(one, step)
		cancel()
		if err != nil {
			var address, seen string
			there := chromedp.Run(ctx, chromedp.Location(&address),
				chromedp.Evaluate(`document.body.innerText.replace(/\s+/g, ' ')`, &seen))
			t.Fatalf("step %d: %v, on %s, which says: %.1500s (%v)", i+1, err, address, seen, there)
		}
	}
}

// From a dropped file to stored orders, as a person does it.
func TestConsole(t *testing.T) {
	t.Parallel()
	s := startDemo(t)
	ctx := browser(t, 1280, 800)
	doc := file(t, "saltry-april.csv",
		[]byte("Order,Order date,Needed by,Course,Item,What,Qty,Unit,Each,Line total,Order total\n"+
			"SSS/0401,01/04/2026,,Beginners,00101,Rope,10,MTR,0.85,8.50,8.50\n"+
			"SSS/0402,02/04/2026,12/04/2026,Beginners,001O4,Rope,10,MTR,0.97,9.70,9.70\n"+
			"SSS/0403,03/04/2026,13/04/2026,Beginners,00104,Rope,5,dozen,0.97,4.85,4.85\n"))
	run(t, ctx,
		chromedp.Navigate(s.address+"/"), has("main", "Needs attention"), has("main", "463 refused of 600 orders"),
		press("Documents"),
		has("main", "Documents received"), has("main", "kestle-confirmations.csv"),
		chromedp.SetUploadFiles("input[type=file]", []string{doc}, chromedp.NodeReady),
		has("h1", "saltry-april.csv"), has(".grid", "SSS/0402"),
		click("#mapping", chromedp.ByQuery), has("[role=listbox]", "saltry-orders"),
		click(`//*[@role="option"][contains(., "saltry-orders")]`, chromedp.BySearch),
		chromedp.WaitNotPresent("[role=listbox]", chromedp.ByQuery), // it lies over the buttons while it closes
		has(".side", "Monthly orders of Saltry"), press("Dry run"),
		has("h1", "Dry run 22"), has(".figures", "2 ✕ refused"), has(".figures", "1 warning"),
		has(".reasons", "a code is not in its list"),
		// The keyboard steps through the findings; the grid and the paper follow.
		chromedp.KeyEvent("n"), has(".grid td.active", "001O4"), has(".opened", "Nearest in the list: 00104"),
		chromedp.KeyEvent("o"), has(".paper", "SSS/0402"), has(".paper .value.error", "001O4"),
		has(".paper", "refused"),
		press("Load the 1 good orders"),
		has("h1", "Load 23"), has(".figures", "1 ✓ loaded"), press("The orders"),
		has("main", "of load 23"), press("SO-000528"), has(".paper", "SSS/0401"), has(".events", "created by local"),
		// A value points at its cell, a cell says what became of it.
		chromedp.Focus(".paper .lines .value.from", chromedp.ByQuery), chromedp.WaitVisible("td.lit", chromedp.ByQuery),
		has("td.lit", "00101"),
		click(`[data-at="2:7"]`, chromedp.ByQuery), has("[role=status]",
			"row 2 column 7 became quantity of line 1"), has(".paper .value.lit", "10"),
		chromedp.KeyEvent(kb.ArrowRight), has("[role=status]", "row 2 column 8 became unit of line 1"),
		// What happens to it afterwards is said on the paper; more than was ordered is held first.
		press("Confirm"), has(".paper .stamp", "confirmed"), has(".acts", "Confirmed."), press("Undo"), has(".paper .stamp",
			"open"),
		hasNot(".acts", "Confirmed."), press("Confirm"), has(".paper .stamp", "confirmed"), has(".acts", "Confirmed."),
		// On another order's page nothing of this one is left: neither what is undone nor what was filled in,
		// also if both were seen before.
		chromedp.KeyEvent("/"), chromedp.KeyEvent("SO-000527"), has("#hit-0", "SO-000527"), chromedp.KeyEvent(kb.Enter),
		has(".paper", "SL-1040"), chromedp.NavigateBack(), has(".paper", "SSS/0401"), press("Ship …"),
		chromedp.WaitVisible(".acts form", chromedp.ByQuery), chromedp.NavigateForward(), has(".paper", "SL-1040"),
		chromedp.WaitNotPresent(".acts form", chromedp.ByQuery), hasNot(".acts", "Confirmed."),
		chromedp.NavigateBack(), has(".paper", "SSS/0401"),
		press("Answer …"), pick("Answer of line 1", "accepted"), fill(`[aria-label="Quantity of line 1"]`, "6"),
		fill(`[aria-label="Promised day of line 1"]`, "2026-04-02"), press("+"), pick("Answer of line 1, statement 2",
			"refused"),
		fill(`[aria-label="Quantity of line 1, statement 2"]`, "4"), fill(`[aria-label="Why of line 1, statement 2"]`,
			"sold out"),
		press("Record the answer"), has(".events", "answered"), has(".events", "sold out"),
		press("Ship …"), fill(quantityOf1, "50"), press("Record the shipment"),
		has(".held", "Of line 1, 50 are shipped now, more than the 10 that were ordered."), has(".acts", "Do it anyway"),
		fill(quantityOf1, "4"), fill(".acts .fields input", "LS-1"), press("Record the shipment"), has(".paper .stamp", "partial"),
		has(".paper .lines", "shipped 4"), has(".events", "shipment LS-1"), press("Change …"),
		fill(quantityOf1, "3"), press("Change it"), has(".acts [role=alert]", "Line 1 is to be 3, but 4 of it have moved."),
		fill(quantityOf1, "6"), fill(".acts input.wide", "they called"), press("Change it"), has(".events", "they called"),
		// It is billed, something comes back and is given back, and a part of the shipment was a mistake.
		press("Hold …"), fill(".acts input.wide", "credit limit"), press("Put it on hold"), has(".acts .held",
			"credit limit"),
		press("Bill …"), fill(".acts .fields input", "IN-77"), press("Create the invoice"),
		has(".held[role=alert]", "is on hold: credit limit"), press("Release"),
		has(".acts .held", "The order has changed since this form was opened"), // it is as it was filled in
		press("Create the invoice"), has(".paper .lines", "invoiced 4"), has(".events", "invoice IN-77"),
		press("Return …"), fill(quantityOf1, "1"), fill(".acts input.wide", "wrong colour"), press("Record the return"),
		has(".paper .lines", "returned 1"), press("Give back …"), has(".acts", "Can be taken back"), fill(quantityOf1, "1"),
		press("Give it back"), has(".paper .lines", "invoiced 3"), has(".events", "credit note IN-"),
		press("Take back …"), has(".acts", "Of shipment LS-1"), fill(quantityOf1, "9"), press("Take it back"),
		has(".acts [role=alert]", "4 can be taken back of the shipment LS-1, not 9."), press("Close"),
		press("Cancel …"), press("Cancel it"), has(".held", "Line 1 is to be withdrawn, but 4 of it have moved"),
		press("Do it anyway"), has(".paper .stamp", "complete"),
		// Lists: a page of orders, narrowed by what is typed.
		chromedp.Navigate(s.address+"/orders"), has("main", "page 1"),
		chromedp.SendKeys("main input[placeholder^=Number]", "EBBING", chromedp.ByQuery), has("main", "EB-7701"),
		// Many at once: chosen, held with a reason, released, shipped; what cannot be done says why. The view is kept.
		chromedp.Navigate(s.address+"/orders?kind=sales&status=open,confirmed,partial&from=2026-03-03"), has("main",
			"SL-1040"),
		click(`input[aria-label="Choose SO-000527"]`, chromedp.ByQuery),
		click(`input[aria-label="Choose SO-000526"]`, chromedp.ByQuery),
		has(".many", "2 orders chosen 292.39 EUR"), press("Hold …"), fill(".many .why", "stocktaking"),
		press("Hold 2 orders"),
		has(".many", "2 ✓ changed"), press("Ship what is open"), has(".many", "2 ! held"),
		has(".many", "is on hold: stocktaking"),
		press("Release"), has(".many", "2 ✓ changed"), press("Ship what is open"), hasNot("tbody", "SO-000527"), has(".many",
			"2 ✓ changed"),
		press("Save this view"), fill(`input[aria-label="Name of the view"]`, "march"), press("Save"), has("main", "march"),
		chromedp.Navigate(s.address+"/orders"), has("main", "SO-000528"), click(`[aria-label="Saved views"]`,
			chromedp.ByQuery),
		click(`//*[@role="option"][contains(., "march")]`, chromedp.BySearch), hasNot("tbody", "SO-000528"),
		has("tbody", "SL-1038"),
		chromedp.Navigate(s.address+"/loads"), has("main", "saltry-season.csv"), has("main", "dry run"),
		chromedp.Navigate(s.address+"/orders/9999"), has("[role=alert]", "There is no such thing here"),
		// A list gets another name in all that uses it, and goes when nothing does.
		chromedp.Navigate(s.address+"/lists"), has("main", "rows, ships with Koinos"), press("ostrand-yards"),
		has(".names", "mapping ostrand-weekly"), has(".names", "Only what nothing uses can be removed."),
		chromedp.SendKeys(`input[aria-label="New name of the crosswalk"]`, "yards", chromedp.ByQuery), press("Rename"),
		has("h1", "yards"), has(".names", "Its name is yards now, in mapping ostrand-weekly too."), press("ostrand-weekly"),
		has(".text pre", "crosswalk: yards"), has(".side", "version 2"), has(".names", "Nothing uses this mapping."),
		press("Remove this mapping"), press("Remove it"), has("h1", "Mappings"), hasNot("main", "ostrand-weekly"),
	)
}

// A list is sorted by a column, over all its pages, and stays so; a load that ends while one looks at something else
// says so.
func TestConsoleLists(t *testing.T) {
	t.Parallel()
	s := startDemo(t)
	axe, err := os.ReadFile("../web/node_modules/axe-core/axe.min.js")
	if err != nil {
		t.Fatal(err)
	}
	var faults []string
	var rows strings.Builder
	rows.WriteString("Order,Order date,Needed by,Course,Item,What,Qty,Unit,Each,Line total,Order total\n")
	for i := range 20_000 {
		fmt.Fprintf(&rows, "BIG/%05d,01/04/2026,,Beginners,00101,Rope,10,MTR,0.85,8.50,8.50\n", i)
	}
	rows.WriteString("BIG/X,01/04/2026,,Beginners,001O1,Rope,10,MTR,0.85,8.50,8.50\n")
	doc := file(t, "big.csv", []byte(rows.String()))
	sort := func(column string) chromedp.Action {
		return click(fmt.Sprintf(`//th[contains(., %q)]`, column), chromedp.BySearch, chromedp.NodeVisible)
	}
	run(t, browser(t, 1280, 800),
		chromedp.Navigate(s.address+"/orders"), has("tbody tr:first-child", "SO-000527"),
		sort("Total"), has("tbody tr:first-child", "1.00 EUR"), sort("Total"),
		has("tbody tr:first-child", "PO-000001 purchase EBBING"),
		has("tbody tr:first-child", "9 220.82 EUR"), press("Next"), has("tbody tr:first-child", "2 321.55 EUR"),
		has(".turner", "page 2"),
		chromedp.Reload(), has("tbody tr:first-child", "PO-000001"), has(".turner", "Sorted by total"),
		pick("Kind", "Sales"), has("tbody tr:first-child", "SO-000344"), has("tbody tr:first-child", "4 466.40 EUR"),
		sort("Total"), has("tbody tr:first-child", "SO-000527"), hasNot(".turner", "Sorted"),
		press("Documents"), chromedp.SetUploadFiles("input[type=file]", []string{doc}, chromedp.NodeReady), has("h1",
			"big.csv"),
		click("#mapping", chromedp.ByQuery), click(`//*[@role="option"][contains(., "saltry-orders")]`,
			chromedp.BySearch),
		chromedp.WaitNotPresent("[role=listbox]", chromedp.ByQuery),
		click(`//main//button[normalize-space(.)="Load"][not(@disabled)]`, chromedp.BySearch), has("h1", "Load 22"),
		press("Lists"),
		has("h1", "Lists"), has(".p-toast", "Load 22 of big.csv: some refused 20,001 orders: 20,000 good, 1 failed."),
		chromedp.Evaluate(string(axe), nil), chromedp.Evaluate(seriousFaults, &faults, awaited),
		press("Open the load"), has("h1", "Load 22"), has(".figures", "1 ✕ refused"))
	if len(faults) > 0 {
		t.Error(faults)
	}
}

// Many failures are fixed by few acts, the load of what failed is taken back,
// and changes are read before they are made.
func TestConsoleMend(t *testing.T) {
	t.Parallel()
	s := startDemo(t)
	ctx := browser(t, 1280, 800)
	ours := func(theirs, code string) chromedp.Action {
		return chromedp.SendKeys(fmt.Sprintf(`input[aria-label="Ours for %s"]`, theirs), code, chromedp.ByQuery)
	}
	run(t, ctx,
		chromedp.Navigate(s.address+"/today"), has("main", "saltry-season.csv"),
		click(`a[href="/loads/9?tab=fix"]`, chromedp.ByQuery), has("h1", "Load 9"),
		has(".fix", "400 orders"),
		ours("ROPE-WH-10", "00113"), ours("ROPE-NV-8", "00143"), ours("LANT-ANCHOR", "00501"),
		ours("FENDER-F3", "00556"), ours("0O113", "00113"), ours("metres", "MTR"),
		press("Take yyyy.m.d"), press("Fix, and load 463 orders again"),
		has("h1", "Load 22"), has(".small", "only what failed in load 9"), has(".figures", "463 ✓ loaded"),
		has("main", "saltry-orders v2"),
		press("Take back"), has("[role=dialog]", "463 orders that it stored will be gone"), press("Take it back"),
		has("h1 ~ .mark", "taken back"), has(".figures", "463 · taken back"),
		chromedp.Navigate(s.address+"/loads/8"), press("Changes"), has(".changes", "line 1 quantity"),
		press("Load the 6 good orders"), has("h1", "Load 23"), has(".figures", "6 ✓ changed"),
		press("Changes"), press("SO-000301"), press("Open the stored order"),
		has(".events", "changed by local in load 23, revision 2"), has(".events", "row 2 column 3"),
		chromedp.Navigate(s.address+"/loads/7"), has(".small", "Step sale of run 1: purchase"), press("purchase"),
		has("h1", "Load 6"),
	)
}

// At 200 % zoom of a 1280 × 800 window nothing is cut off sideways, and no page has a serious fault by the rules of
// accessibility.
func TestConsoleZoomed(t *testing.T) {
	t.Parallel()
	axe, err := os.ReadFile("../web/node_modules/axe-core/axe.min.js")
	if err != nil {
		t.Fatal(err)
	}
	s := startDemo(t)
	ctx := browser(t, 640, 400)
	var moves string
	run(t, ctx, chromedp.Navigate(s.address), has("main", "Needs attention"),
		chromedp.Evaluate(`getComputedStyle(document.querySelector("main")).transitionDuration`, &moves))
	if moves != "0.001s" {
		t.Errorf("transitions last %s for people who asked for less motion", moves)
	}
	for path, text := range map[string]string{"/today": "Orders by day", "/loads/9?tab=fix": "Map these to your codes",
		"/loads/8?tab=changes": "would change", "/documents": "Documents received", "/loads": "Loads",
		"/loads/5": "refused", "/orders": "SO-0005", "/orders/326": "SO-000326", "/mappings": "saltry-orders",
		"/mappings/saltry-orders": "version 1", "/lists": "ostrand-yards", "/exchange": "VARNHOLT", "/held": "DS-2046",
		"/exchange/1": "PM-4712", "/systems": "Our web shop", "/systems/slipway": "Read a page of",
		"/systems/slipway?tab=pulls": "done", "/systems/slipway?tab=arrivals": "SL-1040",
		"/docs/orders":                  "Every act, four ways",
		"/docs/findings#not_a_schedule": "says no deliveries"} {
		colours := []string{"light"}
		if strings.Contains(" /today /loads/5 /orders /orders/326 /exchange/1 /systems/slipway /docs/orders ", " "+path+" ") {
			colours = append(colours, "dark") // each kind of thing that is drawn stands on one of them
		}
		for _, colours := range colours {
			var wide bool
			var faults []string
			run(t, ctx, chromedp.Evaluate(`localStorage.setItem("koinos.theme", "`+colours+`")`, nil),
				chromedp.Navigate(s.address+path), has("main", text),
				chromedp.Evaluate(`document.documentElement.scrollWidth > innerWidth`, &wide),
				chromedp.Evaluate(string(axe), nil), chromedp.Evaluate(seriousFaults, &faults, awaited))
			if wide {
				t.Errorf("%s is wider than the window", path)
			}
			for _, f := range faults {
				t.Errorf("%s, %s: %s", path, colours, f)
			}
		}
	}
	// One key finds what has a name or a number, wherever it is, and the page of the documentation that explains a word.
	for _, c := range []struct{ asks, first, opens string }{{"PM-4802", "SO-000490", "PM-4802"}, {"pellow-850",
		"pellow-850", "version 1"},
		{"sdq", "A line goes to several stores", "Questions and answers"}} {
		var faults []string
		run(t, ctx, chromedp.Evaluate(`localStorage.setItem("koinos.theme", "dark")`, nil), chromedp.Navigate(s.address+
			"/loads"), has("main", "Loads"), chromedp.KeyEvent("/"),
			chromedp.KeyEvent(c.asks), // at once, as somebody types who knows the key
			has("#hit-0", c.first), chromedp.Evaluate(string(axe), nil), chromedp.Evaluate(seriousFaults, &faults, awaited),
			chromedp.KeyEvent(kb.Enter), has("main", c.opens))
		if len(faults) > 0 {
			t.Errorf("%s: %s", c.asks, faults)
		}
	}
}

// seriousFaults lists what keeps people who do not see the page, or have no mouse, from using it, by the rules of WCAG
// 2.1.
const seriousFaults = `Promise.all(document.getAnimations().filter((a) => a.effect?.getComputedTiming().iterations !== Infinity)
  .map((a) => a.finished.catch(() => undefined))).then(() => axe.run(document, { resultTypes: ['violations'], runOnly: ['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa'] })).then((r) =>
  r.violations.filter((v) => v.impact === 'serious' || v.impact === 'critical')
    .map((v) => v.id + ' (' + v.help + '): ' + v.nodes.slice(0, 4).map((n) => n.target.join(' ')).join(', ')))`

func awaited(p *runtime.EvaluateParams) *runtime.EvaluateParams { return p.WithAwaitPromise(true) }

// A system is looked at, tried, read through a mapping, and pulled.
func TestConsoleSystems(t *testing.T) {
	t.Parallel()
	s := start(t, t.TempDir(), "demo")
	run(t, browser(t, 1280, 800), chromedp.Navigate(s.address+"/systems"), has("main", "✓ answers"),
		has("main", "ledgerline"),
		press("slipway"), has("h1", "slipway"), has(".figures", "15 calls a second"),
		press("parcel"), has("[role=status]", "17 parcel records on the first page."), press("only sign in"),
		has("[role=status]", "Signed in."), press("order"),
		has("[role=status]", "40 order records on the first page."), has(".raw", `"id": 9007199254740993,`),
		press("9007199254741027"), has(".raw", `"reference": "SL-1035"`),
		press("See them through slipway-orders"), has("main", "SL-1001"), has("main", "slipway-orders"),
		chromedp.Navigate(s.address+"/systems/slipway?tab=pulls"), press("Dry run"),
		has("[role=status]", "2 records, of which 2 known already"), press("Pull everything again"),
		has("tbody tr", "webhook msg_"), has("tbody tr:first-child", "✓ done 40 40 0 0 0 0"),
		has("tbody tr:last-child", "✓ done 40 0 2 37 0 1 16"),
		press("Arrivals"), has("tbody tr:first-child", "SL-1005"), press("39"),
		has("pre", `{"id":9007199254741032,"reference":"SL-1040",`), press("Calls"), has("tbody tr:first-child", "200"),
		press("Description"), has("pre", "koinos: system/1"),
		chromedp.Navigate(s.address+"/orders/568"), click(compare, chromedp.NodeVisible),
		has(".plan", "It cannot be made right: Both sides changed note"))
}

const compare = `button[aria-label="Compare with ledgerline sales_order"]`

// A sync shows its way and what it wrote; what it holds is tried again and decided where it
// is listed, and a comparison says what differs.
func TestConsoleSyncs(t *testing.T) {
	t.Parallel()
	s := start(t, t.TempDir(), "demo")
	run(t, browser(t, 1280, 800), chromedp.Navigate(s.address+"/syncs"), has("main", "Web orders go into the books"),
		press("slipway-ledgerline"),
		has(".way", "13 created"), has(".way", "2 held"), has("tbody", "add 2 lines"), press("Queue"),
		has("tbody", `ledgerline has no article with the sku "00203".`),
		press("Runs"), has("tbody", "done"), press("Comparisons"), press("Reconcile"),
		has("#sync", "cannot be written"),
		has("#sync", "Both sides changed note"), press("see why, fix the cause, and try again"), has("h1", "Held"),
		has("tbody", "GIFT-25"),
		press("Decide"), has("[role=dialog]", "Please leave it at the gate."),
		click(`[role=dialog] input[value="there"]`, chromedp.NodeVisible),
		click(`[role=dialog] footer button:last-child, [role=dialog] .p-dialog-footer button:last-child`,
			chromedp.NodeVisible),
		hasNot("tbody", "Both sides changed note"),
		chromedp.Navigate(s.address+"/orders/568"), has("main", "The customer collects it."),
		click(compare, chromedp.NodeVisible),
		has(".plan", "It is right; there is nothing to do."),
		click("details summary", chromedp.NodeVisible), has("details", "confirm it"))
}

// Where tokens are needed the console asks for one.
func TestConsoleSignIn(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	secret, _, _ := koinos(t, nil, "token", "create", "--name", "me", "--scope", "read", "--data", data)
	s := start(t, data, "serve", "--require-token")
	run(t, browser(t, 1280, 800), chromedp.Navigate(s.address+"/orders"),
		has("[role=dialog]", "An access token is needed"),
		chromedp.SendKeys("[role=dialog] input", strings.TrimSpace(secret), chromedp.ByQuery), press("Sign in"),
		has("main", "No order has been loaded yet"))
}

// drop lets a file fall onto the page.
func drop(name, text string) chromedp.Action {
	return chromedp.Evaluate(`(() => {
		const files = new DataTransfer()
		files.items.add(new File(["`+text+`"], "`+name+`"))
		document.querySelector("main").dispatchEvent(new DragEvent("drop", { dataTransfer: files, bubbles: true, cancelable: true }))
	})()`, nil)
}

// Who opens a service that has no orders yet gets from a file to orders by the buttons that are in sight, and types
// only the partner's code.
func TestConsoleFirstVisit(t *testing.T) {
	t.Parallel()
	s := start(t, t.TempDir(), "serve")
	ctx := browser(t, 1280, 800)
	var faults []string
	axe, err := os.ReadFile("../web/node_modules/axe-core/axe.min.js")
	if err != nil {
		t.Fatal(err)
	}
	run(t, ctx, chromedp.Navigate(s.address), has("main h1", "Load your first orders"), chromedp.Evaluate(string(axe),
		nil),
		chromedp.Evaluate(seriousFaults, &faults, awaited),
		press("Try it with an example"), has("main", "kestle-week.csv"), press("Draft a new mapping for it"), has("main",
			"3 orders, 4 lines, 3 refused"),
		chromedp.SendKeys(".said input.fixed", "KESTLE"+kb.Enter, chromedp.ByQuery),
		has("main", "3 orders, 4 lines, 1 refused"),
		press("Dry run"), has("main", "2 ✓ ready"), has("main", `"four" is not a number`),
		press("Load the 2 good orders"), has("main", "2 ✓ loaded"), chromedp.Navigate(s.address+"/today"), has("main",
			"1 refused of 3 orders"),
		// A file that is dropped on any page is taken.
		chromedp.Navigate(s.address+"/lists"), has("main", "Reference lists"),
		drop("dropped.csv", "Order,Item,Qty\\nX-1,00417,2\\n"),
		has("main", "dropped.csv"), has("main", "X-1"),
		// One that says what was shipped is drafted as that.
		drop("gone.csv", "Despatch note,Order,Line,Qty despatched\\nDN-1,K-1,1,2\\nDN-1,K-1,2,1\\nDN-2,K-2,1,4\\n"),
		has("main", "gone.csv"), press("Draft a new mapping for it"), has("main", "2 orders, 3 lines"), press("Draft it as shipment"),
		has("main", "2 shipments, 3 lines"), has("main", "DN-1"), has("main", "no order is refused"),
		hasNot("main", "These must be bound"),
		drop("sent.csv", "Order,Carrier,Tracking number,Shipped\\nK-1,Northline,NL-1,2026-11-30\\nK-2,Northline,NL-2,2026-11-30\\n"),
		has("main", "sent.csv"), press("Draft a new mapping for it"), has("main", "2 orders, 2 lines"), press("Draft it as shipment"),
		has("main", "2 shipments, 0 lines"), has("main", "no order is refused"), hasNot("main", "These must be bound"),
		// Columns of a list that nobody needs stay away.
		chromedp.Navigate(s.address+"/orders"), has("thead", "Ordered"), click(".turner .p-multiselect",
			chromedp.ByQuery),
		click(`//li[contains(@class, "p-multiselect-option")][contains(., "Ordered")]`, chromedp.BySearch),
		hasNot("thead", "Ordered"),
		chromedp.Reload(), has("thead", "Their number"), hasNot("thead", "Ordered"), has(".turner", "8 of 9 columns"))
	// What a mapping leaves out is counted on the page of the load.
	some := s.loadAs(t, "some.csv", "Order,State,Item,Qty\nY-1,new,00417,2\nY-2,quote,00417,1\nY-2,quote,00501,1\nY-3,new,00417,0\n",
		"koinos: mapping/1\nname: some\ndocument: {rows: {leave_out: 'col(\"Qty\") == \"0\"'}}\norders: {kind: sales, "+
			"group: {by: key, columns: Order}, leave_out: 'col(\"State\") == \"quote\"'}\nheader: {sender_number: {from: Order}, "+
			"partner: {value: KESTLE}}\nlines: {item: {from: Item}, quantity: {from: Qty}}\n")
	run(t, ctx, chromedp.Navigate(fmt.Sprintf("%s/loads/%d", s.address, some.Load.ID)), has(".figures", "1 ✓ loaded"),
		has(".figures", "1 left out"), has(".figures", "1 row left out"))
	if len(faults) > 0 {
		t.Error(faults)
	}
}
