package report

import (
	"time"

	"koinos/core/finding"
)

// Outcome is what became of an order of a document.
type Outcome string

const (
	Loaded    Outcome = "loaded"    // stored by this load
	Ready     Outcome = "ready"     // a dry run: it would be stored
	Unchanged Outcome = "unchanged" // stored before, with the same content
	Refused   Outcome = "refused"   // an error keeps it out
	Withheld  Outcome = "withheld"  // good, but all-or-none: another was refused
)

// Outcomes are all outcomes.
var Outcomes = []Outcome{Loaded, Ready, Unchanged, Refused, Withheld}

// Status is how far a load has come.
type Status string

const (
	Running     Status = "running"
	Done        Status = "done"        // every order has its outcome
	Failed      Status = "failed"      // the document could not be read to its end
	Cancelled   Status = "cancelled"   // stopped by a person
	Interrupted Status = "interrupted" // the service ended while it ran
)

// Load is one run of a document through a mapping.
type Load struct {
	ID           int64  `json:"id"`
	Document     string `json:"document" doc:"SHA-256 of the document"`
	DocumentName string `json:"document_name"`
	Mapping      string `json:"mapping"`
	Version      int    `json:"mapping_version"`
	DryRun       bool   `json:"dry_run" doc:"Nothing is stored"`
	AllOrNone    bool   `json:"all_or_none" doc:"One refused order keeps all out"`
	Status       Status `json:"status" enum:"running,done,failed,cancelled,interrupted"`
	Counts
	Share     float64    `json:"share" doc:"How much of the document has been read, 0 to 1"`
	StartedAt time.Time  `json:"started_at"`
	EndedAt   *time.Time `json:"ended_at,omitempty"`
	By        string     `json:"by" doc:"Who started it"`
}

// Counts are a load's figures.
type Counts struct {
	Rows      int `json:"rows" doc:"Rows read, headings and blank rows included"`
	Orders    int `json:"orders"`
	Lines     int `json:"lines"`
	Loaded    int `json:"loaded"`
	Ready     int `json:"ready"`
	Unchanged int `json:"unchanged"`
	Refused   int `json:"refused"`
	Withheld  int `json:"withheld"`
	Errors    int `json:"errors" doc:"Findings of severity error"`
	Warnings  int `json:"warnings"`
}

// Count adds one order's outcome.
func (c *Counts) Count(o Outcome) {
	switch o {
	case Loaded:
		c.Loaded++
	case Ready:
		c.Ready++
	case Unchanged:
		c.Unchanged++
	case Refused:
		c.Refused++
	case Withheld:
		c.Withheld++
	}
}

// Clean reports whether every order went in, or would.
func (l *Load) Clean() bool {
	return l.Status == Done && l.Refused == 0 && l.Withheld == 0
}

// OrderOutcome is what became of one order of a document.
type OrderOutcome struct {
	Seq          int     `json:"seq" doc:"Which order of the document, counted from 1"`
	Outcome      Outcome `json:"outcome" enum:"loaded,ready,unchanged,refused,withheld"`
	OrderID      int64   `json:"order_id,omitempty" doc:"The stored order, where there is one"`
	Number       string  `json:"number,omitempty" doc:"Its number"`
	SenderNumber string  `json:"sender_number,omitempty"`
	Lines        int     `json:"lines"`
	Errors       int     `json:"errors"`
	Warnings     int     `json:"warnings"`
}

// SpanOutcome is a run of rows with the outcome of the order they belong to.
type SpanOutcome struct {
	Sheet string `json:"sheet,omitempty"`
	First int    `json:"first"`
	Last  int    `json:"last"`
	OrderOutcome
}

// Reason is all findings of a load that say the same of the same field.
type Reason struct {
	Code     finding.Code     `json:"code"`
	Severity finding.Severity `json:"severity" enum:"error,warning"`
	Field    string           `json:"field,omitempty"`
	Title    string           `json:"title"`
	Count    int              `json:"count"`
	Orders   int              `json:"orders" doc:"How many orders have it"`
	Values   int              `json:"values" doc:"How many different values were seen"`
	Example  finding.Finding  `json:"example"`
}
