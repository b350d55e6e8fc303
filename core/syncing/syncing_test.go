package syncing

import (
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"koinos/core/finding"
)

var update = flag.Bool("update", false, "write the published schema anew")

const books = `koinos: sync/1
name: slipway-ledgerline
about: Web orders go into the books
pull:
  - {record: slipway.order, mapping: slipway-orders, every: 1m}
  - {record: slipway.parcel}
push:
  - record: ledgerline.sales_order
    which: partner == "SLIPWAY" and status != "draft"
    lost: create
  - {record: yard.pick, mapping: yard-picks, unfit: cancel, creates: false,
     after: {record: ledgerline.sales_order, path: $.state, is: [confirmed]}}
shared:
  notes: {owner: slipway}
  lines.quantity: {owner: here}
  lines: {owner: ledgerline}
reconcile: {every: 24h, repair: true}
`

func TestParse(t *testing.T) {
	s, err := Parse([]byte(books))
	if err != nil {
		t.Fatal(err)
	}
	got := fmt.Sprint(s.Name, s.Pulls, s.Systems(), s.Names(), s.Reconcile, s.Repair)
	want := "slipway-ledgerline[slipway.order slipway.parcel] [ledgerline slipway yard] " +
		"[slipway.order slipway.parcel ledgerline.sales_order yard.pick] 24h0m0s true"
	if got != want {
		t.Errorf("got  %s\nwant %s", got, want)
	}
	first, second := s.Push("ledgerline.sales_order"), s.Push("yard.pick")
	if first.Which.Text != `partner == "SLIPWAY" and status != "draft"` || first.Lost != LostCreate ||
		first.Unfit != UnfitLeave || !first.Creates || first.After != nil {
		t.Errorf("first push: %+v", first)
	}
	if second.Mapping != "yard-picks" || second.Lost != LostHold || second.Unfit != UnfitCancel || second.Creates ||
		second.After.String() != "ledgerline.sales_order" || second.After.Path.String() != "$.state" ||
		fmt.Sprint(second.After.Is) != "[confirmed]" || s.Push("yard") != nil {
		t.Errorf("second push: %+v %+v", second, second.After)
	}
	if s.Asked {
		t.Error("a sync that says every waits to be asked")
	}
	for text, asked := range map[string]bool{"": true, "runs: always\n": false, "runs: asked\n": true} {
		if s, err := Parse([]byte("koinos: sync/1\nname: s\npush: [{record: a.b}]\n" + text)); err != nil ||
			s.Asked != asked {
			t.Errorf("%q: %+v %v", text, s, err)
		}
	}
	for field, want := range map[string]string{"notes": "slipway", "currency": "person", "lines.quantity": "here",
		"lines.item": "person", "lines.line": "ledgerline"} {
		name, ofLine := strings.CutPrefix(field, "lines.")
		if got := s.Owner(ofLine, name); got != want {
			t.Errorf("the owner of %s is %s, want %s", field, got, want)
		}
	}
	if p := s.Pulls[0]; p.Every != time.Minute || p.Mapping != "slipway-orders" || s.Pulls[1].Every != 0 {
		t.Errorf("pulls: %+v", s.Pulls)
	}
}

func TestMistakes(t *testing.T) {
	const head = "koinos: sync/1\nname: s\n"
	for text, want := range map[string]string{
		head: "2:7 a sync needs something to do: pull, push or both.",
		head + "pull: [{record: slipway}]\n": "3:17 say the system and the kind of record, such as " +
			"slipway.order.",
		head + "pull: [{record: a.b, every: 1}]\n": "3:29 every must be a time of at least a second, such as 30s, 5m " +
			"or 24h.",
		head + "pull: [{record: a.b, every: 10ms}]\n": "3:29 every must be a time of at least a second, such as 30s, " +
			"5m or 24h.",
		head + "pull: [{record: a.b}, {record: a.b}]\n": "3:32 a.b is read by an earlier pull of this sync.",
		head + "runs: asked\npull: [{record: a.b, every: 1m}]\n": "3:7 something says every or hooks, so it cannot wait " +
			"to be asked.",
		head + "push: [{record: a.b}]\nshared: {note: {owner: a}, notes: {owner: c}}\n": `4:10 "note" is not a field of ` +
			`orders.; 4:43 the owner is one of a, here, person.`,
		head + "push: [{record: a.b}, {record: a.b}]\n": "3:32 there is a push a.b already; give this one a name of " +
			"its own.",
		head + "push: [{record: a.b, lost: keep}]\n":   `3:28 lost cannot be "keep".`,
		head + "push: [{record: a.b, when: status}]\n": `3:22 "when" is not a word of each value of push.`,
		head + "push: [{record: a.b, which: stats == 1}]\n": "3:29 The condition cannot be understood: unknown name " +
			"stats.",
		head + "push: [{record: a.b, after: {record: a.b}}]\n": "3:38 it cannot wait for its own record.",
		head + "push: [{record: a.b, after: {record: c.d}}, {record: c.d, after: {record: a.b}}]\n": "3:38 the pushes " +
			"wait for each other: a.b for c.d for a.b.; 3:75 the pushes wait for each other: c.d for a.b for c.d.",
		head + "push: [{record: a.b, after: {record: c.d, is: [x]}}]\n": "3:38 say both path and is, or neither: then " +
			"it waits until the record is there.",
		"koinos: sync/1\nname: Slip\npull: [{record: a.b}]\n": "2:7 name must be of small letters, digits and " +
			"hyphens, at most 64.",
	} {
		_, err := Parse([]byte(text))
		var got []string
		for _, f := range finding.Of(err) {
			got = append(got, fmt.Sprintf("%d:%d %s", f.Place.Row, f.Place.Column, f.Message))
		}
		if strings.Join(got, "; ") != want {
			t.Errorf("%s\n got %s\nwant %s", text, strings.Join(got, "; "), want)
		}
	}
}

// TestPublishedSchema keeps the schema in docs equal to the grammar.
func TestPublishedSchema(t *testing.T) {
	b, err := json.MarshalIndent(Schema(), "", "  ")
	if err != nil {
		t.Fatal(err)
	}
	const name = "../../docs/sync.schema.json"
	if *update {
		if err := os.WriteFile(name, append(b, '\n'), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	kept, err := os.ReadFile(name)
	if err != nil || string(kept) != string(b)+"\n" {
		t.Errorf("docs/sync.schema.json is not what the grammar says; go test ./core/syncing -update writes it: %v", err)
	}
}

func FuzzParse(f *testing.F) {
	f.Add(books)
	f.Fuzz(func(t *testing.T, text string) {
		s, err := Parse([]byte(text))
		if err == nil && len(s.Names()) == 0 {
			t.Errorf("a sync without anything to do: %q", text)
		}
		if err != nil && len(finding.Of(err)) == 0 {
			t.Errorf("an error without findings: %v", err)
		}
	})
}
