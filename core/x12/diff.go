package x12

import (
	"fmt"
	"io"
	"koinos/core/tree"
	"strings"
)

// Difference is one thing in which two documents differ in meaning.
type Difference struct {
	Set   string `json:"set" doc:"Which transaction set of the document: its kind and number, e.g. 850 #2"`
	Place string `json:"place" doc:"Where, as an address: PO1[2]/04 is element 4 of the PO1 whose first element is 2"`
	Name  string `json:"name" doc:"What the element is called"`
	A     string `json:"a" doc:"What the first document says; blank is nothing"`
	B     string `json:"b"`
}

// fact is one element of a set with what it means.
type fact struct{ place, name, text, plain string }

// Diff compares two documents by what their transaction sets say: delimiters,
// line ends, envelopes, control numbers and the order of segments that are told
// apart by their first element do not matter; 1.50 is 1.5.
func Diff(a, b io.Reader) ([]Difference, error) {
	left, err := facts(a)
	if err != nil {
		return nil, err
	}
	right, err := facts(b)
	if err != nil {
		return nil, err
	}
	list := []Difference{}
	for _, s := range left.order {
		if right.sets[s] == nil {
			list = append(list, Difference{Set: s, A: "the whole set", Name: SetName(s[:min(3, len(s))])})
			continue
		}
		list = append(list, compare(s, left.sets[s], right.sets[s])...)
	}
	for _, s := range right.order {
		if left.sets[s] == nil {
			list = append(list, Difference{Set: s, B: "the whole set", Name: SetName(s[:min(3, len(s))])})
		}
	}
	return list, nil
}

type document struct {
	order []string
	sets  map[string][]fact
}

func facts(r io.Reader) (document, error) {
	d := document{sets: map[string][]fact{}}
	count := map[string]int{}
	err := Read(r, Handler{Set: func(s *Set) error {
		count[s.ID]++
		name := s.ID
		if n := count[s.ID]; n > 1 {
			name = fmt.Sprintf("%s #%d", s.ID, n)
		}
		placed, _ := Check(s)
		list := []fact{}
		collect(Tree(s, placed), "", &list)
		d.order = append(d.order, name)
		d.sets[name] = list
		return nil
	}})
	return d, err
}

// collect gathers the facts of a tree, each with a place that does not depend
// on how often other segments stand before it.
func collect(n *tree.Node, place string, list *[]fact) {
	seen := map[string]int{}
	for c := n.First(); c != nil; c = c.Next() {
		if c.Kind == tree.Segment {
			switch c.Name {
			case "ISA", "GS", "ST", "SE":
				continue
			}
			key := c.Name
			if first := c.First(); first != nil && first.Kind != tree.Segment && first.Name == "01" {
				key += "[" + first.Text + "]"
			}
			if seen[key]++; seen[key] > 1 {
				key = fmt.Sprintf("%s #%d", key, seen[key])
			}
			at := key
			if place != "" {
				at = place + "/" + key
			}
			collect(c, at, list)
			continue
		}
		var number int
		fmt.Sscanf(c.Name, "%d", &number)
		name, means := Meaning(n.Name, number, c.Text)
		plain := c.Text
		if c.Kind == tree.Number && strings.Contains(plain, ".") {
			plain = strings.TrimRight(strings.TrimRight(plain, "0"), ".")
		}
		text := c.Text
		if means != "" && means != text {
			text += " (" + means + ")"
		}
		*list = append(*list, fact{place + "/" + c.Name, name, text, plain})
	}
}

func compare(set string, a, b []fact) []Difference {
	var list []Difference
	in := func(facts []fact) map[string]fact {
		m := map[string]fact{}
		for _, f := range facts {
			m[f.place] = f
		}
		return m
	}
	right, left := in(b), in(a)
	for _, f := range a {
		g, ok := right[f.place]
		if !ok {
			list = append(list, Difference{set, f.place, f.name, f.text, ""})
		} else if g.plain != f.plain {
			list = append(list, Difference{set, f.place, f.name, f.text, g.text})
		}
	}
	for _, g := range b {
		if _, ok := left[g.place]; !ok {
			list = append(list, Difference{set, g.place, g.name, "", g.text})
		}
	}
	return list
}
