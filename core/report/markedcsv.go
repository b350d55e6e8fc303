package report

import (
	"errors"
	"io"

	"koinos/core/finding"
	"koinos/core/source"
)

// MarkedCSV writes the document's rows again with the answers beside them, in
// UTF-8 with a byte order mark, which spreadsheets need to see accents right.
func MarkedCSV(w io.Writer, r io.ReaderAt, size int64, opt source.Options, sets []Set) error {
	return writeCSV(w, r, size, opt, sets, nil)
}

// writeCSV writes the rows that keep lets through, as the document is written; where keep is nil all of
// them, for people.
func writeCSV(w io.Writer, r io.ReaderAt, size int64, opt source.Options, sets []Set, keep *keeper) error {
	opt.Leaves = true // JSON is shown as a table of its values
	shape, err := source.Sniff(r, size, opt)
	if err != nil {
		return err
	}
	sheets, err := extents(r, size, opt, sets)
	if err != nil {
		return err
	}
	src, err := source.Open(r, size, opt)
	if err != nil {
		return err
	}
	strict := shape.Strict()
	if keep == nil && strict {
		shape = source.Shape{}
	}
	if keep == nil || shape.Encoding == source.UTF8 {
		if keep == nil || shape.Marked {
			if _, err := io.WriteString(w, "\ufeff"); err != nil {
				return err
			}
		}
		shape.Encoding = ""
	}
	out := source.NewCSVWriter(w, shape)
	beside := &beside{sets: sets, sheets: sheets}
	for {
		rec, err := src.Next()
		var broken *finding.Finding
		if err == io.EOF || errors.As(err, &broken) { // the load's report says so too
			break
		}
		if err != nil {
			return err
		}
		if rec.Sheet != "" {
			return finding.Fatal(finding.FormatUnknown, rec.Place(0),
				"Answers are written beside the rows of one sheet of an .ods workbook "+
					"only: save it as .xlsx to have them beside the rows of several.")
		}
		if keep != nil && rec.Row == 0 {
			continue // the names of the columns, which the document does not have
		}
		var above map[int]string
		if keep != nil {
			if ok, err := keep.keep("", rec.Row); err != nil {
				return err
			} else if !ok {
				continue
			}
			if above, err = keep.fill("", rec.Row); err != nil {
				return err
			}
		}
		if err := beside.begin(rec.Sheet); err != nil {
			return err
		}
		for column, text := range above {
			for len(rec.Cells) < column {
				rec.Cells = append(rec.Cells, source.Cell{})
			}
			rec.Cells[column-1].Text = text
		}
		row := make([]string, max(len(rec.Cells), beside.width))
		for i, c := range rec.Cells {
			if row[i] = c.Text; keep == nil || !strict {
				row[i] = source.Guard(c.Text)
			}
		}
		if keep != nil && strict { // there is no place for answers beside the rows
			row = row[:len(rec.Cells)]
		} else if err := beside.put(rec.Row, func(column int, text string) {
			row[column-1] = source.Guard(text)
		}); err != nil {
			return err
		}
		if err := out.Write(row); err != nil {
			return err
		}
	}
	return out.Close()
}

// beside returns the answers that stand beside the rows of a document, sheet by sheet.
type beside struct {
	sets    []Set
	sheets  map[string]*extent
	begun   bool
	sheet   string
	all     []column
	width   int // columns of the sheet with those of the answers
	first   []int
	answers []map[int]*rowAnswer
	upTo    int
}

// begin makes a sheet the one that rows are of.
func (b *beside) begin(sheet string) (err error) {
	if b.begun && sheet == b.sheet {
		return nil
	}
	e := b.sheets[sheet]
	if e == nil {
		e = &extent{}
	}
	b.begun, b.sheet, b.upTo, b.all, b.width = true, sheet, 0, columns(b.sets, e), e.width
	for _, c := range b.all {
		b.width = max(b.width, c.at)
	}
	b.first, b.answers = make([]int, len(b.sets)), make([]map[int]*rowAnswer, len(b.sets))
	for i := range b.sets {
		if b.first[i], err = b.sets[i].Answers.FirstRow(sheet); err != nil {
			return err
		}
	}
	return nil
}

// put returns the answers to a row, each with its column.
func (b *beside) put(row int, put func(column int, text string)) (err error) {
	if row > b.upTo {
		b.upTo = row + chunkRows - 1
		for i := range b.sets {
			if b.answers[i], err = b.sets[i].rows(b.sheet, row, b.upTo); err != nil {
				return err
			}
		}
	}
	for i := range b.all {
		c, text := &b.all[i], ""
		for j := range b.sets {
			if c.set != &b.sets[j] {
				continue
			}
			if answer := b.answers[j][row]; answer != nil {
				if text, err = c.value(answer); err != nil {
					return err
				}
			} else if row == b.first[j]-1 {
				text = c.heading
			}
		}
		if text != "" {
			put(c.at, text)
		}
	}
	return nil
}
