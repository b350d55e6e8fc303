package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"

	"koinos/api"
	"koinos/core/order"
)

// read is how many orders EachOrder reads at a time.
const read = 500

// EachOrder gives the orders of a filter, newest first, each as it is now, without its movements and its story. Orders
// that are stored meanwhile are not among them; one that is changed is given once, as it is when its turn comes.
func (s *Store) EachOrder(ctx context.Context, f OrderFilter, do func(*order.Order) error) error {
	f.Limit = read
	return ahead(ctx, func(ctx context.Context, give func([]*StoredOrder) bool) error {
		for {
			found, next, err := s.Orders(ctx, f)
			if err != nil {
				return err
			}
			ids := make([]int64, len(found))
			for i := range found {
				ids[i] = found[i].ID
			}
			list, err := s.ordersNow(ctx, ids)
			if err != nil || !give(list) {
				return err
			}
			if f.Before = next; next == 0 {
				return nil
			}
		}
	}, do)
}

// ahead reads orders in a goroutine of its own, some at a time, while those before are dealt with.
func ahead(ctx context.Context, from func(ctx context.Context, give func([]*StoredOrder) bool) error, do func(*order.Order) error) error {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	full, failed := make(chan []*StoredOrder, 1), make(chan error, 1)
	go func() {
		defer close(full)
		failed <- caught(func() error {
			return from(ctx, func(list []*StoredOrder) bool {
				select {
				case full <- list:
					return true
				case <-ctx.Done():
					return false
				}
			})
		})
	}()
	for list := range full {
		for _, o := range list {
			if err := do(&o.Order); err != nil {
				return err
			}
		}
	}
	if err := <-failed; err != nil {
		return err
	}
	return ctx.Err()
}

// EachOrderOf is EachOrder of the orders that have these ids, in their order.
func (s *Store) EachOrderOf(ctx context.Context, ids []int64, do func(*order.Order) error) error {
	return ahead(ctx, func(ctx context.Context, give func([]*StoredOrder) bool) error {
		for some := range slices.Chunk(ids, read) {
			list, err := s.ordersNow(ctx, some)
			if err != nil {
				return err
			}
			at := make(map[int64]int, len(some))
			for i, id := range some {
				at[id] = i
			}
			if len(list) != len(at) {
				for _, o := range list {
					delete(at, o.ID)
				}
				return fmt.Errorf("order %d: %w", slices.Min(slices.Collect(maps.Keys(at))), ErrNotFound)
			}
			slices.SortFunc(list, func(a, b *StoredOrder) int { return at[a.ID] - at[b.ID] })
			if !give(list) {
				return nil
			}
		}
		return nil
	}, do)
}

// HeadsOf gives the number, kind and partner of orders, in the order of the ids; one that is not there is blank.
func (s *Store) HeadsOf(ctx context.Context, ids []int64) ([]api.OrderSummary, error) {
	text, err := json.Marshal(ids)
	if err != nil {
		return nil, err
	}
	var list []api.OrderSummary
	err = s.r.SelectContext(ctx, &list, `SELECT coalesce(o.id, 0) AS id, coalesce(o.number, '') AS number, coalesce(o.kind, '') AS kind,
	  coalesce(o.partner, '') AS partner FROM json_each(?) e LEFT JOIN orders o ON o.id = e.value ORDER BY e.key`, string(text))
	return list, err
}

// ordersNow reads orders with their lines and what has moved and was invoiced of these, all of one moment.
func (s *Store) ordersNow(ctx context.Context, ids []int64) ([]*StoredOrder, error) {
	if len(ids) == 0 {
		return nil, nil
	}
	tx, err := s.r.BeginTxx(ctx, &sql.TxOptions{ReadOnly: true})
	if err != nil {
		return nil, err
	}
	defer func() { _ = tx.Rollback() }() // nothing was written
	list, err := readHeads(ctx, tx, ids...)
	if err != nil {
		return nil, err
	}
	return list, errors.Join(readLines(ctx, tx, list), readSums(ctx, tx, list, ids))
}

// readSums reads what has moved and was invoiced of the lines of orders.
func readSums(ctx context.Context, q querier, list []*StoredOrder, ids []int64) error {
	var rows []struct {
		Order    int64  `db:"order_id"`
		Line     int    `db:"line_id"`
		Kind     string `db:"kind"`
		Quantity string `db:"quantity"`
	}
	where, arg := among("l.order_id", ids...)
	if err := q.SelectContext(ctx, &rows, `SELECT l.order_id, l.line_id, m.kind, l.quantity FROM movement_lines l
	  JOIN movements m ON m.id = l.movement_id WHERE `+where+` UNION ALL
	  SELECT l.order_id, l.line_id, 'invoice' AS kind, l.quantity FROM invoice_lines l WHERE `+where, arg, arg); err != nil {
		return err
	}
	byID := map[int64]*order.Order{}
	for _, o := range list {
		byID[o.ID] = &o.Order
	}
	for i := range rows {
		r := &rows[i]
		o := byID[r.Order]
		at := o.Position(r.Line)
		if at == 0 {
			continue // of a line that is not there any more
		}
		sum := &o.Lines[at-1].Invoiced
		if r.Kind != "invoice" {
			sum = o.Lines[at-1].Moved(order.MovementKind(r.Kind))
		}
		n, err := order.ParseNumber(r.Quantity)
		if err == nil {
			*sum, err = sum.Add(n)
		}
		if err != nil {
			return fmt.Errorf("order %d line %d: %w", r.Order, r.Line, err)
		}
	}
	return nil
}
