package book

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"koinos/core/finding"
	"koinos/core/order"
)

// replaced lets a notice take the place of an earlier one of its number: it takes back what the new notice says less of
// a line. More than before is refused, because further goods need a movement of their own.
func (n *noticed) replaced(kind order.MovementKind, m *order.Movement) error {
	number := m.Number
	was := n.movementOf(kind, number)
	switch {
	case was == nil:
		n.e.Add(finding.MovementUnknown, 0, string(kind), number, "No %s %s has moved anything of the order %s.", kind,
			number,
			n.stored.Order.Number)
		return nil
	case was.Reverses != "":
		n.e.Add(finding.UpdateConflict, 0, string(kind), number, "The %s %s takes back %s, and cannot be replaced.", kind,
			number, was.Reverses)
		return nil
	}
	is := budget{} // of the earlier notice, as it is now
	err := is.add(was.Lines)
	entries := 0
	for i := range n.stored.Movements {
		if back := &n.stored.Movements[i]; back.Kind == kind && back.Reverses == number {
			err = errors.Join(err, is.add(back.Lines))
			entries++
		}
	}
	said, wrong := n.said(kind, was)
	if err = errors.Join(err, wrong); err != nil || n.e.Refused() {
		return err
	}
	want, at := budget{}, map[int]int{}
	for _, l := range said {
		err = errors.Join(err, want.add([]order.MovementLine{l.MovementLine}))
		at[l.Line] = l.at
	}
	if err != nil {
		return err
	}
	for i := range n.is.Lines {
		line := &n.is.Lines[i]
		id := line.ID
		less, err := want[id].Sub(is[id])
		if err != nil {
			return err
		}
		switch less.Sign() {
		case 1:
			n.e.Add(finding.UpdateConflict, at[id], "quantity", want[id].String(),
				"Of line %s, the %s %s is replaced by %s, more than the %s that it moved.", line.Number, kind, number, want[id],
				orZero(is[id])).
				Hint = "Post what has moved besides under a number of its own."
		case -1:
			l := moving{order.MovementLine{Line: id, Quantity: less}, at[id], ""}
			m.Lines = append(m.Lines, l.MovementLine)
			if err := n.moved(kind, &l); err != nil {
				return err
			}
		}
	}
	if n.e.Refused() {
		return nil
	}
	if err := n.elsewhere(kind, number); err != nil {
		return err
	}
	if others := append(besides(m, was), marked(said, was)...); len(others) > 0 {
		n.e.Add(finding.NoticeDiffers, 0, string(kind), number,
			"In place of the %s %s other values come for %s. Only quantities are taken back; "+
				"these stay as they were.", kind, number, strings.Join(others, ", "))
	}
	if len(m.Lines) == 0 {
		n.same = true
		return nil
	}
	m.Reverses = number
	if m.Number = number + "/05"; entries > 0 {
		m.Number += fmt.Sprint("/", entries+1)
	}
	if ok, err := n.asBefore(kind, m); err != nil || !ok {
		return err
	}
	n.c.Movement = m
	return nil
}

// besides names what a notice says differently from the earlier movement, apart from quantities.
func besides(m, was *order.Movement) (names []string) {
	for _, f := range []struct{ name, is, was string }{{"the day", string(m.On), string(was.On)}, {"the day due",
		string(m.DueOn), string(was.DueOn)},
		{"the carrier", m.Carrier, was.Carrier}, {"tracking", m.Tracking, was.Tracking}, {"the bill of lading", m.Lading,
			was.Lading}, {"the number of packages", m.Packages.Plain(), was.Packages.Plain()},
		{"the weight", m.Weight.Plain() + " " + m.WeightIn, was.Weight.Plain() + " " + was.WeightIn}} {
		if f.is != f.was {
			names = append(names, f.name)
		}
	}
	return names
}

// marked names what the lines of a notice say differently about the goods than those of the earlier one. Lines of which
// nothing is left are skipped.
func marked(said []moving, was *order.Movement) (names []string) {
	for _, f := range []struct {
		name string
		of   func(*order.MovementLine) string
	}{{"lots", func(l *order.MovementLine) string { return l.Lot }},
		{"packages", func(l *order.MovementLine) string { return l.PackageIn + "/" + l.Package }}} {
		is, before := map[int][]string{}, map[int][]string{}
		note := func(all map[int][]string, l *order.MovementLine) {
			if v := f.of(l); l.Quantity.Sign() > 0 && !slices.Contains(all[l.Line], v) {
				all[l.Line] = append(all[l.Line], v)
			}
		}
		for i := range said {
			note(is, &said[i].MovementLine)
		}
		for i := range was.Lines {
			note(before, &was.Lines[i])
		}
		for line, all := range is {
			slices.Sort(all)
			slices.Sort(before[line])
			if was := before[line]; was != nil && !slices.Equal(all, was) {
				names = append(names, "the "+f.name)
				break
			}
		}
	}
	return names
}

// elsewhere names the other orders of a movement that is replaced, because the notice may leave them out.
func (n *noticed) elsewhere(kind order.MovementKind, number string) error {
	if n.spoken == nil {
		return errOnlyThere
	}
	if err := n.spoken.changes.Done(); err != nil {
		return err
	}
	tx := n.spoken.tx
	ids, err := tx.OrdersMoved(kind, n.stored.Partner, number)
	if err != nil {
		return err
	}
	var others []string
	for _, id := range ids {
		if id == n.stored.ID {
			continue
		}
		if len(others) == mostNamed {
			others = append(others, "…")
			break
		}
		o, err := tx.Order(id)
		if err != nil {
			return err
		}
		others = append(others, o.Order.Number)
	}
	if len(others) > 0 {
		n.e.Add(finding.NoticeDiffers, 0, string(kind), number,
			"The %s %s is also of %s. What the notice does not say anew of other orders stays as it is.", kind, number,
			strings.Join(others, ", "))
	}
	return nil
}

// mostNamed is how many other orders are named.
const mostNamed = 5
