package report

import (
	"archive/zip"
	"bytes"
	"errors"
	"fmt"
	"io"
	"koinos/core/source"
	"os"
	"strings"
	"testing"

	"github.com/xuri/excelize/v2"
)

// A workbook of more rows than a sheet has goes on in another sheet, under the same headings; numbers are numbers where
// a workbook keeps them exactly.
func TestWorkbookOfManyRows(t *testing.T) {
	defer func(n int) { sheetRows = n }(sheetRows)
	sheetRows = 3
	var b bytes.Buffer
	table, err := Tables["xlsx"].Begin(&b, Sheet{Headings: []string{"code", "quantity"}, Numeric: []bool{false, true}})
	if err != nil {
		t.Fatal(err)
	}
	for i, quantity := range []string{"1.50", "-2", "", "12345678901234567.5", "7"} {
		if err := table.Add(0, []string{fmt.Sprintf("%03d", i), quantity}); err != nil {
			t.Fatal(err)
		}
	}
	if err := table.Close(nil); err != nil {
		t.Fatal(err)
	}
	f, err := excelize.OpenReader(&b)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	got := ""
	for _, sheet := range f.GetSheetList() {
		rows, err := f.GetRows(sheet)
		if err != nil {
			t.Fatal(err)
		}
		got += fmt.Sprintf("%s %q\n", sheet, rows)
	}
	want := `Sheet1 [["code" "quantity"] ["000" "1.5"] ["001" "-2"]]
Sheet2 [["code" "quantity"] ["002"] ["003" "12345678901234567.5"]]
Sheet3 [["code" "quantity"] ["004" "7"]]
`
	if got != want {
		t.Errorf("%s\nnot\n%s", got, want)
	}
	for cell, want := range map[string]excelize.CellType{"A2": excelize.CellTypeInlineString,
		"B2": excelize.CellTypeUnset} {
		if kind, err := f.GetCellType("Sheet1", cell); err != nil || kind != want {
			t.Errorf("%s is of type %v, not %v: %v", cell, kind, want, err)
		}
	}
}

// A table of two sheets: workbooks have both, JSON has the rows of the second one as a list in those of the first.
func TestTwoSheets(t *testing.T) {
	sheets := []Sheet{{Name: "orders", Headings: []string{"number", "total"}, Numeric: []bool{false, true}},
		{Name: "lines", Headings: []string{"number", "lines.number", "lines.quantity"}, Numeric: []bool{false, false, true},
			Keys: 1}}
	rows := []struct {
		sheet int
		cells []string
	}{{0, []string{"SO-1", "9.50"}}, {1, []string{"SO-1", "1", "2"}}, {1, []string{"SO-1", "2", ""}}, {0, []string{"SO-2",
		""}}}
	books := "orders [number total] [SO-1 9.5] [SO-2] lines [number lines.number lines.quantity] [SO-1 1 2] [SO-1 2]"
	one, two := `{"lines":[{"number":"1","quantity":"2"},{"number":"2"}],"number":"SO-1","total":"9.50"}`,
		`{"lines":[],"number":"SO-2"}`
	for form, want := range map[string]string{"xlsx": books, "ods": strings.Replace(books, "9.5", "9.50", 1),
		"json": "[\n" + one + ",\n" + two + "\n]\n", "ndjson": one + "\n" + two + "\n"} {
		var b bytes.Buffer
		table, err := Tables[form].Begin(&b, sheets...)
		if err != nil {
			t.Fatal(err)
		}
		for _, row := range rows {
			if err := table.Add(row.sheet, row.cells); err != nil {
				t.Fatal(err)
			}
		}
		if err := table.Close(nil); err != nil {
			t.Fatal(err)
		}
		got := b.String()
		if !Tables[form].Values {
			got = read(t, b.Bytes(), source.Format(form))
		}
		if got != want {
			t.Errorf("%s:\n%s\nnot\n%s", form, got, want)
		}
	}
}

// A table that cannot be whole leaves no file behind, and ends in nothing that can be opened.
func TestTableGivenUp(t *testing.T) {
	t.Setenv("TMPDIR", t.TempDir())
	gone := errors.New("gone")
	for name, form := range Tables {
		var b bytes.Buffer
		table, err := form.Begin(&b, []Sheet{{Name: "a", Headings: []string{"a"}},
			{Name: "b", Headings: []string{"b"}}}[:form.Sheets]...)
		if err != nil {
			t.Fatal(err)
		}
		if err := errors.Join(table.Add(0, []string{"1"}), table.Close(gone)); !errors.Is(err, gone) {
			t.Errorf("%s: %v", name, err)
		}
		if name == "xlsx" || name == "ods" {
			if _, err := zip.NewReader(bytes.NewReader(b.Bytes()), int64(b.Len())); err == nil {
				t.Errorf("%s can be opened", name)
			}
		}
	}
	if left, err := os.ReadDir(os.Getenv("TMPDIR")); err != nil || len(left) > 0 {
		t.Errorf("%v %v", left, err)
	}
}

// read returns a workbook's sheets and rows as a text.
func read(t *testing.T, doc []byte, format source.Format) string {
	src, err := source.Open(bytes.NewReader(doc), int64(len(doc)),
		source.Options{Format: format, Sheets: func(int, string) bool { return true }})
	if err != nil {
		t.Fatal(err)
	}
	var all []string
	sheet := ""
	for {
		rec, err := src.Next()
		if err == io.EOF {
			return strings.Join(all, " ")
		}
		if err != nil {
			t.Fatal(err)
		}
		if rec.Sheet != sheet {
			sheet = rec.Sheet
			all = append(all, sheet)
		}
		var cells []string
		for _, c := range rec.Cells {
			cells = append(cells, c.Text)
		}
		all = append(all, fmt.Sprint(cells))
	}
}
