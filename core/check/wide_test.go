package check

import (
	"fmt"
	"strings"
	"testing"

	"koinos/core/intent"
	"koinos/core/order"
)

// As many parts as an order holds are taken, and one more is refused, wherever they stand.
func TestWide(t *testing.T) {
	custom := func(n int, name string) (all []order.Custom) {
		for i := range n {
			all = append(all, order.Custom{Name: fmt.Sprint(name, i), Value: "x"})
		}
		return all
	}
	lines := func(n, each int) (all []order.Line) {
		for i := range n {
			all = append(all, order.Line{Number: fmt.Sprint(i + 1), Custom: custom(each, fmt.Sprint("of", i, "-"))})
		}
		return all
	}
	charges := func(n int) (all []order.Charge) {
		for i := range n {
			all = append(all, order.Charge{Code: fmt.Sprint("c", i), Amount: order.NumberOf(1)})
		}
		return all
	}
	for _, c := range []struct {
		name string
		of   func(n int) *order.Order
		says string
	}{
		{"charges", func(n int) *order.Order { return &order.Order{Charges: charges(n)} },
			"charges: The order has 501 charges and allowances; Koinos holds up to 500."},
		{"references", func(n int) *order.Order { return &order.Order{References: make([]order.Reference, n)} },
			"references: The order has 501 references; Koinos holds up to 500."},
		{"parties", func(n int) *order.Order { return &order.Order{Parties: make([]order.Party, n)} },
			"parties: The order has 501 parties; Koinos holds up to 500."},
		{"own fields", func(n int) *order.Order { return &order.Order{Custom: custom(n, "f")} },
			"custom: The order has 501 fields of its own; Koinos holds up to 500."},
		{"charges of a line", func(n int) *order.Order {
			return &order.Order{Lines: []order.Line{{Number: "7", Charges: charges(n)}}}
		}, "charges: Line 7 has 501 charges and allowances; Koinos holds up to 500."},
		{"own fields of many lines", func(n int) *order.Order { return &order.Order{Lines: lines(n, 1)} },
			"lines: The lines of the order have more than 500 different charges and fields of their own."},
	} {
		var i intent.Intent
		if Wide(c.of(MostParts), &i) || len(i.Findings) > 0 {
			t.Errorf("%s: %d are refused: %+v", c.name, MostParts, i.Findings)
		}
		var got []string
		if Wide(c.of(MostParts+1), &i) {
			for _, f := range i.Findings {
				got = append(got, f.Field+": "+f.Message)
			}
		}
		if strings.Join(got, "\n") != c.says {
			t.Errorf("%s: %q, not %q", c.name, got, c.says)
		}
	}
	// The same fields in each line are no more than in one.
	same := &order.Order{Lines: lines(2_000, 0)}
	for n := range same.Lines {
		same.Lines[n].Custom = custom(MostParts, "f")
	}
	if i := (intent.Intent{}); Wide(same, &i) {
		t.Errorf("%+v", i.Findings)
	}
}
