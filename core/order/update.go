package order

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// LineKey says how the lines of two arrivals of an order are matched.
type LineKey string

const (
	ByID         LineKey = "id"          // Koinos's own id of the line
	ByNumber     LineKey = "number"      // the line number
	BySenderLine LineKey = "sender_line" // the sender's own id of the line
	ByItem       LineKey = "item"        // the item, by whichever code the line has
)

// LineKeys are those that a mapping can name.
var LineKeys = []string{string(ByNumber), string(BySenderLine), string(ByItem)}

func (k LineKey) of(l *Line) string {
	var key string
	switch k {
	case ByID:
		return strconv.Itoa(l.ID)
	case BySenderLine:
		key = l.SenderLine
	case ByItem:
		for _, code := range []string{l.Item, l.BuyerItem, l.SupplierItem, GTIN14(l.GTIN), l.Description} {
			if key = code; key != "" {
				break
			}
		}
	default:
		key = l.Number
	}
	return strings.ToUpper(strings.TrimSpace(key))
}

// Missing says what becomes of stored lines that an arriving order does not have.
type Missing string

const (
	KeepMissing   Missing = "keep"   // they stay as they are
	CloseMissing  Missing = "close"  // what has not been shipped or received of them is cancelled
	RefuseMissing Missing = "refuse" // the arriving order is refused
)

// Missings are all of them.
var Missings = []string{string(KeepMissing), string(CloseMissing), string(RefuseMissing)}

// Arrival is how an order that arrives again changes the stored one.
type Arrival struct {
	Header  []Field // fields that the arriving order speaks of; of the others nothing changes
	Lines   []Field
	Parties bool // its repeating parties take the place of those of the same role
	Charges bool // its repeating charges take the place of those of the same code
	Match   LineKey
	Missing Missing
	Clear   bool // a blank value of a field that it speaks of clears the stored one
}

// Conflict is why an arriving order cannot change the stored one.
type Conflict struct {
	Line    int // of the arriving order, counted from 1; 0 is the header
	Message string
}

func (c *Conflict) Error() string { return c.Message }

// Update returns what o becomes when in arrives and, for each line of the result, the line of in that it took values
// from, counted from 1; 0 if there is none. Neither order is changed. What has moved (shipped, received) is never taken
// back: an arriving quantity below it is a *Conflict. Sums and status are not worked out.
func (o *Order) Update(in *Order, a Arrival) (*Order, []int, error) {
	out := o.Clone()
	for i := range a.Header {
		f := &a.Header[i]
		if f.Name != "number" {
			f.copy(out, nil, in, nil, a.Clear)
		}
	}
	if a.Parties {
		for _, p := range in.Parties {
			if was := out.Party(p.Role); was != nil {
				*was = p
			} else {
				out.Parties = append(out.Parties, p)
			}
		}
	}
	if a.Charges {
		for _, c := range in.Charges {
			i := slices.IndexFunc(out.Charges, func(d Charge) bool { return d.Field() == c.Field() })
			if i < 0 {
				out.Charges = append(out.Charges, c)
			} else {
				out.Charges[i] = c
			}
		}
	}
	at := map[string]int{}
	for i := range out.Lines {
		key := a.Match.of(&out.Lines[i])
		if _, twice := at[key]; twice && key != "" {
			return nil, nil, &Conflict{0,
				fmt.Sprintf("The stored order has two lines of %s %s; the arriving lines cannot be told apart by it.",
					a.Match, key)}
		}
		at[key] = i
	}
	from := make([]int, len(out.Lines), len(out.Lines)+len(in.Lines))
	for i := range in.Lines {
		l := &in.Lines[i]
		key := a.Match.of(l)
		if key == "" {
			return nil, nil, &Conflict{i + 1, fmt.Sprintf("The line has no %s to find the stored line by.", a.Match)}
		}
		j, known := at[key]
		if !known && a.Match == ByID {
			return nil, nil, &Conflict{i + 1, fmt.Sprintf("The stored order has no line of the id %s.", key)}
		}
		if !known {
			at[key] = len(out.Lines)
			out.Lines = append(out.Lines, *l)
			out.Lines[len(out.Lines)-1].ID = 0
			from = append(from, i+1)
			continue
		}
		if from[j] != 0 {
			return nil, nil, &Conflict{i + 1,
				fmt.Sprintf("A second line of %s %s arrives; it is not clear which one counts.", a.Match, key)}
		}
		from[j] = i + 1
		was := &out.Lines[j]
		if a.Missing == CloseMissing { // what is not listed is closed, so what is listed is open
			was.Cancelled = Number{}
		}
		for k := range a.Lines {
			a.Lines[k].copy(out, was, in, l, a.Clear)
		}
		for _, kind := range []MovementKind{Shipment, Receipt} {
			if is, had := was.Moved(kind), o.Lines[j].Moved(kind); is.Cmp(*had) < 0 {
				return nil, nil, &Conflict{i + 1,
					fmt.Sprintf("%s have moved already, and %s arrives; what has moved is taken back by a "+
						"counter-entry only.", had, is)}
			}
		}
		if moved := *was.Moved(o.Kind.Moves()); was.Quantity.Cmp(moved) < 0 {
			return nil, nil, &Conflict{i + 1, fmt.Sprintf("The quantity arrives as %s, but %s have moved already.",
				was.Quantity, moved)}
		}
	}
	for j := range o.Lines {
		if from[j] != 0 {
			continue
		}
		l := &out.Lines[j]
		switch a.Missing {
		case RefuseMissing:
			return nil, nil, &Conflict{0, fmt.Sprintf("The stored line %s (%s) is missing.", l.Number, ByItem.of(l))}
		case CloseMissing:
			left, err := l.Quantity.Sub(*l.Moved(o.Kind.Moves()))
			if err != nil {
				return nil, nil, err
			}
			l.Cancelled = left
		}
	}
	return out, from, nil
}

// LineLike finds the order's line that corresponds to the nth line of an arriving order: by the key, or else by its
// position if that line has the same item.
func (o *Order) LineLike(l *Line, n int, by LineKey) int {
	for i := range o.Lines {
		if key := by.of(l); key != "" && by.of(&o.Lines[i]) == key {
			return i + 1
		}
	}
	if n <= len(o.Lines) && ByItem.of(&o.Lines[n-1]) == ByItem.of(l) {
		return n
	}
	return 0
}

// Replace returns what o becomes when a newer revision takes its place: the whole of in, with what has moved of the
// lines of the same number. from is as for Update. A line of which something has moved cannot go away.
func (o *Order) Replace(in *Order) (is *Order, from []int, err error) {
	is = in.Clone()
	is.ID, is.Number, is.Revision, is.Stage, is.Opening = o.ID, o.Number, o.Revision, o.Stage, o.Opening
	is.LastLine, is.OnHold, is.LastChange = o.LastLine, o.OnHold, o.LastChange
	at := map[string]int{} // by number, the first of each
	for i := len(is.Lines) - 1; i >= 0; i-- {
		is.Lines[i].ID = 0
		at[ByNumber.of(&is.Lines[i])] = i
	}
	for i := range is.Lines {
		from = append(from, i+1)
	}
	for i := range o.Lines {
		was := &o.Lines[i]
		moved := *was.Moved(o.Kind.Moves())
		j, there := at[ByNumber.of(was)]
		if !there {
			j = -1
		}
		if j >= 0 && is.Lines[j].ID == 0 {
			is.Lines[j].ID, is.Lines[j].Invoiced, is.Lines[j].Returned = was.ID, was.Invoiced, was.Returned
		}
		if moved.Sign() == 0 {
			continue
		}
		if j < 0 || is.Lines[j].Quantity.Cmp(moved) < 0 {
			return nil, nil, &Conflict{j + 1,
				fmt.Sprintf("Line %s is missing or less than the %s that have moved already.", was.Number, moved)}
		}
		is.Lines[j].Shipped, is.Lines[j].Received = was.Shipped, was.Received
	}
	return is, from, nil
}

// Clone returns a copy that shares nothing with o.
func (o *Order) Clone() *Order {
	out := *o
	out.References, out.Parties, out.Charges = slices.Clone(o.References), slices.Clone(o.Parties),
		slices.Clone(o.Charges)
	out.Custom, out.Lines = slices.Clone(o.Custom), slices.Clone(o.Lines)
	for i := range out.Lines {
		l := &out.Lines[i]
		l.Charges, l.Custom, l.Earlier = slices.Clone(l.Charges), slices.Clone(l.Custom), slices.Clone(l.Earlier)
		l.Deliveries = slices.Clone(l.Deliveries)
		if l.Statement != nil {
			said := *l.Statement
			l.Statement = &said
		}
	}
	if o.Statement != nil {
		said := *o.Statement
		out.Statement = &said
	}
	return &out
}

// Say sets what line n of in says, counted from 1, in line l of the order; with n 0 it sets the header, without
// parties. Fields in but stay as they are, and so do, unless exactly, codes that differ only in letter case.
func (o *Order) Say(l *Line, in *Order, n int, exactly bool, but ...string) {
	line, fields := in.said(n, but)
	for i := range fields {
		f := &fields[i]
		if role, _, _ := strings.Cut(f.Name, "."); slices.Contains(Roles, role) {
			continue
		}
		if was, is := f.Value(o, l), f.Value(in, line); was != is && (exactly || !strings.EqualFold(was, is)) {
			f.copy(o, l, in, line, false)
		}
	}
}

// said returns line n of the order, or nil if n is 0 for the header, and the fields that it fills, except some.
func (o *Order) said(n int, but []string) (line *Line, fields []Field) {
	level := Header
	if n > 0 {
		line, level = &o.Lines[n-1], Lines
	}
	o.eachIn(n, func(_ int, family, name, _ string) {
		if slices.Contains(but, family+name) {
			return
		}
		if f, ok := Lookup(level, family+name); ok { // others only a record about an order has
			fields = append(fields, f)
		}
	})
	return line, fields
}

// Clear makes a field of the order, or of its line l, blank.
func (o *Order) Clear(f *Field, l *Line) {
	blank := Order{}
	f.copy(o, l, &blank, &Line{}, true)
}

// SayParty sets what another order says about a party. If what it says is the same, nothing changes; otherwise it
// replaces the whole party, because another place has another address.
func (o *Order) SayParty(p Party) {
	was := o.Party(p.Role)
	if was == nil {
		o.Parties = append(o.Parties, p)
		return
	}
	for i := range partyParts {
		if v := *partyParts[i].of(&p); v != "" && !strings.EqualFold(v, *partyParts[i].of(was)) {
			*was = p
			return
		}
	}
}

// copy copies the field from one order to the other.
func (f *Field) copy(to *Order, toLine *Line, from *Order, fromLine *Line, clear bool) {
	if f.Value(from, fromLine) == "" && (!clear || f.Value(to, toLine) == "") {
		return
	}
	switch {
	case f.text != nil:
		*f.text(to, toLine) = *f.text(from, fromLine)
	case f.num != nil:
		f.SetNumber(to, toLine, *f.num(from, fromLine))
	case f.list != nil:
		*f.list(to, toLine) = slices.Clone(*f.list(from, fromLine))
	default:
		*f.date(to, toLine) = *f.date(from, fromLine)
	}
}
