package exchange

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
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

// errSeveral says that a document contains several interchanges, each of which is stored as a document of its own.
var errSeveral = errors.New("several interchanges")

// Arrival says how something came.
type Arrival struct {
	Name string // of the file
	By   string // who brought it
	// Once is the same if the same arrival is taken up again after a crash; "" if that is not known.
	Once string
}

// Receive stores what came, each interchange of a document as a document of its own. A job reads it, acknowledges it
// and does what its sets ask for; the job continues if the caller goes away. Receive waits for the job. Held
// interchanges have their reasons. What an arrival had brought before the service ended, and what is being read right
// now, is not stored twice.
func (x *Exchange) Receive(ctx context.Context, r io.Reader, from Arrival) ([]api.Interchange, error) {
	all, err := x.partners(ctx)
	if err != nil {
		return nil, err
	}
	var came []api.Interchange
	var documents []api.Document
	keep := func(sha string, size int64) {
		documents = append(documents, api.Document{SHA: sha, Name: from.Name, Size: size,
			Shape: source.Shape{Format: source.X12}, ReceivedAt: x.now().UTC(), ReceivedBy: from.By})
	}
	sha, size, err := x.store.KeepFile(r, func(f io.ReaderAt, size int64) error {
		if size == 0 {
			return finding.Fatal(finding.DocumentEmpty, origin.Place{}, "The document is empty.")
		}
		cuts, err := cut(io.NewSectionReader(f, 0, size))
		if err != nil {
			return err
		}
		for n, c := range cuts {
			end := size
			if n+1 < len(cuts) {
				end = cuts[n+1].from
			}
			i := c.interchange(all)
			if i.Content, err = contentOf(io.NewSectionReader(f, c.from, end-c.from)); err != nil {
				return err
			}
			if came = append(came, i); len(cuts) == 1 {
				return nil
			}
			sha, size, err := x.store.KeepFile(io.NewSectionReader(f, c.from, end-c.from),
				func(io.ReaderAt, int64) error { return nil })
			if err != nil {
				return err
			}
			keep(sha, size)
		}
		return errSeveral
	})
	if err == nil {
		keep(sha, size)
	} else if !errors.Is(err, errSeveral) {
		return nil, err
	}
	for _, d := range documents {
		if _, err := x.store.PutDocument(ctx, d); err != nil {
			return nil, err
		}
	}
	for n := range came {
		i := &came[n]
		i.Name, i.By, i.Arrival, i.At, i.Document = from.Name, from.By, from.Once, x.now().UTC(), documents[n].SHA
	}
	// Nobody else waits for a file with very many interchanges. If this is interrupted, what was taken in is
	// recognised.
	for some := range slices.Chunk(came, setsAtATime) {
		if err := x.store.Write(ctx, func(t *store.Tx) error {
			for n := range some {
				i := &some[n]
				taken, err := t.Taken(i)
				if i.ID = taken; err == nil && taken == 0 {
					err = x.add(t, i)
				}
				if err != nil {
					return err
				}
			}
			return nil
		}); err != nil {
			return nil, err
		}
	}
	for n := range came {
		if came[n], err = x.settled(ctx, came[n].ID); err != nil {
			return came[:n], err
		}
	}
	return came, nil
}

// piece is an interchange of a document.
type piece struct {
	from int64            // first byte
	i    *x12.Interchange // nil where the document holds none
}

// cut finds the interchanges of a document. Whatever stands in front of the first belongs to it.
func cut(r io.Reader) (all []piece, err error) {
	err = x12.Read(r, x12.Handler{Interchange: func(i *x12.Interchange) error {
		p := piece{i: i}
		if len(all) > 0 {
			p.from = i.Segment.Offset
		}
		all = append(all, p)
		return nil
	}})
	if len(all) == 0 {
		all = []piece{{}}
	}
	return all, err
}

// interchange is a piece as it is stored before it is read.
func (p *piece) interchange(partners []*partner.Partner) api.Interchange {
	out := api.Interchange{Direction: "in", State: api.StateArriving}
	if p.i == nil {
		return out
	}
	out.Control, _ = strconv.ParseInt(p.i.Control, 10, 64)
	out.Test = p.i.Usage == "T"
	for _, one := range partners {
		policy := one.Policy()
		switch {
		case one.Them.Key() != p.i.SenderQualifier+":"+p.i.Sender:
		case one.Us.Key() == p.i.ReceiverQualifier+":"+p.i.Receiver:
			out.Partner = one.Name
			return out
		case policy.Misdirected(p.i):
			out.Partner = one.Name // who wants to be told so, unless another of our ids is meant
		}
	}
	return out
}

// arrival is an interchange that is being read.
type arrival struct {
	x        *Exchange
	ctx      context.Context
	kept     *api.Interchange
	p        *partner.Partner // nil where nobody knows it
	i        *x12.Interchange
	state    string // of its sets
	kinds    []string
	seq      int
	sets     []api.SetRecord   // that are not in the store yet
	findings int               // of those
	broken   map[string]string // groups, by their control number, that are rejected
	more     int               // findings of its envelope that are not kept
	heard    heard             // what it says about what we sent
}

// read reads an interchange that has come. It stores its sets a number at a time. Then it stores the acknowledgement
// together with what the interchange says about what we sent. If it is interrupted, it begins again.
func (x *Exchange) read(ctx context.Context, kept *api.Interchange) error {
	a := &arrival{x: x, ctx: ctx, kept: kept, broken: map[string]string{}, state: api.StateReceived}
	var same, other int64 // that came before
	var err error
	if kept.Partner != "" {
		if a.p, err = x.Partner(ctx, kept.Partner); err != nil {
			return err
		}
		if same, other, err = x.store.KnownControl(ctx, kept); err != nil {
			return err
		}
	}
	for more := true; more; {
		if err := x.store.Write(ctx, func(t *store.Tx) (err error) {
			more, err = t.ForgetSets(kept.ID, setsAtATime)
			return err
		}); err != nil {
			return err
		}
	}
	kept.State, kept.Findings = api.StateReceived, nil
	switch {
	case a.p == nil:
		kept.State = api.StateUnknown
	case kept.Ruling == api.Refused:
		kept.State, a.state = api.StateRejected, api.StateRejected
	case same != 0:
		kept.State, a.state = api.StateDuplicate, api.StateDuplicate
	case other != 0 && kept.Ruling != api.LetIn:
		kept.State, a.state = api.StateDoubtful, api.StateDoubtful
	}
	f, err := x.store.OpenWhole(kept.Document)
	if err != nil {
		return err
	}
	defer f.Close()
	var judging x12.Judging
	if a.p != nil {
		judging.Policy = a.p.Policy()
		if kept.State == api.StateReceived && kept.Ruling != api.LetIn { // who lets it in has looked at its numbers
			judging.Before = func(control string) (int64, error) { return x.store.KnownGroup(ctx, kept, control) }
		}
	}
	if err := x12.Read(io.NewSectionReader(f, 0, f.Size()), judging.Watch(a.handler())); err != nil {
		return err
	}
	if a.i == nil {
		a.kept.Findings = append(a.kept.Findings, finding.New(finding.DocumentEmpty, origin.Place{}, "",
			x12.NoInterchange))
	}
	kept.Findings = append(kept.Findings, further(a.more, 1)...)
	if err := a.flush(); err != nil {
		return err
	}
	kept.Kinds = strings.Join(a.kinds, " ")
	if len(judging.Replies) > 0 && kept.State == api.StateReceived {
		if code, rejected := judging.Replies[0].Rejected(); rejected {
			if err := a.rejectAll(code); err != nil {
				return err
			}
		}
	}
	var told []told
	if kept.State == api.StateReceived {
		if told, err = a.matched(); err != nil {
			return err
		}
	}
	return x.store.Write(ctx, func(t *store.Tx) error {
		switch kept.State {
		case api.StateReceived:
			if err := a.apply(t, told); err != nil {
				return err
			}
		case api.StateDuplicate, api.StateDoubtful, api.StateRejected:
			if err := a.cameBefore(t, same, other); err != nil {
				return err
			}
		}
		if err := t.KnowInterchange(kept); err != nil {
			return err
		}
		answered := kept.State == api.StateReceived || kept.State == api.StateRejected
		if !answered || len(judging.Replies) == 0 || !judging.Replies[0].Needed() {
			return nil
		}
		return x.acknowledge(t, kept, a.p, judging.Replies[0])
	})
}

func (a *arrival) handler() x12.Handler {
	return x12.Handler{
		Interchange: func(i *x12.Interchange) error {
			if a.i = i; a.p == nil {
				a.kept.Findings = append(a.kept.Findings, finding.New(finding.PartnerUnknown,
					origin.Place{Row: i.Segment.Row, Segment: "ISA " + i.Control}, i.SenderQualifier+":"+i.Sender,
					"No partner has the ids %s:%s (theirs) and %s:%s (ours).", i.SenderQualifier, i.Sender,
					i.ReceiverQualifier, i.Receiver))
			}
			return nil
		},
		Checked: a.set,
		GroupEnd: func(g *x12.Group, sets int) error {
			why := a.broken[g.Control]
			if why == "" {
				return nil
			}
			return a.reject(a.seq-sets, g.Control, fmt.Sprintf("Its functional group %s is rejected. %s", g.Control, why))
		},
		Answer: func(s *x12.Segment) error {
			a.kind("TA1")
			a.heard.hearsTA1(s)
			return nil
		},
		Finding: func(f x12.Finding) error {
			if f.Level == x12.AtGroup {
				a.broken[f.Group] = f.Message
			}
			switch {
			case f.Level != x12.AtInterchange && f.Level != x12.AtGroup:
			case len(a.kept.Findings) < mostFindings:
				a.kept.Findings = append(a.kept.Findings, source.FindingOf(&f))
			default:
				a.more++
			}
			return nil
		},
	}
}

// mostFindings is how many findings are stored for an envelope, and for a set. Somebody who has seen that many looks at
// the interchange itself.
const mostFindings = 200

// further says how many findings are not stored.
func further(n, row int) []finding.Finding {
	if n <= 0 {
		return nil
	}
	return []finding.Finding{finding.New(finding.X12Noted, origin.Place{Row: row}, "",
		"There are %d further errors, which are not listed here; koinos x12 check lists them all.", n)}
}

func (a *arrival) kind(id string) {
	if !slices.Contains(a.kinds, id) {
		a.kinds = append(a.kinds, id)
	}
}

// set takes in a transaction set.
func (a *arrival) set(s *x12.Set, placed []x12.Placed, found []x12.Finding) error {
	a.seq++
	rec := api.SetRecord{Seq: a.seq, Kind: s.ID, Control: s.Control, Row: s.Segments[0].Row, Rows: len(s.Segments),
		State: a.state}
	if s.Group != nil {
		rec.GroupControl = s.Group.Control
	}
	for i := range found[:min(len(found), mostFindings)] {
		rec.Findings = append(rec.Findings, source.FindingOf(&found[i]))
	}
	rec.Findings = append(rec.Findings, further(len(found)-mostFindings, rec.Row)...)
	if x12.Rejected(found) && a.state == api.StateReceived {
		rec.State = api.StateRejected
		if a.p != nil && a.p.Acknowledge.Whole != x12.WholeSet && s.Group != nil && a.broken[s.Group.Control] == "" {
			a.broken[s.Group.Control] = fmt.Sprintf("The set %s in it is rejected, and %s wants all of it rejected then.",
				s.Control, a.p.Name)
		}
	}
	if a.p != nil {
		rec.Findings = append(rec.Findings, a.p.CheckSet(s, placed)...)
		if rec.State == api.StateReceived && barred(a.kept, &rec) {
			rec.State = api.StateHeld
		}
	}
	a.kind(s.ID)
	a.sets = append(a.sets, rec)
	if a.findings += len(rec.Findings); s.ID == "997" || s.ID == "999" {
		if one := readAnswer(s); one != nil {
			a.heard.hears(a.seq, one)
		}
	}
	if len(a.sets) < setsAtATime && a.findings < setsAtATime {
		return nil
	}
	return a.flush()
}

// flush stores the pending sets.
func (a *arrival) flush() error {
	err := a.x.store.Write(a.ctx, func(t *store.Tx) error { return t.PutSets(a.kept.ID, a.sets) })
	a.sets, a.findings = a.sets[:0], 0
	return err
}

// reject marks the sets behind one as rejected with the group or interchange that contains them.
func (a *arrival) reject(behind int, what, why string) error {
	if err := a.flush(); err != nil {
		return err
	}
	return a.x.eachPage(a.ctx, a.kept.ID, behind, func(page []api.SetRecord) ([]api.SetRecord, error) {
		for k := range page {
			s := &page[k]
			if a.state == api.StateReceived {
				s.State = api.StateRejected
			}
			s.Findings = append(s.Findings, finding.New(finding.X12Rejected, origin.Place{Row: s.Row}, what, "%s", why))
		}
		return page, nil
	})
}

// rejectAll rejects the interchange with everything in it.
func (a *arrival) rejectAll(code string) error {
	a.heard = heard{} // what it acknowledges neither
	return a.reject(0, a.i.Control, fmt.Sprintf("The interchange %s is rejected as a whole: it has %s (%s).", a.i.Control,
		x12.InterchangeNote(code), code))
}

// acknowledge writes and stores the answer to an interchange, and makes a job of its delivery.
func (x *Exchange) acknowledge(t *store.Tx, came *api.Interchange, p *partner.Partner, reply *x12.Reply) error {
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
	if err := reply.Write(&b, x12.Answer{Interchange: int(control), Group: int(max(group, 1)), At: x.now(),
		Implementation: p.Acknowledge.With == "999", Duplicate: came.Ruling == api.Refused}); err != nil {
		return err
	}
	kinds := p.Acknowledge.With
	if came.Ruling == api.Refused || reply.Groups() == 0 {
		kinds = "TA1"
	}
	out := api.Interchange{Partner: p.Name, Direction: "out", Control: control, Kinds: kinds, State: api.StateReady,
		Name: p.FileName(kinds, control), Answers: came.ID, At: x.now().UTC(), By: "service"}
	if out.Document, err = x.keepBytes(t, b.Bytes(), out.Name, "service"); err != nil {
		return err
	}
	return x.add(t, &out)
}

// add stores an interchange that has come or is ready to leave, and makes a job of it.
func (x *Exchange) add(t *store.Tx, i *api.Interchange) error {
	if err := t.AddInterchange(i); err != nil {
		return err
	}
	return t.AddInterchangeJob(i.ID, x.now())
}

// keepBytes stores what we write as a document, in the same commit.
func (x *Exchange) keepBytes(t *store.Tx, b []byte, name, by string) (string, error) {
	sum := sha256.Sum256(b)
	sha := hex.EncodeToString(sum[:])
	return sha, t.PutBodies(store.Body{Document: api.Document{SHA: sha, Name: name,
		Shape: source.Shape{Format: source.X12}, ReceivedAt: x.now().UTC(), ReceivedBy: by}, Bytes: b})
}
