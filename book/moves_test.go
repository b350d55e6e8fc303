package book

import (
	"testing"

	"koinos/core/order"
)

// A movement that is said again is the same whatever the order and the pieces of its lines.
func TestSameMoved(t *testing.T) {
	lines := func(of ...int) (all []order.MovementLine) {
		for i := 0; i < len(of); i += 2 {
			all = append(all, order.MovementLine{Line: of[i], Quantity: order.NumberOf(int64(of[i+1]))})
		}
		return all
	}
	was := lines(1, 3, 2, 5)
	for _, c := range []struct {
		says []order.MovementLine
		want bool
	}{
		{lines(1, 3, 2, 5), true}, {lines(2, 5, 1, 3), true}, {lines(2, 2, 1, 3, 2, 3), true},
		{lines(1, 3), false}, {lines(1, 3, 2, 4), false}, {lines(1, 3, 2, 5, 3, 1), false}, {nil, false},
	} {
		if got, err := sameMoved(was, c.says); got != c.want || err != nil {
			t.Errorf("%+v: %t %v", c.says, got, err)
		}
	}
}
