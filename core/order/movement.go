package order

// MovementKind says which way goods moved.
type MovementKind string

const (
	Shipment MovementKind = "shipment" // they left the seller
	Receipt  MovementKind = "receipt"  // they arrived at the buyer
)

// Movement is goods that moved: a shipment or a receipt. It is posted once by its
// number and never edited; what has been shipped or received of a line is the sum
// of its movements.
type Movement struct {
	ID       int64          `json:"id,omitzero"`
	Kind     MovementKind   `json:"kind" enum:"shipment,receipt"`
	Partner  string         `json:"partner" doc:"Our code of the customer or supplier"`
	Number   string         `json:"number" doc:"The sender's; where nobody gave one, the order's with its revision"`
	On       Date           `json:"on,omitempty" doc:"Day on which the goods left or arrived"`
	At       string         `json:"at,omitempty" doc:"Time of day, HHMM"`
	DueOn    Date           `json:"due_on,omitempty" doc:"Day on which the goods should arrive"`
	Carrier  string         `json:"carrier,omitempty"`
	Tracking string         `json:"tracking,omitempty"`
	Packages Number         `json:"packages,omitzero"`
	Reverses string         `json:"reverses,omitempty" doc:"Number of the movement that this one takes back: its quantities are below zero"`
	Lines    []MovementLine `json:"lines"`
}

// MovementLine is how much of a line of an order moved.
type MovementLine struct {
	Line     int    `json:"line" doc:"Id of the order's line"`
	Quantity Number `json:"quantity"`
	Lot      string `json:"lot,omitempty" doc:"Lot or serial number"`
	Revision int    `json:"order_revision" doc:"Revision of the order with which it was posted"`
}

// Answered is what the seller said to an order, or to a change that was asked for.
type Answered struct {
	Revision int            `json:"order_revision" doc:"Revision of the order with which it came"`
	Code     string         `json:"code,omitempty" doc:"For the order as a whole"`
	On       Date           `json:"on,omitempty"`
	Number   string         `json:"number,omitempty" doc:"The seller's number of the order"`
	Lines    []AnsweredLine `json:"lines"`
}

// AnsweredLine is what the seller said of a line; a line may have several.
type AnsweredLine struct {
	Line      int    `json:"line" doc:"Id of the order's line"`
	Code      string `json:"code,omitempty"`
	Quantity  Number `json:"quantity,omitzero"`
	Unit      string `json:"unit,omitempty"`
	DueOn     Date   `json:"due_on,omitempty"`
	UnitPrice Number `json:"unit_price,omitzero"`
	Reason    string `json:"reason,omitempty"`
}

// Invoice is what the seller wants money for. It counts once by its number.
type Invoice struct {
	ID       int64         `json:"id,omitzero"`
	Partner  string        `json:"partner" doc:"Our code of the customer or supplier"`
	Number   string        `json:"number"`
	On       Date          `json:"on,omitempty"`
	Currency string        `json:"currency,omitempty"`
	Total    Number        `json:"total,omitzero" doc:"As the invoice states it"`
	Lines    []InvoiceLine `json:"lines"`
}

// InvoiceLine is how much of a line of an order is billed.
type InvoiceLine struct {
	Line      int    `json:"line" doc:"Id of the order's line"`
	Quantity  Number `json:"quantity"`
	UnitPrice Number `json:"unit_price,omitzero"`
	Amount    Number `json:"amount,omitzero"`
	Revision  int    `json:"order_revision"`
}

// Moved is what has moved of the line, to be read or set.
func (l *Line) Moved(kind MovementKind) *Number {
	if kind == Receipt {
		return &l.Received
	}
	return &l.Shipped
}

// Moves is how goods of orders of the kind move: those of a sales order are shipped, those of a purchase order received.
func (k Kind) Moves() MovementKind {
	if k == Purchase {
		return Receipt
	}
	return Shipment
}

// Wanted is what of the line is wanted: what was ordered less what was cancelled.
func (l *Line) Wanted() (Number, error) { return l.Quantity.Sub(l.Cancelled) }

// Open is what of the line is still to move; never below zero.
func (l *Line) Open(kind MovementKind) (Number, error) {
	left, err := l.Wanted()
	if err == nil {
		left, err = left.Sub(*l.Moved(kind))
	}
	if err != nil || left.Sign() < 0 {
		return Number{}, err
	}
	return left, nil
}
