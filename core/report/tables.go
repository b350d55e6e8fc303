package report

import (
	"encoding/csv"
	"errors"
	"io"
	"strconv"
	"strings"

	"github.com/xuri/excelize/v2"

	"koinos/core/source"
)

// Sheet is a table with named columns.
type Sheet = source.Sheet

// TableWriter writes rows of texts, one after the other.
type TableWriter interface {
	// Add adds a row to the sheet at that place. Rows of the second sheet belong to the last row of the first one.
	Add(sheet int, cells []string) error
	// Close ends the table. Where err says that it cannot be whole, Close gives the table up and returns err.
	Close(err error) error
}

// TableFormat is a form in which rows are written.
type TableFormat struct {
	Type string // media type
	// Sheets is how many sheets it can have at most: JSON has those of the second one as lists in the rows of the first.
	Sheets int
	Begin  func(w io.Writer, sheets ...Sheet) (TableWriter, error)
	// Values says that it is read by programs, which add up by themselves.
	Values bool
}

// Tables are the forms of tables, by the ends of their files' names. CSV is RFC 4180, TSV the same with tabs, XLSX
// and ODS are workbooks, JSON is a list of objects, NDJSON an object a line.
var Tables = map[string]TableFormat{
	"csv":    {"text/csv", 1, beginCSV, false},
	"tsv":    {"text/tab-separated-values", 1, beginTSV, false},
	"xlsx":   {"application/vnd.openxmlformats-officedocument.spreadsheetml.sheet", 2, beginXLSX, false},
	"ods":    {"application/vnd.oasis.opendocument.spreadsheet", 2, beginODS, false},
	"json":   {"application/json", 2, beginJSON, true},
	"ndjson": {"application/x-ndjson", 2, beginNDJSON, true},
}

func beginODS(w io.Writer, sheets ...Sheet) (TableWriter, error) {
	return source.NewODSTable(w, sheets)
}

type csvTable struct{ w *csv.Writer }

func beginCSV(w io.Writer, sheets ...Sheet) (TableWriter, error) {
	t := csvTable{csv.NewWriter(w)}
	return t, t.w.Write(sheets[0].Headings)
}

func beginTSV(w io.Writer, sheets ...Sheet) (TableWriter, error) {
	t := csvTable{csv.NewWriter(w)}
	t.w.Comma = '\t'
	return t, t.w.Write(sheets[0].Headings)
}

func (t csvTable) Add(_ int, cells []string) error {
	guarded := make([]string, len(cells))
	for i, c := range cells {
		guarded[i] = source.Guard(c)
	}
	return t.w.Write(guarded)
}

func (t csvTable) Close(err error) error {
	t.w.Flush()
	return errors.Join(err, t.w.Error())
}

type xlsxTable struct {
	out    io.Writer
	file   *excelize.File
	sheets []xlsxSheet
	bold   int // style
	all    int // sheets of the workbook
}

// xlsxSheet is a table of a workbook: a sheet, or several where one is full.
type xlsxSheet struct {
	Sheet
	rows *excelize.StreamWriter
	row  int
	part int
}

// digits is how many a number of a workbook keeps exactly.
const digits = 15

// number returns a text as a number where a workbook keeps it exactly.
func number(text string) (float64, bool) {
	if len(strings.Trim(text, "-0.")) > digits {
		return 0, false
	}
	n, err := strconv.ParseFloat(text, 64)
	return n, err == nil
}

// sheetRows is how many rows a sheet of a workbook has at most; more go on in another one.
var sheetRows = 1_048_576

func beginXLSX(w io.Writer, sheets ...Sheet) (TableWriter, error) {
	t := &xlsxTable{out: w, file: excelize.NewFile(), sheets: make([]xlsxSheet, len(sheets))}
	var err error
	if t.bold, err = t.file.NewStyle(&excelize.Style{Font: &excelize.Font{Bold: true}}); err != nil {
		return nil, err
	}
	for i, s := range sheets {
		t.sheets[i].Sheet = s
		if err := t.begin(&t.sheets[i]); err != nil {
			return nil, err
		}
	}
	return t, nil
}

// begin begins a sheet, or one more of it, under its headings.
func (t *xlsxTable) begin(s *xlsxSheet) (err error) {
	s.part++
	t.all++
	name := s.Title(s.part)
	if t.all == 1 { // a new workbook has a sheet
		err = t.file.SetSheetName(t.file.GetSheetName(0), name)
	} else {
		_, err = t.file.NewSheet(name)
	}
	if err != nil {
		return err
	}
	if s.rows, err = t.file.NewStreamWriter(name); err != nil {
		return err
	}
	if err := s.rows.SetColWidth(1, len(s.Headings), 22); err != nil {
		return err
	}
	if err := s.rows.SetPanes(&excelize.Panes{Freeze: true, YSplit: 1, TopLeftCell: "A2",
		ActivePane: "bottomLeft"}); err != nil {
		return err
	}
	cells := make([]any, len(s.Headings))
	for i, h := range s.Headings {
		cells[i] = excelize.Cell{StyleID: t.bold, Value: h}
	}
	s.row = 1
	return s.rows.SetRow("A1", cells)
}

func (t *xlsxTable) Add(sheet int, cells []string) error {
	s := &t.sheets[sheet]
	if s.row == sheetRows {
		if err := errors.Join(s.rows.Flush(), t.begin(s)); err != nil {
			return err
		}
	}
	s.row++
	values := make([]any, len(cells))
	for i, c := range cells {
		values[i] = c
		if c == "" {
			values[i] = nil
		} else if n, is := number(c); is && i < len(s.Numeric) && s.Numeric[i] {
			values[i] = n
		}
	}
	return s.rows.SetRow("A"+strconv.Itoa(s.row), values)
}

func (t *xlsxTable) Close(err error) error {
	defer t.file.Close()
	if err != nil {
		return err
	}
	for i := range t.sheets {
		if err := t.sheets[i].rows.Flush(); err != nil {
			return err
		}
	}
	return t.file.Write(t.out)
}
