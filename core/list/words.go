package list

import (
	"slices"
	"unicode/utf8"
)

// words are folded words of a list by their length, with what their letters are. Those near to a word are found without
// comparing it with all of them letter by letter.
type words struct {
	counts []counts
	all    []word
	from   [longestWord + 2]int32 // where the words of each length begin
}

type word struct {
	text  string
	entry int32
}

// longestWord is how many letters a word has of which another is near.
const longestWord = 127

// makeWords collects what of gives for each of n entries.
func makeWords(n int, of func(i int, add func(text string))) *words {
	w := &words{}
	for i := range n {
		of(i, func(text string) {
			text = Fold(text)
			if size := utf8.RuneCountInString(text); size > 0 && size <= longestWord {
				w.all = append(w.all, word{text, int32(i)})
			}
		})
	}
	slices.SortStableFunc(w.all, func(a, b word) int { return utf8.RuneCountInString(a.text) - utf8.RuneCountInString(b.text) })
	w.counts = make([]counts, len(w.all))
	for i := range w.all {
		w.counts[i] = countsOf(w.all[i].text)
	}
	at := 0
	for size := range w.from {
		for at < len(w.all) && utf8.RuneCountInString(w.all[at].text) < size {
			at++
		}
		w.from[size] = int32(at)
	}
	return w
}

// near calls yield with the words whose distance from a folded word is at most most, those of its own length first.
// yield returns the distance that is still of interest.
func (w *words) near(text string, most int, yield func(entry, distance int) (most int)) {
	size, counts, to := utf8.RuneCountInString(text), countsOf(text), newPattern(text)
	of := func(n int) {
		if n < 1 || n > longestWord {
			return
		}
		for i := w.from[n]; i < w.from[n+1]; i++ {
			if counts.apart(w.counts[i]) > 2*most {
				continue
			}
			if d := to.distance(w.all[i].text, most); d <= most {
				most = yield(int(w.all[i].entry), d)
			}
		}
	}
	of(size)
	for step := 1; step <= most; step++ {
		of(size - step)
		of(size + step)
	}
}

// counts are how many letters of each of sixteen groups a word has, a byte each.
type counts [2]uint64

func countsOf(text string) (c counts) {
	for _, r := range text {
		group := uint32(r) * 0x9e3779b1 >> 28 // ten digits, or ten letters that are near to one another, are in different ones
		c[group>>3] += 1 << (group & 7 * 8)
	}
	return c
}

// apart is how many letters of each word the other one does not have, in total: no more than two for each letter that
// was changed, one for each that was left out, and none for two that were exchanged.
func (c counts) apart(d counts) (n int) {
	const high, low = 0x8080808080808080, 0x00ff00ff00ff00ff
	for k := range c {
		x := (c[k] | high) - d[k] // each byte is 128 more than the difference
		less := ^x & high         // where it is below zero
		x = (x &^ uint64(high)) ^ (less - less>>7) + less>>7
		x = x&low + x>>8&low
		n += int(x * 0x0001000100010001 >> 48)
	}
	return n
}

// pattern is a word that is compared with many: for each letter it has the bits of where the letter stands.
type pattern struct {
	text  string
	size  int
	ascii [utf8.RuneSelf]uint64
	other map[rune]uint64
}

func newPattern(text string) *pattern {
	p := &pattern{text: text}
	for _, r := range text {
		if p.size < 64 {
			if r < utf8.RuneSelf {
				p.ascii[r] |= 1 << p.size
			} else {
				if p.other == nil {
					p.other = map[rune]uint64{}
				}
				p.other[r] |= 1 << p.size
			}
		}
		p.size++
	}
	return p
}

// distance is the distance of a word, as the function of that name computes it. A column of its table is the bits of
// one number (Hyyrö 2003: A bit-vector algorithm for computing Levenshtein and Damerau edit distances).
func (p *pattern) distance(text string, most int) int {
	if p.size > 64 || p.size == 0 {
		return distance(p.text, text, most+1)
	}
	last := uint64(1) << (p.size - 1)
	up, down := ^uint64(0), uint64(0) // rows that are one more, or one less, than the row above them
	same, before := uint64(0), uint64(0)
	d := p.size
	for _, r := range text {
		at := uint64(0)
		if r < utf8.RuneSelf {
			at = p.ascii[r]
		} else if p.other != nil {
			at = p.other[r]
		}
		exchanged := (^same & at) << 1 & before
		same = ((at & up) + up) ^ up | at | down | exchanged
		right, left := down|^(same|up), same&up
		if right&last != 0 {
			d++
		}
		if left&last != 0 {
			d--
		}
		right, left = right<<1|1, left<<1
		up, down, before = left|^(same|right), right&same, at
	}
	return d
}
