package e2e

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"koinos/api"
	"koinos/core/x12"
)

// Of an interchange with thousands of sets, a person sees first those that wait for somebody, wherever they stand,
// and finds the set of each order.
func TestManySets(t *testing.T) {
	t.Parallel()
	s := startDemo(t)
	const n = 2_500
	held := []int{700, 1234, 2500}
	var b strings.Builder
	row, starts := 2, map[int]int{}
	b.WriteString("ISA*00*          *00*          *ZZ*PELLOW         *ZZ*QUILLMERE      *260520*0930*U*00401*000009905*0*P*>~" +
		"GS*PO*PELLOW*QUILLMERE*20260520*0930*977*X*004010~")
	for k := 1; k <= n; k++ {
		quantity := "2"
		if slices.Contains(held, k) {
			quantity = "two"
		}
		starts[k] = row + 1
		row += 7
		fmt.Fprintf(&b, "ST*850*%04d~BEG*00*SA*PX-%d**20260520~REF*CT*C-2026-18~N1*ST*Pellow Marina*92*0040~"+
			"PO1*1*%s*EA*1.25*PE*VP*00113~CTT*1~SE*7*%04[1]d~", k, k, quantity)
	}
	fmt.Fprintf(&b, "GE*%d*977~IEA*1*000009905~", n)
	out, said, code := s.koinos("exchange", "receive", file(t, "many.edi", []byte(b.String())), "--output", "json")
	var came []api.Interchange
	if err := json.Unmarshal([]byte(out), &came); err != nil || len(came) != 1 || code != 3 {
		t.Fatal(err, code, said)
	}
	i := came[0]
	seqs := func(sets []api.SetRecord) (all []int) {
		for k := range sets {
			all = append(all, sets[k].Seq)
		}
		return all
	}
	if got := seqs(i.Sets); len(got) != 200 || !slices.Equal(got[:5], append(slices.Clone(held), 1, 2)) || got[199] != 197 ||
		fmt.Sprint(i.SetStates) != "map[done:2497 held:3]" || i.SetCount != n {
		t.Errorf("%d sets, %v: %v", i.SetCount, i.SetStates, got)
	}
	path := fmt.Sprintf("/api/v1/interchanges/%d", i.ID)
	ours := ""
	for _, c := range []struct {
		query string
		want  []int
	}{
		{"state=held", held}, {"state=held&cursor=700&limit=1", []int{1234}}, {"state=rejected", nil},
		{"number=PX-2000", []int{2000}}, {"number=2001", []int{2001}}, {"number=OURS", []int{2000}},
		{"number=PX-2000&state=held", nil}, {"number=px-2000", []int{2000}}, {"number=PX-200", []int{200}}, {"number=none", nil}, {"cursor=2498", []int{2499, 2500}},
	} {
		var page api.Page[api.SetRecord]
		_, text := s.do("GET", path+"/sets?"+strings.Replace(c.query, "OURS", ours, 1), "")
		if err := json.Unmarshal([]byte(text), &page); err != nil || !slices.Equal(seqs(page.Items), c.want) {
			t.Errorf("%s: %v, want %v: %v", c.query, seqs(page.Items), c.want, err)
			continue
		}
		if c.query == "number=PX-2000" {
			_, text := s.do("GET", fmt.Sprintf("/api/v1/orders/%d", page.Items[0].First().OrderID), "")
			var o api.StoredOrder
			if err := json.Unmarshal([]byte(text), &o); err != nil {
				t.Fatal(err)
			}
			ours = o.Number
		}
	}
	var page api.Page[x12.Item]
	_, text := s.do("GET", fmt.Sprintf("%s/segments?from=%d&limit=5", path, starts[1234]+1), "")
	if err := json.Unmarshal([]byte(text), &page); err != nil {
		t.Fatal(err)
	}
	var shown []string
	for _, item := range page.Items {
		shown = append(shown, fmt.Sprintf("%s %d", item.ID, item.Row-starts[1234]))
	}
	if got := strings.Join(shown, ", "); got != fmt.Sprintf("ISA %d, GS %d, ST 0, BEG 1, REF 2", 1-starts[1234], 2-starts[1234]) ||
		page.Next != fmt.Sprint(starts[1234]+3) {
		t.Errorf("around set 1234: %s, then %s", got, page.Next)
	}
	id := fmt.Sprint(i.ID)
	want := "Interchange " + id + "  from PELLOW, 850, control 000009905: held\n  file many.edi\n  2500 transaction sets: 2497 done, 3 held; " +
		"koinos exchange show " + id + " --state, or --number, shows others\nset  control  state  orders   load  findings\n"
	found := func(k int) string {
		return fmt.Sprintf("Set 850 %04d\n  ! ST %04[1]d / PO1 / 02: \"two\" is not a number: digits, with a point and a minus in front at "+
			"most (Quantity Ordered). (element 6)\n  ✕ ST %04[1]d / PO1 / 02: \"two\" is not a number for quantity: a plain number was "+
			"expected.\n    → Write a plain number with the decimal sign that the mapping names.\n", k)
	}
	last := "When the cause is gone: koinos exchange replay " + id + ". When it is dealt with by hand: koinos exchange settle " + id + "\n"
	load := fmt.Sprint(i.Sets[0].LoadID)
	line := func(k int, state, number, findings string) string {
		return fmt.Sprintf("850  %04d     %-5s  %-7s  %4s  %8s\n", k, state, number, load, findings)
	}
	for args, more := range map[string]string{
		"": line(700, "held", "PX-700", "2") + line(1234, "held", "PX-1234", "2") + line(2500, "held", "PX-2500", "2") +
			found(700) + found(1234) + found(2500) + last,
		"--number PX-1234":        line(1234, "held", "PX-1234", "2") + found(1234) + last,
		"--state held --limit 1":  strings.Replace(line(700, "held", "PX-700", "2"), "PX-700 ", "PX-700", 1) + found(700) + last,
		"--number PX-2400":        line(2400, "done", "PX-2400", "0"),
		"--state rejected":        "",
		"--number PX-1 --limit 9": line(1, "done", "PX-1", "0"),
	} {
		head := want
		out, said, code := s.koinos(append([]string{"exchange", "show", id}, strings.Fields(args)...)...)
		if normal(out) != normal(head+more) && !(args == "--state rejected" && normal(out) == normal(head[:strings.Index(head, "set  control")])) {
			t.Errorf("show %s ends with %d:\n%s%s\nwant\n%s", args, code, out, said, head+more)
		}
	}
	run(t, browser(t, 1280, 800),
		chromedp.Navigate(s.address+"/held"), has("main", "set that came"), press("PX-2500"), has(".paper", "PX-2500"),
		has("[aria-current=true]", "PX-2500"), has(".segments", "PX-2500"), hasNot(".segments", "Set 0002"),
		chromedp.Navigate(s.address+"/exchange/"+id), has("[aria-current=true]", "PX-700"), has(".findings", `"two" is not a number`),
		has(".paper", "PX-700"), press("PX-1234"), has(".paper", "PX-1234"), has(".segments", "Set 1234: 850"),
		press("Earlier segments"), has(".segments", "PX-1000"), press("ST 1234 / PO1 / 02"), has(".segments .active", "two"),
		click(".sets .p-select", chromedp.ByQuery), click(`//li[contains(., 'all 2,500')]`, chromedp.BySearch), has(".sets", "PX-50"), hasNot(".sets", "PX-51"),
		press("Next"), has(".sets", "PX-51"), chromedp.SendKeys(".sets input", "PX-2222\r", chromedp.ByQuery),
		has(".paper", "PX-2222"), has("[aria-current=true]", "PX-2222"))
}

// normal leaves only how text is set in tables out.
func normal(s string) string { return strings.Join(strings.Fields(s), " ") }
