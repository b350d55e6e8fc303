package folder

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"
)

// Every file ends where it belongs, with what is said about it beside it: one
// that goes in, one of which an order does not, one that cannot be read, one that
// we make a mistake with, one whose copy cannot be written, one of a taken name,
// one that must wait. What is still being written is left alone.
func TestWatch(t *testing.T) {
	dir := t.TempDir()
	for _, name := range []string{"done", "failed"} {
		if err := os.MkdirAll(filepath.Join(dir, name), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	put := func(name, text string) {
		t.Helper()
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	put("done/taken.csv", "an older one")
	names := []string{"good.csv", "bad.csv", "unread.csv", "mistake.csv", "unmarked.csv", "taken.csv", "later.csv",
		"half.part", ".hidden", "~$open.xlsx"}
	for _, name := range names {
		put(name, name)
	}
	asked, later := map[string]int{}, 0
	w := &Watch{Dir: dir, Mode: 0o640, Load: func(_ context.Context, f *os.File, name, once string) (Result, error) {
		b, err := io.ReadAll(f)
		if err != nil || string(b) != name || !strings.HasPrefix(once, "folder "+dir+" 20") {
			t.Errorf("%s holds %q, is called %q: %v", name, b, once, err)
		}
		asked[name]++
		mark := func(w io.Writer) error { _, err := fmt.Fprint(w, "marked"); return err }
		switch name {
		case "bad.csv":
			return Result{Load: 7, Mark: mark, Ext: ".csv"}, nil
		case "unread.csv":
			return Result{}, errors.New("it is a photograph")
		case "mistake.csv":
			panic("a mistake of ours")
		case "unmarked.csv":
			return Result{Load: 8, Mark: func(io.Writer) error { panic("a mistake while marking") }, Ext: ".csv"}, nil
		case "later.csv":
			if later++; later < 3 {
				return Result{}, fmt.Errorf("the disk is full: %w", ErrLater)
			}
		}
		return Result{Clean: true, Load: 9, Mark: mark, Ext: ".csv"}, nil
	}}
	ctx, stop := context.WithTimeout(context.Background(), time.Minute)
	ended := make(chan error)
	go func() { ended <- w.Run(ctx, 2*time.Millisecond, slog.New(slog.NewTextHandler(io.Discard, nil))) }()
	there := func() (all []string) {
		for _, pattern := range []string{"*", "done/*", "failed/*"} {
			found, err := filepath.Glob(filepath.Join(dir, pattern))
			if err != nil {
				t.Fatal(err)
			}
			for _, name := range found {
				if info, err := os.Stat(name); err == nil && info.Mode().IsRegular() {
					name, _ = filepath.Rel(dir, name)
					all = append(all, name)
				}
			}
		}
		slices.Sort(all)
		return all
	}
	want := []string{".hidden", "done/good-load-9.csv", "done/good.csv", "done/later-load-9.csv", "done/later.csv",
		"done/taken (2)-load-9.csv", "done/taken (2).csv", "done/taken.csv",
		"failed/bad-load-7.csv", "failed/bad.csv", "failed/mistake.csv", "failed/mistake.txt", "failed/unmarked.csv",
		"failed/unmarked.txt", "failed/unread.csv", "failed/unread.txt", "half.part", "~$open.xlsx"}
	for !slices.Equal(there(), want) && ctx.Err() == nil {
		time.Sleep(5 * time.Millisecond)
	}
	stop()
	if err := <-ended; err != nil {
		t.Error(err)
	}
	if have := there(); !slices.Equal(have, want) {
		t.Errorf("there are\n%q, want\n%q", have, want)
	}
	for name, text := range map[string]string{"failed/unread.txt": "unread.csv was not loaded:\nit is a photograph\n",
		"done/taken.csv": "an older one"} {
		if b, err := os.ReadFile(filepath.Join(dir, name)); err != nil || string(b) != text {
			t.Errorf("%s says %q, %v", name, b, err)
		}
	}
	for name, n := range asked {
		if times := map[string]int{"later.csv": 3}[name]; n != max(times, 1) {
			t.Errorf("%s was loaded %d times", name, n)
		}
	}
}

// Each arrival is a file of its own, whatever is put here while it is loaded, comes back with its old
// time, or was left by a service that was killed; a name of any length has its place.
func TestArrivals(t *testing.T) {
	dir := t.TempDir()
	put := func(name, text string) {
		t.Helper()
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		if err := os.Chtimes(filepath.Join(dir, name), time.Time{}, time.Unix(1_700_000_000, 0)); err != nil {
			t.Fatal(err)
		}
	}
	long := strings.Repeat("ü", 125) + ".csv" // 254 bytes
	put("a.csv", "one")
	put(long, "long")
	if err := os.MkdirAll(filepath.Join(dir, Working, "20260101-left"), 0o755); err != nil {
		t.Fatal(err)
	}
	put(filepath.Join(Working, "20260101-left", "left.csv"), "left")
	put(filepath.Join(Working, "stray.csv"), "nobody's arrival")
	type arrival struct{ name, text string }
	var mu sync.Mutex
	var came []arrival
	names := map[string]bool{}
	w := &Watch{Dir: dir, Mode: 0o640, Load: func(_ context.Context, f *os.File, name, once string) (Result, error) {
		b, err := io.ReadAll(f)
		mu.Lock()
		defer mu.Unlock()
		if names[once] || err != nil {
			t.Errorf("%s: the same arrival twice, or %v", name, err)
		}
		names[once] = true
		came = append(came, arrival{name, string(b)})
		switch string(b) {
		case "one":
			if !slices.Contains(came[:len(came)-1], arrival{"a.csv", "one"}) {
				put("a.csv", "two") // replaced while it is loaded
			}
		case "grows":
			file, err := os.OpenFile(f.Name(), os.O_APPEND|os.O_WRONLY, 0)
			if err == nil {
				_, err = file.WriteString(" on")
				file.Close()
			}
			if err != nil {
				t.Error(err)
			}
		}
		return Result{Clean: true, Load: 3}, nil
	}}
	ctx, stop := context.WithTimeout(context.Background(), time.Minute)
	done := make(chan error)
	go func() { done <- w.Run(ctx, 2*time.Millisecond, slog.New(slog.NewTextHandler(io.Discard, nil))) }()
	until := func(what string, ok func() bool) {
		t.Helper()
		for !ok() {
			if ctx.Err() != nil {
				t.Fatalf("%s: not seen", what)
			}
			time.Sleep(2 * time.Millisecond)
		}
	}
	exists := func(name string) func() bool {
		return func() bool { _, err := os.Stat(filepath.Join(dir, name)); return err == nil }
	}
	until("the replaced file", exists("done/a (2).csv"))
	if err := os.Rename(filepath.Join(dir, "done/a.csv"), filepath.Join(dir, "a.csv")); err != nil { // with its old time
		t.Fatal(err)
	}
	until("the file that came back", exists("done/a.csv"))
	put("grows.csv", "grows")
	until("the file that grew", exists("failed/grows.txt"))
	until("the long name", exists("done/"+strings.Repeat("ü", 108)+".csv"))
	until("nothing more to do", func() bool {
		left, err := os.ReadDir(filepath.Join(dir, Working))
		return err == nil && len(left) == 1 && left[0].Name() == "stray.csv"
	})
	stop()
	if err := <-done; err != nil {
		t.Error(err)
	}
	slices.SortFunc(came, func(a, b arrival) int { return strings.Compare(a.text, b.text) })
	want := []arrival{{"grows.csv", "grows"}, {"left.csv", "left"}, {long, "long"}, {"a.csv", "one"}, {"a.csv", "one"},
		{"a.csv", "two"}}
	if !slices.Equal(came, want) {
		t.Errorf("there came %q, wanted %q", came, want)
	}
	if b, err := os.ReadFile(filepath.Join(dir, "failed/grows.txt")); err != nil || !strings.Contains(string(b),
		"it was still being written while load 3 read its first 5 bytes") {
		t.Errorf("%q %v", b, err)
	}
}

// A file that ends is taken at once, and one that does not after its quiet time.
func TestEnded(t *testing.T) {
	dir := t.TempDir()
	for _, name := range []string{"whole", "half"} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(name), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	w := &Watch{Dir: dir, Mode: 0o640, Quiet: 5 * time.Second,
		Ended: func(tail []byte) bool { return string(tail) == "whole" }}
	files := map[string]seen{}
	if err := os.Mkdir(filepath.Join(dir, Working), 0o755); err != nil {
		t.Fatal(err)
	}
	for look, want := range []int{2, 2, 1, 1, 1, 0} {
		if err := w.take(files, 5); err != nil {
			t.Fatal(err)
		}
		left, err := filepath.Glob(filepath.Join(dir, "*l*"))
		if err != nil || len(left) != want {
			t.Errorf("look %d leaves %q %v, wanted %d", look+1, left, err, want)
		}
	}
}

// A file is written whole or not at all, whatever happens while it is written.
func TestWriteWhole(t *testing.T) {
	dir := t.TempDir()
	name := filepath.Join(dir, "a.csv")
	broken := errors.New("broken")
	for _, c := range []struct {
		write func(io.Writer) error
		err   error
		text  string
	}{
		{func(w io.Writer) error { _, err := io.WriteString(w, "one"); return err }, nil, "one"},
		{func(w io.Writer) error { _, _ = io.WriteString(w, "half"); return broken }, broken, "one"},
		{func(w io.Writer) error { _, err := io.WriteString(w, "two"); return err }, nil, "two"},
	} {
		if err := Mode(0o660).Write(name, c.write); !errors.Is(err, c.err) {
			t.Errorf("%v, want %v", err, c.err)
		}
		if b, err := os.ReadFile(name); err != nil || string(b) != c.text {
			t.Errorf("%q, want %q (%v)", b, c.text, err)
		}
		if info, err := os.Stat(name); err != nil || info.Mode() != 0o660 {
			t.Errorf("its mode is %s, %v", info.Mode(), err)
		}
		if left, err := os.ReadDir(dir); err != nil || len(left) != 1 {
			t.Errorf("%d files, %v", len(left), err)
		}
	}
}

// Folders can be entered by whoever may read the files in them, whatever the process masks; one that is there stays.
func TestModeOfFolders(t *testing.T) {
	there := t.TempDir()
	if err := os.Chmod(there, 0o700); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		mode Mode
		dir  string
		want os.FileMode
	}{{0o640, filepath.Join(there, "a"), 0o750}, {0o660, filepath.Join(there, "b"), 0o770},
		{0o600, filepath.Join(there, "c"), 0o700},
		{Usual, filepath.Join(there, "d"), 0o755}, {0o660, there, 0o700}} {
		if err := c.mode.Folder(c.dir); err != nil {
			t.Fatal(err)
		}
		if info, err := os.Stat(c.dir); err != nil || info.Mode().Perm() != c.want {
			t.Errorf("a folder of %o is %s, %v", c.mode, info.Mode(), err)
		}
	}
}

// What an interrupted write has left is swept away, but for what somebody may be writing still.
func TestSweep(t *testing.T) {
	dir := t.TempDir()
	old := time.Now().Add(-2 * time.Minute)
	for name, at := range map[string]time.Time{".koinos-123.part": old, ".koinos-456": old, ".koinos-789.part": time.Now(),
		".koinos-leaving-1-a.edi.part": old, ".koinos-a.part": old, "a.edi": old, "koinos-1.part": old} {
		path := filepath.Join(dir, name)
		if err := errors.Join(os.WriteFile(path, []byte("x"), 0o600), os.Chtimes(path, at, at)); err != nil {
			t.Fatal(err)
		}
	}
	if err := Sweep(dir); err != nil {
		t.Fatal(err)
	}
	entries, err := os.ReadDir(dir)
	var left []string
	for _, e := range entries {
		left = append(left, e.Name())
	}
	want := []string{".koinos-789.part", ".koinos-a.part", ".koinos-leaving-1-a.edi.part", "a.edi", "koinos-1.part"}
	if err != nil || !slices.Equal(left, want) {
		t.Errorf("%q %v, want %q", left, err, want)
	}
}
