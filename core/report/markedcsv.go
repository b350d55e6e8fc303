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
func writeCSV(w io.Writer, r io.ReaderAt, size int64, opt source.Options, sets []Set,
	keep func(sheet string, row int) (bool, error)) error {
	opt.Leaves = true // JSON is shown as a table of its values
	shape, err := source.Sniff(r, size, opt)
	if err != nil {
		return err
	}
	sheets, err := extents(r, size, opt, sets)
	if err != nil {
		return err
	}
	e := sheets[""]
	if e == nil {
		e = &extent{}
	}
	all := columns(sets, e)
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
	first, answers := make([]int, len(sets)), make([]map[int]*rowAnswer, len(sets))
	for i := range sets {
		if first[i], err = sets[i].Answers.FirstRow(""); err != nil {
			return err
		}
	}
	width := e.width
	for _, c := range all {
		width = max(width, c.at)
	}
	for upTo := 0; ; {
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
		if rec.Row > upTo {
			upTo = rec.Row + chunkRows - 1
			for i := range sets {
				if answers[i], err = sets[i].rows("", rec.Row, upTo); err != nil {
					return err
				}
			}
		}
		if keep != nil && rec.Row == 0 {
			continue // the names of the columns, which the document does not have
		}
		if keep != nil {
			if ok, err := keep("", rec.Row); err != nil {
				return err
			} else if !ok {
				continue
			}
		}
		row := make([]string, max(len(rec.Cells), width))
		for i, c := range rec.Cells {
			if row[i] = c.Text; keep == nil || !strict {
				row[i] = source.Guard(c.Text)
			}
		}
		if keep != nil && strict { // there is no place for answers beside the rows
			if err := out.Write(row[:len(rec.Cells)]); err != nil {
				return err
			}
			continue
		}
		for i := range all {
			c, text := &all[i], ""
			for j := range sets {
				if c.set != &sets[j] {
					continue
				}
				if answer := answers[j][rec.Row]; answer != nil {
					if text, err = c.value(answer); err != nil {
						return err
					}
				} else if rec.Row == first[j]-1 {
					text = c.heading
				}
			}
			if text != "" {
				row[c.at-1] = source.Guard(text)
			}
		}
		if err := out.Write(row); err != nil {
			return err
		}
	}
	return out.Close()
}
