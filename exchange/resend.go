package exchange

import (
	"context"
	"fmt"
	"io"
	"math"
	"strconv"

	"koinos/api"
	"koinos/core/x12"
	"koinos/store"
)

// Resend delivers an interchange of ours once more: the same bytes under the same control number.
func (x *Exchange) Resend(ctx context.Context, id int64, by string) (api.Interchange, error) {
	i, err := x.left(ctx, id)
	if err != nil {
		return i, err
	}
	if err := x.deliver(ctx, &i, by); err != nil {
		return i, err
	}
	return x.store.Interchange(ctx, id, x.now())
}

// left returns an interchange of ours that has control numbers and therefore can have been sent.
func (x *Exchange) left(ctx context.Context, id int64) (api.Interchange, error) {
	i, err := x.store.Interchange(ctx, id, x.now())
	if err == nil && (i.Direction != "out" || i.Control == 0) {
		err = fmt.Errorf("%w: interchange %d never left; only what has can go out again", ErrNotNow, id)
	}
	return i, err
}

// Renumber sends an interchange of ours once more under new control numbers, for a partner whose program skips numbers
// that it has seen. The new interchange is a copy of the old one, which need not be acknowledged any more.
func (x *Exchange) Renumber(ctx context.Context, id int64, by string) (api.Interchange, error) {
	was, err := x.left(ctx, id)
	if err != nil {
		return was, err
	}
	if was.State == api.StateReady {
		return was, fmt.Errorf("%w: interchange %d has not left yet", ErrNotNow, id)
	}
	p, err := x.Partner(ctx, was.Partner)
	if err != nil {
		return was, err
	}
	sets, err := x.store.Sets(ctx, id, store.SetFilter{Limit: math.MaxInt32})
	if err != nil {
		return was, err
	}
	r, err := x.Text(ctx, id)
	if err != nil {
		return was, err
	}
	defer r.Close()
	text, err := io.ReadAll(r) // we wrote it: it is not long
	if err != nil {
		return was, err
	}
	defer x.lock(p.Name)()
	var i api.Interchange
	if err := x.store.Write(ctx, func(t *store.Tx) error {
		control, err := t.NextNumber(p.Name, "interchange")
		if err != nil {
			return err
		}
		i = api.Interchange{Partner: p.Name, Direction: "out", Control: control, Kinds: was.Kinds, State: api.StateReady,
			Name: p.FileName(was.Kinds, control), Answers: was.Answers, At: x.now().UTC(), By: by, CopyOf: was.ID}
		groups := map[string]string{}
		bytes, err := x12.Renumber(text, control, func(was string) (int64, error) {
			group, err := t.NextNumber(p.Name, "group")
			i.GroupControl, groups[was] = group, strconv.FormatInt(group, 10)
			return group, err
		}, x.now())
		if err != nil {
			return err
		}
		if i.Document, err = x.keepBytes(t, bytes, i.Name, by); err != nil {
			return err
		}
		if i.Answers == 0 && p.Within() > 0 {
			i.DueAt = x.now().Add(p.Within())
		}
		for _, s := range sets {
			s.State, s.GroupControl = api.StateReady, groups[s.GroupControl]
			i.Sets = append(i.Sets, s)
		}
		if err := x.add(t, &i); err != nil {
			return err
		}
		return t.Superseded(was.ID)
	}); err != nil {
		return was, err
	}
	return x.settled(ctx, i.ID)
}
