package report

import (
	"bytes"
	"fmt"
	"testing"

	"github.com/xuri/excelize/v2"
)

// A workbook of more rows than a sheet has goes on in another sheet, under the same headings; numbers are numbers where
// a workbook keeps them exactly.
func TestWorkbookOfManyRows(t *testing.T) {
	defer func(n int) { sheetRows = n }(sheetRows)
	sheetRows = 3
	var b bytes.Buffer
	table, err := Tables["xlsx"].Begin(&b, []string{"code", "quantity"})
	if err != nil {
		t.Fatal(err)
	}
	Numeric(table, []bool{false, true})
	for i, quantity := range []string{"1.50", "-2", "", "12345678901234567.5", "7"} {
		if err := table.Add([]string{fmt.Sprintf("%03d", i), quantity}); err != nil {
			t.Fatal(err)
		}
	}
	if err := table.Close(); err != nil {
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
	for cell, want := range map[string]excelize.CellType{"A2": excelize.CellTypeInlineString, "B2": excelize.CellTypeUnset} {
		if kind, err := f.GetCellType("Sheet1", cell); err != nil || kind != want {
			t.Errorf("%s is of type %v, not %v: %v", cell, kind, want, err)
		}
	}
}
