package book

import (
	"errors"
	"slices"

	"koinos/core/finding"
	"koinos/core/intent"
	"koinos/core/order"
	"koinos/store"
)

// since leaves of a change that names the revision it was made from only what somebody has changed since, such as a
// cell of an exported table. What others have changed in the meantime stays; if both have changed the same value, the
// change is refused.
func (n *noticed) since() error {
	n.clears = map[int][]order.Field{}
	for _, c := range n.e.Clears {
		n.clears[c.Line] = append(n.clears[c.Line], c.Field)
	}
	said := n.statement().Base
	if said.IsZero() {
		return nil
	}
	n.exactly, n.shown = true, map[int]order.Line{}
	was, err := n.wasAt(said)
	if err != nil || was == nil {
		return err
	}
	is := n.stored.Order.Clone()
	clashes := n.in.Since(0, order.Side{Order: was}, order.Side{Order: is}, naming...)
	blank := n.cleared(0, order.Side{Order: was}, order.Side{Order: is})
	if len(blank) > 0 && !n.e.changesHeader() {
		n.e.Add(finding.ValueUnread, 0, blank[0].Field, "", "All that the header says of the order %s is blank, as if its first row were missing: "+
			"it stays as it is.", n.stored.Order.Number).Hint = "Make single fields blank, or use koinos order change."
		n.clears[0], blank = nil, nil
	}
	clashes = append(clashes, blanked(blank)...)
	for i := range n.in.Lines {
		l := &n.in.Lines[i]
		n.shown[i+1] = *l
		blanks := n.clears[i+1]
		n.clears[i+1] = nil // unless it is known what the line was
		if l.Statement != nil && !slices.Contains([]string{"change", "replace"}, changeActs[actOf(l)]) {
			continue
		}
		at := n.find(l)
		if at < 0 {
			continue // whoever applies it says so
		}
		id := n.is.Lines[at].ID
		then := was.Position(id)
		if then == 0 {
			continue
		}
		l.ID, n.clears[i+1] = id, blanks // its item may be left out now
		old, now := order.Side{Order: was, Line: &was.Lines[then-1]}, order.Side{Order: is, Line: &is.Lines[is.Position(id)-1]}
		clashes = append(clashes, n.in.Since(i+1, old, now, naming...)...)
		clashes = append(clashes, blanked(n.cleared(i+1, old, now))...)
	}
	for _, c := range clashes {
		n.e.Add(finding.RevisionDiffers, c.Line, c.Field, c.Said, "%s was %s at revision %s of the order %s, and is %s now; here it is %s.",
			c.Field, orBlank(c.Was), said.Plain(), n.stored.Order.Number, orBlank(c.Is), orBlank(c.Said))
	}
	return nil
}

// naming are the fields by which a change names its order and lines.
var naming = []string{"number", "sender_number", "partner", "currency", "sender_line"}

// wasAt returns the order as it was at a revision that a change names; nil if a finding says why that is not known.
func (n *noticed) wasAt(said order.Number) (*order.Order, error) {
	revision, whole := said.Whole()
	switch {
	case !whole || revision < 1 || revision > int64(n.stored.Revision):
		n.e.Add(finding.RevisionDiffers, 0, "revision", said.String(), "The order %s has no revision %s; it is at revision %d now.",
			n.stored.Order.Number, said.Plain(), n.stored.Revision)
		return nil, nil
	case revision == int64(n.stored.Revision):
		return n.stored.Order.Clone(), nil
	}
	was, err := n.asOf(int(revision))
	if gone := (*store.TakenAway)(nil); errors.As(err, &gone) || err == nil && was == nil {
		n.e.Add(finding.RevisionDiffers, 0, "revision", said.String(), "What the order %s was at revision %s is not kept any more; it is at revision %d now.",
			n.stored.Order.Number, said.Plain(), n.stored.Revision).Hint = "Write the table anew, and change it once more."
		return nil, nil
	}
	return was, err
}

// cleared leaves of what a change makes blank in the header, or in one of its lines, what is blank in it and was not
// when it was made.
func (n *noticed) cleared(line int, was, is order.Side) (all []order.Clash) {
	var blank []order.Field
	for _, f := range n.clears[line] {
		v := was.Value(&f)
		switch {
		case v == "" || slices.Contains(naming, f.Name):
		case !intent.CanBeBlank(f.Name):
			n.e.Add(finding.MustMissing, line, f.Name, "", "%s was %s, and cannot be made blank.", f.Name, v)
		case is.Value(&f) != "":
			blank = append(blank, f)
			all = append(all, order.Clash{Line: line, Field: f.Name, Was: v, Is: is.Value(&f)})
		}
	}
	n.clears[line] = blank
	return all
}

// blanked are those of the fields that a change makes blank which have become something else.
func blanked(all []order.Clash) []order.Clash {
	return slices.DeleteFunc(all, func(c order.Clash) bool { return c.Was == c.Is })
}
