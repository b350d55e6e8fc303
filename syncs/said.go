package syncs

import (
	"context"

	"koinos/api"
	"koinos/core/plan"
	"koinos/core/system"
	"koinos/core/tree"
	"koinos/remote"
)

// readable reports whether records of a kind can be read, and so be compared. For others, what was written last counts.
func readable(r *system.Record) bool {
	return r.Write.File == nil && (r.Write.Find != "" || r.Get != "")
}

// say writes a record that cannot be read: a file, or a notice. What was written last counts as what is there; the same
// is not written again.
func (p *push) say(ctx context.Context) error {
	l, w := p.linked, p.r.Write
	switch {
	case p.stored == nil: // what was said of an order that is gone stays said
		return nil
	case l != nil && l.Revision > 0 && (l.Agreed == string(p.text) || p.of != "" || w.File != nil && w.File.Once):
		p.found, p.number, p.quiet = &plan.Found{Key: l.Key}, l.Number, true
		return nil
	case l == nil && p.linkedOnly, p.stored != nil && p.stored.Opening && p.sync != "" && l == nil:
		return nil
	}
	if w.File != nil {
		return p.sayFile(ctx)
	}
	p.rules = plan.New(p.r)
	if err := p.refer(ctx); err != nil {
		return err
	}
	steps, err := p.rules.For(p.wanted, nil, false)
	if err != nil {
		return err
	}
	step := steps[0]
	step.Does = "tell " + p.o.Name
	if p.dry {
		p.out.State = api.PushPlanned
		return p.planned(ctx, []plan.Step{step})
	}
	path := plan.Fill(step.Path, "{order}", p.parent)
	id := p.key(&step, path)
	req := remote.Request{Method: step.Method, Address: system.Address(p.o.client.Base(), path),
		Body: p.within(step.Body), GraphQL: step.GraphQL}
	if w.Idempotency != "" {
		req.Header, req.Key = w.Idempotency, id
	}
	a, err := p.o.client.Do(ctx, req)
	if err != nil {
		return err
	}
	step.Warnings = w.Warned(a.Body)
	p.note(step)
	p.found = &plan.Found{Key: id}
	if f, err := p.r.Written(a, step.Record); err == nil && f.Key != "" { // it says what it is there
		p.found, p.number = &plan.Found{Key: f.Key, Root: f.Node}, f.Number
	}
	p.agree()
	return nil
}

// linesOf are the lines of what is wanted.
func (p *push) linesOf() (lines []*tree.Node) {
	if p.r.Lines == nil {
		return nil
	}
	return p.r.Lines.All(p.wanted)
}
