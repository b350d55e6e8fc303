package store

import (
	"context"
	"slices"
	"strings"
	"time"

	"koinos/api"
	"koinos/core/order"
)

// OrderFilter narrows a list of orders. Blank fields do not narrow.
type OrderFilter struct {
	Kind, Partner        string
	Number, SenderNumber string   // exactly, apart from letter case
	Statuses             []string // one of these; none is all
	Partners             []string // one of these; none is all
	Text                 string   // begins the number, the sender's number or the partner
	Load                 int64
	Due                  order.Date // wanted before this day, and nothing has moved; "" is any
	From, To             order.Date // ordered on these days or between; "" is any
	Changed              int64      // something happened to it behind this position of the change feed; 0 is any
	Before               int64      // id; 0 is from the newest on
	Limit                int
}

// Fits reports whether the filter includes an order, ignoring its load and its changes.
func (f *OrderFilter) Fits(o *order.Order) bool {
	begins := func(v string) bool { return strings.HasPrefix(strings.ToUpper(v), strings.ToUpper(f.Text)) }
	return (f.Kind == "" || f.Kind == string(o.Kind)) &&
		(len(f.Statuses) == 0 || slices.Contains(f.Statuses, string(o.Status))) &&
		(f.Partner == "" || strings.EqualFold(f.Partner, o.Partner)) &&
		(f.Number == "" || strings.EqualFold(f.Number, o.Number)) &&
		(f.SenderNumber == "" || strings.EqualFold(f.SenderNumber, o.SenderNumber)) &&
		(len(f.Partners) == 0 || slices.ContainsFunc(f.Partners,
			func(p string) bool { return strings.EqualFold(p, o.Partner) })) &&
		(f.Due == "" || (o.Status == order.Open || o.Status == order.Confirmed) && o.RequestedDeliveryOn != "" &&
			o.RequestedDeliveryOn < f.Due) &&
		(f.From == "" || o.OrderedOn >= f.From) && (f.To == "" || o.OrderedOn != "" && o.OrderedOn <= f.To) &&
		(f.Text == "" || begins(o.Number) || begins(o.SenderNumber) || begins(o.Partner))
}

// numbers are those that an order must have exactly; "" is none.
func (f *OrderFilter) numbers() string { return f.Number + f.SenderNumber }

// All reports whether the filter includes every order.
func (f *OrderFilter) All() bool {
	return f.Kind+f.Partner+f.numbers()+f.Text == "" && len(f.Statuses)+len(f.Partners) == 0 && f.Load == 0 &&
		f.Due+f.From+f.To == "" &&
		f.Changed == 0
}

// Orders lists orders, newest first. next is the Before for what follows; 0 means that nothing does. If very many
// orders must be examined to find the next few, a list may be shorter than its limit, or empty, with more to follow.
func (s *Store) Orders(ctx context.Context, f OrderFilter) (list []api.OrderSummary, next int64, err error) {
	ids, next, err := s.orderIDs(ctx, f)
	list = []api.OrderSummary{}
	if err != nil || len(ids) == 0 {
		return list, next, err
	}
	where, arg := among("id", ids...)
	err = s.r.SelectContext(ctx, &list, `SELECT id, kind, number, coalesce(sender_number, '') AS sender_number, partner,
	  coalesce(ordered_on, '') AS ordered_on, coalesce(requested_delivery_on, '') AS requested_delivery_on,
	  coalesce(currency, '') AS currency, total, line_count, status, revision, coalesce(load_id, 0) AS load_id
	  FROM orders WHERE `+where+` ORDER BY id DESC`, arg)
	return list, next, err
}

// orderIDs is Orders, of which only the ids are read.
func (s *Store) orderIDs(ctx context.Context, f OrderFilter) (ids []int64, next int64, err error) {
	limit := f.Limit
	f.Limit++
	runs := f.runs()
	broad, err := s.broad(ctx, &f)
	if err != nil {
		return nil, 0, err
	}
	whole := false
	if broad || len(runs) > mostRuns {
		ids, next, err = s.sift(ctx, f)
		if whole = next == 0; err != nil || !whole && !f.textAlone() {
			return ids, next, err
		}
	}
	if !whole {
		ids, next = nil, 0
		query, args := f.query(runs)
		if err := s.r.SelectContext(ctx, &ids, query, args...); err != nil {
			return nil, 0, err
		}
	}
	if len(ids) > limit {
		ids = ids[:limit]
		next = ids[limit-1]
	}
	return ids, next, nil
}

// run is a part of an index in which orders follow each other, oldest first.
type run struct{ partner, kind, status string }

// mostRuns is how many runs are merged into a list.
const mostRuns = 120

// runs are those that contain exactly the orders of a filter; none means that no index of runs is needed.
func (f *OrderFilter) runs() (runs []run) {
	if f.numbers() != "" || f.Load != 0 || f.Due != "" || f.Changed != 0 ||
		f.Partner+f.Kind == "" && len(f.Partners)+len(f.Statuses) == 0 {
		return nil
	}
	or := func(some []string, all ...string) []string {
		if len(some) > 0 {
			return some
		}
		return all
	}
	one := func(v string) []string {
		if v == "" {
			return nil
		}
		return []string{v}
	}
	partners := or(one(f.Partner), f.Partners...)
	if f.Partner != "" && len(f.Partners) > 0 && !slices.ContainsFunc(f.Partners,
		func(p string) bool { return strings.EqualFold(p, f.Partner) }) {
		return []run{{f.Partner, "", ""}} // there is no such order
	}
	if len(partners) == 0 {
		partners = []string{""}
	}
	there := map[run]bool{}
	for _, partner := range partners {
		for _, kind := range or(one(f.Kind), string(order.Sales), string(order.Purchase)) {
			for _, status := range or(f.Statuses, statuses...) {
				// A run that occurred twice would yield each order twice.
				if once := (run{strings.ToUpper(partner), kind, status}); !there[once] {
					there[once] = true
					runs = append(runs, run{partner, kind, status})
				}
			}
		}
	}
	return runs
}

var statuses = []string{string(order.Draft), string(order.Open), string(order.Confirmed), string(order.Partial),
	string(order.Complete), string(order.Cancelled)}

// query merges runs, each of which an index has in the list's order, and gives ids.
func (f *OrderFilter) query(runs []run) (string, []any) {
	if f.textAlone() {
		return f.newest()
	}
	where, args := f.where()
	if len(runs) == 0 || f.Text != "" { // a text that is not broad gives fewer orders than a run
		return `SELECT id FROM orders ` + where + ` ORDER BY id DESC LIMIT ?`, append(args, f.Limit)
	}
	args = nil
	var each []string
	for _, r := range runs {
		one := "SELECT id FROM orders WHERE kind = ? AND status = ?"
		args = append(args, r.kind, r.status)
		if r.partner != "" {
			one += " AND partner = ? COLLATE NOCASE"
			args = append(args, r.partner)
		}
		if f.Before != 0 {
			one += " AND id < ?"
			args = append(args, f.Before)
		}
		each = append(each, one)
	}
	return `SELECT id FROM (` + strings.Join(each, " UNION ALL ") + ` ORDER BY id DESC LIMIT ?)`, append(args, f.Limit)
}

// textAlone reports whether orders are searched by a text and by nothing else, except possibly their kind. Indexes
// alone answer that.
func (f *OrderFilter) textAlone() bool {
	return f.Text != "" && f.Partner+f.numbers() == "" && len(f.Partners)+len(f.Statuses) == 0 && f.Load == 0 &&
		f.Due+f.From+f.To == "" &&
		f.Changed == 0
}

// newest takes the newest orders of each column that is searched for a text, and of these the newest.
func (f *OrderFilter) newest() (string, []any) {
	var each []string
	var args []any
	for _, b := range beginnings(f.Text) {
		one := "SELECT id FROM orders WHERE " + b.indexed()
		args = append(args, b.from, b.to)
		if f.Kind != "" {
			one += " AND kind = ?"
			args = append(args, f.Kind)
		}
		if f.Before != 0 {
			one += " AND id < ?"
			args = append(args, f.Before)
		}
		each, args = append(each, "SELECT id FROM ("+one+" ORDER BY id DESC LIMIT ?)"), append(args, f.Limit)
	}
	return "SELECT id FROM (" + strings.Join(each, " UNION ") + ") ORDER BY id DESC LIMIT ?", append(args, f.Limit)
}

// overdue is the condition of the index orders_due.
const overdue = `status IN ('open', 'confirmed') AND requested_delivery_on IS NOT NULL AND requested_delivery_on < ?`

// Overdue counts orders that were wanted before a day and of which nothing has moved, up to most.
func (s *Store) Overdue(ctx context.Context, day order.Date, most int) (n int, err error) {
	err = s.r.GetContext(ctx, &n, `SELECT count(*) FROM (SELECT 1 FROM orders WHERE `+overdue+` LIMIT ?)`, string(day),
		most)
	return n, err
}

// where is the filter as a condition.
func (f *OrderFilter) where() (string, []any) {
	all, args := []string{}, []any{}
	add := func(condition string, values ...any) { all, args = append(all, condition), append(args, values...) }
	if f.Before != 0 {
		add("id < ?", f.Before)
	}
	if f.Number != "" {
		add("kind IN ('sales', 'purchase') AND number IN (?, ?)", f.Number, strings.ToUpper(f.Number))
	}
	for _, c := range []struct{ condition, value string }{
		{"sender_number = ? COLLATE NOCASE", f.SenderNumber},
		{"+partner = ? COLLATE NOCASE", f.Partner}, {"+kind = ?", f.Kind},
		{"+ordered_on >= ?", string(f.From)}, {"+ordered_on <= ?", string(f.To)}} {
		if c.value != "" {
			add(c.condition, c.value)
		}
	}
	if f.Load != 0 {
		add("load_id = ?", f.Load)
	}
	if f.Due != "" {
		add(overdue, string(f.Due))
	}
	if f.Changed != 0 {
		add("id IN (SELECT order_id FROM events WHERE n > ?)", f.Changed)
	}
	for _, c := range []struct {
		column string
		values []string
	}{{"+partner COLLATE NOCASE", f.Partners}, {"+status", f.Statuses}} {
		if len(c.values) > 0 {
			of := make([]any, len(c.values))
			for i, v := range c.values {
				of[i] = v
			}
			add(c.column+" IN (?"+strings.Repeat(", ?", len(of)-1)+")", of...)
		}
	}
	if f.Text != "" {
		var each []string
		var values []any
		for _, b := range beginnings(f.Text) {
			each, values = append(each, "SELECT id FROM orders WHERE "+b.indexed()), append(values, b.from, b.to)
		}
		add("id IN ("+strings.Join(each, " UNION ")+")", values...)
	}
	if len(all) == 0 {
		return "", nil
	}
	return "WHERE " + strings.Join(all, " AND "), args
}

// beginning is a column that is searched for a text, and the texts that begin with it.
type beginning struct{ column, from, to string }

func beginnings(text string) []beginning {
	upper, last := strings.ToUpper(text), "\U0010ffff" // numbers from a series are in capitals
	all := []beginning{{"number", text, text + last}, {"sender_number COLLATE NOCASE", text, text + last},
		{"partner COLLATE NOCASE", text, text + last}}
	if upper != text {
		all = append(all, beginning{"number", upper, upper + last})
	}
	return all
}

// indexed is the condition in the form that an index answers.
func (b beginning) indexed() string {
	if b.column == "number" {
		return "kind IN ('sales', 'purchase') AND number BETWEEN ? AND ?"
	}
	return b.column + " BETWEEN ? AND ?"
}

// A filter is broad if no index has its orders in the list's order, and more of them must be examined than are worth
// sorting.
var mostSorted = 20_000

func (s *Store) broad(ctx context.Context, f *OrderFilter) (is bool, err error) {
	if f.Changed == 0 && f.From+f.To != "" { // no index has days
		return f.numbers() == "" && f.Load == 0 && f.Due == "", nil
	}
	counts, args := []string{"0"}, []any{}
	count := func(of string, values ...any) {
		counts, args = append(counts, "(SELECT count(*) FROM (SELECT 1 FROM "+of+" LIMIT ?))"),
			append(append(args, values...), mostSorted)
	}
	if f.Changed != 0 {
		count("events WHERE n > ?", f.Changed)
	}
	if f.Text != "" {
		for _, b := range beginnings(f.Text) {
			count("orders WHERE "+b.indexed(), b.from, b.to)
		}
	}
	if len(counts) == 1 {
		return false, nil
	}
	err = s.r.GetContext(ctx, &is, "SELECT max("+strings.Join(counts, ", ")+") >= ?", append(args, mostSorted)...)
	return is, err
}

// How many orders are examined at a time if no index has them in the list's order, and for how long.
var (
	sifted  = int64(20_000)
	siftFor = 40 * time.Millisecond
)

// sift examines orders from the newest on.
func (s *Store) sift(ctx context.Context, f OrderFilter) (list []int64, next int64, err error) {
	began := time.Now()
	high := f.Before
	if high == 0 {
		if err := s.r.GetContext(ctx, &high, `SELECT coalesce(max(id), 0) + 1 FROM orders`); err != nil {
			return nil, 0, err
		}
	}
	text, changed := f.Text, f.Changed
	f.Before, f.Text, f.Changed = 0, "", 0
	where, args := f.where()
	if where == "" {
		where = "WHERE true"
	}
	if changed != 0 {
		where += " AND EXISTS (SELECT 1 FROM events WHERE order_id = orders.id AND n > ?)"
		args = append(args, changed)
	}
	var each []string
	// Every text begins with "". Without an index, the orders are examined in the list's order.
	for _, b := range beginnings(text) {
		each, args = append(each, "+"+b.column+" BETWEEN ? AND ?"), append(args, b.from, b.to)
	}
	where += " AND (" + strings.Join(each, " OR ") + ")"
	for {
		var some []int64
		low := max(high-sifted, 0)
		if err := s.r.SelectContext(ctx, &some, `SELECT id FROM orders `+where+
			` AND id >= ? AND id < ? ORDER BY id DESC LIMIT ?`,
			append(slices.Clone(args), low, high, f.Limit-len(list))...); err != nil {
			return nil, 0, err
		}
		list, high = append(list, some...), low
		if len(list) == f.Limit || high <= 1 {
			return list, 0, nil
		}
		if time.Since(began) > siftFor {
			return list, high, nil
		}
	}
}
