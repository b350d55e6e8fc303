package store

import (
	"context"
	"encoding/json"
	"fmt"
	"math"
	"time"

	"koinos/api"
)

// Hold adds an entry to the list of held work. If the entry exists already, it keeps its place and gets the new reason.
func (t *Tx) Hold(h api.HeldWork) error {
	target, more := "(interchange, set_seq) WHERE kind IN ('set', 'notice')", ""
	switch h.Kind {
	case api.HeldOrder:
		target = "(load_id, load_seq) WHERE kind = 'order'"
	case api.HeldAnswer:
		target = "(order_id) WHERE kind = 'answer'"
		// what was put aside was another difference
		more = ", aside = CASE reason WHEN excluded.reason THEN aside ELSE '' END"
	case api.HeldInterchange:
		target = "(interchange) WHERE kind = 'interchange'"
	case api.HeldPush:
		target = "(task) WHERE kind = 'push'"
	}
	return t.run(`INSERT INTO held (kind, load_id, load_seq, interchange, set_seq, order_id, partner, number, code, reason, since, task, sync, system)
	  VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)
	  ON CONFLICT `+target+` DO UPDATE SET code = excluded.code, reason = excluded.reason, number = excluded.number,
	    order_id = excluded.order_id, system = excluded.system`+more,
		h.Kind, ref(h.Load), h.Seq, ref(h.Interchange), h.Set, ref(h.OrderID), h.Partner, h.Number, h.Code, h.Reason,
		at(h.Since), ref(h.Task), h.Sync, h.System)
}

// ref is an id for a column that refers to another table; 0 becomes NULL.
func ref(id int64) any {
	if id == 0 {
		return nil
	}
	return id
}

// releaseSets removes the sets of an interchange that are not held any more.
func (t *Tx) releaseSets(interchange int64, seqs []int) error {
	if len(seqs) == 0 {
		return nil
	}
	list, err := json.Marshal(seqs)
	if err != nil {
		return err
	}
	return t.run(`DELETE FROM held WHERE interchange = ? AND kind IN ('set', 'notice') AND set_seq IN (SELECT value
		FROM json_each(?))`, interchange, string(list))
}

// AnswerHeld reports whether a supplier's answer to an order waits for a person, or was put aside by one.
func (t *Tx) AnswerHeld(id int64) (is bool, err error) {
	err = t.GetContext(t.ctx, &is, `SELECT EXISTS (SELECT 1 FROM held WHERE order_id = ? AND kind = 'answer')`, id)
	return is, err
}

// ReleaseAnswer removes a supplier's answer to an order from the list of held work.
func (t *Tx) ReleaseAnswer(id int64) error {
	return t.run(`DELETE FROM held WHERE order_id = ? AND kind = 'answer'`, id)
}

// ReleaseLoad removes every order of a load that is not held any more.
func (t *Tx) ReleaseLoad(load int64) error {
	return t.run(`DELETE FROM held WHERE load_id = ? AND kind = 'order'`, load)
}

// ReleaseRecord removes the held entry of a record that turned out to say what its order says.
func (s *Store) ReleaseRecord(ctx context.Context, l *api.Link) error {
	some := false
	if err := s.r.GetContext(ctx, &some, `SELECT EXISTS (SELECT 1 FROM held WHERE kind = 'order' AND system = ?)`,
		l.System); err != nil || !some {
		return err
	}
	return s.Share(ctx, func(t *Tx) error { return t.releaseRecord(l) })
}

// releaseRecord removes the held entry of a record that was read before an order was written to it: now it says what
// the order says.
func (t *Tx) releaseRecord(l *api.Link) error {
	if some, err := t.holdsOf(l.System); err != nil || !some || l.Part != 0 {
		return err
	}
	return t.run(releaseEarlier, l.System, l.Record, l.Key, int64(math.MaxInt64))
}

// ReleaseOvertaken removes the held entries of records that were written from their orders after they had been read:
// the reading was of a state between our own calls, and is not needed.
func (t *Tx) ReleaseOvertaken(all []api.Arrival) error {
	if len(all) == 0 {
		return nil
	}
	if some, err := t.holdsOf(all[0].System); err != nil || !some {
		return err
	}
	for i := range all {
		a := &all[i]
		written := false
		if err := t.GetContext(t.ctx, &written,
			`SELECT EXISTS (SELECT 1 FROM links WHERE system = ? AND record = ? AND key = ?
			AND part = 0 AND revision > 0 AND at > ?)`, a.System, a.Record, a.Key, at(a.At)); err != nil {
			return err
		}
		if written {
			if err := t.run(releaseEarlier, a.System, a.Record, a.Key, int64(math.MaxInt64)); err != nil {
				return err
			}
		}
	}
	return nil
}

// holdsOf is the condition that held orders came from a system.
func (t *Tx) holdsOf(system string) (some bool, err error) {
	err = t.GetContext(t.ctx, &some, `SELECT EXISTS (SELECT 1 FROM held WHERE kind = 'order' AND system = ?)`, system)
	return some, err
}

// releaseEarlier removes the held entries of earlier arrivals of a record (system, record and key), by loads before
// one: of the load that took it, and of those through further mappings.
const releaseEarlier = `DELETE FROM held WHERE id IN (SELECT h.id FROM arrivals a JOIN loads l ON l.document = a.document
  JOIN held h ON h.load_id = l.id AND h.kind = 'order'
  WHERE a.system = ?1 AND a.record = ?2 AND a.key = ?3 AND h.load_id < ?4 AND (h.load_id = a.load_id AND h.load_seq = a.line
    OR h.load_id <> a.load_id AND h.number IN (SELECT sender_number FROM load_orders WHERE load_id = a.load_id AND seq = a.line)))`

// ReleaseArrivals removes the held entries of earlier arrivals of records that came again.
func (t *Tx) ReleaseArrivals(all []api.Arrival) error {
	if len(all) == 0 {
		return nil
	}
	if some, err := t.holdsOf(all[0].System); err != nil || !some {
		return err
	}
	for i := range all {
		a := &all[i]
		before := a.Load
		if before == 0 {
			before = math.MaxInt64
		}
		if err := t.run(releaseEarlier, a.System, a.Record, a.Key, before); err != nil {
			return err
		}
	}
	return nil
}

// ReleaseUnkept removes the held entries of loads without stored arrivals, because the service ended before: whoever
// made them has read the records once more. Requests of loads begin with by and a space.
func (t *Tx) ReleaseUnkept(by string) error {
	return t.run(`DELETE FROM held WHERE kind = 'order' AND load_id IN (SELECT l.id FROM loads l WHERE l.request > ?1 || ' '
	  AND l.request < ?1 || '!' AND NOT EXISTS (SELECT 1 FROM arrivals a WHERE a.document = l.document))`, by)
}

// CountHeldOrders counts the orders that a sync read and that are held.
func (s *Store) CountHeldOrders(ctx context.Context, sync string) (n int, err error) {
	err = s.r.GetContext(ctx, &n, `SELECT count(*) FROM held WHERE kind = 'order' AND sync = ? AND aside = ''`, sync)
	return n, err
}

// HeldFilter narrows a list of what is held.
type HeldFilter struct {
	api.HeldFor
	After int64
	Limit int
}

const selectHeld = `SELECT id, kind, coalesce(load_id, 0) AS load_id, load_seq, coalesce(interchange, 0) AS interchange, set_seq, coalesce(order_id, 0) AS order_id, partner, number, code, reason, since, coalesce(task, 0) AS task, sync, system, aside FROM held `

type heldRow struct {
	api.HeldWork
	At string `db:"since"`
}

func (f HeldFilter) query() (string, []any) {
	where, args := "id > ?", []any{f.After}
	for _, is := range []struct{ column, value string }{{"kind", f.Kind}, {"partner", f.Partner}, {"sync", f.Sync},
		{"system", f.System}, {"code", f.Code}} {
		if is.value != "" {
			where, args = where+" AND "+is.column+" = ?", append(args, is.value)
		}
	}
	if f.Reason != "" {
		where, args = where+" AND instr(reason, ?) > 0", append(args, f.Reason)
	}
	if len(f.IDs) > 0 {
		list, _ := json.Marshal(f.IDs) // numbers
		where, args = where+" AND id IN (SELECT value FROM json_each(?))", append(args, string(list))
	} else {
		where += map[bool]string{true: " AND aside <> ''", false: " AND aside = ''"}[f.Aside]
	}
	return selectHeld + "WHERE " + where + " ORDER BY id LIMIT ?", append(args, f.Limit)
}

// HeldList lists what is held, the oldest first.
func (s *Store) HeldList(ctx context.Context, f HeldFilter) ([]api.HeldWork, error) {
	if f.Limit == 0 {
		f.Limit = math.MaxInt32
	}
	var rows []heldRow
	query, args := f.query()
	err := s.r.SelectContext(ctx, &rows, query, args...)
	list := make([]api.HeldWork, len(rows))
	for i := range rows {
		list[i] = rows[i].HeldWork
		list[i].Since = parseTime(rows[i].At)
	}
	return list, err
}

// HeldOne returns one held entry.
func (s *Store) HeldOne(ctx context.Context, id int64) (api.HeldWork, error) {
	var row heldRow
	if err := s.r.GetContext(ctx, &row, selectHeld+`WHERE id = ?`, id); err != nil {
		return api.HeldWork{}, named(err, "held %d", id)
	}
	row.Since = parseTime(row.At)
	return row.HeldWork, nil
}

// HeldCount is how many things are held.
func (s *Store) HeldCount(ctx context.Context) (n int, err error) {
	if err = s.r.GetContext(ctx, &n, `SELECT count(*) FROM held WHERE aside = ''`); err != nil {
		err = fmt.Errorf("held: %w", err)
	}
	return n, err
}

// HeldCodes counts held entries by the code of their reason.
func (s *Store) HeldCodes(ctx context.Context) (map[string]int, error) {
	var rows []struct {
		Code string `db:"code"`
		N    int    `db:"n"`
	}
	err := s.r.SelectContext(ctx, &rows, `SELECT code, count(*) AS n FROM held WHERE aside = '' GROUP BY code`)
	all := make(map[string]int, len(rows))
	for _, r := range rows {
		all[r.Code] = r.N
	}
	return all, err
}

// PutAside puts entries aside with a reason, or lets them wait again if the reason is blank.
func (s *Store) PutAside(ctx context.Context, all []api.HeldWork, reason string) error {
	return s.Write(ctx, func(t *Tx) error {
		for _, w := range all {
			if err := t.run(`UPDATE held SET aside = ? WHERE id = ?`, reason, w.ID); err != nil {
				return err
			}
			state := map[bool]string{true: api.TaskHeld, false: api.TaskAside}[reason == ""]
			if err := t.run(`UPDATE tasks SET state = ? WHERE id = ? AND state IN ('held', 'aside')`, state,
				w.Task); err != nil {
				return err
			}
		}
		return nil
	})
}

// RetryTasks makes held tasks due.
func (s *Store) RetryTasks(ctx context.Context, ids []int64, now time.Time) error {
	list, err := json.Marshal(append([]int64{}, ids...))
	if err != nil {
		return err
	}
	return s.Write(ctx, func(t *Tx) error {
		return t.run(`UPDATE tasks SET state = 'waiting', due_at = ?, attempts = 0, turn = turn + 1
		  WHERE id IN (SELECT value FROM json_each(?))`, at(now), string(list))
	})
}

// HeldReasons groups held entries by their reason, the most frequent first.
func (s *Store) HeldReasons(ctx context.Context, limit int) ([]api.HeldReason, error) {
	var rows []struct {
		api.HeldReason
		At string `db:"since"`
	}
	err := s.r.SelectContext(ctx, &rows,
		`SELECT kind, sync, system, code, reason, count(*) n, min(since) since FROM held
	  WHERE aside = '' GROUP BY kind, sync, system, code, reason ORDER BY n DESC, min(id) LIMIT ?`, limit)
	list := make([]api.HeldReason, len(rows))
	for i := range rows {
		list[i] = rows[i].HeldReason
		list[i].Since = parseTime(rows[i].At)
	}
	return list, err
}
