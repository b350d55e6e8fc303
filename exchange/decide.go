package exchange

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"koinos/api"
	"koinos/core/finding"
	"koinos/store"
)

// Undecidable says why a decision about the changes that a set asks for cannot be carried out.
type Undecidable struct{ Message string }

func (e *Undecidable) Error() string { return e.Message }

// Decide carries out a person's decision about the changes that a set of an interchange asks for: those of some of its
// lines are taken, and all others are refused. Line 0 is the header. The answer to the set says so for each line. If
// nothing is taken, the order stays as it is.
func (x *Exchange) Decide(ctx context.Context, id int64, seq int, take []int, by string) (api.Interchange, error) {
	i, err := x.store.Interchange(ctx, id, x.now())
	if err != nil {
		return i, err
	}
	set, err := x.store.SetOf(ctx, id, seq)
	if err != nil {
		return i, err
	}
	asked := map[int]bool{}
	for _, f := range set.Findings {
		if f.Code == finding.ChangeAsked {
			asked[f.Line] = true
		}
		if f.Code == finding.ChangeAsked && f.Field == "" && len(take) > 0 {
			return i, &Undecidable{fmt.Sprintf("Set %d asks for too many changes to decide about each: take all of them "+
				"(replay, accept change_asked), or none.", seq)}
		}
	}
	if i.Direction != "in" || set.State != api.StateHeld || len(asked) == 0 {
		return i, fmt.Errorf("%w: set %d of interchange %d asks for no change that waits", ErrNotNow, seq, id)
	}
	take = slices.Compact(slices.Sorted(slices.Values(take)))
	for _, line := range take {
		if !asked[line] {
			return i, &Undecidable{fmt.Sprintf("Line %d of set %d asks for no change.", line, seq)}
		}
	}
	if len(take) > 0 {
		if err := x.store.Write(ctx, func(t *store.Tx) error {
			return errors.Join(t.Decide(id, seq, take, by, x.now()), x.takeAgain(t, id))
		}); err != nil {
			return i, err
		}
		return x.settled(ctx, id)
	}
	set.State = api.StateDone
	if err := x.store.Write(ctx, func(t *store.Tx) error {
		return errors.Join(t.Decide(id, seq, take, by, x.now()), t.PutSets(id, []api.SetRecord{set}))
	}); err != nil {
		return i, err
	}
	return x.nothingElse(ctx, &i, func(*store.Tx) error { return nil })
}
