package workbook

import (
	"bufio"
	"bytes"
	"encoding/xml"
	"io"
	"strconv"
	"unicode/utf8"
)

// Scanner splits a workbook part into tags and text. It knows as much XML as ECMA-376 parts use: elements,
// attributes, entities, CDATA, comments; namespace prefixes are dropped. A general decoder is ten times as slow, and
// reading a sheet would take that much longer.
type Scanner struct {
	r    *bufio.Reader
	Body []byte // the tag between < and >
	Text []byte // text in front of the tag
	Odd  bool   // it is not written as nearly every program does
}

// NewScanner returns a scanner of a part.
func NewScanner(r io.Reader) *Scanner { return &Scanner{r: bufio.NewReaderSize(r, 256<<10)} }

// Tag is a tag. Its name and attributes are valid until the next one is read.
type Tag struct {
	Name  []byte // without prefix
	Attrs []byte // everything behind the name
	Open  bool   // <a> or <a/>
	Close bool   // </a> or <a/>
}

// Next returns the next tag; the text in front of it is in s.Text if keep is set. What it returns is valid until the
// next call.
func (s *Scanner) Next(keep bool) (Tag, error) {
	s.Text = s.Text[:0]
	for {
		if err := s.until('<', keep, &s.Text); err != nil {
			return Tag{}, err
		}
		s.Body = s.Body[:0]
		if err := s.until('>', true, &s.Body); err != nil {
			return Tag{}, Unexpected(err)
		}
		switch {
		case bytes.HasPrefix(s.Body, []byte("!--")):
			for !bytes.HasSuffix(s.Body, []byte("--")) || len(s.Body) < 5 {
				if err := s.more(); err != nil {
					return Tag{}, err
				}
			}
			continue
		case bytes.HasPrefix(s.Body, []byte("![CDATA[")):
			for !bytes.HasSuffix(s.Body, []byte("]]")) {
				if err := s.more(); err != nil {
					return Tag{}, err
				}
			}
			if keep {
				inner := s.Body[8 : len(s.Body)-2]
				inner = bytes.ReplaceAll(inner, []byte("&"), []byte("&amp;"))
				s.Text = append(s.Text, bytes.ReplaceAll(inner, []byte("<"), []byte("&lt;"))...)
			}
			continue
		case len(s.Body) > 0 && (s.Body[0] == '?' || s.Body[0] == '!'):
			continue
		}
		for bytes.Count(s.Body, []byte{'"'})%2 == 1 || bytes.Count(s.Body, []byte{'"'}) == 0 &&
			bytes.Count(s.Body, []byte{'\''})%2 == 1 {
			if err := s.more(); err != nil { // a > inside an attribute
				return Tag{}, err
			}
		}
		return ParseTag(s.Body), nil
	}
}

// Quick lets read work on the buffered bytes, and skips as many as it returns. If it returns 0, it needs more: it gets
// as many as can be buffered.
func (s *Scanner) Quick(read func([]byte) int) (n int, err error) {
	held, _ := s.r.Peek(s.r.Buffered())
	if n = read(held); n == 0 {
		if held, err = s.r.Peek(s.r.Size()); err != nil && err != io.EOF && err != bufio.ErrBufferFull {
			return 0, err
		}
		n = read(held)
	}
	if n > 0 {
		_, err = s.r.Discard(n)
		return n, err
	}
	return n, nil
}

// more reads the text up to and including the next > into body.
func (s *Scanner) more() error {
	s.Body = append(s.Body, '>')
	return Unexpected(s.until('>', true, &s.Body))
}

// Unexpected is an error in the middle of a part, where even its end is one.
func Unexpected(err error) error {
	if err == io.EOF {
		return io.ErrUnexpectedEOF
	}
	return err
}

// tagMost is the longest tag, and the longest text between two tags.
const tagMost = 8 << 20

func (s *Scanner) until(end byte, keep bool, into *[]byte) error {
	for {
		part, err := s.r.ReadSlice(end)
		if keep {
			if err == nil {
				*into = append(*into, part[:len(part)-1]...)
			} else {
				*into = append(*into, part...)
			}
			if len(*into) > tagMost {
				return errTooLong
			}
		}
		if err != bufio.ErrBufferFull {
			return err
		}
	}
}

// ParseTag reads what stands between < and >.
func ParseTag(b []byte) Tag {
	t := Tag{Open: true}
	if len(b) > 0 && b[0] == '/' {
		t.Open, t.Close, b = false, true, b[1:]
	}
	if n := len(b); n > 0 && b[n-1] == '/' {
		t.Close, b = true, b[:n-1]
	}
	i := bytes.IndexAny(b, " \t\r\n")
	if i < 0 {
		i = len(b)
	}
	t.Name, t.Attrs = b[:i], b[i:]
	if c := bytes.IndexByte(t.Name, ':'); c >= 0 {
		t.Name = t.Name[c+1:]
	}
	return t
}

// Attr returns the raw value of the attribute with a local name, nil if absent.
func (t Tag) Attr(name string) []byte {
	b := t.Attrs
	for {
		eq := bytes.IndexByte(b, '=')
		if eq < 0 {
			return nil
		}
		key := bytes.Trim(b[:eq], " \t\r\n")
		b = bytes.TrimLeft(b[eq+1:], " \t\r\n")
		if len(b) == 0 {
			return nil
		}
		end := bytes.IndexByte(b[1:], b[0])
		if end < 0 {
			return nil
		}
		value := b[1 : 1+end]
		b = b[end+2:]
		if c := bytes.IndexByte(key, ':'); c >= 0 {
			key = key[c+1:]
		}
		if string(key) == name {
			return value
		}
	}
}

// Unescape resolves entities and, if asked, the _xHHHH_ form of ECMA-376 18.4. What is not a character is lost.
func Unescape(b []byte, hex bool) (text, lost string) {
	if bytes.IndexByte(b, '&') < 0 && !(hex && bytes.Contains(b, []byte("_x"))) {
		return string(b), ""
	}
	out := make([]byte, 0, len(b))
	for i := 0; i < len(b); i++ {
		switch {
		case b[i] == '&':
			end := bytes.IndexByte(b[i:min(len(b), i+12)], ';')
			r, ok := rune(0), false
			if end > 0 {
				r, ok = entity(string(b[i+1 : i+end]))
			}
			if !ok {
				out, lost = append(out, '&'), string(b[i:i+max(end, 0)+1])
				continue
			}
			out = utf8.AppendRune(out, r)
			i += end
		case hex && b[i] == '_' && i+6 < len(b) && b[i+1] == 'x' && b[i+6] == '_':
			n, err := strconv.ParseUint(string(b[i+2:i+6]), 16, 16)
			if err != nil {
				out = append(out, '_')
				continue
			}
			if !utf8.ValidRune(rune(n)) {
				lost = string(b[i : i+7])
			}
			out = utf8.AppendRune(out, rune(n))
			i += 6
		default:
			out = append(out, b[i])
		}
	}
	return string(out), lost
}

func entity(name string) (rune, bool) {
	switch name {
	case "amp":
		return '&', true
	case "lt":
		return '<', true
	case "gt":
		return '>', true
	case "quot":
		return '"', true
	case "apos":
		return '\'', true
	}
	if len(name) < 2 || name[0] != '#' {
		return 0, false
	}
	base, digits := 10, name[1:]
	if digits[0] == 'x' || digits[0] == 'X' {
		base, digits = 16, digits[1:]
	}
	n, err := strconv.ParseUint(digits, base, 32)
	return rune(n), err == nil && utf8.ValidRune(rune(n))
}

// Decode reads one of a workbook's small parts.
func Decode(r io.Reader, into any) error {
	d := xml.NewDecoder(r)
	d.Strict = false
	return d.Decode(into)
}
