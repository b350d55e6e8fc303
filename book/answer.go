package book

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"koinos/core/finding"
	"koinos/core/order"
)

// verdicts say what an answer to a line means: the words, and the codes of X12
// element 668. Those that are not as asked are for a person to look at.
var verdicts = map[string]string{
	"": "accepted", "ACCEPTED": "accepted", "AC": "accepted", "AR": "accepted", "IA": "accepted",
	"CHANGED": "changed", "DR": "changed", "IC": "changed", "IP": "changed", "IQ": "changed", "IS": "changed",
	"IB": "changed", "BP": "changed", "BACK-ORDERED": "changed",
	"REFUSED": "refused", "ID": "refused", "IR": "refused", "R1": "refused", "R2": "refused", "R3": "refused",
	"R4": "refused", "R5": "refused", "R6": "refused",
}

// answer keeps what the seller says to the order.
func (n *noticed) answer() error {
	in := n.in
	said := in.Statement
	a := &order.Answered{Code: said.Code, On: said.On}
	if n.stored.Kind == order.Purchase {
		a.Number = in.SenderNumber
	}
	got := offers{}
	for i := range in.Lines {
		l := &in.Lines[i]
		code := order.LineStatement{}
		if l.Statement != nil {
			code = *l.Statement
		}
		line := n.lineOf(i, strings.EqualFold(code.Code, "IS"))
		if line == nil {
			continue
		}
		verdict, known := verdicts[strings.ToUpper(strings.TrimSpace(code.Code))]
		if !known {
			n.e.Add(finding.UnknownChoice, i+1, "answer", code.Code, "%q is no answer to a line.",
				code.Code).Hint = "It may be accepted, changed, back-ordered, refused, or a code of X12 element 668."
			continue
		}
		if code.Accepted.IsZero() {
			code.Accepted, code.AcceptedUnit = l.Quantity, cmp.Or(code.AcceptedUnit, l.Unit)
		}
		l.Quantity, l.Unit = code.Accepted, cmp.Or(code.AcceptedUnit, l.Unit)
		if _, ok := n.inUnit(i, line); !ok {
			continue
		}
		accepted := l.Quantity
		if verdict == "refused" {
			accepted = order.NumberOf(0)
		}
		if err := got.add(line, i+1, verdict, accepted, l, code); err != nil {
			return err
		}
		a.Lines = append(a.Lines, order.AnsweredLine{Line: line.ID, Code: code.Code, Quantity: accepted,
			Unit: l.Unit, DueOn: code.DueOn, UnitPrice: l.UnitPrice, Reason: code.Reason})
		n.besides = append(n.besides, order.Change{Line: slices.IndexFunc(n.is.Lines,
			func(o order.Line) bool { return o.ID == line.ID }) + 1, LineID: line.ID, Field: "answer",
			Was: n.answered(line.ID), Is: code.Code})
	}
	if last := len(n.stored.Answers) - 1; last >= 0 && sameAnswer(&n.stored.Answers[last], a) {
		n.same = true
		return nil
	}
	if err := n.compareAnswer(got, strings.ToUpper(said.Code)); err != nil {
		return err
	}
	if code := strings.ToUpper(said.Code); code != "RD" && code != "RJ" && code != "REFUSED" &&
		n.is.Stage != order.Draft {
		n.is.Stage = order.Confirmed
	}
	if n.stored.Kind == order.Purchase && in.SenderNumber != "" && n.is.SenderNumber == "" {
		n.is.SenderNumber = in.SenderNumber
		n.c.Identity = n.is.Identity()
	}
	n.besides = slices.DeleteFunc(n.besides, func(c order.Change) bool { return c.Was == c.Is })
	n.c.Answer = a
	return nil
}

// offer is what an answer offers of a line, with all that it says of it.
type offer struct {
	at       int // line of the notice
	code     string
	accepted order.Number
	differs  []string // from what the order says, in words
	refused  bool
}

// offers are those of lines, by their ids.
type offers map[int]*offer

// add adds what one statement offers of a line.
func (o offers) add(line *order.Line, at int, verdict string, accepted order.Number, l *order.Line,
	said order.LineStatement) (err error) {
	one := o[line.ID]
	if one == nil {
		one = &offer{at: at, code: said.Code, refused: verdict == "refused"}
		o[line.ID] = one
	}
	one.refused = one.refused && verdict == "refused"
	if accepted.IsZero() { // all of it
		if accepted, err = line.Wanted(); err != nil {
			return err
		}
	}
	if one.accepted, err = one.accepted.Add(accepted); err != nil || verdict == "refused" {
		return err
	}
	if !l.UnitPrice.IsZero() && !line.UnitPrice.IsZero() {
		offered := order.Priced{Quantity: order.NumberOf(1), UnitPrice: l.UnitPrice, PriceBasis: l.PriceBasis}
		asked := order.Priced{Quantity: order.NumberOf(1), UnitPrice: line.UnitPrice, PriceBasis: line.PriceBasis}
		if !offered.SameTerms(asked) {
			one.differs = append(one.differs, fmt.Sprintf("price %s for %s", l.UnitPrice, line.UnitPrice))
		}
	}
	if said.DueOn != "" {
		one.differs = append(one.differs, "due "+string(said.DueOn))
	}
	return nil
}

// compareAnswer says where the other side's answer is not what was ordered: another quantity, price or day, what it
// refuses, and lines that nobody has answered. What we answer ourselves is not compared.
func (n *noticed) compareAnswer(got offers, code string) error {
	for i := range n.is.Lines {
		line := &n.is.Lines[i]
		one := got[line.ID]
		if one == nil {
			continue
		}
		wanted, err := line.Wanted()
		if err != nil {
			return err
		}
		asked := cmp.Or(line.RequestedDeliveryOn, n.is.RequestedDeliveryOn, line.RequestedShipOn, n.is.RequestedShipOn)
		one.differs = slices.DeleteFunc(one.differs, func(d string) bool { return asked != "" && d == "due "+string(asked) })
		switch {
		case one.refused:
			n.e.Add(finding.AnswerDiffers, one.at, "answer", one.code,
				"Line %s is rejected (%s); what is wanted of it must come from elsewhere.", line.Number, one.code)
			continue
		case !one.accepted.IsZero() && one.accepted.Cmp(wanted) != 0:
			one.differs = slices.Insert(one.differs, 0, fmt.Sprintf("quantity %s of %s", one.accepted.Plain(), wanted.Plain()))
		}
		if len(one.differs) > 0 {
			said := one.code
			if said != "" {
				said = " (" + said + ")"
			}
			n.e.Add(finding.AnswerDiffers, one.at, "answer", one.code, "Line %s is accepted with changes%s: %s.", line.Number, said,
				strings.Join(slices.Compact(one.differs), ", "))
		}
	}
	if n.stored.Kind != order.Purchase || len(got) == 0 || code == "RD" {
		return nil
	}
	var silent []string
	for i := range n.is.Lines {
		l := &n.is.Lines[i]
		if wanted, err := l.Wanted(); err == nil && wanted.Sign() > 0 && got[l.ID] == nil && !n.wasAnswered(l.ID) {
			silent = append(silent, l.Number)
		}
	}
	switch len(silent) {
	case 0:
	case 1:
		n.e.Add(finding.AnswerDiffers, 0, "answer", "", "Line %s is not answered.", silent[0])
	default:
		n.e.Add(finding.AnswerDiffers, 0, "answer", "", "Lines %s are not answered.", strings.Join(silent, ", "))
	}
	return nil
}

// wasAnswered reports whether an earlier answer speaks of a line.
func (n *noticed) wasAnswered(line int) bool {
	return slices.ContainsFunc(n.stored.Answers, func(a order.Answered) bool {
		return slices.ContainsFunc(a.Lines, func(l order.AnsweredLine) bool { return l.Line == line })
	})
}

// answered is what was answered to a line last.
func (n *noticed) answered(line int) string {
	for i := len(n.stored.Answers) - 1; i >= 0; i-- {
		for _, l := range n.stored.Answers[i].Lines {
			if l.Line == line {
				return l.Code
			}
		}
	}
	return ""
}

func sameAnswer(a, b *order.Answered) bool {
	return a.Code == b.Code && a.On == b.On && slices.EqualFunc(a.Lines, b.Lines, func(x, y order.AnsweredLine) bool {
		return x.Line == y.Line && x.Code == y.Code && x.Quantity.Cmp(y.Quantity) == 0 && x.DueOn == y.DueOn &&
			x.UnitPrice.Cmp(y.UnitPrice) == 0
	})
}
