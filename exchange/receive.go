package exchange

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"koinos/core/finding"
	"koinos/core/partner"
	"koinos/core/source"
	"koinos/core/x12"
	"koinos/store"
)

// arrival is an interchange as it is read from a document.
type arrival struct {
	i        *x12.Interchange
	from     int64 // first byte
	kept     store.Interchange
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
// own, with its acknowledgement, and does what its sets ask for. What it gives
// has been done as far as it can be; what is held says why.
func (x *Exchange) Receive(ctx context.Context, r io.ReaderAt, size int64, name, by string) ([]store.Interchange, error) {
	x.mu.Lock()
	defer x.mu.Unlock()
	all, err := x.partners(ctx)
	if err != nil {
		return nil, err
	}
	came, err := x.read(io.NewSectionReader(r, 0, size), all)
	if err != nil {
		return nil, err
	}
	var out []store.Interchange
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
			return out, err
		}
		if a.kept.State == store.Received {
			if err := x.take(ctx, a.kept.ID); err != nil {
				return out, err
			}
		}
		i, err := x.store.Interchange(ctx, a.kept.ID, x.now())
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
		a = &arrival{broken: map[string]bool{}, kept: store.Interchange{Direction: "in", State: store.Unknown}}
		came = append(came, a)
		p = nil
	}
	err := x12.Read(r, x12.Handler{
		Interchange: func(i *x12.Interchange) error {
			lead := a != nil && a.i == nil // rubbish in front belongs to it
			if !lead {
				start()
			}
			a.i, a.from = i, i.Segment.Offset
			a.kept.Control, _ = strconv.ParseInt(i.Control, 10, 64)
			for _, one := range partners {
				if one.Them.Key() == i.SenderQualifier+":"+i.Sender && one.Us.Key() == i.ReceiverQualifier+":"+i.Receiver {
					p = one
					a.kept.Partner, a.kept.State = p.Name, store.Received
				}
			}
			if p == nil {
				a.findings = append(a.findings, finding.New(finding.PartnerUnknown, finding.Place{Row: i.Segment.Row, Pointer: "ISA " + i.Control}, i.SenderQualifier+":"+i.Sender,
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
					s.State = store.Rejected
					s.Findings = append(s.Findings, finding.New(finding.X12Rejected, finding.Place{Row: s.Row}, g.Control, "Its functional group %s is rejected: the group's trailer is wrong or missing.", g.Control))
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
				group := f.Place[strings.LastIndex(f.Place, " ")+1:]
				a.broken[group] = true
			}
			if f.Level == x12.AtInterchange || f.Level == x12.AtGroup {
				a.findings = append(a.findings, source.FindingOf(&f))
			}
			return nil
		},
	})
	if a == nil && err == nil {
		start()
		a.findings = append(a.findings, finding.New(finding.DocumentEmpty, finding.Place{}, "", "The document holds no interchange."))
	}
	return came, err
}

// set records a transaction set.
func (a *arrival) set(s *x12.Set, p *partner.Partner) {
	placed, found := x12.Check(s)
	rec := store.SetRecord{Seq: len(a.kept.Sets) + 1, Kind: s.ID, Control: s.Control, Row: s.Segments[0].Row, Rows: len(s.Segments), State: store.Received}
	if s.Group != nil {
		rec.GroupControl = s.Group.Control
	}
	for i := range found {
		rec.Findings = append(rec.Findings, source.FindingOf(&found[i]))
	}
	if x12.Rejected(found) {
		rec.State = store.Rejected
	}
	if p != nil {
		rec.Findings = append(rec.Findings, p.CheckSet(s, placed)...)
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
var outcomes = map[string]string{"A": store.Accepted, "E": store.Noted, "P": store.Partly, "R": store.Rejected, "M": store.Rejected, "W": store.Rejected, "X": store.Rejected}

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
			a.sets[set] = store.Accepted
		case "AK3", "IK3":
			segment = fmt.Sprintf("%s at position %s", g.Element(1), g.Element(2))
			if code := g.Element(4); code != "" && code != "8" {
				_, means := x12.Meaning(g.ID, 4, code)
				a.says[set] = append(a.says[set], finding.New(finding.X12Rejected, finding.Place{Row: g.Row}, "", "The partner notes: %s: %s (%s).", segment, strings.ToLower(means), code))
			}
		case "AK4", "IK4":
			_, means := x12.Meaning(g.ID, 3, g.Element(3))
			f := finding.New(finding.X12Rejected, finding.Place{Row: g.Row}, g.Element(4), "The partner notes: %s, element %s: %s (%s).", segment, g.Element(1), strings.ToLower(means), g.Element(3))
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
	if _, err := x.store.PutDocument(ctx, store.Document{SHA: sha, Name: a.kept.Name, Size: size, Shape: source.Shape{Format: source.X12}, ReceivedAt: a.kept.At, ReceivedBy: a.kept.By}); err != nil {
		return err
	}
	a.kept.Document, a.kept.Kinds, a.kept.Findings = sha, strings.Join(a.kinds, " "), a.findings
	var p *partner.Partner
	if a.kept.Partner != "" {
		if p, err = x.Partner(ctx, a.kept.Partner); err != nil {
			return err
		}
	}
	var reply int64
	err = x.store.Write(ctx, func(t *store.Tx) error {
		known := int64(0)
		if p != nil {
			if known, err = t.KnownControl(p.Name, a.kept.Control); err != nil {
				return err
			}
		}
		if known != 0 {
			a.kept.State = store.Duplicate
			a.kept.Findings = append(a.kept.Findings, finding.New(finding.X12Duplicate, finding.Place{Row: 1}, a.i.Control, "The control number %s came from %s before, in interchange %d; nothing is done a second time.", a.i.Control, p.Name, known))
			for k := range a.kept.Sets {
				a.kept.Sets[k].State = store.Held
			}
		}
		if err := x.matched(t, a, p, known != 0); err != nil {
			return err
		}
		if err := t.AddInterchange(&a.kept); err != nil || p == nil || p.Acknowledge.With == "none" {
			return err
		}
		reply, err = x.acknowledge(t, a, p, body, known != 0)
		return err
	})
	if err == nil && reply != 0 {
		err = x.deliver(ctx, reply)
	}
	return err
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
			rec.State = store.Held
			rec.Findings = append(rec.Findings, finding.New(finding.NotSent, finding.Place{Row: rec.Row}, fmt.Sprint(one.group), "It acknowledges a group %d, which was never sent to %s.", one.group, p.Name))
			continue
		}
		rec.State, rec.Number = store.Done, ""
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
			a.kept.Findings = append(a.kept.Findings, finding.New(finding.NotSent, finding.Place{}, parts[1], "Its TA1 speaks of an interchange %s, which was never sent to %s.", parts[1], p.Name))
			continue
		}
		if parts[4] == "R" { // what is in it was not looked at; acceptance of its sets comes with a 997
			for _, s := range ours.Sets {
				s.State = store.Rejected
				if err := t.SetSet(s); err != nil {
					return err
				}
			}
			if err := t.SetInterchange(ours.ID, store.Rejected, ours.SentAt, a.kept.At); err != nil {
				return err
			}
		}
	}
	return nil
}

// acknowledge writes and keeps the answer to an interchange; 0 is none.
func (x *Exchange) acknowledge(t *store.Tx, a *arrival, p *partner.Partner, body *io.SectionReader, again bool) (int64, error) {
	if _, err := body.Seek(0, io.SeekStart); err != nil {
		return 0, err
	}
	var b bytes.Buffer
	var control, group int64
	err := x12.Acknowledge(&b, body, func(groups int) (x12.Answer, error) {
		var err error
		if control, err = t.NextNumber(p.Name, "interchange"); err != nil {
			return x12.Answer{}, err
		}
		for n := range groups { // numbers of a partner's groups go up one by one
			next, err := t.NextNumber(p.Name, "group")
			if err != nil {
				return x12.Answer{}, err
			}
			if n == 0 {
				group = next
			}
		}
		return x12.Answer{Interchange: int(control), Group: int(max(group, 1)), At: x.now(), Implementation: p.Acknowledge.With == "999", Duplicate: again}, nil
	})
	if err != nil || b.Len() == 0 {
		return 0, err
	}
	kinds := p.Acknowledge.With
	if again {
		kinds = "TA1"
	}
	out := store.Interchange{Partner: p.Name, Direction: "out", Control: control, Kinds: kinds, State: store.Ready, Name: p.FileName(kinds, control), Answers: a.kept.ID, At: x.now().UTC(), By: "service"}
	if out.Document, err = x.keepBytes(t, b.Bytes(), out.Name, "service"); err != nil {
		return 0, err
	}
	err = t.AddInterchange(&out)
	return out.ID, err
}

// keepBytes keeps what we write as a document, within the transaction.
func (x *Exchange) keepBytes(t *store.Tx, b []byte, name, by string) (string, error) {
	sha, size, err := x.store.KeepFile(bytes.NewReader(b), func(io.ReaderAt, int64) error { return nil })
	if err != nil {
		return "", err
	}
	_, err = t.PutDocument(store.Document{SHA: sha, Name: name, Size: size, Shape: source.Shape{Format: source.X12}, ReceivedAt: x.now().UTC(), ReceivedBy: by})
	return sha, err
}
