package exchange

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"

	"koinos/core/finding"
	"koinos/core/list"
	"koinos/core/mapping"
	"koinos/core/notice"
	"koinos/core/order"
	"koinos/core/partner"
	"koinos/core/report"
	"koinos/core/source"
	"koinos/load"
	"koinos/store"
)

// take does what the sets of an interchange ask for, as far as that has not
// been done: orders are loaded, notices brought into the orders they speak of.
func (x *Exchange) take(ctx context.Context, id int64) error {
	i, err := x.store.Interchange(ctx, id, x.now())
	if err != nil {
		return err
	}
	p, err := x.Partner(ctx, i.Partner)
	if err != nil {
		return err
	}
	var kinds []string
	for _, s := range i.Sets {
		if (s.State == store.Received || s.State == store.Held) && !slices.Contains(kinds, s.Kind) {
			kinds = append(kinds, s.Kind)
		}
	}
	for _, kind := range kinds {
		switch {
		case kind == "997" || kind == "999":
			continue // matched when it came
		case p.Outgoing(kind):
			err = x.settle(ctx, &i, kind, func(s *store.SetRecord) {
				s.Findings = append(s.Findings, finding.New(finding.PartnerInvalid, finding.Place{Row: s.Row}, kind, "A %s goes to %s, a %s, and does not come from there.", kind, p.Name, p.Kind))
			})
		case kind == "850":
			err = x.load(ctx, p, &i)
		default:
			err = x.notices(ctx, p, &i, kind)
		}
		if held := finding.Of(err); held != nil { // the partner's mapping or sets are wrong: a person's work
			err = x.settle(ctx, &i, kind, func(s *store.SetRecord) { s.Findings = append(s.Findings, held...) })
		}
		if errors.Is(err, store.ErrNotFound) {
			said := err.Error()
			err = x.settle(ctx, &i, kind, func(s *store.SetRecord) {
				s.Findings = append(s.Findings, finding.New(finding.PartnerInvalid, finding.Place{}, kind, "It cannot be understood: %s.", said))
			})
		}
		if err != nil {
			return err
		}
	}
	return x.store.Write(ctx, func(t *store.Tx) error { return t.SetInterchange(i.ID, stateOf(&i), i.SentAt, i.AcknowledgedAt) })
}

// stateOf is an incoming interchange's state by those of its sets.
func stateOf(i *store.Interchange) string {
	has := map[string]bool{}
	for _, s := range i.Sets {
		has[s.State] = true
	}
	for _, state := range []string{store.Held, store.Received} {
		if has[state] {
			return state
		}
	}
	switch { // what is rejected or wrong was told to the sender, and is for it to mend
	case has[store.Rejected] && has[store.Done]:
		return store.Partly
	case has[store.Rejected]:
		return store.Rejected
	case slices.ContainsFunc(i.Findings, func(f finding.Finding) bool { return f.Severity == finding.Error }):
		return store.Noted
	}
	return store.Done
}

// settle holds the sets of a kind that are waiting.
func (x *Exchange) settle(ctx context.Context, i *store.Interchange, kind string, say func(*store.SetRecord)) error {
	return x.store.Write(ctx, func(t *store.Tx) error {
		for k := range i.Sets {
			s := &i.Sets[k]
			if s.Kind != kind || s.State != store.Received && s.State != store.Held {
				continue
			}
			s.Findings = slices.DeleteFunc(s.Findings, func(f finding.Finding) bool { return f.Code == finding.PartnerInvalid })
			s.State = store.Held
			say(s)
			if err := t.SetSet(*s); err != nil {
				return err
			}
		}
		return nil
	})
}

// load loads the orders of an interchange through the partner's mapping.
func (x *Exchange) load(ctx context.Context, p *partner.Partner, i *store.Interchange) error {
	if _, err := x.mappingOf(ctx, p, "850"); err != nil {
		return err
	}
	attempt := 1
	for _, s := range i.Sets {
		if s.LoadID != 0 {
			attempt++ // it was loaded before, and somebody wants it again
			break
		}
	}
	name := fmt.Sprintf("interchange %d 850 %d", i.ID, attempt)
	if attempt > 1 {
		name = "" // each replay is a load of its own; orders that are stored are recognised
	}
	var asked report.Options
	for _, s := range i.Sets {
		if s.Kind == "850" && s.State != store.Rejected {
			asked.OnlyRows = append(asked.OnlyRows, strconv.Itoa(s.Row))
		}
	}
	if len(asked.OnlyRows) == len(i.Sets) {
		asked.OnlyRows = nil // all of them
	}
	l, err := x.engine.Start(ctx, load.Request{Document: i.Document, Mapping: p.Sets["850"].Mapping, By: p.Name, Name: name, Options: asked})
	if err != nil {
		return err
	}
	if l, err = x.engine.Wait(ctx, l.ID); err != nil {
		return err
	}
	if !l.Status.Ended() {
		return fmt.Errorf("load %d was left %s", l.ID, l.Status)
	}
	return x.loaded(ctx, i, l)
}

// loaded brings the outcomes of a load to the sets that it was made of.
func (x *Exchange) loaded(ctx context.Context, i *store.Interchange, l report.Load) error {
	spans, err := x.store.Spans(ctx, l.ID, "", 1, 1<<30, 1<<20)
	if err != nil {
		return err
	}
	seqOf := map[int]int{} // by the row of the set's ST
	for _, s := range spans {
		seqOf[s.First] = s.Seq
	}
	return x.store.Write(ctx, func(t *store.Tx) error {
		for k := range i.Sets {
			s := &i.Sets[k]
			if s.Kind != "850" || s.State == store.Done {
				continue
			}
			seq, loaded := seqOf[s.Row]
			if !loaded { // it was rejected before; or its orders were not read, which the load says
				if s.State != store.Rejected {
					s.State, s.LoadID = store.Held, l.ID
				}
				if err := t.SetSet(*s); err != nil {
					return err
				}
				continue
			}
			s.LoadID = l.ID
			outcome, err := x.store.Outcome(ctx, l.ID, seq)
			switch {
			case err != nil:
				return err
			case outcome.OrderID != 0 && outcome.Outcome != report.Refused:
				s.State, s.OrderID, s.Number = store.Done, outcome.OrderID, outcome.SenderNumber
				if s.Said == nil {
					if s.Said, s.Revision, err = asStored(t, outcome.OrderID); err != nil {
						return err
					}
				}
			default:
				s.Number = outcome.SenderNumber
				if s.State != store.Rejected {
					s.State = store.Held
				}
				found, err := x.store.Findings(ctx, l.ID, store.FindingFilter{Order: outcome.Seq, Limit: 50})
				if err != nil {
					return err
				}
				s.Findings = slices.DeleteFunc(s.Findings, func(f finding.Finding) bool { return f.Order > 0 })
				for _, f := range found {
					if f.Finding.Code != finding.X12Noted && f.Finding.Code != finding.X12Rejected && f.Finding.Code != finding.X12Envelope {
						s.Findings = append(s.Findings, f.Finding)
					}
				}
			}
			if err := t.SetSet(*s); err != nil {
				return err
			}
		}
		return nil
	})
}

// asStored is an order as it came: what its first revision was.
func asStored(t *store.Tx, id int64) (json.RawMessage, int, error) {
	o, err := t.Order(id)
	if err != nil {
		return nil, 0, err
	}
	seen := notice.Seller(&o.Order)
	b, err := json.Marshal(seen)
	return b, o.Revision, err
}

// said is a notice that was read from a set.
type said struct {
	view  order.Order
	draft *mapping.Draft
	row   int
}

// locate says where in the document a change of the order comes from: the value
// of the same name, or else the line that speaks of it.
func (s *said) locate(c *order.Change, is *order.Order) {
	line := 0
	if c.Line > 0 {
		for i := range s.view.Lines {
			if s.view.Lines[i].Number == is.Lines[c.Line-1].Number {
				line = i + 1
			}
		}
		if line == 0 {
			return
		}
	}
	at := s.draft.Trace.Place(line, c.Field)
	if at == (finding.Place{}) && line > 0 {
		at = s.draft.Trace.Line(line)
	}
	c.At, c.Row = at.String(), at.Row
}

// notices brings the notices of a kind into the orders that they speak of.
func (x *Exchange) notices(ctx context.Context, p *partner.Partner, i *store.Interchange, kind string) error {
	m, err := x.mappingOf(ctx, p, kind)
	if err != nil {
		return err
	}
	lists, err := x.store.Set(ctx)
	if err != nil {
		return err
	}
	all, err := x.drafts(i.Document, m, lists)
	if err != nil {
		return err
	}
	for k := range i.Sets {
		s := &i.Sets[k]
		if s.Kind != kind || s.State != store.Received && s.State != store.Held {
			continue
		}
		var mine []said
		for _, one := range all {
			if one.row >= s.Row && one.row < s.Row+s.Rows {
				mine = append(mine, one)
			}
		}
		if err := x.notice(ctx, p, s, mine); err != nil {
			return err
		}
	}
	return nil
}

// drafts reads every notice of a document.
func (x *Exchange) drafts(sha string, m *mapping.Mapping, lists *list.Set) ([]said, error) {
	f, err := x.store.OpenFile(sha)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	src, err := source.Open(f, info.Size(), m.Options(source.DefaultLimits))
	if err != nil {
		return nil, err
	}
	table := mapping.NewTable(m, src, nil)
	var all []said
	for {
		g, err := table.Next()
		if errors.Is(err, io.EOF) {
			return all, nil
		}
		if err != nil {
			return nil, err
		}
		if g.Broken {
			continue // an envelope; that is said with the interchange
		}
		d := m.Draft(&g, lists)
		all = append(all, said{d.Order, d, g.Rows[0].Row})
	}
}

// notice brings what one set says into its orders, all or none.
func (x *Exchange) notice(ctx context.Context, p *partner.Partner, s *store.SetRecord, all []said) error {
	s.Findings = slices.DeleteFunc(s.Findings, func(f finding.Finding) bool {
		return f.Code == finding.OrderUnknown || f.Code == finding.NoticeDiffers || f.Order > 0
	})
	s.State = store.Done
	if len(all) == 0 {
		s.State = store.Held
		s.Findings = append(s.Findings, finding.New(finding.DocumentEmpty, finding.Place{Row: s.Row}, "", "The %s speaks of no order.", s.Kind))
	}
	kind := order.Sales
	if p.Kind == partner.Supplier {
		kind = order.Purchase
	}
	return x.store.Write(ctx, func(t *store.Tx) error {
		type change struct {
			was, is *order.Order
			from    *said
		}
		var changes []change
		for n := range all {
			one := &all[n]
			s.Number = one.view.SenderNumber
			for _, f := range one.draft.Findings {
				if f.Severity == finding.Error {
					s.State = store.Held
				}
				s.Findings = append(s.Findings, f)
			}
			number, sender := "", one.view.SenderNumber
			if kind == order.Purchase {
				number, sender = sender, ""
			}
			id, err := x.store.OrderOf(ctx, string(kind), p.Name, number, sender)
			if err != nil {
				return err
			}
			if id == 0 {
				s.State = store.Held
				f := finding.New(finding.OrderUnknown, one.draft.Trace.Place(0, "sender_number"), one.view.SenderNumber, "No %s order of %s has the number %q.", kind, p.Name, one.view.SenderNumber)
				f.Field = "sender_number"
				s.Findings = append(s.Findings, f)
				continue
			}
			stored, err := t.Order(id)
			if err != nil {
				return err
			}
			is, troubles := notice.Take(s.Kind, &stored.Order, &one.view)
			for _, tr := range troubles {
				at := one.draft.Trace.Place(tr.Line, tr.Field)
				if at == (finding.Place{}) && tr.Line > 0 {
					at = one.draft.Trace.Line(tr.Line)
				}
				f := finding.New(finding.NoticeDiffers, at, tr.Value, "%s", tr.Message)
				f.Field, f.Line = tr.Field, tr.Line
				s.Findings = append(s.Findings, f)
			}
			if _, err := is.Compute(order.HalfUp); err != nil {
				return err
			}
			changes = append(changes, change{&stored.Order, is, one})
			s.OrderID, s.Revision = id, stored.Revision+1
			if s.Said, err = json.Marshal(one.view); err != nil {
				return err
			}
		}
		if s.State == store.Done {
			for _, c := range changes {
				diff := order.Diff(c.was, c.is)
				for k := range diff {
					c.from.locate(&diff[k], c.is)
				}
				if len(diff) == 0 && c.was.Stage == c.is.Stage {
					continue
				}
				if err := t.ChangeOrder(store.Changed{Was: c.was, Is: c.is, Action: s.Kind + " received", Changes: diff}, p.Name, x.now()); err != nil {
					return err
				}
			}
		}
		return t.SetSet(*s)
	})
}
