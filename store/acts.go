package store

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"koinos/core/finding"
	"koinos/core/list"
	"koinos/core/report"
)

// ActGroup is findings of a load that one act can mend.
type ActGroup struct {
	Code     string `db:"code"`
	List     string `db:"list"`
	Field    string `db:"field"`
	Lines    bool   `db:"of_lines"`
	Findings int    `db:"findings"`
	Orders   int    `db:"orders"`
}

// ActGroups groups the findings of the orders that failed by what would mend
// them, those that touch most orders first.
func (s *Store) ActGroups(ctx context.Context, load int64) ([]ActGroup, error) {
	list := []ActGroup{}
	err := s.r.SelectContext(ctx, &list, `SELECT f.code, f.list, CASE WHEN f.code IN (?1, ?5, ?6) THEN f.field ELSE '' END AS field, f.code IN (?1, ?5, ?6) AND f.line > 0 AS of_lines,
	  count(*) AS findings, count(DISTINCT f.seq) AS orders
	  FROM findings f JOIN load_orders o ON o.load_id = f.load_id AND o.seq = f.seq
	  WHERE f.load_id = ?2 AND (o.outcome = ?3 AND (f.list <> '' AND f.code IN (?4, ?5, ?6) OR f.code = ?1) OR o.outcome = ?7 AND f.severity = ?8)
	  GROUP BY 1, 2, 3, 4 ORDER BY orders DESC, findings DESC`,
		finding.NotADate, load, report.Refused, finding.CrosswalkMissing, finding.UnknownCode, finding.UnknownUnit, report.Held, finding.Warning)
	return list, err
}

// ValueFilter says whose values are wanted.
type ValueFilter struct {
	Code, List, Field string
	Lines             bool
	Limit             int
}

// SeenValue is a value of findings, with how often it was seen.
type SeenValue struct {
	Value string `db:"value"`
	Count int    `db:"count"`
	Hint  string `db:"hint"`
}

// Values lists the values of findings of a load, the most frequent first.
func (s *Store) Values(ctx context.Context, load int64, f ValueFilter) ([]SeenValue, error) {
	list := []SeenValue{}
	err := s.r.SelectContext(ctx, &list, `SELECT value, count(*) AS count, min(hint) AS hint FROM findings
	  WHERE load_id = ? AND code = ? AND (? = '' OR list = ?) AND (? = '' OR field = ? AND (line > 0) = ?) GROUP BY value ORDER BY count(*) DESC, value LIMIT ?`,
		load, f.Code, f.List, f.List, f.Field, f.Field, f.Lines, f.Limit)
	return list, err
}

// AddEntries adds to lists and crosswalks that are here; an entry of a known
// code takes the place of the one that is there.
func (s *Store) AddEntries(ctx context.Context, lists map[string][]list.Entry, crosswalks map[string][]list.Pair, now time.Time) error {
	if len(lists)+len(crosswalks) == 0 {
		return nil
	}
	defer s.set.Store(nil)
	return s.Write(ctx, func(t *Tx) error {
		for name, entries := range lists {
			for _, e := range entries {
				if err := t.addEntry(name, false, e, now); err != nil {
					return err
				}
			}
		}
		for name, pairs := range crosswalks {
			for _, p := range pairs {
				if err := t.addEntry(name, true, list.Entry{Code: p.Theirs, Name: p.Ours}, now); err != nil {
					return err
				}
			}
		}
		return nil
	})
}

func (t *Tx) addEntry(name string, crosswalk bool, e list.Entry, now time.Time) error {
	var more any
	if len(e.Attributes) > 0 {
		text, err := json.Marshal(e.Attributes)
		if err != nil {
			return err
		}
		more = string(text)
	}
	_, err := t.exec(`INSERT INTO lists (crosswalk, name, imported_at) VALUES (?, ?, ?) ON CONFLICT DO UPDATE SET imported_at = excluded.imported_at`, crosswalk, name, at(now))
	_, err2 := t.exec(`INSERT INTO list_entries (crosswalk, list, code, name, attributes) VALUES (?, ?, ?, ?, ?)
	  ON CONFLICT DO UPDATE SET name = excluded.name, attributes = excluded.attributes`, crosswalk, name, e.Code, e.Name, more)
	return errors.Join(err, err2)
}
