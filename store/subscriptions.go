package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"time"

	"koinos/api"
)

type subscriptionRow struct {
	ID        int64  `db:"id"`
	Name      string `db:"name"`
	URL       string `db:"url"`
	Events    string `db:"events"`
	Partner   string `db:"partner"`
	Secret    string `db:"secret"`
	State     string `db:"state"`
	Reason    string `db:"reason"`
	Since     string `db:"since"`
	Position  int64  `db:"position"`
	CreatedAt string `db:"created_at"`
	CreatedBy string `db:"created_by"`
}

func (r *subscriptionRow) subscription() (api.Subscription, error) {
	y := api.Subscription{ID: r.ID, Name: r.Name, URL: r.URL, Partner: r.Partner, SecretIn: r.Secret, State: r.State,
		Reason: r.Reason, Since: parseTime(r.Since), Position: r.Position, CreatedAt: parseTime(r.CreatedAt),
		CreatedBy: r.CreatedBy}
	return y, json.Unmarshal([]byte(r.Events), &y.Events)
}

// ErrNameTaken says that the name is in use already.
var ErrNameTaken = errors.New("the name is taken")

// AddSubscription stores a subscription. It receives what happens from now on.
func (s *Store) AddSubscription(ctx context.Context, y *api.Subscription) error {
	events, err := json.Marshal(y.Events)
	if err != nil {
		return err
	}
	return s.Write(ctx, func(t *Tx) error {
		var there int
		if err := t.GetContext(ctx, &there, `SELECT count(*) FROM subscriptions WHERE name = ?`, y.Name); err != nil {
			return err
		}
		if there > 0 {
			return ErrNameTaken
		}
		if err := t.GetContext(ctx, &y.Position, `SELECT coalesce(max(n), 0) FROM events`); err != nil {
			return err
		}
		res, err := t.exec(`INSERT INTO subscriptions (name, url, events, partner, secret, state, reason, since, position,
		  created_at, created_by) VALUES (?, ?, ?, ?, ?, ?, '', ?, ?, ?, ?)`, y.Name, y.URL, string(events), y.Partner,
			y.SecretIn, y.State, at(y.CreatedAt), y.Position, at(y.CreatedAt), y.CreatedBy)
		if err != nil {
			return err
		}
		y.ID, err = res.LastInsertId()
		return err
	})
}

// Subscribers lists subscriptions by name, without the counts of deliveries, which are slow for long histories.
func (s *Store) Subscribers(ctx context.Context) ([]api.Subscription, error) {
	var rows []subscriptionRow
	if err := s.r.SelectContext(ctx, &rows, `SELECT * FROM subscriptions ORDER BY name`); err != nil {
		return nil, err
	}
	list := make([]api.Subscription, len(rows))
	for i := range rows {
		var err error
		if list[i], err = rows[i].subscription(); err != nil {
			return nil, err
		}
	}
	return list, nil
}

// Paused reports whether a subscription is paused, or gone.
func (s *Store) Paused(ctx context.Context, id int64) (is bool, err error) {
	err = s.r.GetContext(ctx, &is, `SELECT NOT EXISTS (SELECT 1 FROM subscriptions WHERE id = ? AND state <> 'paused')`,
		id)
	return is, err
}

// Subscriptions lists subscriptions by name, with counts of their deliveries.
func (s *Store) Subscriptions(ctx context.Context) ([]api.Subscription, error) {
	list, err := s.Subscribers(ctx)
	if err != nil {
		return nil, err
	}
	var counts []struct {
		Subscription int64  `db:"subscription"`
		State        string `db:"state"`
		N            int    `db:"n"`
	}
	if err := s.r.SelectContext(ctx, &counts,
		`SELECT subscription, state, count(*) n FROM deliveries GROUP BY subscription, state`); err != nil {
		return nil, err
	}
	for i := range list {
		for _, c := range counts {
			if c.Subscription == list[i].ID {
				*map[string]*int{api.DeliveryWaiting: &list[i].Counts.Waiting,
					api.DeliveryDelivered: &list[i].Counts.Delivered,
					api.DeliveryFailed:    &list[i].Counts.Failed}[c.State] = c.N
			}
		}
	}
	return list, nil
}

// Subscription returns a subscription by its name.
func (s *Store) Subscription(ctx context.Context, name string) (api.Subscription, error) {
	all, err := s.Subscriptions(ctx)
	for _, y := range all {
		if y.Name == name {
			return y, nil
		}
	}
	if err == nil {
		err = named(sql.ErrNoRows, "subscription %s", name)
	}
	return api.Subscription{}, err
}

// SetSubscription changes the state of a subscription. With anew set, everything that waits becomes due.
func (s *Store) SetSubscription(ctx context.Context, id int64, state, reason string, since time.Time, anew bool) error {
	return s.Write(ctx, func(t *Tx) error {
		if anew {
			if err := t.run(`UPDATE deliveries SET due_at = ? WHERE subscription = ? AND state = 'waiting'`, at(since),
				id); err != nil {
				return err
			}
		}
		return t.run(`UPDATE subscriptions SET state = ?, reason = ?, since = ? WHERE id = ?`, state, reason, at(since),
			id)
	})
}

// DropSubscription deletes a subscription with its deliveries.
func (s *Store) DropSubscription(ctx context.Context, id int64) error {
	return s.Write(ctx, func(t *Tx) error { return t.run(`DELETE FROM subscriptions WHERE id = ?`, id) })
}

// Spread stores the messages that follow from events, and how far a subscription has come. It does nothing if somebody
// else has done so already.
func (s *Store) Spread(ctx context.Context, subscription, from, to int64, all []api.Delivery) error {
	return s.Write(ctx, func(t *Tx) error {
		res, err := t.exec(`UPDATE subscriptions SET position = ? WHERE id = ? AND position = ?`, to, subscription,
			from)
		if err != nil {
			return err
		}
		if n, err := res.RowsAffected(); err != nil || n == 0 {
			return err
		}
		for _, d := range all {
			if err := t.run(`INSERT INTO deliveries (subscription, event, type, hook_id, body, state, attempts, made_at, due_at,
			  status, why) VALUES (?, ?, ?, ?, ?, 'waiting', 0, ?, ?, 0, '')`, subscription, d.Event, d.Type, d.HookID, d.Body,
				at(d.MadeAt), at(d.MadeAt)); err != nil {
				return err
			}
		}
		return nil
	})
}

type deliveryRow struct {
	ID           int64          `db:"id"`
	Subscription int64          `db:"subscription"`
	Event        int64          `db:"event"`
	Type         string         `db:"type"`
	HookID       string         `db:"hook_id"`
	Body         string         `db:"body"`
	State        string         `db:"state"`
	Attempts     int            `db:"attempts"`
	MadeAt       string         `db:"made_at"`
	DueAt        string         `db:"due_at"`
	LastAt       sql.NullString `db:"last_at"`
	Status       int            `db:"status"`
	Why          string         `db:"why"`
}

func (s *Store) deliveries(ctx context.Context, where string, args ...any) ([]api.Delivery, error) {
	var rows []deliveryRow
	err := s.r.SelectContext(ctx, &rows, `SELECT * FROM deliveries WHERE `+where, args...)
	list := make([]api.Delivery, len(rows))
	for i, r := range rows {
		list[i] = api.Delivery{ID: r.ID, Subscription: r.Subscription, Event: r.Event, Type: r.Type, HookID: r.HookID,
			Body: r.Body, State: r.State, Attempts: r.Attempts, MadeAt: parseTime(r.MadeAt), DueAt: parseTime(r.DueAt),
			Status: r.Status, Why: r.Why}
		if r.LastAt.Valid {
			last := parseTime(r.LastAt.String)
			list[i].LastAt = &last
		}
	}
	return list, err
}

// Due returns the messages of a subscription that are to be sent now, oldest first.
func (s *Store) Due(ctx context.Context, subscription int64, now time.Time, limit int) ([]api.Delivery, error) {
	return s.deliveries(ctx, `subscription = ? AND state = 'waiting' AND due_at <= ? ORDER BY due_at, id LIMIT ?`,
		subscription, at(now), limit)
}

// Deliveries lists messages of a subscription, newest first; a blank state means any.
func (s *Store) Deliveries(ctx context.Context, subscription int64, state string, before int64,
	limit int) ([]api.Delivery,
	error) {
	return s.deliveries(ctx,
		`subscription = ? AND (? = '' OR state = ?) AND (? = 0 OR id < ?) ORDER BY id DESC LIMIT ?`,
		subscription, state, state, before, before, limit)
}

// SaveDelivery stores the result of an attempt.
func (s *Store) SaveDelivery(ctx context.Context, d *api.Delivery) error {
	return s.Write(ctx, func(t *Tx) error {
		return t.run(`UPDATE deliveries SET state = ?, attempts = ?, due_at = ?, last_at = ?, status = ?, why = ?
			WHERE id = ?`,
			d.State, d.Attempts, at(d.DueAt), at(*d.LastAt), d.Status, d.Why, d.ID)
	})
}

// Resend makes messages of a subscription due again: those with some ids, or all that failed.
func (s *Store) Resend(ctx context.Context, subscription int64, r api.Resend, now time.Time) (n int, err error) {
	err = s.Write(ctx, func(t *Tx) error {
		n = 0
		const again = `UPDATE deliveries SET state = 'waiting', attempts = 0, made_at = ?, due_at = ?
			WHERE subscription = ? AND `
		change := func(where string, args ...any) error {
			res, err := t.exec(again+where, append([]any{at(now), at(now), subscription}, args...)...)
			if err != nil {
				return err
			}
			rows, err := res.RowsAffected()
			n += int(rows)
			return err
		}
		if r.Failed {
			if err := change(`state = 'failed'`); err != nil {
				return err
			}
		}
		for _, id := range r.IDs {
			if err := change(`id = ?`, id); err != nil {
				return err
			}
		}
		return nil
	})
	return n, err
}

// LastEvent is the number of the newest event.
func (s *Store) LastEvent(ctx context.Context) (n int64, err error) {
	err = s.r.GetContext(ctx, &n, `SELECT coalesce(max(n), 0) FROM events`)
	return n, err
}

// Happened is an event as subscribers receive it, with the numbers of its order.
type Happened struct {
	N            int64           `db:"n" json:"event"`
	OrderID      int64           `db:"order_id" json:"order_id"`
	Number       string          `db:"number" json:"number"`
	Kind         string          `db:"kind" json:"kind"`
	Partner      string          `db:"partner" json:"partner,omitempty"`
	SenderNumber string          `db:"sender_number" json:"sender_number,omitempty"`
	Status       string          `db:"status" json:"status,omitempty"`
	Revision     int             `db:"revision" json:"revision"`
	By           string          `db:"by" json:"by,omitempty"`
	Changes      json.RawMessage `db:"-" json:"changes,omitempty"`
	Action       string          `db:"action" json:"-"`
	At           string          `db:"at" json:"-"`
	Text         sql.NullString  `db:"changes" json:"-"`
}

// Happened lists events behind a number, oldest first. The numbers of an order that was removed come from its last
// content.
func (s *Store) Happened(ctx context.Context, after int64, limit int) (list []Happened, err error) {
	err = s.r.SelectContext(ctx, &list, `SELECT e.n, e.order_id, e.revision, e.at, e.by, e.action, e.changes,
	  coalesce(o.number, json_extract(e.was, '$.number'), '') number, coalesce(o.kind, json_extract(e.was, '$.kind'), '') kind,
	  coalesce(o.partner, json_extract(e.was, '$.partner'), '') partner,
	  coalesce(o.sender_number, json_extract(e.was, '$.sender_number'), '') sender_number, coalesce(o.status, '') status
	  FROM events e LEFT JOIN orders o ON o.id = e.order_id WHERE e.n > ? ORDER BY e.n LIMIT ?`, after, limit)
	for i := range list {
		if t := list[i].Text; t.Valid && t.String != "null" {
			list[i].Changes = json.RawMessage(t.String)
		}
	}
	return list, err
}
