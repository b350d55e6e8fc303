package drafting

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"koinos/core/finding"
	"koinos/core/mapping"
	"koinos/core/source"
)

// shape makes a JSON value of any shape, of names that documents of orders have.
func shape(r *rand.Rand, depth int) any {
	names := []string{"orders", "lines", "items", "id", "number", "date", "sku", "qty", "price", "customer", "code",
		"node",
		"edges", "data", "A-1", "A-2", "17", "", "o'clock", "ünit", "a.b", "total", "unit", "$", "@type", "name"}
	scalar := func() any {
		return []any{nil, true, "", " ", "A-17", "2026-03-14", "12,50", "#9", "Hafenstraße 4", 0, 12, -3.5, 1e21,
			json.Number("4006381333931"), "00417", "pcs", "EUR", "\u00a0", strings.Repeat("x", 70)}[r.IntN(19)]
	}
	if depth == 0 {
		return scalar()
	}
	switch r.IntN(8) {
	case 0:
		return scalar()
	case 1, 2, 3:
		all := make([]any, r.IntN(4))
		if r.IntN(3) == 0 || len(all) == 0 { // elements of any kind
			for i := range all {
				all[i] = shape(r, depth-1)
			}
			return all
		}
		one := r.Uint64() // elements of one kind
		for i := range all {
			all[i] = shape(rand.New(rand.NewPCG(one, 1)), depth-1)
		}
		return all
	}
	object := map[string]any{}
	for range r.IntN(6) {
		object[names[r.IntN(len(names))]] = shape(r, depth-1)
	}
	return object
}

// TestDraftOfAnyJSON drafts for JSON of every shape: the draft is a mapping that can be run over
// the document, or what is wrong with the document is said; and it is the same draft each time.
func TestDraftOfAnyJSON(t *testing.T) {
	drafted := 0
	for seed := range uint64(400) {
		r := rand.New(rand.NewPCG(seed, 2026))
		var doc strings.Builder
		for range 1 + int(seed%3)/2*r.IntN(4) { // of every third the lines of NDJSON
			b, err := json.Marshal(shape(r, 1+r.IntN(5)))
			if err != nil {
				t.Fatal(err)
			}
			fmt.Fprintf(&doc, "%s\n", b)
		}
		draft := func() (*Proposal, error) {
			return Draft(strings.NewReader(doc.String()), int64(doc.Len()), Hints{Limits: source.DefaultLimits})
		}
		p, err := draft()
		if err != nil {
			if len(finding.Of(err)) == 0 {
				t.Fatalf("seed %d: %v\n%s", seed, err, doc.String())
			}
			continue
		}
		drafted++
		if again, err := draft(); err != nil || again.Text != p.Text {
			t.Fatalf("seed %d: drafted once more it is %v\n%s\nand not\n%s", seed, err, again.Text, p.Text)
		}
		m, err := mapping.Parse([]byte(p.Text))
		if err != nil {
			t.Fatalf("seed %d: %v\n%s", seed, err, p.Text)
		}
		runOver(m, []byte(doc.String()))
	}
	if drafted < 100 {
		t.Errorf("only %d of the shapes were drafted", drafted)
	}
}
