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
	"sync"
	"time"

	"koinos/api"
	"koinos/core/plan"
	"koinos/core/syncing"
	"koinos/core/system"
	"koinos/remote"
	"koinos/store"
)

// fileFor is how long a record waits for others that go into its file.
const fileFor = 250 * time.Millisecond

// outFile is a file that is filled with records.
type outFile struct {
	full    chan struct{} // closed when no more go in
	done    chan struct{} // closed when it is written, or is not
	records []system.FileRecord
	pushes  []*push
	id      string
	text    string
	err     error
}

// outFiles are those that are filled just now.
type outFiles struct {
	filling sync.Mutex
	out     map[gathered]*outFile
	mended  map[syncing.Target]bool // what an earlier service left half done was looked for
	naming  sync.RWMutex            // held for writing by who looks for that, for reading by who writes a file
}

// join adds a record to the file that is filled; who began it is the first.
func (g *outFiles) join(t gathered, most int, p *push, is system.FileRecord) (in *outFile, begun bool) {
	g.filling.Lock()
	defer g.filling.Unlock()
	in = g.out[t]
	if in == nil {
		in, begun = &outFile{full: make(chan struct{}), done: make(chan struct{}),
			err: errors.New("the writing of a file came to no end")}, true
		g.out[t] = in
	}
	in.records, in.pushes = append(in.records, is), append(in.pushes, p)
	if len(in.records) >= most {
		delete(g.out, t)
		close(in.full)
	}
	return in, begun
}

// sayFile writes the record into a file, in one with those of other orders where the
// description says so.
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
	t := gathered{syncing.Target{System: p.o.Name, Record: p.r.Name}, p.o.version}
	g := &p.s.outFiles
	in, first := g.join(t, out.Orders, p, is)
	if first {
		p.lead(ctx, g, t, in)
	}
	<-in.done
	if in.err != nil {
		return in.err
	}
	p.note(fileStep(out, in.id, in.text))
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

// lead waits for other records and writes the file. Whatever happens, it is done then.
func (p *push) lead(ctx context.Context, g *outFiles, t gathered, in *outFile) {
	defer close(in.done)
	timer := time.NewTimer(fileFor)
	select {
	case <-in.full:
	case <-timer.C:
	case <-ctx.Done():
	}
	timer.Stop()
	g.filling.Lock()
	if g.out[t] == in {
		delete(g.out, t)
	}
	g.filling.Unlock()
	g.naming.RLock()
	defer g.naming.RUnlock()
	in.err = p.s.writeFile(ctx, p.o, p.r, in)
}

// writeFile writes a file: whole and hidden at first, then its records are linked, then it gets
// its name. What dies between is mended by mendFiles.
func (s *Syncs) writeFile(ctx context.Context, o *opened, r *system.Record, in *outFile) error {
	out := r.Write.File
	base, err := system.ResolveFolder(o.Folder, os.LookupEnv)
	if err != nil {
		return &remote.Problem{Kind: remote.Setup, Why: capital(err.Error()) + "."}
	}
	if in.id, in.text, err = out.Text(in.records, s.now()); err != nil {
		return blocked(api.CannotWrite, "%v", err)
	}
	dir, name := filepath.Join(base, out.Path), out.Named(in.id)
	if _, err := os.Stat(base); err != nil { // it may be another machine's, and come back
		return away(o, dir, err)
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return away(o, dir, err)
	}
	hidden := filepath.Join(dir, hiddenName(name))
	if err := place(dir, hiddenName(name), []byte(in.text), 0o644); err != nil {
		return away(o, dir, err)
	}
	links := make([]api.Link, len(in.pushes))
	for i, p := range in.pushes {
		key := in.id
		if len(in.pushes) > 1 {
			key = fmt.Sprintf("%s/%d", in.id, i+1)
		}
		p.found, p.number = &plan.Found{Key: key}, name
		links[i] = *p.is(p.stored.Revision)
	}
	if err := s.store.Write(ctx, func(t *store.Tx) error { return t.SaveLinks(links, s.now()) }); err != nil {
		return errors.Join(err, os.Remove(hidden))
	}
	if err := os.Rename(hidden, filepath.Join(dir, name)); err != nil {
		s.forgetMended(syncing.Target{System: o.Name, Record: r.Name})
		return away(o, dir, err)
	}
	return nil
}

func away(o *opened, dir string, err error) error {
	return &remote.Problem{Kind: remote.Away, Why: fmt.Sprintf("The folder %s of %s cannot be written: %s.", dir, o.Name,
		cause(err))}
}

// hiddenName is the name of a file that is not to be read yet.
func hiddenName(name string) string { return hiddenBegin + name + hiddenEnd }

const hiddenBegin, hiddenEnd = ".koinos-", ".part"

func (s *Syncs) isMended(t syncing.Target) bool {
	s.filling.Lock()
	defer s.filling.Unlock()
	return s.mended[t]
}

func (s *Syncs) forgetMended(t syncing.Target) {
	s.filling.Lock()
	defer s.filling.Unlock()
	delete(s.mended, t)
}

// mendFiles looks, once after the service begins, for files that have no name yet: those whose
// records are linked get it, others are of no use.
func (s *Syncs) mendFiles(ctx context.Context, o *opened, r *system.Record) error {
	t := syncing.Target{System: o.Name, Record: r.Name}
	if s.isMended(t) {
		return nil
	}
	s.naming.Lock()
	defer s.naming.Unlock()
	out := r.Write.File
	base, err := system.ResolveFolder(o.Folder, os.LookupEnv)
	if err != nil {
		return err
	}
	dir := filepath.Join(base, out.Path)
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
			s.log.Info("a file gets its name: the service ended before", "system", o.Name, "record", r.Name, "name", name)
		}
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	s.filling.Lock()
	defer s.filling.Unlock()
	s.mended[t] = true
	return nil
}
