package x12

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math/bits"
	"slices"
	"unicode/utf8"
)

// Delimiters are the characters that part an interchange. Repetition is 0
// before version 00402, which has none.
type Delimiters struct {
	Element, Component, Repetition, Segment byte
}

// Segment is one segment as it stands. Its bytes are valid until the next one
// is read, unless it was cloned.
type Segment struct {
	ID     string
	Offset int64    // of its first byte in the document
	Row    int      // which segment of the document it is, counted from 1
	raw    []byte   // without the terminator
	ends   []uint32 // where the id and each element end in raw
}

// Len is how many elements there are, blank ones included.
func (s *Segment) Len() int { return len(s.ends) - 1 }

// filled is how many elements are not blank.
func (s *Segment) filled() (n int) {
	for i := 1; i < len(s.ends); i++ {
		if s.ends[i] > s.ends[i-1]+1 {
			n++
		}
	}
	return n
}

// Bytes returns the nth element, counted from 1 as the standard does; nil if there is none.
func (s *Segment) Bytes(n int) []byte {
	if n < 1 || n >= len(s.ends) {
		return nil
	}
	return s.raw[s.ends[n-1]+1 : s.ends[n]]
}

// Element is Bytes as text.
func (s *Segment) Element(n int) string { return string(s.Bytes(n)) }

// Text reports whether the bytes of the segment are text in UTF-8.
func (s *Segment) Text() bool { return utf8.Valid(s.raw) }

// String is the segment as it stands, without its terminator.
func (s *Segment) String() string { return string(s.raw) }

func (s *Segment) clone() Segment {
	return Segment{ID: s.ID, Offset: s.Offset, Row: s.Row, raw: bytes.Clone(s.raw), ends: slices.Clone(s.ends)}
}

// keep holds copies of segments in slabs: a set has very many of them.
type keep struct {
	raw  []byte
	ends []uint32
}

func (k *keep) clone(s *Segment) Segment {
	if cap(k.raw)-len(k.raw) < len(s.raw) {
		k.raw = make([]byte, 0, max(16<<10, len(s.raw)))
	}
	if cap(k.ends)-len(k.ends) < len(s.ends) {
		k.ends = make([]uint32, 0, max(4<<10, len(s.ends)))
	}
	r, e := len(k.raw), len(k.ends)
	k.raw, k.ends = append(k.raw, s.raw...), append(k.ends, s.ends...)
	return Segment{ID: s.ID, Offset: s.Offset, Row: s.Row, raw: k.raw[r:len(k.raw):len(k.raw)],
		ends: k.ends[e:len(k.ends):len(k.ends)]}
}

// cut finds where the id and the elements end. It looks at eight bytes at a
// time: elements are too short for bytes.IndexByte to pay.
func (s *Segment) cut(element byte) {
	const low, high = 0x7f7f7f7f7f7f7f7f, 0x8080808080808080
	raw, ends, n := s.raw, s.ends[:cap(s.ends)], 0
	wanted := uint64(element) * 0x0101010101010101
	i := 0
	for ; i+8 <= len(raw); i += 8 {
		if n+9 > len(ends) {
			ends = append(ends, make([]uint32, 32+len(ends))...)
		}
		w := binary.LittleEndian.Uint64(raw[i:]) ^ wanted
		// a high bit for each byte that is the separator
		for hit := ^((w&low + low) | w) & high; hit != 0; hit &= hit - 1 {
			ends[n] = uint32(i + bits.TrailingZeros64(hit)>>3)
			n++
		}
	}
	if n+9 > len(ends) {
		ends = append(ends, make([]uint32, 32+len(ends))...)
	}
	for ; i < len(raw); i++ {
		if raw[i] == element {
			ends[n] = uint32(i)
			n++
		}
	}
	ends[n] = uint32(len(raw))
	s.ends = ends[:n+1]
	s.ID = segmentID(raw[:ends[0]])
}

// idTable holds the known ids where their letters point; of those that share a
// place one is found, the others are made anew each time.
var idTable [4096]struct {
	key uint32
	id  string
}

// idKey packs an id of two or three letters; 0 is another one.
func idKey(b []byte) uint32 {
	switch len(b) {
	case 2:
		return uint32(b[0])<<8 | uint32(b[1])
	case 3:
		return uint32(b[0])<<16 | uint32(b[1])<<8 | uint32(b[2])
	}
	return 0
}

func idPlace(key uint32) uint32 { return key * 2654435761 >> 20 }

// segmentID returns the id as a string without allocating for those that are known.
func segmentID(b []byte) string {
	if key := idKey(b); key != 0 {
		if known := &idTable[idPlace(key)]; known.key == key {
			return known.id
		}
	}
	return string(b)
}

const (
	isaLength = 106 // fixed by the standard, terminator included
	// mostSegment bounds a segment; the longest that the standard allows is far shorter.
	mostSegment = 1 << 20
)

// isaAt are the offsets of the element separators of an ISA segment.
var isaAt = [16]int{3, 6, 17, 20, 31, 34, 50, 53, 69, 76, 81, 83, 89, 99, 101, 103}

var (
	// errNoISA says that what follows is not an interchange.
	errNoISA = errors.New("no interchange begins here")
	// errLong says that no segment terminator comes for very long.
	errLong = fmt.Errorf("no segment terminator within %d bytes", mostSegment)
)

// scanner cuts a stream into segments.
type scanner struct {
	r      *bufio.Reader
	offset int64 // of what is read next
	row    int   // segments read so far
	d      Delimiters
	seg    Segment
	held   []byte // of a segment that does not fit the buffer
	win    []byte // r's buffer, as it was when it was filled
	used   int    // how much of win was taken, without r knowing

	joined *unwrapper // where the document is broken into lines of one length
	before int64      // where that begins
}

// sync lets r know what was taken of its buffer.
func (s *scanner) sync() error {
	n := s.used
	s.win, s.used = nil, 0
	_, err := s.r.Discard(n)
	return err
}

func newScanner(r io.Reader) *scanner { return &scanner{r: bufio.NewReaderSize(r, 256<<10)} }

// isa reads the ISA segment that must come next and takes the delimiters from
// its fixed positions. A malformed one gives what can be made of it with short
// set, or errNoISA.
func (s *scanner) isa() (seg *Segment, short bool, err error) {
	if err := s.sync(); err != nil {
		return nil, false, err
	}
	head, err := s.r.Peek(isaLength)
	if len(head) < 4 || string(head[:3]) != "ISA" {
		if err == nil || len(head) > 0 {
			err = errNoISA
		}
		return nil, false, err
	}
	fixed := len(head) == isaLength
	for _, at := range isaAt {
		fixed = fixed && head[at] == head[3]
	}
	s.d = Delimiters{Element: head[3]}
	length := isaLength
	if fixed {
		s.d.Component, s.d.Segment = head[104], head[105]
	} else { // its elements are not padded: the sixteenth is one character, then comes the terminator
		head, _ = s.r.Peek(4 * isaLength)
		n, at := 0, -1
		for i, c := range head {
			if c == s.d.Element {
				if n++; n == 16 {
					at = i
					break
				}
			}
		}
		if at < 0 || at+2 >= len(head) {
			return nil, true, errNoISA
		}
		s.d.Component, s.d.Segment = head[at+1], head[at+2]
		length = at + 3
	}
	if s.d.Segment == s.d.Element || s.d.Segment == s.d.Component || s.d.Component == s.d.Element ||
		alphanumeric(s.d.Element) || alphanumeric(s.d.Segment) {
		return nil, true, errNoISA
	}
	for _, c := range []byte(":>\\|") { // one that parts nothing: a letter or digit cannot
		if alphanumeric(s.d.Component) && c != s.d.Element && c != s.d.Segment {
			s.d.Component = c
		}
	}
	s.seg.raw = append(s.held[:0], head[:length-1]...)
	s.held = s.seg.raw
	s.seg.Offset = s.at(s.offset)
	s.row++
	s.seg.Row = s.row
	s.seg.cut(s.d.Element)
	if _, err := s.r.Discard(length); err != nil {
		return nil, short, err
	}
	s.offset += int64(length)
	if version := s.seg.Element(12); version >= "00402" && len(s.seg.Bytes(11)) == 1 &&
		!alphanumeric(s.seg.Bytes(11)[0]) {
		s.d.Repetition = s.seg.Bytes(11)[0]
	}
	return &s.seg, !fixed, nil
}

func alphanumeric(c byte) bool {
	return c >= '0' && c <= '9' || c >= 'A' && c <= 'Z' || c >= 'a' && c <= 'z' || c == ' '
}

// next returns the next segment. Line ends between segments are passed over.
// The error is io.EOF at the end, io.ErrUnexpectedEOF with what is left of a
// segment without a terminator, or errLong.
func (s *scanner) next() (*Segment, error) {
	rest := s.win[s.used:]
	if n := bytes.IndexByte(rest, s.d.Segment); n >= 0 {
		raw := rest[:n]
		s.used += n + 1
		lead := 0
		for lead < n && raw[lead] <= ' ' && isBlank(raw[lead]) {
			lead++
		}
		s.seg.Offset = s.at(s.offset + int64(lead))
		s.offset += int64(n) + 1
		s.row++
		s.seg.Row = s.row
		s.seg.raw = raw[lead:]
		s.seg.cut(s.d.Element)
		return &s.seg, nil
	}
	return s.slow()
}

// slow is next where the segment's end is not in the buffer.
func (s *scanner) slow() (*Segment, error) {
	if err := s.sync(); err != nil {
		return nil, err
	}
	raw, err := s.r.ReadSlice(s.d.Segment)
	if err == bufio.ErrBufferFull {
		s.held = append(s.held[:0], raw...)
		for err == bufio.ErrBufferFull && len(s.held) < mostSegment {
			raw, err = s.r.ReadSlice(s.d.Segment)
			s.held = append(s.held, raw...)
		}
		raw = s.held
		if err == bufio.ErrBufferFull {
			err = errLong
		}
	}
	read := int64(len(raw))
	if err == nil {
		raw = raw[:len(raw)-1]
	}
	lead := 0
	for lead < len(raw) && raw[lead] <= ' ' && isBlank(raw[lead]) {
		lead++
	}
	s.seg.Offset = s.at(s.offset + int64(lead))
	s.offset += read
	raw = raw[lead:]
	if err != nil && len(raw) == 0 {
		return nil, err // only line ends were left
	}
	if err == io.EOF {
		err = io.ErrUnexpectedEOF
	}
	s.row++
	s.seg.Row = s.row
	s.seg.raw = raw
	s.seg.cut(s.d.Element)
	s.win, _ = s.r.Peek(s.r.Buffered())
	return &s.seg, err
}

func isBlank(c byte) bool { return c == '\r' || c == '\n' || c == ' ' || c == '\t' }

// Between interchanges stand a byte order mark and, in files of old systems, the character that ended one (Ctrl-Z).
const (
	byteOrderMark = "\ufeff"
	endOfFile     = 0x1a
)

// blank passes over line ends, spaces and the like between interchanges.
func (s *scanner) blank() error {
	if err := s.sync(); err != nil {
		return err
	}
	for {
		c, err := s.r.ReadByte()
		if err != nil {
			return err
		}
		if isBlank(c) || c == endOfFile {
			s.offset++
			continue
		}
		if err := s.r.UnreadByte(); err != nil {
			return err
		}
		if mark, _ := s.r.Peek(len(byteOrderMark)); string(mark) != byteOrderMark {
			return s.begin()
		}
		if _, err := s.r.Discard(len(byteOrderMark)); err != nil {
			return err
		}
		s.offset += int64(len(byteOrderMark))
	}
}

// toISA passes over what is not an interchange, up to the next "ISA" and a separator, and returns how much that was and
// how it begins.
func (s *scanner) toISA() (skipped int64, sample []byte, err error) {
	if err := s.sync(); err != nil {
		return 0, nil, err
	}
	for {
		held, err := s.r.Peek(64 << 10)
		if len(held) == 0 {
			return skipped, sample, err
		}
		at := -1
		for from := 0; ; {
			i := bytes.Index(held[from:], []byte("ISA"))
			if i < 0 {
				break
			}
			if i += from; i+3 < len(held) && !alphanumeric(held[i+3]) && (skipped+int64(i) > 0) {
				at = i
				break
			}
			from = i + 3
		}
		n := at
		if at < 0 {
			n = max(len(held)-3, 1)
			if err != nil {
				n = len(held)
			}
		}
		if len(sample) < 40 {
			sample = append(sample, held[:min(n, 40)]...)
		}
		if _, err := s.r.Discard(n); err != nil {
			return skipped, sample, err
		}
		skipped += int64(n)
		s.offset += int64(n)
		if at >= 0 {
			return skipped, sample, nil
		}
	}
}

// one is a byte as text, as it stands.
func one(b byte) string { return string([]byte{b}) }
