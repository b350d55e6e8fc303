package draft

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"koinos/core/finding"
	"koinos/core/partner"
	"koinos/core/x12"
)

// samples of Bracken Stores, made by a script of another language: twelve orders in four interchanges, with habits that
// hold always, mostly and now and then.
func samples(t testing.TB) (docs [][]byte) {
	t.Helper()
	files, err := filepath.Glob("testdata/bracken-*.edi")
	if err != nil || len(files) != 4 {
		t.Fatal(files, err)
	}
	for _, name := range files {
		b, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		docs = append(docs, b)
	}
	return docs
}

func readers(docs [][]byte) (all []io.Reader) {
	for _, b := range docs {
		all = append(all, bytes.NewReader(b))
	}
	return all
}

// A partner is drafted with the evidence of each line; it can be kept as it is, and its samples keep its rules.
func TestDraft(t *testing.T) {
	docs := samples(t)
	d, err := From(Hints{Name: "BRACKEN", Us: "QUILLMERE"}, readers(docs)...)
	if err != nil {
		t.Fatal(err)
	}
	want, err := os.ReadFile("testdata/bracken.yaml")
	if err != nil || d.Text != string(want) {
		t.Errorf("%v\n got:\n%s\nwant:\n%s", err, d.Text, want)
	}
	for n, doc := range docs {
		if err := x12.Read(bytes.NewReader(doc),
			x12.Handler{Checked: func(s *x12.Set, placed []x12.Placed, found []x12.Finding) error {
				for _, f := range d.Partner.CheckSet(s, placed) {
					t.Errorf("sample %d breaks the rule that was drafted from it: %s", n, f.Message)
				}
				return nil
			}}); err != nil {
			t.Fatal(err)
		}
	}
	if d.Interchanges != 4 || d.Sets["850"] != 12 || d.Partner.Kind != partner.Customer {
		t.Errorf("%d interchanges, %v, %s", d.Interchanges, d.Sets, d.Partner.Kind)
	}
}

// What we send ourselves is told from what they send by our id; samples of others are named; without sets there is no
// draft.
func TestDraftSides(t *testing.T) {
	docs := samples(t)
	turned := bytes.ReplaceAll(docs[0], []byte("12|5551870        |ZZ|QUILLMERE      "),
		[]byte("ZZ|QUILLMERE      |12|5551870        "))
	stranger := bytes.ReplaceAll(docs[1], []byte("5551870        "), []byte("777            "))
	for _, c := range []struct {
		name  string
		us    string
		docs  [][]byte
		lines []string
	}{
		{"they order from us", "QUILLMERE", docs[:1], []string{"kind: customer ", `them: {qualifier: "12", id: "5551870"}` +
			"\n"}},
		{"we order from them", "QUILLMERE", [][]byte{turned},
			[]string{"kind: supplier ", `us: {qualifier: "ZZ", id: "QUILLMERE", group: "5551870"}`}},
		{"nobody says who is who", "", docs[:1], []string{"kind: customer ", "say --us with your own id"}},
		{"samples of others", "QUILLMERE", [][]byte{docs[0], docs[2], stranger},
			[]string{"some samples are of others (12:777)"}},
	} {
		d, err := From(Hints{Us: c.us}, readers(c.docs)...)
		if err != nil {
			t.Fatal(c.name, err)
		}
		for _, line := range c.lines {
			if !strings.Contains(d.Text, line) {
				t.Errorf("%s: no %q in\n%s", c.name, line, d.Text)
			}
		}
	}
	var none *finding.Finding
	if d, err := From(Hints{}, strings.NewReader("Order,Item\n1,2\n")); d != nil || !errors.As(err, &none) ||
		none.Code != finding.DocumentEmpty {
		t.Errorf("%+v %v", d, err)
	}
}

// Whatever samples hold, a draft is a partner that can be kept, or the error says what is wrong.
func FuzzDraft(f *testing.F) {
	for _, b := range samples(f) {
		f.Add(b)
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		if len(b) > 20_000 {
			return
		}
		d, err := From(Hints{}, bytes.NewReader(b))
		if err != nil && len(finding.Of(err)) == 0 {
			t.Fatal(err)
		}
		if d == nil {
			return
		}
		p, err := partner.Parse([]byte(d.Text))
		if err != nil {
			for _, found := range finding.Of(err) {
				if strings.Contains(found.Message, "YAML") {
					t.Fatalf("%v\n%s", err, d.Text)
				}
			}
			return // ids that no partner can have
		}
		if fmt.Sprint(p.Kind) == "" {
			t.Fatal(d.Text)
		}
	})
}
