package intent

import (
	"koinos/core/finding"
	"koinos/core/order"
	"koinos/core/origin"
)

// Kind is what somebody wants.
type Kind string

const (
	Order    Kind = "order"    // an order: a new one, or one that came before
	Change   Kind = "change"   // lines or terms of a stored order become others
	Answer   Kind = "answer"   // the seller says what becomes of each line
	Shipment Kind = "shipment" // goods have left
	Receipt  Kind = "receipt"  // goods have arrived
	Return   Kind = "return"   // goods went back
	Invoice  Kind = "invoice"  // the seller wants money for lines

	Withdrawal Kind = "withdrawal" // the order is not wanted any more
)

// Notices are the kinds that are about an order that is stored already.
var Notices = []string{string(Change), string(Answer), string(Shipment), string(Receipt), string(Return),
	string(Invoice)}

// Intent is one thing that somebody wants, made from one record of a document or from a request.
type Intent struct {
	Kind     Kind
	Order    order.Order // the order, or what a notice says of one, with its Statement
	Findings []finding.Finding
	Trace    origin.Trace
	Spans    []origin.Span
	Seq      int  // which record of the document, counted from 1
	Orphan   bool // nothing was made of it: its rows belong to no order, or cannot be read
	Waits    bool // for the order that an earlier step of a sequence did not make
	stated   []Stated

	Target int64 // id of the stored order that a notice speaks of, where that is known; 0 is to be found
	Seen   int   // revision that it was when the notice was made; 0 is whichever

	Replaces bool // an order takes the place of the stored one, whichever is newer, without which it is refused; a notice of the earlier one

	Clears []Cleared // fields that a change makes blank

	known *known
}

// Cleared is a field that a change makes blank in one of its lines; line 0 is the header.
type Cleared struct {
	Line  int
	Field order.Field
}

// CanBeBlank reports whether a change can make a field blank.
func CanBeBlank(field string) bool {
	return field != "quantity" && field != "number" && field != "currency"
}

// Find adds a finding at a place; line 0 is the header.
func (i *Intent) Find(code finding.Code, at origin.Place, value string, line int, format string,
	args ...any) *finding.Finding {
	f := finding.New(code, at, value, format, args...)
	f.Order, f.Line = i.Seq, line
	i.Findings = append(i.Findings, f)
	return &i.Findings[len(i.Findings)-1]
}

// Add adds a finding about a field, at the place that the field came from. What came from nowhere is found at the
// order: at its number in a document of JSON or X12, otherwise at its first row.
func (i *Intent) Add(code finding.Code, line int, field, value, format string, args ...any) *finding.Finding {
	at := i.Trace.Find(line, field)
	if at == (origin.Place{}) && len(i.Spans) > 0 && i.Spans[0].First > 0 {
		at = origin.Place{Sheet: i.Spans[0].Sheet, Row: i.Spans[0].First}
		if number := i.Trace.Find(0, "sender_number"); number.Pointer != "" || number.Segment != "" {
			at = number
		}
	}
	f := i.Find(code, at, value, line, format, args...)
	f.Field = field
	return f
}

// Name adds to each finding which order it is about.
func (i *Intent) Name() {
	for k := range i.Findings {
		i.Findings[k].Number = i.Order.SenderNumber
	}
}

// Refused reports whether a finding keeps the intent from being carried out.
func (i *Intent) Refused() bool {
	for k := range i.Findings {
		if i.Findings[k].Severity == finding.Error {
			return true
		}
	}
	return false
}

// Weigh gives findings the severities that somebody has set for their codes; "" removes the finding.
func (i *Intent) Weigh(as map[finding.Code]finding.Severity) {
	i.Findings = finding.Weigh(i.Findings, as)
}

// Stated is a figure that the document states and that is compared with Koinos's own.
type Stated struct {
	Line  int // counted from 1; 0 is the order's own
	Field string
}

// Stated lists the figures that are compared.
func (i *Intent) Stated() []Stated { return i.stated }

// State notes that a figure is to be compared.
func (i *Intent) State(line int, field string) {
	if i.stated == nil {
		i.stated = make([]Stated, 0, max(8, len(i.Order.Lines)))
	}
	i.stated = append(i.stated, Stated{line, field})
}

// theirs are the fields of the header that a buyer calls by another name than the seller, and theirLines those of
// lines.
var (
	theirs     = map[string]string{"sender_number": "number", "number": "sender_number"}
	theirLines = map[string]string{"item": "supplier_item", "buyer_item": "item"}
)

// FromSeller turns what is said from the seller's point of view, as in X12, into the buyer's: their number is the
// sender's, their item the supplier's.
func (i *Intent) FromSeller() {
	i.Order = order.Buyer(&i.Order)
	i.Trace.Rename(theirs, theirLines)
	for k := range i.Findings {
		f, names := &i.Findings[k], theirs
		if f.Line > 0 {
			names = theirLines
		}
		if to := names[f.Field]; to != "" {
			f.Field = to
		}
	}
}
