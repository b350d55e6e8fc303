package store

import (
	"errors"
	"testing"

	"koinos/api"
	"koinos/core/list"
	"koinos/core/uses"
)

// TestNames removes and renames, and looks at what must stay: versions for what
// was loaded with them, and everything where the texts have changed meanwhile.
func TestNames(t *testing.T) {
	s := open(t, t.TempDir())
	put := func(name, text string) api.Mapping {
		m, err := s.PutMapping(ctx, api.Mapping{Name: name, Text: text, StoredAt: now, StoredBy: "her"})
		if err != nil {
			t.Fatal(err)
		}
		return m
	}
	texts := func() []uses.Text {
		all, err := s.Texts(ctx)
		if err != nil {
			t.Fatal(err)
		}
		return all
	}
	items := Named{uses.List, "items"}
	for _, code := range []string{"a", "b"} {
		if err := s.PutList(ctx, "items", []list.Entry{{Code: code}}, now); err != nil {
			t.Fatal(err)
		}
	}
	put("m", "lists: items")
	seen := texts()
	put("m", "lists: items, too")
	for _, err := range []error{s.Remove(ctx, items, seen, "me", now),
		s.Rename(ctx, items, "goods", nil, seen, "me", now)} {
		if !errors.Is(err, ErrMoved) {
			t.Errorf("texts that have changed: %v", err)
		}
	}
	if err := s.Rename(ctx, items, "goods", []uses.Text{{Kind: uses.Mapping, Name: "m", Text: "lists: goods"}}, texts(),
		"me",
		now); err != nil {
		t.Fatal(err)
	}
	if m, err := s.Mapping(ctx, "m", 0); err != nil || m.Version != 3 || m.Text != "lists: goods" ||
		m.StoredBy != "me" {
		t.Errorf("%+v %v", m, err)
	}
	set, err := s.Set(ctx)
	if err != nil || set.Lists["items"] != nil || set.Lists["goods"].Entries()[0].Code != "b" {
		t.Errorf("%v %v", set, err)
	}
	for version, want := range map[int]string{1: "a", 2: "b"} { // a load that goes on, and what says why
		then, err := s.SetAt(ctx, map[string]int{"items": version})
		if err != nil || then.Lists["items"] == nil || then.Lists["items"].Entries()[0].Code != want {
			t.Errorf("version %d of a list that was renamed: %v %v", version, then.Lists, err)
		}
	}
	if err := s.PutList(ctx, "items", []list.Entry{{Code: "c"}}, now); err != nil {
		t.Fatal(err)
	}
	if set, err = s.Set(ctx); err != nil || set.Versions["items"] != 4 || len(set.Lists["items"].Entries()) != 1 {
		t.Errorf("a list that came back: %v %v", set.Versions, err)
	}
	if err := s.Rename(ctx, items, "goods", nil, texts(), "me", now); !errors.Is(err, ErrTaken) {
		t.Errorf("a name that is taken: %v", err)
	}

	load := aLoad(t, s) // through the mapping m in version 1, which has not ended
	var busy *ErrBusy
	if err := s.Remove(ctx, Named{uses.Mapping, "m"}, texts(), "me", now); !errors.As(err, &busy) ||
		busy.With[0] != "load 1" || load != 1 {
		t.Errorf("a mapping of a load that has not ended: %v", err)
	}
	for _, step := range [][2]string{{"p", "q"}, {"q", "r"}, {"r", "p"}} {
		put(step[0], "text")
		if err := s.Rename(ctx, Named{uses.Mapping, step[0]}, step[1], []uses.Text{{Kind: uses.Mapping, Name: step[1],
			Text: "text"}}, texts(), "me", now); err != nil {
			t.Fatal(err)
		}
	}
	for _, name := range []string{"p", "q", "r", "never"} {
		want := map[string]string{"never": "never"}[name]
		if want == "" {
			want = "p"
		}
		if is, err := s.Became(ctx, Named{uses.Mapping, name}); err != nil || is != want {
			t.Errorf("%s became %s %v", name, is, err)
		}
	}
	if err := s.Remove(ctx, Named{uses.Mapping, "p"}, texts(), "me", now); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Mapping(ctx, "p", 0); !errors.Is(err, ErrNotFound) {
		t.Errorf("a mapping that was removed: %v", err)
	}
	if m, err := s.Mapping(ctx, "p", 1); err != nil || m.Text != "text" {
		t.Errorf("its first version: %v %v", m, err)
	}
	if m := put("p", "text"); m.Version != 1 {
		t.Errorf("the same text again is version %d", m.Version)
	}
	if m, err := s.Mapping(ctx, "p", 0); err != nil || m.Version != 1 {
		t.Errorf("a mapping that came back: %v %v", m, err)
	}
}

// TestShippedCrosswalks adds to a crosswalk that ships with Koinos, which keeps what it has.
func TestShippedCrosswalks(t *testing.T) {
	s := open(t, t.TempDir())
	const name = "x12-charge-kinds"
	for _, want := range []struct {
		add     []list.Pair
		entries string
		shipped bool
	}{
		{nil, "A=allowance C=charge ", true},
		{[]list.Pair{{Theirs: "N", Ours: "neither"}, {Theirs: "C", Ours: "fee"}}, "A=allowance C=fee N=neither ",
			false},
	} {
		if want.add != nil {
			if err := s.AddEntries(ctx, nil, map[string][]list.Pair{name: want.add}, now); err != nil {
				t.Fatal(err)
			}
		}
		all, err := s.Entries(ctx, name, true, "", 0)
		got := ""
		for _, e := range all {
			got += e.Code + "=" + e.Name + " "
		}
		if err != nil || got != want.entries {
			t.Errorf("%q %v, want %q", got, err, want.entries)
		}
		infos, err := s.Lists(ctx, true)
		if err != nil || len(infos) != len(list.ShippedNames()) {
			t.Errorf("%v %v", infos, err)
		}
		for _, i := range infos {
			if i.Name == name && (i.Shipped != want.shipped || i.Entries != len(all)) {
				t.Errorf("%+v", i)
			}
		}
	}
	if page, err := s.Entries(ctx, "x12-units", true, "PR", 2); err != nil || page[0].Code != "PT" || page[1].Code != "QT" || len(page) != 2 {
		t.Errorf("a page of one that ships: %v %v", page, err)
	}
}
