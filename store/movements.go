package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"koinos/core/order"
)

var (
	movementColumns = columnsOf("movement_lines", "movement_id", "order_id", "line_id", "n", "revision", "quantity",
		"lot")
	invoiceColumns = columnsOf("invoice_lines", "invoice_id", "order_id", "line_id", "n", "revision", "quantity",
		"unit_price", "amount")
)

// moveStated posts what an order says has moved beyond what its movements say:
// nobody gave the movement a number, so it takes the order's with its revision.
func (t *Tx) moveStated(was, is *order.Order, now time.Time) error {
	before := map[int]*order.Line{}
	if was != nil {
		for i := range was.Lines {
			before[was.Lines[i].ID] = &was.Lines[i]
		}
	}
	for _, kind := range []order.MovementKind{order.Shipment, order.Receipt} {
		m := order.Movement{Kind: kind, Partner: is.Partner, On: order.Date(now.UTC().Format(time.DateOnly))}
		for i := range is.Lines {
			l := &is.Lines[i]
			moved, sofar := *l.Moved(kind), order.Number{}
			if b := before[l.ID]; b != nil {
				sofar = *b.Moved(kind)
			}
			more, err := moved.Sub(sofar)
			if err != nil {
				return err
			}
			if more.Sign() < 0 {
				return fmt.Errorf("line %s: what has moved is never taken back by a smaller figure", l.Number)
			}
			if more.Sign() > 0 {
				m.Lines = append(m.Lines, order.MovementLine{Line: l.ID, Quantity: more})
			}
		}
		if len(m.Lines) == 0 {
			continue
		}
		m.Number = fmt.Sprintf("%s/%d", is.Number, is.Revision)
		if err := t.addMovement(is, &m); err != nil {
			return err
		}
	}
	return nil
}

// addMovement posts a movement of lines of an order, or adds them to the one of
// its number, which may move goods of several orders.
func (t *Tx) addMovement(o *order.Order, m *order.Movement) error {
	more := *m
	more.ID, more.Kind, more.Partner, more.Number, more.On, more.Lines = 0, "", "", "", "", nil
	text, err := json.Marshal(more)
	if err != nil {
		return err
	}
	if err := t.run(`INSERT INTO movements (kind, partner, number, moved_on, more) VALUES (?, ?, ?, ?, ?)
		ON CONFLICT DO NOTHING`, string(m.Kind), m.Partner, m.Number, null(string(m.On)), string(text)); err != nil {
		return err
	}
	if err := t.row(`SELECT id FROM movements WHERE kind = ? AND partner = ? AND number = ?`,
		[]any{string(m.Kind), m.Partner, m.Number}, &m.ID); err != nil {
		return err
	}
	b := t.bulk(movementColumns, len(m.Lines))
	for i, l := range m.Lines {
		b.add(m.ID, o.ID, l.Line, i+1, o.Revision, l.Quantity.String(), null(l.Lot))
	}
	return b.done()
}

func (t *Tx) addAnswer(o *order.Order, a *order.Answered) error {
	a.Revision = o.Revision
	text, err := json.Marshal(a)
	if err != nil {
		return err
	}
	return t.run(`INSERT INTO answers (order_id, revision, content) VALUES (?, ?, ?)`, o.ID, o.Revision, string(text))
}

func (t *Tx) addInvoice(o *order.Order, v *order.Invoice) error {
	if err := t.run(`INSERT INTO invoices (partner, number, invoiced_on, currency, total) VALUES (?, ?, ?, ?, ?)
		ON CONFLICT DO NOTHING`,
		v.Partner, v.Number, null(string(v.On)), null(v.Currency), null(v.Total.String())); err != nil {
		return err
	}
	if err := t.row(`SELECT id FROM invoices WHERE partner = ? AND number = ?`, []any{v.Partner, v.Number},
		&v.ID); err != nil {
		return err
	}
	b := t.bulk(invoiceColumns, len(v.Lines))
	for i, l := range v.Lines {
		b.add(v.ID, o.ID, l.Line, i+1, o.Revision, l.Quantity.String(), null(l.UnitPrice.String()),
			null(l.Amount.String()))
	}
	return b.done()
}

// Movement gives what a movement of a number moved of an order; nil is nothing.
func (t *Tx) Movement(kind order.MovementKind, partner, number string, id int64) (*order.Movement, error) {
	list, err := readMovements(t.ctx, t, `m.kind = ? AND m.partner = ? AND m.number = ? AND l.order_id = ?`,
		string(kind), partner, number, id)
	if err != nil || len(list) == 0 {
		return nil, err
	}
	return &list[0], nil
}

// Reverses gives what the movement of a number takes back, whatever orders it is of: "" is nothing. Without such a
// movement there is false.
func (t *Tx) Reverses(kind order.MovementKind, partner, number string) (reverses string, there bool, err error) {
	err = t.row(`SELECT coalesce(more ->> 'reverses', '') FROM movements WHERE kind = ? AND partner = ? AND number = ?`,
		[]any{string(kind), partner, number}, &reverses)
	if errors.Is(err, sql.ErrNoRows) {
		return "", false, nil
	}
	return reverses, err == nil, err
}

// Invoice gives what an invoice of a number bills of an order; nil is nothing.
func (t *Tx) Invoice(partner, number string, id int64) (*order.Invoice, error) {
	list, err := readInvoices(t.ctx, t, `v.partner = ? AND v.number = ? AND l.order_id = ?`, partner, number, id)
	if err != nil || len(list) == 0 {
		return nil, err
	}
	return &list[0], nil
}

// OrderOf finds an order of a partner by its number or the sender's number; 0 is
// none, and several are one too many.
func (t *Tx) OrderOf(kind order.Kind, partner, number, sender string) (ids []int64, err error) {
	return ordersOf(t.ctx, t, kind, partner, number, sender)
}

// OrdersOf is Tx.OrderOf outside of a transaction.
func (s *Store) OrdersOf(ctx context.Context, kind order.Kind, partner, number, sender string) ([]int64, error) {
	return ordersOf(ctx, s.r, kind, partner, number, sender)
}

func ordersOf(ctx context.Context, q querier, kind order.Kind, partner, number, sender string) (ids []int64,
	err error) {
	if number != "" {
		err = q.SelectContext(ctx, &ids, `SELECT id FROM orders WHERE kind = ? AND number IN (?, ?) AND partner = ?`,
			string(kind), number, strings.ToUpper(number), partner)
		if err != nil || len(ids) > 0 {
			return ids, err
		}
	}
	if sender != "" {
		err = q.SelectContext(ctx, &ids,
			`SELECT id FROM orders WHERE sender_number = ? COLLATE NOCASE AND kind = ? AND partner = ? ORDER BY id`,
			sender, string(kind), partner)
	}
	return ids, err
}

// readMoved fills in what movements, answers and invoices say of an order.
func readMoved(ctx context.Context, q querier, o *StoredOrder) (err error) {
	if o.Movements, err = readMovements(ctx, q, `l.order_id = ?`, o.ID); err != nil {
		return err
	}
	if o.Invoices, err = readInvoices(ctx, q, `l.order_id = ?`, o.ID); err != nil {
		return err
	}
	var answers []string
	if err := q.SelectContext(ctx, &answers, `SELECT content FROM answers WHERE order_id = ? ORDER BY revision`,
		o.ID); err != nil {
		return err
	}
	for _, text := range answers {
		var a order.Answered
		if err := json.Unmarshal([]byte(text), &a); err != nil {
			return err
		}
		o.Answers = append(o.Answers, a)
	}
	if len(o.Movements)+len(o.Invoices) == 0 {
		return nil
	}
	lines := map[int]*order.Line{}
	for i := range o.Lines {
		lines[o.Lines[i].ID] = &o.Lines[i]
	}
	add := func(to *order.Number, n order.Number) {
		sum, sumErr := to.Add(n)
		*to, err = sum, errors.Join(err, sumErr)
	}
	for i := range o.Movements {
		for _, m := range o.Movements[i].Lines {
			if l := lines[m.Line]; l != nil {
				add(l.Moved(o.Movements[i].Kind), m.Quantity)
			}
		}
	}
	for i := range o.Invoices {
		for _, v := range o.Invoices[i].Lines {
			if l := lines[v.Line]; l != nil {
				add(&l.Invoiced, v.Quantity)
			}
		}
	}
	return err
}

func readMovements(ctx context.Context, q querier, where string, args ...any) ([]order.Movement, error) {
	var rows []struct {
		ID       int64          `db:"id"`
		Kind     string         `db:"kind"`
		Partner  string         `db:"partner"`
		Number   string         `db:"number"`
		On       sql.NullString `db:"moved_on"`
		More     sql.NullString `db:"more"`
		Line     int            `db:"line_id"`
		Quantity string         `db:"quantity"`
		Lot      sql.NullString `db:"lot"`
		Revision int            `db:"revision"`
	}
	if err := q.SelectContext(ctx, &rows,
		`SELECT m.id, m.kind, m.partner, m.number, m.moved_on, m.more, l.line_id, l.quantity, l.lot, l.revision
	  FROM movement_lines l JOIN movements m ON m.id = l.movement_id WHERE `+where+` ORDER BY m.id, l.n`, args...); err != nil {
		return nil, err
	}
	var list []order.Movement
	for i := range rows {
		r := &rows[i]
		if len(list) == 0 || list[len(list)-1].ID != r.ID {
			var m order.Movement
			if r.More.Valid {
				if err := json.Unmarshal([]byte(r.More.String), &m); err != nil {
					return nil, fmt.Errorf("movement %d: %w", r.ID, err)
				}
			}
			m.ID, m.Kind, m.Partner, m.Number, m.On, m.Lines = r.ID, order.MovementKind(r.Kind), r.Partner, r.Number,
				order.Date(r.On.String), nil
			list = append(list, m)
		}
		quantity, err := order.ParseNumber(r.Quantity)
		if err != nil {
			return nil, fmt.Errorf("movement %d: %w", r.ID, err)
		}
		m := &list[len(list)-1]
		m.Lines = append(m.Lines, order.MovementLine{Line: r.Line, Quantity: quantity, Lot: r.Lot.String,
			Revision: r.Revision})
	}
	return list, nil
}

func readInvoices(ctx context.Context, q querier, where string, args ...any) ([]order.Invoice, error) {
	var rows []struct {
		ID       int64          `db:"id"`
		Partner  string         `db:"partner"`
		Number   string         `db:"number"`
		On       sql.NullString `db:"invoiced_on"`
		Currency sql.NullString `db:"currency"`
		Total    sql.NullString `db:"total"`
		Line     int            `db:"line_id"`
		Quantity string         `db:"quantity"`
		Price    sql.NullString `db:"unit_price"`
		Amount   sql.NullString `db:"amount"`
		Revision int            `db:"revision"`
	}
	if err := q.SelectContext(ctx, &rows,
		`SELECT v.id, v.partner, v.number, v.invoiced_on, v.currency, v.total, l.line_id, l.quantity, l.unit_price, l.amount, l.revision
	  FROM invoice_lines l JOIN invoices v ON v.id = l.invoice_id WHERE `+where+` ORDER BY v.id, l.n`, args...); err != nil {
		return nil, err
	}
	var list []order.Invoice
	for i := range rows {
		r := &rows[i]
		var n [4]order.Number
		for k, text := range []string{r.Total.String, r.Quantity, r.Price.String, r.Amount.String} {
			var err error
			if n[k], err = order.ParseNumber(text); err != nil {
				return nil, fmt.Errorf("invoice %d: %w", r.ID, err)
			}
		}
		if len(list) == 0 || list[len(list)-1].ID != r.ID {
			list = append(list, order.Invoice{ID: r.ID, Partner: r.Partner, Number: r.Number,
				On: order.Date(r.On.String), Currency: r.Currency.String, Total: n[0]})
		}
		v := &list[len(list)-1]
		v.Lines = append(v.Lines, order.InvoiceLine{Line: r.Line, Quantity: n[1], UnitPrice: n[2], Amount: n[3],
			Revision: r.Revision})
	}
	return list, nil
}
