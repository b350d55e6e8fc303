package syncs

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"koinos/api"
	"koinos/core/finding"
	"koinos/core/report"
	"koinos/core/source"
	"koinos/core/system"
	"koinos/folder"
	"koinos/remote"
	"koinos/store"
)

// present is a file that is there.
type present struct {
	name  string
	path  string
	info  fs.FileInfo
	bytes []byte
	found *system.File
	wrong string // why it is refused
	waits string // why it is not looked at yet; "" is that it can be
}

// folder returns the folder with the files of a kind of record.
func (o *opened) folder(r *system.Record) (base, dir string, err error) {
	if base, err = system.ResolveFolder(o.Folder, os.LookupEnv); err != nil {
		return "", "", &remote.Problem{Kind: remote.Setup, Why: finding.Capital(err.Error()) + "."}
	}
	return base, filepath.Join(base, r.Files.Path), nil
}

// files returns the files of a kind of record that are there, by name. A folder that is not there may come back,
// because it may be on another machine.
func (o *opened) files(r *system.Record) ([]present, error) {
	_, dir, err := o.folder(r)
	if err != nil {
		return nil, err
	}
	entries, err := os.ReadDir(dir)
	if err != nil {
		return nil, &remote.Problem{Kind: remote.Away, Why: fmt.Sprintf("The folder %s of %s cannot be read: %s.", dir,
			o.Name,
			cause(err))}
	}
	var all []present
	for _, e := range entries {
		if !e.Type().IsRegular() || !r.Files.Reads(e.Name()) {
			continue
		}
		info, err := e.Info()
		if errors.Is(err, fs.ErrNotExist) {
			continue // somebody took it away
		}
		if err != nil {
			return nil, err
		}
		all = append(all, present{name: e.Name(), path: filepath.Join(dir, e.Name()), info: info})
	}
	return all, nil
}

// cause is the reason for an error of the file system, without the path.
func cause(err error) string {
	var p *fs.PathError
	if errors.As(err, &p) {
		err = p.Err
	}
	return err.Error()
}

// read examines a file: it is complete, or must be waited for, or is refused.
func (o *opened) read(r *system.Record, f *present, now time.Time) error {
	still := now.Sub(f.info.ModTime()) >= r.Files.Patience
	if f.info.Size() > o.Limits.Largest {
		f.wrong = fmt.Sprintf("It is larger than %d MiB (limits.largest).", o.Limits.Largest>>20)
		f.found = &system.File{}
		return nil
	}
	b, err := os.ReadFile(f.path)
	if err != nil {
		f.waits = "it cannot be read: " + cause(err)
		return nil
	}
	f.bytes = b
	f.found, err = r.File(f.name, b)
	switch {
	case err != nil:
		f.found = &system.File{}
		f.wrong = "It " + strings.TrimPrefix(err.Error(), "the answer ") + "."
	case !f.found.Complete:
		f.wrong = "Its end is not there."
	case r.Files.Tail == nil && !still:
		f.waits = "nothing says where it ends; it is taken once it has not grown for " + r.Files.Patience.String()
		return nil
	default:
		f.wrong = f.found.Wrong
		return nil
	}
	if !still {
		f.wrong, f.waits = "", "its end is not there yet"
	}
	return nil
}

// pullFiles processes the files that are there.
func (s *Syncs) pullFiles(ctx context.Context, o *opened, r *system.Record, p *api.Pull) error {
	all, err := o.files(r)
	if err != nil {
		return err
	}
	var said []string
	for i := range all {
		f := &all[i]
		was, is, err := s.store.Appearance(ctx, o.Name, r.Name, f.name, f.info.Size(), f.info.ModTime())
		if err != nil {
			return err
		}
		if is { // it was answered at this appearance, if we came so far
			if !was.Settled {
				if err := s.settle(ctx, o, r, f, &was); err != nil {
					return err
				}
			}
			continue
		}
		if err := o.read(r, f, s.now()); err != nil {
			return err
		}
		if f.waits != "" {
			p.Waiting++
			said = append(said, fmt.Sprintf("%s waits: %s.", f.name, f.waits))
			continue
		}
		kept, err := s.takeFile(ctx, o, r, p, f)
		if err != nil {
			return err
		}
		p.Pages++
		if kept.State == api.FileRefused {
			p.Refused++
			said = append(said, fmt.Sprintf("%s is refused: %s", f.name, kept.Reason))
		}
	}
	p.Reason = briefly(said)
	return nil
}

// mostSaid is how many files a pull reports on.
const mostSaid = 5

func briefly(said []string) string {
	if len(said) > mostSaid {
		rest := len(said) - mostSaid
		said = append(said[:mostSaid:mostSaid], "And "+report.Plural(rest, "more file")+".")
	}
	return strings.Join(said, " ")
}

// takeFile takes the records of a file, or refuses it. Then the file is answered and moved to where it belongs.
func (s *Syncs) takeFile(ctx context.Context, o *opened, r *system.Record, p *api.Pull, f *present) (api.SystemFile,
	error) {
	if err := s.noted(ctx, p); err != nil {
		return api.SystemFile{}, err
	}
	sum := sha256.Sum256(f.bytes)
	kept := api.SystemFile{System: o.Name, Record: r.Name, Name: f.name, Size: f.info.Size(),
		Modified: f.info.ModTime().UTC(),
		FileID:   f.found.ID, State: api.FileTaken, Records: len(f.found.Records), Reason: f.wrong, Pull: p.ID,
		At: s.now().UTC()}
	if kept.FileID == "" {
		kept.FileID = hex.EncodeToString(sum[:8])
	}
	var err error
	if kept.Document, err = s.keepFile(ctx, o, f); err != nil {
		return kept, err
	}
	before, again, err := s.store.TakenFile(ctx, o.Name, r.Name, kept.FileID)
	switch {
	case err != nil:
		return kept, err
	case f.wrong != "":
		kept.State = api.FileRefused
	case again && before.Document == kept.Document:
		kept.State, kept.Records = api.FileRepeated, before.Records
	case again:
		kept.State = api.FileRefused
		kept.Reason = fmt.Sprintf("The id %s came before, in %s, with other content.", kept.FileID, before.Name)
	}
	b := newBatch()
	switch {
	case kept.State != api.FileTaken:
	case r.Files.Whole:
		err = s.wholeFile(ctx, p, b, f, &kept)
	default:
		err = s.fileRecords(ctx, o, r, p, b, f)
	}
	if err != nil {
		return kept, err
	}
	if r.Files.Answer != nil {
		kept.Answer, _ = r.Files.Answer.Fill(kept.FileID, kept.State, kept.Records, kept.Reason)
	}
	if err := s.keep(ctx, p, b); err != nil {
		return kept, err
	}
	if err := s.store.Write(ctx, func(t *store.Tx) error { return t.AddFile(&kept) }); err != nil {
		return kept, err
	}
	s.log.Info("file", "system", o.Name, "record", r.Name, "name", f.name, "id", kept.FileID, "state", kept.State,
		"records", kept.Records, "reason", kept.Reason)
	return kept, s.settle(ctx, o, r, f, &kept)
}

// wholeFile loads a file as one document. A file that cannot be read to its end is refused.
func (s *Syncs) wholeFile(ctx context.Context, p *api.Pull, b *batch, f *present, kept *api.SystemFile) error {
	l, err := s.loadDocument(ctx, p, p.Mapping, kept.Document, false)
	var failed *errFailed
	if errors.As(err, &failed) {
		kept.State, kept.Reason = api.FileRefused, fmt.Sprintf("The mapping %s cannot read it. %s", p.Mapping,
			failed.why)
		return nil
	}
	if err != nil {
		return err
	}
	for _, name := range p.Also {
		more, err := s.loadDocument(ctx, p, name, kept.Document, false)
		if err != nil {
			return err
		}
		p.Changed, p.Failed = p.Changed+more.Changed, p.Failed+more.Failing()
	}
	kept.Records = l.Orders
	p.Records += l.Orders
	p.Unchanged += l.Unchanged
	p.Loaded, p.Changed, p.Failed = p.Loaded+l.Loaded, p.Changed+l.Changed, p.Failed+l.Failing()
	one := &f.found.Records[0]
	zipped, err := store.Zip(one.Raw)
	if err != nil {
		return err
	}
	digest := sha256.Sum256(f.bytes)
	b.add(api.Arrival{System: p.System, Record: p.Record, Key: one.Key, Number: f.name, State: api.ArrivalMapped,
		Digest: digest[:],
		Body:   zipped, At: s.now().UTC(), Request: "file " + f.name, Document: kept.Document, Load: l.ID},
		&meaning{raw: one.Raw}, store.KnownArrival{})
	return nil
}

// fileRecords adds the records of a file to a batch.
func (s *Syncs) fileRecords(ctx context.Context, o *opened, r *system.Record, p *api.Pull, b *batch, f *present) error {
	if r.Files.Whole { // a dry run: it is tried as it is
		b.files = append(b.files, f.bytes)
		p.Records++
		return nil
	}
	p.Records += len(f.found.Records)
	keys := make([]string, len(f.found.Records))
	for i := range f.found.Records {
		keys[i] = f.found.Records[i].Key
	}
	known, err := s.store.KnownArrivals(ctx, p.System, p.Record, keys)
	if err != nil {
		return err
	}
	for i := range f.found.Records {
		if err := s.arrive(ctx, o, r, p, b, known, asRead(f.found.Records[i], "file "+f.name, s.now())); err != nil {
			return err
		}
	}
	return nil
}

// keepFile stores a file's bytes as a document.
func (s *Syncs) keepFile(ctx context.Context, o *opened, f *present) (sha string, err error) {
	var in io.Reader = bytes.NewReader(f.bytes)
	if f.bytes == nil { // too large to be read into memory
		file, err := os.Open(f.path)
		if err != nil {
			return "", err
		}
		defer file.Close()
		in = file
	}
	sha, size, err := s.store.KeepFile(in, func(io.ReaderAt, int64) error { return nil })
	if err != nil {
		return "", err
	}
	shape := source.Shape{Format: source.CSV}
	if f.bytes != nil { // what it is does not matter where it cannot be read
		if is, err := source.Sniff(bytes.NewReader(f.bytes), int64(len(f.bytes)), source.Options{}); err == nil {
			shape = is
		}
	}
	_, err = s.store.PutDocument(ctx, api.Document{SHA: sha, Name: f.name, Size: size, Shape: shape,
		ReceivedAt: s.now().UTC(), ReceivedBy: "folder of " + o.Name})
	return sha, err
}

// settle answers a file, and moves it to where it belongs.
func (s *Syncs) settle(ctx context.Context, o *opened, r *system.Record, f *present, kept *api.SystemFile) error {
	base, dir, err := o.folder(r)
	if err != nil {
		return err
	}
	if a := r.Files.Answer; a != nil && kept.Answer != "" {
		_, text := a.Fill(kept.FileID, kept.State, kept.Records, kept.Reason)
		if err := place(s.filesMode, filepath.Join(base, a.Path), kept.Answer, []byte(text)); err != nil {
			return &remote.Problem{Kind: remote.Away, Why: fmt.Sprintf("The answer %s cannot be written: %s.",
				kept.Answer,
				cause(err))}
		}
	}
	switch r.Files.After {
	case "remove":
		err = os.Remove(f.path)
	case "move":
		into := filepath.Join(dir, map[bool]string{true: "refused", false: "taken"}[kept.State == api.FileRefused])
		if err = s.filesMode.Folder(into); err == nil {
			err = os.Rename(f.path, free(into, f.name))
		}
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return &remote.Problem{Kind: remote.Away, Why: fmt.Sprintf("%s cannot be put away: %s.", f.name, cause(err))}
	}
	return s.store.SettleFile(ctx, kept.ID)
}

// place writes a file so that nobody sees a part of it.
func place(mode folder.Mode, dir, name string, b []byte) error {
	return mode.Write(filepath.Join(dir, name), func(w io.Writer) error {
		_, err := w.Write(b)
		return err
	})
}

// free is a name that is not in use in a folder.
func free(dir, name string) string {
	path := filepath.Join(dir, name)
	for n := 2; ; n++ {
		if _, err := os.Lstat(path); errors.Is(err, fs.ErrNotExist) {
			return path
		}
		ext := filepath.Ext(name)
		path = filepath.Join(dir, fmt.Sprintf("%s (%d)%s", strings.TrimSuffix(name, ext), n, ext))
	}
}

// dryFiles adds the records of the files that could be taken to a batch; nothing is stored, answered or moved.
func (s *Syncs) dryFiles(ctx context.Context, o *opened, r *system.Record, p *api.Pull, b *batch) error {
	all, err := o.files(r)
	if err != nil {
		return err
	}
	var said []string
	for i := range all {
		f := &all[i]
		if _, is, err := s.store.Appearance(ctx, o.Name, r.Name, f.name, f.info.Size(), f.info.ModTime()); err != nil ||
			is {
			if err != nil {
				return err
			}
			continue
		}
		if err := o.read(r, f, s.now()); err != nil {
			return err
		}
		switch {
		case f.waits != "":
			p.Waiting++
			said = append(said, fmt.Sprintf("%s waits: %s.", f.name, f.waits))
			continue
		case f.wrong != "":
			p.Refused++
			said = append(said, fmt.Sprintf("%s would be refused: %s", f.name, f.wrong))
			continue
		}
		p.Pages++
		if err := s.fileRecords(ctx, o, r, p, b, f); err != nil || p.Records >= mostTried {
			return err
		}
	}
	p.Reason = briefly(said)
	return nil
}

// tryFolder examines the files of a folder; nothing is stored, answered or moved.
func tryFolder(o *opened, out api.Tried, n *api.NewTry) (api.Tried, error) {
	base, err := system.ResolveFolder(o.Folder, os.LookupEnv)
	if err != nil {
		out.Kind, out.Why = string(remote.Setup), finding.Capital(err.Error())+"."
		return out, nil
	}
	out.Address = base
	if n.Record == "" {
		if _, err := os.ReadDir(base); err != nil {
			out.Kind, out.Why = string(remote.Away), fmt.Sprintf("The folder %s cannot be read: %s.", base, cause(err))
		}
		return out, nil
	}
	r, err := o.record(n.Record)
	if err == nil && (n.Find != "" || n.Key != "" || n.Fields || n.Write != nil) {
		err = asked("The records of %s come as files: they are read by pull only.", o.Name)
	}
	if err != nil {
		return trouble(out, err)
	}
	out.Mapping = r.Mapping
	all, err := o.files(r)
	if err != nil {
		return trouble(out, err)
	}
	out.Files = []api.TriedFile{}
	for i := range all {
		f := &all[i]
		if err := o.read(r, f, time.Now()); err != nil {
			return out, err
		}
		tried := api.TriedFile{Name: f.name, Waits: f.waits, Wrong: f.wrong}
		if f.found != nil {
			tried.FileID, tried.Records = f.found.ID, len(f.found.Records)
			if f.waits == "" && f.wrong == "" {
				for k := range f.found.Records {
					var shown bytes.Buffer
					if err := json.Indent(&shown, f.found.Records[k].Raw, "", "  "); err != nil {
						return out, err
					}
					out.Found, out.Shown = append(out.Found, f.found.Records[k]), append(out.Shown, shown.String())
				}
			}
		}
		out.Files = append(out.Files, tried)
	}
	return out, nil
}
