package book

import (
	"errors"
	"fmt"
	"time"

	"koinos/api"
	"koinos/core/outcome"
	"koinos/store"
)

// TakeBack undoes what a load did to an order: it removes an order that the load stored, and gives an order that the
// load changed its earlier content back. If anything has happened to the order since, or a partner was told about it,
// nothing is done and why gives the reason. With dry set, nothing is done in any case.
func TakeBack(tx *store.Tx, load int64, k api.Taken, dry bool, by string, now time.Time) (why string, err error) {
	last, was, err := tx.LastEvent(k.OrderID, load, k.Seq)
	if errors.Is(err, store.ErrNotFound) {
		return "The order is not there any more.", nil
	}
	gone := (*store.TakenAway)(nil)
	if err != nil && !errors.As(err, &gone) {
		return "", err
	}
	if last.Origin.Load != load || last.Origin.Seq != k.Seq {
		what := "The order was " + last.Action
		if last.Action == "moved" {
			what = "Goods of the order have moved"
		}
		return fmt.Sprintf("%s since (by %s, revision %d, %s).", what, last.Origin.By, last.Revision,
			last.Origin.At.Format(time.DateOnly)), nil
	}
	told, err := tx.Told(k.OrderID, last.Revision)
	if err != nil {
		return "", err
	}
	if told != 0 {
		return fmt.Sprintf("The partner was told of it in interchange %d.", told), nil
	}
	created := outcome.Outcome(k.Outcome) == outcome.Loaded
	if !created && was == nil {
		return "What the order was before is not kept any more.", nil
	}
	if dry {
		return "", nil
	}
	o, err := tx.Order(k.OrderID)
	if err != nil {
		return "", err
	}
	from := store.Source{Load: load, By: by}
	if created {
		err = errors.Join(tx.ReleaseAnswer(o.ID), tx.Remove(o, from, k.Seq, now))
	} else {
		if err = tx.Restore(o, last.Revision, was, from, k.Seq, now); err == nil {
			err = buyers(&spokenOf{tx: tx, changes: tx.Changes(now)}, &o.Order, len(o.Answers) > 0, now)
		}
	}
	return "", errors.Join(err, tx.Undone(load, k.Seq))
}
