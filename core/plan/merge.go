package plan

import (
	"strconv"
	"strings"

	"koinos/core/tree"
)

// Side is who changed a value since both sides agreed, or whose value counts.
type Side int

const (
	Neither Side = iota
	Here         // in the order
	There        // in the record
	Both         // and not to the same value
)

// Clash is a value that both sides changed.
type Clash struct {
	Line   string `json:"line,omitempty" doc:"What the line is matched by; by default the header"`
	Field  string `json:"field"`
	Agreed string `json:"agreed" doc:"What both said last"`
	Here   string `json:"here"`
	There  string `json:"there"`
}

// Name is the name of a clash: a field, or line 2 qty.
func (c *Clash) Name() string {
	if c.Line == "" {
		return c.Field
	}
	return "line " + c.Line + " " + c.Field
}

// Sides are a record on both sides, now and when they last agreed. Ours are what the order says, with the values by
// which other records can be found; theirs are records as they were read, with the keys of those. OursLike and
// TheirsLike are both in the same form, so that they can be compared with each other; nil means that they are as they
// are.
type Sides struct {
	Ours, OursThen, OursLike       *tree.Node
	Theirs, TheirsThen, TheirsLike *tree.Node
}

// Owner says whose value counts if both sides changed it: Here, There, or Both, in which case a person decides. line is
// "" for the header.
type Owner func(line, pointer string) Side

// Merged says whose value counts for every value of a record.
type Merged struct {
	Clashes []Clash // that a person decides
	Taken   []Clash // that were decided by rule: Here or There in Field's place counts

	header map[string]Side
	lines  map[string]*mergedLine
	list   string
	match  func(*tree.Node) string

	types, inLine map[string]string // as the Planner's
}

// mergedLine is a line that exists on at least one side.
type mergedLine struct {
	whole  Side // Here: as it is in the order, also if it is not there; There likewise; Neither: field by field
	fields map[string]Side
}

// Merge compares both sides with what they last agreed on (a three-way merge). Lines are compared by what they are
// matched by; if lines go with the record, by position. The error is a *Blocked if lines cannot be told apart.
func (p *Planner) Merge(s Sides, owner Owner) (*Merged, error) {
	if s.OursLike == nil {
		s.OursLike = s.Ours
	}
	if s.TheirsLike == nil {
		s.TheirsLike = s.Theirs
	}
	m := &Merged{header: map[string]Side{}, lines: map[string]*mergedLine{}, list: p.list, match: p.matches(),
		types: p.types, inLine: p.inLine}
	header, ours, err := p.wanted(s.Ours)
	if err != nil {
		return nil, err
	}
	_, oursThen, err := p.wanted(s.OursThen)
	if err != nil { // what was agreed on was written by a mapping that has changed since
		oursThen = nil
	}
	for _, l := range header {
		m.header[l.pointer] = m.judge(owner, "", l.pointer, value{l.node, s.OursThen.Get(l.pointer),
			s.OursLike.Get(l.pointer)}, value{s.Theirs.Get(l.pointer), s.TheirsThen.Get(l.pointer),
			s.TheirsLike.Get(l.pointer)})
	}
	if p.list == "" {
		return m, nil
	}
	if name, twice := m.twice(s.Theirs); twice {
		return nil, blocked(name, p.w.Lines.Match.String(),
			"The record has several lines with the %s %q: they cannot be told "+
				"apart.", p.w.Lines.Match, name)
	}
	here, hereThen := m.named(ours), m.named(oursThen)
	there, thereThen := m.linesOf(s.Theirs), m.linesOf(s.TheirsThen)
	hereLike, thereLike := m.linesOf(s.OursLike), m.linesOf(s.TheirsLike)
	for _, name := range union(here, there, thereThen) {
		m.lines[name] = m.line(owner, name, here[name], hereThen[name], hereLike[name], there[name], thereThen[name],
			thereLike[name])
	}
	return m, nil
}

// matches returns what a line is known by on both sides.
func (p *Planner) matches() func(*tree.Node) string {
	if p.w.Lines == nil {
		return func(n *tree.Node) string { return strconv.Itoa(n.Index + 1) }
	}
	return func(n *tree.Node) string { return text(p.w.Lines.Match.First(n)) }
}

func (m *Merged) named(lines []line) map[string]*line {
	all := make(map[string]*line, len(lines))
	for i := range lines {
		all[m.match(lines[i].node)] = &lines[i]
	}
	return all
}

func (m *Merged) linesOf(root *tree.Node) map[string]*tree.Node {
	all := map[string]*tree.Node{}
	if list := root.Get(m.list); list != nil {
		for n := list.First(); n != nil; n = n.Next() {
			if name := m.match(n); all[name] == nil {
				all[name] = n
			}
		}
	}
	return all
}

// twice returns a name that several lines of a record have.
func (m *Merged) twice(root *tree.Node) (name string, is bool) {
	if list := root.Get(m.list); list != nil {
		seen := make(map[string]bool, list.Len())
		for n := list.First(); n != nil; n = n.Next() {
			if name = m.match(n); seen[name] && name != "" {
				return name, true
			}
			seen[name] = true
		}
	}
	return "", false
}

func union(here map[string]*line, more ...map[string]*tree.Node) []string {
	all := map[string]bool{}
	for name := range here {
		all[name] = true
	}
	for _, m := range more {
		for name := range m {
			all[name] = true
		}
	}
	return sorted(all)
}

// value is a value on one side: now, when both agreed, and in the form in which it is compared with the other side's.
type value struct{ now, then, like *tree.Node }

// judge says whose value counts, and notes values that both sides changed.
func (m *Merged) judge(owner Owner, line, pointer string, here, there value) Side {
	kind := m.types[pointer]
	if line != "" {
		kind = m.inLine[pointer]
	}
	changedHere, changedThere := !same(here.now, here.then, kind), !same(there.now, there.then, kind)
	switch {
	case !changedHere && !changedThere:
		return Neither
	case !changedThere:
		return Here
	case !changedHere:
		return There
	case same(here.like, there.like, kind):
		return Neither
	}
	c := Clash{Line: line, Field: strings.TrimPrefix(pointer, "/"), Agreed: text(there.then), Here: text(here.now),
		There: text(there.like)}
	return m.decide(owner(line, pointer), c)
}

func (m *Merged) decide(by Side, c Clash) Side {
	if by == Here || by == There {
		m.Taken = append(m.Taken, c)
		return by
	}
	m.Clashes = append(m.Clashes, c)
	return Both
}

// line judges a line.
func (m *Merged) line(owner Owner, name string, here, hereThen *line, hereLike, there, thereThen,
	thereLike *tree.Node) *mergedLine {
	out := &mergedLine{fields: map[string]Side{}}
	switch {
	case here != nil && there != nil:
		for _, l := range here.leaves {
			then := (*tree.Node)(nil)
			if hereThen != nil {
				then = hereThen.node.Get(l.pointer)
			}
			was := thereThen
			if was == nil { // both added it
				was = &tree.Node{Kind: tree.Object}
			}
			out.fields[l.pointer] = m.judge(owner, name, l.pointer, value{l.node, then, hereLike.Get(l.pointer)},
				value{there.Get(l.pointer), was.Get(l.pointer), thereLike.Get(l.pointer)})
		}
	case here != nil && thereThen == nil: // added here
		out.whole = Here
	case here != nil: // removed there
		out.whole = There
		if hereThen != nil && differs(here, hereThen) {
			out.whole = m.decide(owner(name, "/line"), Clash{name, "line", "there", "changed", "removed"})
		}
	case there != nil && thereThen == nil: // added there
		out.whole = There
	case there != nil: // removed here
		out.whole = Here
		if hereThen != nil && changed(hereThen, there, thereThen) {
			out.whole = m.decide(owner(name, "/line"), Clash{name, "line", "there", "removed", "changed"})
		}
	}
	return out
}

func differs(a, b *line) bool {
	for _, l := range a.leaves {
		if !same(l.node, b.node.Get(l.pointer), "") {
			return true
		}
	}
	return false
}

// changed reports whether the other side changed the values of a line that we write.
func changed(written *line, now, then *tree.Node) bool {
	for _, l := range written.leaves {
		if !same(now.Get(l.pointer), then.Get(l.pointer), "") {
			return true
		}
	}
	return false
}

// ToRecord returns what the record should say: what is wanted, with the values and lines that only the other side
// changed.
func (m *Merged) ToRecord(wanted, found *tree.Node) *tree.Node {
	out := wanted.Clone()
	for pointer, side := range m.header {
		if side == There || side == Both {
			out.Put(pointer, found.Get(pointer))
		}
	}
	if m.list == "" {
		return out
	}
	there := m.linesOf(found)
	list := out.Get(m.list)
	if list == nil {
		out.Put(m.list, &tree.Node{Kind: tree.Array})
		list = out.Get(m.list)
	}
	list.Keep(func(n *tree.Node) bool {
		name := m.match(n)
		l := m.lines[name]
		if l == nil {
			return true
		}
		if l.whole == There || l.whole == Both {
			return there[name] != nil
		}
		for pointer, side := range l.fields {
			if side == There || side == Both {
				n.Put(pointer, there[name].Get(pointer))
			}
		}
		return true
	})
	have := m.linesOf(out)
	for _, name := range sorted(m.lines) {
		if l := m.lines[name]; (l.whole == There || l.whole == Both) && there[name] != nil && have[name] == nil {
			list.Add(there[name].Clone())
		}
	}
	return out
}

// ToOrder returns what a mapping reads: the record without the values that the other side did not change, so that they
// stay as they are here. If the order cannot do without a value (needs), ours is used.
func (m *Merged) ToOrder(record, ours *tree.Node, needs func(line bool, pointer string) bool) *tree.Node {
	out := record.Clone()
	for pointer, side := range m.header {
		keepOurs(out, ours, pointer, side, needs(false, pointer))
	}
	if m.list == "" {
		return out
	}
	here := m.linesOf(ours)
	list := out.Get(m.list)
	if list == nil {
		return out
	}
	list.Keep(func(n *tree.Node) bool {
		name := m.match(n)
		l := m.lines[name]
		if l == nil || l.whole == There {
			return true
		}
		if l.whole == Here || l.whole == Both { // removed here
			return here[name] != nil
		}
		for pointer, side := range l.fields {
			keepOurs(n, here[name], pointer, side, needs(true, pointer))
		}
		return true
	})
	have := m.linesOf(out)
	for _, name := range sorted(m.lines) {
		if l := m.lines[name]; (l.whole == Here || l.whole == Both) && here[name] != nil && have[name] == nil {
			list.Add(here[name].Clone())
		}
	}
	return out
}

func keepOurs(out, ours *tree.Node, pointer string, side Side, needed bool) {
	switch {
	case side == There:
	case !needed:
		out.Drop(pointer)
	case side == Here || side == Both:
		if v := ours.Get(pointer); v != nil {
			out.Put(pointer, v)
		}
	}
}

// Base returns what both sides agree on once the record says what ToRecord returns: the record as it was found, without
// what the other side changed and the order has not taken over yet.
func (m *Merged) Base(found, then *tree.Node) *tree.Node {
	out := found.Clone()
	for pointer, side := range m.header {
		if side == There || side == Both {
			out.Put(pointer, then.Get(pointer))
		}
	}
	if m.list == "" {
		return out
	}
	was := m.linesOf(then)
	list := out.Get(m.list)
	if list == nil {
		return out
	}
	have := m.linesOf(out)
	list.Keep(func(n *tree.Node) bool {
		name := m.match(n)
		l := m.lines[name]
		if l == nil {
			return true
		}
		if (l.whole == There || l.whole == Both) && was[name] == nil {
			return false
		}
		for pointer, side := range l.fields {
			if side == There || side == Both {
				n.Put(pointer, was[name].Get(pointer))
			}
		}
		return true
	})
	for _, name := range sorted(m.lines) {
		if l := m.lines[name]; (l.whole == There || l.whole == Both) && have[name] == nil && was[name] != nil {
			list.Add(was[name].Clone())
		}
	}
	return out
}

// Changes reports whether the order here has to change, and whether the record there.
func (m *Merged) Changes() (here, there bool) {
	note := func(s Side) {
		here, there = here || s == There, there || s == Here
	}
	for _, s := range m.header {
		note(s)
	}
	for _, l := range m.lines {
		note(l.whole)
		for _, s := range l.fields {
			note(s)
		}
	}
	return here, there
}
