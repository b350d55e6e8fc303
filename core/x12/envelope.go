package x12

import (
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
)

// Level says what a finding is about, and with it which list of the standard
// its code is from.
type Level string

const (
	AtInterchange Level = "interchange" // TA105, interchange note code
	AtGroup       Level = "group"       // AK905, functional group syntax error code
	AtSet         Level = "set"         // AK502, transaction set syntax error code
	AtSegment     Level = "segment"     // AK304, segment syntax error code
	AtElement     Level = "element"     // AK403, data element syntax error code
)

// Finding is one thing that is wrong with an interchange.
type Finding struct {
	Level     Level  `json:"level"`
	Code      string `json:"code" doc:"The standard's code, of the list that the level names"`
	Message   string `json:"message"`
	Place     string `json:"place" doc:"ISA 000000905 / ST 0004 / PO1 #3 / 02"`
	Offset    int64  `json:"offset" doc:"Byte of the document"`
	Row       int    `json:"row,omitempty" doc:"Segment of the document, counted from 1"`
	Segment   string `json:"segment,omitempty"`
	Position  int    `json:"position,omitempty" doc:"Of the segment in its set; ST is 1"`
	Element   int    `json:"element,omitempty" doc:"Counted from 1"`
	Component int    `json:"component,omitempty"`
	Value     string `json:"value,omitempty"`
	Group     string `json:"group,omitempty" doc:"Control number of the functional group, where the finding is about one"`
}

// Interchange is what an ISA segment says.
type Interchange struct {
	Segment                        Segment
	Delimiters                     Delimiters
	SenderQualifier, Sender        string
	ReceiverQualifier, Receiver    string
	Date, Time, Version, Control   string
	AcknowledgmentRequested, Usage string
}

// Group is what a GS segment says.
type Group struct {
	Segment                              Segment
	FunctionalID, Sender, Receiver       string
	Date, Time, Control, Agency, Version string
	Included                             string // GE01: how many sets the trailer counts
}

// Set is a transaction set, whole.
type Set struct {
	Interchange *Interchange
	Group       *Group // nil where the set stands outside of one
	ID          string // 850
	Control     string
	Segments    []Segment // ST to SE
	Findings    []Finding // of the envelope; Check has those of its content
}

// Handler takes what a Reader finds, in its order. A nil function is not called.
type Handler struct {
	Interchange func(*Interchange) error
	Group       func(*Group) error
	Set         func(*Set) error
	// Checked is Set with what Check says of the set.
	Checked func(s *Set, placed []Placed, found []Finding) error
	Answer  func(*Segment) error // a TA1, about an interchange of ours
	// GroupEnd and InterchangeEnd come with what the trailer got wrong and how
	// many sets or groups there were.
	GroupEnd       func(g *Group, sets int) error
	InterchangeEnd func(i *Interchange, groups int) error
	Finding        func(Finding) error
}

// mostControls limits the control numbers that are remembered to find one that stands twice in a group.
const mostControls = 1_000_000

// mostSegments bounds a transaction set: it is what is held.
const mostSegments = 1_000_000

// Read reads interchanges to the document's end. Its error is that of the
// stream or of the handler; what is wrong with the document goes to Finding.
func Read(r io.Reader, h Handler) error {
	e := &envelope{s: newScanner(r), h: h}
	for {
		if err := e.step(); err == io.EOF {
			return nil
		} else if err != nil {
			return err
		}
	}
}

// step takes in what comes next: a segment, or what is none. Its error is
// io.EOF at the document's end.
func (e *envelope) step() error {
	if e.i == nil {
		return e.between()
	}
	seg, err := e.s.next()
	switch {
	case err == io.EOF:
		err = e.find(Finding{Level: AtInterchange, Code: "023", Offset: e.s.offset, Row: e.s.row,
			Message: "The document ends before the interchange's IEA."})
		return errors.Join(err, e.closeSet(nil), e.closeGroup(nil), e.closeInterchange(nil))
	case err == io.ErrUnexpectedEOF || errors.Is(err, errLong):
		what := "The document ends within a segment"
		if errors.Is(err, errLong) {
			what = "No segment ends for a very long stretch"
		}
		return e.find(Finding{Level: AtInterchange, Code: "023", Offset: seg.Offset, Row: seg.Row,
			Segment: clip(seg.ID), Message: fmt.Sprintf("%s: %q …", what, clip(seg.String()))})
	case err != nil:
		return err
	}
	return e.segment(seg)
}

// between looks for the next interchange.
func (e *envelope) between() error {
	if err := e.s.blank(); err != nil {
		return err
	}
	seg, short, err := e.s.isa()
	if errors.Is(err, errNoISA) {
		at := e.s.offset
		n, sample, err := e.s.toISA()
		if err2 := e.find(Finding{Level: AtInterchange, Code: "024", Offset: at, Row: e.s.row + 1,
			Message: fmt.Sprintf("%d bytes are no interchange: %q …", n, clip(string(sample)))}); err2 != nil {
			return err2
		}
		return err
	}
	if err != nil {
		return err
	}
	return e.interchange(seg, short)
}

type envelope struct {
	s        *scanner
	h        Handler
	i        *Interchange
	g        *Group
	set      *Set
	keep     keep
	count    int // segments of the set
	usual    int // segments of the set before
	groups   int
	sets     int
	controls map[string]bool // of the group's sets
	stray    bool            // the last segment belonged nowhere, and that was said
}

func clip(s string) string {
	if r := []rune(s); len(r) > 40 {
		return string(r[:40])
	}
	return s
}

func (e *envelope) find(f Finding) error {
	var parts []string
	if e.i != nil {
		parts = append(parts, "ISA "+e.i.Control)
	}
	if e.set != nil {
		parts = append(parts, "ST "+e.set.Control)
	} else if e.g != nil {
		parts = append(parts, "GS "+e.g.Control)
	}
	if f.Level == AtGroup && e.g != nil {
		f.Group = e.g.Control
	}
	if f.Place == "" {
		f.Place = strings.Join(parts, " / ")
	}
	if f.Level == AtSet && e.set != nil {
		e.set.Findings = append(e.set.Findings, f)
	}
	if e.h.Finding == nil {
		return nil
	}
	return e.h.Finding(f)
}

// isaChecks are what the elements of an ISA segment must be, with the
// interchange note codes (TA105) of those that are not.
var isaChecks = []struct {
	element int
	code    string
	sound   func(string) bool
	must    string
}{
	{1, "010", twoOf, "a code of two characters"},
	{3, "012", twoOf, "a code of two characters"},
	{5, "005", twoOf, "a code of two characters"},
	{6, "006", filled, "the sender's id"},
	{7, "007", twoOf, "a code of two characters"},
	{8, "008", filled, "the receiver's id"},
	{9, "014", func(v string) bool { return len(v) == 6 && isDay([]byte(v)) }, "a day written YYMMDD"},
	{10, "015", func(v string) bool { return len(v) == 4 && isTime([]byte(v)) }, "a time written HHMM"},
	{12, "017", func(v string) bool { return len(v) == 5 && digits(v) }, "a version of five digits, such as 00401"},
	{13, "018", func(v string) bool { return len(v) == 9 && digits(v) }, "a control number of nine digits"},
	{14, "019", func(v string) bool { return v == "0" || v == "1" }, "0 or 1"},
	{16, "027", func(v string) bool { return len(v) == 1 && !alphanumeric(v[0]) },
		"one character that is no letter, digit or space"},
	{15, "020", func(v string) bool { return v == "P" || v == "T" || v == "I" },
		"P (production), T (test) or I (information)"},
}

func twoOf(v string) bool  { return len(strings.TrimSpace(v)) == 2 }
func filled(v string) bool { return strings.TrimSpace(v) != "" }
func digits(v string) bool { return v != "" && strings.Trim(v, "0123456789") == "" }

func (e *envelope) interchange(seg *Segment, short bool) error {
	i := &Interchange{Segment: seg.clone(), Delimiters: e.s.d}
	get := func(n int) string { return strings.TrimSpace(i.Segment.Element(n)) }
	i.SenderQualifier, i.Sender, i.ReceiverQualifier, i.Receiver = get(5), get(6), get(7), get(8)
	i.Date, i.Time, i.Version, i.Control, i.AcknowledgmentRequested, i.Usage = get(9), get(10), get(12), get(13),
		get(14), get(15)
	e.i, e.g, e.set, e.groups, e.sets, e.stray = i, nil, nil, 0, 0, false
	e.controls = map[string]bool{}
	if e.h.Interchange != nil {
		if err := e.h.Interchange(i); err != nil {
			return err
		}
	}
	for _, c := range isaChecks {
		if v := i.Segment.Element(c.element); !c.sound(v) {
			if err := e.find(Finding{Level: AtInterchange, Code: c.code, Offset: seg.Offset, Row: seg.Row,
				Segment: "ISA", Element: c.element, Value: v, Message: fmt.Sprintf("ISA%02d is %q; it must be %s.",
					c.element, v, c.must)}); err != nil {
				return err
			}
		}
	}
	if short {
		if err := e.find(Finding{Level: AtInterchange, Code: "024", Offset: seg.Offset, Row: seg.Row, Segment: "ISA",
			Message: "The elements of the ISA are not padded to their fixed lengths; the delimiters were taken from " +
				"where its sixteenth ends."}); err != nil {
			return err
		}
	}
	return nil
}

// segment puts a segment where it belongs.
func (e *envelope) segment(seg *Segment) error {
	switch seg.ID {
	case "ISA": // the one before never ended
		if err := errors.Join(e.closeSet(nil), e.closeGroup(nil)); err != nil {
			return err
		}
		if err := e.find(Finding{Level: AtInterchange, Code: "023", Offset: seg.Offset, Row: seg.Row,
			Message: "Another ISA begins before the interchange's IEA."}); err != nil {
			return err
		}
		if err := e.closeInterchange(nil); err != nil {
			return err
		}
		return e.interchange(seg, false)
	case "IEA":
		if err := errors.Join(e.closeSet(nil), e.closeGroup(nil)); err != nil {
			return err
		}
		return e.closeInterchange(seg)
	case "GS":
		if err := errors.Join(e.closeSet(nil), e.closeGroup(nil)); err != nil {
			return err
		}
		c := seg.clone()
		e.g = &Group{Segment: c, FunctionalID: c.Element(1), Sender: c.Element(2), Receiver: c.Element(3),
			Date: c.Element(4), Time: c.Element(5), Control: c.Element(6), Agency: c.Element(7), Version: c.Element(8)}
		e.groups++
		e.sets, e.controls = 0, map[string]bool{}
		if !digits(e.g.Control) || len(e.g.Control) > 9 {
			if err := e.find(Finding{Level: AtGroup, Code: "6", Offset: seg.Offset, Row: seg.Row, Segment: "GS",
				Element: 6, Value: clip(e.g.Control),
				Message: fmt.Sprintf("GS06 is %q; a control number has one to nine digits.",
					clip(e.g.Control))}); err != nil {
				return err
			}
		}
		if e.h.Group != nil {
			return e.h.Group(e.g)
		}
		return nil
	case "GE":
		if err := e.closeSet(nil); err != nil {
			return err
		}
		return e.closeGroup(seg)
	case "ST":
		if err := e.closeSet(nil); err != nil {
			return err
		}
		e.set = &Set{Interchange: e.i, Group: e.g, ID: seg.Element(1), Control: seg.Element(2),
			Segments: make([]Segment, 0, e.usual)}
		e.sets++
		e.stray = false
		if e.controls[e.set.Control] {
			if err := e.find(Finding{Level: AtSet, Code: "23", Offset: seg.Offset, Row: seg.Row, Segment: "ST",
				Position: 1, Element: 2, Value: e.set.Control,
				Message: fmt.Sprintf("The control number %q stands twice in this functional group.",
					e.set.Control)}); err != nil {
				return err
			}
		} else if len(e.controls) < mostControls {
			e.controls[e.set.Control] = true
		}
		if e.g == nil {
			if err := e.find(Finding{Level: AtInterchange, Code: "022", Offset: seg.Offset, Row: seg.Row, Segment: "ST",
				Message: "The transaction set stands outside of a functional group."}); err != nil {
				return err
			}
		}
		e.count = 0
		e.take(seg)
		return nil
	case "SE":
		if e.set != nil {
			return e.closeSet(seg)
		}
	case "TA1": // answers to interchanges stand between ISA and GS
		if e.set == nil && e.g == nil {
			if e.h.Answer != nil {
				return e.h.Answer(seg)
			}
			return nil
		}
	}
	if e.set == nil {
		if e.stray {
			return nil // its neighbours were said to belong nowhere
		}
		e.stray = true
		return e.find(Finding{Level: AtInterchange, Code: "024", Offset: seg.Offset, Row: seg.Row,
			Segment: clip(seg.ID),
			Message: fmt.Sprintf("The segment %q belongs to no transaction set; reading goes on at the next ST, GS or ISA.",
				clip(seg.String()))})
	}
	if e.count < mostSegments { // otherwise said when the set ends: its count does not agree
		e.take(seg)
	}
	return nil
}

// take adds a segment to the open set, which nobody need hold whom sets do not
// interest.
func (e *envelope) take(seg *Segment) {
	e.count++
	if e.h.Set != nil || e.h.Checked != nil {
		e.set.Segments = append(e.set.Segments, e.keep.clone(seg))
	}
}

// closeSet ends the open transaction set with its SE, or without one.
func (e *envelope) closeSet(se *Segment) error {
	if e.set == nil {
		return nil
	}
	var err error
	if se == nil {
		err = e.find(Finding{Level: AtSet, Code: "2", Offset: e.s.seg.Offset, Row: e.s.seg.Row,
			Message: "The transaction set has no SE."})
	} else {
		e.take(se)
		n := e.count
		if said, wrong := strconv.Atoi(se.Element(1)); wrong != nil || said != n {
			err = e.find(Finding{Level: AtSet, Code: "4", Offset: se.Offset, Row: se.Row, Segment: "SE", Position: n,
				Element: 1, Value: se.Element(1),
				Message: fmt.Sprintf("SE01 counts %s segments; there are %d, ST and SE included.", se.Element(1), n)})
		}
		if se.Element(2) != e.set.Control {
			err = errors.Join(err, e.find(Finding{Level: AtSet, Code: "3", Offset: se.Offset, Row: se.Row,
				Segment: "SE", Position: n, Element: 2, Value: se.Element(2),
				Message: fmt.Sprintf("The control number in SE02 is %q, in ST02 %q.", se.Element(2), e.set.Control)}))
		}
	}
	if err != nil {
		return err
	}
	set := e.set
	e.set, e.usual = nil, min(len(set.Segments), 1024) // sets of one group are much alike
	if e.h.Set != nil {
		err = e.h.Set(set)
	}
	if e.h.Checked != nil && err == nil {
		placed, found := Check(set)
		err = e.h.Checked(set, placed, found)
	}
	return err
}

func (e *envelope) closeGroup(ge *Segment) error {
	if e.g == nil {
		if ge != nil {
			return e.find(Finding{Level: AtInterchange, Code: "024", Offset: ge.Offset, Row: ge.Row, Segment: "GE",
				Message: "A GE stands where no functional group is open."})
		}
		return nil
	}
	var err error
	if ge == nil {
		err = e.find(Finding{Level: AtGroup, Code: "3", Offset: e.s.seg.Offset, Row: e.s.seg.Row,
			Message: "The functional group has no GE."})
	} else {
		e.g.Included = ge.Element(1)
		if said, wrong := strconv.Atoi(ge.Element(1)); wrong != nil || said != e.sets {
			err = e.find(Finding{Level: AtGroup, Code: "5", Offset: ge.Offset, Row: ge.Row, Segment: "GE", Element: 1,
				Value: ge.Element(1), Message: fmt.Sprintf("GE01 counts %s transaction sets; there are %d.",
					ge.Element(1), e.sets)})
		}
		if ge.Element(2) != e.g.Control {
			err = errors.Join(err, e.find(Finding{Level: AtGroup, Code: "4", Offset: ge.Offset, Row: ge.Row,
				Segment: "GE", Element: 2, Value: ge.Element(2),
				Message: fmt.Sprintf("The control number in GE02 is %q, in GS06 %q.", ge.Element(2), e.g.Control)}))
		}
	}
	if err != nil {
		return err
	}
	g := e.g
	e.g = nil
	if e.h.GroupEnd != nil {
		return e.h.GroupEnd(g, e.sets)
	}
	return nil
}

func (e *envelope) closeInterchange(iea *Segment) error {
	var err error
	if iea != nil {
		if said, wrong := strconv.Atoi(iea.Element(1)); wrong != nil || said != e.groups {
			err = e.find(Finding{Level: AtInterchange, Code: "021", Offset: iea.Offset, Row: iea.Row, Segment: "IEA",
				Element: 1, Value: iea.Element(1),
				Message: fmt.Sprintf("IEA01 counts %s functional groups; there are %d.", iea.Element(1), e.groups)})
		}
		if iea.Element(2) != e.i.Control {
			err = errors.Join(err, e.find(Finding{Level: AtInterchange, Code: "001", Offset: iea.Offset, Row: iea.Row,
				Segment: "IEA", Element: 2, Value: iea.Element(2),
				Message: fmt.Sprintf("The control number in IEA02 is %q, in ISA13 %q.", iea.Element(2), e.i.Control)}))
		}
	}
	if err != nil {
		return err
	}
	i := e.i
	e.i = nil
	if e.h.InterchangeEnd != nil {
		return e.h.InterchangeEnd(i, e.groups)
	}
	return nil
}
