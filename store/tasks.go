package store

import (
	"context"
	"encoding/json"
	"fmt"
	"math"
	"strings"
	"time"

	"koinos/api"
)

// NewTask asks for an order to be examined.
type NewTask struct {
	Push, System, Record string
	OrderID              int64
	Part                 int64 // its movement or invoice, or the revision of its answer; 0 is the order
}

// SpreadTasks makes tasks of what a sync has read, and stores how far it has come. An existing task becomes due now,
// whatever it waits for.
func (s *Store) SpreadTasks(ctx context.Context, p *Progress, all []NewTask, now time.Time) error {
	return s.Write(ctx, func(t *Tx) error {
		if err := t.AddTasks(p.Name, all, now); err != nil {
			return err
		}
		return t.run(`UPDATE sync_states SET position = ?, filled = ? WHERE name = ?`, p.Position, p.Filled, p.Name)
	})
}

// AddTasks makes tasks of a sync.
func (t *Tx) AddTasks(sync string, all []NewTask, now time.Time) error {
	for i := range all {
		if err := t.addTask(sync, &all[i], now); err != nil {
			return err
		}
	}
	return nil
}

func (t *Tx) addTask(sync string, n *NewTask, now time.Time) error {
	return t.run(`INSERT INTO tasks (sync, push, system, record, order_id, part, state, turn, attempts, made_at, due_at, why)
	  VALUES (?1, ?2, ?3, ?4, ?5, ?6, 'waiting', 1, 0, ?7, ?7, '') ON CONFLICT (sync, push, order_id, part) DO UPDATE
	  SET state = 'waiting', turn = turn + 1, attempts = 0, due_at = excluded.due_at, system = excluded.system,
	      record = excluded.record`, sync, n.Push, n.System, n.Record, n.OrderID, n.Part, at(now))
}

// Disagree makes tasks that compare orders with their records, whether anything happened to the orders or not.
func (s *Store) Disagree(ctx context.Context, all []NewTask) error {
	return s.Write(ctx, func(t *Tx) error {
		for _, n := range all {
			if err := t.run(`UPDATE links SET revision = 0 WHERE system = ? AND record = ? AND order_id = ?
				AND part = ?`, n.System, n.Record,
				n.OrderID, n.Part); err != nil {
				return err
			}
		}
		return nil
	})
}

// OrdersOfLoad returns the orders of a load by their numbers in its document.
func (s *Store) OrdersOfLoad(ctx context.Context, load int64) (map[int]int64, error) {
	var rows []struct {
		Seq   int   `db:"seq"`
		Order int64 `db:"order_id"`
	}
	err := s.r.SelectContext(ctx, &rows,
		`SELECT seq, order_id FROM load_orders WHERE load_id = ? AND order_id IS NOT NULL`, load)
	all := make(map[int]int64, len(rows))
	for _, r := range rows {
		all[r.Seq] = r.Order
	}
	return all, err
}

// AddTasks makes tasks of a sync, in addition to those that follow from events.
func (s *Store) AddTasks(ctx context.Context, sync string, all []NewTask, now time.Time) error {
	return s.Write(ctx, func(t *Tx) error { return t.AddTasks(sync, all, now) })
}

const selectTask = `SELECT t.id, t.sync, t.push, t.system, t.record, t.order_id, t.part, coalesce(o.number, '') number, t.state, t.turn,
  t.attempts, t.why, t.made_at made, t.due_at due FROM tasks t LEFT JOIN orders o ON o.id = t.order_id `

type taskRow struct {
	api.Task
	Made string `db:"made"`
	Due  string `db:"due"`
}

func (s *Store) tasks(ctx context.Context, where string, args ...any) ([]api.Task, error) {
	var rows []taskRow
	err := s.r.SelectContext(ctx, &rows, selectTask+where, args...)
	list := make([]api.Task, len(rows))
	for i := range rows {
		list[i] = rows[i].Task
		list[i].MadeAt, list[i].DueAt = parseTime(rows[i].Made), parseTime(rows[i].Due)
	}
	return list, err
}

// DueTasks lists tasks of syncs for a system that are due, those that have been due longest first.
func (s *Store) DueTasks(ctx context.Context, system string, syncs []string, now time.Time, limit int) ([]api.Task,
	error) {
	list, err := json.Marshal(syncs)
	if err != nil {
		return nil, err
	}
	return s.tasks(ctx, `WHERE t.state = 'waiting' AND t.system = ? AND t.due_at <= ?
	  AND t.sync IN (SELECT value FROM json_each(?)) ORDER BY t.due_at, t.id LIMIT ?`, system, at(now), string(list), limit)
}

// TaskSystems returns when the first task is due, for each system for which any waits.
func (s *Store) TaskSystems(ctx context.Context) (map[string]time.Time, error) {
	var rows []struct {
		System string `db:"system"`
		Due    string `db:"due"`
	}
	err := s.r.SelectContext(ctx, &rows,
		`SELECT system, min(due_at) due FROM tasks WHERE state = 'waiting' GROUP BY system`)
	all := make(map[string]time.Time, len(rows))
	for _, r := range rows {
		all[r.System] = parseTime(r.Due)
	}
	return all, err
}

// WaitingSystems lists the systems for which tasks of pushes of a sync wait.
func (s *Store) WaitingSystems(ctx context.Context, sync string, pushes []string) ([]string, error) {
	list, err := json.Marshal(append([]string{}, pushes...))
	if err != nil {
		return nil, err
	}
	var systems []string
	err = s.r.SelectContext(ctx, &systems, `SELECT DISTINCT system FROM tasks WHERE sync = ? AND state = 'waiting'
	  AND push IN (SELECT value FROM json_each(?))`, sync, string(list))
	return systems, err
}

// TaskFilter chooses tasks.
type TaskFilter struct {
	Sync, State string
	After       int64
	Limit       int
}

// Tasks lists tasks by id.
func (s *Store) Tasks(ctx context.Context, f TaskFilter) ([]api.Task, error) {
	return s.tasks(ctx, `WHERE (? = '' OR t.sync = ?) AND (? = '' OR t.state = ?) AND t.id > ? ORDER BY t.id LIMIT ?`,
		f.Sync, f.Sync, f.State, f.State, f.After, f.Limit)
}

// Task returns a task.
func (s *Store) Task(ctx context.Context, id int64) (api.Task, error) {
	list, err := s.tasks(ctx, `WHERE t.id = ?`, id)
	if err == nil && len(list) == 0 {
		err = fmt.Errorf("task %d: %w", id, ErrNotFound)
	}
	if err != nil {
		return api.Task{}, err
	}
	return list[0], nil
}

// TaskOf returns the task of a push for an order, or a part of one; nil if there is none.
func (s *Store) TaskOf(ctx context.Context, sync, push string, order, part int64) (*api.Task, error) {
	list, err := s.tasks(ctx, `WHERE t.sync = ? AND t.push = ? AND t.order_id = ? AND t.part = ?`, sync, push, order,
		part)
	if err != nil || len(list) == 0 {
		return nil, err
	}
	return &list[0], nil
}

// CountTasks counts the tasks of syncs by push and state, with the time of the oldest one that waits.
func (s *Store) CountTasks(ctx context.Context, sync string) (counts map[string]api.PushCounts, oldest time.Time,
	err error) {
	var rows []struct {
		Push  string `db:"push"`
		State string `db:"state"`
		N     int    `db:"n"`
		Made  string `db:"made"`
	}
	err = s.r.SelectContext(ctx, &rows, `SELECT push, state, count(*) n, min(made_at) made FROM tasks WHERE sync = ?
	  GROUP BY push, state`, sync)
	counts = map[string]api.PushCounts{}
	for _, r := range rows {
		c := counts[r.Push]
		switch r.State {
		case api.TaskHeld:
			c.Held = r.N
		case api.TaskAside:
			c.Aside = r.N
		default:
			c.Waiting += r.N
			if made := parseTime(r.Made); oldest.IsZero() || made.Before(oldest) {
				oldest = made
			}
		}
		counts[r.Push] = c
	}
	return counts, oldest, err
}

// Finished is the result of a push, to be stored in one transaction.
type Finished struct {
	Link *api.Link   // nil: as it was
	Log  *api.Pushed // nil: nothing is remembered of it
	Task *api.Task   // nil: nobody waits for it
	Done bool        // the task is done, unless there was a new reason to look meanwhile
	Hold *api.HeldWork

	Fetch bool // the record is to be read: it has what the order does not have yet
}

// FinishPush stores the result of a push.
func (s *Store) FinishPush(ctx context.Context, f *Finished, now time.Time) error {
	var steps []byte
	if f.Log != nil {
		var err error
		if steps, err = json.Marshal(append([]api.PushStep{}, f.Log.Steps...)); err != nil {
			return err
		}
	}
	return s.Share(ctx, func(t *Tx) error {
		if f.Link != nil {
			if err := t.putLink(f.Link, now); err != nil {
				return err
			}
			if err := t.wakeAfter(f.Link.OrderID, now); err != nil {
				return err
			}
			if f.Done {
				if err := t.releaseRecord(f.Link); err != nil {
					return err
				}
			}
		}
		if l := f.Log; l != nil {
			if f.Hold != nil { // what is held for the same reason as before is no news
				known := false
				if err := t.GetContext(ctx, &known, `SELECT EXISTS (SELECT 1 FROM held WHERE task = ? AND reason = ?)`,
					f.Task.ID,
					f.Hold.Reason); err != nil {
					return err
				}
				if known {
					return t.finishTask(f, now)
				}
			}
			if err := t.run(`INSERT INTO pushed (sync, push, system, record, order_id, part, number, key, outcome, steps, why, at, by)
			  VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`, l.Sync, l.Push, l.System, l.Record, l.OrderID, l.Part, l.Order, l.Key,
				l.Outcome, string(steps), l.Why, at(l.At), l.By); err != nil {
				return err
			}
		}
		if f.Task == nil {
			return nil
		}
		return t.finishTask(f, now)
	})
}

func (t *Tx) finishTask(f *Finished, now time.Time) error {
	k := f.Task
	switch {
	case f.Done:
		if err := t.run(`DELETE FROM held WHERE task = ?`, k.ID); err != nil {
			return err
		}
		return t.run(`DELETE FROM tasks WHERE id = ? AND turn = ?`, k.ID, k.Turn)
	case f.Hold != nil:
		f.Hold.Task = k.ID
		if err := t.Hold(*f.Hold); err != nil {
			return err
		}
	}
	// If there was a new reason to look meanwhile, it becomes due at once.
	return t.run(`UPDATE tasks SET why = ?, attempts = CASE WHEN turn = ? THEN ? ELSE attempts END,
	  due_at = CASE WHEN turn = ? THEN ? ELSE due_at END, state = CASE WHEN turn = ? THEN ? ELSE state END WHERE id = ?`,
		k.Why, k.Turn, k.Attempts, k.Turn, at(k.DueAt), k.Turn, k.State, k.ID)
}

// WakeAfter makes tasks of an order due that wait for another record of it.
func (s *Store) WakeAfter(ctx context.Context, order int64, now time.Time) error {
	return s.Write(ctx, func(t *Tx) error { return t.wakeAfter(order, now) })
}

// wakeAfter makes tasks of an order due that wait for another record of it.
func (t *Tx) wakeAfter(order int64, now time.Time) error {
	return t.run(`UPDATE tasks SET state = 'waiting', due_at = ?, turn = turn + 1 WHERE order_id = ?
		AND state = 'after'`,
		at(now), order)
}

// PushedFilter chooses what was written.
type PushedFilter struct {
	Sync    string
	OrderID int64
	Before  int64
	Limit   int
	Written bool // without what was right already
}

// PushedList lists what was written, newest first.
func (s *Store) PushedList(ctx context.Context, f PushedFilter) ([]api.Pushed, error) {
	if f.Before == 0 {
		f.Before = math.MaxInt64
	}
	where, args := []string{"id < ?"}, []any{f.Before}
	if f.Sync != "" {
		where, args = append(where, "sync = ?"), append(args, f.Sync)
	}
	if f.OrderID != 0 {
		where, args = append(where, "order_id = ?"), append(args, f.OrderID)
	}
	if f.Written {
		where = append(where, "outcome <> 'right'")
	}
	var rows []struct {
		ID      int64  `db:"id"`
		Sync    string `db:"sync"`
		Push    string `db:"push"`
		System  string `db:"system"`
		Record  string `db:"record"`
		OrderID int64  `db:"order_id"`
		Part    int64  `db:"part"`
		Number  string `db:"number"`
		Key     string `db:"key"`
		Outcome string `db:"outcome"`
		Steps   string `db:"steps"`
		Why     string `db:"why"`
		At      string `db:"at"`
		By      string `db:"by"`
	}
	err := s.r.SelectContext(ctx, &rows, `SELECT * FROM pushed WHERE `+strings.Join(where, " AND ")+
		` ORDER BY id DESC LIMIT ?`, append(args, f.Limit)...)
	if err != nil {
		return nil, err
	}
	list := make([]api.Pushed, len(rows))
	for i, r := range rows {
		list[i] = api.Pushed{ID: r.ID, Sync: r.Sync, Push: r.Push, System: r.System, Record: r.Record,
			OrderID: r.OrderID, Part: r.Part,
			Order: r.Number, Key: r.Key, Outcome: r.Outcome, Why: r.Why, At: parseTime(r.At), By: r.By}
		if err := json.Unmarshal([]byte(r.Steps), &list[i].Steps); err != nil {
			return nil, err
		}
	}
	return list, nil
}

// CountPushed counts what was written by a sync since a time and behind an id, by push.
func (s *Store) CountPushed(ctx context.Context, sync string, since time.Time, after int64) (map[string]api.PushCounts,
	error) {
	var rows []struct {
		Push string `db:"push"`
		api.PushCounts
	}
	err := s.r.SelectContext(ctx, &rows,
		`SELECT push, sum(outcome = 'created') created, sum(outcome = 'changed') changed,
	  sum(outcome = 'right') "right", 0 waiting, 0 held, 0 aside FROM pushed WHERE sync = ? AND id > ? AND at >= ? GROUP BY push`,
		sync, after, at(since))
	all := make(map[string]api.PushCounts, len(rows))
	for _, r := range rows {
		all[r.Push] = r.PushCounts
	}
	return all, err
}
