package x12

import "io"

// Reader returns the transaction sets of a document one after another.
type Reader struct {
	e     *envelope
	sets  []*Set
	found []Finding
}

// NewReader begins to read a document.
func NewReader(r io.Reader) *Reader {
	x := &Reader{}
	x.e = &envelope{s: newScanner(r), h: Handler{
		Set:     func(s *Set) error { x.sets = append(x.sets, s); return nil },
		Finding: func(f Finding) error { x.found = append(x.found, f); return nil },
	}}
	return x
}

// Next returns the next set with what was found about envelopes since the last
// one; at the end what is left of that comes with io.EOF.
func (x *Reader) Next() (*Set, []Finding, error) {
	x.found = nil
	for len(x.sets) == 0 {
		if err := x.e.step(); err != nil {
			return nil, x.found, err
		}
	}
	s := x.sets[0]
	x.sets = x.sets[1:]
	return s, x.found, nil
}

// Segments returns the segments of a document as they stand, whatever is wrong
// with them; what is no interchange comes as a segment of its first bytes.
type Segments struct {
	s      *scanner
	inside bool
}

// NewSegments begins to read a document.
func NewSegments(r io.Reader) *Segments { return &Segments{s: newScanner(r)} }

// Next returns the next segment; it is valid until the one after. The error is
// io.EOF or that of the stream.
func (x *Segments) Next() (*Segment, error) {
	if x.inside {
		seg, err := x.s.next()
		if err == io.EOF {
			return nil, io.EOF
		}
		if seg != nil && (err == nil || err == io.ErrUnexpectedEOF || err == errLong) {
			x.inside = seg.ID != "IEA"
			return seg, nil
		}
		return nil, err
	}
	if err := x.s.blank(); err != nil {
		return nil, err
	}
	seg, _, err := x.s.isa()
	if err == nil {
		x.inside = true
		return seg, nil
	}
	if err != errNoISA {
		return nil, err
	}
	_, sample, err := x.s.toISA()
	if err != nil && err != io.EOF {
		return nil, err
	}
	return &Segment{ID: printable(clip(string(sample))), Row: x.s.row + 1, ends: []uint32{0}}, nil
}

// Rejecting reports whether a finding makes its transaction set one that an
// acknowledgement rejects: its envelope is wrong, or something mandatory is
// missing from it.
func Rejecting(f *Finding) bool {
	return f.Level == AtSet || f.Level == AtSegment && f.Code == "3" || f.Level == AtElement && f.Code == "1"
}

// Rejected reports whether any of the findings about a set is.
func Rejected(found []Finding) bool {
	for i := range found {
		if Rejecting(&found[i]) {
			return true
		}
	}
	return false
}
