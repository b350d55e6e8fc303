package report

import (
	"bytes"
	"fmt"
	"io"
	"slices"
	"strings"
	"testing"

	"github.com/xuri/excelize/v2"

	"koinos/core/finding"
	"koinos/core/list"
	"koinos/core/mapping"
	"koinos/core/origin"
	"koinos/core/outcome"
	"koinos/core/reading"
	"koinos/core/source"
)

// lastFailed are answers of a load in which the orders in rows 4 and 5 and in row 7 of each sheet failed.
type lastFailed struct{ allFailed }

func (lastFailed) Spans(_ string, first, last int) (all []outcome.SpanOutcome, err error) {
	for _, rows := range [][2]int{{2, 2}, {4, 5}, {7, 7}} {
		s := outcome.SpanOutcome{}
		if s.First, s.Last, s.Outcome = rows[0], rows[1], outcome.Refused; s.First == 2 {
			s.Outcome = outcome.Loaded
		}
		if s.Last >= first && s.First <= last {
			all = append(all, s)
		}
	}
	return all, nil
}

// aboveFailed are answers of a load in which a value that counts for two orders keeps both out.
type aboveFailed struct{ lastFailed }

func (aboveFailed) Findings(string, int, int) (all []finding.Finding, err error) {
	for n := range 2 {
		f := finding.New(finding.UnknownCode, origin.Place{Row: 4, Column: 3}, "PELLOW", "It is not in the list.")
		f.Order, f.Hint = n+2, ""
		all = append(all, f)
	}
	return all, nil
}

// What is wrong in a cell that counts for several orders is said there once, and the others are led to it.
func TestSaidOnce(t *testing.T) {
	doc := []byte("Order,Item,Customer\nA,rope,SALTRY\n,,\nB,rope,PELLOW\n,chain,\n,,\nC,rope,\n")
	m := &mapping.Mapping{}
	m.Document.Carried = []mapping.Source{{Kind: mapping.ByColumn, Column: 3}}
	var b bytes.Buffer
	if err := MarkedCSV(&b, bytes.NewReader(doc), int64(len(doc)), source.Options{Format: source.CSV, Limits: source.DefaultLimits},
		[]Set{{Mapping: m, Answers: aboveFailed{}}}); err != nil {
		t.Fatal(err)
	}
	const elsewhere = `,,refused,,"Another row of this order, or one above that counts for it, keeps it out."`
	for _, want := range []string{"B,rope,PELLOW,refused,,It is not in the list.", ",chain" + elsewhere, "C,rope" + elsewhere} {
		if !slices.Contains(strings.Split(b.String(), "\r\n"), want) {
			t.Errorf("%q is not in\n%s", want, b.String())
		}
	}
}

// What a row leaves out because it stands above is in the rows that failed, if the rows above are not, sheet by sheet:
// they are read again as the same orders. A sum below the orders of a sheet, which no order has, ends nothing.
func TestFailedBelow(t *testing.T) {
	rows := [][]string{{"Order", "Item", "Customer", "Day"}, {"A", "rope", "PELLOW", "2026-03-02"}, {},
		{"B", "rope", "", "2026-03-03"}, {"", "chain"}, {}, {"C", "rope"}, {}, {"", "", "in all"}}
	var text strings.Builder
	tables, f := "", excelize.NewFile()
	if _, err := f.NewSheet("Sheet2"); err != nil {
		t.Fatal(err)
	}
	for _, sheet := range []string{"Sheet1", "Sheet2"} {
		as := strings.Clone
		if sheet == "Sheet2" {
			as = strings.NewReplacer("PELLOW", "SALTRY").Replace
		}
		var table strings.Builder
		for r, row := range rows {
			if sheet == "Sheet1" {
				text.WriteString(strings.Join(row, ";") + "\n")
			}
			table.WriteString("<table:table-row>")
			for c, v := range row {
				if v == "" {
					table.WriteString("<table:table-cell/>")
					continue
				}
				table.WriteString(`<table:table-cell office:value-type="string"><text:p>` + as(v) + `</text:p></table:table-cell>`)
				at, _ := excelize.CoordinatesToCellName(c+1, r+1)
				if err := f.SetCellValue(sheet, at, as(v)); err != nil {
					t.Fatal(err)
				}
			}
			table.WriteString("</table:table-row>")
		}
		tables += `<table:table table:name="` + sheet + `">` + table.String() + `</table:table>`
	}
	var xlsx bytes.Buffer
	if err := f.Write(&xlsx); err != nil {
		t.Fatal(err)
	}
	const first, second = "B PELLOW 2026-03-03 2|C PELLOW 2026-03-03 1", "|B SALTRY 2026-03-03 2|C SALTRY 2026-03-03 1"
	for _, c := range []struct {
		format string
		doc    []byte
		write  func(io.Writer, io.ReaderAt, int64, source.Options, Set) error
		want   string
	}{
		{"csv", []byte(text.String()), FailedCSV, first}, {"xlsx", xlsx.Bytes(), FailedWorkbook, first + second},
		{"ods", odsOf(t, tables), FailedODS, first + second},
	} {
		m, err := mapping.Parse([]byte(fmt.Sprintf(`koinos: mapping/1
name: c
document: {format: %s, sheet: "*", carried: [Customer, Day], rows: {leave_out: 'col("Item") == ""'}}
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
			Set{Mapping: m, Answers: lastFailed{}}); err != nil {
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
		if strings.Join(got, "|") != c.want {
			t.Errorf("%s: %q from\n%s", c.format, got, b.String()[:min(b.Len(), 300)])
		}
	}
}
