package store

import (
	"context"
	"errors"
	"fmt"
	"runtime/debug"
	"slices"
)

// shared is a piece of work that waits for a transaction.
type shared struct {
	ctx  context.Context
	f    func(*Tx) error
	done bool
	err  error
}

// mostShared is how many pieces of work one transaction takes.
const mostShared = 128

// Share is Write for small pieces of work that arrive together: those that
// wait at the same time share one transaction, and with it one durable commit.
// Each has all of what it did kept, or none; what one returns does not touch
// the others. f must not keep the transaction waiting.
func (s *Store) Share(ctx context.Context, f func(*Tx) error) error {
	w := &shared{ctx: ctx, f: f}
	s.queueMu.Lock()
	s.queue = append(s.queue, w)
	s.queueMu.Unlock()
	defer s.turn()()
	if w.done { // whoever had the writer before took it along
		return w.err
	}
	s.queueMu.Lock()
	n := min(len(s.queue), mostShared)
	batch := append([]*shared{}, s.queue[:n]...)
	s.queue = append(s.queue[:0], s.queue[n:]...)
	s.queueMu.Unlock()
	if !slices.Contains(batch, w) { // a long queue: its turn has come all the same
		batch = append(batch, w)
		s.queueMu.Lock()
		s.queue = slices.DeleteFunc(s.queue, func(one *shared) bool { return one == w })
		s.queueMu.Unlock()
	}
	err := s.write(context.WithoutCancel(ctx), func(t *Tx) error {
		for _, one := range batch {
			one.done = true
			if one.err = one.ctx.Err(); one.err != nil {
				continue
			}
			if err := t.part(one); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		for _, one := range batch {
			one.done = true
			if one.err == nil {
				one.err = err
			}
		}
	}
	return w.err
}

// part runs one piece of work within the transaction; an error of part itself
// spoils the transaction.
func (t *Tx) part(w *shared) error {
	w.err = t.Try(func() error { return w.f(t) })
	return t.broken
}

// Try runs f: all of what it does is kept, or none where it gives an error or
// panics. The transaction goes on.
func (t *Tx) Try(f func() error) error {
	if err := t.run("SAVEPOINT part"); err != nil {
		return err
	}
	done := len(t.after)
	err := caught(f)
	if t.broken != nil {
		return t.broken
	}
	if err == nil {
		return t.run("RELEASE part")
	}
	t.after, t.last = t.after[:done], 0
	if undone := errors.Join(t.run("ROLLBACK TO part"), t.run("RELEASE part")); undone != nil {
		t.broken = errors.Join(err, undone)
	}
	return err
}

// After does f once the transaction is committed.
func (t *Tx) After(f func()) { t.after = append(t.after, f) }

// Panicked is a panic that was turned into an error: it must not reach others.
type Panicked struct {
	Value any
	Stack []byte
}

func (p *Panicked) Error() string { return fmt.Sprintf("panic: %v", p.Value) }

// caught turns a panic of f into an error.
func caught(f func() error) (err error) {
	defer func() {
		if r := recover(); r != nil {
			err = &Panicked{r, debug.Stack()}
		}
	}()
	return f()
}
