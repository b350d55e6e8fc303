package report

import (
	"io"

	"koinos/core/outcome"
	"koinos/core/rewriting"
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
// the document, with the answers beside them: to be fixed and loaded again.
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
	mk, err := newMarker(r, size, opt, []Set{set})
	if err != nil {
		return err
	}
	k := &keeper{a: set.Answers}
	mk.keep = k.keep
	return rewriting.Rewrite(w, r, size, opt.Limits.Unpacked, mk.rewriting())
}
