package load

import (
	"strings"
	"testing"

	"koinos/core/finding"
	"koinos/core/list"
	"koinos/core/mapping"
)

// What a partner says in several segments is joined, taken as repeat says, or named.
func TestSeveralSegments(t *testing.T) {
	for _, c := range []struct{ repeat, want string }{ // "" is that the order is refused
		{"", "21"}, {", repeat: first", "21"}, {", repeat: last", "35"},
		{`, repeat: join, separator: "/"`, "21/34/35"}, {", repeat: agree", ""},
	} {
		m, err := mapping.Parse([]byte(orders850 + "  reference.department: {from: REF/02 where REF/01 = DP" + c.repeat +
			"}\n"))
		if err != nil {
			t.Fatal(finding.Of(err))
		}
		set := &list.Set{Lists: map[string]*list.List{}}
		doc := order850("BEG*00*SA*A-1**20260302~\nREF*DP*21~\nREF*DP*34~\nREF*DP*35~\nN9*ZZ*NOTES~\nMSG*call first~\nMSG*gate 2~\n" +
			"PO1*1*2*EA*9.50**VP*00417~\n")
		for _, f := range m.Missing(set) {
			set.Lists[f.Value] = list.New([]list.Entry{{Code: "00417"}, {Code: "OSTRAND"}, {Code: "EA"}})
		}
		orders, refused := ordersOf(t, m, []byte(doc), set)
		if c.want == "" {
			if !strings.Contains(refused, "leads to \"21\" and to \"34\"") {
				t.Errorf("%s: %s", c.repeat, refused)
			}
			continue
		}
		if len(orders) != 1 || orders[0].Notes != "call first\ngate 2" {
			t.Fatalf("%s: %+v %s", c.repeat, orders, refused)
		}
		got := ""
		for _, r := range orders[0].References {
			if r.Qualifier == "department" {
				got = r.Value
			}
		}
		if got != c.want {
			t.Errorf("%q: %s", c.repeat, got)
		}
	}
}
