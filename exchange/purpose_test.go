package exchange

import (
	"fmt"
	"strings"
	"testing"

	"koinos/api"
	"koinos/core/order"
	"koinos/store"
)

// A set does what its purpose asks for, and not what its kind usually means: it cancels, replaces, takes back. One of
// an order or invoice that is not stored, and one of a purpose that is not done, are held with the reason.
func TestPurpose(t *testing.T) {
	skipRaces(t)
	d := open(t)
	d.receive(pellow(1, "850", order4711))
	d.post(purchase(1))
	number := d.send("VARNHOLT", "850")[0].Orders[0]
	sales := func() string {
		o := d.order(order.Sales, "PELLOW", "", "PM-1")
		return fmt.Sprintf("%s, %s wanted, %s shipped", o.Status, wanted(t, &o.Lines[0]), or0(o.Lines[0].Shipped))
	}
	bought := func() string {
		o := d.order(order.Purchase, "VARNHOLT", number, "")
		return fmt.Sprintf("%s shipped, %s invoiced", or0(o.Lines[0].Shipped), or0(o.Lines[0].Invoiced))
	}
	const notice = "~HL*1**S*1~HL*2*1*O*1~PRF*%s~HL*3*2*I*0~LIN*1*VP*BR-10-W~SN1**40*MR~"
	said := func(purpose string) string {
		return "BSN*" + purpose + "*VS-1*20260318*1405" + fmt.Sprintf(notice, number)
	}
	for n, c := range []struct{ name, from, kind, segments, want, says string }{
		{"a cancellation of what never came", "PELLOW", "850", "BEG*01*SA*PM-9**20260316~PO1*1*20*MR*1.33**VP*00113~",
			"open, 20 wanted, 0 shipped", `No sales order of PELLOW has the number "PM-9".`},
		{"in place of what never came", "PELLOW", "850", "BEG*05*SA*PM-9**20260316~PO1*1*20*MR*1.33**VP*00113~",
			"open, 20 wanted, 0 shipped", "It is to take the place of the sales order PM-9 of PELLOW, which is not stored."},
		{"in its place", "PELLOW", "850", "BEG*05*SA*PM-1**20260316~PO1*1*25*MR*1.33**VP*00113~",
			"open, 25 wanted, 0 shipped", ""},
		{"the same copy", "PELLOW", "850", "BEG*07*SA*PM-1**20260316~PO1*1*25*MR*1.33**VP*00113~",
			"open, 25 wanted, 0 shipped", ""},
		{"a purpose that is not done", "PELLOW", "850", "BEG*22*SA*PM-1**20260316~PO1*1*30*MR*1.33**VP*00113~",
			"open, 25 wanted, 0 shipped", "Transaction Set Purpose Code is 22 (another purpose), which is not done with a set 850."},
		{"a cancellation without a line", "PELLOW", "860", "BCH*01*SA*PM-1***20260317~", "cancelled, 0 wanted, 0 shipped",
			""},
		{"a cancellation once more, by the other set", "PELLOW", "850", "BEG*01*SA*PM-1**20260316~PO1*1**MR~",
			"cancelled, 0 wanted, 0 shipped", ""},
		{"goods leave", "VARNHOLT", "856", said("00"), "40 shipped, 0 invoiced", ""},
		{"they are billed", "VARNHOLT", "810", "BIG*20260320*VI-1**" + number +
			"***DI~IT1*1*40*MR*0.71**VP*BR-10-W~TDS*2840~",
			"40 shipped, 40 invoiced", ""},
		{"a credit that names no invoice", "VARNHOLT", "810", "BIG*20260321*VC-1**" + number +
			"***CR~IT1*1*10*MR*0.71**VP*BR-10-W~TDS*710~",
			"40 shipped, 40 invoiced", "The credit memo does not say which invoice it takes back."},
		{"a credit", "VARNHOLT", "810", "BIG*20260321*VC-2**" + number +
			"***CR~REF*IV*VI-1~IT1*1*10*MR*0.71**VP*BR-10-W~TDS*710~",
			"40 shipped, 30 invoiced", ""},
		{"the same credit, below zero", "VARNHOLT", "810", "BIG*20260321*VC-2**" + number +
			"***CR~REF*IV*VI-1~IT1*1*-10*MR*0.71**VP*BR-10-W~TDS*-710~",
			"40 shipped, 30 invoiced", ""},
		{"more than is left of it", "VARNHOLT", "810", "BIG*20260321*VC-3**" + number +
			"***CR~REF*IV*VI-1~IT1*1*31*MR*0.71**VP*BR-10-W~TDS*710~",
			"40 shipped, 30 invoiced", "Of line 1, 30 can be taken back of the invoice VI-1, not 31."},
		{"the invoice is cancelled", "VARNHOLT", "810", "BIG*20260322*VI-1**" + number +
			"****01~IT1*1*40*MR*0.71**VP*BR-10-W~TDS*2840~",
			"40 shipped, 0 invoiced", ""},
		{"the shipment is cancelled", "VARNHOLT", "856", said("01"), "0 shipped, 0 invoiced", ""},
		{"and once more", "VARNHOLT", "856", said("01"), "0 shipped, 0 invoiced", ""},
	} {
		doc, state := pellow(10+n, c.kind, c.segments), sales
		if c.from == "VARNHOLT" {
			doc, state = varnholt(10+n, c.kind, c.segments), bought
		}
		set := d.receive(doc).Sets[0]
		var found []string
		for _, f := range set.Findings {
			if f.Severity == "error" {
				found = append(found, f.Message)
			}
		}
		if got := strings.Join(found, " "); got != c.says || (set.State == api.StateHeld) != (c.says != "") ||
			state() != c.want {
			t.Errorf("%s: %s; %s, says %q; %+v", c.name, state(), set.State, got, set.Findings)
		}
	}
	if ids, err := d.store.OrdersOf(t.Context(), store.Spoken{Kind: order.Sales, Partner: "PELLOW", Sender: "PM-9"}); err != nil || len(ids) != 0 {
		t.Errorf("an order was made of what cancels or replaces one: %d, %v", len(ids), err)
	}
}

func or0(n order.Number) string {
	if n.Sign() == 0 {
		return "0"
	}
	return n.Plain()
}

func wanted(t *testing.T, l *order.Line) string {
	n, err := l.Wanted()
	if err != nil {
		t.Fatal(err)
	}
	return or0(n)
}

// What its sender marks as a test is checked and acknowledged, and touches no order.
func TestTestInterchange(t *testing.T) {
	skipRaces(t)
	d := open(t)
	test := func(doc string) string { return strings.Replace(doc, "*P*>", "*T*>", 1) }
	came := d.receive(test(pellow(1, "850", order4711)))
	if !came.Test || came.State != api.StateDone || came.Sets[0].First().OrderID != 0 || len(came.Sets[0].Findings) > 1 {
		t.Errorf("%+v", came)
	}
	if acknowledged, err := d.store.Interchange(t.Context(), came.ID+1, d.at); err != nil ||
		acknowledged.Answers != came.ID {
		t.Errorf("%+v %v", acknowledged, err)
	}
	if i := d.receive(test(pellow(2, "860", "BCH*04*SA*PM-1***20260317~POC*1*QI*30**MR*1.33**VP*00113~"))); i.State != api.StateHeld {
		t.Errorf("a change of an order that there is not is %s", i.State)
	}
	d.receive(pellow(3, "850", order4711))
	d.receive(test(pellow(4, "860", "BCH*04*SA*PM-1***20260317~POC*1*QI*30**MR*1.33**VP*00113~")))
	if o := d.order(order.Sales, "PELLOW", "", "PM-1"); o.Revision != 1 || o.Lines[0].Quantity.Plain() != "20" {
		t.Errorf("revision %d, %s", o.Revision, o.Lines[0].Quantity)
	}
}

// An order and what cancels it can come in one interchange.
func TestOrderedAndCancelled(t *testing.T) {
	skipRaces(t)
	d := open(t)
	line := "PO1*1*20*MR*1.33**VP*00113~CTT*1~"
	doc := pellow(1, "850", "BEG*00*SA*PM-1**20260316~"+line)
	second := pellow(1, "850", "BEG*01*SA*PM-1**20260316~"+line)
	set := second[strings.Index(second, "ST*"):strings.Index(second, "GE*")]
	third := strings.ReplaceAll(set, "*PM-1*", "*PM-2*")
	doc = strings.Replace(doc, "GE*1*", strings.ReplaceAll(set, "0001~", "0002~")+strings.ReplaceAll(third, "0001~",
		"0003~")+
		"GE*3*", 1)
	i := d.receive(doc)
	var got []string
	for _, s := range i.Sets {
		got = append(got, s.State)
		for _, f := range s.Findings {
			if f.Severity == "error" {
				got = append(got, f.Message)
			}
		}
	}
	o := d.order(order.Sales, "PELLOW", "", "PM-1")
	if is := strings.Join(got, " | "); is != `done | done | held | No sales order of PELLOW has the number "PM-2".` ||
		o.Status != order.Cancelled || o.Revision != 2 {
		t.Errorf("%s; %s at revision %d", is, o.Status, o.Revision)
	}
}
