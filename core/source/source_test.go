package source

import (
	"archive/zip"
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"regexp"
	"strings"
	"testing"

	"github.com/xuri/excelize/v2"
	"golang.org/x/text/encoding/unicode"

	"koinos/core/finding"
	"koinos/core/rewriting"
	"koinos/core/workbook/workbooktest"
)

// read returns a document's rows as text, "row:cell|cell", and its findings.
func read(t testing.TB, b []byte, opt Options) (rows []string, found []finding.Finding, err error) {
	t.Helper()
	r, err := Open(bytes.NewReader(b), int64(len(b)), opt)
	if err != nil {
		return nil, nil, err
	}
	for {
		rec, err := r.Next()
		if err == io.EOF {
			return rows, found, nil
		}
		if err != nil {
			return rows, found, err
		}
		var cells []string
		for _, c := range rec.Cells {
			cells = append(cells, c.Text)
		}
		rows = append(rows, fmt.Sprintf("%d:%s", rec.Row, strings.Join(cells, "|")))
		found = append(found, rec.Findings...)
	}
}

func TestCSV(t *testing.T) {
	utf16le, err := unicode.UTF16(unicode.LittleEndian, unicode.UseBOM).NewEncoder().String("a;b\nü;2\n")
	if err != nil {
		t.Fatal(err)
	}
	bare, err := unicode.UTF16(unicode.BigEndian, unicode.IgnoreBOM).NewEncoder().String("name,qty\nrope,2\nlamp,3\n")
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		name, in string
		opt      Options
		want     []string
		codes    []finding.Code
	}{
		{"plain", "a,b\n1,2\n", Options{}, []string{"1:a|b", "2:1|2"}, nil},
		{"no last line end", "a,b\n1,2", Options{}, []string{"1:a|b", "2:1|2"}, nil},
		{"text stays text", "a,b\n00417,4006381333931000001\n", Options{},
			[]string{"1:a|b", "2:00417|4006381333931000001"}, nil},
		{"CRLF, blank rows count", "a,b\r\n\r\n1,2\r\n", Options{}, []string{"1:a|b", "2:", "3:1|2"}, nil},
		{"lone CR", "a,b\r1,2\r", Options{}, []string{"1:a|b", "2:1|2"}, nil},
		{"semicolons with decimal commas", "a;b\n1,5;2,5\n3,5;4\n", Options{},
			[]string{"1:a|b", "2:1,5|2,5", "3:3,5|4"}, nil},
		{"tabs", "a\tb\n1\t2\n", Options{}, []string{"1:a|b", "2:1|2"}, nil},
		{"titles above", "Orders, of March\n\na;b;c\n1;2;3\n4;5;6\n", Options{},
			[]string{"1:Orders, of March", "2:", "3:a|b|c", "4:1|2|3", "5:4|5|6"}, nil},
		{"quoted", "a,b\n\"1,5\",\"say \"\"hi\"\"\"\n", Options{}, []string{"1:a|b", `2:1,5|say "hi"`}, nil},
		{"quoted line end is one row", "a,b\n\"1\n2\",3\n4,5\n", Options{}, []string{"1:a|b", "2:1\n2|3", "3:4|5"},
			nil},
		{"single quotes", "'a','b'\n'1,0','2'\n'3','4'\n", Options{}, []string{"1:a|b", "2:1,0|2", "3:3|4"}, nil},
		{"inches inside a cell", "a,b\n5\" bolt,2\n", Options{}, []string{"1:a|b", "2:5\" bolt|2"}, nil},
		{"text behind a quote", "a,b\n\"x\"y,2\n", Options{}, []string{"1:a|b", "2:xy|2"},
			[]finding.Code{finding.QuoteStray}},
		{"a quote never closed loses no row", "a,b\n\"1,2\n3,4\n5,6\n", Options{},
			[]string{"1:a|b", "2:\"1|2", "3:3|4", "4:5|6"}, []finding.Code{finding.QuoteUnclosed}},
		{"byte order mark", "\xef\xbb\xbfa,b\n", Options{}, []string{"1:a|b"}, nil},
		{"UTF-16 with mark", utf16le, Options{}, []string{"1:a|b", "2:ü|2"}, nil},
		{"UTF-16 without mark", bare, Options{}, []string{"1:name|qty", "2:rope|2", "3:lamp|3"}, nil},
		{"Windows-1252 found by itself", "a;b\nM\xfcller;\x80 5\n", Options{}, []string{"1:a|b", "2:Müller|€ 5"}, nil},
		{"stated delimiter", "a|b;c\n", Options{Delimiter: "|"}, []string{"1:a|b;c"}, nil},
		{"wrong encoding stated", "a\xfc,b\n", Options{Encoding: UTF8}, []string{"1:a\ufffd|b"},
			[]finding.Code{finding.EncodingInvalid}},
		{"NUL inside", "a,b\n1\x00,2\n", Options{}, []string{"1:a|b", "2:1|2"},
			[]finding.Code{finding.ControlCharacter}},
		{"a long cell is cut", "a,b\nabcdefgh,2\n", Options{Limits: Limits{CellText: 6}}, []string{"1:a|b", "2:abc…|2"},
			[]finding.Code{finding.CellTooLong}},
		{"ragged", "a,b,c\n1\n1,2,3,4\n", Options{}, []string{"1:a|b|c", "2:1", "3:1|2|3|4"}, nil},
	} {
		rows, found, err := read(t, []byte(c.in), c.opt)
		var codes []finding.Code
		for _, f := range found {
			codes = append(codes, f.Code)
		}
		if err != nil || fmt.Sprint(rows) != fmt.Sprint(c.want) || fmt.Sprint(codes) != fmt.Sprint(c.codes) {
			t.Errorf("%s: %q %v %v, want %q %v", c.name, rows, codes, err, c.want, c.codes)
		}
	}
}

// A quotation mark that is never closed costs its own row and no other, however
// far the next one is; a long quoted cell is still one cell.
func TestOpenQuotes(t *testing.T) {
	plain := strings.Repeat("1,2\n", 1_000)
	rows, found, err := read(t, []byte("a,b\n\"x,1\n"+plain+"\"y,1\n"+plain+"\"z\",\"1\"\n"), Options{})
	if err != nil || len(rows) != 2_004 || len(found) != 2 || rows[1] != `2:"x,1` && rows[1] != `2:"x|1` ||
		rows[2_003] != "2004:z|1" {
		t.Errorf("%d rows, %v %v", len(rows), found, err)
	}
	long := "a,b\n\"" + strings.Repeat("line\n", 150) + "\",2\n3,4\n"
	if rows, found, err := read(t, []byte(long), Options{}); err != nil || len(rows) != 3 || len(found) != 0 {
		t.Errorf("a cell of 150 lines: %d rows, %v %v", len(rows), found, err)
	}
}

// Each kind of cell that ECMA-376 knows, and what is read from it.
func TestXLSXCells(t *testing.T) {
	for _, c := range []struct {
		cell, want string
		kind       Kind
	}{
		{`<c r="A1" t="s"><v>0</v></c>`, "plain", Text},
		{`<c r="A1" t="s"><v>1</v></c>`, "rich text", Text},
		{`<c r="A1" t="s"><v>2</v></c>`, "a&b ä\nc", Text},
		{`<c r="A1" t="s"><v>9</v></c>`, "#TEXT 9", ErrorValue},
		{`<c r="A1" t="inlineStr"><is><t> 00417 </t></is></c>`, " 00417 ", Text},
		{`<c r="A1" t="str"><f>A2</f><v>x&lt;y</v></c>`, "x<y", Text},
		{`<c r="A1"><v>4006381333931</v></c>`, "4006381333931", Number},
		{`<c r="A1"><v>4.006381333931E+12</v></c>`, "4006381333931", Number},
		{`<c r="A1"><v>0.30000000000000004</v></c>`, "0.3", Number},
		{`<c r="A1"><v>1.5E-3</v></c>`, "0.0015", Number},
		{`<c r="A1"><v>-12.50</v></c>`, "-12.50", Number},
		{`<c r="A1" s="2"><v>417</v></c>`, "00417", Text},
		{`<c r="A1" s="2"><v>1234567</v></c>`, "1234567", Number},
		{`<c r="A1" s="4"><v>12.345</v></c>`, "12.345", Number},
		{`<c r="A1" s="5"><v>0.05</v></c>`, "5%", Number},
		{`<c r="A1" s="7"><v>0.125</v></c>`, "12.5%", Number},
		{`<c r="A1" s="1"><v>46095</v></c>`, "2026-03-14", Day},
		{`<c r="A1" s="3"><v>46095</v></c>`, "2026-03-14", Day},
		{`<c r="A1" s="6"><v>46095.395833333336</v></c>`, "2026-03-14T09:30:00", Day},
		{`<c r="A1" s="1"><v>59</v></c>`, "1900-02-28", Day},
		{`<c r="A1" s="1"><v>0.5</v></c>`, "12:00:00", Day},
		{`<c r="A1" s="1"><v>-5</v></c>`, "-5", Number},
		{`<c r="A1" t="d"><v>2026-03-14</v></c>`, "2026-03-14", Day},
		{`<c r="A1" t="b"><v>1</v></c>`, "TRUE", Bool},
		{`<c r="A1" t="e"><v>#N/A</v></c>`, "#N/A", ErrorValue},
		{`<c r="A1"><f>SUM(B1)</f><v>7</v></c>`, "7", Number},
		{`<c r="A1"><f>SUM(B1)</f></c>`, "", Unkept},
		{`<c r="A1" t="str"><f>""</f><v></v></c>`, "", Text},
		{`<c><v><![CDATA[5]]></v></c>`, "5", Number},
	} {
		for _, row := range []string{ // in place, and tag by tag
			`<row r="1" spans='1:2'>` + c.cell + `</row>`,
			`<x:row r="1" spans='1:2'>` + strings.NewReplacer("<c", "<x:c", "</c", "</x:c", "<v", "<x:v", "</v",
				"</x:v").Replace(c.cell) + `</x:row>`,
		} {
			b := workbooktest.Pack(t, workbooktest.Sheet(row))
			r, err := Open(bytes.NewReader(b), int64(len(b)), Options{})
			if err != nil {
				t.Fatal(err)
			}
			rec, err := r.Next()
			if err != nil || len(rec.Cells) != 1 || rec.Cells[0] != (Cell{c.want, c.kind}) {
				t.Errorf("%s gives %+v, %v; want %q of kind %d", row, rec.Cells, err, c.want, c.kind)
			}
		}
	}
	b := workbooktest.Pack(t, map[string]string{
		"xl/workbook.xml": `<workbook><workbookPr date1904="1"/><sheets><sheet name="Orders" ` +
			`xmlns:r="http://schemas.openxmlformats.org/officeDocument/2006/relationships" r:id="r1"/></sheets>` +
			`</workbook>`,
		"xl/worksheets/s1.xml": `<worksheet><sheetData><row><c s="1"><v>44633</v></c></row></sheetData></worksheet>`,
	})
	if rows, _, err := read(t, b, Options{}); err != nil || fmt.Sprint(rows) != "[1:2026-03-14]" {
		t.Errorf("1904 system: %q %v", rows, err)
	}
}

// Rows are left out of a workbook; the others close up with what hangs on them.
func TestRewriteWithoutRows(t *testing.T) {
	row := func(n int) string {
		return fmt.Sprintf(`<row r="%d" ht="20"><c r="A%d" s="2"><v>%d</v></c><c r="B%d"><f>A%d*2</f><v>%d</v></c></row>`, n,
			n, n, n, n, 2*n)
	}
	b := workbooktest.Pack(t, map[string]string{"xl/worksheets/s1.xml": `<worksheet><cols/><sheetData>` +
		row(1) + row(2) + row(4) + row(5) + row(6) +
		`</sheetData><mergeCells><mergeCell ref="A1:B1"/><mergeCell ref="A2:A2"/><mergeCell ref="A4:A6"/>` +
		`</mergeCells></worksheet>`, "xl/calcChain.xml": "<calcChain/>"})
	var out bytes.Buffer
	err := rewriting.Rewrite(&out, bytes.NewReader(b), int64(len(b)), DefaultLimits.Unpacked, rewriting.Changes{Values: true,
		Row: func(sheet string, row int) (rewriting.Row, error) {
			return rewriting.Row{Drop: sheet == "Orders" && (row == 2 || row == 5)}, nil
		}})
	if err != nil {
		t.Fatal(err)
	}
	got, _, err := read(t, out.Bytes(), Options{})
	if want := "[1:00001|2 3:00004|8 4:00006|12]"; err != nil || fmt.Sprint(got) != want {
		t.Errorf("%v %v, want %s", got, err, want)
	}
	for name, s := range workbooktest.Parts(t, out.Bytes()) {
		if name == "xl/worksheets/s1.xml" &&
			(!strings.Contains(s, `<mergeCell ref="A1:B1"/><mergeCell ref="A3:A4"/></mergeCells>`) ||
				strings.Contains(s, "<f>") || !strings.Contains(s, `<row r="3" ht="20"><c r="A3" s="2">`)) {
			t.Error(s)
		}
		if strings.Contains(name, "calcChain") {
			t.Error("the order of computing formulas is still there")
		}
	}
}

func TestXLSXRows(t *testing.T) {
	rows := `<x:row r="2"><x:c r="B2"><x:v>1</x:v></x:c><x:c r="D2"><x:v>2</x:v></x:c></x:row><x:row/><x:row ` +
		`r="7"><x:c><x:v>3</x:v></x:c><x:c><x:v>4</x:v></x:c></x:row><x:row><x:c><x:v>5</x:v></x:c></x:row>`
	got, _, err := read(t, workbooktest.Pack(t, workbooktest.Sheet(rows)), Options{})
	if want := "[2:|1||2 3: 7:3|4 8:5]"; err != nil || fmt.Sprint(got) != want {
		t.Errorf("%v %v, want %s", got, err, want)
	}
	got, _, err = read(t, workbooktest.Pack(t, workbooktest.Sheet(rows)), Options{Sheets: func(_ int, n string) bool { return n == "Old" }})
	if err != nil || fmt.Sprint(got) != "[1:hidden]" {
		t.Errorf("hidden sheet by name: %v %v", got, err)
	}
}

// What is not a document, or wants too much, says so and nothing worse.
func TestRefused(t *testing.T) {
	good := workbooktest.Pack(t, workbooktest.Sheet(`<x:row><x:c><x:v>1</x:v></x:c></x:row>`))
	bomb := workbooktest.Pack(t, workbooktest.Sheet("<x:row><x:c><x:v>1</x:v></x:c></x:row>"+strings.Repeat(" ", 40<<20)))
	for _, c := range []struct {
		name string
		in   []byte
		opt  Options
		code finding.Code
	}{
		{"empty", nil, Options{}, finding.DocumentEmpty},
		{"PDF", []byte("%PDF-1.4 x"), Options{}, finding.FormatUnknown},
		{"picture", []byte("\x89PNG\r\n\x1a\n"), Options{}, finding.FormatUnknown},
		{"old workbook", []byte("\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1...."), Options{}, finding.FormatUnknown},
		{"binary", bytes.Repeat([]byte{1, 0, 0, 7, 0}, 5_000), Options{}, finding.FormatUnknown},
		{"another ZIP", func() []byte {
			var b bytes.Buffer
			w := zip.NewWriter(&b)
			_, _ = w.Create("x.txt")
			w.Close()
			return b.Bytes()
		}(), Options{}, finding.FormatUnknown},
		{"CSV where a workbook is expected", []byte("a,b\n"), Options{Format: XLSX}, finding.FormatUnknown},
		{"workbook where CSV is expected", good, Options{Format: CSV}, finding.FormatUnknown},
		{"cut short", good[:len(good)-40], Options{}, finding.DocumentBroken},
		{"sheet cut short", workbooktest.Pack(t,
			map[string]string{"xl/worksheets/s1.xml": `<worksheet><sheetData><row><c><v>1`}), Options{},
			finding.DocumentBroken},
		{"no such sheet", good, Options{Sheets: func(int, string) bool { return false }}, finding.SheetMissing},
		{"unpacks to too much", bomb, Options{Limits: Limits{Unpacked: 8 << 20}}, finding.DocumentTooLarge},
		{"too many texts", workbooktest.Pack(t, map[string]string{"xl/shared.xml": "<sst>" +
			strings.Repeat("<si><t>abcdefgh</t></si>", 1000) + "</sst>"}), Options{Limits: Limits{Strings: 8_000}},
			finding.DocumentTooLarge},
		{"too many rows", []byte("a\nb\nc\n"), Options{Limits: Limits{Rows: 2}}, finding.DocumentTooLarge},
		{"too many columns", []byte("a,b,c\n"), Options{Limits: Limits{Columns: 2}}, finding.DocumentTooLarge},
		{"a column that no sheet has", workbooktest.Pack(t, workbooktest.Sheet(`<x:row><x:c r="ZZZZ1"><x:v>1</x:v></x:c></x:row>`)),
			Options{}, finding.DocumentTooLarge},
		{"a row without end", bytes.Repeat([]byte("x"), 5_000), Options{Limits: Limits{RowBytes: 1_000}},
			finding.DocumentTooLarge},
	} {
		_, _, err := read(t, c.in, c.opt)
		var f *finding.Finding
		if !errors.As(err, &f) || f.Code != c.code || f.Message == "" || f.Hint == "" {
			t.Errorf("%s: %v, want code %s", c.name, err, c.code)
		}
	}
}

func TestInspect(t *testing.T) {
	b := []byte("Saltry orders\n\nOrder;Date;Item;Qty;Price;Unit\n" +
		strings.Repeat("S-1;02.03.2026;00417;2;9,50;EA\n", 40) + ";;;;\nTotal;;;80;;\n")
	in, err := Inspect(bytes.NewReader(b), int64(len(b)), Options{})
	if err != nil {
		t.Fatal(err)
	}
	table := in.Tables[0]
	var looks []string
	for _, c := range table.Columns {
		looks = append(looks, c.Letter+" "+c.Heading+" "+c.Looks)
	}
	if got, want := strings.Join(looks, ", "),
		"A Order code, B Date date, C Item code, D Qty number, E Price number, F Unit words"; got != want ||
		table.Heading != 3 || in.Delimiter != ";" || table.Rows != 43 {
		t.Errorf("heading %d, %d rows, %s; want %s", table.Heading, table.Rows, got, want)
	}
}

func FuzzCSV(f *testing.F) {
	for _, s := range []string{"a,b\n1,2\n", "\"a\"\"b\",c\r\n\"x\ny\",z", "\xff\xfea\x00;\x00b\x00\n\x00",
		"a;b\n\"never closed;1\n2;3", "'a'\t'b'\r'c'\td", "\xef\xbb\xbf;\n;;", "a\xfc,\x00b\n"} {
		f.Add([]byte(s), "", "")
	}
	f.Fuzz(func(t *testing.T, b []byte, delimiter, quote string) {
		opt := Options{Format: CSV, Limits: DefaultLimits}
		if len(delimiter) == 1 && delimiter[0] < 0x80 && delimiter != "\n" && delimiter != "\r" {
			opt.Delimiter = delimiter
		}
		if len(quote) == 1 && quote[0] < 0x80 && quote != delimiter && quote != "\n" && quote != "\r" {
			opt.Quote = quote
		}
		r, err := Open(bytes.NewReader(b), int64(len(b)), opt)
		if err != nil {
			return
		}
		for row := 1; ; row++ {
			rec, err := r.Next()
			if err == io.EOF {
				return
			}
			var known *finding.Finding
			if err != nil && !errors.As(err, &known) {
				t.Fatalf("an error without a code: %v", err)
			}
			if err != nil {
				return
			}
			if rec.Row != row || row > len(b)+1 {
				t.Fatalf("row %d comes as %d", row, rec.Row)
			}
		}
	})
}

var tagInTag = regexp.MustCompile(`<[^>]*<`)

func FuzzXLSX(f *testing.F) {
	f.Add([]byte(`<row r="3"><c r="B3" t="s"><v>1</v></c><c t="inlineStr"><is><t>x</t></is></c></row>`),
		[]byte(`<si><t>a</t></si><si><r><t>b</t></r></si>`))
	f.Add([]byte(`<row><c r="A1"><f>1</f></c></row><row/></sheetData>`), []byte(`<si><t>&#x41;_x0041_</t></si>`))
	f.Add([]byte(`<c><v>1</v><row><row></c>`), []byte(`<si><si>`))
	f.Add([]byte(`<row>0</v></c ></row>`), []byte(`0`)) // once a crash
	// attributes on lines of their own, and what is no space in XML
	f.Add([]byte("<row r=\"3\"><c r=\"B3\"\n  t=\"s\"><v>0</v></c></row>"), []byte(`<si><t>a</t></si>`))
	f.Add([]byte("<row r=\"3\"><c r=\"B3\"\ft=\"s\"><v>1</v></c></row>"), []byte(`<si><t>a</t></si>`))
	// these end what never began
	f.Add([]byte(`<row r="3"><c r="B3"><v>1</v></c><c t="x">y><t>x</t></is></c></row>`), []byte(`<si>`))
	f.Add([]byte(`<row r="3"><c r="B3"><v>1</v></c><c></f></c></row>`), []byte(`<si>`))
	f.Add([]byte(`<row><c r="A1"><f>1</f></c<</row><row/>`), []byte(`<si><t>&#x41;_x0041_</t></si>`))
	f.Fuzz(func(t *testing.T, rows, texts []byte) {
		look := func(rows string) (got []string, err error) {
			b := workbooktest.Pack(t, map[string]string{"xl/worksheets/s1.xml": "<worksheet><sheetData>" + rows +
				"</sheetData></worksheet>", "xl/shared.xml": "<sst>" + string(texts) + "</sst>"})
			got, _, err = read(t, b, Options{Limits: DefaultLimits})
			var known *finding.Finding
			if err != nil && !errors.As(err, &known) {
				t.Fatalf("an error without a code: %v", err)
			}
			return got, err
		}
		got, err := look(string(rows))
		// there the comment would stand within a broken tag
		if bytes.Contains(rows, []byte("<!")) || tagInTag.Match(rows) {
			return
		}
		// A comment makes rows be read tag by tag: what comes out is the same.
		slow, slowErr := look(strings.ReplaceAll(string(rows), "</row>", "<!-- --></row>"))
		if err == nil && slowErr == nil && fmt.Sprint(got) != fmt.Sprint(slow) {
			t.Errorf("in place %q %v, tag by tag %q %v", got, err, slow, slowErr)
		}
		// Writing it again without some rows copes with all that as well.
		whole := workbooktest.Pack(t, workbooktest.Sheet(string(rows)))
		var out bytes.Buffer
		if err := rewriting.Rewrite(&out, bytes.NewReader(whole), int64(len(whole)), DefaultLimits.Unpacked, rewriting.Changes{
			Row: func(_ string, row int) (rewriting.Row, error) {
				return rewriting.Row{Drop: row%3 == 2, Cells: []rewriting.Cell{{Column: 2, Fill: "F6C9C2", Note: "look"},
					{Column: 9, Put: true, Text: "new"}}}, nil
			}}); err == nil {
			if _, err := zip.NewReader(bytes.NewReader(out.Bytes()), int64(out.Len())); err != nil {
				t.Error(err)
			}
		}
	})
}

// benchRows is the same table for every reader: 14 columns as orders have them.
func benchRow(i int) []string {
	return []string{fmt.Sprintf("A-%07d", i/10), "2026-03-02", "OSTRAND", "East yard", "N30",
		fmt.Sprintf("%05d", i%977), "Braided rope 10 mm, white", fmt.Sprint(i%50 + 1), "MTR", "1.45", "5", "27.55",
		"2026-03-30", "on pallets"}
}

func benchCSV(n int) []byte {
	var b bytes.Buffer
	w := csv.NewWriter(&b)
	for i := range n {
		_ = w.Write(benchRow(i)) // to memory
	}
	w.Flush()
	return b.Bytes()
}

func BenchmarkCSV(b *testing.B) {
	doc := benchCSV(100_000)
	b.Run("floor=encoding-csv", func(b *testing.B) {
		b.SetBytes(int64(len(doc)))
		for b.Loop() {
			r := csv.NewReader(bytes.NewReader(doc))
			r.ReuseRecord = true
			for {
				if _, err := r.Read(); err != nil {
					break
				}
			}
		}
	})
	b.Run("koinos", func(b *testing.B) {
		b.SetBytes(int64(len(doc)))
		for b.Loop() {
			drain(b, doc)
		}
	})
}

func drain(b *testing.B, doc []byte) {
	r, err := Open(bytes.NewReader(doc), int64(len(doc)), Options{Limits: DefaultLimits})
	if err != nil {
		b.Fatal(err)
	}
	for {
		if _, err := r.Next(); err != nil {
			if err != io.EOF {
				b.Fatal(err)
			}
			return
		}
	}
}

func BenchmarkXLSX(b *testing.B) {
	f := excelize.NewFile()
	w, err := f.NewStreamWriter("Sheet1")
	if err != nil {
		b.Fatal(err)
	}
	for i := range 20_000 {
		var row []any
		for j, s := range benchRow(i) {
			if j == 7 {
				row = append(row, i%50+1)
			} else {
				row = append(row, s)
			}
		}
		if err := w.SetRow(fmt.Sprintf("A%d", i+1), row); err != nil {
			b.Fatal(err)
		}
	}
	if err := w.Flush(); err != nil {
		b.Fatal(err)
	}
	var doc bytes.Buffer
	if err := f.Write(&doc); err != nil {
		b.Fatal(err)
	}
	b.Run("floor=excelize-rows", func(b *testing.B) {
		for b.Loop() {
			f, err := excelize.OpenReader(bytes.NewReader(doc.Bytes()))
			if err != nil {
				b.Fatal(err)
			}
			rows, err := f.Rows("Sheet1")
			if err != nil {
				b.Fatal(err)
			}
			for rows.Next() {
				if _, err := rows.Columns(); err != nil {
					b.Fatal(err)
				}
			}
		}
	})
	b.Run("koinos", func(b *testing.B) {
		for b.Loop() {
			drain(b, doc.Bytes())
		}
	})
}

// What is sent by mistake is named for what it is, with what to do about it.
func TestSentByMistake(t *testing.T) {
	for _, c := range []struct{ name, doc, is, advice string }{
		{"a page that is called a workbook", "\r\n <HTML><body><table>", "a web page", savedAsPage},
		{"only its table", "<table border=1><tr><td>Order</td></tr></table>", "a web page", savedAsPage},
		{"a workbook of XML", "\xef\xbb\xbf<?xml version=\"1.0\"?><Workbook xmlns=\"urn:schemas-microsoft-com:office:spreadsheet\">",
			"a workbook of the old XML kind", "Open it in a spreadsheet program and save it as .xlsx."},
		{"other XML", "<?xml version=\"1.0\"?><Orders/>", "an XML document", ""},
		{"other EDI", "UNA:+.? 'UNB+UNOC:3+X:14+Y:14+260101:1200+1'", "an interchange of UN/EDIFACT", otherEDI},
		{"other EDI without its signs", "UNB+UNOA:2+X+Y+260101:1200+1'", "an interchange of UN/EDIFACT", otherEDI},
	} {
		_, err := Sniff(strings.NewReader(c.doc), int64(len(c.doc)), Options{})
		found := finding.Of(err)
		want := "This is " + c.is + ", not a CSV file, a workbook (.xlsx or .ods), JSON or X12."
		if len(found) != 1 || found[0].Code != finding.FormatUnknown || found[0].Message != want ||
			c.advice != "" && found[0].Hint != c.advice {
			t.Errorf("%s: %v", c.name, err)
		}
	}
	// A table whose first column happens to be called like that is one.
	const table = "UNA:no,Qty\n1,2\n"
	if shape, err := Sniff(strings.NewReader(table), int64(len(table)), Options{}); err != nil || shape.Format != CSV {
		t.Errorf("%+v %v", shape, err)
	}
}
