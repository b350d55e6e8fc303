package reading

import (
	"slices"
	"strings"

	"koinos/core/finding"
	"koinos/core/intent"
	"koinos/core/list"
	"koinos/core/mapping"
	"koinos/core/order"
	"koinos/core/origin"
	"koinos/core/source"
	"koinos/core/tree"
)

// Coverage says what of a document is not used, which fields stay empty, and which values lists and crosswalks did not
// know.
type Coverage struct {
	Unbound []UnboundColumn `json:"unbound" doc:"Columns, or paths of JSON, that have values and are not used"`
	Fields  []FieldFill     `json:"fields" doc:"Fields that the mapping binds, with how often they have a value"`
	Misses  []Miss          `json:"misses" doc:"Values that lists and crosswalks did not know, the most frequent first"`

	columns map[string]*UnboundColumn
	order   []string
	outside bool // what stands around the records has been counted
	used    map[string]bool
	fills   map[[2]string]*FieldFill
	misses  map[[2]string]*Miss
	m       *mapping.Mapping
	asked   map[string]bool // X12: elements that addresses compare with codes
}

// UnboundColumn is a source of values that the mapping does not use.
type UnboundColumn struct {
	Sheet   string `json:"sheet,omitempty"`
	Column  string `json:"column,omitempty" doc:"Its letter; JSON has none"`
	Heading string `json:"heading,omitempty" doc:"Its heading, or the path of the values"`
	Filled  int    `json:"filled" doc:"Rows with a value"`
	Sample  string `json:"sample,omitempty"`
}

// FieldFill is how often a field has a value.
type FieldFill struct {
	Level  order.Level `json:"level"`
	Field  string      `json:"field"`
	Filled int         `json:"filled"`
	Of     int         `json:"of" doc:"Orders, or lines, that could have one"`
}

// Miss is a value that a list or crosswalk did not know.
type Miss struct {
	List      string `json:"list"`
	Crosswalk bool   `json:"crosswalk,omitempty"`
	Value     string `json:"value"`
	Count     int    `json:"count"`
	Nearest   string `json:"nearest,omitempty" doc:"What the list has that is nearest"`
}

// NewCoverage begins to count for a mapping.
func NewCoverage(m *mapping.Mapping) *Coverage {
	c := &Coverage{m: m, columns: map[string]*UnboundColumn{}, used: map[string]bool{},
		fills: map[[2]string]*FieldFill{}, misses: map[[2]string]*Miss{}}
	for _, level := range order.Levels {
		for _, b := range m.Bindings[level] {
			f := &FieldFill{Level: level, Field: b.Field.Name}
			c.fills[[2]string{string(level), b.Field.Name}] = f
		}
	}
	return c
}

// Watch takes the steps of Explain, which show what was used of a JSON document.
func (c *Coverage) Watch(s Step) {
	if (s.Place.Pointer != "" || s.Place.Segment != "") && s.What == "found" {
		c.use(s.Place)
	}
}

// use notes that the value at a place of JSON or X12 is used.
func (c *Coverage) use(place origin.Place) {
	place.Line = 0 // of NDJSON: every record's
	c.used[place.String()] = true
}

// Add counts one group and what was made of it.
func (c *Coverage) Add(g *Group, d *intent.Intent) {
	for i := range g.Rows {
		if g.Rows[i].Node == nil || !d.Orphan {
			c.row(&g.Rows[i])
		}
	}
	if n := g.Rows[0].Node; n != nil && !c.outside && n.Root() != n {
		c.outside = true
		root := n.Root()
		root.Leaves(func(n *tree.Node) {
			if n.InSegment() && (c.ofEnvelope(n) || within(n, g.Rows[0].Node)) {
				return
			}
			if n.Scalar() && n.Kind != tree.Null && n.Text != "" && !c.used[n.Pointer()] {
				c.count("", "", source.PathOf(n, root)+" (of: document)", n.Text)
			}
		})
	}
	clear(c.used)
	for i := range d.Findings {
		if f := &d.Findings[i]; f.List != "" {
			c.miss(f)
		}
	}
	if d.Orphan {
		return
	}
	count := func(level order.Level, n int) {
		for _, b := range c.m.Bindings[level] {
			c.fills[[2]string{string(level), b.Field.Name}].Of += n
		}
	}
	count(order.Header, 1)
	count(order.Lines, len(d.Order.Lines))
	count(order.Parties, len(d.Order.Parties))
	count(order.Charges, len(d.Order.Charges))
	d.Order.Each(func(line int, field, _ string) {
		level := order.Header
		if line > 0 {
			level = order.Lines
		}
		if f := c.fills[[2]string{string(level), field}]; f != nil {
			f.Filled++
		}
	})
	if f := c.fills[[2]string{string(order.Header), "number"}]; f != nil && d.Order.Number != "" {
		f.Filled++
	}
	for i := range d.Order.Parties {
		for _, b := range c.m.Bindings[order.Parties] {
			one := order.Order{Parties: d.Order.Parties[i : i+1]}
			if b.Field.Value(&one, nil) != "" {
				c.fills[[2]string{string(order.Parties), b.Field.Name}].Filled++
			}
		}
	}
	for range d.Order.Charges {
		for _, b := range c.m.Bindings[order.Charges] {
			c.fills[[2]string{string(order.Charges), b.Field.Name}].Filled++
		}
	}
}

func (c *Coverage) row(r *Row) {
	if r.Node != nil {
		w := worker{m: c.m, view: view{row: r}}
		for i := range r.plan.group {
			if _, at, ok := w.find(&r.plan.group[i]); ok {
				c.use(at.place())
			}
		}
		r.Node.Leaves(func(n *tree.Node) {
			if !n.Scalar() || n.Kind == tree.Null || n.Text == "" || c.used[n.Pointer()] || n.InSegment() &&
				c.ofEnvelope(n) {
				return
			}
			c.count("", "", source.PathOf(n, r.Node), n.Text)
		})
		return
	}
	for i := range r.Cells {
		text := source.Trim(r.Cells[i].Text)
		if text == "" || r.plan.uses(i+1) {
			continue
		}
		c.count(r.Sheet, origin.ColumnName(i+1), cell(&r.plan.head, i+1).Text, text)
	}
}

// within reports whether an element of X12 stands in a loop of the same kind as a record. Such an element is counted
// for that record.
func within(n, record *tree.Node) bool {
	kind := func(n *tree.Node) string {
		if code := n.Member("03"); n.Name == "HL" && code != nil {
			return "HL " + code.Text
		}
		return n.Name
	}
	for p := n.Parent; p != nil && p.Parent != nil; p = p.Parent {
		if kind(p) == kind(record) {
			return true
		}
	}
	return false
}

// ofEnvelope reports whether an element of X12 says nothing about an order: it belongs to an envelope or a total, or
// only tells segments of one kind apart.
func (c *Coverage) ofEnvelope(n *tree.Node) bool {
	switch n.Parent.Name {
	case "ISA", "GS", "ST", "SE", "CTT":
		return true
	case "HL":
		return n.Name != "03" || c.m.Document.Records != nil
	}
	if c.asked == nil {
		c.asked = map[string]bool{}
		for _, bindings := range c.m.Levels {
			for i := range bindings {
				for k := range bindings[i].From {
					if a := bindings[i].From[k].Full; a != nil {
						a.Asks(func(place string) { c.asked[place] = true })
					}
				}
			}
		}
		for _, f := range c.m.Document.Fixed {
			c.asked[f.At.String()] = true
		}
	}
	return c.asked[source.PathOf(n, n.Root())]
}

func (c *Coverage) count(sheet, letter, heading, text string) {
	if leftOut(c.m, heading, letter) {
		return
	}
	key := sheet + "\x00" + letter + "\x00" + heading
	u := c.columns[key]
	if u == nil {
		if len(c.columns) > 2000 {
			return
		}
		u = &UnboundColumn{Sheet: sheet, Column: letter, Heading: strings.Join(strings.Fields(heading), " "),
			Sample: finding.Clip(text, 40)}
		c.columns[key] = u
		c.order = append(c.order, key)
	}
	u.Filled++
}

// leftOut reports whether a mapping leaves a column or path out on purpose.
func leftOut(m *mapping.Mapping, heading, letter string) bool {
	return slices.ContainsFunc(m.Document.Unused, func(s mapping.Source) bool {
		return s.Folded == list.Fold(heading) || s.Text == "@"+letter && letter != ""
	})
}

// uses reports whether any part of the mapping reads a column.
func (p *plan) uses(column int) bool {
	has := func(all []spot) bool {
		return slices.ContainsFunc(all, func(s spot) bool {
			return s.column == column || slices.Contains(s.columns, column)
		})
	}
	if has(p.group) || p.kind.column == column || p.kindBy.column == column || slices.Contains(p.matrix, column) {
		return true
	}
	for i := range p.totals {
		if has(p.totals[i].spots) || has(p.totals[i].reads) {
			return true
		}
	}
	for level := range p.bound {
		for i := range p.bound[level] {
			b := &p.bound[level][i]
			if has(b.spots) || has(b.reads) || has(b.cond) {
				return true
			}
		}
	}
	for _, reads := range p.reads {
		if has(reads) {
			return true
		}
	}
	return false
}

func (c *Coverage) miss(f *finding.Finding) {
	key := [2]string{f.List, f.Value}
	m := c.misses[key]
	if m == nil {
		if len(c.misses) > 100_000 {
			return
		}
		m = &Miss{List: f.List, Crosswalk: f.Code == finding.CrosswalkMissing, Value: f.Value, Nearest: f.Nearest}
		c.misses[key] = m
	}
	m.Count++
}

// Done turns the counts into lists.
func (c *Coverage) Done() {
	c.Unbound, c.Fields, c.Misses = []UnboundColumn{}, []FieldFill{}, []Miss{}
	for _, key := range c.order {
		c.Unbound = append(c.Unbound, *c.columns[key])
	}
	for _, level := range order.Levels {
		for _, b := range c.m.Bindings[level] {
			c.Fields = append(c.Fields, *c.fills[[2]string{string(level), b.Field.Name}])
		}
	}
	for _, m := range c.misses {
		c.Misses = append(c.Misses, *m)
	}
	slices.SortFunc(c.Misses, func(a, b Miss) int {
		if a.List != b.List {
			return strings.Compare(a.List, b.List)
		}
		if a.Count != b.Count {
			return b.Count - a.Count
		}
		return strings.Compare(a.Value, b.Value)
	})
}

// ColumnRole says which field a column of a sheet fills.
type ColumnRole struct {
	Column int      `json:"column" doc:"Counted from 1"`
	Role   string   `json:"role" enum:"group,header,line,party,charge"`
	Fields []string `json:"fields" doc:"header.ordered_on and the like"`
}

// Roles says which fields the columns of the group's rows fill, and in which row of which sheet their heading is; 0 if
// there is none.
func (g *Group) Roles() (heading int, roles []ColumnRole) {
	all := map[int]*ColumnRole{}
	add := func(column int, role, field string) {
		if column < 1 {
			return
		}
		r := all[column]
		if r == nil {
			r = &ColumnRole{Column: column, Role: role, Fields: []string{}}
			all[column] = r
		}
		if field != "" {
			r.Fields = append(r.Fields, field)
		}
	}
	seen := map[*plan]bool{}
	for i := range g.Rows {
		p := g.Rows[i].plan
		if seen[p] || p.m == nil {
			continue
		}
		seen[p] = true
		heading = max(heading, p.head.Row)
		for level, role := range kindOf {
			for _, b := range p.bound[level] {
				for _, s := range append(append([]spot{}, b.spots...), b.reads...) {
					add(s.column, role, string(order.Levels[level])+"."+b.Field.Name)
					for _, c := range s.columns {
						add(c, role, string(order.Levels[level])+"."+b.Field.Name)
					}
				}
			}
		}
		for _, c := range p.matrix {
			add(c, "line", "")
		}
		for _, s := range p.group {
			add(s.column, "group", "")
			if r := all[s.column]; r != nil {
				r.Role = "group"
			}
		}
		add(p.kind.column, "group", "")
	}
	for _, r := range all {
		roles = append(roles, *r)
	}
	slices.SortFunc(roles, func(a, b ColumnRole) int { return a.Column - b.Column })
	return heading, roles
}

// Size is how many rows of the document the group's records take up.
func (g *Group) Size() int {
	n := 0
	for i := range g.Rows {
		n += g.Rows[i].Record.Rows()
	}
	return n
}

// Spans are the runs of rows that make up the group.
func (g *Group) Spans() []origin.Span { return spans(g.all()) }

// Pointer is the pointer of the group's first record in JSON; "" in rows.
func (g *Group) Pointer() string {
	if n := g.Rows[0].Node; n != nil {
		return n.Pointer()
	}
	return ""
}
