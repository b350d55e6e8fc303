package syncs

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"koinos/core/plan"
	"koinos/core/syncing"
	"koinos/core/system"
	"koinos/remote"
)

// gatherFor is how long a record waits for others that go into the same call.
const gatherFor = 25 * time.Millisecond

// madeTogether is a record that is created in one call with others, and its result. alone says that it must be created
// by itself, because the system did not accept them together.
type madeTogether struct {
	body   json.RawMessage
	key    string // that it would have had alone
	answer system.Answer
	alone  bool
	err    error
}

// atWork is how many orders are processed at the same time: as many as calls are allowed at once, or twice as many as
// go into one call.
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

// unseen reports whether a record can be created without looking for it first: the system says if it exists already,
// and nobody has tried before.
func (p *push) unseen() bool {
	w := p.r.Write
	return p.first && !p.dry && w.Many != nil && w.TakenKey != nil && !p.cancelled && !p.mayNotMake()
}

// together reports whether a step can go into one call with those of other orders.
func (p *push) together(step *plan.Step) bool {
	m := p.r.Write.Many
	return m != nil && p.sync != "" && step.Kind == plan.Create && p.unsure == nil &&
		(m.Lines == 0 || len(p.linesOf()) <= m.Lines)
}

// makeTogether creates a record in one call with others. alone says that it must be created by itself.
func (p *push) makeTogether(ctx context.Context, step *plan.Step, key string) (a system.Answer, alone bool, err error) {
	is := &madeTogether{body: step.Body, key: key, err: errors.New("the call with several records came to no end")}
	kind := gathered{syncing.Target{System: p.o.Name, Record: p.r.Name}, p.o.version}
	p.s.calling.do(ctx, kind, p.r.Write.Many.Most, gatherFor, is,
		func(all []*madeTogether) { p.o.makeMany(ctx, p.r, all) })
	return is.answer, is.alone, is.err
}

// makeMany creates records in one call, and returns the result of each.
func (o *opened) makeMany(ctx context.Context, r *system.Record, all []*madeTogether) {
	each := func(alone bool, err error) {
		for _, is := range all {
			is.alone, is.err = alone, err
		}
	}
	if len(all) == 1 {
		each(true, nil)
		return
	}
	m, sum := r.Write.Many, sha256.New()
	bodies := make([]json.RawMessage, len(all))
	for i, is := range all {
		bodies[i] = is.body
		fmt.Fprintln(sum, is.key)
	}
	body, err := plan.Together(r.Write, bodies)
	if err != nil {
		each(false, err)
		return
	}
	req := remote.Request{Method: m.Method, Address: system.Address(o.client.Base(), m.Path), Body: body}
	if r.Write.Idempotency != "" {
		req.Header, req.Key = r.Write.Idempotency, hex.EncodeToString(sum.Sum(nil)[:16])
	}
	a, err := o.client.Do(ctx, req)
	var problem *remote.Problem
	if errors.As(err, &problem) && (problem.Kind == remote.Never || problem.Kind == remote.Missing ||
		problem.Kind == remote.Large) {
		each(true, nil) // one of them, or all at once, is what it does not take
		return
	}
	if err != nil {
		each(false, err)
		return
	}
	parts, err := m.Parts(a.Body, len(all))
	if err != nil { // nobody knows which of them are there: each is looked for
		each(false, &remote.Problem{Kind: remote.Unclear, Status: a.Status, Body: a.Body, Why: fmt.Sprintf("Of %s, %s.",
			o.Name, err)})
		return
	}
	for i, is := range all {
		is.err = nil
		is.answer = system.Answer{URL: a.URL, Status: parts[i].Status, Header: a.Header, Body: parts[i].Body}
		if p := o.client.JudgePart(parts[i].Status, parts[i].Body); p != nil {
			is.err = p
		}
	}
}
