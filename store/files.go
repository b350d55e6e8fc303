package store

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"koinos/api"
)

type fileRow struct {
	ID       int64  `db:"id"`
	System   string `db:"system"`
	Record   string `db:"record"`
	Name     string `db:"name"`
	Size     int64  `db:"size"`
	Modified string `db:"modified"`
	FileID   string `db:"file_id"`
	State    string `db:"state"`
	Reason   string `db:"reason"`
	Records  int    `db:"records"`
	Document string `db:"document"`
	Answer   string `db:"answer"`
	Settled  bool   `db:"settled"`
	Pull     int64  `db:"pull"`
	At       string `db:"at"`
}

func (r *fileRow) file() api.SystemFile {
	return api.SystemFile{ID: r.ID, System: r.System, Record: r.Record, Name: r.Name, Size: r.Size,
		Modified: parseTime(r.Modified), FileID: r.FileID, State: r.State, Reason: r.Reason, Records: r.Records,
		Document: r.Document, Answer: r.Answer, Settled: r.Settled, Pull: r.Pull, At: parseTime(r.At)}
}

// AddFile stores what was found in a file, at one appearance.
func (t *Tx) AddFile(f *api.SystemFile) error {
	res, err := t.exec(`INSERT INTO files (system, record, name, size, modified, file_id, state, reason, records, document, answer,
	  settled, pull, at) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`, f.System, f.Record, f.Name, f.Size,
		at(f.Modified), f.FileID, f.State, f.Reason, f.Records, f.Document, f.Answer, f.Settled, f.Pull, at(f.At))
	if err != nil {
		return err
	}
	f.ID, err = res.LastInsertId()
	return err
}

// SettleFile records that a file was answered, and moved to where it belongs.
func (s *Store) SettleFile(ctx context.Context, id int64) error {
	return s.Write(ctx, func(t *Tx) error { return t.run(`UPDATE files SET settled = 1 WHERE id = ?`, id) })
}

// Appearance returns the file of a name as it was found, if it is still the same.
func (s *Store) Appearance(ctx context.Context, system, record, name string, size int64,
	modified time.Time) (f api.SystemFile,
	is bool, err error) {
	return s.fileOf(ctx, `system = ? AND record = ? AND name = ? AND size = ? AND modified = ? ORDER BY id DESC LIMIT 1`,
		system,
		record, name, size, at(modified))
}

// TakenFile returns the file with an id that was processed.
func (s *Store) TakenFile(ctx context.Context, system, record, id string) (f api.SystemFile, is bool, err error) {
	return s.fileOf(ctx, `system = ? AND record = ? AND file_id = ? AND state = 'taken' ORDER BY id LIMIT 1`, system,
		record, id)
}

func (s *Store) fileOf(ctx context.Context, where string, args ...any) (f api.SystemFile, is bool, err error) {
	var row fileRow
	err = s.r.GetContext(ctx, &row, `SELECT * FROM files WHERE `+where, args...)
	if errors.Is(err, sql.ErrNoRows) {
		return f, false, nil
	}
	return row.file(), err == nil, err
}

// Files lists the files of a system, newest first.
func (s *Store) Files(ctx context.Context, system string, before int64, limit int) ([]api.SystemFile, error) {
	var rows []fileRow
	err := s.r.SelectContext(ctx, &rows,
		`SELECT * FROM files WHERE system = ? AND (? = 0 OR id < ?) ORDER BY id DESC LIMIT ?`,
		system, before, before, limit)
	list := make([]api.SystemFile, len(rows))
	for i := range rows {
		list[i] = rows[i].file()
	}
	return list, err
}
