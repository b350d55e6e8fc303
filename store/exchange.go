package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"strings"
	"time"

	"koinos/api"
	"koinos/core/finding"
)

type interchangeRow struct {
	ID           int64          `db:"id"`
	Partner      string         `db:"partner"`
	Direction    string         `db:"direction"`
	Control      int64          `db:"control"`
	GroupControl int64          `db:"group_control"`
	Document     sql.NullString `db:"document"`
	Kinds        string         `db:"kinds"`
	State        string         `db:"state"`
	Name         string         `db:"name"`
	Answers      sql.NullInt64  `db:"answers"`
	At           string         `db:"at"`
	SentAt       sql.NullString `db:"sent_at"`
	DueAt        sql.NullString `db:"due_at"`
	AckAt        sql.NullString `db:"acknowledged_at"`
	By           string         `db:"by"`
	Findings     string         `db:"findings"`
	Arrival      string         `db:"arrival"`
	Content      string         `db:"content"`
	Ruling       string         `db:"ruling"`
	RuledBy      string         `db:"ruled_by"`
	Accept       string         `db:"accept"`
	AcceptedBy   string         `db:"accepted_by"`
	Test         bool           `db:"test"`
	CopyOf       sql.NullInt64  `db:"copy_of"`
	Orders       sql.NullString `db:"orders"`
}

func (r *interchangeRow) interchange() (api.Interchange, error) {
	i := api.Interchange{ID: r.ID, Partner: r.Partner, Direction: r.Direction, Control: r.Control,
		GroupControl: r.GroupControl, Document: r.Document.String, Kinds: r.Kinds, State: r.State,
		Name: r.Name, Answers: r.Answers.Int64, At: parseTime(r.At), SentAt: parseTime(r.SentAt.String),
		DueAt: parseTime(r.DueAt.String), AcknowledgedAt: parseTime(r.AckAt.String), By: r.By, Arrival: r.Arrival,
		Content: r.Content, Ruling: r.Ruling, RuledBy: r.RuledBy, Test: r.Test, CopyOf: r.CopyOf.Int64,
		Orders: []string{}}
	if r.Accept != "" {
		i.Accept, i.AcceptedBy = strings.Split(r.Accept, ","), r.AcceptedBy
	}
	if r.Orders.String != "" {
		i.Orders = strings.Split(r.Orders.String, "\n")
	}
	return i, json.Unmarshal([]byte(r.Findings), &i.Findings)
}

// PutPartner stores a partner and replaces one of the same name.
func (s *Store) PutPartner(ctx context.Context, p api.Partner) error {
	return s.Write(ctx, func(t *Tx) error {
		_, err := t.exec(`INSERT INTO partners VALUES (?, ?, ?, ?, ?, ?) ON CONFLICT (name)
			DO UPDATE SET text = excluded.text, them = excluded.them, us = excluded.us, stored_at = excluded.stored_at, stored_by = excluded.stored_by`,
			p.Name, p.Text, p.Them, p.Us, at(p.StoredAt), p.StoredBy)
		return err
	})
}

// Partners lists partners by name.
func (s *Store) Partners(ctx context.Context) ([]api.Partner, error) {
	var rows []struct {
		Name     string `db:"name"`
		Text     string `db:"text"`
		Them     string `db:"them"`
		Us       string `db:"us"`
		StoredAt string `db:"stored_at"`
		StoredBy string `db:"stored_by"`
	}
	if err := s.r.SelectContext(ctx, &rows, `SELECT * FROM partners ORDER BY name`); err != nil {
		return nil, err
	}
	list := make([]api.Partner, len(rows))
	for i, r := range rows {
		list[i] = api.Partner{Name: r.Name, Text: r.Text, Them: r.Them, Us: r.Us, StoredAt: parseTime(r.StoredAt),
			StoredBy: r.StoredBy}
	}
	return list, nil
}

// NextNumber returns the next number of a kind for a partner. It is durable with the transaction, and never returned
// again.
func (t *Tx) NextNumber(partner, what string) (n int64, err error) {
	if _, err := t.exec(`INSERT INTO control_numbers VALUES (?, ?, 1) ON CONFLICT DO UPDATE SET last = last + 1`,
		partner, what); err != nil {
		return 0, err
	}
	err = t.GetContext(t.ctx, &n, `SELECT last FROM control_numbers WHERE partner = ? AND what = ?`, partner, what)
	if n > 999_999_999 {
		return 0, fmt.Errorf("the control numbers for %s are used up", partner)
	}
	return n, err
}

// ControlNumbers are the last control numbers that a partner was sent.
func (s *Store) ControlNumbers(ctx context.Context, partner string) (n api.ControlNumbers, err error) {
	err = s.r.QueryRowContext(ctx, `SELECT coalesce(max(last) FILTER (WHERE what = 'interchange'), 0), coalesce(max(last) FILTER (WHERE what = 'group'), 0)
	  FROM control_numbers WHERE partner = ?`, partner).Scan(&n.Interchange, &n.Group)
	return n, err
}

// ErrGivenAgain says that a number would be used a second time.
var ErrGivenAgain = errors.New("a number would be given again")

// RaiseNumber sets the last used number of a kind for a partner. Numbers never go back.
func (t *Tx) RaiseNumber(partner, what string, last int64) error {
	res, err := t.exec(`INSERT INTO control_numbers VALUES (?, ?, ?) ON CONFLICT DO UPDATE SET last = excluded.last WHERE last <= excluded.last`,
		partner, what, last)
	if err != nil {
		return err
	}
	if n, err := res.RowsAffected(); err != nil || n > 0 {
		return err
	}
	return ErrGivenAgain
}

// AddInterchange stores an interchange with its sets; it sets the interchange's ID.
func (t *Tx) AddInterchange(i *api.Interchange) error {
	found, err := json.Marshal(nonNil(i.Findings))
	if err != nil {
		return err
	}
	var due any
	if !i.DueAt.IsZero() {
		due = at(i.DueAt)
	}
	res, err := t.exec(`INSERT INTO interchanges (partner, direction, control, group_control, document, kinds, state, name, answers, at, due_at, by, findings, arrival, content, test, copy_of)
		VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		i.Partner, i.Direction, i.Control, i.GroupControl, null(i.Document), i.Kinds, i.State, i.Name, ref(i.Answers),
		at(i.At), due, i.By, string(found), i.Arrival, i.Content, i.Test, ref(i.CopyOf))
	if err != nil {
		return err
	}
	if i.ID, err = res.LastInsertId(); err != nil {
		return err
	}
	return t.PutSets(i.ID, i.Sets)
}

func nonNil(list []finding.Finding) []finding.Finding {
	if list == nil {
		return []finding.Finding{}
	}
	return list
}

// KnowInterchange stores the result of reading an interchange. A doubtful interchange is added to the list of held
// work; any other is removed from it.
func (t *Tx) KnowInterchange(i *api.Interchange) error {
	found, err := json.Marshal(nonNil(i.Findings))
	if err != nil {
		return err
	}
	if err := t.run(`UPDATE interchanges SET kinds = ?, state = ?, findings = ? WHERE id = ?`, i.Kinds, i.State,
		string(found), i.ID); err != nil {
		return err
	}
	if i.State != api.StateDoubtful {
		return t.run(`DELETE FROM held WHERE kind = ? AND interchange = ?`, api.HeldInterchange, i.ID)
	}
	h := api.HeldWork{Kind: api.HeldInterchange, Interchange: i.ID, Partner: i.Partner, Since: i.At}
	h.Code, h.Reason = reason(i.Findings)
	return t.Hold(h)
}

// SetInterchange stores the state of an interchange, and the times that are not zero.
func (t *Tx) SetInterchange(id int64, state string, sent, acknowledged time.Time) error {
	stampOrNull := func(x time.Time) any {
		if x.IsZero() {
			return nil
		}
		return at(x)
	}
	_, err := t.exec(`UPDATE interchanges SET state = ?, sent_at = coalesce(?, sent_at), acknowledged_at = coalesce(?, acknowledged_at) WHERE id = ?`, state, stampOrNull(sent), stampOrNull(acknowledged), id)
	return err
}

// ComesFrom names the partner of an interchange whose sender was unknown. It is read again.
func (t *Tx) ComesFrom(id int64, partner string) error {
	return t.run(`UPDATE interchanges SET partner = ?, state = ?, findings = '[]' WHERE id = ? AND state = ?`, partner,
		api.StateArriving, id, api.StateUnknown)
}

// AcceptIn adds to the warnings that are accepted for an interchange, and notes who accepts them.
func (t *Tx) AcceptIn(id int64, codes []string, by string) error {
	if len(codes) == 0 {
		return nil
	}
	return t.run(`UPDATE interchanges SET accept = CASE accept WHEN '' THEN ?1 ELSE accept || ',' || ?1 END, accepted_by = ?3
	  WHERE id = ?2`, strings.Join(codes, ","), id, by)
}

// SettledBy records who dealt with what was held of an interchange.
func (t *Tx) SettledBy(id int64, by string) error {
	return t.run(`UPDATE interchanges SET ruling = ?, ruled_by = ? WHERE id = ?`, api.Settled, by, id)
}

// DropHeld deletes outgoing interchanges that were held because of an order: they are written again.
func (t *Tx) DropHeld(kind string, order int64) error {
	var ids []int64
	if err := t.SelectContext(t.ctx, &ids,
		`SELECT DISTINCT i.id FROM set_orders so JOIN sets s ON s.interchange = so.interchange AND s.seq = so.set_seq
			JOIN interchanges i ON i.id = so.interchange WHERE so.order_id = ? AND s.kind = ? AND i.direction = 'out' AND i.control = 0`, order, kind); err != nil {
		return err
	}
	for _, id := range ids {
		for _, q := range []string{`DELETE FROM held WHERE interchange = ?`, `DELETE FROM sets WHERE interchange = ?`,
			`DELETE FROM interchanges WHERE id = ?`} {
			if _, err := t.exec(q, id); err != nil {
				return err
			}
		}
	}
	return nil
}

// Sent is an interchange that we sent.
type Sent struct {
	ID    int64
	Kinds string // of its sets
}

// SentInterchanges finds what we sent a partner by the control numbers of interchanges, and SentGroups by those of
// groups.
func (s *Store) SentInterchanges(ctx context.Context, partner string, numbers []int64) (map[int64]Sent, error) {
	return s.sent(ctx, "control", partner, numbers)
}

// SentGroups is described at SentInterchanges.
func (s *Store) SentGroups(ctx context.Context, partner string, numbers []int64) (map[int64]Sent, error) {
	return s.sent(ctx, "group_control", partner, numbers)
}

func (s *Store) sent(ctx context.Context, column, partner string, numbers []int64) (map[int64]Sent, error) {
	if len(numbers) == 0 {
		return nil, nil
	}
	list, err := json.Marshal(numbers)
	if err != nil {
		return nil, err
	}
	var rows []struct {
		Number int64
		Sent
	}
	if err := s.r.SelectContext(ctx, &rows, `SELECT `+column+` AS number, min(id) AS id, kinds FROM interchanges
		WHERE partner = ? AND direction = 'out' AND control > 0 AND `+column+` IN (SELECT value FROM json_each(?))
		GROUP BY `+column, partner, string(list)); err != nil {
		return nil, err
	}
	all := make(map[int64]Sent, len(rows))
	for _, r := range rows {
		all[r.Number] = r.Sent
	}
	return all, nil
}

// SentWhole is an interchange that we sent, with all of its sets.
func (t *Tx) SentWhole(id int64) (i api.Interchange, err error) {
	var row interchangeRow
	if err := t.GetContext(t.ctx, &row, `SELECT *, '' AS orders FROM interchanges WHERE id = ?`, id); err != nil {
		return i, err
	}
	if i, err = row.interchange(); err == nil {
		i.Sets, err = readSets(t.ctx, t, id, SetFilter{Limit: math.MaxInt32})
	}
	return i, err
}

// InterchangeFilter chooses interchanges.
type InterchangeFilter struct {
	Partner, Direction, State, Kind string // State may be overdue
	Order                           int64
	Speaking                        bool // only those that speak of orders: no acknowledgements
	Before                          int64
	Limit                           int
}

const selectInterchange = `SELECT i.*, (SELECT group_concat(number, char(10)) FROM (SELECT DISTINCT number FROM set_orders
	WHERE interchange = i.id AND number <> '' LIMIT 4)) AS orders FROM interchanges i `

func (f *InterchangeFilter) query(now time.Time) (string, []any) {
	where, args := []string{"i.id < ?"}, []any{f.Before}
	if f.Before == 0 {
		args[0] = int64(math.MaxInt64)
	}
	add := func(condition string, values ...any) { where, args = append(where, condition), append(args, values...) }
	if f.Partner != "" {
		add("i.partner = ?", f.Partner)
	}
	if f.Direction != "" {
		add("i.direction = ?", f.Direction)
	}
	switch f.State {
	case "":
	case "overdue":
		add("i.state = 'sent' AND i.due_at < ?", at(now))
	default:
		add("i.state = ?", f.State)
	}
	if f.Kind != "" {
		add("instr(i.kinds, ?) > 0", f.Kind)
	}
	if f.Speaking {
		add("i.kinds NOT IN ('997', '999', 'TA1')")
	}
	if f.Order != 0 {
		add("i.id IN (SELECT interchange FROM set_orders WHERE order_id = ?)", f.Order)
	}
	return selectInterchange + "WHERE " + strings.Join(where, " AND ") + " ORDER BY i.id DESC LIMIT ?",
		append(args, f.Limit)
}

// Interchanges lists interchanges, newest first, without their findings.
func (s *Store) Interchanges(ctx context.Context, f InterchangeFilter, now time.Time) ([]api.Interchange, error) {
	query, args := f.query(now)
	var rows []interchangeRow
	if err := s.r.SelectContext(ctx, &rows, query, args...); err != nil {
		return nil, err
	}
	return interchangesOf(rows, now)
}

// saidSince is the SQL condition that everything which the partner has rejected of an interchange of ours was said once
// more since.
const saidSince = `NOT EXISTS (SELECT 1 FROM sets r LEFT JOIN set_orders ro ON ro.interchange = r.interchange AND ro.set_seq = r.seq
  WHERE r.interchange = i.id AND r.state = 'rejected' AND NOT EXISTS (SELECT 1 FROM set_orders lo JOIN sets l ON l.interchange = lo.interchange
    AND l.seq = lo.set_seq JOIN interchanges li ON li.id = l.interchange
    WHERE lo.order_id = ro.order_id AND l.kind = r.kind AND l.interchange > r.interchange AND li.direction = 'out' AND l.state <> 'held'
    AND coalesce(lo.said ->> '$.statement.number', '') = coalesce(ro.said ->> '$.statement.number', '')))`

// Waiting lists interchanges, without their findings, that need attention: held, rejected by the partner and neither
// settled nor said once more, from an unknown sender, or not acknowledged in time.
func (s *Store) Waiting(ctx context.Context, now time.Time) ([]api.Interchange, error) {
	var rows []interchangeRow
	if err := s.r.SelectContext(ctx, &rows, selectInterchange+
		`WHERE i.state IN ('held', 'unknown', 'doubtful') OR i.state IN ('rejected', 'partly') AND i.direction = 'out'
		  AND i.ruling = '' AND NOT EXISTS (SELECT 1 FROM interchanges c WHERE c.copy_of = i.id) AND NOT `+saidSince+` OR i.state = 'sent' AND i.due_at < ? ORDER BY i.id DESC LIMIT 50`, at(now)); err != nil {
		return nil, err
	}
	return interchangesOf(rows, now)
}

func interchangesOf(rows []interchangeRow, now time.Time) ([]api.Interchange, error) {
	list := make([]api.Interchange, len(rows))
	for k := range rows {
		var err error
		if list[k], err = rows[k].interchange(); err != nil {
			return nil, err
		}
		list[k].Findings = nil
		late(&list[k], now)
	}
	return list, nil
}

func late(i *api.Interchange, now time.Time) {
	i.Overdue = i.State == api.StateSent && !i.DueAt.IsZero() && i.DueAt.Before(now)
}

// setsShown is how many sets an interchange is returned with; Sets returns the others.
const setsShown = 200

// Interchange returns an interchange with its sets; of many, with those that are held or rejected, and then the first.
func (s *Store) Interchange(ctx context.Context, id int64, now time.Time) (api.Interchange, error) {
	var row interchangeRow
	if err := s.r.GetContext(ctx, &row, selectInterchange+"WHERE i.id = ?", id); err != nil {
		return api.Interchange{}, named(err, "interchange %d", id)
	}
	i, err := row.interchange()
	if err != nil {
		return i, err
	}
	late(&i, now)
	if i.SetStates, err = s.SetStates(ctx, id); err != nil {
		return i, err
	}
	for _, n := range i.SetStates {
		i.SetCount += n
	}
	first := SetFilter{Limit: setsShown, worst: i.SetCount > setsShown}
	if err := s.departures(ctx, &i); err != nil {
		return i, err
	}
	i.Sets, err = s.Sets(ctx, id, first)
	return i, err
}

// InterchangeState returns the state of an interchange.
func (s *Store) InterchangeState(ctx context.Context, id int64) (state string, err error) {
	err = s.r.GetContext(ctx, &state, `SELECT state FROM interchanges WHERE id = ?`, id)
	return state, named(err, "interchange %d", id)
}

// HeldBehind lists interchanges with a set that is held for one of some reasons, if something has happened since to the
// order that the set is about.
func (s *Store) HeldBehind(ctx context.Context, codes ...string) (ids []int64, err error) {
	list, err := json.Marshal(codes)
	if err != nil {
		return nil, err
	}
	err = s.r.SelectContext(ctx, &ids, `SELECT DISTINCT h.interchange FROM held h JOIN set_orders s ON s.interchange = h.interchange AND s.set_seq = h.set_seq
	  JOIN orders o ON o.id = s.order_id JOIN interchanges i ON i.id = h.interchange
	  WHERE h.kind = 'set' AND h.aside = '' AND i.state = 'held' AND h.code IN (SELECT value FROM json_each(?)) AND o.revision > s.order_revision`, string(list))
	return ids, err
}

// HeldBefore lists interchanges with a set that is held because its order was not stored, if an order of that number
// has come since the set was last tried: documents do not always arrive in the order in which they were sent.
func (s *Store) HeldBefore(ctx context.Context, code string) (ids []int64, err error) {
	of := func(is string) string {
		return `SELECT h.interchange FROM held h JOIN set_orders s ON s.interchange = h.interchange AND s.set_seq = h.set_seq
		  JOIN sets t ON t.interchange = h.interchange AND t.seq = h.set_seq JOIN loads l ON l.id = t.load_id
		  JOIN interchanges i ON i.id = h.interchange JOIN orders o ON ` + is + ` AND o.partner = i.partner COLLATE NOCASE
		  WHERE h.kind = 'set' AND h.aside = '' AND i.state = 'held' AND h.code = ?1
		    AND EXISTS (SELECT 1 FROM events e WHERE e.order_id = o.id AND e.revision = 1 AND e.at >= l.started_at)`
	}
	err = s.r.SelectContext(ctx, &ids, of(`o.sender_number = s.number COLLATE NOCASE`)+` UNION `+
		of(`o.kind = 'purchase' AND o.number = s.number`), code)
	return ids, err
}

// RevisionsBy returns the revisions of orders that a load made or, if it made none, the present ones.
func (s *Store) RevisionsBy(ctx context.Context, load int64, orders []int64) (map[int64]int, error) {
	ids, err := json.Marshal(orders)
	if err != nil {
		return nil, err
	}
	var rows []struct {
		ID       int64 `db:"id"`
		Revision int   `db:"revision"`
	}
	err = s.r.SelectContext(ctx, &rows,
		`SELECT id, coalesce((SELECT max(e.revision) FROM events e WHERE e.order_id = o.id AND e.load_id = ?), o.revision) AS revision
	  FROM orders o WHERE id IN (SELECT value FROM json_each(?))`, load, string(ids))
	by := make(map[int64]int, len(rows))
	for _, r := range rows {
		by[r.ID] = r.Revision
	}
	return by, err
}
