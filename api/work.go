package api

import "time"

// HeldWork is something that waits for a person, with the reason and what is needed
// to go on.
type HeldWork struct {
	ID          int64     `json:"id" db:"id"`
	Kind        string    `json:"kind" db:"kind" enum:"order,set,notice,push,interchange,answer"`
	Load        int64     `json:"load,omitempty" db:"load_id" doc:"order: the load, and which order of its document"`
	Seq         int       `json:"load_seq,omitempty" db:"load_seq"`
	Interchange int64     `json:"interchange,omitempty" db:"interchange" doc:"set, notice, interchange: the interchange, and which of its sets"`
	Set         int       `json:"set,omitempty" db:"set_seq"`
	OrderID     int64     `json:"order_id,omitempty" db:"order_id"`
	Partner     string    `json:"partner" db:"partner"`
	Number      string    `json:"number,omitempty" db:"number" doc:"Number of the order, as far as it is known"`
	Code        string    `json:"code" db:"code" doc:"Code of the finding that holds it"`
	Reason      string    `json:"reason" db:"reason"`
	Since       time.Time `json:"since" db:"-"`
	Task        int64     `json:"task,omitempty" db:"task" doc:"push: the task"`
	Sync        string    `json:"sync,omitempty" db:"sync" doc:"push: the sync"`
	System      string    `json:"system,omitempty" db:"system" doc:"push: the system that it is for"`
	Aside       string    `json:"put_aside,omitempty" db:"aside" doc:"Why a person put it aside"`
}

// Job is something that is to be done, whatever ends meanwhile.
type Job struct {
	Kind    string    `json:"kind" db:"kind" enum:"load,run,interchange"`
	Subject int64     `json:"subject" db:"subject" doc:"Id of the load, run or interchange"`
	State   string    `json:"state" db:"state" enum:"ready,working,paused"`
	DueAt   time.Time `json:"due_at" db:"-"`
	Tries   int       `json:"tries" db:"tries" doc:"How often it ended in an error that may pass"`
	Deaths  int       `json:"deaths" db:"deaths" doc:"How often the service ended while it worked at it"`
	Reason  string    `json:"reason,omitempty" db:"reason" doc:"Why it waits"`
	Key     string    `json:"-" db:"key"` // jobs of a kind with the same key are done one after another; "" is none
}

// Kinds of what is held.
const (
	HeldOrder  = "order"  // an order of a load: it waits for a person, or for an order of an earlier step
	HeldSet    = "set"    // a transaction set that came
	HeldNotice = "notice" // a transaction set that must not leave
	HeldPush   = "push"   // an order that cannot be written into a system
	// HeldInterchange is an interchange whose control number came before with other content.
	HeldInterchange = "interchange"
	// HeldAnswer is a supplier's answer that is not what was ordered.
	HeldAnswer = "answer"
)

// Kinds of jobs.
const (
	LoadJob        = "load"
	RunJob         = "run"
	InterchangeJob = "interchange"
)

// States of jobs. A job that is done is gone.
const (
	JobReady   = "ready"   // to be done when it is due
	JobWorking = "working" // a service is at it
	JobPaused  = "paused"  // a person, or whoever knows the reason, lets it go on
)

// Retried is what came of trying something that was held once more.
type Retried struct {
	Load        int64   `json:"load,omitempty" doc:"The load that takes the orders up"`
	Interchange int64   `json:"interchange,omitempty" doc:"The interchange that was taken up, or written"`
	Count       int     `json:"count" doc:"How many things that were held"`
	Loads       []int64 `json:"loads,omitempty" doc:"All such loads"`
	Runs        []int64 `json:"runs,omitempty" doc:"The runs of syncs that try pushes again"`
}
