package rewriting

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"maps"
	"slices"
	"strconv"
	"strings"

	"koinos/core/finding"
	"koinos/core/origin"
	"koinos/core/workbook"
)

// mostSheetRows is the last row that ECMA-376 knows.
const mostSheetRows = 1 << 20

// behindDrawing are the elements of a sheet that follow its legacyDrawing (ECMA-376 part 1, 18.3.1.99).
var behindDrawing = map[string]bool{"legacyDrawingHF": true, "drawingHF": true, "picture": true, "oleObjects": true,
	"controls": true, "webPublishItems": true, "tableParts": true, "extLst": true}

// sheetWriter writes a sheet again: tag by tag, with the changes of its rows.
type sheetWriter struct {
	x       *rewriter
	sheet   string
	in      *workbook.Scanner
	out     *bufio.Writer
	notes   *notes
	widths  map[int]float64
	prefix  string       // of its elements, with the colon
	spans   []columnSpan // of cols
	drawing string       // relationship of its comments' shapes
	behind  bool         // sheetData has come
	depth   int          // of what stands behind it
	row     int          // of the original that came last
	kept    []int        // rows[0] is what row 1 of the copy was; nil where none was dropped
	dropped bool
}

// columnSpan is a col element: a run of columns that look the same.
type columnSpan struct {
	from, to int
	attrs    []byte
}

func (w *sheetWriter) write(to io.Writer) error {
	w.out = bufio.NewWriterSize(to, 64<<10)
	w.out.WriteString(`<?xml version="1.0" encoding="UTF-8" standalone="yes"?>`) // its error comes back from Flush
	skip := ""                                                                   // name of the element that is left out
	for {
		t, err := w.in.Next(true)
		if err == io.EOF {
			return w.out.Flush()
		}
		if err != nil {
			return err
		}
		name := string(t.Name)
		if skip != "" {
			if !t.Open && name == skip {
				skip = ""
			}
			continue
		}
		body := w.in.Body
		switch {
		case name == "worksheet" && t.Open:
			if i := bytes.Index(body, []byte("worksheet")); i > 0 {
				w.prefix = string(body[:i])
			}
		case name == "dimension" && t.Open: // how far cells reach is another thing now
			if !t.Close {
				skip = name
			}
			continue
		case name == "cols" && t.Open:
			if err := w.columns(t); err != nil {
				return err
			}
			continue
		case name == "sheetData" && t.Open:
			w.writeColumns()
			w.out.Write(w.in.Text)
			if err := w.rows(t); err != nil {
				return err
			}
			w.behind = true
			continue
		case w.behind && w.depth == 0 && name == "legacyDrawing" && t.Open:
			w.drawing = string(t.Attr("id"))
		case w.behind && w.depth == 0 && (behindDrawing[name] && t.Open || name == "worksheet" && !t.Open):
			w.drawComments()
		case (name == "mergeCell" || name == "hyperlink") && t.Open && w.dropped:
			ref, ok := movedRef(string(t.Attr("ref")), w.kept)
			if !ok {
				if !t.Close {
					skip = name
				}
				continue
			}
			body = withAttr(body, t.Attr("ref"), []byte(ref))
		}
		if w.behind {
			w.depth += map[bool]int{true: 1}[t.Open] - map[bool]int{true: 1}[t.Close]
		}
		w.tag(body)
	}
}

// tag copies the text in front of a tag, and the tag.
func (w *sheetWriter) tag(body []byte) {
	w.out.Write(w.in.Text)
	w.out.WriteByte('<')
	w.out.Write(body)
	w.out.WriteByte('>')
}

// drawComments refers to the shapes of comments if the sheet had none.
func (w *sheetWriter) drawComments() {
	if w.drawing == "" && w.notes.some() {
		w.drawing = "rIdKoinosDrawing"
		fmt.Fprintf(w.out, `<%slegacyDrawing xmlns:koinos="%s" koinos:id="%s"/>`, w.prefix, relationNamespace,
			w.drawing)
	}
}

// columns reads cols, which is written again in front of the rows.
func (w *sheetWriter) columns(t workbook.Tag) error {
	for !t.Close || string(t.Name) != "cols" {
		var err error
		if t, err = w.in.Next(false); err != nil {
			return workbook.Unexpected(err)
		}
		if string(t.Name) == "col" && t.Open {
			w.spans = append(w.spans, columnSpan{workbook.Number(t.Attr("min"), 1), workbook.Number(t.Attr("max"), 1),
				slices.Clone(t.Attrs)})
		}
	}
	return nil
}

// writeColumns writes cols with the widths that change.
func (w *sheetWriter) writeColumns() {
	if len(w.spans)+len(w.widths) == 0 {
		return
	}
	var all []columnSpan
	for _, s := range w.spans { // without the columns that have another width now
		from := s.from
		for _, at := range slices.Sorted(maps.Keys(w.widths)) {
			if at < from || at > s.to {
				continue
			}
			if at > from {
				all = append(all, columnSpan{from, at - 1, s.attrs})
			}
			from = at + 1
		}
		if from <= s.to {
			all = append(all, columnSpan{from, s.to, s.attrs})
		}
	}
	for at, wide := range w.widths {
		all = append(all, columnSpan{at, at, fmt.Appendf(nil, ` min="0" max="0" width="%g" customWidth="1"`, wide)})
	}
	slices.SortFunc(all, func(a, b columnSpan) int { return a.from - b.from })
	fmt.Fprintf(w.out, "<%scols>", w.prefix)
	for _, s := range all {
		body := withAttr(s.attrs, workbook.Tag{Attrs: s.attrs}.Attr("min"), strconv.AppendInt(nil, int64(s.from), 10))
		body = withAttr(body, workbook.Tag{Attrs: body}.Attr("max"), strconv.AppendInt(nil, int64(s.to), 10))
		fmt.Fprintf(w.out, "<%scol%s/>", w.prefix, body)
	}
	fmt.Fprintf(w.out, "</%scols>", w.prefix)
}

// rows writes sheetData, whose tag has been read.
func (w *sheetWriter) rows(t workbook.Tag) error {
	if t.Close {
		fmt.Fprintf(w.out, "<%ssheetData/>", w.prefix)
		return nil
	}
	fmt.Fprintf(w.out, "<%ssheetData>", w.prefix)
	for {
		t, err := w.in.Next(true)
		if err != nil {
			return workbook.Unexpected(err)
		}
		switch name := string(t.Name); {
		case name == "sheetData":
			w.tag(w.in.Body)
			return nil
		case name == "row" && t.Open:
			if err := w.oneRow(t); err != nil {
				return err
			}
		}
	}
}

// oneRow writes a row whose tag has been read, and rows in front of it that the file leaves out.
func (w *sheetWriter) oneRow(t workbook.Tag) error {
	next := workbook.Number(t.Attr("r"), w.row+1)
	if next > mostSheetRows {
		return finding.Fatal(finding.DocumentTooLarge, origin.Place{Sheet: w.sheet, Row: next},
			"The sheet %s has a row %d; %d is the last that a sheet can have.", w.sheet, next, mostSheetRows)
	}
	if next <= w.row { // rows stand in their order; one that does not is nobody's
		return w.cells(t, next, nil, !w.dropped)
	}
	for w.row+1 < next {
		w.row++
		w.notes.row = w.row
		change, err := w.x.Row(w.sheet, w.row)
		if err != nil {
			return err
		}
		now := w.number(change.Drop)
		if len(change.Cells) > 0 && !change.Drop {
			fmt.Fprintf(w.out, `<%srow r="%d">`, w.prefix, now)
			c := cellWriter{w: w, row: now, changes: change.Cells}
			if err := c.rest(); err != nil {
				return err
			}
			fmt.Fprintf(w.out, "</%srow>", w.prefix)
		}
	}
	w.row, w.notes.row = next, next
	change, err := w.x.Row(w.sheet, next)
	if err != nil {
		return err
	}
	return w.cells(t, w.number(change.Drop), change.Cells, !change.Drop)
}

// number returns the number in the copy of the row that came last.
func (w *sheetWriter) number(drop bool) int {
	if drop && !w.dropped {
		w.dropped = true
		for i := 1; i < w.row; i++ {
			w.kept = append(w.kept, i)
		}
	}
	if w.dropped && !drop {
		w.kept = append(w.kept, w.row)
	}
	if !w.dropped {
		return w.row
	}
	return len(w.kept)
}

// cells writes a row under its new number with its changes, or, if keep is false, skips it.
func (w *sheetWriter) cells(t workbook.Tag, now int, changes []Cell, keep bool) error {
	c := cellWriter{w: w, row: now, changes: changes, explicit: len(changes) > 0}
	if keep {
		body := w.in.Body
		if len(changes) > 0 { // spans says how far its cells reach, and need not be there
			body = withoutAttr(body, t.Attr("spans"))
			t = workbook.ParseTag(body)
			c.look = w.rowLook(t)
		}
		number := strconv.AppendInt(nil, int64(now), 10)
		body = withAttr(body, t.Attr("r"), number)
		if t.Close && len(changes) > 0 {
			body = bytes.TrimRight(body[:len(body)-1], " ")
		}
		w.tag(body)
	}
	if t.Close {
		if len(changes) == 0 || !keep {
			return nil
		}
		if err := c.rest(); err != nil {
			return err
		}
		fmt.Fprintf(w.out, "</%srow>", w.prefix)
		return nil
	}
	for {
		t, err := w.in.Next(true)
		if err != nil {
			return workbook.Unexpected(err)
		}
		name := string(t.Name)
		if name == "row" && !t.Open {
			if keep {
				if err := c.rest(); err != nil {
					return err
				}
				w.tag(w.in.Body)
			}
			return nil
		}
		if !keep {
			continue
		}
		if name == "c" && t.Open {
			if err := c.cell(t); err != nil {
				return err
			}
			continue
		}
		if err := c.inside(t); err != nil {
			return err
		}
	}
}

// rowLook is the style of cells that the row does not contain; -1 is that of their column.
func (w *sheetWriter) rowLook(t workbook.Tag) int {
	if custom := string(t.Attr("customFormat")); custom == "1" || custom == "true" {
		return workbook.Number(t.Attr("s"), 0)
	}
	return -1
}

// cellWriter writes the cells of a row.
type cellWriter struct {
	w        *sheetWriter
	row      int    // in the copy
	column   int    // of the cell that came last
	look     int    // that cells have which the row does not name; -1 is that of their column
	changes  []Cell // that are still to come
	explicit bool   // there were some
}

// cell writes a cell whose tag has been read, after changed cells in front of it.
func (c *cellWriter) cell(t workbook.Tag) error {
	column := workbook.ColumnOf(t.Attr("r"), c.column+1)
	text := slices.Clone(c.w.in.Text)
	body, open := slices.Clone(c.w.in.Body), !t.Close
	t = workbook.ParseTag(body)
	c.w.in.Text = c.w.in.Text[:0]
	c.w.out.Write(text)
	for len(c.changes) > 0 && c.changes[0].Column < column {
		if err := c.made(); err != nil {
			return err
		}
	}
	c.column = column
	at := origin.ColumnName(column) + strconv.Itoa(c.row)
	if ref := t.Attr("r"); ref != nil {
		body = withAttr(body, ref, []byte(at))
	} else if c.explicit { // cells without a place count from the one before
		body = append(fmt.Appendf(nil, `%sc r="%s"`, c.w.prefix, at), t.Attrs...)
		if !open {
			body = append(body, '/')
		}
	}
	if len(c.changes) > 0 && c.changes[0].Column == column {
		change := &c.changes[0]
		if change.Put {
			if err := c.made(); err != nil || !open {
				return err
			}
			return c.passOver()
		}
		c.changes = c.changes[1:]
		if change.Fill != "" {
			was := workbook.Number(workbook.ParseTag(body).Attr("s"), 0)
			body = setAttr(body, "s", strconv.Itoa(c.w.x.styles.filled(was, change.Fill)))
		}
		if err := c.w.notes.add(column, c.row, change.Note); err != nil {
			return err
		}
	}
	c.w.tag(body)
	return nil
}

// inside copies the content of a cell.
func (c *cellWriter) inside(t workbook.Tag) error {
	if string(t.Name) == "f" && t.Open && c.w.x.Values {
		c.w.out.Write(c.w.in.Text)
		for !t.Close {
			var err error
			if t, err = c.w.in.Next(false); err != nil {
				return workbook.Unexpected(err)
			}
			if string(t.Name) == "f" && !t.Open {
				break
			}
			t.Close = false
		}
		return nil
	}
	c.w.tag(c.w.in.Body)
	return nil
}

// passOver reads to the end of a cell.
func (c *cellWriter) passOver() error {
	for {
		t, err := c.w.in.Next(false)
		if err != nil {
			return workbook.Unexpected(err)
		}
		if string(t.Name) == "c" && !t.Open {
			return nil
		}
	}
}

// rest writes the changed cells that are still to come.
func (c *cellWriter) rest() error {
	for len(c.changes) > 0 {
		if err := c.made(); err != nil {
			return err
		}
	}
	return nil
}

// made writes the next changed cell if there is none in the row, or in place of the existing one.
func (c *cellWriter) made() error {
	change := &c.changes[0]
	c.changes, c.column = c.changes[1:], change.Column
	if err := c.w.notes.add(change.Column, c.row, change.Note); err != nil {
		return err
	}
	look := max(c.look, 0)
	if c.look < 0 {
		look = c.w.columnLook(change.Column)
	}
	if change.Put {
		look = c.w.x.styles.look(change.Look)
	}
	if change.Fill != "" {
		look = c.w.x.styles.filled(look, change.Fill)
	}
	p, at := c.w.prefix, origin.ColumnName(change.Column)+strconv.Itoa(c.row)
	if !change.Put || change.Text == "" {
		_, err := fmt.Fprintf(c.w.out, `<%sc r="%s" s="%d"/>`, p, at, look)
		return err
	}
	fmt.Fprintf(c.w.out, `<%[1]sc r="%[2]s" s="%[3]d" t="inlineStr"><%[1]sis><%[1]st xml:space="preserve">`, p, at,
		look)
	c.w.out.WriteString(escapeText(change.Text))
	_, err := fmt.Fprintf(c.w.out, `</%[1]st></%[1]sis></%[1]sc>`, p)
	return err
}

// columnLook is the style of a column.
func (w *sheetWriter) columnLook(column int) int {
	for _, s := range w.spans {
		if s.from <= column && column <= s.to {
			return workbook.Number(workbook.Tag{Attrs: s.attrs}.Attr("style"), 0)
		}
	}
	return 0
}

// escapeText returns a text in the form of XML. What is not a character of XML 1.0 becomes U+FFFD.
func escapeText(s string) string {
	s = strings.Map(func(r rune) rune {
		if r < ' ' && r != '\t' && r != '\n' && r != '\r' || r == 0xFFFE || r == 0xFFFF {
			return 0xFFFD
		}
		return r
	}, strings.ToValidUTF8(s, "\uFFFD"))
	return escaper.Replace(s)
}

var escaper = strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;", `"`, "&quot;", "\r", "&#13;")

// withAttr returns the tag with a new value of an attribute; value is a part of body.
func withAttr(body, value, by []byte) []byte {
	if value == nil {
		return body
	}
	at := cap(body) - cap(value)
	return slices.Concat(body[:at], by, body[at+len(value):])
}

// withoutAttr returns the tag without an attribute; value is a part of body.
func withoutAttr(body, value []byte) []byte {
	if value == nil {
		return body
	}
	at := cap(body) - cap(value)
	from := bytes.LastIndexAny(body[:bytes.LastIndexByte(body[:at], '=')], " \t\r\n")
	return slices.Concat(body[:from], body[at+len(value)+1:])
}

// setAttr returns the tag with an attribute.
func setAttr(body []byte, name, value string) []byte {
	if was := workbook.ParseTag(body).Attr(name); was != nil {
		return withAttr(body, was, []byte(value))
	}
	end := len(body)
	if end > 0 && body[end-1] == '/' {
		end--
	}
	return slices.Concat(bytes.TrimRight(body[:end], " \t\r\n"), []byte(" "+name+`="`+value+`"`), body[end:])
}

// movedRef is where a range of cells stands when only the kept rows are left; false if none of its rows is kept.
func movedRef(ref string, kept []int) (string, bool) {
	first, last, span := strings.Cut(ref, ":")
	if !span {
		last = first
	}
	column := func(s string) string { return strings.TrimRight(s, "0123456789") }
	row := func(s string) int { n, _ := strconv.Atoi(s[len(column(s)):]); return n }
	from, _ := slices.BinarySearch(kept, row(first))
	to, found := slices.BinarySearch(kept, row(last))
	if found {
		to++
	}
	if from >= to || row(first) == 0 {
		return "", false
	}
	moved := column(first) + strconv.Itoa(from+1)
	if span {
		moved += ":" + column(last) + strconv.Itoa(to)
	}
	return moved, true
}
