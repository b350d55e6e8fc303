package order

// MovementKind says which way goods moved.
type MovementKind string

const (
	Shipment MovementKind = "shipment" // they left the seller
	Receipt  MovementKind = "receipt"  // they arrived at the buyer
	Return   MovementKind = "return"   // they went back to the seller
)

// MovementKinds are all of them.
var MovementKinds = []MovementKind{Shipment, Receipt, Return}

// Movement is goods that moved: a shipment, a receipt or a return. It is posted once by its number and never edited.
// What has been shipped, received or returned of a line is the sum of its movements.
type Movement struct {
	ID       int64          `json:"id,omitzero"`
	Kind     MovementKind   `json:"kind" enum:"shipment,receipt,return"`
	Partner  string         `json:"partner" doc:"Our code of the customer or supplier"`
	Number   string         `json:"number" doc:"The sender's; where nobody gave one, the order's with its revision"`
	On       Date           `json:"on,omitempty" doc:"Day on which the goods left or arrived"`
	At       string         `json:"at,omitempty" doc:"Time of day, HHMM"`
	DueOn    Date           `json:"due_on,omitempty" doc:"Day on which the goods should arrive"`
	Carrier  string         `json:"carrier,omitempty"`
	Tracking string         `json:"tracking,omitempty"`
	Lading   string         `json:"bill_of_lading,omitempty" doc:"Number of the bill of lading"`
	Packages Number         `json:"packages,omitzero" doc:"How many packages there are"`
	Weight   Number         `json:"weight,omitzero" doc:"Gross weight of all of it"`
	WeightIn string         `json:"weight_unit,omitempty" doc:"Unit of the weight, such as KGM"`
	Notes    string         `json:"notes,omitempty"`
	Reverses string         `json:"reverses,omitempty" doc:"Number of the movement that this one takes back: its quantities are below zero"`
	Lines    []MovementLine `json:"lines"`
}

// MovementLine is how much of a line of an order moved.
type MovementLine struct {
	Line     int    `json:"line" doc:"Id of the order's line"`
	Quantity Number `json:"quantity" doc:"In the unit of the order's line"`
	Lot      string `json:"lot,omitempty" doc:"Lot or serial number"`
	Revision int    `json:"order_revision" doc:"Revision of the order with which it was posted"`
	LineDetail
}

// LineDetail is what else was said about a line that moved.
type LineDetail struct {
	Told      Number `json:"told,omitzero" doc:"The quantity as it was said, where that was in another unit than the line's"`
	ToldUnit  string `json:"told_unit,omitempty" doc:"Unit of that quantity"`
	Package   string `json:"package,omitempty" doc:"Mark of the package that holds the goods, such as an SSCC"`
	PackageIn string `json:"package_in,omitempty" doc:"Mark of the package, such as a pallet, that holds that one"`
}

// Answered is what the seller said to an order, or to a requested change.
type Answered struct {
	Revision int            `json:"order_revision" doc:"Revision of the order with which it came"`
	Code     string         `json:"code,omitempty" doc:"For the order as a whole"`
	On       Date           `json:"on,omitempty"`
	Number   string         `json:"number,omitempty" doc:"The seller's number of the order"`
	Replaces bool           `json:"replaces,omitempty" doc:"It takes the place of all earlier answers; otherwise lines that it does not name stay as they were answered"`
	Lines    []AnsweredLine `json:"lines"`
}

// AnsweredLine is what the seller said about a line. A line may have several.
type AnsweredLine struct {
	Line      int    `json:"line" doc:"Id of the order's line"`
	Code      string `json:"code,omitempty"`
	Asked     string `json:"asked,omitempty" doc:"The change of the line that it answers, as a code of X12 element 670"`
	Quantity  Number `json:"quantity,omitzero"`
	Unit      string `json:"unit,omitempty"`
	DueOn     Date   `json:"due_on,omitempty"`
	UnitPrice Number `json:"unit_price,omitzero"`

	PriceBasis Number `json:"price_basis,omitzero"`
	Reason     string `json:"reason,omitempty"`
	Item       string `json:"item,omitempty" doc:"Code of the item that is offered in place of the one that was ordered"`
}

// Invoice is what the seller bills. It counts once by its number.
type Invoice struct {
	ID       int64         `json:"id,omitzero"`
	Partner  string        `json:"partner" doc:"Our code of the customer or supplier"`
	Number   string        `json:"number"`
	On       Date          `json:"on,omitempty"`
	Currency string        `json:"currency,omitempty"`
	Lines    []InvoiceLine `json:"lines"`
	InvoicePart
}

// InvoicePart is what an invoice says about an order besides its lines. One invoice may bill several orders.
type InvoicePart struct {
	Reverses string          `json:"reverses,omitempty" doc:"Number of the invoice that this credit note takes back: its quantities and amounts are below zero"`
	Reason   string          `json:"reason,omitempty"`
	Shipment string          `json:"shipment,omitempty" doc:"Number of the shipment that it bills"`
	Charges  []InvoiceCharge `json:"charges,omitempty"`
	Goods    Number          `json:"goods,omitzero" doc:"Sum of its lines' amounts"`
	Tax      Number          `json:"tax,omitzero"`
	Total    Number          `json:"total,omitzero" doc:"Goods + charges − allowances + tax"`
	Stated   Number          `json:"total_stated,omitzero" doc:"The total as the invoice states it"`
}

// InvoiceCharge is an allowance or charge that is billed.
type InvoiceCharge struct {
	Charge
	Line int `json:"line,omitempty" doc:"Id of the order's line that it belongs to; absent is the whole order"`
}

// InvoiceLine is how much of a line of an order is billed.
type InvoiceLine struct {
	Line      int    `json:"line" doc:"Id of the order's line"`
	Quantity  Number `json:"quantity" doc:"In the unit of the order's line"`
	UnitPrice Number `json:"unit_price,omitzero"`
	Amount    Number `json:"amount,omitzero"`
	Revision  int    `json:"order_revision"`
	InvoiceTerms
}

// InvoiceTerms are the further terms of a part of a line that is billed.
type InvoiceTerms struct {
	Part            int    `json:"part,omitempty" doc:"Which part of its line it is, where a line is billed at several prices; counted from 0"`
	PriceBasis      Number `json:"price_basis,omitzero"`
	DiscountPercent Number `json:"discount_percent,omitzero"`
	TaxPercent      Number `json:"tax_percent,omitzero"`
}

// Moved is the line's quantity that has moved, to be read or set.
func (l *Line) Moved(kind MovementKind) *Number {
	switch kind {
	case Receipt:
		return &l.Received
	case Return:
		return &l.Returned
	}
	return &l.Shipped
}

// Gone is what of the line has moved from the seller to the buyer: shipped or received, whichever is more.
func (l *Line) Gone() Number {
	if l.Received.Cmp(l.Shipped) > 0 {
		return l.Received
	}
	return l.Shipped
}

// Limit is the largest quantity of the line that can move. What is wanted can be shipped and received, and what has
// moved can be returned.
func (l *Line) Limit(kind MovementKind) (Number, error) {
	if kind == Return {
		return l.Gone(), nil
	}
	return l.Wanted()
}

// Moves is how goods of orders of the kind move: those of a sales order are shipped, those of a purchase order
// received.
func (k Kind) Moves() MovementKind {
	if k == Purchase {
		return Receipt
	}
	return Shipment
}

// Wanted is the quantity that is wanted: what was ordered less what was cancelled.
func (l *Line) Wanted() (Number, error) { return l.Quantity.Sub(l.Cancelled) }

// Open is the quantity of the line that is still to move; never below zero.
func (l *Line) Open(kind MovementKind) (Number, error) {
	left, err := l.Limit(kind)
	if err == nil {
		left, err = left.Sub(*l.Moved(kind))
	}
	if err != nil || left.Sign() < 0 {
		return Number{}, err
	}
	return left, nil
}
