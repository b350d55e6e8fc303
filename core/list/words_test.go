package list

import (
	"fmt"
	"math/rand/v2"
	"testing"
)

// Near words are those that comparing with each word finds, in lists of codes and of words, with one or several letters
// wrong.
func TestNearWords(t *testing.T) {
	for seed := range uint64(60) {
		r := rand.New(rand.NewPCG(seed, 1))
		alphabet := [][]rune{[]rune("0123456789"), []rune("abcdefghij -"), []rune("añßöx中国日12")}[seed%3]
		text := func() string {
			letters := make([]rune, 1+r.IntN(12))
			for i := range letters {
				letters[i] = alphabet[r.IntN(len(alphabet))]
			}
			return string(letters)
		}
		var entries []Entry
		for range 120 {
			entries = append(entries, Entry{Code: text(), Name: text()})
		}
		l := New(entries)
		for range 60 {
			asked := text()
			if r.IntN(2) == 0 {
				asked = entries[r.IntN(len(entries))].Code + string(alphabet[r.IntN(len(alphabet))])
			}
			want, best, least := Fold(asked), -1, limit(Fold(asked))+1
			for i, e := range entries {
				for _, word := range []string{e.Code, e.Name} {
					if d := distance(want, Fold(word), least); Fold(word) != "" && d < least {
						least, best = d, i
					}
				}
			}
			got, ok := l.Nearest(asked)
			if ok != (best >= 0) || ok && fmt.Sprint(got) != fmt.Sprint(entries[best]) {
				t.Fatalf("seed %d: nearest to %q is %+v, %t; want %d of %+v", seed, asked, got, ok, best, entries)
			}
			for near := 1; near <= 3; near++ {
				m := l.Look(asked, nil, near)
				if m.Entry != nil && !m.Near || m.Several && !m.Near {
					continue // it is there
				}
				least, count := near+1, 0
				for _, e := range entries {
					switch d := distance(want, Fold(e.Code), least+1); {
					case Fold(e.Code) == "":
					case d < least:
						least, count = d, 1
					case d == least && d <= near:
						count++
					}
				}
				if m.Several != (count > 1) || (m.Entry != nil) != (count == 1) ||
					m.Entry != nil && distance(want, Fold(m.Entry.Code), 99) != least {
					t.Fatalf("seed %d: %q within %d: %+v, and %d are as near as %d", seed, asked, near, m, count, least)
				}
			}
		}
	}
}

func BenchmarkNearestOfMany(b *testing.B) {
	r := rand.New(rand.NewPCG(1, 1))
	var entries []Entry
	for i := range 200_000 {
		entries = append(entries, Entry{Code: fmt.Sprintf("%09d", r.IntN(1e9)), Name: fmt.Sprintf("Thing %d", i)})
	}
	l := New(entries)
	l.Nearest("0")
	for b.Loop() {
		l.Nearest(fmt.Sprintf("%09d", r.IntN(1e9)))
	}
}
