package jsondoc

import (
	"koinos/core/tree"
	"math/big"
	"regexp"
	"strconv"
	"strings"
	"unicode/utf8"
)

// test is a logical expression of a filter selector (RFC 9535, 2.3.5).
type test interface{ holds(n, root *tree.Node) bool }

type (
	anyOf   []test
	allOf   []test
	not     struct{ test }
	exists  struct{ query }
	logical struct{ call }
	compare struct {
		a, b operand
		op   string
	}
)

func (t anyOf) holds(n, root *tree.Node) bool {
	for _, one := range t {
		if one.holds(n, root) {
			return true
		}
	}
	return false
}

func (t allOf) holds(n, root *tree.Node) bool {
	for _, one := range t {
		if !one.holds(n, root) {
			return false
		}
	}
	return true
}

func (t not) holds(n, root *tree.Node) bool     { return !t.test.holds(n, root) }
func (t exists) holds(n, root *tree.Node) bool  { return len(t.all(n, root)) > 0 }
func (t logical) holds(n, root *tree.Node) bool { return t.matches(n, root) }

func (t compare) holds(n, root *tree.Node) bool {
	a, b := t.a.value(n, root), t.b.value(n, root)
	switch t.op {
	case "==":
		return equal(a, b)
	case "!=":
		return !equal(a, b)
	case "<":
		return less(a, b)
	case ">":
		return less(b, a)
	case "<=":
		return less(a, b) || equal(a, b)
	}
	return less(b, a) || equal(a, b)
}

// operand is an operand of a comparison; a nil value is Nothing.
type operand interface {
	value(n, root *tree.Node) *tree.Node
}

type query struct {
	absolute bool
	path     *Path
}

func (q query) all(n, root *tree.Node) []*tree.Node {
	if q.absolute {
		return q.path.All(root)
	}
	return q.path.in(n, root)
}

func (q query) value(n, root *tree.Node) *tree.Node {
	if all := q.all(n, root); len(all) == 1 {
		return all[0]
	}
	return nil
}

// singular reports whether the query can find at most one value.
func (q query) singular() bool {
	for _, s := range q.path.segments {
		if s.descend || len(s.selectors) != 1 || s.selectors[0].kind != selectName &&
			s.selectors[0].kind != selectIndex {
			return false
		}
	}
	return true
}

type literal struct{ *tree.Node }

func (l literal) value(_, _ *tree.Node) *tree.Node { return l.Node }

// call is a function of section 2.4.
type call struct {
	name   string
	values []operand // ValueType arguments
	nodes  *query    // the NodesType argument of count and value
	re     *regexp.Regexp
}

func (c call) value(n, root *tree.Node) *tree.Node {
	switch c.name {
	case "length":
		v := c.values[0].value(n, root)
		switch {
		case v == nil || v.Kind < tree.String:
			return nil
		case v.Kind == tree.String:
			return &tree.Node{Kind: tree.Number, Text: strconv.Itoa(utf8.RuneCountInString(v.Text))}
		}
		return &tree.Node{Kind: tree.Number, Text: strconv.Itoa(v.Len())}
	case "count":
		return &tree.Node{Kind: tree.Number, Text: strconv.Itoa(len(c.nodes.all(n, root)))}
	}
	return c.nodes.value(n, root) // value()
}

func (c call) matches(n, root *tree.Node) bool {
	v, pattern := c.values[0].value(n, root), c.values[1].value(n, root)
	if v == nil || pattern == nil || v.Kind != tree.String || pattern.Kind != tree.String {
		return false
	}
	re := c.re
	if re == nil {
		var ok bool
		if re, ok = regular(pattern.Text, c.name == "match"); !ok {
			return false
		}
	}
	return re.MatchString(v.Text)
}

// regular compiles an I-Regexp (RFC 9485), in which a dot is any character except a line's end.
func regular(pattern string, whole bool) (*regexp.Regexp, bool) {
	var b strings.Builder
	class := false
	for i := 0; i < len(pattern); i++ {
		switch c := pattern[i]; {
		case c == '\\' && i+1 < len(pattern):
			b.WriteString(pattern[i : i+2])
			i++
			continue
		case c == '[':
			class = true
		case c == ']':
			class = false
		case c == '.' && !class:
			b.WriteString(`[^\n\r]`)
			continue
		}
		b.WriteByte(pattern[i])
	}
	text := b.String()
	if whole {
		text = `\A(?:` + text + `)\z`
	}
	re, err := regexp.Compile(text)
	return re, err == nil
}

func equal(a, b *tree.Node) bool {
	if a == nil || b == nil {
		return a == b
	}
	if a.Kind != b.Kind {
		return false
	}
	switch a.Kind {
	case tree.Number:
		return a.Text == b.Text || compareNumbers(a.Text, b.Text) == 0
	case tree.Array:
		if a.Len() != b.Len() {
			return false
		}
		for x, y := a.First(), b.First(); x != nil; x, y = x.Next(), y.Next() {
			if !equal(x, y) {
				return false
			}
		}
		return true
	case tree.Object:
		if a.Len() != b.Len() {
			return false
		}
		for x := a.First(); x != nil; x = x.Next() {
			if y := b.Member(x.Name); y == nil || !equal(x, y) {
				return false
			}
		}
		return true
	}
	return a.Text == b.Text
}

func less(a, b *tree.Node) bool {
	if a == nil || b == nil || a.Kind != b.Kind {
		return false
	}
	switch a.Kind {
	case tree.Number:
		return compareNumbers(a.Text, b.Text) < 0
	case tree.String:
		return a.Text < b.Text
	}
	return false
}

// compareNumbers compares exactly, except for exponents that are so large that they can only be meant as an attack.
func compareNumbers(a, b string) int {
	x, okX := exact(a)
	y, okY := exact(b)
	if okX && okY {
		return x.Cmp(y)
	}
	f, _ := strconv.ParseFloat(a, 64)
	g, _ := strconv.ParseFloat(b, 64)
	switch {
	case f < g:
		return -1
	case f > g:
		return 1
	}
	return 0
}

func exact(s string) (*big.Rat, bool) {
	if i := strings.IndexAny(s, "eE"); len(s) > 400 || i >= 0 && len(s)-i > 5 {
		return nil, false
	}
	return new(big.Rat).SetString(s)
}

const mostNested = 50

func (p *pathParser) or() (test, error) {
	if p.depth++; p.depth > mostNested {
		return nil, p.fail("the filter is nested too deeply")
	}
	defer func() { p.depth-- }()
	var any anyOf
	for {
		t, err := p.and()
		if err != nil {
			return nil, err
		}
		any = append(any, t)
		begin := p.i
		if p.space(); !p.eat("||") {
			p.i = begin
			if len(any) == 1 {
				return any[0], nil
			}
			return any, nil
		}
		p.space()
	}
}

func (p *pathParser) and() (test, error) {
	var all allOf
	for {
		t, err := p.basic()
		if err != nil {
			return nil, err
		}
		all = append(all, t)
		begin := p.i
		if p.space(); !p.eat("&&") {
			p.i = begin
			if len(all) == 1 {
				return all[0], nil
			}
			return all, nil
		}
		p.space()
	}
}

func (p *pathParser) basic() (test, error) {
	if p.eat("!") {
		p.space()
		if p.peek() == '(' {
			t, err := p.paren()
			return not{t}, err
		}
		t, err := p.comparison(true)
		return not{t}, err
	}
	if p.peek() == '(' {
		return p.paren()
	}
	return p.comparison(false)
}

func (p *pathParser) paren() (test, error) {
	p.i++
	p.space()
	t, err := p.or()
	if err != nil {
		return nil, err
	}
	if p.space(); !p.eat(")") {
		return nil, p.fail("a closing parenthesis should stand here")
	}
	return t, nil
}

// comparison reads a comparison, or a test of a single operand.
func (p *pathParser) comparison(alone bool) (test, error) {
	a, err := p.operand()
	if err != nil {
		return nil, err
	}
	begin := p.i
	p.space()
	for _, op := range []string{"==", "!=", "<=", ">=", "<", ">"} {
		if alone || !p.eat(op) {
			continue
		}
		p.space()
		b, err := p.operand()
		if err != nil {
			return nil, err
		}
		for _, side := range []operand{a, b} {
			switch side := side.(type) {
			case query:
				if !side.singular() {
					return nil, p.fail("only a path that finds one value can be compared")
				}
			case call:
				if side.name == "match" || side.name == "search" {
					return nil, p.fail("%s() is true or false and cannot be compared", side.name)
				}
			}
		}
		return compare{a, b, op}, nil
	}
	p.i = begin
	switch a := a.(type) {
	case query:
		return exists{a}, nil
	case call:
		if a.name == "match" || a.name == "search" {
			return logical{a}, nil
		}
		return nil, p.fail("what %s() gives must be compared with something", a.name)
	}
	return nil, p.fail("a value alone is no test")
}

func (p *pathParser) operand() (operand, error) {
	switch c := p.peek(); {
	case c == '@' || c == '$':
		p.i++
		segments, err := p.segments()
		return query{c == '$', &Path{segments: segments}}, err
	case c == '\'' || c == '"':
		s, err := p.quoted()
		return literal{&tree.Node{Kind: tree.String, Text: s}}, err
	case c == '-' || c >= '0' && c <= '9':
		js := parser{b: []byte(p.s), s: p.s, i: p.i}
		n, err := js.number()
		if err != nil {
			return nil, p.fail("%v", err)
		}
		p.i = js.i
		if n.Text == "-0" {
			n.Text = "0"
		}
		return literal{n}, nil
	case c >= 'a' && c <= 'z':
		begin := p.i
		for c := p.peek(); c >= 'a' && c <= 'z' || c == '_' || c >= '0' && c <= '9'; c = p.peek() {
			p.i++
		}
		word := p.s[begin:p.i]
		switch word {
		case "true", "false":
			return literal{&tree.Node{Kind: tree.Bool, Text: word}}, nil
		case "null":
			return literal{&tree.Node{Kind: tree.Null}}, nil
		}
		if p.eat("(") {
			return p.call(word)
		}
		p.i = begin
	}
	return nil, p.fail("a path with @ or $, a value or a function should stand here")
}

var arity = map[string]int{"length": 1, "count": 1, "value": 1, "match": 2, "search": 2}

func (p *pathParser) call(name string) (operand, error) {
	if arity[name] == 0 {
		return nil, p.fail("there is no function %s(); there are length, count, value, match, search", name)
	}
	if p.depth++; p.depth > mostNested {
		return nil, p.fail("the filter is nested too deeply")
	}
	defer func() { p.depth-- }()
	c := call{name: name}
	for i := 0; ; i++ {
		p.space()
		arg, err := p.operand()
		if err != nil {
			return nil, err
		}
		q, isQuery := arg.(query)
		inner, isCall := arg.(call)
		switch {
		case name == "count" || name == "value":
			if !isQuery {
				return nil, p.fail("%s() asks for a path", name)
			}
			c.nodes = &q
		case isQuery && !q.singular():
			return nil, p.fail("%s() asks for a path that finds one value", name)
		case isCall && (inner.name == "match" || inner.name == "search"):
			return nil, p.fail("%s() cannot take true or false", name)
		}
		c.values = append(c.values, arg)
		p.space()
		if p.eat(")") {
			break
		}
		if !p.eat(",") {
			return nil, p.fail("a comma or a closing parenthesis should stand here")
		}
	}
	if len(c.values) != arity[name] {
		return nil, p.fail("%s() takes %d arguments", name, arity[name])
	}
	if len(c.values) == 2 {
		if l, ok := c.values[1].(literal); ok && l.Kind == tree.String {
			if re, ok := regular(l.Text, name == "match"); ok {
				c.re = re
			}
		}
	}
	return c, nil
}
