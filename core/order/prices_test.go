package order

import "testing"

// A price whose basis nobody has stated is for one unit, or for as many as the order's, whichever is the nearer; what
// the order takes over has the basis that is named.
func TestPriceWithoutItsBasis(t *testing.T) {
	for _, c := range []struct{ ordered, per, offered, by, differs, price, basis string }{
		{"231", "10", "231", "", "", "", ""},
		{"231", "10", "23.10", "", "", "", ""},
		{"231", "10", "31", "", "price 31 per 1 for 231 per 10", "31", "1"},
		{"231", "10", "5", "", "price 5 per 1 for 231 per 10", "5", "1"},
		{"231", "10", "200", "", "price 200 per 10 for 231 per 10", "200", "10"},
		{"231", "10", "2400", "", "price 2400 per 10 for 231 per 10", "2400", "10"},
		{"231", "10", "73.04", "", "price 73.04 per 1 for 231 per 10", "73.04", "1"},
		{"231", "10", "73.05", "", "price 73.05 per 10 for 231 per 10", "73.05", "10"},
		{"231", "10", "231", "1", "price 231 per 1 for 231 per 10", "231", "1"},
		{"231", "10", "2310", "100", "", "", ""},
		{"0.05", "0.5", "0.10", "", "", "", ""},
		{"231", "", "23.10", "", "price 23.10 for 231", "23.1", ""},
		{"231", "1", "23.10", "", "price 23.10 for 231", "23.1", ""},
	} {
		number := func(s string) (n Number) { n, _ = ParseNumber(s); return n }
		o := Order{Kind: Purchase, Lines: []Line{{ID: 1, Number: "1", Quantity: MustNumber("60"), UnitPrice: number(c.ordered),
			PriceBasis: number(c.per)}}}
		offers, err := Offers(&o, []Answered{{Lines: []AnsweredLine{{Line: 1, Code: "accepted", Quantity: MustNumber("60"),
			UnitPrice: number(c.offered), PriceBasis: number(c.by)}}}})
		if err != nil || len(offers) > 1 {
			t.Fatal(offers, err)
		}
		var got Offer
		if len(offers) == 1 {
			got = offers[0]
		}
		differs := ""
		for _, d := range got.Differs {
			differs += d
		}
		if differs != c.differs || got.Take["unit_price"] != c.price || got.Take["price_basis"] != c.basis {
			t.Errorf("%s by %q for %s per %q: %q, takes %s", c.offered, c.by, c.ordered, c.per, differs, got.Take)
		}
	}
}
