package source

import (
	"archive/zip"
	"bufio"
	"errors"
	"io"
	"os"
	"strconv"

	"koinos/core/order"
)

// Sheet is a table with named columns, for those who write workbooks.
type Sheet struct {
	Name     string // "" is that of a workbook's only sheet
	Headings []string
	Numeric  []bool // which columns hold numbers
	Keys     int    // how many columns, from the left, only say to which row of the sheet before a row belongs
}

// Title is the name of the sheet, or of the nth sheet if it is too long for one.
func (s *Sheet) Title(n int) string {
	switch {
	case s.Name == "":
		return "Sheet" + strconv.Itoa(n)
	case n == 1:
		return s.Name
	}
	return s.Name + " " + strconv.Itoa(n)
}

// ODSTable writes rows of texts as an OpenDocument spreadsheet. When a sheet is full, it continues in another one.
type ODSTable struct {
	zip    *zip.Writer
	out    *odsWriter
	sheets []odsSheet
}

// odsSheet is a sheet that is being written. A document contains its sheets one after the other, so those behind the
// first one are written into a file until the others are complete.
type odsSheet struct {
	Sheet
	out  *odsWriter
	file *os.File
	row  int
}

// odsSheetRows is how many rows a sheet has at most, which is what the common programs can open.
const odsSheetRows = 1_048_576

// NewODSTable begins a spreadsheet with the headings of its sheets.
func NewODSTable(w io.Writer, sheets []Sheet) (*ODSTable, error) {
	t := &ODSTable{zip: zip.NewWriter(w), sheets: make([]odsSheet, len(sheets))}
	var err error
	if t.out, err = newODSWriter(t.zip); err != nil {
		return nil, err
	}
	for i := range sheets {
		s := &t.sheets[i]
		s.Sheet, s.out = sheets[i], t.out
		if i > 0 {
			if s.file, err = os.CreateTemp("", "koinos-*.xml"); err != nil {
				return nil, errors.Join(err, t.remove())
			}
			s.out = &odsWriter{out: bufio.NewWriter(s.file)}
		}
		s.begin()
	}
	return t, nil
}

func (s *odsSheet) begin() {
	s.out.sheet(s.Title(s.out.sheets + 1))
	s.row = 0
	s.write(s.Headings, nil)
}

func (s *odsSheet) write(texts []string, numeric []bool) {
	rec := Record{Cells: make([]Cell, len(texts))}
	for i, text := range texts {
		rec.Cells[i] = Cell{Text: text}
		if i < len(numeric) && numeric[i] {
			if _, err := order.ParseNumber(text); err == nil && text != "" {
				rec.Cells[i].Kind = Number
			}
		}
	}
	s.out.row(&rec)
	s.row++
}

// Add adds a row to a sheet.
func (t *ODSTable) Add(sheet int, texts []string) error {
	s := &t.sheets[sheet]
	if s.row == odsSheetRows {
		s.begin()
	}
	s.write(texts, s.Numeric)
	return nil // what cannot be written Close says
}

// Close ends the spreadsheet. If err says that it cannot be complete, Close gives it up and returns err.
func (t *ODSTable) Close(err error) error {
	if err != nil {
		return errors.Join(err, t.remove())
	}
	t.out.endSheet()
	for i := range t.sheets[1:] {
		err = errors.Join(err, t.sheets[i+1].copyTo(t.out.out))
	}
	t.out.sheets = 0 // each is ended
	return errors.Join(err, t.out.close(), t.zip.Close(), t.remove())
}

// copyTo copies a sheet that was written into a file behind those before it.
func (s *odsSheet) copyTo(w io.Writer) error {
	s.out.endSheet()
	if err := s.out.out.Flush(); err != nil {
		return err
	}
	if _, err := s.file.Seek(0, io.SeekStart); err != nil {
		return err
	}
	_, err := io.Copy(w, s.file)
	return err
}

func (t *ODSTable) remove() (err error) {
	for _, s := range t.sheets {
		if s.file != nil {
			err = errors.Join(err, s.file.Close(), os.Remove(s.file.Name()))
		}
	}
	return err
}
