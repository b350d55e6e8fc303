package load

import (
	"bytes"
	"context"
	"encoding/csv"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"testing"

	"koinos/core/intent"
	"koinos/core/listing"
	"koinos/core/order"
	"koinos/core/source"
	"koinos/store"
)

// changedTable is a table of the stored order that was exported for changes, with the mapping that takes it in.
type changedTable struct {
	rows    [][]string
	mapping string
}

func (e *Engine) tableOfChanges(t *testing.T, columns ...string) changedTable {
	t.Helper()
	l, err := listing.New(listing.Choice{For: intent.Change, Columns: columns})
	if err != nil {
		t.Fatal(err)
	}
	return e.tableOf(t, l)
}

// tableOf is the table that a listing makes of the stored order.
func (e *Engine) tableOf(t *testing.T, l *listing.Listing) changedTable {
	t.Helper()
	o, err := e.store.Order(context.Background(), 1)
	if err != nil {
		t.Fatal(err)
	}
	table := changedTable{rows: [][]string{l.Sheets()[0].Headings}}
	if err := l.Rows(&o.Order, func(_ int, row []string) error { table.rows = append(table.rows, row); return nil }); err != nil {
		t.Fatal(err)
	}
	if table.mapping, err = l.Mapping("example", o.Kind); err != nil {
		t.Fatal(err)
	}
	return table
}

// with returns the table with other values in some cells, each by its row and column, such as "1 notes=soon".
func (c changedTable) with(t *testing.T, cells ...string) changedTable {
	t.Helper()
	out := changedTable{mapping: c.mapping}
	for _, row := range c.rows {
		out.rows = append(out.rows, append([]string{}, row...))
	}
	for _, cell := range cells {
		where, value, _ := strings.Cut(cell, "=")
		number, column, _ := strings.Cut(where, " ")
		row, err := strconv.Atoi(number)
		if err != nil {
			t.Fatal(cell, err)
		}
		found := false
		for i, name := range out.rows[0] {
			if name == column {
				out.rows[row][i], found = value, true
			}
		}
		if !found {
			t.Fatalf("there is no column %s in %q", column, out.rows[0])
		}
	}
	return out
}

// load loads the table, and says what became of the order.
func (c changedTable) load(t *testing.T, e *Engine, dry bool) string {
	t.Helper()
	var doc bytes.Buffer
	if err := csv.NewWriter(&doc).WriteAll(c.rows); err != nil {
		t.Fatal(err)
	}
	req := Request{}
	req.Options.DryRun = dry
	l := send(t, e, c.mapping, doc.Bytes(), req)
	outcomes, _, err := e.store.Outcomes(context.Background(), l.ID, store.OutcomeFilter{Limit: 10})
	if err != nil || len(outcomes) != 1 {
		t.Fatal(outcomes, err)
	}
	got := string(outcomes[0].Outcome)
	for i := range outcomes[0].Changes {
		got += "; " + outcomes[0].Changes[i].At + " " + outcomes[0].Changes[i].String()
	}
	found, err := e.store.Findings(context.Background(), l.ID, store.FindingFilter{Limit: 10})
	if err != nil {
		t.Fatal(err)
	}
	for _, f := range found {
		got += "; " + f.At + ": " + f.Message
	}
	return got
}

// A table that was written for changes changes what somebody has changed in it, and nothing else: whatever became of
// the order in the meantime stays, and where both have changed the same, neither wins in silence.
func TestChangedTable(t *testing.T) {
	e := twoLines(t)
	e.tellAll(t, []telling{
		{"facts of the header", intent.Change, `{"header": {"notes": "call first", "ship_to.name": "Yard", "ship_to.city": "Sundvik", ` +
			`"charge.freight": "12.50", "custom.hull": "H1"}, "lines": [{"number": "2", "description": "Lantern"}]}`, "",
			`changed 2; notes was blank, is "call first"; ship_to.name was blank, is "Yard"; ship_to.city was blank, is "Sundvik"; ` +
				`charge.freight was blank, is "12.5"; custom.hull was blank, is "H1"; line 2 description was blank, is "Lantern"`},
	})
	e.tellAll(t, []telling{{"a part of a party, and a letter's case", intent.Change,
		`{"header": {"ship_to.street": "Pier 4"}, "lines": [{"number": "2", "description": "LANTERN"}]}`, "",
		`changed 3; ship_to.street was blank, is "Pier 4"; line 2 description was "Lantern", is "LANTERN"`}})
	e.told(t, intent.Change, `{"header": {"ship_to.street": " "}, "lines": [{"number": "2", "description": "Lantern"}, {"number": "1", "change": "delete"}]}`)
	columns := []string{"notes", "ship_to.name", "ship_to.city", "charge.freight", "custom.hull", "lines.description", "lines.quantity",
		"lines.unit_price"}
	table := e.tableOfChanges(t, columns...)
	for _, c := range []struct {
		name  string
		cells []string
		want  string
	}{
		{"nothing: a cancelled line stays so", nil, "unchanged"},
		{"a fact of the header", []string{"1 notes=soon"}, `differs; row 2 column 6 notes was "call first", is "soon"`},
		{"letter case alone", []string{"2 lines.description=LANTERN"}, `differs; row 3 column 11 line 2 description was "Lantern", is "LANTERN"`},
		{"one part of a party", []string{"1 ship_to.city=Aby"}, `differs; row 2 column 8 ship_to.city was "Sundvik", is "Aby"`},
		{"a part of a party made blank", []string{"1 ship_to.city="}, `differs; row 2 column 8 ship_to.city was "Sundvik", is blank`},
		{"a charge made blank", []string{"1 charge.freight="}, `differs; row 2 column 9 charge.freight was "12.5", is blank`},
		{"a field of a line made blank", []string{"2 lines.description="}, `differs; row 3 column 11 line 2 description was "Lantern", is blank`},
		{"a quantity made blank", []string{"2 lines.quantity="}, `refused; row 3 column 12: quantity was 4, and cannot be made blank.`},
		{"blank as it was", []string{"1 lines.description="}, "unchanged"},
		{"another item, by its line", []string{"2 lines.item=00417"}, `differs; row 3 column 5 line 2 item was "00501", is "00417"`},
		{"a revision that never was", []string{"1 revision=9", "2 revision=9"},
			"refused; row 2 column 2: The order SO-000001 has no revision 9; it is at revision 4 now."},
		{"no revision: what the table says is what the order becomes", []string{"1 revision=", "2 revision=", "1 notes="},
			`differs; row 2 line 1 cancelled was "10", is blank`},
		{"the facts without their row", []string{"1 notes=", "1 ship_to.name=", "1 ship_to.city=", "1 charge.freight=", "1 custom.hull="},
			"unchanged; row 2 column 6: All that the header says of the order SO-000001 is blank, as if its first row were missing: it stays as it is."},
	} {
		if got := table.with(t, c.cells...).load(t, e, true); got != c.want {
			t.Errorf("%s: %s\nnot %s", c.name, got, c.want)
		}
	}
	// What the table does not show of the goods is not kept for others; the day of the order can be changed, too.
	narrow := e.tableOfChanges(t, "ordered_on")
	for _, c := range []struct{ cell, want string }{
		{"2 lines.item=00417", `differs; row 3 column 5 line 2 item was "00501", is "00417"; row 3 line 2 description was "Lantern", is blank`},
		{"1 ordered_on=2026-03-05", `differs; row 2 column 6 ordered_on was "2026-03-02", is "2026-03-05"`},
	} {
		if got := narrow.with(t, c.cell).load(t, e, true); got != c.want {
			t.Errorf("%s: %s\nnot %s", c.cell, got, c.want)
		}
	}
	// Others change the order, and goods of it move.
	e.told(t, intent.Change, `{"header": {"notes": "ring twice"}, "lines": [{"number": "2", "unit_price": "60"}]}`)
	e.told(t, intent.Shipment, `{"header": {"shipment": "S-1"}, "lines": [{"number": "2", "quantity": "1"}]}`)
	for _, c := range []struct {
		name  string
		cells []string
		want  string
	}{
		{"nothing", nil, "unchanged"},
		{"something else", []string{"1 custom.hull=H2", "2 lines.quantity=6"}, `differs; row 2 column 10 custom.hull was "H1", is "H2"; ` +
			`row 3 column 12 line 2 quantity was "4", is "6"`},
		{"the same", []string{"1 notes=soon", "2 lines.unit_price=59"},
			`refused; row 2 column 6: notes was call first at revision 4 of the order SO-000001, and is ring twice now; here it is soon.; ` +
				`row 3 column 13: unit_price was 64.5 at revision 4 of the order SO-000001, and is 60 now; here it is 59.`},
		{"the same, in the same way", []string{"1 notes=ring twice", "2 lines.unit_price=60.00"}, "unchanged"},
		{"made blank what others changed", []string{"1 notes="},
			`refused; row 2 column 6: notes was call first at revision 4 of the order SO-000001, and is ring twice now; here it is (blank).`},
	} {
		if got := table.with(t, c.cells...).load(t, e, true); got != c.want {
			t.Errorf("later, %s: %s\nnot %s", c.name, got, c.want)
		}
	}
	// The same table is loaded, loaded again, and changed further.
	table = table.with(t, "1 custom.hull=H2")
	for _, want := range []string{`changed; row 2 column 10 custom.hull was "H1", is "H2"`, "unchanged"} {
		if got := table.load(t, e, false); got != want {
			t.Errorf("%s, not %s", got, want)
		}
	}
	if got, want := table.with(t, "2 lines.description=Lamp").load(t, e, false), `changed; row 3 column 11 line 2 description was "Lantern", is "Lamp"`; got != want {
		t.Errorf("%s, not %s", got, want)
	}
}

// What is filled in counts once by its number, which nothing has that was posted without one in the meantime.
func TestTableThatIsFilledIn(t *testing.T) {
	e := twoLines(t)
	l, err := listing.New(listing.Choice{For: intent.Shipment})
	if err != nil {
		t.Fatal(err)
	}
	table := e.tableOf(t, l).with(t, "1 ship now=4")
	e.tellAll(t, []telling{{"the same goods, by somebody else", intent.Shipment, `{"lines": [{"number": "1", "quantity": "4"}]}`, "",
		`changed 2; line 1 shipped was blank, is "4"`}})
	for _, c := range []struct{ cells, want string }{
		{"1 ship now=4", `changed; row 2 column 21 line 1 shipped was "4", is "8"`},
		{"1 ship now=4", "unchanged"},
		{"2 ship now=1", "refused; row 2 column 1: The shipment SO-000001/2T of OSTRAND was posted before, with other quantities."},
	} {
		if got := table.with(t, c.cells).load(t, e, false); got != c.want {
			t.Errorf("%s: %s\nnot %s", c.cells, got, c.want)
		}
	}
}

// What is billed in a table is made an invoice at the order's prices, with its charges; more than has moved waits.
func TestTableOfWhatIsBilled(t *testing.T) {
	e := testEngine(t, testStore(t), source.DefaultLimits)
	send(t, e, taxedMapping, []byte("Order,Item,Qty,Price,Per,Freight\nA-1,00417,3,10,3,6.50\nA-1,00501,1,3.20,1,\n"), Request{})
	e.told(t, intent.Shipment, `{"lines": [{"number": "1", "quantity": "2"}, {"number": "2", "quantity": "1"}]}`)
	l, err := listing.New(listing.Choice{For: intent.Invoice})
	if err != nil {
		t.Fatal(err)
	}
	table := e.tableOf(t, l)
	if got, want := table.with(t, "1 bill now=3").load(t, e, false), "held; row 2 column 21: Of line 1, 3 are invoiced, more than the 2 that were shipped."; got != want {
		t.Errorf("%s\nnot %s", got, want)
	}
	if got, want := table.with(t, "1 bill now=2", "2 bill now=1").load(t, e, false), `changed; row 2 column 21 line 1 invoiced was blank, is "2"; `+
		`row 3 column 21 line 2 invoiced was blank, is "1"`; got != want {
		t.Errorf("%s\nnot %s", got, want)
	}
	if got, want := e.billed(t), `order 22.34
SO-000001/3T, 1: 2 at 10 is 6.67, 2: 1 at 3.20 is 3.20, charge.freight 6.50: goods 9.87, tax 1.97, total 18.34`; got != want {
		t.Errorf("%s\nnot %s", got, want)
	}
	// A supplier's invoice of which only the quantities are known costs what was ordered.
	bought := testEngine(t, testStore(t), source.DefaultLimits)
	send(t, bought, strings.Replace(plainMapping, "kind: sales", "kind: purchase", 1), []byte(head+"A-1,2026-03-02,00417,10,9.50\n"), Request{})
	bought.told(t, intent.Receipt, `{"header": {"quantities": "open"}}`)
	if got, want := bought.tableOf(t, l).with(t, "1 bill now=4").load(t, bought, false), `changed; row 2 column 21 line 1 invoiced was blank, is "4"`; got != want {
		t.Errorf("%s\nnot %s", got, want)
	}
	if got := bought.billed(t); !strings.HasSuffix(got, "1: 4 at 9.50 is 38.00: goods 38.00, tax , total 38.00") {
		t.Error(got)
	}
	// A sheet that says what was billed elsewhere is taken at its word.
	mapping := `koinos: mapping/1
name: example
orders: {kind: invoice, of: sales, group: {by: key, columns: [No]}}
header: {invoice: {from: No, need: must}, sender_number: {from: Order, need: must}, partner: {value: OSTRAND}}
lines: {number: {from: Line}, quantity: {from: Qty, need: must}, amount: {from: Amount}}
`
	send(t, e, mapping, []byte("No,Order,Line,Qty,Amount\nE-7,A-1,1,1,3.33\n"), Request{})
	if got := e.billed(t); !strings.HasSuffix(got, "\nE-7, 1: 1 at  is 3.33: goods 3.33, tax , total 3.33") {
		t.Error(got)
	}
}

// Whichever cell of a table with all columns somebody changes, or makes blank, that is the one change of the order; or
// the order is refused, and the finding says why.
func TestAnyCellIsOneChange(t *testing.T) {
	if testing.Short() {
		t.Skip("it looks for no races")
	}
	e := twoLines(t)
	e.told(t, intent.Change, `{"header": {"notes": "call first", "ship_to.name": "Yard", "ship_to.city": "Sundvik", "charge.freight": "12.50", `+
		`"allowance_percent.discount": "5", "custom.hull": "H1", "reference.contract": "C-9", "requested_delivery_on": "2026-04-20"}, "lines": `+
		`[{"number": "2", "description": "Lantern", "gtin": "2004417001597", "custom.hull": "L2", "charge.cutting": "3", "tax_percent": "19", `+
		`"price_basis": "10", "notes": "green"}]}`)
	columns := []string{"custom.hull", "charge.freight", "allowance_percent.discount", "reference.contract", "lines.custom.hull", "lines.charge.cutting"}
	for _, c := range listing.Columns() {
		if !c.Family {
			columns = append(columns, c.Name)
		}
	}
	table := e.tableOfChanges(t, columns...)
	var refused []string
	for i, column := range table.rows[0] {
		name, ofLine := strings.CutPrefix(column, "lines.")
		level, row := order.Header, 1
		if ofLine {
			level, row = order.Lines, 2
		}
		f, known := order.Lookup(level, name)
		if !known || !strings.Contains(table.mapping, fmt.Sprintf(": {from: %q}\n", column)) {
			continue // it is a key, or only shown
		}
		was := table.rows[row][i]
		is := was + "x"
		switch f.Type {
		case order.Decimal, order.Percent:
			is = "17"
		case order.Day:
			is = "2026-04-19"
		case order.Choice:
			is = f.Choices[len(f.Choices)-1]
		case order.Currency:
			is = "SEK"
		case order.Parts:
			is = "4, arrives 2026-04-21"
		}
		for _, to := range []string{is, ""} {
			if to == was {
				continue
			}
			got := table.with(t, fmt.Sprintf("%d %s=%s", row, column, to)).load(t, e, true)
			shown := "blank"
			if to != "" {
				shown = fmt.Sprintf("%q", to)
			}
			switch outcome, says, _ := strings.Cut(got, "; "); {
			case outcome == "refused" && says != "":
				refused = append(refused, column+": "+says)
			case outcome != "differs" || strings.Count(got, "; ") != 1 || !strings.Contains(says, name+" was ") || !strings.HasSuffix(says, ", is "+shown):
				t.Errorf("%s, from %q to %q: %s", column, was, to, got)
			}
		}
	}
	want := []string{`lines.item: row 3 column 107: "00501x" is not in the list items.`,
		"lines.quantity: row 3 column 112: quantity was 4, and cannot be made blank.",
		`lines.unit: row 3 column 113: "x" is not in the list units.`}
	if !slices.Equal(refused, want) {
		t.Errorf("refused are %q, not %q", refused, want)
	}
}
