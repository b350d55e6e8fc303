package folder

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"regexp"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"
	"unicode/utf8"
)

// Watch is one watched folder and what is done with its files.
type Watch struct {
	Dir  string
	Mode Mode // of what is written beside the files
	// Quiet is how long a file must look the same before it is taken; 0 means two looks.
	Quiet time.Duration
	// Ended reports from the end of a file, tailBytes at most, that nothing more will follow. Such a file is taken
	// after two looks. If Ended is nil, no file is known to be complete.
	Ended func(tail []byte) bool
	// Load loads a file and waits for its end. name is the file's. once is a name for the work: it is the same if the
	// same arrival is taken up again after a crash, and another if the file comes again. clean reports whether every
	// order was loaded. mark, unless it is nil, writes the marked-up copy; ext is the copy's ending. An error says why
	// the file could not be loaded at all.
	Load func(ctx context.Context, file *os.File, name, once string) (r Result, err error)
}

// Result is what became of a file.
type Result struct {
	Clean bool
	Load  int64
	Mark  func(io.Writer) error
	Ext   string
}

// ErrLater says that a file could not be loaded now, and should be tried again.
var ErrLater = errors.New("later")

// Names of the folders within a watched one.
const (
	Done   = "done"   // every order of these files went in
	Failed = "failed" // an order of these files did not, or the file could not be read
	// Working contains the files that were taken, each in a folder named after its arrival. What is put into the
	// watched folder meanwhile is another arrival.
	Working = "working"
)

// seen is a file as it was at the last look.
type seen struct {
	size int64
	at   time.Time
	kept int // how often it was the same
}

// quiet is for how many looks in a row a file must at least look the same before it is taken.
const quiet = 2

// mostName is how long a name may be, in bytes, so that "-load-123.csv" can be added to it.
const mostName = 220

// Run looks into the folder at regular intervals until ctx ends. It leaves files alone that are still being written:
// names that begin with a dot or end in .tmp or .part.
func (w *Watch) Run(ctx context.Context, every time.Duration, log *slog.Logger) error {
	for _, dir := range []string{w.Dir, filepath.Join(w.Dir, Done), filepath.Join(w.Dir, Failed),
		filepath.Join(w.Dir, Working)} {
		if err := errors.Join(w.Mode.Folder(dir), Sweep(dir)); err != nil {
			return fmt.Errorf("watched folder: %w", err)
		}
	}
	files := map[string]seen{}
	looks := max(quiet, int((w.Quiet+every-1)/every))
	tick := time.NewTicker(every)
	defer tick.Stop()
	for {
		if err := errors.Join(w.take(files, looks), w.work(ctx, log)); err != nil && ctx.Err() == nil {
			log.Error("watched folder cannot be read", "folder", w.Dir, "error", err)
		}
		select {
		case <-ctx.Done():
			return nil
		case <-tick.C:
		}
	}
}

// take moves the files that are complete into folders of their arrivals.
func (w *Watch) take(files map[string]seen, looks int) error {
	entries, err := os.ReadDir(w.Dir)
	if err != nil {
		return err
	}
	here := map[string]bool{}
	slices.SortStableFunc(entries, func(a, b fs.DirEntry) int { return changed(a).Compare(changed(b)) }) // as they came
	for _, e := range entries {
		name := e.Name()
		if !e.Type().IsRegular() || strings.HasPrefix(name, ".") || strings.HasPrefix(name, "~$") || unfinished(name) {
			continue
		}
		info, err := e.Info()
		if errors.Is(err, fs.ErrNotExist) {
			continue // gone since
		}
		if err != nil {
			return err
		}
		here[name] = true
		was := files[name]
		now := seen{info.Size(), info.ModTime(), 0}
		if was.size == now.size && was.at.Equal(now.at) {
			now.kept = was.kept + 1
		}
		files[name] = now
		if now.kept < quiet || now.size == 0 && now.kept < 10*looks || now.kept < looks && !w.ended(name, now.size) {
			continue
		}
		delete(files, name)
		arrival := filepath.Join(w.Dir, Working, time.Now().UTC().Format("20060102-150405.000000000-")+rand.Text()[:6])
		if err := w.Mode.Folder(arrival); err != nil {
			return err
		}
		err = os.Rename(filepath.Join(w.Dir, name), filepath.Join(arrival, name))
		if err != nil {
			err = errors.Join(err, os.Remove(arrival))
		}
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	for name := range files {
		if !here[name] {
			delete(files, name)
		}
	}
	return nil
}

// tailBytes is how much of the end of a file Ended gets.
const tailBytes = 512

func (w *Watch) ended(name string, size int64) bool {
	if w.Ended == nil {
		return false
	}
	f, err := os.Open(filepath.Join(w.Dir, name))
	if err != nil {
		return false
	}
	defer f.Close()
	tail := make([]byte, min(size, tailBytes))
	_, err = f.ReadAt(tail, size-int64(len(tail)))
	return err == nil && w.Ended(tail)
}

// work loads the files that were taken, including those that an earlier service left.
func (w *Watch) work(ctx context.Context, log *slog.Logger) error {
	arrivals, err := os.ReadDir(filepath.Join(w.Dir, Working)) // by name, which is by time
	if err != nil {
		return err
	}
	var failed []error
	for _, a := range arrivals {
		if !a.IsDir() { // somebody put it here
			continue
		}
		dir := filepath.Join(w.Dir, Working, a.Name())
		files, err := os.ReadDir(dir)
		if err != nil { // the others go on
			failed = append(failed, err)
			continue
		}
		for _, f := range files {
			if err := safely(func() error { return w.load(ctx, a.Name(), f.Name()) }); err != nil {
				if ctx.Err() != nil {
					return ctx.Err() // it stays where it is and is taken up again
				}
				log.Error("file could not be dealt with; it stays", "folder", w.Dir, "arrival", a.Name(), "file", f.Name(),
					"error", err)
			} else {
				log.Info("file loaded", "folder", w.Dir, "file", f.Name())
			}
		}
		if err := os.Remove(dir); err != nil && !errors.Is(err, syscall.ENOTEMPTY) { // one that must wait stays
			failed = append(failed, err)
		}
	}
	return errors.Join(failed...)
}

// safely turns a panic into an error: a file that we make a mistake with must not end the service, nor be tried at each
// look.
func safely(f func() error) (err error) {
	defer func() {
		if r := recover(); r != nil {
			err = fmt.Errorf("panic: %v\n%s", r, debug.Stack())
		}
	}()
	return f()
}

// changed is when a file was last written. A file that is gone comes first.
func changed(e fs.DirEntry) time.Time {
	info, err := e.Info()
	if err != nil {
		return time.Time{}
	}
	return info.ModTime()
}

func unfinished(name string) bool {
	switch strings.ToLower(filepath.Ext(name)) {
	case ".tmp", ".part", ".crdownload", ".partial":
		return true
	}
	return false
}

// load loads one file and moves it, and what is reported about it, to where it belongs. A file that Load refuses
// altogether is moved to the failed files, with a text that says why.
func (w *Watch) load(ctx context.Context, arrival, name string) error {
	path := filepath.Join(w.Dir, Working, arrival, name)
	f, err := os.Open(path)
	if err != nil { // it would be the same at each look: somebody is told why
		to := free(filepath.Join(w.Dir, Failed), name)
		return errors.Join(w.says(to, "%s could not be read:\n%v\n", name, err), os.Rename(path, to))
	}
	defer f.Close()
	before, err := f.Stat()
	if err != nil {
		return err
	}
	once := fmt.Sprintf("folder %s %s", w.Dir, arrival)
	var r Result
	err = safely(func() (err error) {
		r, err = w.Load(ctx, f, name, once)
		return err
	})
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if errors.Is(err, ErrLater) {
		return err
	}
	if after, statErr := os.Stat(path); err == nil && statErr == nil && after.Size() != before.Size() {
		r.Clean = false
		err = fmt.Errorf("it was still being written while load %d read its first %d bytes: undo that load, and put the whole "+
			"file here again", r.Load, before.Size())
	}
	dir := Failed
	if err == nil && r.Clean {
		dir = Done
	}
	to := free(filepath.Join(w.Dir, dir), name)
	ext := filepath.Ext(to)
	beside := strings.TrimSuffix(to, ext)
	switch {
	case err != nil:
		if err := w.says(to, "%s was not loaded:\n%v\n", name, err); err != nil {
			return err
		}
	case r.Mark != nil:
		marked := func(out io.Writer) error { return safely(func() error { return r.Mark(out) }) }
		// the file was loaded all the same
		if err := w.Mode.Write(beside+"-load-"+strconv.FormatInt(r.Load, 10)+r.Ext, marked); err != nil {
			if err := w.says(to, "%s is load %d; its marked-up copy could not be written:\n%v\n", name, r.Load,
				err); err != nil {
				return err
			}
		}
	}
	return os.Rename(path, to)
}

// free returns the name in dir, with a number if it is taken. A name that is too long for additions is shortened.
func free(dir, name string) string {
	ext := filepath.Ext(name)
	if len(ext) > 20 {
		ext = ""
	}
	stem := strings.TrimSuffix(name, ext)
	for len(stem)+len(ext) > mostName {
		_, size := utf8.DecodeLastRuneInString(stem)
		stem = stem[:len(stem)-size]
	}
	to := filepath.Join(dir, stem+ext)
	for n := 2; ; n++ {
		if _, err := os.Lstat(to); err != nil { // nothing is there, or the rename will say what is wrong
			return to
		}
		to = filepath.Join(dir, stem+" ("+strconv.Itoa(n)+")"+ext)
	}
}

// Mode is the permissions of files that are written for others, as in 0640. Whoever may read them may enter their
// folders.
type Mode fs.FileMode

// Usual is the mode if none is set.
const Usual Mode = 0o644

// Private is the mode of files that only the service itself reads.
const Private Mode = 0o600

// Folder makes a folder, if it does not exist, with this mode whatever the process masks.
func (m Mode) Folder(dir string) error {
	if _, err := os.Stat(dir); err == nil {
		return nil
	}
	mode := fs.FileMode(m | m>>2&0o111)
	return errors.Join(os.MkdirAll(dir, mode), os.Chmod(dir, mode))
}

// unnamed are the hidden names under which Write writes. The end is for programs that fetch hidden files, too.
var unnamed = regexp.MustCompile(`^\.koinos-[0-9]+(\.part)?$`)

// unnamedFor is how long such a file is left alone, because somebody may still be writing it.
const unnamedFor = time.Minute

// Sweep removes the hidden files that Write has left in a folder where it was interrupted.
func Sweep(dir string) error {
	entries, err := os.ReadDir(dir)
	if err != nil {
		return err
	}
	var failed error
	for _, e := range entries {
		if !unnamed.MatchString(e.Name()) || time.Since(changed(e)) < unnamedFor {
			continue
		}
		if err := os.Remove(filepath.Join(dir, e.Name())); err != nil && !errors.Is(err, fs.ErrNotExist) {
			failed = errors.Join(failed, err)
		}
	}
	return failed
}

// Write writes a file completely or not at all: first under a hidden name, then under its own.
func (m Mode) Write(name string, write func(io.Writer) error) error {
	tmp, err := os.CreateTemp(filepath.Dir(name), ".koinos-*.part")
	if err != nil {
		return err
	}
	defer os.Remove(tmp.Name())
	defer tmp.Close()
	if err := write(tmp); err != nil {
		return err
	}
	if err := errors.Join(tmp.Sync(), tmp.Chmod(fs.FileMode(m)), tmp.Close()); err != nil {
		return err
	}
	return os.Rename(tmp.Name(), name)
}

// says writes a text beside a file.
func (w *Watch) says(file, format string, args ...any) error {
	return w.Mode.Write(strings.TrimSuffix(file, filepath.Ext(file))+".txt", func(out io.Writer) error {
		_, err := fmt.Fprintf(out, format, args...)
		return err
	})
}
