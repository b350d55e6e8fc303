package system

import (
	"strings"

	"koinos/core/grammar"
)

// Segments are texts between separators.
type Segments struct {
	End, Element               string
	Component, Release, Quoted string // "" is none
	Told                       *Told  // nil: they are always these
}

// Told is where a file tells its separators itself: positions of characters, counted from 1; 0 means that it does not
// tell one.
type Told struct {
	Begins                           string // how such a file begins; others have the separators that are always these
	Skip                             int    // characters at the beginning that only tell them
	End, Element, Component, Release int
}

var segmenting = grammar.Group("Separators: values that have one in them are written so that it is none",
	grammar.Must("end", grammar.Some(`What ends a segment: a character, or \n`)),
	grammar.Must("element", grammar.Some("What stands between its elements")),
	grammar.May("component", grammar.Some("What stands between the components of an element")),
	grammar.May("release", grammar.Some("What takes the next character as it is")),
	grammar.May("quoted", grammar.Some("What stands around an element that has separators in it")),
	grammar.May("told", grammar.Group("Where a file tells its separators itself: the positions of the characters, counted from 1",
		grammar.May("begins", grammar.Some("How such a file begins; others have the separators above. By default all tell them")),
		grammar.May("skip", grammar.Whole("How many characters at its beginning only tell them, and are no segment")),
		grammar.May("end", grammar.Whole("What ends a segment")),
		grammar.May("element", grammar.Whole("What stands between elements")),
		grammar.May("component", grammar.Whole("What stands between components")),
		grammar.May("release", grammar.Whole("What takes the next character as it is; a space is none")))))

func (b *builder) segments(s *grammar.Node) *Segments {
	if s == nil {
		return nil
	}
	out := &Segments{}
	for word, to := range map[string]*string{"end": &out.End, "element": &out.Element, "component": &out.Component,
		"release": &out.Release, "quoted": &out.Quoted} {
		v := s.Get(word)
		if v == nil {
			continue
		}
		*to = strings.NewReplacer(`\n`, "\n", `\t`, "\t").Replace(v.Text)
		if len([]rune(*to)) != 1 {
			b.wrong(v, "%q is not one character.", v.Text)
		}
	}
	if t := s.Get("told"); t != nil {
		out.Told = &Told{t.Str("begins"), t.Number("skip"), t.Number("end"), t.Number("element"), t.Number("component"),
			t.Number("release")}
	}
	return out
}

// told returns the separators of a text that tells them, and the text without what only does that.
func (s *Segments) told(text string) (*Segments, string) {
	if s.Told == nil || !strings.HasPrefix(text, s.Told.Begins) {
		return s, text
	}
	runes := []rune(text)
	is := *s
	for at, to := range map[int]*string{s.Told.End: &is.End, s.Told.Element: &is.Element, s.Told.Component: &is.Component,
		s.Told.Release: &is.Release} {
		if at > 0 && at <= len(runes) {
			*to = string(runes[at-1])
		}
	}
	if s.Told.Release > 0 && is.Release == " " {
		is.Release = ""
	}
	return &is, string(runes[min(s.Told.Skip, len(runes)):])
}

// cut cuts a text into segments: each a list of elements, one with components is a list.
func (s *Segments) cut(text string) (all [][]any, whole bool) {
	s, text = s.told(text)
	end, element := one(s.End), one(s.Element)
	component, release, quoted := one(s.Component), one(s.Release), one(s.Quoted)
	var segment, parts []any
	var b strings.Builder
	begun, inQuotes := false, false
	finish := func() {
		v := b.String()
		b.Reset()
		if parts != nil {
			segment = append(segment, append(parts, v))
			parts = nil
			return
		}
		segment = append(segment, v)
	}
	runes := []rune(text)
	for i := 0; i < len(runes); i++ {
		c := runes[i]
		switch {
		case inQuotes && c == quoted && i+1 < len(runes) && runes[i+1] == quoted:
			b.WriteRune(c)
			i++
		case inQuotes && c == quoted:
			inQuotes = false
		case inQuotes:
			b.WriteRune(c)
		case release != 0 && c == release && i+1 < len(runes):
			i++
			b.WriteRune(runes[i])
			begun = true
		case quoted != 0 && c == quoted && b.Len() == 0:
			inQuotes, begun = true, true
		case c == '\r' && end == '\n' && i+1 < len(runes) && runes[i+1] == end:
		case c == end:
			if finish(); begun {
				all = append(all, segment)
			}
			segment, begun = nil, false
		case c == element:
			finish()
			begun = true
		case component != 0 && c == component:
			if parts == nil {
				parts = []any{}
			}
			parts = append(parts, b.String())
			b.Reset()
			begun = true
		case !begun && (c == '\n' || c == '\r' || c == ' ' || c == '\t'): // between segments
		default:
			b.WriteRune(c)
			begun = true
		}
	}
	return all, !begun && !inQuotes
}

func one(s string) rune {
	for _, c := range s {
		return c
	}
	return 0
}

// escape writes a value so that no separator in it is one; ok is false where that cannot be.
func (s *Segments) escape(v string) (text string, ok bool) {
	special := "\r\n"
	if s == nil {
		s = &Segments{}
	} else {
		special = s.End + s.Element + s.Component + s.Release + s.Quoted
	}
	switch {
	case !strings.ContainsAny(v, special):
		return v, true
	case s.Release != "":
		var b strings.Builder
		for _, c := range v {
			if strings.ContainsRune(special, c) {
				b.WriteString(s.Release)
			}
			b.WriteRune(c)
		}
		return b.String(), true
	case s.Quoted != "":
		return s.Quoted + strings.ReplaceAll(v, s.Quoted, s.Quoted+s.Quoted) + s.Quoted, true
	}
	return v[strings.IndexAny(v, special):], false
}
