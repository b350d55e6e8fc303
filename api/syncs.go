package api

import (
	"time"

	"koinos/core/order"
	"koinos/core/plan"
)

// Sync is a standing instruction that keeps orders equal between systems.
type Sync struct {
	Name     string     `json:"name"`
	Version  int        `json:"version"`
	Text     string     `json:"text,omitempty" doc:"The YAML"`
	About    string     `json:"about,omitempty"`
	Pulls    []SyncPart `json:"pulls,omitempty" doc:"What it reads"`
	Pushes   []SyncPart `json:"pushes,omitempty" doc:"What it writes"`
	Asked    bool       `json:"asked" doc:"It works only when somebody runs it; else it goes on by itself"`
	StoredAt time.Time  `json:"stored_at"`
	StoredBy string     `json:"stored_by"`

	State SyncState `json:"state" doc:"How it does"`
}

// SyncPart is a pull or push of a sync.
type SyncPart struct {
	Name    string `json:"name" doc:"Unique in the sync"`
	System  string `json:"system"`
	Record  string `json:"record"`
	Mapping string `json:"mapping,omitempty"`
	Every   string `json:"every,omitempty" doc:"A pull: how often by itself"`
	Of      string `json:"of,omitempty" doc:"A push: what of an order is written; by default the order itself"`
	Which   string `json:"which,omitempty" doc:"A push: the orders that are written"`

	Why    string     `json:"why,omitempty" doc:"A pull: why the last one failed"`
	Away   string     `json:"away,omitempty" doc:"Why it waits: its system does not answer"`
	Since  time.Time  `json:"away_since,omitzero"`
	LastAt time.Time  `json:"last_at,omitzero" doc:"A pull: when it read last, since the service began"`
	NextAt time.Time  `json:"next_at,omitzero" doc:"A pull: when it reads next"`
	Counts PushCounts `json:"counts" doc:"A push: in the last day; waiting and held are those of now"`

	Hour PushCounts `json:"hour" doc:"A push: in the last hour; waiting and held are left at 0"`

	Unanswered      int       `json:"unanswered,omitempty" doc:"A push of files: how many nobody has answered in time"`
	UnansweredSince time.Time `json:"unanswered_since,omitzero" doc:"When the oldest of them was written"`
}

// States of syncs.
const (
	SyncActive = "active"
	SyncPaused = "paused"
)

// SyncState is the state of a sync.
type SyncState struct {
	State   string     `json:"state" enum:"active,paused"`
	Reason  string     `json:"reason,omitempty"`
	Since   time.Time  `json:"since"`
	Behind  int64      `json:"behind" doc:"Events of orders that it has not looked at yet"`
	Lag     float64    `json:"lag_seconds" doc:"How long what has waited longest has waited"`
	Counts  PushCounts `json:"counts" doc:"In the last day; waiting and held are those of now"`
	Run     *SyncRun   `json:"run,omitempty" doc:"The run that is open"`
	Settled bool       `json:"settled" doc:"Everything that came is done or held"`
	Away    []string   `json:"away,omitempty" doc:"Systems that do not answer"`

	Unanswered int `json:"unanswered,omitempty" doc:"Files that nobody has answered in time"`

	AwayFor float64 `json:"away_seconds,omitempty" doc:"For how long only those have kept it from being settled"`
}

// PushCounts are what became of orders at their targets.
type PushCounts struct {
	Created int `json:"created" db:"created"`
	Changed int `json:"changed" db:"changed"`
	Right   int `json:"right" db:"right" doc:"They were right already"`
	Waiting int `json:"waiting" db:"waiting" doc:"They are tried when they are due, or when another record is so far"`
	Held    int `json:"held" db:"held" doc:"They wait for a person"`
	Aside   int `json:"put_aside" db:"aside" doc:"A person put them aside"`
}

// States of runs and of comparisons.
const (
	SyncRunning = "running"
	SyncDone    = "done"
	SyncStopped = "stopped" // the sync was paused
	CheckFailed = "failed"  // a comparison could not be made
)

// SyncRun is one run of a sync that somebody asked for.
type SyncRun struct {
	ID        int64      `json:"id"`
	Sync      string     `json:"sync"`
	Only      []string   `json:"only,omitempty" doc:"Its pulls and pushes; by default all"`
	State     string     `json:"state" enum:"running,done,stopped"`
	Reason    string     `json:"reason,omitempty"`
	Pulls     []Pull     `json:"pulls" doc:"What its pulls came to"`
	Counts    PushCounts `json:"counts" doc:"What became of orders since it began"`
	StartedAt time.Time  `json:"started_at"`
	EndedAt   time.Time  `json:"ended_at,omitzero"`
	By        string     `json:"by"`
	Pushed    int64      `json:"-"`
	Settled   bool       `json:"settled" doc:"Everything that it brought is done or held"`
	Away      []string   `json:"away,omitempty" doc:"Systems that do not answer, while it runs"`
	AwayFor   float64    `json:"away_seconds,omitempty" doc:"For how long only those have kept it from being settled"`
}

// NewSyncRun asks for a run.
type NewSyncRun struct {
	Only []string `json:"only,omitempty" doc:"Pulls and pushes by name; by default all"`
}

// States of tasks.
const (
	TaskWaiting = "waiting"
	TaskAfter   = "after" // for another record of the order
	TaskHeld    = "held"
	TaskAside   = "aside"

	TaskUnanswered = "unanswered" // it is written, and nobody has answered its file
)

// Task is an order whose record in a system must be examined.
type Task struct {
	ID       int64     `json:"id" db:"id"`
	Sync     string    `json:"sync" db:"sync"`
	Push     string    `json:"push" db:"push"`
	System   string    `json:"system" db:"system"`
	Record   string    `json:"record" db:"record"`
	OrderID  int64     `json:"order_id" db:"order_id"`
	Part     int64     `json:"part,omitempty" db:"part" doc:"Its movement or invoice, or the revision of its answer; absent if it is the order"`
	Order    string    `json:"order" db:"number" doc:"The order's number"`
	State    string    `json:"state" db:"state" enum:"waiting,after,held,aside,unanswered"`
	Turn     int       `json:"-" db:"turn"`
	Attempts int       `json:"attempts" db:"attempts" doc:"That failed since it was last looked at for a new reason"`
	Why      string    `json:"why,omitempty" db:"why" doc:"What came of the last attempt"`
	MadeAt   time.Time `json:"made_at" db:"-"`
	DueAt    time.Time `json:"due_at,omitzero" db:"-"`
}

// Outcomes of pushes.
const (
	PushedCreated = "created"
	PushedChanged = "changed"
	PushedRight   = "right"
	PushedHeld    = "held"
)

// Pushed is the stored result of a push.
type Pushed struct {
	ID      int64      `json:"id"`
	Sync    string     `json:"sync,omitempty" doc:"Absent if somebody asked for it"`
	Push    string     `json:"push,omitempty"`
	System  string     `json:"system"`
	Record  string     `json:"record"`
	OrderID int64      `json:"order_id"`
	Part    int64      `json:"part,omitempty" doc:"Its movement or invoice, or the revision of its answer; absent if it is the order"`
	Order   string     `json:"order" doc:"The order's number"`
	Key     string     `json:"key,omitempty" doc:"Of the record"`
	Outcome string     `json:"outcome" enum:"created,changed,right,held"`
	Steps   []PushStep `json:"steps" doc:"The calls that were made, with what stood there before"`
	Why     string     `json:"why,omitempty"`
	At      time.Time  `json:"at"`
	By      string     `json:"by"`
}

// HeldFor chooses held work; if it is empty, all of it.
type HeldFor struct {
	IDs     []int64 `json:"ids,omitempty" doc:"These alone"`
	Kind    string  `json:"kind,omitempty" enum:"order,set,notice,push,interchange,answer"`
	Partner string  `json:"partner,omitempty"`
	Sync    string  `json:"sync,omitempty"`
	System  string  `json:"system,omitempty"`
	Code    string  `json:"code,omitempty" doc:"Code of the reason"`
	Reason  string  `json:"reason,omitempty" doc:"A part of the reason's text"`
	Aside   bool    `json:"put_aside,omitempty" doc:"What was put aside, instead of what waits"`
}

// CheckJob is the kind of job that compares.
const CheckJob = "check"

// Kinds of comparisons.
const (
	CheckDryRun    = "dry-run"   // what a run would do
	CheckReconcile = "reconcile" // everything on both sides
	CheckLink      = "link"      // which records are orders that are not linked yet
)

// NewCheck asks for a comparison.
type NewCheck struct {
	Kind   string   `json:"kind" enum:"dry-run,reconcile,link"`
	Only   []string `json:"only,omitempty" doc:"Pulls and pushes by name; by default all"`
	Repair bool     `json:"repair,omitempty" doc:"reconcile: what differs is made right by the sync's rules. link: what is found is linked"`
}

// SyncCheck is one comparison of a sync.
type SyncCheck struct {
	ID   int64  `json:"id"`
	Sync string `json:"sync"`
	NewCheck
	State     string      `json:"state" enum:"running,done,failed"`
	Reason    string      `json:"reason,omitempty" doc:"Why it failed, or waits"`
	Counts    CheckCounts `json:"counts"`
	StartedAt time.Time   `json:"started_at"`
	EndedAt   time.Time   `json:"ended_at,omitzero"`
	By        string      `json:"by"`
}

// Outcomes of what is compared.
const (
	WouldLoad   = "load"      // a record would become an order here
	WouldUpdate = "update"    // a record would change its order here
	WouldRefuse = "refuse"    // a record would be refused or held here
	WouldCreate = "create"    // a record would be made there
	WouldChange = "change"    // a record would be changed there
	CannotGo    = "cannot"    // it would be held
	IsLost      = "lost"      // the source does not have it any more
	IsBesides   = "besides"   // the target has a record that is no order here
	WouldLink   = "link"      // a record is an order that is not linked yet
	IsAmbiguous = "ambiguous" // several records may be an order
	NotThere    = "not there" // no record is the order
	IsUnclear   = "not tried" // it cannot be tried before something else is done
)

// CheckCounts are a comparison's figures.
type CheckCounts struct {
	Records   int `json:"records" doc:"Of sources, that were read"`
	Orders    int `json:"orders" doc:"That were compared with a target"`
	Load      int `json:"load" doc:"Records that would become orders here"`
	Update    int `json:"update" doc:"Records that would change their orders here"`
	Refuse    int `json:"refuse" doc:"Records that would be refused or held here"`
	Create    int `json:"create" doc:"Records that would be made at targets"`
	Change    int `json:"change" doc:"Records that would be changed at targets"`
	Right     int `json:"right" doc:"Records at targets that are right"`
	Cannot    int `json:"cannot" doc:"Orders that would be held"`
	Lost      int `json:"lost" doc:"Orders whose record the source does not have any more"`
	Besides   int `json:"besides" doc:"Records that targets have besides; they are never touched"`
	Link      int `json:"link" doc:"Orders whose record was found"`
	Ambiguous int `json:"ambiguous" doc:"Orders for which several records were found"`
	NotThere  int `json:"not_there" doc:"Orders for which no record was found"`
	NotTried  int `json:"not_tried" doc:"Parts that could not be tried before something else is done"`
	Repaired  int `json:"repaired"`
}

// CheckRow is one thing that a comparison found.
type CheckRow struct {
	N         int            `json:"n"`
	Outcome   string         `json:"outcome" enum:"load,update,refuse,create,change,cannot,lost,besides,link,ambiguous,not there,not tried"`
	Part      string         `json:"part" doc:"Pull or push of the sync"`
	OrderID   int64          `json:"order_id,omitempty"`
	Of        int64          `json:"of,omitempty" doc:"Its movement or invoice, or the revision of its answer"`
	Order     string         `json:"order,omitempty" doc:"The order's number, or what it is called there"`
	Key       string         `json:"key,omitempty" doc:"Of the record"`
	Code      string         `json:"code,omitempty" doc:"Of the reason"`
	Why       string         `json:"why,omitempty"`
	Steps     []PushStep     `json:"steps,omitempty" doc:"The calls that would be made"`
	Changes   []order.Change `json:"changes,omitempty" doc:"Of the order here"`
	ChangedBy string         `json:"changed_by,omitempty" doc:"Who changed the order here last"`
	Repaired  bool           `json:"repaired,omitempty"`
}

// PutAside says what is put aside, and why.
type PutAside struct {
	HeldFor
	Why string `json:"why" maxLength:"500" doc:"Blank lets it wait again"`
}

// HeldDetail is what is known about held work.
type HeldDetail struct {
	HeldWork
	TaskState *Task        `json:"task_state,omitempty" doc:"push: how often it was tried, and when it is tried next"`
	Clashes   []plan.Clash `json:"clashes,omitempty" doc:"push: values that both sides changed"`
	Tried     []Pushed     `json:"tried,omitempty" doc:"push: what was written of its order, newest first"`
}

// Decision says whose values count if both sides changed them.
type Decision struct {
	Take   string            `json:"take,omitempty" enum:"here,there" doc:"Of all values that are not named"`
	Fields map[string]string `json:"fields,omitempty" doc:"By the names of the values: here or there"`
}

// HeldReason is the held work with one reason.
type HeldReason struct {
	Kind   string    `json:"kind" db:"kind"`
	Sync   string    `json:"sync,omitempty" db:"sync"`
	System string    `json:"system,omitempty" db:"system"`
	Code   string    `json:"code" db:"code"`
	Reason string    `json:"reason" db:"reason"`
	Count  int       `json:"count" db:"n"`
	Since  time.Time `json:"since" db:"-"`
}
