package order

import (
	"fmt"
	"math/rand"
	"slices"
	"strings"
	"testing"
)

// A Finder finds what looking through all lines finds, whether it has an index or not, and while lines are added and
// changed.
func TestFinder(t *testing.T) {
	for seed := range int64(200) {
		r := rand.New(rand.NewSource(seed))
		word := func(all ...string) string { return all[r.Intn(len(all))] }
		line := func() Line {
			return Line{Number: word("", "1", "001", "a1", "A1", fmt.Sprint(r.Intn(90))), SenderLine: word("", "x", "X", "ß", "ẞ", "\u212a", "k"),
				Item: word("", "R-1", "r-1", "R-2"), BuyerItem: word("", "B", "b", "C"), GTIN: word("", "4006381333931", "04006381333931", "96385074", "0000096385074")}
		}
		o := &Order{}
		for range r.Intn(3) * fewLines {
			o.Lines = append(o.Lines, line())
		}
		f := NewFinder(o)
		for range 40 {
			switch r.Intn(4) {
			case 0:
				o.Lines = append(o.Lines, line())
			case 1:
				if n := len(o.Lines); n > 0 {
					at, now := r.Intn(n), line()
					now.Number = o.Lines[at].Number
					o.Lines[at] = now
					f.Changed(at)
				}
			}
			like := line()
			for name, c := range map[string]struct {
				got  []int
				same func(*Line) bool
			}{
				"number": {f.Numbered(like.Number), func(l *Line) bool { return SameNumber(l.Number, like.Number) }},
				"sender": {f.OfSender(like.SenderLine), func(l *Line) bool {
					return like.SenderLine != "" && strings.EqualFold(l.SenderLine, like.SenderLine)
				}},
				"item": {f.OfItem(&like), func(l *Line) bool {
					field, _ := l.DifferentItem(&like)
					return field == "" && l.SharesItem(&like)
				}},
			} {
				var want []int
				for i := range o.Lines {
					if c.same(&o.Lines[i]) {
						want = append(want, i)
					}
				}
				wrong := len(c.got) != min(len(want), 2) || len(want) > 0 && name == "number" && c.got[0] != want[0] ||
					slices.ContainsFunc(c.got, func(i int) bool { return !slices.Contains(want, i) })
				if wrong || len(c.got) == 2 && c.got[0] == c.got[1] {
					t.Fatalf("seed %d, %s of %+v among %d lines: %v, of %v", seed, name, like, len(o.Lines), c.got, want)
				}
			}
		}
	}
}

// A GTIN is the same with zeros before it, up to 14 digits; other codes are not.
func TestSameGTIN(t *testing.T) {
	for _, c := range []struct {
		a, b string
		same bool
	}{
		{"012345678905", "00012345678905", true}, {"012345678905", "0012345678905", true}, {"96385074", "00000096385074", true},
		{"012345678905", "012345678906", false}, {"12345678905", "012345678905", false}, {"012345678905", "0000012345678905", false},
		{"A2345678", "000000A2345678", false},
	} {
		_, code := (&Line{GTIN: c.a}).DifferentItem(&Line{GTIN: c.b})
		if shares := (&Line{GTIN: c.a}).SharesItem(&Line{GTIN: c.b}); shares != c.same || (code == "") != c.same {
			t.Errorf("%s and %s: %v, %q", c.a, c.b, shares, code)
		}
		if (&Line{Item: c.a}).SharesItem(&Line{Item: c.b}) {
			t.Errorf("%s and %s are one item of ours", c.a, c.b)
		}
	}
}
