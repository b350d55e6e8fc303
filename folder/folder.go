package folder

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Watch is one watched folder and what becomes of its files.
type Watch struct {
	Dir string
	// Load loads a file and waits for its end. Name is the file's, and once a
	// name for the work that is the same when the same file is taken up again
	// after a crash. Clean reports whether every order went in. Mark, where it is
	// not nil, writes the marked-up copy; ext is the copy's ending. An error is
	// what kept the file from being loaded at all.
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
)

// seen is a file as it was when it was looked at last.
type seen struct {
	size int64
	at   time.Time
	kept int // how often it was the same
}

// quiet is how often in turn a file must look the same before it is read: who
// writes it has then been still for as many looks.
const quiet = 2

// Run looks into the folder every so often until ctx ends. Files whose names
// begin with a dot, and those that end in .tmp or .part, are still being
// written by somebody and are left alone.
func (w *Watch) Run(ctx context.Context, every time.Duration, log *slog.Logger) error {
	for _, dir := range []string{w.Dir, filepath.Join(w.Dir, Done), filepath.Join(w.Dir, Failed)} {
		if err := os.MkdirAll(dir, 0o755); err != nil {
			return fmt.Errorf("watched folder: %w", err)
		}
	}
	files := map[string]seen{}
	tick := time.NewTicker(every)
	defer tick.Stop()
	for {
		if err := w.look(ctx, files, log); err != nil && ctx.Err() == nil {
			log.Error("watched folder cannot be read", "folder", w.Dir, "error", err)
		}
		select {
		case <-ctx.Done():
			return nil
		case <-tick.C:
		}
	}
}

// look takes in the files that have come to rest.
func (w *Watch) look(ctx context.Context, files map[string]seen, log *slog.Logger) error {
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
		if now.kept < quiet || now.size == 0 && now.kept < 10*quiet {
			continue
		}
		delete(files, name)
		if err := safely(func() error { return w.take(ctx, name, info) }); err != nil {
			if ctx.Err() != nil {
				return ctx.Err() // it stays where it is and is taken up again
			}
			log.Error("file could not be dealt with; it stays", "folder", w.Dir, "file", name, "error", err)
		} else {
			log.Info("file loaded", "folder", w.Dir, "file", name)
		}
	}
	for name := range files {
		if !here[name] {
			delete(files, name)
		}
	}
	return nil
}

// safely turns a panic into an error: one file that we make a mistake with must
// not end the service, nor come up again at each look.
func safely(f func() error) (err error) {
	defer func() {
		if r := recover(); r != nil {
			err = fmt.Errorf("panic: %v\n%s", r, debug.Stack())
		}
	}()
	return f()
}

// changed is when a file was written last; one that is gone comes first.
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

// take loads one file and moves it, and what is said about it, to where it
// belongs. What Load refuses altogether goes to the failed ones with a text
// that says why.
func (w *Watch) take(ctx context.Context, name string, info fs.FileInfo) error {
	path := filepath.Join(w.Dir, name)
	f, err := os.Open(path)
	if err != nil && !errors.Is(err, fs.ErrNotExist) { // it would be the same at each look: somebody is told why
		to := free(filepath.Join(w.Dir, Failed), name)
		return errors.Join(w.says(to, "%s could not be read:\n%v\n", name, err), os.Rename(path, to))
	}
	if err != nil {
		return err
	}
	defer f.Close()
	sum := sha256.New()
	if _, err := io.Copy(sum, f); err != nil {
		return err
	}
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return err
	}
	// The same bytes put here again later are another piece of work: the time
	// that the file bears tells the two apart.
	once := fmt.Sprintf("folder %s %s %s %d", w.Dir, name, hex.EncodeToString(sum.Sum(nil)), info.ModTime().UnixNano())
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
		if err := WriteWhole(beside+"-load-"+strconv.FormatInt(r.Load, 10)+r.Ext, marked); err != nil {
			if err := w.says(to, "%s is load %d; its marked-up copy could not be written:\n%v\n", name, r.Load, err); err != nil {
				return err
			}
		}
	}
	return os.Rename(path, to)
}

// free gives the name in dir, with a number where it is taken.
func free(dir, name string) string {
	to := filepath.Join(dir, name)
	ext := filepath.Ext(name)
	for n := 2; ; n++ {
		if _, err := os.Lstat(to); errors.Is(err, fs.ErrNotExist) {
			return to
		}
		to = filepath.Join(dir, strings.TrimSuffix(name, ext)+" ("+strconv.Itoa(n)+")"+ext)
	}
}

// WriteWhole writes a file whole or not at all: under a name that nobody takes
// up, and then under its own.
func WriteWhole(name string, write func(io.Writer) error) error {
	tmp, err := os.CreateTemp(filepath.Dir(name), ".koinos-*")
	if err != nil {
		return err
	}
	defer os.Remove(tmp.Name())
	defer tmp.Close()
	if err := write(tmp); err != nil {
		return err
	}
	if err := errors.Join(tmp.Chmod(0o644), tmp.Close()); err != nil {
		return err
	}
	return os.Rename(tmp.Name(), name)
}

// says writes a text beside a file.
func (w *Watch) says(file, format string, args ...any) error {
	return WriteWhole(strings.TrimSuffix(file, filepath.Ext(file))+".txt", func(out io.Writer) error {
		_, err := fmt.Fprintf(out, format, args...)
		return err
	})
}
