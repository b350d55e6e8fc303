package mapping

import (
	"strings"

	"koinos/core/finding"
	"koinos/core/list"
	"koinos/core/source"
)

// plan is a mapping bound to the columns of one heading row.
type plan struct {
	m       *Mapping
	head    source.Record
	width   int // cells of the heading; 0 where there is none
	group   []int
	header  []boundColumn
	lines   []boundColumn
	marks   []int // columns a filled cell of which makes a row a line
	notes   []finding.Finding
	columns map[string]int // of the lines' fields
}

type boundColumn struct {
	*Binding
	column int // counted from 1; 0 where the value is stated or the column absent
}

// bind looks every column of the mapping up in the heading and says all that
// is not there at once.
func (m *Mapping) bind(head *source.Record) (*plan, finding.All) {
	p := &plan{m: m, head: *head}
	for i, c := range head.Cells {
		if c.Text != "" {
			p.width = i + 1
		}
	}
	var all finding.All
	for _, from := range m.Group.Columns {
		column, f := m.column(head, from, m.Group.at)
		if f != nil {
			all = append(all, *f)
		}
		p.group = append(p.group, column)
	}
	bindAll := func(bindings []Binding) []boundColumn {
		var bound []boundColumn
		for i := range bindings {
			b := &bindings[i]
			column := 0
			if b.From != "" {
				var f *finding.Finding
				column, f = m.column(head, b.From, b.at)
				if f != nil {
					f.Field = b.Field.Name
					if f.Code == finding.ColumnMissing && b.Need != Must {
						// It may be absent, but never silently.
						f.Severity = finding.Warning
						p.notes = append(p.notes, *f)
					} else {
						all = append(all, *f)
					}
				}
			}
			bound = append(bound, boundColumn{b, column})
		}
		return bound
	}
	p.header, p.lines = bindAll(m.Header), bindAll(m.Lines)
	shared := map[int]bool{}
	for _, c := range p.group {
		shared[c] = true
	}
	for _, b := range p.header {
		shared[b.column] = true
	}
	for _, b := range p.lines {
		if b.column > 0 && !shared[b.column] {
			p.marks = append(p.marks, b.column)
		}
	}
	if len(p.marks) == 0 { // every line column also feeds the header
		for _, b := range p.lines {
			if b.column > 0 {
				p.marks = append(p.marks, b.column)
			}
		}
	}
	p.columns = p.columnsOf()
	if len(all) > 0 { // said once, not for every column
		var words []string
		for _, c := range head.Cells {
			if c.Text != "" {
				words = append(words, strings.Join(strings.Fields(c.Text), " "))
			}
		}
		all[0].Hint += " The headings are: " + finding.Clip(strings.Join(words, ", "), 300) + "."
	}
	return p, all
}

func (m *Mapping) column(head *source.Record, from string, at finding.Place) (int, *finding.Finding) {
	if from[0] == '@' {
		return finding.ColumnNumber(from[1:]), nil
	}
	want, found := list.Fold(from), 0
	var words []string
	for i := range head.Cells {
		have := head.Cells[i].Text
		if have != "" {
			words = append(words, have)
		}
		if list.Fold(have) != want {
			continue
		}
		if found > 0 {
			f := finding.New(finding.ColumnAmbiguous, head.Place(i+1), have, "The heading %q stands in columns %s and %s.", have, finding.ColumnName(found), finding.ColumnName(i+1))
			return found, &f
		}
		found = i + 1
	}
	if found > 0 {
		return found, nil
	}
	f := finding.New(finding.ColumnMissing, head.Place(0), from, "The heading row has no column %q (%s).", from, at)
	if near, ok := list.Nearest(from, words); ok {
		f.Hint = "Did you mean \"" + near + "\"? " + f.Hint
	}
	return 0, &f
}

// cell gives the trimmed cell of a column counted from 1.
func cell(rec *source.Record, column int) source.Cell {
	if column < 1 || column > len(rec.Cells) {
		return source.Cell{}
	}
	c := rec.Cells[column-1]
	c.Text = trim(c.Text)
	return c
}

func trim(s string) string {
	if s == "" || s[0] > ' ' && s[0] < 0x80 && s[len(s)-1] > ' ' && s[len(s)-1] < 0x80 {
		return s
	}
	return strings.TrimFunc(s, func(r rune) bool { return r <= ' ' || r == '\u00a0' || r == '\u202f' || r == '\u200b' || r == '\ufeff' })
}

// key gives the row's group key; false where all of its cells are blank.
func (p *plan) key(rec *source.Record) (string, bool) {
	if len(p.group) == 1 {
		s := list.Fold(cell(rec, p.group[0]).Text)
		return s, s != ""
	}
	filled := false
	parts := make([]string, len(p.group))
	for i, c := range p.group {
		parts[i] = list.Fold(cell(rec, c).Text)
		filled = filled || parts[i] != ""
	}
	return strings.Join(parts, "\x00"), filled
}

// hasLine reports whether the row says anything about a line.
func (p *plan) hasLine(rec *source.Record) bool {
	for _, c := range p.marks {
		if c <= len(rec.Cells) {
			if v := cell(rec, c); v.Text != "" || v.Kind == source.Unkept {
				return true
			}
		}
	}
	return false
}

// ends reports whether the row is the one behind the table's end.
func (p *plan) ends(rec *source.Record) bool {
	if len(p.m.Document.UntilText) == 0 {
		return false
	}
	for i := range rec.Cells {
		if text := trim(rec.Cells[i].Text); text != "" {
			for _, pattern := range p.m.Document.UntilText {
				if match(pattern, text) {
					return true
				}
			}
			return false
		}
	}
	return false
}

// repeatsHeading reports whether the row is the heading again, as printed
// sheets have it on every page.
func (p *plan) repeatsHeading(rec *source.Record) bool {
	same := 0
	for i := range p.head.Cells {
		if i >= len(rec.Cells) {
			break
		}
		head := p.head.Cells[i].Text
		if head == "" {
			continue
		}
		if rec.Cells[i].Text != head && list.Fold(rec.Cells[i].Text) != list.Fold(head) {
			return false
		}
		same++
	}
	return same > 1
}
