package api

import (
	"encoding/json"
	"time"

	"koinos/core/plan"
)

// Link says which record of another system is linked with an order.
type Link struct {
	System   string    `json:"system"`
	Record   string    `json:"record" doc:"Kind of record"`
	OrderID  int64     `json:"order_id"`
	Part     int64     `json:"part,omitempty" doc:"Its movement or invoice, or the revision of its answer; absent if it is the order"`
	Key      string    `json:"key"`
	Number   string    `json:"number,omitempty" doc:"What people call it there"`
	Revision int       `json:"revision" doc:"Of the order, when both last agreed; 0 is not yet"`
	Agreed   string    `json:"-"` // what the record should have said then, JSON
	Found    string    `json:"-"` // the record as it was last read, JSON
	Base     string    `json:"-"` // the record when both agreed, where both sides may change it
	Decided  string    `json:"-"` // what a person decided where both changed it, JSON
	At       time.Time `json:"at"`
}

// NewPush asks for a record of a system to be made what an order says.
type NewPush struct {
	Record string `json:"record" doc:"Kind of record, as the description names it"`
	Order  string `json:"order" doc:"The order's number or id"`
	DryRun bool   `json:"dry_run,omitempty" doc:"Only say what would be done: nothing is written there or here"`
}

// States of pushes.
const (
	PushDone    = "done"    // the record says what the order says
	PushPlanned = "planned" // a dry run
	PushBlocked = "blocked" // it cannot, until somebody does something
	PushAway    = "away"    // the system does not answer
)

// Push is the result of bringing a record to what an order says.
type Push struct {
	System  string       `json:"system"`
	Record  string       `json:"record"`
	OrderID int64        `json:"order_id"`
	Order   string       `json:"order" doc:"The order's number"`
	Key     string       `json:"key,omitempty" doc:"Of the record; left out where there is none yet"`
	Number  string       `json:"number,omitempty" doc:"What people call it there"`
	State   string       `json:"state" enum:"done,planned,blocked,away"`
	Steps   []PushStep   `json:"steps" doc:"What was done, or would be; none where the record is right"`
	Code    string       `json:"code,omitempty" enum:"push_cannot_write,push_cannot_read,push_cannot_change,push_field_wrong,push_reference_missing,push_refused,push_ambiguous,push_taken,push_lost,push_not_settled,push_conflict,push_order_not_there,system_closed" doc:"Of what keeps the record from what it should be"`
	Fetches bool         `json:"-"` // the record has what the order is to take in: it is to be read
	Clashes []plan.Clash `json:"clashes,omitempty" doc:"Values that both sides changed"`
	Why     []string     `json:"why,omitempty" doc:"What keeps the record from what it should be, a sentence each"`
}

// PushStep is one call of a push.
type PushStep struct {
	Does     string            `json:"does" doc:"In words"`
	Method   string            `json:"method"`
	Path     string            `json:"path"`
	Body     json.RawMessage   `json:"body,omitempty"`
	Changes  []plan.Difference `json:"changes,omitempty" doc:"Values that become others"`
	Creates  bool              `json:"creates,omitempty" doc:"It makes the record"`
	Warnings []string          `json:"warnings,omitempty" doc:"What the system said beside doing it"`
	Later    bool              `json:"later,omitempty" doc:"Only if the record says so when it is read again"`
	Trial    string            `json:"trial,omitempty" enum:"good,refused,unknown" doc:"What the system said of a dry run's call; unknown is that it could not be asked yet. Absent if the description has no trial"`
}

// Codes of what prevents a record from being what it should be.
const (
	CannotWrite      = "push_cannot_write"      // the mapping cannot write the order
	CannotRead       = "push_cannot_read"       // what the system answers is no such record
	CannotChange     = "push_cannot_change"     // the description has no call for the difference
	FieldWrong       = "push_field_wrong"       // the system's description of its fields does not allow a value
	ReferenceMissing = "push_reference_missing" // a record that it refers to is not there
	TargetRefused    = "push_refused"           // the system says no
	TargetAmbiguous  = "push_ambiguous"         // several records may be meant
	TargetTaken      = "push_taken"             // the record is another order
	TargetLost       = "push_lost"              // the linked record is not there any more
	NotSettled       = "push_not_settled"       // after several rounds it is still another one
	PushConflict     = "push_conflict"          // both sides changed a value
	OrderNotThere    = "push_order_not_there"   // the order that it belongs to is not in the system yet
	// the system does not let us in, or its description is not complete here
	SystemClosed = "system_closed"
)
