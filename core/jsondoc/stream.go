package jsondoc

import (
	"errors"
	"fmt"
	"io"
	"koinos/core/tree"
	"strconv"

	"github.com/go-json-experiment/json/jsontext"
)

// ErrTooLarge says that one value is longer than a Stream allows.
var ErrTooLarge = errors.New("one value is too large to be held")

// Value is one value of a stream.
type Value struct {
	*tree.Node
	Odd []Odd
}

// Stream returns the values of a document that a path chooses. It skips everything else.
type Stream struct {
	dec     *jsontext.Decoder
	in      *window
	path    *Path
	plain   []segment // leading steps that are walked without holding anything
	rest    *Path     // what is asked of each value found by them
	frames  []frame
	leaf    int
	parser  Parser
	begun   bool
	ready   []Value
	outside *tree.Node // the document without the streamed values, where it was asked for
}

type frame struct {
	array bool
	index int
	name  string
}

// window lets a decoder read further only while it consumes what it has read.
type window struct {
	r    io.Reader
	dec  *jsontext.Decoder
	n    int64
	most int64
}

func (w *window) Read(p []byte) (int, error) {
	if w.dec != nil && w.n-w.dec.InputOffset() > w.most {
		return 0, ErrTooLarge
	}
	n, err := w.r.Read(p)
	w.n += int64(n)
	return n, err
}

// NewStream begins to read r. It walks the path's leading names and wildcards; most is how many bytes one value may
// have. With wide set, it walks only the steps up to the first wildcard, so that values of the objects around the
// chosen ones can be read.
func NewStream(r io.Reader, path *Path, most int64, wide bool) *Stream {
	s := &Stream{path: path, in: &window{r: r, most: most}}
	s.dec = jsontext.NewDecoder(s.in, jsontext.AllowDuplicateNames(true), jsontext.AllowInvalidUTF8(true))
	s.in.dec = s.dec
	last, names := 0, 0
	for i, seg := range path.segments {
		if !seg.walkable() {
			break
		}
		names = i + 1
		if seg.selectors[0].kind == selectAll {
			last = i + 1
			if wide {
				break
			}
		}
	}
	if last == 0 {
		last = names
	}
	s.plain, s.rest = path.segments[:last], &Path{segments: path.segments[last:]}
	return s
}

// Outside makes every value of the stream part of a tree of the document without the streamed values, as an earlier
// Skeleton has read it.
func (s *Stream) Outside(root *tree.Node) { s.outside = root }

// Skeleton reads to the end and returns the document without the values that the stream would return; most limits its
// number of values.
func (s *Stream) Skeleton(most int) (*tree.Node, error) {
	n, err := s.skeleton(0, &most)
	if err == nil && n == nil {
		err = io.ErrUnexpectedEOF
	}
	return n, err
}

func (s *Stream) skeleton(depth int, most *int) (*tree.Node, error) {
	if *most--; *most < 0 {
		return nil, ErrTooLarge
	}
	kind := s.dec.PeekKind()
	container := kind == '{' || kind == '['
	if depth == len(s.plain) {
		return &tree.Node{}, s.skip()
	}
	if !container || !s.plain[depth].fits(kind == '[') {
		raw, err := s.dec.ReadValue()
		if err != nil {
			return nil, err
		}
		n, _, err := s.parser.Parse(raw, s.leaf)
		if err == nil {
			s.leaf = n.LastLeaf()
		}
		return n, err
	}
	if _, err := s.dec.ReadToken(); err != nil {
		return nil, err
	}
	n := &tree.Node{Kind: tree.Object}
	if kind == '[' {
		n.Kind = tree.Array
	}
	for i := 0; ; i++ {
		if k := s.dec.PeekKind(); k == '}' || k == ']' {
			_, err := s.dec.ReadToken()
			return n, err
		}
		name := ""
		if kind == '{' {
			t, err := s.dec.ReadToken()
			if err != nil {
				return nil, err
			}
			name = t.String()
		}
		var c *tree.Node
		var err error
		switch {
		case s.plain[depth].chooses(kind == '[', name) && depth+1 == len(s.plain):
			// A streamed value: only its place is kept.
			c, err = nil, s.skip()
		case s.plain[depth].chooses(kind == '[', name):
			c, err = s.skeleton(depth+1, most)
		default:
			var raw []byte
			if raw, err = s.dec.ReadValue(); err == nil {
				*most -= len(raw) / 16
				if c, _, err = s.parser.Parse(raw, s.leaf); err == nil {
					s.leaf = c.LastLeaf()
				}
			}
		}
		if err != nil {
			return nil, err
		}
		if c != nil {
			c.Name = name
			n.Add(c)
		} else {
			n.Pass()
		}
	}
}

// Offset is how many bytes of the text have been read.
func (s *Stream) Offset() int64 { return s.dec.InputOffset() }

// Next returns the next value; io.EOF after the last, a *SyntaxError where the
// text stops being JSON.
func (s *Stream) Next() (Value, error) {
	for {
		if len(s.ready) > 0 {
			v := s.ready[0]
			s.ready = s.ready[1:]
			return v, nil
		}
		if err := s.step(); err != nil {
			return Value{}, s.tell(err)
		}
	}
}

func (s *Stream) tell(err error) error {
	var syntax *jsontext.SyntacticError
	switch {
	case err == io.EOF || errors.Is(err, ErrTooLarge):
		return err
	case errors.As(err, &syntax):
		return &SyntaxError{int(syntax.ByteOffset), fmt.Sprintf("%v, at byte %d behind %s", syntax.Err,
			syntax.ByteOffset, pointerOr(string(syntax.JSONPointer))), string(syntax.JSONPointer)}
	case errors.Is(err, io.ErrUnexpectedEOF):
		at := s.dec.InputOffset()
		return &SyntaxError{int(at), fmt.Sprintf("the document is cut short at byte %d, behind %s", at,
			pointerOr(string(s.dec.StackPointer()))), string(s.dec.StackPointer())}
	}
	return err
}

func pointerOr(p string) string {
	if p == "" {
		return "the beginning"
	}
	return p
}

// ErrBehind says that something follows the end of the JSON value.
var ErrBehind = errors.New("something stands behind the end of the JSON value")

func (s *Stream) step() error {
	if len(s.frames) == 0 {
		if s.begun {
			// A second value, or something that is not a value at all.
			if k := s.dec.PeekKind(); k != 0 {
				return ErrBehind
			}
			if _, err := s.dec.ReadToken(); err != io.EOF {
				return ErrBehind
			}
			return io.EOF
		}
		s.begun = true
		return s.enter(0)
	}
	f := &s.frames[len(s.frames)-1]
	depth := len(s.frames) - 1
	if k := s.dec.PeekKind(); k == '}' || k == ']' {
		if _, err := s.dec.ReadToken(); err != nil {
			return err
		}
		s.frames = s.frames[:depth]
		return nil
	}
	f.index++
	if !f.array {
		t, err := s.dec.ReadToken()
		if err != nil {
			return err
		}
		f.name = t.String()
	}
	if s.plain[depth].chooses(f.array, f.name) {
		return s.enter(depth + 1)
	}
	return s.skip()
}

// enter is at a value that the first depth steps have chosen.
func (s *Stream) enter(depth int) error {
	if depth == len(s.plain) {
		return s.take()
	}
	kind := s.dec.PeekKind()
	if (kind != '{' && kind != '[') || !s.plain[depth].fits(kind == '[') {
		return s.skip()
	}
	if _, err := s.dec.ReadToken(); err != nil {
		return err
	}
	s.frames = append(s.frames, frame{array: kind == '[', index: -1})
	return nil
}

func (s *Stream) skip() error {
	raw, err := s.dec.ReadValue()
	if err != nil {
		return err
	}
	s.leaf += countLeaves(raw)
	return nil
}

func (s *Stream) take() error {
	raw, err := s.dec.ReadValue()
	if err != nil {
		return err
	}
	n, odd, err := s.parser.Parse(raw, s.leaf)
	if err != nil {
		return err
	}
	if s.outside == nil || len(s.frames) == 0 {
		n.Name = s.pointer()
	} else {
		s.attach(n)
	}
	s.leaf = n.LastLeaf()
	if len(s.rest.segments) == 0 {
		s.ready = append(s.ready, Value{n, odd})
		return nil
	}
	for _, found := range s.rest.All(n) {
		v := Value{Node: found}
		for _, t := range odd {
			if _, inside := t.Node.PointerFrom(found); inside {
				v.Odd = append(v.Odd, t)
			}
		}
		s.ready = append(s.ready, v)
	}
	return nil
}

// attach makes n part of the tree around it.
func (s *Stream) attach(n *tree.Node) {
	at := s.outside
	for _, f := range s.frames[:len(s.frames)-1] {
		var c *tree.Node
		for c = at.First(); c != nil; c = c.Next() {
			if f.array && c.Index == f.index || !f.array && c.Name == f.name {
				break
			}
		}
		if c == nil {
			n.Name = s.pointer()
			return
		}
		at = c
	}
	f := s.frames[len(s.frames)-1]
	n.Parent, n.Index, n.Name = at, f.index, f.name
}

func (s *Stream) pointer() string {
	p := ""
	for _, f := range s.frames {
		if f.array {
			p += "/" + strconv.Itoa(f.index)
		} else {
			p += "/" + tree.Token(f.name)
		}
	}
	return p
}

// countLeaves counts the scalars and empty containers of a value that is known to be JSON.
func countLeaves(raw []byte) int {
	n := 0
	for i := 0; i < len(raw); i++ {
		switch c := raw[i]; c {
		case '"':
			for i++; i < len(raw) && raw[i] != '"'; i++ {
				if raw[i] == '\\' {
					i++
				}
			}
			j := i + 1
			for j < len(raw) && (raw[j] == ' ' || raw[j] == '\n' || raw[j] == '\t' || raw[j] == '\r') {
				j++
			}
			if j >= len(raw) || raw[j] != ':' {
				n++
			}
		case '{', '[':
			j := i + 1
			for j < len(raw) && (raw[j] == ' ' || raw[j] == '\n' || raw[j] == '\t' || raw[j] == '\r') {
				j++
			}
			if j < len(raw) && (raw[j] == '}' || raw[j] == ']') {
				n++
			}
		case '}', ']', ',', ':', ' ', '\n', '\t', '\r':
		default:
			for i+1 < len(raw) && raw[i+1] != ',' && raw[i+1] != '}' && raw[i+1] != ']' && raw[i+1] > ' ' {
				i++
			}
			n++
		}
	}
	return n
}
