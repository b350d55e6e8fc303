package listing

import (
	"fmt"
	"slices"
	"strings"

	"koinos/core/intent"
	"koinos/core/order"
)

// unchanged are columns that a table to be changed shows, but that a change cannot set.
var unchanged = []string{"sender_number", "currency", "total", "tax_amount", "total_before_tax", "lines.shipped",
	"lines.received",
	"lines.cancelled", "lines.backordered", "lines.amount", "lines.sender_line"}

// Mapping returns the mapping, as YAML, with which a table of the listing can be loaded again after it was filled in or
// changed. Each value that differs is one change; rows without a quantity are skipped. of says which orders the table
// is about.
func (l *Listing) Mapping(name string, of order.Kind) (string, error) {
	if l.For == "" {
		return "", fmt.Errorf("say what the table is filled in for: one of %s", strings.Join(Kinds, ", "))
	}
	if of == "" {
		return "", fmt.Errorf("say of which orders the table is: sales or purchase")
	}
	var b strings.Builder
	fmt.Fprintf(&b, "koinos: mapping/1\nname: %s\nabout: Takes in a table of orders that was exported for %s\n", name,
		about[l.For])
	group := "[number]"
	f, filled := filledIn[l.For]
	if filled {
		fmt.Fprintf(&b, "document:\n  rows: {leave_out: 'col(%q) == \"\"'}\n", f.quantity)
		group = fmt.Sprintf("[%s, number]", f.number)
	}
	fmt.Fprintf(&b, "orders:\n  kind: %s\n  of: %s\n  group: {by: key, columns: %s}\n", l.For, of, group)
	if filled { // a quantity with a digit too many waits for a second look
		b.WriteString("  hold: all\n")
	}
	bind := func(level order.Level) {
		for _, c := range l.tables[0].columns {
			field := strings.TrimPrefix(c.name, "lines.")
			known, ok := order.LookupOf(string(l.For), c.level, field)
			switch {
			case c.level != level || !ok || filled && c.name == f.number:
				continue
			case slices.Contains(keys, c.name):
				fmt.Fprintf(&b, "  %s: {from: %q%s}\n", field, c.name, must(field))
			case filled, slices.Contains(unchanged, c.name): // of what moves only the quantity is filled in
			case known.Name != "":
				fmt.Fprintf(&b, "  %s: {from: %q}\n", field, c.name)
			}
		}
	}
	b.WriteString("header:\n")
	if filled {
		fmt.Fprintf(&b, "  %s: {from: %s, need: must}\n", f.number, f.number)
	}
	bind(order.Header)
	b.WriteString("lines:\n")
	if filled {
		fmt.Fprintf(&b, "  quantity: {from: %q, need: must}\n", f.quantity)
	}
	has := func(name string) bool {
		return slices.ContainsFunc(l.tables[0].columns, func(c column) bool { return c.name == name })
	}
	// the number says which line is meant, the item what it becomes
	if l.For == intent.Change && has("lines.number") && has("lines.item") {
		b.WriteString("  change: {value: replace}\n")
	}
	bind(order.Lines)
	return b.String(), nil
}

// about says what a table is filled in for.
var about = map[intent.Kind]string{intent.Change: "changes", intent.Shipment: "what is shipped",
	intent.Receipt: "what is received",
	intent.Return:  "what comes back", intent.Invoice: "what is invoiced"}

// must says that a key is needed.
func must(field string) string {
	if field == "item" || field == "revision" {
		return ""
	}
	return ", need: must"
}
