package store

import (
	"context"
	"time"

	"koinos/api"
)

// Departed records that an interchange of ours is sent, and who sent it.
func (t *Tx) Departed(interchange int64, by string, now time.Time) error {
	return t.run(`INSERT INTO departures VALUES (?, ?, ?)`, interchange, at(now), by)
}

// NotDeparted deletes the last departure of an interchange.
func (t *Tx) NotDeparted(interchange int64) error {
	return t.run(`DELETE FROM departures WHERE rowid = (SELECT max(rowid) FROM departures WHERE interchange = ?)`,
		interchange)
}

// Superseded records that an interchange need not be acknowledged any more because a copy of it is sent.
func (t *Tx) Superseded(interchange int64) error {
	return t.run(`UPDATE interchanges SET due_at = NULL WHERE id = ?`, interchange)
}

// departures reads when an interchange was sent, and the copies that were made of it.
func (s *Store) departures(ctx context.Context, i *api.Interchange) error {
	var rows []struct {
		At string `db:"at"`
		By string `db:"by"`
	}
	if err := s.r.SelectContext(ctx, &rows, `SELECT at, by FROM departures WHERE interchange = ? ORDER BY rowid`,
		i.ID); err != nil {
		return err
	}
	for _, r := range rows {
		i.Departures = append(i.Departures, api.Departure{At: parseTime(r.At), By: r.By})
	}
	return s.r.SelectContext(ctx, &i.Copies, `SELECT id FROM interchanges WHERE copy_of = ? ORDER BY id`, i.ID)
}
