package x12

import (
	_ "embed"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
)

//go:embed dictionary.txt
var dictionaryText string

// setDef is what the dictionary says of a transaction set.
type setDef struct {
	id, group, name string
	nodes           []node
	segments        map[string]bool
}

// node is a segment of a set, or a loop of them.
type node struct {
	id    string // of the segment, or of the one that opens the loop
	must  bool
	most  int
	inner []node // of a loop
}

// segmentDef is what the dictionary says of a segment or a composite.
type segmentDef struct {
	id, name string
	elements []elementUse
	notes    []note
}

type elementUse struct {
	ref  string
	must bool
}

// note is a syntax note, such as P0304.
type note struct {
	kind byte
	at   []int
}

// elementDef is what the dictionary says of an element.
type elementDef struct {
	ref, kind, name string
	min, max        int
	codes           map[string]string
	open            bool // the standard has more codes than are named
}

// dictionary is everything that a dictionary's text says.
type dictionary struct {
	sets                 map[string]*setDef
	segments, composites map[string]*segmentDef
	elements             map[string]*elementDef
}

var (
	sets                 map[string]*setDef
	segments, composites map[string]*segmentDef
	elements             map[string]*elementDef
)

func init() {
	d, err := readDictionary(dictionaryText)
	if err != nil {
		panic(err) // the dictionary is part of the program; a test reads it
	}
	sets, segments, composites, elements = d.sets, d.segments, d.composites, d.elements
	ids := slices.Collect(maps.Keys(segments))
	for _, id := range append(ids, "ISA", "IEA", "GS", "GE", "TA1") {
		key := idKey([]byte(id))
		idTable[idPlace(key)].key, idTable[idPlace(key)].id = key, id
	}
}

func readDictionary(text string) (*dictionary, error) {
	d := &dictionary{map[string]*setDef{}, map[string]*segmentDef{}, map[string]*segmentDef{}, map[string]*elementDef{}}
	var set *setDef
	var seg *segmentDef
	var el *elementDef
	var open []*[]node // the lists of nodes at each depth
	for i, line := range strings.Split(text, "\n") {
		if line == "" || line[0] == '#' {
			continue
		}
		fail := func(what string) (*dictionary, error) {
			return nil, fmt.Errorf("dictionary line %d: %s: %q", i+1, what, line)
		}
		words := strings.Fields(line)
		if line[0] != ' ' {
			set, seg, el = nil, nil, nil
			if len(words) < 3 {
				return fail("too short")
			}
			switch words[0] {
			case "set":
				set = &setDef{id: words[1], group: words[2], name: strings.Join(words[3:], " "), segments: map[string]bool{}}
				d.sets[set.id] = set
				open = []*[]node{&set.nodes}
			case "segment", "composite":
				seg = &segmentDef{id: words[1], name: strings.Join(words[2:], " ")}
				if words[0] == "segment" {
					d.segments[seg.id] = seg
				} else {
					d.composites[seg.id] = seg
				}
			case "element":
				if len(words) < 6 {
					return fail("too short")
				}
				low, err := strconv.Atoi(words[3])
				high, err2 := strconv.Atoi(words[4])
				if err != nil || err2 != nil {
					return fail("no lengths")
				}
				el = &elementDef{ref: words[1], kind: words[2], min: low, max: high, name: strings.Join(words[5:], " "), codes: map[string]string{}}
				d.elements[el.ref] = el
			default:
				return fail("unknown word")
			}
			continue
		}
		switch {
		case set != nil:
			depth := (len(line) - len(strings.TrimLeft(line, " "))) / 2
			if depth < 1 || depth > len(open) {
				return fail("stands too deep")
			}
			open = open[:depth]
			n := node{id: words[0]}
			most := words[len(words)-1]
			if words[0] == "loop" {
				n.id = words[1]
			} else if len(words) != 3 {
				return fail("is no segment of a set")
			} else {
				n.must = words[1] == "M"
				set.segments[n.id] = true
			}
			var err error
			if n.most, err = strconv.Atoi(most); err != nil {
				return fail("no number of times")
			}
			list := open[depth-1]
			*list = append(*list, n)
			if words[0] == "loop" {
				open = append(open, &(*list)[len(*list)-1].inner)
			}
		case seg != nil:
			for _, w := range words {
				last := w[len(w)-1]
				if last == 'M' || last == 'O' || last == 'C' {
					seg.elements = append(seg.elements, elementUse{w[:len(w)-1], last == 'M'})
					continue
				}
				n := note{kind: w[0]}
				for at := 1; at+2 <= len(w); at += 2 {
					k, err := strconv.Atoi(w[at : at+2])
					if err != nil {
						return fail("no syntax note")
					}
					n.at = append(n.at, k)
				}
				seg.notes = append(seg.notes, n)
			}
		case el != nil:
			if words[0] == "..." {
				el.open = true
			} else {
				el.codes[words[0]] = strings.Join(words[1:], " ")
			}
		}
	}
	return d, nil
}
