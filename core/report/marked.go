package report

import (
	"fmt"
	"io"
	"math"

	"github.com/xuri/excelize/v2"

	"koinos/core/finding"
	"koinos/core/origin"
	"koinos/core/outcome"
	"koinos/core/source"
)

// Fills of marked cells, as RGB.
var fills = map[finding.Severity]string{finding.Error: "F6C9C2", finding.Warning: "FBE7B2"}

var outcomeColors = map[outcome.Outcome]string{outcome.Loaded: "2E6B3E", outcome.Ready: "2E6B3E",
	outcome.Changed: "2E6B3E", outcome.Differs: "2E6B3E",
	outcome.Held: "8A5A00", outcome.Undone: "555555", outcome.Refused: "A3241A", outcome.Withheld: "8A5A00",
	outcome.Unchanged: "555555"}

// MarkedWorkbook writes the partner's workbook again: its cells as they are,
// coloured and with a comment where something was found, and the answers in
// columns of their own. The workbook is held in memory while it is marked.
func MarkedWorkbook(w io.Writer, r io.ReaderAt, size int64, opt source.Options, sets []Set) error {
	sheets, err := extents(r, size, opt, sets)
	if err != nil {
		return err
	}
	book, err := withStyles(r, size)
	if err != nil {
		return err
	}
	f, err := excelize.OpenReader(book)
	if err != nil {
		return fmt.Errorf("the workbook cannot be opened for marking: %w", err)
	}
	defer f.Close()
	mk := newMarker(f)
	for sheet, e := range sheets {
		if err := mk.sheet(sheet, e.last, columns(sets, e)); err != nil {
			return fmt.Errorf("sheet %s: %w", sheet, err)
		}
	}
	return f.Write(w)
}

type marker struct {
	f      *excelize.File
	filled map[fillKey]int
	font   map[outcome.Outcome]int
}

func newMarker(f *excelize.File) *marker {
	return &marker{f: f, filled: map[fillKey]int{}, font: map[outcome.Outcome]int{}}
}

type fillKey struct {
	style    int
	severity finding.Severity
}

var widths = map[string]float64{"outcome": 16, "number": 16, "message": 70, "warnings": 50, "line": 12}

// headings writes the row above the answers.
func (mk *marker) headings(sheet string, row int, all []column) error {
	bold, err := mk.newStyle("", true, []excelize.Border{{Type: "bottom", Style: 1, Color: "8A8474"}})
	if err != nil {
		return err
	}
	for i := range all {
		if row > 0 {
			if err := mk.write(sheet, all[i].at, row, all[i].heading, bold); err != nil {
				return err
			}
		}
		wide := widths[all[i].what]
		if wide == 0 {
			wide = 18
		}
		name := origin.ColumnName(all[i].at)
		if err := mk.f.SetColWidth(sheet, name, name, wide); err != nil {
			return err
		}
	}
	return nil
}

func (mk *marker) sheet(sheet string, last int, all []column) error {
	plain, err := mk.newStyle("", false, nil)
	if err != nil {
		return err
	}
	comments, err := mk.comments(sheet)
	if err != nil {
		return err
	}
	for len(all) > 0 { // set by set
		set := all[0].set
		n := 0
		for n < len(all) && all[n].set == set {
			n++
		}
		first, err := set.Answers.FirstRow(sheet)
		if err != nil {
			return err
		}
		if first > 0 {
			if err := mk.headings(sheet, first-1, all[:n]); err != nil {
				return err
			}
		}
		for from := 1; from <= last; from += chunkRows {
			answers, err := set.rows(sheet, from, min(last, from+chunkRows-1))
			if err != nil {
				return err
			}
			for row := from; row < from+chunkRows; row++ {
				if answer := answers[row]; answer != nil {
					if err := mk.row(sheet, row, answer, all[:n], plain); err != nil {
						return err
					}
					if err := mk.cells(sheet, row, answer.findings, comments); err != nil {
						return err
					}
				}
			}
		}
		all = all[n:]
	}
	return nil
}

// row writes the answers beside a row.
func (mk *marker) row(sheet string, row int, answer *rowAnswer, all []column, plain int) error {
	for i := range all {
		text, err := all[i].value(answer)
		if err != nil {
			return err
		}
		if text == "" {
			continue
		}
		style := plain
		if all[i].what == "outcome" {
			if style, err = mk.outcomeStyle(answer.span.Outcome); err != nil {
				return err
			}
		}
		if err := mk.write(sheet, all[i].at, row, text, style); err != nil {
			return err
		}
	}
	return nil
}

// write sets a cell to text: text is never run as a formula.
func (mk *marker) write(sheet string, column, row int, value string, style int) error {
	cell := origin.ColumnName(column) + fmt.Sprint(row)
	if err := mk.f.SetCellStr(sheet, cell, finding.Clip(value, excelize.TotalCellChars-3)); err != nil {
		return err
	}
	return mk.f.SetCellStyle(sheet, cell, cell, style)
}

func (mk *marker) outcomeStyle(o outcome.Outcome) (int, error) {
	if id, ok := mk.font[o]; ok || o == "" {
		return id, nil
	}
	id, err := mk.newStyle(outcomeColors[o], true, nil)
	mk.font[o] = id
	return id, err
}

// newStyle gives the workbook's own typeface, a step in from the left.
func (mk *marker) newStyle(color string, bold bool, border []excelize.Border) (int, error) {
	font := excelize.Font{}
	if usual, err := mk.f.GetStyle(0); err == nil && usual.Font != nil {
		font.Family, font.Size = usual.Font.Family, usual.Font.Size
	}
	if font.Family == "" {
		font.Family, font.Size = "Calibri", 11
	}
	font.Bold, font.Color = bold, color
	return mk.f.NewStyle(&excelize.Style{Font: &font, Border: border,
		Alignment: &excelize.Alignment{Indent: 1, Horizontal: "left", Vertical: "bottom"}})
}

// comments gives the partner's own comments, which are kept above ours.
func (mk *marker) comments(sheet string) (map[string]string, error) {
	own, err := mk.f.GetComments(sheet)
	if err != nil {
		return nil, err
	}
	texts := map[string]string{}
	for _, c := range own {
		text := c.Text
		for _, p := range c.Paragraph {
			text += p.Text
		}
		texts[c.Cell] = text
	}
	return texts, nil
}

// cells colours the cells of a row's findings and comments on them.
func (mk *marker) cells(sheet string, row int, findings []finding.Finding, own map[string]string) error {
	for i := 0; i < len(findings); {
		f := findings[i]
		said, severity := "", finding.Warning
		for ; i < len(findings) && findings[i].Place.Column == f.Place.Column; i++ {
			if said != "" {
				said += "\n"
			}
			said += sentence(&findings[i])
			if findings[i].Severity == finding.Error {
				severity = finding.Error
			}
		}
		if f.Place.Column == 0 {
			continue // the row as a whole: the message says it
		}
		cell := origin.ColumnName(f.Place.Column) + fmt.Sprint(row)
		style, err := mk.fill(sheet, cell, severity)
		if err != nil {
			return err
		}
		if err := mk.f.SetCellStyle(sheet, cell, cell, style); err != nil {
			return err
		}
		if text := own[cell]; text != "" {
			if err := mk.f.DeleteComment(sheet, cell); err != nil {
				return err
			}
			said = text + "\n" + said
		}
		own[cell] = said
		lines := math.Ceil(float64(len(said))/42) + 1
		err = mk.f.AddComment(sheet, excelize.Comment{
			Cell: cell, Author: "Koinos", Width: 280, Height: uint(22 + 15*lines),
			Paragraph: []excelize.RichTextRun{{Text: said}},
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// fill gives the cell's own style with the background of a severity.
func (mk *marker) fill(sheet, cell string, severity finding.Severity) (int, error) {
	id, err := mk.f.GetCellStyle(sheet, cell)
	if err != nil {
		return 0, err
	}
	k := fillKey{id, severity}
	if done, ok := mk.filled[k]; ok {
		return done, nil
	}
	style, err := mk.f.GetStyle(id)
	if err != nil { // the cell names a style that the workbook does not have
		style = &excelize.Style{}
	}
	style.Fill = excelize.Fill{Type: "pattern", Pattern: 1, Color: []string{fills[severity]}}
	done, err := mk.f.NewStyle(style)
	mk.filled[k] = done
	return done, err
}
