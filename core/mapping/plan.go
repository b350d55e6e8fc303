package mapping

import (
	"slices"
	"strconv"
	"strings"

	"koinos/core/finding"
	"koinos/core/list"
	"koinos/core/origin"
	"koinos/core/source"
)

// plan is a mapping bound to the columns of one heading row, or to JSON.
type plan struct {
	m       *Mapping
	tree    bool // records are JSON values
	head    source.Record
	width   int // cells of the heading; 0 where there is none
	group   []spot
	kind    spot // rowkind: the column that says what a row is
	bound   [4][]bound
	marks   [4][]spot // what a filled value of makes a row a line, a party, a charge
	reads   map[*Expr][]spot
	reps    int   // numbered: how many times lines stand across a row
	matrix  []int // matrix: its columns
	notes   []finding.Finding
	columns map[string]int    // of the lines' fields that stand in one column
	paths   map[string]string // JSON: pointers of the lines' fields from their record
	around  *around
}

// around is what stands above, or around, the table of a sheet.
type around struct{ rows []source.Record }

// spot is a Source bound to a plan: where to look for its value.
type spot struct {
	src     *Source
	column  int   // counted from 1; 0 where the plan has none
	columns []int // numbered: the column of each repetition
	pointer string
	static  bool // JSON: pointer is always the same from the record
}

// bound is a binding bound to a plan.
type bound struct {
	*Binding
	spots  []spot
	reads  []spot // of expr
	cond   []spot // of when
	loc    *locale
	column int // where the value can only be one column's cell; else 0
}

// bind looks every column of the mapping up in the heading and says all that
// is not there at once. Of a join's sheets one binds the header, one the rest.
func (m *Mapping) bind(head *source.Record, around *around, decided *Evidence) (*plan, finding.All) {
	p := &plan{m: m, head: *head, tree: head.Node != nil, around: around, reads: map[*Expr][]spot{}}
	for i, c := range head.Cells {
		if c.Text != "" {
			p.width = i + 1
		}
	}
	var all finding.All
	miss := func(f *finding.Finding) {
		if f != nil {
			all = append(all, *f)
		}
	}
	group, levels := m.Group.Columns, []int{inHeader, inLines, inParties, inCharges}
	if m.Group.By == "join" {
		group, levels = m.Group.Lines.Columns, levels[1:]
		if isSheet(m.Group.Headers.Sheet, 0, head.Sheet) {
			group, levels = m.Group.Headers.Columns, []int{inHeader}
		}
	}
	for i := range group {
		s, f := p.spot(&group[i], m.Group.at)
		miss(f)
		p.group = append(p.group, s)
	}
	if m.Group.Kind != nil {
		var f *finding.Finding
		p.kind, f = p.spot(m.Group.Kind, m.Group.at)
		miss(f)
	}
	for _, level := range levels {
		for i := range m.levels[level] {
			b := p.bindOne(&m.levels[level][i], decided, &all)
			p.bound[level] = append(p.bound[level], b)
		}
	}
	for _, x := range m.conditions() {
		for i := range x.reads {
			s, f := p.spot(&x.reads[i], x.at)
			miss(f)
			p.reads[x] = append(p.reads[x], s)
		}
	}
	if part := m.parts[inLines]; part != nil && part.Across == "matrix" && len(p.bound[inLines]) > 0 {
		p.matrix = part.columns(p, &all)
	}
	for level := inLines; level <= inCharges; level++ {
		p.mark(level)
	}
	p.trace()
	if len(all) > 0 && !p.tree { // said once, not for every column
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

// conditions are the expressions that are asked of rows, not of bindings.
func (m *Mapping) conditions() []*Expr {
	var all []*Expr
	add := func(x *Expr) {
		if x != nil {
			all = append(all, x)
		}
	}
	add(m.Document.LeaveOut)
	add(m.Document.Keep)
	add(m.Group.When)
	for _, part := range m.parts {
		if part != nil {
			add(part.When)
		}
	}
	return all
}

func (p *plan) bindOne(b *Binding, decided *Evidence, all *finding.All) bound {
	one := bound{Binding: b, loc: &b.locale}
	if decided != nil {
		if l := decided.locale(b); l != nil {
			one.loc = l
		}
	}
	var missing []*finding.Finding
	for i := range b.From {
		s, f := p.spot(&b.From[i], b.at)
		if f != nil {
			missing = append(missing, f)
			if f.Code == finding.ColumnMissing && len(b.From) > 1 {
				continue
			}
		}
		one.spots = append(one.spots, s)
	}
	for _, x := range []struct {
		expr  *Expr
		spots *[]spot
	}{{b.Expr, &one.reads}, {b.When, &one.cond}} {
		if x.expr == nil {
			continue
		}
		for i := range x.expr.reads {
			s, f := p.spot(&x.expr.reads[i], x.expr.at)
			if f != nil {
				missing = append(missing, f)
			}
			*x.spots = append(*x.spots, s)
		}
	}
	usable := slices.ContainsFunc(one.spots, func(s spot) bool { return s.found() })
	for _, f := range missing {
		f.Field = b.Field.Name
		switch {
		case f.Code == finding.ColumnMissing && len(b.From) > 1 && usable:
			// One of several is enough; a document has one or the other.
		case f.Code == finding.ColumnMissing && b.Need != Must:
			// It may be absent, but never silently.
			f.Severity = finding.Warning
			p.notes = append(p.notes, *f)
		default:
			*all = append(*all, *f)
		}
	}
	if len(one.spots) == 1 && b.Expr == nil && b.When == nil && b.Of == "" && len(b.Rows) == 0 && one.spots[0].columns == nil && !p.tree {
		one.column = one.spots[0].column
	}
	return one
}

// found reports whether the spot can have a value at all.
func (s *spot) found() bool {
	return s.column > 0 || s.columns != nil || s.src.Kind >= ByPath || s.src.path != nil && s.static
}

// columns gives the matrix's columns.
func (part *Part) columns(p *plan, all *finding.All) []int {
	if part.Range[0] > 0 {
		var list []int
		for c := part.Range[0]; c <= part.Range[1] && (p.width == 0 || c <= p.width); c++ {
			list = append(list, c)
		}
		return list
	}
	var list []int
	for i := range part.Matrix {
		s, f := p.spot(&part.Matrix[i], p.m.Group.at)
		if f != nil {
			f.Severity = finding.Warning
			p.notes = append(p.notes, *f)
			continue
		}
		list = append(list, s.column)
	}
	if len(list) == 0 {
		*all = append(*all, finding.New(finding.ColumnMissing, p.head.Place(0), "", "The heading row has none of the matrix's columns."))
	}
	return list
}

// mark finds the values that tell a row of a part from one that says nothing about it.
func (p *plan) mark(level int) {
	shared := func(s *spot) bool {
		if level == inLines {
			for _, group := range p.group {
				if group.same(s) {
					return true
				}
			}
		}
		for _, h := range p.bound[inHeader] {
			for i := range h.spots {
				if h.spots[i].same(s) && h.Of == "" {
					return true
				}
			}
		}
		return false
	}
	var every []spot
	for i := range p.bound[level] {
		b := &p.bound[level][i]
		if b.Of != "" || len(b.Rows) > 0 {
			continue
		}
		for _, spots := range [][]spot{b.spots, b.reads} {
			for _, s := range spots {
				if s.src.Kind > ByPath && s.src.Kind != ByMatrixCell || !s.found() {
					continue
				}
				every = append(every, s)
				if !shared(&s) {
					p.marks[level] = append(p.marks[level], s)
				}
			}
		}
	}
	if len(p.marks[level]) == 0 { // every one of them also feeds the header
		p.marks[level] = every
	}
	if level != inLines {
		return
	}
	for _, s := range p.marks[level] {
		p.reps = max(p.reps, len(s.columns))
	}
	if p.reps > 0 { // what all repetitions share tells nothing about one of them
		p.marks[level] = slices.DeleteFunc(p.marks[level], func(s spot) bool { return s.columns == nil })
	}
	if p.matrix != nil {
		p.marks[level] = slices.DeleteFunc(p.marks[level], func(s spot) bool { return s.src.Kind != ByMatrixCell })
	}
}

func (s *spot) same(o *spot) bool {
	return s.column > 0 && s.column == o.column || s.static && o.static && s.pointer == o.pointer
}

// trace notes where the lines' fields stand, as far as it is the same for all.
func (p *plan) trace() {
	p.columns, p.paths = map[string]int{}, map[string]string{}
	for _, b := range p.bound[inLines] {
		switch {
		case b.column > 0:
			p.columns[b.Field.Name] = b.column
		case p.tree && len(b.spots) == 1 && b.spots[0].static && b.Of == "":
			p.paths[b.Field.Name] = b.spots[0].pointer
		}
	}
}

// spot binds a source. What is missing is a finding.
func (p *plan) spot(src *Source, at origin.Place) (spot, *finding.Finding) {
	s := spot{src: src}
	switch src.Kind {
	case ByColumn:
		s.column = src.Column
		return s, nil
	case ByHeading:
		if p.tree {
			s.static, s.pointer = true, src.path.Pointer()
			return s, nil
		}
	case ByPath:
		if src.path == nil {
			return s, nil // Parse has said so
		}
		if !p.tree {
			f := finding.New(finding.ColumnMissing, p.head.Place(0), src.Text, "%s is a path of JSON or X12, but this document has rows of cells (%s).", src.Text, at)
			return s, &f
		}
		s.pointer = src.path.Pointer()
		s.static = s.pointer != "" || src.Text == "$"
		return s, nil
	default:
		return s, nil
	}
	if src.number {
		return p.numbered(s, at)
	}
	var stands []int
	var words []string
	for i := range p.head.Cells {
		have := p.head.Cells[i].Text
		if have != "" {
			words = append(words, have)
			if have == src.Text || list.Fold(have) == src.fold {
				stands = append(stands, i+1)
			}
		}
	}
	part := p.m.parts[inLines]
	switch {
	case len(stands) == 1:
		s.column = stands[0]
		return s, nil
	case len(stands) > 1 && part != nil && part.Across == "numbered":
		s.columns = stands
		return s, nil
	case len(stands) > 1:
		s.column = stands[0]
		have := p.head.Cells[stands[0]-1].Text
		f := finding.New(finding.ColumnAmbiguous, p.head.Place(stands[1]), have, "The heading %q stands in columns %s and %s.", have, origin.ColumnName(stands[0]), origin.ColumnName(stands[1]))
		return s, &f
	}
	f := finding.New(finding.ColumnMissing, p.head.Place(0), src.Text, "The heading row has no column %q (%s).", src.Text, at)
	if near, ok := list.Nearest(src.Text, words); ok {
		f.Hint = "Did you mean \"" + near + "\"? " + f.Hint
	}
	return s, &f
}

// numbered finds the columns of a heading with {n}: sku_1, sku_2 and so on.
// A repetition that lacks the column has 0.
func (p *plan) numbered(s spot, at origin.Place) (spot, *finding.Finding) {
	before, behind, _ := strings.Cut(s.src.fold, "{n}")
	for i := range p.head.Cells {
		have := list.Fold(p.head.Cells[i].Text)
		if !strings.HasPrefix(have, before) || !strings.HasSuffix(have, behind) || len(have) <= len(before)+len(behind) {
			continue
		}
		n, err := strconv.Atoi(strings.TrimSpace(have[len(before) : len(have)-len(behind)]))
		if err != nil || n < 0 || n > 1000 {
			continue
		}
		for len(s.columns) < n+1 {
			s.columns = append(s.columns, 0)
		}
		s.columns[n] = i + 1
	}
	if s.columns == nil {
		f := finding.New(finding.ColumnMissing, p.head.Place(0), s.src.Text, "The heading row has no column %q with a number for {n} (%s).", s.src.Text, at)
		return s, &f
	}
	return s, nil
}

// headings are those that the mapping names, each with those that may
// stand for it, without those that the document may lack.
func (m *Mapping) headings(sheet string) (all [][]string) {
	m.eachHeading(sheet, func(_ string, words []string) { all = append(all, words) })
	return all
}

// headingTexts are the same as the mapping writes them.
func (m *Mapping) headingTexts(sheet string) (all []string) {
	m.eachHeading(sheet, func(text string, _ []string) { all = append(all, text) })
	return all
}

func (m *Mapping) eachHeading(sheet string, yield func(text string, words []string)) {
	seen := map[string]bool{}
	name := func(sources []Source) {
		var words, texts []string
		for _, s := range sources {
			if s.Kind == ByHeading && !s.number {
				words, texts = append(words, s.fold), append(texts, s.Text)
			}
		}
		if len(words) > 0 && !seen[words[0]] {
			seen[words[0]] = true
			yield(strings.Join(texts, " or "), words)
		}
	}
	each := func(sources []Source) {
		for i := range sources {
			name(sources[i : i+1])
		}
	}
	levels := m.levels[:]
	switch {
	case m.Group.By != "join":
		each(m.Group.Columns)
	case isSheet(m.Group.Headers.Sheet, 0, sheet):
		each(m.Group.Headers.Columns)
		levels = m.levels[:1]
	default:
		each(m.Group.Lines.Columns)
		levels = m.levels[1:]
	}
	if m.Group.Kind != nil {
		each([]Source{*m.Group.Kind})
	}
	for _, bindings := range levels {
		for _, b := range bindings {
			name(b.From)
			if b.Expr != nil {
				each(b.Expr.reads)
			}
		}
	}
	if part := m.parts[inLines]; part != nil {
		each(part.Matrix)
	}
}

// hasNumbered reports whether a heading with {n} is asked.
func (m *Mapping) hasNumbered() bool {
	for _, b := range m.levels[inLines] {
		if slices.ContainsFunc(b.From, func(s Source) bool { return s.number }) {
			return true
		}
	}
	return false
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

// ends reports whether the row is the one behind the table's end.
func (p *plan) ends(rec *source.Record) bool {
	if len(p.m.Document.UntilText) == 0 {
		return false
	}
	text := firstText(rec)
	return text != "" && slices.ContainsFunc(p.m.Document.UntilText, func(pattern string) bool { return match(pattern, text) })
}

// firstText is the text of a row's first filled cell.
func firstText(rec *source.Record) string {
	for i := range rec.Cells {
		if text := trim(rec.Cells[i].Text); text != "" {
			return text
		}
	}
	return ""
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
		if t := rec.Cells[i].Text; t == "" || t[0] > ' ' && t[0] < 0x80 && head[0] > ' ' && head[0] < 0x80 && t[0]|0x20 != head[0]|0x20 {
			return false // told apart by its first letter, as nearly every row is
		}
		if rec.Cells[i].Text != head && list.Fold(rec.Cells[i].Text) != list.Fold(head) {
			return false
		}
		same++
	}
	return same > 1
}
