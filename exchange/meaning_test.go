package exchange

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"testing"

	"koinos/api"
	"koinos/core/finding"
	"koinos/core/intent"
	"koinos/core/mapping"
	"koinos/core/order"
	"koinos/store"
)

// What a line of a purchase order costs follows from the code of its price's basis, to the cent; a code of which nobody
// knows the basis is a question, not a price.
func TestPriceBasisCodes(t *testing.T) {
	skipRaces(t)
	d := open(t)
	for n, c := range []struct{ price, basis, total string }{
		{"1.33", "", "26.60"}, {"1.33", "PE", "26.60"}, {"133", "HP", "26.60"}, {"1330.5", "TP", "26.61"}, {"13.3", "PN",
			"26.60"},
		{"1.33", "CT", "26.60"}, {"1.33", "PG", ""}, {"133", "hp", "26.60"}, // which is noted
		{"0", "NC", "0.00"}, {"", "NC", "0.00"},
	} {
		number := fmt.Sprintf("PM-%d", n)
		i := d.receive(pellow(n+1, "850", "BEG*00*SA*"+number+"**20260316~CUR*BY*EUR~PO1*1*20*MR*"+c.price+"*"+c.basis+
			"*VP*00113~CTT*1~"))
		if c.total == "" {
			f := i.Sets[0].Findings
			if i.State != api.StateHeld || f[len(f)-1].Code != finding.CrosswalkMissing || !strings.HasSuffix(f[len(f)-1].At,
				"PO1 / 05") {
				t.Errorf("%s per %s: %s %+v", c.price, c.basis, i.State, f)
			}
			continue
		}
		if got := d.order(order.Sales, "PELLOW", "", number).Total.String(); i.State != api.StateDone || got != c.total {
			t.Errorf("%s per %s: %s, total %s, not %s", c.price, c.basis, i.State, got, c.total)
		}
	}
	// A change that says the usual basis changes nothing of it; one that says another is a new price.
	d.receive(pellow(50, "860", "BCH*04*SA*PM-1***20260317~POC*1*PC*20*20*MR*1.4*PE*VP*00113~CTT*1~"))
	if o := d.order(order.Sales, "PELLOW", "", "PM-1"); o.Total.String() != "28.00" || !o.Lines[0].PriceBasis.IsZero() {
		t.Errorf("after the change: %s per %s", o.Total, o.Lines[0].PriceBasis)
	}
	d.receive(pellow(51, "860", "BCH*04*SA*PM-2***20260317~POC*1*PC*20*20*MR*1.5*PE*VP*00113~CTT*1~"))
	if o := d.order(order.Sales, "PELLOW", "", "PM-2"); o.Total.String() != "30.00" {
		t.Errorf("a price for one in the place of one for a hundred: %s", o.Total)
	}
}

// Releases of a blanket order are orders of their own: they are answered, changed and billed with their number.
func TestReleases(t *testing.T) {
	skipRaces(t)
	d := open(t)
	for n, release := range []string{"R7", "R8"} {
		i := d.receive(pellow(n+1, "850", "BEG*00*RL*BLK-1*"+release+
			"*20260316~CUR*BY*EUR~PO1*1*20*MR*1.33*PE*VP*00113~CTT*1~"))
		if i.State != api.StateDone {
			t.Fatalf("%s: %s %+v", release, i.State, i.Sets[0].Findings)
		}
	}
	d.receive(pellow(3, "860", "BCH*04*RL*BLK-1*R8**20260317~POC*1*QI*30*10*MR*1.33*PE*VP*00113~CTT*1~"))
	for release, want := range map[string]string{"R7": "20", "R8": "30"} {
		if got := d.order(order.Sales, "PELLOW", "", "BLK-1 / "+release).Lines[0].Quantity.String(); got != want {
			t.Errorf("release %s: quantity %s, not %s", release, got, want)
		}
	}
	text := ""
	for _, i := range d.send("PELLOW", "855") {
		text += d.text(i)
	}
	for _, want := range []string{"BAK*00*AD*BLK-1*20260316*R7*", "BAK*00*AC*BLK-1*20260316*R8*"} {
		if !strings.Contains(text, want) {
			t.Errorf("no %s in\n%s", want, strings.ReplaceAll(text, "~", "\n"))
		}
	}
}

// What a person answers to a line, in several statements, is what the partner is told; and what a supplier answers so
// is compared as a whole.
func TestSeveralStatements(t *testing.T) {
	skipRaces(t)
	d := open(t)
	d.receive(pellow(1, "850", "BEG*00*SA*PM-1**20260316~CUR*BY*EUR~DTM*002*20260324~N1*ST*Pellow Marina*92*0040~"+
		"PO1*1*40*MR*1.33*PE*VP*00113~PO1*2*5*EA*2*PE*VP*00489~PO1*3*5*EA*2*PE*VP*00489~CTT*3~"))
	o := d.order(order.Sales, "PELLOW", "", "PM-1")
	d.says(intent.Answer, o.ID, nil, map[string]string{"number": "1", "answer": "accepted", "accepted": "30",
		"due_on": "2026-03-24"},
		map[string]string{"number": "1", "answer": "back-ordered", "accepted": "10", "due_on": "2026-04-03"},
		map[string]string{"number": "2", "answer": "refused", "reason": "out of range"},
		map[string]string{"number": "3", "answer": "changed", "accepted": "4"})
	text := d.text(d.send("PELLOW", "855")[0])
	want := []string{"BAK*00*AC*PM-1*20260316****" + o.Number + "*20260316", "CUR*SE*EUR", "PO1*1*40*MR*1.33**VP*00113",
		"ACK*IA*30*MR*068*20260324", "ACK*IB*10*MR*068*20260403", "PO1*2*5*EA*2**VP*00489", "ACK*IR*0*EA",
		"N9*ZZ*REASON", "MSG*out of range", "PO1*3*5*EA*2**VP*00489", "ACK*IQ*4*EA", "CTT*3"}
	if at := strings.Index(text, "BAK"); !strings.HasPrefix(text[max(at, 0):], strings.Join(want, "~")+"~") {
		t.Errorf("%s", strings.ReplaceAll(text, "~", "\n"))
	}

	// The same way round: a supplier answers a line in two parts, and one not at all.
	d.post(purchase(1))
	d.send("VARNHOLT", "850")
	p := d.order(order.Purchase, "VARNHOLT", "", "REQ-1")
	i := d.receive(varnholt(1, "855", "BAK*00*AC*"+p.Number+"*20260316~PO1*1*100*MR*0.71**VP*BR-10-W~"+
		"ACK*IA*70*MR~ACK*IB*30*MR*068*20260503~CTT*1~"))
	p = d.order(order.Purchase, "VARNHOLT", "", "REQ-1")
	if i.State != api.StateDone || len(p.Answers) != 1 || len(p.Answers[0].Lines) != 2 {
		t.Fatalf("%s %+v\n%+v", i.State, i.Sets[0].Findings, p.Answers)
	}
	offers, err := order.Offers(&p.Order, p.Answers)
	if err != nil || fmt.Sprint(offers[0].Accepted, offers[0].Differs, offers[0].Take) !=
		"100 [30 due 2026-05-03] map[id:1 requested_delivery_on:2026-05-03]" {
		t.Errorf("%+v %v", offers, err)
	}
}

// Packages of a shipment stand in its notice as loops of their own around their lines, and are read from one.
func TestPackagesInNotice(t *testing.T) {
	skipRaces(t)
	d := open(t)
	d.receive(pellow(1, "850", "BEG*00*SA*PM-1**20260316~CUR*BY*EUR~N1*ST*Pellow Marina*92*0040~PO1*1*40*MR*1.33*PE*VP*00113~"+
		"PO1*2*5*EA*2*PE*VP*00489~PO1*3*6*EA*2*PE*VP*00489~CTT*3~"))
	o := d.order(order.Sales, "PELLOW", "", "PM-1")
	packed := func(number, quantity, pack string) map[string]string {
		return map[string]string{"number": number, "quantity": quantity, "package": pack,
			"package_in": "00340417000000000034"}
	}
	d.says(intent.Shipment, o.ID, map[string]string{"shipment": "LS-1"}, packed("1", "30", "00340417000000000010"),
		packed("2", "5", "00340417000000000027"), packed("1", "10", "00340417000000000027"), map[string]string{"number": "3",
			"quantity": "2"})
	text := d.text(d.send("PELLOW", "856")[0])
	var got []string
	for _, s := range strings.Split(text, "~") {
		if id, _, _ := strings.Cut(s, "*"); id == "HL" || id == "MAN" || id == "SN1" || id == "CTT" {
			got = append(got, s)
		}
	}
	want := "HL*1**S*1 HL*2*1*O*1 HL*3*2*T*1 MAN*GM*00340417000000000034 HL*4*3*P*1 MAN*GM*00340417000000000010 HL*5*4*I*0 SN1**30*MR*40 " +
		"HL*6*3*P*1 MAN*GM*00340417000000000027 HL*7*6*I*0 SN1**5*EA*5 HL*8*6*I*0 SN1**10*MR*40 HL*9*2*I*0 SN1**2*EA*2 CTT*9"
	if fmt.Sprint(strings.Join(got, " ")) != want {
		t.Errorf("\n got %s\nwant %s", strings.Join(got, " "), want)
	}

	d.post(purchase(1))
	d.send("VARNHOLT", "850")
	p := d.order(order.Purchase, "VARNHOLT", "", "REQ-1")
	i := d.receive(varnholt(1, "856", "BSN*00*V-9*20260316*0930~HL*1**S~DTM*011*20260316~HL*2*1*O~PRF*"+p.Number+
		"~HL*3*2*P~MAN*GM*00340417000000000010~HL*4*3*I~"+
		"LIN*1*VP*BR-10-W~SN1*1*60*MR~HL*5*2*P~MAN*GM*00340417000000000028~"+
		"HL*6*5*I~LIN*1*VP*BR-10-W~SN1*1*40*MR~HL*7*5*I~LIN*2*VP*BR-08-W~SN1*2*100*MR~CTT*7~"))
	p = d.order(order.Purchase, "VARNHOLT", "", "REQ-1")
	if i.State != api.StateDone || len(p.Movements) != 1 {
		t.Fatalf("%s %+v", i.State, i.Sets[0].Findings)
	}
	var lines []string
	for _, l := range p.Movements[0].Lines {
		lines = append(lines, fmt.Sprint(l.Line, " ", l.Quantity, " ", l.Package))
	}
	want = "[1 60 00340417000000000010 1 40 00340417000000000028 2 100 00340417000000000028]"
	if f := i.Sets[0].Findings; fmt.Sprint(lines) != want || len(f) != 1 || f[0].Code != finding.CheckDigitWrong ||
		f[0].Value != "00340417000000000028" {
		t.Errorf("%s %+v", lines, f)
	}
}

// testTotals receives an order of ten metres at 2.00 each with segments in its header and its line, and compares its
// total and what is not read.
func testTotals(t *testing.T, cases []struct{ header, line, total, found string }) {
	d := open(t)
	for n, c := range cases {
		i := d.receive(pellow(n+1, "850", fmt.Sprintf("BEG*00*SA*PM-%d**20260316~CUR*BY*EUR~%sPO1*1*10*MR*2.00*PE*VP*00113~%sCTT*1~",
			n+1, c.header, c.line)))
		got := []string{}
		for _, f := range i.Sets[0].Findings {
			if f.Code == finding.ValueUnread {
				got = append(got, f.At+" "+f.Value)
			}
		}
		o := d.order(order.Sales, "PELLOW", "", fmt.Sprintf("PM-%d", n+1))
		if fmt.Sprint(got) != c.found || o.Total.String() != c.total {
			t.Errorf("%s %s: %s, %s; want %s, %s", c.header, c.line, o.Total, got, c.total, c.found)
		}
	}
}

// Allowances that are billed back, or paid in another way, do not change what an order comes to; those off the invoice
// do.
func TestSettledApart(t *testing.T) {
	skipRaces(t)
	testTotals(t, []struct{ header, line, total, found string }{
		{"SAC*C*D240***2500*******06~", "SAC*A*C310***100*******02~", "44.00", "[]"},
		{"SAC*C*D240***2500~", "SAC*A*C310***100~", "44.00", "[]"},
		{"SAC*A*F800***500*******01~", "SAC*A*C310***100~", "19.00", "[ST 0001 / SAC / 12 01]"},
		{"SAC*A*F800***500~", "SAC*A*C310***100*******01~", "15.00", "[ST 0001 / PO1 / SAC / 12 01]"},
		{"SAC*A*F800***500*******03~", "SAC*C*F050***100*******05~", "20.00",
			"[ST 0001 / SAC / 12 03 ST 0001 / PO1 / SAC / 12 05]"},
		{"SAC*A*F800***500*******04~", "SAC*C*F050***100*******01~", "20.00",
			"[ST 0001 / SAC / 12 04 ST 0001 / PO1 / SAC / 12 01]"},
		{"SAC*C*D240***2500*******05~", "SAC*A*C310***100*******05~", "20.00",
			"[ST 0001 / SAC / 12 05 ST 0001 / PO1 / SAC / 12 05]"},
	})
}

// Allowances and charges may be shares of the goods, or rates for a quantity. Those for the same add up.
func TestShares(t *testing.T) {
	skipRaces(t)
	testTotals(t, []struct{ header, line, total, found string }{
		{"SAC*A*C310****3*5~", "", "19.00", "[]"},
		{"SAC*A*C310****3*5~SAC*A*C310****3*2.5~", "", "18.50", "[]"},
		{"SAC*A*C310***100~SAC*A*C310****3*5~SAC*C*D240***1000~SAC*C*D240***500~", "", "33.00", "[]"},
		{"SAC*A*C310***100*3*50~", "SAC*A*C310***200*3*50~", "17.00", "[]"}, // the amount counts
		{"", "SAC*A*C310****3*10~", "18.00", "[]"},
		{"", "SAC*A*C310****3*10~SAC*A*F800****1*5~SAC*A*C310***150~SAC*C*F050****3*7.5~", "16.78", "[]"},
		{"SAC*C*D240******0.25*MR*10~", "", "22.50", "[]"},
		{"SAC*C*D240******0.25*MR~", "SAC*A*C310******0.1*MR~", "20.00", "[ST 0001 / SAC / 08 0.25 ST 0001 / PO1 / SAC / 08 0.1]"},
		{"SAC*A*C310****3*5*****01~", "", "20.00", "[ST 0001 / SAC / 12 01]"},
		{"", "SAC*A*C310****7*5~", "20.00", "[ST 0001 / PO1 / SAC / 07 5]"},
	})
}

// What the standard mapping does not carry of an order is said at its place.
func TestUnreadSegments(t *testing.T) {
	skipRaces(t)
	d := open(t)
	i := d.receive(pellow(1, "850", "BEG*00*SA*PM-1**20260316~CUR*BY*EUR~SAC*A*F800****2*5~ITD*01*3*2**10**30~"+
		"DTM*063*20260410~DTM*064*20260401~TD5*O*2*TERN**TERN FREIGHT~TXI*ST**7.5~TXI*LS*****1~PO1*1*20*MR*1.33*PE*VP*00113~SLN*1**I*2*EA~"+
		"PO1*2*20*MR*1.33*PE*UP*4006381333932~TXI*ST*1.20~CTT*2~"))
	var got []string
	for _, f := range i.Sets[0].Findings {
		got = append(got, string(f.Code)+" "+f.At)
	}
	want := "[x12_rule ST 0001 value_unread ST 0001 / DTM #2 / 02 value_unread ST 0001 / TXI #2 value_unread ST " +
		"0001 / PO1 / SLN value_unread ST 0001 / PO1 #2 / TXI check_digit_wrong ST 0001 / PO1 #2 / 07]"
	if fmt.Sprint(got) != want || i.State != api.StateDone {
		t.Errorf("%s\n got %s\nwant %s", i.State, got, want)
	}
	o := d.order(order.Sales, "PELLOW", "", "PM-1")
	if carrier := o.Party("carrier"); o.PaymentTerms != "2 % 10, net 30" || o.CancelAfter != "2026-04-10" ||
		carrier == nil ||
		carrier.Code != "TERN" || carrier.Name != "TERN FREIGHT" {
		t.Errorf("%s, %s, %+v", o.PaymentTerms, o.CancelAfter, carrier)
	}
	if out := d.send("PELLOW", "855"); len(out) != 1 || out[0].State != api.StateSent {
		t.Errorf("its answer: %+v", out)
	}
}

// Taxes are those of the order, or of its lines: as amounts, as shares, several that add up. TX is all of them at once.
func TestTaxes(t *testing.T) {
	skipRaces(t)
	d := open(t)
	for n, c := range []struct{ segments, want string }{
		{"TXI*ST*10.05~TXI*CP*2.5~PO1*1*20*MR*10*PE*VP*00113~", "goods 200 tax 12.55 total 212.55"},
		{"TXI*ST*10.05~TXI*TX*12.6~PO1*1*20*MR*10*PE*VP*00113~", "goods 200 tax 12.6 total 212.6"},
		{"PO1*1*20*MR*10*PE*VP*00113~TXI*VA**.2~PO1*2*1*MR*10*PE*VP*00113~TXI*ST**0.07~TXI*CP**.005~",
			"goods 210 tax 40.75 total 250.75"},
		// of the whole order, but of the line that says its own
		{"TXI*ST**0.08~TXI*CP**.01~PO1*1*20*MR*10*PE*VP*00113~PO1*2*1*MR*10*PE*VP*00113~TXI*ST**0.02~",
			"goods 210 tax 18.2 total 228.2"},
		// as per cent, which the standard does not foresee
		{"PO1*1*20*MR*10*PE*VP*00113~TXI*VA**7.5~", "goods 200 tax 15 total 215"},
	} {
		number := fmt.Sprint("PM-", n)
		i := d.receive(pellow(n+1, "850", "BEG*00*SA*"+number+"**20260316~CUR*BY*EUR~REF*CT*C-1~"+strings.Replace(c.segments,
			"PO1", "N1*ST*Pellow*92*0040~PO1", 1)))
		o := d.order(order.Sales, "PELLOW", "", number)
		if got := fmt.Sprintf("goods %s tax %s total %s", o.Goods.Plain(), o.Tax.Plain(), o.Total.Plain()); got != c.want ||
			len(i.Sets[0].Findings) > 0 {
			t.Errorf("%s: %s, want %s; %+v", c.segments, got, c.want, i.Sets[0].Findings)
		}
	}
}

// What partners say in other places than most is read, or said.
func TestSaidElsewhere(t *testing.T) {
	skipRaces(t)
	const begin, at, line = "BEG*00*SA*%s**20260316~CUR*BY*EUR~REF*CT*C-1~", "N1*ST*Pellow*92*0040~",
		"PO1*1*20*MR*1.33*PE*VP*00113~"
	d := open(t)
	for n, c := range []struct{ name, set, says, has string }{
		{"a text in MTX", begin + "N9*L1*GEN~MTX*GEN*Ring twice~" + at + line + "N9*ZZ*X~MTX**Label each~", "",
			"Ring twice|Label each"},
		{"a description in two", begin + at + line + "PID*F****Braided rope~PID*F*08***10 mm white~", "",
			"Braided rope 10 mm white"},
		{"an item in LIN", begin + at + "PO1*1*20*MR*1.33*PE~LIN**VP*00113*IN*R-1~", "", "00113|R-1"},
		{"references", begin + "REF*19*7~REF*PD*SPRING~REF*IA*4711~FOB*CC~N1*MA*Shop 9*92*0099~" + at + line, "",
			"division=7 promotion=SPRING vendor=4711 freight_terms=CC mark_for=0099"},
		{"a rush order", strings.Replace(begin, "SA", "RO", 1) + at + line, "", "order_type=RO"},
		{"the buyer's telephone", begin + "PER*BD*Una Pell*TE*555 1*EM*una@pellow.example~" + at + line, "",
			"buyer Una Pell 555 1 una@pellow.example"},
		{"a line for somebody else", begin + at + line + "N1*ST*Ann Olsen~N3*Kaia 4~",
			"N1 says where the goods go, Ann Olsen (ST Ship To), and the mapping does not read it here.", ""},
		{"a line for another yard", begin + at + line + "N1*ST*East*92*0041~", "", "0041"},
		{"a day on which it is due", begin + "ITD*05*3****20260430~" + at + line, "", "due 2026-04-30"},
		{"a discount until a day", begin + "ITD*05*3*2*20260330***30~" + at + line, "", "2 % 2026-03-30, net 30"},
		{"two terms", begin + "ITD*01*3*2**10**30~ITD*01*3*1**20**30~" + at + line,
			"A second ITD says other terms of payment, and the mapping reads those of the first.", "2 % 10, net 30"},
		{"terms of a line", begin + at + line + "ITD*01*3*****60~",
			"ITD says terms of payment, and the mapping does not read them here.", ""},
		{"another total", begin + at + line + "CTT*1~AMT*TT*99~", "The document says 99, but its lines make 26.60.", ""},
		{"its total", begin + at + line + "CTT*1~AMT*TT*26.6~", "", "1.33"},
		{"ship complete", begin + "CSH*SC~" + at + line,
			"CSH (Sales Requirements) says a condition of the delivery, and the mapping does not read it.", ""},
		{"a special price", begin + at + line + "CTP**DIS*1.20*20*MR~",
			"CTP says the price 1.20 (DIS), and the line says 1.33; the mapping reads the line's.", ""},
		{"the same price again, and that in the shop", begin + at + line + "CTP**CON*1.330~CTP**RES*2.99~", "", "1.33"},
		{"a time", begin + "DTM*002*20260410*1200~DTM*010*20260405*2359~" + at + line,
			"DTM says the time 1200 of the day 20260410 (002 Delivery Requested), and the mapping reads only the day.",
			"2026-04-10"},
		{"a blanket order", strings.Replace(begin, "SA", "BK", 1) + at + line,
			"It is a blanket order (BEG02 is BK): only its releases are to be delivered.", ""},
		{"its release", "BEG*00*BK*%s*R1*20260316~CUR*BY*EUR~REF*CT*C-1~" + at + line, "", "release=R1 order_type=BK"},
		{"a copy for information", strings.Replace(begin, "SA", "IN", 1) + at + line,
			"It is a copy for information (BEG02 is IN): it orders nothing.", ""},
	} {
		number := fmt.Sprint("PM-", n)
		i := d.receive(pellow(n+1, "850", fmt.Sprintf(c.set, number)))
		var says []string
		for _, f := range i.Sets[0].Findings {
			says = append(says, f.Message)
		}
		refused := strings.HasPrefix(c.says, "It is ")
		if strings.Join(says, " ") != c.says || (i.State == api.StateHeld) != refused {
			t.Errorf("%s: %s %q", c.name, i.State, says)
		}
		if refused {
			continue
		}
		if strings.HasPrefix(c.has, "release=") {
			number += " / R1"
		}
		o := d.order(order.Sales, "PELLOW", "", number)
		l := &o.Lines[0]
		has := []string{o.Notes + "|" + l.Notes, l.Item + "|" + l.BuyerItem, l.Description, l.Location, l.UnitPrice.Plain(),
			string(o.RequestedDeliveryOn), o.PaymentTerms}
		var references []string
		for _, r := range o.References {
			if r.Qualifier == "contract" {
				continue
			}
			references = append(references, r.Qualifier+"="+r.Value)
		}
		has = append(has, strings.Join(references, " "))
		if b := o.Party("buyer"); b != nil {
			has = append(has, strings.Join([]string{"buyer", b.Contact, b.Phone, b.Email}, " "))
		}
		if c.has != "" && !slices.Contains(has, c.has) {
			t.Errorf("%s: %q", c.name, has)
		}
	}
}

// A UPC without its check digit is completed: it is the same item as with it.
func TestShortUPC(t *testing.T) {
	skipRaces(t)
	d := open(t)
	i := d.receive(pellow(1, "850", "BEG*00*SA*PM-1**20260316~CUR*BY*EUR~REF*CT*C-1~N1*ST*Pellow*92*0040~"+
		"PO1*1*20*MR*10*PE*UI*03600029145*VP*00113~PO1*2*20*MR*10*PE*VP*00113*UP*036000291452~"))
	o := d.order(order.Sales, "PELLOW", "", "PM-1")
	if len(i.Sets[0].Findings) > 0 || o.Lines[0].GTIN != "036000291452" || o.Lines[1].GTIN != "036000291452" {
		t.Errorf("%s, %s, %+v", o.Lines[0].GTIN, o.Lines[1].GTIN, i.Sets[0].Findings)
	}
}

// A GTIN goes out under the qualifier of its length, as it came; in a notice it may have other zeros before it.
func TestGTINsOut(t *testing.T) {
	skipRaces(t)
	d := open(t)
	d.receive(pellow(1, "850", "BEG*00*SA*PM-1**20260316~CUR*BY*EUR~REF*CT*C-1~N1*ST*Pellow*92*0040~PO1*1*20*MR*10*PE*UP*036000291452~"+
		"PO1*2*20*MR*10*PE*EN*4006381333931~PO1*3*20*MR*10*PE*UK*10012345678902~PO1*4*20*MR*10*PE*EN*96385074~"))
	var said []string
	for segment := range strings.SplitSeq(d.text(d.send("PELLOW", "855")[0]), "~") {
		if segment = strings.TrimSpace(segment); strings.HasPrefix(segment, "PO1*") {
			said = append(said, strings.Join(strings.Split(segment, "*")[6:], " "))
		}
	}
	if got := strings.Join(said, ", "); got != "UP 036000291452, EN 4006381333931, UK 10012345678902, EN 96385074" {
		t.Error(got)
	}
	if got := d.heard(pellow(2, "860", "BCH*04*SA*PM-1***20260318~POC**QI*30**MR*10*PE*EN*0036000291452~POC**QD*10**MR*10*PE*UK*04006381333931~")); got != "done" {
		t.Error(got)
	}
	if o := d.order(order.Sales, "PELLOW", "", "PM-1"); o.Lines[0].Quantity.Plain() != "30" || o.Lines[1].Quantity.Plain() != "10" ||
		o.Lines[0].GTIN != "036000291452" {
		t.Errorf("%+v", o.Lines[:2])
	}
}

// What nobody reads holds a set, or is passed over, where the partner's mapping says so.
func TestUnreadAsTheMappingSays(t *testing.T) {
	skipRaces(t)
	const set = "BEG*00*SA*%s**20260316~CUR*BY*EUR~REF*CT*C-1~N1*ST*Pellow Marina*92*0040~" +
		"PO1*1*20*MR*1.33*PE*VP*00113~SLN*1**I*2*EA~CTT*1~"
	d := open(t)
	for n, c := range []struct{ more, state, code string }{
		{"", api.StateDone, "[value_unread]"},
		{"findings: {value_unread: error}\n", api.StateHeld, "[value_unread]"},
		{"document: {unused: [PO1/SLN]}\n", api.StateDone, "[]"},
	} {
		m, err := mapping.Parse([]byte("koinos: mapping/1\nname: pellow-850\nextends: x12-850\n" + c.more +
			"header: {partner: {value: PELLOW}}\n"))
		if err != nil {
			t.Fatal(err)
		}
		kept := api.Mapping{Name: m.Name, Text: m.Text, StoredBy: "test", StoredAt: d.at}
		if _, err := d.store.PutMapping(context.Background(), kept); err != nil {
			t.Fatal(err)
		}
		i := d.receive(pellow(n+1, "850", fmt.Sprintf(set, fmt.Sprint("PM-", n))))
		codes := []finding.Code{}
		for _, f := range i.Sets[0].Findings {
			codes = append(codes, f.Code)
		}
		if i.State != c.state || fmt.Sprint(codes) != c.code {
			t.Errorf("%q: %s %v", c.more, i.State, i.Sets[0].Findings)
		}
	}
}

// An answer to an order as a whole, without lines, is of all of them: a rejection waits for a buyer, who takes it.
func TestAnswerWithoutLines(t *testing.T) {
	skipRaces(t)
	d := open(t)
	d.post(purchase(1))
	d.send("VARNHOLT", "850")
	p := d.order(order.Purchase, "VARNHOLT", "", "REQ-1")
	for n, c := range []struct{ code, said, held string }{
		{"AT", "", ""},
		{"RJ", "The whole order is rejected (RJ); what is wanted of it must come from elsewhere.",
			"line 1: refused; line 2: refused."},
		{"AK", "", ""},
	} {
		i := d.receive(varnholt(n+1, "855", "BAK*00*"+c.code+"*"+p.Number+"*20260316*****2026031"+fmt.Sprint(n)+"~"))
		said := ""
		for _, f := range i.Sets[0].Findings {
			said += f.Message
		}
		list, err := d.store.HeldList(context.Background(), store.HeldFilter{HeldFor: api.HeldFor{Kind: api.HeldAnswer}})
		held := ""
		for _, w := range list {
			_, held, _ = strings.Cut(w.Reason, "was ordered: ")
		}
		if i.State != api.StateDone || said != c.said || held != c.held || err != nil {
			t.Errorf("%s: %s, %q, held %q, %v", c.code, i.State, said, held, err)
		}
	}
}

// Two interchanges of one document that is broken into lines, the second of which begins within a line, are both taken.
func TestBrokenDocumentOfSeveral(t *testing.T) {
	skipRaces(t)
	d := open(t)
	both := pellow(1, "850", order4711) + pellow(2, "850", strings.ReplaceAll(order4711, "PM-1", "PM-2"))
	var lines strings.Builder
	for ; len(both) > 80; both = both[80:] {
		lines.WriteString(both[:80] + "\r\n")
	}
	came, err := d.Receive(context.Background(), strings.NewReader(lines.String()+both), Arrival{Name: "two.edi",
		By: "test"})
	if err != nil || len(came) != 2 || came[0].State != api.StateDone || came[1].State != api.StateDone {
		t.Fatalf("%+v %v", came, err)
	}
	if a, b := d.order(order.Sales, "PELLOW", "", "PM-1"), d.order(order.Sales, "PELLOW", "", "PM-2"); len(a.Lines) != 2 ||
		len(b.Lines) != 2 {
		t.Errorf("%d and %d lines", len(a.Lines), len(b.Lines))
	}
}

// All allowances and charges of a line count, whatever they are for.
func TestAllowancesOfALine(t *testing.T) {
	skipRaces(t)
	d := open(t)
	d.receive(pellow(1, "850", "BEG*00*SA*PM-1**20260316~CUR*BY*EUR~REF*CT*C-1~PO1*1*5*EA*2.00**VP*00113~SAC*C*H750***100~SAC*A*C310***50~"+
		"SAC*A*F800***25~SAC*C*D240***10~CTT*1~"))
	o := d.order(order.Sales, "PELLOW", "", "PM-1")
	var said []string
	for _, c := range o.Lines[0].Charges {
		said = append(said, c.Field()+" "+c.Amount.Plain())
	}
	slices.Sort(said)
	if want := "[allowance.discount 0.75 charge.other 1.1]"; fmt.Sprint(said) != want || o.Total.String() != "10.35" {
		t.Errorf("%s, total %s; want %s, 10.35", said, o.Total, want)
	}
}

// What is billed for a line is told with the line, and for the whole order with the order: what a line cannot tell by
// its code counts for the whole.
func TestChargesOfBilledLines(t *testing.T) {
	skipRaces(t)
	d := open(t)
	d.receive(pellow(1, "850", "BEG*00*SA*PM-1**20260316~CUR*BY*EUR~REF*CT*C-1~N1*ST*Pellow Marina*92*0040~"+
		"PO1*1*5*EA*2.00**VP*00113~SAC*C*D240***110~"+
		"SAC*A*C310***50~PO1*2*4*EA*1.00**VP*00113~SAC*A*C310***20~CTT*2~SAC*C*D240***300~"))
	id := d.order(order.Sales, "PELLOW", "", "PM-1").ID
	d.says(intent.Change, id, nil, map[string]string{"number": "2", "charge.handling": "0.40"})
	d.says(intent.Shipment, id, map[string]string{"shipment": "LS-1"},
		map[string]string{"number": "1", "quantity": "5"}, map[string]string{"number": "2", "quantity": "4"})
	got := d.outgoing("PELLOW", "810", "IT1", "SAC", "TDS")
	const want = "IT1*1*5*EA*2*PE*VP*00113 SAC*A*C310***50 SAC*C*F050***110 IT1*2*4*EA*1*PE*VP*00113 SAC*A*C310***20 " +
		"TDS*1780 SAC*C*D240***300 SAC*C*D500***40"
	if got != want {
		t.Errorf("\n got %s\nwant %s", got, want)
	}
}

// Days that say when goods are wanted, or until when, are those of the order and its lines; others that matter are
// said.
func TestDays(t *testing.T) {
	skipRaces(t)
	for _, c := range []struct{ header, line, want, says string }{
		{"DTM*106*20260401~", "DTM*106*20260402~", "deliver 2026-04-01, line 2026-04-02", ""},
		{"DTM*074*20260401~", "", "deliver 2026-04-01", ""},
		{"DTM*037*20260320~DTM*175*20260325~", "", "ship 2026-03-20, cancel after 2026-03-25", ""},
		{"DTM*061*20260405~", "", "cancel after 2026-04-05", ""},
		{"DTM*061*20260405~DTM*175*20260325~", "", "cancel after 2026-04-05",
			`DTM/02 where DTM/01 = 001 or 177 or 063 or 061 or 175 leads to "20260405" and to "20260325"; which of them is cancel_after?`},
		{"", "DTM*069*20260402~", "", "DTM says the day 20260402 (069 Promised for Delivery), and the mapping does not read it."},
	} {
		d := open(t)
		i := d.receive(pellow(1, "850", "BEG*00*SA*PM-1**20260316~CUR*BY*EUR~REF*CT*C-1~"+c.header+"PO1*1*5*EA*2**VP*00113~"+c.line+"CTT*1~"))
		if says := foundText(i); says != c.says {
			t.Errorf("%s%s says %s, want %s", c.header, c.line, says, c.says)
		}
		o := d.order(order.Sales, "PELLOW", "", "PM-1")
		var got []string
		for _, day := range []struct {
			name string
			is   order.Date
		}{{"ship ", o.RequestedShipOn}, {"deliver ", o.RequestedDeliveryOn}, {"cancel after ", o.CancelAfter},
			{"line ", o.Lines[0].RequestedDeliveryOn}} {
			if day.is != "" {
				got = append(got, day.name+string(day.is))
			}
		}
		if is := strings.Join(got, ", "); is != c.want {
			t.Errorf("%s%s: %s, want %s", c.header, c.line, is, c.want)
		}
	}
}
