package load

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"koinos/core/finding"
	"koinos/core/intent"
	"koinos/core/list"
	"koinos/core/source"
)

// billed says what the invoices of the order are, with the order's total.
func (e *Engine) billed(t *testing.T) string {
	t.Helper()
	o, err := e.store.Order(context.Background(), 1)
	if err != nil {
		t.Fatal(err)
	}
	var b strings.Builder
	fmt.Fprintf(&b, "order %s", o.Total)
	for _, v := range o.Invoices {
		fmt.Fprintf(&b, "\n%s", v.Number)
		if v.Reverses != "" {
			fmt.Fprintf(&b, " against %s", v.Reverses)
		}
		for _, l := range v.Lines {
			fmt.Fprintf(&b, ", %d: %s at %s is %s", l.Line, l.Quantity, l.UnitPrice, l.Amount)
		}
		for _, c := range v.Charges {
			fmt.Fprintf(&b, ", %s %s", c.Field(), c.Amount)
		}
		fmt.Fprintf(&b, ": goods %s, tax %s, total %s", v.Goods, v.Tax, v.Total)
	}
	return b.String()
}

// A price that changes counts for what is open; what has moved or is invoiced keeps its own, and so it is billed and
// given back.
func TestPriceOfWhatIsOpen(t *testing.T) {
	e := twoLines(t)
	e.tellAll(t, []telling{
		{"a part leaves", intent.Shipment, `{"header": {"shipment": "S-1"}, "lines": [{"number": "1", "quantity": "4"}]}`, "",
			`changed 2; line 1 shipped was blank, is "4"`},
		{"the price rises", intent.Change, `{"lines": [{"number": "1", "unit_price": "10"}]}`, "",
			`changed 3; line 1 unit_price was "9.5", is "10"`},
		{"and rises again, with nothing moved between", intent.Change, `{"lines": [{"number": "1", "unit_price": "11"}]}`, "",
			`changed 4; line 1 unit_price was "10", is "11"`},
		{"the rest leaves", intent.Shipment, `{"header": {"shipment": "S-2", "quantities": "open"}}`, "",
			`changed 5; line 1 shipped was "4", is "10"; line 2 shipped was blank, is "4"`},
		{"two are billed", intent.Invoice, `{"header": {"invoice": "V-1"}, "lines": [{"number": "1", "quantity": "2"}]}`, "",
			`changed 6; line 1 invoiced was blank, is "2"`},
		{"five more, over the border of the prices", intent.Invoice,
			`{"header": {"invoice": "V-2"}, "lines": [{"number": "1", "quantity": "5"}]}`, "",
			`changed 7; line 1 invoiced was "2", is "7"`},
		{"the first is given back", intent.Invoice, `{"header": {"invoice": "C-1", "reverses": "V-1"}}`, "",
			`changed 8; line 1 invoiced was "7", is "5"`},
		{"all that is not billed", intent.Invoice, `{"header": {"quantities": "open"}}`, "",
			`changed 9; line 1 invoiced was "5", is "10"; line 2 invoiced was blank, is "4"; invoice was blank, is "IN-000001"`},
	})
	want := `order 362.00
V-1, 1: 2 at 9.50 is 19.00: goods 19.00, tax , total 19.00
V-2, 1: 2 at 9.50 is 19.00, 1: 3 at 11 is 33.00: goods 52.00, tax , total 52.00
C-1 against V-1, 1: -2 at 9.50 is -19.00: goods -19.00, tax , total -19.00
IN-000001, 1: 2 at 9.50 is 19.00, 1: 3 at 11 is 33.00, 2: 4 at 64.50 is 258.00: goods 310.00, tax , total 310.00`
	if got := e.billed(t); got != want {
		t.Errorf("%s\nnot\n%s", got, want)
	}
	e.tellAll(t, []telling{{"all of it", intent.Change,
		`{"lines": [{"number": "1", "unit_price": "9", "price_for": "all"}]}`, "",
		`changed 10; line 1 unit_price was "11", is "9"`}})
	if got, _, _ := strings.Cut(e.billed(t), "\n"); got != "order 348.00" {
		t.Error(got)
	}
}

const taxedMapping = `koinos: mapping/1
name: taxed
orders:
  kind: sales
  group: {by: key, columns: [Order]}
header:
  sender_number:  {from: Order, need: must}
  partner:        {value: OSTRAND}
  currency:       {value: EUR}
  charge.freight: {from: Freight}
lines:
  item:        {from: Item, list: items}
  quantity:    {from: Qty, need: must}
  unit_price:  {from: Price}
  price_basis: {from: Per}
  tax_percent: {value: "20"}
`

// The goods of an order's invoices come to the cent of the order, whatever parts it is billed in: what rounding leaves
// is in the last one, charges are billed once, and who gives all of an invoice back gives back exactly what it was.
func TestInvoicesToTheCent(t *testing.T) {
	for _, c := range []struct{ rule, want string }{
		{"first", `order 22.34
A, 1: 1 at 10 is 3.33, charge.freight 6.50: goods 3.33, tax 0.67, total 10.50
B, 1: 1 at 10 is 3.33: goods 3.33, tax 0.67, total 4.00
C, 1: 1 at 10 is 3.34, 2: 1 at 3.20 is 3.20: goods 6.54, tax 1.31, total 7.85`},
		{"share", `order 22.34
A, 1: 1 at 10 is 3.33, charge.freight 1.64: goods 3.33, tax 0.67, total 5.64
B, 1: 1 at 10 is 3.33, charge.freight 1.64: goods 3.33, tax 0.67, total 5.64
C, 1: 1 at 10 is 3.34, 2: 1 at 3.20 is 3.20, charge.freight 3.22: goods 6.54, tax 1.31, total 11.07`},
		{"last", `order 22.34
A, 1: 1 at 10 is 3.33: goods 3.33, tax 0.67, total 4.00
B, 1: 1 at 10 is 3.33: goods 3.33, tax 0.67, total 4.00
C, 1: 1 at 10 is 3.34, 2: 1 at 3.20 is 3.20, charge.freight 6.50: goods 6.54, tax 1.31, total 14.35`},
	} {
		e := testEngine(t, testStore(t), source.DefaultLimits)
		send(t, e, taxedMapping, []byte("Order,Item,Qty,Price,Per,Freight\nA-1,00417,3,10,3,6.50\nA-1,00501,1,3.20,1,\n"),
			Request{})
		e.told(t, intent.Shipment, `{"header": {"quantities": "open"}}`)
		for _, n := range []string{`"A"}, "lines": [{"number": "1", "quantity": "1"}]`,
			`"B"}, "lines": [{"number": "1", "quantity": "1"}]`,
			`"C", "quantities": "open"}`} {
			e.told(t, intent.Invoice, `{"header": {"charges_billed": "`+c.rule+`", "invoice": `+n+`}`)
		}
		if got := e.billed(t); got != c.want {
			t.Errorf("%s: %s\nnot\n%s", c.rule, got, c.want)
		}
		if c.rule != "share" {
			continue
		}
		e.tellAll(t, []telling{
			{"one line of it", intent.Invoice, `{"header": {"invoice": "R-1", "reverses": "C"}, "lines": ` +
				`[{"number": "2", "quantity": "1"}]}`, "",
				`changed 6; line 2 invoiced was "1", is "0"`},
			{"the same again", intent.Invoice, `{"header": {"invoice": "R-1", "reverses": "C"}, "lines": ` +
				`[{"number": "2", "quantity": "1"}]}`, "",
				"unchanged 6"},
			{"what is left", intent.Invoice, `{"header": {"invoice": "R-2", "reverses": "C"}}`, "",
				`changed 7; line 1 invoiced was "3", is "2"`},
			{"nothing is left", intent.Invoice, `{"header": {"invoice": "R-3", "reverses": "C"}}`, "",
				"refused 7; /header/reverses: The invoice C was taken back before."},
			{"of what takes back", intent.Invoice, `{"header": {"invoice": "R-3", "reverses": "R-1"}}`, "",
				"refused 7; /header/reverses: The invoice R-1 itself takes back C; bill once more what is owed."},
			{"of what is none", intent.Invoice, `{"header": {"invoice": "R-3", "reverses": "Z"}}`, "",
				"refused 7; /header/reverses: No invoice Z bills anything of the order SO-000001."},
			{"more than it bills", intent.Invoice, `{"header": {"invoice": "R-3", "reverses": "A"}, "lines": ` +
				`[{"number": "1", "quantity": "2"}]}`, "",
				"refused 7; /lines/0/quantity: Of line 1, 1 can be taken back of the invoice A, not 2."},
			{"a charge alone", intent.Invoice, `{"header": {"invoice": "R-4", "reverses": "B", "charge.freight": ` +
				`"2"}, "lines": [{"number": "1", "quantity": "1"}]}`, "",
				"refused 7; /header/charge.freight: Of charge.freight, 1.64 can be taken back of the invoice B, not 2."},
			{"a charge that it does not have", intent.Invoice,
				`{"header": {"invoice": "R-4", "reverses": "B", "charge.pallet": "2"}, "lines": [{"number": "1", "quantity": "1"}]}`, "",
				"refused 7; /header/charge.pallet: The invoice B bills no charge.pallet."},
			{"another total", intent.Invoice, `{"header": {"invoice": "R-4", "reverses": "B", "total": "9.99"}}`, "",
				"held 7; /header/total: The credit note states a total of 9.99; what it takes back of the invoice B makes 5.64."},
			{"the same invoice at another price", intent.Invoice,
				`{"header": {"invoice": "A"}, "lines": [{"number": "1", "quantity": "1", "unit_price": "5"}]}`, "",
				"refused 7; /header/invoice: The invoice A of OSTRAND came before, with other amounts."},
			{"a line without a quantity", intent.Invoice, `{"header": {"invoice": "D"}, "lines": [{"number": "1"}]}`, "",
				"refused 7; /lines/0/quantity: How much of line 1 is meant is not said."},
			{"a shipment without one", intent.Shipment,
				`{"header": {"shipment": "S-9"}, "lines": [{"number": "1", "quantity": " "}]}`, "",
				"refused 7; /lines/0/quantity: How much of line 1 is meant is not said."},
			{"the number of a credit note", intent.Invoice,
				`{"header": {"invoice": "R-1"}, "lines": [{"number": "1", "quantity": "1"}]}`, "",
				"refused 7; /header/invoice: The invoice R-1 takes back C, and does not bill anything."},
		})
		_, got, _ := strings.Cut(e.billed(t), "\nR-1")
		if want := ` against C, 2: -1 at 3.20 is -3.20: goods -3.20, tax -0.64, total -3.84
R-2 against C, 1: -1 at 10 is -3.34, charge.freight -3.22: goods -3.34, tax -0.67, total -7.23`; got != want {
			t.Errorf("%s\nnot\n%s", got, want)
		}
	}
}

// The price of a supplier's invoice that does not say how many units it is for is for as many as the order's, or for
// one.
func TestInvoicedPriceWithoutItsBasis(t *testing.T) {
	for _, c := range []struct{ price, want string }{
		{"231", `changed; row 2 column 4 line 1 invoiced was blank, is "60"`},
		{"23.10", `changed; row 2 column 4 line 1 invoiced was blank, is "60"`},
		{"31", "held; row 2 column 5: Line 1 is invoiced at 31 per 1; the order says 231 per 10: 474.00 EUR more.; " +
			"row 2 column 1: The invoice differs from the order by 474.00 EUR more."},
		{"200", "held; row 2 column 5: Line 1 is invoiced at 200 per 10; the order says 231 per 10: 186.00 EUR less.; " +
			"row 2 column 1: The invoice differs from the order by 186.00 EUR less."},
	} {
		e := testEngine(t, testStore(t), source.DefaultLimits)
		send(t, e, strings.Replace(taxedMapping, "kind: sales", "kind: purchase", 1),
			[]byte("Order,Item,Qty,Price,Per,Freight\nA-1,00417,60,231,10,\n"), Request{})
		e.told(t, intent.Receipt, `{"header": {"quantities": "open"}}`)
		bill := changedTable{[][]string{{"No", "Order", "Line", "Qty", "Price"}, {"R-1", "A-1", "1", "60", c.price}}, `koinos: mapping/1
name: example
orders: {kind: invoice, of: purchase, group: {by: key, columns: [No]}, hold: all}
header: {invoice: {from: No, need: must}, sender_number: {from: Order, need: must}, partner: {value: OSTRAND}}
lines: {number: {from: Line}, quantity: {from: Qty, need: must}, unit_price: {from: Price}}
`}
		if got := bill.load(t, e, false); got != c.want {
			t.Errorf("%s: %s\nnot %s", c.price, got, c.want)
		}
	}
}

// A share of the goods follows them: it is worked out anew when they change, and each invoice takes its part of it
// unless somebody says otherwise. A second one for the same adds to it.
func TestShareOfTheGoods(t *testing.T) {
	e := testEngine(t, testStore(t), source.DefaultLimits)
	mapping := strings.Replace(taxedMapping, "lines:", "  allowance_percent.discount: {from: Less}\nlines:", 1)
	send(t, e, mapping, []byte("Order,Item,Qty,Price,Per,Freight,Less\nA-1,00417,3,10,3,6.50,5%\nA-1,00501,1,3.20,1,,\n"), Request{})
	e.told(t, intent.Shipment, `{"header": {"quantities": "open"}}`)
	for _, n := range []string{`"A"}, "lines": [{"number": "1", "quantity": "1"}]`, `"B"}, "lines": [{"number": "1", "quantity": "1"}]`,
		`"C", "quantities": "open"}`} {
		e.told(t, intent.Invoice, `{"header": {"invoice": `+n+`}`)
	}
	want := `order 21.68
A, 1: 1 at 10 is 3.33, charge.freight 6.50, allowance.discount 0.17: goods 3.33, tax 0.67, total 10.33
B, 1: 1 at 10 is 3.33, allowance.discount 0.16: goods 3.33, tax 0.67, total 3.84
C, 1: 1 at 10 is 3.34, 2: 1 at 3.20 is 3.20, allowance.discount 0.33: goods 6.54, tax 1.31, total 7.52`
	if got := e.billed(t); got != want {
		t.Errorf("%s\nnot\n%s", got, want)
	}
	net := testEngine(t, testStore(t), source.DefaultLimits) // the same, taxed on what the discount and freight make of it
	send(t, net, strings.Replace(mapping, "lines:", "  tax_base: {value: with_charges}\nlines:", 1),
		[]byte("Order,Item,Qty,Price,Per,Freight,Less\nA-1,00417,3,10,3,6.50,5%\nA-1,00501,1,3.20,1,,\n"), Request{})
	net.told(t, intent.Shipment, `{"header": {"quantities": "open"}}`)
	for _, n := range []string{`"A"}, "lines": [{"number": "1", "quantity": "1"}]`, `"B", "quantities": "open"}`} {
		net.told(t, intent.Invoice, `{"header": {"invoice": `+n+`}`)
	}
	want = `order 22.84
A, 1: 1 at 10 is 3.33, charge.freight 6.50, allowance.discount 0.17: goods 3.33, tax 1.93, total 11.59
B, 1: 2 at 10 is 6.67, 2: 1 at 3.20 is 3.20, allowance.discount 0.49: goods 9.87, tax 1.88, total 11.26`
	if got := net.billed(t); got != want {
		t.Errorf("%s\nnot\n%s", got, want)
	}
	for _, c := range []struct{ change, total string }{
		{`{"lines": [{"number": "2", "quantity": "2"}]}`, "order 25.36"},                  // 16.40 − 0.82 + 3.28 tax + 6.50
		{`{"header": {"allowance_percent.discount": "10"}}`, "order 24.54"},               // 1.64
		{`{"header": {"allowance.discount": "1.00"}}`, "order 23.54"},                     // beside it
		{`{"header": {"charge_percent.surcharge": "2.5"}}`, "order 23.95"},                // 0.41
		{`{"header": {"allowance_percent.discount": " "}}`, "order 25.59"},                // the amount stays
		{`{"lines": [{"number": "2", "charge_percent.cutting": "12.5"}]}`, "order 26.39"}, // 0.80 of 6.40
	} {
		e.told(t, intent.Change, c.change)
		if got, _, _ := strings.Cut(e.billed(t), "\n"); got != c.total {
			t.Errorf("%s: %s, not %s", c.change, got, c.total)
		}
	}
}

// What came back opens nothing and is not billed; no more comes back than has moved.
func TestReturns(t *testing.T) {
	e := twoLines(t)
	e.tellAll(t, []telling{
		{"before anything has moved", intent.Return,
			`{"header": {"return": "R-1"}, "lines": [{"number": "1", "quantity": "1"}]}`, "",
			"held 1; /lines/0/quantity: Of line 1, 1 are returned now, more than the 0 that have moved."},
		{"all leaves", intent.Shipment, `{"header": {"shipment": "S-1", "quantities": "open"}}`, "",
			`changed 2; line 1 shipped was blank, is "10"; line 2 shipped was blank, is "4"`},
		{"some comes back", intent.Return, `{"header": {"return": "R-1", "reason": "wrong colour"}, "lines": ` +
			`[{"number": "1", "quantity": "3"}]}`, "",
			`changed 3; line 1 returned was blank, is "3"; because "wrong colour"`},
		{"the same", intent.Return, `{"header": {"return": "R-1"}, "lines": [{"number": "1", "quantity": "3"}]}`, "",
			"unchanged 3"},
		{"another of the number", intent.Return, `{"header": {"return": "R-1"}, "lines": [{"number": "1", "quantity": "4"}]}`,
			"",
			"refused 3; /header/return: The return R-1 of OSTRAND was posted before, with other quantities."},
		{"more than is out there", intent.Return,
			`{"header": {"return": "R-2"}, "lines": [{"number": "1", "quantity": "8"}]}`, "",
			"held 3; /lines/0/quantity: Of line 1, 11 are returned now, more than the 10 that have moved."},
		{"one of it did not", intent.Return, `{"header": {"return": "R-1B", "reverses": "R-1"}, "lines": ` +
			`[{"number": "1", "quantity": "1"}]}`, "",
			`changed 4; line 1 returned was "3", is "2"`},
		{"nothing is open", intent.Shipment, `{"header": {"shipment": "S-2", "quantities": "open"}}`, "", "unchanged 4"},
		{"billed without it", intent.Invoice, `{"header": {"invoice": "V-1", "quantities": "open"}}`, "",
			`changed 5; line 1 invoiced was blank, is "8"; line 2 invoiced was blank, is "4"`},
		{"billed with it", intent.Invoice, `{"header": {"invoice": "V-2"}, "lines": [{"number": "1", "quantity": "1"}]}`, "",
			"held 5; /lines/0/quantity: Of line 1, 9 are invoiced, more than the 8 that were shipped."},
		{"the rest of it comes back", intent.Return, `{"header": {"return": "R-3", "quantities": "open"}}`, "",
			`changed 6; line 1 returned was "2", is "10"; line 2 returned was blank, is "4"`},
	})
	if o, err := e.store.Order(context.Background(), 1); err != nil || o.Status != "complete" ||
		o.Lines[0].Returned.Plain() != "10" {
		t.Errorf("%s, %+v: %v", o.Status, o.Lines[0], err)
	}
}

// Quantities may come in another unit: exactly as many as the item's pack holds, and shown as they were said.
func TestOtherUnits(t *testing.T) {
	e := testEngine(t, testStore(t), source.DefaultLimits)
	send(t, e, strings.Replace(plainMapping, "lines:\n", "lines:\n  unit: {value: EA}\n", 1),
		[]byte(head+"A-1,2026-03-02,00417,30,9.50\n"), Request{})
	packs(t, e)
	e.tellAll(t, []telling{
		{"two boxes", intent.Shipment, `{"header": {"shipment": "S-1"}, "lines": [{"number": "1", "quantity": "2", "unit": "BX"}]}`, "",
			`changed 2; line 1 shipped was blank, is "24"; line 1 stated_quantity was blank, is "2 BX"`},
		{"the same as pieces", intent.Shipment, `{"header": {"shipment": "S-1"}, "lines": [{"number": "1", ` +
			`"quantity": "24"}]}`, "", "unchanged 2"},
		{"one box is too many", intent.Shipment, `{"lines": [{"number": "1", "quantity": "1", "unit": "BX"}]}`, "",
			"held 2; /lines/0/quantity: Of line 1, 36 are shipped now, more than the 30 that were ordered."},
		{"half a box", intent.Shipment, `{"header": {"shipment": "S-2"}, "lines": [{"number": "1", "quantity": "0.5", "unit": "BX"}]}`, "",
			`changed 3; line 1 shipped was "24", is "30"; line 1 stated_quantity was blank, is "0.5 BX"`},
		{"a unit of which nobody knows", intent.Shipment, `{"lines": [{"number": "1", "quantity": "1", "unit": "CT"}]}`, "",
			"refused 3; /lines/0/unit: Line 1 is ordered in EA; how many of these 1 CT are is not known."},
		{"half a box back", intent.Shipment, `{"header": {"reverses": "S-1"}, "lines": [{"number": "1", ` +
			`"quantity": "0.5", "unit": "BX"}]}`, "",
			`changed 4; line 1 shipped was "30", is "24"`},
		{"a box at the price of a box", intent.Invoice,
			`{"header": {"invoice": "V-1"}, "lines": [{"number": "1", "quantity": "1", "unit": "BX", "unit_price": "114"}]}`, "",
			`changed 5; line 1 invoiced was blank, is "12"`},
		{"a box at another price", intent.Invoice,
			`{"header": {"invoice": "V-2"}, "lines": [{"number": "1", "quantity": "1", "unit": "BX", "unit_price": "115"}]}`, "",
			"held 5; /lines/0/unit_price: Line 1 is invoiced at 115 per 12; the order says 9.50 per 1: 1.00 EUR more.; " +
				"/header/invoice: The invoice differs from the order by 1.00 EUR more."},
		{"the order becomes four boxes", intent.Change, `{"lines": [{"number": "1", "quantity": "4", "unit": "BX"}]}`, "",
			`changed 6; line 1 quantity was "30", is "48"`},
	})
}

// An order on hold keeps still until it is released.
func TestOnHold(t *testing.T) {
	e := twoLines(t)
	const ship = `{"header": {"shipment": "S-1", "quantities": "open"}}`
	e.tellAll(t, []telling{
		{"put on hold", intent.Change, `{"header": {"on_hold": "credit limit"}}`, "",
			`changed 2; on_hold was blank, is "credit limit"`},
		{"nothing leaves", intent.Shipment, ship, "", "held 2; : The order SO-000001 is on hold: credit limit."},
		{"it can be changed", intent.Change, `{"lines": [{"number": "1", "quantity": "9"}]}`, "",
			`changed 3; line 1 quantity was "10", is "9"`},
		{"released", intent.Change, `{"header": {"on_hold": "", "reason": "paid"}}`, "",
			`changed 4; on_hold was "credit limit", is blank; because "paid"`},
		{"it leaves", intent.Shipment, ship, "",
			`changed 5; line 1 shipped was blank, is "9"; line 2 shipped was blank, is "4"`},
		{"on hold once more", intent.Change, `{"header": {"on_hold": "dispute"}}`, "",
			`changed 6; on_hold was blank, is "dispute"`},
		{"no bill", intent.Invoice, `{"header": {"quantities": "open"}}`, "",
			"held 6; : The order SO-000001 is on hold: dispute."},
		{"a mistake is put right all the same", intent.Shipment, `{"header": {"shipment": "S-1R", "reverses": "S-1"}}`, "",
			`changed 7; line 1 shipped was "9", is "0"; line 2 shipped was "4", is "0"`},
		{"accepted", intent.Shipment, `{"header": {"shipment": "S-2", "quantities": "open"}}`, finding.OnHold,
			`changed 8; line 1 shipped was "0", is "9"; line 2 shipped was "0", is "4"; : The order SO-000001 is on hold: dispute.`},
	})
}

// packs says in the list items that a box of 00417 holds 12.
func packs(t *testing.T, e *Engine) {
	t.Helper()
	for name, entries := range map[string][]list.Entry{"units": {{Code: "EA"}, {Code: "BX"}, {Code: "CT"}},
		"items": {{Code: "00417", Attributes: map[string]string{"unit": "EA", "per BX": "12"}}}} {
		if err := e.store.PutList(context.Background(), name, entries, time.Now()); err != nil {
			t.Fatal(err)
		}
	}
}

// What the supplier answers is compared with what was ordered, whatever code it gives: quantities in all, prices, days,
// and lines that nobody has answered.
func TestAnswersCompared(t *testing.T) {
	e := testEngine(t, testStore(t), source.DefaultLimits)
	send(t, e, strings.NewReplacer("kind: sales", "kind: purchase", "OSTRAND", "VARNHOLT", "lines:\n",
		"  requested_delivery_on: {value: 2026-03-24}\nlines:\n").Replace(plainMapping),
		[]byte(head+"A-1,2026-03-02,00417,40,9.50\nA-1,,00501,4,64.50\n"), Request{})
	ask := func(lines string) string { return `{"lines": [` + lines + `]}` }
	second := `, {"number": "2", "answer": "IA"}`
	e.tellAll(t, []telling{
		{"as it was ordered", intent.Answer, ask(`{"number": "1", "answer": "IA", "accepted": "40", "due_on": ` +
			`"2026-03-24", "unit_price": "9.5"}` + second), "",
			`changed 2; line 1 answer was blank, is "IA"; line 2 answer was blank, is "IA"`},
		{"another price, and called accepted", intent.Answer, ask(`{"number": "1", "answer": "IA", "unit_price": "9.80"}` +
			second), "",
			"changed 3; /lines/0/answer: Line 1 is accepted with changes (IA): price 9.80 for 9.50."},
		{"a part at once, a part later", intent.Answer,
			ask(`{"number": "1", "answer": "IA", "accepted": "30"}, {"number": "1", "answer": "IB", "accepted": ` +
				`"10", "due_on": "2026-04-03"}` + second), "",
			`changed 4; line 1 answer was "IA", is "IB"; /lines/0/answer: Line 1 is accepted with changes (IA): 10 due 2026-04-03.`},
		{"less in all", intent.Answer, ask(`{"number": "1", "answer": "IA", "accepted": "20"}, {"number": "1", ` +
			`"answer": "IB", "accepted": "10", "due_on": "2026-03-24"}` + second), "",
			`changed 5; line 1 answer was "IA", is "IB"; /lines/0/answer: Line 1 is accepted with changes (IA): quantity 30 of 40.`},
		{"a remark and nothing else", intent.Answer, ask(`{"number": "1", "reason": "no stock until May"}` + second), "",
			`changed 6; line 1 answer was "IA", is "pending"; /lines/0/answer: Line 1: not decided by the seller yet.`},
		{"refused", intent.Answer, ask(`{"number": "1", "answer": "refused", "reason": "discontinued"}` + second), "",
			`changed 7; line 1 answer was "pending", is "refused"; /lines/0/answer: Line 1 is rejected; ` +
				`what is wanted of it must come from elsewhere.`},
	})
	o := testEngine(t, testStore(t), source.DefaultLimits)
	send(t, o, strings.NewReplacer("kind: sales", "kind: purchase", "OSTRAND", "VARNHOLT").Replace(plainMapping),
		[]byte(head+"A-1,2026-03-02,00417,40,9.50\nA-1,,00501,4,64.50\nA-1,,00417,1,9.50\n"), Request{})
	o.tellAll(t, []telling{
		{"lines without an answer", intent.Answer, ask(`{"number": "1", "answer": "IA"}`), "",
			`changed 2; line 1 answer was blank, is "IA"; : Lines 2, 3 are not answered.`},
		{"one of them", intent.Answer, ask(`{"number": "1", "answer": "IA"}, {"number": "3", "answer": "IA"}`), "",
			`changed 3; line 3 answer was blank, is "IA"; : Line 2 is not answered.`},
		{"the other one, later", intent.Answer, ask(`{"number": "2", "answer": "IA"}`), "",
			`changed 4; line 2 answer was blank, is "IA"`},
	})
}

// An answer to an order as a whole says what its word says, for the day that it names; what is no answer is none.
func TestAnswersToWholeOrders(t *testing.T) {
	for _, c := range []struct{ name, header, want, stage string }{
		{"yes", `"answer": "accepted"`, "changed 2", "confirmed"},
		{"yes, for the day asked for", `"answer": "AT", "due_on": "2026-03-24"`, `changed 2; ` +
			`line 1 answer was blank, is "accepted"; line 2 answer was blank, is "accepted"`, "confirmed"},
		{"a day alone", `"due_on": "2026-04-01"`, `changed 2; ` +
			`line 1 answer was blank, is "accepted"; line 2 answer was blank, is "accepted"; ` +
			`: Line 1 is accepted with changes: due 2026-04-01.; : Line 2 is accepted with changes: due 2026-04-01.`, "confirmed"},
		{"not yet", `"answer": "pending", "due_on": "2026-04-01"`, "changed 2", ""},
		{"no", `"answer": "Refused", "due_on": "2026-04-01"`,
			`changed 2; /header/answer: The whole order is rejected; what is wanted of it must come from elsewhere.`, ""},
		{"neither", `"answer": "N"`, `refused 1; /header/answer: "N" is no answer to an order.`, ""},
	} {
		e := testEngine(t, testStore(t), source.DefaultLimits)
		send(t, e, strings.NewReplacer("kind: sales", "kind: purchase", "OSTRAND", "VARNHOLT", "lines:\n",
			"  requested_delivery_on: {value: 2026-03-24}\nlines:\n").Replace(plainMapping),
			[]byte(head+"A-1,2026-03-02,00417,40,9.50\nA-1,,00501,4,64.50\n"), Request{})
		e.tellAll(t, []telling{{c.name, intent.Answer, `{"header": {` + c.header + `}, "lines": []}`, "", c.want}})
		if o, err := e.store.Order(context.Background(), 1); err != nil || string(o.Stage) != c.stage {
			t.Errorf("%s: %s, not %s: %v", c.name, o.Stage, c.stage, err)
		}
	}
}

// A change can cancel an order as a whole, as far as it is open; what is no word for it changes nothing.
func TestWholeOrdersCancelled(t *testing.T) {
	e := testEngine(t, testStore(t), source.DefaultLimits)
	send(t, e, plainMapping, []byte(head+"A-1,2026-03-02,00417,40,9.50\nA-1,,00501,4,64.50\n"), Request{})
	change := func(word, lines string) string {
		return `{"header": {"change": "` + word + `", "reason": "closed"}, "lines": [` + lines + `]}`
	}
	e.tellAll(t, []telling{
		{"some leave", intent.Shipment, `{"header": {"shipment": "S-1"}, "lines": [{"number": "1", "quantity": "15"}]}`, "",
			`changed 2; line 1 shipped was blank, is "15"`},
		{"no word", intent.Change, change("N", ""), "", `refused 2; /header/change: "N" does not say what is to become of the order.`},
		{"no word for an order", intent.Change, change("add", ""), "",
			`refused 2; /header/change: "add" does not say what is to become of the order.`},
		{"with lines", intent.Change, change("delete", `{"number": "2"}`), "", "refused 2; /header/change: The whole order is to be " +
			"cancelled, and lines are named besides: it is not clear what is meant."},
		{"all that is open, of which some has left", intent.Change, change("Delete", ""), "",
			"held 2; : Line 1 is to be withdrawn, but 15 of it have moved; the rest is cancelled."},
		{"the rest", intent.Change, change("Delete", ""), "notice_differs", `changed 3; line 1 cancelled was blank, is "25"; ` +
			`line 2 cancelled was blank, is "4"; because "closed"; ` +
			`: Line 1 is to be withdrawn, but 15 of it have moved; the rest is cancelled.`},
		{"again", intent.Change, change("delete", ""), "",
			"unchanged 3; : Line 1 is to be withdrawn, but 15 of it have moved; the rest is cancelled."},
	})
	o, err := e.store.Order(context.Background(), 1)
	if err != nil || string(o.Status) != "complete" || o.Total.String() != "142.50" {
		t.Errorf("%s, %s, %v", o.Status, o.Total, err)
	}
}

// A line that had no price gets its first one as a whole; an order that a newer one takes the place of stays on hold.
func TestFirstPriceAndHoldStay(t *testing.T) {
	e := testEngine(t, testStore(t), source.DefaultLimits)
	revise := strings.Replace(plainMapping, "orders:\n", "orders:\n  again: {do: revise, newer: ordered_on}\n", 1)
	send(t, e, revise, []byte(head+"A-1,2026-03-02,00417,10,\n"), Request{})
	e.tellAll(t, []telling{
		{"some leave", intent.Shipment, `{"header": {"shipment": "S-1"}, "lines": [{"number": "1", "quantity": "4"}]}`, "",
			`changed 2; line 1 shipped was blank, is "4"`},
		{"the first price", intent.Change, `{"lines": [{"number": "1", "unit_price": "9.50"}]}`, "",
			`changed 3; line 1 unit_price was blank, is "9.5"`},
		{"on hold", intent.Change, `{"header": {"on_hold": "dispute"}}`, "", `changed 4; on_hold was blank, is "dispute"`},
	})
	if got := e.billed(t); got != "order 95.00" {
		t.Error(got)
	}
	send(t, e, revise, []byte(head+"A-1,2026-03-09,00417,12,9.50\n"), Request{})
	if o, err := e.store.Order(context.Background(), 1); err != nil || o.Revision != 5 || o.OnHold != "dispute" ||
		o.Total.String() != "114.00" {
		t.Errorf("revision %d, on hold %q, %s, %v", o.Revision, o.OnHold, o.Total, err)
	}
}
