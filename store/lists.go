package store

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"koinos/core/list"
)

// ListInfo is a reference list or crosswalk without its entries.
type ListInfo struct {
	Name       string    `json:"name"`
	Crosswalk  bool      `json:"crosswalk,omitempty"`
	Entries    int       `json:"entries"`
	ImportedAt time.Time `json:"imported_at"`
}

// PutList replaces a reference list.
func (s *Store) PutList(ctx context.Context, name string, entries []list.Entry, now time.Time) error {
	return s.putEntries(ctx, name, false, entries, now)
}

// PutCrosswalk replaces a crosswalk.
func (s *Store) PutCrosswalk(ctx context.Context, name string, pairs []list.Pair, now time.Time) error {
	entries := make([]list.Entry, len(pairs))
	for i, p := range pairs {
		entries[i] = list.Entry{Code: p.Theirs, Name: p.Ours}
	}
	return s.putEntries(ctx, name, true, entries, now)
}

func (s *Store) putEntries(ctx context.Context, name string, crosswalk bool, entries []list.Entry, now time.Time) error {
	defer s.set.Store(nil)
	return s.Write(ctx, func(t *Tx) error {
		if _, err := t.exec(`DELETE FROM lists WHERE crosswalk = ? AND name = ?`, crosswalk, name); err != nil {
			return err
		}
		if _, err := t.exec(`INSERT INTO lists (crosswalk, name, imported_at) VALUES (?, ?, ?)`, crosswalk, name, at(now)); err != nil {
			return err
		}
		b := t.bulk("list_entries", "crosswalk", "list", "code", "name", "attributes")
		for _, e := range entries {
			var more any
			if len(e.Attributes) > 0 {
				text, err := json.Marshal(e.Attributes)
				if err != nil {
					return err
				}
				more = string(text)
			}
			b.add(crosswalk, name, e.Code, e.Name, more)
		}
		return b.done()
	})
}

// Lists lists reference lists and crosswalks by name.
func (s *Store) Lists(ctx context.Context, crosswalk bool) ([]ListInfo, error) {
	var rows []struct {
		Name       string `db:"name"`
		ImportedAt string `db:"imported_at"`
		Entries    int    `db:"entries"`
	}
	err := s.r.SelectContext(ctx, &rows, `SELECT name, imported_at,
	  (SELECT count(*) FROM list_entries e WHERE e.crosswalk = l.crosswalk AND list = l.name) AS entries
	  FROM lists l WHERE crosswalk = ? ORDER BY name`, crosswalk)
	infos := make([]ListInfo, len(rows))
	for i, r := range rows {
		infos[i] = ListInfo{r.Name, crosswalk, r.Entries, parseTime(r.ImportedAt)}
	}
	return infos, err
}

// Entries gives entries of a list, or of a crosswalk with theirs as code and
// ours as name, behind the code after; limit 0 is all.
func (s *Store) Entries(ctx context.Context, name string, crosswalk bool, after string, limit int) ([]list.Entry, error) {
	var known int
	if err := s.r.GetContext(ctx, &known, `SELECT count(*) FROM lists WHERE crosswalk = ? AND name = ?`, crosswalk, name); err != nil {
		return nil, err
	}
	if known == 0 {
		return nil, fmt.Errorf("%s %s: %w", map[bool]string{false: "list", true: "crosswalk"}[crosswalk], name, ErrNotFound)
	}
	if limit == 0 {
		limit = -1
	}
	var rows []struct {
		Code       string  `db:"code"`
		Name       string  `db:"name"`
		Attributes *string `db:"attributes"`
	}
	err := s.r.SelectContext(ctx, &rows, `SELECT code, name, attributes FROM list_entries WHERE crosswalk = ? AND list = ? AND code > ? ORDER BY code LIMIT ?`,
		crosswalk, name, after, limit)
	if err != nil {
		return nil, err
	}
	entries := make([]list.Entry, len(rows))
	for i, r := range rows {
		entries[i] = list.Entry{Code: r.Code, Name: r.Name}
		if r.Attributes != nil {
			if err := json.Unmarshal([]byte(*r.Attributes), &entries[i].Attributes); err != nil {
				return nil, err
			}
		}
	}
	return entries, nil
}

// Set gives every list and crosswalk in memory, as a load needs them; it is
// read again only when one has changed.
func (s *Store) Set(ctx context.Context) (*list.Set, error) {
	if set := s.set.Load(); set != nil {
		return set, nil
	}
	set := &list.Set{Lists: map[string]*list.List{}, Crosswalks: map[string]*list.Crosswalk{}}
	for _, crosswalk := range []bool{false, true} {
		infos, err := s.Lists(ctx, crosswalk)
		if err != nil {
			return nil, err
		}
		for _, info := range infos {
			entries, err := s.Entries(ctx, info.Name, crosswalk, "", 0)
			if err != nil {
				return nil, err
			}
			if !crosswalk {
				set.Lists[info.Name] = list.New(entries)
				continue
			}
			pairs := make([]list.Pair, len(entries))
			for i, e := range entries {
				pairs[i] = list.Pair{Theirs: e.Code, Ours: e.Name}
			}
			set.Crosswalks[info.Name] = list.NewCrosswalk(pairs)
		}
	}
	s.set.Store(set)
	return set, nil
}
