package exchange

import (
	"context"
	"errors"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"koinos/api"
	"koinos/core/order"
	"koinos/store"
)

// TestComesAgain tells an interchange that comes once more from another one that bears its control
// number, and both from one that was rejected and is sent anew.
func TestComesAgain(t *testing.T) {
	d := open(t)
	ctx := context.Background()
	ordered := func(control int, number string) string {
		return pellow(control, "850", strings.ReplaceAll(order4711, "PM-1", number))
	}
	comes := func(doc, once string) api.Interchange {
		t.Helper()
		all, err := d.Receive(ctx, strings.NewReader(doc), Arrival{Name: "test.edi", By: "test", Once: once})
		if err != nil || len(all) != 1 {
			t.Fatal(len(all), err)
		}
		return all[0]
	}
	rule := func(id int64, ruling string) api.Interchange {
		t.Helper()
		i, err := d.Rule(ctx, id, ruling, "eva")
		if err != nil {
			t.Fatal(err)
		}
		return i
	}
	first := comes(ordered(905, "PM-1"), "arrival 1")
	var doubtful, again api.Interchange
	left := map[string]int{}
	for _, c := range []struct {
		name    string
		act     func() api.Interchange
		state   string
		orders  string         // of PELLOW, by the numbers it gave
		answers map[string]int // how often an acknowledgement left, by kind and code
		waiting int
	}{
		{"the first", func() api.Interchange { return first }, api.StateDone, "PM-1", map[string]int{"997": 1}, 0},
		{"its arrival is taken up again after a crash", func() api.Interchange {
			return comes(ordered(905, "PM-1"), "arrival 1")
		},
			api.StateDone, "PM-1", map[string]int{"997": 1}, 0},
		{"the same bytes arrive again", func() api.Interchange { return comes(ordered(905, "PM-1"), "arrival 2") },
			api.StateDuplicate, "PM-1", map[string]int{"997": 2}, 0},
		{"the same with a line for each segment", func() api.Interchange {
			return comes(strings.ReplaceAll(ordered(905, "PM-1"), "~", "~\r\n"), "")
		}, api.StateDuplicate, "PM-1", map[string]int{"997": 3}, 0},
		{"another order with the number", func() api.Interchange {
			doubtful = comes(ordered(905, "PM-2"), "")
			return doubtful
		},
			api.StateDoubtful, "PM-1", map[string]int{"997": 3}, 1},
		{"that once more, while nobody has decided", func() api.Interchange { return comes(ordered(905, "PM-2"), "") },
			api.StateDuplicate, "PM-1", map[string]int{"997": 3}, 1},
		{"it is let in", func() api.Interchange { return rule(doubtful.ID, api.LetIn) },
			api.StateDone, "PM-1 PM-2", map[string]int{"997": 4}, 0},
		{"a third order", func() api.Interchange { doubtful = comes(ordered(905, "PM-3"), ""); return doubtful },
			api.StateDoubtful, "PM-1 PM-2", map[string]int{"997": 4}, 1},
		{"it is refused", func() api.Interchange { return rule(doubtful.ID, api.Refused) },
			api.StateRejected, "PM-1 PM-2", map[string]int{"997": 4, "TA1 R 025": 1}, 0},
		{"it comes again", func() api.Interchange { again = comes(ordered(905, "PM-3"), ""); return again },
			api.StateDoubtful, "PM-1 PM-2", map[string]int{"997": 4, "TA1 R 025": 1}, 1},
		{"a group that lost a set", func() api.Interchange {
			return comes(strings.Replace(ordered(906, "PM-4"), "~GE*1*", "~GE*2*", 1), "")
		}, api.StateRejected, "PM-1 PM-2", map[string]int{"997": 5, "TA1 R 025": 1}, 1},
		{"the whole group, under its number", func() api.Interchange { return comes(ordered(906, "PM-4"), "") },
			api.StateDone, "PM-1 PM-2 PM-4", map[string]int{"997": 6, "TA1 R 025": 1}, 1},
		{"an envelope alone", func() api.Interchange { return comes(ordered(907, "PM-5")[:106], "") },
			api.StateRejected, "PM-1 PM-2 PM-4", map[string]int{"997": 6, "TA1 R 025": 1, "TA1 R 023": 1}, 1},
		{"what belongs into it", func() api.Interchange { return comes(ordered(907, "PM-5"), "") },
			api.StateDone, "PM-1 PM-2 PM-4 PM-5", map[string]int{"997": 7, "TA1 R 025": 1, "TA1 R 023": 1}, 1},
	} {
		i := c.act()
		if i.State != c.state {
			t.Fatalf("%s: %s, not %s: %+v", c.name, i.State, c.state, foundIn(i))
		}
		if got := d.numbers("PELLOW"); got != c.orders {
			t.Errorf("%s: orders %s, not %s", c.name, got, c.orders)
		}
		if got := d.fetch("PELLOW", left); !maps.Equal(got, c.answers) {
			t.Errorf("%s: answers %v, not %v", c.name, got, c.answers)
		}
		held, err := d.store.HeldList(ctx, store.HeldFilter{HeldFor: api.HeldFor{Kind: api.HeldInterchange}})
		today, err2 := d.store.Waiting(ctx, d.at)
		if err != nil || err2 != nil || len(held) != c.waiting || len(today) != c.waiting {
			t.Errorf("%s: held %+v, today %+v, %v %v", c.name, held, today, err, err2)
		}
	}
	if i := comes(ordered(905, "PM-1"), "arrival 1"); i.ID != first.ID {
		t.Errorf("an arrival is interchange %d, then %d", first.ID, i.ID)
	}
	if _, err := d.Replay(ctx, again.ID, nil, "eva"); !errors.Is(err, ErrNotNow) {
		t.Errorf("a doubtful interchange is replayed without a decision: %v", err)
	}
	if _, err := d.Rule(ctx, first.ID, api.Refused, "eva"); !errors.Is(err, ErrNotNow) {
		t.Errorf("an interchange that is done is refused: %v", err)
	}
}

// An interchange of a sender who was unknown may have come once more before it is replayed. What is accepted of it
// counts.
func TestKnownLate(t *testing.T) {
	change := "BCH*04*SA*PM-1***20260317~POC*1*QI*30**MR*1.33**VP*00113~"
	for _, c := range []struct {
		name, doc, meanwhile string
		state, orders        string
	}{
		{"nothing came", pellow(905, "850", order4711), "", api.StateDone, "PM-1"},
		{"it came again", pellow(905, "850", order4711), pellow(905, "850", order4711), api.StateDuplicate, "PM-1"},
		{"another one with its number", pellow(905, "850", strings.ReplaceAll(order4711, "PM-1", "PM-2")),
			pellow(905, "850", order4711), api.StateDoubtful, "PM-1"},
		{"a change that is accepted", pellow(906, "860", change), pellow(905, "850", order4711), api.StateDone, "PM-1"},
	} {
		t.Run(c.name, func(t *testing.T) {
			d := open(t)
			d.partner("id: PELLOW}", "id: PELLEW}")
			i := d.receive(c.doc)
			if i.State != api.StateUnknown {
				t.Fatalf("%s at first", i.State)
			}
			d.partner("changes: take", "changes: wait")
			if c.meanwhile != "" {
				d.receive(c.meanwhile)
			}
			i, err := d.Replay(t.Context(), i.ID, []string{"change_asked"}, "eva")
			if orders := d.numbers("PELLOW"); err != nil || i.State != c.state || orders != c.orders {
				t.Errorf("%s, %s, %v %+v", i.State, orders, err, foundIn(i))
			}
		})
	}
}

// numbers are the sender's numbers of a partner's orders.
func (d *desk) numbers(name string) string {
	d.t.Helper()
	page, _, err := d.store.Orders(context.Background(), store.OrderFilter{Kind: string(order.Sales), Partner: name,
		Limit: 100})
	if err != nil {
		d.t.Fatal(err)
	}
	var all []string
	for _, o := range page {
		all = append(all, o.SenderNumber)
	}
	slices.Sort(all)
	return strings.Join(all, " ")
}

// left waits until what is ready has left, and has its name.
func (d *desk) left() {
	d.t.Helper()
	for end := time.Now().Add(time.Minute); ; time.Sleep(time.Millisecond) {
		ready, err := d.store.Interchanges(context.Background(),
			store.InterchangeFilter{State: api.StateReady, Limit: 1}, d.at)
		if err != nil || time.Now().After(end) {
			d.t.Fatal("what is ready does not leave", err)
		}
		hidden, err := filepath.Glob(filepath.Join(d.dir, "*", "out", "*"+hiddenSuffix))
		if err != nil {
			d.t.Fatal(err)
		}
		if len(ready)+len(hidden) == 0 {
			return
		}
	}
}

// fetch takes what lies ready for a partner out of its folder, as the partner would, and counts it
// by kind; of a TA1 with its code and note.
func (d *desk) fetch(name string, counts map[string]int) map[string]int {
	d.t.Helper()
	d.left()
	files, err := filepath.Glob(filepath.Join(d.dir, name, "out", "*"))
	if err != nil {
		d.t.Fatal(err)
	}
	for _, f := range files {
		b, err := os.ReadFile(f)
		if err := errors.Join(err, os.Remove(f)); err != nil {
			d.t.Fatal(err)
		}
		for _, segment := range strings.Split(string(b), "~") {
			switch parts := strings.Split(segment, "*"); {
			case parts[0] == "ST":
				counts[parts[1]]++
			case parts[0] == "TA1" && parts[4] != "A":
				counts["TA1 "+parts[4]+" "+parts[5]]++
			}
		}
	}
	return counts
}
