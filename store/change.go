package store

import (
	"database/sql"
	"encoding/json"
	"fmt"
	"time"

	"koinos/core/order"
)

// Changed is a stored order that is to become another.
type Changed struct {
	Was         *order.Order
	Is          *order.Order // with the ID of Was; gets its Revision
	Fingerprint []byte       // of what arrived; nil leaves the one that is stored
	Action      string       // of the event
	Changes     []order.Change
	Load        int64 // 0 is none
	Seq         int
}

// ChangeOrder stores an order's new content with the event of its change. What
// it was is kept with the event.
func (t *Tx) ChangeOrder(c Changed, by string, now time.Time) error {
	o := c.Is
	o.Revision = c.Was.Revision + 1
	more, err := headerMore(o)
	if err != nil {
		return err
	}
	_, err = t.exec(`UPDATE orders SET number = ?, status = ?, revision = ?, sender_number = ?, partner = ?, ordered_on = ?, requested_ship_on = ?, requested_delivery_on = ?,
	  currency = ?, total = ?, line_count = ?, more = ?, fingerprint = coalesce(?, fingerprint) WHERE id = ?`,
		o.Number, string(o.Status), o.Revision, null(o.SenderNumber), o.Partner, null(string(o.OrderedOn)), null(string(o.RequestedShipOn)), null(string(o.RequestedDeliveryOn)),
		null(o.Currency), o.Total.String(), len(o.Lines), more, c.Fingerprint, o.ID)
	if err != nil {
		return err
	}
	if _, err := t.exec(`DELETE FROM lines WHERE order_id = ?`, o.ID); err != nil {
		return err
	}
	lines := t.lines()
	if err := lines.add(o, nil); err != nil {
		return err
	}
	if err := lines.done(); err != nil {
		return err
	}
	was, err := json.Marshal(c.Was)
	if err != nil {
		return err
	}
	changes, err := json.Marshal(c.Changes)
	if err != nil {
		return err
	}
	var load any
	if c.Load != 0 {
		load = c.Load
	}
	_, err = t.exec(`INSERT INTO events (order_id, revision, at, by, action, load_id, load_seq, changes, was) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		o.ID, o.Revision, at(now), by, c.Action, load, c.Seq, string(changes), string(was))
	return err
}

// Taken is an order that undoing a load comes upon.
type Taken struct {
	Seq     int    `db:"seq" json:"seq"`
	OrderID int64  `db:"order_id" json:"order_id"`
	Number  string `db:"number" json:"number"`
	Outcome string `db:"outcome" json:"outcome" doc:"What the load had done: loaded or changed"`
	Why     string `db:"-" json:"why,omitempty" doc:"Why it cannot be taken back"`
}

// ToTakeBack lists orders that a load stored or changed, from a seq on.
func (t *Tx) ToTakeBack(load int64, after, limit int) (list []Taken, err error) {
	err = t.tx.SelectContext(t.ctx, &list, `SELECT seq, order_id, coalesce(number, '') AS number, outcome FROM load_orders
	  WHERE load_id = ? AND seq > ? AND outcome IN ('loaded', 'changed') ORDER BY seq LIMIT ?`, load, after, limit)
	return list, err
}

// TakeBack undoes what a load did to an order: one that it stored is gone, one
// that it changed has its content from before again. Where something has
// happened to the order since, nothing is done and why says what; with dry
// nothing is done either way.
func (t *Tx) TakeBack(load int64, k Taken, dry bool, by string, now time.Time) (why string, err error) {
	var last struct {
		Revision int            `db:"revision"`
		Load     sql.NullInt64  `db:"load_id"`
		Action   string         `db:"action"`
		Was      sql.NullString `db:"was"`
		By       string         `db:"by"`
		At       string         `db:"at"`
		Stored   []byte         `db:"fingerprint"`
	}
	err = t.tx.GetContext(t.ctx, &last, `SELECT e.revision, e.load_id, e.action, e.was, e.by, e.at, o.fingerprint FROM events e JOIN orders o ON o.id = e.order_id AND o.revision = e.revision WHERE e.order_id = ?`, k.OrderID)
	if err == sql.ErrNoRows {
		return "The order is not there any more.", nil
	}
	if err != nil {
		return "", err
	}
	if last.Load.Int64 != load || last.Action != "created" && last.Action != "changed" {
		return fmt.Sprintf("The order was %s by %s since (revision %d, %s).", last.Action, last.By, last.Revision, last.At[:10]), nil
	}
	if dry {
		return "", nil
	}
	if last.Action == "created" {
		for _, query := range []string{`DELETE FROM lines WHERE order_id = ?`, `DELETE FROM events WHERE order_id = ?`, `DELETE FROM orders WHERE id = ?`} {
			if _, err := t.exec(query, k.OrderID); err != nil {
				return "", err
			}
		}
	} else {
		now1, err := t.Order(k.OrderID)
		if err != nil {
			return "", err
		}
		var was order.Order
		if err := json.Unmarshal([]byte(last.Was.String), &was); err != nil {
			return "", fmt.Errorf("order %d: %w", k.OrderID, err)
		}
		print := was.Fingerprint()
		err = t.ChangeOrder(Changed{Was: &now1.Order, Is: &was, Fingerprint: print[:], Action: "taken back", Changes: order.Diff(&now1.Order, &was), Load: load, Seq: k.Seq}, by, now)
		if err != nil {
			return "", err
		}
	}
	_, err = t.exec(`UPDATE load_orders SET outcome = 'undone' WHERE load_id = ? AND seq = ?`, load, k.Seq)
	return "", err
}
