package e2e

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	downloads "github.com/chromedp/cdproto/browser"
	"github.com/chromedp/chromedp"

	"koinos/core/order"
	"koinos/core/outcome"
)

// In the console somebody chooses what a table of orders has, keeps the choice and the mapping that takes the table in,
// and gets the table: whole, and then only what is new. What was changed in it is what the orders become.
func TestConsoleExport(t *testing.T) {
	t.Parallel()
	axe, err := os.ReadFile("../web/node_modules/axe-core/axe.min.js")
	if err != nil {
		t.Fatal(err)
	}
	s := start(t, t.TempDir(), "serve")
	post := func(number string) {
		o := order.Order{Kind: order.Sales, Partner: "PELLOW", SenderNumber: number, Currency: "EUR", Notes: "call first",
			Custom: []order.Custom{{Name: "hull", Value: "H1"}}, Lines: []order.Line{{Item: "00417", Quantity: order.NumberOf(10)},
				{Item: "00501", Quantity: order.NumberOf(4)}}}
		if _, err := s.api().PostOrder(t.Context(), &o, outcome.Skip); err != nil {
			t.Fatal(err)
		}
	}
	post("A-1")
	to := t.TempDir()
	written := func(want string) chromedp.Action { // a table that was downloaded
		return chromedp.ActionFunc(func(context.Context) error {
			name, got := filepath.Join(to, "orders.csv"), ""
			waitFor(t, "the table", func() bool {
				text, err := os.ReadFile(name)
				got = strings.ReplaceAll(string(text), "\r\n", "\n")
				return err == nil && strings.HasSuffix(got, "\n")
			})
			if got != want {
				t.Errorf("the table is\n%s\nnot\n%s", got, want)
			}
			return os.Remove(name)
		})
	}
	column := func(name string) chromedp.Action {
		return click(`//li[@role='option'][.//b[normalize-space(.)='`+name+`']]`, chromedp.BySearch, chromedp.NodeVisible)
	}
	export := click(`//section[@aria-label='Export']//button[normalize-space(.)='Export'][not(@disabled)]`, chromedp.BySearch)
	var faults []string
	const own, heading = `input[aria-label="A field with a name of your own"]`, "number,notes,custom.hull,lines.number,lines.quantity"
	const first = "SO-000001,call first,H1,1,10\nSO-000001,call first,H1,2,4\n"
	run(t, browser(t, 1280, 800),
		downloads.SetDownloadBehavior(downloads.SetDownloadBehaviorBehaviorAllow).WithDownloadPath(to),
		chromedp.Navigate(s.address+"/orders"), press("Export …"), has(".export", "all orders of this list"),
		has(".columns", "lines.invoiced"), chromedp.Evaluate(string(axe), nil), chromedp.Evaluate(seriousFaults, &faults, awaited),
		chromedp.ActionFunc(func(context.Context) error {
			if len(faults) > 0 {
				t.Errorf("the panel: %q", faults)
			}
			return nil
		}),
		// The columns: some are left out, others are added, one has the reader's own name, and one is moved.
		chromedp.Evaluate(`for (const b of [...document.querySelectorAll('.columns button[aria-label^="Leave"]')])
			if (!['number', 'lines.number', 'lines.quantity'].some((c) => b.ariaLabel === 'Leave ' + c + ' out')) b.click()`, nil),
		has(".columns", "lines.quantity"), hasNot(".columns", "lines.invoiced"),
		click(`[role=combobox][aria-label="Columns"]`, chromedp.ByQuery), column("notes"), chromedp.KeyEvent("\x1b"),
		fill(own, "colour.hull"), chromedp.WaitNotPresent(`//button[normalize-space(.)='Add'][not(@disabled)]`, chromedp.BySearch),
		fill(own, "custom.hull"), press("Add"),
		click(`button[aria-label="Move notes to the left"]`, chromedp.ByQuery), click(`button[aria-label="Move notes to the left"]`, chromedp.ByQuery),
		click(`button[aria-label="Move custom.hull to the left"]`, chromedp.ByQuery), click(`button[aria-label="Move custom.hull to the left"]`, chromedp.ByQuery),
		pick("Written as", "CSV"), export, written(heading+"\n"+first),
		// The choice is kept, and what comes later is written alone.
		fill("#x-name", "with-hulls"), press("Keep this choice"), has(".export", "koinos order export --saved with-hulls --to orders.csv"),
		export, written(heading+"\n"+first),
		chromedp.ActionFunc(func(context.Context) error { post("A-2"); return nil }),
		// Orders that are chosen by their numbers, whosever these are; what is not clear is said.
		press("By numbers …"), fill(`textarea[aria-label="Numbers of orders"]`, "a-1\nso-000002, A-9;a-1"), press("Choose 3 orders"),
		has(".numbers", "2 of 3 numbers found. No order has the number A-9."), has(".many", "2 orders chosen"),
		has(".export", "the 2 orders that you have chosen"), press("Choose none"), has(".export", "all orders of this list"),
		click(`//label[contains(., 'Only what is new')]//input`, chromedp.BySearch), export,
		written(heading+"\n"+strings.ReplaceAll(first, "SO-000001", "SO-000002")),
		click(`//label[contains(., 'Only what is new')]//input`, chromedp.BySearch),
		// To be changed: the keys come along, and the mapping is kept.
		pick("The table is", "to change values in it"), pick("Of which orders", "sales"), export,
		written("revision,partner,lines.item,"+heading+"\n1,PELLOW,00417,SO-000002,call first,H1,1,10\n1,PELLOW,00501,SO-000002,,,2,4\n"+
			"1,PELLOW,00417,SO-000001,call first,H1,1,10\n1,PELLOW,00501,SO-000001,,,2,4\n"),
		fill("#x-mapping", "hulls-again"), press("Keep it here"), has(".export", "The mapping hulls-again is kept."))
	if kept, _, code := s.koinos("order", "export", "--saved", "with-hulls", "--to", "-"); code != 0 || kept !=
		heading+"\n"+strings.ReplaceAll(first, "SO-000001", "SO-000002")+first {
		t.Errorf("the command writes %s", kept)
	}
	changed := file(t, "changed.csv", []byte("revision,partner,lines.item,"+heading+"\n1,PELLOW,00417,SO-000001,,H2,1,10\n1,PELLOW,00501,SO-000001,,,2,4\n"))
	if out, errOut, code := s.koinos("load", changed, "--mapping", "hulls-again"); code != 0 {
		t.Fatal(out, errOut)
	}
	if o, err := s.api().Order(t.Context(), 1); err != nil || o.Notes != "" || o.Custom[0].Value != "H2" || o.Revision != 2 {
		t.Errorf("it is %+v, %v", o, err)
	}
}
