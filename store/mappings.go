package store

import (
	"context"
	"database/sql"
	"time"
)

// Mapping is one version of a mapping as it is kept.
type Mapping struct {
	Name     string    `json:"name"`
	Version  int       `json:"version"`
	Text     string    `json:"text,omitempty"`
	StoredAt time.Time `json:"stored_at"`
	StoredBy string    `json:"stored_by"`
}

type mappingRow struct {
	Name     string `db:"name"`
	Version  int    `db:"version"`
	Text     string `db:"text"`
	StoredAt string `db:"stored_at"`
	StoredBy string `db:"stored_by"`
}

func (r *mappingRow) mapping() Mapping {
	return Mapping{r.Name, r.Version, r.Text, parseTime(r.StoredAt), r.StoredBy}
}

// PutMapping keeps a mapping: a new version where its text is new.
func (s *Store) PutMapping(ctx context.Context, m Mapping) (kept Mapping, err error) {
	err = s.Write(ctx, func(t *Tx) error {
		var last []mappingRow
		if err := t.tx.SelectContext(ctx, &last, `SELECT * FROM mappings WHERE name = ? ORDER BY version DESC LIMIT 1`, m.Name); err != nil {
			return err
		}
		if len(last) == 1 && last[0].Text == m.Text {
			kept = last[0].mapping()
			return nil
		}
		kept = m
		kept.Version = 1
		if len(last) == 1 {
			kept.Version = last[0].Version + 1
		}
		_, err := t.exec(`INSERT INTO mappings VALUES (?, ?, ?, ?, ?)`, m.Name, kept.Version, m.Text, at(m.StoredAt), m.StoredBy)
		return err
	})
	return kept, err
}

// Mapping gives a version of a mapping; version 0 is the newest.
func (s *Store) Mapping(ctx context.Context, name string, version int) (Mapping, error) {
	var row mappingRow
	err := s.r.GetContext(ctx, &row, `SELECT * FROM mappings WHERE name = ? AND (? = 0 OR version = ?) ORDER BY version DESC LIMIT 1`, name, version, version)
	if version > 0 {
		return row.mapping(), named(err, "mapping %s version %d", name, version)
	}
	return row.mapping(), named(err, "mapping %s", name)
}

// Mappings lists the newest version of every mapping by name.
func (s *Store) Mappings(ctx context.Context) ([]Mapping, error) {
	var rows []mappingRow
	err := s.r.SelectContext(ctx, &rows, `SELECT * FROM mappings m WHERE version = (SELECT max(version) FROM mappings WHERE name = m.name) ORDER BY name`)
	list := make([]Mapping, len(rows))
	for i := range rows {
		list[i] = rows[i].mapping()
	}
	return list, err
}

// MappingVersions lists the versions of a mapping, newest first.
func (s *Store) MappingVersions(ctx context.Context, name string) ([]Mapping, error) {
	var rows []mappingRow
	if err := s.r.SelectContext(ctx, &rows, `SELECT * FROM mappings WHERE name = ? ORDER BY version DESC`, name); err != nil {
		return nil, err
	}
	if len(rows) == 0 {
		return nil, named(sql.ErrNoRows, "mapping %s", name)
	}
	list := make([]Mapping, len(rows))
	for i := range rows {
		list[i] = rows[i].mapping()
	}
	return list, nil
}
