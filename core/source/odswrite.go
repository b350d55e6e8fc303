package source

import (
	"archive/zip"
	"bufio"
	"encoding/xml"
	"fmt"
	"io"
	"strconv"
	"strings"

	"koinos/core/finding"
	"koinos/core/origin"
)

// KeepODS writes an OpenDocument spreadsheet again with only the rows for which take returns true. It is called for
// every row of the sheets that opt reads, blank ones included, and may change the row's cells; the other sheets stay as
// they are. Values, their types, and which rows are hidden stay; formulas become the values that they last had, and
// styles and widths are lost.
func KeepODS(w io.Writer, r io.ReaderAt, size int64, opt Options, take func(rec *Record) (bool, error)) error {
	shape, err := Sniff(r, size, opt)
	if err != nil {
		return err
	}
	if shape.content == nil {
		return finding.Fatal(finding.FormatUnknown, origin.Place{}, "This is no .ods workbook.")
	}
	opt.Limits.Rows = 0 // it was read before
	o, err := openODS(shape.content, opt)
	if err != nil {
		return err
	}
	o.whole = true
	z := zip.NewWriter(w)
	out, err := newODSWriter(z)
	if err != nil {
		return err
	}
	for last := 0; ; {
		rec, err := o.Next()
		if err != nil && err != io.EOF {
			return err
		}
		for ; out.sheets < len(o.names); last = 0 {
			out.sheet(o.names[out.sheets])
		}
		if err == io.EOF {
			break
		}
		for last++; last <= rec.Row; last++ {
			one := Record{Sheet: rec.Sheet, Row: last}
			if last == rec.Row {
				one = rec
			}
			keep := true
			if o.asked {
				if keep, err = take(&one); err != nil {
					return err
				}
			}
			if keep {
				out.row(&one)
			}
		}
		last = rec.Row
	}
	if err := out.close(); err != nil {
		return err
	}
	return z.Close()
}

// odsWriter writes the rows of an OpenDocument spreadsheet.
type odsWriter struct {
	out    *bufio.Writer
	sheets int
	blank  int // rows that are to come before the next one
}

const (
	odsManifest = xml.Header + `<manifest:manifest ` +
		`xmlns:manifest="urn:oasis:names:tc:opendocument:xmlns:manifest:1.0" manifest:version="1.3">` +
		`<manifest:file-entry manifest:full-path="/" manifest:media-type="` + odsType + `"/>` +
		`<manifest:file-entry manifest:full-path="content.xml" manifest:media-type="text/xml"/></manifest:manifest>`
	odsBegin = xml.Header + `<office:document-content xmlns:office="urn:oasis:names:tc:opendocument:xmlns:office:1.0" ` +
		`xmlns:table="urn:oasis:names:tc:opendocument:xmlns:table:1.0" ` +
		`xmlns:text="urn:oasis:names:tc:opendocument:xmlns:text:1.0" office:version="1.3">` +
		`<office:body><office:spreadsheet>`
	odsEnd = `</office:spreadsheet></office:body></office:document-content>`
)

func newODSWriter(z *zip.Writer) (*odsWriter, error) {
	for _, part := range []struct {
		name, text string
		method     uint16
	}{{"mimetype", odsType, zip.Store}, {"META-INF/manifest.xml", odsManifest, zip.Deflate}} {
		w, err := z.CreateHeader(&zip.FileHeader{Name: part.name, Method: part.method})
		if err == nil {
			_, err = io.WriteString(w, part.text)
		}
		if err != nil {
			return nil, err
		}
	}
	content, err := z.Create("content.xml")
	if err != nil {
		return nil, err
	}
	o := &odsWriter{out: bufio.NewWriter(content)}
	o.out.WriteString(odsBegin)
	return o, nil
}

// sheet begins a sheet. Errors of writing are returned by close.
func (o *odsWriter) sheet(name string) {
	o.endSheet()
	o.sheets++
	o.out.WriteString(`<table:table table:name="`)
	o.text(name)
	o.out.WriteString(`">`)
}

func (o *odsWriter) endSheet() {
	if o.sheets > 0 {
		o.out.WriteString(`</table:table>`)
	}
	o.blank = 0
}

// row writes a row behind those before.
func (o *odsWriter) row(rec *Record) {
	if rec.Blank() {
		o.blank++
		return
	}
	if o.blank > 0 {
		fmt.Fprintf(o.out, `<table:table-row table:number-rows-repeated="%d"><table:table-cell/></table:table-row>`, o.blank)
		o.blank = 0
	}
	o.out.WriteString(`<table:table-row`)
	if rec.Hidden {
		o.out.WriteString(` table:visibility="collapse"`)
	}
	o.out.WriteString(`>`)
	for i := range rec.Cells {
		o.cell(&rec.Cells[i])
	}
	o.out.WriteString(`</table:table-row>`)
}

func (o *odsWriter) cell(c *Cell) {
	kind, value := "string", ""
	switch c.Kind {
	case Unkept:
		o.out.WriteString(`<table:table-cell table:formula="of:=NA()"/>`)
		return
	case Number, Exact:
		kind, value = "float", ` office:value="`+c.Text+`"`
		if n, err := strconv.ParseFloat(strings.TrimSuffix(c.Text, "%"), 64); err != nil {
			kind, value = "string", ""
		} else if strings.HasSuffix(c.Text, "%") {
			kind, value = "percentage", ` office:value="`+strconv.FormatFloat(n/100, 'g', -1, 64)+`"`
		}
	case Day:
		kind, value = "date", ` office:date-value="`+c.Text+`"`
	case Bool:
		kind, value = "boolean", ` office:boolean-value="`+strings.ToLower(c.Text)+`"`
	}
	if c.Text == "" {
		o.out.WriteString(`<table:table-cell/>`)
		return
	}
	o.out.WriteString(`<table:table-cell office:value-type="` + kind + `"` + value + `>`)
	for line := range strings.SplitSeq(c.Text, "\n") {
		o.out.WriteString(`<text:p>`)
		o.spaced(line)
		o.out.WriteString(`</text:p>`)
	}
	o.out.WriteString(`</table:table-cell>`)
}

// spaced writes a line of text. Spaces beyond a single one within it, and tabs, are elements (OpenDocument 1.3, part 3,
// 6.1.2).
func (o *odsWriter) spaced(line string) {
	for line != "" {
		n := len(line) - len(strings.TrimLeft(line, " "))
		switch {
		case n > 0:
			fmt.Fprintf(o.out, `<text:s text:c="%d"/>`, n)
			line = line[n:]
		case line[0] == '\t':
			o.out.WriteString(`<text:tab/>`)
			line = line[1:]
		default:
			end := strings.IndexAny(line, " \t")
			if end >= 0 && end+1 < len(line) && line[end] == ' ' && !strings.ContainsRune(" \t", rune(line[end+1])) {
				end++ // a single space stands as it is
			}
			if end < 0 {
				end = len(line)
			}
			o.text(line[:end])
			line = line[end:]
		}
	}
}

func (o *odsWriter) text(s string) { _ = xml.EscapeText(o.out, []byte(s)) } // what it says, Flush says again

func (o *odsWriter) close() error {
	o.endSheet()
	o.out.WriteString(odsEnd)
	return o.out.Flush()
}
