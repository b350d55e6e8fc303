package order

// Clash is a field that a record changes of what an order was, while the order itself has become something else.
type Clash struct {
	Line  int // of the record, counted from 1; 0 is the header
	Field string
	Was   string // when the record was made
	Is    string // now
	Said  string
}

// Side is an order, or a line of one.
type Side struct {
	Order *Order
	Line  *Line // nil is the header
}

// Value returns the value of a field.
func (s Side) Value(f *Field) string { return f.Value(s.Order, s.Line) }

// Since removes from what a record says of the header (n is 0), or in its line n, all that it only repeats of the order
// as it was when the record was made. What is left is what somebody has changed in it. Fields in but stay. It returns
// the fields of which the order now says something else than both.
func (o *Order) Since(n int, was, is Side, but ...string) (clashes []Clash) {
	line, fields := o.said(n, but)
	said := Side{o, line}
	for i := range fields {
		f := &fields[i]
		switch {
		case f.same(o, line, was.Order, was.Line):
			o.Clear(f, line)
		case !f.same(is.Order, is.Line, was.Order, was.Line) && !f.same(o, line, is.Order, is.Line):
			clashes = append(clashes, Clash{n, f.Name, was.Value(f), is.Value(f), said.Value(f)})
		}
	}
	return clashes
}

// SayParts sets the parts of a party that another order says, and leaves the others as they are.
func (o *Order) SayParts(p Party) {
	was := o.Party(p.Role)
	if was == nil {
		o.Parties = append(o.Parties, p)
		return
	}
	for i := range partyParts {
		if v := *partyParts[i].of(&p); v != "" {
			*partyParts[i].of(was) = v
		}
	}
}
