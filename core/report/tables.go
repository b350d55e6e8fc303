package report

import (
	"encoding/csv"
	"encoding/json"
	"io"
	"koinos/core/source"
	"strconv"

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

// Tables are the forms of tables, by the ends of their files' names. CSV is RFC 4180, XLSX
// has one sheet, JSON is a list of objects.
var Tables = map[string]TableFormat{
	"csv":  {"text/csv", beginCSV},
	"xlsx": {"application/vnd.openxmlformats-officedocument.spreadsheetml.sheet", beginXLSX},
	"json": {"application/json", beginJSON},
}

type csvTable struct{ w *csv.Writer }

func beginCSV(w io.Writer, headings []string) (TableWriter, error) {
	t := csvTable{csv.NewWriter(w)}
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
}

// sheetName is the sheet that a new workbook has.
const sheetName = "Sheet1"

func beginXLSX(w io.Writer, headings []string) (TableWriter, error) {
	t := &xlsxTable{out: w, file: excelize.NewFile()}
	var err error
	if t.rows, err = t.file.NewStreamWriter(sheetName); err != nil {
		return nil, err
	}
	bold, err := t.file.NewStyle(&excelize.Style{Font: &excelize.Font{Bold: true}})
	if err != nil {
		return nil, err
	}
	if err := t.rows.SetColWidth(1, len(headings), 22); err != nil {
		return nil, err
	}
	if err := t.rows.SetPanes(&excelize.Panes{Freeze: true, YSplit: 1, TopLeftCell: "A2",
		ActivePane: "bottomLeft"}); err != nil {
		return nil, err
	}
	cells := make([]any, len(headings))
	for i, h := range headings {
		cells[i] = excelize.Cell{StyleID: bold, Value: h}
	}
	t.row = 1
	return t, t.rows.SetRow("A1", cells)
}

func (t *xlsxTable) Add(cells []string) error {
	t.row++
	values := make([]any, len(cells))
	for i, c := range cells {
		values[i] = c
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
}

func beginJSON(w io.Writer, headings []string) (TableWriter, error) {
	return &jsonTable{w: w, headings: headings}, nil
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
	t.some = true
	_, err = t.w.Write(append([]byte(between), b...))
	return err
}

func (t *jsonTable) Close() error {
	end := "\n]\n"
	if !t.some {
		end = "[]\n"
	}
	_, err := io.WriteString(t.w, end)
	return err
}
