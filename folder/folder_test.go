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
	w := &Watch{Dir: dir, Load: func(_ context.Context, f *os.File, name, once string) (Result, error) {
		b, err := io.ReadAll(f)
		if err != nil || string(b) != name || !strings.HasPrefix(once, "folder "+dir+" "+name+" ") {
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
		if err := WriteWhole(name, c.write); !errors.Is(err, c.err) {
			t.Errorf("%v, want %v", err, c.err)
		}
		if b, err := os.ReadFile(name); err != nil || string(b) != c.text {
			t.Errorf("%q, want %q (%v)", b, c.text, err)
		}
		if left, err := os.ReadDir(dir); err != nil || len(left) != 1 {
			t.Errorf("%d files, %v", len(left), err)
		}
	}
}
