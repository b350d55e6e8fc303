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
	"koinos/store"
)

// outgoing are the segments of what a partner is told by a set of a kind, those that begin so, without the items.
func (d *desk) outgoing(name, set string, begins ...string) string {
	d.t.Helper()
	var said []string
	for _, i := range d.send(name, set) {
		if i.State == api.StateHeld {
			said = append(said, "held: "+i.Sets[0].Findings[0].Message)
			continue
		}
		for segment := range strings.SplitSeq(d.text(i), "~") {
			for _, id := range begins {
				if strings.HasPrefix(segment, id+"*") {
					said = append(said, strings.Split(segment, "**VP*")[0])
				}
			}
		}
	}
	return strings.Join(said, " ")
}

// What we change of an order by ourselves, after its buyer got our answer, is told, line by line, once, and nothing
// else is.
func TestUnasked(t *testing.T) {
	skipRaces(t)
	d := open(t)
	d.receive(pellow(1, "850", order4711))
	id := d.order(order.Sales, "PELLOW", "", "PM-1").ID
	change := func(header map[string]string, lines ...map[string]string) func() {
		return func() { d.says(intent.Change, id, header, lines...) }
	}
	line := func(number string, fields ...string) map[string]string {
		l := map[string]string{"number": number}
		for i := 0; i < len(fields); i += 2 {
			l[fields[i]] = fields[i+1]
		}
		return l
	}
	for _, step := range []struct {
		name string
		do   func()
		want string
	}{
		{"before the answer", change(nil, line("1", "quantity", "22")), ""},
		{"the answer", func() {
			if got := d.outgoing("PELLOW", "855", "ACK"); got != "ACK*IQ*22*MR ACK*IA*3*BX" {
				t.Errorf("855: %s", got)
			}
		}, ""},
		{"more", change(nil, line("2", "quantity", "5")),
			"BCA*04*AC*PM-1***20260316***SO-000001*20260316 POC*2*QI*5**BX*31.42 ACK*IQ*5*BX"},
		{"goods that leave", func() {
			d.says(intent.Shipment, id, map[string]string{"shipment": "LS-1"}, line("1", "quantity",
				"8"))
		}, ""},
		{"a price", change(nil, line("1", "unit_price", "1.40")),
			"BCA*04*AC*PM-1***20260316***SO-000001*20260316 POC*1*PC*22**MR*1.4 ACK*IP*22*MR"},
		{"a note", change(map[string]string{"notes": "by hand"}), ""},
		{"the day of all", change(map[string]string{"requested_delivery_on": "2026-04-02"}),
			"BCA*04*AC*PM-1***20260316***SO-000001*20260316 " +
				"POC*1*CT*22**MR*1.4 ACK*DR*22*MR*068*20260402 POC*2*CT*5**BX*31.42 ACK*DR*5*BX*068*20260402"},
		{"later", func() {
			d.says(intent.Answer, id, nil, line("2", "answer", "back-ordered", "accepted", "5", "due_on", "2026-05-04"))
		}, "BCA*04*AC*PM-1***20260316***SO-000001*20260316 POC*2*NC*5**BX*31.42 ACK*IB*5*BX*068*20260504"},
		{"there and back", func() {
			change(nil, line("2", "quantity", "9"))()
			change(nil, line("2", "quantity", "5"))()
		}, ""},
		{"beside what they ask for", func() {
			change(nil, line("2", "quantity", "4"))()
			d.receive(pellow(2, "860", "BCH*04*SA*PM-1**1*20260316~POC*1*QI*24**MR*1.4**VP*00113~CTT*1~"))
			if got := d.outgoing("PELLOW", "865", "BCA", "POC", "ACK"); got !=
				"BCA*00*AD*PM-1**1*20260316***SO-000001*20260316 POC*1*QI*24**MR*1.4 ACK*IA*24*MR*068*20260402" {
				t.Errorf("what they asked for: %s", got)
			}
		}, "BCA*04*AC*PM-1***20260316***SO-000001*20260316 POC*2*QD*4**BX*31.42 ACK*IQ*4*BX*068*20260402"},
		{"a further line", change(nil, line("3", "change", "add", "item", "00225", "quantity", "2", "unit", "EA",
			"unit_price", "5")),
			"BCA*04*AC*PM-1***20260316***SO-000001*20260316 POC*3*AI*2**EA*5 ACK*IA*2*EA*068*20260402"},
		{"a line without", change(nil, line("3", "change", "delete")),
			"BCA*04*AC*PM-1***20260316***SO-000001*20260316 POC*3*DI*0**EA*5 ACK*IR*0*EA"},
		{"the rest that is not wanted", change(nil, line("1", "quantity", "8"), line("2", "change", "delete")),
			"BCA*04*AC*PM-1***20260316***SO-000001*20260316 POC*1*QD*8**MR*1.4 ACK*IQ*8*MR*068*20260402 POC*2*DI*0**BX*31.42 ACK*IR*0*BX"},
	} {
		step.do()
		for n, want := range []string{step.want, ""} { // once
			if got := d.outgoing("PELLOW", "865", "BCA", "POC", "ACK"); got != want {
				t.Errorf("%s, look %d:\n got %s\nwant %s", step.name, n+1, got, want)
			}
		}
	}
}

// What a partner asks for is in the order before its set counts as done: whoever looks between the two, or after a
// crash between them, does not take it for a change of ours, and the partner is told once, as the answer.
func TestAskedIsNotUnasked(t *testing.T) {
	d := open(t)
	d.receive(pellow(1, "850", order4711))
	d.send("PELLOW", "855")
	i := d.receive(pellow(2, "860", "BCH*04*SA*PM-1**1*20260316~POC*1*QI*24**MR*1.33**VP*00113~CTT*1~"))
	between := func(state string) {
		if err := d.store.Write(t.Context(), func(tx *store.Tx) error {
			i.Sets[0].State, i.Sets[0].Orders, i.Sets[0].LoadID = state, nil, 0
			return errors.Join(tx.PutSets(i.ID, i.Sets), tx.SetInterchange(i.ID, state, time.Time{}, time.Time{}))
		}); err != nil {
			t.Fatal(err)
		}
	}
	between(api.StateReceived)
	if got := d.outgoing("PELLOW", "865", "BCA"); got != "" {
		t.Errorf("before the set is done: %s", got)
	}
	between(api.StateHeld)
	if i, err := d.Replay(t.Context(), i.ID, nil, "test"); err != nil || i.State != api.StateDone {
		t.Fatalf("%s: %v", i.State, err)
	}
	for n, want := range []string{"BCA*00*AD*PM-1**1*20260316***SO-000001*20260316", ""} {
		if got := d.outgoing("PELLOW", "865", "BCA"); got != want {
			t.Errorf("look %d:\n got %s\nwant %s", n+1, got, want)
		}
	}
}

// What a partner asks for the whole order, in a set that names no line, it is not told as a change of ours; what we had
// changed before it asked, it is.
func TestAskedForTheWhole(t *testing.T) {
	skipRaces(t)
	d := open(t)
	d.receive(pellow(1, "850", order4711))
	id := d.order(order.Sales, "PELLOW", "", "PM-1").ID
	d.send("PELLOW", "855")
	said := func(name string, all ...string) {
		t.Helper()
		for n, want := range append(all, "") {
			if got := d.outgoing("PELLOW", "865", "BCA", "POC", "ACK"); got != want {
				t.Errorf("%s, look %d:\n got %s\nwant %s", name, n+1, got, want)
			}
		}
	}
	d.receive(pellow(2, "860", "BCH*04*SA*PM-1**1*20260316~DTM*002*20260409~CTT*0~"))
	said("another day", "BCA*00*AT*PM-1**1*20260316***SO-000001*20260316")
	d.says(intent.Change, id, nil, map[string]string{"number": "2", "quantity": "5"})
	d.receive(pellow(3, "860", "BCH*04*SA*PM-1**2*20260316~DTM*002*20260411~CTT*0~"))
	said("another day beside our own change", "BCA*00*AT*PM-1**2*20260316***SO-000001*20260316",
		"BCA*04*AC*PM-1***20260316***SO-000001*20260316 POC*2*QI*5**BX*31.42 ACK*IQ*5*BX*068*20260411")
	late := d.receive(pellow(4, "860", "BCH*01*SA*PM-1**1*20260316~CTT*0~"))
	if f := foundIn(late); late.State != api.StateHeld || len(f) != 1 || f[0].Code != finding.ChangeOutOfTurn {
		t.Errorf("a cancellation out of its turn: %s %v", late.State, f)
	}
	said("a cancellation out of its turn")
	d.receive(pellow(5, "860", "BCH*01*SA*PM-1**3*20260316~CTT*0~"))
	said("a cancellation", "BCA*00*AT*PM-1**3*20260316***SO-000001*20260316")
}

// A partner that wants only what it has asked for is told nothing else.
func TestNothingUnasked(t *testing.T) {
	skipRaces(t)
	d := open(t)
	d.partner(`"865": {send: due}`, `"865": {send: due, unasked: false}`)
	d.receive(pellow(1, "850", order4711))
	id := d.order(order.Sales, "PELLOW", "", "PM-1").ID
	d.send("PELLOW", "855")
	d.says(intent.Change, id, nil, map[string]string{"number": "2", "quantity": "5"})
	if got := d.outgoing("PELLOW", "865", "BCA"); got != "" {
		t.Errorf("told without being asked: %s", got)
	}
	d.receive(pellow(2, "860", "BCH*04*SA*PM-1**1*20260316~POC*1*QI*24**MR*1.33**VP*00113~CTT*1~"))
	if got := d.outgoing("PELLOW", "865", "BCA"); got != "BCA*00*AD*PM-1**1*20260316***SO-000001*20260316" {
		t.Errorf("what it has asked for: %s", got)
	}
}

// A purchase order of which nothing is wanted any more is cancelled, and not only its lines; one of which some has come
// is changed to that.
func TestCancelledPurchase(t *testing.T) {
	skipRaces(t)
	d := open(t)
	for n, want := range []string{"BCH*01 POC*1*DI POC*2*DI", "BCH*04 POC*1*QD POC*2*DI"} {
		d.post(purchase(n))
		d.send("VARNHOLT", "850")
		id := d.order(order.Purchase, "VARNHOLT", "", fmt.Sprintf("REQ-%d", n)).ID
		if n == 1 {
			d.says(intent.Receipt, id, map[string]string{"receipt": "R-1"}, map[string]string{"number": "1", "quantity": "40"})
			d.says(intent.Change, id, nil, map[string]string{"number": "1", "quantity": "40"}, map[string]string{"number": "2",
				"change": "delete"})
		} else {
			d.says(intent.Withdrawal, id, nil)
		}
		var got []string
		for _, i := range d.send("VARNHOLT", "860") {
			for segment := range strings.SplitSeq(d.text(i), "~") {
				if p := strings.Split(strings.TrimSpace(segment), "|"); p[0] == "BCH" {
					got = append(got, strings.Join(p[:2], "*"))
				} else if p[0] == "POC" {
					got = append(got, strings.Join(p[:3], "*"))
				}
			}
		}
		if strings.Join(got, " ") != want {
			t.Errorf("it says %q, want %q", got, want)
		}
	}
}

// What a buyer is told unasked, its program reads as an answer that is not what was ordered.
func TestUnaskedIsHeard(t *testing.T) {
	skipRaces(t)
	d := open(t)
	d.post(purchase(1))
	d.send("VARNHOLT", "850")
	o := d.order(order.Purchase, "VARNHOLT", "", "REQ-1")
	i := d.receive(varnholt(1, "865", "BCA*04*AC*"+o.Number+"***20260316****20260316~POC*1*QD*80**MR*0.71**VP*BR-10-W~"+
		"ACK*IQ*80*MR*068*20260410~CTT*1~"))
	if i.State != api.StateDone {
		t.Fatalf("%s: %+v", i.State, foundIn(i))
	}
	held, err := d.store.HeldList(t.Context(), store.HeldFilter{HeldFor: api.HeldFor{Kind: api.HeldAnswer}})
	if err != nil || len(held) != 1 || !strings.Contains(held[0].Reason, "80") {
		t.Errorf("it does not wait for a buyer: %+v %v", held, err)
	}
}
