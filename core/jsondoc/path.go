package jsondoc

import (
	"errors"
	"fmt"
	"koinos/core/tree"
	"strconv"
	"strings"
	"unicode/utf8"
)

// Path is a JSONPath query (RFC 9535).
type Path struct {
	text     string
	segments []segment
}

func (p *Path) String() string { return p.text }

type segment struct {
	descend   bool
	selectors []selector
}

type selectKind uint8

const (
	selectName selectKind = iota
	selectAll
	selectIndex
	selectSlice
	selectFilter
)

type selector struct {
	kind             selectKind
	name             string
	index            int
	start, end, step int
	hasStart, hasEnd bool
	filter           test
}

// walkable reports whether the step can be followed without keeping the value in memory.
func (s *segment) walkable() bool {
	return !s.descend && len(s.selectors) == 1 && s.selectors[0].kind <= selectAll
}

// fits reports whether the step can lead into an array, or else an object.
func (s *segment) fits(array bool) bool { return s.selectors[0].kind == selectAll || !array }

func (s *segment) chooses(array bool, name string) bool {
	sel := &s.selectors[0]
	return sel.kind == selectAll || !array && sel.name == name
}

// MustPath is ParsePath for constants.
func MustPath(text string) *Path {
	p, err := ParsePath(text)
	if err != nil {
		panic(err)
	}
	return p
}

// Single reports whether the query finds at most one value, whatever it is applied to (a singular query of RFC 9535).
func (p *Path) Single() bool {
	for i := range p.segments {
		if !p.segments[i].single() {
			return false
		}
	}
	return true
}

func (s *segment) single() bool {
	return !s.descend && len(s.selectors) == 1 && (s.selectors[0].kind == selectName || s.selectors[0].kind == selectIndex)
}

// All returns every value that the query finds in root, in its order.
func (p *Path) All(root *tree.Node) []*tree.Node { return p.in(root, root) }

// in applies the query to n; root is what $ means inside a filter.
func (p *Path) in(n, root *tree.Node) []*tree.Node {
	found := []*tree.Node{n}
	for i := range p.segments {
		var next []*tree.Node
		for _, n := range found {
			next = p.segments[i].from(n, root, next)
		}
		found = next
	}
	return found
}

// Append adds All to found.
func (p *Path) Append(found []*tree.Node, root *tree.Node) []*tree.Node {
	return append(found, p.All(root)...)
}

// First returns the first value that the query finds, or nil.
func (p *Path) First(root *tree.Node) *tree.Node {
	if p == nil || root == nil {
		return nil
	}
	n := root
	for i := range p.segments {
		s := &p.segments[i]
		if !s.single() {
			if all := (&Path{segments: p.segments[i:]}).All(n); len(all) > 0 {
				return all[0]
			}
			return nil
		}
		if s.selectors[0].kind == selectName {
			n = n.Member(s.selectors[0].name)
		} else {
			n = n.Element(s.selectors[0].index)
		}
		if n == nil {
			return nil
		}
	}
	return n
}

func (s *segment) from(n, root *tree.Node, out []*tree.Node) []*tree.Node {
	for i := range s.selectors {
		out = s.selectors[i].from(n, root, out)
	}
	if s.descend {
		for c := n.First(); c != nil; c = c.Next() {
			out = s.from(c, root, out)
		}
	}
	return out
}

func (s *selector) from(n, root *tree.Node, out []*tree.Node) []*tree.Node {
	switch s.kind {
	case selectName:
		if c := n.Member(s.name); c != nil {
			out = append(out, c)
		}
	case selectAll:
		for c := n.First(); c != nil; c = c.Next() {
			out = append(out, c)
		}
	case selectIndex:
		if c := n.Element(s.index); c != nil {
			out = append(out, c)
		}
	case selectSlice:
		out = s.slice(n, out)
	case selectFilter:
		for c := n.First(); c != nil; c = c.Next() {
			if s.filter.holds(c, root) {
				out = append(out, c)
			}
		}
	}
	return out
}

// slice follows section 2.3.4.2 of the RFC.
func (s *selector) slice(n *tree.Node, out []*tree.Node) []*tree.Node {
	if n.Kind != tree.Array || s.step == 0 {
		return out
	}
	all := make([]*tree.Node, 0, n.Len())
	for c := n.First(); c != nil; c = c.Next() {
		all = append(all, c)
	}
	size := len(all)
	norm := func(i int) int {
		if i < 0 {
			return size + i
		}
		return i
	}
	start, end := 0, size
	if s.step < 0 {
		start, end = size-1, -size-1
	}
	if s.hasStart {
		start = s.start
	}
	if s.hasEnd {
		end = s.end
	}
	from, to := norm(start), norm(end)
	if s.step > 0 {
		from, to = min(max(from, 0), size), min(max(to, 0), size)
		for i := from; i < to; i += s.step {
			out = append(out, all[i])
			if s.step > size {
				break
			}
		}
		return out
	}
	from, to = min(max(from, -1), size-1), min(max(to, -1), size-1)
	for i := from; i > to; i += s.step {
		out = append(out, all[i])
		if s.step < -size {
			break
		}
	}
	return out
}

// ParsePath reads a query, "$.orders[*].lines[?@.qty > 0]". The error says what is wrong and after how many characters.
func ParsePath(text string) (*Path, error) {
	p := pathParser{s: text}
	if !utf8.ValidString(text) || !p.eat("$") {
		return nil, errors.New("a path begins with $")
	}
	segments, err := p.segments()
	if err == nil && p.i < len(p.s) {
		err = p.fail("%q cannot stand here", p.s[p.i:])
	}
	if err != nil {
		return nil, err
	}
	return &Path{text, segments}, nil
}

// Name returns a query for the member with a name.
func Name(name string) *Path {
	return &Path{"$[" + strconv.Quote(name) + "]", []segment{{selectors: []selector{{kind: selectName, name: name}}}}}
}

type pathParser struct {
	s     string
	i     int
	depth int
}

func (p *pathParser) fail(format string, args ...any) error {
	return fmt.Errorf("behind %q: %s", p.s[:min(p.i, len(p.s))], fmt.Sprintf(format, args...))
}

func (p *pathParser) eat(w string) bool {
	if strings.HasPrefix(p.s[p.i:], w) {
		p.i += len(w)
		return true
	}
	return false
}

func (p *pathParser) space() {
	for p.i < len(p.s) && strings.IndexByte(" \t\n\r", p.s[p.i]) >= 0 {
		p.i++
	}
}

func (p *pathParser) segments() ([]segment, error) {
	var all []segment
	for {
		begin := p.i
		p.space()
		switch {
		case p.eat(".."):
			seg := segment{descend: true}
			if p.eat("[") {
				sel, err := p.bracketed()
				if err != nil {
					return nil, err
				}
				seg.selectors = sel
			} else {
				sel, err := p.shorthand()
				if err != nil {
					return nil, err
				}
				seg.selectors = []selector{sel}
			}
			all = append(all, seg)
		case p.eat("."):
			sel, err := p.shorthand()
			if err != nil {
				return nil, err
			}
			all = append(all, segment{selectors: []selector{sel}})
		case p.eat("["):
			sel, err := p.bracketed()
			if err != nil {
				return nil, err
			}
			all = append(all, segment{selectors: sel})
		default:
			p.i = begin
			return all, nil
		}
	}
}

func (p *pathParser) shorthand() (selector, error) {
	if p.eat("*") {
		return selector{kind: selectAll}, nil
	}
	begin := p.i
	for p.i < len(p.s) {
		c := p.s[p.i]
		if c == '_' || c|0x20 >= 'a' && c|0x20 <= 'z' || c >= 0x80 || p.i > begin && c >= '0' && c <= '9' {
			p.i++
			continue
		}
		break
	}
	if p.i == begin {
		return selector{}, p.fail("a name or * should stand here; write other names as ['…']")
	}
	return selector{kind: selectName, name: p.s[begin:p.i]}, nil
}

func (p *pathParser) bracketed() ([]selector, error) {
	var all []selector
	for {
		p.space()
		sel, err := p.selector()
		if err != nil {
			return nil, err
		}
		all = append(all, sel)
		p.space()
		if p.eat("]") {
			return all, nil
		}
		if !p.eat(",") {
			return nil, p.fail("a comma or ] should stand here")
		}
	}
}

func (p *pathParser) peek() byte {
	if p.i < len(p.s) {
		return p.s[p.i]
	}
	return 0
}

func (p *pathParser) selector() (selector, error) {
	switch c := p.peek(); {
	case c == '*':
		p.i++
		return selector{kind: selectAll}, nil
	case c == '\'' || c == '"':
		name, err := p.quoted()
		return selector{kind: selectName, name: name}, err
	case c == '?':
		p.i++
		p.space()
		t, err := p.or()
		return selector{kind: selectFilter, filter: t}, err
	case c == ':' || c == '-' || c >= '0' && c <= '9':
		return p.indexOrSlice()
	}
	return selector{}, p.fail("a name in quotation marks, a number, * or ? should stand here")
}

// mostIndex is the largest index that every reader of JSON can distinguish from its neighbours.
const mostIndex = 1<<53 - 1

func (p *pathParser) integer() (n int, ok bool, err error) {
	begin := p.i
	p.eat("-")
	digits := p.i
	for p.peek() >= '0' && p.peek() <= '9' {
		p.i++
	}
	text := p.s[begin:p.i]
	if p.i == digits {
		if p.i > begin {
			return 0, false, p.fail("digits should stand here")
		}
		return 0, false, nil
	}
	if text == "-0" || p.s[digits] == '0' && p.i > digits+1 {
		return 0, false, p.fail("a number cannot be written %q", text)
	}
	n, err = strconv.Atoi(text)
	if err != nil || n > mostIndex || n < -mostIndex {
		return 0, false, p.fail("the number %s is too large", text)
	}
	return n, true, nil
}

func (p *pathParser) indexOrSlice() (selector, error) {
	sel := selector{kind: selectSlice, step: 1}
	n, ok, err := p.integer()
	if err != nil {
		return sel, err
	}
	begin := p.i
	if p.space(); !p.eat(":") {
		p.i = begin
		return selector{kind: selectIndex, index: n}, nil
	}
	sel.start, sel.hasStart = n, ok
	p.space()
	if sel.end, sel.hasEnd, err = p.integer(); err != nil {
		return sel, err
	}
	begin = p.i
	if p.space(); !p.eat(":") {
		p.i = begin
		return sel, nil
	}
	begin = p.i
	p.space()
	step, ok, err := p.integer()
	if ok {
		sel.step = step
	} else {
		p.i = begin
	}
	return sel, err
}

func (p *pathParser) quoted() (string, error) {
	q := p.s[p.i]
	p.i++
	var b strings.Builder
	for p.i < len(p.s) {
		c := p.s[p.i]
		switch {
		case c == q:
			p.i++
			return b.String(), nil
		case c < ' ':
			return "", p.fail("a control character cannot stand in a name")
		case c != '\\':
			b.WriteByte(c)
			p.i++
		default:
			// Escapes are JSON's; each quotation mark is escaped in its own kind of string only.
			end := p.i + 2
			if end > len(p.s) {
				return "", p.fail("the escape is not complete")
			}
			if e := p.s[p.i+1]; e == '\'' || e == '"' {
				if e != q {
					return "", p.fail("%c needs no escape here", e)
				}
				b.WriteByte(e)
				p.i = end
				continue
			} else if e == 'u' {
				end = min(p.i+6, len(p.s))
				if strings.HasPrefix(p.s[end:], `\u`) {
					if lead := strings.ToLower(p.s[p.i+2 : end]); len(lead) == 4 && lead >= "d800" && lead < "dc00" {
						end = min(end+6, len(p.s))
					}
				}
			}
			quoted := `"` + p.s[p.i:end] + `"`
			js := parser{b: []byte(quoted), s: quoted}
			text, err := js.str()
			if err != nil || js.i != len(js.b) || strings.ContainsRune(text, utf8.RuneError) {
				return "", p.fail("the escape %q is not one of JSON's", p.s[p.i:end])
			}
			b.WriteString(text)
			p.i = end
		}
	}
	return "", p.fail("the quotation mark is never closed")
}

// Pointer is the JSON Pointer from a value to what the query finds in it, if that is always the same; otherwise "".
func (p *Path) Pointer() string {
	s := ""
	for i := range p.segments {
		seg := &p.segments[i]
		sel := &seg.selectors[0]
		switch {
		case seg.descend || len(seg.selectors) != 1:
			return ""
		case sel.kind == selectName:
			s += "/" + tree.Token(sel.name)
		case sel.kind == selectIndex && sel.index >= 0:
			s += "/" + strconv.Itoa(sel.index)
		default:
			return ""
		}
	}
	return s
}
