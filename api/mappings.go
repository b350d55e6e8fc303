package api

import (
	"koinos/core/finding"
	"koinos/core/order"
	"koinos/core/origin"
	"koinos/core/outcome"
	"koinos/core/reading"
	"koinos/core/report"
	"time"
)

// Mapping is one stored version of a mapping.
type Mapping struct {
	Name     string    `json:"name"`
	Version  int       `json:"version"`
	Text     string    `json:"text,omitempty"`
	StoredAt time.Time `json:"stored_at"`
	StoredBy string    `json:"stored_by"`
}

// Sequence is a stored version of a sequence.
type Sequence struct {
	Name     string    `json:"name" db:"name"`
	Version  int       `json:"version" db:"version"`
	Text     string    `json:"text" db:"text" doc:"The sequence's YAML"`
	StoredAt time.Time `json:"stored_at" db:"-"`
	StoredBy string    `json:"stored_by" db:"stored_by"`
}

// Effect is how one order differs between two mappings of the same document.
type Effect struct {
	Order   string         `json:"order" doc:"The sender's number"`
	Rows    []origin.Span  `json:"rows"`
	Was     string         `json:"was,omitempty" doc:"What became of it: ready, refused; blank where the mapping made no such order"`
	Is      string         `json:"is,omitempty"`
	Changes []order.Change `json:"changes,omitempty"`
}

// Comparison is what another mapping makes of a document.
type Comparison struct {
	Orders  int      `json:"orders" doc:"Orders of the first mapping"`
	Same    int      `json:"same" doc:"Orders that are the same in both"`
	Effects []Effect `json:"effects"`
}

// Preview is what a mapping that is being made does to the part of a document that somebody looks at.
type Preview struct {
	Heading  int                   `json:"heading" doc:"Row of the headings; 0 is none"`
	Columns  []reading.ColumnRole  `json:"columns"`
	Spans    []outcome.SpanOutcome `json:"spans" doc:"Which of the rows seen make which order"`
	Orders   int                   `json:"orders" doc:"Orders among the rows read"`
	Lines    int                   `json:"lines"`
	Refused  int                   `json:"refused"`
	Rows     int                   `json:"rows" doc:"Rows read: those below the heading that are not blank; JSON and X12: records"`
	Complete bool                  `json:"complete" doc:"The document was read to its end"`
	Paper    *PreviewPaper         `json:"paper,omitempty" doc:"The order under the cursor"`
	Reasons  []report.Reason       `json:"reasons"`
	Coverage *reading.Coverage     `json:"coverage"`
	Cut      []Row                 `json:"cut,omitempty" doc:"The rows seen, where the mapping says how lines of text are cut into cells"`
	Names    []string              `json:"names,omitempty" doc:"What the mapping calls the columns of text of fixed width"`
}

// PreviewPaper is one order as the mapping makes it.
type PreviewPaper struct {
	Seq      int               `json:"seq"`
	Refused  bool              `json:"refused"`
	Order    order.Order       `json:"order"`
	Places   []origin.Located  `json:"places" doc:"Where in the document each value stands"`
	Findings []finding.Finding `json:"findings"`
	Spans    []origin.Span     `json:"spans"`
	Base     string            `json:"base,omitempty" doc:"JSON: pointer of the order's record"`
}
