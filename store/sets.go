package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"time"

	"koinos/api"
	"koinos/core/finding"
)

type setRow struct {
	Interchange  int64         `db:"interchange"`
	Seq          int           `db:"seq"`
	Kind         string        `db:"kind"`
	GroupControl string        `db:"group_control"`
	Control      string        `db:"control"`
	Row          int           `db:"row"`
	Rows         int           `db:"rows"`
	State        string        `db:"state"`
	LoadID       sql.NullInt64 `db:"load_id"`
	Findings     string        `db:"findings"`
}

// spokenRow is an order that a set is about.
type spokenRow struct {
	SetSeq   int            `db:"set_seq"`
	OrderID  sql.NullInt64  `db:"order_id"`
	Number   string         `db:"number"`
	Revision int            `db:"order_revision"`
	Said     sql.NullString `db:"said"`
}

func (r *spokenRow) order() api.SpokenOf {
	o := api.SpokenOf{Number: r.Number, OrderID: r.OrderID.Int64, Revision: r.Revision}
	if r.Said.Valid {
		o.Said = json.RawMessage(r.Said.String)
	}
	return o
}

func (r *setRow) set() (api.SetRecord, error) {
	s := api.SetRecord{Interchange: r.Interchange, Seq: r.Seq, Kind: r.Kind, GroupControl: r.GroupControl,
		Control: r.Control, Row: r.Row, Rows: r.Rows, State: r.State, LoadID: r.LoadID.Int64,
		Orders: []api.SpokenOf{}}
	return s, json.Unmarshal([]byte(r.Findings), &s.Findings)
}

var (
	setColumns = columnsOf("sets", "interchange", "seq", "kind", "group_control", "control", "row", "rows", "state",
		"load_id", "findings").orElse("state", "load_id", "findings")
	spokenColumns = columnsOf("set_orders", "interchange", "set_seq", "place", "order_id", "number", "order_revision",
		"said")
)

// PutSets stores new sets of an interchange, and the results of existing ones. Held sets are added to the list of held
// work; others are removed from it.
func (t *Tx) PutSets(interchange int64, sets []api.SetRecord) error {
	if len(sets) == 0 {
		return nil
	}
	rows := t.bulk(setColumns)
	var free []int
	held := false
	for k := range sets {
		s := &sets[k]
		s.Interchange = interchange
		found, err := json.Marshal(nonNil(s.Findings))
		if err != nil {
			return err
		}
		rows.row().Int64(interchange).Int(s.Seq).Text(s.Kind).Text(s.GroupControl).Text(s.Control).Int(s.Row).
			Int(s.Rows).Text(s.State).Int64OrNull(s.LoadID).Text(string(found))
		if s.State == api.StateHeld {
			held = true
		} else {
			free = append(free, s.Seq)
		}
	}
	if err := errors.Join(rows.done(), t.putSpoken(interchange, sets), t.releaseSets(interchange, free)); err != nil ||
		!held {
		return err
	}
	h := api.HeldWork{Interchange: interchange}
	var direction, since string
	if err := t.row(`SELECT partner, direction, at FROM interchanges WHERE id = ?`, []any{interchange}, &h.Partner,
		&direction, &since); err != nil {
		return err
	}
	h.Kind, h.Since = map[string]string{"in": api.HeldSet, "out": api.HeldNotice}[direction], parseTime(since)
	for k := range sets {
		s := &sets[k]
		if s.State != api.StateHeld {
			continue
		}
		h.Set, h.OrderID, h.Number = s.Seq, s.First().OrderID, s.First().Number
		h.Code, h.Reason = reason(s.Findings)
		if err := t.Hold(h); err != nil {
			return err
		}
	}
	return nil
}

// putSpoken stores which orders sets are about, and replaces what was stored before.
func (t *Tx) putSpoken(interchange int64, sets []api.SetRecord) error {
	rows := t.bulk(spokenColumns)
	if err := t.run(`DELETE FROM set_orders WHERE interchange = ? AND set_seq IN (SELECT value FROM json_each(?))`,
		interchange, seqsOf(sets)); err != nil {
		return err
	}
	for k := range sets {
		for place, o := range sets[k].Orders {
			rows.row().Int64(interchange).Int(sets[k].Seq).Int(place + 1).Int64OrNull(o.OrderID).Text(o.Number).
				Int(o.Revision).TextBytes(o.Said)
		}
	}
	return rows.done()
}

// reason is why a set is held: its first error, or else its first finding.
func reason(found []finding.Finding) (code, why string) {
	why = "It waits for a person."
	for i := len(found) - 1; i >= 0; i-- {
		if f := &found[i]; i == 0 && code == "" || f.Severity == finding.Error {
			code, why = string(f.Code), f.Message
		}
	}
	return code, why
}

// ForgetSets deletes a number of the first sets of an interchange, and reports whether there may be more: they are read
// again.
func (t *Tx) ForgetSets(interchange int64, most int) (more bool, err error) {
	res, err := t.exec(`DELETE FROM sets WHERE interchange = ?1 AND seq IN (SELECT seq FROM sets WHERE interchange = ?1
		ORDER BY seq LIMIT ?2)`, interchange, most)
	if err != nil {
		return false, err
	}
	n, err := res.RowsAffected()
	return n == int64(most), err
}

// SentSets records that the sets of an interchange were sent.
func (t *Tx) SentSets(interchange int64) error {
	return t.run(`UPDATE sets SET state = 'sent' WHERE interchange = ? AND state = 'ready'`, interchange)
}

// SetFilter chooses sets of an interchange.
type SetFilter struct {
	State  string // empty for any
	Number string // its control number, or the number of an order of which it speaks, in any letter case
	After  int    // behind the set with this number, counted from 1
	Limit  int

	worst bool // those that are held or rejected come first
}

// Sets returns sets of an interchange, in their order.
func (s *Store) Sets(ctx context.Context, id int64, f SetFilter) ([]api.SetRecord, error) {
	return readSets(ctx, s.r, id, f)
}

func readSets(ctx context.Context, q querier, id int64, f SetFilter) ([]api.SetRecord, error) {
	where, args := `interchange = ? AND seq > ?`, []any{id, f.After}
	if f.State != "" {
		where, args = where+` AND state = ?`, append(args, f.State)
	}
	if f.Number != "" {
		where += ` AND (control = ? OR seq IN (SELECT so.set_seq FROM set_orders so LEFT JOIN orders o ON o.id = so.order_id
			WHERE so.interchange = sets.interchange AND (so.number = ? COLLATE NOCASE OR o.number = ? COLLATE NOCASE)))`
		args = append(args, f.Number, f.Number, f.Number)
	}
	if f.worst {
		where += ` ORDER BY state IN ('held', 'rejected') DESC, seq LIMIT ?`
	} else {
		where += ` ORDER BY seq LIMIT ?`
	}
	var rows []setRow
	if err := q.SelectContext(ctx, &rows, `SELECT * FROM sets WHERE `+where,
		append(args, f.Limit)...); err != nil || len(rows) == 0 {
		return []api.SetRecord{}, err
	}
	list := make([]api.SetRecord, len(rows))
	at := make(map[int]*api.SetRecord, len(rows)) // by seq
	for i := range rows {
		var err error
		if list[i], err = rows[i].set(); err != nil {
			return nil, err
		}
		at[list[i].Seq] = &list[i]
	}
	var spoken []spokenRow
	if err := q.SelectContext(ctx, &spoken, `SELECT set_seq, order_id, number, order_revision, said FROM set_orders
		WHERE interchange = ? AND set_seq IN (SELECT value FROM json_each(?)) ORDER BY set_seq, place`, id,
		seqsOf(list)); err != nil {
		return nil, err
	}
	for i := range spoken {
		set := at[spoken[i].SetSeq]
		set.Orders = append(set.Orders, spoken[i].order())
	}
	return list, readDecisions(ctx, q, id, list, at)
}

// seqsOf are the numbers of sets, as JSON.
func seqsOf(sets []api.SetRecord) string {
	b := []byte{'['}
	for k := range sets {
		if k > 0 {
			b = append(b, ',')
		}
		b = strconv.AppendInt(b, int64(sets[k].Seq), 10)
	}
	return string(append(b, ']'))
}

// readDecisions adds to sets what persons decided about them.
func readDecisions(ctx context.Context, q querier, id int64, list []api.SetRecord, at map[int]*api.SetRecord) error {
	var rows []struct {
		SetSeq int `db:"set_seq"`
		Taken  string
		By     string
		At     string
	}
	if err := q.SelectContext(ctx, &rows, `SELECT set_seq, taken, by, at FROM decisions WHERE interchange = ?
		AND set_seq IN (SELECT value FROM json_each(?))`, id, seqsOf(list)); err != nil {
		return err
	}
	for i := range rows {
		d := &api.Decided{By: rows[i].By, At: parseTime(rows[i].At)}
		if err := json.Unmarshal([]byte(rows[i].Taken), &d.Taken); err != nil {
			return err
		}
		at[rows[i].SetSeq].Decided = d
	}
	return nil
}

// Decide records which of the changes that a set asks for are taken. A later decision takes the place of an earlier
// one.
func (t *Tx) Decide(interchange int64, seq int, taken []int, by string, when time.Time) error {
	list, err := json.Marshal(append([]int{}, taken...))
	if err != nil {
		return err
	}
	return t.run(`INSERT INTO decisions VALUES (?, ?, ?, ?, ?) ON CONFLICT DO UPDATE SET taken = excluded.taken,
		by = excluded.by, at = excluded.at`, interchange, seq, string(list), by, at(when))
}

// Undecide forgets a decision that could not be carried out.
func (t *Tx) Undecide(interchange int64, seq int) error {
	return t.run(`DELETE FROM decisions WHERE interchange = ? AND set_seq = ?`, interchange, seq)
}

// SetOf returns one set of an interchange.
func (s *Store) SetOf(ctx context.Context, id int64, seq int) (api.SetRecord, error) {
	list, err := s.Sets(ctx, id, SetFilter{After: seq - 1, Limit: 1})
	if err == nil && (len(list) == 0 || list[0].Seq != seq) {
		err = fmt.Errorf("set %d of interchange %d: %w", seq, id, ErrNotFound)
	}
	if err != nil {
		return api.SetRecord{}, err
	}
	return list[0], nil
}

// SetKinds returns the kinds of an interchange's sets that wait to be processed, in the order in which they stand.
func (s *Store) SetKinds(ctx context.Context, id int64) (kinds []string, err error) {
	err = s.r.SelectContext(ctx, &kinds,
		`SELECT kind FROM sets WHERE interchange = ? AND state IN ('received', 'held') GROUP BY kind ORDER BY min(seq)`,
		id)
	return kinds, err
}

// SetStates returns how many sets of an interchange are in each state.
func (s *Store) SetStates(ctx context.Context, id int64) (map[string]int, error) {
	var rows []struct {
		State string
		N     int
	}
	err := s.r.SelectContext(ctx, &rows, `SELECT state, count(*) AS n FROM sets WHERE interchange = ? GROUP BY state`, id)
	states := map[string]int{}
	for _, r := range rows {
		states[r.State] = r.N
	}
	return states, err
}

// LastLoad is the last load that processed sets of a kind of an interchange and whose results are stored; 0 if there is
// none.
func (s *Store) LastLoad(ctx context.Context, id int64, kind string) (load int64, err error) {
	err = s.r.GetContext(ctx, &load, `SELECT coalesce(max(load_id), 0) FROM sets WHERE interchange = ? AND kind = ?`, id,
		kind)
	return load, err
}

// Said returns the sets of a kind and direction that are about an order and were not rejected or held, oldest first,
// each with that order alone.
func (s *Store) Said(ctx context.Context, direction, kind string, order int64) ([]api.SetRecord, error) {
	return s.setsOf(ctx, direction, kind, order, `s.state NOT IN ('held', 'rejected')`)
}

// Refused is Said for the sets that we sent and that the partner rejected.
func (s *Store) Refused(ctx context.Context, kind string, order int64) ([]api.SetRecord, error) {
	return s.setsOf(ctx, "out", kind, order, `s.state = 'rejected'`)
}

func (s *Store) setsOf(ctx context.Context, direction, kind string, order int64, states string) ([]api.SetRecord,
	error) {
	var rows []struct {
		setRow
		spokenRow
	}
	err := s.r.SelectContext(ctx, &rows,
		`SELECT s.*, so.set_seq, so.order_id, so.number, so.order_revision, so.said FROM set_orders so
			JOIN sets s ON s.interchange = so.interchange AND s.seq = so.set_seq JOIN interchanges i ON i.id = s.interchange
			WHERE so.order_id = ? AND s.kind = ? AND i.direction = ? AND `+states+` ORDER BY s.interchange, s.seq`,
		order, kind, direction)
	if err != nil {
		return nil, err
	}
	list := make([]api.SetRecord, len(rows))
	for i := range rows {
		if list[i], err = rows[i].set(); err != nil {
			return nil, err
		}
		list[i].Orders = []api.SpokenOf{rows[i].order()}
	}
	return list, nil
}

// speaking is the SQL condition for orders that a set could be about: those that have changed since the last set about
// them. Column o is of orders. Those of which the partner has rejected a set come besides.
var speaking = map[string]string{
	"850": `NOT EXISTS (SELECT 1 FROM told WHERE kind = '850' AND order_id = o.id)`,
	"860": `EXISTS (SELECT 1 FROM told WHERE kind = '850' AND order_id = o.id) AND NOT EXISTS (SELECT 1 FROM told WHERE kind IN ('850', '860') AND order_id = o.id AND order_revision >= o.revision)`,
	"855": `(SELECT count(*) FROM heard WHERE kind = '850' AND order_id = o.id) > (SELECT count(*) FROM told WHERE kind = '855' AND order_id = o.id)`,
	"865": `((SELECT count(*) FROM heard WHERE kind = '860' AND order_id = o.id) > (SELECT count(*) FROM told WHERE kind = '865' AND order_id = o.id AND said ->> '$.statement.unasked' IS NULL)
	  OR EXISTS (SELECT 1 FROM told WHERE kind = '855' AND order_id = o.id) AND NOT EXISTS (SELECT 1 FROM told WHERE kind = '865' AND order_id = o.id
	    AND order_revision >= o.revision AND said ->> '$.statement.unasked')
	  AND NOT ` + wasExamined("865") + `)`,
	"856": `EXISTS (SELECT 1 FROM movement_parts p JOIN movements m ON m.id = p.movement_id WHERE p.order_id = o.id AND m.kind = 'shipment') AND NOT EXISTS (SELECT 1 FROM told WHERE kind = '856' AND order_id = o.id AND order_revision >= o.revision)`,
	"810": `(EXISTS (SELECT 1 FROM movement_parts p JOIN movements m ON m.id = p.movement_id WHERE p.order_id = o.id AND m.kind = 'shipment')
	  OR EXISTS (SELECT 1 FROM invoice_parts p WHERE p.order_id = o.id)) AND NOT EXISTS (SELECT 1 FROM told WHERE kind = '810' AND order_id = o.id AND order_revision >= o.revision)`,
}

// beingDone leaves out an order for which an interchange is doing what the partner asks: it has changed already, but the
// sets that asked for it do not count as done yet.
const beingDone = `NOT EXISTS (SELECT 1 FROM events e JOIN loads l ON l.id = e.load_id JOIN interchanges i ON i.document = l.document
	  WHERE e.order_id = o.id AND i.direction = 'in' AND i.state = 'received')`

// setsAbout is how many sets there are about an order, in SQL.
const setsAbout = `(SELECT count(*) FROM said WHERE order_id = o.id AND partner = ?2 AND state NOT IN ('held', 'rejected'))`

// wasExamined is the SQL condition that an order was Examined as it is now.
func wasExamined(set string) string {
	return `EXISTS (SELECT 1 FROM examined e WHERE e.order_id = o.id AND e.kind = '` + set + `' AND e.revision >= o.revision
	  AND e.sets = ` + setsAbout + `)`
}

// Speech is an order that a set could be about, at a revision, with how many sets about it there were.
type Speech struct {
	ID       int64 `db:"id"`
	Revision int   `db:"revision"`
	Sets     int   `db:"sets"`
}

// Speaking lists a partner's orders that a set could be about, oldest first. With fresh, orders with a held set, and
// those that were Examined, are left out until they change.
func (s *Store) Speaking(ctx context.Context, kind, partner, set string, fresh bool) (list []Speech, err error) {
	where, ok := speaking[set]
	if !ok {
		return nil, fmt.Errorf("transaction set %s: %w", set, ErrNotFound)
	}
	where = `(` + where + ` OR EXISTS (SELECT 1 FROM said WHERE kind = '` + set + `' AND order_id = o.id AND direction = 'out'
		AND partner = ?2 AND state = 'rejected'))`
	if set == "865" {
		where += ` AND ` + beingDone
	}
	if fresh {
		where += ` AND NOT EXISTS (SELECT 1 FROM set_orders so JOIN sets s ON s.interchange = so.interchange AND s.seq = so.set_seq
			WHERE so.order_id = o.id AND s.kind = '` + set + `' AND s.state = 'held' AND so.order_revision >= o.revision)
		  AND NOT ` + wasExamined(set)
	}
	err = s.r.SelectContext(ctx, &list,
		`WITH said AS NOT MATERIALIZED (SELECT s.kind, s.state, so.order_id, so.order_revision, so.said, i.direction, i.partner FROM set_orders so
	    JOIN sets s ON s.interchange = so.interchange AND s.seq = so.set_seq JOIN interchanges i ON i.id = so.interchange),
	  told AS NOT MATERIALIZED (SELECT * FROM said WHERE direction = 'out' AND partner = ?2 AND state NOT IN ('held', 'rejected')),
	  heard AS NOT MATERIALIZED (SELECT * FROM said WHERE direction = 'in' AND partner = ?2 AND state = 'done')
	  SELECT o.id, o.revision, `+setsAbout+` AS sets FROM orders o WHERE o.partner = ?2 COLLATE NOCASE AND o.kind = ?1 AND o.partner = ?2 AND `+
			where+` ORDER BY o.id`, kind, partner)
	return list, err
}

var examinedRows = columnsOf("examined", "order_id", "kind", "revision", "sets").orElse("revision", "sets")

// Examined records that a partner need not be told anything about orders by sets of a kind.
func (t *Tx) Examined(set string, list []Speech) error {
	b := t.bulk(examinedRows)
	for _, o := range list {
		b.row().Int64(o.ID).Text(set).Int(o.Revision).Int(o.Sets)
	}
	return b.done()
}
