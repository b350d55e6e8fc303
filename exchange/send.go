package exchange

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"koinos/core/finding"
	"koinos/core/notice"
	"koinos/core/order"
	"koinos/core/partner"
	"koinos/core/x12"
	"koinos/folder"
	"koinos/store"
)

// Wanted says what to tell a partner: a transaction set, and of which orders.
// Of those, only what has not been said yet is.
type Wanted struct {
	Set    string   `json:"set" doc:"850, 860 to a supplier; 855, 856, 810, 865 to a customer"`
	Orders []string `json:"orders,omitempty" doc:"Numbers of the orders; left out, all"`
	Status []string `json:"status,omitempty" doc:"850: statuses of the orders; left out, confirmed"`
	From   string   `json:"from,omitempty" doc:"850: ordered on this day or later"`
	To     string   `json:"to,omitempty" doc:"850: ordered on this day or earlier"`
	Try    bool     `json:"try,omitempty" doc:"Only say what would go out, and what keeps it from going"`
	fresh  bool     // leaves out what is held, until it changes
}

// Sending is what became of it.
type Sending struct {
	Interchanges []store.Interchange `json:"interchanges" doc:"What was sent, and what is held"`
	Text         string              `json:"text,omitempty" doc:"When only tried: what would go out"`
}

// telling is something that is to be said of an order.
type telling struct {
	order  *store.StoredOrder
	view   order.Order
	number func(*order.Order, int64) // gives the view the number that it gets when it goes out
	series string                    // of that number
	w      *x12.Writing
	found  []finding.Finding
}

// Send tells a partner what is to be said. What breaks its rules is held with
// the reasons; the rest goes out in one interchange.
func (x *Exchange) Send(ctx context.Context, name string, want Wanted, by string) (out Sending, err error) {
	x.mu.Lock()
	defer x.mu.Unlock()
	out.Interchanges = []store.Interchange{}
	p, err := x.Partner(ctx, name)
	if err != nil {
		return out, err
	}
	if !p.Outgoing(want.Set) {
		f := finding.New(finding.PartnerInvalid, finding.Place{}, want.Set, "A %s comes from %s, a %s, and does not go there.", want.Set, p.Name, p.Kind)
		return out, &f
	}
	m, err := x.mappingOf(ctx, p, want.Set)
	if err != nil {
		return out, err
	}
	all, err := x.tellings(ctx, p, want)
	if err != nil || len(all) == 0 {
		return out, err
	}
	lists, err := x.store.Set(ctx)
	if err != nil {
		return out, err
	}
	if want.Try {
		return x.try(p, all, func(t *telling) { t.w, t.found = p.Compose(m, &t.view, lists) })
	}
	var ids []int64
	err = x.store.Write(ctx, func(t *store.Tx) error {
		ids = nil
		var good []*telling
		for i := range all {
			one := &all[i]
			if one.number != nil { // looked at first with a number that costs none
				one.number(&one.view, 1)
			}
			if one.w, one.found = p.Compose(m, &one.view, lists); !sound(one.found) {
				id, err := x.hold(t, p, want.Set, one, by)
				if err != nil {
					return err
				}
				if id != 0 {
					ids = append(ids, id)
				}
				continue
			}
			if one.number != nil {
				n, err := t.NextNumber(p.Name, one.series)
				if err != nil {
					return err
				}
				one.number(&one.view, n)
				one.w, one.found = p.Compose(m, &one.view, lists)
			}
			good = append(good, one)
		}
		if len(good) == 0 {
			return nil
		}
		id, err := x.put(t, p, want.Set, good, by)
		ids = append(ids, id)
		return err
	})
	if err != nil {
		return out, err
	}
	for _, id := range ids {
		i, err := x.store.Interchange(ctx, id, x.now())
		if err == nil && i.State == store.Ready {
			if err = x.deliver(ctx, id); err == nil {
				i, err = x.store.Interchange(ctx, id, x.now())
			}
		}
		if err != nil {
			return out, err
		}
		out.Interchanges = append(out.Interchanges, i)
	}
	return out, nil
}

// sound reports whether nothing keeps a set from leaving.
func sound(found []finding.Finding) bool {
	for _, f := range found {
		if f.Severity == finding.Error {
			return false
		}
	}
	return true
}

func (x *Exchange) try(p *partner.Partner, all []telling, compose func(*telling)) (Sending, error) {
	out := Sending{Interchanges: []store.Interchange{}}
	var good []*x12.Writing
	for i := range all {
		one := &all[i]
		if one.number != nil {
			one.number(&one.view, 1)
		}
		compose(one)
		state := store.Held
		if sound(one.found) {
			good = append(good, one.w)
			state = store.Ready
		}
		out.Interchanges = append(out.Interchanges, store.Interchange{Partner: p.Name, Direction: "out", Kinds: one.w.ID, State: state, At: x.now().UTC(), Orders: []string{one.order.Number},
			Sets: []store.SetRecord{{Seq: 1, Kind: one.w.ID, State: state, Number: one.order.Number, OrderID: one.order.ID, Findings: one.found}}})
	}
	if len(good) == 0 {
		return out, nil
	}
	var b bytes.Buffer
	err := p.Write(&b, good, 1, 1, x.now())
	out.Text = b.String()
	return out, err
}

// hold keeps what must not leave, with the reasons, in place of what was held
// of the same order before.
func (x *Exchange) hold(t *store.Tx, p *partner.Partner, set string, one *telling, by string) (int64, error) {
	said, err := json.Marshal(one.view)
	if err != nil {
		return 0, err
	}
	if err := t.DropHeld(set, one.order.ID); err != nil {
		return 0, err
	}
	i := store.Interchange{Partner: p.Name, Direction: "out", Kinds: set, State: store.Held, At: x.now().UTC(), By: by,
		Sets: []store.SetRecord{{Seq: 1, Kind: set, State: store.Held, Number: one.order.Number, OrderID: one.order.ID, Revision: one.order.Revision, Said: said, Findings: one.found}}}
	err = t.AddInterchange(&i)
	return i.ID, err
}

// put writes what is sound into one interchange and keeps it, with control
// numbers that are durable before anything leaves.
func (x *Exchange) put(t *store.Tx, p *partner.Partner, set string, good []*telling, by string) (int64, error) {
	control, err := t.NextNumber(p.Name, "interchange")
	if err != nil {
		return 0, err
	}
	group, err := t.NextNumber(p.Name, "group")
	if err != nil {
		return 0, err
	}
	now := x.now()
	var writings []*x12.Writing
	for _, one := range good {
		writings = append(writings, one.w)
	}
	var b bytes.Buffer
	if err := p.Write(&b, writings, control, group, now); err != nil {
		return 0, err
	}
	i := store.Interchange{Partner: p.Name, Direction: "out", Control: control, GroupControl: group, Kinds: set, State: store.Ready, Name: p.FileName(set, control), At: now.UTC(), By: by}
	if p.Within() > 0 {
		i.DueAt = now.Add(p.Within())
	}
	if i.Document, err = x.keepBytes(t, b.Bytes(), i.Name, by); err != nil {
		return 0, err
	}
	seq := 0
	if err := x12.Read(bytes.NewReader(b.Bytes()), x12.Handler{Set: func(s *x12.Set) error {
		one := good[seq]
		seq++
		said, err := json.Marshal(one.view)
		if err != nil {
			return err
		}
		i.Sets = append(i.Sets, store.SetRecord{Seq: seq, Kind: set, GroupControl: strconv.FormatInt(group, 10), Control: s.Control, Row: s.Segments[0].Row, Rows: len(s.Segments), State: store.Ready,
			Number: one.order.Number, OrderID: one.order.ID, Revision: one.order.Revision, Said: said, Findings: one.found})
		return t.DropHeld(set, one.order.ID)
	}}); err != nil {
		return 0, err
	}
	err = t.AddInterchange(&i)
	return i.ID, err
}

// deliver puts what was kept into the partner's folder: the same bytes, however
// often. Without folders it waits to be fetched over the API.
func (x *Exchange) deliver(ctx context.Context, id int64) error {
	i, err := x.store.Interchange(ctx, id, x.now())
	if err != nil {
		return err
	}
	if x.dir != "" {
		dir := filepath.Join(x.dir, i.Partner, "out")
		if err := os.MkdirAll(dir, 0o755); err != nil {
			return err
		}
		f, err := x.store.OpenFile(i.Document)
		if err != nil {
			return err
		}
		defer f.Close()
		if err := folder.WriteWhole(filepath.Join(dir, i.Name), func(w io.Writer) error {
			_, err := io.Copy(w, f)
			return err
		}); err != nil {
			return err
		}
	}
	return x.store.Write(ctx, func(t *store.Tx) error {
		state := i.State
		if state == store.Ready {
			state = store.Sent
		}
		if i.Answers != 0 && state == store.Sent {
			state = store.Done // nobody acknowledges an acknowledgement
		}
		for _, s := range i.Sets {
			if s.State == store.Ready {
				s.State = store.Sent
				if err := t.SetSet(s); err != nil {
					return err
				}
			}
		}
		return t.SetInterchange(id, state, x.now(), time.Time{})
	})
}

// Resend delivers an interchange of ours once more: the same bytes under the
// same control number.
func (x *Exchange) Resend(ctx context.Context, id int64) (store.Interchange, error) {
	x.mu.Lock()
	defer x.mu.Unlock()
	i, err := x.store.Interchange(ctx, id, x.now())
	if err != nil {
		return i, err
	}
	if i.Direction != "out" || i.Control == 0 {
		return i, fmt.Errorf("%w: interchange %d never left; only what has can go out again", ErrNotNow, id)
	}
	if err := x.deliver(ctx, id); err != nil {
		return i, err
	}
	return x.store.Interchange(ctx, id, x.now())
}

// ErrNotNow says that an interchange is not one that this can be done with.
var ErrNotNow = errors.New("not with this interchange")

// Replay does once more what an interchange that came asks for, as far as it
// has not been done: sets that are held, or all where its partner was unknown.
func (x *Exchange) Replay(ctx context.Context, id int64, by string) (store.Interchange, error) {
	i, err := x.store.Interchange(ctx, id, x.now())
	if err != nil {
		return i, err
	}
	switch {
	case i.Direction != "in":
		return i, fmt.Errorf("%w: interchange %d is one of ours; send what is due instead", ErrNotNow, id)
	case i.State == store.Unknown:
		return x.again(ctx, &i, by)
	case i.State != store.Held && i.State != store.Received:
		return i, fmt.Errorf("%w: nothing of interchange %d is held", ErrNotNow, id)
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	if err := x.take(ctx, id); err != nil {
		return i, err
	}
	return x.store.Interchange(ctx, id, x.now())
}

// again receives an interchange anew whose partner was not known.
func (x *Exchange) again(ctx context.Context, i *store.Interchange, by string) (store.Interchange, error) {
	f, err := x.store.OpenFile(i.Document)
	if err != nil {
		return *i, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return *i, err
	}
	came, err := x.Receive(ctx, f, info.Size(), i.Name, by)
	if err != nil || len(came) == 0 || came[0].State == store.Unknown {
		return *i, err
	}
	if err := x.store.Write(ctx, func(t *store.Tx) error { return t.SetInterchange(i.ID, store.Done, time.Time{}, time.Time{}) }); err != nil {
		return came[0], err
	}
	return came[0], nil
}

// tellings works out what is to be said of a partner's orders.
func (x *Exchange) tellings(ctx context.Context, p *partner.Partner, want Wanted) ([]telling, error) {
	kind := order.Sales
	if p.Kind == partner.Supplier {
		kind = order.Purchase
	}
	ids, err := x.store.Speaking(ctx, string(kind), p.Name, want.Set, want.fresh)
	if err != nil {
		return nil, err
	}
	var all []telling
	for _, id := range ids {
		o, err := x.store.Order(ctx, id)
		if err != nil {
			return nil, err
		}
		if len(want.Orders) > 0 && !contains(want.Orders, o.Number) && !contains(want.Orders, o.SenderNumber) {
			continue
		}
		t, err := x.telling(ctx, o, want)
		if err != nil {
			return nil, err
		}
		if t != nil {
			all = append(all, *t)
		}
	}
	return all, nil
}

func contains(list []string, s string) bool {
	for _, one := range list {
		if s != "" && strings.EqualFold(one, s) {
			return true
		}
	}
	return false
}

// telling is what a set would say of an order; nil is nothing.
func (x *Exchange) telling(ctx context.Context, o *store.StoredOrder, want Wanted) (*telling, error) {
	before, err := x.store.Said(ctx, "out", want.Set, o.ID)
	if err != nil {
		return nil, err
	}
	is := notice.Seller(&o.Order)
	now := x.now()
	today := order.Date(now.Format(time.DateOnly))
	t := &telling{order: o}
	switch want.Set {
	case "850":
		statuses := want.Status
		if len(statuses) == 0 {
			statuses = []string{string(order.Confirmed)}
		}
		if len(before) > 0 || !contains(statuses, string(o.Status)) || want.From != "" && string(o.OrderedOn) < want.From || want.To != "" && string(o.OrderedOn) > want.To {
			return nil, nil
		}
		t.view = is
		t.view.StatedTotal = o.Total
	case "860":
		first, err := x.store.Said(ctx, "out", "850", o.ID)
		if err != nil || len(first) == 0 {
			return nil, err
		}
		was, err := x.store.AsOf(ctx, o.ID, lastOf(append(first, before...)).Revision)
		if err != nil || was == nil {
			return nil, err
		}
		last := notice.Seller(was)
		t.view = notice.Changes(&last, &is, strconv.Itoa(len(before)+1), today)
		if len(t.view.Lines) == 0 {
			return nil, nil
		}
		t.view.StatedTotal = o.Total
	case "855", "865":
		asked := map[string]string{"855": "850", "865": "860"}[want.Set]
		came, err := x.store.Said(ctx, "in", asked, o.ID)
		if err != nil || len(before) >= len(came) {
			return nil, err
		}
		last := came[len(before)]
		var view order.Order
		if err := json.Unmarshal(last.Said, &view); err != nil {
			return nil, err
		}
		t.view = notice.Confirm(&view, &is, today)
		if want.Set == "865" {
			notice.Answered(&t.view, &view)
		}
	case "856":
		so := quantities(before)
		t.series = "shipment"
		t.view = notice.Ship(&is, so, "1", today, now.Format("1504"))
		t.number = func(v *order.Order, n int64) { notice.Set(v, notice.Shipment, fmt.Sprintf("SH-%06d", n)) }
	case "810":
		t.series = "invoice"
		if t.view, err = notice.Bill(&is, quantities(before), "1", today, len(before) == 0); err != nil {
			return nil, err
		}
		t.number = func(v *order.Order, n int64) { notice.Set(v, notice.Invoice, fmt.Sprintf("IN-%06d", n)) }
	}
	if len(t.view.Lines) == 0 {
		return nil, nil
	}
	return t, nil
}

// quantities are what earlier notices said of each line, added up.
func quantities(sets []store.SetRecord) map[string]order.Number {
	sum := map[string]order.Number{}
	for _, s := range sets {
		var view order.Order
		if json.Unmarshal(s.Said, &view) != nil {
			continue
		}
		for number, q := range notice.Quantities(&view) {
			if more, err := sum[number].Add(q); err == nil {
				sum[number] = more
			}
		}
	}
	return sum
}

func lastOf(sets []store.SetRecord) (last store.SetRecord) {
	for _, s := range sets {
		if s.Revision >= last.Revision {
			last = s
		}
	}
	return last
}
