package order

import (
	"slices"
	"strings"
)

// Level says whether a field belongs to the order as a whole or to each line.
type Level string

const (
	Header  Level = "header"
	Lines   Level = "lines"
	Parties Level = "parties" // repeating: each binding fills the party last added
	Charges Level = "charges" // repeating: each binding fills the charge last added

	Deliveries Level = "deliveries" // repeating within a line: each binding fills the delivery last added
)

// Levels are all levels, the header first.
var Levels = []Level{Header, Lines, Parties, Charges, Deliveries}

// Type is how a field's text is understood.
type Type string

const (
	Text     Type = "text"     // taken as it stands, outer space trimmed
	Code     Type = "code"     // text that a spreadsheet may have mangled into a number
	Decimal  Type = "decimal"  // exact number
	Percent  Type = "percent"  // exact number, a percent sign allowed: 5 and "5%" are five per cent
	Day      Type = "date"     // calendar day
	Currency Type = "currency" // ISO 4217 code
	Unit     Type = "unit"     // unit of measure
	Choice   Type = "choice"   // one of the field's Choices
	Boolean  Type = "boolean"  // "true" or "false"
	Parts    Type = "schedule" // deliveries in the text of a Schedule
)

// Field is one field of an order that a mapping can bind. Exactly one of its accessors is set.
type Field struct {
	Name    string
	Level   Level
	Type    Type
	About   string
	Choices []string
	Must    bool // an order makes no sense without it: a mapping cannot lower this need
	// kinds are the only kinds of record that have the field: change, answer, shipment, receipt, return, invoice. nil
	// means every kind.
	Kinds []string

	text func(*Order, *Line) *string
	num  func(*Order, *Line) *Number
	date func(*Order, *Line) *Date
	list func(*Order, *Line) *Schedule

	blank func(*Order, *Line) // clears the field and what follows from it; nil is for fields that nothing follows from
}

// SetText stores a text in an order, or in line l of it for a field of lines. The text of a schedule must be one that
// ParseSchedule can read.
func (f *Field) SetText(o *Order, l *Line, v string) {
	if f.list != nil {
		*f.list(o, l), _ = ParseSchedule(v)
		return
	}
	*f.text(o, l) = v
}

// Trim removes the outer space of a text field.
func (f *Field) Trim(o *Order, l *Line) {
	if f.text != nil {
		p := f.text(o, l)
		*p = strings.TrimSpace(*p)
	}
}

// SetNumber stores a number. A custom field with a number's type keeps its text.
func (f *Field) SetNumber(o *Order, l *Line, v Number) {
	if f.num == nil {
		*f.text(o, l) = v.String()
		return
	}
	if f.blank != nil && !v.set {
		f.blank(o, l)
		return
	}
	*f.num(o, l) = v
}

// SetDate stores a day. A custom field with a day's type keeps its text.
func (f *Field) SetDate(o *Order, l *Line, v Date) {
	if f.date == nil {
		*f.text(o, l) = string(v)
		return
	}
	*f.date(o, l) = v
}

// Value returns the field's value as Each does; "" if there is none. It may add a blank party, reference or custom
// field to the order.
func (f *Field) Value(o *Order, l *Line) string {
	switch {
	case f.text != nil:
		return *f.text(o, l)
	case f.num != nil:
		return f.num(o, l).plain()
	case f.list != nil:
		return f.list(o, l).String()
	}
	return string(*f.date(o, l))
}

// same reports whether two orders, or a line of each, have the same value, as Value gives it.
func (f *Field) same(o *Order, l *Line, p *Order, m *Line) bool {
	switch {
	case f.text != nil:
		return *f.text(o, l) == *f.text(p, m)
	case f.num != nil:
		x, y := f.num(o, l), f.num(p, m)
		return x.set == y.set && x.Cmp(*y) == 0
	case f.list != nil:
		return f.list(o, l).String() == f.list(p, m).String()
	}
	return *f.date(o, l) == *f.date(p, m)
}

// fields is the one table of plain fields. Computed fields are not in it, because nothing can be bound to them.
var fields = []Field{
	{Name: "number", Level: Header, Type: Text, About: "Our order number; by default one is taken from the series",
		text: func(o *Order, _ *Line) *string { return &o.Number }},
	{Name: "sender_number", Level: Header, Type: Code,
		About: "The number the sender gave the order; part of its identity",
		text:  func(o *Order, _ *Line) *string { return &o.SenderNumber }},
	{Name: "partner", Level: Header, Type: Code, Must: true,
		About: "Our code of the customer (sales) or supplier (purchase)",
		text:  func(o *Order, _ *Line) *string { return &o.Partner }},
	{Name: "ordered_on", Level: Header, Type: Day, About: "Day the order was made",
		date: func(o *Order, _ *Line) *Date { return &o.OrderedOn }},
	{Name: "requested_ship_on", Level: Header, Type: Day, About: "Day the goods should leave",
		date: func(o *Order, _ *Line) *Date { return &o.RequestedShipOn }},
	{Name: "requested_delivery_on", Level: Header, Type: Day, About: "Day the goods should arrive",
		date: func(o *Order, _ *Line) *Date { return &o.RequestedDeliveryOn }},
	{Name: "cancel_after", Level: Header, Type: Day, About: "Last day the order may be delivered",
		date: func(o *Order, _ *Line) *Date { return &o.CancelAfter }},
	{Name: "currency", Level: Header, Type: Currency, About: "Currency of every amount, ISO 4217",
		text: func(o *Order, _ *Line) *string { return &o.Currency }},
	{Name: "payment_terms", Level: Header, Type: Text, About: "Code of the payment terms",
		text: func(o *Order, _ *Line) *string { return &o.PaymentTerms }},
	{Name: "delivery_terms", Level: Header, Type: Text, About: "Delivery terms, e.g. an Incoterms code",
		text: func(o *Order, _ *Line) *string { return &o.DeliveryTerms }},
	{Name: "price_level", Level: Header, Type: Text, About: "Which of our price levels applies",
		text: func(o *Order, _ *Line) *string { return &o.PriceLevel }},
	{Name: "tax_treatment", Level: Header, Type: Choice, Choices: []string{TaxExclusive, TaxInclusive, TaxExempt},
		About: "Whether prices hold the tax already", text: func(o *Order, _ *Line) *string { return &o.TaxTreatment }},
	{Name: "tax_rounding", Level: Header, Type: Choice, Choices: TaxRoundings,
		About: "Where tax is rounded: on each line (the default), or once for the amounts of each rate",
		text:  func(o *Order, _ *Line) *string { return &o.TaxRounding }},
	{Name: "tax_base", Level: Header, Type: Choice, Choices: TaxBases,
		About: "What the lines' rates of tax are of: their amounts (the default), these less allowances of lines and order, or with charges, too",
		text:  func(o *Order, _ *Line) *string { return &o.TaxBase }},
	{Name: "tax_amount", Level: Header, Type: Decimal,
		About: "Tax on the whole order as the document states it; where lines carry tax it is compared with theirs",
		num:   func(o *Order, _ *Line) *Number { return &o.TaxAmount }},
	{Name: "total", Level: Header, Type: Decimal, About: "The document's own total; kept and compared with ours",
		num: func(o *Order, _ *Line) *Number { return &o.StatedTotal }},
	{Name: "total_before_tax", Level: Header, Type: Decimal,
		About: "The document's own total without tax; kept and compared with ours",
		num:   func(o *Order, _ *Line) *Number { return &o.StatedNet }},
	{Name: "notes", Level: Header, Type: Text, About: "Free text for people",
		text: func(o *Order, _ *Line) *string { return &o.Notes }},

	{Name: "number", Level: Lines, Type: Text, About: "The sender's line number; by default lines are counted from 1",
		text: func(_ *Order, l *Line) *string { return &l.Number }},
	{Name: "sender_line", Level: Lines, Type: Code,
		About: "The sender's own id of the line, where it has one besides its number",
		text:  func(_ *Order, l *Line) *string { return &l.SenderLine }},
	{Name: "item", Level: Lines, Type: Code, About: "Our item code",
		text: func(_ *Order, l *Line) *string { return &l.Item }},
	{Name: "buyer_item", Level: Lines, Type: Code, About: "The buyer's item code",
		text: func(_ *Order, l *Line) *string { return &l.BuyerItem }},
	{Name: "supplier_item", Level: Lines, Type: Code, About: "The supplier's item code",
		text: func(_ *Order, l *Line) *string { return &l.SupplierItem }},
	{Name: "gtin", Level: Lines, Type: Code, About: "Global Trade Item Number (GS1)",
		text: func(_ *Order, l *Line) *string { return &l.GTIN }},
	{Name: "description", Level: Lines, Type: Text, About: "What is ordered, in words",
		text: func(_ *Order, l *Line) *string { return &l.Description }},
	{Name: "quantity", Level: Lines, Type: Decimal, Must: true, About: "How much is ordered",
		num: func(_ *Order, l *Line) *Number { return &l.Quantity }},
	{Name: "unit", Level: Lines, Type: Unit, About: "Unit of measure of the quantity",
		text: func(_ *Order, l *Line) *string { return &l.Unit }},
	{Name: "unit_price", Level: Lines, Type: Decimal, About: "Price of one unit, or of price_basis units",
		num: func(_ *Order, l *Line) *Number { return &l.UnitPrice }},
	{Name: "price_basis", Level: Lines, Type: Decimal, About: "How many units the price is for; by default 1",
		num: func(_ *Order, l *Line) *Number { return &l.PriceBasis }},
	{Name: "discount_percent", Level: Lines, Type: Percent, About: "Discount on the line in per cent",
		num: func(_ *Order, l *Line) *Number { return &l.DiscountPercent }},
	{Name: "tax_percent", Level: Lines, Type: Percent, About: "Tax on the line in per cent",
		num: func(_ *Order, l *Line) *Number { return &l.TaxPercent }},
	{Name: "amount", Level: Lines, Type: Decimal, About: "The document's own amount; kept and compared with ours",
		num: func(_ *Order, l *Line) *Number { return &l.StatedAmount }},
	{Name: "requested_ship_on", Level: Lines, Type: Day, About: "Day this line should leave",
		date: func(_ *Order, l *Line) *Date { return &l.RequestedShipOn }},
	{Name: "requested_delivery_on", Level: Lines, Type: Day, About: "Day this line should arrive",
		date: func(_ *Order, l *Line) *Date { return &l.RequestedDeliveryOn }},
	{Name: "location", Level: Lines, Type: Code, About: "Our code of the warehouse or yard",
		text: func(_ *Order, l *Line) *string { return &l.Location }},
	{Name: "shipped", Level: Lines, Type: Decimal, About: "Quantity shipped so far",
		num: func(_ *Order, l *Line) *Number { return &l.Shipped }},
	{Name: "received", Level: Lines, Type: Decimal, About: "Quantity received so far",
		num: func(_ *Order, l *Line) *Number { return &l.Received }},
	{Name: "cancelled", Level: Lines, Type: Decimal, About: "Quantity cancelled",
		num: func(_ *Order, l *Line) *Number { return &l.Cancelled }},
	{Name: "notes", Level: Lines, Type: Text, About: "Free text for people",
		text: func(_ *Order, l *Line) *string { return &l.Notes }},
	{Name: "backordered", Level: Lines, Type: Decimal, About: "Quantity that comes later than was asked",
		num: func(_ *Order, l *Line) *Number { return &l.Backordered }},
	{Name: "deliveries", Level: Lines, Type: Parts,
		About: "Parts of the line that go to places, or on days, of their own, such as: 12 to 0040; 8 to 0041, arrives 2026-03-16",
		list:  func(_ *Order, l *Line) *Schedule { return &l.Deliveries }},
	{Name: "on_hold", Level: Header, Type: Text,
		About: "Why the order is on hold. While it is, nothing of it should be shipped or billed. Blank: it is not on hold",
		text:  func(o *Order, _ *Line) *string { return &o.OnHold }},
}

// Roles are the parties an order can name.
var Roles = []string{"ship_to", "bill_to", "buyer", "supplier", "carrier"}

// partyParts are the fields of a party. A mapping binds role.part.
var partyParts = []struct {
	name, about string
	typ         Type
	of          func(*Party) *string
}{
	{"code", "Our code", Code, func(p *Party) *string { return &p.Code }},
	{"code_qualifier", "Whose code it is", Text, func(p *Party) *string { return &p.CodeQualifier }},
	{"name", "Name", Text, func(p *Party) *string { return &p.Name }},
	{"name2", "Second line of the name, such as a department, or in care of whom", Text,
		func(p *Party) *string { return &p.Name2 }},
	{"street", "Street and number", Text, func(p *Party) *string { return &p.Street }},
	{"street2", "Second line of the address", Text, func(p *Party) *string { return &p.Street2 }},
	{"city", "City", Text, func(p *Party) *string { return &p.City }},
	{"region", "State, county or canton", Text, func(p *Party) *string { return &p.Region }},
	{"postal_code", "Postal code", Text, func(p *Party) *string { return &p.PostalCode }},
	{"country", "Country, ISO 3166-1 alpha-2", Text, func(p *Party) *string { return &p.Country }},
	{"contact", "Person to ask", Text, func(p *Party) *string { return &p.Contact }},
	{"phone", "Telephone", Text, func(p *Party) *string { return &p.Phone }},
	{"email", "E-mail", Text, func(p *Party) *string { return &p.Email }},
}

// PartyParts names the fields of a party.
func PartyParts() (names []string) {
	for i := range partyParts {
		names = append(names, partyParts[i].name)
	}
	return names
}

// Trim removes the outer space of a party's texts.
func (p *Party) Trim() {
	for i := range partyParts {
		v := partyParts[i].of(p)
		*v = strings.TrimSpace(*v)
	}
}

func lastParty(o *Order) *Party { return &o.Parties[len(o.Parties)-1] }

func partyRole() Field {
	return Field{Name: "role", Level: Parties, Type: Choice, Choices: Roles, Must: true,
		About: "What the party is to the order",
		text:  func(o *Order, _ *Line) *string { return &lastParty(o).Role }}
}

func partyField(i int) Field {
	part := &partyParts[i]
	return Field{Name: part.name, Level: Parties, Type: part.typ, About: part.about + " of the party",
		text: func(o *Order, _ *Line) *string { return part.of(lastParty(o)) }}
}

// family is a group of fields whose names end in a word that the user chooses.
type family struct {
	prefix, about string
	typ           Type
	levels        []Level
	make          func(key string) Field
}

var families = []family{
	{"reference.", "A reference number; the last word is its qualifier, e.g. reference.contract", Text, []Level{Header},
		func(key string) Field {
			return Field{text: func(o *Order, _ *Line) *string {
				i := slices.IndexFunc(o.References, func(r Reference) bool { return r.Qualifier == key })
				if i < 0 {
					o.References = append(o.References, Reference{Qualifier: key})
					i = len(o.References) - 1
				}
				return &o.References[i].Value
			}}
		}},
	{"custom.", "A field of your own; the last word is its name", Text, []Level{Header, Lines}, func(key string) Field {
		return Field{text: func(o *Order, l *Line) *string {
			list := &o.Custom
			if l != nil {
				list = &l.Custom
			}
			i := slices.IndexFunc(*list, func(c Custom) bool { return c.Name == key })
			if i < 0 {
				*list = append(*list, Custom{Name: key})
				i = len(*list) - 1
			}
			return &(*list)[i].Value
		}}
	}},
}

// Of reports whether records of a kind have the field; "" and "order" are orders.
func (f *Field) Of(kind string) bool { return f.Kinds == nil || slices.Contains(f.Kinds, kind) }

// FieldNames lists the names that can be bound at a level, for records of any kind, in the order of the reference. A
// family stands as its prefix and an asterisk ("custom.*").
func FieldNames(level Level) []string {
	var names []string
	for _, f := range append(AllFields(level), Statements(level)...) {
		if !slices.Contains(names, f.Name) {
			names = append(names, f.Name)
		}
	}
	return names
}

// Statements lists the fields of a level that only records of some kinds have.
func Statements(level Level) []Field {
	return slices.DeleteFunc(slices.Clone(statements), func(f Field) bool { return f.Level != level })
}

// LookupOf finds the field of a name in records of a kind: change, answer, shipment, receipt, invoice. The second
// result is false if they have no such field.
func LookupOf(kind string, level Level, name string) (Field, bool) {
	for _, f := range statements {
		if f.Level == level && f.Name == name && f.Of(kind) {
			return f, true
		}
	}
	return Lookup(level, name)
}

// PlainFields lists the fields of a level whose names are not chosen by the user, without parties.
func PlainFields(level Level) []Field {
	return slices.DeleteFunc(slices.Clone(fields), func(f Field) bool { return f.Level != level })
}

// AllFields lists the fields of a level, parties included. A family stands as one field whose name ends in an asterisk.
func AllFields(level Level) []Field {
	var list []Field
	for _, f := range fields {
		if f.Level == level {
			list = append(list, f)
		}
	}
	switch level {
	case Parties:
		list = append(list, partyRole())
		for i := range partyParts {
			list = append(list, partyField(i))
		}
	case Charges:
		list = append(list, chargeFields...)
	case Deliveries:
		list = append(list, deliveryFields...)
	case Header:
		for _, role := range Roles {
			for _, part := range partyParts {
				list = append(list, Field{Name: role + "." + part.name, Level: Header, Type: part.typ,
					About: part.about + " of the party in role " + role})
			}
		}
	}
	for _, fam := range slices.Concat(families, chargeFamilies) {
		if slices.Contains(fam.levels, level) {
			list = append(list, Field{Name: fam.prefix + "*", Level: level, Type: fam.typ, About: fam.about})
		}
	}
	return list
}

// Lookup finds the field of a name: "ordered_on", "ship_to.city" or "custom.hull_no". The second result is false if
// there is none.
func Lookup(level Level, name string) (Field, bool) {
	for _, f := range fields {
		if f.Level == level && f.Name == name {
			return f, true
		}
	}
	if level != Header && level != Lines {
		all := AllFields(level)
		i := slices.IndexFunc(all, func(f Field) bool { return f.Name == name })
		if i < 0 {
			return Field{}, false
		}
		return all[i], true
	}
	head, tail, dotted := strings.Cut(name, ".")
	if !dotted || tail == "" {
		return Field{}, false
	}
	if level == Header && slices.Contains(Roles, head) {
		for _, part := range partyParts {
			if part.name == tail {
				return Field{Name: name, Level: level, Type: part.typ, About: part.about,
					text: func(o *Order, _ *Line) *string {
						p := o.Party(head)
						if p == nil {
							o.Parties = append(o.Parties, Party{Role: head})
							p = &o.Parties[len(o.Parties)-1]
						}
						return part.of(p)
					}}, true
			}
		}
	}
	for _, fam := range slices.Concat(families, chargeFamilies) {
		if fam.prefix != head+"." || !slices.Contains(fam.levels, level) {
			continue
		}
		f := fam.make(tail)
		f.Name, f.Level, f.Type, f.About = name, level, fam.typ, fam.about
		return f, true
	}
	return Field{}, false
}

// IsMoney reports whether the field is an amount in the order's currency.
func (f *Field) IsMoney() bool {
	switch f.Name {
	case "unit_price", "amount", "total", "tax_amount", "total_before_tax":
		return true
	}
	return strings.HasPrefix(f.Name, "charge.") || strings.HasPrefix(f.Name, "allowance.")
}

// IsStated reports whether the field is a figure that Koinos also works out itself, so that the two can be compared.
func (f *Field) IsStated() bool {
	switch f.Name {
	case "amount":
		return f.Level == Lines
	case "total", "tax_amount", "total_before_tax":
		return f.Level == Header
	}
	return false
}
