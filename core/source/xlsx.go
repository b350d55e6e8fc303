package source

import (
	"archive/zip"
	"bytes"
	"io"
	"strconv"
	"strings"

	"koinos/core/finding"
	"koinos/core/origin"
	"koinos/core/workbook"
)

type xlsxReader struct {
	book       *workbook.Book
	limits     Limits
	chosen     []workbook.Sheet
	sheet      int // index into chosen of the sheet being read
	x          *workbook.Scanner
	part       io.ReadCloser
	shared     []string
	lost       string         // of the cell just read: what is no character
	lostShared map[int]string // the same, of shared texts
	formats    []cellFormat
	unseen     [][2]int // of the sheet being read: first and last of columns that are hidden
	row        int
	rows       int
	width      int
	total      int64
	done       int64
}

func openXLSX(r io.ReaderAt, size int64, opt Options) (Reader, error) {
	z, err := zip.NewReader(r, size)
	if err != nil {
		return nil, finding.Fatal(finding.DocumentBroken, origin.Place{},
			"The workbook's archive is damaged or cut short (%v).", err)
	}
	b, err := workbook.Read(z, opt.Limits.Unpacked)
	if err != nil {
		return nil, err
	}
	x := &xlsxReader{book: b, limits: opt.Limits, sheet: -1, lostShared: map[int]string{}}
	hidden := false
	for i, s := range b.Sheets {
		if s.Hidden && (opt.Sheets == nil || opt.Visible) {
			hidden = hidden || opt.Sheets == nil || opt.Sheets(i+1, s.Name)
			continue
		}
		if opt.Sheets == nil || opt.Sheets(i+1, s.Name) {
			x.chosen = append(x.chosen, s)
			x.total += int64(s.Part.UncompressedSize64)
		}
		if opt.Sheets == nil {
			break
		}
	}
	if len(x.chosen) == 0 {
		var names []string
		for _, s := range b.Sheets {
			name := s.Name
			if s.Hidden {
				name += " (hidden)"
			}
			names = append(names, name)
		}
		if hidden {
			return nil, finding.Fatal(finding.SheetMissing, origin.Place{},
				"The sheets that the mapping asks for are hidden, and the mapping leaves hidden ones out; the "+
					"workbook has: %s.",
				strings.Join(names, ", "))
		}
		f := finding.Fatal(finding.SheetMissing, origin.Place{},
			"No sheet of the workbook has the name that the mapping asks for; it has: %s.", strings.Join(names, ", "))
		return nil, f
	}
	if x.formats, err = readFormats(b); err != nil {
		return nil, b.Broken(err, "The workbook's table of formats", origin.Place{})
	}
	if err = x.readShared(); err != nil {
		return nil, b.Broken(err, "The workbook's table of texts", origin.Place{})
	}
	return x, nil
}

// seen says which parts of the present sheet are hidden.
func (x *xlsxReader) seen() (hidden bool, columns [][2]int) {
	return x.chosen[x.sheet].Hidden, x.unseen
}

func (x *xlsxReader) Offset() float64 {
	if x.total == 0 {
		return 1
	}
	return min(1, float64(max(0, x.book.Unpacked-x.done))/float64(x.total))
}

// readShared reads the table of texts that cells refer to. It is the only part of a workbook that is kept in memory,
// limited by Limits.Strings.
func (x *xlsxReader) readShared() error {
	b := x.book
	if b.Strings == nil {
		return nil
	}
	r, err := b.Open(b.Strings)
	if err != nil {
		return err
	}
	defer r.Close()
	in := workbook.NewScanner(r)
	var held int64
	var raw []byte
	skip := false
	for {
		t, err := in.Next(true)
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		switch string(t.Name) {
		case "si":
			if t.Open {
				raw = raw[:0]
			}
			if t.Close {
				s, lost := workbook.Unescape(raw, true)
				if lost != "" {
					x.lostShared[len(x.shared)] = lost
				}
				held += int64(len(s)) + 16
				if x.limits.Strings > 0 && held > x.limits.Strings {
					return tooLarge(origin.Place{}, "The workbook's texts need more than %d MiB.",
						x.limits.Strings>>20)
				}
				x.shared = append(x.shared, s)
			}
		case "rPh": // how to pronounce it: not part of the text
			skip = t.Open && !t.Close
		case "t":
			if !t.Open && !skip {
				raw = append(raw, in.Text...)
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
				x.done = x.book.Unpacked
			}
			if err := whole(x.chosen[x.sheet].Part, x.limits.Unpacked); err != nil {
				return Record{}, x.fail(err)
			}
			part, err := x.book.Open(x.chosen[x.sheet].Part)
			if err != nil {
				return Record{}, x.fail(err)
			}
			x.part, x.x, x.row, x.unseen = part, workbook.NewScanner(part), 0, nil
		}
		t, err := x.x.Next(false)
		switch {
		case err == io.EOF || err == nil && !t.Open && string(t.Name) == "sheetData":
			x.part.Close()
			x.x = nil
		case err != nil:
			return Record{}, x.fail(err)
		case t.Open && string(t.Name) == "col" && isTrue(t.Attr("hidden")):
			first := workbook.Number(t.Attr("min"), 1)
			x.unseen = append(x.unseen, [2]int{first, workbook.Number(t.Attr("max"), first)})
		case t.Open && string(t.Name) == "row":
			x.row = workbook.Number(t.Attr("r"), x.row+1)
			x.rows++
			if most := x.limits.Rows; most > 0 && x.rows > most {
				return Record{}, tooLarge(x.place(0), "The workbook has more than %d rows.", most)
			}
			rec := Record{Sheet: x.chosen[x.sheet].Name, Row: x.row, Hidden: isTrue(t.Attr("hidden"))}
			if !t.Close {
				if err := x.cells(&rec); err != nil {
					return Record{}, x.fail(err)
				}
			}
			return rec, nil
		}
	}
}

// whole unpacks a part once before its rows are used, because damage is detected only at its end.
func whole(f *zip.File, most int64) error {
	r, err := f.Open()
	if err != nil {
		return err
	}
	defer r.Close()
	if most > 0 {
		_, err = io.Copy(io.Discard, io.LimitReader(r, most)) // what is more is refused when it is read
	} else {
		_, err = io.Copy(io.Discard, r)
	}
	return err
}

func (x *xlsxReader) place(column int) origin.Place {
	return origin.Place{Sheet: x.chosen[min(x.sheet, len(x.chosen)-1)].Name, Row: x.row, Column: column}
}

// isTrue reads a boolean of XML Schema.
func isTrue(b []byte) bool { return len(b) > 0 && (b[0] == '1' || b[0] == 't') }

func (x *xlsxReader) fail(err error) error {
	return x.book.Broken(workbook.Unexpected(err), "The sheet "+x.chosen[x.sheet].Name, x.place(0))
}

// cells reads up to the row's end.
func (x *xlsxReader) cells(rec *Record) error {
	rec.Cells = make([]Cell, 0, x.width)
	if !x.x.Odd {
		n, err := x.x.Quick(func(b []byte) int {
			rec.Cells = rec.Cells[:0]
			return x.quickCells(rec, b)
		})
		if n > 0 || err != nil {
			x.width = max(x.width, len(rec.Cells))
			return err
		}
		x.x.Odd = n == 0 // rows that long are not tried in vain again and again
	}
	rec.Cells, rec.Findings = rec.Cells[:0], nil
	column := 0
	var kind, value []byte
	style, formula, inline := 0, false, false
	for {
		t, err := x.x.Next(true)
		if err != nil {
			return err
		}
		switch string(t.Name) {
		case "row":
			x.width = max(x.width, len(rec.Cells))
			return nil
		case "c":
			if t.Open {
				column = workbook.ColumnOf(t.Attr("r"), column+1)
				kind = append(kind[:0], t.Attr("t")...)
				style, _ = strconv.Atoi(string(t.Attr("s")))
				value, formula, inline = value[:0], false, false
			}
			// column is 0 if a cell ends that never began.
			if t.Close && column > 0 && (len(value) > 0 || formula || inline) {
				if err := x.put(rec, column, kind, value, style, formula); err != nil {
					return err
				}
			}
		case "f":
			formula = formula || t.Open
		case "v":
			if !t.Open {
				value = append(value[:0], x.x.Text...)
			}
		case "is":
			inline = inline || t.Open
		case "t":
			if !t.Open && inline {
				value = append(value, x.x.Text...)
			}
		}
	}
}

// put puts a cell into its row.
func (x *xlsxReader) put(rec *Record, column int, kind, value []byte, style int, formula bool) error {
	if column > 16_384 || x.limits.Columns > 0 && column > x.limits.Columns {
		return tooLarge(x.place(0), "Row %d has a cell in column %d; %d is the last.", rec.Row, column,
			x.limits.Columns)
	}
	for len(rec.Cells) < column {
		rec.Cells = append(rec.Cells, Cell{})
	}
	cell := x.cell(kind, value, style, formula)
	rec.Cells[column-1] = rec.tidy(cell, column, x.lost, x.limits.CellText)
	x.lost = ""
	return nil
}

// quickCells reads a row as nearly every program writes it, in place, and returns how many bytes it had including its
// end; 0 if b ends before it does. It returns -1 for anything unusual: cells then reads the row tag by tag, and reports
// what is wrong with it.
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
					column = workbook.ColumnOf(v, column)
				case "t":
					kind = v
				case "s":
					style = workbook.Number(v, 0)
				default:
					for _, c := range a[:eq] { // a line break before a name, or space behind it, is out of the ordinary too
						if c < 'a' || c > 'z' {
							return -1
						}
					}
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

// text resolves escapes, and notes what is not a character.
func (x *xlsxReader) text(b []byte) string {
	s, lost := workbook.Unescape(b, true)
	x.lost = lost
	return s
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
		x.lost = x.lostShared[i]
		return Cell{Text: x.shared[i]}
	case "str", "inlineStr":
		return Cell{Text: x.text(value)}
	case "b":
		if string(value) == "1" || string(value) == "true" {
			return Cell{Text: "TRUE", Kind: Bool}
		}
		return Cell{Text: "FALSE", Kind: Bool}
	case "e":
		return Cell{Text: x.text(value), Kind: ErrorValue}
	case "d":
		return Cell{Text: string(value), Kind: Day}
	}
	var format cellFormat
	if style >= 0 && style < len(x.formats) {
		format = x.formats[style]
	}
	return format.show(string(value), x.book.Date1904)
}

// tidy returns a cell of a workbook as it is read, and notes what cannot be used as it is. lost says that something was
// not a character; most is how long a cell may be.
func (r *Record) tidy(cell Cell, column int, lost string, most int) Cell {
	note := func(code finding.Code, format string, args ...any) {
		r.Findings = append(r.Findings, finding.New(code, r.Place(column), cell.Text, format, args...))
	}
	if lost != "" {
		note(finding.CharacterInvalid, "%s is no character: what stood there is lost.", lost)
	}
	if most > 0 && len(cell.Text) > most {
		note(finding.CellTooLong, "The cell has more than %d bytes.", most)
		cell.Text = finding.Clip(cell.Text, most-3)
	}
	if strings.IndexByte(cell.Text, 0) >= 0 {
		cell.Text = strings.ReplaceAll(cell.Text, "\x00", "")
		note(finding.ControlCharacter, "The cell has NUL characters inside its value.")
	}
	return cell
}
