package syncs

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"

	"koinos/api"
	"koinos/core/finding"
	"koinos/core/jsondoc"
	"koinos/core/plan"
	"koinos/core/syncing"
	"koinos/core/system"
	"koinos/core/tree"
	"koinos/remote"
	"koinos/store"
)

// asAgreed reports whether nothing has happened to the order since both sides agreed: what came is the echo of what was
// written, or was read. This costs no call.
func (p *push) asAgreed(ctx context.Context) (bool, error) {
	links, err := p.s.store.Links(ctx, p.id)
	if err != nil {
		return false, err
	}
	if !p.fresh { // its id is not its own yet
		p.linked = linked(links, syncing.Target{System: p.o.Name, Record: p.r.Name}, p.part)
	}
	if p.linked != nil && p.of != "" && p.linked.Revision > 0 { // it was written, once
		p.found, p.number = &plan.Found{Key: p.linked.Key}, p.linked.Number
		return true, nil
	}
	if p.of != "" && p.stored != nil { // it may be told here before it is kept which record it is
		system, record, err := p.s.store.BroughtBy(ctx, p.id, revisionOf(p.stored, p.of, p.part))
		if err != nil || system == p.o.Name && record == p.r.Name {
			return err == nil, err
		}
	}
	is := p.linked != nil && p.sync != "" && !p.dry && !p.cancelled && p.stored != nil && p.linked.Revision > 0 &&
		p.linked.Revision == p.stored.Revision && p.linked.Agreed == string(p.text)
	if is {
		p.found, p.number = &plan.Found{Key: p.linked.Key}, p.linked.Number
	}
	return is, nil
}

// belongs finds the record of the order that a part of it belongs to.
func (p *push) belongs(ctx context.Context) error {
	links, err := p.s.store.Links(ctx, p.id)
	if err != nil {
		return err
	}
	l := linked(links, syncing.Target{System: p.o.Name, Record: p.r.Write.Of}, 0)
	if l == nil || l.Revision == 0 {
		return blocked(api.OrderNotThere, "It waits until the order is in %s as its %s.", p.o.Name, p.r.Write.Of)
	}
	p.parent = l.Key
	if p.parentIs, err = json.Marshal(l.Key); err != nil {
		return err
	}
	if n, _, err := jsondoc.Parse([]byte(l.Found), 1); err == nil && n != nil { // a number stays one
		if key := p.o.Records[p.r.Write.Of].Key.First(n); key != nil && key.Text == l.Key {
			p.parentIs = key.AppendJSON(nil)
		}
	}
	return nil
}

// mayNotMake reports whether a missing record must not be created: because the sync says so, or because the order
// existed before Koinos was introduced.
func (p *push) mayNotMake() bool { return p.linkedOnly || p.stored.Opening && p.sync != "" }

// stuck says what is still due after all rounds.
func (p *push) stuck(steps []plan.Step) error {
	why := []string{fmt.Sprintf("After %d attempts the record is still not what it should be: the system changes what it is "+
		"sent, or somebody changes it at the same time. It would still be right by: %s.", mostRounds, steps[0].Does)}
	for _, ch := range steps[0].Changes {
		where := ch.Field
		if ch.Line != "" {
			where += " of line " + ch.Line
		}
		why = append(why, fmt.Sprintf("%s is %s there and should be %s.", finding.Capital(where), orBlank(ch.Was),
			orBlank(ch.Is)))
	}
	return &blockedError{api.NotSettled, why}
}

// is is the link between the order and the record, as far as both agree.
func (p *push) is(revision int) *api.Link {
	l := &api.Link{System: p.o.Name, Record: p.r.Name, OrderID: p.id, Part: p.part, Key: p.found.Key,
		Number:   p.number,
		Revision: revision, Agreed: string(p.text)}
	if p.found.Root != nil {
		l.Found = string(p.found.Root.AppendJSON(nil))
	}
	return l
}

// take links the record with the order at once. Whatever happens next, the record is not created a second time.
func (p *push) take(ctx context.Context) error {
	err := p.s.store.PutLink(ctx, p.is(0), p.s.now())
	var taken *store.TakenError
	if errors.As(err, &taken) {
		return blocked(api.TargetTaken, "The record %s is the order with the id %d already; two orders cannot be one "+
			"record.", p.found.Key, taken.Order)
	}
	return err
}

// agree notes that the record says what it should say.
func (p *push) agree() {
	if p.found == nil {
		return
	}
	revision := 0
	if p.stored != nil {
		revision = p.stored.Revision
	}
	p.link = p.is(revision)
	if p.shares == nil || p.found.Root == nil {
		return
	}
	base := p.found.Root
	if p.merged != nil {
		base = p.merged.Base(p.found.Root, p.then)
		if here, _ := p.merged.Changes(); here { // the order does not have yet what they changed
			p.link.Revision, p.link.Decided, p.fetches = 0, p.linked.Decided, true
		}
	}
	p.link.Base = string(base.AppendJSON(nil))
}

// locate finds the record: by the link, or by the value that it can be found by.
func (p *push) locate(ctx context.Context) error {
	if l := p.linked; l != nil {
		p.found, p.number = &plan.Found{Key: l.Key}, l.Number
		err := p.read(ctx)
		if missing(err) {
			return p.lostRecord(ctx, l)
		}
		return err
	}
	if p.stored == nil || p.unseen() {
		return nil
	}
	return p.seek(ctx)
}

func missing(err error) bool {
	var problem *remote.Problem
	return errors.As(err, &problem) && problem.Kind == remote.Missing
}

// lostRecord says what becomes of an order whose record does not exist any more.
func (p *push) lostRecord(ctx context.Context, l *api.Link) error {
	p.found, p.linked = nil, nil
	switch {
	case p.cancelled: // it is as gone as it should be
		return nil
	case p.lost == syncing.LostCreate:
		p.gone = l.Key
		if !p.dry {
			if err := p.s.store.DropLink(ctx, l); err != nil {
				return err
			}
		}
		return p.seek(ctx)
	case p.lost == syncing.LostCancel:
		if p.dry {
			p.note(plan.Step{Does: "cancel the order here: its record " + l.Key + " is gone"})
			p.cancelled = true
			return nil
		}
		err := p.s.engine.Withdraw(ctx, p.id, fmt.Sprintf("%s: its %s %s is gone", p.o.Name, p.r.Name, l.Key))
		p.cancelled = err == nil
		return err
	}
	return blocked(api.TargetLost, "The record %s (%s) that the order is linked with is not in %s any more.", l.Key,
		l.Number, p.o.Name)
}

// reread reads the record as it is after calls.
func (p *push) reread(ctx context.Context) error {
	if p.found == nil {
		return p.seek(ctx)
	}
	err := p.read(ctx)
	if missing(err) { // what was answered to a repeated key is believed only if it is there
		l := p.is(0)
		if p.gone == l.Key {
			return err
		}
		p.gone, p.found = l.Key, nil
		return p.s.store.DropLink(ctx, l)
	}
	return err
}

// seek looks for a record that is not linked yet, by the value that it can be found by.
func (p *push) seek(ctx context.Context) error {
	f := p.r.Finds[p.r.Write.Find]
	value := ""
	if n := f.Path.First(p.wanted); n != nil && n.Scalar() && n.Kind != tree.Null {
		value = n.Text
	}
	if value == "" && p.cancelled {
		return nil
	}
	if value == "" {
		return blocked(api.CannotWrite, "The mapping %s writes nothing at %s, by which a %s is found.", p.mapping,
			f.Path,
			p.r.Name)
	}
	all, err := p.alike(ctx, f, value)
	if err != nil {
		return err
	}
	all = slices.DeleteFunc(all, func(f system.Found) bool { return f.Gone || f.Key == p.gone })
	switch len(all) {
	case 0:
		return nil
	case 1:
		p.found, p.number = &plan.Found{Key: all[0].Key, Root: all[0].Node}, all[0].Number
	default:
		return blocked(api.TargetAmbiguous, "%s has %d records with the %s %q; it is not clear which one is meant.",
			p.o.Name, len(all), f.Name, value)
	}
	if err := p.read(ctx); err != nil || p.dry {
		return err
	}
	return p.take(ctx)
}

// alike returns the records that have a value: from a list, or from the record of the order that contains them.
func (p *push) alike(ctx context.Context, f *system.Find, value string) ([]system.Found, error) {
	if f.In == nil {
		return p.o.like(ctx, p.r, f, value)
	}
	of, err := p.o.whole(ctx, p.o.Records[p.r.Write.Of], p.parent)
	if err != nil {
		return nil, err
	}
	var all []system.Found
	for _, n := range f.In.All(of) {
		if !f.Is(n, value) {
			continue
		}
		is, err := p.r.Find(n)
		if err != nil {
			return nil, err
		}
		all = append(all, is)
	}
	return all, nil
}

// read reads the record with a known key. One that stands in the record of the order was read when it was found.
func (p *push) read(ctx context.Context) error {
	if p.r.Get == "" {
		return nil
	}
	a, err := p.o.client.One(ctx, p.r, p.found.Key)
	if err != nil {
		return err
	}
	f, err := p.r.Alone(a)
	if err == nil {
		err = p.o.rest(ctx, p.r, &f, true)
	}
	if err != nil {
		return err
	}
	p.found, p.number = &plan.Found{Key: f.Key, ETag: a.ETag, Root: f.Node}, f.Number
	return nil
}

// mostLike is how many pages of a list are searched for a record.
const mostLike = 20

// like returns the records of a kind that have a value.
func (o *opened) like(ctx context.Context, r *system.Record, f *system.Find, value string) (all []system.Found,
	err error) {
	address, err := r.Like(o.client.Base(), f, value)
	for pages := 0; address != "" && err == nil; pages++ {
		if pages == mostLike {
			return nil, blocked(api.CannotRead,
				"%s gives more than %d pages of %s that may be %q; it does not narrow its list by %s.",
				o.Name, mostLike, r.Name, value, f.Parameter)
		}
		var a system.Answer
		var page *system.Page
		if a, err = o.page(ctx, &r.List, address); err != nil {
			return nil, err
		}
		if page, err = r.Read(a); err != nil {
			return nil, err
		}
		for i := range page.Records {
			if f.Is(page.Records[i].Node, value) {
				all = append(all, page.Records[i])
			}
		}
		address = page.Next
	}
	return all, err
}
