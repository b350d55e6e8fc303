package writing

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"koinos/core/finding"
	"koinos/core/list"
	"koinos/core/mapping"
	"koinos/core/order"
	"koinos/core/origin"
	"koinos/core/x12"
)

// Compose writes orders into a transaction set of X12, using the bindings that read them. Values of an order that the
// mapping has no place for are findings. Fixed values, counts and totals are written too. hash asks for the hash total
// of quantities.
func Compose(m *mapping.Mapping, w *x12.Writing, orders []order.Order, set *list.Set, hash bool) []finding.Finding {
	c := composer{m: m, w: w, set: set, said: map[string]string{}}
	for _, f := range m.Document.Fixed {
		w.Put(w.Root(), f.At, f.Value)
	}
	for i := range orders {
		c.order(&orders[i])
	}
	c.totals(hash)
	return c.found
}

// composer writes orders.
type composer struct {
	m     *mapping.Mapping
	w     *x12.Writing
	set   *list.Set
	found []finding.Finding
	sum   order.Number // of the quantities
	lines int
	said  map[string]string // what stands once in the set, by level and field
	open  []opened          // loops around the lines that are open, from the outermost in
}

// opened is a loop around lines, and what was written into it.
type opened struct {
	loop *x12.Loop
	says string
}

// around opens the loops around a line, such as those of its packages, unless the line before is in the same ones.
func (c *composer) around(in *x12.Loop, values map[string]string) *x12.Loop {
	depth := 0
	for i, all := 0, c.m.Levels[mapping.InLines]; i < len(all); i++ {
		b := &all[i]
		value := values[b.Field.Name]
		if b.Of != "around" || value == "" || len(b.From) == 0 {
			continue
		}
		a := b.From[0].Full
		if a == nil {
			continue
		}
		delete(values, b.Field.Name)
		says := b.Field.Name + " " + value
		if depth >= len(c.open) || c.open[depth].says != says {
			at := in
			if depth > 0 {
				at = c.open[depth-1].loop
			}
			loop := c.w.Open(at, a.Loop())
			c.put(b, loop, a.Within(a.Loop()), value)
			c.open = append(c.open[:depth], opened{loop, says})
		}
		depth++
	}
	if c.open = c.open[:depth]; depth > 0 {
		return c.open[depth-1].loop
	}
	return in
}

func (c *composer) order(o *order.Order) {
	values := make([]map[string]string, len(o.Lines)+1)
	for i := range values {
		values[i] = map[string]string{}
	}
	values[0]["number"] = o.Number
	o.Each(func(line int, field, value string) { values[line][field] = value })
	in := c.w.Root()
	if records, ok := c.m.Document.Records.(*x12.Address); ok {
		in = c.w.Open(in, records)
	}
	c.level(o, mapping.InHeader, in, in, values[0])
	part := c.m.Parts[mapping.InLines]
	var apart *x12.Address
	if part != nil && len(part.Apart) > 0 {
		apart = part.Apart[0]
	}
	at := in
	c.open = nil
	var first map[string]string // what the line says whose segment is open
	for i := range o.Lines {
		if part != nil {
			if each, ok := part.Each.(*x12.Address); ok {
				if apart != nil && i > 0 && o.Lines[i].Number != "" && o.Lines[i].Number == o.Lines[i-1].Number {
					c.further(i+1, apart, c.w.Open(at, apart), values[i+1], first)
					continue
				}
				if apart != nil {
					first = maps.Clone(values[i+1])
				}
				at = c.w.Open(c.around(in, values[i+1]), each)
			}
		}
		c.level(o, mapping.InLines, in, at, values[i+1])
		c.deliveries(o, i, at, values[i+1])
		c.lines++
		if sum, err := c.sum.Add(o.Lines[i].Quantity); err == nil {
			c.sum = sum
		}
	}
	c.charges(o, in, values[0])
	for line, left := range values {
		for field, value := range left {
			if value != "" && !c.passedOver(field) {
				f := finding.New(finding.FieldUnwritten, origin.Place{}, value,
					"The mapping %s has no place in %s for %s.", c.m.Name, c.m.Document.Set, field)
				f.Field, f.Line = field, line
				c.found = append(c.found, f)
			}
		}
	}
	slices.SortFunc(c.found, func(a, b finding.Finding) int {
		if a.Line != b.Line {
			return a.Line - b.Line
		}
		return strings.Compare(a.Field, b.Field)
	})
}

// passedOver are fields that concern us and not the other side, or that follow from others.
func (c *composer) passedOver(field string) bool {
	switch field {
	case "partner", "amount", "total", "number", "price_level", "tax_treatment", "shipped", "received", "cancelled",
		"backordered":
		return true
	}
	for _, level := range []order.Level{order.Header, order.Lines} { // what a notice says besides
		if slices.ContainsFunc(order.Statements(level), func(f order.Field) bool { return f.Name == field }) {
			return true
		}
	}
	return strings.HasPrefix(field, "custom.")
}

// further writes a further statement about the line before, which has the same number: only the segments that are read
// apart.
func (c *composer) further(line int, apart *x12.Address, in *x12.Loop, values, first map[string]string) {
	for i := range c.m.Levels[mapping.InLines] {
		b := &c.m.Levels[mapping.InLines][i]
		value := values[b.Field.Name]
		delete(values, b.Field.Name)
		if value == "" || len(b.From) == 0 {
			continue
		}
		a := target(b)
		if a == nil || !a.Under(apart) {
			if value != first[b.Field.Name] {
				f := finding.New(finding.FieldUnwritten, origin.Place{}, value,
					"%s %q cannot be written beside %q of the same line.",
					b.Field.Name, value, first[b.Field.Name])
				f.Field, f.Line = b.Field.Name, line
				c.found = append(c.found, f)
			}
			continue
		}
		c.put(b, in, a.Within(apart), value)
	}
}

// level writes the values of a level that bindings name, and removes them from values.
func (c *composer) level(o *order.Order, level int, header, in *x12.Loop, values map[string]string) {
	for i := range c.m.Levels[level] {
		b := &c.m.Levels[level][i]
		value := values[b.Field.Name]
		if value == "" && b.Value != "" && len(b.From) == 0 {
			continue
		}
		delete(values, b.Field.Name)
		if !c.once(level, b, value) || value == "" || len(b.From) == 0 || b.Field.Name == "partner" {
			continue
		}
		a := target(b)
		if a == nil {
			if b.From[0].Outside {
				f := finding.New(finding.FieldUnwritten, origin.Place{}, value,
					"%s is read from %s, which stands outside of the loop and is not written for one of them.", b.Field.Name, b.From[0].Text)
				f.Field = b.Field.Name
				c.found = append(c.found, f)
			}
			continue
		}
		at := in
		switch b.Of {
		case "order":
			at = header
		case "document", "parent":
			at = c.w.Root()
		}
		c.put(b, at, a, value)
	}
}

// deliveries writes the deliveries of a line, each in the first of the mapping's segments that can express all of it.
func (c *composer) deliveries(o *order.Order, i int, in *x12.Loop, values map[string]string) {
	part, line := c.m.Parts[mapping.InDeliveries], &o.Lines[i]
	if part == nil || values[string(order.Deliveries)] == "" {
		return
	}
	delete(values, string(order.Deliveries))
	var open *x12.Loop // the segment that has room for more
	count, unit := 0, ""
	for k := range line.Deliveries {
		said := map[string]string{"unit": line.Unit}
		line.EachOf(k, func(field, value string) { said[field] = value })
		segment := c.segmentFor(part, said)
		step, most := segment.Like()
		if open == nil || count >= most || said["unit"] != unit {
			open, count = c.w.Open(in, segment.Kind()), 0
		}
		unit = said["unit"]
		for j := range c.m.Levels[mapping.InDeliveries] {
			b := &c.m.Levels[mapping.InDeliveries][j]
			value := said[b.Field.Name]
			if value == "" {
				continue
			}
			if at := addressIn(b, segment); at != nil {
				c.put(b, open, at.Within(segment.Kind()).Further(segment, count*step), value)
				delete(said, b.Field.Name)
			}
		}
		for _, field := range slices.Sorted(maps.Keys(said)) {
			if said[field] == "" {
				continue
			}
			f := finding.New(finding.FieldUnwritten, origin.Place{}, said[field],
				"The mapping %s has no place in %s for %s of a delivery.", c.m.Name, c.m.Document.Set, field)
			f.Field, f.Line = string(order.Deliveries), i+1
			c.found = append(c.found, f)
		}
		if count++; most == 1 {
			open = nil
		}
	}
}

// segmentFor is the first of the segments of deliveries that has a place for each of the values, or else the last.
func (c *composer) segmentFor(part *mapping.Part, values map[string]string) (segment *x12.Address) {
	for _, q := range append([]mapping.Query{part.Each}, part.Others...) {
		segment = q.(*x12.Address) // as all of a mapping of X12 are
		fits := true
		for j := range c.m.Levels[mapping.InDeliveries] {
			b := &c.m.Levels[mapping.InDeliveries][j]
			fits = fits && (values[b.Field.Name] == "" || addressIn(b, segment) != nil)
		}
		if fits {
			return segment
		}
	}
	return segment
}

// addressIn is the first of a binding's addresses that is within a segment, or nil.
func addressIn(b *mapping.Binding, segment *x12.Address) *x12.Address {
	for i := range b.From {
		if a, ok := b.From[i].Path.(*x12.Address); ok && a.Under(segment) {
			return a
		}
	}
	return nil
}

// target is the address to which a binding's value is written. It is the first, unless another one names the same
// element with more conditions: more forms are read than written. What is read from outside of the loop is not written
// there.
func target(b *mapping.Binding) *x12.Address {
	var most *x12.Address
	for i := range b.From {
		if a, is := b.From[i].Path.(*x12.Address); is && !b.From[i].Outside && (most == nil || a.Narrows(most)) {
			most = a
		}
	}
	return most
}

// once reports whether the value of a binding may be written. What stands once in a set must be the same for everything
// that the set is about, even if it is blank.
func (c *composer) once(level int, b *mapping.Binding, value string) bool {
	if b.Of != "document" && b.Of != "parent" || level != mapping.InHeader && value == "" {
		return true
	}
	key := fmt.Sprint(level, " ", b.Field.Name)
	said, was := c.said[key]
	if !was {
		c.said[key] = value
		return true
	}
	if said == value {
		return true
	}
	f := finding.New(finding.FieldUnwritten, origin.Place{}, value,
		"%s stands once in a set %s, and there are different ones: %s and %s.",
		b.Field.Name, c.m.Document.Set, orNothing(said), orNothing(value))
	f.Field = b.Field.Name
	c.found = append(c.found, f)
	return false
}

func orNothing(value string) string {
	if value == "" {
		return "nothing"
	}
	return fmt.Sprintf("%q", value)
}

// put writes the value of a binding.
func (c *composer) put(b *mapping.Binding, in *x12.Loop, at *x12.Address, value string) {
	text, err := b.Written(value, c.set)
	if err != nil {
		f := finding.New(finding.FieldUnwritten, origin.Place{}, value, "%s cannot be written: %v.", b.Field.Name, err)
		f.Field = b.Field.Name
		c.found = append(c.found, f)
		return
	}
	if b.Crosswalk == "" && (b.Field.Type == order.Day || b.Field.Type == order.Decimal) {
		text = value // the element's own type says how it is written
	}
	c.w.Put(in, at, text)
}

// charges writes the repeating allowances and charges that the header's own bindings have not written.
func (c *composer) charges(o *order.Order, in *x12.Loop, values map[string]string) {
	part := c.m.Parts[mapping.InCharges]
	if part == nil {
		return
	}
	each, ok := part.Each.(*x12.Address)
	if !ok {
		return
	}
	for i := range o.Charges {
		name := o.Charges[i].Field()
		if values[name] == "" {
			continue
		}
		delete(values, name)
		said, value := map[string]string{}, charge(&o.Charges[i], c.m)
		for _, b := range c.m.Levels[mapping.InCharges] {
			said[b.Field.Name] = value(b.Field.Name)
		}
		c.level(o, mapping.InCharges, in, c.w.Open(in, each.Kind()), said)
	}
}

// totals writes the number of lines, and the hash total.
func (c *composer) totals(hash bool) {
	ctt := func(element int) *x12.Address {
		a, err := x12.ParseAddress(fmt.Sprintf("CTT/%02d", element))
		if err != nil {
			panic(err) // the dictionary has it
		}
		return a
	}
	n := c.lines
	if c.m.Document.Set == "856" {
		n = c.w.Count("HL")
	}
	c.w.Put(c.w.Root(), ctt(1), fmt.Sprint(n))
	if hash {
		c.w.Put(c.w.Root(), ctt(2), c.sum.String())
	}
}
