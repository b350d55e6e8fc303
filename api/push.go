package api

import (
	"encoding/json"
	"time"

	"koinos/core/plan"
)

// Link says which record of another system an order here is there.
type Link struct {
	System   string    `json:"system"`
	Record   string    `json:"record" doc:"Kind of record"`
	OrderID  int64     `json:"order_id"`
	Key      string    `json:"key"`
	Number   string    `json:"number,omitempty" doc:"What people call it there"`
	Revision int       `json:"revision" doc:"Of the order, when both last agreed; 0 is not yet"`
	Agreed   string    `json:"-"`
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

// Push is what bringing a record to what an order says came to.
type Push struct {
	System  string     `json:"system"`
	Record  string     `json:"record"`
	OrderID int64      `json:"order_id"`
	Order   string     `json:"order" doc:"The order's number"`
	Key     string     `json:"key,omitempty" doc:"Of the record; left out where there is none yet"`
	Number  string     `json:"number,omitempty" doc:"What people call it there"`
	State   string     `json:"state" enum:"done,planned,blocked,away"`
	Steps   []PushStep `json:"steps" doc:"What was done, or would be; none where the record is right"`
	Why     []string   `json:"why,omitempty" doc:"What keeps the record from what it should be, a sentence each"`
}

// PushStep is one call of a push.
type PushStep struct {
	Does    string            `json:"does" doc:"In words"`
	Method  string            `json:"method"`
	Path    string            `json:"path"`
	Body    json.RawMessage   `json:"body,omitempty"`
	Changes []plan.Difference `json:"changes,omitempty" doc:"Values that become others"`
	Later   bool              `json:"later,omitempty" doc:"Only if the record says so when it is read again"`
	Trial   string            `json:"trial,omitempty" enum:"good,refused,unknown" doc:"What the system said of a dry run's call; unknown is that it could not be asked yet. Left out where it has no trial"`
}
