package report

import (
	"cmp"
	"io"
	"slices"
	"strings"

	"koinos/core/finding"
	"koinos/core/outcome"
	"koinos/core/rewriting"
	"koinos/core/source"
)

// Fills of marked cells, as RGB.
var fills = map[finding.Severity]string{finding.Error: "F6C9C2", finding.Warning: "FBE7B2"}

var outcomeColors = map[outcome.Outcome]string{outcome.Loaded: "2E6B3E", outcome.Ready: "2E6B3E",
	outcome.Changed: "2E6B3E", outcome.Differs: "2E6B3E",
	outcome.Held: "8A5A00", outcome.Undone: "555555", outcome.Refused: "A3241A", outcome.Withheld: "8A5A00",
	outcome.Unchanged: "555555"}

// headed is how the headings of answers look.
var headed = rewriting.Look{Bold: true, Line: "8A8474"}

// mostText is how many characters a cell of a workbook can have.
const mostText = 32_767

var widths = map[string]float64{"outcome": 16, "number": 16, "message": 70, "warnings": 50, "line": 12}

// widthOf is how wide a column of answers is, in characters.
func widthOf(what string) float64 { return cmp.Or(widths[what], 18) }

// MarkedWorkbook writes the partner's workbook again: its cells as they are,
// coloured and with a comment where something was found, and the answers in
// columns of their own. It goes through as a stream.
func MarkedWorkbook(w io.Writer, r io.ReaderAt, size int64, opt source.Options, sets []Set) error {
	mk, err := newMarker(r, size, opt, sets)
	if err != nil {
		return err
	}
	return rewriting.Rewrite(w, r, size, opt.Limits.Unpacked, mk.rewriting())
}

// marker says what is written beside the rows of a workbook, and on their cells.
type marker struct {
	sets   []Set
	sheets map[string]*extent
	keeper *keeper // nil keeps every row
	sheet  string
	groups []group
}

// group is the columns of a set in the sheet that is being written.
type group struct {
	set     *Set
	columns []column
	first   int // row of the sheet's first order; 0 is none
	upTo    int
	answers map[int]*rowAnswer
}

func newMarker(r io.ReaderAt, size int64, opt source.Options, sets []Set) (*marker, error) {
	sheets, err := extents(r, size, opt, sets)
	return &marker{sets: sets, sheets: sheets}, err
}

func (mk *marker) rewriting() rewriting.Changes {
	return rewriting.Changes{Rows: func(sheet string) bool { return mk.sheets[sheet] != nil }, Row: mk.row,
		Widths: mk.widths,
		Values: mk.keeper != nil}
}

func (mk *marker) widths(sheet string) map[int]float64 {
	wide := map[int]float64{}
	for _, c := range columns(mk.sets, mk.sheets[sheet]) {
		wide[c.at] = widthOf(c.what)
	}
	return wide
}

// begin turns to a sheet.
func (mk *marker) begin(sheet string) error {
	mk.sheet, mk.groups = sheet, nil
	for all := columns(mk.sets, mk.sheets[sheet]); len(all) > 0; {
		n := slices.IndexFunc(all, func(c column) bool { return c.set != all[0].set })
		if n < 0 {
			n = len(all)
		}
		first, err := all[0].set.Answers.FirstRow(sheet)
		if err != nil {
			return err
		}
		mk.groups = append(mk.groups, group{set: all[0].set, columns: all[:n], first: first})
		all = all[n:]
	}
	return nil
}

// row says what a row gets.
func (mk *marker) row(sheet string, row int) (change rewriting.Row, err error) {
	if sheet != mk.sheet || mk.groups == nil {
		if err := mk.begin(sheet); err != nil {
			return change, err
		}
	}
	if mk.keeper != nil {
		if ok, err := mk.keeper.keep(sheet, row); err != nil || !ok {
			return rewriting.Row{Drop: true}, err
		}
		above, err := mk.keeper.fill(sheet, row)
		if err != nil {
			return change, err
		}
		for column, text := range above {
			change.Cells = append(change.Cells, rewriting.Cell{Column: column, Put: true, Text: text})
		}
	}
	if row > mk.sheets[sheet].last {
		change.Cells = byColumn(change.Cells)
		return change, nil
	}
	for i := range mk.groups {
		g := &mk.groups[i]
		if row == g.first-1 {
			for _, c := range g.columns {
				change.Cells = append(change.Cells, rewriting.Cell{Column: c.at, Put: true, Text: c.heading,
					Look: headed})
			}
		}
		if row > g.upTo {
			g.upTo = row + chunkRows - 1
			if g.answers, err = g.set.rows(sheet, row, g.upTo); err != nil {
				return change, err
			}
		}
		if answer := g.answers[row]; answer != nil {
			if change.Cells, err = g.answer(change.Cells, answer); err != nil {
				return change, err
			}
		}
	}
	change.Cells = byColumn(change.Cells)
	return change, nil
}

// answer adds what stands beside a row, and what is said on its cells.
func (g *group) answer(cells []rewriting.Cell, answer *rowAnswer) ([]rewriting.Cell, error) {
	for i := range g.columns {
		text, err := g.columns[i].value(answer)
		if err != nil {
			return nil, err
		}
		if text == "" {
			continue
		}
		look := rewriting.Look{}
		if o := answer.span.Outcome; g.columns[i].what == "outcome" && o != "" {
			look = rewriting.Look{Bold: true, Color: outcomeColors[o]}
		}
		cells = append(cells, rewriting.Cell{Column: g.columns[i].at, Put: true,
			Text: finding.Clip(text, mostText-3), Look: look})
	}
	for i := range answer.findings {
		f := &answer.findings[i]
		if f.Place.Column > 0 { // else the row as a whole: the message says it
			cells = append(cells, rewriting.Cell{Column: f.Place.Column, Fill: fills[f.Severity],
				Note: finding.Clip(sentence(f), mostText-3)})
		}
	}
	return cells, nil
}

// byColumn brings the changes of a row into the order of their columns, those of a cell into one: errors have the
// colour.
func byColumn(cells []rewriting.Cell) []rewriting.Cell {
	slices.SortStableFunc(cells, func(a, b rewriting.Cell) int { return a.Column - b.Column })
	n := 0
	for i := range cells {
		c := &cells[i]
		if n == 0 || cells[n-1].Column != c.Column {
			cells[n] = *c
			n++
			continue
		}
		to := &cells[n-1]
		if c.Put {
			to.Put, to.Text, to.Look = true, c.Text, c.Look
		}
		if to.Fill == "" || c.Fill == fills[finding.Error] {
			to.Fill = cmp.Or(c.Fill, to.Fill)
		}
		if c.Note == "" || slices.Contains(strings.Split(to.Note, "\n"), c.Note) {
			continue
		}
		if to.Note != "" {
			to.Note += "\n"
		}
		to.Note = finding.Clip(to.Note+c.Note, mostText-3)
	}
	return cells[:n]
}
