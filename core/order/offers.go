package order

import (
	"cmp"
	"slices"
	"strconv"
	"strings"
)

// A Verdict is what an answer to a line amounts to.
type Verdict string

const (
	Accepted Verdict = "accepted"
	Modified Verdict = "changed" // accepted with another quantity, day or price
	Rejected Verdict = "refused"
	Pending  Verdict = "pending" // the seller has not decided yet
)

// verdicts maps the words of an answer to a line, and the codes of X12 element 668, to their meaning.
var verdicts = map[string]Verdict{
	"": Accepted, "ACCEPTED": Accepted, "AC": Accepted, "AR": Accepted, "IA": Accepted,
	"CHANGED": Modified, "DR": Modified, "IC": Modified, "IP": Modified, "IQ": Modified, "IS": Modified,
	"IB": Modified, "BP": Modified, "BACK-ORDERED": Modified,
	"SP": Accepted, "IH": Pending, "IF": Pending, "IW": Pending, "PENDING": Pending,
	"REFUSED": Rejected, "ID": Rejected, "IR": Rejected, "R1": Rejected, "R2": Rejected, "R3": Rejected,
	"R4": Rejected, "R5": Rejected, "R6": Rejected,
}

// VerdictOf returns the meaning of the code of an answer to a line; false if it has none.
func VerdictOf(code string) (Verdict, bool) {
	v, ok := verdicts[strings.ToUpper(strings.TrimSpace(code))]
	return v, ok
}

// verdictsOfAll maps the words of an answer to an order as a whole, and the codes of X12 element 587, to their meaning.
// Lines may give the details.
var verdictsOfAll = map[string]Verdict{
	"": Accepted, "ACCEPTED": Accepted, "AC": Accepted, "AD": Accepted, "AE": Accepted, "AK": Accepted, "AP": Accepted,
	"AT": Accepted, "NA": Accepted, "ZZ": Accepted,
	"CHANGED": Modified, "BACK-ORDERED": Modified,
	"PENDING": Pending, "AH": Pending,
	"REFUSED": Rejected, "RD": Rejected, "RF": Rejected, "RJ": Rejected, "RO": Rejected,
}

// VerdictOfAll returns the meaning of the code of an answer to an order as a whole; false if it has none.
func VerdictOfAll(code string) (Verdict, bool) {
	v, ok := verdictsOfAll[strings.ToUpper(strings.TrimSpace(code))]
	return v, ok
}

// answer is an answer with what it says about each line, by ids.
type answer struct {
	*Answered
	lines map[int][]*AnsweredLine
}

func answerOf(a *Answered) *answer {
	by := answer{a, make(map[int][]*AnsweredLine, len(a.Lines))}
	for i := range a.Lines {
		l := &a.Lines[i]
		by.lines[l.Line] = append(by.lines[l.Line], l)
	}
	return &by
}

// whole reports whether what an answer says about the order as a whole also applies to a line.
func (a *answer) whole(line int) bool { return a.lines[line] == nil && a.SpeaksForOthers() }

// SpeaksForOthers reports whether what the answer says about the order as a whole also applies to the lines that it does
// not name. This is so if it names none, or only the exceptions (code AE of X12 element 587).
func (a *Answered) SpeaksForOthers() bool {
	return len(a.Lines) == 0 || strings.EqualFold(strings.TrimSpace(a.Code), "AE")
}

// Offer is what the seller offers for a line: what the last answer about it says, in all its statements.
type Offer struct {
	Line       int    `json:"line" doc:"Id of the order's line"`
	Number     string `json:"number" doc:"Number of the line"`
	Code       string `json:"code,omitempty" doc:"Of the first statement"`
	Refused    bool   `json:"refused,omitempty"`
	Unchanged  bool   `json:"unchanged,omitempty" doc:"A change that was asked of the line is refused: the seller keeps to what was ordered before"`
	Pending    bool   `json:"pending,omitempty" doc:"The seller has not decided about the line, or a part of it"`
	Unanswered bool   `json:"unanswered,omitempty" doc:"No answer is about the line, and the order was answered"`
	Accepted   Number `json:"accepted,omitzero" doc:"Quantity, in the line's unit, of all statements; absent where all of it is accepted"`
	UnitPrice  Number `json:"unit_price,omitzero"`
	PriceBasis Number `json:"price_basis,omitzero"`
	DueOn      Date   `json:"due_on,omitempty" doc:"The latest day that is promised"`
	Reason     string `json:"reason,omitempty"`
	Item       string `json:"item,omitempty" doc:"Code of the item that is offered in place of the one that was ordered: a person decides, nothing takes it by itself"`
	// Differs describes what is not as the order has it. If it is empty, the order says the same.
	Differs []string `json:"differs,omitempty" doc:"What is not as ordered, in words"`
	// Take is what makes the order say the same, as the fields of a line of a change.
	Take map[string]string `json:"take,omitempty" doc:"The line of a change with which the order takes what is offered"`
}

// lastAnswers returns the last answer about each line of an order, by ids.
func lastAnswers(o *Order, answers []Answered) map[int]*answer {
	last := map[int]*answer{}
	for i := range answers {
		a := answerOf(&answers[i])
		if a.Replaces {
			clear(last)
		}
		for id := range a.lines {
			last[id] = a
		}
		for k := range o.Lines {
			if a.whole(o.Lines[k].ID) {
				last[o.Lines[k].ID] = a
			}
		}
	}
	return last
}

// backordered are the words and codes that say that a quantity comes later than was asked.
var backordered = []string{"BACK-ORDERED", "IB", "BP"}

// Show fills in what is shown of each line and not stored: its status, and how much of it comes later than was asked,
// as the last answer about the line says and as far as it is open still. What a line says itself stays.
func (o *Order) Show(answers []Answered) error {
	for i := range o.Lines {
		o.Lines[i].Status = o.Lines[i].DeriveStatus(o.Kind)
	}
	if len(answers) == 0 {
		return nil
	}
	last := lastAnswers(o, answers)
	for i := range o.Lines {
		l := &o.Lines[i]
		a := last[l.ID]
		if a == nil || !l.Backordered.IsZero() {
			continue
		}
		open, err := l.Open(o.Kind.Moves())
		if err != nil {
			return err
		}
		var later Number
		for _, s := range a.lines[l.ID] {
			if !slices.Contains(backordered, strings.ToUpper(strings.TrimSpace(s.Code))) {
				continue
			}
			if later, err = later.Add(cmp.Or(s.Quantity, open)); err != nil {
				return err
			}
		}
		if later.Cmp(open) > 0 {
			later = open
		}
		if later.Sign() > 0 {
			l.Backordered = later
		}
	}
	return nil
}

// Offers compares the seller's answers with an order as it is. It returns an offer for each line that was answered and,
// if any line was, for each line that should have been.
func Offers(o *Order, answers []Answered) ([]Offer, error) {
	last := lastAnswers(o, answers)
	var all []Offer
	for i := range o.Lines {
		line := &o.Lines[i]
		wanted, err := line.Wanted()
		if err != nil {
			return nil, err
		}
		f := Offer{Line: line.ID, Number: line.Number}
		a := last[line.ID]
		switch {
		case a == nil && (len(last) == 0 || wanted.Sign() <= 0):
			continue
		case a == nil:
			f.Unanswered = true
			f.Differs = []string{"not answered"}
		default:
			err = f.read(a, o, line, wanted)
			if err == nil && len(f.Differs) > 0 && f.Item == "" && !f.Pending {
				f.Take, err = f.change(line, wanted)
			}
			if err != nil {
				return nil, err
			}
		}
		all = append(all, f)
	}
	return all, nil
}

// read takes what an answer says about a line.
func (f *Offer) read(a *answer, o *Order, line *Line, wanted Number) (err error) {
	asked := cmp.Or(line.RequestedDeliveryOn, o.RequestedDeliveryOn, line.RequestedShipOn, o.RequestedShipOn)
	var prices, days []string
	var late []AnsweredLine
	first, whole := true, false
	if a.whole(line.ID) {
		verdict, _ := VerdictOfAll(a.Code)
		f.Code, f.Refused, f.Pending = a.Code, verdict == Rejected, verdict == Pending
	}
	f.Unchanged = a.keeps(line.ID)
	for _, l := range a.lines[line.ID] {
		verdict, _ := VerdictOf(l.Code)
		refused := verdict == Rejected
		refused = refused && !f.Unchanged
		if first {
			f.Code, f.Refused, first = l.Code, refused, false
		}
		f.Refused = f.Refused && refused
		if l.Reason != "" && !strings.Contains(f.Reason, l.Reason) {
			f.Reason = strings.TrimPrefix(f.Reason+"; "+l.Reason, "; ")
		}
		if refused {
			continue
		}
		if verdict == Pending {
			f.Pending = true
			continue
		}
		if l.Item != "" && line.otherItem(l.Item) {
			f.Item = l.Item
			prices = append(prices, "item "+l.Item+" for "+cmp.Or(line.SupplierItem, line.Item, line.BuyerItem, line.GTIN,
				line.Description))
		}
		if l.Quantity.IsZero() {
			whole = true
		} else if f.Accepted, err = f.Accepted.Add(l.Quantity); err != nil {
			return err
		}
		if !l.UnitPrice.IsZero() && !line.UnitPrice.IsZero() {
			ordered := Priced{UnitPrice: line.UnitPrice, PriceBasis: line.PriceBasis}
			offered := Priced{UnitPrice: l.UnitPrice, PriceBasis: l.PriceBasis}.Beside(ordered)
			if !offered.SameTerms(ordered) {
				f.UnitPrice, f.PriceBasis = offered.UnitPrice, offered.PriceBasis
				prices = append(prices, "price "+offered.Words(ordered)+" for "+ordered.Words(offered))
			}
		}
		if l.DueOn == "" && strings.EqualFold(strings.TrimSpace(l.Code), "SP") {
			days = append(days, "no day is promised yet")
		}
		if l.DueOn != "" {
			f.DueOn = max(f.DueOn, l.DueOn)
			if l.DueOn != asked {
				late = append(late, *l)
			}
		}
	}
	for _, l := range late {
		days = append(days, partly(l.Quantity, f.Accepted)+"due "+string(l.DueOn))
	}
	if whole {
		f.Accepted = Number{}
	}
	if f.Unchanged {
		said := "the change is refused"
		if f.Accepted.Sign() > 0 {
			said += ": quantity " + f.Accepted.Plain() + " of " + wanted.Plain()
		}
		if f.Accepted.Sign() <= 0 || f.Accepted.Cmp(wanted) != 0 {
			f.Differs = append(f.Differs, said)
		}
		return nil
	}
	if f.Refused {
		if f.Differs = []string{"refused"}; wanted.Sign() <= 0 {
			f.Differs = nil // it is cancelled here too
		}
		return nil
	}
	if f.Pending {
		f.Differs = append(f.Differs, "not decided by the seller yet")
	}
	if !f.Accepted.IsZero() && f.Accepted.Cmp(wanted) != 0 {
		f.Differs = append(f.Differs, "quantity "+f.Accepted.Plain()+" of "+wanted.Plain())
	}
	if f.DueOn != "" && f.DueOn == asked { // what comes before comes in time
		days = nil
	}
	f.Differs = slices.Compact(append(append(f.Differs, prices...), days...))
	return nil
}

// partly names how much is meant if not all of a line is accepted.
func partly(quantity, accepted Number) string {
	if quantity.IsZero() || quantity.Cmp(accepted) >= 0 {
		return ""
	}
	return quantity.Plain() + " "
}

// Keeps reports whether the seller refuses a change and keeps to what was ordered before. For a line that was added, a
// refusal is of the line itself; a deleted line (ID) is as it was asked.
func (l *AnsweredLine) Keeps() bool {
	verdict, _ := VerdictOf(l.Code)
	switch asked := strings.ToUpper(l.Asked); {
	case asked == "", asked == "AI", asked == "ADD", strings.EqualFold(l.Code, "ID"):
		return false
	}
	return verdict == Rejected
}

// keeps reports whether an answer says nothing about a line except that a change of it is refused.
func (a *answer) keeps(line int) bool {
	said := a.lines[line]
	return len(said) > 0 && !slices.ContainsFunc(said, func(l *AnsweredLine) bool { return !l.Keeps() })
}

// change is the change of the line that takes the offer.
func (f *Offer) change(line *Line, wanted Number) (map[string]string, error) {
	take := map[string]string{"id": strconv.Itoa(f.Line)}
	if f.Unchanged && (f.Accepted.Sign() <= 0 || wanted.Sign() <= 0) {
		return nil, nil // what stays is not said, or the line is cancelled here
	}
	if f.Refused {
		take["change"] = "delete"
		return take, nil
	}
	if !f.Accepted.IsZero() && f.Accepted.Cmp(wanted) != 0 {
		quantity, err := f.Accepted.Add(line.Cancelled)
		if err != nil {
			return nil, err
		}
		take["quantity"] = quantity.Plain()
	}
	if f.Unchanged {
		return take, nil
	}
	if !f.UnitPrice.IsZero() {
		take["unit_price"] = f.UnitPrice.Plain()
		if !f.PriceBasis.IsZero() {
			take["price_basis"] = f.PriceBasis.Plain()
		}
	}
	if f.DueOn != "" {
		take["requested_delivery_on"] = string(f.DueOn)
	}
	if len(take) == 1 {
		return nil, nil // nothing of it is in the order
	}
	return take, nil
}
