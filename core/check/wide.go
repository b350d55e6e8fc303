package check

import (
	"koinos/core/finding"
	"koinos/core/order"
)

// MostParts is how many charges, references, parties and fields of its own an order has, and each of its lines; and how
// many different ones all of its lines have together.
const MostParts = 500

// Wide reports whether an order has more parts than that. Such an order is refused before anything else looks at it:
// the time that comparing two of them takes grows with the square of their parts.
func Wide(o *order.Order, s Subject) (is bool) {
	most := func(where, field, what string, n int) {
		if n > MostParts {
			s.Add(finding.OrderTooWide, 0, field, "", "%s has %d %s; Koinos holds up to %d.", where, n, what, MostParts)
			is = true
		}
	}
	const charges, custom, own = "charges", "custom", "fields of its own"
	most("The order", charges, "charges and allowances", len(o.Charges))
	most("The order", "references", "references", len(o.References))
	most("The order", "parties", "parties", len(o.Parties))
	most("The order", custom, own, len(o.Custom))
	names := map[string]bool{}
	for i := range o.Lines {
		l := &o.Lines[i]
		if len(l.Charges) == 0 && len(l.Custom) == 0 {
			continue
		}
		most("Line "+l.Number, charges, "charges and allowances", len(l.Charges))
		most("Line "+l.Number, custom, own, len(l.Custom))
		if is {
			return true
		}
		for _, c := range l.Charges {
			names[c.Field()] = true
		}
		for _, c := range l.Custom {
			names["custom."+c.Name] = true
		}
		if len(names) > MostParts {
			break
		}
	}
	if len(names) > MostParts {
		s.Add(finding.OrderTooWide, 0, "lines", "", "The lines of the order have more than %d different charges and fields of their own.",
			MostParts)
		is = true
	}
	return is
}
