package exchange

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"koinos/api"
	"koinos/core/finding"
	"koinos/core/origin"
	"koinos/core/outcome"
	"koinos/core/partner"
	"koinos/load"
	"koinos/store"
)

// take does what the sets of an interchange ask for, as far as it has not been done. The sets of each kind are a load
// through the partner's mapping, and the outcomes of the load's records become those of the sets.
func (x *Exchange) take(ctx context.Context, i *api.Interchange) error {
	p, err := x.Partner(ctx, i.Partner)
	if err != nil {
		return err
	}
	kinds, err := x.store.SetKinds(ctx, i.ID)
	if err != nil {
		return err
	}
	for _, kind := range kinds {
		var held []finding.Finding
		switch {
		case kind == "997" || kind == "999":
			continue // matched when it came
		case p.Outgoing(kind):
			held = []finding.Finding{finding.New(finding.PartnerInvalid, origin.Place{}, kind,
				"A %s goes to %s, a %s, and does not come from there.", kind, p.Name, p.Kind)}
		default:
			err = x.load(ctx, p, i, kind)
			if held = finding.Of(err); errors.Is(err, store.ErrNotFound) {
				held = []finding.Finding{finding.New(finding.PartnerInvalid, origin.Place{}, kind,
					"It cannot be understood: %v.", err)}
			}
		}
		if held != nil { // the partner's mapping or sets are wrong: a person's work
			err = x.settle(ctx, i.ID, kind, nil, func(sets []api.SetRecord) error {
				for k := range sets {
					sets[k].State, sets[k].Findings = api.StateHeld, append(ofSyntax(sets[k].Findings), held...)
				}
				return nil
			})
		}
		if err != nil {
			return err
		}
	}
	state, err := x.stateOf(ctx, i)
	if err != nil {
		return err
	}
	return x.store.Write(ctx, func(t *store.Tx) error {
		return t.SetInterchange(i.ID, state, i.SentAt, i.AcknowledgedAt)
	})
}

// ofSyntax keeps the findings that were made when the set came. Findings about what the set asks for are made again.
func ofSyntax(all []finding.Finding) []finding.Finding {
	return slices.DeleteFunc(all, func(f finding.Finding) bool {
		return f.Order > 0 || f.Code == finding.PartnerInvalid || f.Code == finding.DocumentEmpty
	})
}

// stateOf is the state of an incoming interchange that follows from the states of its sets.
func (x *Exchange) stateOf(ctx context.Context, i *api.Interchange) (string, error) {
	states, err := x.store.SetStates(ctx, i.ID)
	if err != nil {
		return "", err
	}
	has := func(state string) bool { return states[state] > 0 }
	switch { // what is rejected or wrong was told to the sender, and is for it to fix
	case has(api.StateHeld):
		return api.StateHeld, nil
	case has(api.StateReceived):
		return api.StateReceived, nil
	case has(api.StateRejected) && has(api.StateDone):
		return api.StatePartly, nil
	case has(api.StateRejected):
		return api.StateRejected, nil
	case slices.ContainsFunc(i.Findings, func(f finding.Finding) bool { return f.Severity == finding.Error }):
		if len(states) == 0 { // its envelope, and nothing else
			return api.StateRejected, nil
		}
		return api.StateNoted, nil
	}
	return api.StateDone, nil
}

// setsAtATime is how many sets one write settles, so that no write occupies the writer for long.
const setsAtATime = 1_000

// eachPage changes the sets of an interchange behind one, a page at a time. f returns the sets of a page that have
// changed.
func (x *Exchange) eachPage(ctx context.Context, id int64, after int,
	f func([]api.SetRecord) ([]api.SetRecord, error)) error {
	for {
		page, err := x.store.Sets(ctx, id, store.SetFilter{After: after, Limit: setsAtATime})
		if err != nil || len(page) == 0 {
			return err
		}
		after = page[len(page)-1].Seq
		changed, err := f(page)
		if err == nil && len(changed) > 0 {
			err = x.store.Write(ctx, func(t *store.Tx) error { return t.PutSets(id, changed) })
		}
		if err != nil {
			return err
		}
	}
}

// settle changes the waiting sets of one kind of an interchange, all of them or some, a page at a time.
func (x *Exchange) settle(ctx context.Context, id int64, kind string, is func(*api.SetRecord) bool,
	f func([]api.SetRecord) error) error {
	return x.eachPage(ctx, id, 0, func(page []api.SetRecord) ([]api.SetRecord, error) {
		page = slices.DeleteFunc(page, func(s api.SetRecord) bool {
			return s.Kind != kind || s.State != api.StateReceived && s.State != api.StateHeld || is != nil && !is(&s)
		})
		return page, f(page)
	})
}

// load loads the sets of a kind through the partner's mapping.
func (x *Exchange) load(ctx context.Context, p *partner.Partner, i *api.Interchange, kind string) error {
	if _, err := x.mappingOf(ctx, p, kind); err != nil {
		return err
	}
	before, err := x.store.LastLoad(ctx, i.ID, kind)
	if err != nil {
		return err
	}
	asked := outcome.Options{Of: p.Orders(), Encoding: string(p.Encoding()), DryRun: i.Test,
		InSets: true, Asks: p.Changes == partner.ChangesWait}
	for _, code := range i.Accept {
		asked.Accept = append(asked.Accept, finding.Code(code))
	}
	by := p.Name
	if i.AcceptedBy != "" {
		by += ", accepted by " + i.AcceptedBy
	}
	// Each replay is a load of its own, unless a crash interrupted the last one. Orders that are stored are recognised.
	of := func(name, by string, asked outcome.Options, is func(*api.SetRecord) bool) error {
		l, err := x.engine.Start(ctx, load.Request{Document: i.Document, Mapping: p.Sets[kind].Mapping, By: by,
			Name: fmt.Sprintf("interchange %d %s after load %d", i.ID, name, before), Options: asked})
		if err != nil {
			return err
		}
		if l, err = x.engine.UntilDone(ctx, l.ID); err != nil {
			return err
		}
		return x.loaded(ctx, i, kind, l, is)
	}
	rows, decided, err := x.rows(ctx, i, kind)
	if err != nil {
		return err
	}
	if asked.OnlyRows = rows; rows == nil || len(rows) > 0 { // otherwise each of them waits for a person
		if err := of(kind, by, asked, func(s *api.SetRecord) bool { return s.Decided == nil }); err != nil {
			return err
		}
	}
	for k := range decided {
		s := &decided[k]
		one := asked
		one.OnlyRows, one.Taken = []string{fmt.Sprintf("%d-%d", s.Row, s.Row+s.Rows-1)}, s.Decided.Taken
		one.Accept = append(slices.Clone(asked.Accept), finding.ChangeAsked)
		if err := of(fmt.Sprintf("%s set %d", kind, s.Seq), p.Name+", decided by "+s.Decided.By, one,
			func(other *api.SetRecord) bool { return other.Seq == s.Seq }); err != nil {
			return err
		}
		// What is still held is decided anew, by what the set is found to ask for then.
		now, err := x.store.SetOf(ctx, i.ID, s.Seq)
		if err == nil && now.State == api.StateHeld {
			err = x.store.Write(ctx, func(t *store.Tx) error { return t.Undecide(i.ID, s.Seq) })
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// rows are the rows of the sets of a kind that are to be loaded together; nil means the whole document. Those of which
// a person has decided what is taken are loaded one by one.
func (x *Exchange) rows(ctx context.Context, i *api.Interchange, kind string) (rows []string, decided []api.SetRecord,
	err error) {
	first, last, all := 0, 0, true
	end := func() {
		if first > 0 {
			rows = append(rows, fmt.Sprintf("%d-%d", first, last))
		}
		first = 0
	}
	for after := 0; ; {
		sets, err := x.store.Sets(ctx, i.ID, store.SetFilter{After: after, Limit: setsAtATime})
		if err != nil {
			return nil, nil, err
		}
		if len(sets) == 0 {
			break
		}
		after = sets[len(sets)-1].Seq
		for k := range sets {
			s := &sets[k]
			switch {
			case s.Kind != kind: // the mapping takes none of them
			case s.State == api.StateHeld && s.Decided != nil:
				decided = append(decided, *s)
				all = false
				end()
			case (s.State == api.StateReceived || s.State == api.StateHeld) && !barred(i, s):
				if first == 0 {
					first = s.Row
				}
				last = s.Row + s.Rows - 1
			default:
				all = false
				end()
			}
		}
	}
	if end(); all {
		return nil, nil, nil
	}
	if rows == nil {
		rows = []string{}
	}
	return rows, decided, nil
}

// barred reports whether a set breaks a rule of its partner that nobody has overridden. Nothing is done with such a
// set.
func barred(i *api.Interchange, s *api.SetRecord) bool {
	return !slices.Contains(i.Accept, string(finding.X12Rule)) &&
		slices.ContainsFunc(s.Findings, func(f finding.Finding) bool {
			return f.Code == finding.X12Rule && f.Severity == finding.Error
		})
}

// loaded transfers the outcomes of a load to the sets that it was made of.
func (x *Exchange) loaded(ctx context.Context, i *api.Interchange, kind string, l outcome.Load,
	is func(*api.SetRecord) bool) error {
	spans := &spanReader{x: x, ctx: ctx, load: l.ID}
	return x.settle(ctx, i.ID, kind, is, func(sets []api.SetRecord) error {
		orders := make([]int64, 0, len(sets))
		for k := range sets {
			if barred(i, &sets[k]) {
				sets[k].State = api.StateHeld
				continue
			}
			if err := x.outcome(ctx, l, &sets[k], spans); err != nil {
				return err
			}
			for _, o := range sets[k].Orders {
				orders = append(orders, o.OrderID)
			}
		}
		revisions, err := x.store.RevisionsBy(ctx, l.ID, orders)
		for k := range sets {
			for n := range sets[k].Orders {
				o := &sets[k].Orders[n]
				o.Revision = revisions[o.OrderID]
			}
		}
		return err
	})
}

// outcome transfers the outcomes of a set's records to the set.
func (x *Exchange) outcome(ctx context.Context, l outcome.Load, s *api.SetRecord, spans *spanReader) error {
	mine, err := spans.of(s.Row, s.Row+s.Rows-1)
	if err != nil {
		return err
	}
	s.Findings, s.LoadID, s.State, s.Orders = ofSyntax(s.Findings), l.ID, api.StateDone, nil
	if len(mine) == 0 {
		s.State = api.StateHeld
		s.Findings = append(s.Findings, x.unread(ctx, l, s)...)
		return nil
	}
	for _, o := range mine {
		of := api.SpokenOf{Number: o.SenderNumber}
		if !l.DryRun { // a test is not a thing that was said of the order
			of.OrderID = o.OrderID
		}
		s.Orders = append(s.Orders, of)
		if o.Outcome.Failed() {
			s.State = api.StateHeld
		}
		if o.Errors+o.Warnings == 0 {
			continue
		}
		found, err := x.store.Findings(ctx, l.ID, store.FindingFilter{Order: o.Seq, Limit: 50})
		if err == nil && len(found) == 50 && o.Outcome == outcome.Held { // a person decides about each change
			found, err = x.store.Findings(ctx, l.ID, store.FindingFilter{Order: o.Seq, Limit: 500})
		}
		if err != nil {
			return err
		}
		for _, f := range found {
			if f.Finding.Code != finding.X12Noted && f.Finding.Code != finding.X12Rejected &&
				f.Finding.Code != finding.X12Envelope {
				s.Findings = append(s.Findings, f.Finding)
			}
		}
	}
	return nil
}

// unread says why a load made nothing of a set.
func (x *Exchange) unread(ctx context.Context, l outcome.Load, s *api.SetRecord) []finding.Finding {
	if l.Status != outcome.Done {
		found, err := x.store.Findings(ctx, l.ID, store.FindingFilter{Severity: string(finding.Error), Limit: 1})
		if err == nil && len(found) > 0 && found[0].Finding.Order == 0 {
			return []finding.Finding{found[0].Finding}
		}
		return []finding.Finding{finding.New(finding.DocumentEmpty, origin.Place{Row: s.Row}, "",
			"The load %d was %s before it came to this set.", l.ID, l.Status)}
	}
	return []finding.Finding{finding.New(finding.DocumentEmpty, origin.Place{Row: s.Row}, "",
		"The %s is about no order.", s.Kind)}
}

// spanReader reads the outcomes of a load's records in their order.
type spanReader struct {
	x     *Exchange
	ctx   context.Context
	load  int64
	page  []outcome.SpanOutcome
	after int
	ended bool
}

// of returns the outcomes of the records within rows; rows must be asked for in their order.
func (r *spanReader) of(first, last int) (mine []outcome.SpanOutcome, err error) {
	for {
		if len(r.page) == 0 && !r.ended {
			if r.page, err = r.x.store.SpansFrom(r.ctx, r.load, r.after, 1_000); err != nil {
				return nil, err
			}
			if r.ended = len(r.page) == 0; !r.ended {
				r.after = r.page[len(r.page)-1].First
			}
		}
		if len(r.page) == 0 || r.page[0].First > last {
			return mine, nil
		}
		if r.page[0].First >= first {
			mine = append(mine, r.page[0])
		}
		r.page = r.page[1:]
	}
}
