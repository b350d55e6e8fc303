package exchange

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"koinos/api"
	"koinos/core/finding"
	"koinos/core/intent"
	"koinos/core/order"
	"koinos/core/origin"
	"koinos/core/partner"
	"koinos/core/x12"
	"koinos/store"
)

// telling is something that a partner must be told about an order, or about several.
type telling struct {
	of    []spoken
	w     *x12.Writing
	found []finding.Finding
	wrong []finding.Finding // what kept it from being worked out
	noted []finding.Finding // what a person should know of it
}

// spoken is what is said about an order.
type spoken struct {
	order *store.StoredOrder
	view  order.Order
}

// about makes a telling about one order.
func about(o *store.StoredOrder, view order.Order) telling { return telling{of: []spoken{{o, view}}} }

// views are what is said about the orders that have something to be said. A notice that replaces an earlier one leaves
// out the orders of which nothing is left in it.
func (t *telling) views() (all []order.Order) {
	for i := range t.of {
		if v := &t.of[i].view; len(v.Lines) > 0 || v.Statement != nil && v.Statement.Kind == string(intent.Answer) {
			all = append(all, t.of[i].view)
		}
	}
	return all
}

// record is what is stored about the orders that the set is about.
func (t *telling) record() (all []api.SpokenOf, err error) {
	for i := range t.of {
		one := &t.of[i]
		said, err := json.Marshal(one.view)
		if err != nil {
			return nil, err
		}
		all = append(all, api.SpokenOf{Number: one.order.Number, OrderID: one.order.ID, Revision: one.order.Revision,
			Said: said})
	}
	return all, nil
}

// Send tells a partner what is due. What breaks its rules is held with the reasons; the rest is sent, many orders in
// one interchange. Send waits until everything has been sent.
func (x *Exchange) Send(ctx context.Context, name string, want api.Wanted, by string) (out api.Sending, err error) {
	out, err = x.send(ctx, name, want, false, by)
	for k := range out.Interchanges {
		if i := &out.Interchanges[k]; err == nil && i.State == api.StateReady && i.ID != 0 {
			*i, err = x.settled(ctx, i.ID)
		}
	}
	return out, err
}

// setsInOne is how many sets one interchange contains at most.
const setsInOne = 200

// send is Send. With fresh set, as when the service sends what is due, it leaves out what is held until it changes, and
// what the partner has rejected: that would only be rejected again.
func (x *Exchange) send(ctx context.Context, name string, want api.Wanted, fresh bool, by string) (out api.Sending,
	err error) {
	defer x.lock(name)()
	out.Interchanges = []api.Interchange{}
	p, err := x.Partner(ctx, name)
	if err != nil {
		return out, err
	}
	if !p.Outgoing(want.Set) {
		f := finding.New(finding.PartnerInvalid, origin.Place{}, want.Set,
			"A %s comes from %s, a %s, and does not go there.", want.Set, p.Name, p.Kind)
		return out, &f
	}
	orders, err := x.store.Speaking(ctx, string(p.Orders()), p.Name, want.Set, fresh)
	if err != nil || len(orders) == 0 {
		return out, err
	}
	m, err := x.mappingOf(ctx, p, want.Set)
	if err != nil {
		return out, err
	}
	lists, err := x.store.Set(ctx)
	if err != nil {
		return out, err
	}
	t := teller{x: x, p: p, m: m, want: want, fresh: fresh, by: by, shipments: map[string]bool{}}
	for len(orders) > 0 {
		all, quiet, rest, err := t.next(ctx, orders)
		if orders = rest; err != nil {
			return out, err
		}
		if (fresh || want.Set == "865") && !want.Try && len(quiet) > 0 {
			if err := x.store.Write(ctx, func(t *store.Tx) error { return t.Examined(want.Set, quiet) }); err != nil {
				return out, err
			}
		}
		for i := range all {
			all[i].w, all[i].found = p.Compose(m, all[i].views(), lists)
			all[i].found = append(all[i].found, all[i].noted...)
			if wrong := all[i].wrong; len(wrong) > 0 {
				all[i].found = wrong
			}
		}
		if want.Try {
			if err := x.try(p, all, &out); err != nil {
				return out, err
			}
			continue
		}
		if err := x.tell(ctx, p, want.Set, all, by, &out); err != nil {
			return out, err
		}
	}
	return out, nil
}

// tell stores what can be sent as an interchange that is ready to leave, and holds the rest.
func (x *Exchange) tell(ctx context.Context, p *partner.Partner, set string, all []telling, by string,
	out *api.Sending) error {
	var ids []int64
	err := x.store.Write(ctx, func(t *store.Tx) error {
		ids = nil
		var good []*telling
		held := map[int64]bool{} // of an order of which something is held nothing later leaves before it
		for i := range all {
			one := &all[i]
			switch {
			case slices.ContainsFunc(one.of, func(s spoken) bool { return held[s.order.ID] }):
			case !sound(one.found):
				id, err := x.hold(t, p, set, one, by)
				if err != nil {
					return err
				}
				ids = append(ids, id)
				for k := range one.of {
					held[one.of[k].order.ID] = true
				}
			default:
				good = append(good, one)
			}
		}
		if len(good) == 0 {
			return nil
		}
		id, err := x.put(t, p, set, good, by)
		ids = append(ids, id)
		return err
	})
	if err != nil {
		return err
	}
	for _, id := range ids {
		i, err := x.store.Interchange(ctx, id, x.now())
		if err != nil {
			return err
		}
		out.Interchanges = append(out.Interchanges, i)
	}
	return nil
}

// sound reports whether nothing prevents a set from being sent.
func sound(found []finding.Finding) bool {
	for _, f := range found {
		if f.Severity == finding.Error {
			return false
		}
	}
	return true
}

// try reports what would be sent, and what would be held.
func (x *Exchange) try(p *partner.Partner, all []telling, out *api.Sending) error {
	var good []*x12.Writing
	for i := range all {
		one := &all[i]
		state := api.StateHeld
		if sound(one.found) {
			good = append(good, one.w)
			state = api.StateReady
		}
		i := api.Interchange{Partner: p.Name, Direction: "out", Kinds: one.w.ID, State: state, At: x.now().UTC(),
			Sets: []api.SetRecord{{Seq: 1, Kind: one.w.ID, State: state, Findings: one.found}}}
		for _, s := range one.of {
			i.Orders = append(i.Orders, s.order.Number)
			i.Sets[0].Orders = append(i.Sets[0].Orders, api.SpokenOf{Number: s.order.Number, OrderID: s.order.ID})
		}
		out.Interchanges = append(out.Interchanges, i)
	}
	if len(good) == 0 {
		return nil
	}
	var b bytes.Buffer
	err := p.Write(&b, good, 1, 1, x.now())
	out.Text += b.String()
	return err
}

// hold stores what must not be sent, with the reasons. It replaces what was held for the same order before.
func (x *Exchange) hold(t *store.Tx, p *partner.Partner, set string, one *telling, by string) (int64, error) {
	said, err := one.record()
	if err != nil {
		return 0, err
	}
	if err := one.dropHeld(t, set); err != nil {
		return 0, err
	}
	i := api.Interchange{Partner: p.Name, Direction: "out", Kinds: set, State: api.StateHeld, At: x.now().UTC(), By: by,
		Sets: []api.SetRecord{{Seq: 1, Kind: set, State: api.StateHeld, Orders: said, Findings: one.found}}}
	err = t.AddInterchange(&i)
	return i.ID, err
}

// dropHeld deletes what was held for the orders before.
func (t *telling) dropHeld(tx *store.Tx, set string) error {
	for i := range t.of {
		if err := tx.DropHeld(set, t.of[i].order.ID); err != nil {
			return err
		}
	}
	return nil
}

// put writes what can be sent into one interchange and stores it. Its control numbers are durable before anything is
// sent.
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
	i := api.Interchange{Partner: p.Name, Direction: "out", Control: control, GroupControl: group, Kinds: set,
		State: api.StateReady, Name: p.FileName(set, control), At: now.UTC(), By: by}
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
		said, err := one.record()
		if err != nil {
			return err
		}
		i.Sets = append(i.Sets, api.SetRecord{Seq: seq, Kind: set, GroupControl: strconv.FormatInt(group, 10),
			Control: s.Control, Row: s.Segments[0].Row, Rows: len(s.Segments), State: api.StateReady, Orders: said,
			Findings: one.found})
		return one.dropHeld(t, set)
	}}); err != nil {
		return 0, err
	}
	return i.ID, x.add(t, &i)
}

// ErrNotNow says that the interchange is not in a state in which this can be done.
var ErrNotNow = errors.New("not with this interchange")

// Replay does what an interchange that came asks for, as far as it has not been done: the sets that are held, or all
// sets if its partner was unknown. Warnings with accepted codes do not hold them.
func (x *Exchange) Replay(ctx context.Context, id int64, accept []string, by string) (api.Interchange, error) {
	i, err := x.store.Interchange(ctx, id, x.now())
	if err != nil {
		return i, err
	}
	switch {
	case i.Direction != "in":
		return i, fmt.Errorf("%w: interchange %d is one of ours; send what is due instead", ErrNotNow, id)
	case i.State == api.StateUnknown:
		return x.again(ctx, &i, accept, by)
	case i.State == api.StateDoubtful:
		return i, fmt.Errorf("%w: interchange %d has the control number of another one; let it in, or refuse it",
			ErrNotNow, id)
	case i.State != api.StateHeld && i.State != api.StateReceived:
		return i, fmt.Errorf("%w: nothing of interchange %d is held", ErrNotNow, id)
	}
	if err := x.checkAgain(ctx, &i); err != nil {
		return i, err
	}
	if err := x.store.Write(ctx, func(t *store.Tx) error {
		return errors.Join(t.AcceptIn(id, accept, by), x.takeAgain(t, id))
	}); err != nil {
		return i, err
	}
	return x.settled(ctx, id)
}

// checkAgain checks the sets that break a rule against the partner's rules as they are now.
func (x *Exchange) checkAgain(ctx context.Context, i *api.Interchange) error {
	p, err := x.Partner(ctx, i.Partner)
	if err != nil {
		return err
	}
	now := map[int][]finding.Finding{} // of the sets that waited for that, by where they begin
	if err := x.eachPage(ctx, i.ID, 0, func(page []api.SetRecord) ([]api.SetRecord, error) {
		for k := range page {
			if page[k].State == api.StateHeld && barred(&api.Interchange{}, &page[k]) {
				now[page[k].Row] = nil
			}
		}
		return nil, nil
	}); err != nil || len(now) == 0 {
		return err
	}
	f, err := x.store.OpenFile(i.Document)
	if err != nil {
		return err
	}
	defer f.Close()
	if err := x12.Read(io.NewSectionReader(f, 0, f.Size()),
		x12.Handler{Checked: func(s *x12.Set, placed []x12.Placed, _ []x12.Finding) error {
			if _, waits := now[s.Segments[0].Row]; waits {
				now[s.Segments[0].Row] = p.CheckSet(s, placed)
			}
			return nil
		}}); err != nil {
		return err
	}
	return x.eachPage(ctx, i.ID, 0, func(page []api.SetRecord) (changed []api.SetRecord, err error) {
		for k := range page {
			found, waits := now[page[k].Row]
			if !waits {
				continue
			}
			s := page[k]
			s.Findings = slices.DeleteFunc(s.Findings, func(f finding.Finding) bool { return f.Code == finding.X12Rule })
			for _, f := range found {
				if f.Code == finding.X12Rule {
					s.Findings = append(s.Findings, f)
				}
			}
			changed = append(changed, s)
		}
		return changed, nil
	})
}

// again reads an interchange of an unknown sender once more, if somebody has described the sender meanwhile.
func (x *Exchange) again(ctx context.Context, i *api.Interchange, accept []string, by string) (api.Interchange, error) {
	all, err := x.partners(ctx)
	if err != nil {
		return *i, err
	}
	f, err := x.store.OpenFile(i.Document)
	if err != nil {
		return *i, err
	}
	defer f.Close()
	cuts, err := cut(io.NewSectionReader(f, 0, f.Size()))
	if err != nil {
		return *i, err
	}
	now := cuts[0].interchange(all) // each interchange is a document of its own
	if now.Partner == "" {
		return *i, nil
	}
	if err := x.store.Write(ctx, func(t *store.Tx) error {
		return errors.Join(t.AcceptIn(i.ID, accept, by), t.ComesFrom(i.ID, now.Partner),
			t.AddInterchangeJob(i.ID, x.now()))
	}); err != nil {
		return *i, err
	}
	return x.settled(ctx, i.ID)
}

func contains(list []string, s string) bool {
	for _, one := range list {
		if s != "" && strings.EqualFold(one, s) {
			return true
		}
	}
	return false
}

// asked is what a set that came asked for: the order as it came first, or the change as the set states it. Both are as
// the seller sees them.
func (x *Exchange) asked(ctx context.Context, s *api.SetRecord, o *store.StoredOrder) (*order.Order, error) {
	if s.Kind == "850" {
		was, err := x.store.AsOf(ctx, o.ID, s.First().Revision)
		if err != nil {
			return nil, err
		}
		if was == nil {
			was = &o.Order
		}
		seen := order.Seller(was)
		return &seen, nil
	}
	said, err := x.SetOrders(ctx, s.Interchange, s.Seq)
	if err != nil {
		return nil, err
	}
	for i := range said {
		if !strings.EqualFold(said[i].Order.SenderNumber, o.SenderNumber) {
			continue
		}
		asked := &said[i].Order
		for k := range asked.Lines { // one that has no number was found by its item
			if l := &asked.Lines[k]; l.Number == "" {
				if at := o.OfItem(l); at > 0 {
					l.Number = o.Lines[at-1].Number
				}
			}
		}
		return asked, nil
	}
	return nil, fmt.Errorf("set %d of interchange %d does not speak of order %d any more", s.Seq, s.Interchange, o.ID)
}

// lastOf is the latest revision of an order among sets that are about nothing else.
func lastOf(sets []api.SetRecord) (last int) {
	for _, s := range sets {
		last = max(last, s.First().Revision)
	}
	return last
}
