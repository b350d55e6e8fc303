package uses

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"koinos/core/grammar"
	"koinos/core/mapping"
	"koinos/core/origin"
	"koinos/core/partner"
	"koinos/core/syncing"
	"koinos/core/system"
)

// Kind is a kind of thing with a name of its own.
type Kind string

// The kinds that can be named in texts, and those of the texts.
const (
	List      Kind = "list"
	Crosswalk Kind = "crosswalk"
	Mapping   Kind = "mapping"
	Sequence  Kind = "sequence"
	Partner   Kind = "partner"
	System    Kind = "system"
	Sync      Kind = "sync"
)

// Text is a configuration text as it is kept.
type Text struct {
	Kind    Kind   `db:"kind"`
	Name    string `db:"name"`
	Version int    `db:"version"` // 0: this kind has no versions
	Text    string `db:"text"`
}

// Use is one place where a text names something.
type Use struct {
	Kind Kind
	Name string
	At   origin.Place // the zero place: the text means it without writing it
}

// words are the words of each kind of text behind which names stand.
var words = map[Kind]map[string]Kind{
	Mapping:  {"list": List, "crosswalk": Crosswalk},
	Sequence: {"mapping": Mapping},
	Partner:  {"mapping": Mapping},
	System:   {"mapping": Mapping},
	Sync:     {"mapping": Mapping, "also": Mapping},
}

var versions = map[Kind]string{Mapping: mapping.Version, Sequence: mapping.SequenceVersion, Partner: partner.Version,
	System: system.Version, Sync: syncing.Version}

// calls are the functions of expressions that name a list or a crosswalk.
var calls = map[string]Kind{"walk": Crosswalk, "look": List}

// A call's first argument, in YAML that may itself be in quotation marks.
var call = regexp.MustCompile(`\b(walk|look)(\(\s*\\?["'])([a-z0-9][a-z0-9_-]*)(\\?["'])`)

// Of returns what a text names. A text that is not readable YAML is an error.
func Of(t Text) ([]Use, error) {
	root, bad := grammar.Read([]byte(t.Text), string(t.Kind), versions[t.Kind])
	if bad != nil {
		return nil, bad
	}
	var all []Use
	gather(root, words[t.Kind], &all)
	switch t.Kind {
	case Mapping:
		for _, m := range call.FindAllStringSubmatchIndex(t.Text, -1) {
			all = append(all, Use{calls[t.Text[m[2]:m[3]]], t.Text[m[6]:m[7]], placeOf(t.Text, m[6])})
		}
	case Partner: // a set without a mapping has one of the partner's own
		p, err := partner.Parse([]byte(t.Text))
		if err != nil {
			return nil, err
		}
		for _, set := range p.Sets {
			if !slices.ContainsFunc(all, func(u Use) bool { return u.Name == set.Mapping }) {
				all = append(all, Use{Kind: Mapping, Name: set.Mapping})
			}
		}
	}
	return all, nil
}

func gather(n *grammar.Node, words map[string]Kind, all *[]Use) {
	for _, e := range n.Entries {
		if kind := words[e.Key]; kind != "" {
			for _, v := range n.List(e.Key) {
				if v.Scalar && v.Text != "" {
					*all = append(*all, Use{kind, v.Text, v.At})
				}
			}
		}
		gather(e.Node, words, all)
	}
	for _, item := range n.Items {
		gather(item, words, all)
	}
}

func placeOf(text string, at int) origin.Place {
	before := text[:at]
	return origin.Place{Mapping: true, Row: 1 + strings.Count(before, "\n"),
		Column: 1 + utf8.RuneCountInString(before[strings.LastIndexByte(before, '\n')+1:])}
}

// Renamed returns a text in which what was called from is called to, wherever the
// text names it; comments and layout stay. changed is false where it does not
// name it. An error says where somebody has to change it by hand.
func Renamed(t Text, kind Kind, from, to string) (text string, changed bool, err error) {
	all, err := Of(t)
	if err != nil {
		return "", false, err
	}
	lines := strings.SplitAfter(t.Text, "\n")
	slices.SortFunc(all, func(a, b Use) int { // from the end, so that places hold
		return (b.At.Row-a.At.Row)<<20 + b.At.Column - a.At.Column
	})
	for i, u := range all {
		if u.Kind != kind || u.Name != from {
			continue
		}
		if i > 0 && u == all[i-1] { // an anchor's value, which two aliases give
			continue
		}
		changed = true
		if u.At.Row == 0 {
			return "", true, fmt.Errorf("the %s %s uses it without naming it; write mapping: %s there first", t.Kind, t.Name,
				from)
		}
		if !replace(lines, u.At, from, to) {
			return "", true, fmt.Errorf("the %s %s names it at %s in a way that only a person can change", t.Kind, t.Name,
				u.At)
		}
	}
	if !changed {
		return t.Text, false, nil
	}
	text = strings.Join(lines, "")
	left, err := Of(Text{t.Kind, t.Name, t.Version, text})
	if err == nil && slices.ContainsFunc(left, func(u Use) bool { return u.Kind == kind && u.Name == from }) {
		err = fmt.Errorf("the %s %s still names it", t.Kind, t.Name)
	}
	return text, true, err
}

// Called returns a text that calls itself otherwise: the name: of a mapping or sequence.
func Called(t Text, to string) (string, error) {
	root, bad := grammar.Read([]byte(t.Text), string(t.Kind), versions[t.Kind])
	if bad != nil {
		return "", bad
	}
	n := root.Get("name")
	if n == nil || !n.Scalar {
		return "", fmt.Errorf("the %s %s has no name: that could be changed", t.Kind, t.Name)
	}
	lines := strings.SplitAfter(t.Text, "\n")
	if !replace(lines, n.At, t.Name, to) {
		return "", fmt.Errorf("the name of the %s %s stands at %s in a way that only a person can change", t.Kind, t.Name,
			n.At)
	}
	return strings.Join(lines, ""), nil
}

// replace puts a name in place of the one at a place, or behind the quotation mark there.
func replace(lines []string, at origin.Place, from, to string) bool {
	line := lines[at.Row-1]
	i := grammar.Offset(line, at.Column)
	if i < len(line) && strings.IndexByte(`"'`, line[i]) >= 0 {
		i++
	}
	if !strings.HasPrefix(line[i:], from) {
		return false
	}
	lines[at.Row-1] = line[:i] + to + line[i+len(from):]
	return true
}
