package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"koinos/api"
	"koinos/core/order"
)

// NewOrder is an order to be stored.
type NewOrder struct {
	Order       *order.Order // gets its ID, Number, Revision and the ids of its lines
	Identity    string
	Fingerprint [32]byte
	Trace       []byte // JSON of an origin.Trace
	Lines       []any  // what PackLines gave; nil where it was not asked
	Seq         int    // which order of the load's document
	*Source
}

// Source is what brings orders or changes of them: a load, a posted document, or neither.
type Source struct {
	Load     int64
	Document string // SHA-256, where there is no load
	By       string
}

func (s *Source) load() any {
	if s.Load == 0 {
		return nil
	}
	return s.Load
}

// Known is what a load needs to know about a stored order.
type Known struct {
	ID          int64  `db:"id"`
	Identity    string `db:"identity"`
	Number      string `db:"number"`
	Fingerprint []byte `db:"fingerprint"`
}

// KnownOrders returns the stored orders with the identities, by identity, including what the transaction itself has
// written.
func (t *Tx) KnownOrders(identities []string) (map[string]Known, error) {
	return knownBy(t, "identity", identities, func(k *Known) string { return k.Identity })
}

// KnownNumbers returns the stored orders of a kind that have one of the numbers.
func (t *Tx) KnownNumbers(kind order.Kind, numbers []string) (map[string]Known, error) {
	return knownBy(t, "kind = '"+string(kind)+"' AND number", numbers, func(k *Known) string { return k.Number })
}

func knownBy(t *Tx, column string, values []string, key func(*Known) string) (map[string]Known, error) {
	known := map[string]Known{}
	if t.broken != nil {
		return nil, t.broken
	}
	for len(values) > 0 {
		chunk := 200
		switch {
		case len(values) < 4:
			chunk = 1
		case len(values) <= 32:
			chunk = 32
		case len(values) <= 64:
			chunk = 64
		}
		n := min(chunk, len(values))
		args := make([]any, chunk)
		for i := range chunk { // always the same statement: the last chunk repeats its first value
			args[i] = values[0]
			if i < n {
				args[i] = values[i]
			}
		}
		values = values[n:]
		stmt, err := t.prepared(`SELECT id, identity, number, fingerprint FROM orders WHERE ` + column + ` IN (?` +
			strings.Repeat(", ?", chunk-1) + `)`)
		if err != nil {
			return nil, t.failed(err)
		}
		rows, err := stmt.QueryContext(t.ctx, args...)
		if err != nil {
			return nil, t.failed(err)
		}
		for rows.Next() {
			var k Known
			if err := rows.Scan(&k.ID, &k.Identity, &k.Number, &k.Fingerprint); err != nil {
				rows.Close()
				return nil, err
			}
			known[key(&k)] = k
		}
		if err := rows.Err(); err != nil {
			return nil, t.failed(err)
		}
	}
	return known, nil
}

// headerMore is the part of a header that is stored as JSON.
func headerMore(o *order.Order) (any, error) {
	more := *o
	more.ID, more.Kind, more.Number, more.SenderNumber, more.Partner = 0, "", "", "", ""
	more.OrderedOn, more.RequestedShipOn, more.RequestedDeliveryOn, more.Currency = "", "", "", ""
	more.Total, more.Status, more.Revision, more.Lines, more.Statement = order.Number{}, "", 0, nil, nil
	return jsonOrNull(more)
}

// PackLines returns the part of each line of an order that is stored as JSON; nil is nothing. A load calls it outside
// the writer's transaction.
func PackLines(o *order.Order) ([]any, error) {
	packed := make([]any, len(o.Lines))
	var b []byte
	for i := range o.Lines {
		l := &o.Lines[i]
		b = append(b[:0], '{')
		text := func(name, value string) {
			if value != "" {
				if len(b) > 1 {
					b = append(b, ',')
				}
				b = append(append(append(b, '"'), name...), '"', ':')
				b = appendString(b, value)
			}
		}
		if l.Number != strconv.Itoa(i+1) {
			text("number", l.Number)
		}
		text("sender_line", l.SenderLine)
		text("buyer_item", l.BuyerItem)
		text("supplier_item", l.SupplierItem)
		text("gtin", l.GTIN)
		text("price_basis", l.PriceBasis.String())
		text("tax_percent", l.TaxPercent.String())
		text("amount_stated", l.StatedAmount.String())
		text("requested_ship_on", string(l.RequestedShipOn))
		text("cancelled", l.Cancelled.String())
		text("backordered", l.Backordered.String())
		text("notes", l.Notes)
		more := func(name string, list any) error {
			value, err := json.Marshal(list)
			if len(b) > 1 {
				b = append(b, ',')
			}
			b = append(append(append(append(b, '"'), name...), '"', ':'), value...)
			return err
		}
		if len(l.Earlier) > 0 {
			if err := more("earlier_prices", l.Earlier); err != nil {
				return nil, err
			}
		}
		if len(l.Charges) > 0 {
			if err := more("charges", l.Charges); err != nil {
				return nil, err
			}
		}
		if len(l.Custom) > 0 {
			if err := more("custom", l.Custom); err != nil {
				return nil, err
			}
		}
		if len(l.Deliveries) > 0 {
			if err := more("deliveries", l.Deliveries); err != nil {
				return nil, err
			}
		}
		if len(b) > 1 {
			packed[i] = string(append(b, '}'))
		}
	}
	return packed, nil
}

// appendString appends a JSON string.
func appendString(b []byte, s string) []byte {
	for i := 0; i < len(s); i++ {
		if c := s[i]; c < ' ' || c >= 0x7f || c == '"' || c == '\\' {
			q, err := json.Marshal(s) // a string never fails
			if err != nil {
				return append(b, '"', '"')
			}
			return append(b, q...)
		}
	}
	return append(append(append(b, '"'), s...), '"')
}

func jsonOrNull(v any) (any, error) {
	b, err := json.Marshal(v)
	if err != nil || string(b) == "{}" || string(b) == `{"kind":""}` {
		return nil, err
	}
	return string(b), nil
}

var (
	orderColumns = columnsOf("orders", "id", "kind", "number", "identity", "fingerprint", "status", "revision",
		"sender_number", "partner", "ordered_on",
		"requested_ship_on", "requested_delivery_on", "currency", "total", "line_count", "last_line", "more", "load_id")
	lineColumns = columnsOf("lines", "order_id", "n", "id", "item", "description", "quantity", "unit", "unit_price",
		"discount_percent", "amount",
		"requested_delivery_on", "location", "more")
	eventColumns = columnsOf("events", "order_id", "revision", "at", "by", "action", "load_id", "load_seq", "document",
		"trace")
	changeColumns = columnsOf("events", "order_id", "revision", "at", "by", "action", "load_id", "load_seq", "document",
		"trace", "changes", "was")
)

// InsertOrders stores orders with their lines and the event of their creation. Orders without a number get the next one
// from the series of their kind.
func (t *Tx) InsertOrders(orders []NewOrder, now time.Time) error {
	if len(orders) == 0 {
		return nil
	}
	if t.last == 0 { // what an undo removed counts too
		var last sql.NullInt64
		if err := t.row(`SELECT max(seq) FROM sqlite_sequence WHERE name = 'orders'`, nil, &last); err != nil {
			return err
		}
		t.last = last.Int64
	}
	if err := t.number(orders); err != nil {
		return err
	}
	count := 0
	for i := range orders {
		count += len(orders[i].Order.Lines)
	}
	heads, lines, events := t.bulk(orderColumns, len(orders)), lineRows{t.bulk(lineColumns, count)},
		t.bulk(eventColumns, len(orders))
	when := at(now)
	for i := range orders {
		n := &orders[i]
		o := n.Order
		t.last++
		o.ID, o.Revision, o.LastLine = t.last, 1, 0
		for k := range o.Lines {
			o.Lines[k].ID = 0
		}
		o.NameLines()
		more, err := headerMore(o)
		if err != nil {
			return err
		}
		heads.add(o.ID, string(o.Kind), o.Number, n.Identity, n.Fingerprint[:], string(o.Status), o.Revision,
			null(o.SenderNumber), o.Partner, null(string(o.OrderedOn)),
			null(string(o.RequestedShipOn)), null(string(o.RequestedDeliveryOn)), null(o.Currency), o.Total.String(),
			len(o.Lines), o.LastLine, more, n.load())
		events.add(o.ID, 1, when, n.By, "created", n.load(), n.Seq, null(n.Document), null(string(n.Trace)))
	}
	if err := errors.Join(heads.done(), t.count(len(orders))); err != nil { // before the lines that point at them
		return err
	}
	for i := range orders {
		if err := lines.add(orders[i].Order, orders[i].Lines); err != nil {
			return err
		}
	}
	if err := errors.Join(lines.done(), events.done()); err != nil {
		return err
	}
	moved := t.Changes(now)
	for i := range orders {
		if err := moved.moveStated(nil, orders[i].Order); err != nil {
			return err
		}
	}
	return moved.Done()
}

// lineRows inserts the lines of orders.
type lineRows struct{ *bulk }

// add adds an order's lines. packed is the result of PackLines, or nil if it has not been called yet.
func (r lineRows) add(o *order.Order, packed []any) (err error) {
	if packed == nil {
		if packed, err = PackLines(o); err != nil {
			return err
		}
	}
	for j := range o.Lines {
		l := &o.Lines[j]
		r.bulk.add(o.ID, j+1, l.ID, null(l.Item), null(l.Description), null(l.Quantity.String()), null(l.Unit),
			null(l.UnitPrice.String()), null(l.DiscountPercent.String()),
			null(l.Amount.String()), null(string(l.RequestedDeliveryOn)), null(l.Location), packed[j])
	}
	return nil
}

// count adds to the number of orders.
func (t *Tx) count(more int) error {
	return t.run(`UPDATE totals SET n = n + ? WHERE of = 'orders'`, more)
}

// number gives each order without a number the next one of its kind's series, and skips numbers that somebody else
// assigned by hand.
func (t *Tx) number(orders []NewOrder) error {
	for _, kind := range []order.Kind{order.Sales, order.Purchase} {
		var blank []*order.Order
		for i := range orders {
			if o := orders[i].Order; o.Kind == kind && o.Number == "" {
				blank = append(blank, o)
			}
		}
		if len(blank) == 0 {
			continue
		}
		var series struct {
			Prefix string
			Next   int64
		}
		if err := t.row(`SELECT prefix, next FROM series WHERE kind = ?`, []any{string(kind)}, &series.Prefix,
			&series.Next); err != nil {
			return err
		}
		for len(blank) > 0 {
			numbers := make([]string, len(blank))
			for i := range numbers {
				numbers[i] = fmt.Sprintf("%s%06d", series.Prefix, series.Next+int64(i))
			}
			series.Next += int64(len(numbers))
			taken, err := t.KnownNumbers(kind, numbers)
			if err != nil {
				return err
			}
			for _, n := range numbers {
				if _, ok := taken[n]; !ok {
					blank[0].Number, blank = n, blank[1:]
				}
			}
		}
		if err := t.run(`UPDATE series SET next = ? WHERE kind = ?`, series.Next, string(kind)); err != nil {
			return err
		}
	}
	return nil
}

// StoredOrder is an order with what is known about it.
type StoredOrder struct {
	order.Order
	Movements []order.Movement
	Answers   []order.Answered
	Invoices  []order.Invoice
	Events    []api.Event // oldest first
}

// Order returns a stored order with its lines and events.
func (s *Store) Order(ctx context.Context, id int64) (*StoredOrder, error) {
	tx, err := s.r.BeginTxx(ctx, nil) // header and lines of one moment
	if err != nil {
		return nil, err
	}
	defer func() { _ = tx.Rollback() }()
	return readOrder(ctx, tx, id)
}

// OrderNow returns a stored order as it is, without its events.
func (s *Store) OrderNow(ctx context.Context, id int64) (*StoredOrder, error) {
	tx, err := s.r.BeginTxx(ctx, nil)
	if err != nil {
		return nil, err
	}
	defer func() { _ = tx.Rollback() }()
	return readNow(ctx, tx, id)
}

// Head is a short description of a stored order.
type Head struct {
	Kind         order.Kind `db:"kind"`
	Number       string     `db:"number"`
	SenderNumber string     `db:"sender_number"`
	Partner      string     `db:"partner"`
	Currency     string     `db:"currency"`
	Revision     int        `db:"revision"`
}

// Head returns a short description of a stored order.
func (s *Store) Head(ctx context.Context, id int64) (h Head, err error) {
	err = s.r.GetContext(ctx, &h, `SELECT kind, number, coalesce(sender_number, '') AS sender_number, partner,
	  coalesce(currency, '') AS currency, revision FROM orders WHERE id = ?`, id)
	return h, named(err, "order %d", id)
}

// Revision returns the revision of a stored order.
func (s *Store) Revision(ctx context.Context, id int64) (n int, err error) {
	err = s.r.GetContext(ctx, &n, `SELECT revision FROM orders WHERE id = ?`, id)
	return n, named(err, "order %d", id)
}

// Actions returns what happened to an order, the last first.
func (s *Store) Actions(ctx context.Context, id int64) (all []string, err error) {
	err = s.r.SelectContext(ctx, &all, `SELECT action FROM events WHERE order_id = ? ORDER BY n DESC`, id)
	return all, err
}

// Order returns a stored order as the transaction sees it.
func (t *Tx) Order(id int64) (*StoredOrder, error) { return readOrder(t.ctx, t, id) }

// OrderNow is Order without the order's events.
func (t *Tx) OrderNow(id int64) (*StoredOrder, error) { return readNow(t.ctx, t, id) }

type querier interface {
	SelectContext(ctx context.Context, dest any, query string, args ...any) error
	GetContext(ctx context.Context, dest any, query string, args ...any) error
	QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error)
}

func readOrder(ctx context.Context, tx querier, id int64) (*StoredOrder, error) {
	o, err := readNow(ctx, tx, id)
	if err == nil {
		o.Events, err = readEvents(ctx, tx, `e.order_id = ? ORDER BY e.n`, id)
	}
	return o, err
}

// readNow reads an order without its events.
func readNow(ctx context.Context, tx querier, id int64) (*StoredOrder, error) {
	list, err := readAll(ctx, tx, id)
	if err != nil {
		return nil, err
	}
	if len(list) == 0 {
		return nil, fmt.Errorf("order %d: %w", id, ErrNotFound)
	}
	return list[0], nil
}

// readAll reads orders without their events.
func readAll(ctx context.Context, tx querier, ids ...int64) ([]*StoredOrder, error) {
	list, err := readHeads(ctx, tx, ids...)
	if err != nil || len(list) == 0 {
		return nil, err
	}
	return list, errors.Join(readLines(ctx, tx, list), readMoved(ctx, tx, list))
}

// OrdersNow returns orders as they are, without their events, by their ids, up to a total number of lines. Orders that
// do not exist, or are too long, are left out.
func (t *Tx) OrdersNow(ids []int64, lines int) (map[int64]*StoredOrder, error) {
	return ordersNow(t.ctx, t, ids, lines)
}

func ordersNow(ctx context.Context, q querier, ids []int64, lines int) (map[int64]*StoredOrder, error) {
	byID := make(map[int64]*StoredOrder, len(ids))
	if len(ids) == 0 {
		return byID, nil
	}
	var id int64
	var count int
	fit := ids[:0:0]
	where, arg := among("id", ids...)
	if err := each(ctx, q, func() error {
		if lines -= count; lines >= 0 {
			fit = append(fit, id)
		}
		return nil
	}, []any{&id, &count}, `SELECT id, line_count FROM orders WHERE `+where+` ORDER BY line_count`, arg); err != nil ||
		len(fit) == 0 {
		return byID, err
	}
	list, err := readAll(ctx, q, fit...)
	for _, o := range list {
		byID[o.ID] = o
	}
	return byID, err
}

// among is the condition that a column is one of ids, with its value.
func among(column string, ids ...int64) (string, any) {
	if len(ids) == 1 {
		return column + " = ?", ids[0]
	}
	text, _ := json.Marshal(ids) // numbers are always JSON
	return column + " IN (SELECT value FROM json_each(?))", string(text)
}

// readHeads reads orders without their lines, the newest first.
func readHeads(ctx context.Context, tx querier, ids ...int64) (list []*StoredOrder, err error) {
	var h struct {
		id                                                                              int64
		kind, number, status, sender, partner, on, shipOn, byDay, currency, total, more string
		revision, lines, lastLine                                                       int
	}
	where, arg := among("id", ids...)
	err = each(ctx, tx, func() error {
		o := &StoredOrder{}
		if h.more != "" {
			if err := json.Unmarshal([]byte(h.more), &o.Order); err != nil {
				return fmt.Errorf("order %d: %w", h.id, err)
			}
		}
		o.ID, o.Kind, o.Number, o.Status, o.Revision = h.id, order.Kind(h.kind), h.number, order.Status(h.status), h.revision
		o.SenderNumber, o.Partner, o.Currency, o.LastLine = h.sender, h.partner, h.currency, h.lastLine
		o.OrderedOn, o.RequestedShipOn, o.RequestedDeliveryOn = order.Date(h.on), order.Date(h.shipOn), order.Date(h.byDay)
		if o.Total, err = order.ParseNumber(h.total); err != nil {
			return fmt.Errorf("order %d: %w", h.id, err)
		}
		o.Lines = make([]order.Line, 0, h.lines)
		list = append(list, o)
		return nil
	}, []any{&h.id, &h.kind, &h.number, &h.status, &h.sender, &h.partner, &h.on, &h.shipOn, &h.byDay, &h.currency,
		&h.total,
		&h.more, &h.revision, &h.lines, &h.lastLine},
		`SELECT id, kind, number, status, coalesce(sender_number, ''), partner, coalesce(ordered_on, ''),
	  coalesce(requested_ship_on, ''), coalesce(requested_delivery_on, ''), coalesce(currency, ''), total, coalesce(more, ''),
	  revision, line_count, last_line FROM orders WHERE `+where+` ORDER BY id DESC`, arg)
	return list, err
}

// readLines reads the lines of orders into the orders.
func readLines(ctx context.Context, q querier, list []*StoredOrder) error {
	byID, ids := map[int64]*StoredOrder{}, make([]int64, len(list))
	for i, o := range list {
		byID[o.ID], ids[i] = o, o.ID
	}
	var of int64
	var n, id int
	var item, description, quantity, unit, price, discount, amount, delivery, location, more string
	numbers := []*string{&quantity, &price, &discount, &amount}
	where, arg := among("order_id", ids...)
	return each(ctx, q, func() error {
		o := byID[of]
		o.Lines = append(o.Lines, order.Line{})
		l := &o.Lines[len(o.Lines)-1]
		l.ID, l.Number = id, strconv.Itoa(n)
		if more != "" {
			if err := json.Unmarshal([]byte(more), l); err != nil {
				return fmt.Errorf("order %d line %d: %w", of, n, err)
			}
		}
		l.Item, l.Description, l.Unit, l.Location = item, description, unit, location
		l.RequestedDeliveryOn = order.Date(delivery)
		for i, to := range []*order.Number{&l.Quantity, &l.UnitPrice, &l.DiscountPercent, &l.Amount} {
			var err error
			if *to, err = order.ParseNumber(*numbers[i]); err != nil {
				return fmt.Errorf("order %d line %d: %w", of, n, err)
			}
		}
		return nil
	}, []any{&of, &n, &id, &item, &description, &quantity, &unit, &price, &discount, &amount, &delivery, &location, &more},
		`SELECT order_id, n, id, coalesce(item, ''), coalesce(description, ''), coalesce(quantity, ''), coalesce(unit, ''),
		coalesce(unit_price, ''), coalesce(discount_percent, ''), coalesce(amount, ''), coalesce(requested_delivery_on, ''),
		coalesce(location, ''), coalesce(more, '') FROM lines WHERE `+where+` ORDER BY order_id, n`, arg)
}

// each reads rows one by one into the same values, and calls a function for each. For very many rows, reading them by
// reflection into structs takes longer than everything else.
func each(ctx context.Context, q querier, do func() error, into []any, query string, args ...any) error {
	rows, err := q.QueryContext(ctx, query, args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		if err = rows.Scan(into...); err != nil {
			return err
		}
		if err = do(); err != nil {
			return err
		}
	}
	err = rows.Err()
	if t, ok := q.(*Tx); ok {
		err = t.failed(err)
	}
	return err
}
