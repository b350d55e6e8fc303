package x12

import (
	"embed"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
)

//go:embed dictionary/*.txt
var dictionaryFiles embed.FS

// setDef is what the dictionary says of a transaction set.
type setDef struct {
	id, group, name string
	nodes           []node
	segments        map[string]bool
}

// node is a segment of a set, or a loop of them.
type node struct {
	id    string // of the segment, or of the one that opens the loop
	key   uint32 // the id packed, quick to compare
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
	ref       string
	need      byte // M, O or C
	element   *elementDef
	composite *segmentDef
}

// unknown is an element that the dictionary does not describe; a segment of such has mostUnknown.
var unknown = &elementDef{ref: "...", kind: "AN", min: 1, max: 9_999, name: "not in the dictionary"}

const mostUnknown = 30

func (u *elementUse) must() bool { return u.need == 'M' }

// name is the element's, or the composite's.
func (u *elementUse) name() string {
	if u.composite != nil {
		return u.composite.name
	}
	return u.element.name
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
	since           string // version from which other lengths hold
	sinceMin        int
	sinceMax        int
	codes           map[string]string
	order           []string // of the codes
	open            bool     // the standard has more codes than are named
}

// lengths are the least and most characters in a version, such as 005010.
func (e *elementDef) lengths(version string) (low, high int) {
	switch {
	case e.since != "" && version >= e.since:
		return e.sinceMin, e.sinceMax
	case e.kind == "DT" && version < "004010": // before it days had two digits for the year
		return 6, 8
	}
	return e.min, e.max
}

// places is how many decimals are implied; -1 is none of type Nn.
func (e *elementDef) places() int {
	if e != nil && len(e.kind) == 2 && e.kind[0] == 'N' {
		return int(e.kind[1] - '0')
	}
	return -1
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
	var text strings.Builder
	for _, name := range []string{"sets", "segments", "elements"} {
		b, err := dictionaryFiles.ReadFile("dictionary/" + name + ".txt")
		if err != nil {
			panic(err)
		}
		text.Write(b)
	}
	d, err := readDictionary(text.String())
	if err != nil {
		panic(err) // the dictionary is part of the program; a test reads it
	}
	sets, segments, composites, elements = d.sets, d.segments, d.composites, d.elements
	ids := slices.Sorted(maps.Keys(segments))
	for _, id := range append(ids, "ISA", "IEA", "GS", "GE", "TA1") {
		key := idKey([]byte(id))
		idTable[idPlace(key)].key, idTable[idPlace(key)].id = key, id
	}
}

// Sets are the ids of the transaction sets that the dictionary has.
func Sets() []string { return slices.Sorted(maps.Keys(sets)) }

// SetName says what a transaction set is, "" where the dictionary does not have it.
func SetName(id string) string {
	if s := sets[id]; s != nil {
		return s.name
	}
	return ""
}

// GroupOf is the functional identifier code (GS01) that a set travels under.
func GroupOf(id string) string {
	if s := sets[id]; s != nil {
		return s.group
	}
	return ""
}

// ElementUse is what the dictionary says of an element of a segment.
type ElementUse struct {
	Name  string
	Must  bool // the standard requires it
	Coded bool // it has a list of codes
}

// ElementOf returns the nth element of a segment, counted from 1; false where the dictionary does not have it, or it is
// a composite.
func ElementOf(segment string, n int) (ElementUse, bool) {
	def := segments[segment]
	if def == nil || n < 1 || n > len(def.elements) || def.elements[n-1].element == nil {
		return ElementUse{}, false
	}
	use := &def.elements[n-1]
	return ElementUse{use.element.name, use.must(), use.element.kind == "ID"}, use.element != unknown
}

// SegmentName says what a segment is; "" where the dictionary does not have it.
func SegmentName(id string) string {
	if def := segments[id]; def != nil {
		return def.name
	}
	return ""
}

// reader reads a dictionary's text line by line.
type dictionaryReader struct {
	d     *dictionary
	parts map[string][]node
	part  string
	set   *setDef
	seg   *segmentDef
	el    *elementDef
	list  []node    // of the set or part being read
	open  []*[]node // the lists of nodes at each depth
}

func readDictionary(text string) (*dictionary, error) {
	r := &dictionaryReader{d: &dictionary{map[string]*setDef{}, map[string]*segmentDef{}, map[string]*segmentDef{},
		map[string]*elementDef{}}, parts: map[string][]node{}}
	for i, line := range strings.Split(text, "\n") {
		if line == "" || line[0] == '#' {
			continue
		}
		if what := r.line(line); what != "" {
			return nil, fmt.Errorf("dictionary line %d: %s: %q", i+1, what, line)
		}
	}
	r.finish()
	for _, defs := range []map[string]*segmentDef{r.d.segments, r.d.composites} {
		for id, def := range defs {
			for i := range def.elements {
				u := &def.elements[i]
				u.element, u.composite = r.d.elements[u.ref], r.d.composites[u.ref]
				if u.element == nil && u.composite == nil {
					return nil, fmt.Errorf("dictionary: %s names the element %s, which is not there", id, u.ref)
				}
			}
		}
	}
	return r.d, nil
}

// finish ends the set or part that was being read.
func (r *dictionaryReader) finish() {
	switch {
	case r.set != nil:
		r.set.nodes = r.list
		var walk func([]node)
		walk = func(list []node) {
			for _, n := range list {
				r.set.segments[n.id] = true
				walk(n.inner)
			}
		}
		walk(r.list)
	case r.part != "":
		r.parts[r.part] = r.list
	}
	r.part, r.set, r.seg, r.el, r.list = "", nil, nil, nil, nil
}

// line takes one line in; it returns what is wrong with it.
func (r *dictionaryReader) line(line string) string {
	words := strings.Fields(line)
	switch {
	case line[0] != ' ':
		r.finish()
		return r.begin(words)
	case r.set != nil || r.part != "":
		return r.node(words, (len(line)-len(strings.TrimLeft(line, " ")))/2)
	case r.seg != nil:
		return r.elements(words)
	case r.el != nil && words[0] == "...":
		r.el.open = true
	case r.el != nil && words[0] == "from" && len(words) == 4:
		low, err := strconv.Atoi(words[2])
		high, err2 := strconv.Atoi(words[3])
		if err != nil || err2 != nil {
			return "no lengths"
		}
		r.el.since, r.el.sinceMin, r.el.sinceMax = words[1], low, high
	case r.el != nil:
		r.el.codes[words[0]] = strings.Join(words[1:], " ")
		r.el.order = append(r.el.order, words[0])
	}
	return ""
}

func (r *dictionaryReader) begin(words []string) string {
	if words[0] == "part" && len(words) == 2 {
		r.part, r.open = words[1], []*[]node{&r.list}
		return ""
	}
	if len(words) < 3 {
		return "too short"
	}
	switch words[0] {
	case "set":
		r.set = &setDef{id: words[1], group: words[2], name: strings.Join(words[3:], " "), segments: map[string]bool{}}
		r.d.sets[r.set.id] = r.set
		r.open = []*[]node{&r.list}
	case "segment", "composite":
		r.seg = &segmentDef{id: words[1], name: strings.Join(words[2:], " ")}
		if words[0] == "segment" {
			r.d.segments[r.seg.id] = r.seg
		} else {
			r.d.composites[r.seg.id] = r.seg
		}
	case "element":
		if len(words) < 6 {
			return "too short"
		}
		low, err := strconv.Atoi(words[3])
		high, err2 := strconv.Atoi(words[4])
		if err != nil || err2 != nil {
			return "no lengths"
		}
		r.el = &elementDef{ref: words[1], kind: words[2], min: low, max: high, name: strings.Join(words[5:], " "),
			codes: map[string]string{}}
		r.d.elements[r.el.ref] = r.el
	default:
		return "unknown word"
	}
	return ""
}

func (r *dictionaryReader) node(words []string, depth int) string {
	if depth < 1 || depth > len(r.open) {
		return "stands too deep"
	}
	r.open = r.open[:depth]
	list := r.open[depth-1]
	if words[0] == "use" && len(words) == 2 {
		part, ok := r.parts[words[1]]
		if !ok {
			return "no such part"
		}
		*list = append(*list, part...)
		return ""
	}
	n := node{id: words[0]}
	if words[0] == "loop" && len(words) == 3 {
		n.id = words[1]
	} else if len(words) != 3 {
		return "is no segment of a set"
	} else {
		n.must = words[1] == "M"
	}
	if n.key = idKey([]byte(n.id)); n.key == 0 {
		return "no id of two or three characters"
	}
	var err error
	if n.most, err = strconv.Atoi(words[2]); err != nil {
		return "no number of times"
	}
	*list = append(*list, n)
	if words[0] == "loop" {
		r.open = append(r.open, &(*list)[len(*list)-1].inner)
	}
	return ""
}

func (r *dictionaryReader) elements(words []string) string {
	if words[0] == "..." {
		for range mostUnknown {
			r.seg.elements = append(r.seg.elements, elementUse{ref: unknown.ref, need: 'O'})
		}
		r.d.elements[unknown.ref] = unknown
		return ""
	}
	for _, w := range words {
		last := w[len(w)-1]
		if last == 'M' || last == 'O' || last == 'C' {
			r.seg.elements = append(r.seg.elements, elementUse{ref: w[:len(w)-1], need: last})
			continue
		}
		n := note{kind: w[0]}
		for at := 1; at+2 <= len(w); at += 2 {
			k, err := strconv.Atoi(w[at : at+2])
			if err != nil {
				return "no syntax note"
			}
			n.at = append(n.at, k)
		}
		r.seg.notes = append(r.seg.notes, n)
	}
	return ""
}
