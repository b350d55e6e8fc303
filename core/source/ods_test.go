package source

import (
	"archive/zip"
	"bytes"
	"fmt"
	"io"
	"strings"
	"testing"

	"koinos/core/finding"
)

// anODS is an OpenDocument spreadsheet with these sheets.
func anODS(t testing.TB, sheets string) []byte {
	t.Helper()
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for _, part := range [][2]string{{"mimetype", odsType}, {"content.xml", `<?xml version="1.0" encoding="UTF-8"?>
<office:document-content><office:automatic-styles>
<style:style style:name="ta1" style:family="table"><style:table-properties table:display="true"/></style:style>
<style:style style:name="ta2" style:family="table"><style:table-properties table:display="false"/></style:style>
</office:automatic-styles><office:body><office:spreadsheet>` + sheets + `</office:spreadsheet></office:body></office:document-content>`}} {
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
	return b.Bytes()
}

const someSheets = `<table:table table:name="Old" table:style-name="ta2"><table:table-row><table:table-cell office:value-type="string"><text:p>old</text:p></table:table-cell></table:table-row></table:table>
<table:table table:name="Orders &amp; more" table:style-name="ta1"><table:table-column/>
<table:table-row><table:table-cell office:value-type="string"><text:p>Order</text:p></table:table-cell><table:table-cell office:value-type="string"><text:p>What</text:p></table:table-cell><table:table-cell table:number-columns-repeated="16382"/></table:table-row>
<table:table-row table:number-rows-repeated="2"><table:table-cell table:number-columns-repeated="3"/></table:table-row>
<table:table-row table:visibility="filter"><table:table-cell office:value-type="float" office:value="417"><text:p>00417</text:p></table:table-cell>
 <table:table-cell office:value-type="string"><office:annotation><text:p>a comment</text:p></office:annotation><text:p>two<text:s text:c="3"/>&lt;lines&gt;</text:p>
 <text:p><text:span>of</text:span> text</text:p></table:table-cell></table:table-row>
<table:table-row table:number-rows-repeated="2"><table:table-cell office:value-type="float" office:value="1234.5"><text:p>1.234,50</text:p></table:table-cell><table:table-cell table:number-columns-repeated="2" office:value-type="percentage" office:value="0.05"><text:p>5 %</text:p></table:table-cell></table:table-row>
<table:table-row><table:table-cell office:value-type="date" office:date-value="2026-03-02T00:00:00"><text:p>2.3.26</text:p></table:table-cell><table:covered-table-cell/><table:table-cell office:value-type="boolean" office:boolean-value="true"><text:p>WAHR</text:p></table:table-cell>
<table:table-cell office:value-type="float" office:value="123456"><text:p>123-456</text:p></table:table-cell><table:table-cell office:value-type="string"><text:p>#DIV/0!</text:p></table:table-cell><table:table-cell office:value-type="string"><text:p>a_x0041_&ext;</text:p></table:table-cell></table:table-row>
<table:table-row table:number-rows-repeated="1048570"><table:table-cell table:number-columns-repeated="16384"/></table:table-row></table:table>
<table:table table:name="Last" table:style-name="ta1"><table:table-row><table:table-cell office:value-type="string"><text:p>last</text:p></table:table-cell></table:table-row></table:table>`

// odsRows are the rows of a spreadsheet as they are read.
func odsRows(t *testing.T, doc []byte, opt Options) string {
	t.Helper()
	var got []string
	src, err := Open(bytes.NewReader(doc), int64(len(doc)), opt)
	for err == nil {
		var rec Record
		if rec, err = src.Next(); err != nil {
			break
		}
		row := fmt.Sprint(rec.Row)
		if rec.Sheet != "" {
			row = rec.Sheet + "!" + row
		}
		if rec.Hidden {
			row += " hidden"
		}
		var cells []string
		for _, cell := range rec.Cells {
			text := cell.Text
			if cell.Kind != Text {
				text += fmt.Sprintf(":%d", cell.Kind)
			}
			cells = append(cells, text)
		}
		got = append(got, row+" ["+strings.Join(cells, "|")+"]")
		for _, f := range rec.Findings {
			got = append(got, fmt.Sprintf("%s at %c", f.Code, 'A'-1+f.Place.Column))
		}
	}
	if err != io.EOF {
		got = append(got, string(finding.Of(err)[0].Code))
	}
	return strings.Join(got, " ")
}

func TestODS(t *testing.T) {
	doc := anODS(t, someSheets)
	for _, c := range []struct {
		name string
		opt  Options
		want string
	}{
		{"the first that people see", Options{}, `1 [Order|What] 4 hidden [00417|two   <lines>
of text] 5 [1234.5:1|5%:1|5%:1] 6 [1234.5:1|5%:1|5%:1] 7 [2026-03-02:3||TRUE:4|123-456|#DIV/0!:5|a_x0041_&ext;] character_invalid at F`},
		{"by name", Options{Sheets: func(_ int, name string) bool { return name == "Last" }}, "Last!1 [last]"},
		{"hidden ones that are named", Options{Sheets: func(n int, _ string) bool { return n != 2 }},
			"Old!1 [old] Last!1 [last]"},
		{"hidden ones left out", Options{Sheets: func(n int, _ string) bool { return n != 2 }, Visible: true},
			"Last!1 [last]"},
		{"one that is not there", Options{Sheets: func(int, string) bool { return false }}, "sheet_missing"},
	} {
		if text := odsRows(t, doc, c.opt); text != c.want {
			t.Errorf("%s:\n%s\nwant\n%s", c.name, text, c.want)
		}
	}
}

// What is too long, was never calculated or is hidden is said.
func TestODSSaid(t *testing.T) {
	doc := anODS(t, `<table:table table:name="Old" table:style-name="ta2"><table:table-column/><table:table-column
table:number-columns-repeated="2" table:visibility="collapse"/><table:table-row><table:table-cell><text:p>Order</text:p></table:table-cell>
<table:table-cell><text:p>Item</text:p></table:table-cell><table:table-cell/><table:table-cell><text:p>Qty</text:p></table:table-cell></table:table-row>
<table:table-row><table:table-cell><text:p>0123456789</text:p><text:p>01234567890</text:p></table:table-cell>
<table:table-cell table:formula="of:=1"/><table:table-cell/><table:table-cell><text:p>a<text:s text:c="40"/>b</text:p></table:table-cell></table:table-row></table:table>`)
	opt := Options{Limits: Limits{CellText: 20}, Sheets: func(int, string) bool { return true }}
	src, err := Open(bytes.NewReader(doc), int64(len(doc)), opt)
	if err != nil {
		t.Fatal(err)
	}
	var rec Record
	for range 2 {
		if rec, err = src.Next(); err != nil {
			t.Fatal(err)
		}
	}
	got := ""
	for _, f := range rec.Findings {
		got += fmt.Sprintf("%s at %s; ", f.Code, f.At)
	}
	want := "cell_too_long at Old!A2; cell_too_long at Old!D2; "
	if got != want || rec.Cells[1].Kind != Unkept || rec.Cells[0].Text != "0123456789\n012345…" {
		t.Errorf("%q, %+v; want %q", got, rec.Cells, want)
	}
	in, err := Inspect(bytes.NewReader(doc), int64(len(doc)), opt)
	if err != nil || !in.Tables[0].Hidden {
		t.Fatalf("%+v %v", in, err)
	}
	var hidden []string
	for _, c := range in.Tables[0].Columns {
		if c.Hidden {
			hidden = append(hidden, c.Letter)
		}
	}
	if fmt.Sprint(hidden) != "[B C]" {
		t.Errorf("hidden are %v", hidden)
	}
}

func FuzzODS(f *testing.F) {
	f.Add(someSheets)
	f.Fuzz(func(t *testing.T, sheets string) {
		doc := anODS(t, sheets)
		src, err := Open(bytes.NewReader(doc), int64(len(doc)), Options{Limits: Limits{Rows: 1000, Columns: 100,
			CellText: 1000, Unpacked: 1 << 20}})
		for n := 0; err == nil && n < 2000; n++ {
			_, err = src.Next()
		}
		if err != nil && err != io.EOF && len(finding.Of(err)) == 0 {
			t.Error(err)
		}
	})
}

// What is kept of a workbook reads as it did: sheets, blank rows, hidden ones, kinds and spaces.
func TestKeepODS(t *testing.T) {
	doc := anODS(t, someSheets+`<table:table table:name="Empty"/><table:table table:name="End"><table:table-row>
<table:table-cell office:value-type="string"><text:p><text:s/>a<text:s text:c="2"/>b<text:tab/>&lt;<text:s/></text:p><text:p/></table:table-cell>
<table:table-cell table:formula="of:=1"/><table:table-cell office:value-type="float" office:value="-0.00000012"><text:p>0</text:p></table:table-cell>
</table:table-row></table:table>`)
	every := Options{Sheets: func(int, string) bool { return true }, Limits: DefaultLimits}
	var b bytes.Buffer
	if err := KeepODS(&b, bytes.NewReader(doc), int64(len(doc)), every, func(*Record) (bool, error) {
		return true, nil
	}); err != nil {
		t.Fatal(err)
	}
	want := strings.ReplaceAll(odsRows(t, doc, every), " character_invalid at F", "") // it is U+FFFD in the copy
	if got := odsRows(t, b.Bytes(), every); got != want {
		t.Errorf("%s\nwant\n%s", got, want)
	}
	b.Reset()
	some := Options{Sheets: func(n int, _ string) bool { return n == 2 }, Limits: DefaultLimits}
	var asked []string
	if err := KeepODS(&b, bytes.NewReader(doc), int64(len(doc)), some, func(rec *Record) (bool, error) {
		asked = append(asked, fmt.Sprint(rec.Sheet, rec.Row))
		return rec.Row < 3 || rec.Row == 5, nil
	}); err != nil {
		t.Fatal(err)
	}
	if got := odsRows(t, b.Bytes(), Options{Sheets: func(n int, _ string) bool { return n < 4 }}); got !=
		"Old!1 [old] Orders & more!1 [Order|What] Orders & more!3 [1234.5:1|5%:1|5%:1] Last!1 [last]" {
		t.Error(got)
	}
	if got := fmt.Sprint(asked); got != "[Orders & more1 Orders & more2 Orders & more3 Orders & more4 Orders & more5 "+
		"Orders & more6 Orders & more7]" {
		t.Error(got)
	}
}
