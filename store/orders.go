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

	"koinos/core/mapping"
	"koinos/core/order"
)

// NewOrder is an order to be stored.
type NewOrder struct {
	Order       *order.Order // gets its ID, Number and Revision
	Identity    string
	Fingerprint [32]byte
	Trace       []byte // JSON of a mapping.Trace
	Lines       []any  // what PackLines gave; nil where it was not asked
	Seq         int    // which order of the load's document
}

// Known is a stored order as far as a load needs to know it.
type Known struct {
	ID          int64  `db:"id"`
	Identity    string `db:"identity"`
	Number      string `db:"number"`
	Fingerprint []byte `db:"fingerprint"`
	Load        int64  `db:"load_id"`
	Seq         int    `db:"load_seq"`
}

// KnownOrders gives the stored orders of the identities, by identity. It sees
// what the transaction itself has written.
func (t *Tx) KnownOrders(identities []string) (map[string]Known, error) {
	return knownBy(t, "identity", identities, func(k *Known) string { return k.Identity })
}

// KnownNumbers gives the stored orders of a kind that have one of the numbers.
func (t *Tx) KnownNumbers(kind order.Kind, numbers []string) (map[string]Known, error) {
	return knownBy(t, "kind = '"+string(kind)+"' AND number", numbers, func(k *Known) string { return k.Number })
}

func knownBy(t *Tx, column string, values []string, key func(*Known) string) (map[string]Known, error) {
	known := map[string]Known{}
	for len(values) > 0 {
		chunk := 200
		if len(values) < 10 {
			chunk = 1
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
		stmt, err := t.prepared(`SELECT id, identity, number, fingerprint, coalesce(load_id, 0), load_seq FROM orders WHERE ` + column + ` IN (?` + strings.Repeat(", ?", chunk-1) + `)`)
		if err != nil {
			return nil, err
		}
		rows, err := stmt.QueryContext(t.ctx, args...)
		if err != nil {
			return nil, err
		}
		for rows.Next() {
			var k Known
			if err := rows.Scan(&k.ID, &k.Identity, &k.Number, &k.Fingerprint, &k.Load, &k.Seq); err != nil {
				rows.Close()
				return nil, err
			}
			known[key(&k)] = k
		}
		if err := rows.Err(); err != nil {
			return nil, err
		}
	}
	return known, nil
}

// headerMore is what the narrow table of orders keeps as JSON.
func headerMore(o *order.Order) (any, error) {
	more := *o
	more.ID, more.Kind, more.Number, more.SenderNumber, more.Partner = 0, "", "", "", ""
	more.OrderedOn, more.RequestedShipOn, more.RequestedDeliveryOn, more.Currency = "", "", "", ""
	more.Total, more.Status, more.Revision, more.Lines = order.Number{}, "", 0, nil
	return jsonOrNull(more)
}

// PackLines gives what the narrow table of lines keeps as JSON, for each line
// of an order; nil is nothing. A load does it beside the writer.
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
		text("shipped", l.Shipped.String())
		text("received", l.Received.String())
		text("cancelled", l.Cancelled.String())
		text("notes", l.Notes)
		more := func(name string, list any) error {
			value, err := json.Marshal(list)
			if len(b) > 1 {
				b = append(b, ',')
			}
			b = append(append(append(append(b, '"'), name...), '"', ':'), value...)
			return err
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

// InsertOrders stores orders with their lines and the event of their making,
// and numbers those that have no number from the series of their kind.
func (t *Tx) InsertOrders(load int64, orders []NewOrder, by string, now time.Time) error {
	if len(orders) == 0 {
		return nil
	}
	var last sql.NullInt64
	if err := t.row(`SELECT max(id) FROM orders`, nil, &last); err != nil {
		return err
	}
	if err := t.number(orders); err != nil {
		return err
	}
	heads := t.bulk("orders", "id", "kind", "number", "identity", "fingerprint", "status", "revision", "sender_number", "partner", "ordered_on",
		"requested_ship_on", "requested_delivery_on", "currency", "total", "line_count", "more", "trace", "load_id", "load_seq")
	lines := t.lines()
	events := t.bulk("events", "order_id", "revision", "at", "by", "action", "load_id", "load_seq")
	var from any // orders that come one by one have no load
	if load != 0 {
		from = load
	}
	when := at(now)
	for i := range orders {
		n := &orders[i]
		o := n.Order
		o.ID, o.Revision = last.Int64+int64(i)+1, 1
		more, err := headerMore(o)
		if err != nil {
			return err
		}
		heads.add(o.ID, string(o.Kind), o.Number, n.Identity, n.Fingerprint[:], string(o.Status), o.Revision, null(o.SenderNumber), o.Partner, null(string(o.OrderedOn)),
			null(string(o.RequestedShipOn)), null(string(o.RequestedDeliveryOn)), null(o.Currency), o.Total.String(), len(o.Lines), more, string(n.Trace), from, n.Seq)
		events.add(o.ID, 1, when, by, "created", from, n.Seq)
	}
	if err := heads.done(); err != nil { // before the lines that point at them
		return err
	}
	for i := range orders {
		if err := lines.add(orders[i].Order, orders[i].Lines); err != nil {
			return err
		}
	}
	return errors.Join(lines.done(), events.done())
}

// lineRows inserts the lines of orders.
type lineRows struct{ *bulk }

func (t *Tx) lines() lineRows {
	return lineRows{t.bulk("lines", "order_id", "n", "item", "description", "quantity", "unit", "unit_price", "discount_percent", "amount",
		"requested_delivery_on", "location", "more")}
}

// add adds an order's lines; packed is what PackLines gave, nil where it was
// not asked yet.
func (r lineRows) add(o *order.Order, packed []any) (err error) {
	if packed == nil {
		if packed, err = PackLines(o); err != nil {
			return err
		}
	}
	for j := range o.Lines {
		l := &o.Lines[j]
		r.bulk.add(o.ID, j+1, null(l.Item), null(l.Description), null(l.Quantity.String()), null(l.Unit), null(l.UnitPrice.String()), null(l.DiscountPercent.String()),
			null(l.Amount.String()), null(string(l.RequestedDeliveryOn)), null(l.Location), packed[j])
	}
	return nil
}

// number gives each order without a number the next of its kind's series,
// passing over numbers that somebody else gave by hand.
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
		if err := t.row(`SELECT prefix, next FROM series WHERE kind = ?`, []any{string(kind)}, &series.Prefix, &series.Next); err != nil {
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
		update, err := t.prepared(`UPDATE series SET next = ? WHERE kind = ?`)
		if err != nil {
			return err
		}
		if _, err := update.ExecContext(t.ctx, series.Next, string(kind)); err != nil {
			return err
		}
	}
	return nil
}

// Event is one thing that happened to an order.
type Event struct {
	Revision int            `json:"revision"`
	At       time.Time      `json:"at"`
	By       string         `json:"by"`
	Action   string         `json:"action" doc:"created, changed, taken back"`
	Load     int64          `json:"load,omitempty" doc:"The load that did it"`
	Seq      int            `json:"load_seq,omitempty" doc:"Which order of that load's document it was"`
	Changes  []order.Change `json:"changes,omitempty"`
}

// StoredOrder is an order with what is known about it.
type StoredOrder struct {
	order.Order
	Trace        mapping.Trace `json:"trace" doc:"Where each value stands in the document"`
	Load         int64         `json:"load,omitempty" doc:"The load that stored it; absent where it came by itself"`
	Seq          int           `json:"load_seq,omitempty" doc:"Which order of that load's document it was"`
	Document     string        `json:"document,omitempty" doc:"SHA-256 of the document it came from"`
	DocumentName string        `json:"document_name,omitempty"`
	Mapping      string        `json:"mapping,omitempty"`
	Version      int           `json:"mapping_version,omitempty"`
	Events       []Event       `json:"events"`
}

// OrderSummary is an order as a list shows it.
type OrderSummary struct {
	ID                  int64        `json:"id" db:"id"`
	Kind                order.Kind   `json:"kind" db:"kind" enum:"sales,purchase"`
	Number              string       `json:"number" db:"number"`
	SenderNumber        string       `json:"sender_number,omitempty" db:"sender_number"`
	Partner             string       `json:"partner" db:"partner"`
	OrderedOn           order.Date   `json:"ordered_on,omitempty" db:"ordered_on"`
	RequestedDeliveryOn order.Date   `json:"requested_delivery_on,omitempty" db:"requested_delivery_on"`
	Currency            string       `json:"currency,omitempty" db:"currency"`
	Total               string       `json:"total" db:"total"`
	Lines               int          `json:"lines" db:"line_count"`
	Status              order.Status `json:"status" db:"status" enum:"draft,open,confirmed,partial,complete,cancelled"`
	Load                int64        `json:"load,omitempty" db:"load_id"`
}

// OrderFilter narrows a list of orders. Blank fields do not narrow.
type OrderFilter struct {
	Kind, Status, Partner, Number string
	Text                          string // begins the number or the sender's number
	Load                          int64
	Before                        int64 // id; 0 is from the newest on
	Limit                         int
}

// Orders lists orders, newest first.
func (s *Store) Orders(ctx context.Context, f OrderFilter) ([]OrderSummary, error) {
	where, args := []string{"1 = 1"}, []any{}
	add := func(condition string, values ...any) {
		where, args = append(where, condition), append(args, values...)
	}
	for column, value := range map[string]string{"kind": f.Kind, "status": f.Status, "partner": f.Partner, "number": f.Number} {
		if value != "" {
			add(column+" = ?", value)
		}
	}
	if f.Text != "" {
		like := strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`).Replace(f.Text) + "%"
		add(`(number LIKE ? ESCAPE '\' OR sender_number LIKE ? ESCAPE '\' OR partner LIKE ? ESCAPE '\')`, like, like, like)
	}
	if f.Load != 0 {
		add("load_id = ?", f.Load)
	}
	if f.Before != 0 {
		add("id < ?", f.Before)
	}
	list := []OrderSummary{}
	err := s.r.SelectContext(ctx, &list, `SELECT id, kind, number, coalesce(sender_number, '') AS sender_number, partner, coalesce(ordered_on, '') AS ordered_on,
	  coalesce(requested_delivery_on, '') AS requested_delivery_on, coalesce(currency, '') AS currency, total, line_count, status, coalesce(load_id, 0) AS load_id
	  FROM orders WHERE `+strings.Join(where, " AND ")+` ORDER BY id DESC LIMIT ?`, append(args, f.Limit)...)
	return list, err
}

// Order gives a stored order with its lines and events.
func (s *Store) Order(ctx context.Context, id int64) (*StoredOrder, error) {
	tx, err := s.r.BeginTxx(ctx, nil) // header and lines of one moment
	if err != nil {
		return nil, err
	}
	defer func() { _ = tx.Rollback() }()
	return readOrder(ctx, tx, id)
}

// Order gives a stored order as the transaction sees it.
func (t *Tx) Order(id int64) (*StoredOrder, error) { return readOrder(t.ctx, t.tx, id) }

type querier interface {
	SelectContext(ctx context.Context, dest any, query string, args ...any) error
	GetContext(ctx context.Context, dest any, query string, args ...any) error
}

func readOrder(ctx context.Context, tx querier, id int64) (_ *StoredOrder, err error) {
	var h struct {
		ID                  int64          `db:"id"`
		Kind                string         `db:"kind"`
		Number              string         `db:"number"`
		Status              string         `db:"status"`
		Revision            int            `db:"revision"`
		SenderNumber        sql.NullString `db:"sender_number"`
		Partner             string         `db:"partner"`
		OrderedOn           sql.NullString `db:"ordered_on"`
		RequestedShipOn     sql.NullString `db:"requested_ship_on"`
		RequestedDeliveryOn sql.NullString `db:"requested_delivery_on"`
		Currency            sql.NullString `db:"currency"`
		Total               string         `db:"total"`
		More                sql.NullString `db:"more"`
		Trace               string         `db:"trace"`
		Load                int64          `db:"load_id"`
		Seq                 int            `db:"load_seq"`
		Document            string         `db:"document"`
		DocumentName        string         `db:"document_name"`
		Mapping             string         `db:"mapping"`
		Version             int            `db:"mapping_version"`
	}
	if err := tx.GetContext(ctx, &h, `SELECT o.id, kind, number, o.status, revision, sender_number, partner, ordered_on, requested_ship_on, requested_delivery_on,
	  currency, total, more, trace, coalesce(load_id, 0) AS load_id, load_seq, coalesce(l.document, '') AS document, coalesce(d.name, '') AS document_name,
	  coalesce(l.mapping, '') AS mapping, coalesce(l.mapping_version, 0) AS mapping_version
	  FROM orders o LEFT JOIN loads l ON l.id = o.load_id LEFT JOIN documents d ON d.sha = l.document WHERE o.id = ?`, id); err != nil {
		return nil, named(err, "order %d", id)
	}
	o := &StoredOrder{Load: h.Load, Seq: h.Seq, Document: h.Document, DocumentName: h.DocumentName, Mapping: h.Mapping, Version: h.Version, Events: []Event{}}
	if h.More.Valid {
		if err := json.Unmarshal([]byte(h.More.String), &o.Order); err != nil {
			return nil, fmt.Errorf("order %d: %w", id, err)
		}
	}
	if err := json.Unmarshal([]byte(h.Trace), &o.Trace); err != nil {
		return nil, fmt.Errorf("order %d: %w", id, err)
	}
	o.ID, o.Kind, o.Number, o.Status, o.Revision = h.ID, order.Kind(h.Kind), h.Number, order.Status(h.Status), h.Revision
	o.SenderNumber, o.Partner, o.Currency = h.SenderNumber.String, h.Partner, h.Currency.String
	o.OrderedOn, o.RequestedShipOn, o.RequestedDeliveryOn = order.Date(h.OrderedOn.String), order.Date(h.RequestedShipOn.String), order.Date(h.RequestedDeliveryOn.String)
	if o.Total, err = order.ParseNumber(h.Total); err != nil {
		return nil, err
	}
	if o.Lines, err = readLines(ctx, tx, id); err != nil {
		return nil, err
	}
	var events []struct {
		Revision int            `db:"revision"`
		At       string         `db:"at"`
		By       string         `db:"by"`
		Action   string         `db:"action"`
		Load     sql.NullInt64  `db:"load_id"`
		Seq      int            `db:"load_seq"`
		Changes  sql.NullString `db:"changes"`
	}
	if err := tx.SelectContext(ctx, &events, `SELECT revision, at, by, action, load_id, load_seq, changes FROM events WHERE order_id = ? ORDER BY revision`, id); err != nil {
		return nil, err
	}
	for _, e := range events {
		event := Event{Revision: e.Revision, At: parseTime(e.At), By: e.By, Action: e.Action, Load: e.Load.Int64, Seq: e.Seq}
		if e.Changes.Valid {
			if err := json.Unmarshal([]byte(e.Changes.String), &event.Changes); err != nil {
				return nil, err
			}
		}
		o.Events = append(o.Events, event)
	}
	return o, nil
}

func readLines(ctx context.Context, q querier, id int64) ([]order.Line, error) {
	var rows []struct {
		N           int            `db:"n"`
		Item        sql.NullString `db:"item"`
		Description sql.NullString `db:"description"`
		Quantity    sql.NullString `db:"quantity"`
		Unit        sql.NullString `db:"unit"`
		UnitPrice   sql.NullString `db:"unit_price"`
		Discount    sql.NullString `db:"discount_percent"`
		Amount      sql.NullString `db:"amount"`
		Delivery    sql.NullString `db:"requested_delivery_on"`
		Location    sql.NullString `db:"location"`
		More        sql.NullString `db:"more"`
	}
	if err := q.SelectContext(ctx, &rows, `SELECT n, item, description, quantity, unit, unit_price, discount_percent, amount, requested_delivery_on, location, more
	  FROM lines WHERE order_id = ? ORDER BY n`, id); err != nil {
		return nil, err
	}
	lines := make([]order.Line, len(rows))
	for i, r := range rows {
		l := &lines[i]
		l.Number = strconv.Itoa(r.N)
		if r.More.Valid {
			if err := json.Unmarshal([]byte(r.More.String), l); err != nil {
				return nil, fmt.Errorf("order %d line %d: %w", id, r.N, err)
			}
		}
		l.Item, l.Description, l.Unit, l.Location = r.Item.String, r.Description.String, r.Unit.String, r.Location.String
		l.RequestedDeliveryOn = order.Date(r.Delivery.String)
		for _, v := range []struct {
			from sql.NullString
			to   *order.Number
		}{{r.Quantity, &l.Quantity}, {r.UnitPrice, &l.UnitPrice}, {r.Discount, &l.DiscountPercent}, {r.Amount, &l.Amount}} {
			var err error
			if *v.to, err = order.ParseNumber(v.from.String); err != nil {
				return nil, fmt.Errorf("order %d line %d: %w", id, r.N, err)
			}
		}
	}
	return lines, nil
}
