package x12

import (
	"bytes"
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

// Acknowledge writes the answers to the interchanges of a document, in the delimiters and version of what it answers: a
// TA1 if the interchange asks for one or is wrong itself, and a 997 or 999 for each functional group, unless the policy
// says otherwise. A transaction set is rejected (AK501 R) if its envelope is wrong, the dictionary does not have it, or
// something mandatory is missing. With other errors it is accepted, and they are noted (E). A group whose trailer is
// wrong or missing is rejected with all its sets. Groups of acknowledgements are not acknowledged. next returns the
// control numbers for an answer with a number of groups; it is not called if nothing is answered.
func Acknowledge(w io.Writer, r io.Reader, p Policy, next func(groups int) (Answer, error)) error {
	j := Judging{Policy: p}
	if err := Read(r, j.Watch(Handler{})); err != nil {
		return err
	}
	for _, reply := range j.Replies {
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

// Policy is how interchanges are judged and answered. The zero Policy is the usual one.
type Policy struct {
	TA1      string   // when an interchange is answered with a TA1; "" is TA1Needed
	NoGroups bool     // functional groups are not acknowledged
	Reject   []string // the faults of an interchange (TA105) that reject it whole; others are noted
	Whole    string   // what is rejected with a transaction set; "" is WholeSet
	Once     bool     // a group whose control number came before, in another interchange, is rejected
	Receiver string   // qualifier and id of who should receive it, as ZZ:QUILLMERE; "" is anybody
}

// wrongReceiver is the fault (TA105) of an interchange that is sent to another receiver than it should be: whether only
// the qualifier differs, or the id. "" is none.
func (p *Policy) wrongReceiver(i *Interchange) string {
	_, id, _ := strings.Cut(p.Receiver, ":")
	switch {
	case p.Receiver == "" || p.Receiver == i.ReceiverQualifier+":"+i.Receiver:
		return ""
	case id == i.Receiver:
		return "007"
	}
	return "008"
}

// Misdirected reports whether an interchange is for somebody else than the policy's receiver and must be rejected for
// it.
func (p *Policy) Misdirected(i *Interchange) bool {
	code := p.wrongReceiver(i)
	return code != "" && slices.Contains(p.Reject, code)
}

// When an interchange is answered with a TA1.
const (
	TA1Needed = "needed" // it asks for one (ISA14), or its envelope is wrong
	TA1Asked  = "asked"
	TA1Always = "always"
	TA1Never  = "never"
)

// What is rejected with a transaction set.
const (
	WholeSet         = "set"
	WholeGroup       = "group"
	WholeInterchange = "interchange"
)

// invalidContent is the fault (TA105) of an interchange that is rejected because of one of its transaction sets.
const invalidContent = "024"

// Judging works out the answers to interchanges while they are read.
type Judging struct {
	Policy  Policy
	Replies []*Reply // to the interchanges that have ended
	// Before returns the interchange in which a group with a control number came before; 0 if there is none. It is
	// called if the policy wants each number to come once. If Before is nil, no earlier groups are known.
	Before func(control string) (int64, error)
	a      *Reply // to the open one
}

// Watch returns a handler that works out the answers and then does what h does.
func (j *Judging) Watch(h Handler) Handler {
	own := h
	own.Interchange = func(i *Interchange) error {
		j.a = &Reply{i: i, policy: j.Policy}
		if j.Policy.Misdirected(i) {
			j.a.reject(j.Policy.wrongReceiver(i))
		}
		return call(h.Interchange, i)
	}
	own.Group = func(g *Group) error {
		j.a.g = &groupAnswer{group: g}
		j.a.groups = append(j.a.groups, j.a.g)
		if before, err := j.before(g); err != nil {
			return err
		} else if before != "" {
			if err := own.Finding(Finding{Level: AtGroup, Code: "6", Offset: g.Segment.Offset, Row: g.Segment.Row, Segment: "GS",
				Element: 6,
				Value:   clip(g.Control), Group: g.Control, Place: "ISA " + j.a.i.Control + " / GS / 06",
				Message: fmt.Sprintf("The control number %s of the group came before, in %s.", clip(g.Control),
					before)}); err != nil {
				return err
			}
		}
		return call(h.Group, g)
	}
	own.Checked = func(s *Set, placed []Placed, found []Finding) error {
		if j.a.g != nil && j.a.g.set(s, found) {
			j.a.g.whole = j.a.g.whole || j.Policy.Whole == WholeGroup || j.Policy.Whole == WholeInterchange
			if j.Policy.Whole == WholeInterchange {
				j.a.reject(invalidContent)
			}
		}
		if h.Checked == nil {
			return nil
		}
		return h.Checked(s, placed, found)
	}
	own.GroupEnd = func(g *Group, sets int) error {
		j.a.g.received = sets
		j.a.g = nil
		if h.GroupEnd == nil {
			return nil
		}
		return h.GroupEnd(g, sets)
	}
	own.InterchangeEnd = func(i *Interchange, groups int) error {
		j.Replies = append(j.Replies, j.a)
		if h.InterchangeEnd == nil {
			return nil
		}
		return h.InterchangeEnd(i, groups)
	}
	own.Finding = func(f Finding) error {
		if a := j.a; a != nil { // before any interchange there is nobody to answer
			switch {
			case f.Level == AtInterchange && slices.Contains(j.Policy.Reject, f.Code):
				a.reject(f.Code)
			case f.Level == AtInterchange && a.note == "":
				a.note = f.Code
			case f.Level == AtGroup && a.g != nil:
				a.g.codes = append(a.g.codes, f.Code)
			}
		}
		return call(h.Finding, f)
	}
	return own
}

// before says where a group's control number came before, if each may come once only; "" is nowhere.
func (j *Judging) before(g *Group) (string, error) {
	if !j.Policy.Once {
		return "", nil
	}
	number := func(g *Group) string { return strings.TrimLeft(g.Control, "0") }
	for _, other := range j.a.groups[:len(j.a.groups)-1] {
		if number(other.group) == number(g) {
			return "the same interchange", nil
		}
	}
	if j.Before == nil {
		return "", nil
	}
	id, err := j.Before(g.Control)
	if err != nil || id == 0 {
		return "", err
	}
	return fmt.Sprintf("interchange %d", id), nil
}

func call[T any](f func(T) error, v T) error {
	if f == nil {
		return nil
	}
	return f(v)
}

// Reply is what must be answered to an interchange.
type Reply struct {
	i        *Interchange
	policy   Policy
	note     string // TA105
	rejected bool   // as a whole
	groups   []*groupAnswer
	g        *groupAnswer // the open one
}

// reject rejects the interchange as a whole; the first reason counts.
func (a *Reply) reject(code string) {
	if !a.rejected {
		a.rejected, a.note = true, code
	}
}

// Rejected reports whether the interchange is rejected as a whole, and why (TA105). Nothing in it is processed then.
func (a *Reply) Rejected() (code string, is bool) { return a.note, a.rejected }

// Groups is how many groups the answer has. Each needs a control number.
func (a *Reply) Groups() int { return len(a.answered()) }

// Needed reports whether anything is answered.
func (a *Reply) Needed() bool { return a.Groups() > 0 || a.asked() }

// answered are the groups that are acknowledged. If the envelope rejects the interchange there are none, because its
// content has not been examined.
func (a *Reply) answered() (groups []*groupAnswer) {
	if a.policy.NoGroups || a.rejected && a.note != invalidContent {
		return nil
	}
	for _, g := range a.groups {
		if g.group.FunctionalID != "FA" {
			groups = append(groups, g)
		}
	}
	return groups
}

// asked reports whether the interchange itself is answered, with a TA1.
func (a *Reply) asked() bool {
	asks := a.i.AcknowledgmentRequested == "1"
	switch a.policy.TA1 {
	case TA1Never:
		return false
	case TA1Always:
		return true
	case TA1Asked:
		return asks
	}
	return asks || a.note != ""
}

// groupAnswer is what is answered to a group: as bytes, because a group may have very many sets.
type groupAnswer struct {
	group              *Group
	body               []byte // AK2 to AK5 of every set, each segment behind a line end
	segments, notes    int    // of the body
	codes              []string
	received, accepted int
	noted              bool
	whole              bool // it is rejected whole, for a set of it
}

// mostNotes is how many notes there are at most about one transaction set, mostOfGroup about all sets of a group.
// Beyond that, only the sets' outcomes are reported.
const (
	mostNotes   = 500
	mostOfGroup = 100_000
)

func (g *groupAnswer) say(parts ...string) {
	g.segments++
	for _, p := range parts {
		g.body = append(g.body, p...)
	}
	g.body = append(g.body, '\n')
}

// set notes what is wrong with a set, and reports whether it is rejected.
func (g *groupAnswer) set(s *Set, found []Finding) (rejected bool) {
	id, control := clean(s.ID, 3), clean(s.Control, 9)
	if len(id) < 3 { // what is not there cannot be said back, and something must stand there
		id = "000"
	}
	for len(control) < 4 {
		control = "0" + control
	}
	g.say("AK2*", id, "*", control)
	outcome, codes := "A", []string(nil)
	note := func(code string) {
		if !slices.Contains(codes, code) && len(codes) < 5 {
			codes = append(codes, code)
		}
	}
	open := 0 // the position of the AK3 that AK4s belong to
	for n := range found {
		f := &found[n]
		if Rejecting(f) {
			outcome = "R"
		} else if outcome == "A" {
			outcome = "E"
		}
		if f.Level == AtSet {
			note(f.Code)
			continue
		}
		note("5")
		if n < mostNotes && g.notes < mostOfGroup {
			g.notes++
			open = g.note(f, open)
		}
	}
	g.say(strings.TrimRight("AK5*"+outcome+"*"+strings.Join(codes, "*"), "*"))
	if outcome != "R" {
		g.accepted++
	}
	g.noted = g.noted || outcome == "E"
	return outcome == "R"
}

// note reports what is wrong with a segment or an element; open is the position of the segment that was reported last.
func (g *groupAnswer) note(f *Finding, open int) int {
	segment := "AK3*" + padded(clean(f.Segment, 3)) + "*" + strconv.Itoa(f.Position) + "**"
	if f.Level == AtSegment {
		g.say(segment, f.Code)
		return 0
	}
	if open != f.Position {
		g.say(segment, "8")
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
	g.say(ak4)
	return f.Position
}

// padded makes an id that may be written out of one with fewer than two characters.
func padded(id string) string {
	return (id + "ZZ")[:max(len(id), 2)]
}

// number9 is a group's control number in a form that may be written; 0 if it is not a number.
func number9(s string) string {
	if digits(s) && len(s) <= 9 {
		return s
	}
	return "0"
}

// clean is a value of what is answered, without characters that are delimiters of the answer.
func clean(s string, most int) string {
	s = strings.Map(func(r rune) rune {
		if r < ' ' || r > '~' || strings.ContainsRune("*~:^|", r) {
			return -1
		}
		return r
	}, s)
	return s[:min(len(s), most)]
}

// Write writes the answer, or nothing if nothing is answered.
func (a *Reply) Write(w io.Writer, answer Answer) error {
	groups, asked := a.answered(), a.asked()
	if !a.Needed() {
		return nil
	}
	if answer.Duplicate {
		a.note, asked, groups, a.groups = "025", true, nil, nil
	}
	i, d := a.i, a.i.Delimiters
	theirs := strings.NewReplacer("*", one(d.Element), ":", one(d.Component))
	out := func(text string) string { // written with * and :, sent with the partner's
		return theirs.Replace(text) + one(d.Segment)
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
	b.WriteString(strings.ReplaceAll(strings.Join([]string{"ISA", "00", pad("", 10), "00", pad("", 10),
		pad(element(7), 2), pad(element(8), 15), pad(element(5), 2), pad(element(6), 15),
		date, clock, repetition, pad(element(12), 5), control, "0", pad(i.Usage, 1), one(d.Component)}, "\x00"), "\x00",
		one(d.Element)) + one(d.Segment))
	if asked {
		outcome, note := "A", "000"
		if a.note != "" {
			outcome, note = "E", a.note
			if len(a.groups) == 0 || a.rejected {
				outcome = "R"
			}
		}
		b.WriteString(out(fmt.Sprintf("TA1*%s*%s*%s*%s*%s", clean(i.Control, 9), clean(i.Date, 6), clean(i.Time, 4),
			outcome, note)))
	}
	for n, g := range groups {
		number := strconv.Itoa(answer.Group + n)
		b.WriteString(out("GS*FA*" + clean(g.group.Receiver, 15) + "*" + clean(g.group.Sender, 15) + "*" +
			answer.At.Format("20060102") + "*" + clock + "*" + number + "*X*" + clean(g.group.Version, 12)))
		kind, version := "997", ""
		if answer.Implementation {
			kind, version = "999", "*"+clean(g.group.Version, 12)
		}
		b.WriteString(out("ST*" + kind + "*0001"))
		b.WriteString(out("AK1*" + padded(clean(g.group.FunctionalID, 2)) + "*" + number9(g.group.Control) + version))
		for line := range bytes.Lines(g.body) {
			s := string(line[:len(line)-1])
			// the same notes under other names
			if rest, ok := strings.CutPrefix(s, "AK"); ok && answer.Implementation && s[2] != '2' {
				s = "IK" + rest
			}
			b.WriteString(out(s))
		}
		outcome := "A"
		switch {
		case g.whole || a.rejected:
			outcome, g.accepted = "R", 0
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
		b.WriteString(out(strings.TrimRight(fmt.Sprintf("AK9*%s*%s*%d*%d*%s", outcome, said, g.received, g.accepted,
			strings.Join(g.codes[:min(5, len(g.codes))], "*")), "*")))
		b.WriteString(out(fmt.Sprintf("SE*%d*0001", g.segments+4)))
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
