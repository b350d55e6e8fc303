package jsondoc

import (
	"fmt"
	"koinos/core/tree"
	"unicode/utf16"
	"unicode/utf8"
)

// Odd is something in a value that is valid JSON, but cannot be used as it is.
type Odd struct {
	Node  *tree.Node
	Twice bool   // its name stands more than once in the object
	Lost  string // the escape in it, or in its name, that is no character, such as half a surrogate pair
}

// SyntaxError says where text stops being JSON.
type SyntaxError struct {
	Offset  int // bytes from the beginning of the value
	Message string
	Pointer string // of a document: JSON Pointer (RFC 6901) of what stood last before
}

func (e *SyntaxError) Error() string { return e.Message }

const mostDepth = 500

// Parse reads one JSON value, whose first leaf gets the number after leaf. It lists what is odd about values. The error
// is a *SyntaxError.
func Parse(text []byte, leaf int) (*tree.Node, []Odd, error) {
	return new(Parser).Parse(text, leaf)
}

// Parser reads values one after another, which is cheaper than calling Parse for each.
type Parser struct{ parser }

// Parse is Parse.
func (p *Parser) Parse(text []byte, leaf int) (*tree.Node, []Odd, error) {
	p.b, p.i, p.leaf, p.odd = text, 0, leaf, nil
	p.s = string(text) // one copy: names, texts and numbers are parts of it
	p.space()
	n, err := p.value(0)
	if err == nil {
		if p.space(); p.i < len(p.b) {
			err = p.fail("something stands behind the end of the value")
		}
	}
	odd := p.odd
	p.b, p.s, p.odd, p.lost = nil, "", nil, ""
	if err != nil {
		return nil, nil, err
	}
	return n, odd, nil
}

type parser struct {
	b    []byte
	s    string // b once more
	i    int
	slab []tree.Node
	made int
	leaf int // number of the last leaf read
	odd  []Odd
	lost string // the last escape that is no character
}

func (p *parser) fail(format string, args ...any) error {
	return &SyntaxError{Offset: p.i, Message: fmt.Sprintf(format, args...)}
}

func (p *parser) node(k tree.Kind) *tree.Node {
	if len(p.slab) == 0 {
		// A short text needs few. A parser that continues uses up the rest.
		p.made = min(max(2*p.made, len(p.b)/24+4), 128)
		p.slab = make([]tree.Node, p.made)
	}
	n := &p.slab[0]
	p.slab = p.slab[1:]
	n.Kind = k
	n.Leaf = p.leaf + 1
	if k < tree.Object {
		p.leaf++
	}
	return n
}

func (p *parser) space() {
	for p.i < len(p.b) {
		switch p.b[p.i] {
		case ' ', '\t', '\n', '\r':
			p.i++
		default:
			return
		}
	}
}

func (p *parser) peek() byte {
	if p.i < len(p.b) {
		return p.b[p.i]
	}
	return 0
}

func (p *parser) value(depth int) (*tree.Node, error) {
	if depth > mostDepth {
		return nil, p.fail("values are nested more than %d deep", mostDepth)
	}
	switch c := p.peek(); {
	case c == '{':
		return p.object(depth)
	case c == '[':
		return p.array(depth)
	case c == '"':
		s, err := p.str()
		if err != nil {
			return nil, err
		}
		n := p.node(tree.String)
		n.Text = s
		p.missed(n)
		return n, nil
	case c == '-' || c >= '0' && c <= '9':
		return p.number()
	case p.word("true"):
		n := p.node(tree.Bool)
		n.Text = "true"
		return n, nil
	case p.word("false"):
		n := p.node(tree.Bool)
		n.Text = "false"
		return n, nil
	case p.word("null"):
		return p.node(tree.Null), nil
	}
	if p.i >= len(p.b) {
		return nil, p.fail("the text ends where a value should stand")
	}
	return nil, p.fail("a value cannot begin with %q", p.b[p.i])
}

// missed notes a value with an escape that is not a character.
func (p *parser) missed(n *tree.Node) {
	if p.lost != "" {
		p.odd, p.lost = append(p.odd, Odd{Node: n, Lost: p.lost}), ""
	}
}

func (p *parser) word(w string) bool {
	if len(p.b)-p.i >= len(w) && string(p.b[p.i:p.i+len(w)]) == w {
		p.i += len(w)
		return true
	}
	return false
}

func (p *parser) object(depth int) (*tree.Node, error) {
	n := p.node(tree.Object)
	p.i++
	p.space()
	if p.peek() == '}' {
		p.i++
		p.leaf++
		return n, nil
	}
	for {
		if p.space(); p.peek() != '"' {
			return nil, p.fail("a member's name in quotation marks should stand here")
		}
		name, err := p.str()
		if err != nil {
			return nil, err
		}
		lost := p.lost
		p.lost = ""
		if p.space(); p.peek() != ':' {
			return nil, p.fail("a colon should stand behind the name %q", name)
		}
		p.i++
		p.space()
		c, err := p.value(depth + 1)
		if err != nil {
			return nil, err
		}
		c.Name = name
		if lost != "" {
			p.odd = append(p.odd, Odd{Node: c, Lost: lost})
		}
		before := n.Len() < 32 && n.Member(name) != nil
		n.Add(c)
		if before {
			p.odd = append(p.odd, Odd{Node: c, Twice: true})
		}
		p.space()
		switch p.peek() {
		case ',':
			p.i++
		case '}':
			p.i++
			if n.Len() > 32 {
				p.largeTwice(n)
			}
			return n, nil
		default:
			return nil, p.fail("a comma or a closing brace should stand here")
		}
	}
}

// largeTwice looks for repeated names among the members that object did not compare one by one.
func (p *parser) largeTwice(n *tree.Node) {
	seen := make(map[string]bool, n.Len())
	for c := n.First(); c != nil; c = c.Next() {
		if seen[c.Name] && c.Index >= 32 {
			p.odd = append(p.odd, Odd{Node: c, Twice: true})
		}
		seen[c.Name] = true
	}
}

func (p *parser) array(depth int) (*tree.Node, error) {
	n := p.node(tree.Array)
	p.i++
	p.space()
	if p.peek() == ']' {
		p.i++
		p.leaf++
		return n, nil
	}
	for {
		p.space()
		c, err := p.value(depth + 1)
		if err != nil {
			return nil, err
		}
		n.Add(c)
		p.space()
		switch p.peek() {
		case ',':
			p.i++
		case ']':
			p.i++
			return n, nil
		default:
			return nil, p.fail("a comma or a closing bracket should stand here")
		}
	}
}

func (p *parser) number() (*tree.Node, error) {
	begin := p.i
	digits := func() int {
		from := p.i
		for p.i < len(p.b) && p.b[p.i] >= '0' && p.b[p.i] <= '9' {
			p.i++
		}
		return p.i - from
	}
	if p.peek() == '-' {
		p.i++
	}
	if p.peek() == '0' {
		p.i++
		if c := p.peek(); c >= '0' && c <= '9' {
			return nil, p.fail("a number cannot begin with 0; a code belongs in quotation marks")
		}
	} else if digits() == 0 {
		return nil, p.fail("digits should stand here")
	}
	if p.peek() == '.' {
		if p.i++; digits() == 0 {
			return nil, p.fail("digits should stand behind the point")
		}
	}
	if c := p.peek(); c == 'e' || c == 'E' {
		p.i++
		if c := p.peek(); c == '+' || c == '-' {
			p.i++
		}
		if digits() == 0 {
			return nil, p.fail("digits should stand in the exponent")
		}
	}
	n := p.node(tree.Number)
	n.Text = p.s[begin:p.i]
	return n, nil
}

func (p *parser) str() (string, error) {
	p.i++
	begin := p.i
	plain := true
	for {
		if p.i >= len(p.b) {
			return "", p.fail("the text ends inside a string")
		}
		c := p.b[p.i]
		switch {
		case c == '"':
			text := p.s[begin:p.i]
			p.i++
			if plain {
				return text, nil
			}
			return p.unescape([]byte(text), begin)
		case c == '\\':
			plain = false
			p.i += 2
		case c < ' ':
			return "", p.fail("a line break or control character stands inside a string")
		case c >= 0x80:
			r, size := utf8.DecodeRune(p.b[p.i:])
			if r == utf8.RuneError && size < 2 {
				return "", p.fail("a string has bytes that are not UTF-8")
			}
			p.i += size
		default:
			p.i++
		}
	}
}

func (p *parser) unescape(text []byte, at int) (string, error) {
	bad := func(i int) error {
		return &SyntaxError{Offset: at + i, Message: "an escape in a string is not one of JSON's"}
	}
	hex := func(i int) (rune, bool) {
		if i+4 > len(text) {
			return 0, false
		}
		var r rune
		for _, c := range text[i : i+4] {
			switch {
			case c >= '0' && c <= '9':
				r = r<<4 + rune(c-'0')
			case c|0x20 >= 'a' && c|0x20 <= 'f':
				r = r<<4 + rune(c|0x20-'a'+10)
			default:
				return 0, false
			}
		}
		return r, true
	}
	out := make([]byte, 0, len(text))
	for i := 0; i < len(text); i++ {
		if text[i] != '\\' {
			out = append(out, text[i])
			continue
		}
		i++
		if i >= len(text) {
			return "", bad(i)
		}
		switch c := text[i]; c {
		case '"', '\\', '/':
			out = append(out, c)
		case 'b':
			out = append(out, '\b')
		case 'f':
			out = append(out, '\f')
		case 'n':
			out = append(out, '\n')
		case 'r':
			out = append(out, '\r')
		case 't':
			out = append(out, '\t')
		case 'u':
			r, ok := hex(i + 1)
			if !ok {
				return "", bad(i)
			}
			begin := i - 1
			i += 4
			if r == 0 {
				r, p.lost = utf8.RuneError, string(text[begin:i+1])
			}
			if utf16.IsSurrogate(r) {
				second, ok := rune(0), false
				if i+2 < len(text) && text[i+1] == '\\' && text[i+2] == 'u' {
					second, ok = hex(i + 3)
				}
				if pair := utf16.DecodeRune(r, second); ok && pair != utf8.RuneError {
					r = pair
					i += 6
				} else {
					r, p.lost = utf8.RuneError, string(text[begin:i+1])
				}
			}
			out = utf8.AppendRune(out, r)
		default:
			return "", bad(i)
		}
	}
	return string(out), nil
}
