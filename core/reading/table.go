package reading

import (
	"context"
	"io"
	"iter"
	"slices"

	"koinos/core/finding"
	"koinos/core/intent"
	"koinos/core/list"
	"koinos/core/mapping"
	"koinos/core/origin"
	"koinos/core/source"
)

// Row is a record with what the mapping knows about it.
type Row struct {
	source.Record
	plan *plan
	kind string // by rowkind: header, line, party, charge or note
	word string // by rowkind: the partner's word for it, folded
}

// Group is the rows of one order.
type Group struct {
	Seq    int // counted from 1 over the document
	Rows   []Row
	Orphan bool // the rows stand before any order; they make none
	Broken bool // the record could not be read, or the form not be understood
	// Outcomes is asked for what earlier steps of a sequence made of the rows; nil outside of sequences.
	Outcomes Outcomes
	Long     bool // rows beyond MostRows were left out
	bad      []finding.Finding
}

// Table reads a document as the mapping says and divides it into groups.
type Table struct {
	Notes   []finding.Finding // what was found about the document as a whole
	Counts  Counts            // of the rows that were read
	Stated  []Total           // what the document states of itself
	m       *mapping.Mapping
	src     source.Reader
	decided *Evidence
	pushed  []source.Record // rows read while looking for the heading
	sheet   string
	part    int // of JSON, see source.Record
	begun   bool
	plan    *plan
	stopped bool // the rest of the sheet is behind the table's end
	now     Row  // the row that is being placed
	last    int  // last row that was not blank
	above   []above
	seq     int
	ready   []Group
	ended   bool
	broken  error  // what stopped the reading
	cond    worker // evaluates the conditions of rows

	open   *Group
	orphan *Group // rows in a row that stand before any order
	key    string
	rawKey string // the key as it was written last, and folded
	folded string
	usual  int             // rows of the order before
	form   []source.Record // whole groupings: the rows of the sheet or form being read
	gather *gather         // key anywhere, join: rows by key
	groups int
	finder *finder // of headings further down
	stated *plan   // totals that stand around its rows have been taken
}

// MostRows is how many rows one order may have.
const MostRows = 20_000

// NewTable begins to read src as the mapping says. Decided is the result of Weigh for the whole document, or nil if the
// mapping does not need it.
func NewTable(m *mapping.Mapping, src source.Reader, decided *Evidence) *Table {
	t := &Table{m: m, src: src, decided: decided}
	t.cond = worker{m: m, set: &list.Set{}, d: &intent.Intent{}, loc: &m.Document.Locale}
	t.cond.env = mapping.NewEnv(&t.cond)
	if m.Group.Anywhere || m.Group.By == "join" {
		t.gather = newGather()
	}
	return t
}

// Groups yields one group after another until the document ends, ctx ends, or it cannot be read further; that error
// comes last. If the document is wrong, the error carries findings (finding.Of).
func (t *Table) Groups(ctx context.Context) iter.Seq2[*Group, error] {
	return func(yield func(*Group, error) bool) {
		for {
			g, err := t.Next()
			if err == io.EOF {
				return
			}
			if err == nil {
				err = ctx.Err()
			}
			if err != nil {
				yield(nil, err)
				return
			}
			if !yield(&g, nil) {
				return
			}
		}
	}
}

// Offset is how much of the document has been read, from 0 to 1.
func (t *Table) Offset() float64 { return t.src.Offset() }

// Next returns the next group, or io.EOF after the last. Any other error carries findings (finding.Of) and ends the
// reading.
func (t *Table) Next() (Group, error) {
	for {
		g, err := t.next()
		if err != nil || !t.passes(&g) {
			return g, err
		}
		t.Counts.LeftOut++
	}
}

func (t *Table) next() (Group, error) {
	for len(t.ready) == 0 {
		if t.broken != nil {
			return Group{}, t.broken
		}
		if t.ended {
			g, err := t.gather.next()
			if err == nil {
				t.groups++
				return g, nil
			}
			if err != io.EOF {
				return Group{}, err
			}
			if t.groups == 0 {
				return Group{}, finding.Fatal(finding.DocumentEmpty, origin.Place{},
					"No row below the heading belongs to an order.")
			}
			return Group{}, io.EOF
		}
		if t.broken = t.advance(); t.broken != nil {
			t.breakOff()
		}
	}
	g := t.ready[0]
	t.ready = t.ready[1:]
	t.groups++
	return g, nil
}

// passes reports whether an order is skipped with all of its rows.
func (t *Table) passes(g *Group) bool {
	if t.m.LeaveOut == nil || g.Orphan || g.Broken {
		return false
	}
	return t.holds(t.m.LeaveOut, &g.Rows[0])
}

// breakOff returns what was read before the document broke off. A record is either complete or not returned. The order
// that was being read may lack rows, so it is not an order.
func (t *Table) breakOff() {
	found := finding.Of(t.broken)
	if t.m.Group.By != "path" && t.open != nil && t.gather == nil && len(found) > 0 {
		t.open.Broken = true
		f := found[0]
		f.Message = "The document breaks off within this order, of which more rows may be missing. " + f.Message
		t.open.bad = append(t.open.bad, f)
	}
	t.close()
}

func (t *Table) row() (source.Record, error) {
	if len(t.pushed) > 0 {
		rec := t.pushed[0]
		t.pushed = t.pushed[1:]
		return rec, nil
	}
	return t.src.Next()
}

// advance takes in one row.
func (t *Table) advance() error {
	rec, err := t.row()
	if err == io.EOF {
		err := t.closeSheet()
		t.closeDocument()
		t.ended = true
		return err
	}
	if err != nil {
		if rec := finding.Of(err); len(rec) > 0 && rec[0].Code == finding.TextBehind { // what stands before it is whole
			t.close()
		}
		return err
	}
	if rec.Broken {
		if t.m.Group.By == "path" {
			t.close()
		}
		t.seq++
		t.Counts.Rows++
		t.ready = append(t.ready, Group{Seq: t.seq, Broken: true, Rows: []Row{{Record: rec, plan: &plan{m: t.m}}}})
		return nil
	}
	if rec.Hidden && t.m.Document.SkipHide {
		t.last = rec.Row
		return nil
	}
	if !t.begun || rec.Sheet != t.sheet || rec.Part != t.part {
		if err := t.closeSheet(); err != nil {
			return err
		}
		t.sheet, t.part, t.stopped, t.begun, t.last = rec.Sheet, rec.Part, false, true, 0
		if !t.m.Group.Whole() || rec.Node != nil {
			t.pushed = append([]source.Record{rec}, t.pushed...)
			return t.findHeading()
		}
	}
	if t.m.Group.Whole() && rec.Node == nil {
		return t.collect(rec)
	}
	if rec.Blank() {
		return nil
	}
	if t.states(&rec) || t.stopped {
		return nil
	}
	gap := t.last > 0 && rec.Row-t.last > 1
	if b := t.m.Document.BlankRows; b > 0 && rec.Row-t.last > b {
		t.stopped = true
		return nil
	}
	if t.plan.ends(&rec) {
		t.stopped = true
		return nil
	}
	t.fillBlock(&rec)
	t.last = max(rec.Row, rec.Last)
	if t.plan.repeatsHeading(&rec) || t.plan.repeatsAbove(&rec) {
		return nil
	}
	if t.m.Document.Repeats && rec.Node == nil && t.finder.again(&rec) {
		above := t.plan.around.rows
		return t.bind(&rec, above)
	}
	t.Counts.Rows++
	t.now = Row{Record: rec, plan: t.plan}
	if !t.counts(&t.now) {
		return nil
	}
	return t.place(&t.now, gap)
}

// fillBlock adds the blank rows before rec to the block that is being read, because each counts as a row of it.
func (t *Table) fillBlock(rec *source.Record) {
	if t.m.Group.By != "count" || t.open == nil {
		return
	}
	for row := t.last + 1; row < rec.Row && len(t.open.Rows) < t.m.Group.Count; row++ {
		t.open.Rows = append(t.open.Rows, Row{Record: source.Record{Sheet: rec.Sheet, Row: row}, plan: t.plan})
	}
}

// counts reports whether the mapping uses a row of the table. What the row leaves out because it stands above is filled
// in; the rows that are not used say it for those below them, too, except for those that a condition leaves out.
func (t *Table) counts(r *Row) bool {
	d := &t.m.Document
	own := t.carry(r.plan, &r.Record)
	among := func(c [2]int) bool { return r.Row >= c[0] && r.Row <= c[1] }
	meant := !(d.First > 0 && r.Row < d.First || d.Last > 0 && r.Row > d.Last ||
		d.Chosen != nil && !slices.ContainsFunc(d.Chosen, among) || d.Asked != nil && !slices.ContainsFunc(d.Asked, among))
	if !meant && own == nil {
		return false
	}
	if d.LeaveOut != nil && t.holds(d.LeaveOut, r) || d.Keep != nil && !t.holds(d.Keep, r) {
		if meant {
			t.Counts.RowsLeftOut++
		}
		return false
	}
	t.hold(r.Row, own)
	return meant
}

// holds evaluates a condition of a row. If the evaluation fails, it adds a finding to the row.
func (t *Table) holds(x *mapping.Expr, r *Row) bool {
	return t.cond.holds(x, r.plan.reads[x], view{row: r}, "", func(err error) {
		r.Findings = append(r.Findings, finding.New(finding.ExpressionFailed, r.Place(0), "",
			"The condition at %s failed: %v.", x.At, err))
	})
}

// verdict is what a row does to the order that is being read.
type verdict int

const (
	opens     verdict = iota // it begins an order
	continues                // it belongs to the order being read, or to none
	closes                   // it ends the order and belongs to none
	passes                   // it is left out
)

// place puts a row of the table into its group; gap says whether a blank row stands before it.
func (t *Table) place(r *Row, gap bool) error {
	p := r.plan
	if p.width > 0 && len(r.Cells) > p.width && wider(&r.Record, p.width) {
		r.Findings = append(r.Findings, finding.New(finding.RowTooWide, r.Place(p.width+1),
			r.Cells[len(r.Cells)-1].Text,
			"The row has %d cells, the heading %d.", len(r.Cells), p.width))
	}
	v, key := t.judge(r, gap)
	switch {
	case v == passes:
		return nil
	case v == closes:
		t.close()
		return nil
	case v == continues && t.open != nil:
		return t.add(t.open, *r)
	case v == continues:
		if !t.isLine(r) {
			return nil // a note between the orders
		}
		if t.orphan == nil {
			t.seq++
			t.orphan = &Group{Seq: t.seq, Orphan: true}
		}
		return t.add(t.orphan, *r)
	}
	t.close()
	t.closeOrphan()
	if t.gather != nil {
		if g := t.gather.open(key); g != nil {
			t.open, t.key = g, key
			return t.add(g, *r)
		}
	}
	t.seq++
	t.open, t.key = &Group{Seq: t.seq, Rows: make([]Row, 0, t.usual)}, key
	if t.gather != nil {
		t.gather.begin(key, t.open)
	}
	return t.add(t.open, *r)
}

// judge says what a row does, by the mapping's grouping.
func (t *Table) judge(r *Row, gap bool) (verdict, string) {
	g := &t.m.Group
	switch g.By {
	case "key", "join":
		key, filled := t.keyOf(r)
		switch {
		case filled && t.open != nil && t.key == key:
			return continues, key
		case filled:
			return opens, key
		case g.Break || g.By == "join":
			t.close()
		}
		return continues, ""
	case "opener":
		if g.When != nil {
			if t.holds(g.When, r) {
				return opens, ""
			}
			return continues, ""
		}
		if _, filled := t.keyOf(r); filled {
			return opens, ""
		}
		return continues, ""
	case "gap":
		if len(g.Columns) > 0 {
			if _, filled := t.keyOf(r); !filled {
				return closes, ""
			}
		}
		if gap {
			t.close()
		}
		if t.open == nil {
			return opens, ""
		}
		return continues, ""
	case "rowkind":
		c := t.value(r, &r.plan.kind)
		r.word = list.Fold(c.Text)
		r.kind = g.Kinds[r.word]
		switch {
		case r.kind == "":
			r.Findings = append(r.Findings, finding.New(finding.RowKindUnknown, r.Place(r.plan.kind.column), c.Text,
				"Row %d is of the kind %q, which the mapping does not know.", r.Row, c.Text))
			if t.open == nil && t.orphan == nil {
				t.seq++
				t.orphan = &Group{Seq: t.seq, Orphan: true}
			}
			if t.open == nil {
				t.orphan.Rows = append(t.orphan.Rows, *r)
				return passes, ""
			}
			return continues, ""
		case r.kind == "leave-out":
			return passes, ""
		case len(g.Columns) > 0:
			key, filled := t.keyOf(r)
			if filled && (t.open == nil || key != t.key) {
				return opens, key
			}
			return continues, key
		case r.kind == "header":
			return opens, ""
		}
		return continues, ""
	case "count":
		if t.open != nil && len(t.open.Rows) < g.Count {
			return continues, ""
		}
		return opens, ""
	case "path":
		return opens, ""
	}
	if t.open == nil { // sheet, file and form of JSON: all that there is
		return opens, ""
	}
	return continues, ""
}

func (t *Table) value(r *Row, s *spot) source.Cell {
	if s.column > 0 {
		return cell(&r.Record, s.column)
	}
	if s.src == nil {
		return source.Cell{}
	}
	t.cond.view, t.cond.of = view{row: r}, ""
	c, _, _ := t.cond.find(s)
	return c
}

// keyOf returns the row's group key; false if all of its cells are blank.
func (t *Table) keyOf(r *Row) (string, bool) {
	p := r.plan
	if len(p.group) == 1 {
		// The rows of one order usually write their key in the same way.
		if text := t.value(r, &p.group[0]).Text; text != t.rawKey {
			t.rawKey, t.folded = text, t.m.Group.Key(text)
		}
		return t.folded, t.folded != ""
	}
	filled := false
	key := ""
	for i := range p.group {
		part := t.m.Group.Key(t.value(r, &p.group[i]).Text)
		filled = filled || part != ""
		key += "\x00" + part
	}
	return key, filled
}

// isLine reports whether a row that belongs to no order has a value of a line.
func (t *Table) isLine(r *Row) bool {
	if r.kind != "" {
		return r.kind != "leave-out"
	}
	t.cond.of = ""
	return t.cond.hasPart(mapping.InLines, view{row: r}) || r.plan.reps > 0 || r.plan.matrix != nil
}

func (t *Table) add(g *Group, r Row) error {
	if t.gather != nil && !g.Orphan {
		return t.gather.add(t.key, r)
	}
	if len(g.Rows) >= MostRows {
		g.Long = true
		return nil
	}
	g.Rows = append(g.Rows, r)
	return nil
}

// close ends the open group. A group whose rows are gathered by key stays open for more.
func (t *Table) close() {
	if t.open != nil && t.gather == nil {
		t.ready = append(t.ready, *t.open)
		t.usual = min(len(t.open.Rows), 64) // orders of one document are much alike
	}
	t.open, t.key = nil, ""
}

func (t *Table) closeOrphan() {
	if t.orphan != nil {
		t.ready = append(t.ready, *t.orphan)
		t.orphan = nil
	}
}

// closeSheet ends what does not continue in the next sheet.
func (t *Table) closeSheet() error {
	if t.m.Group.By != "file" {
		t.close()
	}
	t.closeOrphan()
	t.plan, t.last, t.above = nil, 0, nil
	if t.m.Group.Whole() {
		return t.settle()
	}
	return nil
}

func (t *Table) closeDocument() {
	t.close()
	t.closeOrphan()
}

func (t *Table) bind(head *source.Record, above []source.Record) error {
	p, all := bind(t.m, head, &around{above}, t.decided)
	if len(all) > 0 {
		return all
	}
	t.plan, t.last = p, head.Row
	t.note(p)
	if t.m.Document.Unknown && !p.tree {
		for i := range head.Cells {
			heading := source.Trim(head.Cells[i].Text)
			if heading == "" || p.uses(i+1) || leftOut(t.m, heading, origin.ColumnName(i+1)) {
				continue
			}
			t.noteOnce(finding.New(finding.ColumnUnknown, head.Place(i+1), heading,
				"Nothing in the mapping uses the column %q.", heading))
		}
	}
	return nil
}

func (t *Table) noteOnce(f finding.Finding) {
	if !slices.ContainsFunc(t.Notes, func(n finding.Finding) bool { return n.Code == f.Code && n.Message == f.Message }) {
		t.Notes = append(t.Notes, f)
	}
}

// note keeps what was found during binding, once for all sheets on which it is the same.
func (t *Table) note(p *plan) {
	for _, f := range append(p.notes[:len(p.notes):len(p.notes)], t.decided.notes(p)...) {
		t.noteOnce(f)
	}
}

func wider(rec *source.Record, width int) bool {
	return slices.ContainsFunc(rec.Cells[width:], func(c source.Cell) bool { return !c.Blank() })
}
