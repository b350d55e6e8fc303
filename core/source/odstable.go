package source

import (
	"archive/zip"
	"errors"
	"io"
	"strconv"

	"koinos/core/order"
)

// ODSTable writes rows of texts as an OpenDocument spreadsheet of one sheet, or of more where one is full.
type ODSTable struct {
	Numeric  []bool // which columns hold numbers
	zip      *zip.Writer
	out      *odsWriter
	headings []string
	row      int
}

// odsSheetRows is how many rows a sheet has at most: what the common programs open.
const odsSheetRows = 1_048_576

// NewODSTable begins a spreadsheet with its headings.
func NewODSTable(w io.Writer, headings []string) (*ODSTable, error) {
	t := &ODSTable{zip: zip.NewWriter(w), headings: headings}
	var err error
	if t.out, err = newODSWriter(t.zip); err != nil {
		return nil, err
	}
	t.sheet()
	return t, nil
}

func (t *ODSTable) sheet() {
	t.out.sheet("Sheet" + strconv.Itoa(t.out.sheets+1))
	t.row = 0
	t.write(t.headings, nil)
}

func (t *ODSTable) write(texts []string, numeric []bool) {
	rec := Record{Cells: make([]Cell, len(texts))}
	for i, text := range texts {
		rec.Cells[i] = Cell{Text: text}
		if i < len(numeric) && numeric[i] {
			if _, err := order.ParseNumber(text); err == nil && text != "" {
				rec.Cells[i].Kind = Number
			}
		}
	}
	t.out.row(&rec)
	t.row++
}

// Add adds a row.
func (t *ODSTable) Add(texts []string) error {
	if t.row == odsSheetRows {
		t.sheet()
	}
	t.write(texts, t.Numeric)
	return nil // what cannot be written Close says
}

// Close ends the spreadsheet.
func (t *ODSTable) Close() error { return errors.Join(t.out.close(), t.zip.Close()) }
