package book

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"koinos/api"
	"koinos/core/finding"
	"koinos/core/order"
)

// answer stores what the seller answers to the order.
func (n *noticed) answer() error {
	in := n.in
	said := in.Statement
	all, known := order.VerdictOfAll(said.Code)
	if !known {
		n.e.Add(finding.UnknownChoice, 0, "answer", said.Code, "%q is no answer to an order.",
			said.Code).Hint = "It may be accepted, changed, back-ordered, pending, refused, or a code of X12 element 587."
		return nil
	}
	a := &order.Answered{Code: said.Code, On: said.On, Replaces: n.e.Replaces}
	if n.stored.Kind == order.Purchase {
		a.Number = in.SenderNumber
	}
	before := n.answered()
	at := map[int]int{} // of lines by their ids: which line of the notice speaks of it first; 0 is the header
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
		if code.Code == "" && code.Reason != "" && code.DueOn == "" && code.Item == "" && code.Accepted.IsZero() &&
			l.Quantity.IsZero() && l.UnitPrice.IsZero() {
			code.Code = string(order.Pending) // such as "no stock until May", and no quantity or day beside it
		}
		verdict, known := order.VerdictOf(code.Code)
		if !known {
			n.e.Add(finding.UnknownChoice, i+1, "answer", code.Code, "%q is no answer to a line.",
				code.Code).Hint = "It may be accepted, changed, back-ordered, pending, refused, or a code of X12 element 668."
			continue
		}
		stated := !code.Accepted.IsZero()
		if !stated {
			code.Accepted, code.AcceptedUnit = l.Quantity, cmp.Or(code.AcceptedUnit, l.Unit)
		}
		l.Quantity, l.Unit = code.Accepted, cmp.Or(code.AcceptedUnit, l.Unit)
		if _, ok := n.inUnit(i, line); !ok {
			continue
		}
		answered := order.AnsweredLine{Line: line.ID, Code: code.Code, Asked: code.Asked, Quantity: l.Quantity, Unit: l.Unit,
			DueOn: code.DueOn, UnitPrice: l.UnitPrice, PriceBasis: l.PriceBasis, Reason: code.Reason}
		answered.Item = code.Item
		if other, item := line.DifferentItem(l); other != "" {
			answered.Item = item
		}
		if verdict == order.Rejected && !(answered.Keeps() && stated) {
			answered.Quantity = order.NumberOf(0)
		} else if verdict != order.Rejected && verdict != order.Pending && !strings.EqualFold(code.Code, "SP") { // its day is open
			answered.DueOn = cmp.Or(answered.DueOn, said.DueOn)
		}
		if at[line.ID] == 0 {
			at[line.ID] = i + 1
		}
		a.Lines = append(a.Lines, answered)
		n.besides = append(n.besides, order.Change{Line: n.is.Position(line.ID), LineID: line.ID, Field: "answer",
			Was: before[line.ID], Is: code.Code})
	}
	if all == order.Accepted || all == order.Modified {
		if err := n.promise(a, said.DueOn, at, before); err != nil {
			return err
		}
	}
	if last := len(n.stored.Answers) - 1; last >= 0 && sameAnswer(&n.stored.Answers[last], a) {
		n.same = true
		return nil
	}
	if err := n.compareAnswer(a, at); err != nil {
		return err
	}
	if all != order.Rejected && all != order.Pending && n.is.Stage != order.Draft {
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

// promise answers the lines of which the answer speaks only as a whole, if it promises a day for all of them.
func (n *noticed) promise(a *order.Answered, due order.Date, named map[int]int, before map[int]string) error {
	if due == "" || !a.SpeaksForOthers() {
		return nil
	}
	for i := range n.is.Lines {
		line := &n.is.Lines[i]
		wanted, err := line.Wanted()
		if err != nil {
			return err
		}
		if _, is := named[line.ID]; !is && wanted.Sign() > 0 {
			named[line.ID] = 0
			a.Lines = append(a.Lines, order.AnsweredLine{Line: line.ID, Code: string(order.Accepted), DueOn: due})
			n.besides = append(n.besides, order.Change{Line: i + 1, LineID: line.ID, Field: "answer", Was: before[line.ID],
				Is: string(order.Accepted)})
		}
	}
	return nil
}

// compareAnswer reports where the supplier's answer differs from what was ordered: another quantity, price or day, a
// refusal, or a line that nobody has answered. Our own answers are not compared.
func (n *noticed) compareAnswer(a *order.Answered, at map[int]int) error {
	if n.stored.Kind != order.Purchase {
		return nil
	}
	all, err := order.Offers(n.is, append(slices.Clone(n.stored.Answers), *a))
	if err != nil {
		return err
	}
	if verdict, _ := order.VerdictOfAll(a.Code); len(a.Lines) == 0 && verdict == order.Rejected {
		n.e.Add(finding.AnswerDiffers, 0, "answer", a.Code,
			"The whole order is rejected%s; what is wanted of it must come from elsewhere.",
			parenthesised(a.Code))
		return nil
	}
	var silent []string
	for _, f := range all {
		line, spoken := at[f.Line]
		switch said := parenthesised(f.Code); {
		case f.Unanswered:
			silent = append(silent, f.Number)
		case !spoken || len(f.Differs) == 0: // an earlier answer said it
		case f.Refused:
			n.e.Add(finding.AnswerDiffers, line, "answer", f.Code,
				"Line %s is rejected%s; what is wanted of it must come from elsewhere.", f.Number, said)
		case f.Unchanged || f.Pending:
			n.e.Add(finding.AnswerDiffers, line, "answer", f.Code, "Line %s: %s%s.", f.Number, strings.Join(f.Differs, ", "),
				said)
		default:
			n.e.Add(finding.AnswerDiffers, line, "answer", f.Code, "Line %s is accepted with changes%s: %s.", f.Number, said,
				strings.Join(f.Differs, ", "))
		}
	}
	if strings.EqualFold(a.Code, "RD") { // the details come separately
		silent = nil
	}
	switch len(silent) {
	case 0:
	case 1:
		n.e.Add(finding.AnswerDiffers, 0, "answer", "", "Line %s is not answered.", silent[0])
	default:
		n.e.Add(finding.AnswerDiffers, 0, "answer", "", "Lines %s are not answered.", first(silent, ", "))
	}
	return nil
}

// parenthesised is the code of an answer, as it is put behind the word for what it means; a code that is that word says
// nothing more.
func parenthesised(code string) string {
	switch strings.ToLower(code) {
	case "", string(order.Accepted), string(order.Modified), string(order.Rejected), string(order.Pending):
		return ""
	}
	return " (" + code + ")"
}

// buyers puts an order on the list of held work if its supplier's answers differ from what was ordered. It takes the
// order off the list if they agree, whether because of another answer, a change of the order, or an answer that was
// taken back. answered says that the answers have changed; otherwise only an order that is already on the list is
// looked at.
func buyers(spoken *spokenOf, o *order.Order, answered bool, now time.Time) error {
	if o.Kind != order.Purchase {
		return nil
	}
	tx := spoken.tx
	if !answered {
		if waits, err := tx.AnswerHeld(o.ID); err != nil || !waits {
			return err
		}
	}
	if err := spoken.changes.Settle(o.ID); err != nil {
		return err
	}
	is, err := tx.OrderNow(o.ID)
	if err != nil {
		return err
	}
	all, err := order.Offers(&is.Order, is.Answers)
	if err != nil {
		return err
	}
	var differs []string
	for _, f := range all {
		if len(f.Differs) > 0 {
			differs = append(differs, "line "+f.Number+": "+strings.Join(f.Differs, ", "))
		}
	}
	if len(differs) == 0 {
		return tx.ReleaseAnswer(o.ID)
	}
	reason := "The supplier's answer is not what was ordered"
	return tx.Hold(api.HeldWork{Kind: api.HeldAnswer, OrderID: o.ID, Partner: is.Partner, Number: is.Order.Number,
		Code: string(finding.AnswerDiffers), Reason: reason + ": " + first(differs, "; ") + ".", Since: now})
}

// mostLines is how many lines a sentence names.
const mostLines = 50

// first names the first of what is said of lines, and counts the rest.
func first(all []string, separator string) string {
	if more := len(all) - mostLines; more > 1 {
		return strings.Join(all[:mostLines], separator) + fmt.Sprintf(" and %d more", more)
	}
	return strings.Join(all, separator)
}

// answered returns the code of the latest answer to each line, by ids.
func (n *noticed) answered() map[int]string {
	codes := map[int]string{}
	for i := range n.stored.Answers {
		lines := n.stored.Answers[i].Lines
		for k := len(lines) - 1; k >= 0; k-- { // of several statements the first counts
			codes[lines[k].Line] = lines[k].Code
		}
	}
	return codes
}

func sameAnswer(a, b *order.Answered) bool {
	return a.Code == b.Code && a.On == b.On && a.Replaces == b.Replaces &&
		slices.EqualFunc(a.Lines, b.Lines, func(x, y order.AnsweredLine) bool {
			return x.Line == y.Line && x.Code == y.Code && x.Quantity.Cmp(y.Quantity) == 0 && x.DueOn == y.DueOn &&
				x.UnitPrice.Cmp(y.UnitPrice) == 0 && x.Item == y.Item
		})
}
