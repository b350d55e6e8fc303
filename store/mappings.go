package store

import (
	"context"
	"database/sql"

	"koinos/api"
	"koinos/core/uses"
)

type mappingRow struct {
	Name     string `db:"name"`
	Version  int    `db:"version"`
	Text     string `db:"text"`
	StoredAt string `db:"stored_at"`
	StoredBy string `db:"stored_by"`
}

func (r *mappingRow) mapping() api.Mapping {
	return api.Mapping{Name: r.Name, Version: r.Version, Text: r.Text, StoredAt: parseTime(r.StoredAt),
		StoredBy: r.StoredBy}
}

// PutMapping stores a mapping. If its text is new, it becomes a new version.
func (s *Store) PutMapping(ctx context.Context, m api.Mapping) (kept api.Mapping, err error) {
	version, err := s.putText(ctx, uses.Mapping, m.Name, m.Text, m.StoredBy, m.StoredAt)
	if err != nil {
		return kept, err
	}
	return s.Mapping(ctx, m.Name, version)
}

// TryMapping stores a mapping for dry runs only, under a version below zero: it does not appear in lists and is never
// the newest version.
func (s *Store) TryMapping(ctx context.Context, m api.Mapping) (tried api.Mapping, err error) {
	err = s.Write(ctx, func(t *Tx) error {
		var rows []mappingRow
		if err := t.SelectContext(t.ctx, &rows,
			`SELECT * FROM mappings WHERE name = ? AND version < 0 ORDER BY version`, m.Name); err != nil {
			return err
		}
		tried = m
		tried.Version = -1
		for i := range rows {
			if rows[i].Text == m.Text {
				tried = rows[i].mapping()
				return nil
			}
			tried.Version = min(tried.Version, rows[i].Version-1)
		}
		return t.run(`INSERT INTO mappings VALUES (?, ?, ?, ?, ?)`, m.Name, tried.Version, m.Text, at(m.StoredAt),
			m.StoredBy)
	})
	return tried, err
}

// Mapping returns a version of a mapping, even of a removed one. Version 0 is the newest of one that was not removed.
func (s *Store) Mapping(ctx context.Context, name string, version int) (api.Mapping, error) {
	var row mappingRow
	if version != 0 {
		err := s.r.GetContext(ctx, &row, `SELECT * FROM mappings WHERE name = ? AND version = ?`, name, version)
		return row.mapping(), named(err, "mapping %s version %d", name, version)
	}
	err := s.r.GetContext(ctx, &row, `SELECT * FROM mappings m WHERE name = ? AND version > 0 AND `+
		there(uses.Mapping, "m.name")+` ORDER BY version DESC LIMIT 1`, name)
	return row.mapping(), s.gone(ctx, Named{uses.Mapping, name}, named(err, "mapping %s", name))
}

// Mappings lists the newest version of every mapping by name.
func (s *Store) Mappings(ctx context.Context) ([]api.Mapping, error) {
	var rows []mappingRow
	err := s.r.SelectContext(ctx, &rows,
		`SELECT * FROM mappings m WHERE version > 0 AND version = (SELECT max(version) FROM mappings
			WHERE name = m.name) AND `+there(uses.Mapping, "m.name")+` ORDER BY name`)
	list := make([]api.Mapping, len(rows))
	for i := range rows {
		list[i] = rows[i].mapping()
	}
	return list, err
}

// MappingVersions lists the versions of a mapping, newest first.
func (s *Store) MappingVersions(ctx context.Context, name string) ([]api.Mapping, error) {
	var rows []mappingRow
	if err := s.r.SelectContext(ctx, &rows,
		`SELECT * FROM mappings WHERE name = ? AND version > 0 ORDER BY version DESC`, name); err != nil {
		return nil, err
	}
	if len(rows) == 0 {
		return nil, named(sql.ErrNoRows, "mapping %s", name)
	}
	list := make([]api.Mapping, len(rows))
	for i := range rows {
		list[i] = rows[i].mapping()
	}
	return list, nil
}
