package syncs

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"koinos/api"
)

// yardOffice is an office beside a folder in which a warehouse puts files.
type yardOffice struct {
	*office
	dir string
}

func withYard(t *testing.T, change func(string) string) *yardOffice {
	t.Helper()
	y := &yardOffice{begin(t, shopOf(t, 3)), t.TempDir()}
	t.Setenv("YARD_FOLDER", y.dir)
	for name, to := range map[string]func(string) error{
		"east-yard-despatches.yaml": func(text string) error {
			_, err := y.store.PutMapping(t.Context(), api.Mapping{Name: "east-yard-despatches", Text: text})
			return err
		},
		"east-yard.yaml": func(text string) error { _, err := y.Keep(t.Context(), change(text), "test"); return err },
	} {
		folder := "../demo/mappings"
		if name == "east-yard.yaml" {
			folder = "../demo/systems"
		}
		text, err := os.ReadFile(filepath.Join(folder, name))
		if err == nil {
			err = to(string(text))
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	y.pull(api.NewPull{})
	return y
}

func (y *yardOffice) folders() {
	y.t.Helper()
	for _, name := range []string{"from-yard", "to-yard"} {
		if err := os.MkdirAll(filepath.Join(y.dir, name), 0o755); err != nil {
			y.t.Fatal(err)
		}
	}
}

// put puts a file with one despatch into the folder.
func (y *yardOffice) put(name, id, despatch string) {
	y.t.Helper()
	text := fmt.Sprintf("YHD+%s+20260318'DSP+%s+SL-1001+20260318'GDS+1+00649+1'YTL+%[1]s+1+4+1'", id, despatch)
	if err := os.WriteFile(filepath.Join(y.dir, "from-yard", name), []byte(text), 0o644); err != nil {
		y.t.Fatal(err)
	}
}

func (y *yardOffice) despatches() api.Pull {
	y.t.Helper()
	p, err := y.Start(context.Background(), "east-yard", api.NewPull{Record: "despatch"}, "test")
	if err == nil {
		p, err = y.Wait(context.Background(), p.ID)
	}
	if err != nil {
		y.t.Fatal(err)
	}
	return p
}

// there is what is in the folders, by path; of answers what stands in them.
func (y *yardOffice) there() string {
	y.t.Helper()
	var all []string
	err := filepath.WalkDir(y.dir, func(path string, e os.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		rel, _ := filepath.Rel(y.dir, path)
		if strings.HasPrefix(rel, "to-yard") {
			b, err := os.ReadFile(path)
			rel += " " + string(b)
			all = append(all, rel)
			return err
		}
		all = append(all, rel)
		return nil
	})
	if err != nil {
		y.t.Fatal(err)
	}
	return strings.Join(all, "; ")
}

func (y *yardOffice) states() string {
	y.t.Helper()
	list, err := y.store.Files(y.t.Context(), "east-yard", 0, 100)
	if err != nil {
		y.t.Fatal(err)
	}
	var all []string
	for _, f := range list {
		all = append([]string{f.Name + " " + f.State}, all...)
	}
	return strings.Join(all, "; ")
}

// What becomes of a file that was answered: it is moved, left or removed, and answered once
// for each appearance.
func TestFilesAfter(t *testing.T) {
	for after, want := range map[string]string{
		"move":   "from-yard/taken/DSP1.txt; to-yard/ACK-F1.txt YAK+F1+OK+'",
		"leave":  "from-yard/DSP1.txt; to-yard/ACK-F1.txt YAK+F1+OK+'",
		"remove": "to-yard/ACK-F1.txt YAK+F1+OK+'",
	} {
		y := withYard(t, func(s string) string {
			return strings.Replace(s, "path: from-yard", "path: from-yard\n      after: "+after, 1)
		})
		y.folders()
		y.put("DSP1.txt", "F1", "D-1")
		if p := y.despatches(); p.State != api.PullDone || p.Pages != 1 || p.Changed != 1 {
			t.Errorf("%s: %+v", after, p)
		}
		if got := y.there(); got != want {
			t.Errorf("%s leaves %s", after, got)
		}
		if err := os.Remove(filepath.Join(y.dir, "to-yard", "ACK-F1.txt")); err != nil {
			t.Fatal(err)
		}
		if p := y.despatches(); p.Pages != 0 {
			t.Errorf("%s: it is looked at again: %+v", after, p)
		}
		if got := y.there(); strings.Contains(got, "ACK") {
			t.Errorf("%s: it is answered again: %s", after, got)
		}
	}
}

// A folder that is not there is away, and the pull goes on by itself when it is back; where
// an answer cannot be written nothing is taken twice.
func TestFilesAway(t *testing.T) {
	y := withYard(t, func(s string) string { return s })
	p := y.despatches()
	if p.State != api.PullAway || p.Reason != "The folder "+y.dir+
		"/from-yard of east-yard cannot be read: no such file or directory." {
		t.Fatalf("%s %s", p.State, p.Reason)
	}
	if err := os.MkdirAll(filepath.Join(y.dir, "from-yard"), 0o755); err != nil {
		t.Fatal(err)
	}
	y.put("DSP1.txt", "F1", "D-1")
	for end := time.Now().Add(time.Minute); !strings.HasPrefix(p.Reason,
		"The answer"); time.Sleep(10 * time.Millisecond) {
		var err error
		if p, err = y.store.Pull(t.Context(), p.ID); err != nil || time.Now().After(end) {
			t.Fatalf("%s %s %v", p.State, p.Reason, err)
		}
	}
	if want := "The answer ACK-F1.txt cannot be written: no such file or directory."; p.State != api.PullAway ||
		p.Reason != want {
		t.Errorf("%s %s", p.State, p.Reason)
	}
	y.folders()
	for end := time.Now().Add(time.Minute); !p.Ended(); time.Sleep(10 * time.Millisecond) {
		var err error
		if p, err = y.store.Pull(t.Context(), p.ID); err != nil || time.Now().After(end) {
			t.Fatalf("%s %s %v", p.State, p.Reason, err)
		}
	}
	if got, want := y.there(), "from-yard/taken/DSP1.txt; to-yard/ACK-F1.txt YAK+F1+OK+'"; got != want {
		t.Errorf("there is %s", got)
	}
	if got := y.states(); got != "DSP1.txt taken" {
		t.Errorf("files: %s", got)
	}
	o, err := y.store.FindOrder(t.Context(), "SL-1001")
	if err != nil {
		t.Fatal(err)
	}
	stored, err := y.store.Order(t.Context(), o)
	if err != nil || len(stored.Movements) != 1 {
		t.Errorf("%d shipments, %v", len(stored.Movements), err)
	}
}

// Files that cannot be taken are refused with their reason, and do not stop the others.
func TestFilesRefused(t *testing.T) {
	y := withYard(t, func(s string) string {
		return strings.Replace(s, "records:", "limits: {largest: 1}\nrecords:", 1)
	})
	y.folders()
	y.put("DSP1.txt", "F1", "D-1")
	for name, text := range map[string]string{"DSP2.txt": strings.Repeat("x", 1<<20+1), "DSP3.txt": "YHD+F3'\xff'",
		"DSP4.txt": ""} {
		path := filepath.Join(y.dir, "from-yard", name)
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
		old := time.Now().Add(-time.Hour)
		if err := os.Chtimes(path, old, old); err != nil {
			t.Fatal(err)
		}
	}
	p := y.despatches()
	if want := "DSP2.txt is refused: It is larger than 1 MiB (limits.largest). DSP3.txt is refused: It is not text in UTF-8. " +
		"DSP4.txt is refused: Its end is not there."; p.State != api.PullDone || p.Reason != want || p.Refused != 3 ||
		p.Changed != 1 {
		t.Errorf("%+v", p)
	}
	if got := y.states(); got != "DSP1.txt taken; DSP2.txt refused; DSP3.txt refused; DSP4.txt refused" {
		t.Errorf("files: %s", got)
	}
}
