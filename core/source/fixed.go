package source

import (
	"bufio"
	"io"
	"slices"
	"strings"
	"unicode/utf8"

	"koinos/core/origin"
)

// Fixed is a table in text of fixed width, as it looks: its columns, and where its rows begin.
type Fixed struct {
	Columns []Position // with what stands above them as names; names differ
	Heading int        // row with the headings; 0 is none, and the columns have letters as names
	First   int        // first row of the table
}

const (
	fixedLines  = 500 // are looked at
	fixedAbove  = 40  // of them may stand above the table
	fixedWidest = 1_000
	fixedBytes  = 4 << 20
	fewestLines = 3
)

// FixedWidth looks for columns that stand one below another with blanks between them, as programs print tables. It
// returns nil if there are no such columns, or if a delimiter makes as many cells in nearly every row.
func FixedWidth(r io.ReaderAt, size int64, shape Shape) (*Fixed, error) {
	if shape.Format != CSV || shape.Strict() {
		return nil, nil
	}
	lines, err := firstLines(io.LimitReader(shape.decode(io.NewSectionReader(r, 0, size)), fixedBytes), shape.lineEnd)
	if err != nil {
		return nil, err
	}
	if framed(lines) {
		return nil, nil
	}
	f := ruled(lines)
	if f == nil {
		f = gapped(lines)
	}
	if f == nil || len(f.Columns) < 2*delimited(lines, shape.Delimiter) { // words have a comma here and there
		return nil, nil
	}
	return f, nil
}

// fixedLine is a line that is not blank.
type fixedLine struct {
	row  int
	text []rune
}

// isRule reports whether a line is drawn, not written.
func (l *fixedLine) isRule() bool { return strings.Trim(string(l.text), "-=_+| ") == "" }

// framed reports whether the cells of a table are drawn with strokes around them, which are their delimiter.
func framed(lines []fixedLine) bool {
	n, all := 0, 0
	for i := range lines {
		if lines[i].isRule() {
			continue
		}
		all++
		text := strings.TrimSpace(string(lines[i].text))
		if strings.HasPrefix(text, "|") && strings.HasSuffix(text, "|") && strings.Count(text, "|") > 2 {
			n++
		}
	}
	return n > 1 && n*2 > all
}

// isLabelled reports whether a line is a label and its value, such as "Ship to: Bellrock, 1 Pier Road": few words without
// a digit, a colon, and no room for columns.
func isLabelled(line string) bool {
	line = strings.TrimSpace(line)
	label, _, is := strings.Cut(line, ": ")
	return is && len(strings.Fields(label)) <= 4 && !strings.ContainsAny(label, "0123456789") && !strings.Contains(line, "  ")
}

// divides reports whether columns would cut a word of a line apart, or leave something of it out.
func divides(columns []Position, line []rune) bool {
	last := 0
	for _, p := range columns {
		for i := last + 1; i < p.First; i++ {
			if filledAt(line, i) {
				return true
			}
		}
		if last > 0 && filledAt(line, last) && filledAt(line, last+1) {
			return true
		}
		last = p.Last
	}
	return len(strings.TrimRight(string(line), " ")) > 0 && filledAt(line, last+1)
}

// firstLines returns the first lines that are not blank, without what no line of fixed width has: very long ones, and
// such with tabs, end the search.
func firstLines(r io.Reader, end byte) (lines []fixedLine, err error) {
	in := bufio.NewReaderSize(r, 64<<10)
	for row := 1; len(lines) < fixedLines; row++ {
		text, err := in.ReadString(end)
		text = strings.TrimRight(text, "\r\n\f ")
		if strings.ContainsRune(text, '\t') || utf8.RuneCountInString(text) > fixedWidest {
			return nil, nil
		}
		if strings.TrimSpace(text) != "" {
			lines = append(lines, fixedLine{row, []rune(text)})
		}
		if err == io.EOF {
			return lines, nil
		}
		if err != nil {
			return nil, err
		}
	}
	return lines, nil
}

// delimited returns the number of cells into which a delimiter splits most lines; 1 is that it does not.
func delimited(lines []fixedLine, delimiter string) int {
	counts := map[int]int{}
	for _, l := range lines {
		counts[strings.Count(string(l.text), delimiter)]++
	}
	for n, rows := range counts {
		if rows*3 >= len(lines)*2 {
			return n + 1
		}
	}
	return 1
}

// span is a range of characters, counted from 0, without its end.
type span struct{ from, to int }

// spans returns where something stands, of marks by characters.
func spans(filled []bool) (all []span) {
	for i, is := range filled {
		switch {
		case !is:
		case i > 0 && filled[i-1]:
			all[len(all)-1].to = i + 1
		default:
			all = append(all, span{i, i + 1})
		}
	}
	return all
}

// mark marks where text stands, and reports whether that is anywhere new.
func mark(filled []bool, text []rune) (_ []bool, more bool) {
	for len(filled) < len(text) {
		filled = append(filled, false)
	}
	for i, r := range text {
		if r != ' ' && r != '\u00a0' && !filled[i] {
			filled[i], more = true, true
		}
	}
	return filled, more
}

// ruled finds columns by a line of dashes below the headings, interrupted between the columns.
func ruled(lines []fixedLine) *Fixed {
	for i := 1; i+1 < len(lines); i++ {
		if !lines[i].isRule() {
			continue
		}
		drawn, _ := mark(nil, []rune(strings.NewReplacer("+", " ", "|", " ").Replace(string(lines[i].text))))
		rules := spans(drawn)
		if len(rules) < 3 {
			continue
		}
		columns := make([]Position, len(rules))
		for k, s := range rules {
			columns[k] = Position{First: s.from + 1, Last: s.to}
		}
		columns[len(columns)-1].Last = max(columns[len(columns)-1].Last, longest(lines[i:]))
		return &Fixed{Columns: named(columns, lines[i-1].text), Heading: lines[i-1].row, First: lines[i+1].row}
	}
	return nil
}

func longest(lines []fixedLine) (n int) {
	for _, l := range lines {
		n = max(n, len(l.text))
	}
	return n
}

// gapped finds columns by what is blank in every row of the table: the lines, the first of which may be headings, that
// have most cells between such gaps.
func gapped(lines []fixedLine) *Fixed {
	lines = slices.DeleteFunc(slices.Clone(lines), func(l fixedLine) bool { // of a title or total
		return l.isRule() || len(strings.Fields(string(l.text))) < 3 || isLabelled(string(l.text))
	})
	var best *Fixed
	rows, most := 0, 0
	for from := 0; from+fewestLines <= len(lines) && from < fixedAbove; from++ {
		var filled []bool
		var columns []Position
		headed := wordsOnly(lines[from].text)
		for to := from; to < len(lines); to++ {
			var more bool
			if filled, more = mark(filled, lines[to].text); more {
				columns = columnsOf(filled, lines[from].text, headed)
			}
			if to > from && len(columns) < 3 {
				break
			}
			n := to - from + 1
			worth := 2 * n * len(columns) * len(columns) // a row more is not worth a column
			if headed {
				worth += worth / 2
			}
			if n < fewestLines || worth <= most {
				continue
			}
			rows, most, best = n, worth, &Fixed{Columns: columns, First: lines[from].row}
			if headed {
				best.Heading, best.First = lines[from].row, lines[from+1].row
			}
		}
	}
	if best == nil || rows*2 < len(lines) {
		return nil
	}
	var table []fixedLine
	head := []rune(nil)
	for _, l := range lines {
		if l.row == best.Heading {
			head = l.text
		}
		if l.row >= best.First && len(table) < rows {
			table = append(table, l)
		}
	}
	best.Columns = named(widened(best.Columns, table), head)
	return best
}

// columnsOf returns the columns that gaps leave. One blank between two words may be by chance, so without headings a
// gap has two; with them, each column has one above it.
func columnsOf(filled []bool, head []rune, headed bool) (columns []Position) {
	for _, s := range spans(filled) {
		last := len(columns) - 1
		above := strings.TrimSpace(string(cut(head, s.from, s.to)))
		if last >= 0 && (headed && above == "" || !headed && s.from-columns[last].Last < 2) {
			columns[last].Last = s.to
			continue
		}
		columns = append(columns, Position{First: s.from + 1, Last: s.to})
	}
	return columns
}

func cut(text []rune, from, to int) []rune { return text[min(from, len(text)):min(to, len(text))] }

// wordsOnly reports whether a line can be one of headings: it has words, two blanks or more between some of them, and
// no digits to speak of.
func wordsOnly(text []rune) bool {
	digits, letters := 0, 0
	for _, r := range text {
		switch {
		case r >= '0' && r <= '9':
			digits++
		case r != ' ':
			letters++
		}
	}
	return letters > 5*digits && strings.Contains(strings.TrimSpace(string(text)), "  ")
}

// widened gives columns the room of the gaps beside them, because longer values will come: a column of which all values
// end at one character grows to its left, others to their right. One blank stays between two columns, so that what
// reaches into the next one is noticed.
func widened(columns []Position, table []fixedLine) []Position {
	wide := append([]Position(nil), columns...)
	for i := 0; i+1 < len(wide); i++ {
		gap := columns[i+1].First - columns[i].Last - 2 // without the one blank
		if gap <= 0 {
			continue
		}
		left, right := gap, 0
		if rightAligned(columns[i+1], table) {
			if left = 0; !rightAligned(columns[i], table) {
				left = gap / 2
			}
			right = gap - left
		}
		wide[i].Last += left
		wide[i+1].First -= right
	}
	wide[0].First = 1
	wide[len(wide)-1].Last = max(wide[len(wide)-1].Last, longest(table)) + 40
	return wide
}

// rightAligned reports whether values of a column begin at different characters, and all end at the same.
func rightAligned(p Position, table []fixedLine) bool {
	starts, ends := map[int]bool{}, map[int]bool{}
	for _, l := range table {
		value := string(cut(l.text, p.First-1, p.Last))
		if text := strings.TrimRight(value, " "); text != "" {
			ends[utf8.RuneCountInString(text)] = true
			starts[utf8.RuneCountInString(text)-utf8.RuneCountInString(strings.TrimLeft(text, " "))] = true
		}
	}
	return len(ends) == 1 && len(starts) > 1
}

// named gives columns what stands above them as names, and letters where that is nothing. No name comes twice.
func named(columns []Position, head []rune) []Position {
	taken := map[string]bool{}
	for i := range columns {
		p := &columns[i]
		p.Name = strings.Join(strings.Fields(string(cut(head, p.First-1, p.Last))), " ")
		for p.Name == "" || taken[strings.ToLower(p.Name)] {
			p.Name = strings.TrimSpace(p.Name + " " + origin.ColumnName(i+1))
		}
		taken[strings.ToLower(p.Name)] = true
	}
	return columns
}
