package x12

import (
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Answer is what an acknowledgement needs besides what it answers.
type Answer struct {
	Interchange, Group int // control numbers of the answer, each used once only
	At                 time.Time
	Implementation     bool // a 999 instead of a 997
	Duplicate          bool // the interchange has come before: only a TA1 says so
}

// Acknowledge writes the answers to the interchanges of a document: a TA1 where
// the interchange asks for one or is wrong itself, and a 997 or 999 for each
// functional group, in the delimiters and version of what it answers. A transaction set is
// rejected (AK501 R) where its envelope is wrong, the dictionary does not have
// it, or something mandatory is missing; with other errors it is accepted, but
// they are noted (E). A group whose trailer is wrong or missing is rejected with
// all its sets. Groups of acknowledgements are not acknowledged. next
// gives the control numbers for an answer of so many groups; it is not asked
// where nothing is answered.
func Acknowledge(w io.Writer, r io.Reader, next func(groups int) (Answer, error)) error {
	replies, err := Judge(r)
	if err != nil {
		return err
	}
	for _, reply := range replies {
		if !reply.Needed() {
			continue
		}
		answer, err := next(reply.Groups())
		if err != nil {
			return err
		}
		if err := reply.Write(w, answer); err != nil {
			return err
		}
	}
	return nil
}

// Judge reads a document and works out what is to be answered to each of its
// interchanges.
func Judge(r io.Reader) (replies []*Reply, err error) {
	var a *Reply
	err = Read(r, Handler{
		Interchange: func(i *Interchange) error {
			a = &Reply{i: i}
			replies = append(replies, a)
			return nil
		},
		Group: func(g *Group) error {
			a.g = &groupAnswer{group: g}
			a.groups = append(a.groups, a.g)
			return nil
		},
		Set: func(s *Set) error {
			if a.g != nil {
				a.g.set(s)
			}
			return nil
		},
		GroupEnd: func(_ *Group, sets int) error {
			a.g.received = sets
			a.g = nil
			return nil
		},
		InterchangeEnd: func(*Interchange, int) error {
			a.ended = true
			return nil
		},
		Finding: func(f Finding) error {
			if a == nil {
				return nil // before any interchange there is nobody to answer
			}
			switch {
			case f.Level == AtInterchange && a.note == "":
				a.note = f.Code
			case f.Level == AtGroup && a.g != nil:
				a.g.codes = append(a.g.codes, f.Code)
			}
			return nil
		},
	})
	return slices.DeleteFunc(replies, func(r *Reply) bool { return !r.ended }), err
}

// Reply is what is to be answered to an interchange.
type Reply struct {
	i      *Interchange
	note   string // TA105
	groups []*groupAnswer
	g      *groupAnswer // the open one
	ended  bool
}

// Groups is how many groups the answer has: each needs a control number.
func (a *Reply) Groups() int { return len(a.answered()) }

// Needed reports whether anything is to be answered.
func (a *Reply) Needed() bool { return a.Groups() > 0 || a.asked() }

// answered are the groups that are acknowledged.
func (a *Reply) answered() (groups []*groupAnswer) {
	for _, g := range a.groups {
		if g.group.FunctionalID != "FA" {
			groups = append(groups, g)
		}
	}
	return groups
}

// asked reports whether the interchange itself is answered, with a TA1.
func (a *Reply) asked() bool { return a.i.AcknowledgmentRequested == "1" || a.note != "" }

type groupAnswer struct {
	group              *Group
	body               []string // AK2 to AK5 of every set
	codes              []string
	received, accepted int
	noted              bool
}

// mostNotes bounds the notes about one transaction set.
const mostNotes = 500

// set notes what is wrong with a set.
func (g *groupAnswer) set(s *Set) {
	_, found := Check(s)
	id, control := clean(s.ID, 3), clean(s.Control, 9)
	if len(id) < 3 { // what is not there cannot be said back, and something must stand there
		id = "000"
	}
	for len(control) < 4 {
		control = "0" + control
	}
	g.body = append(g.body, "AK2*"+id+"*"+control)
	outcome, codes := "A", []string{}
	note := func(code string) {
		for _, c := range codes {
			if c == code {
				return
			}
		}
		if len(codes) < 5 {
			codes = append(codes, code)
		}
	}
	open := "" // the AK3 that AK4s belong to
	for n, f := range found {
		if Rejecting(&f) {
			outcome = "R"
		} else if outcome == "A" {
			outcome = "E"
		}
		if f.Level == AtSet {
			note(f.Code)
			continue
		}
		note("5")
		if n >= mostNotes {
			continue
		}
		if f.Level == AtSegment {
			open = ""
			g.body = append(g.body, "AK3*"+padded(clean(f.Segment, 3))+"*"+strconv.Itoa(f.Position)+"**"+f.Code)
			continue
		}
		if key := fmt.Sprint(f.Position); open != key {
			open = key
			g.body = append(g.body, "AK3*"+padded(clean(f.Segment, 3))+"*"+key+"**8")
		}
		at := strconv.Itoa(min(f.Element, 99))
		if f.Component > 0 {
			at += ":" + strconv.Itoa(min(f.Component, 99))
		}
		ref := ""
		if def := segments[f.Segment]; def != nil && f.Element <= len(def.elements) {
			if r := def.elements[f.Element-1].ref; strings.Trim(r, "0123456789") == "" {
				ref = r
			}
		}
		ak4 := "AK4*" + at + "*" + ref + "*" + f.Code
		if bad := clean(f.Value, 99); bad != "" {
			ak4 += "*" + bad
		}
		g.body = append(g.body, ak4)
	}
	g.body = append(g.body, strings.TrimRight("AK5*"+outcome+"*"+strings.Join(codes, "*"), "*"))
	if outcome != "R" {
		g.accepted++
	}
	g.noted = g.noted || outcome == "E"
}

// padded makes an id of one character, or of none, one that may be written.
func padded(id string) string {
	return (id + "ZZ")[:max(len(id), 2)]
}

// number9 is a control number of a group as it may be written; what is none is 0.
func number9(s string) string {
	if digits(s) && len(s) <= 9 {
		return s
	}
	return "0"
}

// clean is a value of what is answered, without anything that could be taken
// for a delimiter of the answer.
func clean(s string, most int) string {
	s = strings.Map(func(r rune) rune {
		if r < ' ' || r > '~' || strings.ContainsRune("*~:^|", r) {
			return -1
		}
		return r
	}, s)
	return s[:min(len(s), most)]
}

// Write writes the answer, or nothing where nothing is to be answered.
func (a *Reply) Write(w io.Writer, answer Answer) error {
	groups, asked := a.answered(), a.asked()
	if !a.Needed() {
		return nil
	}
	if answer.Duplicate {
		a.note, asked, groups, a.groups = "025", true, nil, nil
	}
	i, d := a.i, a.i.Delimiters
	out := func(text string) string { // written with * and :, sent with the partner's
		return strings.NewReplacer("*", one(d.Element), ":", one(d.Component)).Replace(text) + one(d.Segment)
	}
	pad := func(s string, n int) string { return fmt.Sprintf("%-*.*s", n, n, s) }
	element := func(n int) string { return i.Segment.Element(n) }
	date, clock := answer.At.Format("060102"), answer.At.Format("1504")
	repetition := "U"
	if d.Repetition != 0 {
		repetition = one(d.Repetition)
	}
	control := fmt.Sprintf("%09d", answer.Interchange)
	var b strings.Builder
	b.WriteString(strings.ReplaceAll(strings.Join([]string{"ISA", "00", pad("", 10), "00", pad("", 10), pad(element(7), 2), pad(element(8), 15), pad(element(5), 2), pad(element(6), 15),
		date, clock, repetition, pad(element(12), 5), control, "0", pad(i.Usage, 1), one(d.Component)}, "\x00"), "\x00", one(d.Element)) + one(d.Segment))
	if asked {
		outcome, note := "A", "000"
		if a.note != "" {
			outcome, note = "E", a.note
			if len(a.groups) == 0 {
				outcome = "R"
			}
		}
		b.WriteString(out(fmt.Sprintf("TA1*%s*%s*%s*%s*%s", clean(i.Control, 9), clean(i.Date, 6), clean(i.Time, 4), outcome, note)))
	}
	for n, g := range groups {
		number := strconv.Itoa(answer.Group + n)
		b.WriteString(out("GS*FA*" + clean(g.group.Receiver, 15) + "*" + clean(g.group.Sender, 15) + "*" + answer.At.Format("20060102") + "*" + clock + "*" + number + "*X*" + clean(g.group.Version, 12)))
		kind, version := "997", ""
		if answer.Implementation {
			kind, version = "999", "*"+clean(g.group.Version, 12)
			for k, s := range g.body { // the same notes under other names
				if rest, ok := strings.CutPrefix(s, "AK"); ok && s[2] != '2' {
					g.body[k] = "IK" + rest
				}
			}
		}
		body := append([]string{"ST*" + kind + "*0001", "AK1*" + padded(clean(g.group.FunctionalID, 2)) + "*" + number9(g.group.Control) + version}, g.body...)
		outcome := "A"
		switch {
		case len(g.codes) > 0: // what its trailer does not account for may be lost: the sender must send it all again
			outcome, g.accepted = "R", 0
		case g.accepted == 0 && g.received > 0:
			outcome = "R"
		case g.accepted < g.received:
			outcome = "P"
		case g.noted:
			outcome = "E"
		}
		said := g.group.said(g.received)
		body = append(body, strings.TrimRight(fmt.Sprintf("AK9*%s*%s*%d*%d*%s", outcome, said, g.received, g.accepted, strings.Join(g.codes[:min(5, len(g.codes))], "*")), "*"))
		body = append(body, fmt.Sprintf("SE*%d*0001", len(body)+1))
		for _, s := range body {
			b.WriteString(out(s))
		}
		b.WriteString(out("GE*1*" + number))
	}
	b.WriteString(out(fmt.Sprintf("IEA*%d*%s", len(groups), control)))
	_, err := io.WriteString(w, b.String())
	return err
}

// said is how many sets the group's trailer counted, for AK902.
func (g *Group) said(received int) string {
	if g.Included != "" && strings.Trim(g.Included, "0123456789") == "" && len(g.Included) <= 6 {
		return g.Included
	}
	return strconv.Itoa(received)
}
