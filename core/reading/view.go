package reading

import (
	"strings"

	"github.com/expr-lang/expr/vm"

	"koinos/core/intent"
	"koinos/core/list"
	"koinos/core/mapping"
	"koinos/core/order"
	"koinos/core/origin"
	"koinos/core/source"
	"koinos/core/tree"
)

// view is what bindings look at: a row or, if several lines stand in it, one of them.
type view struct {
	row    *Row
	n      int                   // numbered: the repetition, an index of spot.columns plus one; of lines in cells, which of their values
	column int                   // matrix: its column
	pieces map[int][]source.Cell // of lines in cells, all values by columns
}

// where is the place of a value that was found.
type where struct {
	rec    *source.Record
	column int
	node   *tree.Node
}

func (w where) place() origin.Place {
	switch {
	case w.node != nil:
		return source.PlaceOf(w.node, w.rec.Line)
	case w.rec == nil:
		return origin.Place{}
	}
	return w.rec.Place(w.column)
}

// worker maps one group, or evaluates the conditions of rows.
type worker struct {
	m      *mapping.Mapping
	d      *intent.Intent
	set    *list.Set
	g      *Group
	view   view
	of     string // of the binding at work
	beside string // and where its values stand beside their labels
	reads  []spot // of the expression at work
	loc    *mapping.Locale
	env    mapping.Env
	vm     vm.VM
	now    int // line being mapped, counted from 1; 0 is the header
	part   int // index of the level being mapped
	signs  []sign
	watch  func(Step)
	plain  bool         // every row of the group has the same plan
	usual  *plan        // the plan whose columns the trace says once for all lines
	under  []string     // of a line of X12: the segments directly within its node
	nodes  []*tree.Node // what several has found, to be used again
	around map[search][]*tree.Node
	full   bool // the order has as many lines as it can
	days   struct {
		loc  *mapping.Locale
		cell source.Cell
		is   order.Date
	} // the date that was read last
}

// Step is one thing that was done to a value on its way into an order.
type Step struct {
	Line  int          `json:"line,omitempty"`
	Field string       `json:"field"`
	What  string       `json:"what" doc:"What was done: found, expr, crosswalk, list, read as …"`
	Text  string       `json:"text" doc:"The value after it"`
	Place origin.Place `json:"place,omitzero"`
	At    string       `json:"at,omitempty" doc:"The place as a person says it"`
}

// find looks a spot's value up in the view.
func (w *worker) find(s *spot) (source.Cell, where, bool) {
	c, at, ok := w.found(s)
	return c, at, ok && s.is(c)
}

func (w *worker) found(s *spot) (source.Cell, where, bool) {
	row := w.view.row
	switch s.src.Kind {
	case mapping.ByHeading, mapping.ByColumn, mapping.ByPath:
		if row.plan != nil && row.plan.tree || row.Node != nil {
			return w.findNode(s)
		}
		if w.of == "order" && w.g != nil {
			for i := range w.g.Rows {
				if c := cell(&w.g.Rows[i].Record, s.column); c.Text != "" {
					return c, where{rec: &w.g.Rows[i].Record, column: s.column}, true
				}
			}
		}
		column := s.column
		if s.piece {
			c := w.piece(column)
			return c, where{rec: &row.Record, column: column}, c.Text != ""
		}
		if s.columns != nil {
			if column = 0; w.view.n > 0 && w.view.n <= len(s.columns) {
				column = s.columns[w.view.n-1]
			}
		}
		c := cell(&row.Record, column)
		return c, where{rec: &row.Record, column: column}, column > 0 && (c.Text != "" || c.Kind == source.Unkept)
	case mapping.ByMatrixHeading:
		head := &row.plan.head
		c := cell(head, w.view.column)
		return c, where{rec: head, column: w.view.column}, c.Text != ""
	case mapping.ByMatrixCell:
		c := cell(&row.Record, w.view.column)
		return c, where{rec: &row.Record, column: w.view.column}, c.Text != "" || c.Kind == source.Unkept
	case mapping.BySheet:
		return source.Cell{Text: row.Sheet}, where{rec: &row.Record}, row.Sheet != ""
	case mapping.ByName:
		return w.findName()
	case mapping.ByCell:
		return w.findCell(s)
	}
	return w.findLabel(s)
}

// node is the value that paths start from.
func (w *worker) node() *tree.Node {
	n := w.view.row.Node
	switch w.of {
	case "order":
		if w.g != nil {
			n = w.g.Rows[0].Node
		}
	case "parent":
		n = n.Enclosing()
	case "document":
		n = n.Root()
	}
	return n
}

// nodeFor is the value that the path of a spot starts from.
func (w *worker) nodeFor(s *spot) *tree.Node {
	n := w.node()
	if n != nil && s.src.Outside {
		return n.Root()
	}
	return n
}

func (w *worker) findNode(s *spot) (source.Cell, where, bool) {
	n := w.nodeFor(s)
	if n == nil || s.src.Path == nil {
		return source.Cell{}, where{rec: &w.view.row.Record}, false
	}
	found := (*tree.Node)(nil)
	switch {
	case w.of == aroundIt:
		for p := n.Parent; p != nil && found == nil; p = p.Parent {
			found = first(w.shared(s, p))
		}
	case n != w.view.row.Node:
		found = first(w.shared(s, n))
	default:
		found = s.src.Path.First(n)
	}
	return nodeCell(&w.view.row.Record, found)
}

func first(nodes []*tree.Node) *tree.Node {
	if len(nodes) == 0 {
		return nil
	}
	return nodes[0]
}

// search is what was looked for, and from where on.
type search struct {
	path mapping.Query
	from *tree.Node
}

// shared returns all that the path of a spot leads to from a node around the line. Each is looked for once: another
// line asks the same.
func (w *worker) shared(s *spot, from *tree.Node) []*tree.Node {
	key := search{s.src.Path, from}
	nodes, known := w.around[key]
	if !known {
		if w.around == nil {
			w.around = map[search][]*tree.Node{}
		}
		nodes = s.src.Path.Append(nil, from)
		w.around[key] = nodes
	}
	return nodes
}

// aroundIt searches the loops around a record, the nearest first.
const aroundIt = "around"

// nodeCell is a value of a tree as a cell.
// findName returns the name of the member that a value of JSON is, such as the key of an order among the members of an
// object; in an array its position, counted from 0.
func (w *worker) findName() (source.Cell, where, bool) {
	rec := &w.view.row.Record
	n := w.node()
	if n == nil {
		return source.Cell{}, where{rec: rec}, false
	}
	pointer := n.Pointer()
	name := source.Trim(tree.Name(pointer[strings.LastIndexByte(pointer, '/')+1:]))
	return source.Cell{Text: name}, where{rec, 0, n}, name != ""
}

func nodeCell(rec *source.Record, found *tree.Node) (source.Cell, where, bool) {
	if found == nil || found.Kind == tree.Null {
		return source.Cell{}, where{rec, 0, found}, false
	}
	c := source.Cell{Text: found.Text}
	switch found.Kind {
	case tree.Segment:
		c = source.Cell{Text: "the segment " + found.Name, Kind: source.ErrorValue}
	case tree.String:
		c.Text = source.Trim(c.Text)
	case tree.Number:
		c.Kind = source.Exact
	case tree.Bool:
		c.Kind = source.Bool
	default:
		c = source.Cell{Text: map[tree.Kind]string{tree.Object: "{…}", tree.Array: "[…]"}[found.Kind],
			Kind: source.ErrorValue}
		if found.Len() == 0 {
			c = source.Cell{}
		}
	}
	return c, where{rec, 0, found}, c.Text != ""
}

// outside calls look with the rows around the table and those of the order until one has what it looks for.
func (w *worker) outside(look func(*source.Record) bool) {
	seen := map[*around]bool{}
	rows := []Row(nil)
	if w.g != nil {
		rows = w.g.Rows
	}
	if w.view.row != nil {
		rows = append(rows[:len(rows):len(rows)], *w.view.row)
	}
	for i := range rows {
		if a := rows[i].plan.around; a != nil && !seen[a] {
			seen[a] = true
			for j := range a.rows {
				if look(&a.rows[j]) {
					return
				}
			}
		}
	}
	if w.m.Group.Whole() {
		for i := range rows {
			if look(&rows[i].Record) {
				return
			}
		}
	}
}

func (w *worker) findCell(s *spot) (c source.Cell, at where, ok bool) {
	row := s.src.Row
	if w.m.Group.By == "form" && w.g != nil {
		row += w.firstRow() - 1 // a form's cells are counted from its first row
	}
	w.outside(func(rec *source.Record) bool {
		if rec.Row != row {
			return false
		}
		c, at = cell(rec, s.src.Column), where{rec: rec, column: s.src.Column}
		return true
	})
	return c, at, c.Text != ""
}

func (w *worker) firstRow() int {
	first := w.g.Rows[0].Row
	if a := w.g.Rows[0].plan.around; a != nil && len(a.rows) > 0 {
		first = min(first, a.rows[0].Row)
	}
	return first
}

// findLabel finds the cell beside a label: behind its colon in the same cell, otherwise the first filled cell to the
// right, otherwise the one below.
func (w *worker) findLabel(s *spot) (c source.Cell, at where, ok bool) {
	var below *where // the place below a label that has nothing to its right
	w.outside(func(rec *source.Record) bool {
		if below != nil {
			if rec.Row == below.rec.Row+1 {
				if v := cell(rec, below.column); v.Text != "" {
					c, at, ok = v, where{rec: rec, column: below.column}, true
					return true
				}
			}
			below = nil
		}
		for i := range rec.Cells {
			text := source.Trim(rec.Cells[i].Text)
			if text == "" {
				continue
			}
			label := strings.TrimRight(text, ": \u00a0")
			if !mapping.Match(s.src.Folded, label) {
				if head, rest, cut := strings.Cut(text, ":"); cut && source.Trim(rest) != "" &&
					mapping.Match(s.src.Folded, head) {
					c, at, ok = source.Cell{Text: source.Trim(rest)}, where{rec: rec, column: i + 1}, true
					return true
				}
				continue
			}
			if w.beside != "below" {
				for j := i + 1; j < len(rec.Cells); j++ {
					if v := cell(rec, j+1); v.Text != "" {
						if strings.HasSuffix(v.Text, ":") {
							break // the next label: this one has nothing beside it
						}
						c, at, ok = v, where{rec: rec, column: j + 1}, true
						return true
					}
				}
			}
			if w.beside != "right" {
				below = &where{rec: rec, column: i + 1}
			}
		}
		return false
	})
	return c, at, ok
}

// hasPart reports whether a row says anything about a part of an order.
func (w *worker) hasPart(level int, v view) bool {
	p := v.row.plan
	for i := range p.marks[level] {
		s := &p.marks[level][i]
		if s.column > 0 {
			if s.column <= len(v.row.Cells) {
				if s.is(cell(&v.row.Record, s.column)) {
					return true
				}
			}
			continue
		}
		w.view = v
		if _, _, ok := w.find(s); ok {
			return true
		}
	}
	return false
}

// holds evaluates a condition; bad receives what went wrong.
func (w *worker) holds(x *mapping.Expr, reads []spot, v view, value string, bad func(error)) bool {
	if w.env.Col == nil {
		w.env = mapping.NewEnv(w)
	}
	w.view, w.reads = v, reads
	w.env.Value, w.env.Row, w.env.Sheet = value, v.row.Row, v.row.Sheet
	is, err := x.Run(&w.vm, &w.env)
	if err != nil {
		bad(err)
		return false
	}
	yes, _ := is.(bool)
	return yes
}

// Cells returns the cells of the row in view.
func (w *worker) Cells() []source.Cell {
	if w.view.row == nil {
		return nil
	}
	return w.view.row.Record.Cells
}

// Col returns the value of a column that the present expression names.
func (w *worker) Col(name string) string {
	for i := range w.reads {
		if w.reads[i].src.Text == name {
			c, _, _ := w.find(&w.reads[i])
			return c.Text
		}
	}
	return ""
}

// Locale is the locale of the present binding.
func (w *worker) Locale() *mapping.Locale { return w.loc }

// Lists are those that walk and look use.
func (w *worker) Lists() *list.Set { return w.set }
