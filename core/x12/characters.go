package x12

import (
	"strings"
	"unicode"

	"golang.org/x/text/unicode/norm"
)

// CharacterSets are those that a partner can ask for: the basic and the extended set of the standard (X12.6), ISO
// 8859-1, and UTF-8.
var CharacterSets = []string{"basic", "extended", "latin-1", "utf-8"}

const (
	basicSigns    = "!\"&'()*+,-./:;?= "
	extendedSigns = "%@[]_{}\\|<>~^`#$"
)

// has reports whether the partner's characters include one.
func (s *Style) has(r rune) bool {
	switch {
	case r < ' ' || r == 0x7f:
		return false
	case r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || strings.ContainsRune(basicSigns, r):
		return true
	case s.Characters == "basic":
		return false
	case r >= 'a' && r <= 'z' || strings.ContainsRune(extendedSigns, r):
		return true
	case s.Characters == "latin-1":
		return r >= 0xa0 && r <= 0xff
	case s.Characters == "utf-8":
		return r >= 0xa0
	}
	return false
}

func (s *Style) isDelimiter(r rune) bool {
	d := s.Delimiters
	return r == rune(d.Element) || r == rune(d.Component) || r == rune(d.Segment) || d.Repetition != 0 &&
		r == rune(d.Repetition)
}

// spelled are letters that cannot be decomposed into a plain one and a mark.
var spelled = map[rune]string{
	'ß': "ss", 'æ': "ae", 'Æ': "AE", 'œ': "oe", 'Œ': "OE", 'ø': "o", 'Ø': "O", 'đ': "d", 'Đ': "D", 'ł': "l", 'Ł': "L",
	'þ': "th", 'Þ': "Th", 'ð': "d", 'ı': "i",
	'–': "-", '—': "-", '‘': "'", '’': "'", '“': "\"", '”': "\"", '„': "\"", '…': "...", '€': "EUR", '£': "GBP",
	'×': "x", '°': " deg", '½': "1/2", '¼': "1/4", '•': "-",
}

// plain returns a text in the partner's characters and without its delimiters. refused is the first character that can
// be written neither as it is nor as its nearest.
func (s *Style) plain(text string) (plain string, changed bool, refused string) {
	ok := true
	for _, r := range text {
		if !s.has(r) || s.isDelimiter(r) {
			ok = false
			break
		}
	}
	if ok && strings.TrimSpace(text) == text {
		return text, false, ""
	}
	var b strings.Builder
	put := func(r rune) bool {
		if !s.has(r) && s.has(unicode.ToUpper(r)) {
			r = unicode.ToUpper(r)
		}
		switch {
		case s.isDelimiter(r) && s.Delimiter == "refuse":
			return false
		case s.isDelimiter(r):
			b.WriteByte(' ')
		case s.has(r):
			b.WriteRune(r)
		default:
			return false
		}
		return true
	}
	for _, r := range text {
		switch {
		case s.has(r) && !s.isDelimiter(r):
			b.WriteRune(r)
			continue
		case unicode.IsSpace(r) || r < ' ':
			b.WriteByte(' ')
			continue
		case s.isDelimiter(r):
			if !put(r) {
				return b.String(), true, string(r)
			}
			continue
		case unicode.IsLower(r) && s.has(unicode.ToUpper(r)):
			put(r) // the basic set has capitals only; that is no loss
			continue
		case s.Others == "refuse":
			return b.String(), true, string(r)
		}
		as, known := spelled[r]
		if !known {
			as = strings.Map(func(r rune) rune {
				if unicode.Is(unicode.Mn, r) {
					return -1
				}
				return r
			}, norm.NFKD.String(string(r)))
		}
		for _, c := range as {
			if !put(c) {
				return b.String(), true, string(r)
			}
		}
	}
	plain = strings.TrimSpace(b.String())
	return plain, !strings.EqualFold(plain, strings.TrimSpace(text)), ""
}
