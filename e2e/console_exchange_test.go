package e2e

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"koinos/api"
)

// What is held at the exchange says why, beside the order; a value and its element
// point at each other; a file that is taken in shows what became of it.
func TestConsoleExchange(t *testing.T) {
	t.Parallel()
	s := startDemo(t)
	text, err := os.ReadFile(filepath.Join(s.data, "examples", "pellow-orders.edi"))
	if err != nil {
		t.Fatal(err)
	}
	again := file(t, "again.edi", []byte(strings.Replace(strings.ReplaceAll(string(text), "000000905", "000000906"),
		"PM-4712**20260231", "PM-4713**20260320", 1)))
	rejection := file(t, "rejection.edi", []byte("ISA*00*          *00*          *ZZ*PELLOW         *ZZ*QUILLMERE      *"+
		"260316*0930*U*00401*000009001*0*P*>~GS*FA*PELLOW*QUILLMERE*20260316*0930*9001*X*004010~ST*997*0001~AK1*SH*7~"+
		"AK2*856*0001~AK3*HL*3*HL*8~AK4*3*735*7*S~AK5*R*5~AK9*R*1*1*0~SE*7*0001~GE*1*9001~IEA*1*000009001~"))
	arrow := chromedp.KeyEvent(kb.ArrowDown)
	run(t, browser(t, 1280, 800),
		chromedp.Navigate(s.address+"/today"), has("main", "850 to VARNHOLT"), press("850 to VARNHOLT"),
		has(".findings", "Give the line the supplier's own item code"), has(".paper", "PO-000044"),
		has(".segments", "QUILLMERE CHANDLERY, WEST YARD DEPOT"),
		press("Try again"), has("main", "Written again"),
		chromedp.Navigate(s.address+"/exchange"), has("main", "2 held"), has(".partners", "they send 850, 860"),
		has("tbody", "acknowledged"),
		chromedp.SetUploadFiles("input[type=file]", []string{again}, chromedp.NodeReady), has("h1", "850 from PELLOW"),
		has("main", "control 000000906"), has("[role=tab][aria-selected=true]", "PM-4713"),
		has(".findings", `"five" is not a number for quantity`), has(".segments .wrong", "five"),
		press("PM-4711"), has(".paper", "PM-4711"), click(`[data-at="5:4"], [data-at="4:4"]`,
			chromedp.ByQuery), has("[role=status]", "It is"), chromedp.Focus(".segments", chromedp.ByQuery), arrow,
		has(".segments .active", "20260314"),
		// A supplier promises another day than was asked for: a buyer is told, and takes it.
		chromedp.Navigate(s.address+"/today"), has("main", "1 order answered differently"), press("answered differently"),
		has("main", "line 3: due 2026-04-13"),
		press("PO-000043"), has(".acts .held", "Line 3: due 2026-04-13"), press("Take what is offered"), hasNot(".acts",
			"not what was ordered"),
		chromedp.Navigate(s.address+"/held?code=answer_differs"), has("main", "Nothing is held."),
		// A partner rejects what was sent to it: its note stands at our segment, until somebody has settled that.
		chromedp.Navigate(s.address+"/exchange"), has("main", "3 held"),
		chromedp.SetUploadFiles("input[type=file]", []string{rejection}, chromedp.NodeReady), has("h1", "997 from PELLOW"),
		chromedp.Navigate(s.address+"/today"), has("main", "856 to PELLOW"), press("856 to PELLOW"),
		has(".findings", `HL03 Hierarchical Level Code, which is "S": invalid code value (7)`), has("main", "Send again"),
		press("Settled"), has("main", "settled by"), hasNot("main", "Settled\n"),
		chromedp.Navigate(s.address+"/today"), has("main", "850 to VARNHOLT"), hasNot("main", "856 to PELLOW"),
	)
	// Of the changes that a partner asks for, somebody takes those of some lines and refuses the others.
	ask, waiting := file(t, "ask.edi", []byte("ISA*00*          *00*          *ZZ*PELLOW         *ZZ*QUILLMERE      *"+
		"260318*0930*U*00401*000009002*0*P*>~GS*PC*PELLOW*QUILLMERE*20260318*0930*9002*X*004010~ST*860*0001~BCH*04*SA*PM-4711***20260318~"+
		"DTM*002*20260410~POC*1*QI*30**MR*1.33*PE*VP*00113~POC*2*PC*3**BX*30*PE*VP*00489~POC*3*AI*12**EA*4.11*PE*VP*00185~POC*7*DI*0**EA***VP*00186~"+
		"CTT*4~SE*9*0001~GE*1*9002~IEA*1*000009002~")), file(t, "pellow.yaml", nil)
	partner, err := os.ReadFile("../demo/partners/pellow.yaml")
	if err == nil {
		err = os.WriteFile(waiting, bytes.Replace(partner, []byte("changes: take"), []byte("changes: wait"), 1), 0o600)
	}
	if err != nil {
		t.Fatal(err)
	}
	env := []string{"KOINOS_ADDRESS=" + s.address}
	if _, said, code := koinos(t, env, "partner", "keep", waiting); code != 0 {
		t.Fatal(said)
	}
	out, _, _ := koinos(t, env, "exchange", "receive", ask, "--output", "json")
	var came []api.Interchange
	if err := json.Unmarshal([]byte(out), &came); err != nil || len(came) != 1 {
		t.Fatal(out, err)
	}
	id := fmt.Sprint(came[0].ID)
	if out, _, _ := koinos(t, env, "exchange", "decide", id); out != `Set 1: 860 0001 about PM-4711
  take  at                     asked for
header  ST 0001 / DTM / 02     requested_delivery_on was "2026-03-30", is "2026-04-10"
     1  ST 0001 / POC / 03     line 1 quantity was "20", is "30"
     2  ST 0001 / POC #2 / 06  line 2 unit_price was "31.42", is "30"
     3  ST 0001 / POC #3 / 01  line 3 number was blank, is "3"
     3  ST 0001 / POC #3 / 09  line 3 item was blank, is "00185"
     3  ST 0001 / POC #3 / 03  line 3 quantity was blank, is "12"
     3  ST 0001 / POC #3 / 05  line 3 unit was blank, is "EA"
     3  ST 0001 / POC #3 / 06  line 3 unit_price was blank, is "4.11"

To take some and refuse the others: koinos exchange decide `+id+` --take LINES, or all, or none
` {
		t.Error(out)
	}
	run(t, browser(t, 1280, 800),
		chromedp.Navigate(s.address+"/exchange/"+id), has(".findings", "has no line 7"), has(".asked", `line 1 quantity was "20", is "30"`),
		press("POC #2 / 06"), has(".segments .active", "30"), click(`//label[contains(., 'Line 2 of the set')]//input`, chromedp.BySearch),
		press("Take 3 of 4, refuse the others"), has(".side", "local took what it asks for in the header and lines 1, 3."),
		chromedp.Navigate(s.address+"/held"), has("main", "850"), hasNot("main", "PM-4711"))
	if out, said, code := koinos(t, env, "exchange", "decide", id, "--take", "2"); code != 1 ||
		said != "koinos: no change that interchange "+id+" asks for waits for a decision\n" {
		t.Error(code, out, said)
	}
	var sent []api.Interchange
	for end := time.Now().Add(time.Minute); len(sent) == 0 && time.Now().Before(end); time.Sleep(100 * time.Millisecond) {
		out, _, _ := koinos(t, env, "exchange", "list", "--order", "PM-4711", "--set", "865", "--output", "json")
		if err := json.Unmarshal([]byte(out), &sent); err != nil {
			t.Fatal(out, err)
		}
	}
	if len(sent) != 1 {
		t.Fatal("no 865 was sent")
	}
	_, content := s.do("GET", fmt.Sprintf("/api/v1/interchanges/%d/content", sent[0].ID), "")
	var told []string
	for segment := range strings.SplitSeq(content, "~") {
		if segment = strings.TrimSpace(segment); strings.HasPrefix(segment, "ACK*") || strings.HasPrefix(segment, "POC*") {
			told = append(told, strings.Join(strings.Split(segment, "*")[:3], "*"))
		}
	}
	if got, want := strings.Join(told, " "), "POC*1*QI ACK*IA*30 POC*2*PC ACK*IP*3 POC*3*AI ACK*IA*12 POC*7*DI ACK*IR*0"; got != want {
		t.Errorf("told %s, not %s", got, want)
	}
}
