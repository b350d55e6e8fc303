package report

import (
	"archive/zip"
	"bytes"
	"fmt"
	"io"
	"strings"
	"testing"

	"koinos/core/mapping"
	"koinos/core/outcome"
	"koinos/core/source"
)

// secondFailed are answers of a load in which the order in rows 4 and 5 failed.
type secondFailed struct{ allFailed }

func (secondFailed) Spans(_ string, first, last int) (all []outcome.SpanOutcome, err error) {
	for _, rows := range [][2]int{{2, 2}, {4, 5}, {7, 7}} {
		var s outcome.SpanOutcome
		if s.First, s.Last, s.Outcome = rows[0], rows[1], outcome.Loaded; s.First == 4 {
			s.Outcome = outcome.Refused
		}
		if s.Last >= first && s.First <= last {
			all = append(all, s)
		}
	}
	return all, nil
}

// odsOf is an .ods workbook with tables.
func odsOf(t *testing.T, tables string) []byte {
	t.Helper()
	var doc bytes.Buffer
	z := zip.NewWriter(&doc)
	for _, part := range [][2]string{{"mimetype", "application/vnd.oasis.opendocument.spreadsheet"},
		{"content.xml", "<c>" + tables + "</c>"}} {
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
	return doc.Bytes()
}

// The copy of an .ods workbook with only what failed is one again, which its own mapping reads: numbers are
// numbers, blank rows and other sheets stay, and the answers stand beside.
func TestFailedODS(t *testing.T) {
	row := func(cells ...string) string {
		text := "<table:table-row>"
		for _, c := range cells {
			if strings.Trim(c, "0123456789.") == "" && c != "" {
				text += `<table:table-cell office:value-type="float" office:value="` + c + `"><text:p>` +
					strings.Replace(c, ".", ",", 1) + `</text:p></table:table-cell>`
			} else {
				text += `<table:table-cell office:value-type="string"><text:p>` + c + `</text:p></table:table-cell>`
			}
		}
		return text + "</table:table-row>"
	}
	doc := odsOf(t, `<table:table table:name="Notes">`+row("read me")+`</table:table><table:table table:name="Orders">`+
		row("Order", "Item")+row("A", "1.5")+row()+row("B", "2.25")+row("", "3")+row()+row("C", "4")+`</table:table>`)
	opt := source.Options{Format: source.ODS, Limits: source.DefaultLimits,
		Sheets: func(_ int, name string) bool { return name == "Orders" }}
	var b bytes.Buffer
	if err := FailedODS(&b, bytes.NewReader(doc), int64(len(doc)), opt,
		Set{Mapping: &mapping.Mapping{}, Answers: secondFailed{}}); err != nil {
		t.Fatal(err)
	}
	opt.Sheets = func(int, string) bool { return true }
	src, err := source.Open(bytes.NewReader(b.Bytes()), int64(b.Len()), opt)
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for {
		rec, err := src.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			t.Fatal(err)
		}
		var cells []string
		for _, c := range rec.Cells {
			if c.Kind == source.Number {
				c.Text += "#"
			}
			cells = append(cells, c.Text)
		}
		got = append(got, fmt.Sprintf("%s %d: %s", rec.Sheet, rec.Row, strings.Join(cells, "|")))
	}
	want := `Notes 1: read me
Orders 1: Order|Item|Koinos outcome|Koinos order|Koinos message
Orders 2: B|2.25#|refused||Another row of this order keeps it out.
Orders 3: |3#|refused||Another row of this order keeps it out.`
	if text := strings.Join(got, "\n"); text != want {
		t.Errorf("%s\nwant\n%s", text, want)
	}
}
