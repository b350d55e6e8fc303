package syncs

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"sync"
	"time"

	"koinos/core/plan"
	"koinos/core/syncing"
	"koinos/core/system"
	"koinos/remote"
)

// gatherFor is how long a record waits for others that go along in its call.
const gatherFor = 25 * time.Millisecond

// gathering is several records that are made in one call.
type gathering struct {
	full    chan struct{} // closed when no more fit in
	done    chan struct{} // closed when there are answers
	bodies  []json.RawMessage
	keys    []string
	answers []partAnswer
}

// partAnswer is what came of one of them. Alone says that it is to be asked for alone: the
// system did not take them together.
type partAnswer struct {
	answer system.Answer
	err    error
	alone  bool
}

// gathered is what goes together: records of a kind, by one version of a description.
type gathered struct {
	syncing.Target
	version int
}

// gatherings are those that are filled just now.
type gatherings struct {
	gather sync.Mutex
	all    map[gathered]*gathering
}

// join adds a record to those that are gathered; who began them is the first.
func (g *gatherings) join(t gathered, most int, body json.RawMessage, key string) (in *gathering, at int, begun bool) {
	g.gather.Lock()
	defer g.gather.Unlock()
	in = g.all[t]
	if in == nil {
		in, begun = &gathering{full: make(chan struct{}), done: make(chan struct{})}, true
		g.all[t] = in
	}
	at = len(in.bodies)
	in.bodies, in.keys = append(in.bodies, body), append(in.keys, key)
	if len(in.bodies) >= most {
		delete(g.all, t)
		close(in.full)
	}
	return in, at, begun
}

// end lets nobody join any more.
func (g *gatherings) end(t gathered, in *gathering) {
	g.gather.Lock()
	defer g.gather.Unlock()
	if g.all[t] == in {
		delete(g.all, t)
	}
}

// atWork is how many orders are worked at at once: as many as are called for at once, or twice
// as many as go together in one call.
func (o *opened) atWork() int {
	most := o.Limits.AtOnce
	for _, r := range o.Records {
		if r.Write != nil && r.Write.Many != nil {
			most = max(most, 2*r.Write.Many.Most)
		}
		if r.Write != nil && r.Write.File != nil && r.Write.File.Orders > 1 {
			most = max(most, 2*r.Write.File.Orders)
		}
	}
	return most
}

// unseen reports whether a record can be made without looking for it first: the system says
// if it is there already, and nobody has tried before.
func (p *push) unseen() bool {
	w := p.r.Write
	return p.first && !p.dry && w.Many != nil && w.TakenKey != nil && !p.cancelled && !p.mayNotMake()
}

// together reports whether a step can go in one call with those of other orders.
func (p *push) together(step *plan.Step) bool {
	m := p.r.Write.Many
	return m != nil && p.sync != "" && step.Kind == plan.Create && p.unsure == nil && (m.Lines == 0 || len(p.linesOf()) <= m.Lines)
}

// makeTogether makes a record in one call with others. Alone says that it is to be made by
// itself.
func (p *push) makeTogether(ctx context.Context, step *plan.Step, key string) (a system.Answer, alone bool, err error) {
	t := gathered{syncing.Target{System: p.o.Name, Record: p.r.Name}, p.o.version}
	g := &p.s.gatherings
	in, at, first := g.join(t, p.r.Write.Many.Most, step.Body, key)
	if first {
		in.lead(ctx, g, t, p)
	}
	<-in.done
	is := in.answers[at]
	return is.answer, is.alone, is.err
}

// lead waits for others, and makes the call for all of them. Whatever happens, there are
// answers then.
func (in *gathering) lead(ctx context.Context, g *gatherings, t gathered, p *push) {
	defer close(in.done)
	timer := time.NewTimer(gatherFor)
	select {
	case <-in.full:
	case <-timer.C:
	case <-ctx.Done():
	}
	timer.Stop()
	g.end(t, in)
	in.answers = make([]partAnswer, len(in.bodies))
	for i := range in.answers {
		in.answers[i].err = errors.New("the call with several records came to no end")
	}
	in.answers = p.o.makeMany(ctx, p.r, in)
}

// makeMany makes records in one call, and gives what came of each.
func (o *opened) makeMany(ctx context.Context, r *system.Record, in *gathering) []partAnswer {
	out := make([]partAnswer, len(in.bodies))
	all := func(is partAnswer) []partAnswer {
		for i := range out {
			out[i] = is
		}
		return out
	}
	if len(out) == 1 {
		return all(partAnswer{alone: true})
	}
	m := r.Write.Many
	body, err := plan.Together(r.Write, in.bodies)
	if err != nil {
		return all(partAnswer{err: err})
	}
	req := remote.Request{Method: m.Method, Address: system.Address(o.client.Base(), m.Path), Body: body}
	if r.Write.Idempotency != "" {
		sum := sha256.New()
		for _, key := range in.keys {
			fmt.Fprintln(sum, key)
		}
		req.Header, req.Key = r.Write.Idempotency, hex.EncodeToString(sum.Sum(nil)[:16])
	}
	a, err := o.client.Do(ctx, req)
	var problem *remote.Problem
	if errors.As(err, &problem) && (problem.Kind == remote.Never || problem.Kind == remote.Missing || problem.Kind == remote.Large) {
		return all(partAnswer{alone: true}) // one of them, or all at once, is what it does not take
	}
	if err != nil {
		return all(partAnswer{err: err})
	}
	parts, err := m.Parts(a.Body, len(out))
	if err != nil { // nobody knows which of them are there: each is looked for
		return all(partAnswer{err: &remote.Problem{Kind: remote.Unclear, Status: a.Status, Body: a.Body,
			Why: fmt.Sprintf("Of %s, %s.", o.Name, err)}})
	}
	for i := range parts {
		out[i].answer = system.Answer{URL: a.URL, Status: parts[i].Status, Header: a.Header, Body: parts[i].Body}
		if p := o.client.JudgePart(parts[i].Status, parts[i].Body); p != nil {
			out[i].err = p
		}
	}
	return out
}
