package report

import (
	"errors"
	"io"

	"koinos/core/outcome"
	"koinos/core/reading"
	"koinos/core/rewriting"
	"koinos/core/source"
)

// keeper says which rows of a document belong to what failed: whole orders
// that did not go in, what stands above the first order, and what stands
// between a failed order and the next, such as a blank row that parts them.
type keeper struct {
	a     Answers
	above *reading.Carrying // nil where each row says all of itself
	sheet string
	first int // row of the sheet's first order; 0 is none: all of the sheet stays
	spans []outcome.SpanOutcome
	upTo  int
	kept  bool
}

// keeperOf is the keeper for a document and the load of it.
func keeperOf(r io.ReaderAt, size int64, opt source.Options, set *Set) (*keeper, error) {
	k := &keeper{a: set.Answers}
	if len(set.Mapping.Document.Carried) == 0 {
		return k, nil
	}
	src, err := source.Open(r, size, opt)
	if err != nil {
		return nil, err
	}
	k.above = reading.NewCarrying(set.Mapping, src)
	return k, nil
}

// fill returns, by columns, what a row that is kept says only by standing below others, which may not be kept.
func (k *keeper) fill(sheet string, row int) (map[int]string, error) {
	if k.above == nil {
		return nil, nil
	}
	return k.above.At(sheet, row)
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
// the document, with the answers beside them: to be fixed and loaded again. Values that stand above them are written
// into the rows.
func FailedCSV(w io.Writer, r io.ReaderAt, size int64, opt source.Options, set Set) error {
	k, err := keeperOf(r, size, opt, &set)
	if err != nil {
		return err
	}
	return writeCSV(w, r, size, opt, []Set{set}, k)
}

// FailedODS is FailedCSV for an OpenDocument spreadsheet.
func FailedODS(w io.Writer, r io.ReaderAt, size int64, opt source.Options, set Set) error {
	sets := []Set{set}
	sheets, err := extents(r, size, opt, sets)
	if err != nil {
		return err
	}
	k, err := keeperOf(r, size, opt, &set)
	if err != nil {
		return err
	}
	b := &beside{sets: sets, sheets: sheets}
	return source.KeepODS(w, r, size, opt, func(rec *source.Record) (bool, error) {
		ok, err := k.keep(rec.Sheet, rec.Row)
		if err != nil || !ok {
			return false, err
		}
		if err := b.begin(rec.Sheet); err != nil {
			return false, err
		}
		put := func(column int, text string) {
			for len(rec.Cells) < column {
				rec.Cells = append(rec.Cells, source.Cell{})
			}
			rec.Cells[column-1] = source.Cell{Text: text}
		}
		above, err := k.fill(rec.Sheet, rec.Row)
		for column, text := range above {
			put(column, text)
		}
		return true, errors.Join(err, b.put(rec.Row, put))
	})
}

// FailedWorkbook is FailedCSV for a workbook: its other sheets, styles and
// widths are the partner's, formulas are their last values.
func FailedWorkbook(w io.Writer, r io.ReaderAt, size int64, opt source.Options, set Set) error {
	mk, err := newMarker(r, size, opt, []Set{set})
	if err != nil {
		return err
	}
	if mk.keeper, err = keeperOf(r, size, opt, &set); err != nil {
		return err
	}
	return rewriting.Rewrite(w, r, size, opt.Limits.Unpacked, mk.rewriting())
}
