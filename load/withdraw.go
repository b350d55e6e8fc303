package load

import (
	"context"
	"errors"

	"koinos/book"
	"koinos/core/intent"
	"koinos/core/order"
	"koinos/store"
)

// Withdraw cancels what is open of a stored order because nobody wants it any more. What has moved stays as it is. An
// order that is cancelled already does not change.
func (e *Engine) Withdraw(ctx context.Context, id int64, by string) error {
	return e.store.Share(ctx, func(tx *store.Tx) error {
		is, err := tx.Order(id)
		if err != nil {
			return err
		}
		i := &intent.Intent{Kind: intent.Withdrawal, Order: order.Order{Kind: is.Kind, Partner: is.Partner,
			Number: is.Order.Number, SenderNumber: is.SenderNumber}}
		session := book.Begin(book.Rules{Rounding: order.HalfUp, Source: store.Source{By: by}, Real: true, Now: e.now})
		if _, err := session.Take(tx, []book.Entry{book.NewEntry(i, "", false)}); err != nil {
			return err
		}
		if i.Refused() {
			return errors.New(i.Findings[0].Message)
		}
		return nil
	})
}
