package uses

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

const text = `koinos: mapping/1
name: yards # items
about: items of the yard
orders: {kind: sales, group: {by: key, columns: Nr}}
header:
  sender_number: {from: Nr}
  partner:       {value: OSTRAND, list: items}
  ship_to.code:  {expr: 'walk("yards", text("Hof")) + look("items", "a", "name")'}
lines:
  item: {from: Stück, list: items, crosswalk: "yards"}
  unit: {from: items, crosswalk: yards}
  quantity:
    from: Menge
    when: "look(\"items\", \"a\", \"name\") != ''"
  description: {from: "list: items"}
`

func names(all []Use) string {
	var s []string
	for _, u := range all {
		s = append(s, fmt.Sprintf("%s %s %d:%d", u.Kind, u.Name, u.At.Row, u.At.Column))
	}
	slices.Sort(s)
	return strings.Join(s, "; ")
}

// TestOf finds what texts name, and nothing that only looks so.
func TestOf(t *testing.T) {
	for _, c := range []struct {
		kind       Kind
		text, want string
	}{
		{Mapping, text, "crosswalk yards 10:47; crosswalk yards 11:34; crosswalk yards 8:32; " +
			"list items 10:29; list items 14:19; list items 7:41; list items 8:61"},
		{Sequence, "koinos: sequence/1\nname: s\nsteps:\n  - {step: a, mapping: one}\n  - {step: b, mapping: two}\n",
			"mapping one 4:24; mapping two 5:24"},
		{Sync, "koinos: sync/1\nname: s\npull:\n  - {record: a, mapping: one, also: [two, three]}\npush:\n  - {mapping: &m one}\n" +
			"  - {mapping: *m}\n",
			"mapping one 4:26; mapping one 6:18; mapping one 6:18; mapping three 4:43; mapping two 4:38"},
		{Partner, "koinos: partner/1\nname: PELLOW\nkind: customer\nthem: {qualifier: ZZ, id: PELLOW}\n" +
			"us: {qualifier: ZZ, id: QUILLMERE}\nversion: \"004010\"\nsets:\n  \"850\": {}\n  \"855\": {mapping: ours}\n",
			"mapping ours 9:20; mapping pellow-850 0:0"},
	} {
		all, err := Of(Text{Kind: c.kind, Name: "t", Text: c.text})
		if got := names(all); err != nil || got != c.want {
			t.Errorf("%s %v:\n%s\nwanted\n%s", c.kind, err, got, c.want)
		}
	}
	if _, err := Of(Text{Kind: Mapping, Text: "{"}); err == nil {
		t.Error("a text that is no YAML is read")
	}
}

// TestRenamed renames in every place and nowhere else, and says what it cannot do.
func TestRenamed(t *testing.T) {
	for _, c := range []struct {
		kind     Kind
		from, to string
		was, is  []string // by line
		text     string
		in       Kind
		err      string
	}{
		{List, "items", "goods", []string{"OSTRAND, list: items", `look("items"`, "list: items,", `look(\"items\"`},
			[]string{"OSTRAND, list: goods", `look("goods"`, "list: goods,", `look(\"goods\"`}, text, Mapping, ""},
		{Crosswalk, "yards", "long-yard-names", []string{`walk("yards"`, `crosswalk: "yards"`, "crosswalk: yards"},
			[]string{`walk("long-yard-names"`, `crosswalk: "long-yard-names"`, "crosswalk: long-yard-names"}, text, Mapping, ""},
		{Crosswalk, "items", "goods", nil, nil, text, Mapping, ""},
		{Mapping, "one", "uno", []string{"&m one"}, []string{"&m uno"},
			"koinos: sync/1\npush:\n  - {mapping: &m one}\n  - {mapping: *m}\n", Sync, ""},
		{Mapping, "pellow-850", "new", nil, nil, "koinos: partner/1\nname: PELLOW\nkind: customer\n" +
			"them: {qualifier: ZZ, id: PELLOW}\nus: {qualifier: ZZ, id: QUILLMERE}\nversion: \"004010\"\nsets:\n  \"850\": {}\n",
			Partner, "the partner t uses it without naming it; write mapping: pellow-850 there first"},
	} {
		want := c.text
		for i := range c.was {
			if !strings.Contains(want, c.was[i]) {
				t.Fatalf("no %q", c.was[i])
			}
			want = strings.ReplaceAll(want, c.was[i], c.is[i])
		}
		got, changed, err := Renamed(Text{Kind: c.in, Name: "t", Text: c.text}, c.kind, c.from, c.to)
		if c.err != "" {
			if err == nil || err.Error() != c.err {
				t.Errorf("%s %s: %v", c.kind, c.from, err)
			}
			continue
		}
		if err != nil || changed != (len(c.was) > 0) || got != want {
			t.Errorf("%s %s %v:\n%s", c.kind, c.from, err, got)
		}
	}
	got, err := Called(Text{Kind: Mapping, Name: "yards", Text: text}, "courts")
	if want := strings.Replace(text, "name: yards", "name: courts", 1); err != nil || got != want {
		t.Errorf("%v:\n%s", err, got)
	}
}

// TestDemo renames everything that the demo's texts name, there and back.
func TestDemo(t *testing.T) {
	renamed := 0
	for kind, pattern := range map[Kind]string{Mapping: "mappings", Sequence: "sequences", Partner: "partners",
		System: "systems", Sync: "syncs"} {
		files, err := filepath.Glob(filepath.Join("..", "..", "demo", pattern, "*.yaml"))
		if err != nil || len(files) == 0 {
			t.Fatal(pattern, err)
		}
		for _, name := range files {
			b, err := os.ReadFile(name)
			if err != nil {
				t.Fatal(err)
			}
			was := Text{Kind: kind, Name: filepath.Base(name), Text: string(b)}
			all, err := Of(was)
			if err != nil {
				t.Error(err)
			}
			for _, u := range all {
				if u.At.Row == 0 {
					continue
				}
				other, changed, err := Renamed(was, u.Kind, u.Name, "other-name")
				if err != nil || !changed {
					t.Errorf("%s: %s %s: %v", name, u.Kind, u.Name, err)
				}
				back, _, err := Renamed(Text{Kind: kind, Name: was.Name, Text: other}, u.Kind, "other-name", u.Name)
				if err != nil || back != was.Text {
					t.Errorf("%s: %s %s does not come back: %v", name, u.Kind, u.Name, err)
				}
				renamed++
			}
		}
	}
	if renamed < 30 {
		t.Errorf("only %d names were renamed", renamed)
	}
}
