package syncs

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"koinos/api"
	"koinos/core/finding"
	"koinos/core/intent"
	"koinos/core/jsondoc"
	"koinos/core/list"
	"koinos/core/mapping"
	"koinos/core/order"
	"koinos/core/plan"
	"koinos/core/syncing"
	"koinos/core/system"
	"koinos/core/tree"
	"koinos/core/writing"
	"koinos/remote"
	"koinos/store"
)

// mostRounds is how often a record is read and worked out again in one push.
const mostRounds = 6

// wish is what somebody wants of the record of an order.
type wish struct {
	of         string // what of the order: a shipment and the like; "" is the order itself
	part       int64  // which one
	mapping    string // that writes it; "" is the one of the description
	dry        bool
	cancelled  bool   // the record is not wanted, whatever the order says
	linkedOnly bool   // none is made
	lost       string // what becomes of it where the linked record is gone: syncing.LostHold and the like
	sync, push string // which asks; "" is a person
	by         string
	first      bool               // nobody has tried it yet
	order      *store.StoredOrder // as it would be; nil is as it is stored
	read       *store.StoredOrder // as it was when it was read; nil is that nobody has
	fresh      bool               // that order is not stored yet
}

// push is one record that is being brought to what an order says.
type push struct {
	wish
	s        *Syncs
	o        *opened
	r        *system.Record
	id       int64              // of the order
	stored   *store.StoredOrder // nil: the order is gone
	wanted   *tree.Node
	text     []byte // of wanted, before references are resolved
	found    *plan.Found
	number   string
	rules    *plan.Planner
	looked   []string                            // look-ups that it believed
	parent   string                              // key of the record of the order that it belongs to
	parentIs []byte                              // the same as JSON
	whose    *tree.Node                          // that record, once it was read
	lines    map[*system.Refer]*system.LineIndex // of it
	gone     string                              // key of the linked record that the system does not have any more
	linked   *api.Link                           // as it was; nil is that there was none
	shares   *sharing                            // nil: only we write the record
	merged   *plan.Merged
	then     *tree.Node // the record when both agreed, where it was merged
	fetches  bool       // the record has what the order is to take in
	unsure   *plan.Step // a creation of which nobody knows whether it was done
	quiet    bool       // nothing was asked and nothing done: it is no news
	answered bool       // what was found is the answer to the call that made it
	link     *api.Link  // that is to be kept, once all is right
	out      *api.Push
}

// blockedError contains what prevents a push from continuing, one sentence each.
type blockedError struct {
	code string // of the reason, as in api
	why  []string
}

func (e *blockedError) Error() string { return strings.Join(e.why, " ") }

func blocked(code, format string, args ...any) error {
	return &blockedError{code, []string{fmt.Sprintf(format, args...)}}
}

// Push makes a record of a system say what an order says: it works out what the record should say, reads what it does
// say, and makes the calls that are due. A record that is right costs no write.
func (s *Syncs) Push(ctx context.Context, name string, n api.NewPush, by string) (api.Push, error) {
	out := api.Push{System: name, Record: n.Record, State: api.PushDone, Steps: []api.PushStep{}}
	o, r, err := s.target(ctx, syncing.Target{System: name, Record: n.Record})
	if err != nil {
		return out, err
	}
	if r.Write == nil || r.Write.Mapping == "" {
		return out, asked("The description of %s does not say which mapping writes an order as its %s (write: "+
			"{mapping: …}).", name, n.Record)
	}
	if m, _, err := s.mapping(ctx, r.Write.Mapping); err != nil {
		return out, err
	} else if m.Kind != intent.Order {
		return out, asked("%s of %s are written of each %s of an order: by a sync, with of: %s.", n.Record, name,
			m.Kind, m.Kind)
	}
	id, err := s.store.FindOrder(ctx, n.Order)
	if err != nil {
		return out, err
	}
	out, f, err := s.bring(ctx, o, r, id, wish{dry: n.DryRun, by: by})
	if err == nil && !n.DryRun && out.State != api.PushAway {
		err = s.store.FinishPush(ctx, f, s.now())
	}
	return out, err
}

// target returns a kind of record of a system.
func (s *Syncs) target(ctx context.Context, t syncing.Target) (*opened, *system.Record, error) {
	o, err := s.system(ctx, t.System, 0)
	if err != nil {
		return nil, nil, err
	}
	r, err := o.record(t.Record)
	return o, r, err
}

// bring makes the record of an order say what is wished. What must be stored is in the Finished. An error is not about
// the record; what prevents the record from being right is in the Push.
func (s *Syncs) bring(ctx context.Context, o *opened, r *system.Record, id int64, w wish) (out api.Push,
	f *store.Finished, err error) {
	out = api.Push{System: o.Name, Record: r.Name, OrderID: id, State: api.PushDone, Steps: []api.PushStep{}}
	// one push of a record at a time
	free, err := s.holdFor(ctx, fmt.Sprintf("%s %s %d %d", o.Name, r.Name, id, w.part))
	if err != nil {
		return out, nil, err
	}
	defer free()
	p := &push{wish: w, s: s, o: o, r: r, id: id, out: &out}
	t := syncing.Target{System: o.Name, Record: r.Name}
	if p.shares, err = s.sharing(ctx, t); err != nil {
		return out, nil, err
	}
	if p.shares != nil && w.sync != "" { // who brings records of it in says first what both agree on
		done, err := s.holdFor(ctx, "keep "+t.String())
		if err != nil {
			return out, nil, err
		}
		done()
	}
	if p.mapping == "" {
		p.mapping = r.Write.Mapping
	}
	if p.stored = w.order; p.stored == nil {
		p.stored, err = s.newest(ctx, id, w.read)
	}
	switch {
	case errors.Is(err, store.ErrNotFound) && w.sync != "":
		p.stored, p.cancelled = nil, true
	case err != nil:
		return out, nil, err
	default:
		out.Order = p.stored.Order.Number
		if w.of == "" && !p.cancelled {
			if p.cancelled, err = s.unwanted(ctx, p.stored, r); err != nil {
				return out, nil, err
			}
		}
	}
	if err = p.run(ctx); err != nil {
		s.forget(o, r, p.looked) // the next attempt asks anew
	}
	if p.found != nil {
		out.Key, out.Number = p.found.Key, p.number
	}
	if err = judge(&out, err); err != nil {
		return out, nil, err
	}
	out.Fetches = p.fetches
	f = &store.Finished{Link: p.link, Log: &api.Pushed{Sync: w.sync, Push: w.push, System: o.Name, Record: r.Name,
		OrderID: id,
		Part:    w.part, Order: out.Order, Key: out.Key, Outcome: p.outcome(), Steps: out.Steps,
		Why: strings.Join(out.Why, " "),
		At:  s.now().UTC(), By: w.by}}
	if p.quiet && out.State == api.PushDone {
		f.Log = nil
	}
	return out, f, nil
}

// mostReasons is how many reasons are said: an order may have thousands of lines with the same trouble.
const mostReasons = 20

// few returns the first reasons, and the number of the others in words.
func few(why []string) []string {
	if more := len(why) - mostReasons; more > 1 {
		return append(slices.Clone(why[:mostReasons]), fmt.Sprintf("There are %d further reasons like these.", more))
	}
	return why
}

// judge records in the Push why an error prevents the record from being right. It returns other errors.
func judge(out *api.Push, err error) error {
	var problem *remote.Problem
	var no *blockedError
	var cannot *plan.Blocked
	var wrong *system.AnswerError
	out.State = cmp.Or(out.State, api.PushDone)
	switch {
	case err == nil:
		return nil
	case errors.As(err, &no):
		out.Code, out.Why = no.code, few(no.why)
	case errors.As(err, &cannot):
		out.Code, out.Why = api.CannotChange, []string{cannot.Why}
	case finding.Of(err) != nil: // the mapping cannot be read any more
		out.Code = api.CannotWrite
		for _, f := range finding.Of(err) {
			out.Why = append(out.Why, finding.Capital(f.Error()))
		}
		out.Why = few(out.Why)
	case errors.As(err, &wrong):
		out.Code, out.Why = api.CannotRead, []string{finding.Capital(wrong.Error()) + "."}
	case errors.As(err, &problem):
		out.Code, out.Why = api.TargetRefused, []string{problem.Why}
		switch problem.Kind {
		case remote.Away, remote.Unclear:
			out.State, out.Code = api.PushAway, ""
			return nil
		case remote.Login, remote.Setup:
			out.Code = api.SystemClosed
		}
	default:
		return err
	}
	out.State = api.PushBlocked
	return nil
}

// newest is an order as it is now; read is the order as the caller has read it.
func (s *Syncs) newest(ctx context.Context, id int64, read *store.StoredOrder) (*store.StoredOrder, error) {
	if read != nil {
		if n, err := s.store.Revision(ctx, id); err != nil || n == read.Revision {
			return read, err
		}
	}
	return s.store.OrderNow(ctx, id)
}

// unwanted reports whether nobody wants the record of an order any more. If a part of the order has moved, this is so
// if the order was withdrawn last and the system has a call for cancelled orders; without such a call, lines are
// reduced to what has moved.
func (s *Syncs) unwanted(ctx context.Context, o *store.StoredOrder, r *system.Record) (bool, error) {
	if o.Status == order.Cancelled {
		return true, nil
	}
	if len(o.Movements) == 0 || !slices.ContainsFunc(r.Write.Acts, func(a system.Act) bool { return a.Cancelled }) {
		return false, nil
	}
	actions, err := s.store.Actions(ctx, o.ID)
	for _, action := range actions {
		switch action {
		case "moved", "answered", "invoiced":
		default:
			return action == "withdrawn", err
		}
	}
	return false, err
}

// outcome is the result in a word.
func (p *push) outcome() string {
	switch {
	case p.out.State == api.PushBlocked:
		return api.PushedHeld
	case len(p.out.Steps) == 0:
		return api.PushedRight
	case slices.ContainsFunc(p.out.Steps, func(s api.PushStep) bool { return s.Creates }):
		return api.PushedCreated
	}
	return api.PushedChanged
}

// holdFor waits until nobody else works on a thing, or until ctx ends.
func (s *Syncs) holdFor(ctx context.Context, thing string) (free func(), err error) {
	for {
		s.mu.Lock()
		busy, is := s.busy[thing]
		if !is {
			done := make(chan struct{})
			s.busy[thing] = done
			s.mu.Unlock()
			return func() {
				s.mu.Lock()
				delete(s.busy, thing)
				s.mu.Unlock()
				close(done)
			}, nil
		}
		s.mu.Unlock()
		select {
		case <-busy:
		case <-ctx.Done():
			return nil, context.Cause(ctx)
		}
	}
}

// stillWanted is the order as another system should have it: without lines that are cancelled completely, and without
// the cancelled quantities of others.
func stillWanted(o *order.Order) (*order.Order, error) {
	out := *o
	out.Lines = nil
	for _, l := range o.Lines {
		left, err := l.Quantity.Sub(l.Cancelled)
		if err != nil {
			return nil, err
		}
		if l.Cancelled.Sign() > 0 && left.Sign() <= 0 {
			continue
		}
		l.Quantity = left
		out.Lines = append(out.Lines, l)
	}
	return &out, nil
}

// prepare works out what the record should say.
func (p *push) prepare(ctx context.Context) error {
	m, _, err := p.s.mapping(ctx, p.mapping)
	if err != nil {
		return err
	}
	of := &p.stored.Order
	if p.of != "" {
		if of = partOf(p.stored, p.of, p.part); of == nil {
			return blocked(api.CannotWrite, "The %s is not there any more.", p.of)
		}
		if said := of.Statement; said.Reverses != "" && !slices.ContainsFunc(m.Bindings[order.Header],
			func(b mapping.Binding) bool { return b.Field.Name == "reverses" }) {
			return blocked(api.CannotWrite, "The %s %s takes back %s, and the mapping %s has no place for that: bind reverses "+
				"there, or see to it in %s by hand.", p.of, said.Number, said.Reverses, m.Name, p.o.Name)
		}
	} else if of, err = stillWanted(of); err != nil {
		return err
	}
	if p.text, err = p.s.textOf(ctx, m, p.id, of); err != nil {
		return err
	}
	p.wanted, _, err = jsondoc.Parse(p.text, 1)
	return err
}

// textOf is what a mapping writes of an order, or of a part of one, with what other systems gave the order with an id.
func (s *Syncs) textOf(ctx context.Context, m *mapping.Mapping, id int64, of *order.Order) ([]byte, error) {
	set, err := s.store.Set(ctx)
	if err != nil {
		return nil, err
	}
	if strings.Contains(m.Text, "reference.") {
		links, err := s.store.Links(ctx, id)
		if err != nil {
			return nil, err
		}
		of = withLinks(of, links)
	}
	return written(m, of, set)
}

// written is a record as a mapping writes it.
func written(m *mapping.Mapping, o *order.Order, set *list.Set) ([]byte, error) {
	text, problems, err := writing.Record(m, o, set)
	if err != nil {
		return nil, blocked(api.CannotWrite, "%s.", finding.Capital(err.Error()))
	}
	var why []string
	for _, q := range problems {
		where := q.Field
		if q.Line > 0 {
			where = fmt.Sprintf("%s of line %d", q.Field, q.Line)
		}
		why = append(why, fmt.Sprintf("%s cannot be written through %s: %s.", finding.Capital(where), m.Name, q.Why))
	}
	if len(why) > 0 {
		return nil, &blockedError{api.CannotWrite, why}
	}
	return text, nil
}

func (p *push) run(ctx context.Context) error {
	if p.stored != nil {
		if err := p.prepare(ctx); err != nil && (!p.cancelled || !readable(p.r)) {
			return err
		}
	}
	if is, err := p.asAgreed(ctx); err != nil || is {
		p.quiet = is
		return err
	}
	if p.r.Write.Of != "" {
		if err := p.belongs(ctx); err != nil {
			return err
		}
	}
	if !readable(p.r) {
		return p.say(ctx)
	}
	if err := p.locate(ctx); err != nil {
		return err
	}
	if p.found == nil && (p.cancelled || p.stored == nil || p.mayNotMake()) {
		return nil
	}
	fields, err := p.s.told(ctx, p.o, p.r)
	if err != nil {
		return err
	}
	p.rules = plan.New(p.r, fields...)
	if !p.cancelled {
		if err := p.refer(ctx); err != nil {
			return err
		}
	}
	var steps []plan.Step
	for range mostRounds {
		if p.of != "" && p.found != nil { // it is there; what has moved is not changed
			p.agree()
			if p.dry {
				p.out.State = api.PushPlanned
			}
			return nil
		}
		if p.merged, err = p.merge(ctx); err != nil {
			return err
		}
		wanted := p.wanted
		if p.merged != nil {
			wanted = p.merged.ToRecord(wanted, p.found.Root)
		}
		if steps, err = p.rules.For(wanted, p.found, p.cancelled); err != nil {
			return err
		}
		if p.dry {
			p.out.State = api.PushPlanned
			return p.planned(ctx, steps)
		}
		if len(steps) == 0 {
			p.agree()
			return nil
		}
		if err := p.make(ctx, steps); err != nil {
			return err
		}
		if p.answered && p.found != nil {
			if steps, err := p.rules.For(wanted, p.found, false); err == nil && len(steps) == 0 {
				p.agree()
				return nil
			}
		}
		p.answered = false
		if err := p.reread(ctx); err != nil {
			return err
		}
		if p.unsure != nil && p.found != nil { // it was done, though nobody said so
			p.note(*p.unsure)
		}
		p.unsure = nil
		if p.cancelled && p.found == nil {
			return nil
		}
	}
	return p.stuck(steps)
}
