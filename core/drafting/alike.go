package drafting

import (
	"slices"
	"strings"
)

// alike says how well a heading fits a word of the vocabulary, from 0 to 1.
func alike(heading []string, joined, run string, e *entry) float64 {
	word := e.words
	switch {
	case joined == e.joined:
		return 1
	case run == e.run:
		return 0.98
	}
	var rest []string
	for _, h := range heading {
		if !fill[h] && !slices.Contains(word, h) {
			rest = append(rest, h)
		}
	}
	all := true
	for _, w := range word {
		all = all && slices.Contains(heading, w)
	}
	switch {
	case all && len(rest) == 0:
		return 0.93
	case all && len(rest) == 1 && about[rest[0]]:
		return 0.86
	case all && len(word) > 1:
		return 0.8 - 0.06*float64(len(rest))
	case all:
		return 0.62 - 0.08*float64(len(rest))
	}
	if known := conceptOf[joined] != ""; known {
		return 0 // a word that is known is not another one misspelt; nor is one with another first letter (card, yard)
	}
	if !misspelt(heading, word) {
		return 0
	}
	if d := len(joined) - len(e.joined); len(e.joined) >= 5 && d >= -4 && d <= 4 && joined[0] == e.joined[0] &&
		(near(joined, e.joined, 1) || len(e.joined) >= 9 && near(joined, e.joined, 2)) {
		return 0.68
	}
	return 0
}

// misspelt reports whether the words that differ can be the same ones misspelt: long enough, or cut short as ctn is
// carton. ts is not tax.
func misspelt(a, b []string) bool {
	if len(a) != len(b) {
		return true // two words written as one, or one as two
	}
	for i := range a {
		shorter, longer := a[i], b[i]
		if len(shorter) > len(longer) {
			shorter, longer = longer, shorter
		}
		if shorter != longer && len(shorter) < 4 && len(longer) > 2 && !cutOf(shorter, longer) { // at and on say the same
			return false
		}
	}
	return true
}

// cutOf reports whether a word is another one of which letters were left out.
func cutOf(cut, whole string) bool {
	for i := 0; i < len(cut); i++ {
		at := strings.IndexByte(whole, cut[i])
		if at < 0 || i == 0 && at > 0 {
			return false
		}
		whole = whole[at+1:]
	}
	return true
}

// near reports whether two plain words differ by at most n letters.
func near(a, b string, n int) bool {
	var rows [2][64]int // most words that are compared are short
	if d := len(a) - len(b); d > n || -d > n || len(b) >= len(rows[0]) {
		return false
	}
	prev, cur := rows[0][:len(b)+1], rows[1][:len(b)+1]
	for j := range prev {
		prev[j] = j
	}
	for i := range len(a) {
		cur[0] = i + 1
		least := cur[0]
		for j := range len(b) {
			cost := 1
			if a[i] == b[j] {
				cost = 0
			}
			cur[j+1] = min(prev[j+1]+1, cur[j]+1, prev[j]+cost)
			least = min(least, cur[j+1])
		}
		if least > n {
			return false
		}
		prev, cur = cur, prev
	}
	return prev[len(b)] <= n
}
