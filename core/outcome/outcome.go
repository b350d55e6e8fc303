package outcome

import (
	"time"

	"koinos/core/finding"
	"koinos/core/order"
)

// Outcome is what became of an order of a document.
type Outcome string

const (
	Loaded    Outcome = "loaded"    // stored by this load
	Changed   Outcome = "changed"   // stored before; this load changed it
	Ready     Outcome = "ready"     // a dry run: it would be stored
	Differs   Outcome = "differs"   // a dry run: it is stored and would be changed
	Unchanged Outcome = "unchanged" // stored before, with the same content
	Refused   Outcome = "refused"   // an error keeps it out
	Held      Outcome = "held"      // it waits for a person, or for the order of another step
	Withheld  Outcome = "withheld"  // good, but all-or-none: another was refused
	Undone    Outcome = "undone"    // stored or changed by this load, and taken back since
)

// Outcomes are all outcomes.
var Outcomes = []Outcome{Loaded, Changed, Ready, Differs, Unchanged, Refused, Held, Withheld, Undone}

// Failed reports whether somebody has to do something before the order can be stored.
func (o Outcome) Failed() bool { return o == Refused || o == Held || o == Withheld }

// Status is how far a load has come.
type Status string

const (
	Waiting   Status = "waiting"   // accepted, and waiting for others to end
	Running   Status = "running"   // after the end of a service the next one goes on with it
	Paused    Status = "paused"    // it goes on from here when somebody resumes it
	Done      Status = "done"      // every order has its outcome
	Stopped   Status = "stopped"   // as many orders were refused as it was allowed
	Failed    Status = "failed"    // the document could not be read to its end
	Cancelled Status = "cancelled" // stopped by a person
)

// Ended reports whether the load will not continue by itself.
func (s Status) Ended() bool { return s != Running && s != Waiting }

// Again is what it means that a stored order arrives a second time.
type Again string

const (
	Refuse Again = "refuse" // it is refused, the same or not
	Skip   Again = "skip"   // the same is left alone, a different one refused
	Update Again = "update" // the bound fields are changed
	Revise Again = "revise" // a newer one takes the place of the stored one
)

// Options are what is asked of a load besides its document and mapping.
type Options struct {
	DryRun     bool              `json:"dry_run,omitempty" doc:"Store nothing, say what would happen"`
	AllOrNone  bool              `json:"all_or_none,omitempty" doc:"Store nothing where one order fails"`
	Again      Again             `json:"again,omitempty" enum:"refuse,skip,update,revise" doc:"What a second arrival of a stored order means; by default what the mapping says"`
	OnlyRows   []string          `json:"only_rows,omitempty" doc:"Only these rows: 12, 20-35, 40- (to the end)"`
	OnlyOrders []string          `json:"only_orders,omitempty" doc:"Only the orders of these sender's numbers"`
	OnlySheets []string          `json:"only_sheets,omitempty" doc:"Only these sheets, by name or number, * for any letters"`
	Of         order.Kind        `json:"of,omitempty" enum:"sales,purchase" doc:"Which orders changes, answers, movements and invoices are about, if the mapping leaves it open"`
	Stage      order.Status      `json:"stage,omitempty" enum:"draft,open,confirmed" doc:"Status that new orders begin with; by default open"`
	Withdraw   bool              `json:"withdraw,omitempty" doc:"The orders of the document are not wanted any more: what is open of each stored one is cancelled"`
	HoldSystem string            `json:"hold_system,omitempty" doc:"Records of this system are loaded: those that are refused wait in the list of what is held"`
	HoldRecord string            `json:"hold_record,omitempty" doc:"The kind of record of that system"`
	HoldSync   string            `json:"hold_sync,omitempty" doc:"The sync that reads them"`
	InSets     bool              `json:"in_sets,omitempty" doc:"The records are transaction sets of an interchange: what is held waits as a set, not as an order of the load"`
	Asks       bool              `json:"asks,omitempty" doc:"Changes of stored orders are asked for: they are held until change_asked is accepted"`
	Taken      []int             `json:"taken,omitempty" doc:"Only these of the changes that are asked for are taken: lines of the record, counted from 1; 0 is its header. Without any, all are"`
	MayBeEmpty bool              `json:"may_be_empty,omitempty" doc:"A document of which nothing belongs to an order is no error: records of systems need not have shipments"`
	Opening    bool              `json:"opening,omitempty" doc:"Opening orders: they keep the sender's numbers as their own and are not passed on to other systems"`
	Encoding   string            `json:"encoding,omitempty" doc:"Encoding of the document where the mapping states none and no byte order mark does, such as windows-1252"`
	Defaults   map[string]string `json:"defaults,omitempty" doc:"Values for fields that the document leaves blank: currency, or lines.unit"`
	StopAfter  int               `json:"stop_after,omitempty" minimum:"0" doc:"Stop when so many orders have been refused; 0 goes on to the end"`
	Partners   []string          `json:"only_partners,omitempty" doc:"Refuse orders of other partners than these, by our codes"`
	Note       string            `json:"note,omitempty" maxLength:"1000" doc:"For people"`
	Accept     []finding.Code    `json:"accept,omitempty" doc:"Warnings that do not hold orders this time, though the mapping says they do"`
	Retry      int64             `json:"retry,omitempty" minimum:"0" doc:"Only the orders that failed in this earlier load"`
}

// Load is one run of a document through a mapping.
type Load struct {
	ID           int64  `json:"id"`
	Document     string `json:"document" doc:"SHA-256 of the document"`
	DocumentName string `json:"document_name"`
	Mapping      string `json:"mapping"`
	Version      int    `json:"mapping_version"`
	Options
	Status Status `json:"status" enum:"waiting,running,paused,done,stopped,failed,cancelled"`
	Reason string `json:"reason,omitempty" doc:"Why it is paused or stopped"`
	Counts
	Run         int64      `json:"run,omitempty" doc:"The run of a sequence that it is a step of"`
	Step        string     `json:"step,omitempty" doc:"Name of that step"`
	Share       float64    `json:"share" doc:"How much of the document has been read, 0 to 1"`
	RowsASecond int        `json:"rows_a_second,omitempty" doc:"While it runs"`
	SecondsLeft int        `json:"seconds_left,omitempty" doc:"While it runs: about how long it still takes"`
	StartedAt   time.Time  `json:"started_at"`
	EndedAt     *time.Time `json:"ended_at,omitempty"`
	By          string     `json:"by" doc:"Who started it"`
	TakenAwayAt *time.Time `json:"taken_away_at,omitempty" doc:"Since when its findings and rows are not kept any more"`
}

// Counts are a load's figures.
type Counts struct {
	Rows      int `json:"rows" doc:"Rows read: those below the heading that are not blank; JSON and X12: records"`
	Orders    int `json:"orders"`
	Lines     int `json:"lines"`
	LeftOut   int `json:"left_out,omitempty" db:"left_out" doc:"Orders that the mapping's orders.leave_out left out, known when the document has been read; they are not counted in orders"`
	RowsOut   int `json:"rows_left_out,omitempty" db:"rows_left_out" doc:"Rows that the mapping's document.rows left out by leave_out or keep, known when the document has been read"`
	Loaded    int `json:"loaded"`
	Changed   int `json:"changed"`
	Ready     int `json:"ready"`
	Differs   int `json:"differs"`
	Unchanged int `json:"unchanged"`
	Refused   int `json:"refused"`
	Held      int `json:"held"`
	Withheld  int `json:"withheld"`
	Undone    int `json:"undone"`
	Errors    int `json:"errors" doc:"Findings of severity error"`
	Warnings  int `json:"warnings"`
	Saved     int `json:"saved_seconds" doc:"What entering by hand would have taken, as the mapping reckons it"`
}

// of returns the figure that counts an outcome.
func (c *Counts) of(o Outcome) *int {
	switch o {
	case Loaded:
		return &c.Loaded
	case Changed:
		return &c.Changed
	case Ready:
		return &c.Ready
	case Differs:
		return &c.Differs
	case Unchanged:
		return &c.Unchanged
	case Held:
		return &c.Held
	case Withheld:
		return &c.Withheld
	case Undone:
		return &c.Undone
	}
	return &c.Refused
}

// Count adds one order's outcome.
func (c *Counts) Count(o Outcome) { *c.of(o)++ }

// Found counts a finding about the document as a whole.
func (c *Counts) Found(severity finding.Severity) {
	switch severity {
	case finding.Error:
		c.Errors++
	case finding.Warning:
		c.Warnings++
	}
}

// Add adds the figures of another document.
func (c *Counts) Add(o *Counts) {
	c.Rows, c.Orders, c.Lines = c.Rows+o.Rows, c.Orders+o.Orders, c.Lines+o.Lines
	for _, is := range Outcomes {
		*c.of(is) += *o.of(is)
	}
	c.LeftOut, c.RowsOut = c.LeftOut+o.LeftOut, c.RowsOut+o.RowsOut
	c.Errors, c.Warnings, c.Saved = c.Errors+o.Errors, c.Warnings+o.Warnings, c.Saved+o.Saved
}

// Move counts n orders of one outcome as another.
func (c *Counts) Move(n int, from, to Outcome) {
	*c.of(from) -= n
	*c.of(to) += n
}

// Failing is how many orders were not stored, or would not be.
func (c *Counts) Failing() int { return c.Refused + c.Held + c.Withheld }

// Clean reports whether every order was stored, or would be.
func (l *Load) Clean() bool { return l.Status == Done && l.Failing() == 0 }

// OrderOutcome is what became of one order of a document.
type OrderOutcome struct {
	Seq          int            `json:"seq" doc:"Which order of the document, counted from 1"`
	Outcome      Outcome        `json:"outcome" enum:"loaded,changed,ready,differs,unchanged,refused,held,withheld,undone"`
	OrderID      int64          `json:"order_id,omitempty" doc:"The stored order, where there is one"`
	Number       string         `json:"number,omitempty" doc:"Its number"`
	Revision     int            `json:"-"` // that it has now
	SenderNumber string         `json:"sender_number,omitempty"`
	Lines        int            `json:"lines"`
	Errors       int            `json:"errors"`
	Warnings     int            `json:"warnings"`
	Changes      []order.Change `json:"changes,omitempty" doc:"changed and differs: which fields"`
}

// SpanOutcome is a run of rows with the outcome of the order that they belong to.
type SpanOutcome struct {
	Sheet string `json:"sheet,omitempty"`
	First int    `json:"first"`
	Last  int    `json:"last"`
	OrderOutcome
}
