package mapping

import (
	"io"
	"strings"

	"koinos/core/finding"
	"koinos/core/list"
	"koinos/core/source"
)

// Group is the rows of one order.
type Group struct {
	Seq    int // counted from 1 over the document
	Rows   []source.Record
	Orphan bool // the rows stand before any order; they make none
	Long   bool // rows beyond MostRows were left out
	plan   *plan
}

// Table reads a document as the mapping says and cuts it into groups.
type Table struct {
	Read    int               // rows read so far
	Notes   []finding.Finding // what was found about the document as a whole
	m       *Mapping
	src     source.Reader
	pushed  []source.Record // rows read while looking for the heading
	sheet   string
	plan    *plan
	stopped bool // the rest of the sheet is behind the table's end
	last    int  // last row that was not blank
	seq     int
	ready   []Group
	ended   bool

	open   *Group
	orphan *Group // rows in a row that stand before any order
	key    string
	held   []*Group          // by key, rows anywhere
	byKey  map[string]*Group // of held
	holds  int
	groups int
}

const (
	// MostRows is how many rows one order may have.
	MostRows = 50_000
	// MostHeld is how many rows are held where rows of an order may stand
	// anywhere and only the sheet's end tells that an order is whole.
	MostHeld = 200_000
	// headWithin is how many rows are looked at to find the heading.
	headWithin = 200
)

// NewTable begins to read src as the mapping says.
func NewTable(m *Mapping, src source.Reader) *Table { return &Table{m: m, src: src} }

// Offset is how much of the document has been read, from 0 to 1.
func (t *Table) Offset() float64 { return t.src.Offset() }

// Next gives the next group; io.EOF after the last. Any other error carries
// findings (finding.Of) and ends the reading.
func (t *Table) Next() (Group, error) {
	for len(t.ready) == 0 {
		if t.ended {
			if t.groups == 0 {
				return Group{}, finding.Fatal(finding.DocumentEmpty, finding.Place{}, "No row below the heading belongs to an order.")
			}
			return Group{}, io.EOF
		}
		if err := t.advance(); err != nil {
			return Group{}, err
		}
	}
	g := t.ready[0]
	t.ready = t.ready[1:]
	t.groups++
	return g, nil
}

func (t *Table) row() (source.Record, error) {
	if len(t.pushed) > 0 {
		rec := t.pushed[0]
		t.pushed = t.pushed[1:]
		return rec, nil
	}
	rec, err := t.src.Next()
	if err == nil {
		t.Read++
	}
	return rec, err
}

// advance takes one row in.
func (t *Table) advance() error {
	rec, err := t.row()
	if err == io.EOF {
		t.closeSheet()
		t.ended = true
		return nil
	}
	if err != nil {
		return err
	}
	if t.plan == nil || rec.Sheet != t.sheet {
		t.closeSheet()
		t.sheet, t.stopped = rec.Sheet, false
		t.pushed = append([]source.Record{rec}, t.pushed...)
		return t.findHeading()
	}
	if t.stopped || rec.Blank() {
		return nil
	}
	if b := t.m.Document.BlankRows; b > 0 && rec.Row-t.last > b {
		t.stopped = true
		return nil
	}
	if t.plan.ends(&rec) {
		t.stopped = true
		return nil
	}
	t.last = rec.Row
	if t.plan.repeatsHeading(&rec) {
		return nil
	}
	return t.place(rec)
}

// place puts a row of the table into its group.
func (t *Table) place(rec source.Record) error {
	p := t.plan
	if p.width > 0 && len(rec.Cells) > p.width && wider(&rec, p.width) {
		rec.Findings = append(rec.Findings, finding.New(finding.RowTooWide, rec.Place(p.width+1), rec.Cells[len(rec.Cells)-1].Text,
			"The row has %d cells, the heading %d.", len(rec.Cells), p.width))
	}
	key, filled := p.key(&rec)
	grouping := &t.m.Group
	switch {
	case !filled && t.open != nil && !(grouping.By == "key" && grouping.Break):
		return t.add(t.open, rec)
	case !filled:
		t.close()
		if !p.hasLine(&rec) {
			return nil // a note between the orders
		}
		if t.orphan != nil {
			return t.add(t.orphan, rec)
		}
		t.seq++
		t.orphan = &Group{Seq: t.seq, Orphan: true, Rows: []source.Record{rec}, plan: p}
		return nil
	case grouping.By == "key" && t.open != nil && t.key == key:
		return t.add(t.open, rec)
	}
	if grouping.Anywhere {
		if g := t.byKey[key]; g != nil {
			t.open, t.key = g, key
			return t.add(g, rec)
		}
	}
	t.close()
	t.closeOrphan()
	t.seq++
	t.open, t.key = &Group{Seq: t.seq, Rows: []source.Record{rec}, plan: p}, key
	if grouping.Anywhere {
		if t.byKey == nil {
			t.byKey = map[string]*Group{}
		}
		t.byKey[key] = t.open
		t.held = append(t.held, t.open)
		t.holds++
	}
	return nil
}

func (t *Table) add(g *Group, rec source.Record) error {
	if t.m.Group.Anywhere && !g.Orphan {
		if t.holds++; t.holds > MostHeld {
			return finding.Fatal(finding.DocumentTooLarge, rec.Place(0),
				"With rows: anywhere every order is held until the sheet ends, and this one has more than %d rows. Sort it by its key and say rows: adjacent.", MostHeld)
		}
	}
	if len(g.Rows) >= MostRows {
		g.Long = true
		return nil
	}
	g.Rows = append(g.Rows, rec)
	return nil
}

// close ends the open group; one whose rows may stand anywhere stays held.
func (t *Table) close() {
	if t.open != nil && !t.m.Group.Anywhere {
		t.ready = append(t.ready, *t.open)
	}
	t.open, t.key = nil, ""
}

func (t *Table) closeOrphan() {
	if t.orphan != nil {
		t.ready = append(t.ready, *t.orphan)
		t.orphan = nil
	}
}

func (t *Table) closeSheet() {
	t.close()
	t.closeOrphan()
	for _, g := range t.held {
		t.ready = append(t.ready, *g)
	}
	t.held, t.byKey, t.holds, t.plan, t.last = nil, nil, 0, nil, 0
}

// findHeading reads to the heading row of the sheet and binds the columns.
// Rows behind the heading that it had to look at are pushed back.
func (t *Table) findHeading() error {
	d := &t.m.Document
	named := t.m.headings()
	var head *source.Record
	best := 0
	if d.HeadRow == 0 && len(d.HeadFind) == 0 && len(named) == 0 {
		head = &source.Record{Sheet: t.sheet} // columns by letter only: data from the first row
	}
	var seen []source.Record
	for head == nil && len(seen) < headWithin || d.HeadRow > 0 && head == nil {
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
		if d.HeadRow > 0 {
			if rec.Row == d.HeadRow {
				head = &rec
			}
			continue // rows above a stated heading are never data
		}
		seen = append(seen, rec)
		if n := holds(&rec, d.HeadFind); len(d.HeadFind) > 0 && n == len(d.HeadFind) {
			head = &seen[len(seen)-1]
		} else if len(d.HeadFind) == 0 && len(named) > 0 {
			best = max(best, holds(&rec, named))
			if best == len(named) {
				head = &seen[len(seen)-1]
			}
		}
	}
	if head == nil && len(d.HeadFind) == 0 && best > 0 {
		for i := range seen {
			if holds(&seen[i], named) == best {
				head = &seen[i]
				break
			}
		}
	}
	if head == nil {
		return t.m.noHeading(t.sheet, named, seen)
	}
	for i := range seen {
		if seen[i].Row > head.Row {
			t.pushed = append(seen[i:len(seen):len(seen)], t.pushed...)
			break
		}
	}
	p, all := t.m.bind(head)
	if len(all) > 0 {
		return all
	}
	t.plan, t.last = p, head.Row
	t.Notes = append(t.Notes, p.notes...)
	return nil
}

func (m *Mapping) noHeading(sheet string, named []string, seen []source.Record) error {
	at := finding.Place{Sheet: sheet}
	switch {
	case m.Document.HeadRow > 0:
		return finding.Fatal(finding.HeadingMissing, at, "The mapping says that row %d is the heading, but the document does not go that far.", m.Document.HeadRow)
	case len(m.Document.HeadFind) > 0:
		named = m.Document.HeadFind
	}
	f := finding.Fatal(finding.HeadingMissing, at, "None of the first %d rows has the headings that the mapping names: %s.", min(headWithin, len(seen)), strings.Join(named, ", "))
	for i := range seen {
		var words []string
		for _, c := range seen[i].Cells {
			if c.Text != "" {
				words = append(words, finding.Clip(c.Text, 30))
			}
		}
		if len(words) > 1 {
			f.Value = finding.Clip(strings.Join(words, " | "), 200)
			f.Message += " The first row with several cells reads: " + f.Value + "."
			break
		}
	}
	return f
}

// holds counts how many of words stand in cells of the record.
func holds(rec *source.Record, words []string) int {
	n := 0
	for _, w := range words {
		for i := range rec.Cells {
			if list.Fold(rec.Cells[i].Text) == list.Fold(w) {
				n++
				break
			}
		}
	}
	return n
}

func wider(rec *source.Record, width int) bool {
	for _, c := range rec.Cells[width:] {
		if c.Text != "" {
			return true
		}
	}
	return false
}

// headings are the heading words that the mapping names, each once.
func (m *Mapping) headings() []string {
	var words []string
	seen := map[string]bool{}
	name := func(from string) {
		if from != "" && from[0] != '@' && !seen[list.Fold(from)] {
			seen[list.Fold(from)] = true
			words = append(words, from)
		}
	}
	for _, c := range m.Group.Columns {
		name(c)
	}
	for _, b := range m.Header {
		name(b.From)
	}
	for _, b := range m.Lines {
		name(b.From)
	}
	return words
}
