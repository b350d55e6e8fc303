package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"time"

	"koinos/core/uses"
)

// ErrTaken says that something else has a name.
var ErrTaken = errors.New("the name is taken")

// ErrMoved says that texts have changed since they were read.
var ErrMoved = errors.New("something has changed in between")

// textTables are the tables of versioned texts, by kind.
var textTables = map[uses.Kind]string{uses.Mapping: "mappings", uses.Sequence: "sequences", uses.System: "systems",
	uses.Sync: "syncs"}

// putText is keepText in a transaction of its own.
func (s *Store) putText(ctx context.Context, kind uses.Kind, name, text, by string, now time.Time) (version int,
	err error) {
	err = s.Write(ctx, func(t *Tx) (err error) {
		version, err = t.keepText(kind, name, text, by, now)
		return err
	})
	return version, err
}

// keepText stores a text as the next version of its name. If it equals the newest version, no new one is made.
func (t *Tx) keepText(kind uses.Kind, name, text, by string, now time.Time) (version int, err error) {
	if err := t.run(`DELETE FROM removed WHERE kind = ? AND name = ?`, kind, name); err != nil {
		return 0, err
	}
	table := textTables[kind]
	var last []struct {
		Version int    `db:"version"`
		Text    string `db:"text"`
	}
	if err := t.SelectContext(t.ctx, &last, `SELECT version, text FROM `+table+`
		WHERE name = ? AND version > 0 ORDER BY version DESC LIMIT 1`, name); err != nil {
		return 0, err
	}
	if len(last) == 1 {
		if version = last[0].Version; last[0].Text == text {
			return version, nil
		}
	}
	version++
	return version, t.run(`INSERT INTO `+table+` (name, version, text, stored_at, stored_by)
		VALUES (?, ?, ?, ?, ?)`, name, version, text, at(now), by)
}

// there is the condition that a name of a kind in a column is in use.
func there(kind uses.Kind, column string) string {
	return fmt.Sprintf(`NOT EXISTS (SELECT 1 FROM removed WHERE removed.kind = '%s' AND removed.name = %s)`, kind,
		column)
}

const selectTexts = `SELECT kind, name, version, text FROM (
	SELECT 'mapping' AS kind, name, max(version) AS version, text FROM mappings WHERE version > 0 GROUP BY name
	UNION ALL SELECT 'sequence', name, max(version), text FROM sequences GROUP BY name
	UNION ALL SELECT 'system', name, max(version), text FROM systems GROUP BY name
	UNION ALL SELECT 'sync', name, max(version), text FROM syncs GROUP BY name
	UNION ALL SELECT 'partner', name, 0, text FROM partners) t
	WHERE NOT EXISTS (SELECT 1 FROM removed r WHERE r.kind = t.kind AND r.name = t.name)
	ORDER BY kind, name`

// Texts returns the newest version of every configuration text.
func (s *Store) Texts(ctx context.Context) ([]uses.Text, error) {
	var all []uses.Text
	return all, s.r.SelectContext(ctx, &all, selectTexts)
}

// same makes sure that nothing has changed since seen was read.
func (t *Tx) same(seen []uses.Text) error {
	var all []uses.Text
	if err := t.SelectContext(t.ctx, &all, selectTexts); err != nil {
		return err
	}
	if !slices.Equal(all, seen) {
		return ErrMoved
	}
	return nil
}

// Named is a name of a kind.
type Named struct {
	Kind uses.Kind
	Name string
}

// Remove removes a mapping, sequence, list or crosswalk. Its versions stay for what was made with them. The caller has
// found in seen that nothing uses it; ErrMoved says that this may have changed. ErrBusy says that a load or run that
// uses it has not ended.
func (s *Store) Remove(ctx context.Context, n Named, seen []uses.Text, by string, now time.Time) error {
	return s.Write(ctx, func(t *Tx) error {
		if err := t.same(seen); err != nil {
			return err
		}
		return t.letGo(n, "", by, now)
	})
}

// Rename gives a mapping, sequence, list or crosswalk another name. edits are the new contents of the texts that name
// it, and of its own text if it has one; they become new versions. The versions under the old name stay for what was
// made with them.
func (s *Store) Rename(ctx context.Context, n Named, to string, edits, seen []uses.Text, by string,
	now time.Time) error {
	return s.Write(ctx, func(t *Tx) error {
		if err := t.same(seen); err != nil {
			return err
		}
		if taken, err := t.known(Named{n.Kind, to}); err != nil || taken {
			return errors.Join(err, fmt.Errorf("%s %s: %w", n.Kind, to, ErrTaken))
		}
		if n.Kind == uses.List || n.Kind == uses.Crosswalk {
			walk := n.Kind == uses.Crosswalk
			version, err := t.nextVersion(to, walk, now)
			if err != nil {
				return err
			}
			if err := t.run(`INSERT INTO list_entries (crosswalk, list, code, since, name, attributes)
				SELECT crosswalk, ?, code, ?, name, attributes FROM list_entries
				WHERE crosswalk = ? AND list = ? AND until IS NULL`, to, version, walk, n.Name); err != nil {
				return err
			}
		}
		if err := t.letGo(n, to, by, now); err != nil {
			return err
		}
		if n.Kind == uses.Mapping { // a token for it also sees what was loaded under its earlier name
			if err := t.run(`UPDATE tokens SET mappings = json_insert(mappings, '$[#]', ?)
				WHERE EXISTS (SELECT 1 FROM json_each(mappings) WHERE value = ?)`, to, n.Name); err != nil {
				return err
			}
		}
		for _, e := range edits {
			if e.Kind == uses.Partner {
				if err := t.run(`UPDATE partners SET text = ?, stored_at = ?, stored_by = ? WHERE name = ?`, e.Text,
					at(now),
					by, e.Name); err != nil {
					return err
				}
			} else if _, err := t.keepText(e.Kind, e.Name, e.Text, by, now); err != nil {
				return err
			}
		}
		return nil
	})
}

// known reports whether a name is in use.
func (t *Tx) known(n Named) (bool, error) {
	query, args := n.count()
	var count int
	err := t.row(query, args, &count)
	return count > 0, err
}

// count is the query that counts the entries of a name.
func (n Named) count() (query string, args []any) {
	table, where := textTables[n.Kind], ` AND version > 0`
	if table == "" {
		table, where = "lists", fmt.Sprintf(` AND crosswalk = %t`, n.Kind == uses.Crosswalk)
	}
	return `SELECT count(*) FROM ` + table + ` x WHERE name = ?` + where + ` AND ` + there(n.Kind, "x.name"),
		[]any{n.Name}
}

// Exists returns nil if a name is in use, and otherwise ErrNotFound with what became of it.
func (s *Store) Exists(ctx context.Context, n Named) error {
	query, args := n.count()
	var count int
	if err := s.r.GetContext(ctx, &count, query, args...); err != nil || count > 0 {
		return err
	}
	return s.gone(ctx, n, fmt.Errorf("%s %s: %w", n.Kind, n.Name, ErrNotFound))
}

// letGo records that a name is not in use any more.
func (t *Tx) letGo(n Named, became, by string, now time.Time) error {
	if known, err := t.known(n); err != nil {
		return err
	} else if !known {
		return fmt.Errorf("%s %s: %w", n.Kind, n.Name, ErrNotFound)
	}
	var busy []string
	switch n.Kind {
	case uses.Mapping:
		if err := t.SelectContext(t.ctx, &busy, `SELECT 'load ' || id FROM loads WHERE mapping = ? AND ended_at IS NULL
			ORDER BY id LIMIT 10`, n.Name); err != nil {
			return err
		}
	case uses.Sequence:
		if err := t.SelectContext(t.ctx, &busy, `SELECT 'run ' || id FROM runs WHERE sequence = ? AND ended_at IS NULL
			ORDER BY id LIMIT 10`, n.Name); err != nil {
			return err
		}
	default:
		version, err := t.nextVersion(n.Name, n.Kind == uses.Crosswalk, now)
		if err != nil {
			return err
		}
		if err := t.run(`UPDATE list_entries SET until = ? WHERE crosswalk = ? AND list = ? AND until IS NULL`, version,
			n.Kind == uses.Crosswalk, n.Name); err != nil {
			return err
		}
	}
	if len(busy) > 0 {
		return &ErrBusy{busy}
	}
	return t.run(`INSERT INTO removed VALUES (?, ?, ?, ?, ?)`, n.Kind, n.Name, at(now), by,
		sql.NullString{String: became, Valid: became != ""})
}

// ErrBusy says which loads or runs have not ended.
type ErrBusy struct{ With []string }

func (e *ErrBusy) Error() string { return fmt.Sprintf("%v has not ended", e.With) }

// Became returns the present name of something that had a name and was renamed since; the same name if it was not.
func (s *Store) Became(ctx context.Context, n Named) (string, error) {
	name := n.Name
	for range 100 { // names may go round
		var next sql.NullString
		err := s.r.GetContext(ctx, &next, `SELECT became FROM removed WHERE kind = ? AND name = ?`, n.Kind, name)
		if errors.Is(err, sql.ErrNoRows) || err == nil && !next.Valid {
			return name, nil
		}
		if err != nil {
			return "", err
		}
		name = next.String
	}
	return n.Name, nil
}

// gone returns an error that says what became of a name that is not in use any more.
func (s *Store) gone(ctx context.Context, n Named, err error) error {
	if !errors.Is(err, ErrNotFound) {
		return err
	}
	if now, lookErr := s.Became(ctx, n); lookErr == nil && now != n.Name {
		return fmt.Errorf("%s %s (it is called %s now): %w", n.Kind, n.Name, now, ErrNotFound)
	}
	return err
}
