package outcome

import "time"

// Run is one run of a document through a sequence: several loads, one after another, in which later loads use what
// earlier ones got back.
type Run struct {
	ID           int64  `json:"id"`
	Sequence     string `json:"sequence"`
	Version      int    `json:"sequence_version"`
	Document     string `json:"document" doc:"SHA-256 of the document"`
	DocumentName string `json:"document_name"`
	Options
	Status    Status     `json:"status" enum:"running,done,failed,cancelled"`
	AgainOf   int64      `json:"again_of,omitempty" doc:"The run that this one goes on from"`
	StartedAt time.Time  `json:"started_at"`
	EndedAt   *time.Time `json:"ended_at,omitempty"`
	By        string     `json:"by" doc:"Who started it"`
	Loads     []Load     `json:"loads,omitempty" doc:"The loads of its steps, in their order"`
}
