package exchange

import (
	"fmt"
	"strings"
	"testing"

	"koinos/core/order"
)

// heard receives a set about the first order and returns its state with what it says.
func (d *desk) heard(doc string) string {
	d.t.Helper()
	i := d.receive(doc)
	says := []string{i.State}
	for _, s := range i.Sets {
		for _, f := range s.Findings {
			says = append(says, f.Message)
		}
	}
	return strings.Join(says, " | ")
}

// bought is a purchase order of two lines of 100 that the supplier has.
func bought(t *testing.T) (*desk, string) {
	d := open(t)
	d.post(purchase(1))
	return d, d.send("VARNHOLT", "850")[0].Orders[0]
}

// A supplier answers in many ways; what is not as ordered is said, wherever it stands, and what nobody reads as well.
func TestAnswersHeard(t *testing.T) {
	skipRaces(t)
	const first, second = "PO1*1*100*MR*0.71**VP*BR-10-W~", "PO1*2*100*MR*0.71**VP*BR-08-W~ACK*IA*100*MR~"
	for _, c := range []struct{ name, code, segments, want string }{
		{"all of it", "AT", "", "done"},
		{"none of it", "RJ", "", "done | The whole order is rejected (RJ); what is wanted of it must come from elsewhere."},
		{"only exceptions", "AE", first + "ACK*IQ*80*MR~",
			"done | Line 1 is accepted with changes (IQ): quantity 80 of 100."},
		{"not all lines", "AD", first + "ACK*IA*100*MR~", "done | Line 2 is not answered."},
		{"a day behind the answer", "AC", first + "ACK*IA*100*MR~DTM*067*20260501~" + second,
			"done | Line 1 is accepted with changes (IA): due 2026-05-01."},
		{"the day asked for again", "AC", first + "ACK*IA*100*MR*002*20260406~DTM*002*20260406~" + second, "done"},
		{"another day, by the qualifier of a wish", "AC", first + "ACK*IA*100*MR*002*20260501~" + second,
			"done | Line 1 is accepted with changes (IA): due 2026-05-01."},
		{"a day of the order", "AC", "DTM*067*20260501~" + first + "ACK*IA*100*MR~" + second,
			"done | Line 1 is accepted with changes (IA): due 2026-05-01. | Line 2 is accepted with changes (IA): due 2026-05-01."},
		{"a day of the order, and one of a line", "AC", "DTM*067*20260501~" + first + "ACK*IA*100*MR*067*20260406~" + second,
			"done | Line 2 is accepted with changes (IA): due 2026-05-01."},
		{"a day of the order, and a line refused", "AC", "DTM*067*20260501~" + first + "ACK*IR*100*MR~" + second,
			"done | Line 1 is rejected (IR); what is wanted of it must come from elsewhere. | " +
				"Line 2 is accepted with changes (IA): due 2026-05-01."},
		{"a day of the order, and a line whose day is open", "AC", "DTM*067*20260406~" + first + "ACK*SP*100*MR~" + second,
			"done | Line 1 is accepted with changes (SP): no day is promised yet."},
		{"all of it for a day", "AT", "DTM*067*20260501~",
			"done | Line 1 is accepted with changes: due 2026-05-01. | Line 2 is accepted with changes: due 2026-05-01."},
		{"all of it for the day asked for", "AT", "DTM*067*20260406~", "done"},
		{"only exceptions, and a day for all", "AE", "DTM*067*20260501~" + first + "ACK*IQ*80*MR*067*20260406~",
			"done | Line 1 is accepted with changes (IQ): quantity 80 of 100. | Line 2 is accepted with changes: due 2026-05-01."},
		{"none of it, with a day", "RJ", "DTM*067*20260501~",
			"done | The whole order is rejected (RJ); what is wanted of it must come from elsewhere."},
		{"not decided, with a day", "AH", "DTM*067*20260501~", "done"},
		{"the day of the wish again", "AT", "DTM*002*20260406~", "done"},
		{"parts, each for its day", "AC", first + "ACK*IA*100*MR~SCH*60*MR***067*20260406~SCH*40*MR***067*20260501~" + second,
			"done | Line 1 is accepted with changes (IA): 40 due 2026-05-01."},
		{"one part", "AC", first + "ACK*IA*100*MR~SCH*60*MR***067*20260406~" + second,
			"done | Line 1 is accepted with changes (IA): quantity 60 of 100."},
		{"parts that are all of it for the day asked for", "AC", first +
			"SCH*60*MR***002*20260406~SCH*40*MR***002*20260406~" + second,
			"done"},
		{"parts beside answers of parts", "AC", first +
			"ACK*IA*60*MR*067*20260406~ACK*IB*40*MR*067*20260501~SCH*60*MR***067*20260406~" + second,
			"done | SCH says days for parts of the line, and the line has several answers (ACK) of its own, " +
				"which are read instead. | Line 1 is accepted with changes (IA): 40 due 2026-05-01."},
		{"parts for places", "AC", first + "ACK*IA*100*MR~SCH*100*MR*ST*Quay 7*067*20260406~" + second,
			"done | SCH says where a part of the line goes, Quay 7 (ST Ship To), and the mapping does not read it."},
		{"another price beside", "AC", first + "CTP**CON*0.75~ACK*IA*100*MR~" + second,
			"done | CTP says the price 0.75 (CON), and the line says 0.71; the mapping reads the line's."},
		{"a price only there", "AC", "PO1*1*100*MR***VP*BR-10-W~CTP**CON*0.75~ACK*IP*100*MR~" + second,
			"done | Line 1 is accepted with changes (IP): price 0.75 for 0.71."},
		{"a charge", "AC", "SAC*C*D240***2500~" + first + "ACK*IA*100*MR~" + second,
			"done | SAC says an allowance or a charge, and the mapping does not read it."},
		{"a text", "AC", "N9*ZZ*NOTE~MSG*Colour may vary~" + first + "ACK*IA*100*MR~" + second,
			`done | MSG says "Colour may vary", and the mapping does not read it.`},
		{"on hold there", "AC", first + "ACK*IH*100*MR~" + second, "done | Line 1: not decided by the seller yet (IH)."},
		{"a part on hold", "AC", first + "ACK*IA*60*MR~ACK*IH*40*MR~" + second,
			"done | Line 1: not decided by the seller yet, quantity 60 of 100 (IA)."},
		{"without a day", "AC", first + "ACK*SP*100*MR~" + second,
			"done | Line 1 is accepted with changes (SP): no day is promised yet."},
		{"another currency", "AC", "CUR*SE*USD~" + first + "ACK*IA*100*MR~" + second,
			"held | The answer is in USD, but the order is in EUR."},
	} {
		d, number := bought(t)
		if got := d.heard(varnholt(1, "855", "BAK*00*"+c.code+"*"+number+"*20260316~"+c.segments)); got != c.want {
			t.Errorf("%s:\n got %s\nwant %s", c.name, got, c.want)
		}
	}
}

// What a notice says of the goods is kept.
func TestNoticeHeard(t *testing.T) {
	skipRaces(t)
	d, number := bought(t)
	got := d.heard(varnholt(1, "856", "BSN*00*V-1*20260318*1405~HL*1**S~TD1*CTN*3****G*42.5*KG~"+
		"TD5**2*TERN*M*TERN FREIGHT~REF*BM*BL-77~REF*CN*PRO-1~DTM*011*20260318~"+
		"HL*2*1*O~PRF*"+number+"~HL*3*2*I~LIN*1*VP*BR-10-W*LT*L-9~SN1**40*MR~"))
	m := d.order(order.Purchase, "VARNHOLT", number, "").Movements[0]
	is := fmt.Sprint(m.Carrier, ", ", m.Tracking, ", ", m.Lading, ", ", m.Weight.Plain(), " ", m.WeightIn, ", lot ",
		m.Lines[0].Lot)
	if want := "TERN FREIGHT, PRO-1, BL-77, 42.5 KGM, lot L-9"; got != "done" || is != want {
		t.Errorf("%s: %s, want %s", got, is, want)
	}
}

// An invoice is compared with the order to its currency, the charges of its lines, and the allowances that it forgets.
func TestInvoicesHeard(t *testing.T) {
	skipRaces(t)
	for _, c := range []struct{ name, segments, want string }{
		{"as ordered", "IT1*1*100*MR*0.71**VP*BR-10-W~SAC*A*C310***500~TDS*6600~", "done"},
		{"with a tax on what is charged", "IT1*1*100*MR*0.71**VP*BR-10-W~SAC*A*C310***500~TDS*6600~SAC*C*D240***1000~TXI*VA*1.90*19~",
			"held | TXI (Tax Information) says a tax of 1.90, and the mapping does not read it. | With this invoice, 10.00 of " +
				"charge.freight are invoiced; the order says 0: 10.00 EUR more. | The invoice states a total of 66.00; its lines, " +
				"charges and tax make 76.00. | The invoice differs from the order by 10.00 EUR more."},
		{"in another currency", "CUR*SE*USD~IT1*1*100*MR*0.71**VP*BR-10-W~SAC*A*C310***500~TDS*6600~",
			"held | The invoice is in USD, but the order is in EUR."},
		{"without the discount of the line", "IT1*1*100*MR*0.71**VP*BR-10-W~TDS*7100~",
			"held | With this, all is invoiced, but only 0 of the 5 of allowance.discount were taken off: 5 EUR " +
				"more. | The invoice differs from the order by 5 EUR more."},
		{"a line without charge", "IT1*1*100*MR*0*NC*VP*BR-10-W~SAC*A*C310***500~TDS*0~",
			"held | Line 1 is invoiced at 0; the order says 0.71: 71.00 EUR less. |" +
				" The invoice states a total of 0.00; its lines, charges and tax make -5.00. |" +
				" The invoice differs from the order by 71.00 EUR less."},
		{"a price without charge", "IT1*1*100*MR*0.71*NC*VP*BR-10-W~SAC*A*C310***500~TDS*6600~",
			"done | IT1 says the price 0.71, and in the element behind it that there is no charge (NC); the mapping reads the price."},
		{"lines of another order", "IT1*1*60*MR*0.71**VP*BR-10-W*PO*@~IT1*1*40*MR*0.71**VP*BR-10-W*PO*PO-9~TDS*7100~",
			"held | The line is of the order PO-9, and the invoice is of the order PO-000001."},
		{"another order in the header", "REF*PO*PO-9~IT1*1*40*MR*0.71**VP*BR-10-W~TDS*2840~",
			"held | A reference (REF PO) names the order PO-9, and the invoice is of the order PO-000001."},
		{"the same order in the header, and in small letters", "REF*PO*@~IT1*1*40*MR*0.71**VP*BR-10-W*PO*po-000001~TDS*2840~",
			"done"},
		{"a line of another order, by reference", "IT1*1*40*MR*0.71**VP*BR-10-W~REF*PO*PO-9~TDS*2840~",
			"held | The line is of the order PO-9, and the invoice is of the order PO-000001."},
		{"a part of it", "IT1*1*40*MR*0.71**VP*BR-10-W~TDS*2840~", "done"}, // the rest may bring the discount
		{"with a charge of the line", "IT1*1*100*MR*0.71**VP*BR-10-W~SAC*A*C310***500~SAC*C*F050***250~TDS*6850~",
			"held | With this invoice, 2.50 of charge.other are invoiced; the order says 0: 2.50 EUR more. |" +
				" The invoice differs from the order by 2.50 EUR more."},
	} {
		d := open(t)
		o := purchase(1)
		o.Lines[0].Charges = []order.Charge{{Allowance: true, Code: "discount", Amount: order.MustNumber("5")}}
		d.post(o)
		number := d.send("VARNHOLT", "850")[0].Orders[0]
		d.receive(varnholt(1, "856", "BSN*00*V-1*20260318*1405~HL*1**S~HL*2*1*O~PRF*"+number+
			"~HL*3*2*I~LIN*1*VP*BR-10-W~SN1**100*MR~"))
		if got := d.heard(varnholt(2, "810", "BIG*20260320*VI-1**"+number+"***DI~"+strings.ReplaceAll(c.segments, "@",
			number))); got != c.want {
			t.Errorf("%s:\n got %s\nwant %s", c.name, got, c.want)
		}
	}
}

// An invoice that names its order only in its lines is of that one; one of several orders is held.
func TestInvoicesOfLines(t *testing.T) {
	skipRaces(t)
	for _, c := range []struct{ name, segments, want string }{
		{"one order", "IT1*1*60*MR*0.71**VP*BR-10-W*PO*@~IT1*2*100*MR*0.71**VP*BR-08-W*PO*@~TDS*11360~", "done"},
		{"one order, by reference", "IT1*1*60*MR*0.71**VP*BR-10-W~REF*PO*@~TDS*4260~", "done"},
		{"one order, in the header", "REF*PO*@~IT1*1*60*MR*0.71**VP*BR-10-W~TDS*4260~", "done"},
		{"two orders", "IT1*1*60*MR*0.71**VP*BR-10-W*PO*@~IT1*2*100*MR*0.71**VP*BR-08-W*PO*PO-9~TDS*11360~",
			`held |` +
				` No purchase order of VARNHOLT has the number "PO-9".`},
		{"none", "IT1*1*60*MR*0.71**VP*BR-10-W~TDS*4260~", "held | sender_number must be there, but BIG/04 is not there."},
	} {
		d, number := bought(t)
		d.receive(varnholt(1, "856", "BSN*00*V-1*20260318*1405~HL*1**S~HL*2*1*O~PRF*"+number+
			"~HL*3*2*I~LIN*1*VP*BR-10-W~SN1**100*MR~HL*4*2*I~LIN*2*VP*BR-08-W~SN1**100*MR~"))
		got := d.heard(varnholt(2, "810", "BIG*20260320*VI-1*****DI~"+strings.ReplaceAll(c.segments, "@", number)))
		if got != c.want {
			t.Errorf("%s:\n got %s\nwant %s", c.name, got, c.want)
		}
	}
}

// A change whose code says otherwise than its figures is asked about, and what stands in the header alone is changed
// too.
func TestChangesHeard(t *testing.T) {
	skipRaces(t)
	for _, c := range []struct{ name, segments, want, is string }{
		{"more by QI", "POC*1*QI*25**MR*1.33**VP*00113~", "done", "25"},
		{"less by QI", "POC*1*QI*15**MR*1.33**VP*00113~",
			"held | Line 1 is to be 15 of 20, which is not what the code QI says (more).", "20"},
		{"more by QD", "POC*1*QD*25**MR*1.33**VP*00113~",
			"held | Line 1 is to be 25 of 20, which is not what the code QD says (less).", "20"},
		{"other by NC", "POC*1*NC*25**MR*1.33**VP*00113~",
			"held | Line 1 is to be 25 of 20, which is not what the code NC says (no change).", "20"},
		{"more by QI in another unit", "POC*1*QI*2**DZ***VP*00113~",
			"held | Line 1 is ordered in MTR; how many of these 2 DZN are is not known.", "20"},
		{"the same by QI", "POC*1*QI*20**MR*1.33**VP*00113~", "done", "20"},
		{"a reference", "REF*DP*88~", "done", "20 department 88"},
		{"the currency", "CUR*BY*USD~", "held | The change is in USD, but the order is in EUR.", "20"},
		{"a charge", "SAC*C*D240***2500~", "held | SAC says an allowance or a charge, and the mapping does not " +
			"read it. | The change names no line, and nothing else that is to be changed.", "20"},
	} {
		d := open(t)
		d.receive(pellow(1, "850", order4711))
		got := d.heard(pellow(2, "860", "BCH*04*SA*PM-1**1*20260317~"+c.segments))
		o := d.order(order.Sales, "PELLOW", "", "PM-1")
		is := o.Lines[0].Quantity.Plain()
		for _, r := range o.References {
			is += " " + r.Qualifier + " " + r.Value
		}
		if got != c.want || is != c.is {
			t.Errorf("%s: %s\n got %s\nwant %s", c.name, is, got, c.want)
		}
	}
}

// An answer in place of the earlier ones is the only one that counts; a further one adds to them.
func TestAnswerInPlaceOfOthers(t *testing.T) {
	skipRaces(t)
	for _, c := range []struct{ set, purpose, earlier, segment, want string }{
		{"855", "00", "", "PO1*2*100*MR*0.71**VP*BR-08-W~", "1: price 0.75 for 0.71"},
		{"855", "04", "", "PO1*2*100*MR*0.71**VP*BR-08-W~", "1: price 0.75 for 0.71"},
		{"855", "05", "", "PO1*2*100*MR*0.71**VP*BR-08-W~", "1: not answered"},
		{"855", "05", "00", "PO1*2*100*MR*0.71**VP*BR-08-W~", "1: not answered"}, // the last one, now for all
		{"865", "05", "", "POC*2*NC*100**MR*0.71**VP*BR-08-W~", "1: not answered"},
	} {
		d, number := bought(t)
		d.receive(varnholt(1, "855", "BAK*00*AC*"+number+"*20260317~PO1*1*100*MR*0.75**VP*BR-10-W~ACK*IP*100*MR~"+
			"PO1*2*100*MR*0.71**VP*BR-08-W~ACK*IQ*60*MR~"))
		begins := func(purpose string) string {
			if c.set == "865" {
				return "BCA*" + purpose + "*AC*" + number + "***20260318~"
			}
			return "BAK*" + purpose + "*AC*" + number + "*20260318~"
		}
		if c.earlier != "" {
			d.receive(varnholt(2, c.set, begins(c.earlier)+c.segment+"ACK*IA*100*MR~"))
		}
		if got := d.heard(varnholt(3, c.set, begins(c.purpose)+c.segment+"ACK*IA*100*MR~")); !strings.HasPrefix(got, "done") {
			t.Errorf("%s %s is %s", c.set, c.purpose, got)
		}
		o := d.order(order.Purchase, "VARNHOLT", number, "")
		offers, err := order.Offers(&o.Order, o.Answers)
		if err != nil {
			t.Fatal(err)
		}
		var got []string
		for _, f := range offers {
			if len(f.Differs) > 0 {
				got = append(got, f.Number+": "+strings.Join(f.Differs, ", "))
			}
		}
		if is := strings.Join(got, "; "); is != c.want {
			t.Errorf("%s %s: %s, want %s", c.set, c.purpose, is, c.want)
		}
	}
}

// The carrier of a shipment is known by its name, or else by its code; the number of a parcel is a tracking number.
func TestCarriersHeard(t *testing.T) {
	skipRaces(t)
	for _, c := range []struct{ segments, carrier, tracking string }{
		{"TD5*B*2*TERN*M*Tern Freight~REF*CN*PRO-7~", "Tern Freight", "PRO-7"},
		{"TD5*B*2*TERN*M~REF*2I*1Z-99~", "TERN", "1Z-99"},
		{"TD5*****Tern~", "Tern", ""},
	} {
		d, number := bought(t)
		d.receive(varnholt(1, "856", "BSN*00*V-1*20260318*1405~HL*1**S~"+c.segments+"HL*2*1*O~PRF*"+number+
			"~HL*3*2*I~LIN*1*VP*BR-10-W~SN1**60*MR~"))
		m := d.order(order.Purchase, "VARNHOLT", number, "").Movements
		if len(m) != 1 || m[0].Carrier != c.carrier || m[0].Tracking != c.tracking {
			t.Errorf("%s: %+v", c.segments, m)
		}
	}
}
