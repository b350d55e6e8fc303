package api

import (
	"koinos/core/finding"
	"koinos/core/order"
	"koinos/core/origin"
	"koinos/core/outcome"
	"koinos/core/reading"
)

// OrderSummary is an order as a list shows it.
type OrderSummary struct {
	ID                  int64        `json:"id" db:"id"`
	Kind                order.Kind   `json:"kind" db:"kind" enum:"sales,purchase"`
	Number              string       `json:"number" db:"number"`
	SenderNumber        string       `json:"sender_number,omitempty" db:"sender_number"`
	Partner             string       `json:"partner" db:"partner"`
	OrderedOn           order.Date   `json:"ordered_on,omitempty" db:"ordered_on"`
	RequestedDeliveryOn order.Date   `json:"requested_delivery_on,omitempty" db:"requested_delivery_on"`
	Currency            string       `json:"currency,omitempty" db:"currency"`
	Total               string       `json:"total" db:"total"`
	Lines               int          `json:"lines" db:"line_count"`
	Status              order.Status `json:"status" db:"status" enum:"draft,open,confirmed,partial,complete,cancelled"`
	Revision            int          `json:"revision" db:"revision"`
	Load                int64        `json:"load,omitempty" db:"load_id"`
}

// Event is one thing that happened to an order. The events of all orders have increasing numbers: a reader asks for
// those behind the last one that it has seen.
type Event struct {
	N        int64          `json:"n" doc:"Number of the event among those of all orders"`
	OrderID  int64          `json:"order_id"`
	Revision int            `json:"revision" doc:"Revision of the order that it made"`
	Action   string         `json:"action" doc:"created, changed, revised, answered, moved, invoiced, taken back, removed"`
	Origin   origin.Origin  `json:"origin"`
	Changes  []order.Change `json:"changes,omitempty"`
	LeftOut  int            `json:"changes_left_out,omitempty" doc:"How many changes are not listed here"`
	Trace    *origin.Trace  `json:"-"` // where values stand in the origin's document, by ids of lines
}

// Named describes the event's changes in a line of text, the first few fields by name.
func (e *Event) Named() string { return order.NamedOf(e.Changes, e.LeftOut) }

// Taken is an order that undoing a load affects.
type Taken struct {
	Seq     int    `db:"seq" json:"seq"`
	OrderID int64  `db:"order_id" json:"order_id"`
	Number  string `db:"number" json:"number"`
	Outcome string `db:"outcome" json:"outcome" doc:"What the load had done: loaded or changed"`
	Why     string `db:"-" json:"why,omitempty" doc:"Why it cannot be taken back"`
}

// Why is the answer to "why does this order say that?".
type Why struct {
	Order  int64          `json:"order"`
	Number string         `json:"number"`
	Line   int            `json:"line,omitempty"`
	Field  string         `json:"field"`
	Value  string         `json:"value"`
	Origin origin.Origin  `json:"origin" doc:"What brought the value"`
	Place  origin.Place   `json:"place,omitzero" doc:"Where in the document it stands"`
	At     string         `json:"at,omitempty" doc:"The place as a person says it"`
	Steps  []reading.Step `json:"steps" doc:"What was done to it on the way, in turn"`
	Terms  []order.Term   `json:"terms,omitempty" doc:"What a value was made of that Koinos computed"`
	Events []Event        `json:"events" doc:"What changed the field since the order was stored"`
	Came   *Arrival       `json:"came,omitempty" doc:"What a system said, where it came from one"`
	Gone   string         `json:"gone,omitempty" doc:"What is not kept any more, so that the steps cannot be told, and since when"`
}

// Notice is what somebody says about a stored order: what changes, what moved, what is answered or billed. Its fields
// are those that a mapping of such records has, by their names; values are text, days as yyyy-mm-dd, numbers with a
// decimal point.
type Notice struct {
	Header map[string]string   `json:"header,omitempty" doc:"Fields of the notice, and for a change those of the order that become others: {\"shipment\": \"LS-771\", \"carrier\": \"Tern\"}"`
	Lines  []map[string]string `json:"lines,omitempty" maxItems:"10000" doc:"Lines of the order that are spoken of, by id, number, sender_line or item: {\"number\": \"2\", \"quantity\": \"5\"}"`
}

// Posted is the result for an order that was posted by itself.
type Posted struct {
	Outcome  outcome.Outcome   `json:"outcome" enum:"loaded,changed,unchanged,refused"`
	OrderID  int64             `json:"order_id,omitempty"`
	Number   string            `json:"number,omitempty"`
	Revision int               `json:"revision,omitempty"`
	Document string            `json:"document,omitempty" doc:"SHA-256 of the body, which is kept"`
	Changes  []order.Change    `json:"changes,omitempty"`
	Findings []finding.Finding `json:"findings"`
}

// StoredOrder is a stored order with what is known about it.
type StoredOrder struct {
	order.Order
	Load         int64            `json:"load,omitempty" doc:"The load that brought it as a whole; absent where it came by itself"`
	Seq          int              `json:"load_seq,omitempty" doc:"Which order of that load's document it was"`
	Document     string           `json:"document,omitempty" doc:"SHA-256 of the document that it came from"`
	DocumentName string           `json:"document_name,omitempty"`
	Mapping      string           `json:"mapping,omitempty"`
	Version      int              `json:"mapping_version,omitempty"`
	Places       []origin.Located `json:"places" doc:"Where in that document each value stands; what was changed since has its place in the event that changed it"`
	Movements    []order.Movement `json:"movements,omitempty" doc:"Shipments and receipts"`
	Answers      []order.Answered `json:"answers,omitempty" doc:"What the seller said"`
	Invoices     []order.Invoice  `json:"invoices,omitempty"`
	Offers       []order.Offer    `json:"offers,omitempty" doc:"What the supplier's answers come to for each line of a purchase order, compared with the order as it is now"`
	Links        []Link           `json:"links,omitempty" doc:"Which records of other systems it is"`
	Events       []Event          `json:"events" doc:"What happened to it, oldest first"`
}
