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
	"koinos/core/finding"
	"koinos/core/plan"
	"koinos/core/system"
	"koinos/core/tree"
	"koinos/remote"
)

func (p *push) note(steps ...plan.Step) {
	for _, s := range steps {
		p.out.Steps = append(p.out.Steps, pushStep(&s))
	}
}

// planned notes what is due, and asks the system what it would say to it, if it has a trial. A call that contains
// something that must be created first cannot be tried.
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
			why = append(why, fmt.Sprintf("%s: %s", finding.Capital(steps[i].Does), words))
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

// call makes one call. again says that the record is not as it was thought to be: it must be read and worked out again.
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
	a, err := p.send(ctx, &req, step)
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

// send makes a call, in one with those of other orders if possible.
func (p *push) send(ctx context.Context, req *remote.Request, step *plan.Step) (system.Answer, error) {
	if p.together(step) {
		a, alone, err := p.makeTogether(ctx, step, p.key(step, step.Path))
		if !alone {
			step.Record, step.Path, p.answered = p.r.Write.Many.Record, p.r.Write.Many.Path, err == nil
			return a, err
		}
	}
	return p.o.client.Do(ctx, *req)
}

// within puts the key of the record of the order into a body.
func (p *push) within(body []byte) []byte {
	if p.parent == "" {
		return body
	}
	return bytes.ReplaceAll(body, []byte(`"{order}"`), p.parentIs)
}

// key is the idempotency key of a step. It follows from what is to be done and from what was found, so that it is the
// same after a crash, and another one if the same is done again on purpose.
func (p *push) key(step *plan.Step, path string) string {
	h := sha256.New()
	fmt.Fprintf(h, "%s %s %d%s%s\n%s %s\n%s\n", p.o.Name, p.r.Name, p.id, p.gone, p.occasion(), step.Method, path,
		step.Body)
	if p.found != nil && p.found.Root != nil {
		fmt.Fprintf(h, "%s %s", p.found.ETag, p.found.Root.AppendJSON(nil))
	}
	return hex.EncodeToString(h.Sum(nil)[:16])
}

// occasion distinguishes two things with the same content: two shipments of an order, or what is written of it again
// after something else was written.
func (p *push) occasion() (is string) {
	if p.part != 0 {
		is = fmt.Sprintf(" part %d", p.part)
	}
	if l := p.linked; l != nil && !readable(p.r) {
		is += fmt.Sprintf(" after %s %d", l.Key, l.Revision)
	}
	return is
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

// made takes in the record that was created.
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

// refer puts keys where the wanted record refers to others. Missing ones are created last, when everything else is
// known to exist.
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
			if ref.Line != nil {
				wrong, err := p.referLine(ctx, ref, n)
				if err != nil {
					return err
				}
				why = append(why, wrong...)
				continue
			}
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

// introduce creates a record that is referred to and does not exist.
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
			return blocked(api.TargetRefused, "%s: %s", finding.Capital(step.Does), words)
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
		// Somebody was quicker, or it is not clear whether it was created. It can be found now.
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
