package report

import (
	"bufio"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"math"
	"strings"

	"github.com/xuri/excelize/v2"

	"koinos/core/finding"
	"koinos/core/mapping"
	"koinos/core/source"
)

// Answers gives what a load found and decided, by rows of a sheet.
type Answers interface {
	// Spans gives the runs of rows that touch the rows first to last, in order.
	Spans(sheet string, first, last int) ([]SpanOutcome, error)
	// Findings gives what was found at the rows first to last, by place.
	Findings(sheet string, first, last int) ([]finding.Finding, error)
	// FirstRow is the first row of the sheet that belongs to an order; 0 is none.
	FirstRow(sheet string) (int, error)
}

// chunkRows is how many rows of answers are held at a time.
const chunkRows = 2_000

// rowAnswer is what is written beside a row.
type rowAnswer struct {
	outcome  Outcome
	number   string
	message  string
	findings []finding.Finding
}

// answersFor gives the answers to the rows first to last that have any.
func answersFor(a Answers, sheet string, first, last int) (map[int]*rowAnswer, error) {
	spans, err := a.Spans(sheet, first, last)
	if err != nil {
		return nil, err
	}
	findings, err := a.Findings(sheet, first, last)
	if err != nil {
		return nil, err
	}
	rows := map[int]*rowAnswer{}
	for _, s := range spans {
		for row := max(first, s.First); row <= min(last, s.Last); row++ {
			rows[row] = &rowAnswer{outcome: s.Outcome, number: s.Number}
		}
	}
	for _, f := range findings {
		r := rows[f.Place.Row]
		if r == nil {
			r = &rowAnswer{}
			rows[f.Place.Row] = r
		}
		r.findings = append(r.findings, f)
		if r.message != "" {
			r.message += " | "
		}
		r.message += sentence(&f)
	}
	for _, r := range rows {
		if r.outcome == Refused && !hasError(r.findings) {
			if r.message != "" {
				r.message += " | "
			}
			r.message += "Another row of this order keeps it out."
		}
	}
	return rows, nil
}

func hasError(list []finding.Finding) bool {
	for i := range list {
		if list[i].Severity == finding.Error {
			return true
		}
	}
	return false
}

func sentence(f *finding.Finding) string {
	s := f.Message
	if f.Field != "" && !strings.Contains(s, f.Field) {
		s = f.Field + ": " + s
	}
	if f.Severity == finding.Warning {
		s = "Warning: " + s
	}
	if f.Hint != "" {
		s += " " + f.Hint
	}
	return s
}

var resultHeadings = [3]string{"Koinos outcome", "Koinos order", "Koinos message"}

func (r *rowAnswer) cells() [3]string { return [3]string{string(r.outcome), r.number, r.message} }

// columns says where the three result columns go: where the mapping says, and
// otherwise behind the last used one.
func columns(results mapping.Results, width int) [3]int {
	next := width
	var at [3]int
	for i, stated := range [3]int{results.Outcome, results.Number, results.Message} {
		at[i] = stated
		if stated == 0 {
			next++
			at[i] = next
		} else {
			next = max(next, stated)
		}
	}
	return at
}

// guard keeps a spreadsheet from running text as a formula when it opens a
// CSV: an apostrophe in front makes it text. Plain numbers stay.
func guard(s string) string {
	if s == "" || strings.IndexByte("=+-@\t\r", s[0]) < 0 {
		return s
	}
	if strings.Trim(s, "+-0123456789.,") == "" && strings.Trim(s, "+-") != "" {
		return s
	}
	return "'" + s
}

// MarkedCSV writes the document's rows again with the answers beside them, in
// UTF-8 with a byte order mark, which spreadsheets need to see accents right.
func MarkedCSV(w io.Writer, r io.ReaderAt, size int64, m *mapping.Mapping, a Answers) error {
	opt := m.Options(source.DefaultLimits)
	opt.Leaves = true // JSON is shown as a table of its values
	shape, err := source.Sniff(r, size, opt)
	if err != nil {
		return err
	}
	width, _, err := extent(r, size, opt)
	if err != nil {
		return err
	}
	first, err := a.FirstRow("")
	if err != nil {
		return err
	}
	src, err := source.Open(r, size, opt)
	if err != nil {
		return err
	}
	buf := bufio.NewWriter(w)
	if _, err := buf.WriteString("\ufeff"); err != nil {
		return err
	}
	out := csv.NewWriter(buf)
	out.Comma, out.UseCRLF = rune(delimiter(shape)), true
	at := columns(m.Results, width[""])
	var answers map[int]*rowAnswer
	for upTo := 0; ; {
		rec, err := src.Next()
		if err == io.EOF {
			break
		}
		var broken *finding.Finding
		if errors.As(err, &broken) { // the load's report says so too
			break
		}
		if err != nil {
			return err
		}
		if rec.Row > upTo {
			if answers, err = answersFor(a, "", rec.Row, rec.Row+chunkRows-1); err != nil {
				return err
			}
			upTo = rec.Row + chunkRows - 1
		}
		row := make([]string, max(len(rec.Cells), at[0], at[1], at[2]))
		for i, c := range rec.Cells {
			row[i] = guard(c.Text)
		}
		cells := [3]string{}
		if answer := answers[rec.Row]; answer != nil {
			cells = answer.cells()
		} else if rec.Row == first-1 {
			cells = resultHeadings
		}
		for i, text := range cells {
			if text != "" {
				row[at[i]-1] = guard(text)
			}
		}
		if err := out.Write(row); err != nil {
			return err
		}
	}
	out.Flush()
	return errors.Join(out.Error(), buf.Flush())
}

func delimiter(shape source.Shape) byte {
	if shape.Delimiter == "" {
		return ','
	}
	return shape.Delimiter[0]
}

// extent gives the last used column of each sheet, and its last row.
func extent(r io.ReaderAt, size int64, opt source.Options) (width, last map[string]int, err error) {
	src, err := source.Open(r, size, opt)
	if err != nil {
		return nil, nil, err
	}
	width, last = map[string]int{}, map[string]int{}
	for {
		rec, err := src.Next()
		var broken *finding.Finding
		if err == io.EOF || errors.As(err, &broken) {
			return width, last, nil
		}
		if err != nil {
			return nil, nil, err
		}
		n := len(rec.Cells)
		for n > 0 && rec.Cells[n-1].Text == "" {
			n--
		}
		width[rec.Sheet] = max(width[rec.Sheet], n)
		last[rec.Sheet] = rec.Row
	}
}

// Fills of marked cells, as RGB.
var fills = map[finding.Severity]string{finding.Error: "F6C9C2", finding.Warning: "FBE7B2"}

var outcomeColors = map[Outcome]string{Loaded: "2E6B3E", Ready: "2E6B3E", Refused: "A3241A", Withheld: "8A5A00", Unchanged: "555555"}

// MarkedWorkbook writes the partner's workbook again: its cells as they are,
// coloured and with a comment where something was found, and the answers in
// columns of their own. The workbook is held in memory while it is marked.
func MarkedWorkbook(w io.Writer, r io.ReaderAt, size int64, m *mapping.Mapping, a Answers) error {
	width, last, err := extent(r, size, m.Options(source.DefaultLimits))
	if err != nil {
		return err
	}
	f, err := excelize.OpenReader(io.NewSectionReader(r, 0, size))
	if err != nil {
		return fmt.Errorf("the workbook cannot be opened for marking: %w", err)
	}
	defer f.Close()
	mk := marker{f: f, filled: map[fillKey]int{}, font: map[Outcome]int{}}
	for sheet := range width {
		if err := mk.sheet(sheet, last[sheet], columns(m.Results, width[sheet]), a); err != nil {
			return fmt.Errorf("sheet %s: %w", sheet, err)
		}
	}
	return f.Write(w)
}

type marker struct {
	f      *excelize.File
	filled map[fillKey]int
	font   map[Outcome]int
}

type fillKey struct {
	style    int
	severity finding.Severity
}

func (mk *marker) sheet(sheet string, last int, at [3]int, a Answers) error {
	first, err := a.FirstRow(sheet)
	if err != nil {
		return err
	}
	if first > 1 {
		bold, err := mk.newStyle("", true, []excelize.Border{{Type: "bottom", Style: 1, Color: "8A8474"}})
		if err != nil {
			return err
		}
		for i, text := range resultHeadings {
			if err := mk.write(sheet, at[i], first-1, text, bold); err != nil {
				return err
			}
		}
	}
	for i, wide := range [3]float64{16, 14, 70} {
		name := finding.ColumnName(at[i])
		if err := mk.f.SetColWidth(sheet, name, name, wide); err != nil {
			return err
		}
	}
	plain, err := mk.newStyle("", false, nil)
	if err != nil {
		return err
	}
	comments, err := mk.comments(sheet)
	if err != nil {
		return err
	}
	for from := 1; from <= last; from += chunkRows {
		answers, err := answersFor(a, sheet, from, min(last, from+chunkRows-1))
		if err != nil {
			return err
		}
		for row := from; row < from+chunkRows; row++ {
			answer := answers[row]
			if answer == nil {
				continue
			}
			style, err := mk.outcomeStyle(answer.outcome)
			if err != nil {
				return err
			}
			for i, text := range answer.cells() {
				if text == "" {
					continue
				}
				if i > 0 {
					style = plain
				}
				if err := mk.write(sheet, at[i], row, text, style); err != nil {
					return err
				}
			}
			if err := mk.cells(sheet, answer.findings, comments); err != nil {
				return err
			}
		}
	}
	return nil
}

// write sets a cell to text: text is never run as a formula.
func (mk *marker) write(sheet string, column, row int, value string, style int) error {
	cell := finding.ColumnName(column) + fmt.Sprint(row)
	if err := mk.f.SetCellStr(sheet, cell, finding.Clip(value, excelize.TotalCellChars-3)); err != nil {
		return err
	}
	return mk.f.SetCellStyle(sheet, cell, cell, style)
}

func (mk *marker) outcomeStyle(o Outcome) (int, error) {
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
	return mk.f.NewStyle(&excelize.Style{Font: &font, Border: border, Alignment: &excelize.Alignment{Indent: 1, Horizontal: "left", Vertical: "bottom"}})
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
func (mk *marker) cells(sheet string, findings []finding.Finding, own map[string]string) error {
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
		cell := finding.ColumnName(f.Place.Column) + fmt.Sprint(f.Place.Row)
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
		lines := math.Ceil(float64(len(said))/42) + 1
		err = mk.f.AddComment(sheet, excelize.Comment{
			Cell: cell, Author: "Koinos", Width: 280, Height: uint(22 + 15*lines), Paragraph: []excelize.RichTextRun{{Text: said}},
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
	if err != nil {
		return 0, err
	}
	style.Fill = excelize.Fill{Type: "pattern", Pattern: 1, Color: []string{fills[severity]}}
	done, err := mk.f.NewStyle(style)
	mk.filled[k] = done
	return done, err
}
