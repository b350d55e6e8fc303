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

// EachOrder yields the orders of a filter, newest first, each as it is now, without its movements and events. Orders
// that are stored meanwhile are left out. One that is changed is yielded once, as it is when its turn comes.
func (s *Store) EachOrder(ctx context.Context, f OrderFilter, do func(*order.Order) error) error {
	f.Limit = read
	return ahead(ctx, func(ctx context.Context, give func(orders) bool) error {
		for {
			ids, next, err := s.orderIDs(ctx, f)
			if err != nil {
				return err
			}
			if !give(func(ctx context.Context) ([]*StoredOrder, error) { return s.ordersNow(ctx, ids) }) {
				return nil
			}
			if f.Before = next; next == 0 {
				return nil
			}
		}
	}, do)
}

// orders reads some orders.
type orders func(context.Context) ([]*StoredOrder, error)

// ahead reads the orders of from in goroutines of their own, a batch at a time, while earlier ones are being used. It
// yields them in their order.
func ahead(ctx context.Context, from func(ctx context.Context, give func(orders) bool) error,
	do func(*order.Order) error) error {
	type page struct {
		list []*StoredOrder
		err  error
	}
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	pages, failed := make(chan chan page, 1), make(chan error, 1)
	go func() {
		defer close(pages)
		failed <- caught(func() error {
			return from(ctx, func(read orders) bool {
				one := make(chan page, 1)
				go func() {
					var p page
					p.err = caught(func() (err error) {
						p.list, err = read(ctx)
						return err
					})
					one <- p
				}()
				select {
				case pages <- one:
					return true
				case <-ctx.Done():
					return false
				}
			})
		})
	}()
	for one := range pages {
		p := <-one
		if p.err != nil {
			return p.err
		}
		for _, o := range p.list {
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

// EachOrderOf is EachOrder for the orders with these ids, in their order.
func (s *Store) EachOrderOf(ctx context.Context, ids []int64, do func(*order.Order) error) error {
	return ahead(ctx, func(ctx context.Context, give func(orders) bool) error {
		for some := range slices.Chunk(ids, read) {
			if !give(func(ctx context.Context) ([]*StoredOrder, error) { return s.ordersOf(ctx, some) }) {
				return nil
			}
		}
		return nil
	}, do)
}

// ordersOf reads the orders with these ids, in their order, each once. A missing order is an error.
func (s *Store) ordersOf(ctx context.Context, ids []int64) ([]*StoredOrder, error) {
	list, err := s.ordersNow(ctx, ids)
	if err != nil {
		return nil, err
	}
	at := make(map[int64]int, len(ids))
	for i, id := range ids {
		at[id] = i
	}
	if len(list) != len(at) {
		for _, o := range list {
			delete(at, o.ID)
		}
		return nil, fmt.Errorf("order %d: %w", slices.Min(slices.Collect(maps.Keys(at))), ErrNotFound)
	}
	slices.SortFunc(list, func(a, b *StoredOrder) int { return at[a.ID] - at[b.ID] })
	return list, nil
}

// HeadsOf returns the number, kind and partner of orders, in the order of the ids. A missing order is blank.
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

// ordersNow reads orders with their lines and the quantities of these that have moved, were invoiced and come later,
// all at one moment.
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
	if err := errors.Join(readLines(ctx, tx, list), readSums(ctx, tx, list, ids)); err != nil {
		return nil, err
	}
	byID := make(map[int64]*StoredOrder, len(list))
	for _, o := range list {
		byID[o.ID] = o
	}
	if err := readAnswers(ctx, tx, byID, ids); err != nil {
		return nil, err
	}
	for _, o := range list {
		if err := o.Show(o.Answers); err != nil {
			return nil, fmt.Errorf("order %d: %w", o.ID, err)
		}
	}
	return list, nil
}
