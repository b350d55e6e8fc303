package draft

import (
	"cmp"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"unicode/utf8"

	"koinos/core/finding"
	"koinos/core/origin"
	"koinos/core/partner"
	"koinos/core/x12"
)

// Hints are what somebody knows beside the samples.
type Hints struct {
	Name string // our code of the partner
	Us   string // our id in the interchanges, such as QUILLMERE
}

// Draft is a proposed partner.
type Draft struct {
	Text         string           // YAML, with the evidence of each line behind it
	Partner      *partner.Partner // what the text says
	Interchanges int
	Sets         map[string]int // how many transaction sets of each kind the samples have
}

// From reads samples, one interchange or several in each, and proposes a partner. The error is a finding where they
// hold no transaction set that Koinos exchanges, and else that of a reader.
func From(h Hints, samples ...io.Reader) (*Draft, error) {
	d := &drafter{hints: h, sets: map[string]*setSeen{}, versions: tally{}, usages: tally{}, sides: map[[2]string]int{},
		kinds: map[[3]string]int{}, groups: map[string]string{}}
	for _, r := range samples {
		if err := x12.Read(r, d.handler()); err != nil {
			return nil, err
		}
	}
	if len(d.sets) == 0 {
		f := finding.New(finding.DocumentEmpty, origin.Place{}, "",
			"The samples hold no transaction set that Koinos exchanges with partners.")
		f.Hint = "Ask the partner for interchanges with 850, 855, 856, 860, 865 or 810."
		return nil, &f
	}
	out := &Draft{Text: d.text(), Interchanges: d.interchanges, Sets: map[string]int{}}
	for id, s := range d.sets {
		out.Sets[id] = s.count
	}
	p, err := partner.Parse([]byte(out.Text))
	out.Partner = p
	return out, err
}

// tally counts how often each of some values was seen.
type tally map[string]int

// most returns the value that was seen most often, and how often.
func (t tally) most() (value string, n, of int) {
	for _, v := range slices.Sorted(maps.Keys(t)) {
		of += t[v]
		if t[v] > n {
			value, n = v, t[v]
		}
	}
	return value, n, of
}

type drafter struct {
	hints        Hints
	interchanges int
	versions     tally
	usages       tally
	sides        map[[2]string]int // how many interchanges went from one id to another, each with its qualifier
	kinds        map[[3]string]int // how many sets of a kind did
	groups       map[string]string // ids of GS02 and GS03 by those of the ISA
	first        *x12.Interchange
	lineEnds     int
	letters      letters
	hash         bool
	sets         map[string]*setSeen
}

func side(qualifier, id string) string {
	return strings.TrimSpace(qualifier) + ":" + strings.TrimSpace(id)
}

func (d *drafter) handler() x12.Handler {
	var i *x12.Interchange
	return x12.Handler{
		Interchange: func(in *x12.Interchange) error {
			d.interchanges++
			one := *in
			i = &one
			if d.first == nil {
				d.first = i
			}
			d.usages[in.Usage]++
			d.sides[[2]string{side(in.SenderQualifier, in.Sender), side(in.ReceiverQualifier, in.Receiver)}]++
			return nil
		},
		Group: func(g *x12.Group) error {
			d.versions[g.Version]++
			d.groups[side(i.SenderQualifier, i.Sender)], d.groups[side(i.ReceiverQualifier, i.Receiver)] = g.Sender, g.Receiver
			if end := i.Segment.Offset + int64(len(i.Segment.String())) + 1; g.Segment.Offset > end {
				d.lineEnds++
			}
			return nil
		},
		Checked: func(s *x12.Set, placed []x12.Placed, _ []x12.Finding) error {
			d.kinds[[3]string{s.ID, side(i.SenderQualifier, i.Sender), side(i.ReceiverQualifier, i.Receiver)}]++
			for k := range s.Segments {
				d.letters.see(&s.Segments[k], i.Delimiters)
			}
			if !exchanged(s.ID) {
				return nil
			}
			if d.sets[s.ID] == nil {
				d.sets[s.ID] = newSetSeen()
			}
			d.sets[s.ID].see(placed)
			d.hash = d.hash || d.sets[s.ID].hashed
			return nil
		},
	}
}

// exchanged reports whether Koinos exchanges sets of a kind with partners.
func exchanged(id string) bool { return slices.Contains(asked, id) || slices.Contains(told, id) }

var (
	asked = []string{"850", "860"}               // from a buyer
	told  = []string{"855", "856", "810", "865"} // from a seller
	// answers are the sets that usually go the other way.
	answers = map[string][]string{"850": {"855", "856", "810"}, "860": {"865"}, "855": {"850"}, "865": {"860"}}
)

// letters is which characters were seen.
type letters struct{ small, wide, broken bool }

const basic = "ABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789 !\"&'()*+,-./:;?="

func (l *letters) see(s *x12.Segment, d x12.Delimiters) {
	for i := 1; i <= s.Len(); i++ {
		for _, c := range s.Bytes(i) {
			switch {
			case c >= 0x80:
				l.wide = true
			case c != d.Component && c != d.Repetition && !strings.ContainsRune(basic, rune(c)):
				l.small = true
			}
		}
	}
	l.broken = l.broken || !utf8.ValidString(s.String())
}

func (l *letters) set() string {
	switch {
	case l.broken:
		return "latin-1"
	case l.wide:
		return "utf-8"
	case l.small:
		return "extended"
	}
	return "basic"
}

// who says which id is theirs and which ours, which kind of partner it is, and why.
func (d *drafter) who() (them, us, kind, why string) {
	most := 0
	for ids, n := range d.sides {
		from, to := ids[0], ids[1]
		if d.hints.Us != "" && strings.HasSuffix(from, ":"+d.hints.Us) {
			from, to = to, from
		}
		if n > most || n == most && from < them {
			them, us, most = from, to, n
		}
	}
	buys, sells := 0, 0
	for k, n := range d.kinds {
		switch theirs := k[1] == them; {
		case slices.Contains(asked, k[0]) == theirs && exchanged(k[0]):
			buys += n
		case exchanged(k[0]):
			sells += n
		}
	}
	if kind = partner.Customer; sells > buys {
		kind = partner.Supplier
	}
	if d.hints.Us == "" {
		why = "# ? unsure: the samples were taken as sent by the partner; say --us with your own id where they were not"
	}
	return them, us, kind, why
}

func (d *drafter) text() string {
	var b strings.Builder
	line := func(text, why string) {
		if why != "" && !strings.HasPrefix(why, "#") {
			why = "# " + why
		}
		b.WriteString(strings.TrimRight(fmt.Sprintf("%s   %s", text, oneLine(why)), " ") + "\n")
	}
	them, us, kind, why := d.who()
	theirQualifier, theirID, _ := strings.Cut(them, ":")
	ourQualifier, ourID, _ := strings.Cut(us, ":")
	line("koinos: "+partner.Version, "")
	if others := d.others(them, us); len(others) > 0 {
		line("# ? unsure: some samples are of others ("+strings.Join(others, ", ")+"); draft each partner from its own", "")
	}
	if d.hints.Name != "" {
		line("name: "+quoted(d.hints.Name), "")
	} else {
		line("name: "+quoted(code(theirID)), "# ? unsure: made of its id; write your own code of the partner")
	}
	line(fmt.Sprintf("about: Drafted from %s", plural(d.interchanges, "sample interchange")), "")
	line("kind: "+kind, "its samples have "+d.mix())
	id := func(qualifier, id string) string {
		s := "{qualifier: " + quoted(qualifier) + ", id: " + quoted(id)
		if g := d.groups[qualifier+":"+id]; g != "" && g != id {
			s += ", group: " + quoted(g)
		}
		return s + "}"
	}
	line("them: "+id(theirQualifier, theirID), why)
	line("us: "+id(ourQualifier, ourID), "")
	version, n, of := d.versions.most()
	line("version: "+quoted(version), fmt.Sprintf("of %d of %d groups", n, of))
	usage, n, of := d.usages.most()
	if usage == "T" {
		line("usage: T", fmt.Sprintf("%d of %d interchanges are tests; write P when you go live", n, of))
	} else {
		line("usage: "+cmp.Or(usage, "P"), fmt.Sprintf("of %d of %d interchanges", n, of))
	}
	dl := d.first.Delimiters
	marks := fmt.Sprintf("element: %s, component: %s", quoted(string(rune(dl.Element))),
		quoted(string(rune(dl.Component))))
	if dl.Repetition != 0 {
		marks += ", repetition: " + quoted(string(rune(dl.Repetition)))
	}
	line("delimiters: {"+marks+", segment: "+quoted(string(rune(dl.Segment)))+"}", "as in its first interchange")
	if d.lineEnds > 0 && dl.Segment != '\n' && dl.Segment != '\r' {
		line("line_ends: true", "")
	}
	line("characters: {set: "+d.letters.set()+"}", "as it writes itself")
	with, sure := "997", ""
	if strings.HasPrefix(version, "00501") {
		with = "999"
	}
	seen := map[string]int{}
	for k, n := range d.kinds {
		seen[k[0]] += n
	}
	switch {
	case seen["999"] > 0:
		with, sure = "999", "it sends 999 itself"
	case seen["997"] > 0:
		with, sure = "997", "it sends 997 itself"
	default:
		sure = "# ? unsure: the samples have no acknowledgement"
	}
	line("acknowledge: {with: \""+with+"\"}", sure)
	if d.hash {
		line("hash: true", "its sets have CTT02")
	}
	line("sets:", "")
	ids := slices.Sorted(maps.Keys(d.sets))
	for _, id := range ids {
		line(fmt.Sprintf("  %q: {}", id), plural(d.sets[id].count, "sample"))
	}
	for _, id := range ids {
		for _, other := range answers[id] {
			if d.sets[other] == nil {
				line(fmt.Sprintf("# %q: {send: due}", other), "? unsure: no sample; it usually goes with the "+id)
			}
		}
	}
	d.rules(line, ids)
	return b.String()
}

// rules writes what always holds as rules, and what holds sometimes as remarks, by set.
func (d *drafter) rules(line func(text, why string), ids []string) {
	began := false
	for _, id := range ids {
		named := false
		all := d.sets[id].rules()
		for _, sure := range []bool{true, false} {
			for _, r := range all {
				switch {
				case r.sure != sure:
				case sure:
					if !began {
						line("rules:", "")
						began = true
					}
					if !named {
						line(fmt.Sprintf("  %q:", id), "")
						named = true
					}
					line("    - "+r.text, r.why)
				default:
					line("    # - "+r.text, "sometimes, or too few samples: "+r.why)
				}
			}
		}
	}
}

// others are ids in the samples that are neither theirs nor ours.
func (d *drafter) others(them, us string) (all []string) {
	for ids := range d.sides {
		for _, id := range ids {
			if id != them && id != us && !slices.Contains(all, id) {
				all = append(all, id)
			}
		}
	}
	slices.Sort(all)
	return all
}

// mix says how many sets of each kind the samples have.
func (d *drafter) mix() string {
	var all []string
	for _, id := range slices.Sorted(maps.Keys(d.sets)) {
		all = append(all, fmt.Sprintf("%d of %s", d.sets[id].count, id))
	}
	return strings.Join(all, ", ")
}

func plural(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

// code makes a partner's code of an id.
func code(id string) string {
	c := strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' {
			return r
		}
		return '-'
	}, id)
	return strings.ToUpper(cmp.Or(strings.Trim(c, "-"), "PARTNER"))
}

func quoted(s string) string {
	return fmt.Sprintf("%q", s) // a form of YAML's double quotes, control characters included
}

func oneLine(s string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f || r == '\u2028' || r == '\u2029' || r == 0x85 {
			return ' '
		}
		return r
	}, s)
}
