package exchange

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"koinos/api"
	"koinos/core/cputime"
	"koinos/core/intent"
	"koinos/core/order"
)

// Everything that is received or sent about a long order takes time by its lines, and not by their square: five times
// the lines may take fifteen times the processor time.
func TestLongSets(t *testing.T) {
	skipRaces(t)
	took := map[string][]time.Duration{}
	const few, many = 1_000, 5_000
	for _, n := range []int{few, many} {
		lines := func(format string) string {
			var b strings.Builder
			for i := range n {
				fmt.Fprintf(&b, format, i+1, 2*i+3, 2*i+4)
			}
			return b.String()
		}
		act := func(name, want string, do func() string) {
			began := cputime.Used(t)
			got := do()
			took[name] = append(took[name], cputime.Used(t)-began)
			if got != want && !strings.HasPrefix(got, want+" | ") {
				t.Errorf("%s of %d lines: %.200s", name, n, got)
			}
		}
		d := open(t)
		hears := func(name, want, doc string) { act(name, want, func() string { return d.heard(doc) }) }
		group := map[string]int64{} // of what is sent, by kind
		sends := func(name, partner, set string) {
			act(name, "", func() string {
				i := d.send(partner, set)[0]
				group[set] = i.GroupControl
				return foundText(i)
			})
		}
		says := func(kind intent.Kind, id int64, header map[string]string, fields ...string) {
			all := make([]map[string]string, n)
			for i := range all {
				all[i] = map[string]string{"number": fmt.Sprint(i + 1)}
				for k := 0; k < len(fields); k += 2 {
					all[i][fields[k]] = fields[k+1]
				}
			}
			act(string(kind), "", func() string { d.says(kind, id, header, all...); return "" })
		}

		hears("850", "done", pellow(1, "850", "BEG*00*SA*PM-1**20260316~CUR*BY*EUR~REF*CT*C-1~N1*ST*Pellow Marina*92*0040~"+
			lines("PO1*%[1]d*20*MR*1.33**VP*A%[1]d~PID*F****Rope~SAC*C*D240***100~DTM*002*20260330~")))
		hears("850 with faults", "held", pellow(2, "850", "BEG*00*SA*PM-2**20260316~"+lines("PO1*%[1]d*2x0*MRRR*1.33**VP*A%[1]d~ZZZ*1~")))
		hears("850 for places", "done", pellow(3, "850", "BEG*00*SA*PM-3**20260316~CUR*BY*EUR~REF*CT*C-1~N1*ST*Pellow Marina*92*0040~"+
			lines("PO1*%[1]d*20*MR*1.33**VP*A%[1]d~SDQ*MR*92*01*5*02*5*03*5*04*5~")))
		sends("855 to send", "PELLOW", "855")
		hears("860", "done", pellow(4, "860", "BCH*04*SA*PM-1***20260317~"+lines("POC*%[1]d*QI*25*5*MR*1.33**VP*A%[1]d~")))
		sends("865 to send", "PELLOW", "865")
		id := d.order(order.Sales, "PELLOW", "", "PM-1").ID
		says(intent.Change, id, nil, "requested_delivery_on", "2026-05-01")
		sends("865 that nobody asked for", "PELLOW", "865")
		says(intent.Shipment, id, map[string]string{"shipment": "S-1"}, "quantity", "10")
		sends("856 to send", "PELLOW", "856")
		sends("810 to send", "PELLOW", "810")
		hears("997 with notes", "done", pellow(5, "997", fmt.Sprintf("AK1*PR*%d~AK2*855*0001~", group["855"])+
			lines("AK3*PO1*%[1]d**8~AK4*2*330*1*Z~")+"AK5*R*5~AK9*R*1*1*0~"))

		bought := purchase(1)
		bought.Lines, bought.Parties[0].Street = nil, "12 Quay"
		for i := range n {
			bought.Lines = append(bought.Lines, order.Line{Number: fmt.Sprint(i + 1), SupplierItem: fmt.Sprint("B", i+1),
				Description: "Rope", Quantity: order.MustNumber("100"), Unit: "MTR", UnitPrice: order.MustNumber("0.71")})
		}
		d.post(bought)
		sends("850 to send", "VARNHOLT", "850")
		const number = "PO-000001"
		hears("855", "done", varnholt(1, "855", "BAK*00*AC*"+number+"*20260317~"+lines("PO1*%[1]d*100*MR*0.71**VP*B%[1]d~ACK*IQ*80*MR~")))
		hears("856", "done", varnholt(2, "856", "BSN*00*V-1*20260318*1405~HL*1**S~HL*2*1*O~PRF*"+number+"~"+
			lines("HL*%[2]d*2*P~MAN*GM*0%[1]d~HL*%[3]d*%[2]d*I~LIN*%[1]d*VP*B%[1]d~SN1**80*MR~")))
		hears("810", "held", varnholt(3, "810", "BIG*20260320*VI-1*20260316*"+number+"***DI~"+
			lines("IT1*%[1]d*80*MR*0.71**VP*B%[1]d~SAC*C*D240***10~")+"TDS*1~"))
		hears("810 of orders that nobody knows", "held", varnholt(5, "810", "BIG*20260320*VI-2*****DI~"+lines("IT1*%[1]d*80*MR*0.71**VP*B%[1]d*PO*X-%[1]d~")+"TDS*1~"))
		hears("865", "done", varnholt(4, "865", "BCA*00*AC*"+number+"***20260318~"+
			lines("POC*%[1]d*CT*80*0*MR*0.71**VP*B%[1]d~ACK*DR*80*MR*067*20260601~")))
	}
	for name, d := range took {
		if d[1] > 3*many/few*max(d[0], 20*time.Millisecond) {
			t.Errorf("%s: %s of processor time with %d lines, %s with %d", name, d[0], few, d[1], many)
		}
	}
}

// foundText are the messages of what was found in an interchange.
func foundText(i api.Interchange) string {
	var said []string
	for _, f := range foundIn(i) {
		said = append(said, f.Message)
	}
	return strings.Join(said, " | ")
}
