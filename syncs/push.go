package syncs

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"koinos/api"
	"koinos/core/jsondoc"
	"koinos/core/list"
	"koinos/core/mapping"
	"koinos/core/order"
	"koinos/core/plan"
	"koinos/core/system"
	"koinos/core/tree"
	"koinos/core/writing"
	"koinos/remote"
	"koinos/store"
)

// mostRounds is how often a record is read and worked out anew in one push.
const mostRounds = 6

// push is one record on its way to what an order says.
type push struct {
	s      *Syncs
	o      *opened
	r      *system.Record
	stored *store.StoredOrder
	wanted *tree.Node
	text   []byte // of wanted, before references are resolved
	found  *plan.Found
	number string
	dry    bool
	rules  *plan.Planner
	looked []string // look-ups that it believed
	out    *api.Push
}

// blockedError holds what keeps a push from going on, a sentence each.
type blockedError struct{ why []string }

func (e *blockedError) Error() string { return strings.Join(e.why, " ") }

func blocked(format string, args ...any) error {
	return &blockedError{[]string{fmt.Sprintf(format, args...)}}
}

// Push makes a record of a system what an order says: it works out what the record
// should say, reads what it does say, and makes the calls that are due. A record that is
// right costs no write.
func (s *Syncs) Push(ctx context.Context, name string, n api.NewPush) (api.Push, error) {
	out := api.Push{System: name, Record: n.Record, State: api.PushDone, Steps: []api.PushStep{}}
	o, err := s.system(ctx, name, 0)
	if err != nil {
		return out, err
	}
	r, err := o.record(n.Record)
	if err != nil {
		return out, err
	}
	if r.Write == nil || r.Write.Mapping == "" {
		return out, asked("The description of %s does not say which mapping writes an order as its %s (write: "+
			"{mapping: …}).",
			name, n.Record)
	}
	id, err := s.store.FindOrder(ctx, n.Order)
	if err != nil {
		return out, err
	}
	free := s.hold(fmt.Sprintf("%s %s %d", name, n.Record, id)) // one push of a record at a time
	defer free()
	p := &push{s: s, o: o, r: r, dry: n.DryRun, out: &out}
	if p.stored, err = s.store.Order(ctx, id); err != nil {
		return out, err
	}
	out.OrderID, out.Order = id, p.stored.Order.Number
	if err = p.run(ctx); err != nil {
		s.forget(o, r, p.looked) // the next attempt asks anew
	}
	if p.found != nil {
		out.Key, out.Number = p.found.Key, p.number
	}
	var problem *remote.Problem
	var no *blockedError
	var cannot *plan.Blocked
	var wrong *system.AnswerError
	switch {
	case err == nil:
	case errors.As(err, &no):
		out.State, out.Why = api.PushBlocked, no.why
	case errors.As(err, &cannot):
		out.State, out.Why = api.PushBlocked, []string{cannot.Why}
	case errors.As(err, &wrong):
		out.State, out.Why = api.PushBlocked, []string{strings.ToUpper(wrong.Error()[:1]) + wrong.Error()[1:] + "."}
	case errors.As(err, &problem):
		out.State, out.Why = api.PushBlocked, []string{problem.Why}
		if problem.Kind == remote.Away || problem.Kind == remote.Unclear {
			out.State = api.PushAway
		}
	default:
		return out, err
	}
	return out, nil
}

// hold waits until nobody else is at work on a thing.
func (s *Syncs) hold(thing string) (free func()) {
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
			}
		}
		s.mu.Unlock()
		<-busy
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
	m, _, err := p.s.mapping(ctx, p.r.Write.Mapping)
	if err != nil {
		return err
	}
	set, err := p.s.store.Set(ctx)
	if err != nil {
		return err
	}
	p.text, err = wantedText(m, &p.stored.Order, set)
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
	text, problems, err := writing.Record(m, &is, set)
	if err != nil {
		return nil, blocked("%s.", capital(err.Error()))
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
		return nil, &blockedError{why}
	}
	return text, nil
}

func capital(s string) string { return strings.ToUpper(s[:1]) + s[1:] }

func (p *push) run(ctx context.Context) error {
	if err := p.prepare(ctx); err != nil {
		return err
	}
	cancelled := p.stored.Status == order.Cancelled
	if err := p.locate(ctx); err != nil {
		return err
	}
	fields, err := p.s.told(ctx, p.o, p.r)
	if err != nil {
		return err
	}
	p.rules = plan.New(p.r, fields...)
	if !cancelled {
		if err := p.refer(ctx); err != nil {
			return err
		}
	}
	var steps []plan.Step
	for range mostRounds {
		var err error
		if steps, err = p.rules.For(p.wanted, p.found, cancelled); err != nil {
			return err
		}
		if p.dry {
			p.out.State = api.PushPlanned
			return p.planned(ctx, steps)
		}
		if len(steps) == 0 {
			return p.agree(ctx)
		}
		if err := p.make(ctx, steps); err != nil {
			return err
		}
		if err := p.read(ctx); err != nil {
			return err
		}
	}
	return p.stuck(steps)
}

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
	return &blockedError{why}
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
		return &blockedError{why}
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
	path := step.Path
	body := []byte(step.Body)
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
	case step.Kind != plan.Create:
		return false, nil
	}
	return false, p.made(ctx, a, step)
}

// key is the idempotency key of a step: it follows from what is to be done and from what
// was found, so that it is the same after a crash and another one when the same is done
// again on purpose.
func (p *push) key(step *plan.Step, path string) string {
	h := sha256.New()
	fmt.Fprintf(h, "%s %s %d\n%s %s\n%s\n", p.o.Name, p.r.Name, p.stored.ID, step.Method, path, step.Body)
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
		return true, p.link(ctx, 0)
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
	return p.link(ctx, 0)
}

// link remembers which record the order is.
func (p *push) link(ctx context.Context, revision int) error {
	l := api.Link{System: p.o.Name, Record: p.r.Name, OrderID: p.stored.ID, Key: p.found.Key, Number: p.number,
		Revision: revision, Agreed: string(p.text)}
	err := p.s.store.PutLink(ctx, &l, p.s.now())
	var taken *store.TakenError
	if errors.As(err, &taken) {
		return blocked("The record %s is the order with the id %d already; two orders cannot be one record.",
			p.found.Key,
			taken.Order)
	}
	return err
}

// agree remembers that the record says what it should.
func (p *push) agree(ctx context.Context) error {
	if p.found == nil {
		return nil
	}
	return p.link(ctx, p.stored.Revision)
}

// locate finds the record: by the link, or by the value that it is found by.
func (p *push) locate(ctx context.Context) error {
	links, err := p.s.store.Links(ctx, p.stored.ID)
	if err != nil {
		return err
	}
	for _, l := range links {
		if l.System == p.o.Name && l.Record == p.r.Name {
			p.found = &plan.Found{Key: l.Key}
			err := p.read(ctx)
			var problem *remote.Problem
			if errors.As(err, &problem) && problem.Kind == remote.Missing {
				return blocked("The record %s (%s) that the order is linked with is not in %s any more.", l.Key,
					l.Number,
					p.o.Name)
			}
			return err
		}
	}
	return p.read(ctx)
}

// read reads the record anew; where its key is not known it is looked for.
func (p *push) read(ctx context.Context) error {
	if p.found == nil {
		f := p.r.Finds[p.r.Write.Find]
		value := ""
		if n := f.Path.First(p.wanted); n != nil && n.Scalar() && n.Kind != tree.Null {
			value = n.Text
		}
		if value == "" {
			return blocked("The mapping %s writes nothing at %s, by which a %s is found.", p.r.Write.Mapping, f.Path,
				p.r.Name)
		}
		all, err := p.o.like(ctx, p.r, f, value)
		if err != nil {
			return err
		}
		all = slices.DeleteFunc(all, func(f system.Found) bool { return f.Gone })
		switch len(all) {
		case 0:
			return nil
		case 1:
			p.found = &plan.Found{Key: all[0].Key}
		default:
			return blocked("%s has %d records with the %s %q; it is not clear which one is meant.", p.o.Name, len(all),
				f.Name,
				value)
		}
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
			return nil, blocked("%s gives more than %d pages of %s that may be %q; it does not narrow its list by %s.",
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
	why = append(why, p.rules.Wrong(p.wanted, p.found == nil, unknown)...)
	slices.Sort(why)
	if why = slices.Compact(why); len(why) > 0 {
		return &blockedError{why}
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
	step.Does = fmt.Sprintf("create the %s %s", ref.To, value)
	if p.dry {
		p.note(step)
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
