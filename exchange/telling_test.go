package exchange

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"koinos/api"
	"koinos/core/finding"
	"koinos/core/intent"
	"koinos/core/order"
	"koinos/core/origin"
	"koinos/load"
)

// says has something said of an order.
func (d *desk) says(kind intent.Kind, id int64, header map[string]string, lines ...map[string]string) {
	d.t.Helper()
	n := api.Notice{Header: header, Lines: lines}
	p, err := d.engine.Tell(d.t.Context(), load.Telling{Kind: kind, Order: id, Body: []byte("{}"), By: "test",
		Accept: []finding.Code{finding.OverInvoiced}}, &n)
	if err != nil || p.Outcome != "changed" {
		d.t.Fatalf("%s is %s: %+v %v", kind, p.Outcome, p.Findings, err)
	}
}

// A customer is told of every shipment and every invoice under its own number, once, and of what was taken back of
// them: a shipment is replaced or cancelled, an invoice is given back by a credit memo.
func TestNoticesAreOfWhatHappened(t *testing.T) {
	skipRaces(t)
	d := open(t)
	d.receive(pellow(1, "850", order4711))
	id := d.order(order.Sales, "PELLOW", "", "PM-1").ID
	line := func(quantity string) map[string]string { return map[string]string{"number": "1", "quantity": quantity} }
	sent := func(set string) string {
		var said []string
		for _, i := range d.send("PELLOW", set) {
			for _, segment := range strings.Split(d.text(i), "~") {
				segment = strings.TrimSpace(segment)
				for _, id := range []string{"BSN", "BIG", "REF*IV", "SN1", "IT1", "TDS"} {
					if strings.HasPrefix(segment, id+"*") || id == segment {
						said = append(said, strings.Split(segment, "*VP*")[0])
					}
				}
			}
			if i.State == api.StateHeld {
				said = append(said, "held: "+i.Sets[0].Findings[0].Message)
			}
		}
		return strings.Join(said, " ")
	}
	for n, step := range []struct {
		name     string
		kind     intent.Kind
		header   map[string]string
		line     map[string]string
		set, say string
	}{
		{"a shipment", intent.Shipment, map[string]string{"shipment": "LS-1", "shipped_on": "2026-03-15"}, line("8"), "856",
			"BSN*00*LS-1*20260316*0800 SN1**8*MR*8"},
		{"another one", intent.Shipment, map[string]string{"shipment": "LS-2"}, line("6"), "856",
			"BSN*00*LS-2*20260316*0800 SN1**6*MR*14"},
		{"a part of the first is taken back", intent.Shipment, map[string]string{"shipment": "LS-1R", "reverses": "LS-1"},
			line("3"), "856",
			"BSN*05*LS-1*20260316*0800 SN1**5*MR*5"},
		{"the rest of it", intent.Shipment, map[string]string{"shipment": "LS-1S", "reverses": "LS-1"}, nil, "856",
			"BSN*01*LS-1*20260316*0800 SN1**5*MR*5"},
		{"what was never said and is gone", intent.Change, map[string]string{"requested_ship_on": "2026-04-01"}, nil, "856",
			""},
		{"an invoice by hand", intent.Invoice, map[string]string{"invoice": "V-9", "invoiced_on": "2026-03-16"}, line("4"),
			"810",
			"BIG*20260316*V-9*20260316*PM-1***DR IT1*1*4*MR*1.33*PE TDS*532 " +
				"BIG*20260316*IN-000001*20260316*PM-1***DR IT1*1*2*MR*1.33*PE TDS*266"},
		{"a part of it is given back", intent.Invoice, map[string]string{"invoice": "C-1", "reverses": "V-9",
			"invoiced_on": "2026-03-17"}, line("1"), "810",
			"BIG*20260317*C-1*20260316*PM-1***CR REF*IV*V-9 IT1*1*1*MR*1.33*PE TDS*133"},
	} {
		var lines []map[string]string
		if step.line != nil {
			lines = append(lines, step.line)
		}
		d.says(step.kind, id, step.header, lines...)
		if got := strings.ReplaceAll(sent(step.set), "20260314", ""); got != step.say {
			t.Errorf("%d, %s: %s\nnot %s", n, step.name, got, step.say)
		}
		if again := sent(step.set); again != "" {
			t.Errorf("%d, %s: said again: %s", n, step.name, again)
		}
	}
}

// An invoice of several orders is told in a set for each of them, and that is said, for a partner may take its number
// only once.
func TestInvoiceOfSeveralOrders(t *testing.T) {
	skipRaces(t)
	d := open(t)
	for n := 1; n <= 3; n++ {
		d.receive(pellow(n, "850", fmt.Sprintf("BEG*00*SA*PM-%d**20260316~CUR*BY*EUR~REF*CT*C-1~"+
			"N1*ST*Pellow Marina*92*0040~PO1*1*40*MR*1.33**VP*00113~CTT*1~", n)))
		number := "IN-1"
		if n == 3 {
			number = "IN-2"
		}
		d.says(intent.Invoice, d.order(order.Sales, "PELLOW", "", fmt.Sprint("PM-", n)).ID,
			map[string]string{"invoice": number, "invoiced_on": "2026-03-20"},
			map[string]string{"number": "1", "quantity": "10", "unit_price": "1.33"})
	}
	var got []string
	for _, s := range d.send("PELLOW", "810")[0].Sets {
		for _, o := range s.Orders {
			got = append(got, o.Number)
		}
		for _, f := range s.Findings {
			got = append(got, string(f.Severity)+": "+f.Message)
		}
	}
	const says = "warning: The invoice IN-1 is of several orders (SO-000001, SO-000002). An 810 is of one order: each is told in " +
		"a set of its own, under the same number."
	if is, want := strings.Join(got, " | "), "SO-000001 | "+says+" | SO-000002 | "+says+" | SO-000003"; is != want {
		t.Errorf("\n got %s\nwant %s", is, want)
	}
}

// An invoice that comes before the goods waits for them, and goes in by itself when they have come; one at another
// price goes in when the order's price is corrected.
func TestInvoiceBeforeTheGoods(t *testing.T) {
	skipRaces(t)
	d := open(t)
	d.post(purchase(1))
	number := d.send("VARNHOLT", "850")[0].Orders[0]
	bill := d.receive(varnholt(1, "810", "BIG*20260320*VI-1**"+number+"~IT1*1*40*MR*0.75**VP*BR-10-W~TDS*3000~"))
	state := func() string {
		i, err := d.store.Interchange(t.Context(), bill.ID, d.at)
		if err != nil {
			t.Fatal(err)
		}
		return i.State
	}
	look := func() {
		t.Helper()
		if err := d.tryHeld(t.Context()); err != nil {
			t.Fatal(err)
		}
		if _, err := d.settled(t.Context(), bill.ID); err != nil {
			t.Fatal(err)
		}
	}
	look()
	if is := d.order(order.Purchase, "VARNHOLT", number, ""); state() != api.StateHeld ||
		is.Lines[0].Invoiced.Sign() != 0 {
		t.Fatalf("%s, %s invoiced", state(), is.Lines[0].Invoiced)
	}
	d.says(intent.Receipt, d.order(order.Purchase, "VARNHOLT", number, "").ID, map[string]string{"receipt": "R-1"},
		map[string]string{"number": "1", "quantity": "40"})
	if look(); state() != api.StateHeld {
		t.Fatalf("at another price it is %s", state())
	}
	d.says(intent.Change, d.order(order.Purchase, "VARNHOLT", number, "").ID, nil,
		map[string]string{"number": "1", "unit_price": "0.75", "price_for": "all"})
	look()
	if is := d.order(order.Purchase, "VARNHOLT", number, ""); state() != api.StateDone ||
		is.Lines[0].Invoiced.Plain() != "40" {
		now, err := d.store.Interchange(t.Context(), bill.ID, d.at)
		t.Errorf("%s, %s invoiced; %+v %v", state(), is.Lines[0].Invoiced, now.Sets, err)
	}
}

// Documents do not always arrive in the order in which they were sent: what speaks of an order that has not come is
// done when it has, once, and no sooner.
func TestChangeBeforeItsOrder(t *testing.T) {
	skipRaces(t)
	d := open(t)
	early := d.receive(pellow(1, "860", "BCH*04*SA*pm-1**1*20260317~POC*1*QI*24**MR*1.33**VP*00113~"))
	other := d.receive(pellow(2, "860", "BCH*04*SA*PM-8**1*20260317~POC*1*QI*24**MR*1.33**VP*00113~"))
	look := func() (states string, loads int64) {
		t.Helper()
		d.at = d.at.Add(time.Second)
		if err := d.tryHeld(t.Context()); err != nil {
			t.Fatal(err)
		}
		for _, id := range []int64{early.ID, other.ID} {
			i, err := d.settled(t.Context(), id)
			if err != nil {
				t.Fatal(err)
			}
			states += i.State + " "
			loads += i.Sets[0].LoadID
		}
		return states, loads
	}
	states, loads := look()
	if states != "held held " {
		t.Fatal(states)
	}
	d.receive(pellow(3, "850", order4711))
	again, last := look()
	if is := d.order(order.Sales, "PELLOW", "", "PM-1"); again != "done held " || is.Lines[0].Quantity.Plain() != "24" {
		t.Errorf("%s: %s wanted", again, is.Lines[0].Quantity)
	}
	if last == loads {
		t.Error("nothing was tried again")
	}
	if states, after := look(); states != again || after != last {
		t.Errorf("%s: what was done is tried again", states)
	}
}

// What a partner asks to change waits for a person, each change with its place: it is taken whole, or what was agreed
// to is changed by hand and the answer says what the order is then. An order that is new does not wait.
func TestAskedChangesWait(t *testing.T) {
	skipRaces(t)
	d := open(t)
	d.partner("changes: take", "changes: wait")
	if i := d.receive(pellow(1, "850", order4711)); i.State != api.StateDone {
		t.Fatalf("a new order is %s", i.State)
	}
	ask := func(n int, quantity string) api.Interchange {
		return d.receive(pellow(n, "860", "BCH*04*SA*PM-1***20260317~POC*1*QI*"+quantity+"**MR*1.33**VP*00113~"))
	}
	line := func() string {
		l := &d.order(order.Sales, "PELLOW", "", "PM-1").Lines[0]
		return wanted(t, l)
	}
	asked := ask(2, "30")
	if f := asked.Sets[0].Findings; asked.State != api.StateHeld || line() != "20" || len(f) != 1 ||
		f[0].At != "ST 0001 / POC / 03" || f[0].Message != `Asked for: line 1 quantity was "20", is "30".` {
		t.Fatalf("%s, %s, %+v", asked.State, line(), f)
	}
	if i, err := d.Replay(t.Context(), asked.ID, []string{"change_asked"}, "eva"); err != nil ||
		i.State != api.StateDone || line() != "30" {
		t.Errorf("%s, %s, %v", i.State, line(), err)
	}
	events := d.order(order.Sales, "PELLOW", "", "PM-1").Events
	if got, want := events[len(events)-1].Origin.By, "PELLOW, accepted by eva"; got != want {
		t.Errorf("changed by %q, want %q", got, want)
	}
	d.send("PELLOW", "865")
	asked = ask(3, "50")
	d.says(intent.Change, d.order(order.Sales, "PELLOW", "", "PM-1").ID, nil, map[string]string{"number": "1",
		"quantity": "40"})
	if i, err := d.Settle(t.Context(), asked.ID, "eva"); err != nil || i.State != api.StateDone || i.RuledBy != "eva" ||
		line() != "40" {
		t.Errorf("%s, %s, %v", i.State, line(), err)
	}
	if _, err := d.Settle(t.Context(), asked.ID, "eva"); !errors.Is(err, ErrNotNow) {
		t.Errorf("it is settled twice: %v", err)
	}
	if text := d.text(d.send("PELLOW", "865")[0]); !strings.Contains(text, "ACK*IQ*40*MR") {
		t.Error(text)
	}
	for n, c := range []struct{ kind, segments string }{{"860", "BCH*01*SA*PM-1***20260317~"},
		{"850", "BEG*01*SA*PM-1**20260316~PO1*1**MR~"}, {"850", "BEG*05*SA*PM-1**20260316~PO1*1*25*MR*1.33**VP*00113~"}} {
		if i := d.receive(pellow(10+n, c.kind, c.segments)); i.State != api.StateHeld || line() != "40" {
			t.Errorf("%s is %s, %s", c.segments[:6], i.State, line())
		}
	}
	d.partner("changes: take", "changes: take")
	if i := ask(20, "60"); i.State != api.StateDone || line() != "60" {
		t.Errorf("%s, %s", i.State, line())
	}
}

// What cannot be billed waits for a person with the reason, also where a person who bills would only be warned; nothing
// leaves.
func TestUnbilledWaits(t *testing.T) {
	skipRaces(t)
	d := open(t)
	d.receive(pellow(1, "850", order4711))
	o := d.order(order.Sales, "PELLOW", "", "PM-1")
	p, err := d.Partner(t.Context(), "PELLOW")
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		found []finding.Finding
		says  string
	}{
		{[]finding.Finding{finding.New(finding.OverInvoiced, origin.Place{}, "", "Of line 1, 5 are invoiced.")},
			"What was shipped cannot be billed. Of line 1, 5 are invoiced."},
		{nil, "What was shipped cannot be billed."},
	} {
		held := about(o, order.Order{Kind: o.Kind, Number: o.Number})
		held.found = unbilled(c.found)
		var out api.Sending
		if err := d.tell(t.Context(), p, "810", []telling{held}, "test", &out); err != nil || len(out.Interchanges) != 1 {
			t.Fatal(err, out)
		}
		i := out.Interchanges[0]
		if f := i.Sets[0].Findings; i.State != api.StateHeld || i.Control != 0 || len(f) != 1 || f[0].Message != c.says {
			t.Errorf("%s %d %+v", i.State, i.Control, f)
		}
	}
}
