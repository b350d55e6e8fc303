package report

import (
	"encoding/csv"
	"encoding/json"
	"errors"
	"io"
	"koinos/core/source"
	"strconv"
	"strings"

	"github.com/xuri/excelize/v2"
)

// TableWriter writes rows of texts, one after the other.
type TableWriter interface {
	Add(cells []string) error
	Close() error
}

// TableFormat is a form in which rows are written.
type TableFormat struct {
	Type  string // media type
	Begin func(w io.Writer, headings []string) (TableWriter, error)
}

// Tables are the forms of tables, by the ends of their files' names. CSV is RFC 4180, TSV the same with tabs, XLSX
// and ODS are workbooks of one sheet, JSON is a list of objects, NDJSON an object a line.
var Tables = map[string]TableFormat{
	"csv":    {"text/csv", beginCSV},
	"tsv":    {"text/tab-separated-values", beginTSV},
	"xlsx":   {"application/vnd.openxmlformats-officedocument.spreadsheetml.sheet", beginXLSX},
	"ods":    {"application/vnd.oasis.opendocument.spreadsheet", beginODS},
	"json":   {"application/json", beginJSON},
	"ndjson": {"application/x-ndjson", beginNDJSON},
}

// Numeric tells a form that has numbers, as workbooks do, which columns hold some.
func Numeric(t TableWriter, columns []bool) {
	switch t := t.(type) {
	case *xlsxTable:
		t.numeric = columns
	case *source.ODSTable:
		t.Numeric = columns
	}
}

func beginODS(w io.Writer, headings []string) (TableWriter, error) {
	return source.NewODSTable(w, headings)
}

type csvTable struct{ w *csv.Writer }

func beginCSV(w io.Writer, headings []string) (TableWriter, error) {
	t := csvTable{csv.NewWriter(w)}
	return t, t.w.Write(headings)
}

func beginTSV(w io.Writer, headings []string) (TableWriter, error) {
	t := csvTable{csv.NewWriter(w)}
	t.w.Comma = '\t'
	return t, t.w.Write(headings)
}

func (t csvTable) Add(cells []string) error {
	guarded := make([]string, len(cells))
	for i, c := range cells {
		guarded[i] = source.Guard(c)
	}
	return t.w.Write(guarded)
}

func (t csvTable) Close() error {
	t.w.Flush()
	return t.w.Error()
}

type xlsxTable struct {
	out  io.Writer
	file *excelize.File
	rows *excelize.StreamWriter
	row  int

	sheets   int
	headings []string
	numeric  []bool // by column
}

// digits is how many a number of a workbook keeps exactly.
const digits = 15

// number gives a text as a number where a workbook keeps it exactly.
func number(text string) (float64, bool) {
	if len(strings.Trim(text, "-0.")) > digits {
		return 0, false
	}
	n, err := strconv.ParseFloat(text, 64)
	return n, err == nil
}

// sheetRows is how many rows a sheet of a workbook has at most; more go on in another one.
var sheetRows = 1_048_576

func beginXLSX(w io.Writer, headings []string) (TableWriter, error) {
	t := &xlsxTable{out: w, file: excelize.NewFile(), headings: headings}
	return t, t.sheet()
}

// sheet begins a sheet, under its headings.
func (t *xlsxTable) sheet() (err error) {
	t.sheets++
	name := "Sheet" + strconv.Itoa(t.sheets) // a new workbook has the first one
	if t.sheets > 1 {
		if _, err := t.file.NewSheet(name); err != nil {
			return err
		}
	}
	if t.rows, err = t.file.NewStreamWriter(name); err != nil {
		return err
	}
	bold, err := t.file.NewStyle(&excelize.Style{Font: &excelize.Font{Bold: true}})
	if err != nil {
		return err
	}
	if err := t.rows.SetColWidth(1, len(t.headings), 22); err != nil {
		return err
	}
	if err := t.rows.SetPanes(&excelize.Panes{Freeze: true, YSplit: 1, TopLeftCell: "A2",
		ActivePane: "bottomLeft"}); err != nil {
		return err
	}
	cells := make([]any, len(t.headings))
	for i, h := range t.headings {
		cells[i] = excelize.Cell{StyleID: bold, Value: h}
	}
	t.row = 1
	return t.rows.SetRow("A1", cells)
}

func (t *xlsxTable) Add(cells []string) error {
	if t.row == sheetRows {
		if err := errors.Join(t.rows.Flush(), t.sheet()); err != nil {
			return err
		}
	}
	t.row++
	values := make([]any, len(cells))
	for i, c := range cells {
		values[i] = c
		if c == "" {
			values[i] = nil
		} else if n, is := number(c); is && i < len(t.numeric) && t.numeric[i] {
			values[i] = n
		}
	}
	return t.rows.SetRow("A"+strconv.Itoa(t.row), values)
}

func (t *xlsxTable) Close() error {
	defer t.file.Close()
	if err := t.rows.Flush(); err != nil {
		return err
	}
	return t.file.Write(t.out)
}

type jsonTable struct {
	w        io.Writer
	headings []string
	some     bool
	lines    bool // NDJSON
}

func beginJSON(w io.Writer, headings []string) (TableWriter, error) {
	return &jsonTable{w: w, headings: headings}, nil
}

func beginNDJSON(w io.Writer, headings []string) (TableWriter, error) {
	return &jsonTable{w: w, headings: headings, lines: true}, nil
}

func (t *jsonTable) Add(cells []string) error {
	row := make(map[string]string, len(cells))
	for i, c := range cells {
		if c != "" {
			row[t.headings[i]] = c
		}
	}
	b, err := json.Marshal(row)
	if err != nil {
		return err
	}
	between := "[\n"
	if t.some {
		between = ",\n"
	}
	if t.lines {
		_, err = t.w.Write(append(b, '\n'))
		return err
	}
	t.some = true
	_, err = t.w.Write(append([]byte(between), b...))
	return err
}

func (t *jsonTable) Close() error {
	end := "\n]\n"
	if t.lines {
		return nil
	}
	if !t.some {
		end = "[]\n"
	}
	_, err := io.WriteString(t.w, end)
	return err
}
