package syncs

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"koinos/api"
	"koinos/core/jsondoc"
	"koinos/core/mapping"
	"koinos/core/order"
	"koinos/core/plan"
	"koinos/core/syncing"
	"koinos/core/system"
	"koinos/core/tree"
	"koinos/store"
)

// sharing says how a kind of record is shared that is both read and written: whose value counts if both sides changed
// one.
type sharing struct {
	y      *standing
	push   *syncing.Push
	writes *mapping.Mapping
	fields map[bool]map[string]string // of lines, or of the order: fields by pointer
}

// sharing returns how a kind of record is shared that is both read and written; nil if it is not.
func (s *Syncs) sharing(ctx context.Context, t syncing.Target) (*sharing, error) {
	all, err := s.standings(ctx)
	if err != nil {
		return nil, err
	}
	read := false
	var out *sharing
	for _, name := range sorted(all) {
		y := all[name]
		for i := range y.Pulls {
			read = read || y.Pulls[i].Target == t
		}
		for i := range y.Pushes {
			if p := &y.Pushes[i]; out == nil && p.Target == t && p.Of == "" {
				out = &sharing{y: y, push: p}
			}
		}
	}
	if !read || out == nil {
		return nil, nil
	}
	_, r, err := s.target(ctx, t)
	if err != nil || r.Write == nil {
		return nil, err
	}
	if out.writes, _, err = s.mapping(ctx, cmp.Or(out.push.Mapping, r.Write.Mapping)); err != nil {
		return nil, err
	}
	out.fields = map[bool]map[string]string{
		false: pointersOf(out.writes, mapping.InHeader), true: pointersOf(out.writes, mapping.InLines),
	}
	return out, nil
}

// pointersOf maps where values stand in a record to the fields of a level.
func pointersOf(m *mapping.Mapping, level int) map[string]string {
	all := map[string]string{}
	for i := range m.Levels[level] {
		b := &m.Levels[level][i]
		for k := range b.From {
			if p := b.From[k].Pointer(); p != "" && all[p] == "" {
				all[p] = b.Field.Name
			}
		}
	}
	return all
}

// owner says whose value counts: as a person decided, or otherwise as the sync says.
func (h *sharing) owner(l *api.Link) plan.Owner {
	decided := map[string]string{}
	if l.Decided != "" {
		if err := json.Unmarshal([]byte(l.Decided), &decided); err != nil {
			decided = map[string]string{} // it is asked again
		}
	}
	return func(line, pointer string) plan.Side {
		c := plan.Clash{Line: line, Field: strings.TrimPrefix(pointer, "/")}
		by := decided[c.Name()]
		if by == "" {
			field := strings.TrimPrefix(pointer, "/")
			if name := h.fields[line != ""][pointer]; name != "" {
				field = name
			}
			by = h.y.Owner(line != "", field)
		}
		switch by {
		case syncing.OwnerPerson:
			return plan.Both
		case l.System, decidedThere:
			return plan.There
		}
		return plan.Here
	}
}

// What a person can decide about a value.
const (
	decidedHere  = "here"
	decidedThere = "there"
)

// parse reads a record that the store has.
func parse(text string) (*tree.Node, error) {
	n, _, err := jsondoc.Parse([]byte(text), 1)
	if err == nil && n == nil {
		err = errors.New("a record that was kept is blank")
	}
	return n, err
}

// merge compares both sides of a record that is pushed; nil means that only ours counts.
func (p *push) merge(ctx context.Context) (*plan.Merged, error) {
	if p.shares == nil || p.linked == nil || p.linked.Base == "" || p.linked.Agreed == "" || p.found == nil ||
		p.cancelled {
		return nil, nil
	}
	ours, err := parse(string(p.text))
	if err != nil {
		return nil, err
	}
	oursThen, err := parse(p.linked.Agreed)
	if err != nil {
		return nil, err
	}
	theirsThen, err := parse(p.linked.Base)
	if err != nil {
		return nil, err
	}
	m, err := p.rules.Merge(plan.Sides{Ours: ours, OursThen: oursThen, OursLike: p.wanted, Theirs: p.found.Root,
		TheirsThen: theirsThen}, p.shares.owner(p.linked))
	if err != nil {
		return nil, err
	}
	if len(m.Clashes) == 0 {
		p.then = theirsThen
		return m, nil
	}
	p.out.Clashes = m.Clashes
	e := &blockedError{code: api.PushConflict}
	for i := range m.Clashes {
		c := &m.Clashes[i]
		e.why = append(e.why, fmt.Sprintf("Both sides changed %s: it was %s, is %s here and %s in %s.", c.Name(),
			orBlank(c.Agreed), orBlank(c.Here), orBlank(c.There), p.o.Name))
	}
	return nil, e
}

func orBlank(s string) string {
	if s == "" {
		return "blank"
	}
	return fmt.Sprintf("%q", s)
}

// both is a record that was read and may have changed on both sides.
type both struct {
	shares *sharing
	link   *api.Link // nil: the order is not known yet
	clash  bool
	here   bool // the order has changes that the record does not have
	aside  bool // they cannot be compared, and the order has changed: its push says why
	raw    []byte
}

// uncompared is a record for which nobody can say what changed where. It counts as it is, unless the order has changed
// since both agreed: then nothing is taken from it until a person has fixed the problem.
func (b *both) uncompared(is *store.StoredOrder) *both {
	b.aside = is.Revision != b.link.Revision
	return b
}

// compared returns what a mapping reads of a record that both sides may have changed: without what the other side did
// not change. theirs is the record as it came; resolved has values in place of the keys of other records.
func (s *Syncs) compared(ctx context.Context, r *system.Record, shares *sharing, l *api.Link, theirs,
	resolved *tree.Node,
	reads *mapping.Mapping) (*both, error) {
	out := &both{shares: shares, link: l, raw: resolved.AppendJSON(nil)}
	if l == nil {
		return out, nil
	}
	// Before it was both read and written, it may have been written only. What it was then counts as agreed.
	base := cmp.Or(l.Base, l.Found)
	if base == "" || l.Agreed == "" {
		return out, nil
	}
	is, err := s.store.OrderNow(ctx, l.OrderID)
	if errors.Is(err, store.ErrNotFound) {
		return out, nil
	}
	if err != nil {
		return nil, err
	}
	text, err := s.nowOf(ctx, shares.writes, is)
	var no *blockedError
	if errors.As(err, &no) {
		return out.uncompared(is), nil
	}
	if err != nil {
		return nil, err
	}
	var sides plan.Sides
	for _, part := range []struct {
		to   **tree.Node
		text string
	}{{&sides.Ours, string(text)}, {&sides.OursThen, l.Agreed}, {&sides.TheirsThen, base}} {
		if *part.to, err = parse(part.text); err != nil {
			return nil, err
		}
	}
	sides.Theirs, sides.TheirsLike = theirs, resolved
	m, err := plan.New(r).Merge(sides, shares.owner(l))
	var cannot *plan.Blocked
	if errors.As(err, &cannot) {
		return out.uncompared(is), nil
	}
	if err != nil {
		return nil, err
	}
	_, out.here = m.Changes()
	out.clash = len(m.Clashes) > 0
	out.raw = m.ToOrder(resolved, sides.Ours, needed(reads)).AppendJSON(nil)
	return out, nil
}

// nowOf is an order as a mapping writes it now.
func (s *Syncs) nowOf(ctx context.Context, m *mapping.Mapping, is *store.StoredOrder) ([]byte, error) {
	of, err := stillWanted(&is.Order)
	if err != nil {
		return nil, err
	}
	return s.textOf(ctx, m, is.ID, of)
}

// making reports whether we are about to write a record.
func (s *Syncs) making(ctx context.Context, shares *sharing, l *api.Link) (bool, error) {
	if l == nil || l.Revision != 0 || l.Base != "" {
		return false, nil
	}
	k, err := s.store.TaskOf(ctx, shares.y.Name, shares.push.Name, l.OrderID, 0)
	return k != nil && k.State == api.TaskWaiting, err
}

// needed says which values a mapping cannot do without: identities, and mandatory fields.
func needed(m *mapping.Mapping) func(line bool, pointer string) bool {
	names := map[string]bool{"sender_number": true, "number": true, "partner": true, "sender_line": true, "item": true,
		"quantity": true}
	must := map[bool]map[string]bool{} // of lines, or of the order
	for _, level := range []int{mapping.InHeader, mapping.InLines} {
		of := map[string]bool{}
		must[level == mapping.InLines] = of
		for k := range m.Levels[level] {
			b := &m.Levels[level][k]
			for j := range b.From {
				of[b.From[j].Pointer()] = b.Need == mapping.Must || names[b.Field.Name] || m.Again.Arrival.Clear
			}
		}
	}
	return func(line bool, pointer string) bool { return must[line][pointer] }
}

// agreed updates the links of a batch: both sides agree on what a record says now and on what the order says that was
// made of it, unless one side has changes for the other.
func (s *Syncs) agreed(ctx context.Context, b *batch) (links []api.Link, tasks map[string][]store.NewTask, err error) {
	tasks = map[string][]store.NewTask{}
	made, err := s.made(ctx, b)
	if err != nil {
		return nil, nil, err
	}
	for i := range b.arrivals {
		a, both := &b.arrivals[i], b.says[i].both
		if both == nil {
			continue
		}
		id := made[i]
		if both.aside {
			id = both.link.OrderID
		}
		if id == 0 {
			continue
		}
		if both.clash || both.here || both.aside {
			p := both.shares.push
			tasks[both.shares.y.Name] = append(tasks[both.shares.y.Name], store.NewTask{Push: p.Name, System: p.System,
				Record: p.Record, OrderID: id})
			continue
		}
		l, err := s.agreedOn(ctx, a, both, id, string(b.says[i].read))
		if err != nil {
			return nil, nil, err
		}
		if l != nil {
			links = append(links, *l)
		}
	}
	return links, tasks, nil
}

// made returns the orders that a batch made or changed, by the place of their arrivals in it.
func (s *Syncs) made(ctx context.Context, b *batch) (map[int]int64, error) {
	all := map[int]int64{}
	loads := map[int64]map[int]int64{}
	for i := range b.arrivals {
		a := &b.arrivals[i]
		if a.State != api.ArrivalMapped || a.Load == 0 || b.last[a.Key] != i {
			continue
		}
		if loads[a.Load] == nil {
			var err error
			if loads[a.Load], err = s.store.OrdersOfLoad(ctx, a.Load); err != nil {
				return nil, err
			}
		}
		if id := loads[a.Load][a.Line]; id != 0 {
			all[i] = id
		}
	}
	return all, nil
}

// agreedOn is the link between an order and the record that it was just updated from.
func (s *Syncs) agreedOn(ctx context.Context, a *api.Arrival, b *both, id int64, record string) (*api.Link, error) {
	is, err := s.store.OrderNow(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	text, err := s.nowOf(ctx, b.shares.writes, is)
	var no *blockedError
	if errors.As(err, &no) { // its push says so
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	l := &api.Link{System: a.System, Record: a.Record, OrderID: id, Key: a.Key, Number: a.Number, Revision: is.Revision,
		Agreed: string(text), Found: record, Base: record}
	if is.Status == order.Cancelled { // whether the record is to be acted on is for the push to say
		l.Revision = 0
	}
	if b.link == nil {
		other, err := s.store.LinkOf(ctx, a.System, a.Record, a.Key)
		if err != nil || other != nil && other.OrderID != id {
			return nil, err
		}
	} else if b.link.OrderID != id {
		return nil, nil
	}
	return l, nil
}

// Decide says whose values count if both sides changed them, for a push that is held: here or there, for all of them or
// by name. Their values are read, and the push is tried again.
func (s *Syncs) Decide(ctx context.Context, held int64, d api.Decision, by string) ([]int64, error) {
	w, err := s.store.HeldOne(ctx, held)
	if err != nil {
		return nil, err
	}
	if w.Kind != api.HeldPush || w.Code != api.PushConflict {
		return nil, asked("It is not held because both sides changed something; there is nothing to decide.")
	}
	k, err := s.store.Task(ctx, w.Task)
	if err != nil {
		return nil, err
	}
	links, err := s.store.Links(ctx, k.OrderID)
	if err != nil {
		return nil, err
	}
	l := linked(links, syncing.Target{System: k.System, Record: k.Record}, k.Part)
	if l == nil {
		return nil, asked("The order is not linked with a record any more.")
	}
	clashes, err := s.clashes(ctx, &k)
	if err != nil {
		return nil, err
	}
	decided := map[string]string{}
	theirs := false
	for i := range clashes {
		name := clashes[i].Name()
		take := d.Fields[name]
		if take == "" {
			take = d.Take
		}
		if take != decidedHere && take != decidedThere {
			return nil, asked("Say here or there of %s.", name)
		}
		decided[name] = take
		theirs = theirs || take == decidedThere
	}
	for name := range d.Fields {
		if decided[name] == "" {
			return nil, asked("%s is not among what both sides changed.", name)
		}
	}
	b, err := json.Marshal(decided)
	if err != nil {
		return nil, err
	}
	l.Decided = string(b)
	if err := s.store.PutLink(ctx, l, s.now()); err != nil {
		return nil, err
	}
	if theirs {
		if err := s.fetch(ctx, l, by); err != nil {
			return nil, err
		}
	}
	return s.RetryHeld(ctx, []api.HeldWork{w}, by)
}

// clashes are the values that both sides changed, for a task that is held because of them.
func (s *Syncs) clashes(ctx context.Context, k *api.Task) ([]plan.Clash, error) {
	all, err := s.standings(ctx)
	if err != nil {
		return nil, err
	}
	y := all[k.Sync]
	if y == nil || y.Push(k.Push) == nil {
		return nil, asked("The sync does not have this push any more.")
	}
	p := y.Push(k.Push)
	o, r, err := s.target(ctx, p.Target)
	if err != nil {
		return nil, err
	}
	out, _, err := s.bring(ctx, o, r, k.OrderID, wish{mapping: p.Mapping, dry: true, lost: p.Lost, sync: y.Name,
		push: p.Name})
	return out.Clashes, err
}

// Clashes are the values that both sides changed, for a push that is held because of them.
func (s *Syncs) Clashes(ctx context.Context, w *api.HeldWork) ([]plan.Clash, error) {
	if w.Code != api.PushConflict || w.Task == 0 {
		return nil, nil
	}
	k, err := s.store.Task(ctx, w.Task)
	if err != nil {
		return nil, err
	}
	return s.clashes(ctx, &k)
}

// fetch reads one record again, because the order is to get its values.
func (s *Syncs) fetch(ctx context.Context, l *api.Link, by string) error {
	n, err := s.readsBy(ctx, l.System, l.Record)
	if err != nil {
		return err
	}
	n.Key = l.Key
	_, err = s.Start(ctx, l.System, n, by)
	return err
}

// readsBy is how syncs read a kind of record; if none does, it is as the description says.
func (s *Syncs) readsBy(ctx context.Context, system, record string) (api.NewPull, error) {
	all, err := s.standings(ctx)
	for _, name := range sorted(all) {
		for i := range all[name].Pulls {
			if p := &all[name].Pulls[i]; p.System == system && p.Record == record {
				return pullBy(p), nil
			}
		}
	}
	return api.NewPull{Record: record}, err
}

// pullBy is what a sync asks of a pull.
func pullBy(p *syncing.Pull) api.NewPull {
	n := api.NewPull{Record: p.Record, Mapping: p.Mapping, Also: p.Also,
		Reading: api.Reading{Query: p.Query, Pass: p.Pass}}
	if p.Only != nil {
		n.Only = &api.Condition{Path: p.Only.String(), Is: p.OnlyIs, Not: p.OnlyNot}
	}
	return n
}
