package rewriting

import (
	"bytes"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// plainStyles is the smallest possible styles part (ECMA-376 part 1, 18.8).
const plainStyles = `<?xml version="1.0" encoding="UTF-8" standalone="yes"?>
<styleSheet xmlns="` + mainNamespace + `"><fonts count="1"><font><sz val="11"/><name val="Calibri"/></font>` +
	`</fonts><fills count="2"><fill><patternFill patternType="none"/></fill><fill><patternFill ` +
	`patternType="gray125"/></fill></fills><borders count="1"><border><left/><right/><top/><bottom/><diagonal/>` +
	`</border></borders><cellStyleXfs count="1"><xf numFmtId="0" fontId="0" fillId="0" borderId="0"/>` +
	`</cellStyleXfs><cellXfs count="1"><xf numFmtId="0" fontId="0" fillId="0" borderId="0" xfId="0"/></cellXfs>` +
	`<cellStyles count="1"><cellStyle name="Normal" xfId="0" builtinId="0"/></cellStyles></styleSheet>`

// styles is the styles part of a workbook, to which styles are added.
type styles struct {
	name     string // of the part
	text     []byte
	prefix   string
	sections map[string]*styleSection
	xfs      [][]byte // of cellXfs, as they stand there and as they were added
	looks    map[Look]int
	fills    map[fillOf]int
	typeface string // size and name of the first font
}

type fillOf struct {
	style int
	fill  string
}

// styleSection is one of the lists of styles.
type styleSection struct {
	begin, inner, end int // of its tag, of what stands in it, of its end tag
	count             int
	more              []byte // what it gets
}

var (
	aFont = regexp.MustCompile(`(?s)<(?:\w+:)?font(?:\s[^>]*)?>.*?</(?:\w+:)?font>`)
	aSize = regexp.MustCompile(`<(?:\w+:)?sz\s[^>]*?/>`)
	aName = regexp.MustCompile(`<(?:\w+:)?name\s[^>]*?/>`)
	anXF  = regexp.MustCompile(`(?s)<(?:\w+:)?xf(?:\s[^>]*?)?(?:/>|>.*?</(?:\w+:)?xf>)`)
	items = map[string]*regexp.Regexp{"fonts": regexp.MustCompile(`<(?:\w+:)?font[\s>/]`),
		"fills":   regexp.MustCompile(`<(?:\w+:)?fill[\s>/]`),
		"borders": regexp.MustCompile(`<(?:\w+:)?border[\s>/]`), "cellXfs": regexp.MustCompile(`<(?:\w+:)?xf[\s>/]`)}
	aCount = regexp.MustCompile(`\scount\s*=\s*("\d*"|'\d*')`)
)

// readStyles reads the styles of a workbook, or makes some if it has none.
func (x *rewriter) readStyles() (*styles, error) {
	s := &styles{name: "xl/styles.xml", text: []byte(plainStyles), sections: map[string]*styleSection{},
		looks: map[Look]int{},
		fills: map[fillOf]int{}}
	if f := x.b.Styles; f != nil {
		text, err := x.read(f)
		if err != nil {
			return nil, err
		}
		s.name, s.text = f.Name, text
		x.done[f] = true
	} else {
		x.types = append(x.types, override(s.name, "spreadsheetml.styles+xml"))
		x.links = append(x.links, relationship("rIdKoinosStyles", "styles", "/"+s.name))
	}
	if m := regexp.MustCompile(`<(\w+:)?styleSheet[\s>]`).FindSubmatch(s.text); m != nil {
		s.prefix = string(m[1])
	}
	tagOf := func(name string) []int {
		return regexp.MustCompile(`<(?:\w+:)?` + name + `(?:\s[^>]*)?>`).FindIndex(s.text)
	}
	for i, name := range inOrder {
		if tag := tagOf(name); items[name] != nil && (tag == nil || s.text[tag[1]-2] == '/') {
			s.text = s.without(tag, name, inOrder[i+1:])
		}
	}
	for name, item := range items {
		tag := tagOf(name)
		if tag == nil {
			return s, nil // no styles at all, whatever it is: what is put in looks plain
		}
		end := regexp.MustCompile(`</(?:\w+:)?` + name + `\s*>`).FindIndex(s.text[tag[1]:])
		if end == nil {
			return s, nil
		}
		section := &styleSection{begin: tag[0], inner: tag[1], end: tag[1] + end[0]}
		section.count = len(item.FindAllIndex(s.text[section.inner:section.end], -1))
		s.sections[name] = section
	}
	cells := s.sections["cellXfs"]
	s.xfs = anXF.FindAll(s.text[cells.inner:cells.end], -1)
	cells.count = len(s.xfs)
	fonts := s.sections["fonts"]
	font := aFont.Find(s.text[fonts.inner:fonts.end])
	s.typeface = string(aSize.Find(font)) + string(aName.Find(font))
	if s.typeface == "" {
		s.typeface = fmt.Sprintf(`<%[1]ssz val="11"/><%[1]sname val="Calibri"/>`, s.prefix)
	}
	return s, nil
}

// inOrder is the order of the elements of the styles (ECMA-376 part 1, 18.8.39), as far as some are added.
var inOrder = []string{"fonts", "fills", "borders", "cellStyleXfs", "cellXfs", "cellStyles", "dxfs", "tableStyles"}

// leasts are the minimal lists of styles for a workbook that has none.
var leasts = map[string]string{"fonts": "<font/>", "fills": `<fill><patternFill patternType="none"/></fill>` +
	`<fill><patternFill patternType="gray125"/></fill>`, "borders": "<border/>", "cellXfs": "<xf/>"}

// without returns the styles with a minimal section in place of one that is missing or empty, in front of those that
// follow it.
func (s *styles) without(tag []int, name string, behind []string) []byte {
	section := strings.NewReplacer("</", "</"+s.prefix, "<", "<"+s.prefix).Replace("<" + name + ">" + leasts[name] +
		"</" + name + ">")
	if tag != nil {
		return slices.Concat(s.text[:tag[0]], []byte(section), s.text[tag[1]:])
	}
	next := regexp.MustCompile(`<(?:\w+:)?(?:` + strings.Join(behind, "|") +
		`|colors|extLst)[\s>/]|</(?:\w+:)?styleSheet>`)
	if at := next.FindIndex(s.text); at != nil {
		return slices.Concat(s.text[:at[0]], []byte(section), s.text[at[0]:])
	}
	return s.text
}

// whole reports whether styles can be added.
func (s *styles) whole() bool { return len(s.sections) == len(items) && len(s.xfs) > 0 }

// add adds to a section, and returns the number of what was added.
func (s *styles) add(section, text string) int {
	c := s.sections[section]
	c.more = append(c.more, strings.NewReplacer("</", "</"+s.prefix, "<", "<"+s.prefix).Replace(text)...)
	c.count++
	return c.count - 1
}

// look is the style of a text that is put into a cell.
func (s *styles) look(l Look) int {
	if !s.whole() {
		return 0
	}
	id, known := s.looks[l]
	if known {
		return id
	}
	bold, color := map[bool]string{true: "<b/>"}[l.Bold], ""
	if l.Color != "" {
		color = `<color rgb="FF` + l.Color + `"/>`
	}
	size, name := aSize.FindString(s.typeface), aName.FindString(s.typeface)
	plain := func(text string) string { return strings.ReplaceAll(text, "<"+s.prefix, "<") } // add gives the prefix
	font, border := s.add("fonts", "<font>"+bold+plain(size)+color+plain(name)+"</font>"), 0
	if l.Line != "" {
		border = s.add("borders", `<border><left/><right/><top/><bottom style="thin"><color rgb="FF`+l.Line+
			`"/></bottom><diagonal/></border>`)
	}
	id = s.xf(fmt.Sprintf(`<xf numFmtId="0" fontId="%d" fillId="0" borderId="%d" xfId="0" applyFont="1" `+
		`applyBorder="1" applyAlignment="1">`+
		`<alignment horizontal="left" vertical="bottom" indent="1"/></xf>`, font, border))
	s.looks[l] = id
	return id
}

// filled is a style with another background.
func (s *styles) filled(style int, rgb string) int {
	if !s.whole() {
		return style
	}
	if style >= len(s.xfs) { // the cell names a style that the workbook does not have
		style = 0
	}
	k := fillOf{style, rgb}
	id, known := s.fills[k]
	if known {
		return id
	}
	fill, known := s.fills[fillOf{-1, rgb}]
	if !known {
		fill = s.add("fills", `<fill><patternFill patternType="solid"><fgColor rgb="FF`+rgb+
			`"/><bgColor indexed="64"/></patternFill></fill>`)
		s.fills[fillOf{-1, rgb}] = fill
	}
	was := s.xfs[style]
	end := bytes.IndexByte(was, '>')
	tag := setAttr(setAttr(was[1:end:end], "fillId", strconv.Itoa(fill)), "applyFill", "1")
	text := append(append([]byte{'<'}, tag...), was[end:]...)
	cells := s.sections["cellXfs"]
	cells.more = append(cells.more, text...)
	s.xfs = append(s.xfs, text)
	cells.count++
	s.fills[k] = cells.count - 1
	return cells.count - 1
}

// xf adds a style of cells.
func (s *styles) xf(text string) int {
	at := len(s.sections["cellXfs"].more)
	id := s.add("cellXfs", text)
	s.xfs = append(s.xfs, s.sections["cellXfs"].more[at:])
	return id
}

// writeStyles writes the styles with those that were added.
func (x *rewriter) writeStyles() error {
	s := x.styles
	var out bytes.Buffer
	from := 0
	for _, c := range slices.SortedFunc(maps.Values(s.sections),
		func(a, b *styleSection) int { return a.begin - b.begin }) {
		if len(c.more) == 0 {
			continue
		}
		out.Write(s.text[from:c.begin])
		out.Write(aCount.ReplaceAll(s.text[c.begin:c.inner], fmt.Appendf(nil, ` count="%d"`, c.count)))
		out.Write(s.text[c.inner:c.end])
		out.Write(c.more)
		from = c.end
	}
	out.Write(s.text[from:])
	return x.put(s.name, out.Bytes())
}
