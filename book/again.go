package book

import (
	"errors"

	"koinos/core/finding"
	"koinos/core/order"
	"koinos/core/outcome"
	"koinos/store"
)

// again decides what it means that a stored order arrives once more. It returns what the order becomes, or nil if
// nothing changes or a finding says why it cannot change.
func (s *Session) again(spoken *spokenOf, e *Entry, known store.Known) (*store.Changed, error) {
	var was *store.StoredOrder
	var differs []order.Change
	if string(known.Fingerprint) != string(e.Fingerprint[:]) {
		var err error
		if err = spoken.changes.Settle(known.ID); err == nil {
			was, err = spoken.tx.Order(known.ID)
		}
		if err != nil {
			return nil, err
		}
		differs = order.Diff(&was.Order, &e.Order) // none: another version of Koinos took the fingerprint
	}
	if len(differs) == 0 {
		if s.Again == outcome.Refuse {
			e.Add(finding.IdentityStored, 0, "sender_number", e.Order.SenderNumber,
				"It is stored as %s, the same as here, and must not arrive again.", known.Number).Hint = ""
		}
		return nil, nil
	}
	var err error
	var is *order.Order
	var from []int // line of the arriving order of each line
	action := "changed"
	switch {
	case e.Replaces:
		action = "replaced"
		is, from, err = was.Replace(&e.Order)
	case s.Again == outcome.Update:
		is, from, err = was.Update(&e.Order, s.Arrival)
	case s.Again == outcome.Revise:
		before, now := s.Newer.Value(&was.Order, nil), s.Newer.Value(&e.Order, nil)
		if now <= before {
			f := e.Add(finding.NotNewer, 0, s.Newer.Name, now,
				"It differs from the stored %s, but its %s %s is not after %s.", known.Number, s.Newer.Name,
				orBlank(now), orBlank(before))
			f.Message += " " + order.Named(differs) + "."
			return nil, nil
		}
		action = "revised"
		is, from, err = was.Replace(&e.Order)
	default:
		f := e.Add(finding.IdentityStored, 0, "sender_number", e.Order.SenderNumber,
			"It is stored as %s and differs: %s", known.Number, order.Named(differs)+".")
		f.Line = differs[0].Line
		return nil, nil
	}
	if err == nil {
		err = order.KeepPrices(&was.Order, is, nil)
	}
	if err == nil {
		_, err = is.Compute(s.Rounding)
	}
	if conflict := (*order.Conflict)(nil); errors.As(err, &conflict) {
		e.Add(finding.UpdateConflict, conflict.Line, "", "", "%s", conflict.Message)
		return nil, nil
	} else if errors.Is(err, order.ErrTooLong) {
		e.Add(finding.AmountTooLarge, 0, "total", "",
			"With these changes the order's figures have more digits than can be computed with.")
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	is.NameLines()
	changes := order.Diff(&was.Order, is)
	if len(changes) == 0 {
		return nil, nil
	}
	c := &store.Changed{Was: &was.Order, Is: is, Changes: changes, Action: action, Fingerprint: e.Fingerprint[:]}
	e.locate(c, from, nil)
	return c, nil
}

func orBlank(s string) string {
	if s == "" {
		return "(blank)"
	}
	return s
}

// locate records where in the document each change stands, and where every arriving value does. from gives, for each
// line of the result, the line of the intent that it took values from; names gives what the intent calls a field.
func (e *Entry) locate(c *store.Changed, from []int, names map[string]string) {
	ids := make([]int, len(e.Order.Lines)) // of the lines that the intent speaks of
	for n, line := range from {
		if line > 0 && line <= len(ids) {
			ids[line-1] = c.Is.Lines[n].ID
		}
	}
	of := make(map[int]int, len(ids))
	for n, id := range ids {
		of[id] = n + 1
	}
	for i := range c.Changes {
		ch := &c.Changes[i]
		line := 0
		if ch.Line > 0 {
			line = of[ch.LineID]
		}
		if ch.Line > 0 && line == 0 {
			continue
		}
		field := ch.Field
		if name := names[field]; name != "" {
			field = name
		}
		ch.Place = e.Intent.Trace.Find(line, field)
		ch.At = ch.Place.String()
	}
	trace := e.Intent.Trace.Renumber(ids)
	c.Trace = trace.AppendJSON(nil)
}
