package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"koinos/api"
	"koinos/core/list"
	"koinos/core/uses"
)

var entryColumns = columnsOf("list_entries", "crosswalk", "list", "code", "since", "name", "attributes")

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

// putEntries makes a new version of a list with exactly these entries.
func (s *Store) putEntries(ctx context.Context, name string, crosswalk bool, entries []list.Entry,
	now time.Time) error {
	return s.Write(ctx, func(t *Tx) error {
		var rows []entryRow
		if err := t.SelectContext(t.ctx, &rows,
			`SELECT code, name, attributes FROM list_entries WHERE crosswalk = ? AND list = ? AND until IS NULL`,
			crosswalk, name); err != nil {
			return err
		}
		version, err := t.nextVersion(name, crosswalk, now)
		if err != nil {
			return err
		}
		gone := make(map[string]entryRow, len(rows))
		for _, r := range rows {
			gone[r.Code] = r
		}
		b := t.bulk(entryColumns)
		seen := make(map[string]bool, len(entries))
		for _, e := range entries {
			row, err := rowOf(e)
			if err != nil {
				return err
			}
			if seen[e.Code] {
				return fmt.Errorf("%s: the code %q stands twice", name, e.Code)
			}
			seen[e.Code] = true
			if was, known := gone[e.Code]; known && was == row {
				delete(gone, e.Code)
				continue
			}
			b.row().Bool(crosswalk).Text(name).Text(e.Code).Int(version).Text(row.Name).TextOrNull(row.Attributes.String)
		}
		for code := range gone {
			if err := t.run(`UPDATE list_entries SET until = ?1 WHERE crosswalk = ?2 AND list = ?3 AND code = ?4
				AND until IS NULL AND since < ?1`, version, crosswalk, name, code); err != nil {
				return err
			}
		}
		return b.done()
	})
}

// nextVersion makes the next version of a list, or the first one.
func (t *Tx) nextVersion(name string, crosswalk bool, now time.Time) (version int, err error) {
	t.after = append(t.after, func() { t.s.lists.Add(1) })
	if err := t.run(`DELETE FROM removed WHERE kind = ? AND name = ?`, listKind(crosswalk), name); err != nil {
		return 0, err
	}
	if err := t.run(`INSERT INTO lists (crosswalk, name, version, imported_at) VALUES (?, ?, 1, ?) ON CONFLICT DO UPDATE
		SET version = version + 1, imported_at = excluded.imported_at`, crosswalk, name, at(now)); err != nil {
		return 0, err
	}
	err = t.row(`SELECT version FROM lists WHERE crosswalk = ? AND name = ?`, []any{crosswalk, name}, &version)
	return version, err
}

type entryRow struct {
	Code       string         `db:"code"`
	Name       string         `db:"name"`
	Attributes sql.NullString `db:"attributes"`
}

func rowOf(e list.Entry) (entryRow, error) {
	r := entryRow{Code: e.Code, Name: e.Name}
	if len(e.Attributes) > 0 {
		text, err := json.Marshal(e.Attributes)
		if err != nil {
			return r, err
		}
		r.Attributes = sql.NullString{String: string(text), Valid: true}
	}
	return r, nil
}

func (r *entryRow) entry() (list.Entry, error) {
	e := list.Entry{Code: r.Code, Name: r.Name}
	if !r.Attributes.Valid {
		return e, nil
	}
	return e, json.Unmarshal([]byte(r.Attributes.String), &e.Attributes)
}

// Lists lists reference lists and crosswalks by name.
func (s *Store) Lists(ctx context.Context, crosswalk bool) ([]api.ListInfo, error) {
	var rows []struct {
		Name       string `db:"name"`
		ImportedAt string `db:"imported_at"`
		Version    int    `db:"version"`
		Entries    int    `db:"entries"`
	}
	err := s.r.SelectContext(ctx, &rows, `SELECT name, version, imported_at,
	  (SELECT count(*) FROM list_entries e WHERE e.crosswalk = l.crosswalk AND list = l.name AND until IS NULL) AS entries
	  FROM lists l WHERE crosswalk = ? AND `+there(listKind(crosswalk), "l.name")+` ORDER BY name`, crosswalk)
	infos := make([]api.ListInfo, len(rows))
	for i, r := range rows {
		when := parseTime(r.ImportedAt)
		infos[i] = api.ListInfo{Name: r.Name, Crosswalk: crosswalk, Version: r.Version, Entries: r.Entries,
			ImportedAt: &when}
	}
	for _, name := range list.ShippedNames() {
		if crosswalk && !slices.ContainsFunc(infos, func(i api.ListInfo) bool { return i.Name == name }) {
			infos = append(infos, api.ListInfo{Name: name, Crosswalk: true, Entries: len(list.Shipped(name)),
				Shipped: true})
		}
	}
	return infos, err
}

// Entries returns entries of a list behind the code after; limit 0 means all. For a crosswalk, their code is the
// entry's code and ours its name.
func (s *Store) Entries(ctx context.Context, name string, crosswalk bool, after string, limit int) ([]list.Entry,
	error) {
	kind := listKind(crosswalk)
	var known int
	if err := s.r.GetContext(ctx, &known, `SELECT count(*) FROM lists l WHERE crosswalk = ? AND name = ? AND `+
		there(kind, "l.name"), crosswalk, name); err != nil {
		return nil, err
	}
	if known == 0 {
		if crosswalk && len(list.Shipped(name)) > 0 {
			return shippedEntries(name, after, limit), nil
		}
		return nil, s.gone(ctx, Named{kind, name}, fmt.Errorf("%s %s: %w", kind, name, ErrNotFound))
	}
	if limit == 0 {
		limit = -1
	}
	return entriesOf(ctx, s.r,
		`SELECT code, name, attributes FROM list_entries WHERE crosswalk = ? AND list = ? AND code > ? AND until IS NULL
			ORDER BY code LIMIT ?`,
		crosswalk, name, after, limit)
}

// shippedEntries are those of a crosswalk that ships with Koinos, in the form of Entries.
func shippedEntries(name, after string, limit int) []list.Entry {
	all := list.Shipped(name)
	slices.SortFunc(all, func(a, b list.Entry) int { return strings.Compare(a.Code, b.Code) })
	all = slices.DeleteFunc(all, func(e list.Entry) bool { return e.Code <= after })
	if limit > 0 {
		all = all[:min(limit, len(all))]
	}
	return all
}

func listKind(crosswalk bool) uses.Kind {
	if crosswalk {
		return uses.Crosswalk
	}
	return uses.List
}

func entriesOf(ctx context.Context, q querier, query string, args ...any) ([]list.Entry, error) {
	var rows []entryRow
	if err := q.SelectContext(ctx, &rows, query, args...); err != nil {
		return nil, err
	}
	entries := make([]list.Entry, len(rows))
	for i := range rows {
		var err error
		if entries[i], err = rows[i].entry(); err != nil {
			return nil, err
		}
	}
	return entries, nil
}

// cached is every list and crosswalk after a number of changes.
type cached struct {
	changes uint64
	set     *list.Set
}

// Set returns every list and crosswalk in memory, as a load needs them. They are read again only after a change.
func (s *Store) Set(ctx context.Context) (*list.Set, error) {
	changes := s.lists.Load()
	if c := s.set.Load(); c != nil && c.changes == changes {
		return c.set, nil
	}
	set, err := s.readSet(ctx, nil)
	if err == nil {
		s.set.Store(&cached{changes, set}) // what changed while it was read has another number
	}
	return set, err
}

// SetAt returns the lists and crosswalks in the versions that a load used. Those that it does not name are the present
// ones.
func (s *Store) SetAt(ctx context.Context, versions map[string]int) (*list.Set, error) {
	now, err := s.Set(ctx)
	if err != nil {
		return nil, err
	}
	for name, version := range versions {
		if now.Versions[name] != version {
			return s.readSet(ctx, versions)
		}
	}
	return now, nil
}

func (s *Store) readSet(ctx context.Context, versions map[string]int) (*list.Set, error) {
	tx, err := s.r.BeginTxx(ctx, nil) // all of one moment
	if err != nil {
		return nil, err
	}
	defer func() { _ = tx.Rollback() }()
	var rows []struct {
		Name      string `db:"name"`
		Crosswalk bool   `db:"crosswalk"`
		Version   int    `db:"version"`
		Removed   bool   `db:"removed"`
	}
	if err := tx.SelectContext(ctx, &rows, `SELECT name, crosswalk, version, EXISTS (SELECT 1 FROM removed r
		WHERE r.kind = CASE crosswalk WHEN 1 THEN 'crosswalk' ELSE 'list' END AND r.name = l.name) AS removed
		FROM lists l`); err != nil {
		return nil, err
	}
	set := &list.Set{Lists: map[string]*list.List{}, Crosswalks: map[string]*list.Crosswalk{},
		Versions: map[string]int{}}
	for _, r := range rows {
		key := list.VersionKey(r.Name, r.Crosswalk)
		if v := versions[key]; v > 0 && v < r.Version {
			r.Version = v
		} else if r.Removed {
			continue
		}
		set.Versions[key] = r.Version
		entries, err := entriesOf(ctx, tx,
			`SELECT code, name, attributes FROM list_entries WHERE crosswalk = ? AND list = ? AND since <= ?
				AND (until IS NULL OR until > ?) ORDER BY code`,
			r.Crosswalk, r.Name, r.Version, r.Version)
		if err != nil {
			return nil, err
		}
		if !r.Crosswalk {
			set.Lists[r.Name] = list.New(entries)
			continue
		}
		pairs := make([]list.Pair, len(entries))
		for i, e := range entries {
			pairs[i] = list.Pair{Theirs: e.Code, Ours: e.Name}
		}
		set.Crosswalks[r.Name] = list.NewCrosswalk(pairs)
	}
	return set, nil
}
