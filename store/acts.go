package store

import (
	"context"
	"time"

	"koinos/core/finding"
	"koinos/core/list"
	"koinos/core/outcome"
	"koinos/core/uses"
)

// ActGroup is the findings of a load that one act can fix.
type ActGroup struct {
	Code     string `db:"code"`
	List     string `db:"list"`
	Field    string `db:"field"`
	Lines    bool   `db:"of_lines"`
	Findings int    `db:"findings"`
	Orders   int    `db:"orders"`
}

// ActGroups groups the findings of the orders that failed by what would fix them, those that affect most orders first.
func (s *Store) ActGroups(ctx context.Context, load int64) ([]ActGroup, error) {
	list := []ActGroup{}
	err := s.r.SelectContext(ctx, &list,
		`SELECT f.code, f.list, CASE WHEN f.code IN (?1, ?5, ?6) THEN f.field ELSE '' END AS field, f.code IN (?1, ?5, ?6) AND f.line > 0 AS of_lines,
	  count(*) AS findings, count(DISTINCT f.seq) AS orders
	  FROM findings f JOIN load_orders o ON o.load_id = f.load_id AND o.seq = f.seq
	  WHERE f.load_id = ?2 AND (o.outcome = ?3 AND (f.list <> '' AND f.code IN (?4, ?5) OR f.code IN (?1, ?6)) OR o.outcome = ?7 AND f.severity = ?8)
	  GROUP BY 1, 2, 3, 4 ORDER BY orders DESC, findings DESC`,
		finding.NotADate, load, outcome.Refused, finding.CrosswalkMissing, finding.UnknownCode, finding.UnknownUnit,
		outcome.Held, finding.Warning)
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
	Value   string `db:"value"`
	Count   int    `db:"count"`
	Nearest string `db:"nearest"` // what the list has that is nearest
}

// Values lists the values of findings of a load, the most frequent first.
func (s *Store) Values(ctx context.Context, load int64, f ValueFilter) ([]SeenValue, error) {
	list := []SeenValue{}
	err := s.r.SelectContext(ctx, &list, `SELECT value, count(*) AS count, max(nearest) AS nearest FROM findings
	  WHERE load_id = ? AND code = ? AND (? = '' OR list = ?) AND (? = '' OR field = ? AND (line > 0) = ?) GROUP BY value ORDER BY count(*) DESC, value LIMIT ?`,
		load, f.Code, f.List, f.List, f.Field, f.Field, f.Lines, f.Limit)
	return list, err
}

// AddEntries adds to existing lists and crosswalks. An entry with a known code replaces the existing one.
func (s *Store) AddEntries(ctx context.Context, lists map[string][]list.Entry, crosswalks map[string][]list.Pair,
	now time.Time) error {
	if len(lists)+len(crosswalks) == 0 {
		return nil
	}
	return s.Write(ctx, func(t *Tx) error {
		for name, entries := range lists {
			if err := t.addEntries(name, false, entries, now); err != nil {
				return err
			}
		}
		for name, pairs := range crosswalks {
			entries := make([]list.Entry, len(pairs))
			for i, p := range pairs {
				entries[i] = list.Entry{Code: p.Theirs, Name: p.Ours}
			}
			if err := t.addEntries(name, true, entries, now); err != nil {
				return err
			}
		}
		return nil
	})
}

func (t *Tx) addEntries(name string, crosswalk bool, entries []list.Entry, now time.Time) error {
	if crosswalk { // what ships with Koinos is not lost by what is added
		there, err := t.known(Named{uses.Crosswalk, name})
		if err != nil {
			return err
		}
		if !there {
			entries = append(list.Shipped(name), entries...)
		}
	}
	version, err := t.nextVersion(name, crosswalk, now)
	if err != nil {
		return err
	}
	for _, e := range entries {
		row, err := rowOf(e)
		if err != nil {
			return err
		}
		if err := t.run(`UPDATE list_entries SET until = ? WHERE crosswalk = ? AND list = ? AND code = ?
			AND until IS NULL AND since < ?`, version, crosswalk, name, e.Code, version); err != nil {
			return err
		}
		if err := t.run(`INSERT INTO list_entries (crosswalk, list, code, since, name, attributes) VALUES (?, ?, ?, ?, ?, ?)
		  ON CONFLICT DO UPDATE SET name = excluded.name, attributes = excluded.attributes`, crosswalk, name, e.Code, version, row.Name, row.Attributes); err != nil {
			return err
		}
	}
	return nil
}
