package order

import "strings"

// Kind says which way the goods go.
type Kind string

const (
	Sales    Kind = "sales"    // a partner orders from us
	Purchase Kind = "purchase" // we order from a supplier
)

// Kinds are both kinds of order.
var Kinds = []string{string(Sales), string(Purchase)}

// Date is a calendar day as ISO 8601 writes it, "2026-03-14"; "" is no date. Days can be compared as text.
type Date string

// Status is worked out from an order's lines. Nobody sets it.
type Status string

const (
	Draft     Status = "draft"     // nobody has said yes to it
	Open      Status = "open"      // nothing has moved
	Confirmed Status = "confirmed" // the other side has said yes, nothing has moved
	Partial   Status = "partial"   // some of the goods have been shipped or received
	Complete  Status = "complete"  // nothing more is due
	Cancelled Status = "cancelled" // every line was cancelled whole
)

// Stages are what an order can be before any of its goods have moved.
var Stages = []string{string(Draft), string(Open), string(Confirmed)}

// Order is one sales or purchase order with its lines.
type Order struct {
	ID           int64  `json:"id,omitzero" doc:"Koinos's own id; 0 before the order is stored"`
	Kind         Kind   `json:"kind" enum:"sales,purchase"`
	Number       string `json:"number,omitempty" doc:"Our number, given or taken from the series of its kind"`
	SenderNumber string `json:"sender_number,omitempty" doc:"The number the sender gave it"`
	Partner      string `json:"partner,omitempty" doc:"Our code of the customer or supplier"`

	OrderedOn           Date   `json:"ordered_on,omitempty"`
	RequestedShipOn     Date   `json:"requested_ship_on,omitempty"`
	RequestedDeliveryOn Date   `json:"requested_delivery_on,omitempty"`
	CancelAfter         Date   `json:"cancel_after,omitempty"`
	Currency            string `json:"currency,omitempty" doc:"ISO 4217"`
	PaymentTerms        string `json:"payment_terms,omitempty"`
	DeliveryTerms       string `json:"delivery_terms,omitempty"`
	PriceLevel          string `json:"price_level,omitempty"`
	TaxTreatment        string `json:"tax_treatment,omitempty" doc:"exclusive, inclusive or exempt"`
	TaxRounding         string `json:"tax_rounding,omitempty" doc:"Where tax is rounded: on each line (line; also where absent), or once for each rate (order)"`
	TaxBase             string `json:"tax_base,omitempty" doc:"What the lines' rates of tax are of: their amounts (lines; also where absent), those less allowances of the lines and the order (less_allowances), or with all charges, too (with_charges)"`
	Notes               string `json:"notes,omitempty"`
	OnHold              string `json:"on_hold,omitempty" doc:"Why it is on hold: nothing of it should move or be billed; absent is that it is not"`

	References []Reference `json:"references,omitempty"`
	Parties    []Party     `json:"parties,omitempty"`
	Charges    []Charge    `json:"charges,omitempty" doc:"Allowances and charges on the whole order"`
	Custom     []Custom    `json:"custom,omitempty" doc:"Fields of the user's own"`
	Lines      []Line      `json:"lines,omitempty"`
	Statement  *Statement  `json:"statement,omitempty" doc:"What a change, an answer, a shipment or an invoice says besides"`

	TaxAmount   Number `json:"tax_amount,omitzero" doc:"Tax as the document states it for the whole order"`
	StatedTotal Number `json:"total_stated,omitzero" doc:"The total as the document states it"`
	StatedNet   Number `json:"total_before_tax_stated,omitzero" doc:"The total without tax as the document states it"`
	Goods       Number `json:"goods,omitzero" doc:"Sum of the lines' amounts"`
	Tax         Number `json:"tax,omitzero" doc:"Sum of the lines' tax, or the stated tax where lines carry none; of prices that hold the tax, the share that is tax"`
	Total       Number `json:"total,omitzero" doc:"Goods + charges − allowances + tax"`

	Stage      Status `json:"stage,omitempty" enum:"draft,open,confirmed" doc:"Its status as long as nothing has moved; absent is open"`
	LastChange string `json:"last_change,omitempty" doc:"Number of the last change that was taken (X12 BCH05)"`
	Opening    bool   `json:"opening,omitempty" doc:"It was there before Koinos was: it keeps the sender's number and is not passed on"`
	Status     Status `json:"status,omitempty" enum:"draft,open,confirmed,partial,complete,cancelled"`
	Revision   int    `json:"revision,omitzero" doc:"1 when stored first; one more with every change"`
	LastLine   int    `json:"-"` // highest id that a line of the order ever had
}

// Reference is another party's number for the order.
type Reference struct {
	Qualifier string `json:"qualifier" doc:"What kind of number it is, e.g. contract"`
	Value     string `json:"value"`
}

// Custom is a field that the user defines.
type Custom struct {
	Name  string `json:"name"`
	Value string `json:"value"`
}

// Party is a firm or place with a role in the order.
type Party struct {
	Role          string `json:"role" doc:"ship_to, bill_to, buyer, supplier, carrier"`
	Code          string `json:"code,omitempty"`
	CodeQualifier string `json:"code_qualifier,omitempty" doc:"Whose code it is, e.g. GLN"`
	Name          string `json:"name,omitempty"`
	Name2         string `json:"name2,omitempty" doc:"Second line of the name, such as a department, or in care of whom"`
	Street        string `json:"street,omitempty"`
	Street2       string `json:"street2,omitempty"`
	City          string `json:"city,omitempty"`
	Region        string `json:"region,omitempty"`
	PostalCode    string `json:"postal_code,omitempty"`
	Country       string `json:"country,omitempty" doc:"ISO 3166-1 alpha-2"`
	Contact       string `json:"contact,omitempty"`
	Phone         string `json:"phone,omitempty"`
	Email         string `json:"email,omitempty"`
}

// Line is one position of an order.
type Line struct {
	ID              int      `json:"id,omitzero" doc:"The line's id within its order: it stays through every change, and no other line ever gets it"`
	Number          string   `json:"number,omitempty" doc:"Line number: the sender's, or counted from 1"`
	SenderLine      string   `json:"sender_line,omitempty" doc:"The sender's own id of the line"`
	Item            string   `json:"item,omitempty" doc:"Our item code"`
	BuyerItem       string   `json:"buyer_item,omitempty"`
	SupplierItem    string   `json:"supplier_item,omitempty"`
	GTIN            string   `json:"gtin,omitempty" doc:"Global Trade Item Number"`
	Description     string   `json:"description,omitempty"`
	Quantity        Number   `json:"quantity,omitzero"`
	Unit            string   `json:"unit,omitempty"`
	UnitPrice       Number   `json:"unit_price,omitzero"`
	PriceBasis      Number   `json:"price_basis,omitzero" doc:"How many units the price is for; absent is 1"`
	DiscountPercent Number   `json:"discount_percent,omitzero" doc:"5 is five per cent"`
	TaxPercent      Number   `json:"tax_percent,omitzero" doc:"20 is twenty per cent"`
	Earlier         []Priced `json:"earlier_prices,omitempty" doc:"Quantities that had moved or were invoiced when the price changed: they keep the price of then"`
	StatedAmount    Number   `json:"amount_stated,omitzero" doc:"The amount as the document states it"`
	Amount          Number   `json:"amount,omitzero" doc:"(quantity − cancelled) × unit price ÷ price basis, less discount, rounded"`

	RequestedShipOn     Date     `json:"requested_ship_on,omitempty"`
	RequestedDeliveryOn Date     `json:"requested_delivery_on,omitempty"`
	Location            string   `json:"location,omitempty"`
	Shipped             Number   `json:"shipped,omitzero" doc:"Quantity shipped so far: the sum of the shipments"`
	Received            Number   `json:"received,omitzero" doc:"Quantity received so far: the sum of the receipts"`
	Returned            Number   `json:"returned,omitzero" doc:"Quantity that went back to the seller: the sum of the returns"`
	Cancelled           Number   `json:"cancelled,omitzero" doc:"Quantity cancelled"`
	Backordered         Number   `json:"backordered,omitzero" doc:"Quantity that comes later than was asked: as the order says, or else as the last answer about the line says and as far as it is open"`
	Notes               string   `json:"notes,omitempty"`
	Charges             []Charge `json:"charges,omitempty"`
	Custom              []Custom `json:"custom,omitempty"`
	Deliveries          Schedule `json:"deliveries,omitempty" doc:"Parts of the line that go to places, or on days, of their own"`

	Invoiced  Number         `json:"invoiced,omitzero" doc:"Quantity invoiced so far"`
	Status    Status         `json:"status,omitempty" enum:"open,partial,complete,cancelled" doc:"It follows from what has moved and what is cancelled; only shown, not stored"`
	Statement *LineStatement `json:"statement,omitempty" doc:"What a change, an answer or a shipment says of the line besides"`
}

// Identity is what makes two arrivals the same order: kind, partner and the sender's number, ignoring letter case and
// outer space. It is "" if the sender's number is missing.
func (o *Order) Identity() string {
	number := strings.ToUpper(strings.TrimSpace(o.SenderNumber))
	if number == "" {
		return ""
	}
	return string(o.Kind) + "|" + strings.ToUpper(strings.TrimSpace(o.Partner)) + "|" + number
}

// Position is the position of the line with an id, counted from 1; 0 if there is none.
func (o *Order) Position(id int) int {
	// Ids are counted from 1 and the lines nearly always stand in their order, without those that are gone.
	near := min(max(id, 0), len(o.Lines))
	for i := near - 1; i >= 0; i-- {
		if o.Lines[i].ID == id {
			return i + 1
		}
	}
	for i := near; i < len(o.Lines); i++ {
		if o.Lines[i].ID == id {
			return i + 1
		}
	}
	return 0
}

// Party returns the party of a role, or nil.
func (o *Order) Party(role string) *Party {
	for i := range o.Parties {
		if o.Parties[i].Role == role {
			return &o.Parties[i]
		}
	}
	return nil
}

// DeriveStatus works the status out from what has moved of the lines: what was shipped for a sales order, what was
// received for a purchase order.
func (o *Order) DeriveStatus() Status {
	due, moved, live := false, false, len(o.Lines) == 0
	for i := range o.Lines {
		l := &o.Lines[i]
		done := l.Shipped
		if o.Kind == Purchase {
			done = l.Received
		}
		moved = moved || done.Sign() > 0
		left, err := l.Quantity.d.Sub(l.Cancelled.d)
		if err != nil || left.Sign() > 0 || l.Cancelled.Sign() == 0 {
			live = true
		}
		if err != nil || left.Cmp(done.d) > 0 {
			due = true
		}
	}
	switch {
	case !live:
		return Cancelled
	case moved && !due:
		return Complete
	case moved:
		return Partial
	case o.Stage != "":
		return o.Stage
	}
	return Open
}

// DeriveStatus returns the status of a line of an order of a kind: open, or whether something of it, or all that is
// wanted, has moved, or all of it was cancelled.
func (l *Line) DeriveStatus(kind Kind) Status {
	done := l.Moved(kind.Moves())
	wanted, err := l.Wanted()
	switch {
	case err == nil && wanted.Sign() <= 0 && l.Cancelled.Sign() != 0:
		return Cancelled
	case done.Sign() <= 0:
		return Open
	case err != nil || wanted.Cmp(*done) > 0:
		return Partial
	}
	return Complete
}
