package source

import (
	"bufio"
	"bytes"
	"io"
	"slices"
	"strings"
	"unicode/utf8"

	"koinos/core/finding"
	"koinos/core/origin"
)

// slabCells is how many cells are allocated at once.
const slabCells = 2048

type csvReader struct {
	r            *bufio.Reader
	delim, quote byte
	lineEnd      byte
	plain        bool       // there are no quotation marks
	ended        bool       // lineEnd is a sign of its own, behind which line ends do not count
	release      byte       // makes the next sign text; 0 is none
	positions    []Position // of fixed width
	headed       bool       // the names of the positions were given
	limits       Limits

	back  []byte // lines to be read again, before those of r
	row   int
	raw   []byte // the row as it came, line end included
	text  []byte // its cells' text, quotation marks resolved
	ends  []int  // where each cell ends in text
	notes []finding.Finding
	slab  []Cell // memory for the cells of the next rows
	width int    // cells of the row before
	doubt int    // so many lines to come stood in a quoted cell that may have begun by mistake
	begun int    // the row in which that cell began

	read, size int64
}

func openCSV(r io.ReaderAt, size int64, shape Shape, limits Limits) *csvReader {
	c := &csvReader{delim: shape.Delimiter[0], quote: shape.Quote[0], plain: shape.Quote == NoQuote,
		lineEnd: shape.lineEnd, limits: limits,
		positions: shape.Positions, size: size}
	if c.lineEnd == 0 {
		c.lineEnd = '\n'
	}
	if shape.RecordEnd != "" {
		c.lineEnd, c.ended = shape.RecordEnd[0], true
	}
	if shape.Release != "" {
		c.release = shape.Release[0]
	}
	counted := &counter{r: io.NewSectionReader(r, 0, size), n: &c.read}
	c.r = bufio.NewReaderSize(shape.decode(counted), 128<<10)
	return c
}

type counter struct {
	r io.Reader
	n *int64
}

func (c *counter) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	*c.n += int64(n)
	return n, err
}

func (c *csvReader) Offset() float64 { return share(c.read, c.size) }

// A quoted cell may contain this many line ends, and bytes, before its quotation mark counts as one that was never
// closed. Lines that it had swallowed are then read as rows of their own.
const (
	quotedLines = 200
	quotedBytes = 1 << 20
)

func (c *csvReader) Next() (Record, error) {
	if c.positions != nil && !c.headed {
		c.headed = true
		rec := Record{}
		for _, p := range c.positions {
			rec.Cells = append(rec.Cells, Cell{Text: p.Name})
		}
		return rec, nil
	}
	for c.raw = c.raw[:0]; len(c.raw) == 0; {
		if err := c.line(); err != nil {
			return Record{}, err
		}
		if c.ended {
			c.raw = bytes.TrimLeft(c.raw, "\r\n")
		}
	}
	c.row++
	if c.limits.Rows > 0 && c.row > c.limits.Rows {
		return Record{}, tooLarge(origin.Place{Row: c.row}, "The document has more than %d rows.", c.limits.Rows)
	}
	c.text, c.ends, c.notes = c.text[:0], c.ends[:0], nil
	doubt := c.doubt
	if c.positions != nil {
		c.splitAt(trimLineEnd(c.raw))
	} else if c.release != 0 {
		c.splitReleased(c.trimmed())
	} else if c.plain || bytes.IndexByte(c.raw, c.quote) < 0 {
		c.splitPlain(c.trimmed())
	} else if err := c.splitQuoted(); err != nil {
		return Record{}, err
	}
	if c.limits.Columns > 0 && len(c.ends) > c.limits.Columns {
		return Record{}, tooLarge(origin.Place{Row: c.row}, "Row %d has %d cells; %d is the most.", c.row, len(c.ends),
			c.limits.Columns)
	}
	if doubt > 0 && c.begun != c.row {
		c.note(finding.QuoteUnclosed, 0, string(trimLineEnd(c.raw[:min(len(c.raw), 60)])),
			"A quotation mark that opens a cell in row %d is closed in another row: it is not clear which rows are meant.",
			c.begun)
		c.doubt = max(0, doubt-bytes.Count(c.raw, []byte{c.lineEnd}))
	}
	c.width = len(c.ends)
	return c.record(), nil
}

// line appends the next line to raw; io.EOF only where nothing is left.
func (c *csvReader) line() error {
	had := len(c.raw)
	if len(c.back) > 0 {
		end := bytes.IndexByte(c.back, c.lineEnd) + 1
		if end > 0 {
			c.raw, c.back = append(c.raw, c.back[:end]...), c.back[end:]
			return nil
		}
		c.raw, c.back = append(c.raw, c.back...), nil
	}
	for {
		part, err := c.r.ReadSlice(c.lineEnd)
		c.raw = append(c.raw, part...)
		if c.limits.RowBytes > 0 && len(c.raw) > c.limits.RowBytes {
			return tooLarge(origin.Place{Row: c.row + 1}, "Row %d is longer than %d bytes.", c.row+1, c.limits.RowBytes)
		}
		switch {
		case err == nil && c.released():
			continue
		case err == nil:
			return nil
		case err == bufio.ErrBufferFull:
			continue
		case err == io.EOF && len(c.raw) > had:
			return nil
		case err == io.EOF:
			return io.EOF
		default:
			return finding.Fatal(finding.DocumentBroken, origin.Place{Row: c.row + 1}, "Reading stopped at row %d: %v.",
				c.row+1, err)
		}
	}
}

// released reports whether the end of the record read so far is text.
func (c *csvReader) released() bool {
	if c.release == 0 {
		return false
	}
	n := 0
	for i := len(c.raw) - 2; i >= 0 && c.raw[i] == c.release; i-- {
		n++
	}
	return n%2 == 1
}

// trimmed is the record without its end.
func (c *csvReader) trimmed() []byte {
	if c.ended {
		return bytes.TrimSuffix(c.raw, []byte{c.lineEnd})
	}
	return trimLineEnd(c.raw)
}

// splitReleased splits a record in which a release sign makes the next character text.
func (c *csvReader) splitReleased(line []byte) {
	for i := 0; i < len(line); i++ {
		switch {
		case line[i] == c.release && i+1 < len(line):
			i++
			c.text = append(c.text, line[i])
		case line[i] == c.delim:
			c.ends = append(c.ends, len(c.text))
			c.text = append(c.text, c.delim)
		default:
			c.text = append(c.text, line[i])
		}
	}
	c.ends = append(c.ends, len(c.text))
}

// splitAt splits a line of fixed width. One that is a label and its value, and not made of the columns, stays whole, in
// the first column.
func (c *csvReader) splitAt(line []byte) {
	runes := []rune(string(line))
	if isLabelled(string(line)) && divides(c.positions, runes) {
		c.text = append(c.text, strings.TrimSpace(string(line))...)
		for i := range c.positions {
			if i > 0 {
				c.text = append(c.text, c.delim)
			}
			c.ends = append(c.ends, len(c.text))
		}
		return
	}
	last := 0
	for i, p := range c.positions {
		if len(c.ends) > 0 {
			c.text = append(c.text, c.delim)
		}
		if p.First > last+1 && filledAt(runes, p.First-1) && filledAt(runes, p.First) {
			c.cut(i+1, string(runes[last:p.First-1]))
		}
		if end := p.Last; filledAt(runes, end) && filledAt(runes, end+1) && i+1 < len(c.positions) &&
			c.positions[i+1].First > end+1 {
			c.cut(i+1, string(runes[end:min(len(runes), c.positions[i+1].First-1)]))
		}
		if p.First <= len(runes) {
			c.text = append(c.text, strings.TrimRight(string(runes[p.First-1:min(p.Last, len(runes))]), " ")...)
		}
		c.ends = append(c.ends, len(c.text))
		last = max(last, p.Last)
	}
	if last < len(runes) && Trim(string(runes[last:])) != "" {
		c.note(finding.RowTooWide, 0, string(runes[last:]), "Row %d has %d characters; the last column ends at %d.",
			c.row, len(runes), last)
	}
}

// cut notes that a value goes on where no column is. Lines that are drawn have no values.
func (c *csvReader) cut(column int, rest string) {
	if strings.Trim(string(trimLineEnd(c.raw)), "-=_+| ") == "" {
		return
	}
	c.note(finding.RowTooWide, column, rest, "The value of %s in row %d goes on beside the characters of its column, "+
		"where no column is.", c.positions[column-1].Name, c.row)
	c.notes[len(c.notes)-1].Hint = "Give the column more characters in document.positions of the mapping."
}

// filledAt reports whether a character, counted from 1, is there and not blank.
func filledAt(line []rune, at int) bool { return at >= 1 && at <= len(line) && line[at-1] != ' ' }

func trimLineEnd(b []byte) []byte {
	for len(b) > 0 && (b[len(b)-1] == '\n' || b[len(b)-1] == '\r') {
		b = b[:len(b)-1]
	}
	return b
}

func (c *csvReader) splitPlain(line []byte) {
	c.text = append(c.text, line...)
	at := 0
	for {
		i := bytes.IndexByte(line[at:], c.delim)
		if i < 0 {
			c.ends = append(c.ends, len(line))
			return
		}
		// Delimiters stay in text: a cell begins one byte behind the last end.
		c.ends = append(c.ends, at+i)
		at += i + 1
	}
}

// splitQuoted splits a row with quotation marks; it reads further lines while a quoted cell is open.
func (c *csvReader) splitQuoted() error {
	at, first := 0, len(c.raw)
	open := 0  // column of the quoted cell
	line := -1 // where the line that at is in ends, its end left out
	for {
		if at < len(c.raw) && c.raw[at] == c.quote {
			open = len(c.ends) + 1
			closed, err := c.quoted(&at)
			if err != nil {
				return err
			}
			if !closed {
				c.reread(first, open)
				return nil
			}
			if at < len(c.raw) && at > first && c.isStray(at) {
				c.regret(first, open)
				return nil
			}
		}
		// The plain rest of the cell, or all of a plain cell.
		rest := c.raw[at:]
		end := bytes.IndexByte(rest, c.delim)
		if line < at {
			if i := bytes.IndexByte(rest, c.lineEnd); i >= 0 {
				line = at + len(trimLineEnd(rest[:i]))
			} else {
				line = at + len(trimLineEnd(rest))
			}
		}
		last := end < 0 || at+end > line
		if last {
			end = line - at
		}
		c.text = append(c.text, rest[:end]...)
		c.ends = append(c.ends, len(c.text))
		if last && len(c.raw) > first && (len(c.ends) != c.width || c.width > 3) && c.areRows() {
			c.regret(first, open)
			return nil
		}
		if last {
			return nil
		}
		c.text = append(c.text, c.delim)
		at += end + 1
	}
}

// isStray reports whether text continues after a quoted cell has ended.
func (c *csvReader) isStray(at int) bool {
	return c.raw[at] != c.delim && c.raw[at] != '\n' && c.raw[at] != '\r'
}

// areRows reports whether each line of a row has as many cells as the row before, ignoring quotation marks. Then they
// are rows, with a quotation mark between them by mistake.
func (c *csvReader) areRows() bool {
	for line := range bytes.SplitSeq(trimLineEnd(c.raw), []byte{c.lineEnd}) {
		if bytes.Count(line, []byte{c.delim})+1 != c.width {
			return false
		}
	}
	return c.width > 1
}

// regret rereads a row whose quotation mark is closed, but in another row than it should be: all of its lines are in
// doubt.
func (c *csvReader) regret(first, open int) {
	swallowed := c.raw[first:]
	lines := bytes.Count(swallowed, []byte{c.lineEnd})
	if swallowed[len(swallowed)-1] != c.lineEnd {
		lines++
	}
	c.doubt, c.begun = max(c.doubt-1, lines), c.row
	c.reread(first, open)
	c.notes[len(c.notes)-1].Message = "The quotation mark that opens this cell is closed in another row: it is not " +
		"clear which rows are meant."
}

// quoted appends the text of the quoted cell at *at and moves behind it; it returns false if the cell never ends.
func (c *csvReader) quoted(at *int) (closed bool, err error) {
	i := *at + 1
	for lines := 0; ; {
		n := bytes.IndexByte(c.raw[i:], c.quote)
		if n < 0 {
			c.text = append(c.text, c.raw[i:]...)
			i = len(c.raw)
			if lines++; lines > quotedLines || i-*at > quotedBytes {
				return false, nil
			}
			if err := c.line(); err == io.EOF {
				return false, nil
			} else if err != nil {
				return false, err
			}
			continue
		}
		c.text = append(c.text, c.raw[i:i+n]...)
		i += n + 1
		if i < len(c.raw) && c.raw[i] == c.quote {
			c.text = append(c.text, c.quote)
			i++
			continue
		}
		if i < len(c.raw) && c.isStray(i) {
			c.note(finding.QuoteStray, len(c.ends)+1, string(trimLineEnd(c.raw[*at:min(len(c.raw), i+20)])),
				"Text goes on behind the closing quotation mark.")
		}
		*at = i
		return true, nil
	}
}

// reread reads the row's first line as plain text, and returns the lines that its open quotation mark had swallowed, to
// be read as rows of their own.
func (c *csvReader) reread(first, open int) {
	c.back = append(bytes.Clone(c.raw[first:]), c.back...)
	c.text, c.ends, c.notes = c.text[:0], c.ends[:0], nil
	c.splitPlain(trimLineEnd(c.raw[:first]))
	c.note(finding.QuoteUnclosed, open, string(trimLineEnd(c.raw[:min(first, 60)])),
		"The quotation mark that opens this cell is never closed; the row was read without it.")
}

func (c *csvReader) note(code finding.Code, column int, value, format string, args ...any) {
	c.notes = append(c.notes, finding.New(code, origin.Place{Row: c.row, Column: column}, value, format, args...))
}

// record makes the row just cut into cells of one string.
func (c *csvReader) record() Record {
	if !utf8.Valid(c.text) {
		odd := oddBytes(c.text)
		c.tidy(finding.EncodingInvalid, "Row %d has bytes that are not text in the document's encoding: "+odd+".",
			func(cell []byte) []byte {
				return bytes.ToValidUTF8(cell, []byte("\uFFFD"))
			})
	} else if at := bytes.Index(c.text, []byte("\uFFFD")); at >= 0 {
		column, _ := slices.BinarySearch(c.ends, at)
		c.note(finding.EncodingInvalid, column+1, string(c.text[max(0, at-20):min(len(c.text), at+23)]),
			"Row %d has replacement characters (U+FFFD): what stood there was lost when the document was written, or "+
				"is not text in "+
				"its encoding.", c.row)
	}
	if bytes.IndexByte(c.text, 0) >= 0 {
		c.tidy(finding.ControlCharacter, "Row %d has NUL bytes inside a value.", func(cell []byte) []byte {
			return bytes.ReplaceAll(cell, []byte{0}, nil)
		})
	}
	all := string(c.text)
	// Cells of many rows share one allocation, because rows are many and small.
	if cap(c.slab)-len(c.slab) < len(c.ends) {
		c.slab = make([]Cell, 0, max(slabCells, len(c.ends)))
	}
	from := len(c.slab)
	cells := c.slab[from : from : from+len(c.ends)]
	c.slab = c.slab[:from+len(c.ends)]
	begin := 0
	for i, end := range c.ends {
		text := ""
		if begin <= end {
			text = all[begin:end]
		}
		if c.release == 0 && c.positions == nil { // programs alone write those
			text = Unguard(text)
		}
		if c.limits.CellText > 0 && len(text) > c.limits.CellText {
			c.note(finding.CellTooLong, i+1, text, "The cell has %d bytes; %d is the most.", len(text),
				c.limits.CellText)
			text = finding.Clip(text, c.limits.CellText-3)
		}
		cells = append(cells, Cell{Text: text})
		begin = end + 1
	}
	return Record{Row: c.row, Cells: cells, Findings: c.notes}
}

// tidy replaces every cell by the result of clean, and notes the first one that changed.
func (c *csvReader) tidy(code finding.Code, message string, clean func([]byte) []byte) {
	var text []byte
	begin, noted := 0, false
	for i, end := range c.ends {
		cell := c.text[min(begin, end):end]
		tidied := clean(cell)
		if !noted && !bytes.Equal(cell, tidied) {
			noted = true
			c.note(code, i+1, string(tidied), message, c.row)
		}
		if i > 0 {
			text = append(text, c.delim)
		}
		text = append(text, tidied...)
		c.ends[i] = len(text)
		begin = end + 1
	}
	c.text = text
}
