package store

import (
	"strings"
	"testing"
	"time"

	"koinos/api"
)

// Every filter that the API and the console offer is answered by an index: no
// list reads all orders, loads, events, documents, interchanges or what is held.
func TestListsUseIndexes(t *testing.T) {
	s := open(t, t.TempDir())
	var queries []string
	explain := func(query string, args ...any) {
		t.Helper()
		var rows []struct {
			ID      int    `db:"id"`
			Parent  int    `db:"parent"`
			Notused int    `db:"notused"`
			Detail  string `db:"detail"`
		}
		if err := s.r.Select(&rows, "EXPLAIN QUERY PLAN "+query, args...); err != nil {
			t.Fatalf("%s: %v", query, err)
		}
		queries = append(queries, query)
		for _, r := range rows {
			table, scan := strings.CutPrefix(r.Detail, "SCAN ")
			// a table of the query's own
			if scan && !strings.HasPrefix(table, "CONSTANT") && !strings.HasPrefix(table, "(") && table != "keys" {
				t.Errorf("%s\n%v: %s", query, args, r.Detail)
			}
		}
	}
	for _, f := range []OrderFilter{{Kind: "sales"}, {Statuses: []string{"open"}}, {Partner: "P"}, {Number: "SO-1"},
		{Text: "so-"},
		{Load: 7}, {Kind: "sales", Statuses: []string{"open"}, Partner: "P", Text: "x", Before: 900},
		{Changed: 7}, {Number: "SO-1", From: "2026-01-01"}} {
		f.Limit, f.Before = 50, 1_000
		query, args := f.query(f.runs())
		explain(query, args...)
	}
	for _, f := range []LoadFilter{{}, {Document: "d"}, {Run: 3}, {Before: 9}} {
		query, args := f.query()
		explain(selectLoad+query, args...)
	}
	explain(selectEvents+`e.n > ? AND e.n <= ? ORDER BY e.n`, 0, 0, 7, 100)
	explain(selectEvents+`e.order_id = ? ORDER BY e.n`, 0, 0, 7)
	explain(documentsQuery, at(now), "", 50)
	explain(readyJobs, "load", 9)
	for _, f := range []api.HeldWork{{}, {Kind: api.HeldSet}, {Partner: "P"}} {
		query, args := HeldFilter{HeldFor: api.HeldFor{Kind: f.Kind, Partner: f.Partner}, Limit: 50}.query()
		explain(query, args...)
	}
	for _, f := range []InterchangeFilter{{}, {Partner: "P"}, {Direction: "in"}, {State: "held"}, {State: "overdue"},
		{Order: 3}, {Kind: "855"}, {Speaking: true}} {
		f.Limit = 50
		query, args := f.query(time.Now())
		explain(query, args...)
	}
	if len(queries) < 20 {
		t.Errorf("only %d queries were looked at", len(queries))
	}
}
