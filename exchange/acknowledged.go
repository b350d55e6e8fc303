package exchange

import (
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

// answered is what the acknowledgements (997, 999) of an interchange say about one of our groups, the last of them
// last.
type answered struct {
	group int64
	state string            // of the group
	why   []string          // codes of element 716
	sets  map[string]string // state by control number, of those that are named
	of    string            // state of all sets, by an acknowledgement that names none
	notes map[string][]note // by the sets' control numbers
	more  map[string]int    // notes that are not listed, because there are too many
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
	a := &answered{sets: map[string]string{}}
	set := ""
	var at note // the segment that is spoken of
	add := func(n note) { a.note(set, n) }
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
	if len(a.sets) == 0 {
		a.of = a.state
	}
	return a
}

// Codes that only say that details follow: in AK304, and in AK502.
const (
	segmentHasErrors = "8"
	setHasErrors     = "5"
)

// sendAgain says what to do about what a partner has rejected.
func sendAgain(partner, set string) string {
	return fmt.Sprintf("Fix the order, the mapping or the partner's description, then send it again: koinos exchange send %s %s. "+
		"If you settle it with them in another way, say so: koinos exchange settle ID.", partner, set)
}

// setsSent reads those of an interchange's sets, by their control numbers, that something is noted about. Sets whose
// bytes are not stored any more are left out.
func (x *Exchange) setsSent(ctx context.Context, id int64, about map[string][]note) (map[string]*ourSet, error) {
	sent := map[string]*ourSet{}
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
			sent[set.Control] = ourSetOf(set)
		}
	}
}

// ourSet is a set that we have sent, with the places of its segments.
type ourSet struct {
	*x12.Set
	placed []x12.Placed
	rows   map[int]int // positions in placed, by row
}

func ourSetOf(set *x12.Set) *ourSet {
	o := ourSet{Set: set, rows: make(map[int]int, len(set.Segments))}
	o.placed, _ = x12.Check(set)
	for i := range o.placed {
		o.rows[o.placed[i].Segment.Row] = i
	}
	return &o
}

// finding is the note in words; set is ours that it is about, if it is known.
func (n *note) finding(set *ourSet) finding.Finding {
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
		ours = &set.Segments[n.position-1]
		at = origin.Place{Row: ours.Row}
		if i, is := set.rows[ours.Row]; is {
			at.Segment = x12.PlaceIn(set.Control, set.placed, i)
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
