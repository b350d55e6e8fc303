package e2e

import (
	"context"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"koinos/api"
	"koinos/core/outcome"
	"koinos/store"
)

// A backup is made while a load runs; what comes back from it goes on with the load, gives no number
// twice, and is whole.
func TestBackup(t *testing.T) {
	t.Parallel()
	s := start(t, t.TempDir(), "serve")
	first := s.load(t, string(manyOrders(40)))
	l := s.begin(manyOrders(20_000))
	waitFor(t, "a load that runs", func() bool {
		now, err := s.api().Load(context.Background(), l.ID)
		return err == nil && now.Load.Orders > 2000
	})
	dir, data := t.TempDir(), filepath.Join(t.TempDir(), "back")
	type made struct{ Documents, Copied int }
	backup := func() (m made) {
		out, errOut, code := koinos(t, nil, "backup", dir, "--data", s.data, "--output", "json")
		if err := json.Unmarshal([]byte(out), &m); code != 0 || err != nil {
			t.Fatalf("%d %v %s%s", code, err, out, errOut)
		}
		return m
	}
	if m := backup(); m != (made{2, 2}) {
		t.Errorf("first backup: %+v", m)
	}
	s.load(t, "Order,Item,Qty,Price\nNEW-1,00101,2,9.50\n")
	if m := backup(); m != (made{3, 1}) {
		t.Errorf("second backup: %+v", m)
	}
	if _, err := s.api().WatchLoad(context.Background(), l.ID, func(outcome.Load) {}); err != nil {
		t.Fatal(err)
	}
	out, errOut, code := koinos(t, nil, "restore", dir, "--data", data, "--skip", "30000", "--output", "json")
	var back struct {
		Numbers []struct {
			What, Partner string
			Last, Now     int64
		}
	}
	if err := json.Unmarshal([]byte(out), &back); code != 0 || err != nil {
		t.Fatalf("%d %v %s%s", code, err, out, errOut)
	}
	if _, errOut, code := koinos(t, nil, "restore", dir, "--data", data); code != 1 || !strings.Contains(errOut,
		"is not empty") {
		t.Errorf("restored over other data: %d %s", code, errOut)
	}
	for _, args := range [][]string{{"backup", s.data, "--data", s.data}, {"backup", data, "--data", s.data}} {
		if _, errOut, code := koinos(t, nil, args...); code != 1 || !strings.Contains(errOut, "is a data folder") {
			t.Errorf("a backup over a data folder: %d %s", code, errOut)
		}
	}
	half := filepath.Join(t.TempDir(), "half") // of a backup in which a document was damaged later
	if err := os.Truncate(store.DocumentPath(dir, first.Load.Document), 10); err != nil {
		t.Fatal(err)
	}
	if _, errOut, code := koinos(t, nil, "restore", dir, "--data", half); code != 4 || errOut != "Document "+
		first.Load.Document[:12]+" is damaged in the backup, and was not brought back: send the same file once more.\n" {
		t.Errorf("a damaged backup: %d %s", code, errOut)
	}
	if _, err := os.Stat(filepath.Join(half, "koinos.db")); err != nil {
		t.Errorf("nothing else was brought back: %v", err)
	}
	if m := backup(); m != (made{3, 1}) {
		t.Errorf("the damaged document is copied anew: %+v", m)
	}
	if err := os.Rename(filepath.Join(half, "koinos.db"), filepath.Join(half, "koinos.db.new")); err != nil {
		t.Fatal(err)
	}
	if _, errOut, code := koinos(t, nil, "serve", "--data", half); code != 1 ||
		!strings.Contains(errOut, "a backup was not brought back to its end here") {
		t.Errorf("a service over half a backup: %d %s", code, errOut)
	}
	r := start(t, data, "serve")
	last, err := r.api().WatchLoad(context.Background(), l.ID, func(outcome.Load) {})
	if err != nil || last.Status != outcome.Done || last.Loaded+last.Unchanged != 20_000 {
		t.Errorf("the load that was running: %+v %v", last, err)
	}
	highest := ""
	page, err := s.api().Orders(context.Background(), map[string][]string{"limit": {"1"}})
	if err == nil {
		highest = page.Items[0].Number
	}
	_, body := r.do("POST", "/api/v1/orders",
		`{"kind":"sales","sender_number":"after","partner":"SALTRY","lines":[{"item":"x","quantity":"1"}]}`,
		"Content-Type: application/json")
	var posted api.StoredOrder
	if err := json.Unmarshal([]byte(body), &posted); err != nil || posted.Number <= highest || highest == "" {
		t.Errorf("the number %q was perhaps given before: the highest was %q\n%s", posted.Number, highest, body)
	}
	if out, errOut, code := r.koinos("check", "data"); code != 0 ||
		out != "The data is whole: the database, and 3 documents.\n" {
		t.Errorf("%d %s%s", code, out, errOut)
	}

	// A document that changes on the disk is not loaded, and comes back with the same bytes.
	path := store.DocumentPath(data, first.Load.Document)
	for _, damage := range []func() error{
		func() error { return os.Truncate(path, 100) },
		func() error {
			f, err := os.OpenFile(path, os.O_WRONLY, 0)
			if err == nil {
				_, err = f.WriteAt([]byte("Z"), 60)
				f.Close()
			}
			return err
		},
		func() error { return os.Remove(path) },
	} {
		if err := damage(); err != nil {
			t.Fatal(err)
		}
		out, _, code := r.koinos("check", "data")
		if code != 4 || !strings.Contains(out, "document  "+first.Load.Document[:12]+"  ") || strings.Count(out, "\n") != 2 {
			t.Errorf("%d %s", code, out)
		}
		if _, errOut, code := koinos(t, nil, "backup", t.TempDir(), "--data", data); code != 4 ||
			errOut != "Document "+first.Load.Document[:12]+" is damaged, and not in the backup.\n" {
			t.Errorf("a backup: %d %s", code, errOut)
		}
		again := r.load(t, string(manyOrders(40)))
		if again.Load.Status != outcome.Done || again.Load.Unchanged != 40 {
			t.Errorf("sent again: %+v", again.Load)
		}
		if out, _, code := r.koinos("check", "data"); code != 0 {
			t.Errorf("fixed: %d %s", code, out)
		}
	}
	if err := os.Truncate(path, 100); err != nil {
		t.Fatal(err)
	}
	res, body := r.do("POST", "/api/v1/loads", `{"document":"`+first.Load.Document+`","mapping":"`+first.Load.Mapping+`"}`,
		"Content-Type: application/json")
	var damaged outcome.Load
	if err := json.Unmarshal([]byte(body), &damaged); err != nil || res.StatusCode != 202 {
		t.Fatal(res.Status, body)
	}
	if last, err = r.api().WatchLoad(context.Background(), damaged.ID, func(outcome.Load) {}); err != nil ||
		last.Status != outcome.Failed || last.Orders != 0 {
		t.Errorf("a damaged document: %+v %v", last, err)
	}
	if rep, err := r.api().Load(context.Background(), damaged.ID); err != nil || len(rep.Reasons) != 1 ||
		rep.Reasons[0].Code != "document_broken" {
		t.Errorf("%+v %v", rep.Reasons, err)
	}
}
