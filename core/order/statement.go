package order

// Statement is what a record about an order says in addition to the fields of an order: a change, an answer, a
// shipment, a receipt, an invoice. Which fields have a meaning depends on the kind of record.
type Statement struct {
	Kind     string `json:"kind" enum:"change,answer,shipment,receipt,return,invoice" doc:"What the record is"`
	Number   string `json:"number,omitempty" doc:"Of the change (or the one that is answered), shipment, receipt, return or invoice"`
	On       Date   `json:"on,omitempty" doc:"Day of the change, answer, shipment, receipt, return or invoice"`
	Code     string `json:"code,omitempty" doc:"Answer: accepted, changed, refused, or a code of X12 element 587. Change: delete, where all that is open is cancelled"`
	Unasked  bool   `json:"unasked,omitempty" doc:"Answer: the seller has changed the order by itself; nobody has asked for it"`
	ToldOn   Date   `json:"told_on,omitempty" doc:"Shipment: day of the notice"`
	At       string `json:"at,omitempty" doc:"Shipment: time of day, HHMM"`
	DueOn    Date   `json:"due_on,omitempty" doc:"Shipment: day on which the goods should arrive. Answer: the day that is promised for the lines that have none of their own"`
	Carrier  string `json:"carrier,omitempty"`
	Tracking string `json:"tracking,omitempty"`
	Lading   string `json:"bill_of_lading,omitempty"`
	Packages Number `json:"packages,omitzero"`
	Weight   Number `json:"weight,omitzero"`
	WeightIn string `json:"weight_unit,omitempty"`
	Shipment string `json:"shipment,omitempty" doc:"Invoice: the shipment that it bills"`
	Base     Number `json:"base_revision,omitzero" doc:"Change: revision of the order that the record was made from"`
	Reason   string `json:"reason,omitempty" doc:"Change, withdrawal, return, credit note: why, in words"`

	Charges    string `json:"charges_billed,omitempty" doc:"Invoice: when the order's charges are billed: first, share, last or none"`
	Quantities string `json:"quantities,omitempty" doc:"Shipment, receipt, invoice: open means all that is open (of an invoice, all that has moved and is not billed), of the lines that are named without a quantity, or of all lines where none is named"`
	Reverses   string `json:"reverses,omitempty" doc:"Shipment, receipt, return, invoice: number of the one that this takes back, whole where no line is named"`
}

// LineStatement is what such a record says about a line.
type LineStatement struct {
	Asked        string `json:"asked,omitempty" doc:"Answer: the change that was asked for"`
	Code         string `json:"code,omitempty" doc:"Change: add, delete, change, or a code of X12 element 670. Answer: accepted, changed, back-ordered, pending, refused, or a code of X12 element 668"`
	Accepted     Number `json:"accepted,omitzero" doc:"Answer: the quantity that is accepted"`
	AcceptedUnit string `json:"accepted_unit,omitempty"`
	Item         string `json:"offered_item,omitempty" doc:"Answer: the item that is offered in place of the one that was ordered"`
	DueOn        Date   `json:"due_on,omitempty" doc:"Answer: the day that is promised"`
	Reason       string `json:"reason,omitempty"`
	ToDate       Number `json:"to_date,omitzero" doc:"Shipment: what has been shipped of the line with this one"`
	Lot          string `json:"lot,omitempty"`
	Package      string `json:"package,omitempty" doc:"Shipment, receipt, return: mark of the package that holds the goods"`
	PackageIn    string `json:"package_in,omitempty" doc:"Shipment, receipt, return: mark of the package that holds that one"`
	PriceFor     string `json:"price_for,omitempty" doc:"Change: all, where a new price also counts for what has moved or was invoiced"`
	Rest         string `json:"rest,omitempty" doc:"Shipment, receipt: cancel, where that was all, and what is left of the line is not wanted any more"`
}

func stated(o *Order) *Statement {
	if o.Statement == nil {
		o.Statement = &Statement{}
	}
	return o.Statement
}

func statedOf(l *Line) *LineStatement {
	if l.Statement == nil {
		l.Statement = &LineStatement{}
	}
	return l.Statement
}

// notices are the kinds of record about a stored order, as the table of statements names them.
const (
	ofChange   = "change"
	ofAnswer   = "answer"
	ofShipment = "shipment"
	ofReceipt  = "receipt"
	ofReturn   = "return"
	ofInvoice  = "invoice"

	ofWithdrawal = "withdrawal" // no mapping has records of it
)

// moving are the kinds of record that report movements of goods.
var moving = []string{ofShipment, ofReceipt, ofReturn}

// statements are the fields that only records of some kinds have, in addition to the fields of an order.
var statements = []Field{
	{Name: "change_number", Level: Header, Type: Code, Kinds: []string{ofChange, ofAnswer},
		About: "Number of the change, or of the one that is answered; the changes of an order are taken in their turn",
		text:  func(o *Order, _ *Line) *string { return &stated(o).Number }},
	{Name: "changed_on", Level: Header, Type: Day, Kinds: []string{ofChange}, About: "Day of the change",
		date: func(o *Order, _ *Line) *Date { return &stated(o).On }},
	{Name: "revision", Level: Header, Type: Decimal, Kinds: []string{ofChange},
		About: "Revision of the order that the record was made from, such as the revision in an exported table: only what differs from what the " +
			"order was then is a change, and a cell that is blank and was not is made blank",
		num: func(o *Order, _ *Line) *Number { return &stated(o).Base }},
	{Name: "answer", Level: Header, Type: Text, Kinds: []string{ofAnswer},
		About: "Answer to the order as a whole: accepted, changed, refused, or a code of X12 element 587",
		text:  func(o *Order, _ *Line) *string { return &stated(o).Code }},
	{Name: "answered_on", Level: Header, Type: Day, Kinds: []string{ofAnswer}, About: "Day of the answer",
		date: func(o *Order, _ *Line) *Date { return &stated(o).On }},
	{Name: "shipment", Level: Header, Type: Code, Kinds: []string{ofShipment}, Must: true,
		About: "Number of the shipment: it is posted once", text: func(o *Order,
			_ *Line) *string {
			return &stated(o).Number
		}},
	{Name: "shipped_on", Level: Header, Type: Day, Kinds: []string{ofShipment}, About: "Day on which the goods left",
		date: func(o *Order, _ *Line) *Date { return &stated(o).On }},
	{Name: "receipt", Level: Header, Type: Code, Kinds: []string{ofReceipt}, Must: true,
		About: "Number of the receipt: it is posted once", text: func(o *Order,
			_ *Line) *string {
			return &stated(o).Number
		}},
	{Name: "received_on", Level: Header, Type: Day, Kinds: []string{ofReceipt}, About: "Day on which the goods arrived",
		date: func(o *Order, _ *Line) *Date { return &stated(o).On }},
	{Name: "return", Level: Header, Type: Code, Kinds: []string{ofReturn}, Must: true,
		About: "Number of the return: it is posted once",
		text:  func(o *Order, _ *Line) *string { return &stated(o).Number }},
	{Name: "returned_on", Level: Header, Type: Day, Kinds: []string{ofReturn}, About: "Day on which the goods came back",
		date: func(o *Order, _ *Line) *Date { return &stated(o).On }},
	{Name: "told_on", Level: Header, Type: Day, Kinds: []string{ofShipment}, About: "Day of the notice",
		date: func(o *Order, _ *Line) *Date { return &stated(o).ToldOn }},
	{Name: "shipped_at", Level: Header, Type: Text, Kinds: []string{ofShipment}, About: "Time of day, HHMM",
		text: func(o *Order, _ *Line) *string { return &stated(o).At }},
	{Name: "due_on", Level: Header, Type: Day, Kinds: []string{ofShipment, ofAnswer},
		About: "Day on which the goods should arrive; of an answer, the day that is promised for the lines that have none of their own", date: func(o *Order, _ *Line) *Date { return &stated(o).DueOn }},
	{Name: "quantities", Level: Header, Type: Text, Kinds: append(moving, ofInvoice),
		About: "open: all that is open, of lines without a quantity, or of all lines where none is named",
		text:  func(o *Order, _ *Line) *string { return &stated(o).Quantities }},
	{Name: "reverses", Level: Header, Type: Code, Kinds: append(moving, ofInvoice),
		About: "Number of the one that this one takes back; all of it if no line is named",
		text:  func(o *Order, _ *Line) *string { return &stated(o).Reverses }},
	{Name: "carrier", Level: Header, Type: Text, Kinds: moving, About: "Who carries the goods",
		text: func(o *Order, _ *Line) *string { return &stated(o).Carrier }},
	{Name: "tracking", Level: Header, Type: Code, Kinds: moving, About: "The carrier's number",
		text: func(o *Order, _ *Line) *string { return &stated(o).Tracking }},
	{Name: "bill_of_lading", Level: Header, Type: Code, Kinds: moving, About: "Number of the bill of lading",
		text: func(o *Order, _ *Line) *string { return &stated(o).Lading }},
	{Name: "packages", Level: Header, Type: Decimal, Kinds: moving, About: "How many packages",
		num: func(o *Order, _ *Line) *Number { return &stated(o).Packages }},
	{Name: "weight", Level: Header, Type: Decimal, Kinds: moving, About: "Gross weight of all of it",
		num: func(o *Order, _ *Line) *Number { return &stated(o).Weight }},
	{Name: "weight_unit", Level: Header, Type: Code, Kinds: moving, About: "Unit of the weight, such as KGM",
		text: func(o *Order, _ *Line) *string { return &stated(o).WeightIn }},
	{Name: "invoice", Level: Header, Type: Code, Kinds: []string{ofInvoice}, Must: true,
		About: "Number of the invoice: it counts once", text: func(o *Order,
			_ *Line) *string {
			return &stated(o).Number
		}},
	{Name: "invoiced_on", Level: Header, Type: Day, Kinds: []string{ofInvoice}, About: "Day of the invoice",
		date: func(o *Order, _ *Line) *Date { return &stated(o).On }},
	{Name: "billed_shipment", Level: Header, Type: Code, Kinds: []string{ofInvoice},
		About: "Number of the shipment that it bills", text: func(o *Order,
			_ *Line) *string {
			return &stated(o).Shipment
		}},

	{Name: "charges_billed", Level: Header, Type: Choice, Choices: []string{"first", "share", "last", "none"},
		Kinds: []string{ofInvoice},
		About: "When the order's charges are billed: with the first invoice, by share of the goods, with the last, or not",
		text:  func(o *Order, _ *Line) *string { return &stated(o).Charges }},

	{Name: "stage", Level: Header, Type: Choice, Choices: Stages, Kinds: []string{ofChange},
		About: "The stage of the order; it can be set as long as nothing has moved",
		text:  func(o *Order, _ *Line) *string { return (*string)(&o.Stage) }},
	{Name: "reason", Level: Header, Type: Text, Kinds: []string{ofChange, ofWithdrawal, ofReturn, ofInvoice},
		About: "Why, in words",
		text:  func(o *Order, _ *Line) *string { return &stated(o).Reason }},

	{Name: "change", Level: Header, Type: Text, Kinds: []string{ofChange},
		About: "What becomes of the order as a whole: delete cancels all that is open of it; change is the default",
		text:  func(o *Order, _ *Line) *string { return &stated(o).Code }},
	{Name: "change", Level: Lines, Type: Text, Kinds: []string{ofChange},
		About: "What becomes of the line: add, delete, change (the default), replace (also its item), or a code of X12 element 670",
		text:  func(_ *Order, l *Line) *string { return &statedOf(l).Code }},
	{Name: "price_for", Level: Lines, Type: Choice, Choices: []string{"open", "all"}, Kinds: []string{ofChange},
		About: "What a new price counts for: what is open (the default), or all, also what has moved or was invoiced",
		text:  func(_ *Order, l *Line) *string { return &statedOf(l).PriceFor }},
	{Name: "change", Level: Lines, Type: Text, Kinds: []string{ofAnswer},
		About: "The change of the line that is answered", text: func(_ *Order,
			l *Line) *string {
			return &statedOf(l).Asked
		}},
	{Name: "answer", Level: Lines, Type: Text, Kinds: []string{ofAnswer},
		About: "What the seller says: accepted, changed, back-ordered, pending, refused, or a code of X12 element 668",
		text:  func(_ *Order, l *Line) *string { return &statedOf(l).Code }},
	{Name: "accepted", Level: Lines, Type: Decimal, Kinds: []string{ofAnswer}, About: "Quantity that is accepted",
		num: func(_ *Order, l *Line) *Number { return &statedOf(l).Accepted }},
	{Name: "accepted_unit", Level: Lines, Type: Text, Kinds: []string{ofAnswer},
		About: "Unit of the quantity that is accepted", text: func(_ *Order,
			l *Line) *string {
			return &statedOf(l).AcceptedUnit
		}},
	{Name: "offered_item", Level: Lines, Type: Code, Kinds: []string{ofAnswer},
		About: "Code of the item that the seller offers in place of the one that was ordered",
		text:  func(_ *Order, l *Line) *string { return &statedOf(l).Item }},
	{Name: "due_on", Level: Lines, Type: Day, Kinds: []string{ofAnswer}, About: "Day for which the line is promised",
		date: func(_ *Order, l *Line) *Date { return &statedOf(l).DueOn }},
	{Name: "reason", Level: Lines, Type: Text, Kinds: []string{ofAnswer, ofChange}, About: "Why, in words",
		text: func(_ *Order, l *Line) *string { return &statedOf(l).Reason }},
	{Name: "shipped_to_date", Level: Lines, Type: Decimal, Kinds: []string{ofShipment},
		About: "What has been shipped of the line so far, this shipment included",
		num:   func(_ *Order, l *Line) *Number { return &statedOf(l).ToDate }},
	{Name: "rest", Level: Lines, Type: Text, Kinds: []string{ofShipment, ofReceipt},
		About: "cancel: that was all, what is left of the line is not wanted any more",
		text:  func(_ *Order, l *Line) *string { return &statedOf(l).Rest }},
	{Name: "lot", Level: Lines, Type: Code, Kinds: moving,
		About: "Lot or serial number of the goods", text: func(_ *Order, l *Line) *string { return &statedOf(l).Lot }},
	{Name: "package", Level: Lines, Type: Code, Kinds: moving,
		About: "Mark of the package that holds the goods, such as an SSCC",
		text:  func(_ *Order, l *Line) *string { return &statedOf(l).Package }},
	{Name: "package_in", Level: Lines, Type: Code, Kinds: moving,
		About: "Mark of the package, such as a pallet, that holds that one",
		text:  func(_ *Order, l *Line) *string { return &statedOf(l).PackageIn }},
}

// Seller returns an order as its seller sees it, whichever side we are: our purchase order is their sales order, our
// item is the buyer's, and our number is the sender's.
func Seller(o *Order) Order {
	m := *o.Clone()
	m.ID, m.Revision, m.Kind = 0, 0, Sales
	if o.Kind == Purchase {
		m.Number, m.SenderNumber = o.SenderNumber, o.Number
	}
	for i := range m.Lines {
		if l := &m.Lines[i]; o.Kind == Purchase {
			l.Item, l.BuyerItem, l.SupplierItem = l.SupplierItem, l.Item, ""
		}
	}
	return m
}

// Buyer turns an order that is as its seller sees it into the buyer's view.
func Buyer(o *Order) Order {
	m := *o.Clone()
	m.Kind, m.Number, m.SenderNumber = Purchase, o.SenderNumber, o.Number
	for i := range m.Lines {
		l := &m.Lines[i]
		l.Item, l.BuyerItem, l.SupplierItem = l.BuyerItem, "", l.Item
	}
	return m
}
