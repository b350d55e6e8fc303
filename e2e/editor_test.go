package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

// From an unknown document to a kept mapping and a dry run, as a person does it.
func TestMappingEditor(t *testing.T) {
	t.Parallel()
	s := startDemo(t)
	ctx := browser(t, 1280, 800)
	doc := file(t, "bootshaus.csv",
		[]byte("Bootshaus Kestle;;;;;;\n\nBestell-Nr.;Datum;Artikelnr.;Bezeichnung;Menge;Preis;Fach\n"+
			"B-1;02.03.2026;00101;Tau;10;0,85;x1\n;;00104;Tau;5;0,97;x2\nB-2;03.03.2026;00107;Tau;4;1,09;x3\n;;00110;Tau;6;1,21;x1\n"))
	var rows int
	run(t, ctx,
		chromedp.Navigate(s.address+"/documents"), has("main", "Documents received"),
		chromedp.SetUploadFiles("input[type=file]", []string{doc}, chromedp.NodeReady), has("h1", "bootshaus.csv"),
		press("Draft a new mapping for it"), has("main", "2 orders, 4 lines"), has(".fields", "Sender number"),
		has(".band .label", "B-2"),
		// What feeds nothing is listed until it is dealt with.
		has(".todo", "Fach"), click(`button[aria-label="Leave Fach out on purpose"]`, chromedp.ByQuery),
		has(".todo", "Left out on purpose: Fach"),
		// A field, then a column's letter; the value appears at once.
		click(`//div[contains(@class,"row")]/button[contains(., "Description")]`, chromedp.BySearch),
		has(".arming", "description"),
		click(`//th[starts-with(normalize-space(.), "G")]`, chromedp.BySearch), has(".fields", "Fach (G)"),
		has(".fields .value", "x1"),
		// A wrong grouping shows in the bands, and is undone.
		chromedp.Evaluate(`document.querySelectorAll('.band .label').length`, &rows),
		click(`[aria-label="Undo"], .bar button:nth-of-type(1)`, chromedp.ByQuery),
		has(".fields", "Bezeichnung (D)"),
		// The text is the same mapping.
		press("YAML"), has(".cm-content", "Bestell-Nr."), press("Fields"),
		press("Keep"), has("main", "version 1"), press("Dry run"), has("h1", "Dry run 22"), has(".figures", "2"),
		// The new mapping is among the others, with its versions.
		chromedp.Navigate(s.address+"/mappings"), has("main", "bootshaus"), press("bootshaus"),
		has("main", "version 1"), has("pre", "Fach"),
		// Lists are edited in place.
		chromedp.Navigate(s.address+"/lists"), has("main", "ostrand-yards"), press("ostrand-yards"),
		has("main", "crosswalk of"), press("Add a row"),
		chromedp.SendKeys(`input[aria-label="theirs of row 1"]`, "North yard"+kb.Tab, chromedp.ByQuery),
		chromedp.SendKeys(`input[aria-label="ours of row 1"]`, "0020"+kb.Tab, chromedp.ByQuery),
		press("Save"), has("main", "crosswalk of 5 rows"),
	)
}

// A team's repository: mappings with samples and kept expected orders.
func TestKeptExpectations(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string) {
		if err := os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	const m = "koinos: mapping/1\nname: plain\norders: {kind: sales, group: {by: key, columns: No}}\nheader: " +
		"{sender_number: {from: No}, partner: {value: P}}\nlines: {item: {from: Item}, quantity: {from: Qty}}\n"
	write("plain.yaml", m)
	write("plain/week.csv", "No,Item,Qty\n1,a,2\n1,b,3\n")
	for _, c := range []struct {
		args []string
		code int
		says string
	}{
		{nil, 1, "new      plain"}, {[]string{"--update"}, 0, "written  plain"}, {nil, 0, "same     plain"},
	} {
		out, _, code := koinos(t, nil, append([]string{"mapping", "test", dir}, c.args...)...)
		if code != c.code || !strings.Contains(out, c.says) {
			t.Errorf("%v: %d %s", c.args, code, out)
		}
	}
	write("plain.yaml", strings.Replace(m, "item: {from: Item}", "item: {from: Item, expr: upper(value)}", 1))
	out, _, code := koinos(t, nil, "mapping", "test", dir)
	if code != 1 || !strings.Contains(out, "-   line 1: item a, quantity 2") ||
		!strings.Contains(out, "+   line 1: item A, quantity 2") {
		t.Errorf("%d %s", code, out)
	}
	out, _, code = koinos(t, nil, "mapping", "coverage", filepath.Join(dir, "plain.yaml"),
		file(t, "more.csv", []byte("No,Item,Qty,Shelf\n1,a,2,S9\n")))
	if code != 0 || !strings.Contains(out, "Shelf") || !strings.Contains(out, "S9") {
		t.Errorf("%d %s", code, out)
	}
	out, notes, code := koinos(t, nil, "mapping", "draft", filepath.Join(dir, "plain", "week.csv"))
	if code != 0 || !strings.Contains(out, `by: key, columns: "No"`) || !strings.Contains(notes, "unsure") {
		t.Errorf("%d %s %s", code, out, notes)
	}
}

// A column is dragged onto a field, what that changes is shown, and a value of
// a JSON document is bound by choosing it.
func TestMappingEditorByHand(t *testing.T) {
	t.Parallel()
	s := startDemo(t)
	ctx := browser(t, 1280, 800)
	tree := file(t, "slipway.json",
		[]byte(`{"orders": [{"id": "W-1", "placed": "2026-03-02", "hull": {"no": "NX 4"}, "lines": [{"sku": `+
			`"00101", "qty": 2, "shade": "navy"}]}, {"id": "W-2", "placed": "2026-03-03", "lines": [{"sku": `+
			`"00104", "qty": 1}]}]}`))
	drag := func(column, field string) chromedp.Action {
		return chromedp.Evaluate(`(() => {
			const data = new DataTransfer(), head = [...document.querySelectorAll('th')].find(t => t.innerText.startsWith('`+column+`'))
			const row = [...document.querySelectorAll('.fields .row')].find(r => r.innerText.startsWith('`+field+`'))
			head.dispatchEvent(new DragEvent('dragstart', { dataTransfer: data, bubbles: true }))
			for (const what of ['dragover', 'drop']) row.dispatchEvent(new DragEvent(what, { dataTransfer: data, bubbles: true, cancelable: true }))
		})()`, nil)
	}
	run(t, ctx,
		chromedp.Navigate(s.address+"/documents"), has("main", "Documents received"), press("saltry-march.csv"),
		has("h1", "saltry-march.csv"), has(".side", "saltry-orders"),
		press("Open in the mapping editor"), has("main", "version 1"), has(".fields", "Item (E)"),
		has("main", "25 orders"),
		drag("E", "Description"), has(".fields .row:nth-of-type(2)", "Item (E)"), has("main", "version 1, changed"),
		press("What changes?"), has("[role=dialog]", "Of 25 orders 0 are the same"),
		has("[role=dialog]", "line 1 description"),
		chromedp.Navigate(s.address+"/documents"), has("main", "Documents received"),
		chromedp.SetUploadFiles("input[type=file]", []string{tree}, chromedp.NodeReady), has("h1", "slipway.json"),
		press("Draft a new mapping for it"), has("main", "2 orders, 2 lines"), has(".todo", "hull"),
		chromedp.SendKeys(`input[aria-label="Name of a field of your own"]`, "hull_no", chromedp.ByQuery),
		press("on the header"), has(".arming", "hull no"),
		click(`//td[contains(., "/orders/0/hull/no")]`, chromedp.BySearch), has(".fields", "NX 4"),
		press("YAML"), has(".cm-content", "custom.hull_no: {from: $.hull.no}"),
		// By keyboard: tabs by arrow keys.
		chromedp.Focus("#editor-panel-yaml", chromedp.ByQuery), chromedp.KeyEvent(kb.ArrowRight),
		has("[role=tab][aria-selected=true]", "Fields"), chromedp.KeyEvent(kb.End),
		has("[role=tab][aria-selected=true]", "YAML"),
	)
}
