package api

import "time"

// DataCheck is the state of a check of the data, or the result of the last one.
type DataCheck struct {
	Running   bool       `json:"running"`
	Started   *time.Time `json:"started,omitempty" doc:"Absent if none was made since the service started"`
	Ended     *time.Time `json:"ended,omitempty"`
	Documents int        `json:"documents" doc:"Kept documents"`
	Checked   int        `json:"checked" doc:"Of them, read so far"`
	Troubles  []Trouble  `json:"troubles" doc:"What is not whole, at most 1,000"`
	Failed    string     `json:"failed,omitempty" doc:"Why the check could not end"`
}

// Trouble is something in a data folder that is damaged.
type Trouble struct {
	What     string `json:"what" doc:"document, database, reference or number"`
	Document string `json:"document,omitempty" doc:"Its SHA-256"`
	Message  string `json:"message"`
}
