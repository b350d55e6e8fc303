package exchange

import (
	"fmt"
	"strings"
	"testing"

	"koinos/api"
	"koinos/core/order"
	"koinos/store"
)

// Quantities for several places, and for several days, are the deliveries of their line; what they do not add up to is
// said. A delivery of all of it is what the line itself says.
func TestDeliveriesComeIn(t *testing.T) {
	skipRaces(t)
	for n, c := range []struct{ name, segments, lines, says string }{
		{"two segments of places", "PO1*1*20*MR*1.33**VP*00113~SDQ*MR*92*0040*12*0041*5~SDQ*MR*92*0042*3~PO1*2*3*BX*31.42**VP*00489~CTT*2~",
			"20 MTR: 12 to 0040; 5 to 0041; 3 to 0042 | 3 BX: ", "[]"},
		{"days", "PO1*1*20*MR*1.33**VP*00113~SCH*12*MR***002*20260401~SCH*8*MR*ST*YARD 4*010*20260404**002*20260408~CTT*1~",
			"20 MTR: 12, arrives 2026-04-01; 8 to YARD 4, leaves 2026-04-04, arrives 2026-04-08", "[]"},
		{"all of it to one place", "PO1*1*20*MR*1.33**VP*00113~SDQ*MR*92*0041*20~CTT*1~", "20 MTR at 0041: ", "[]"},
		{"all of it on one day", "PO1*1*20*MR*1.33**VP*00113~SCH*20*MR***002*20260401~CTT*1~", "20 MTR on 2026-04-01: ",
			"[]"},
		{"all of it on another day than the line",
			"PO1*1*20*MR*1.33**VP*00113~DTM*002*20260330~SCH*20*MR***002*20260401~CTT*1~",
			"20 MTR on 2026-03-30: 20, arrives 2026-04-01", "[]"},
		{"not all of it", "PO1*1*20*MR*1.33**VP*00113~SDQ*MR*92*0040*12*0041*5~CTT*1~", "20 MTR: 12 to 0040; 5 to 0041",
			"[deliveries_differ ST 0001 / PO1 / SDQ / 04: The deliveries are 17 of 20: 12 to 0040; 5 to 0041.]"},
		{"boxes of metres", "PO1*1*20*MR*1.33**VP*00113~SDQ*BX*92*0040*1*0041*1~CTT*1~", "20 MTR: 1 BX to 0040; 1 BX to 0041",
			"[deliveries_differ ST 0001 / PO1 / SDQ / 04: The deliveries are in another unit than the line, " +
				"which is in MTR: 1 BX to 0040; 1 BX to 0041.]"},
		{"no number", "PO1*1*20*MR*1.33**VP*00113~SDQ*MR*92*0040*twelve*0041*8~CTT*1~", "",
			`[x12_noted ST 0001 / PO1 / SDQ / 04: "twelve" is not a number: digits, with a point and a minus in front at most ` +
				`(Quantity). (element 6) not_a_number ST 0001 / PO1 / SDQ / 04: "twelve" is not a number for quantity: a plain ` +
				`number was expected.]`},
	} {
		d := open(t)
		i := d.receive(pellow(n+1, "850", "BEG*00*SA*PM-1**20260316~CUR*BY*EUR~REF*CT*C-1~N1*ST*Pellow Marina*92*0040~"+
			c.segments))
		says := []string{}
		for _, f := range i.Sets[0].Findings {
			if f.Code != "x12_rule" {
				says = append(says, fmt.Sprint(f.Code, " ", f.At, ": ", f.Message))
			}
		}
		if got := fmt.Sprint(says); got != c.says {
			t.Errorf("%s: %s\nwant %s", c.name, got, c.says)
		}
		if c.lines == "" {
			if i.State == api.StateDone {
				t.Errorf("%s: %s", c.name, i.State)
			}
			continue
		}
		if got := said(d.order(order.Sales, "PELLOW", "", "PM-1")); got != c.lines {
			t.Errorf("%s: %s: %s, want %s", c.name, i.State, got, c.lines)
		}
	}
}

// said is the lines of an order with their deliveries.
func said(o *store.StoredOrder) string {
	var lines []string
	for i := range o.Lines {
		l := &o.Lines[i]
		text := fmt.Sprint(l.Quantity, " ", l.Unit)
		if l.Location != "" {
			text += " at " + l.Location
		}
		if l.RequestedDeliveryOn != "" {
			text += " on " + string(l.RequestedDeliveryOn)
		}
		lines = append(lines, text+": "+l.Deliveries.String())
	}
	return strings.Join(lines, " | ")
}

// A change of places waits as any other, and is taken as a whole; answers do not speak of them.
func TestDeliveriesChange(t *testing.T) {
	skipRaces(t)
	d := open(t)
	d.partner("changes: take", "changes: wait")
	d.receive(pellow(1, "850", "BEG*00*SA*PM-1**20260316~CUR*BY*EUR~REF*CT*C-1~N1*ST*Pellow Marina*92*0040~"+
		"PO1*1*20*MR*1.33**VP*00113~SDQ*MR*92*0040*12*0041*8~CTT*1~"))
	i := d.receive(pellow(2, "860", "BCH*04*SA*PM-1**1*20260316*****20260317~POC*1*CA*20*0*MR*1.33**VP*00113~"+
		"SDQ*MR*92*0040*5*0043*15~CTT*1~"))
	var asked []string
	for _, f := range i.Sets[0].Findings {
		asked = append(asked, f.Message)
	}
	if want := `[Asked for: line 1 deliveries was "12 to 0040; 8 to 0041", is "5 to 0040; 15 to 0043".]`; fmt.Sprint(asked) != want {
		t.Errorf("asked %s, want %s", asked, want)
	}
	if got, want := said(d.order(order.Sales, "PELLOW", "", "PM-1")), "20 MTR: 12 to 0040; 8 to 0041"; got != want {
		t.Errorf("before it is taken: %s", got)
	}
	if i, err := d.Replay(t.Context(), i.ID, []string{"change_asked"}, "test"); err != nil || i.State != api.StateDone {
		t.Fatal(i.State, err)
	}
	if got, want := said(d.order(order.Sales, "PELLOW", "", "PM-1")), "20 MTR: 5 to 0040; 15 to 0043"; got != want {
		t.Errorf("after it was taken: %s, want %s", got, want)
	}
	for _, answer := range d.send("PELLOW", "855") {
		if text := d.text(answer); answer.State != api.StateSent || strings.Contains(text, "SDQ") {
			t.Errorf("%s %+v: %s", answer.State, answer.Sets[0].Findings, text)
		}
	}
}

// Our purchase order says where its goods are to go, ten places a segment, and when.
func TestDeliveriesGoOut(t *testing.T) {
	skipRaces(t)
	d := open(t)
	o := purchase(1)
	for k := range 11 {
		o.Lines[0].Deliveries = append(o.Lines[0].Deliveries, order.ScheduledDelivery{Quantity: order.MustNumber("9"),
			Location: fmt.Sprintf("00%d", 40+k)})
	}
	o.Lines[0].Deliveries[10].Quantity = order.MustNumber("10")
	o.Lines[1].Deliveries = order.Schedule{
		{Quantity: order.MustNumber("60"), RequestedDeliveryOn: "2026-04-06"},
		{Quantity: order.MustNumber("40"), Location: "0041", RequestedShipOn: "2026-04-20"}}
	d.post(o)
	out := d.send("VARNHOLT", "850")
	text := strings.ReplaceAll(d.text(out[0]), "|", "*")
	for _, segment := range []string{
		"SDQ*MR*92*0040*9*0041*9*0042*9*0043*9*0044*9*0045*9*0046*9*0047*9*0048*9*0049*9~", "SDQ*MR*92*0050*10~",
		"SCH*60*MR***002*20260406~", "SCH*40*MR*ST*0041*010*20260420~"} {
		if strings.Count(text, segment) != 1 {
			t.Errorf("%s %+v: no %s in %s", out[0].State, out[0].Sets[0].Findings, segment, text)
		}
	}
}
