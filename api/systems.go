package api

import (
	"encoding/json"
	"time"

	"koinos/core/finding"
	"koinos/core/outcome"
	"koinos/core/report"
	"koinos/core/system"
)

// PullJob is the kind of job that reads a kind of record out of a system.
const PullJob = "pull"

// System is a stored description of another application.
type System struct {
	Name     string    `json:"name"`
	Version  int       `json:"version"`
	Text     string    `json:"text,omitempty" doc:"The YAML"`
	About    string    `json:"about,omitempty"`
	Address  string    `json:"address,omitempty" doc:"Of its API, or its folder"`
	Folder   bool      `json:"folder,omitempty" doc:"It exchanges files"`
	Records  []string  `json:"records,omitempty" doc:"The kinds of record that are described"`
	Writes   []string  `json:"writes,omitempty" doc:"Of those: the ones that an order can be written as"`
	StoredAt time.Time `json:"stored_at"`
	StoredBy string    `json:"stored_by"`

	State SystemState `json:"state" doc:"How it does"`
}

// SystemState is how a system has answered since the service began.
type SystemState struct {
	Answers     string    `json:"answers" enum:"unknown,yes,no" doc:"Unknown until it has been called"`
	At          time.Time `json:"at,omitzero" doc:"Of the last call"`
	AwaySince   time.Time `json:"away_since,omitzero" doc:"Since when it has not answered"`
	Why         string    `json:"why,omitempty" doc:"What was wrong with the last call"`
	SignedUntil time.Time `json:"signed_until,omitzero" doc:"Absent if it does not end"`
	WaitsUntil  time.Time `json:"waits_until,omitzero" doc:"It asked not to be called before"`
	Rate        float64   `json:"rate,omitempty" doc:"Calls a second that it allows, by its description"`
	Points      *float64  `json:"points_left,omitempty" doc:"Of a system that counts points: those that were left by the last answer"`
	Calls       int       `json:"calls" doc:"In the last hour, the last 200 at most"`
	Failed      int       `json:"failed" doc:"Of those"`
	Millis      float64   `json:"millis,omitempty" doc:"What half of those that were answered took at most"`
	Hooks       HookCount `json:"hooks" doc:"Webhooks since the service began"`
}

// HookCount counts the webhooks of a system.
type HookCount struct {
	Taken    int `json:"taken"`
	Repeated int `json:"repeated" doc:"With an id that had come before: answered, and nothing more"`
	Passed   int `json:"passed_over" doc:"Of events that bring nothing, by the description"`
	Refused  int `json:"refused" doc:"Without a good signature or time, or too large; nothing of them is kept"`
}

// States of webhooks.
const (
	HookTaken  = "taken"
	HookPassed = "passed over"
)

// Hook is a message of a system about what happened there.
type Hook struct {
	ID     int64     `json:"id"`
	System string    `json:"system"`
	HookID string    `json:"hook_id" doc:"The system's id of the message"`
	Event  string    `json:"event"`
	State  string    `json:"state" enum:"taken,passed over"`
	At     time.Time `json:"at"`
	Pull   int64     `json:"pull,omitempty" doc:"The pull that read what it is about"`
}

// Registered says where our address is registered for a system's webhooks.
type Registered struct {
	URL   string `json:"url"`
	There bool   `json:"there" doc:"It was registered already"`
}

// States of pulls.
const (
	PullRunning = "running"
	PullAway    = "away" // the system does not answer; it goes on by itself
	PullDone    = "done"
	PullFailed  = "failed"
)

// Pull is one run of reading a kind of record out of a system.
type Pull struct {
	ID        int64    `json:"id"`
	System    string   `json:"system"`
	Version   int      `json:"system_version"`
	Record    string   `json:"record"`
	Mapping   string   `json:"mapping"`
	Since     string   `json:"since,omitempty" doc:"The stamp that it began from, as the system writes it; absent if everything was asked for"`
	Newest    string   `json:"newest,omitempty" doc:"The newest stamp that is in the books: the next pull goes on from there"`
	Next      string   `json:"-"`
	Key       string   `json:"key,omitempty" doc:"Of the one record that is read; by default a list"`
	Also      []string `json:"also,omitempty" db:"-" doc:"Mappings through which the records went besides"`
	All       bool     `json:"all,omitempty" doc:"Everything was asked for, whenever it changed"`
	Reading   `db:"-"`
	Anew      bool      `json:"-"` // what is known as it is, is read all the same
	State     string    `json:"state" enum:"running,away,done,failed"`
	Reason    string    `json:"reason,omitempty" doc:"Why it is away or failed"`
	Folder    bool      `json:"folder,omitempty" doc:"It read files"`
	Pages     int       `json:"pages" doc:"Or files, that were taken, repeated or refused"`
	Waiting   int       `json:"waiting,omitempty" doc:"Files whose end was not there yet"`
	Refused   int       `json:"refused,omitempty" doc:"Files that were refused"`
	Records   int       `json:"records" doc:"That were listed"`
	Unchanged int       `json:"unchanged" doc:"Of those: known already, as they are"`
	Gone      int       `json:"gone" doc:"Of those: withdrawn there. Where their orders are stored, what is open of them is cancelled"`
	Short     int       `json:"short" doc:"Of those: not complete, left out until they are: with fewer lines than they say, or without the number by which a part is asked for"`
	Passed    int       `json:"passed" doc:"Of those: not among those that are to be taken in"`
	Loaded    int       `json:"loaded" doc:"Orders that were stored"`
	Changed   int       `json:"changed" doc:"Orders that were changed"`
	Failed    int       `json:"failed" doc:"Orders that were refused or are held"`
	Loads     []int64   `json:"loads,omitempty" doc:"The loads that took the records"`
	StartedAt time.Time `json:"started_at"`
	EndedAt   time.Time `json:"ended_at,omitzero"`
	By        string    `json:"by"`
	Hook      int64     `json:"hook,omitempty" doc:"The webhook that it is about; absent if a list was read"`
}

// Ended reports whether the pull will not continue by itself.
func (p *Pull) Ended() bool { return p.State == PullDone || p.State == PullFailed }

// NewPull asks for a pull.
type NewPull struct {
	Record  string   `json:"record" doc:"Kind of record, as the description names it"`
	Mapping string   `json:"mapping,omitempty" doc:"By default the one that the description names"`
	Since   string   `json:"since,omitempty" doc:"A stamp as the system writes it, or a day; by default from where the last pull ended"`
	All     bool     `json:"all,omitempty" doc:"Everything, whenever it changed"`
	Also    []string `json:"also,omitempty" doc:"Mappings through which the same records go besides, such as one for the shipments within them"`
	Key     string   `json:"key,omitempty" doc:"Only the record of this key, whether it is known as it is or not"`
	Reading
}

// Reading says which records a pull takes in.
type Reading struct {
	Query map[string]string `json:"query,omitempty" doc:"Parameters that go along with the list"`
	Only  *Condition        `json:"only,omitempty" doc:"Others are passed over, unless they are orders here already"`
	Pass  bool              `json:"pass,omitempty" doc:"Records that are no orders here yet are passed over"`
}

// Condition is a condition on a value of a record.
type Condition struct {
	Path string   `json:"path" doc:"Within the record (RFC 9535)"`
	Is   []string `json:"is,omitempty" doc:"The value is one of these"`
	Not  []string `json:"not,omitempty" doc:"In place of is: the value is none of these"`
}

// PullTried is what a pull would do.
type PullTried struct {
	Pull    Pull            `json:"pull" doc:"What it would read"`
	Load    outcome.Load    `json:"load" doc:"What the mapping would make of it"`
	Reasons []report.Reason `json:"reasons" doc:"What is wrong with it"`
	More    bool            `json:"more,omitempty" doc:"Only the first records were looked at"`
}

// States of arrivals.
const (
	ArrivalMapped = "mapped"
	ArrivalGone   = "gone"   // withdrawn there
	ArrivalShort  = "short"  // not complete
	ArrivalTold   = "told"   // it tells of another record, which was read then
	ArrivalPassed = "passed" // it is not one that is to be taken in
)

// Arrival is one thing that was read from a system.
type Arrival struct {
	ID       int64     `json:"id"`
	System   string    `json:"system"`
	Record   string    `json:"record"`
	Key      string    `json:"key"`
	Number   string    `json:"number,omitempty"`
	Version  string    `json:"version,omitempty"`
	Stamp    string    `json:"stamp,omitempty"`
	State    string    `json:"state" enum:"mapped,gone,short,told,passed"`
	Digest   []byte    `json:"-"`
	Body     []byte    `json:"-"` // as it came
	At       time.Time `json:"at"`
	Pull     int64     `json:"pull"`
	Request  string    `json:"request" doc:"The address that was asked"`
	Place    string    `json:"place" doc:"JSON Pointer (RFC 6901) within the answer"`
	Document string    `json:"document,omitempty" doc:"In which it was mapped"`
	Line     int       `json:"line,omitempty" doc:"Its line in that document"`
	Load     int64     `json:"load,omitempty" doc:"The load that took it"`
}

// Tried is the result of trying a description.
type Tried struct {
	System      string              `json:"system"`
	Address     string              `json:"address"`
	SignedUntil time.Time           `json:"signed_until,omitzero"`
	Record      string              `json:"record,omitempty"`
	Mapping     string              `json:"mapping,omitempty" doc:"That makes orders of it, by the description"`
	Found       []system.Found      `json:"found,omitempty" doc:"What the description finds in the records of the first page"`
	Shown       []string            `json:"shown,omitempty" doc:"The records, their values digit for digit"`
	More        bool                `json:"more,omitempty" doc:"The list goes on"`
	Tells       bool                `json:"tells,omitempty" doc:"The system tells of the fields of these records"`
	Fields      []system.TheirField `json:"fields,omitempty" doc:"What it says of them"`
	Step        *PushStep           `json:"step,omitempty" doc:"The call that makes a record"`
	Folder      bool                `json:"folder,omitempty" doc:"It exchanges files"`
	Files       []TriedFile         `json:"files,omitempty" doc:"The files that are in the folder"`
	Calls       []SystemCall        `json:"calls" doc:"What was asked and answered; nothing secret stands in it"`
	Findings    []finding.Finding   `json:"findings,omitempty" doc:"What is wrong, each at its place"`
	Kind        string              `json:"kind,omitempty" doc:"What kind of trouble it is: away, login, missing, never, setup, answer"`
	Why         string              `json:"why,omitempty" doc:"In a sentence"`
}

// SystemCall is one request that was made of a system.
type SystemCall struct {
	ID     string    `json:"id" doc:"The X-Request-Id that went along, which the system's log may have too"`
	At     time.Time `json:"at"`
	Method string    `json:"method"`
	URL    string    `json:"url"`
	Status int       `json:"status,omitempty"`
	Bytes  int       `json:"bytes"`
	Millis float64   `json:"millis"`
	Why    string    `json:"why,omitempty"`
	Answer string    `json:"answer,omitempty" doc:"The beginning of what came"`
}

// NewTry asks for a description to be tried: a stored one, or a text.
type NewTry struct {
	Name   string `json:"name,omitempty" doc:"Of a kept description"`
	Text   string `json:"text,omitempty" doc:"A description's YAML instead"`
	Record string `json:"record,omitempty" doc:"Kind of record of which a page is read; by default only the sign-in is tried"`
	Find   string `json:"find,omitempty" doc:"WAY=VALUE: not a page is read, but the records that this way finds"`
	Key    string `json:"key,omitempty" doc:"Not a page is read, but the record of this key"`
	Fields bool   `json:"fields,omitempty" doc:"Not a page is read, but what the system says of the fields of these records"`

	Write json.RawMessage `json:"write,omitempty" doc:"Not a page is read: the call is shown that makes this record; where the system has a trial, it is asked whether it would take it"`
}

// States of files.
const (
	FileTaken    = "taken"
	FileRepeated = "repeated" // its id came before, with the same bytes
	FileRefused  = "refused"
)

// TriedFile is a file that a try finds in a folder.
type TriedFile struct {
	Name    string `json:"name"`
	FileID  string `json:"file_id,omitempty"`
	Records int    `json:"records"`
	Waits   string `json:"waits,omitempty" doc:"Why it would not be taken yet"`
	Wrong   string `json:"wrong,omitempty" doc:"Why it would be refused"`
}

// SystemFile is a file that came into a system's folder, at one appearance.
type SystemFile struct {
	ID       int64     `json:"id"`
	System   string    `json:"system"`
	Record   string    `json:"record"`
	Name     string    `json:"name"`
	Size     int64     `json:"size"`
	Modified time.Time `json:"modified" doc:"When it was changed last, as the folder says"`
	FileID   string    `json:"file_id" doc:"What its head or tail names it; a digest of its bytes where it has no id"`
	State    string    `json:"state" enum:"taken,repeated,refused"`
	Reason   string    `json:"reason,omitempty" doc:"Why it is refused"`
	Records  int       `json:"records"`
	Document string    `json:"document" doc:"SHA-256 of its bytes, which are kept as a document"`
	Answer   string    `json:"answer,omitempty" doc:"The file that answers it"`
	Pull     int64     `json:"pull"`
	At       time.Time `json:"at"`

	Settled bool `json:"-"`
}
