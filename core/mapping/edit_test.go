package mapping

import (
	"strings"
	"testing"

	"koinos/core/order"
)

// A mapping is changed where it has to be, and nowhere else.
func TestEdit(t *testing.T) {
	const rest = "lines:\n  item: {from: I}\n  quantity: {from: Q}\n"
	head := func(locale, date string) string {
		return "koinos: mapping/1 # ours\nname: a\n" + locale +
			"orders: {kind: sales, group: {by: file}}\nheader:\n  partner: {value: P}\n" + date + rest
	}
	for _, c := range []struct{ text, want string }{
		{head("", "  ordered_on: {from: D}\n"), `  ordered_on: {dates: ["d.m.yy"], from: D}`},
		{head("", "  ordered_on:\n    from: D # theirs\n"),
			"  ordered_on:\n    dates: [\"d.m.yy\"]\n    from: D # theirs\n"},
		{head("", "  ordered_on: {from: D, dates: d/m/yyyy}\n"), `{from: D, dates: [d/m/yyyy, "d.m.yy"]}`},
		{head("", "  ordered_on: {from: D, dates: ['d/m/yyyy', yyyy-mm-dd]}\n"),
			`dates: ['d/m/yyyy', yyyy-mm-dd, "d.m.yy"]}`},
		{head("document:\n  locale: {dates: [d/m/yyyy]}\n", "  ordered_on: {from: D}\n"),
			`locale: {dates: [d/m/yyyy, "d.m.yy"]}`},
		{head("document:\n  locale:\n    dates:\n      - d/m/yyyy # usual\n", "  ordered_on: {from: D}\n"),
			"      - d/m/yyyy # usual\n      - \"d.m.yy\"\n"},
		{head("document:\n  locale:\n    dates: d/m/yyyy # usual\n", "  ordered_on: {from: D}\n"),
			`    dates: [d/m/yyyy, "d.m.yy"] # usual`},
		{head("", "  ordered_on: {from: Größe, dates: d/m/yyyy}\n"), `{from: Größe, dates: [d/m/yyyy, "d.m.yy"]}`},
		{head("", "  ordered_on: {from: Größe, dates: [d/m/yyyy]}\n"), `{from: Größe, dates: [d/m/yyyy, "d.m.yy"]}`},
	} {
		got, err := AddDateForm(c.text, order.Header, "ordered_on", "d.m.yy")
		if err != nil || !strings.Contains(got, c.want) || !strings.Contains(got, "# ours") {
			t.Errorf("%v\n%s\nwant %s", err, got, c.want)
			continue
		}
		if len(strings.Split(got, "\n"))-len(strings.Split(c.text, "\n")) > 1 {
			t.Errorf("more than a line was added:\n%s", got)
		}
	}
	for _, form := range []string{"", "x", "dd"} {
		if got, err := AddDateForm(head("", "  ordered_on: {from: D}\n"), order.Header, "ordered_on",
			form); err == nil {
			t.Errorf("%q: %s", form, got)
		}
	}
	if _, err := AddDateForm(head("", ""), order.Header, "ordered_on", "d.m.yy"); err == nil {
		t.Error("a field that is not bound was changed")
	}
	for text, want := range map[string]string{
		head("", ""): "  item: {crosswalk: a-item, others: keep, from: I}",
		strings.Replace(head("", ""), "item: {from: I}", "item:\n    from: I",
			1): "  item:\n    crosswalk: a-item\n    others: keep\n    from: I\n",
	} {
		if got, name, err := AddCrosswalk(text, order.Lines, "item", "a-item"); err != nil || name != "a-item" ||
			!strings.Contains(got, want) {
			t.Errorf("%v\n%s\nwant %s", err, got, want)
		}
	}
	has := strings.Replace(head("", ""), "{from: I}", "{from: I, crosswalk: theirs}", 1)
	if got, name, err := AddCrosswalk(has, order.Lines, "item", "a-item"); err != nil || name != "theirs" ||
		got != has {
		t.Errorf("%v %s\n%s", err, name, got)
	}
}
