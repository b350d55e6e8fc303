package syncs

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"koinos/api"
	"koinos/core/plan"
	"koinos/core/syncing"
	"koinos/core/system"
	"koinos/core/tree"
	"koinos/remote"
	"koinos/store"
)

// readable reports whether records of a kind can be read, and so be compared. Of others it
// counts what was said last.
func readable(r *system.Record) bool {
	return r.Write.File == nil && (r.Write.Find != "" || r.Get != "")
}

// say writes a record that cannot be read: a file, or a notice. What was said last is what
// is there; the same is not said again.
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
		return p.sayFile()
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

// sayFile writes the record as a file.
func (p *push) sayFile() error {
	out := p.r.Write.File
	base, err := system.ResolveFolder(p.o.Folder, os.LookupEnv)
	if err != nil {
		return &remote.Problem{Kind: remote.Setup, Why: capital(err.Error()) + "."}
	}
	id, text := out.Text(p.wanted, p.linesOf(), p.s.now())
	name := strings.ReplaceAll(out.Name, "{id}", id)
	step := plan.Step{Does: "write the file " + name, Kind: plan.Create, Method: "FILE", Path: out.Path + "/" + name}
	if quoted, err := json.Marshal(text); err == nil {
		step.Body = quoted
	}
	if p.dry {
		p.out.State = api.PushPlanned
		p.note(step)
		return nil
	}
	dir := filepath.Join(base, out.Path)
	if _, err := os.Stat(base); err != nil { // it may be another machine's, and come back
		return away(p.o, dir, err)
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return away(p.o, dir, err)
	}
	if err := place(dir, name, []byte(text), 0o644); err != nil {
		return away(p.o, dir, err)
	}
	p.note(step)
	p.found, p.number = &plan.Found{Key: id}, name
	p.agree()
	return nil
}

func away(o *opened, dir string, err error) error {
	return &remote.Problem{Kind: remote.Away, Why: fmt.Sprintf("The folder %s of %s cannot be written: %s.", dir, o.Name,
		cause(err))}
}

// linesOf are the lines of what is wanted.
func (p *push) linesOf() (lines []*tree.Node) {
	if p.r.Lines == nil {
		return nil
	}
	return p.r.Lines.All(p.wanted)
}

// answerLook is how often the answers to our files are looked for.
const answerLook = 500 * time.Millisecond

// answers reads what systems answered to our files: one that refuses one holds its order.
func (s *Syncs) answers(ctx context.Context, active []*standing) {
	s.mu.Lock()
	early := s.now().Sub(s.answersAt) < answerLook
	if !early {
		s.answersAt = s.now()
	}
	s.mu.Unlock()
	if early {
		return
	}
	for _, y := range active {
		for i := range y.Pushes {
			p := &y.Pushes[i]
			o, r, err := s.target(ctx, p.Target)
			if err != nil || r.Write == nil || r.Write.File == nil || r.Write.File.Answer == nil {
				continue
			}
			if err := s.answersTo(ctx, y, p, o, r); err != nil && ctx.Err() == nil {
				s.log.Error("answers to files are not read", "system", o.Name, "record", r.Name, "error", err)
			}
		}
	}
}

func (s *Syncs) answersTo(ctx context.Context, y *standing, p *syncing.Push, o *opened, r *system.Record) error {
	base, err := system.ResolveFolder(o.Folder, os.LookupEnv)
	if err != nil {
		return err
	}
	reply := r.Write.File.Answer
	dir := filepath.Join(base, reply.Path)
	entries, err := os.ReadDir(dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	for _, e := range entries {
		if err != nil {
			return err
		}
		if !e.Type().IsRegular() || !reply.Reads(e.Name()) {
			continue
		}
		err = s.answer(ctx, y, p, o, r, dir, e.Name())
	}
	return err
}

// answer takes one answer to a file of ours.
func (s *Syncs) answer(ctx context.Context, y *standing, p *syncing.Push, o *opened, r *system.Record, dir, name string) error {
	path := filepath.Join(dir, name)
	info, err := os.Stat(path)
	if err != nil || info.Size() > o.Limits.Largest {
		return err
	}
	b, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	id, taken, says, err := r.Write.File.Read(b)
	var unread *system.AnswerError
	if errors.As(err, &unread) {
		if s.now().Sub(info.ModTime()) < patience {
			return nil // it may still be growing
		}
		return putAway(dir, "refused", name)
	}
	l, err := s.store.LinkOf(ctx, p.System, p.Record, id)
	if err != nil {
		return err
	}
	if l == nil {
		return putAway(dir, "refused", name)
	}
	said, err := json.Marshal(map[string]any{"answer": says, "taken": taken, "id": id, "name": name})
	if err != nil {
		return err
	}
	l.Found = string(said)
	if !taken {
		l.Revision = 0
	}
	if err := s.store.PutLink(ctx, l, s.now()); err != nil {
		return err
	}
	if err := s.store.WakeAfter(ctx, l.OrderID, s.now()); err != nil {
		return err
	}
	if !taken {
		if err := s.refusedFile(ctx, y, p, l, says); err != nil {
			return err
		}
	}
	s.log.Info("answer", "system", o.Name, "record", r.Name, "id", id, "taken", taken, "says", says)
	return putAway(dir, "taken", name)
}

// patience is how long an answer may be unreadable, since it was written.
const patience = 30 * time.Second

func putAway(dir, into, name string) error {
	to := filepath.Join(dir, into)
	if err := os.MkdirAll(to, 0o755); err != nil {
		return err
	}
	return os.Rename(filepath.Join(dir, name), free(to, name))
}

// refusedFile holds the order whose file was refused.
func (s *Syncs) refusedFile(ctx context.Context, y *standing, p *syncing.Push, l *api.Link, says string) error {
	n := store.NewTask{Push: p.Name, System: p.System, Record: p.Record, OrderID: l.OrderID, Part: l.Part}
	if err := s.store.AddTasks(ctx, y.Name, []store.NewTask{n}, s.now().Add(time.Hour)); err != nil {
		return err
	}
	k, err := s.store.TaskOf(ctx, y.Name, p.Name, l.OrderID, l.Part)
	if err != nil || k == nil {
		return err
	}
	is, err := s.store.Order(ctx, l.OrderID)
	if err != nil {
		return err
	}
	f := s.holdTask(k, is, api.TargetRefused, fmt.Sprintf("%s refuses the file %s: %s.", capital(p.System), l.Number, says))
	return s.store.FinishPush(ctx, f, s.now())
}
