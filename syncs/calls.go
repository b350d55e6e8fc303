package syncs

import (
	"context"
	"log/slog"
	"maps"
	"net/http"
	"slices"
	"time"
	"unicode/utf8"

	"koinos/api"
	"koinos/core/intent"
	"koinos/core/system"
	"koinos/remote"
)

// mostCalls is how many calls of a system are remembered.
const mostCalls = 200

// callLog is what is remembered about a system's calls, for people who watch.
type callLog struct {
	last []api.SystemCall // mostCalls at most, the newest at the end
	away time.Time        // since when it does not answer

	hooks    api.HookCount
	calls    map[CallKind]int
	took     time.Duration
	waited   time.Duration
	arrivals map[ArrivalKind]int
	lag      map[string]time.Duration // by record: how old the newest that came last was
}

// CallKind is what calls are counted by; Status 0 means no answer.
type CallKind struct {
	Method string
	Status int
}

// ArrivalKind is what arrivals are counted by.
type ArrivalKind struct{ Record, State string }

// Figures are counts for one system since the service began.
type Figures struct {
	System   string
	Away     bool
	Calls    map[CallKind]int
	Took     time.Duration // by all calls
	Waited   time.Duration // before calls, for the system's limits
	Arrivals map[ArrivalKind]int
	Lag      map[string]time.Duration // by record: from its stamp to when it came, of the last one
	Hooks    api.HookCount
}

// Figures returns the counts of all systems that have been called.
func (s *Syncs) Figures() (all []Figures) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for name, l := range s.calls {
		all = append(all, Figures{name, !l.away.IsZero(), maps.Clone(l.calls), l.took, l.waited, maps.Clone(l.arrivals),
			maps.Clone(l.lag), l.hooks})
	}
	return all
}

// arrived counts what came.
func (s *Syncs) arrived(all []api.Arrival) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for i := range all {
		l := s.logOf(all[i].System)
		l.arrivals[ArrivalKind{all[i].Record, all[i].State}]++
		if age, ok := system.Age(all[i].Stamp, all[i].At); ok && all[i].Stamp != "" {
			l.lag[all[i].Record] = age
		}
	}
}

// called remembers a call.
func (s *Syncs) called(name string, c *remote.Call) {
	level := slog.LevelDebug
	if c.Why != "" {
		level = slog.LevelInfo
	}
	s.log.Log(context.Background(), level, "call", "system", name, "request", c.ID, "method", c.Method, "url", c.URL,
		"status", c.Status, "ms", c.Took.Milliseconds(), "why", c.Why)
	s.mu.Lock()
	defer s.mu.Unlock()
	l := s.logOf(name)
	l.calls[CallKind{c.Method, c.Status}]++
	l.took, l.waited = l.took+c.Took, l.waited+c.Waited
	l.last = append(l.last, shown(c, 0))
	l.last = l.last[max(0, len(l.last)-mostCalls):]
	switch answers := c.Status != 0 && c.Status < http.StatusInternalServerError; {
	case answers:
		l.away = time.Time{}
	case l.away.IsZero():
		l.away = c.At.UTC()
	}
}

// logOf returns the log of a system; s.mu must be held.
func (s *Syncs) logOf(name string) *callLog {
	if s.calls[name] == nil {
		s.calls[name] = &callLog{calls: map[CallKind]int{}, arrivals: map[ArrivalKind]int{},
			lag: map[string]time.Duration{}}
	}
	return s.calls[name]
}

// shown is a call as people see it, with a number of bytes of its answer.
func shown(c *remote.Call, answer int) api.SystemCall {
	out := api.SystemCall{ID: c.ID, At: c.At.UTC(), Method: c.Method, URL: c.URL, Status: c.Status, Bytes: c.Bytes,
		Millis: float64(c.Took.Microseconds()) / 1000, Why: c.Why}
	if text := string(c.Body[:min(answer, len(c.Body))]); utf8.ValidString(text) {
		out.Answer = text
	}
	return out
}

// Calls are the last calls of a system, the newest first.
func (s *Syncs) Calls(name string) []api.SystemCall {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.calls[name] == nil {
		return []api.SystemCall{}
	}
	list := slices.Clone(s.calls[name].last)
	slices.Reverse(list)
	return list
}

// Described is a stored description with what it says about itself, and the state of the system.
func (s *Syncs) Described(kept api.System) api.System {
	kept = Shown(kept)
	y, err := system.Parse([]byte(kept.Text))
	kept.Writes = slices.DeleteFunc(kept.Writes, func(record string) bool { // parts of orders are none
		if err != nil {
			return true
		}
		m, _, err := s.mapping(context.Background(), y.Records[record].Write.Mapping)
		return err != nil || m.Kind != intent.Order
	})
	kept.State.Answers = "unknown"
	s.mu.Lock()
	defer s.mu.Unlock()
	if o := s.open[kept.Name]; o != nil && o.client != nil {
		kept.State.SignedUntil, kept.State.WaitsUntil = o.client.Signed().UTC(), o.client.Waits().UTC()
		kept.State.Points = o.client.Points()
		kept.State.Rate = o.Limits.Rate
	}
	if l := s.calls[kept.Name]; l != nil {
		l.tell(&kept.State, s.now())
	}
	return kept
}

// tell counts the calls of the last hour.
func (l *callLog) tell(to *api.SystemState, now time.Time) {
	to.Hooks = l.hooks
	if len(l.last) == 0 {
		return
	}
	last := l.last[len(l.last)-1]
	to.At, to.Why, to.AwaySince, to.Answers = last.At, last.Why, l.away, "yes"
	if !l.away.IsZero() {
		to.Answers = "no"
	}
	var took []float64
	for _, c := range l.last {
		if now.Sub(c.At) > time.Hour {
			continue
		}
		to.Calls++
		if c.Why != "" {
			to.Failed++
		}
		if c.Status != 0 {
			took = append(took, c.Millis)
		}
	}
	if slices.Sort(took); len(took) > 0 {
		to.Millis = took[(len(took)-1)/2]
	}
}
