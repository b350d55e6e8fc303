package reading

import (
	"slices"
	"strconv"
	"strings"
	"sync"
	"unicode"

	"koinos/core/finding"
	"koinos/core/list"
	"koinos/core/mapping"
	"koinos/core/origin"
	"koinos/core/source"
	"koinos/core/x12"
)

// plan is a mapping bound to the columns of one heading row, or to JSON.
type plan struct {
	m       *mapping.Mapping
	tree    bool // records are JSON values
	head    source.Record
	width   int // cells of the heading; 0 where there is none
	group   []spot
	carried []int // columns that are written only where they change; 0 where the sheet has no such column
	kind    spot  // rowkind: the column that says what a row is
	bound   [5][]bound
	totals  []bound
	kindBy  spot
	marks   [5][]spot // what a filled value of makes a row a line, a party, a charge
	reads   map[*mapping.Expr][]spot
	reps    int   // numbered: how many times lines stand across a row
	matrix  []int // matrix: its columns
	cells   []int // cells: the columns whose cells hold a value for each line
	notes   []finding.Finding
	columns map[string]int    // of the lines' fields that stand in one column
	paths   map[string]string // JSON: pointers of the lines' fields from their record
	around  *around
	apart   []*x12.Address // X12: where deliveries stand within a line
	under   []string       // and the segments directly within it, in one of which they stand
	asked   sync.Pool      // of *asked
}

// around is what stands above, or around, the table of a sheet.
type around struct{ rows []source.Record }

// spot is a Source bound to a plan: where to look for its value.
type spot struct {
	src     *mapping.Source
	column  int   // counted from 1; 0 where the plan has none
	columns []int // numbered: the column of each repetition
	pointer string
	static  bool            // JSON: pointer is always the same from the record
	many    bool            // JSON: it can lead to several values
	piece   bool            // the cell holds a value for each line
	none    *mapping.Locale // whose words mean that there is none; nil has no such words
}

// is reports whether a cell has a value.
func (s *spot) is(c source.Cell) bool {
	return (c.Text != "" || c.Kind == source.Unkept) && (s.none == nil || !s.none.None(c.Text))
}

// bound is a binding bound to a plan.
type bound struct {
	*mapping.Binding
	spots  []spot
	reads  []spot // of expr
	cond   []spot // of when
	loc    *mapping.Locale
	column int    // where the value can only be one column's cell; else 0
	own    *bound // of what the mapping itself says: written plainly, 1.5 and 2026-03-14
	fixed  bool   // there is nothing else than the value that the mapping says
	// X12: the segments directly within the line, or the set, in one of which its value stands; nil is wherever
	under []string
}

// within returns the segments of X12 in one of which the value of a binding must stand, or nil if it may stand
// elsewhere.
func (b *bound) within() (under []string) {
	if b.Of != "" || b.When != nil || len(b.reads) > 0 || b.Result.Step != "" || len(b.spots) == 0 {
		return nil
	}
	for i := range b.spots {
		a, ok := b.spots[i].src.Path.(*x12.Address)
		if !ok || len(a.Way()) == 0 || a.Way()[0] == "HL" || b.spots[i].src.Outside { // HL stand within each other
			return nil
		}
		under = append(under, a.Way()[0])
	}
	return under
}

// bind finds every column of the mapping in the heading and reports all missing columns together. Of the sheets of a
// join, one binds the header and one the rest.
func bind(m *mapping.Mapping, head *source.Record, around *around, decided *Evidence) (*plan, finding.All) {
	p := &plan{m: m, head: *head, tree: head.Node != nil, around: around, reads: map[*mapping.Expr][]spot{}}
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
	group, levels := m.Group.Columns, []int{mapping.InHeader, mapping.InLines, mapping.InParties, mapping.InCharges,
		mapping.InDeliveries}
	if m.Group.By == "join" {
		group, levels = m.Group.Lines.Columns, levels[1:]
		if m.Group.Heads(head.Sheet, head.Part) {
			group, levels = m.Group.Headers.Columns, []int{mapping.InHeader}
		}
	}
	for i := range group {
		s, f := p.spot(&group[i], m.Group.At)
		miss(f)
		p.group = append(p.group, s)
	}
	for i := range m.Document.Carried {
		s, f := p.spot(&m.Document.Carried[i], m.Group.At)
		miss(f)
		p.carried = append(p.carried, s.column)
	}
	if m.Group.Kind != nil {
		var f *finding.Finding
		p.kind, f = p.spot(m.Group.Kind, m.Group.At)
		miss(f)
	}
	for _, level := range levels {
		for i := range m.Levels[level] {
			b := p.bindOne(&m.Levels[level][i], decided, &all)
			p.bound[level] = append(p.bound[level], b)
		}
	}
	p.deliveries(m.Parts[mapping.InDeliveries])
	if m.KindBy != nil {
		var f *finding.Finding
		p.kindBy, f = p.spot(&m.KindBy.Source, m.Group.At)
		miss(f)
	}
	if t := m.Document.Totals; t != nil {
		for i := range t.Values {
			p.totals = append(p.totals, p.bindOne(&t.Values[i], decided, &all))
		}
	}
	for _, x := range conditions(m) {
		for i := range x.Reads {
			s, f := p.spot(&x.Reads[i], x.At)
			miss(f)
			p.reads[x] = append(p.reads[x], s)
		}
	}
	if part := m.Parts[mapping.InLines]; part != nil && len(p.bound[mapping.InLines]) > 0 {
		switch part.Across {
		case "matrix":
			p.matrix = columnsOf(part, p, &all)
		case "cells":
			p.cells = columnsOf(part, p, &all)
			p.divide()
		}
	}
	for level := mapping.InLines; level <= mapping.InCharges; level++ {
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

// conditions are the expressions that are evaluated for rows, not for bindings.
func conditions(m *mapping.Mapping) []*mapping.Expr {
	var all []*mapping.Expr
	add := func(x *mapping.Expr) {
		if x != nil {
			all = append(all, x)
		}
	}
	add(m.Document.LeaveOut)
	add(m.Document.Keep)
	add(m.LeaveOut)
	if m.Document.Totals != nil {
		add(m.Document.Totals.When)
	}
	add(m.Group.When)
	for _, part := range m.Parts {
		if part != nil {
			add(part.When)
		}
	}
	return all
}

func (p *plan) bindOne(b *mapping.Binding, decided *Evidence, all *finding.All) bound {
	one := bound{Binding: b, loc: &b.Locale, fixed: b.Value != "" && len(b.From) == 0 && b.Expr == nil && b.When == nil &&
		b.Result.Step == ""}
	if b.Value != "" || b.Default != "" {
		own := *b
		if b.Value != "" {
			own.Crosswalk = ""
		}
		one.own = &bound{Binding: &own, loc: &mapping.Locale{DecimalSign: '.'}}
	}
	if decided != nil {
		if l := decided.locale(b); l != nil {
			one.loc = l
		}
	}
	var missing []*finding.Finding
	for i := range b.From {
		s, f := p.spot(&b.From[i], b.At)
		if f != nil {
			missing = append(missing, f)
			if f.Code == finding.ColumnMissing && len(b.From) > 1 {
				continue
			}
		}
		if b.Locale.Nones() {
			s.none = &b.Locale
		}
		one.spots = append(one.spots, s)
	}
	for _, x := range []struct {
		expr  *mapping.Expr
		spots *[]spot
	}{{b.Expr, &one.reads}, {b.When, &one.cond}} {
		if x.expr == nil {
			continue
		}
		for i := range x.expr.Reads {
			s, f := p.spot(&x.expr.Reads[i], x.expr.At)
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
			// One of several is enough: a document has one or the other.
		case f.Code == finding.ColumnMissing && b.Need != mapping.Must:
			// It may be absent, but this is always reported.
			f.Severity = finding.Warning
			p.notes = append(p.notes, *f)
		default:
			*all = append(*all, *f)
		}
	}
	if len(one.spots) == 1 && b.Expr == nil && b.When == nil && b.Of == "" && len(b.Rows) == 0 &&
		one.spots[0].columns == nil && !p.tree {
		one.column = one.spots[0].column
	}
	one.under = one.within()
	return one
}

// found reports whether the spot can have a value at all.
func (s *spot) found() bool {
	return s.column > 0 || s.columns != nil || s.src.Kind >= mapping.ByPath || s.src.Path != nil && s.static
}

// mark finds the values that tell a row with a part from one that says nothing about it.
func (p *plan) mark(level int) {
	shared := func(s *spot) bool {
		if level == mapping.InLines {
			for _, group := range p.group {
				if group.same(s) {
					return true
				}
			}
		}
		for _, h := range p.bound[mapping.InHeader] {
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
				if s.src.Kind > mapping.ByPath && s.src.Kind != mapping.ByMatrixCell || !s.found() {
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
	if level != mapping.InLines {
		return
	}
	for _, s := range p.marks[level] {
		p.reps = max(p.reps, len(s.columns))
	}
	if p.reps > 0 { // what all repetitions share tells nothing about one of them
		p.marks[level] = slices.DeleteFunc(p.marks[level], func(s spot) bool { return s.columns == nil })
	}
	if p.cells != nil {
		p.marks[level] = nil
		for _, c := range p.cells {
			p.marks[level] = append(p.marks[level], spot{src: &mapping.Source{}, column: c})
		}
	}
	if p.matrix != nil {
		p.marks[level] = slices.DeleteFunc(p.marks[level],
			func(s spot) bool { return s.src.Kind != mapping.ByMatrixCell })
	}
}

func (s *spot) same(o *spot) bool {
	return s.column > 0 && s.column == o.column || s.static && o.static && s.pointer == o.pointer
}

// trace notes where the lines' fields stand, as far as it is the same for all lines.
func (p *plan) trace() {
	p.columns, p.paths = map[string]int{}, map[string]string{}
	for _, b := range p.bound[mapping.InLines] {
		switch {
		case b.column > 0:
			p.columns[b.Field.Name] = b.column
		case p.tree && len(b.spots) == 1 && b.spots[0].static && b.Of == "":
			p.paths[b.Field.Name] = b.spots[0].pointer
		}
	}
}

// spot binds a source. If something is missing, it adds a finding.
func (p *plan) spot(src *mapping.Source, at origin.Place) (spot, *finding.Finding) {
	s := spot{src: src}
	switch src.Kind {
	case mapping.ByColumn:
		s.column = src.Column
		return s, nil
	case mapping.ByHeading:
		if p.tree {
			s.static, s.pointer = true, src.Path.Pointer()
			return s, nil
		}
	case mapping.ByPath:
		if src.Path == nil {
			return s, nil // Parse has said so
		}
		if !p.tree {
			f := finding.New(finding.ColumnMissing, p.head.Place(0), src.Text,
				"%s is a path of JSON or X12, but this document has rows of cells (%s).", src.Text, at)
			return s, &f
		}
		s.pointer = src.Path.Pointer()
		s.static = s.pointer != "" || src.Text == "$"
		s.many = src.Many()
		return s, nil
	default:
		return s, nil
	}
	if src.Number {
		return p.numbered(s, at)
	}
	var stands []int
	var words []string
	for i := range p.head.Cells {
		have := p.head.Cells[i].Text
		if have != "" {
			words = append(words, have)
			if have == src.Text || list.Fold(have) == src.Folded {
				stands = append(stands, i+1)
			}
		}
	}
	part := p.m.Parts[mapping.InLines]
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
		f := finding.New(finding.ColumnAmbiguous, p.head.Place(stands[1]), have,
			"The heading %q stands in columns %s and %s.", have, origin.ColumnName(stands[0]),
			origin.ColumnName(stands[1]))
		return s, &f
	}
	f := finding.New(finding.ColumnMissing, p.head.Place(0), src.Text, "The heading row has no column %q (%s).",
		src.Text, at)
	if near, ok := list.Nearest(src.Text, words); ok {
		f.Hint = "Did you mean \"" + near + "\"? " + f.Hint
	}
	return s, &f
}

// numbered finds the columns of a heading with {n}: sku_1, sku_2 and so on. A repetition that lacks the column has 0.
func (p *plan) numbered(s spot, at origin.Place) (spot, *finding.Finding) {
	before, behind, _ := strings.Cut(s.src.Folded, "{n}")
	for i := range p.head.Cells {
		have := list.Fold(p.head.Cells[i].Text)
		if !strings.HasPrefix(have, before) || !strings.HasSuffix(have, behind) ||
			len(have) <= len(before)+len(behind) {
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
		f := finding.New(finding.ColumnMissing, p.head.Place(0), s.src.Text,
			"The heading row has no column %q with a number for {n} (%s).", s.src.Text, at)
		return s, &f
	}
	return s, nil
}

// headings are those that the mapping names, each with its alternatives, without those that the document may lack.
func headings(m *mapping.Mapping, sheet string) (all [][]string) {
	eachHeading(m, sheet, func(_ string, words []string) { all = append(all, words) })
	return all
}

// headingTexts are the same headings, as the mapping writes them.
func headingTexts(m *mapping.Mapping, sheet string) (all []string) {
	eachHeading(m, sheet, func(text string, _ []string) { all = append(all, text) })
	return all
}

func eachHeading(m *mapping.Mapping, sheet string, yield func(text string, words []string)) {
	seen := map[string]bool{}
	name := func(sources []mapping.Source) {
		var words, texts []string
		for _, s := range sources {
			if s.Kind == mapping.ByHeading && !s.Number {
				words, texts = append(words, s.Folded), append(texts, s.Text)
			}
		}
		if len(words) > 0 && !seen[words[0]] {
			seen[words[0]] = true
			yield(strings.Join(texts, " or "), words)
		}
	}
	each := func(sources []mapping.Source) {
		for i := range sources {
			name(sources[i : i+1])
		}
	}
	levels := m.Levels[:]
	switch {
	case m.Group.By != "join":
		each(m.Group.Columns)
	case m.Group.Heads(sheet, 0):
		each(m.Group.Headers.Columns)
		levels = m.Levels[:1]
	default:
		each(m.Group.Lines.Columns)
		levels = m.Levels[1:]
	}
	if m.Group.Kind != nil {
		each([]mapping.Source{*m.Group.Kind})
	}
	for _, bindings := range levels {
		for _, b := range bindings {
			name(b.From)
			if b.Expr != nil {
				each(b.Expr.Reads)
			}
		}
	}
	if part := m.Parts[mapping.InLines]; part != nil {
		each(part.Matrix)
	}
}

// hasNumbered reports whether the mapping asks for a heading with {n}.
func hasNumbered(m *mapping.Mapping) bool {
	for _, b := range m.Levels[mapping.InLines] {
		if slices.ContainsFunc(b.From, func(s mapping.Source) bool { return s.Number }) {
			return true
		}
	}
	return false
}

// cell returns the trimmed cell of a column counted from 1.
func cell(rec *source.Record, column int) source.Cell {
	if column < 1 || column > len(rec.Cells) {
		return source.Cell{}
	}
	c := rec.Cells[column-1]
	c.Text = source.Trim(c.Text)
	return c
}

// ends reports whether the row is the one behind the table's end.
func (p *plan) ends(rec *source.Record) bool {
	if len(p.m.Document.UntilText) == 0 {
		return false
	}
	text := firstText(rec)
	return text != "" && slices.ContainsFunc(p.m.Document.UntilText,
		func(pattern string) bool { return mapping.Match(pattern, text) })
}

// firstText is the text of a row's first filled cell.
func firstText(rec *source.Record) string {
	for i := range rec.Cells {
		if text := source.Trim(rec.Cells[i].Text); text != "" {
			return text
		}
	}
	return ""
}

// repeatsAbove reports whether the row begins like one above the heading, ignoring digits. The head of a further page
// does so if the mapping says that it repeats.
func (p *plan) repeatsAbove(rec *source.Record) bool {
	if !p.m.Document.Repeats || p.around == nil {
		return false
	}
	text := withoutDigits(firstText(rec))
	return text != "" && slices.ContainsFunc(p.around.rows,
		func(above source.Record) bool { return withoutDigits(firstText(&above)) == text })
}

func withoutDigits(s string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsDigit(r) {
			return -1
		}
		return r
	}, list.Fold(s))
}

// repeatsHeading reports whether the row is the heading again, as on every page of a printed sheet.
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
		if t := rec.Cells[i].Text; t == "" || t[0] > ' ' && t[0] < 0x80 && head[0] > ' ' && head[0] < 0x80 &&
			t[0]|0x20 != head[0]|0x20 {
			return false // told apart by its first letter, as nearly every row is
		}
		if rec.Cells[i].Text != head && list.Fold(rec.Cells[i].Text) != list.Fold(head) {
			return false
		}
		same++
	}
	return same > 1
}
