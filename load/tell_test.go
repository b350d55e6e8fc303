package load

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"koinos/api"
	"koinos/core/finding"
	"koinos/core/intent"
	"koinos/core/list"
	"koinos/core/order"
	"koinos/core/outcome"
	"koinos/core/source"
	"koinos/store"
)

// twoLines is a stored order of two lines, 10 and 4, of a new engine.
func twoLines(t *testing.T) *Engine {
	t.Helper()
	e := testEngine(t, testStore(t), source.DefaultLimits)
	send(t, e, plainMapping, []byte(head+"A-1,2026-03-02,00417,10,9.50\nA-1,,00501,4,64.50\n"), Request{})
	return e
}

func (e *Engine) told(t testing.TB, kind intent.Kind, notice string, accept ...finding.Code) api.Posted {
	t.Helper()
	var n api.Notice
	if err := json.Unmarshal([]byte(notice), &n); err != nil {
		t.Fatal(err)
	}
	p, err := e.Tell(context.Background(), Telling{Kind: kind, Order: 1, Accept: accept, Body: []byte(notice), By: "test"},
		&n)
	if err != nil {
		t.Fatal(err)
	}
	return p
}

// telling is something that is said of an order, and what must come of it.
type telling struct {
	name   string
	kind   intent.Kind
	notice string
	accept finding.Code
	want   string // outcome and revision, what changed, what was found
}

// tellAll says one thing after another of an order.
func (e *Engine) tellAll(t *testing.T, all []telling) {
	t.Helper()
	for _, c := range all {
		accept := []finding.Code{}
		if c.accept != "" {
			accept = append(accept, c.accept)
		}
		p := e.told(t, c.kind, c.notice, accept...)
		got := fmt.Sprintf("%s %d", p.Outcome, p.Revision)
		for i := range p.Changes {
			got += "; " + p.Changes[i].String()
		}
		for _, f := range p.Findings {
			got += "; " + f.At + ": " + f.Message
		}
		if got != c.want {
			t.Errorf("%s: %s\nnot %s", c.name, got, c.want)
		}
	}
}

// What is said of one order, one thing after another: each is carried out whole, or not at all with the reason and
// its place.
func TestTell(t *testing.T) {
	e := twoLines(t)
	e.tellAll(t, []telling{
		{"confirmed", intent.Change, `{"header": {"stage": "confirmed"}}`, "", `changed 2; stage was "open", is "confirmed"`},
		{"again", intent.Change, `{"header": {"stage": "confirmed"}}`, "", "unchanged 2"},
		{"a stage that is none", intent.Change, `{"header": {"stage": "sent"}}`, "",
			`refused 2; /header/stage: stage cannot be "sent".`},
		{"a reason alone", intent.Change, `{"header": {"reason": "because"}}`, "", "unchanged 2"},
		{"a field of the header, with a reason", intent.Change,
			`{"header": {"ship_to.city": "Ostrand", "reason": "moved"}}`, "",
			`changed 3; ship_to.city was blank, is "Ostrand"; because "moved"`},
		{"a quantity and a price", intent.Change, `{"lines": [{"number": "2", "quantity": "5", "unit_price": "60"}]}`, "",
			`changed 4; line 2 quantity was "4", is "5"; line 2 unit_price was "64.5", is "60"`},
		{"a field that is none", intent.Change, `{"lines": [{"number": "2", "colour": "red"}]}`, "",
			`refused 4; /lines/0/colour: A change has no field "colour".`},
		{"what no change sets", intent.Change, `{"header": {"partner": "SALTRY"}, "lines": [{"number": "2", "amount": "7"}]}`,
			"",
			"refused 4; /header/partner: A change does not set partner of an order that is stored.; " +
				"/lines/0/amount: A change does not set amount of a line that is stored."},
		{"the day of the order, and one away", intent.Change, `{"header": {"ordered_on": "2026-03-03", "ship_to.city": ""}}`,
			"",
			`changed 5; ordered_on was "2026-03-02", is "2026-03-03"; ship_to.city was "Ostrand", is blank`},
		{"back, and of a line", intent.Change, `{"header": {"ordered_on": "2026-03-02"}, "lines": [{"number": "2", "unit_price": ""}]}`, "",
			`changed 6; ordered_on was "2026-03-03", is "2026-03-02"; line 2 unit_price was "60", is blank`},
		{"no quantity", intent.Change, `{"lines": [{"number": "2", "quantity": " "}]}`, "",
			"refused 6; /lines/0/quantity: quantity cannot be blank."},
		{"two names of one line", intent.Change, `{"lines": [{"id": "1", "number": "2", "quantity": "5"}]}`, "",
			"refused 6; /lines/0/number: The order SO-000001 has no line 2, or not only one."},
		{"the price once more", intent.Change, `{"lines": [{"number": "2", "unit_price": "60"}]}`, "",
			`changed 7; line 2 unit_price was blank, is "60"`},
		{"no number", intent.Change, `{"lines": [{"number": "2", "quantity": "five"}]}`, "",
			`refused 7; /lines/0/quantity: "five" is not a number for quantity.`},
		{"an item that no list has", intent.Change, `{"lines": [{"change": "add", "item": "00999", "quantity": "1"}]}`, "",
			`refused 7; /lines/0/item: "00999" is not in the list items.`},
		{"a part", intent.Shipment, `{"header": {"shipment": "S-1"}, "lines": [{"id": "1", "quantity": "4"}]}`, "",
			`changed 8; line 1 shipped was blank, is "4"`},
		{"the same part", intent.Shipment, `{"header": {"shipment": "S-1"}, "lines": [{"number": "1", "quantity": "4"}]}`, "",
			"unchanged 8"},
		{"another part of the same number", intent.Shipment,
			`{"header": {"shipment": "S-1"}, "lines": [{"number": "1", "quantity": "5"}]}`,
			"", "refused 8; /header/shipment: The shipment S-1 of OSTRAND was posted before, with other quantities."},
		{"more than is open", intent.Shipment, `{"lines": [{"number": "2", "quantity": "5"}, {"number": "1", "quantity": "7"}]}`, "",
			"held 8; /lines/1/quantity: Of line 1, 11 are shipped now, more than the 10 that were ordered."},
		{"less than has moved", intent.Change, `{"lines": [{"number": "1", "quantity": "3"}]}`, "",
			"refused 8; /lines/0/quantity: Line 1 is to be 3, but 4 of it have moved."},
		{"back to open", intent.Change, `{"header": {"stage": "open"}}`, "",
			"refused 8; /header/stage: The order SO-000001 is to be open, but goods of it have moved."},
		{"some of it back", intent.Shipment, `{"header": {"shipment": "S-1R", "reverses": "S-1"}, "lines": [{"number": "1", "quantity": "1"}]}`,
			"", `changed 9; line 1 shipped was "4", is "3"`},
		{"the same back", intent.Shipment, `{"header": {"shipment": "S-1R", "reverses": "S-1"}, "lines": [{"number": "1", "quantity": "1"}]}`,
			"", "unchanged 9"},
		{"the same back of another", intent.Shipment,
			`{"header": {"shipment": "S-1R", "reverses": "S-9"}, "lines": [{"number": "1", "quantity": "1"}]}`,
			"", "refused 9; /header/reverses: The shipment S-1R takes back S-1, and not S-9."},
		{"the number of a counter-entry", intent.Shipment,
			`{"header": {"shipment": "S-1R"}, "lines": [{"number": "1", "quantity": "1"}]}`,
			"", "refused 9; /header/shipment: The shipment S-1R takes back S-1, and does not move goods."},
		{"back of what takes back", intent.Shipment, `{"header": {"reverses": "S-1R"}}`, "",
			"refused 9; /header/reverses: The shipment S-1R itself takes back S-1; post what moves once more as a shipment of its own."},
		{"twice the same line back", intent.Shipment,
			`{"header": {"reverses": "S-1"}, "lines": [{"number": "1", "quantity": "2"}, {"id": "1", "quantity": "2"}]}`,
			"", "refused 9; /lines/1/quantity: Of line 1, 1 can be taken back of the shipment S-1, not 2."},
		{"more back than is left", intent.Shipment,
			`{"header": {"reverses": "S-1"}, "lines": [{"number": "1", "quantity": "4"}]}`, "",
			"refused 9; /lines/0/quantity: Of line 1, 3 can be taken back of the shipment S-1, not 4."},
		{"back of what never moved", intent.Shipment, `{"header": {"reverses": "S-9"}}`, "",
			"refused 9; /header/reverses: No shipment S-9 has moved anything of the order SO-000001."},
		{"the rest of a line is not wanted", intent.Shipment,
			`{"header": {"shipment": "S-2"}, "lines": [{"number": "2", "quantity": "2", "rest": "cancel"}]}`, "",
			`changed 10; line 2 shipped was blank, is "2"; line 2 cancelled was blank, is "3"`},
		{"all that is open", intent.Shipment, `{"header": {"shipment": "S-3", "quantities": "open"}}`, "",
			`changed 11; line 1 shipped was "3", is "10"`},
		{"the same, all that was open", intent.Shipment, `{"header": {"shipment": "S-3", "quantities": "open"}}`, "",
			"unchanged 11"},
		{"nothing is open any more", intent.Shipment, `{"header": {"shipment": "S-4", "quantities": "Open"}}`, "",
			"unchanged 11"},
		{"billed", intent.Invoice, `{"header": {"invoice": "I-1", "quantities": "open"}}`, "",
			`changed 12; line 1 invoiced was blank, is "10"; line 2 invoiced was blank, is "2"`},
		{"the same bill", intent.Invoice, `{"header": {"invoice": "I-1", "quantities": "open"}}`, "", "unchanged 12"},
		{"billed again", intent.Invoice, `{"header": {"invoice": "I-2", "quantities": "open"}}`, "", "unchanged 12"},
		{"more than moved", intent.Invoice, `{"header": {"invoice": "I-3"}, "lines": [{"number": "1", "quantity": "1"}]}`, "",
			"held 12; /lines/0/quantity: Of line 1, 11 are invoiced, more than the 10 that were shipped."},
		{"accepted all the same", intent.Shipment,
			`{"header": {"shipment": "S-5"}, "lines": [{"number": "1", "quantity": "1"}]}`,
			finding.OverDelivery, `changed 13; line 1 shipped was "10", is "11"; ` +
				"/lines/0/quantity: Of line 1, 11 are shipped now, more than the 10 that were ordered."},
		{"what is billed, back", intent.Shipment, `{"header": {"shipment": "S-3R", "reverses": "S-3"}}`, "",
			"held 13; : Of line 1, 4 are shipped now, less than the 10 that are invoiced."},
		{"whole back", intent.Shipment, `{"header": {"shipment": "S-3R", "reverses": "S-3"}}`, finding.OverInvoiced,
			`changed 14; line 1 shipped was "11", is "4"; : Of line 1, 4 are shipped now, less than the 10 that are invoiced.`},
		{"whole back again", intent.Shipment, `{"header": {"shipment": "S-3R", "reverses": "S-3"}}`, "", "unchanged 14"},
		{"the bill of before", intent.Invoice, `{"header": {"invoice": "I-1", "quantities": "open"}}`, "", "unchanged 14"},
		{"twice the same line, all that is open", intent.Shipment,
			`{"header": {"shipment": "S-6", "quantities": "open"}, "lines": [{"number": "1"}, {"number": "1"}]}`,
			finding.OverInvoiced,
			`changed 15; line 1 shipped was "4", is "10"`},
		{"back for what follows", intent.Shipment, `{"header": {"shipment": "S-6R", "reverses": "S-6"}}`,
			finding.OverInvoiced,
			`changed 16; line 1 shipped was "10", is "4"; : Of line 1, 4 are shipped now, less than the 10 that are invoiced.`},
		{"cancelled", intent.Withdrawal, `{"header": {"reason": "sold out"}}`, finding.NoticeDiffers,
			`changed 17; line 1 cancelled was blank, is "6"; because "sold out"; ` +
				": Line 1 is to be withdrawn, but 4 of it have moved; the rest is cancelled.; " +
				": Line 2 is to be withdrawn, but 2 of it have moved; the rest is cancelled."},
	})
	o, err := e.store.Order(context.Background(), 1)
	if err != nil || o.Status != order.Complete || len(o.Events) != o.Revision || o.Total.Plain() != "158" {
		t.Errorf("%s, %d events of revision %d, total %s: %v", o.Status, len(o.Events), o.Revision, o.Total.Plain(), err)
	}
}

// A number that is looked for in the wrong place says where it belongs; orders of other partners are not spoken of.
func TestNumberOfAnotherOrder(t *testing.T) {
	e := twoLines(t)
	for _, c := range []struct{ of, bound, number, partner, hint string }{
		{"sales", "number", "a-1", "OSTRAND", "It is the sender's number of the sales order SO-000001. If that is meant, bind it to sender_number."},
		{"purchase", "sender_number", "A-1", "OSTRAND", "It is the sender's number of the sales order SO-000001. If that is meant, " +
			"bind it to sender_number, and say of: sales."},
		{"sales", "sender_number", "so-000001", "OSTRAND", "It is our number of the sales order SO-000001. If that is meant, bind it to number."},
		{"sales", "sender_number", "SO-000001", "PELLOW", "Check whether the partner names the right order; when it is stored, try this again."},
		{"sales", "number", "A-2", "OSTRAND", "Check whether the partner names the right order; when it is stored, try this again."},
	} {
		l := send(t, e, `koinos: mapping/1
name: example
orders: {kind: shipment, of: `+c.of+`, group: {by: key, columns: [Order]}}
header: {`+c.bound+`: {from: Order, need: must}, partner: {value: `+c.partner+`}, shipment: {value: S-1}}
lines: {number: {value: "1"}, quantity: {from: Qty, need: must}}
`, []byte("Order,Qty\n"+c.number+",1\n"), Request{})
		found, err := e.store.Findings(context.Background(), l.ID, store.FindingFilter{Limit: 10})
		if err != nil || len(found) != 1 || found[0].Code != finding.OrderUnknown || found[0].Hint != c.hint {
			t.Errorf("%+v: %+v %v", c, found, err)
		}
	}
}

// A notice without a number finds its order by all the references that it names, as the orders say them now.
func TestOrderByReference(t *testing.T) {
	e := testEngine(t, testStore(t), source.DefaultLimits)
	orders := strings.Replace(plainMapping, "lines:", "  reference.job: {from: Job}\n  reference.contract: {from: Contract}\nlines:", 1)
	first := send(t, e, orders, []byte("Order,Date,Item,Qty,Price,Job,Contract\nA-1,2026-03-02,00417,9,9.50,J-7,C-1\n"+
		"A-2,2026-03-02,00417,9,9.50,J-8,C-1\nA-3,2026-03-02,00417,9,9.50,,\n"), Request{})
	unknown, several := `No sales order of OSTRAND has %s.`, `More than one sales order of OSTRAND has %s; it is not clear which one is meant.`
	step := 0
	ship := func(partner, job, contract string) string {
		step++
		l := send(t, e, `koinos: mapping/1
name: example
orders: {kind: shipment, of: sales, group: {by: key, columns: [Note]}}
header: {shipment: {from: Note}, partner: {value: `+partner+`}, reference.job: {from: Job}, reference.contract: {from: Contract}}
lines: {number: {value: "1"}, quantity: {from: Qty}}
`, fmt.Appendf(nil, "Note,Job,Contract,Qty\nS-%d,%s,%s,1\n", step, job, contract), Request{})
		found, err := e.store.Findings(context.Background(), l.ID, store.FindingFilter{Limit: 10})
		outcomes, _, outcomesErr := e.store.Outcomes(context.Background(), l.ID, store.OutcomeFilter{Limit: 10})
		if err != nil || outcomesErr != nil || len(outcomes) != 1 || len(found) > 1 {
			t.Fatal(found, outcomes, err, outcomesErr)
		}
		if len(found) == 1 {
			return found[0].Message
		}
		return outcomes[0].Number
	}
	check := func(partner, job, contract, want string) {
		t.Helper()
		if got := ship(partner, job, contract); got != want {
			t.Errorf("%s %s %s: %s\nnot %s", partner, job, contract, got, want)
		}
	}
	check("OSTRAND", "J-7", "", "SO-000001")
	check("OSTRAND", "j-8", "", "SO-000002")
	check("OSTRAND", "J-8", "c-1", "SO-000002")
	check("OSTRAND", "", "C-1", fmt.Sprintf(several, `the reference contract "C-1"`))
	check("OSTRAND", "J-9", "", fmt.Sprintf(unknown, `the reference job "J-9"`))
	check("OSTRAND", "J-7", "C-2", fmt.Sprintf(unknown, `the reference job "J-7" and the reference contract "C-2"`))
	check("PELLOW", "J-7", "", `No sales order of PELLOW has the reference job "J-7".`)
	check("OSTRAND", "", "", `No sales order of OSTRAND has the number "".`)
	e.told(t, intent.Change, `{"header": {"reference.job": "J-9", "reference.contract": " "}}`)
	check("OSTRAND", "J-7", "", fmt.Sprintf(unknown, `the reference job "J-7"`))
	check("OSTRAND", "J-9", "", "SO-000001")
	check("OSTRAND", "", "C-1", "SO-000002")
	second := send(t, e, orders, []byte("Order,Date,Item,Qty,Price,Job,Contract\nA-4,2026-03-02,00417,9,9.50,J-9,\n"), Request{})
	check("OSTRAND", "J-9", "", fmt.Sprintf(several, `the reference job "J-9"`))
	if second.ID == first.ID {
		t.Fatal("one load")
	}
	if _, err := e.Undo(context.Background(), second.ID, false, "test"); err != nil {
		t.Fatal(err)
	}
	check("OSTRAND", "J-9", "", "SO-000001")
}

// A quantity below zero says how a mistake is corrected.
func TestMovedBelowZero(t *testing.T) {
	e := twoLines(t)
	p := e.told(t, intent.Shipment, `{"lines": [{"number": "1", "quantity": "-1"}]}`)
	const want = "To correct a shipment, post a counter-entry: reverses names it, and quantities are above zero. Goods that go back are a return."
	if len(p.Findings) != 1 || p.Findings[0].Code != finding.QuantityNegative || p.Findings[0].Hint != want {
		t.Errorf("%+v", p.Findings)
	}
}

// What is cancelled is not confirmed.
func TestTellOfACancelledOrder(t *testing.T) {
	e := twoLines(t)
	e.told(t, intent.Withdrawal, `{}`)
	p := e.told(t, intent.Change, `{"header": {"stage": "confirmed"}}`)
	if p.Outcome != outcome.Refused || p.Findings[0].Message != "The order SO-000001 is to be confirmed, but it is cancelled." {
		t.Errorf("%+v", p)
	}
}

// An order can be spoken of although its partner is in no list any more.
func TestTellOfAFormerPartner(t *testing.T) {
	e := twoLines(t)
	if err := e.store.PutList(context.Background(), "customers", []list.Entry{{Code: "SALTRY"}}, time.Now()); err != nil {
		t.Fatal(err)
	}
	if p := e.told(t, intent.Shipment, `{"header": {"quantities": "open"}}`); p.Outcome != outcome.Changed {
		t.Errorf("%+v", p)
	}
}

// Who has seen an older revision changes nothing, and learns that it is older.
func TestTellOfARevision(t *testing.T) {
	e := twoLines(t)
	tell := func(seen int, quantity string) outcome.Outcome {
		n := api.Notice{Lines: []map[string]string{{"number": "1", "quantity": quantity}}}
		p, err := e.Tell(context.Background(), Telling{Kind: intent.Change, Order: 1, Seen: seen, Body: []byte(quantity),
			By: "t"}, &n)
		if err != nil {
			t.Fatal(err)
		}
		return p.Outcome
	}
	got := []outcome.Outcome{tell(1, "11"), tell(1, "12"), tell(2, "13"), tell(0, "14"), tell(9, "15")}
	want := []outcome.Outcome{outcome.Changed, outcome.Refused, outcome.Changed, outcome.Changed, outcome.Refused}
	if !slices.Equal(got, want) {
		t.Errorf("%v, not %v", got, want)
	}
}

// Several who ship all that is open of one order at the same moment ship it once.
func TestTellAtOnce(t *testing.T) {
	e := twoLines(t)
	var wait sync.WaitGroup
	outcomes := make([]outcome.Outcome, 16)
	for i := range outcomes {
		wait.Go(func() {
			outcomes[i] = e.told(t, intent.Shipment, fmt.Sprintf(`{"header": {"shipment": "S-%d", "quantities": "open"}}`,
				i)).Outcome
		})
	}
	wait.Wait()
	o, err := e.store.Order(context.Background(), 1)
	changed := slices.DeleteFunc(outcomes, func(o outcome.Outcome) bool { return o != outcome.Changed })
	if err != nil || len(changed) != 1 || o.Revision != 2 || o.Lines[0].Shipped.Plain() != "10" ||
		o.Lines[1].Shipped.Plain() != "4" {
		t.Errorf("%d of 16 shipped; revision %d, %+v: %v", len(changed), o.Revision, o.Lines, err)
	}
}

// Whatever is said of an order, in whatever sequence: what has moved and was billed of a line is the sum of its
// movements and invoices, nothing below zero, no more than is wanted unless that was accepted; the status is that of
// the lines; every revision is an event, and what was refused or held has changed nothing.
func TestStoriesKeepTheSums(t *testing.T) {
	seeds := uint64(5)
	if testing.Short() {
		seeds = 1
	}
	whole := 0
	for seed := uint64(59); seed < 59+seeds; seed++ { // 59 needs the last cent
		r := rand.New(rand.NewPCG(seed, 16))
		e := twoLines(t)
		pick := func(all ...string) string { return all[r.IntN(len(all))] }
		line := func(more string) string {
			one := func() string {
				return fmt.Sprintf(`{"number": %q, "quantity": "%d"%s}`, pick("1", "2"), r.IntN(7), more)
			}
			if r.IntN(3) == 0 {
				return "[" + one() + ", " + one() + "]"
			}
			return "[" + one() + "]"
		}
		generous := r.IntN(2) == 0
		for step := range 60 {
			before := stateOf(t, e)
			var accept []finding.Code
			if generous && r.IntN(3) == 0 {
				accept = append(accept, finding.NoticeDiffers, finding.OverDelivery, finding.OverInvoiced, finding.OverReturned)
			}
			kind, notice := intent.Shipment, ""
			switch number := strconv.Itoa(r.IntN(12)); r.IntN(13) {
			case 0:
				kind, notice = intent.Change, `{"lines": `+line("")+`}`
			case 1:
				kind, notice = intent.Change, `{"header": {"stage": "`+pick("draft", "open", "confirmed")+`"}}`
			case 2:
				notice = `{"header": {"shipment": "S-` + number + `", "quantities": "open"}}`
			case 3:
				kind, notice = intent.Shipment, `{"header": {"shipment": "R-`+strconv.Itoa(step)+`", "reverses": "S-`+number+
					`"}, "lines": `+line("")+`}`
			case 4:
				notice = `{"header": {"shipment": "R-` + strconv.Itoa(step) + `", "reverses": "S-` + number + `"}}`
			case 5:
				kind, notice = intent.Invoice, `{"header": {"invoice": "I-`+number+`", "quantities": "open"}}`
			case 6:
				if r.IntN(3) == 0 {
					kind, notice = intent.Withdrawal, `{}`
					break
				}
				kind, notice = intent.Change, `{"lines": [{"number": "`+pick("1", "2")+`", "unit_price": "`+pick("9.50", "0.333",
					"1.005", "12", "0.333")+`"}]}`
			case 8:
				kind, notice = intent.Return, `{"header": {"return": "T-`+number+`"}, "lines": `+line("")+`}`
			case 9:
				kind, notice = intent.Return, `{"header": {"return": "U-`+strconv.Itoa(step)+`", "reverses": "T-`+number+`"}}`
			case 10:
				kind, notice = intent.Invoice, `{"header": {"invoice": "C-`+strconv.Itoa(step)+`", "reverses": "I-`+number+
					`"}, "lines": `+line("")+`}`
			case 11:
				kind, notice = intent.Invoice, `{"header": {"invoice": "C-`+strconv.Itoa(step)+`", "reverses": "I-`+number+`"}}`
			case 12:
				kind, notice = intent.Invoice, `{"header": {"invoice": "I-`+number+`"}, "lines": `+line("")+`}`
			case 7:
				kind, notice = intent.Shipment, `{"header": {"shipment": "O-`+number+
					`", "quantities": "open"}, "lines": [{"number": "1"}, {"number": "2", "quantity": "1"}, {"number": "1"}]}`
			default:
				notice = `{"header": {"shipment": "S-` + number + `"}, "lines": ` + line(pick("", `, "rest": "cancel"`)) + `}`
			}
			p := e.told(t, kind, notice, accept...)
			after := stateOf(t, e)
			if p.Outcome != outcome.Changed && after != before {
				t.Fatalf("seed %d, step %d: %s %s is %s, and changed\n%s\nto\n%s", seed, step, kind, notice, p.Outcome, before,
					after)
			}
			if p.Outcome == outcome.Changed && kind != intent.Change && kind != intent.Withdrawal {
				if again := e.told(t, kind, notice, finding.NoticeDiffers, finding.OverDelivery, finding.OverInvoiced,
					finding.OverReturned); again.Outcome != outcome.Unchanged {
					t.Fatalf("seed %d, step %d: %s %s once more is %s: %+v %+v", seed, step, kind, notice, again.Outcome,
						again.Findings, again.Changes)
				}
			}
			if wrong := sumsOf(t, e, generous); wrong != "" {
				t.Fatalf("seed %d, step %d: after %s %s (%s): %s", seed, step, kind, notice, p.Outcome, wrong)
			}
		}
		e.told(t, intent.Shipment, `{"header": {"shipment": "LAST", "quantities": "open"}}`)
		for _, lines := range []string{`[{"number": "1", "quantity": "1"}]`,
			`[{"number": "1", "quantity": "1"}, {"number": "2", "quantity": "1"}]`} {
			e.told(t, intent.Invoice, `{"header": {}, "lines": `+lines+`}`)
		}
		e.told(t, intent.Invoice, `{"header": {"quantities": "open"}}`)
		if wrong := sumsOf(t, e, generous); wrong != "" {
			t.Fatalf("seed %d, at the end: %s\n%s", seed, wrong, e.billed(t))
		}
		o, err := e.store.Order(context.Background(), 1)
		if err != nil {
			t.Fatal(err)
		}
		if slices.ContainsFunc(o.Lines, func(l order.Line) bool {
			return len(o.Invoices) > 2 &&
				l.Invoiced.Cmp(l.Quantity) == 0
		}) {
			whole++
		}
	}
	if whole == 0 && !testing.Short() {
		t.Error("no story ended with a line that is invoiced whole in parts")
	}
}

func stateOf(t *testing.T, e *Engine) string {
	t.Helper()
	o, err := e.store.Order(context.Background(), 1)
	if err != nil {
		t.Fatal(err)
	}
	b, err := json.Marshal(o)
	if err != nil {
		t.Fatal(err)
	}
	return string(b)
}

// sumsOf says what does not hold of the order; generous is that more may have moved than is wanted.
func sumsOf(t *testing.T, e *Engine, generous bool) string {
	t.Helper()
	o, err := e.store.Order(context.Background(), 1)
	if err != nil {
		t.Fatal(err)
	}
	if len(o.Events) != o.Revision {
		return fmt.Sprintf("%d events of revision %d", len(o.Events), o.Revision)
	}
	if is := o.DeriveStatus(); is != o.Status {
		return fmt.Sprintf("it is %s, and its lines are %s", o.Status, is)
	}
	sum := func(into *order.Number, n order.Number) {
		if *into, err = into.Add(n); err != nil {
			t.Fatal(err)
		}
	}
	moved := map[order.MovementKind]map[int]order.Number{order.Shipment: {}, order.Return: {}}
	billed, money := map[int]order.Number{}, map[int]order.Number{}
	add := func(to map[int]order.Number, line int, n order.Number) {
		now := to[line]
		sum(&now, n)
		to[line] = now
	}
	for _, m := range o.Movements {
		for _, l := range m.Lines {
			add(moved[m.Kind], l.Line, l.Quantity)
		}
	}
	for _, v := range o.Invoices {
		for _, l := range v.Lines {
			add(billed, l.Line, l.Quantity)
			add(money, l.Line, l.Amount)
		}
	}
	shipped, returned := moved[order.Shipment], moved[order.Return]
	for i := range o.Lines {
		l := &o.Lines[i]
		switch wanted, err := l.Quantity.Sub(l.Cancelled); {
		case err != nil:
			return err.Error()
		case l.Shipped.Cmp(shipped[l.ID]) != 0 || l.Invoiced.Cmp(billed[l.ID]) != 0:
			return fmt.Sprintf("line %d: shipped %s of %s, invoiced %s of %s", l.ID, l.Shipped, shipped[l.ID], l.Invoiced,
				billed[l.ID])
		case l.Returned.Cmp(returned[l.ID]) != 0:
			return fmt.Sprintf("line %d: returned %s of %s", l.ID, l.Returned, returned[l.ID])
		case l.Invoiced.Sign() == 0 && money[l.ID].Sign() != 0:
			return fmt.Sprintf("line %d: nothing is invoiced, and %s are owed", l.ID, money[l.ID])
		case !generous && l.Invoiced.Cmp(wanted) == 0 && wanted.Sign() > 0 && money[l.ID].Cmp(l.Amount) != 0:
			return fmt.Sprintf("line %d: all is invoiced, with %s of %s", l.ID, money[l.ID], l.Amount)
		case !generous && l.Returned.Cmp(l.Shipped) > 0:
			return fmt.Sprintf("line %d: returned %s of %s", l.ID, l.Returned, l.Shipped)
		case l.Shipped.Sign() < 0 || l.Cancelled.Sign() < 0 || l.Invoiced.Sign() < 0 || l.Returned.Sign() < 0:
			return fmt.Sprintf("line %d is below zero: %+v", l.ID, l)
		case !generous && l.Shipped.Cmp(wanted) > 0:
			return fmt.Sprintf("line %d: shipped %s of %s", l.ID, l.Shipped, wanted)
		}
	}
	return ""
}

// BenchmarkTell confirms and ships orders from 32 goroutines, each durable when the call returns.
func BenchmarkTell(b *testing.B) {
	const n = 1_000
	e := testEngine(b, testStore(b), source.DefaultLimits)
	var doc []byte
	doc = append(doc, head...)
	for i := range n {
		doc = fmt.Appendf(doc, "A-%d,2026-03-02,00417,1000000,9.50\n", i)
	}
	send(b, e, plainMapping, doc, Request{})
	var mu sync.Mutex
	var took []time.Duration
	for round := 0; b.Loop(); round++ {
		var wait sync.WaitGroup
		for c := range 32 {
			wait.Go(func() {
				for i := c; i < n; i += 32 {
					notice := api.Notice{Header: map[string]string{"shipment": fmt.Sprintf("S-%d", round)},
						Lines: []map[string]string{{"number": "1", "quantity": "1"}}}
					began := time.Now()
					p, err := e.Tell(context.Background(), Telling{Kind: intent.Shipment, Order: int64(i + 1), By: "b",
						Body: fmt.Appendf(nil, "%d %d", round, i)}, &notice)
					if err != nil || p.Outcome != outcome.Changed {
						b.Error(p, err)
						return
					}
					mu.Lock()
					took = append(took, time.Since(began))
					mu.Unlock()
				}
			})
		}
		wait.Wait()
	}
	slices.Sort(took)
	b.ReportMetric(float64(took[len(took)*99/100].Microseconds())/1000, "p99-ms")
	b.ReportMetric(float64(len(took))/b.Elapsed().Seconds(), "acts/s")
}
