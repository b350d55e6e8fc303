package source

import (
	"archive/zip"
	"bytes"
	"cmp"
	"io"
	"slices"
	"strconv"
	"strings"

	"koinos/core/finding"
	"koinos/core/origin"
	"koinos/core/workbook"
)

// odsType is the type that an OpenDocument spreadsheet states (OpenDocument 1.3, part 2).
const odsType = "application/vnd.oasis.opendocument.spreadsheet"

// odsContent returns the part of an OpenDocument spreadsheet that contains its rows; nil if the archive is not one.
func odsContent(z *zip.Reader) (content *zip.File, err error) {
	is := false
	for _, f := range z.File {
		switch f.Name {
		case "mimetype":
			r, err := f.Open()
			if err != nil {
				return nil, err
			}
			text, err := io.ReadAll(io.LimitReader(r, 256))
			r.Close()
			if err != nil {
				return nil, err
			}
			is = strings.TrimSpace(string(text)) == odsType
		case "content.xml":
			content = f
		}
	}
	if !is {
		return nil, nil
	}
	return content, nil
}

// odsReader returns the rows of an OpenDocument spreadsheet. If one sheet is read, its records name none, like those of
// a CSV.
type odsReader struct {
	book   *workbook.Book
	opt    Options
	x      *workbook.Scanner
	part   io.ReadCloser
	size   int64
	hiding map[string]bool // styles of sheets that people do not see
	sheet  string
	hidden bool     // the sheet
	column int      // columns that the sheet has described
	unseen [][2]int // first and last of columns that are hidden
	names  []string // of the sheets that were begun
	chosen int
	asked  bool // the sheet is one that is asked for
	whole  bool // the other sheets are read, too
	inside bool // of a sheet that is read
	row    int
	rows   int
	again  int // how often the record is to be given once more
	last   Record
}

func openODS(content *zip.File, opt Options) (*odsReader, error) {
	if err := whole(content, opt.Limits.Unpacked); err != nil {
		return nil, finding.Fatal(finding.DocumentBroken, origin.Place{}, "The workbook is damaged or cut short (%v).",
			err)
	}
	o := &odsReader{book: &workbook.Book{Most: opt.Limits.Unpacked}, opt: opt, hiding: map[string]bool{},
		size: int64(content.UncompressedSize64)}
	part, err := o.book.Open(content)
	if err != nil {
		return nil, o.fail(err)
	}
	o.part, o.x = part, workbook.NewScanner(part)
	return o, nil
}

func (o *odsReader) Offset() float64 { return share(o.book.Unpacked, o.size) }

func (o *odsReader) fail(err error) error {
	return o.book.Broken(workbook.Unexpected(err), "The workbook", origin.Place{Sheet: o.sheet, Row: o.row})
}

func (o *odsReader) Next() (Record, error) {
	if o.again > 0 {
		o.again--
		o.row++
		return o.give(), nil
	}
	style := ""
	for {
		t, err := o.x.Next(false)
		if err == io.EOF {
			o.part.Close()
			if o.chosen == 0 && !o.whole {
				return Record{}, finding.Fatal(finding.SheetMissing, origin.Place{},
					"The workbook has no sheet that the mapping asks for.")
			}
			return Record{}, io.EOF
		}
		if err != nil {
			return Record{}, o.fail(err)
		}
		switch string(t.Name) {
		case "style":
			style = string(t.Attr("name"))
		case "table-properties":
			if string(t.Attr("display")) == "false" {
				o.hiding[style] = true
			}
		case "table":
			o.table(t)
		case "table-column":
			if t.Open {
				first := o.column + 1
				if o.column += workbook.Number(t.Attr("number-columns-repeated"), 1); !visible(t) {
					o.unseen = append(o.unseen, [2]int{first, o.column})
				}
			}
		case "table-row":
			if !t.Open || !o.inside {
				continue
			}
			rec, repeat, err := o.read(t)
			if err != nil {
				return Record{}, err
			}
			if rec.Blank() {
				o.row += repeat
				continue
			}
			o.row++
			o.last, o.again = rec, repeat-1
			if o.rows += repeat; o.opt.Limits.Rows > 0 && o.rows > o.opt.Limits.Rows {
				return Record{}, tooLarge(rec.Place(0), "The workbook has more than %d rows.", o.opt.Limits.Rows)
			}
			return o.give(), nil
		}
	}
}

// give returns the last record for the row that has been reached.
func (o *odsReader) give() Record {
	rec := o.last
	rec.Row, rec.Cells = o.row, slices.Clone(o.last.Cells)
	return rec
}

// table begins or ends a sheet.
func (o *odsReader) table(t workbook.Tag) {
	if !t.Open {
		o.inside = false
		return
	}
	name, _ := workbook.Unescape(t.Attr("name"), false)
	o.hidden = o.hiding[string(t.Attr("style-name"))]
	o.names = append(o.names, name)
	o.row, o.column, o.unseen = 0, 0, nil
	if o.opt.Sheets == nil {
		o.asked, name = !o.hidden && o.chosen == 0, "" // the first that people see
	} else {
		o.asked = o.opt.Sheets(len(o.names), name) && !(o.hidden && o.opt.Visible)
	}
	if o.inside = o.asked || o.whole; o.inside {
		o.sheet = name
	}
	if o.asked {
		o.chosen++
	}
}

// seen says which parts of the present sheet are hidden.
func (o *odsReader) seen() (hidden bool, columns [][2]int) { return o.hidden, o.unseen }

// visible reports whether people see a row or a column.
func visible(t workbook.Tag) bool {
	is := string(t.Attr("visibility"))
	return is == "" || is == "visible"
}

// read reads a row up to its end, and how often it is repeated.
func (o *odsReader) read(t workbook.Tag) (rec Record, repeat int, err error) {
	rec = Record{Sheet: o.sheet, Row: o.row + 1, Hidden: !visible(t)}
	repeat = workbook.Number(t.Attr("number-rows-repeated"), 1)
	if t.Close {
		return rec, repeat, nil
	}
	column := 0
	for {
		t, err := o.x.Next(false)
		if err != nil {
			return rec, repeat, o.fail(err)
		}
		switch name := string(t.Name); {
		case name == "table-row" && !t.Open:
			return rec, repeat, nil
		case (name == "table-cell" || name == "covered-table-cell") && t.Open:
			times := workbook.Number(t.Attr("number-columns-repeated"), 1)
			cell, lost, err := o.cell(t)
			if err != nil {
				return rec, repeat, err
			}
			if cell.Blank() {
				column += times
				continue
			}
			if most := o.opt.Limits.Columns; most > 0 && column+times > most {
				return rec, repeat, tooLarge(rec.Place(0), "Row %d has a cell in column %d; %d is the last.", rec.Row,
					column+times, most)
			}
			cell = rec.tidy(cell, column+1, lost, o.opt.Limits.CellText)
			for range times {
				for len(rec.Cells) < column {
					rec.Cells = append(rec.Cells, Cell{})
				}
				rec.Cells = append(rec.Cells, cell)
				column++
			}
		}
	}
}

// cell reads a cell up to its end. Its text is what it shows; a comment is not a part of it.
func (o *odsReader) cell(t workbook.Tag) (c Cell, lost string, err error) {
	kind, name, formula := string(t.Attr("value-type")), string(t.Name), len(t.Attr("formula")) > 0
	value := string(t.Attr("value"))
	day, truth := string(t.Attr("date-value")), string(t.Attr("boolean-value"))
	var shown []byte
	paragraphs, comment, within := 0, 0, false // a paragraph
	if !t.Close {
		for open := true; open; {
			t, err := o.x.Next(true)
			if err != nil {
				return c, "", o.fail(err)
			}
			most := o.opt.Limits.CellText // what is longer is none: how much longer is not asked
			if comment == 0 && within && (most == 0 || len(shown) <= most) {
				text, bad := workbook.Unescape(o.x.Text, false)
				shown = append(shown, text...)
				if bad != "" {
					lost = bad
				}
			}
			switch tag := string(t.Name); {
			case tag == name && !t.Open:
				open = false
			case tag == "annotation" && t.Open && !t.Close:
				comment++
			case tag == "annotation" && !t.Open:
				comment--
			case comment > 0:
			case tag == "p":
				if within = t.Open && !t.Close; !t.Open {
					continue
				}
				if paragraphs++; paragraphs > 1 {
					shown = append(shown, '\n')
				}
			case tag == "s" && t.Open:
				shown = append(shown, bytes.Repeat([]byte{' '}, min(workbook.Number(t.Attr("c"), 1), cmp.Or(most, 1<<20)+1))...)
			case tag == "tab" && t.Open:
				shown = append(shown, '\t')
			case tag == "line-break" && t.Open:
				shown = append(shown, '\n')
			}
		}
	}
	text := string(shown)
	switch kind {
	case "float", "currency":
		n, err := strconv.ParseFloat(value, 64)
		if err != nil {
			return Cell{Text: text}, lost, nil
		}
		if isShownCode(text, value) {
			return Cell{Text: text}, lost, nil
		}
		return Cell{Text: plainDigits(value, n, 0), Kind: Number}, lost, nil
	case "percentage":
		if n, err := strconv.ParseFloat(value, 64); err == nil {
			return Cell{Text: plainDigits(value, n, 2) + "%", Kind: Number}, lost, nil
		}
	case "date":
		return Cell{Text: strings.TrimSuffix(day, "T00:00:00"), Kind: Day}, lost, nil
	case "boolean":
		return Cell{Text: strings.ToUpper(truth), Kind: Bool}, lost, nil
	}
	if formula && kind == "" && text == "" {
		return Cell{Kind: Unkept}, lost, nil
	}
	if strings.HasPrefix(text, "#") && strings.ContainsAny(text, "!?/") || strings.HasPrefix(text, "Err:") {
		return Cell{Text: text, Kind: ErrorValue}, lost, nil
	}
	return Cell{Text: text}, lost, nil
}

// isShownCode reports whether the text that a cell shows for a whole number is a code: it has leading zeros, or signs
// between its digits that no number has.
func isShownCode(shown, value string) bool {
	digits := strings.Map(func(r rune) rune {
		if r >= '0' && r <= '9' {
			return r
		}
		return -1
	}, shown)
	if strings.TrimLeft(digits, "0") != strings.TrimLeft(value, "0") || digits == "" ||
		strings.ContainsAny(value, ".-eE") {
		return false
	}
	first, last := strings.IndexAny(shown, "0123456789"), strings.LastIndexAny(shown, "0123456789")
	between := strings.Trim(strings.Map(func(r rune) rune {
		if r >= '0' && r <= '9' {
			return -1
		}
		return r
	}, shown[first:last+1]), " ")
	return len(digits) > 1 && digits[0] == '0' && first == 0 && between == "" || strings.ContainsAny(between, "-/")
}
