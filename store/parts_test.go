package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"koinos/core/order"
)

// Quantities are what encoding/json reads, whatever stands in the texts beside them; what is cut off is an error.
func TestQuantities(t *testing.T) {
	texts := []string{"", "L 1", `"`, `\`, `\"`, "}", `},{"line":9,"quantity":"9"}`, "]", "é\n"}
	for seed := range uint64(300) {
		r := rand.New(rand.NewPCG(seed, 3))
		lines := make([]order.MovementLine, r.IntN(5))
		var want []string
		for i := range lines {
			lines[i] = order.MovementLine{Line: r.IntN(2000), Quantity: order.MustNumber(fmt.Sprintf("%d.%02d", r.IntN(9)-4, r.IntN(100))),
				Lot: texts[r.IntN(len(texts))], LineDetail: order.LineDetail{Package: texts[r.IntN(len(texts))]}}
			want = append(want, fmt.Sprint(lines[i].Line, " ", lines[i].Quantity))
		}
		text, err := movedLine.AppendAll(nil, lines)
		if err != nil {
			t.Fatal(err)
		}
		read := func(text string) (got []string, err error) {
			err = quantities(text, func(line int, n order.Number) error {
				got = append(got, fmt.Sprint(line, " ", n))
				return nil
			})
			return got, err
		}
		if got, err := read(string(text)); err != nil || !slices.Equal(got, want) {
			t.Fatalf("%s: %q, %v; want %q", text, got, err, want)
		}
		for n := 1; n < len(text); n++ {
			if got, err := read(string(text[:n])); err == nil && !strings.HasSuffix(string(text[:n]), "[]") {
				t.Fatalf("%s cut off: %q", text[:n], got)
			}
		}
	}
}

// Movements and invoices that an earlier version stored, a row for each line, are the same when a row has all lines of
// an order: their sequence, which is not that of the lines' ids, what was said besides, and those of several orders.
// The references of its orders find them.
func TestPartsOfAnEarlierVersion(t *testing.T) {
	ctx, dir := context.Background(), t.TempDir()
	file := filepath.Join(dir, DatabaseFile)
	db, err := sql.Open("sqlite3", address(file, "off"))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	all, err := migrator(db)
	if err == nil {
		_, err = all.UpTo(ctx, 33)
	}
	if err != nil {
		t.Fatal(err)
	}
	for _, query := range []string{
		`INSERT INTO orders (id, kind, number, identity, fingerprint, status, revision, partner, total, line_count, last_line)
			VALUES (1, 'sales', 'SO-1', 'a', x'', 'partial', 5, 'P', '0', 2, 2), (2, 'sales', 'SO-2', 'b', x'', 'partial', 2, 'P', '0', 1, 1)`,
		`UPDATE orders SET more = '{"payment_terms":"N30","references":[{"qualifier":"job","value":"J-7"},{"qualifier":"contract","value":"C"}]}' WHERE id = 1`,
		`INSERT INTO lines (order_id, n, id, quantity) VALUES (1, 1, 1, '40'), (1, 2, 2, '9'), (2, 1, 1, '3')`,
		`INSERT INTO movements (id, kind, partner, number, moved_on, more) VALUES
			(7, 'shipment', 'P', 'LS-7', '2026-03-04', '{"carrier":"Gull","packages":"2"}'), (9, 'shipment', 'P', 'LS-9', NULL, '{"reverses":"LS-7"}')`,
		`INSERT INTO movement_lines (movement_id, order_id, line_id, n, revision, quantity, lot, more) VALUES
			(7, 1, 2, 1, 2, '4', 'L "1"', NULL), (7, 1, 1, 2, 2, '24', NULL, '{"told":"2","told_unit":"box"}'), (7, 1, 2, 3, 2, '1.50', NULL, NULL),
			(7, 2, 1, 1, 2, '3', NULL, NULL), (9, 1, 1, 1, 3, '-4', NULL, NULL)`,
		`INSERT INTO invoices (id, partner, number, invoiced_on, currency) VALUES (3, 'P', 'IN-3', '2026-03-09', 'EUR')`,
		`INSERT INTO invoice_lines (invoice_id, order_id, line_id, n, revision, quantity, unit_price, amount, more) VALUES
			(3, 1, 2, 1, 4, '4', '9.50', '38.00', '{"tax_percent":"20"}'), (3, 1, 1, 2, 4, '20', NULL, NULL, NULL)`,
		`INSERT INTO invoice_parts VALUES (1, 3, 4, '{"charges":[{"code":"freight","amount":"5.00"}],"total":"43.00"}')`,
	} {
		if _, err := db.ExecContext(ctx, query); err != nil {
			t.Fatal(query, err)
		}
	}
	if err := db.Close(); err != nil {
		t.Fatal(err)
	}
	s := open(t, dir)
	for value, want := range map[string]string{"j-7": "[1]", "J-8": "[]"} {
		ids, err := s.OrdersOf(ctx, Spoken{Kind: order.Sales, Partner: "P", References: []order.Reference{{Qualifier: "job", Value: value}}})
		if got := fmt.Sprint(ids); err != nil || got != want {
			t.Errorf("%s: %s, not %s: %v", value, got, want, err)
		}
	}
	for id, want := range map[int64]string{
		1: `{"movements":[{"id":7,"kind":"shipment","partner":"P","number":"LS-7","on":"2026-03-04","carrier":"Gull","packages":"2","lines":[` +
			`{"line":2,"quantity":"4","lot":"L \"1\"","order_revision":2},` +
			`{"line":1,"quantity":"24","order_revision":2,"told":"2","told_unit":"box"},{"line":2,"quantity":"1.50","order_revision":2}]},` +
			`{"id":9,"kind":"shipment","partner":"P","number":"LS-9","reverses":"LS-7","lines":[{"line":1,"quantity":"-4","order_revision":3}]}],` +
			`"invoices":[{"id":3,"partner":"P","number":"IN-3","on":"2026-03-09","currency":"EUR","lines":[` +
			`{"line":2,"quantity":"4","unit_price":"9.50","amount":"38.00","order_revision":4,"tax_percent":"20"},` +
			`{"line":1,"quantity":"20","order_revision":4}],"charges":[{"code":"freight","amount":"5.00"}],"total":"43.00"}],` +
			`"shipped":["20","5.50"],"invoiced":["20","4"]}`,
		2: `{"movements":[{"id":7,"kind":"shipment","partner":"P","number":"LS-7","on":"2026-03-04","carrier":"Gull","packages":"2","lines":[` +
			`{"line":1,"quantity":"3","order_revision":2}]}],"invoices":null,"shipped":["3"],"invoiced":[""]}`,
	} {
		o, err := s.Order(ctx, id)
		if err != nil {
			t.Fatal(err)
		}
		shown := struct {
			Movements any      `json:"movements"`
			Invoices  any      `json:"invoices"`
			Shipped   []string `json:"shipped"`
			Invoiced  []string `json:"invoiced"`
		}{Movements: o.Movements, Invoices: o.Invoices}
		for _, l := range o.Lines {
			shown.Shipped, shown.Invoiced = append(shown.Shipped, l.Shipped.String()), append(shown.Invoiced, l.Invoiced.String())
		}
		if got, err := json.Marshal(shown); err != nil || string(got) != want {
			t.Errorf("order %d: %v\n got %s\nwant %s", id, err, got, want)
		}
	}
}
