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
	turn chan bool // true: it is the first that waits, and takes the others along; false: it is done
	err  error
}

// mostShared is how many pieces of work one transaction takes.
const mostShared = 128

// Share is Write for small pieces of work that arrive together. Those that wait at the same time share one transaction,
// and with it one durable commit. Of each, everything is stored or nothing; an error of one does not affect the others.
// f must not keep the transaction waiting.
func (s *Store) Share(ctx context.Context, f func(*Tx) error) error {
	w := &shared{ctx: ctx, f: f, turn: make(chan bool, 1)}
	s.queueMu.Lock()
	s.queue = append(s.queue, w)
	if len(s.queue) == 1 {
		w.turn <- true
	}
	s.queueMu.Unlock()
	if first := <-w.turn; first {
		s.shareWith(ctx)
	}
	return w.err
}

// shareWith does the work of those that wait in one transaction, and tells the next one that waits that it is the
// first.
func (s *Store) shareWith(ctx context.Context) {
	end := s.turns.turn(small)
	s.queueMu.Lock()
	batch := slices.Clone(s.queue[:min(len(s.queue), mostShared)])
	s.queueMu.Unlock()
	for _, one := range batch {
		one.err = errBrokenOff
	}
	defer func() { // also where something panics: nobody waits for ever
		end()
		s.queueMu.Lock()
		s.queue = slices.Delete(s.queue, 0, len(batch))
		if len(s.queue) > 0 {
			s.queue[0].turn <- true
		}
		s.queueMu.Unlock()
		for _, one := range batch[1:] {
			one.turn <- false
		}
	}()
	err := s.write(context.WithoutCancel(ctx), func(t *Tx) error {
		for _, one := range batch {
			if one.err = one.ctx.Err(); one.err != nil {
				continue
			}
			if err := t.part(one); err != nil {
				return err
			}
		}
		return nil
	})
	for _, one := range batch {
		if err != nil && (one.err == nil || one.err == errBrokenOff) {
			one.err = err
		}
	}
}

// errBrokenOff says that a shared transaction did not reach its end.
var errBrokenOff = errors.New("the transaction was broken off")

// part runs one piece of work within the transaction. An error of part itself makes the transaction unusable.
func (t *Tx) part(w *shared) error {
	w.err = t.Try(func() error { return w.f(t) })
	return t.broken
}

// Try runs f. Everything that it does is stored, or nothing if it returns an error or panics. The transaction
// continues.
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
	t.after, t.last, t.lastMovement = t.after[:done], 0, 0
	if undone := errors.Join(t.run("ROLLBACK TO part"), t.run("RELEASE part")); undone != nil {
		t.broken = errors.Join(err, undone)
	}
	return err
}

// After calls f once the transaction is committed.
func (t *Tx) After(f func()) { t.after = append(t.after, f) }

// Panicked is a panic that was turned into an error, so that it does not reach others.
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
