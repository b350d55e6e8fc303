package exchange

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"koinos/api"
	"koinos/core/finding"
	"koinos/core/list"
	"koinos/core/order"
	"koinos/store"
)

// An asked change passes the checks of every order and knows its lines; what
// does not fit is held with a finding at its segment, and changes nothing.
func TestAskedChanges(t *testing.T) {
	d := open(t)
	ctx := context.Background()
	if err := d.store.PutList(ctx, "items", []list.Entry{{Code: "00113"}, {Code: "00489"}, {Code: "M6.5-SHK"}},
		d.at); err != nil {
		t.Fatal(err)
	}
	d.receive(pellow(1, "850", order4711))
	before := fmt.Sprintf("%+v", d.order(order.Sales, "PELLOW", "", "PM-1").Lines)
	for n, c := range []struct {
		name, poc string
		code      finding.Code
		at        string
	}{
		{"less than nothing", "POC*1*QI*-5**MR*1.33**VP*00113~", finding.QuantityNegative, "POC / 03"},
		{"an unknown item in a new line", "POC*3*AI*5**MR*1.21**VP*98765~", finding.UnknownCode, "POC / 09"},
		{"a line that is not there", "POC*9*QI*30**MR*1.33**VP*00113~", finding.LineUnknown, "POC / 01"},
		{"a deletion of a line that is not there", "POC*9*DI*0**MR*1.33**VP*00113~", finding.LineUnknown, "POC / 01"},
		{"another item at the line", "POC*1*QI*30**MR*1.33**VP*00489~", finding.LineDiffers, "POC / 09"},
		{"an item near to one with a point in it", "POC*3*AI*5**MR*1.21**VP*M6.5-SHX~", finding.UnknownCode,
			"POC / 09"},
	} {
		t.Run(c.name, func(t *testing.T) {
			i := d.receive(pellow(10+n, "860", "BCH*04*SA*PM-1***20260317~"+c.poc+"CTT*1~"))
			set := i.Sets[0]
			if set.State != api.StateHeld || len(set.Findings) == 0 {
				t.Fatalf("%s %+v", set.State, set.Findings)
			}
			f := set.Findings[0]
			if f.Code != c.code || !strings.Contains(f.At, c.at) {
				t.Errorf("%s at %q: %s", f.Code, f.At, f.Message)
			}
			if strings.Contains(c.poc, "M6.5") && f.Nearest != "M6.5-SHK" {
				t.Errorf("nearest %q", f.Nearest)
			}
			if after := fmt.Sprintf("%+v", d.order(order.Sales, "PELLOW", "", "PM-1").Lines); after != before {
				t.Errorf("the order changed:\n%s\n%s", before, after)
			}
			held, err := d.store.HeldList(ctx, store.HeldFilter{Limit: 100})
			if err != nil || len(held) != n+1 {
				t.Errorf("%d in the list of what is held, %v", len(held), err)
			}
		})
	}
}

// The same ship notice, receipt or invoice counts once, whatever the control
// number it comes under; another one of the sender counts again.
func TestNoticesCountOnce(t *testing.T) {
	d := open(t)
	d.post(purchase(1))
	number := d.send("VARNHOLT", "850")[0].Orders[0]
	ship := func(control int, name, quantity string) api.SetRecord {
		return d.receive(varnholt(control, "856", "BSN*00*"+name+"*20260318*1405~HL*1**S*1~HL*2*1*O*1~PRF*"+number+
			"~HL*3*2*I*0~LIN*1*VP*BR-10-W~SN1**"+quantity+"*MR~")).Sets[0]
	}
	bill := func(control int, name string) api.SetRecord {
		return d.receive(varnholt(control, "810", "BIG*20260320*"+name+"**"+number+
			"~IT1*1*40*MR*0.71**VP*BR-10-W~TDS*2840~")).Sets[0]
	}
	for _, c := range []struct {
		name              string
		act               func() api.SetRecord
		state             string
		shipped, invoiced string
	}{
		{"the first notice", func() api.SetRecord { return ship(1, "VS-1", "60") }, api.StateDone, "60", ""},
		{"the same under a new number", func() api.SetRecord { return ship(2, "VS-1", "60") }, api.StateDone, "60", ""},
		{"the same with another quantity", func() api.SetRecord { return ship(3, "VS-1", "70") }, api.StateHeld, "60",
			""},
		{"another notice", func() api.SetRecord { return ship(4, "VS-2", "40") }, api.StateDone, "100", ""},
		{"the first invoice", func() api.SetRecord { return bill(5, "VI-1") }, api.StateDone, "100", "40"},
		{"the same invoice again", func() api.SetRecord { return bill(6, "VI-1") }, api.StateDone, "100", "40"},
		{"another invoice", func() api.SetRecord { return bill(7, "VI-2") }, api.StateDone, "100", "80"},
	} {
		if set := c.act(); set.State != c.state {
			t.Errorf("%s: %s %+v", c.name, set.State, set.Findings)
		}
		l := d.order(order.Purchase, "VARNHOLT", number, "").Lines[0]
		if l.Shipped.String() != c.shipped || l.Invoiced.String() != c.invoiced {
			t.Errorf("after %s: shipped %s, invoiced %s", c.name, l.Shipped, l.Invoiced)
		}
	}
}

// A caller who goes away, at whatever moment, leaves nothing half done: what
// was kept is taken to its end, and coming again it is taken or a duplicate.
func TestCallerGoesAway(t *testing.T) {
	d := open(t)
	const n = 40
	for i := range n {
		doc := pellow(100+i, "850", strings.ReplaceAll(order4711, "PM-1", fmt.Sprint("PM-", i)))
		ctx, leave := context.WithCancel(context.Background())
		left := time.AfterFunc(time.Duration(i)*150*time.Microsecond, leave)
		if _, err := d.Receive(ctx, strings.NewReader(doc), Arrival{Name: "test.edi", By: "test"}); err != nil &&
			!errors.Is(err, context.Canceled) {
			t.Fatal(i, err)
		}
		left.Stop()
		leave()
		if again := d.receive(doc); again.State != api.StateDone && again.State != api.StateDuplicate {
			t.Fatalf("%d: %s %+v", i, again.State, foundIn(again))
		}
	}
	for end := time.Now().Add(time.Minute); ; time.Sleep(5 * time.Millisecond) {
		open, err := d.store.Interchanges(context.Background(), store.InterchangeFilter{State: api.StateReceived,
			Limit: n}, d.at)
		if err != nil {
			t.Fatal(err)
		}
		if len(open) == 0 {
			break
		}
		if time.Now().After(end) {
			t.Fatalf("%d interchanges stay received", len(open))
		}
	}
	for i := range n {
		if o := d.order(order.Sales, "PELLOW", "", fmt.Sprint("PM-", i)); len(o.Lines) != 2 || o.Revision != 1 {
			t.Errorf("PM-%d: %d lines, revision %d", i, len(o.Lines), o.Revision)
		}
	}
}

// Every interchange of a file is taken in turn, with orders and changes of its own.
func TestSeveralInterchanges(t *testing.T) {
	d := open(t)
	doc := pellow(1, "850", order4711) +
		pellow(2, "860", "BCH*04*SA*PM-1***20260317~POC*1*QI*30**MR*1.33**VP*00113~CTT*1~") +
		pellow(3, "850", strings.ReplaceAll(order4711, "PM-1", "PM-2"))
	all, err := d.Receive(context.Background(), strings.NewReader(doc), Arrival{Name: "three.edi", By: "test"})
	if err != nil || len(all) != 3 {
		t.Fatal(len(all), err)
	}
	for n, i := range all {
		if i.State != api.StateDone || len(i.Sets) != 1 || i.Sets[0].State != api.StateDone ||
			i.Sets[0].First().OrderID == 0 {
			t.Errorf("interchange %d: %s %+v", n+1, i.State, i.Sets)
		}
	}
	if q := d.order(order.Sales, "PELLOW", "", "PM-1").Lines[0].Quantity.String(); q != "30" {
		t.Errorf("the change of the second interchange: quantity %s", q)
	}
	d.order(order.Sales, "PELLOW", "", "PM-2")
}

// An invoice bills a line with a price basis at its price for that basis.
func TestPriceBasis(t *testing.T) {
	d := open(t)
	d.receive(pellow(905, "850", order4711))
	o := d.order(order.Sales, "PELLOW", "", "PM-1").Order
	o.Lines[0].Quantity, o.Lines[0].UnitPrice, o.Lines[0].PriceBasis = order.MustNumber("5000"),
		order.MustNumber("12.40"), order.MustNumber("1000")
	o.Lines[0].Shipped = order.MustNumber("5000")
	d.post(o)
	text := d.text(d.send("PELLOW", "810")[0])
	if !strings.Contains(text, "TDS*6200~") || !strings.Contains(text, "IT1*1*5000*MR*0.0124*") {
		t.Error(text)
	}
}

// What a change says besides quantities is done too, or said: nothing that is
// read is passed over.
func TestChangeOfTheRest(t *testing.T) {
	d := open(t)
	d.receive(pellow(1, "850", order4711))
	before := d.order(order.Sales, "PELLOW", "", "PM-1")
	change := func(control int, segments string) api.SetRecord {
		return d.receive(pellow(control, "860", "BCH*04*SA*PM-1***20260317~"+segments+"CTT*1~")).Sets[0]
	}
	// The same place by its code and name is no other place.
	if set := change(2, "N1*ST*Pellow Marina*92*0040~POC*1*QI*21**MR*1.33**VP*00113~"); set.State != api.StateDone ||
		fmt.Sprint(d.order(order.Sales, "PELLOW", "", "PM-1").Parties) != fmt.Sprint(before.Parties) {
		t.Errorf("%s %+v", set.State, set.Findings)
	}
	if set := change(3, "N1*ST*Pellow Boathouse*92*0050~POC*1*PC*21**MR*1.50**VP*00113~PID*F****Rope, white~"); set.State != api.StateDone {
		t.Fatalf("%s %+v", set.State, set.Findings)
	}
	o := d.order(order.Sales, "PELLOW", "", "PM-1")
	if p := o.Party("ship_to"); p.Code != "0050" || p.Name != "Pellow Boathouse" {
		t.Errorf("the new place: %+v", p)
	}
	if l := o.Lines[0]; l.UnitPrice.String() != "1.50" || l.Description != "Rope, white" ||
		l.Quantity.String() != "21" {
		t.Errorf("%+v", l)
	}
	if set := change(4, "CUR*BY*USD~POC*1*QI*22**MR*1.50**VP*00113~"); set.State != api.StateHeld ||
		set.Findings[0].Code != finding.CurrencyDiffers {
		t.Errorf("another currency: %s %+v", set.State, set.Findings)
	}
}
