package e2e

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"koinos/api"
	"koinos/client"
	"koinos/core/order"
	"koinos/core/outcome"
	"koinos/demo"
)

// The partners of the demo have said all that they have to say; every
// interchange of ours is sound by their rules, in order, and answered.
func TestExchange(t *testing.T) {
	s := startDemo(t)
	out, errOut, code := s.koinos("exchange", "list", "--limit", "500", "--output", "json")
	var all []api.Interchange
	if err := json.Unmarshal([]byte(out), &all); err != nil || code != 0 {
		t.Fatal(err, errOut)
	}
	partners := map[string]string{}
	for _, name := range demo.Names("partners") {
		text, err := demo.Files.ReadFile("partners/" + name)
		if err != nil {
			t.Fatal(err)
		}
		partners[strings.ToUpper(strings.TrimSuffix(name, ".yaml"))] = file(t, name, text)
	}
	said, last := map[string]int{}, map[string]int64{}
	for k := len(all) - 1; k >= 0; k-- { // oldest first
		i := &all[k]
		said[i.Direction+" "+i.Partner+" "+i.Kinds+" "+i.State]++
		if i.Direction == "in" || i.Control == 0 {
			continue
		}
		if i.Control != last[i.Partner]+1 {
			t.Errorf("the control number %d of %s comes after %d", i.Control, i.Partner, last[i.Partner])
		}
		last[i.Partner] = i.Control
		written := filepath.Join(s.data, "exchange", i.Partner, "out", i.Name)
		if out, _, code := koinos(t, nil, "x12", "check", "--partner", partners[i.Partner], written); code != 0 {
			t.Errorf("%s: %s", i.Name, out)
		}
		_, kept := s.do("GET", fmt.Sprintf("/api/v1/interchanges/%d/content", i.ID), "")
		if onDisk, err := os.ReadFile(written); err != nil || string(onDisk) != kept {
			t.Errorf("%s is not what is kept (%v)", i.Name, err)
		}
	}
	for _, want := range []string{"in PELLOW 850 held", "in PELLOW 850 done", "in PELLOW 860 done",
		"out PELLOW 865 accepted", "out PELLOW 856 accepted", "out PELLOW 810 accepted",
		"out VARNHOLT 850 accepted", "out VARNHOLT 850 held", "in VARNHOLT 855 done", "in VARNHOLT 856 done",
		"in VARNHOLT 810 done"} {
		if said[want] != 1 {
			t.Errorf("%d times %s: %v", said[want], want, said)
			for k := range all { // what they say tells which of them is one too many
				if i := &all[k]; i.Direction+" "+i.Partner+" "+i.Kinds+" "+i.State == want {
					_, text := s.do("GET", fmt.Sprintf("/api/v1/interchanges/%d/content", i.ID), "")
					t.Logf("interchange %d of %s: %s", i.ID, i.At, text)
				}
			}
		}
	}
	if said["out PELLOW 855 accepted"] != 2 {
		t.Errorf("%v", said)
	}
	page, err := s.api().Orders(context.Background(), url.Values{"text": {"PM-4801"}})
	if err != nil || len(page.Items) != 1 || page.Items[0].Status != order.Partial {
		t.Fatal(page.Items, err)
	}
	why, _, _ := s.koinos("why", page.Items[0].Number, "quantity", "--line", "1")
	if !strings.Contains(why, `is "50"`) || !strings.Contains(why, "ST 0001 / POC / 03") {
		t.Errorf("why: %s", why)
	}
	var held int64
	for _, i := range all {
		if i.State == api.StateHeld && i.Direction == "out" {
			held = i.ID
		}
	}
	if out, _, code := s.koinos("exchange", "show", fmt.Sprint(held)); code != 0 ||
		!strings.Contains(out, "Give the line the supplier's own item code") {
		t.Errorf("show: %d %s", code, out)
	}
	if out, _, code := s.koinos("exchange", "send", "VARNHOLT", "850", "--try"); code != 3 ||
		!strings.Contains(out, "Nothing was sent or kept") || !strings.Contains(out, "held") {
		t.Errorf("try: %d %s", code, out)
	}
	b := filepath.Join(s.data, "exchange", "PELLOW", "out", "PELLOW-000000002-855.edi")
	text, err := os.ReadFile(b)
	if err != nil {
		t.Fatal(err)
	}
	same := file(t, "same.edi", []byte(strings.NewReplacer("*", "|", "~", "~\r\n").Replace(string(text))))
	if out, _, code := koinos(t, nil, "x12", "diff", b, same); code != 0 {
		t.Errorf("other delimiters are another meaning: %s", out)
	}
	other := file(t, "other.edi", []byte(strings.Replace(string(text), "ACK*IA*20*", "ACK*IQ*18*", 1)))
	if out, _, code := koinos(t, nil, "x12", "diff", b, other); code != 4 || !strings.Contains(out, "PO1[1]/ACK[IA]") {
		t.Errorf("diff: %d %s", code, out)
	}
}

// However often the service is killed, each order goes out once, and no control
// number is given twice.
func TestExchangeKilled(t *testing.T) {
	data, dir := t.TempDir(), t.TempDir()
	ctx := context.Background()
	text, err := demo.Files.ReadFile("partners/varnholt.yaml")
	if err != nil {
		t.Fatal(err)
	}
	orders, err := demo.Orders("varnholt")
	if err != nil {
		t.Fatal(err)
	}
	r := rand.New(rand.NewPCG(5, 7))
	numbers := map[string]int{}
	n := 0
	for kill := range 8 {
		s := start(t, data, "serve", "--exchange", dir)
		if _, err := s.api().KeepPartner(ctx, text); err != nil {
			t.Fatal(err)
		}
		for range 6 {
			n++
			o := orders[0]
			o.SenderNumber = fmt.Sprintf("REQ-%d", n)
			p, err := s.api().PostOrder(ctx, &o, outcome.Skip)
			if err != nil {
				t.Fatal(err)
			}
			numbers[p.Number] = 0
			time.Sleep(time.Duration(r.IntN(90)) * time.Millisecond)
		}
		if kill < 7 {
			s.kill()
			continue
		}
		waitFor(t, "all orders to be sent", func() bool { return sentOf(t, s.api()) == n })
		s.stop()
	}
	files, err := os.ReadDir(filepath.Join(dir, "VARNHOLT", "out"))
	if err != nil {
		t.Fatal(err)
	}
	controls := map[string]bool{}
	for _, f := range files {
		if strings.HasPrefix(f.Name(), ".") { // left by a kill; a later start sweeps it away
			continue
		}
		b, err := os.ReadFile(filepath.Join(dir, "VARNHOLT", "out", f.Name()))
		if err != nil {
			t.Fatal(err)
		}
		control := strings.Split(string(b), "|")[13]
		if controls[control] || !strings.HasSuffix(f.Name(), "-"+control+"-850.edi") {
			t.Errorf("%s bears the control number %s, which is used", f.Name(), control)
		}
		controls[control] = true
		for number := range numbers {
			numbers[number] += strings.Count(string(b), "BEG|00|SA|"+number+"|")
		}
	}
	for number, times := range numbers {
		if times != 1 {
			t.Errorf("%s went out %d times", number, times)
		}
	}
}

// However often the service is killed while interchanges come, each is done once and answered once,
// and nobody is told that what we took up again came twice.
func TestArrivalsKilled(t *testing.T) {
	t.Parallel()
	data, dir := t.TempDir(), t.TempDir()
	in, out := filepath.Join(dir, "PELLOW", "in"), filepath.Join(dir, "PELLOW", "out")
	text, err := demo.Files.ReadFile("partners/pellow.yaml")
	if err != nil {
		t.Fatal(err)
	}
	const comes = `ISA*00*          *00*          *ZZ*PELLOW         *ZZ*QUILLMERE      *260316*0930*U*00401*%09[1]d*0*P*>~` +
		`GS*PO*PELLOW*QUILLMERE*20260316*0930*%[1]d*X*004010~ST*850*0001~BEG*00*SA*PM-%[1]d**20260316~CUR*BY*EUR~` +
		`N1*ST*Pellow Marina*92*0040~PO1*1*20*MR*1.33**VP*00113~CTT*1~SE*7*0001~GE*1*%[1]d~IEA*1*%09[1]d~`
	r := rand.New(rand.NewPCG(uint64(time.Now().UnixNano()), 3))
	const kills, each = 14, 4
	n := 0
	answers, refusals := map[int]int{}, 0
	fetch := func() { // as the partner does, who never sees half a file
		files, err := filepath.Glob(filepath.Join(out, "*.edi"))
		if err != nil {
			t.Fatal(err)
		}
		for _, f := range files {
			b, err := os.ReadFile(f)
			if err := errors.Join(err, os.Remove(f)); err != nil {
				t.Fatal(err)
			}
			for _, segment := range strings.Split(string(b), "~") {
				if rest, ok := strings.CutPrefix(segment, "AK1*PO*"); ok {
					control, _ := strconv.Atoi(rest)
					answers[control]++
				}
				if strings.HasPrefix(segment, "TA1*") {
					refusals++
				}
			}
		}
	}
	for range kills {
		s := start(t, data, "serve", "--exchange", dir)
		if _, err := s.api().KeepPartner(context.Background(), text); err != nil {
			t.Fatal(err)
		}
		if err := os.MkdirAll(in, 0o700); err != nil {
			t.Fatal(err)
		}
		for range each {
			n++
			name := filepath.Join(in, fmt.Sprintf("%d.edi", n))
			if err := os.WriteFile(name+".part", fmt.Appendf(nil, comes, n), 0o600); err != nil {
				t.Fatal(err)
			}
			if err := os.Rename(name+".part", name); err != nil {
				t.Fatal(err)
			}
		}
		time.Sleep(time.Duration(400+r.IntN(400)) * time.Millisecond) // two looks, 200 ms apart, and the work
		s.kill()
		fetch()
	}
	s := start(t, data, "serve", "--exchange", dir)
	defer s.stop()
	waitFor(t, "all interchanges to be answered", func() bool { fetch(); return len(answers) == n })
	time.Sleep(time.Second) // what would be one too many
	fetch()
	for control := 1; control <= n; control++ {
		if answers[control] != 1 {
			t.Errorf("interchange %d is answered %d times", control, answers[control])
		}
	}
	page, err := s.api().Interchanges(context.Background(), url.Values{"limit": {"1000"}, "direction": {"in"}})
	if err != nil || len(page.Items) != n || refusals != 0 {
		t.Errorf("%d interchanges of %d, %d TA1, %v", len(page.Items), n, refusals, err)
	}
	for _, i := range page.Items {
		if i.State != api.StateDone {
			t.Errorf("interchange %d, %09d: %s", i.ID, i.Control, i.State)
		}
	}
	orders, err := s.api().Orders(context.Background(), url.Values{"limit": {"1000"}, "text": {"PM-"}})
	if err != nil || len(orders.Items) != n {
		t.Errorf("%d orders of %d: %v", len(orders.Items), n, err)
	}
}

func sentOf(t *testing.T, calls *client.Client) (n int) {
	page, err := calls.Interchanges(context.Background(), url.Values{"limit": {"1000"}, "kind": {"850"},
		"direction": {"out"}})
	if err != nil {
		t.Fatal(err)
	}
	for _, i := range page.Items {
		full, err := calls.Interchange(context.Background(), i.ID)
		if err != nil {
			t.Fatal(err)
		}
		if i.State != api.StateReady && i.State != api.StateHeld {
			n += len(full.Sets)
		}
	}
	return n
}
