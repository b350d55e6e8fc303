package source

import (
	"archive/zip"
	"bytes"
	"fmt"
	"io"
	"strings"
	"unicode"

	"koinos/core/finding"
	"koinos/core/jsondoc"
	"koinos/core/origin"
	"koinos/core/tree"
	"koinos/core/workbook"
	"koinos/core/x12"
)

// Format is the outer form of a document.
type Format string

const (
	CSV    Format = "csv"
	XLSX   Format = "xlsx"
	ODS    Format = "ods"
	JSON   Format = "json"
	NDJSON Format = "ndjson"
	X12    Format = "x12"
)

// Tree reports whether documents of the format are JSON values, not rows of cells.
func (f Format) Tree() bool { return f == JSON || f == NDJSON }

// Nested reports whether the format's records are trees: of JSON or of X12.
func (f Format) Nested() bool { return f.Tree() || f == X12 }

// Formats are the forms that can be read.
var Formats = []string{string(CSV), string(XLSX), string(ODS), string(JSON), string(NDJSON), string(X12)}

// Kind is what the document itself knows about a cell's value.
type Kind uint8

const (
	Text       Kind = iota // text; all that CSV has
	Number                 // a number in plain digits with a point, as a spreadsheet keeps it
	Exact                  // a number as JSON writes it, with all its digits
	Day                    // a date or date and time in ISO 8601
	Bool                   // TRUE or FALSE
	ErrorValue             // a spreadsheet error such as #N/A
	Unkept                 // a formula whose result was not kept
)

// Cell is one value of a record.
type Cell struct {
	Text string
	Kind Kind
}

// Record is one row of a document, or one value of a JSON document.
type Record struct {
	Sheet    string // "" for CSV and JSON
	Row      int    // counted from 1, as a spreadsheet shows it; of JSON the number of the record's first value
	Cells    []Cell // from column A on; may be shorter than the heading
	Findings []finding.Finding

	Node   *tree.Node // the JSON value; nil for a row of cells
	Whole  *Whole     // X12: the set that this is a part of; nil if it is no part
	Part   int        // JSON: which of several paths chose it, counted from 1; 0 if there are not several
	Line   int        // line of NDJSON
	Last   int        // number of the record's last value in JSON; 0 is Row
	Hidden bool       // the row is hidden or filtered out in a workbook

	Carried []Carried // cells whose values stand further up
	Broken  bool      // the line of NDJSON could not be read; Findings says why
}

// Carried says that the value of a column, counted from 1, stands in another row, further up.
type Carried struct{ Column, Row int }

// Place is where the cell of a column (counted from 1) stands; column 0 is the row.
func (r *Record) Place(column int) origin.Place {
	if r.Node != nil {
		return PlaceOf(r.Node, r.Line)
	}
	if r.Line > 0 {
		return origin.Place{Row: r.Row, Line: r.Line}
	}
	p := origin.Place{Sheet: r.Sheet, Row: r.Row, Column: column}
	for _, c := range r.Carried {
		if c.Column == column {
			p.Row = c.Row
		}
	}
	return p
}

// Rows is how many rows of the document the record consists of: for a transaction set its segments, for a JSON value
// the values in it.
func (r *Record) Rows() int { return max(1, r.Last-r.Row+1) }

// Blank reports whether no cell of the record has a value.
func (r *Record) Blank() bool {
	if r.Node != nil || r.Broken {
		return false
	}
	for i := range r.Cells {
		if !r.Cells[i].Blank() {
			return false
		}
	}
	return true
}

// Blank reports whether nobody sees a value in the cell: it is empty, or contains only space. A formula without a
// stored value is not blank.
func (c *Cell) Blank() bool { return Trim(c.Text) == "" && c.Kind != Unkept }

// Trim removes the outer space from a text, of whatever kind, and marks that are invisible.
func Trim(s string) string {
	if s == "" || s[0] > ' ' && s[0] < 0x80 && s[len(s)-1] > ' ' && s[len(s)-1] < 0x80 {
		return s
	}
	return strings.TrimFunc(s, func(r rune) bool {
		return r <= ' ' || unicode.IsSpace(r) || strings.ContainsRune(unseen, r)
	})
}

// unseen are the marks without width: a zero width space, a word joiner, a byte order mark and a soft hyphen.
const unseen = "\u200b\u2060\ufeff\u00ad"

// Reader returns the records of a document one after another. Next returns io.EOF after the last one; an error of type
// *finding.Finding says what stopped it. A record belongs to the caller.
type Reader interface {
	Next() (Record, error)
	// Offset is how far the reader has got, as a share of the document from 0 to 1.
	Offset() float64
}

// Limits say how much a document may ask of the machine. A zero field is no limit.
type Limits struct {
	Rows     int   // rows of a document
	Columns  int   // cells of a row
	CellText int   // bytes of a cell; a longer value is cut, with a finding
	RowBytes int   // bytes of a CSV row
	Unpacked int64 // bytes of a workbook's parts, unpacked
	Strings  int64 // bytes of a workbook's shared texts: all that is held in memory
}

// DefaultLimits suit a service that receives strangers' files.
var DefaultLimits = Limits{
	Rows: 5_000_000, Columns: 16_384, CellText: 32_767, RowBytes: 16 << 20,
	Unpacked: 4 << 30, Strings: 512 << 20,
}

// Options say how to read. What is left out is detected.
type Options struct {
	Format    Format
	Encoding  Encoding
	Delimiter string // one character
	Quote     string // one character, or NoQuote
	// one character that ends a record of text instead of a line's end; line ends behind it are passed over
	RecordEnd string
	Release   string     // one character that makes the next one text
	Positions []Position // where the columns of text of fixed width stand; nil is delimited text
	// which sheets of a workbook, counted from 1; nil is the first visible one
	Sheets  func(number int, name string) bool
	Visible bool // hidden sheets are none
	// which values of a JSON document are its records, those of one path after those of another; nil is each element
	// of the outermost array, or each line
	Records []*jsondoc.Path
	Set     string       // X12: which transaction sets are records; "" is every one
	Loops   *x12.Address // X12: which loops of a set are records; nil is the set as a whole
	// X12: elements of such a loop; loops of a set in which all of them are the same are one record
	Same   []*x12.Address
	Parts  *SetParts // X12: how a set of several orders is divided among them; nil is that it is not
	Around bool      // JSON: records know the objects around them
	Leaves bool      // JSON and X12: give a row for each value or segment instead, for people to look at
	Limits Limits
}

// Open starts reading a document of size bytes. The error is a *finding.Finding.
func Open(r io.ReaderAt, size int64, opt Options) (Reader, error) {
	shape, err := Sniff(r, size, opt)
	if err != nil {
		return nil, err
	}
	switch {
	case shape.Format == XLSX:
		return openXLSX(r, size, opt)
	case shape.Format == ODS:
		o, err := openODS(shape.content, opt)
		if err != nil {
			return nil, err
		}
		return o, nil
	case shape.Format == X12 && opt.Leaves:
		return openSegments(r, size), nil
	case shape.Format == X12:
		return openX12(r, size, opt), nil
	case shape.Format.Tree() && opt.Leaves:
		return openLeaves(r, size, shape, opt), nil
	case shape.Format.Tree() && len(opt.Records) > 1:
		return openParts(r, size, shape, opt), nil
	case shape.Format == JSON:
		return openJSON(r, size, shape, opt)
	case shape.Format == NDJSON:
		return openNDJSON(r, size, shape, opt), nil
	}
	return openCSV(r, size, shape, opt.Limits), nil
}

// NoQuote is the quotation mark of text without quotation marks.
const NoQuote = "none"

// Position is where a column stands in a line of fixed width, in characters counted from 1.
type Position struct {
	Name        string
	First, Last int
}

// Shape is the outer form of a document, before any row is interpreted.
type Shape struct {
	Format    Format     `json:"format"`
	Encoding  Encoding   `json:"encoding,omitempty"`
	Marked    bool       `json:"byte_order_mark,omitempty"`
	Delimiter string     `json:"delimiter,omitempty"`
	Quote     string     `json:"quote,omitempty"`
	Sheets    []string   `json:"sheets,omitempty"`
	RecordEnd string     `json:"-"`
	Release   string     `json:"-"`
	Positions []Position `json:"-"`
	lineEnd   byte
	content   *zip.File // ODS: the part with the rows
}

// Strict reports whether rows can contain nothing beyond what they declare.
func (s *Shape) Strict() bool { return s.Positions != nil || s.RecordEnd != "" || s.Release != "" }

// strange is a kind of file that is often sent by mistake: how it begins, what else its first part contains, and what
// to do about it.
type strange struct{ prefix, also, is, advice string }

const (
	savedAsPage = "Some systems export a web page and call it a workbook. Open it in a spreadsheet program and save it as .xlsx."
	otherEDI    = "Koinos exchanges EDI in ANSI ASC X12. Ask the partner for X12, or for a CSV file or JSON."
)

var strangers = []strange{
	{"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1", "", "a workbook of the old binary kind, or one with a password",
		"Open it in a spreadsheet program and save it as .xlsx without a password."},
	{"%PDF-", "", "a PDF", "A PDF shows a table but does not hold one. Ask for the sheet it was made from."},
	{"\x89PNG", "", "a picture (PNG)", ""}, {"\xff\xd8\xff", "", "a picture (JPEG)", ""},
	{"GIF8", "", "a picture (GIF)", ""}, {"{\\rtf", "", "a text document (RTF)", ""},
	{"\x1f\x8b", "", "a compressed file (gzip)", "Unpack it first."},
	{"Rar!", "", "a packed folder (RAR)", "Unpack it first."},
	{"7z\xbc\xaf", "", "a packed folder (7z)", "Unpack it first."},
	{"<!DOCTYPE html", "", "a web page", savedAsPage}, {"<html", "", "a web page", savedAsPage},
	{"<table", "", "a web page", savedAsPage}, {"<meta", "<table", "a web page", savedAsPage},
	{"<?xml", "urn:schemas-microsoft-com:office:spreadsheet", "a workbook of the old XML kind",
		"Open it in a spreadsheet program and save it as .xlsx."},
	{"<?xml", "", "an XML document", ""},
	{"UNA:+", "UNB+", "an interchange of UN/EDIFACT", otherEDI}, {"UNB+UNO", "", "an interchange of UN/EDIFACT", otherEDI},
	{"\x7fELF", "", "a program", ""}, {"MZ\x90", "", "a program", ""},
}

// begins reports whether a file begins as such ones do. Space and a byte order mark before that do not count.
func (s *strange) begins(head []byte) bool {
	text := bytes.TrimLeft(bytes.TrimPrefix(head, []byte("\xef\xbb\xbf")), " \t\r\n")
	return len(text) >= len(s.prefix) && bytes.EqualFold(text[:len(s.prefix)], []byte(s.prefix)) &&
		bytes.Contains(head, []byte(s.also))
}

// Sniff detects the shape of a document; what opt states is not detected.
func Sniff(r io.ReaderAt, size int64, opt Options) (Shape, error) {
	if size == 0 {
		return Shape{}, finding.Fatal(finding.DocumentEmpty, origin.Place{},
			"The document is empty: it has no bytes at all.")
	}
	head := make([]byte, min(size, 64<<10))
	if _, err := r.ReadAt(head, 0); err != nil && err != io.EOF {
		return Shape{}, finding.Fatal(finding.DocumentBroken, origin.Place{}, "The document cannot be read: %v.", err)
	}
	for _, m := range strangers {
		if m.begins(head) {
			f := finding.Fatal(finding.FormatUnknown, origin.Place{},
				"This is %s, not a CSV file, a workbook (.xlsx or .ods), JSON or X12.", m.is)
			if m.advice != "" {
				f.Hint = m.advice
			}
			return Shape{}, f
		}
	}
	if bytes.HasPrefix(head, []byte("PK")) {
		if opt.Format != "" && opt.Format != XLSX && opt.Format != ODS {
			return Shape{}, finding.Fatal(finding.FormatUnknown, origin.Place{},
				"The mapping expects %s, but this is a workbook or another ZIP archive.", opt.Format)
		}
		z, err := zip.NewReader(r, size)
		if err != nil {
			return Shape{}, finding.Fatal(finding.DocumentBroken, origin.Place{},
				"This looks like a workbook, but its archive is damaged or cut short (%v).", err)
		}
		content, err := odsContent(z)
		if err != nil {
			return Shape{}, finding.Fatal(finding.DocumentBroken, origin.Place{}, "The workbook is damaged (%v).", err)
		}
		is := XLSX
		if content != nil {
			is = ODS
		}
		if opt.Format != "" && opt.Format != is {
			return Shape{}, finding.Fatal(finding.FormatUnknown, origin.Place{},
				"The mapping expects %s, but this is a workbook of the form %s.", opt.Format, is)
		}
		if content != nil {
			return Shape{Format: ODS, content: content}, nil
		}
		book, err := workbook.Read(z, opt.Limits.Unpacked)
		if err != nil {
			return Shape{}, err
		}
		shape := Shape{Format: XLSX}
		for _, s := range book.Sheets {
			shape.Sheets = append(shape.Sheets, s.Name)
		}
		return shape, nil
	}
	if isX12(head) && (opt.Format == "" || opt.Format == X12) {
		return Shape{Format: X12}, nil
	}
	if opt.Format == X12 {
		return Shape{}, finding.Fatal(finding.FormatUnknown, origin.Place{},
			"The mapping expects X12, but this does not begin with an ISA segment.")
	}
	if opt.Format == XLSX || opt.Format == ODS {
		return Shape{}, finding.Fatal(finding.FormatUnknown, origin.Place{},
			"The mapping expects an .%s workbook, but this is not one.", opt.Format)
	}
	shape := Shape{Format: CSV, Delimiter: opt.Delimiter, Quote: opt.Quote, RecordEnd: opt.RecordEnd,
		Release:   opt.Release,
		Positions: opt.Positions}
	if shape.Quote == "" && shape.Strict() {
		shape.Quote = NoQuote
	}
	if err := shape.sniffEncoding(r, size, head, opt.Encoding); err != nil {
		return Shape{}, err
	}
	text, err := io.ReadAll(io.LimitReader(shape.decode(io.NewSectionReader(r, 0, size)), 256<<10))
	if err != nil {
		return Shape{}, finding.Fatal(finding.DocumentBroken, origin.Place{}, "The document cannot be read: %v.", err)
	}
	if n := bytes.Count(text, []byte{0}); n > 16 && n > len(text)/100 {
		return Shape{}, finding.Fatal(finding.FormatUnknown, origin.Place{},
			"This is not text: it is full of NUL bytes.")
	}
	is := opt.Format
	if is == "" && !shape.Strict() {
		is = sniffJSON(text, int64(len(text)) >= size)
	}
	if is.Tree() {
		return Shape{Format: is, Encoding: shape.Encoding, Marked: shape.Marked}, nil
	}
	shape.lineEnd = '\n'
	if bytes.IndexByte(text, '\n') < 0 && bytes.IndexByte(text, '\r') >= 0 {
		shape.lineEnd = '\r'
	}
	if shape.Quote == "" {
		shape.Quote = sniffQuote(text)
	}
	if shape.Delimiter == "" {
		shape.Delimiter = sniffDelimiter(text, shape)
	}
	return shape, nil
}

// sniffQuote prefers the double quotation mark unless single ones wrap more cells.
func sniffQuote(text []byte) string {
	wraps := func(q byte) (n int) {
		for i := 0; i+1 < len(text); i++ {
			if text[i] == q && bytes.IndexByte([]byte(",;\t|\r\n"), text[i+1]) >= 0 {
				n++
			}
		}
		return n
	}
	if single := wraps('\''); single > 2 && single > 2*wraps('"') {
		return "'"
	}
	return `"`
}

// sniffDelimiter chooses the sign that splits most rows into the same number of cells, more than one; among equals the
// one that makes more cells.
func sniffDelimiter(text []byte, shape Shape) string {
	best, bestScore := ",", 0
	for _, d := range []string{",", ";", "\t", "|"} {
		shape.Delimiter = d
		rows := openCSV(bytes.NewReader(text), int64(len(text)), shape.decoded(), Limits{})
		widths := map[int]int{}
		for range 200 {
			rec, err := rows.Next()
			if err != nil {
				break
			}
			if len(rec.Cells) > 1 {
				widths[len(rec.Cells)]++
			}
		}
		for width, n := range widths {
			if score := n*1000 + min(width, 999); score > bestScore {
				best, bestScore = d, score
			}
		}
	}
	return best
}

func tooLarge(at origin.Place, format string, args ...any) *finding.Finding {
	return finding.Fatal(finding.DocumentTooLarge, at, "%s", fmt.Sprintf(format, args...))
}
