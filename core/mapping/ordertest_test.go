package mapping

import (
	"testing"

	"koinos/core/grammar"
	"koinos/core/order"
)

func TestOrderTest(t *testing.T) {
	number := func(s string) order.Number {
		n, err := order.ParseNumber(s)
		if err != nil {
			t.Fatal(err)
		}
		return n
	}
	o := &order.Order{Kind: order.Sales, Number: "SO-000007", Partner: "SLIPWAY", Status: order.Open, Revision: 3,
		OrderedOn: "2026-03-02", Total: number("120.50"),
		References: []order.Reference{{Qualifier: "contract", Value: "K-9"}},
		Parties:    []order.Party{{Role: "ship_to", Country: "NO"}}, Custom: []order.Custom{{Name: "hull_no", Value: "44"}},
		Lines: []order.Line{{Item: "00101", Location: "WEST", Quantity: number("2")},
			{Item: "00200", Location: "EAST", Quantity: number("12.5")}}}
	for text, want := range map[string]bool{
		`partner == "SLIPWAY" and status != "draft"`:         true,
		`partner == "SALTRY" or kind == "purchase"`:          false,
		`total > 120.4 and total <= 120.5`:                   true,
		`total > 121`:                                        false,
		`ordered_on >= "2026-03-01"`:                         true,
		`ship_to.country in ["NO", "SE"]`:                    true,
		`bill_to.country == ""`:                              true,
		`reference["contract"] == "K-9"`:                     true,
		`reference.order == ""`:                              true,
		`custom.hull_no startsWith "4"`:                      true,
		`any(lines, .location == "EAST" and .quantity > 12)`: true,
		`all(lines, .quantity > 2.5)`:                        false,
		`len(lines) == 2 and revision == 3`:                  true,
		`lower(number) | after("-") | digits() == "000007"`:  true,
		`not opening`:                                        true,
	} {
		var m grammar.Mistakes
		test := ParseOrderTest(&grammar.Node{Text: text, Scalar: true}, &m)
		if test == nil {
			t.Errorf("%s: %v", text, m.All)
			continue
		}
		is, err := test.Holds(o)
		if err != nil || is != want {
			t.Errorf("%s: %v, %v; want %v", text, is, err, want)
		}
	}
	if len(o.Parties) != 1 {
		t.Errorf("a test changed the order: %v", o.Parties)
	}
	for text, want := range map[string]string{
		`partnr == "X"`:                `The condition cannot be understood: unknown name partnr.`,
		`total == "12"`:                `The condition cannot be understood: invalid operation: == (mismatched types order.Number and string).`,
		`any(lines, .place == "EAST")`: `The condition cannot be understood: there is no field place.`,
		`status`:                       `The condition cannot be understood: expected bool, but got string.`,
		`partner == `:                  `The condition cannot be understood: unexpected token EOF.`,
		`ship_to.land == "NO"`:         `The condition cannot be understood: there is no field land.`,
	} {
		var m grammar.Mistakes
		if ParseOrderTest(&grammar.Node{Text: text, Scalar: true}, &m); len(m.All) != 1 || m.All[0].Message != want {
			t.Errorf("%s:\n got %v\nwant %s", text, m.All, want)
		}
	}
}
