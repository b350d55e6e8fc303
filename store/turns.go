package store

import (
	"sync"
	"time"
)

// turns gives the one writer to those who ask for it, one at a time, and counts this. Small pieces of work that share
// a transaction alternate with long ones, so that neither waits for more than one of the other.
type turns struct {
	mu      sync.Mutex
	taken   bool
	waiting [2][]chan struct{} // whose turn is still to come: long ones, small ones
	counts  WriterFigures
}

// Who asks for a turn.
const (
	long = iota
	small
)

// turn waits for the writer, and returns how the turn ends.
func (t *turns) turn(size int) (end func()) {
	asked := time.Now()
	t.mu.Lock()
	if t.taken {
		mine := make(chan struct{})
		t.waiting[size] = append(t.waiting[size], mine)
		t.mu.Unlock()
		<-mine
		t.mu.Lock()
	}
	defer t.mu.Unlock()
	return t.begin(size, asked)
}

// ifFree takes the writer if nobody has it.
func (t *turns) ifFree() (end func(), free bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.taken {
		return nil, false
	}
	return t.begin(small, time.Now()), true
}

func (t *turns) begin(size int, asked time.Time) (end func()) {
	t.taken = true
	got := time.Now()
	t.counts.Waited += got.Sub(asked)
	t.counts.Writes++
	return func() { t.next(1-size, time.Since(got)) }
}

// next gives the writer to the first who waits; first is the size that goes before the other.
func (t *turns) next(first int, held time.Duration) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.counts.Held += held
	t.counts.Longest = max(t.counts.Longest, held)
	for _, size := range []int{first, 1 - first} {
		if queue := t.waiting[size]; len(queue) > 0 {
			t.waiting[size] = queue[1:]
			close(queue[0]) // it stays taken
			return
		}
	}
	t.taken = false
}

// counted returns the figures and resets the longest turn.
func (t *turns) counted() WriterFigures {
	t.mu.Lock()
	defer t.mu.Unlock()
	f := t.counts
	t.counts.Longest = 0
	return f
}
