package syncs

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"koinos/core/syncing"
	"koinos/demo"
)

// picking is an office whose orders go into files of several for a yard that is only a folder.
func picking(t *testing.T, orders int) (k *keeping, dir string) {
	t.Helper()
	k, _, folder := besideYard(t, orders)
	text, err := demo.Files.ReadFile("systems/east-yard.yaml")
	if err == nil {
		_, err = k.Keep(context.Background(), strings.NewReplacer("once: true", "once: true\n        orders: 4",
			"{lines}+{sum", "{records}+{lines}+{sum").
			Replace(string(text)), "test")
	}
	if err != nil {
		t.Fatal(err)
	}
	k.run("shop-books")
	return k, filepath.Join(folder, "to-yard")
}

// picks are the files that are there, by name.
func picks(t *testing.T, dir string) map[string]string {
	t.Helper()
	all := map[string]string{}
	entries, err := os.ReadDir(dir)
	if err != nil {
		t.Fatal(err)
	}
	for _, e := range entries {
		b, err := os.ReadFile(filepath.Join(dir, e.Name()))
		if err != nil {
			t.Fatal(err)
		}
		all[e.Name()] = string(b)
	}
	return all
}

// Several orders stand in one file, each once; its answer is about all of them.
func TestManyInAFile(t *testing.T) {
	k, dir := picking(t, 6)
	k.run("yard")
	files := picks(t, dir)
	var orders []string
	ids := regexp.MustCompile(`^PHD\+([0-9A-F]{12})\+`)
	for name, text := range files {
		in := regexp.MustCompile(`PCK\+(SL-\d+)\+`).FindAllStringSubmatch(text, -1)
		for _, m := range in {
			orders = append(orders, m[1])
		}
		lines := strings.Count(text, "PKL+")
		id := ids.FindStringSubmatch(text)
		if len(id) != 2 || name != "PCK-"+id[1]+".txt" || !strings.Contains(text,
			fmt.Sprintf("PTL+%s+%d+%d+", id[1], len(in), lines)) {
			t.Errorf("%s: %s", name, text)
		}
	}
	slices.Sort(orders)
	if got := strings.Join(orders, " "); got != "SL-1001 SL-1002 SL-1003 SL-1004 SL-1005 SL-1006" || len(files) > 3 {
		t.Fatalf("%s in %d files, held %v", got, len(files), k.held())
	}
	// One file is refused: its orders are held, no other ones.
	from := strings.Replace(dir, "to-yard", "from-yard", 1)
	refused := 0
	for name, text := range files {
		word := "OK"
		if n := strings.Count(text, "PCK+"); refused == 0 && n > 1 {
			word, refused = "ER", n
		}
		answer := fmt.Sprintf("PAK+%s+%s+full'", strings.TrimSuffix(strings.TrimPrefix(name, "PCK-"), ".txt"), word)
		if err := os.WriteFile(filepath.Join(from, "PAK-"+name[4:]), []byte(answer), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	k.run("yard")
	if held := k.held(); len(held) != refused || refused < 2 || !strings.Contains(held[0], ": ER full.") {
		t.Errorf("%d refused, held %v", refused, held)
	}
	list, err := k.heldList()
	if err != nil {
		t.Fatal(err)
	}
	k.retry(list)
	if again := picks(t, dir); len(again) <= len(files) || len(k.held()) != 0 {
		t.Errorf("%v, held %v", again, k.held())
	}
}

// A service that ended between writing a file and naming it names it when it begins again, if
// its records are linked; else they go into another one.
func TestFileWithoutName(t *testing.T) {
	k, dir := picking(t, 2)
	k.run("yard")
	files := picks(t, dir)
	for name := range files { // as it was before it got its name
		if err := os.Rename(filepath.Join(dir, name), filepath.Join(dir, hiddenName(name))); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.WriteFile(filepath.Join(dir, hiddenName("PCK-0123456789AB.txt")), []byte("PHD"), 0o644); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(dir, ".koinos-else.part"), []byte("somebody's"), 0o644); err != nil {
		t.Fatal(err)
	}
	k.setMended(syncing.Target{System: "east-yard", Record: "pick"}, false)
	k.run("yard")
	want := map[string]string{".koinos-else.part": "somebody's"}
	for name, text := range files {
		want[name] = text
	}
	if got := picks(t, dir); fmt.Sprint(got) != fmt.Sprint(want) {
		t.Errorf("got %v\nwant %v", got, want)
	}
}
