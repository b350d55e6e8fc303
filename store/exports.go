package store

import (
	"context"
	"fmt"
	"sort"
	"time"

	"koinos/api"
)

// PutExport stores an export under its name. With position 0, the stored position stays.
func (s *Store) PutExport(ctx context.Context, e api.Export, now time.Time) error {
	return s.Write(ctx, func(t *Tx) error {
		return t.run(`INSERT INTO exports (name, choice, position, at, by) VALUES (?, ?, ?, ?, ?)
		  ON CONFLICT DO UPDATE SET choice = excluded.choice, at = excluded.at, by = excluded.by,
		    position = CASE excluded.position WHEN 0 THEN position ELSE excluded.position END`,
			e.Name, e.Choice, e.Position, at(now), e.By)
	})
}

// Exports lists the stored exports by name, or only the one with a given name.
func (s *Store) Exports(ctx context.Context, name string) ([]api.Export, error) {
	var rows []struct {
		api.Export
		At string `db:"at"`
	}
	if err := s.r.SelectContext(ctx, &rows, `SELECT name, choice, position, at, by FROM exports WHERE ? IN ('', name) ORDER BY name`,
		name); err != nil {
		return nil, err
	}
	list := []api.Export{}
	for i := range rows {
		rows[i].Export.At = parseTime(rows[i].At)
		list = append(list, rows[i].Export)
	}
	return list, nil
}

// DropExport deletes an export; ErrNotFound says that there is none of the name.
func (s *Store) DropExport(ctx context.Context, name string) error {
	return s.Write(ctx, func(t *Tx) error {
		res, err := t.exec(`DELETE FROM exports WHERE name = ?`, name)
		if err != nil {
			return err
		}
		if n, err := res.RowsAffected(); err != nil {
			return err
		} else if n == 0 {
			return fmt.Errorf("export %s: %w", name, ErrNotFound)
		}
		return nil
	})
}

// ChangedOrders returns the ids of orders to which something happened behind a position of the change feed, the newest
// order first, and the position up to which it looked.
func (s *Store) ChangedOrders(ctx context.Context, since int64) (ids []int64, position int64, err error) {
	if err := s.r.GetContext(ctx, &position, `SELECT coalesce(max(n), 0) FROM events`); err != nil {
		return nil, 0, err
	}
	err = s.r.SelectContext(ctx, &ids, `SELECT DISTINCT e.order_id FROM events e JOIN orders o ON o.id = e.order_id
	  WHERE e.n > ? AND e.n <= ? ORDER BY e.order_id DESC`, since, position)
	return ids, position, err
}

// PositionAt is the position of the change feed at a moment: everything that happened then or later is behind it.
func (s *Store) PositionAt(ctx context.Context, t time.Time) (int64, error) {
	var last int64
	if err := s.r.GetContext(ctx, &last, `SELECT coalesce(max(n), 0) FROM events`); err != nil {
		return 0, err
	}
	var failed error
	moment := at(t)
	n := sort.Search(int(last), func(i int) bool { // events that were removed leave gaps
		var when []string
		if err := s.r.SelectContext(ctx, &when, `SELECT at FROM events WHERE n > ? ORDER BY n LIMIT 1`, i); err != nil {
			failed = err
		}
		return len(when) == 0 || when[0] >= moment
	})
	return int64(n), failed
}
