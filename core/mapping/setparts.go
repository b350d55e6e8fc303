package mapping

import (
	"slices"

	"koinos/core/finding"
	"koinos/core/grammar"
	"koinos/core/source"
	"koinos/core/x12"
)

// lineNames returns the elements of a line that name its order.
func (b *builder) lineNames(list []*grammar.Node) (names []*x12.Address) {
	for _, k := range list {
		if a, _ := b.path(k).(*x12.Address); a != nil && a.IsElement() {
			names = append(names, a)
		} else {
			b.Add(finding.MappingWrongValue, k.At, k.Text, "line_names are elements of a line, such as IT1/07 where IT1/06 = PO.")
		}
	}
	return names
}

// setParts says how a transaction set of several orders is divided among them; nil if the mapping does not say by what.
func (m *Mapping) setParts() *source.SetParts {
	if len(m.Group.LineNames) == 0 || m.Parts[InLines] == nil {
		return nil
	}
	each, _ := m.Parts[InLines].Each.(*x12.Address)
	if each == nil {
		return nil
	}
	p := source.SetParts{Lines: each}
	for _, a := range m.Group.LineNames {
		p.Names = append(p.Names, a.Within(each))
	}
	named := func(a *x12.Address) bool {
		return slices.ContainsFunc(m.Group.LineNames, func(n *x12.Address) bool { return n.String() == a.String() })
	}
	first := func(list *[]string, a *x12.Address) {
		if a != nil && !a.Under(each) && !slices.Contains(*list, a.Way()[0]) {
			*list = append(*list, a.Way()[0])
		}
	}
	for i := range m.Levels[InHeader] {
		b := &m.Levels[InHeader][i]
		for k := range b.From {
			a := b.From[k].Full
			switch b.Field.Name {
			case "sender_number", "number":
				if a != nil && !named(a) {
					p.Unless = append(p.Unless, a)
				}
			case "total", "total_before_tax":
				first(&p.None, a)
			case "tax_amount":
				first(&p.First, a)
			}
		}
	}
	if number := bound(m.Levels[InLines], "number"); number != nil {
		for i := range number.From {
			if a, _ := number.From[i].Path.(*x12.Address); a != nil && a.Single() {
				p.Number = a
			}
		}
	}
	if charges := m.Parts[InCharges]; charges != nil {
		a, _ := charges.Each.(*x12.Address)
		first(&p.First, a)
	}
	return &p
}
