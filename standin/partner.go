package standin

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"koinos/core/list"
	"koinos/core/mapping"
	"koinos/core/notice"
	"koinos/core/order"
	"koinos/core/partner"
	"koinos/core/reading"
	"koinos/core/source"
	"koinos/core/x12"
	"koinos/folder"
)

// Partner plays a trading partner: it reads what comes out of its folder, and
// puts its own interchanges into it.
type Partner struct {
	dir     string           // with in and out, as seen from Koinos
	us      *partner.Partner // as it describes Koinos
	now     func() time.Time
	log     *slog.Logger
	control int64
	group   int64
	seen    map[string]bool
	play    func(p *Partner, set string, o *order.Order) error
	open    func(p *Partner) error
	counts  map[string]int
}

// Customer is a partner that orders: it sends orders, changes one of them when it
// is answered, and acknowledges all it is told. As is its description as Koinos
// keeps it; orders are what it sends first.
func Customer(dir, as string, orders []order.Order, now func() time.Time, log *slog.Logger) (*Partner, error) {
	p, err := newPartner(dir, as, now, log)
	if err != nil {
		return nil, err
	}
	p.open = func(p *Partner) error { return p.tell("850", orders...) }
	p.play = func(p *Partner, set string, o *order.Order) error {
		if set != "855" || p.counts["860"] > 0 || o.SenderNumber != orders[0].SenderNumber {
			return nil
		}
		was := orders[0]
		is := was
		is.Lines = slices.Clone(was.Lines)
		first, last := &is.Lines[0], &is.Lines[len(is.Lines)-1]
		more, err := first.Quantity.Add(order.NumberOf(10))
		if err != nil {
			return err
		}
		first.Quantity = more
		if len(is.Lines) > 1 {
			last.Cancelled = last.Quantity
		}
		return p.tell("860", notice.Changes(&was, &is, "1", order.Date(p.now().Format(time.DateOnly))))
	}
	return p, nil
}

// Supplier is a partner that takes orders: it answers each with changes to its
// last line, ships what it has, and invoices it.
func Supplier(dir, as string, now func() time.Time, log *slog.Logger) (*Partner, error) {
	p, err := newPartner(dir, as, now, log)
	if err != nil {
		return nil, err
	}
	p.play = func(p *Partner, set string, o *order.Order) error {
		today := order.Date(p.now().Format(time.DateOnly))
		is := *o
		is.Lines = slices.Clone(o.Lines)
		is.Number = fmt.Sprintf("VR-%05d", 70100+p.counts[set])
		if set == "860" {
			for i := range is.Lines { // it does what is asked
				if l := &is.Lines[i]; l.Statement != nil && l.Statement.Code == "DI" {
					l.Cancelled = l.Quantity
				}
			}
			answer := notice.Confirm(o, &is, nil, today)
			notice.Answered(&answer, o, &is, o, nil)
			return p.tell("865", answer)
		}
		if set != "850" || len(is.Lines) == 0 {
			return nil
		}
		last := &is.Lines[len(is.Lines)-1]
		if day, err := time.Parse(time.DateOnly, string(o.RequestedDeliveryOn)); err == nil && len(is.Lines) > 1 {
			last.RequestedDeliveryOn = order.Date(day.AddDate(0, 0, 7).Format(time.DateOnly)) // it is still on the loom
		}
		if err := p.tell("855", notice.Confirm(o, &is, nil, today)); err != nil {
			return err
		}
		is.NameLines()
		goods := order.Movement{Number: fmt.Sprintf("VS-%05d", 88000+p.counts[set])}
		bill := order.Invoice{Number: fmt.Sprintf("VI-%05d", 41000+p.counts[set]), Currency: is.Currency}
		sums := is // of what has left
		sums.Lines = nil
		for i := range is.Lines {
			if i == 0 || i < len(is.Lines)-1 {
				l := is.Lines[i]
				goods.Lines = append(goods.Lines, order.MovementLine{Line: l.ID, Quantity: l.Quantity})
				sums.Lines = append(sums.Lines, l)
			}
		}
		if _, err := sums.Compute(order.HalfUp); err != nil {
			return err
		}
		for i := range sums.Lines {
			l := &sums.Lines[i]
			bill.Lines = append(bill.Lines, order.InvoiceLine{Line: l.ID, Quantity: l.Quantity, UnitPrice: l.UnitPrice,
				Amount: l.Amount})
			for _, c := range l.Charges {
				bill.Charges = append(bill.Charges, order.InvoiceCharge{Charge: c, Line: l.ID})
			}
		}
		for _, c := range sums.Charges {
			bill.Charges = append(bill.Charges, order.InvoiceCharge{Charge: c})
		}
		bill.Tax, bill.Total = sums.Tax, sums.Total
		ship, err := notice.Ship(&is, &goods, nil, nil, today, p.now().Format("1504"))
		if err != nil {
			return err
		}
		if err := p.tell("856", ship); err != nil {
			return err
		}
		m, err := standard("810")
		if err != nil {
			return err
		}
		said, err := notice.Bill(&is, &bill, today, m.OfLine)
		if err != nil {
			return err
		}
		return p.tell("810", said)
	}
	return p, nil
}

func newPartner(dir, as string, now func() time.Time, log *slog.Logger) (*Partner, error) {
	us, err := partner.Parse([]byte(as))
	if err != nil {
		return nil, err
	}
	us.Them, us.Us = us.Us, us.Them // seen from the other side
	us.Rules = nil
	return &Partner{dir: dir, us: us, now: now, log: log, control: 4100, group: 900, seen: map[string]bool{},
		counts: map[string]int{}}, nil
}

// Run plays until ctx ends.
func (p *Partner) Run(ctx context.Context, every time.Duration) error {
	for _, sub := range []string{"in", "out"} {
		if err := os.MkdirAll(filepath.Join(p.dir, sub), 0o755); err != nil {
			return err
		}
	}
	if p.open != nil {
		if err := p.open(p); err != nil {
			return err
		}
	}
	tick := time.NewTicker(every)
	defer tick.Stop()
	for {
		if err := p.look(); err != nil {
			p.log.Error("stand-in", "partner", p.us.Name, "error", err)
		}
		select {
		case <-ctx.Done():
			return nil
		case <-tick.C:
		}
	}
}

// look reads what is new.
func (p *Partner) look() error {
	files, err := os.ReadDir(filepath.Join(p.dir, "out"))
	if err != nil {
		return err
	}
	for _, f := range files {
		if f.IsDir() || strings.HasPrefix(f.Name(), ".") || p.seen[f.Name()] {
			continue
		}
		p.seen[f.Name()] = true
		doc, err := os.ReadFile(filepath.Join(p.dir, "out", f.Name()))
		if err != nil {
			return err
		}
		if err := p.take(doc); err != nil {
			return fmt.Errorf("%s: %w", f.Name(), err)
		}
	}
	return nil
}

// take acknowledges an interchange and does its part.
func (p *Partner) take(doc []byte) error {
	var answer bytes.Buffer
	err := x12.Acknowledge(&answer, bytes.NewReader(doc), p.us.Policy(), func(groups int) (x12.Answer, error) {
		p.control++
		first := p.group + 1
		p.group += int64(groups)
		return x12.Answer{Interchange: int(p.control), Group: int(first), At: p.now(),
			Implementation: p.us.Acknowledge.With == "999"}, nil
	})
	if err != nil {
		return err
	}
	if answer.Len() > 0 {
		if err := p.put(p.us.Acknowledge.With, answer.Bytes()); err != nil {
			return err
		}
	}
	kinds := map[string]bool{}
	if err := x12.Read(bytes.NewReader(doc),
		x12.Handler{Set: func(s *x12.Set) error { kinds[s.ID] = true; return nil }}); err != nil {
		return err
	}
	for _, set := range []string{"850", "855", "860", "865"} {
		if !kinds[set] {
			continue
		}
		m, err := standard(set)
		if err != nil {
			return err
		}
		src, err := source.Open(bytes.NewReader(doc), int64(len(doc)), m.Options(source.DefaultLimits))
		if err != nil {
			return err
		}
		for g, err := range reading.NewTable(m, src, nil).Groups(context.Background()) {
			if err != nil {
				return err
			}
			o := reading.Read(m, g, &list.Set{}).Order
			p.counts[set]++
			if err := p.play(p, set, &o); err != nil {
				return err
			}
		}
	}
	return nil
}

// standard is the standard mapping of a set.
func standard(set string) (*mapping.Mapping, error) {
	return mapping.Parse([]byte(mapping.Standard("x12-" + set)))
}

// tell writes orders into an interchange.
func (p *Partner) tell(set string, views ...order.Order) error {
	m, err := standard(set)
	if err != nil {
		return err
	}
	var all []*x12.Writing
	for i := range views {
		w, found := p.us.Compose(m, views[i:i+1], &list.Set{})
		for _, f := range found {
			if f.Severity == "error" {
				said, _ := json.Marshal(found)
				return fmt.Errorf("the stand-in cannot write its %s: %s", set, said)
			}
		}
		all = append(all, w)
	}
	p.control++
	p.group++
	p.counts[set] += len(views)
	var b bytes.Buffer
	if err := p.us.Write(&b, all, p.control, p.group, p.now()); err != nil {
		return err
	}
	return p.put(set, b.Bytes())
}

func (p *Partner) put(kind string, doc []byte) error {
	name := strings.ToLower(p.us.FileName(kind, int64(p.control)))
	return folder.Usual.Write(filepath.Join(p.dir, "in", name), func(w io.Writer) error {
		_, err := w.Write(doc)
		return err
	})
}
