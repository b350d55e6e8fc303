package exchange

import (
	"testing"

	"koinos/api"
	"koinos/core/finding"
	"koinos/core/order"
	"koinos/store"
)

// A set that asks for something else than its kind (a cancellation, a
// replacement, a credit) is held with that said, and is not taken for an original.
func TestPurpose(t *testing.T) {
	d := open(t)
	d.receive(pellow(1, "850", order4711))
	d.post(purchase(1))
	number := d.send("VARNHOLT", "850")[0].Orders[0]
	for n, c := range []struct{ from, kind, segments, at, says string }{
		{"PELLOW", "850", "BEG*01*SA*PM-9**20260316~PO1*1*20*MR*1.33**VP*00113~", "ST 0001 / BEG / 01",
			"Transaction Set Purpose Code is 01 (Cancellation), which is not done with a set 850."},
		{"PELLOW", "850", "BEG*05*SA*PM-1**20260316~PO1*1*25*MR*1.33**VP*00113~", "ST 0001 / BEG / 01",
			"Transaction Set Purpose Code is 05 (Replace), which is not done with a set 850."},
		{"PELLOW", "850", "BEG*07*SA*PM-7**20260316~PO1*1*25*MR*1.33**VP*00113~", "", ""},
		{"PELLOW", "860", "BCH*01*SA*PM-1***20260317~POC*1*QI*30**MR*1.33**VP*00113~", "ST 0001 / BCH / 01",
			"Transaction Set Purpose Code is 01 (Cancellation), which is not done with a set 860."},
		{"VARNHOLT", "810", "BIG*20260320*VI-1**" + number + "***CR~IT1*1*40*MR*0.71**VP*BR-10-W~TDS*2840~",
			"ST 0001 / BIG / 07", "Transaction Type Code is CR (another purpose), which is not done with a set 810."},
		{"VARNHOLT", "810", "BIG*20260320*VI-2**" + number + "***DI~IT1*1*40*MR*0.71**VP*BR-10-W~TDS*2840~", "", ""},
	} {
		doc := pellow(10+n, c.kind, c.segments)
		if c.from == "VARNHOLT" {
			doc = varnholt(10+n, c.kind, c.segments)
		}
		set := d.receive(doc).Sets[0]
		said := ""
		for _, f := range set.Findings {
			if f.Code == finding.UnknownChoice && f.At == c.at {
				said = f.Message
			}
		}
		if said != c.says || (set.State == api.StateHeld) != (c.says != "") {
			t.Errorf("%s %s: %s, says %q; %+v", c.kind, c.segments[:6], set.State, said, set.Findings)
		}
	}
	if q := d.order(order.Sales, "PELLOW", "", "PM-1").Lines[0].Quantity.String(); q != "20" {
		t.Errorf("the order says %s", q)
	}
	if q := d.order(order.Purchase, "VARNHOLT", number, "").Lines[0].Invoiced.String(); q != "40" {
		t.Errorf("invoiced %s", q)
	}
	err := d.store.Write(t.Context(), func(tx *store.Tx) error {
		ids, err := tx.OrderOf(order.Sales, "PELLOW", "", "PM-9")
		if len(ids) != 0 {
			t.Error("a cancelled order was stored")
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
}
