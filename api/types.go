package api

import (
	"fmt"
	"strings"
	"time"

	"koinos/core/finding"
	"koinos/core/list"
	"koinos/core/mapping"
	"koinos/core/order"
	"koinos/core/origin"
	"koinos/core/outcome"
	"koinos/core/report"
	"koinos/core/source"
)

// Problem is an error answer of the API (RFC 9457, application/problem+json).
type Problem struct {
	Type     string            `json:"type" doc:"The code as a URI (RFC 4151); docs/api.md explains each" example:"tag:koinos.example,2026:not_found"`
	Title    string            `json:"title"`
	Status   int               `json:"status"`
	Detail   string            `json:"detail,omitempty"`
	Code     string            `json:"code" doc:"Stable code" example:"not_found"`
	Request  string            `json:"request,omitempty" doc:"Request id, as in the service's log"`
	Findings []finding.Finding `json:"findings,omitempty" doc:"What is wrong with a document or mapping, each at its place"`
	Invalid  []Invalid         `json:"invalid,omitempty" doc:"Parts of the request that are not valid"`
}

// Invalid is a part of a request that is not valid.
type Invalid struct {
	Where   string `json:"where,omitempty" example:"body.mapping"`
	Message string `json:"message"`
}

func (p *Problem) Error() string {
	s := p.Detail
	if s == "" {
		s = p.Title
	}
	for _, i := range p.Invalid {
		s += fmt.Sprintf("\n  %s: %s", i.Where, i.Message)
	}
	for i := range p.Findings {
		s += "\n  " + strings.ReplaceAll(p.Findings[i].Error(), "\n", "\n  ")
	}
	return s
}

// GetStatus is the HTTP status, as the service's framework asks for it.
func (p *Problem) GetStatus() int { return p.Status }

// ContentType is what RFC 9457 prescribes.
func (p *Problem) ContentType(string) string { return "application/problem+json" }

// Page is a part of a list. Next is the cursor of the following page; blank on the last one. The Link header of the
// answer contains the same cursor (RFC 8288).
type Page[T any] struct {
	Items []T    `json:"items"`
	Next  string `json:"next,omitempty" doc:"Cursor of the next page"`
}

// Received is the answer to a document sent in.
type Received struct {
	Document
	Known bool  `json:"known" doc:"The same bytes were received before"`
	Load  int64 `json:"load,omitempty" doc:"The newest load of this document; dry runs do not count"`
}

// Row is one row of a document.
type Row struct {
	Row   int      `json:"row"`
	Cells []string `json:"cells"`
}

// Rows is a part of a document's rows.
type Rows struct {
	Sheet string `json:"sheet,omitempty"`
	Rows  []Row  `json:"rows"`
	More  bool   `json:"more" doc:"Rows follow the last one given"`
}

// RowsOutcome is a part of a document's rows with their outcomes.
type RowsOutcome struct {
	Rows
	Spans    []outcome.SpanOutcome `json:"spans" doc:"Which rows made which order"`
	Findings []finding.Finding     `json:"findings"`
}

// NewLoad asks for a load.
type NewLoad struct {
	Document string `json:"document" minLength:"8" doc:"SHA-256 of a document received, or its first letters"`
	Mapping  string `json:"mapping,omitempty" doc:"Name of a mapping"`
	Version  int    `json:"version,omitempty" minimum:"0" doc:"Version of the mapping; by default the newest"`
	Text     string `json:"mapping_text,omitempty" doc:"With dry_run, instead of the name: YAML of a mapping that is tried and not kept"`
	outcome.Options
}

// LoadReport is everything that a load reports, except its single findings.
type LoadReport struct {
	Load    outcome.Load    `json:"load"`
	Reasons []report.Reason `json:"reasons"`
	Sheets  []string        `json:"sheets" doc:"Sheets in which orders were found; a CSV has one of no name"`
}

// FullReport is a load's report with its findings and outcomes.
type FullReport struct {
	LoadReport
	Orders   []outcome.OrderOutcome `json:"orders"`
	Findings []finding.Finding      `json:"findings"`
}

// Paper is an order of a load's document as the mapping understands it, stored or not.
type Paper struct {
	Outcome  outcome.OrderOutcome `json:"outcome"`
	Order    order.Order          `json:"order"`
	Places   []origin.Located     `json:"places" doc:"Where in the document each value stands"`
	Findings []finding.Finding    `json:"findings"`
	Spans    []origin.Span        `json:"spans"`
}

// MappingDetail is a mapping with a description of what it makes of a document.
type MappingDetail struct {
	Mapping
	About    string `json:"about,omitempty"`
	Describe string `json:"describe"`
}

// NewToken asks for an access token.
type NewToken struct {
	Name  string `json:"name" minLength:"1" maxLength:"80" doc:"What or whom the token is for"`
	Scope string `json:"scope" enum:"read,load,admin" doc:"read: look; load: also send documents and load; admin: also mappings, lists and tokens"`

	ExpiresAt *time.Time `json:"expires_at,omitempty" doc:"When the token ends by itself; by default never"`
	Narrowed
}

// CreatedToken is a new token; its secret is shown only this once.
type CreatedToken struct {
	Token
	Secret string `json:"secret"`
}

// Session says who the caller is.
type Session struct {
	Name   string   `json:"name"`
	Scopes []string `json:"scopes"`
	Tokens bool     `json:"tokens_required"`
	Narrowed
}

// Inspection is what a document is made of.
type Inspection = source.Inspection

// Entries and Pairs are bodies of list and crosswalk imports.
type (
	Entries struct {
		Entries []list.Entry `json:"entries" maxItems:"1000000"`
	}
	Pairs struct {
		Pairs []list.Pair `json:"pairs" maxItems:"1000000"`
	}
)

// MappingRef names a mapping: its text, or a kept one.
type MappingRef struct {
	Text    string `json:"text,omitempty" doc:"YAML of a mapping that need not be kept"`
	Name    string `json:"name,omitempty" doc:"Name of a kept mapping"`
	Version int    `json:"version,omitempty" minimum:"0" doc:"Its version; by default the newest"`
}

// NewDraft asks for a draft of a mapping.
type NewDraft struct {
	Name    string `json:"name,omitempty" doc:"Name of the mapping; by default draft"`
	Partner string `json:"partner,omitempty" doc:"Our code of the partner, where it is known"`
	Kind    string `json:"kind,omitempty" enum:"sales,purchase,change,answer,shipment,receipt,return,invoice" doc:"What the document brings: orders, or what it says of orders that are stored. By default, sales or purchase is guessed"`
	Of      string `json:"of,omitempty" enum:"sales,purchase" doc:"Which orders a shipment and the like is about; by default those that it usually does"`
}

// NewPreview asks what a mapping makes of a part of a document.
type NewPreview struct {
	Mapping MappingRef `json:"mapping"`
	Sheet   string     `json:"sheet,omitempty" doc:"Sheet that is looked at"`
	From    int        `json:"from" minimum:"1" doc:"First row that is seen"`
	To      int        `json:"to" minimum:"1" doc:"Last row that is seen"`
	Row     int        `json:"row,omitempty" minimum:"0" doc:"Row under the cursor, whose order is wanted"`
	Seq     int        `json:"seq,omitempty" minimum:"0" doc:"Or which order of the document"`
}

// NewComparison asks how two mappings differ in effect.
type NewComparison struct {
	Was MappingRef `json:"was"`
	Is  MappingRef `json:"is"`
}

// Field is one field of an order that a mapping can bind.
type Field struct {
	Level   order.Level `json:"level" enum:"header,lines,parties,charges,deliveries"`
	Name    string      `json:"name" doc:"A name that ends in an asterisk stands for names of one's own"`
	Type    order.Type  `json:"type"`
	About   string      `json:"about"`
	Choices []string    `json:"choices,omitempty"`
	Needed  []string    `json:"needed" doc:"Kinds of records that cannot do without it: sales, purchase, shipment …"`
}

// Acceptance names warnings that shall not hold orders.
type Acceptance struct {
	Codes []finding.Code `json:"codes" minItems:"1"`
}

// NewRun asks for a run of a document through a sequence.
type NewRun struct {
	Document string `json:"document,omitempty" doc:"SHA-256 of a document received, or its first letters"`
	Sequence string `json:"sequence,omitempty" doc:"Name of a sequence"`
	Version  int    `json:"version,omitempty" minimum:"0" doc:"Version of the sequence; by default the newest"`
	AgainOf  int64  `json:"again_of,omitempty" minimum:"0" doc:"Instead of document and sequence: an earlier run to go on from"`
	outcome.Options
}

// SequenceDetail is a sequence with its steps.
type SequenceDetail struct {
	Sequence
	About string                 `json:"about,omitempty"`
	Steps []mapping.SequenceStep `json:"steps"`
}

// Today is what somebody looks at first in the morning.
type Today struct {
	Running      []outcome.Load `json:"running" doc:"Waiting, running and paused loads"`
	Failing      []outcome.Load `json:"failing" doc:"Loads of the last days of which orders failed or were held, and no later load took up"`
	Interchanges []Interchange  `json:"interchanges" doc:"Interchanges that are held, rejected, from an unknown sender, or not acknowledged in time"`
	Overdue      int            `json:"overdue" doc:"Orders whose day of delivery is past and of which nothing has moved, counted up to 10,000"`
	Held         map[string]int `json:"held" doc:"How many things are held, by the code of the reason"`
	Days         []Day          `json:"days" doc:"Orders by day, the oldest first"`
	Saved        int            `json:"saved_seconds" doc:"Work by hand that loads stood for, over all days"`
	Orders       int            `json:"orders" doc:"Orders stored"`
}
