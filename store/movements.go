package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"koinos/core/order"
	"koinos/store/pack"
)

var (
	movementColumns     = columnsOf("movements", "id", "kind", "partner", "number", "moved_on", "more")
	movementLineColumns = columnsOf("movement_lines", "movement_id", "order_id", "line_id", "n", "revision", "quantity",
		"lot", "more")
	invoiceColumns = columnsOf("invoice_lines", "invoice_id", "order_id", "line_id", "n", "revision", "quantity",
		"unit_price", "amount", "more")
)

// moveStated posts what an order says has moved beyond its movements. Nobody gave this movement a number, so its number
// is the order's with its revision.
func (s *Changes) moveStated(was, is *order.Order) error {
	before := map[int]*order.Line{}
	if was != nil {
		for i := range was.Lines {
			before[was.Lines[i].ID] = &was.Lines[i]
		}
	}
	for _, kind := range []order.MovementKind{order.Shipment, order.Receipt} {
		var moves []order.MovementLine
		for i := range is.Lines {
			l := &is.Lines[i]
			moved, sofar := *l.Moved(kind), order.Number{}
			if was == nil && moved.IsZero() {
				continue
			}
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
				moves = append(moves, order.MovementLine{Line: l.ID, Quantity: more})
			}
		}
		if len(moves) == 0 {
			continue
		}
		m := order.Movement{Kind: kind, Partner: is.Partner, Number: fmt.Sprintf("%s/%d", is.Number, is.Revision),
			On: order.Date(s.when.UTC().Format(time.DateOnly)), Lines: moves}
		if err := s.move(is, &m); err != nil {
			return err
		}
	}
	return nil
}

// move posts a movement of lines of an order, or adds them to the existing one of its number, which may move goods of
// several orders.
func (s *Changes) move(o *order.Order, m *order.Movement) error {
	key := MovementKey{m.Kind, m.Partner, m.Number}
	if err := s.Ask(key); err != nil {
		return err
	}
	known := s.movements[key]
	if known.ID == 0 {
		more := *m
		more.ID, more.Kind, more.Partner, more.Number, more.On, more.Lines = 0, "", "", "", "", nil
		text, err := json.Marshal(more)
		if err != nil {
			return err
		}
		if known.ID, err = s.t.nextMovement(); err != nil {
			return err
		}
		known.Reverses = m.Reverses
		s.movements[key] = known
		s.moved.row().Int64(known.ID).Text(string(m.Kind)).Text(m.Partner).Text(m.Number).TextOrNull(string(m.On)).
			TextBytes(text)
	}
	m.ID = known.ID
	for i, l := range m.Lines {
		var more []byte
		if l.LineDetail != (order.LineDetail{}) {
			var err error
			if more, err = json.Marshal(l.LineDetail); err != nil {
				return err
			}
		}
		s.lines.row().Int64(m.ID).Int64(o.ID).Int(l.Line).Int(i + 1).Int(o.Revision).Text(l.Quantity.String()).
			TextOrNull(l.Lot).TextBytes(more)
	}
	return errors.Join(s.moved.err, s.lines.err)
}

// MovementKey identifies a movement.
type MovementKey struct {
	Kind            order.MovementKind
	Partner, Number string
}

// Posted is what is known about a movement; without an id it does not exist.
type Posted struct {
	ID       int64
	Reverses string
}

// nextMovement returns the id of a new movement; none is used twice.
func (t *Tx) nextMovement() (int64, error) {
	if t.lastMovement == 0 {
		var last sql.NullInt64
		if err := t.row(`SELECT max(seq) FROM sqlite_sequence WHERE name = 'movements'`, nil, &last); err != nil {
			return 0, err
		}
		t.lastMovement = last.Int64
	}
	t.lastMovement++
	return t.lastMovement, nil
}

// Ask finds out which of some movements exist. Movements that are asked for together take one query.
func (s *Changes) Ask(all ...MovementKey) error {
	all = slices.DeleteFunc(slices.Clone(all), func(k MovementKey) bool { _, known := s.movements[k]; return known })
	return readPosted(s.t.ctx, s.t, all, s.movements)
}

// readPosted reads what is known about some movements.
func readPosted(ctx context.Context, q querier, all []MovementKey, into map[MovementKey]Posted) error {
	type side struct {
		kind    order.MovementKind
		partner string
	}
	by := map[side][]string{}
	for _, k := range all {
		into[k] = Posted{}
		by[side{k.Kind, k.Partner}] = append(by[side{k.Kind, k.Partner}], k.Number)
	}
	for of, numbers := range by {
		text, err := json.Marshal(numbers)
		if err != nil {
			return err
		}
		if err := each(ctx, q, func(r *pack.Reader) error {
			into[MovementKey{of.kind, of.partner, r.Text()}] = Posted{r.Int64(), r.Text()}
			return nil
		}, `SELECT pack(number, id, more ->> 'reverses') FROM movements
		  WHERE kind = ? AND partner = ? AND number IN (SELECT value FROM json_each(?))`, string(of.kind), of.partner,
			string(text)); err != nil {
			return err
		}
	}
	return nil
}

// Reverses returns the number of the movement that a movement takes back, whatever orders it is of; "" if there is
// none. It returns false if the movement does not exist.
func (s *Changes) Reverses(kind order.MovementKind, partner, number string) (reverses string, there bool, err error) {
	key := MovementKey{kind, partner, number}
	if _, known := s.movements[key]; !known {
		err = s.Ask(key)
	}
	is := s.movements[key]
	return is.Reverses, is.ID > 0, err
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
	if err := t.run(`INSERT INTO invoices (partner, number, invoiced_on, currency) VALUES (?, ?, ?, ?)
		ON CONFLICT DO NOTHING`, v.Partner, v.Number, null(string(v.On)), null(v.Currency)); err != nil {
		return err
	}
	if err := t.row(`SELECT id FROM invoices WHERE partner = ? AND number = ?`, []any{v.Partner, v.Number},
		&v.ID); err != nil {
		return err
	}
	part, err := json.Marshal(v.InvoicePart)
	if err != nil {
		return err
	}
	if err := t.run(`INSERT INTO invoice_parts (order_id, invoice_id, revision, content) VALUES (?, ?, ?, ?)`, o.ID, v.ID,
		o.Revision, string(part)); err != nil {
		return err
	}
	b := t.bulk(invoiceColumns)
	for i, l := range v.Lines {
		var more []byte
		if l.InvoiceTerms != (order.InvoiceTerms{}) {
			var err error
			if more, err = json.Marshal(l.InvoiceTerms); err != nil {
				return err
			}
		}
		b.row().Int64(v.ID).Int64(o.ID).Int(l.Line).Int(i + 1).Int(o.Revision).Text(l.Quantity.String()).
			TextBy(l.UnitPrice.AppendText).TextBy(l.Amount.AppendText).TextBytes(more)
	}
	return b.done()
}

// NextInvoice returns the next number of the series of invoices.
func (t *Tx) NextInvoice() (number string, err error) {
	err = t.row(`UPDATE series SET next = next + 1 WHERE kind = 'invoice' RETURNING prefix || printf('%06d', next - 1)`,
		nil, &number)
	return number, err
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
			ids = append(ids, of[0])
		}
	}
	byID, err := ordersNow(ctx, tx, ids, lines)
	if err != nil {
		return nil, nil, err
	}
	orders = make([]*StoredOrder, len(names))
	for i, of := range found {
		if len(of) == 1 {
			orders[i] = byID[of[0]]
			delete(byID, of[0])
		}
	}
	return orders, known, nil
}

// Revisions returns the revisions of orders, by their ids.
func (t *Tx) Revisions(ids []int64) (map[int64]int, error) {
	at := make(map[int64]int, len(ids))
	if len(ids) == 0 {
		return at, nil
	}
	where, arg := among("id", ids...)
	return at, each(t.ctx, t, func(r *pack.Reader) error { at[r.Int64()] = r.Int(); return nil },
		`SELECT pack(id, revision) FROM orders WHERE `+where, arg)
}

// OrdersOf finds orders of a partner by our number or the sender's. More than one result means that the number is
// ambiguous.
func (s *Store) OrdersOf(ctx context.Context, kind order.Kind, partner, number, sender string) (ids []int64,
	err error) {
	if number != "" {
		err = s.r.SelectContext(ctx, &ids, `SELECT id FROM orders WHERE kind = ? AND number IN (?, ?) AND partner = ?`,
			string(kind), number, strings.ToUpper(number), partner)
		if err != nil || len(ids) > 0 {
			return ids, err
		}
	}
	if sender != "" {
		err = s.r.SelectContext(ctx, &ids,
			`SELECT id FROM orders WHERE sender_number = ? COLLATE NOCASE AND kind = ? AND partner = ? ORDER BY id`,
			sender, string(kind), partner)
	}
	return ids, err
}

// OrdersMoved returns the orders that a movement is of, oldest first.
func (s *Store) OrdersMoved(ctx context.Context, kind order.MovementKind, partner, number string) ([]int64, error) {
	return ordersMoved(ctx, s.r, kind, partner, number)
}

// OrdersBilled returns the numbers of the orders that an invoice is of, oldest first.
func (s *Store) OrdersBilled(ctx context.Context, partner, number string) (numbers []string, err error) {
	err = s.r.SelectContext(ctx, &numbers, `SELECT DISTINCT o.number FROM invoices v JOIN invoice_parts p ON p.invoice_id = v.id
	  JOIN orders o ON o.id = p.order_id WHERE v.partner = ? AND v.number = ? ORDER BY o.id`, partner, number)
	return numbers, err
}

// OrdersMoved is Store.OrdersMoved, including what the transaction has written.
func (t *Tx) OrdersMoved(kind order.MovementKind, partner, number string) ([]int64, error) {
	return ordersMoved(t.ctx, t, kind, partner, number)
}

func ordersMoved(ctx context.Context, q querier, kind order.MovementKind, partner, number string) (ids []int64,
	err error) {
	err = q.SelectContext(ctx, &ids, `SELECT DISTINCT ml.order_id FROM movements m JOIN movement_lines ml ON ml.movement_id = m.id
	  WHERE m.kind = ? AND m.partner = ? AND m.number = ? ORDER BY ml.order_id`, string(kind), partner, number)
	return ids, err
}

// Spoken is what a notice calls its order.
type Spoken struct {
	Kind                    order.Kind
	Partner, Number, Sender string
}

// OrdersOf is Store.OrdersOf for many at once, in their order.
func (t *Tx) OrdersOf(all []Spoken) ([][]int64, error) { return ordersOf(t.ctx, t, all) }

func ordersOf(ctx context.Context, q querier, all []Spoken) ([][]int64, error) {
	type side struct {
		kind    order.Kind
		partner string
	}
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
	byNumber, bySender := map[Spoken][]int64{}, map[Spoken][]int64{}
	look := func(of map[side][]string, condition string, into map[Spoken][]int64, name func(side, string) Spoken) error {
		for from, list := range of {
			text, err := json.Marshal(list)
			if err != nil {
				return err
			}
			var rows []struct {
				ID   int64  `db:"id"`
				Name string `db:"name"`
			}
			if err := q.SelectContext(ctx, &rows, condition, string(from.kind), from.partner, string(text)); err != nil {
				return err
			}
			for _, r := range rows {
				key := name(from, r.Name)
				into[key] = append(into[key], r.ID)
			}
		}
		return nil
	}
	if err := errors.Join(look(numbers, `SELECT id, number AS name FROM orders WHERE kind = ? AND +partner = ? AND number IN (SELECT value
		FROM json_each(?))`, byNumber, func(of side, n string) Spoken { return Spoken{of.kind, of.partner, n, ""} }),
		look(senders, `SELECT id, sender_number AS name FROM orders WHERE +kind = ? AND +partner = ? AND sender_number COLLATE NOCASE IN (SELECT value
		FROM json_each(?)) ORDER BY id`, bySender, func(of side, n string) Spoken { return Spoken{of.kind, of.partner, "", fold(n)} })); err != nil {
		return nil, err
	}
	ids := make([][]int64, len(all))
	for i, n := range all {
		if n.Number != "" {
			ids[i] = byNumber[Spoken{n.Kind, n.Partner, n.Number, ""}]
			if upper := strings.ToUpper(n.Number); upper != n.Number {
				ids[i] = append(ids[i], byNumber[Spoken{n.Kind, n.Partner, upper, ""}]...)
			}
		}
		if len(ids[i]) == 0 && n.Sender != "" {
			ids[i] = bySender[Spoken{n.Kind, n.Partner, "", fold(n.Sender)}]
		}
	}
	return ids, nil
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

// readMoved fills in the movements, answers and invoices of orders.
func readMoved(ctx context.Context, q querier, list []*StoredOrder) error {
	byID, ids := make(map[int64]*StoredOrder, len(list)), make([]int64, len(list))
	for i, o := range list {
		byID[o.ID], ids[i] = o, o.ID
	}
	if err := errors.Join(readMovements(ctx, q, byID, ids), readInvoices(ctx, q, byID, ids)); err != nil {
		return err
	}
	var answers []struct {
		Order   int64  `db:"order_id"`
		Content string `db:"content"`
	}
	where, arg := among("order_id", ids...)
	if err := q.SelectContext(ctx, &answers, `SELECT order_id, content FROM answers WHERE `+where+
		` ORDER BY order_id, revision`,
		arg); err != nil {
		return err
	}
	for _, r := range answers {
		var a order.Answered
		if err := json.Unmarshal([]byte(r.Content), &a); err != nil {
			return fmt.Errorf("order %d: %w", r.Order, err)
		}
		byID[r.Order].Answers = append(byID[r.Order].Answers, a)
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
	var rows []struct { // what the whole movement holds, such as thousands of packages, comes with its first line only
		Order    int64          `db:"order_id"`
		ID       int64          `db:"id"`
		Kind     string         `db:"kind"`
		Partner  string         `db:"partner"`
		Number   string         `db:"number"`
		On       sql.NullString `db:"moved_on"`
		More     sql.NullString `db:"more"`
		N        int            `db:"n"`
		Line     int            `db:"line_id"`
		Quantity string         `db:"quantity"`
		Lot      sql.NullString `db:"lot"`
		Detail   sql.NullString `db:"detail"`
		Revision int            `db:"revision"`
	}
	where, arg := among("l.order_id", ids...)
	if err := q.SelectContext(ctx, &rows,
		`SELECT l.order_id, m.id, m.kind, m.partner, m.number, m.moved_on, CASE WHEN l.n <= 1 THEN m.more END AS more, l.n, l.line_id, l.quantity, l.lot, l.more AS detail, l.revision
	  FROM movement_lines l JOIN movements m ON m.id = l.movement_id WHERE `+where+` ORDER BY l.order_id, l.movement_id, l.n`, arg); err != nil {
		return err
	}
	for i := range rows {
		r := &rows[i]
		list := of[r.Order].Movements
		if len(list) == 0 || list[len(list)-1].ID != r.ID {
			var m order.Movement
			if r.N > 1 {
				if err := q.GetContext(ctx, &r.More, `SELECT more FROM movements WHERE id = ?`, r.ID); err != nil {
					return err
				}
			}
			if r.More.Valid {
				if err := json.Unmarshal([]byte(r.More.String), &m); err != nil {
					return fmt.Errorf("movement %d: %w", r.ID, err)
				}
			}
			m.ID, m.Kind, m.Partner, m.Number, m.On, m.Lines = r.ID, order.MovementKind(r.Kind), r.Partner, r.Number,
				order.Date(r.On.String), nil
			list = append(list, m)
		}
		quantity, err := order.ParseNumber(r.Quantity)
		if err != nil {
			return fmt.Errorf("movement %d: %w", r.ID, err)
		}
		line := order.MovementLine{Line: r.Line, Quantity: quantity, Lot: r.Lot.String, Revision: r.Revision}
		if r.Detail.Valid {
			if err := json.Unmarshal([]byte(r.Detail.String), &line.LineDetail); err != nil {
				return fmt.Errorf("movement %d: %w", r.ID, err)
			}
		}
		m := &list[len(list)-1]
		m.Lines = append(m.Lines, line)
		of[r.Order].Movements = list
	}
	return nil
}

// partOf identifies what an invoice says of an order besides its lines.
type partOf struct {
	order, invoice int64
	revision       int
}

// readInvoiceParts reads these parts by themselves: one can hold thousands of charges, and would come with each line.
func readInvoiceParts(ctx context.Context, q querier, ids []int64) (map[partOf]string, error) {
	var rows []struct {
		Order    int64  `db:"order_id"`
		Invoice  int64  `db:"invoice_id"`
		Revision int    `db:"revision"`
		Content  string `db:"content"`
	}
	where, arg := among("order_id", ids...)
	err := q.SelectContext(ctx, &rows, `SELECT order_id, invoice_id, revision, content FROM invoice_parts WHERE `+where, arg)
	parts := make(map[partOf]string, len(rows))
	for _, r := range rows {
		parts[partOf{r.Order, r.Invoice, r.Revision}] = r.Content
	}
	return parts, err
}

func readInvoices(ctx context.Context, q querier, of map[int64]*StoredOrder, ids []int64) error {
	var rows []struct {
		Order    int64          `db:"order_id"`
		ID       int64          `db:"id"`
		Partner  string         `db:"partner"`
		Number   string         `db:"number"`
		On       sql.NullString `db:"invoiced_on"`
		Currency sql.NullString `db:"currency"`
		More     sql.NullString `db:"more"`
		Line     int            `db:"line_id"`
		Quantity string         `db:"quantity"`
		Price    sql.NullString `db:"unit_price"`
		Amount   sql.NullString `db:"amount"`
		Revision int            `db:"revision"`
	}
	where, arg := among("l.order_id", ids...)
	if err := q.SelectContext(ctx, &rows,
		`SELECT l.order_id, v.id, v.partner, v.number, v.invoiced_on, v.currency, l.line_id, l.quantity, l.unit_price, l.amount, l.more, l.revision
	  FROM invoice_lines l JOIN invoices v ON v.id = l.invoice_id WHERE `+where+
			` ORDER BY l.order_id, l.invoice_id, l.n`, arg); err != nil || len(rows) == 0 {
		return err
	}
	parts, err := readInvoiceParts(ctx, q, ids)
	if err != nil {
		return err
	}
	for i := range rows {
		r := &rows[i]
		list := of[r.Order].Invoices
		var n [3]order.Number
		for k, text := range []string{r.Quantity, r.Price.String, r.Amount.String} {
			var err error
			if n[k], err = order.ParseNumber(text); err != nil {
				return fmt.Errorf("invoice %d: %w", r.ID, err)
			}
		}
		if len(list) == 0 || list[len(list)-1].ID != r.ID {
			v := order.Invoice{ID: r.ID, Partner: r.Partner, Number: r.Number, On: order.Date(r.On.String),
				Currency: r.Currency.String}
			part, there := parts[partOf{r.Order, r.ID, r.Revision}]
			if !there {
				return fmt.Errorf("invoice %d: nothing says what it is besides its lines", r.ID)
			}
			if err := json.Unmarshal([]byte(part), &v.InvoicePart); err != nil {
				return fmt.Errorf("invoice %d: %w", r.ID, err)
			}
			list = append(list, v)
		}
		v := &list[len(list)-1]
		line := order.InvoiceLine{Line: r.Line, Quantity: n[0], UnitPrice: n[1], Amount: n[2], Revision: r.Revision}
		if r.More.Valid {
			if err := json.Unmarshal([]byte(r.More.String), &line.InvoiceTerms); err != nil {
				return fmt.Errorf("invoice %d: %w", r.ID, err)
			}
		}
		v.Lines = append(v.Lines, line)
		of[r.Order].Invoices = list
	}
	return nil
}
