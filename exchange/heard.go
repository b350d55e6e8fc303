package exchange

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"koinos/api"
	"koinos/core/finding"
	"koinos/core/origin"
	"koinos/core/x12"
	"koinos/store"
)

// heard is what an interchange says about what we sent: its acknowledgements by our groups, and its TA1s by our
// interchanges. However many there are, what we sent is read and written once.
type heard struct {
	groups       map[int64]*answered
	interchanges map[int64]*ta1
	acks         []ack
}

// ack is an acknowledgement: a set of the interchange, and the group of ours that it is about.
type ack struct {
	seq   int
	group int64
}

// ta1 is what the TA1s say about one of our interchanges.
type ta1 struct {
	number   string // as they write it
	rejected bool
	notes    []finding.Finding
}

// hears takes an acknowledgement in.
func (h *heard) hears(seq int, one *answered) {
	h.acks = append(h.acks, ack{seq, one.group})
	if before := h.groups[one.group]; before != nil {
		before.join(one)
		return
	}
	if h.groups == nil {
		h.groups = map[int64]*answered{}
	}
	h.groups[one.group] = one
}

// join adds what a later acknowledgement says.
func (a *answered) join(b *answered) {
	if a.state = b.state; b.of != "" {
		a.of = b.of
		clear(a.sets)
	}
	maps.Copy(a.sets, b.sets)
	for _, code := range b.why {
		if len(a.why) < mostFindings && !slices.Contains(a.why, code) {
			a.why = append(a.why, code)
		}
	}
	for set, notes := range b.notes {
		for _, n := range notes {
			a.note(set, n)
		}
		a.more[set] += b.more[set]
	}
}

// note adds a note about a set, as far as it is stored.
func (a *answered) note(set string, n note) {
	if a.notes == nil {
		a.notes, a.more = map[string][]note{}, map[string]int{}
	}
	switch list := a.notes[set]; {
	case slices.Contains(list, n):
	case len(list) < mostFindings:
		a.notes[set] = append(list, n)
	default:
		a.more[set]++
	}
}

// hearsTA1 takes a TA1 in.
func (h *heard) hearsTA1(s *x12.Segment) {
	number, code, why := s.Element(1), s.Element(4), strings.TrimSpace(s.Element(5))
	if code == "" {
		return
	}
	control, _ := strconv.ParseInt(number, 10, 64)
	t := h.interchanges[control]
	if t == nil {
		if h.interchanges == nil {
			h.interchanges = map[int64]*ta1{}
		}
		t = &ta1{number: number}
		h.interchanges[control] = t
	}
	t.rejected = t.rejected || code == "R"
	if means := x12.InterchangeNote(why); means != "" {
		f := finding.New(finding.X12Rejected, origin.Place{}, why, "The partner says that the interchange has %s (TA1 %s).",
			means, why)
		if code != "R" {
			f.Severity = finding.Warning
		}
		t.notes = noted(t.notes, f)
	}
}

// told is what an interchange says about one that we sent.
type told struct {
	store.Sent
	group *answered
	says  map[string][]finding.Finding // the notes in words, by the sets' control numbers
	ta1   *ta1
}

// matched finds what we sent of that which the partner acknowledges, says of each acknowledgement whether there is such
// a thing, and puts what it notes into words, with our segments and values.
func (a *arrival) matched() ([]told, error) {
	groups, err := a.x.store.SentGroups(a.ctx, a.p.Name, slices.Sorted(maps.Keys(a.heard.groups)))
	if err != nil {
		return nil, err
	}
	if err := a.settleAcks(groups); err != nil {
		return nil, err
	}
	var all []told
	for _, number := range slices.Sorted(maps.Keys(groups)) {
		one := told{Sent: groups[number], group: a.heard.groups[number]}
		if one.says, err = a.x.words(a.ctx, one.group, one.Sent, a.p.Name); err != nil {
			return nil, err
		}
		all = append(all, one)
	}
	sent, err := a.x.store.SentInterchanges(a.ctx, a.p.Name, slices.Sorted(maps.Keys(a.heard.interchanges)))
	if err != nil {
		return nil, err
	}
	for _, number := range slices.Sorted(maps.Keys(a.heard.interchanges)) {
		t := a.heard.interchanges[number]
		if ours, is := sent[number]; is {
			all = append(all, told{Sent: ours, ta1: t})
		} else if len(a.kept.Findings) <= mostFindings {
			a.kept.Findings = noted(a.kept.Findings, finding.New(finding.NotSent, origin.Place{}, t.number,
				"Its TA1 is about an interchange %s, which was never sent to %s.", t.number, a.p.Name))
		}
	}
	return all, nil
}

// settleAcks says of each acknowledgement whether we have sent what it is about, a page of sets at a time.
func (a *arrival) settleAcks(sent map[int64]store.Sent) error {
	for acks := a.heard.acks; len(acks) > 0; {
		page, err := a.x.store.Sets(a.ctx, a.kept.ID, store.SetFilter{After: acks[0].seq - 1, Limit: setsAtATime})
		if err != nil {
			return err
		}
		var changed []api.SetRecord
		for i := range page {
			s := &page[i]
			if len(acks) == 0 || acks[0].seq != s.Seq {
				continue
			}
			group := acks[0].group
			acks = acks[1:]
			s.State = api.StateDone
			if _, is := sent[group]; !is {
				s.State = api.StateHeld
				s.Findings = append(s.Findings, finding.New(finding.NotSent, origin.Place{Row: s.Row}, fmt.Sprint(group),
					"It acknowledges a group %d, which was never sent to %s.", group, a.p.Name))
			}
			changed = append(changed, *s)
		}
		if len(changed) == 0 {
			return fmt.Errorf("set %d of interchange %d is not stored", acks[0].seq, a.kept.ID)
		}
		if err := a.x.store.Write(a.ctx, func(t *store.Tx) error { return t.PutSets(a.kept.ID, changed) }); err != nil {
			return err
		}
	}
	return nil
}

// words are the notes about our sets in words, by the sets' control numbers.
func (x *Exchange) words(ctx context.Context, one *answered, ours store.Sent,
	partner string) (map[string][]finding.Finding,
	error) {
	if len(one.notes) == 0 {
		return nil, nil
	}
	sent, err := x.setsSent(ctx, ours.ID, one.notes)
	if err != nil {
		return nil, err
	}
	all := map[string][]finding.Finding{}
	for control, notes := range one.notes {
		says := make([]finding.Finding, 0, len(notes)+1)
		for _, n := range notes {
			says = append(says, n.finding(sent[control]))
		}
		if more := one.more[control]; more > 0 {
			says = append(says, finding.New(finding.X12Rejected, origin.Place{}, "",
				"The partner notes %d further errors, which are not listed here.", more))
		}
		for i := range says {
			if one.stateOf(control) != api.StateRejected {
				says[i].Severity = finding.Warning
			}
			says[i].Hint = sendAgain(partner, ours.Kinds)
		}
		all[control] = says
	}
	return all, nil
}

// stateOf is what acknowledgements say of a set: what the last one says that names it, or the last one that names none;
// "" is nothing.
func (a *answered) stateOf(control string) string { return cmp.Or(a.sets[control], a.of) }

// apply applies what the partner says about what we sent.
func (a *arrival) apply(t *store.Tx, all []told) error {
	for i := range all {
		one := &all[i]
		ours, err := t.SentWhole(one.ID)
		if err != nil {
			return err
		}
		had := len(ours.Findings)
		state := ""
		if one.group != nil {
			state = one.applyGroup(&ours, a.p.Name)
		} else {
			ours.Findings = noted(ours.Findings, one.ta1.notes...)
			if one.ta1.rejected {
				state = api.StateRejected
				for k := range ours.Sets {
					ours.Sets[k].State = state
				}
			} // otherwise what is in it was not looked at; acceptance of its sets comes with a 997
		}
		if len(ours.Findings) > had {
			err = t.KnowInterchange(&ours)
		}
		if err == nil && state != "" {
			err = errors.Join(t.PutSets(ours.ID, ours.Sets), t.SetInterchange(ours.ID, state, ours.SentAt, a.kept.At))
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// applyGroup applies what acknowledgements say to the sets of a group, and returns what becomes of the group. A set of
// which they say nothing stays what it was said to be before; otherwise it is what the group is. In a group that is
// accepted in part it is accepted, because only the others need be named.
func (o *told) applyGroup(ours *api.Interchange, partner string) (state string) {
	state = o.group.state
	rest := state
	if rest == api.StatePartly {
		rest = api.StateAccepted
	}
	rejected := 0
	for k := range ours.Sets {
		s := &ours.Sets[k]
		if said := o.group.stateOf(s.Control); said != "" {
			s.State = said
		} else if !slices.Contains(acknowledged, s.State) {
			s.State = rest
		}
		if s.State == api.StateRejected {
			rejected++
		}
		s.Findings = noted(s.Findings, o.says[s.Control]...)
	}
	for _, code := range o.group.why {
		_, means := x12.Meaning("AK9", 5, code)
		f := finding.New(finding.X12Rejected, origin.Place{}, code, "The partner notes about the group %d: %s (%s).",
			o.group.group, strings.ToLower(cmp.Or(means, "a code of their own")), code)
		f.Hint = sendAgain(partner, ours.Kinds)
		ours.Findings = noted(ours.Findings, f)
	}
	if rejected > 0 && rejected < len(ours.Sets) && state != api.StateRejected {
		return api.StatePartly
	}
	return state
}

// acknowledged are the states of a set that its partner has acknowledged.
var acknowledged = []string{api.StateAccepted, api.StateNoted, api.StateRejected}

// noted adds findings to others, each once and no more than are stored.
func noted(list []finding.Finding, more ...finding.Finding) []finding.Finding {
	for i := range more {
		f := &more[i]
		switch {
		case len(list) > mostFindings+1:
			return list
		case slices.ContainsFunc(list, func(o finding.Finding) bool {
			return o.Message == f.Message && o.Severity == f.Severity && o.Place == f.Place
		}):
		case len(list) <= mostFindings: // one more counts those that are not listed
			list = append(list, *f)
		default:
			last := *f
			last.Place, last.Value, last.Message = origin.Place{}, "", "There are further notes, which are not listed here."
			list = append(list, last)
		}
	}
	return list
}
