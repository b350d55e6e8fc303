package report

import (
	"fmt"
	"io"
	"os"

	"github.com/xuri/excelize/v2"

	"koinos/core/origin"
	"koinos/core/outcome"
	"koinos/core/source"
)

// keeper says which rows of a document belong to what failed: whole orders
// that did not go in, what stands above the first order, and what stands
// between a failed order and the next, such as a blank row that parts them.
type keeper struct {
	a     Answers
	sheet string
	first int // row of the sheet's first order; 0 is none: all of the sheet stays
	spans []outcome.SpanOutcome
	upTo  int
	kept  bool
}

func (k *keeper) keep(sheet string, row int) (bool, error) {
	if k.upTo == 0 || sheet != k.sheet {
		first, err := k.a.FirstRow(sheet)
		if err != nil {
			return false, err
		}
		k.sheet, k.first, k.upTo, k.kept, k.spans = sheet, first, 1, true, nil
		if first > 0 {
			k.upTo = first - 1
		}
	}
	if k.first == 0 || row < k.first {
		return true, nil
	}
	if row > k.upTo {
		var err error
		k.upTo = row + chunkRows - 1
		if k.spans, err = k.a.Spans(sheet, row, k.upTo); err != nil {
			return false, err
		}
	}
	for len(k.spans) > 0 && k.spans[0].Last < row {
		k.spans = k.spans[1:]
	}
	if len(k.spans) > 0 && k.spans[0].First <= row {
		k.kept = k.spans[0].Outcome.Failed()
	}
	return k.kept, nil
}

// FailedCSV writes the rows of the orders that did not go in, in the layout of
// the document, with the answers beside them: to be mended and loaded again.
func FailedCSV(w io.Writer, r io.ReaderAt, size int64, opt source.Options, set Set) error {
	k := &keeper{a: set.Answers}
	return writeCSV(w, r, size, opt, []Set{set}, k.keep)
}

// FailedODS is FailedCSV for an OpenDocument spreadsheet.
func FailedODS(w io.Writer, r io.ReaderAt, size int64, opt source.Options, set Set) error {
	sets := []Set{set}
	sheets, err := extents(r, size, opt, sets)
	if err != nil {
		return err
	}
	k, b := &keeper{a: set.Answers}, &beside{sets: sets, sheets: sheets}
	return source.KeepODS(w, r, size, opt, func(rec *source.Record) (bool, error) {
		ok, err := k.keep(rec.Sheet, rec.Row)
		if err != nil || !ok {
			return false, err
		}
		if err := b.begin(rec.Sheet); err != nil {
			return false, err
		}
		return true, b.put(rec.Row, func(column int, text string) {
			for len(rec.Cells) < column {
				rec.Cells = append(rec.Cells, source.Cell{})
			}
			rec.Cells[column-1] = source.Cell{Text: text}
		})
	})
}

// FailedWorkbook is FailedCSV for a workbook: its other sheets, styles and
// widths are the partner's, formulas are their last values.
func FailedWorkbook(w io.Writer, r io.ReaderAt, size int64, opt source.Options, set Set) error {
	sets := []Set{set}
	sheets, err := extents(r, size, opt, sets)
	if err != nil {
		return err
	}
	tmp, err := os.CreateTemp("", "koinos-failed-*")
	if err != nil {
		return err
	}
	defer os.Remove(tmp.Name())
	defer tmp.Close()
	k := &keeper{a: set.Answers}
	rows, err := source.KeepRows(tmp, r, size, opt.Limits, func(sheet string, row int) (bool, error) {
		if sheets[sheet] == nil {
			return true, nil // a sheet that the mapping does not read
		}
		return k.keep(sheet, row)
	})
	if err != nil {
		return err
	}
	if _, err := tmp.Seek(0, io.SeekStart); err != nil {
		return err
	}
	f, err := excelize.OpenReader(tmp)
	if err != nil {
		return fmt.Errorf("the workbook cannot be opened for marking: %w", err)
	}
	defer f.Close()
	mk := newMarker(f)
	for sheet, e := range sheets {
		if err := mk.failed(sheet, rows[sheet], columns(sets, e), &sets[0]); err != nil {
			return fmt.Errorf("sheet %s: %w", sheet, err)
		}
	}
	return f.Write(w)
}

// failed marks a sheet of which only some rows are left: rows says which row
// of the original each is.
func (mk *marker) failed(sheet string, rows []int, all []column, set *Set) error {
	plain, err := mk.newStyle("", false, nil)
	if err != nil {
		return err
	}
	comments, err := mk.moveComments(sheet, rows)
	if err != nil {
		return err
	}
	first, err := set.Answers.FirstRow(sheet)
	if err != nil || first == 0 {
		return err
	}
	var answers map[int]*rowAnswer
	upTo := 0
	for i, was := range rows {
		if was == first-1 {
			if err := mk.headings(sheet, i+1, all); err != nil {
				return err
			}
		}
		if was > upTo {
			upTo = was + chunkRows - 1
			if answers, err = set.rows(sheet, was, upTo); err != nil {
				return err
			}
		}
		answer := answers[was]
		if answer == nil {
			continue
		}
		if err := mk.row(sheet, i+1, answer, all, plain); err != nil {
			return err
		}
		if err := mk.cells(sheet, i+1, answer.findings, comments); err != nil {
			return err
		}
	}
	return nil
}

// moveComments takes the partner's comments to where their rows are now.
func (mk *marker) moveComments(sheet string, rows []int) (map[string]string, error) {
	own, err := mk.f.GetComments(sheet)
	if err != nil || len(own) == 0 {
		return map[string]string{}, err
	}
	at := map[int]int{}
	for i, was := range rows {
		at[was] = i + 1
	}
	for _, c := range own {
		if err := mk.f.DeleteComment(sheet, c.Cell); err != nil {
			return nil, err
		}
	}
	for _, c := range own {
		column, row, err := excelize.CellNameToCoordinates(c.Cell)
		if err != nil || at[row] == 0 {
			continue
		}
		c.Cell = origin.ColumnName(column) + fmt.Sprint(at[row])
		if err := mk.f.AddComment(sheet, c); err != nil {
			return nil, err
		}
	}
	return mk.comments(sheet)
}
