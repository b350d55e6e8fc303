package list

import (
	"testing"

	"koinos/core/order"
)

// Quantities go over into another unit exactly, or not at all.
func TestInUnit(t *testing.T) {
	set := &Set{Lists: map[string]*List{"items": New([]Entry{
		{Code: "SHACKLE", Attributes: map[string]string{"unit": "EA", "per BX": "12", "per PF": "480"}},
		{Code: "ROPE", Attributes: map[string]string{"unit": "MTR", "Per RO": "220"}},
		{Code: "ODD", Attributes: map[string]string{"unit": "EA", "per BX": "many"}},
		{Code: "BARE"},
	})}}
	for _, c := range []struct{ item, quantity, from, to, want string }{
		{"SHACKLE", "2", "BX", "EA", "24"},
		{"SHACKLE", "36", "EA", "BX", "3"},
		{"SHACKLE", "1", "PF", "BX", "40"},
		{"SHACKLE", "30", "EA", "BX", "2.5"},
		{"SHACKLE", "1", "EA", "BX", ""}, // a twelfth is no decimal
		{"SHACKLE", "3", "DZN", "BX", "3"},
		{"shackle", "1", "BX", "EA", "12"},
		{"SHACKLE", "1", "CT", "EA", ""},
		{"ROPE", "1.5", "RO", "MTR", "330"},
		{"ROPE", "11000", "CMT", "RO", "0.5"},
		{"ODD", "1", "BX", "EA", ""},
		{"BARE", "2", "DZN", "EA", "24"},
		{"NONE", "2", "KGM", "GRM", "2000"},
		{"NONE", "2", "KGM", "MTR", ""},
		{"NONE", "2", "BX", "BX", "2"},
	} {
		got, ok := set.InUnit(c.item, order.MustNumber(c.quantity), c.from, c.to)
		if ok != (c.want != "") || ok && got.String() != c.want {
			t.Errorf("%s %s of %s in %s: %s %v, not %q", c.quantity, c.from, c.item, c.to, got, ok, c.want)
		}
	}
	if got, ok := (*Set)(nil).InUnit("X", order.NumberOf(1), "GRO", "EA"); !ok || got.String() != "144" {
		t.Errorf("%s %v", got, ok)
	}
}
