package syncs

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"time"

	"koinos/api"
	"koinos/core/finding"
	"koinos/core/origin"
	"koinos/core/syncing"
	"koinos/core/system"
	"koinos/store"
)

// standing is a stored sync.
type standing struct {
	*syncing.Sync
	version int
}

// KeepSync stores a sync. What it names must exist.
func (s *Syncs) KeepSync(ctx context.Context, text, by string) (api.Sync, error) {
	y, err := syncing.Parse([]byte(text))
	if err != nil {
		return api.Sync{}, err
	}
	var wrong finding.All
	for _, p := range y.Pulls {
		if err := s.checkPull(ctx, y, &p); err != nil {
			if wrong, err = misfit(wrong, p.Target, text, err); err != nil {
				return api.Sync{}, err
			}
		}
	}
	for _, p := range y.Pushes {
		if err := s.checkPush(ctx, &p); err != nil {
			if wrong, err = misfit(wrong, p.Target, text, err); err != nil {
				return api.Sync{}, err
			}
		}
	}
	if wrong, err = s.checkShared(ctx, y, text, wrong); err != nil {
		return api.Sync{}, err
	}
	if len(wrong) > 0 {
		return api.Sync{}, wrong
	}
	kept, err := s.store.PutSync(ctx, api.Sync{Name: y.Name, Text: text, StoredAt: s.now().UTC(), StoredBy: by})
	s.anewStandings()
	if err != nil {
		return kept, err
	}
	s.wake()
	return s.DescribeSync(ctx, kept)
}

// misfit turns what is wrong with a part of a sync into a finding; it returns errors of ours.
func misfit(all finding.All, t syncing.Target, text string, err error) (finding.All, error) {
	var no *AskedError
	if !errors.As(err, &no) && !errors.Is(err, store.ErrNotFound) && len(finding.Of(err)) == 0 {
		return all, err
	}
	message := finding.Capital(strings.TrimSuffix(err.Error(), ".")) + "."
	if errors.Is(err, store.ErrNotFound) {
		message = fmt.Sprintf("%s is not kept here.", finding.Capital(strings.TrimSuffix(err.Error(),
			": "+store.ErrNotFound.Error())))
	}
	f := finding.New(finding.MappingWrongValue, placeOf(text, t.String()), t.String(), "%s", message)
	f.Hint = "" // the message says what to do
	return append(all, f), nil
}

// checkPull checks whether what a pull names exists.
func (s *Syncs) checkPull(ctx context.Context, y *syncing.Sync, p *syncing.Pull) error {
	o, r, err := s.target(ctx, p.Target)
	if err != nil {
		return err
	}
	if r.Tells != nil {
		return s.checkTold(ctx, y, p, o.Records[r.Tells.Record])
	}
	name := cmp.Or(p.Mapping, r.Mapping)
	if name == "" {
		return asked("Say mapping: neither the sync nor the description says what makes orders of %s.", p.Target)
	}
	for _, name := range append([]string{name}, p.Also...) {
		if _, _, err = s.mapping(ctx, name); err != nil {
			return err
		}
	}
	all, err := s.standings(ctx)
	for _, other := range sorted(all) { // what is known of a record is known to all
		for i := range all[other].Pulls {
			q := &all[other].Pulls[i]
			if other == y.Name || q.Target != p.Target {
				continue
			}
			if through := cmp.Or(q.Mapping, r.Mapping); through != name {
				return asked("The sync %s reads %s already, through the mapping %s; a record is read in one way.",
					other, p.Target,
					through)
			}
			if !sameReading(pullBy(p), pullBy(q)) {
				return asked("The sync %s reads %s already, and takes in other ones of them (query, only, "+
					"without_order, also); say the "+
					"same in both, or describe the record twice under two names.", other, p.Target)
			}
		}
	}
	return err
}

func sameReading(p, q api.NewPull) bool {
	return slices.Equal(p.Also, q.Also) && reflect.DeepEqual(p.Reading, q.Reading)
}

// checkTold checks a pull of records that only point to others, which are read as they always are.
func (s *Syncs) checkTold(ctx context.Context, y *syncing.Sync, p *syncing.Pull, of *system.Record) error {
	if p.Mapping != "" || len(p.Also) > 0 || p.Only != nil || p.Pass {
		return asked("%s only tells of %s: say mapping, also, only and without_order where that is read.", p.Target,
			of.Name)
	}
	n, err := s.readsBy(ctx, p.System, of.Name)
	if err != nil {
		return err
	}
	if i := slices.IndexFunc(y.Pulls, func(q syncing.Pull) bool {
		return q.System == p.System &&
			q.Record == of.Name
	}); i >= 0 {
		n = pullBy(&y.Pulls[i])
	}
	if n.Mapping == "" && of.Mapping == "" {
		return asked("Nothing says through which mapping %s is read, of which %s tells.", of.Name, p.Target)
	}
	return nil
}

// checkPush checks whether what a push names exists, and whether the push is possible.
func (s *Syncs) checkPush(ctx context.Context, p *syncing.Push) error {
	_, r, err := s.target(ctx, p.Target)
	if err != nil {
		return err
	}
	if r.Write == nil {
		return asked("The description says nothing of how %s is written (write).", p.Target)
	}
	name := cmp.Or(p.Mapping, r.Write.Mapping)
	if name == "" {
		return asked("Say mapping: neither the sync nor the description says what writes an order as %s.", p.Target)
	}
	if p.After != nil {
		if _, _, err := s.target(ctx, p.After.Target); err != nil {
			return err
		}
	}
	m, _, err := s.mapping(ctx, name)
	if err == nil && m.Kind != kindOf(p.Of) {
		err = asked("The mapping %s is one of %ss, but %s is to be written of each %s (of).", name, m.Kind, p.Target,
			kindOf(p.Of))
	}
	return err
}

// checkShared checks whether the records that are both read and written, by any syncs, can be: if both sides change a
// record, it is read by its key.
func (s *Syncs) checkShared(ctx context.Context, y *syncing.Sync, text string, wrong finding.All) (finding.All, error) {
	kept, err := s.standings(ctx)
	if err != nil {
		return wrong, err
	}
	all := []*syncing.Sync{y}
	for _, name := range sorted(kept) {
		if name != y.Name {
			all = append(all, kept[name].Sync)
		}
	}
	read, written := map[syncing.Target]bool{}, map[syncing.Target]bool{}
	for _, y := range all {
		for i := range y.Pulls {
			read[y.Pulls[i].Target] = true
		}
		for i := range y.Pushes {
			written[y.Pushes[i].Target] = written[y.Pushes[i].Target] || y.Pushes[i].Of == ""
		}
	}
	for t := range read {
		if !written[t] || !strings.Contains(text, t.String()) {
			continue
		}
		if _, r, err := s.target(ctx, t); err == nil && r.Write != nil && r.Files == nil && readable(r) && r.Get == "" {
			wrong, err = misfit(wrong, t, text,
				asked("%s is both read and written, so its description has to say how one is "+
					"read by its key (get).", t))
			if err != nil {
				return wrong, err
			}
		}
	}
	return wrong, nil
}

// anewStandings has the syncs read again, because one was stored.
func (s *Syncs) anewStandings() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.standing = nil
	s.kept++
}

// standings returns the newest version of every sync, by name. The map must not be changed.
func (s *Syncs) standings(ctx context.Context) (map[string]*standing, error) {
	s.mu.Lock()
	known, kept := s.standing, s.kept
	s.mu.Unlock()
	if known != nil {
		return known, nil
	}
	versions, err := s.store.SyncVersions(ctx)
	if err != nil {
		return nil, err
	}
	out := make(map[string]*standing, len(versions))
	for name, version := range versions {
		kept, err := s.store.Sync(ctx, name, version)
		if err != nil {
			return nil, err
		}
		y, err := syncing.Parse([]byte(kept.Text))
		if err != nil {
			s.log.Error("a sync cannot be read", "sync", name, "error", err)
			continue
		}
		out[name] = &standing{Sync: y, version: version}
	}
	s.mu.Lock()
	if s.kept == kept { // else one was kept while they were read
		s.standing = out
	}
	s.mu.Unlock()
	return out, nil
}

// with returns a sync with all of some parts.
func (s *Syncs) with(ctx context.Context, name string, parts []string) (*standing, error) {
	all, err := s.standings(ctx)
	if err != nil {
		return nil, err
	}
	y := all[name]
	if y == nil {
		if _, err := s.store.Sync(ctx, name, 0); err != nil {
			return nil, err
		}
		return nil, asked("This version of Koinos cannot read the sync %s: keep it anew.", name)
	}
	for _, part := range parts {
		if !slices.Contains(y.Names(), part) {
			return nil, asked("%s has no pull or push %q; it has %s.", name, part, strings.Join(y.Names(), ", "))
		}
	}
	return y, nil
}

// aDay is the time for which counts are shown.
const aDay = 24 * time.Hour

// DescribeSync is a stored sync with what it says about itself, and its state.
func (s *Syncs) DescribeSync(ctx context.Context, kept api.Sync) (api.Sync, error) {
	y, err := syncing.Parse([]byte(kept.Text))
	if err != nil { // it was kept by another version of Koinos; its text is all that there is
		kept.State.Reason = "This version of Koinos cannot read it, so it does not work: " + err.Error()
		return kept, nil
	}
	kept.About, kept.Asked = y.About, y.Asked
	progresses, err := s.store.Progresses(ctx)
	if err != nil {
		return kept, err
	}
	p := progresses[kept.Name]
	kept.State.State, kept.State.Reason, kept.State.Since = p.State, p.Reason, p.Since
	last, err := s.store.LastEvent(ctx)
	if err != nil {
		return kept, err
	}
	kept.State.Behind = last - p.Position
	tasks, oldest, err := s.store.CountTasks(ctx, kept.Name)
	if err != nil {
		return kept, err
	}
	written, err := s.store.CountPushed(ctx, kept.Name, s.now().Add(-aDay), 0)
	if err != nil {
		return kept, err
	}
	lately, err := s.store.CountPushed(ctx, kept.Name, s.now().Add(-time.Hour), 0)
	if err != nil {
		return kept, err
	}
	if !oldest.IsZero() {
		kept.State.Lag = s.now().Sub(oldest).Seconds()
	}
	for _, pull := range y.Pulls {
		kept.Pulls = append(kept.Pulls, s.pullPart(&pull))
	}
	for _, push := range y.Pushes {
		part := api.SyncPart{Name: push.Name, System: push.System, Record: push.Record, Mapping: push.Mapping,
			Of: push.Of}
		if push.Which != nil {
			part.Which = push.Which.Text
		}
		part.Away, part.Since = s.awayOf(push.System)
		part.Counts, part.Hour = together(written[push.Name], tasks[push.Name]), lately[push.Name]
		kept.State.Counts = together(kept.State.Counts, part.Counts)
		if r := s.reply(ctx, &push); r != nil {
			within := s.now().Add(-r.Write.File.Answer.Within)
			if part.Unanswered, part.UnansweredSince, err = s.store.Unanswered(ctx, push.System, push.Record,
				within); err != nil {
				return kept, err
			}
			kept.State.Unanswered += part.Unanswered
		}
		kept.Pushes = append(kept.Pushes, part)
	}
	waits, err := s.store.CountHeldOrders(ctx, kept.Name)
	if err != nil {
		return kept, err
	}
	kept.State.Counts.Held += waits
	runs, err := s.store.OpenSyncRuns(ctx)
	for i := range runs {
		if runs[i].Sync == kept.Name {
			kept.State.Run = &runs[i]
		}
	}
	if err != nil {
		return kept, err
	}
	settled, away, since, err := s.settled(ctx, y, nil)
	kept.State.Settled, kept.State.Away = settled, away
	if !since.IsZero() {
		kept.State.AwayFor = s.now().Sub(since).Seconds()
	}
	return kept, err
}

func together(x, y api.PushCounts) api.PushCounts {
	return api.PushCounts{Created: x.Created + y.Created, Changed: x.Changed + y.Changed, Right: x.Right + y.Right,
		Waiting: x.Waiting + y.Waiting, Held: x.Held + y.Held, Aside: x.Aside + y.Aside}
}

func (s *Syncs) pullPart(p *syncing.Pull) api.SyncPart {
	part := api.SyncPart{Name: p.Target.String(), System: p.System, Record: p.Record, Mapping: p.Mapping}
	if p.Every > 0 {
		part.Every = p.Every.String()
	}
	part.Away, part.Since = s.awayOf(p.System)
	s.mu.Lock()
	defer s.mu.Unlock()
	if q := s.polls[p.Target]; q != nil {
		part.LastAt, part.NextAt, part.Why = q.last, q.next, q.why
		if p.Every == 0 {
			part.NextAt = time.Time{}
		}
	}
	return part
}

// PauseSync pauses or resumes a sync.
func (s *Syncs) PauseSync(ctx context.Context, name string, pause bool, by string) (api.Sync, error) {
	kept, err := s.store.Sync(ctx, name, 0)
	if err != nil {
		return kept, err
	}
	state, reason := api.SyncActive, ""
	if pause {
		state, reason = api.SyncPaused, "Paused by "+by+"."
	}
	if err := s.store.SetSync(ctx, name, state, reason, s.now().UTC()); err != nil {
		return kept, err
	}
	s.wake()
	return s.DescribeSync(ctx, kept)
}

// placeOf is where a text stands in a sync.
func placeOf(text, what string) origin.Place {
	for i, line := range strings.Split(text, "\n") {
		if at := strings.Index(line, what); at >= 0 {
			return origin.Place{Mapping: true, Row: i + 1, Column: at + 1}
		}
	}
	return origin.Place{Mapping: true, Row: 1, Column: 1}
}
