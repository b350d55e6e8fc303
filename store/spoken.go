package store

import (
	"context"
	"encoding/json"
	"errors"
	"slices"
	"strings"

	"koinos/core/order"
)

// Spoken is what a notice calls its order: our number, the sender's, or, without either, references that the order has.
// Without a partner it may be anybody's order.
type Spoken struct {
	Kind                    order.Kind
	Partner, Number, Sender string
	References              []order.Reference
}

// Spoken reads the orders that notices are about, each as it is now, and what is known about some movements. An order
// is nil if none or more than one fits, if an earlier notice was about it, or if there would be more lines in all than
// lines.
func (s *Store) Spoken(ctx context.Context, names []Spoken, moves []MovementKey, lines int) (orders []*StoredOrder,
	known map[MovementKey]Posted, err error) {
	tx, err := s.r.BeginTxx(ctx, nil) // all of one moment
	if err != nil {
		return nil, nil, err
	}
	defer func() { _ = tx.Rollback() }()
	known = map[MovementKey]Posted{}
	if err := readPosted(ctx, tx, moves, known); err != nil {
		return nil, nil, err
	}
	found, err := ordersOf(ctx, tx, names)
	if err != nil {
		return nil, nil, err
	}
	var ids []int64
	for _, of := range found {
		if len(of) == 1 {
			ids = append(ids, of[0].ID)
		}
	}
	byID, err := ordersNow(ctx, tx, ids, lines)
	if err != nil {
		return nil, nil, err
	}
	orders = make([]*StoredOrder, len(names))
	for i, of := range found {
		if len(of) == 1 {
			orders[i] = byID[of[0].ID]
			delete(byID, of[0].ID)
		}
	}
	return orders, known, nil
}

// OrdersOf finds the orders that a notice may mean. More than one result means that what it calls its order is
// ambiguous.
func (s *Store) OrdersOf(ctx context.Context, n Spoken) ([]int64, error) {
	found, err := ordersOf(ctx, s.r, []Spoken{n})
	if err != nil {
		return nil, err
	}
	return idsOf(found[0]), nil
}

// OrdersOf is Store.OrdersOf for many at once, in their order, including what the transaction has written.
func (t *Tx) OrdersOf(all []Spoken) ([][]int64, error) {
	found, err := ordersOf(t.ctx, t, all)
	if err != nil {
		return nil, err
	}
	of := make([][]int64, len(all))
	for i := range found {
		of[i] = idsOf(found[i])
	}
	return of, nil
}

// meant is an order that a notice may mean, and whose it is.
type meant struct {
	ID      int64
	Partner string
	Name    string
}

func idsOf(all []meant) []int64 {
	var of []int64
	for _, m := range all {
		of = append(of, m.ID)
	}
	return of
}

// PartnersOf tells whose the orders are that notices mean; "" where nobody's order fits, or orders of several partners.
func (s *Store) PartnersOf(ctx context.Context, all []Spoken) ([]string, error) {
	return partnersOf(ctx, s.r, all)
}

// PartnersOf is Store.PartnersOf, including what the transaction has written.
func (t *Tx) PartnersOf(all []Spoken) ([]string, error) { return partnersOf(t.ctx, t, all) }

func partnersOf(ctx context.Context, q querier, all []Spoken) ([]string, error) {
	found, err := ordersOf(ctx, q, all)
	if err != nil {
		return nil, err
	}
	partners := make([]string, len(all))
	for i, some := range found {
		if len(some) > 0 && !slices.ContainsFunc(some, func(m meant) bool { return m.Partner != some[0].Partner }) {
			partners[i] = some[0].Partner
		}
	}
	return partners, nil
}

// PartnerOf tells whose some orders are; "" where they are of several partners.
func (t *Tx) PartnerOf(ids []int64) (string, error) {
	if len(ids) == 0 {
		return "", nil
	}
	where, arg := among("id", ids...)
	var partners []string
	err := t.SelectContext(t.ctx, &partners, `SELECT DISTINCT partner FROM orders WHERE `+where+` LIMIT 2`, arg)
	if err != nil || len(partners) != 1 {
		return "", err
	}
	return partners[0], nil
}

// side is whose orders a number is looked for in.
type side struct {
	kind    order.Kind
	partner string
}

// called is a number among those of one side.
type called struct {
	side
	number string
}

func ordersOf(ctx context.Context, q querier, all []Spoken) ([][]meant, error) {
	numbers, senders := map[side][]string{}, map[side][]string{}
	for _, n := range all {
		of := side{n.Kind, n.Partner}
		if n.Number != "" {
			numbers[of] = append(numbers[of], n.Number, strings.ToUpper(n.Number))
		}
		if n.Sender != "" {
			senders[of] = append(senders[of], n.Sender)
		}
	}
	look := func(of map[side][]string, query string, as func(string) string) (map[called][]meant, error) {
		found := map[called][]meant{}
		for from, list := range of {
			text, err := json.Marshal(list)
			if err != nil {
				return nil, err
			}
			var rows []meant
			if err := q.SelectContext(ctx, &rows, query, string(from.kind), from.partner, string(text)); err != nil {
				return nil, err
			}
			for _, r := range rows {
				key := called{from, as(r.Name)}
				found[key] = append(found[key], r)
			}
		}
		return found, nil
	}
	byNumber, err := look(numbers, `SELECT id, partner, number AS name FROM orders
	  WHERE kind = ?1 AND (?2 = '' OR +partner = ?2) AND number IN (SELECT value FROM json_each(?3))`, func(n string) string { return n })
	bySender, senderErr := look(senders, `SELECT id, partner, sender_number AS name FROM orders WHERE +kind = ?1 AND (?2 = '' OR +partner = ?2)
	  AND sender_number COLLATE NOCASE IN (SELECT value FROM json_each(?3)) ORDER BY id`, fold)
	if err := errors.Join(err, senderErr); err != nil {
		return nil, err
	}
	found := make([][]meant, len(all))
	for i, n := range all {
		of := side{n.Kind, n.Partner}
		if n.Number != "" {
			found[i] = byNumber[called{of, n.Number}]
			if upper := strings.ToUpper(n.Number); upper != n.Number {
				found[i] = slices.Concat(found[i], byNumber[called{of, upper}])
			}
		}
		if len(found[i]) == 0 && n.Sender != "" {
			found[i] = bySender[called{of, fold(n.Sender)}]
		}
		if n.Number+n.Sender == "" && len(n.References) > 0 {
			if found[i], err = referredTo(ctx, q, n); err != nil {
				return nil, err
			}
		}
	}
	return found, nil
}

// referredTo returns the orders that have all references of a notice, at most two of them.
func referredTo(ctx context.Context, q querier, n Spoken) (found []meant, err error) {
	first := n.References[0]
	query, args := `SELECT o.id, o.partner FROM order_references r CROSS JOIN orders o ON o.id = r.order_id
	  WHERE r.qualifier = ? AND r.value = ? AND o.kind = ? AND (? = '' OR o.partner = ?)`,
		[]any{first.Qualifier, first.Value, string(n.Kind), n.Partner, n.Partner}
	for _, r := range n.References[1:] {
		query += ` AND EXISTS (SELECT 1 FROM order_references WHERE qualifier = ? AND value = ? AND order_id = o.id)`
		args = append(args, r.Qualifier, r.Value)
	}
	err = q.SelectContext(ctx, &found, query+` ORDER BY r.order_id LIMIT 2`, args...)
	return found, err
}

// Namesake is an order that has a number, as its own or as its sender's.
type Namesake struct {
	ID     int64
	Kind   order.Kind
	Number string
	Sender string `db:"sender"`
}

// Namesake returns the newest order of a partner, or of anybody, that has a number, of whichever kind the order is and
// whosever number it is; nil if there is none.
func (t *Tx) Namesake(partner, number string) (*Namesake, error) {
	var found []Namesake
	err := t.SelectContext(t.ctx, &found, `SELECT id, kind, number, coalesce(sender_number, '') AS sender FROM orders
	  WHERE kind IN ('sales', 'purchase') AND number IN (?1, ?2) AND (?3 = '' OR +partner = ?3)
	  UNION ALL SELECT id, kind, number, sender_number FROM orders WHERE sender_number = ?1 COLLATE NOCASE
	  AND (?3 = '' OR +partner = ?3) ORDER BY 1 DESC LIMIT 1`, number, strings.ToUpper(number), partner)
	if err != nil || len(found) == 0 {
		return nil, err
	}
	return &found[0], nil
}

// fold is a text as NOCASE compares it, with the letters of ASCII in lower case.
func fold(s string) string {
	return strings.Map(func(r rune) rune {
		if r >= 'A' && r <= 'Z' {
			return r + 'a' - 'A'
		}
		return r
	}, s)
}
