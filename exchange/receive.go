package exchange

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"koinos/api"
	"koinos/core/finding"
	"koinos/core/origin"
	"koinos/core/partner"
	"koinos/core/source"
	"koinos/core/x12"
	"koinos/store"
)

// arrival is an interchange as it is read from a document.
type arrival struct {
	i        *x12.Interchange
	from     int64 // first byte
	before   int   // segments of the document in front of it: rows are counted in its own
	kept     api.Interchange
	kinds    []string
	findings []finding.Finding
	broken   map[string]bool // groups, by their control number, that are rejected
	answers  []answered      // what it says of what we sent
	received []string        // TA1 segments
}

// answered is what a 997 or 999 says of a group of ours.
type answered struct {
	set   int // index in kept.Sets
	group int64
	state string            // of the group
	sets  map[string]string // state by the set's control number
	says  map[string][]finding.Finding
}

// Receive keeps what came: each interchange of a document as a document of its
// own, with its acknowledgement. What its sets ask for is a job that goes on when
// the caller goes away; Receive waits for it. What is held says why.
func (x *Exchange) Receive(ctx context.Context, r io.ReaderAt, size int64, name, by string) ([]api.Interchange, error) {
	all, err := x.partners(ctx)
	if err != nil {
		return nil, err
	}
	came, err := x.read(io.NewSectionReader(r, 0, size), all)
	if err != nil {
		return nil, err
	}
	for n, a := range came {
		end := size
		if n+1 < len(came) {
			end = came[n+1].from
		}
		if n == 0 {
			a.from = 0
		}
		a.kept.Name, a.kept.By, a.kept.At = name, by, x.now().UTC()
		if err := x.keep(ctx, a, io.NewSectionReader(r, a.from, end-a.from)); err != nil {
			return nil, err
		}
		a.kept.Sets, a.findings = nil, nil
	}
	out := []api.Interchange{}
	for _, a := range came {
		i, err := x.settled(ctx, a.kept.ID)
		if err != nil {
			return out, err
		}
		out = append(out, i)
	}
	return out, nil
}

// read finds the interchanges of a document.
func (x *Exchange) read(r io.Reader, partners []*partner.Partner) ([]*arrival, error) {
	var came []*arrival
	var a *arrival
	var p *partner.Partner
	start := func() {
		a = &arrival{broken: map[string]bool{}, kept: api.Interchange{Direction: "in", State: api.StateUnknown}}
		came = append(came, a)
		p = nil
	}
	err := x12.Read(r, x12.Handler{
		Interchange: func(i *x12.Interchange) error {
			lead := a != nil && a.i == nil // rubbish in front belongs to it
			if !lead {
				start()
			}
			if a.i, a.from = i, i.Segment.Offset; !lead && len(came) > 1 {
				a.before = i.Segment.Row - 1
			}
			a.kept.Control, _ = strconv.ParseInt(i.Control, 10, 64)
			for _, one := range partners {
				if one.Them.Key() == i.SenderQualifier+":"+i.Sender && one.Us.Key() == i.ReceiverQualifier+":"+i.Receiver {
					p = one
					a.kept.Partner, a.kept.State = p.Name, api.StateReceived
				}
			}
			if p == nil {
				a.findings = append(a.findings, finding.New(finding.PartnerUnknown, origin.Place{Row: i.Segment.Row - a.before, Segment: "ISA " + i.Control}, i.SenderQualifier+":"+i.Sender,
					"No partner has the ids %s:%s (theirs) and %s:%s (ours).", i.SenderQualifier, i.Sender, i.ReceiverQualifier, i.Receiver))
			}
			return nil
		},
		Set: func(s *x12.Set) error {
			a.set(s, p)
			return nil
		},
		GroupEnd: func(g *x12.Group, sets int) error {
			if a.broken[g.Control] { // it is rejected as a whole, and the sender told so
				for k := len(a.kept.Sets) - sets; k < len(a.kept.Sets); k++ {
					s := &a.kept.Sets[k]
					s.State = api.StateRejected
					s.Findings = append(s.Findings, finding.New(finding.X12Rejected, origin.Place{Row: s.Row}, g.Control, "Its functional group %s is rejected: the group's trailer is wrong or missing.", g.Control))
				}
			}
			return nil
		},
		Answer: func(s *x12.Segment) error {
			a.received = append(a.received, s.String())
			if !slices.Contains(a.kinds, "TA1") {
				a.kinds = append(a.kinds, "TA1")
			}
			return nil
		},
		Finding: func(f x12.Finding) error {
			if a == nil {
				start()
			}
			if f.Level == x12.AtGroup {
				a.broken[f.Group] = true
			}
			if f.Level == x12.AtInterchange || f.Level == x12.AtGroup {
				a.findings = append(a.findings, a.found(&f))
			}
			return nil
		},
	})
	if a == nil && err == nil {
		start()
		a.findings = append(a.findings, finding.New(finding.DocumentEmpty, origin.Place{}, "", "The document holds no interchange."))
	}
	return came, err
}

// found is a finding of X12 with its row counted in the interchange.
func (a *arrival) found(f *x12.Finding) finding.Finding {
	out := source.FindingOf(f)
	out.Place.Row -= min(a.before, out.Place.Row)
	return out
}

// set records a transaction set.
func (a *arrival) set(s *x12.Set, p *partner.Partner) {
	placed, found := x12.Check(s)
	rec := api.SetRecord{Seq: len(a.kept.Sets) + 1, Kind: s.ID, Control: s.Control, Row: s.Segments[0].Row - a.before, Rows: len(s.Segments), State: api.StateReceived}
	if s.Group != nil {
		rec.GroupControl = s.Group.Control
	}
	for i := range found {
		rec.Findings = append(rec.Findings, a.found(&found[i]))
	}
	if x12.Rejected(found) {
		rec.State = api.StateRejected
	}
	if p != nil {
		for _, f := range p.CheckSet(s, placed) {
			f.Place.Row -= min(a.before, f.Place.Row)
			rec.Findings = append(rec.Findings, f)
		}
	}
	if !slices.Contains(a.kinds, s.ID) {
		a.kinds = append(a.kinds, s.ID)
	}
	a.kept.Sets = append(a.kept.Sets, rec)
	if s.ID == "997" || s.ID == "999" {
		if one := readAnswer(s); one != nil {
			one.set = len(a.kept.Sets) - 1
			a.answers = append(a.answers, *one)
		}
	}
}

// outcomes are the states that acknowledgement codes (AK501, AK901, TA104) bring.
var outcomes = map[string]string{"A": api.StateAccepted, "E": api.StateNoted, "P": api.StatePartly, "R": api.StateRejected, "M": api.StateRejected, "W": api.StateRejected, "X": api.StateRejected}

// readAnswer reads a 997 or 999.
func readAnswer(s *x12.Set) *answered {
	a := &answered{sets: map[string]string{}, says: map[string][]finding.Finding{}}
	set, segment := "", ""
	for i := range s.Segments {
		g := &s.Segments[i]
		switch g.ID {
		case "AK1":
			a.group, _ = strconv.ParseInt(g.Element(2), 10, 64)
		case "AK2":
			set = g.Element(2)
			a.sets[set] = api.StateAccepted
		case "AK3", "IK3":
			segment = fmt.Sprintf("%s at position %s", g.Element(1), g.Element(2))
			if code := g.Element(4); code != "" && code != "8" {
				_, means := x12.Meaning(g.ID, 4, code)
				a.says[set] = append(a.says[set], finding.New(finding.X12Rejected, origin.Place{Row: g.Row}, "", "The partner notes: %s: %s (%s).", segment, strings.ToLower(means), code))
			}
		case "AK4", "IK4":
			_, means := x12.Meaning(g.ID, 3, g.Element(3))
			f := finding.New(finding.X12Rejected, origin.Place{Row: g.Row}, g.Element(4), "The partner notes: %s, element %s: %s (%s).", segment, g.Element(1), strings.ToLower(means), g.Element(3))
			a.says[set] = append(a.says[set], f)
		case "AK5", "IK5":
			if to := outcomes[g.Element(1)]; to != "" && set != "" {
				a.sets[set] = to
			}
		case "AK9":
			a.state = outcomes[g.Element(1)]
		}
	}
	if a.group == 0 || a.state == "" {
		return nil
	}
	return a
}

// keep stores an interchange with its acknowledgement: both or neither.
func (x *Exchange) keep(ctx context.Context, a *arrival, body *io.SectionReader) error {
	sha, size, err := x.store.KeepFile(body, func(io.ReaderAt, int64) error { return nil })
	if err != nil {
		return err
	}
	if _, err := x.store.PutDocument(ctx, api.Document{SHA: sha, Name: a.kept.Name, Size: size, Shape: source.Shape{Format: source.X12}, ReceivedAt: a.kept.At, ReceivedBy: a.kept.By}); err != nil {
		return err
	}
	a.kept.Document, a.kept.Kinds, a.kept.Findings = sha, strings.Join(a.kinds, " "), a.findings
	var p *partner.Partner
	if a.kept.Partner != "" {
		if p, err = x.Partner(ctx, a.kept.Partner); err != nil {
			return err
		}
	}
	var reply *x12.Reply // worked out before the transaction
	if p != nil && p.Acknowledge.With != "none" {
		replies, err := x12.Judge(io.NewSectionReader(body, 0, body.Size()))
		if err != nil {
			return err
		}
		if len(replies) > 0 && replies[0].Needed() {
			reply = replies[0]
		}
	}
	return x.store.Write(ctx, func(t *store.Tx) error {
		known := int64(0)
		if p != nil {
			if known, err = t.KnownControl(p.Name, a.kept.Control); err != nil {
				return err
			}
		}
		if known != 0 {
			a.kept.State = api.StateDuplicate
			a.kept.Findings = append(a.kept.Findings, finding.New(finding.X12Duplicate, origin.Place{Row: 1}, a.i.Control, "The control number %s came from %s before, in interchange %d; nothing is done a second time.", a.i.Control, p.Name, known))
			for k := range a.kept.Sets {
				a.kept.Sets[k].State = api.StateDuplicate
			}
		}
		if err := x.matched(t, a, p, known != 0); err != nil {
			return err
		}
		if err := t.AddInterchange(&a.kept); err != nil {
			return err
		}
		if a.kept.State == api.StateReceived {
			if err := t.AddJob(api.Job{Kind: api.InterchangeJob, Subject: a.kept.ID, DueAt: x.now()}); err != nil {
				return err
			}
		}
		if reply == nil {
			return nil
		}
		return x.acknowledge(t, a, p, reply, known != 0)
	})
}

// matched brings what the partner acknowledges to what we sent.
func (x *Exchange) matched(t *store.Tx, a *arrival, p *partner.Partner, again bool) error {
	if p == nil || again {
		return nil
	}
	for _, one := range a.answers {
		rec := &a.kept.Sets[one.set]
		ours, err := t.OutgoingByGroup(p.Name, one.group)
		if err != nil {
			return err
		}
		if ours.ID == 0 {
			rec.State = api.StateHeld
			rec.Findings = append(rec.Findings, finding.New(finding.NotSent, origin.Place{Row: rec.Row}, fmt.Sprint(one.group), "It acknowledges a group %d, which was never sent to %s.", one.group, p.Name))
			continue
		}
		rec.State, rec.Number = api.StateDone, ""
		for k := range ours.Sets {
			s := ours.Sets[k]
			to := one.sets[s.Control]
			if to == "" {
				to = one.state
			}
			s.State = to
			s.Findings = append(s.Findings, one.says[s.Control]...)
			if err := t.SetSet(s); err != nil {
				return err
			}
		}
		if err := t.SetInterchange(ours.ID, one.state, ours.SentAt, a.kept.At); err != nil {
			return err
		}
	}
	for _, text := range a.received {
		parts := strings.Split(text, string([]byte{a.i.Delimiters.Element}))
		if len(parts) < 5 {
			continue
		}
		control, _ := strconv.ParseInt(parts[1], 10, 64)
		ours, err := t.OutgoingByControl(p.Name, control)
		if err != nil {
			return err
		}
		if ours.ID == 0 {
			a.kept.Findings = append(a.kept.Findings, finding.New(finding.NotSent, origin.Place{}, parts[1], "Its TA1 speaks of an interchange %s, which was never sent to %s.", parts[1], p.Name))
			continue
		}
		if parts[4] == "R" { // what is in it was not looked at; acceptance of its sets comes with a 997
			for _, s := range ours.Sets {
				s.State = api.StateRejected
				if err := t.SetSet(s); err != nil {
					return err
				}
			}
			if err := t.SetInterchange(ours.ID, api.StateRejected, ours.SentAt, a.kept.At); err != nil {
				return err
			}
		}
	}
	return nil
}

// acknowledge writes and keeps the answer to an interchange, and makes its delivery
// a job.
func (x *Exchange) acknowledge(t *store.Tx, a *arrival, p *partner.Partner, reply *x12.Reply, again bool) error {
	control, err := t.NextNumber(p.Name, "interchange")
	if err != nil {
		return err
	}
	var group int64
	for n := range reply.Groups() { // numbers of a partner's groups go up one by one
		next, err := t.NextNumber(p.Name, "group")
		if err != nil {
			return err
		}
		if n == 0 {
			group = next
		}
	}
	var b bytes.Buffer
	if err := reply.Write(&b, x12.Answer{Interchange: int(control), Group: int(max(group, 1)), At: x.now(), Implementation: p.Acknowledge.With == "999", Duplicate: again}); err != nil {
		return err
	}
	kinds := p.Acknowledge.With
	if again {
		kinds = "TA1"
	}
	out := api.Interchange{Partner: p.Name, Direction: "out", Control: control, Kinds: kinds, State: api.StateReady, Name: p.FileName(kinds, control), Answers: a.kept.ID, At: x.now().UTC(), By: "service"}
	if out.Document, err = x.keepBytes(t, b.Bytes(), out.Name, "service"); err != nil {
		return err
	}
	return x.add(t, &out)
}

// add keeps an interchange that is ready to leave, and makes its delivery a job.
func (x *Exchange) add(t *store.Tx, i *api.Interchange) error {
	if err := t.AddInterchange(i); err != nil {
		return err
	}
	return t.AddJob(api.Job{Kind: api.InterchangeJob, Subject: i.ID, DueAt: x.now()})
}

// keepBytes keeps what we write as a document, in the same commit.
func (x *Exchange) keepBytes(t *store.Tx, b []byte, name, by string) (string, error) {
	sum := sha256.Sum256(b)
	sha := hex.EncodeToString(sum[:])
	return sha, t.PutBodies(store.Body{Document: api.Document{SHA: sha, Name: name, Shape: source.Shape{Format: source.X12}, ReceivedAt: x.now().UTC(), ReceivedBy: by}, Bytes: b})
}
