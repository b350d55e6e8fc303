package load

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"koinos/core/outcome"
	"koinos/core/source"
	"koinos/store"
)

// What was kept for a time only goes, is said to be gone by whatever would have read it, and comes back with the
// same file; what explains an order that is still open stays.
func TestTakenAway(t *testing.T) {
	ctx, dir := context.Background(), t.TempDir()
	s := testStoreIn(t, dir)
	e := testEngine(t, s, source.DefaultLimits)
	text := strings.Replace(plainMapping, "  kind: sales\n", "  kind: sales\n  again: {do: update}\n", 1)
	const sealed = "B-1,2026-03-02,00417,2,9.50\nB-1,,99999,1,1\n"
	both := send(t, e, text, []byte(head+"A-1,2026-03-02,00417,2,9.50\nA-2,2026-03-02,00417,2,9.50\n"), Request{})
	change := send(t, e, text, []byte(head+"A-1,2026-03-02,00417,3,9.50\nA-2,2026-03-02,00417,3,9.50\n"), Request{})
	alone := send(t, e, text, []byte(head+"B-1,2026-03-02,00417,2,9.50\n"), Request{})
	failed := send(t, e, text, []byte(head+sealed), Request{})
	dry := send(t, e, text, []byte(head+"C-1,2026-03-02,00417,2,9.50\n"), Request{Options: outcome.Options{DryRun: true}})
	var ids []int64
	if err := s.Write(ctx, func(tx *store.Tx) error { // 1 is A-1, 2 is A-2, 3 is B-1
		return tx.SelectContext(ctx, &ids, `UPDATE orders SET status = 'complete' WHERE id IN (1, 3) RETURNING id`)
	}); err != nil || len(ids) != 2 || both.Loaded != 2 || change.Changed != 2 || alone.Loaded != 1 ||
		failed.Refused != 1 {
		t.Fatal(ids, err, both.Counts, change.Counts, alone.Counts, failed.Counts)
	}
	keep, err := store.Retained([]string{"documents=450"})
	if err != nil {
		t.Fatal(err)
	}
	now := time.Now().AddDate(0, 0, 500)
	on := " taken away on " + now.UTC().Format(time.DateOnly)
	for range 2 { // the second finds nothing more to do
		if err := s.Forget(ctx, keep, now); err != nil {
			t.Fatal(err)
		}
	}
	document := func(l outcome.Load) string {
		_, err := s.OpenFile(l.Document)
		_, onDisk := os.Stat(store.DocumentPath(dir, l.Document))
		return fmt.Sprint(err, ", on the disk ", onDisk == nil)
	}
	kept := func(l outcome.Load) string {
		_, err := e.Kept(ctx, l.ID)
		list, _, outcomes := s.Outcomes(ctx, l.ID, store.OutcomeFilter{Limit: 10})
		found, findings := s.Findings(ctx, l.ID, store.FindingFilter{Limit: 10})
		return fmt.Sprint(err, ", ", len(list), " outcomes, ", len(found), " findings ", errors.Join(outcomes, findings))
	}
	gone := func(l outcome.Load) string { return fmt.Sprintf("findings and rows of load %d were%s", l.ID, on) }
	asOf := func(id int64) string {
		o, err := s.AsOf(ctx, id, 1)
		if err != nil {
			return err.Error()
		}
		return o.Lines[0].Quantity.Plain()
	}
	why := func(id int64) string {
		w, err := e.Why(ctx, id, 1, "quantity")
		if err != nil {
			return err.Error()
		}
		return fmt.Sprint(w.Value, " at ", w.At, ", ", len(w.Steps), " steps; ", w.Gone)
	}
	_, undone := e.Undo(ctx, change.ID, false, "test")
	_, retried := e.Retry(ctx, failed.ID, nil, "test", "")
	_, acts := e.Acts(ctx, failed.ID)
	_, dryGone := s.Load(ctx, dry.ID)
	for _, c := range [][3]string{
		{"a document of an order that is open", document(both), "<nil>, on the disk true"},
		{"a document of settled orders", document(alone),
			"the bytes of document " + alone.Document[:12] + " were" + on + ", on the disk false"},
		{"rows of an order that is open", kept(both), gone(both) + ", 1 outcomes, 0 findings <nil>"},
		{"rows of settled orders", kept(alone), gone(alone) + ", 0 outcomes, 0 findings <nil>"},
		{"rows that were refused", kept(failed), gone(failed) + ", 0 outcomes, 0 findings <nil>"},
		{"undo", fmt.Sprint(undone), gone(change)}, {"retry", fmt.Sprint(retried), gone(failed)},
		{"acts", fmt.Sprint(acts), gone(failed)},
		{"a dry run", fmt.Sprint(dryGone), fmt.Sprintf("load %d: not found", dry.ID)},
		{"what a settled order was", asOf(1), "what order 1 was at revision 1 was taken away"},
		{"what an open order was", asOf(2), "2"},
		{"why of an open order", why(2), "3 at row 3 column 4, 2 steps; "},
		{"why of a settled order", why(3), "2 at row 2 column 4, 0 steps; The bytes of document " + alone.Document[:12] +
			" were" + on + "."},
	} {
		if c[1] != c[2] {
			t.Errorf("%s: %s\nnot %s", c[0], c[1], c[2])
		}
	}
	again := send(t, e, text, []byte(head+"B-1,2026-03-02,00417,2,9.50\n"), Request{})
	if again.Unchanged != 1 || document(again) != "<nil>, on the disk true" {
		t.Errorf("sent again: %+v, %s", again.Counts, document(again))
	}
	if err := s.Forget(ctx, keep, now.AddDate(0, 0, 1)); err != nil || document(again) == "<nil>, on the disk true" {
		t.Errorf("it is old, but kept: %v", err) // its loads are as old as before for a clock that far on
	}
}

// A document is not taken away while anything is done with it, nor one that was posted and came again.
func TestTakenAwayAndPosted(t *testing.T) {
	ctx := context.Background()
	s := testStore(t)
	sha, version := received(t, s, []byte(head+"A-1,2026-03-02,00417,2,9.50\n"), plainMapping)
	id, _, err := s.StartLoad(ctx, outcome.Load{Document: sha, Mapping: "example", Version: version,
		Status: outcome.Paused, StartedAt: time.Now()}, "")
	if err != nil {
		t.Fatal(err)
	}
	body := store.Body{Bytes: []byte(`{"a": 1}`), Posted: true}
	body.SHA, body.ReceivedAt = strings.Repeat("a", 64), time.Now()
	put := func() error { return s.Write(ctx, func(tx *store.Tx) error { return tx.PutBodies(body) }) }
	later := time.Now().AddDate(20, 0, 0)
	if err := errors.Join(put(), s.Forget(ctx, store.Usual(), later)); err != nil {
		t.Fatal(err)
	}
	if _, err := s.OpenFile(sha); err != nil {
		t.Errorf("load %d is paused, and its document is gone: %v", id, err)
	}
	var gone *store.TakenAway
	if _, err := s.OpenFile(body.SHA); !errors.As(err, &gone) || !gone.At.Equal(later.UTC().Truncate(time.Millisecond)) {
		t.Errorf("a posted body: %v", err)
	}
	if err := put(); err != nil {
		t.Fatal(err)
	}
	if f, err := s.OpenFile(body.SHA); err != nil || f.Size() != 8 {
		t.Errorf("posted again: %v", err)
	}
}

// A file that came once more while its document was being taken away stays; what was left behind goes the next time.
func TestTakenAwayWhileItComes(t *testing.T) {
	ctx, dir := context.Background(), t.TempDir()
	s := testStoreIn(t, dir)
	sha, _ := received(t, s, []byte(head+"A-1,2026-03-02,00417,2,9.50\n"), plainMapping)
	there := func() bool {
		_, err := os.Stat(store.DocumentPath(dir, sha))
		return err == nil
	}
	keep, now := store.Retention{"documents": 1}, time.Now()
	if err := s.Forget(ctx, keep, now.Add(-time.Minute)); err != nil { // the file is younger than that
		t.Fatal(err)
	}
	if d, err := s.Document(ctx, sha); err != nil || d.TakenAwayAt == nil || !there() {
		t.Errorf("%+v %v, file %v", d, err, there())
	}
	if received(t, s, []byte(head+"A-1,2026-03-02,00417,2,9.50\n"), plainMapping); !there() {
		t.Error("the file that came again is not there")
	}
	if d, err := s.Document(ctx, sha); err != nil || d.TakenAwayAt != nil {
		t.Errorf("it came again: %+v %v", d, err)
	}
	for _, later := range []time.Duration{time.Minute, 2 * time.Minute} {
		if err := s.Forget(ctx, keep, now.Add(later)); err != nil || there() {
			t.Errorf("after %s: %v, file %v", later, err, there())
		}
	}
}
