package load

import (
	"bytes"
	"context"
	"errors"

	"koinos/book"
	"koinos/core/intent"
	"koinos/core/list"
	"koinos/core/mapping"
	"koinos/core/outcome"
	"koinos/core/source"
	"koinos/store"
)

// Imagined is what an intent would make of an order.
type Imagined struct {
	store.OrderResult
	Order *store.StoredOrder // as it would be; nil where nothing would be made of it
}

// Known reports whether an order that a mapping finds in a document is stored here.
func (e *Engine) Known(ctx context.Context, m *mapping.Mapping, set *list.Set, doc []byte) (is bool, err error) {
	var failed error
	_, err = Try(ctx, bytes.NewReader(doc), int64(len(doc)), m, set, source.DefaultLimits, func(i *intent.Intent) {
		if is || failed != nil {
			return
		}
		var ids []int64
		o := &i.Order
		ids, failed = e.store.OrdersOf(ctx, store.Spoken{Kind: o.Kind, Partner: o.Partner, Number: o.Number, Sender: o.SenderNumber})
		is = len(ids) > 0
	}, nil)
	return is, errors.Join(err, failed)
}

// errImagined rolls back the transaction in which orders were imagined.
var errImagined = errors.New("nothing of this is kept")

// Imagine returns what intents that a mapping made would become in the book, and stores nothing: the book takes them in
// a transaction that is rolled back. Orders that would be new have the ids and numbers that they would get now. It is
// meant for a few thousand intents at most.
func (e *Engine) Imagine(ctx context.Context, m *mapping.Mapping, all []*intent.Intent) ([]Imagined, error) {
	set, err := e.store.Set(ctx)
	if err != nil {
		return nil, err
	}
	r := rulesOf(m, &outcome.Load{})
	session := book.Begin(book.Rules{Again: r.again, Arrival: r.arrival, Newer: r.newer, Rounding: r.rounding, Lists: set,
		Holds: r.holds, Weighs: r.weighs, Over: r.over, Source: store.Source{By: "dry run"}, Real: true, Now: e.now})
	entries := make([]book.Entry, len(all))
	for i := range all {
		entries[i] = book.NewEntry(all[i], "", true)
	}
	return e.imagine(ctx, session, entries)
}

// imagine lets a session take entries in a transaction that is rolled back.
func (e *Engine) imagine(ctx context.Context, session *book.Session, entries []book.Entry) ([]Imagined, error) {
	out := make([]Imagined, len(entries))
	err := e.store.Write(ctx, func(tx *store.Tx) error {
		results, err := session.Take(tx, entries)
		if err != nil {
			return err
		}
		for i := range results {
			out[i].OrderResult = results[i]
			if results[i].OrderID == 0 || results[i].Outcome.Failed() {
				continue
			}
			if out[i].Order, err = tx.Order(results[i].OrderID); err != nil {
				return err
			}
		}
		return errImagined
	})
	if errors.Is(err, errImagined) {
		err = nil
	}
	return out, err
}
