package store

import (
	"context"
	"database/sql"

	"koinos/api"
)

// AddAudit notes what an administrator changed.
func (s *Store) AddAudit(ctx context.Context, a api.Audit) error {
	return s.Write(ctx, func(t *Tx) error {
		return t.run(`INSERT INTO audit (at, by, token, from_ip, did, path, status, request)
			VALUES (?, ?, ?, ?, ?, ?, ?, ?)`,
			at(a.At), a.By, sql.NullInt64{Int64: a.Token, Valid: a.Token != 0}, a.From, a.Did, a.Path, a.Status,
			a.Request)
	})
}

// Audit lists what administrators changed, newest first. With before 0 it begins with the newest.
func (s *Store) Audit(ctx context.Context, before int64, limit int) ([]api.Audit, error) {
	var rows []struct {
		ID      int64         `db:"id"`
		At      string        `db:"at"`
		By      string        `db:"by"`
		Token   sql.NullInt64 `db:"token"`
		From    string        `db:"from_ip"`
		Did     string        `db:"did"`
		Path    string        `db:"path"`
		Status  int           `db:"status"`
		Request string        `db:"request"`
	}
	err := s.r.SelectContext(ctx, &rows, `SELECT * FROM audit WHERE ? = 0 OR id < ? ORDER BY id DESC LIMIT ?`, before,
		before, limit)
	list := make([]api.Audit, len(rows))
	for i, r := range rows {
		list[i] = api.Audit{ID: r.ID, At: parseTime(r.At), By: r.By, Token: r.Token.Int64, From: r.From, Did: r.Did,
			Path: r.Path, Status: r.Status, Request: r.Request}
	}
	return list, err
}
