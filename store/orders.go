package store

import (
	"cmp"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"koinos/api"
	"koinos/core/order"
	"koinos/store/pack"
)

// NewOrder is an order to be stored.
type NewOrder struct {
	Order       *order.Order // gets its ID, Number, Revision and the ids of its lines
	Identity    string
	Fingerprint [32]byte
	Trace       []byte      // JSON of an origin.Trace
	Lines       PackedLines // blank where PackLines was not asked
	Seq         int         // which order of the load's document
	*Source
}

// Source is what brings orders or changes of them: a load, a posted document, or neither.
type Source struct {
	Load     int64
	Document string // SHA-256, where there is no load
	By       string
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

// headerRest and lineRest write the parts of a header and of a line that are stored as JSON: what has no column of its
// own and is not a sum of something else.
var (
	headerRest = order.EncoderOf[order.Order]("id", "kind", "number", "sender_number", "partner", "ordered_on",
		"requested_ship_on", "requested_delivery_on", "currency", "total", "status", "revision", "lines", "statement")
	lineRest = order.EncoderOf[order.Line](append(inColumns, "number")...)
	// of a line whose number is not its position
	numberedRest = order.EncoderOf[order.Line](inColumns...)
	inColumns    = []string{"id", "item", "description", "quantity", "unit", "unit_price", "discount_percent", "amount",
		"requested_delivery_on", "location", "shipped", "received", "returned", "invoiced", "statement"}
)

// appendHeader appends the part of a header that is stored as JSON, or nothing.
func appendHeader(b []byte, o *order.Order) ([]byte, error) { return appendRest(b, headerRest, o) }

// appendLine appends the part of the n-th line that is stored as JSON, or nothing.
func appendLine(b []byte, l *order.Line, n int) ([]byte, error) {
	if l.Number == "" || l.Number == strconv.Itoa(n) {
		return appendRest(b, lineRest, l)
	}
	return appendRest(b, numberedRest, l)
}

func appendRest[T order.Order | order.Line](b []byte, e order.Encoder[T], of *T) ([]byte, error) {
	at := len(b)
	b, err := e.Append(b, of)
	if len(b) == at+len("{}") {
		b = b[:at]
	}
	return b, err
}

// PackedLines are the lines of an order as they are stored, but for their order and ids.
type PackedLines struct{ rows *pack.Rows }

// PackLines puts the rows of an order's lines together. A load calls it outside the writer's transaction.
func PackLines(o *order.Order) (PackedLines, error) {
	rows := pack.NewRows(lineColumns.n-3, 128*len(o.Lines))
	for i := range o.Lines {
		l := &o.Lines[i]
		rows.TextOrNull(l.Item).TextOrNull(l.Description).TextBy(l.Quantity.AppendText).TextOrNull(l.Unit).
			TextBy(l.UnitPrice.AppendText).TextBy(l.DiscountPercent.AppendText).TextBy(l.Amount.AppendText).
			TextOrNull(string(l.RequestedDeliveryOn)).TextOrNull(l.Location).
			TextBy(func(b []byte) ([]byte, error) { return appendLine(b, l, i+1) })
	}
	return PackedLines{rows}, rows.Err()
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
		"trace", "changes", "was", "same_lines")
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
	heads, lines, events := t.bulk(orderColumns), lineRows{t.bulk(lineColumns)}, t.bulk(eventColumns)
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
		heads.row().Int64(o.ID).Text(string(o.Kind)).Text(o.Number).Text(n.Identity).Bytes(n.Fingerprint[:]).
			Text(string(o.Status)).Int(o.Revision).TextOrNull(o.SenderNumber).Text(o.Partner).
			TextOrNull(string(o.OrderedOn)).TextOrNull(string(o.RequestedShipOn)).
			TextOrNull(string(o.RequestedDeliveryOn)).TextOrNull(o.Currency).Text(o.Total.String()).
			Int(len(o.Lines)).Int(o.LastLine).
			TextBy(func(b []byte) ([]byte, error) { return appendHeader(b, o) }).Int64OrNull(n.Load)
		events.row().Int64(o.ID).Int(1).Text(when).Text(n.By).Text("created").Int64OrNull(n.Load).Int(n.Seq).
			TextOrNull(n.Document).TextBytes(n.Trace)
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

// add adds an order's lines. packed is the result of PackLines, or blank if it has not been called yet.
func (r lineRows) add(o *order.Order, packed PackedLines) (err error) {
	if packed.rows == nil {
		if packed, err = PackLines(o); err != nil {
			return err
		}
	}
	for j := range o.Lines {
		r.bulk.row().Int64(o.ID).Int(j+1).Int(o.Lines[j].ID).Append(packed.rows, j)
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
	Lines        int        `db:"lines"`
}

// Head returns a short description of a stored order.
func (s *Store) Head(ctx context.Context, id int64) (h Head, err error) {
	err = s.r.GetContext(ctx, &h, `SELECT kind, number, coalesce(sender_number, '') AS sender_number, partner,
	  coalesce(currency, '') AS currency, revision, line_count AS lines FROM orders WHERE id = ?`, id)
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
		o.Events, err = eventsOf(ctx, tx, id)
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
	type long struct {
		id    int64
		lines int
	}
	var all []long
	where, arg := among("id", ids...)
	err := each(ctx, q, func(r *pack.Reader) error {
		all = append(all, long{r.Int64(), r.Int()})
		return nil
	}, `SELECT pack(id, line_count) FROM orders WHERE `+where, arg)
	slices.SortFunc(all, func(a, b long) int { return cmp.Or(a.lines-b.lines, cmp.Compare(a.id, b.id)) })
	fit := ids[:0:0]
	for _, o := range all {
		if lines -= o.lines; lines >= 0 {
			fit = append(fit, o.id)
		}
	}
	if err != nil || len(fit) == 0 {
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
	where, arg := among("id", ids...)
	err = each(ctx, tx, func(r *pack.Reader) error {
		o := &StoredOrder{}
		id := r.Int64()
		if more := r.Text(); more != "" {
			if err := json.Unmarshal([]byte(more), &o.Order); err != nil {
				return fmt.Errorf("order %d: %w", id, err)
			}
		}
		o.ID, o.Kind, o.Number, o.Status, o.Revision = id, order.Kind(r.Text()), r.Text(), order.Status(r.Text()), r.Int()
		o.SenderNumber, o.Partner, o.Currency, o.LastLine = r.Text(), r.Text(), r.Text(), r.Int()
		for _, day := range []*order.Date{&o.OrderedOn, &o.RequestedShipOn, &o.RequestedDeliveryOn} {
			*day = order.Date(r.Text())
		}
		if o.Total, err = order.ParseNumber(r.Text()); err != nil {
			return fmt.Errorf("order %d: %w", id, err)
		}
		o.Lines = make([]order.Line, 0, r.Int())
		list = append(list, o)
		return nil
	}, `SELECT pack(id, more, kind, number, status, revision, sender_number, partner, currency, last_line, ordered_on,
	  requested_ship_on, requested_delivery_on, total, line_count) FROM orders WHERE `+where, arg)
	slices.SortFunc(list, func(a, b *StoredOrder) int { return cmp.Compare(b.ID, a.ID) })
	return list, err
}

// readLines reads the lines of orders into the orders. They are packed order by order, so that no value becomes longer
// than one order is.
func readLines(ctx context.Context, q querier, list []*StoredOrder) error {
	byID, ids := map[int64]*StoredOrder{}, make([]int64, len(list))
	for i, o := range list {
		byID[o.ID], ids[i] = o, o.ID
	}
	where, arg := among("order_id", ids...)
	return each(ctx, q, func(r *pack.Reader) error {
		of, n := r.Int64(), r.Int()
		o := byID[of]
		if n != len(o.Lines)+1 { // the index has them in their order
			return fmt.Errorf("order %d: line %d is not behind line %d", of, n, len(o.Lines))
		}
		o.Lines = append(o.Lines, order.Line{})
		l := &o.Lines[n-1]
		id := r.Int()
		if more := r.Text(); more != "" {
			if err := json.Unmarshal([]byte(more), l); err != nil {
				return fmt.Errorf("order %d line %d: %w", of, n, err)
			}
		}
		if l.ID = id; l.Number == "" {
			l.Number = strconv.Itoa(n)
		}
		l.Item, l.Description, l.Unit, l.Location = r.Text(), r.Text(), r.Text(), r.Text()
		l.RequestedDeliveryOn = order.Date(r.Text())
		for _, to := range []*order.Number{&l.Quantity, &l.UnitPrice, &l.DiscountPercent, &l.Amount} {
			var err error
			if *to, err = order.ParseNumber(r.Text()); err != nil {
				return fmt.Errorf("order %d line %d: %w", of, n, err)
			}
		}
		return nil
	}, `SELECT pack(order_id, n, id, more, item, description, unit, location, requested_delivery_on, quantity, unit_price,
	  discount_percent, amount) FROM lines WHERE `+where+` GROUP BY order_id`, arg)
}

// each reads the rows that a query packs, and calls a function for each. For very many rows, fetching value by value
// takes longer than everything else.
func each(ctx context.Context, q querier, do func(*pack.Reader) error, query string, args ...any) error {
	rows, err := q.QueryContext(ctx, query, args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var value sql.RawBytes
		if err := rows.Scan(&value); err != nil {
			return err
		}
		r := pack.Read(value)
		for r.Next() {
			if err := errors.Join(do(r), r.Err()); err != nil {
				return err
			}
		}
		if err := r.Err(); err != nil {
			return err
		}
	}
	err = rows.Err()
	if t, ok := q.(*Tx); ok {
		err = t.failed(err)
	}
	return err
}
