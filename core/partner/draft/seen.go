package draft

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"koinos/core/x12"
)

// qualified are segments of which the first element says what they are, with the element that carries the value; of
// several the first that is always filled.
var qualified = map[string][]int{"REF": {2}, "DTM": {2}, "N1": {4, 2}, "PER": {4, 2}, "AMT": {2}, "N9": {2}}

// pairs are segments with pairs of a qualifier and an id, and the first of their qualifiers.
var pairs = map[string]int{"PO1": 6, "POC": 8, "IT1": 6}

// lineLoops are the loops of lines, whose segments are looked at as those of the header are.
var lineLoops = []string{"PO1", "POC", "IT1"}

// setSeen is what was seen of the sets of a kind.
type setSeen struct {
	count  int
	loops  map[string]int // how many there were of each loop of lines
	places map[string]*placeSeen
	order  []string
	hashed bool
}

func newSetSeen() *setSeen {
	return &setSeen{loops: map[string]int{}, places: map[string]*placeSeen{}}
}

// placeSeen is what was seen of a segment at a place: with a qualifier, of those that have it.
type placeSeen struct {
	parent, segment, qualifier string
	pair                       int // of a pair: the element of its qualifier as addresses write it
	in                         int // in how many parents it stands
	count                      int
	filled                     []int // by element, counted from 1
	values                     []map[string]int
}

// address is that of an element of the place.
func (p *placeSeen) address(element int) string {
	path := p.segment
	if p.parent != "" {
		path = p.parent + "/" + p.segment
	}
	at := fmt.Sprintf("%s/%02d", path, element)
	switch {
	case p.pair > 0:
		at = fmt.Sprintf("%s/%02d where %s/%02d = %s", path, p.pair+1, path, p.pair, p.qualifier)
	case p.qualifier != "":
		at += fmt.Sprintf(" where %s/01 = %s", path, p.qualifier)
	}
	return at
}

// mostValues is how many different values of an element are remembered.
const mostValues = 8

func (p *placeSeen) see(s *x12.Segment) {
	p.count++
	for n := 1; n <= s.Len(); n++ {
		for len(p.filled) <= n {
			p.filled, p.values = append(p.filled, 0), append(p.values, map[string]int{})
		}
		v := s.Element(n)
		if v == "" {
			continue
		}
		p.filled[n]++
		if _, known := p.values[n][v]; known || len(p.values[n]) <= mostValues {
			p.values[n][v]++
		}
	}
}

func (s *setSeen) see(placed []x12.Placed) {
	s.count++
	here := map[string]int{} // in which parent a place was seen last, counted from 1
	for i := range placed {
		p := &placed[i]
		seg := p.Segment
		if p.Stray || seg.ID == "ST" || seg.ID == "SE" {
			continue
		}
		if seg.ID == "CTT" && len(seg.Bytes(2)) > 0 {
			s.hashed = true
		}
		parent, at := "", 0
		line, opens := opener(placed, i), p.Loop == seg.ID
		switch {
		case line == i:
			s.loops[seg.ID]++
			at = i + 1
		case line < 0 && (p.Depth == 0 || p.Depth == 1 && opens): // of the header, or what opens a loop of it
		case line >= 0 && (p.Depth == 1 || p.Depth == 2 && opens):
			parent, at = placed[line].Segment.ID, line+1
		default:
			continue // deeper: of an address, for instance
		}
		note := func(q string, pair int) {
			key := fmt.Sprintf("%s/%s %s %d", parent, seg.ID, q, pair)
			one := s.places[key]
			if one == nil {
				one = &placeSeen{parent: parent, segment: seg.ID, qualifier: q, pair: pair}
				s.places[key] = one
				s.order = append(s.order, key)
			}
			if here[key] != at+1 {
				here[key] = at + 1
				one.in++
			}
			one.see(seg)
		}
		if qualified[seg.ID] != nil {
			note(seg.Element(1), 0)
			continue
		}
		note("", 0)
		if first := pairs[seg.ID]; first > 0 {
			for n := first; n < seg.Len(); n += 2 {
				if q := seg.Element(n); q != "" {
					note(q, first)
				}
			}
		}
	}
}

// opener is where the loop of a line begins in which a segment stands; -1 is none.
func opener(placed []x12.Placed, i int) int {
	for i >= 0 && !slices.Contains(lineLoops, placed[i].Segment.ID) {
		i = placed[i].Parent // which stands before it
	}
	return i
}

// rule is a rule that was drafted.
type rule struct {
	text, why string
	sure      bool // it always holds; else it is a remark
}

// purposes are segments whose first element says what a set is for: that samples have no cancellation forbids none.
var purposes = []string{"BEG", "BCH", "BAK", "BCA", "BSN"}

// fewest is how often something must have been seen before it is taken for a habit.
const fewest = 3

// parents is how often a place could have been seen.
func (s *setSeen) parents(p *placeSeen) int {
	switch {
	case p.parent != "":
		return s.loops[p.parent]
	case slices.Contains(lineLoops, p.segment):
		return s.loops[p.segment]
	}
	return s.count
}

func (s *setSeen) rules() (all []rule) {
	for _, key := range s.order {
		p := s.places[key]
		if p.segment == "CTT" || p.segment == "HL" {
			continue
		}
		of := s.parents(p)
		share := fmt.Sprintf("in %d of %d", p.in, of)
		sure := p.in == of && of >= fewest
		switch {
		case p.pair > 0:
			all = append(all, rule{"{at: " + p.address(0) + ", need: must}", share, sure})
		case p.qualifier != "":
			for _, n := range qualified[p.segment] {
				if n < len(p.filled) && p.filled[n] == p.count {
					all = append(all, rule{"{at: " + p.address(n) + ", need: must}", share + sample(p.values[n]), sure})
					break
				}
			}
		default:
			all = append(all, s.elements(p, of)...)
		}
	}
	return all
}

// elements are the rules about the elements of a segment without a qualifier.
func (s *setSeen) elements(p *placeSeen, of int) (all []rule) {
	for n := 1; n < len(p.filled); n++ {
		e, known := x12.ElementOf(p.segment, n)
		first := pairs[p.segment]
		if !known || p.filled[n] == 0 || first > 0 && n >= first || n == 1 && slices.Contains(purposes, p.segment) {
			continue
		}
		var words []string
		why := fmt.Sprintf("in %d of %d", p.filled[n], max(of, p.count))
		if p.filled[n] == p.count && p.in == of && !e.Must {
			words = append(words, "need: must")
		}
		if e.Coded && len(p.values[n]) <= 5 && p.filled[n] >= 2*fewest {
			codes := slices.Sorted(maps.Keys(p.values[n]))
			var counts []string
			for i, c := range codes {
				counts = append(counts, fmt.Sprintf("%s %d", c, p.values[n][c]))
				codes[i] = quoted(c)
			}
			words = append(words, "codes: ["+strings.Join(codes, ", ")+"]")
			why += ": " + strings.Join(counts, ", ")
		} else {
			why += sample(p.values[n])
		}
		if len(words) > 0 {
			all = append(all, rule{"{at: " + p.address(n) + ", " + strings.Join(words, ", ") + "}", why, p.filled[n] >= fewest})
		}
	}
	return all
}

// sample is one of the values, in words.
func sample(values map[string]int) string {
	all := slices.Sorted(maps.Keys(values))
	if len(all) == 0 {
		return ""
	}
	if len(all[0]) > 30 {
		return ", such as " + all[0][:30] + " …"
	}
	return ", such as " + all[0]
}
