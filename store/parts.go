package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"koinos/core/order"
	"koinos/store/pack"
)

// billed is what an invoice says of an order, as it is stored.
type billed struct {
	order.InvoicePart
	Lines json.RawMessage `json:"lines"`
}

// readMoved fills in the movements, answers and invoices of orders.
func readMoved(ctx context.Context, q querier, list []*StoredOrder) error {
	byID, ids := make(map[int64]*StoredOrder, len(list)), make([]int64, len(list))
	for i, o := range list {
		byID[o.ID], ids[i] = o, o.ID
	}
	if err := errors.Join(readMovements(ctx, q, byID, ids), readInvoices(ctx, q, byID, ids),
		readAnswers(ctx, q, byID, ids)); err != nil {
		return err
	}
	for _, o := range list {
		if err := o.sum(); err != nil {
			return fmt.Errorf("order %d: %w", o.ID, err)
		}
	}
	return nil
}

// sum adds up the quantities of each line that have moved and were invoiced.
func (o *StoredOrder) sum() (err error) {
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

func readMovements(ctx context.Context, q querier, of map[int64]*StoredOrder, ids []int64) error {
	var rows []struct {
		Order    int64          `db:"order_id"`
		ID       int64          `db:"id"`
		Kind     string         `db:"kind"`
		Partner  string         `db:"partner"`
		Number   string         `db:"number"`
		On       sql.NullString `db:"moved_on"`
		More     sql.NullString `db:"more"`
		Revision int            `db:"revision"`
		Lines    string         `db:"lines"`
	}
	where, arg := among("p.order_id", ids...)
	if err := q.SelectContext(ctx, &rows,
		`SELECT p.order_id, m.id, m.kind, m.partner, m.number, m.moved_on, m.more, p.revision, p.lines
	  FROM movement_parts p JOIN movements m ON m.id = p.movement_id WHERE `+where+
			` ORDER BY p.order_id, p.movement_id, p.revision`, arg); err != nil {
		return err
	}
	for i := range rows {
		r := &rows[i]
		var m order.Movement
		if r.More.Valid {
			if err := json.Unmarshal([]byte(r.More.String), &m); err != nil {
				return fmt.Errorf("movement %d: %w", r.ID, err)
			}
		}
		m.ID, m.Kind, m.Partner, m.Number, m.On, m.Lines = r.ID, order.MovementKind(r.Kind), r.Partner, r.Number,
			order.Date(r.On.String), nil
		if err := json.Unmarshal([]byte(r.Lines), &m.Lines); err != nil {
			return fmt.Errorf("movement %d: %w", r.ID, err)
		}
		for k := range m.Lines {
			m.Lines[k].Revision = r.Revision
		}
		o := of[r.Order]
		if last := len(o.Movements) - 1; last >= 0 && o.Movements[last].ID == r.ID {
			o.Movements[last].Lines = append(o.Movements[last].Lines, m.Lines...)
			continue
		}
		o.Movements = append(o.Movements, m)
	}
	return nil
}

func readInvoices(ctx context.Context, q querier, of map[int64]*StoredOrder, ids []int64) error {
	var rows []struct {
		Order    int64          `db:"order_id"`
		ID       int64          `db:"id"`
		Partner  string         `db:"partner"`
		Number   string         `db:"number"`
		On       sql.NullString `db:"invoiced_on"`
		Currency sql.NullString `db:"currency"`
		Revision int            `db:"revision"`
		Content  string         `db:"content"`
	}
	where, arg := among("p.order_id", ids...)
	if err := q.SelectContext(ctx, &rows,
		`SELECT p.order_id, v.id, v.partner, v.number, v.invoiced_on, v.currency, p.revision, p.content
	  FROM invoice_parts p JOIN invoices v ON v.id = p.invoice_id WHERE `+where+
			` ORDER BY p.order_id, p.invoice_id, p.revision`, arg); err != nil {
		return err
	}
	for i := range rows {
		r := &rows[i]
		var v order.Invoice
		if err := json.Unmarshal([]byte(r.Content), &v); err != nil {
			return fmt.Errorf("invoice %d: %w", r.ID, err)
		}
		v.ID, v.Partner, v.Number, v.On, v.Currency = r.ID, r.Partner, r.Number, order.Date(r.On.String), r.Currency.String
		for k := range v.Lines {
			v.Lines[k].Revision = r.Revision
		}
		of[r.Order].Invoices = append(of[r.Order].Invoices, v)
	}
	return nil
}

func readAnswers(ctx context.Context, q querier, of map[int64]*StoredOrder, ids []int64) error {
	var rows []struct {
		Order   int64  `db:"order_id"`
		Content string `db:"content"`
	}
	where, arg := among("order_id", ids...)
	if err := q.SelectContext(ctx, &rows, `SELECT order_id, content FROM answers WHERE `+where+
		` ORDER BY order_id, revision`, arg); err != nil {
		return err
	}
	for _, r := range rows {
		var a order.Answered
		if err := json.Unmarshal([]byte(r.Content), &a); err != nil {
			return fmt.Errorf("order %d: %w", r.Order, err)
		}
		of[r.Order].Answers = append(of[r.Order].Answers, a)
	}
	return nil
}

// readSums reads the quantities of orders' lines that have moved and were invoiced.
func readSums(ctx context.Context, q querier, list []*StoredOrder, ids []int64) error {
	byID := map[int64]*order.Order{}
	for _, o := range list {
		byID[o.ID] = &o.Order
	}
	where, arg := among("p.order_id", ids...)
	return each(ctx, q, func(r *pack.Reader) error {
		id, kind := r.Int64(), r.Text()
		o := byID[id]
		err := quantities(r.Text(), func(line int, n order.Number) (err error) {
			at := o.Position(line)
			if at == 0 {
				return nil // it is not there any more
			}
			sum := &o.Lines[at-1].Invoiced
			if kind != "invoice" {
				sum = o.Lines[at-1].Moved(order.MovementKind(kind))
			}
			*sum, err = sum.Add(n)
			return err
		})
		if err != nil {
			return fmt.Errorf("order %d: %w", id, err)
		}
		return nil
	}, `SELECT pack(p.order_id, m.kind, p.lines) FROM movement_parts p JOIN movements m ON m.id = p.movement_id
	  WHERE `+where+` UNION ALL
	  SELECT pack(p.order_id, 'invoice', p.content ->> '$.lines') FROM invoice_parts p WHERE `+where, arg, arg)
}

// quantities yields line and quantity of the lines of a movement or invoice, as their encoders write them. For reading
// orders by the thousand, encoding/json takes longer than everything else.
func quantities(text string, yield func(line int, n order.Number) error) error {
	for rest := strings.TrimPrefix(text, "["); rest != "]"; {
		number, behind, ok := strings.Cut(strings.TrimPrefix(strings.TrimPrefix(rest, ","), `{"line":`), `,"quantity":"`)
		quantity, behind, closed := strings.Cut(behind, `"`)
		line, err := strconv.Atoi(number)
		if !ok || !closed || err != nil {
			return fmt.Errorf("no line with its quantity stands at %.40q", rest)
		}
		n, err := order.ParseNumber(quantity)
		if err == nil {
			err = yield(line, n)
		}
		if err != nil {
			return fmt.Errorf("line %d: %w", line, err)
		}
		if rest, ok = afterObject(behind); !ok {
			return fmt.Errorf("line %d has no end", line)
		}
	}
	return nil
}

// afterObject returns what stands behind the end of an object, inside of which a text begins.
func afterObject(s string) (rest string, ok bool) {
	for within, i := false, 0; i < len(s); i++ {
		switch {
		case s[i] == '\\' && within:
			i++
		case s[i] == '"':
			within = !within
		case s[i] == '}' && !within:
			return s[i+1:], true
		}
	}
	return "", false
}
