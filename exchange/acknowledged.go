package exchange

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"

	"koinos/api"
	"koinos/core/finding"
	"koinos/core/origin"
	"koinos/core/x12"
	"koinos/store"
)

// answered is what a 997 or 999 says about one of our groups.
type answered struct {
	set   api.SetRecord
	group int64
	state string            // of the group
	why   []string          // codes of element 716
	sets  map[string]string // state by the set's control number
	notes map[string][]note
	says  map[string][]finding.Finding // the notes in words
}

// note is what an acknowledgement says about one of our sets: about an element (AK4), a segment (AK3), or the set as a
// whole (AK5), with the code of what is wrong.
type note struct {
	by        string // the acknowledgement's segment, and the element of it that has the code
	at        int
	code      string
	segment   string
	position  int // of the segment in its set, counted from 1
	element   int // 0 is the segment as a whole
	component int
	value     string // as they read it
}

// outcomes are the states that acknowledgement codes (AK501, AK901, TA104) stand for.
var outcomes = map[string]string{"A": api.StateAccepted, "E": api.StateNoted, "P": api.StatePartly,
	"R": api.StateRejected, "M": api.StateRejected, "W": api.StateRejected, "X": api.StateRejected}

// readAnswer reads a 997 or 999.
func readAnswer(s *x12.Set) *answered {
	a := &answered{sets: map[string]string{}, notes: map[string][]note{}, says: map[string][]finding.Finding{}}
	set := ""
	var at note // the segment that is spoken of
	add := func(n note) { a.notes[set] = append(a.notes[set], n) }
	for i := range s.Segments {
		g := &s.Segments[i]
		switch g.ID {
		case "AK1":
			a.group, _ = strconv.ParseInt(g.Element(2), 10, 64)
		case "AK2":
			set = g.Element(2)
			a.sets[set] = api.StateAccepted
		case "AK3", "IK3":
			at = note{segment: g.Element(1)}
			at.position, _ = strconv.Atoi(g.Element(2))
			if code := g.Element(4); code != "" && code != segmentHasErrors {
				n := at
				n.by, n.at, n.code = g.ID, 4, code
				add(n)
			}
		case "AK4", "IK4":
			n := at
			n.by, n.at, n.code, n.value = g.ID, 3, g.Element(3), g.Element(4)
			where := strings.FieldsFunc(g.Element(1), func(r rune) bool { return r < '0' || r > '9' })
			for k, to := range []*int{&n.element, &n.component} {
				if k < len(where) {
					*to, _ = strconv.Atoi(where[k])
				}
			}
			add(n)
		case "AK5", "IK5":
			if to := outcomes[g.Element(1)]; to != "" && set != "" {
				a.sets[set] = to
			}
			for k := 2; k <= g.Len(); k++ {
				if code := g.Element(k); code != "" && (code != setHasErrors || len(a.notes[set]) == 0) {
					add(note{by: g.ID, at: k, code: code})
				}
			}
		case "AK9":
			a.state = outcomes[g.Element(1)]
			for k := 5; k <= g.Len(); k++ {
				if code := g.Element(k); code != "" {
					a.why = append(a.why, code)
				}
			}
		}
	}
	if a.group == 0 || a.state == "" {
		return nil
	}
	return a
}

// Codes that only say that details follow: in AK304, and in AK502.
const (
	segmentHasErrors = "8"
	setHasErrors     = "5"
)

// explain puts what acknowledgements note about our sets into words, with our segments and values.
func (a *arrival) explain() error {
	for i := range a.answers {
		one := &a.answers[i]
		ours, err := a.x.store.OutgoingByGroup(a.ctx, a.p.Name, one.group)
		if err != nil {
			return err
		}
		sent := map[string]*x12.Set{}
		if ours.ID != 0 && len(one.notes) > 0 {
			if sent, err = a.x.setsSent(a.ctx, ours.ID, one.notes); err != nil {
				return err
			}
		}
		for control, notes := range one.notes {
			for _, n := range notes {
				f := n.finding(sent[control])
				if one.sets[control] != api.StateRejected {
					f.Severity = finding.Warning
				}
				f.Hint = sendAgain(a.p.Name, ours.Kinds)
				one.says[control] = append(one.says[control], f)
			}
		}
	}
	return nil
}

// sendAgain says what to do about what a partner has rejected.
func sendAgain(partner, set string) string {
	return fmt.Sprintf("Fix the order, the mapping or the partner's description, then send it again: koinos exchange send %s %s. "+
		"If you settle it with them in another way, say so: koinos exchange settle ID.", partner, set)
}

// setsSent reads those of an interchange's sets, by their control numbers, that something is noted about. Sets whose
// bytes are not stored any more are left out.
func (x *Exchange) setsSent(ctx context.Context, id int64, about map[string][]note) (map[string]*x12.Set, error) {
	sent := map[string]*x12.Set{}
	text, err := x.Text(ctx, id)
	if gone := (*store.TakenAway)(nil); errors.As(err, &gone) {
		return sent, nil
	}
	if err != nil {
		return nil, err
	}
	defer text.Close()
	sets := x12.NewReader(text)
	for {
		set, _, err := sets.Next()
		if errors.Is(err, io.EOF) {
			return sent, nil
		}
		if err != nil {
			return nil, err
		}
		if len(about[set.Control]) > 0 {
			sent[set.Control] = set
		}
	}
}

// finding is the note in words; set is ours that it is about, if it is known.
func (n *note) finding(set *x12.Set) finding.Finding {
	_, means := x12.Meaning(n.by, n.at, n.code)
	if means == "" {
		means = "a code of their own"
	}
	means = fmt.Sprintf("%s (%s)", strings.ToLower(means), n.code)
	if n.segment == "" {
		return finding.New(finding.X12Rejected, origin.Place{}, "", "The partner notes about the set: %s.", means)
	}
	var ours *x12.Segment
	var at origin.Place
	what := fmt.Sprintf("%s at position %d", n.segment, n.position)
	if set != nil && n.position >= 1 && n.position <= len(set.Segments) {
		placed, _ := x12.Check(set)
		ours = &set.Segments[n.position-1]
		at = origin.Place{Row: ours.Row}
		for i := range placed {
			if placed[i].Segment.Row == ours.Row {
				at.Segment = x12.PlaceIn(set.Control, placed, i)
			}
		}
		if ours.ID != n.segment {
			what += fmt.Sprintf(" (our set has %s there)", ours.ID)
			ours = nil
		}
	}
	if n.element == 0 {
		return finding.New(finding.X12Rejected, at, "", "The partner notes about %s: %s.", what, means)
	}
	name, _ := x12.Meaning(n.segment, n.element, "")
	element := fmt.Sprintf("%s%02d", n.segment, n.element)
	if n.component > 0 {
		element += fmt.Sprintf("-%d", n.component)
	}
	if name != "" {
		element += " " + name
	}
	value := n.value
	if ours != nil {
		at.Column, at.Element = n.element+1, fmt.Sprintf("%02d", n.element)
		value = ours.Element(n.element)
		switch {
		case value == "":
			element += ", which is blank"
		case n.value != "" && n.value != value && n.component == 0:
			element += fmt.Sprintf(", which is %q and was read as %q", value, n.value)
		default:
			element += fmt.Sprintf(", which is %q", value)
		}
	}
	return finding.New(finding.X12Rejected, at, value, "The partner notes about %s, %s: %s.", what, element, means)
}

// matched applies what the partner acknowledges to what we sent.
func (a *arrival) matched(t *store.Tx) error {
	for _, one := range a.answers {
		rec := one.set
		ours, err := t.OutgoingByGroup(a.p.Name, one.group)
		if err != nil {
			return err
		}
		if ours.ID == 0 {
			rec.State = api.StateHeld
			rec.Findings = append(rec.Findings, finding.New(finding.NotSent, origin.Place{Row: rec.Row},
				fmt.Sprint(one.group), "It acknowledges a group %d, which was never sent to %s.", one.group, a.p.Name))
		} else {
			rec.State = api.StateDone
		}
		if err := t.PutSets(a.kept.ID, []api.SetRecord{rec}); err != nil {
			return err
		}
		if ours.ID == 0 {
			continue
		}
		for k := range ours.Sets {
			s := &ours.Sets[k]
			if s.State = one.sets[s.Control]; s.State == "" {
				s.State = one.state
			}
			s.Findings = append(s.Findings, one.says[s.Control]...)
		}
		for _, code := range one.why {
			_, means := x12.Meaning("AK9", 5, code)
			f := finding.New(finding.X12Rejected, origin.Place{}, code, "The partner notes about the group %d: %s (%s).",
				one.group,
				strings.ToLower(cmp.Or(means, "a code of their own")), code)
			f.Hint = sendAgain(a.p.Name, ours.Kinds)
			ours.Findings = append(ours.Findings, f)
		}
		if len(one.why) > 0 {
			if err := t.KnowInterchange(&ours); err != nil {
				return err
			}
		}
		if err := errors.Join(t.PutSets(ours.ID, ours.Sets), t.SetInterchange(ours.ID, one.state, ours.SentAt,
			a.kept.At)); err != nil {
			return err
		}
	}
	for _, text := range a.received {
		parts := strings.Split(text, string([]byte{a.i.Delimiters.Element}))
		if len(parts) < 5 {
			continue
		}
		control, _ := strconv.ParseInt(parts[1], 10, 64)
		ours, err := t.OutgoingByControl(a.p.Name, control)
		if err != nil {
			return err
		}
		if ours.ID == 0 {
			a.kept.Findings = append(a.kept.Findings, finding.New(finding.NotSent, origin.Place{}, parts[1],
				"Its TA1 is about an interchange %s, which was never sent to %s.", parts[1], a.p.Name))
			continue
		}
		note := ""
		if len(parts) > 5 {
			note = strings.TrimSpace(parts[5])
		}
		if means := x12.InterchangeNote(note); means != "" {
			f := finding.New(finding.X12Rejected, origin.Place{}, note, "The partner says that the interchange has %s (TA1 %s).",
				means, note)
			if parts[4] != "R" {
				f.Severity = finding.Warning
			}
			ours.Findings = append(ours.Findings, f)
			if err := t.KnowInterchange(&ours); err != nil {
				return err
			}
		}
		if parts[4] != "R" { // what is in it was not looked at; acceptance of its sets comes with a 997
			continue
		}
		for k := range ours.Sets {
			ours.Sets[k].State = api.StateRejected
		}
		if err := errors.Join(t.PutSets(ours.ID, ours.Sets), t.SetInterchange(ours.ID, api.StateRejected, ours.SentAt,
			a.kept.At)); err != nil {
			return err
		}
	}
	return nil
}
