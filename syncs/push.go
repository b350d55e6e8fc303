package syncs

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"koinos/api"
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

// mostRounds is how often a record is read and worked out anew in one push.
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
	order      *store.StoredOrder // as it would be; nil is as it is stored
	fresh      bool               // that order is not stored yet
}

// push is one record on its way to what an order says.
type push struct {
	wish
	s       *Syncs
	o       *opened
	r       *system.Record
	id      int64              // of the order
	stored  *store.StoredOrder // nil: the order is gone
	wanted  *tree.Node
	text    []byte // of wanted, before references are resolved
	found   *plan.Found
	number  string
	rules   *plan.Planner
	looked  []string  // look-ups that it believed
	parent  string    // key of the record of the order that it belongs to
	gone    string    // key of the linked record that the system does not have any more
	linked  *api.Link // as it was; nil is that there was none
	shares  *sharing  // nil: only we write the record
	merged  *plan.Merged
	then    *tree.Node // the record when both agreed, where it was merged
	fetches bool       // the record has what the order is to take in
	unsure  *plan.Step // a creation of which nobody knows whether it was done
	quiet   bool       // nothing was asked and nothing done: it is no news
	link    *api.Link  // that is to be kept, once all is right
	out     *api.Push
}

// blockedError holds what keeps a push from going on, a sentence each.
type blockedError struct {
	code string // of the reason, as in api
	why  []string
}

func (e *blockedError) Error() string { return strings.Join(e.why, " ") }

func blocked(code, format string, args ...any) error {
	return &blockedError{code, []string{fmt.Sprintf(format, args...)}}
}

// Push makes a record of a system what an order says: it works out what the record
// should say, reads what it does say, and makes the calls that are due. A record that is
// right costs no write.
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
		return out, asked("%s of %s are written of each %s of an order: by a sync, with of: %s.", n.Record, name, m.Kind, m.Kind)
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

// target gives a kind of record of a system.
func (s *Syncs) target(ctx context.Context, t syncing.Target) (*opened, *system.Record, error) {
	o, err := s.system(ctx, t.System, 0)
	if err != nil {
		return nil, nil, err
	}
	r, err := o.record(t.Record)
	return o, r, err
}

// bring brings the record of an order to what is wished. What is to be kept of it is in
// the Finished. An error is none of the record's: what keeps that from being right is in
// the Push.
func (s *Syncs) bring(ctx context.Context, o *opened, r *system.Record, id int64, w wish) (out api.Push,
	f *store.Finished, err error) {
	out = api.Push{System: o.Name, Record: r.Name, OrderID: id, State: api.PushDone, Steps: []api.PushStep{}}
	free := s.hold(fmt.Sprintf("%s %s %d %d", o.Name, r.Name, id, w.part)) // one push of a record at a time
	defer free()
	p := &push{wish: w, s: s, o: o, r: r, id: id, out: &out}
	if p.mapping == "" {
		p.mapping = r.Write.Mapping
	}
	if p.stored = w.order; p.stored == nil {
		p.stored, err = s.store.Order(ctx, id)
	}
	switch {
	case errors.Is(err, store.ErrNotFound) && w.sync != "":
		p.stored, p.cancelled = nil, true
	case err != nil:
		return out, nil, err
	default:
		out.Order = p.stored.Order.Number
		p.cancelled = p.cancelled || p.stored.Status == order.Cancelled && w.of == ""
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
	f = &store.Finished{Link: p.link, Log: &api.Pushed{Sync: w.sync, Push: w.push, System: o.Name, Record: r.Name, OrderID: id,
		Part: w.part, Order: out.Order, Key: out.Key, Outcome: p.outcome(), Steps: out.Steps, Why: strings.Join(out.Why, " "),
		At: s.now().UTC(), By: w.by}}
	if p.quiet && out.State == api.PushDone {
		f.Log = nil
	}
	return out, f, nil
}

// judge says in the Push what an error keeps from being right; others are given back.
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
		out.Code, out.Why = no.code, no.why
	case errors.As(err, &cannot):
		out.Code, out.Why = api.CannotChange, []string{cannot.Why}
	case errors.As(err, &wrong):
		out.Code, out.Why = api.CannotRead, []string{capital(wrong.Error()) + "."}
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

// outcome is what it came to, in a word.
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

// hold waits until nobody else is at work on a thing.
func (s *Syncs) hold(thing string) (free func()) {
	free, _ = s.holdFor(context.Background(), thing) // it does not end
	return free
}

// holdFor is hold as long as ctx goes on.
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

// stillWanted is the order as another system should have it: lines that are cancelled
// whole are not there, of the others what was cancelled is not wanted.
func stillWanted(o *order.Order) (order.Order, error) {
	out := *o
	out.Lines = nil
	for _, l := range o.Lines {
		left, err := l.Quantity.Sub(l.Cancelled)
		if err != nil {
			return out, err
		}
		if l.Cancelled.Sign() > 0 && left.Sign() <= 0 {
			continue
		}
		l.Quantity = left
		out.Lines = append(out.Lines, l)
	}
	return out, nil
}

// prepare works out what the record should say.
func (p *push) prepare(ctx context.Context) error {
	m, _, err := p.s.mapping(ctx, p.mapping)
	if err != nil {
		return err
	}
	set, err := p.s.store.Set(ctx)
	if err != nil {
		return err
	}
	links := []api.Link(nil)
	if strings.Contains(m.Text, "reference.") { // it may write what other systems gave
		if links, err = p.s.store.Links(ctx, p.id); err != nil {
			return err
		}
	}
	if p.of != "" {
		part := partOf(p.stored, p.of, p.part)
		if part == nil {
			return blocked(api.CannotWrite, "The %s is not there any more.", p.of)
		}
		p.text, err = written(m, withLinks(part, links), set)
	} else {
		p.text, err = wantedText(m, withLinks(&p.stored.Order, links), set)
	}
	if err != nil {
		return err
	}
	p.wanted, _, err = jsondoc.Parse(p.text, 1)
	return err
}

func wantedText(m *mapping.Mapping, o *order.Order, set *list.Set) ([]byte, error) {
	is, err := stillWanted(o)
	if err != nil {
		return nil, err
	}
	return written(m, &is, set)
}

// written is a record as a mapping writes it.
func written(m *mapping.Mapping, o *order.Order, set *list.Set) ([]byte, error) {
	text, problems, err := writing.Record(m, o, set)
	if err != nil {
		return nil, blocked(api.CannotWrite, "%s.", capital(err.Error()))
	}
	var why []string
	for _, q := range problems {
		where := q.Field
		if q.Line > 0 {
			where = fmt.Sprintf("%s of line %d", q.Field, q.Line)
		}
		why = append(why, fmt.Sprintf("%s cannot be written through %s: %s.", capital(where), m.Name, q.Why))
	}
	if len(why) > 0 {
		return nil, &blockedError{api.CannotWrite, why}
	}
	return text, nil
}

func capital(s string) string { return strings.ToUpper(s[:1]) + s[1:] }

func (p *push) run(ctx context.Context) error {
	if p.stored != nil {
		if err := p.prepare(ctx); err != nil && (!p.cancelled || !readable(p.r)) {
			return err
		}
	}
	var err error
	if p.shares, err = p.s.sharing(ctx, syncing.Target{System: p.o.Name, Record: p.r.Name}); err != nil {
		return err
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

// asAgreed reports whether nothing has happened to the order since both sides agreed: what
// came is the echo of what was written, or was read. It costs no call.
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
	return nil
}

// mayNotMake reports whether a record that is not there is not made: because nobody
// wants that, or because the order was there before Koinos was.
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
		why = append(why, fmt.Sprintf("%s is %q there and should be %q.", capital(where), ch.Was, ch.Is))
	}
	return &blockedError{api.NotSettled, why}
}

func (p *push) note(steps ...plan.Step) {
	for _, s := range steps {
		p.out.Steps = append(p.out.Steps, pushStep(&s))
	}
}

// planned notes what is due, and asks the system what it would say of it, if it has a
// trial. A call with something in it that is to be made before cannot be asked about.
func (p *push) planned(ctx context.Context, steps []plan.Step) error {
	made := len(p.out.Steps) > 0 // records that others refer to
	var why []string
	for i := range steps {
		p.note(steps[i])
		is, words, err := "", "", error(nil)
		if made && steps[i].Trial != "" { // what it refers to has no key yet
			is = trialUnknown
		} else if is, words, err = p.o.trial(ctx, &steps[i]); err != nil {
			return err
		}
		p.out.Steps[len(p.out.Steps)-1].Trial = is
		if is == trialRefused {
			why = append(why, fmt.Sprintf("%s: %s", capital(steps[i].Does), words))
		}
	}
	if len(why) > 0 {
		return &blockedError{api.TargetRefused, why}
	}
	return nil
}

// make makes the calls, until one of them depends on what the record says then.
func (p *push) make(ctx context.Context, steps []plan.Step) error {
	for i := range steps {
		if steps[i].Later {
			return nil
		}
		again, err := p.call(ctx, &steps[i])
		if again && steps[i].Kind == plan.Create && p.found == nil {
			p.unsure = &steps[i]
		}
		if err != nil || again {
			return err
		}
		p.note(steps[i])
	}
	return nil
}

// call makes one call. Again says that the record is another one than was thought: it is
// to be read and worked out anew.
func (p *push) call(ctx context.Context, step *plan.Step) (again bool, err error) {
	w := p.r.Write
	path := plan.Fill(step.Path, "{order}", p.parent)
	body := p.within([]byte(step.Body))
	if step.Pending {
		if p.found == nil {
			return true, nil
		}
		key, err := json.Marshal(p.found.Key)
		if err != nil {
			return false, err
		}
		if n := p.r.Key.First(p.found.Root); n != nil {
			key = n.AppendJSON(nil)
		}
		path = plan.Fill(path, "{key}", p.found.Key)
		body = bytes.ReplaceAll(body, []byte(`"{key}"`), key)
	}
	req := remote.Request{Method: step.Method, Address: system.Address(p.o.client.Base(), path), Body: body,
		Match: step.Match, GraphQL: step.GraphQL}
	if w.Idempotency != "" && step.Method == "POST" {
		req.Header, req.Key = w.Idempotency, p.key(step, path)
	}
	a, err := p.o.client.Do(ctx, req)
	var problem *remote.Problem
	switch {
	case errors.As(err, &problem):
		return p.refused(ctx, step, problem)
	case err != nil:
		return false, err
	}
	step.Warnings = w.Warned(a.Body)
	if step.Kind != plan.Create {
		return false, nil
	}
	return false, p.made(ctx, a, step)
}

// within puts the key of the record of the order into a body.
func (p *push) within(body []byte) []byte {
	if p.parent == "" || !bytes.Contains(body, []byte(`"{order}"`)) {
		return body
	}
	key, err := json.Marshal(p.parent)
	if err != nil {
		return body
	}
	return bytes.ReplaceAll(body, []byte(`"{order}"`), key)
}

// key is the idempotency key of a step: it follows from what is to be done and from what
// was found, so that it is the same after a crash and another one when the same is done
// again on purpose.
func (p *push) key(step *plan.Step, path string) string {
	h := sha256.New()
	fmt.Fprintf(h, "%s %s %d%s\n%s %s\n%s\n", p.o.Name, p.r.Name, p.id, p.gone, step.Method, path, step.Body)
	if p.found != nil && p.found.Root != nil {
		fmt.Fprintf(h, "%s %s", p.found.ETag, p.found.Root.AppendJSON(nil))
	}
	return hex.EncodeToString(h.Sum(nil)[:16])
}

// refused says what a problem of a step means.
func (p *push) refused(ctx context.Context, step *plan.Step, problem *remote.Problem) (again bool, err error) {
	switch problem.Kind {
	case remote.Changed, remote.Unclear:
		return true, nil
	case remote.Missing:
		return step.Kind == plan.Lines, orNil(problem, step.Kind != plan.Lines)
	}
	if key, taken := p.r.Write.TakenBy(problem.Body); taken && step.Kind == plan.Create {
		p.found = &plan.Found{Key: key}
		return true, p.take(ctx)
	}
	return false, problem
}

func orNil(err error, is bool) error {
	if is {
		return err
	}
	return nil
}

// made takes in the record that was made.
func (p *push) made(ctx context.Context, a system.Answer, step *plan.Step) error {
	if len(a.Body) == 0 { // it was made, but nobody says as what
		return nil
	}
	f, err := p.r.Written(a, step.Record)
	if err != nil {
		return err
	}
	p.found, p.number = &plan.Found{Key: f.Key, ETag: a.ETag, Root: f.Node}, f.Number
	return p.take(ctx)
}

// is is the link of the order with the record, as far as both agree.
func (p *push) is(revision int) *api.Link {
	l := &api.Link{System: p.o.Name, Record: p.r.Name, OrderID: p.id, Part: p.part, Key: p.found.Key,
		Number:   p.number,
		Revision: revision, Agreed: string(p.text)}
	if p.found.Root != nil {
		l.Found = string(p.found.Root.AppendJSON(nil))
	}
	return l
}

// take remembers at once which record the order is: whatever happens next, it is not made
// a second time.
func (p *push) take(ctx context.Context) error {
	err := p.s.store.PutLink(ctx, p.is(0), p.s.now())
	var taken *store.TakenError
	if errors.As(err, &taken) {
		return blocked(api.TargetTaken, "The record %s is the order with the id %d already; two orders cannot be one "+
			"record.", p.found.Key, taken.Order)
	}
	return err
}

// agree notes that the record says what it should.
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

// locate finds the record: by the link, or by the value that it is found by.
func (p *push) locate(ctx context.Context) error {
	if l := p.linked; l != nil {
		p.found, p.number = &plan.Found{Key: l.Key}, l.Number
		err := p.read(ctx)
		if missing(err) {
			return p.lostRecord(ctx, l)
		}
		return err
	}
	if p.stored == nil {
		return nil
	}
	return p.seek(ctx)
}

func missing(err error) bool {
	var problem *remote.Problem
	return errors.As(err, &problem) && problem.Kind == remote.Missing
}

// lostRecord says what becomes of an order whose record is not there any more.
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

// seek looks for a record that is not linked yet, by the value that it is found by.
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
		return blocked(api.CannotWrite, "The mapping %s writes nothing at %s, by which a %s is found.", p.mapping, f.Path,
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

// alike gives the records that have a value: of a list, or of those that stand in the record
// of the order.
func (p *push) alike(ctx context.Context, f *system.Find, value string) ([]system.Found, error) {
	if f.In == nil {
		return p.o.like(ctx, p.r, f, value)
	}
	a, err := p.o.client.One(ctx, p.o.Records[p.r.Write.Of], p.parent)
	if err != nil {
		return nil, err
	}
	of, err := p.o.Records[p.r.Write.Of].Alone(a)
	if err != nil {
		return nil, err
	}
	var all []system.Found
	for _, n := range f.In.All(of.Node) {
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

// read reads the record of a known key. One that stands in the record of the order was read
// when it was found.
func (p *push) read(ctx context.Context) error {
	if p.r.Get == "" {
		return nil
	}
	a, err := p.o.client.One(ctx, p.r, p.found.Key)
	if err != nil {
		return err
	}
	f, err := p.r.Alone(a)
	if err == nil && p.r.Rest != nil {
		err = p.o.rest(ctx, p.r, &f)
	}
	if err != nil {
		return err
	}
	p.found, p.number = &plan.Found{Key: f.Key, ETag: a.ETag, Root: f.Node}, f.Number
	return nil
}

// mostLike is how many pages of a list are looked through for a record.
const mostLike = 20

// like gives the records of a kind that have a value.
func (o *opened) like(ctx context.Context, r *system.Record, f *system.Find, value string) (all []system.Found,
	err error) {
	address, err := r.Like(o.client.Base(), f, value)
	for pages := 0; address != "" && err == nil; pages++ {
		if pages == mostLike {
			return nil, blocked(api.CannotRead, "%s gives more than %d pages of %s that may be %q; it does not narrow its list by %s.",
				o.Name,
				mostLike, r.Name, value, f.Parameter)
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

// refer puts keys where the wanted record refers to others. What is missing is made last,
// when everything else is known to be there.
func (p *push) refer(ctx context.Context) error {
	type missing struct {
		ref  *system.Refer
		node *tree.Node
	}
	var make []missing
	var why []string
	for i := range p.r.Refers {
		ref := &p.r.Refers[i]
		for _, n := range ref.Path.All(p.wanted) {
			if !n.Scalar() || n.Kind == tree.Null || n.Text == "" {
				continue
			}
			key, ok, err := p.look(ctx, ref, n.Text)
			var no *blockedError
			switch {
			case errors.As(err, &no):
				why = append(why, no.why...)
			case err != nil:
				return err
			case ok:
				n.Kind, n.Text = key.Kind, key.Text
			case len(ref.Create) > 0:
				make = append(make, missing{ref, n})
			default:
				why = append(why, fmt.Sprintf("%s has no %s with the %s %q.", p.o.Name, ref.To, ref.By, n.Text))
			}
		}
	}
	unknown := map[*tree.Node]bool{}
	for _, m := range make {
		unknown[m.node] = true
	}
	code := api.ReferenceMissing
	if len(why) == 0 {
		code = api.FieldWrong
	}
	why = append(why, p.rules.Wrong(p.wanted, p.found == nil, unknown)...)
	slices.Sort(why)
	if why = slices.Compact(why); len(why) > 0 {
		return &blockedError{code, why}
	}
	for _, m := range make {
		if err := p.introduce(ctx, m.ref, m.node); err != nil {
			return err
		}
	}
	return nil
}

// introduce makes a record that is referred to and is not there.
func (p *push) introduce(ctx context.Context, ref *system.Refer, n *tree.Node) error {
	to := p.o.Records[ref.To]
	value := n.Text
	values := map[string]*tree.Node{}
	for field, path := range ref.Create {
		if v := path.First(p.wanted); v != nil {
			values["/"+strings.ReplaceAll(field, ".", "/")] = v
		}
	}
	step := plan.New(to).Make(values)
	step.Does, step.Kind = fmt.Sprintf("create the %s %s", ref.To, value), plan.Introduce
	if p.dry {
		is, words, err := p.o.trial(ctx, &step)
		if err != nil {
			return err
		}
		p.note(step)
		p.out.Steps[len(p.out.Steps)-1].Trial = is
		if is == trialRefused {
			return blocked(api.TargetRefused, "%s: %s", capital(step.Does), words)
		}
		n.Kind, n.Text = tree.String, "the new "+ref.To
		return nil
	}
	req := remote.Request{Method: step.Method, Address: system.Address(p.o.client.Base(), step.Path), Body: step.Body,
		GraphQL: step.GraphQL}
	if h := to.Write.Idempotency; h != "" {
		sum := sha256.Sum256(append([]byte(p.o.Name+" "+ref.To+"\n"), step.Body...))
		req.Header, req.Key = h, hex.EncodeToString(sum[:16])
	}
	a, err := p.o.client.Do(ctx, req)
	var problem *remote.Problem
	if errors.As(err, &problem) {
		// Somebody was quicker, or it is not clear whether it was made: then it is found now.
		if _, taken := to.Write.TakenBy(problem.Body); taken || problem.Kind == remote.Unclear {
			if key, ok, err := p.look(ctx, ref, value); err != nil || ok {
				n.Kind, n.Text = key.Kind, key.Text
				return err
			}
		}
		return problem
	}
	if err != nil {
		return err
	}
	f, err := to.Written(a, to.Write.Create.Record)
	if err != nil {
		return err
	}
	p.note(step)
	key := keyOf(to, f.Node)
	n.Kind, n.Text = key.Kind, key.Text
	return nil
}
