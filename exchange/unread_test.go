package exchange

import (
	"fmt"
	"strings"
	"testing"

	"koinos/api"
	"koinos/core/finding"
	"koinos/core/order"
)

// A notice that says more of a line than that it has left is not read as if it did not.
func TestSentButNoMore(t *testing.T) {
	skipRaces(t)
	d := open(t)
	d.post(purchase(1))
	d.send("VARNHOLT", "850")
	p := d.order(order.Purchase, "VARNHOLT", "", "REQ-1")
	for n, status := range []string{"CP", "AC", ""} {
		i := d.receive(varnholt(n+1, "856", fmt.Sprintf("BSN*00*V-%d*20260316*0930~HL*1**S~DTM*011*20260316~HL*2*1*O~PRF*%s~HL*3*2*I~"+
			"LIN*1*VP*BR-10-W~SN1*1*10*MR*****%s~CTT*3~", n, p.Number, status)))
		want := ""
		if status == "CP" {
			want = "SN1 says of the line CP Partial Shipment, Considered No Backorder, and the mapping does not read it."
		}
		var says []string
		for _, f := range foundIn(i) {
			says = append(says, f.Message)
		}
		if got := strings.Join(says, " "); i.State != api.StateDone || got != want {
			t.Errorf("%q: %s %s\nwant %s", status, i.State, got, want)
		}
	}
}

// What an 850 says where other trades say it is in the order; what has no place there is said.
func TestSaidInOtherTrades(t *testing.T) {
	skipRaces(t)
	d := open(t)
	const line = "PO1*1*10*CA*2*PE*VP*00113"
	for n, c := range []struct{ header, line, field, value, unread string }{
		{"N1*ST*Jane Rowe~N2*Apt 4~N3*88 Elm St~", line + "~", "ship_to.name2", "Apt 4", "[]"},
		{"N1*ST*Jane Rowe~TD5**2*ABCD*U*Ground~", line + "~", "carrier.code", "ABCD", "[]"},
		{"N1*ST*Jane Rowe~TD5**2*ABCD*U*Ground~", line + "~", "carrier.name", "Ground", "[]"},
		{"TD5**91*55~", line + "~", "carrier.code", "", "[ST 0001 / TD5 / 03 55]"},
		{"TD5**2*ABCD*********ND~", line + "~", "carrier.code", "ABCD", "[ST 0001 / TD5 / 12 ND]"},
		{"N1*ST*Jane Rowe~FOB*PP~", line + "~", "reference.freight_terms", "PP", "[]"},
		{"TAX*77-1*SP*NJ~", line + "~", "ship_to.name", "", "[ST 0001 / TAX TAX]"},
		{"", line + "*PD*Rope, white~", "description", "Rope, white", "[]"},
		{"", line + "~", "unit", "CS", "[]"},
		{"", "PO1*1*10*CA*2*PE*MG*MAN-9~LIN**VP*00113~", "item", "00113", "[]"},
		{"", line + "*EC*C~", "item", "00113", "[ST 0001 / PO1 / 09 C]"},
		{"", line + "*MG*MAN-9*DR*B~", "item", "00113", "[ST 0001 / PO1 / 11 B]"},
		{"", "PO1*1*10*CA*2*PE*MG*MAN-9*ON*7~PID*F****Rope~", "description", "Rope", "[ST 0001 / PO1 / 07 MAN-9]"},
		{"", "PO1*1*10*CA*2*PE~PID*F****Rope~", "description", "Rope", "[]"},
	} {
		number := fmt.Sprintf("PM-%d", n+1)
		i := d.receive(pellow(n+1, "850", fmt.Sprintf("BEG*00*SA*%s**20260316~%s%sCTT*1~", number, c.header, c.line)))
		unread := []string{}
		for _, f := range i.Sets[0].Findings {
			if f.Code == finding.ValueUnread {
				unread = append(unread, f.At+" "+f.Value)
			}
		}
		o := d.order(order.Sales, "PELLOW", "", number)
		var l *order.Line
		f, ok := order.Lookup(order.Header, c.field)
		if !ok {
			l = &o.Lines[0]
			f, ok = order.Lookup(order.Lines, c.field)
		}
		if !ok || f.Value(&o.Order, l) != c.value || fmt.Sprint(unread) != c.unread {
			t.Errorf("%s %s: %s is %q, unread %s; want %q, %s", c.header, c.line, c.field, f.Value(&o.Order, l), unread, c.value,
				c.unread)
		}
	}
}
