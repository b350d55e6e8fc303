package syncs

import (
	"context"
	"sync"
	"time"

	"koinos/core/syncing"
)

// gathered identifies what goes together: records of a kind, by one version of a description.
type gathered struct {
	syncing.Target
	version int
}

// gatherer combines work for several orders into one step.
type gatherer[T any] struct {
	mu   sync.Mutex
	open map[gathered]*group[T]
}

// group is the members of one step.
type group[T any] struct {
	full    chan struct{} // closed when no more fit in
	done    chan struct{} // closed when it was done, or could not be
	members []*T
}

// do does work for a member together with others of its kind, most at once. The first member waits for others for a
// time, and then does the work for all of them. The members contain the results.
func (g *gatherer[T]) do(ctx context.Context, kind gathered, most int, wait time.Duration, member *T, work func([]*T)) {
	in, first := g.join(kind, most, member)
	if first {
		defer close(in.done) // whatever happens
		timer := time.NewTimer(wait)
		select {
		case <-in.full:
		case <-timer.C:
		case <-ctx.Done():
		}
		timer.Stop()
		work(g.end(kind, in))
		return
	}
	<-in.done
}

// join adds a member to the group that is being gathered.
func (g *gatherer[T]) join(kind gathered, most int, member *T) (in *group[T], first bool) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if in = g.open[kind]; in == nil {
		in, first = &group[T]{full: make(chan struct{}), done: make(chan struct{})}, true
		if g.open == nil {
			g.open = map[gathered]*group[T]{}
		}
		g.open[kind] = in
	}
	if in.members = append(in.members, member); len(in.members) >= most {
		delete(g.open, kind)
		close(in.full)
	}
	return in, first
}

// end closes the group, and returns its members.
func (g *gatherer[T]) end(kind gathered, in *group[T]) []*T {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.open[kind] == in {
		delete(g.open, kind)
	}
	return in.members
}
