package exchange

import (
	"cmp"
	"context"
	"errors"
	"slices"
	"time"

	"koinos/api"
	"koinos/core/notice"
	"koinos/core/order"
	"koinos/store"
)

// unasked is what a partner is told about an order although it asked for nothing: what we have changed by ourselves
// since it was told last. Our answers (before) to the changes that it has asked for (asked) come first.
func (t *teller) unasked(ctx context.Context, o *store.StoredOrder, is *order.Order, before,
	asked []api.SetRecord) ([]telling, error) {
	if t.want.Set != "865" || !t.p.TellsUnasked() {
		return nil, nil
	}
	came, err := t.x.store.Said(ctx, "in", answersTo["855"], o.ID)
	if err != nil {
		return nil, err
	}
	told, err := t.x.store.Said(ctx, "out", "855", o.ID)
	if err != nil || len(told) == 0 || len(told) < len(came) {
		return nil, err
	}
	told = append(told, before...)
	slices.SortStableFunc(told, func(one, other api.SetRecord) int {
		return cmp.Compare(one.Interchange, other.Interchange)
	})
	heard, err := t.x.heardOf(ctx, o, told, asked)
	if gone := (*store.TakenAway)(nil); errors.As(err, &gone) {
		return nil, nil // it was complete, or cancelled, a long time ago
	}
	if err != nil {
		return nil, err
	}
	var answers []order.Answered
	for _, a := range o.Answers {
		if a.Revision > lastOf(told) {
			answers = append(answers, a)
		}
	}
	view := notice.Unasked(heard, is, answers, order.Date(t.x.now().Format(time.DateOnly)))
	if len(view.Lines) == 0 {
		return nil, nil
	}
	return []telling{about(o, view)}, nil
}

// heardOf is what a partner knows of an order from the answers that it was told, oldest first; those to changes are to
// the ones that it has asked for (asked), in turn.
func (x *Exchange) heardOf(ctx context.Context, o *store.StoredOrder, told, asked []api.SetRecord) ([]notice.Told,
	error) {
	heard := make([]notice.Told, len(told))
	for i := range told {
		one, err := &heard[i], error(nil)
		if one.Answer, err = viewOf(&told[i]); err != nil {
			return nil, err
		}
		if one.Was, err = x.asOf(ctx, o, told[i].First().Revision); err != nil {
			return nil, err
		}
		if said := one.Answer.Statement; told[i].Kind == "855" || said != nil && said.Unasked || len(asked) == 0 {
			continue
		}
		then, err := x.asOf(ctx, o, revisionBefore(o, &asked[0]))
		if err != nil {
			return nil, err
		}
		one.Before, asked = &then, asked[1:]
	}
	return heard, nil
}

// answersOf counts the sets that answer something, and do not tell it unasked.
func answersOf(before []api.SetRecord) (n int, err error) {
	for i := range before {
		v, err := viewOf(&before[i])
		if err != nil {
			return 0, err
		}
		if v.Statement == nil || !v.Statement.Unasked {
			n++
		}
	}
	return n, nil
}
