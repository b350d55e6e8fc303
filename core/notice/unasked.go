package notice

import (
	"cmp"
	"slices"

	"koinos/core/order"
)

// Changed is the purpose (X12 element 353) of an answer that tells what nobody has asked for.
const Changed = "04"

// Told is an answer that a buyer got (of Confirm, Answered or Unasked), and the order as it was then. If the answer is to
// a change that the buyer has asked for, Before is the order before it.
type Told struct {
	Answer, Was order.Order
	Before      *order.Order
}

// Unasked is what a seller tells the buyer of an order that it has changed by itself: the lines that are not as they
// were when the buyer was last told about them, those that the buyer does not know, and those that somebody has
// answered since (answers). told are all answers that the buyer got so far, oldest first. If the result has no lines,
// there is nothing to tell.
func Unasked(told []Told, is *order.Order, answers []order.Answered, today order.Date) order.Order {
	known := knownLines(told)
	buyer := linesOf(&order.Order{Lines: known})
	was := order.Order{Lines: slices.Clone(known)}
	then, now, last := linesOf(&was), linesOf(is), lastSaid(answers)
	for i := range is.Lines {
		if l := &is.Lines[i]; due(l).Sign() > 0 && then.line(l.Number) == nil {
			was.Lines = append(was.Lines, toldLine(is, l))
		}
	}
	v := Confirm(&was, is, answers, today)
	v.Statement.Unasked, v.Statement.Code = true, "RD"
	lines := v.Lines[:0]
	for _, out := range v.Lines {
		before, l := then.line(out.Number), now.line(out.Number)
		change := "AI"
		if buyer.line(out.Number) != nil {
			change = unaskedChange(before, is, l)
		}
		out.Quantity = order.NumberOf(0)
		if l != nil {
			out.Quantity = due(l)
		}
		if change != "" || len(last.about(before, l)) > 0 {
			out.Statement.Asked = cmp.Or(change, "NC")
			lines = append(lines, out)
		}
	}
	v.Lines = lines
	for i := range is.Lines {
		if due(&is.Lines[i]).Sign() > 0 {
			v.Statement.Code = "AC"
		}
	}
	return v
}

// unaskedChange is the code of the change (X12 element 670) that makes a line as it is of one as the buyer knows it; ""
// if there is none.
func unaskedChange(was *order.Line, is *order.Order, l *order.Line) string {
	switch {
	case l == nil && was.Quantity.Sign() > 0:
		return "DI"
	case l == nil:
		return ""
	case was.Item != l.Item && was.Item != "" && l.Item != "":
		return "MU"
	}
	change := changeOf(was, l, due(l).Sign() > 0 && promised(is, l) != was.RequestedDeliveryOn)
	if change == "" && due(l).Sign() > 0 && was.Backordered.Sign() > 0 != (l.Backordered.Sign() > 0) {
		return "NC" // it comes later, or does not any more
	}
	return change
}

// toldLine is a line of an order as its buyer is told about it.
func toldLine(o *order.Order, l *order.Line) order.Line {
	t := named(l)
	t.ID, t.Quantity, t.UnitPrice, t.RequestedDeliveryOn, t.Backordered = l.ID, due(l), l.UnitPrice, promised(o, l),
		l.Backordered
	return t
}

// knownLines are the lines about which a buyer was told, each as it was when that was done last. One that was gone
// then has no quantity. What a change that the buyer has asked for made of lines that its answer does not name, because
// it was about the whole order, the buyer knows, too.
func knownLines(told []Told) []order.Line {
	var known order.Order
	lines := linesOf(&known)
	for i := range told {
		was := linesOf(&told[i].Was)
		for k := range told[i].Answer.Lines {
			number := told[i].Answer.Lines[k].Number
			line := named(&told[i].Answer.Lines[k])
			if l := was.line(number); l != nil {
				line = toldLine(was.of, l)
			}
			if before := lines.line(number); before != nil {
				*before = line
			} else {
				known.Lines = append(known.Lines, line)
			}
		}
		if told[i].Before != nil {
			follow(&known, &told[i], was)
		}
	}
	return known.Lines
}

// follow changes the known lines that an answer does not name as the change that it is to has changed them.
func follow(known *order.Order, told *Told, was numbered) {
	answered, before := linesOf(&told.Answer), linesOf(told.Before)
	for i := range known.Lines {
		line := &known.Lines[i]
		then, now := before.line(line.Number), was.line(line.Number)
		if then == nil || now == nil || answered.line(line.Number) != nil {
			continue
		}
		from, to := toldLine(before.of, then), toldLine(was.of, now)
		if from.Quantity.Cmp(to.Quantity) != 0 {
			line.Quantity = to.Quantity
		}
		if from.UnitPrice.Cmp(to.UnitPrice) != 0 {
			line.UnitPrice = to.UnitPrice
		}
		if from.Backordered.Cmp(to.Backordered) != 0 {
			line.Backordered = to.Backordered
		}
		if from.RequestedDeliveryOn != to.RequestedDeliveryOn {
			line.RequestedDeliveryOn = to.RequestedDeliveryOn
		}
	}
}
