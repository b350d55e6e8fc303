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
func TestWorkbench(t *testing.T) {
	s := start(t, t.TempDir(), "demo")
	ctx := browser(t, 1280, 800)
	doc := file(t, "bootshaus.csv", []byte("Bootshaus Kestle;;;;;;\n\nBestell-Nr.;Datum;Artikelnr.;Bezeichnung;Menge;Preis;Fach\n"+
		"B-1;02.03.2026;00101;Tau;10;0,85;x1\n;;00104;Tau;5;0,97;x2\nB-2;03.03.2026;00107;Tau;4;1,09;x3\n;;00110;Tau;6;1,21;x1\n"))
	var rows int
	run(t, ctx,
		chromedp.Navigate(s.address+"/"), has("main", "Documents received"),
		chromedp.SetUploadFiles("input[type=file]", []string{doc}, chromedp.NodeReady), has("h1", "bootshaus.csv"),
		press("Draft a new mapping for it"), has("main", "2 orders, 4 lines"), has(".fields", "sender number"), has(".band .label", "B-2"),
		// What feeds nothing is listed until it is dealt with.
		has(".todo", "Fach"), chromedp.Click(`button[aria-label="Leave Fach out on purpose"]`, chromedp.ByQuery), has(".todo", "Left out on purpose: Fach"),
		// A field, then a column's letter; the value appears at once.
		chromedp.Click(`//div[contains(@class,"row")]/button[contains(., "description")]`, chromedp.BySearch), has(".arming", "description"),
		chromedp.Click(`//th[starts-with(normalize-space(.), "G")]`, chromedp.BySearch), has(".fields", "Fach (G)"), has(".fields .value", "x1"),
		// A wrong grouping shows in the bands, and is undone.
		chromedp.Evaluate(`document.querySelectorAll('.band .label').length`, &rows),
		chromedp.Click(`[aria-label="Undo"], .bar button:nth-of-type(1)`, chromedp.ByQuery), has(".fields", "Bezeichnung (D)"),
		// The text is the same mapping.
		press("YAML"), has(".cm-content", "Bestell-Nr."), press("Fields"),
		press("Keep"), has("main", "version 1"), press("Dry run"), has("h1", "Dry run 6"), has(".figures", "2"),
		// The new mapping is among the others, with its versions.
		chromedp.Navigate(s.address+"/mappings"), has("main", "bootshaus"), press("bootshaus"), has("main", "version 1"), has("pre", "Fach"),
		// Lists are edited in place.
		chromedp.Navigate(s.address+"/lists"), has("main", "ostrand-yards"), press("ostrand-yards"), has("main", "crosswalk of"), press("Add a row"),
		chromedp.SendKeys(`input[aria-label="theirs of row 1"]`, "North yard"+kb.Tab, chromedp.ByQuery), chromedp.SendKeys(`input[aria-label="ours of row 1"]`, "0020"+kb.Tab, chromedp.ByQuery),
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
	const m = "koinos: mapping/1\nname: plain\norders: {kind: sales, group: {by: key, columns: No}}\nheader: {sender_number: {from: No}, partner: {value: P}}\nlines: {item: {from: Item}, quantity: {from: Qty}}\n"
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
	if code != 1 || !strings.Contains(out, "-   line 1: item a, quantity 2") || !strings.Contains(out, "+   line 1: item A, quantity 2") {
		t.Errorf("%d %s", code, out)
	}
	out, _, code = koinos(t, nil, "mapping", "coverage", filepath.Join(dir, "plain.yaml"), file(t, "more.csv", []byte("No,Item,Qty,Shelf\n1,a,2,S9\n")))
	if code != 0 || !strings.Contains(out, "Shelf") || !strings.Contains(out, "S9") {
		t.Errorf("%d %s", code, out)
	}
	out, notes, code := koinos(t, nil, "mapping", "draft", filepath.Join(dir, "plain", "week.csv"))
	if code != 0 || !strings.Contains(out, `by: key, columns: "No"`) || !strings.Contains(notes, "unsure") {
		t.Errorf("%d %s %s", code, out, notes)
	}
}
