package api

import (
	"encoding/json"
	"koinos/core/finding"
	"koinos/core/order"
	"koinos/core/origin"
	"koinos/core/partner"
	"time"
)

// Interchange is an interchange that came or that is sent.
type Interchange struct {
	ID             int64             `json:"id"`
	Partner        string            `json:"partner"`
	Direction      string            `json:"direction" enum:"in,out"`
	Control        int64             `json:"control,omitempty" doc:"ISA13; none where it is held"`
	GroupControl   int64             `json:"group_control,omitempty" doc:"Ours: GS06"`
	Document       string            `json:"document,omitempty" doc:"SHA-256"`
	Kinds          string            `json:"kinds" doc:"Its transaction sets"`
	State          string            `json:"state" enum:"arriving,received,done,held,rejected,duplicate,doubtful,unknown,ready,sent,accepted,noted,partly"`
	Overdue        bool              `json:"overdue,omitempty" doc:"It should have been acknowledged by now"`
	Name           string            `json:"name,omitempty" doc:"Of the file it came or goes in"`
	Answers        int64             `json:"answers,omitempty" doc:"The interchange that it acknowledges"`
	At             time.Time         `json:"at"`
	SentAt         time.Time         `json:"sent_at,omitzero"`
	DueAt          time.Time         `json:"due_at,omitzero" doc:"When it should be acknowledged"`
	AcknowledgedAt time.Time         `json:"acknowledged_at,omitzero"`
	By             string            `json:"by"`
	Arrival        string            `json:"-"` // the same when one arrival is taken up again after a crash
	Content        string            `json:"-"` // SHA-256 of its bytes without ends of lines
	Ruling         string            `json:"ruling,omitempty" enum:"let_in,refused,settled" doc:"What a person said of one that was doubtful or held"`
	RuledBy        string            `json:"ruled_by,omitempty"`
	Test           bool              `json:"test,omitempty" doc:"Its sender marks it as a test (ISA15 is T): it is checked and acknowledged, and touches no order"`
	Accept         []string          `json:"accept,omitempty" doc:"Codes of warnings that a person accepted: they hold nothing of it"`
	AcceptedBy     string            `json:"accepted_by,omitempty" doc:"Who accepted them last"`
	Orders         []string          `json:"orders" doc:"Numbers of the orders that its sets are about, the first few"`
	Findings       []finding.Finding `json:"findings,omitempty"`
	Sets           []SetRecord       `json:"sets,omitempty" doc:"Its transaction sets; of more than 200 those that are held or rejected, and then the first"`
	SetCount       int               `json:"set_count,omitempty" doc:"How many it has"`
	SetStates      map[string]int    `json:"set_states,omitempty" doc:"How many of them are in each state"`
	CopyOf         int64             `json:"copy_of,omitempty" doc:"Ours: the interchange that it repeats under control numbers of its own"`
	Copies         []int64           `json:"copies,omitempty" doc:"Ours: those that repeat it under control numbers of their own"`
	Departures     []Departure       `json:"departures,omitempty" doc:"Ours: each time that it left"`
}

// Departure is one time that an interchange was sent.
type Departure struct {
	At time.Time `json:"at"`
	By string    `json:"by" doc:"Who sent it"`
}

// What a person can decide about an interchange.
const (
	LetIn   = "let_in"  // it is new, whatever its control number says
	Settled = "settled" // of one that was held, or that the partner rejected: a person dealt with it
	Refused = "refused" // the sender is told that its control number came before
)

// SetRecord is a transaction set of an interchange and what became of it.
type SetRecord struct {
	Interchange  int64             `json:"-"`
	Seq          int               `json:"seq"`
	Kind         string            `json:"kind"`
	GroupControl string            `json:"group_control"`
	Control      string            `json:"control"`
	Row          int               `json:"row" doc:"Segment of the document with its ST, counted from 1"`
	Rows         int               `json:"rows"`
	State        string            `json:"state" enum:"received,done,held,rejected,duplicate,doubtful,ready,sent,accepted,noted"`
	LoadID       int64             `json:"load_id,omitempty"`
	Orders       []SpokenOf        `json:"orders" doc:"The orders of which it speaks: one, or several, as a notice of a shipment does"`
	Findings     []finding.Finding `json:"findings"`
	Decided      *Decided          `json:"decided,omitempty" doc:"What a person decided about the changes that it asks for"`
}

// Decided is what a person decided about the changes that a transaction set asks for. What is not taken is refused.
type Decided struct {
	Taken []int     `json:"taken" doc:"Lines of the set whose changes are taken, counted from 1; 0 is what it asks of the header"`
	By    string    `json:"by"`
	At    time.Time `json:"at"`
}

// SetDecision is a person's decision about the changes that a transaction set asks for.
type SetDecision struct {
	Take []int `json:"take" doc:"Lines of the set whose changes are taken, as its findings count them, from 1; 0 is what it asks of the header. All others are refused"`
}

// SpokenOf is an order that a transaction set is about.
type SpokenOf struct {
	Number   string          `json:"number,omitempty" doc:"The order's number as the set has it"`
	OrderID  int64           `json:"order_id,omitempty"`
	Revision int             `json:"order_revision,omitempty"`
	Said     json.RawMessage `json:"said,omitempty" doc:"The order as the set says it"`
}

// First is the first order that the set is about; the zero SpokenOf if there is none.
func (s *SetRecord) First() SpokenOf {
	if len(s.Orders) == 0 {
		return SpokenOf{}
	}
	return s.Orders[0]
}

// ControlNumbers are the last control numbers of what went to a partner; the next ones are one higher.
type ControlNumbers struct {
	Interchange int64 `json:"interchange,omitempty" minimum:"0" maximum:"999999998" doc:"Of an interchange (ISA13); 0 is none yet"`
	Group       int64 `json:"group,omitempty" minimum:"0" maximum:"999999998" doc:"Of a functional group (GS06); 0 is none yet"`
}

// Partner is a stored trading partner.
type Partner struct {
	Name     string    `json:"name"`
	Text     string    `json:"text"`
	Them     string    `json:"-"`
	Us       string    `json:"-"`
	StoredAt time.Time `json:"stored_at"`
	StoredBy string    `json:"stored_by"`
}

// Wanted says what to tell a partner: a transaction set, and about which orders. Only what has not been said yet is
// sent.
type Wanted struct {
	Set    string   `json:"set" doc:"850, 860 to a supplier; 855, 856, 810, 865 to a customer"`
	Orders []string `json:"orders,omitempty" doc:"Numbers of the orders; by default all"`
	Status []string `json:"status,omitempty" doc:"850: statuses of the orders; by default confirmed"`
	From   string   `json:"from,omitempty" doc:"850: ordered on this day or later"`
	To     string   `json:"to,omitempty" doc:"850: ordered on this day or earlier"`
	Try    bool     `json:"try,omitempty" doc:"Only say what would go out, and what keeps it from going"`
}

// Sending is the result of sending.
type Sending struct {
	Interchanges []Interchange `json:"interchanges" doc:"What was sent, and what is held"`
	Text         string        `json:"text,omitempty" doc:"When only tried: what would go out"`
}

// SetOrder is an order as a transaction set states it, with the places of its values.
type SetOrder struct {
	Order    order.Order       `json:"order" doc:"As we have it: with a supplier a purchase order"`
	Places   []origin.Located  `json:"places" doc:"Where each value stands. Rows are segments; columns are elements, from 2 on"`
	Findings []finding.Finding `json:"findings"`
}

// PartnerDetail is a trading partner.
type PartnerDetail struct {
	partner.Partner
	Text string   `json:"text" doc:"The YAML"`
	In   []string `json:"in" doc:"Transaction sets that come from it"`
	Out  []string `json:"out" doc:"Transaction sets that go to it"`
}

// States of interchanges and sets.
const (
	StateArriving  = "arriving"  // in: kept, it is being read
	StateReceived  = "received"  // in: kept, what it asks for has not been done
	StateDone      = "done"      // in: what it asks for has been done
	StateHeld      = "held"      // a person must look at it
	StateRejected  = "rejected"  // in: we rejected it; out: the partner did
	StateDuplicate = "duplicate" // in: the same bytes have come before
	// in: its control number came before with other content; a person lets it in or refuses it
	StateDoubtful = "doubtful"
	StateUnknown  = "unknown"  // in: from nobody that is known
	StateReady    = "ready"    // out: kept with its control number, not yet delivered
	StateSent     = "sent"     // out: delivered
	StateAccepted = "accepted" // out: acknowledged without errors
	StateNoted    = "noted"    // out: acknowledged, errors were noted; in: done, its envelope has errors
	StatePartly   = "partly"   // some of its sets were rejected: by the partner, or in: by us
)
