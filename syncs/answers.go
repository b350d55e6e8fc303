package syncs

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
	"time"

	"koinos/api"
	"koinos/core/finding"
	"koinos/core/syncing"
	"koinos/core/system"
	"koinos/store"
)

// answerLook is how often we look for answers to our files.
const answerLook = 500 * time.Millisecond

// listening is what is known about the answers to the files of a kind of record.
type listening struct {
	busy        bool
	begun, next time.Time
	failures    int // one after another
}

// filed is the kind of record that a push writes as files; nil if it writes none.
func (s *Syncs) filed(ctx context.Context, p *syncing.Push) (*opened, *system.Record) {
	o, r, err := s.target(ctx, p.Target)
	if err != nil || r.Write == nil || r.Write.File == nil {
		return nil, nil // whoever works at a task of it says what is wrong
	}
	return o, r
}

// reply describes how the files of a push are answered; nil if they are not.
func (s *Syncs) reply(ctx context.Context, p *syncing.Push) *system.Record {
	if _, r := s.filed(ctx, p); r != nil && r.Write.File.Answer != nil {
		return r
	}
	return nil
}

// answersDue begins to look for the answers to files when it is time. A folder may be on another machine, and slow, so
// nobody waits for it.
func (s *Syncs) answersDue(ctx context.Context, work *sync.WaitGroup, active []*standing) (next time.Duration) {
	next = lookLater
	for _, y := range active {
		for i := range y.Pushes {
			p := &y.Pushes[i]
			wait, begin := s.beginLook(p.Target)
			next = min(next, wait)
			if !begin {
				continue
			}
			o, r := s.filed(ctx, p)
			// the description may say otherwise later
			if r == nil || r.Write.File.Answer == nil && s.isMended(p.Target) {
				s.endLook(p.Target, lookLater, nil)
				continue
			}
			work.Go(func() { s.lookForAnswers(ctx, y, p, o, r) })
		}
	}
	return next
}

func (s *Syncs) beginLook(t syncing.Target) (wait time.Duration, begin bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	l := s.listens[t]
	if l == nil {
		l = &listening{}
		s.listens[t] = l
	}
	if l.busy { // who is done wakes us
		return lookLater, false
	}
	if wait = l.next.Sub(s.now()); wait > 0 {
		return wait, false
	}
	l.busy, l.begun = true, s.now()
	return lookLater, true
}

// endLook says when to look next: after a gap, which grows as long as it fails.
func (s *Syncs) endLook(t syncing.Target, gap time.Duration, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	l := s.listens[t]
	l.busy, l.failures = false, l.failures+1
	if err == nil {
		l.failures = 0
	}
	l.next = s.now().Add(doubled(gap, mostGap, l.failures))
}

func (s *Syncs) lookForAnswers(ctx context.Context, y *standing, p *syncing.Push, o *opened, r *system.Record) {
	var err error
	defer func() {
		if c := recover(); c != nil {
			err = fmt.Errorf("a mistake of Koinos: %v", c)
		}
		if err != nil && ctx.Err() == nil {
			s.log.Error("answers to files are not read", "system", o.Name, "record", r.Name, "error", err)
		}
		s.endLook(p.Target, answerLook, err)
		s.wake()
	}()
	if err = s.mendFiles(ctx, o, r); err == nil && r.Write.File.Answer != nil {
		err = s.answersTo(ctx, y, p, o, r)
	}
}

// listenNow lets answers to the files of a sync be looked for at once.
func (s *Syncs) listenNow(y *syncing.Sync) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for i := range y.Pushes {
		if l := s.listens[y.Pushes[i].Target]; l != nil {
			l.next = time.Time{}
		}
	}
}

// heard reports whether somebody has looked since for the answers to the files of a push.
func (s *Syncs) heard(ctx context.Context, p *syncing.Push, since time.Time) bool {
	if s.reply(ctx, p) == nil {
		return true
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	l := s.listens[p.Target]
	return l != nil && !l.busy && !l.begun.Before(since)
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
	var wrong []error
	for _, e := range entries {
		if e.Type().IsRegular() && reply.Reads(e.Name()) {
			wrong = append(wrong, s.answer(ctx, y, p, o, r, dir, e.Name())) // others do not wait for it
		}
	}
	return errors.Join(append(wrong, err)...)
}

// answer processes one answer to a file of ours.
func (s *Syncs) answer(ctx context.Context, y *standing, p *syncing.Push, o *opened, r *system.Record, dir,
	name string) error {
	path := filepath.Join(dir, name)
	info, err := os.Stat(path)
	if err != nil {
		return err
	}
	if info.Size() > o.Limits.Largest {
		return s.unread(o, r, dir, name, fmt.Sprintf("it is larger than %d bytes", o.Limits.Largest))
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
		return s.unread(o, r, dir, name, unread.Error())
	}
	links, err := s.store.LinksOfFile(ctx, p.System, p.Record, id)
	if err != nil {
		return err
	}
	if len(links) == 0 {
		return s.unread(o, r, dir, name, fmt.Sprintf("it answers %q, and no file of ours has this id", id))
	}
	said, err := json.Marshal(map[string]any{"answer": says, "taken": taken, "id": id, "name": name})
	if err != nil {
		return err
	}
	for i := range links {
		links[i].Found = string(said)
		if !taken {
			links[i].Revision = 0
		}
	}
	if err := s.store.Write(ctx, func(t *store.Tx) error { return t.SaveLinks(links, s.now()) }); err != nil {
		return err
	}
	for i := range links {
		if taken {
			break
		}
		if err := s.refusedFile(ctx, y, p, &links[i], says); err != nil {
			return err
		}
	}
	s.log.Info("answer", "system", o.Name, "record", r.Name, "id", id, "taken", taken, "says", says)
	return s.putAway(dir, "taken", name)
}

// patience is how long an answer may be unreadable after it was written.
const patience = 30 * time.Second

// unread moves an answer away that is not about any file of ours.
func (s *Syncs) unread(o *opened, r *system.Record, dir, name, why string) error {
	s.log.Warn("an answer to a file is put away", "system", o.Name, "record", r.Name, "name", name, "why", why)
	return s.putAway(dir, "refused", name)
}

func (s *Syncs) putAway(dir, into, name string) error {
	to := filepath.Join(dir, into)
	if err := s.filesMode.Folder(to); err != nil {
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
	is, err := s.store.OrderNow(ctx, l.OrderID)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return err
	}
	f := s.holdTask(k, is, api.TargetRefused, fmt.Sprintf("%s refuses the file %s: %s.", finding.Capital(p.System),
		l.Number, says))
	return s.store.FinishPush(ctx, f, s.now())
}

// Unanswered lists the files of a sync that were not answered in time, the oldest first, after skipping a number of
// them, as tasks that wait for that.
func (s *Syncs) Unanswered(ctx context.Context, name string, behind int64, limit int) (all []api.Task, err error) {
	y, err := s.with(ctx, name, nil)
	if err != nil {
		return nil, err
	}
	n := behind
	for i := range y.Pushes {
		p := &y.Pushes[i]
		r := s.reply(ctx, p)
		if r == nil || len(all) == limit {
			continue
		}
		before := s.now().Add(-r.Write.File.Answer.Within)
		links, err := s.store.UnansweredLinks(ctx, p.System, p.Record, before, behind, limit-len(all))
		if err != nil {
			return nil, err
		}
		if there, _, err := s.store.Unanswered(ctx, p.System, p.Record, before); err != nil {
			return nil, err
		} else {
			behind = max(0, behind-int64(there))
		}
		for k := range links {
			l := &links[k]
			n++
			task := api.Task{ID: n, Sync: name, Push: p.Name, System: p.System, Record: p.Record, OrderID: l.OrderID,
				Part:  l.Part,
				State: api.TaskUnanswered, MadeAt: l.At, Why: fmt.Sprintf("%s has not answered the file %s.",
					finding.Capital(p.System), l.Number)}
			is, err := s.store.OrderNow(ctx, l.OrderID)
			if err != nil && !errors.Is(err, store.ErrNotFound) {
				return nil, err
			}
			if is != nil {
				task.Order = is.Order.Number
			}
			all = append(all, task)
		}
	}
	return all, nil
}
