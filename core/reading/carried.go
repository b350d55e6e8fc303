package reading

import (
	"io"
	"slices"

	"koinos/core/finding"
	"koinos/core/mapping"
	"koinos/core/source"
)

// carry fills the blank cells of columns that are written only where they change with what stands above, and returns
// what the row itself has there.
func (t *Table) carry(p *plan, rec *source.Record) (own []source.Cell) {
	if len(p.carried) == 0 || rec.Node != nil {
		return nil
	}
	own = make([]source.Cell, len(p.carried))
	filled := false
	for i, column := range p.carried {
		own[i] = cell(rec, column)
		if column == 0 || !own[i].Blank() || i >= len(t.above) || t.above[i].row == 0 {
			continue
		}
		if !filled {
			rec.Cells, filled = slices.Clone(rec.Cells), true
		}
		for len(rec.Cells) < column {
			rec.Cells = append(rec.Cells, source.Cell{})
		}
		rec.Cells[column-1] = t.above[i].cell
		rec.Carried = append(rec.Carried, source.Carried{Column: column, Row: t.above[i].row})
	}
	return own
}

// above is a cell of which the value counts for the blank ones below it.
type above struct {
	cell source.Cell
	row  int
}

// hold keeps what a row itself has in the columns that are carried, for the rows below it.
func (t *Table) hold(row int, own []source.Cell) {
	if len(t.above) < len(own) {
		t.above = make([]above, len(own))
	}
	for i, c := range own {
		if !c.Blank() {
			t.above[i] = above{c, row}
		}
	}
}

// Carrying tells which values of rows stand further up, row by row, as a document is gone through.
type Carrying struct {
	t     *Table
	ended bool
	asked string // the sheet of which rows are asked for
	come  bool   // it has been reached
	sheet string // of the row that was read last
	row   int
	cells map[int]string // by column, of that row
}

// NewCarrying is for a document that a mapping reads; nil if the mapping has no columns that are carried from one order
// to another.
func NewCarrying(m *mapping.Mapping, src source.Reader) *Carrying {
	if len(m.Document.Carried) == 0 || m.Group.Whole() {
		return nil
	}
	rows := *m // each row for itself, whatever it is of
	rows.Group = mapping.Grouping{By: "count", Count: 1}
	rows.LeaveOut = nil
	return &Carrying{t: NewTable(&rows, src, nil)}
}

// At returns the values of a row that stand further up, by their columns. Rows are asked for in their order.
func (c *Carrying) At(sheet string, row int) (map[int]string, error) {
	if sheet != c.asked {
		c.asked, c.come = sheet, c.sheet == sheet && c.row > 0
	}
	for !c.ended && (!c.come || c.sheet == sheet && c.row < row) {
		g, err := c.t.Next()
		if err == io.EOF || len(finding.Of(err)) > 0 { // the load has said so
			c.ended = true
			break
		}
		if err != nil {
			return nil, err
		}
		r := &g.Rows[0]
		c.sheet, c.row, c.cells = r.Sheet, r.Row, nil
		c.come = c.come || c.sheet == sheet
		for _, is := range r.Carried {
			if c.cells == nil {
				c.cells = map[int]string{}
			}
			c.cells[is.Column] = cell(&r.Record, is.Column).Text
		}
	}
	if c.ended || c.sheet != sheet || c.row != row {
		return nil, nil
	}
	return c.cells, nil
}
