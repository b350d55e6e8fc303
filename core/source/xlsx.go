package source

import (
	"archive/zip"
	"bytes"
	"errors"
	"io"
	"path"
	"strconv"
	"strings"

	"koinos/core/finding"
	"koinos/core/origin"
)

var errTooLong = errors.New("a tag or a text is longer than 8 MiB")

// book is what of a workbook must be known before its rows.
type book struct {
	sheets   []bookSheet
	date1904 bool
	strings  *zip.File
	styles   *zip.File
	limits   Limits
	unpacked int64
}

type bookSheet struct {
	name   string
	hidden bool
	part   *zip.File
}

var errUnpacked = errors.New("the workbook unpacks to more than the limit")

// open reads a part, counting what it unpacks to against the limit: the sizes
// that an archive declares are not to be believed.
func (b *book) open(f *zip.File) (io.ReadCloser, error) {
	r, err := f.Open()
	if err != nil {
		return nil, err
	}
	return &meter{r, b}, nil
}

type meter struct {
	io.ReadCloser
	b *book
}

func (m *meter) Read(p []byte) (int, error) {
	n, err := m.ReadCloser.Read(p)
	m.b.unpacked += int64(n)
	if m.b.limits.Unpacked > 0 && m.b.unpacked > m.b.limits.Unpacked {
		return n, errUnpacked
	}
	return n, err
}

// broken turns an error met in a part into a finding.
func (b *book) broken(err error, what string, at origin.Place) error {
	var f *finding.Finding
	switch {
	case err == nil || err == io.EOF || errors.As(err, &f):
		return err
	case errors.Is(err, errUnpacked):
		return tooLarge(at, "The workbook unpacks to more than %d MiB; it may be made to fill the disk.",
			b.limits.Unpacked>>20)
	}
	return finding.Fatal(finding.DocumentBroken, at, "%s is damaged or cut short (%v).", what, err)
}

type relation struct {
	ID     string `xml:"Id,attr"`
	Type   string `xml:"Type,attr"`
	Target string `xml:"Target,attr"`
}

func readBook(z *zip.Reader, limits Limits) (*book, error) {
	b := &book{limits: limits}
	parts := map[string]*zip.File{}
	for _, f := range z.File {
		parts[strings.ToLower(strings.TrimPrefix(f.Name, "/"))] = f
	}
	relations := func(of string) ([]relation, error) {
		dir, file := path.Split(of)
		f := parts[strings.ToLower(dir+"_rels/"+file+".rels")]
		if f == nil {
			return nil, nil
		}
		r, err := b.open(f)
		if err != nil {
			return nil, err
		}
		defer r.Close()
		var doc struct {
			Relations []relation `xml:"Relationship"`
		}
		err = decodeXML(r, &doc)
		for i, rel := range doc.Relations {
			if !strings.HasPrefix(rel.Target, "/") {
				rel.Target = path.Join(dir, rel.Target)
			}
			doc.Relations[i].Target = strings.ToLower(strings.TrimPrefix(rel.Target, "/"))
		}
		return doc.Relations, err
	}
	top, err := relations("")
	if err != nil {
		return nil, b.broken(err, "The workbook's table of contents", origin.Place{})
	}
	main := "xl/workbook.xml"
	for _, rel := range top {
		if strings.HasSuffix(rel.Type, "/officeDocument") {
			main = rel.Target
		}
	}
	if parts[main] == nil {
		return nil, finding.Fatal(finding.FormatUnknown, origin.Place{},
			"This is a ZIP archive, but not an .xlsx workbook.")
	}
	if strings.HasSuffix(main, ".bin") {
		return nil, finding.Fatal(finding.FormatUnknown, origin.Place{},
			"This is a binary workbook (.xlsb); save it as .xlsx.")
	}
	r, err := b.open(parts[main])
	if err != nil {
		return nil, b.broken(err, "The workbook", origin.Place{})
	}
	defer r.Close()
	var doc struct {
		Properties struct {
			Date1904 string `xml:"date1904,attr"`
		} `xml:"workbookPr"`
		Sheets []struct {
			Name  string `xml:"name,attr"`
			State string `xml:"state,attr"`
			ID    string `xml:"http://schemas.openxmlformats.org/officeDocument/2006/relationships id,attr"`
			ID2   string `xml:"http://purl.oclc.org/ooxml/officeDocument/relationships id,attr"`
		} `xml:"sheets>sheet"`
	}
	if err := decodeXML(r, &doc); err != nil {
		return nil, b.broken(err, "The workbook", origin.Place{})
	}
	rels, err := relations(main)
	if err != nil {
		return nil, b.broken(err, "The workbook's table of contents", origin.Place{})
	}
	byID := map[string]relation{}
	for _, rel := range rels {
		byID[rel.ID] = rel
		switch {
		case strings.HasSuffix(rel.Type, "/sharedStrings"):
			b.strings = parts[rel.Target]
		case strings.HasSuffix(rel.Type, "/styles"):
			b.styles = parts[rel.Target]
		}
	}
	b.date1904 = doc.Properties.Date1904 == "1" || doc.Properties.Date1904 == "true"
	for _, s := range doc.Sheets {
		rel := byID[s.ID+s.ID2]
		part := parts[rel.Target]
		if part == nil || !strings.HasSuffix(rel.Type, "/worksheet") {
			continue // a chart sheet has no rows
		}
		b.sheets = append(b.sheets, bookSheet{s.Name, s.State == "hidden" || s.State == "veryHidden", part})
	}
	if len(b.sheets) == 0 {
		return nil, finding.Fatal(finding.DocumentEmpty, origin.Place{}, "The workbook has no sheet with rows.")
	}
	return b, nil
}

type xlsxReader struct {
	book    *book
	chosen  []bookSheet
	sheet   int // index into chosen of the sheet being read
	x       *xmlScanner
	part    io.ReadCloser
	shared  []string
	formats []cellFormat
	row     int
	rows    int
	width   int
	total   int64
	done    int64
}

func openXLSX(r io.ReaderAt, size int64, opt Options) (Reader, error) {
	z, err := zip.NewReader(r, size)
	if err != nil {
		return nil, finding.Fatal(finding.DocumentBroken, origin.Place{},
			"The workbook's archive is damaged or cut short (%v).", err)
	}
	b, err := readBook(z, opt.Limits)
	if err != nil {
		return nil, err
	}
	x := &xlsxReader{book: b, sheet: -1}
	for i, s := range b.sheets {
		if opt.Sheets == nil && s.hidden {
			continue
		}
		if opt.Sheets == nil || opt.Sheets(i+1, s.name) {
			x.chosen = append(x.chosen, s)
			x.total += int64(s.part.UncompressedSize64)
		}
		if opt.Sheets == nil {
			break
		}
	}
	if len(x.chosen) == 0 {
		var names []string
		for _, s := range b.sheets {
			names = append(names, s.name)
		}
		f := finding.Fatal(finding.SheetMissing, origin.Place{},
			"No sheet of the workbook has the name that the mapping asks for; it has: %s.", strings.Join(names, ", "))
		return nil, f
	}
	if x.formats, err = readFormats(b); err != nil {
		return nil, b.broken(err, "The workbook's table of formats", origin.Place{})
	}
	if x.shared, err = readShared(b); err != nil {
		return nil, b.broken(err, "The workbook's table of texts", origin.Place{})
	}
	return x, nil
}

func (x *xlsxReader) Offset() float64 {
	if x.total == 0 {
		return 1
	}
	return min(1, float64(max(0, x.book.unpacked-x.done))/float64(x.total))
}

// readShared reads the table of texts that cells point into. It is the one
// thing of a workbook that is held in memory, bounded by Limits.Strings.
func readShared(b *book) ([]string, error) {
	if b.strings == nil {
		return nil, nil
	}
	r, err := b.open(b.strings)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	x := newXMLScanner(r)
	var table []string
	var held int64
	var text []byte
	skip := false
	for {
		t, err := x.next(true)
		if err == io.EOF {
			return table, nil
		}
		if err != nil {
			return nil, err
		}
		switch string(t.name) {
		case "si":
			if t.open {
				text = text[:0]
			}
			if t.close {
				s := unescape(text)
				held += int64(len(s)) + 16
				if b.limits.Strings > 0 && held > b.limits.Strings {
					return nil, tooLarge(origin.Place{}, "The workbook's texts need more than %d MiB.",
						b.limits.Strings>>20)
				}
				table = append(table, s)
			}
		case "rPh": // how to pronounce it: not part of the text
			skip = t.open && !t.close
		case "t":
			if !t.open && !skip {
				text = append(text, x.text...)
			}
		}
	}
}

func (x *xlsxReader) Next() (Record, error) {
	for {
		if x.x == nil {
			if x.sheet++; x.sheet >= len(x.chosen) {
				return Record{}, io.EOF
			}
			if x.sheet == 0 {
				x.done = x.book.unpacked
			}
			part, err := x.book.open(x.chosen[x.sheet].part)
			if err != nil {
				return Record{}, x.fail(err)
			}
			x.part, x.x, x.row = part, newXMLScanner(part), 0
		}
		t, err := x.x.next(false)
		switch {
		case err == io.EOF || err == nil && !t.open && string(t.name) == "sheetData":
			x.part.Close()
			x.x = nil
		case err != nil:
			return Record{}, x.fail(err)
		case t.open && string(t.name) == "row":
			x.row = number(t.attr("r"), x.row+1)
			x.rows++
			if most := x.book.limits.Rows; most > 0 && x.rows > most {
				return Record{}, tooLarge(x.place(0), "The workbook has more than %d rows.", most)
			}
			rec := Record{Sheet: x.chosen[x.sheet].name, Row: x.row}
			if h := t.attr("hidden"); len(h) > 0 {
				rec.Hidden = h[0] == '1' || h[0] == 't'
			}
			if !t.close {
				if err := x.cells(&rec); err != nil {
					return Record{}, x.fail(err)
				}
			}
			return rec, nil
		}
	}
}

func (x *xlsxReader) place(column int) origin.Place {
	return origin.Place{Sheet: x.chosen[min(x.sheet, len(x.chosen)-1)].name, Row: x.row, Column: column}
}

func (x *xlsxReader) fail(err error) error {
	return x.book.broken(unexpected(err), "The sheet "+x.chosen[x.sheet].name, x.place(0))
}

func number(b []byte, otherwise int) int {
	n, err := strconv.Atoi(string(b))
	if err != nil || n < 1 || n > 1<<24 { // sixteen times the rows of a sheet
		return otherwise
	}
	return n
}

// cells reads up to the row's end.
func (x *xlsxReader) cells(rec *Record) error {
	rec.Cells = make([]Cell, 0, x.width)
	if !x.x.odd {
		n, err := x.x.quick(func(b []byte) int {
			rec.Cells = rec.Cells[:0]
			return x.quickCells(rec, b)
		})
		if n > 0 || err != nil {
			x.width = max(x.width, len(rec.Cells))
			return err
		}
		x.x.odd = n == 0 // rows that long are not tried in vain again and again
	}
	rec.Cells, rec.Findings = rec.Cells[:0], nil
	column := 0
	var kind, value []byte
	style, formula, inline := 0, false, false
	for {
		t, err := x.x.next(true)
		if err != nil {
			return err
		}
		switch string(t.name) {
		case "row":
			x.width = max(x.width, len(rec.Cells))
			return nil
		case "c":
			if t.open {
				column = columnOf(t.attr("r"), column+1)
				kind = append(kind[:0], t.attr("t")...)
				style, _ = strconv.Atoi(string(t.attr("s")))
				value, formula, inline = value[:0], false, false
			}
			// column is 0 where a cell ends that never began.
			if t.close && column > 0 && (len(value) > 0 || formula || inline) {
				if err := x.put(rec, column, kind, value, style, formula); err != nil {
					return err
				}
			}
		case "f":
			formula = true
		case "v":
			if !t.open {
				value = append(value[:0], x.x.text...)
			}
		case "is":
			inline = true
		case "t":
			if !t.open && inline {
				value = append(value, x.x.text...)
			}
		}
	}
}

// put puts a cell into its row.
func (x *xlsxReader) put(rec *Record, column int, kind, value []byte, style int, formula bool) error {
	if column > 16_384 || x.book.limits.Columns > 0 && column > x.book.limits.Columns {
		return tooLarge(x.place(0), "Row %d has a cell in column %d; %d is the last.", rec.Row, column,
			x.book.limits.Columns)
	}
	for len(rec.Cells) < column {
		rec.Cells = append(rec.Cells, Cell{})
	}
	cell := x.cell(kind, value, style, formula)
	if most := x.book.limits.CellText; most > 0 && len(cell.Text) > most {
		rec.Findings = append(rec.Findings, finding.New(finding.CellTooLong, x.place(column), cell.Text,
			"The cell has %d bytes; %d is the most.", len(cell.Text), most))
		cell.Text = finding.Clip(cell.Text, most-3)
	}
	if strings.IndexByte(cell.Text, 0) >= 0 {
		cell.Text = strings.ReplaceAll(cell.Text, "\x00", "")
		rec.Findings = append(rec.Findings, finding.New(finding.ControlCharacter, x.place(column), cell.Text,
			"The cell has NUL characters inside its value."))
	}
	rec.Cells[column-1] = cell
	return nil
}

// quickCells reads a row as nearly every program writes it, in place, and gives
// how many bytes it had with its end; 0 where b ends before it does. It gives
// up, -1, at whatever is out of the ordinary: cells then reads the row tag by
// tag, and says what is wrong with it.
func (x *xlsxReader) quickCells(rec *Record, b []byte) int {
	whole := len(b)
	var kind, value []byte
	column, style, formula, inline, open := 0, 0, false, false, false
	for {
		lt := bytes.IndexByte(b, '<')
		if lt < 0 {
			return 0
		}
		gt := bytes.IndexByte(b[lt:], '>')
		if gt < 0 {
			return 0
		}
		if gt < 2 {
			return -1
		}
		text, tag := b[:lt:lt], b[lt+1:lt+gt]
		b = b[lt+gt+1:]
		switch {
		case tag[0] == 'c' && (len(tag) == 1 || tag[1] == ' ' || tag[1] == '/'):
			if open {
				return -1
			}
			closed := tag[len(tag)-1] == '/'
			column++
			kind, value, style, formula, inline, open = nil, nil, 0, false, false, !closed
			for a := tag[1:]; ; {
				for len(a) > 0 && a[0] == ' ' {
					a = a[1:]
				}
				eq := bytes.IndexByte(a, '=')
				if eq < 0 {
					if len(a) > 0 && string(a) != "/" {
						return -1
					}
					break
				}
				if eq+2 > len(a)-1 || a[eq+1] != '"' {
					return -1
				}
				end := bytes.IndexByte(a[eq+2:], '"')
				if end < 0 {
					return -1
				}
				v := a[eq+2 : eq+2+end]
				switch string(a[:eq]) {
				case "r":
					column = columnOf(v, column)
				case "t":
					kind = v
				case "s":
					style = number(v, 0)
				}
				a = a[eq+3+end:]
			}
		case string(tag) == "/c":
			if !open {
				return -1
			}
			open = false
			if (len(value) > 0 || formula || inline) && x.put(rec, column, kind, value, style, formula) != nil {
				return -1
			}
		case string(tag) == "v" || string(tag) == "t" || string(tag) == `t xml:space="preserve"`:
		case string(tag) == "/v":
			value = text
		case string(tag) == "/t":
			if inline {
				if value == nil {
					value = text
				} else {
					value = append(value, text...)
				}
			}
		case string(tag) == "is":
			inline = true
		case string(tag) == "f" || string(tag) == "f/":
			formula = true
		case string(tag) == "/row":
			if open {
				return -1
			}
			return whole - len(b)
		case string(tag) == "/is" || string(tag) == "/f":
		default:
			return -1
		}
	}
}

// columnOf reads the column of a cell reference such as AB12.
func columnOf(ref []byte, otherwise int) int {
	n := 0
	for _, c := range ref {
		if c < 'A' || c > 'Z' {
			break
		}
		n = n*26 + int(c-'A') + 1
		if n > 1<<20 {
			return n
		}
	}
	if n == 0 {
		return otherwise
	}
	return n
}

func (x *xlsxReader) cell(kind, value []byte, style int, formula bool) Cell {
	if len(value) == 0 && formula && string(kind) != "str" {
		return Cell{Kind: Unkept}
	}
	switch string(kind) {
	case "s":
		i, err := strconv.Atoi(string(value))
		if err != nil || i < 0 || i >= len(x.shared) {
			return Cell{Text: "#TEXT " + string(value), Kind: ErrorValue}
		}
		return Cell{Text: x.shared[i]}
	case "str", "inlineStr":
		return Cell{Text: unescape(value)}
	case "b":
		if string(value) == "1" || string(value) == "true" {
			return Cell{Text: "TRUE", Kind: Bool}
		}
		return Cell{Text: "FALSE", Kind: Bool}
	case "e":
		return Cell{Text: unescape(value), Kind: ErrorValue}
	case "d":
		return Cell{Text: string(value), Kind: Day}
	}
	var format cellFormat
	if style >= 0 && style < len(x.formats) {
		format = x.formats[style]
	}
	return format.show(string(value), x.book.date1904)
}
