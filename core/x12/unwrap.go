package x12

import (
	"bufio"
	"bytes"
	"io"
)

// unwrapper returns a document without its line ends: some programs break a whole interchange into lines of one length,
// in the midst of elements.
type unwrapper struct {
	r     *bufio.Reader
	given int64   // bytes that were given
	ends  []int64 // line ends that the scanner has not come past: how many bytes were given before each
	past  int64   // line ends that it has come past
}

// Read returns what is not a line end.
func (u *unwrapper) Read(p []byte) (n int, err error) {
	for n == 0 && err == nil {
		var read int
		read, err = u.r.Read(p)
		for _, c := range p[:read] {
			if c == '\r' || c == '\n' {
				u.ends = append(u.ends, u.given)
				continue
			}
			p[n] = c
			n++
			u.given++
		}
	}
	return n, err
}

// offset is where a byte stands in the document of which so many were given; it is asked for in rising order.
func (u *unwrapper) offset(given int64) int64 {
	n := 0
	for n < len(u.ends) && u.ends[n] <= given {
		n++
	}
	u.ends, u.past = u.ends[n:], u.past+int64(n)
	return given + u.past
}

// wrapAt is how much of a document is looked at for lines of one length, and shortestLine how long these are at least.
const (
	wrapAt       = 16 << 10
	shortestLine = 20
)

// wrapped reports whether a document's beginning is broken into lines of one length, whatever stands there: an
// interchange whose segments only end lines is not.
func wrapped(head []byte, whole bool) bool {
	length, lines, within := 0, 0, false
	for rest := head; ; lines++ {
		n := bytes.IndexByte(rest, '\n')
		if n < 0 {
			// Of two lines the first may begin within one of the document; that it ends within the ISA says so.
			if lines == 0 || whole && len(rest) > length && (lines > 1 || length >= isaLength) {
				return false
			}
			break
		}
		line := bytes.TrimSuffix(rest[:n], []byte("\r"))
		switch {
		case lines == 0 || lines == 1 && len(line) > length: // it may begin within a line
			length = len(line)
		case len(line) != length && !(whole && len(line) < length && len(bytes.TrimSpace(rest[n:])) == 0):
			return false
		}
		rest = rest[n+1:]
		within = within || len(bytes.TrimSpace(rest)) > 0
	}
	if !within || length < shortestLine {
		return false
	}
	flat := bytes.NewBuffer(nil)
	for _, c := range head {
		if c != '\r' && c != '\n' {
			flat.WriteByte(c)
		}
	}
	isa := flat.Bytes()
	if len(isa) < isaLength || string(isa[:3]) != "ISA" || alphanumeric(isa[isaLength-1]) {
		return false
	}
	for _, at := range isaAt {
		if isa[at] != isa[3] {
			return false
		}
	}
	for i, c := range head { // some line ends where no segment does
		if c == '\n' && i > 0 {
			before := bytes.TrimRight(head[:i], "\r")
			if len(before) > 0 && before[len(before)-1] != isa[isaLength-1] && len(bytes.TrimSpace(head[i:])) > 0 {
				return true
			}
		}
	}
	return false
}

// begin looks at the beginning of an interchange: where it is broken into lines, they are joined from here on.
func (s *scanner) begin() error {
	if s.joined != nil {
		return nil
	}
	head, err := s.r.Peek(wrapAt)
	if err != nil && err != io.EOF && err != bufio.ErrBufferFull {
		return err
	}
	if !wrapped(head, err == io.EOF) {
		return nil
	}
	s.joined = &unwrapper{r: s.r}
	s.before, s.offset = s.offset, 0
	s.r = bufio.NewReaderSize(s.joined, 256<<10)
	return nil
}

// at is where in the document something stands that is read now.
func (s *scanner) at(offset int64) int64 {
	if s.joined == nil {
		return offset
	}
	return s.before + s.joined.offset(offset)
}
