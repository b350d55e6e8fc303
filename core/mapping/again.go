package mapping

import (
	"slices"
	"strconv"
	"strings"

	"koinos/core/finding"
	"koinos/core/grammar"
	"koinos/core/intent"
	"koinos/core/order"
)

// lettered checks that no binding names a column by a heading.
func (b *builder) lettered(m *Mapping) {
	for i, level := range order.Levels {
		for _, bind := range m.Levels[i] {
			for _, s := range bind.From {
				if s.Kind == ByHeading {
					b.Add(finding.MappingWrongValue, bind.At, s.Text,
						"%s.%s names a column by its heading, but the document has no heading row: "+
							"write its letter, such as \"@C\".", level, bind.Field.Name).Hint = ""
				}
			}
		}
	}
}

// bound is the first binding of a field, or nil.
func bound(all []Binding, field string) *Binding {
	if i := slices.IndexFunc(all, func(b Binding) bool { return b.Field.Name == field }); i >= 0 {
		return &all[i]
	}
	return nil
}

// Needs reports whether a mapping of some kind has to bind a field.
func Needs(kind intent.Kind, f order.Field) bool {
	switch {
	case !f.Must || !f.Of(string(kind)):
		return false
	case f.Name == "partner":
		return kind == intent.Order // a stored order says whose it is
	case f.Name == "quantity":
		return kind != intent.Answer && kind != intent.Change
	}
	return true
}

// complete checks that the fields are bound without which an order makes no sense.
func (b *builder) complete(root *grammar.Node, m *Mapping) {
	if m.Document.Headless {
		b.lettered(m)
	}
	for i, level := range order.Levels {
		n := root.Get(string(level))
		if n == nil {
			continue
		}
		for _, f := range append(order.AllFields(level), order.Statements(level)...) {
			bind := bound(m.Levels[i], f.Name)
			switch needs := Needs(m.Kind, f); {
			case bind != nil && (needs || f.Must && f.Name == "partner"):
				bind.Need = Must
			case needs:
				b.Add(finding.MappingMissingKey, n.At, "", "%s needs %q: %s.", level, f.Name, f.About)
			}
		}
	}
	if n := root.Get(string(order.Charges)); n != nil && bound(m.Levels[InCharges], "amount") == nil &&
		bound(m.Levels[InCharges], "percent") == nil {
		b.Add(finding.MappingMissingKey, n.At, "", "charges needs one of amount, percent: how much.")
	}
	if m.Levels[InDeliveries] != nil && m.Parts[InDeliveries] == nil && m.Group.By != "rowkind" {
		b.Add(finding.MappingMissingKey, root.Get(string(order.Deliveries)).At, "",
			"deliveries needs orders.parts.deliveries, which says where they stand within a line: in JSON, in X12, or as rows "+
				"of a kind of their own. In a cell they are bound as lines.deliveries.").Hint = ""
	}
	named := []string{"item", "buyer_item", "supplier_item", "gtin", "description"}
	means := "what is ordered"
	if m.Kind != intent.Order {
		named, means = []string{"number", "sender_line", "item", "buyer_item", "supplier_item", "gtin"},
			"which line is meant"
		if !slices.ContainsFunc(m.Levels[InHeader], func(b Binding) bool {
			name := b.Field.Name
			return name == "number" || name == "sender_number" || strings.HasPrefix(name, "reference.")
		}) {
			b.Add(finding.MappingMissingKey, root.Get("header").At, "",
				"header needs one of number, sender_number, reference.NAME: which order is meant.")
		}
	}
	for _, name := range named {
		if bound(m.Levels[InLines], name) != nil {
			return
		}
	}
	lines := root.Get("lines")
	if lines == nil {
		if m.Kind == intent.Order {
			b.Add(finding.MappingMissingKey, root.At, "", "a mapping of orders needs \"lines\": bindings of each line's fields.")
		}
		return
	}
	b.Add(finding.MappingMissingKey, lines.At, "", "lines needs one of %s: %s.", strings.Join(named, ", "),
		means)
}

// again reads what a second arrival means, and what holds an order.
func (b *builder) again(orders *grammar.Node, m *Mapping) {
	a := orders.Get("again")
	if a == nil {
		a = &grammar.Node{}
	}
	m.Again.Do = a.Str("do")
	if m.Again.Do == "" {
		m.Again.Do = "skip"
	}
	arrival := &m.Again.Arrival
	arrival.Parties, arrival.Charges = len(m.Levels[InParties]) > 0, len(m.Levels[InCharges]) > 0
	arrival.Match, arrival.Missing, arrival.Clear = order.LineKey(a.Str("lines")), order.Missing(a.Str("missing")),
		a.Str("blanks") == "clear"
	usual := order.ByItem
	for _, bind := range m.Levels[InHeader] {
		arrival.Header = append(arrival.Header, bind.Field)
	}
	for _, bind := range m.Levels[InLines] {
		arrival.Lines = append(arrival.Lines, bind.Field)
		if k := order.LineKey(bind.Field.Name); k == order.ByNumber || k == order.BySenderLine &&
			usual != order.ByNumber {
			usual = k
		}
	}
	if len(m.Levels[InDeliveries]) > 0 {
		deliveries, _ := order.Lookup(order.Lines, string(order.Deliveries))
		arrival.Lines = append(arrival.Lines, deliveries)
	}
	if arrival.Match == "" {
		arrival.Match = usual
	}
	newer := "ordered_on"
	if n := a.Get("newer"); n != nil {
		newer = n.Text
	}
	f, ok := order.Lookup(order.Header, newer)
	if !ok || f.Type != order.Day {
		b.Add(finding.MappingWrongValue, a.Get("newer").At, newer,
			"newer must name a date of the header, such as ordered_on.")
	}
	m.Again.Newer = f
	for _, h := range orders.List("hold") {
		code := finding.Code(h.Text)
		if severity, weighed := m.Weighs[code]; h.Text != "all" && severity != finding.Warning &&
			(weighed || finding.Catalogue[code].Severity != finding.Warning) {
			b.Add(finding.MappingWrongValue, h.At, h.Text,
				"%q is not the code of a warning, or all; docs/findings.md has them.", h.Text)
		}
		m.Holds = append(m.Holds, h.Text)
	}
	if h := orders.Get("by_hand"); h != nil {
		for i, key := range []string{"order", "line"} {
			if v := h.Get(key); v != nil {
				minutes, err := strconv.ParseFloat(v.Text, 64)
				if err != nil || !(minutes >= 0 && minutes <= 1440) {
					b.Add(finding.MappingWrongValue, v.At, v.Text, "by_hand takes minutes, such as 2 or 0.5.")
				}
				m.ByHand[i] = minutes
			}
		}
	}
}
