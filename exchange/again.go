package exchange

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"slices"
	"time"

	"koinos/api"
	"koinos/core/finding"
	"koinos/core/origin"
	"koinos/store"
)

// contentOf is the SHA-256 of an interchange without the line ends between its segments, which may change when a file
// is transferred.
func contentOf(r io.Reader) (string, error) {
	h := sha256.New()
	_, err := io.Copy(withoutLines{h}, r)
	return hex.EncodeToString(h.Sum(nil)), err
}

type withoutLines struct{ hash.Hash }

func (w withoutLines) Write(b []byte) (int, error) {
	from := 0
	for i, c := range b {
		if c == '\r' || c == '\n' {
			w.Hash.Write(b[from:i]) // never fails
			from = i + 1
		}
	}
	w.Hash.Write(b[from:])
	return len(b), nil
}

// cameBefore reports an interchange whose control number came before: with the same bytes, in which case the answer is
// sent once more, or with other content, which a person must look at.
func (a *arrival) cameBefore(t *store.Tx, same, other int64) error {
	control, add := fmt.Sprintf("%09d", a.kept.Control), func(f finding.Finding) {
		a.kept.Findings = append(a.kept.Findings, f)
	}
	switch {
	case a.kept.State == api.StateDuplicate:
		answered, err := t.Answer(same, a.x.now())
		if err != nil {
			return err
		}
		answer := ""
		if answered {
			answer = ", and its acknowledgement is sent once more"
		}
		add(finding.New(finding.X12Duplicate, origin.Place{Row: 1}, control,
			"The same interchange %s came from %s before: interchange %d. Nothing is done a second time%s.", control,
			a.p.Name,
			same, answer))
	case a.kept.State == api.StateDoubtful:
		add(finding.New(finding.ControlUsed, origin.Place{Row: 1}, control,
			"The control number %s came from %s before with other content, in interchange %d. Nothing is done, and nothing is "+
				"answered, until a person has looked at both.", control, a.p.Name, other))
	default:
		add(finding.New(finding.X12Rejected, origin.Place{Row: 1}, control,
			"It was refused: its control number %s came from %s before with other content, in interchange %d.", control,
			a.p.Name,
			other))
	}
	return nil
}

// Rule carries out a person's decision about an interchange whose control number came before with other content: it is
// let in, or it is refused and its sender is told.
func (x *Exchange) Rule(ctx context.Context, id int64, ruling, by string) (api.Interchange, error) {
	i, err := x.store.Interchange(ctx, id, x.now())
	if err != nil {
		return i, err
	}
	doubtful := false
	if err := x.store.Write(ctx, func(t *store.Tx) error {
		doubtful, err = t.Rule(id, ruling, by)
		if err != nil || !doubtful {
			return err
		}
		return t.AddInterchangeJob(id, x.now())
	}); err != nil {
		return i, err
	}
	if !doubtful {
		return i, fmt.Errorf("%w: nobody has to decide whether interchange %d is let in", ErrNotNow, id)
	}
	return x.settled(ctx, id)
}

// Settle says that a person has dealt with what is held of an interchange that came, or with one of ours that its
// partner has rejected. Sets that came count as done as they are, and answers to them are made from the orders as these
// are now; what was rejected stays so, and needs no attention any more.
func (x *Exchange) Settle(ctx context.Context, id int64, by string) (api.Interchange, error) {
	i, err := x.store.Interchange(ctx, id, x.now())
	if err != nil {
		return i, err
	}
	if i.Direction == "out" && (i.State == api.StateRejected || i.State == api.StatePartly) {
		if err := x.store.Write(ctx, func(t *store.Tx) error { return t.SettledBy(id, by) }); err != nil {
			return i, err
		}
		return x.store.Interchange(ctx, id, x.now())
	}
	if i.Direction != "in" || i.State != api.StateHeld {
		return i, fmt.Errorf("%w: nothing of interchange %d is held, and its partner has not rejected it", ErrNotNow, id)
	}
	if err := x.eachPage(ctx, id, 0, func(page []api.SetRecord) ([]api.SetRecord, error) {
		page = slices.DeleteFunc(page, func(s api.SetRecord) bool { return s.State != api.StateHeld })
		for k := range page {
			page[k].State = api.StateDone
		}
		return page, nil
	}); err != nil {
		return i, err
	}
	return x.nothingElse(ctx, &i, func(t *store.Tx) error { return t.SettledBy(id, by) })
}

// nothingElse gives an incoming interchange the state that follows from its sets, with what else is to be written.
func (x *Exchange) nothingElse(ctx context.Context, i *api.Interchange, also func(*store.Tx) error) (api.Interchange,
	error) {
	state, err := x.stateOf(ctx, i)
	if err == nil {
		err = x.store.Write(ctx, func(t *store.Tx) error {
			return errors.Join(also(t), t.SetInterchange(i.ID, state, time.Time{}, time.Time{}))
		})
	}
	if err != nil {
		return *i, err
	}
	return x.store.Interchange(ctx, i.ID, x.now())
}
