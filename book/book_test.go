package book

import (
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"koinos/api"
	"koinos/core/finding"
	"koinos/core/intent"
	"koinos/core/list"
	"koinos/core/order"
	"koinos/core/origin"
	"koinos/core/outcome"
	"koinos/store"
	"koinos/store/storetest"
)

var (
	ctx = context.Background()
	now = time.Date(2026, 3, 16, 8, 0, 0, 0, time.UTC)
)

// shelf is a store with a document, a mapping, and loads to take intents under.
type shelf struct {
	*testing.T
	store *store.Store
	loads int
}

func open(t *testing.T) *shelf {
	t.Helper()
	s := storetest.Open(t, t.TempDir())
	t.Cleanup(func() { s.Close() })
	return &shelf{T: t, store: s}
}

// load makes a load of a document of its own.
func (s *shelf) load() int64 {
	s.Helper()
	s.loads++
	sha := fmt.Sprintf("%064d", s.loads)
	_, err := s.store.PutDocument(ctx, api.Document{SHA: sha, Name: "a.csv", ReceivedAt: now})
	if err == nil && s.loads == 1 {
		_, err = s.store.PutMapping(ctx, api.Mapping{Name: "m", Text: "x", StoredAt: now})
	}
	if err != nil {
		s.Fatal(err)
	}
	id, _, err := s.store.StartLoad(ctx, outcome.Load{Document: sha, Mapping: "m", Version: 1, StartedAt: now}, "")
	if err != nil {
		s.Fatal(err)
	}
	return id
}

func (s *shelf) write(f func(*store.Tx) error) {
	s.Helper()
	if err := s.store.Write(ctx, f); err != nil {
		s.Fatal(err)
	}
}

// take takes intents as a load of again would, and returns their results.
func (s *shelf) take(again outcome.Again, match order.LineKey, all ...*intent.Intent) []store.OrderResult {
	s.Helper()
	load := s.load()
	var lines []order.Field
	for _, name := range []string{"quantity", "unit_price", "description"} {
		f, _ := order.Lookup(order.Lines, name)
		lines = append(lines, f)
	}
	newer, _ := order.Lookup(order.Header, "ordered_on")
	session := Begin(Rules{Again: again, Arrival: order.Arrival{Lines: lines, Match: match}, Newer: newer,
		Lists: &list.Set{}, Source: store.Source{Load: load, By: "test"}, Real: true,
		Now: func() time.Time { return now }})
	entries := make([]Entry, len(all))
	for i, one := range all {
		one.Seq, one.Spans = i+1, []origin.Span{{First: 2*i + 2, Last: 2*i + 3}}
		entries[i] = NewEntry(one, "d", true)
	}
	var results []store.OrderResult
	s.write(func(tx *store.Tx) (err error) {
		if results, err = session.Take(tx, entries); err != nil {
			return err
		}
		next := 0
		return tx.AddResults(load, results, &next)
	})
	return results
}

// sale is an intent of an order of lines "item quantity".
func sale(number, day string, lines ...order.Line) *intent.Intent {
	for i := range lines {
		if lines[i].Number == "" {
			lines[i].Number = fmt.Sprint(i + 1)
		}
	}
	return &intent.Intent{Kind: intent.Order, Order: order.Order{Kind: order.Sales, Partner: "P", SenderNumber: number,
		OrderedOn: order.Date(day), Currency: "EUR", Lines: slices.Clone(lines)}}
}

func line(item, quantity string) order.Line {
	return order.Line{Item: item, Quantity: order.MustNumber(quantity), UnitPrice: order.MustNumber("2.50")}
}

func (s *shelf) order(id int64) *store.StoredOrder {
	s.Helper()
	o, err := s.store.Order(ctx, id)
	if err != nil {
		s.Fatal(err)
	}
	return o
}

// What a second arrival means, by what was asked.
func TestAgain(t *testing.T) {
	for _, c := range []struct {
		name     string
		again    outcome.Again
		day      string
		quantity string
		outcome  outcome.Outcome
		code     finding.Code
		stored   string
	}{
		{"the same, refuse", outcome.Refuse, "2026-03-02", "5", outcome.Refused, finding.IdentityStored, "5"},
		{"the same, skip", outcome.Skip, "2026-03-02", "5", outcome.Unchanged, "", "5"},
		{"another, skip", outcome.Skip, "2026-03-02", "6", outcome.Refused, finding.IdentityStored, "5"},
		{"another, update", outcome.Update, "2026-03-02", "6", outcome.Changed, "", "6"},
		{"the same, update", outcome.Update, "2026-03-02", "5", outcome.Unchanged, "", "5"},
		{"an older one, revise", outcome.Revise, "2026-03-01", "6", outcome.Refused, finding.NotNewer, "5"},
		{"a newer one, revise", outcome.Revise, "2026-03-03", "6", outcome.Changed, "", "6"},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := open(t)
			first := s.take(outcome.Skip, order.ByNumber, sale("A-1", "2026-03-02", line("00417", "5")))
			if first[0].Outcome != outcome.Loaded || first[0].Number != "SO-000001" {
				t.Fatalf("%+v", first[0])
			}
			res := s.take(c.again, order.ByNumber, sale("A-1", c.day, line("00417", c.quantity)))[0]
			code := finding.Code("")
			if len(res.Findings) > 0 {
				code = res.Findings[0].Code
			}
			if res.Outcome != c.outcome || code != c.code {
				t.Errorf("%s %s", res.Outcome, code)
			}
			if o := s.order(1); o.Lines[0].Quantity.String() != c.stored ||
				(o.Revision == 2) != (c.outcome == outcome.Changed) {
				t.Errorf("quantity %s, revision %d", o.Lines[0].Quantity, o.Revision)
			}
		})
	}
}

// An order that stands twice in one document is refused the second time, and a
// number that two orders are given is the first one's.
func TestTwiceInADocument(t *testing.T) {
	s := open(t)
	numbered := func(sender, number string) *intent.Intent {
		i := sale(sender, "2026-03-02", line("00417", "5"))
		i.Order.Number = number
		return i
	}
	res := s.take(outcome.Skip, order.ByNumber, sale("A-1", "2026-03-02", line("00417", "5")),
		sale("A-1", "2026-03-02", line("00417", "9")), numbered("B-1", "X-1"), numbered("B-2", "X-1"))
	for i, want := range []struct {
		outcome outcome.Outcome
		code    finding.Code
	}{{outcome.Loaded, ""}, {outcome.Refused, finding.IdentityRepeated}, {outcome.Loaded, ""}, {outcome.Refused,
		finding.NumberTaken}} {
		code := finding.Code("")
		if len(res[i].Findings) > 0 {
			code = res[i].Findings[0].Code
		}
		if res[i].Outcome != want.outcome || code != want.code {
			t.Errorf("order %d: %s %s", i+1, res[i].Outcome, code)
		}
	}
}

// The id of a line stays with it whatever becomes of the order: lines are put in
// front, taken out, renumbered, the order is revised, and changes are taken back.
// An id is never given to another line.
func TestLineIDsSurvive(t *testing.T) {
	for seed := range uint64(12) {
		s := open(t)
		r := rand.New(rand.NewPCG(seed, 11))
		made := 0
		fresh := func() order.Line {
			made++
			l := line(fmt.Sprintf("I-%03d", made), fmt.Sprint(r.IntN(9)+1))
			l.Number = fmt.Sprint(made) // the sender's number stays with a line, too
			return l
		}
		lines := []order.Line{fresh(), fresh()}
		day := 1
		s.take(outcome.Skip, order.ByNumber, sale("A-1", "2026-01-01", lines...))
		ids, used := map[string]int{}, map[int]string{}
		look := func(what string) {
			t.Helper()
			for _, l := range s.order(1).Lines {
				if was, known := ids[l.Item]; known && was != l.ID {
					t.Fatalf("seed %d, %s: line %s had the id %d, has %d", seed, what, l.Item, was, l.ID)
				}
				if other, taken := used[l.ID]; taken && other != l.Item {
					t.Fatalf("seed %d, %s: the id %d of %s is given to %s", seed, what, l.ID, other, l.Item)
				}
				ids[l.Item], used[l.ID] = l.ID, l.Item
			}
		}
		look("stored")
		for range 12 {
			o := s.order(1)
			var undo []order.Line // what stood before
			for i := range o.Lines {
				l := o.Lines[i]
				undo = append(undo, order.Line{Number: l.Number, Item: l.Item, Quantity: l.Quantity, UnitPrice: l.UnitPrice})
			}
			lines = slices.Clone(undo)
			what := "update"
			switch r.IntN(3) {
			case 0: // a revision in another order, with one more and one less
				what = "revise"
				r.Shuffle(len(lines), func(i, j int) { lines[i], lines[j] = lines[j], lines[i] })
				if len(lines) > 1 {
					lines = lines[1:]
				}
				lines = append([]order.Line{fresh()}, lines...)
			case 1:
				lines[r.IntN(len(lines))].Quantity = order.MustNumber(fmt.Sprint(r.IntN(90) + 10))
			default:
				lines = append(lines, fresh())
			}
			day++
			again := map[string]outcome.Again{"revise": outcome.Revise, "update": outcome.Update}[what]
			res := s.take(again, order.ByNumber, sale("A-1", time.Date(2026, 1, day, 0, 0, 0, 0, time.UTC).Format(time.DateOnly),
				lines...))[0]
			if res.Outcome != outcome.Changed && res.Outcome != outcome.Unchanged {
				t.Fatalf("seed %d: %s %s %+v", seed, what, res.Outcome, res.Findings)
			}
			look(what)
			if res.Outcome == outcome.Changed && r.IntN(3) == 0 {
				s.write(func(tx *store.Tx) error {
					why, err := TakeBack(tx, int64(s.loads), api.Taken{Seq: 1, OrderID: 1, Outcome: string(outcome.Changed)}, false,
						"test", now)
					if why != "" {
						t.Fatalf("seed %d: %s", seed, why)
					}
					return err
				})
				look(what + ", taken back")
				back := s.order(1)
				if len(back.Lines) != len(undo) || back.Lines[0].Item != undo[0].Item ||
					back.Lines[0].Quantity.Cmp(undo[0].Quantity) != 0 {
					t.Fatalf("seed %d: taken back it is %+v, was %+v", seed, back.Lines, undo)
				}
			}
		}
	}
}

// What a partner has been told is not taken back in silence, nor what somebody
// has changed since.
func TestTakeBack(t *testing.T) {
	told := func(s *shelf) {
		s.write(func(tx *store.Tx) error {
			i := api.Interchange{Partner: "P", Direction: "out", Control: 1, State: api.StateSent, At: now,
				Document: fmt.Sprintf("%064d", 1), Kinds: "855",
				Sets: []api.SetRecord{{Seq: 1, Kind: "855", Control: "0001", State: api.StateSent,
					Orders: []api.SpokenOf{{OrderID: 1, Revision: 1, Number: "SO-000001"}}}}}
			return tx.AddInterchange(&i)
		})
	}
	for _, c := range []struct {
		name string
		then func(*shelf)
		why  string
	}{
		{"nothing", func(*shelf) {}, ""},
		{"a change", func(s *shelf) { s.take(outcome.Update, order.ByNumber, sale("A-1", "2026-03-02", line("00417", "6"))) },
			"The order was changed since (by test, revision 2, 2026-03-16)."},
		{"a notice", told, "The partner was told of it in interchange 1."},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := open(t)
			s.take(outcome.Skip, order.ByNumber, sale("A-1", "2026-03-02", line("00417", "5")))
			c.then(s)
			s.write(func(tx *store.Tx) error {
				why, err := TakeBack(tx, 1, api.Taken{Seq: 1, OrderID: 1, Outcome: string(outcome.Loaded)}, false, "test", now)
				if why != c.why {
					t.Errorf("%q, want %q", why, c.why)
				}
				return err
			})
			if _, err := s.store.Order(ctx, 1); (err != nil) != (c.why == "") {
				t.Errorf("the order: %v", err)
			}
		})
	}
}
