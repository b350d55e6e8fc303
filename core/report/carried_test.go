package report

import (
	"archive/zip"
	"bytes"
	"fmt"
	"io"
	"strings"
	"testing"

	"github.com/xuri/excelize/v2"

	"koinos/core/list"
	"koinos/core/mapping"
	"koinos/core/reading"
	"koinos/core/source"
)

// What a row leaves out because it stands above is in the rows that failed, if the rows above are not: they are read
// again as the same orders.
func TestFailedBelow(t *testing.T) {
	rows := [][]string{{"Order", "Item", "Customer", "Day"}, {"A", "rope", "PELLOW", "2026-03-02"}, {},
		{"B", "rope", "", "2026-03-03"}, {"", "chain"}, {}, {"C", "rope"}}
	var text, table strings.Builder
	f := excelize.NewFile()
	for r, row := range rows {
		text.WriteString(strings.Join(row, ";") + "\n")
		table.WriteString("<table:table-row>")
		for c, v := range row {
			if v == "" {
				table.WriteString("<table:table-cell/>")
				continue
			}
			table.WriteString(`<table:table-cell office:value-type="string"><text:p>` + v + `</text:p></table:table-cell>`)
			at, _ := excelize.CoordinatesToCellName(c+1, r+1)
			if err := f.SetCellValue("Sheet1", at, v); err != nil {
				t.Fatal(err)
			}
		}
		table.WriteString("</table:table-row>")
	}
	var xlsx, ods bytes.Buffer
	if err := f.Write(&xlsx); err != nil {
		t.Fatal(err)
	}
	z := zip.NewWriter(&ods)
	for _, part := range [][2]string{{"mimetype", "application/vnd.oasis.opendocument.spreadsheet"},
		{"content.xml", `<c><table:table table:name="Sheet1">` + table.String() + `</table:table></c>`}} {
		w, err := z.Create(part[0])
		if err == nil {
			_, err = io.WriteString(w, part[1])
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		format string
		doc    []byte
		write  func(io.Writer, io.ReaderAt, int64, source.Options, Set) error
	}{{"csv", []byte(text.String()), FailedCSV}, {"xlsx", xlsx.Bytes(), FailedWorkbook}, {"ods", ods.Bytes(), FailedODS}} {
		m, err := mapping.Parse([]byte(fmt.Sprintf(`koinos: mapping/1
name: c
document: {format: %s, carried: [Customer, Day]}
orders: {kind: sales, group: {by: key, columns: Order}}
header: {sender_number: {from: Order}, partner: {from: Customer, need: must}, ordered_on: {from: Day, need: must}}
lines: {item: {from: Item}, quantity: {value: "1"}}
`, c.format)))
		if err != nil {
			t.Fatal(err)
		}
		opt := m.Options(source.DefaultLimits)
		var b bytes.Buffer
		if err := c.write(&b, bytes.NewReader(c.doc), int64(len(c.doc)), opt,
			Set{Mapping: m, Answers: secondFailed{}}); err != nil {
			t.Fatal(c.format, err)
		}
		src, err := source.Open(bytes.NewReader(b.Bytes()), int64(b.Len()), opt)
		if err != nil {
			t.Fatal(c.format, err)
		}
		var got []string
		for g, err := range reading.NewTable(m, src, nil).Groups(t.Context()) {
			if err != nil {
				t.Fatal(c.format, err)
			}
			d := reading.Read(m, g, &list.Set{})
			got = append(got, fmt.Sprint(d.Order.SenderNumber, " ", d.Order.Partner, " ", d.Order.OrderedOn, " ",
				len(d.Order.Lines)))
		}
		if strings.Join(got, "|") != "B PELLOW 2026-03-03 2" {
			t.Errorf("%s: %q from\n%s", c.format, got, b.String()[:min(b.Len(), 300)])
		}
	}
}
