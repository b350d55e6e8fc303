package list

import (
	"strings"
	"sync"
	"unicode"

	"koinos/core/order"
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
	codes   index

	mu      sync.Mutex
	nearest map[string]int    // what was asked for and not found: few, and often again
	keys    map[string]*index // by key
	words   map[string]*words // by key; "" is code and name
}

// index maps values of a key to an entry, or to several.
type index struct {
	exact  map[string]int
	folded map[string]int // letter case and space aside
}

// several marks a value that more than one entry has.
const several = -1

// Get returns an attribute of the entry. code and name are attributes too, and "" means the code.
func (e *Entry) Get(name string) string {
	switch Fold(name) {
	case "", "code":
		return e.Code
	case "name":
		return e.Name
	}
	if v, ok := e.Attributes[name]; ok {
		return v
	}
	for k, v := range e.Attributes {
		if Fold(k) == Fold(name) {
			return v
		}
	}
	return ""
}

// Match is the result of a look-up.
type Match struct {
	Entry   *Entry // nil is none
	Key     string // the key by which it was found
	Spelled bool   // the value is the entry's own but for letter case or space
	Near    bool   // the value is not the entry's own, only near to it
	Several bool   // more than one entry fits: none was taken
}

// Look finds the entry whose code, or one of the given keys, is text. Keys are tried in turn. If none has exactly the
// text, zeros before a GTIN are ignored, and then letter case and space. If none fits then and near is above 0, the
// only entry that differs in at most near letters is used.
func (l *List) Look(text string, keys []string, near int) Match {
	if len(keys) == 0 {
		keys = onlyCode
	}
	for _, key := range keys {
		if i, ok := l.index(key).exact[text]; ok {
			if i == several {
				return Match{Key: key, Several: true}
			}
			return Match{Entry: &l.entries[i], Key: key}
		}
	}
	if gtin := order.GTIN14(text); gtin != text {
		for _, key := range keys {
			if i, ok := l.index(key).exact[gtin]; ok && trade[Fold(key)] {
				if i == several {
					return Match{Key: key, Several: true}
				}
				return Match{Entry: &l.entries[i], Key: key}
			}
		}
	}
	want := Fold(text)
	for _, key := range keys {
		if i, ok := l.index(key).folded[want]; ok {
			if i == several {
				return Match{Key: key, Several: true, Spelled: true}
			}
			return Match{Entry: &l.entries[i], Key: key, Spelled: true}
		}
	}
	if near <= 0 || want == "" {
		return Match{}
	}
	found, least, count := Match{Near: true}, near+1, 0
	for _, key := range keys {
		l.wordsOf(key).near(want, min(least, near), func(i, d int) int {
			switch {
			case d < least:
				least, count = d, 1
				found.Entry, found.Key = &l.entries[i], key
			case found.Entry != &l.entries[i]:
				count++
			}
			return least
		})
	}
	switch {
	case count > 1:
		return Match{Key: found.Key, Several: true, Near: true}
	case count == 0:
		return Match{}
	}
	return found
}

var onlyCode = []string{"code"}

// trade are the columns of GTINs, which are the same with zeros before them.
var trade = map[string]bool{"gtin": true, "ean": true, "upc": true, "barcode": true}

// index returns the entries by a key. It is made when it is first needed.
func (l *List) index(key string) *index {
	if key == "code" {
		return &l.codes
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if m := l.keys[key]; m != nil {
		return m
	}
	m := &index{make(map[string]int, len(l.entries)), make(map[string]int, len(l.entries))}
	for i := range l.entries {
		value := l.entries[i].Get(key)
		m.add(value, i)
		if gtin := order.GTIN14(value); gtin != value && trade[Fold(key)] {
			m.add(gtin, i)
		}
	}
	if l.keys == nil {
		l.keys = map[string]*index{}
	}
	l.keys[key] = m
	return m
}

func (m *index) add(value string, i int) {
	if value == "" {
		return
	}
	put := func(to map[string]int, value string) {
		if _, twice := to[value]; twice {
			to[value] = several
		} else {
			to[value] = i
		}
	}
	put(m.exact, value)
	put(m.folded, Fold(value))
}

// wordsOf returns the words of a key. They are collected when they are first needed.
func (l *List) wordsOf(key string) *words {
	l.mu.Lock()
	defer l.mu.Unlock()
	w := l.words[key]
	if w == nil {
		w = makeWords(len(l.entries), func(i int, add func(string)) {
			if key != "" {
				add(l.entries[i].Get(key))
				return
			}
			add(l.entries[i].Code)
			add(l.entries[i].Name)
		})
		if l.words == nil {
			l.words = map[string]*words{}
		}
		l.words[key] = w
	}
	return w
}

// Entries are the list's entries in their order.
func (l *List) Entries() []Entry { return l.entries }

// New makes a list of entries. If a code occurs twice, the last one counts.
func New(entries []Entry) *List {
	l := &List{entries: entries, codes: index{make(map[string]int, len(entries)), make(map[string]int, len(entries))},
		nearest: map[string]int{}}
	for i, e := range entries {
		l.codes.exact[e.Code] = i
	}
	for i, e := range entries {
		folded := Fold(e.Code)
		if was, twice := l.codes.folded[folded]; twice && (was == several || entries[was].Code != e.Code) {
			l.codes.folded[folded] = several
		} else {
			l.codes.folded[folded] = i
		}
	}
	return l
}

// Find returns the code of the list that text means: the same text, ignoring letter case and space.
func (l *List) Find(text string) (code string, ok bool) {
	m := l.Look(text, nil, 0)
	if m.Entry == nil {
		return "", false
	}
	return m.Entry.Code, true
}

// nearestKept is how many misses a list remembers.
const nearestKept = 10_000

// Nearest returns the entry whose code or name is closest to text; false if none is close enough to be suggested.
func (l *List) Nearest(text string) (Entry, bool) {
	l.mu.Lock()
	best, known := l.nearest[text]
	l.mu.Unlock()
	if !known {
		best = -1
		want := Fold(text)
		least := limit(want) + 1
		l.wordsOf("").near(want, limit(want), func(i, d int) int {
			if d < least || d == least && i < best { // the first in the list
				least, best = d, i
			}
			return least
		})
		l.mu.Lock()
		if len(l.nearest) < nearestKept {
			l.nearest[text] = best
		}
		l.mu.Unlock()
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
	pairs  []Pair
	ours   map[string]string // theirs -> ours
	back   *List             // of ours
	first  map[string]string // ours -> theirs, the first
}

// NewCrosswalk makes a crosswalk of its pairs.
func NewCrosswalk(pairs []Pair) *Crosswalk {
	c := &Crosswalk{pairs: pairs, ours: make(map[string]string, len(pairs)), first: make(map[string]string, len(pairs))}
	theirs, ours := make([]Entry, len(pairs)), make([]Entry, len(pairs))
	for i, p := range pairs {
		theirs[i], ours[i] = Entry{Code: p.Theirs}, Entry{Code: p.Ours}
		c.ours[p.Theirs] = p.Ours
		if _, known := c.first[p.Ours]; !known {
			c.first[p.Ours] = p.Theirs
		}
	}
	c.theirs, c.back = New(theirs), New(ours)
	return c
}

// Ours returns our code for the partner's; spelled says that it differs in letter case or space.
func (c *Crosswalk) Ours(theirs string) (ours string, spelled, ok bool) {
	if ours, ok = c.ours[theirs]; ok {
		return ours, false, true
	}
	m := c.theirs.Look(theirs, nil, 0)
	if m.Entry == nil {
		return "", false, false
	}
	return c.ours[m.Entry.Code], true, true
}

// Pairs are the crosswalk's rows in their order.
func (c *Crosswalk) Pairs() []Pair { return c.pairs }

// Theirs returns the partner's code for ours; of several, the first of the table.
func (c *Crosswalk) Theirs(ours string) (string, bool) {
	if theirs, ok := c.first[ours]; ok {
		return theirs, true
	}
	code, ok := c.back.Find(ours)
	return c.first[code], ok
}

// Nearest returns the partner's code that is closest to an unknown one.
func (c *Crosswalk) Nearest(theirs string) (string, bool) {
	e, ok := c.theirs.Nearest(theirs)
	return e.Code, ok
}

// Set is every list and crosswalk that a load may use, by name.
type Set struct {
	Lists      map[string]*List
	Crosswalks map[string]*Crosswalk
	Versions   map[string]int // of each, by VersionKey
}

// VersionKey identifies a list or crosswalk among versions, because both may have the same name.
func VersionKey(name string, crosswalk bool) string {
	if crosswalk {
		return "crosswalk " + name
	}
	return name
}

// Crosswalk returns the crosswalk of a name: an imported one, otherwise one that ships with Koinos, otherwise nil.
func (s *Set) Crosswalk(name string) *Crosswalk {
	if c := s.Crosswalks[name]; c != nil {
		return c
	}
	return shipped()[name]
}

// Nearest returns the word of words that is closest to word, for "did you mean".
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

// limit is how many letters may differ for two words to count as near: of numbers fewer, because any number is near to
// some.
func limit(word string) int {
	if strings.Trim(word, "0123456789") == "" {
		return min(1+len(word)/8, 2)
	}
	return min(1+len(word)/4, 4)
}

// distance counts the letters that must be changed, inserted, left out or exchanged with their neighbour to turn a into
// b. It stops at most, and returns most then.
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

// Fold brings text into the form in which headings, codes and words are compared: lower case, without outer space, and
// with single inner spaces (also for line breaks and no-break spaces).
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
