package notice

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"koinos/core/order"
)

// What a buyer knows of an order after each telling is the order as it is then, whatever was changed in between, and
// nothing is told twice.
func TestBuyerKnows(t *testing.T) {
	for seed := range uint64(300) {
		r := rand.New(rand.NewPCG(seed, 16))
		is := orderOf("A:10@2", "C:5@1", "D:7@3")
		for i := range is.Lines {
			is.Lines[i].ID = i + 1
		}
		asked := is
		knows := map[string]string{} // by the number of a line
		hears := func(v *order.Order) {
			for _, l := range v.Lines {
				s := l.Statement
				day := s.DueOn
				if s.Accepted.Sign() == 0 {
					day = ""
				}
				knows[l.Number] = fmt.Sprint(s.Accepted.Plain(), " at ", l.UnitPrice.Plain(), " on ", day, " late ",
					s.Code == "IB" || s.Code == "BP")
			}
		}
		first := Confirm(&asked, &is, nil, "2026-03-16")
		hears(&first)
		told := []Told{{Answer: first, Was: clone(&is)}}
		var story []string
		for range 12 {
			for range 1 + r.IntN(3) {
				story = append(story, mutate(r, &is))
			}
			v := Unasked(told, &is, nil, "2026-03-17")
			if len(v.Lines) > 0 {
				hears(&v)
				told = append(told, Told{Answer: v, Was: clone(&is)})
			}
			left := false
			for i := range is.Lines {
				l := &is.Lines[i]
				left = left || due(l).Sign() > 0
				got, known := knows[l.Number]
				if want := fmt.Sprint(due(l).Plain(), " at ", l.UnitPrice.Plain(), " on ", promised(&is, l), " late ",
					l.Backordered.Sign() > 0); due(l).Sign() > 0 && got != want {
					t.Fatalf("seed %d: line %s is %s, and the buyer knows %q, after %s", seed, l.Number, want, got, strings.Join(story,
						", "))
				} else if due(l).Sign() == 0 && known && !strings.HasPrefix(got, "0 at") {
					t.Fatalf("seed %d: line %s is gone, and the buyer knows %q, after %s", seed, l.Number, got, strings.Join(story,
						", "))
				}
			}
			if len(v.Lines) > 0 && (v.Statement.Code == "RD") == left {
				t.Fatalf("seed %d: the code is %s, and something is left: %t", seed, v.Statement.Code, left)
			}
			if again := Unasked(told, &is, nil, "2026-03-17"); len(again.Lines) > 0 {
				t.Fatalf("seed %d: line %s is told twice, after %s", seed, again.Lines[0].Number, strings.Join(story, ", "))
			}
		}
	}
}

func clone(o *order.Order) order.Order { return *o.Clone() }

// mutate changes an order as its seller may, and says how.
func mutate(r *rand.Rand, o *order.Order) string {
	l := &o.Lines[r.IntN(len(o.Lines))]
	n := order.NumberOf(int64(1 + r.IntN(9)))
	switch r.IntN(7) {
	case 0:
		l.Quantity, l.Cancelled = n, order.Number{}
		return l.Number + " quantity " + n.Plain()
	case 1:
		l.Cancelled = l.Quantity
		l.Backordered = order.Number{}
		return l.Number + " cancelled"
	case 2:
		l.UnitPrice = n
		return l.Number + " price " + n.Plain()
	case 3:
		l.RequestedDeliveryOn = order.Date(fmt.Sprintf("2026-04-%02d", 1+r.IntN(28)))
		return l.Number + " on " + string(l.RequestedDeliveryOn)
	case 4:
		o.RequestedDeliveryOn = order.Date(fmt.Sprintf("2026-05-%02d", 1+r.IntN(28)))
		return "all on " + string(o.RequestedDeliveryOn)
	case 5:
		if l.Backordered.Sign() > 0 || due(l).Sign() == 0 {
			l.Backordered = order.Number{}
			return l.Number + " comes in time"
		}
		l.Backordered = order.NumberOf(1)
		return l.Number + " comes late"
	}
	number := fmt.Sprint(len(o.Lines) + 1)
	o.Lines = append(o.Lines, order.Line{ID: len(o.Lines) + 1, Number: number, Item: "N" + number, Quantity: n, Unit: "EA",
		UnitPrice: order.NumberOf(1)})
	return "line " + number + " added"
}
