package list

import (
	"strings"
	"sync"
	"unicode"
)

// Entry is one code of a reference list.
type Entry struct {
	Code       string            `json:"code"`
	Name       string            `json:"name,omitempty"`
	Attributes map[string]string `json:"attributes,omitempty" doc:"Further columns of the imported list"`
}

// List is a reference list: items, customers, units and the like.
// It is safe for use by several goroutines.
type List struct {
	entries []Entry
	byCode  map[string]int
	folded  map[string]int

	mu      sync.Mutex
	nearest map[string]int // what was asked for and not found: few, and often again
}

// New makes a list of entries; where a code stands twice the last one counts.
func New(entries []Entry) *List {
	l := &List{entries: entries, byCode: make(map[string]int, len(entries)), folded: make(map[string]int, len(entries)), nearest: map[string]int{}}
	for i, e := range entries {
		l.byCode[e.Code] = i
		l.folded[Fold(e.Code)] = i
	}
	return l
}

// Find gives the code of the list that text means: the same text, or the same
// but for letter case and space.
func (l *List) Find(text string) (code string, ok bool) {
	if _, ok := l.byCode[text]; ok {
		return text, true
	}
	if i, ok := l.folded[Fold(text)]; ok {
		return l.entries[i].Code, true
	}
	return "", false
}

// nearestKept bounds what a list remembers of its misses.
const nearestKept = 10_000

// Nearest gives the entry whose code, or name, is closest to text; false where
// nothing is close enough to be worth showing.
func (l *List) Nearest(text string) (Entry, bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	best, known := l.nearest[text]
	if !known {
		best = -1
		want := Fold(text)
		least := limit(want) + 1
		for i, e := range l.entries {
			for _, word := range [2]string{e.Code, e.Name} {
				if word == "" {
					continue
				}
				if d := distance(want, Fold(word), least); d < least {
					least, best = d, i
				}
			}
		}
		if len(l.nearest) < nearestKept {
			l.nearest[text] = best
		}
	}
	if best < 0 {
		return Entry{}, false
	}
	return l.entries[best], true
}

// Pair is one row of a crosswalk.
type Pair struct {
	Theirs string `json:"theirs"`
	Ours   string `json:"ours"`
}

// Crosswalk is a two-way table of a partner's codes and ours.
type Crosswalk struct {
	theirs *List
	ours   map[string]string // folded theirs -> ours
}

// NewCrosswalk makes a crosswalk of its pairs.
func NewCrosswalk(pairs []Pair) *Crosswalk {
	c := &Crosswalk{ours: make(map[string]string, len(pairs))}
	entries := make([]Entry, len(pairs))
	for i, p := range pairs {
		entries[i] = Entry{Code: p.Theirs}
		c.ours[Fold(p.Theirs)] = p.Ours
	}
	c.theirs = New(entries)
	return c
}

// Ours gives our code for the partner's, letter case and space aside.
func (c *Crosswalk) Ours(theirs string) (string, bool) {
	ours, ok := c.ours[Fold(theirs)]
	return ours, ok
}

// Nearest gives the partner's code that is closest to one that is not there.
func (c *Crosswalk) Nearest(theirs string) (string, bool) {
	e, ok := c.theirs.Nearest(theirs)
	return e.Code, ok
}

// Set is every list and crosswalk that a load may ask, by name.
type Set struct {
	Lists      map[string]*List
	Crosswalks map[string]*Crosswalk
}

// Nearest gives the word of words that is closest to word, for "did you mean".
func Nearest(word string, words []string) (string, bool) {
	want := Fold(word)
	best, least := "", limit(want)+1
	for _, w := range words {
		if d := distance(want, Fold(w), least); d < least {
			best, least = w, d
		}
	}
	return best, best != ""
}

// limit is how many letters may differ for two words to count as near.
func limit(word string) int { return min(1+len(word)/4, 4) }

// distance counts the letters to change, insert, leave out or exchange with
// their neighbour to turn a into b; it gives up at most, which it then returns.
func distance(a, b string, most int) int {
	if a == b {
		return 0
	}
	ra, rb := []rune(a), []rune(b)
	if d := len(ra) - len(rb); d >= most || -d >= most {
		return most
	}
	var before, prev, cur [130]int
	if len(rb) >= len(prev) {
		return most
	}
	for j := range len(rb) + 1 {
		prev[j] = j
	}
	for i := 1; i <= len(ra); i++ {
		cur[0] = i
		row := i
		for j := 1; j <= len(rb); j++ {
			cost := 1
			if ra[i-1] == rb[j-1] {
				cost = 0
			}
			d := min(prev[j]+1, cur[j-1]+1, prev[j-1]+cost)
			if i > 1 && j > 1 && ra[i-1] == rb[j-2] && ra[i-2] == rb[j-1] {
				d = min(d, before[j-2]+1)
			}
			cur[j] = d
			row = min(row, d)
		}
		if row >= most {
			return most
		}
		before, prev = prev, cur
	}
	return prev[len(rb)]
}

// Fold brings text to the form in which headings, codes and words are compared:
// lower case, outer space gone, inner space (line breaks and no-break space
// too) single.
func Fold(s string) string {
	plain := true
	for i := 0; i < len(s); i++ {
		c := s[i]
		if c >= 0x80 || c >= 'A' && c <= 'Z' || c < ' ' || c == ' ' && (i == 0 || i == len(s)-1 || s[i-1] == ' ') {
			plain = false
			break
		}
	}
	if plain {
		return s
	}
	var b strings.Builder
	b.Grow(len(s))
	space := false
	for _, r := range s {
		switch {
		case unicode.IsSpace(r) || r == '\u200b' || r == '\ufeff':
			space = b.Len() > 0
		default:
			if space {
				b.WriteByte(' ')
				space = false
			}
			b.WriteRune(unicode.ToLower(r))
		}
	}
	return b.String()
}
