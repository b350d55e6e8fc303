package load

import (
	"context"
	"math"
	"slices"

	"koinos/api"
	"koinos/book"
	"koinos/core/outcome"
	"koinos/store"
)

// undoneAtATime is how many orders a transaction takes back at most.
const undoneAtATime = 200

// mostKept is how many orders Undone names.
const mostKept = 1_000

// Undo takes back what a load stored and changed, as far as nothing has happened to those orders since. If it is
// interrupted, it can be started again. With dry set, it says what it would do.
func (e *Engine) Undo(ctx context.Context, id int64, dry bool, by string) (api.Undone, error) {
	u := api.Undone{Load: id, DryRun: dry, Why: []api.Taken{}}
	l, err := e.ended(ctx, id)
	if err != nil {
		return u, err
	}
	for before, more := math.MaxInt, true; more && err == nil; {
		if err := ctx.Err(); err != nil {
			return u, err
		}
		part, last := api.Undone{}, before
		err = e.store.Write(ctx, func(tx *store.Tx) error {
			list, err := tx.ToTakeBack(id, before, undoneAtATime)
			if err != nil {
				return err
			}
			more = len(list) == undoneAtATime
			done := l
			for n, k := range list {
				if n > 0 && tx.Long() {
					more = true
					break
				}
				last = k.Seq
				if k.Why, err = book.TakeBack(tx, id, k, dry, by, e.now()); err != nil {
					return err
				}
				switch {
				case k.Why != "":
					part.Kept++
					part.Why = append(part.Why, k)
					continue
				case outcome.Outcome(k.Outcome) == outcome.Loaded:
					part.Removed++
				default:
					part.Changed++
				}
				done.Move(1, outcome.Outcome(k.Outcome), outcome.Undone)
			}
			if dry {
				return nil
			}
			if err := tx.SaveLoad(&done); err != nil {
				return err
			}
			l = done
			return nil
		})
		if err == nil {
			before = last
			u.Removed, u.Changed, u.Kept = u.Removed+part.Removed, u.Changed+part.Changed, u.Kept+part.Kept
			u.Why = append(u.Why, part.Why[:min(len(part.Why), mostKept-len(u.Why))]...)
		}
	}
	slices.SortFunc(u.Why, func(x, y api.Taken) int { return x.Seq - y.Seq })
	return u, err
}
