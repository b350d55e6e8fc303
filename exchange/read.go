package exchange

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"io"

	"koinos/api"
	"koinos/core/finding"
	"koinos/core/list"
	"koinos/core/mapping"
	"koinos/core/order"
	"koinos/core/reading"
	"koinos/core/source"
	"koinos/core/x12"
	"koinos/store"
)

// Text is an interchange's bytes as they are stored, or as they would be if it is held.
func (x *Exchange) Text(ctx context.Context, id int64) (_ io.ReadSeekCloser, err error) {
	i, err := x.store.Interchange(ctx, id, x.now())
	if err != nil {
		return nil, err
	}
	if i.Document != "" {
		return x.store.OpenFile(i.Document)
	}
	b, err := x.wouldBe(ctx, &i)
	return kept{bytes.NewReader(b)}, err
}

type kept struct{ *bytes.Reader }

func (kept) Close() error { return nil }

// wouldBe writes what is held as it would be sent.
func (x *Exchange) wouldBe(ctx context.Context, i *api.Interchange) ([]byte, error) {
	p, err := x.Partner(ctx, i.Partner)
	if err != nil {
		return nil, err
	}
	lists, err := x.store.Set(ctx)
	if err != nil {
		return nil, err
	}
	var all []*x12.Writing
	for _, s := range i.Sets {
		m, err := x.mappingOf(ctx, p, s.Kind)
		if err != nil {
			return nil, err
		}
		var views []order.Order
		for _, o := range s.Orders {
			var view order.Order
			if err := json.Unmarshal(o.Said, &view); err != nil {
				return nil, err
			}
			if len(view.Lines) > 0 {
				views = append(views, view)
			}
		}
		if w, _ := p.Compose(m, views, lists); w != nil {
			all = append(all, w)
		}
	}
	var b bytes.Buffer
	if err := p.Write(&b, all, 1, 1, i.At); err != nil {
		return nil, nil // that is among the findings
	}
	return b.Bytes(), nil
}

// SetOrders reads the orders that a set of an interchange is about.
func (x *Exchange) SetOrders(ctx context.Context, id int64, seq int) ([]api.SetOrder, error) {
	i, err := x.store.Interchange(ctx, id, x.now())
	if err != nil {
		return nil, err
	}
	s, err := x.store.SetOf(ctx, id, seq)
	if err != nil {
		return nil, err
	}
	papers := []api.SetOrder{}
	p, err := x.Partner(ctx, i.Partner)
	if errors.Is(err, store.ErrNotFound) {
		return papers, nil // from nobody known: there is no mapping to read it by
	}
	if err != nil {
		return nil, err
	}
	m, err := x.mappingOf(ctx, p, s.Kind)
	if finding.Of(err) != nil || errors.Is(err, store.ErrNotFound) {
		return papers, nil // an acknowledgement is about no order
	}
	if err != nil {
		return nil, err
	}
	lists, err := x.store.Set(ctx)
	if err != nil {
		return nil, err
	}
	r, err := x.Text(ctx, id)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	at, ok := r.(io.ReaderAt)
	size, err := r.Seek(0, io.SeekEnd)
	if err != nil || !ok || size == 0 {
		return papers, err
	}
	first, last := s.Row, s.Row+s.Rows-1
	if i.Document == "" { // of what is held each set is shown by itself
		first, last = 1, 1<<30
	}
	// What we wrote to a supplier ourselves is from the seller's point of view, too.
	return readSetOrders(ctx, at, size, m, lists, first, last, p.Orders() == order.Purchase && !m.FromSeller)
}

func readSetOrders(ctx context.Context, r io.ReaderAt, size int64, m *mapping.Mapping, lists *list.Set, first, last int,
	fromSeller bool) ([]api.SetOrder, error) {
	papers := []api.SetOrder{}
	src, err := source.Open(r, size, m.Options(source.DefaultLimits))
	if err != nil {
		return nil, err
	}
	for g, err := range reading.NewTable(m, src, nil).Groups(ctx) {
		if finding.Of(err) != nil {
			return papers, nil
		}
		if err != nil {
			return nil, err
		}
		if row := g.Rows[0].Row; g.Broken || row < first || row > last {
			continue
		}
		d := reading.Read(m, g, lists)
		if _, err := d.Order.Compute(m.Rounding); err != nil {
			d.Add(finding.AmountTooLarge, 0, "total", "", "The sums cannot be worked out: %v.", err)
		}
		if fromSeller {
			d.FromSeller()
		}
		found := d.Findings
		if found == nil {
			found = []finding.Finding{}
		}
		papers = append(papers, api.SetOrder{Order: d.Order, Places: d.Trace.All(len(d.Order.Lines)), Findings: found})
	}
	return papers, nil
}
