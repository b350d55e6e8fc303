package order

import (
	"fmt"
	"math/rand/v2"
	"reflect"
	"slices"
	"testing"
)

// scrambled is an order of a few lines, of which another one of the same seed differs in some places.
func scrambled(r *rand.Rand) *Order {
	some := func(values ...string) string { return values[r.IntN(len(values))] }
	o := &Order{Kind: Sales, SenderNumber: some("", "A", "B"), Currency: some("EUR", "USD"),
		OrderedOn: Date(some("", "2026-03-01")), Notes: some("", "x")}
	for _, q := range []string{"contract", "release"} {
		if v := some("", "1", "2"); v != "" {
			o.References = append(o.References, Reference{q, v})
		}
	}
	if v := some("", "40", "41"); v != "" {
		o.Parties = append(o.Parties, Party{Role: "ship_to", Code: v, City: some("", "Pellow")})
	}
	charges := func() (all []Charge) {
		if v := r.IntN(3); v > 0 {
			all = append(all, Charge{Code: "freight", Amount: NumberOf(int64(v))})
		}
		return all
	}
	o.Charges = charges()
	ids := r.Perm(6)
	for n := range r.IntN(5) {
		o.Lines = append(o.Lines, Line{ID: ids[n] + 1, Number: fmt.Sprint(n + 1), Item: some("", "00417", "00418"),
			Quantity: NumberOf(int64(r.IntN(3))), Notes: some("", "soon"), Charges: charges()})
	}
	return o
}

// The differences of two orders are those of all their values, in the order of the second one; what is gone follows.
func TestDiff(t *testing.T) {
	type key struct {
		line  int
		field string
	}
	for seed := range uint64(2_000) {
		r := rand.New(rand.NewPCG(seed, 7))
		a, b := scrambled(r), scrambled(r)
		values := func(o *Order) (list []Change, by map[key]string) {
			by = map[key]string{}
			o.Each(func(line int, field, value string) {
				id := 0
				if line > 0 {
					id = o.Lines[line-1].ID
				}
				by[key{id, field}] = value
				list = append(list, Change{Line: line, LineID: id, Field: field, Is: value})
			})
			return list, by
		}
		listA, was := values(a)
		listB, is := values(b)
		var want []Change
		for _, c := range listB {
			if c.Was = was[key{c.LineID, c.Field}]; c.Was != c.Is {
				want = append(want, c)
			}
		}
		for _, c := range listA {
			if _, still := is[key{c.LineID, c.Field}]; still {
				continue
			}
			if at := slices.IndexFunc(b.Lines, func(l Line) bool { return l.ID == c.LineID }); c.LineID > 0 && at >= 0 {
				c.Line = at + 1
			}
			c.Was, c.Is = c.Is, ""
			want = append(want, c)
		}
		if got := Diff(a, b); !reflect.DeepEqual(append([]Change{}, got...), append([]Change{}, want...)) {
			t.Fatalf("seed %d:\n got %+v\nwant %+v", seed, got, want)
		}
	}
}
