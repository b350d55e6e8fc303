package reading

import (
	"io"
	"slices"
	"strings"

	"koinos/core/finding"
	"koinos/core/list"
	"koinos/core/mapping"
	"koinos/core/origin"
	"koinos/core/source"
)

// headWithin is how many rows are searched for the heading.
const headWithin = 200

// finder looks for the heading among the first rows of a sheet, or of a form.
type finder struct {
	m     *mapping.Mapping
	sheet string
	named [][]string
	rows  []source.Record
	best  int
}

func finderOf(m *mapping.Mapping, sheet string) *finder {
	f := &finder{m: m, sheet: sheet}
	if d := &m.Document; d.HeadFind != nil {
		for _, w := range d.HeadFind {
			f.named = append(f.named, []string{list.Fold(w)})
		}
	} else {
		f.named = headings(m, sheet)
	}
	return f
}

// none reports whether the mapping names columns only by letter. There is no heading then, and data begins in the first
// row.
func (f *finder) none() bool {
	return f.m.Document.Headless || f.m.Document.HeadRow == 0 && len(f.named) == 0 && !hasNumbered(f.m)
}

// add takes in one more row and reports whether the heading is known now.
func (f *finder) add(rec source.Record) bool {
	f.rows = append(f.rows, rec)
	need := max(f.m.Document.HeadRows, 1)
	if len(f.rows) < need {
		return false
	}
	at := len(f.rows) - need
	if row := f.m.Document.HeadRow; row > 0 {
		return f.rows[at].Row >= row
	}
	n := f.holds(at)
	f.best = max(f.best, n)
	return n == len(f.named) && n > 0
}

// heading returns the heading that begins at a row: its texts, with those of several rows joined.
func (f *finder) heading(at int) source.Record {
	need := f.m.Document.HeadRows
	if need < 2 {
		head := f.rows[at]
		head.Cells = slices.Clone(head.Cells)
		for i := range head.Cells {
			head.Cells[i].Text = source.Trim(head.Cells[i].Text)
		}
		return head
	}
	head := source.Record{Sheet: f.sheet, Row: f.rows[at].Row}
	rows := f.rows[at:min(at+need, len(f.rows))]
	width := 0
	for i := range rows {
		width = max(width, len(rows[i].Cells))
	}
	head.Cells = make([]source.Cell, width)
	for i := range rows {
		above := ""
		for c := range width {
			text := cell(&rows[i], c+1).Text
			if text != "" {
				above = text
			} else if i+1 < len(rows) {
				// A text above several columns stands over the first of them.
				below := cell(&rows[len(rows)-1], c+1).Text
				if text = above; below == "" {
					text = ""
				}
			}
			head.Cells[c].Text = source.Trim(head.Cells[c].Text + " " + text)
		}
		head.Row = rows[i].Row
	}
	return head
}

// holds counts how many of the words stand in the heading that begins at a row.
func (f *finder) holds(at int) int {
	head := f.heading(at)
	n := 0
	for _, words := range f.named {
		if slices.ContainsFunc(head.Cells, func(c source.Cell) bool {
			return c.Text != "" && slices.Contains(words, list.Fold(c.Text))
		}) {
			n++
		}
	}
	return n
}

// again reports whether a row further down is a heading: it has all headings that are named.
func (f *finder) again(rec *source.Record) bool {
	if len(f.named) < 2 {
		return false
	}
	f.rows = append(f.rows[:0], *rec)
	return f.holds(0) == len(f.named)
}

// choose returns the index of the heading's first row, and the heading.
func (f *finder) choose() (int, source.Record, error) {
	d := &f.m.Document
	if f.none() {
		return -1, source.Record{Sheet: f.sheet}, nil
	}
	need := max(d.HeadRows, 1)
	if d.HeadRow > 0 {
		for i := range f.rows {
			switch {
			case f.rows[i].Row == d.HeadRow && i+need <= len(f.rows):
				return i, f.heading(i), nil
			case f.rows[i].Row > d.HeadRow: // the row is blank: a heading without a word
				return i - 1, source.Record{Sheet: f.sheet, Row: d.HeadRow}, nil
			}
		}
		return 0, source.Record{}, f.missing()
	}
	if f.best > 0 && (len(d.HeadFind) == 0 || f.best == len(f.named)) {
		for i := 0; i+need <= len(f.rows); i++ {
			if f.holds(i) == f.best {
				return i, f.heading(i), nil
			}
		}
	}
	if len(f.named) == 0 && hasNumbered(f.m) {
		for i := 0; i+need <= len(f.rows); i++ {
			head := f.heading(i)
			p := &plan{m: f.m, head: head}
			for _, b := range f.m.Levels[mapping.InLines] {
				for j := range b.From {
					if b.From[j].Number {
						if _, bad := p.spot(&b.From[j], b.At); bad == nil {
							return i, head, nil
						}
					}
				}
			}
		}
	}
	return 0, source.Record{}, f.missing()
}

func (f *finder) missing() error {
	at := origin.Place{Sheet: f.sheet}
	if row := f.m.Document.HeadRow; row > 0 {
		return finding.Fatal(finding.HeadingMissing, at,
			"The mapping says that row %d is the heading, but the document does not go that far.", row)
	}
	named := f.m.Document.HeadFind
	if named == nil {
		named = headingTexts(f.m, f.sheet)
	}
	bad := finding.Fatal(finding.HeadingMissing, at,
		"None of the first %d rows has the headings that the mapping names: %s.", min(headWithin, len(f.rows)),
		strings.Join(named, ", "))
	for i := range f.rows {
		var words []string
		for _, c := range f.rows[i].Cells {
			if !c.Blank() {
				words = append(words, finding.Clip(c.Text, 30))
			}
		}
		if len(words) > 1 {
			bad.Value = finding.Clip(strings.Join(words, " | "), 200)
			bad.Message += " The first row with several cells reads: " + bad.Value + "."
			break
		}
	}
	return bad
}

// findHeading reads up to the heading row of the sheet and binds the columns. It pushes back the rows behind the
// heading that it had to look at.
func (t *Table) findHeading() error {
	f := finderOf(t.m, t.sheet)
	t.finder = finderOf(t.m, t.sheet)
	for len(f.rows) < headWithin {
		rec, err := t.row()
		if err == io.EOF {
			break
		}
		if err != nil {
			return err
		}
		if rec.Sheet != t.sheet {
			t.pushed = append([]source.Record{rec}, t.pushed...)
			break
		}
		if rec.Node != nil {
			t.pushed = append([]source.Record{rec}, t.pushed...)
			return t.bind(&source.Record{Node: rec.Node, Part: rec.Part}, nil)
		}
		if f.none() && rec.Row == 0 {
			continue // the names of the columns
		}
		if f.none() {
			t.pushed = append([]source.Record{rec}, t.pushed...)
			break
		}
		if rec.Broken || rec.Hidden && t.m.Document.SkipHide || rec.Blank() && len(f.rows) == 0 {
			continue
		}
		if f.add(rec) {
			break
		}
	}
	at, head, err := f.choose()
	if err != nil {
		return err
	}
	for i := range f.rows {
		if f.rows[i].Row > head.Row {
			t.pushed = append(f.rows[i:len(f.rows):len(f.rows)], t.pushed...)
			break
		}
	}
	above, err := t.beforeFixed(f.rows[:max(at, 0):max(at, 0)])
	if err != nil {
		return err
	}
	return t.bind(&head, above)
}

// aboveFixed reports whether a row stands above a table of fixed width, where labels may be. Of other tables, rows above
// the first that counts belong to them, and are passed over.
func (t *Table) aboveFixed(rec *source.Record) bool {
	return t.m.Document.Positions != nil && rec.Row < t.m.Document.First
}

// beforeFixed adds the rows above a table of fixed width.
func (t *Table) beforeFixed(above []source.Record) ([]source.Record, error) {
	for t.m.Document.Positions != nil {
		rec, err := t.row()
		switch {
		case err == io.EOF:
			return above, nil
		case err != nil:
			return nil, err
		case !t.aboveFixed(&rec):
			t.pushed = append([]source.Record{rec}, t.pushed...)
			return above, nil
		case !rec.Blank() && !rec.Broken && len(above) < headWithin:
			above = append(above, rec)
		}
	}
	return above, nil
}
