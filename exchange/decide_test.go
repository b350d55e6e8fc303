package exchange

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"

	"koinos/api"
	"koinos/core/finding"
	"koinos/core/intent"
	"koinos/core/list"
	"koinos/core/order"
)

// goodsOf are the lines of an order in words, with its day.
func goodsOf(o *order.Order) string {
	said := []string{string(o.RequestedDeliveryOn)}
	for i := range o.Lines {
		l := &o.Lines[i]
		said = append(said, fmt.Sprintf("%s: %s at %s less %s", l.Number, l.Quantity, l.UnitPrice, l.Cancelled))
	}
	return strings.Join(said, ", ")
}

// Of the changes that a partner asks for, a person takes those of some lines and refuses the others; the answer says so
// line by line. What is wrong with a line keeps nothing of the others out.
func TestDecidedLineByLine(t *testing.T) {
	skipRaces(t)
	const asks = "DTM*002*20260501~POC*1*QI*30**MR*1.33**VP*00113~POC*2*PC*3**BX*33**VP*00489~POC*3*DI*0**MR*2**VP*00114~" +
		"POC*4*AI*7**MR*2.50**VP*00115~CTT*4~"
	const wrong = "POC*1*QI*30**MR*1.33*PE*VP*00113~POC*2*PC*3**BX*33**VP*99999~POC*9*DI*0**MR*2**VP*00114~POC*4*AI*7**MR*2.50*PE*VP*00115~CTT*4~"
	const taken = "the same, of a partner whose changes are taken where nothing is wrong with them"
	const before = ", 1: 20 at 1.33 less , 2: 3 at 31.42 less , 3: 5 at 2 less "
	for _, c := range []struct {
		name, asks string
		asked      string // lines of the set that ask for a change
		take       []int
		state      string
		order, ack string
	}{
		{"nothing", asks, "0 1 2 3 4", nil, "done", before,
			"BCA*00*RD POC*1*QI*30**MR*1.33 ACK*IR*20*MR POC*2*PC*3**BX*31.42 ACK*IR*3*BX POC*3*DI*0**MR*2 ACK*IR*5*MR POC*4*AI*7**MR*2.5 ACK*IR*0*MR"},
		{"everything", asks, "0 1 2 3 4", []int{0, 1, 2, 3, 4}, "done",
			"2026-05-01, 1: 30 at 1.33 less , 2: 3 at 33 less , 3: 5 at 2 less 5, 4: 7 at 2.50 less ",
			"BCA*00*AD POC*1*QI*30**MR*1.33 ACK*IA*30*MR*068*20260501 POC*2*PC*3**BX*33 ACK*IA*3*BX*068*20260501 POC*3*DI*0**MR*2 ACK*ID*0*MR POC*4*AI*7**MR*2.5 ACK*IA*7*MR*068*20260501"},
		{"a quantity and a new line", asks, "0 1 2 3 4", []int{4, 1, 1}, "done",
			", 1: 30 at 1.33 less , 2: 3 at 31.42 less , 3: 5 at 2 less , 4: 7 at 2.50 less ",
			"BCA*00*AC POC*1*QI*30**MR*1.33 ACK*IA*30*MR POC*2*PC*3**BX*31.42 ACK*IR*3*BX POC*3*DI*0**MR*2 ACK*IR*5*MR POC*4*AI*7**MR*2.5 ACK*IA*7*MR"},
		{"the day alone", asks, "0 1 2 3 4", []int{0}, "done", "2026-05-01" + before,
			"BCA*00*AC POC*1*QI*30**MR*1.33 ACK*IQ*20*MR*068*20260501 POC*2*PC*3**BX*31.42 ACK*IP*3*BX*068*20260501 " +
				"POC*3*DI*0**MR*2 ACK*IR*5*MR*068*20260501 POC*4*AI*7**MR*2.5 ACK*IR*0*MR"},
		{"what is right beside what is wrong", wrong, "1 4", []int{1}, "done",
			", 1: 30 at 1.33 less , 2: 3 at 31.42 less , 3: 5 at 2 less ",
			"BCA*00*AC POC*1*QI*30**MR*1.33 ACK*IA*30*MR POC*2*PC*3**BX*31.42 ACK*IR*3*BX POC*9*DI*0**MR*2 ACK*IR*0*MR POC*4*AI*7**MR*2.5 ACK*IR*0*MR"},
		{taken, wrong, "1 4", []int{1}, "done",
			", 1: 30 at 1.33 less , 2: 3 at 31.42 less , 3: 5 at 2 less ",
			"BCA*00*AC POC*1*QI*30**MR*1.33 ACK*IA*30*MR POC*2*PC*3**BX*31.42 ACK*IR*3*BX POC*9*DI*0**MR*2 ACK*IR*0*MR POC*4*AI*7**MR*2.5 ACK*IR*0*MR"},
		{"a cancellation in part", "BCH*01*SA*PM-1***20260317~", "0", []int{1}, "Line 1 of set 1 asks for no change.", before, ""},
		{"a cancellation", "BCH*01*SA*PM-1***20260317~", "0", []int{0}, "done",
			", 1: 20 at 1.33 less 20, 2: 3 at 31.42 less 3, 3: 5 at 2 less 5", "BCA*00*AT"},
	} {
		t.Run(c.name, func(t *testing.T) {
			d := open(t)
			ctx := context.Background()
			if c.name != taken {
				d.partner("changes: take", "changes: wait")
			}
			if err := d.store.PutList(ctx, "items", []list.Entry{{Code: "00113"}, {Code: "00114"}, {Code: "00115"}, {Code: "00489"}},
				d.at); err != nil {
				t.Fatal(err)
			}
			d.receive(pellow(1, "850", "BEG*00*SA*PM-1**20260316~CUR*BY*EUR~PO1*1*20*MR*1.33**VP*00113~PO1*2*3*BX*31.42**VP*00489~"+
				"PO1*3*5*MR*2**VP*00114~CTT*3~"))
			d.send("PELLOW", "855")
			if !strings.HasPrefix(c.asks, "BCH") {
				c.asks = "BCH*04*SA*PM-1***20260317~" + c.asks
			}
			i := d.receive(pellow(2, "860", c.asks))
			lines := map[int]bool{}
			for _, f := range i.Sets[0].Findings {
				if f.Code == finding.ChangeAsked {
					lines[f.Line] = true
				}
				if f.Line > 1 && !strings.Contains(f.At, fmt.Sprintf("POC #%d", f.Line)) || strings.Contains(f.Message, "price_basis") {
					t.Errorf("line %d at %s: %s", f.Line, f.At, f.Message)
				}
			}
			asked := ""
			for n := range 10 {
				if lines[n] {
					asked += fmt.Sprintf(" %d", n)
				}
			}
			if asked != " "+c.asked || i.Sets[0].State != api.StateHeld {
				t.Fatalf("%s: asked%s, not %s: %+v", i.Sets[0].State, asked, c.asked, i.Sets[0].Findings)
			}
			i, err := d.Decide(ctx, i.ID, 1, c.take, "ann")
			cannot := (*Undecidable)(nil)
			got := i.Sets[0].State
			if errors.As(err, &cannot) {
				got, err = cannot.Message, nil
			}
			if err != nil || got != c.state {
				t.Fatalf("%s, not %s: %v %+v", got, c.state, err, i.Sets[0].Findings)
			}
			o := d.order(order.Sales, "PELLOW", "", "PM-1")
			if got := goodsOf(&o.Order); got != c.order {
				t.Errorf("order %s\nnot %s", got, c.order)
			}
			if c.state != "done" {
				return
			}
			if by := o.Events[len(o.Events)-1].Origin.By; len(c.take) > 0 && by != "PELLOW, decided by ann" {
				t.Errorf("by %s", by)
			}
			if got := d.outgoing("PELLOW", "865", "BCA", "POC", "ACK"); strings.ReplaceAll(got, "*PM-1***20260316***SO-000001*20260316", "") != c.ack {
				t.Errorf("answer %s\nnot    %s", got, c.ack)
			}
			if i.State != "done" || i.Sets[0].Decided == nil || i.Sets[0].Decided.By != "ann" {
				t.Errorf("%s, decided %+v", i.State, i.Sets[0].Decided)
			}
			if _, err := d.Decide(ctx, i.ID, 1, nil, "ann"); !errors.Is(err, ErrNotNow) {
				t.Errorf("decided twice: %v", err)
			}
		})
	}
}

// A decision that cannot be carried out, because goods left in the meantime, is forgotten: what the set asks for then
// is decided anew.
func TestDecisionInVain(t *testing.T) {
	skipRaces(t)
	d := open(t)
	ctx := context.Background()
	d.partner("changes: take", "changes: wait")
	d.receive(pellow(1, "850", order4711))
	d.send("PELLOW", "855")
	i := d.receive(pellow(2, "860", "BCH*04*SA*PM-1***20260317~POC*1*QD*5**MR*1.33**VP*00113~POC*2*QI*4**BX*31.42**VP*00489~CTT*2~"))
	id := d.order(order.Sales, "PELLOW", "", "PM-1").ID
	d.says(intent.Shipment, id, map[string]string{"shipment": "LS-1"}, map[string]string{"number": "1", "quantity": "8"})
	lines := func() string { return goodsOf(&d.order(order.Sales, "PELLOW", "", "PM-1").Order) }
	const before = ", 1: 20 at 1.33 less , 2: 3 at 31.42 less "
	i, err := d.Decide(ctx, i.ID, 1, []int{1, 2}, "ann")
	if s := i.Sets[0]; err != nil || s.State != api.StateHeld || s.Decided != nil || lines() != before ||
		s.Findings[0].Message != "Line 1 is to be 5, but 8 of it have moved." {
		t.Fatalf("%v %+v, order %s", err, s, lines())
	}
	cannot := (*Undecidable)(nil)
	if _, err := d.Decide(ctx, i.ID, 1, []int{1}, "ann"); !errors.As(err, &cannot) || cannot.Message != "Line 1 of set 1 asks for no change." {
		t.Error(err)
	}
	if i, err = d.Decide(ctx, i.ID, 1, []int{2}, "ann"); err != nil || i.State != "done" ||
		lines() != ", 1: 20 at 1.33 less , 2: 4 at 31.42 less " {
		t.Errorf("%v %s, order %s", err, i.State, lines())
	}
}

// Changes of an order are taken in their turn: one that comes after a later one waits, one between that never came is
// said, and the answer names the change that it is to.
func TestChangesInTurn(t *testing.T) {
	skipRaces(t)
	d := open(t)
	d.receive(pellow(1, "850", order4711))
	d.send("PELLOW", "855")
	ask := func(control int, number, quantity string) api.Interchange {
		return d.receive(pellow(control, "860", "BCH*04*SA*PM-1**"+number+"*20260317~POC*1*QI*"+quantity+"**MR*1.33**VP*00113~CTT*1~"))
	}
	for n, c := range []struct{ number, quantity, want string }{
		{"1", "30", "done, 30"},
		{"3", "40", "done, 40; ST 0001 / BCH / 05: Change 3 of the order SO-000001 follows change 1: what is between was not taken."},
		{"2", "50", "held, 40; ST 0001 / BCH / 05: Change 2 of the order SO-000001 comes after change 3, which was taken."},
		{"3", "40", "done, 40"},
		{"03", "60", "held, 40; ST 0001 / BCH / 05: Change 03 of the order SO-000001 was taken before, with other changes."},
		{"", "41", "done, 41"},
		{"4", "42", "done, 42"},
		{"A", "43", "done, 43"},
		{"A", "44", "held, 43; ST 0001 / BCH / 05: Change A of the order SO-000001 was taken before, with other changes."},
	} {
		i := ask(10+n, c.number, c.quantity)
		got := i.Sets[0].State + ", " + d.order(order.Sales, "PELLOW", "", "PM-1").Lines[0].Quantity.String()
		for _, f := range i.Sets[0].Findings {
			got += "; " + f.At + ": " + f.Message
		}
		if got != c.want {
			t.Errorf("%s %s: %s\nnot %s", c.number, c.quantity, got, c.want)
		}
		if i.State != api.StateHeld {
			if got := d.outgoing("PELLOW", "865", "BCA"); got != "BCA*00*AD*PM-1**"+c.number+"*20260316***SO-000001*20260316" {
				t.Errorf("%s: %s", c.number, got)
			}
			continue
		}
		if i, err := d.Replay(context.Background(), i.ID, []string{"change_out_of_turn"}, "ann"); err != nil || i.State != "done" {
			t.Errorf("%s: %s %v", c.number, i.State, err)
		}
		d.says(intent.Change, d.order(order.Sales, "PELLOW", "", "PM-1").ID, nil, map[string]string{"number": "1", "quantity": strings.Fields(c.want)[1][:2]})
		d.send("PELLOW", "865")
		d.send("PELLOW", "865")
	}
}
