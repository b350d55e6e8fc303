package source

import (
	"bytes"
	"io"
	"strings"

	"koinos/core/finding"
	"koinos/core/origin"
	"koinos/core/tree"
	"koinos/core/x12"
)

// isX12 reports whether a document begins like an interchange.
func isX12(head []byte) bool {
	head = bytes.TrimLeft(bytes.TrimPrefix(head, []byte("\xef\xbb\xbf")), " \t\r\n")
	if len(head) < 16 || !bytes.HasPrefix(head, []byte("ISA")) {
		return false
	}
	c := head[3]
	return !(c >= '0' && c <= '9' || c|0x20 >= 'a' && c|0x20 <= 'z' || c == ' ') &&
		bytes.Count(head[:min(len(head), 120)], head[3:4]) > 3
}

// x12Reader returns the transaction sets of one kind as records: trees of segments. What is wrong with a set belongs to
// its record; what is wrong with the envelopes belongs to the next one, or to a broken record at the end.
type x12Reader struct {
	r      *x12.Reader
	doc    func() io.Reader      // the document from its beginning
	bad    map[int64]x12.Finding // groups that are rejected, by where they begin; nil before that was looked at
	opt    Options
	ready  []Record
	around []finding.Finding // of envelopes, for a record of their own
	said   string            // control number of a group that is rejected, where its sets say so
	read   int64
	size   int64
	sets   int
	row    int
}

func openX12(r io.ReaderAt, size int64, opt Options) Reader {
	x := &x12Reader{opt: opt, size: size}
	shape := Shape{Encoding: opt.Encoding}
	x.r = x12.NewReader(shape.decode(&counter{io.NewSectionReader(r, 0, size), &x.read}))
	x.doc = func() io.Reader { return shape.decode(io.NewSectionReader(r, 0, size)) }
	return x
}

// judge finds the groups that are rejected. The reason may follow their sets, so the envelopes of the whole document
// are read before the first set is returned.
func (x *x12Reader) judge() error {
	x.bad = map[int64]x12.Finding{}
	at := int64(0)
	return x12.Read(x.doc(), x12.Handler{
		Group: func(g *x12.Group) error {
			at = g.Segment.Offset
			return nil
		},
		Finding: func(f x12.Finding) error {
			if f.Level == x12.AtGroup {
				if _, known := x.bad[at]; !known {
					x.bad[at] = f
				}
			}
			return nil
		},
	})
}

func (x *x12Reader) Offset() float64 { return share(x.read, x.size) }

func (x *x12Reader) Next() (Record, error) {
	if x.bad == nil {
		if err := x.judge(); err != nil {
			return Record{}, finding.Fatal(finding.DocumentBroken, origin.Place{}, "The document cannot be read: %v.", err)
		}
	}
	for len(x.ready) == 0 {
		set, found, err := x.r.Next()
		for i := range found {
			if found[i].Level == x12.AtInterchange || found[i].Level == x12.AtGroup && x.said != found[i].Group {
				x.around = append(x.around, FindingOf(&found[i]))
				x.row = max(x.row, found[i].Row)
			}
		}
		if err == io.EOF {
			if x.apart(); len(x.ready) > 0 {
				break
			}
			return Record{}, io.EOF
		}
		if err != nil {
			return Record{}, finding.Fatal(finding.DocumentBroken, origin.Place{}, "The document cannot be read: %v.",
				err)
		}
		x.apart()
		x.row = set.Segments[len(set.Segments)-1].Row
		if x.opt.Set != "" && set.ID != x.opt.Set {
			continue
		}
		if x.sets++; x.opt.Limits.Rows > 0 && x.row > x.opt.Limits.Rows {
			return Record{}, tooLarge(origin.Place{Row: x.row}, "The document has more than %d segments.",
				x.opt.Limits.Rows)
		}
		x.take(set)
	}
	rec := x.ready[0]
	x.ready = x.ready[1:]
	return rec, nil
}

// apart makes a record of its own of what is wrong with envelopes, because no set near by is to blame.
func (x *x12Reader) apart() {
	if len(x.around) == 0 {
		return
	}
	rec := Record{Row: max(x.row, 1), Broken: true, Findings: x.around}
	for i := range rec.Findings {
		rec.Findings[i].Severity = finding.Error
	}
	x.around, x.ready = nil, append(x.ready, rec)
}

func (x *x12Reader) take(set *x12.Set) {
	placed, found := x12.Check(set)
	root := x12.Tree(set, placed)
	rec := Record{Row: set.Segments[0].Row, Last: x.row, Node: root}
	x.said = ""
	if set.Group != nil {
		if f, bad := x.bad[set.Group.Segment.Offset]; bad {
			no := finding.New(finding.X12Rejected, origin.Place{Row: rec.Row, Segment: "ST " + set.Control}, set.Group.Control,
				"The functional group %s is rejected, and this set with it: %s (group %s)", set.Group.Control, f.Message, f.Code)
			rec.Findings = append(rec.Findings, no)
			x.said = set.Group.Control
		}
	}
	found = append(found, x12.CheckCount(set, placed)...)
	for i := range found {
		rec.Findings = append(rec.Findings, FindingOf(&found[i]))
	}
	for i := range set.Segments {
		s := &set.Segments[i]
		if s.Text() {
			continue
		}
		f := finding.New(finding.EncodingInvalid, origin.Place{Row: s.Row}, strings.ToValidUTF8(s.String(), "\uFFFD"),
			"%s has bytes that are not UTF-8: %s.", s.ID, oddBytes([]byte(s.String())))
		f.Severity = finding.Error // as nobody knows what the partner's letters are, a number could be another's
		f.Hint = "Say characters: {set: latin-1} of the partner, or document: {encoding: windows-1252} in the " +
			"mapping, if that is what it writes."
		rec.Findings = append(rec.Findings, f)
	}
	if x.opt.Loops == nil {
		if x.opt.Parts != nil {
			if parts := x.opt.Parts.of(&rec); parts != nil {
				x.ready = append(x.ready, parts...)
				return
			}
		}
		x.ready = append(x.ready, rec)
		return
	}
	loops := x.opt.Loops.All(root)
	if len(loops) == 0 { // the set says something nevertheless
		x.ready = append(x.ready, rec)
	}
	for i, all := range x.together(loops) {
		last := all[len(all)-1]
		part := Record{Row: all[0].Leaf, Last: last.LastLeaf(), Node: all[0]}
		if len(all) > 1 {
			part.Node = all[0].With(all[1:]...)
		}
		if i == 0 {
			part.Findings = rec.Findings
		}
		x.ready = append(x.ready, part)
	}
}

// together combines loops that are one record, in the order of the first of each.
func (x *x12Reader) together(loops []*tree.Node) (all [][]*tree.Node) {
	at := map[string]int{}
	for _, n := range loops {
		key, said := "", false
		for _, a := range x.opt.Same {
			value := ""
			if v := a.First(n); v != nil {
				value, said = strings.ToLower(strings.TrimSpace(v.Text)), true // as numbers of orders are compared
			}
			key += value + "\x00"
		}
		if k, known := at[key]; said && known {
			all[k] = append(all[k], n)
			continue
		}
		at[key] = len(all)
		all = append(all, []*tree.Node{n})
	}
	return all
}

// FindingOf is a finding of X12 as documents of every form have them.
func FindingOf(f *x12.Finding) finding.Finding {
	code := finding.X12Noted
	switch {
	case f.Level == x12.AtInterchange || f.Level == x12.AtGroup:
		code = finding.X12Envelope
	case x12.Rejecting(f):
		code = finding.X12Rejected
	}
	return finding.New(code, PlaceOfX12(f), f.Value, "%s (%s %s)", f.Message, f.Level, f.Code)
}

// PlaceOfX12 is the place of a finding of X12: the segment is the row.
func PlaceOfX12(f *x12.Finding) origin.Place {
	at := origin.Place{Row: f.Row, Segment: f.Place}
	if f.Element > 0 {
		at.Column = f.Element + 1
	}
	return at
}

// segmentRows returns an interchange as a table for people: a row for each segment, with its id and then its elements.
type segmentRows struct {
	s    *x12.Segments
	read int64
	size int64
}

func openSegments(r io.ReaderAt, size int64) Reader {
	s := &segmentRows{size: size}
	s.s = x12.NewSegments(&counter{io.NewSectionReader(r, 0, size), &s.read})
	return s
}

func (s *segmentRows) Offset() float64 { return share(s.read, s.size) }

func (s *segmentRows) Next() (Record, error) {
	seg, err := s.s.Next()
	if err == io.EOF {
		return Record{}, io.EOF
	}
	if err != nil {
		return Record{}, finding.Fatal(finding.DocumentBroken, origin.Place{}, "The document cannot be read: %v.", err)
	}
	rec := Record{Row: seg.Row, Cells: make([]Cell, 1, seg.Len()+1)}
	rec.Cells[0].Text = seg.ID
	if limit := s.limit(); len(rec.Cells[0].Text) > limit {
		rec.Cells[0].Text = finding.Clip(seg.ID, limit)
	}
	for n := 1; n <= seg.Len(); n++ {
		rec.Cells = append(rec.Cells, Cell{Text: finding.Clip(seg.Element(n), s.limit())})
	}
	return rec, nil
}

func (s *segmentRows) limit() int { return 32_767 }
