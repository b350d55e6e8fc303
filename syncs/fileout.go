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
	"koinos/core/finding"
	"koinos/core/plan"
	"koinos/core/syncing"
	"koinos/core/system"
	"koinos/folder"
	"koinos/remote"
	"koinos/store"
)

// fileFor is how long a record waits for others that go into the same file.
const fileFor = 250 * time.Millisecond

// filedTogether is a record that goes into a file with others, and its result.
type filedTogether struct {
	system.FileRecord
	push     *push
	id, text string // of the file
	err      error
}

// sayFile writes the record into a file, together with those of other orders if the description says so.
func (p *push) sayFile(ctx context.Context) error {
	out := p.r.Write.File
	is := system.FileRecord{Record: p.wanted, Lines: p.linesOf(), Occasion: fmt.Sprintf("%d%s", p.id, p.occasion())}
	id, text, err := out.Text([]system.FileRecord{is}, p.s.now()) // what cannot be written keeps no other one waiting
	if err != nil {
		return blocked(api.CannotWrite, "%v", err)
	}
	if p.dry {
		p.out.State = api.PushPlanned
		p.note(fileStep(out, id, text))
		return nil
	}
	one := &filedTogether{FileRecord: is, push: p, err: errors.New("the writing of a file came to no end")}
	write := func(all []*filedTogether) {
		id, text, err := p.s.writeFile(ctx, p.o, p.r, all)
		for _, is := range all {
			is.id, is.text, is.err = id, text, err
		}
	}
	if p.sync == "" { // a person, who may leave, keeps no order of a sync waiting
		write([]*filedTogether{one})
	} else {
		kind := gathered{syncing.Target{System: p.o.Name, Record: p.r.Name}, p.o.version}
		p.s.filling.do(ctx, kind, out.Orders, fileFor, one, write)
	}
	if one.err != nil {
		return one.err
	}
	p.note(fileStep(out, one.id, one.text))
	return nil
}

func fileStep(out *system.FileOut, id, text string) plan.Step {
	name := out.Named(id)
	step := plan.Step{Does: "write the file " + name, Kind: plan.Create, Method: "FILE", Path: out.Path + "/" + name}
	if quoted, err := json.Marshal(text); err == nil {
		step.Body = quoted
	}
	return step
}

// writeFile writes a file: first complete and hidden, then its records are linked, then it gets its name. If the
// service ends in between, mendFiles repairs it.
func (s *Syncs) writeFile(ctx context.Context, o *opened, r *system.Record, all []*filedTogether) (id, text string,
	err error) {
	t := syncing.Target{System: o.Name, Record: r.Name}
	free, err := s.holdFor(ctx, "files "+t.String()) // one at a time, and not while it is fixed
	if err != nil {
		return "", "", err
	}
	defer free()
	out := r.Write.File
	base, err := system.ResolveFolder(o.Folder, os.LookupEnv)
	if err != nil {
		return "", "", &remote.Problem{Kind: remote.Setup, Why: finding.Capital(err.Error()) + "."}
	}
	records := make([]system.FileRecord, len(all))
	for i, is := range all {
		records[i] = is.FileRecord
	}
	if id, text, err = out.Text(records, s.now()); err != nil {
		return id, text, blocked(api.CannotWrite, "%v", err)
	}
	dir, name := filepath.Join(base, out.Path), out.Named(id)
	if _, err := os.Stat(base); err != nil { // it may be another machine's, and come back
		return id, text, away(o, dir, err)
	}
	if err := s.filesMode.Folder(dir); err != nil {
		return id, text, away(o, dir, err)
	}
	hidden := filepath.Join(dir, hiddenName(name))
	if err := place(s.filesMode, dir, hiddenName(name), []byte(text)); err != nil {
		return id, text, away(o, dir, err)
	}
	links := make([]api.Link, len(all))
	for i, is := range all {
		key := id
		if len(all) > 1 {
			key = fmt.Sprintf("%s/%d", id, i+1)
		}
		is.push.found, is.push.number = &plan.Found{Key: key}, name
		links[i] = *is.push.is(is.push.stored.Revision)
	}
	if err := s.store.Write(ctx, func(t *store.Tx) error { return t.SaveLinks(links, s.now()) }); err != nil {
		return id, text, errors.Join(err, os.Remove(hidden))
	}
	if err := os.Rename(hidden, filepath.Join(dir, name)); err != nil {
		s.setMended(t, false)
		return id, text, away(o, dir, err)
	}
	return id, text, nil
}

func away(o *opened, dir string, err error) error {
	return &remote.Problem{Kind: remote.Away, Why: fmt.Sprintf("The folder %s of %s cannot be written: %s.", dir,
		o.Name,
		cause(err))}
}

// hiddenName is the name of a file that must not be read yet.
func hiddenName(name string) string { return hiddenBegin + name + hiddenEnd }

const hiddenBegin, hiddenEnd = ".koinos-", ".part"

func (s *Syncs) isMended(t syncing.Target) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.fixed[t]
}

func (s *Syncs) setMended(t syncing.Target, is bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.fixed[t] = is
}

// mendFiles looks, once after the service begins, for files that have no final name yet. Those whose records are linked
// get it; others are removed.
func (s *Syncs) mendFiles(ctx context.Context, o *opened, r *system.Record) error {
	t := syncing.Target{System: o.Name, Record: r.Name}
	if s.isMended(t) {
		return nil
	}
	free, err := s.holdFor(ctx, "files "+t.String())
	if err != nil {
		return err
	}
	defer free()
	out := r.Write.File
	base, err := system.ResolveFolder(o.Folder, os.LookupEnv)
	if err != nil {
		return err
	}
	dir := filepath.Join(base, out.Path)
	if err := folder.Sweep(dir); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	entries, err := os.ReadDir(dir)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	for _, e := range entries {
		name := strings.TrimSuffix(strings.TrimPrefix(e.Name(), hiddenBegin), hiddenEnd)
		id, ours := out.ID(name)
		if !ours || hiddenName(name) != e.Name() {
			continue
		}
		links, err := s.store.LinksOfFile(ctx, o.Name, r.Name, id)
		if err != nil {
			return err
		}
		path := filepath.Join(dir, e.Name())
		if len(links) == 0 {
			err = os.Remove(path)
		} else {
			err = os.Rename(path, filepath.Join(dir, name))
			s.log.Info("a file gets its name: the service ended before", "system", o.Name, "record", r.Name, "name",
				name)
		}
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	s.setMended(t, true)
	return nil
}
