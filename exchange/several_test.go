package exchange

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"koinos/api"
	"koinos/core/intent"
	"koinos/core/order"
	"koinos/store"
)

// only keeps segments of some kinds of a text.
func only(text string, kinds ...string) string {
	var kept []string
	for _, s := range strings.Split(strings.ReplaceAll(text, "\n", ""), "~") {
		for _, kind := range kinds {
			if strings.HasPrefix(s, kind+"*") {
				kept = append(kept, s)
			}
		}
	}
	return strings.Join(kept, " ")
}

// A shipment of several orders is told in one notice, also where it is told anew as a whole; orders of which nothing is
// left in it are left out. Each of the orders knows the interchange.
func TestNoticeOfSeveralOrders(t *testing.T) {
	skipRaces(t)
	d := open(t)
	var ids []int64
	for n := 1; n <= 3; n++ {
		d.receive(pellow(n, "850", fmt.Sprintf("BEG*00*SA*PM-%d**20260316~CUR*BY*EUR~N1*ST*Pellow Marina*92*0040~"+
			"PO1*1*40*MR*1.33*PE*VP*00113~CTT*1~", n)))
		ids = append(ids, d.order(order.Sales, "PELLOW", "", fmt.Sprint("PM-", n)).ID)
	}
	ship := func(order int, header map[string]string, quantity string) {
		var lines []map[string]string
		if quantity != "" {
			lines = []map[string]string{{"number": "1", "quantity": quantity}}
		}
		d.says(intent.Shipment, ids[order], header, lines...)
	}
	first := map[string]string{"shipment": "LS-1", "shipped_on": "2026-03-16"}
	ship(0, first, "10")
	ship(2, first, "30")
	ship(1, map[string]string{"shipment": "LS-2", "shipped_on": "2026-03-16"}, "5")
	for _, c := range []struct {
		name string
		do   func()
		want []string // of each interchange: what it says, and the orders of its sets
	}{
		{"both at once", func() {}, []string{"BSN*00*LS-1 PRF*PM-1 SN1**10*MR*10 PRF*PM-3 SN1**30*MR*30 CTT*5 [PM-1 PM-3] " +
			"BSN*00*LS-2 PRF*PM-2 SN1**5*MR*5 CTT*3 [PM-2]"}},
		{"nothing is said twice", func() {}, nil},
		{"a part of one is taken back", func() { ship(2, map[string]string{"shipment": "B-1", "reverses": "LS-1"}, "10") },
			[]string{"BSN*05*LS-1 PRF*PM-1 SN1**10*MR*10 PRF*PM-3 SN1**20*MR*20 CTT*5 [PM-1 PM-3]"}},
		{"one is taken back", func() { ship(0, map[string]string{"shipment": "B-2", "reverses": "LS-1"}, "") },
			[]string{"BSN*05*LS-1 PRF*PM-3 SN1**20*MR*20 CTT*3 [PM-1 PM-3]"}},
		{"and the other one", func() { ship(2, map[string]string{"shipment": "B-3", "reverses": "LS-1"}, "") },
			[]string{"BSN*01*LS-1 PRF*PM-3 SN1**20*MR*20 CTT*3 [PM-1 PM-3]"}},
		{"nothing more is said", func() {}, nil},
	} {
		c.do()
		var got []string
		for _, i := range d.send("PELLOW", "856") {
			text := ""
			for n, set := range strings.Split(d.text(i), "ST*856")[1:] {
				var numbers []string
				for _, o := range i.Sets[n].Orders {
					for k, id := range ids {
						if id == o.OrderID {
							numbers = append(numbers, fmt.Sprint("PM-", k+1))
						}
					}
				}
				said := only(set, "BSN", "PRF", "SN1", "CTT")
				for _, day := range []string{"*20260316*0800", "***20260316"} {
					said = strings.ReplaceAll(said, day, "")
				}
				text += fmt.Sprint(said, " ", numbers, " ")
			}
			got = append(got, strings.TrimSpace(text))
		}
		if fmt.Sprintf("%q", got) != fmt.Sprintf("%q", c.want) {
			t.Errorf("%s:\n got %q\nwant %q", c.name, got, c.want)
		}
	}
}

// Orders that one shipment brings to different places are not said to go to one of them: the notice is held.
func TestNoticeOfTwoPlaces(t *testing.T) {
	skipRaces(t)
	d := open(t)
	for n, place := range []string{"0040", "0041"} {
		d.receive(pellow(n+1, "850", fmt.Sprintf("BEG*00*SA*PM-%d**20260316~CUR*BY*EUR~N1*ST**92*%s~"+
			"PO1*1*40*MR*1.33*PE*VP*00113~CTT*1~", n, place)))
		d.says(intent.Shipment, d.order(order.Sales, "PELLOW", "", fmt.Sprint("PM-", n)).ID,
			map[string]string{"shipment": "LS-1"},
			map[string]string{"number": "1", "quantity": "1"})
	}
	i := d.send("PELLOW", "856")[0]
	var said []string
	for _, f := range i.Sets[0].Findings {
		said = append(said, f.Message)
	}
	if want := `[ship_to.code stands once in a set 856, and there are different ones: "0040" and "0041".]`; i.State != api.StateHeld ||
		fmt.Sprint(said) != want {
		t.Errorf("%s %s", i.State, said)
	}
}

// A supplier's notice of several orders is kept with each of them, and the story of each leads to it.
func TestNoticeThatCameOfSeveralOrders(t *testing.T) {
	skipRaces(t)
	d := open(t)
	d.post(purchase(1))
	d.post(purchase(2))
	d.send("VARNHOLT", "850")
	var numbers []string
	segments := "BSN*00*V-9*20260316*0930~HL*1**S~DTM*011*20260316~"
	for n := 1; n <= 2; n++ {
		p := d.order(order.Purchase, "VARNHOLT", "", fmt.Sprint("REQ-", n))
		numbers = append(numbers, p.Number)
		segments += fmt.Sprintf("HL*%d*1*O~PRF*%s~HL*%d*%d*I~LIN*1*VP*BR-10-W~SN1*1*%d*MR~", 2*n, p.Number, 2*n+1, 2*n, 10*n)
	}
	i := d.receive(varnholt(1, "856", segments+"CTT*5~"))
	var spoken []string
	for _, o := range i.Sets[0].Orders {
		spoken = append(spoken, o.Number)
		if events := d.order(order.Purchase, "VARNHOLT", o.Number,
			"").Events; events[len(events)-1].Origin.Interchange != i.ID {
			t.Errorf("%s: %+v", o.Number, events[len(events)-1])
		}
	}
	if i.State != api.StateDone || fmt.Sprint(spoken) != fmt.Sprint(numbers) {
		t.Errorf("%s %s, not %s", i.State, spoken, numbers)
	}
	for n, number := range numbers {
		if p := d.order(order.Purchase, "VARNHOLT", number, ""); p.Lines[0].Shipped.String() != fmt.Sprint(10*(n+1)) {
			t.Errorf("%s: %s shipped", number, p.Lines[0].Shipped)
		}
	}
}

// What a partner asked to be changed is answered as it was decided: a deletion that was carried out is a deleted line,
// one that was refused a rejection with what stays, and so is a change of which nothing was done.
func TestAnswersToChanges(t *testing.T) {
	skipRaces(t)
	for _, c := range []struct{ name, asked, taken, refused string }{
		{"a deletion", "POC*1*DI*20*20*MR*1.33**VP*00113~", "BCA*00*AD ACK*ID*0*MR", "BCA*00*RD ACK*IR*20*MR"},
		{"without its quantity", "POC*1*DI**20*MR*1.33**VP*00113~", "BCA*00*AD ACK*ID*0*MR", "BCA*00*RD ACK*IR*20*MR"},
		{"fewer", "POC*1*QD*12*8*MR*1.33**VP*00113~", "BCA*00*AD ACK*IA*12*MR", "BCA*00*RD ACK*IR*20*MR"},
		{"another price", "POC*1*PC*20**MR*1.20**VP*00113~", "BCA*00*AD ACK*IA*20*MR", "BCA*00*RD ACK*IR*20*MR"},
		{"one more line", "POC*3*AI*5**MR*1.33**VP*00113~", "BCA*00*AD ACK*IA*5*MR", "BCA*00*RD ACK*IR*0*MR"},
		{"another item", "POC*1*RE*20**MR*1.33**VP*00114~", "BCA*00*AD ACK*IA*20*MR", "BCA*00*RD ACK*IR*20*MR"},
		{"other places", "POC*1*CA*20**MR*1.33**VP*00113~SDQ*MR*92*0040*12*0041*8~", "BCA*00*AD ACK*IA*20*MR",
			"BCA*00*RD ACK*IR*20*MR"},
		{"only the header", "DTM*002*20260410~N1*ST*Pellow North*92*0041~N3*9 North Rd~", "BCA*00*AT", "BCA*00*RJ"},
		{"a line by its item", "POC**QD*12*8*MR*1.33**VP*00113~", "BCA*00*AD ACK*IA*12*MR", "BCA*00*RD ACK*IR*20*MR"},
		{"two, of which one is as it is", "POC*1*QD*12*8*MR*1.33**VP*00113~POC*2*QD*3**BX*31.42**VP*00489~",
			"BCA*00*AD ACK*IA*12*MR ACK*IA*3*BX",
			"BCA*00*AC ACK*IR*20*MR ACK*IA*3*BX"},
	} {
		for _, take := range []bool{true, false} {
			d := open(t)
			d.receive(pellow(1, "850", order4711))
			want := c.taken
			if !take {
				want = c.refused
				d.partner("changes: take", "changes: wait")
			}
			i := d.receive(pellow(2, "860", "BCH*04*SA*PM-1***20260317~"+c.asked))
			if !take {
				if _, err := d.Settle(context.Background(), i.ID, "eva"); err != nil {
					t.Fatal(err)
				}
			}
			said := strings.ReplaceAll(only(d.text(d.send("PELLOW", "865")[0]), "BCA", "ACK"),
				"*PM-1***20260316***SO-000001*20260316", "")
			if said != want {
				t.Errorf("%s, taken %t: %s, want %s", c.name, take, said, want)
			}
		}
	}
}

// What was not asked for is no rejection: a day of the order that the change does not name, a line that comes later
// anyway; and what somebody has answered in words of their own stays so.
func TestAnswersBesideChanges(t *testing.T) {
	skipRaces(t)
	for _, c := range []struct {
		name, asked string
		before      map[string]string // what we change of the line first
		take        bool
		say         map[string]string // what is answered in our own words
		want        string
	}{
		{"an order with a day", "POC*1*QD*12*8*MR*1.33**VP*00113~", nil, true, nil, "BCA*00*AD ACK*IA*12*MR"},
		{"one that comes later", "POC*1*QD*12*8*MR*1.33**VP*00113~", map[string]string{"backordered": "5"}, true, nil,
			"BCA*00*AC ACK*BP*12*MR"},
		{"that is refused", "POC*1*QD*12*8*MR*1.33**VP*00113~", map[string]string{"backordered": "5"}, false, nil,
			"BCA*00*RD ACK*IR*20*MR"},
		{"in our words", "POC*1*QD*12*8*MR*1.33**VP*00113~", nil, false, map[string]string{"answer": "back-ordered",
			"due_on": "2026-05-01"},
			"BCA*00*AC ACK*IB*20*MR"},
		{"refused in our words", "POC*1*QD*12*8*MR*1.33**VP*00113~", nil, false, map[string]string{"answer": "refused"},
			"BCA*00*RD ACK*IR*20*MR"},
		{"what is as it is", "POC*1*CT*20**MR*1.33**VP*00113~", nil, false, nil, "BCA*00*AD ACK*IA*20*MR"},
	} {
		d := open(t)
		d.receive(pellow(1, "850", strings.Replace(order4711, "N1*ST", "DTM*002*20260401~N1*ST", 1)))
		id := d.order(order.Sales, "PELLOW", "", "PM-1").ID
		if c.before != nil {
			o := d.order(order.Sales, "PELLOW", "", "PM-1").Order
			o.Lines[0].Backordered = order.MustNumber(c.before["backordered"])
			d.post(o)
		}
		if !c.take {
			d.partner("changes: take", "changes: wait")
		}
		i := d.receive(pellow(2, "860", "BCH*04*SA*PM-1***20260317~"+c.asked))
		if !c.take {
			if _, err := d.Settle(context.Background(), i.ID, "eva"); err != nil && i.State == api.StateHeld {
				t.Fatal(err)
			}
		}
		if c.say != nil {
			c.say["number"] = "1"
			d.says(intent.Answer, id, nil, c.say)
		}
		text := d.text(d.send("PELLOW", "865")[0])
		said := strings.ReplaceAll(only(text, "BCA", "ACK"), "*PM-1***20260316***SO-000001*20260316", "")
		for _, day := range []string{"*068*20260501", "*017*20260401", "*067*20260401", "*068*20260401"} {
			said = strings.ReplaceAll(said, day, "")
		}
		if said != c.want {
			t.Errorf("%s: %s, want %s", c.name, said, c.want)
		}
	}
}

// A supplier that refuses a change keeps to what was ordered before: that waits for a buyer, who can take it, but for a
// line that is cancelled here.
func TestSupplierRefusesChange(t *testing.T) {
	skipRaces(t)
	for _, c := range []struct {
		name  string
		line  map[string]string // what we change of line 1, of 100
		ack   string
		state string // what is held of the order
		take  string
	}{
		{"fewer, and it says what stays", map[string]string{"quantity": "60"},
			"POC*1*QD*60*40*MR*0.71**VP*BR-10-W~ACK*IR*100*MR~",
			"line 1: the change is refused: quantity 100 of 60.", "map[id:1 quantity:100]"},
		{"fewer, and it does not", map[string]string{"quantity": "60"}, "POC*1*QD*60*40*MR*0.71**VP*BR-10-W~ACK*IR~",
			"line 1: the change is refused.", "map[]"},
		{"fewer, and it does as asked", map[string]string{"quantity": "60"},
			"POC*1*QD*60*40*MR*0.71**VP*BR-10-W~ACK*IA*60*MR~", "", ""},
		{"a deletion", map[string]string{"change": "delete"}, "POC*1*DI*100*100*MR*0.71**VP*BR-10-W~ACK*IR*100*MR~",
			"line 1: the change is refused: quantity 100 of 0.", "map[]"},
		{"a deletion, as asked", map[string]string{"change": "delete"}, "POC*1*DI*100*100*MR*0.71**VP*BR-10-W~ACK*ID*0*MR~",
			"", ""},
	} {
		d := open(t)
		d.post(purchase(1))
		d.send("VARNHOLT", "850")
		p := d.order(order.Purchase, "VARNHOLT", "", "REQ-1")
		d.receive(varnholt(1, "855", "BAK*00*AD*"+p.Number+
			"*20260316*****20260316~PO1*1*100*MR*0.71**VP*BR-10-W~ACK*IA*100*MR~"+
			"PO1*2*100*MR*0.71**VP*BR-08-W~ACK*IA*100*MR~CTT*2~"))
		c.line["number"] = "1"
		d.says(intent.Change, p.ID, nil, c.line)
		d.send("VARNHOLT", "860")
		d.receive(varnholt(2, "865", "BCA*00*AC*"+p.Number+"***20260316****20260317~"+c.ack+"CTT*1~"))
		list, err := d.store.HeldList(context.Background(), store.HeldFilter{HeldFor: api.HeldFor{Kind: api.HeldAnswer}})
		if err != nil {
			t.Fatal(err)
		}
		held := ""
		for _, w := range list {
			_, held, _ = strings.Cut(w.Reason, "was ordered: ")
		}
		p = d.order(order.Purchase, "VARNHOLT", "", "REQ-1")
		offers, err := order.Offers(&p.Order, p.Answers)
		if err != nil {
			t.Fatal(err)
		}
		take := ""
		if len(offers[0].Differs) > 0 {
			take = fmt.Sprint(offers[0].Take)
		}
		if held != c.state || take != c.take {
			t.Errorf("%s: held %q, take %s; want %q, %s", c.name, held, take, c.state, c.take)
		}
	}
}

// A notice in place of an earlier one takes back what it says less. It never moves more, and says of which other orders
// the shipment is.
func TestNoticeInPlaceOfAnother(t *testing.T) {
	skipRaces(t)
	d := open(t)
	var numbers []string
	d.post(purchase(1))
	d.post(purchase(2))
	d.send("VARNHOLT", "850")
	for n := 1; n <= 2; n++ {
		numbers = append(numbers, d.order(order.Purchase, "VARNHOLT", "", fmt.Sprint("REQ-", n)).Number)
	}
	for n, c := range []struct {
		name, purpose string
		first, second string // quantities of the orders; "" leaves one out
		want, says    string
	}{
		{"in place of nothing", "05", "10", "20", "0 0",
			"No shipment V-9 has moved anything of the order PO-000001. No shipment V-9 has moved anything of the order PO-000002."},
		{"goods of both leave", "00", "10", "20", "10 20", ""},
		{"of the first less", "05", "6", "20", "6 20",
			"The shipment V-9 is also of PO-000002. What the notice does not say anew of other orders stays as it is. " +
				"The shipment V-9 is also of PO-000001. What the notice does not say anew of other orders stays as it is."},
		{"the same again", "05", "6", "20", "6 20",
			"The shipment V-9 is also of PO-000002. What the notice does not say anew of other orders stays as it is. " +
				"The shipment V-9 is also of PO-000001. What the notice does not say anew of other orders stays as it is."},
		{"the second is left out", "05", "5", "", "5 20",
			"The shipment V-9 is also of PO-000002. What the notice does not say anew of other orders stays as it is."},
		{"by another carrier", "05*TERN", "5", "", "5 20",
			"The shipment V-9 is also of PO-000002. What the notice does not say anew of other orders stays as it is. " +
				"In place of the shipment V-9 other values come for the carrier. Only quantities are taken back; these stay as they were."},
		{"of another lot", "05", "5*MR~REF*LT*L-2", "", "5 20",
			"The shipment V-9 is also of PO-000002. What the notice does not say anew of other orders stays as it is. " +
				"In place of the shipment V-9 other values come for the lots. Only quantities are taken back; these stay as they were."},
		{"more than before", "05", "8", "", "5 20",
			"Of line 1, the shipment V-9 is replaced by 8, more than the 5 that it moved."},
		{"all of it is cancelled", "01", "5", "20", "0 0", ""},
		{"in place of what is cancelled", "05", "1", "", "0 0",
			"Of line 1, the shipment V-9 is replaced by 1, more than the 0 that it moved."},
	} {
		purpose, carrier, _ := strings.Cut(c.purpose, "*")
		if carrier != "" {
			carrier = "TD5*****" + carrier + "~"
		}
		segments, hl := "BSN*"+purpose+"*V-9*20260316*0930~HL*1**S~"+carrier+"DTM*011*20260316~", 1
		for k, quantity := range []string{c.first, c.second} {
			if quantity != "" {
				if !strings.Contains(quantity, "*") {
					quantity += "*MR"
				}
				segments += fmt.Sprintf("HL*%d*1*O~PRF*%s~HL*%d*%d*I~LIN*1*VP*BR-10-W~SN1*1*%s~", hl+1, numbers[k], hl+2, hl+1,
					quantity)
				hl += 2
			}
		}
		i := d.receive(varnholt(n+1, "856", segments+fmt.Sprintf("CTT*%d~", hl)))
		var said, shipped []string
		for _, f := range i.Sets[0].Findings {
			said = append(said, f.Message)
		}
		for _, number := range numbers {
			shipped = append(shipped, or0(d.order(order.Purchase, "VARNHOLT", number, "").Lines[0].Shipped))
		}
		if strings.Join(shipped, " ") != c.want || strings.Join(said, " ") != c.says {
			t.Errorf("%s: %s shipped, %s, says %q", c.name, shipped, i.State, said)
		}
	}
}

// A change of the header alone, and a cancellation without a line, are answered as well, and keep no later answer from
// leaving.
func TestAnswersWithoutLines(t *testing.T) {
	skipRaces(t)
	d := open(t)
	d.receive(pellow(1, "850", order4711))
	for n, c := range []struct{ asks, says string }{
		{"BCH*04*SA*PM-1**1*20260317~DTM*002*20260410~", "BCA*00*AT"},
		{"BCH*04*SA*PM-1**2*20260317~POC*1*QD*12*8*MR*1.33**VP*00113~", "BCA*00*AD ACK*IA*12*MR*068*20260410"},
		{"BCH*01*SA*PM-1**3*20260318~", "BCA*00*AT"},
	} {
		if i := d.receive(pellow(2+n, "860", c.asks)); i.State != api.StateDone {
			t.Fatalf("%s: %s %+v", c.asks, i.State, i.Sets[0].Findings)
		}
		out := d.send("PELLOW", "865")
		if len(out) != 1 {
			t.Fatalf("%s: %d answers", c.asks, len(out))
		}
		if said := strings.Fields(strings.ReplaceAll(only(d.text(out[0]), "BCA", "ACK"), "*PM-1*",
			" ")); strings.Join(append(said[:1:1], said[2:]...), " ") != c.says {
			t.Errorf("%s: %q, want %s", c.asks, said, c.says)
		}
	}
}

// A supplier that offers another item says so in the line itself or in its answer: either waits for a buyer, and is
// never taken by itself.
func TestAnotherItemIsOffered(t *testing.T) {
	skipRaces(t)
	for _, line := range []string{"PO1*2*100*MR*0.71**VP*BR-09-X~ACK*IS*100*MR~",
		"PO1*2*100*MR*0.71**VP*BR-08-W~ACK*IS*100*MR****VP*BR-09-X~"} {
		d := open(t)
		d.post(purchase(1))
		number := d.send("VARNHOLT", "850")[0].Orders[0]
		i := d.receive(varnholt(1, "855", "BAK*00*AC*"+number+"*20260316~PO1*1*100*MR*0.71**VP*BR-10-W~ACK*IA*100*MR~"+line))
		var says []string
		for _, f := range i.Sets[0].Findings {
			says = append(says, f.Message)
		}
		if want := "[Line 2 is accepted with changes (IS): item BR-09-X for BR-08-W.]"; i.State != api.StateDone ||
			fmt.Sprint(says) != want {
			t.Errorf("%s: %s %s", line, i.State, says)
		}
		o := d.order(order.Purchase, "VARNHOLT", number, "")
		offers, err := order.Offers(&o.Order, o.Answers)
		if err != nil || len(offers) != 2 || offers[1].Item != "BR-09-X" || offers[1].Take != nil {
			t.Errorf("%s: %+v %v", line, offers, err)
		}
	}
}

// A notice that takes a shipment back needs no more than its number, where that is enough to know what is meant.
func TestNoticeWithoutOrders(t *testing.T) {
	skipRaces(t)
	d, first := bought(t)
	d.post(purchase(2))
	second := d.send("VARNHOLT", "850")[0].Orders[0]
	of := func(number string, n int) string {
		return fmt.Sprintf("HL*%d*1*O~PRF*%s~HL*%d*%d*I~LIN*1*VP*BR-10-W~SN1**10*MR~", 2*n, number, 2*n+1, 2*n)
	}
	for n, c := range []struct{ name, segments, want, moved string }{
		{"of one order", "BSN*00*V-1*20260318*1405~HL*1**S~" + of(first, 1), "done", "10 0"},
		{"of two", "BSN*00*V-2*20260318*1405~HL*1**S~" + of(first, 1) + of(second, 2), "done", "20 10"},
		{"nothing of an order", "BSN*00*V-3*20260318*1405~HL*1**S~HL*2*1*I~LIN*1*VP*BR-10-W~SN1**10*MR~",
			"held | sender_number must be there, but HL/PRF/01 is not there.", "20 10"},
		{"one of one taken back", "BSN*01*V-1*20260318*1405~HL*1**S~", "done", "10 10"},
		{"once more", "BSN*01*V-1*20260318*1406~HL*1**S~", "done", "10 10"},
		{"one of two taken back", "BSN*01*V-2*20260318*1405~HL*1**S~", "held | The shipment V-2 is of several orders (" +
			first + ", " + second + "), and the notice names none.", "10 10"},
		{"one that never was", "BSN*01*V-9*20260318*1405~HL*1**S~", "held | No shipment V-9 of VARNHOLT is known.", "10 10"},
	} {
		got := d.heard(varnholt(n+1, "856", c.segments))
		moved := ""
		for _, number := range []string{first, second} {
			moved += " " + or0(d.order(order.Purchase, "VARNHOLT", number, "").Lines[0].Shipped)
		}
		if got != c.want || moved != " "+c.moved {
			t.Errorf("%s:%s\n got %s\nwant %s, %s", c.name, moved, got, c.want, c.moved)
		}
	}
}

// An order that stands several times in a notice, for each carton or each of two trucks say, is one shipment of it;
// what the loops say otherwise of it is said. The notice once more does nothing.
func TestNoticeOfOneOrderInParts(t *testing.T) {
	skipRaces(t)
	const mixed = "HL*1**S~TD1*CTN*2~HL*2*1*O~PRF*@1~HL*3*2*I~LIN*1*VP*BR-10-W~SN1**10*MR~" +
		"HL*4*1*O~PRF*@2~HL*5*4*I~LIN*1*VP*BR-10-W~SN1**7*MR~" +
		"HL*6*1*O~PRF*@1~HL*7*6*I~LIN*1*VP*BR-10-W~SN1**5*MR~HL*8*6*I~LIN*2*VP*BR-08-W~SN1**3*MR~"
	const trucks = "HL*1**S~TD5**2*TERN~HL*2*1*O~PRF*@1~HL*3*2*I~LIN*1*VP*BR-10-W~SN1**10*MR~" +
		"HL*4**S~TD5**2*TERN~HL*5*4*O~PRF*@1~HL*6*5*I~LIN*1*VP*BR-10-W~SN1**5*MR~"
	const vendors = "HL*1**S~HL*2*1*O~PRF*@1~REF*VN*9001~HL*3*2*I~LIN*1*VP*BR-10-W~SN1**10*MR~" +
		"HL*4*1*O~PRF*@1~REF*VN*9002~HL*5*4*I~LIN*1*VP*BR-10-W~SN1**5*MR~"
	for _, c := range []struct{ name, segments, want, moved string }{
		{"between those of another", mixed, "done", "[15 3] [7 0]"},
		{"in two trucks", trucks, "done", "[15 0] [0 0]"},
		{"in small letters once", strings.Replace(trucks, "HL*5*4*O~PRF*@1", "HL*5*4*O~PRF*@s", 1),
			`done | HL/PRF/01 leads to "PO-000001" and to "po-000001"; which of them is sender_number?`, "[15 0] [0 0]"},
		{"under two numbers of theirs", vendors,
			`done | HL/REF/02 where HL/REF/01 = VN leads to "9001" and to "9002"; which of them is number?`, "[15 0] [0 0]"},
	} {
		d, first := bought(t)
		d.post(purchase(2))
		second := d.send("VARNHOLT", "850")[0].Orders[0]
		segments := "BSN*00*V-1*20260318*1405~" + strings.NewReplacer("@1", first, "@2", second, "@s",
			strings.ToLower(first)).Replace(c.segments)
		var says []string
		for n := range 2 {
			says = append(says, d.heard(varnholt(n+1, "856", segments)))
		}
		var moved []string
		for _, number := range []string{first, second} {
			o := d.order(order.Purchase, "VARNHOLT", number, "")
			moved = append(moved, fmt.Sprintf("[%s %s]", or0(o.Lines[0].Shipped), or0(o.Lines[1].Shipped)))
			if shipped := o.Lines[0].Shipped.Sign() > 0; shipped != (len(o.Movements) == 1) {
				t.Errorf("%s: %d movements of %s", c.name, len(o.Movements), number)
			}
		}
		if got := strings.Join(moved, " "); got != c.moved || says[0] != c.want || says[1] != c.want {
			t.Errorf("%s: %s, want %s\n got %s\n and %s\nwant %s", c.name, got, c.moved, says[0], says[1], c.want)
		}
	}
}

// An invoice of several orders bills each of them with its own lines, under the same number, once. What stands beside
// the lines is of the first; a total of all of them is said, and not compared.
func TestInvoiceThatCameOfSeveralOrders(t *testing.T) {
	skipRaces(t)
	d := open(t)
	var numbers []string
	for n := 1; n <= 2; n++ {
		d.post(purchase(n))
		numbers = append(numbers, d.send("VARNHOLT", "850")[0].Orders[0])
		d.receive(varnholt(n, "856", fmt.Sprintf("BSN*00*V-%d*20260318*1405~HL*1**S~HL*2*1*O~PRF*%s~HL*3*2*I~LIN*1*VP*BR-10-W~SN1**100*MR~"+
			"HL*4*2*I~LIN*2*VP*BR-08-W~SN1**100*MR~", n, numbers[n-1])))
	}
	invoice := strings.NewReplacer("@1", numbers[0], "@2", numbers[1]).Replace("BIG*20260320*VI-1*****DI~" +
		"IT1*1*60*MR*0.71**VP*BR-10-W*PO*@1~IT1*2*40*MR*0.71**VP*BR-10-W*PO*@2~IT1*3*100*MR*0.71**VP*BR-08-W*PO*@1~TDS*%d~")
	billed := func() string {
		var all []string
		for _, number := range numbers {
			for _, v := range d.order(order.Purchase, "VARNHOLT", number, "").Invoices {
				said := number + " " + v.Number + ":"
				for _, l := range v.Lines {
					said += fmt.Sprintf(" %s of %d", l.Quantity, l.Line)
				}
				for _, c := range v.Charges {
					said += " " + c.Field() + " " + c.Amount.String()
				}
				all = append(all, said+" = "+v.Total.String())
			}
		}
		return strings.Join(all, "; ")
	}
	const differs, first = " | For all of its orders the invoice states a total of ", " | The set is of 2 orders; what it says of all of them " +
		"together counts for the first."
	for n, c := range []struct{ set, want string }{ // each is held whole, and nothing of it counts
		{fmt.Sprintf(invoice, 14202), strings.Repeat(differs+"142.02; its lines, charges and tax make 142.00.", 2)},
		{fmt.Sprintf(invoice, 14000) + "TXI*TX*2~", first + strings.Repeat(differs+"140.00; its lines, charges and tax make 144.00.", 2)},
		{fmt.Sprintf(invoice, 14200) + "TXI*TX*2~", first + strings.Repeat(differs+"142.00; its lines, charges and tax make 144.00.", 2)},
	} {
		set := strings.Replace(c.set, "VI-1", fmt.Sprintf("VX-%d", n), 1)
		if got, want := d.heard(varnholt(20+n, "810", set)), "held"+c.want; got != want || billed() != "" {
			t.Errorf("it is %s, want %s; billed are %s", got, want, billed())
		}
	}
	if got, want := d.heard(varnholt(11, "810", fmt.Sprintf(invoice, 14200))), "done"; got != want {
		t.Errorf("it is %s, want %s", got, want)
	}
	want := numbers[0] + " VI-1: 60 of 1 100 of 2 = 113.60; " + numbers[1] + " VI-1: 40 of 1 = 28.40"
	if got := billed(); got != want {
		t.Errorf("billed are %s, want %s", got, want)
	}
	if got := d.heard(varnholt(12, "810", fmt.Sprintf(invoice, 14200))); !strings.HasPrefix(got, "done") || billed() != want {
		t.Errorf("again it is %s, and billed are %s", got, billed())
	}
	freight := strings.Replace(fmt.Sprintf(invoice, 15200), "VI-1", "VI-2", 1) + "SAC*C*D240***1000~"
	if got := d.heard(varnholt(13, "810", freight)); !strings.HasPrefix(got, "held | The set is of 2 orders; what it says of all of them together counts for the first. | ") {
		t.Errorf("with freight it is %s", got)
	}
	alone := strings.Replace(fmt.Sprintf(invoice, 14200), "VI-1*", "VI-3*20260316*"+numbers[0], 1)
	if got := d.heard(varnholt(14, "810", alone)); !strings.HasPrefix(got, "held | ") || strings.Contains(got, "The set is of") {
		t.Errorf("with an order in its header it is %s", got)
	}
	unsaid := strings.Replace(strings.Replace(fmt.Sprintf(invoice, 14200), "*60*MR*0.71*", "****", 1), "VI-1", "VX-9", 1)
	if got, want := d.heard(varnholt(30, "810", unsaid)), "The set is of several orders; the total that it states of all of them is not "+
		"compared, because not every line says its money."; !strings.Contains(got, want) {
		t.Errorf("it is %s", got)
	}
}
